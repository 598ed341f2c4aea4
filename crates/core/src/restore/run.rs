//! Runs a plan: unpack, edit, rewrite, load, look for leftovers. Each step is in the logbook before it begins.

use super::RestoreError;
use super::leftovers::{self, FileLeftover};
use super::plan::RestorePlan;
use super::rows::{DatabaseSink, each_database_part, rewrite, with_rules};
use super::unpack::{EntryPlace, Unpack};
use crate::archive::read;
use crate::config::edit::{self, Change};
use crate::dump::rules::{CellChange, Rewritten};
use crate::dump::stream::DumpError;
use crate::dump::tally::Tally;
use crate::event::{Counted, Event, Warning, Warnings, Watch};
use crate::fsx::{AtPath, write_atomically};
use crate::logbook;
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
            let rewritten = rewrite(name, reader, rules, io::sink())?.1;
            total.add(rewritten);
            Ok(())
        })
    })?;
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
    fs::create_dir_all(target).at(target)?;
    let archive_size = fs::metadata(&plan.job.archive).map(|m| m.len()).ok();
    watch.event(Event::StepStarted { step: "unpacking", total: archive_size });
    with_rules(plan, samples, |rules| {
        let mut sink = DatabaseSink::open(plan, book)?;
        let mut unpack = Unpack::new(plan, &mut warnings);
        let mut problem: Option<RestoreError> = None;
        let advance = |bytes| watch.event(Event::Advanced { bytes });
        let read = read::entries::<()>(&plan.job.archive, &advance, &mut |entry| {
            let outcome = match unpack.place_of(&entry) {
                EntryPlace::File(below) => unpack.file(entry, &below),
                EntryPlace::Database(name) => crate::dump::open(entry.content)
                    .map_err(|e| RestoreError::Dump { name: name.clone(), source: DumpError::Read(e) })
                    .and_then(|reader| sink.part(&name, reader, rules, &mut total, book)),
                EntryPlace::None => Ok(()),
            };
            Ok(match outcome {
                Ok(()) => ControlFlow::Continue(()),
                Err(e) => {
                    problem = Some(e);
                    ControlFlow::Break(())
                }
            })
        });
        if let Some(problem) = problem {
            return Err(problem);
        }
        read?;
        unpack.finish()?;
        (total.files, total.bytes) = (unpack.files, unpack.bytes);
        total.not_unpacked = std::mem::take(&mut unpack.not_unpacked);
        if let Some(dump) = &plan.job.dump {
            let file = File::open(dump).at(dump)?;
            let reader = crate::dump::open(Counted::new(file, watch)).at(dump)?;
            sink.part(&dump.display().to_string(), reader, rules, &mut total, book)?;
        }
        sink.finish(&mut total)
    })?;
    watch.event(Event::StepDone);
    edit_files(plan, &mut total, book)?;
    watch.event(Event::StepStarted { step: "looking for leftovers", total: None });
    total.leftovers = leftovers::scan(target, &plan.needles());
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
    }
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
