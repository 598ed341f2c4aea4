//! The plan of a restore: everything that can be known and refused before the first byte is written.

use super::RestoreError;
use super::copy_settings::{self, PlannedKey, PlannedSettings};
use super::hosts::{HostMapping, Joining};
use super::job::RestoreJob;
use super::locate::{Locate, each_part};
use super::owner::Owner;
use super::record::{self, Record};
use super::refresh::Outlook;
use super::source::{Kind, Source, inspect_inner_dump, look};
use crate::config::edit::{self, Context, FilePlan};
use crate::config::htaccess;
use crate::database::load::{contents, must_be_empty, plain_name, shortened};
use crate::database::servers::same_database;
use crate::dump::inspect;
use crate::dump::prefix::PrefixChange;
use crate::dump::rules::{Cell, Keep, PackedColumn, Start};
use crate::event::{Findings, Silent, Watch};
use crate::finding::{Code, Finding};
use crate::place::{Address, Place, Relocation, Root};
use crate::secret::Secret;
use crate::survey::address::{self, AddressFinding};
use crate::survey::hosts::{self, Hosts};
use crate::survey::recognise::{ConfigFacts, ConfigFile, config_facts, config_files, recognise};
use crate::survey::select::{Decision, Part, PathChoice, Selection};
use crate::survey::site_files::FolderFiles;
use crate::survey::{inspect_dump, material};
use crate::system::schema::{Config, ConfigForm};
use crate::system::{Definition, Known, glob};
use crate::text::replacements::{Replacements, RewriteOptions};
use crate::tree::{Meta, Tree};
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// A plan.
#[derive(Debug)]
pub struct RestorePlan {
    /// The job, with absolute paths.
    pub job: RestoreJob,
    /// What the archive holds.
    pub source: Source,
    /// Definition of its system.
    pub definition: Definition,
    /// Name of the product.
    pub product: String,
    /// Version of its system.
    pub version: Option<String>,
    /// From where to where.
    pub relocation: Relocation,
    /// How the old address was learned.
    pub learned_from: String,
    /// Edits of config and text files.
    pub files: Vec<FilePlan>,
    /// Declared cells, with table prefix.
    pub cells: Vec<Cell>,
    /// Compressed columns, with table prefix.
    pub packed: Vec<PackedColumn>,
    /// Table prefix in the archive.
    pub table_prefix: String,
    /// Change of the table prefix.
    pub prefix: Option<PrefixChange>,
    /// Other sites of the same database, which stay where they are.
    pub stay: Vec<Address>,
    /// Values that are put into config keys, rows and files.
    pub puts: PlannedSettings,
    /// Folders of hosts.
    pub hosts: Hosts,
    /// New place of the folder that belongs to the site outside of its root.
    storage: Option<Arc<dyn Tree>>,
    /// The host that joins the code base in the target.
    pub joining: Option<Joining>,
    /// How the new host finds its folder.
    pub host_mapping: Option<HostMapping>,
    /// Tables of the target that make room, and are kept.
    pub replaced: BTreeSet<String>,
    /// Tables in the target's database that are not this site's, and stay.
    pub others: Vec<String>,
    /// Whose the files will be.
    pub(super) owner: Owner,
    /// Settings of the source, by file, with a hash of each.
    pub(super) settings: BTreeMap<String, String>,
    /// What becomes of the files of a copy that is brought up to date.
    pub outlook: Option<Outlook>,
    /// Bytes that will be written below the target and for the dump.
    pub needed: u64,
    /// What needs attention.
    pub findings: Vec<Finding>,
    old_password: Secret,
}

impl RestorePlan {
    /// Builds the replacements: addresses and roots to change, the old password to watch for.
    pub fn replacements(&self) -> Replacements {
        let watched = self.watched();
        // From the bare root to a folder and back, references from the root are what breaks.
        let root = |place: &Place| place.address.base().is_empty();
        let moves = root(&self.relocation.from) != root(&self.relocation.to);
        let asked = RewriteOptions {
            references: self.job.options.rewriting().references || moves,
            ..self.job.options.rewriting()
        };
        Replacements::asking(&self.relocation.pairs(), &watched, asked)
    }

    /// Builds the replacements by which files are looked through that nothing changes: there a path from the root is none of the site's for
    /// sure.
    pub fn needles_for_files(&self) -> Replacements {
        let watched = self.watched();
        Replacements::asking(
            &self.relocation.pairs(),
            &watched,
            RewriteOptions { references: false, ..self.job.options.rewriting() },
        )
    }

    fn watched(&self) -> Vec<Secret> {
        let same = self.job.database.as_ref().is_some_and(|d| d.password == self.old_password);
        if same { Vec::new() } else { vec![self.old_password.clone()] }
    }

    /// Names of the database that the site had where it comes from.
    pub fn old_databases(&self) -> Vec<String> {
        self.relocation.from.database.iter().map(|d| d.name.clone()).collect()
    }

    /// Says what of a table is restored.
    pub fn keeps(&self, table: &str) -> Keep {
        self.job.tables().keeps(&self.definition, &self.table_prefix, table)
    }

    /// Returns what a file holds once it is edited, of the files that are; by its path in the target.
    pub(super) fn edited(&self, path: &str) -> Option<Vec<u8>> {
        let file = self.files.iter().find(|f| f.path == path && !f.edits.is_empty())?;
        let (text, _) = self.source.files.held.iter().find_map(|(entry, held)| {
            let below = entry.shown().strip_prefix(&self.source.files.prefix).map(PathBuf::from)?;
            (self.placed(&below) == Path::new(path)).then_some(held)
        })?;
        Some(crate::edit::apply(text, &file.edits))
    }

    /// What a thing of the copy is at the source, of a clone.
    pub(super) fn at_source(&self, path: &Path) -> Option<Meta> {
        let below = path.strip_prefix(&self.job.options.target).ok()?;
        let survey = &self.job.contents.as_ref()?.survey;
        survey.tree.there(&survey.site.join(below))
    }

    /// The trees that are read and written.
    pub(super) fn trees(&self) -> impl Iterator<Item = &Arc<dyn Tree>> {
        let source = self.job.contents.iter().map(|contents| &contents.survey.tree);
        source.chain([&self.job.tree])
    }

    /// The tree in which a thing of the copy lies.
    pub(super) fn tree_of(&self, path: &Path) -> &Arc<dyn Tree> {
        let outside = self.outside_tree().filter(|tree| path.starts_with(tree.root()));
        outside.unwrap_or(&self.job.tree)
    }

    /// Says what of the files is carried.
    pub(super) fn selection(&self) -> Selection {
        Selection::of(&self.definition, &self.job.scope, &self.hosts.others())
            .beside_database(&self.job.options.target, self.job.database.as_ref().filter(|_| self.loads()))
    }

    /// Returns where a path under the site goes, under the target.
    pub fn placed(&self, below: &Path) -> PathBuf {
        self.joining.as_ref().map_or(below.to_path_buf(), |j| j.placed(below))
    }

    /// Returns the folder in which this restore writes files.
    pub fn own_folder(&self) -> PathBuf {
        self.joining
            .as_ref()
            .map_or(self.job.options.target.to_path_buf(), |j| self.job.options.target.join(&j.new))
    }

    /// Returns the columns whose values begin otherwise: with the new prefix, with the new folder of a host.
    pub fn starts(&self) -> Vec<Start> {
        let mut out = Vec::new();
        if let Some(PrefixChange { old, new }) = &self.prefix {
            out.extend(self.definition.prefix_key.iter().map(|k| Start {
                table: format!("{old}{}", k.table),
                column: k.column.clone(),
                old: old.clone(),
                new: new.clone(),
                names: k.names.clone(),
                what: "prefix",
            }));
        }
        if let (Some(joining), Some(hosts)) = (&self.joining, &self.definition.hosts) {
            out.extend(joining.starts(hosts, &self.table_prefix));
        }
        out
    }

    /// Names what a run does with the entries.
    pub(super) fn step(&self) -> &'static str {
        if self.job.contents.is_some() { "copying" } else { "unpacking" }
    }

    /// Returns the bytes that a run goes through, for its progress.
    pub(super) fn total(&self) -> Option<u64> {
        match &self.job.contents {
            Some(contents) => Some(self.source.file_bytes + contents.database_bytes()),
            None => fs::metadata(&self.job.options.source).map(|m| m.len()).ok(),
        }
    }

    /// Returns the file that the database will be, if it is one that is not there yet.
    pub(super) fn new_database_file(&self) -> Option<&Path> {
        let access =
            self.job.database.as_ref().filter(|_| self.loads() && self.job.options.dump_to.is_none())?;
        let file = access.engine.facts().is_file.then(|| Path::new(&access.name))?;
        (!file.exists()).then_some(file)
    }

    /// Says whether there are rows to be restored.
    pub fn loads(&self) -> bool {
        (self.source.has_database || self.job.dump.is_some()) && self.job.scope.has(&Part::Database)
    }

    /// Returns where the folder outside of the root goes, if the archive holds one.
    pub fn outside(&self) -> Option<&Path> {
        Some(self.outside_tree()?.root())
    }

    /// Returns the tree of that folder.
    pub(super) fn outside_tree(&self) -> Option<&Arc<dyn Tree>> {
        self.storage.as_ref().filter(|_| self.job.scope.has(&Part::Code))
    }

    /// Returns the config entry that describes a planned file, if it is one.
    pub fn config_of(&self, path: &str) -> Option<&crate::system::schema::Config> {
        let at = |c: &&crate::system::schema::Config| {
            let placed = self.placed(Path::new(&c.path));
            glob(&placed.display().to_string()).is_ok_and(|g| g.is_match(path))
        };
        self.definition.config.iter().find(at)
    }
}

/// Looks at the archive and plans. Nothing is written; the target database is only asked whether it is empty.
pub fn plan(mut job: RestoreJob, known: &[Known], watch: &dyn Watch) -> Result<RestorePlan, RestoreError> {
    if let (Some(access), None) = (&job.database, &job.options.dump_to)
        && !access.engine.facts().serves
    {
        return Err(RestoreError::NotLoadable(access.engine.name()));
    }
    guard_target(&job)?;
    let source = look(&job, known, watch)?;
    let has_database = (source.has_database || job.dump.is_some()) && job.scope.has(&Part::Database);
    if has_database && job.database.is_none() && job.options.dump_to.is_none() {
        return Err(RestoreError::NoDatabaseTarget);
    }
    let mut findings = Findings::new(watch);
    if !has_database
        && job.scope.has(&Part::Database)
        && job.database.is_some()
        && job.options.host_as.is_none()
    {
        let what = "there is no database to be restored: the one that was named was not touched";
        let cure = "name the dump of its database with --dump FILE, if the site has one";
        findings.push(Finding::new(Code::NoDatabase, what, job.options.source.display().to_string(), cure));
    }
    let (definition, product, version) = system_of(&job, &source, known)?;
    if job.options.refresh {
        let there = recognise(&FolderFiles(job.tree.clone()), known).map(|r| r.definition.id);
        let why = match there {
            Ok(id) if id == definition.id => None,
            Ok(id) => Some(format!("it is one of {id}")),
            Err(_) => Some("no known system is there".into()),
        };
        if let Some(why) = why.or_else(|| other_copy(&job, &definition)) {
            return Err(RestoreError::NoCopy { path: job.options.target.to_path_buf(), why });
        }
    }
    let hosts = hosts_of(&job, &source, &definition)?;
    let definition = hosts.definition.clone();
    let joining = match &job.options.host_as {
        Some(name) => Some(Joining::check(&hosts, &*job.tree, name)?),
        None => None,
    };
    if let Some(joining) = &joining {
        job.scope.only = vec![Part::Database, Part::Path(PathChoice::folder(&joining.old))];
    }
    let mut facts = config_facts(&source.files, &definition);
    if let Kind::Ours(head) = &source.kind
        && facts.files.is_empty()
    {
        facts.table_prefix.clone_from(&head.place.table_prefix);
        facts.database.clone_from(&head.place.database);
    }
    // Of a clone it was said when the site was looked at.
    if job.contents.is_none() {
        let tables: Vec<&str> = source.tables.iter().map(|t| plain_name(t)).collect();
        job.tables().in_vain(&facts.table_prefix, &tables).into_iter().for_each(|f| findings.push(f));
    }
    let (found, mut tables) = find_address(&job, &source, &definition, &facts, watch, &mut findings)?;
    // A pipe can be read once.
    if let (Some(dump), Kind::Ours(_)) = (&job.dump, &source.kind)
        && dump.is_file()
    {
        let wrong = |e: crate::survey::SurveyError| RestoreError::Config {
            path: dump.display().to_string(),
            why: e.to_string(),
        };
        tables.extend(inspect_dump(dump, &[], watch).map_err(wrong)?.tables.into_keys());
    }
    let place = job.dump.as_deref().unwrap_or(&job.options.source).display().to_string();
    if let Some(foreign) = material::foreign(&definition, &facts.table_prefix, &tables, known, place) {
        findings.push(foreign);
    }
    let mut relocation = relocation(&job, &source, &facts, &found, &mut findings)?;
    let outside = outside(&job, &source)?;
    let storage = outside.as_ref().map(|(_, new)| job.tree.beside(Path::new(&new.to_string())));
    relocation.outside.extend(outside);
    if let Some(joining) = &joining {
        joining.extend(&mut relocation)?;
    }
    let stay = other_sites(&job, &source, &found);
    let needed = source.file_bytes + if job.options.dump_to.is_some() { source.database_bytes } else { 0 };
    if !job.options.refresh {
        guard_space(&job, needed)?;
    }
    let cells = cells(&definition, &facts.table_prefix);
    let packed = packed(&definition, &facts.table_prefix);
    let prefix = prefix_change(&job, &facts)?;
    let there =
        if job.options.dump_to.is_none() && has_database { guard_database(&job)? } else { Vec::new() };
    let carried = if there.is_empty() {
        BTreeSet::new()
    } else {
        carried_tables(&job, &source, tables, &definition, &facts, prefix.as_ref())
    };
    let (replaced, others): (Vec<String>, Vec<String>) = there.into_iter().partition(|t| carried.contains(t));
    let replaced = replaced.into_iter().collect();
    let admins = if job.changes_admin() {
        admins(&job, &source, &definition, &facts.table_prefix)?
    } else {
        Vec::new()
    };
    let new_scheme = Some(relocation.to.address.scheme());
    let site = copy_settings::Site {
        definition: &definition,
        version: version.as_deref(),
        prefix: &facts.table_prefix,
        secret: facts.secret.as_ref(),
        new_scheme: new_scheme.filter(|s| *s != relocation.from.address.scheme()),
    };
    let puts = copy_settings::plan(&job, &site, &admins)?;
    let replacements = Replacements::new(&relocation.pairs(), &[]);
    let keys: Vec<(String, String)> = puts.config.iter().map(|k| (k.key.clone(), k.value.clone())).collect();
    let cx = Context {
        relocation: &relocation,
        database: job.database.as_ref(),
        replacements: &replacements,
        table_prefix: job.options.table_prefix.as_deref(),
        put: &keys,
    };
    let selection = Selection::of(&definition, &job.scope, &hosts.others());
    let mut files = file_plans(&source, &definition, &cx, &selection, &mut findings)?;
    if let Some(joining) = &joining {
        joining.place(&mut files);
    }
    // Only a copy of a site tells later what has changed at its source.
    let of_a_site = job.contents.is_some() || job.options.refresh;
    let settings = if of_a_site { record::settings(&source.files, &definition) } else { BTreeMap::new() };
    if job.options.refresh {
        // A copy keeps its own settings.
        for file in Record::read(&*job.tree).unwrap_or_default().changed_settings(&settings) {
            findings.push(Finding::new(Code::ConfigChangedAtSource,
                "has changed at the source since the copy was made or brought up to date; the copy keeps its own",
                file.clone(),
                "compare the two, and take over what the copy needs",
            ));
        }
        let own = definition.config_files();
        files.retain(|f| !own.is_match(&f.path));
    }
    for warning in files.iter().flat_map(|f| &f.findings).chain(&puts.findings) {
        findings.push(warning.clone());
    }
    if job.scope.has(&Part::Code) {
        missing_keys(&puts, &files, &mut findings);
    }
    let host_mapping = match (&definition.hosts, &hosts.folder) {
        (Some(h), Some(folder)) => {
            super::hosts::way(h, job.options.host_as.as_ref().unwrap_or(folder), &job.address)
        }
        _ => None,
    };
    let old_password = facts.database.as_ref().map(|d| d.password.clone()).unwrap_or_default();
    let mut plan = RestorePlan {
        relocation,
        learned_from: found.learned_from,
        files,
        cells,
        packed,
        table_prefix: facts.table_prefix,
        prefix,
        stay,
        puts,
        hosts,
        storage,
        joining,
        host_mapping,
        replaced,
        others,
        owner: Owner::of(&job),
        settings,
        outlook: None,
        needed,
        // What was said while the site was gathered is not said again, only kept.
        findings: [source.findings.clone(), findings.into_vec()].concat(),
        old_password,
        definition,
        product,
        version,
        source,
        job,
    };
    if plan.job.options.refresh {
        let outlook = Outlook::of(&plan, plan.job.options.delete_gone)?;
        plan.needed = outlook.bytes;
        plan.outlook = Some(outlook);
        guard_space(&plan.job, plan.needed)?;
    }
    // What was taken for missing may be there.
    for tree in plan.trees() {
        tree.untroubled()?;
    }
    Ok(plan)
}

/// Says why a folder is not the copy that is to be brought up to date: one of another site, or with other settings than were asked for.
fn other_copy(job: &RestoreJob, definition: &Definition) -> Option<String> {
    let site = &job.contents.as_ref()?.survey.site;
    let Some(record) = Record::read(&*job.tree) else {
        return Some(format!(
            "nothing in it says that it is a copy of {} (the file {} is missing)",
            site.display(),
            record::NAME
        ));
    };
    if Path::new(&record.source) != site {
        return Some(format!("it is a copy of {}", record.source));
    }
    // What it was made with stands in its own settings; only its rows would follow another word.
    let has = |what: &str, own: &str, asked: &str| {
        format!("its {what} is {own}, and {asked} was asked for; leave the option out, or make a new copy")
    };
    if record.address != job.address.to_string() {
        return Some(has("address", &record.address, &job.address.to_string()));
    }
    let facts = config_facts(&FolderFiles(job.tree.clone()), definition);
    let prefix =
        job.options.table_prefix.clone().unwrap_or_else(|| record.table_prefix.clone().unwrap_or_default());
    if job.options.table_prefix != record.table_prefix
        || (!facts.files.is_empty() && !prefix.is_empty() && facts.table_prefix != prefix)
    {
        let own =
            if facts.files.is_empty() { record.table_prefix.unwrap_or_default() } else { facts.table_prefix };
        return Some(has("table prefix", &own, &prefix));
    }
    if let (Some(own), Some(asked)) = (&record.database, &job.database)
        && *own != asked.url()
        // The site's own database is refused by whoever looks at that.
        && !job.contents.as_ref().and_then(|c| c.survey.config.database.as_ref()).is_some_and(|source| same_database(source, asked))
    {
        return Some(has("database", own, &asked.url()));
    }
    None
}

/// Chooses the host that is meant: ours says it in its head, a plain archive with several needs to be told.
fn hosts_of(job: &RestoreJob, source: &Source, definition: &Definition) -> Result<Hosts, RestoreError> {
    let asked = match &source.kind {
        Kind::Ours(head) => head.place.host_folder.clone(),
        Kind::Plain { .. } => job.options.host_folder.clone(),
    };
    let hosts = match hosts::choose(&source.files, definition, asked.as_deref()) {
        Ok(hosts) => hosts,
        // The archive may hold no config file at all.
        Err(folder) => {
            Hosts { definition: definition.for_site(&folder), folder: Some(folder), found: Vec::new() }
        }
    };
    if asked.is_none() && hosts.found.len() > 1 {
        return Err(RestoreError::SeveralHosts {
            found: hosts.found.into_iter().map(|h| h.folder).collect(),
        });
    }
    Ok(hosts)
}

/// Says which keys were to be set and stand in no config file.
fn missing_keys(puts: &PlannedSettings, files: &[FilePlan], findings: &mut Findings<'_>) {
    for PlannedKey { key, value, what, optional } in &puts.config {
        if !optional && !files.iter().any(|f| f.put.contains(key)) {
            let message = format!("{what}: no config file holds the key `{key}`, which would get {value:?}");
            findings.push(Finding::new(Code::ConfigKeyMissing, message, "", "add it by hand if you need it"));
        }
    }
}

/// Tells the system of an archive: its definition, product and version.
fn system_of(
    job: &RestoreJob,
    source: &Source,
    known: &[Known],
) -> Result<(Definition, String, Option<String>), RestoreError> {
    match &source.kind {
        // Our head says which system it is; the markers could fit more than one definition, or be left out.
        Kind::Ours(head) => {
            let by_id = known.iter().find(|k| k.definition.id == head.system.id);
            let known = by_id.ok_or_else(|| RestoreError::NoDefinition(head.system.id.clone()))?;
            Ok((known.definition.clone(), head.system.name.clone(), head.system.version.clone()))
        }
        Kind::Plain { .. } => {
            let recognised = recognise(&source.files, known).map_err(|looked_for| RestoreError::Unknown {
                path: job.options.source.to_path_buf(),
                looked_for,
            })?;
            Ok((recognised.definition, recognised.product, recognised.version))
        }
    }
}

/// Returns the sites of the same database that stay where they are.
fn other_sites(job: &RestoreJob, source: &Source, found: &AddressFinding) -> Vec<Address> {
    let mut others = match &source.kind {
        Kind::Ours(head) => head.place.other_sites.clone(),
        Kind::Plain { .. } => found.others.clone(),
    };
    others.retain(|o| !job.options.map.iter().any(|(old, _)| old == o));
    others
}

fn prefix_change(job: &RestoreJob, facts: &ConfigFacts) -> Result<Option<PrefixChange>, RestoreError> {
    let Some(new) = job.options.table_prefix.clone().filter(|new| *new != facts.table_prefix) else {
        return Ok(None);
    };
    let old = facts.table_prefix.clone();
    let wrong = |why: &str| Err(RestoreError::Prefix { new: new.clone(), why: why.into() });
    if old.is_empty() {
        return wrong("the site has none now, so its tables cannot be told from other names");
    }
    if new.is_empty() || !new.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'_') {
        return wrong("a prefix is made of letters, digits and underscores");
    }
    Ok(Some(PrefixChange { old, new }))
}

/// Reads the numbers of the accounts that may be the administrator's.
fn admins(
    job: &RestoreJob,
    source: &Source,
    definition: &Definition,
    prefix: &str,
) -> Result<Vec<String>, RestoreError> {
    let Some(wanted) = copy_settings::wanted_admin(definition, prefix) else { return Ok(Vec::new()) };
    let wanted = [wanted];
    let mut out = Vec::new();
    let locate = Locate::of(source, job);
    each_part(job, &locate, &Silent, &mut |name, reader| {
        let found = inspect::inspect(reader, &wanted, false)
            .map_err(|source| RestoreError::Dump { name: name.into(), source })?;
        out.extend(found.rows.into_iter().flatten().filter_map(|mut row| row.swap_remove(0)));
        Ok(())
    })?;
    Ok(out)
}

fn guard_target(job: &RestoreJob) -> Result<(), RestoreError> {
    let dump_into_site = |dump: &Path| dump.starts_with(&job.options.target);
    if job.options.refresh {
        if !job.tree.is_folder(&job.options.target) {
            return Err(RestoreError::NoCopy {
                path: job.options.target.to_path_buf(),
                why: "there is no such folder".into(),
            });
        }
    } else if !job.scope.has(&Part::Code) || job.options.host_as.is_some() {
        // Into a site that is there: nothing of it is ever overwritten.
    } else if let Ok(listed) = job.tree.list(&job.options.target) {
        let mut found: Vec<String> =
            listed.into_iter().map(|l| l.name.to_string_lossy().into_owned()).collect();
        if !found.is_empty() {
            found.sort();
            return Err(RestoreError::TargetInUse {
                path: job.options.target.to_path_buf(),
                found: shortened(found),
            });
        }
    } else if job.tree.exists(&job.options.target) {
        return Err(RestoreError::TargetInUse {
            path: job.options.target.to_path_buf(),
            found: vec!["it is a file".into()],
        });
    }
    if let Some(contents) = &job.contents {
        let site = &contents.survey.site;
        // A host may join the code base that it comes from.
        let joins = job.options.host_as.is_some() && *job.options.target == **site;
        let nested = job.options.target.starts_with(site) || site.starts_with(&job.options.target);
        if !joins && nested && job.tree.host() == contents.survey.tree.host() {
            return Err(RestoreError::TargetInSource {
                target: job.options.target.to_path_buf(),
                site: site.clone(),
            });
        }
    }
    if let Some(dump) = &job.options.dump_to {
        if dump.exists() {
            return Err(RestoreError::FileInUse(dump.to_path_buf()));
        }
        if dump_into_site(dump) {
            return Err(RestoreError::DumpInTarget(dump.to_path_buf()));
        }
    }
    Ok(())
}

fn guard_space(job: &RestoreJob, needed: u64) -> Result<(), RestoreError> {
    match job.tree.free_space() {
        Some(free) if free < needed => {
            Err(RestoreError::Space { path: job.options.target.to_path_buf(), needed, free })
        }
        _ => Ok(()),
    }
}

/// Names, in the target's database, of the tables that come.
fn carried_tables(
    job: &RestoreJob,
    source: &Source,
    mut tables: BTreeSet<String>,
    definition: &Definition,
    facts: &ConfigFacts,
    prefix: Option<&PrefixChange>,
) -> BTreeSet<String> {
    tables.extend(source.tables.iter().cloned());
    let comes =
        tables.iter().filter(|t| job.tables().keeps(definition, &facts.table_prefix, t) != Keep::Nothing);
    let named = comes.map(|table| {
        let plain = plain_name(table);
        match prefix.and_then(|p| Some(format!("{}{}", p.new, plain.strip_prefix(&p.old)?))) {
            Some(renamed) => renamed,
            None => plain.to_string(),
        }
    });
    named.collect()
}

/// Returns what is in the target's database.
fn guard_database(job: &RestoreJob) -> Result<Vec<String>, RestoreError> {
    let Some(access) = &job.database else { return Ok(Vec::new()) };
    let found = contents(access).map_err(RestoreError::Database)?;
    let source = job.contents.as_ref().and_then(|contents| contents.survey.config.database.as_ref());
    if source.is_some_and(|source| same_database(source, access)) {
        return Err(RestoreError::SourceDatabase { url: access.url() });
    }
    if job.replaces() {
        return Ok(found);
    }
    must_be_empty(access, found).map_err(RestoreError::Database)?;
    Ok(Vec::new())
}

fn find_address(
    job: &RestoreJob,
    source: &Source,
    definition: &Definition,
    facts: &ConfigFacts,
    watch: &dyn Watch,
    findings: &mut Findings<'_>,
) -> Result<(AddressFinding, BTreeSet<String>), RestoreError> {
    let mut tables = BTreeSet::new();
    let mut found = match &source.kind {
        Kind::Ours(head) => AddressFinding {
            address: head.place.address.clone(),
            learned_from: match &job.contents {
                Some(contents) => contents.survey.address.learned_from.clone(),
                None => "the archive's head".into(),
            },
            aliases: head.place.aliases.clone(),
            others: head.place.other_sites.clone(),
            candidates: source.hosts.iter().map(|(h, n)| (h.clone(), *n)).collect(),
            concluded: false,
        },
        Kind::Plain { dump } => {
            let wanted = address::wanted_rows(definition, &facts.table_prefix);
            let inspection = match (&job.dump, dump) {
                (Some(path), _) => Some(inspect_dump(path, &wanted, watch).map_err(|e| match e {
                    crate::survey::SurveyError::Dump { path, source } => {
                        RestoreError::Dump { name: path.display().to_string(), source }
                    }
                    other => {
                        RestoreError::Config { path: path.display().to_string(), why: other.to_string() }
                    }
                })?),
                (None, Some(inner)) => Some(inspect_inner_dump(&job.options.source, inner, &wanted, watch)?),
                (None, None) => None,
            };
            tables.extend(inspection.iter().flat_map(|i| i.tables.keys().cloned()));
            address::find(definition, facts, inspection.as_ref())
        }
    };
    if let (Some(main), Kind::Ours(_)) = (&found.address, &source.kind) {
        // A database that was packed from a server was not looked through for them.
        let named: Vec<Address> = source.hosts.keys().filter_map(|h| Address::parse(h).ok()).collect();
        found.aliases.extend(address::www_variants(main, named.iter()));
    }
    found.candidates.sort_by_key(|(_, n)| std::cmp::Reverse(*n));
    found.candidates.truncate(5);
    if let Some(given) = &job.options.old_address {
        match &job.contents {
            // It was taken when the site was looked at.
            Some(contents) if contents.survey.base_address() == found.address.as_ref() => {}
            Some(_) => found.learned_from = "your own word".into(),
            None => {
                if let Some(warning) = found.given(given) {
                    findings.push(warning);
                }
            }
        }
    }
    found.aliases.extend(job.options.old_alias.iter().cloned());
    Ok((found, tables))
}

fn relocation(
    job: &RestoreJob,
    source: &Source,
    facts: &ConfigFacts,
    found: &AddressFinding,
    findings: &mut Findings<'_>,
) -> Result<Relocation, RestoreError> {
    let address = match &found.address {
        Some(address) => address.clone(),
        None if found.candidates.is_empty() => {
            let what = "the old base address stands nowhere, and the content names no host";
            findings.push(Finding::new(
                Code::AddressUnknown,
                what,
                "",
                "nothing, if the site uses relative links only",
            ));
            job.address.clone()
        }
        None => return Err(RestoreError::NoAddress { candidates: found.candidates.clone() }),
    };
    let new_root = Root::parse(&job.options.target.display().to_string())?;
    let mut roots: Vec<Root> = Vec::new();
    if let Kind::Ours(head) = &source.kind {
        roots.push(Root::parse(&head.place.root)?);
        roots.extend(head.place.config_roots.iter().filter_map(|r| Root::parse(r).ok()));
    }
    roots.extend(facts.roots.iter().cloned());
    roots.extend(job.options.old_root.iter().cloned());
    let mut seen = Vec::new();
    roots.retain(|r| {
        let new = !seen.contains(r);
        seen.push(r.clone());
        new
    });
    let root = if roots.is_empty() { new_root.clone() } else { roots.remove(0) };
    let mut aliases = found.aliases.clone();
    aliases.retain(|a| *a != address);
    let from = Place { address, root, database: facts.database.clone() };
    let to = Place { address: job.address.clone(), root: new_root, database: job.database.clone() };
    Ok(Relocation {
        from,
        aliases,
        other_roots: roots,
        further: job.options.map.clone(),
        outside: Vec::new(),
        to,
    })
}

/// Returns old and new place of the folder that belongs to the site outside of its root.
fn outside(job: &RestoreJob, source: &Source) -> Result<Option<(Root, Root)>, RestoreError> {
    let Kind::Ours(head) = &source.kind else { return Ok(None) };
    let Some(old) = &head.place.outside else { return Ok(None) };
    let beside = || {
        let name = job.options.target.file_name().unwrap_or_default().to_string_lossy().into_owned();
        job.options.target.with_file_name(format!("{name}-storage"))
    };
    let new = job.options.storage.as_deref().map_or_else(beside, Path::to_path_buf);
    if !job.options.refresh
        && job.scope.has(&Part::Code)
        && job.tree.list(&new).is_ok_and(|listed| !listed.is_empty())
    {
        return Err(RestoreError::TargetInUse { path: new, found: vec!["files".into()] });
    }
    Ok(Some((Root::parse(old)?, Root::parse(&new.display().to_string())?)))
}

/// Returns the definition's cells with the site's table prefix.
pub fn cells(definition: &Definition, prefix: &str) -> Vec<Cell> {
    let cells = definition.cell.iter().map(|c| Cell {
        table: format!("{prefix}{}", c.table),
        column: c.column.clone(),
        key: c.key.clone().map(|k| (k, c.values.clone())),
        form: c.form,
        beside_host: c.beside_host.clone(),
        within: c.within.clone(),
    });
    cells.collect()
}

/// Returns the definition's compressed columns with the site's table prefix.
fn packed(definition: &Definition, prefix: &str) -> Vec<PackedColumn> {
    let columns = definition.packed.iter().map(|p| PackedColumn {
        table: format!("{prefix}{}", p.table),
        column: p.column.clone(),
        how: p.how,
        flags: p.flags.clone().map(|f| (f.column, f.value)),
    });
    columns.collect()
}

fn file_plans(
    source: &Source,
    definition: &Definition,
    cx: &Context<'_>,
    selection: &Selection,
    findings: &mut Findings<'_>,
) -> Result<Vec<FilePlan>, RestoreError> {
    let mut plans = Vec::new();
    let carried = |path: &str| selection.decide(Path::new(path), false) == Decision::Copy;
    let mut found = config_files(&source.files, definition);
    let needed = definition.config.first().is_some_and(|c| carried(&c.path));
    if needed && !found.iter().any(|c| c.config.form != ConfigForm::Htaccess) {
        let path = definition.config.first().map(|c| c.path.clone()).unwrap_or_default();
        findings.push(Finding::new(Code::ConfigMissing,
            "the config file is not there, so nothing says to the site which database and address are its own",
            path,
            "make it on the new host, by the system's installer or its template",
        ));
    }
    found.retain(|c| carried(&c.path));
    for ConfigFile { config, path, text } in found {
        let plan = edit::plan_checked(config, &path, &text, cx)
            .map_err(|e| RestoreError::Config { path: path.clone(), why: e.to_string() })?;
        plans.push(plan);
    }
    let for_web_server = Config {
        path: String::new(),
        contains: None,
        form: ConfigForm::Htaccess,
        key: Vec::new(),
        like: None,
    };
    for (path, (text, _)) in &source.files.held {
        let shown = path.shown();
        let Some(below) = shown.strip_prefix(&source.files.prefix) else { continue };
        let known = plans.iter().any(|p| p.path == below);
        if !known && htaccess::is_read_anywhere(path.as_path()) && carried(below) {
            let plan = edit::plan(&for_web_server, below, text, cx)
                .map_err(|e| RestoreError::Config { path: below.to_string(), why: e.to_string() })?;
            if !plan.edits.is_empty() || !plan.findings.is_empty() {
                plans.push(plan);
            }
        }
    }
    let patterns: Vec<_> = definition.text.iter().filter_map(|t| glob(&t.path).ok()).collect();
    for (path, (text, _)) in &source.files.held {
        let Some(below) = path.shown().strip_prefix(&source.files.prefix).map(str::to_string) else {
            continue;
        };
        if carried(&below) && patterns.iter().any(|p| p.is_match(Path::new(&below))) {
            let plan = edit::plan_text(&below, text, cx);
            if !plan.edits.is_empty() {
                plans.push(plan);
            }
        }
    }
    Ok(plans)
}
