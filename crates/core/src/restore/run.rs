//! Runs a plan: unpack, edit, rewrite, load, look for leftovers. Each step is in the logbook before it begins.

use super::RestoreError;
use super::leftovers::{self, FileLeftover};
use super::plan::RestorePlan;
use super::source::Kind;
use crate::archive::entry_path::EntryPath;
use crate::archive::format::{DATABASE, FILES};
use crate::archive::read::{self, Entry, EntryKind};
use crate::config::edit::{self, Change};
use crate::database::DatabaseError;
use crate::database::load::Loader;
use crate::dump::DumpWriter;
use crate::dump::rewrite::{CellChange, Rewriter, Rewritten, Rules};
use crate::dump::stream::{CutOff, DumpError, WINDOW};
use crate::dump::tally::Tally;
use crate::event::{Counted, Event, Warning, Warnings, Watch};
use crate::fsx::{AtPath, PathError, sync_folder, write_atomically};
use crate::logbook;
use crate::survey::select::{Fate, Selection};
use serde::Serialize;
use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{self, BufWriter, Read, Write};
use std::ops::ControlFlow;
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

/// What a restore did.
#[derive(Debug, Default, Serialize)]
pub struct Restored {
    /// The site's folder.
    pub target: PathBuf,
    /// Files unpacked.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Entries of a plain archive that were not carried, with reasons.
    pub not_unpacked: BTreeMap<String, u64>,
    /// The rewritten dump, if one was written.
    pub dump: Option<PathBuf>,
    /// Tables loaded with their rows.
    pub loaded: BTreeMap<String, u64>,
    /// Values changed in config and text files, by file.
    pub config: BTreeMap<String, Vec<Change>>,
    /// Declared cells.
    pub cells: Vec<CellChange>,
    /// What was changed and left in the rows.
    pub tally: Tally,
    /// Definers taken out.
    pub definers: u64,
    /// Files that still name the old place.
    pub leftovers: Vec<FileLeftover>,
    /// What needs attention.
    pub warnings: Vec<Warning>,
}

impl Restored {
    /// Says whether anything needs a person's attention.
    pub fn has_findings(&self) -> bool {
        let pointing =
            self.leftovers.iter().any(|l| l.pointing > 0 || l.mentions.keys().any(|r| r.is_leftover()));
        pointing || !self.warnings.is_empty() || self.tally.left().keys().any(|r| r.is_leftover())
    }
}

/// Rewrites the database into nothing and returns what a run would do.
pub fn preview(plan: &RestorePlan, samples: usize, watch: &dyn Watch) -> Result<Restored, RestoreError> {
    let mut total = Restored { target: plan.job.target.clone(), ..Restored::default() };
    with_rules(plan, samples, |rules| {
        each_database_part(plan, watch, &mut |name, reader| {
            let rewritten = rewrite(name, reader, rules, io::sink())?.1;
            total.add(rewritten);
            Ok(())
        })
    })?;
    total.config = config_changes(plan);
    total.warnings.clone_from(&plan.warnings);
    Ok(total)
}

/// Runs the plan.
pub fn run(
    plan: &RestorePlan,
    samples: usize,
    book: &mut logbook::Run,
    watch: &dyn Watch,
) -> Result<Restored, RestoreError> {
    let target = &plan.job.target;
    let mut warnings = Warnings::new(watch);
    let mut total = Restored { target: target.clone(), ..Restored::default() };
    book.step(
        "unpack files",
        serde_json::json!({ "target": target, "was": if target.exists() { "empty" } else { "missing" } }),
    )?;
    fs::create_dir_all(target).at(target)?;
    let archive_size = fs::metadata(&plan.job.archive).map(|m| m.len()).ok();
    watch.event(Event::StepStarted { step: "unpacking", total: archive_size });
    with_rules(plan, samples, |rules| {
        let mut sink = DatabaseSink::open(plan, book)?;
        let mut unpack = Unpack::new(plan, &mut warnings);
        let mut problem: Option<RestoreError> = None;
        let advance = |bytes| watch.event(Event::Advanced { bytes });
        let read = read::entries::<()>(&plan.job.archive, &advance, &mut |entry| {
            let outcome = match unpack.place_of(&entry) {
                EntryPlace::File(below) => unpack.file(entry, &below),
                EntryPlace::Database(name) => crate::dump::open(entry.content)
                    .map_err(|e| RestoreError::Dump { name: name.clone(), source: DumpError::Read(e) })
                    .and_then(|reader| sink.part(&name, reader, rules, &mut total, book)),
                EntryPlace::None => Ok(()),
            };
            Ok(match outcome {
                Ok(()) => ControlFlow::Continue(()),
                Err(e) => {
                    problem = Some(e);
                    ControlFlow::Break(())
                }
            })
        });
        if let Some(problem) = problem {
            return Err(problem);
        }
        read?;
        unpack.finish()?;
        (total.files, total.bytes) = (unpack.files, unpack.bytes);
        total.not_unpacked = std::mem::take(&mut unpack.not_unpacked);
        if let Some(dump) = &plan.job.dump {
            let file = File::open(dump).at(dump)?;
            let reader = crate::dump::open(Counted::new(file, watch)).at(dump)?;
            sink.part(&dump.display().to_string(), reader, rules, &mut total, book)?;
        }
        sink.finish(&mut total)
    })?;
    watch.event(Event::StepDone);
    edit_files(plan, &mut total, book)?;
    watch.event(Event::StepStarted { step: "looking for leftovers", total: None });
    total.leftovers = leftovers::scan(target, &plan.needles());
    watch.event(Event::StepDone);
    for warning in &plan.warnings {
        total.warnings.push(warning.clone());
    }
    total.warnings.extend(warnings.into_vec());
    Ok(total)
}

impl Restored {
    fn add(&mut self, rewritten: Rewritten) {
        self.tally.add(rewritten.tally);
        self.cells.extend(rewritten.cells);
        self.definers += rewritten.definers;
    }
}

fn with_rules<T>(plan: &RestorePlan, samples: usize, work: impl FnOnce(&Rules<'_>) -> T) -> T {
    let needles = plan.needles();
    let leave_rows = |table: &str| plan.leaves_rows(table);
    work(&Rules {
        needles: &needles,
        relocation: Some(&plan.relocation),
        cells: plan.cells.clone(),
        leave_rows: &leave_rows,
        strip_definers: true,
        samples,
    })
}

/// Rewrites one part into a writer.
fn rewrite<W: Write>(
    name: &str,
    reader: impl Read,
    rules: &Rules<'_>,
    out: W,
) -> Result<(W, Rewritten), RestoreError> {
    let mut rewriter = Rewriter::new(rules, out);
    let ending = crate::dump::stream::run(reader, WINDOW, &mut rewriter)
        .map_err(|source| RestoreError::Dump { name: name.into(), source })?;
    if let Some(CutOff { line, what, .. }) = ending.cut_off {
        return Err(RestoreError::Database(DatabaseError::CutOff { line, what }));
    }
    Ok(rewriter.finish())
}

type TakePart<'t> = &'t mut dyn FnMut(&str, Box<dyn Read + '_>) -> Result<(), RestoreError>;

/// Hands every database part to `take`, wherever it lies.
fn each_database_part(plan: &RestorePlan, watch: &dyn Watch, take: TakePart<'_>) -> Result<(), RestoreError> {
    let total = fs::metadata(&plan.job.archive).map(|m| m.len()).ok();
    watch.event(Event::StepStarted { step: "rewriting the database", total });
    let mut problem = None;
    let advance = |bytes| watch.event(Event::Advanced { bytes });
    let locate = Locate::new(plan);
    read::entries::<()>(&plan.job.archive, &advance, &mut |entry| {
        let EntryPlace::Database(name) = locate.place_of(&entry) else {
            return Ok(ControlFlow::Continue(()));
        };
        let outcome = crate::dump::open(entry.content)
            .map_err(|e| RestoreError::Dump { name: name.clone(), source: DumpError::Read(e) })
            .and_then(|reader| take(&name, reader));
        problem = outcome.err();
        Ok(if problem.is_some() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) })
    })?;
    if let Some(problem) = problem {
        return Err(problem);
    }
    if let Some(dump) = &plan.job.dump {
        let reader = crate::dump::open(File::open(dump).at(dump)?).at(dump)?;
        take(&dump.display().to_string(), reader)?;
    }
    watch.event(Event::StepDone);
    Ok(())
}

/// Where an entry belongs.
enum EntryPlace {
    File(EntryPath),
    Database(String),
    None,
}

/// Tells files, database parts and the rest of an archive apart.
struct Locate {
    ours: bool,
    prefix: String,
    dump: Option<String>,
    external_dump: bool,
}

impl Locate {
    fn new(plan: &RestorePlan) -> Self {
        let (ours, dump) = match &plan.source.kind {
            Kind::Ours(_) => (true, None),
            Kind::Plain { dump } => (false, dump.clone()),
        };
        let prefix =
            if ours { FILES.to_string() } else { plan.source.tree.prefix.trim_end_matches('/').to_string() };
        Locate { ours, prefix, dump, external_dump: plan.job.dump.is_some() }
    }

    fn place_of(&self, entry: &Entry<'_>) -> EntryPlace {
        let Ok(Some(path)) = &entry.path else { return EntryPlace::None };
        if self.ours
            && let Some(part) = path.below(DATABASE)
        {
            return EntryPlace::Database(part.shown());
        }
        if self.dump.as_ref() == Some(&entry.raw_name) {
            return if self.external_dump {
                EntryPlace::None
            } else {
                EntryPlace::Database(entry.raw_name.clone())
            };
        }
        let below = if self.prefix.is_empty() { Some(path.clone()) } else { path.below(&self.prefix) };
        below.map_or(EntryPlace::None, EntryPlace::File)
    }
}

/// Unpacks files into the target.
struct Unpack<'p, 'w> {
    plan: &'p RestorePlan,
    locate: Locate,
    selection: Selection,
    warnings: &'p mut Warnings<'w>,
    files: u64,
    bytes: u64,
    not_unpacked: BTreeMap<String, u64>,
    /// Modes and times of folders are set at the end: a read-only one could not be filled, and filling changes its time.
    folders: Vec<(PathBuf, Option<u32>, i64)>,
    /// Links come last, so that nothing is ever written through one.
    links: Vec<(PathBuf, PathBuf)>,
}

impl<'p, 'w> Unpack<'p, 'w> {
    fn new(plan: &'p RestorePlan, warnings: &'p mut Warnings<'w>) -> Self {
        Unpack {
            plan,
            locate: Locate::new(plan),
            selection: Selection::new(&plan.definition),
            warnings,
            files: 0,
            bytes: 0,
            not_unpacked: BTreeMap::new(),
            folders: Vec::new(),
            links: Vec::new(),
        }
    }

    fn place_of(&mut self, entry: &Entry<'_>) -> EntryPlace {
        if let Err(problem) = &entry.path {
            self.warnings.push(Warning::new(
                format!("an entry was refused: {problem}"),
                format!("{:?}", entry.raw_name),
                "look at where this archive comes from",
            ));
        }
        let place = self.locate.place_of(entry);
        if let (EntryPlace::None, Ok(Some(_)), false) = (&place, &entry.path, self.locate.ours) {
            *self.not_unpacked.entry("outside of the site's folder".into()).or_default() += 1;
        }
        place
    }

    fn file(&mut self, entry: Entry<'_>, below: &EntryPath) -> Result<(), RestoreError> {
        let is_folder = entry.kind == EntryKind::Folder;
        if self.selection.fate(below.as_path(), is_folder) != Fate::Carry {
            *self.not_unpacked.entry("made anew by the system".into()).or_default() += 1;
            return Ok(());
        }
        let path = self.plan.job.target.join(below.as_path());
        let wrong = |why: String| RestoreError::Entry { entry: below.shown(), why };
        match entry.kind {
            EntryKind::Folder => {
                fs::create_dir_all(&path).at(&path)?;
                self.folders.push((path, entry.mode, entry.time));
            }
            EntryKind::File => {
                let folder = path.parent().unwrap_or(&path);
                fs::create_dir_all(folder).at(folder)?;
                let mode = entry.mode.unwrap_or(0o644) & 0o777;
                let mut file =
                    File::options().write(true).create_new(true).mode(0o600).open(&path).at(&path)?;
                let count = io::copy(entry.content, &mut file).at(&path)?;
                file.set_modified(at_time(entry.time)).at(&path)?;
                // Bits that give a program its owner's rights are not carried.
                fs::set_permissions(&path, fs::Permissions::from_mode(mode)).at(&path)?;
                self.files += 1;
                self.bytes += count;
            }
            EntryKind::Symlink(to) => {
                self.links.push((path, to));
                self.files += 1;
            }
            EntryKind::HardLink(to) => {
                let name = std::os::unix::ffi::OsStrExt::as_bytes(to.as_os_str());
                let other = EntryPath::check(name).ok().flatten();
                let prefix = &self.locate.prefix;
                let other = other.and_then(|o| if prefix.is_empty() { Some(o) } else { o.below(prefix) });
                let other = other.ok_or_else(|| wrong("its other name lies outside of the site".into()))?;
                let other = self.plan.job.target.join(other.as_path());
                self.bytes += fs::copy(&other, &path).at(&other)?;
                self.files += 1;
            }
            EntryKind::Special => {
                self.warnings.push(Warning::new(
                    "a device, pipe or socket was not unpacked",
                    below.shown(),
                    "",
                ));
            }
        }
        Ok(())
    }

    fn finish(&mut self) -> Result<(), RestoreError> {
        let target = &self.plan.job.target;
        for (path, _, _) in &self.folders {
            let below = path.strip_prefix(target).unwrap_or(path);
            for wanted in self.selection.skeleton(below) {
                let wanted = target.join(wanted);
                fs::create_dir_all(&wanted).at(&wanted)?;
            }
        }
        for (path, to) in &self.links {
            let folder = path.parent().unwrap_or(path);
            fs::create_dir_all(folder).at(folder)?;
            std::os::unix::fs::symlink(to, path).at(path)?;
            if to.is_absolute()
                || to.components().filter(|c| *c == std::path::Component::ParentDir).count() > 0
            {
                let what = format!("a link leads to {}", to.display());
                self.warnings.push(Warning::at(
                    what,
                    path,
                    "check that it leads where it should on this host",
                ));
            }
        }
        // From the bottom up: a folder's time changes when something in it does.
        for (path, mode, time) in self.folders.iter().rev() {
            if let Some(mode) = mode {
                fs::set_permissions(path, fs::Permissions::from_mode(mode & 0o777)).at(path)?;
            }
            if let Ok(handle) = File::open(path) {
                let _ = handle.set_modified(at_time(*time));
            }
        }
        sync_folder(target);
        Ok(())
    }
}

fn at_time(seconds: i64) -> SystemTime {
    SystemTime::UNIX_EPOCH + Duration::from_secs(u64::try_from(seconds).unwrap_or(0))
}

/// Where the rewritten database goes.
enum DatabaseSink {
    Server(Box<Option<Loader>>),
    File { out: Box<DumpWriter<BufWriter<File>>>, temp: tempfile::TempPath, path: PathBuf },
    Nothing,
}

impl DatabaseSink {
    fn open(plan: &RestorePlan, book: &mut logbook::Run) -> Result<Self, RestoreError> {
        if let Some(path) = &plan.job.dump_to {
            book.step("write dump", serde_json::json!({ "file": path }))?;
            let folder = path.parent().unwrap_or(Path::new("."));
            let temp = tempfile::Builder::new().prefix(".zporter-").tempfile_in(folder).at(folder)?;
            let (file, temp) = temp.into_parts();
            let out = DumpWriter::for_name(&path.to_string_lossy(), BufWriter::new(file)).at(path)?;
            return Ok(DatabaseSink::File { out: Box::new(out), temp, path: path.clone() });
        }
        match &plan.job.database {
            Some(access) if plan.source.has_database || plan.job.dump.is_some() => {
                book.step("load database", serde_json::json!({ "database": access.url() }))?;
                let mut loader = Loader::new(access).map_err(RestoreError::Database)?;
                // Between plan and run somebody may have filled it.
                let found = loader.tables().map_err(RestoreError::Database)?;
                if !found.is_empty() {
                    return Err(RestoreError::DatabaseInUse { name: access.name.clone(), found });
                }
                Ok(DatabaseSink::Server(Box::new(Some(loader))))
            }
            _ => Ok(DatabaseSink::Nothing),
        }
    }

    fn part(
        &mut self,
        name: &str,
        reader: impl Read,
        rules: &Rules<'_>,
        total: &mut Restored,
        book: &mut logbook::Run,
    ) -> Result<(), RestoreError> {
        book.step("database part", serde_json::json!({ "part": name }))?;
        match self {
            DatabaseSink::Nothing => Ok(()),
            DatabaseSink::File { out, .. } => {
                let (_, rewritten) = rewrite(name, reader, rules, out)?;
                total.add(rewritten);
                Ok(())
            }
            DatabaseSink::Server(slot) => {
                let Some(mut loader) = slot.take() else { return Ok(()) };
                let (from, into) = io::pipe().map_err(|e| RestoreError::Database(DatabaseError::Io(e)))?;
                // Rewriting and loading overlap: the server parses while the next rows are read.
                let (loader, loaded, rewritten) = std::thread::scope(|scope| {
                    let loading = scope.spawn(move || {
                        let loaded = loader.load(from);
                        (loader, loaded)
                    });
                    let rewritten = rewrite(name, reader, rules, BufWriter::with_capacity(1 << 16, into))
                        .and_then(|(mut out, done)| {
                            out.flush().map_err(|e| RestoreError::Dump {
                                name: name.into(),
                                source: DumpError::Write(e),
                            })?;
                            Ok(done)
                        });
                    match loading.join() {
                        Ok((loader, loaded)) => (Some(loader), loaded, rewritten),
                        Err(_) => (
                            None,
                            Err(DatabaseError::Io(io::Error::other("the loading thread stopped"))),
                            rewritten,
                        ),
                    }
                });
                **slot = loader;
                // If loading fails, rewriting fails with a broken pipe: the first one is the cause.
                loaded.map_err(RestoreError::Database)?;
                total.add(rewritten?);
                Ok(())
            }
        }
    }

    fn finish(self, total: &mut Restored) -> Result<(), RestoreError> {
        match self {
            DatabaseSink::Nothing => {}
            DatabaseSink::Server(loader) => {
                if let Some(loader) = *loader {
                    let loaded = loader.finish().map_err(RestoreError::Database)?;
                    total.loaded = loaded.rows;
                    total.warnings.extend(loaded.warnings);
                }
            }
            DatabaseSink::File { out, temp, path } => {
                let file = out.finish().and_then(|b| b.into_inner().map_err(|e| e.into_error())).at(&path)?;
                file.sync_all().at(&path)?;
                temp.persist_noclobber(&path)
                    .map_err(|e| PathError { path: path.clone(), source: e.error })?;
                total.dump = Some(path);
            }
        }
        Ok(())
    }
}

fn config_changes(plan: &RestorePlan) -> BTreeMap<String, Vec<Change>> {
    let changed = plan.files.iter().filter(|f| !f.edits.is_empty());
    changed.map(|f| (f.path.clone(), f.changes.clone())).collect()
}

/// Edits config and text files on disk. A read-only file is edited and keeps its mode.
fn edit_files(plan: &RestorePlan, total: &mut Restored, book: &mut logbook::Run) -> Result<(), RestoreError> {
    for file in plan.files.iter().filter(|f| !f.edits.is_empty()) {
        book.step("edit file", serde_json::json!({ "file": file.path, "changes": file.changes }))?;
        let path = plan.job.target.join(&file.path);
        let text = fs::read(&path).at(&path)?;
        let wrong = |why: String| RestoreError::Config { path: file.path.clone(), why };
        let new = edit::apply(file, plan.config_of(&file.path), &text).map_err(wrong)?;
        write_atomically(&path, &new)?;
    }
    total.config = config_changes(plan);
    Ok(())
}
