//! The mark of a table that is kept for an undo: its comment says so, and under which name. Another program's table with a name of the same
//! kind does not have it, and in a table that somebody renamed back by hand it names another one.

use super::aside::{base_tables, patiently};
use super::{name, quoted, rows};
use crate::database::DatabaseError;
use crate::database::snapshot::KEPT_AS;
use ::mysql::Conn;
use std::collections::{BTreeMap, BTreeSet};

/// Characters that a table's comment may have (MySQL and MariaDB manuals, "CREATE TABLE").
const LONGEST: usize = 2048;

/// What a mark adds before the table's own comment.
fn mark(table: &str) -> String {
    format!("{KEPT_AS}{table};")
}

fn comments(conn: &mut Conn) -> Result<BTreeMap<String, String>, DatabaseError> {
    let sql =
        "SELECT TABLE_NAME, TABLE_COMMENT FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE()";
    Ok(rows::<(String, String)>(conn, sql)?.into_iter().collect())
}

/// Names of the tables that say that they are kept.
pub(super) fn marked(conn: &mut Conn) -> Result<BTreeSet<String>, DatabaseError> {
    let found = comments(conn)?.into_iter().filter(|(table, comment)| comment.starts_with(&mark(table)));
    Ok(found.map(|(table, _)| table).collect())
}

/// Marks those of the tables that are there. A table without room for the mark, or whose kind takes no comment, goes without: the run's
/// record knows it as well.
pub(super) fn put<'n>(conn: &mut Conn, kept: impl Iterator<Item = &'n String>) -> Result<(), DatabaseError> {
    let (there, comments) = (base_tables(conn)?, comments(conn)?);
    for table in kept.filter(|table| there.contains(*table)) {
        let own = comments.get(table).map_or("", String::as_str);
        let marked = format!("{}{own}", mark(table));
        if marked.chars().count() <= LONGEST && !own.starts_with(&mark(table)) {
            let _ = patiently(conn, &format!("ALTER TABLE {} COMMENT = {}", name(table), quoted(&marked)));
        }
    }
    Ok(())
}

/// Gives those of the tables that have the mark their own comment again.
pub(super) fn take_off<'n>(
    conn: &mut Conn,
    kept: impl Iterator<Item = &'n String>,
) -> Result<(), DatabaseError> {
    let comments = comments(conn)?;
    for table in kept {
        if let Some(own) = comments.get(table).and_then(|comment| comment.strip_prefix(&mark(table))) {
            patiently(conn, &format!("ALTER TABLE {} COMMENT = {}", name(table), quoted(own)))?;
        }
    }
    Ok(())
}
