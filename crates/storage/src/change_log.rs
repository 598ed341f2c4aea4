//! What a run leaves on disk: files and folders it makes, files it replaces or takes away. Undoing a run walks this back.
//!
//! The list lies beside the run's record, one entry behind the other with a NUL between, each written before its file is. A file that
//! is replaced is kept first, as a link where the file system can share its content and as a copy elsewhere.

use crate::fsx::{AtPath, CopyMethod, PathError, folder_of, private_folder};
use crate::logbook::Run;
use crate::spool;
use crate::tree::{
    self, FindTree, Links, LocalTree, Meta, Properties, Temporary, Times, Tree, make_folders, noticing,
    put_link,
};
use schemars::JsonSchema;
use std::collections::{BTreeSet, HashMap, HashSet};
use std::ffi::OsStr;
use std::fs::{self, File};
use std::io::{self, ErrorKind, Write};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering::Relaxed};
use std::time::Instant;

/// One entry of the list.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum FileChange {
    /// A folder that nothing written below it may leave.
    Root(PathBuf),
    /// What a file was like when the run was through: bytes, and time of its last change in nanoseconds.
    Seal(PathBuf, u64, i128),
    /// A file or link that was not there before.
    File(PathBuf),
    /// A folder that was not there before.
    Folder(PathBuf),
    /// A file that was there, and under which number it is kept.
    Kept(PathBuf, u64),
}

impl FileChange {
    /// What it is about.
    pub fn path(&self) -> &Path {
        match self {
            FileChange::Root(path)
            | FileChange::Seal(path, ..)
            | FileChange::File(path)
            | FileChange::Folder(path)
            | FileChange::Kept(path, _) => path,
        }
    }
}

/// Writes the list.
#[derive(Debug)]
pub struct ChangeLog {
    /// Folders that nothing written below them leaves.
    trees: Vec<Arc<dyn Tree>>,
    path: PathBuf,
    list: File,
    kept: PathBuf,
    next: u64,
    began: Instant,
    /// When the list was brought to the disk last, in milliseconds since then.
    synced: AtomicU64,
}

/// Milliseconds after which the list is brought to the disk again.
const SYNC_EVERY: u64 = 500;

impl ChangeLog {
    /// Starts the list of a run.
    pub fn of(run: &Run) -> Result<Self, PathError> {
        let path = list_path(&run.kept());
        let list = File::options().create(true).append(true).mode(0o600).open(&path).at(&path)?;
        Ok(ChangeLog {
            trees: Vec::new(),
            path,
            list,
            kept: run.kept().join("files"),
            next: 0,
            began: Instant::now(),
            synced: AtomicU64::new(0),
        })
    }

    fn note(&self, kind: &[u8], path: &Path) -> Result<(), PathError> {
        let entry = [kind, path.as_os_str().as_bytes(), b"\0"].concat();
        self.add(&entry)
    }

    /// Adds to the list, and brings it to the disk now and then: after a loss of power what was made in the last moment alone is not known.
    fn add(&self, entries: &[u8]) -> Result<(), PathError> {
        (&self.list).write_all(entries).at(&self.path)?;
        let now = self.began.elapsed().as_millis() as u64;
        if now.saturating_sub(self.synced.load(Relaxed)) >= SYNC_EVERY {
            self.list.sync_data().at(&self.path)?;
            self.synced.store(now, Relaxed);
        }
        Ok(())
    }

    /// Makes the folder of a tree and those above it as far as they are missing. What is written below it must not leave it from now on.
    pub fn below(&mut self, tree: &Arc<dyn Tree>) -> Result<(), PathError> {
        if self.trees.iter().any(|t| t.root() == tree.root()) {
            return Ok(());
        }
        let root = tree.root();
        make_folders(&**tree, root, &mut |folder| self.noted(b"d", folder)).at(root)?;
        self.note(b"r", root)?;
        self.trees.push(tree.clone());
        Ok(())
    }

    /// The tree in which a path lies that is written below one of the folders.
    pub fn tree(&self, path: &Path) -> Result<&Arc<dyn Tree>, PathError> {
        let unknown = || io::Error::other("it lies in no folder of this run");
        around(&self.trees, path).ok_or_else(unknown).at(path)
    }

    /// The same, or for what lies elsewhere on this machine the folder that it is in.
    fn tree_or_folder(&self, path: &Path) -> Arc<dyn Tree> {
        around(&self.trees, path).cloned().unwrap_or_else(|| LocalTree::at(folder_of(path)))
    }

    /// Returns what was noted so far.
    pub fn made(&self) -> Result<Vec<FileChange>, PathError> {
        Ok(parsed(&fs::read(&self.path).at(&self.path)?))
    }

    /// Notes what every file is like that was made, when the run is through: by that it is told later whether somebody changed it.
    pub fn seal(&self) -> Result<(), PathError> {
        let mut seals = Vec::new();
        for print in self.made()? {
            if let FileChange::File(path) = print
                && let Some(meta) = self.tree_or_folder(&path).there(&path)
            {
                seals.extend_from_slice(format!("s{} {} ", meta.size, meta.nanoseconds()).as_bytes());
                seals.extend_from_slice(path.as_os_str().as_bytes());
                seals.push(0);
            }
        }
        (&self.list).write_all(&seals).and_then(|()| self.list.sync_data()).at(&self.path)
    }

    /// Notes a file that is about to be made.
    pub fn file(&self, path: &Path) -> Result<(), PathError> {
        self.note(b"f", path)
    }

    /// Notes several files that are about to be made, at once.
    pub fn files<'p>(&self, paths: impl Iterator<Item = &'p Path>) -> Result<(), PathError> {
        let mut entries = Vec::new();
        for path in paths {
            entries.push(b'f');
            entries.extend_from_slice(path.as_os_str().as_bytes());
            entries.push(0);
        }
        self.add(&entries)
    }

    fn noted(&self, kind: &[u8], path: &Path) -> io::Result<()> {
        self.note(kind, path).map_err(|e| e.source)
    }

    /// Makes a folder and those above it, and notes the ones that were missing.
    pub fn folder(&self, path: &Path) -> Result<(), PathError> {
        if self.trees.iter().any(|t| t.root() == path) {
            return Ok(());
        }
        let tree = self.tree_or_folder(path);
        make_folders(&*tree, path, &mut |folder| self.noted(b"d", folder)).at(path)
    }

    /// Notes a file that is about to be made or replaced; one that is there is kept.
    pub fn replace(&mut self, path: &Path) -> Result<(), PathError> {
        let tree = self.tree_or_folder(path);
        let meta = match tree.stat(path, Links::Stay) {
            Ok(meta) => meta,
            Err(e) if e.kind() == ErrorKind::NotFound => return self.file(path),
            Err(e) => return Err(e).at(path),
        };
        if self.next == 0 {
            private_folder(&self.kept).at(&self.kept)?;
        }
        let kept = self.kept.join(self.next.to_string());
        if meta.is_link() {
            let to = tree.link_target(path).at(path)?;
            std::os::unix::fs::symlink(to, &kept).at(&kept)?;
        } else if meta.is_file() {
            let mut out = LocalTree::at(&self.kept).create(&kept, 0o600).at(&kept)?;
            let mut file = tree.open(path, Links::Stay).at(path)?;
            tree::copy(&mut CopyMethod::default(), &mut *file, &mut *out, meta.size).at(path)?;
            out.finish(&as_it_was(&meta), true).at(&kept)?;
        } else {
            return Err(io::Error::other("there is no file in this place, but a folder or a device"))
                .at(path);
        }
        self.note(format!("k{} ", self.next).as_bytes(), path)?;
        // What is replaced is on the disk with its note before.
        self.list.sync_data().at(&self.path)?;
        self.next += 1;
        Ok(())
    }
}

/// Mode and time of a file that is kept, or put back.
fn as_it_was(meta: &Meta) -> Properties {
    Properties { mode: Some(meta.mode), modified: Some(meta.modified), owner: None }
}

fn list_path(kept: &Path) -> PathBuf {
    kept.with_extension("made")
}

/// Reads the list of a run by the folder of what it kept. A torn last entry is passed over.
pub fn read(kept: &Path) -> Vec<FileChange> {
    parsed(&fs::read(list_path(kept)).unwrap_or_default())
}

/// What walking the list back needs and is not there: the list itself, of a run that made one for sure (`made`), and what was kept.
pub fn missing(kept: &Path, made: bool) -> Vec<String> {
    let list = list_path(kept);
    let text = match fs::read(&list) {
        Ok(text) => text,
        Err(e) if e.kind() == ErrorKind::NotFound && !made => return Vec::new(),
        Err(e) => return vec![format!("{} ({e})", list.display())],
    };
    let files = kept.join("files");
    let gone = parsed(&text).into_iter().filter_map(|entry| match entry {
        FileChange::Kept(path, number) => {
            let from = files.join(number.to_string());
            fs::symlink_metadata(&from)
                .is_err()
                .then(|| format!("the file that was kept of {}", path.display()))
        }
        _ => None,
    });
    gone.collect()
}

fn parsed(bytes: &[u8]) -> Vec<FileChange> {
    let whole = bytes.iter().rposition(|b| *b == 0).unwrap_or(0);
    let entries = bytes[..whole].split(|b| *b == 0);
    let path = |bytes: &[u8]| PathBuf::from(OsStr::from_bytes(bytes));
    let read = entries.filter_map(|entry| match entry.split_first()? {
        (b'f', rest) => Some(FileChange::File(path(rest))),
        (b'd', rest) => Some(FileChange::Folder(path(rest))),
        (b'r', rest) => Some(FileChange::Root(path(rest))),
        (b's', rest) => {
            let mut parts = rest.splitn(3, |b| *b == b' ');
            let mut number = || std::str::from_utf8(parts.next()?).ok();
            let (size, time) = (number()?.parse().ok()?, number()?.parse().ok()?);
            Some(FileChange::Seal(path(parts.next()?), size, time))
        }
        (b'k', rest) => {
            let space = rest.iter().position(|b| *b == b' ')?;
            let number = std::str::from_utf8(&rest[..space]).ok()?.parse().ok()?;
            Some(FileChange::Kept(path(&rest[space + 1..]), number))
        }
        _ => None,
    });
    read.collect()
}

/// What walking back came to.
#[derive(Debug, Default, Clone, PartialEq, Eq, serde::Serialize, JsonSchema)]
pub struct Undone {
    /// Files taken away.
    pub removed: u64,
    /// Files put back.
    pub put_back: u64,
    /// Files that were changed after the run and stay.
    #[serde(with = "crate::path_text")]
    #[schemars(with = "Vec<PathBuf>")]
    pub changed_since: Vec<PathBuf>,
}

/// Takes away what a run that was killed left under temporary names, in the folders that it worked in.
fn sweep(prints: &[FileChange], places: &Places<'_>) {
    let folders: BTreeSet<&Path> = prints
        .iter()
        .filter_map(|print| match print {
            FileChange::Folder(path) | FileChange::Root(path) => Some(path.as_path()),
            other => other.path().parent(),
        })
        .collect();
    for folder in folders {
        let tree = places.holding(folder);
        let listed = tree.list(folder).into_iter().flatten();
        for temporary in listed.filter(|l| spool::process_of(&l.name).is_some()) {
            let _ = tree.remove(&folder.join(temporary.name));
        }
    }
}

/// Returns the tree below whose root a path lies; a folder does not lie below itself.
fn around<'t>(trees: &'t [Arc<dyn Tree>], path: &Path) -> Option<&'t Arc<dyn Tree>> {
    trees.iter().find(|tree| path.starts_with(tree.root()) && tree.root() != path)
}

/// Where the things of a list lie, by its roots; what lies below none of them, by the folder that it is in.
struct Places<'f> {
    roots: Vec<Arc<dyn Tree>>,
    find: FindTree<'f>,
}

impl<'f> Places<'f> {
    fn of(prints: &[FileChange], find: FindTree<'f>) -> Self {
        let roots = prints.iter().filter_map(|print| match print {
            FileChange::Root(path) => Some(noticing(find(path))),
            _ => None,
        });
        Places { roots: roots.collect(), find }
    }

    /// The tree in which a thing lies.
    fn of_thing(&self, path: &Path) -> Arc<dyn Tree> {
        around(&self.roots, path).cloned().unwrap_or_else(|| (self.find)(folder_of(path)))
    }

    /// The tree in which what lies in a folder lies.
    fn holding(&self, folder: &Path) -> Arc<dyn Tree> {
        let root = self.roots.iter().find(|tree| folder.starts_with(tree.root()));
        root.cloned().unwrap_or_else(|| (self.find)(folder))
    }
}

/// Walks the list back. What was changed after `ended`, in seconds since 1970, stays and is listed. With `only_look` nothing is done.
/// `find` finds the folders that the run worked in; what lies in `without` is passed over.
pub fn undo(
    kept: &Path,
    ended: Option<i64>,
    only_look: bool,
    without: &[PathBuf],
    find: FindTree<'_>,
) -> Result<Undone, PathError> {
    let mut out = Undone::default();
    let mut prints = read(kept);
    prints.retain(|print| !without.iter().any(|folder| print.path().starts_with(folder)));
    let places = Places::of(&prints, find);
    if !only_look {
        sweep(&prints, &places);
    }
    let seals: HashMap<PathBuf, (u64, i128)> = prints
        .iter()
        .filter_map(|print| match print {
            FileChange::Seal(path, size, time) => Some((path.clone(), (*size, *time))),
            _ => None,
        })
        .collect();
    // What the run made and replaced itself goes; an earlier state of it is nobody's.
    let mut made = HashSet::new();
    let own: Vec<bool> = prints
        .iter()
        .map(|print| match print {
            FileChange::File(path) => !made.insert(path.clone()),
            FileChange::Kept(path, _) => made.contains(path),
            _ => false,
        })
        .collect();
    for (print, own) in prints.into_iter().zip(own).rev() {
        match print {
            FileChange::Kept(..) if own => {}
            FileChange::Root(_) | FileChange::Seal(..) => {}
            FileChange::File(path) => {
                let tree = places.of_thing(&path);
                let Some(meta) = tree.there(&path) else { continue };
                let differs = match seals.get(&path) {
                    Some((size, time)) => {
                        meta.is_file() && (meta.size != *size || !is_time(&*tree, &meta, *time))
                    }
                    None => ended
                        .is_some_and(|end| meta.touched().div_euclid(1_000_000_000) > i128::from(end) + 1),
                };
                if differs {
                    out.changed_since.push(path);
                    continue;
                }
                out.removed += 1;
                if !only_look {
                    tree.remove(&path).at(&path)?;
                }
            }
            FileChange::Folder(path) if !only_look => {
                let tree = places.of_thing(&path);
                // One that holds something else stays; a read-only one was made so by the run.
                if tree.remove_folder(&path).is_err() && tree.list(&path).is_ok_and(|l| l.is_empty()) {
                    let lift = Properties { mode: Some(0o700), ..Properties::default() };
                    let _ = tree.set(folder_of(&path), &lift);
                    let _ = tree.remove_folder(&path);
                }
            }
            FileChange::Folder(_) => {}
            FileChange::Kept(path, number) => {
                let here = LocalTree::at(&kept.join("files"));
                let from = here.root().join(number.to_string());
                let Some(meta) = here.there(&from) else { continue };
                out.put_back += 1;
                if !only_look {
                    put_back(&*here, &from, &meta, &*places.of_thing(&path), &path).at(&path)?;
                }
            }
        }
    }
    // What was taken for gone may be there: doing it again mends that.
    places.roots.iter().try_for_each(|tree| tree.untroubled())?;
    Ok(out)
}

/// Says whether a file has this time in nanoseconds: as it was written, or as a place that keeps times in steps has it after it was put back.
fn is_time(tree: &dyn Tree, meta: &Meta, time: i128) -> bool {
    let set = match tree.capabilities().times {
        Times::Kept { step } if step > 1 => {
            let step = i128::from(step) * 1_000_000_000;
            time.div_euclid(step) * step
        }
        Times::Kept { .. } | Times::Written => time,
    };
    [time, set].contains(&meta.nanoseconds())
}

/// Puts a file or link that was kept back into its place.
fn put_back(here: &dyn Tree, from: &Path, meta: &Meta, tree: &dyn Tree, path: &Path) -> io::Result<()> {
    make_folders(tree, folder_of(path), &mut |_| Ok(()))?;
    if meta.is_link() {
        return put_link(tree, path, &here.link_target(from)?);
    }
    let mut file = Temporary::beside(tree, path)?;
    let mut kept = here.open(from, Links::Stay)?;
    tree::copy(&mut CopyMethod::default(), &mut *kept, file.file()?, meta.size)?;
    file.take_place(path, &as_it_was(meta), true)
}
