//! Goes back: puts back what a run replaced and takes away what it made, as far as that can be known, and says what stays.
//!
//! Everything here can be done twice: an undo that was itself interrupted is repeated.

use crate::change_log::{self, FileChange, Undone};
use crate::database::journal::begun_tables;
use crate::database::load::keep_dump;
use crate::database::servers;
use crate::database::{DatabaseError, journal};
use crate::event::{Counted, Event, Watch};
use crate::fsx::PathError;
use crate::logbook::{self, Line, Run, StepKind};
use crate::options::unset;
use crate::path_text::{to_path, to_text};
use crate::place::DatabaseAccess;
use crate::restore::RestoreError;
use crate::restore::in_place::Exchange;
use crate::restore::live::undo_rows;
use crate::survey::hosts;
use crate::survey::recognise::{config_facts, recognise};
use crate::survey::site_files::FolderFiles;
use crate::system::Known;
use crate::tree::FindTree;
use schemars::JsonSchema;
use std::collections::BTreeSet;
use std::fs::File;
use std::path::{Path, PathBuf};

/// Why a run cannot be undone.
#[derive(Debug, thiserror::Error)]
pub enum UndoError {
    /// There is no such run.
    #[error("no run {0:?} is recorded")]
    NoRun(String),
    /// It is undone.
    #[error("the run {run} is undone already, by {by}")]
    Already {
        /// Run.
        run: String,
        /// The undo.
        by: String,
    },
    /// A later run worked on the same place.
    #[error("the run {later} came later and worked on {place} as well")]
    Later {
        /// The later run.
        later: String,
        /// Target or database.
        place: String,
    },
    /// What it left beside the site is gone.
    #[error("what the run {run} replaced was taken away by {by}")]
    Forgotten {
        /// Run.
        run: String,
        /// Who took it away.
        by: String,
    },
    /// It left nothing beside.
    #[error("the run {run} left nothing beside a site")]
    NothingBeside {
        /// Run.
        run: String,
    },
    /// It is not over.
    #[error("the run {run} was interrupted, and its site is not whole for sure")]
    NotOver {
        /// Run.
        run: String,
    },
    /// What it replaced is gone.
    #[error("what the run {run} would put back is gone: {}", .missing.join(", "))]
    Gone {
        /// Run.
        run: String,
        /// What is not there any more, or is not what it was.
        missing: Vec<String>,
    },
    /// It changed nothing that could be put back.
    #[error("the run {run} was a {command}: it replaced nothing")]
    Nothing {
        /// Run.
        run: String,
        /// Its command.
        command: String,
    },
    /// The database.
    #[error(transparent)]
    Database(#[from] DatabaseError),
    /// Rows could not be changed back.
    #[error(transparent)]
    Rows(#[from] Box<RestoreError>),
    /// A path failed.
    #[error(transparent)]
    Path(#[from] PathError),
}

/// What going back means for one run.
#[derive(Debug)]
pub struct Undo {
    /// Run.
    pub run: String,
    /// Its command.
    pub command: String,
    /// When it ended; nothing for a run that was interrupted.
    pub ended: Option<String>,
    /// Folder that the run filled.
    pub target: Option<String>,
    /// Database that the run filled, as a URL without password.
    pub database: Option<String>,
    /// Dump of what was in it before.
    pub kept_dump: Option<PathBuf>,
    /// Tables, views and so on that the run made.
    pub tables: Vec<String>,
    /// Tables that made room for them.
    pub replaced: Vec<String>,
    /// List of rows that the run changed where they lay.
    pub rows: Option<PathBuf>,
    /// Whether it is undone.
    undone: bool,
    /// Whether it worked on a site that was there.
    pub in_place: bool,
    /// What took whose place, of a site that was brought back.
    pub exchange: Option<Exchange>,
    kept: PathBuf,
}

/// What was undone.
#[derive(Debug, Default, serde::Serialize, JsonSchema)]
pub struct Done {
    /// Files.
    #[serde(flatten)]
    pub files: Undone,
    /// Whether the database was emptied.
    pub database_emptied: bool,
    /// Whether its former content was loaded again.
    pub database_put_back: bool,
    /// Folders and files beside the site in which what the run made lies now.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[serde(with = "crate::path_text")]
    #[schemars(with = "Vec<PathBuf>")]
    pub beside: Vec<PathBuf>,
    /// Tables that lie beside now.
    #[serde(skip_serializing_if = "unset")]
    pub tables_beside: u64,
    /// Rows that are as they were.
    pub rows_back: u64,
    /// Rows that somebody changed since, and that stay.
    pub rows_stay: u64,
    /// Dump of what was in the run's tables when it was undone.
    #[serde(with = "crate::path_text")]
    #[schemars(with = "Option<PathBuf>")]
    pub kept: Option<PathBuf>,
    /// Tables that the run did not make and that stay.
    pub tables_stay: Vec<String>,
}

/// Says that a kept dump is not there or cannot be read to its end.
fn damaged(kept: &Path) -> Option<String> {
    let read = || std::io::copy(&mut crate::dump::open(File::open(kept)?)?, &mut std::io::sink());
    read().err().map(|e| format!("{} ({e})", kept.display()))
}

/// Runs whose work can be undone.
const COMMANDS: [&str; 7] = ["restore", "clone", "move", "retire", "load", "settle", "switch"];

/// The places that a run worked on.
fn places(lines: &[Line]) -> Vec<String> {
    let detail = |step: StepKind, key: &str| {
        let line = lines.iter().find(|l| l.step == step)?;
        line.detail[key].as_str().map(str::to_string)
    };
    let places = [
        detail(StepKind::UnpackFiles, "target"),
        detail(StepKind::LoadDatabase, "database"),
        detail(StepKind::ChangeRows, "database"),
    ];
    places.into_iter().flatten().collect()
}

/// Returns the newest run behind which one can go back, undone or not: who says so twice does not mean the run before.
pub fn latest(folder: &Path) -> Option<String> {
    let runs = logbook::runs(folder).into_iter();
    runs.map(|r| (r.command, r.run))
        .find(|(command, _)| COMMANDS.contains(&command.as_str()))
        .map(|(_, run)| run)
}

/// Looks what going back would mean.
pub fn plan(folder: &Path, run: &str) -> Result<Undo, UndoError> {
    look(folder, run, false)
}

/// Looks what taking away would mean that lies beside a site: what the run replaced, or what it made if it was undone.
pub fn plan_to_forget(folder: &Path, run: &str) -> Result<Undo, UndoError> {
    let undo = look(folder, run, true)?;
    match (&undo.exchange, undo.ended.is_some() || undo.undone) {
        (None, _) => Err(UndoError::NothingBeside { run: run.into() }),
        (_, false) => Err(UndoError::NotOver { run: run.into() }),
        _ => Ok(undo),
    }
}

fn look(folder: &Path, run: &str, forgets: bool) -> Result<Undo, UndoError> {
    let lines = logbook::read(folder, run).ok_or_else(|| UndoError::NoRun(run.into()))?;
    let first = lines.first().ok_or_else(|| UndoError::NoRun(run.into()))?;
    let command = logbook::command_of(&lines);
    if !COMMANDS.contains(&command.as_str()) {
        return Err(UndoError::Nothing { run: run.into(), command });
    }
    let ours = places(&lines);
    let mut own_undone = false;
    let mut undone: Vec<String> = Vec::new();
    for later in logbook::runs(folder).into_iter().take_while(|r| r.run != run) {
        let Some(other) = logbook::read(folder, &later.run) else { continue };
        if later.command == "undo" {
            let forgotten = other.first().and_then(|l| l.detail["forgets"].as_str()).unwrap_or_default();
            if later.state == "done" && forgotten == run {
                return Err(UndoError::Forgotten { run: run.into(), by: later.run });
            }
            let undoes = other.first().and_then(|l| l.detail["undoes"].as_str()).unwrap_or_default();
            if later.state == "done" && undoes == run {
                own_undone = true;
                if forgets {
                    continue;
                }
                return Err(UndoError::Already { run: run.into(), by: later.run });
            }
            if later.state == "done" {
                undone.push(undoes.to_string());
            }
        } else if !forgets
            && !undone.contains(&later.run)
            && let Some(place) = places(&other).into_iter().find(|p| ours.contains(p))
        {
            return Err(UndoError::Later { later: later.run, place });
        }
    }
    let kept_by = first.detail["kept_by"].as_str().unwrap_or(run).to_string();
    let kept_lines =
        if kept_by == run { Vec::new() } else { logbook::read(folder, &kept_by).unwrap_or_default() };
    let step = |name: StepKind, key: &str| {
        let mut all = lines.iter().chain(&kept_lines);
        all.find(|l| l.step == name).and_then(|l| l.detail[key].as_str().map(str::to_string))
    };
    let mut tables = begun_tables(&lines);
    tables.extend(begun_tables(&kept_lines));
    tables.extend(journal::reached(&lines).whole.into_keys());
    tables.sort();
    tables.dedup();
    let replaced = lines.iter().chain(&kept_lines).filter(|l| l.step == StepKind::ReplaceDatabase);
    let replaced: Vec<String> = replaced
        .flat_map(|l| serde_json::from_value::<Vec<String>>(l.detail["tables"].clone()).unwrap_or_default())
        .collect();
    let database =
        step(StepKind::LoadDatabase, "database").or_else(|| step(StepKind::ReplaceDatabase, "database"));
    let database = database.or_else(|| step(StepKind::ChangeRows, "database"));
    Ok(Undo {
        run: run.into(),
        command,
        ended: lines.last().filter(|l| l.step.ends()).map(|l| l.at.clone()),
        kept_dump: step(StepKind::ReplaceDatabase, "kept").as_deref().map(to_path),
        target: step(StepKind::UnpackFiles, "target"),
        database,
        tables,
        replaced,
        rows: step(StepKind::ChangeRows, "rows").as_deref().map(to_path),
        exchange: Exchange::of(&lines),
        undone: own_undone,
        in_place: lines.iter().any(|l| l.step == StepKind::UnpackFiles && l.detail["was"] == "there"),
        kept: logbook::kept_of(folder, run),
    })
}

/// A run of which everything is there that going back needs.
#[derive(Debug)]
pub struct ReadyUndo<'u> {
    undo: &'u Undo,
    access: Option<&'u DatabaseAccess>,
}

impl ReadyUndo<'_> {
    /// Goes back.
    ///
    /// # Errors
    /// Where a file or the database fails; the same run can be undone again then.
    pub fn carry_out(&self, find: FindTree<'_>, book: &Run, watch: &dyn Watch) -> Result<Done, UndoError> {
        self.undo.carry_out(self.access, find, book, watch)
    }
}

impl Undo {
    /// Says what would happen to files, in folders that `find` finds.
    pub fn look(&self, find: FindTree<'_>) -> Result<Undone, UndoError> {
        let beside = self.exchange.as_ref().map(Exchange::beside).unwrap_or_default();
        Ok(change_log::undo(&self.kept, self.end(), true, &beside, find)?)
    }

    /// Finds the access that the site itself has now to the database of the run, if its config names that.
    pub fn access_of_site(&self, find: FindTree<'_>, known: &[Known]) -> Option<DatabaseAccess> {
        let wanted = DatabaseAccess::parse(self.database.as_deref()?).ok()?;
        let files = FolderFiles(find(&to_path(self.target.as_deref()?)));
        let definition = recognise(&files, known).ok()?.definition;
        let folders = hosts::choose(&files, &definition, None).ok().into_iter().flat_map(|h| h.found);
        let definitions = folders.map(|f| definition.for_site(&f.folder)).chain([definition.clone()]);
        let mut accesses = definitions.filter_map(|d| config_facts(&files, &d).database);
        accesses.find(|a| a.url() == wanted.url())
    }

    fn made(&self, path: &Path) -> bool {
        change_log::read(&self.kept).contains(&FileChange::File(path.to_path_buf()))
    }

    fn end(&self) -> Option<i64> {
        let at = self.ended.as_deref()?;
        let format = &time::format_description::well_known::Rfc3339;
        Some(time::OffsetDateTime::parse(at, format).ok()?.unix_timestamp())
    }

    /// Looks whether all folders and files are there that going back needs, and are what they were. Nothing is changed.
    ///
    /// # Errors
    /// [`UndoError::Gone`] with what is missing.
    pub fn verify_files(&self) -> Result<(), UndoError> {
        let ended = self.ended.is_some();
        let mut missing = self.exchange.as_ref().map(Exchange::missing_paths).unwrap_or_default();
        missing.extend(change_log::missing(&self.kept, self.target.is_some() && ended));
        if let Some(rows) = self.rows.as_ref().filter(|rows| !rows.exists()) {
            missing.push(rows.display().to_string());
        }
        missing.extend(
            self.kept_dump.iter().filter(|kept| !kept.exists()).map(|kept| kept.display().to_string()),
        );
        self.is_there(missing)
    }

    /// Looks at everything that going back needs: files, tables, and a kept dump to its last byte. Nothing is changed, and nothing can be
    /// undone without this. `access` opens the database that the run filled.
    ///
    /// # Errors
    /// [`UndoError::Gone`] with what is missing.
    pub fn ready<'u>(&'u self, access: Option<&'u DatabaseAccess>) -> Result<ReadyUndo<'u>, UndoError> {
        self.verify_files()?;
        let mut missing: Vec<String> = self.kept_dump.iter().filter_map(|kept| damaged(kept)).collect();
        if let Some(exchange) = &self.exchange {
            missing.extend(exchange.missing_tables(access, self.ended.is_some()).map_err(Box::new)?);
        }
        self.is_there(missing)?;
        Ok(ReadyUndo { undo: self, access })
    }

    fn is_there(&self, mut missing: Vec<String>) -> Result<(), UndoError> {
        const NAMED: usize = 8;
        if missing.is_empty() {
            return Ok(());
        }
        let more = missing.len().saturating_sub(NAMED);
        missing.truncate(NAMED);
        missing.extend((more > 0).then(|| format!("{more} more")));
        Err(UndoError::Gone { run: self.run.clone(), missing })
    }

    fn carry_out(
        &self,
        access: Option<&DatabaseAccess>,
        find: FindTree<'_>,
        book: &Run,
        watch: &dyn Watch,
    ) -> Result<Done, UndoError> {
        let mut done = Done::default();
        if let Some(exchange) = &self.exchange {
            book.step(StepKind::ExchangeBack, serde_json::json!({ "target": self.target }))?;
            exchange.back(access).map_err(Box::new)?;
            done.beside = exchange.beside();
            done.tables_beside = exchange.tables.len() as u64;
            if exchange.database.is_none()
                && let (Some(access), true) = (access, self.kept_dump.is_some())
            {
                // Tables that could not be exchanged.
                self.database(access, book, watch, &mut done)?;
            }
            done.files = change_log::undo(&self.kept, self.end(), false, &done.beside, find)?;
            return Ok(done);
        }
        match access {
            Some(access) if self.rows.is_some() => {
                let list = self.rows.as_deref().unwrap_or(&self.kept);
                (done.rows_back, done.rows_stay) = undo_rows(access, list).map_err(Box::new)?;
                if !self.tables.is_empty() || self.kept_dump.is_some() {
                    self.database(access, book, watch, &mut done)?;
                }
            }
            // A file that the run made goes as its other files do.
            Some(access) if access.engine.facts().is_file && self.made(Path::new(&access.name)) => {
                done.database_emptied = true;
            }
            Some(access) => self.database(access, book, watch, &mut done)?,
            None => {}
        }
        book.step(StepKind::UndoFiles, serde_json::json!({ "kept": to_text(&self.kept) }))?;
        done.files = change_log::undo(&self.kept, self.end(), false, &[], find)?;
        Ok(done)
    }

    /// Takes away what lies beside the site.
    pub fn forget(&self, access: Option<&DatabaseAccess>, book: &Run) -> Result<(), UndoError> {
        book.step(StepKind::Forget, serde_json::json!({ "target": self.target }))?;
        match &self.exchange {
            Some(exchange) => Ok(exchange.forget(access).map_err(Box::new)?),
            None => Ok(()),
        }
    }

    fn database(
        &self,
        access: &DatabaseAccess,
        book: &Run,
        watch: &dyn Watch,
        done: &mut Done,
    ) -> Result<(), UndoError> {
        let mut loader = servers::loader(access)?;
        let there = loader.tables()?;
        let ours: BTreeSet<String> = there
            .iter()
            .filter(|t| self.tables.iter().chain(&self.replaced).any(|o| o == *t))
            .cloned()
            .collect();
        // What came into these tables since is not lost. Into those that lay beside a site nothing came.
        let beside = self.in_place && self.kept_dump.is_none();
        if !ours.is_empty() && !beside {
            done.kept = Some(keep_dump(access, &ours, book, watch)?);
        }
        book.step(
            StepKind::EmptyDatabase,
            serde_json::json!({ "database": access.url(), "kept": done.kept.as_deref().map(to_text) }),
        )?;
        let made = |thing: &str| self.tables.iter().any(|t| t == thing);
        if let Some(kept) = &self.kept_dump {
            if there.iter().all(|t| ours.contains(t)) {
                loader.empty()?;
            } else {
                loader.empty_of(&made)?;
                loader.make_room(&ours)?;
            }
            done.database_emptied = true;
            watch.event(Event::StepStarted {
                step: "putting back",
                total: kept.metadata().map(|m| m.len()).ok(),
            });
            let file = File::open(kept).map_err(DatabaseError::Io)?;
            let mut reader = crate::dump::open_text(Counted::new(file, watch)).map_err(DatabaseError::Io)?;
            loader.put_events_on();
            loader.load(&mut reader, None)?;
            loader.finish()?;
            watch.event(Event::StepDone);
            done.database_put_back = true;
            return Ok(());
        }
        loader.empty_of(&made)?;
        if !beside {
            done.tables_stay = loader.tables()?;
        }
        loader.finish()?;
        done.database_emptied = true;
        Ok(())
    }
}
