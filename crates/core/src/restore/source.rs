//! What an archive holds, learned in one pass that writes nothing: ours with its proof, or a plain zip or tar of a folder.

use super::RestoreError;
use super::job::RestoreJob;
use crate::archive::blob::LocalFile;
use crate::archive::clash::{Clash, Clashes};
use crate::archive::entry_path::EntryPath;
use crate::archive::format::{FILES, FORMAT, HEAD, Head, MANIFEST};
use crate::archive::read::{self, Entry, EntryKind, ReadError};
use crate::archive::verify::{
    Damage, Held, Verdict, Verified, too_many_held, verify, verify_and_hold, verify_while_taken,
};
use crate::contents::SiteContents;
use crate::contents::outline::{PROJECT, Small, interesting};
use crate::dump::inspect::{self, Inspection, Wanted};
use crate::event::{Event, Watch, go_on};
use crate::finding::{Code, Finding};
use crate::limits::{CONFIG_FILE, CONFIG_FILES};
use crate::survey::recognise::recognise;
use crate::survey::site_files::{HeldFiles, SiteFiles};
use crate::system::{Known, glob, globs};
use globset::GlobSet;
use std::collections::{BTreeMap, BTreeSet};
use std::io::Read;
use std::ops::ControlFlow;
use std::path::Path;

/// What kind of archive it is.
#[derive(Debug)]
pub enum ArchiveKind {
    /// Written by us, verified whole.
    Ours(Box<Head>),
    /// Made by hand or by something else.
    Plain {
        /// Entry that holds the dump, as stored.
        dump: Option<String>,
    },
}

/// A looked-through archive.
#[derive(Debug)]
pub struct Source {
    /// ArchiveKind.
    pub kind: ArchiveKind,
    /// Config and marker files.
    pub files: HeldFiles,
    /// Bytes of the files, unpacked.
    pub file_bytes: u64,
    /// Bytes of the database part, unpacked.
    pub database_bytes: u64,
    /// Tables in the database part, as far as they are known.
    pub tables: BTreeSet<String>,
    /// Whether there is a database part in the archive.
    pub has_database: bool,
    /// Hosts named in the rows of our database parts.
    pub hosts: BTreeMap<String, u64>,
    /// What needs attention of a site that is cloned.
    pub findings: Vec<Finding>,
    /// Whether all of it was read and is whole; if not, it is verified while it is taken.
    pub verified: bool,
}

/// Walks over the entries of an archive, or of the site that is cloned, of which a table that nobody wants is not read.
pub fn entries(
    job: &RestoreJob,
    wants: &dyn Fn(&str) -> bool,
    watch: &dyn Watch,
    take: &mut dyn FnMut(Entry<'_>) -> ControlFlow<()>,
) -> Result<(), ReadError> {
    let Some(contents) = &job.contents else {
        read::entries::<()>(&LocalFile(&job.options.source), watch, &mut |entry| Ok(take(entry)))?;
        return Ok(());
    };
    // What cannot be read was said when the contents was looked at.
    let mut told = Vec::new();
    let mut take = |entry: Entry<'_>| {
        if watch.cancelled() {
            return ControlFlow::Break(());
        }
        let size = entry.size;
        let flow = take(entry);
        watch.event(Event::Advanced { bytes: size });
        flow
    };
    if contents.file_entries(true, &mut told, &mut take).is_continue() {
        let _ = contents.database_entries(wants, &mut told, &mut take);
    }
    Ok(go_on(watch)?)
}

/// What an archive may hold beyond twice what its head says before all of it is read: a site may grow while it is packed, and what links lead
/// to is packed in their place.
const GROWN: u64 = 256 << 20;

impl Source {
    /// How many bytes of entries are taken on the word of the head. Nothing of an archive that was read to its end.
    pub(super) fn most_bytes(&self) -> Option<u64> {
        let said = (self.file_bytes + self.database_bytes).saturating_mul(2);
        (!self.verified).then(|| said.saturating_add(GROWN))
    }
}

/// Reads an archive to its end, and says what it holds, or what is wrong with it.
pub(super) fn whole(path: &Path, watch: &dyn Watch) -> Result<Box<Verified>, RestoreError> {
    match verify(&LocalFile(path), &Unheard(watch))? {
        Verdict::Whole(proof) => Ok(proof),
        Verdict::Damaged(damage) => Err(RestoreError::Damaged { path: path.to_path_buf(), damage }),
    }
}

/// Walks over the entries as [`entries`] does, and verifies an archive that nobody has read to its end yet.
pub(super) fn entries_verified(
    job: &RestoreJob,
    source: &Source,
    wants: &dyn Fn(&str) -> bool,
    watch: &dyn Watch,
    take: &mut dyn FnMut(Entry<'_>) -> ControlFlow<()>,
) -> Result<Vec<Finding>, RestoreError> {
    if source.verified {
        entries(job, wants, watch, take)?;
        return Ok(Vec::new());
    }
    let path = &job.options.source;
    match verify_while_taken(&LocalFile(path), watch, take)? {
        Some(Verdict::Damaged(damage)) => Err(RestoreError::Damaged { path: path.to_path_buf(), damage }),
        Some(Verdict::Whole(proof)) => Ok(cut_files(&proof)),
        None => Ok(Vec::new()),
    }
}

/// Says which files of an archive were cut short when they were packed.
pub fn cut_files(proof: &Verified) -> Vec<Finding> {
    let cut = |(path, bytes): &(String, u64)| {
        let what = format!("became shorter while it was packed: after {bytes} bytes it holds only zeros");
        Finding::new(Code::FileShrank, what, path, "take it from another archive, if it matters")
    };
    proof.cut.iter().map(cut).collect()
}

/// Looks at a site that is cloned. Its system is known, so only what its definition asks for is read.
fn site(contents: &SiteContents, text: &[String]) -> Source {
    let Small { held, seen, .. } = contents.small_files(text);
    let files = HeldFiles { held, seen, prefix: format!("{FILES}/") };
    Source {
        kind: ArchiveKind::Ours(Box::new(contents.head.clone())),
        files,
        file_bytes: contents.file_bytes(),
        database_bytes: contents.database_bytes(),
        tables: contents.tables().into_iter().collect(),
        has_database: contents.head.has_database,
        hosts: BTreeMap::new(),
        findings: contents.findings.clone(),
        verified: true,
    }
}

/// Looks at the beginning of an archive of ours that tells all a plan needs; nothing where it does not, or where the rest has to be known
/// to be whole before anything is done.
fn beginning(job: &RestoreJob, known: &[Known], watch: &dyn Watch) -> Result<Option<Source>, RestoreError> {
    if job.verify_first || !job.options.text.is_empty() {
        return Ok(None);
    }
    let (mut head, mut left, mut held): (Option<Head>, u64, Held) = (None, 0, Held::new());
    let mut bytes = 0;
    let read = read::entries::<()>(&LocalFile(&job.options.source), &Unheard(watch), &mut |entry| {
        let Ok(Some(path)) = entry.path.clone() else { return Ok(ControlFlow::Break(())) };
        let mut content = Vec::new();
        if entry.kind != EntryKind::File || entry.size > CONFIG_FILE.bytes() {
            return Ok(ControlFlow::Break(()));
        }
        bytes += entry.size;
        let too_many = bytes > CONFIG_FILES.bytes();
        entry.content.take(CONFIG_FILE.bytes()).read_to_end(&mut content)?;
        match &head {
            None => {
                let first: Option<Head> =
                    serde_json::from_slice(&content).ok().filter(|h: &Head| h.format <= FORMAT);
                left = first.as_ref().and_then(|h| h.outline.as_ref()).map_or(0, |outline| outline.files);
                head = first;
            }
            Some(_) => {
                held.insert(path, (content, entry.mode.unwrap_or(0o644)));
                left -= 1;
            }
        }
        Ok(if left == 0 || too_many { ControlFlow::Break(()) } else { ControlFlow::Continue(()) })
    });
    // What is wrong with it is told by who reads all of it.
    let (Ok(_), Some(head), 0) = (&read, head, left) else {
        go_on(watch).map_err(ReadError::from)?;
        return Ok(None);
    };
    let Some(outline) = head.outline.clone() else { return Ok(None) };
    let own = known.iter().find(|k| k.definition.id == head.system.id);
    let told = own.is_some_and(|k| interesting(&k.definition).iter().all(|p| outline.patterns.contains(p)));
    if !told || head.place.address.is_none() {
        return Ok(None);
    }
    let seen: BTreeSet<String> = outline.seen.into_iter().collect();
    let files = HeldFiles { held, seen, prefix: format!("{FILES}/") };
    if recognise(&files, known).ok().is_none_or(|r| r.definition.id != head.system.id) {
        return Ok(None);
    }
    Ok(Some(Source {
        file_bytes: outline.file_bytes,
        database_bytes: outline.database_bytes,
        tables: outline.tables.into_iter().collect(),
        has_database: head.has_database,
        hosts: BTreeMap::new(),
        findings: Vec::new(),
        kind: ArchiveKind::Ours(Box::new(head)),
        files,
        verified: false,
    }))
}

/// Hears when to stop, and tells nothing: what is read at the beginning is read again.
struct Unheard<'w>(&'w dyn Watch);

impl Watch for Unheard<'_> {
    fn event(&self, _: Event<'_>) {}

    fn cancelled(&self) -> bool {
        self.0.cancelled()
    }
}

/// Looks through an archive, or at the site that is cloned.
pub fn look(job: &RestoreJob, known: &[Known], watch: &dyn Watch) -> Result<Source, RestoreError> {
    if let Some(contents) = &job.contents {
        return Ok(site(contents, &job.options.text));
    }
    if let Some(told) = beginning(job, known, watch)? {
        return Ok(told);
    }
    // The site may lie in a folder of a plain archive.
    let patterns =
        known.iter().flat_map(|k| interesting(&k.definition)).chain(job.options.text.iter().cloned());
    let patterns: BTreeSet<String> = patterns.flat_map(|p| [format!("**/{p}"), p]).collect();
    let interesting = globs(patterns.iter().map(String::as_str));
    let path = &job.options.source;
    let total = std::fs::metadata(path).map(|m| m.len()).ok();
    watch.event(Event::StepStarted { step: "verifying the archive", total });
    let (verdict, held) =
        verify_and_hold(&LocalFile(path), watch, &mut |p| interesting.is_match(p.as_path()))?;
    watch.event(Event::StepDone);
    match verdict {
        Verdict::Whole(proof) => {
            let findings = cut_files(&proof);
            let mut files = HeldFiles { held, prefix: format!("{FILES}/"), ..HeldFiles::default() };
            // Folders that serve as markers are files' parents or entries of their own; the proof saw them all.
            files.seen = proof.markers;
            Ok(Source {
                file_bytes: proof.bytes - proof.database_bytes,
                database_bytes: proof.database_bytes,
                tables: proof.tables,
                has_database: proof.head.has_database,
                kind: ArchiveKind::Ours(Box::new(proof.head)),
                hosts: proof.hosts,
                findings,
                files,
                verified: true,
            })
        }
        Verdict::Damaged(Damage::NotOurs { .. }) => plain(path, known, &interesting, total, watch),
        Verdict::Damaged(damage) => Err(RestoreError::Damaged { path: path.to_path_buf(), damage }),
    }
}

/// Reads a plain archive to its end: sizes, config files, dumps.
fn plain(
    path: &Path,
    known: &[Known],
    interesting: &GlobSet,
    total: Option<u64>,
    watch: &dyn Watch,
) -> Result<Source, RestoreError> {
    let mut files = HeldFiles::default();
    let (mut bytes, mut dumps): (u64, Vec<(String, u64)>) = (0, Vec::new());
    watch.event(Event::StepStarted { step: "reading the archive", total });
    let mut clashes = Clashes::default();
    let mut held = 0;
    let read = read::entries::<Damage>(&LocalFile(path), watch, &mut |entry| {
        let Ok(Some(checked)) = &entry.path else { return Ok(ControlFlow::Continue(())) };
        let shown = checked.shown();
        if shown == HEAD || shown == MANIFEST {
            let what = format!("{shown} does not stand where it belongs");
            return Ok(ControlFlow::Break(Damage::Unreadable { what }));
        }
        if let Some(Clash::Impossible(why)) = clashes.look(checked, entry.kind == EntryKind::Folder) {
            return Ok(ControlFlow::Break(Damage::Altered { entry: shown, offset: 0, what: why }));
        }
        if entry.kind == EntryKind::File {
            let lower = shown.to_ascii_lowercase();
            if [".sql", ".sql.gz", ".sql.zst"].iter().any(|e| lower.ends_with(e)) {
                dumps.push((entry.raw_name.clone(), entry.size));
            }
            if entry.size <= CONFIG_FILE.bytes() && interesting.is_match(checked.as_path()) {
                held += entry.size;
                if held > CONFIG_FILES.bytes() {
                    return Ok(ControlFlow::Break(Damage::Unreadable { what: too_many_held() }));
                }
                let mut content = Vec::new();
                entry.content.take(CONFIG_FILE.bytes()).read_to_end(&mut content)?;
                bytes += content.len() as u64;
                files.held.insert(checked.clone(), (content, entry.mode.unwrap_or(0o644)));
            }
            bytes += std::io::copy(entry.content, &mut std::io::sink())?;
        }
        if interesting.is_match(checked.as_path()) {
            files.seen.insert(shown);
        }
        // A folder may be known only by what lies in it.
        for above in checked.as_path().ancestors().skip(1).filter(|a| interesting.is_match(a)) {
            files.seen.insert(above.display().to_string());
        }
        Ok(ControlFlow::Continue(()))
    });
    watch.event(Event::StepDone);
    if let Err(ReadError::Broken { entry, offset, source }) = read {
        let damage = Damage::Altered { entry, offset, what: source.to_string() };
        return Err(RestoreError::Damaged { path: path.to_path_buf(), damage });
    }
    if let Some(damage) = read? {
        return Err(RestoreError::Damaged { path: path.to_path_buf(), damage });
    }
    files.prefix = site_folder(&mut files, known);
    // The largest dump is the site's; smaller ones belong to extensions.
    let dump = dumps.into_iter().max_by_key(|(_, size)| *size);
    let dump_bytes = dump.as_ref().map_or(0, |(_, size)| *size);
    Ok(Source {
        has_database: dump.is_some(),
        kind: ArchiveKind::Plain { dump: dump.map(|(name, _)| name) },
        files,
        file_bytes: bytes,
        database_bytes: dump_bytes,
        tables: BTreeSet::new(),
        hosts: BTreeMap::new(),
        findings: Vec::new(),
        verified: true,
    })
}

/// Finds the folder of a plain archive in which a site lies: of those with a definition's first marker the topmost one in which all of its
/// markers are; else the topmost of all.
fn site_folder(files: &mut HeldFiles, known: &[Known]) -> String {
    let paths: BTreeSet<String> =
        files.held.keys().map(EntryPath::shown).chain(files.seen.iter().cloned()).collect();
    let mut found: Vec<String> = Vec::new();
    for marker in known.iter().filter_map(|k| k.definition.recognise.first()) {
        let Ok(wanted) = glob(&marker.path) else { continue };
        let depth = marker.path.split('/').count();
        for path in &paths {
            let names: Vec<&str> = path.split('/').collect();
            let Some(above) = names.len().checked_sub(depth) else { continue };
            if wanted.is_match(names[above..].join("/")) {
                found.push(names[..above].iter().map(|name| format!("{name}/")).collect());
            }
        }
    }
    found.sort_by_key(|f| (f.matches('/').count(), f.clone()));
    found.dedup();
    let whole = found.iter().find(|folder| {
        files.prefix = (*folder).clone();
        recognise(files, known).is_ok()
    });
    let folder = whole.or(found.first()).cloned().unwrap_or_default();
    files.prefix.clone_from(&folder);
    project_around(files, known).unwrap_or(folder)
}

/// Returns the folder of a project if the site that was found is its document root: libraries and settings lie beside it.
fn project_around(files: &mut HeldFiles, known: &[Known]) -> Option<String> {
    let site = files.prefix.clone();
    let served = site.trim_end_matches('/').rsplit('/').next().unwrap_or_default().to_string();
    let above = site.strip_suffix(&format!("{served}/"))?.to_string();
    let definition = recognise(files, known).ok()?.definition;
    if !definition.served_from.is_empty() || !definition.document_root.contains(&served) {
        return None;
    }
    files.prefix.clone_from(&above);
    let settings = definition.config.iter().filter(|c| c.above).map(|c| c.path.as_str());
    let beside = [PROJECT].into_iter().chain(settings).any(|path| files.exists(path));
    let whole = beside && recognise(files, known).is_ok_and(|r| !r.definition.served_from.is_empty());
    whole.then_some(above)
}

/// Goes through the dump of a plain archive.
pub fn inspect_inner_dump(
    path: &Path,
    dump: &str,
    wanted: &[Wanted],
    watch: &dyn Watch,
) -> Result<Inspection, RestoreError> {
    let mut found = None;
    read::entries::<()>(&LocalFile(path), watch, &mut |entry| {
        if entry.raw_name != dump {
            return Ok(ControlFlow::Continue(()));
        }
        found = Some(inspect::inspect(entry.content, wanted, true));
        Ok(ControlFlow::Break(()))
    })?;
    match found {
        Some(Ok(inspection)) => Ok(inspection),
        Some(Err(source)) => Err(RestoreError::Dump { name: dump.into(), source }),
        None => Ok(Inspection::default()),
    }
}
