//! What stands in rows of a site that a definition names by their columns.

use crate::database::DatabaseError;
use crate::database::servers;
use crate::dump::inspect::Wanted;
use crate::place::DatabaseAccess;
use crate::system::copy::KeyValue;

/// Reads columns of the rows of a table, prefix included, that all of `only` tell.
pub fn row_values(
    access: &DatabaseAccess,
    table: String,
    columns: &[&str],
    only: &[KeyValue],
) -> Result<Vec<Vec<Option<String>>>, DatabaseError> {
    let all = columns.iter().copied().chain(only.iter().map(|o| o.column.as_str()));
    // The server sorts out by one of them, and the others are looked at here.
    let by_one = only.last().map(|o| (o.column.clone(), o.value.clone()));
    let wanted = Wanted { table, columns: all.map(str::to_string).collect(), only: by_one };
    let (_, found) = servers::facts(access, &[wanted], false)?;
    let meant = |mut row: Vec<Option<String>>| {
        let told = row.split_off(columns.len());
        let fits = only.iter().zip(&told).all(|(o, value)| value.as_deref() == Some(o.value.as_str()));
        fits.then_some(row)
    };
    Ok(found.rows.into_iter().next().unwrap_or_default().into_iter().filter_map(meant).collect())
}
