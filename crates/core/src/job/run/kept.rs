//! What runs of this program keep in a database until they are undone or forgotten: known by their records and by the mark that it bears,
//! never by the names alone.

use super::{LOGBOOK, RunError, World};
use crate::database::servers;
use crate::logbook;
use crate::place::DatabaseAccess;
use crate::restore::in_place::Exchange;
use std::collections::BTreeSet;

/// Commands that exchange tables.
const EXCHANGE: [&str; 2] = ["restore", "clone"];

/// Names of tables, and of schemas, that are kept in a database that is written, by record and mark.
pub(super) fn tables(
    world: &dyn World,
    database: Option<&DatabaseAccess>,
) -> Result<BTreeSet<String>, RunError> {
    let mut out = recorded(world, database)?;
    // A server that does not answer is refused where it is needed.
    if let Some(Ok(marked)) = database.map(servers::kept) {
        out.extend(marked);
    }
    Ok(out)
}

/// The same by record alone: a survey sees the marks itself.
pub(super) fn recorded(
    world: &dyn World,
    database: Option<&DatabaseAccess>,
) -> Result<BTreeSet<String>, RunError> {
    let mut out = BTreeSet::new();
    let Some(database) = database else { return Ok(out) };
    let folder = world.data()?.join(LOGBOOK);
    for run in logbook::runs(&folder).into_iter().filter(|run| EXCHANGE.contains(&run.command.as_str())) {
        let exchange = logbook::read(&folder, &run.run).and_then(|lines| Exchange::of(&lines));
        let Some(Exchange { database: Some(url), tables, .. }) = exchange else { continue };
        // The same server goes by several names.
        if !DatabaseAccess::parse(&url).is_ok_and(|access| access.name == database.name) {
            continue;
        }
        for name in tables.into_iter().flat_map(|aside| [aside.new, aside.old]) {
            // Where tables lie aside in a schema of their own, their names count them.
            out.insert(name.trim_end_matches(|c: char| c.is_ascii_digit()).to_string());
            out.insert(name);
        }
    }
    Ok(out)
}
