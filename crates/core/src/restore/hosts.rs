//! Several hosts on one code base: lets a new one find its folder, and lets one join the others.
//!
//! In a move the folder keeps its name, and the new host is mapped to it: by a line in the system's own map, or by a link where a
//! system has none. A host that joins others gets a folder of another name; whatever speaks of the folder follows it.

use super::RestoreError;
use crate::config::edit::FilePlan;
use crate::dump::rules::Start;
use crate::fsx::{AtPath, PathError};
use crate::limits::CONFIG_FILE;
use crate::place::{Address, PlaceError, Relocation, Root};
use crate::survey::hosts::{Hosts, folder_name};
use crate::system::schema::HostFolders;
use crate::tree::{Links, Tree, read_small, write_whole};
use std::path::{Path, PathBuf};

/// A host's folder on its way to another code base: where it is in the archive and where it goes, under the site.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Joining {
    /// Folder in the archive.
    pub old: PathBuf,
    /// Folder in the target.
    pub new: PathBuf,
    /// Folder below the site in which the web server begins.
    pub served_from: PathBuf,
}

impl Joining {
    /// Checks that a host can join the code base in the target in a folder of this name.
    pub fn check(hosts: &Hosts, tree: &dyn Tree, name: &str) -> Result<Self, RestoreError> {
        let wrong = |why: &str| Err(RestoreError::Joining { name: name.to_string(), why: why.to_string() });
        let (Some(h), Some(folder)) = (&hosts.definition.hosts, &hosts.folder) else {
            return wrong("this system has one site on its code base");
        };
        if name.is_empty() || name.contains(['/', '\0']) || name.starts_with('.') {
            return wrong("a folder's name is made of one word without slashes");
        }
        let target = tree.root();
        if !tree.is_folder(&target.join(&h.folder)) {
            return wrong("the target holds no code base of this system");
        }
        let above = Path::new(&h.folder);
        let served_from = PathBuf::from(&hosts.definition.served_from);
        let joining = Joining { old: above.join(folder), new: above.join(name), served_from };
        if tree.there(&target.join(&joining.new)).is_some() {
            return wrong("a folder of that name already exists");
        }
        Ok(joining)
    }

    /// Returns where a path of the archive goes.
    pub fn placed(&self, below: &Path) -> PathBuf {
        below.strip_prefix(&self.old).map_or(below.to_path_buf(), |rest| self.new.join(rest))
    }

    /// Lets what speaks of the folder in addresses and paths follow it.
    pub fn extend(&self, relocation: &mut Relocation) -> Result<(), PlaceError> {
        let (from, to) = (&relocation.from, &relocation.to);
        // Addresses begin in the document root, roots in the site's folder.
        let served =
            |folder: &Path| folder.strip_prefix(&self.served_from).unwrap_or(folder).display().to_string();
        let address = |base: &Address, folder: &Path| Address::parse(&format!("{base}/{}", served(folder)));
        let root = |base: &Root, folder: &Path| Root::parse(&format!("{base}/{}", folder.display()));
        let addresses = (address(&from.address, &self.old)?, address(&to.address, &self.new)?);
        let roots = (root(&from.root, &self.old)?, root(&to.root, &self.new)?);
        relocation.further.push(addresses);
        relocation.outside.push(roots);
        Ok(())
    }

    /// Lets the plans of its config files follow it.
    pub fn place(&self, files: &mut [FilePlan]) {
        for file in files {
            file.path = self.placed(Path::new(&file.path)).display().to_string();
        }
    }

    /// Returns how values begin that are paths relative to the site.
    pub fn starts(&self, hosts: &HostFolders, table_prefix: &str) -> Vec<Start> {
        let served =
            |folder: &Path| folder.strip_prefix(&self.served_from).unwrap_or(folder).display().to_string();
        let columns = hosts.paths.iter().map(|p| Start {
            table: format!("{table_prefix}{}", p.table),
            column: p.column.clone(),
            old: format!("{}/", served(&self.old)),
            new: format!("{}/", served(&self.new)),
            names: Vec::new(),
            tell_others: false,
            what: "path",
        });
        columns.collect()
    }
}

/// What is to be done so that a host finds its folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum HostMapping {
    /// A line of a PHP file: path under the site, and the line.
    Line {
        /// Path.
        path: String,
        /// Line.
        line: String,
    },
    /// A link: path under the site, and the folder beside it that it leads to.
    Link {
        /// Path.
        path: String,
        /// Folder.
        to: String,
    },
}

/// Returns the way of an address to a folder; nothing is needed for the folder that answers to every host, or to this one.
pub fn way(hosts: &HostFolders, folder: &str, address: &Address) -> Option<HostMapping> {
    let name = folder_name(address);
    let needed = hosts.map.as_ref().is_some_and(|map| map.needed);
    if folder == "default" || (name == folder && !needed) {
        return None;
    }
    Some(match &hosts.map {
        Some(map) => HostMapping::Line {
            path: map.path.clone(),
            line: format!("${}['{name}'] = '{folder}';", map.variable),
        },
        None => HostMapping::Link { path: format!("{}/{name}", hosts.folder), to: folder.to_string() },
    })
}

impl HostMapping {
    /// Makes the way in a restored site.
    pub fn make(&self, tree: &dyn Tree) -> Result<(), PathError> {
        match self {
            HostMapping::Line { path, line } => {
                let path = tree.root().join(path);
                let old = read_small(tree, &path, Links::Stay, CONFIG_FILE.bytes()).ok();
                let old = old.and_then(|o| String::from_utf8(o).ok()).unwrap_or_else(|| "<?php\n".into());
                let body = old.trim_end();
                let body = body.strip_suffix("?>").map_or(body, str::trim_end);
                write_whole(tree, &path, format!("{body}\n{line}\n").as_bytes(), None).at(&path)
            }
            HostMapping::Link { path, to } => {
                let path = tree.root().join(path);
                tree.link(&path, Path::new(to)).at(&path)
            }
        }
    }

    /// Returns the file or link that is written, under the target.
    pub fn path(&self) -> &str {
        match self {
            HostMapping::Line { path, .. } | HostMapping::Link { path, .. } => path,
        }
    }

    /// Tells it to people.
    pub fn describe(&self) -> String {
        match self {
            HostMapping::Line { path, line } => format!("{path}: {line}"),
            HostMapping::Link { path, to } => format!("{path} leads to {to}"),
        }
    }
}
