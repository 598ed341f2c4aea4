//! Tries a database before work: does it answer, who is it, and what may the user do there.

use schemars::JsonSchema;
use serde::Serialize;

/// What a trial found.
#[derive(Debug, Default, Serialize, JsonSchema)]
pub struct Trial {
    /// Product and version.
    pub server: String,
    /// Whether the connection is encrypted.
    pub encrypted: bool,
    /// Tables and views in the database.
    pub tables: u64,
    /// What the user may do.
    pub rights: Vec<Right>,
}

/// Something that a user may or may not do.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Right {
    /// What.
    pub what: String,
    /// Whether it is granted.
    pub granted: bool,
}

impl Right {
    pub(super) fn new(what: &str, granted: bool) -> Self {
        Right { what: what.into(), granted }
    }
}
