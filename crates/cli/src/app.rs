//! The command line's root: global options, the list of commands, and the way to an exit code.

use crate::commands::{
    clone, completions, database, demo, logbook, pack, prove, readdress, restore, survey, systems, trace,
    undo,
};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::format::bytes;
use crate::ui::Ui;
use clap::{Args, CommandFactory, Parser, Subcommand};
use std::io::ErrorKind;
use zporter_core::limits;

/// Carry websites: archive, prove, restore elsewhere
///
/// zporter knows where content systems and shops keep their addresses, paths and database access. It packs a site into one
/// archive, proves that the archive is whole, and restores it under another address, in another folder and database.
#[derive(Debug, Parser)]
#[command(
    name = "zporter",
    version,
    max_term_width = 100,
    after_help = "Exit codes: 0 done, 1 done with findings that need attention, 2 wrong usage, 3 refused by a guard, 4 the world failed (disk, network, server, permission), 5 input damaged"
)]
struct App {
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
    /// Print only results and errors
    #[arg(short, long, global = true, help_heading = "Output")]
    quiet: bool,
    /// Print more detail
    #[arg(short, long, global = true, help_heading = "Output")]
    verbose: bool,
    /// Hold more (or less) of what comes from others in memory at once; `--limit help` lists what can be set
    #[arg(long, global = true, help_heading = "Output", value_name = "NAME=SIZE")]
    limit: Vec<String>,
}

/// Sets limits by words such as `statement=2G`.
fn set_limits(words: &[String]) -> Result<(), CommandError> {
    for word in words {
        let known = word
            .split_once('=')
            .and_then(|(name, size)| Some((limits::ALL.iter().find(|l| l.name == name)?, size_of(size)?)));
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

/// Reads a size such as `512M`.
fn size_of(text: &str) -> Option<u64> {
    let (digits, shift) = match text.as_bytes().last()?.to_ascii_uppercase() {
        b'K' => (&text[..text.len() - 1], 10),
        b'M' => (&text[..text.len() - 1], 20),
        b'G' => (&text[..text.len() - 1], 30),
        _ => (text, 0),
    };
    digits.parse::<u64>().ok()?.checked_mul(1 << shift)
}

#[derive(Debug, Subcommand)]
enum Command {
    Survey(survey::SurveyArgs),
    Pack(pack::PackArgs),
    Prove(prove::ProveArgs),
    Restore(Box<restore::RestoreArgs>),
    Clone(Box<clone::CloneArgs>),
    Database(database::DatabaseArgs),
    Readdress(readdress::ReaddressArgs),
    Trace(trace::TraceArgs),
    Systems(systems::SystemsArgs),
    Demo(demo::DemoArgs),
    Logbook(logbook::LogbookArgs),
    Undo(undo::UndoArgs),
    Completions(completions::CompletionsArgs),
}

/// Parses the arguments, runs the command and prints its error, if any.
pub fn run() -> Exit {
    let app = App::parse();
    crate::signals::listen();
    let ui = Ui { quiet: app.global.quiet, json: app.global.json, verbose: app.global.verbose };
    if let Err(error) = set_limits(&app.global.limit) {
        Ui::error(&error);
        return error.exit;
    }
    let outcome = match &app.command {
        Command::Survey(args) => survey::run(&ui, args),
        Command::Pack(args) => pack::run(&ui, args),
        Command::Prove(args) => prove::run(&ui, args),
        Command::Restore(args) => restore::run(&ui, args),
        Command::Clone(args) => clone::run(&ui, args),
        Command::Database(args) => database::run(&ui, args),
        Command::Readdress(args) => readdress::run(&ui, args),
        Command::Trace(args) => trace::run(&ui, args),
        Command::Systems(args) => systems::run(&ui, args),
        Command::Demo(args) => demo::run(&ui, args),
        Command::Logbook(args) => logbook::run(&ui, args),
        Command::Undo(args) => undo::run(&ui, args),
        Command::Completions(args) => completions::run(&mut App::command(), args),
    };
    match outcome {
        Ok(_) if Ui::failed().is_some() => {
            let error = CommandError::world(
                "the output cannot be written",
                Ui::failed().unwrap_or(ErrorKind::Other.into()),
            );
            Ui::error(&error);
            error.exit
        }
        Ok(exit) => exit,
        Err(error) => {
            Ui::error(&error);
            error.exit
        }
    }
}
