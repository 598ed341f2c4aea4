//! Entries that cannot all be there: a file where a folder is needed, names that no file system takes, the same path twice. Known before
//! the first byte is written.

use super::entry_path::EntryPath;
use std::collections::HashSet;
use std::hash::{BuildHasher, RandomState};

/// Longest name and longest path that Linux file systems take, in bytes. Source: `limits.h`, `NAME_MAX` and `PATH_MAX`.
const NAME: usize = 255;
const PATH: usize = 4095;

/// Looks at one entry after the other. Of each it keeps a number of eight bytes.
#[derive(Debug, Default)]
pub struct Clashes {
    files: HashSet<u64>,
    folders: HashSet<u64>,
    hasher: RandomState,
}

/// What is wrong with an entry beside the others.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Clash {
    /// It was there before. Of an archive made by hand the last one counts.
    Twice,
    /// It cannot be there.
    Impossible(String),
}

impl Clashes {
    /// Looks at the next entry.
    pub fn look(&mut self, path: &EntryPath, is_folder: bool) -> Option<Clash> {
        let bytes = path.bytes();
        if bytes.len() > PATH || bytes.split(|b| *b == b'/').any(|name| name.len() > NAME) {
            return Some(Clash::Impossible("its name is longer than file systems take".into()));
        }
        let hash = |bytes: &[u8]| self.hasher.hash_one(bytes);
        let above: Vec<u64> =
            bytes.iter().enumerate().filter(|(_, b)| **b == b'/').map(|(at, _)| hash(&bytes[..at])).collect();
        let own = hash(bytes);
        if above.iter().any(|folder| self.files.contains(folder)) {
            return Some(Clash::Impossible("it lies in what another entry has as a file".into()));
        }
        self.folders.extend(above);
        if is_folder {
            self.folders.insert(own);
            return self
                .files
                .contains(&own)
                .then(|| Clash::Impossible("another entry has it as a file".into()));
        }
        if self.folders.contains(&own) {
            return Some(Clash::Impossible("another entry has it as a folder".into()));
        }
        (!self.files.insert(own)).then_some(Clash::Twice)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_cannot_be_together_is_told() {
        let long = "n".repeat(300);
        for (paths, clash) in [
            (&["files/x", "files/x/y"][..], true),
            (&["files/x/y", "files/x"], true),
            (&["files/x/", "files/x"], true),
            (&["files/x", "files/y", "files/xy/z"], false),
            (&["files/x/", "files/x/y", "files/x/"], false),
            (&["files/x", "files/x"], true),
            (&[&long], true),
        ] {
            let mut clashes = Clashes::default();
            let found = paths.iter().find_map(|p| {
                let path = EntryPath::check(p.trim_end_matches('/').as_bytes()).unwrap().unwrap();
                clashes.look(&path, p.ends_with('/'))
            });
            assert_eq!(found.is_some(), clash, "{paths:?}");
        }
    }
}
