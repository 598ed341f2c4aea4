//! `zporter database sizes`: which tables are heavy, and what a dump would weigh.

use super::WhereArgs;
use crate::error::CommandError;
use crate::format::{bytes, cut, number};
use crate::report::{Block, Facts, Report};
use clap::Args;
use schemars::JsonSchema;
use serde::Serialize;
use zporter_core::database::sizes::sizes;
use zporter_core::database::snapshot::TableFacts;

/// Show the tables of a database, heaviest first, and what a dump would weigh
#[derive(Debug, Args)]
pub struct SizesArgs {
    #[command(flatten)]
    place: WhereArgs,
    /// Tables to show; 0 shows all
    #[arg(long, value_name = "N", default_value_t = 20)]
    most: usize,
}

/// What was measured.
#[derive(Debug, Serialize, JsonSchema)]
pub struct SizesResult<'a> {
    /// The database, as a URL without password.
    database: String,
    /// Product and version of the server.
    server: &'a str,
    /// Tables, heaviest first.
    tables: Vec<SizedTable<'a>>,
    /// Bytes of all.
    total_bytes: u64,
    /// Bytes of a dump with every row.
    dump_bytes: u64,
    /// Bytes of a dump without what a copy can do without.
    dump_bytes_light: u64,
}

/// One table.
#[derive(Debug, Serialize, JsonSchema)]
pub struct SizedTable<'a> {
    #[serde(flatten)]
    facts: &'a TableFacts,
    /// Share of all bytes, from 0 to 1.
    share: f64,
    /// What is in it, where a copy can do without its rows.
    #[serde(skip_serializing_if = "Option::is_none")]
    bulky: Option<&'a str>,
    /// Whether a dump leaves the rows out without being asked.
    left_out: bool,
}

/// Runs the command.
pub fn run(args: &SizesArgs) -> Result<Report, CommandError> {
    let meant = args.place.find()?;
    let (tables, server) = sizes(&meant.access)?;
    let total: u64 = tables.iter().map(TableFacts::bytes).sum();
    let sized = tables.iter().map(|facts| {
        let about = meant.about(&facts.name);
        SizedTable {
            facts,
            share: facts.bytes() as f64 / (total.max(1)) as f64,
            bulky: about.map(|(text, _)| text),
            left_out: about.is_some_and(|(_, safe)| safe),
        }
    });
    let sized: Vec<SizedTable<'_>> = sized.collect();
    let dump_bytes = tables.iter().map(|t| t.data).sum();
    let dump_bytes_light = sized.iter().filter(|r| r.bulky.is_none()).map(|r| r.facts.data).sum();
    let database = meant.access.url();
    let result = SizesResult {
        database: database.clone(),
        server: &server,
        tables: sized,
        total_bytes: total,
        dump_bytes,
        dump_bytes_light,
    };
    let all = number(tables.len() as u64);
    let mut report =
        Report::new("database sizes", format!("{database}: {all} tables, {}", bytes(total)), &result)?;
    let mut header = vec!["table", "#size", ">share", ">rows", ">data", ">index", "may stay behind"];
    let rows = result.tables.iter().map(|row| {
        vec![
            row.facts.name.clone(),
            row.facts.bytes().to_string(),
            format!("{:.1} %", row.share * 100.0),
            number(row.facts.rows),
            bytes(row.facts.data),
            bytes(row.facts.index),
            row.bulky.map(|text| cut(text, 46)).unwrap_or_default(),
        ]
    });
    let mut rows: Vec<Vec<String>> = rows.collect();
    if result.tables.iter().all(|r| r.bulky.is_none()) {
        // Without a definition nobody knows what a site can do without.
        header.pop();
        rows.iter_mut().for_each(|row| row.truncate(header.len()));
    }
    report.section("Tables, heaviest first", Block::folded(&header, args.most, "smaller table", rows));
    let mut facts = Facts::default();
    facts.add("server", &server);
    facts.add("dump", format!("about {} with every row", bytes(dump_bytes)));
    if dump_bytes_light < dump_bytes {
        facts.add(
            "light dump",
            format!("about {} with --light: without what may stay behind", bytes(dump_bytes_light)),
        );
    }
    if !meant.access.engine.facts().counts_exactly {
        facts.add("sizes", "and rows are the server's estimates");
    }
    report.section("", facts.block());
    Ok(report)
}
