//! What an archive of a site would hold and weigh, reckoned from a survey before anything is written.

use super::select::{Part, Scope, Selection};
use super::{Survey, folders};
use crate::contents::TableScope;
use crate::dump::rules::Keep;
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
pub(super) fn packed(database_bytes: u64) -> u64 {
    database_bytes * DATABASE_PERCENT / 100
}

/// Reckons what packing a part of a site would write.
pub fn estimate(found: &Survey, scope: &Scope, tables: TableScope<'_>) -> Estimate {
    let definition = &found.recognised.definition;
    let mut out = Estimate::default();
    if scope.has_files() {
        let selection = Selection::of(definition, scope, &found.hosts.others())
            .beside_database(&found.site, found.config.database.as_ref());
        let walked = folders::walk(&*found.tree, definition, &selection, 1);
        (out.files, out.file_bytes, out.archive_bytes) = (walked.files, walked.bytes, walked.packed_bytes);
    }
    if scope.has(&Part::Database) {
        for table in &found.tables {
            match tables.keeps(definition, &found.config.table_prefix, &table.name) {
                Keep::All => {
                    out.tables += 1;
                    out.rows += table.rows;
                    out.database_bytes += table.bytes;
                }
                Keep::Structure => out.tables += 1,
                Keep::Nothing => {}
            }
        }
        out.archive_bytes += packed(out.database_bytes);
    }
    out
}
