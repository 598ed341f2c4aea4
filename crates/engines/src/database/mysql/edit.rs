//! Changes rows of MySQL and MariaDB where they lie.

use super::{connect, name, refused};
use crate::database::DatabaseError;
use crate::database::engine::RowEditor;
use crate::dump::dialect::Dialect;
use crate::dump::row_change::{ColumnChange, RowChange, RowFate};
use crate::place::DatabaseAccess;
use ::mysql::Conn;
use ::mysql::prelude::Queryable;
use std::collections::HashMap;

/// A connection that changes rows.
pub struct MysqlEditor {
    conn: Conn,
    /// Columns that the server would set to the time of the change, by table.
    timed: HashMap<String, Vec<String>>,
}

impl MysqlEditor {
    /// Connects, and reads values as a dump spells them.
    pub fn open(access: &DatabaseAccess) -> Result<Self, DatabaseError> {
        let mut editor = MysqlEditor { conn: connect(access)?, timed: HashMap::new() };
        for sql in [
            "SET NAMES utf8mb4",
            "SET time_zone = '+00:00'",
            "SET SESSION sql_mode = 'NO_AUTO_VALUE_ON_ZERO'",
            "SET SESSION foreign_key_checks = 0",
            "SET autocommit = 0",
        ] {
            editor.run(sql)?;
        }
        Ok(editor)
    }

    fn run(&mut self, sql: &str) -> Result<(), DatabaseError> {
        self.conn.query_drop(sql).map_err(|e| refused(e, 0, sql.as_bytes()))
    }

    /// Columns that keep their value only if they are told to.
    fn timed(&mut self, table: &str) -> Result<Vec<String>, DatabaseError> {
        if let Some(known) = self.timed.get(table) {
            return Ok(known.clone());
        }
        let sql = "SELECT COLUMN_NAME FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = ? AND EXTRA LIKE '%on update%'";
        let found: Vec<String> = self.conn.exec(sql, (table,)).map_err(|e| refused(e, 0, sql.as_bytes()))?;
        self.timed.insert(table.to_string(), found.clone());
        Ok(found)
    }
}

impl MysqlEditor {
    /// The statement of a change, in which columns keep their values that the server would set.
    fn statement(&mut self, change: &RowChange) -> Result<String, DatabaseError> {
        let sql = self.dialect().statement_of(change);
        if change.fate == RowFate::Comes {
            // A row that is there already stays, and is counted as none.
            return Ok(sql.replacen("INSERT INTO", "INSERT IGNORE INTO", 1));
        }
        if change.fate != RowFate::Changes {
            return Ok(sql);
        }
        let kept = |c: &String| !change.columns.iter().any(|ColumnChange { column, .. }| column == c);
        let kept: Vec<String> = self.timed(&change.table)?.into_iter().filter(kept).collect();
        let kept: String = kept.iter().map(|c| format!("{0} = {0}, ", name(c))).collect();
        Ok(sql.replacen(" SET ", &format!(" SET {kept}"), 1))
    }
}

impl RowEditor for MysqlEditor {
    fn dialect(&self) -> Dialect {
        Dialect::Mysql
    }

    fn change(&mut self, change: &RowChange) -> Result<u64, DatabaseError> {
        let sql = self.statement(change)?;
        self.run(&sql)?;
        Ok(self.conn.affected_rows())
    }

    fn changes(&mut self, changes: &[RowChange]) -> Result<Vec<u64>, DatabaseError> {
        // One answer for all of them: what takes time is to wait for each.
        let mut sql = String::new();
        for change in changes {
            sql.push_str(&self.statement(change)?);
            sql.push(';');
        }
        let wrong = |e| refused(e, 0, sql.as_bytes());
        let mut answer = self.conn.query_iter(&sql).map_err(wrong)?;
        let mut rows = Vec::with_capacity(changes.len());
        while let Some(mut one) = answer.iter() {
            rows.push(one.affected_rows());
            one.try_for_each(|row| row.map(drop)).map_err(wrong)?;
        }
        Ok(rows)
    }

    fn clear(&mut self, table: &str) -> Result<u64, DatabaseError> {
        self.run(&format!("DELETE FROM {}", name(table)))?;
        Ok(self.conn.affected_rows())
    }

    fn commit(&mut self) -> Result<(), DatabaseError> {
        self.run("COMMIT")
    }
}
