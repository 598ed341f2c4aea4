//! Loading a dump into a database that was looked at first: empty, expressly replaceable, or left half full by the same load.
//!
//! Every engine vets statements in its own words ([`Loading`]); what is the same for all stands here.

use super::dump::{DumpPlan, dump};
use super::journal::{InLogbook, ProgressStore, Reached};
use super::{DatabaseError, engine};
use crate::database::compatibility::Substitution;
use crate::dump::dialect::Dialect;
use crate::dump::rules::Keep;
use crate::dump::statement::Class;
use crate::dump::stream::{At, DumpError, Piece, Sink, Source, WINDOW, run_source};
use crate::event::{Event, Watch};
use crate::finding::Finding;
use crate::fsx::private_folder;
use crate::logbook::{Run, StepKind};
use crate::place::DatabaseAccess;
use crate::vet::made;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};
use std::fs::File;
use std::io::{BufRead, BufReader, Read};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::time::Duration;

/// What a load came to.
#[derive(Debug, Clone, Default, Serialize, JsonSchema)]
pub struct Loaded {
    /// Rows sent, by table.
    pub rows: BTreeMap<String, u64>,
    /// Tables in which other numbers of rows are than were sent: table, sent, there.
    pub differing: Vec<(String, u64, u64)>,
    /// Tables whose checksum is the one that the dump states.
    pub checksums: u64,
    /// What of the dump the server would not have known, and what it became.
    pub substituted: Vec<Substituted>,
    /// Definers taken out of views, triggers and routines.
    pub definers: u64,
    /// What the account that loaded may do beyond this database, if that is more than nothing.
    pub account: Option<String>,
    /// Tables that were whole from an earlier run.
    pub went_on: u64,
    /// What was left out or is worth knowing.
    #[serde(skip)]
    pub findings: Vec<Finding>,
}

impl Loaded {
    /// Begins with the rows that an earlier run left, by table. Returns false if it left nothing.
    pub(super) fn goes_on(&mut self, there: Option<BTreeMap<String, u64>>) -> bool {
        let Some(rows) = there else { return false };
        self.went_on = rows.len() as u64;
        self.rows = rows;
        true
    }
}

/// Something that was substituted to the server.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Substituted {
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
    /// Takes away the tables that make room for others of their names, and lets nothing touch those that stay.
    fn make_room(&mut self, goes: &BTreeSet<String>) -> Result<(), DatabaseError>;
    /// Sets how many connections are used, what is replaced by what, and who keeps notes. An engine whose transactions hold everything has
    /// one connection, and nothing to note, unless it loads in stages.
    fn on(
        &mut self,
        _connections: usize,
        _substitute: &[Substitution],
        _keeper: Box<dyn ProgressStore>,
    ) -> Result<(), DatabaseError> {
        Ok(())
    }
    /// Lets an engine whose transactions hold everything commit on the way, so that a long load, of about so many bytes, can be gone on
    /// with.
    fn in_stages(&mut self, _bytes: u64, _keeper: Box<dyn ProgressStore>) {}
    /// Names databases that the dump may name as its own.
    fn comes_from(&mut self, _databases: &[String]) {}
    /// Lets events work as soon as they are loaded; else they are loaded at rest.
    fn put_events_on(&mut self) {}
    /// Says that rows come straight from a database that held them, where they were neither doubled nor unfit.
    fn trust_source(&mut self) -> Result<(), DatabaseError> {
        Ok(())
    }
    /// Goes on where an interrupted load stopped: everything that is not there for good is taken away and made again.
    fn go_on(&mut self, reached: Reached) -> Result<(), DatabaseError>;
    /// Loads one dump or part of a dump. `plain` is the file, where the reader gives its very bytes.
    fn load(&mut self, reader: &mut dyn Read, plain: Option<Plain>) -> Result<(), DatabaseError>;
    /// Waits until everything that was sent is there.
    fn arrive(&mut self) -> Result<(), DatabaseError> {
        Ok(())
    }
    /// Compares row counts with what was sent and returns what was done.
    fn finish(self: Box<Self>) -> Result<Loaded, DatabaseError>;
}

/// The file of a dump, from which the rows of a large table may be read once more while the dump is read on.
#[derive(Debug, Clone)]
pub struct Plain {
    /// File.
    pub file: Arc<File>,
    /// Counts what was sent of it.
    pub meter: Arc<Meter>,
}

/// Counts bytes on their way to the server.
#[derive(Debug, Default)]
pub struct Meter {
    bytes: AtomicU64,
    /// Whether what is read at the moment is not sent yet, but will be counted when it is.
    ahead: AtomicBool,
}

impl Meter {
    /// Counts bytes that were sent.
    pub fn sent(&self, bytes: usize) {
        self.bytes.fetch_add(bytes as u64, Ordering::Relaxed);
    }

    /// Says whether what is read from now on will be counted by those who send it.
    pub fn runs_ahead(&self, ahead: bool) {
        self.ahead.store(ahead, Ordering::Relaxed);
    }

    /// Reports to `watch` what was counted, until `done`.
    fn report(&self, watch: &dyn Watch, done: &Receiver<()>) {
        let mut ended = false;
        while !ended {
            ended = done.recv_timeout(Duration::from_millis(100)) != Err(RecvTimeoutError::Timeout);
            watch.event(Event::Advanced { bytes: self.bytes.swap(0, Ordering::Relaxed) });
        }
    }
}

/// A file whose bytes count as sent when they are read, unless it is read ahead.
struct Metered(Plain);

impl Read for Metered {
    fn read(&mut self, buf: &mut [u8]) -> std::io::Result<usize> {
        let n = (&*self.0.file).read(buf)?;
        if !self.0.meter.ahead.load(Ordering::Relaxed) {
            self.0.meter.sent(n);
        }
        Ok(n)
    }
}

/// Connects to a database for loading.
pub fn open(access: &DatabaseAccess) -> Result<Box<dyn Loading>, DatabaseError> {
    engine::of(access.engine).loader(access)
}

/// Returns the tables and views of a database that may be loaded into. A file that is missing holds nothing, and is not made.
pub fn contents(access: &DatabaseAccess) -> Result<Vec<String>, DatabaseError> {
    if access.engine.facts().is_file && !Path::new(&access.name).exists() {
        return Ok(Vec::new());
    }
    open(access)?.tables()
}

/// Refuses a database that holds something.
pub fn must_be_empty(access: &DatabaseAccess, found: Vec<String>) -> Result<(), DatabaseError> {
    if found.is_empty() {
        return Ok(());
    }
    Err(DatabaseError::InUse { name: access.name.clone(), found: shortened(found) })
}

/// Shortens a list for a message.
pub fn shortened(mut found: Vec<String>) -> Vec<String> {
    let more = found.len().saturating_sub(5);
    found.truncate(5);
    if more > 0 {
        found.push(format!("and {more} more"));
    }
    found
}

/// Hands a piece to a loader.
pub(super) type TakePiece<'t> = &'t mut dyn FnMut(Piece<'_>, At<'_>) -> Result<(), DatabaseError>;

/// Goes through a dump of one dialect. A reader that holds nothing at all is a part without statements. The first failure of `take` is
/// what a load fails with.
pub(super) fn each_piece(
    reader: &mut dyn Read,
    wanted: Dialect,
    take: TakePiece<'_>,
) -> Result<(), DatabaseError> {
    let mut reader = BufReader::with_capacity(1 << 16, reader);
    if reader.fill_buf()?.is_empty() {
        return Ok(());
    }
    let read = |error| match error {
        DumpError::Read(e) | DumpError::Write(e) => DatabaseError::Io(e),
        other => DatabaseError::Io(std::io::Error::other(other.to_string())),
    };
    let source = Source::new(reader, WINDOW, None).map_err(read)?;
    if source.dialect() != wanted {
        return Err(DatabaseError::OtherDialect { found: source.dialect().name(), wanted: wanted.name() });
    }
    let mut sink = Taking { take, failure: None };
    let ended = run_source(source, &mut sink);
    if let Some(failure) = sink.failure {
        return Err(failure);
    }
    match ended.map_err(read)?.cut_off {
        Some(cut) => Err(DatabaseError::CutOff { line: cut.line, what: cut.what }),
        None => Ok(()),
    }
}

/// A sink that keeps the loader's own failure.
struct Taking<'t> {
    take: TakePiece<'t>,
    failure: Option<DatabaseError>,
}

impl Sink for Taking<'_> {
    fn piece(&mut self, piece: Piece<'_>, at: At<'_>) -> Result<(), DumpError> {
        (self.take)(piece, at).map_err(|e| {
            let told = e.to_string();
            self.failure = Some(e);
            DumpError::Sink(told.into())
        })
    }
}

/// A statement as text; what is no UTF-8 reaches no server.
pub(super) fn text_of(statement: &[u8], line: u64) -> Result<&str, DatabaseError> {
    std::str::from_utf8(statement).map_err(|_| {
        let what = "the statement holds text that is not UTF-8; export the dump again as UTF-8".into();
        DatabaseError::Forbidden { line, what }
    })
}

/// A dump that is to be loaded.
#[derive(Debug, Clone)]
pub struct LoadPlan {
    /// Files, in order: a dump or its parts.
    pub files: Vec<PathBuf>,
    /// Where to.
    pub access: DatabaseAccess,
    /// Whether what is there is replaced.
    pub replace: bool,
    /// Connections.
    pub connections: usize,
    /// Names that the server does not know, and what they become.
    pub substitute: Vec<Substitution>,
    /// Whether events work as soon as they are loaded.
    pub events: bool,
    /// How far an interrupted run of the same job came.
    pub earlier: Option<Reached>,
}

/// Name of the dump in the folder of what a run replaced.
pub const KEPT_DUMP: &str = "database.sql.zst";

impl LoadPlan {
    fn allows(&self, found: &[String]) -> Result<(), DatabaseError> {
        if self.replace || self.earlier.is_some() {
            Ok(())
        } else {
            must_be_empty(&self.access, found.to_vec())
        }
    }
}

/// Looks whether a job would be refused, without changing anything. Returns what is in the database.
pub fn guard(job: &LoadPlan) -> Result<Vec<String>, DatabaseError> {
    let found = contents(&job.access)?;
    job.allows(&found)?;
    Ok(found)
}

/// Says by its name whether a dump is compressed; it holds some four times as many bytes then.
fn is_compressed(path: &Path) -> bool {
    path.extension().is_some_and(|e| e == "gz" || e == "zst")
}

/// Loads a dump.
pub fn load(job: &LoadPlan, run: &Run, watch: &dyn Watch) -> Result<Loaded, DatabaseError> {
    let mut loader = open(&job.access)?;
    // Since the guard looked, somebody may have filled it.
    let found = loader.tables()?;
    job.allows(&found)?;
    loader.on(job.connections, &job.substitute, Box::new(InLogbook(run.clone())))?;
    if job.events {
        loader.put_events_on();
    }
    let size = |f: &PathBuf| f.metadata().map_or(0, |m| m.len());
    let total = job.files.iter().map(size).sum();
    let text = job.files.iter().map(|f| if is_compressed(f) { 4 * size(f) } else { size(f) }).sum();
    loader.in_stages(text, Box::new(InLogbook(run.clone())));
    match &job.earlier {
        Some(reached) => loader.go_on(reached.clone())?,
        None if !found.is_empty() => {
            // What the dump does not name is not its to replace.
            let named = tables_of(&job.files)?;
            let goes = found.iter().filter(|t| named.contains(*t)).cloned().collect();
            replace(loader.as_mut(), &job.access, &goes, run, watch)?;
        }
        None => {}
    }
    step(run, StepKind::LoadDatabase, serde_json::json!({ "database": job.access.url() }))?;
    watch.event(Event::StepStarted { step: "loading", total: Some(total) });
    let meter = Arc::new(Meter::default());
    let loaded = std::thread::scope(|scope| {
        let (through, done) = channel();
        let reporting = meter.clone();
        // A load whose progress nobody sees is one as well.
        let _ = crate::threads::start_in(scope, move || reporting.report(watch, &done));
        // Held to the end, whatever that is: the report ends with it.
        let _through: Sender<()> = through;
        job.files.iter().try_for_each(|path| {
            let plain = Plain { file: Arc::new(File::open(path)?), meter: meter.clone() };
            let mut reader = crate::dump::open_text(Metered(plain.clone()))?;
            let plain = reader.is_plain().then_some(plain);
            loader.load(&mut reader, plain)
        })?;
        // What is on its way yet counts.
        loader.arrive()
    });
    watch.event(Event::StepDone);
    loaded?;
    loader.finish()
}

/// The name by which a loader knows a table, of one that may be named with its schema.
pub fn plain_name(table: &str) -> &str {
    table.rsplit('.').next().unwrap_or(table)
}

/// Keeps a dump of the tables that `goes` names, and takes them away. What else is in the database stays.
pub fn replace(
    loader: &mut dyn Loading,
    access: &DatabaseAccess,
    goes: &BTreeSet<String>,
    run: &Run,
    watch: &dyn Watch,
) -> Result<(), DatabaseError> {
    let output = keep_dump(access, goes, run, watch)?;
    let tables: Vec<&String> = goes.iter().collect();
    step(
        run,
        StepKind::ReplaceDatabase,
        serde_json::json!({ "database": access.url(), "kept": output, "tables": tables }),
    )?;
    let all = loader.tables()?.iter().all(|t| goes.contains(t));
    if all { loader.empty() } else { loader.make_room(goes) }
}

/// Keeps a dump of some tables in the folder of a run. Returns it.
pub fn keep_dump(
    access: &DatabaseAccess,
    goes: &BTreeSet<String>,
    run: &Run,
    watch: &dyn Watch,
) -> Result<PathBuf, DatabaseError> {
    let kept = run.kept();
    private_folder(&kept)?;
    let output = kept.join(KEPT_DUMP);
    let keep = |table: &str| {
        let keep = if goes.contains(plain_name(table)) { Keep::All } else { Keep::Nothing };
        (keep, String::new())
    };
    let job = DumpPlan {
        access: access.clone(),
        output: output.clone(),
        pipe: None,
        force: false,
        part_size: None,
        checksums: false,
        strictly: true,
        keep: &keep,
    };
    dump(&job, watch).map_err(|e| match e {
        DatabaseError::Io(source) => DatabaseError::NotKept { folder: kept, source },
        other => other,
    })?;
    Ok(output)
}

/// The tables, views and sequences that a dump makes, by their plain names.
fn tables_of(files: &[PathBuf]) -> Result<BTreeSet<String>, DatabaseError> {
    let mut names = Names(BTreeSet::new());
    for file in files {
        let reader = BufReader::new(crate::dump::open_text(File::open(file)?)?);
        let wrong = |e: DumpError| DatabaseError::Io(std::io::Error::other(e.to_string()));
        run_source(Source::new(reader, WINDOW, None).map_err(wrong)?, &mut names).map_err(wrong)?;
    }
    Ok(names.0)
}

/// Collects what a dump makes.
struct Names(BTreeSet<String>);

impl Sink for Names {
    fn piece(&mut self, piece: Piece<'_>, at: At<'_>) -> Result<(), DumpError> {
        if let Piece::Whole { bytes, delimiter, .. } = piece {
            let text = String::from_utf8_lossy(&bytes[..bytes.len() - delimiter]);
            let named = matches!(at.statement.class, Class::CreateTable | Class::CreateView);
            self.0.extend(at.statement.name.clone().filter(|_| named));
            self.0.extend(made(&text, at.quoting));
        }
        Ok(())
    }
}

pub(crate) fn step(run: &Run, name: StepKind, detail: serde_json::Value) -> Result<(), DatabaseError> {
    run.step(name, detail).map_err(|e| DatabaseError::Io(e.source))
}
