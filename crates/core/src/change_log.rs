//! What a run leaves on disk: files and folders it makes, files it replaces or takes away. Undoing a run walks this back.
//!
//! The list lies beside the run's record, one entry behind the other with a NUL between, each written before its file is. A file that
//! is replaced is kept first, as a link where the file system can share its content and as a copy elsewhere.

use crate::fsx::private_folder;
use crate::fsx::{AtPath, CopyMethod, PathError};
use crate::logbook::Run;
use crate::safe::{SafeFolder, Spot};
use crate::spool;
use schemars::JsonSchema;
use std::collections::{BTreeSet, HashMap, HashSet};
use std::ffi::OsStr;
use std::fs::{self, File};
use std::io::Write;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{MetadataExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
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

/// Writes the list.
#[derive(Debug)]
pub struct ChangeLog {
    /// Folders that nothing may leave.
    safe: Vec<SafeFolder>,
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
            safe: Vec::new(),
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

    /// Says that what is written in a folder, which is there, must not leave it.
    pub fn below(&mut self, root: &Path) -> Result<(), PathError> {
        if !self.safe.iter().any(|s| s.root() == root) {
            self.note(b"r", root)?;
            self.safe.push(SafeFolder::open(root)?);
        }
        Ok(())
    }

    fn safe(&self, path: &Path) -> Option<&SafeFolder> {
        around(&self.safe, path)
    }

    /// Returns where a thing lies that is written below one of the folders.
    pub fn spot(&self, path: &Path) -> Result<Spot, PathError> {
        let unknown = || std::io::Error::other("it lies in no folder of this run");
        self.safe(path).ok_or_else(unknown).at(path)?.spot(path)
    }

    /// Returns what was noted so far.
    pub(crate) fn made(&self) -> Result<Vec<FileChange>, PathError> {
        Ok(parsed(&fs::read(&self.path).at(&self.path)?))
    }

    /// Notes what every file is like that was made, when the run is through: by that it is told later whether somebody changed it.
    pub fn seal(&self) -> Result<(), PathError> {
        let mut seals = Vec::new();
        for print in self.made()? {
            if let FileChange::File(path) = print
                && let Ok(meta) = fs::symlink_metadata(&path)
            {
                seals.extend_from_slice(format!("s{} {} ", meta.len(), changed(&meta)).as_bytes());
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

    /// Makes a folder and those above it, and notes the ones that were missing.
    pub fn folder(&self, path: &Path) -> Result<(), PathError> {
        if let Some(safe) = self.safe(path) {
            return safe.make(path, &|folder| self.note(b"d", folder));
        }
        if self.safe.iter().any(|s| s.root() == path) {
            return Ok(());
        }
        let missing: Vec<&Path> =
            path.ancestors().take_while(|p| !p.as_os_str().is_empty() && !p.exists()).collect();
        for folder in missing.into_iter().rev() {
            self.note(b"d", folder)?;
            match fs::create_dir(folder) {
                Err(e) if e.kind() == std::io::ErrorKind::AlreadyExists => {}
                other => other.at(folder)?,
            }
        }
        Ok(())
    }

    /// Notes a file that is about to be made or replaced; one that is there is kept.
    pub fn replace(&mut self, path: &Path) -> Result<(), PathError> {
        let spot = self.safe(path).map(|safe| safe.spot(path)).transpose()?;
        let real = spot.as_ref().map_or(path.to_path_buf(), Spot::path);
        let Ok(meta) = fs::symlink_metadata(&real) else { return self.file(path) };
        if self.next == 0 {
            private_folder(&self.kept).at(&self.kept)?;
        }
        let kept = self.kept.join(self.next.to_string());
        if meta.is_symlink() {
            let to = fs::read_link(&real).at(path)?;
            std::os::unix::fs::symlink(to, &kept).at(&kept)?;
        } else if meta.is_file() {
            put_copy(&real, &kept)?;
        } else {
            return Err(std::io::Error::other("there is no file in this place, but a folder or a device"))
                .at(path);
        }
        self.note(format!("k{} ", self.next).as_bytes(), path)?;
        // What is replaced is on the disk with its note before.
        self.list.sync_data().at(&self.path)?;
        self.next += 1;
        Ok(())
    }
}

/// Copies a file with its mode and time.
fn put_copy(from: &Path, to: &Path) -> Result<(), PathError> {
    let meta = fs::metadata(from).at(from)?;
    let mut out = File::options().write(true).create(true).truncate(true).open(to).at(to)?;
    CopyMethod::default().copy(&File::open(from).at(from)?, &mut out, meta.len()).at(to)?;
    out.set_permissions(meta.permissions()).at(to)?;
    out.set_modified(meta.modified().at(from)?).at(to)?;
    out.sync_all().at(to)
}

fn list_path(kept: &Path) -> PathBuf {
    kept.with_extension("made")
}

/// Reads the list of a run by the folder of what it kept. A torn last entry is passed over.
pub fn read(kept: &Path) -> Vec<FileChange> {
    parsed(&fs::read(list_path(kept)).unwrap_or_default())
}

/// When a file's content was changed last, in nanoseconds.
fn changed(meta: &fs::Metadata) -> i128 {
    i128::from(meta.mtime()) * 1_000_000_000 + i128::from(meta.mtime_nsec())
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
    pub changed_since: Vec<PathBuf>,
}

/// Takes away what a run that was killed left under temporary names, in the folders that it worked in.
fn sweep(prints: &[FileChange]) {
    let folders: BTreeSet<&Path> = prints
        .iter()
        .filter_map(|print| match print {
            FileChange::Folder(path) | FileChange::Root(path) => Some(path.as_path()),
            FileChange::File(path) | FileChange::Kept(path, _) | FileChange::Seal(path, ..) => path.parent(),
        })
        .collect();
    for folder in folders {
        let temporary = fs::read_dir(folder).into_iter().flatten().flatten();
        for entry in temporary.filter(|e| spool::process_of(&e.file_name()).is_some()) {
            let _ = fs::remove_file(entry.path());
        }
    }
}

/// Returns the folder below which a path lies; a folder does not lie below itself.
fn around<'f>(folders: &'f [SafeFolder], path: &Path) -> Option<&'f SafeFolder> {
    folders.iter().find(|folder| folder.holds(path) && folder.root() != path)
}

/// Where the things of a list lie, by its roots. A path below none of them is taken as it is.
struct Places(Vec<SafeFolder>);

impl Places {
    fn of(prints: &[FileChange]) -> Self {
        let roots = prints.iter().filter_map(|print| match print {
            FileChange::Root(path) => SafeFolder::open(path).ok(),
            _ => None,
        });
        Places(roots.collect())
    }

    /// Returns the path by the handle of its folder, and what keeps that open; nothing if its folder is gone, or a link leads out.
    fn real(&self, path: &Path) -> Option<(PathBuf, Option<Spot>)> {
        match around(&self.0, path) {
            Some(safe) => {
                safe.forget();
                let spot = safe.spot(path).ok()?;
                Some((spot.path(), Some(spot)))
            }
            None => Some((path.to_path_buf(), None)),
        }
    }
}

/// Walks the list back. What was changed after `ended`, in seconds since 1970, stays and is listed. With `only_look` nothing is done.
pub fn undo(kept: &Path, ended: Option<i64>, only_look: bool) -> Result<Undone, PathError> {
    let mut out = Undone::default();
    let prints = read(kept);
    let places = Places::of(&prints);
    if !only_look {
        sweep(&prints);
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
                let Some((real, _open)) = places.real(&path) else { continue };
                let Ok(meta) = fs::symlink_metadata(&real) else { continue };
                let differs = match seals.get(&path) {
                    Some((size, time)) => meta.is_file() && (meta.len(), changed(&meta)) != (*size, *time),
                    None => ended.is_some_and(|end| meta.ctime() > end + 1),
                };
                if differs {
                    out.changed_since.push(path);
                    continue;
                }
                out.removed += 1;
                if !only_look {
                    fs::remove_file(&real).at(&path)?;
                }
            }
            FileChange::Folder(path) if !only_look => {
                let Some((path, _open)) = places.real(&path) else { continue };
                // One that holds something else stays; a read-only one was made so by the run.
                let lift = |p: &Path| {
                    let _ = fs::set_permissions(p, std::os::unix::fs::PermissionsExt::from_mode(0o700));
                };
                if fs::remove_dir(&path).is_err()
                    && path.is_dir()
                    && fs::read_dir(&path).is_ok_and(|mut d| d.next().is_none())
                {
                    path.parent().into_iter().for_each(lift);
                    let _ = fs::remove_dir(&path);
                }
            }
            FileChange::Folder(_) => {}
            FileChange::Kept(path, number) => {
                let from = kept.join("files").join(number.to_string());
                let Ok(meta) = fs::symlink_metadata(&from) else { continue };
                out.put_back += 1;
                if only_look {
                    continue;
                }
                if let Some(safe) = around(&places.0, &path) {
                    safe.make(path.parent().unwrap_or(&path), &|_| Ok(()))?;
                } else {
                    let folder = path.parent().unwrap_or(&path);
                    fs::create_dir_all(folder).at(folder)?;
                }
                let Some((real, _open)) = places.real(&path) else { continue };
                let folder = real.parent().unwrap_or(&real);
                let temp = tempfile::Builder::new().prefix(&spool::prefix(folder)).make_in(folder, |temp| {
                    if meta.is_symlink() {
                        std::os::unix::fs::symlink(fs::read_link(&from)?, temp)
                    } else {
                        put_copy(&from, temp).map_err(|e| e.source)
                    }
                });
                temp.at(folder)?.into_temp_path().persist(&real).map_err(|e| e.error).at(&path)?;
            }
        }
    }
    Ok(out)
}
