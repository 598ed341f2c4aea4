//! Which system runs in a site, and what its config files say, without executing anything.

use super::tree::SiteTree;
use crate::config::php::{self, Expression};
use crate::place::{DatabaseAccess, Root};
use crate::secret::Secret;
use crate::system::schema::{ConfigForm, Key, Role};
use crate::system::{Definition, Known};
use serde::Serialize;

/// A recognised system.
#[derive(Debug, Clone)]
pub struct Recognised {
    /// Its definition.
    pub definition: Definition,
    /// Name of the product: the system's, or that of one of its family.
    pub product: String,
    /// Its version, if a version file could be read.
    pub version: Option<String>,
}

/// What was looked for in vain, per system.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct LookedFor {
    /// System.
    pub system: String,
    /// Files, with the text that was expected in them.
    pub markers: Vec<String>,
}

/// Recognises the system of a site.
pub fn recognise(tree: &dyn SiteTree, known: &[Known]) -> Result<Recognised, Vec<LookedFor>> {
    for Known { definition, .. } in known {
        let fits = definition.recognise.iter().all(|m| match &m.contains {
            None => tree.exists(&m.path),
            Some(text) => {
                tree.read(&m.path).is_some_and(|b| memchr::memmem::find(&b, text.as_bytes()).is_some())
            }
        });
        if fits {
            let (product, version) = match version(tree, definition) {
                Some((product, version)) => (product, Some(version)),
                None => (definition.name.clone(), None),
            };
            return Ok(Recognised { definition: definition.clone(), product, version });
        }
    }
    Err(known
        .iter()
        .map(|k| LookedFor { system: k.definition.name.clone(), markers: markers(&k.definition) })
        .collect())
}

fn markers(definition: &Definition) -> Vec<String> {
    let shown = definition.recognise.iter().map(|m| match &m.contains {
        Some(text) => format!("{} with {text:?}", m.path),
        None => m.path.clone(),
    });
    shown.collect()
}

/// Returns the product and its version.
fn version(tree: &dyn SiteTree, definition: &Definition) -> Option<(String, String)> {
    definition.version.iter().find_map(|v| {
        let file = php::parse(&tree.read(&v.path)?, None).ok()?;
        let parts: Option<Vec<&str>> =
            v.keys.iter().map(|k| file.value(k).filter(|t| !t.is_empty())).collect();
        Some((v.product.clone().unwrap_or_else(|| definition.name.clone()), parts?.join(&v.join)))
    })
}

/// One value of a config file, safe to show.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
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
}

impl ConfigFacts {
    /// Returns the first known, non-empty value of a role.
    pub fn value(&self, role: Role) -> Option<&ConfigValue> {
        self.values.iter().find(|v| v.role == role && v.value.as_deref().is_some_and(|t| !t.is_empty()))
    }
}

/// Reads the config files of a recognised site.
pub fn config_facts(tree: &dyn SiteTree, definition: &Definition) -> ConfigFacts {
    let mut facts = ConfigFacts::default();
    let mut access = DatabaseAccess {
        host: "localhost".into(),
        port: None,
        socket: None,
        name: String::new(),
        user: String::new(),
        password: Secret::default(),
    };
    let folder = tree.folder().map(|f| f.display().to_string());
    for config in &definition.config {
        let Some(text) = tree.read(&config.path) else { continue };
        facts.files.push(config.path.clone());
        if config.form == ConfigForm::Htaccess {
            continue;
        }
        let Ok(file) = php::parse(&text, folder.as_deref()) else { continue };
        for key in &config.key {
            let Some(setting) = file.setting(&key.name) else { continue };
            let value = setting.value.clone();
            let raw = value.clone().unwrap_or_default();
            match key.role {
                Role::DatabaseHost => access.set_host_value(&raw),
                Role::DatabaseName => access.name.clone_from(&raw),
                Role::DatabaseUser => access.user.clone_from(&raw),
                Role::DatabasePassword => access.password = Secret::new(raw.clone()),
                Role::TablePrefix => facts.table_prefix.clone_from(&raw),
                Role::Path => facts.roots.extend(root_of(&raw, key)),
                _ => {}
            }
            let secret = matches!(key.role, Role::DatabasePassword | Role::Secret);
            facts.values.push(ConfigValue {
                file: config.path.clone(),
                key: key.name.clone(),
                role: key.role,
                value: value.map(|v| if secret { Secret::new(v).state().to_string() } else { v }),
                line: setting.line,
                unknown: match &setting.expression {
                    Expression::Environment(name) => {
                        Some(format!("comes from the environment variable {name}"))
                    }
                    Expression::Unknown => Some("is computed by the program".into()),
                    Expression::Literal | Expression::Computed { .. } => None,
                },
            });
        }
    }
    if !access.name.is_empty() {
        facts.database = Some(access);
    }
    facts.roots = credible(&facts.roots);
    facts
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
