//! `zporter verify`: is an archive whole, and if not, what happened to it.

use crate::error::CommandError;
use crate::exit::Exit;
use crate::format::{bytes, count};
use crate::progress::Progress;
use crate::render::Style;
use crate::report::{Block, Facts, Report};
use clap::Args;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;
use zporter_core::archive::blob::LocalFile;
use zporter_core::archive::verify::{Damage, Verdict, Verified, verify};
use zporter_core::event::{Event, Watch};
use zporter_core::finding::{Code, Finding};
use zporter_core::fsx::absolute;
use zporter_core::restore::source::cut_files;

/// Verify that archives are whole: everything is read, nothing is extracted
#[derive(Debug, Args)]
pub struct VerifyArgs {
    /// Archives
    #[arg(required = true)]
    pub archives: Vec<PathBuf>,
    /// Write the report to this file as a page that opens in any browser, without a network
    #[arg(long, value_name = "FILE")]
    pub page: Option<PathBuf>,
}

/// What is known of an archive.
#[derive(Debug, Serialize, JsonSchema)]
pub struct VerifyResult {
    /// Archive.
    #[serde(with = "zporter_core::path_text")]
    #[schemars(with = "PathBuf")]
    archive: PathBuf,
    /// Whether it is whole.
    whole: bool,
    /// What it holds.
    #[serde(skip_serializing_if = "Option::is_none")]
    holds: Option<Verified>,
    /// What is wrong with it.
    #[serde(skip_serializing_if = "Option::is_none")]
    damage: Option<Damage>,
}

/// Runs the command. All archives are looked at, whatever the first ones turn out to be.
pub fn run(style: Style, args: &VerifyArgs) -> Result<Report, CommandError> {
    let progress = Progress::new(style);
    let mut results = Vec::new();
    for path in &args.archives {
        if path.is_dir() {
            return Err(CommandError::usage(format!("{} is a folder, not an archive", path.display()))
                .hint("name the archive's file; `zporter survey` looks at a site's folder"));
        }
        let total = std::fs::metadata(path).map(|m| m.len()).ok();
        progress.event(Event::StepStarted { step: "verifying", total });
        let verdict = verify(&LocalFile(path), &progress);
        progress.event(Event::StepDone);
        let archive = absolute(path);
        results.push(match verdict? {
            Verdict::Whole(holds) => VerifyResult { archive, whole: true, holds: Some(*holds), damage: None },
            Verdict::Damaged(damage) => {
                VerifyResult { archive, whole: false, holds: None, damage: Some(damage) }
            }
        });
    }
    let mut report = report(&results)?;
    report.page_to.clone_from(&args.page);
    Ok(report)
}

fn report(results: &[VerifyResult]) -> Result<Report, CommandError> {
    let verdict = match results {
        [one] => match &one.damage {
            None => format!("Whole: {}", one.archive.display()),
            Some(Damage::NotOurs { .. }) => format!("Not verified: {}", one.archive.display()),
            Some(_) => format!("Damaged: {}", one.archive.display()),
        },
        all => {
            let whole = all.iter().filter(|r| r.whole).count();
            format!("{whole} of {} archives are whole", all.len())
        }
    };
    let mut report = Report::new("verify", verdict, &results)?;
    for result in results {
        let path = result.archive.display().to_string();
        if let Some(damage) = &result.damage {
            let found = Finding::new(Code::ArchiveDamaged, damage.to_string(), path, damage.cure());
            report.findings.push(found);
            report.exit = Some(Exit::Damaged);
            continue;
        }
        let Some(holds) = &result.holds else { continue };
        report.findings.extend(cut_files(holds));
        let mut facts = Facts::default();
        let version = holds.head.system.version.as_deref().unwrap_or("");
        facts.add("system", format!("{} {version}", holds.head.system.name));
        facts.add("packed", format!("{} by {}", holds.head.packed_at, holds.head.written_by));
        if !holds.head.note.is_empty() {
            facts.add("note", crate::format::safe(&holds.head.note));
        }
        let address = holds.head.place.address.as_ref();
        facts.add("address", address.map_or("not known".into(), ToString::to_string));
        facts.add("content", format!("{}, {} unpacked", count(holds.entries, "entry"), bytes(holds.bytes)));
        let rows = count(holds.rows, "row");
        facts.add("database", format!("{}, {rows}", count(holds.database_parts, "part")));
        let title = if results.len() > 1 { path } else { String::new() };
        report.section(title, facts.block());
    }
    let rows = results.iter().map(|r| {
        let word = match r.damage {
            None => "whole",
            Some(Damage::NotOurs { .. }) => "not ours",
            Some(_) => "damaged",
        };
        vec![r.archive.display().to_string(), word.to_string()]
    });
    if results.len() > 1 {
        report.section("Archives", Block::table(&["archive", "is"], rows));
    }
    Ok(report)
}
