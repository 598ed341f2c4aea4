//! The core of Zealous Porter: it carries websites, and prints nothing.
//!
//! Data flows one way: job → survey → plan → run → logbook and report. `ARCHITECTURE.md` in the repository tells
//! which module does what. Results are return values; progress and findings go through [`event::Watch`].

pub mod contents;
pub mod copy_record;
pub mod job;
pub mod options;
pub mod pack;
pub mod password;
pub mod restore;
pub mod saved_logins;
pub mod select;
pub mod shell;
pub mod survey;
pub mod system;
pub mod table_scope;
pub mod trace;
pub mod undo;

use zporter_rewrite::threads;
pub use zporter_rewrite::{config, dump, edit, finding, limits, place, secret, text};

pub use zporter_engines::database;
use zporter_storage::pipe;
pub use zporter_storage::{archive, change_log, event, fsx, lock, logbook, spool, tree};
