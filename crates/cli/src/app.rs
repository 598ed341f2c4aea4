//! The command line's root: global options, the list of commands, and the way to an exit code.

use crate::commands::{
    completions, database, demo, diagnose, jobs, logbook, manual, schema, survey, systems, trace, undo,
    verify, visit,
};
use crate::context;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::format::bytes;
use crate::job_args::{Clone as CloneJob, JobArgs, Move, Pack, Restore, Runs, Settle, Switch, Visit};
use crate::near_misses;
use crate::render::{self, Style, json, text};
use crate::report::Report;
use crate::{progress, signals};
use clap::error::{ContextKind, ContextValue, ErrorKind};
use clap::{Args, CommandFactory, Parser, Subcommand};
use std::process::ExitCode;
use std::time::Instant;
use zporter_core::finding::{Code, Finding};
use zporter_core::job::run::quiet;
use zporter_core::job::values::Size;
use zporter_core::limits;

/// Carry websites: archive, verify, restore elsewhere
///
/// zporter knows where content systems and shops keep their addresses, paths and database access. It packs a site into one
/// archive, verifies that the archive is whole, and restores it under another address, in another folder and database.
#[derive(Debug, Parser)]
#[command(
    name = "zporter",
    version,
    max_term_width = 100,
    after_help = "Exit codes: 0 done, 1 done with findings that need attention, 2 wrong usage, 3 refused by a guard, 4 the world failed (disk, network, server, permission), 5 input damaged"
)]
pub struct App {
    #[command(flatten)]
    global: Global,
    #[command(subcommand)]
    command: Command,
}

#[derive(Debug, Args)]
struct Global {
    /// Print one JSON document instead of text
    #[arg(long, global = true, help_heading = "Output")]
    json: bool,
    /// Print only the line that says what came of it, and errors
    #[arg(short, long, global = true, help_heading = "Output")]
    quiet: bool,
    /// Print everything, nothing folded
    #[arg(short, long, global = true, help_heading = "Output")]
    verbose: bool,
    /// Hold more (or less) of what comes from others in memory at once; `--limit help` lists what can be set
    #[arg(long, global = true, help_heading = "Output", value_name = "NAME=SIZE")]
    limit: Vec<String>,
}

/// Sets limits by words such as `statement=2G`.
fn set_limits(words: &[String]) -> Result<(), CommandError> {
    for word in words {
        let known = word.split_once('=').and_then(|(name, size)| {
            Some((limits::ALL.iter().find(|l| l.name == name)?, Size::parse(size)?))
        });
        let Some((limit, size)) = known else {
            let mut error = CommandError::usage(format!("--limit {word}: no such limit, or no size"))
                .hint("write it like --limit statement=512M; K, M and G stand for KiB, MiB and GiB");
            for limit in limits::ALL {
                error = error.hint(format!("{}: {}, {} now", limit.name, limit.about, bytes(limit.bytes())));
            }
            return Err(error);
        };
        limit.set(size);
    }
    Ok(())
}

#[derive(Debug, Subcommand)]
enum Command {
    Survey(survey::SurveyArgs),
    Diagnose(diagnose::DiagnoseArgs),
    Pack(PackArgs),
    Verify(verify::VerifyArgs),
    Restore(RestoreArgs),
    Clone(CloneArgs),
    Move(MoveArgs),
    Settle(SettleArgs),
    Switch(SwitchArgs),
    Visit(visit::VisitArgs),
    Database(database::DatabaseArgs),
    Readdress(jobs::ReaddressArgs),
    Trace(trace::TraceArgs),
    Systems(systems::SystemsArgs),
    Demo(demo::DemoArgs),
    Logbook(logbook::LogbookArgs),
    Undo(undo::UndoArgs),
    Completions(completions::CompletionsArgs),
    Schema(schema::SchemaArgs),
    Manual(manual::ManualArgs),
}

/// Pack a site into one archive: code, media, database
#[derive(Debug, Args)]
struct PackArgs {
    #[command(flatten)]
    job: JobArgs<Pack>,
    #[command(flatten)]
    told: jobs::ToldArgs,
}

/// Restore an archive under another address, in another folder and database
#[derive(Debug, Args)]
struct RestoreArgs {
    #[command(flatten)]
    job: JobArgs<Restore>,
    #[command(flatten)]
    told: jobs::ToldArgs,
}

/// Clone a site straight to another place: the same as packing and restoring it, without the archive
#[derive(Debug, Args)]
struct CloneArgs {
    #[command(flatten)]
    job: JobArgs<CloneJob>,
    #[command(flatten)]
    told: jobs::ToldArgs,
}

/// Move a site: first a copy, while the site stays open; then --finish closes it, carries what has changed, and the copy is the site
#[derive(Debug, Args)]
struct MoveArgs {
    #[command(flatten)]
    job: JobArgs<Move>,
    /// Second act of the move whose first act was this run
    #[arg(long, value_name = "RUN", help_heading = "The second act")]
    finish: Option<String>,
    /// Keep a last archive of the old site, and let its web server send visitors to the new address
    #[arg(long, requires = "finish", help_heading = "The second act")]
    retire: bool,
    #[command(flatten)]
    told: jobs::ToldArgs,
}

/// Put a site right where it lies: config, rows and caches, after its files and database were carried by hand
#[derive(Debug, Args)]
struct SettleArgs {
    #[command(flatten)]
    job: JobArgs<Settle>,
    #[command(flatten)]
    told: jobs::ToldArgs,
}

/// Show the switches of a live site, or set them: maintenance, cache, mail, index, friendly-urls, assets
#[derive(Debug, Args)]
struct SwitchArgs {
    #[command(flatten)]
    job: JobArgs<Switch>,
    #[command(flatten)]
    told: jobs::ToldArgs,
}

/// What a command gives back.
pub enum Output {
    /// A report, to be drawn.
    Report(Box<Report>),
    /// It has printed what there was to print.
    Printed(Exit),
}

impl From<Report> for Output {
    fn from(report: Report) -> Self {
        Output::Report(Box::new(report))
    }
}

impl Command {
    fn name(&self) -> &'static str {
        match self {
            Command::Survey(_) => "survey",
            Command::Diagnose(_) => "diagnose",
            Command::Pack(_) => Pack::KIND.command(),
            Command::Verify(_) => "verify",
            Command::Restore(_) => Restore::KIND.command(),
            Command::Clone(_) => CloneJob::KIND.command(),
            Command::Move(_) => Move::KIND.command(),
            Command::Settle(_) => Settle::KIND.command(),
            Command::Switch(_) => Switch::KIND.command(),
            Command::Visit(_) => Visit::KIND.command(),
            Command::Database(args) => args.name(),
            Command::Readdress(_) => "readdress",
            Command::Trace(_) => "trace",
            Command::Systems(_) => "systems",
            Command::Demo(_) => "demo",
            Command::Logbook(_) => "logbook",
            Command::Undo(_) => "undo",
            Command::Completions(_) => "completions",
            Command::Schema(_) => "schema",
            Command::Manual(_) => "manual",
        }
    }

    fn run(&self, style: Style) -> Result<Output, CommandError> {
        Ok(match self {
            Command::Survey(args) => survey::run(style, args)?.into(),
            Command::Diagnose(args) => diagnose::run(style, args)?.into(),
            Command::Pack(args) => jobs::pack(style, &args.job, &args.told)?,
            Command::Verify(args) => verify::run(style, args)?.into(),
            Command::Restore(args) => jobs::run(style, &args.job, &args.told)?.into(),
            Command::Clone(args) => jobs::run(style, &args.job, &args.told)?.into(),
            Command::Move(args) => match &args.finish {
                Some(run) => jobs::finish(style, run, args.retire, &args.job, &args.told)?.into(),
                None => jobs::run(style, &args.job, &args.told)?.into(),
            },
            Command::Settle(args) => jobs::run(style, &args.job, &args.told)?.into(),
            Command::Switch(args) => jobs::run(style, &args.job, &args.told)?.into(),
            Command::Visit(args) => visit::run(style, args)?,
            Command::Database(args) => return database::run(style, args),
            Command::Readdress(args) => return jobs::readdress(style, args),
            Command::Trace(args) => trace::run(style, args)?.into(),
            Command::Systems(args) => return systems::run(args),
            Command::Demo(args) => Output::Printed(demo::run(style, args)?),
            Command::Logbook(args) => logbook::run(style, args)?.into(),
            Command::Undo(args) => undo::run(style, args)?.into(),
            Command::Completions(args) => Output::Printed(completions::run(&mut App::command(), args)?),
            Command::Schema(args) => Output::Printed(schema::run(args)?),
            Command::Manual(args) => Output::Printed(manual::run(&App::command(), args)?),
        })
    }
}

/// Parses the arguments, runs the command and tells what came of it. Returns the exit code.
pub fn run() -> ExitCode {
    let began = Instant::now();
    let app = match App::try_parse() {
        Ok(app) => app,
        Err(e) => return ExitCode::from(misused(&e, began)),
    };
    signals::listen();
    let style = Style { quiet: app.global.quiet, json: app.global.json, verbose: app.global.verbose };
    if !matches!(app.command, Command::Undo(_)) {
        tell_of_quiet_sites();
    }
    let outcome = set_limits(&app.global.limit).and_then(|()| match app.command.run(style)? {
        Output::Printed(exit) => Ok(exit),
        Output::Report(report) => render::report(style, &report, began.elapsed()),
    });
    let unwritten = || text::failed().map(|e| CommandError::world("the output cannot be written", e));
    let error = match outcome {
        Ok(exit) => match unwritten() {
            None => return ExitCode::from(exit as u8),
            Some(error) => error,
        },
        Err(error) => match signals::asked_to_stop() {
            Some(signal) => signals::stopped(signal),
            None => error,
        },
    };
    ExitCode::from(fail(style.json, app.command.name(), &error, began))
}

/// Tells of sites that a run which was killed left closed, or otherwise set for a while.
fn tell_of_quiet_sites() {
    let left = context::data_folder().map(|data| quiet::left_quiet(&data)).unwrap_or_default();
    for left in left {
        let cure = match &left.run {
            Some(run) => format!("put it back: zporter undo {run}"),
            None => format!("look how it is: zporter switch {}", left.site),
        };
        let what = format!("a run that was stopped left it with {}; {cure}", left.set.join(", "));
        text::warning(&Finding::new(Code::LeftQuiet, what, left.site, ""));
    }
}

/// Tells of an error, with what was found before it.
fn fail(as_json: bool, command: &str, error: &CommandError, began: Instant) -> u8 {
    match json::error(command, error, began.elapsed()).ok().filter(|_| as_json) {
        Some(document) => text::print(&document),
        None => {
            for found in progress::found().iter().filter(|f| f.needs_attention()) {
                text::warning(found);
            }
            text::error(error);
        }
    }
    error.code()
}

/// Tells what is wrong with the arguments, and which word is meant.
fn misused(error: &clap::Error, began: Instant) -> u8 {
    if matches!(error.kind(), ErrorKind::DisplayHelp | ErrorKind::DisplayVersion) {
        let _ = error.print();
        return 0;
    }
    let word = |kind| match error.get(kind) {
        Some(ContextValue::String(word)) => Some(word.clone()),
        _ => None,
    };
    let typed: Vec<String> =
        std::env::args_os().skip(1).map(|arg| arg.to_string_lossy().into_owned()).collect();
    let meant = match error.kind() {
        ErrorKind::UnknownArgument => word(ContextKind::InvalidArg)
            .and_then(|arg| near_misses::option(&arg, &|name| has_option(&typed, name)).map(str::to_string)),
        ErrorKind::InvalidSubcommand => word(ContextKind::InvalidSubcommand)
            .and_then(|name| near_misses::command(&name).map(|name| format!("zporter {name}"))),
        _ => None,
    };
    if typed.iter().any(|arg| arg == "--json") {
        let message = error.render().to_string();
        let first = message.lines().next().unwrap_or_default().trim_start_matches("error: ").to_string();
        let mut out = CommandError::usage(first);
        if let Some(meant) = meant {
            out = out.hint(format!("{meant} is meant, perhaps"));
        }
        return fail(true, typed.first().map_or("", String::as_str), &out, began);
    }
    let _ = error.print();
    if let Some(meant) = meant {
        text::meant(&meant);
    }
    2
}

/// Says whether the command that was typed has an option of this name.
fn has_option(typed: &[String], name: &str) -> bool {
    let mut command = &App::command();
    for word in typed {
        if let Some(found) = command.get_subcommands().find(|c| c.get_name() == word) {
            command = found;
        }
    }
    command.get_arguments().any(|a| a.get_long() == Some(name))
}
