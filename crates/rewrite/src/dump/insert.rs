//! Rows that are made and not found: inserts in the spelling of a dump, so that whoever asks for a row cannot spell it for another server.

use super::dialect::Dialect;
use super::literal;
use super::rules::RowSetting;

impl Dialect {
    /// Spells a name.
    pub fn name_of(self, name: &str) -> String {
        match self {
            Dialect::Mysql => format!("`{}`", name.replace('`', "``")),
            Dialect::SqlServer => format!("[{}]", name.replace(']', "]]")),
            Dialect::Postgres | Dialect::Sqlite => format!("\"{}\"", name.replace('"', "\"\"")),
        }
    }

    /// Spells a text.
    pub fn text_of(self, value: &[u8]) -> Vec<u8> {
        match self {
            Dialect::Mysql => literal::quoted(value),
            _ => format!("'{}'", String::from_utf8_lossy(value).replace('\'', "''")).into_bytes(),
        }
    }

    /// Writes inserts that make rows, as a part of a dump that loads on its own; nothing for no rows.
    pub fn inserts(self, rows: &[&RowSetting]) -> Vec<u8> {
        let (first, last) = match self {
            Dialect::Mysql | Dialect::SqlServer => ("", ""),
            Dialect::Postgres => ("SET standard_conforming_strings = on;\n", ""),
            Dialect::Sqlite => ("PRAGMA foreign_keys=OFF;\nBEGIN TRANSACTION;\n", "COMMIT;\n"),
        };
        let rows: Vec<u8> = rows.iter().flat_map(|row| self.insert(row)).collect();
        if rows.is_empty() { rows } else { [first.as_bytes(), &rows, last.as_bytes()].concat() }
    }

    fn insert(self, row: &RowSetting) -> Vec<u8> {
        let names: Vec<String> =
            row.only.iter().map(|(c, _)| c).chain([&row.column]).map(|c| self.name_of(c)).collect();
        // Whoever loads a dump of PostgreSQL's has an empty search path.
        let schema = if self == Dialect::Postgres { "public." } else { "" };
        let table = self.name_of(&row.table);
        let mut out = format!("INSERT INTO {schema}{table} ({}) VALUES (", names.join(",")).into_bytes();
        for (_, value) in &row.only {
            out.extend(self.text_of(value.as_bytes()));
            out.push(b',');
        }
        out.extend(self.text_of(&row.value));
        out.extend_from_slice(if self == Dialect::SqlServer { b")\nGO\n" } else { b");\n" });
        out
    }
}
