//! What a page tells besides: how heavy the folders of a site are, and how many rows its tables have.

use crate::report::{Block, Report};
use zporter_core::job::Job;
use zporter_core::job::run::Done;
use zporter_core::survey::folders;
use zporter_core::tree::LocalTree;

/// Folders are told to this depth.
const DEPTH: usize = 2;

/// Adds what a page shows of a job that was done, or would be.
pub fn add(report: &mut Report, job: &Job, done: &Done) {
    let folder = match job {
        Job::Restore(o) | Job::Clone(o) | Job::Move(o) if report.dry_run => &o.source,
        Job::Restore(o) | Job::Clone(o) | Job::Move(o) => &o.target,
        Job::Pack(o) => &o.site,
        Job::Settle(o) => &o.site,
        _ => return,
    };
    let sizes = folders::sizes(&*LocalTree::at(folder), DEPTH);
    let rows = sizes.into_iter().map(|f| vec![f.path, f.bytes.to_string()]);
    report.section("Folders, heaviest first", Block::folded(&["folder", "#size"], 15, "folder", rows));
    let Done::Copied(copied) = done else { return };
    let rows = copied.done.tally.tables.iter().map(|(table, tally)| (tally.rows, table));
    let mut rows: Vec<_> = rows.filter(|(rows, _)| *rows > 0).collect();
    rows.sort_by_key(|(rows, _)| std::cmp::Reverse(*rows));
    let rows = rows.into_iter().map(|(rows, table)| vec![table.clone(), rows.to_string()]);
    report.detail("Rows by table", Block::table(&["table", ">rows"], rows));
}
