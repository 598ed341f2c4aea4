//! Runs a plan: unpack, edit, rewrite, load, look for leftovers. Each step is in the logbook before it begins.

use super::RestoreError;
use super::difference;
use super::guards::guard_space;
use super::in_place::{self, Over};
use super::leftovers;
use super::locate::EntryPlace;
use super::ownership;
use super::plan::RestorePlan;
use super::restored::Restored;
use super::row_by_row;
use super::rows::{DatabaseSink, each_database_part, rewrite, with_rules};
use super::source::{self, ArchiveKind};
use super::tidy;
use super::unpack::Unpack;
use crate::archive::read::{Entry, ReadError};
use crate::change_log::ChangeLog;
use crate::config::edit::{self, Change};
use crate::copy_record::{self, Record};
use crate::event::{Counted, Event, Findings, Watch, go_on};
use crate::fsx::AtPath;
use crate::logbook::{self, StepKind};
use crate::path_text::to_text;
use crate::select::Part;
use crate::tree::{Links, place_failed, write_whole};
use std::collections::BTreeMap;
use std::fs::File;
use std::io;
use std::io::Read;
use std::ops::ControlFlow;
use std::path::Path;

/// Rewrites the database into nothing and returns what a run would do.
pub fn preview(plan: &RestorePlan, samples: usize, watch: &dyn Watch) -> Result<Restored, RestoreError> {
    let mut total = Restored { target: plan.job.options.target.to_path_buf(), ..Restored::default() };
    with_rules(plan, samples, |rules| {
        each_database_part(plan, watch, &mut |name, reader| {
            let (_, rewritten, dialect) = rewrite(name, reader, None, rules, io::sink())?;
            total.add(rewritten, dialect);
            Ok(())
        })
    })?;
    total.missing_rows(plan);
    total.describe(plan);
    total.config = config_changes(plan);
    total.findings.clone_from(&plan.findings);
    Ok(total)
}

/// Runs the plan.
pub fn run(
    plan: &RestorePlan,
    samples: usize,
    book: &logbook::Run,
    watch: &dyn Watch,
) -> Result<Restored, RestoreError> {
    let target = &plan.job.options.target;
    let archive = &plan.job.options.source;
    let mut findings = Findings::new(watch);
    let mut total = Restored { target: target.to_path_buf(), ..Restored::default() };
    let was = match plan.job.tree.beside(target).exists(target) {
        true if plan.job.comes_back() => "there",
        true => "empty",
        false => "missing",
    };
    book.step(StepKind::UnpackFiles, serde_json::json!({ "target": to_text(target), "was": was }))?;
    let mut change_log = ChangeLog::of(book)?;
    if plan.job.scope.has_files() {
        change_log.below(&plan.job.tree)?;
        if let Some(Over::Beside(made)) = &plan.job.over {
            in_place::shut(made)?;
        }
        if let Some(tree) = plan.outside_tree() {
            change_log.below(tree)?;
        }
    }
    if let Some(file) = plan.new_database_file() {
        change_log.folder(file.parent().unwrap_or(&file))?;
        change_log.file(&file)?;
    }
    watch.event(Event::StepStarted { step: plan.step(), total: plan.total() });
    let (new_files, sink) = with_rules(plan, samples, |rules| {
        let mut sink = DatabaseSink::open(plan, book, watch)?;
        let mut unpack = Unpack::new(plan, &mut findings, &mut change_log);
        let mut problem: Option<RestoreError> = None;
        let mut left = plan.source.most_bytes();
        let mut take = |entry: Entry<'_>| {
            if let Some(most) = left {
                left = most.checked_sub(entry.size);
                if left.is_none() {
                    // Far more than its head says, for which no room was reckoned: now all of it has to be known.
                    let room = source::whole(archive, watch)
                        .and_then(|proof| guard_space(&plan.job, proof.bytes.saturating_sub(unpack.bytes)));
                    if let Err(e) = room {
                        problem = Some(e);
                        return ControlFlow::Break(());
                    }
                }
            }
            let outcome = match unpack.place_of(&entry) {
                EntryPlace::File(below) => unpack.file(entry, &below),
                EntryPlace::Outside(below) => unpack.outside(entry, &below),
                EntryPlace::Database(name) => sink.part(&name, entry.content, None, rules, &mut total, book),
                EntryPlace::None => Ok(()),
            };
            match outcome {
                Ok(()) => ControlFlow::Continue(()),
                Err(e) => {
                    problem = Some(e);
                    ControlFlow::Break(())
                }
            }
        };
        let wants = |table: &str| plan.wants(table);
        let read = source::entries_verified(&plan.job, &plan.source, &wants, watch, &mut take);
        if let Some(problem) = problem {
            if !plan.source.verified {
                // The archive itself may be to blame.
                source::whole(archive, watch)?;
            }
            return Err(problem);
        }
        read?.into_iter().for_each(|finding| unpack.findings.push(finding));
        if plan.job.scope.has_files() {
            unpack.finish()?;
        }
        // What a host no longer gave is no part of a copy that calls itself done.
        plan.trees().try_for_each(|tree| tree.untroubled())?;
        (total.files, total.bytes) = (unpack.files, unpack.bytes);
        total.refreshed = unpack.refreshed();
        total.not_unpacked = std::mem::take(&mut unpack.not_unpacked);
        let new_files = unpack.new_files();
        if let Some(dump) = &plan.job.dump {
            let file = File::open(dump).at(dump)?;
            let reader = Counted::new(file, watch);
            sink.part(&dump.display().to_string(), reader, None, rules, &mut total, book)?;
        }
        let made = total.missing_rows(plan);
        if !made.is_empty() {
            sink.part("rows that were missing", &made[..], Some(total.dialect), rules, &mut total, book)?;
        }
        Ok::<_, RestoreError>((new_files, sink))
    })?;
    let mut sink = Some(sink);
    if !plan.is_exchanged() {
        sink.take().map_or(Ok(()), |sink| sink.finish(&mut total, &change_log))?;
    }
    row_by_row::carry(plan, samples, book, &mut total, watch)?;
    if let ArchiveKind::Ours(head) = &plan.source.kind {
        total.taken_over = in_place::take_over(plan, &head.left_out, &mut change_log)?;
    }
    watch.event(Event::StepDone);
    go_on(watch).map_err(ReadError::from)?;
    edit_files(plan, &mut total, book)?;
    put_files(plan, book, &mut change_log)?;
    let whole = plan.job.scope.has(&Part::Code);
    let first = !plan.job.options.refresh;
    if let Some(way) =
        plan.host_mapping.as_ref().filter(|_| first && (whole || plan.job.options.host_as.is_some()))
    {
        change_log.replace(&plan.job.folder().join(way.path()))?;
        book.step(StepKind::MapHost, serde_json::json!({ "way": way.describe() }))?;
        way.make(&*plan.job.tree)?;
    }
    let mut record = None;
    if let Some(contents) = plan.job.contents.as_ref().filter(|_| {
        plan.job.scope.has(&Part::Code) && plan.job.options.host_as.is_none() && !plan.job.options.push
    }) {
        let before = Record::read(&*plan.job.tree);
        let (fingerprints, rewritten_by) = difference::fingerprints(plan, before.as_ref());
        let written = Record {
            source: contents.survey.site.display().to_string(),
            address: plan.job.address.to_string(),
            database: plan.job.database.as_ref().map(crate::place::DatabaseAccess::url),
            table_prefix: plan.job.options.table_prefix.clone(),
            settings: plan.source_settings.clone(),
            run: book.id().to_string(),
            fingerprints,
            rewritten_by,
            ended: None,
        };
        written.write(&*plan.job.tree, &mut change_log)?;
        record = Some(written);
    }
    if whole {
        if plan.job.options.tidy {
            book.step(StepKind::TidyUp, serde_json::json!({ "target": to_text(target) }))?;
        }
        total.tidy = tidy::tidy(&plan.job.tree, &plan.definition, plan.job.options.tidy)?;
    }
    ownership::settle(plan, &change_log)?;
    record.map_or(Ok(()), |record| record.note_end(&*plan.job.tree))?;
    if whole
        && first
        && let Some(warning) = ownership::unwritable(plan)
    {
        findings.push(warning);
    }
    total.describe(plan);
    watch.event(Event::StepStarted { step: "looking for leftovers", total: None });
    if let Some(new_files) = new_files {
        // What we wrote ourselves says where the copy comes from.
        let look = |path: &Path| path.file_name() != Some(copy_record::NAME.as_ref()) && new_files(path);
        total.leftovers =
            leftovers::scan(&*plan.job.tree, &plan.own_folder(), &plan.needles_for_files(), &look);
    }
    watch.event(Event::StepDone);
    for warning in &plan.findings {
        total.findings.push(warning.clone());
    }
    total.findings.extend(findings.into_vec());
    if let Some(Over::Beside(made)) = &plan.job.over {
        total.tell_of(made, target);
    }
    match sink {
        Some(sink) => in_place::exchange(plan, sink, &change_log, book, &mut total, watch)?,
        None => change_log.seal()?,
    }
    total.findings.extend(plan.trees().filter_map(|tree| tree.trouble()).map(place_failed));
    Ok(total)
}

/// Writes or removes the files whose presence means something.
pub(super) fn put_files(
    plan: &RestorePlan,
    book: &logbook::Run,
    change_log: &mut ChangeLog,
) -> Result<(), RestoreError> {
    for file in plan.settings.files.iter().filter(|_| plan.job.scope.has(&Part::Code)) {
        let tree = &*plan.job.tree;
        let path = plan.job.folder().join(&file.path);
        book.step(StepKind::SetFile, serde_json::json!({ "file": file.path, "what": file.what }))?;
        match &file.content {
            Some(content) => {
                change_log.folder(path.parent().unwrap_or(&path))?;
                change_log.replace(&path)?;
                write_whole(tree, &path, content.as_bytes(), None).at(&path)?;
            }
            None if tree.exists(&path) => {
                change_log.replace(&path)?;
                tree.remove(&path).at(&path)?;
            }
            None => {}
        }
    }
    Ok(())
}

pub(super) fn config_changes(plan: &RestorePlan) -> BTreeMap<String, Vec<Change>> {
    let changed = plan.files.iter().filter(|f| !f.edits.is_empty());
    changed.map(|f| (f.path.clone(), f.changes.clone())).collect()
}

/// Edits config and text files on disk. A read-only file is edited and keeps its mode.
fn edit_files(plan: &RestorePlan, total: &mut Restored, book: &logbook::Run) -> Result<(), RestoreError> {
    // A copy that is brought up to date keeps its own settings.
    let own = |path: &str| plan.job.options.refresh && plan.config_of(path).is_some();
    for file in plan.files.iter().filter(|f| !f.edits.is_empty() && !own(&f.path)) {
        book.step(StepKind::EditFile, serde_json::json!({ "file": file.path, "changes": file.changes }))?;
        let path = plan.job.folder().join(&file.path);
        let text = present_text(plan, &path)?;
        if plan.job.options.refresh && plan.edited(&file.path).is_some_and(|edited| edited == text) {
            continue;
        }
        write_whole(&*plan.job.tree, &path, &edited_text(plan, file, &text)?, None).at(&path)?;
    }
    total.config = config_changes(plan);
    Ok(())
}

/// The bytes of a file that is to be edited.
pub(super) fn present_text(plan: &RestorePlan, path: &Path) -> Result<Vec<u8>, RestoreError> {
    let mut text = Vec::new();
    plan.job.tree.open(path, Links::Stay).and_then(|mut file| file.read_to_end(&mut text)).at(path)?;
    Ok(text)
}

/// What a file says once it is edited.
pub(super) fn edited_text(
    plan: &RestorePlan,
    file: &edit::FilePlan,
    text: &[u8],
) -> Result<Vec<u8>, RestoreError> {
    let wrong = |why: String| RestoreError::Config { path: file.path.clone(), why };
    edit::apply(file, plan.config_of(&file.path), text).map_err(wrong)
}
