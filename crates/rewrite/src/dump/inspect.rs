//! Measures a dump without changing it: tables, rows, bytes, and what it holds that loading would refuse.

use super::dialect::Dialect;
use super::literal;
use super::row::{self, Value};
use super::rules::same_value;
use super::statement::Class;
use super::stream::{At, CutOff, DumpError, Piece, Sink, Source, WINDOW, run_source};
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;
use std::io::Read;

/// Size of one table in a dump.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct TableSize {
    /// Rows.
    pub rows: u64,
    /// Bytes of its statements.
    pub bytes: u64,
}

/// Rows of a table that somebody wants to read: which table, and which columns.
#[derive(Debug, Clone)]
pub struct Wanted {
    /// Table, prefix included.
    pub table: String,
    /// Columns; a row is kept as their values in this order.
    pub columns: Vec<String>,
    /// Column, which must be one of `columns`, and value that tell the rows that are meant.
    pub only: Option<(String, String)>,
}

/// What a dump holds.
#[derive(Debug, Clone, Default)]
pub struct Inspection {
    /// Tables by name.
    pub tables: BTreeMap<String, TableSize>,
    /// Views by name.
    pub views: Vec<String>,
    /// Databases that `USE` or `CREATE DATABASE` name.
    pub databases: Vec<String>,
    /// Rows asked for, by index of the wish; at most [`MOST_ROWS`] each.
    pub rows: Vec<Vec<Vec<Option<String>>>>,
    /// How often each web host (with scheme) is named, for sites that keep their address nowhere.
    pub hosts: BTreeMap<String, u64>,
    /// Dialect.
    pub dialect: Option<Dialect>,
    /// Bytes read.
    pub bytes: u64,
    /// Statements read.
    pub statements: u64,
    /// Set if the dump ends inside of a statement.
    pub cut_off: Option<CutOff>,
}

/// Rows kept per wish.
pub const MOST_ROWS: usize = 500;

/// Hosts counted at most; a hostile dump may name millions.
const MOST_HOSTS: usize = 2000;

struct Inspector<'a> {
    wanted: &'a [Wanted],
    count_hosts: bool,
    found: Inspection,
    /// For each wish on the table at hand: its index and the columns' positions.
    reading: Vec<(usize, Vec<Option<usize>>)>,
    values: Vec<Value>,
    finder: memchr::memmem::Finder<'static>,
}

/// Goes through a dump of any dialect, compressed or not. `count_hosts` also counts the web hosts that are named in rows.
pub fn inspect<R: Read>(reader: R, wanted: &[Wanted], count_hosts: bool) -> Result<Inspection, DumpError> {
    let mut inspector = Inspector {
        wanted,
        count_hosts,
        found: Inspection { rows: vec![Vec::new(); wanted.len()], ..Inspection::default() },
        reading: Vec::new(),
        values: Vec::new(),
        finder: memchr::memmem::Finder::new(b"http").into_owned(),
    };
    let reader = super::open_text(reader).map_err(DumpError::Read)?;
    let source = Source::new(reader, WINDOW, None)?;
    let dialect = source.dialect();
    let ending = run_source(source, &mut inspector)?;
    let mut found = inspector.found;
    found.dialect = Some(dialect);
    found.bytes = ending.bytes;
    found.statements = ending.statements;
    found.cut_off = ending.cut_off;
    Ok(found)
}

impl Inspector<'_> {
    fn size(&mut self, name: &str) -> &mut TableSize {
        self.found.tables.entry(name.to_string()).or_default()
    }

    /// Keeps the values of a row that somebody wants.
    fn wanted(&mut self, row: &[u8], values: &[Value], quoting: literal::Quoting) {
        for (wish, positions) in &self.reading {
            let value = |p: &Option<usize>| {
                p.and_then(|p| values.get(p)).and_then(|v| literal::text_of(row, v, quoting))
            };
            let wanted = &self.wanted[*wish];
            let meant = wanted.only.as_ref().is_none_or(|(column, wanted_value)| {
                let at = wanted.columns.iter().position(|c| c == column);
                at.and_then(|at| value(&positions[at])).is_some_and(|found| same_value(wanted_value, &found))
            });
            if meant && self.found.rows[*wish].len() < MOST_ROWS {
                self.found.rows[*wish].push(positions.iter().map(value).collect());
            }
        }
    }

    /// Counts `http://host` and `https://host` with plain or escaped slashes.
    fn hosts(&mut self, bytes: &[u8]) {
        for at in self.finder.find_iter(bytes) {
            let rest = &bytes[at + 4..];
            let (scheme, rest) = match rest.strip_prefix(b"s") {
                Some(rest) => ("https", rest),
                None => ("http", rest),
            };
            let Some(rest) = rest.strip_prefix(b":").and_then(slash).and_then(slash) else { continue };
            let len = rest.iter().take_while(|b| b.is_ascii_alphanumeric() || b"-.:".contains(b)).count();
            let host =
                String::from_utf8_lossy(&rest[..len]).trim_end_matches(['.', ':']).to_ascii_lowercase();
            if host.contains('.') || host.starts_with("localhost") {
                let known = self.found.hosts.len();
                let key = format!("{scheme}://{host}");
                if known < MOST_HOSTS || self.found.hosts.contains_key(&key) {
                    *self.found.hosts.entry(key).or_default() += 1;
                }
            }
        }
    }
}

/// Skips a slash with or without backslashes before it.
fn slash(text: &[u8]) -> Option<&[u8]> {
    let escapes = text.iter().take_while(|b| **b == b'\\').count();
    text[escapes..].strip_prefix(b"/")
}

impl Sink for Inspector<'_> {
    fn piece(&mut self, piece: Piece<'_>, at: At<'_>) -> Result<(), DumpError> {
        let At { statement, quoting, .. } = at;
        let name = statement.name.as_deref().unwrap_or_default();
        match piece {
            Piece::Gap(_) | Piece::CutOff(_) => {}
            Piece::Whole { bytes, .. } => match statement.class {
                Class::CreateTable | Class::AlterTable | Class::CreateIndex => {
                    self.size(name).bytes += bytes.len() as u64;
                }
                Class::CreateView => self.found.views.push(name.to_string()),
                Class::Use | Class::Database if !self.found.databases.iter().any(|d| d == name) => {
                    self.found.databases.push(name.to_string());
                }
                _ => {}
            },
            Piece::InsertHead(bytes) => {
                self.size(name).bytes += bytes.len() as u64;
                let columns: &[String] = statement.columns.as_deref().unwrap_or_default();
                let at = |c: &String| columns.iter().position(|k| k.eq_ignore_ascii_case(c));
                self.reading = (self.wanted.iter().enumerate())
                    .filter(|(_, w)| w.table == name)
                    .map(|(i, w)| (i, w.columns.iter().map(at).collect()))
                    .collect();
            }
            Piece::Rows(rows) => {
                let size = self.size(name);
                size.rows += rows.count() as u64;
                size.bytes += rows.bytes.len() as u64;
                if self.count_hosts {
                    self.hosts(rows.bytes);
                }
                if self.reading.is_empty() {
                    return Ok(());
                }
                let mut values = std::mem::take(&mut self.values);
                for row in rows.each() {
                    row::cut(row, quoting, &mut values);
                    self.wanted(row, &values, quoting);
                }
                self.values = values;
            }
            Piece::Between(bytes) | Piece::Tail { bytes, .. } => self.size(name).bytes += bytes.len() as u64,
        }
        Ok(())
    }
}
