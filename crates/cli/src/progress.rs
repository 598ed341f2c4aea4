//! Draws events: a bar with rate and estimate while a terminal watches. What is found on the way is kept until the end, where it is told
//! with the result or with the error.

use crate::render::Style;
use crate::signals;
use indicatif::{ProgressBar, ProgressStyle};
use std::io::IsTerminal;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};
use zporter_core::event::{Event, Watch};
use zporter_core::finding::Finding;

/// What was found so far.
static FOUND: Mutex<Vec<Finding>> = Mutex::new(Vec::new());

/// Steps that are done, and how long each took.
static TIMES: Mutex<Vec<(String, Duration)>> = Mutex::new(Vec::new());

/// Returns how long each step took so far; a step that came more than once is one.
pub fn times() -> Vec<(String, Duration)> {
    let mut out: Vec<(String, Duration)> = Vec::new();
    for (step, took) in TIMES.lock().unwrap_or_else(PoisonError::into_inner).iter() {
        match out.iter_mut().find(|(known, _)| known == step) {
            Some((_, all)) => *all += *took,
            None => out.push((step.clone(), *took)),
        }
    }
    out
}

/// Returns what was found so far: of a command that failed nothing else tells it.
pub fn found() -> Vec<Finding> {
    std::mem::take(&mut *FOUND.lock().unwrap_or_else(PoisonError::into_inner))
}

/// The event sink of the command line.
pub struct Progress {
    draws: bool,
    bar: Mutex<Option<ProgressBar>>,
    step: Mutex<Option<(String, Instant)>>,
}

impl Progress {
    /// Makes a sink that draws only on a terminal.
    pub fn new(style: Style) -> Self {
        Progress {
            draws: !style.quiet && std::io::stderr().is_terminal(),
            bar: Mutex::new(None),
            step: Mutex::new(None),
        }
    }

    /// Takes the time of the step before, and of the next one from now on.
    fn began(&self, step: Option<&str>) {
        let next = step.map(|step| (step.to_string(), Instant::now()));
        let before = std::mem::replace(&mut *self.step.lock().unwrap_or_else(PoisonError::into_inner), next);
        if let Some((step, began)) = before {
            TIMES.lock().unwrap_or_else(PoisonError::into_inner).push((step, began.elapsed()));
        }
    }

    fn start(&self, step: &str, total: Option<u64>) -> ProgressBar {
        let bar = match total {
            Some(total) => ProgressBar::new(total),
            None => ProgressBar::new_spinner(),
        };
        let template = match total {
            Some(_) => {
                "{msg:<22} {wide_bar} {bytes:>10} of {total_bytes:<10} {bytes_per_sec:>12}  {eta} left"
            }
            None => "{msg:<22} {spinner} {bytes:>10}",
        };
        if let Ok(style) = ProgressStyle::with_template(template) {
            bar.set_style(style.progress_chars("█▉▊▋▌▍▎▏ "));
        }
        bar.set_message(step.to_string());
        bar.enable_steady_tick(Duration::from_millis(200));
        bar
    }
}

impl Watch for Progress {
    fn event(&self, event: Event<'_>) {
        match &event {
            Event::StepStarted { step, .. } => self.began(Some(step)),
            Event::StepDone => self.began(None),
            _ => (),
        }
        let Ok(mut slot) = self.bar.lock() else { return };
        match event {
            Event::StepStarted { step, total } if self.draws => {
                if let Some(old) = slot.replace(self.start(step, total)) {
                    old.finish_and_clear();
                }
            }
            Event::StepStarted { .. } => {}
            Event::Advanced { bytes } => {
                if let Some(bar) = slot.as_ref() {
                    bar.inc(bytes);
                }
            }
            Event::StepDone => {
                if let Some(bar) = slot.take() {
                    bar.finish_and_clear();
                }
            }
            Event::Finding(found) => {
                FOUND.lock().unwrap_or_else(PoisonError::into_inner).push(found.clone());
            }
        }
    }

    fn cancelled(&self) -> bool {
        signals::asked_to_stop().is_some()
    }
}
