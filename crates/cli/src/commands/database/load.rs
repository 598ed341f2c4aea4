//! Reports of `database load`.

use crate::commands::jobs::way_back;
use crate::error::CommandError;
use crate::format::{count, number};
use crate::report::{Facts, Report};
use zporter_core::job::Kind;
use zporter_core::job::run::{LoadOutcome, LoadPreview};

/// Tells what was loaded.
pub fn report(done: &LoadOutcome) -> Result<Report, CommandError> {
    let loaded = &done.loaded;
    let rows = count(loaded.rows.values().sum(), "row");
    let tables = count(loaded.rows.len() as u64, "table");
    let from = match &done.files[..] {
        [one] => one.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default(),
        parts => count(parts.len() as u64, "part"),
    };
    let verdict = format!("Loaded {from} → {}: {tables}, {rows}", done.database);
    let mut report = Report::new("database load", verdict, done)?;
    report.findings.clone_from(&done.findings);
    let mut facts = Facts::default();
    for file in &done.files {
        facts.add("from", file.display().to_string());
    }
    facts.add("tables", format!("{tables} with {rows}"));
    if loaded.went_on > 0 {
        facts.add("of them", format!("{} whole from the run before", number(loaded.went_on)));
    }
    if loaded.differing.is_empty() {
        facts.add("counts", "every table holds as many rows as were sent");
    }
    if loaded.checksums > 0 {
        facts.add("checksums", format!("{} as dumped", count(loaded.checksums, "table")));
    }
    if loaded.definers > 0 {
        let what = "removed from views, triggers and routines";
        facts.add("definers", format!("{} {what}", number(loaded.definers)));
    }
    for s in &loaded.substituted {
        facts
            .add("substituted", format!("{} {} became {}, {}", s.kind, s.from, s.to, count(s.count, "time")));
    }
    report.section("", facts.block());
    way_back(&mut report, &done.run, Kind::DatabaseLoad);
    Ok(report)
}

/// Tells what would be loaded.
pub fn preview(planned: &LoadPreview) -> Result<Report, CommandError> {
    let first = planned.files.first().map(|f| f.display().to_string()).unwrap_or_default();
    let verdict = format!("Would load {first} → {}", planned.database);
    let mut report = Report::new("database load", verdict, planned)?;
    let mut facts = Facts::default();
    match (&planned.goes_on, planned.tables_there) {
        (Some((run, whole)), _) => {
            facts.add("goes on", format!("where {run} stopped: {} whole", count(*whole, "table")))
        }
        (None, 0) => facts.add("the database", "is empty"),
        (None, n) => facts.add("replaces", count(n, "table")),
    };
    report.section("", facts.block());
    Ok(report)
}
