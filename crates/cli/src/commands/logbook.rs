//! `zporter logbook`: what was done, step by step.

use crate::context;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::Ui;
use clap::Args;
use zporter_core::logbook;

/// Show past runs, or the steps of one
#[derive(Debug, Args)]
pub struct LogbookArgs {
    /// Run to show
    run: Option<String>,
}

/// Runs the command.
pub fn run(ui: &Ui, args: &LogbookArgs) -> Result<Exit, CommandError> {
    let folder = context::logbook_folder()?;
    let Some(run) = &args.run else {
        let runs = logbook::runs(&folder);
        if ui.json {
            ui.document(&runs)?;
        } else if runs.is_empty() {
            ui.line(format!("No run is recorded in {}", folder.display()));
        } else {
            let rows = runs.into_iter().map(|r| vec![r.run, r.began, r.state, r.steps.to_string()]);
            ui.table(&["run", "began", "state", ">steps"], rows.collect());
            ui.line(format!("\nThe records lie in {}", folder.display()));
        }
        return Ok(Exit::Done);
    };
    let lines = logbook::read(&folder, run).ok_or_else(|| {
        CommandError::usage(format!("no run {run:?} is recorded in {}", folder.display()))
            .hint("`zporter logbook` lists all runs")
    })?;
    if ui.json {
        ui.document(&lines)?;
    } else {
        let rows = lines.into_iter().map(|l| {
            let detail = if l.detail.is_null() { String::new() } else { l.detail.to_string() };
            vec![l.at, l.step, if ui.verbose { detail } else { crate::format::cut(&detail, 90) }]
        });
        ui.table(&["at", "step", "particulars"], rows.collect());
    }
    Ok(Exit::Done)
}
