//! The files of a restore: their way into the target.

use super::RestoreError;
use super::locate::{EntryPlace, Locate};
use super::plan::RestorePlan;
use crate::archive::entry_path::EntryPath;
use crate::archive::read::{Entry, EntryKind};
use crate::event::{Warning, Warnings};
use crate::fsx::{AtPath, sync_folder};
use crate::survey::select::{Fate, Selection};
use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io;
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::PathBuf;
use std::time::{Duration, SystemTime};

/// Unpacks files into the target.
pub(super) struct Unpack<'p, 'w> {
    plan: &'p RestorePlan,
    locate: Locate,
    selection: Selection,
    warnings: &'p mut Warnings<'w>,
    /// Files unpacked.
    pub(super) files: u64,
    /// Their bytes.
    pub(super) bytes: u64,
    /// Entries that were not carried, by reason.
    pub(super) not_unpacked: BTreeMap<String, u64>,
    /// Modes and times of folders are set at the end: a read-only one could not be filled, and filling changes its time.
    folders: Vec<(PathBuf, Option<u32>, i64)>,
    /// Links come last, so that nothing is ever written through one.
    links: Vec<(PathBuf, PathBuf)>,
}

impl<'p, 'w> Unpack<'p, 'w> {
    pub(super) fn new(plan: &'p RestorePlan, warnings: &'p mut Warnings<'w>) -> Self {
        Unpack {
            plan,
            locate: Locate::of(&plan.source, &plan.job),
            selection: Selection::of(&plan.definition, &plan.job.scope, &plan.hosts.others()),
            warnings,
            files: 0,
            bytes: 0,
            not_unpacked: BTreeMap::new(),
            folders: Vec::new(),
            links: Vec::new(),
        }
    }

    pub(super) fn place_of(&mut self, entry: &Entry<'_>) -> EntryPlace {
        if let Err(problem) = &entry.path {
            self.warnings.push(Warning::new(
                format!("an entry was refused: {problem}"),
                format!("{:?}", entry.raw_name),
                "look at where this archive comes from",
            ));
        }
        let place = self.locate.place_of(entry);
        if let (EntryPlace::None, Ok(Some(_)), false) = (&place, &entry.path, self.locate.ours) {
            *self.not_unpacked.entry("outside of the site's folder".into()).or_default() += 1;
        }
        place
    }

    pub(super) fn file(&mut self, entry: Entry<'_>, below: &EntryPath) -> Result<(), RestoreError> {
        let is_folder = entry.kind == EntryKind::Folder;
        let why = match self.selection.fate(below.as_path(), is_folder) {
            Fate::Carry => {
                let path = self.plan.job.target.join(self.plan.placed(below.as_path()));
                return self.unpack(entry, below, path);
            }
            Fate::Transient(_) | Fate::Generated(_) => "made anew by the system".to_string(),
            Fate::Media(i) => format!("left out as asked: {}", self.plan.definition.media[i].about),
            Fate::OtherHost => "of another host".into(),
            Fate::NotAsked => "left out as asked".into(),
        };
        *self.not_unpacked.entry(why).or_default() += 1;
        Ok(())
    }

    /// Unpacks an entry of the folder that belongs to the site outside of its root.
    pub(super) fn outside(&mut self, entry: Entry<'_>, below: &EntryPath) -> Result<(), RestoreError> {
        match self.plan.outside() {
            Some(folder) => self.unpack(entry, below, folder.join(below.as_path())),
            None => Ok(()),
        }
    }

    fn unpack(&mut self, entry: Entry<'_>, below: &EntryPath, path: PathBuf) -> Result<(), RestoreError> {
        let wrong = |why: String| RestoreError::Entry { entry: below.shown(), why };
        match entry.kind {
            // A folder that holds others' things keeps its mode.
            EntryKind::Folder if !path.starts_with(self.plan.own_folder()) && path.is_dir() => {}
            EntryKind::Folder => {
                fs::create_dir_all(&path).at(&path)?;
                self.folders.push((path, entry.mode, entry.time));
            }
            EntryKind::File => {
                let folder = path.parent().unwrap_or(&path);
                fs::create_dir_all(folder).at(folder)?;
                let mode = entry.mode.unwrap_or(0o644) & 0o777;
                let mut file =
                    File::options().write(true).create_new(true).mode(0o600).open(&path).at(&path)?;
                let count = io::copy(entry.content, &mut file).at(&path)?;
                file.set_modified(at_time(entry.time)).at(&path)?;
                // Bits that give a program its owner's rights are not carried.
                fs::set_permissions(&path, fs::Permissions::from_mode(mode)).at(&path)?;
                self.files += 1;
                self.bytes += count;
            }
            EntryKind::Symlink(to) => {
                self.links.push((path, to));
                self.files += 1;
            }
            EntryKind::HardLink(to) => {
                let name = std::os::unix::ffi::OsStrExt::as_bytes(to.as_os_str());
                let other = EntryPath::check(name).ok().flatten();
                let prefix = &self.locate.prefix;
                let other = other.and_then(|o| if prefix.is_empty() { Some(o) } else { o.below(prefix) });
                let other = other.ok_or_else(|| wrong("its other name lies outside of the site".into()))?;
                let other = self.plan.job.target.join(other.as_path());
                self.bytes += fs::copy(&other, &path).at(&other)?;
                self.files += 1;
            }
            EntryKind::Special => {
                self.warnings.push(Warning::new(
                    "a device, pipe or socket was not unpacked",
                    below.shown(),
                    "",
                ));
            }
        }
        Ok(())
    }

    pub(super) fn finish(&mut self) -> Result<(), RestoreError> {
        let target = &self.plan.job.target;
        for (path, _, _) in &self.folders {
            let below = path.strip_prefix(target).unwrap_or(path);
            for wanted in self.selection.skeleton(below) {
                let wanted = target.join(wanted);
                fs::create_dir_all(&wanted).at(&wanted)?;
            }
        }
        for (path, to) in &self.links {
            let folder = path.parent().unwrap_or(path);
            fs::create_dir_all(folder).at(folder)?;
            std::os::unix::fs::symlink(to, path).at(path)?;
            if to.is_absolute()
                || to.components().filter(|c| *c == std::path::Component::ParentDir).count() > 0
            {
                let what = format!("a link leads to {}", to.display());
                self.warnings.push(Warning::at(
                    what,
                    path,
                    "check that it leads where it should on this host",
                ));
            }
        }
        // From the bottom up: a folder's time changes when something in it does.
        for (path, mode, time) in self.folders.iter().rev() {
            if let Some(mode) = mode {
                fs::set_permissions(path, fs::Permissions::from_mode(mode & 0o777)).at(path)?;
            }
            if let Ok(handle) = File::open(path) {
                let _ = handle.set_modified(at_time(*time));
            }
        }
        sync_folder(target);
        Ok(())
    }
}

fn at_time(seconds: i64) -> SystemTime {
    SystemTime::UNIX_EPOCH + Duration::from_secs(u64::try_from(seconds).unwrap_or(0))
}
