//! Reads any container entry by entry, in order, as a stream.

use super::blob::Blob;
use super::container::Container;
use super::entry_path::{EntryPath, PathProblem};
use crate::event::{Cancelled, Event, Watch, go_on};
use crate::tree::Origin;
use std::collections::BTreeMap;
use std::io::{self, BufReader, Read, Seek};
use std::ops::ControlFlow;
use std::os::unix::ffi::OsStrExt;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

/// Kind of an entry as the container states it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum EntryKind {
    /// File.
    File,
    /// Folder.
    Folder,
    /// Symbolic link with its target.
    Symlink(PathBuf),
    /// Another name of a file that came before.
    HardLink(PathBuf),
    /// A device, a pipe and the like.
    Special,
}

/// An entry, its content still to be read.
pub struct Entry<'a> {
    /// Checked path, or why there is none. The archive's own root folder gives `Ok(None)`.
    pub path: Result<Option<EntryPath>, PathProblem>,
    /// Name as stored, for messages.
    pub raw_name: String,
    /// Kind.
    pub kind: EntryKind,
    /// Size as stated.
    pub size: u64,
    /// Permission bits, if stated.
    pub mode: Option<u32>,
    /// Modification time, seconds since 1970.
    pub time: i64,
    /// Content.
    pub content: &'a mut dyn Read,
    /// The file itself, where there is one: copied from there, nothing has to pass through this program.
    pub origin: Option<Origin<'a>>,
}

/// Why reading stopped.
#[derive(Debug, thiserror::Error)]
pub enum ReadError {
    /// The file cannot be opened.
    #[error("{path} cannot be read")]
    Open {
        /// Path.
        path: PathBuf,
        /// Cause.
        #[source]
        source: io::Error,
    },
    /// The first bytes are of no archive.
    #[error("{0} is no archive: its first bytes are neither of tar, zstd, gzip nor zip")]
    NoArchive(PathBuf),
    /// The run was told to stop.
    #[error(transparent)]
    Stopped(#[from] Cancelled),
    /// The container or its compression broke.
    #[error("the archive breaks off or is altered near byte {offset}, after {entry:?}")]
    Broken {
        /// Last entry that was begun.
        entry: String,
        /// Bytes of the file that were read by then.
        offset: u64,
        /// Cause.
        #[source]
        source: io::Error,
    },
}

/// Counts the bytes of the file that were read, to say where damage is. Gives no more once the run was told to stop.
struct Position<'w, R> {
    inner: R,
    at: Arc<AtomicU64>,
    watch: &'w dyn Watch,
}

impl<R: Read> Read for Position<'_, R> {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        go_on(self.watch)?;
        let n = self.inner.read(buf)?;
        self.at.fetch_add(n as u64, Ordering::Relaxed);
        Ok(n)
    }
}

impl<R: Seek> Seek for Position<'_, R> {
    fn seek(&mut self, pos: io::SeekFrom) -> io::Result<u64> {
        let at = self.inner.seek(pos)?;
        self.at.store(at, Ordering::Relaxed);
        Ok(at)
    }
}

/// Recognises a blob's container by its first bytes.
pub fn container_of(blob: &dyn Blob) -> Result<Container, ReadError> {
    let open = |source| ReadError::Open { path: blob.name().to_path_buf(), source };
    let mut start = [0; 512];
    let mut file = blob.open().map_err(open)?;
    let mut filled = 0;
    while filled < start.len() {
        match file.read(&mut start[filled..]).map_err(open)? {
            0 => break,
            n => filled += n,
        }
    }
    Container::of_bytes(&start[..filled]).ok_or_else(|| ReadError::NoArchive(blob.name().to_path_buf()))
}

/// Walks over all entries. `take` may stop the walk. `watch` is told of each stretch of the file that was read.
pub fn entries<B>(
    blob: &dyn Blob,
    watch: &dyn Watch,
    take: &mut dyn FnMut(Entry<'_>) -> io::Result<ControlFlow<B>>,
) -> Result<Option<B>, ReadError> {
    let container = container_of(blob)?;
    let open = |source| ReadError::Open { path: blob.name().to_path_buf(), source };
    let at = Arc::new(AtomicU64::new(0));
    let file = Position { inner: blob.open().map_err(open)?, at: at.clone(), watch };
    let mut last = String::new();
    let told = AtomicU64::new(0);
    let mut observed = |entry: Entry<'_>| {
        last.clone_from(&entry.raw_name);
        let flow = take(entry);
        let now = at.load(Ordering::Relaxed);
        watch.event(Event::Advanced { bytes: now.saturating_sub(told.swap(now, Ordering::Relaxed)) });
        flow
    };
    let outcome = match container {
        Container::Zip => zip_entries(file, &mut observed),
        Container::Tar => tar_entries(BufReader::new(file), &mut observed),
        Container::TarGz => tar_entries(
            flate2::read::MultiGzDecoder::new(BufReader::with_capacity(1 << 16, file)),
            &mut observed,
        ),
        Container::TarZst => {
            zstd::stream::read::Decoder::new(file).and_then(|d| tar_entries(d, &mut observed))
        }
    };
    // Whatever the containers made of it: nothing is known of an archive that was not read to its end.
    go_on(watch)?;
    outcome.map_err(|source| ReadError::Broken { entry: last, offset: at.load(Ordering::Relaxed), source })
}

type Take<'t, B> = &'t mut dyn FnMut(Entry<'_>) -> io::Result<ControlFlow<B>>;

fn tar_entries<B>(reader: impl Read, take: Take<'_, B>) -> io::Result<Option<B>> {
    let mut archive = tar::Archive::new(reader);
    for entry in archive.entries()? {
        let mut entry = entry?;
        let name = entry.path_bytes().into_owned();
        let header = entry.header();
        let link = || -> io::Result<PathBuf> {
            let target = entry.link_name_bytes().unwrap_or_default();
            Ok(PathBuf::from(std::ffi::OsStr::from_bytes(&target)))
        };
        let kind = match header.entry_type() {
            tar::EntryType::Regular | tar::EntryType::Continuous | tar::EntryType::GNUSparse => {
                EntryKind::File
            }
            tar::EntryType::Directory => EntryKind::Folder,
            tar::EntryType::Symlink => EntryKind::Symlink(link()?),
            tar::EntryType::Link => EntryKind::HardLink(link()?),
            tar::EntryType::XGlobalHeader => continue,
            _ => EntryKind::Special,
        };
        let mode = header.mode().ok();
        let time = header.mtime().ok().and_then(|t| i64::try_from(t).ok()).unwrap_or_default();
        let (path, raw_name) = (EntryPath::check(&name), String::from_utf8_lossy(&name).into_owned());
        let size = entry.size();
        let flow = take(Entry { path, raw_name, kind, size, mode, time, content: &mut entry, origin: None })?;
        if let ControlFlow::Break(out) = flow {
            return Ok(Some(out));
        }
    }
    // The end of the tar is not the end of the stream: the compression's own check sums come last.
    io::copy(&mut archive.into_inner(), &mut io::sink())?;
    Ok(None)
}

fn zip_entries<B>(reader: impl Read + Seek, take: Take<'_, B>) -> io::Result<Option<B>> {
    let mut archive = zip::ZipArchive::new(reader).map_err(io::Error::from)?;
    // Where the entries lie that were met, by where they begin: a small file could unpack without end if many shared one stretch.
    let mut taken: BTreeMap<u64, u64> = BTreeMap::new();
    for i in 0..archive.len() {
        let mut file = archive.by_index(i).map_err(io::Error::from)?;
        let start = file.header_start();
        let end = file.data_start().unwrap_or(start) + file.compressed_size();
        let before = taken.range(..=start).next_back().is_some_and(|(_, end)| *end > start);
        if before || taken.range(start..end).next().is_some() {
            return Err(io::Error::new(io::ErrorKind::InvalidData, "two of its entries lie over each other"));
        }
        taken.insert(start, end);
        let name = file.name_raw().to_vec();
        let kind = if file.is_dir() {
            EntryKind::Folder
        } else if file.is_symlink() {
            let mut target = Vec::new();
            (&mut file).take(1 << 16).read_to_end(&mut target)?;
            EntryKind::Symlink(PathBuf::from(std::ffi::OsStr::from_bytes(&target)))
        } else {
            EntryKind::File
        };
        let time = file.last_modified().and_then(|t| {
            let month = time::Month::try_from(t.month()).ok()?;
            let date = time::Date::from_calendar_date(i32::from(t.year()), month, t.day()).ok()?;
            let clock = time::Time::from_hms(t.hour(), t.minute(), t.second()).ok()?;
            Some(time::PrimitiveDateTime::new(date, clock).assume_utc().unix_timestamp())
        });
        let (size, mode) = (file.size(), file.unix_mode().map(|m| m & 0o7777));
        let (path, raw_name) = (EntryPath::check(&name), String::from_utf8_lossy(&name).into_owned());
        let time = time.unwrap_or_default();
        if let ControlFlow::Break(out) =
            take(Entry { path, raw_name, kind, size, mode, time, content: &mut file, origin: None })?
        {
            return Ok(Some(out));
        }
    }
    Ok(None)
}
