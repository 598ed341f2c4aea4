//! Packs a surveyed site: its contents becomes an archive, as a stream.

use crate::archive::blob::Straight;
use crate::archive::container::Container;
use crate::archive::format::{DATABASE, LeftOut};
use crate::archive::read::EntryKind;
use crate::archive::write::{ArchiveWriter, Meta};
use crate::contents::{GatherOptions, PackError, fold_vanished, gather, shrank};
use crate::dump::rules::Keep;
use crate::event::{Counted, Event, Watch};
use crate::finding::Finding;
use crate::fsx::{AtPath, absolute, folder_of};
use crate::machine;
use crate::place::Address;
use crate::select::{Part, Scope, Selection};
use crate::survey::estimate::{Estimate, packed};
use crate::survey::{Survey, folders};
use crate::table_scope::TableScope;
use crate::tree::place_failed;
use schemars::JsonSchema;
use serde::Serialize;
use std::fs::{self, File};
use std::ops::ControlFlow;
use std::path::{Path, PathBuf};

/// What was packed.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct Packed {
    /// The archive.
    #[serde(with = "crate::path_text")]
    #[schemars(with = "PathBuf")]
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

/// Where an archive goes.
#[derive(Debug)]
pub enum PackInto<'p> {
    /// Into a file; in place of one that is there only with `force`.
    File {
        /// Path.
        path: &'p Path,
        /// Whether one that is there is replaced.
        force: bool,
    },
    /// Straight into a pipe or a device.
    Straight {
        /// The open end.
        out: File,
        /// What it is called; its ending says which archive it is, a `.tar.zst` where it says nothing.
        name: &'p Path,
        /// A folder for what is temporary.
        temporary: &'p Path,
    },
}

/// Packs a site into an archive.
pub fn pack(
    survey: &Survey,
    into: PackInto<'_>,
    options: &GatherOptions<'_>,
    watch: &dyn Watch,
) -> Result<Packed, PackError> {
    let (output, folder) = match &into {
        PackInto::File { path, .. } => {
            let output = absolute(path);
            let folder = folder_of(&output).to_path_buf();
            let real = fs::canonicalize(&folder).at(&folder)?;
            if survey.tree.is_here() && real.starts_with(&survey.site) {
                return Err(PackError::InsideSite(output));
            }
            (output, folder)
        }
        PackInto::Straight { name, temporary, .. } => (name.to_path_buf(), temporary.to_path_buf()),
    };
    let mut contents = gather(survey.clone(), options, &folder, false, watch)?;
    let (outline, first) = contents.outline().unzip();
    contents.head.outline = outline;
    contents.head.packed_on = Some(machine::here(contents.server.clone()));
    let first = first.unwrap_or_default();
    watch.event(Event::StepStarted { step: "packing", total: Some(contents.head.expected_bytes) });
    let mut writer = match into {
        PackInto::File { force, .. } => ArchiveWriter::create(&output, force, &contents.head)?,
        PackInto::Straight { out, name, .. } => {
            let container = Container::for_name(name).unwrap_or(Container::TarZst);
            let manifest = tempfile::tempfile_in(&folder).at(&folder)?;
            ArchiveWriter::into_sink(Box::new(Straight(out)), name, container, manifest, &contents.head)?
        }
    };
    let mut findings = std::mem::take(&mut contents.findings);
    let (mut files, mut bytes) = (0, 0);
    let mut problem: Option<PackError> = None;
    let mut shorter = Vec::new();
    let _ = contents.entries(&first, &mut findings, &mut |entry| {
        let Ok(Some(path)) = entry.path else { return ControlFlow::Continue(()) };
        let is_file = path.below(DATABASE).is_none();
        let meta = Meta { path, mode: entry.mode.unwrap_or_default(), time: entry.time };
        let written = match &entry.kind {
            EntryKind::Folder => writer.folder(&meta),
            EntryKind::Symlink(target) => writer.symlink(&meta, target),
            _ if !is_file => writer.file(&meta, entry.size, Counted::new(entry.content, watch)),
            _ => writer.file_in_use(&meta, entry.size, Counted::new(entry.content, watch)).map(|short| {
                let shown = meta.path.shown();
                shorter.extend(
                    short.map(|s| shrank(&shown, s.bytes, entry.size, s.is_filled, s.cause.as_ref())),
                );
            }),
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
    findings.append(&mut shorter);
    fold_vanished(&mut findings);
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

/// Reckons what packing a part of a site would write.
pub fn estimate(found: &Survey, scope: &Scope, tables: TableScope<'_>) -> Estimate {
    let definition = &found.recognised.definition;
    let whose = found.whose_beside(tables.whose);
    let tables = TableScope { whose: &whose, ..tables };
    let mut out = Estimate::default();
    if scope.has_files() {
        let selection = Selection::of(definition, scope, &found.hosts.others())
            .beside_database(&found.site, found.config.database.as_ref());
        let walked = folders::walk(&*found.tree, definition, &selection, 1);
        (out.files, out.file_bytes, out.archive_bytes) = (walked.files, walked.bytes, walked.packed_bytes);
    }
    if scope.has(&Part::Database) {
        for table in &found.tables {
            match tables.keeps(definition, &found.config.table_prefix, &table.name) {
                Keep::All => {
                    out.tables += 1;
                    out.rows += table.rows;
                    out.database_bytes += table.bytes;
                }
                Keep::Structure => out.tables += 1,
                Keep::Nothing => {}
            }
        }
        out.archive_bytes += packed(out.database_bytes);
    }
    out
}
