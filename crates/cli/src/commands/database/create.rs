//! `zporter database create`, and its reports.

use crate::commands::jobs;
use crate::context::Here;
use crate::error::CommandError;
use crate::job_args::{DatabaseCreate, JobArgs};
use crate::progress::Progress;
use crate::render::Style;
use crate::report::{Block, Facts, Report};
use zporter_core::database::create::{PASSWORD_LENGTH, password_bits};
use zporter_core::job::run::{CreateOutcome, CreatePreview, Done, How, run as run_job};

/// Runs the command. The password is shown only because somebody asked for it, and only where a person reads.
pub fn run(
    style: Style,
    args: &JobArgs<DatabaseCreate>,
    show_password: bool,
) -> Result<Report, CommandError> {
    if !show_password || args.dry_run {
        return jobs::run(style, args, &jobs::ToldArgs::default());
    }
    let how = How { dry_run: false, samples: 0 };
    let done =
        run_job(&args.job()?, how, &Here, &Progress::new(style)).map_err(|f| CommandError::from(*f.error))?;
    let Done::Created(created) = done else {
        return Err(CommandError::usage("the job makes no database"));
    };
    let mut report = report(&created)?;
    if created.saved_log_in.is_some() && !created.password.is_empty() {
        report.next.push(format!("password: {}", created.password.expose()));
    }
    Ok(report)
}

/// Tells what was made.
pub fn report(done: &CreateOutcome) -> Result<Report, CommandError> {
    let created = &done.created;
    let mut report = Report::new("database create", format!("{} is ready", done.database), done)?;
    report.findings.clone_from(&done.findings);
    let mut facts = Facts::default();
    facts.add("database", if created.database { "made" } else { "existed" });
    if !created.hosts.is_empty() {
        let made = if created.user { "made" } else { "existed" };
        facts.add("user", format!("{made}, logs in from {}", created.hosts.join(", ")));
    }
    facts.maybe("logs in by", created.auth_plugin.as_ref());
    if done.password_made {
        facts
            .add("password", format!("made: {PASSWORD_LENGTH} letters and digits, {} bits", password_bits()));
    }
    match &done.saved_log_in {
        Some(file) => {
            facts.add("saved in", format!("{}; zporter looks it up there by itself", file.display()));
        }
        None if !created.hosts.is_empty() => {
            facts.add("password", "unknown here: it stays what it was");
        }
        None => {}
    }
    report.section("", facts.block());
    Ok(report)
}

/// Tells what would be asked of the server.
pub fn preview(planned: &CreatePreview) -> Result<Report, CommandError> {
    let mut report = Report::new("database create", format!("Would make {}", planned.database), planned)?;
    let lines = planned.statements.iter().map(|s| format!("{s};")).collect();
    report.section("Statements", Block::Lines(lines));
    Ok(report)
}
