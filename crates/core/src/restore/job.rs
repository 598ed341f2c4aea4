//! A restore or a clone that is ready to be planned: its options, and what the world added to them.

use super::in_place::Over;
use crate::contents::SiteContents;
use crate::options::CopyJob;
use crate::place::{Address, DatabaseAccess};
use crate::secret::Secret;
use crate::select::Scope;
use crate::survey::Survey;
use crate::table_scope::{TableScope, Whose};
use crate::tree::{Ids, Tree};
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// What of a site is changed where it lies.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Reach {
    /// All that speaks of its place.
    Whole,
    /// What is set, and nothing else.
    Settings,
}

/// What is asked for.
#[derive(Debug, Clone)]
pub struct RestoreJob {
    /// The options as they were given.
    pub options: CopyJob,
    /// The folder of the target.
    pub tree: Arc<dyn Tree>,
    /// The site that is cloned, in place of an archive.
    pub contents: Option<Arc<SiteContents>>,
    /// New base address: as given, or as the copy knows it.
    pub address: Address,
    /// New database access, with password.
    pub database: Option<DatabaseAccess>,
    /// Dump of a plain archive, if it does not lie in it.
    pub dump: Option<PathBuf>,
    /// What is restored.
    pub scope: Scope,
    /// Who the copy's files belong to, if that was asked for.
    pub owner: Option<Ids>,
    /// What is changed of a site where it lies; nothing is unpacked or loaded then.
    pub in_place: Option<Reach>,
    /// How files come to a site that is there, and is brought back.
    pub over: Option<Over>,
    /// The live site, of a copy that is pushed back over it.
    pub live: Option<Arc<Survey>>,
    /// Which tables are the site's.
    pub whose: Whose,
    /// New password of the administrator.
    pub admin_password: Option<Secret>,
    /// Whether an archive has to be known to be whole before anything is done.
    pub verify_first: bool,
}

impl RestoreJob {
    /// Says whether a database that holds something is emptied.
    pub fn replaces(&self) -> bool {
        self.options.empty_database || self.options.refresh || self.comes_back()
    }

    /// Says whether a site that is there is brought back, or a copy pushed over it.
    pub fn comes_back(&self) -> bool {
        self.options.in_place || self.options.push
    }

    /// The folder in which files are written: where the site lies, or beside it.
    pub fn folder(&self) -> &Path {
        match &self.over {
            Some(Over::Beside(folder)) => folder,
            _ => &self.options.target,
        }
    }

    /// What of which tables is restored.
    pub fn tables(&self) -> TableScope<'_> {
        TableScope {
            rows: &self.options.rows,
            light: self.options.light,
            taken: &self.options.tables,
            whose: &self.whose,
        }
    }

    /// Says whether something of the administrator's account changes.
    pub fn changes_admin(&self) -> bool {
        self.options.admin_email.is_some() || self.admin_password.is_some()
    }
}
