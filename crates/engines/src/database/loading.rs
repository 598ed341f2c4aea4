//! What every engine's loader can be asked for, and what is the same for all: counting, and handing on a dump piece by piece. Each engine
//! vets statements in its own words.

use super::DatabaseError;
use super::journal::{FormerThing, ProgressStore, Reached};
use crate::dump::dialect::Dialect;
use crate::dump::stream::{At, DumpError, Piece, Sink, Source, WINDOW, run_source};
use crate::event::{Event, Watch};
use crate::finding::Finding;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::fs::File;
use std::io::{BufRead, BufReader, Read};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError};
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

/// The names of a table while another takes its place.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct AsideName {
    /// Its own name.
    pub table: String,
    /// What the new one is called until it takes its place.
    pub new: String,
    /// What the one that was there is called from then on.
    pub old: String,
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
    /// Says that tables which stay are the site's own all the same: views and triggers may name them, and triggers of theirs are made anew.
    fn keeps(&mut self, _tables: &BTreeSet<String>) -> Result<(), DatabaseError> {
        Ok(())
    }
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
    /// Says whether tables can be loaded under other names and take the place of those that are there in one step.
    fn exchanges(&mut self) -> Result<bool, DatabaseError> {
        Ok(false)
    }
    /// Loads these tables under their new names. They take their places in [`Loading::exchange`]; views, triggers and so on are made then.
    fn beside(&mut self, _names: &[AsideName]) -> Result<(), DatabaseError> {
        Ok(())
    }
    /// Waits until everything that was sent is there, and counts it.
    fn count(&mut self) -> Result<(), DatabaseError> {
        self.arrive()
    }
    /// Lets those tables stay as they are of which these names speak, and takes away what was loaded beside for them.
    fn stay(&mut self, names: &[AsideName]) -> Result<(), DatabaseError> {
        self.empty_of(&|table| names.iter().any(|n| n.new == table))
    }
    /// Takes away what lies beside.
    fn forget(&mut self, names: &[AsideName]) -> Result<(), DatabaseError> {
        self.empty_of(&|table| names.iter().any(|n| n.new == table || n.old == table))
    }
    /// Lets tables that were loaded beside take their places, as far as they have not. Returns how long somebody who looked could have seen
    /// neither.
    fn exchange(&mut self, _names: &[AsideName]) -> Result<Duration, DatabaseError> {
        Ok(Duration::ZERO)
    }
    /// Lets the tables that were there take their places again, and what was made anew beside them be as it was.
    fn exchange_back(&mut self, _names: &[AsideName], _former: &[FormerThing]) -> Result<(), DatabaseError> {
        Ok(())
    }
    /// Marks what lies aside as kept, and what came back no longer, where the exchange itself has not done that.
    fn mark_kept(&mut self, names: &[AsideName]) -> Result<(), DatabaseError>;
    /// What [`Loading::exchange_back`] would put back and is not there any more. `former` are the tables that were there before the
    /// exchange; where that is not known, all may have been. `ended` says whether the run of the exchange came to its end.
    fn missing_aside(
        &mut self,
        _names: &[AsideName],
        _former: Option<&BTreeSet<String>>,
        _ended: bool,
    ) -> Result<Vec<String>, DatabaseError> {
        Ok(Vec::new())
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
    pub(super) fn report(&self, watch: &dyn Watch, done: &Receiver<()>) {
        let mut ended = false;
        while !ended {
            ended = done.recv_timeout(Duration::from_millis(100)) != Err(RecvTimeoutError::Timeout);
            watch.event(Event::Advanced { bytes: self.bytes.swap(0, Ordering::Relaxed) });
        }
    }
}

/// A file whose bytes count as sent when they are read, unless it is read ahead.
pub(super) struct Metered(pub(super) Plain);

impl Read for Metered {
    fn read(&mut self, buf: &mut [u8]) -> std::io::Result<usize> {
        let n = (&*self.0.file).read(buf)?;
        if !self.0.meter.ahead.load(Ordering::Relaxed) {
            self.0.meter.sent(n);
        }
        Ok(n)
    }
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
pub(super) struct Taking<'t> {
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

/// The name by which a loader knows a table, of one that may be named with its schema.
pub fn plain_name(table: &str) -> &str {
    table.rsplit('.').next().unwrap_or(table)
}

/// What a character set, collation or engine becomes that the server does not know.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Substitution {
    /// As the dump has it.
    pub name: String,
    /// What stands in its place.
    pub other: String,
}
