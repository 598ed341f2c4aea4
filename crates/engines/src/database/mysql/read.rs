//! Reads a database out in one consistent snapshot, table by table, as SQL that loads anywhere.
//!
//! The user's own rights on the database are enough: a repeatable-read transaction with a consistent snapshot, no lock. Text comes
//! as UTF-8, bytes as hex, so that the result is valid UTF-8 whatever is stored. A `FLOAT` is read as the double that it is, because
//! servers show only six digits of it (MySQL reference manual, "Problems with Floating-Point Values").

use super::{checksum, connect, name, refused, rows, run, server, tables};
use crate::database::DatabaseError;
use crate::database::snapshot::{DumpOut, Inserts, RowKey, Snapshot, TableFacts};
use crate::dump::literal::Quoting;
use crate::dump::{definer, literal, sequence};
use crate::event::Findings;
use crate::finding::{Code, Finding};

use crate::place::DatabaseAccess;
use ::mysql::prelude::Queryable;
use ::mysql::{Conn, Row, Value};
use std::collections::{BTreeMap, BTreeSet};

/// Rows that are asked for by their keys in one question.
const KEYS: usize = 500;

/// Size at which an insert is closed and the next one begun, in bytes.
const INSERT_SIZE: usize = 256 << 10;

/// What every part begins with.
pub const SESSION: &str = "SET NAMES utf8mb4;\nSET SESSION TIME_ZONE='+00:00';\nSET SESSION SQL_MODE='NO_AUTO_VALUE_ON_ZERO';\n\
    SET SESSION FOREIGN_KEY_CHECKS=0;\nSET SESSION UNIQUE_CHECKS=0;\n";

/// The mode under which everything but bodies is loaded.
const MODE: &str = "SET SESSION SQL_MODE='NO_AUTO_VALUE_ON_ZERO';";

/// How a column is read and spelled.
#[derive(Clone, Copy, PartialEq)]
enum Spelling {
    Number,
    /// Read as the double that it is.
    Float,
    Text,
    Bytes,
}

struct Column {
    name: String,
    spelling: Spelling,
    generated: bool,
}

impl Column {
    fn selected(&self) -> String {
        match self.spelling {
            Spelling::Float => format!("{}+0E0", name(&self.name)),
            _ => name(&self.name),
        }
    }
}

/// A MySQL or MariaDB database at one moment.
pub struct MysqlSnapshot {
    conn: Conn,
    database: String,
    sequences: Vec<String>,
    columns: BTreeMap<String, Vec<Column>>,
    /// Tables in which a change sets something off, or is kept: once somebody asked.
    set_off: Option<BTreeSet<String>>,
}

impl MysqlSnapshot {
    /// Connects and opens the snapshot.
    pub fn open(access: &DatabaseAccess) -> Result<Self, DatabaseError> {
        let mut conn = connect(access)?;
        for sql in [
            "SET NAMES utf8mb4",
            "SET SESSION TIME_ZONE='+00:00'",
            "SET SESSION SQL_MODE=''",
            "SET SESSION SQL_QUOTE_SHOW_CREATE=1",
            // A slow target must not make the server give up on us.
            "SET SESSION net_write_timeout=3600",
            "SET SESSION wait_timeout=28800",
            "SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ",
            "START TRANSACTION WITH CONSISTENT SNAPSHOT",
        ] {
            run(&mut conn, sql)?;
        }
        let columns = columns(&mut conn)?;
        Ok(MysqlSnapshot {
            conn,
            database: access.name.clone(),
            sequences: Vec::new(),
            columns,
            set_off: None,
        })
    }
}

impl Snapshot for MysqlSnapshot {
    fn server(&mut self) -> Result<String, DatabaseError> {
        server(&mut self.conn)
    }

    fn session(&self) -> &'static str {
        SESSION
    }

    fn tables(&mut self) -> Result<Vec<TableFacts>, DatabaseError> {
        let sql = "SELECT TABLE_NAME, COALESCE(TABLE_ROWS,0), COALESCE(DATA_LENGTH,0), COALESCE(INDEX_LENGTH,0) \
               FROM information_schema.TABLES \
               WHERE TABLE_SCHEMA = DATABASE() AND TABLE_TYPE IN ('BASE TABLE','SYSTEM VERSIONED') ORDER BY TABLE_NAME";
        let found: Vec<(String, u64, u64, u64)> = rows(&mut self.conn, sql)?;
        Ok(found
            .into_iter()
            .map(|(name, rows, data, index)| TableFacts { name, rows, data, index })
            .collect())
    }

    fn before(&mut self, has: &dyn Fn(&str) -> bool, out: &mut dyn DumpOut) -> Result<u64, DatabaseError> {
        let mut sequences: Vec<String> = rows(
            &mut self.conn,
            "SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_TYPE = 'SEQUENCE' ORDER BY TABLE_NAME",
        )?;
        sequences.retain(|s| has(s));
        for sequence in &sequences {
            write_sequence(&mut self.conn, sequence, out)?;
        }
        self.sequences = sequences;
        Ok(self.sequences.len() as u64)
    }

    fn table(&mut self, table: &str, with_rows: bool, out: &mut dyn DumpOut) -> Result<u64, DatabaseError> {
        let columns = self.columns.get(table).map(Vec::as_slice).unwrap_or_default();
        let created: Vec<Row> = rows(&mut self.conn, &format!("SHOW CREATE TABLE {}", name(table)))?;
        let mut create = created.first().and_then(|r| r.as_ref(1)).map(text).unwrap_or_default();
        if !self.sequences.is_empty() {
            create = of_no_database(&create, &self.database);
        }
        writeln!(out, "DROP TABLE IF EXISTS {};\n{create};", name(table))?;
        if with_rows { write_rows(&mut self.conn, table, columns, "", out) } else { Ok(0) }
    }

    fn row_key(&mut self, table: &str) -> Result<Option<RowKey>, DatabaseError> {
        if self.set_off.is_none() {
            let sql = "SELECT EVENT_OBJECT_TABLE FROM information_schema.TRIGGERS WHERE EVENT_OBJECT_SCHEMA = DATABASE() \
                       UNION SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_TYPE <> 'BASE TABLE'";
            self.set_off = Some(rows::<String>(&mut self.conn, sql)?.into_iter().collect());
        }
        let known = self.columns.get(table).map(Vec::as_slice).unwrap_or_default();
        let floats = known.iter().any(|c| c.spelling == Spelling::Float);
        if floats || self.set_off.as_ref().is_none_or(|set_off| set_off.contains(table)) {
            return Ok(None);
        }
        // These ask for one table, where the server's own schema would look at all.
        let texts =
            |row: Row, wanted: [usize; 2]| wanted.map(|at| row.as_ref(at).map(text).unwrap_or_default());
        let shown: Vec<Row> = rows(&mut self.conn, &format!("SHOW COLUMNS FROM {}", name(table)))?;
        let mut whole = BTreeSet::new();
        for row in shown {
            let by_itself = row.as_ref(5).map(text).unwrap_or_default().to_ascii_lowercase();
            let [column, kind] = texts(row, [0, 1]);
            let kind = kind.to_ascii_lowercase();
            if by_itself.contains("on update") || kind.starts_with("bit") {
                return Ok(None);
            }
            let kinds = ["tinyint", "smallint", "mediumint", "int", "bigint"];
            if kinds.contains(&kind.split(['(', ' ']).next().unwrap_or_default()) {
                whole.insert(column);
            }
        }
        let sql = format!("SHOW KEYS FROM {} WHERE Non_unique = 0", name(table));
        let (mut columns, mut unique) = (Vec::new(), Vec::new());
        for row in rows::<Row>(&mut self.conn, &sql)? {
            let [index, column] = texts(row, [2, 4]);
            if index == "PRIMARY" { columns.push(column) } else { unique.push(column) }
        }
        let fits = !columns.is_empty() && columns.iter().all(|c| whole.contains(c));
        Ok(fits.then_some(RowKey { columns, unique }))
    }

    fn table_in_order(
        &mut self,
        table: &str,
        key: &[String],
        only: Option<&[Vec<i128>]>,
        out: &mut dyn DumpOut,
    ) -> Result<u64, DatabaseError> {
        self.table(table, false, out)?;
        let columns = self.columns.get(table).map(Vec::as_slice).unwrap_or_default();
        let names: Vec<String> = key.iter().map(|c| name(c)).collect();
        let order = format!(" ORDER BY {}", names.join(","));
        let Some(only) = only else { return write_rows(&mut self.conn, table, columns, &order, out) };
        let is = |row: &Vec<i128>| {
            let parts = names.iter().zip(row).map(|(name, value)| format!("{name}={value}"));
            format!("({})", parts.collect::<Vec<_>>().join(" AND "))
        };
        let mut count = 0;
        for some in only.chunks(KEYS) {
            let told = match names.as_slice() {
                [one] => {
                    let values: Vec<String> = some.iter().flatten().map(ToString::to_string).collect();
                    format!("{one} IN ({})", values.join(","))
                }
                _ => some.iter().map(is).collect::<Vec<_>>().join(" OR "),
            };
            count += write_rows(&mut self.conn, table, columns, &format!(" WHERE {told}{order}"), out)?;
        }
        Ok(count)
    }

    fn row_prints(
        &mut self,
        table: &str,
        key: &[String],
        take: &mut dyn FnMut(Vec<i128>, u64) -> bool,
    ) -> Result<(), DatabaseError> {
        let columns = self.columns.get(table).map(Vec::as_slice).unwrap_or_default();
        // Each column counts otherwise, so that values which change places are told; nothing is no empty text.
        let print = columns.iter().filter(|c| !c.generated).enumerate().map(|(number, column)| {
            let factor = 1_000_003 + 2 * (number as u64 * 7919 % 400_000);
            format!("(IFNULL(CRC32({}),4294967296)*{factor})", name(&column.name))
        });
        let print = print.collect::<Vec<_>>().join("^");
        let keys = key.iter().map(|c| name(c)).collect::<Vec<_>>().join(",");
        let sql = format!("SELECT {keys},{print} FROM {} ORDER BY {keys}", name(table));
        let wrong = |e| refused(e, 0, sql.as_bytes());
        let mut result = self.conn.query_iter(&sql).map_err(wrong)?;
        let Some(mut set) = result.iter() else { return Ok(()) };
        let number = |value: Option<&Value>| match value {
            Some(Value::Bytes(text)) => std::str::from_utf8(text).ok()?.parse::<i128>().ok(),
            Some(Value::Int(n)) => Some(i128::from(*n)),
            Some(Value::UInt(n)) => Some(i128::from(*n)),
            _ => None,
        };
        set.try_for_each(|row| {
            let row = row.map_err(wrong)?;
            let mut all: Option<Vec<i128>> = (0..=key.len()).map(|at| number(row.as_ref(at))).collect();
            let print = all.as_mut().and_then(Vec::pop).and_then(|p| u64::try_from(p).ok());
            let wants_more = all.zip(print).is_some_and(|(key, print)| take(key, print));
            if wants_more { Ok(()) } else { Err(DatabaseError::Io(std::io::ErrorKind::Interrupted.into())) }
        })
    }

    fn checksum(&mut self, table: &str) -> Result<Option<u64>, DatabaseError> {
        checksum(&mut self.conn, table)
    }

    fn after(
        &mut self,
        has: &dyn Fn(&str) -> bool,
        out: &mut dyn DumpOut,
        findings: &mut Findings<'_>,
    ) -> Result<u64, DatabaseError> {
        let sequences = &self.sequences;
        let has = |table: &str| has(table) || sequences.iter().any(|s| s == table);
        write_others(&mut self.conn, &self.database, &has, out, findings)
    }
}

fn text(value: &Value) -> String {
    match value {
        Value::Bytes(b) => String::from_utf8_lossy(b).into_owned(),
        _ => String::new(),
    }
}

/// All columns of the database by table, in one question: thousands of tables would make thousands of them.
fn columns(conn: &mut Conn) -> Result<BTreeMap<String, Vec<Column>>, DatabaseError> {
    let sql = "SELECT TABLE_NAME, COLUMN_NAME, DATA_TYPE, EXTRA FROM information_schema.COLUMNS \
               WHERE TABLE_SCHEMA = DATABASE() ORDER BY TABLE_NAME, ORDINAL_POSITION";
    let mut out: BTreeMap<String, Vec<Column>> = BTreeMap::new();
    for (table, column, kind, extra) in rows::<(String, String, String, String)>(conn, sql)? {
        let spelling = match kind.to_ascii_lowercase().as_str() {
            "tinyint" | "smallint" | "mediumint" | "int" | "bigint" | "decimal" | "double" | "year" => {
                Spelling::Number
            }
            "float" => Spelling::Float,
            "binary" | "varbinary" | "tinyblob" | "blob" | "mediumblob" | "longblob" | "bit" | "geometry"
            | "point" | "linestring" | "polygon" | "multipoint" | "multilinestring" | "multipolygon"
            | "geometrycollection" | "geomcollection" | "vector" => Spelling::Bytes,
            _ => Spelling::Text,
        };
        let extra = extra.to_ascii_uppercase();
        let generated = extra.contains("GENERATED") && !extra.contains("DEFAULT_GENERATED")
            || matches!(extra.as_str(), "VIRTUAL" | "PERSISTENT");
        out.entry(table).or_default().push(Column { name: column, spelling, generated });
    }
    Ok(out)
}

/// Writes a sequence of MariaDB's and how far it is.
fn write_sequence(conn: &mut Conn, sequence: &str, out: &mut dyn DumpOut) -> Result<(), DatabaseError> {
    let sequence = name(sequence);
    let created: Vec<Row> = rows(conn, &format!("SHOW CREATE SEQUENCE {sequence}"))?;
    let create = created.first().and_then(|r| r.as_ref(1)).map(text).unwrap_or_default();
    let state: Vec<(i128, i128)> =
        rows(conn, &format!("SELECT next_not_cached_value, cycle_count FROM {sequence}"))?;
    let (next, round) = state.first().copied().unwrap_or_default();
    writeln!(
        out,
        "DROP SEQUENCE IF EXISTS {sequence};\n{create};\nDO SETVAL({sequence}, {next}, 0, {round});"
    )?;
    Ok(())
}

/// Takes the database's own name out of a statement: where a definer is gone the server names it everywhere, and a body may have been
/// written with it. What names other databases as well stays as it is.
fn of_no_database(create: &str, database: &str) -> String {
    let own =
        sequence::named(create.as_bytes(), Quoting::MYSQL).into_iter().filter(|n| n.database == database);
    let edits: Vec<_> = own.map(|n| n.without_database()).collect();
    let create = String::from_utf8_lossy(&crate::edit::apply(create.as_bytes(), &edits)).into_owned();
    crate::vet::mysql::localised(&create, Quoting::MYSQL, database)
}

/// Writes the rows of a table. Returns their number.
fn write_rows(
    conn: &mut Conn,
    table: &str,
    columns: &[Column],
    which: &str,
    out: &mut dyn DumpOut,
) -> Result<u64, DatabaseError> {
    let carried: Vec<&Column> = columns.iter().filter(|c| !c.generated).collect();
    let names: Vec<String> = carried.iter().map(|c| name(&c.name)).collect();
    let selected: Vec<String> = carried.iter().map(|c| c.selected()).collect();
    let head = format!("INSERT INTO {} ({}) VALUES\n", name(table), names.join(","));
    let sql = format!("SELECT {} FROM {}{which}", selected.join(","), name(table));
    let mut result = conn.query_iter(&sql).map_err(|e| refused(e, 0, sql.as_bytes()))?;
    let mut inserts = Inserts::new(out, head, INSERT_SIZE);
    let Some(set) = result.iter() else { return Ok(0) };
    for row in set {
        let row = row.map_err(|e| refused(e, 0, sql.as_bytes()))?;
        inserts.row_of::<DatabaseError>(|buffer| {
            let start = buffer.len();
            write_values(buffer, &row, &carried, true);
            // Nearly every row is text as a whole, and one look at it costs less than one at each value.
            if simdutf8::basic::from_utf8(&buffer[start..]).is_err() {
                buffer.truncate(start);
                write_values(buffer, &row, &carried, false);
            }
            Ok(())
        })?;
    }
    Ok(inserts.end()?)
}

/// Writes the values of a row. `is_text` says whether all that should be text is taken for that.
fn write_values(out: &mut Vec<u8>, row: &Row, columns: &[&Column], is_text: bool) {
    for (i, column) in columns.iter().enumerate() {
        if i > 0 {
            out.push(b',');
        }
        write_value(out, row.as_ref(i).unwrap_or(&Value::NULL), column.spelling, is_text);
    }
}

fn write_value(out: &mut Vec<u8>, value: &Value, spelling: Spelling, is_text: bool) {
    match (value, spelling) {
        (Value::Bytes(bytes), Spelling::Number | Spelling::Float) => out.extend_from_slice(bytes),
        (Value::Bytes(bytes), Spelling::Bytes) if !bytes.is_empty() => literal::push_hex(out, bytes),
        (Value::Bytes(bytes), _) if is_text || simdutf8::basic::from_utf8(bytes).is_ok() => {
            literal::push_quoted(out, bytes)
        }
        // Bytes that the column's charset does not allow: as they are.
        (Value::Bytes(bytes), _) => literal::push_hex(out, bytes),
        // Dates, times and numbers come as text from a text query.
        _ => out.extend_from_slice(b"NULL"),
    }
}

/// Takes the definer out of a statement: who loads it becomes the definer, on whatever server.
fn strip_definer(sql: &str) -> String {
    let bytes = crate::edit::apply(sql.as_bytes(), &definer::edits(sql.as_bytes()));
    String::from_utf8_lossy(&bytes).into_owned()
}

/// Views, triggers, routines and events, in an order in which they can be created.
fn write_others(
    conn: &mut Conn,
    database: &str,
    has: &dyn Fn(&str) -> bool,
    out: &mut dyn DumpOut,
    findings: &mut Findings<'_>,
) -> Result<u64, DatabaseError> {
    let mut count = 0;
    let routines = [
        (
            "PROCEDURE",
            "SELECT ROUTINE_NAME, '' FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = DATABASE() AND ROUTINE_TYPE = 'PROCEDURE'",
            2,
        ),
        (
            "FUNCTION",
            "SELECT ROUTINE_NAME, '' FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = DATABASE() AND ROUTINE_TYPE = 'FUNCTION'",
            2,
        ),
    ];
    // Views may call functions.
    count += write_stored(conn, database, &routines, has, out, findings)?;
    let mut views = Vec::new();
    for view in rows::<String>(
        conn,
        "SELECT TABLE_NAME FROM information_schema.VIEWS WHERE TABLE_SCHEMA = DATABASE()",
    )? {
        let shown: Vec<Row> = rows(conn, &format!("SHOW CREATE VIEW {}", name(&view)))?;
        views.push((view, shown.first().and_then(|r| r.as_ref(1)).map(text).unwrap_or_default()));
    }
    let missing: Vec<String> =
        tables(conn)?.into_iter().filter(|t| !has(t) && !views.iter().any(|(v, _)| v == t)).collect();
    views.retain(|(view, sql)| {
        let needs = missing.iter().find(|t| sql.contains(&name(t)));
        if let Some(table) = needs {
            let what =
                format!("the view {view} was not written: it needs the table {table}, which is left out");
            findings.push(Finding::new(Code::ObjectLeftOut, what, "", ""));
        }
        needs.is_none()
    });
    while !views.is_empty() {
        // A view comes after those that it names.
        let free =
            views.iter().position(|(v, sql)| !views.iter().any(|(o, _)| o != v && sql.contains(&name(o))));
        let (_, sql) = views.remove(free.unwrap_or(0));
        writeln!(out, "{};", of_no_database(&strip_definer(&sql), database))?;
        count += 1;
    }
    let rest = [
        (
            "TRIGGER",
            "SELECT TRIGGER_NAME, EVENT_OBJECT_TABLE FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = DATABASE() ORDER BY EVENT_OBJECT_TABLE, ACTION_ORDER",
            2,
        ),
        ("EVENT", "SELECT EVENT_NAME, '' FROM information_schema.EVENTS WHERE EVENT_SCHEMA = DATABASE()", 3),
    ];
    count += write_stored(conn, database, &rest, has, out, findings)?;
    Ok(count)
}

/// Kinds of what has a body, each with the question for its names and the column of the answer in which its text is.
type Stored<'s> = [(&'s str, &'s str, usize)];

/// Writes what has a body.
fn write_stored(
    conn: &mut Conn,
    database: &str,
    kinds: &Stored<'_>,
    has: &dyn Fn(&str) -> bool,
    out: &mut dyn DumpOut,
    findings: &mut Findings<'_>,
) -> Result<u64, DatabaseError> {
    let mut count = 0;
    for (kind, list, column) in kinds {
        for (item, on) in rows::<(String, String)>(conn, list)? {
            if !on.is_empty() && !has(&on) {
                continue;
            }
            let shown: Vec<Row> = rows(conn, &format!("SHOW CREATE {kind} {}", name(&item)))?;
            let sql = shown.first().and_then(|r| r.as_ref(*column)).map(text).unwrap_or_default();
            if sql.is_empty() {
                let what = format!("the {} {item} could not be read", kind.to_ascii_lowercase());
                findings.push(Finding::new(
                    Code::ObjectLeftOut,
                    what,
                    "",
                    "ask for the right to see its definition, or copy it by hand",
                ));
                continue;
            }
            let sql = of_no_database(&strip_definer(&sql), database);
            // An event's times are those of its zone.
            let zone = shown.first().filter(|_| *kind == "EVENT").and_then(|r| r.as_ref(2)).map(text);
            let zone = zone.filter(|z| !z.is_empty());
            if let Some(zone) = &zone {
                writeln!(out, "SET time_zone={};", super::quoted(zone))?;
            }
            // A body keeps the mode under which it was made.
            let mode = shown.first().and_then(|r| r.as_ref(1)).map(text).unwrap_or_default();
            writeln!(out, "SET SESSION SQL_MODE='{mode}';\nDELIMITER ;;\n{sql};;\nDELIMITER ;\n{MODE}")?;
            if zone.is_some() {
                writeln!(out, "SET time_zone='+00:00';")?;
            }
            count += 1;
        }
    }
    Ok(count)
}
