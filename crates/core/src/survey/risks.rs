//! What a careful administrator would point out about a site.

use super::recognise::ConfigFacts;
use super::tree::{FolderTree, SiteTree};
use crate::dump::inspect::Inspection;
use crate::finding::{Code, Finding};
use crate::place::Root;
use crate::system::Definition;
use crate::system::schema::Role;
use schemars::JsonSchema;
use serde::Serialize;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

/// Endings of files that should not lie where a browser can fetch them.
const FETCHABLE: [(&str, &str); 13] = [
    (".sql", "database dump"),
    (".sql.gz", "database dump"),
    (".sql.zst", "database dump"),
    (".sql.bz2", "database dump"),
    (".zip", "archive"),
    (".tar", "archive"),
    (".tar.gz", "archive"),
    (".tgz", "archive"),
    (".tar.bz2", "archive"),
    (".tar.zst", "archive"),
    (".7z", "archive"),
    (".rar", "archive"),
    (".bak", "copy of a file"),
];

/// Looks for risks.
pub fn risks(
    site: &Path,
    definition: &Definition,
    config: &ConfigFacts,
    dump: Option<&Inspection>,
) -> Vec<Finding> {
    let mut out = Vec::new();
    for file in &config.files {
        let Ok(meta) = std::fs::metadata(site.join(file)) else { continue };
        let mode = meta.permissions().mode() & 0o7777;
        if mode & 0o002 != 0 {
            out.push(Finding::new(
                Code::ConfigWritable,
                format!("config file is writable for everyone ({mode:04o})"),
                file,
                format!("chmod 0644 {file}"),
            ));
        }
        if mode & 0o222 == 0 {
            out.push(Finding::new(
                Code::ConfigReadOnly,
                format!("config file is read-only ({mode:04o})"),
                file,
                "nothing: a restore edits it and puts the mode back",
            ));
        }
    }
    for value in &config.values {
        if let Some(unknown) = &value.unknown {
            let place = format!("{}, line {}", value.file, value.line);
            out.push(Finding::new(
                Code::ConfigFromEnvironment,
                format!("`{}` {unknown}", value.key),
                place,
                "make sure that the new host provides it",
            ));
        }
        let path = value.value.as_deref().filter(|v| value.role == Role::Path && Root::parse(v).is_ok());
        if let Some(path) = path.filter(|p| !Path::new(p).exists()) {
            let place = format!("{}, line {}", value.file, value.line);
            out.push(Finding::new(
                Code::PathMissing,
                format!("`{}` names a path that is not here: {path}", value.key),
                place,
                "nothing if the site was copied from another host; a restore moves paths below the old root",
            ));
        }
    }
    for unwanted in unwanted(site, definition) {
        let cure = format!("remove {} from the document root", unwanted.path);
        out.push(unwanted.finding(cure));
    }
    if let Some(cut) = dump.and_then(|d| d.cut_off.as_ref()) {
        out.push(Finding::new(
            Code::DumpCutOff,
            "the dump breaks off in the middle of a statement",
            format!("line {}: {}", cut.line, cut.what),
            "export it again",
        ));
    }
    out
}

/// Tells of files that cannot be read.
pub fn unread(paths: &[PathBuf]) -> Option<Finding> {
    let first = paths.first()?;
    let more = paths.len() - 1;
    let place =
        if more == 0 { first.display().to_string() } else { format!("{} and {more} more", first.display()) };
    let what = "cannot be read and would be missing from a copy";
    Some(Finding::new(
        Code::FileUnreadable,
        what,
        place,
        "run this as the user to whom the site belongs, or change their permissions",
    ))
}

/// Something that should not lie in a document root.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Unwanted {
    /// Path under the site.
    pub path: String,
    /// What it is and what it may do.
    pub about: String,
    /// Whether it may be removed without a look.
    pub safe: bool,
    /// Whether a stranger could do harm with it.
    pub harm: bool,
}

impl Unwanted {
    /// Says so: what a stranger could do harm with needs attention.
    pub fn finding(&self, cure: String) -> Finding {
        let finding = Finding::new(Code::FetchableFile, self.about.clone(), self.path.clone(), cure);
        if self.harm { finding } else { finding.as_note() }
    }
}

/// Lists what should not lie in a document root: archives and dumps in it and one level below, and what the definition names.
pub fn unwanted(site: &Path, definition: &Definition) -> Vec<Unwanted> {
    let mut out = Vec::new();
    let walk = walkdir::WalkDir::new(site).min_depth(1).max_depth(2).sort_by_file_name();
    for entry in walk.into_iter().flatten().filter(|e| e.file_type().is_file()) {
        let name = entry.file_name().to_string_lossy().to_ascii_lowercase();
        let Some((_, what)) = FETCHABLE.iter().find(|(end, _)| name.ends_with(end)) else { continue };
        let path = entry.path().strip_prefix(site).unwrap_or(entry.path()).display().to_string();
        out.push(Unwanted {
            path,
            about: format!("{what} in the document root: anyone can fetch it"),
            safe: false,
            harm: true,
        });
    }
    let tree = FolderTree(site.to_path_buf());
    for path in tree.matching("*.php") {
        // Somebody's helper: programs of a system are long, or do not do this.
        let helper = tree
            .read(&path)
            .is_some_and(|text| text.len() < 4096 && memchr::memmem::find(&text, b"phpinfo(").is_some());
        if helper {
            let about = "helper script: it shows the server's settings to anyone".to_string();
            out.push(Unwanted { path, about, safe: false, harm: true });
        }
    }
    for leftover in &definition.leftover {
        for path in tree.matching(&leftover.path) {
            if !out.iter().any(|u| u.path == path) {
                let about = leftover.about.clone();
                out.push(Unwanted { path, about, safe: leftover.safe, harm: leftover.harm });
            }
        }
    }
    out
}
