//! Verifies an archive: everything is read, nothing is extracted.
//!
//! Container, compression, every hash, the dump's syntax to the last statement, head and manifest. A damage is told by its
//! kind and place, because the cure depends on it: upload again, in binary mode, or pack again.

use super::blob::Blob;
use super::clash::{Clash, Clashes};
use super::container::{Canary, Container, canary, closing_length};
use super::entry_path::EntryPath;
use super::format::{Closing, DATABASE, FORMAT, HEAD, Head, Kind, Line, MANIFEST};
use super::read::{self, Entry, EntryKind, ReadError};
use super::write::Hashing;
use crate::dump::inspect;
use crate::event::Watch;
use crate::limits::{CONFIG_FILE, CONFIG_FILES};
use schemars::JsonSchema;
use serde::Serialize;
use std::cell::Cell;
use std::collections::{BTreeMap, BTreeSet};
use std::fs::File;
use std::io::{self, BufRead, BufReader, Read, Seek, SeekFrom, Write};
use std::ops::ControlFlow;
use std::rc::Rc;

/// A kind of damage, with its place.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case", tag = "kind")]
pub enum Damage {
    /// The file ends early.
    CutOff {
        /// Bytes missing of the file, where its first bytes tell the length (format 1).
        missing: Option<u64>,
        /// Bytes of content that are there, and about how many there were, where the head could be read.
        content: Option<Share>,
        /// Entry that was being read.
        entry: String,
        /// Offset in the file.
        offset: u64,
    },
    /// Bytes are not what they were.
    Altered {
        /// Entry.
        entry: String,
        /// Offset in the file near which it was noticed.
        offset: u64,
        /// What was noticed.
        what: String,
    },
    /// A transfer in text mode changed line ends.
    TextMode {
        /// What happened to line ends.
        what: String,
    },
    /// The manifest names an entry that is not there.
    Missing {
        /// Entry.
        entry: String,
    },
    /// An entry is there that the manifest does not name.
    Unlisted {
        /// Entry.
        entry: String,
    },
    /// A database part does not end as SQL should.
    Dump {
        /// Entry.
        entry: String,
        /// Line.
        line: u64,
        /// What was met.
        what: String,
    },
    /// Head and content do not agree.
    Head {
        /// What does not agree.
        what: String,
    },
    /// One of ours, by its head, that this program cannot read, or that we would not have written.
    Unreadable {
        /// What is wrong with it.
        what: String,
    },
    /// An archive, but not one of ours, or no archive at all.
    NotOurs {
        /// What it seems to be.
        what: String,
    },
}

/// A part of something that was expected.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Share {
    /// Bytes that are there.
    pub there: u64,
    /// Bytes that were expected.
    pub expected: u64,
}

impl Damage {
    /// Returns what to do about it.
    pub fn cure(&self) -> &'static str {
        match self {
            Damage::CutOff { .. } => "transfer the archive again and compare its size",
            Damage::TextMode { .. } => "transfer the archive again in binary mode",
            Damage::Unreadable { .. } => {
                "use the version of zporter that wrote it; if it came from somebody else, look at where it comes from"
            }
            Damage::NotOurs { .. } => {
                "restore accepts a plain zip or tar.gz of a site, too, but only our own archives can be verified"
            }
            Damage::Altered { .. }
            | Damage::Missing { .. }
            | Damage::Unlisted { .. }
            | Damage::Dump { .. }
            | Damage::Head { .. } => {
                "transfer the archive again; if it is damaged at its source, too, pack the site again"
            }
        }
    }
}

impl std::fmt::Display for Damage {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Damage::CutOff { missing: Some(n), entry, offset, .. } => {
                write!(f, "cut off at byte {offset}, in {entry}: {n} bytes are missing")
            }
            Damage::CutOff { content: Some(Share { there, expected }), entry, offset, .. } => {
                write!(
                    f,
                    "cut off at byte {offset}, in {entry}: {there} of about {expected} bytes of content are there"
                )
            }
            Damage::CutOff { entry, offset, .. } => write!(f, "cut off at byte {offset}, in {entry}"),
            Damage::Altered { entry, offset, what } => {
                write!(f, "altered near byte {offset}, in {entry}: {what}")
            }
            Damage::TextMode { what } => write!(f, "damaged by a transfer in text mode: {what}"),
            Damage::Missing { entry } => write!(f, "entry missing: {entry}"),
            Damage::Unlisted { entry } => write!(f, "entry that the manifest does not name: {entry}"),
            Damage::Dump { entry, line, what } => {
                write!(f, "database part {entry} breaks off at line {line}: {what}")
            }
            Damage::Head { what } => write!(f, "head and content do not agree: {what}"),
            Damage::Unreadable { what } => write!(f, "an archive of ours that cannot be read: {what}"),
            Damage::NotOurs { what } => write!(f, "not an archive of ours: {what}"),
        }
    }
}

/// What a whole archive holds.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct Verified {
    /// Head.
    pub head: Head,
    /// Entries, head included, manifest not.
    pub entries: u64,
    /// Files that shrank while they were packed, with the bytes that are theirs; what follows in their entries is zeros.
    #[serde(skip)]
    pub cut: Vec<(String, u64)>,
    /// Their bytes, uncompressed.
    pub bytes: u64,
    /// Database parts.
    pub database_parts: u64,
    /// Rows in them.
    pub rows: u64,
    /// Their bytes.
    pub database_bytes: u64,
    /// Tables in them.
    #[serde(skip)]
    pub tables: BTreeSet<String>,
    /// Hosts that rows name, with counts.
    #[serde(skip)]
    pub hosts: BTreeMap<String, u64>,
    /// Entries, other than held files, that were asked for.
    #[serde(skip)]
    pub markers: BTreeSet<String>,
}

/// Outcome of a verification.
#[derive(Debug, Clone)]
pub enum Verdict {
    /// Nothing is wrong.
    Whole(Box<Verified>),
    /// Something is.
    Damaged(Damage),
}

/// Verifies an archive.
pub fn verify(blob: &dyn Blob, watch: &dyn Watch) -> Result<Verdict, ReadError> {
    verify_and_hold(blob, watch, &mut |_| false).map(|(verdict, _)| verdict)
}

/// Files of an archive that were asked for: bytes, permission bits.
pub type Held = BTreeMap<EntryPath, (Vec<u8>, u32)>;

/// Says that the files that are held come to more than they may.
pub fn too_many_held() -> String {
    format!(
        "what looks like config files in it comes to more than {} MiB (--limit {}=SIZE allows more)",
        CONFIG_FILES.bytes() >> 20,
        CONFIG_FILES.name
    )
}

/// Takes entries while an archive is verified, and may stop.
pub type TakeEntry<'t> = &'t mut dyn FnMut(Entry<'_>) -> ControlFlow<()>;

/// Verifies an archive while somebody takes its entries: what they made of them counts only if it is whole. Nothing is returned where they
/// stopped.
pub fn verify_while_taken(
    blob: &dyn Blob,
    watch: &dyn Watch,
    take: TakeEntry<'_>,
) -> Result<Option<Verdict>, ReadError> {
    let (verdict, _, stopped) = verified(blob, watch, &mut |_| false, Some(take))?;
    Ok((!stopped).then_some(verdict))
}

/// Verifies an archive and holds the (small) files that `wanted` names.
pub fn verify_and_hold(
    blob: &dyn Blob,
    watch: &dyn Watch,
    wanted: &mut dyn FnMut(&EntryPath) -> bool,
) -> Result<(Verdict, Held), ReadError> {
    verified(blob, watch, wanted, None).map(|(verdict, held, _)| (verdict, held))
}

/// Reads an archive to its end, or until whoever takes its entries stops: the last value says whether they did.
fn verified(
    blob: &dyn Blob,
    watch: &dyn Watch,
    wanted: &mut dyn FnMut(&EntryPath) -> bool,
    take: Option<TakeEntry<'_>>,
) -> Result<(Verdict, Held, bool), ReadError> {
    let damaged = |d| Ok((Verdict::Damaged(d), Held::new(), false));
    let spool =
        tempfile::tempfile().map_err(|source| ReadError::Open { path: std::env::temp_dir(), source })?;
    let mut run = Verifier {
        wanted,
        spool,
        held: Held::new(),
        held_bytes: 0,
        head: None,
        entries: 0,
        cut: Vec::new(),
        bytes: 0,
        arrived: Rc::default(),
        parts: 0,
        rows: 0,
        database_bytes: 0,
        tables: BTreeSet::new(),
        hosts: BTreeMap::new(),
        markers: BTreeSet::new(),
        manifest: None,
        clashes: Clashes::default(),
        take,
        stopped: false,
    };
    let read = read::entries(blob, watch, &mut |entry| run.entry(entry));
    match read {
        Ok(Some(damage)) if run.stopped => return Ok((Verdict::Damaged(damage), Held::new(), true)),
        Ok(Some(damage)) => return damaged(with_cause(blob, damage)),
        Ok(None) => {}
        Err(ReadError::Broken { entry, offset, source }) => {
            let damage = diagnose(blob, entry, offset, &source);
            return damaged(run.with_share(damage));
        }
        Err(ReadError::NoArchive(p)) => {
            return damaged(match Marks::of(blob).head {
                Canary::Damaged(what) => Damage::TextMode { what: what.into() },
                _ => text_mode_pattern(blob).map_or_else(
                    || Damage::NotOurs { what: ReadError::NoArchive(p).to_string() },
                    |what| Damage::TextMode { what },
                ),
            });
        }
        Err(other) => return Err(other),
    }
    let (marks, entry) = (Marks::of(blob), MANIFEST.to_string());
    match marks.recorded() {
        Some(length) if length < marks.size => {
            let what = format!("{} bytes follow its end", marks.size - length);
            damaged(Damage::Altered { entry, offset: length, what })
        }
        Some(length) if length > marks.size => damaged(marks.shortened(length, entry)),
        // All content is there and unharmed, but it ends before its closing mark does.
        None if run.is_cut_before_its_mark(blob, marks.head) => {
            let damage = Damage::CutOff { missing: None, content: None, entry, offset: marks.size };
            damaged(run.with_share(damage))
        }
        _ => {
            let (verdict, held) = run.verdict();
            Ok((verdict, held, false))
        }
    }
}

struct Verifier<'p, 't> {
    wanted: &'p mut dyn FnMut(&EntryPath) -> bool,
    /// Who takes the entries meanwhile, and whether they want no more.
    take: Option<TakeEntry<'t>>,
    stopped: bool,
    /// What was met, in the manifest's form.
    spool: File,
    held: Held,
    held_bytes: u64,
    head: Option<Head>,
    entries: u64,
    cut: Vec<(String, u64)>,
    bytes: u64,
    /// Bytes of content that were read, also of an entry that breaks off.
    arrived: Rc<Cell<u64>>,
    parts: u64,
    rows: u64,
    database_bytes: u64,
    tables: BTreeSet<String>,
    hosts: BTreeMap<String, u64>,
    markers: BTreeSet<String>,
    /// The manifest's closing line, once it was compared.
    manifest: Option<Closing>,
    clashes: Clashes,
}

/// Files that shrank while they were packed are named up to so many.
const MOST_CUT: usize = 1000;

/// Longest line of a manifest. Paths are at most 4095 bytes long.
const LONGEST_LINE: usize = 64 << 10;

/// Reads text whose lines have an end.
struct ShortLines<R> {
    inner: R,
    /// Bytes since the last end of a line.
    since: usize,
}

impl<R: Read> Read for ShortLines<R> {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let n = self.inner.read(buf)?;
        match memchr::memrchr(b'\n', &buf[..n]) {
            Some(at) => self.since = n - at,
            None => self.since += n,
        }
        if self.since > LONGEST_LINE {
            return Err(io::Error::other("a line of the manifest has no end"));
        }
        Ok(n)
    }
}

/// Counts what arrives where it is seen whatever becomes of the reader.
struct Arriving<R> {
    inner: R,
    arrived: Rc<Cell<u64>>,
}

impl<R: Read> Read for Arriving<R> {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let n = self.inner.read(buf)?;
        self.arrived.set(self.arrived.get() + n as u64);
        Ok(n)
    }
}

type Flow = io::Result<ControlFlow<Damage>>;

impl Verifier<'_, '_> {
    /// What an entry means that we never write: behind a head of ours the archive was made to look like one.
    fn not_ours(&self, what: String) -> Damage {
        if self.head.is_some() { Damage::Unreadable { what } } else { Damage::NotOurs { what } }
    }

    fn entry(&mut self, mut entry: Entry<'_>) -> Flow {
        let Ok(Some(path)) = entry.path.clone() else {
            let what = format!("the entry {:?} has no safe path", entry.raw_name);
            return Ok(ControlFlow::Break(self.not_ours(what)));
        };
        let name = path.shown();
        if self.head.is_none() && name != HEAD {
            let what = format!("it begins with {name:?} instead of a head");
            return Ok(ControlFlow::Break(Damage::NotOurs { what }));
        }
        if self.manifest.is_some() {
            return Ok(ControlFlow::Break(Damage::Unlisted { entry: name }));
        }
        if name == MANIFEST {
            return self.compare(BufReader::new(ShortLines { inner: entry.content, since: 0 }));
        }
        match self.clashes.look(&path, entry.kind == EntryKind::Folder) {
            Some(Clash::Twice) => {
                return Ok(ControlFlow::Break(self.not_ours(format!("{name} is there twice"))));
            }
            Some(Clash::Impossible(why)) => {
                return Ok(ControlFlow::Break(self.not_ours(format!("{name}: {why}"))));
            }
            None => {}
        }
        let (kind, size, hash) = match &entry.kind {
            EntryKind::Folder => (Kind::Folder, 0, String::new()),
            EntryKind::Symlink(target) => {
                let target = std::os::unix::ffi::OsStrExt::as_bytes(target.as_os_str());
                (Kind::Symlink, 0, blake3::hash(target).to_hex().to_string())
            }
            EntryKind::File => match self.file(&mut entry, &path, &name)? {
                Ok((size, hash)) => (Kind::File, size, hash),
                Err(damage) => return Ok(ControlFlow::Break(damage)),
            },
            EntryKind::HardLink(_) | EntryKind::Special => {
                return Ok(ControlFlow::Break(
                    self.not_ours(format!("{name} is of a kind that is never packed")),
                ));
            }
        };
        if let (Some(take), false) = (&mut self.take, kind == Kind::File) {
            let (path, raw_name) = (Ok(Some(path.clone())), entry.raw_name.clone());
            let Entry { size, mode, time, .. } = entry;
            let handed = Entry {
                path,
                raw_name,
                kind: entry.kind.clone(),
                size,
                mode,
                time,
                content: &mut *entry.content,
                origin: None,
            };
            if take(handed).is_break() {
                self.stopped = true;
                return Ok(ControlFlow::Break(Damage::Missing { entry: name }));
            }
        }
        if kind != Kind::File && (self.wanted)(&path) {
            self.markers.insert(name.clone());
        }
        let mode = format!("{:04o}", entry.mode.unwrap_or_default() & 0o7777);
        let line = Line { path: name, kind, size, mode, time: entry.time, blake3: hash, cut_at: None };
        let mut text = serde_json::to_vec(&line)?;
        text.push(b'\n');
        self.spool.write_all(&text)?;
        self.entries += 1;
        self.bytes += size;
        Ok(ControlFlow::Continue(()))
    }

    /// Reads a file through its hash; head, database parts and wanted files are looked into on the way.
    fn file(
        &mut self,
        entry: &mut Entry<'_>,
        path: &EntryPath,
        name: &str,
    ) -> io::Result<Result<(u64, String), Damage>> {
        let arriving = Arriving { inner: &mut *entry.content, arrived: self.arrived.clone() };
        let mut content = Hashing::new(arriving);
        if self.head.is_none() {
            let mut text = Vec::new();
            (&mut content).take(CONFIG_FILE.bytes()).read_to_end(&mut text)?;
            match serde_json::from_slice::<Head>(&text) {
                Ok(head) if head.format > FORMAT => {
                    let what = format!(
                        "format {} is newer than this program, which reads up to {FORMAT}",
                        head.format
                    );
                    return Ok(Err(Damage::Unreadable { what }));
                }
                Ok(head) => self.head = Some(head),
                Err(e) => {
                    return Ok(Err(Damage::Unreadable { what: format!("its head cannot be read: {e}") }));
                }
            }
        } else if let Some(take) = &mut self.take {
            self.parts += u64::from(path.below(DATABASE).is_some());
            let (path, raw_name) = (Ok(Some(path.clone())), entry.raw_name.clone());
            let Entry { size, mode, time, .. } = *entry;
            let kind = EntryKind::File;
            let flow =
                take(Entry { path, raw_name, kind, size, mode, time, content: &mut content, origin: None });
            if flow.is_break() {
                self.stopped = true;
                return Ok(Err(Damage::Missing { entry: name.into() }));
            }
        } else if path.below(DATABASE).is_some() {
            let found = inspect::inspect(&mut content, &[], true).map_err(|e| match e {
                crate::dump::stream::DumpError::Read(io) => io,
                other => io::Error::other(other.to_string()),
            })?;
            if let Some(cut) = found.cut_off {
                return Ok(Err(Damage::Dump { entry: name.into(), line: cut.line, what: cut.what }));
            }
            self.parts += 1;
            self.rows += found.tables.values().map(|t| t.rows).sum::<u64>();
            self.tables.extend(found.tables.into_keys());
            self.database_bytes += found.bytes;
            for (host, count) in found.hosts {
                *self.hosts.entry(host).or_default() += count;
            }
        } else if entry.size <= CONFIG_FILE.bytes() && (self.wanted)(path) {
            self.held_bytes += entry.size;
            if self.held_bytes > CONFIG_FILES.bytes() {
                return Ok(Err(Damage::Unreadable { what: too_many_held() }));
            }
            let mut bytes = Vec::new();
            content.read_to_end(&mut bytes)?;
            self.held.insert(path.clone(), (bytes, entry.mode.unwrap_or(0o644)));
        }
        io::copy(&mut content, &mut io::sink())?;
        Ok(Ok((content.count, content.hasher.finalize().to_hex().to_string())))
    }

    /// Compares what was met with the manifest, line by line; both have the order of the archive.
    fn compare(&mut self, manifest: impl BufRead) -> Flow {
        self.spool.seek(SeekFrom::Start(0))?;
        let mut met = BufReader::new(&self.spool).lines();
        for line in manifest.lines() {
            let line = line?;
            if let Ok(closing) = serde_json::from_str::<Closing>(&line) {
                if let Some(extra) = met.next().transpose()? {
                    let entry = path_of(&extra);
                    return Ok(ControlFlow::Break(Damage::Unlisted { entry }));
                }
                if (closing.entries, closing.bytes) != (self.entries, self.bytes) {
                    let what = format!(
                        "the manifest closes with {} entries, {} were met",
                        closing.entries, self.entries
                    );
                    return Ok(ControlFlow::Break(Damage::Head { what }));
                }
                self.manifest = Some(closing);
                return Ok(ControlFlow::Continue(()));
            }
            let Ok(listed) = serde_json::from_str::<Line>(&line) else {
                let what = "a line of the manifest cannot be read".to_string();
                return Ok(ControlFlow::Break(Damage::Altered { entry: MANIFEST.into(), offset: 0, what }));
            };
            let Some(found) = met.next().transpose()? else {
                return Ok(ControlFlow::Break(Damage::Missing { entry: listed.path }));
            };
            let found: Line = serde_json::from_str(&found)?;
            if found.path != listed.path {
                return Ok(ControlFlow::Break(Damage::Missing { entry: listed.path }));
            }
            if let Some(bytes) = listed.cut_at
                && self.cut.len() < MOST_CUT
            {
                self.cut.push((listed.path.clone(), bytes));
            }
            if (found.kind, found.size, &found.blake3) != (listed.kind, listed.size, &listed.blake3) {
                let what = format!(
                    "{} bytes were packed, {} are there, and the hash differs",
                    listed.size, found.size
                );
                return Ok(ControlFlow::Break(Damage::Altered { entry: listed.path, offset: 0, what }));
            }
        }
        Ok(ControlFlow::Break(Damage::CutOff {
            missing: None,
            content: None,
            entry: MANIFEST.into(),
            offset: 0,
        }))
    }

    /// Whether an archive that has no mark at its end had one: the tars from format 2 on. Whoever packs the same entries with stock tools
    /// makes neither mark; of an archive that ends behind its head the first one may be lost.
    fn is_cut_before_its_mark(&self, blob: &dyn Blob, first: Canary) -> bool {
        let tar = matches!(read::container_of(blob), Ok(Container::TarZst | Container::TarGz));
        let marked = matches!(first, Canary::Intact { .. }) || self.entries <= 1;
        tar && marked && self.head.as_ref().is_some_and(|h| h.format >= 2)
    }

    /// A cut says how much of the content arrived, where the head told what to expect.
    fn with_share(&self, damage: Damage) -> Damage {
        match (damage, &self.head) {
            (Damage::CutOff { missing, entry, offset, .. }, Some(head)) if head.expected_bytes > 0 => {
                let share = Share { there: self.arrived.get(), expected: head.expected_bytes };
                Damage::CutOff { missing, content: Some(share), entry, offset }
            }
            (damage, _) => damage,
        }
    }

    fn verdict(self) -> (Verdict, Held) {
        let Some(head) = self.head else {
            return (Verdict::Damaged(Damage::NotOurs { what: "it is empty".into() }), Held::new());
        };
        if self.manifest.is_none() {
            return (Verdict::Damaged(Damage::Missing { entry: MANIFEST.into() }), Held::new());
        }
        if head.has_database != (self.parts > 0) {
            let what =
                if head.has_database { "the head promises a database" } else { "there are database parts" };
            return (Verdict::Damaged(Damage::Head { what: what.into() }), Held::new());
        }
        let proof = Verified {
            head,
            entries: self.entries,
            cut: self.cut,
            bytes: self.bytes,
            database_parts: self.parts,
            rows: self.rows,
            database_bytes: self.database_bytes,
            tables: self.tables,
            hosts: self.hosts,
            markers: self.markers,
        };
        (Verdict::Whole(Box::new(proof)), self.held)
    }
}

fn path_of(line: &str) -> String {
    serde_json::from_str::<Line>(line).map(|l| l.path).unwrap_or_default()
}

/// What the marks of an archive tell.
struct Marks {
    head: Canary,
    /// The length that the mark at the end tells.
    closing: Option<u64>,
    size: u64,
}

impl Marks {
    fn of(blob: &dyn Blob) -> Marks {
        const STRETCH: u64 = 1 << 16;
        let size = blob.size().unwrap_or_default();
        let stretch = |from| -> io::Result<Vec<u8>> {
            let mut bytes = Vec::new();
            let mut reader = blob.open()?;
            reader.seek(SeekFrom::Start(from))?;
            reader.take(STRETCH).read_to_end(&mut bytes)?;
            Ok(bytes)
        };
        let head = stretch(0).map_or(Canary::Absent, |start| canary(&start));
        let closing = stretch(size.saturating_sub(STRETCH)).ok().and_then(|end| closing_length(&end));
        Marks { head, closing, size }
    }

    /// The length that the archive had when it was written, as far as it tells.
    fn recorded(&self) -> Option<u64> {
        match self.head {
            Canary::Intact { length: Some(length) } => Some(length),
            _ => self.closing,
        }
    }

    /// The damage of an archive that is shorter than its marks say. Behind a mark at the end the gap lies before it.
    fn shortened(&self, length: u64, entry: String) -> Damage {
        let missing = length - self.size;
        match self.head {
            Canary::Intact { length: Some(_) } => {
                Damage::CutOff { missing: Some(missing), content: None, entry, offset: self.size }
            }
            _ => {
                let what = format!("{missing} bytes are missing before its end");
                Damage::Altered { entry, offset: self.size, what }
            }
        }
    }
}

/// A damage found inside of an entry may have a cause that concerns the whole file.
fn with_cause(blob: &dyn Blob, damage: Damage) -> Damage {
    if let Damage::NotOurs { .. } = damage {
        return damage;
    }
    match Marks::of(blob).head {
        Canary::Damaged(what) if what != "bytes were altered" => Damage::TextMode { what: what.into() },
        _ => damage,
    }
}

/// Finds the likeliest cause of a broken container.
fn diagnose(blob: &dyn Blob, entry: String, offset: u64, source: &io::Error) -> Damage {
    let marks = Marks::of(blob);
    let (canary, size) = (marks.head, marks.size);
    match canary {
        Canary::Damaged(what) if what != "bytes were altered" => {
            return Damage::TextMode { what: what.into() };
        }
        _ => {}
    }
    if let Some(length) = marks.recorded().filter(|length| *length > size) {
        return marks.shortened(length, entry);
    }
    if !matches!(canary, Canary::Intact { .. })
        && let Some(what) = text_mode_pattern(blob)
    {
        return Damage::TextMode { what };
    }
    let at_end = offset >= size || source.kind() == io::ErrorKind::UnexpectedEof;
    if marks.recorded().is_none() && (zip_without_end(blob) || at_end) {
        return Damage::CutOff { missing: None, content: None, entry, offset: size };
    }
    Damage::Altered { entry, offset, what: source.to_string() }
}

/// Says whether a zip lacks its end record, or a part of it (APPNOTE 4.3.16: 22 bytes and a comment of stated length).
fn zip_without_end(blob: &dyn Blob) -> bool {
    let mut tail = Vec::new();
    let read = blob.open().and_then(|mut f| {
        let size = blob.size()?;
        f.seek(SeekFrom::Start(size.saturating_sub(66_000)))?;
        f.read_to_end(&mut tail)
    });
    let zip = read::container_of(blob).is_ok_and(|c| c == Container::Zip);
    let whole = memchr::memmem::rfind(&tail, b"PK\x05\x06").and_then(|at| {
        let comment = tail.get(at + 20..at + 22)?;
        Some(at + 22 + usize::from(u16::from_le_bytes([comment[0], comment[1]])) <= tail.len())
    });
    zip && read.is_ok() && whole != Some(true)
}

/// Looks at the line ends of a compressed file: by chance CR and LF are as frequent as any byte.
fn text_mode_pattern(blob: &dyn Blob) -> Option<String> {
    let mut reader = BufReader::new(blob.open().ok()?);
    let (mut total, mut cr, mut lf, mut pairs) = (0u64, 0u64, 0u64, 0u64);
    let mut last = 0u8;
    loop {
        let buffer = reader.fill_buf().ok()?;
        if buffer.is_empty() {
            break;
        }
        for b in buffer {
            cr += u64::from(*b == b'\r');
            lf += u64::from(*b == b'\n');
            pairs += u64::from(last == b'\r' && *b == b'\n');
            last = *b;
        }
        let n = buffer.len();
        total += n as u64;
        reader.consume(n);
    }
    let expected = total / 256;
    if expected >= 8 && lf >= expected / 2 && pairs == lf {
        return Some("every LF has a CR before it".into());
    }
    if expected >= 24 && cr == 0 {
        return Some("there is not a single CR".into());
    }
    if expected >= 24 && lf == 0 {
        return Some("there is not a single LF".into());
    }
    None
}
