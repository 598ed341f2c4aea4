//! Decides by the definition, and by what was asked for, which files of a site are copied.

use crate::place::DatabaseAccess;
use crate::system::schema::CacheFolder;
use crate::system::{Definition, glob, globs};
use globset::{Candidate, GlobMatcher, GlobSet};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

/// A part of a site.
#[derive(Debug, Clone, PartialEq)]
pub enum Part {
    /// The database.
    Database,
    /// Programs, themes, config files.
    Code,
    /// What users uploaded.
    Media,
    /// What the system rebuilds by itself.
    Cache,
    /// A folder, a file, or a pattern for some, under the site.
    Path(PathChoice),
}

/// Names of the parts that are no path.
const PARTS: [(&str, Part); 4] =
    [("database", Part::Database), ("code", Part::Code), ("media", Part::Media), ("cache", Part::Cache)];

impl Part {
    /// Reads a part's name, or a path under the site. A word that is nearly a part's name is none: a folder of such a name is written with
    /// a slash behind it.
    pub fn parse(text: &str) -> Option<Part> {
        if let Some((_, part)) = PARTS.iter().find(|(name, _)| *name == text) {
            return Some(part.clone());
        }
        let slip = PARTS.iter().any(|(name, _)| similar_words(name, text));
        if text.is_empty() || text.starts_with(['/', '-']) || text.split('/').any(|s| s == "..") || slip {
            return None;
        }
        PathChoice::new(text).map(Part::Path)
    }

    /// Returns it as it is written.
    pub fn word(&self) -> String {
        match self {
            Part::Path(choice) => choice.text.clone(),
            part => {
                PARTS.iter().find(|(_, p)| p == part).map(|(name, _)| name.to_string()).unwrap_or_default()
            }
        }
    }
}

/// Says whether two words differ in at most two letters.
fn similar_words(a: &str, b: &str) -> bool {
    let (a, b): (Vec<char>, Vec<char>) = (a.chars().collect(), b.chars().collect());
    let mut row: Vec<usize> = (0..=b.len()).collect();
    for (i, x) in a.iter().enumerate() {
        let mut before = row[0];
        row[0] = i + 1;
        for (j, y) in b.iter().enumerate() {
            let changed = before + usize::from(x != y);
            before = row[j + 1];
            row[j + 1] = changed.min(row[j] + 1).min(before + 1);
        }
    }
    row[b.len()] <= 2
}

/// A folder or file under the site by its path, or several by a pattern; one without a slash means names anywhere.
#[derive(Debug, Clone)]
pub struct PathChoice {
    text: String,
    pattern: Option<GlobMatcher>,
}

impl PartialEq for PathChoice {
    fn eq(&self, other: &Self) -> bool {
        self.text == other.text
    }
}

impl PathChoice {
    /// Reads a path or pattern.
    fn new(text: &str) -> Option<Self> {
        let bare = text.trim_end_matches('/').trim_start_matches("./");
        let pattern = match bare.contains(['*', '?', '[', '{']) {
            true => Some(glob(bare).ok()?),
            false => None,
        };
        Some(PathChoice { text: bare.to_string(), pattern }).filter(|_| !bare.is_empty())
    }

    /// Means one folder.
    pub fn folder(path: &Path) -> Self {
        PathChoice { text: path.display().to_string(), pattern: None }
    }

    /// The path, where it is no pattern.
    pub fn path(&self) -> Option<&Path> {
        self.pattern.is_none().then(|| Path::new(&self.text))
    }

    /// Says whether it means a path, or a folder above it.
    fn holds(&self, path: &Path) -> bool {
        let Some(pattern) = &self.pattern else { return path.starts_with(&self.text) };
        let whole = self.text.contains('/');
        path.ancestors().any(|a| match (whole, a.file_name()) {
            (true, _) => pattern.is_match(a),
            (false, name) => name.is_some_and(|n| pattern.is_match(Path::new(n))),
        })
    }

    /// Says whether something that it means may lie below a folder.
    fn lies_below(&self, folder: &Path) -> bool {
        self.pattern.is_some() || Path::new(&self.text).starts_with(folder)
    }
}

/// What of a site is meant. Nothing said means database, code and media.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Scope {
    /// These alone; all of the usual ones if empty.
    pub only: Vec<Part>,
    /// But not these.
    pub without: Vec<Part>,
}

impl Scope {
    /// Says whether a part is meant.
    pub fn has(&self, part: &Part) -> bool {
        let usual = *part != Part::Cache;
        let asked = if self.only.is_empty() { usual } else { self.only.contains(part) };
        asked && !self.without.contains(part)
    }

    /// Says whether any files are meant.
    pub fn has_files(&self) -> bool {
        let folder = self.only.iter().any(|p| matches!(p, Part::Path(_)));
        folder || [Part::Code, Part::Media, Part::Cache].iter().any(|p| self.has(p))
    }

    /// Says whether the usual files are meant: what a survey tells of folders holds for them.
    pub fn has_usual_files(&self) -> bool {
        self.only.is_empty() && self.without.iter().all(|p| *p == Part::Database)
    }

    /// Says whether a file of a part is meant.
    fn has_file(&self, path: &Path, part: &Part) -> bool {
        let within = |parts: &[Part]| parts.iter().any(|p| matches!(p, Part::Path(c) if c.holds(path)));
        !within(&self.without) && (within(&self.only) || self.has(part))
    }

    /// Says whether a folder has to be there for something that is meant.
    fn has_folder(&self, path: &Path, part: &Part) -> bool {
        let above = self.only.iter().any(|p| matches!(p, Part::Path(c) if c.lies_below(path)));
        above || self.has_file(path, part)
    }
}

/// What becomes of a file or folder.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Decision {
    /// It is copied.
    Copy,
    /// It is not carried, as the system can do without; index into the definition's `cache`.
    Cache(usize),
    /// It is generated and wrong elsewhere; index into the definition's `generated`.
    Generated(usize),
    /// It is media that was not asked for; index into the definition's `media`.
    Media(usize),
    /// It belongs to another host of the same code base.
    OtherHost,
    /// It is the database, or belongs to it: that is copied table by table.
    Database,
    /// It was not asked for.
    NotAsked,
}

/// The definition's folders and files, ready to match.
pub struct Selection {
    cache: Vec<CacheFolder>,
    cache_paths: GlobSet,
    generated: GlobSet,
    generated_again: Vec<bool>,
    media: Vec<String>,
    media_paths: GlobSet,
    media_kept: GlobSet,
    kept_patterns: Vec<String>,
    scope: Scope,
    others: Vec<PathBuf>,
    /// The file in the site that is its database.
    database: Option<PathBuf>,
    /// What holds for everything in the folder that was asked about last: most paths lie beside the one before.
    last: Mutex<InFolder>,
}

/// What a folder means for the paths in it.
#[derive(Debug, Clone, Default)]
struct InFolder {
    folder: PathBuf,
    /// The nearest folder at or above it that is cache, and which.
    cache: Option<(PathBuf, usize)>,
    media: Option<usize>,
    of_another: bool,
}

/// Returns the first pattern of a list that matches.
fn first_of(paths: &GlobSet, path: &Path) -> Option<usize> {
    if paths.is_empty() {
        return None;
    }
    let candidate = Candidate::new(path);
    // Most paths match nothing, which is told sooner than what they match.
    if !paths.is_match_candidate(&candidate) {
        return None;
    }
    paths.matches_candidate(&candidate).into_iter().min()
}

impl Selection {
    /// Compiles a definition for what was asked for, without the folders of other hosts. Patterns were checked when the definition was
    /// loaded; a wrong one matches nothing.
    pub fn of(definition: &Definition, scope: &Scope, others: &[PathBuf]) -> Self {
        let mut selection = Selection {
            cache: definition.cache.clone(),
            cache_paths: globs(definition.cache.iter().map(|t| &*t.path)),
            generated: globs(definition.generated.iter().map(|g| &*g.path)),
            generated_again: definition.generated.iter().map(|g| g.rebuilt).collect(),
            media: definition.media.iter().map(|m| m.path.clone()).collect(),
            media_paths: globs(definition.media.iter().map(|m| &*m.path)),
            media_kept: globs(definition.media.iter().flat_map(|m| &m.keep).map(|k| &**k)),
            kept_patterns: definition.media.iter().flat_map(|m| m.keep.clone()).collect(),
            scope: scope.clone(),
            others: others.to_vec(),
            database: None,
            last: Mutex::default(),
        };
        let root = selection.in_folder(Path::new(""));
        selection.last = Mutex::new(root);
        selection
    }

    /// Leaves out the file that is the site's database, if it is one in the site's folder.
    pub fn beside_database(mut self, site: &Path, access: Option<&DatabaseAccess>) -> Self {
        let file = access.filter(|a| a.engine.facts().is_file).map(|a| Path::new(&a.name));
        self.database = file.and_then(|f| f.strip_prefix(site).ok()).map(Path::to_path_buf);
        self
    }

    /// Says whether a file is the database, or one that SQLite keeps beside it while it is in use.
    fn is_database(&self, path: &Path) -> bool {
        let Some(database) = &self.database else { return false };
        let name = path.as_os_str().as_encoded_bytes();
        let rest = name.strip_prefix(database.as_os_str().as_encoded_bytes());
        rest.is_some_and(|r| [&b""[..], b"-wal", b"-shm", b"-journal"].contains(&r))
    }

    fn in_folder(&self, folder: &Path) -> InFolder {
        let mut named = folder.ancestors().filter(|a| !a.as_os_str().is_empty());
        InFolder {
            cache: named.find_map(|a| Some((a.to_path_buf(), first_of(&self.cache_paths, a)?))),
            media: folder.ancestors().find_map(|a| first_of(&self.media_paths, a)),
            of_another: self.others.iter().any(|o| folder.starts_with(o)),
            folder: folder.to_path_buf(),
        }
    }

    /// Says whether a file may be taken away from a site at work: the system makes it again by itself, and it is nothing that somebody put
    /// there to keep.
    pub fn is_made_again(&self, path: &Path) -> bool {
        const KEPT: [&str; 14] = [
            "sql", "dump", "bak", "old", "log", "zip", "tar", "tgz", "7z", "rar", "zst", "env", "key", "pem",
        ];
        let name = path.file_name().unwrap_or_default().to_string_lossy().to_ascii_lowercase();
        // `dump.sql.gz` as well.
        let to_keep = name.split('.').skip(1).any(|part| KEPT.contains(&part));
        !to_keep
            && match self.decide(path, false) {
                Decision::Cache(i) => self.cache[i].rebuilt,
                Decision::Generated(i) => self.generated_again.get(i).copied().unwrap_or_default(),
                _ => false,
            }
    }

    /// Decides about a path under the site.
    pub fn decide(&self, path: &Path, is_folder: bool) -> Decision {
        let folder = path.parent().unwrap_or(Path::new(""));
        let mut around = self.last.lock().unwrap_or_else(PoisonError::into_inner);
        if around.folder.as_os_str() != folder.as_os_str() {
            *around = self.in_folder(folder);
        }
        if around.of_another || self.others.iter().any(|o| o == path) {
            return Decision::OtherHost;
        }
        if self.is_database(path) {
            return Decision::Database;
        }
        if !self.scope.has(&Part::Cache) {
            if let Some(i) = first_of(&self.generated, path) {
                return Decision::Generated(i);
            }
            if let Some((folder, i)) = &around.cache {
                let below = path.strip_prefix(folder).unwrap_or(path);
                if !kept(below, is_folder, &self.cache[*i].keep, &self.cache[*i].folders) {
                    return Decision::Cache(*i);
                }
            }
        }
        let media = first_of(&self.media_paths, path).or(around.media);
        // Some of it is the system's own.
        let own = |path: &Path| path.ancestors().any(|a| self.media_kept.is_match(a));
        let holds_own = |path: &Path| self.kept_patterns.iter().any(|k| Path::new(k).starts_with(path));
        let media =
            media.filter(|_| self.kept_patterns.is_empty() || !(own(path) || (is_folder && holds_own(path))));
        let part = if media.is_some() { Part::Media } else { Part::Code };
        let meant = match is_folder {
            // A folder may hold media further down.
            true => {
                let above = self.media.iter().any(|m| Path::new(m).starts_with(path));
                self.scope.has_folder(path, &part) || (above && self.scope.has(&Part::Media))
            }
            false => self.scope.has_file(path, &part),
        };
        match (meant, media) {
            (true, _) => Decision::Copy,
            (false, Some(i)) => Decision::Media(i),
            (false, None) => Decision::NotAsked,
        }
    }

    /// Returns the folders that must exist in a copied site although their content was left out.
    pub fn skeleton(&self, folder: &Path) -> Vec<PathBuf> {
        let matching = self.cache_paths.matches(folder).into_iter();
        matching.flat_map(|i| self.cache[i].folders.iter().map(|f| folder.join(f))).collect()
    }
}

fn kept(below: &Path, is_folder: bool, keep: &[String], folders: &[String]) -> bool {
    let text = below.to_string_lossy();
    if is_folder {
        return folders.iter().any(|f| *f == text || f.starts_with(&format!("{text}/")));
    }
    let (folder, name) = text.rsplit_once('/').unwrap_or(("", &text));
    keep.iter().any(|k| k == name) && (folder.is_empty() || folders.iter().any(|f| f == folder))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn skeletons_stay_and_content_goes() {
        let known = crate::system::load(None).unwrap();
        let shop = known.iter().find(|k| k.definition.id == "prestashop").unwrap();
        let s = Selection::of(&shop.definition, &Scope::default(), &[]);
        let decide = |p: &str, dir| s.decide(Path::new(p), dir);
        assert_eq!(decide("cache/smarty", true), Decision::Copy);
        assert_eq!(decide("cache/smarty/compile", true), Decision::Copy);
        assert_eq!(decide("cache/smarty/compile/index.php", false), Decision::Copy);
        assert!(matches!(decide("cache/smarty/compile/a1", true), Decision::Cache(_)));
        assert!(matches!(decide("cache/smarty/compile/a1/x.php", false), Decision::Cache(_)));
        assert!(matches!(decide("themes/default/cache/x.css", false), Decision::Cache(_)));
        assert!(matches!(decide("cache/class_index.php", false), Decision::Generated(0)));
        assert_eq!(decide("img/p/1/1.jpg", false), Decision::Copy);
        assert_eq!(
            s.skeleton(Path::new("cache/smarty")),
            [Path::new("cache/smarty/compile"), Path::new("cache/smarty/cache")]
        );
    }

    #[test]
    fn a_scope_tells_code_media_and_named_folders_apart() {
        let known = crate::system::load(None).unwrap();
        let shop = known.iter().find(|k| k.definition.id == "prestashop").unwrap();
        let scope = |only: &[&str], without: &[&str]| {
            let parts = |list: &[&str]| list.iter().map(|t| Part::parse(t).unwrap()).collect();
            Scope { only: parts(only), without: parts(without) }
        };
        let copied = |s: &Scope, path: &str| {
            Selection::of(&shop.definition, s, &[]).decide(Path::new(path), false) == Decision::Copy
        };
        let rows = [
            (scope(&[], &[]), [true, true, true, false]),
            (scope(&[], &["media"]), [true, false, false, false]),
            (scope(&[], &["img/p/"]), [true, false, true, false]),
            (scope(&["media"], &[]), [false, true, true, false]),
            (scope(&["img/c/"], &[]), [false, false, true, false]),
            (scope(&["code", "cache"], &[]), [true, false, false, true]),
            (scope(&["database"], &[]), [false, false, false, false]),
            (scope(&[], &["*.jpg"]), [true, false, false, false]),
            (scope(&["img"], &["img/*/2.jpg"]), [false, true, false, false]),
            (scope(&["index.php"], &[]), [true, false, false, false]),
        ];
        for (scope, expected) in rows {
            let found = ["index.php", "img/p/1/1.jpg", "img/c/2.jpg", "log/x.log"].map(|p| copied(&scope, p));
            assert_eq!(found, expected, "{scope:?}");
        }
        let media = Selection::of(&shop.definition, &scope(&["media"], &[]), &[]);
        assert_eq!(media.decide(Path::new("img"), true), Decision::Copy, "media lies below");
        assert_ne!(media.decide(Path::new("classes"), true), Decision::Copy);
        assert_eq!(
            ["../x/", "/etc/", "databse", "medai", ""].map(Part::parse),
            [None, None, None, None, None]
        );
    }
}
