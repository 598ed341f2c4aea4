//! The core of Zealous Porter: it carries websites, and prints nothing.
//!
//! Data flows one way: job → survey → plan → run → logbook and report. `ARCHITECTURE.md` in the repository tells
//! which module does what. Results are return values; progress and findings go through [`event::Watch`].

pub mod archive;
pub mod change_log;
pub mod config;
pub mod contents;
pub mod database;
pub mod dump;
pub mod edit;
pub mod event;
pub mod finding;
pub mod fsx;
pub mod job;
mod lanes;
pub mod limits;
pub mod lock;
pub mod logbook;
pub mod pack;
pub mod password;
mod pipe;
pub mod place;
pub mod restore;
pub mod safe;
pub mod saved_logins;
pub mod secret;
pub mod shell;
pub mod spool;
pub mod survey;
pub mod system;
pub mod text;
mod threads;
pub mod trace;
pub mod undo;
mod vet;
