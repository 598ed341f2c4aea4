//! Rows that change where they lie: what a rewrite would make of them, as statements that change nothing else.
//!
//! With [`super::rules::Rules::as_changes`] a rewrite writes one line of JSON for each row that differs, in place of the dump. Each change
//! holds the values before and after as the dump spells them, so that it can be made, and made undone.

use super::dialect::Dialect;
use super::rules::RowSetting;
use serde::{Deserialize, Serialize};

/// What becomes of a row.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum RowFate {
    /// Values change.
    #[default]
    Changes,
    /// It is made.
    Comes,
    /// It is taken away.
    Goes,
}

/// A row that changes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct RowChange {
    /// What becomes of it.
    #[serde(default)]
    pub fate: RowFate,
    /// Table.
    pub table: String,
    /// Whether it has no primary key, so that several rows may be told by the same values.
    #[serde(default)]
    pub keyless: bool,
    /// Columns that tell the row, and their values: those of the primary key, or all where there is none.
    pub key: Vec<(String, String)>,
    /// What changes.
    pub columns: Vec<ColumnChange>,
}

/// A value that changes, as SQL spells it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ColumnChange {
    /// Column.
    pub column: String,
    /// Value before.
    pub old: String,
    /// Value after.
    pub new: String,
}

impl RowChange {
    /// The change that leads back.
    pub fn back(&self) -> RowChange {
        let columns: Vec<ColumnChange> = self
            .columns
            .iter()
            .map(|c| ColumnChange { column: c.column.clone(), old: c.new.clone(), new: c.old.clone() })
            .collect();
        // What tells the row may have changed itself.
        let now = |name: &str, value: &str| {
            let changed = self.columns.iter().find(|c| c.column == name);
            changed.map_or_else(|| value.to_string(), |c| c.new.clone())
        };
        let key = self.key.iter().map(|(name, value)| (name.clone(), now(name, value))).collect();
        let fate = match self.fate {
            RowFate::Changes => RowFate::Changes,
            RowFate::Comes => RowFate::Goes,
            RowFate::Goes => RowFate::Comes,
        };
        RowChange { fate, table: self.table.clone(), keyless: self.keyless, key, columns }
    }

    /// The change that makes a row that is missing.
    pub fn making(row: &RowSetting, dialect: Dialect) -> RowChange {
        let text = |value: &[u8]| String::from_utf8_lossy(&dialect.text_of(value)).into_owned();
        let key = row.only.iter().map(|(c, v)| (c.clone(), text(v.as_bytes()))).collect();
        let column = ColumnChange { column: row.column.clone(), old: "NULL".into(), new: text(&row.value) };
        RowChange {
            fate: RowFate::Comes,
            table: row.table.clone(),
            keyless: false,
            key,
            columns: vec![column],
        }
    }
}

impl Dialect {
    /// Spells the statement that makes a change, if nobody has changed these values meanwhile.
    pub fn statement_of(self, change: &RowChange) -> String {
        let schema = if self == Dialect::Postgres { "public." } else { "" };
        let table = format!("{schema}{}", self.name_of(&change.table));
        let own = |c: &ColumnChange| !change.key.iter().any(|(name, _)| *name == c.column);
        if change.fate == RowFate::Comes {
            let columns = change.columns.iter().filter(|c| own(c)).map(|c| (&c.column, &c.new));
            let all: Vec<_> = change.key.iter().map(|(name, value)| (name, value)).chain(columns).collect();
            let names = all.iter().map(|(name, _)| self.name_of(name)).collect::<Vec<_>>().join(", ");
            let values = all.iter().map(|(_, value)| value.as_str()).collect::<Vec<_>>().join(", ");
            return format!("INSERT INTO {table} ({names}) VALUES ({values})");
        }
        let set = change.columns.iter().map(|c| format!("{} = {}", self.name_of(&c.column), c.new));
        let told = change.key.iter().map(|(name, value)| self.equals(name, value));
        let before = change.columns.iter().map(|c| self.is_exactly(&c.column, &c.old));
        let rows = told.chain(before).collect::<Vec<_>>().join(" AND ");
        match change.fate {
            RowFate::Goes => format!("DELETE FROM {table} WHERE {rows}"),
            _ => format!("UPDATE {table} SET {} WHERE {rows}", set.collect::<Vec<_>>().join(", ")),
        }
    }

    /// Spells a condition that an index can answer.
    fn equals(self, column: &str, value: &str) -> String {
        match value {
            "NULL" => format!("{} IS NULL", self.name_of(column)),
            _ => format!("{} = {value}", self.name_of(column)),
        }
    }

    /// Spells a condition that takes letters as they are, whatever the collation.
    fn is_exactly(self, column: &str, value: &str) -> String {
        let name = self.name_of(column);
        match self {
            Dialect::Mysql if value.starts_with('\'') => {
                format!("CONVERT({name} USING utf8mb4) COLLATE utf8mb4_bin <=> {value}")
            }
            Dialect::Mysql => format!("{name} <=> {value}"),
            Dialect::Postgres => format!("{name}::text IS NOT DISTINCT FROM {value}::text"),
            Dialect::Sqlite | Dialect::SqlServer => format!("{name} IS {value}"),
        }
    }
}
