//! Signals that end the program: temporary files are removed, and what stays is said, with the command that goes on or back.

use crate::login::undo_command;
use crate::ui::Ui;
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use signal_hook::iterator::Signals;
use std::sync::{Mutex, PoisonError};

/// The run that is going on: its identifier and its command.
static RUN: Mutex<Option<(String, String)>> = Mutex::new(None);

/// Says which run is going on.
pub fn going_on(run: &str, command: &str) {
    *RUN.lock().unwrap_or_else(PoisonError::into_inner) = Some((run.into(), command.into()));
}

/// Listens for signals, on a thread of its own.
pub fn listen() {
    let Ok(mut signals) = Signals::new([SIGINT, SIGTERM, SIGHUP]) else { return };
    // Where no thread can be started, a signal ends the program as the system does it.
    let _ = std::thread::Builder::new().spawn(move || {
        let Some(signal) = signals.forever().next() else { return };
        zporter_core::spool::end();
        let run = RUN.lock().unwrap_or_else(PoisonError::into_inner).clone();
        let hints = match &run {
            None => vec!["nothing was changed; run the command again".to_string()],
            Some((run, command)) if command == "undo" => {
                vec![format!("{run} was not finished; the same command goes on")]
            }
            Some((_, command)) if command == "pack" || command == "dump" => {
                vec!["nothing is left of the file that was being written; run the command again".into()]
            }
            Some((run, command)) => {
                let mut hints =
                    vec![format!("what was begun is recorded: go back with `{}`", undo_command(run))];
                if command == "load" {
                    hints.push("or run the same command again: it goes on where this one stopped".into());
                }
                hints
            }
        };
        Ui::stopped(signal_hook::low_level::signal_name(signal).unwrap_or("a signal"), &hints);
        // The shell's own number for an end by a signal.
        std::process::exit(128 + signal);
    });
}
