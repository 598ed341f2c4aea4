//! A database that is carried: each table is read from the server while it is handed on, and stored nowhere, or spooled by who packs it.
//!
//! All parts come from one snapshot, held for as long as the clone is planned and run. A reader gets an error, never an early end, when
//! the server stops answering in the middle.

use super::DatabaseError;
use super::loading::plain_name;
use super::servers;
use super::snapshot::{DumpOut, Snapshot, TableFacts, Whole};
use crate::dump::rules::Keep;
use crate::event::Findings;
use crate::pipe::{PipeReader, pipe};
use crate::place::DatabaseAccess;
use std::collections::BTreeMap;
use std::io::{self, Read};
use std::ops::ControlFlow;
use std::sync::mpsc::{Receiver, channel};
use std::sync::{Mutex, PoisonError};

/// A database and what of it goes.
pub struct DatabaseStream {
    snapshot: Mutex<Box<dyn Snapshot>>,
    tables: Vec<(TableFacts, bool)>,
    /// What stands before the tables and what needs them: small, and read at once, so that what cannot be read is said before work begins.
    before: Vec<u8>,
    after: Vec<u8>,
}

/// A part of a database.
pub enum StreamPart<'l> {
    /// What tables need, or what needs tables.
    Text(&'static str, &'l [u8]),
    /// A table, and whether its rows go.
    Table(&'l TableFacts, bool),
}

impl DatabaseStream {
    /// Opens the snapshot.
    pub fn open(
        access: &DatabaseAccess,
        keep: &dyn Fn(&str) -> Keep,
        findings: &mut Findings<'_>,
    ) -> Result<Self, DatabaseError> {
        let mut snapshot = servers::snapshot(access)?;
        let mut tables: Vec<(TableFacts, bool)> = Vec::new();
        for facts in snapshot.tables()? {
            match keep(&facts.name) {
                Keep::Nothing => {}
                kept => tables.push((facts, kept == Keep::All)),
            }
        }
        let has = |table: &str| tables.iter().any(|(t, _)| t.name == table);
        let (mut before, mut after) = (Whole(Vec::new()), Whole(Vec::new()));
        snapshot.before(&|_| true, &mut before)?;
        snapshot.after(&has, &mut after, findings)?;
        let ends = [snapshot.session().as_bytes(), snapshot.closing().as_bytes()];
        let [before, after] = [before.0, after.0].map(|text| match text.is_empty() {
            true => text,
            false => [ends[0], &text, ends[1]].concat(),
        });
        Ok(DatabaseStream { snapshot: Mutex::new(snapshot), tables, before, after })
    }

    /// Bytes of the rows that go, as the server estimates them.
    pub fn bytes(&self) -> u64 {
        self.tables.iter().filter(|(_, rows)| *rows).map(|(t, _)| t.data).sum()
    }

    /// Product and version of the server, if it says them.
    pub fn server(&self) -> Option<String> {
        self.ask(|snapshot| snapshot.server()).ok()
    }

    /// Names of the tables that go.
    pub fn tables(&self) -> impl Iterator<Item = String> {
        self.tables.iter().map(|(t, _)| t.name.clone())
    }

    /// Tables whose rows stay behind, and how many these are.
    pub fn emptied(&self) -> impl Iterator<Item = (String, u64)> {
        self.tables.iter().filter(|(t, rows)| !rows && t.rows > 0).map(|(t, _)| (t.name.clone(), t.rows))
    }

    /// Returns all parts, in the order in which they load.
    pub fn parts(&self) -> impl Iterator<Item = StreamPart<'_>> {
        let texts = [("types-and-sequences", &self.before), ("views-and-routines", &self.after)];
        let [before, after] =
            texts.map(|(name, text)| (!text.is_empty()).then_some(StreamPart::Text(name, text)));
        let tables = self.tables.iter().map(|(facts, rows)| StreamPart::Table(facts, *rows));
        before.into_iter().chain(tables).chain(after)
    }

    /// Returns the server's checksum of a table's rows, and how the table is made; nothing where the server has no checksums, or the rows stay
    /// behind.
    pub fn fingerprint(&self, table: &str) -> Option<(u64, Vec<u8>)> {
        self.tables.iter().find(|(t, rows)| t.name == table && *rows)?;
        self.ask(|snapshot| fingerprint(snapshot, table)).ok()?
    }

    /// The same, with a hash of the rows where the server has no checksums.
    ///
    /// # Errors
    /// Where the table cannot be read.
    pub fn print(&self, table: &str) -> Result<Option<(u64, Vec<u8>)>, DatabaseError> {
        match self.tables.iter().any(|(t, rows)| t.name == table && *rows) {
            true => self.ask(|snapshot| print_and_shape(snapshot, table)).map(Some),
            false => Ok(None),
        }
    }

    /// Lets somebody ask the snapshot itself.
    pub fn ask<T>(
        &self,
        ask: impl FnOnce(&mut dyn Snapshot) -> Result<T, DatabaseError>,
    ) -> Result<T, DatabaseError> {
        ask(&mut **self.snapshot.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// Writes a table with all that a text of its own needs. Returns the number of rows.
    pub fn table(&self, table: &str, rows: bool, out: &mut dyn DumpOut) -> Result<u64, DatabaseError> {
        self.ask(|snapshot| as_text(snapshot, out, |snapshot, out| snapshot.table(table, rows, out)))
    }

    /// Reads a table on a thread of its own while it is taken.
    pub fn streamed(
        &self,
        facts: &TableFacts,
        rows: bool,
        take: &mut dyn FnMut(&mut dyn Read) -> ControlFlow<()>,
    ) -> ControlFlow<()> {
        let (pipe, mut writer) = pipe();
        std::thread::scope(|scope| {
            let (tell, told) = channel();
            let lost = tell.clone();
            let started = crate::threads::start_in(scope, move || {
                let done = self.table(&facts.name, rows, &mut writer).map(drop);
                drop(writer);
                // Nobody listens any more when the reader has stopped.
                let _ = tell.send(done);
            });
            if let Err(e) = started {
                let _ = lost.send(Err(e.into()));
            }
            drop(lost);
            take(&mut Reader { pipe: Some(pipe), told })
        })
    }
}

/// Writes a text of its own: with all that has to stand before and behind it.
pub fn as_text<T>(
    snapshot: &mut dyn Snapshot,
    out: &mut dyn DumpOut,
    write: impl FnOnce(&mut dyn Snapshot, &mut dyn DumpOut) -> Result<T, DatabaseError>,
) -> Result<T, DatabaseError> {
    out.write_all(snapshot.session().as_bytes())?;
    let done = write(snapshot, out)?;
    out.write_all(snapshot.closing().as_bytes())?;
    out.flush()?;
    Ok(done)
}

/// Returns the server's checksum of a table's rows, and how the table is made; nothing where the server has no checksums.
pub fn fingerprint(
    snapshot: &mut dyn Snapshot,
    table: &str,
) -> Result<Option<(u64, Vec<u8>)>, DatabaseError> {
    let Some(sum) = snapshot.checksum(table)? else { return Ok(None) };
    Ok(Some((sum, made_by(snapshot, table)?)))
}

/// The text that makes a table.
fn made_by(snapshot: &mut dyn Snapshot, table: &str) -> Result<Vec<u8>, DatabaseError> {
    let mut made = Whole(Vec::new());
    snapshot.table(table, false, &mut made)?;
    Ok(made.0)
}

/// Returns what tells a table's rows ([`print_of`]), and how the table is made.
///
/// # Errors
/// Where the table cannot be read.
pub fn print_and_shape(snapshot: &mut dyn Snapshot, table: &str) -> Result<(u64, Vec<u8>), DatabaseError> {
    let sum = print_of(snapshot, table)?;
    Ok((sum, made_by(snapshot, table)?))
}

/// Returns what tells whether a table's rows changed: the server's checksum, or where it has none a hash of the rows as they are written.
///
/// # Errors
/// Where the table cannot be read.
pub fn print_of(snapshot: &mut dyn Snapshot, table: &str) -> Result<u64, DatabaseError> {
    if let Some(sum) = snapshot.checksum(table)? {
        return Ok(sum);
    }
    let mut hash = Whole(Hasher(blake3::Hasher::new()));
    snapshot.table(table, true, &mut hash)?;
    let bytes = *hash.0.0.finalize().as_bytes();
    Ok(bytes[..8].iter().fold(0, |sum, byte| sum << 8 | u64::from(*byte)))
}

/// The names by which a snapshot knows its tables, by their plain ones.
///
/// # Errors
/// Where the server cannot be asked.
pub fn full_names(snapshot: &mut dyn Snapshot) -> Result<BTreeMap<String, String>, DatabaseError> {
    let tables = snapshot.tables()?;
    Ok(tables.into_iter().map(|t| (plain_name(&t.name).to_string(), t.name)).collect())
}

/// Takes a table for its hash alone.
struct Hasher(blake3::Hasher);

impl io::Write for Hasher {
    fn write(&mut self, buf: &[u8]) -> io::Result<usize> {
        self.0.update(buf);
        Ok(buf.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// Reads a part; its end counts only when the writer says that all was written.
struct Reader {
    pipe: Option<PipeReader>,
    told: Receiver<Result<(), DatabaseError>>,
}

impl Read for Reader {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let Some(pipe) = &mut self.pipe else { return Ok(0) };
        let n = pipe.read(buf)?;
        if n == 0 && !buf.is_empty() {
            self.pipe = None;
            match self.told.recv() {
                Ok(Ok(())) => {}
                Ok(Err(e)) => {
                    return Err(io::Error::other(format!(
                        "the site's database: {e}: {}",
                        super::describe(&e)
                    )));
                }
                Err(_) => return Err(io::Error::other("the site's database: the reading thread stopped")),
            }
        }
        Ok(n)
    }
}
