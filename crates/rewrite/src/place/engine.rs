//! Kinds of database servers, and what holds for each of them without asking one: one table, of which everything else is made.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What holds for a kind of server.
#[derive(Debug)]
pub struct EngineFacts {
    /// Name for people.
    pub name: &'static str,
    /// Schemes of URLs that name such a server; the first is the usual one.
    pub schemes: &'static [&'static str],
    /// Port that an access without one means.
    pub port: u16,
    /// Parts of names by which drivers tell it.
    pub drivers: &'static [&'static str],
    /// Whether the database is a file, and nobody logs in.
    pub is_file: bool,
    /// Whether this program speaks to such servers; of others it reads and writes scripts.
    pub serves: bool,
    /// Whether its library takes the folder of a socket for a host.
    pub host_is_socket: bool,
    /// Whether a transaction holds whole schemas, so that a load that fails has changed nothing.
    pub commits_whole: bool,
    /// The file in which a user keeps log-ins for the server's own programs.
    pub user_file: Option<&'static str>,
    /// Most bytes of a database's and of a user's name. Sources: MySQL reference manual, "Identifier Length Limits"; PostgreSQL manual,
    /// "Identifiers and Key Words".
    pub longest_names: (usize, usize),
    /// Whether users log in by plug-ins that somebody may choose.
    pub has_plugins: bool,
    /// Whether sizes and rows are counted, and not estimated.
    pub counts_exactly: bool,
}

macro_rules! engines {
    ($($(#[doc = $doc:literal])+ $(#[$default:ident])? $name:ident = $facts:expr;)+) => {
        /// Kind of a database server.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
        #[serde(rename_all = "kebab-case")]
        pub enum Engine {
            $($(#[doc = $doc])+ $(#[$default])? $name,)+
        }

        impl Engine {
            /// All of them.
            pub const ALL: &[Engine] = &[$(Engine::$name),+];

            /// What holds for it.
            pub fn facts(self) -> &'static EngineFacts {
                match self {
                    $(Engine::$name => { static FACTS: EngineFacts = $facts; &FACTS })+
                }
            }
        }
    };
}

engines! {
    /// MySQL or MariaDB.
    #[default]
    Mysql = EngineFacts {
        name: "MySQL",
        schemes: &["mysql", "mariadb"],
        port: 3306,
        drivers: &["mysql", "maria"],
        is_file: false,
        serves: true,
        host_is_socket: false,
        commits_whole: false,
        user_file: Some("~/.my.cnf"),
        longest_names: (64, 32),
        has_plugins: true,
        counts_exactly: false,
    };
    /// PostgreSQL.
    Postgres = EngineFacts {
        name: "PostgreSQL",
        schemes: &["postgres", "postgresql"],
        port: 5432,
        drivers: &["pgsql", "postgre"],
        is_file: false,
        serves: true,
        host_is_socket: true,
        commits_whole: true,
        user_file: Some("~/.pgpass"),
        longest_names: (63, 63),
        has_plugins: false,
        counts_exactly: false,
    };
    /// SQLite: the database is a file.
    Sqlite = EngineFacts {
        name: "SQLite",
        schemes: &["sqlite"],
        port: 0,
        drivers: &["sqlite"],
        is_file: true,
        serves: true,
        host_is_socket: false,
        commits_whole: true,
        user_file: None,
        longest_names: (usize::MAX, usize::MAX),
        has_plugins: false,
        counts_exactly: true,
    };
    /// SQL Server: scripts are read and written; servers are not supported.
    SqlServer = EngineFacts {
        name: "SQL Server",
        schemes: &["sqlserver"],
        port: 1433,
        drivers: &["sqlsrv", "mssql", "sqlserver"],
        is_file: false,
        serves: false,
        host_is_socket: false,
        commits_whole: false,
        user_file: None,
        longest_names: (128, 128),
        has_plugins: false,
        counts_exactly: false,
    };
}

impl Engine {
    /// Returns the scheme of URLs that name such a server.
    pub fn scheme(self) -> &'static str {
        self.facts().schemes[0]
    }

    /// Returns the server's name for people.
    pub fn name(self) -> &'static str {
        self.facts().name
    }

    /// Returns the port that an access without one means.
    pub fn default_port(self) -> u16 {
        self.facts().port
    }

    /// Tells the server by the name of a driver, such as `mysqli`, `pgsql` or a class's name.
    pub fn of_driver(driver: &str) -> Option<Engine> {
        let driver = driver.to_ascii_lowercase();
        let is = |engine: &&Engine| engine.facts().drivers.iter().any(|w| driver.contains(w));
        Engine::ALL.iter().find(is).copied()
    }

    /// Tells the server by a URL that names one, and returns what follows the scheme.
    pub fn of_url(url: &str) -> Option<(Engine, &str)> {
        let (scheme, rest) = url.split_once("://")?;
        let is = |engine: &&Engine| engine.facts().schemes.contains(&scheme);
        Some((*Engine::ALL.iter().find(is)?, rest))
    }
}
