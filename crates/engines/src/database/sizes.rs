//! Sizes of a database's tables, and what a dump would weigh.

use super::DatabaseError;
use super::servers;
use super::snapshot::TableFacts;
use crate::place::DatabaseAccess;

/// Reads the sizes of all tables, the heaviest first, and the server's product and version.
pub fn sizes(access: &DatabaseAccess) -> Result<(Vec<TableFacts>, String), DatabaseError> {
    let mut snapshot = servers::snapshot(access)?;
    let mut tables = snapshot.tables()?;
    tables.sort_by(|a, b| b.bytes().cmp(&a.bytes()).then_with(|| a.name.cmp(&b.name)));
    Ok((tables, snapshot.server()?))
}
