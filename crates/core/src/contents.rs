//! Gathers what of a site goes: head, files, database parts. An archive holds it, a clone takes it straight away.

use crate::archive::entry_path::EntryPath;
use crate::archive::format::{DATABASE, FILES, FORMAT, Head, HeadPlace, LeftOut, OUTSIDE, SystemName};
use crate::archive::read::{Entry, EntryKind};
use crate::archive::write::WriteError;
use crate::database::DatabaseError;
use crate::database::load::plain_name;
use crate::database::snapshot::Whole;
use crate::database::stream::{self, DatabaseStream};
use crate::dump::dialect::Dialect;
use crate::dump::rules::{Keep, Rules};
use crate::dump::stream::{CutOff, DumpError, Source, WINDOW};
use crate::dump::{TextWriter, spread};
use crate::event::Findings;
use crate::event::{Counted, Event, Watch};
use crate::finding::{Code, Finding};
use crate::fsx::{AtPath, PathError};
use crate::job::values::RowsChoice;
use crate::place::{Address, DatabaseAccess, Pairs, Root};
use crate::restore::record;
use crate::split::{Part, SPOOL_LEVEL, Split, Splitter};
use crate::spool;
use crate::survey::select::{self, Decision, Scope, Selection};
use crate::survey::{Survey, folders, risks, table_rule};
use crate::system::Definition;
use crate::text::replacements::Replacements;
use crate::tree::{FileKind, Found, Links, Meta, OpenFile, Origin, Tree};
use globset::GlobMatcher;
use std::collections::BTreeSet;
use std::fs::File;
use std::io::{Read, Write};
use std::ops::ControlFlow;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Why a site could not be packed.
#[derive(Debug, thiserror::Error)]
pub enum PackError {
    /// The archive would lie in the site.
    #[error("the archive {0} would lie inside of the site, where a browser could fetch it")]
    InsideSite(PathBuf),
    /// The database could not be read.
    #[error("the site's database cannot be read")]
    Database(#[source] DatabaseError),
    /// There is neither a server nor a dump.
    #[error("cannot read the site's database: {0}")]
    NoDatabase(String),
    /// The dump ends in the middle of a statement.
    #[error("the dump {path} breaks off in line {}: {}", .cut.line, .cut.what)]
    CutOff {
        /// Dump.
        path: PathBuf,
        /// Where.
        cut: CutOff,
    },
    /// The dump holds more than one database.
    #[error("the dump {path} holds several databases: {}", .names.join(", "))]
    SeveralDatabases {
        /// Dump.
        path: PathBuf,
        /// Names.
        names: Vec<String>,
    },
    /// The dump cannot be read.
    #[error("the dump {path} cannot be used")]
    Dump {
        /// Dump.
        path: PathBuf,
        /// Cause.
        #[source]
        source: DumpError,
    },
    /// Writing failed.
    #[error(transparent)]
    Write(#[from] WriteError),
    /// Several hosts live on one code base and none was named.
    #[error("several hosts live on this code base: {}", .found.join(", "))]
    SeveralHosts {
        /// Their folders.
        found: Vec<String>,
    },
    /// What alone was asked for is not there.
    #[error("the site has no part, folder or file {0}")]
    NoSuchPart(PathBuf),
    /// A path failed.
    #[error(transparent)]
    Path(#[from] PathError),
}

/// What of which tables is copied, where that is not what the definition says.
#[derive(Debug, Clone, Copy)]
pub struct TableScope<'j> {
    /// By name; the last one that fits counts.
    pub rows: &'j [RowsChoice],
    /// Whether tables that a copy can do without are copied without rows.
    pub light: bool,
}

impl TableScope<'_> {
    /// Says what of a table is copied: what was asked for, by its name with or without prefix, else what the definition says.
    pub fn keeps(&self, definition: &Definition, prefix: &str, table: &str) -> Keep {
        let asked = self.rows.iter().rev().find(|choice| means(&choice.pattern, prefix, table));
        match asked {
            Some(choice) => choice.keep,
            None if table_rule(definition, prefix, table).is_some_and(|r| r.safe || self.light) => {
                Keep::Structure
            }
            None => Keep::All,
        }
    }

    /// Tells of patterns that fit none of these tables: slips of the pen, as a rule. Where no table is known, nothing can be said.
    pub fn in_vain(&self, prefix: &str, tables: &[&str]) -> Vec<Finding> {
        let fits = |choice: &&RowsChoice| tables.iter().any(|t| means(&choice.pattern, prefix, t));
        let vain = self.rows.iter().filter(|choice| !tables.is_empty() && !fits(choice));
        let finding = |choice: &RowsChoice| {
            let what = format!("no table has a name like {}", choice.pattern.glob().glob());
            Finding::new(Code::PatternMatchesNothing, what, "", "`zporter database sizes` lists the tables")
        };
        vain.map(finding).collect()
    }
}

/// What is gathered of a site, and what its head says.
#[derive(Debug, Clone)]
pub struct GatherOptions<'j> {
    /// Dump to take the database from, instead of the server.
    pub dump: Option<&'j Path>,
    /// What is copied.
    pub scope: Scope,
    /// What of which tables.
    pub tables: TableScope<'j>,
    /// Where the folder lies that belongs to the site outside of its root, if not where the config says.
    pub storage: Option<&'j Path>,
    /// Note for the head.
    pub note: &'j str,
    /// Time to write into the head, RFC 3339.
    pub packed_at: String,
    /// Name and version of the program.
    pub written_by: String,
    /// Base address, if the survey could not find it or found another.
    pub address: Option<&'j Address>,
    /// Whether a host was named, where one code base serves several.
    pub host_named: bool,
}

/// Everything of a site that goes: what an archive holds, or what a clone takes straight away.
pub struct SiteContents {
    /// The site.
    pub survey: Survey,
    /// What it is and where it lived.
    pub head: Head,
    /// What does not go, and why.
    pub left_out: Vec<LeftOut>,
    /// What needs attention.
    pub findings: Vec<Finding>,
    /// Parts of the database.
    pub(crate) parts: Vec<Part>,
    /// The database itself, in place of parts.
    live: Option<DatabaseStream>,
    outside: Option<(Root, Arc<dyn Tree>)>,
    selection: Selection,
    files: bool,
    /// The parts lie in it; it goes with the contents.
    _spool: tempfile::TempDir,
}

impl std::fmt::Debug for SiteContents {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "SiteContents({})", self.survey.site.display())
    }
}

/// Gathers a site: looks at what is carried, and reads its database into a spool below a folder, or straight from the server when it
/// is handed on.
pub fn gather(
    survey: Survey,
    options: &GatherOptions<'_>,
    folder: &Path,
    straight: bool,
    watch: &dyn Watch,
) -> Result<SiteContents, PackError> {
    if survey.hosts.found.len() > 1 && !options.host_named {
        let found = survey.hosts.found.iter().map(|h| h.folder.clone()).collect();
        return Err(PackError::SeveralHosts { found });
    }
    let mut findings = Findings::new(watch);
    let not_there = |part: &select::Part| match part {
        select::Part::Path(choice) => {
            choice.path().filter(|path| !survey.tree.exists(&survey.site.join(path))).map(Path::to_path_buf)
        }
        _ => None,
    };
    // Nothing else was asked for: an archive or copy of nothing is of no use.
    if let Some(path) = options.scope.only.iter().find_map(not_there) {
        return Err(PackError::NoSuchPart(path));
    }
    for path in options.scope.without.iter().filter_map(not_there) {
        let what = "no such folder or file is in the site: --without names it in vain";
        let cure = "name it as it lies below the site's folder";
        findings.push(Finding::at(Code::ScopeMatchesNothing, what, path, cure));
    }
    let tables: Vec<&str> = survey.tables.iter().map(|t| plain_name(&t.name)).collect();
    options.tables.in_vain(&survey.config.table_prefix, &tables).into_iter().for_each(|f| findings.push(f));
    if let Some(foreign) = survey.foreign.clone().filter(|_| options.scope.has(&select::Part::Database)) {
        findings.push(foreign);
    }
    let spool = tempfile::Builder::new().prefix(&spool::prefix(folder)).tempdir_in(folder).at(folder)?;
    let mut live = site_database(&survey, options, &mut findings)?;
    let parts = match (&live, straight) {
        (Some(_), true) => Vec::new(),
        (Some(found), false) => spooled(found, spool.path(), watch).map_err(PackError::Database)?,
        (None, _) => dump_parts(&survey, options, spool.path(), watch, &mut findings)?,
    };
    if !straight {
        // What is spooled needs the server no more.
        live = None;
    }
    let outside = outside_folder(&survey, options, &mut findings);
    let selection = Selection::of(&survey.recognised.definition, &options.scope, &survey.hosts.others())
        .beside_database(&survey.site, survey.config.database.as_ref());
    let mut left_out = if options.scope.has_usual_files() {
        survey.left_out.clone()
    } else {
        folders::walk(&*survey.tree, &survey.recognised.definition, &selection, 1).left_out
    };
    if let Some(risk) = risks::unread(&survey.unread).filter(|_| straight) {
        findings.push(risk);
    }
    shared_tables(&survey, &mut findings);
    let mut emptied: Vec<(String, u64)> = parts
        .iter()
        .filter(|p| p.rows_left_out > 0)
        .map(|p| (p.table.clone().unwrap_or_default(), p.rows_left_out))
        .collect();
    emptied.extend(live.iter().flat_map(DatabaseStream::emptied));
    for (table, count) in emptied {
        let rule = table_rule(&survey.recognised.definition, &survey.config.table_prefix, &table);
        let why = rule.map_or_else(|| "as asked".to_string(), |r| r.about.clone());
        left_out.push(LeftOut { what: format!("rows of {table}"), why, count, bytes: 0 });
    }
    let database_bytes: u64 = parts.iter().map(|p| p.bytes).sum();
    let bytes = survey.carried_bytes() + database_bytes;
    let mut head =
        head(&survey, options, &left_out, bytes, live.is_some() || !parts.is_empty(), &mut findings);
    head.place.outside = outside.as_ref().map(|(named, _)| named.to_string());
    let findings = findings.into_vec();
    let files = options.scope.has_files();
    survey.tree.untroubled()?;
    Ok(SiteContents {
        survey,
        head,
        left_out,
        findings,
        parts,
        live,
        outside,
        selection,
        files,
        _spool: spool,
    })
}

impl SiteContents {
    /// Returns bytes of the database parts.
    pub fn database_bytes(&self) -> u64 {
        self.live.as_ref().map_or(0, DatabaseStream::bytes) + self.parts.iter().map(|p| p.bytes).sum::<u64>()
    }

    /// Names of the tables that go.
    pub fn tables(&self) -> Vec<String> {
        let live = self.live.iter().flat_map(DatabaseStream::tables);
        let parts = self.parts.iter().filter(|p| p.bytes > 0);
        live.chain(parts.flat_map(|p| p.table.iter().chain(&p.holds).cloned())).collect()
    }

    /// Says whether the database's rows come straight from its server.
    pub fn is_live(&self) -> bool {
        self.live.is_some()
    }

    /// Hands on every entry in the order of an archive. What cannot be read is added to `findings` and passed over.
    pub fn entries(&self, findings: &mut Vec<Finding>, take: Take<'_>) -> ControlFlow<()> {
        self.file_entries(false, findings, take)?;
        self.database_entries(findings, take)
    }

    /// Hands on the files.
    pub(crate) fn file_entries(
        &self,
        handed_on: bool,
        findings: &mut Vec<Finding>,
        take: Take<'_>,
    ) -> ControlFlow<()> {
        if self.files {
            let decide = |below: &Path, is_folder: bool| self.selection.decide(below, is_folder);
            let definition = &self.survey.recognised.definition;
            let configs = definition.config_files();
            let declared: Vec<&str> = definition
                .config
                .iter()
                .map(|c| &*c.path)
                .chain(definition.media.iter().map(|m| &*m.path))
                .collect();
            // What is shared with other sites by links: settings, and folders of pictures or settings.
            let shared = |below: &Path, is_folder: bool| {
                let holds = |path: &&str| Path::new(path.trim_end_matches('/')).starts_with(below);
                if is_folder { declared.iter().any(holds) } else { configs.is_match(below) }
            };
            folder_entries(&self.survey.tree, FILES, &decide, &shared, handed_on, findings, take)?;
        }
        if let Some((_, lies)) = &self.outside {
            // Seen by the definition where the folder lies by itself.
            let inside = storage_inside(&self.survey);
            let decide =
                |below: &Path, is_folder: bool| self.selection.decide(&inside.join(below), is_folder);
            folder_entries(lies, OUTSIDE, &decide, &|_, _| false, handed_on, findings, take)?;
        }
        ControlFlow::Continue(())
    }

    /// Says whether a file is carried.
    pub(crate) fn carries(&self, below: &str) -> bool {
        self.files && self.selection.decide(Path::new(below), false) == Decision::Copy
    }

    /// Returns bytes of the files, as the survey saw them.
    pub(crate) fn file_bytes(&self) -> u64 {
        let mut bytes = 0;
        if self.files {
            let all: u64 = self.survey.folders.iter().map(|f| f.bytes).sum();
            bytes = all.saturating_sub(self.left_out.iter().map(|l| l.bytes).sum());
        }
        if let Some((_, lies)) = &self.outside {
            let files = lies.walk(lies.root()).flatten().filter(|found| found.meta.is_file());
            bytes += files.map(|found| found.meta.size).sum::<u64>();
        }
        bytes
    }

    /// Hands on the parts of the database.
    pub(crate) fn database_entries(&self, findings: &mut Vec<Finding>, take: Take<'_>) -> ControlFlow<()> {
        let time = self.head.time();
        if let Some(live) = &self.live {
            return live_entries(live, time, take);
        }
        let told_only = |p: &&Part| p.table.is_some() && p.bytes == 0;
        for (number, part) in self.parts.iter().filter(|p| !told_only(p)).enumerate() {
            let name = part.table.as_deref().map_or("views-and-routines".into(), file_name);
            let path = EntryPath::trusted(&format!("{DATABASE}/{number:03}-{name}.sql"));
            match part.open() {
                Ok(mut reader) => {
                    take(entry(path, EntryKind::File, part.bytes, (0o600, time), &mut reader))?;
                }
                Err(e) => {
                    let what = format!("a part of the database cannot be read again: {e}");
                    findings.push(Finding::new(Code::PartUnreadable, what, path.shown(), "pack again"));
                }
            }
        }
        ControlFlow::Continue(())
    }
}

/// Takes an entry, and may stop.
pub type Take<'t> = &'t mut dyn FnMut(Entry<'_>) -> ControlFlow<()>;

/// Hands on every part of a database that is read meanwhile.
fn live_entries(live: &DatabaseStream, time: i64, take: Take<'_>) -> ControlFlow<()> {
    for (number, part) in live.parts().enumerate() {
        let path = |name: &str| EntryPath::trusted(&format!("{DATABASE}/{number:03}-{name}.sql"));
        match part {
            stream::Part::Text(name, mut text) => {
                let size = text.len() as u64;
                take(entry(path(name), EntryKind::File, size, (0o600, time), &mut text))?;
            }
            stream::Part::Table(facts, rows) => {
                let (size, path) = (if rows { facts.data } else { 0 }, path(&file_name(&facts.name)));
                live.streamed(facts, rows, &mut |reader| {
                    take(entry(path.clone(), EntryKind::File, size, (0o600, time), reader))
                })?;
            }
        }
    }
    ControlFlow::Continue(())
}

fn entry(
    path: EntryPath,
    kind: EntryKind,
    size: u64,
    (mode, time): (u32, i64),
    content: &mut dyn Read,
) -> Entry<'_> {
    Entry {
        raw_name: path.shown(),
        path: Ok(Some(path)),
        kind,
        size,
        mode: Some(mode),
        time,
        content,
        origin: None,
    }
}

/// A file that is opened when it is read, and not before.
struct Lazy<'a> {
    origin: Origin<'a>,
    file: Option<Box<dyn OpenFile>>,
}

impl Read for Lazy<'_> {
    fn read(&mut self, buf: &mut [u8]) -> std::io::Result<usize> {
        let file = match &mut self.file {
            Some(file) => file,
            none => none.insert(self.origin.tree.open(self.origin.path, Links::Follow)?),
        };
        file.read(buf)
    }
}

/// A table's name as part of a file name; the table's real name stands in the SQL.
fn file_name(table: &str) -> String {
    table
        .chars()
        .map(|c| if c.is_ascii_alphanumeric() || matches!(c, '_' | '-' | '$') { c } else { '_' })
        .collect()
}

fn head(
    survey: &Survey,
    options: &GatherOptions<'_>,
    left_out: &[LeftOut],
    expected_bytes: u64,
    has_database: bool,
    findings: &mut Findings<'_>,
) -> Head {
    let definition = &survey.recognised.definition;
    let mut found = survey.address.clone();
    if let Some(warning) = options.address.and_then(|given| found.given(given)) {
        findings.push(warning);
    }
    let address = found.address;
    let aliases = found.aliases.into_iter().filter(|a| Some(a) != address.as_ref()).collect();
    Head {
        format: FORMAT,
        written_by: options.written_by.clone(),
        packed_at: options.packed_at.clone(),
        note: options.note.to_string(),
        system: SystemName {
            id: definition.id.clone(),
            name: survey.recognised.product.clone(),
            version: survey.recognised.version.clone(),
        },
        place: HeadPlace {
            root: survey.site.display().to_string(),
            config_roots: survey.config.roots.iter().map(ToString::to_string).collect(),
            address,
            aliases,
            database: survey.config.database.clone(),
            table_prefix: survey.config.table_prefix.clone(),
            host_folder: survey.hosts.folder.clone(),
            outside: None,
            other_sites: survey.address.others.clone(),
        },
        left_out: left_out.to_vec(),
        expected_bytes,
        has_database,
    }
}

/// Takes apart the dump that is named, if one is.
fn dump_parts(
    survey: &Survey,
    options: &GatherOptions<'_>,
    spool: &Path,
    watch: &dyn Watch,
    findings: &mut Findings<'_>,
) -> Result<Vec<Part>, PackError> {
    let Some(path) = options.dump.filter(|_| options.scope.has(&select::Part::Database)) else {
        return Ok(Vec::new());
    };
    let (definition, prefix) = (&survey.recognised.definition, &survey.config.table_prefix);
    let keep = |table: &str| options.tables.keeps(definition, prefix, table);
    let named = |wanted: Keep| {
        let tables = survey.tables.iter().filter(|t| keep(&t.name) == wanted);
        tables.map(|t| t.name.clone()).collect::<BTreeSet<String>>()
    };
    let dropped = named(Keep::Nothing);
    let mut parts = split_dump(path, &named(Keep::Structure), &keep, spool, watch, findings)?;
    parts.retain(|p| p.table.as_ref().is_none_or(|t| !dropped.contains(t)));
    // A dump that is not taken apart holds what the survey saw in it.
    if !parts.iter().any(|p| p.table.is_some() && p.bytes > 0)
        && let Some(whole) = parts.first_mut()
    {
        whole.holds = survey.tables.iter().map(|t| t.name.clone()).filter(|t| !dropped.contains(t)).collect();
    }
    Ok(parts)
}

/// Returns the access to the site's database, if its server answered.
fn server(survey: &Survey) -> Result<&DatabaseAccess, PackError> {
    match (&survey.config.database, &survey.tables_from) {
        (Some(access), crate::survey::TableSource::Server) => Ok(access),
        (_, crate::survey::TableSource::None(why)) => Err(PackError::NoDatabase(why.clone())),
        _ => Err(PackError::NoDatabase("the config names no database".into())),
    }
}

/// Opens the site's database, unless a dump is named or the database stays behind.
fn site_database(
    survey: &Survey,
    options: &GatherOptions<'_>,
    findings: &mut Findings<'_>,
) -> Result<Option<DatabaseStream>, PackError> {
    if options.dump.is_some() || !options.scope.has(&select::Part::Database) {
        return Ok(None);
    }
    let keep =
        |table: &str| options.tables.keeps(&survey.recognised.definition, &survey.config.table_prefix, table);
    DatabaseStream::open(server(survey)?, &keep, findings).map(Some).map_err(PackError::Database)
}

/// Reads a database into spooled parts: an archive states the size of each before it.
fn spooled(live: &DatabaseStream, spool: &Path, watch: &dyn Watch) -> Result<Vec<Part>, DatabaseError> {
    watch.event(Event::StepStarted { step: "reading the database", total: Some(live.bytes()) });
    let mut out = Vec::new();
    for (number, part) in live.parts().enumerate() {
        let path = spool.join(format!("part-{number}"));
        let file = File::create(&path)?;
        let mut to = CountedWrite { inner: zstd::stream::write::Encoder::new(file, SPOOL_LEVEL)?, bytes: 0 };
        let (table, rows, rows_left_out) = match part {
            stream::Part::Text(_, text) => {
                to.write_all(text)?;
                (None, 0, 0)
            }
            stream::Part::Table(facts, with_rows) => {
                let rows = live.table(&facts.name, with_rows, &mut Whole(Counted::new(&mut to, watch)))?;
                (Some(facts.name.clone()), rows, if with_rows { 0 } else { facts.rows })
            }
        };
        to.inner.finish()?;
        out.push(Part { table, holds: Vec::new(), rows, rows_left_out, bytes: to.bytes, path });
    }
    watch.event(Event::StepDone);
    Ok(out)
}

/// Says whether a pattern means a table, by its name with or without prefix.
pub fn means(pattern: &GlobMatcher, prefix: &str, table: &str) -> bool {
    pattern.is_match(table) || table.strip_prefix(prefix).is_some_and(|bare| pattern.is_match(bare))
}

/// Says of tables that several sites share that they are carried once.
fn shared_tables(survey: &Survey, findings: &mut Findings<'_>) {
    for (table, prefix) in &survey.config.shared_tables {
        let what = format!("the table {prefix}{table} is shared with other sites of this code base");
        findings.push(Finding::new(
            Code::TableShared,
            what,
            "",
            "it is copied once with this site; keep both copies in step by hand",
        ));
    }
}

/// Finds the folder that belongs to the site outside of its root: as the config names it, and where it lies.
fn outside_folder(
    survey: &Survey,
    options: &GatherOptions<'_>,
    findings: &mut Findings<'_>,
) -> Option<(Root, Arc<dyn Tree>)> {
    let roots = &survey.config.roots;
    let own = Root::parse(&survey.site.display().to_string()).ok();
    let inside =
        |storage: &Root| roots.iter().chain(&own).any(|root| storage.segments().starts_with(root.segments()));
    let named = survey.config.storage.iter().find(|s| !inside(s))?.clone();
    if !options.scope.has_files() {
        return None;
    }
    let lies = options.storage.map_or_else(|| PathBuf::from(named.to_string()), Path::to_path_buf);
    if survey.tree.is_folder(&lies) {
        return Some((named, survey.tree.beside(&lies)));
    }
    findings.push(Finding::new(
        Code::FolderMissing,
        format!("the folder {named} belongs to the site and is not here"),
        lies.display().to_string(),
        "name where it lies with --storage DIR and pack again",
    ));
    None
}

/// Returns where under the site the definition expects the folder that may lie outside.
fn storage_inside(survey: &Survey) -> PathBuf {
    let keys = survey.recognised.definition.config.iter().flat_map(|c| &c.key);
    let mut storage = keys.filter(|k| k.role == crate::system::schema::Role::Storage);
    storage.find_map(|k| k.below_root.first()).map(PathBuf::from).unwrap_or_default()
}

/// Dumps of other dialects are carried in one part, without the rows that are left out.
fn whole_dump<R: std::io::Read>(
    source: Source<R>,
    order: Option<crate::dump::utf16::Order>,
    keep: &(dyn Fn(&str) -> Keep + Sync),
    spool: &Path,
) -> Result<(Vec<Part>, Option<CutOff>), DumpError> {
    let replacements = Replacements::new(&Pairs::default(), &[]);
    let rules = Rules::new(&replacements, keep);
    let path = spool.join("part-0");
    let file = File::create(&path).map_err(DumpError::Write)?;
    let out = zstd::stream::write::Encoder::new(file, SPOOL_LEVEL).map_err(DumpError::Write)?;
    let out = TextWriter::new(CountedWrite { inner: out, bytes: 0 }, order);
    let (mut out, done, ending) = spread::rewrite(source, &rules, out)?;
    out.flush().map_err(DumpError::Write)?;
    let counted = out.into_inner();
    let bytes = counted.bytes;
    counted.inner.finish().map_err(DumpError::Write)?;
    let tables = done.tally.tables;
    let mut parts = vec![Part {
        table: None,
        holds: Vec::new(),
        rows: tables.values().map(|t| t.rows).sum(),
        rows_left_out: 0,
        bytes,
        path: path.clone(),
    }];
    // What was left out is told table by table.
    for (table, tally) in tables.into_iter().filter(|(_, t)| t.rows_left_out > 0) {
        parts.push(Part {
            table: Some(table),
            holds: Vec::new(),
            rows: 0,
            rows_left_out: tally.rows_left_out,
            bytes: 0,
            path: path.clone(),
        });
    }
    Ok((parts, ending.cut_off))
}

/// Counts what is written.
struct CountedWrite<W> {
    inner: W,
    bytes: u64,
}

impl<W: Write> Write for CountedWrite<W> {
    fn write(&mut self, buf: &[u8]) -> std::io::Result<usize> {
        let n = self.inner.write(buf)?;
        self.bytes += n as u64;
        Ok(n)
    }

    fn flush(&mut self) -> std::io::Result<()> {
        self.inner.flush()
    }
}

fn split_dump(
    path: &Path,
    without_rows: &BTreeSet<String>,
    keep: &(dyn Fn(&str) -> Keep + Sync),
    spool: &Path,
    watch: &dyn Watch,
    findings: &mut Findings<'_>,
) -> Result<Vec<Part>, PackError> {
    let wrong = |source| PackError::Dump { path: path.to_path_buf(), source };
    let file = File::open(path).map_err(|e| wrong(DumpError::Read(e)))?;
    let total = file.metadata().map(|m| m.len()).ok();
    watch.event(Event::StepStarted { step: "taking the dump apart", total });
    let reader = crate::dump::open_text(Counted::new(file, watch)).map_err(|e| wrong(DumpError::Read(e)))?;
    let order = reader.order();
    let source = Source::new(reader, WINDOW, None).map_err(wrong)?;
    if source.dialect() != Dialect::Mysql {
        let (parts, cut) = whole_dump(source, order, keep, spool).map_err(wrong)?;
        watch.event(Event::StepDone);
        if parts.iter().all(|p| p.rows == 0) {
            findings.push(Finding::at(
                Code::DumpEmpty,
                "the dump holds no rows",
                path,
                "check that it is the dump of this site",
            ));
        }
        return match cut {
            Some(cut) => Err(PackError::CutOff { path: path.to_path_buf(), cut }),
            None => Ok(parts),
        };
    }
    let mut splitter = Splitter::new(spool, without_rows);
    let ending = crate::dump::stream::run_source(source, &mut splitter).map_err(wrong)?;
    let Split { parts, databases, left_out } = splitter.finish().map_err(wrong)?;
    watch.event(Event::StepDone);
    if let Some(cut) = ending.cut_off {
        return Err(PackError::CutOff { path: path.to_path_buf(), cut });
    }
    if databases.len() > 1 {
        return Err(PackError::SeveralDatabases {
            path: path.to_path_buf(),
            names: databases.into_iter().collect(),
        });
    }
    for statement in left_out {
        let what = format!("a statement that builds no table was left out ({statement})");
        findings.push(Finding::at(
            Code::StatementLeftOut,
            what,
            path,
            "nothing, unless the site depends on it",
        ));
    }
    if parts.is_empty() {
        findings.push(Finding::at(
            Code::DumpEmpty,
            "the dump holds no table",
            path,
            "check that it is the dump of this site",
        ));
    }
    Ok(parts)
}

/// Where a link in a folder leads, if that is a file or folder outside of it that does not hold the folder itself.
fn leads_out(tree: &dyn Tree, link: &Path) -> Option<(PathBuf, Meta)> {
    let real = tree.real(link).ok()?;
    let whole = tree.real(tree.root()).ok()?;
    let meta = tree.stat(&real, Links::Follow).ok().filter(|m| m.is_file() || m.is_folder())?;
    (!real.starts_with(&whole) && !whole.starts_with(&real)).then_some((real, meta))
}

/// Hands on what is carried of a folder, below a folder of the archive.
fn folder_entries(
    tree: &Arc<dyn Tree>,
    into: &str,
    decide: &dyn Fn(&Path, bool) -> Decision,
    shared: &dyn Fn(&Path, bool) -> bool,
    handed_on: bool,
    findings: &mut Vec<Finding>,
    take: Take<'_>,
) -> ControlFlow<()> {
    let unreadable = |path: &Path| {
        Finding::at(
            Code::FileUnreadable,
            "could not be read and was left out",
            path,
            "check its permissions and try again",
        )
    };
    let into = EntryPath::trusted(into);
    let mut walk = tree.walk(tree.root());
    while let Some(found) = walk.next() {
        let Found { path: whole, meta } = match found {
            Ok(found) => found,
            Err(e) => {
                findings.push(unreadable(&e.path));
                continue;
            }
        };
        let below = whole.strip_prefix(tree.root()).unwrap_or(&whole);
        // What a copy knows of itself is not part of the site.
        if below == Path::new(record::NAME) {
            continue;
        }
        if decide(below, meta.is_folder()) != Decision::Copy {
            walk.skip_folder();
            continue;
        }
        // A clone opens its files itself, and says then which it could not read.
        if meta.is_file() && !handed_on && !tree.may_read(&whole) {
            findings.push(unreadable(&whole));
            continue;
        }
        let path = into.join(below.as_os_str().as_bytes());
        let of_file = |path, origin, meta: &Meta, take: Take<'_>| {
            let mut file = Lazy { origin, file: None };
            let held = entry(path, EntryKind::File, meta.size, (meta.mode, meta.seconds()), &mut file);
            take(Entry { origin: Some(origin), ..held })
        };
        match meta.kind {
            FileKind::Folder => take(folder_entry(path, &meta, &mut std::io::empty()))?,
            FileKind::File => of_file(path, Origin { tree, path: &whole }, &meta, take)?,
            FileKind::Link => {
                if let Some((real, meta)) =
                    leads_out(&**tree, &whole).filter(|(_, m)| shared(below, m.is_folder()))
                {
                    // The link would be of no use elsewhere; what it leads to is part of the site.
                    let what =
                        format!("is a link to {}; what lies there was packed in its place", real.display());
                    findings.push(Finding::at(
                        Code::LinkPackedAsContent,
                        what,
                        &whole,
                        "nothing; make the link anew at the new place if it shall be shared there",
                    ));
                    if meta.is_folder() {
                        let decide = |inner: &Path, is_folder: bool| decide(&below.join(inner), is_folder);
                        let shown = path.shown();
                        take(folder_entry(path, &meta, &mut std::io::empty()))?;
                        let real = tree.beside(&real);
                        folder_entries(&real, &shown, &decide, &|_, _| false, handed_on, findings, take)?;
                    } else {
                        of_file(path, Origin { tree, path: &real }, &meta, take)?;
                    }
                    continue;
                }
                let bits = (meta.mode, meta.seconds());
                match tree.link_target(&whole) {
                    Ok(to) => take(entry(path, EntryKind::Symlink(to), 0, bits, &mut std::io::empty()))?,
                    Err(_) => findings.push(unreadable(&whole)),
                }
            }
            FileKind::Other => {
                findings.push(Finding::at(
                    Code::SpecialFileLeftOut,
                    "is a device, pipe or socket and was left out",
                    &whole,
                    "",
                ));
            }
        }
    }
    ControlFlow::Continue(())
}

fn folder_entry<'c>(path: EntryPath, meta: &Meta, nothing: &'c mut dyn Read) -> Entry<'c> {
    entry(path, EntryKind::Folder, 0, (meta.mode, meta.seconds()), nothing)
}
