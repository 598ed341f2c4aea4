//! Restores an archive elsewhere: look, plan, then run. What a preview prints is what a run does.

mod copiers;
pub mod copy_settings;
mod difference;
pub mod edits;
mod guards;
pub mod hosts;
pub mod in_place;
pub mod job;
pub mod leftovers;
pub mod live;
mod locate;
mod old_place;
mod outlook;
pub mod overwrites;
pub mod owner;
mod ownership;
pub mod plan;
pub mod planning;
pub mod push;
pub mod refresh;
pub mod restored;
pub mod row_by_row;
mod rows;
pub mod run;
pub mod source;
pub mod stays_live;
pub mod target_tables;
pub mod tidy;
mod unpack;

use crate::archive::read::ReadError;
use crate::archive::verify::Damage;
use crate::database::DatabaseError;
use crate::dump::stream::DumpError;
use crate::fsx::PathError;
use crate::place::PlaceError;
use crate::survey::recognise::LookedFor;
use std::path::PathBuf;

/// Why a restore was refused or failed.
#[derive(Debug, thiserror::Error)]
pub enum RestoreError {
    /// The archive cannot be read.
    #[error(transparent)]
    Read(#[from] ReadError),
    /// The archive is damaged.
    #[error("{path} is damaged: {damage}")]
    Damaged {
        /// Archive.
        path: PathBuf,
        /// Damage.
        damage: Damage,
    },
    /// A plain archive without a site.
    #[error("{path} holds no site of a known system")]
    Unknown {
        /// Archive.
        path: PathBuf,
        /// What was looked for.
        looked_for: Vec<LookedFor>,
    },
    /// The definition of the archive's system is not known here.
    #[error("the archive holds a site of the system {0:?}, of which no definition is known")]
    NoDefinition(String),
    /// The target holds something.
    #[error("the target {path} is not empty: {}", .found.join(", "))]
    TargetInUse {
        /// Target.
        path: PathBuf,
        /// Some of what is there.
        found: Vec<String>,
    },
    /// The live site is not the one that a copy came from.
    #[error("{copy} cannot be pushed over {live}: {why}")]
    NotItsCopy {
        /// The copy.
        copy: PathBuf,
        /// The live site.
        live: PathBuf,
        /// Why not.
        why: String,
    },
    /// The folder holds another site than the one that would be brought back.
    #[error("{path} holds {found}, and not the site of this archive")]
    OtherSite {
        /// Folder.
        path: PathBuf,
        /// What is there.
        found: String,
    },
    /// There is no copy that could be brought up to date.
    #[error("{path} is no copy of this site: {why}")]
    NoCopy {
        /// Target.
        path: PathBuf,
        /// Why not.
        why: String,
    },
    /// The target database is the one that the site itself lives in.
    #[error("{url} is the database of the site that is cloned")]
    SourceDatabase {
        /// Database.
        url: String,
    },
    /// A clone would lie in its source, or the other way round.
    #[error("the target {target} and the site {site} are nested: one lies inside of the other")]
    TargetInSource {
        /// Target.
        target: PathBuf,
        /// Site.
        site: PathBuf,
    },
    /// The file for the dump is there already.
    #[error("{0} already exists")]
    FileInUse(PathBuf),
    /// The dump would lie in the site.
    #[error("{0} would lie inside of the site, where a browser could fetch it")]
    DumpInTarget(PathBuf),
    /// Not enough space.
    #[error("{path}: {needed} bytes are needed and {free} are free")]
    Space {
        /// Target.
        path: PathBuf,
        /// Bytes needed.
        needed: u64,
        /// Bytes free.
        free: u64,
    },
    /// The old address is not known.
    #[error("the old base address stands nowhere in the archive")]
    NoAddress {
        /// Hosts that the content names, with counts.
        candidates: Vec<(String, u64)>,
    },
    /// A database part is there, but nothing to load it into.
    #[error("the site has a database, and neither a new database nor a file for its dump is named")]
    NoDatabaseTarget,
    /// The database did not take part.
    #[error("the database could not be used")]
    Database(#[source] DatabaseError),
    /// The dump could not be rewritten.
    #[error("the dump {name} could not be rewritten")]
    Dump {
        /// Part or file.
        name: String,
        /// Cause.
        #[source]
        source: DumpError,
    },
    /// A config file cannot be edited.
    #[error("{path} cannot be edited: {why}")]
    Config {
        /// Path under the site.
        path: String,
        /// Why.
        why: String,
    },
    /// An entry of the archive cannot be unpacked.
    #[error("the entry {entry:?} cannot be unpacked: {why}")]
    Entry {
        /// Entry.
        entry: String,
        /// Why.
        why: String,
    },
    /// A switch has no such state.
    #[error("{name} cannot be {state:?}; it can be {states}")]
    Switch {
        /// Switch.
        name: String,
        /// What was asked for.
        state: String,
        /// What there is.
        states: String,
    },
    /// The administrator's password cannot be hashed.
    #[error(transparent)]
    Password(crate::password::HashError),
    /// The table prefix cannot be changed.
    #[error("the table prefix cannot be changed to {new:?}: {why}")]
    Prefix {
        /// The new one.
        new: String,
        /// Why.
        why: String,
    },
    /// Several hosts live on one code base.
    #[error("the archive holds several hosts on one code base: {}", .found.join(", "))]
    SeveralHosts {
        /// Their folders.
        found: Vec<String>,
    },
    /// A host cannot join the code base in the target.
    #[error("the host cannot join as {name:?}: {why}")]
    Joining {
        /// Folder it would get.
        name: String,
        /// Why not.
        why: String,
    },
    /// Such servers are not supported.
    #[error("a database on {0} cannot be loaded by this program")]
    NotLoadable(&'static str),
    /// A place is no place.
    #[error(transparent)]
    Place(#[from] PlaceError),
    /// A path failed.
    #[error(transparent)]
    Path(#[from] PathError),
}
