//! The record that a copy keeps of where it comes from: a small file in it that says so to whoever refreshes it later.

use crate::change_log::ChangeLog;
use crate::fsx::{AtPath, PathError};
use crate::limits::CONFIG_FILE;
use crate::survey::recognise::config_files;
use crate::survey::site_files::SiteFiles;
use crate::system::Definition;
use crate::tree::{Links, Tree, read_small, write_whole};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// Its name, in the copy's folder. It is never packed.
pub const NAME: &str = ".zporter-copy.json";

/// What a copy knows of itself. No password is in it.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
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
    /// The settings of its source when it was made or brought up to date last: file and a hash of its bytes.
    pub settings: BTreeMap<String, String>,
    /// The run that made it.
    pub run: String,
    /// When that had written its last file, in nanoseconds since 1970 by the clock of the place: what changed later was changed by somebody else.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ended: Option<i64>,
    /// What tables were like when they were carried last, by their names at the source.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub fingerprints: BTreeMap<String, Fingerprint>,
    /// Program and definition by which their rows were rewritten.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub rewritten_by: String,
}

/// What a table was like when it was carried.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Fingerprint {
    /// The server's checksum of its rows at the source.
    pub source: u64,
    /// The same in the copy.
    pub copy: u64,
    /// Hash of how the table is made at the source.
    pub shape: String,
    /// The same in the copy.
    #[serde(default)]
    pub copy_shape: String,
}

/// Returns the files that hold a site's settings, each with a hash of its bytes.
pub(crate) fn settings(tree: &dyn SiteFiles, definition: &Definition) -> BTreeMap<String, String> {
    let files = config_files(tree, definition).into_iter();
    files.map(|f| (f.path, blake3::hash(&f.text).to_hex().to_string())).collect()
}

impl Record {
    /// Returns the settings of the source that are others now than they were, by file.
    pub(crate) fn changed_settings<'s>(&self, now: &'s BTreeMap<String, String>) -> Vec<&'s String> {
        let changed = |(file, hash): &(&String, &String)| match self.settings.get(*file) {
            Some(then) => then != *hash,
            // One that came later; of a copy that knows of none, nothing can be said.
            None => !self.settings.is_empty(),
        };
        now.iter().filter(changed).map(|(file, _)| file).collect()
    }

    /// Reads the record of a copy.
    pub fn read(copy: &dyn Tree) -> Option<Record> {
        let path = copy.root().join(NAME);
        let bytes = read_small(copy, &path, Links::Follow, CONFIG_FILE.bytes()).ok()?;
        serde_json::from_slice(&bytes).ok()
    }

    /// Notes in the record that was written that all of the copy is there now.
    pub(crate) fn note_end(mut self, copy: &dyn Tree) -> Result<(), PathError> {
        let path = copy.root().join(NAME);
        // What is written now has the place's own time, whatever clock is here.
        self.put(copy)?;
        self.ended = i64::try_from(copy.stat(&path, Links::Stay).at(&path)?.touched()).ok();
        self.put(copy)
    }

    /// Writes it into a copy.
    pub(crate) fn write(&self, copy: &dyn Tree, change_log: &mut ChangeLog) -> Result<(), PathError> {
        change_log.replace(&copy.root().join(NAME))?;
        self.put(copy)
    }

    fn put(&self, copy: &dyn Tree) -> Result<(), PathError> {
        let path = copy.root().join(NAME);
        let text = serde_json::to_vec_pretty(self).map_err(std::io::Error::from).at(&path)?;
        write_whole(copy, &path, &text, Some(0o600)).at(&path)
    }
}
