//! The database part of a restore: every part is rewritten while it streams, into a server, a dump file, or nothing.

use super::RestoreError;
use super::locate::{Locate, TakePart, each_part};
use super::plan::RestorePlan;
use super::restored::Restored;
use crate::change_log::ChangeLog;
use crate::database::DatabaseError;
use crate::database::journal::InLogbook;
use crate::database::load::{Loading, must_be_empty, replace};
use crate::database::servers;
use crate::dump::dialect::Dialect;
use crate::dump::rules::{DatabaseMove, Rewritten, Rules};
use crate::dump::spread;
use crate::dump::stream::{CutOff, DumpError, Source, WINDOW};
use crate::dump::{DumpWriter, TextWriter};
use crate::event::{Event, Watch};
use crate::finding::{Code, Finding};
use crate::fsx::{AtPath, WholeFile};
use crate::logbook::{self, StepKind};
use crate::pipe::pipe;
use std::collections::BTreeSet;
use std::io::{self, BufWriter, Read, Write};
use std::path::PathBuf;

pub(super) fn with_rules<T>(plan: &RestorePlan, samples: usize, work: impl FnOnce(&Rules<'_>) -> T) -> T {
    let replacements = plan.replacements();
    let keep = |table: &str| plan.keeps(table);
    work(&Rules {
        replacements: &replacements,
        relocation: Some(&plan.relocation),
        cells: plan.cells.clone(),
        packed: plan.packed.clone(),
        coded: plan.coded.clone(),
        settings: plan.settings.rows.iter().map(|r| r.setting.clone()).collect(),
        starts: plan.starts(),
        keep: &keep,
        strip_definers: true,
        prefix: plan.prefix.clone(),
        // A loader knows its server, and does it better.
        moves: plan
            .job
            .database
            .as_ref()
            .filter(|_| plan.job.options.dump_to.is_some())
            .map(|access| DatabaseMove { old: plan.old_databases(), new: access.name.clone() }),
        samples,
        as_changes: false,
    })
}

/// Rewrites one part into a writer.
pub(super) fn rewrite<W: Write>(
    name: &str,
    reader: impl Read,
    dialect: Option<Dialect>,
    rules: &Rules<'_>,
    out: W,
) -> Result<(W, Rewritten, Dialect), RestoreError> {
    let wrong = |source| RestoreError::Dump { name: name.into(), source };
    let reader = crate::dump::open_text(reader).map_err(|e| wrong(DumpError::Read(e)))?;
    let out = TextWriter::new(out, reader.order());
    let (out, done, ending) = Source::new(reader, WINDOW, dialect)
        .and_then(|source| spread::rewrite(source, rules, out))
        .map_err(wrong)?;
    if let Some(CutOff { line, what, .. }) = ending.cut_off {
        return Err(RestoreError::Database(DatabaseError::CutOff { line, what }));
    }
    Ok((out.into_inner(), done, ending.dialect))
}

/// Rewrites one part into a pipe, to its last byte.
pub(super) fn rewrite_through<W: Write>(
    name: &str,
    reader: impl Read,
    dialect: Option<Dialect>,
    rules: &Rules<'_>,
    into: W,
) -> Result<(Rewritten, Dialect), RestoreError> {
    let (mut out, done, dialect) = rewrite(name, reader, dialect, rules, into)?;
    out.flush().map_err(|e| RestoreError::Dump { name: name.into(), source: DumpError::Write(e) })?;
    Ok((done, dialect))
}

/// Hands every database part to `take`, wherever it lies.
pub(super) fn each_database_part(
    plan: &RestorePlan,
    watch: &dyn Watch,
    take: TakePart<'_>,
) -> Result<(), RestoreError> {
    if !plan.loads() {
        return Ok(());
    }
    watch.event(Event::StepStarted { step: "rewriting the database", total: plan.total() });
    let locate = Locate::of(&plan.source, &plan.job);
    each_part(&plan.job, &locate, &|table| plan.wants(table), watch, take)?;
    watch.event(Event::StepDone);
    Ok(())
}

/// Where the rewritten database goes.
pub(super) enum DatabaseSink {
    Server(Option<Box<dyn Loading>>),
    File { out: Box<DumpWriter<BufWriter<WholeFile>>>, path: PathBuf },
    Nothing,
}

impl DatabaseSink {
    pub(super) fn open(
        plan: &RestorePlan,
        book: &logbook::Run,
        watch: &dyn Watch,
    ) -> Result<Self, RestoreError> {
        if !plan.loads() {
            return Ok(DatabaseSink::Nothing);
        }
        if let Some(path) = &plan.job.options.dump_to {
            book.step(StepKind::WriteDump, serde_json::json!({ "file": path }))?;
            let file = WholeFile::begin(path, false)?;
            let out = DumpWriter::for_name(&path.to_string_lossy(), BufWriter::new(file)).at(path)?;
            return Ok(DatabaseSink::File { out: Box::new(out), path: path.to_path_buf() });
        }
        match &plan.job.database {
            Some(access) if plan.loads() => {
                let access = &plan.loads_into().unwrap_or_else(|| access.clone());
                // Between plan and run somebody may have filled it.
                let mut loader = servers::loader(access).map_err(RestoreError::Database)?;
                let there = loader.tables().map_err(RestoreError::Database)?;
                if !plan.tables.beside.is_empty() {
                    loader.beside(&plan.tables.beside).map_err(RestoreError::Database)?;
                } else if !plan.job.replaces() {
                    let (others, own): (Vec<_>, Vec<_>) =
                        there.into_iter().partition(|table| plan.tables.others.contains(table));
                    must_be_empty(access, own).map_err(RestoreError::Database)?;
                    if !others.is_empty() {
                        loader.make_room(&BTreeSet::new()).map_err(RestoreError::Database)?;
                    }
                } else if !there.is_empty() {
                    let goes = there.into_iter().filter(|t| plan.tables.replaced.contains(t)).collect();
                    replace(loader.as_mut(), access, &goes, book, watch).map_err(RestoreError::Database)?;
                }
                loader.keeps(&plan.left_in_copy()).map_err(RestoreError::Database)?;
                let keeper = Box::new(InLogbook(book.clone()));
                loader
                    .on(plan.job.options.connections, &plan.job.options.substitutions(), keeper)
                    .map_err(RestoreError::Database)?;
                loader.comes_from(&plan.old_databases());
                if plan.job.options.events.is_on() {
                    loader.put_events_on();
                }
                if plan.job.contents.as_ref().is_some_and(|c| c.is_live()) {
                    loader.trust_source().map_err(RestoreError::Database)?;
                }
                book.step(StepKind::LoadDatabase, serde_json::json!({ "database": access.url() }))?;
                Ok(DatabaseSink::Server(Some(loader)))
            }
            _ => Ok(DatabaseSink::Nothing),
        }
    }

    /// Takes the loader out.
    pub(super) fn into_loader(self) -> (Option<Box<dyn Loading>>, DatabaseSink) {
        match self {
            DatabaseSink::Server(loader) => (loader, DatabaseSink::Nothing),
            other => (None, other),
        }
    }

    pub(super) fn part(
        &mut self,
        name: &str,
        reader: impl Read,
        dialect: Option<Dialect>,
        rules: &Rules<'_>,
        total: &mut Restored,
        book: &logbook::Run,
    ) -> Result<(), RestoreError> {
        book.step(StepKind::DatabasePart, serde_json::json!({ "part": name }))?;
        match self {
            DatabaseSink::Nothing => Ok(()),
            DatabaseSink::File { out, .. } => {
                let (_, rewritten, dialect) = rewrite(name, reader, dialect, rules, out)?;
                total.add(rewritten, dialect);
                Ok(())
            }
            DatabaseSink::Server(slot) => {
                let Some(mut loader) = slot.take() else { return Ok(()) };
                let (from, into) = pipe();
                // Rewriting and loading overlap: the server parses while the next rows are read.
                let (loader, loaded, rewritten) = std::thread::scope(|scope| {
                    let loading = crate::threads::start_in(scope, move || {
                        let mut from = from;
                        let loaded = loader.load(&mut from, None);
                        // The writer must not wait for a reader that has given up.
                        drop(from);
                        (loader, loaded)
                    });
                    let loading = match loading {
                        Ok(loading) => loading,
                        Err(e) => {
                            let lost = || DatabaseError::Io(io::Error::other("no thread to load"));
                            return (None, Err(e.into()), Err(RestoreError::Database(lost())));
                        }
                    };
                    let rewritten = rewrite_through(name, reader, dialect, rules, into);
                    match loading.join() {
                        Ok((loader, loaded)) => (Some(loader), loaded, rewritten),
                        Err(_) => (
                            None,
                            Err(DatabaseError::Io(io::Error::other("the loading thread stopped"))),
                            rewritten,
                        ),
                    }
                });
                *slot = loader;
                // If loading fails, rewriting fails with a broken pipe: the first one is the cause.
                loaded.map_err(RestoreError::Database)?;
                let (rewritten, dialect) = rewritten?;
                total.add(rewritten, dialect);
                Ok(())
            }
        }
    }

    pub(super) fn finish(self, total: &mut Restored, change_log: &ChangeLog) -> Result<(), RestoreError> {
        match self {
            DatabaseSink::Nothing => {}
            DatabaseSink::Server(loader) => {
                if let Some(loader) = loader {
                    let loaded = loader.finish().map_err(RestoreError::Database)?;
                    total.loaded = loaded.rows;
                    for (table, sent, there) in loaded.differing {
                        let what = format!("{sent} rows were sent, {there} are there");
                        total.findings.push(Finding::new(
                            Code::RowsDiffer,
                            what,
                            table,
                            "look for doubled keys in the dump",
                        ));
                    }
                    total.substituted = loaded.substituted;
                    total.findings.extend(loaded.findings);
                }
            }
            DatabaseSink::File { out, path } => {
                let file = out.finish().and_then(|b| b.into_inner().map_err(|e| e.into_error())).at(&path)?;
                change_log.file(&path)?;
                file.commit()?;
                total.dump = Some(path);
            }
        }
        Ok(())
    }
}
