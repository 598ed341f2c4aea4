//! A tree that takes note of trouble: of failures that are no answer. Whoever looks whether a file is there takes a lost connection for a
//! "no" otherwise, and a copy would silently hold less than the site.

use super::{Capabilities, Links, Listed, Meta, NewFile, OpenFile, Properties, Tree};
use crate::finding::{Code, Finding};
use crate::fsx::PathError;
use std::fs::File;
use std::io::{Error, ErrorKind, Read, Result};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

#[derive(Debug, Clone, Default)]
struct First(Arc<Mutex<Option<PathError>>>);

#[derive(Debug)]
struct Noticing {
    tree: Arc<dyn Tree>,
    first: First,
}

/// Lets a tree take note of the first trouble that it meets, for [`Tree::trouble`].
pub fn noticing(tree: Arc<dyn Tree>) -> Arc<dyn Tree> {
    Arc::new(Noticing { tree, first: First::default() })
}

/// Says whether a failure tells nothing of the thing itself: the way to it is broken.
fn is_trouble(error: &Error) -> bool {
    use ErrorKind::{
        BrokenPipe, ConnectionAborted, ConnectionRefused, ConnectionReset, HostUnreachable, NetworkDown,
        NetworkUnreachable, NotConnected, StaleNetworkFileHandle, TimedOut, UnexpectedEof,
    };
    matches!(
        error.kind(),
        BrokenPipe
            | ConnectionAborted
            | ConnectionRefused
            | ConnectionReset
            | HostUnreachable
            | NetworkDown
            | NetworkUnreachable
            | NotConnected
            | StaleNetworkFileHandle
            | TimedOut
            | UnexpectedEof
    )
}

impl First {
    fn of<T>(&self, path: &Path, result: Result<T>) -> Result<T> {
        result.inspect_err(|e| {
            if is_trouble(e) {
                // The error itself goes to whoever asked.
                let source = Error::new(e.kind(), e.to_string());
                let mut first = self.0.lock().unwrap_or_else(PoisonError::into_inner);
                first.get_or_insert_with(|| PathError { path: path.to_path_buf(), source });
            }
        })
    }
}

impl Tree for Noticing {
    fn host(&self) -> &str {
        self.tree.host()
    }
    fn root(&self) -> &Path {
        self.tree.root()
    }
    fn beside(&self, root: &Path) -> Arc<dyn Tree> {
        Arc::new(Noticing { tree: self.tree.beside(root), first: self.first.clone() })
    }
    fn capabilities(&self) -> Capabilities {
        self.tree.capabilities()
    }
    fn free_space(&self) -> Option<u64> {
        self.tree.free_space()
    }
    fn stat(&self, path: &Path, links: Links) -> Result<Meta> {
        self.first.of(path, self.tree.stat(path, links))
    }
    fn list(&self, folder: &Path) -> Result<Vec<Listed>> {
        self.first.of(folder, self.tree.list(folder))
    }
    fn link_target(&self, path: &Path) -> Result<PathBuf> {
        self.first.of(path, self.tree.link_target(path))
    }
    fn real(&self, path: &Path) -> Result<PathBuf> {
        self.first.of(path, self.tree.real(path))
    }
    fn open(&self, path: &Path, links: Links) -> Result<Box<dyn OpenFile>> {
        let file = self.first.of(path, self.tree.open(path, links))?;
        Ok(Box::new(Reading { file, path: path.to_path_buf(), first: self.first.clone() }))
    }
    fn may_read(&self, path: &Path) -> bool {
        self.tree.may_read(path)
    }
    fn make_folder(&self, path: &Path) -> Result<()> {
        self.first.of(path, self.tree.make_folder(path))
    }
    fn create(&self, path: &Path, mode: u32) -> Result<Box<dyn NewFile>> {
        self.first.of(path, self.tree.create(path, mode))
    }
    fn link(&self, path: &Path, to: &Path) -> Result<()> {
        self.first.of(path, self.tree.link(path, to))
    }
    fn rename(&self, from: &Path, to: &Path) -> Result<()> {
        self.first.of(to, self.tree.rename(from, to))
    }
    fn remove(&self, path: &Path) -> Result<()> {
        self.first.of(path, self.tree.remove(path))
    }
    fn remove_folder(&self, path: &Path) -> Result<()> {
        self.first.of(path, self.tree.remove_folder(path))
    }
    fn set(&self, path: &Path, properties: &Properties) -> Result<()> {
        self.first.of(path, self.tree.set(path, properties))
    }
    fn sync(&self, folder: &Path) {
        self.tree.sync(folder);
    }
    fn trouble(&self) -> Option<PathError> {
        self.first.0.lock().unwrap_or_else(PoisonError::into_inner).take()
    }
}

/// A file of such a tree.
struct Reading {
    file: Box<dyn OpenFile>,
    path: PathBuf,
    first: First,
}

impl Read for Reading {
    fn read(&mut self, buf: &mut [u8]) -> Result<usize> {
        self.first.of(&self.path, self.file.read(buf))
    }
}

impl OpenFile for Reading {
    fn meta(&self) -> Result<Meta> {
        self.first.of(&self.path, self.file.meta())
    }
    fn handle(&self) -> Option<&File> {
        self.file.handle()
    }
}

/// Says that a host failed on the way.
pub fn place_failed(trouble: PathError) -> Finding {
    let what =
        format!("the host failed while it was asked, and something may be missing: {}", trouble.source);
    Finding::at(Code::PlaceFailed, what, &trouble.path, "look whether it answers, and do it again")
}
