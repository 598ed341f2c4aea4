//! `zporter database sizes`: which tables are heavy, and what a dump would weigh.

use super::WhereArgs;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::format::{bytes, cut, number};
use crate::ui::Ui;
use clap::Args;
use serde::Serialize;
use zporter_core::database::sizes::sizes;
use zporter_core::database::snapshot::TableFacts;
use zporter_core::place::Engine;

/// Show the tables of a database, heaviest first, and what a dump would weigh
#[derive(Debug, Args)]
pub struct SizesArgs {
    #[command(flatten)]
    place: WhereArgs,
    /// Tables to show; 0 shows all
    #[arg(long, value_name = "N", default_value_t = 20)]
    most: usize,
}

#[derive(Serialize)]
struct Report<'a> {
    url: String,
    server: &'a str,
    tables: Vec<Row<'a>>,
    total_bytes: u64,
    dump_bytes: u64,
    dump_bytes_light: u64,
}

#[derive(Serialize)]
struct Row<'a> {
    #[serde(flatten)]
    facts: &'a TableFacts,
    share: f64,
    #[serde(skip_serializing_if = "Option::is_none")]
    bulky: Option<&'a str>,
    /// Whether a dump leaves the rows out without being asked.
    left_out: bool,
}

/// Width of the widest bar.
const BAR: usize = 24;

/// Runs the command.
pub fn run(ui: &Ui, args: &SizesArgs) -> Result<Exit, CommandError> {
    let meant = args.place.find()?;
    let (tables, server) = sizes(&meant.access)?;
    let total: u64 = tables.iter().map(TableFacts::bytes).sum();
    let rows: Vec<Row<'_>> = tables
        .iter()
        .map(|facts| {
            let about = meant.about(&facts.name);
            Row {
                facts,
                share: facts.bytes() as f64 / (total.max(1)) as f64,
                bulky: about.map(|(text, _)| text),
                left_out: about.is_some_and(|(_, safe)| safe),
            }
        })
        .collect();
    let dump_bytes = tables.iter().map(|t| t.data).sum();
    let dump_bytes_light = rows.iter().filter(|r| r.bulky.is_none()).map(|r| r.facts.data).sum();
    if ui.json {
        ui.document(&Report {
            url: meant.access.url(),
            server: &server,
            tables: rows,
            total_bytes: total,
            dump_bytes,
            dump_bytes_light,
        })?;
        return Ok(Exit::Done);
    }
    ui.line(format!("{} on {server}", meant.access.url()));
    let most = if args.most == 0 { rows.len() } else { args.most };
    let heaviest = rows.first().map_or(1, |r| r.facts.bytes()).max(1);
    let drawn = rows.iter().take(most).map(|row| {
        let filled = (row.facts.bytes() as f64 / heaviest as f64 * BAR as f64 * 8.0).round() as usize;
        vec![
            row.facts.name.clone(),
            bar(filled),
            format!("{:.1} %", row.share * 100.0),
            bytes(row.facts.bytes()),
            number(row.facts.rows),
            bytes(row.facts.data),
            bytes(row.facts.index),
            row.bulky.map(|text| cut(text, 46)).unwrap_or_default(),
        ]
    });
    ui.heading("Tables");
    let mut drawn: Vec<Vec<String>> = drawn.collect();
    let mut header = vec!["table", "", ">share", ">size", ">rows", ">data", ">index", "may stay behind"];
    if rows.iter().all(|r| r.bulky.is_none()) {
        // Without a definition nobody knows what a site can do without.
        header.pop();
        drawn.iter_mut().for_each(|row| row.truncate(header.len()));
    }
    ui.table(&header, drawn);
    if rows.len() > most {
        let rest: u64 = rows.iter().skip(most).map(|r| r.facts.bytes()).sum();
        ui.line(format!(
            " and {} smaller tables with {}; --most 0 shows them",
            rows.len() - most,
            bytes(rest)
        ));
    }
    ui.heading("All");
    ui.fact("tables", format!("{} with {}", number(rows.len() as u64), bytes(total)));
    ui.fact("dump", format!("about {} with every row", bytes(dump_bytes)));
    if dump_bytes_light < dump_bytes {
        ui.fact("light dump", format!("about {} without what may stay behind", bytes(dump_bytes_light)));
    }
    if meant.access.engine != Engine::Sqlite {
        ui.line("\nSizes and rows are the server's estimates.");
    }
    Ok(Exit::Done)
}

/// Draws a bar of so many eighths.
fn bar(eighths: usize) -> String {
    let mut out = "█".repeat(eighths / 8);
    if !eighths.is_multiple_of(8) {
        out.extend(char::from_u32(0x2590 - (eighths % 8) as u32));
    }
    if out.is_empty() {
        out.push('▏');
    }
    out
}
