//! The command line's root: global options, the list of commands, and the way to an exit code.

use crate::commands::{
    clone, database, demo, logbook, pack, prove, readdress, restore, survey, systems, trace, undo,
};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::Ui;
use clap::{Args, Parser, Subcommand};
use std::io::ErrorKind;

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
}

/// Parses the arguments, runs the command and prints its error, if any.
pub fn run() -> Exit {
    let app = App::parse();
    crate::signals::listen();
    let ui = Ui { quiet: app.global.quiet, json: app.global.json, verbose: app.global.verbose };
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
