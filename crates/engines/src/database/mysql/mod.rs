//! MySQL and MariaDB: the connection, and what their errors mean.

mod aside;
pub mod batch;
mod compatibility;
mod create;
mod edit;
mod later;
pub mod load;
mod loader;
mod mark;
pub mod read;
mod sink;

use super::trial::{Right, Trial};
use super::{DatabaseError, Refusal, Size, UNTRUSTED, beginning, question};
use crate::database::create::{CreatePlan, Created};
use crate::database::engine::{RowEditor, Server};
use crate::database::loading::Loading;
use crate::database::snapshot::Snapshot;
use crate::dump::inspect::{Inspection, Wanted};
use crate::place::{DatabaseAccess, Tls};
use ::mysql::prelude::{FromRow, Queryable};
use ::mysql::{Conn, DriverError, Error, Opts, OptsBuilder, Row, SslOpts, Value};
use std::collections::BTreeSet;

/// Where a server's socket usually lies.
const SOCKETS: [&str; 3] = ["/run/mysqld/mysqld.sock", "/var/run/mysqld/mysqld.sock", "/tmp/mysql.sock"];

/// Connects. The password is taken from the access.
pub fn connect(access: &DatabaseAccess) -> Result<Conn, DatabaseError> {
    let socket = access.socket.clone().or_else(|| {
        // `localhost` without a port means the server's own socket.
        let local = access.host == "localhost" && access.port.is_none();
        SOCKETS.iter().find(|p| local && std::path::Path::new(p).exists()).map(ToString::to_string)
    });
    let tls = match access.tls {
        Tls::Off => None,
        Tls::Offered if access.is_local() => None,
        Tls::Offered | Tls::On => Some(SslOpts::default().with_danger_accept_invalid_certs(true)),
        Tls::Verified => Some(SslOpts::default()),
    };
    let open = |tls: Option<SslOpts>| {
        let builder = OptsBuilder::new()
            .ip_or_hostname(Some(access.host.trim_matches(['[', ']'])))
            .tcp_port(access.port.unwrap_or(3306))
            .socket(socket.clone())
            .prefer_socket(false)
            .user(Some(access.user.clone()))
            .pass(Some(access.password.expose().to_string()))
            .db_name(Some(access.name.clone()).filter(|n| !n.is_empty()))
            .ssl_opts(tls)
            .tcp_connect_timeout(Some(std::time::Duration::from_secs(10)));
        Conn::new(Opts::from(builder))
    };
    let opened = match open(tls.clone()) {
        Err(Error::DriverError(DriverError::TlsNotSupported)) if access.tls == Tls::Offered => open(None),
        other => other,
    };
    opened.map_err(|e| DatabaseError::Connect {
        url: access.url(),
        refusal: refusal(&e),
        source: Box::new(e),
    })
}

fn refusal(error: &Error) -> Refusal {
    match error {
        Error::MySqlError(e) => match e.code {
            1045 | 1698 => Refusal::LogIn,
            1044 => Refusal::NoRights,
            1049 => Refusal::NoDatabase,
            1130 => Refusal::HostRefused,
            1040 | 1203 => Refusal::Busy,
            3159 => Refusal::Tls("the server takes encrypted connections only".into()),
            _ => Refusal::Other(e.message.clone()),
        },
        Error::IoError(e) => Refusal::of_io(e.kind(), &e.to_string()),
        Error::DriverError(DriverError::CouldNotConnect(Some((_, why, kind)))) => Refusal::of_io(*kind, why),
        Error::DriverError(DriverError::TlsNotSupported) => {
            Refusal::Tls("the server does not offer an encrypted connection".into())
        }
        Error::TlsError(e) => Refusal::Tls(format!("the encrypted connection failed: {e}")),
        other => match other.to_string() {
            text if text.contains("certificate") => Refusal::Tls(UNTRUSTED.into()),
            text => Refusal::Other(text),
        },
    }
}

/// Runs a statement of our own.
pub(crate) fn run(conn: &mut Conn, statement: &str) -> Result<(), DatabaseError> {
    conn.query_drop(statement).map_err(|e| refused(e, 0, statement.as_bytes()))
}

/// Asks for rows.
pub(crate) fn rows<T: FromRow>(conn: &mut Conn, sql: &str) -> Result<Vec<T>, DatabaseError> {
    conn.query(sql).map_err(|e| refused(e, 0, sql.as_bytes()))
}

pub(crate) fn refused(source: Error, line: u64, statement: &[u8]) -> DatabaseError {
    match source {
        Error::IoError(_) | Error::CodecError(_) => DatabaseError::Lost(Box::new(source)),
        Error::MySqlError(ref e) if matches!(e.code, 1053 | 1927 | 2006 | 2013) => {
            DatabaseError::Lost(Box::new(source))
        }
        Error::MySqlError(ref e) if matches!(e.code, 1290 | 1836) => {
            DatabaseError::ReadOnly { name: "of this server".into(), why: e.message.clone() }
        }
        source => {
            DatabaseError::Statement { line, statement: beginning(statement), source: Box::new(source) }
        }
    }
}

/// Returns the server's number for why it refused a statement.
fn code(error: &DatabaseError) -> Option<u16> {
    let DatabaseError::Statement { source, .. } = error else { return None };
    match source.downcast_ref() {
        Some(Error::MySqlError(e)) => Some(e.code),
        _ => None,
    }
}

/// Quotes a name.
pub fn name(plain: &str) -> String {
    format!("`{}`", plain.replace('`', "``"))
}

/// Quotes a text.
pub fn quoted(plain: &str) -> String {
    String::from_utf8_lossy(&crate::dump::literal::quoted(plain.as_bytes())).into_owned()
}

/// Asks for product and version.
pub(super) fn server(conn: &mut Conn) -> Result<String, DatabaseError> {
    let version: Vec<String> = rows(conn, "SELECT VERSION()")?;
    let version = version.into_iter().next().unwrap_or_default();
    let product = if version.to_ascii_lowercase().contains("maria") { "MariaDB" } else { "MySQL" };
    Ok(format!("{product} {}", version.split('-').next().unwrap_or_default()))
}

/// Returns the names of all tables and views in the database.
pub fn tables(conn: &mut Conn) -> Result<Vec<String>, DatabaseError> {
    rows(conn, "SHOW TABLES")
}

/// How a routine, trigger or event is noted beside tables and views, which are noted by their names.
pub(super) fn thing(kind: &str, name: &str) -> String {
    format!("{kind} {name}")
}

/// Waits until the statements of a program that was killed are done: the server carries a statement out to its end, and only then sees
/// that nobody listens.
pub fn wait_for_orphaned_statements(conn: &mut Conn) -> Result<(), DatabaseError> {
    let sql = "SELECT ID FROM information_schema.PROCESSLIST WHERE DB = DATABASE() AND ID <> CONNECTION_ID() \
               AND INFO REGEXP '^[[:space:]]*(INSERT|REPLACE|CREATE|ALTER|DROP|LOAD)'";
    let mut clear = 0;
    // A statement that takes longer is somebody else's, and not to be waited for.
    for _ in 0..200 {
        let busy: Vec<u64> = rows(conn, sql)?;
        clear = if busy.is_empty() { clear + 1 } else { 0 };
        if clear == 3 {
            break;
        }
        std::thread::sleep(std::time::Duration::from_millis(25));
    }
    Ok(())
}

/// Takes away every view, trigger, routine and event of the database, and the tables that `goes` says.
pub fn empty(conn: &mut Conn, goes: &dyn Fn(&str) -> bool) -> Result<(), DatabaseError> {
    wait_for_orphaned_statements(conn)?;
    run(conn, "SET SESSION FOREIGN_KEY_CHECKS=0")?;
    for (kind, item) in things(conn)? {
        let noted = if kind == "VIEW" { item.clone() } else { thing(kind, &item) };
        if goes(&noted) {
            run(conn, &format!("DROP {kind} IF EXISTS {}", name(&item)))?;
        }
    }
    for table in tables(conn)? {
        if goes(&table) {
            run(conn, &format!("DROP TABLE IF EXISTS {}", name(&table)))?;
        }
    }
    Ok(())
}

/// Returns triggers, events, routines and views of the database, each with the server's word for its kind.
pub(super) fn things(conn: &mut Conn) -> Result<Vec<(&'static str, String)>, DatabaseError> {
    let others = [
        ("TRIGGER", "SELECT TRIGGER_NAME FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = DATABASE()"),
        ("EVENT", "SELECT EVENT_NAME FROM information_schema.EVENTS WHERE EVENT_SCHEMA = DATABASE()"),
        (
            "PROCEDURE",
            "SELECT ROUTINE_NAME FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = DATABASE() AND ROUTINE_TYPE = 'PROCEDURE'",
        ),
        (
            "FUNCTION",
            "SELECT ROUTINE_NAME FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = DATABASE() AND ROUTINE_TYPE = 'FUNCTION'",
        ),
        ("VIEW", "SELECT TABLE_NAME FROM information_schema.VIEWS WHERE TABLE_SCHEMA = DATABASE()"),
    ];
    let mut out = Vec::new();
    for (kind, list) in others {
        out.extend(rows::<String>(conn, list)?.into_iter().map(|item| (kind, item)));
    }
    Ok(out)
}

/// Returns the server's checksum of a table's rows.
pub(super) fn checksum(conn: &mut Conn, table: &str) -> Result<Option<u64>, DatabaseError> {
    let found: Vec<(String, Option<u64>)> = rows(conn, &format!("CHECKSUM TABLE {}", name(table)))?;
    Ok(found.into_iter().find_map(|(_, sum)| sum))
}

/// Tells one database of one server from all others: what it is called, and when its server started, in seconds.
pub(super) fn identity(access: &DatabaseAccess) -> Result<(String, u64), DatabaseError> {
    let mut conn = connect(access)?;
    let sql = "SELECT CONCAT_WS('|', @@hostname, @@port, @@socket, @@datadir, DATABASE()), UNIX_TIMESTAMP()";
    let (named, now) = rows::<(String, u64)>(&mut conn, sql)?.into_iter().next().unwrap_or_default();
    let running: Vec<(String, String)> = rows(&mut conn, "SHOW GLOBAL STATUS LIKE 'Uptime'")?;
    let running: u64 = running.first().and_then(|(_, seconds)| seconds.parse().ok()).unwrap_or_default();
    Ok((named, now.saturating_sub(running)))
}

/// What [`super::trial::attempt`] asks for.
pub(super) fn trial(access: &DatabaseAccess) -> Result<Trial, DatabaseError> {
    let mut conn = connect(access)?;
    let cipher: Vec<(String, String)> = rows(&mut conn, "SHOW SESSION STATUS LIKE 'Ssl_cipher'")?;
    let grants: Vec<String> = rows(&mut conn, "SHOW GRANTS")?;
    // A grant on everything, or on this database by name or by pattern.
    let here: Vec<String> = grants
        .iter()
        .filter(|g| {
            let on = g.split(" ON ").nth(1).unwrap_or_default();
            let pattern = on.split("`.").next().unwrap_or_default().trim_start_matches('`').replace('\\', "");
            on.starts_with("*.*")
                || pattern.eq_ignore_ascii_case(&access.name)
                || (pattern.ends_with('%') && access.name.starts_with(pattern.trim_end_matches('%')))
        })
        .map(|g| g.split(" ON ").next().unwrap_or_default().to_ascii_uppercase())
        .collect();
    let may = |word: &str| here.iter().any(|g| g.contains("ALL PRIVILEGES") || g.contains(word));
    Ok(Trial {
        server: server(&mut conn)?,
        encrypted: cipher.first().is_some_and(|(_, c)| !c.is_empty()),
        tables: tables(&mut conn)?.len() as u64,
        rights: vec![
            Right::new("read the rows", may("SELECT")),
            Right::new("write rows", may("INSERT") && may("UPDATE") && may("DELETE")),
            Right::new(
                "make and change tables",
                may("CREATE") && may("ALTER") && may("DROP") && may("INDEX"),
            ),
            Right::new("make views", may("CREATE VIEW")),
            Right::new("make triggers", may("TRIGGER")),
            Right::new("make procedures and functions", may("CREATE ROUTINE")),
            Right::new("make events", may("EVENT")),
        ],
    })
}

/// What [`super::facts`] asks for.
pub(super) fn facts(
    access: &DatabaseAccess,
    wanted: &[Wanted],
) -> Result<(Vec<Size>, Inspection), DatabaseError> {
    let mut conn = connect(access)?;
    let sql = "SELECT TABLE_NAME, COALESCE(TABLE_ROWS,0), COALESCE(DATA_LENGTH,0)+COALESCE(INDEX_LENGTH,0) \
               FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_TYPE = 'BASE TABLE'";
    let sizes: Vec<Size> = rows(&mut conn, sql)?;
    let rows = wanted.iter().map(|wish| rows_of(&mut conn, wish, &sizes)).collect();
    Ok((sizes, Inspection { rows, ..Inspection::default() }))
}

fn rows_of(conn: &mut Conn, wish: &Wanted, sizes: &[Size]) -> Vec<Vec<Option<String>>> {
    if !sizes.iter().any(|(name, _, _)| *name == wish.table) {
        return Vec::new();
    }
    let rows: Vec<Row> = conn.query(question(wish, name, quoted)).unwrap_or_default();
    let text = |v: Value| match v {
        Value::Bytes(b) => String::from_utf8(b).ok(),
        Value::Int(i) => Some(i.to_string()),
        Value::UInt(i) => Some(i.to_string()),
        _ => None,
    };
    rows.into_iter().map(|r| r.unwrap().into_iter().map(text).collect()).collect()
}

/// MySQL and MariaDB.
pub(super) struct Mysql;

impl Server for Mysql {
    fn count_above(
        &self,
        access: &DatabaseAccess,
        table: &str,
        column: &str,
        above: Option<&str>,
    ) -> Result<(u64, Option<String>), DatabaseError> {
        let (table, column) = (name(table), name(column));
        let only = above.map(|value| format!(" WHERE {column} > {}", quoted(value))).unwrap_or_default();
        let sql = format!("SELECT COUNT(*), CAST(MAX({column}) AS CHAR) FROM {table}{only}");
        Ok(rows(&mut connect(access)?, &sql)?.into_iter().next().unwrap_or_default())
    }

    fn damaged(&self, access: &DatabaseAccess) -> Result<Vec<(String, String)>, DatabaseError> {
        let mut conn = connect(access)?;
        // What the server cannot open has no engine, and its comment tells why.
        let sql = "SELECT TABLE_NAME, COALESCE(TABLE_COMMENT, '') FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() \
                   AND TABLE_TYPE = 'BASE TABLE' AND ENGINE IS NULL";
        rows(&mut conn, sql)
    }

    fn kept(&self, access: &DatabaseAccess) -> Result<BTreeSet<String>, DatabaseError> {
        mark::marked(&mut connect(access)?)
    }

    fn editor(&self, access: &DatabaseAccess) -> Result<Box<dyn RowEditor>, DatabaseError> {
        Ok(Box::new(edit::MysqlEditor::open(access)?))
    }

    fn snapshot(&self, access: &DatabaseAccess) -> Result<Box<dyn Snapshot>, DatabaseError> {
        Ok(Box::new(read::MysqlSnapshot::open(access)?))
    }
    fn loader(&self, access: &DatabaseAccess) -> Result<Box<dyn Loading>, DatabaseError> {
        Ok(Box::new(load::MysqlLoader::new(access)?))
    }
    fn facts(
        &self,
        access: &DatabaseAccess,
        wanted: &[Wanted],
    ) -> Result<(Vec<Size>, Inspection), DatabaseError> {
        facts(access, wanted)
    }
    fn identity(&self, access: &DatabaseAccess) -> Result<(String, u64), DatabaseError> {
        identity(access)
    }
    fn trial(&self, access: &DatabaseAccess) -> Result<Trial, DatabaseError> {
        trial(access)
    }
    fn create(&self, plan: &CreatePlan) -> Result<Created, DatabaseError> {
        create::create(plan)
    }
    fn create_statements(&self, plan: &CreatePlan) -> Vec<String> {
        create::statements(plan)
    }
}
