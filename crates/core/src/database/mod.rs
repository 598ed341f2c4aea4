//! MySQL and MariaDB servers over their protocol: connect, read out, load.

pub mod load;
pub mod read;

use crate::dump::inspect::{Inspection, Wanted};
use crate::place::DatabaseAccess;
use mysql::prelude::Queryable;
use mysql::{Conn, Opts, OptsBuilder};

/// Why a database could not be used.
#[derive(Debug, thiserror::Error)]
pub enum DatabaseError {
    /// No connection.
    #[error("no connection to {url}")]
    Connect {
        /// Access without the password.
        url: String,
        /// Cause.
        #[source]
        source: Box<mysql::Error>,
    },
    /// The server refused a statement.
    #[error("the server refused a statement (line {line}: {statement})")]
    Statement {
        /// Line in the dump, 0 for one of our own.
        line: u64,
        /// Beginning of the statement.
        statement: String,
        /// Cause.
        #[source]
        source: Box<mysql::Error>,
    },
    /// A statement of a kind that never reaches a server.
    #[error("line {line}: {what}")]
    Forbidden {
        /// Line in the dump.
        line: u64,
        /// What it would do.
        what: String,
    },
    /// The dump could not be read.
    #[error("the dump breaks off in line {line}: {what}")]
    CutOff {
        /// Line.
        line: u64,
        /// Statement.
        what: String,
    },
    /// Reading or writing on our side failed.
    #[error("data could not be passed on")]
    Io(#[from] std::io::Error),
}

/// Connects. The password is taken from the access.
pub fn connect(access: &DatabaseAccess) -> Result<Conn, DatabaseError> {
    let socket = access.socket.clone().or_else(|| {
        // `localhost` without a port means the server's own socket.
        let local = access.host == "localhost" && access.port.is_none();
        let usual = ["/run/mysqld/mysqld.sock", "/var/run/mysqld/mysqld.sock", "/tmp/mysql.sock"];
        usual.iter().find(|p| local && std::path::Path::new(p).exists()).map(ToString::to_string)
    });
    let host = access.host.trim_matches(['[', ']']).to_string();
    let builder = OptsBuilder::new()
        .ip_or_hostname(Some(host))
        .tcp_port(access.port.unwrap_or(3306))
        .socket(socket)
        .prefer_socket(false)
        .user(Some(access.user.clone()))
        .pass(Some(access.password.expose().to_string()))
        .db_name(Some(access.name.clone()))
        .tcp_connect_timeout(Some(std::time::Duration::from_secs(10)));
    Conn::new(Opts::from(builder))
        .map_err(|e| DatabaseError::Connect { url: access.url(), source: Box::new(e) })
}

pub(crate) fn run(conn: &mut Conn, statement: &str) -> Result<(), DatabaseError> {
    conn.query_drop(statement).map_err(|e| refused(e, 0, statement.as_bytes()))
}

pub(crate) fn refused(source: mysql::Error, line: u64, statement: &[u8]) -> DatabaseError {
    // Enough to recognise the statement, too little to give data away.
    let start = String::from_utf8_lossy(&statement[..statement.len().min(60)]).into_owned();
    DatabaseError::Statement { line, statement: start, source: Box::new(source) }
}

/// Explains an error in plain words.
pub fn told(error: &DatabaseError) -> String {
    match error {
        DatabaseError::Connect { source, .. } => connect_refusal(source),
        DatabaseError::Statement { source, .. } => source.to_string(),
        other => other.to_string(),
    }
}

fn connect_refusal(error: &mysql::Error) -> String {
    match error {
        mysql::Error::MySqlError(e) => match e.code {
            1045 => "the server refused the user or the password".into(),
            1044 => "the user has no rights on this database".into(),
            1049 => "there is no such database on the server".into(),
            1130 => "the server accepts no connection from this host".into(),
            1040 => "the server has too many connections at the moment".into(),
            _ => e.message.clone(),
        },
        mysql::Error::IoError(e) => match e.kind() {
            std::io::ErrorKind::ConnectionRefused => "nothing answers at this host and port".into(),
            std::io::ErrorKind::NotFound => "the socket is not there".into(),
            std::io::ErrorKind::PermissionDenied => "the socket may not be opened by this user".into(),
            std::io::ErrorKind::TimedOut => "the host does not answer".into(),
            _ => e.to_string(),
        },
        mysql::Error::DriverError(mysql::DriverError::CouldNotConnect(Some((_, why, kind)))) => match kind {
            std::io::ErrorKind::ConnectionRefused => "nothing answers at this host and port".into(),
            std::io::ErrorKind::TimedOut => "the host does not answer".into(),
            _ => why.clone(),
        },
        other => other.to_string(),
    }
}

/// Returns the names of all tables and views in the database.
pub fn tables(conn: &mut Conn) -> Result<Vec<String>, DatabaseError> {
    let sql = "SHOW TABLES";
    conn.query(sql).map_err(|e| refused(e, 0, sql.as_bytes()))
}

/// Name, estimated rows and bytes of a table.
pub type Size = (String, u64, u64);

/// Reads table sizes and the rows that tell the address. With `content` the whole database is read once, to count the hosts it names.
pub fn facts(
    access: &DatabaseAccess,
    wanted: &[Wanted],
    content: bool,
) -> Result<(Vec<Size>, Inspection), DatabaseError> {
    let mut conn = connect(access)?;
    let sql = "SELECT TABLE_NAME, COALESCE(TABLE_ROWS,0), COALESCE(DATA_LENGTH,0)+COALESCE(INDEX_LENGTH,0) \
               FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_TYPE = 'BASE TABLE'";
    let sizes: Vec<Size> = conn.query(sql).map_err(|e| refused(e, 0, sql.as_bytes()))?;
    let mut found = Inspection::default();
    let rows = wanted.iter().map(|wish| rows_of(&mut conn, wish, &sizes)).collect();
    if content {
        found = read::inspect_all(conn)?;
    }
    found.rows = rows;
    Ok((sizes, found))
}

fn rows_of(conn: &mut Conn, wish: &Wanted, sizes: &[Size]) -> Vec<Vec<Option<String>>> {
    if !sizes.iter().any(|(name, _, _)| *name == wish.table) {
        return Vec::new();
    }
    let columns: Vec<String> = wish.columns.iter().map(|c| name(c)).collect();
    let only = wish.only.as_ref().map(|(column, value)| {
        format!(
            " WHERE {} = {}",
            name(column),
            String::from_utf8_lossy(&crate::dump::literal::quoted(value.as_bytes()))
        )
    });
    let (columns, only) = (columns.join(","), only.unwrap_or_default());
    let sql = format!(
        "SELECT {columns} FROM {}{only} LIMIT {}",
        name(&wish.table),
        crate::dump::inspect::MOST_ROWS
    );
    let rows: Vec<mysql::Row> = conn.query(sql).unwrap_or_default();
    let text = |v: mysql::Value| match v {
        mysql::Value::Bytes(b) => String::from_utf8(b).ok(),
        mysql::Value::Int(i) => Some(i.to_string()),
        mysql::Value::UInt(i) => Some(i.to_string()),
        _ => None,
    };
    rows.into_iter().map(|r| r.unwrap().into_iter().map(text).collect()).collect()
}

/// Quotes a name.
pub fn name(plain: &str) -> String {
    format!("`{}`", plain.replace('`', "``"))
}
