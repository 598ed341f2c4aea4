//! How far a load has come, so that the same command goes on after an interruption, and so that a run can be undone.

use super::DatabaseError;
use crate::logbook::{Line, Run};
use std::collections::BTreeMap;

/// Something that a load reached.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Mark {
    /// A table is about to be made or filled.
    Begun {
        /// Table.
        table: String,
    },
    /// All rows of a table have arrived.
    Whole {
        /// Table.
        table: String,
        /// Rows.
        rows: u64,
    },
}

/// Takes note of marks.
pub trait Keeper: Send {
    /// Notes a mark; it is on disk when this returns.
    fn mark(&mut self, mark: Mark) -> Result<(), DatabaseError>;
}

/// Keeps no notes.
#[derive(Debug, Default, Clone, Copy)]
pub struct Nobody;

impl Keeper for Nobody {
    fn mark(&mut self, _: Mark) -> Result<(), DatabaseError> {
        Ok(())
    }
}

/// Keeps notes in the record of a run.
pub struct InLogbook(pub Run);

/// Steps of a run that tell of tables.
const STEPS: [&str; 2] = ["table begun", "table whole"];

impl Keeper for InLogbook {
    fn mark(&mut self, mark: Mark) -> Result<(), DatabaseError> {
        let noted = match mark {
            Mark::Begun { table } => self.0.note(STEPS[0], serde_json::json!({ "table": table })),
            Mark::Whole { table, rows } => {
                self.0.note(STEPS[1], serde_json::json!({ "table": table, "rows": rows }))
            }
        };
        noted.map_err(|e| DatabaseError::Io(e.source))
    }
}

/// Reads from the lines of a run which tables it left whole. A table that was begun again after that is not.
pub fn whole_tables(lines: &[Line]) -> BTreeMap<String, u64> {
    let mut out = BTreeMap::new();
    for line in lines {
        let table = line.detail["table"].as_str().unwrap_or_default().to_string();
        if line.step == STEPS[0] {
            out.remove(&table);
        } else if line.step == STEPS[1] {
            out.insert(table, line.detail["rows"].as_u64().unwrap_or_default());
        }
    }
    out
}

/// Reads from the lines of a run which tables it made.
pub fn begun_tables(lines: &[Line]) -> Vec<String> {
    let begun = lines.iter().filter(|l| l.step == STEPS[0]);
    begun.filter_map(|l| l.detail["table"].as_str().map(str::to_string)).collect()
}
