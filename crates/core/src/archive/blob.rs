//! Archives as blobs, wherever they lie: read by ranges, written front to back, there under their name only once they are whole.
//!
//! [`super::read`] and [`super::verify`] know a [`Blob`], [`super::write`] knows a [`BlobSink`]; a file is the first kind of each.

use crate::fsx::{AtPath, PathError, sync_folder};
use crate::safe::open_file;
use std::fs::File;
use std::io::{self, Read, Seek, Write};
use std::path::{Path, PathBuf};

/// Reads from any place. Moving costs nothing by itself: who fetches ranges begins a new one with the next read.
pub trait Ranged: Read + Seek {}

impl<T: Read + Seek> Ranged for T {}

/// Bytes with a name that can be read more than once.
pub trait Blob {
    /// What messages call it.
    fn name(&self) -> &Path;

    /// Its size in bytes.
    fn size(&self) -> io::Result<u64>;

    /// Begins to read it, at its first byte.
    fn open(&self) -> io::Result<Box<dyn Ranged + '_>>;
}

/// A file of this machine.
#[derive(Debug, Clone, Copy)]
pub struct LocalFile<'p>(pub &'p Path);

impl Blob for LocalFile<'_> {
    fn name(&self) -> &Path {
        self.0
    }

    fn size(&self) -> io::Result<u64> {
        Ok(std::fs::metadata(self.0)?.len())
    }

    fn open(&self) -> io::Result<Box<dyn Ranged + '_>> {
        Ok(Box::new(open_file(self.0)?))
    }
}

/// Takes bytes front to back. What is dropped before it was committed leaves nothing behind.
pub trait BlobSink: Write + Send {
    /// Makes what was written durable and gives it its name.
    fn commit(self: Box<Self>) -> Result<(), PathError>;
}

/// A file of this machine that has a temporary name until it is whole.
pub struct LocalSink {
    file: File,
    temp: tempfile::TempPath,
    target: PathBuf,
    force: bool,
}

impl LocalSink {
    /// Begins a file beside where it will be. One that is there is replaced at the end, only with `force`.
    pub fn begin(target: &Path, force: bool) -> Result<Self, PathError> {
        let folder = folder_of(target);
        let (file, temp) = tempfile::Builder::new()
            .prefix(&crate::spool::prefix(folder))
            .suffix(".unfinished")
            .tempfile_in(folder)
            .at(folder)?
            .into_parts();
        Ok(LocalSink { file, temp, target: target.to_path_buf(), force })
    }
}

/// The folder a file lies in.
pub fn folder_of(target: &Path) -> &Path {
    target.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."))
}

impl Write for LocalSink {
    fn write(&mut self, buf: &[u8]) -> io::Result<usize> {
        self.file.write(buf)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file.flush()
    }
}

impl BlobSink for LocalSink {
    fn commit(self: Box<Self>) -> Result<(), PathError> {
        let LocalSink { file, temp, target, force } = *self;
        file.sync_all().at(&target)?;
        let kept = if force { temp.persist(&target) } else { temp.persist_noclobber(&target) };
        kept.map_err(|e| e.error).at(&target)?;
        sync_folder(folder_of(&target));
        Ok(())
    }
}
