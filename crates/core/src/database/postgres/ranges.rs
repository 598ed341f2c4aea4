//! Reads one large table over several connections that share a snapshot: each takes every so-many-th range of the table's pages, and what
//! they read is handed on in the order of the pages, as one connection would have read it.
//!
//! Source: PostgreSQL manual, "Snapshot Synchronization Functions" and, for ranges of pages, "System Columns" (`ctid`). Memory: a few
//! blocks of text for each connection.

use super::{connect, quoted, refused, run};
use crate::database::DatabaseError;
use crate::place::DatabaseAccess;
use ::postgres::Client;
use std::io::BufRead;
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};

/// Pages that a connection reads at once.
const PAGES: u64 = 256;

/// Size of the pieces in which text is handed on, in bytes, and how many wait for each connection: more than a range, so that all read on
/// while one is written.
const PIECE: usize = 256 << 10;
const WAITING: usize = 16;

/// Connections that are of use: the server's own work is the bottleneck, a core each.
const MOST: usize = 4;

/// Oldest server that goes to a range of pages without reading those before it, as it numbers itself.
pub(super) const SINCE: i32 = 140_000;

/// Least size of a table for which further connections pay, in pages.
pub(super) const WORTH: u64 = 4 * PAGES;

/// Settings of a session that reads: values are written so that they mean the same everywhere, all rows are read or none.
pub(super) const READING: &str = "SELECT pg_catalog.set_config('search_path', 'pg_catalog', true); \
     SET LOCAL DateStyle = 'ISO'; SET LOCAL IntervalStyle = 'postgres'; SET LOCAL TimeZone = 'UTC'; SET LOCAL extra_float_digits = 1; \
     SET LOCAL bytea_output = 'hex'; SET LOCAL statement_timeout = 0; SET LOCAL client_encoding = 'UTF8'; SET LOCAL row_security = off; \
     SET LOCAL synchronize_seqscans = off";

/// Further connections that see what the first one sees.
pub(super) struct Readers(Vec<Client>);

impl Readers {
    /// Connects as often as the machine has cores. Where the server grants no further connection there are fewer, or none.
    pub(super) fn beside(access: &DatabaseAccess, snapshot: &str) -> Self {
        let wanted = std::thread::available_parallelism().map_or(2, usize::from).clamp(2, MOST);
        let open = || {
            let mut client = connect(access).ok()?;
            let sql = format!(
                "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY; SET TRANSACTION SNAPSHOT {}; {READING}",
                quoted(snapshot)
            );
            run(&mut client, &sql).ok()?;
            Some(client)
        };
        Readers((0..wanted).map_while(|_| open()).collect())
    }

    /// Says whether there are several.
    pub(super) fn pay(&self) -> bool {
        self.0.len() > 1
    }

    /// Reads a table of so many pages. `question` is asked with the borders of each range; `take` gets the text in order, whole rows at a
    /// time.
    pub(super) fn read(
        &mut self,
        question: &str,
        pages: u64,
        take: &mut dyn FnMut(&[u8]) -> Result<(), DatabaseError>,
    ) -> Result<(), DatabaseError> {
        let count = self.0.len();
        std::thread::scope(|scope| {
            let ways: Vec<_> = self
                .0
                .iter_mut()
                .enumerate()
                .map(|(index, client)| {
                    let (tell, told) = sync_channel(WAITING);
                    scope.spawn(move || {
                        let ranges = (0..).map(|n| PAGES * (n * count as u64 + index as u64));
                        for from in ranges.take_while(|from| *from < pages) {
                            // Rows that came behind the last page since are none of this snapshot.
                            let sql = format!(
                                "COPY ({question} WHERE ctid >= '({from},0)' AND ctid < '({},0)') TO STDOUT",
                                from + PAGES
                            );
                            if range(client, &sql, &tell).is_none() {
                                break;
                            }
                        }
                    });
                    told
                })
                .collect();
            let ranges = pages.div_ceil(PAGES) as usize;
            (0..ranges).try_for_each(|range| in_order(&ways[range % count], take))
        })
    }
}

/// A piece of text; nothing at the end of a range.
type Told = Result<Option<Vec<u8>>, DatabaseError>;

/// Hands on one range.
fn in_order(
    way: &Receiver<Told>,
    take: &mut dyn FnMut(&[u8]) -> Result<(), DatabaseError>,
) -> Result<(), DatabaseError> {
    loop {
        match way.recv() {
            Ok(Ok(Some(text))) => take(&text)?,
            Ok(Ok(None)) => return Ok(()),
            Ok(Err(e)) => return Err(e),
            Err(_) => return Err(std::io::Error::other("a thread that read the database stopped").into()),
        }
    }
}

/// Reads one range. Returns nothing when nobody listens any more, or after an error.
fn range(client: &mut Client, sql: &str, tell: &SyncSender<Told>) -> Option<()> {
    let mut read = || -> Result<Option<()>, DatabaseError> {
        let mut reader = client.copy_out(sql).map_err(|e| refused(e, 0, sql.as_bytes()))?;
        let mut piece = Vec::with_capacity(PIECE + PIECE / 8);
        loop {
            let text = reader.fill_buf().map_err(|e| DatabaseError::Lost(Box::new(e)))?;
            let len = text.len();
            piece.extend_from_slice(text);
            reader.consume(len);
            if piece.len() >= PIECE || (len == 0 && !piece.is_empty()) {
                let full = std::mem::replace(&mut piece, Vec::with_capacity(PIECE + PIECE / 8));
                if tell.send(Ok(Some(full))).is_err() {
                    return Ok(None);
                }
            }
            if len == 0 {
                return Ok(tell.send(Ok(None)).ok());
            }
        }
    };
    match read() {
        Ok(goes_on) => goes_on,
        Err(e) => {
            let _ = tell.send(Err(e));
            None
        }
    }
}
