//! Who logs in to a database: the user's option files, saved log-ins of databases that were made here, the environment, a prompt.

use crate::context;
use crate::error::CommandError;
use clap::Args;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;
use zporter_core::place::DatabaseAccess;
use zporter_core::saved_logins;
use zporter_core::secret::Secret;
use zporter_core::shell::quoted;

/// Completes an access: the password, and the user where the URL names none. In this order: the file that is named, the variable, the
/// saved log-in of a database that was made here, `~/.my.cnf` or `~/.pgpass`, a prompt.
pub fn complete(access: &mut DatabaseAccess, file: Option<&Path>) -> Result<(), CommandError> {
    if access.engine.facts().is_file {
        return Ok(());
    }
    let said = match file {
        Some(path) => {
            let _ = FILE.set(path.to_path_buf());
            Some(context::secret_of(path)?)
        }
        None => std::env::var(context::PASSWORD_VARIABLE).ok().map(Secret::new),
    };
    if let (Some(password), false) = (&said, access.user.is_empty()) {
        access.password = password.clone();
        return Ok(());
    }
    if let Some((user, password)) = saved(access).or_else(|| stored(access)) {
        take(access, user, said.unwrap_or(password));
        return Ok(());
    }
    if access.user.is_empty() {
        let place = access.engine.facts().user_file.unwrap_or_default();
        return Err(CommandError::usage(format!("nobody is named to log in to {}", access.url())).hint(
            format!(
                "write it like {}://USER@…, or keep user and password in {place}",
                access.engine.scheme()
            ),
        ));
    }
    access.password = context::prompt(&access.user)?;
    Ok(())
}

/// Completes the log-in of an admin: option files, a prompt; a local server may need no password.
pub fn complete_admin(access: &mut DatabaseAccess) -> Result<(), CommandError> {
    if let Some((user, password)) = stored(access) {
        take(access, user, password);
    } else if access.user.is_empty() {
        return Err(CommandError::usage("nobody is named who may make databases")
            .hint("name an admin with --admin mysql://root@HOST, or keep one in ~/.my.cnf"));
    } else if !access.is_local() {
        access.password = context::prompt(&access.user)?;
    }
    Ok(())
}

/// The file that was named for the database's password.
static FILE: OnceLock<PathBuf> = OnceLock::new();

/// Returns the command that goes back behind a run, with what it needs to log in.
pub fn undo_command(run: &str) -> String {
    let file = FILE.get().map(|f| quoted(&zporter_core::fsx::absolute(f).display().to_string()));
    let file = file.map(|f| format!(" --database-password-file {f}")).unwrap_or_default();
    format!("zporter undo {run}{file}")
}

/// Looks into the user's own file for the server's programs.
fn stored(access: &DatabaseAccess) -> Option<(String, Secret)> {
    match access.engine.facts().user_file {
        Some("~/.my.cnf") => option_file(access),
        Some("~/.pgpass") => password_file(access),
        _ => None,
    }
}

/// Takes a log-in over; a user that the URL names stays.
fn take(access: &mut DatabaseAccess, user: String, password: Secret) {
    if access.user.is_empty() {
        access.user = user;
    }
    access.password = password;
}

/// Where a password may come from besides.
#[derive(Debug, Args)]
pub struct PasswordArgs {
    /// File that holds the database's password (else ZPORTER_DATABASE_PASSWORD, a saved log-in, ~/.my.cnf or ~/.pgpass, a prompt)
    #[arg(long, value_name = "FILE")]
    database_password_file: Option<PathBuf>,
}

impl PasswordArgs {
    /// The file that was named.
    pub fn file(&self) -> Option<&Path> {
        self.database_password_file.as_deref()
    }

    /// Completes an access.
    pub fn complete(&self, access: &mut DatabaseAccess) -> Result<(), CommandError> {
        complete(access, self.file())
    }
}

/// Looks for a saved log-in.
fn saved(access: &DatabaseAccess) -> Option<(String, Secret)> {
    saved_logins::read(&saved_logins::folder(&context::data_folder().ok()?), access)
}

/// Reads `~/.my.cnf`: user and password of the groups `[client]` and those of the servers' programs. Source: MySQL reference manual,
/// "Using Option Files".
fn option_file(access: &DatabaseAccess) -> Option<(String, Secret)> {
    let text = std::fs::read_to_string(context::home()?.join(".my.cnf")).ok()?;
    let (mut user, mut password, mut host) = (None, None, None);
    let mut ours = false;
    for line in text.lines().map(str::trim) {
        if let Some(group) = line.strip_prefix('[').and_then(|l| l.strip_suffix(']')) {
            ours =
                matches!(group, "client" | "client-mariadb" | "client-server" | "mysql" | "mariadb-client");
            continue;
        }
        if !ours || line.starts_with(['#', ';']) {
            continue;
        }
        let (key, value) = line.split_once('=').map_or((line, ""), |(k, v)| (k.trim(), v.trim()));
        let slot = match key {
            "user" => &mut user,
            "password" => &mut password,
            "host" => &mut host,
            _ => continue,
        };
        *slot = Some(option_value(value));
    }
    // A log-in for another host, or for another user, is not handed to this one.
    if host.is_some_and(|h| h != access.host && !(access.is_local() && h == "localhost")) {
        return None;
    }
    let user = user.unwrap_or_default();
    (access.user.is_empty() || user == access.user || user.is_empty())
        .then(|| (user, Secret::new(password.unwrap_or_default())))
        .filter(|(user, _)| !user.is_empty() || !access.user.is_empty())
}

fn option_value(text: &str) -> String {
    let quoted = |q: char| text.strip_prefix(q).and_then(|t| t.strip_suffix(q));
    if let Some(inside) = quoted('"').or(quoted('\'')) {
        return inside
            .replace("\\\\", "\u{0}")
            .replace("\\\"", "\"")
            .replace("\\'", "'")
            .replace('\u{0}', "\\");
    }
    // A comment may follow an unquoted value.
    text.split(" #").next().unwrap_or(text).trim_end().to_string()
}

/// Reads `~/.pgpass`: host, port, database, user and password with colons between. Source: PostgreSQL manual, "The Password File".
fn password_file(access: &DatabaseAccess) -> Option<(String, Secret)> {
    use std::os::unix::fs::PermissionsExt;
    let path = context::home()?.join(".pgpass");
    // As the server's own programs do: a file that others may read is not used.
    if std::fs::metadata(&path).ok()?.permissions().mode() & 0o077 != 0 {
        return None;
    }
    let text = std::fs::read_to_string(path).ok()?;
    text.lines().filter(|l| !l.starts_with('#')).find_map(|line| {
        let mut fields = vec![String::new()];
        let mut letters = line.chars();
        while let Some(c) = letters.next() {
            match c {
                ':' => fields.push(String::new()),
                '\\' => fields.last_mut()?.extend(letters.next()),
                c => fields.last_mut()?.push(c),
            }
        }
        let [host, port, name, user, password] = <[String; 5]>::try_from(fields).ok()?;
        let own_port = access.port.unwrap_or(5432).to_string();
        let is = |field: &str, wanted: &str| field == "*" || field == wanted;
        let fits = is(&host, &access.host) && is(&port, &own_port) && is(&name, &access.name);
        let fits = fits && (access.user.is_empty() && user != "*" || is(&user, &access.user));
        fits.then(|| (if user == "*" { access.user.clone() } else { user }, Secret::new(password)))
    })
}
