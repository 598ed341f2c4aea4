//! What is made of a tree's single steps: files that appear whole or not at all, folders with those above them, small files at once.

use super::{Links, LocalTree, NewFile, OpenFile, Properties, Tree};
use crate::fsx::{AtPath, CopyMethod, PathError, absolute, folder_of};
use crate::spool;
use std::io::{Error, Read, Result};
use std::path::{Path, PathBuf};

/// A file under a temporary name in the folder of one whose place it will take. What is dropped before is removed.
pub struct Temporary<'t> {
    tree: &'t dyn Tree,
    path: PathBuf,
    file: Option<Box<dyn NewFile>>,
    stays: bool,
}

impl<'t> Temporary<'t> {
    /// Makes one, for nobody else to read yet.
    pub fn beside(tree: &'t dyn Tree, path: &Path) -> Result<Self> {
        let folder = path.parent().unwrap_or(tree.root());
        let here = tree.is_here().then_some(folder);
        loop {
            let path = folder.join(spool::name(here));
            match tree.create(&path, 0o600) {
                Ok(file) => return Ok(Temporary { tree, path, file: Some(file), stays: false }),
                Err(e) if e.kind() == std::io::ErrorKind::AlreadyExists => {}
                Err(e) => return Err(e),
            }
        }
    }

    /// The file.
    pub fn file(&mut self) -> Result<&mut (dyn NewFile + 'static)> {
        self.file.as_deref_mut().ok_or_else(|| Error::other("the file is closed"))
    }

    /// Gives it its properties and its name.
    pub fn take_place(mut self, of: &Path, properties: &Properties, durable: bool) -> Result<()> {
        let file = self.file.take().ok_or_else(|| Error::other("the file is closed"))?;
        file.finish(properties, durable)?;
        rename_over(self.tree, &self.path, of)?;
        self.stays = true;
        Ok(())
    }
}

impl Drop for Temporary<'_> {
    fn drop(&mut self) {
        self.file = None;
        if !self.stays {
            let _ = self.tree.remove(&self.path);
        }
    }
}

/// Renames a file over another. Where a place cannot do that in one step, the other goes first.
fn rename_over(tree: &dyn Tree, from: &Path, to: &Path) -> Result<()> {
    if !tree.capabilities().replaces && tree.there(to).is_some() {
        tree.remove(to)?;
    }
    tree.rename(from, to)
}

/// Makes a link, in place of a file or link that is there.
pub fn put_link(tree: &dyn Tree, path: &Path, to: &Path) -> Result<()> {
    let folder = path.parent().unwrap_or(tree.root());
    let temporary = folder.join(spool::name(tree.is_here().then_some(folder)));
    tree.link(&temporary, to)?;
    rename_over(tree, &temporary, path).inspect_err(|_| drop(tree.remove(&temporary)))
}

/// Writes a file whole or not at all, in place of one or of a link that is there. Mode and, where allowed, owner of a file stay, unless a
/// mode is named; a read-only file is replaced.
pub fn write_whole(tree: &dyn Tree, path: &Path, bytes: &[u8], mode: Option<u32>) -> Result<()> {
    let folder = path.parent().unwrap_or(tree.root());
    let beside = tree.stat(folder, Links::Follow)?;
    if beside.mode & 0o200 != 0 || !tree.capabilities().modes {
        return replace(tree, path, bytes, mode);
    }
    // Some systems keep their config in a folder that nobody may write to: lifted for the write, and put back.
    let lifted = |mode| Properties { mode: Some(mode), ..Properties::default() };
    tree.set(folder, &lifted(beside.mode | 0o300))?;
    let replaced = replace(tree, path, bytes, mode);
    tree.set(folder, &lifted(beside.mode))?;
    replaced
}

fn replace(tree: &dyn Tree, path: &Path, bytes: &[u8], mode: Option<u32>) -> Result<()> {
    let folder = path.parent().unwrap_or(tree.root());
    let mut file = Temporary::beside(tree, path)?;
    file.file()?.write_all(bytes)?;
    // What a link leads to has its own owner and mode; a new file belongs to whom its folder belongs, as far as that can be given.
    let old = tree.there(path).filter(|m| m.is_file());
    let owner = old.map_or_else(|| tree.stat(folder, Links::Follow).ok(), Some).and_then(|m| m.owner);
    let _ = tree.set(&file.path, &Properties { owner, ..Properties::default() });
    let mode = mode.or(old.map(|m| m.mode)).or(Some(0o644));
    file.take_place(path, &Properties { mode, ..Properties::default() }, true)?;
    tree.sync(folder);
    Ok(())
}

/// Makes a folder of a host and those above it that are missing. `made` is told of each before it is made.
pub fn make_folders(tree: &dyn Tree, folder: &Path, made: &mut dyn FnMut(&Path) -> Result<()>) -> Result<()> {
    // Below the root a link that leads out is no folder; what lies above is the user's own.
    let below = |p: &Path| p.starts_with(tree.root()) && p != tree.root();
    let is_there = |p: &Path| if below(p) { tree.there(p).is_some() } else { tree.exists(p) };
    let above = folder.ancestors().take_while(|p| !p.as_os_str().is_empty() && !is_there(p));
    let missing: Vec<&Path> = above.collect();
    for folder in missing.into_iter().rev() {
        made(folder)?;
        let made = match below(folder) {
            true => tree.make_folder(folder),
            false => tree.beside(folder.parent().unwrap_or(folder)).make_folder(folder),
        };
        match made {
            Err(e) if e.kind() == std::io::ErrorKind::AlreadyExists => {}
            other => other?,
        }
    }
    Ok(())
}

/// Reads a file of at most so many bytes; of a longer one as many.
pub fn read_small(tree: &dyn Tree, path: &Path, links: Links, limit: u64) -> Result<Vec<u8>> {
    let mut bytes = Vec::new();
    tree.open(path, links)?.take(limit).read_to_end(&mut bytes)?;
    Ok(bytes)
}

/// Copies a file's content in the fastest way that both sides have, and returns its bytes. `expected` is how many there were a moment ago.
pub fn copy(
    method: &mut CopyMethod,
    from: &mut dyn OpenFile,
    to: &mut dyn NewFile,
    expected: u64,
) -> Result<u64> {
    match (from.handle(), to.handle()) {
        (Some(from), Some(to)) => method.copy(from, to, expected),
        _ => std::io::copy(from, to),
    }
}

/// Writes a file of this machine whole or not at all. Mode and, where allowed, owner of an existing file stay; a read-only file is
/// replaced and stays read-only.
pub fn write_atomically(path: &Path, bytes: &[u8]) -> std::result::Result<(), PathError> {
    let whole = absolute(path);
    let tree = LocalTree::at(folder_of(&whole));
    write_whole(&*tree, &whole, bytes, None).at(path)
}
