//! SQLite: the database is a file. A dump is read in one transaction, a load is one transaction, or stages that are one each.

mod edit;
mod load;

use super::create::{CreatePlan, Created};
use super::snapshot::{DumpOut, Inserts, Snapshot, TableFacts};
use super::trial::{Right, Trial};
use super::{DatabaseError, Refusal, Size, beginning, question, sizes_of};
use super::{standard_name as name, standard_text as quoted};
use crate::database::engine::{RowEditor, Server};
use crate::database::loading::Loading;
use crate::dump::inspect::{Inspection, Wanted};
use crate::dump::literal;
use crate::event::Findings;
use crate::place::DatabaseAccess;
pub use load::SqliteLoader;
use rusqlite::types::ValueRef;
use rusqlite::{Connection, OpenFlags, Row};
use std::collections::BTreeSet;
use std::os::unix::fs::OpenOptionsExt;

/// Size at which an insert is closed and the next one begun, in bytes.
const INSERT_SIZE: usize = 64 << 10;

const SESSION: &str = "PRAGMA foreign_keys=OFF;\nBEGIN TRANSACTION;\n";

fn refused(source: rusqlite::Error, line: u64, statement: &[u8]) -> DatabaseError {
    if let rusqlite::Error::SqliteFailure(code, _) = &source
        && code.code == rusqlite::ErrorCode::ReadOnly
    {
        return DatabaseError::ReadOnly { name: "file".into(), why: source.to_string() };
    }
    DatabaseError::Statement { line, statement: beginning(statement), source: Box::new(source) }
}

fn own(source: rusqlite::Error) -> DatabaseError {
    refused(source, 0, b"")
}

/// Opens a database file.
fn open(access: &DatabaseAccess, flags: OpenFlags) -> Result<Connection, DatabaseError> {
    let failed = |source: rusqlite::Error| {
        let refusal = match std::fs::metadata(&access.name) {
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => Refusal::NoDatabase,
            Err(e) => Refusal::Other(e.to_string()),
            Ok(_) => Refusal::Other(source.to_string()),
        };
        DatabaseError::Connect { url: access.url(), refusal, source: Box::new(source) }
    };
    let conn = Connection::open_with_flags(&access.name, flags).map_err(failed)?;
    conn.busy_timeout(std::time::Duration::from_secs(30)).map_err(failed)?;
    // The first question tells whether it is a database at all.
    conn.query_row("SELECT COUNT(*) FROM sqlite_schema", [], |_| Ok(())).map_err(failed)?;
    Ok(conn)
}

fn list<T>(
    conn: &Connection,
    sql: &str,
    read: impl Fn(&Row<'_>) -> rusqlite::Result<T>,
) -> Result<Vec<T>, DatabaseError> {
    let wrong = |e| refused(e, 0, sql.as_bytes());
    let mut statement = conn.prepare(sql).map_err(wrong)?;
    let rows = statement.query_map([], |row| read(row)).map_err(wrong)?;
    rows.collect::<Result<_, _>>().map_err(wrong)
}

/// Tables with rows of their own: plain ones and virtual ones, without the tables behind those.
fn tables(conn: &Connection) -> Result<Vec<String>, DatabaseError> {
    list(
        conn,
        "SELECT name FROM pragma_table_list WHERE schema = 'main' AND type IN ('table','virtual') AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\' ORDER BY name",
        |r| r.get(0),
    )
}

/// A database file at one moment.
pub struct SqliteSnapshot(Connection);

impl SqliteSnapshot {
    /// Opens the file for reading.
    pub fn open(access: &DatabaseAccess) -> Result<Self, DatabaseError> {
        let conn = open(access, OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX)?;
        // The first read of a transaction fixes what it sees.
        conn.execute_batch("BEGIN; SELECT COUNT(*) FROM sqlite_schema;").map_err(own)?;
        Ok(SqliteSnapshot(conn))
    }

    /// Rows that are told apart by a number of their own, which other tables may name: the word by which it is asked. Full-text tables are
    /// joined with their content by it.
    fn number_of_rows(
        &self,
        table: &str,
        create: &str,
        columns: &[String],
    ) -> Result<Option<&'static str>, DatabaseError> {
        let words: Vec<String> = create.split_ascii_whitespace().map(str::to_ascii_uppercase).collect();
        let is_virtual = words.get(1).is_some_and(|w| w == "VIRTUAL");
        if is_virtual && !words.windows(2).any(|w| w[0] == "USING" && w[1].starts_with("FTS")) {
            return Ok(None);
        }
        // A table without such numbers, or one whose key is the number.
        let sql = format!(
            "SELECT (SELECT wr FROM pragma_table_list WHERE schema = 'main' AND name = {0}), \
               (SELECT COUNT(*) FROM pragma_table_xinfo({0}) WHERE pk > 0), \
               (SELECT COUNT(*) FROM pragma_table_xinfo({0}) WHERE pk > 0 AND upper(type) = 'INTEGER')",
            quoted(table)
        );
        let read = |r: &Row<'_>| Ok((r.get::<_, i64>(0)?, r.get::<_, i64>(1)?, r.get::<_, i64>(2)?));
        let (without, keys, numbers) = self.0.query_row(&sql, [], read).map_err(own)?;
        if !is_virtual && (without != 0 || (keys, numbers) == (1, 1)) {
            return Ok(None);
        }
        let free = |word: &&str| !columns.iter().any(|c| c.eq_ignore_ascii_case(word));
        Ok(["rowid", "_rowid_", "oid"].into_iter().find(free))
    }

    fn pragma(&self, pragma: &str) -> Result<i64, DatabaseError> {
        self.0.query_row(&format!("PRAGMA {pragma}"), [], |r| r.get(0)).map_err(own)
    }
}

impl Snapshot for SqliteSnapshot {
    fn server(&mut self) -> Result<String, DatabaseError> {
        Ok(format!("SQLite {}", rusqlite::version()))
    }

    fn session(&self) -> &'static str {
        SESSION
    }

    fn closing(&self) -> &'static str {
        "COMMIT;\n"
    }

    fn tables(&mut self) -> Result<Vec<TableFacts>, DatabaseError> {
        let mut out = Vec::new();
        let weight = |like: &str, table: &str| {
            let sql = format!(
                "SELECT COALESCE(SUM(pgsize),0) FROM dbstat WHERE name IN (SELECT name FROM sqlite_schema WHERE type = {} AND tbl_name = {})",
                quoted(like),
                quoted(table)
            );
            self.0.query_row(&sql, [], |r| r.get::<_, i64>(0)).unwrap_or_default()
        };
        for table in tables(&self.0)? {
            let count = format!("SELECT COUNT(*) FROM {}", name(&table));
            let rows: i64 = self.0.query_row(&count, [], |r| r.get(0)).map_err(own)?;
            let (data, index) = (weight("table", &table), weight("index", &table));
            let plain = |n: i64| u64::try_from(n).unwrap_or_default();
            out.push(TableFacts { name: table, rows: plain(rows), data: plain(data), index: plain(index) });
        }
        Ok(out)
    }

    fn before(&mut self, _: &dyn Fn(&str) -> bool, out: &mut dyn DumpOut) -> Result<u64, DatabaseError> {
        let mut count = 0;
        for pragma in ["application_id", "user_version"] {
            let value = self.pragma(pragma)?;
            if value != 0 {
                writeln!(out, "PRAGMA {pragma}={value};")?;
                count += 1;
            }
        }
        Ok(count)
    }

    fn table(&mut self, table: &str, with_rows: bool, out: &mut dyn DumpOut) -> Result<u64, DatabaseError> {
        let sql = format!("SELECT sql FROM sqlite_schema WHERE type = 'table' AND name = {}", quoted(table));
        let create: String = self.0.query_row(&sql, [], |r| r.get(0)).map_err(own)?;
        writeln!(out, "{create};")?;
        if !with_rows {
            return Ok(0);
        }
        // Hidden 0 is a plain column, 1 belongs to a virtual table's machinery, 2 and 3 are computed.
        let sql =
            format!("SELECT name FROM pragma_table_xinfo({}) WHERE hidden = 0 ORDER BY cid", quoted(table));
        let columns: Vec<String> = list(&self.0, &sql, |r| r.get(0))?;
        let mut names: Vec<String> = columns.iter().map(|c| name(c)).collect();
        if let Some(number) = self.number_of_rows(table, &create, &columns)? {
            names.insert(0, number.into());
        }
        let head = format!("INSERT INTO {}({}) VALUES", name(table), names.join(","));
        let sql = format!("SELECT {} FROM {}", names.join(","), name(table));
        let wrong = |e| refused(e, 0, sql.as_bytes());
        let mut statement = self.0.prepare(&sql).map_err(wrong)?;
        let mut rows = statement.query([]).map_err(wrong)?;
        let mut inserts = Inserts::new(out, head, INSERT_SIZE);
        while let Some(row) = rows.next().map_err(wrong)? {
            inserts.row::<DatabaseError>(names.len(), |buffer, i| {
                push_value(buffer, row.get_ref(i).map_err(wrong)?);
                Ok(())
            })?;
        }
        Ok(inserts.end()?)
    }

    fn after(
        &mut self,
        has: &dyn Fn(&str) -> bool,
        out: &mut dyn DumpOut,
        _: &mut Findings<'_>,
    ) -> Result<u64, DatabaseError> {
        let mut count = 0;
        let counters = list(&self.0, "SELECT name FROM sqlite_schema WHERE name = 'sqlite_sequence'", |r| {
            r.get::<_, String>(0)
        })?;
        if !counters.is_empty() {
            writeln!(out, "DELETE FROM sqlite_sequence;")?;
            let counters = list(&self.0, "SELECT name, seq FROM sqlite_sequence ORDER BY name", |r| {
                Ok((r.get::<_, String>(0)?, r.get::<_, i64>(1)?))
            })?;
            for (table, last) in counters.iter().filter(|(table, _)| has(table)) {
                writeln!(out, "INSERT INTO sqlite_sequence(name,seq) VALUES({},{last});", quoted(table))?;
            }
        }
        let sql = "SELECT tbl_name, sql FROM sqlite_schema WHERE type IN ('index','view','trigger') AND sql IS NOT NULL \
                   ORDER BY CASE type WHEN 'index' THEN 0 WHEN 'view' THEN 1 ELSE 2 END, rowid";
        let views: Vec<String> =
            list(&self.0, "SELECT name FROM sqlite_schema WHERE type = 'view'", |r| r.get(0))?;
        for (table, sql) in list(&self.0, sql, |r| Ok((r.get::<_, String>(0)?, r.get::<_, String>(1)?)))? {
            if has(&table) || views.contains(&table) {
                writeln!(out, "{sql};")?;
                count += 1;
            }
        }
        Ok(count)
    }
}

fn push_value(out: &mut Vec<u8>, value: ValueRef<'_>) {
    let hex = |out: &mut Vec<u8>, bytes: &[u8]| {
        out.extend_from_slice(b"X'");
        literal::push_hex_digits(out, bytes);
        out.push(b'\'');
    };
    match value {
        ValueRef::Null => out.extend_from_slice(b"NULL"),
        ValueRef::Integer(i) => out.extend_from_slice(i.to_string().as_bytes()),
        // Infinity has no literal; a number beyond all reads as it.
        ValueRef::Real(f) if f.is_infinite() => {
            out.extend_from_slice(if f > 0.0 { b"9e999" } else { b"-9e999" })
        }
        ValueRef::Real(f) => out.extend_from_slice(format!("{f:?}").as_bytes()),
        ValueRef::Text(text) if text.contains(&0) || std::str::from_utf8(text).is_err() => {
            out.extend_from_slice(b"CAST(");
            hex(out, text);
            out.extend_from_slice(b" AS TEXT)");
        }
        ValueRef::Text(text) => {
            out.push(b'\'');
            for (i, piece) in text.split(|b| *b == b'\'').enumerate() {
                if i > 0 {
                    out.extend_from_slice(b"''");
                }
                out.extend_from_slice(piece);
            }
            out.push(b'\'');
        }
        ValueRef::Blob(bytes) => hex(out, bytes),
    }
}

/// What [`super::facts`] asks for.
pub(super) fn facts(
    access: &DatabaseAccess,
    wanted: &[Wanted],
) -> Result<(Vec<Size>, Inspection), DatabaseError> {
    let mut snapshot = SqliteSnapshot::open(access)?;
    let sizes = sizes_of(snapshot.tables()?);
    let mut found = Inspection::default();
    for wish in wanted {
        let sql = question(wish, name, quoted);
        let text = |r: &Row<'_>, i: usize| {
            Ok(match r.get_ref(i)? {
                ValueRef::Text(t) => String::from_utf8(t.to_vec()).ok(),
                ValueRef::Integer(n) => Some(n.to_string()),
                _ => None,
            })
        };
        let rows = list(&snapshot.0, &sql, |r| (0..wish.columns.len()).map(|i| text(r, i)).collect());
        found.rows.push(rows.unwrap_or_default());
    }
    Ok((sizes, found))
}

/// What [`super::trial::attempt`] asks for.
pub(super) fn trial(access: &DatabaseAccess) -> Result<Trial, DatabaseError> {
    let conn = open(access, OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX)?;
    let writes = !conn.is_readonly("main").map_err(own)?;
    let tables = list(&conn, "SELECT name FROM sqlite_schema WHERE type IN ('table','view')", |r| {
        r.get::<_, String>(0)
    })?;
    Ok(Trial {
        server: format!("SQLite {}", rusqlite::version()),
        encrypted: false,
        tables: tables.len() as u64,
        rights: vec![
            Right::new("read the rows", true),
            Right::new("write rows, make and change tables", writes),
        ],
    })
}

/// Makes an empty file that only its owner may read.
pub(super) fn create(job: &CreatePlan) -> Result<Created, DatabaseError> {
    let path = &job.wanted.name;
    let made = std::fs::File::options().write(true).create_new(true).mode(0o600).open(path);
    match made {
        Ok(_) => Ok(Created { database: true, ..Created::default() }),
        Err(e) if e.kind() == std::io::ErrorKind::AlreadyExists => {
            open(&job.wanted, OpenFlags::SQLITE_OPEN_READ_ONLY)?;
            Ok(Created::default())
        }
        Err(e) => Err(DatabaseError::Io(e)),
    }
}

/// SQLite.
pub(super) struct Sqlite;

impl Server for Sqlite {
    fn count_above(
        &self,
        access: &DatabaseAccess,
        table: &str,
        column: &str,
        above: Option<&str>,
    ) -> Result<(u64, Option<String>), DatabaseError> {
        let (table, column) = (name(table), name(column));
        let literal = |value: &str| format!("'{}'", value.replace('\'', "''"));
        let only = above.map(|value| format!(" WHERE {column} > {}", literal(value))).unwrap_or_default();
        let sql = format!("SELECT COUNT(*), CAST(MAX({column}) AS TEXT) FROM {table}{only}");
        let conn = open(access, OpenFlags::SQLITE_OPEN_READ_ONLY)?;
        let found = conn.query_row(&sql, [], |row| Ok((row.get::<_, i64>(0)?, row.get(1)?)));
        let (rows, last) = found.map_err(|e| refused(e, 0, sql.as_bytes()))?;
        Ok((u64::try_from(rows).unwrap_or_default(), last))
    }

    fn editor(&self, access: &DatabaseAccess) -> Result<Box<dyn RowEditor>, DatabaseError> {
        Ok(Box::new(edit::SqliteEditor::open(access)?))
    }

    fn snapshot(&self, access: &DatabaseAccess) -> Result<Box<dyn Snapshot>, DatabaseError> {
        Ok(Box::new(SqliteSnapshot::open(access)?))
    }
    fn loader(&self, access: &DatabaseAccess) -> Result<Box<dyn Loading>, DatabaseError> {
        Ok(Box::new(SqliteLoader::new(access)?))
    }
    fn facts(
        &self,
        access: &DatabaseAccess,
        wanted: &[Wanted],
    ) -> Result<(Vec<Size>, Inspection), DatabaseError> {
        facts(access, wanted)
    }
    /// What is replaced is kept as a file of its own.
    fn kept(&self, _: &DatabaseAccess) -> Result<BTreeSet<String>, DatabaseError> {
        Ok(BTreeSet::new())
    }
    fn identity(&self, access: &DatabaseAccess) -> Result<(String, u64), DatabaseError> {
        Ok((std::fs::canonicalize(&access.name)?.display().to_string(), 0))
    }
    fn trial(&self, access: &DatabaseAccess) -> Result<Trial, DatabaseError> {
        trial(access)
    }
    fn create(&self, plan: &CreatePlan) -> Result<Created, DatabaseError> {
        create(plan)
    }
    fn create_statements(&self, _: &CreatePlan) -> Vec<String> {
        Vec::new()
    }
}
