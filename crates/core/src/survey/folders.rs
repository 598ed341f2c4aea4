//! One walk over a site's files: how heavy its folders are, what is not copied of them, what cannot be read.

use crate::archive::format::LeftOut;
use crate::config::htaccess;
use crate::select::{Decision, Selection};
use crate::system::Definition;
use crate::tree::{Found, Tree};
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// Size of a top folder (or of the files beside them).
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct FolderSize {
    /// Name; `.` for the files directly in the root.
    pub path: String,
    /// Files.
    pub files: u64,
    /// Bytes.
    pub bytes: u64,
    /// Bytes that are not copied, as a rule because the system rebuilds them.
    pub cache_bytes: u64,
    /// Files of that kind.
    pub cache_files: u64,
}

/// What a walk found.
#[derive(Debug, Default)]
pub struct Walked {
    /// Top folders, heaviest first.
    pub folders: Vec<FolderSize>,
    /// What is not copied, and why.
    pub left_out: Vec<LeftOut>,
    /// What would be copied and cannot be read, under the site.
    pub unread: Vec<PathBuf>,
    /// Files that the web server reads in whatever folder they lie, under the site.
    pub for_web_server: Vec<PathBuf>,
    /// Things that are heavy and hardly part of the site, heaviest first.
    pub heavy: Vec<Heavy>,
    /// About how many bytes of an archive the files that are copied take.
    pub packed_bytes: u64,
    /// Files that are copied.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
}

/// Something heavy that hardly is part of the site.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Heavy {
    /// Path under the site.
    pub path: String,
    /// What it is.
    pub what: &'static str,
    /// Bytes.
    pub bytes: u64,
    /// Files.
    pub files: u64,
}

/// Folders of tools that are no part of a site.
const TOOLS: [(&str, &str); 4] = [
    (".git", "history of versions"),
    (".svn", "history of versions"),
    (".hg", "history of versions"),
    ("node_modules", "packages of a build tool"),
];

/// Least size at which a single file of a kind is worth a word, by the end of its name.
const HEAVY: [(&str, u64, &str); 20] = [
    (".sql", 0, "database dump"),
    (".sql.gz", 0, "database dump"),
    (".sql.zst", 0, "database dump"),
    (".sql.bz2", 0, "database dump"),
    (".tar", 0, "archive"),
    (".tar.gz", 0, "archive"),
    (".tgz", 0, "archive"),
    (".tar.bz2", 0, "archive"),
    (".tar.xz", 0, "archive"),
    (".tar.zst", 0, "archive"),
    (".7z", 0, "archive"),
    (".rar", 0, "archive"),
    (".zip", 10 << 20, "archive"),
    (".log", 1 << 20, "log"),
    ("error_log", 1 << 20, "log"),
    ("~", 0, "copy made by an editor"),
    (".bak", 0, "copy of a file"),
    (".old", 0, "copy of a file"),
    (".orig", 0, "copy of a file"),
    (".swp", 0, "copy made by an editor"),
];

/// Size from which on any file is worth a word.
const HUGE: u64 = 100 << 20;

/// Files of kinds that do not get smaller when they are compressed.
const COMPRESSED: [&str; 28] = [
    "jpg", "jpeg", "png", "gif", "webp", "avif", "heic", "mp4", "m4v", "mov", "webm", "avi", "mp3", "m4a",
    "ogg", "flac", "woff", "woff2", "gz", "zip", "zst", "bz2", "xz", "7z", "rar", "pdf", "docx", "phar",
];

/// About how much of a file's bytes an archive takes, in percent. Measured on the files of the content systems at hand.
fn percent(path: &Path) -> u64 {
    let ending = path.extension().and_then(|e| e.to_str()).unwrap_or_default().to_ascii_lowercase();
    if COMPRESSED.contains(&ending.as_str()) { 99 } else { 25 }
}

fn heavy(path: &Path, bytes: u64) -> Option<Heavy> {
    let whole = |path: &Path, what| Heavy { path: path.display().to_string(), what, bytes, files: 1 };
    for folder in path.ancestors().skip(1) {
        let name = folder.file_name().and_then(|n| n.to_str()).unwrap_or_default();
        if let Some((_, what)) = TOOLS.iter().find(|(tool, _)| *tool == name) {
            return Some(whole(folder, what));
        }
    }
    let name = path.file_name()?.to_string_lossy().to_ascii_lowercase();
    let kind = HEAVY.iter().find(|(end, least, _)| name.ends_with(end) && bytes >= *least);
    kind.map(|(_, _, what)| whole(path, what))
        .or_else(|| (bytes >= HUGE).then(|| whole(path, "very large file")))
}

/// Sizes of folders, as far down as they are told apart.
#[derive(Default)]
struct Sizes(BTreeMap<String, FolderSize>);

impl Sizes {
    /// Adds a file.
    fn add(&mut self, path: &Path, depth: usize, bytes: u64, left_out: bool) {
        let top = top(path, depth);
        let size = match self.0.get_mut(&*top) {
            Some(known) => known,
            None => self
                .0
                .entry(top.to_string())
                .or_insert(FolderSize { path: top.into_owned(), ..FolderSize::default() }),
        };
        size.files += 1;
        size.bytes += bytes;
        if left_out {
            size.cache_files += 1;
            size.cache_bytes += bytes;
        }
    }

    /// All of them, heaviest first.
    fn sorted(self) -> Vec<FolderSize> {
        let mut out: Vec<FolderSize> = self.0.into_values().collect();
        out.sort_by(|a, b| b.bytes.cmp(&a.bytes).then_with(|| a.path.cmp(&b.path)));
        out
    }
}

/// How heavy the folders of a place are, told apart down to `depth` below its root. What cannot be read is left out.
pub fn sizes(tree: &dyn Tree, depth: usize) -> Vec<FolderSize> {
    let mut sizes = Sizes::default();
    for found in tree.walk(tree.root()).flatten().filter(|f| f.meta.is_file()) {
        sizes.add(found.path.strip_prefix(tree.root()).unwrap_or(&found.path), depth, found.meta.size, false);
    }
    sizes.sorted()
}

/// Walks over a site. Folders are told apart down to `depth` below its root.
pub fn walk(tree: &dyn Tree, definition: &Definition, selection: &Selection, depth: usize) -> Walked {
    let site = tree.root();
    let mut out = Walked::default();
    let mut heavy_things: BTreeMap<String, Heavy> = BTreeMap::new();
    let mut sizes = Sizes::default();
    for found in tree.walk(site) {
        let Found { path: whole, meta } = match found {
            Ok(found) => found,
            Err(e) => {
                out.unread.push(e.path.strip_prefix(site).unwrap_or(&e.path).to_path_buf());
                continue;
            }
        };
        if meta.is_folder() {
            continue;
        }
        let path = whole.strip_prefix(site).unwrap_or(&whole);
        let bytes = if meta.is_file() { meta.size } else { 0 };
        let left_out = reason(definition, selection.decide(path, false), path);
        sizes.add(path, depth, bytes, left_out.is_some());
        if let Some(found) = heavy(path, bytes) {
            match heavy_things.get_mut(&found.path) {
                Some(known) => {
                    known.bytes += bytes;
                    known.files += 1;
                }
                None => drop(heavy_things.insert(found.path.clone(), found)),
            }
        }
        if meta.is_file() && htaccess::is_read_anywhere(path) {
            out.for_web_server.push(path.to_path_buf());
        }
        if let Some((what, why)) = left_out {
            match out.left_out.iter_mut().find(|l| l.what == what) {
                Some(known) => {
                    known.count += 1;
                    known.bytes += bytes;
                }
                None => out.left_out.push(LeftOut { what, why, count: 1, bytes }),
            }
            continue;
        }
        out.files += 1;
        out.bytes += bytes;
        out.packed_bytes += bytes * percent(path) / 100 + 100;
        // What everybody may read needs no question.
        if meta.is_file() && meta.mode & 0o444 != 0o444 && !tree.may_read(&whole) {
            out.unread.push(path.to_path_buf());
        }
    }
    out.heavy = heavy_things.into_values().collect();
    out.heavy.sort_by(|a, b| b.bytes.cmp(&a.bytes).then_with(|| a.path.cmp(&b.path)));
    out.folders = sizes.sorted();
    out
}

/// Returns the folder in which a path lies, cut after so many names.
fn top(path: &Path, depth: usize) -> std::borrow::Cow<'_, str> {
    let mut parts = path.components();
    if depth == 1 {
        return match (parts.next(), parts.next()) {
            (Some(first), Some(_)) => first.as_os_str().to_string_lossy(),
            _ => ".".into(),
        };
    }
    let folder: PathBuf = path.parent().into_iter().flat_map(Path::components).take(depth).collect();
    if folder.as_os_str().is_empty() { ".".into() } else { folder.display().to_string().into() }
}

/// Says what is left out with a file, and why; nothing for one that is copied.
fn reason(definition: &Definition, decide: Decision, path: &Path) -> Option<(String, String)> {
    Some(match decide {
        Decision::Copy => return None,
        Decision::Cache(i) => (definition.cache[i].path.clone(), "rebuilt by the system".to_string()),
        Decision::Generated(i) => {
            (definition.generated[i].path.clone(), definition.generated[i].about.clone())
        }
        Decision::Media(i) => (definition.media[i].path.clone(), definition.media[i].about.clone()),
        Decision::OtherHost => {
            let folder = path.components().take(2).collect::<PathBuf>();
            (folder.display().to_string(), "belongs to another host, or is a copy of this site".to_string())
        }
        Decision::Database => (path.display().to_string(), "the database, copied table by table".to_string()),
        Decision::NotAsked => ("files".to_string(), "not asked for".to_string()),
    })
}
