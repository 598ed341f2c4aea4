//! The record that a copy keeps of where it comes from: a small file in it that says so to whoever refreshes it later.

use crate::footprint::Footprint;
use crate::fsx::{AtPath, PathError};
use serde::{Deserialize, Serialize};
use std::path::Path;

/// Its name, in the copy's folder. It is never packed.
pub const NAME: &str = ".zporter-copy.json";

/// What a copy knows of itself. No password is in it.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Record {
    /// Folder of the site that it is a copy of.
    pub source: String,
    /// Its own address.
    pub address: String,
    /// Its own database, as a URL without password.
    pub database: Option<String>,
    /// Its own table prefix, if it was given another one.
    pub table_prefix: Option<String>,
    /// The run that made it.
    pub run: String,
}

impl Record {
    /// Reads the record of a copy.
    pub fn read(copy: &Path) -> Option<Record> {
        let bytes = std::fs::read(copy.join(NAME)).ok()?;
        serde_json::from_slice(&bytes).ok()
    }

    /// Writes it into a copy.
    pub(super) fn write(&self, copy: &Path, footprint: &mut Footprint) -> Result<(), PathError> {
        let path = copy.join(NAME);
        // A copy that is as it was keeps its record.
        if Record::read(copy).is_some_and(|there| Record { run: self.run.clone(), ..there } == *self) {
            return Ok(());
        }
        let text = serde_json::to_vec_pretty(self).map_err(std::io::Error::from).at(&path)?;
        footprint.replace(&path)?;
        let spot = footprint.spot(&path)?;
        spot.write(&text).at(&path)?;
        std::fs::set_permissions(spot.path(), std::os::unix::fs::PermissionsExt::from_mode(0o600)).at(&path)
    }
}
