//! What is to be gathered of a site, and why that may fail.

use crate::archive::write::WriteError;
use crate::database::DatabaseError;
use crate::dump::stream::{CutOff, DumpError};
use crate::fsx::PathError;
use crate::options::values::SwitchChoice;
use crate::place::Address;
use crate::select::Scope;
use crate::table_scope::TableScope;
use std::path::{Path, PathBuf};

/// Why a site could not be packed.
#[derive(Debug, thiserror::Error)]
pub enum PackError {
    /// The archive would lie in the site.
    #[error("the archive {0} would lie inside of the site, where a browser could fetch it")]
    InsideSite(PathBuf),
    /// The database could not be read.
    #[error("the site's database cannot be read")]
    Database(#[source] DatabaseError),
    /// There is neither a server nor a dump.
    #[error("cannot read the site's database: {0}")]
    NoDatabase(String),
    /// The dump ends in the middle of a statement.
    #[error("the dump {path} breaks off in line {}: {}", .cut.line, .cut.what)]
    CutOff {
        /// Dump.
        path: PathBuf,
        /// Where.
        cut: CutOff,
    },
    /// The dump holds more than one database.
    #[error("the dump {path} holds several databases: {}", .names.join(", "))]
    SeveralDatabases {
        /// Dump.
        path: PathBuf,
        /// Names.
        names: Vec<String>,
    },
    /// The dump cannot be read.
    #[error("the dump {path} cannot be used")]
    Dump {
        /// Dump.
        path: PathBuf,
        /// Cause.
        #[source]
        source: DumpError,
    },
    /// Writing failed.
    #[error(transparent)]
    Write(#[from] WriteError),
    /// Several hosts live on one code base and none was named.
    #[error("several hosts live on this code base: {}", .found.join(", "))]
    SeveralHosts {
        /// Their folders.
        found: Vec<String>,
    },
    /// What alone was asked for is not there.
    #[error("the site has no part, folder or file {0}")]
    NoSuchPart(PathBuf),
    /// A path failed.
    #[error(transparent)]
    Path(#[from] PathError),
}

/// What is gathered of a site, and what its head says.
#[derive(Debug, Clone)]
pub struct GatherOptions<'j> {
    /// Dump to take the database from, instead of the server.
    pub dump: Option<&'j Path>,
    /// What is copied.
    pub scope: Scope,
    /// What of which tables.
    pub tables: TableScope<'j>,
    /// Where the folder lies that belongs to the site outside of its root, if not where the config says.
    pub storage: Option<&'j Path>,
    /// Note for the head.
    pub note: &'j str,
    /// Time to write into the head, RFC 3339.
    pub packed_at: String,
    /// Name and version of the program.
    pub written_by: String,
    /// Base address, if the survey could not find it or found another.
    pub address: Option<&'j Address>,
    /// Switches that are set only while the site is read, in the states that they had before.
    pub former: &'j [SwitchChoice],
    /// Whether a host was named, where one code base serves several.
    pub host_named: bool,
}
