//! Files written whole or not at all, errors that name their path, and free space.

use crate::place::DatabaseAccess;
use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::LazyLock;

/// An I/O error with the path it concerns.
#[derive(Debug, thiserror::Error)]
#[error("{path}")]
pub struct PathError {
    /// Path.
    pub path: PathBuf,
    /// Cause.
    #[source]
    pub source: std::io::Error,
}

/// Adds the path to an I/O result.
pub trait AtPath<T> {
    /// Names the path in the error.
    fn at(self, path: impl AsRef<Path>) -> Result<T, PathError>;
}

impl<T> AtPath<T> for std::io::Result<T> {
    fn at(self, path: impl AsRef<Path>) -> Result<T, PathError> {
        self.map_err(|source| PathError { path: path.as_ref().to_path_buf(), source })
    }
}

/// Writes a file that only its owner may read, through a temporary name.
pub fn write_private(path: &Path, bytes: &[u8]) -> Result<(), PathError> {
    let mut file = WholeFile::begin(path, true)?;
    file.write_all(bytes).at(path)?;
    file.commit()
}

/// A file that is written piece by piece under a temporary name, and has its own once it is whole. What is dropped before leaves nothing
/// behind. It is its owner's alone.
pub struct WholeFile {
    file: fs::File,
    temp: tempfile::TempPath,
    target: PathBuf,
    force: bool,
}

impl WholeFile {
    /// Begins a file beside where it will be. One that is there is replaced at the end, only with `force`.
    pub fn begin(target: &Path, force: bool) -> Result<Self, PathError> {
        let folder = folder_of(target);
        let (file, temp) = crate::spool::file_in(folder).at(folder)?.into_parts();
        Ok(WholeFile { file, temp, target: target.to_path_buf(), force })
    }

    /// Makes what was written durable and gives it its name.
    pub fn commit(self) -> Result<(), PathError> {
        let WholeFile { file, temp, target, force } = self;
        file.sync_all().at(&target)?;
        let kept = if force { temp.persist(&target) } else { temp.persist_noclobber(&target) };
        kept.map_err(|e| e.error).at(&target)?;
        sync_folder(folder_of(&target));
        Ok(())
    }
}

impl Write for WholeFile {
    fn write(&mut self, buf: &[u8]) -> std::io::Result<usize> {
        self.file.write(buf)
    }

    fn flush(&mut self) -> std::io::Result<()> {
        self.file.flush()
    }
}

/// Lets two things of one file system take each other's place: in one step where the file system can, in two where it cannot.
pub fn exchange(one: &Path, other: &Path) -> Result<(), PathError> {
    use rustix::fs::{CWD, RenameFlags, renameat_with};
    use rustix::io::Errno;
    match renameat_with(CWD, one, CWD, other, RenameFlags::EXCHANGE) {
        Ok(()) => {}
        Err(Errno::INVAL | Errno::NOSYS | Errno::OPNOTSUPP) => {
            let between = between(one);
            fs::rename(other, &between).at(other)?;
            if let Err(e) = fs::rename(one, other) {
                fs::rename(&between, other).at(&between)?;
                return Err(e).at(one);
            }
            fs::rename(&between, one).at(one)?;
        }
        Err(e) => return Err(std::io::Error::from(e)).at(other),
    }
    sync_folder(folder_of(one));
    sync_folder(folder_of(other));
    Ok(())
}

/// Where the second of two things lies for a moment while they are exchanged in two steps.
fn between(one: &Path) -> PathBuf {
    let mut name = one.file_name().unwrap_or_default().to_os_string();
    name.push("-was");
    one.with_file_name(name)
}

/// Ends an exchange in two steps that was interrupted.
pub fn mend_exchange(one: &Path, other: &Path) -> Result<(), PathError> {
    let between = between(one);
    let there = |path: &Path| fs::symlink_metadata(path).is_ok();
    match (there(&between), there(one), there(other)) {
        (true, _, false) => fs::rename(&between, other).at(other),
        (true, false, true) => fs::rename(&between, one).at(one),
        _ => Ok(()),
    }
}

/// Tells a thing from all others of this machine, whatever it is called: its device and its number there.
pub fn identity(path: &Path) -> Option<(u64, u64)> {
    use std::os::unix::fs::MetadataExt;
    fs::symlink_metadata(path).ok().map(|meta| (meta.dev(), meta.ino()))
}

/// The folder a file lies in.
pub fn folder_of(path: &Path) -> &Path {
    path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."))
}

/// Names the file of a database that is one from the root, wherever somebody stands.
pub fn absolute_access(mut access: DatabaseAccess) -> DatabaseAccess {
    if access.engine.facts().is_file {
        access.name = absolute(Path::new(&access.name)).display().to_string();
    }
    access
}

/// Makes a folder that only its owner may look into, and those above it.
pub fn private_folder(path: &Path) -> std::io::Result<()> {
    std::os::unix::fs::DirBuilderExt::mode(fs::DirBuilder::new().recursive(true), 0o700).create(path)
}

/// How files are copied here: what the file system refused once is not tried again.
#[derive(Debug, Clone)]
pub struct CopyMethod {
    shares: bool,
    in_kernel: bool,
}

/// Bytes that the kernel is asked to copy at once.
const MOST_AT_ONCE: usize = 1 << 30;

/// Permission bits that a new file gets as they are asked for. The mask cannot be asked for without changing it, but the system
/// tells it.
static SHOWN_BY_UMASK: LazyLock<u32> = LazyLock::new(|| {
    let status = fs::read_to_string("/proc/self/status").unwrap_or_default();
    let umask = status.lines().find_map(|l| u32::from_str_radix(l.strip_prefix("Umask:")?.trim(), 8).ok());
    umask.map_or(0, |u| !u & 0o777)
});

/// Returns the permission bits that a new file gets as they are asked for.
pub fn shown_by_umask() -> u32 {
    *SHOWN_BY_UMASK
}

impl Default for CopyMethod {
    fn default() -> Self {
        CopyMethod { shares: true, in_kernel: true }
    }
}

impl CopyMethod {
    /// Copies a file's content in the fastest way that the file system has: shared blocks, else a copy inside of the kernel.
    /// Returns its bytes. `expected` is how many there were a moment ago.
    pub fn copy(&mut self, mut from: &fs::File, mut to: &fs::File, expected: u64) -> std::io::Result<u64> {
        if self.shares {
            if rustix::fs::ioctl_ficlone(to, from).is_ok() {
                return Ok(from.metadata()?.len());
            }
            self.shares = false;
        }
        let mut done = 0;
        while self.in_kernel {
            // As much as there is: a file that is read while it grows has no right length.
            match rustix::fs::copy_file_range(from, None, to, None, MOST_AT_ONCE) {
                Ok(0) => return Ok(done),
                Ok(copied) => done += copied as u64,
                Err(rustix::io::Errno::INTR) => {}
                Err(_) => self.in_kernel = false,
            }
            if done == expected && expected > 0 {
                return Ok(done);
            }
        }
        Ok(done + std::io::copy(&mut from, &mut to)?)
    }
}

/// Makes a rename in a folder durable, where the file system can.
pub fn sync_folder(folder: &Path) {
    if let Ok(handle) = fs::File::open(folder) {
        let _ = handle.sync_all();
    }
}

/// Returns the bytes free to us on the file system of a path; its nearest existing ancestor counts.
pub fn free_space(path: &Path) -> Option<u64> {
    let existing = path.ancestors().find(|p| p.exists())?;
    let existing = if existing.as_os_str().is_empty() { Path::new(".") } else { existing };
    let stat = rustix::fs::statvfs(existing).ok()?;
    Some(stat.f_bavail * stat.f_frsize)
}

/// Returns an absolute path without touching the file system's links.
pub fn absolute(path: &Path) -> PathBuf {
    let whole = std::path::absolute(path).unwrap_or_else(|_| path.to_path_buf());
    // `std::path::absolute` keeps `..`, which nobody wants to read.
    let mut out = PathBuf::new();
    for part in whole.components() {
        match part {
            std::path::Component::ParentDir => {
                out.pop();
            }
            part => out.push(part),
        }
    }
    out
}
