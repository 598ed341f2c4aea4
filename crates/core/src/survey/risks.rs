//! What a careful administrator would point out about a site.

use super::recognise::ConfigFacts;
use super::site_files::{FolderFiles, SiteFiles};
use crate::config;
use crate::dump::inspect::Inspection;
use crate::finding::{Code, Finding};
use crate::place::Root;
use crate::system::Definition;
use crate::system::schema::{Risky, Role};
use crate::tree::{Links, Meta, Tree};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::{Path, PathBuf};
use std::sync::Arc;

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
    tree: &Arc<dyn Tree>,
    definition: &Definition,
    config: &ConfigFacts,
    dump: Option<&Inspection>,
) -> Vec<Finding> {
    let mut out = Vec::new();
    for file in &config.files {
        let Ok(Meta { mode, .. }) = tree.stat(&tree.root().join(file), Links::Follow) else { continue };
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
        if let Some(path) = path.filter(|p| !tree.exists(Path::new(p))) {
            let place = format!("{}, line {}", value.file, value.line);
            out.push(Finding::new(
                Code::PathMissing,
                format!("`{}` names a path that is not here: {path}", value.key),
                place,
                "nothing if the site was copied from another host; a restore moves paths below the old root",
            ));
        }
    }
    for risky in &definition.risky {
        out.extend(risky_setting(tree, risky));
    }
    out.extend(other_servers(config));
    // A document root alone is half a project.
    let name = tree.root().file_name().and_then(|n| n.to_str()).unwrap_or_default();
    if let (true, Some(above)) = (definition.document_root.iter().any(|d| d == name), tree.root().parent())
        && definition.served_from.is_empty()
        && ["composer.json", "vendor"].iter().any(|part| tree.exists(&above.join(part)))
    {
        out.push(Finding::at(
            Code::SiteIsPartOfProject,
            "this is the document root of a project whose libraries and settings lie beside it: they would be missing from a copy",
            above,
            format!("name {} as the site", above.display()),
        ));
    }
    for config in definition.config.iter().filter(|c| c.above) {
        let above = tree.root().parent().map(|folder| folder.join(&config.path));
        let here = tree.exists(&tree.root().join(&config.path));
        if let Some(above) =
            above.filter(|path| !here && definition.served_from.is_empty() && tree.exists(path))
        {
            let cure = format!("name {} as the site", above.parent().unwrap_or(&above).display());
            let what = "the config lies one folder above the document root, and would be missing from a copy";
            out.push(Finding::at(Code::SiteIsPartOfProject, what, &above, cure));
        }
    }
    for unwanted in unwanted(tree, definition) {
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

/// Looks whether a setting says what no site should that is open to all.
fn risky_setting(tree: &Arc<dyn Tree>, risky: &Risky) -> Option<Finding> {
    let files = FolderFiles(tree.clone());
    let path = files.matching(&risky.path).into_iter().next()?;
    let file = config::read(risky.form, &files.read(&path)?, None).ok()?;
    let setting = file.setting(&risky.key)?;
    let value = setting.value.as_deref()?.trim();
    let harmless = ["", "0", "false", "off", "none", "null"];
    let fine = harmless.into_iter().chain(risky.harmless.iter().map(String::as_str));
    if fine.into_iter().any(|h| value.eq_ignore_ascii_case(h)) {
        return None;
    }
    let what = format!("`{}` is {value:?}: {}", risky.key, risky.about);
    let place = format!("{path}, line {}", setting.line);
    Some(Finding::new(Code::ConfigRisky, what, place, "change it where the site is open to all"))
}

/// Tells of servers that a copy would share with the site it was made of.
pub fn other_servers(config: &ConfigFacts) -> impl Iterator<Item = Finding> {
    let named = config.values.iter().filter(|v| v.role == Role::OtherServer);
    named.filter_map(|v| {
        let server = v.value.as_deref().filter(|s| !s.is_empty())?;
        let what = format!("`{}` names a further server, {server}: a copy goes on using it", v.key);
        let place = format!("{}, line {}", v.file, v.line);
        Some(Finding::new(
            Code::ConfigOtherServers,
            what,
            place,
            "give a copy one of its own, or take the line out",
        ))
    })
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
pub fn unwanted(tree: &Arc<dyn Tree>, definition: &Definition) -> Vec<Unwanted> {
    let mut out = Vec::new();
    let site = tree.root();
    // Beside the document root nobody can fetch anything.
    let served = site.join(&definition.served_from);
    for found in tree.walk(&served).to_depth(2).flatten().filter(|f| f.meta.is_file()) {
        let name = found.path.file_name().unwrap_or_default().to_string_lossy().to_ascii_lowercase();
        let Some((_, what)) = FETCHABLE.iter().find(|(end, _)| name.ends_with(end)) else { continue };
        let path = found.path.strip_prefix(site).unwrap_or(&found.path).display().to_string();
        out.push(Unwanted {
            path,
            about: format!("{what} in the document root: anyone can fetch it"),
            safe: false,
            harm: true,
        });
    }
    let tree = FolderFiles(tree.clone());
    for path in tree.matching(&format!("{}*.php", definition.served_from)) {
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
