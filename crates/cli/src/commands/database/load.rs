//! `zporter database load`: a dump into a database, guarded, and continued after an interruption.

use crate::commands::restore::way_back;
use crate::context;
use crate::copy_args::{State, fit};
use crate::dump_files;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::format::{count, number};
use crate::login::{PasswordArgs, undo_command};
use crate::progress::Progress;
use crate::ui::Ui;
use clap::Args;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use zporter_core::database::DatabaseError;
use zporter_core::database::dump::parts_from;
use zporter_core::database::journal::{Reached, reached};
use zporter_core::database::load::{LoadJob, Loaded, guard, load};
use zporter_core::fsx::absolute;
use zporter_core::logbook::{self, Outcome};
use zporter_core::place::{DatabaseAccess, Engine};

/// Load a dump into an empty database; the same command goes on after an interruption
#[derive(Debug, Args)]
pub struct LoadArgs {
    /// Dump, plain, gzip or Zstandard; of parts the first, the others follow by themselves
    dump: PathBuf,
    // Not a doc comment: rustdoc would take the brackets for links.
    #[arg(
        value_name = "URL",
        help = "Database: mysql://USER@HOST[:PORT]/NAME[?socket=PATH], postgres://…, sqlite:///PATH"
    )]
    database: String,
    /// Its password
    #[command(flatten)]
    password: PasswordArgs,
    /// Replace what is in the database; a dump of it is kept for `zporter undo`
    #[arg(long)]
    replace: bool,
    /// Connections over which rows are loaded
    #[arg(long, value_name = "N", default_value_t = 2)]
    connections: usize,
    /// What a collation, character set or engine becomes that the server does not know; may be given several times
    #[arg(long, value_name = "NAME=OTHER")]
    fit: Vec<String>,
    /// Whether events work at once; else they are loaded at rest
    #[arg(long, value_name = "STATE", value_enum, default_value_t = State::Off)]
    events: State,
    /// Look whether the load would be refused, and change nothing
    #[arg(long)]
    dry_run: bool,
}

/// What tells that a file is the same as before.
fn mark_of(files: &[PathBuf]) -> Vec<String> {
    let mark = |f: &PathBuf| {
        f.metadata().map(|m| format!("{} {} {}", f.display(), m.len(), m.mtime())).unwrap_or_default()
    };
    files.iter().map(mark).collect()
}

/// An interrupted load of the same files into the same database: its run, and how far it came.
struct Earlier {
    run: String,
    /// The run that kept what was replaced.
    kept_by: String,
    reached: Reached,
}

fn earlier(folder: &Path, access: &DatabaseAccess, files: &[String]) -> Option<Earlier> {
    // The newest run that has to do with this database decides.
    for summary in logbook::runs(folder) {
        let lines = logbook::read(folder, &summary.run)?;
        let begin = lines.first()?;
        if begin.detail["database"].as_str() != Some(access.url().as_str()) || begin.step == "dump" {
            continue;
        }
        let same = begin.step == "load" && begin.detail["files"] == serde_json::json!(files);
        if !same || matches!(summary.state.as_str(), "done" | "undone") {
            return None;
        }
        // A run that stopped before it touched anything decides nothing.
        if !lines.iter().any(|l| matches!(l.step.as_str(), "load database" | "replace database")) {
            continue;
        }
        lines.iter().find(|l| l.step == "load database")?;
        let kept_by = begin.detail["kept_by"].as_str().unwrap_or(&summary.run).to_string();
        return Some(Earlier { kept_by, reached: reached(&lines), run: summary.run });
    }
    None
}

/// Runs the command.
pub fn run(ui: &Ui, args: &LoadArgs) -> Result<Exit, CommandError> {
    let mut access = DatabaseAccess::parse(&args.database)?;
    let files = parts_from(&absolute(&args.dump));
    for file in &files {
        dump_files::readable(file)?;
    }
    let number = args
        .dump
        .to_string_lossy()
        .split(".part-")
        .nth(1)
        .map(|n| n.chars().take_while(char::is_ascii_digit).collect::<String>());
    if let Some(number) = number.filter(|n| !n.is_empty() && n.trim_start_matches('0') != "1") {
        let name = args.dump.to_string_lossy().replacen(&format!(".part-{number}"), ".part-01", 1);
        return Err(CommandError::usage(format!("{} is part {number} of a dump", args.dump.display()))
            .hint(format!("begin with {name}; the other parts follow by themselves")));
    }
    args.password.complete(&mut access)?;
    let folder = context::logbook_folder()?;
    let mut locks = if args.dry_run { Vec::new() } else { context::locks(&[Some(access.url())])? };
    let marks = mark_of(&files);
    let earlier = earlier(&folder, &access, &marks);
    let job = LoadJob {
        files,
        access,
        replace: args.replace,
        connections: args.connections,
        fit: fit(&args.fit)?,
        events: args.events == State::On,
        earlier: earlier.as_ref().map(|e| e.reached.clone()),
    };
    let found = guard(&job)?;
    if args.dry_run {
        ui.line(format!("Would load {} into {}", job.files[0].display(), job.access.url()));
        match (&earlier, found.len()) {
            (Some(e), _) => ui.fact(
                "goes on",
                format!("where {} stopped: {} whole", e.run, count(e.reached.whole.len() as u64, "table")),
            ),
            (None, 0) => ui.fact("the database", "is empty"),
            (None, n) => ui.fact("replaces", count(n as u64, "table")),
        }
        return Ok(Exit::Done);
    }
    let mut detail = serde_json::json!({ "database": job.access.url(), "files": marks });
    if let Some(e) = &earlier {
        detail["continues"] = e.run.clone().into();
        detail["kept_by"] = e.kept_by.clone().into();
        ui.note(&format!(
            "Going on where {} stopped: {} whole",
            e.run,
            count(e.reached.whole.len() as u64, "table")
        ));
    }
    let book = context::begin("load", detail, &mut locks)?;
    for table in earlier.iter().flat_map(|e| &e.reached.begun) {
        book.note("table begun", serde_json::json!({ "table": table }))?;
    }
    let whole = earlier.iter().filter(|_| job.access.engine == Engine::Mysql).flat_map(|e| &e.reached.whole);
    for (table, rows) in whole {
        book.note("table whole", serde_json::json!({ "table": table, "rows": rows }))?;
    }
    match load(&job, &book, &Progress::new(ui)) {
        Ok(done) => {
            let run = book.id().to_string();
            let rows: u64 = done.rows.values().sum();
            book.end(Outcome::Done, serde_json::json!({ "tables": done.rows.len(), "rows": rows }))?;
            report(ui, &job, &done, &run)
        }
        Err(e) => {
            let nothing_yet = matches!(e, DatabaseError::NotKept { .. });
            let error = CommandError::from(e);
            let run = book.id().to_string();
            book.end(Outcome::Failed, serde_json::json!({ "error": error.message }))?;
            if nothing_yet {
                return Err(error);
            }
            let lines = logbook::read(&folder, &run).unwrap_or_default();
            if job.access.engine != Engine::Mysql && reached(&lines).is_nothing() {
                return Err(error.hint("nothing was changed: all of it was one transaction"));
            }
            Err(error
                .hint("the database is half loaded; the same command goes on after the last whole table")
                .hint(format!("or go back with `{}`", undo_command(&run))))
        }
    }
}

fn report(ui: &Ui, job: &LoadJob, done: &Loaded, run: &str) -> Result<Exit, CommandError> {
    if ui.json {
        let mut document =
            serde_json::to_value(done).map_err(|e| CommandError::world("the result has no JSON form", e))?;
        document["database"] = job.access.url().into();
        document["run"] = run.into();
        ui.document(&document)?;
    } else {
        let rows: u64 = done.rows.values().sum();
        ui.good(&format!("Loaded {}", job.access.url()));
        for file in &job.files {
            ui.fact("from", file.display().to_string());
        }
        ui.fact("tables", format!("{} with {}", count(done.rows.len() as u64, "table"), count(rows, "row")));
        if let Some(rights) = &done.account {
            ui.fact(
                "account",
                format!(
                    "{} {rights}: one for this database alone is safer (zporter database create)",
                    job.access.user
                ),
            );
        }
        if done.went_on > 0 {
            ui.fact("of them", format!("{} whole from the run before", number(done.went_on)));
        }
        if done.differing.is_empty() {
            ui.fact("counts", "every table holds as many rows as were sent");
        }
        if done.checksums > 0 {
            ui.fact("checksums", format!("{} as dumped", count(done.checksums, "table")));
        }
        if done.definers > 0 {
            ui.fact(
                "definers",
                format!("{} taken out of views, triggers and routines", number(done.definers)),
            );
        }
        for f in &done.fitted {
            ui.fact("fitted", format!("{} {} became {}, {}", f.kind, f.from, f.to, count(f.count, "time")));
        }
        if !done.differing.is_empty() || !done.warnings.is_empty() {
            ui.heading("Needs attention");
        }
        for (table, sent, there) in &done.differing {
            let what = format!("{} rows were sent, {} are there", number(*sent), number(*there));
            ui.finding(&what, table, "look for doubled keys in the dump, and compare with the source");
        }
        for w in &done.warnings {
            ui.finding(&w.what, &w.place, &w.cure);
        }
        way_back(ui, run);
    }
    Ok(if done.differing.is_empty() && done.warnings.is_empty() { Exit::Done } else { Exit::Findings })
}
