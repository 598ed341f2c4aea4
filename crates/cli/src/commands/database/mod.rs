//! `zporter database`: the database part alone.

pub mod attempt;
pub mod create;
pub mod dump;
pub mod load;
pub mod logins;
pub mod sizes;

use super::jobs;
use crate::app::Output;
use crate::context::Here;
use crate::error::CommandError;
use crate::job_args::{DatabaseCreate, DatabaseDump, DatabaseLoad, JobArgs};
use crate::login::PasswordArgs;
use crate::render::Style;
use clap::{Args, Subcommand};
use zporter_core::job::Job;
use zporter_core::job::run::{SiteOrServer, Target};

/// Try, measure, dump, create and load databases
#[derive(Debug, Args)]
pub struct DatabaseArgs {
    #[command(subcommand)]
    command: DatabaseCommand,
}

#[derive(Debug, Subcommand)]
enum DatabaseCommand {
    Try(attempt::TryArgs),
    Sizes(sizes::SizesArgs),
    Dump(DumpArgs),
    Create(CreateArgs),
    Load(LoadArgs),
    Logins(logins::LogInsArgs),
}

/// Dump a database as it is at this moment, without locking anybody out
#[derive(Debug, Args)]
struct DumpArgs {
    #[command(flatten)]
    job: JobArgs<DatabaseDump>,
}

/// Make a database and a user who has rights on exactly that database
#[derive(Debug, Args)]
struct CreateArgs {
    #[command(flatten)]
    job: JobArgs<DatabaseCreate>,
    /// Show the password, once
    #[arg(long)]
    show_password: bool,
}

/// Load a dump into an empty database; the same command goes on after an interruption
#[derive(Debug, Args)]
struct LoadArgs {
    #[command(flatten)]
    job: JobArgs<DatabaseLoad>,
}

impl DatabaseArgs {
    /// The command as people write it.
    pub fn name(&self) -> &'static str {
        match &self.command {
            DatabaseCommand::Try(_) => "database try",
            DatabaseCommand::Sizes(_) => "database sizes",
            DatabaseCommand::Dump(_) => "database dump",
            DatabaseCommand::Create(_) => "database create",
            DatabaseCommand::Load(_) => "database load",
            DatabaseCommand::Logins(_) => "database logins",
        }
    }
}

/// Runs the command.
pub fn run(style: Style, args: &DatabaseArgs) -> Result<Output, CommandError> {
    let told = jobs::ToldArgs::default();
    Ok(match &args.command {
        DatabaseCommand::Try(args) => attempt::run(args)?.into(),
        DatabaseCommand::Sizes(args) => sizes::run(args)?.into(),
        DatabaseCommand::Dump(args) => {
            let to_pipe =
                matches!(args.job.job()?, Job::DatabaseDump(options) if options.output.file().is_none());
            let report = jobs::run(style, &args.job, &told)?;
            return jobs::piped(style, report, to_pipe);
        }
        DatabaseCommand::Create(args) => create::run(style, &args.job, args.show_password)?.into(),
        DatabaseCommand::Load(args) => jobs::run(style, &args.job, &told)?.into(),
        DatabaseCommand::Logins(args) => logins::run(args)?.into(),
    })
}

/// A database that is there: a site's, or one named by its URL.
#[derive(Debug, Args)]
struct WhereArgs {
    // Not a doc comment: rustdoc would take the brackets for links.
    #[arg(
        value_name = "SITE|URL",
        help = "Folder of a site, or mysql://USER@HOST[:PORT]/NAME, postgres://…, sqlite:///PATH"
    )]
    place: String,
    /// Folder of the host that is meant, where several live on one code base
    #[arg(long, value_name = "NAME")]
    host_folder: Option<String>,
    /// Its password
    #[command(flatten)]
    password: PasswordArgs,
}

impl WhereArgs {
    fn find(&self) -> Result<SiteOrServer, CommandError> {
        let (host_folder, password_file) = (self.host_folder.as_deref(), self.password.file());
        Ok(Target { place: &self.place, host_folder, password_file }.find(&Here)?)
    }
}
