//! Checkpoints of a load into an engine whose transactions hold everything, tables and types too: the load commits behind a whole table now and
//! then, and the same command goes on behind the last statement that is there for good.
//!
//! Invariant: what is in the database is what the first so many statements of the dump make. A commit is noted before and after: where only
//! the note before was written, the server tells whether it came about, or the rows do. A small dump is one stage, and so all there or not
//! at all. Statements that have connections and transactions of their own are noted one by one.

use super::DatabaseError;
use super::journal::{Mark, ProgressStore, Reached, Stage};
use crate::dump::stream::{At, Piece};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, Mutex, PoisonError};

/// Bytes of rows behind which a stage ends with its table; a dump of fewer is one stage.
pub(super) const STAGE: u64 = 16 << 20;

/// Who keeps notes, for all threads of a load.
#[derive(Clone)]
pub(super) struct Notes(Arc<Mutex<Box<dyn ProgressStore>>>);

impl Notes {
    /// Notes a mark; it is on disk when this returns.
    pub(super) fn mark(&self, mark: Mark) -> Result<(), DatabaseError> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).mark(mark)
    }
}

/// Where a load in stages stands.
#[derive(Default)]
pub(super) struct Checkpoints {
    /// Who keeps notes; without one, all is one stage.
    notes: Option<Notes>,
    /// Who is told what is begun, where all is one stage.
    begun: Option<Notes>,
    /// Statements passed, the one at hand included.
    statements: u64,
    /// What is there from an earlier run: so many statements but for some, and some of those behind.
    there: u64,
    missing: BTreeSet<u64>,
    arrived: BTreeSet<u64>,
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
pub(super) enum NextAction {
    /// It is to be carried out.
    Take,
    /// Before it, what is done is to be committed.
    CommitFirst,
    /// It is there already.
    Skip,
}

impl Checkpoints {
    /// Begins to commit on the way.
    pub(super) fn begin(&mut self, keeper: Box<dyn ProgressStore>) {
        self.notes = Some(Notes(Arc::new(Mutex::new(keeper))));
    }

    /// Has it noted what is begun, without committing on the way.
    pub(super) fn watch(&mut self, keeper: Box<dyn ProgressStore>) {
        self.begun = Some(Notes(Arc::new(Mutex::new(keeper))));
    }

    /// Notes that a table, view or the like is about to be made.
    pub(super) fn begins(&self, table: String) -> Result<(), DatabaseError> {
        self.note(Mark::Begun { table })
    }

    /// Notes something, wherever notes are kept.
    pub(super) fn note(&self, mark: Mark) -> Result<(), DatabaseError> {
        let notes = self.notes.as_ref().or(self.begun.as_ref());
        notes.map_or(Ok(()), |notes| notes.mark(mark))
    }

    /// Returns who keeps notes, if the load goes in stages.
    pub(super) fn notes(&self) -> Option<Notes> {
        self.notes.clone()
    }

    /// Returns the number of the statement at hand.
    pub(super) fn number(&self) -> u64 {
        self.statements
    }

    /// Looks at the next piece. `table` names the table of rows, as the loader counts them.
    pub(super) fn turn(&mut self, piece: &Piece<'_>, at: At<'_>) -> NextAction {
        let begins = match piece {
            Piece::Whole { .. } => Some(""),
            Piece::InsertHead(_) => Some(at.statement.name.as_deref().unwrap_or_default()),
            _ => None,
        };
        if let Some(table) = begins {
            self.statements += 1;
            self.skips = self.statements <= self.there && !self.missing.contains(&self.statements)
                || self.arrived.contains(&self.statements);
            let changes = self.table != table;
            self.table.clear();
            self.table.push_str(table);
            if changes && !self.skips && self.bytes >= STAGE && self.notes.is_some() {
                return NextAction::CommitFirst;
            }
        }
        // What lies between statements is looked at, whoever made them.
        if self.skips && !matches!(piece, Piece::Gap(_)) { NextAction::Skip } else { NextAction::Take }
    }

    /// Notes that so many bytes of rows went into a table.
    pub(super) fn filled(&mut self, table: &str, bytes: usize) {
        self.bytes += bytes as u64;
        if self.filled.last().is_none_or(|last| last != table) {
            self.filled.push(table.to_string());
        }
    }

    /// Commits: notes it, lets `commit` do it, and notes that it is done. The statement at hand is not part of it. `rows` are those sent so
    /// far, `open` the statements that other connections have in hand, `transaction` the server's number of this one.
    pub(super) fn commit(
        &mut self,
        rows: &BTreeMap<String, u64>,
        open: BTreeSet<u64>,
        transaction: Option<i64>,
        commit: impl FnOnce() -> Result<(), DatabaseError>,
    ) -> Result<(), DatabaseError> {
        let Some(notes) = &self.notes else { return commit() };
        self.bytes = 0;
        let filled = std::mem::take(&mut self.filled).into_iter();
        let rows = filled.filter_map(|t| rows.get(&t).map(|n| (t, *n))).collect();
        let stage = Stage {
            statements: self.statements.saturating_sub(1),
            rows,
            open,
            transaction,
            ..Stage::default()
        };
        notes.mark(Mark::Closing(stage.clone()))?;
        commit()?;
        notes.mark(Mark::Closed(stage))
    }

    /// Commits what is left when the dump is through.
    pub(super) fn end(
        &mut self,
        rows: &BTreeMap<String, u64>,
        transaction: Option<i64>,
        commit: impl FnOnce() -> Result<(), DatabaseError>,
    ) -> Result<(), DatabaseError> {
        self.statements += 1;
        self.commit(rows, BTreeSet::new(), transaction, commit)
    }

    /// Goes on behind what an earlier run committed. `committed` finds out about a stage that nobody saw the end of, by its transaction if
    /// that is known. Returns the rows that are there, by table; nothing if nothing was committed.
    pub(super) fn go_on(
        &mut self,
        reached: Reached,
        mut committed: impl FnMut(&Stage) -> Result<bool, DatabaseError>,
    ) -> Result<Option<BTreeMap<String, u64>>, DatabaseError> {
        let Reached { whole, statements, open, closing, mut arrived, sent, .. } = reached;
        let mut stage = Stage { statements, rows: whole, open, ..Stage::default() };
        if let Some(closing) = closing
            && committed(&closing)?
        {
            stage.statements = closing.statements;
            stage.open = closing.open;
            stage.rows.extend(closing.rows);
        }
        for (number, alone) in sent {
            let rows: BTreeMap<_, _> =
                alone.rows.map(|rows| (alone.table.clone(), rows)).into_iter().collect();
            let index = alone.index.clone();
            let asked = Stage { transaction: Some(alone.transaction), rows, index, ..Stage::default() };
            if committed(&asked)? {
                stage.rows.extend(asked.rows);
                arrived.insert(number, alone);
            }
        }
        stage.open.retain(|number| !arrived.contains_key(number));
        arrived.retain(|number, _| *number > stage.statements);
        if stage.statements == 0 && arrived.is_empty() {
            return Ok(None);
        }
        if let Some(notes) = &self.notes {
            notes.mark(Mark::Closed(stage.clone()))?;
            arrived.values().try_for_each(|alone| notes.mark(Mark::Arrived(alone.clone())))?;
        }
        self.there = stage.statements;
        self.missing = stage.open;
        self.arrived = arrived.into_keys().collect();
        Ok(Some(stage.rows))
    }
}

/// Tells by the rows whether a stage was committed. Each of its tables got rows in that stage, whatever it held before; `holds` says whether
/// a table holds so many.
pub(super) fn committed_by_rows(
    stage: &Stage,
    mut holds: impl FnMut(&str, u64) -> Result<bool, DatabaseError>,
) -> Result<bool, DatabaseError> {
    let mut committed = false;
    for (table, rows) in stage.rows.iter().filter(|(_, rows)| **rows > 0) {
        committed = committed || holds(table, *rows)?;
    }
    Ok(committed)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::database::journal::{Alone, InLogbook, reached};
    use crate::dump::literal::Quoting;
    use crate::logbook::{self, Run};

    fn rows(of: &[(&str, u64)]) -> BTreeMap<String, u64> {
        of.iter().map(|(t, n)| (t.to_string(), *n)).collect()
    }

    fn begun(folder: &std::path::Path) -> (Checkpoints, String) {
        let clock = || "2026-11-27T12:00:00Z".into();
        let run = Run::begin(folder, "load", serde_json::json!({}), clock).unwrap();
        let id = run.id().to_string();
        let mut stages = Checkpoints { statements: 8, ..Checkpoints::default() };
        stages.begin(Box::new(InLogbook(run)));
        (stages, id)
    }

    #[test]
    fn a_commit_that_nobody_saw_is_told_by_the_rows() {
        let folder = tempfile::tempdir().unwrap();
        let (mut stages, id) = begun(folder.path());
        let none = BTreeSet::new;
        stages.filled("a", 1);
        stages.filled("sqlite_sequence", 1);
        stages.commit(&rows(&[("a", 5), ("sqlite_sequence", 1)]), none(), None, || Ok(())).unwrap();
        stages.statements = 20;
        stages.filled("a", 1);
        stages.filled("b", 1);
        let sent = rows(&[("a", 9), ("b", 3), ("sqlite_sequence", 1)]);
        let lost = || Err(DatabaseError::Io(std::io::ErrorKind::ConnectionReset.into()));
        assert!(stages.commit(&sent, none(), None, lost).is_err());
        let lines = logbook::read(folder.path(), &id).unwrap();
        let known = reached(&lines);
        assert_eq!((known.statements, &known.whole), (7, &rows(&[("a", 5), ("sqlite_sequence", 1)])));
        let closing = Stage { statements: 19, rows: rows(&[("a", 9), ("b", 3)]), ..Stage::default() };
        assert_eq!(known.closing, Some(closing));
        // The table holds what was sent in all, or what it held before.
        for (there, statements, went_on) in
            [(9, 19, sent.clone()), (5, 7, rows(&[("a", 5), ("sqlite_sequence", 1)]))]
        {
            let mut next = Checkpoints::default();
            let holds = |stage: &Stage| committed_by_rows(stage, |table, n| Ok(table == "a" && n == there));
            let found = next.go_on(known.clone(), holds).unwrap();
            assert_eq!((next.there, found), (statements, Some(went_on)));
        }
        let nothing = Checkpoints::default().go_on(Reached::default(), |_| Ok(true)).unwrap();
        assert_eq!(nothing, None, "it begins anew");
    }

    #[test]
    fn what_other_connections_had_in_hand_is_told_one_by_one() {
        let folder = tempfile::tempdir().unwrap();
        let (mut stages, id) = begun(folder.path());
        let notes = stages.notes().unwrap();
        let alone = |statement, table: &str, rows| Alone {
            statement,
            table: table.into(),
            rows,
            transaction: i64::try_from(statement).unwrap() * 100,
            index: None,
        };
        // 3 to 6 are under way when the stage before 8 closes; 3 was seen to arrive, 4 and 9 were on their way, 5 and 6 were not.
        notes.mark(Mark::Sent(alone(3, "a", Some(3)))).unwrap();
        stages.commit(&rows(&[]), BTreeSet::from([3, 4, 5, 6]), Some(7), || Ok(())).unwrap();
        notes.mark(Mark::Arrived(alone(3, "a", Some(3)))).unwrap();
        notes.mark(Mark::Sent(alone(4, "b", Some(4)))).unwrap();
        notes.mark(Mark::Sent(alone(5, "c", Some(5)))).unwrap();
        notes.mark(Mark::Sent(alone(9, "a", None))).unwrap();
        let known = reached(&logbook::read(folder.path(), &id).unwrap());
        let (mut next, again) = begun(folder.path());
        let committed = |stage: &Stage| Ok(matches!(stage.transaction, Some(400 | 900)));
        let there = next.go_on(known, committed).unwrap();
        assert_eq!(there, Some(rows(&[("a", 3), ("b", 4)])));
        let skipped = |stages: &mut Checkpoints| -> Vec<u64> {
            stages.statements = 0;
            let whole = Piece::Whole { bytes: b"", literals: &[], delimiter: 0 };
            let statement = Arc::default();
            let at = At { statement: &statement, line: 1, first_line: 1, quoting: Quoting::MYSQL };
            (1..12).filter(|_| stages.turn(&whole, at) == NextAction::Skip).collect()
        };
        assert_eq!(skipped(&mut next), [1, 2, 3, 4, 7, 9]);
        // What the next run wrote down at once is all that a third one needs.
        let known = reached(&logbook::read(folder.path(), &again).unwrap());
        let mut third = Checkpoints::default();
        third.go_on(known, |_| Ok(false)).unwrap();
        assert_eq!(skipped(&mut third), [1, 2, 3, 4, 7, 9]);
    }
}
