//! Rewrites a dump chunk by chunk: cells in their declared form, every other string by the replacements.
//!
//! A [`Worker`] knows one chunk at a time and nothing of the others, so several may work at once ([`super::spread`]). The output is
//! the input with edits: what lies between two edits is copied once, and a chunk without any edit is not copied at all.
//! Cost of a run of rows without a core: one vectorised search.

mod changes;
mod declared;
mod set_form;

use super::chunk::Chunk;
use super::definer;
use super::dialect::Dialect;
use super::lex::{Lexer, Step, Token};
use super::literal::{self, Quoting};
use super::prefix;
use super::row::{self, Value, ValueKind};
use super::rows::{Alone, Rows};
use super::rules::{Keep, Rewritten, Rules, is_table};
use super::statement::{Class, Statement};
use super::stream::{At, Piece};
use super::tally::{ColumnTally, Sample};
use crate::edit::{self, Decoded, Edit};
use crate::text::packed::Packing;
use crate::text::raw::{Layers, Short};
use crate::text::replacements::{Judged, LeftReason};
use crate::text::scan::CoreHit;
use crate::text::value::{self, Notes};
use crate::vet::mysql;
use smallvec::SmallVec;
use std::collections::BTreeMap;
use std::ops::Range;
use std::sync::Arc;

/// Rewrites chunks by rules.
pub struct Worker<'a> {
    rules: &'a Rules<'a>,
    out: Output,
    done: Rewritten,
    /// The statement that the current table is bound to.
    statement: Option<Arc<Statement>>,
    current: Current,
    values: Vec<Value>,
    hits: Vec<CoreHit>,
    edits: Vec<Edit>,
    /// How many samples of each column earlier chunks gave, by table. Chunks are merged in their order, so no more than are wanted count.
    sampled: BTreeMap<String, BTreeMap<String, usize>>,
    /// Whether the last piece ended a statement that was left out: the end of its line goes with it.
    left_out: bool,
    /// Memory for the next value's bytes, and for its changes the short way.
    spare: Decoded,
    short: Short,
    /// Lines for the rows of the chunk that change, where these are asked for.
    lines: Vec<u8>,
}

/// The rewritten chunk, as far as it differs.
#[derive(Default)]
struct Output {
    bytes: Vec<u8>,
    /// Up to where the chunk's own bytes are in `bytes`, replaced or left out.
    copied: usize,
}

impl Output {
    fn replace(&mut self, chunk: &[u8], span: Range<usize>, new: &[u8]) {
        self.bytes.extend_from_slice(&chunk[self.copied..span.start]);
        self.bytes.extend_from_slice(new);
        self.copied = span.end;
    }
}

/// What is known of the table at hand.
#[derive(Default)]
struct Current {
    table: String,
    names: Vec<String>,
    columns: Vec<ColumnTally>,
    /// How many samples of each column are wanted yet.
    wanted: Vec<usize>,
    cells: Vec<CellColumn>,
    packed: Vec<BoundPacked>,
    /// Columns whose text is spelled in a way of its own, and the rule that says so.
    coded: Vec<(usize, usize)>,
    settings: Vec<BoundPut>,
    /// Columns whose values begin otherwise, and the rule that says so.
    starts: Vec<(usize, usize)>,
    /// How many places of a column were changed under which layers the short way.
    short: Vec<(usize, Layers, usize)>,
    keep: Option<Keep>,
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

/// A compressed column of the table at hand.
#[derive(Clone, Copy)]
struct BoundPacked {
    column: usize,
    rule: usize,
    flags: Option<usize>,
}

/// A value to be put, bound to the columns of the table at hand.
#[derive(Clone)]
struct BoundPut {
    column: usize,
    rule: usize,
    only: SmallVec<[usize; 2]>,
}

struct ColumnNotes<'t> {
    column: &'t mut ColumnTally,
    samples: usize,
}

impl Notes for ColumnNotes<'_> {
    fn changed(&mut self, nesting: &str, count: usize, _: &[u8]) {
        self.column.places_changed(nesting, count);
    }

    fn left(&mut self, reason: LeftReason, _: &str, excerpt: &[u8]) {
        *self.column.left.entry(reason).or_default() += 1;
        if matches!(reason, LeftReason::Password | LeftReason::LogIn) || self.samples == 0 {
            return;
        }
        let samples = self.column.left_samples.entry(reason).or_default();
        if samples.len() < self.samples {
            samples.push(shown(excerpt));
        }
    }
}

fn shown(bytes: &[u8]) -> String {
    String::from_utf8_lossy(&bytes[..bytes.len().min(160)]).into_owned()
}

impl<'a> Worker<'a> {
    /// Makes a worker.
    pub fn new(rules: &'a Rules<'a>) -> Self {
        Worker {
            rules,
            out: Output::default(),
            done: Rewritten::default(),
            statement: None,
            current: Current::default(),
            values: Vec::new(),
            hits: Vec::new(),
            edits: Vec::new(),
            sampled: BTreeMap::new(),
            left_out: false,
            spare: Decoded::default(),
            short: Short::default(),
            lines: Vec::new(),
        }
    }

    /// Rewrites a chunk. What came of it is to be fetched before the next one.
    pub fn chunk(&mut self, chunk: &Chunk) {
        self.out.bytes.clear();
        self.out.copied = 0;
        self.left_out = false;
        for (base, piece, at) in chunk.pieces() {
            self.piece(chunk.bytes(), base, piece, at);
        }
        self.done.ends_left_out = self.left_out && !self.rules.as_changes;
        self.settle();
        if self.rules.as_changes {
            std::mem::swap(&mut self.out.bytes, &mut self.lines);
            self.lines.clear();
            // Whatever came of the chunk's own bytes is not written.
            self.out.copied = usize::MAX;
        } else if self.out.copied > 0 {
            self.out.bytes.extend_from_slice(&chunk.bytes()[self.out.copied..]);
        }
    }

    /// Returns the rewritten chunk.
    pub fn bytes<'c>(&'c self, chunk: &'c Chunk) -> &'c [u8] {
        if self.out.copied > 0 { &self.out.bytes } else { chunk.bytes() }
    }

    /// Exchanges the memory of the rewritten chunk for another one, and says whether anything differs from the chunk.
    pub(super) fn exchange(&mut self, bytes: &mut Vec<u8>) -> bool {
        std::mem::swap(&mut self.out.bytes, bytes);
        self.out.copied > 0
    }

    /// Returns what was done since the last time.
    pub fn take_done(&mut self) -> Rewritten {
        std::mem::take(&mut self.done)
    }

    fn piece(&mut self, chunk: &[u8], base: usize, piece: Piece<'_>, at: At<'_>) {
        let behind_left_out = std::mem::take(&mut self.left_out);
        match piece {
            Piece::Gap(bytes) => {
                if behind_left_out {
                    self.out.replace(chunk, base..base + line_end(bytes), b"");
                }
                if self.rules.moves.is_some() && at.quoting.dialect == Dialect::Postgres {
                    for line in connects(bytes) {
                        self.out.replace(chunk, base + line.start..base + line.end, b"");
                    }
                }
                self.elsewhere(bytes, LeftReason::Comment);
            }
            Piece::CutOff(bytes) => self.elsewhere(bytes, LeftReason::Elsewhere),
            Piece::Whole { bytes, literals, .. } => self.whole(chunk, base, bytes, literals, at),
            Piece::InsertHead(bytes) => {
                if self.kept(chunk, base, bytes, at.statement) {
                    self.rename(bytes, at.quoting.dialect);
                    self.flush(chunk, base);
                }
            }
            Piece::Rows(rows) => {
                let kept = self.kept(chunk, base, rows.bytes, at.statement);
                self.current.rows += rows.count() as u64;
                if kept {
                    self.rows(chunk, base, rows, at.quoting);
                }
            }
            Piece::Between(bytes) => {
                if self.kept(chunk, base, bytes, at.statement) {
                    self.loose_literals(chunk, base, bytes, at);
                }
            }
            Piece::Tail { bytes, .. } => {
                if self.kept(chunk, base, bytes, at.statement) {
                    self.loose_literals(chunk, base, bytes, at);
                } else {
                    self.left_out = true;
                }
            }
        }
    }

    /// Makes the table of an insert the current one. Leaves the piece out, and says so, where its rows are not carried.
    fn kept(&mut self, chunk: &[u8], base: usize, bytes: &[u8], statement: &Arc<Statement>) -> bool {
        self.enter(statement);
        let kept = self.current.keep == Some(Keep::All);
        if !kept {
            self.out.replace(chunk, base..base + bytes.len(), b"");
        }
        kept
    }

    /// Moves the counts of the table at hand into the tally.
    fn settle(&mut self) {
        let mut current = std::mem::take(&mut self.current);
        self.statement = None;
        for (column, layers, count) in current.short {
            current.columns[column].places_changed(&layers.nesting(), count);
        }
        if current.keep.is_none() {
            return;
        }
        let given = |column: &ColumnTally| !column.samples.is_empty();
        if current.columns.iter().any(given) {
            let sampled = self.sampled.entry(current.table.clone()).or_default();
            for (name, column) in current.names.iter().zip(&current.columns).filter(|(_, c)| given(c)) {
                *sampled.entry(name.clone()).or_default() += column.samples.len();
            }
        }
        let table = self.done.tally.tables.entry(current.table).or_default();
        if current.keep == Some(Keep::All) {
            table.rows += current.rows;
        } else {
            table.rows_left_out += current.rows;
        }
        for (name, column) in current.names.into_iter().zip(current.columns) {
            if column != ColumnTally::default() {
                table.columns.entry(name).or_default().add(column, self.rules.samples);
            }
        }
    }

    /// Binds the rules to the table and columns of an insert.
    fn enter(&mut self, statement: &Arc<Statement>) {
        if self.statement.as_ref().is_some_and(|s| Arc::ptr_eq(s, statement)) {
            return;
        }
        self.settle();
        self.statement = Some(statement.clone());
        let table = statement.name.clone().unwrap_or_default();
        let columns: &[String] = statement.columns.as_deref().unwrap_or_default();
        let index = |name: &str| columns.iter().position(|c| c.eq_ignore_ascii_case(name));
        let cells = self.rules.cells.iter().enumerate().filter(|(_, c)| is_table(&c.table, &table));
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
        let settings = self.rules.settings.iter().enumerate().filter(|(_, p)| is_table(&p.table, &table));
        let settings = settings.filter_map(|(rule, put)| {
            let only = put.only.iter().map(|(column, _)| index(column)).collect::<Option<_>>()?;
            Some(BoundPut { column: index(&put.column)?, rule, only })
        });
        let packed = self.rules.packed.iter().enumerate().filter(|(_, p)| p.table == table);
        let packed = packed.filter_map(|(rule, packed)| {
            let flags = match &packed.flags {
                Some((column, _)) => Some(index(column)?),
                None => None,
            };
            Some(BoundPacked { column: index(&packed.column)?, rule, flags })
        });
        let coded = self.rules.coded.iter().enumerate().filter(|(_, c)| c.table == table);
        let coded = coded.filter_map(|(rule, coded)| Some((index(&coded.column)?, rule)));
        let starts = self.rules.starts.iter().enumerate().filter(|(_, s)| s.is_of(&table));
        let sampled = self.sampled.get(&table);
        let sampled = |name: &String| sampled.and_then(|s| s.get(name)).copied().unwrap_or(0);
        self.current = Current {
            wanted: columns.iter().map(|c| self.rules.samples.saturating_sub(sampled(c))).collect(),
            cells: cells.collect(),
            packed: packed.collect(),
            coded: coded.collect(),
            settings: settings.collect(),
            starts: starts.filter_map(|(i, s)| Some((index(&s.column)?, i))).collect(),
            names: columns.to_vec(),
            columns: vec![ColumnTally::default(); columns.len()],
            short: Vec::new(),
            keep: Some((self.rules.keep)(&table)),
            rows: 0,
            table,
        };
    }

    fn rows(&mut self, chunk: &[u8], base: usize, rows: Rows<'_>, quoting: Quoting) {
        let mut hits = std::mem::take(&mut self.hits);
        rows.hits(self.rules.replacements.scan(), &mut hits);
        let every = !self.current.cells.is_empty()
            || !self.current.packed.is_empty()
            || !self.current.coded.is_empty()
            || !self.current.settings.is_empty()
            || !self.current.starts.is_empty()
            || self.rules.replacements.asked().repair;
        let mut next = 0;
        let mut index = 0;
        while index < rows.count() && (every || next < hits.len()) {
            if !every {
                index = rows.row_at(hits[next].at, index);
                if index >= rows.count() {
                    break;
                }
            }
            let span = rows.span(index);
            while hits.get(next).is_some_and(|h| h.at < span.start) {
                next += 1;
            }
            let first = next;
            while hits.get(next).is_some_and(|h| h.at < span.end) {
                next += 1;
            }
            let hits = &hits[first..next];
            let found =
                !every && !self.rules.as_changes && self.strings((chunk, base), &rows, &span, hits, quoting);
            if !found && (every || next > first) {
                let row = &rows.bytes[span.clone()];
                let mut values = std::mem::take(&mut self.values);
                row::cut(row, quoting, &mut values);
                self.row(row, &values, hits, span.start, quoting);
                if self.rules.as_changes {
                    self.changes(row, &values, quoting);
                }
                self.values = values;
                self.flush(chunk, base + span.start);
            }
            index += 1;
        }
        self.hits = hits;
    }

    /// Rewrites the strings of a row around its hits. Returns false, with nothing done, if one of the hits is not in a string that stands
    /// alone.
    fn strings(
        &mut self,
        (chunk, base): (&[u8], usize),
        rows: &Rows<'_>,
        span: &Range<usize>,
        hits: &[CoreHit],
        quoting: Quoting,
    ) -> bool {
        let mut strings: SmallVec<[(Alone, usize); 4]> = SmallVec::new();
        let mut next = 0;
        while let Some(hit) = hits.get(next) {
            let Some(alone) = rows.string_at(span, hit.at) else { return false };
            next += hits[next..].iter().take_while(|h| h.at < alone.literal.end).count();
            strings.push((alone, next));
        }
        let row = &rows.bytes[span.clone()];
        let mut first = 0;
        for (Alone { column, literal }, next) in strings {
            self.know_columns(column + 1);
            let literal = literal.start - span.start..literal.end - span.start;
            let value = Value { kind: ValueKind::Text, span: literal.clone(), literal };
            if self.short_value(column, row, &value, &hits[first..next], span.start, quoting) {
                let inside = base + span.start + value.literal.start + 1;
                for edit in self.short.edits.drain(..) {
                    self.out.replace(chunk, inside + edit.span.start..inside + edit.span.end, &edit.new);
                }
            } else {
                self.value(column, row, &value, quoting);
                self.flush(chunk, base + span.start);
            }
            first = next;
        }
        true
    }

    /// Gives names to columns that are not known, or that a row has more of than its table: they are numbered from 1.
    fn know_columns(&mut self, count: usize) {
        while self.current.columns.len() < count {
            self.current.names.push(format!("#{}", self.current.columns.len() + 1));
            self.current.columns.push(ColumnTally::default());
            self.current.wanted.push(self.rules.samples);
        }
    }

    /// Writes the edits of one row or statement that begins at `base`.
    fn flush(&mut self, chunk: &[u8], base: usize) {
        for edit in self.edits.drain(..) {
            self.out.replace(chunk, base + edit.span.start..base + edit.span.end, &edit.new);
        }
    }

    /// Looks at a row's values: at the declared cells, and at those with a hit. Hits count from `start` bytes before the row.
    fn row(&mut self, row: &[u8], values: &[Value], hits: &[CoreHit], start: usize, quoting: Quoting) {
        self.know_columns(values.len());
        // Columns whose values were dealt with as a whole.
        let mut settled: SmallVec<[usize; 2]> = SmallVec::new();
        for i in 0..self.current.cells.len() {
            let cell = self.current.cells[i];
            if self.rules.cells[cell.rule].within.is_empty() {
                let edit = self.cell(cell, row, values, quoting, &mut settled);
                self.edits.extend(edit);
            } else {
                settled.extend(self.references_within(cell, row, values, quoting));
            }
        }
        self.starts(row, values, quoting);
        self.settings(row, values, quoting);
        self.packed(row, values, quoting, &mut settled);
        self.coded(row, values, quoting, &mut settled);
        let declared = self.edits.len();
        let repair = self.rules.replacements.asked().repair;
        let mut next = 0;
        for (i, value) in values.iter().enumerate() {
            let first = next;
            while hits.get(next).is_some_and(|h| h.at - start < value.span.end) {
                next += 1;
            }
            let hot = next > first || (repair && value.kind == ValueKind::Text);
            // What is declared of a value deals with all of it, also where the edit is of a literal's digits alone.
            let inside = |e: &Edit| e.span.start < value.span.end && value.span.start < e.span.end;
            if hot && !settled.contains(&i) && !self.edits[..declared].iter().any(inside) {
                if self.short_value(i, row, value, &hits[first..next], start, quoting) {
                    let inside = value.literal.start + 1;
                    self.edits.extend(self.short.edits.drain(..).map(|e| e.shifted(inside)));
                } else {
                    self.value(i, row, value, quoting);
                }
            }
            if next == hits.len() && !repair {
                break;
            }
        }
        if declared > 0 {
            self.edits.sort_by_key(|e| e.span.start);
            // Two rules may mean one value; the first one counts.
            let mut end = 0;
            self.edits.retain(|e| {
                e.span.start >= end && {
                    end = e.span.end.max(end);
                    true
                }
            });
        }
    }

    /// Looks at a value by the short way, and leaves its edits there; they count from behind its opening quote. Returns false if it is not
    /// certain to be the right way.
    fn short_value(
        &mut self,
        column: usize,
        row: &[u8],
        value: &Value,
        hits: &[CoreHit],
        start: usize,
        quoting: Quoting,
    ) -> bool {
        let tally = &mut self.current.columns[column];
        let fit = value.kind == ValueKind::Text
            && matches!(quoting.dialect, Dialect::Mysql | Dialect::SqlServer)
            && row[value.literal.start] == b'\''
            && tally.samples.len() >= self.current.wanted[column];
        if !fit || hits.is_empty() {
            return false;
        }
        let inside = value.literal.start + 1..value.literal.end - 1;
        if hits.iter().any(|h| !inside.contains(&(h.at - start))) {
            return false;
        }
        let from = start + inside.start;
        if !self.short.take(self.rules.replacements, &row[inside.clone()], hits, from, quoting.backslash) {
            return false;
        }
        tally.changed += u64::from(!self.short.edits.is_empty());
        for (layers, count) in self.short.places.drain(..) {
            let known = self.current.short.iter_mut().find(|(c, l, _)| *c == column && *l == layers);
            match known {
                Some((.., known)) => *known += count,
                None => self.current.short.push((column, layers, count)),
            }
        }
        true
    }

    fn value(&mut self, column: usize, row: &[u8], value: &Value, quoting: Quoting) {
        let replacements = self.rules.replacements;
        let wanted = self.current.wanted[column];
        let tally = &mut self.current.columns[column];
        match literal::meaning(row, value, quoting, &mut self.spare) {
            Some(meant) => {
                // A hit in the row is one in its text, but for what the text hides and for values looked at for repair alone.
                let sure = !meant.hidden() && !replacements.asked().repair;
                let looks = sure
                    || replacements.scan().any(meant.bytes())
                    || Packing::seen(meant.bytes()).is_some()
                    || value::worth_repair(replacements, meant.bytes());
                if looks {
                    let edits = rewritten(self.rules, wanted, tally, meant.bytes(), meant.is_bytes());
                    self.edits.extend(meant.outwards(edits, row, value, quoting));
                }
                self.spare = meant.into_spare();
            }
            // Strings in an expression are texts of their own.
            None if value.kind == ValueKind::Expression => {
                for literal in texts(&row[value.span.clone()], quoting) {
                    let literal = literal.start + value.span.start..literal.end + value.span.start;
                    let edits = literal_edits(self.rules, tally, row, literal, quoting);
                    self.edits.extend(edits);
                }
            }
            None => {}
        }
    }

    /// Counts what a stretch names in which nothing is changed.
    fn elsewhere(&mut self, bytes: &[u8], reason: LeftReason) {
        if !self.rules.replacements.scan().any(bytes) {
            return;
        }
        let names_old = |f: &Judged| match f {
            Judged::Change(_) => true,
            Judged::Left { reason, .. } => reason.is_leftover() && *reason != LeftReason::RootRelative,
        };
        let count = self.rules.replacements.findings(bytes).iter().filter(|f| names_old(f)).count() as u64;
        if count > 0 {
            let table = self.done.tally.tables.entry("(between statements)".into()).or_default();
            let name = if reason == LeftReason::Comment { "(comment)" } else { "(rest)" };
            *table.columns.entry(name.into()).or_default().left.entry(reason).or_default() += count;
        }
    }

    /// Renames the tables that a statement or the head of one names.
    fn rename(&mut self, bytes: &[u8], dialect: Dialect) {
        if let Some(change) = &self.rules.prefix {
            let renamed = prefix::edits(bytes, dialect, change);
            self.done.renamed += renamed.len() as u64;
            self.edits.extend(renamed);
        }
    }

    /// Strings in what follows or separates rows, such as `ON DUPLICATE KEY UPDATE`.
    fn loose_literals(&mut self, chunk: &[u8], base: usize, bytes: &[u8], at: At<'_>) {
        if !self.rules.replacements.scan().any(bytes) {
            return;
        }
        let mut tally = ColumnTally::default();
        for literal in texts(bytes, at.quoting) {
            let edits = literal_edits(self.rules, &mut tally, bytes, literal, at.quoting);
            self.edits.extend(edits);
        }
        self.flush(chunk, base);
        self.define(at.statement, tally);
    }

    fn define(&mut self, statement: &Statement, tally: ColumnTally) {
        if tally != ColumnTally::default() {
            let table = self.done.tally.tables.entry(statement.name.clone().unwrap_or_default()).or_default();
            table.columns.entry("(definition)".into()).or_default().add(tally, self.rules.samples);
        }
    }

    /// A statement that is no insert of rows: strings in it are rewritten, names and definers may change, or all of it goes.
    fn whole(&mut self, chunk: &[u8], base: usize, bytes: &[u8], literals: &[Range<usize>], at: At<'_>) {
        let statement = at.statement;
        if let Class::CreateTable
        | Class::DropTable
        | Class::AlterTable
        | Class::CreateIndex
        | Class::Insert = statement.class
        {
            let keep = (self.rules.keep)(statement.name.as_deref().unwrap_or_default());
            let left_out =
                keep == Keep::Nothing || (keep == Keep::Structure && statement.class == Class::Insert);
            if left_out {
                self.left_out = true;
                return self.out.replace(chunk, base..base + bytes.len(), b"");
            }
        }
        if statement.class == Class::Insert
            && let Some((columns, values)) = set_form::set_values(bytes, at.quoting)
        {
            return self.insert_set(chunk, base, bytes, columns, &values, at);
        }
        if let (Some(moves), Class::Use | Class::Database) = (&self.rules.moves, &statement.class) {
            if at.quoting.dialect == Dialect::SqlServer && statement.class == Class::Use {
                // A script chooses its database at its beginning, and that one has to be there.
                let new = format!("USE [{}]", moves.new.replace(']', "]]"));
                let end = bytes.iter().position(|b| matches!(b, b'\r' | b'\n' | b';')).unwrap_or(bytes.len());
                return self.out.replace(chunk, base..base + end, new.as_bytes());
            }
            // Whoever loads it chooses the database, and made it.
            self.left_out = true;
            return self.out.replace(chunk, base..base + bytes.len(), b"");
        }
        let is_code = matches!(
            statement.class,
            Class::CreateView | Class::CreateTrigger | Class::CreateRoutine | Class::CreateEvent
        );
        if is_code && let Some(moved) = self.without_old_database(bytes, at) {
            let literals = texts(moved.as_bytes(), at.quoting);
            self.edit_statement(moved.as_bytes(), &literals, is_code, at);
            let moved = edit::apply(moved.as_bytes(), &std::mem::take(&mut self.edits));
            return self.out.replace(chunk, base..base + bytes.len(), &moved);
        }
        self.edit_statement(bytes, literals, is_code, at);
        self.flush(chunk, base);
    }

    /// Takes the name of the old database out of stored code.
    fn without_old_database(&mut self, bytes: &[u8], at: At<'_>) -> Option<String> {
        let moves = self.rules.moves.as_ref().filter(|_| at.quoting.dialect == Dialect::Mysql)?;
        let mut text = None;
        for database in &moves.old {
            let now = text.as_deref().or(std::str::from_utf8(bytes).ok())?;
            match mysql::moved_away(now, at.quoting, database) {
                None => {}
                Some(Ok(moved)) => text = Some(moved),
                Some(Err(())) => {
                    let mut tally = ColumnTally::default();
                    let mut notes = ColumnNotes { column: &mut tally, samples: self.rules.samples };
                    notes.left(LeftReason::OldDatabase, "text", &bytes[..bytes.len().min(160)]);
                    self.define(at.statement, tally);
                }
            }
        }
        text
    }

    /// Collects the edits of a statement that is no insert of rows.
    fn edit_statement(&mut self, bytes: &[u8], literals: &[Range<usize>], is_code: bool, at: At<'_>) {
        let statement = at.statement;
        self.rename(bytes, at.quoting.dialect);
        let definers = self.rules.strip_definers && is_code;
        let mut covered: Vec<Range<usize>> = Vec::new();
        if definers {
            let found = definer::edits(bytes);
            self.done.definers += found.len() as u64;
            covered = found.iter().map(|e| e.span.clone()).collect();
            self.edits.extend(found);
        }
        let scan = self.rules.replacements.scan();
        if statement.class != Class::Set && scan.any(bytes) {
            let mut tally = ColumnTally::default();
            for span in literals {
                let gone = covered.iter().any(|c| c.start < span.end && span.start < c.end);
                if !gone && scan.any(&bytes[span.clone()]) {
                    let edits = literal_edits(self.rules, &mut tally, bytes, span.clone(), at.quoting);
                    self.edits.extend(edits);
                }
            }
            self.define(statement, tally);
        }
        self.edits.sort_by_key(|e| e.span.start);
    }

    /// `INSERT … SET a = 'x', b = 'y'` is a row whose columns stand beside its values.
    fn insert_set(
        &mut self,
        chunk: &[u8],
        base: usize,
        bytes: &[u8],
        columns: Vec<String>,
        values: &[Value],
        at: At<'_>,
    ) {
        let statement = Statement { columns: Some(columns.into()), ..(**at.statement).clone() };
        self.enter(&Arc::new(statement));
        self.current.rows += 1;
        let mut hits = std::mem::take(&mut self.hits);
        hits.clear();
        hits.extend(self.rules.replacements.scan().hits(bytes));
        let hex = values.iter().filter(|v| v.kind == ValueKind::Hex);
        hits.extend(hex.map(|v| CoreHit::hidden(v.span.start)));
        hits.sort_unstable_by_key(|h| h.at);
        self.row(bytes, values, &hits, 0, at.quoting);
        self.rename(bytes, at.quoting.dialect);
        self.edits.sort_by_key(|e| e.span.start);
        self.hits = hits;
        self.flush(chunk, base);
    }
}

/// Returns the lines by which PostgreSQL's client would go over to a database.
fn connects(gap: &[u8]) -> Vec<Range<usize>> {
    let mut start = 0;
    let mut out = Vec::new();
    for line in gap.split_inclusive(|b| *b == b'\n') {
        if line.starts_with(b"\\connect ") || line.starts_with(b"\\c ") {
            out.push(start..start + line.len());
        }
        start += line.len();
    }
    out
}

/// Returns the length of the end of a line at the beginning of a text, 0 if there is none.
pub(super) fn line_end(text: &[u8]) -> usize {
    match text {
        [b'\r', b'\n', ..] => 2,
        [b'\n', ..] => 1,
        _ => 0,
    }
}

/// Rewrites the bytes of a value and notes what was done, with at most so many samples.
fn rewritten(
    rules: &Rules<'_>,
    wanted: usize,
    tally: &mut ColumnTally,
    bytes: &[u8],
    is_bytes: bool,
) -> Vec<Edit> {
    let mut notes = ColumnNotes { column: tally, samples: rules.samples };
    let edits = value::edits_of_hit(rules.replacements, bytes, is_bytes, &mut notes);
    describe(wanted, tally, bytes, edits)
}

/// Counts a value's edits and keeps a sample of them.
fn describe(wanted: usize, tally: &mut ColumnTally, bytes: &[u8], edits: Vec<Edit>) -> Vec<Edit> {
    let Some(first) = edits.first() else { return edits };
    tally.changed += 1;
    if tally.samples.len() < wanted {
        // The first edit that is more than a length tells what happened.
        let told = edits.iter().find(|e| e.span.len() > 6).unwrap_or(first).span.start;
        let after = edit::apply(bytes, &edits);
        let growth: isize = edits.iter().filter(|e| e.span.end <= told).map(Edit::growth).sum();
        let before = shown(value::excerpt(bytes, told));
        let after = shown(value::excerpt(&after, (told as isize + growth) as usize));
        tally.samples.push(Sample { before, after });
    }
    edits
}

/// Rewrites one quoted string of a text.
fn literal_edits(
    rules: &Rules<'_>,
    tally: &mut ColumnTally,
    text: &[u8],
    literal: Range<usize>,
    quoting: Quoting,
) -> Vec<Edit> {
    let decoded = literal::decode(text, literal.clone(), quoting);
    if !rules.replacements.scan().any(&decoded.bytes) {
        return Vec::new();
    }
    let edits = rewritten(rules, rules.samples, tally, &decoded.bytes, false);
    decoded.outwards(edits, |new, _| literal::escape(new, text, literal.clone(), quoting))
}

/// Returns where the strings of a piece of SQL lie, quotes included.
pub fn texts(sql: &[u8], quoting: Quoting) -> Vec<Range<usize>> {
    let mut lexer = Lexer::reading(quoting);
    let mut out = Vec::new();
    let mut at = 0;
    while at < sql.len() {
        let Step::Token(token, len) = lexer.next(&sql[at..], true) else { break };
        if token == Token::Text {
            out.push(at..at + len);
        }
        at += len;
    }
    out
}
