//! SQLite: the database is a file. A dump is read in one transaction, a load is one transaction, or stages that are one each.

use super::create::{CreateJob, Created};
use super::journal::{Keeper, Reached};
use super::load::{Loaded, Loading, Plain, each_piece, text_of};
use super::snapshot::{DumpOut, Inserts, Snapshot, TableFacts};
use super::stages::{Stages, Turn, committed_by_rows};
use super::trial::{Right, Trial};
use super::{DatabaseError, Refusal, Size, beginning, question, sizes_of};
use super::{standard_name as name, standard_text as quoted};
use crate::dump::dialect::Dialect;
use crate::dump::inspect::{Inspection, Wanted};
use crate::dump::literal;
use crate::dump::row::{self, Value, ValueKind};
use crate::dump::statement::Class;
use crate::dump::stream::{At, Piece};
use crate::event::{Warning, Warnings};
use crate::place::DatabaseAccess;
use rusqlite::types::ValueRef;
use rusqlite::{Connection, OpenFlags, Row};
use std::collections::BTreeSet;
use std::io::Read;
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

    fn before(&mut self, out: &mut dyn DumpOut) -> Result<u64, DatabaseError> {
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
        let names: Vec<String> = columns.iter().map(|c| name(c)).collect();
        let head = format!("INSERT INTO {}({}) VALUES", name(table), names.join(","));
        let sql = format!("SELECT {} FROM {}", names.join(","), name(table));
        let wrong = |e| refused(e, 0, sql.as_bytes());
        let mut statement = self.0.prepare(&sql).map_err(wrong)?;
        let mut rows = statement.query([]).map_err(wrong)?;
        let mut inserts = Inserts::new(out, head, INSERT_SIZE);
        while let Some(row) = rows.next().map_err(wrong)? {
            inserts.row::<DatabaseError>(columns.len(), |buffer, i| {
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
        _: &mut Warnings<'_>,
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
pub(super) fn create(job: &CreateJob) -> Result<Created, DatabaseError> {
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

/// A file into which dumps are loaded.
pub struct SqliteLoader {
    conn: Connection,
    loaded: Loaded,
    stages: Stages,
}

impl SqliteLoader {
    /// Opens the file, or makes it, and begins the first transaction.
    pub fn new(access: &DatabaseAccess) -> Result<Self, DatabaseError> {
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE
            | OpenFlags::SQLITE_OPEN_CREATE
            | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let conn = open(access, flags)?;
        conn.execute_batch("PRAGMA foreign_keys=OFF; PRAGMA trusted_schema=OFF; BEGIN;").map_err(own)?;
        Ok(SqliteLoader { conn, loaded: Loaded::default(), stages: Stages::default() })
    }
}

impl Loading for SqliteLoader {
    fn tables(&mut self) -> Result<Vec<String>, DatabaseError> {
        list(
            &self.conn,
            "SELECT name FROM sqlite_schema WHERE type IN ('table','view') AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\' ORDER BY name",
            |r| r.get(0),
        )
    }

    fn empty_of(&mut self, _: &dyn Fn(&str) -> bool) -> Result<(), DatabaseError> {
        let views: Vec<String> =
            list(&self.conn, "SELECT name FROM sqlite_schema WHERE type = 'view'", |r| r.get(0))?;
        for (kind, names) in [("VIEW", views), ("TABLE", tables(&self.conn)?)] {
            for item in names {
                self.conn.execute(&format!("DROP {kind} {}", name(&item)), []).map_err(own)?;
            }
        }
        Ok(())
    }

    fn in_stages(&mut self, _: u64, keeper: Box<dyn Keeper>) {
        self.stages.begin(keeper);
    }

    fn go_on(&mut self, reached: Reached) -> Result<(), DatabaseError> {
        let conn = &self.conn;
        let known = tables(conn)?;
        let there = self.stages.go_on(reached, |stage| {
            committed_by_rows(stage, |table, sent| {
                Ok(known.iter().any(|t| t == table) && count(conn, table)? == sent)
            })
        })?;
        if self.loaded.goes_on(there) { Ok(()) } else { self.empty() }
    }

    fn load(&mut self, reader: &mut dyn Read, _: Option<Plain>) -> Result<(), DatabaseError> {
        let mut sink = LoadSink { loader: self, table: String::new(), statement: Vec::new() };
        each_piece(reader, Dialect::Sqlite, &mut |piece, at| sink.take(piece, at))
    }

    fn finish(self: Box<Self>) -> Result<Loaded, DatabaseError> {
        let SqliteLoader { conn, mut loaded, mut stages } = *self;
        for (table, sent) in &loaded.rows {
            let there = count(&conn, table)?;
            if there != *sent && table != "sqlite_sequence" {
                loaded.differing.push((table.clone(), *sent, there));
            }
        }
        let broken: Vec<String> =
            list(&conn, "SELECT DISTINCT \"table\" FROM pragma_foreign_key_check", |r| r.get(0))?;
        for table in broken {
            let what = "rows refer to rows that are not there";
            loaded.warnings.push(Warning::new(what, table, "compare with the source"));
        }
        stages.end(&loaded.rows, None, || conn.execute_batch("COMMIT").map_err(own))?;
        Ok(loaded)
    }
}

fn count(conn: &Connection, table: &str) -> Result<u64, DatabaseError> {
    let sql = format!("SELECT COUNT(*) FROM {}", name(table));
    let there: i64 = conn.query_row(&sql, [], |r| r.get(0)).map_err(own)?;
    Ok(u64::try_from(there).unwrap_or_default())
}

struct LoadSink<'l> {
    loader: &'l mut SqliteLoader,
    table: String,
    /// The insert at hand.
    statement: Vec<u8>,
}

/// Functions that may stand in a row.
const FUNCTIONS: [&str; 6] = ["replace", "char", "cast", "unistr", "date", "datetime"];

impl LoadSink<'_> {
    /// Runs one statement; text that holds a second one is refused by the library.
    fn run(&mut self, statement: &[u8], line: u64) -> Result<(), DatabaseError> {
        let text = text_of(statement, line)?;
        match self.loader.conn.execute(text, []) {
            Ok(_) | Err(rusqlite::Error::ExecuteReturnedResults) => Ok(()),
            Err(rusqlite::Error::MultipleStatement) => {
                Err(DatabaseError::Forbidden { line, what: "a second statement hides in this one".into() })
            }
            Err(e) => Err(refused(e, line, statement)),
        }
    }

    fn whole(&mut self, body: &[u8], at: At<'_>) -> Result<(), DatabaseError> {
        let line = at.line;
        let words: Vec<String> = String::from_utf8_lossy(&body[..body.len().min(200)])
            .split_ascii_whitespace()
            .map(str::to_ascii_uppercase)
            .collect();
        let word = |n: usize| words.get(n).map(String::as_str).unwrap_or_default();
        let forbidden = |what: String| Err(DatabaseError::Forbidden { line, what });
        match &at.statement.class {
            Class::Transaction | Class::Empty => Ok(()),
            Class::CreateTable if word(1) == "VIRTUAL" => {
                let upper = String::from_utf8_lossy(body).to_ascii_uppercase();
                let known = ["USING FTS3", "USING FTS4", "USING FTS5", "USING RTREE"];
                if !known.iter().any(|k| upper.contains(k)) {
                    return forbidden(
                        "a virtual table of this kind could reach outside of the database".into(),
                    );
                }
                self.run(body, line)
            }
            Class::CreateTable
            | Class::DropTable
            | Class::AlterTable
            | Class::CreateIndex
            | Class::CreateView
            | Class::CreateTrigger
            | Class::DropOther => self.run(body, line),
            Class::Insert => {
                let lower = String::from_utf8_lossy(body).to_ascii_lowercase();
                if lower.contains("select")
                    || at
                        .statement
                        .name
                        .as_deref()
                        .is_some_and(|n| n.starts_with("sqlite_schema") || n == "sqlite_master")
                {
                    return forbidden("an insert that is more than rows is not loaded".into());
                }
                *self.loader.loaded.rows.entry(at.statement.name.clone().unwrap_or_default()).or_default() +=
                    1;
                self.run(body, line)
            }
            Class::Other(first) if first == "PRAGMA" => {
                let pragma = word(1).split(['=', '(']).next().unwrap_or_default().to_ascii_lowercase();
                match pragma.as_str() {
                    "foreign_keys" => Ok(()),
                    "user_version" | "application_id" => self.run(body, line),
                    other => forbidden(format!("PRAGMA {other} is no setting of a dump")),
                }
            }
            Class::Other(first)
                if first == "DELETE"
                    && word(2).trim_matches('"').eq_ignore_ascii_case("sqlite_sequence")
                    && words.len() == 3 =>
            {
                self.run(body, line)
            }
            Class::Other(first) if matches!(first.as_str(), "ANALYZE" | "END") => Ok(()),
            Class::Other(first) => forbidden(format!("{first} is no statement of a site's dump")),
            other => forbidden(format!("{other:?} is no statement of this database's")),
        }
    }

    fn take(&mut self, piece: Piece<'_>, at: At<'_>) -> Result<(), DatabaseError> {
        let line = at.line;
        match self.loader.stages.turn(&piece, at) {
            Turn::Skip => return Ok(()),
            Turn::Take => {}
            Turn::CommitFirst => {
                let SqliteLoader { conn, loaded, stages } = &mut *self.loader;
                let commit = || conn.execute_batch("COMMIT; BEGIN").map_err(own);
                stages.commit(&loaded.rows, BTreeSet::new(), None, commit)?;
            }
        }
        match piece {
            Piece::Gap(_) | Piece::CutOff(_) => Ok(()),
            Piece::Whole { bytes, delimiter, .. } => self.whole(&bytes[..bytes.len() - delimiter], at),
            Piece::InsertHead(head) => {
                self.table = at.statement.name.clone().unwrap_or_default();
                if self.table.eq_ignore_ascii_case("sqlite_schema")
                    || self.table.eq_ignore_ascii_case("sqlite_master")
                {
                    let what = "the statement writes to the list of tables itself".into();
                    return Err(DatabaseError::Forbidden { line, what });
                }
                self.statement = head.to_vec();
                Ok(())
            }
            Piece::Rows(rows) => {
                let mut values: Vec<Value> = Vec::new();
                for row in rows.each() {
                    row::cut(row, at.quoting, &mut values);
                    for value in values.iter().filter(|v| v.kind == ValueKind::Expression) {
                        let text = String::from_utf8_lossy(&row[value.span.clone()]).to_ascii_lowercase();
                        let function = text.split('(').next().unwrap_or_default().trim().to_string();
                        if text.contains('(') && !FUNCTIONS.contains(&function.as_str()) {
                            let what = format!("the row calls {function}()");
                            return Err(DatabaseError::Forbidden { line, what });
                        }
                    }
                }
                self.loader.stages.filled(&self.table, rows.bytes.len());
                *self.loader.loaded.rows.entry(self.table.clone()).or_default() += rows.count() as u64;
                self.statement.extend_from_slice(rows.bytes);
                Ok(())
            }
            Piece::Between(bytes) => {
                self.statement.extend_from_slice(bytes);
                Ok(())
            }
            Piece::Tail { bytes, delimiter } => {
                self.statement.extend_from_slice(&bytes[..bytes.len() - delimiter]);
                let statement = std::mem::take(&mut self.statement);
                self.run(&statement, line)
            }
        }
    }
}
