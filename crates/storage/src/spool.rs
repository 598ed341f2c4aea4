//! Names of temporary files and folders: they tell whose they are, so that what a run that was killed left is found and removed by the next,
//! and what this process has is removed when a signal ends it.

use std::collections::BTreeSet;
use std::ffi::OsStr;
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError};

/// What every temporary name begins with, before the number of its process.
const BEGINNING: &str = ".zporter-";

/// Folders in which this process has temporary files.
static FOLDERS: Mutex<BTreeSet<PathBuf>> = Mutex::new(BTreeSet::new());

/// Returns the beginning of a temporary name in a folder, and removes there what dead processes left.
pub fn prefix(folder: &Path) -> String {
    if FOLDERS.lock().unwrap_or_else(PoisonError::into_inner).insert(folder.to_path_buf()) {
        remove(folder, |process| !Path::new("/proc").join(process.to_string()).exists());
    }
    format!("{BEGINNING}{}-", std::process::id())
}

/// Returns a temporary name that this process has not had, in a folder of this machine or on another.
pub fn name(folder: Option<&Path>) -> String {
    static NEXT: AtomicU64 = AtomicU64::new(0);
    let next = NEXT.fetch_add(1, Ordering::Relaxed);
    match folder {
        Some(folder) => format!("{}{next}", prefix(folder)),
        None => format!("{BEGINNING}{}-{next}", std::process::id()),
    }
}

/// Makes a temporary file in a folder.
pub fn file_in(folder: &Path) -> std::io::Result<tempfile::NamedTempFile> {
    tempfile::Builder::new().prefix(&prefix(folder)).tempfile_in(folder)
}

/// Makes a temporary folder in a folder, which nobody else may look into, whatever the account's usual permissions are.
#[expect(clippy::disallowed_methods, reason = "this is where it is done with permissions")]
pub fn folder_in(folder: &Path) -> std::io::Result<tempfile::TempDir> {
    let private = std::fs::Permissions::from_mode(0o700);
    tempfile::Builder::new().prefix(&prefix(folder)).permissions(private).tempdir_in(folder)
}

/// Opens a file of our own that nobody else may read: to be written anew, or to be written on.
pub fn private_file(path: &Path, append: bool) -> std::io::Result<std::fs::File> {
    std::fs::File::options()
        .create(true)
        .write(!append)
        .append(append)
        .truncate(!append)
        .mode(0o600)
        .open(path)
}

/// Removes everything temporary that this process has, because it ends at once.
pub fn end() {
    let folders = std::mem::take(&mut *FOLDERS.lock().unwrap_or_else(PoisonError::into_inner));
    for folder in folders {
        remove(&folder, |process| process == std::process::id());
    }
}

/// The process whose temporary name this is.
pub fn process_of(name: &OsStr) -> Option<u32> {
    name.to_str()?.strip_prefix(BEGINNING)?.split_once('-')?.0.parse().ok()
}

fn remove(folder: &Path, whose: impl Fn(u32) -> bool) {
    for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
        if process_of(&entry.file_name()).is_some_and(&whose) {
            let _ = match entry.file_type().is_ok_and(|t| t.is_dir()) {
                true => std::fs::remove_dir_all(entry.path()),
                false => std::fs::remove_file(entry.path()),
            };
        }
    }
}
