//! The core of Zealous Porter: it carries websites, and prints nothing.
//!
//! Data flows one way: job → survey → plan → run → logbook and report. `ARCHITECTURE.md` in the repository tells
//! which module does what. Results are return values; progress and findings go through [`event::Watch`].

pub mod archive;
pub mod change_log;
pub mod contents;
pub mod database;
pub mod event;
pub mod fsx;
pub mod job;
pub mod lock;
pub mod logbook;
pub mod pack;
pub mod password;
mod pipe;
pub mod restore;
pub mod saved_logins;
pub mod shell;
pub mod split;
pub mod spool;
pub mod survey;
pub mod system;
pub mod trace;
pub mod tree;
pub mod undo;

pub use zporter_rewrite::{config, dump, edit, finding, limits, place, secret, text};
use zporter_rewrite::{threads, vet};
