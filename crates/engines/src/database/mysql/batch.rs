//! Batches of rows on their way to the server, over several connections at once.
//!
//! The thread that reads the dump hands batches to workers; each worker owns a connection. Batches of a table that has a primary key
//! may overtake each other, because the key decides where a row lies; all others keep to one connection and so to their order.
//! Text is sent as bytes that the server takes without converting them, where every column of the table stores UTF-8 anyway.
//!
//! Rows that another database gives out are in sound order already: no doubles, nothing to convert. A server that takes the file of a
//! client (`LOAD DATA LOCAL`) gets them in that way, as its own parser of statements would need a third more of its time. It reads the very
//! text of the rows (MySQL reference manual, "LOAD DATA Statement": enclosed fields, `NULL` as a word, the same escapes).
//! Invariant: a worker that met an error takes no further work, and the error is the first that [`Workers::check`] returns.

use super::{code, connect, refused, run};
use crate::database::DatabaseError;
use crate::place::DatabaseAccess;
use ::mysql::prelude::Queryable;
use ::mysql::{Conn, Error, LocalInfileHandler};
use std::collections::BTreeMap;
use std::io::Write;
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};

/// Batches that wait for a connection.
const WAITING: usize = 2;

/// How often a batch is tried when the server says that another transaction stood in the way.
const TRIES: usize = 8;

/// The server's warning that it computes a value itself.
const VALUE_IS_COMPUTED: u32 = 1906;

/// How the rows of a table are sent.
#[derive(Debug, Default)]
pub struct InsertMode {
    /// Name of the table.
    pub table: String,
    /// Whether every text column stores UTF-8, so that the server need not convert.
    pub bytes: bool,
    /// Whether a column stores only letters of up to three bytes.
    pub short_letters: bool,
    /// Whether batches may overtake each other.
    pub free: bool,
    /// How the statement goes on behind the name of the file, if rows can be sent as one: table and columns.
    pub as_file: Option<String>,
}

/// Rows on their way.
pub struct Batch {
    /// How they are sent.
    pub mode: Arc<InsertMode>,
    /// Charset of the text, where it is not sent as bytes.
    pub charset: Arc<str>,
    /// The insert.
    pub statement: String,
    /// Where in it the first row begins, if it holds nothing but strings, numbers and `NULL`.
    pub simple_from: Option<usize>,
    /// Where it stands in the dump.
    pub line: u64,
}

/// Rows that the server may fetch as a file.
#[derive(Default)]
struct AsFile {
    text: String,
    from: usize,
}

enum Work {
    Batch(Batch),
    Session(Arc<Vec<String>>),
}

/// What workers tell.
#[derive(Default)]
struct Told {
    /// Work handed out and not done yet, by worker.
    pending: Vec<usize>,
    /// The same by table.
    tables: BTreeMap<String, usize>,
    error: Option<DatabaseError>,
    /// Values that the server changed, by table: how many, and its first word on it.
    changed: BTreeMap<String, (u64, String)>,
}

type Shared = Arc<(Mutex<Told>, Condvar)>;

fn lock(shared: &Shared) -> MutexGuard<'_, Told> {
    shared.0.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Connections that take batches.
pub struct Workers {
    shared: Shared,
    senders: Vec<SyncSender<Work>>,
    threads: Vec<std::thread::JoinHandle<()>>,
}

impl Workers {
    /// Opens so many connections, at least one.
    pub fn open(access: &DatabaseAccess, count: usize, session: &[String]) -> Result<Self, DatabaseError> {
        let count = count.max(1);
        let shared: Shared = Arc::default();
        lock(&shared).pending = vec![0; count];
        let mut workers = Workers { shared, senders: Vec::new(), threads: Vec::new() };
        for number in 0..count {
            let mut conn = match connect(access) {
                Ok(conn) => conn,
                // A server or an account that allows one connection only is served by one.
                Err(_) if number > 0 => break,
                Err(e) => return Err(e),
            };
            for sql in session {
                run(&mut conn, sql)?;
            }
            let (sender, work) = sync_channel(WAITING);
            let shared = workers.shared.clone();
            match crate::threads::start(move || Worker::new(conn, number, shared).go(&work)) {
                Ok(thread) => workers.threads.push(thread),
                Err(_) if number > 0 => break,
                Err(e) => return Err(e.into()),
            }
            workers.senders.push(sender);
        }
        Ok(workers)
    }

    /// Returns the first error that a worker met.
    pub fn check(&self) -> Result<(), DatabaseError> {
        lock(&self.shared).error.take().map_or(Ok(()), Err)
    }

    /// Hands a batch to a connection that is free, or waits for one.
    pub fn send(&self, batch: Batch) -> Result<(), DatabaseError> {
        self.check()?;
        let number = {
            let mut told = lock(&self.shared);
            let free = (0..self.senders.len()).min_by_key(|n| told.pending[*n]).unwrap_or(0);
            let number = if batch.mode.free { free } else { 0 };
            told.pending[number] += 1;
            *told.tables.entry(batch.mode.table.clone()).or_default() += 1;
            number
        };
        self.hand(number, Work::Batch(batch))
    }

    /// Gives every connection new settings, behind what it was handed before.
    pub fn session(&self, statements: Vec<String>) -> Result<(), DatabaseError> {
        let statements = Arc::new(statements);
        for number in 0..self.senders.len() {
            lock(&self.shared).pending[number] += 1;
            self.hand(number, Work::Session(statements.clone()))?;
        }
        Ok(())
    }

    fn hand(&self, number: usize, work: Work) -> Result<(), DatabaseError> {
        if self.senders[number].send(work).is_ok() {
            return Ok(());
        }
        self.check()?;
        Err(DatabaseError::Io(std::io::Error::other("a loading thread stopped")))
    }

    /// Says whether all rows of a table have arrived.
    pub fn arrived(&self, table: &str) -> bool {
        lock(&self.shared).tables.get(table).is_none_or(|n| *n == 0)
    }

    /// Waits until everything handed out has arrived.
    pub fn settle(&self) -> Result<(), DatabaseError> {
        let mut told = lock(&self.shared);
        while told.error.is_none() && told.pending.iter().any(|n| *n > 0) {
            told = self.shared.1.wait(told).unwrap_or_else(PoisonError::into_inner);
        }
        drop(told);
        self.check()
    }

    /// Takes what the server changed: by table how many values, and its first word on it.
    pub fn take_changed(&self) -> BTreeMap<String, (u64, String)> {
        std::mem::take(&mut lock(&self.shared).changed)
    }
}

impl Drop for Workers {
    fn drop(&mut self) {
        self.senders.clear();
        for thread in self.threads.drain(..) {
            // A worker that panicked has nothing left to do; its error was told by the closed way.
            let _ = thread.join();
        }
    }
}

/// Reads what the server says of a file that it took (MySQL reference manual, "LOAD DATA Statement": "Statement Result Information").
fn took_all(told: &str) -> bool {
    told.split("Skipped: ").nth(1).is_some_and(|n| n.split(' ').next() == Some("0"))
}

/// Says whether a server refused to take files, or a proxy for it: 1148 and 3948 of MySQL, 4166 of MariaDB ("Server Error Message Reference",
/// "MariaDB Error Codes").
fn is_not_allowed(error: &DatabaseError) -> bool {
    matches!(code(error), Some(1148 | 3948 | 4166))
}

struct Worker {
    conn: Conn,
    number: usize,
    shared: Shared,
    /// Charset that the connection speaks at the moment.
    charset: String,
    /// What the server gets when it asks for a file, whatever name it asks for, and whether it has refused to.
    file: Arc<Mutex<AsFile>>,
    takes_files: bool,
}

impl Worker {
    fn new(mut conn: Conn, number: usize, shared: Shared) -> Self {
        let file: Arc<Mutex<AsFile>> = Arc::default();
        let asked = file.clone();
        conn.set_local_infile_handler(Some(LocalInfileHandler::new(move |_, out| {
            let file = asked.lock().unwrap_or_else(PoisonError::into_inner);
            out.write_all(&file.text.as_bytes()[file.from..])?;
            // Every row ends with a comma.
            out.write_all(b",")
        })));
        Worker { conn, number, shared, charset: String::new(), file, takes_files: true }
    }

    fn go(mut self, work: &Receiver<Work>) {
        while let Ok(work) = work.recv() {
            let table = match &work {
                Work::Batch(batch) => Some(batch.mode.table.clone()),
                Work::Session(_) => None,
            };
            let done = self.work(work);
            let mut told = lock(&self.shared);
            told.pending[self.number] -= 1;
            let failed = done.is_err();
            // A batch that failed keeps its table from ever being whole.
            if let Some(pending) = table.filter(|_| !failed).and_then(|t| told.tables.get_mut(&t)) {
                *pending -= 1;
            }
            if let Err(error) = done {
                told.error.get_or_insert(error);
            }
            self.shared.1.notify_all();
            if failed {
                return;
            }
        }
    }

    fn work(&mut self, work: Work) -> Result<(), DatabaseError> {
        match work {
            Work::Session(statements) => {
                self.charset.clear();
                statements.iter().try_for_each(|sql| run(&mut self.conn, sql))
            }
            Work::Batch(Batch { mode, charset, statement, simple_from, line }) => {
                // Letters of four bytes would cut a column of three off; converted, only the letter is lost, and the server says so.
                let long = || mode.short_letters && statement.bytes().any(|b| b >= 0xF0);
                let bytes = mode.bytes && !long();
                self.speak(if bytes { "binary" } else { &charset })?;
                match (&mode.as_file, simple_from) {
                    (Some(into), Some(from)) if bytes && self.takes_files => {
                        self.send_file(&mode.table, into, statement, from, line)
                    }
                    _ => self.send(&mode.table, &statement, line),
                }
            }
        }
    }

    fn speak(&mut self, charset: &str) -> Result<(), DatabaseError> {
        if self.charset != charset {
            run(&mut self.conn, &format!("SET NAMES {charset}"))?;
            self.charset = charset.into();
        }
        Ok(())
    }

    /// Sends rows as a file.
    fn send_file(
        &mut self,
        table: &str,
        into: &str,
        text: String,
        from: usize,
        line: u64,
    ) -> Result<(), DatabaseError> {
        let file = self.file.clone();
        let held = || file.lock().unwrap_or_else(PoisonError::into_inner);
        *held() = AsFile { text, from };
        let statement = format!("LOAD DATA LOCAL INFILE 'rows' INTO TABLE {into}");
        if let Err(e) = self.send(table, &statement, line) {
            if !is_not_allowed(&e) {
                return Err(e);
            }
            // The server would, but something between it and us does not.
            self.takes_files = false;
            let text = std::mem::take(&mut held().text);
            return self.send(table, &text, line);
        }
        // Where a statement would fail, the server passes over a row that is there twice.
        let told = self.conn.info_str().into_owned();
        if took_all(&told) {
            return Ok(());
        }
        let source = format!("the server did not take all rows: {told}").into();
        Err(DatabaseError::Statement { line, statement, source })
    }

    fn send(&mut self, table: &str, statement: &str, line: u64) -> Result<(), DatabaseError> {
        let mut tries = 1;
        loop {
            match self.conn.query_drop(statement) {
                Ok(()) => break,
                Err(Error::MySqlError(e)) if matches!(e.code, 1205 | 1213) && tries < TRIES => tries += 1,
                Err(e) => return Err(refused(e, line, statement.as_bytes())),
            }
        }
        let findings = u64::from(self.conn.warnings());
        if findings > 0 {
            let told: Vec<(String, u32, String)> = self.conn.query("SHOW WARNINGS").unwrap_or_default();
            // A value for a computed column is computed: nothing is lost.
            let mut first = told.iter().filter(|(_, code, _)| *code != VALUE_IS_COMPUTED);
            if let Some((_, _, text)) = first.next() {
                let count = findings.saturating_sub((told.len() - 1 - first.count()) as u64);
                let mut told = lock(&self.shared);
                told.changed.entry(table.into()).or_insert((0, text.clone())).0 += count;
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_of_which_rows_were_passed_over_is_told() {
        assert!(took_all("Records: 12  Deleted: 0  Skipped: 0  Warnings: 3"));
        assert!(!took_all("Records: 12  Deleted: 0  Skipped: 1  Warnings: 1"));
        assert!(!took_all("Records: 12  Deleted: 0  Skipped: 10  Warnings: 10"));
        assert!(!took_all(""), "nothing was said");
    }
}
