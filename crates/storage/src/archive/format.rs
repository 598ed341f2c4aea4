//! Head and manifest of our archives. `docs/archive-format.md` is the reader's side of this module.

use crate::place::{Address, DatabaseAccess};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// Version of the archive format that is written.
pub const FORMAT: u32 = 2;
/// Name of the head, the first entry.
pub const HEAD: &str = "head.json";
/// Name of the manifest, the last entry.
pub const MANIFEST: &str = "manifest.jsonl";
/// Folder of the site's files.
pub const FILES: &str = "files";
/// Folder of files that belong to the site and lie outside of its root.
pub const OUTSIDE: &str = "outside";
/// Folder of the database parts.
pub const DATABASE: &str = "database";

/// What the archive is and where its site lived.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct Head {
    /// Format version.
    pub format: u32,
    /// Program that wrote it, with version.
    pub written_by: String,
    /// Time of packing, RFC 3339, UTC.
    pub packed_at: String,
    /// The user's note.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub note: String,
    /// The system and its version.
    pub system: SystemName,
    /// Where the site lived.
    pub place: HeadPlace,
    /// What was left out, and why.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub left_out: Vec<LeftOut>,
    /// Bytes of files and database parts, as reckoned before packing.
    pub expected_bytes: u64,
    /// Whether database parts are in it.
    pub has_database: bool,
    /// The machine that packed it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub packed_on: Option<Machine>,
    /// What a restore can be planned by before the rest is read; nothing where that could not be told.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub outline: Option<Outline>,
}

/// A machine, as far as a site depends on it.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(default)]
pub struct Machine {
    /// Its name.
    pub host: String,
    /// Version of the PHP that a shell finds.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub php: Option<String>,
    /// Product and version of the server of the site's database.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub database_server: Option<String>,
}

/// What is known of an archive before it is read to its end. The small files that decide where everything goes follow the head at once.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(default)]
pub struct Outline {
    /// How many files follow the head that hold settings, tell the system, or are read by the web server.
    pub files: u64,
    /// By which patterns they were chosen.
    pub patterns: Vec<String>,
    /// Further entries that these patterns name: folders, and files that are too large to be settings.
    pub seen: Vec<String>,
    /// Bytes of the files, those outside of the site's folder among them.
    pub file_bytes: u64,
    /// Tables of the database parts.
    pub tables: Vec<String>,
    /// Bytes of the database parts.
    pub database_bytes: u64,
}

impl Head {
    /// Returns the time of packing in seconds since 1970-01-01 UTC; 0 if it cannot be read.
    pub fn time(&self) -> i64 {
        let read =
            time::OffsetDateTime::parse(&self.packed_at, &time::format_description::well_known::Rfc3339);
        read.map(|t| t.unix_timestamp()).unwrap_or_default()
    }
}

/// A system with its version.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct SystemName {
    /// Definition's id.
    pub id: String,
    /// Name for people.
    pub name: String,
    /// Version, if it could be read.
    pub version: Option<String>,
}

/// The place a site was packed from. The password is never here; it stands in the site's own config file.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct HeadPlace {
    /// Folder of the site at the time of packing.
    pub root: String,
    /// Roots that the config speaks of.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub config_roots: Vec<String>,
    /// Base address, if it is known.
    pub address: Option<Address>,
    /// Further addresses that the site's rows speak of.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub aliases: Vec<Address>,
    /// Database access without the password.
    pub database: Option<DatabaseAccess>,
    /// Table prefix.
    #[serde(default)]
    pub table_prefix: String,
    /// Folder of the host that was packed, where one code base serves several.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub host_folder: Option<String>,
    /// Folder below the root in which the web server begins, if it is not the root itself.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub document_root: String,
    /// Folders of the definition that lie elsewhere below the root, as the config says.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub moved_folders: BTreeMap<String, String>,
    /// Folder outside of the root whose files are in `outside/`, as the config names it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub outside: Option<String>,
    /// How config or row name that folder, where that is no whole path but one from the document root.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub outside_named: Option<String>,
    /// Switches that were set only while the site was read, with the states that they had before: `maintenance=off`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub former_switches: Vec<String>,
    /// Addresses of other sites in the same database.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub other_sites: Vec<Address>,
}

/// Something that was not carried.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct LeftOut {
    /// Folder, file or table.
    pub what: String,
    /// Why.
    pub why: String,
    /// Files or rows.
    pub count: u64,
    /// Bytes, where known.
    #[serde(default)]
    pub bytes: u64,
}

/// One line of the manifest.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Line {
    /// Path in the archive; bytes that are not UTF-8, control characters and `%` are written `%XX`.
    pub path: String,
    /// Kind of entry.
    pub kind: Kind,
    /// Size in bytes.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub size: u64,
    /// Permission bits, octal.
    pub mode: String,
    /// Modification time, seconds since 1970-01-01 UTC.
    pub time: i64,
    /// BLAKE3 of the content, hex; for a symlink of its target.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub blake3: String,
    /// Of a file that shrank, or could not be read on, while it was packed: bytes that are the file's. The rest of the entry is zeros.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cut_at: Option<u64>,
}

fn is_zero(n: &u64) -> bool {
    *n == 0
}

/// Kind of an entry.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// Regular file.
    File,
    /// Folder.
    Folder,
    /// Symbolic link.
    Symlink,
}

/// The manifest's last line.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Closing {
    /// Number of lines before this one.
    pub entries: u64,
    /// Sum of their sizes.
    pub bytes: u64,
}
