//! Loads a dump into a file, in one transaction, or in stages that are one each. Every statement is vetted, and sent in its place or put
//! aside until the rows are there.

use super::{list, name, open, own, refused, tables};
use crate::database::DatabaseError;
use crate::database::checkpoints::{Checkpoints, NextAction, committed_by_rows};
use crate::database::journal::{ProgressStore, Reached};
use crate::database::loading::{AsideName, Substitution};
use crate::database::loading::{Loaded, Loading, Plain, each_piece, text_of};
use crate::database::waiting::{Later, Waiting, in_any_order, refusal};
use crate::dump::dialect::Dialect;
use crate::dump::lex::{Token, tokens};
use crate::dump::literal::{self, Quoting};
use crate::dump::row::{self, Value, ValueKind};
use crate::dump::statement::Class;
use crate::dump::stream::{At, Piece};
use crate::finding::{Code, Finding};
use crate::place::DatabaseAccess;
use crate::vet::sqlite as vet;
use crate::vet::{Verdict, Vetted};
use rusqlite::{Connection, OpenFlags};
use std::collections::BTreeSet;
use std::io::Read;

/// A file into which dumps are loaded.
pub struct SqliteLoader {
    conn: Connection,
    loaded: Loaded,
    stages: Checkpoints,
    /// What waits for the rows.
    later: Waiting,
    /// Tables that belong to others and stay.
    others: BTreeSet<String>,
}

impl SqliteLoader {
    /// Opens the file, or makes it, and begins the first transaction.
    pub fn new(access: &DatabaseAccess) -> Result<Self, DatabaseError> {
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE
            | OpenFlags::SQLITE_OPEN_CREATE
            | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let conn = open(access, flags)?;
        conn.execute_batch("PRAGMA foreign_keys=OFF; PRAGMA trusted_schema=OFF; BEGIN;").map_err(own)?;
        Ok(SqliteLoader {
            conn,
            loaded: Loaded::default(),
            stages: Checkpoints::default(),
            later: Waiting::default(),
            others: BTreeSet::new(),
        })
    }
}

impl SqliteLoader {
    /// Refuses a statement about a table of others.
    fn others_stay(&self, table: &str, line: u64) -> Result<(), DatabaseError> {
        if !self.others.contains(table) {
            return Ok(());
        }
        let what = format!("{table} is in the database already and belongs to no part of this site");
        Err(DatabaseError::Forbidden { line, what })
    }
}

impl Loading for SqliteLoader {
    /// What is replaced is kept as a file of its own.
    fn mark_kept(&mut self, _: &[AsideName]) -> Result<(), DatabaseError> {
        Ok(())
    }

    fn tables(&mut self) -> Result<Vec<String>, DatabaseError> {
        list(
            &self.conn,
            "SELECT name FROM sqlite_schema WHERE type IN ('table','view') AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\' ORDER BY name",
            |r| r.get(0),
        )
    }

    fn empty_of(&mut self, made: &dyn Fn(&str) -> bool) -> Result<(), DatabaseError> {
        let views: Vec<String> =
            list(&self.conn, "SELECT name FROM sqlite_schema WHERE type = 'view'", |r| r.get(0))?;
        for (kind, names) in [("VIEW", views), ("TABLE", tables(&self.conn)?)] {
            for item in names.into_iter().filter(|n| made(n)) {
                self.conn.execute(&format!("DROP {kind} {}", name(&item)), []).map_err(own)?;
            }
        }
        Ok(())
    }

    fn on(
        &mut self,
        _: usize,
        _: &[Substitution],
        keeper: Box<dyn ProgressStore>,
    ) -> Result<(), DatabaseError> {
        self.stages.watch(keeper);
        Ok(())
    }

    fn make_room(&mut self, goes: &BTreeSet<String>) -> Result<(), DatabaseError> {
        self.empty_of(&|table| goes.contains(table))?;
        self.others = self.tables()?.into_iter().collect();
        Ok(())
    }

    fn in_stages(&mut self, _: u64, keeper: Box<dyn ProgressStore>) {
        self.stages.begin(keeper);
    }

    fn go_on(&mut self, reached: Reached) -> Result<(), DatabaseError> {
        let conn = &self.conn;
        let known = tables(conn)?;
        let begun = reached.begun.clone();
        let count_if_there =
            |table: &str| known.iter().any(|t| t == table).then(|| count(conn, table)).transpose();
        let names: Vec<String> = list(conn, "SELECT name FROM sqlite_master", |r| r.get(0))?;
        let mut sound = reached.made.iter().all(|thing| names.contains(thing));
        for (table, sent) in reached.whole.iter().filter(|(t, _)| *t != "sqlite_sequence") {
            sound &= count_if_there(table)?.is_some_and(|there| there >= *sent);
        }
        let reached = if sound { reached } else { Reached::default() };
        let there = self.stages.go_on(reached, |stage| {
            committed_by_rows(stage, |table, sent| Ok(count_if_there(table)? == Some(sent)))
        })?;
        if self.loaded.goes_on(there) {
            return Ok(());
        }
        self.empty_of(&|thing| begun.contains(thing))
    }

    fn load(&mut self, reader: &mut dyn Read, _: Option<Plain>) -> Result<(), DatabaseError> {
        let mut sink = LoadSink { loader: self, table: String::new(), lists: false, statement: Vec::new() };
        each_piece(reader, Dialect::Sqlite, &mut |piece, at| sink.take(piece, at))
    }

    fn finish(self: Box<Self>) -> Result<Loaded, DatabaseError> {
        let SqliteLoader { conn, mut loaded, mut stages, mut later, .. } = *self;
        let not_yet = |e: &DatabaseError| {
            let DatabaseError::Statement { source, .. } = e else { return false };
            source.to_string().contains("no such")
        };
        in_any_order(later.take(), |l| run(&conn, &l.statement, l.line), not_yet)?;
        for (table, sent) in &loaded.rows {
            let there = count(&conn, table)?;
            if there != *sent && table != "sqlite_sequence" {
                loaded.differing.push((table.clone(), *sent, there));
            }
        }
        let broken: Vec<String> =
            list(&conn, "SELECT DISTINCT \"table\" FROM pragma_foreign_key_check", |r| r.get(0))?;
        for table in broken {
            let what = "rows refer to rows that are not there";
            loaded.findings.push(Finding::new(
                Code::ReferencesBroken,
                what,
                table,
                "compare with the source",
            ));
        }
        stages.end(&loaded.rows, None, || conn.execute_batch("COMMIT").map_err(own))?;
        Ok(loaded)
    }
}

fn count(conn: &Connection, table: &str) -> Result<u64, DatabaseError> {
    let sql = format!("SELECT COUNT(*) FROM {}", name(table));
    let there: i64 = conn.query_row(&sql, [], |r| r.get(0)).map_err(own)?;
    Ok(u64::try_from(there).unwrap_or_default())
}

struct LoadSink<'l> {
    loader: &'l mut SqliteLoader,
    table: String,
    /// Whether the insert at hand is one into the list of tables.
    lists: bool,
    /// The insert at hand.
    statement: Vec<u8>,
}

/// Runs one statement; text that holds a second one is refused by the library.
fn run(conn: &Connection, statement: &Vetted, line: u64) -> Result<(), DatabaseError> {
    match conn.execute(statement.text(), []) {
        Ok(_) | Err(rusqlite::Error::ExecuteReturnedResults) => Ok(()),
        Err(rusqlite::Error::MultipleStatement) => {
            Err(DatabaseError::Forbidden { line, what: "a second statement hides in this one".into() })
        }
        Err(e) => Err(refused(e, line, statement.text().as_bytes())),
    }
}

impl LoadSink<'_> {
    /// Vets a statement. One that is there already (`is_there`) is only taken note of.
    fn whole(&mut self, body: &[u8], at: At<'_>, is_there: bool) -> Result<(), DatabaseError> {
        let At { line, quoting, .. } = at;
        match vet::statement(text_of(body, line)?, quoting).map_err(refusal(line))? {
            Verdict::Later(phase, name, statement) => {
                if !is_there {
                    self.loader.stages.begins(name.clone())?;
                }
                let later = Later { phase, name, statement, line, quoting, settings: Vec::new() };
                self.loader.later.push(later, true)
            }
            Verdict::Now(vetted) if !is_there => {
                let table = at.statement.name.clone().unwrap_or_default();
                self.loader.others_stay(&table, line)?;
                match at.statement.class {
                    Class::CreateTable => self.loader.stages.begins(table)?,
                    // There is nothing to be dropped but what the dump made.
                    Class::DropTable if !self.loader.loaded.rows.contains_key(&table) => return Ok(()),
                    _ => {}
                }
                if at.statement.class == Class::Insert {
                    let table = at.statement.name.clone().unwrap_or_default();
                    *self.loader.loaded.rows.entry(table).or_default() += 1;
                }
                match run(&self.loader.conn, &vetted, line) {
                    // A stage without rows may have been committed unseen.
                    Err(DatabaseError::Statement { source, .. })
                        if self.loader.loaded.went_on > 0
                            && at.statement.class == Class::CreateIndex
                            && source.to_string().contains("already exists") =>
                    {
                        Ok(())
                    }
                    other => other,
                }
            }
            _ => Ok(()),
        }
    }

    /// Makes a virtual table that the dump writes as a row of the list of tables. The tables in which it keeps its rows come behind, with
    /// their rows: those that it begins with go.
    fn virtual_table(&mut self, row: &[Option<String>], at: At<'_>) -> Result<(), DatabaseError> {
        let At { line, quoting, .. } = at;
        let (table, vetted) = vet::listed(row, quoting).map_err(refusal(line))?;
        self.loader.others_stay(&table, line)?;
        self.loader.stages.begins(table.clone())?;
        let all = |conn: &Connection| -> Result<Vec<String>, DatabaseError> {
            list(conn, "SELECT name FROM sqlite_schema WHERE type = 'table'", |r| r.get(0))
        };
        let before = all(&self.loader.conn)?;
        run(&self.loader.conn, &vetted, line)?;
        let made = all(&self.loader.conn)?;
        for kept in made.iter().filter(|t| **t != table && !before.contains(t)) {
            self.loader.conn.execute(&format!("DELETE FROM {}", name(kept)), []).map_err(own)?;
        }
        Ok(())
    }

    fn take(&mut self, piece: Piece<'_>, at: At<'_>) -> Result<(), DatabaseError> {
        let line = at.line;
        match self.loader.stages.turn(&piece, at) {
            NextAction::Skip => {
                let Piece::Whole { bytes, delimiter, .. } = piece else { return Ok(()) };
                return self.whole(&bytes[..bytes.len() - delimiter], at, true);
            }
            NextAction::Take => {}
            NextAction::CommitFirst => {
                let SqliteLoader { conn, loaded, stages, .. } = &mut *self.loader;
                let commit = || conn.execute_batch("COMMIT; BEGIN").map_err(own);
                stages.commit(&loaded.rows, BTreeSet::new(), None, commit)?;
            }
        }
        match piece {
            Piece::Gap(_) | Piece::CutOff(_) => Ok(()),
            Piece::Whole { bytes, delimiter, .. } => self.whole(&bytes[..bytes.len() - delimiter], at, false),
            Piece::InsertHead(head) => {
                self.table = at.statement.name.clone().unwrap_or_default();
                self.lists =
                    matches!(self.table.to_ascii_lowercase().as_str(), "sqlite_schema" | "sqlite_master");
                if self.lists {
                    return Ok(());
                }
                self.loader.others_stay(&self.table, line)?;
                vet::insert_head(text_of(head, line)?, at.quoting).map_err(refusal(line))?;
                self.statement = head.to_vec();
                Ok(())
            }
            Piece::Rows(rows) => {
                let mut values: Vec<Value> = Vec::new();
                let is_text = simdutf8::basic::from_utf8(rows.bytes).is_ok();
                let first = self.statement.len();
                for row in rows.each() {
                    let spelled;
                    let row = if is_text || simdutf8::basic::from_utf8(row).is_ok() {
                        row
                    } else {
                        spelled = utf8_row(row, at.quoting);
                        &spelled
                    };
                    row::cut(row, at.quoting, &mut values);
                    if self.lists {
                        let texts: Vec<_> =
                            values.iter().map(|v| literal::text_of(row, v, at.quoting)).collect();
                        self.virtual_table(&texts, at)?;
                        continue;
                    }
                    for value in values.iter().filter(|v| v.kind == ValueKind::Expression) {
                        vet::value(text_of(&row[value.span.clone()], line)?, at.quoting)
                            .map_err(refusal(line))?;
                    }
                    if !is_text {
                        self.statement.extend_from_slice(if self.statement.len() > first {
                            b","
                        } else {
                            b""
                        });
                        self.statement.extend_from_slice(row);
                    }
                }
                if self.lists {
                    return Ok(());
                }
                self.loader.stages.filled(&self.table, rows.bytes.len());
                *self.loader.loaded.rows.entry(self.table.clone()).or_default() += rows.count() as u64;
                if is_text {
                    self.statement.extend_from_slice(rows.bytes);
                }
                Ok(())
            }
            Piece::Between(bytes) => {
                self.statement.extend_from_slice(bytes);
                Ok(())
            }
            Piece::Tail { bytes, delimiter } => {
                let tail = &bytes[..bytes.len() - delimiter];
                vet::tail(text_of(tail, line)?, at.quoting).map_err(refusal(line))?;
                if std::mem::take(&mut self.lists) {
                    return Ok(());
                }
                self.statement.extend_from_slice(tail);
                let statement = std::mem::take(&mut self.statement);
                match self.loader.conn.execute(text_of(&statement, line)?, []) {
                    Ok(_) => Ok(()),
                    Err(e) => Err(refused(e, line, &statement)),
                }
            }
        }
    }
}

/// Spells the strings of a row that are not UTF-8 as their bytes: the library takes statements as text, and a column of texts may hold any
/// bytes.
fn utf8_row(row: &[u8], quoting: Quoting) -> Vec<u8> {
    let mut out = Vec::with_capacity(row.len() * 2);
    let mut done = 0;
    for (token, span) in tokens(row, quoting).flatten() {
        // A blob's digits are a string to the lexer, and always text.
        if token == Token::Text && std::str::from_utf8(&row[span.clone()]).is_err() {
            out.extend_from_slice(&row[done..span.start]);
            done = span.end;
            out.extend_from_slice(b"CAST(X'");
            out.extend(literal::hex(&literal::decode(row, span, quoting).bytes, b""));
            out.extend_from_slice(b"' AS TEXT)");
        }
    }
    out.extend_from_slice(&row[done..]);
    out
}
