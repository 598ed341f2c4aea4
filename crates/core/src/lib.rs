//! The core of Zealous Porter: it carries websites, and prints nothing.
//!
//! Data flows one way: job → survey → plan → run → logbook and report. `ARCHITECTURE.md` in the repository tells
//! which module does what. Results are return values; progress and findings go through [`event::Watch`].
//!
//! The names at the root are what others build on, by purpose; the modules are what the program and the tests need.

pub mod contents;
pub mod copy_record;
pub mod diagnose;
pub mod job;
mod machine;
pub mod options;
mod pack;
mod password;
pub mod restore;
pub mod saved_logins;
pub mod select;
pub mod shell;
pub mod survey;
pub mod system;
mod table_scope;
pub mod trace;
pub mod undo;
pub mod visit;

pub use contents::{PackError, SiteContents};
pub use job::run::{Copied, Done, Failure, How, RunError, World, run};
pub use job::{Job, JobError, Kind};
pub use options::{CopyJob, CreateJob, DumpJob, LoadJob, PackJob, ReaddressJob};
pub use restore::RestoreError;
pub use restore::plan::RestorePlan;
pub use restore::restored::Restored;
pub use survey::{Survey, SurveyError, SurveyJob, survey};
pub use system::{Definition, DefinitionError, Known};
pub use trace::{TraceError, Traced, Tracer};
pub use undo::{Undo, UndoError};

use zporter_rewrite::threads;
pub use zporter_rewrite::{config, dump, edit, finding, limits, place, secret, text};

pub use zporter_engines::database;
use zporter_storage::pipe;
pub use zporter_storage::{archive, change_log, event, fsx, lock, logbook, path_text, spool, tree};
