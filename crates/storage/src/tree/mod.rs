//! The folder of a site, wherever it lies: what survey, pack, restore, clone and undo do with files goes through a [`Tree`].
//!
//! [`LocalTree`] is a folder of this machine. An operation asks a tree what it can do ([`Capabilities`]), never what kind it is, so that a
//! place that knows no links or keeps no modes is served as well as it can be.

mod local;
mod noticing;
pub mod safe;
mod walk;
mod whole;

pub use local::LocalTree;
pub use noticing::{noticing, place_failed};
pub use walk::{Found, Walk};
pub use whole::{Temporary, copy, make_folders, put_link, read_small, write_atomically, write_whole};

use crate::fsx::PathError;
use std::ffi::OsString;
use std::fmt::Debug;
use std::fs::File;
use std::io::{Read, Result, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

/// A user and a group, by their numbers.
pub type Ids = (u32, u32);

/// What lies at a path.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FileKind {
    /// A plain file.
    File,
    /// A folder.
    Folder,
    /// A symbolic link.
    Link,
    /// A device, pipe or socket.
    Other,
}

/// What is known of a thing without opening it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Meta {
    /// Its kind.
    pub kind: FileKind,
    /// Bytes of a file.
    pub size: u64,
    /// Permission bits; where a place keeps none, the usual ones.
    pub mode: u32,
    /// When its content was changed last.
    pub modified: SystemTime,
    /// When anything of it was changed last, in nanoseconds since 1970, where the place tells.
    pub changed: Option<i128>,
    /// Whose it is, where the place tells.
    pub owner: Option<Ids>,
}

impl Meta {
    /// Says whether it is a plain file.
    pub fn is_file(&self) -> bool {
        self.kind == FileKind::File
    }

    /// Says whether it is a folder.
    pub fn is_folder(&self) -> bool {
        self.kind == FileKind::Folder
    }

    /// Says whether it is a link.
    pub fn is_link(&self) -> bool {
        self.kind == FileKind::Link
    }

    /// When anything of it was changed last, in nanoseconds since 1970, as well as the place tells: else when its content was.
    pub fn touched(&self) -> i128 {
        self.changed.unwrap_or_else(|| self.nanoseconds())
    }

    /// When its content was changed last, in whole seconds since 1970.
    pub fn seconds(&self) -> i64 {
        self.nanoseconds().div_euclid(1_000_000_000) as i64
    }

    /// The same in nanoseconds.
    pub fn nanoseconds(&self) -> i128 {
        match self.modified.duration_since(UNIX_EPOCH) {
            Ok(since) => since.as_nanos() as i128,
            Err(before) => -(before.duration().as_nanos() as i128),
        }
    }
}

/// The moment of a second since 1970.
pub fn at_second(seconds: i64) -> SystemTime {
    UNIX_EPOCH + Duration::from_secs(u64::try_from(seconds).unwrap_or(0))
}

/// A thing in a folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Listed {
    /// Its name.
    pub name: OsString,
    /// What it is; of a link, the link itself.
    pub meta: Meta,
}

/// What is meant where a path names a link.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Links {
    /// What it leads to, wherever on the host that is: as the site's own programs see it.
    Follow,
    /// The link itself. The path must lie below the root, and no link on the way may lead out of it.
    Stay,
}

/// What the times of files at a place are good for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Times {
    /// They are kept as they are set, in steps of so many seconds.
    Kept {
        /// Step.
        step: u32,
    },
    /// They cannot be set: a file has the time at which it was written.
    Written,
}

impl Times {
    /// Says whether a file of a copy may be that of a source with such a time; both in seconds since 1970.
    pub fn may_be(self, copy: i64, source: i64) -> bool {
        match self {
            Times::Kept { step } => {
                copy.div_euclid(step.max(1).into()) == source.div_euclid(step.max(1).into())
            }
            Times::Written => copy >= source,
        }
    }
}

/// What a place can do.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Capabilities {
    /// Whether links can be made.
    pub links: bool,
    /// Whether permission bits are kept.
    pub modes: bool,
    /// Whether things can be given to users, whose numbers mean the same as on this machine.
    pub owners: bool,
    /// Whether a rename takes the place of a file that is there, in one step.
    pub replaces: bool,
    /// What times are good for.
    pub times: Times,
}

/// What a thing is given; nothing stays as it is.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Properties {
    /// Permission bits.
    pub mode: Option<u32>,
    /// Time of the last change.
    pub modified: Option<SystemTime>,
    /// Whose it is.
    pub owner: Option<Ids>,
}

/// A file that is read.
pub trait OpenFile: Read + Send {
    /// What it is like.
    fn meta(&self) -> Result<Meta>;
    /// The system's own handle, where there is one: by it the kernel can copy.
    fn handle(&self) -> Option<&File> {
        None
    }
}

/// A file that is being made.
pub trait NewFile: Write + Send {
    /// The system's own handle, where there is one: by it the kernel can copy.
    fn handle(&self) -> Option<&File> {
        None
    }
    /// Gives it its properties, as far as the place knows them, and closes it. A `durable` one is on the disk then.
    fn finish(self: Box<Self>, properties: &Properties, durable: bool) -> Result<()>;
}

/// The files below a folder. Paths are whole, as they are on the host on which it lies.
pub trait Tree: Debug + Send + Sync {
    /// Name of the host on which it lies, empty for this machine. The same path on the same host is the same thing.
    fn host(&self) -> &str;
    /// The folder. It need not be there yet.
    fn root(&self) -> &Path;
    /// Another folder of the same host.
    fn beside(&self, root: &Path) -> Arc<dyn Tree>;
    /// What the place can do.
    fn capabilities(&self) -> Capabilities;
    /// Bytes that are free for what is written, where the place tells.
    fn free_space(&self) -> Option<u64>;

    /// What lies at a path.
    fn stat(&self, path: &Path, links: Links) -> Result<Meta>;
    /// What lies in a folder, in no order. Links on the way to it are followed.
    fn list(&self, folder: &Path) -> Result<Vec<Listed>>;
    /// Where a link leads, as it says.
    fn link_target(&self, path: &Path) -> Result<PathBuf>;
    /// The path without links.
    fn real(&self, path: &Path) -> Result<PathBuf>;
    /// Opens a plain file. What is none is refused, without waiting for anybody at its other end.
    fn open(&self, path: &Path, links: Links) -> Result<Box<dyn OpenFile>>;
    /// Says whether a file that is there may be read, where that is known before.
    fn may_read(&self, path: &Path) -> bool;

    /// Makes a folder; the one above is there. This and all that follows works below the root only, and never through a link that leads
    /// out of it.
    fn make_folder(&self, path: &Path) -> Result<()>;
    /// Makes a file that is not there yet.
    fn create(&self, path: &Path, mode: u32) -> Result<Box<dyn NewFile>>;
    /// Makes a link that is not there yet.
    fn link(&self, path: &Path, to: &Path) -> Result<()>;
    /// Gives a thing another name. One that is there makes room only where the place replaces.
    fn rename(&self, from: &Path, to: &Path) -> Result<()>;
    /// Takes a file or link away.
    fn remove(&self, path: &Path) -> Result<()>;
    /// Takes an empty folder away.
    fn remove_folder(&self, path: &Path) -> Result<()>;
    /// Gives a thing properties, as far as the place knows them; a link itself only an owner.
    fn set(&self, path: &Path, properties: &Properties) -> Result<()>;
    /// Makes renames in a folder durable, where the place can.
    fn sync(&self, folder: &Path);

    /// The first failure since the last question of this kind that was no answer, such as a lost connection, where the tree takes note of
    /// them ([`noticing`]).
    fn trouble(&self) -> Option<PathError> {
        None
    }
}

/// How the tree of a folder is found, by its path.
pub type FindTree<'f> = &'f (dyn Fn(&Path) -> Arc<dyn Tree> + Sync);

/// Where the content of an entry lies as a file.
#[derive(Debug, Clone, Copy)]
pub struct Origin<'a> {
    /// Tree.
    pub tree: &'a Arc<dyn Tree>,
    /// Path.
    pub path: &'a Path,
}

impl dyn Tree + '_ {
    /// Says whether it lies on this machine.
    pub fn is_here(&self) -> bool {
        self.host().is_empty()
    }

    /// Says whether something lies at a path, links followed.
    pub fn exists(&self, path: &Path) -> bool {
        self.stat(path, Links::Follow).is_ok()
    }

    /// Says whether a folder lies at a path, links followed.
    pub fn is_folder(&self, path: &Path) -> bool {
        self.stat(path, Links::Follow).is_ok_and(|m| m.is_folder())
    }

    /// What lies at a path below, links not followed; nothing if nothing does.
    pub fn there(&self, path: &Path) -> Option<Meta> {
        self.stat(path, Links::Stay).ok()
    }

    /// Walks over all that lies below a folder, sorted by name, no link followed.
    pub fn walk<'t>(&'t self, folder: &Path) -> Walk<'t> {
        Walk::below(self, folder)
    }

    /// Fails if there was trouble.
    pub fn untroubled(&self) -> std::result::Result<(), PathError> {
        self.trouble().map_or(Ok(()), Err)
    }

    /// Takes a folder away with all that is in it; links in it are taken away, not followed.
    pub fn remove_all(&self, folder: &Path) -> Result<()> {
        for listed in self.list(folder)? {
            let path = folder.join(&listed.name);
            match listed.meta.kind {
                FileKind::Folder => self.remove_all(&path)?,
                _ => self.remove(&path)?,
            }
        }
        self.remove_folder(folder)
    }
}
