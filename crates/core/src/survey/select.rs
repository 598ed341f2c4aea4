//! Decides by the definition, and by what was asked for, which files of a site are carried.

use crate::place::{DatabaseAccess, Engine};
use crate::system::schema::TransientFolder;
use crate::system::{Definition, globs};
use globset::{Candidate, GlobSet};
use serde::{Deserialize, Serialize};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

/// A part of a site.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Part {
    /// The database.
    Database,
    /// Programs, themes, config files.
    Code,
    /// What users uploaded.
    Media,
    /// What the system makes anew.
    Transient,
    /// A folder under the site.
    Folder(PathBuf),
}

impl Part {
    /// Reads a part's name; what has a slash is a folder.
    pub fn parse(text: &str) -> Option<Part> {
        Some(match text {
            "database" => Part::Database,
            "code" => Part::Code,
            "media" => Part::Media,
            "transient" => Part::Transient,
            path if path.contains('/') && !path.starts_with('/') && !path.split('/').any(|s| s == "..") => {
                Part::Folder(PathBuf::from(path.trim_end_matches('/')))
            }
            _ => return None,
        })
    }
}

/// What of a site is meant. Nothing said means database, code and media.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Scope {
    /// These alone; all of the usual ones if empty.
    pub only: Vec<Part>,
    /// But not these.
    pub without: Vec<Part>,
}

impl Scope {
    /// Says whether a part is meant.
    pub fn has(&self, part: &Part) -> bool {
        let usual = *part != Part::Transient;
        let asked = if self.only.is_empty() { usual } else { self.only.contains(part) };
        asked && !self.without.contains(part)
    }

    /// Says whether any files are meant.
    pub fn has_files(&self) -> bool {
        let folder = self.only.iter().any(|p| matches!(p, Part::Folder(_)));
        folder || [Part::Code, Part::Media, Part::Transient].iter().any(|p| self.has(p))
    }

    /// Says whether the usual files are meant: what a survey tells of folders holds for them.
    pub fn has_usual_files(&self) -> bool {
        self.only.is_empty() && self.without.iter().all(|p| *p == Part::Database)
    }

    /// Says whether a file of a part is meant.
    fn has_file(&self, path: &Path, part: &Part) -> bool {
        let within =
            |parts: &[Part]| parts.iter().any(|p| matches!(p, Part::Folder(f) if path.starts_with(f)));
        !within(&self.without) && (within(&self.only) || self.has(part))
    }

    /// Says whether a folder has to be there for something that is meant.
    fn has_folder(&self, path: &Path, part: &Part) -> bool {
        let above = self.only.iter().any(|p| matches!(p, Part::Folder(f) if f.starts_with(path)));
        above || self.has_file(path, part)
    }
}

/// What becomes of a file or folder.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fate {
    /// It is carried.
    Carry,
    /// It is made anew by the system; index into the definition's `transient`.
    Transient(usize),
    /// It is generated and wrong elsewhere; index into the definition's `generated`.
    Generated(usize),
    /// It is media that was not asked for; index into the definition's `media`.
    Media(usize),
    /// It belongs to another host of the same code base.
    OtherHost,
    /// It is the database, or belongs to it: that is carried table by table.
    Database,
    /// It was not asked for.
    NotAsked,
}

/// The definition's folders and files, ready to match.
pub struct Selection {
    transient: Vec<TransientFolder>,
    transient_paths: GlobSet,
    generated: GlobSet,
    media: Vec<String>,
    media_paths: GlobSet,
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
    /// The nearest folder at or above it that is transient, and which.
    transient: Option<(PathBuf, usize)>,
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
            transient: definition.transient.clone(),
            transient_paths: globs(definition.transient.iter().map(|t| &*t.path)),
            generated: globs(definition.generated.iter().map(|g| &*g.path)),
            media: definition.media.iter().map(|m| m.path.clone()).collect(),
            media_paths: globs(definition.media.iter().map(|m| &*m.path)),
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
        let file = access.filter(|a| a.engine == Engine::Sqlite).map(|a| Path::new(&a.name));
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
            transient: named.find_map(|a| Some((a.to_path_buf(), first_of(&self.transient_paths, a)?))),
            media: folder.ancestors().find_map(|a| first_of(&self.media_paths, a)),
            of_another: self.others.iter().any(|o| folder.starts_with(o)),
            folder: folder.to_path_buf(),
        }
    }

    /// Returns the fate of a path under the site.
    pub fn fate(&self, path: &Path, is_folder: bool) -> Fate {
        let folder = path.parent().unwrap_or(Path::new(""));
        let mut around = self.last.lock().unwrap_or_else(PoisonError::into_inner);
        if around.folder.as_os_str() != folder.as_os_str() {
            *around = self.in_folder(folder);
        }
        if around.of_another || self.others.iter().any(|o| o == path) {
            return Fate::OtherHost;
        }
        if self.is_database(path) {
            return Fate::Database;
        }
        if !self.scope.has(&Part::Transient) {
            if let Some(i) = first_of(&self.generated, path) {
                return Fate::Generated(i);
            }
            if let Some((folder, i)) = &around.transient {
                let below = path.strip_prefix(folder).unwrap_or(path);
                if !kept(below, is_folder, &self.transient[*i].keep, &self.transient[*i].folders) {
                    return Fate::Transient(*i);
                }
            }
        }
        let media = first_of(&self.media_paths, path).or(around.media);
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
            (true, _) => Fate::Carry,
            (false, Some(i)) => Fate::Media(i),
            (false, None) => Fate::NotAsked,
        }
    }

    /// Returns the folders that must exist in a carried site although their content was left out.
    pub fn skeleton(&self, folder: &Path) -> Vec<PathBuf> {
        let matching = self.transient_paths.matches(folder).into_iter();
        matching.flat_map(|i| self.transient[i].folders.iter().map(|f| folder.join(f))).collect()
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
        let fate = |p: &str, dir| s.fate(Path::new(p), dir);
        assert_eq!(fate("cache/smarty", true), Fate::Carry);
        assert_eq!(fate("cache/smarty/compile", true), Fate::Carry);
        assert_eq!(fate("cache/smarty/compile/index.php", false), Fate::Carry);
        assert!(matches!(fate("cache/smarty/compile/a1", true), Fate::Transient(_)));
        assert!(matches!(fate("cache/smarty/compile/a1/x.php", false), Fate::Transient(_)));
        assert!(matches!(fate("themes/default/cache/x.css", false), Fate::Transient(_)));
        assert!(matches!(fate("cache/class_index.php", false), Fate::Generated(0)));
        assert_eq!(fate("img/p/1/1.jpg", false), Fate::Carry);
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
        let carried = |s: &Scope, path: &str| {
            Selection::of(&shop.definition, s, &[]).fate(Path::new(path), false) == Fate::Carry
        };
        let rows = [
            (scope(&[], &[]), [true, true, true, false]),
            (scope(&[], &["media"]), [true, false, false, false]),
            (scope(&[], &["img/p/"]), [true, false, true, false]),
            (scope(&["media"], &[]), [false, true, true, false]),
            (scope(&["img/c/"], &[]), [false, false, true, false]),
            (scope(&["code", "transient"], &[]), [true, false, false, true]),
            (scope(&["database"], &[]), [false, false, false, false]),
        ];
        for (scope, expected) in rows {
            let found =
                ["index.php", "img/p/1/1.jpg", "img/c/2.jpg", "log/x.log"].map(|p| carried(&scope, p));
            assert_eq!(found, expected, "{scope:?}");
        }
        let media = Selection::of(&shop.definition, &scope(&["media"], &[]), &[]);
        assert_eq!(media.fate(Path::new("img"), true), Fate::Carry, "media lies below");
        assert_ne!(media.fate(Path::new("modules"), true), Fate::Carry);
        assert_eq!([Part::parse("pictures"), Part::parse("../x/"), Part::parse("/etc/")], [None, None, None]);
    }
}
