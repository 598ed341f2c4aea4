//! The small files of a site by which everything else is planned: settings, what tells the system, what the web server reads in whatever
//! folder. They stand first in an archive.

use super::SiteContents;
use crate::archive::entry_path::EntryPath;
use crate::archive::format::{FILES, Outline};
use crate::archive::verify::Held;
use crate::limits::CONFIG_FILE;
use crate::survey::site_files::{FolderFiles, SiteFiles};
use crate::system::Definition;
use crate::tree::Links;
use std::collections::BTreeSet;

/// What tells the folder of a project.
pub(crate) const PROJECT: &str = "composer.json";

/// Returns the paths that a definition asks for: markers, version files, config and text files; and what the web server reads in any
/// folder.
pub(crate) fn interesting(definition: &Definition) -> Vec<String> {
    let mut patterns: Vec<String> = Vec::new();
    patterns.extend(definition.recognise.iter().map(|m| m.path.clone()));
    patterns.extend(definition.version.iter().map(|v| v.path.clone()));
    patterns.extend(definition.config.iter().map(|c| c.path.clone()));
    patterns.extend(definition.text.iter().map(|t| t.path.clone()));
    if let Some(hosts) = &definition.hosts {
        patterns.push(format!("{}/*/{}", hosts.folder, hosts.holds));
    }
    patterns.extend(["**/.htaccess", "**/.user.ini", PROJECT].map(String::from));
    patterns.into_iter().map(|p| p.replace("{site}", "*")).collect()
}

/// What is known of a site's small files.
pub(crate) struct Small {
    /// Files, with paths as in an archive.
    pub(crate) held: Held,
    /// What else is there.
    pub(crate) seen: BTreeSet<String>,
    /// Whether some of them are links, or cannot be read.
    pub(crate) is_linked: bool,
    /// By which patterns they were chosen.
    pub(crate) patterns: Vec<String>,
}

impl SiteContents {
    /// Reads the small files, and those that `text` names.
    pub(crate) fn small_files(&self, text: &[String]) -> Small {
        let folder = FolderFiles(self.survey.tree.clone());
        let mut patterns = interesting(&self.survey.recognised.definition);
        patterns.extend(text.iter().cloned());
        let mut out = Small { held: Held::new(), seen: BTreeSet::new(), is_linked: false, patterns };
        let named = out.patterns.iter().flat_map(|pattern| folder.matching(pattern));
        let for_web_server = self.survey.for_web_server.iter().map(|p| p.display().to_string());
        let all: BTreeSet<String> = named.chain(for_web_server).filter(|p| self.carries(p)).collect();
        for below in all {
            let path = format!("{FILES}/{below}");
            let whole = self.survey.site.join(&below);
            let meta = self.survey.tree.stat(&whole, Links::Follow).ok();
            out.is_linked |= self.survey.tree.there(&whole).is_none_or(|m| !m.is_file() && !m.is_folder());
            let small = meta.filter(|m| m.is_file() && m.size <= CONFIG_FILE.bytes());
            match small.and_then(|m| Some((folder.read(&below)?, m.mode))) {
                Some(held) => {
                    out.held.insert(EntryPath::trusted(&path), held);
                }
                None => {
                    out.seen.insert(path);
                }
            }
        }
        out
    }

    /// What an archive of this tells first, with the paths of the files that have to follow; nothing where some are links, which nobody
    /// could read there, or where the address is not known, which the rows have to tell then.
    pub(crate) fn outline(&self) -> Option<(Outline, BTreeSet<EntryPath>)> {
        let small = self.small_files(&[]);
        if small.is_linked || !self.files || self.head.place.address.is_none() {
            return None;
        }
        let outline = Outline {
            files: small.held.len() as u64,
            patterns: small.patterns,
            seen: small.seen.into_iter().collect(),
            file_bytes: self.file_bytes(),
            tables: self.tables(),
            database_bytes: self.database_bytes(),
        };
        Some((outline, small.held.into_keys().collect()))
    }
}
