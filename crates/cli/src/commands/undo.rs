//! `zporter undo`: going back behind a run.

use crate::context::{self, Here};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::format::{count, number};
use crate::login::PasswordArgs;
use crate::progress::Progress;
use crate::render::Style;
use crate::report::{Facts, Report};
use clap::Args;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;
use zporter_core::event::Watch;
use zporter_core::finding::{Code, Finding};
use zporter_core::job::run::{World, quiet};
use zporter_core::logbook::Outcome;
use zporter_core::place::DatabaseAccess;
use zporter_core::undo::{Done, Undo, latest, plan, plan_to_forget};

/// Undo a restore, clone, load, settle or switch: remove what it made, put back what it replaced
#[derive(Debug, Args)]
pub struct UndoArgs {
    /// Run, as `zporter logbook` lists it; `last` is the newest one that can be undone
    run: String,
    /// Its password
    #[command(flatten)]
    password: PasswordArgs,
    /// Take away what the run left beside the site: what it replaced, or of a run that is undone what it made
    #[arg(long)]
    forget: bool,
    /// Say what would be undone, and change nothing
    #[arg(long)]
    dry_run: bool,
}

/// What an undo would do.
#[derive(Debug, Serialize, JsonSchema)]
pub struct UndoPreview {
    /// Run.
    undoes: String,
    /// Its command.
    command: String,
    /// Whether it came to its end.
    ended: bool,
    /// Files that would be removed.
    removed: u64,
    /// Files that would be put back.
    put_back: u64,
    /// Files that were changed after the run and stay.
    #[serde(with = "zporter_core::path_text")]
    #[schemars(with = "Vec<PathBuf>")]
    changed_since: Vec<PathBuf>,
    /// The database, as a URL without password.
    database: Option<String>,
    /// Tables that would be removed.
    tables: Vec<String>,
    /// Dump that would be loaded again.
    #[serde(with = "zporter_core::path_text")]
    #[schemars(with = "Option<PathBuf>")]
    kept_dump: Option<PathBuf>,
}

/// Runs the command.
pub fn run(style: Style, args: &UndoArgs) -> Result<Report, CommandError> {
    let folder = context::logbook_folder()?;
    let run = match args.run.as_str() {
        "last" => latest(&folder).ok_or_else(|| {
            CommandError::usage("there is no run to go back behind").hint("`zporter logbook` lists all runs")
        })?,
        named => named.to_string(),
    };
    let undo = if args.forget { plan_to_forget(&folder, &run)? } else { plan(&folder, &run)? };
    if args.dry_run {
        return preview(undo, args.forget);
    }
    if !args.forget {
        // Before anybody is asked for a password.
        undo.verify_files()?;
    }
    let mut access = undo.database.as_deref().map(DatabaseAccess::parse).transpose()?;
    // A site that was changed where it lies knows its own way in.
    let in_place = undo.rows.is_some() || undo.in_place;
    let own = || undo.access_of_site(&|root| Here.tree(root), &context::definitions().ok()?);
    match (&mut access, in_place.then(own).flatten()) {
        (Some(access), Some(own)) => *access = own,
        (Some(access), None) => args.password.complete(access)?,
        (None, _) => {}
    }
    let ready = if args.forget { None } else { Some(undo.ready(access.as_ref())?) };
    let word = if args.forget { "forgets" } else { "undoes" };
    let detail = serde_json::json!({ word: undo.run, "database": undo.database });
    let (book, _locks) = context::begin_undo(detail, &[undo.target.clone(), undo.database.clone()])?;
    let progress = Progress::new(style);
    let done = match &ready {
        None => undo.forget(access.as_ref(), &book).map(|()| Done::default()),
        Some(ready) => ready.carry_out(&|root| Here.tree(root), &book, &progress),
    };
    match done {
        Ok(done) => {
            let run = book.id().to_string();
            quiet::is_loud_again(&context::data_folder()?, &undo.run);
            book.end(Outcome::Done, serde_json::to_value(&done).unwrap_or_default())?;
            match args.forget {
                true => forgotten(&undo, &done, run),
                false => report(&undo, &done, run),
            }
        }
        Err(e) => {
            let error = CommandError::from(e);
            let outcome = if progress.cancelled() { Outcome::Cancelled } else { Outcome::Failed };
            book.end(outcome, serde_json::json!({ "error": error.message }))?;
            Err(error.hint("the same command goes on once the cause is gone"))
        }
    }
}

/// Tells what was taken away that lay beside a site.
fn forgotten(undo: &Undo, done: &Done, run: String) -> Result<Report, CommandError> {
    let verdict = format!("Forgotten: what {} left beside its site is gone", undo.run);
    let mut report = Report::new("undo", verdict, done)?;
    report.run = Some(run);
    let mut facts = Facts::default();
    beside(&mut facts, undo);
    report.section("", facts.block());
    Ok(report)
}

/// Tells what lies beside a site.
fn beside(facts: &mut Facts, undo: &Undo) {
    let Some(exchange) = &undo.exchange else { return };
    for (made, ..) in &exchange.paths {
        facts.add("beside", made.display().to_string());
    }
    if !exchange.tables.is_empty() {
        facts.add("beside", count(exchange.tables.len() as u64, "table"));
    }
}

fn preview(undo: Undo, forgets: bool) -> Result<Report, CommandError> {
    if !forgets {
        undo.verify_files()?;
    }
    let files = undo.look(&|root| Here.tree(root))?;
    let ended = undo.ended.is_some();
    let mut own = Facts::default();
    beside(&mut own, &undo);
    let verdict = format!(
        "Would {} {}, a {} that {}",
        if forgets { "forget what is left of" } else { "undo" },
        undo.run,
        undo.command,
        if ended { "ended" } else { "was interrupted" }
    );
    let exchanged = undo.exchange.is_some().then_some(own);
    let result = UndoPreview {
        undoes: undo.run,
        command: undo.command,
        ended,
        removed: files.removed,
        put_back: files.put_back,
        changed_since: files.changed_since,
        database: undo.database,
        tables: undo.tables,
        kept_dump: undo.kept_dump,
    };
    let mut report = Report::new("undo", verdict, &result)?;
    report.dry_run = true;
    report.exit = Some(Exit::Done);
    stays(&mut report, &result.changed_since, &[]);
    let mut facts = Facts::default();
    if result.removed > 0 || exchanged.is_none() {
        facts.add("remove", count(result.removed, "file"));
    }
    if result.put_back > 0 {
        facts.add("put back", count(result.put_back, "file"));
    }
    if let Some(url) = &result.database {
        facts.add("database", url);
        let tables = count(result.tables.len() as u64, "table");
        if exchanged.is_none() {
            facts.add("remove", format!("{tables}, and views, triggers, routines and events"));
        } else if !forgets {
            facts.add("exchange", format!("{tables} with those that were there"));
        }
    }
    let kept = result.kept_dump.as_ref().map(|kept| format!("what is kept in {}", kept.display()));
    facts.maybe("put back", kept);
    report.section("", facts.block());
    if let Some(own) = exchanged {
        report.section("", own.block());
    }
    Ok(report)
}

fn stays(report: &mut Report, files: &[PathBuf], tables: &[String]) {
    for path in files {
        let what = "was changed after the run and stays";
        let cure = "look at it, and remove it by hand";
        report.findings.push(Finding::at(Code::ChangedAfterRun, what, path, cure));
    }
    for table in tables {
        let what = "was not made by the run and stays";
        let cure = "remove it by hand if nobody needs it";
        report.findings.push(Finding::new(Code::TableNotOfRun, what, table, cure));
    }
}

fn report(undo: &Undo, done: &Done, run: String) -> Result<Report, CommandError> {
    let mut report = Report::new("undo", format!("Undone: {}", undo.run), done)?;
    report.run = Some(run);
    stays(&mut report, &done.files.changed_since, &done.tables_stay);
    let mut facts = Facts::default();
    if undo.exchange.is_some() {
        beside(&mut facts, undo);
        report.next.push(format!(
            "what the run made lies beside the site; to take it away: zporter undo --forget {}",
            undo.run
        ));
    }
    if done.files.removed + done.files.put_back > 0 {
        let (removed, put_back) = (number(done.files.removed), number(done.files.put_back));
        facts.add("files", format!("{removed} removed, {put_back} put back"));
    }
    if undo.rows.is_some() {
        facts.add("rows", format!("{} as they were", count(done.rows_back, "row")));
    }
    if done.rows_stay > 0 {
        let what = format!("{} changed since, and stay", count(done.rows_stay, "row"));
        let place = undo.database.clone().unwrap_or_default();
        report.findings.push(Finding::new(Code::ChangedAfterRun, what, place, "look at them by hand"));
    }
    let tables = undo.rows.is_none() || done.database_put_back || done.database_emptied;
    if let Some(url) = undo.database.as_ref().filter(|_| tables && done.tables_beside == 0) {
        let told = match (done.database_put_back, done.database_emptied) {
            (true, _) => "holds again what it held before",
            (false, true) => "is as empty as before",
            (false, false) => "was not changed by the run",
        };
        facts.add("database", format!("{url} {told}"));
    }
    facts.maybe("kept", done.kept.as_ref().map(|k| format!("what was in it is kept in {}", k.display())));
    report.section("", facts.block());
    Ok(report)
}
