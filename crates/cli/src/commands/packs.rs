//! Reports of `pack`: what is in the archives, or what would be.

use super::jobs::way_back;
use crate::error::CommandError;
use crate::format::{bytes, count, number};
use crate::report::{Block, Facts, Report};
use zporter_core::job::Kind;
use zporter_core::job::run::{PackPreview, PackedRun};

/// Tells what was packed.
pub fn report(packed: &[PackedRun]) -> Result<Report, CommandError> {
    let size: u64 = packed.iter().map(|p| p.packed.size).sum();
    let to = match packed {
        [one] => format!("→ {}", one.packed.archive.display()),
        all => format!("{} archives", all.len()),
    };
    let mut report = match packed {
        [one] => Report::new("pack", format!("Packed {to}: {}", bytes(size)), one)?,
        all => Report::new("pack", format!("Packed {to}: {}", bytes(size)), &all)?,
    };
    for PackedRun { packed, run } in packed {
        report.findings.extend(packed.findings.iter().cloned());
        let mut facts = Facts::default();
        facts.add("archive", packed.archive.display().to_string());
        facts.add("size", format!("{} ({} bytes)", bytes(packed.size), number(packed.size)));
        facts.add("files", format!("{}, {}", count(packed.files, "file"), bytes(packed.file_bytes)));
        facts.add("database", format!("{}, {}", count(packed.tables, "table"), count(packed.rows, "row")));
        let address = packed.address.as_ref().map(ToString::to_string);
        facts.add("address", address.unwrap_or_else(|| "not known; a restore will ask for it".into()));
        report.section("", facts.block());
        let mut rows: Vec<_> = packed.left_out.iter().collect();
        rows.sort_by(|a, b| b.bytes.cmp(&a.bytes).then(b.count.cmp(&a.count)));
        let rows = rows.into_iter().map(|l| {
            let size = if l.bytes > 0 { bytes(l.bytes) } else { String::new() };
            vec![l.what.clone(), number(l.count), size, l.why.clone()]
        });
        report.section("Left out", Block::folded(&["what", ">count", ">size", "why"], 12, "thing", rows));
        way_back(&mut report, run, Kind::Pack);
    }
    Ok(report)
}

/// Tells what would be packed.
pub fn preview(planned: &[PackPreview]) -> Result<Report, CommandError> {
    let size: u64 = planned.iter().map(|p| p.estimate.archive_bytes).sum();
    let to = match planned {
        [one] => one.archive.display().to_string(),
        all => format!("{} archives", all.len()),
    };
    let mut report = Report::new("pack", format!("Would pack → {to}: about {}", bytes(size)), &planned)?;
    for one in planned {
        let e = &one.estimate;
        let mut facts = Facts::default();
        facts.add("site", one.site.display().to_string());
        facts.add("archive", one.archive.display().to_string());
        facts.add("files", format!("{}, {}", count(e.files, "file"), bytes(e.file_bytes)));
        let rows = count(e.rows, "row");
        facts.add("database", format!("{}, {rows}, {}", count(e.tables, "table"), bytes(e.database_bytes)));
        let free = one.free_bytes.map(|f| format!("{} are free there", bytes(f)));
        facts.add("needs", format!("about {}; {}", bytes(e.archive_bytes), free.unwrap_or_default()));
        report.section("", facts.block());
    }
    Ok(report)
}
