//! What a kind of server can be asked to do, implemented in each engine's own folder. Nothing else knows one engine from another; what holds
//! without asking a server stands in [`crate::place::EngineFacts`].

use super::create::{CreatePlan, Created};
use super::loading::Loading;
use super::snapshot::Snapshot;
use super::trial::Trial;
use super::{DatabaseError, Size};
use crate::dump::dialect::Dialect;
use crate::dump::inspect::{Inspection, Wanted};
use crate::dump::row_change::RowChange;
use crate::place::DatabaseAccess;
use std::collections::BTreeSet;

/// Changes rows where they lie, in transactions that its caller ends.
pub trait RowEditor: Send {
    /// How its statements are spelled.
    fn dialect(&self) -> Dialect;
    /// Makes a change. Returns the number of rows that were changed: none if somebody changed them meanwhile.
    fn change(&mut self, change: &RowChange) -> Result<u64, DatabaseError>;
    /// Makes several changes, in their order. Returns the number of rows of each.
    fn changes(&mut self, changes: &[RowChange]) -> Result<Vec<u64>, DatabaseError> {
        changes.iter().map(|change| self.change(change)).collect()
    }
    /// Takes all rows of a table away. Returns how many there were.
    fn clear(&mut self, table: &str) -> Result<u64, DatabaseError>;
    /// Ends the transaction: from now on everybody sees what was changed.
    fn commit(&mut self) -> Result<(), DatabaseError>;
}

/// A kind of server at work.
pub trait Server: Sync {
    /// Opens one consistent view of a database.
    fn snapshot(&self, access: &DatabaseAccess) -> Result<Box<dyn Snapshot>, DatabaseError>;
    /// Opens a database to load into it.
    fn loader(&self, access: &DatabaseAccess) -> Result<Box<dyn Loading>, DatabaseError>;
    /// Counts the rows of a table whose column is above a value, and returns the largest value.
    fn count_above(
        &self,
        access: &DatabaseAccess,
        table: &str,
        column: &str,
        above: Option<&str>,
    ) -> Result<(u64, Option<String>), DatabaseError>;
    /// Tells which tables the server itself calls damaged, and what it says of them.
    fn damaged(&self, _access: &DatabaseAccess) -> Result<Vec<(String, String)>, DatabaseError> {
        Ok(Vec::new())
    }
    /// Names of tables, and of schemas, that bear the mark of what a run keeps for its undo ([`KEPT_AS`](super::snapshot::KEPT_AS)).
    fn kept(&self, access: &DatabaseAccess) -> Result<BTreeSet<String>, DatabaseError>;
    /// Opens a database to change rows where they lie.
    fn editor(&self, access: &DatabaseAccess) -> Result<Box<dyn RowEditor>, DatabaseError>;
    /// Reads table sizes and the rows that somebody wants.
    fn facts(
        &self,
        access: &DatabaseAccess,
        wanted: &[Wanted],
    ) -> Result<(Vec<Size>, Inspection), DatabaseError>;
    /// What tells one database from another, by whatever name it is reached: a text, and when the server was started.
    fn identity(&self, access: &DatabaseAccess) -> Result<(String, u64), DatabaseError>;
    /// Tries a log-in and its rights.
    fn trial(&self, access: &DatabaseAccess) -> Result<Trial, DatabaseError>;
    /// Makes a database with a user and rights.
    fn create(&self, plan: &CreatePlan) -> Result<Created, DatabaseError>;
    /// The statements that somebody with more rights would run for that, with stars for the password.
    fn create_statements(&self, plan: &CreatePlan) -> Vec<String>;
}
