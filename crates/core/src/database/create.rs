//! Makes a database with a user who has rights on exactly that database. Run twice, nothing breaks.

use super::mysql::{connect, name as quoted_name, quoted, rows, run};
use super::{DatabaseError, Refusal};
use crate::place::{DatabaseAccess, Engine};
use crate::secret::Secret;
use schemars::JsonSchema;
use serde::Serialize;

/// What is to be made.
#[derive(Debug, Clone)]
pub struct CreatePlan {
    /// The new database and its user, with password.
    pub wanted: DatabaseAccess,
    /// Log-in that may make them.
    pub admin: DatabaseAccess,
    /// Beginning that a host asks of all names of an account.
    pub account_prefix: Option<String>,
    /// Host from which the user logs in, where it is not the one that the server sees now.
    pub from_host: Option<String>,
    /// Authentication plug-in of the user, where the server's own choice does not fit; MySQL and MariaDB only.
    pub auth_plugin: Option<String>,
}

/// What was made.
#[derive(Debug, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Created {
    /// Whether the database is new.
    #[serde(rename = "database_made")]
    pub database: bool,
    /// Whether the user is new.
    #[serde(rename = "user_made")]
    pub user: bool,
    /// Hosts from which the user may log in.
    pub hosts: Vec<String>,
    /// Whether a user that was there logs in with the password that was given; unknown where that could not be tried from here.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub password_fits: Option<bool>,
    /// Authentication plug-in by which the user logs in, where the server tells.
    pub auth_plugin: Option<String>,
    /// The statements, with stars for the password.
    pub statements: Vec<String>,
}

/// Letters of generated passwords: none that a shell, a config file or a URL could take for something else.
const LETTERS: &[u8; 62] = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789";

/// Length of generated passwords.
pub const PASSWORD_LENGTH: usize = 28;

/// Strength of generated passwords in bits: the logarithm of how many there are.
pub fn password_bits() -> u32 {
    (PASSWORD_LENGTH as f64 * (LETTERS.len() as f64).log2()) as u32
}

/// Makes a password from the operating system's randomness.
pub fn new_password() -> Result<Secret, DatabaseError> {
    let mut out = String::new();
    while out.len() < PASSWORD_LENGTH {
        let mut byte = [0];
        rustix::rand::getrandom(&mut byte, rustix::rand::GetRandomFlags::empty())
            .map_err(std::io::Error::from)?;
        // Bytes beyond the last whole round of the letters would make some letters likelier.
        if usize::from(byte[0]) < 256 / LETTERS.len() * LETTERS.len() {
            out.push(char::from(LETTERS[usize::from(byte[0]) % LETTERS.len()]));
        }
    }
    Ok(Secret::new(out))
}

/// Checks the names of database and user against what servers and hosts allow. Sources: MySQL reference manual, "Identifier Length
/// Limits"; PostgreSQL manual, "Identifiers and Key Words".
pub fn check_names(job: &CreatePlan) -> Result<(), DatabaseError> {
    if job.wanted.engine == Engine::Sqlite {
        return Ok(());
    }
    let (database, user) = (&job.wanted.name, &job.wanted.user);
    let (most_database, most_user) = if job.wanted.engine == Engine::Postgres { (63, 63) } else { (64, 32) };
    for (what, name, most) in [("database", database, most_database), ("user", user, most_user)] {
        let wrong = |why: String| Err(DatabaseError::Name { name: name.clone(), why });
        if name.len() > most {
            return wrong(format!("a {what}'s name has at most {most} bytes, this one {}", name.len()));
        }
        if name.is_empty() || !name.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '_' | '-' | '$'))
        {
            return wrong(format!("a {what}'s name is made of letters, digits, _ and -"));
        }
        if let Some(prefix) = &job.account_prefix
            && !name.starts_with(prefix.as_str())
        {
            return wrong(format!("names of this account begin with {prefix}: write {prefix}{name}"));
        }
    }
    let Some(plugin) = &job.auth_plugin else { return Ok(()) };
    let wrong = |why: &str| Err(DatabaseError::Name { name: plugin.clone(), why: why.into() });
    if job.wanted.engine != Engine::Mysql {
        return wrong("only MySQL and MariaDB have authentication plug-ins");
    }
    if plugin.is_empty() || !plugin.chars().all(|c| c.is_ascii_alphanumeric() || c == '_') {
        return wrong("the name of a plug-in is made of letters, digits and _");
    }
    Ok(())
}

/// Makes database, user and rights.
pub fn create(job: &CreatePlan) -> Result<Created, DatabaseError> {
    check_names(job)?;
    let mut created = match job.wanted.engine {
        Engine::Mysql => on_mysql(job)?,
        Engine::Postgres => super::postgres::create(job)?,
        Engine::Sqlite => return super::sqlite::create(job),
        other => return Err(DatabaseError::NotSpoken(other.name())),
    };
    // From another host it could not be tried.
    if !created.user && job.from_host.is_none() {
        created.password_fits = match super::load::open(&job.wanted) {
            Ok(_) => Some(true),
            Err(DatabaseError::Connect { refusal: Refusal::LogIn, .. }) => Some(false),
            Err(_) => None,
        };
    }
    Ok(created)
}

/// Returns the statements that somebody with more rights would have to run.
pub fn by_hand(job: &CreatePlan) -> Vec<String> {
    let (database, user) = (&job.wanted.name, &job.wanted.user);
    match job.wanted.engine {
        Engine::Postgres => super::postgres::create_statements(job),
        _ => {
            let host = job.from_host.clone().unwrap_or_else(|| "localhost".into());
            let product = Product::Unknown;
            vec![
                make_database(database),
                make_user(job, product, &host, "***"),
                make_rights(database, user, &host),
            ]
        }
    }
}

fn make_database(database: &str) -> String {
    format!("CREATE DATABASE IF NOT EXISTS {} CHARACTER SET utf8mb4", quoted_name(database))
}

/// Whose server it is: the two name a plug-in in ways of their own.
#[derive(Clone, Copy)]
enum Product {
    Mysql,
    MariaDb,
    Unknown,
}

/// Source: the manuals' pages on `CREATE USER`.
fn make_user(job: &CreatePlan, product: Product, host: &str, password: &str) -> String {
    let password = quoted(password);
    let identified = match (&job.auth_plugin, product) {
        (None, _) => format!("BY {password}"),
        (Some(plugin), Product::Mysql) => format!("WITH {plugin} BY {password}"),
        (Some(plugin), Product::MariaDb) => format!("VIA {plugin} USING PASSWORD({password})"),
        (Some(plugin), Product::Unknown) => {
            format!(
                "WITH {plugin} BY {password} /* MariaDB: IDENTIFIED VIA {plugin} USING PASSWORD({password}) */"
            )
        }
    };
    format!("CREATE USER IF NOT EXISTS {}@{} IDENTIFIED {identified}", quoted(&job.wanted.user), quoted(host))
}

fn make_rights(database: &str, user: &str, host: &str) -> String {
    // In a grant, `_` and `%` stand for any letter unless they are escaped: the rights would reach other accounts' databases.
    let pattern = quoted_name(&database.replace('\\', "\\\\").replace('_', "\\_").replace('%', "\\%"));
    format!("GRANT ALL PRIVILEGES ON {pattern}.* TO {}@{}", quoted(user), quoted(host))
}

fn on_mysql(job: &CreatePlan) -> Result<Created, DatabaseError> {
    let mut conn = connect(&DatabaseAccess { name: String::new(), ..job.admin.clone() })?;
    let (database, user) = (&job.wanted.name, &job.wanted.user);
    let hosts = match &job.from_host {
        Some(host) => vec![host.clone()],
        None if job.wanted.is_local() => {
            let names: Vec<u8> = rows(&mut conn, "SELECT @@skip_name_resolve")?;
            // Without name look-up a connection to 127.0.0.1 is not one from `localhost`.
            let numbers = names == [1] && job.wanted.host != "localhost";
            if numbers { vec!["127.0.0.1".into()] } else { vec!["localhost".into()] }
        }
        None => rows(&mut conn, "SELECT SUBSTRING_INDEX(USER(),'@',-1)")?,
    };
    let version: Vec<String> = rows(&mut conn, "SELECT VERSION()")?;
    let maria = version.iter().any(|v| v.contains("MariaDB"));
    let product = if maria { Product::MariaDb } else { Product::Mysql };
    let there: Vec<String> = rows(
        &mut conn,
        &format!(
            "SELECT SCHEMA_NAME FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = {}",
            quoted(database)
        ),
    )?;
    let mut out = Created { database: there.is_empty(), hosts: hosts.clone(), ..Created::default() };
    let mut todo = vec![make_database(database)];
    out.statements.extend(todo.clone());
    for host in &hosts {
        let known: Vec<u8> = rows(
            &mut conn,
            &format!("SELECT 1 FROM mysql.user WHERE User = {} AND Host = {}", quoted(user), quoted(host)),
        )
        .unwrap_or_default();
        out.user |= known.is_empty();
        todo.push(make_user(job, product, host, job.wanted.password.expose()));
        out.statements.push(make_user(job, product, host, "***"));
        todo.push(make_rights(database, user, host));
        out.statements.push(make_rights(database, user, host));
    }
    for (sql, shown) in todo.iter().zip(&out.statements) {
        // What is shown of a refused statement must not show the password.
        run(&mut conn, sql).map_err(|e| match e {
            DatabaseError::Statement { source, .. } => {
                DatabaseError::Statement { line: 0, statement: super::beginning(shown.as_bytes()), source }
            }
            other => other,
        })?;
    }
    let sql = format!("SELECT plugin FROM mysql.user WHERE User = {} LIMIT 1", quoted(user));
    // Who may make users need not be allowed to look at them.
    out.auth_plugin = rows::<String>(&mut conn, &sql).unwrap_or_default().pop().filter(|p| !p.is_empty());
    Ok(out)
}
