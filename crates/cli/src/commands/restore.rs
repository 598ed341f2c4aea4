//! `zporter restore`: an archive becomes a site elsewhere.

use super::report;
use crate::context;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::format::{bytes, count, number};
use crate::progress::Progress;
use crate::scope::{ScopeArgs, kept_rows, scope};
use crate::ui::Ui;
use clap::Args;
use serde::Serialize;
use std::path::PathBuf;
use zporter_core::fsx::absolute;
use zporter_core::logbook::{Outcome, Run};
use zporter_core::place::{Address, DatabaseAccess, Root};
use zporter_core::restore::plan::{RestoreJob, RestorePlan, plan};
use zporter_core::restore::puts::Wishes;
use zporter_core::restore::run::{self, Restored};
use zporter_core::system::schema::SwitchName;
use zporter_core::waybill::Waybill;

/// Restore an archive under another address, in another folder and database
#[derive(Debug, Args, Default)]
pub struct RestoreArgs {
    /// Archive: one of ours, or a plain zip or tar.gz of a site
    #[arg(required_unless_present = "waybill")]
    pub archive: Option<PathBuf>,
    /// Target folder; missing or empty
    #[arg(required_unless_present = "waybill")]
    pub target: Option<PathBuf>,
    /// New base address
    #[arg(long, value_name = "URL", required_unless_present = "waybill")]
    pub address: Option<String>,
    // Not a doc comment: rustdoc would take the brackets for links.
    #[arg(
        long,
        value_name = "URL",
        help = "New database: mysql://USER@HOST[:PORT]/NAME[?socket=PATH]; it must be empty"
    )]
    pub database: Option<String>,
    /// File that holds the new database's password (else ZPORTER_DATABASE_PASSWORD, else a prompt)
    #[arg(long, value_name = "FILE")]
    pub database_password_file: Option<PathBuf>,
    /// Write the rewritten dump to this file instead of loading it (.sql, .sql.gz, .sql.zst)
    #[arg(long, value_name = "FILE")]
    pub dump_to: Option<PathBuf>,
    /// Dump that belongs to a plain archive
    #[arg(long, value_name = "FILE")]
    pub dump: Option<PathBuf>,
    /// Old base address, where the archive does not tell it
    #[arg(long, value_name = "URL")]
    pub from_address: Option<String>,
    /// Another address the old site answered to; may be given several times
    #[arg(long, value_name = "URL")]
    pub alias: Vec<String>,
    /// Another folder the old site's values speak of; may be given several times
    #[arg(long, value_name = "PATH")]
    pub from_root: Vec<String>,
    /// Another site of the same database that moves as well: its old and its new address
    #[arg(long, num_args = 2, value_names = ["OLD", "NEW"])]
    pub map: Vec<String>,
    /// Folder of the host that is meant, where a plain archive holds several
    #[arg(long, value_name = "NAME")]
    pub host_folder: Option<String>,
    /// Restore as a further host of the code base in TARGET: its folder alone, under this name
    #[arg(long, value_name = "NAME", conflicts_with_all = ["only", "without", "tidy"])]
    pub host_as: Option<String>,
    /// New place of the folder that belongs to the site outside of its root (default: TARGET-storage)
    #[arg(long, value_name = "DIR")]
    pub storage: Option<PathBuf>,
    /// What is carried
    #[command(flatten)]
    pub scope: ScopeArgs,
    /// New table prefix, in table names, keys and config
    #[arg(long, value_name = "PREFIX", help_heading = "What the copy gets")]
    pub table_prefix: Option<String>,
    /// Switch: maintenance, cache, mail, index, friendly-urls (on or off), assets (on or plain)
    #[arg(long, value_name = "NAME=STATE", help_heading = "What the copy gets")]
    pub set: Vec<String>,
    /// Name of the site
    #[arg(long, value_name = "TEXT", help_heading = "What the copy gets")]
    pub site_name: Option<String>,
    /// E-mail address of the administrator and of the site's office
    #[arg(long, value_name = "ADDRESS", help_heading = "What the copy gets")]
    pub admin_email: Option<String>,
    /// File that holds a new password for the administrator
    #[arg(long, value_name = "FILE", help_heading = "What the copy gets")]
    pub admin_password_file: Option<PathBuf>,
    /// Remove installers and documents that should not lie in a document root
    #[arg(long, help_heading = "What the copy gets")]
    pub tidy: bool,
    /// Print the plan and change nothing
    #[arg(long)]
    pub dry_run: bool,
    /// Keep the job in this file
    #[arg(long, value_name = "FILE")]
    pub save_waybill: Option<PathBuf>,
    /// Run the job kept in this file
    #[arg(long, value_name = "FILE", conflicts_with_all = ["archive", "target", "address", "database", "dump_to", "dump", "from_address", "alias", "from_root", "database_password_file", "map", "host_folder", "host_as", "storage", "only", "without", "rows", "table_prefix", "set", "site_name", "admin_email", "admin_password_file", "tidy"])]
    pub waybill: Option<PathBuf>,
    /// Write the full report as JSON
    #[arg(long, value_name = "FILE")]
    pub report: Option<PathBuf>,
    /// Samples to keep per column
    #[arg(long, value_name = "N", default_value_t = 2)]
    pub samples: usize,
}

#[derive(Debug, Serialize)]
struct Report<'a> {
    dry_run: bool,
    from: String,
    to: String,
    needles: Vec<Needle<'a>>,
    edits: Vec<FileDiff<'a>>,
    needed_bytes: u64,
    stays: &'a [Address],
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
    let bill = waybill(args)?;
    if let Some(path) = &args.save_waybill {
        bill.write(path)?;
        ui.note(&format!("The job is kept in {}", absolute(path).display()));
    }
    let (plan, done) = carry_out(ui, &bill, args.dry_run, args.samples)?;
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
        stays: &plan.stay,
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
        show_done(ui, &done, args.dry_run);
    }
    Ok(if done.has_findings() { Exit::Findings } else { Exit::Done })
}

/// Plans a waybill and runs it, or only previews it.
pub fn carry_out(
    ui: &Ui,
    bill: &Waybill,
    dry_run: bool,
    samples: usize,
) -> Result<(RestorePlan, Restored), CommandError> {
    let progress = Progress::new(ui);
    let plan = plan(job(bill)?, &context::definitions()?, &progress)?;
    if dry_run {
        let done = run::preview(&plan, samples, &progress)?;
        return Ok((plan, done));
    }
    let detail = serde_json::to_value(bill).unwrap_or_default();
    let mut book = Run::begin(&context::logbook_folder()?, "restore", detail, context::now)?;
    match run::run(&plan, samples, &mut book, &progress) {
        Ok(done) => {
            let detail = serde_json::json!({ "target": done.target, "files": done.files, "rows": done.tally.rows(), "changed": done.tally.changed() });
            book.end(Outcome::Done, detail)?;
            Ok((plan, done))
        }
        Err(e) => {
            let (error, run) = (CommandError::from(e), book.id().to_string());
            book.end(Outcome::Failed, serde_json::json!({ "error": error.message }))?;
            let hint = format!(
                "the target may be half filled: empty {} and the new database before the next try (`zporter logbook {run}`)",
                plan.job.target.display()
            );
            Err(error.hint(hint))
        }
    }
}

fn waybill(args: &RestoreArgs) -> Result<Waybill, CommandError> {
    if let Some(path) = &args.waybill {
        return Ok(Waybill::read(path)?);
    }
    let missing = || CommandError::usage("ARCHIVE, TARGET and --address are needed");
    let whole = |p: &PathBuf| absolute(p);
    Ok(Waybill {
        job: "restore".into(),
        archive: args.archive.as_ref().map(whole).ok_or_else(missing)?,
        target: args.target.as_ref().map(whole).ok_or_else(missing)?,
        address: args.address.clone().ok_or_else(missing)?,
        database: args.database.clone(),
        database_password_file: args.database_password_file.as_ref().map(whole),
        dump_to: args.dump_to.as_ref().map(whole),
        dump: args.dump.as_ref().map(whole),
        from_address: args.from_address.clone(),
        alias: args.alias.clone(),
        from_root: args.from_root.clone(),
        map: args.map.clone(),
        only: args.scope.only.clone(),
        without: args.scope.without.clone(),
        rows: args.scope.rows.clone(),
        table_prefix: args.table_prefix.clone(),
        storage: args.storage.as_ref().map(whole),
        host_folder: args.host_folder.clone(),
        host_as: args.host_as.clone(),
        set: args.set.clone(),
        site_name: args.site_name.clone(),
        admin_email: args.admin_email.clone(),
        admin_password_file: args.admin_password_file.as_ref().map(whole),
        tidy: args.tidy,
    })
}

fn job(bill: &Waybill) -> Result<RestoreJob, CommandError> {
    let addresses = |list: &[String]| list.iter().map(|a| Address::parse(a)).collect::<Result<Vec<_>, _>>();
    let mut database = bill.database.as_deref().map(DatabaseAccess::parse).transpose()?;
    if let Some(access) = &mut database {
        access.password = context::password(bill.database_password_file.as_deref(), &access.user)?;
    }
    let mut further = Vec::new();
    for pair in bill.map.chunks_exact(2) {
        further.push((Address::parse(&pair[0])?, Address::parse(&pair[1])?));
    }
    Ok(RestoreJob {
        archive: bill.archive.clone(),
        target: bill.target.clone(),
        address: Address::parse(&bill.address)?,
        database,
        dump_to: bill.dump_to.clone(),
        dump: bill.dump.clone(),
        from_address: bill.from_address.as_deref().map(Address::parse).transpose()?,
        aliases: addresses(&bill.alias)?,
        from_roots: bill.from_root.iter().map(|r| Root::parse(r)).collect::<Result<_, _>>()?,
        further,
        scope: scope(&bill.only, &bill.without)?,
        rows: kept_rows(&bill.rows)?,
        table_prefix: bill.table_prefix.clone(),
        storage: bill.storage.clone(),
        host_folder: bill.host_folder.clone(),
        host_as: bill.host_as.clone(),
        wishes: Wishes {
            switches: bill.set.iter().map(|text| switch(text)).collect::<Result<_, _>>()?,
            site_name: bill.site_name.clone(),
            admin_email: bill.admin_email.clone(),
            admin_password: bill.admin_password_file.as_deref().map(context::secret_of).transpose()?,
        },
        tidy: bill.tidy,
    })
}

/// Reads `NAME=STATE`.
fn switch(text: &str) -> Result<(SwitchName, String), CommandError> {
    let wrong = || {
        CommandError::usage(format!("{text:?} is no switch"))
            .hint("write it as NAME=STATE: maintenance=on, cache=off, mail=off, index=off, friendly-urls=off, assets=plain")
    };
    let (name, state) = text.split_once('=').ok_or_else(wrong)?;
    let name = serde_json::from_value(name.into()).map_err(|_| wrong())?;
    Ok((name, state.to_string()))
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
pub fn show_done(ui: &Ui, done: &Restored, dry_run: bool) {
    if dry_run {
        ui.heading("Would be done");
    } else {
        ui.heading("Done");
        ui.good(&format!("Restored {}", done.target.display()));
        ui.fact("files", format!("{}, {}", count(done.files, "file"), bytes(done.bytes)));
        for (why, n) in &done.not_unpacked {
            ui.fact("not carried", format!("{}: {why}", count(*n, "entry")));
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
