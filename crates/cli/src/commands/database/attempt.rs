//! `zporter database try`: does the log-in work, and what is there?

use super::WhereArgs;
use crate::error::CommandError;
use crate::format::count;
use crate::report::{Facts, Report};
use clap::Args;
use schemars::JsonSchema;
use serde::Serialize;
use zporter_core::database::servers;
use zporter_core::database::trial::Trial;
use zporter_core::finding::{Code, Finding};

/// Try a database: connection, log-in, rights; a refusal is explained
#[derive(Debug, Args)]
pub struct TryArgs {
    #[command(flatten)]
    place: WhereArgs,
}

/// What was found.
#[derive(Debug, Serialize, JsonSchema)]
pub struct TryResult<'a> {
    /// The database, as a URL without password.
    database: String,
    #[serde(flatten)]
    found: &'a Trial,
}

/// Runs the command.
pub fn run(args: &TryArgs) -> Result<Report, CommandError> {
    let access = args.place.find()?.access;
    let found = servers::trial(&access)?;
    let result = TryResult { database: access.url(), found: &found };
    let mut report = Report::new("database try", format!("{} answers", access.url()), &result)?;
    for right in found.rights.iter().filter(|r| !r.granted) {
        let what = format!("the account may not: {}", right.what);
        let cure = "ask who runs the server for that right, or take another account";
        report.findings.push(Finding::new(Code::AccountRights, what, &access.user, cure));
    }
    let mut facts = Facts::default();
    facts.add("server", &found.server);
    facts.add("encrypted", if found.encrypted { "yes" } else { "no" });
    facts.add("tables", if found.tables == 0 { "none".into() } else { count(found.tables, "table") });
    for right in &found.rights {
        facts.add(if right.granted { "may" } else { "may not" }, &right.what);
    }
    report.section("", facts.block());
    Ok(report)
}
