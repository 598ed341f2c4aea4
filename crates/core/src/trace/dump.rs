//! Traces a dump: every place with its table, column, row and line.

use super::{Collect, Standing, TraceError, Tracer};
use crate::dump::literal::{self, Quoting};
use crate::dump::rewrite::texts;
use crate::dump::row::{self, Value, ValueKind};
use crate::dump::rows::Rows;
use crate::dump::statement::Statement;
use crate::dump::stream::{At, DumpError, Piece, Sink, Source, WINDOW, run_source};
use crate::edit::Decoded;
use crate::text::packed::Packing;
use crate::text::replacements::LeftReason;
use crate::text::value;
use std::io::Read;

impl Tracer {
    /// Traces a dump that is read as UTF-8 and decompressed already. `name` is said with what is found.
    pub fn dump(&mut self, name: &str, reader: impl Read) -> Result<(), TraceError> {
        let wrong = |source| TraceError::Dump { name: name.to_string(), source };
        let source = Source::new(reader, WINDOW, None).map_err(wrong)?;
        let mut sink = Trail { tracer: self, name, values: Vec::new(), spare: Decoded::default() };
        let ending = run_source(source, &mut sink).map_err(wrong)?;
        self.traced.looked_at += 1;
        if let Some(cut) = ending.cut_off {
            self.traced.unread.push(format!("{name}: breaks off in line {} ({})", cut.line, cut.what));
        }
        Ok(())
    }
}

struct Trail<'t> {
    tracer: &'t mut Tracer,
    name: &'t str,
    values: Vec<Value>,
    spare: Decoded,
}

impl Trail<'_> {
    fn look(&mut self, bytes: &[u8], is_bytes: bool, standing: &Standing, outside: Option<LeftReason>) {
        let mut collect = Collect { standing, outside, found: Vec::new() };
        let _ = value::edits_of_hit(&self.tracer.replacements, bytes, is_bytes, &mut collect);
        for found in collect.found {
            self.tracer.keep(found);
        }
    }

    fn rows(&mut self, rows: Rows<'_>, at: At<'_>) {
        let mut hits = Vec::new();
        rows.hits(self.tracer.replacements.scan(), &mut hits);
        let (mut lines, mut counted) = (at.first_line, 0);
        let mut next = 0;
        while next < hits.len() {
            let index = rows.row_at(hits[next].at, 0);
            if index >= rows.count() {
                break;
            }
            let span = rows.span(index);
            let first = next;
            next += hits[first..].iter().take_while(|h| h.at < span.end).count();
            let row = &rows.bytes[span.clone()];
            let mut values = std::mem::take(&mut self.values);
            row::cut(row, at.quoting, &mut values);
            for (i, value) in values.iter().enumerate() {
                let here = span.start + value.span.start..span.start + value.span.end;
                if !hits[first..next].iter().any(|h| here.contains(&h.at)) {
                    continue;
                }
                lines += memchr::memchr_iter(b'\n', &rows.bytes[counted..here.start]).count() as u64;
                counted = here.start;
                let standing = Standing {
                    file: self.name.to_string(),
                    line: lines,
                    column: Some(column_name(at.statement, i)),
                    row: row_key(at.statement, row, &values, at.quoting),
                };
                self.value(row, value, &standing, at.quoting);
            }
            self.values = values;
        }
    }

    fn value(&mut self, row: &[u8], value: &Value, standing: &Standing, quoting: Quoting) {
        let mut spare = std::mem::take(&mut self.spare);
        match literal::meaning(row, value, quoting, &mut spare) {
            Some(meant) => {
                if self.tracer.replacements.scan().any(meant.bytes())
                    || Packing::seen(meant.bytes()).is_some()
                {
                    self.look(meant.bytes(), meant.is_bytes(), standing, None);
                }
                spare = meant.into_spare();
            }
            None if value.kind == ValueKind::Expression => {
                let expression = &row[value.span.clone()];
                for literal in texts(expression, quoting) {
                    self.look(&literal::decode(expression, literal, quoting).bytes, false, standing, None);
                }
            }
            None => {}
        }
        self.spare = spare;
    }

    /// Everything that is no row: strings count, the rest is mentioned.
    fn statement(&mut self, bytes: &[u8], at: At<'_>, outside: Option<LeftReason>) {
        if !self.tracer.replacements.scan().any(bytes) {
            return;
        }
        let place = |offset: usize| Standing {
            file: self.name.to_string(),
            line: at.first_line + memchr::memchr_iter(b'\n', &bytes[..offset]).count() as u64,
            column: at
                .statement
                .name
                .as_ref()
                .map(|n| format!("{n} (definition)"))
                .filter(|_| outside.is_none()),
            row: None,
        };
        if let Some(reason) = outside {
            let first = self.tracer.replacements.scan().hits(bytes).first().map_or(0, |h| h.at);
            let standing = place(first);
            return self.look(bytes, false, &standing, Some(reason));
        }
        for literal in texts(bytes, at.quoting) {
            let decoded = literal::decode(bytes, literal.clone(), at.quoting);
            if self.tracer.replacements.scan().any(&decoded.bytes) {
                let standing = place(literal.start);
                self.look(&decoded.bytes, false, &standing, None);
            }
        }
    }
}

fn column_name(statement: &Statement, index: usize) -> String {
    let table = statement.name.as_deref().unwrap_or("?");
    match statement.columns.as_ref().and_then(|c| c.get(index)) {
        Some(column) => format!("{table}.{column}"),
        None => format!("{table}.#{}", index + 1),
    }
}

/// Says which row it is: by its primary key, else by its first value.
fn row_key(statement: &Statement, row: &[u8], values: &[Value], quoting: Quoting) -> Option<String> {
    let columns: &[String] = statement.columns.as_deref().unwrap_or_default();
    let named = |index: usize| {
        let value = literal::text_of(row, values.get(index)?, quoting)?;
        let value: String = value.chars().take(60).collect();
        Some(match columns.get(index) {
            Some(column) => format!("{column} = {value}"),
            None => format!("#{} = {value}", index + 1),
        })
    };
    let key = statement.key.iter().filter_map(|k| columns.iter().position(|c| c == k));
    let parts: Vec<String> = key.filter_map(named).collect();
    if parts.is_empty() { named(0) } else { Some(parts.join(", ")) }
}

impl Sink for Trail<'_> {
    fn piece(&mut self, piece: Piece<'_>, at: At<'_>) -> Result<(), DumpError> {
        match piece {
            Piece::Rows(rows) => self.rows(rows, at),
            Piece::Gap(bytes) => self.statement(bytes, at, Some(LeftReason::Comment)),
            Piece::CutOff(bytes) | Piece::InsertHead(bytes) => {
                self.statement(bytes, at, Some(LeftReason::Elsewhere));
            }
            Piece::Whole { bytes, .. } | Piece::Between(bytes) | Piece::Tail { bytes, .. } => {
                self.statement(bytes, at, None);
            }
        }
        Ok(())
    }
}
