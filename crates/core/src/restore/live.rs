//! Changes a site where it lies: its config files, its rows in the running database, its caches. What a restore would make of a copy is
//! made of the site itself, by the same plan.
//!
//! Rows are read once, in one consistent view; those that would differ are written down with their values before and after, and then
//! changed one by one under the condition that nobody has changed them meanwhile. The list is what `undo` goes back by.

use super::RestoreError;
use super::job::Reach;
use super::plan::RestorePlan;
use super::restored::Restored;
use super::rows::{rewrite, with_rules};
use super::run::{config_changes, edited_text, present_text, put_files};
use crate::archive::read::ReadError;
use crate::change_log::ChangeLog;
use crate::config::edit;
use crate::database::engine::RowEditor;
use crate::database::servers;
use crate::database::stream::{DatabaseStream, StreamPart};
use crate::dump::row_change::RowChange;
use crate::dump::rules::{Keep, Rules};
use crate::dump::stream::DumpError;
use crate::event::{Event, Findings, Watch, go_on};
use crate::finding::{Code, Finding};
use crate::fsx::{AtPath, private_folder};
use crate::logbook::{self, StepKind};
use crate::path_text::to_text;
use crate::place::DatabaseAccess;
use crate::spool;
use crate::survey::TableFound;
use crate::tree::write_whole;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::fs::File;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::io::{self, BufRead, BufReader, BufWriter, Write};
use std::ops::ControlFlow;
use std::path::{Path, PathBuf};

/// Rows that are changed in one transaction.
const AT_ONCE: usize = 500;

/// Changes that are sent in one go, and about how many bytes of them.
const IN_ONE: usize = 100;
const BYTES_IN_ONE: usize = 256 << 10;

/// How often rows that somebody changed meanwhile are read again.
const AGAIN: usize = 3;

/// Name of the list of changed rows, in the folder that a run keeps.
pub const ROWS: &str = "rows.ndjson";

/// What was changed where it lies.
#[derive(Debug, Default, Serialize, JsonSchema)]
pub struct Changed {
    /// Rows that were changed, by table.
    pub rows: BTreeMap<String, u64>,
    /// Rows that somebody else changed meanwhile and that were left.
    pub rows_left: u64,
    /// Files taken out of caches.
    pub cache_files: u64,
    /// Tables that are caches and were emptied.
    pub cache_tables: Vec<String>,
    /// Values changed in files, declared values, samples: as of a copy.
    #[serde(flatten)]
    pub as_copy: Restored,
}

/// What would be changed, and the list of changed rows where it is kept.
#[derive(Debug)]
pub struct Prepared {
    /// What would be changed.
    pub changed: Changed,
    list: Option<tempfile::TempPath>,
}

/// What is done, and with which parts of the site.
pub struct Live<'a> {
    /// The plan, made with `in_place`.
    pub plan: &'a RestorePlan,
    /// The site's tables, as they were seen.
    pub tables: &'a [TableFound],
    /// The site's database, if it has one.
    pub access: Option<&'a DatabaseAccess>,
    /// What is changed.
    pub reach: Reach,
    /// Whether caches are emptied.
    pub clear_caches: bool,
}

impl Live<'_> {
    /// Says what would be changed. With a folder the list of changed rows is kept there, for [`Live::run`].
    pub fn look(
        &self,
        samples: usize,
        keep_in: Option<&Path>,
        watch: &dyn Watch,
    ) -> Result<Prepared, RestoreError> {
        let mut changed = self.begin();
        let list = match keep_in {
            None => {
                let mut counted = Counted::default();
                let counted = self.list_changes(samples, &mut counted, None, &mut changed, watch)?;
                changed.rows = counted.rows;
                None
            }
            Some(folder) => {
                let (file, path) = spool::file_in(folder).at(folder)?.into_parts();
                let mut lines = Lines(Some(BufWriter::new(file)));
                let lines = self.list_changes(samples, &mut lines, None, &mut changed, watch)?;
                lines.finish().at(&path)?;
                count_by_table(&mut BufReader::new(File::open(&path).at(&path)?), &mut changed.rows)
                    .map_err(unreadable_list)?;
                Some(path)
            }
        };
        if self.clear_caches {
            changed.cache_files = self.cache_files().len() as u64;
            changed.cache_tables = self.emptied_tables().map(str::to_string).collect();
        }
        self.describe(&mut changed);
        Ok(Prepared { changed, list })
    }

    fn begin(&self) -> Changed {
        let as_copy = Restored { target: self.plan.job.options.target.to_path_buf(), ..Restored::default() };
        Changed { as_copy, ..Changed::default() }
    }

    fn describe(&self, changed: &mut Changed) {
        changed.as_copy.describe(self.plan);
        changed.as_copy.media_later = None;
        changed.as_copy.outside = None;
        changed.as_copy.config = self.files().map(|f| (f.path.clone(), f.changes.clone())).collect();
        changed.as_copy.findings.extend(self.plan.findings.iter().cloned());
    }

    /// Files that are edited: all, or those with something that is set.
    fn files(&self) -> impl Iterator<Item = &edit::FilePlan> {
        self.plan.files.iter().filter(|f| !f.edits.is_empty())
    }

    /// Says whether a table is a cache that is emptied.
    fn is_emptied(&self, table: &str) -> bool {
        let rule = crate::system::table_rule(&self.plan.definition, &self.plan.table_prefix, table);
        self.clear_caches && rule.is_some_and(|r| r.cache)
    }

    fn emptied_tables(&self) -> impl Iterator<Item = &str> {
        self.tables.iter().filter(|t| t.rows > 0 && self.is_emptied(&t.name)).map(|t| &*t.name)
    }

    fn keeps(&self, table: &str) -> bool {
        match self.reach {
            Reach::Whole => {
                let (definition, prefix) = (&self.plan.definition, &self.plan.table_prefix);
                !self.is_emptied(table) && self.plan.job.whose.is_own(definition, prefix, table)
            }
            Reach::Settings => self.plan.settings.rows.iter().any(|r| {
                r.setting.table == table
                    || r.setting
                        .table
                        .split_once('*')
                        .is_some_and(|(start, end)| table.starts_with(start) && table.ends_with(end))
            }),
        }
    }

    /// Reads the tables and writes a line for each row that would differ; of some tables alone if `only` names them.
    fn list_changes<W: Write + Send + Default>(
        &self,
        samples: usize,
        out: &mut W,
        only: Option<&BTreeSet<String>>,
        changed: &mut Changed,
        watch: &dyn Watch,
    ) -> Result<W, RestoreError> {
        let mut lines = std::mem::take(out);
        let Some(access) = self.access else { return Ok(lines) };
        let wanted = |name: &str| self.keeps(name) && only.is_none_or(|only| only.contains(name));
        let keep = |name: &str| if wanted(name) { Keep::All } else { Keep::Nothing };
        let mut findings = Findings::new(watch);
        let stream = DatabaseStream::open(access, &keep, &mut findings).map_err(RestoreError::Database)?;
        let tables = stream.parts().filter_map(|part| match part {
            StreamPart::Table(facts, _) => Some(facts),
            StreamPart::Text(..) => None,
        });
        let tables: Vec<_> = tables.collect();
        let total = tables.iter().map(|t| t.data).sum();
        watch.event(Event::StepStarted { step: "reading the database", total: Some(total) });
        lines = with_rules(self.plan, samples, |rules| {
            let keep = |_: &str| Keep::All;
            // Nothing gets another name where it lies.
            let rules = Rules { as_changes: true, keep: &keep, prefix: None, moves: None, ..rules.clone() };
            tables.into_iter().try_fold(lines, |lines, facts| {
                go_on(watch).map_err(ReadError::from)?;
                let mut lines = Some(lines);
                let mut done = None;
                let _ = stream.streamed(facts, true, &mut |reader| {
                    done = lines.take().map(|lines| rewrite(&facts.name, reader, None, &rules, lines));
                    ControlFlow::Continue(())
                });
                watch.event(Event::Advanced { bytes: facts.data });
                let stopped = || Err(unreadable_list(io::Error::other("a reading thread stopped")));
                let (lines, rewritten, dialect) = done.unwrap_or_else(stopped)?;
                changed.as_copy.add(rewritten, dialect);
                Ok::<_, RestoreError>(lines)
            })
        })?;
        watch.event(Event::StepDone);
        if only.is_none() {
            let dialect = changed.as_copy.dialect;
            changed.as_copy.missing_rows(self.plan);
            for row in changed.as_copy.rows_to_make(self.plan) {
                let line = serde_json::to_vec(&RowChange::making(row, dialect)).unwrap_or_default();
                lines.write_all(&line).and_then(|()| lines.write_all(b"\n")).map_err(unreadable_list)?;
            }
        }
        Ok(lines)
    }

    /// Says whether something lies in a cache that would be taken away.
    pub fn has_caches(&self) -> bool {
        self.clear_caches && (self.emptied_tables().next().is_some() || !self.cache_files().is_empty())
    }

    /// Files that the system makes anew, and whether others may want to see what they said. What is merely not carried into copies stays:
    /// logs, sessions, dumps, environments.
    fn cache_files(&self) -> Vec<(PathBuf, bool)> {
        use crate::select::{Decision, Scope, Selection};
        let target: &Path = &self.plan.job.options.target;
        let selection = Selection::of(&self.plan.definition, &Scope::default(), &self.plan.hosts.others());
        let found = self.plan.job.tree.walk(target).flatten().filter(|f| !f.meta.is_folder());
        let meant = found.filter_map(|found| {
            let below = found.path.strip_prefix(target).ok()?;
            let kept = matches!(selection.decide(below, false), Decision::Generated(_));
            selection.is_made_again(below).then_some((found.path, kept))
        });
        meant.collect()
    }

    /// Carries the plan out, with the list that was kept.
    pub fn run(
        &self,
        Prepared { mut changed, list }: Prepared,
        samples: usize,
        book: &logbook::Run,
        watch: &dyn Watch,
    ) -> Result<Changed, RestoreError> {
        let target = &self.plan.job.options.target;
        // From now on it says what was done.
        changed.rows.clear();
        (changed.cache_files, changed.cache_tables) = (0, Vec::new());
        private_folder(&book.kept()).at(book.kept())?;
        let path = book.kept().join(ROWS);
        if let Some(list) = list {
            list.persist(&path).map_err(|e| e.error).at(&path)?;
        }
        go_on(watch).map_err(ReadError::from)?;
        book.step(StepKind::UnpackFiles, serde_json::json!({ "target": to_text(target), "was": "there" }))?;
        let mut change_log = ChangeLog::of(book)?;
        change_log.below(&self.plan.job.tree)?;
        self.edit_files(book, &mut change_log)?;
        put_files(self.plan, book, &mut change_log)?;
        if let Some(way) = self.plan.host_mapping.as_ref().filter(|_| self.reach == Reach::Whole) {
            change_log.replace(&target.join(way.path()))?;
            book.step(StepKind::MapHost, serde_json::json!({ "way": way.describe() }))?;
            way.make(&*self.plan.job.tree)?;
        }
        if let Some(access) = self.access {
            let detail = serde_json::json!({ "database": access.url(), "rows": to_text(&path) });
            book.step(StepKind::ChangeRows, detail)?;
            self.change_rows(access, &path, samples, &mut changed, watch)?;
        }
        if self.clear_caches {
            book.step(StepKind::EmptyCaches, serde_json::json!({ "target": to_text(target) }))?;
            self.empty_caches(&mut change_log, &mut changed)?;
        }
        change_log.seal()?;
        changed.as_copy.config = config_changes(self.plan);
        Ok(changed)
    }

    fn edit_files(&self, book: &logbook::Run, change_log: &mut ChangeLog) -> Result<(), RestoreError> {
        let tree = &*self.plan.job.tree;
        for file in self.files() {
            let path = self.plan.job.options.target.join(&file.path);
            book.step(StepKind::EditFile, serde_json::json!({ "file": file.path, "changes": file.changes }))?;
            let new = edited_text(self.plan, file, &present_text(self.plan, &path)?)?;
            change_log.replace(&path)?;
            write_whole(tree, &path, &new, None).at(&path)?;
        }
        Ok(())
    }

    /// Changes the rows of the list, and reads those again that somebody changed meanwhile.
    fn change_rows(
        &self,
        access: &DatabaseAccess,
        path: &Path,
        samples: usize,
        changed: &mut Changed,
        watch: &dyn Watch,
    ) -> Result<(), RestoreError> {
        let bytes = std::fs::metadata(path).at(path)?.len();
        watch.event(Event::StepStarted { step: "changing rows", total: Some(bytes) });
        let mut editor = servers::editor(access).map_err(RestoreError::Database)?;
        let mut missed =
            apply(&mut *editor, &mut BufReader::new(File::open(path).at(path)?), changed, watch)?;
        for _ in 0..AGAIN {
            if missed.is_empty() {
                break;
            }
            let mut unused = self.begin();
            let lines = self.list_changes(samples, &mut Vec::new(), Some(&missed), &mut unused, watch)?;
            let mut file = File::options().append(true).open(path).at(path)?;
            file.write_all(&lines).and_then(|()| file.sync_data()).at(path)?;
            missed = apply(&mut *editor, &mut &lines[..], changed, watch)?;
        }
        for table in &missed {
            let what = "rows that others were changing all the time were left as they are";
            changed.as_copy.findings.push(Finding::new(Code::RowMissing, what, table, "run the same again"));
        }
        if self.clear_caches {
            // What a server says of the number of rows is a guess.
            for table in self.tables.iter().map(|t| &t.name).filter(|t| self.is_emptied(t)) {
                if editor.clear(table).map_err(RestoreError::Database)? > 0 {
                    changed.cache_tables.push(table.clone());
                }
            }
            editor.commit().map_err(RestoreError::Database)?;
        }
        watch.event(Event::StepDone);
        Ok(())
    }

    /// Takes away what the system makes anew. Folders and what has to lie in them stay.
    fn empty_caches(&self, change_log: &mut ChangeLog, changed: &mut Changed) -> Result<(), RestoreError> {
        let tree = &*self.plan.job.tree;
        for (path, kept) in self.cache_files() {
            if kept {
                change_log.replace(&path)?;
            }
            tree.remove(&path).at(&path)?;
            changed.cache_files += 1;
        }
        Ok(())
    }
}

fn unreadable_list(source: io::Error) -> RestoreError {
    RestoreError::Dump { name: ROWS.into(), source: DumpError::Read(source) }
}

/// Makes the changes of a list, and returns the tables in which somebody else was quicker.
pub fn apply(
    editor: &mut dyn RowEditor,
    list: &mut dyn BufRead,
    changed: &mut Changed,
    watch: &dyn Watch,
) -> Result<BTreeSet<String>, RestoreError> {
    let mut missed = BTreeSet::new();
    let mut twins = Twins::default();
    let mut bundle: Vec<RowChange> = Vec::new();
    let (mut bytes, mut since) = (0, 0);
    let mut send = |bundle: &mut Vec<RowChange>, editor: &mut dyn RowEditor| {
        if bundle.is_empty() {
            return Ok(());
        }
        let rows = editor.changes(bundle).map_err(RestoreError::Database)?;
        for (change, rows) in bundle.drain(..).zip(rows) {
            match rows {
                // Rows that are told by the same values change together.
                0 if twins.changed_before(&change) => {}
                0 => {
                    missed.insert(change.table.clone());
                }
                rows => {
                    twins.changed_before(&change);
                    *changed.rows.entry(change.table).or_default() += rows;
                }
            }
        }
        Ok::<_, RestoreError>(())
    };
    each(list, &mut |change, length| {
        bytes += length;
        bundle.push(change);
        if bundle.len() == IN_ONE || bytes > BYTES_IN_ONE {
            since += bundle.len();
            bytes = 0;
            send(&mut bundle, editor)?;
        }
        if since >= AT_ONCE {
            since = 0;
            editor.commit().map_err(RestoreError::Database)?;
            go_on(watch).map_err(ReadError::from)?;
        }
        Ok(())
    })?;
    send(&mut bundle, editor)?;
    editor.commit().map_err(RestoreError::Database)?;
    Ok(missed)
}

/// Hands on each change of a list, and how long it is there.
fn each(
    list: &mut dyn BufRead,
    take: &mut dyn FnMut(RowChange, usize) -> Result<(), RestoreError>,
) -> Result<(), RestoreError> {
    let mut line = Vec::new();
    loop {
        line.clear();
        if list.read_until(b'\n', &mut line).map_err(unreadable_list)? == 0 {
            return Ok(());
        }
        // A line that was being written when the program ended was not carried out.
        let Ok(change) = serde_json::from_slice(&line) else { continue };
        take(change, line.len())?;
    }
}

/// Counts the changes of a list that nobody keeps.
#[derive(Debug, Default)]
struct Counted {
    line: Vec<u8>,
    rows: BTreeMap<String, u64>,
}

impl Write for Counted {
    fn write(&mut self, buf: &[u8]) -> io::Result<usize> {
        #[derive(serde::Deserialize)]
        struct Of {
            table: String,
        }
        for part in buf.split_inclusive(|b| *b == b'\n') {
            self.line.extend_from_slice(part);
            if part.ends_with(b"\n") {
                if let Ok(Of { table }) = serde_json::from_slice(&self.line) {
                    *self.rows.entry(table).or_default() += 1;
                }
                self.line.clear();
            }
        }
        Ok(buf.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

fn count_by_table(list: &mut dyn BufRead, rows: &mut BTreeMap<String, u64>) -> io::Result<()> {
    each(list, &mut |change, _| {
        *rows.entry(change.table).or_default() += 1;
        Ok(())
    })
    .map_err(|e| io::Error::other(e.to_string()))
}

/// Goes back: makes the changes of a list undone, the last one first. Rows that somebody changed since stay. Returns how many rows went back,
/// and how many stay.
pub fn undo_rows(access: &DatabaseAccess, list: &Path) -> Result<(u64, u64), RestoreError> {
    let mut changes: Vec<RowChange> = Vec::new();
    each(&mut BufReader::new(File::open(list).at(list)?), &mut |change, _| {
        changes.push(change);
        Ok(())
    })?;
    let mut editor = servers::editor(access).map_err(RestoreError::Database)?;
    let (mut back, mut stay) = (0, 0);
    let mut twins = Twins::default();
    for (number, change) in changes.iter().rev().enumerate() {
        match editor.change(&change.back()).map_err(RestoreError::Database)? {
            0 if twins.changed_before(change) => {}
            0 => stay += 1,
            rows => {
                twins.changed_before(change);
                back += rows;
            }
        }
        if number % AT_ONCE == 0 {
            editor.commit().map_err(RestoreError::Database)?;
        }
    }
    editor.commit().map_err(RestoreError::Database)?;
    Ok((back, stay))
}

/// Changes of rows that nothing tells from others, by their hashes.
#[derive(Default)]
struct Twins(HashSet<u64>);

impl Twins {
    /// Says whether the same change was met before, and remembers it.
    fn changed_before(&mut self, change: &RowChange) -> bool {
        let mut hasher = DefaultHasher::new();
        (&change.table, &change.key).hash(&mut hasher);
        change.keyless && !self.0.insert(hasher.finish())
    }
}

/// A file of lines that may be handed from thread to thread and is brought to the disk in the end.
#[derive(Default)]
struct Lines(Option<BufWriter<File>>);

impl Write for Lines {
    fn write(&mut self, buf: &[u8]) -> io::Result<usize> {
        self.0.as_mut().map_or(Ok(buf.len()), |out| out.write(buf))
    }

    fn flush(&mut self) -> io::Result<()> {
        self.0.as_mut().map_or(Ok(()), Write::flush)
    }
}

impl Lines {
    fn finish(self) -> io::Result<()> {
        let Some(mut out) = self.0 else { return Ok(()) };
        out.flush()?;
        out.get_ref().sync_data()
    }
}
