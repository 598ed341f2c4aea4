//! `zporter database dump`: a consistent dump, whole or in parts.

use super::WhereArgs;
use crate::context;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::format::{bytes, count, number};
use crate::progress::Progress;
use crate::ui::Ui;
use clap::Args;
use std::cell::RefCell;
use std::path::PathBuf;
use zporter_core::database::dump::{DumpJob, LEAST_PART, dump, part_name};
use zporter_core::dump::rules::Keep;
use zporter_core::fsx::absolute;
use zporter_core::logbook::Outcome;

/// Dump a database as it is at this moment, without locking anybody out
#[derive(Debug, Args)]
pub struct DumpArgs {
    #[command(flatten)]
    place: WhereArgs,
    /// File to write: .sql, .sql.gz or .sql.zst
    #[arg(short, long, value_name = "FILE")]
    output: PathBuf,
    /// Write parts of at most this size, each of which loads on its own: 50M, 1G
    #[arg(long, value_name = "SIZE")]
    part_size: Option<String>,
    /// What of which tables: PATTERN=all, =structure or =none; the last one that fits counts
    #[arg(long, value_name = "PATTERN=WHAT")]
    rows: Vec<String>,
    /// Only these tables
    #[arg(long, value_name = "PATTERN", value_delimiter = ',')]
    tables: Vec<String>,
    /// Write the server's checksum of each table's rows as well: a load on a server of the same version compares them
    #[arg(long)]
    checksums: bool,
    /// Say what would be written, and write nothing
    #[arg(long)]
    dry_run: bool,
}

/// Reads a size such as `50M`.
fn size(text: &str) -> Result<u64, CommandError> {
    let wrong = || {
        CommandError::usage(format!("{text:?} is no size of a part"))
            .hint(format!("write it as 50M or 1G; at least {}", bytes(LEAST_PART)))
    };
    let lower = text.trim().to_ascii_lowercase();
    let digits = lower.trim_end_matches(|c: char| c.is_ascii_alphabetic());
    let shift = match lower[digits.len()..].trim_end_matches("ib").trim_end_matches('b') {
        "" => 0,
        "k" => 10,
        "m" => 20,
        "g" => 30,
        _ => return Err(wrong()),
    };
    let number: u64 = digits.trim().parse().map_err(|_| wrong())?;
    number.checked_shl(shift).filter(|n| *n >= LEAST_PART && *n >> shift == number).ok_or_else(wrong)
}

/// Runs the command.
pub fn run(ui: &Ui, args: &DumpArgs) -> Result<Exit, CommandError> {
    let part_size = args.part_size.as_deref().map(size).transpose()?;
    let output = absolute(&args.output);
    let first = if part_size.is_some() { part_name(&output, 1) } else { output.clone() };
    if first.exists() {
        return Err(CommandError::refused(format!("{} is there already", first.display()))
            .hint("name another file, or move the old one away"));
    }
    let meant = args.place.find()?;
    let mut rows: Vec<String> = Vec::new();
    if !args.tables.is_empty() {
        rows.push("*=none".into());
        rows.extend(args.tables.iter().map(|t| format!("{t}=all")));
    }
    rows.extend(args.rows.iter().cloned());
    let seen = RefCell::new(Vec::new());
    let keeper = meant.keeper(&rows)?;
    let keep = |table: &str| {
        seen.borrow_mut().push(table.to_string());
        keeper(table)
    };
    let progress = Progress::new(ui);
    if args.dry_run {
        let (tables, server) = zporter_core::database::sizes::sizes(&meant.access)?;
        ui.line(format!("Would dump {} on {server} to {}", meant.access.url(), first.display()));
        let shown = tables.iter().map(|t| {
            let (kept, why) = keep(&t.name);
            let (what, why) = match kept {
                Keep::All => ("with rows", String::new()),
                Keep::Structure => ("structure", why),
                Keep::Nothing => ("left out", why),
            };
            vec![t.name.clone(), bytes(t.data), what.into(), why]
        });
        ui.table(&["table", ">data", "goes", "why"], shown.collect());
        let vain = meant.in_vain(&rows, &seen.borrow())?;
        vain.iter().for_each(|w| ui.finding(&w.what, &w.place, &w.cure));
        return Ok(if vain.is_empty() { Exit::Done } else { Exit::Findings });
    }
    let detail = serde_json::json!({ "database": meant.access.url(), "output": output });
    let book = context::begin("dump", detail, &mut [])?;
    let job = DumpJob {
        access: meant.access.clone(),
        output,
        part_size,
        checksums: args.checksums,
        strictly: false,
        keep: &keep,
    };
    let mut done = match dump(&job, &progress) {
        Ok(done) => done,
        Err(e) => {
            let error = CommandError::from(e);
            book.end(Outcome::Failed, serde_json::json!({ "error": error.message }))?;
            return Err(error);
        }
    };
    done.warnings.extend(meant.in_vain(&rows, &seen.borrow())?);
    book.end(Outcome::Done, serde_json::json!({ "files": done.files, "written": done.written }))?;
    if ui.json {
        ui.document(&done)?;
    } else {
        for file in &done.files {
            ui.good(&format!("Dumped {}", file.display()));
        }
        ui.fact("from", format!("{} on {}", meant.access.url(), done.server));
        let all: u64 = done.rows.values().sum();
        ui.fact("tables", format!("{} with {}", count(done.rows.len() as u64, "table"), count(all, "row")));
        if done.others > 0 {
            ui.fact(
                "besides",
                format!("{} indexes, views, triggers, routines and their kin", number(done.others)),
            );
        }
        ui.fact("size", format!("{} of SQL, {} written", bytes(done.bytes), bytes(done.written)));
        if args.checksums {
            ui.fact("checksums", format!("of {}", count(done.checksums, "table")));
        }
        for (what, why) in &done.left_out {
            ui.fact("left out", format!("{what}: {why}"));
        }
        for w in &done.warnings {
            ui.finding(&w.what, &w.place, &w.cure);
        }
    }
    Ok(if done.warnings.is_empty() { Exit::Done } else { Exit::Findings })
}
