//! One file per command: its arguments, its run, its output.

pub mod clone;
pub mod completions;
pub mod database;
pub mod demo;
pub mod logbook;
pub mod pack;
pub mod prove;
pub mod readdress;
pub mod report;
pub mod restore;
pub mod survey;
pub mod systems;
pub mod trace;
pub mod undo;
