//! `zporter undo`: going back behind a run.

use crate::context;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::format::{count, number};
use crate::login::PasswordArgs;
use crate::progress::Progress;
use crate::ui::Ui;
use clap::Args;
use zporter_core::logbook::Outcome;
use zporter_core::place::DatabaseAccess;
use zporter_core::undo::{Done, Undo, latest, plan};

/// Undo a restore, clone or load: take away what it made, put back what it replaced
#[derive(Debug, Args)]
pub struct UndoArgs {
    /// Run, as `zporter logbook` lists it; `last` is the newest one that can be undone
    run: String,
    /// Its password
    #[command(flatten)]
    password: PasswordArgs,
    /// Say what would be undone, and change nothing
    #[arg(long)]
    dry_run: bool,
}

/// Runs the command.
pub fn run(ui: &Ui, args: &UndoArgs) -> Result<Exit, CommandError> {
    let folder = context::logbook_folder()?;
    let run = match args.run.as_str() {
        "last" => latest(&folder).ok_or_else(|| {
            CommandError::usage("there is no run to go back behind").hint("`zporter logbook` lists all runs")
        })?,
        named => named.to_string(),
    };
    let undo = plan(&folder, &run)?;
    if args.dry_run {
        show_plan(ui, &undo)?;
        return Ok(Exit::Done);
    }
    let mut access = undo.database.as_deref().map(DatabaseAccess::parse).transpose()?;
    if let Some(access) = &mut access {
        args.password.complete(access)?;
    }
    let detail = serde_json::json!({ "undoes": undo.run, "database": undo.database });
    let mut locks = context::locks(&[undo.target.clone(), undo.database.clone()])?;
    let book = context::begin("undo", detail, &mut locks)?;
    match undo.carry_out(access.as_ref(), &book, &Progress::new(ui)) {
        Ok(done) => {
            book.end(Outcome::Done, serde_json::to_value(&done).unwrap_or_default())?;
            show_done(ui, &undo, &done)
        }
        Err(e) => {
            let error = CommandError::from(e);
            book.end(Outcome::Failed, serde_json::json!({ "error": error.message }))?;
            Err(error.hint("the same command goes on once the cause is gone"))
        }
    }
}

fn show_plan(ui: &Ui, undo: &Undo) -> Result<(), CommandError> {
    let files = undo.look()?;
    ui.line(format!(
        "Would undo {}, a {} that {}",
        undo.run,
        undo.command,
        if undo.ended.is_some() { "ended" } else { "was interrupted" }
    ));
    ui.fact("take away", count(files.removed, "file"));
    if files.put_back > 0 {
        ui.fact("put back", count(files.put_back, "file"));
    }
    for path in files.changed_since.iter().take(10) {
        ui.fact("stays", format!("{}, changed after the run", path.display()));
    }
    if let Some(url) = &undo.database {
        ui.fact("database", url);
        ui.fact(
            "take away",
            format!("{}, and views, triggers, routines and events", count(undo.tables.len() as u64, "table")),
        );
    }
    if let Some(kept) = &undo.kept_dump {
        ui.fact("put back", format!("what is kept in {}", kept.display()));
    }
    ui.line("\nNothing was changed. Run the same command without --dry-run to do this.");
    Ok(())
}

fn show_done(ui: &Ui, undo: &Undo, done: &Done) -> Result<Exit, CommandError> {
    let stays = !done.files.changed_since.is_empty() || !done.tables_stay.is_empty();
    if ui.json {
        ui.document(done)?;
    } else {
        ui.good(&format!("Undone: {}", undo.run));
        if done.files.removed + done.files.put_back > 0 {
            let (removed, put_back) = (number(done.files.removed), number(done.files.put_back));
            ui.fact("files", format!("{removed} taken away, {put_back} put back"));
        }
        if let Some(url) = &undo.database {
            let told = match (done.database_put_back, done.database_emptied) {
                (true, _) => "holds again what it held before",
                (false, true) => "is as empty as before",
                (false, false) => "was not changed by the run",
            };
            ui.fact("database", format!("{url} {told}"));
        }
        if let Some(kept) = &done.kept {
            ui.fact("kept", format!("what was in it is kept in {}", kept.display()));
        }
        if stays {
            ui.heading("Stays");
        }
        for path in &done.files.changed_since {
            ui.finding(
                "was changed after the run",
                &path.display().to_string(),
                "look at it, and remove it by hand",
            );
        }
        for table in &done.tables_stay {
            ui.finding("was not made by the run", table, "remove it by hand if nobody needs it");
        }
    }
    Ok(if stays { Exit::Findings } else { Exit::Done })
}
