//! Changes rows of PostgreSQL where they lie.

use super::{connect, name, refused, run};
use crate::database::DatabaseError;
use crate::database::engine::RowEditor;
use crate::dump::dialect::Dialect;
use crate::dump::row_change::RowChange;
use crate::place::DatabaseAccess;
use ::postgres::{Client, SimpleQueryMessage};

/// A connection that changes rows.
pub struct PostgresEditor(Client);

impl PostgresEditor {
    /// Connects, and reads values as a dump spells them.
    pub fn open(access: &DatabaseAccess) -> Result<Self, DatabaseError> {
        let mut client = connect(access)?;
        run(
            &mut client,
            "SET standard_conforming_strings = on; SET bytea_output = hex; SET datestyle = ISO; SET intervalstyle = postgres; SET extra_float_digits = 3; SET timezone = 'UTC'; BEGIN",
        )?;
        Ok(PostgresEditor(client))
    }

    /// Runs a statement and returns the number of rows that it met.
    fn rows(&mut self, sql: &str) -> Result<u64, DatabaseError> {
        let answer = self.0.simple_query(sql).map_err(|e| refused(e, 0, sql.as_bytes()))?;
        let rows = |message: &SimpleQueryMessage| match message {
            SimpleQueryMessage::CommandComplete(rows) => *rows,
            _ => 0,
        };
        Ok(answer.iter().map(rows).sum())
    }
}

impl RowEditor for PostgresEditor {
    fn dialect(&self) -> Dialect {
        Dialect::Postgres
    }

    fn change(&mut self, change: &RowChange) -> Result<u64, DatabaseError> {
        self.rows(&self.dialect().statement_of(change))
    }

    fn clear(&mut self, table: &str) -> Result<u64, DatabaseError> {
        self.rows(&format!("DELETE FROM public.{}", name(table)))
    }

    fn commit(&mut self) -> Result<(), DatabaseError> {
        run(&mut self.0, "COMMIT; BEGIN")
    }
}
