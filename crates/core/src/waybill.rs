//! The waybill: a job as a TOML file. Every option of `restore` and `clone` has a field here; passwords have none.

use crate::fsx::{AtPath, PathError, write_atomically};
use serde::{Deserialize, Serialize};
use std::path::{Path, PathBuf};

/// A job to restore an archive or to clone a site.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Waybill {
    /// `restore` or `clone`.
    pub job: String,
    /// Archive, or the folder of the site that is cloned.
    pub archive: PathBuf,
    /// Target folder.
    pub target: PathBuf,
    /// New base address.
    pub address: String,
    /// New database, as a URL without password.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub database: Option<String>,
    /// File that holds the password.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub database_password_file: Option<PathBuf>,
    /// Connections over which the database is loaded.
    #[serde(default = "two")]
    pub connections: usize,
    /// Names that the server does not know, as `NAME=OTHER`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub fit: Vec<String>,
    /// File for the rewritten dump, in place of a server.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub dump_to: Option<PathBuf>,
    /// Dump that belongs to a plain archive.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub dump: Option<PathBuf>,
    /// Old base address, where the archive does not tell it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from_address: Option<String>,
    /// Further old addresses.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub alias: Vec<String>,
    /// Further old roots.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub from_root: Vec<String>,
    /// Further sites of the same database that move as well: old and new address in turn.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub map: Vec<String>,
    /// Parts to restore; all of the usual ones if empty.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub only: Vec<String>,
    /// Parts to leave out.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub without: Vec<String>,
    /// `PATTERN=all`, `=structure` or `=none`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub rows: Vec<String>,
    /// New table prefix.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub table_prefix: Option<String>,
    /// New place of the folder that belongs to the site outside of its root.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub storage: Option<PathBuf>,
    /// Folder of the host that is meant, where a plain archive holds several.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub host_folder: Option<String>,
    /// Restore as a further host of the code base in the target, in a folder of this name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub host_as: Option<String>,
    /// Switches, as `NAME=STATE`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub set: Vec<String>,
    /// New name of the site.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub site_name: Option<String>,
    /// New address of the administrator and the office.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub admin_email: Option<String>,
    /// File that holds the administrator's new password.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub admin_password_file: Option<PathBuf>,
    /// Whether what should not lie in a document root is removed.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub tidy: bool,
    /// User and group of the copy's files, by name or number.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub owner: Option<String>,
    /// Whether events work as soon as they are loaded.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub events: bool,
    /// Whether root-relative references from or to the bare root change.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub references: bool,
    /// Whether host names that stand alone change.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub bare_hosts: bool,
    /// Whether domains of e-mail addresses change.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub mail_domains: bool,
    /// Whether lengths of serialized values that were wrong before are repaired.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub repair: bool,
    /// Whether a copy that is there is brought up to date.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub refresh: bool,
    /// Whether what is in the database makes room.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub replace: bool,
    /// Whether it loses what is no longer at the source.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub delete_gone: bool,
}

fn two() -> usize {
    2
}

/// Why a waybill cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum WaybillError {
    /// It cannot be read or written.
    #[error(transparent)]
    Path(#[from] PathError),
    /// It is no waybill.
    #[error("{path} is no waybill: {why}")]
    Wrong {
        /// Path.
        path: PathBuf,
        /// What the reader said.
        why: String,
    },
}

impl Waybill {
    /// Reads a waybill.
    pub fn read(path: &Path) -> Result<Waybill, WaybillError> {
        let text = std::fs::read_to_string(path).at(path)?;
        let wrong = |why: String| WaybillError::Wrong { path: path.to_path_buf(), why };
        let bill: Waybill = toml::from_str(&text).map_err(|e| wrong(e.to_string().trim().to_string()))?;
        if !["restore", "clone"].contains(&bill.job.as_str()) {
            return Err(wrong(format!("the job {:?} is not known", bill.job)));
        }
        Ok(bill)
    }

    /// Writes a waybill.
    pub fn write(&self, path: &Path) -> Result<(), WaybillError> {
        let wrong =
            |e: toml::ser::Error| WaybillError::Wrong { path: path.to_path_buf(), why: e.to_string() };
        let text = format!(
            "# A job for zporter: zporter {} --waybill {}\n# Passwords never stand here.\n{}",
            self.job,
            path.display(),
            toml::to_string(self).map_err(wrong)?
        );
        Ok(write_atomically(path, text.as_bytes())?)
    }
}
