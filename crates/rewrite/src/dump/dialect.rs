//! Dialects of SQL dumps, and how one is told from the first bytes.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Whose dump it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Dialect {
    /// MySQL and MariaDB, of every age and exporter.
    #[default]
    Mysql,
    /// PostgreSQL's plain format, with `COPY` blocks or inserts.
    Postgres,
    /// SQLite's `.dump`.
    Sqlite,
    /// Scripts of SQL Server, with batches that `GO` ends.
    SqlServer,
}

impl Dialect {
    /// All dialects.
    pub const ALL: [Dialect; 4] = [Dialect::Mysql, Dialect::Postgres, Dialect::Sqlite, Dialect::SqlServer];

    /// Returns the name of the server, for people.
    pub fn name(self) -> &'static str {
        match self {
            Dialect::Mysql => "MySQL or MariaDB",
            Dialect::Postgres => "PostgreSQL",
            Dialect::Sqlite => "SQLite",
            Dialect::SqlServer => "SQL Server",
        }
    }

    /// Tells the dialect from the beginning of a dump, by signs that no other dialect writes. Without any it is MySQL's, which
    /// has most exporters.
    pub fn of(start: &[u8]) -> Self {
        // What stands at the very beginning counts most: further down, an article may speak of any dialect.
        let found = [1 << 11, 1 << 13, 64 << 10]
            .into_iter()
            .find_map(|n| Self::told_by(&start[..start.len().min(n)]));
        found.unwrap_or_default()
    }

    fn told_by(start: &[u8]) -> Option<Self> {
        let has = |sign: &[u8]| memchr::memmem::find(start, sign).is_some();
        let count = |signs: &[&[u8]]| signs.iter().filter(|s| has(s)).count();
        let scores = [
            (
                Dialect::Mysql,
                count(&[
                    b"/*!4",
                    b"/*!5",
                    b"ENGINE=",
                    b"INTO `",
                    b"TABLE `",
                    b"AUTO_INCREMENT",
                    b"UNLOCK TABLES",
                    b"/*M!",
                ]),
            ),
            (
                Dialect::Postgres,
                count(&[
                    b"PostgreSQL database dump",
                    b" FROM stdin;\n",
                    b" FROM stdin;\r\n",
                    b"pg_catalog.",
                    b"standard_conforming_strings",
                    b"character varying",
                    b"OWNER TO ",
                    b"\n\\restrict ",
                ]),
            ),
            (
                Dialect::Sqlite,
                count(&[
                    b"PRAGMA foreign_keys=",
                    b"BEGIN TRANSACTION;",
                    b"sqlite_sequence",
                    b"sqlite_master",
                ]),
            ),
            (
                Dialect::SqlServer,
                count(&[
                    b"\nGO\n",
                    b"\nGO\r\n",
                    b"[dbo].",
                    b"IDENTITY_INSERT",
                    b"QUOTED_IDENTIFIER",
                    b", N'",
                    b"(N'",
                    b"] ON [PRIMARY]",
                ]),
            ),
        ];
        let best = scores.iter().map(|(_, n)| *n).max().unwrap_or(0);
        scores.iter().find(|(_, n)| *n == best && best > 0).map(|(dialect, _)| *dialect)
    }
}
