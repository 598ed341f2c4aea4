//! Files written whole or not at all, errors that name their path, and free space.

use std::fs;
use std::io::Write;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};

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

/// Writes a file through a temporary name, fsync and rename. Mode and, where allowed, owner of an existing file stay; a read-only
/// file is replaced and stays read-only.
pub fn write_atomically(path: &Path, bytes: &[u8]) -> Result<(), PathError> {
    let folder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let mode = fs::metadata(folder).at(folder)?.permissions();
    if mode.mode() & 0o200 != 0 {
        return replace(folder, path, bytes);
    }
    // Some systems keep their config in a folder that nobody may write to: lifted for the write, and put back.
    fs::set_permissions(folder, fs::Permissions::from_mode(mode.mode() | 0o300)).at(folder)?;
    let replaced = replace(folder, path, bytes);
    fs::set_permissions(folder, mode).at(folder)?;
    replaced
}

fn replace(folder: &Path, path: &Path, bytes: &[u8]) -> Result<(), PathError> {
    let mut file = tempfile::Builder::new().prefix(".zporter-").tempfile_in(folder).at(folder)?;
    file.write_all(bytes).at(path)?;
    if let Ok(old) = fs::metadata(path) {
        let _ = std::os::unix::fs::chown(file.path(), Some(old.uid()), Some(old.gid()));
        fs::set_permissions(file.path(), old.permissions()).at(path)?;
    } else {
        fs::set_permissions(file.path(), fs::Permissions::from_mode(0o644)).at(path)?;
    }
    file.as_file().sync_all().at(path)?;
    file.persist(path).map_err(|e| e.error).at(path)?;
    sync_folder(folder);
    Ok(())
}

/// Copies a file's content in the fastest way that the file system has: shared blocks, else a copy inside of the kernel.
/// Returns its bytes.
pub fn copy_file(from: &Path, to: &mut fs::File) -> Result<u64, PathError> {
    let mut source = fs::File::open(from).at(from)?;
    if rustix::fs::ioctl_ficlone(&*to, &source).is_ok() {
        return Ok(source.metadata().at(from)?.len());
    }
    // The standard library lets the kernel copy from file to file.
    std::io::copy(&mut source, to).at(from)
}

/// Makes a pipe that holds as much as the system grants, so that both ends run for a while without waiting for each other.
pub fn wide_pipe() -> std::io::Result<(std::io::PipeReader, std::io::PipeWriter)> {
    let (reader, writer) = std::io::pipe()?;
    // A smaller one does as well, only slower.
    let _ = rustix::pipe::fcntl_setpipe_size(&writer, 1 << 20);
    Ok((reader, writer))
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
