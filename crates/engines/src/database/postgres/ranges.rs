//! Reads one large table over several connections that share a snapshot: each takes every so-many-th range of the table's pages, and what
//! they read is handed on in the order of the pages, as one connection would have read it.
//!
//! Source: PostgreSQL manual, "Snapshot Synchronization Functions" and, for ranges of pages, "System Columns" (`ctid`). Memory: a few
//! blocks of text for each connection.

use super::{quoted, refused, settings, tls};
use crate::database::DatabaseError;
use crate::place::DatabaseAccess;
use futures_util::TryStreamExt;
use std::pin::pin;
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use tokio::runtime::Runtime;
use tokio_postgres::Client;

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

/// A connection that reads, and what drives it: each row comes as a message of its own, and entering a runtime for every one of them, as the
/// blocking client does, costs more than the message.
struct Reader {
    runtime: Runtime,
    client: Client,
}

impl Reader {
    fn open(access: &DatabaseAccess, session: &str) -> Option<Self> {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().ok()?;
        let client = runtime.block_on(async {
            let (client, connection) = settings(access).0.connect(tls(access)).await.ok()?;
            // Its end shows in the answers that stay away.
            tokio::spawn(async { drop(connection.await) });
            client.batch_execute(session).await.ok()?;
            Some(client)
        })?;
        Some(Reader { runtime, client })
    }
}

/// Further connections that see what the first one sees.
pub(super) struct Readers(Vec<Reader>);

impl Readers {
    /// Connects as often as the machine has cores. Where the server grants no further connection there are fewer, or none.
    pub(super) fn beside(access: &DatabaseAccess, snapshot: &str) -> Self {
        let wanted = std::thread::available_parallelism().map_or(2, usize::from).clamp(2, MOST);
        let session = format!(
            "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY; SET TRANSACTION SNAPSHOT {}; {READING}",
            quoted(snapshot)
        );
        Readers((0..wanted).map_while(|_| Reader::open(access, &session)).collect())
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
                .map(|(index, reader)| {
                    let (tell, told) = sync_channel(WAITING);
                    crate::threads::start_in(scope, move || {
                        let ranges = (0..).map(|n| PAGES * (n * count as u64 + index as u64));
                        for from in ranges.take_while(|from| *from < pages) {
                            // Rows that came behind the last page since are none of this snapshot.
                            let sql = format!(
                                "COPY ({question} WHERE ctid >= '({from},0)' AND ctid < '({},0)') TO STDOUT",
                                from + PAGES
                            );
                            if range(reader, &sql, &tell).is_none() {
                                break;
                            }
                        }
                    })?;
                    Ok(told)
                })
                .collect::<std::io::Result<_>>()?;
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
fn range(Reader { runtime, client }: &mut Reader, sql: &str, tell: &SyncSender<Told>) -> Option<()> {
    let read = async {
        let rows = client.copy_out(sql).await.map_err(|e| refused(e, 0, sql.as_bytes()))?;
        let mut rows = pin!(rows);
        let room = || Vec::with_capacity(PIECE + PIECE / 8);
        let mut piece = room();
        while let Some(row) = rows.try_next().await.map_err(|e| DatabaseError::Lost(Box::new(e)))? {
            piece.extend_from_slice(&row);
            if piece.len() >= PIECE && tell.send(Ok(Some(std::mem::replace(&mut piece, room())))).is_err() {
                return Ok(None);
            }
        }
        if !piece.is_empty() && tell.send(Ok(Some(piece))).is_err() {
            return Ok(None);
        }
        Ok(tell.send(Ok(None)).ok())
    };
    match runtime.block_on(read) {
        Ok(goes_on) => goes_on,
        Err(e) => {
            let _ = tell.send(Err(e));
            None
        }
    }
}
