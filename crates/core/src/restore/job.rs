//! What a restore or a clone is asked to do.

use super::owner::Ids;
use super::puts::Wishes;
use crate::cargo::Cargo;
use crate::dump::rules::Keep;
use crate::place::{Address, DatabaseAccess, Root};
use crate::survey::select::Scope;
use crate::text::needles::Asked;
use globset::GlobMatcher;
use std::path::PathBuf;
use std::sync::Arc;

/// What is asked for.
#[derive(Debug, Clone)]
pub struct RestoreJob {
    /// Archive, or the folder of the site that is cloned.
    pub archive: PathBuf,
    /// The site that is cloned, in place of an archive.
    pub cargo: Option<Arc<Cargo>>,
    /// Target folder.
    pub target: PathBuf,
    /// New base address.
    pub address: Address,
    /// New database access.
    pub database: Option<DatabaseAccess>,
    /// Connections over which the database is loaded.
    pub connections: usize,
    /// Collations, character sets and engines that the server does not know, and what they become.
    pub fit: Vec<(String, String)>,
    /// File for the rewritten dump, in place of a server.
    pub dump_to: Option<PathBuf>,
    /// Dump of a plain archive, if it does not lie in it.
    pub dump: Option<PathBuf>,
    /// Old base address, if the archive does not tell it or tells another.
    pub from_address: Option<Address>,
    /// Further old addresses.
    pub aliases: Vec<Address>,
    /// Further old roots.
    pub from_roots: Vec<Root>,
    /// Further sites of the same database that move as well: old and new address.
    pub further: Vec<(Address, Address)>,
    /// What of the archive is restored.
    pub scope: Scope,
    /// What of which tables is restored, where that is not what the definition says; the last one that fits counts.
    pub rows: Vec<(GlobMatcher, Keep)>,
    /// New table prefix.
    pub table_prefix: Option<String>,
    /// New place of the folder that belongs to the site outside of its root.
    pub storage: Option<PathBuf>,
    /// Folder of the host that is meant, where a plain archive holds several.
    pub host_folder: Option<String>,
    /// Restore as a further host of the code base in the target, in a folder of this name.
    pub host_as: Option<String>,
    /// Switches, names, and a way in.
    pub wishes: Wishes,
    /// Bring a copy that is there up to date, in place of making one.
    pub refresh: Option<Refresh>,
    /// Whether events of the database work as soon as they are loaded.
    pub events: bool,
    /// Who the copy's files belong to, if that was asked for.
    pub owner: Option<Ids>,
    /// What of the text is changed only when somebody asks for it.
    pub asked: Asked,
    /// Whether what is in the database makes room, and is kept.
    pub replace: bool,
    /// Whether what should not lie in a document root is removed.
    pub tidy: bool,
}

impl RestoreJob {
    /// Says whether a database that holds something is emptied.
    pub fn replaces(&self) -> bool {
        self.replace || self.refresh.is_some()
    }
}

/// How a copy is brought up to date.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Refresh {
    /// Whether files that are no longer at the source are taken away.
    pub delete_gone: bool,
}
