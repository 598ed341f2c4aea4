//! A site's small files as the survey sees them: those of a folder, or what was held of an archive.

use crate::archive::verify::Held;
use crate::limits::CONFIG_FILE;
use crate::system::glob;
use crate::tree::{Links, Tree, read_small};
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Read access to a few small files of a site.
pub trait SiteFiles {
    /// Says whether a file or folder is there.
    fn exists(&self, path: &str) -> bool;
    /// Returns a small file's bytes.
    fn read(&self, path: &str) -> Option<Vec<u8>>;
    /// Returns the files and folders that a pattern names in which `*` stands for one name or part of one, sorted.
    fn matching(&self, pattern: &str) -> Vec<String>;
    /// Returns permission bits.
    fn mode(&self, path: &str) -> Option<u32>;
    /// Returns the folder in which the site lies, if it is in none of an archive.
    fn folder(&self) -> Option<PathBuf>;
}

/// A site in a folder.
#[derive(Debug, Clone)]
pub struct FolderFiles(pub Arc<dyn Tree>);

impl FolderFiles {
    fn at(&self, path: &str) -> PathBuf {
        self.0.root().join(path)
    }
}

impl SiteFiles for FolderFiles {
    fn exists(&self, path: &str) -> bool {
        self.0.exists(&self.at(path))
    }

    fn read(&self, path: &str) -> Option<Vec<u8>> {
        read_small(&*self.0, &self.at(path), Links::Follow, CONFIG_FILE.bytes()).ok()
    }

    fn matching(&self, pattern: &str) -> Vec<String> {
        if pattern.split('/').any(|segment| segment == "**") {
            return self.matching_at_any_depth(pattern);
        }
        let mut found = vec![String::new()];
        for segment in pattern.split('/') {
            let Ok(wanted) = glob(segment) else { return Vec::new() };
            let mut next = Vec::new();
            for above in found {
                let join =
                    |name: &str| if above.is_empty() { name.to_string() } else { format!("{above}/{name}") };
                if !segment.contains('*') {
                    next.extend(Some(join(segment)).filter(|path| self.exists(path)));
                    continue;
                }
                for listed in self.0.list(&self.at(&above)).into_iter().flatten() {
                    if wanted.is_match(&listed.name) {
                        next.push(join(&listed.name.to_string_lossy()));
                    }
                }
            }
            found = next;
        }
        found.sort();
        found
    }

    fn mode(&self, path: &str) -> Option<u32> {
        Some(self.0.stat(&self.at(path), Links::Follow).ok()?.mode)
    }

    fn folder(&self) -> Option<PathBuf> {
        Some(self.0.root().to_path_buf())
    }
}

impl FolderFiles {
    /// The same for a pattern in which `**` stands for folders at any depth.
    fn matching_at_any_depth(&self, pattern: &str) -> Vec<String> {
        let Ok(wanted) = glob(pattern) else { return Vec::new() };
        // What stands before it is no reason to look everywhere.
        let fixed = pattern.split('/').take_while(|s| !s.contains('*')).collect::<Vec<_>>().join("/");
        let below = |path: &Path| path.strip_prefix(self.0.root()).ok().map(|p| p.display().to_string());
        let found = self.0.walk(&self.at(&fixed)).flatten().filter_map(|found| below(&found.path));
        found.filter(|path| wanted.is_match(path)).collect()
    }
}

/// A site in an archive, of which some files were held while it was read.
#[derive(Debug, Default)]
pub struct HeldFiles {
    /// Files, with paths as in the archive.
    pub held: Held,
    /// Names of entries that were seen, as far as a definition may ask for them.
    pub seen: BTreeSet<String>,
    /// Folder of the archive in which the site lies, empty or with a trailing slash.
    pub prefix: String,
}

impl HeldFiles {
    fn entry(&self, path: &str) -> crate::archive::entry_path::EntryPath {
        crate::archive::entry_path::EntryPath::trusted(&format!("{}{path}", self.prefix))
    }
}

impl SiteFiles for HeldFiles {
    fn exists(&self, path: &str) -> bool {
        let named = format!("{}{path}", self.prefix);
        let below = format!("{named}/");
        // A folder may be known only by what lies in it.
        self.seen
            .range(named.clone()..)
            .take_while(|p| p.starts_with(&named))
            .any(|p| *p == named || p.starts_with(&below))
            || self.held.contains_key(&self.entry(path))
            || self.held.keys().any(|k| k.shown().starts_with(&below))
    }

    fn read(&self, path: &str) -> Option<Vec<u8>> {
        self.held.get(&self.entry(path)).map(|(bytes, _)| bytes.clone())
    }

    fn matching(&self, pattern: &str) -> Vec<String> {
        let Ok(wanted) = glob(pattern) else { return Vec::new() };
        let held = self.held.keys().map(|k| k.shown());
        let below = held
            .chain(self.seen.iter().cloned())
            .filter_map(|p| Some(p.strip_prefix(&self.prefix)?.to_string()));
        let found: BTreeSet<String> = below.filter(|p| wanted.is_match(p)).collect();
        found.into_iter().collect()
    }

    fn mode(&self, path: &str) -> Option<u32> {
        self.held.get(&self.entry(path)).map(|(_, mode)| *mode)
    }

    fn folder(&self) -> Option<PathBuf> {
        None
    }
}
