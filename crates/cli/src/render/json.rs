//! The JSON document of a report or an error, the same frame for every command. Its schema is in `docs/schemas`.

use crate::error::CommandError;
use crate::report::Report;
use schemars::JsonSchema;
use serde::Serialize;
use std::time::Duration;
use zporter_core::finding::Finding;

/// What every command prints with `--json`.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Document<T> {
    /// The command.
    pub command: String,
    /// Whether nothing was done, only shown.
    pub dry_run: bool,
    /// The run in the logbook, for commands that are recorded.
    pub run: Option<String>,
    /// The exit code.
    pub exit: u8,
    /// What came of it, in one line.
    pub verdict: String,
    /// Seconds it took.
    pub seconds: f64,
    /// Findings that somebody has to look at.
    pub needs_attention: usize,
    /// What a person should know.
    pub findings: Vec<Finding>,
    /// Commands that go on or back.
    pub next: Vec<String>,
    /// The result; nothing if there was an error.
    pub result: Option<T>,
    /// The error, if there was one.
    pub error: Option<ErrorDocument>,
}

/// An error.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ErrorDocument {
    /// `usage`, `refused`, `world`, `damaged` or `stopped`.
    pub kind: &'static str,
    /// What happened.
    pub message: String,
    /// Why, outermost first.
    pub causes: Vec<String>,
    /// What to do next.
    pub hints: Vec<String>,
}

/// Writes the document of a report.
pub fn document(report: &Report, took: Duration) -> Result<String, CommandError> {
    spelled(&Document {
        command: report.command.to_string(),
        dry_run: report.dry_run,
        run: report.run.clone(),
        exit: report.exit() as u8,
        verdict: report.verdict.clone(),
        seconds: (took.as_secs_f64() * 1000.0).round() / 1000.0,
        needs_attention: report.findings.iter().filter(|f| f.needs_attention()).count(),
        findings: report.findings.clone(),
        next: report.next.clone(),
        result: Some(report.result.clone()),
        error: None,
    })
}

/// Writes the document of an error.
pub fn error(command: &str, error: &CommandError, took: Duration) -> Result<String, CommandError> {
    spelled(&Document::<()> {
        command: command.to_string(),
        dry_run: false,
        run: error.run.clone(),
        exit: error.code(),
        verdict: error.message.clone(),
        seconds: (took.as_secs_f64() * 1000.0).round() / 1000.0,
        needs_attention: 0,
        findings: Vec::new(),
        next: Vec::new(),
        result: None,
        error: Some(ErrorDocument {
            kind: error.kind(),
            message: error.message.clone(),
            causes: error.causes.clone(),
            hints: error.hints.clone(),
        }),
    })
}

fn spelled<T: Serialize>(document: &Document<T>) -> Result<String, CommandError> {
    let text = serde_json::to_string_pretty(document);
    text.map(|t| t + "\n").map_err(|e| CommandError::world("the result has no JSON form", e))
}
