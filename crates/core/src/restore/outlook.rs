//! What would become of the files of a copy that is brought up to date.

use schemars::JsonSchema;
use serde::Serialize;

/// What would become of the files of a copy. Paths are as they lie below the copy.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Outlook {
    /// Files that would be new.
    pub new: Vec<String>,
    /// Files that would be replaced, and kept for an undo.
    pub replaced: Vec<String>,
    /// Files that are no longer at the source.
    pub gone: Vec<String>,
    /// Whether those would be taken away.
    pub takes_away: bool,
    /// Files that are the same.
    pub unchanged: u64,
    /// Files of the copy's own settings, which stay.
    pub own: u64,
    /// Bytes that would be written.
    pub bytes: u64,
}
