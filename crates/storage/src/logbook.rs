//! The durable record of every run: one JSON line per step, on disk before the step begins.

use crate::fsx::{AtPath, PathError, private_folder, sync_folder};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fs::{self, File};
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// A step of a run. The names in the record never change their meaning: going back and going on rely on them.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum StepKind {
    /// The run begins: its command, and what it works on.
    Begin,
    /// An archive is written.
    WriteArchive,
    /// Files are unpacked or copied into a target.
    UnpackFiles,
    /// The rewritten dump is written.
    WriteDump,
    /// What is in a database makes room; a dump of it is kept.
    ReplaceDatabase,
    /// A database is filled.
    LoadDatabase,
    /// One part of the database is taken.
    DatabasePart,
    /// A table is about to be made or filled.
    TableBegun,
    /// All rows of a table have arrived.
    TableWhole,
    /// A stage of a load is about to be committed.
    StageClosing,
    /// It is committed.
    StageClosed,
    /// A statement with a transaction of its own is about to be committed.
    StatementSent,
    /// It is committed.
    StatementArrived,
    /// A config or text file is edited.
    EditFile,
    /// A file whose presence means something is written or removed.
    SetFile,
    /// Rows are changed where they lie; the changes are kept.
    ChangeRows,
    /// What was made beside a site, and the site itself, take each other's place.
    Exchange,
    /// A view, trigger, routine or event that is made again goes; its text is noted.
    ThingReplaced,
    /// What was exchanged takes its old place again.
    ExchangeBack,
    /// What a run left beside a site is taken away.
    Forget,
    /// Caches are emptied.
    EmptyCaches,
    /// The host is told which folder is its own.
    MapHost,
    /// What should not lie in a document root is looked for and removed.
    TidyUp,
    /// Files are put back or taken away.
    UndoFiles,
    /// A database is emptied.
    EmptyDatabase,
    /// All was done.
    Done,
    /// An error ended the run.
    Failed,
    /// Somebody stopped the run.
    Cancelled,
    /// A step of another version.
    #[serde(other)]
    Other,
}

impl StepKind {
    /// Says whether a run ends with it.
    pub fn ends(self) -> bool {
        matches!(self, StepKind::Done | StepKind::Failed | StepKind::Cancelled)
    }

    /// Its name in the record.
    pub fn name(self) -> String {
        serde_json::to_value(self).ok().and_then(|v| v.as_str().map(str::to_string)).unwrap_or_default()
    }
}

/// One line of a run.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct Line {
    /// Time, RFC 3339, UTC.
    pub at: String,
    /// What is about to be done, or how the run ended.
    pub step: StepKind,
    /// Particulars: paths, counts, the job. Never a secret.
    #[serde(default, skip_serializing_if = "serde_json::Value::is_null")]
    pub detail: serde_json::Value,
}

/// How a run ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Outcome {
    /// All done.
    Done,
    /// Stopped by an error.
    Failed,
    /// Stopped by somebody.
    Cancelled,
}

/// A run that is being recorded. Copies write to the same record.
#[derive(Debug, Clone)]
pub struct Run {
    id: String,
    path: PathBuf,
    file: Arc<File>,
    clock: fn() -> String,
}

impl Run {
    /// Begins a record in a folder, which is made if needed. `clock` gives the time as RFC 3339.
    pub fn begin(
        folder: &Path,
        command: &str,
        detail: serde_json::Value,
        clock: fn() -> String,
    ) -> Result<Run, PathError> {
        private_folder(folder).at(folder)?;
        let stamp: String = clock().chars().filter(char::is_ascii_digit).take(14).collect();
        let mut number = 1;
        let (id, path, file) = loop {
            let id = if number == 1 {
                format!("{stamp}-{command}")
            } else {
                format!("{stamp}-{command}-{number}")
            };
            let path = folder.join(format!("{id}.jsonl"));
            match File::options().create_new(true).append(true).mode(0o600).open(&path) {
                Ok(file) => break (id, path, file),
                Err(e) if e.kind() == std::io::ErrorKind::AlreadyExists && number < 1000 => number += 1,
                Err(e) => return Err(PathError { path, source: e }),
            }
        };
        sync_folder(folder);
        let run = Run { id, path, file: Arc::new(file), clock };
        let mut detail = detail;
        if !detail.is_object() {
            detail = serde_json::json!({});
        }
        detail["command"] = command.into();
        run.step(StepKind::Begin, detail)?;
        Ok(run)
    }

    /// Returns the run's identifier.
    pub fn id(&self) -> &str {
        &self.id
    }

    /// Returns the folder in which is kept what this run replaces.
    pub fn kept(&self) -> PathBuf {
        kept_folder(&self.path)
    }

    /// Records a step before it is done; it is on disk when this returns.
    pub fn step(&self, step: StepKind, detail: serde_json::Value) -> Result<(), PathError> {
        self.note(step, detail)?;
        self.file.sync_data().at(&self.path)
    }

    /// Records something that may be lost when the power fails, but not when the program ends, in whatever way.
    pub fn note(&self, step: StepKind, detail: serde_json::Value) -> Result<(), PathError> {
        let line = Line { at: (self.clock)(), step, detail };
        let mut text = serde_json::to_vec(&line).map_err(std::io::Error::from).at(&self.path)?;
        text.push(b'\n');
        // One write to the end of the file: lines of several writers do not mix.
        (&*self.file).write_all(&text).at(&self.path)
    }

    /// Records the end.
    pub fn end(self, outcome: Outcome, detail: serde_json::Value) -> Result<(), PathError> {
        let step = match outcome {
            Outcome::Done => StepKind::Done,
            Outcome::Failed => StepKind::Failed,
            Outcome::Cancelled => StepKind::Cancelled,
        };
        self.step(step, detail)
    }
}

/// A past run in one line.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct Summary {
    /// Identifier.
    pub run: String,
    /// Time it began.
    pub began: String,
    /// Command.
    pub command: String,
    /// `done`, `failed`, `cancelled`, `undone`, or `unfinished` for a run that was interrupted.
    pub state: String,
    /// What it worked on: a site, an archive, a dump, a run.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// Where that went: a folder, a file, a database.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub to: Option<String>,
    /// Why it failed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub error: Option<String>,
    /// Bytes that it wrote, where it says so.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub size: Option<u64>,
    /// Steps recorded, without begin and end.
    pub steps: usize,
}

/// Returns the folder in which is kept what a run replaced, by the path of its record.
fn kept_folder(record: &Path) -> PathBuf {
    record.with_extension("kept")
}

/// Returns the folder in which is kept what a run replaced.
pub fn kept_of(folder: &Path, run: &str) -> PathBuf {
    kept_folder(&folder.join(format!("{run}.jsonl")))
}

/// Returns all runs, the newest first. Files that are no record are passed over.
pub fn runs(folder: &Path) -> Vec<Summary> {
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    let mut out: Vec<(std::time::SystemTime, Summary)> = entries
        .filter_map(|e| {
            let name = e.file_name().to_string_lossy().into_owned();
            let run = name.strip_suffix(".jsonl")?.to_string();
            let meta = e.metadata().ok()?;
            // Names tell seconds; of runs in the same second the file that was made later is the later one.
            let made = meta.created().or_else(|_| meta.modified()).unwrap_or(std::time::UNIX_EPOCH);
            let lines = read(folder, &run)?;
            let (first, last) = (lines.first()?, lines.last()?);
            let ended = last.step.ends();
            let summary = Summary {
                run,
                began: first.at.clone(),
                command: command_of(&lines),
                state: if ended { last.step.name() } else { "unfinished".into() },
                from: named(&first.detail, &["source", "site", "undoes"]).or_else(|| {
                    first.detail["files"][0].as_str().and_then(|f| f.split(' ').next()).map(str::to_string)
                }),
                to: named(&first.detail, &["target", "output", "database", "archive"]),
                error: named(&last.detail, &["error"]),
                size: ["size", "bytes"].iter().find_map(|key| last.detail[*key].as_u64()),
                steps: lines.len() - 1 - usize::from(ended),
            };
            Some((made, summary))
        })
        .collect();
    out.sort_by(|(a_made, a), (b_made, b)| {
        let second = |s: &Summary| s.run.get(..14).unwrap_or_default().to_string();
        second(b).cmp(&second(a)).then(b_made.cmp(a_made)).then(b.run.cmp(&a.run))
    });
    let mut runs: Vec<Summary> = out.into_iter().map(|(_, summary)| summary).collect();
    let undo = |r: &Summary| r.command == "undo" && r.state == "done";
    let undone: Vec<String> = runs.iter().filter(|r| undo(r)).filter_map(|r| r.from.clone()).collect();
    for run in runs.iter_mut().filter(|r| undone.contains(&r.run)) {
        run.state = "undone".into();
    }
    runs
}

/// Returns the command of a run, by its lines.
pub fn command_of(lines: &[Line]) -> String {
    let begin = lines.first().filter(|l| l.step == StepKind::Begin);
    begin.and_then(|l| l.detail["command"].as_str()).unwrap_or_default().to_string()
}

/// Returns the first of these particulars that is there.
fn named(detail: &serde_json::Value, keys: &[&str]) -> Option<String> {
    keys.iter().find_map(|key| detail[*key].as_str().map(str::to_string))
}

/// Returns the lines of a run, or nothing if there is no such run. A torn last line is passed over.
pub fn read(folder: &Path, run: &str) -> Option<Vec<Line>> {
    if run.contains(['/', '\\']) {
        return None;
    }
    let text = fs::read_to_string(folder.join(format!("{run}.jsonl"))).ok()?;
    Some(text.lines().filter_map(|l| serde_json::from_str(l).ok()).collect())
}
