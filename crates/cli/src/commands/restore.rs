//! `zporter restore`: an archive becomes a site elsewhere.

use super::report;
use crate::context;
use crate::copy_args::{CopyArgs, job};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::format::{bytes, count, number, safe};
use crate::login::undo_command;
use crate::progress::Progress;
use crate::ui::Ui;
use clap::Args;
use serde::Serialize;
use std::path::PathBuf;
use zporter_core::fsx::absolute;
use zporter_core::logbook::Outcome;
use zporter_core::place::Address;
use zporter_core::restore::plan::{RestorePlan, plan};
use zporter_core::restore::refresh::Outlook;
use zporter_core::restore::restored::Restored;
use zporter_core::restore::run;
use zporter_core::waybill::Waybill;

/// Restore an archive under another address, in another folder and database
#[derive(Debug, Args)]
pub struct RestoreArgs {
    /// Archive: one of ours, or a plain zip or tar.gz of a site
    #[arg(required_unless_present = "waybill", conflicts_with = "waybill")]
    pub archive: Option<PathBuf>,
    /// Target folder; missing or empty
    #[arg(required_unless_present = "waybill", conflicts_with = "waybill")]
    pub target: Option<PathBuf>,
    /// Where and as what the copy lives
    #[command(flatten)]
    pub copy: CopyArgs,
}

#[derive(Debug, Serialize)]
struct Report<'a> {
    dry_run: bool,
    from: String,
    to: String,
    needles: Vec<Needle<'a>>,
    edits: Vec<FileDiff<'a>>,
    needed_bytes: u64,
    #[serde(skip_serializing_if = "Option::is_none")]
    outlook: Option<&'a Outlook>,
    stays: &'a [Address],
    #[serde(skip_serializing_if = "Option::is_none")]
    run: Option<&'a str>,
    #[serde(flatten)]
    done: &'a Restored,
}

#[derive(Debug, Serialize)]
struct Needle<'a> {
    old: &'a str,
    new: &'a str,
}

#[derive(Debug, Serialize)]
struct FileDiff<'a> {
    path: &'a str,
    diff: &'a str,
}

/// Runs the command.
pub fn run(ui: &Ui, args: &RestoreArgs) -> Result<Exit, CommandError> {
    let bill = args.copy.waybill("restore", args.archive.as_deref(), args.target.as_deref())?;
    run_bill(ui, &bill, &args.copy)
}

/// Runs a job, or previews it, and reports.
pub fn run_bill(ui: &Ui, bill: &Waybill, args: &CopyArgs) -> Result<Exit, CommandError> {
    if let Some(path) = &args.save_waybill {
        bill.write(path)?;
        ui.note(&format!("The job is kept in {}", absolute(path).display()));
    }
    let Carried { plan, done, run } = carry_out(ui, bill, args.dry_run, args.samples)?;
    let needles = plan.needles();
    let report = Report {
        dry_run: args.dry_run,
        from: plan.relocation.from.address.to_string(),
        to: plan.relocation.to.address.to_string(),
        needles: needles.described().iter().map(|(old, new)| Needle { old, new }).collect(),
        edits: plan
            .files
            .iter()
            .filter(|f| !f.edits.is_empty())
            .map(|f| FileDiff { path: &f.path, diff: &f.diff })
            .collect(),
        needed_bytes: plan.needed,
        outlook: plan.outlook.as_ref(),
        stays: &plan.stay,
        run: run.as_deref(),
        done: &done,
    };
    if let Some(path) = &args.report {
        let text = serde_json::to_vec_pretty(&report)
            .map_err(|e| CommandError::world("the report has no JSON form", e))?;
        zporter_core::fsx::write_atomically(path, &text)?;
    }
    if ui.json {
        ui.document(&report)?;
    } else {
        show_plan(ui, &plan, args.dry_run);
        show_done(
            ui,
            &done,
            args.dry_run,
            match (bill.job.as_str(), bill.refresh) {
                ("clone", true) => "Brought up to date:",
                ("clone", false) => "Cloned to",
                _ => "Restored",
            },
        );
        if let Some(run) = &run {
            way_back(ui, run);
        }
    }
    Ok(if done.has_findings() { Exit::Findings } else { Exit::Done })
}

/// Says by which number a run is known, and how to go back behind it.
pub fn way_back(ui: &Ui, run: &str) {
    ui.line(format!("\nrun {run}; to go back: {}", undo_command(run)));
}

/// A job that was carried out, or previewed.
pub struct Carried {
    /// Its plan.
    pub plan: RestorePlan,
    /// What came of it.
    pub done: Restored,
    /// The run's identifier; none of a preview.
    pub run: Option<String>,
}

/// Plans a waybill and runs it, or only previews it.
pub fn carry_out(ui: &Ui, bill: &Waybill, dry_run: bool, samples: usize) -> Result<Carried, CommandError> {
    let progress = Progress::new(ui);
    let job = job(bill, &progress)?;
    let things = [
        Some(absolute(&job.target).display().to_string()),
        job.database.as_ref().map(zporter_core::place::DatabaseAccess::url),
    ];
    let mut locks = if dry_run { Vec::new() } else { context::locks(&things)? };
    let plan = plan(job, &context::definitions()?, &progress)?;
    if dry_run {
        let done = run::preview(&plan, samples, &progress)?;
        return Ok(Carried { plan, done, run: None });
    }
    let detail = serde_json::to_value(bill).unwrap_or_default();
    let book = context::begin(&bill.job, detail, &mut locks)?;
    match run::run(&plan, samples, &book, &progress) {
        Ok(done) => {
            let detail = serde_json::json!({ "target": done.target, "files": done.files, "rows": done.tally.rows(), "changed": done.tally.changed() });
            let run = Some(book.id().to_string());
            book.end(Outcome::Done, detail)?;
            Ok(Carried { plan, done, run })
        }
        Err(e) => {
            let (error, run) = (CommandError::from(e), book.id().to_string());
            book.end(Outcome::Failed, serde_json::json!({ "error": error.message }))?;
            let hint = format!(
                "{} may be half filled: go back with `{}`",
                plan.job.target.display(),
                undo_command(&run)
            );
            Err(error.hint(hint))
        }
    }
}

/// Names, or the first of them.
fn some(names: &[&str]) -> String {
    let more = names.len().saturating_sub(12);
    let first = names[..names.len() - more].join(", ");
    if more > 0 { format!("{first} and {more} more") } else { first }
}

/// Prints what would become of the files of a copy.
fn show_outlook(ui: &Ui, outlook: &Outlook) {
    let list = |name: &str, files: &[String], what: &str| {
        if files.is_empty() {
            return;
        }
        let files: Vec<String> = files.iter().map(|f| safe(f)).collect();
        let names: Vec<&str> = files.iter().map(String::as_str).collect();
        let names = if ui.verbose { names.join(", ") } else { some(&names) };
        ui.fact(name, format!("{}{what}: {names}", count(files.len() as u64, "file")));
    };
    list("new", &outlook.new, "");
    list("replaces", &outlook.replaced, ", which are kept for an undo");
    let gone = match outlook.takes_away {
        true => " no longer at the source, taken away and kept for an undo",
        false => " no longer at the source, left here; --delete-gone takes them away",
    };
    list("gone", &outlook.gone, gone);
    ui.fact("unchanged", count(outlook.unchanged, "file"));
    ui.fact("own settings", format!("{} left as they are", count(outlook.own, "file")));
}

/// Prints what a plan will do (or has done): needles and file edits.
pub fn show_plan(ui: &Ui, plan: &RestorePlan, dry_run: bool) {
    let version = plan.version.as_deref().unwrap_or("");
    ui.line(format!("{} {version}", plan.product));
    ui.fact("from", format!("{}  (from {})", plan.relocation.from.address, plan.learned_from));
    ui.fact("to", plan.relocation.to.address.to_string());
    ui.fact("target", plan.job.target.display().to_string());
    match (&plan.job.dump_to, &plan.job.database) {
        (Some(path), _) => ui.fact("dump to", path.display().to_string()),
        (None, Some(access)) => ui.fact("database", access.url()),
        (None, None) => {}
    }
    if !plan.replaced.is_empty() {
        let names: Vec<&str> = plan.replaced.iter().map(String::as_str).collect();
        ui.fact(
            "replaces",
            format!("{}, of which a dump is kept: {}", count(names.len() as u64, "table"), some(&names)),
        );
    }
    if !plan.others.is_empty() {
        let names: Vec<&str> = plan.others.iter().map(String::as_str).collect();
        ui.fact(
            "leaves",
            format!("{} of others in the database: {}", count(names.len() as u64, "table"), some(&names)),
        );
    }
    if let Some(change) = &plan.prefix {
        ui.fact("table prefix", format!("{} becomes {}", change.old, change.new));
    }
    for (old, new) in plan.relocation.further.iter() {
        ui.fact("also", format!("{old} becomes {new}"));
    }
    for other in &plan.stay {
        ui.fact(
            "stays",
            format!("{other}, another site of the same database; --map {other} NEW moves it as well"),
        );
    }
    if let Some(folder) = plan.outside() {
        ui.fact("storage", folder.display().to_string());
    }
    if let (Some(outlook), true) = (&plan.outlook, dry_run) {
        show_outlook(ui, outlook);
    }
    if dry_run {
        ui.fact("needs", format!("{} on the target's disk", bytes(plan.needed)));
    }
    ui.heading("Needles");
    ui.table(
        &["old", "new"],
        plan.needles().described().iter().map(|(o, n)| vec![o.clone(), n.clone()]).collect(),
    );
    for file in plan.files.iter().filter(|f| !f.diff.is_empty()) {
        if dry_run || ui.verbose {
            ui.heading(&format!("Edit of {}", file.path));
            for line in file.diff.lines() {
                ui.diff_line(line);
            }
        }
    }
}

/// Prints what was done (or would be done) with files and rows.
pub fn show_done(ui: &Ui, done: &Restored, dry_run: bool, verb: &str) {
    if dry_run {
        ui.heading("Would be done");
    } else {
        ui.heading("Done");
        ui.good(&format!("{verb} {}", done.target.display()));
        ui.fact("files", format!("{}, {}", count(done.files, "file"), bytes(done.bytes)));
        if let Some(r) = &done.refreshed {
            ui.fact("unchanged", count(r.unchanged, "file"));
            ui.fact("own settings", format!("{} left as they are", count(r.own, "file")));
            if r.gone > 0 {
                ui.fact("gone", format!("{} no longer at the source, taken away", count(r.gone, "file")));
            }
            if r.stay > 0 {
                ui.fact(
                    "gone",
                    format!(
                        "{} no longer at the source, left here; --delete-gone takes them away",
                        count(r.stay, "file")
                    ),
                );
            }
        }
        for (why, n) in &done.not_unpacked {
            let such = if n.entries == 1 { "" } else { "such as " };
            let told = format!("{}: {why} ({such}{})", count(n.entries, "entry"), safe(&n.first));
            ui.fact("not carried", told);
        }
        if let Some(dump) = &done.dump {
            ui.fact("dump", dump.display().to_string());
        }
        if !done.loaded.is_empty() {
            let rows: u64 = done.loaded.values().sum();
            ui.fact(
                "loaded",
                format!("{} with {}", count(done.loaded.len() as u64, "table"), count(rows, "row")),
            );
        }
        for f in &done.fitted {
            ui.fact("fitted", format!("{} {} became {}, {}", f.kind, f.from, f.to, count(f.count, "time")));
        }
    }
    for (file, changes) in &done.config {
        ui.fact(
            if dry_run { "would edit" } else { "edited" },
            format!("{file} ({})", count(changes.len() as u64, "value")),
        );
    }
    ui.fact(
        "rows",
        format!(
            "{} gone through, {} changed",
            number(done.tally.rows()),
            count(done.tally.changed(), "value")
        ),
    );
    let left_out: u64 = done.tally.tables.values().map(|t| t.rows_left_out).sum();
    if left_out > 0 {
        ui.fact("left out", format!("{} of tables that are made anew", count(left_out, "row")));
    }
    if done.definers > 0 {
        ui.fact("definers", format!("{} taken out of views, triggers and routines", number(done.definers)));
    }
    if done.renamed > 0 {
        ui.fact("renamed", format!("{} by the new prefix", count(done.renamed, "table name")));
    }
    if let Some(folder) = &done.outside {
        ui.fact("storage", folder.display().to_string());
    }
    for put in &done.put {
        ui.fact("set", put);
    }
    if let Some(way) = &done.host_way {
        ui.fact("host", way);
    }
    report::cells(ui, &done.cells);
    report::tally(ui, &done.tally);
    report::leftovers(ui, &done.leftovers);
    if !done.tidy.is_empty() {
        ui.heading("Should not lie in a document root");
        let rows = done.tidy.iter().map(|t| {
            let todo = if t.removed { "removed".into() } else { t.command.clone() };
            vec![t.path.clone(), t.about.clone(), todo]
        });
        ui.table(&["path", "what it is", "do"], rows.collect());
    }
    if !done.warnings.is_empty() {
        ui.heading("Needs attention");
        for w in &done.warnings {
            ui.finding(&w.what, &w.place, &w.cure);
        }
    }
    if let Some(later) = &done.media_later {
        ui.line(format!("\nThe media come later with: {later}"));
    }
    if dry_run {
        ui.line("\nNothing was changed. Run the same command without --dry-run to do this.");
    }
}
