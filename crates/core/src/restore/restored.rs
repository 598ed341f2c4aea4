//! What a restore did, for reports.

use super::leftovers::FileLeftover;
use super::plan::RestorePlan;
use super::tidy;
use crate::config::edit::Change;
use crate::database::load::Substituted;
use crate::dump::dialect::Dialect;
use crate::dump::rules::{CellChange, Rewritten, RowSetting};
use crate::dump::tally::Tally;
use crate::finding::{Code, Finding};
use crate::options::unset;
use crate::select::Part;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// Samples kept per column when several parts are added up.
const MOST_SAMPLES: usize = 10;

/// What bringing a copy up to date found.
#[derive(Debug, Default, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
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
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct NotUnpacked {
    /// How many.
    pub entries: u64,
    /// The first of them.
    pub first: String,
}

/// What a restore did.
#[derive(Debug, Default, Serialize, JsonSchema)]
pub struct Restored {
    /// The site's folder.
    #[serde(with = "crate::path_text")]
    #[schemars(with = "PathBuf")]
    pub target: PathBuf,
    /// Files unpacked.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// What a refresh found, where it was one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub refreshed: Option<Refreshed>,
    /// Seconds for which neither the old site nor the new one was whole, of one that was brought back.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub exchanged: Option<f64>,
    /// Rows that were changed, taken away or made in tables that were compared row by row, by table.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub row_by_row: BTreeMap<String, u64>,
    /// Files that the archive left out on purpose and that were taken over from the site that was there.
    #[serde(skip_serializing_if = "unset")]
    pub taken_over: u64,
    /// Entries of a plain archive that were not carried, with reasons.
    pub not_unpacked: BTreeMap<String, NotUnpacked>,
    /// The rewritten dump, if one was written.
    #[serde(with = "crate::path_text")]
    #[schemars(with = "Option<PathBuf>")]
    pub dump: Option<PathBuf>,
    /// Tables loaded with their rows.
    pub loaded: BTreeMap<String, u64>,
    /// What the server did not know and what it became.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub substituted: Vec<Substituted>,
    /// Values changed in config and text files, by file.
    pub config: BTreeMap<String, Vec<Change>>,
    /// Declared values, old and new.
    pub declared_values: Vec<CellChange>,
    /// What was changed and left in the rows.
    pub tally: Tally,
    /// Definers taken out.
    pub definers: u64,
    /// Names of tables that got the new prefix.
    pub renamed: u64,
    /// Switches, names and the way in that were set.
    pub settings: Vec<String>,
    /// How the new host finds its folder, where one code base serves several.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub host_mapping: Option<String>,
    /// Command that brings the media that were left out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub media_later: Option<String>,
    /// What should not lie in the document root.
    pub tidy: Vec<tidy::Found>,
    /// Where the folder outside of the root went.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[serde(with = "crate::path_text")]
    #[schemars(with = "Option<PathBuf>")]
    pub outside: Option<PathBuf>,
    /// Whose dump the database part was.
    #[serde(skip)]
    pub(super) dialect: Dialect,
    #[serde(skip)]
    pub(super) rows_put: BTreeMap<usize, u64>,
    /// Files that still name the old place.
    pub leftovers: Vec<FileLeftover>,
    /// What was met on the way and a person should know.
    #[serde(skip)]
    pub findings: Vec<Finding>,
}

impl Restored {
    /// Returns everything that a person should know: what was met on the way, what still names the old place in rows and files, what
    /// should not lie in a document root.
    pub fn all_findings(&self, plan: &RestorePlan) -> Vec<Finding> {
        let substituted = self.substituted.iter().map(|s| {
            let what = format!("{} {} became {}, {} times", s.kind, s.from, s.to, s.count);
            let cure = "nothing; --substitute NAME=OTHER chooses another";
            Finding::new(Code::Substituted, what, "", cure)
        });
        let stays = self.tidy.iter().filter(|t| !t.removed).map(|t| t.what.finding(t.command.clone()));
        let files = self.leftovers.iter().filter_map(|l| l.finding(&plan.relocation.from));
        let mut out: Vec<Finding> = self.findings.clone();
        out.extend(self.tally.findings());
        out.extend(files);
        out.extend(substituted);
        out.extend(stays);
        out
    }
}

impl Restored {
    /// Lets what is told of a folder be told of the one whose place it takes.
    pub(super) fn tell_of(&mut self, made: &Path, place: &Path) {
        let (made, place) = (made.display().to_string(), place.display().to_string());
        let tell = |text: &mut String| *text = text.replace(&made, &place);
        for finding in &mut self.findings {
            [&mut finding.what, &mut finding.place, &mut finding.cause, &mut finding.cure]
                .into_iter()
                .for_each(tell);
        }
        self.tidy.iter_mut().for_each(|found| tell(&mut found.command));
    }

    /// Adds what one database part came to.
    pub(super) fn add(&mut self, rewritten: Rewritten, dialect: Dialect) {
        // A part without any sign of its own counts as MySQL's.
        if dialect != Dialect::default() {
            self.dialect = dialect;
        }
        self.tally.add(rewritten.tally, MOST_SAMPLES);
        self.declared_values.extend(rewritten.cells);
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
        for (i, row) in plan.settings.rows.iter().enumerate() {
            if self.rows_put.get(&i).is_some_and(|n| *n > 0) {
                continue;
            }
            if row.optional {
                continue;
            }
            if row.make {
                made.push(&row.setting);
                continue;
            }
            let told: Vec<String> = row.setting.only.iter().map(|(c, v)| format!("{c} = {v}")).collect();
            let what = format!("{} was not set: no such row ({})", row.what, told.join(", "));
            self.findings.push(Finding::new(
                Code::RowMissing,
                what,
                format!("{}.{}", row.setting.table, row.setting.column),
                "set it by hand",
            ));
        }
        self.dialect.inserts(&made)
    }

    /// Returns the rows that were to be set, were not there, and may be made.
    pub(super) fn rows_to_make<'p>(&self, plan: &'p RestorePlan) -> Vec<&'p RowSetting> {
        let rows = plan.settings.rows.iter().enumerate();
        let missing = rows.filter(|(i, row)| row.make && self.rows_put.get(i).is_none_or(|n| *n == 0));
        missing.filter(|(_, row)| !row.optional).map(|(_, row)| &row.setting).collect()
    }

    /// Tells what was put.
    pub(super) fn describe(&mut self, plan: &RestorePlan) {
        let settings = &plan.settings;
        let code = plan.job.scope.has(&Part::Code);
        let config = settings.config.iter().filter(|k| plan.files.iter().any(|f| f.put.contains(&k.key)));
        self.settings.extend(config.map(|k| format!("{} (config key `{}`)", k.what, k.key)));
        for (i, row) in settings.rows.iter().enumerate().filter(|_| plan.loads()) {
            let there = self.rows_put.get(&i).is_some_and(|n| *n > 0);
            if there || row.make {
                self.settings.push(format!("{} (row of {})", row.what, row.setting.table));
            }
        }
        let files = settings.files.iter().filter(|_| code);
        self.settings.extend(files.map(|f| format!("{} (file {})", f.what, f.path)));
        self.host_mapping = plan
            .host_mapping
            .as_ref()
            .filter(|_| code || plan.job.options.host_as.is_some())
            .map(|w| w.describe());
        self.outside = plan.outside().map(std::path::Path::to_path_buf);
        let job = &plan.job;
        if code && !job.scope.has(&Part::Media) {
            let (archive, target) = (job.options.source.display(), job.options.target.display());
            let command = if job.contents.is_some() { "clone" } else { "restore" };
            self.media_later = Some(format!(
                "zporter {command} '{archive}' '{target}' --address {} --only media",
                job.address
            ));
        }
    }
}
