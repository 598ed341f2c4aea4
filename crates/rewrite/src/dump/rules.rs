//! What a rewrite is to do, and what it came to.

use super::prefix::PrefixChange;
use super::tally::Tally;
use crate::place::{AddressForm, Relocation};
use crate::text::column_code::ColumnCode;
use crate::text::packed::Packing;
use crate::text::replacements::Replacements;
use schemars::JsonSchema;
use std::collections::BTreeMap;

/// A place in the database that holds an address in a declared form.
#[derive(Debug, Clone)]
pub struct Cell {
    /// Table, prefix included; `*` stands for the number of a further site.
    pub table: String,
    /// Column.
    pub column: String,
    /// Column and values that tell the rows that are meant; all rows if none.
    pub key: Option<(String, Vec<String>)>,
    /// Form of the value.
    pub form: AddressForm,
    /// For a base path: the column of the same row that must hold the old host for the base to be ours.
    pub beside_host: Option<String>,
    /// Why such cells stay as they are, if they do.
    pub stays: Option<String>,
    /// Whether something may follow the address, behind a slash, and stays.
    pub tail: bool,
    /// Whether each value may stand there once: then only the main address moves.
    pub unique: bool,
    /// For references: keys of JSON or of a serialized array under which they stand; the whole value if empty.
    pub within: Vec<String>,
}

/// A column whose values are compressed.
#[derive(Debug, Clone)]
pub struct PackedColumn {
    /// Table, prefix included.
    pub table: String,
    /// Column.
    pub column: String,
    /// How.
    pub how: Packing,
    /// Column with a list of words, and the word that tells a compressed value; every value if none.
    pub flags: Option<(String, String)>,
}

/// A column whose text is spelled in a way of its own.
#[derive(Debug, Clone)]
pub struct CodedColumn {
    /// Table, prefix included.
    pub table: String,
    /// Column.
    pub column: String,
    /// How.
    pub code: ColumnCode,
}

/// A value that is put into a row, whatever stands there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RowSetting {
    /// Table, prefix included; `*` stands for the number of a further site.
    pub table: String,
    /// Column.
    pub column: String,
    /// Columns and values that tell the row.
    pub only: Vec<(String, String)>,
    /// The new value; a serialized item where `within` names one.
    pub value: Vec<u8>,
    /// Keys of the serialized array under which the item stands, from the outside in.
    pub within: Vec<String>,
}

/// How the values of a column begin, and will begin: keys with the table prefix, paths with a folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Start {
    /// Table, prefix included; `*` stands for the number of a further site.
    pub table: String,
    /// Column.
    pub column: String,
    /// Beginning that goes.
    pub old: String,
    /// Beginning that comes.
    pub new: String,
    /// What may follow the beginning, and the number of a further site behind it; anything if empty.
    pub names: Vec<String>,
    /// Whether values that begin so and are not meant are noticed.
    pub tell_others: bool,
    /// Word for the tally.
    pub what: &'static str,
}

/// Says whether a rule for a table speaks of this one; `*` stands for the number of a further site.
pub fn is_table(rule: &str, table: &str) -> bool {
    match rule.split_once('*') {
        None => rule == table,
        Some((start, end)) => table
            .strip_prefix(start)
            .and_then(|rest| rest.strip_suffix(end))
            .is_some_and(|n| !n.is_empty() && n.bytes().all(|b| b.is_ascii_digit())),
    }
}

impl Start {
    /// Says whether a table is meant.
    pub(super) fn is_of(&self, table: &str) -> bool {
        is_table(&self.table, table)
    }

    /// Says whether a value is meant, by what follows its beginning.
    fn means(&self, rest: &str) -> bool {
        let numbered = rest.trim_start_matches(|c: char| c.is_ascii_digit()).strip_prefix('_');
        let bare = numbered.filter(|_| rest.starts_with(|c: char| c.is_ascii_digit())).unwrap_or(rest);
        self.names.is_empty() || self.names.iter().any(|n| n == bare)
    }

    /// Returns the new value, if this one is meant.
    pub(super) fn renamed(&self, value: &str) -> Option<String> {
        let rest = value.strip_prefix(&self.old).filter(|rest| self.means(rest))?;
        Some(format!("{}{rest}", self.new))
    }
}

/// Which database a dump comes from, and which one it is for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DatabaseMove {
    /// Names of the old one: stored code of MySQL's names it no more.
    pub old: Vec<String>,
    /// Name of the new one: what chooses or makes a database chooses it, or goes.
    pub new: String,
}

/// Says whether a value of a row is the one that a definition names. Some servers spell true and false as letters.
pub fn same_value(wanted: &str, found: &str) -> bool {
    wanted == found
        || match wanted {
            "1" => matches!(found, "t" | "true" | "TRUE" | "True"),
            "0" => matches!(found, "f" | "false" | "FALSE" | "False"),
            _ => false,
        }
}

/// What of a table is carried.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Keep {
    /// Structure and rows.
    All,
    /// Structure alone.
    Structure,
    /// Nothing.
    Nothing,
}

/// What a rewrite is to do.
#[derive(Clone)]
pub struct Rules<'a> {
    /// Replacements for every string.
    pub replacements: &'a Replacements,
    /// For cells: the way from the old place to the new one.
    pub relocation: Option<&'a Relocation>,
    /// Declared cells.
    pub cells: Vec<Cell>,
    /// Compressed columns.
    pub packed: Vec<PackedColumn>,
    /// Columns whose text is spelled in a way of its own.
    pub coded: Vec<CodedColumn>,
    /// Values that are put into rows.
    pub settings: Vec<RowSetting>,
    /// Columns whose values begin otherwise.
    pub starts: Vec<Start>,
    /// Says of a table (prefix included) what of it is carried.
    pub keep: &'a (dyn Fn(&str) -> Keep + Sync),
    /// Whether `DEFINER=…` is taken out of views, triggers and routines, so that they load under another account.
    pub strip_definers: bool,
    /// Change of the table prefix.
    pub prefix: Option<PrefixChange>,
    /// Another database that the dump is for; none where whoever loads sees to that, or it stays where it is.
    pub moves: Option<DatabaseMove>,
    /// Samples kept per column.
    pub samples: usize,
    /// Whether a line for each row that changes is written in place of the dump ([`super::row_change::RowChange`]).
    pub as_changes: bool,
}

impl<'a> Rules<'a> {
    /// Rules that rewrite by the replacements alone.
    pub fn new(replacements: &'a Replacements, keep: &'a (dyn Fn(&str) -> Keep + Sync)) -> Self {
        Rules {
            replacements,
            relocation: None,
            cells: Vec::new(),
            packed: Vec::new(),
            coded: Vec::new(),
            settings: Vec::new(),
            starts: Vec::new(),
            keep,
            strip_definers: false,
            prefix: None,
            moves: None,
            samples: 0,
            as_changes: false,
        }
    }
}

/// A change of a declared cell.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, JsonSchema)]
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
    /// Why it was left, if the rule says so.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub why: String,
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
    /// Names of tables changed with their prefix.
    pub renamed: u64,
    /// How many rows each value was put into, by the index of its rule.
    pub put: BTreeMap<usize, u64>,
    /// Whether the stretch ends with a statement that was left out.
    pub(super) ends_left_out: bool,
}

impl Rewritten {
    /// Adds what the next stretch of the same dump came to.
    pub fn add(&mut self, other: Rewritten, samples: usize) {
        self.tally.add(other.tally, samples);
        self.cells.extend(other.cells);
        self.definers += other.definers;
        self.renamed += other.renamed;
        for (rule, rows) in other.put {
            *self.put.entry(rule).or_default() += rows;
        }
    }
}
