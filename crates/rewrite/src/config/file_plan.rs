//! What is to become of one file, and by what that is decided.

use crate::edit::Edit;
use crate::finding::{Code, Finding};
use crate::place::{DatabaseAccess, Relocation};
use crate::text::replacements::{LeftReason, Replacements};
use crate::text::value::Notes;
use schemars::JsonSchema;
use serde::Serialize;

/// The planned edit of one file.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct FilePlan {
    /// Path under the site.
    pub path: String,
    /// Edits of the file's bytes.
    pub edits: Vec<Edit>,
    /// What they mean.
    pub changes: Vec<Change>,
    /// What could not be understood or decided.
    pub findings: Vec<Finding>,
    /// Keys that were asked to be set and are there.
    pub put: Vec<String>,
    /// Unified diff with secrets masked; empty if nothing changes.
    pub diff: String,
    /// Names with their expected values, to be read back after the edit.
    pub(super) expected: Vec<(String, String)>,
}

/// One changed value of a config file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Change {
    /// Key, or a few words where there is none.
    pub key: String,
    /// Line, from 1.
    pub line: usize,
    /// Value before; masked for secrets.
    pub old: String,
    /// Value after; masked for secrets.
    pub new: String,
}

/// A key that gets a value of its own.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeyPut {
    /// Key.
    pub key: String,
    /// Value.
    pub value: String,
    /// Key behind whose line a new one is put where there is none yet.
    pub beside: Option<String>,
}

/// What a config edit needs to know.
pub struct Context<'a> {
    /// From where to where.
    pub relocation: &'a Relocation,
    /// New database access; nothing leaves the database part alone.
    pub database: Option<&'a DatabaseAccess>,
    /// Replacements of the relocation.
    pub replacements: &'a Replacements,
    /// New table prefix.
    pub table_prefix: Option<&'a str>,
    /// Keys that get a value of their own: switches, the site's name.
    pub put: &'a [KeyPut],
    /// Whether these alone change, and nothing that hangs on the place: a site at work that is only switched.
    pub put_only: bool,
}

pub(super) struct Quiet;

impl Notes for Quiet {
    fn changed(&mut self, _: &str, _: usize, _: &[u8]) {}
    fn left(&mut self, _: LeftReason, _: &str, _: &[u8]) {}
}

impl FilePlan {
    /// The same file, left as it is.
    pub(super) fn left(mut self, why: &str) -> FilePlan {
        self.findings.push(Finding::new(
            Code::ConfigLeft,
            format!("was left as it is: {why}"),
            self.path.clone(),
            "set the new values in it by hand",
        ));
        FilePlan { path: self.path, findings: self.findings, ..FilePlan::default() }
    }
}
