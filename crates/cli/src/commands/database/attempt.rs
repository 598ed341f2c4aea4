//! `zporter database try`: does the log-in work, and what is there?

use super::WhereArgs;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::format::count;
use crate::ui::Ui;
use clap::Args;
use serde::Serialize;
use zporter_core::database::trial::{Trial, attempt};

/// Try a database: connection, log-in, rights; a refusal is explained
#[derive(Debug, Args)]
pub struct TryArgs {
    #[command(flatten)]
    place: WhereArgs,
}

#[derive(Serialize)]
struct Report<'a> {
    url: String,
    #[serde(flatten)]
    found: &'a Trial,
}

/// Runs the command.
pub fn run(ui: &Ui, args: &TryArgs) -> Result<Exit, CommandError> {
    let access = args.place.find()?.access;
    let found = attempt(&access)?;
    if ui.json {
        ui.document(&Report { url: access.url(), found: &found })?;
    } else {
        ui.good(&format!("{} answers", access.url()));
        ui.fact("server", &found.server);
        ui.fact("encrypted", if found.encrypted { "yes" } else { "no" });
        ui.fact("tables", if found.tables == 0 { "none".into() } else { count(found.tables, "table") });
        for right in &found.rights {
            ui.fact(if right.granted { "may" } else { "may not" }, &right.what);
        }
    }
    Ok(if found.rights.iter().all(|r| r.granted) { Exit::Done } else { Exit::Findings })
}
