//! What a restore did, for reports.

use super::leftovers::FileLeftover;
use super::plan::RestorePlan;
use super::puts::inserts;
use super::tidy;
use crate::config::edit::Change;
use crate::database::load::Fitted;
use crate::dump::dialect::Dialect;
use crate::dump::rules::{CellChange, Rewritten};
use crate::dump::tally::Tally;
use crate::event::Warning;
use crate::survey::select::Part;
use serde::Serialize;
use std::collections::BTreeMap;
use std::path::PathBuf;

/// Samples kept per column when several parts are added up.
const MOST_SAMPLES: usize = 10;

/// What bringing a copy up to date found.
#[derive(Debug, Default, Clone, Copy, PartialEq, Eq, Serialize)]
pub struct Refreshed {
    /// Files that were the same.
    pub unchanged: u64,
    /// Files of the copy's own settings, left as they are.
    pub own: u64,
    /// Files that are no longer at the source and were taken away.
    pub gone: u64,
    /// Files that are no longer at the source and stay.
    pub stay: u64,
}

/// Entries that were not carried for one reason.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct NotUnpacked {
    /// How many.
    pub entries: u64,
    /// The first of them.
    pub first: String,
}

/// What a restore did.
#[derive(Debug, Default, Serialize)]
pub struct Restored {
    /// The site's folder.
    pub target: PathBuf,
    /// Files unpacked.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// What a refresh found, where it was one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub refreshed: Option<Refreshed>,
    /// Entries of a plain archive that were not carried, with reasons.
    pub not_unpacked: BTreeMap<String, NotUnpacked>,
    /// The rewritten dump, if one was written.
    pub dump: Option<PathBuf>,
    /// Tables loaded with their rows.
    pub loaded: BTreeMap<String, u64>,
    /// What the server did not know and what it became.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub fitted: Vec<Fitted>,
    /// Values changed in config and text files, by file.
    pub config: BTreeMap<String, Vec<Change>>,
    /// Declared cells.
    pub cells: Vec<CellChange>,
    /// What was changed and left in the rows.
    pub tally: Tally,
    /// Definers taken out.
    pub definers: u64,
    /// Names of tables that got the new prefix.
    pub renamed: u64,
    /// Switches, names and the way in that were set.
    pub put: Vec<String>,
    /// How the new host finds its folder, where one code base serves several.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub host_way: Option<String>,
    /// Command that brings the media that were left out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub media_later: Option<String>,
    /// What should not lie in the document root.
    pub tidy: Vec<tidy::Found>,
    /// Where the folder outside of the root went.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub outside: Option<PathBuf>,
    /// Whose dump the database part was.
    #[serde(skip)]
    pub(super) dialect: Dialect,
    #[serde(skip)]
    pub(super) rows_put: BTreeMap<usize, u64>,
    /// Files that still name the old place.
    pub leftovers: Vec<FileLeftover>,
    /// What needs attention.
    pub warnings: Vec<Warning>,
}

impl Restored {
    /// Says whether anything needs a person's attention.
    pub fn has_findings(&self) -> bool {
        self.leftovers.iter().any(FileLeftover::needs_a_look)
            || !self.warnings.is_empty()
            || self.tally.left().keys().any(|r| r.is_leftover())
    }
}

impl Restored {
    /// Adds what one database part came to.
    pub(super) fn add(&mut self, rewritten: Rewritten, dialect: Dialect) {
        // A part without any sign of its own counts as MySQL's.
        if dialect != Dialect::default() {
            self.dialect = dialect;
        }
        self.tally.add(rewritten.tally, MOST_SAMPLES);
        self.cells.extend(rewritten.cells);
        self.definers += rewritten.definers;
        self.renamed += rewritten.renamed;
        for (rule, rows) in rewritten.put {
            *self.rows_put.entry(rule).or_default() += rows;
        }
    }

    /// Returns inserts of the rows that were to be set and were not there, and says which could not be made.
    pub(super) fn missing_rows(&mut self, plan: &RestorePlan) -> Vec<u8> {
        let mut made = Vec::new();
        if !plan.loads() {
            return Vec::new();
        }
        for (i, row) in plan.puts.rows.iter().enumerate() {
            if self.rows_put.get(&i).is_some_and(|n| *n > 0) {
                continue;
            }
            if row.optional {
                continue;
            }
            if row.make {
                made.push(&row.put);
                continue;
            }
            let told: Vec<String> = row.put.only.iter().map(|(c, v)| format!("{c} = {v}")).collect();
            let what = format!("{} was not set: no such row ({})", row.what, told.join(", "));
            self.warnings.push(Warning::new(
                what,
                format!("{}.{}", row.put.table, row.put.column),
                "set it by hand",
            ));
        }
        inserts(&made, self.dialect)
    }

    /// Tells what was put.
    pub(super) fn told(&mut self, plan: &RestorePlan) {
        let puts = &plan.puts;
        let code = plan.job.scope.has(&Part::Code);
        let config = puts.config.iter().filter(|k| plan.files.iter().any(|f| f.put.contains(&k.key)));
        self.put.extend(config.map(|k| format!("{} (config key `{}`)", k.what, k.key)));
        for (i, row) in puts.rows.iter().enumerate().filter(|_| plan.loads()) {
            let there = self.rows_put.get(&i).is_some_and(|n| *n > 0);
            if there || row.make {
                self.put.push(format!("{} (row of {})", row.what, row.put.table));
            }
        }
        let files = puts.files.iter().filter(|_| code);
        self.put.extend(files.map(|f| format!("{} (file {})", f.what, f.path)));
        self.host_way =
            plan.host_way.as_ref().filter(|_| code || plan.job.host_as.is_some()).map(|w| w.told());
        self.outside = plan.outside();
        let job = &plan.job;
        if code && !job.scope.has(&Part::Media) {
            let (archive, target) = (job.archive.display(), job.target.display());
            let command = if job.cargo.is_some() { "clone" } else { "restore" };
            self.media_later = Some(format!(
                "zporter {command} '{archive}' '{target}' --address {} --only media",
                job.address
            ));
        }
    }
}
