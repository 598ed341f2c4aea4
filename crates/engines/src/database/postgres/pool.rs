//! Connections that each work on a thread: a copy's rows are sent while the next ones are read, and large tables and their indexes go
//! over several connections at once, each in a transaction of its own.
//!
//! Invariant: what a connection of the pool commits is noted before and after, with the server's number of the transaction, so that an
//! interrupted load learns later what became of it ("Transaction ID and Snapshot Information Functions", `txid_status`, PostgreSQL 10).

use super::{connect, refused, rows, run, state};
use crate::database::DatabaseError;
use crate::database::checkpoints::Notes;
use crate::database::journal::{Alone, Mark};
use crate::database::loading::Plain;
use crate::place::DatabaseAccess;
use ::postgres::Client;
use ::postgres::error::SqlState;
use std::collections::{BTreeMap, BTreeSet};
use std::io::Write;
use std::ops::Range;
use std::os::unix::fs::FileExt;
use std::sync::mpsc::{Receiver, Sender, SyncSender, channel, sync_channel};
use std::thread::JoinHandle;

/// What every transaction begins with.
pub(super) const BEGIN: &str = "BEGIN; SET LOCAL client_encoding = 'UTF8'; SET LOCAL client_min_messages = warning; SET LOCAL statement_timeout = 0; SET LOCAL check_function_bodies = false";

/// Rows of a copy are passed on when so many bytes have come together.
pub(super) const BLOCK: usize = 1 << 20;

/// Blocks of rows that wait for a connection.
const WAITING: usize = 2;

/// Rows of a copy in the dump's file.
pub(super) struct Region {
    /// File.
    pub(super) plain: Plain,
    /// Where in it they lie.
    pub(super) span: Range<u64>,
    /// How many rows the table holds then.
    pub(super) rows: u64,
    /// How many of its first bytes counted as sent when they were read.
    pub(super) counted: usize,
}

impl Region {
    /// Sends everything to the server. Returns how many rows the table holds then.
    fn copy(&self, client: &mut Client, head: &str, line: u64) -> Result<u64, DatabaseError> {
        let (mut at, mut counted) = (self.span.start, self.counted);
        let mut block = vec![0; BLOCK];
        copy_in(client, head, line, |send| {
            while at < self.span.end {
                let wanted = usize::try_from(self.span.end - at).unwrap_or(BLOCK).min(BLOCK);
                self.plain.file.read_exact_at(&mut block[..wanted], at)?;
                send(&block[..wanted])?;
                let before = counted.min(wanted);
                counted -= before;
                self.plain.meter.sent(wanted - before);
                at += wanted as u64;
            }
            Ok(self.rows)
        })
    }
}

/// Copies what `give` sends. What it fails with for another reason than the server's leaves the copy without an end, and so undone.
pub(super) fn copy_in<T>(
    client: &mut Client,
    head: &str,
    line: u64,
    give: impl FnOnce(&mut dyn FnMut(&[u8]) -> std::io::Result<()>) -> std::io::Result<T>,
) -> Result<T, DatabaseError> {
    let wrong = |e| refused(e, line, head.as_bytes());
    let mut writer = client.copy_in(head).map_err(wrong)?;
    let mut broke = false;
    let given = give(&mut |bytes| {
        let sent = writer.write_all(bytes);
        broke |= sent.is_err();
        sent
    });
    match given {
        Ok(given) => writer.finish().map_err(wrong).map(|_| given),
        // Why the server takes no more, the end of the copy tells.
        Err(e) if broke => match writer.finish() {
            Ok(_) => Err(DatabaseError::Lost(Box::new(e))),
            Err(told) => Err(wrong(told)),
        },
        Err(e) => Err(DatabaseError::Io(e)),
    }
}

/// What a copy is told.
enum Block {
    Rows(Vec<u8>),
    /// All rows were handed over: so many are in the table then.
    End(u64),
}

/// A copy that takes place on another thread.
pub(super) struct Copying {
    blocks: SyncSender<Block>,
    emptied: Receiver<Vec<u8>>,
}

/// Where the blocks of a copy come from.
struct Blocks {
    blocks: Receiver<Block>,
    emptied: Sender<Vec<u8>>,
}

fn blocks() -> (Copying, Blocks) {
    let (way, taken) = sync_channel(WAITING);
    let (back, emptied) = channel();
    (Copying { blocks: way, emptied }, Blocks { blocks: taken, emptied: back })
}

impl Copying {
    /// Hands a block over, which becomes an empty one. Returns false if the copy has failed: its end tells why.
    pub(super) fn rows(&self, block: &mut Vec<u8>) -> bool {
        let mut next = self.emptied.try_recv().unwrap_or_default();
        next.clear();
        self.blocks.send(Block::Rows(std::mem::replace(block, next))).is_ok()
    }

    /// Says that all rows were handed over, and how many the table holds then.
    pub(super) fn end(self, rows: u64) {
        // A copy that has failed needs no end.
        let _ = self.blocks.send(Block::End(rows));
    }
}

impl Blocks {
    /// Sends everything to the server. Returns how many rows the table holds then.
    fn copy(&self, client: &mut Client, head: &str, line: u64) -> Result<u64, DatabaseError> {
        copy_in(client, head, line, |send| {
            loop {
                match self.blocks.recv() {
                    Ok(Block::Rows(block)) => {
                        send(&block)?;
                        // Nobody needs the memory any more when the last block is on its way.
                        let _ = self.emptied.send(block);
                    }
                    Ok(Block::End(rows)) => return Ok(rows),
                    Err(_) => return Err(std::io::ErrorKind::BrokenPipe.into()),
                }
            }
        })
    }
}

/// The thread of a copy that has the loader's own connection.
pub(super) type Beside = JoinHandle<(Client, Result<u64, DatabaseError>)>;

/// Copies over the connection at hand, which comes back from the thread at the end.
pub(super) fn copy_beside(
    mut client: Client,
    head: String,
    line: u64,
) -> Result<(Copying, Beside), DatabaseError> {
    let (copying, blocks) = blocks();
    let thread = crate::threads::start(move || {
        let done = blocks.copy(&mut client, &head, line);
        (client, done)
    })?;
    Ok((copying, thread))
}

/// Returns the server's number of the transaction at hand.
pub(super) fn transaction(client: &mut Client) -> Result<i64, DatabaseError> {
    let found = rows(client, "SELECT txid_current()", &[])?;
    Ok(found.first().map(|r| r.get(0)).unwrap_or_default())
}

/// Says whether a transaction of an earlier connection was committed, if the server knows it yet. One that is still at work is waited for.
/// A server that crashed may have forgotten the number and give it to another: who relies on the answer looks for what the transaction made.
pub(super) fn was_committed(client: &mut Client, transaction: i64) -> Result<Option<bool>, DatabaseError> {
    for _ in 0..1200 {
        let found = match rows(client, "SELECT txid_status($1)", &[&transaction]) {
            // A number that lies in the future was forgotten in a crash, with all that it did.
            Err(e) if state(&e) == Some(&SqlState::INVALID_PARAMETER_VALUE) => return Ok(Some(false)),
            found => found?,
        };
        match found.first().and_then(|r| r.get::<_, Option<String>>(0)).as_deref() {
            Some("in progress") => std::thread::sleep(std::time::Duration::from_millis(50)),
            state => return Ok(state.map(|s| s == "committed")),
        }
    }
    let what =
        "the server is still at work for the interrupted load; run the command again when it is through";
    Err(DatabaseError::Io(std::io::Error::other(what)))
}

/// What a connection carries out. Returns how many rows the table holds then, if it brought any.
type Work = Box<dyn FnOnce(&mut Client) -> Result<Option<u64>, DatabaseError> + Send>;

/// Work that waits for a connection.
struct Waiting {
    alone: Alone,
    /// How long it takes, compared with others.
    weight: u64,
    work: Work,
}

/// What a connection tells when it is done.
struct Told {
    statement: u64,
    client: Client,
    done: Result<(), DatabaseError>,
}

struct Running {
    table: String,
    thread: JoinHandle<()>,
}

/// The connections, and what they have in hand.
pub(super) struct Pool {
    access: DatabaseAccess,
    /// How many there may be.
    most: usize,
    notes: Notes,
    /// Settings of the dump, which every connection gets.
    session: Vec<String>,
    idle: Vec<Client>,
    /// What is under way, by the number of its statement.
    running: BTreeMap<u64, Running>,
    waiting: Vec<Waiting>,
    tell: Sender<Told>,
    told: Receiver<Told>,
}

impl Pool {
    /// So many connections, which are opened when they are needed.
    pub(super) fn new(access: &DatabaseAccess, most: usize, notes: Notes) -> Self {
        let (tell, told) = channel();
        Pool {
            access: access.clone(),
            most,
            notes,
            session: Vec::new(),
            idle: Vec::new(),
            running: BTreeMap::new(),
            waiting: Vec::new(),
            tell,
            told,
        }
    }

    /// Says whether there is a connection for further work, now or later.
    pub(super) fn is_there(&mut self) -> Result<bool, DatabaseError> {
        if self.running.is_empty() {
            self.open_one()?;
        }
        Ok(self.most > 0)
    }

    /// Statements that are in hand.
    pub(super) fn open(&self) -> BTreeSet<u64> {
        self.waiting.iter().map(|w| w.alone.statement).chain(self.running.keys().copied()).collect()
    }

    /// Says whether nothing is in hand.
    pub(super) fn rests(&self) -> bool {
        self.running.is_empty() && self.waiting.is_empty()
    }

    /// Says whether something is in hand that concerns a table.
    pub(super) fn has(&self, table: &str) -> bool {
        self.running.values().any(|r| r.table == table) || self.waiting.iter().any(|w| w.alone.table == table)
    }

    /// Gives every connection a setting, once nothing is in hand.
    pub(super) fn set(&mut self, sql: &str) -> Result<(), DatabaseError> {
        self.settle()?;
        self.session.push(sql.into());
        self.idle.iter_mut().try_for_each(|client| run(client, sql))
    }

    /// Waits until nothing is in hand.
    pub(super) fn settle(&mut self) -> Result<(), DatabaseError> {
        while !self.rests() {
            self.wait()?;
        }
        Ok(())
    }

    /// Copies rows from the dump's file when a connection is free.
    pub(super) fn copy_region(
        &mut self,
        alone: Alone,
        head: String,
        line: u64,
        region: Region,
    ) -> Result<(), DatabaseError> {
        let weight = region.span.end - region.span.start;
        let work = move |client: &mut Client| region.copy(client, &head, line).map(Some);
        self.hand(Waiting { alone, weight, work: Box::new(work) })
    }

    /// Copies rows that are handed over, once a connection is free.
    pub(super) fn copy(&mut self, alone: Alone, head: String, line: u64) -> Result<Copying, DatabaseError> {
        let (copying, blocks) = blocks();
        let statement = alone.statement;
        let work = move |client: &mut Client| blocks.copy(client, &head, line).map(Some);
        self.hand(Waiting { alone, weight: u64::MAX, work: Box::new(work) })?;
        while !self.running.contains_key(&statement) {
            self.wait()?;
        }
        Ok(copying)
    }

    /// Runs a statement about a table of so many rows when a connection is free.
    pub(super) fn run(
        &mut self,
        alone: Alone,
        sql: String,
        line: u64,
        rows: u64,
    ) -> Result<(), DatabaseError> {
        let work = move |client: &mut Client| {
            client.execute(sql.as_str(), &[]).map_err(|e| refused(e, line, sql.as_bytes()))?;
            Ok(None)
        };
        self.hand(Waiting { alone, weight: rows, work: Box::new(work) })
    }

    fn hand(&mut self, waiting: Waiting) -> Result<(), DatabaseError> {
        self.waiting.push(waiting);
        while let Ok(told) = self.told.try_recv() {
            self.heard(told)?;
        }
        self.start()
    }

    /// Waits until a connection is done with something, and gives it something else.
    fn wait(&mut self) -> Result<(), DatabaseError> {
        let told = self.told.recv().map_err(|_| stopped())?;
        self.heard(told)?;
        self.start()
    }

    fn heard(&mut self, Told { statement, client, done }: Told) -> Result<(), DatabaseError> {
        if let Some(Running { thread, .. }) = self.running.remove(&statement) {
            thread.join().map_err(|_| stopped())?;
        }
        done?;
        self.idle.push(client);
        Ok(())
    }

    /// Opens a connection if none is idle and there may be one.
    fn open_one(&mut self) -> Result<(), DatabaseError> {
        if self.idle.is_empty() && self.running.len() < self.most {
            match connect(&self.access) {
                Ok(mut client) => {
                    self.session.iter().try_for_each(|sql| run(&mut client, sql))?;
                    self.idle.push(client);
                }
                // A server that allows no further one is served by those that there are.
                Err(_) => self.most = self.running.len(),
            }
        }
        Ok(())
    }

    /// Begins with what waits, the longest first, as far as there are connections.
    fn start(&mut self) -> Result<(), DatabaseError> {
        while !self.waiting.is_empty() {
            self.open_one()?;
            let longest = (0..self.waiting.len()).max_by_key(|at| self.waiting[*at].weight);
            let (Some(client), Some(longest)) = (self.idle.pop(), longest) else { return Ok(()) };
            let Waiting { alone, work, .. } = self.waiting.remove(longest);
            let (statement, table) = (alone.statement, alone.table.clone());
            let (tell, notes) = (self.tell.clone(), self.notes.clone());
            let thread = crate::threads::start(move || {
                let mut client = client;
                let done = carry_out(&mut client, alone, work, &notes);
                // Nobody listens any more to a load that has failed.
                let _ = tell.send(Told { statement, client, done });
            })?;
            self.running.insert(statement, Running { table, thread });
        }
        Ok(())
    }
}

fn stopped() -> DatabaseError {
    DatabaseError::Io(std::io::Error::other("a loading thread stopped"))
}

/// Carries work out in a transaction of its own.
fn carry_out(client: &mut Client, mut alone: Alone, work: Work, notes: &Notes) -> Result<(), DatabaseError> {
    run(client, BEGIN)?;
    alone.rows = work(client)?;
    alone.transaction = transaction(client)?;
    notes.mark(Mark::Sent(alone.clone()))?;
    run(client, "COMMIT")?;
    notes.mark(Mark::Arrived(alone))
}

impl Drop for Pool {
    fn drop(&mut self) {
        for (_, Running { thread, .. }) in std::mem::take(&mut self.running) {
            // What it did is noted; a load that is given up asks no more.
            let _ = thread.join();
        }
    }
}
