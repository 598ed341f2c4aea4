//! Database servers over their protocols, and SQLite as a file: look, read out, create, load.
//!
//! [`snapshot::Snapshot`] is what every engine can be asked for; [`dump`] and [`sizes`] need nothing else. [`load`] guards a target and
//! feeds it through the engine's own loader, because each vets statements in its own words.

mod checkpoints;
pub mod create;
pub mod dump;
pub mod engine;
pub mod journal;
pub mod load;
pub mod loading;
mod mysql;
mod postgres;
pub mod relay;
pub mod servers;
pub mod sizes;
pub mod snapshot;
mod sqlite;
pub mod stream;
pub mod trial;
mod waiting;

use crate::dump::inspect::{MOST_ROWS, Wanted};
use std::path::PathBuf;

/// An error of a server's library.
pub type Cause = Box<dyn std::error::Error + Send + Sync>;

/// Why a database could not be used.
#[derive(Debug, thiserror::Error)]
pub enum DatabaseError {
    /// No connection.
    #[error("no connection to {url}: {refusal}")]
    Connect {
        /// Access without the password.
        url: String,
        /// What kind of refusal it is.
        refusal: Refusal,
        /// Cause.
        #[source]
        source: Cause,
    },
    /// The connection broke while work was under way.
    #[error("the connection to the server broke")]
    Lost(#[source] Cause),
    /// The server refused a statement.
    #[error("the server refused a statement (line {line}: {statement})")]
    Statement {
        /// Line in the dump, 0 for one of our own.
        line: u64,
        /// Beginning of the statement.
        statement: String,
        /// Cause.
        #[source]
        source: Cause,
    },
    /// A statement of a kind that never reaches a server.
    #[error("line {line}: {what}")]
    Forbidden {
        /// Line in the dump.
        line: u64,
        /// What it would do.
        what: String,
    },
    /// The target knows nothing of what a statement needs.
    #[error("line {line}: {what}")]
    Unfit {
        /// Line in the dump.
        line: u64,
        /// What the server does not know.
        what: String,
        /// The option that helps.
        cure: String,
    },
    /// The database holds something.
    #[error("the database {name} is not empty: it holds {}", .found.join(", "))]
    InUse {
        /// Database.
        name: String,
        /// Some of what is there.
        found: Vec<String>,
    },
    /// The database cannot be written to.
    #[error("the database {name} can only be read: {why}")]
    ReadOnly {
        /// Database.
        name: String,
        /// What the server says.
        why: String,
    },
    /// The dump could not be read.
    #[error("the dump breaks off in line {line}: {what}")]
    CutOff {
        /// Line.
        line: u64,
        /// Statement.
        what: String,
    },
    /// The dump is another server's.
    #[error("the dump is {found}'s and the database {wanted}'s")]
    OtherDialect {
        /// Of the dump.
        found: &'static str,
        /// Of the target.
        wanted: &'static str,
    },
    /// Such servers are not supported.
    #[error("{0} servers are not supported")]
    NotSpoken(&'static str),
    /// A name that a server would not take.
    #[error("the name {name:?} cannot be used: {why}")]
    Name {
        /// Name.
        name: String,
        /// Why not.
        why: String,
    },
    /// What is there could not be kept before it would have been changed.
    #[error("no dump of what is there could be kept in {}, so it stays as it is", .folder.display())]
    NotKept {
        /// Folder.
        folder: PathBuf,
        /// Cause.
        #[source]
        source: std::io::Error,
    },
    /// Reading or writing on our side failed.
    #[error("data could not be passed on")]
    Io(#[from] std::io::Error),
}

/// Why a server gave no connection.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Refusal {
    /// The host's name leads nowhere.
    UnknownHost,
    /// Nobody listens there.
    NothingAnswers,
    /// No answer in time.
    Silent,
    /// The socket is not there.
    NoSocket,
    /// The socket may not be opened.
    SocketDenied,
    /// User or password are wrong.
    LogIn,
    /// The user may not use this database.
    NoRights,
    /// There is no such database.
    NoDatabase,
    /// The server accepts nobody from this host.
    HostRefused,
    /// Too many connections.
    Busy,
    /// Encryption was insisted on and is not to be had, or the other way round.
    Tls(String),
    /// Another reason, in the server's words.
    Other(String),
}

/// What is said of a certificate that no known authority signed, or that is another host's.
pub(crate) const UNTRUSTED: &str =
    "the server's certificate is signed by no known authority, or made out to another host";

impl std::fmt::Display for Refusal {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            Refusal::UnknownHost => "no such host is known",
            Refusal::NothingAnswers => "nothing answers at this host and port",
            Refusal::Silent => "the host does not answer",
            Refusal::NoSocket => "the socket is not there",
            Refusal::SocketDenied => "the socket may not be opened by this user",
            Refusal::LogIn => "the server refused the user or the password",
            Refusal::NoRights => "the user has no rights on this database",
            Refusal::NoDatabase => "there is no such database on the server",
            Refusal::HostRefused => "the server accepts no connection from this host",
            Refusal::Busy => "the server has too many connections at the moment",
            Refusal::Tls(why) | Refusal::Other(why) => why,
        })
    }
}

impl Refusal {
    /// Says what to do next.
    pub fn cure(&self) -> &'static str {
        match self {
            Refusal::UnknownHost => "check the spelling of the host; on shared hosting it is often localhost",
            Refusal::NothingAnswers => {
                "check host and port, and whether the server runs; many servers answer on their own machine only, so try it there"
            }
            Refusal::Silent => {
                "a firewall may stand between; run this on the web host itself, or open a tunnel"
            }
            Refusal::NoSocket => {
                "name the socket with ?socket=PATH, or write 127.0.0.1 in place of localhost"
            }
            Refusal::SocketDenied => {
                "run this as a user who may open it, or write 127.0.0.1 in place of localhost"
            }
            Refusal::LogIn => {
                "check user and password; the server also tells users apart by the host they come from, and may want encryption (?tls=on)"
            }
            Refusal::NoRights => {
                "grant the user rights on this database; `zporter database create` does so with an admin's log-in"
            }
            Refusal::NoDatabase => "check the name, or make the database with `zporter database create`",
            Refusal::HostRefused => "let the user log in from this host, or run this on the web host itself",
            Refusal::Busy => "try again in a moment",
            Refusal::Tls(_) => {
                "?tls=on insists on encryption, ?tls=verified on a certificate as well, ?tls=off does without"
            }
            Refusal::Other(_) => "check host, port, socket, user, password and database name",
        }
    }

    /// Tells a refusal by the kind of an input error.
    pub(crate) fn of_io(kind: std::io::ErrorKind, why: &str) -> Self {
        match kind {
            std::io::ErrorKind::ConnectionRefused => Refusal::NothingAnswers,
            std::io::ErrorKind::NotFound => Refusal::NoSocket,
            std::io::ErrorKind::PermissionDenied => Refusal::SocketDenied,
            std::io::ErrorKind::TimedOut | std::io::ErrorKind::WouldBlock => Refusal::Silent,
            _ if why.contains("lookup address") || why.contains("resolve") => Refusal::UnknownHost,
            _ => Refusal::Other(why.to_string()),
        }
    }
}

/// Explains an error in plain words.
pub fn describe(error: &DatabaseError) -> String {
    match error {
        DatabaseError::Connect { refusal, .. } => refusal.to_string(),
        DatabaseError::Statement { source, .. } => source.to_string(),
        other => other.to_string(),
    }
}

/// Shortens a statement to what recognises it and gives little data away.
pub(crate) fn beginning(statement: &[u8]) -> String {
    String::from_utf8_lossy(&statement[..statement.len().min(60)]).replace('\n', " ")
}

/// Quotes a name as standard SQL does.
pub(crate) fn standard_name(plain: &str) -> String {
    format!("\"{}\"", plain.replace('"', "\"\""))
}

/// Quotes a text as standard SQL does.
pub(crate) fn standard_text(plain: &str) -> String {
    format!("'{}'", plain.replace('\'', "''"))
}

/// Asks for the rows of a wish, in the server's own way to quote names and texts.
pub(crate) fn question(wish: &Wanted, name: fn(&str) -> String, text: fn(&str) -> String) -> String {
    let columns: Vec<String> = wish.columns.iter().map(|c| name(c)).collect();
    let only = wish.only.as_ref().map(|(column, value)| format!(" WHERE {} = {}", name(column), text(value)));
    let (columns, only) = (columns.join(","), only.unwrap_or_default());
    format!("SELECT {columns} FROM {}{only} LIMIT {MOST_ROWS}", name(&wish.table))
}

/// The sizes that [`facts`] gives.
fn sizes_of(tables: Vec<snapshot::TableFacts>) -> Vec<Size> {
    tables.into_iter().map(|t| (t.name.clone(), t.rows, t.bytes())).collect()
}

/// Name, estimated rows and bytes of a table.
pub type Size = (String, u64, u64);
