//! `zporter logbook`: what was done, step by step.

use crate::context;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::format::safe;
use crate::ui::Ui;
use clap::Args;
use zporter_core::logbook;

/// Show past runs, or the steps of one
#[derive(Debug, Args)]
pub struct LogbookArgs {
    /// Run to show
    run: Option<String>,
}

/// The end of a path, where the whole is too long.
fn cut_front(text: &str, most: usize) -> String {
    let count = text.chars().count();
    if count <= most {
        return text.to_string();
    }
    format!("…{}", text.chars().skip(count - most + 1).collect::<String>())
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
            let place = |p: &Option<String>| cut_front(&safe(p.as_deref().unwrap_or_default()), 34);
            let rows = runs.iter().map(|r| {
                let way = match (&r.from, &r.to) {
                    (Some(from), Some(to)) if from != to => {
                        format!("{} → {}", place(&Some(from.clone())), place(&Some(to.clone())))
                    }
                    (from, to) => place(if from.is_some() { from } else { to }),
                };
                vec![r.run.clone(), r.state.clone(), way]
            });
            ui.table(&["run", "state", "what"], rows.collect());
            for failed in
                runs.iter().filter(|r| r.error.is_some()).take(if ui.verbose { usize::MAX } else { 3 })
            {
                ui.finding(&safe(failed.error.as_deref().unwrap_or_default()), &failed.run, "");
            }
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
