//! Where sites and archives lie, and what is remembered of the work on them: folders behind one trait, archives as blobs, the logbook, the
//! list of what a run changed, locks. Nothing here knows a database or a content system.

pub mod archive;
pub mod change_log;
pub mod event;
pub mod fsx;
pub mod lock;
pub mod logbook;
pub mod pipe;
pub mod spool;
pub mod tree;

use zporter_rewrite::{dump, finding, limits, place, threads};
