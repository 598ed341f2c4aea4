//! The mark of a table that is kept for an undo: its comment says so, and under which name. Another program's table with a name of the same
//! kind does not have it, and in a table that somebody renamed back by hand it names another one.

use super::aside::patiently;
use super::{name, quoted, rows, run};
use crate::database::DatabaseError;
use crate::database::loading::AsideName;
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
    let sql = "SELECT TABLE_NAME, TABLE_COMMENT FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_TYPE = 'BASE TABLE'";
    Ok(rows::<(String, String)>(conn, sql)?.into_iter().collect())
}

/// Names of the tables that say that they are kept.
pub(super) fn marked(conn: &mut Conn) -> Result<BTreeSet<String>, DatabaseError> {
    let found = comments(conn)?.into_iter().filter(|(table, comment)| comment.starts_with(&mark(table)));
    Ok(found.map(|(table, _)| table).collect())
}

/// Marks the tables that lie aside, and gives those that came back their own comment again. A table without room for the mark, or whose
/// kind takes no comment, goes without: the run's record knows it as well.
pub(super) fn renew(conn: &mut Conn, names: &[AsideName]) -> Result<(), DatabaseError> {
    let comments = comments(conn)?;
    for AsideName { table, new, old } in names {
        let came_back = comments
            .get(table)
            .and_then(|comment| [new, old].into_iter().find_map(|aside| comment.strip_prefix(&mark(aside))));
        if let Some(own) = came_back {
            patiently(conn, &with_comment(table, own))?;
        }
        for aside in [new, old] {
            let Some(own) = comments.get(aside).filter(|own| !own.starts_with(&mark(aside))) else {
                continue;
            };
            let marked = format!("{}{own}", mark(aside));
            if marked.chars().count() <= LONGEST {
                let _ = run(conn, &with_comment(aside, &marked));
            }
        }
    }
    Ok(())
}

fn with_comment(table: &str, comment: &str) -> String {
    format!("ALTER TABLE {} COMMENT = {}", name(table), quoted(comment))
}
