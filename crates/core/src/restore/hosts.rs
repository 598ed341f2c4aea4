//! Lets a new host find its folder, where one code base serves several.
//!
//! The folder keeps its name, for paths below it stand in the database. The new host is mapped to it: by a line in the system's own map,
//! or by a link where a line has none.

use crate::fsx::{AtPath, PathError, write_atomically};
use crate::place::Address;
use crate::survey::hosts::folder_name;
use crate::system::schema::HostFolders;
use std::fs;
use std::path::Path;

/// What is to be done so that a host finds its folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum HostWay {
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
pub fn way(hosts: &HostFolders, folder: &str, address: &Address) -> Option<HostWay> {
    let name = folder_name(address);
    if folder == "default" || name == folder {
        return None;
    }
    Some(match &hosts.map {
        Some(map) => HostWay::Line {
            path: map.path.clone(),
            line: format!("${}['{name}'] = '{folder}';", map.variable),
        },
        None => HostWay::Link { path: format!("{}/{name}", hosts.folder), to: folder.to_string() },
    })
}

impl HostWay {
    /// Makes the way in a restored site.
    pub fn make(&self, target: &Path) -> Result<(), PathError> {
        match self {
            HostWay::Line { path, line } => {
                let path = target.join(path);
                let old = fs::read_to_string(&path).unwrap_or_else(|_| "<?php\n".into());
                let body = old.trim_end();
                let body = body.strip_suffix("?>").map_or(body, str::trim_end);
                write_atomically(&path, format!("{body}\n{line}\n").as_bytes())
            }
            HostWay::Link { path, to } => {
                let path = target.join(path);
                std::os::unix::fs::symlink(to, &path).at(&path)
            }
        }
    }

    /// Tells it to people.
    pub fn told(&self) -> String {
        match self {
            HostWay::Line { path, line } => format!("{path}: {line}"),
            HostWay::Link { path, to } => format!("{path} leads to {to}"),
        }
    }
}
