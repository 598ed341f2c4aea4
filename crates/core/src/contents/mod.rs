//! Gathers what of a site goes: head, files, database parts. An archive holds it, a clone takes it straight away.

mod database_parts;
mod folders;
mod job;
pub(crate) mod outline;
pub mod split;

pub use folders::Take;
pub use job::{GatherOptions, PackError};

use database_parts::{dump_parts, spooled};
use folders::{entry, file_entry, folder_entries};
pub(crate) use folders::{fold_vanished, shrank, unreadable};

use crate::archive::entry_path::EntryPath;
use crate::archive::format::{DATABASE, FILES, FORMAT, Head, HeadPlace, LeftOut, OUTSIDE, SystemName};
use crate::archive::read::EntryKind;
use crate::database::load::plain_name;
use crate::database::stream::{self, DatabaseStream};
use crate::event::Findings;
use crate::event::Watch;
use crate::finding::{Code, Finding};
use crate::fsx::AtPath;
use crate::place::{Address, DatabaseAccess, Root};
use crate::select::{self, Decision, Selection};
use crate::spool;
use crate::survey::recognise::StorageFolder;
use crate::survey::{Survey, folders as survey_folders, risks};
use crate::system::table_rule;
use crate::table_scope::TableScope;
use crate::tree::{Links, Origin, Tree};
use split::SpooledPart;
use std::collections::BTreeSet;
use std::ops::ControlFlow;
use std::path::{Path, PathBuf};
use std::sync::Arc;

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
    pub(crate) parts: Vec<SpooledPart>,
    /// The database itself, in place of parts.
    live: Option<DatabaseStream>,
    outside: Option<Arc<dyn Tree>>,
    selection: Selection,
    files: bool,
    /// Product and version of the server that was read.
    pub(crate) server: Option<String>,
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
    let whose = survey.whose_beside(options.tables.whose);
    let tables = TableScope { whose: &whose, ..options.tables };
    let options = &GatherOptions { tables, ..options.clone() };
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
    let spool = spool::folder_in(folder).at(folder)?;
    let mut live = site_database(&survey, options, &mut findings)?;
    let server = live.as_ref().and_then(DatabaseStream::server);
    // The site answers with and without `www.` if its rows say so.
    let mut twin = None;
    let parts = match (&live, straight) {
        (Some(_), true) => Vec::new(),
        (Some(found), false) => {
            let own = options.address.or(survey.address.address.as_ref()).and_then(Address::twin);
            let text = own.as_ref().map(|twin| format!("/{}", twin.host()));
            let (parts, named) =
                spooled(found, spool.path(), text.as_deref(), watch).map_err(PackError::Database)?;
            twin = own.filter(|_| named);
            parts
        }
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
        survey_folders::walk(&*survey.tree, &survey.recognised.definition, &selection, 1).left_out
    };
    if let Some(risk) = risks::unread(&survey.unread).filter(|_| straight) {
        findings.push(risk);
    }
    shared_tables(&survey, &mut findings);
    if options.scope.has(&select::Part::Database) {
        let others = survey.others(&options.tables);
        options.tables.tell_of_others(&others).into_iter().for_each(|finding| findings.push(finding));
        left_out.extend(others);
    }
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
    head.place.aliases.extend(twin.filter(|t| !head.place.aliases.iter().any(|a| a.host() == t.host())));
    head.place.outside = outside.as_ref().map(|(folder, _)| folder.path.to_string());
    head.place.outside_named = outside.as_ref().and_then(|(folder, _)| folder.named.clone());
    let outside = outside.map(|(_, lies)| lies).filter(|_| options.scope.has_files());
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
        server,
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

    /// The database itself, where its rows come straight from its server.
    pub(crate) fn live(&self) -> Option<&DatabaseStream> {
        self.live.as_ref()
    }

    /// Says whether the database's rows come straight from its server.
    pub fn is_live(&self) -> bool {
        self.live.is_some()
    }

    /// Hands on every entry in the order of an archive: first the files whose paths `first` names. What cannot be read is added to `findings`
    /// and passed over.
    pub fn entries(
        &self,
        first: &BTreeSet<EntryPath>,
        findings: &mut Vec<Finding>,
        take: Take<'_>,
    ) -> ControlFlow<()> {
        let tree = &self.survey.tree;
        for path in first {
            let Some(below) = path.below(FILES) else { continue };
            let whole = self.survey.site.join(below.as_path());
            match tree.stat(&whole, Links::Stay) {
                Ok(meta) if meta.is_file() => {
                    let origin = Origin { tree, path: &whole };
                    file_entry(path.clone(), origin, &meta, false, findings, take)?;
                }
                Ok(_) => findings.push(unreadable(&whole, None)),
                Err(e) => findings.push(unreadable(&whole, Some(&e))),
            }
        }
        self.file_entries(false, findings, &mut |entry| match &entry.path {
            Ok(Some(path)) if first.contains(path) => ControlFlow::Continue(()),
            _ => take(entry),
        })?;
        self.database_entries(&|_| true, findings, take)
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
        if let Some(lies) = &self.outside {
            // Seen by the definition where the folder lies by itself.
            let inside = storage_inside(&self.survey);
            let decide = |below: &Path, is_folder: bool| match &inside {
                Some(inside) => self.selection.decide(&inside.join(below), is_folder),
                None => Decision::Copy,
            };
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
        if let Some(lies) = &self.outside {
            let files = lies.walk(lies.root()).flatten().filter(|found| found.meta.is_file());
            bytes += files.map(|found| found.meta.size).sum::<u64>();
        }
        bytes
    }

    /// Hands on the parts of the database. A table that `wants` does not want is not read where it would be read now.
    pub(crate) fn database_entries(
        &self,
        wants: &dyn Fn(&str) -> bool,
        findings: &mut Vec<Finding>,
        take: Take<'_>,
    ) -> ControlFlow<()> {
        let time = self.head.time();
        if let Some(live) = &self.live {
            return live_entries(live, wants, time, take);
        }
        let told_only = |p: &&SpooledPart| p.table.is_some() && p.bytes == 0;
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

/// Hands on every part of a database that is read meanwhile.
fn live_entries(
    live: &DatabaseStream,
    wants: &dyn Fn(&str) -> bool,
    time: i64,
    take: Take<'_>,
) -> ControlFlow<()> {
    for (number, part) in live.parts().enumerate() {
        let path = |name: &str| EntryPath::trusted(&format!("{DATABASE}/{number:03}-{name}.sql"));
        match part {
            stream::StreamPart::Text(name, mut text) => {
                let size = text.len() as u64;
                take(entry(path(name), EntryKind::File, size, (0o600, time), &mut text))?;
            }
            stream::StreamPart::Table(facts, _) if !wants(&facts.name) => {}
            stream::StreamPart::Table(facts, rows) => {
                let (size, path) = (if rows { facts.data } else { 0 }, path(&file_name(&facts.name)));
                live.streamed(facts, rows, &mut |reader| {
                    take(entry(path.clone(), EntryKind::File, size, (0o600, time), reader))
                })?;
            }
        }
    }
    ControlFlow::Continue(())
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
            document_root: definition.served_from.trim_end_matches('/').to_string(),
            moved_folders: survey.config.moved_folders(definition, Some(&survey.site)),
            outside: None,
            outside_named: None,
            former_switches: options
                .former
                .iter()
                .map(|s| format!("{}={}", s.name.word(), s.state))
                .collect(),
            other_sites: survey.address.others.clone(),
        },
        left_out: left_out.to_vec(),
        expected_bytes,
        has_database,
        packed_on: None,
        outline: None,
    }
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
) -> Option<(StorageFolder, Arc<dyn Tree>)> {
    let roots = &survey.config.roots;
    let own = Root::parse(&survey.site.display().to_string()).ok();
    let inside =
        |storage: &Root| roots.iter().chain(&own).any(|root| storage.segments().starts_with(root.segments()));
    let mut outside = survey.config.storage.iter().filter(|s| !inside(&s.path));
    let named = outside.next()?.clone();
    // Where files were not asked for, nothing is missing, but what names the folder has to follow all the same.
    let files = options.scope.has_files();
    for further in outside.filter(|_| files) {
        let path = &further.path;
        let what =
            format!("the folder {path} belongs to the site as well, lies outside of it and was not copied");
        findings.push(Finding::new(Code::FolderMissing, what, path.to_string(), "carry it by hand"));
    }
    let lies = options.storage.map_or_else(|| PathBuf::from(named.path.to_string()), Path::to_path_buf);
    if survey.tree.is_folder(&lies) {
        return Some((named, survey.tree.beside(&lies)));
    }
    if !files {
        return None;
    }
    findings.push(Finding::new(
        Code::FolderMissing,
        format!("the folder {} belongs to the site and is not here", named.path),
        lies.display().to_string(),
        "name where it lies with --storage DIR and pack again",
    ));
    None
}

/// Returns where under the site the definition expects the folder that may lie outside; nothing where it lies there by no means.
fn storage_inside(survey: &Survey) -> Option<PathBuf> {
    let keys = survey.recognised.definition.config.iter().flat_map(|c| &c.key);
    let mut storage = keys.filter(|k| k.role == crate::system::schema::Role::Storage);
    storage.find_map(|k| k.below_root.first()).map(PathBuf::from)
}
