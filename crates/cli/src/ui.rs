//! The one place that prints. Results go to stdout; progress, warnings and errors to stderr.

use crate::error::CommandError;
use crate::format::safe;
use anstyle::{AnsiColor, Style};
use comfy_table::{CellAlignment, ContentArrangement, Table};
use serde::Serialize;
use std::io::Write;
use std::sync::{Mutex, PoisonError};
use zporter_core::event::Warning;

/// How a run talks.
#[derive(Debug, Clone, Copy, Default)]
pub struct Ui {
    /// Only results and errors.
    pub quiet: bool,
    /// One JSON document instead of text.
    pub json: bool,
    /// More detail.
    pub verbose: bool,
}

const HEADING: Style = Style::new().bold();
const DIM: Style = Style::new().dimmed();
const WARN: Style = AnsiColor::Magenta.on_default().bold();
const BAD: Style = AnsiColor::Red.on_default().bold();
const GOOD: Style = AnsiColor::Green.on_default();

/// The system's number of the error with which the output failed.
static FAILED: Mutex<Option<i32>> = Mutex::new(None);

/// Remembers that the output could not be written.
fn noted(written: std::io::Result<()>) {
    if let Err(e) = written {
        // Where the system tells no number, a broken pipe is meant.
        *FAILED.lock().unwrap_or_else(PoisonError::into_inner) = Some(e.raw_os_error().unwrap_or(32));
    }
}

impl Ui {
    /// Prints a line of the result.
    pub fn line(&self, text: impl AsRef<str>) {
        noted(writeln!(anstream::stdout(), "{}", text.as_ref()));
    }

    /// Returns why the output could not be written, if it could not.
    pub fn failed() -> Option<std::io::Error> {
        if crate::closed::output() {
            return Some(std::io::Error::other("standard output was closed when the program began"));
        }
        FAILED.lock().unwrap_or_else(PoisonError::into_inner).map(std::io::Error::from_raw_os_error)
    }

    /// Says that a signal ended the program.
    pub fn stopped(signal: &str, hints: &[String]) {
        let mut out = anstream::stderr();
        let _ = writeln!(out, "\n{BAD}stopped:{BAD:#} by {signal}");
        for hint in hints {
            let _ = writeln!(out, "  {GOOD}next:{GOOD:#} {hint}");
        }
    }

    /// Prints a heading.
    pub fn heading(&self, text: &str) {
        self.line(format!("\n{HEADING}{text}{HEADING:#}"));
    }

    /// Prints a fact: a dimmed label and its value.
    pub fn fact(&self, label: &str, value: impl AsRef<str>) {
        self.line(format!("  {DIM}{label:<14}{DIM:#} {}", safe(value.as_ref())));
    }

    /// Prints that something is good.
    pub fn good(&self, text: &str) {
        self.line(format!("{GOOD}{}{GOOD:#}", safe(text)));
    }

    /// Prints a finding: what, where, cure.
    pub fn finding(&self, what: &str, place: &str, cure: &str) {
        let place = if place.is_empty() { String::new() } else { format!("{}: ", safe(place)) };
        self.line(format!("  {WARN}!{WARN:#} {place}{}", safe(what)));
        if !cure.is_empty() {
            self.line(format!("    {DIM}{}{DIM:#}", safe(cure)));
        }
    }

    /// Prints that something is damaged.
    pub fn bad(&self, text: &str) {
        self.line(format!("{BAD}{}{BAD:#}", safe(text)));
    }

    /// Prints a line of a diff.
    pub fn diff_line(&self, line: &str) {
        let style = match line.as_bytes().first() {
            Some(b'+') => GOOD,
            Some(b'-') => AnsiColor::Red.on_default(),
            _ => Style::new(),
        };
        self.line(format!("  {style}{}{style:#}", safe(&line.replace('\t', "    "))));
    }

    /// Prints a note beside the result.
    pub fn note(&self, text: &str) {
        if !self.quiet {
            let _ = writeln!(anstream::stderr(), "{DIM}{}{DIM:#}", safe(text));
        }
    }

    /// Prints a warning at once.
    pub fn warning(warning: &Warning) {
        let place =
            if warning.place.is_empty() { String::new() } else { format!("{}: ", safe(&warning.place)) };
        let _ = writeln!(anstream::stderr(), "{WARN}warning:{WARN:#} {place}{}", safe(&warning.what));
    }

    /// Prints the JSON document of a result.
    pub fn document(&self, value: &impl Serialize) -> Result<(), CommandError> {
        let text = serde_json::to_string_pretty(value)
            .map_err(|e| CommandError::world("the result has no JSON form", e))?;
        noted(writeln!(std::io::stdout(), "{text}"));
        Ok(())
    }

    /// Prints an error with causes and hints.
    pub fn error(error: &CommandError) {
        let mut out = anstream::stderr();
        let _ = writeln!(out, "{BAD}error:{BAD:#} {}", safe(&error.message));
        for cause in &error.causes {
            let _ = writeln!(out, "  {DIM}because:{DIM:#} {}", safe(cause));
        }
        for hint in &error.hints {
            let _ = writeln!(out, "  {GOOD}next:{GOOD:#} {}", safe(hint));
        }
    }

    /// Prints a table. Columns whose header begins with `>` are aligned to the right.
    pub fn table(&self, header: &[&str], rows: Vec<Vec<String>>) {
        let mut table = Table::new();
        table.load_style(comfy_table::presets::NOTHING).set_content_arrangement(ContentArrangement::Disabled);
        let plain: Vec<String> = header.iter().map(|h| h.trim_start_matches('>').to_string()).collect();
        table.set_header(plain);
        for row in rows {
            table.add_row(row.iter().map(|c| safe(c)).collect::<Vec<_>>());
        }
        for (i, name) in header.iter().enumerate() {
            if let (true, Some(column)) = (name.starts_with('>'), table.column_mut(i)) {
                column.set_cell_alignment(CellAlignment::Right);
            }
        }
        for (i, line) in table.to_string().lines().enumerate() {
            let line = line.trim_end();
            self.line(if i == 0 { format!(" {DIM}{line}{DIM:#}") } else { format!(" {line}") });
        }
    }
}
