//! Packs a surveyed site: its contents becomes an archive, as a stream.

use crate::archive::format::{DATABASE, LeftOut};
use crate::archive::read::EntryKind;
use crate::archive::write::{ArchiveWriter, Meta};
use crate::contents::{GatherOptions, PackError, gather};
use crate::event::{Counted, Event, Watch};
use crate::finding::Finding;
use crate::fsx::{AtPath, absolute};
use crate::place::Address;
use crate::restore::run::place_failed;
use crate::survey::Survey;
use schemars::JsonSchema;
use serde::Serialize;
use std::fs;
use std::ops::ControlFlow;
use std::path::{Path, PathBuf};

/// What was packed.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct Packed {
    /// The archive.
    pub archive: PathBuf,
    /// Its size in bytes.
    pub size: u64,
    /// Files carried.
    pub files: u64,
    /// Their bytes.
    pub file_bytes: u64,
    /// Tables carried.
    pub tables: u64,
    /// Rows carried.
    pub rows: u64,
    /// Base address that is noted in the head.
    pub address: Option<Address>,
    /// What was left out, and why.
    pub left_out: Vec<LeftOut>,
    /// What needs attention.
    #[serde(skip)]
    pub findings: Vec<Finding>,
}

/// Packs a site into an archive, in place of one that is there only if that was asked for.
pub fn pack(
    survey: &Survey,
    output: &Path,
    force: bool,
    options: &GatherOptions<'_>,
    watch: &dyn Watch,
) -> Result<Packed, PackError> {
    let output = absolute(output);
    let folder = output.parent().map(Path::to_path_buf).unwrap_or_default();
    let real = fs::canonicalize(&folder).at(&folder)?;
    if survey.tree.is_here() && real.starts_with(&survey.site) {
        return Err(PackError::InsideSite(output));
    }
    let mut contents = gather(survey.clone(), options, &folder, false, watch)?;
    watch.event(Event::StepStarted { step: "packing", total: Some(contents.head.expected_bytes) });
    let mut writer = ArchiveWriter::create(&output, force, &contents.head)?;
    let mut findings = std::mem::take(&mut contents.findings);
    let (mut files, mut bytes) = (0, 0);
    let mut problem: Option<PackError> = None;
    let _ = contents.entries(&mut findings, &mut |entry| {
        let Ok(Some(path)) = entry.path else { return ControlFlow::Continue(()) };
        let is_file = path.below(DATABASE).is_none();
        let meta = Meta { path, mode: entry.mode.unwrap_or_default(), time: entry.time };
        let written = match &entry.kind {
            EntryKind::Folder => writer.folder(&meta),
            EntryKind::Symlink(target) => writer.symlink(&meta, target),
            _ => writer.file(&meta, entry.size, Counted::new(entry.content, watch)),
        };
        if let Err(e) = written {
            problem = Some(e.into());
            return ControlFlow::Break(());
        }
        if is_file && entry.kind != EntryKind::Folder {
            files += 1;
            bytes += entry.size;
        }
        ControlFlow::Continue(())
    });
    if let Some(problem) = problem {
        return Err(problem);
    }
    let size = writer.finish()?;
    findings.extend(survey.tree.trouble().map(place_failed));
    watch.event(Event::StepDone);
    Ok(Packed {
        archive: output,
        size,
        files,
        file_bytes: bytes,
        tables: contents.tables().len() as u64,
        rows: contents.parts.iter().map(|p| p.rows).sum(),
        address: contents.head.place.address.clone(),
        left_out: contents.left_out,
        findings,
    })
}
