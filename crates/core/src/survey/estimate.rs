//! What an archive of a site would hold and weigh, reckoned from a survey before anything is written.

use schemars::JsonSchema;
use serde::Serialize;

/// What an archive would hold.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Estimate {
    /// Files.
    pub files: u64,
    /// Their bytes.
    pub file_bytes: u64,
    /// Tables.
    pub tables: u64,
    /// Rows; an estimate of the server's if read from there.
    pub rows: u64,
    /// Bytes of the database: in the dump, or data and index on the server.
    pub database_bytes: u64,
    /// About how many bytes the archive would have.
    pub archive_bytes: u64,
}

/// About how much of a database's bytes an archive takes, in percent.
const DATABASE_PERCENT: u64 = 20;

/// About how many bytes of an archive so many bytes of a database take.
pub fn packed(database_bytes: u64) -> u64 {
    database_bytes * DATABASE_PERCENT / 100
}
