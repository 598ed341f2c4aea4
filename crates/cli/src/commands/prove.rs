//! `zporter prove`: is an archive whole, and if not, what happened to it.

use crate::error::CommandError;
use crate::exit::Exit;
use crate::format::{bytes, count};
use crate::progress::Progress;
use crate::ui::Ui;
use clap::Args;
use serde::Serialize;
use std::path::PathBuf;
use zporter_core::archive::prove::{Damage, Proof, Verdict, prove};
use zporter_core::event::{Event, Watch};
use zporter_core::fsx::absolute;

/// Prove that archives are whole: everything is read, nothing is extracted
#[derive(Debug, Args)]
pub struct ProveArgs {
    /// Archives
    #[arg(required = true)]
    pub archives: Vec<PathBuf>,
}

#[derive(Debug, Serialize)]
struct Proven {
    archive: PathBuf,
    whole: bool,
    #[serde(skip_serializing_if = "Option::is_none")]
    proof: Option<Proof>,
    #[serde(skip_serializing_if = "Option::is_none")]
    damage: Option<Damage>,
}

/// Runs the command. All archives are looked at, whatever the first ones turn out to be.
pub fn run(ui: &Ui, args: &ProveArgs) -> Result<Exit, CommandError> {
    let progress = Progress::new(ui);
    let mut results = Vec::new();
    for path in &args.archives {
        if path.is_dir() {
            return Err(CommandError::usage(format!("{} is a folder, not an archive", path.display()))
                .hint("name the archive's file; `zporter survey` looks at a site's folder"));
        }
        let total = std::fs::metadata(path).map(|m| m.len()).ok();
        progress.event(Event::StepStarted { step: "proving", total });
        let verdict = prove(path, &progress);
        progress.event(Event::StepDone);
        let archive = absolute(path);
        results.push(match verdict? {
            Verdict::Whole(proof) => Proven { archive, whole: true, proof: Some(*proof), damage: None },
            Verdict::Damaged(damage) => Proven { archive, whole: false, proof: None, damage: Some(damage) },
        });
        if let (false, Some(result)) = (ui.json, results.last()) {
            show(ui, result);
        }
    }
    if ui.json {
        ui.document(&results)?;
    }
    Ok(if results.iter().all(|r| r.whole) { Exit::Done } else { Exit::Damaged })
}

fn show(ui: &Ui, result: &Proven) {
    let path = result.archive.display();
    if let Some(damage) = &result.damage {
        let word = if matches!(damage, Damage::NotOurs { .. }) { "Not proven" } else { "Damaged" };
        ui.bad(&format!("{word}: {path}"));
        ui.finding(&damage.to_string(), "", damage.cure());
        return;
    }
    let Some(proof) = &result.proof else { return };
    ui.good(&format!("Whole: {path}"));
    let version = proof.head.system.version.as_deref().unwrap_or("");
    ui.fact("system", format!("{} {version}", proof.head.system.name));
    ui.fact("packed", format!("{} by {}", proof.head.packed_at, proof.head.written_by));
    if !proof.head.note.is_empty() {
        ui.fact("note", crate::format::safe(&proof.head.note));
    }
    ui.fact("address", proof.head.place.address.as_ref().map_or("not known".into(), ToString::to_string));
    ui.fact("content", format!("{}, {} unpacked", count(proof.entries, "entry"), bytes(proof.bytes)));
    ui.fact("database", format!("{}, {}", count(proof.database_parts, "part"), count(proof.rows, "row")));
}
