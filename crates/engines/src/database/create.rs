//! Makes a database with a user who has rights on exactly that database. Run twice, nothing breaks.

use super::DatabaseError;
use crate::place::DatabaseAccess;
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

/// Checks the names of database and user against what servers and hosts allow.
pub fn check_names(job: &CreatePlan) -> Result<(), DatabaseError> {
    if job.wanted.engine.facts().is_file {
        return Ok(());
    }
    let (database, user) = (&job.wanted.name, &job.wanted.user);
    let (most_database, most_user) = job.wanted.engine.facts().longest_names;
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
    if !job.wanted.engine.facts().has_plugins {
        return wrong("only MySQL and MariaDB have authentication plug-ins");
    }
    if plugin.is_empty() || !plugin.chars().all(|c| c.is_ascii_alphanumeric() || c == '_') {
        return wrong("the name of a plug-in is made of letters, digits and _");
    }
    Ok(())
}
