//! What a page tells besides: how heavy the folders of a site are, and how many rows its tables have.

use crate::report::{Block, Report};
use std::collections::BTreeMap;
use std::path::Path;
use zporter_core::job::Job;
use zporter_core::job::run::Done;
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
    folders(report, folder);
    let Done::Copied(copied) = done else { return };
    let rows = copied.done.tally.tables.iter().map(|(table, tally)| (tally.rows, table));
    let mut rows: Vec<_> = rows.filter(|(rows, _)| *rows > 0).collect();
    rows.sort_by_key(|(rows, _)| std::cmp::Reverse(*rows));
    let rows = rows.into_iter().map(|(rows, table)| vec![table.clone(), rows.to_string()]);
    report.detail("Rows by table", Block::table(&["table", ">rows"], rows));
}

/// Adds how heavy the folders below one are.
fn folders(report: &mut Report, folder: &Path) {
    let tree = LocalTree::at(folder);
    let mut sizes: BTreeMap<String, u64> = BTreeMap::new();
    for found in tree.walk(folder).flatten().filter(|f| f.meta.is_file()) {
        let below = found.path.strip_prefix(folder).unwrap_or(&found.path);
        let mut parts: Vec<String> = below.iter().map(|p| p.to_string_lossy().into_owned()).collect();
        parts.pop();
        parts.truncate(DEPTH);
        let name = if parts.is_empty() { "(files)".to_string() } else { parts.join("/") };
        *sizes.entry(name).or_default() += found.meta.size;
    }
    let mut rows: Vec<(String, u64)> = sizes.into_iter().collect();
    rows.sort_by_key(|(_, size)| std::cmp::Reverse(*size));
    let rows = rows.into_iter().map(|(name, size)| vec![name, size.to_string()]);
    report.section("Folders, heaviest first", Block::folded(&["folder", "#size"], 15, "folder", rows));
}
