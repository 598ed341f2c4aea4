//! `zporter logbook`: what was done, step by step.

use crate::context;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::format::{bytes, cut, safe};
use crate::render::Style;
use crate::report::{Block, Report};
use clap::Args;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::{Path, PathBuf};
use zporter_core::change_log::{self, FileChange};
use zporter_core::finding::{Code, Finding};
use zporter_core::logbook::{self, Line, Summary};

/// Show past runs, or the steps of one
#[derive(Debug, Args)]
pub struct LogbookArgs {
    /// Run to show; `last` is the newest
    run: Option<String>,
    /// List the files that the run made and replaced
    #[arg(long, requires = "run")]
    files: bool,
}

/// One run for programs.
#[derive(Debug, Serialize, JsonSchema)]
pub struct RunResult {
    /// Its steps.
    pub steps: Vec<Line>,
    /// Files that it made or replaced, if that was asked for.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub files: Option<Vec<FileOfRun>>,
}

/// A file that a run made or replaced.
#[derive(Debug, Serialize, JsonSchema)]
pub struct FileOfRun {
    /// `made`, `replaced` or `folder`.
    pub what: &'static str,
    /// Path.
    #[serde(with = "zporter_core::path_text")]
    #[schemars(with = "PathBuf")]
    pub path: PathBuf,
}

/// The end of a path, where the whole is too long.
fn cut_front(text: &str, most: usize) -> String {
    let count = text.chars().count();
    if count <= most {
        return text.to_string();
    }
    format!("…{}", text.chars().skip(count - most + 1).collect::<String>())
}

/// Runs the command.
pub fn run(style: Style, args: &LogbookArgs) -> Result<Report, CommandError> {
    let folder = context::logbook_folder()?;
    let runs = logbook::runs(&folder);
    let Some(named) = &args.run else { return list(style, &folder, &runs) };
    let newest = runs.first().filter(|_| named == "last").map(|r| r.run.clone());
    let run = newest.unwrap_or_else(|| named.clone());
    let lines = logbook::read(&folder, &run).ok_or_else(|| {
        CommandError::usage(format!("no run {run:?} is recorded in {}", folder.display()))
            .hint("`zporter logbook` lists all runs")
    })?;
    one(style, args.files, &folder, &run, lines, runs.iter().find(|r| r.run == run))
}

fn list(style: Style, folder: &Path, runs: &[Summary]) -> Result<Report, CommandError> {
    let verdict = match runs.len() {
        0 => format!("No run is recorded in {}", folder.display()),
        n => format!("{} in {}", crate::format::count(n as u64, "run"), folder.display()),
    };
    let mut report = Report::new("logbook", verdict, &runs)?;
    report.exit = Some(Exit::Done);
    let most = if style.verbose { usize::MAX } else { 40 };
    let place = |p: &Option<String>| cut_front(&safe(p.as_deref().unwrap_or_default()), most);
    let rows = runs.iter().map(|r| {
        let way = match (&r.from, &r.to) {
            (Some(from), Some(to)) if from != to => {
                format!("{} → {}", place(&Some(from.clone())), place(&Some(to.clone())))
            }
            (from, to) => place(if from.is_some() { from } else { to }),
        };
        let size = r.size.map(bytes).unwrap_or_default();
        vec![r.run.clone(), context::local(&r.began), r.state.clone(), size, way]
    });
    report.section("", Block::folded(&["run", "began", "state", ">size", "what"], 25, "run", rows));
    let open = |r: &&Summary| r.state == "failed" || r.state == "unfinished";
    for failed in runs.iter().filter(open).take(if style.verbose { usize::MAX } else { 3 }) {
        let what = failed.error.clone().unwrap_or_else(|| "was interrupted".into());
        let cure = match failed.command.as_str() {
            "restore" | "clone" | "load" => format!("zporter undo {}", failed.run),
            _ => String::new(),
        };
        report.findings.push(Finding::new(Code::RunUnfinished, what, &failed.run, cure));
    }
    Ok(report)
}

fn one(
    style: Style,
    with_files: bool,
    folder: &Path,
    run: &str,
    lines: Vec<Line>,
    summary: Option<&Summary>,
) -> Result<Report, CommandError> {
    let files = with_files.then(|| {
        let all = change_log::read(&logbook::kept_of(folder, run)).into_iter();
        let file = |change: FileChange| match change {
            FileChange::File(path) => Some(FileOfRun { what: "made", path }),
            FileChange::Kept(path, _) => Some(FileOfRun { what: "replaced", path }),
            FileChange::Folder(path) => Some(FileOfRun { what: "folder", path }),
            _ => None,
        };
        all.filter_map(file).collect::<Vec<_>>()
    });
    let state = summary.map_or("recorded", |s| s.state.as_str());
    let result = RunResult { steps: lines, files };
    let mut report = Report::new("logbook", format!("{run}: {state}"), &result)?;
    report.exit = Some(Exit::Done);
    if let Some(error) = summary.and_then(|s| s.error.clone()) {
        report.findings.push(Finding::new(Code::RunUnfinished, error, run, ""));
    }
    let rows = result.steps.iter().map(|l| {
        let detail = if l.detail.is_null() { String::new() } else { l.detail.to_string() };
        let detail = if style.verbose { detail } else { cut(&detail, 90) };
        vec![context::local(&l.at), l.step.name(), detail]
    });
    report.section("", Block::table(&["at", "step", "particulars"], rows));
    let rows = result.files.iter().flatten().map(|f| vec![f.what.to_string(), f.path.display().to_string()]);
    report.section("Files", Block::table(&["", "path"], rows));
    if matches!(summary.map(|s| s.command.as_str()), Some("restore" | "clone" | "load")) {
        report.next.push(format!("to go back: zporter undo {run}"));
    }
    Ok(report)
}
