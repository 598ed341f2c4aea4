//! Runs a plan: unpack, edit, rewrite, load, look for leftovers. Each step is in the logbook before it begins.

use super::RestoreError;
use super::leftovers::{self, FileLeftover};
use super::plan::RestorePlan;
use super::puts::insert;
use super::rows::{DatabaseSink, each_database_part, rewrite, with_rules};
use super::source;
use super::tidy;
use super::unpack::{EntryPlace, Unpack};
use crate::config::edit::{self, Change};
use crate::dump::rules::{CellChange, Rewritten};
use crate::dump::tally::Tally;
use crate::event::{Counted, Event, Warning, Warnings, Watch};
use crate::fsx::{AtPath, write_atomically};
use crate::logbook;
use crate::survey::select::Part;
use serde::Serialize;
use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io;
use std::ops::ControlFlow;
use std::path::PathBuf;

/// Samples kept per column when several parts are added up.
const MOST_SAMPLES: usize = 10;

/// What a restore did.
#[derive(Debug, Default, Serialize)]
pub struct Restored {
    /// The site's folder.
    pub target: PathBuf,
    /// Files unpacked.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Entries of a plain archive that were not carried, with reasons.
    pub not_unpacked: BTreeMap<String, u64>,
    /// The rewritten dump, if one was written.
    pub dump: Option<PathBuf>,
    /// Tables loaded with their rows.
    pub loaded: BTreeMap<String, u64>,
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
    #[serde(skip)]
    rows_put: BTreeMap<usize, u64>,
    /// Files that still name the old place.
    pub leftovers: Vec<FileLeftover>,
    /// What needs attention.
    pub warnings: Vec<Warning>,
}

impl Restored {
    /// Says whether anything needs a person's attention.
    pub fn has_findings(&self) -> bool {
        let pointing =
            self.leftovers.iter().any(|l| l.pointing > 0 || l.mentions.keys().any(|r| r.is_leftover()));
        pointing || !self.warnings.is_empty() || self.tally.left().keys().any(|r| r.is_leftover())
    }
}

/// Rewrites the database into nothing and returns what a run would do.
pub fn preview(plan: &RestorePlan, samples: usize, watch: &dyn Watch) -> Result<Restored, RestoreError> {
    let mut total = Restored { target: plan.job.target.clone(), ..Restored::default() };
    with_rules(plan, samples, |rules| {
        each_database_part(plan, watch, &mut |name, reader| {
            let rewritten = rewrite(name, reader, rules, io::sink(), true)?.1;
            total.add(rewritten);
            Ok(())
        })
    })?;
    total.missing_rows(plan);
    total.told(plan);
    total.config = config_changes(plan);
    total.warnings.clone_from(&plan.warnings);
    Ok(total)
}

/// Runs the plan.
pub fn run(
    plan: &RestorePlan,
    samples: usize,
    book: &mut logbook::Run,
    watch: &dyn Watch,
) -> Result<Restored, RestoreError> {
    let target = &plan.job.target;
    let mut warnings = Warnings::new(watch);
    let mut total = Restored { target: target.clone(), ..Restored::default() };
    book.step(
        "unpack files",
        serde_json::json!({ "target": target, "was": if target.exists() { "empty" } else { "missing" } }),
    )?;
    if plan.job.scope.has_files() {
        fs::create_dir_all(target).at(target)?;
    }
    watch.event(Event::StepStarted { step: plan.step(), total: plan.total() });
    with_rules(plan, samples, |rules| {
        let mut sink = DatabaseSink::open(plan, book)?;
        let mut unpack = Unpack::new(plan, &mut warnings);
        let mut problem: Option<RestoreError> = None;
        let advance = |bytes| watch.event(Event::Advanced { bytes });
        let read = source::entries(&plan.job, &advance, &mut |entry| {
            let outcome = match unpack.place_of(&entry) {
                EntryPlace::File(below) => unpack.file(entry, &below),
                EntryPlace::Outside(below) => unpack.outside(entry, &below),
                EntryPlace::Database(name) => sink.part(&name, entry.content, rules, &mut total, book),
                EntryPlace::None => Ok(()),
            };
            match outcome {
                Ok(()) => ControlFlow::Continue(()),
                Err(e) => {
                    problem = Some(e);
                    ControlFlow::Break(())
                }
            }
        });
        if let Some(problem) = problem {
            return Err(problem);
        }
        read?;
        if plan.job.scope.has_files() {
            unpack.finish()?;
        }
        (total.files, total.bytes) = (unpack.files, unpack.bytes);
        total.not_unpacked = std::mem::take(&mut unpack.not_unpacked);
        if let Some(dump) = &plan.job.dump {
            let file = File::open(dump).at(dump)?;
            let reader = Counted::new(file, watch);
            sink.part(&dump.display().to_string(), reader, rules, &mut total, book)?;
        }
        let made = total.missing_rows(plan);
        if !made.is_empty() {
            sink.part("rows that were missing", &made[..], rules, &mut total, book)?;
        }
        sink.finish(&mut total)
    })?;
    watch.event(Event::StepDone);
    edit_files(plan, &mut total, book)?;
    put_files(plan, book)?;
    let whole = plan.job.scope.has(&Part::Code);
    if let Some(way) = plan.host_way.as_ref().filter(|_| whole || plan.job.host_as.is_some()) {
        book.step("let the host find its folder", serde_json::json!({ "way": way.told() }))?;
        way.make(target)?;
    }
    if whole {
        if plan.job.tidy {
            book.step("tidy up", serde_json::json!({ "target": target }))?;
        }
        total.tidy = tidy::tidy(target, &plan.definition, plan.job.tidy)?;
    }
    total.told(plan);
    watch.event(Event::StepStarted { step: "looking for leftovers", total: None });
    total.leftovers = leftovers::scan(&plan.own_folder(), &plan.needles());
    watch.event(Event::StepDone);
    for warning in &plan.warnings {
        total.warnings.push(warning.clone());
    }
    total.warnings.extend(warnings.into_vec());
    Ok(total)
}

impl Restored {
    /// Adds what one database part came to.
    pub(super) fn add(&mut self, rewritten: Rewritten) {
        self.tally.add(rewritten.tally, MOST_SAMPLES);
        self.cells.extend(rewritten.cells);
        self.definers += rewritten.definers;
        self.renamed += rewritten.renamed;
        for (rule, rows) in rewritten.put {
            *self.rows_put.entry(rule).or_default() += rows;
        }
    }

    /// Returns inserts of the rows that were to be set and were not there, and says which could not be made.
    fn missing_rows(&mut self, plan: &RestorePlan) -> Vec<u8> {
        let mut out = Vec::new();
        if !plan.loads() {
            return out;
        }
        for (i, row) in plan.puts.rows.iter().enumerate() {
            if self.rows_put.get(&i).is_some_and(|n| *n > 0) {
                continue;
            }
            if row.make {
                out.extend(insert(&row.put));
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
        out
    }

    /// Tells what was put.
    fn told(&mut self, plan: &RestorePlan) {
        let puts = &plan.puts;
        let code = plan.job.scope.has(&Part::Code);
        let config = puts.config.iter().zip(&puts.config_what);
        let config = config.filter(|((key, _), _)| plan.files.iter().any(|f| f.put.contains(key)));
        self.put.extend(config.map(|((key, _), what)| format!("{what} (config key `{key}`)")));
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
            self.media_later = Some(format!(
                "zporter restore '{archive}' '{target}' --address {} --only media",
                job.address
            ));
        }
    }
}

/// Writes or removes the files whose presence means something.
fn put_files(plan: &RestorePlan, book: &mut logbook::Run) -> Result<(), RestoreError> {
    for file in plan.puts.files.iter().filter(|_| plan.job.scope.has(&Part::Code)) {
        let path = plan.job.target.join(&file.path);
        book.step("put file", serde_json::json!({ "file": file.path, "what": file.what }))?;
        match &file.content {
            Some(content) => {
                let folder = path.parent().unwrap_or(&path);
                fs::create_dir_all(folder).at(folder)?;
                write_atomically(&path, content.as_bytes())?;
            }
            None if path.exists() => fs::remove_file(&path).at(&path)?,
            None => {}
        }
    }
    Ok(())
}

fn config_changes(plan: &RestorePlan) -> BTreeMap<String, Vec<Change>> {
    let changed = plan.files.iter().filter(|f| !f.edits.is_empty());
    changed.map(|f| (f.path.clone(), f.changes.clone())).collect()
}

/// Edits config and text files on disk. A read-only file is edited and keeps its mode.
fn edit_files(plan: &RestorePlan, total: &mut Restored, book: &mut logbook::Run) -> Result<(), RestoreError> {
    for file in plan.files.iter().filter(|f| !f.edits.is_empty()) {
        book.step("edit file", serde_json::json!({ "file": file.path, "changes": file.changes }))?;
        let path = plan.job.target.join(&file.path);
        let text = fs::read(&path).at(&path)?;
        let wrong = |why: String| RestoreError::Config { path: file.path.clone(), why };
        let new = edit::apply(file, plan.config_of(&file.path), &text).map_err(wrong)?;
        write_atomically(&path, &new)?;
    }
    total.config = config_changes(plan);
    Ok(())
}
