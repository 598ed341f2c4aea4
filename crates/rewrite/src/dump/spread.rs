//! Runs a rewrite over a whole dump, on one core or spread over several.
//!
//! Every thread does the same: take the next chunk (reading and locating, one thread at a time), rewrite it (all at once), hand it in.
//! Chunks are written in their order by whichever thread hands in the next one due; a thread that is far ahead waits.
//! Invariants: the output and the tally do not depend on the number of threads; at most two chunks per thread are in memory.

use super::chunk::Chunk;
use super::rewrite::{Worker, line_end};
use super::rules::{Rewritten, Rules};
use super::stream::{DumpError, Ending, Source, WINDOW};
use std::collections::BTreeMap;
use std::io::{Read, Write};
use std::sync::{Condvar, Mutex, MutexGuard, PoisonError};

/// Chunks that may wait for their turn, per thread.
const AHEAD: usize = 2;

/// Bytes of a chunk that is not used again.
const GIANT: usize = 8 * WINDOW;

/// Threads that are of use: behind them the one that reads is the bottleneck.
const MOST_THREADS: usize = 8;

/// Rewrites a dump on the calling thread.
pub fn rewrite<R: Read, W: Write>(
    mut source: Source<R>,
    rules: &Rules<'_>,
    mut out: W,
) -> Result<(W, Rewritten, Ending), DumpError> {
    let mut worker = Worker::new(rules);
    let mut chunk = Chunk::default();
    let mut done = Rewritten::default();
    let mut left_out = false;
    while source.next(&mut chunk)? {
        worker.chunk(&chunk);
        out.write_all(behind(left_out, worker.bytes(&chunk))).map_err(DumpError::Write)?;
        let part = worker.take_done();
        left_out = part.ends_left_out;
        done.add(part, rules.samples);
    }
    done.tally.settle();
    Ok((out, done, source.ending()))
}

/// A chunk's bytes without the end of a line that belongs to a statement left out before it.
fn behind(left_out: bool, bytes: &[u8]) -> &[u8] {
    &bytes[if left_out { line_end(bytes) } else { 0 }..]
}

/// A chunk that is done, with its rewritten bytes if they differ.
struct Handed {
    chunk: Chunk,
    bytes: Vec<u8>,
    differs: bool,
    done: Rewritten,
}

/// What threads share on the way out.
struct Way<W> {
    out: Option<W>,
    next: u64,
    waiting: BTreeMap<u64, Handed>,
    /// Memory to be used again.
    free: Vec<(Chunk, Vec<u8>)>,
    done: Rewritten,
    /// Whether what was written last ended with a statement that was left out.
    left_out: bool,
    error: Option<DumpError>,
}

/// What threads share on the way in.
struct Intake<R> {
    source: Source<R>,
    number: u64,
    ended: bool,
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    // A thread that panicked takes the process down by the scope's join; the state is not used after that.
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Rewrites a dump on so many threads.
pub fn rewrite_on<R: Read + Send, W: Write + Send>(
    threads: usize,
    source: Source<R>,
    rules: &Rules<'_>,
    out: W,
) -> Result<(W, Rewritten, Ending), DumpError> {
    let threads = threads.min(MOST_THREADS);
    if threads < 2 {
        return rewrite(source, rules, out);
    }
    let intake = Mutex::new(Intake { source, number: 0, ended: false });
    let way = Mutex::new(Way {
        out: Some(out),
        next: 0,
        waiting: BTreeMap::new(),
        free: Vec::new(),
        done: Rewritten::default(),
        left_out: false,
        error: None,
    });
    let turn = Condvar::new();
    std::thread::scope(|scope| {
        let work = || {
            let fail = |error: DumpError| {
                lock(&way).error.get_or_insert(error);
                turn.notify_all();
            };
            let mut worker = Worker::new(rules);
            loop {
                let (mut chunk, mut bytes) = {
                    let mut way = lock(&way);
                    while way.waiting.len() >= AHEAD * threads && way.error.is_none() {
                        way = turn.wait(way).unwrap_or_else(PoisonError::into_inner);
                    }
                    if way.error.is_some() {
                        return;
                    }
                    way.free.pop().unwrap_or_default()
                };
                let number = {
                    let mut intake = lock(&intake);
                    if intake.ended {
                        return;
                    }
                    match intake.source.next(&mut chunk) {
                        Ok(true) => {}
                        Ok(false) => {
                            intake.ended = true;
                            return;
                        }
                        Err(error) => {
                            intake.ended = true;
                            return fail(error);
                        }
                    }
                    intake.number += 1;
                    intake.number - 1
                };
                worker.chunk(&chunk);
                let differs = worker.exchange(&mut bytes);
                let handed = Handed { chunk, bytes, differs, done: worker.take_done() };
                if let Err(error) = hand_in(&way, &turn, rules.samples, number, handed) {
                    return fail(error);
                }
            }
        };
        // This thread works as well; where no other can be started, alone.
        for _ in 1..threads {
            let _ = crate::threads::start_in(scope, work);
        }
        work();
    });
    let way = way.into_inner().unwrap_or_else(PoisonError::into_inner);
    let intake = intake.into_inner().unwrap_or_else(PoisonError::into_inner);
    match (way.error, way.out) {
        (Some(error), _) => Err(error),
        (None, Some(out)) => {
            let mut done = way.done;
            done.tally.settle();
            Ok((out, done, intake.source.ending()))
        }
        (None, None) => Err(DumpError::Write(std::io::Error::other("a writing thread stopped"))),
    }
}

/// Hands in a chunk, and writes what is due.
fn hand_in<W: Write>(
    way: &Mutex<Way<W>>,
    turn: &Condvar,
    samples: usize,
    number: u64,
    handed: Handed,
) -> Result<(), DumpError> {
    let mut held = lock(way);
    held.waiting.insert(number, handed);
    // Whoever holds the output writes all that is due; the others go on.
    let Some(mut out) = held.out.take() else { return Ok(()) };
    loop {
        let due = held.next;
        let Some(Handed { chunk, bytes, differs, done }) = held.waiting.remove(&due) else { break };
        held.next += 1;
        let left_out = std::mem::replace(&mut held.left_out, done.ends_left_out);
        held.done.add(done, samples);
        drop(held);
        let rewritten = behind(left_out, if differs { &bytes } else { chunk.bytes() });
        let written = out.write_all(rewritten).map_err(DumpError::Write);
        held = lock(way);
        // Memory that one giant row needed is given back.
        if chunk.bytes().len().max(bytes.capacity()) <= GIANT {
            held.free.push((chunk, bytes));
        }
        turn.notify_all();
        if let Err(error) = written {
            held.out = Some(out);
            return Err(error);
        }
    }
    held.out = Some(out);
    Ok(())
}
