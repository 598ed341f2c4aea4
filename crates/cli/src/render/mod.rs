//! How reports are drawn. Each renderer is one file that knows nothing of any command.

pub mod json;
pub mod page;
pub mod text;

use crate::error::CommandError;
use crate::exit::Exit;
use crate::report::Report;
use std::time::Duration;

/// How somebody wants to be told.
#[derive(Debug, Clone, Copy, Default)]
pub struct Style {
    /// The verdict and errors alone.
    pub quiet: bool,
    /// One JSON document instead of text.
    pub json: bool,
    /// All detail, nothing folded.
    pub verbose: bool,
}

/// Writes the files that were asked for besides: the JSON document, the page.
pub fn files(report: &Report, took: Duration) -> Result<(), CommandError> {
    let put = |path: &std::path::Path, text: String| {
        zporter_core::tree::write_atomically(&zporter_core::fsx::absolute(path), text.as_bytes())
    };
    if let Some(path) = &report.copy_to {
        put(path, json::document(report, took)?)?;
    }
    if let Some(path) = &report.page_to {
        put(path, page::page(report, took)?)?;
    }
    Ok(())
}

/// Draws a report, and returns the exit code.
pub fn report(style: Style, report: &Report, took: Duration) -> Result<Exit, CommandError> {
    files(report, took)?;
    if style.json {
        text::print(&json::document(report, took)?);
    } else {
        text::report(style, report, took);
    }
    Ok(report.exit())
}
