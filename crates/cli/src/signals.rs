//! Signals that ask the program to stop. The first one is handed to the work, which ends where it can do so cleanly and says what is left
//! behind. A second one, or work that does not come to an end, ends the program at once: temporary files are removed all the same.

use crate::error::{CommandError, undo_hint};
use crate::render::text;
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use signal_hook::iterator::Signals;
use std::sync::atomic::{AtomicI32, Ordering::SeqCst};
use std::sync::{Mutex, PoisonError};
use std::time::Duration;
use zporter_core::job::Kind;

/// How long the work may take to come to an end.
const PATIENCE: Duration = Duration::from_secs(10);

/// The run that is going on: its identifier and whose it is; nothing for an undo.
static RUN: Mutex<Option<(String, Option<Kind>)>> = Mutex::new(None);
/// The signal that asked to stop; 0 for none.
static SIGNAL: AtomicI32 = AtomicI32::new(0);

/// Says which run is going on.
pub fn going_on(run: &str, kind: Option<Kind>) {
    *RUN.lock().unwrap_or_else(PoisonError::into_inner) = Some((run.into(), kind));
}

/// Returns the signal by which somebody asked to stop.
pub fn asked_to_stop() -> Option<i32> {
    Some(SIGNAL.load(SeqCst)).filter(|signal| *signal != 0)
}

/// What is said when a run was stopped: what is left behind, and how to go on or back.
pub fn stopped(signal: i32) -> CommandError {
    let name = signal_hook::low_level::signal_name(signal).unwrap_or("a signal");
    let run = RUN.lock().unwrap_or_else(PoisonError::into_inner).clone();
    let mut error = CommandError::usage(format!("by {name}"));
    error.stopped = Some(signal);
    error.run = run.as_ref().map(|(run, _)| run.clone());
    match run {
        None => error.hint("nothing was changed; run the command again"),
        Some((run, None)) => error.hint(format!("{run} was not finished; the same command goes on")),
        Some((_, Some(Kind::Pack | Kind::DatabaseDump))) => {
            error.hint("nothing is left of the file that was being written; run the command again")
        }
        Some((run, Some(kind))) => {
            let error = error.hint(format!("what was begun is recorded; {}", undo_hint(&run)));
            match kind {
                Kind::DatabaseLoad => {
                    error.hint("or run the same command again: it goes on where this one stopped")
                }
                _ => error,
            }
        }
    }
}

/// Listens for signals, on a thread of its own.
pub fn listen() {
    let Ok(mut signals) = Signals::new([SIGINT, SIGTERM, SIGHUP]) else { return };
    // Where no thread can be started, a signal ends the program as the system does it.
    let _ = std::thread::Builder::new().spawn(move || {
        let Some(signal) = signals.forever().next() else { return };
        SIGNAL.store(signal, SeqCst);
        let began = std::time::Instant::now();
        while began.elapsed() < PATIENCE && signals.pending().next().is_none() {
            std::thread::sleep(Duration::from_millis(50));
        }
        zporter_core::spool::end();
        text::error(&stopped(signal));
        // The shell's own number for an end by a signal.
        std::process::exit(128 + signal);
    });
}
