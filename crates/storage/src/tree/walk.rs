//! A walk over all that lies below a folder: sorted by name, what is in a folder behind it, no link followed.

use super::{FileKind, Listed, Meta, Tree};
use crate::fsx::{AtPath, PathError};
use std::path::{Path, PathBuf};
use std::vec::IntoIter;

/// Something that a walk came to.
#[derive(Debug, Clone)]
pub struct Found {
    /// Its path.
    pub path: PathBuf,
    /// What it is.
    pub meta: Meta,
}

/// A walk. A folder that cannot be listed is an error behind the folder itself.
#[derive(Debug)]
pub struct Walk<'t> {
    tree: &'t dyn Tree,
    above: Vec<(PathBuf, IntoIter<Listed>)>,
    /// The folder that is gone into next.
    next: Option<PathBuf>,
    depth: usize,
}

impl<'t> Walk<'t> {
    /// Walks below a folder, which is not handed on itself.
    pub(super) fn below(tree: &'t dyn Tree, folder: &Path) -> Self {
        Walk { tree, above: Vec::new(), next: Some(folder.to_path_buf()), depth: usize::MAX }
    }

    /// Goes no deeper than so many names below the folder.
    pub fn to_depth(mut self, depth: usize) -> Self {
        self.depth = depth;
        self
    }

    /// Does not go into the folder that was handed on last.
    pub fn skip_folder(&mut self) {
        self.next = None;
    }
}

impl Iterator for Walk<'_> {
    type Item = Result<Found, PathError>;

    fn next(&mut self) -> Option<Self::Item> {
        if let Some(folder) = self.next.take().filter(|_| self.above.len() < self.depth) {
            match self.tree.list(&folder).at(&folder) {
                Ok(mut listed) => {
                    listed.sort_by(|a, b| a.name.cmp(&b.name));
                    self.above.push((folder, listed.into_iter()));
                }
                Err(e) => return Some(Err(e)),
            }
        }
        loop {
            let (folder, listed) = self.above.last_mut()?;
            match listed.next() {
                Some(Listed { name, meta }) => {
                    let path = folder.join(name);
                    if meta.kind == FileKind::Folder {
                        self.next = Some(path.clone());
                    }
                    return Some(Ok(Found { path, meta }));
                }
                None => drop(self.above.pop()),
            }
        }
    }
}
