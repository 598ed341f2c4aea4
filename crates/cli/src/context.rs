//! The world as this program finds it, and the only place that reads the environment: where data lies, who the user is, what time it is.

use crate::error::CommandError;
use crate::login;
use crate::signals;
use etcetera::BaseStrategy;
use std::fs::File;
use std::os::fd::AsFd;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;
use time::format_description::well_known::Rfc3339;
use zporter_core::job::Kind;
use zporter_core::job::run::{LOGBOOK, Outside, World};
use zporter_core::lock::Lock;
use zporter_core::logbook::Run;
use zporter_core::place::DatabaseAccess;
use zporter_core::secret::Secret;
use zporter_core::system::{self, Known};

/// Variable that may hold the new database's password.
pub const PASSWORD_VARIABLE: &str = "ZPORTER_DATABASE_PASSWORD";

/// A data folder other than the user's own.
static DATA: OnceLock<PathBuf> = OnceLock::new();

/// Keeps archives and the logbook of this process in a folder of its own.
pub fn keep_data_in(folder: PathBuf) {
    let _ = DATA.set(folder);
}

/// Returns the user's data folder: archives, the logbook, saved log-ins.
pub fn data_folder() -> Result<PathBuf, CommandError> {
    if let Some(folder) = DATA.get() {
        return Ok(folder.clone());
    }
    let strategy = etcetera::choose_base_strategy()
        .map_err(|e| CommandError::world("the home folder is not known", e))?;
    Ok(strategy.data_dir().join("zporter"))
}

/// Returns the folder of the logbook.
pub fn logbook_folder() -> Result<PathBuf, CommandError> {
    Ok(data_folder()?.join(LOGBOOK))
}

/// Begins the record of an undo, with the locks of what it works on.
pub fn begin_undo(
    detail: serde_json::Value,
    things: &[Option<String>],
) -> Result<(Run, Vec<Lock>), CommandError> {
    let folder = logbook_folder()?;
    let mut locks: Vec<Lock> =
        things.iter().flatten().map(|thing| Lock::take(&folder, thing)).collect::<Result<_, _>>()?;
    let book = Run::begin(&folder, "undo", detail, now)?;
    signals::going_on(book.id(), None);
    for lock in &mut locks {
        // Who asks is told less if this fails.
        let _ = lock.held_by(book.id());
    }
    Ok((book, locks))
}

/// Returns the folder of the user's own definitions.
pub fn definitions_folder() -> Option<PathBuf> {
    Some(etcetera::choose_base_strategy().ok()?.config_dir().join("zporter").join("systems"))
}

/// Loads all definitions.
pub fn definitions() -> Result<Vec<Known>, CommandError> {
    Ok(system::load(definitions_folder().as_deref())?)
}

/// Returns the time as RFC 3339 in UTC, to the second. `SOURCE_DATE_EPOCH` fixes it, so that equal input packs to equal bytes.
pub fn now() -> String {
    let fixed = std::env::var("SOURCE_DATE_EPOCH").ok().and_then(|s| s.parse::<i64>().ok());
    let time = fixed
        .and_then(|s| time::OffsetDateTime::from_unix_timestamp(s).ok())
        .unwrap_or_else(time::OffsetDateTime::now_utc);
    time.replace_nanosecond(0).unwrap_or(time).format(&Rfc3339).unwrap_or_default()
}

/// Spells a recorded time in the user's own zone, as people read it; as it is where it is no time.
pub fn local(at: &str) -> String {
    let time = chrono::DateTime::parse_from_rfc3339(at);
    time.map_or_else(
        |_| at.to_string(),
        |t| t.with_timezone(&chrono::Local).format("%Y-%m-%d %H:%M:%S").to_string(),
    )
}

/// Reads a password from a file; one line end after it does not count.
pub fn secret_of(path: &Path) -> Result<Secret, CommandError> {
    let text = std::fs::read_to_string(path).map_err(|e| {
        CommandError::usage(format!("the password file {} cannot be read: {e}", path.display()))
    })?;
    Ok(Secret::new(text.strip_suffix('\n').map_or(text.as_str(), |t| t.strip_suffix('\r').unwrap_or(t))))
}

/// Returns the user's home folder.
pub fn home() -> Option<PathBuf> {
    Some(etcetera::choose_base_strategy().ok()?.home_dir().to_path_buf())
}

/// Asks for a password on a terminal.
pub fn prompt(user: &str) -> Result<Secret, CommandError> {
    if std::io::IsTerminal::is_terminal(&std::io::stdin()) {
        let text = rpassword::prompt_password(format!("Password of the database user {user}: "))
            .map_err(|e| CommandError::world("the password could not be read from the terminal", e))?;
        return Ok(Secret::new(text));
    }
    Err(CommandError::usage(format!("the password of the database user {user} is not known"))
        .hint("put it into a file and name it with --database-password-file FILE")
        .hint(format!("or set the variable {PASSWORD_VARIABLE}, or keep it in ~/.my.cnf or ~/.pgpass")))
}

/// This machine and its user.
#[derive(Debug, Clone, Copy)]
pub struct Here;

impl World for Here {
    fn definitions(&self) -> Result<Vec<Known>, Outside> {
        Ok(definitions()?)
    }
    fn log_in(&self, access: &mut DatabaseAccess, file: Option<&Path>) -> Result<(), Outside> {
        Ok(login::complete(access, file)?)
    }
    fn log_in_admin(&self, access: &mut DatabaseAccess) -> Result<(), Outside> {
        Ok(login::complete_admin(access)?)
    }
    fn secret(&self, file: &Path) -> Result<Secret, Outside> {
        Ok(secret_of(file)?)
    }
    fn data(&self) -> Result<PathBuf, Outside> {
        Ok(data_folder()?)
    }
    fn temporary(&self) -> PathBuf {
        std::env::temp_dir()
    }
    fn clock(&self) -> fn() -> String {
        now
    }
    fn written_by(&self) -> String {
        format!("zporter {}", env!("CARGO_PKG_VERSION"))
    }
    fn input(&self) -> std::io::Result<File> {
        let file = File::from(std::io::stdin().as_fd().try_clone_to_owned()?);
        // A pipe holds 64 KiB unless told otherwise; with more in it the two sides wait less for each other. No pipe, no harm.
        let _ = rustix::pipe::fcntl_setpipe_size(&file, 1 << 20);
        Ok(file)
    }
    fn output(&self) -> std::io::Result<File> {
        // Without the line buffering that is meant for people: it would look for a line end in every block.
        std::io::stdout().as_fd().try_clone_to_owned().map(File::from)
    }
    fn began(&self, run: &str, kind: Kind) {
        signals::going_on(run, Some(kind));
    }
}
