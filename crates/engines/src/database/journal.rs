//! How far a load has come, so that the same command goes on after an interruption, and so that a run can be undone.

use super::DatabaseError;
use crate::logbook::{Line, Run, StepKind};
use schemars::JsonSchema;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

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
    /// A statement that has a connection and a transaction of its own is about to be committed.
    Sent(Alone),
    /// It is committed.
    Arrived(Alone),
    /// A view, trigger and so on makes room.
    Replaced(FormerThing),
}

/// A stage of a load: what is there for good once it is committed.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(default)]
pub struct Stage {
    /// Statements of the dump up to its end, counted from the dump's beginning.
    pub statements: u64,
    /// Rows of the tables that it filled, all that were sent so far.
    pub rows: BTreeMap<String, u64>,
    /// Statements among these that other connections have in hand: they are there only if they arrived.
    pub open: BTreeSet<u64>,
    /// The server's number of the transaction, where it tells later what became of it.
    pub transaction: Option<i64>,
    /// The index that a statement on a connection of its own makes.
    pub index: Option<String>,
}

/// A statement that is carried out by a connection of its own, in a transaction of its own.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(default)]
pub struct Alone {
    /// Its number, counted from the dump's beginning.
    pub statement: u64,
    /// Table that it concerns.
    pub table: String,
    /// Rows of the table, all that were sent so far, if the statement brings rows.
    pub rows: Option<u64>,
    /// The server's number of the transaction.
    pub transaction: i64,
    /// The index that it makes, if it makes one.
    pub index: Option<String>,
}

/// How far an interrupted load came.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Reached {
    /// Tables that are whole, with their rows.
    pub whole: BTreeMap<String, u64>,
    /// Tables, views and so on that it began to make.
    pub begun: BTreeSet<String>,
    /// Those of them that were made for good, where a load goes in stages.
    pub made: BTreeSet<String>,
    /// Statements that are committed, where a load goes in stages, but for those that are open.
    pub statements: u64,
    /// Statements among these that may be missing.
    pub open: BTreeSet<u64>,
    /// A stage of which it is not known whether it was committed.
    pub closing: Option<Stage>,
    /// Statements that arrived on connections of their own.
    pub arrived: BTreeMap<u64, Alone>,
    /// Those of which it is not known whether they did.
    pub sent: BTreeMap<u64, Alone>,
}

impl Reached {
    /// Says whether nothing is known to be there for good.
    pub fn is_nothing(&self) -> bool {
        self.whole.is_empty() && self.statements == 0 && self.arrived.is_empty()
    }
}

/// A view, trigger, routine or event as it was before another of its name took its place.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct FormerThing {
    /// `VIEW`, `TRIGGER`, `PROCEDURE`, `FUNCTION`, `EVENT`, or `KEY` for a foreign key of a table that is there.
    pub kind: String,
    /// Name.
    pub name: String,
    /// The statement that makes it.
    pub sql: String,
    /// The mode under which it was made.
    pub mode: String,
    /// Table of a key.
    pub table: String,
    /// What a key is called in the meantime.
    pub meantime: String,
}

/// Reads from the lines of a run what it replaced beside tables, in order.
pub fn former_things(lines: &[Line]) -> Vec<FormerThing> {
    lines.iter().filter(|l| l.step == StepKind::ThingReplaced).map(read).collect()
}

/// Takes note of marks.
pub trait ProgressStore: Send {
    /// Notes a mark; it is on disk when this returns.
    fn mark(&mut self, mark: Mark) -> Result<(), DatabaseError>;
}

/// Keeps no notes.
#[derive(Debug, Default, Clone, Copy)]
pub struct NoProgress;

impl ProgressStore for NoProgress {
    fn mark(&mut self, _: Mark) -> Result<(), DatabaseError> {
        Ok(())
    }
}

/// Keeps notes in the record of a run.
pub struct InLogbook(pub Run);

impl ProgressStore for InLogbook {
    fn mark(&mut self, mark: Mark) -> Result<(), DatabaseError> {
        let noted = match mark {
            Mark::Begun { table } => self.0.note(StepKind::TableBegun, serde_json::json!({ "table": table })),
            Mark::Whole { table, rows } => {
                self.0.note(StepKind::TableWhole, serde_json::json!({ "table": table, "rows": rows }))
            }
            Mark::Closing(stage) => self.0.step(StepKind::StageClosing, detail(&stage)),
            Mark::Closed(stage) => self.0.step(StepKind::StageClosed, detail(&stage)),
            Mark::Replaced(former) => self.0.step(StepKind::ThingReplaced, detail(&former)),
            Mark::Sent(alone) => self.0.step(StepKind::StatementSent, detail(&alone)),
            // The server knows it as well.
            Mark::Arrived(alone) => self.0.note(StepKind::StatementArrived, detail(&alone)),
        };
        noted.map_err(|e| DatabaseError::Io(e.source))
    }
}

fn detail(of: &impl Serialize) -> serde_json::Value {
    serde_json::to_value(of).unwrap_or_default()
}

fn read<T: Default + DeserializeOwned>(line: &Line) -> T {
    serde_json::from_value(line.detail.clone()).unwrap_or_default()
}

/// Reads from the lines of a run how far it came. A table that was begun again after it was whole is not.
pub fn reached(lines: &[Line]) -> Reached {
    let mut out = Reached::default();
    for line in lines {
        let table = || line.detail["table"].as_str().unwrap_or_default().to_string();
        if line.step == StepKind::TableBegun {
            out.whole.remove(&table());
            out.begun.insert(table());
        } else if line.step == StepKind::TableWhole {
            out.whole.insert(table(), line.detail["rows"].as_u64().unwrap_or_default());
        } else if line.step == StepKind::StageClosing {
            out.closing = Some(read(line));
        } else if line.step == StepKind::StageClosed {
            let stage: Stage = read(line);
            out.statements = stage.statements;
            out.open = stage.open;
            out.whole.extend(stage.rows);
            out.closing = None;
            out.made.clone_from(&out.begun);
        } else if line.step == StepKind::StatementSent {
            let alone: Alone = read(line);
            out.sent.insert(alone.statement, alone);
        } else if line.step == StepKind::StatementArrived {
            let alone: Alone = read(line);
            out.sent.remove(&alone.statement);
            out.whole.extend(alone.rows.map(|rows| (alone.table.clone(), rows)));
            out.arrived.insert(alone.statement, alone);
        }
    }
    out
}

/// Reads from the lines of a run which tables it made.
pub fn begun_tables(lines: &[Line]) -> Vec<String> {
    let begun = lines.iter().filter(|l| l.step == StepKind::TableBegun);
    begun.filter_map(|l| l.detail["table"].as_str().map(str::to_string)).collect()
}
