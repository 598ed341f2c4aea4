//! Which system runs in a site, and what its config files say, without executing anything.

use super::site_files::SiteFiles;
use crate::archive::entry_path::EntryPath;
use crate::config::settings::{self, Expression};
use crate::config::{self, connection};
use crate::fsx::absolute;
use crate::place::{DatabaseAccess, Engine, Root};
use crate::secret::Secret;
use crate::system::schema::{Config, ConfigForm, Key, Role};
use crate::system::{Definition, Known};
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;
use std::path::Path;

/// A recognised system.
#[derive(Debug, Clone)]
pub struct Recognised {
    /// Its definition.
    pub definition: Definition,
    /// Name of the product: the system's, or that of one of its family.
    pub product: String,
    /// Its version, if a version file could be read.
    pub version: Option<String>,
    /// Well-known extensions, with versions where they can be read.
    pub extensions: Vec<String>,
}

/// What was looked for in vain, per system.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct LookedFor {
    /// System.
    pub system: String,
    /// Files, with the text that was expected in them.
    pub markers: Vec<String>,
}

/// Recognises the system of a site.
pub fn recognise(tree: &dyn SiteFiles, known: &[Known]) -> Result<Recognised, Vec<LookedFor>> {
    let mut in_order: Vec<&Known> = known.iter().collect();
    in_order.sort_by_key(|k| k.definition.order);
    let below = |known: &Known| {
        let roots = [String::new()].into_iter().chain(known.definition.document_root.clone());
        let there = roots.filter(|root| root.is_empty() || tree.exists(root));
        there.map(|root| known.definition.below(&root)).collect::<Vec<_>>()
    };
    for definition in &in_order.into_iter().flat_map(below).collect::<Vec<_>>() {
        let fits = !definition.recognise.is_empty()
            && definition.recognise.iter().all(|m| {
                let mut there = tree.matching(&m.path).into_iter();
                m.absent
                    != there.any(|path| m.contains.as_ref().is_none_or(|text| contains(tree, &path, text)))
            });
        if fits {
            let (product, version) = match version(tree, definition) {
                Some((product, version)) => (product, Some(version)),
                None => (definition.name.clone(), None),
            };
            let extensions = extensions(tree, definition);
            return Ok(Recognised { definition: definition.clone(), product, version, extensions });
        }
    }
    Err(known
        .iter()
        .map(|k| LookedFor { system: k.definition.name.clone(), markers: markers(&k.definition) })
        .collect())
}

/// A site of a system that nobody knows.
pub fn unknown() -> Recognised {
    let definition = crate::system::any();
    Recognised { product: definition.name.clone(), definition, version: None, extensions: Vec::new() }
}

fn contains(tree: &dyn SiteFiles, path: &str, text: &str) -> bool {
    tree.read(path).is_some_and(|bytes| memchr::memmem::find(&bytes, text.as_bytes()).is_some())
}

fn markers(definition: &Definition) -> Vec<String> {
    let shown = definition.recognise.iter().map(|m| {
        let not = if m.absent { "no " } else { "" };
        match &m.contains {
            Some(text) => format!("{not}{} with {text:?}", m.path),
            None => format!("{not}{}", m.path),
        }
    });
    shown.collect()
}

/// Returns the product and its version.
fn version(tree: &dyn SiteFiles, definition: &Definition) -> Option<(String, String)> {
    definition.version.iter().find_map(|v| {
        let product = || v.product.clone().unwrap_or_else(|| definition.name.clone());
        if v.from_name {
            let names = tree.matching(&v.path);
            let stem = |p: &String| {
                p.rsplit('/').next().and_then(|n| n.rsplit_once('.')).map(|(stem, _)| stem.to_string())
            };
            let stems = names.iter().filter_map(stem).map(|stem| plain_version(&stem));
            return Some((product(), stems.max_by(|a, b| compare_versions(a, b))?));
        }
        if let Some(line) = &v.line {
            let paths = tree.matching(&v.path);
            return Some((product(), paths.iter().find_map(|p| version_in_line(&tree.read(p)?, line))?));
        }
        let path = tree.matching(&v.path).into_iter().next()?;
        let file = config::read(v.form, &tree.read(&path)?, None).ok()?;
        let parts: Option<Vec<&str>> =
            v.keys.iter().map(|k| file.value(k).filter(|t| !t.is_empty())).collect();
        let parts = parts?;
        // A constant that refers to another one tells nothing.
        parts[0].starts_with(|c: char| c.is_ascii_digit()).then(|| (product(), parts.join(&v.join)))
    })
}

/// Finds a version in the place that a line says: behind the text before `{version}`, up to what cannot be part of one.
fn version_in_line(text: &[u8], line: &str) -> Option<String> {
    let (before, _) = line.split_once("{version}")?;
    let text = String::from_utf8_lossy(text);
    text.lines().find_map(|l| {
        let (_, rest) = l.split_once(before)?;
        let rest = rest.trim_start_matches(['v', ' ', '=', '"', '\'', '^', '~', '>']);
        let of = |c: char| c.is_ascii_alphanumeric() || matches!(c, '.' | '-' | '+');
        let version: String = rest.chars().take_while(|c| of(*c)).collect();
        version.starts_with(|c: char| c.is_ascii_digit()).then_some(version)
    })
}

/// Names the extensions that are there.
fn extensions(tree: &dyn SiteFiles, definition: &Definition) -> Vec<String> {
    let named = definition.extension.iter().filter_map(|e| {
        let text = tree.read(tree.matching(&e.path).first()?)?;
        let version = e.version.as_ref().and_then(|key| {
            let file = config::read(ConfigForm::Php, &text, None).ok()?;
            let in_comment = || {
                let text = String::from_utf8_lossy(&text);
                let (_, rest) = text.split_once(key.as_str())?;
                rest.split_whitespace().next().map(str::to_string)
            };
            file.value(key).map(str::to_string).or_else(in_comment)
        });
        Some(version.map_or_else(|| e.name.clone(), |v| format!("{} {v}", e.name)))
    });
    named.collect()
}

/// Drops the zeros before the numbers of a version.
fn plain_version(text: &str) -> String {
    let number = |n: &str| n.parse::<u32>().map_or(n.to_string(), |n| n.to_string());
    text.split('.').map(number).collect::<Vec<_>>().join(".")
}

/// Compares versions number by number; what is missing counts as zero.
pub fn compare_versions(a: &str, b: &str) -> std::cmp::Ordering {
    let numbers = |text: &str| -> Vec<u32> {
        let digits = |part: &str| part.chars().take_while(char::is_ascii_digit).collect::<String>();
        let mut out: Vec<u32> = text.split('.').map(|p| digits(p).parse().unwrap_or(0)).collect();
        while out.last() == Some(&0) {
            out.pop();
        }
        out
    };
    numbers(a).cmp(&numbers(b))
}

/// Says whether a version lies in a range; an unknown version lies in every one.
pub fn version_fits(version: Option<&str>, from: Option<&str>, below: Option<&str>) -> bool {
    let Some(version) = version else { return true };
    from.is_none_or(|f| compare_versions(version, f).is_ge())
        && below.is_none_or(|b| compare_versions(version, b).is_lt())
}

/// A config file of a site that is there.
pub struct ConfigFile<'d> {
    /// What the definition says of it.
    pub config: &'d Config,
    /// Path under the site.
    pub path: String,
    /// Content.
    pub text: Vec<u8>,
}

/// Returns the config files that are there, in the order of the definition.
pub fn config_files<'d>(tree: &dyn SiteFiles, definition: &'d Definition) -> Vec<ConfigFile<'d>> {
    let mut out: Vec<ConfigFile<'d>> = Vec::new();
    for config in &definition.config {
        for path in tree.matching(&config.path) {
            let meant = config.contains.as_ref().is_none_or(|text| contains(tree, &path, text))
                && config.named_in.as_ref().is_none_or(|by| names(tree, by, &path));
            if let (true, Some(text)) = (meant && !out.iter().any(|c| c.path == path), tree.read(&path)) {
                out.push(ConfigFile { config, path, text });
            }
        }
    }
    out
}

/// Says whether a PHP file names another one outside of its comments.
fn names(tree: &dyn SiteFiles, by: &str, path: &str) -> bool {
    let name = path.rsplit('/').next().unwrap_or(path);
    let Some(text) = tree.read(by) else { return false };
    let read = config::read(ConfigForm::Php, &text, None);
    if read.is_ok_and(|file| file.literals.iter().any(|l| l.value.contains(name))) {
        return true;
    }
    // Strings with variables in them are no literals.
    let comment = |line: &str| ["#", "//", "*", "/*"].iter().any(|start| line.starts_with(start));
    let text = String::from_utf8_lossy(&text);
    text.lines().map(str::trim_start).any(|l| l.contains(name) && l.contains('"') && !comment(l))
}

/// One value of a config file, safe to show.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct ConfigValue {
    /// Config file.
    pub file: String,
    /// Key.
    pub key: String,
    /// Meaning.
    pub role: Role,
    /// Value; of secrets only `set` or `empty`; nothing if it cannot be known without running the program.
    pub value: Option<String>,
    /// Line, from 1.
    pub line: usize,
    /// Why the value is not known.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub unknown: Option<String>,
}

/// A folder that belongs to the site wherever it lies.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StorageFolder {
    /// Its whole path.
    pub path: Root,
    /// How config or row name it, where that is a path from the document root.
    pub named: Option<String>,
}

impl StorageFolder {
    /// Takes a path as it is named by a site whose document root is known, or is not.
    pub(super) fn named(named: &str, document_root: Option<&Path>) -> Option<StorageFolder> {
        if named.trim().is_empty() {
            return None;
        }
        if let Ok(path) = Root::parse(named) {
            return Some(StorageFolder { path, named: None });
        }
        let whole = absolute(&document_root?.join(named));
        let path = Root::parse(&whole.display().to_string()).ok()?;
        Some(StorageFolder { path, named: Some(named.to_string()) })
    }
}

/// What the config files say.
#[derive(Debug, Clone, Default)]
pub struct ConfigFacts {
    /// All values with a role.
    pub values: Vec<ConfigValue>,
    /// Config files that are there.
    pub files: Vec<String>,
    /// Database access, with password.
    pub database: Option<DatabaseAccess>,
    /// Table prefix.
    pub table_prefix: String,
    /// Roots that paths in the config speak of, most frequent first.
    pub roots: Vec<Root>,
    /// Folders that belong to the site wherever they lie.
    pub storage: Vec<StorageFolder>,
    /// Folders of the definition and where the config says that they lie.
    pub folders: Vec<(String, String)>,
    /// The first secret of the site; some hash passwords with it.
    pub secret: Option<Secret>,
    /// Tables with a prefix of their own, as table and prefix: several sites share them.
    pub shared_tables: Vec<(String, String)>,
}

impl ConfigFacts {
    /// Returns folders of a definition that lie elsewhere below the site, by old and new path. `own` is the folder of the site, if it has one.
    pub fn moved_folders(&self, definition: &Definition, own: Option<&Path>) -> BTreeMap<String, String> {
        let served = &definition.served_from;
        let own = own.and_then(|own| Root::parse(&own.join(served).display().to_string()).ok());
        let below = |path: &str| -> Option<String> {
            let Ok(path) = Root::parse(path) else { return Some(path.trim_matches('/').to_string()) };
            let mut roots = own.iter().chain(&self.roots);
            let rest = roots.find_map(|root| path.segments().strip_prefix(root.segments()))?;
            Some(rest.join("/"))
        };
        let moved = self.folders.iter().filter_map(|(name, value)| {
            let lies = below(value)
                .filter(|lies| matches!(EntryPath::check(lies.as_bytes()), Ok(Some(_))) && lies != name)?;
            Some((format!("{served}{name}"), format!("{served}{lies}")))
        });
        moved.collect()
    }

    /// Returns the first known, non-empty value of a role.
    pub fn value(&self, role: Role) -> Option<&ConfigValue> {
        self.values.iter().find(|v| v.role == role && v.value.as_deref().is_some_and(|t| !t.is_empty()))
    }
}

/// Reads the config files of a recognised site. Where several speak of the database, the first one counts.
pub fn config_facts(tree: &dyn SiteFiles, definition: &Definition) -> ConfigFacts {
    let mut facts = ConfigFacts::default();
    let mut access = DatabaseAccess::unknown();
    let document_root = tree.folder().map(|f| f.join(&definition.served_from));
    for ConfigFile { config, path, text } in config_files(tree, definition) {
        facts.files.push(path.clone());
        // What a file says of its own folder is said from where it lies.
        let folder = tree.folder().map(|f| f.join(&path).parent().unwrap_or(&f).display().to_string());
        let Ok(file) = config::read(config.form, &text, folder.as_deref()) else { continue };
        let first = access.name.is_empty();
        for key in &config.key {
            // Of several names that mean a key the first counts.
            let meant = |s: &&settings::Setting| {
                let first = config.key.iter().find(|k| settings::fits(&k.name, &s.name));
                first.is_some_and(|k| k.name == key.name)
            };
            for setting in file.matching(&key.name).filter(meant) {
                let value = setting.value.as_ref().map(|v| config.meant(v));
                if first {
                    take_access(&mut access, key, value.as_deref().unwrap_or_default());
                }
                facts.note(&path, key, setting, value, document_root.as_deref());
            }
            if let (Role::TablePrefix, Some(way)) = (key.role, key.name.strip_suffix(".default")) {
                for setting in file.matching(&format!("{way}.*")).filter(|s| s.name != key.name) {
                    let table = setting.name[way.len() + 1..].to_string();
                    facts.shared_tables.push((table, setting.value.clone().unwrap_or_default()));
                }
            }
        }
    }
    if !access.name.is_empty() {
        if let (true, Some(folder)) = (access.engine.facts().is_file, tree.folder()) {
            // The name of a file, seen from the site.
            access.name = folder.join(&access.name).display().to_string();
        }
        facts.database = Some(access);
    }
    facts.roots = credible(&facts.roots);
    facts
}

fn take_access(access: &mut DatabaseAccess, key: &Key, raw: &str) {
    match key.role {
        Role::DatabaseHost if key.or_file && access.engine.facts().is_file => access.name = raw.to_string(),
        Role::DatabaseHost => {
            let (port, socket) = (access.port, access.socket.take());
            access.set_host_value(raw);
            access.port = access.port.or(port);
            access.socket = access.socket.take().or(socket);
        }
        Role::DatabasePort if raw.starts_with('/') => access.socket = Some(raw.to_string()),
        Role::DatabasePort => access.port = raw.parse().ok().or(access.port),
        Role::DatabaseSocket => access.socket = Some(raw.to_string()).filter(|s| !s.is_empty()),
        Role::DatabaseUrl => {
            let _ = access.set_url(raw);
        }
        Role::DatabaseConnection => {
            access.engine = Engine::SqlServer;
            connection::read(raw, access);
        }
        Role::Engine => access.engine = Engine::of_driver(raw).unwrap_or(access.engine),
        Role::DatabaseName if raw.is_empty() => {}
        Role::DatabaseName => access.name = raw.to_string(),
        Role::DatabaseUser => access.user = raw.to_string(),
        Role::DatabasePassword => access.password = Secret::new(raw),
        _ => {}
    }
}

impl ConfigFacts {
    fn note(
        &mut self,
        path: &str,
        key: &Key,
        setting: &settings::Setting,
        value: Option<String>,
        document_root: Option<&Path>,
    ) {
        let raw = value.as_deref().unwrap_or_default();
        match key.role {
            Role::TablePrefix if self.table_prefix.is_empty() => self.table_prefix = key.prefix_of(raw),
            Role::Path | Role::Storage => {
                self.roots.extend(root_of(raw, key));
                let stands = key.stands_for.iter().filter(|_| !raw.is_empty());
                self.folders.extend(stands.map(|name| (name.clone(), raw.to_string())));
            }
            Role::Secret if self.secret.is_none() => self.secret = Some(Secret::new(raw)),
            _ => {}
        }
        if key.role == Role::Storage {
            let folder = StorageFolder::named(raw, document_root);
            self.storage.extend(folder.filter(|f| !self.storage.contains(f)));
        }
        let shown = match key.role {
            Role::OtherServer if raw.contains('@') => value.map(|v| {
                let mut access = DatabaseAccess::unknown();
                access.set_url(&v).map_or("is no URL".to_string(), |()| access.url())
            }),
            Role::DatabaseUrl => value.map(|v| {
                let mut access = DatabaseAccess::unknown();
                access.set_url(&v).map_or("is no URL".to_string(), |()| access.url())
            }),
            Role::DatabaseConnection => value.map(|v| connection::masked(&v, Secret::new("x").state())),
            Role::DatabasePassword | Role::Secret => value.map(|v| Secret::new(v).state().to_string()),
            _ => value,
        };
        self.values.push(ConfigValue {
            file: path.to_string(),
            key: setting.name.clone(),
            role: key.role,
            value: shown,
            line: setting.line,
            unknown: match &setting.expression {
                Expression::Environment(name) => Some(format!("comes from the environment variable {name}")),
                Expression::EnvironmentOr(name) => {
                    Some(format!("comes from the environment variable {name} where that is set"))
                }
                Expression::Unknown => Some("is computed by the program".into()),
                Expression::Literal | Expression::Computed { .. } => None,
            },
        });
    }
}

/// Chooses the roots that can be believed. What two paths agree on outweighs what one path suggests, and a folder right below `/`
/// is none: a log folder `/var/log` does not make `/var` a document root.
fn credible(roots: &[Root]) -> Vec<Root> {
    let votes = |root: &Root| roots.iter().filter(|other| *other == root).count();
    let most = roots.iter().map(votes).max().unwrap_or(0);
    let mut out: Vec<Root> = Vec::new();
    for root in roots {
        if root.segments().len() > 1 && (most == 1 || votes(root) > 1) && !out.contains(root) {
            out.push(root.clone());
        }
    }
    out.sort_by_key(|root| std::cmp::Reverse(votes(root)));
    out
}

/// Learns the root from a path that usually lies below it.
fn root_of(path: &str, key: &Key) -> Option<Root> {
    let normal = path.replace('\\', "/");
    let normal = normal.trim_end_matches('/');
    let above =
        key.below_root.iter().find_map(|below| normal.strip_suffix(below.as_str())?.strip_suffix('/'));
    Root::parse(above?).ok()
}
