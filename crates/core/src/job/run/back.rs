//! Walks a run back that another one began: the record, and its undo.

use super::{LOGBOOK, Outside, World};
use crate::event::Silent;
use crate::logbook::{Outcome, Run};
use crate::place::DatabaseAccess;
use crate::undo;
use std::path::Path;

/// Undoes a run whose database is opened by `access`, if that is known already.
pub(super) fn take_back(
    run: &str,
    access: Option<&DatabaseAccess>,
    world: &dyn World,
) -> Result<(), Outside> {
    let folder = world.data()?.join(LOGBOOK);
    let undo = undo::plan(&folder, run)?;
    let find = |root: &Path| world.tree(root);
    let own = match access {
        Some(_) => None,
        None => undo.access_of_site(&find, &world.definitions()?),
    };
    let access = match (access.cloned().or(own), undo.database.as_deref()) {
        (_, None) => None,
        (Some(access), Some(_)) => Some(access),
        (None, Some(url)) => {
            let mut access = DatabaseAccess::parse(url)?;
            world.log_in(&mut access, None)?;
            Some(access)
        }
    };
    let ready = undo.ready(access.as_ref())?;
    let detail = serde_json::json!({ "undoes": run, "database": undo.database });
    let book = Run::begin(&folder, "undo", detail, world.clock())?;
    match ready.carry_out(&find, &book, &Silent) {
        Ok(done) => Ok(book.end(Outcome::Done, serde_json::to_value(&done).unwrap_or_default())?),
        Err(e) => {
            let _ = book.end(Outcome::Failed, serde_json::json!({ "error": e.to_string() }));
            Err(e.into())
        }
    }
}
