//! The files of a restore: their way into the target.

use super::RestoreError;
use super::copiers::{Copiers, Job};
use super::in_place::Over;
use super::locate::{EntryPlace, Locate};
use super::owner::Owner;
use super::plan::RestorePlan;
use super::push;
use super::refresh;
use super::restored::{NotUnpacked, Refreshed};
use crate::archive::entry_path::EntryPath;
use crate::archive::read::{Entry, EntryKind};
use crate::change_log::ChangeLog;
use crate::contents::{fold_vanished, unreadable};
use crate::event::Findings;
use crate::finding::{Code, Finding};
use crate::fsx::{AtPath, CopyMethod};
use crate::select::{Decision, Selection};
use crate::tree::{self, Links, Meta, OpenFile, Origin, Properties, Temporary, at_second};
use globset::GlobSet;
use std::collections::{BTreeMap, HashSet};
use std::hash::{BuildHasher, RandomState};
use std::io;
use std::path::{Path, PathBuf};

/// Unpacks files into the target.
pub(super) struct Unpack<'p, 'w> {
    plan: &'p RestorePlan,
    change_log: &'p mut ChangeLog,
    /// The folder that was made or found last: most files lie beside the one before.
    folder: PathBuf,
    locate: Locate,
    selection: Selection,
    pub(super) findings: &'p mut Findings<'w>,
    /// Files of a site at work that could not be copied, or not whole.
    missed: Vec<Finding>,
    /// Files unpacked.
    pub(super) files: u64,
    /// Their bytes.
    pub(super) bytes: u64,
    /// Entries that were not carried, by reason.
    pub(super) not_unpacked: BTreeMap<String, NotUnpacked>,
    /// Modes and times of folders are set at the end: a read-only one could not be filled, and filling changes its time.
    folders: Vec<(PathBuf, Option<u32>, i64)>,
    /// Links come last, so that nothing is ever written through one.
    links: Vec<(PathBuf, PathBuf)>,
    /// Further names of files, with the names that they are further ones of.
    hard_links: Vec<(PathBuf, PathBuf)>,
    /// Hashes of the paths of files and links that were made.
    made: HashSet<u64>,
    refreshed: Refreshed,
    /// Hashes of the paths that the source holds, of a copy that is brought up to date.
    seen: HashSet<u64>,
    /// The same of the files that were copied into it.
    copied: HashSet<u64>,
    copiers: Option<Copiers>,
    owner: Owner,
    /// Files that hold settings.
    own: GlobSet,
    hasher: RandomState,
}

impl<'p, 'w> Unpack<'p, 'w> {
    pub(super) fn new(
        plan: &'p RestorePlan,
        findings: &'p mut Findings<'w>,
        change_log: &'p mut ChangeLog,
    ) -> Self {
        Unpack {
            plan,
            change_log,
            folder: PathBuf::new(),
            locate: Locate::of(&plan.source, &plan.job),
            selection: plan.selection(),
            findings,
            missed: Vec::new(),
            files: 0,
            bytes: 0,
            not_unpacked: BTreeMap::new(),
            folders: Vec::new(),
            links: Vec::new(),
            hard_links: Vec::new(),
            made: HashSet::new(),
            refreshed: Refreshed::default(),
            seen: HashSet::new(),
            copied: HashSet::new(),
            copiers: None,
            owner: plan.owner,
            own: match plan.job.options.push {
                true => push::files_that_stay(&plan.definition),
                false => plan.definition.config_files(),
            },
            hasher: RandomState::new(),
        }
    }

    pub(super) fn place_of(&mut self, entry: &Entry<'_>) -> EntryPlace {
        if let Err(problem) = &entry.path {
            self.findings.push(Finding::new(
                Code::EntryRefused,
                format!("an entry was refused: {problem}"),
                format!("{:?}", entry.raw_name),
                "look at where this archive comes from",
            ));
        }
        let place = self.locate.place_of(entry);
        if let (EntryPlace::None, Ok(Some(_)), false) = (&place, &entry.path, self.locate.ours) {
            self.left_out("outside of the site's folder".into(), &entry.raw_name);
        }
        place
    }

    pub(super) fn file(&mut self, entry: Entry<'_>, below: &EntryPath) -> Result<(), RestoreError> {
        let is_folder = entry.kind == EntryKind::Folder;
        if self.plan.job.options.push && self.is_own(below.as_path()) {
            self.left_out("the live site keeps its own".into(), &entry.raw_name);
            return Ok(());
        }
        let why = match self.selection.decide(below.as_path(), is_folder) {
            Decision::Copy => {
                let path = self.plan.job.folder().join(self.plan.placed(below.as_path()));
                return self.unpack(entry, below, path);
            }
            Decision::Cache(_) | Decision::Generated(_) => "rebuilt by the system".to_string(),
            Decision::Media(i) => format!("left out as asked: {}", self.plan.definition.media[i].about),
            Decision::OtherHost => "of another host, or a copy of the site".into(),
            Decision::Database => "the database, which is loaded table by table".into(),
            Decision::NotAsked => "left out as asked".into(),
        };
        self.left_out(why, &entry.raw_name);
        Ok(())
    }

    fn left_out(&mut self, why: String, name: &str) {
        let known = self.not_unpacked.entry(why).or_default();
        if known.entries == 0 {
            known.first = name.to_string();
        }
        known.entries += 1;
    }

    /// Unpacks an entry of the folder that belongs to the site outside of its root.
    pub(super) fn outside(&mut self, entry: Entry<'_>, below: &EntryPath) -> Result<(), RestoreError> {
        match self.plan.outside() {
            Some(folder) => self.unpack(entry, below, folder.join(below.as_path())),
            None => Ok(()),
        }
    }

    /// Says whether a file takes the place of one that is in use.
    fn is_over(&self, path: &Path) -> bool {
        match &self.plan.job.over {
            Some(Over::Beside(folder)) => !path.starts_with(folder),
            Some(Over::EachFile) => true,
            None => self.plan.job.options.refresh,
        }
    }

    /// Returns what a refresh found.
    pub(super) fn refreshed(&self) -> Option<Refreshed> {
        self.plan.job.options.refresh.then_some(self.refreshed)
    }

    fn make_folder(&mut self, folder: &Path) -> Result<(), RestoreError> {
        if self.folder.as_os_str() != folder.as_os_str() {
            self.change_log.folder(folder)?;
            self.folder = folder.to_path_buf();
        }
        Ok(())
    }

    /// Says whether a file holds settings, which a copy that is brought up to date keeps.
    fn is_own(&self, below: &Path) -> bool {
        self.own.is_match(below)
    }

    /// Says whether a file of the copy can stay as it is: the same size and time, or one of the copy's own settings.
    fn stays(&mut self, entry: &Entry<'_>, below: &EntryPath, path: &Path) -> bool {
        if !self.plan.job.options.refresh {
            return false;
        }
        self.seen.insert(self.hasher.hash_one(path));
        let Some(meta) = self.plan.tree_of(path).there(path) else { return false };
        if self.is_own(below.as_path()) {
            self.refreshed.own += 1;
            return true;
        }
        let same = refresh::is_same(self.plan, entry, &meta, path);
        self.refreshed.unchanged += u64::from(same);
        same
    }

    /// Copies a file under a temporary name, so that a copy that is in use never shows half of one.
    fn exchange(
        &mut self,
        entry: Entry<'_>,
        mut origin: Option<Box<dyn OpenFile>>,
        path: &Path,
    ) -> Result<u64, RestoreError> {
        let tree = self.change_log.tree(path)?.clone();
        if tree.there(path).is_some_and(|m| m.is_folder()) {
            let why = "there is a folder of this name in the copy".to_string();
            return Err(RestoreError::Entry { entry: path.display().to_string(), why });
        }
        self.change_log.replace(path)?;
        let mut file = Temporary::beside(&*tree, path).at(path)?;
        let source = origin.as_ref().and_then(|o| o.meta().ok());
        let properties = self.properties(&entry, path, source.as_ref());
        let into = file.file().at(path)?;
        let count = match &mut origin {
            Some(origin) => tree::copy(&mut CopyMethod::default(), &mut **origin, into, entry.size),
            None => io::copy(entry.content, into),
        };
        let count = count.at(path)?;
        file.take_place(path, &properties, false).at(path)?;
        Ok(count)
    }

    fn unpack(&mut self, entry: Entry<'_>, below: &EntryPath, path: PathBuf) -> Result<(), RestoreError> {
        let wrong = |why: String| RestoreError::Entry { entry: below.shown(), why };
        match entry.kind {
            // A folder that holds others' things keeps its mode.
            EntryKind::Folder
                if !path.starts_with(self.plan.own_folder()) && self.plan.tree_of(&path).is_folder(&path) => {
            }
            EntryKind::Folder => {
                self.make_folder(&path)?;
                self.folders.push((path, entry.mode, entry.time));
            }
            _ if self.stays(&entry, below, &path) => {}
            EntryKind::File => {
                self.make_folder(path.parent().unwrap_or(&path))?;
                if self.is_over(&path) {
                    let open = |origin: Origin<'_>| origin.tree.open(origin.path, Links::Follow);
                    let origin = match entry.origin.map(open).transpose() {
                        Ok(origin) => origin,
                        Err(e) => {
                            self.missed.push(unreadable(entry.origin.map_or(&path, |o| o.path), Some(&e)));
                            return Ok(());
                        }
                    };
                    self.copied.insert(self.hasher.hash_one(&path));
                    self.bytes += self.exchange(entry, origin, &path)?;
                } else if let Some(origin) = entry.origin {
                    let mode = entry.mode.unwrap_or(0o644) & 0o777;
                    let from = (origin.tree.clone(), origin.path.to_path_buf());
                    let (tree, time) = (self.change_log.tree(&path)?.clone(), at_second(entry.time));
                    let owner = match (&self.plan.job.over, self.plan.owner_of(&path, None)) {
                        (Some(_), Some(ids)) => Owner::Fixed(ids),
                        _ => self.owner,
                    };
                    let job = Job { from, tree, to: path, size: entry.size, mode, time, owner };
                    let copiers = match &mut self.copiers {
                        Some(started) => started,
                        none => none.insert(Copiers::start().at(self.plan.job.folder())?),
                    };
                    return copiers.copy(job, self.change_log);
                } else {
                    self.new_file(entry, &path)?;
                }
                self.files += 1;
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
                let other = self.plan.job.folder().join(self.plan.placed(other.as_path()));
                // Its other name may come behind it.
                self.hard_links.push((path, other));
                self.files += 1;
            }
            EntryKind::Special => {
                self.findings.push(Finding::new(
                    Code::SpecialFileLeftOut,
                    "a device, pipe or socket was not unpacked",
                    below.shown(),
                    "",
                ));
            }
        }
        Ok(())
    }

    /// Writes a file that was not there before. The same path twice: the last one counts.
    fn new_file(&mut self, entry: Entry<'_>, path: &Path) -> Result<(), RestoreError> {
        let tree = self.change_log.tree(path)?.clone();
        if self.made.insert(self.hasher.hash_one(path)) {
            self.change_log.file(path)?;
        } else if tree.there(path).is_some_and(|m| m.is_file()) {
            tree.remove(path).at(path)?;
        }
        let properties = self.properties(&entry, path, None);
        let mut file = tree.create(path, 0o600).at(path)?;
        self.bytes += io::copy(entry.content, &mut *file).at(path)?;
        Ok(file.finish(&properties, false).at(path)?)
    }

    /// Makes the files that an archive has as further names of others.
    fn link_hard(&mut self) -> Result<(), RestoreError> {
        let mut waiting = std::mem::take(&mut self.hard_links);
        while !waiting.is_empty() {
            let before = waiting.len();
            let mut again = Vec::new();
            for (path, other) in waiting {
                let Ok(mut source) =
                    self.change_log.tree(&other).and_then(|tree| tree.open(&other, Links::Stay).at(&other))
                else {
                    again.push((path, other));
                    continue;
                };
                self.make_folder(path.parent().unwrap_or(&path))?;
                let tree = self.change_log.tree(&path)?.clone();
                self.change_log.replace(&path)?;
                let meta = source.meta().at(&other)?;
                let mut file = Temporary::beside(&*tree, &path).at(&path)?;
                let into = file.file().at(&path)?;
                self.bytes +=
                    tree::copy(&mut CopyMethod::default(), &mut *source, into, meta.size).at(&path)?;
                let owner = self.plan.owner_of(&path, Some(&meta));
                let (mode, modified) = (Some(meta.mode & 0o777), Some(meta.modified));
                file.take_place(&path, &Properties { mode, modified, owner }, false).at(&path)?;
            }
            if again.len() == before {
                let (path, other) = again.remove(0);
                let why = format!(
                    "it is a further name of {}, which the archive does not hold as a file",
                    other.display()
                );
                return Err(RestoreError::Entry { entry: path.display().to_string(), why });
            }
            waiting = again;
        }
        Ok(())
    }

    /// What a file of an entry is given. Bits that give a program its owner's rights are not carried.
    fn properties(&self, entry: &Entry<'_>, path: &Path, source: Option<&Meta>) -> Properties {
        Properties {
            mode: Some(entry.mode.unwrap_or(0o644) & 0o777),
            modified: Some(at_second(entry.time)),
            owner: self.plan.owner_of(path, source),
        }
    }

    /// Looks for files of the copy that are no longer at the source, and takes them away if asked to.
    fn gone(&mut self, delete: bool) -> Result<(), RestoreError> {
        let target = self.plan.job.folder().to_path_buf();
        // Files that are switches were put there for the copy: without them it would mail, or show itself.
        let switches = push::files_that_stay(&self.plan.definition);
        let stays = |below: &Path, path: &Path| {
            self.is_own(below)
                || switches.is_match(below)
                || self.plan.settings.holds_file(below)
                || self.seen.contains(&self.hasher.hash_one(path))
        };
        let tree = self.plan.job.tree.clone();
        let gone = refresh::gone(&*tree, &self.selection, stays);
        if !delete {
            self.refreshed.stay += gone.len() as u64;
            return Ok(());
        }
        let mut emptied: Vec<PathBuf> = Vec::new();
        for path in gone {
            self.change_log.replace(&path)?;
            tree.remove(&path).at(&path)?;
            self.refreshed.gone += 1;
            emptied.extend(path.parent().map(Path::to_path_buf));
        }
        for folder in emptied {
            // Folders that hold nothing any more go as well, up to the site's own.
            let mut above = folder.ancestors().take_while(|f| **f != target);
            while above.next().is_some_and(|f| tree.remove_folder(f).is_ok()) {}
        }
        Ok(())
    }

    /// Says which files of a copy that was brought up to date are new, if any; of any other copy all are.
    pub(super) fn new_files(&mut self) -> Option<impl Fn(&Path) -> bool + use<>> {
        let all = !self.plan.job.options.refresh;
        let (copied, hasher) = (std::mem::take(&mut self.copied), self.hasher.clone());
        (all || !copied.is_empty())
            .then_some(move |path: &Path| all || copied.contains(&hasher.hash_one(path)))
    }

    pub(super) fn finish(&mut self) -> Result<(), RestoreError> {
        if let Some(copiers) = self.copiers.take() {
            let copied = copiers.finish(self.change_log)?;
            self.files += copied.files;
            self.bytes += copied.bytes;
            self.missed.extend(copied.unread);
        }
        fold_vanished(&mut self.missed);
        self.missed.drain(..).for_each(|finding| self.findings.push(finding));
        let target = self.plan.job.folder();
        for (path, _, _) in &self.folders {
            let below = path.strip_prefix(target).unwrap_or(path);
            for wanted in self.selection.skeleton(below) {
                self.change_log.folder(&target.join(wanted))?;
            }
        }
        self.link_hard()?;
        for (path, to) in &self.links {
            self.change_log.folder(path.parent().unwrap_or(path))?;
            let tree = self.change_log.tree(path)?.clone();
            if !tree.capabilities().links {
                let what = format!("a link to {} was not made: this place knows no links", to.display());
                let cure = "put a copy of what it leads to in its place";
                self.findings.push(Finding::at(Code::LinkNotMade, what, path, cure));
                continue;
            }
            let there = tree.there(path);
            let again = !self.made.insert(self.hasher.hash_one(path));
            self.change_log.replace(path)?;
            if there.is_some() && (again || self.plan.job.replaces()) {
                tree.remove(path).at(path)?;
            }
            tree.link(path, to).at(path)?;
            if let Some(owner) = self.plan.owner_of(path, self.plan.at_source(path).as_ref()) {
                tree.set(path, &Properties { owner: Some(owner), ..Properties::default() }).at(path)?;
            }
            if to.is_absolute()
                || to.components().filter(|c| *c == std::path::Component::ParentDir).count() > 0
            {
                let what = format!("a link leads to {}", to.display());
                self.findings.push(Finding::at(
                    Code::LinkLeadsOut,
                    what,
                    path,
                    "check that it leads where it should on this host",
                ));
            }
        }
        if self.plan.job.options.refresh {
            self.gone(self.plan.job.options.delete_gone)?;
        }
        // From the bottom up: a folder's time changes when something in it does.
        for (path, mode, time) in self.folders.iter().rev() {
            let tree = self.plan.tree_of(path);
            // The site's own folder is the user's; in the place of any other a link may lie now, which stays as it is.
            let links = if path == tree.root() { Links::Follow } else { Links::Stay };
            let Some(there) = tree.stat(path, links).ok().filter(Meta::is_folder) else { continue };
            let owner = match self.plan.job.options.refresh {
                false => self.plan.owner_of(path, self.plan.at_source(path).as_ref()),
                true => None,
            };
            // Of a copy that is brought up to date most folders are as they should be.
            let mode = mode.map(|m| m & 0o777).filter(|mode| there.mode != *mode);
            tree.set(path, &Properties { mode, owner, modified: None }).at(path)?;
            if there.seconds() != *time {
                let modified = Some(at_second(*time));
                let _ = tree.set(path, &Properties { modified, ..Properties::default() });
            }
        }
        self.plan.job.tree.sync(target);
        Ok(())
    }
}
