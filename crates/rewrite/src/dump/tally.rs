//! What a rewrite did and did not do, per table and column.

use crate::finding::{Code, Finding};
use crate::text::replacements::LeftReason;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;

/// Columns that a finding names.
const MOST_COLUMNS: usize = 3;

/// One changed value, before and after, cut to what matters.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Sample {
    /// Text before.
    pub before: String,
    /// Text after.
    pub after: String,
}

/// The tally of one column.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct ColumnTally {
    /// Values of the column that were written.
    pub seen: u64,
    /// Values changed.
    pub changed: u64,
    /// Places changed, by nesting (`text`, `serialized`, `declared value`, …).
    pub by_nesting: BTreeMap<String, u64>,
    /// Places left, by reason.
    pub left: BTreeMap<LeftReason, u64>,
    /// Some changed values.
    pub samples: Vec<Sample>,
    /// Some of the texts around places that were left, by reason; never those of passwords and log-ins.
    pub left_samples: BTreeMap<LeftReason, Vec<String>>,
}

/// The tally of one table.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct TableTally {
    /// Rows written.
    pub rows: u64,
    /// Rows left out.
    pub rows_left_out: u64,
    /// Columns with something to tell.
    pub columns: BTreeMap<String, ColumnTally>,
}

/// The tally of a whole dump.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Tally {
    /// Tables by name.
    pub tables: BTreeMap<String, TableTally>,
}

impl Tally {
    /// Returns the number of changed values.
    pub fn changed(&self) -> u64 {
        self.columns().map(|(_, _, c)| c.changed).sum()
    }

    /// Returns the number of rows written.
    pub fn rows(&self) -> u64 {
        self.tables.values().map(|t| t.rows).sum()
    }

    /// Returns how many places were left, by reason.
    pub fn left(&self) -> BTreeMap<LeftReason, u64> {
        let mut out = BTreeMap::new();
        for (_, _, column) in self.columns() {
            for (reason, count) in &column.left {
                *out.entry(*reason).or_default() += count;
            }
        }
        out
    }

    /// Returns what a person should know of what was left: a finding for each reason, with the columns that hold most of it.
    pub fn findings(&self) -> Vec<Finding> {
        let left = self.left();
        let finding = |(reason, count): (&LeftReason, &u64)| {
            let mut columns: Vec<(u64, String)> = self
                .columns()
                .filter_map(|(t, c, tally)| Some((*tally.left.get(reason)?, format!("{t}.{c}"))))
                .collect();
            columns.sort_by(|a, b| b.0.cmp(&a.0).then_with(|| a.1.cmp(&b.1)));
            let more = columns.len().saturating_sub(MOST_COLUMNS);
            let names: Vec<&str> = columns.iter().take(MOST_COLUMNS).map(|(_, name)| name.as_str()).collect();
            let place = names.join(", ")
                + &if more > 0 { format!(" and {more} more columns") } else { String::new() };
            let places = if *count == 1 { "1 place was" } else { &format!("{count} places were") };
            let what = format!("{places} left: {}", reason.words());
            let found = Finding::new(Code::OldPlaceInRows, what, place, reason.cure());
            if reason.needs_attention() { found } else { found.as_note() }
        };
        left.iter().map(finding).collect()
    }

    /// Walks over all columns with their tables.
    pub fn columns(&self) -> impl Iterator<Item = (&str, &str, &ColumnTally)> {
        self.tables
            .iter()
            .flat_map(|(t, tally)| tally.columns.iter().map(move |(c, col)| (t.as_str(), c.as_str(), col)))
    }

    /// Says how many values each column had: as many as its table has rows.
    pub fn settle(&mut self) {
        for table in self.tables.values_mut() {
            for (name, column) in &mut table.columns {
                column.seen = if name.starts_with('(') { 0 } else { table.rows };
            }
        }
    }

    /// Adds another tally of the same run, with at most so many samples per column.
    pub fn add(&mut self, other: Tally, samples: usize) {
        for (name, table) in other.tables {
            let mine = self.tables.entry(name).or_default();
            mine.rows += table.rows;
            mine.rows_left_out += table.rows_left_out;
            for (name, column) in table.columns {
                mine.columns.entry(name).or_default().add(column, samples);
            }
        }
    }
}

impl ColumnTally {
    /// Notes that so many places were changed under this nesting.
    pub fn places_changed(&mut self, nesting: &str, count: usize) {
        match self.by_nesting.get_mut(nesting) {
            Some(known) => *known += count as u64,
            None => drop(self.by_nesting.insert(nesting.to_string(), count as u64)),
        }
    }

    /// Notes that a value was changed, at so many places under this nesting.
    pub fn value_changed(&mut self, nesting: &str, count: usize) {
        self.changed += 1;
        self.places_changed(nesting, count);
    }

    /// Adds what another stretch of the same column came to.
    pub fn add(&mut self, other: ColumnTally, samples: usize) {
        self.seen += other.seen;
        self.changed += other.changed;
        for (nesting, n) in other.by_nesting {
            *self.by_nesting.entry(nesting).or_default() += n;
        }
        for (reason, n) in other.left {
            *self.left.entry(reason).or_default() += n;
        }
        self.samples.extend(other.samples);
        self.samples.truncate(samples);
        for (reason, texts) in other.left_samples {
            let mine = self.left_samples.entry(reason).or_default();
            mine.extend(texts);
            mine.truncate(samples);
        }
    }
}
