//! Archives as blobs, wherever they lie: read by ranges, written front to back, there under their name only once they are whole.
//!
//! [`super::read`] and [`super::verify`] know a [`Blob`], [`super::write`] knows a [`BlobSink`]; a file is the first kind of each.

use crate::fsx::{AtPath, PathError, WholeFile};
use crate::tree::safe::open_file;
use std::io::{self, Read, Seek, Write};
use std::path::Path;

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

/// A pipe or a device: bytes go as they come, and nobody can take them back.
#[derive(Debug)]
pub struct Straight<W>(pub W);

impl<W: Write> Write for Straight<W> {
    fn write(&mut self, buf: &[u8]) -> io::Result<usize> {
        self.0.write(buf)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.0.flush()
    }
}

impl<W: Write + Send> BlobSink for Straight<W> {
    fn commit(mut self: Box<Self>) -> Result<(), PathError> {
        self.0.flush().at("-")
    }
}

impl BlobSink for WholeFile {
    fn commit(self: Box<Self>) -> Result<(), PathError> {
        WholeFile::commit(*self)
    }
}
