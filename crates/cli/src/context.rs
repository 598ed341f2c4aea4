//! The only place that reads the environment: where data lies, who the user is, what time it is.

use crate::error::CommandError;
use etcetera::BaseStrategy;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;
use time::format_description::well_known::Rfc3339;
use zporter_core::lock::Lock;
use zporter_core::logbook::Run;
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

/// Returns the user's data folder: archives and the logbook.
pub fn data_folder() -> Result<PathBuf, CommandError> {
    if let Some(folder) = DATA.get() {
        return Ok(folder.clone());
    }
    let strategy = etcetera::choose_base_strategy()
        .map_err(|e| CommandError::world("the home folder is not known", e))?;
    Ok(strategy.data_dir().join("zporter"))
}

/// Takes the locks of what a run works on.
pub fn locks(things: &[Option<String>]) -> Result<Vec<Lock>, CommandError> {
    let folder = logbook_folder()?;
    Ok(things.iter().flatten().map(|thing| Lock::take(&folder, thing)).collect::<Result<_, _>>()?)
}

/// Begins the record of a run that holds locks.
pub fn begin(command: &str, detail: serde_json::Value, locks: &mut [Lock]) -> Result<Run, CommandError> {
    let book = Run::begin(&logbook_folder()?, command, detail, now)?;
    crate::signals::going_on(book.id(), command);
    for lock in locks {
        // Who asks is told less if this fails.
        let _ = lock.held_by(book.id());
    }
    Ok(book)
}

/// Returns the folder of the logbook.
pub fn logbook_folder() -> Result<PathBuf, CommandError> {
    Ok(data_folder()?.join("logbook"))
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

/// Returns the program's name and version.
pub fn written_by() -> String {
    format!("zporter {}", env!("CARGO_PKG_VERSION"))
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
