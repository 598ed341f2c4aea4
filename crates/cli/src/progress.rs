//! Draws events: a bar with rate and estimate while a terminal watches, warnings as they come.

use crate::ui::Ui;
use indicatif::{ProgressBar, ProgressStyle};
use std::io::IsTerminal;
use std::sync::Mutex;
use std::time::Duration;
use zporter_core::event::{Event, Watch};

/// The event sink of the command line.
pub struct Progress {
    draws: bool,
    bar: Mutex<Option<ProgressBar>>,
}

impl Progress {
    /// Makes a sink that draws only on a terminal.
    pub fn new(ui: &Ui) -> Self {
        Progress { draws: !ui.quiet && std::io::stderr().is_terminal(), bar: Mutex::new(None) }
    }

    fn start(&self, step: &str, total: Option<u64>) -> ProgressBar {
        let bar = match total {
            Some(total) => ProgressBar::new(total),
            None => ProgressBar::new_spinner(),
        };
        let template = match total {
            Some(_) => "{msg:<24} {bar:30} {bytes:>11} of {total_bytes:<11} {bytes_per_sec:>12}  {eta} left",
            None => "{msg:<24} {spinner} {bytes:>11}",
        };
        if let Ok(style) = ProgressStyle::with_template(template) {
            bar.set_style(style.progress_chars("=> "));
        }
        bar.set_message(step.to_string());
        bar.enable_steady_tick(Duration::from_millis(200));
        bar
    }
}

impl Watch for Progress {
    fn event(&self, event: Event<'_>) {
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
            Event::Warning(warning) => match slot.as_ref() {
                Some(bar) => bar.suspend(|| Ui::warning(warning)),
                None => Ui::warning(warning),
            },
        }
    }
}
