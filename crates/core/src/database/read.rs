//! Reads a database out in one consistent snapshot, table by table, as SQL that loads anywhere.
//!
//! The user's own rights on the database are enough: a repeatable-read transaction with a consistent snapshot, no lock. Text comes
//! as UTF-8, bytes as hex, so that the result is valid UTF-8 whatever is stored.

use super::{DatabaseError, name, refused, run, tables};
use crate::dump::inspect::{self, Inspection};
use crate::dump::literal;
use crate::dump::split::{Part, SPOOL_LEVEL};
use crate::event::{Event, Warning, Warnings, Watch};
use mysql::prelude::Queryable;
use mysql::{Conn, Value};
use std::collections::{BTreeMap, BTreeSet};
use std::fs::File;
use std::io::{BufWriter, Write};
use std::path::Path;

/// Size at which an insert is closed and the next one begun, in bytes.
const INSERT_SIZE: usize = 256 << 10;

/// What every part begins with.
pub const SESSION: &str = "SET NAMES utf8mb4;\nSET SESSION TIME_ZONE='+00:00';\nSET SESSION SQL_MODE='NO_AUTO_VALUE_ON_ZERO';\n\
    SET SESSION FOREIGN_KEY_CHECKS=0;\nSET SESSION UNIQUE_CHECKS=0;\n";

/// Opens the snapshot.
pub fn snapshot(conn: &mut Conn) -> Result<(), DatabaseError> {
    for sql in [
        "SET NAMES utf8mb4",
        "SET SESSION TIME_ZONE='+00:00'",
        "SET SESSION SQL_MODE=''",
        "SET SESSION SQL_QUOTE_SHOW_CREATE=1",
        "SET SESSION net_write_timeout=600",
        "SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ",
        "START TRANSACTION WITH CONSISTENT SNAPSHOT",
    ] {
        run(conn, sql)?;
    }
    Ok(())
}

/// Kind of a column, as far as its spelling in SQL goes.
#[derive(Clone, Copy, PartialEq)]
enum Spelling {
    Number,
    Text,
    Bytes,
}

struct Column {
    name: String,
    spelling: Spelling,
    generated: bool,
}

fn rows<T: mysql::prelude::FromRow>(conn: &mut Conn, sql: &str) -> Result<Vec<T>, DatabaseError> {
    conn.query(sql).map_err(|e| refused(e, 0, sql.as_bytes()))
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
            "tinyint" | "smallint" | "mediumint" | "int" | "bigint" | "decimal" | "float" | "double"
            | "year" => Spelling::Number,
            "binary" | "varbinary" | "tinyblob" | "blob" | "mediumblob" | "longblob" | "bit" | "geometry"
            | "point" | "linestring" | "polygon" | "multipoint" | "multilinestring" | "multipolygon"
            | "geometrycollection" | "geomcollection" => Spelling::Bytes,
            _ => Spelling::Text,
        };
        let generated = extra.contains("GENERATED") && !extra.contains("DEFAULT_GENERATED");
        out.entry(table).or_default().push(Column { name: column, spelling, generated });
    }
    Ok(out)
}

/// Writes one table: structure, and rows unless they are left out. Returns the number of rows written.
fn write_table(
    conn: &mut Conn,
    table: &str,
    columns: &[Column],
    with_rows: bool,
    out: &mut dyn Write,
) -> Result<u64, DatabaseError> {
    let sql = format!("SHOW CREATE TABLE {}", name(table));
    let created: Vec<mysql::Row> = rows(conn, &sql)?;
    let create = created.first().and_then(|r| r.as_ref(1)).map(text).unwrap_or_default();
    out.write_all(SESSION.as_bytes())?;
    writeln!(out, "DROP TABLE IF EXISTS {};\n{create};", name(table))?;
    if !with_rows {
        return Ok(0);
    }
    let carried: Vec<&Column> = columns.iter().filter(|c| !c.generated).collect();
    let names: Vec<String> = carried.iter().map(|c| name(&c.name)).collect();
    let head = format!("INSERT INTO {} ({}) VALUES\n", name(table), names.join(","));
    let sql = format!("SELECT {} FROM {}", names.join(","), name(table));
    let mut result = conn.query_iter(&sql).map_err(|e| refused(e, 0, sql.as_bytes()))?;
    let mut count = 0;
    let mut buffer: Vec<u8> = Vec::with_capacity(INSERT_SIZE + 4096);
    let Some(set) = result.iter() else { return Ok(0) };
    for row in set {
        let row = row.map_err(|e| refused(e, 0, sql.as_bytes()))?;
        if buffer.is_empty() {
            buffer.extend_from_slice(head.as_bytes());
        } else {
            buffer.extend_from_slice(b",\n");
        }
        buffer.push(b'(');
        for (i, column) in carried.iter().enumerate() {
            if i > 0 {
                buffer.push(b',');
            }
            write_value(&mut buffer, row.as_ref(i).unwrap_or(&Value::NULL), column.spelling);
        }
        buffer.push(b')');
        count += 1;
        if buffer.len() > INSERT_SIZE {
            buffer.extend_from_slice(b";\n");
            out.write_all(&buffer)?;
            buffer.clear();
        }
    }
    if !buffer.is_empty() {
        buffer.extend_from_slice(b";\n");
        out.write_all(&buffer)?;
    }
    Ok(count)
}

fn write_value(out: &mut Vec<u8>, value: &Value, spelling: Spelling) {
    match value {
        Value::Bytes(bytes) if spelling == Spelling::Number => out.extend_from_slice(bytes),
        Value::Bytes(bytes) if spelling == Spelling::Bytes && !bytes.is_empty() => {
            out.extend_from_slice(b"0x");
            out.extend_from_slice(&literal::hex(bytes, b""));
        }
        Value::Bytes(bytes) => out.extend(literal::quoted(bytes)),
        Value::Int(i) => out.extend_from_slice(i.to_string().as_bytes()),
        Value::UInt(i) => out.extend_from_slice(i.to_string().as_bytes()),
        Value::Float(f) => out.extend_from_slice(f.to_string().as_bytes()),
        Value::Double(f) => out.extend_from_slice(f.to_string().as_bytes()),
        // Dates and times come as text from a text query; anything else is no value.
        _ => out.extend_from_slice(b"NULL"),
    }
}

/// Views, triggers, routines and events, in an order in which they can be created.
fn write_others(
    conn: &mut Conn,
    out: &mut dyn Write,
    warnings: &mut Warnings<'_>,
) -> Result<u64, DatabaseError> {
    let mut count = 0;
    let mut views = Vec::new();
    for view in rows::<String>(
        conn,
        "SELECT TABLE_NAME FROM information_schema.VIEWS WHERE TABLE_SCHEMA = DATABASE()",
    )? {
        let shown: Vec<mysql::Row> = rows(conn, &format!("SHOW CREATE VIEW {}", name(&view)))?;
        views.push((view, shown.first().and_then(|r| r.as_ref(1)).map(text).unwrap_or_default()));
    }
    while !views.is_empty() {
        // A view comes after those that it names.
        let free =
            views.iter().position(|(v, sql)| !views.iter().any(|(o, _)| o != v && sql.contains(&name(o))));
        let (_, sql) = views.remove(free.unwrap_or(0));
        writeln!(out, "{sql};")?;
        count += 1;
    }
    let kinds = [
        (
            "PROCEDURE",
            "SELECT ROUTINE_NAME FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = DATABASE() AND ROUTINE_TYPE = 'PROCEDURE'",
            2,
        ),
        (
            "FUNCTION",
            "SELECT ROUTINE_NAME FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = DATABASE() AND ROUTINE_TYPE = 'FUNCTION'",
            2,
        ),
        (
            "TRIGGER",
            "SELECT TRIGGER_NAME FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = DATABASE() ORDER BY EVENT_OBJECT_TABLE, ACTION_ORDER",
            2,
        ),
        ("EVENT", "SELECT EVENT_NAME FROM information_schema.EVENTS WHERE EVENT_SCHEMA = DATABASE()", 3),
    ];
    for (kind, list, column) in kinds {
        for item in rows::<String>(conn, list)? {
            let shown: Vec<mysql::Row> = rows(conn, &format!("SHOW CREATE {kind} {}", name(&item)))?;
            let sql = shown.first().and_then(|r| r.as_ref(column)).map(text).unwrap_or_default();
            if sql.is_empty() {
                let what = format!("the {} {item} could not be read", kind.to_ascii_lowercase());
                warnings.push(Warning::new(
                    what,
                    "",
                    "ask for the right to see its definition, or carry it by hand",
                ));
                continue;
            }
            writeln!(out, "DELIMITER ;;\n{sql};;\nDELIMITER ;")?;
            count += 1;
        }
    }
    Ok(count)
}

/// Reads the database into spooled parts, tables first.
pub fn parts(
    conn: &mut Conn,
    without_rows: &BTreeSet<String>,
    folder: &Path,
    watch: &dyn Watch,
    warnings: &mut Warnings<'_>,
) -> Result<Vec<Part>, DatabaseError> {
    snapshot(conn)?;
    let columns = columns(conn)?;
    let sql = "SELECT TABLE_NAME, COALESCE(TABLE_ROWS,0) FROM information_schema.TABLES \
               WHERE TABLE_SCHEMA = DATABASE() AND TABLE_TYPE = 'BASE TABLE' ORDER BY TABLE_NAME";
    let mut out = Vec::new();
    for (table, estimate) in rows::<(String, u64)>(conn, sql)? {
        let path = folder.join(format!("part-{}", out.len()));
        let mut writer = Counting::new(spool(&path)?, watch);
        let with_rows = !without_rows.contains(&table);
        let columns = columns.get(&table).map(Vec::as_slice).unwrap_or_default();
        let rows = write_table(conn, &table, columns, with_rows, &mut writer)?;
        let bytes = writer.finish()?;
        let rows_left_out = if with_rows { 0 } else { estimate };
        out.push(Part { table: Some(table), rows, rows_left_out, bytes, path });
    }
    let path = folder.join("part-others");
    let mut writer = Counting::new(spool(&path)?, watch);
    writer.write_all(SESSION.as_bytes())?;
    let count = write_others(conn, &mut writer, warnings)?;
    let bytes = writer.finish()?;
    if count > 0 {
        out.push(Part { table: None, rows: 0, rows_left_out: 0, bytes, path });
    }
    Ok(out)
}

type Spool = zstd::stream::write::Encoder<'static, BufWriter<File>>;

fn spool(path: &Path) -> std::io::Result<Spool> {
    zstd::stream::write::Encoder::new(BufWriter::new(File::create(path)?), SPOOL_LEVEL)
}

struct Counting<'w> {
    inner: Spool,
    count: u64,
    watch: &'w dyn Watch,
}

impl<'w> Counting<'w> {
    fn new(inner: Spool, watch: &'w dyn Watch) -> Self {
        Counting { inner, count: 0, watch }
    }

    fn finish(self) -> std::io::Result<u64> {
        self.inner.finish()?.flush()?;
        Ok(self.count)
    }
}

impl Write for Counting<'_> {
    fn write(&mut self, buf: &[u8]) -> std::io::Result<usize> {
        let n = self.inner.write(buf)?;
        self.count += n as u64;
        self.watch.event(Event::Advanced { bytes: n as u64 });
        Ok(n)
    }

    fn flush(&mut self) -> std::io::Result<()> {
        self.inner.flush()
    }
}

/// Reads the whole database once to learn which hosts its content names.
pub(super) fn inspect_all(mut conn: Conn) -> Result<Inspection, DatabaseError> {
    let (reader, writer) = std::io::pipe()?;
    let inspecting = std::thread::spawn(move || inspect::inspect(reader, &[], true));
    let written = (|| {
        let mut out = BufWriter::with_capacity(1 << 16, writer);
        snapshot(&mut conn)?;
        let columns = columns(&mut conn)?;
        for table in tables(&mut conn)? {
            if let Some(columns) = columns.get(&table) {
                write_table(&mut conn, &table, columns, true, &mut out)?;
            }
        }
        out.flush()?;
        Ok::<(), DatabaseError>(())
    })();
    let found = inspecting.join().map_err(|_| std::io::Error::other("the reader of the content stopped"))?;
    written?;
    found.map_err(|e| DatabaseError::Io(std::io::Error::other(e.to_string())))
}
