//! Where each entry of an archive, or of a site that is cloned, belongs.

use super::RestoreError;
use super::job::RestoreJob;
use super::source::{self, ArchiveKind, Source};
use crate::archive::entry_path::EntryPath;
use crate::archive::format::{DATABASE, FILES, OUTSIDE};
use crate::archive::read::Entry;
use crate::event::Watch;
use crate::fsx::AtPath;
use std::fs::File;
use std::io::Read;
use std::ops::ControlFlow;

/// Where an entry belongs.
pub(super) enum EntryPlace {
    File(EntryPath),
    Outside(EntryPath),
    Database(String),
    None,
}

/// Tells files, database parts and the rest of an archive apart.
pub(super) struct Locate {
    pub(super) ours: bool,
    pub(super) prefix: String,
    dump: Option<String>,
    external_dump: bool,
}

impl Locate {
    pub(super) fn of(source: &Source, job: &RestoreJob) -> Self {
        let (ours, dump) = match &source.kind {
            ArchiveKind::Ours(_) => (true, None),
            ArchiveKind::Plain { dump } => (false, dump.clone()),
        };
        let prefix =
            if ours { FILES.to_string() } else { source.files.prefix.trim_end_matches('/').to_string() };
        Locate { ours, prefix, dump, external_dump: job.dump.is_some() }
    }

    pub(super) fn place_of(&self, entry: &Entry<'_>) -> EntryPlace {
        let Ok(Some(path)) = &entry.path else { return EntryPlace::None };
        if self.ours
            && let Some(part) = path.below(DATABASE)
        {
            return EntryPlace::Database(part.shown());
        }
        if self.ours
            && let Some(below) = path.below(OUTSIDE)
        {
            return EntryPlace::Outside(below);
        }
        if self.dump.as_ref() == Some(&entry.raw_name) {
            return if self.external_dump {
                EntryPlace::None
            } else {
                EntryPlace::Database(entry.raw_name.clone())
            };
        }
        let below = if self.prefix.is_empty() { Some(path.clone()) } else { path.below(&self.prefix) };
        below.map_or(EntryPlace::None, EntryPlace::File)
    }
}

pub(super) type TakePart<'t> = &'t mut dyn FnMut(&str, Box<dyn Read + '_>) -> Result<(), RestoreError>;

/// Hands every database part to `take`, wherever it lies.
pub(super) fn each_part(
    job: &RestoreJob,
    locate: &Locate,
    wants: &dyn Fn(&str) -> bool,
    watch: &dyn Watch,
    take: TakePart<'_>,
) -> Result<(), RestoreError> {
    let mut problem = None;
    source::entries(job, wants, watch, &mut |entry| {
        let EntryPlace::Database(name) = locate.place_of(&entry) else { return ControlFlow::Continue(()) };
        problem = take(&name, Box::new(entry.content)).err();
        if problem.is_some() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    })?;
    if let Some(problem) = problem {
        return Err(problem);
    }
    if let Some(dump) = &job.dump {
        take(&dump.display().to_string(), Box::new(File::open(dump).at(dump)?))?;
    }
    Ok(())
}
