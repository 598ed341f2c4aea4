//! Decides by the definition which files of a site are carried.

use crate::system::{Definition, glob};
use globset::GlobMatcher;
use std::path::{Path, PathBuf};

/// What becomes of a file or folder.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fate {
    /// It is carried.
    Carry,
    /// It is made anew by the system; index into the definition's `transient`.
    Transient(usize),
    /// It is generated and wrong elsewhere; index into the definition's `generated`.
    Generated(usize),
}

/// The definition's folders and files, ready to match.
pub struct Selection {
    transient: Vec<(GlobMatcher, Vec<String>, Vec<String>)>,
    generated: Vec<GlobMatcher>,
}

impl Selection {
    /// Compiles a definition. Patterns were checked when it was loaded; a wrong one matches nothing.
    pub fn new(definition: &Definition) -> Self {
        let transient = definition
            .transient
            .iter()
            .filter_map(|t| Some((glob(&t.path).ok()?, t.keep.clone(), t.folders.clone())));
        let generated = definition.generated.iter().filter_map(|g| glob(&g.path).ok());
        Selection { transient: transient.collect(), generated: generated.collect() }
    }

    /// Returns the fate of a path under the site.
    pub fn fate(&self, path: &Path, is_folder: bool) -> Fate {
        if let Some(i) = self.generated.iter().position(|g| g.is_match(path)) {
            return Fate::Generated(i);
        }
        for folder in path.ancestors().skip(1).filter(|a| !a.as_os_str().is_empty()) {
            for (i, (pattern, keep, folders)) in self.transient.iter().enumerate() {
                if pattern.is_match(folder) {
                    let below = path.strip_prefix(folder).unwrap_or(path);
                    return if kept(below, is_folder, keep, folders) {
                        Fate::Carry
                    } else {
                        Fate::Transient(i)
                    };
                }
            }
        }
        Fate::Carry
    }

    /// Returns the folders that must exist in a carried site although their content was left out.
    pub fn skeleton(&self, folder: &Path) -> Vec<PathBuf> {
        let matching = self.transient.iter().filter(|(pattern, _, _)| pattern.is_match(folder));
        matching.flat_map(|(_, _, folders)| folders.iter().map(|f| folder.join(f))).collect()
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
        let s = Selection::new(&shop.definition);
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
}
