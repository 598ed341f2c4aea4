//! The plan of a restore: what is known of source and target, and what will be done. The preview and the run both follow it.

use super::copy_settings::PlannedSettings;
use super::hosts::{HostMapping, Joining};
use super::in_place::Over;
use super::job::{Reach, RestoreJob};
use super::outlook::Outlook;
use super::owner::Owner;
use super::source::Source;
use super::target_tables::TargetTables;
use crate::config::edit::FilePlan;
use crate::database::load::plain_name;
use crate::dump::prefix::PrefixChange;
use crate::dump::rules::{Cell, CodedColumn, Keep, PackedColumn, Start};
use crate::finding::Finding;
use crate::place::{Address, DatabaseAccess, Pairs, Place, Relocation};
use crate::secret::Secret;
use crate::select::{Part, Selection};
use crate::survey::hosts::Hosts;
use crate::system::{Definition, glob};
use crate::text::replacements::{Replacements, RewriteOptions};
use crate::tree::{Ids, Links, Meta, Tree};
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
    /// Columns with a spelling of their own, with table prefix.
    pub coded: Vec<CodedColumn>,
    /// Table prefix in the archive.
    pub table_prefix: String,
    /// Change of the table prefix.
    pub prefix: Option<PrefixChange>,
    /// Other sites of the same database, which stay where they are.
    pub stay: Vec<Address>,
    /// Values that are put into config keys, rows and files.
    pub settings: PlannedSettings,
    /// Folders of hosts.
    pub hosts: Hosts,
    /// New place of the folder that belongs to the site outside of its root.
    pub(super) storage: Option<Arc<dyn Tree>>,
    /// The host that joins the code base in the target.
    pub joining: Option<Joining>,
    /// How the new host finds its folder.
    pub host_mapping: Option<HostMapping>,
    /// The site that is there, while another is made beside it.
    pub(super) there: Option<Arc<dyn Tree>>,
    /// What becomes of the tables that are in the target's database.
    pub tables: TargetTables,
    /// Whose the files will be.
    pub(super) owner: Owner,
    /// Settings of the source, by file, with a hash of each.
    pub(super) source_settings: BTreeMap<String, String>,
    /// What becomes of the files of a copy that is brought up to date.
    pub outlook: Option<Outlook>,
    /// Bytes that will be written below the target and for the dump.
    pub needed: u64,
    /// What needs attention.
    pub findings: Vec<Finding>,
    pub(super) old_password: Secret,
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
        if self.job.in_place == Some(Reach::Settings) {
            // Another spelling of the site's own address would be levelled.
            return Replacements::asking(&Pairs::default(), &[], asked);
        }
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

    /// Says whether no file would be edited, written or removed.
    pub(crate) fn changes_no_file(&self) -> bool {
        self.files.iter().all(|f| f.edits.is_empty()) && self.settings.files.is_empty()
    }

    /// Names of the database that the site had where it comes from.
    pub fn old_databases(&self) -> Vec<String> {
        self.relocation.from.database.iter().map(|d| d.name.clone()).collect()
    }

    /// Says what of a table is restored.
    pub fn keeps(&self, table: &str) -> Keep {
        let other = |prefix: &String| !plain_name(table).starts_with(prefix.as_str());
        if self.tables.left.contains(plain_name(table))
            || self.tables.beside_tables_of.as_ref().is_some_and(other)
        {
            return Keep::Nothing;
        }
        self.job.tables().keeps(&self.definition, &self.table_prefix, table)
    }

    /// Says whether a table is read at all.
    pub(super) fn wants(&self, table: &str) -> bool {
        self.keeps(table) != Keep::Nothing
    }

    /// Whose a thing will be. What comes back is whose it was; what was not there, whose the folder is that was.
    pub(super) fn owner_of(&self, path: &Path, source: Option<&Meta>) -> Option<Ids> {
        let below = match &self.job.over {
            Some(Over::Beside(folder)) if self.owner != Owner::Own && self.job.owner.is_none() => {
                path.strip_prefix(folder).ok()
            }
            _ => None,
        };
        let (Some(below), Some(there)) = (below, &self.there) else { return self.owner.for_source(source) };
        let mut at = below.ancestors();
        at.find_map(|below| match below.as_os_str().is_empty() {
            true => there.stat(there.root(), Links::Follow).ok()?.owner,
            false => there.there(&there.root().join(below))?.owner,
        })
    }

    /// The tables that stay, by their names in the copy.
    pub(super) fn left_in_copy(&self) -> BTreeSet<String> {
        let prefix = self.prefix.as_ref();
        let named = |table: &String| prefix.map_or_else(|| table.clone(), |change| change.renamed(table));
        self.tables.left.iter().map(named).collect()
    }

    /// The database as it is loaded: a file lies beside its place until the end.
    pub(super) fn loads_into(&self) -> Option<DatabaseAccess> {
        let access = self.job.database.clone()?;
        match self.database_file_beside() {
            Some((made, _)) => Some(DatabaseAccess { name: made.display().to_string(), ..access }),
            None => Some(match self.below_folder(&access) {
                Some(name) => DatabaseAccess { name, ..access },
                None => access,
            }),
        }
    }

    /// Where a database that is a file of the site lies while the site is made beside.
    fn below_folder(&self, access: &DatabaseAccess) -> Option<String> {
        let file = access.engine.facts().is_file.then(|| Path::new(&access.name))?;
        let below = file.strip_prefix(&*self.job.options.target).ok()?;
        matches!(self.job.over, Some(Over::Beside(_)))
            .then(|| self.job.folder().join(below).display().to_string())
    }

    /// A database that is a file outside of what is exchanged as a whole: what is made, and the place that it takes.
    pub(super) fn database_file_beside(&self) -> Option<(PathBuf, PathBuf)> {
        let access = self.job.database.as_ref().filter(|_| self.loads() && self.job.comes_back())?;
        let file = access.engine.facts().is_file.then(|| PathBuf::from(&access.name))?;
        if self.below_folder(access).is_some() || !file.exists() {
            return None;
        }
        let made = self.tables.beside_file.clone()?;
        Some((made, file))
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
        let below = path.strip_prefix(self.job.folder()).ok()?;
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
        self.joining.as_ref().map_or(self.job.folder().to_path_buf(), |j| self.job.folder().join(&j.new))
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
                names: match &k.usual {
                    Some(usual) if usual != old => Vec::new(),
                    _ => k.names.clone(),
                },
                tell_others: k.usual.is_some(),
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
    pub(super) fn new_database_file(&self) -> Option<PathBuf> {
        let access = self.loads_into().filter(|_| self.loads() && self.job.options.dump_to.is_none())?;
        let file = access.engine.facts().is_file.then(|| PathBuf::from(&access.name))?;
        (!file.exists()).then_some(file)
    }

    /// Says whether there are rows to be restored.
    pub fn loads(&self) -> bool {
        (self.source.has_database || self.job.dump.is_some()) && self.job.scope.has(&Part::Database)
    }

    /// Says whether somebody sees what comes, or misses what goes, before all has come.
    pub(super) fn shows_at_once(&self) -> bool {
        let own_file = self.tables.beside_file.is_some();
        let tables = !self.tables.replaced.is_empty() && self.tables.beside.is_empty() && !own_file;
        tables || matches!(self.job.over, Some(Over::EachFile)) || self.joining.is_some()
    }

    /// Says whether something is made beside and takes its place in the end.
    pub(super) fn is_exchanged(&self) -> bool {
        matches!(self.job.over, Some(Over::Beside(_)))
            || !self.tables.beside.is_empty()
            || self.database_file_beside().is_some()
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
