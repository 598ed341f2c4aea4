//! Writes an archive as a stream: head, entries as they come, manifest. Memory does not grow with the site.
//!
//! It goes out front to back, so it needs no place that can seek, and appears only when it is complete and durable:
//! an interrupted run leaves nothing that looks whole.

use super::blob::BlobSink;
use super::container::{Compressed, Container};
use super::entry_path::EntryPath;
use super::format::{Closing, HEAD, Head, Kind, Line, MANIFEST};
use crate::event::Cancelled;
use crate::fsx::{AtPath, PathError, WholeFile, folder_of};
use std::fs::File;
use std::io::{self, BufReader, Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};

/// Why an archive could not be written.
#[derive(Debug, thiserror::Error)]
pub enum WriteError {
    /// The file's ending names no container.
    #[error("{0}: the ending names no archive that can be written (.tar.zst, .tar.gz, .zip)")]
    Ending(PathBuf),
    /// The archive is there already.
    #[error("{0} already exists")]
    Exists(PathBuf),
    /// Writing failed.
    #[error(transparent)]
    Path(#[from] PathError),
    /// A file could not be packed.
    #[error("{path} could not be packed")]
    Entry {
        /// Entry.
        path: String,
        /// Cause.
        #[source]
        source: io::Error,
    },
}

/// What is written beside an entry's content.
#[derive(Debug, Clone)]
pub struct Meta {
    /// Path in the archive.
    pub path: EntryPath,
    /// Permission bits.
    pub mode: u32,
    /// Modification time, seconds since 1970.
    pub time: i64,
}

/// What of a file of a site at work could be read, where that was less than was listed a moment before.
#[derive(Debug)]
pub struct Shorter {
    /// Bytes of it that are in the archive.
    pub bytes: u64,
    /// Whether its entry is filled up with zeros.
    pub is_filled: bool,
    /// Why there are no more; nothing where the file simply ended.
    pub cause: Option<io::Error>,
}

/// Files up to this size are read before their entry begins, so that it is as long as what there is to read.
const READ_FIRST: u64 = 1 << 20;

/// A file that is as long as its entry says: what is missing is zeros.
struct Padded<R> {
    inner: R,
    ended: Option<Shorter>,
    count: u64,
}

impl<R> Padded<R> {
    fn shorter(&self, cause: Option<io::Error>) -> Shorter {
        Shorter { bytes: self.count, is_filled: true, cause }
    }
}

impl<R: Read> Read for Padded<R> {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        if self.ended.is_none() {
            match self.inner.read(buf) {
                Ok(0) if !buf.is_empty() => self.ended = Some(self.shorter(None)),
                Ok(n) => {
                    self.count += n as u64;
                    return Ok(n);
                }
                Err(e) if e.kind() == io::ErrorKind::Interrupted || Cancelled::is_why(&e) => return Err(e),
                Err(e) => self.ended = Some(self.shorter(Some(e))),
            }
        }
        buf.fill(0);
        Ok(buf.len())
    }
}

type Sink = Box<dyn BlobSink>;

enum Out {
    Tar(Box<tar::Builder<Compressed<Sink>>>),
    Zip(Box<zip::ZipWriter<zip::write::StreamWriter<Sink>>>),
}

/// An archive that is being written.
pub struct ArchiveWriter {
    out: Out,
    target: PathBuf,
    manifest: File,
    closing: Closing,
}

impl ArchiveWriter {
    /// Begins an archive in a file. One that is there is replaced, once the new one is whole, only with `force`.
    pub fn create(target: &Path, force: bool, head: &Head) -> Result<Self, WriteError> {
        let container =
            Container::for_name(target).ok_or_else(|| WriteError::Ending(target.to_path_buf()))?;
        if target.exists() && !(force && target.is_file()) {
            return Err(WriteError::Exists(target.to_path_buf()));
        }
        let folder = folder_of(target);
        let manifest = tempfile::tempfile_in(folder).at(folder)?;
        Self::into_sink(Box::new(WholeFile::begin(target, force)?), target, container, manifest, head)
    }

    /// Begins an archive with its head, wherever it goes; messages call it `target`. The manifest waits in a file of its own.
    pub fn into_sink(
        sink: Box<dyn BlobSink>,
        target: &Path,
        container: Container,
        manifest: File,
        head: &Head,
    ) -> Result<Self, WriteError> {
        let out = match container {
            Container::Zip => Out::Zip(Box::new(zip::ZipWriter::new_stream(sink))),
            other => {
                let mut builder = tar::Builder::new(Compressed::start(sink, other).at(target)?);
                builder.sparse(false);
                Out::Tar(Box::new(builder))
            }
        };
        let closing = Closing { entries: 0, bytes: 0 };
        let mut writer = ArchiveWriter { out, target: target.to_path_buf(), manifest, closing };
        let mut text = serde_json::to_vec_pretty(head).map_err(io::Error::from).at(target)?;
        text.push(b'\n');
        let meta = Meta { path: EntryPath::trusted(HEAD), mode: 0o644, time: head.time() };
        writer.file(&meta, text.len() as u64, &text[..])?;
        if let Out::Tar(builder) = &mut writer.out {
            builder.get_mut().seal_head().at(target)?;
        }
        Ok(writer)
    }

    /// Adds a file of exactly `size` bytes; a source that holds fewer is an error, what it holds beyond is not read.
    pub fn file(&mut self, meta: &Meta, size: u64, source: impl Read) -> Result<(), WriteError> {
        let mut source = Hashing::new(source.take(size));
        if let Err(source) = self.put(meta, size, &mut source) {
            // A full disk is the archive's trouble, not that of the file which happened to be written.
            let full = matches!(source.kind(), io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded);
            return Err(match full {
                true => PathError { path: self.target.clone(), source }.into(),
                false => WriteError::Entry { path: meta.path.shown(), source },
            });
        }
        if source.count != size {
            let source = io::Error::other("the file shrank while it was read; try again when it is quiet");
            return Err(WriteError::Entry { path: meta.path.shown(), source });
        }
        let hash = source.hasher.finalize().to_hex().to_string();
        self.note(meta, Kind::File, size, hash, None)
    }

    /// Adds a file of a site at work, which may shrink while it is read: what is missing is not the archive's trouble. A small file is
    /// added as it is now; an entry that was begun is filled up with zeros, and the manifest says so.
    pub fn file_in_use(
        &mut self,
        meta: &Meta,
        size: u64,
        source: impl Read,
    ) -> Result<Option<Shorter>, WriteError> {
        let mut source = Padded { inner: source.take(size), ended: None, count: 0 };
        if size <= READ_FIRST {
            let mut bytes = Vec::with_capacity(size as usize);
            let read = (&mut source).take(size).read_to_end(&mut bytes);
            read.map_err(|source| WriteError::Entry { path: meta.path.shown(), source })?;
            bytes.truncate(source.count as usize);
            self.file(meta, source.count, &bytes[..])?;
            return Ok(source.ended.map(|short| Shorter { is_filled: false, ..short }));
        }
        let mut hashing = Hashing::new((&mut source).take(size));
        self.put(meta, size, &mut hashing).map_err(|e| match Cancelled::is_why(&e) {
            true => WriteError::Entry { path: meta.path.shown(), source: e },
            false => PathError { path: self.target.clone(), source: e }.into(),
        })?;
        let hash = hashing.hasher.finalize().to_hex().to_string();
        let cut_at = source.ended.as_ref().map(|shorter| shorter.bytes);
        self.note(meta, Kind::File, size, hash, cut_at)?;
        Ok(source.ended)
    }

    fn put(&mut self, meta: &Meta, size: u64, source: &mut dyn Read) -> io::Result<()> {
        match &mut self.out {
            Out::Tar(builder) => {
                let mut header = header(meta, tar::EntryType::Regular, size);
                builder.append_data(&mut header, meta.path.as_path(), source)
            }
            Out::Zip(zip) => {
                let options = zip_options(meta).large_file(size >= u64::from(u32::MAX) - 1);
                zip.start_file(zip_name(&meta.path)?, options).map_err(io::Error::from)?;
                io::copy(source, zip).map(drop)
            }
        }
    }

    /// Adds a folder.
    pub fn folder(&mut self, meta: &Meta) -> Result<(), WriteError> {
        let done = match &mut self.out {
            Out::Tar(builder) => {
                let mut header = header(meta, tar::EntryType::Directory, 0);
                let name = [meta.path.bytes(), b"/"].concat();
                let path = PathBuf::from(std::ffi::OsStr::new(
                    <std::ffi::OsStr as std::os::unix::ffi::OsStrExt>::from_bytes(&name),
                ));
                builder.append_data(&mut header, path, io::empty())
            }
            Out::Zip(zip) => zip_name(&meta.path)
                .and_then(|n| zip.add_directory(n, zip_options(meta)).map_err(io::Error::from)),
        };
        done.map_err(|source| WriteError::Entry { path: meta.path.shown(), source })?;
        self.note(meta, Kind::Folder, 0, String::new(), None)
    }

    /// Adds a symbolic link.
    pub fn symlink(&mut self, meta: &Meta, target: &Path) -> Result<(), WriteError> {
        let done = match &mut self.out {
            Out::Tar(builder) => {
                let mut header = header(meta, tar::EntryType::Symlink, 0);
                builder.append_link(&mut header, meta.path.as_path(), target)
            }
            Out::Zip(zip) => zip_name(&meta.path).and_then(|n| {
                zip.add_symlink(n, target.to_string_lossy().into_owned(), zip_options(meta))
                    .map_err(io::Error::from)
            }),
        };
        done.map_err(|source| WriteError::Entry { path: meta.path.shown(), source })?;
        let hash =
            blake3::hash(std::os::unix::ffi::OsStrExt::as_bytes(target.as_os_str())).to_hex().to_string();
        self.note(meta, Kind::Symlink, 0, hash, None)
    }

    fn note(
        &mut self,
        meta: &Meta,
        kind: Kind,
        size: u64,
        blake3: String,
        cut_at: Option<u64>,
    ) -> Result<(), WriteError> {
        let mode = format!("{:04o}", meta.mode & 0o7777);
        let line = Line { path: meta.path.shown(), kind, size, mode, time: meta.time, blake3, cut_at };
        let mut text = serde_json::to_vec(&line).map_err(io::Error::from).at(&self.target)?;
        text.push(b'\n');
        self.closing.entries += 1;
        self.closing.bytes += size;
        self.manifest.write_all(&text).at(&self.target)?;
        Ok(())
    }

    /// Adds the manifest, makes the file durable and gives it its name. Returns its size in bytes.
    pub fn finish(mut self) -> Result<u64, WriteError> {
        let target = self.target.clone();
        let closing = serde_json::to_string(&self.closing).map_err(io::Error::from).at(&target)? + "\n";
        self.manifest.write_all(closing.as_bytes()).at(&target)?;
        let size = self.manifest.stream_position().at(&target)?;
        self.manifest.seek(SeekFrom::Start(0)).at(&target)?;
        let meta = Meta { path: EntryPath::trusted(MANIFEST), mode: 0o644, time: 0 };
        let manifest = self.manifest.try_clone().at(&target)?;
        self.put(&meta, size, &mut BufReader::new(manifest)).at(&target)?;
        let (sink, size) = match self.out {
            Out::Tar(builder) => builder.into_inner().and_then(Compressed::finish).at(&target)?,
            Out::Zip(zip) => {
                let mut end = zip.finish().map_err(io::Error::from).at(&target)?;
                let size = end.stream_position().at(&target)?;
                (end.into_inner(), size)
            }
        };
        sink.commit()?;
        Ok(size)
    }
}

fn header(meta: &Meta, kind: tar::EntryType, size: u64) -> tar::Header {
    let mut header = tar::Header::new_gnu();
    header.set_entry_type(kind);
    header.set_mode(meta.mode & 0o7777);
    header.set_mtime(u64::try_from(meta.time).unwrap_or(0));
    header.set_uid(0);
    header.set_gid(0);
    header.set_size(size);
    header
}

fn zip_options(meta: &Meta) -> zip::write::SimpleFileOptions {
    let time = time::OffsetDateTime::from_unix_timestamp(meta.time).ok().and_then(|t| {
        zip::DateTime::from_date_and_time(
            u16::try_from(t.year()).ok()?,
            t.month().into(),
            t.day(),
            t.hour(),
            t.minute(),
            t.second(),
        )
        .ok()
    });
    zip::write::SimpleFileOptions::default()
        .compression_method(zip::CompressionMethod::Deflated)
        .unix_permissions(meta.mode & 0o7777)
        .last_modified_time(time.unwrap_or_default())
}

fn zip_name(path: &EntryPath) -> io::Result<String> {
    String::from_utf8(path.bytes().to_vec())
        .map_err(|_| io::Error::other("the name is not UTF-8, which a zip cannot carry; use .tar.zst"))
}

/// Hashes and counts what is read.
pub struct Hashing<R> {
    inner: R,
    /// The hash so far.
    pub hasher: blake3::Hasher,
    /// Bytes read so far.
    pub count: u64,
}

impl<R> Hashing<R> {
    /// Wraps a reader.
    pub fn new(inner: R) -> Self {
        Hashing { inner, hasher: blake3::Hasher::new(), count: 0 }
    }
}

impl<R: Read> Read for Hashing<R> {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let n = self.inner.read(buf)?;
        self.hasher.update(&buf[..n]);
        self.count += n as u64;
        Ok(n)
    }
}
