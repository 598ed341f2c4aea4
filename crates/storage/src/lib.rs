//! Where sites and archives lie, and what is remembered of the work on them: folders behind one trait, archives as blobs, the logbook, the
//! list of what a run changed, locks. Nothing here knows a database or a content system.
//!
//! The names at the root are what others build on, by purpose; the modules are what the sibling crates need.

pub mod archive;
pub mod change_log;
pub mod event;
pub mod fsx;
pub mod lock;
pub mod logbook;
pub mod path_text;
pub mod pipe;
pub mod spool;
pub mod tree;

pub use archive::blob::{Blob, BlobSink, LocalFile, Ranged, Straight};
pub use archive::container::Container;
pub use archive::entry_path::{EntryPath, PathProblem};
pub use archive::format::{Head, LeftOut};
pub use archive::read::{Entry, EntryKind, ReadError, entries};
pub use archive::verify::{Damage, Verdict, verify};
pub use archive::write::{ArchiveWriter, WriteError};
pub use change_log::{ChangeLog, FileChange, Undone};
pub use event::{Cancelled, Event, Findings, Silent, Watch};
pub use fsx::{AtPath, PathError};
pub use lock::{Lock, LockError};
pub use logbook::{Outcome, Run, StepKind, Summary};
pub use tree::{
    Capabilities, FileKind, Links, Listed, LocalTree, Meta, NewFile, OpenFile, Properties, Times, Tree, Walk,
};

use zporter_rewrite::{dump, finding, limits, place, threads};
