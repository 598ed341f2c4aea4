//! Several hosts on one code base: which folder belongs to which, and which one is meant.
//!
//! A definition names the folder that holds them ([`crate::system::schema::HostFolders`]). One of them at a time is surveyed, packed and
//! restored; the others are listed and left alone.

use super::recognise::config_facts;
use super::site_files::SiteFiles;
use crate::copy_record::{self, Record};
use crate::place::{Address, DatabaseAccess};
use crate::system::Definition;
use crate::system::schema::Role;
use crate::tree::Tree;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// One host's folder.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct HostFound {
    /// Its name.
    pub folder: String,
    /// Address that its config names, or the host that its name answers to.
    pub address: Option<String>,
    /// Database, as a URL without password.
    pub database: Option<String>,
    /// Table prefix.
    pub table_prefix: String,
    /// Tables that have a prefix of their own because several hosts share them, as table and prefix.
    pub shared: Vec<(String, String)>,
    /// Whether it is the one at hand.
    pub chosen: bool,
}

/// The definition for the folder that is meant, and all folders.
#[derive(Debug, Clone)]
pub struct Hosts {
    /// The definition with the folder in its paths.
    pub definition: Definition,
    /// The folder that is meant, if the system has such folders.
    pub folder: Option<String>,
    /// All of them.
    pub found: Vec<HostFound>,
    /// Folders of the site that are copies of it, or of another.
    pub copies: Vec<PathBuf>,
}

impl Hosts {
    /// Returns the folders that are not meant, under the site.
    pub fn others(&self) -> Vec<PathBuf> {
        let others = self.found.iter().filter(|h| !h.chosen);
        let folder = self.definition.hosts.as_ref().map(|h| PathBuf::from(&h.folder));
        let others = others.filter_map(|h| Some(folder.as_ref()?.join(&h.folder)));
        others.chain(self.copies.iter().cloned()).collect()
    }
}

/// Returns the prefixes of tables that copies in folders of a site have in the site's own database.
pub fn prefixes_of_copies(
    tree: &Arc<dyn Tree>,
    copies: &[PathBuf],
    database: &DatabaseAccess,
) -> Vec<String> {
    let records = copies.iter().filter_map(|copy| Record::read(&*tree.beside(&tree.root().join(copy))));
    // The same server goes by several names.
    let name = |url: &str| DatabaseAccess::parse(url).is_ok_and(|a| a.name == database.name);
    let here = records.filter(|record| record.database.as_deref().is_some_and(name));
    here.filter_map(|record| record.table_prefix).filter(|prefix| !prefix.is_empty()).collect()
}

/// Finds folders of a site that are copies which were made here.
pub fn copies(tree: &dyn SiteFiles) -> Vec<PathBuf> {
    let depths = ["*", "*/*", "*/*/*"].map(|above| format!("{above}/{}", copy_record::NAME));
    let found = depths.iter().flat_map(|pattern| tree.matching(pattern));
    found.filter_map(|path| Path::new(&path).parent().map(Path::to_path_buf)).collect()
}

/// Finds the folders, and chooses: the one asked for, else `default`, else the first. What was asked for in vain is returned.
pub fn choose(tree: &dyn SiteFiles, definition: &Definition, asked: Option<&str>) -> Result<Hosts, String> {
    let Some(hosts) = &definition.hosts else {
        return match asked {
            Some(name) => Err(name.to_string()),
            None => Ok(Hosts {
                definition: definition.clone(),
                folder: None,
                found: Vec::new(),
                copies: Vec::new(),
            }),
        };
    };
    let pattern = format!("{}/*/{}", hosts.folder, hosts.holds);
    let name = |path: &String| path.split('/').rev().nth(1).map(str::to_string);
    let names: Vec<String> = tree.matching(&pattern).iter().filter_map(name).collect();
    let chosen = match asked {
        Some(asked) => names.iter().find(|n| *n == asked).ok_or_else(|| asked.to_string())?.clone(),
        None => names
            .iter()
            .find(|n| *n == "default")
            .or(names.first())
            .cloned()
            .unwrap_or_else(|| "default".into()),
    };
    let found = names.iter().map(|name| {
        let facts = config_facts(tree, &definition.for_site(name));
        let named = || {
            let value = facts.value(Role::Address).or_else(|| facts.value(Role::HostPattern));
            let value = value.and_then(|v| v.value.clone());
            value.map(|v| v.trim_start_matches('^').trim_end_matches('$').replace('\\', ""))
        };
        HostFound {
            folder: name.clone(),
            address: named().or_else(|| (name != "default").then(|| name.clone())),
            database: facts.database.as_ref().map(|d| d.url()),
            table_prefix: facts.table_prefix,
            shared: facts.shared_tables,
            chosen: *name == chosen,
        }
    });
    Ok(Hosts {
        definition: definition.for_site(&chosen),
        found: found.collect(),
        folder: Some(chosen.clone()),
        copies: Vec::new(),
    })
}

/// Names the folder that would belong to an address: `8080.www.host.example.base`, the port only where it is not the usual one.
pub fn folder_name(address: &Address) -> String {
    let port = address.port().map(|p| format!("{p}.")).unwrap_or_default();
    format!("{port}{}{}", address.host(), address.base().replace('/', "."))
}
