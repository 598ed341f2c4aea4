//! `zporter database logins`: the log-ins that were saved when databases were made.

use crate::context;
use crate::error::CommandError;
use crate::format::count;
use crate::report::{Block, Facts, Report};
use clap::Args;
use schemars::JsonSchema;
use serde::Serialize;
use zporter_core::saved_logins::{self, SavedLogIn};

/// List saved log-ins, or show one
#[derive(Debug, Args)]
pub struct LogInsArgs {
    /// Database, as the list names it
    database: Option<String>,
    /// Show the password as well
    #[arg(long, requires = "database")]
    show_password: bool,
}

/// Saved log-ins for programs; never with a password.
#[derive(Debug, Serialize, JsonSchema)]
pub struct LogInsResult {
    /// Saved log-ins, by database.
    log_ins: Vec<SavedLogIn>,
}

/// Runs the command.
pub fn run(args: &LogInsArgs) -> Result<Report, CommandError> {
    let folder = saved_logins::folder(&context::data_folder()?);
    let Some(named) = &args.database else {
        let result = LogInsResult { log_ins: saved_logins::list(&folder) };
        let verdict =
            format!("{} in {}", count(result.log_ins.len() as u64, "saved log-in"), folder.display());
        let mut report = Report::new("database logins", verdict, &result)?;
        let rows = result.log_ins.iter().map(|l| vec![l.database.clone(), l.user.clone()]);
        report.section("", Block::table(&["database", "user"], rows));
        return Ok(report);
    };
    let Some((found, password)) = saved_logins::password(&folder, named) else {
        return Err(CommandError::usage(format!("no log-in of {named} is saved"))
            .hint("`zporter database logins` lists them"));
    };
    let mut facts = Facts::default();
    facts.add("user", &found.user);
    facts.add("password", if args.show_password { password.expose() } else { password.state() });
    facts.add("saved in", found.file.display().to_string());
    let verdict = format!("Log-in of {}", found.database);
    let mut report = Report::new("database logins", verdict, &LogInsResult { log_ins: vec![found] })?;
    report.section("", facts.block());
    Ok(report)
}
