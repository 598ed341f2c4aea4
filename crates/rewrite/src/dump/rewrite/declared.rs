//! What rules declare of a table: cells in their form, values that are put, values that begin otherwise. Each row of such a table is looked
//! at, whether it holds a core or not.

use super::{CellColumn, ColumnNotes, Worker, describe, rewritten};
use crate::dump::literal::{self, Quoting};
use crate::dump::row::Value;
use crate::dump::rules::CellChange;
use crate::dump::rules::same_value;
use crate::dump::tally::ColumnTally;
use crate::edit::{self, Decoded, Edit};
use crate::place::AddressForm;
use crate::text::links;
use crate::text::packed::Unpacked;
use crate::text::replacements::LeftReason;
use crate::text::value::{self, Notes};
use smallvec::SmallVec;

impl Worker<'_> {
    /// Looks at a declared cell, and adds its column to those that are settled if nothing else may look at it.
    pub(super) fn cell(
        &mut self,
        at: CellColumn,
        row: &[u8],
        values: &[Value],
        quoting: Quoting,
        settled: &mut SmallVec<[usize; 2]>,
    ) -> Option<Edit> {
        let rule = &self.rules.cells[at.rule];
        let relocation = self.rules.relocation?;
        let text = |i: usize| values.get(i).and_then(|v| literal::text_of(row, v, quoting));
        let named = self.meant_row(at, row, values, quoting)?;
        let old = text(at.column)?;
        if let Some(why) = &rule.stays {
            settled.push(at.column);
            let (table, column) = (rule.table.clone(), rule.column.clone());
            let change = CellChange { table, column, row: named, new: old.clone(), old, why: why.clone() };
            self.done.cells.push(change);
            return None;
        }
        if old.is_empty() && rule.form != AddressForm::BaseTrailing {
            return None;
        }
        let new = match at.host {
            Some(host) => relocation.respell_beside(&text(host)?, &old, rule.form),
            // Every path begins with the bare root: only what is not an address can be meant.
            None if rule.form == AddressForm::Reference => self.rules.replacements.moved_reference(&old),
            None => relocation
                .respell_cell(&old, rule.form, rule.tail, rule.unique)
                .or_else(|| relocation.respell_whole(&old)),
        };
        if rule.form == AddressForm::Reference && new.is_none() {
            return None;
        }
        // The bare root is right for any address, and what stays the same needs no word.
        if new.as_ref().map_or(old == "/", |new| *new == old) {
            return None;
        }
        let change = CellChange {
            table: rule.table.clone(),
            column: rule.column.clone(),
            row: named,
            new: new.clone().unwrap_or_else(|| old.clone()),
            old,
            why: String::new(),
        };
        let value = &values[at.column];
        let spelled = new.filter(|n| *n != change.old).map(|n| literal::spelled(&n, row, value, quoting));
        if spelled.is_some() {
            self.current.columns[at.column].value_changed("declared value", 1);
        }
        self.done.cells.push(change);
        spelled.map(|new| Edit::new(value.span.clone(), new))
    }

    /// What names the row of a declared cell; nothing of a row that the rule does not mean.
    fn meant_row(&self, at: CellColumn, row: &[u8], values: &[Value], quoting: Quoting) -> Option<String> {
        let (Some(key), Some((column, wanted))) = (at.key, &self.rules.cells[at.rule].key) else {
            return Some(String::new());
        };
        let found = literal::text_of(row, values.get(key)?, quoting)?;
        wanted.iter().any(|w| same_value(w, &found)).then(|| format!("{column} = {found}"))
    }

    /// Moves the references under declared keys of JSON or of a serialized array, and the rest of the value as it would without this.
    /// Returns the column, if there are any.
    pub(super) fn references_within(
        &mut self,
        at: CellColumn,
        row: &[u8],
        values: &[Value],
        quoting: Quoting,
    ) -> Option<usize> {
        self.meant_row(at, row, values, quoting)?;
        let value = values.get(at.column)?;
        let meant = literal::meaning(row, value, quoting, &mut Decoded::default())?;
        let old = meant.bytes();
        let replacements = self.rules.replacements;
        let keys = &self.rules.cells[at.rule].within;
        let links = links::under_keys(old, keys, |text| replacements.moved_reference(text));
        if links.is_empty() {
            return None;
        }
        let column = &mut self.current.columns[at.column];
        let mut edits = rewritten(self.rules, 0, column, old, meant.is_bytes());
        // Whoever made these has counted the value.
        if edits.is_empty() {
            column.changed += 1;
        }
        edits.retain(|e| !links.iter().any(|l| e.span.start < l.span.end && l.span.start < e.span.end));
        column.places_changed("declared value", links.len());
        edits.extend(links.into_iter().flat_map(|l| l.edits));
        edits.sort_by_key(|e| e.span.start);
        self.edits.extend(meant.outwards(edits, row, value, quoting));
        Some(at.column)
    }

    /// Moves what stands in compressed values, and adds the columns that held some.
    pub(super) fn packed(
        &mut self,
        row: &[u8],
        values: &[Value],
        quoting: Quoting,
        held: &mut SmallVec<[usize; 2]>,
    ) {
        for i in 0..self.current.packed.len() {
            let at = self.current.packed[i];
            let rule = &self.rules.packed[at.rule];
            if let (Some(flags), Some((_, wanted))) = (at.flags, &rule.flags) {
                let flags = values.get(flags).and_then(|v| literal::text_of(row, v, quoting));
                if !flags.is_some_and(|f| f.split(',').any(|word| word.trim() == wanted)) {
                    continue;
                }
            }
            let Some(value) = values.get(at.column) else { continue };
            let Some(meant) = literal::meaning(row, value, quoting, &mut Decoded::default()) else {
                continue;
            };
            held.push(at.column);
            let replacements = self.rules.replacements;
            let column = &mut self.current.columns[at.column];
            let mut notes = ColumnNotes { column, samples: self.rules.samples };
            let text = match rule.how.unpack(meant.bytes()) {
                Unpacked::Whole(text) => text,
                Unpacked::Part(text) => {
                    // What of it could not be read may name the old place as well.
                    let hit = replacements.scan().hits(&text).first().map_or(0, |h| h.at);
                    if !meant.bytes().is_empty() {
                        notes.left(LeftReason::Packed, "compressed", value::excerpt(&text, hit));
                    }
                    continue;
                }
            };
            if !replacements.scan().any(&text) {
                continue;
            }
            let edits = value::edits_of_unpacked(replacements, &text, &mut notes);
            let edits = describe(self.current.wanted[at.column], column, &text, edits);
            if edits.is_empty() {
                continue;
            }
            if let Some(new) = rule.how.pack(&edit::apply(&text, &edits)) {
                let all = vec![Edit::new(0..meant.bytes().len(), new)];
                self.edits.extend(meant.outwards(all, row, value, quoting));
            }
        }
    }

    /// Moves what stands in text that is spelled in a way of its own, and adds the columns that held some.
    pub(super) fn coded(
        &mut self,
        row: &[u8],
        values: &[Value],
        quoting: Quoting,
        held: &mut SmallVec<[usize; 2]>,
    ) {
        for i in 0..self.current.coded.len() {
            let (at, rule) = self.current.coded[i];
            let code = self.rules.coded[rule].code;
            let Some(value) = values.get(at).filter(|v| code.is_in(&row[v.span.clone()])) else { continue };
            let Some(meant) = literal::meaning(row, value, quoting, &mut Decoded::default()) else {
                continue;
            };
            let undone = code.undone(meant.bytes());
            let replacements = self.rules.replacements;
            if !replacements.scan().any(&undone.bytes) {
                continue;
            }
            held.push(at);
            let column = &mut self.current.columns[at];
            let mut notes = ColumnNotes { column, samples: self.rules.samples };
            let edits = value::edits_of_hit(replacements, &undone.bytes, meant.is_bytes(), &mut notes);
            let edits = describe(self.current.wanted[at], column, &undone.bytes, edits);
            let raw = meant.bytes();
            let edits = undone.outwards(edits, |new, span| code.spelled(new, &raw[span]));
            self.edits.extend(meant.outwards(edits, row, value, quoting));
        }
    }

    /// Puts values into the row if it is the one that is meant. Inside of a serialized array one item alone changes.
    pub(super) fn settings(&mut self, row: &[u8], values: &[Value], quoting: Quoting) {
        // Several may go into one value.
        let mut new: SmallVec<[(usize, Vec<u8>, bool); 2]> = SmallVec::new();
        for at in &self.current.settings {
            let rule = &self.rules.settings[at.rule];
            let text = |column: usize| values.get(column).and_then(|v| literal::text_of(row, v, quoting));
            let meant = at
                .only
                .iter()
                .zip(&rule.only)
                .all(|(c, (_, wanted))| text(*c).is_some_and(|found| same_value(wanted, &found)));
            let Some(value) = values.get(at.column).filter(|_| meant) else { continue };
            let known = new.iter().position(|(column, ..)| *column == at.column);
            let old = match known {
                Some(i) => Some(new.swap_remove(i).1),
                None => {
                    literal::meaning(row, value, quoting, &mut Decoded::default()).map(|m| m.into_bytes())
                }
            };
            let put = if rule.within.is_empty() {
                Some(rule.value.clone())
            } else {
                old.and_then(|mut old| {
                    let item = crate::text::serialized::item(&old, &rule.within)?;
                    old.splice(item, rule.value.iter().copied());
                    Some(old)
                })
            };
            if let Some(put) = put {
                *self.done.put.entry(at.rule).or_default() += 1;
                new.push((at.column, put, !rule.within.is_empty()));
            }
        }
        for (column, new, array) in new {
            let value = &values[column];
            // The rest of an array moves as it would without this.
            let moved = if array {
                rewritten(self.rules, 0, &mut ColumnTally::default(), &new, false)
            } else {
                Vec::new()
            };
            let Ok(text) = String::from_utf8(edit::apply(&new, &moved)) else { continue };
            let meant = literal::meaning(row, value, quoting, &mut Decoded::default());
            if meant.as_ref().map(|m| m.bytes()) != Some(text.as_bytes()) {
                self.current.columns[column].value_changed("setting", 1);
            }
            // What is put counts before what a cell's form would make of the old value.
            self.edits.retain(|e| e.span.start < value.span.start || e.span.end > value.span.end);
            // Bytes stay spelled as bytes.
            if let Some(meant) = meant.filter(|m| m.is_bytes()) {
                let all = vec![Edit::new(0..meant.bytes().len(), text.into_bytes())];
                self.edits.extend(meant.outwards(all, row, value, quoting));
                continue;
            }
            let new = literal::spelled(&text, row, value, quoting);
            if new[..] != row[value.span.clone()] {
                self.edits.push(Edit::new(value.span.clone(), new));
            }
        }
    }

    /// Replaces how values of declared columns begin.
    pub(super) fn starts(&mut self, row: &[u8], values: &[Value], quoting: Quoting) {
        for &(column, rule) in &self.current.starts {
            let rule = &self.rules.starts[rule];
            let Some(value) = values.get(column) else { continue };
            let old = literal::text_of(row, value, quoting);
            let Some(old) = old else { continue };
            let Some(new) = rule.renamed(&old) else {
                if rule.tell_others && old.starts_with(&rule.old) {
                    let column = &mut self.current.columns[column];
                    let mut notes = ColumnNotes { column, samples: self.rules.samples };
                    notes.left(LeftReason::LikePrefix, "text", old.as_bytes());
                }
                continue;
            };
            self.current.columns[column].value_changed(rule.what, 1);
            self.edits.push(Edit::new(value.span.clone(), literal::spelled(&new, row, value, quoting)));
        }
    }
}
