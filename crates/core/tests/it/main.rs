//! The core through its public face: dumps, archives, files, records. No binary, no server.

#![allow(clippy::unwrap_used, reason = "a failing unwrap is a failing test")]
#![allow(clippy::disallowed_methods, reason = "tests write their own files")]

mod archives;
mod blobs;
mod config_edits;
mod configs;
mod dumps;
mod going_back;
mod leftovers;
mod memory;
mod packed;
mod realities;
mod records;
mod test_support;
mod trees;
