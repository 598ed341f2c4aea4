//! Changes rows of an SQLite file where they lie.

use super::{name, open, refused};
use crate::database::DatabaseError;
use crate::database::engine::RowEditor;
use crate::dump::dialect::Dialect;
use crate::dump::row_change::RowChange;
use crate::place::DatabaseAccess;
use rusqlite::{Connection, OpenFlags};

/// An open file whose rows are changed.
pub struct SqliteEditor(Connection);

impl SqliteEditor {
    /// Opens the file, which has to be there.
    pub fn open(access: &DatabaseAccess) -> Result<Self, DatabaseError> {
        let editor = SqliteEditor(open(access, OpenFlags::SQLITE_OPEN_READ_WRITE)?);
        editor.run("PRAGMA foreign_keys = OFF")?;
        editor.run("BEGIN IMMEDIATE")?;
        Ok(editor)
    }

    fn run(&self, sql: &str) -> Result<(), DatabaseError> {
        self.0.execute_batch(sql).map_err(|e| refused(e, 0, sql.as_bytes()))
    }

    /// Runs a statement and returns the number of rows that it met.
    fn rows(&self, sql: &str) -> Result<u64, DatabaseError> {
        let rows = self.0.execute(sql, []).map_err(|e| refused(e, 0, sql.as_bytes()))?;
        Ok(rows as u64)
    }
}

impl RowEditor for SqliteEditor {
    fn dialect(&self) -> Dialect {
        Dialect::Sqlite
    }

    fn change(&mut self, change: &RowChange) -> Result<u64, DatabaseError> {
        self.rows(&self.dialect().statement_of(change))
    }

    fn clear(&mut self, table: &str) -> Result<u64, DatabaseError> {
        self.rows(&format!("DELETE FROM {}", name(table)))
    }

    fn commit(&mut self) -> Result<(), DatabaseError> {
        self.run("COMMIT")?;
        self.run("BEGIN IMMEDIATE")
    }
}
