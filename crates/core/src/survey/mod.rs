//! What can be learned of a site without changing anything.

pub mod address;
pub mod draft;
pub mod estimate;
pub mod folders;
pub mod hosts;
pub mod material;
pub mod recognise;
pub mod risks;
mod row_folders;
mod row_values;
pub mod site_files;

pub use row_values::row_values;

use crate::archive::format::LeftOut;
use crate::database;
use crate::database::load::plain_name;
use crate::dump::inspect::{self, Inspection, Wanted};
use crate::dump::stream::DumpError;
use crate::event::{Counted, Event, Watch};
use crate::finding::Finding;
use crate::fsx::PathError;
use crate::path_text;
use crate::place::{Address, DatabaseAccess};
use crate::select::{Scope, Selection};
use crate::system::schema::Role;
use crate::system::{Definition, Known, table_rule};
use crate::table_scope::{self, ALL, TableScope, Whose};
use crate::tree::{Tree, noticing};
use address::AddressFinding;
use estimate::Estimate;
use folders::{FolderSize, Heavy, Walked};
use hosts::{HostFound, Hosts};
use recognise::{ConfigFacts, ConfigValue, LookedFor, Recognised};
use schemars::JsonSchema;
use serde::Serialize;
use site_files::FolderFiles;
use std::borrow::Cow;
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Why a survey is not possible.
#[derive(Debug, thiserror::Error)]
pub enum SurveyError {
    /// The folder is not there or not readable.
    #[error("{path} is no folder that can be read")]
    NoFolder {
        /// Path.
        path: PathBuf,
        /// Cause.
        #[source]
        source: std::io::Error,
    },
    /// No known system.
    #[error("{path} holds no site of a known system")]
    Unknown {
        /// Path.
        path: PathBuf,
        /// What was looked for.
        looked_for: Vec<LookedFor>,
        /// Sites in folders of it, with their systems.
        inside: Vec<(PathBuf, String)>,
    },
    /// The dump cannot be read.
    #[error("the dump {path} cannot be used")]
    Dump {
        /// Path.
        path: PathBuf,
        /// Cause.
        #[source]
        source: DumpError,
    },
    /// No folder of that name belongs to a host.
    #[error("no folder {asked:?} of a host is there")]
    NoHost {
        /// What was asked for.
        asked: String,
        /// What is there.
        found: Vec<String>,
    },
    /// A file cannot be read.
    #[error(transparent)]
    Path(#[from] PathError),
}

/// What is to be surveyed.
#[derive(Debug, Clone, Default)]
pub struct SurveyJob {
    /// Dump to read the tables from.
    pub dump: Option<PathBuf>,
    /// Database of the site, where its config does not name the right one.
    pub database: Option<DatabaseAccess>,
    /// Prefix of its tables, where its config does not name the right one.
    pub table_prefix: Option<String>,
    /// Whether a site of a system that nobody knows is taken as files and the database that is named.
    pub by_hand: bool,
    /// Folder that is no part of the site, although it may lie in it.
    pub without: Option<PathBuf>,
    /// Folder of the host that is meant, where several live on one code base.
    pub host_folder: Option<String>,
    /// How many names below the root folders are told apart; 0 means 1.
    pub depth: usize,
}

/// Size of a table.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct TableFound {
    /// Name with prefix.
    pub name: String,
    /// Rows; an estimate of the server's if read from there.
    pub rows: u64,
    /// Bytes in the dump, or data and index on the server.
    pub bytes: u64,
    /// What a definition says of it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub about: Option<String>,
    /// Whether its rows are left out unless asked for.
    pub rows_left_out: bool,
}

/// Where the tables were read from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum TableSource {
    /// A dump file.
    Dump(
        #[serde(with = "crate::path_text")]
        #[schemars(with = "PathBuf")]
        PathBuf,
    ),
    /// The server that the config names.
    Server,
    /// Neither: why the server could not be asked.
    None(String),
}

/// A survey.
#[derive(Debug, Clone)]
pub struct Survey {
    /// Site.
    pub site: PathBuf,
    /// Its files.
    pub tree: Arc<dyn Tree>,
    /// System and version.
    pub recognised: Recognised,
    /// Config.
    pub config: ConfigFacts,
    /// Folders of hosts, where one code base serves several.
    pub hosts: Hosts,
    /// Base address and how it was learned.
    pub address: AddressFinding,
    /// Top folders, heaviest first.
    pub folders: Vec<FolderSize>,
    /// Files that usually are not carried.
    pub left_out: Vec<LeftOut>,
    /// Files and folders that cannot be read, under the site.
    pub unread: Vec<PathBuf>,
    /// Files that the web server reads in whatever folder they lie, under the site.
    pub for_web_server: Vec<PathBuf>,
    /// That the tables hardly are the site's, if so.
    pub foreign: Option<Finding>,
    /// Things that are heavy and hardly part of the site.
    pub heavy: Vec<Heavy>,
    /// Files that are copied, their bytes, and about how many bytes of an archive they take.
    pub files_copied: (u64, u64, u64),
    /// Tables, heaviest first.
    pub tables: Vec<TableFound>,
    /// Where they were read.
    pub tables_from: TableSource,
    /// What is known of tables beside the config: which runs keep, and which are of copies.
    pub known: Whose,
    /// Risks.
    pub risks: Vec<Finding>,
}

/// The survey as a JSON document.
#[derive(Debug, Serialize, JsonSchema)]
pub struct SurveyReport<'a> {
    site: Cow<'a, str>,
    system: SystemReport<'a>,
    config: &'a [ConfigValue],
    database: Option<DatabaseReport<'a>>,
    hosts: &'a [HostFound],
    address: &'a AddressFinding,
    config_roots: Vec<String>,
    folders: &'a [FolderSize],
    tables_from: &'a TableSource,
    tables: &'a [TableFound],
    heavy: &'a [Heavy],
    totals: Estimate,
}

#[derive(Debug, Serialize, JsonSchema)]
struct SystemReport<'a> {
    id: &'a str,
    name: &'a str,
    version: Option<&'a str>,
    extensions: &'a [String],
}

#[derive(Debug, Serialize, JsonSchema)]
struct DatabaseReport<'a> {
    #[serde(flatten)]
    access: &'a DatabaseAccess,
    password: &'static str,
    table_prefix: &'a str,
}

impl Survey {
    /// Returns the survey as a document. Passwords are `set` or `empty`.
    pub fn report(&self) -> SurveyReport<'_> {
        let definition = &self.recognised.definition;
        let version = self.recognised.version.as_deref();
        SurveyReport {
            site: path_text::to_text(&self.site),
            system: SystemReport {
                id: &definition.id,
                name: &self.recognised.product,
                version,
                extensions: &self.recognised.extensions,
            },
            config: &self.config.values,
            database: self.config.database.as_ref().map(|access| DatabaseReport {
                access,
                password: access.password.state(),
                table_prefix: &self.config.table_prefix,
            }),
            hosts: &self.hosts.found,
            address: &self.address,
            config_roots: self.config.roots.iter().map(ToString::to_string).collect(),
            folders: &self.folders,
            tables_from: &self.tables_from,
            tables: &self.tables,
            heavy: &self.heavy,
            totals: self.totals(),
        }
    }

    /// Returns the base address, if it is known.
    pub fn base_address(&self) -> Option<&Address> {
        self.address.address.as_ref()
    }

    /// Tables that are the site's, heaviest first.
    pub fn own_tables(&self) -> Vec<&TableFound> {
        let (whose, definition) = (self.whose_beside(&ALL), &self.recognised.definition);
        let own = |t: &&TableFound| whose.is_own(definition, &self.config.table_prefix, &t.name);
        self.tables.iter().filter(own).collect()
    }

    /// Which of the tables are the site's, by its config and by what else is known.
    pub(crate) fn whose_beside(&self, known: &Whose) -> Whose {
        let names = self.tables.iter().map(|t| t.name.as_str());
        let known = self.known.clone().and_of(known);
        Whose::of(&self.config.table_prefix, names, &self.config.shared_tables, &known)
    }

    /// Tables that a copy leaves behind unless they are asked for, because they are not the site's.
    pub fn tables_of_others(&self) -> Vec<LeftOut> {
        let whose = self.whose_beside(&ALL);
        self.others(&TableScope { rows: &[], light: false, taken: &[], whose: &whose })
    }

    /// Tables that stay behind because they are not the site's, heaviest first.
    pub fn others(&self, scope: &TableScope<'_>) -> Vec<LeftOut> {
        let (definition, prefix) = (&self.recognised.definition, &self.config.table_prefix);
        let others = self.tables.iter().filter(|t| scope.is_others(definition, prefix, &t.name));
        others.map(|t| table_scope::left_out(scope.whose, plain_name(&t.name), t.rows, t.bytes)).collect()
    }

    /// Adds up what would be copied, and about what an archive of it would weigh.
    pub fn totals(&self) -> Estimate {
        let (files, file_bytes, packed) = self.files_copied;
        let mut out = Estimate { files, file_bytes, archive_bytes: packed, ..Estimate::default() };
        for table in self.own_tables() {
            out.tables += 1;
            if !table.rows_left_out {
                out.rows += table.rows;
                out.database_bytes += table.bytes;
            }
        }
        out.archive_bytes += estimate::packed(out.database_bytes);
        out
    }

    /// Returns bytes that would be carried.
    pub fn carried_bytes(&self) -> u64 {
        self.folders.iter().map(|f| f.bytes - f.cache_bytes).sum()
    }
}

/// Sites in the folders of a folder, two names deep.
fn sites_in(tree: &Arc<dyn Tree>, known: &[Known]) -> Vec<(PathBuf, String)> {
    let folders = |folder: &Path| -> Vec<PathBuf> {
        let listed = tree.list(folder).unwrap_or_default();
        let mut found: Vec<PathBuf> =
            listed.into_iter().filter(|l| l.meta.is_folder()).map(|l| folder.join(l.name)).collect();
        found.sort();
        found.truncate(200);
        found
    };
    let mut out = Vec::new();
    let mut todo: Vec<(PathBuf, bool)> = folders(tree.root()).into_iter().map(|f| (f, true)).collect();
    todo.reverse();
    while let (Some((folder, first)), true) = (todo.pop(), out.len() < 50) {
        match recognise::recognise(&FolderFiles(tree.beside(&folder)), known) {
            Ok(found) => {
                let version = found.version.map(|v| format!(" {v}")).unwrap_or_default();
                out.push((folder, format!("{}{version}", found.product)));
            }
            Err(_) if first => todo.extend(folders(&folder).into_iter().rev().map(|f| (f, false))),
            Err(_) => {}
        }
    }
    out
}

/// Recognises the system of a site, chooses the host that is meant, and reads its config.
fn recognised(
    tree: &dyn Tree,
    host_folder: Option<&str>,
    known: &[Known],
    by_hand: bool,
) -> Result<(Arc<dyn Tree>, Recognised, Hosts, ConfigFacts), SurveyError> {
    let no_folder = |path: &Path, source| SurveyError::NoFolder { path: path.to_path_buf(), source };
    let site = tree.real(tree.root()).map_err(|e| no_folder(tree.root(), e))?;
    tree.list(&site).map_err(|e| no_folder(&site, e))?;
    let root = noticing(tree.beside(&site));
    let tree = FolderFiles(root.clone());
    let found = recognise::recognise(&tree, known);
    root.untroubled()?;
    let mut recognised = match found {
        Ok(recognised) => recognised,
        Err(_) if by_hand => recognise::unknown(),
        Err(looked_for) => {
            let inside = sites_in(&root, known);
            return Err(SurveyError::Unknown { path: site.clone(), looked_for, inside });
        }
    };
    let hosts = hosts::choose(&tree, &recognised.definition, host_folder).map_err(|asked| {
        let all = hosts::choose(&tree, &recognised.definition, None);
        let found = all.map(|h| h.found.into_iter().map(|f| f.folder).collect()).unwrap_or_default();
        SurveyError::NoHost { asked, found }
    })?;
    recognised.definition = hosts.definition.clone();
    let config = recognise::config_facts(&tree, &recognised.definition);
    let moved = config.moved_folders(&recognised.definition, Some(root.root()));
    recognised.definition = recognised.definition.with_folders_at(&moved);
    root.untroubled()?;
    Ok((root, recognised, hosts, config))
}

/// Surveys a site. With a dump its tables are read from there, else from the server that the config names, if it answers.
pub fn survey(
    tree: &dyn Tree,
    job: &SurveyJob,
    known: &[Known],
    watch: &dyn Watch,
) -> Result<Survey, SurveyError> {
    let asked = tree.root().to_path_buf();
    let (tree, recognised, mut hosts, mut config) =
        recognised(tree, job.host_folder.as_deref(), known, job.by_hand)?;
    hosts.copies = hosts::copies(&FolderFiles(tree.clone()));
    if let Some(without) = &job.without {
        let below = without.strip_prefix(&asked).or_else(|_| without.strip_prefix(tree.root()));
        hosts.copies.extend(below.ok().filter(|b| !b.as_os_str().is_empty()).map(Path::to_path_buf));
    }
    if let Some(prefix) = &job.table_prefix {
        config.table_prefix.clone_from(prefix);
    }
    if job.database.is_some() {
        config.database.clone_from(&job.database);
    }
    let site = tree.root().to_path_buf();
    let definition = &recognised.definition;
    let dump = job.dump.as_deref();
    watch.event(Event::StepStarted { step: "measuring folders", total: None });
    let selection = Selection::of(definition, &Scope::default(), &hosts.others())
        .beside_database(&site, config.database.as_ref());
    let Walked { folders, left_out, unread, for_web_server, heavy, packed_bytes, files, bytes } =
        folders::walk(&*tree, definition, &selection, job.depth.max(1));
    let files_copied = (files, bytes, packed_bytes);
    watch.event(Event::StepDone);
    let prefix = config.table_prefix.clone();
    let prefix = &prefix;
    let mut wanted = address::wanted_rows(definition, prefix);
    wanted.extend(row_folders::wanted(definition, prefix));
    // Where neither config nor rows tell the address, the content has to.
    let content = definition.address.is_empty() && config.value(Role::Address).is_none();
    let mut kept = BTreeSet::new();
    let (tables, tables_from, rows) = match dump {
        Some(path) => {
            let found = inspect_dump(path, &wanted, watch)?;
            let tables = found.tables.iter().map(|(n, s)| (n.clone(), s.rows, s.bytes)).collect();
            (tables, TableSource::Dump(path.to_path_buf()), Some(found))
        }
        None => match config.database.as_ref().filter(|d| d.engine.facts().serves).map(|access| {
            database::servers::facts(access, &wanted, content)
                .and_then(|found| Ok((found, database::servers::kept(access)?)))
        }) {
            Some(Ok(((tables, found), marked))) => {
                kept = marked;
                (tables, TableSource::Server, Some(found))
            }
            Some(Err(e)) => (Vec::new(), TableSource::None(database::describe(&e)), None),
            None => {
                let why = match &config.database {
                    Some(access) => {
                        format!("{} servers are not supported; name a dump with --dump", access.engine.name())
                    }
                    None => "the config names no database".into(),
                };
                (Vec::new(), TableSource::None(why), None)
            }
        },
    };
    let address = address::find(definition, &config, rows.as_ref());
    let mut tables: Vec<TableFound> =
        tables.into_iter().map(|(n, r, b)| table_found(definition, prefix, n, r, b)).collect();
    tables.sort_by(|a, b| b.bytes.cmp(&a.bytes).then_with(|| a.name.cmp(&b.name)));
    let names = tables.iter().map(|t| t.name.clone()).collect();
    let place = dump.map_or_else(|| "the database".into(), |d| d.display().to_string());
    let foreign = material::foreign(definition, prefix, &names, known, place);
    let mut risks = risks::risks(&tree, definition, &config, rows.as_ref());
    if let Some(rows) = &rows {
        row_folders::note(definition, &*tree, rows, &mut config, &mut risks);
    }
    risks.extend(risks::unread(&unread));
    risks.extend(foreign.clone());
    let copies = config.database.as_ref().map(|d| hosts::prefixes_of_copies(&tree, &hosts.copies, d));
    let known_tables = Whose::but(kept).and_copies(copies.into_iter().flatten());
    tree.untroubled()?;
    Ok(Survey {
        site,
        tree,
        config,
        hosts,
        address,
        folders,
        left_out,
        unread,
        for_web_server,
        foreign,
        heavy,
        files_copied,
        tables,
        tables_from,
        known: known_tables,
        risks,
        recognised,
    })
}

/// Goes through a dump file, compressed or not.
pub fn inspect_dump(path: &Path, wanted: &[Wanted], watch: &dyn Watch) -> Result<Inspection, SurveyError> {
    let dump_error = |source| SurveyError::Dump { path: path.to_path_buf(), source };
    let total = std::fs::metadata(path).map(|m| m.len()).ok();
    let file = std::fs::File::open(path).map_err(|e| dump_error(DumpError::Read(e)))?;
    watch.event(Event::StepStarted { step: "reading the dump", total });
    let found = inspect::inspect(Counted::new(file, watch), wanted, true).map_err(dump_error)?;
    watch.event(Event::StepDone);
    Ok(found)
}

fn table_found(definition: &Definition, prefix: &str, name: String, rows: u64, bytes: u64) -> TableFound {
    let rule = table_rule(definition, prefix, &name);
    TableFound {
        rows,
        bytes,
        about: rule.map(|r| r.about.clone()),
        rows_left_out: rule.is_some_and(|r| r.safe),
        name,
    }
}

/// A site's database as its config names it, and what its definition says of its tables.
#[derive(Debug, Clone)]
pub struct SiteDatabase {
    /// Definition of its system.
    pub definition: Definition,
    /// Table prefix.
    pub table_prefix: String,
    /// Access with password, if the config names one.
    pub access: Option<DatabaseAccess>,
}

/// Reads a site's config for its database, and nothing else.
pub fn site_database(
    tree: &dyn Tree,
    host_folder: Option<&str>,
    known: &[Known],
) -> Result<SiteDatabase, SurveyError> {
    let (_, _, hosts, config) = recognised(tree, host_folder, known, false)?;
    Ok(SiteDatabase {
        definition: hosts.definition,
        table_prefix: config.table_prefix,
        access: config.database,
    })
}
