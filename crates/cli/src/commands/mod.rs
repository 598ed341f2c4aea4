//! One file per command, and one for each kind of job: what came of the work becomes a report.

pub mod completions;
pub mod copies;
pub mod database;
pub mod demo;
pub mod diagnose;
pub mod jobs;
pub mod live;
pub mod logbook;
pub mod manual;
pub mod packs;
pub mod rewritten;
pub mod schema;
pub mod survey;
pub mod systems;
pub mod trace;
pub mod undo;
pub mod verify;
pub mod visit;
mod weights;
