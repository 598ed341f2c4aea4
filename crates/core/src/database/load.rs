//! Loading a dump into a database that was looked at first: empty, expressly replaceable, or left half full by the same load.
//!
//! Every engine vets statements in its own words ([`Loading`]); what is the same for all stands here.

use super::dump::{DumpJob, dump};
use super::journal::{InLogbook, Keeper};
use super::{DatabaseError, mysql, postgres, sqlite};
use crate::dump::rules::Keep;
use crate::dump::stream::{DumpError, Ending};
use crate::event::{Counted, Event, Warning, Watch};
use crate::logbook::Run;
use crate::place::{DatabaseAccess, Engine};
use serde::Serialize;
use std::collections::BTreeMap;
use std::fs::File;
use std::io::Read;
use std::path::{Path, PathBuf};

/// What a load came to.
#[derive(Debug, Clone, Default, Serialize)]
pub struct Loaded {
    /// Rows sent, by table.
    pub rows: BTreeMap<String, u64>,
    /// Tables in which other numbers of rows are than were sent: table, sent, there.
    pub differing: Vec<(String, u64, u64)>,
    /// What of the dump the server would not have known, and what it became.
    pub fitted: Vec<Fitted>,
    /// Definers taken out of views, triggers and routines.
    pub definers: u64,
    /// Tables that were whole from an earlier run.
    pub went_on: u64,
    /// What was left out or is worth knowing.
    pub warnings: Vec<Warning>,
}

/// Something that was fitted to the server.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Fitted {
    /// `collation`, `character set` or `engine`.
    pub kind: &'static str,
    /// As the dump has it.
    pub from: String,
    /// As the server knows it.
    pub to: String,
    /// How often.
    pub count: u64,
}

/// A connection into which dumps are loaded.
pub trait Loading: Send {
    /// Returns the tables and views that are there.
    fn tables(&mut self) -> Result<Vec<String>, DatabaseError>;
    /// Takes away everything, but for tables of which `made` does not say that they go.
    fn empty_of(&mut self, made: &dyn Fn(&str) -> bool) -> Result<(), DatabaseError>;
    /// Takes everything away.
    fn empty(&mut self) -> Result<(), DatabaseError> {
        self.empty_of(&|_| true)
    }
    /// Sets how many connections are used, what is replaced by what, and who keeps notes.
    fn on(
        &mut self,
        connections: usize,
        fit: &[(String, String)],
        keeper: Box<dyn Keeper>,
    ) -> Result<(), DatabaseError>;
    /// Goes on where an interrupted load stopped: these tables are whole, everything else is taken away and made again.
    fn go_on(&mut self, whole: BTreeMap<String, u64>) -> Result<(), DatabaseError>;
    /// Loads one dump or part of a dump.
    fn load(&mut self, reader: &mut dyn Read) -> Result<(), DatabaseError>;
    /// Compares row counts with what was sent and returns what was done.
    fn finish(self: Box<Self>) -> Result<Loaded, DatabaseError>;
}

/// Connects to a database for loading.
pub fn open(access: &DatabaseAccess) -> Result<Box<dyn Loading>, DatabaseError> {
    match access.engine {
        Engine::Mysql => Ok(Box::new(mysql::load::MysqlLoader::new(access)?)),
        Engine::Postgres => Ok(Box::new(postgres::load::PostgresLoader::new(access)?)),
        Engine::Sqlite => Ok(Box::new(sqlite::SqliteLoader::new(access)?)),
        other => Err(DatabaseError::NotSpoken(other.name())),
    }
}

/// Connects to a database for loading, and refuses one that holds something.
pub fn open_empty(access: &DatabaseAccess) -> Result<Box<dyn Loading>, DatabaseError> {
    let mut loader = open(access)?;
    let found = loader.tables()?;
    if found.is_empty() { Ok(loader) } else { Err(in_use(access, found)) }
}

fn in_use(access: &DatabaseAccess, found: Vec<String>) -> DatabaseError {
    DatabaseError::InUse { name: access.name.clone(), found: shortened(found) }
}

/// Shortens a list for a message.
pub(crate) fn shortened(mut found: Vec<String>) -> Vec<String> {
    let more = found.len().saturating_sub(5);
    found.truncate(5);
    if more > 0 {
        found.push(format!("and {more} more"));
    }
    found
}

/// Tells what an error of reading a dump means for loading it.
pub(super) fn of_dump(error: DumpError) -> DatabaseError {
    match error {
        DumpError::Read(e) | DumpError::Write(e) => DatabaseError::Io(e),
        other => DatabaseError::Io(std::io::Error::other(other.to_string())),
    }
}

/// Tells how a dump ended: the sink's own failure comes first.
pub(super) fn ended(
    failure: Option<DatabaseError>,
    ended: Result<Ending, DumpError>,
) -> Result<(), DatabaseError> {
    if let Some(failure) = failure {
        return Err(failure);
    }
    match ended.map_err(of_dump)?.cut_off {
        Some(cut) => Err(DatabaseError::CutOff { line: cut.line, what: cut.what }),
        None => Ok(()),
    }
}

/// A dump that is to be loaded.
#[derive(Debug, Clone)]
pub struct LoadJob {
    /// Files, in order: a dump or its parts.
    pub files: Vec<PathBuf>,
    /// Where to.
    pub access: DatabaseAccess,
    /// Whether what is there is replaced.
    pub replace: bool,
    /// Connections.
    pub connections: usize,
    /// Names that the server does not know, and what they become.
    pub fit: Vec<(String, String)>,
    /// Tables that an interrupted run of the same job left whole.
    pub whole: Option<BTreeMap<String, u64>>,
    /// Folder in which is kept what is replaced.
    pub kept: PathBuf,
}

/// Name of the dump in the folder of what a run replaced.
pub const KEPT_DUMP: &str = "database.sql.zst";

/// Looks whether a job would be refused, without changing anything. Returns what is in the database.
pub fn guard(job: &LoadJob) -> Result<(Box<dyn Loading>, Vec<String>), DatabaseError> {
    let mut loader = open(&job.access)?;
    let found = loader.tables()?;
    if !found.is_empty() && !job.replace && job.whole.is_none() {
        return Err(in_use(&job.access, found));
    }
    Ok((loader, found))
}

/// Loads a dump.
pub fn load(job: &LoadJob, run: &Run, watch: &dyn Watch) -> Result<Loaded, DatabaseError> {
    let (mut loader, found) = guard(job)?;
    loader.on(job.connections, &job.fit, Box::new(InLogbook(run.clone())))?;
    match &job.whole {
        Some(whole) => loader.go_on(whole.clone())?,
        None if !found.is_empty() => replace(loader.as_mut(), &job.access, &job.kept, run, watch)?,
        None => {}
    }
    step(run, "load database", serde_json::json!({ "database": job.access.url() }))?;
    let total = job.files.iter().filter_map(|f| f.metadata().ok()).map(|m| m.len()).sum();
    watch.event(Event::StepStarted { step: "loading", total: Some(total) });
    for path in &job.files {
        let file = File::open(path)?;
        let mut reader = crate::dump::open_text(Counted::new(file, watch))?;
        loader.load(&mut reader)?;
    }
    watch.event(Event::StepDone);
    loader.finish()
}

/// Keeps a dump of what is there, and takes it away.
pub(crate) fn replace(
    loader: &mut dyn Loading,
    access: &DatabaseAccess,
    kept: &Path,
    run: &Run,
    watch: &dyn Watch,
) -> Result<(), DatabaseError> {
    std::fs::create_dir_all(kept)?;
    let output = kept.join(KEPT_DUMP);
    let keep = |_: &str| (Keep::All, String::new());
    let job = DumpJob {
        access: access.clone(),
        output: output.clone(),
        part_size: None,
        keep: &keep,
        private: true,
    };
    dump(&job, watch)?;
    step(run, "replace database", serde_json::json!({ "database": access.url(), "kept": output }))?;
    loader.empty()
}

pub(crate) fn step(run: &Run, name: &str, detail: serde_json::Value) -> Result<(), DatabaseError> {
    run.step(name, detail).map_err(|e| DatabaseError::Io(e.source))
}
