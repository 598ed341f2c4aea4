//! One walk over a site's files: how heavy its folders are, what is not carried of them, what cannot be read.

use super::select::{Fate, Selection};
use crate::archive::format::LeftOut;
use crate::config::htaccess;
use crate::system::Definition;
use rustix::fs::{Access, access};
use serde::Serialize;
use std::collections::BTreeMap;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use walkdir::WalkDir;

/// Size of a top folder (or of the files beside them).
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct FolderSize {
    /// Name; `.` for the files directly in the root.
    pub path: String,
    /// Files.
    pub files: u64,
    /// Bytes.
    pub bytes: u64,
    /// Bytes that the system makes anew and that are not carried.
    pub transient_bytes: u64,
    /// Transient files.
    pub transient_files: u64,
}

/// What a walk found.
#[derive(Debug, Default)]
pub struct Walked {
    /// Top folders, heaviest first.
    pub folders: Vec<FolderSize>,
    /// What is not carried, and why.
    pub left_out: Vec<LeftOut>,
    /// What would be carried and cannot be read, under the site.
    pub unread: Vec<PathBuf>,
    /// Files that the web server reads in whatever folder they lie, under the site.
    pub for_web_server: Vec<PathBuf>,
}

/// Walks over a site.
pub fn walk(site: &Path, definition: &Definition, selection: &Selection) -> Walked {
    let mut out = Walked::default();
    let mut folders: BTreeMap<String, FolderSize> = BTreeMap::new();
    for entry in WalkDir::new(site).min_depth(1).sort_by_file_name() {
        let entry = match entry {
            Ok(entry) => entry,
            Err(e) => {
                let path = e.path().unwrap_or(site);
                out.unread.push(path.strip_prefix(site).unwrap_or(path).to_path_buf());
                continue;
            }
        };
        if entry.file_type().is_dir() {
            continue;
        }
        let path = entry.path().strip_prefix(site).unwrap_or(entry.path());
        let meta = entry.metadata().ok().filter(|m| m.is_file());
        let bytes = meta.as_ref().map(|m| m.len()).unwrap_or_default();
        let top = top(path);
        let size = match folders.get_mut(&*top) {
            Some(known) => known,
            None => folders
                .entry(top.to_string())
                .or_insert(FolderSize { path: top.into_owned(), ..FolderSize::default() }),
        };
        size.files += 1;
        size.bytes += bytes;
        if meta.is_some() && htaccess::is_read_anywhere(path) {
            out.for_web_server.push(path.to_path_buf());
        }
        let fate = selection.fate(path, false);
        if let Some((what, why)) = reason(definition, fate, path) {
            size.transient_files += 1;
            size.transient_bytes += bytes;
            match out.left_out.iter_mut().find(|l| l.what == what) {
                Some(known) => {
                    known.count += 1;
                    known.bytes += bytes;
                }
                None => out.left_out.push(LeftOut { what, why, count: 1, bytes }),
            }
        // What everybody may read needs no question.
        } else if meta.is_some_and(|m| m.mode() & 0o444 != 0o444)
            && access(entry.path(), Access::READ_OK).is_err()
        {
            out.unread.push(path.to_path_buf());
        }
    }
    out.folders = folders.into_values().collect();
    out.folders.sort_by(|a, b| b.bytes.cmp(&a.bytes).then_with(|| a.path.cmp(&b.path)));
    out
}

/// Returns the name of the top folder in which a path lies.
fn top(path: &Path) -> std::borrow::Cow<'_, str> {
    let mut parts = path.components();
    match (parts.next(), parts.next()) {
        (Some(first), Some(_)) => first.as_os_str().to_string_lossy(),
        _ => ".".into(),
    }
}

/// Says what is left out with a file, and why; nothing for one that is carried.
fn reason(definition: &Definition, fate: Fate, path: &Path) -> Option<(String, String)> {
    Some(match fate {
        Fate::Carry => return None,
        Fate::Transient(i) => (definition.transient[i].path.clone(), "made anew by the system".to_string()),
        Fate::Generated(i) => (definition.generated[i].path.clone(), definition.generated[i].about.clone()),
        Fate::Media(i) => (definition.media[i].path.clone(), definition.media[i].about.clone()),
        Fate::OtherHost => {
            let folder = path.components().take(2).collect::<PathBuf>();
            (folder.display().to_string(), "belongs to another host".to_string())
        }
        Fate::Database => (path.display().to_string(), "the database, carried table by table".to_string()),
        Fate::NotAsked => ("files".to_string(), "not asked for".to_string()),
    })
}
