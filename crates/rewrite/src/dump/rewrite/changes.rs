//! The edits of a row as a change of the row where it lies, in place of text of the dump.

use super::Worker;
use crate::dump::literal::{self, Quoting};
use crate::dump::row::{Value, ValueKind};
use crate::dump::row_change::{ColumnChange, RowChange, RowFate};
use crate::edit::{self, Decoded, Edit};

impl Worker<'_> {
    /// Takes the edits of a row, and notes the line for it.
    pub(super) fn changes(&mut self, row: &[u8], values: &[Value], quoting: Quoting) {
        let edits = std::mem::take(&mut self.edits);
        if edits.is_empty() {
            return;
        }
        let name = |i: usize| self.current.names.get(i).cloned().unwrap_or_default();
        let mut columns = Vec::new();
        for (i, value) in values.iter().enumerate() {
            let within = |e: &&Edit| value.span.start <= e.span.start && e.span.end <= value.span.end;
            let own: Vec<Edit> = edits.iter().filter(within).cloned().collect();
            if own.is_empty() {
                continue;
            }
            let new_row = edit::apply(row, &own);
            let grown = new_row.len() as isize - row.len() as isize;
            let end = value.span.end.saturating_add_signed(grown);
            let new = &new_row[value.span.start..end];
            let (Some(old), Some(new)) = (spelled(row, value, quoting), spelled_anew(new, value, quoting))
            else {
                continue;
            };
            columns.push(ColumnChange { column: name(i), old, new });
        }
        let key = self.statement.as_ref().map(|s| s.key.clone()).unwrap_or_default();
        let tells = |i: &usize| key.is_empty() || key.contains(&name(*i));
        let told = (0..values.len()).filter(tells);
        let keyless = key.is_empty();
        let key = told.filter_map(|i| Some((name(i), spelled(row, &values[i], quoting)?))).collect();
        let change =
            RowChange { fate: RowFate::Changes, table: self.current.table.clone(), keyless, key, columns };
        if !change.columns.is_empty() && serde_json::to_writer(&mut self.lines, &change).is_ok() {
            self.lines.push(b'\n');
        }
    }
}

/// Spells a value for a statement of its own.
fn spelled(row: &[u8], value: &Value, quoting: Quoting) -> Option<String> {
    if quoting.copy {
        return copied(row, value, quoting);
    }
    match std::str::from_utf8(&row[value.span.clone()]) {
        Ok(text) => Some(text.to_string()),
        // Bytes that are no text are spelled by their digits.
        Err(_) => {
            let meant = literal::meaning(row, value, quoting, &mut Decoded::default())?;
            let mut digits = b"X'".to_vec();
            literal::push_hex_digits(&mut digits, meant.bytes());
            String::from_utf8(digits).ok().map(|d| d + "'")
        }
    }
}

/// The same for a value that takes the place of another one.
fn spelled_anew(new: &[u8], old: &Value, quoting: Quoting) -> Option<String> {
    let inside = old.literal.start - old.span.start;
    let behind = old.span.end - old.literal.end;
    let value = Value { kind: old.kind, span: 0..new.len(), literal: inside..new.len().checked_sub(behind)? };
    spelled(new, &value, quoting)
}

/// The same for a value of a block of copied rows.
fn copied(row: &[u8], value: &Value, quoting: Quoting) -> Option<String> {
    if value.kind == ValueKind::Null {
        return Some("NULL".into());
    }
    let text = literal::decode(row, value.span.clone(), quoting);
    String::from_utf8(quoting.dialect.text_of(&text.bytes)).ok()
}
