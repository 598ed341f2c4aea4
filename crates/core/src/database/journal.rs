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
    /// A stage of a load is about to be committed.
    Closing(Stage),
    /// It is committed.
    Closed(Stage),
}

/// A stage of a load: what is there for good once it is committed.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Stage {
    /// Statements of the dump up to its end, counted from the dump's beginning.
    pub statements: u64,
    /// Rows of the tables that it filled, all that were sent so far.
    pub rows: BTreeMap<String, u64>,
}

/// How far an interrupted load came.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Reached {
    /// Tables that are whole, with their rows.
    pub whole: BTreeMap<String, u64>,
    /// Statements that are committed, where a load goes in stages.
    pub statements: u64,
    /// A stage of which it is not known whether it was committed.
    pub closing: Option<Stage>,
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
const STEPS: [&str; 4] = ["table begun", "table whole", "stage closing", "stage closed"];

impl Keeper for InLogbook {
    fn mark(&mut self, mark: Mark) -> Result<(), DatabaseError> {
        let noted = match mark {
            Mark::Begun { table } => self.0.note(STEPS[0], serde_json::json!({ "table": table })),
            Mark::Whole { table, rows } => {
                self.0.note(STEPS[1], serde_json::json!({ "table": table, "rows": rows }))
            }
            Mark::Closing(stage) => self.0.step(STEPS[2], stage.detail()),
            Mark::Closed(stage) => self.0.step(STEPS[3], stage.detail()),
        };
        noted.map_err(|e| DatabaseError::Io(e.source))
    }
}

impl Stage {
    fn detail(&self) -> serde_json::Value {
        serde_json::json!({ "statements": self.statements, "rows": self.rows })
    }

    fn of(detail: &serde_json::Value) -> Self {
        let rows = detail["rows"].as_object().into_iter().flatten();
        Stage {
            statements: detail["statements"].as_u64().unwrap_or_default(),
            rows: rows.filter_map(|(table, rows)| Some((table.clone(), rows.as_u64()?))).collect(),
        }
    }
}

/// Reads from the lines of a run how far it came. A table that was begun again after it was whole is not.
pub fn reached(lines: &[Line]) -> Reached {
    let mut out = Reached::default();
    for line in lines {
        let table = || line.detail["table"].as_str().unwrap_or_default().to_string();
        if line.step == STEPS[0] {
            out.whole.remove(&table());
        } else if line.step == STEPS[1] {
            out.whole.insert(table(), line.detail["rows"].as_u64().unwrap_or_default());
        } else if line.step == STEPS[2] {
            out.closing = Some(Stage::of(&line.detail));
        } else if line.step == STEPS[3] {
            let stage = Stage::of(&line.detail);
            out.statements = stage.statements;
            out.whole.extend(stage.rows);
            out.closing = None;
        }
    }
    out
}

/// Reads from the lines of a run which tables it made.
pub fn begun_tables(lines: &[Line]) -> Vec<String> {
    let begun = lines.iter().filter(|l| l.step == STEPS[0]);
    begun.filter_map(|l| l.detail["table"].as_str().map(str::to_string)).collect()
}
