//! A site's files as the survey sees them: a folder on disk, or the held files of an archive.

use crate::archive::verify::Held;
use crate::limits::CONFIG_FILE;
use crate::system::glob;
use std::collections::BTreeSet;
use std::io::Read;
use std::os::unix::fs::PermissionsExt;
use std::path::PathBuf;

/// Read access to a few small files of a site.
pub trait SiteTree {
    /// Says whether a file or folder is there.
    fn exists(&self, path: &str) -> bool;
    /// Returns a small file's bytes.
    fn read(&self, path: &str) -> Option<Vec<u8>>;
    /// Returns the files and folders that a pattern names in which `*` stands for one name or part of one, sorted.
    fn matching(&self, pattern: &str) -> Vec<String>;
    /// Returns permission bits.
    fn mode(&self, path: &str) -> Option<u32>;
    /// Returns the absolute folder, if the site lies on disk.
    fn folder(&self) -> Option<PathBuf>;
}

/// A site in a folder.
#[derive(Debug, Clone)]
pub struct FolderTree(pub PathBuf);

impl SiteTree for FolderTree {
    fn exists(&self, path: &str) -> bool {
        self.0.join(path).exists()
    }

    fn read(&self, path: &str) -> Option<Vec<u8>> {
        let mut bytes = Vec::new();
        let file = crate::safe::open_file(&self.0.join(path)).ok()?;
        file.take(CONFIG_FILE.bytes()).read_to_end(&mut bytes).ok()?;
        Some(bytes)
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
                for entry in std::fs::read_dir(self.0.join(&above)).into_iter().flatten().flatten() {
                    let name = entry.file_name();
                    if wanted.is_match(&name) {
                        next.push(join(&name.to_string_lossy()));
                    }
                }
            }
            found = next;
        }
        found.sort();
        found
    }

    fn mode(&self, path: &str) -> Option<u32> {
        Some(std::fs::metadata(self.0.join(path)).ok()?.permissions().mode() & 0o7777)
    }

    fn folder(&self) -> Option<PathBuf> {
        Some(self.0.clone())
    }
}

impl FolderTree {
    /// The same for a pattern in which `**` stands for folders at any depth.
    fn matching_at_any_depth(&self, pattern: &str) -> Vec<String> {
        let Ok(wanted) = glob(pattern) else { return Vec::new() };
        // What stands before it is no reason to look everywhere.
        let fixed = pattern.split('/').take_while(|s| !s.contains('*')).collect::<Vec<_>>().join("/");
        let walk = walkdir::WalkDir::new(self.0.join(fixed)).min_depth(1).sort_by_file_name();
        let below = walk
            .into_iter()
            .flatten()
            .filter_map(|e| e.path().strip_prefix(&self.0).ok().map(|p| p.display().to_string()));
        below.filter(|path| wanted.is_match(path)).collect()
    }
}

/// A site in an archive, of which some files were held while it was read.
#[derive(Debug, Default)]
pub struct HeldTree {
    /// Files, with paths as in the archive.
    pub held: Held,
    /// Names of entries that were seen, as far as a definition may ask for them.
    pub seen: BTreeSet<String>,
    /// Folder of the archive in which the site lies, empty or with a trailing slash.
    pub prefix: String,
}

impl HeldTree {
    fn entry(&self, path: &str) -> crate::archive::entry_path::EntryPath {
        crate::archive::entry_path::EntryPath::trusted(&format!("{}{path}", self.prefix))
    }
}

impl SiteTree for HeldTree {
    fn exists(&self, path: &str) -> bool {
        self.seen.contains(&format!("{}{path}", self.prefix)) || self.held.contains_key(&self.entry(path))
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
