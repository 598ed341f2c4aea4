//! Log-ins of databases that were made here: one private file for each, so that nobody has to remember or type a made-up password.

use crate::fsx::{AtPath, PathError, private_folder, write_private};
use crate::place::DatabaseAccess;
use crate::secret::Secret;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::path::{Path, PathBuf};

/// A saved log-in as its file has it.
#[derive(Deserialize)]
struct File {
    url: String,
    user: String,
    password: String,
}

/// A saved log-in, for people: the password is not in it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct SavedLogIn {
    /// The database, as a URL without password.
    pub database: String,
    /// User.
    pub user: String,
    /// The file.
    #[serde(with = "crate::path_text")]
    #[schemars(with = "PathBuf")]
    pub file: PathBuf,
}

/// Where saved log-ins lie, below the folder for data.
pub fn folder(data: &Path) -> PathBuf {
    data.join("logins")
}

/// The file of a database's log-in.
pub fn path(folder: &Path, access: &DatabaseAccess) -> PathBuf {
    let place = match &access.socket {
        Some(socket) => socket.replace('/', "_"),
        None => format!("{}_{}", access.host, access.port.unwrap_or(access.engine.default_port())),
    };
    let name = format!("{}-{place}-{}-{}", access.engine.scheme(), access.name, access.user);
    let safe = |c: char| if c.is_ascii_alphanumeric() || "._-".contains(c) { c } else { '_' };
    folder.join(format!("{}.toml", name.chars().map(safe).collect::<String>()))
}

/// Reads user and password of a database, if they are saved.
pub fn read(folder: &Path, access: &DatabaseAccess) -> Option<(String, Secret)> {
    let file: File = toml::from_str(&std::fs::read_to_string(path(folder, access)).ok()?).ok()?;
    Some((file.user, Secret::new(file.password)))
}

/// Saves a log-in, for its owner alone.
pub fn write(folder: &Path, access: &DatabaseAccess) -> Result<PathBuf, PathError> {
    let path = path(folder, access);
    private_folder(folder).at(folder)?;
    let quoted = |text: &str| toml::Value::String(text.to_string()).to_string();
    let text = format!(
        "# Log-in of a database that zporter made. Keep it to yourself.\nurl = {}\nuser = {}\npassword = {}\n",
        quoted(&access.url()),
        quoted(&access.user),
        quoted(access.password.expose())
    );
    write_private(&path, text.as_bytes())?;
    Ok(path)
}

/// Lists all that are saved, by database.
pub fn list(folder: &Path) -> Vec<SavedLogIn> {
    let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
    let mut out: Vec<SavedLogIn> = entries
        .filter_map(|e| {
            let path = e.path();
            let file: File = toml::from_str(&std::fs::read_to_string(&path).ok()?).ok()?;
            Some(SavedLogIn { database: file.url, user: file.user, file: path })
        })
        .collect();
    out.sort_by(|a, b| a.database.cmp(&b.database));
    out
}

/// Returns the password of a saved log-in that is named by its database's URL or its file.
pub fn password(folder: &Path, named: &str) -> Option<(SavedLogIn, Secret)> {
    let is = |l: &SavedLogIn| {
        l.database == named || l.file == Path::new(named) || l.file.file_stem().is_some_and(|s| s == named)
    };
    let found = list(folder).into_iter().find(is)?;
    let file: File = toml::from_str(&std::fs::read_to_string(&found.file).ok()?).ok()?;
    Some((found, Secret::new(file.password)))
}
