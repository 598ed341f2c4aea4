//! Stages of a load into an engine whose transactions hold everything, tables and types too: the load commits behind a whole table now and
//! then, and the same command goes on behind the last statement that is there for good.
//!
//! Invariant: what is in the database is what the first so many statements of the dump make. A commit is noted before and after: where only
//! the note before was written, the rows tell whether it came about. A small dump is one stage, and so all there or not at all.

use super::DatabaseError;
use super::journal::{Keeper, Mark, Reached, Stage};
use crate::dump::stream::{At, Piece};
use std::collections::BTreeMap;

/// Bytes of rows behind which a stage ends with its table.
const STAGE: u64 = 16 << 20;

/// Where a load in stages stands.
#[derive(Default)]
pub(super) struct Stages {
    /// Who keeps notes; without one, all is one stage.
    keeper: Option<Box<dyn Keeper>>,
    /// Statements passed.
    statements: u64,
    /// Statements that are there from an earlier run.
    there: u64,
    /// Whether the statement at hand is one of these.
    skips: bool,
    /// Table of the rows at hand.
    table: String,
    /// Bytes of rows since the last commit.
    bytes: u64,
    /// Tables that were filled since.
    filled: Vec<String>,
}

/// What to do with a piece of the dump.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Turn {
    /// It is to be carried out.
    Take,
    /// Before it, what is done is to be committed.
    CommitFirst,
    /// It is there already.
    Skip,
}

impl Stages {
    /// Begins to commit on the way.
    pub(super) fn begin(&mut self, keeper: Box<dyn Keeper>) {
        self.keeper = Some(keeper);
    }

    /// Looks at the next piece. `table` names the table of rows, as the loader counts them.
    pub(super) fn turn(&mut self, piece: &Piece<'_>, at: At<'_>) -> Turn {
        let begins = match piece {
            Piece::Whole { .. } => Some(""),
            Piece::InsertHead(_) => Some(at.statement.name.as_deref().unwrap_or_default()),
            Piece::Rows(rows) if !self.skips => {
                self.bytes += rows.bytes.len() as u64;
                None
            }
            _ => None,
        };
        if let Some(table) = begins {
            self.statements += 1;
            self.skips = self.statements <= self.there;
            let changes = self.table != table;
            self.table.clear();
            self.table.push_str(table);
            if changes && self.bytes >= STAGE && self.keeper.is_some() {
                return Turn::CommitFirst;
            }
        }
        // What lies between statements is looked at, whoever made them.
        if self.skips && !matches!(piece, Piece::Gap(_)) { Turn::Skip } else { Turn::Take }
    }

    /// Notes that rows went into a table.
    pub(super) fn filled(&mut self, table: &str) {
        if self.filled.last().is_none_or(|last| last != table) {
            self.filled.push(table.to_string());
        }
    }

    /// Commits: notes it, lets `commit` do it, and notes that it is done. The statement at hand is not part of it. `rows` are those sent so
    /// far.
    pub(super) fn commit(
        &mut self,
        rows: &BTreeMap<String, u64>,
        commit: impl FnOnce() -> Result<(), DatabaseError>,
    ) -> Result<(), DatabaseError> {
        let Some(keeper) = &mut self.keeper else { return Ok(()) };
        self.bytes = 0;
        let filled = std::mem::take(&mut self.filled).into_iter();
        let rows = filled.filter_map(|t| rows.get(&t).map(|n| (t, *n))).collect();
        let stage = Stage { statements: self.statements - 1, rows };
        keeper.mark(Mark::Closing(stage.clone()))?;
        commit()?;
        keeper.mark(Mark::Closed(stage))
    }

    /// Goes on behind what an earlier run committed. `holds` says whether a table holds so many rows. Returns the rows that are there, by
    /// table; nothing if nothing was committed.
    pub(super) fn go_on(
        &mut self,
        reached: Reached,
        mut holds: impl FnMut(&str, u64) -> Result<bool, DatabaseError>,
    ) -> Result<Option<BTreeMap<String, u64>>, DatabaseError> {
        let mut stage = Stage { statements: reached.statements, rows: reached.whole };
        if let Some(closing) = reached.closing {
            // Each of its tables got rows in that stage, whatever it held before.
            let mut committed = false;
            for (table, rows) in closing.rows.iter().filter(|(_, rows)| **rows > 0) {
                committed = committed || holds(table, *rows)?;
            }
            if committed {
                stage.statements = closing.statements;
                stage.rows.extend(closing.rows);
            }
        }
        self.there = stage.statements;
        if self.there == 0 {
            return Ok(None);
        }
        if let Some(keeper) = &mut self.keeper {
            keeper.mark(Mark::Closed(stage.clone()))?;
        }
        Ok(Some(stage.rows))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::database::journal::{InLogbook, reached};
    use crate::logbook::{self, Run};

    fn rows(of: &[(&str, u64)]) -> BTreeMap<String, u64> {
        of.iter().map(|(t, n)| (t.to_string(), *n)).collect()
    }

    #[test]
    fn a_commit_that_nobody_saw_is_told_by_the_rows() {
        let folder = tempfile::tempdir().unwrap();
        let run = Run::begin(folder.path(), "load", serde_json::json!({}), || "2026-11-27T12:00:00Z".into())
            .unwrap();
        let id = run.id().to_string();
        let mut stages = Stages { statements: 8, ..Stages::default() };
        stages.begin(Box::new(InLogbook(run)));
        stages.filled("a");
        stages.filled("sqlite_sequence");
        stages.commit(&rows(&[("a", 5), ("sqlite_sequence", 1)]), || Ok(())).unwrap();
        stages.statements = 20;
        stages.filled("a");
        stages.filled("b");
        let sent = rows(&[("a", 9), ("b", 3), ("sqlite_sequence", 1)]);
        let lost = || Err(DatabaseError::Io(std::io::ErrorKind::ConnectionReset.into()));
        assert!(stages.commit(&sent, lost).is_err());
        let lines = logbook::read(folder.path(), &id).unwrap();
        let known = reached(&lines);
        assert_eq!((known.statements, &known.whole), (7, &rows(&[("a", 5), ("sqlite_sequence", 1)])));
        assert_eq!(known.closing, Some(Stage { statements: 19, rows: rows(&[("a", 9), ("b", 3)]) }));
        // The table holds what was sent in all, or what it held before.
        for (there, statements, went_on) in
            [(9, 19, sent.clone()), (5, 7, rows(&[("a", 5), ("sqlite_sequence", 1)]))]
        {
            let mut next = Stages::default();
            let found = next.go_on(known.clone(), |table, n| Ok(table == "a" && n == there)).unwrap();
            assert_eq!((next.there, found), (statements, Some(went_on)));
        }
        let nothing = Stages::default().go_on(Reached::default(), |_, _| Ok(true)).unwrap();
        assert_eq!(nothing, None, "it begins anew");
    }
}
