//! A database that is carried straight: each part is read from the server while it is handed on, and stored nowhere.
//!
//! All parts come from one snapshot, held for as long as the clone is planned and run. A reader gets an error, never an early end, when
//! the server stops answering in the middle.

use super::DatabaseError;
use super::snapshot::{Snapshot, TableFacts, Whole, open};
use crate::archive::entry_path::EntryPath;
use crate::archive::format::DATABASE;
use crate::archive::read::EntryKind;
use crate::cargo::{Take, entry, file_name};
use crate::dump::rules::Keep;
use crate::event::{Silent, Warnings};
use crate::fsx::wide_pipe;
use crate::place::DatabaseAccess;
use std::io::{self, BufWriter, PipeReader, Read, Write};
use std::ops::ControlFlow;
use std::sync::mpsc::{Receiver, channel};
use std::sync::{Mutex, PoisonError};

/// A database and what of it goes.
pub struct Live {
    snapshot: Mutex<Box<dyn Snapshot>>,
    session: &'static str,
    tables: Vec<(TableFacts, Keep)>,
}

/// A part of the database.
#[derive(Clone, Copy)]
enum Part<'l> {
    Before,
    Table(&'l TableFacts, bool),
    After,
}

impl Live {
    /// Opens the snapshot.
    pub fn open(access: &DatabaseAccess, keep: &dyn Fn(&str) -> Keep) -> Result<Self, DatabaseError> {
        let mut snapshot = open(access)?;
        let session = snapshot.session();
        let tables = snapshot.tables()?.into_iter().map(|t| (keep(&t.name), t));
        let tables = tables.filter(|(k, _)| *k != Keep::Nothing).map(|(k, t)| (t, k)).collect();
        Ok(Live { snapshot: Mutex::new(snapshot), session, tables })
    }

    /// Bytes of the rows that go, as the server estimates them.
    pub fn bytes(&self) -> u64 {
        self.tables.iter().filter(|(_, k)| *k == Keep::All).map(|(t, _)| t.data).sum()
    }

    /// Tables whose rows stay behind, and how many these are.
    pub fn emptied(&self) -> impl Iterator<Item = (String, u64)> {
        self.tables
            .iter()
            .filter(|(t, k)| *k == Keep::Structure && t.rows > 0)
            .map(|(t, _)| (t.name.clone(), t.rows))
    }

    /// Hands on every part.
    pub fn entries(&self, time: i64, take: Take<'_>) -> ControlFlow<()> {
        let tables = self.tables.iter().map(|(facts, keep)| Part::Table(facts, *keep == Keep::All));
        let parts = std::iter::once(Part::Before).chain(tables).chain([Part::After]);
        for (number, part) in parts.enumerate() {
            let (name, size) = match part {
                Part::Before => ("types-and-sequences".to_string(), 0),
                Part::Table(facts, rows) => (file_name(&facts.name), if rows { facts.data } else { 0 }),
                Part::After => ("views-and-routines".to_string(), 0),
            };
            let path = EntryPath::trusted(&format!("{DATABASE}/{number:03}-{name}.sql"));
            std::thread::scope(|scope| {
                let (mut reader, writer, tell) = match wide_pipe() {
                    Ok((pipe, writer)) => {
                        let (tell, told) = channel();
                        (Reader { pipe: Some(pipe), told }, writer, tell)
                    }
                    Err(e) => {
                        let mut broken = Broken(Some(e));
                        return take(entry(path, EntryKind::File, size, (0o600, time), &mut broken));
                    }
                };
                scope.spawn(move || {
                    let done = self.write(part, writer);
                    // Nobody listens any more when the reader has stopped.
                    let _ = tell.send(done);
                });
                take(entry(path, EntryKind::File, size, (0o600, time), &mut reader))
            })?;
        }
        ControlFlow::Continue(())
    }

    fn write(&self, part: Part<'_>, writer: io::PipeWriter) -> Result<(), DatabaseError> {
        let mut snapshot = self.snapshot.lock().unwrap_or_else(PoisonError::into_inner);
        let mut out =
            Whole(Begun { inner: BufWriter::with_capacity(1 << 18, writer), session: Some(self.session) });
        match part {
            Part::Before => snapshot.before(&mut out)?,
            Part::Table(facts, rows) => snapshot.table(&facts.name, rows, &mut out)?,
            Part::After => {
                let has = |table: &str| self.tables.iter().any(|(t, _)| t.name == table);
                snapshot.after(&has, &mut out, &mut Warnings::new(&Silent))?
            }
        };
        if out.0.session.is_none() {
            out.write_all(snapshot.closing().as_bytes())?;
        }
        out.flush()?;
        Ok(())
    }
}

/// Writes the session settings before the first statement: a part without any stays empty.
struct Begun<W> {
    inner: W,
    session: Option<&'static str>,
}

impl<W: Write> Write for Begun<W> {
    fn write(&mut self, buf: &[u8]) -> io::Result<usize> {
        if let Some(session) = self.session.take() {
            self.inner.write_all(session.as_bytes())?;
        }
        self.inner.write(buf)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.inner.flush()
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
                    return Err(io::Error::other(format!("the site's database: {e}: {}", super::told(&e))));
                }
                Err(_) => return Err(io::Error::other("the site's database: the reading thread stopped")),
            }
        }
        Ok(n)
    }
}

/// A part that cannot be read at all.
struct Broken(Option<io::Error>);

impl Read for Broken {
    fn read(&mut self, _: &mut [u8]) -> io::Result<usize> {
        self.0.take().map_or(Ok(0), Err)
    }
}
