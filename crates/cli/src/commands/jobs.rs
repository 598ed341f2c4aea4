//! The commands that run jobs: the job is put together, the core runs it, and what came of it becomes a report.

use super::{copies, database, live, packs, rewritten, visit, weights};
use crate::app::Output;
use crate::context::Here;
use crate::error::{CommandError, undo_hint};
use crate::job_args::{JobArgs, Move, Pack, Readdress, Runs};
use crate::progress::Progress;
use crate::render::{Style, text};
use crate::report::Report;
use clap::Args;
use std::io::IsTerminal;
use std::path::PathBuf;
use zporter_core::job::run::visit::behind_copy;
use zporter_core::job::run::{Done, Failure, How, moving, run as run_job};
use zporter_core::job::values::{At, FileOrPipe};
use zporter_core::job::{Job, Kind};

/// How much is told, and where.
#[derive(Debug, Args, Default, Clone)]
pub struct ToldArgs {
    /// Write the JSON document to this file as well
    #[arg(long, value_name = "FILE", help_heading = "The report")]
    pub report: Option<PathBuf>,
    /// Write the report to this file as a page that opens in any browser, without a network
    #[arg(long, value_name = "FILE", help_heading = "The report")]
    pub page: Option<PathBuf>,
    /// Samples to keep per column
    #[arg(long, value_name = "N", default_value_t = 2, help_heading = "The report")]
    pub samples: usize,
}

/// Rewrite addresses and paths in a dump, exactly, in whatever way a value wraps them
#[derive(Debug, Args)]
pub struct ReaddressArgs {
    #[command(flatten)]
    job: JobArgs<Readdress>,
    #[command(flatten)]
    told: ToldArgs,
}

/// Runs a job as it was asked for.
pub fn run<R: Runs>(style: Style, args: &JobArgs<R>, told: &ToldArgs) -> Result<Report, CommandError> {
    let job = args.job()?;
    let (mut report, done) = ran(style, &job, args.dry_run, told.samples)?;
    if told.page.is_some() {
        weights::add(&mut report, &job, &done);
    }
    if let Some(path) = args.saved_as() {
        let command = R::KIND.command();
        report.next.push(format!("the job is saved; again with: zporter {command} --job {}", path.display()));
    }
    report.copy_to.clone_from(&told.report);
    report.page_to.clone_from(&told.page);
    Ok(report)
}

/// Runs a rewrite, which may write to a pipe.
pub fn readdress(style: Style, args: &ReaddressArgs) -> Result<Output, CommandError> {
    let to_pipe = matches!(args.job.job()?, Job::Readdress(options) if options.output.file().is_none());
    let report = run(style, &args.job, &args.told)?;
    piped(style, report, to_pipe)
}

/// Packs, perhaps into a pipe.
pub fn pack(style: Style, args: &JobArgs<Pack>, told: &ToldArgs) -> Result<Output, CommandError> {
    let to_pipe = matches!(args.job()?, Job::Pack(options) if options.output == Some(FileOrPipe::Pipe));
    if to_pipe && !args.dry_run && std::io::stdout().is_terminal() {
        let what = "an archive is nothing to be read on a terminal";
        return Err(
            CommandError::usage(what).hint("send it on, for example with: | ssh HOST 'cat > site.tar.zst'")
        );
    }
    let report = run(style, args, told)?;
    piped(style, report, to_pipe)
}

/// A report beside a pipe goes to standard error, in one line: standard output holds the dump.
pub fn piped(style: Style, report: Report, to_pipe: bool) -> Result<Output, CommandError> {
    if !to_pipe || report.dry_run {
        return Ok(report.into());
    }
    crate::render::files(&report, std::time::Duration::ZERO)?;
    text::note(style, &report.verdict);
    if !style.quiet && !style.json {
        text::warnings(&report.findings);
    }
    Ok(Output::Printed(report.exit()))
}

/// Runs a job and makes its report.
pub fn carried_out(style: Style, job: &Job, dry_run: bool, samples: usize) -> Result<Report, CommandError> {
    ran(style, job, dry_run, samples).map(|(report, _)| report)
}

/// The same, with what came of the job.
fn ran(style: Style, job: &Job, dry_run: bool, samples: usize) -> Result<(Report, Done), CommandError> {
    let how = How { dry_run, samples };
    let done = run_job(job, how, &Here, &Progress::new(style)).map_err(|failure| failed(job, failure))?;
    let mut report = match &done {
        Done::Copied(copied) => copies::report(style, copied, dry_run),
        Done::Changed(changed) => live::report(changed, dry_run),
        Done::States(states) => live::states(states),
        Done::Packed(packed) => packs::report(packed),
        Done::PackPreview(planned) => packs::preview(planned),
        Done::Visited(visited) => visit::report(visited),
        Done::Readdressed(rewritten) => rewritten::report(rewritten, dry_run),
        Done::Dumped(dumped) => database::dump::report(dumped),
        Done::DumpPreview(planned) => database::dump::preview(planned),
        Done::Loaded(loaded) => database::load::report(loaded),
        Done::LoadPreview(planned) => database::load::preview(planned),
        Done::Created(created) => database::create::report(created),
        Done::CreatePreview(planned) => database::create::preview(planned),
    }?;
    report.dry_run = dry_run;
    Ok((report, done))
}

/// How the site is looked at behind the second act of a move: of all options of the first one, these alone count.
#[derive(Default, serde::Deserialize)]
#[serde(default, rename_all = "kebab-case")]
struct Looks {
    visit: bool,
    at: Option<At>,
    any_certificate: bool,
}

fn looks(args: &JobArgs<Move>) -> Result<Looks, CommandError> {
    let wanted = ["visit", "at", "any-certificate"];
    let typed = args.typed().iter().filter(|(name, _)| wanted.contains(&name.as_str()));
    let typed = typed.map(|(name, value)| (name.clone(), value.clone())).collect();
    serde_json::from_value(serde_json::Value::Object(typed)).map_err(|e| CommandError::usage(e.to_string()))
}

/// Runs the second act of a move.
pub fn finish(
    style: Style,
    run: &str,
    retire: bool,
    args: &JobArgs<Move>,
    told: &ToldArgs,
) -> Result<Report, CommandError> {
    let dry_run = args.dry_run;
    let how = How { dry_run, samples: told.samples };
    let progress = Progress::new(style);
    let looks = looks(args)?;
    let mut done = moving::finish(run, retire, how, &Here, &progress)
        .map_err(|Failure { error, run, .. }| CommandError { run, ..CommandError::from(*error) })?;
    if !dry_run {
        let options = &mut done.copied.plan.job.options;
        (options.visit, options.at, options.any_certificate) = (looks.visit, looks.at, looks.any_certificate);
        behind_copy(&mut done.copied, &Here, &progress)?;
    }
    let mut report = copies::finished(style, &done, dry_run)?;
    report.dry_run = dry_run;
    report.copy_to.clone_from(&told.report);
    report.page_to.clone_from(&told.page);
    Ok(report)
}

/// Dresses the failure of a job: what is left behind, and how to go on or back.
fn failed(job: &Job, failure: Failure) -> CommandError {
    let Failure { error, run, begun } = failure;
    let out = CommandError { run: run.clone(), ..CommandError::from(*error) };
    let Some(run) = run else { return out };
    match (job, begun) {
        (Job::Restore(options) | Job::Clone(options), true) if options.in_place || options.push => {
            out.hint(format!("the site is as it was, or the new one as a whole: {}", undo_hint(&run)))
        }
        (Job::Restore(options) | Job::Clone(options) | Job::Move(options), true) => {
            out.hint(format!("{} may be half filled: {}", options.target.display(), undo_hint(&run)))
        }
        (Job::Settle(_) | Job::Switch(_), true) => {
            out.hint(format!("the same command goes on; or {}", undo_hint(&run)))
        }
        (Job::DatabaseLoad(_), true) => out
            .hint("the database is half loaded; the same command goes on after the last whole table")
            .hint(format!("or {}", undo_hint(&run))),
        (Job::DatabaseLoad(_), false) => out.hint("nothing was changed: all of it was one transaction"),
        _ => out,
    }
}

/// Says by which number a run is known, and how to go back behind it.
pub fn way_back(report: &mut Report, run: &str, kind: Kind) {
    report.run = Some(run.to_string());
    if matches!(
        kind,
        Kind::Restore | Kind::Clone | Kind::Move | Kind::DatabaseLoad | Kind::Settle | Kind::Switch
    ) {
        report.next.push(format!("run {run}; to go back: {}", crate::login::undo_command(run)));
    }
}
