//! Reports of `database dump`.

use crate::commands::jobs::way_back;
use crate::error::CommandError;
use crate::format::{bytes, count, number};
use crate::report::{Block, Facts, Report};
use zporter_core::job::Kind;
use zporter_core::job::run::{DumpOutcome, DumpPreview};

/// Tells what was dumped.
pub fn report(done: &DumpOutcome) -> Result<Report, CommandError> {
    let dumped = &done.dumped;
    let to = match &dumped.files[..] {
        [] => "standard output".to_string(),
        [one] => one.display().to_string(),
        parts => count(parts.len() as u64, "part"),
    };
    let rows = count(dumped.rows.values().sum(), "row");
    let tables = count(dumped.rows.len() as u64, "table");
    let verdict = format!("Dumped {} → {to}: {tables}, {rows}, {}", done.database, bytes(dumped.written));
    let mut report = Report::new("database dump", verdict, done)?;
    report.findings.clone_from(&dumped.findings);
    let mut facts = Facts::default();
    for file in &dumped.files {
        facts.add("file", file.display().to_string());
    }
    facts.add("server", &dumped.server);
    facts.add("tables", format!("{tables} with {rows}"));
    if dumped.others > 0 {
        let what = "indexes, views, triggers, routines and their kin";
        facts.add("besides", format!("{} {what}", number(dumped.others)));
    }
    facts.add("size", format!("{} of SQL, {} written", bytes(dumped.bytes), bytes(dumped.written)));
    if dumped.checksums > 0 {
        facts.add("checksums", format!("of {}", count(dumped.checksums, "table")));
    }
    for (what, why) in &dumped.left_out {
        facts.add("left out", format!("{what}: {why}"));
    }
    report.section("", facts.block());
    way_back(&mut report, &done.run, Kind::DatabaseDump);
    Ok(report)
}

/// Tells what would be dumped.
pub fn preview(planned: &DumpPreview) -> Result<Report, CommandError> {
    let to = planned.output.as_ref().map_or("standard output".into(), |o| o.display().to_string());
    let kept = planned.tables.iter().filter(|t| t.what == "all");
    let size: u64 = kept.map(|t| t.bytes).sum();
    let tables = count(planned.tables.iter().filter(|t| t.what != "none").count() as u64, "table");
    let verdict = format!("Would dump {} → {to}: {tables}, about {}", planned.database, bytes(size));
    let mut report = Report::new("database dump", verdict, planned)?;
    report.findings.clone_from(&planned.findings);
    let mut facts = Facts::default();
    facts.add("server", &planned.server);
    report.section("", facts.block());
    let rows = planned.tables.iter().map(|t| {
        let what = match t.what {
            "all" => "with rows",
            "none" => "left out",
            other => other,
        };
        vec![t.name.clone(), t.bytes.to_string(), what.into(), t.why.clone()]
    });
    report.section("Tables", Block::table(&["table", "#data", "goes", "why"], rows));
    Ok(report)
}
