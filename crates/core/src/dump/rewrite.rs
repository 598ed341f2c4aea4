//! Rewrites a dump while it streams: cells in their declared form, every other string by the needles.

use super::lex::{Lexer, Step, Token};
use super::literal::{self, Quoting};
use super::row::{Value, ValueKind};
use super::statement::{Class, Statement};
use super::stream::{DumpError, Piece, Sink};
use super::tally::{ColumnTally, Sample, Tally};
use crate::edit::{self, Edit};
use crate::place::{AddressForm, Relocation};
use crate::text::needles::{LeftReason, Needles};
use crate::text::value::{self, Notes};
use std::io::Write;
use std::ops::Range;

/// A place in the database that holds an address in a declared form.
#[derive(Debug, Clone)]
pub struct Cell {
    /// Table, prefix included.
    pub table: String,
    /// Column.
    pub column: String,
    /// Column and values that tell the rows that are meant; all rows if none.
    pub key: Option<(String, Vec<String>)>,
    /// Form of the value.
    pub form: AddressForm,
    /// For a base path: the column of the same row that must hold the old host for the base to be ours.
    pub beside_host: Option<String>,
}

/// What a rewrite is to do.
pub struct Rules<'a> {
    /// Needles for every string.
    pub needles: &'a Needles,
    /// For cells: the way from the old place to the new one.
    pub relocation: Option<&'a Relocation>,
    /// Declared cells.
    pub cells: Vec<Cell>,
    /// Says of a table (prefix included) whether its rows are left out.
    pub leave_rows: &'a dyn Fn(&str) -> bool,
    /// Whether `DEFINER=…` is taken out of views, triggers and routines, so that they load under another account.
    pub strip_definers: bool,
    /// Samples kept per column.
    pub samples: usize,
}

/// A change of a declared cell.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize)]
pub struct CellChange {
    /// Table.
    pub table: String,
    /// Column.
    pub column: String,
    /// What tells the row, such as `name = PS_SHOP_DOMAIN`; empty where every row is meant.
    pub row: String,
    /// Value before.
    pub old: String,
    /// Value after; the same as before if the cell was left.
    pub new: String,
}

/// Writes the rewritten dump into `out` and keeps the tally.
pub struct Rewriter<'a, W> {
    rules: &'a Rules<'a>,
    out: W,
    tally: Tally,
    cell_changes: Vec<CellChange>,
    definers: u64,
    current: Current,
    /// Where cores lie in the row at hand; kept for its memory.
    hits: Vec<usize>,
}

/// What is known of the table at hand; kept from statement to statement while the table stays the same.
#[derive(Default)]
struct Current {
    table: String,
    names: Vec<String>,
    columns: Vec<ColumnTally>,
    cells: Vec<CellColumn>,
    skip: bool,
    rows: u64,
}

/// A cell rule, bound to the columns of the table at hand.
#[derive(Clone, Copy)]
struct CellColumn {
    column: usize,
    rule: usize,
    key: Option<usize>,
    host: Option<usize>,
}

struct ColumnNotes<'t> {
    column: &'t mut ColumnTally,
    samples: usize,
}

impl Notes for ColumnNotes<'_> {
    fn changed(&mut self, nesting: &str, count: usize, _: &[u8]) {
        match self.column.by_nesting.get_mut(nesting) {
            Some(known) => *known += count as u64,
            None => drop(self.column.by_nesting.insert(nesting.to_string(), count as u64)),
        }
    }

    fn left(&mut self, reason: LeftReason, _: &str, excerpt: &[u8]) {
        *self.column.left.entry(reason).or_default() += 1;
        if reason != LeftReason::Password && self.column.left_samples.len() < self.samples {
            self.column.left_samples.push(shown(excerpt));
        }
    }
}

fn shown(bytes: &[u8]) -> String {
    String::from_utf8_lossy(&bytes[..bytes.len().min(160)]).into_owned()
}

/// What a rewrite came to.
#[derive(Debug, Default)]
pub struct Rewritten {
    /// Tally per table and column.
    pub tally: Tally,
    /// Declared cells that were met.
    pub cells: Vec<CellChange>,
    /// Definers taken out.
    pub definers: u64,
}

impl<'a, W: Write> Rewriter<'a, W> {
    /// Starts a rewrite into `out`.
    pub fn new(rules: &'a Rules<'a>, out: W) -> Self {
        let current = Current::default();
        Rewriter {
            rules,
            out,
            tally: Tally::default(),
            cell_changes: Vec::new(),
            definers: 0,
            current,
            hits: Vec::new(),
        }
    }

    /// Ends the rewrite and returns the writer and what was done.
    pub fn finish(mut self) -> (W, Rewritten) {
        self.settle();
        (self.out, Rewritten { tally: self.tally, cells: self.cell_changes, definers: self.definers })
    }

    fn write(&mut self, bytes: &[u8]) -> Result<(), DumpError> {
        self.out.write_all(bytes).map_err(DumpError::Write)
    }

    fn write_edited(&mut self, bytes: &[u8], edits: &[Edit]) -> Result<(), DumpError> {
        let mut done = 0;
        for edit in edits {
            self.out.write_all(&bytes[done..edit.span.start]).map_err(DumpError::Write)?;
            self.out.write_all(&edit.new).map_err(DumpError::Write)?;
            done = edit.span.end;
        }
        self.write(&bytes[done..])
    }

    /// Moves the counts of the table at hand into the tally.
    fn settle(&mut self) {
        let current = std::mem::take(&mut self.current);
        if current.table.is_empty() {
            return;
        }
        let table = self.tally.tables.entry(current.table).or_default();
        if current.skip {
            table.rows_left_out += current.rows;
        } else {
            table.rows += current.rows;
        }
        for (name, column) in current.names.into_iter().zip(current.columns) {
            if column.seen > 0 || column.changed > 0 || !column.left.is_empty() {
                table.columns.entry(name).or_default().add(column);
            }
        }
    }

    /// Binds the rules to the table and columns of an insert.
    fn enter(&mut self, statement: &Statement) {
        let table = statement.name.as_deref().unwrap_or_default();
        let columns: &[String] = statement.columns.as_deref().unwrap_or_default();
        if self.current.table == table && self.current.names.starts_with(columns) {
            return;
        }
        let table = table.to_string();
        self.settle();
        let index = |name: &str| columns.iter().position(|c| c.eq_ignore_ascii_case(name));
        let cells = self.rules.cells.iter().enumerate().filter(|(_, c)| c.table == table);
        let cells = cells.filter_map(|(rule, cell)| {
            let key = match &cell.key {
                Some((column, _)) => Some(index(column)?),
                None => None,
            };
            let host = match &cell.beside_host {
                Some(column) => Some(index(column)?),
                None => None,
            };
            Some(CellColumn { column: index(&cell.column)?, rule, key, host })
        });
        self.current = Current {
            cells: cells.collect(),
            names: columns.to_vec(),
            columns: vec![ColumnTally::default(); columns.len()],
            skip: (self.rules.leave_rows)(&table),
            rows: 0,
            table,
        };
    }

    fn row(&mut self, bytes: &[u8], values: &[Value], quoting: Quoting) -> Result<(), DumpError> {
        self.current.rows += 1;
        if self.current.skip {
            return Ok(());
        }
        while self.current.columns.len() < values.len() {
            // A row without known columns, or with more values than columns: numbered from 1.
            self.current.names.push(format!("#{}", self.current.columns.len() + 1));
            self.current.columns.push(ColumnTally::default());
        }
        for (value, column) in values.iter().zip(&mut self.current.columns) {
            column.seen += u64::from(value.kind == ValueKind::Text);
        }
        let hex = values.iter().any(|v| v.kind == ValueKind::Hex);
        self.hits.clear();
        let hits = &mut self.hits;
        self.rules.needles.scan().each(bytes, |hit| {
            hits.push(hit.at);
            true
        });
        if !hex && self.current.cells.is_empty() && self.hits.is_empty() {
            return self.write(bytes);
        }
        let mut edits: Vec<Edit> = Vec::new();
        for cell in self.current.cells.clone() {
            edits.extend(self.cell(cell, bytes, values, quoting));
        }
        for (i, value) in values.iter().enumerate() {
            let hot = value.kind == ValueKind::Hex || self.hits.iter().any(|at| value.literal.contains(at));
            if hot && value.literal.len() > 1 && !edits.iter().any(|e| e.span == value.span) {
                edits.extend(self.value(i, bytes, value, quoting));
            }
        }
        edits.sort_by_key(|e| e.span.start);
        self.write_edited(bytes, &edits)
    }

    /// Looks at a declared cell.
    fn cell(&mut self, at: CellColumn, row: &[u8], values: &[Value], quoting: Quoting) -> Option<Edit> {
        let rule = &self.rules.cells[at.rule];
        let relocation = self.rules.relocation?;
        let text = |i: usize| values.get(i).and_then(|v| literal::text_of(row, v, quoting));
        let mut named = String::new();
        if let (Some(key), Some((column, wanted))) = (at.key, &rule.key) {
            let found = text(key)?;
            if !wanted.contains(&found) {
                return None;
            }
            named = format!("{column} = {found}");
        }
        let old = text(at.column)?;
        if old.is_empty() && rule.form != AddressForm::BaseTrailing {
            return None;
        }
        let ours = match at.host {
            Some(host) => {
                let host = text(host)?;
                relocation.respell(&host, AddressForm::Host).is_some()
            }
            None => true,
        };
        let new = relocation.respell(&old, rule.form).filter(|_| ours);
        let change = CellChange {
            table: rule.table.clone(),
            column: rule.column.clone(),
            row: named,
            new: new.clone().unwrap_or_else(|| old.clone()),
            old,
        };
        let value = &values[at.column];
        let spelled = new.filter(|n| *n != change.old).map(|n| literal::quoted(n.as_bytes()));
        let tally = &mut self.current.columns[at.column];
        if spelled.is_some() {
            tally.changed += 1;
            *tally.by_nesting.entry("cell".into()).or_default() += 1;
        }
        self.cell_changes.push(change);
        spelled.map(|new| Edit { span: value.span.clone(), new })
    }

    fn value(&mut self, column: usize, row: &[u8], value: &Value, quoting: Quoting) -> Vec<Edit> {
        let needles = self.rules.needles;
        let tally = &mut self.current.columns[column];
        if value.kind == ValueKind::Expression {
            let decoded = literal::decode(&row[value.literal.clone()], value.literal.start, quoting);
            return literal_edits(needles, tally, self.rules.samples, row, decoded, |new, _| {
                literal::escape(new, row[value.literal.start], quoting)
            });
        }
        let Some(decoded) = literal::meaning(row, value, quoting) else { return Vec::new() };
        let is_hex = value.kind == ValueKind::Hex;
        if is_hex && !needles.scan().any(&decoded.bytes) {
            return Vec::new();
        }
        let quote = row[value.literal.start];
        literal_edits(needles, tally, self.rules.samples, row, decoded, |new, old| {
            if is_hex { literal::hex(new, old) } else { literal::escape(new, quote, quoting) }
        })
    }

    /// Comments are passed on as they are; what they name is counted.
    fn comment(&mut self, bytes: &[u8]) {
        let count = self.rules.needles.scan().hits(bytes).len() as u64;
        if count > 0 {
            let table = self.tally.tables.entry("(between statements)".into()).or_default();
            let column = table.columns.entry("(comment)".into()).or_default();
            *column.left.entry(LeftReason::Comment).or_default() += count;
        }
    }

    /// A statement that is no insert: strings in it are rewritten, definers may go.
    fn whole(
        &mut self,
        bytes: &[u8],
        literals: &[Range<usize>],
        statement: &Statement,
        quoting: Quoting,
    ) -> Result<(), DumpError> {
        let needles = self.rules.needles;
        let mut edits = Vec::new();
        let definers = self.rules.strip_definers
            && matches!(
                statement.class,
                Class::CreateView | Class::CreateTrigger | Class::CreateRoutine | Class::CreateEvent
            );
        if definers {
            edits = definer_edits(bytes);
            self.definers += edits.len() as u64;
        }
        if statement.class != Class::Set && needles.scan().any(bytes) {
            let mut tally = ColumnTally::default();
            for span in literals {
                let covered = edits.iter().any(|e: &Edit| e.span.start < span.end && span.start < e.span.end);
                if covered || !needles.scan().any(&bytes[span.clone()]) {
                    continue;
                }
                let quote = bytes[span.start];
                let decoded = literal::decode(&bytes[span.clone()], span.start, quoting);
                edits.extend(literal_edits(
                    needles,
                    &mut tally,
                    self.rules.samples,
                    bytes,
                    decoded,
                    |new, _| literal::escape(new, quote, quoting),
                ));
            }
            let table = self.tally.tables.entry(statement.name.clone().unwrap_or_default()).or_default();
            table.columns.entry("(definition)".into()).or_default().add(tally);
        }
        edits.sort_by_key(|e| e.span.start);
        self.write_edited(bytes, &edits)
    }
}

impl<W: Write> Sink for Rewriter<'_, W> {
    fn piece(&mut self, piece: Piece<'_>, statement: &Statement, quoting: Quoting) -> Result<(), DumpError> {
        match piece {
            Piece::Gap(bytes) => {
                self.comment(bytes);
                self.write(bytes)
            }
            Piece::CutOff(bytes) => self.write(bytes),
            Piece::Whole { bytes, literals, .. } => self.whole(bytes, literals, statement, quoting),
            Piece::InsertHead(bytes) => {
                self.enter(statement);
                if self.current.skip { Ok(()) } else { self.write(bytes) }
            }
            Piece::Row { bytes, values } => self.row(bytes, values, quoting),
            Piece::Between(bytes) | Piece::Tail { bytes, .. } => {
                if self.current.skip {
                    Ok(())
                } else {
                    self.write(bytes)
                }
            }
        }
    }
}

/// Rewrites one decoded literal and notes what was done.
fn literal_edits(
    needles: &Needles,
    tally: &mut ColumnTally,
    samples: usize,
    raw: &[u8],
    decoded: edit::Decoded,
    encode: impl Fn(&[u8], &[u8]) -> Vec<u8>,
) -> Vec<Edit> {
    let edits = value::edits_of_hit(needles, &decoded.bytes, &mut ColumnNotes { column: tally, samples });
    let Some(first) = edits.first() else { return Vec::new() };
    tally.changed += 1;
    if tally.samples.len() < samples {
        // The first edit that is more than a length tells what happened.
        let told = edits.iter().find(|e| e.span.len() > 6).unwrap_or(first).span.start;
        let after = edit::apply(&decoded.bytes, &edits);
        let growth: isize = edits.iter().filter(|e| e.span.end <= told).map(Edit::growth).sum();
        let before = shown(value::excerpt(&decoded.bytes, told));
        let after = shown(value::excerpt(&after, (told as isize + growth) as usize));
        tally.samples.push(Sample { before, after });
    }
    decoded.outwards(edits, |new, span| encode(new, &raw[span]))
}

/// Finds `DEFINER=user@host` in a statement.
fn definer_edits(bytes: &[u8]) -> Vec<Edit> {
    let mut lexer = Lexer::default();
    lexer.inside_statement();
    let mut edits = Vec::new();
    let mut at = 0;
    let mut start = None;
    let mut parts = 0;
    while at < bytes.len() {
        let Step::Token(token, len) = lexer.next(&bytes[at..], true) else { break };
        let text = &bytes[at..at + len];
        match (start, token) {
            (_, Token::Space) => {}
            (None, Token::Word) if text.eq_ignore_ascii_case(b"DEFINER") => (start, parts) = (Some(at), 0),
            (Some(_), Token::Punct(b'=')) if parts == 0 => parts = 1,
            // `user`, then `@` with or without the host in the same word, then the host.
            (Some(from), Token::Name | Token::Text | Token::Word) if (1..=3).contains(&parts) => {
                parts += 1;
                let ends_user = parts == 2 && !matches!(bytes.get(at + len), Some(b'@'))
                    || (parts == 3 && text.len() > 1)
                    || parts == 4;
                if ends_user {
                    edits.push(Edit::new(from..at + len, ""));
                    start = None;
                }
            }
            _ => start = None,
        }
        at += len;
    }
    edits
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn definers_are_found_in_every_spelling() {
        for (sql, left) in [
            ("CREATE DEFINER=`a`@`%` VIEW v", "CREATE  VIEW v"),
            ("CREATE DEFINER = 'a'@'h' VIEW v", "CREATE  VIEW v"),
            ("CREATE DEFINER=root@localhost TRIGGER t", "CREATE  TRIGGER t"),
            ("CREATE DEFINER=CURRENT_USER VIEW v", "CREATE  VIEW v"),
            ("/*!50017 DEFINER=`a`@`h`*/ x", "/*!50017 */ x"),
            ("CREATE SQL SECURITY DEFINER VIEW v", "CREATE SQL SECURITY DEFINER VIEW v"),
        ] {
            assert_eq!(
                String::from_utf8_lossy(&edit::apply(sql.as_bytes(), &definer_edits(sql.as_bytes()))),
                left
            );
        }
    }
}
