//! Definitions of content systems: data files compiled in, and the user's own.

mod check;
pub mod copy;
pub mod knowledge;
pub mod schema;

use include_dir::{Dir, include_dir};
pub use schema::Definition;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::{Path, PathBuf};

/// Why a definition cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum DefinitionError {
    /// The file cannot be read.
    #[error("the definition {path} cannot be read")]
    Read {
        /// Path.
        path: PathBuf,
        /// Cause.
        #[source]
        source: std::io::Error,
    },
    /// The text is no definition.
    #[error("{path} is no usable definition: {}", describe(.mistakes))]
    Wrong {
        /// Path or name.
        path: String,
        /// What is wrong with it, line by line; at least one.
        mistakes: Vec<Mistake>,
    },
}

/// A mistake in a definition.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Mistake {
    /// Line, from 1.
    pub line: usize,
    /// What is wrong.
    pub message: String,
}

fn describe(mistakes: &[Mistake]) -> String {
    match mistakes {
        [one] => format!("line {}: {}", one.line, one.message),
        many => format!("{} mistakes", many.len()),
    }
}

/// The built-in definitions: every file of the folder.
static BUILT_IN: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/systems");

fn built_in() -> impl Iterator<Item = (&'static str, &'static str)> {
    BUILT_IN.files().filter_map(|f| Some((f.path().to_str()?, f.contents_utf8()?)))
}

/// A definition and where it comes from.
#[derive(Debug, Clone)]
pub struct Known {
    /// The definition.
    pub definition: Definition,
    /// The user's file, or nothing for a built-in one.
    pub file: Option<PathBuf>,
    /// Its text.
    pub text: String,
}

/// Loads the built-in definitions and those of the user's folder. A user's definition replaces a built-in one of the same id.
pub fn load(user_folder: Option<&Path>) -> Result<Vec<Known>, DefinitionError> {
    let mut known = Vec::new();
    for (name, text) in built_in() {
        // A test looks for mistakes in these.
        known.push(Known { definition: of_text(name, text)?, file: None, text: text.to_string() });
    }
    let entries = user_folder.and_then(|f| std::fs::read_dir(f).ok());
    let mut files: Vec<PathBuf> = entries.into_iter().flatten().flatten().map(|e| e.path()).collect();
    files.retain(|p| p.extension().is_some_and(|e| e == "toml"));
    files.sort();
    for path in files {
        let text = text_of(&path)?;
        let definition = parse(&path.display().to_string(), &text)?;
        known.retain(|k: &Known| k.definition.id != definition.id);
        known.push(Known { definition, file: Some(path), text });
    }
    known.sort_by(|a, b| a.definition.id.cmp(&b.definition.id));
    // What one is like may itself be the user's.
    for at in 0..known.len() {
        let like = known[at].definition.like.clone();
        if let Some(other) = like.and_then(|id| known.iter().position(|k| k.definition.id == id)) {
            known[at].definition =
                known[at].definition.clone().completed_by(&known[other].definition.clone());
        }
    }
    Ok(known)
}

/// Identifier of what stands for a system that nobody knows.
pub const ANY: &str = "any";

/// What stands for a system that nobody knows: files, and a database that somebody names.
pub fn any() -> Definition {
    let text = format!("id = {ANY:?}\nname = \"site of an unknown system\"\nrecognise = []\n");
    // Its text is as good as a file of ours.
    of_text(ANY, &text).unwrap_or_else(|e| unreachable!("{e}"))
}

/// Reads and checks one definition file.
pub fn read(path: &Path) -> Result<Definition, DefinitionError> {
    parse(&path.display().to_string(), &text_of(path)?)
}

fn text_of(path: &Path) -> Result<String, DefinitionError> {
    std::fs::read_to_string(path).map_err(|source| DefinitionError::Read { path: path.to_path_buf(), source })
}

fn parse(name: &str, text: &str) -> Result<Definition, DefinitionError> {
    let definition = of_text(name, text)?;
    let mistakes = check::mistakes(&definition, text);
    if mistakes.is_empty() {
        Ok(definition)
    } else {
        Err(DefinitionError::Wrong { path: name.to_string(), mistakes })
    }
}

/// Reads a definition without looking for mistakes.
fn of_text(name: &str, text: &str) -> Result<Definition, DefinitionError> {
    let read = toml::from_str(text).map(Definition::expanded);
    read.map_err(|e| {
        let at = e.span().map_or(0, |s| s.start.min(text.len()));
        let line = 1 + text[..at].matches('\n').count();
        let mistakes = vec![Mistake { line, message: e.message().trim().to_string() }];
        DefinitionError::Wrong { path: name.to_string(), mistakes }
    })
}

/// Compiles a path pattern in which `*` stands for one name (or part of one).
pub fn glob(pattern: &str) -> Result<globset::GlobMatcher, globset::Error> {
    Ok(globset::GlobBuilder::new(pattern).literal_separator(true).build()?.compile_matcher())
}

/// Compiles several path patterns, to be asked at once; those that cannot be read match nothing. Their order is kept.
pub fn globs<'p>(patterns: impl IntoIterator<Item = &'p str>) -> globset::GlobSet {
    let mut all = globset::GlobSetBuilder::new();
    for pattern in patterns {
        // A path holds no NUL, so this stands for the pattern that cannot be read.
        let glob = glob(pattern).map(|g| g.glob().clone()).or_else(|_| globset::Glob::new("\0"));
        if let Ok(glob) = glob {
            all.add(glob);
        }
    }
    all.build().unwrap_or_default()
}

/// Returns the rule of a definition for a table.
pub fn table_rule<'d>(
    definition: &'d Definition,
    prefix: &str,
    table: &str,
) -> Option<&'d schema::TableRule> {
    let bare = table.strip_prefix(prefix)?;
    // A network of sites numbers their tables.
    let numbered =
        bare.split_once('_').filter(|(n, _)| !n.is_empty() && n.bytes().all(|b| b.is_ascii_digit()));
    let of_one = numbered.map(|(_, rest)| rest);
    definition.table.iter().find(|t| t.is_of(bare) || of_one.is_some_and(|rest| t.is_of(rest)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_built_in_definition_loads() {
        let known = load(None).unwrap();
        assert_eq!(known.len(), built_in().count());
        for (file, text) in built_in() {
            let definition = parse(file, text).unwrap();
            assert_eq!(format!("{}.toml", definition.id), file);
        }
    }

    #[test]
    fn mistakes_are_told_with_their_line() {
        let base = "id='x'\nname='X'\n[[recognise]]\npath='a'\n";
        let key = |says: &str| format!("{base}[[config]]\npath='c'\nform='php'\nkey=[{{name='U',{says}}}]\n");
        let rows = [
            (format!("{base}[[cell]]\ntable='t'\ncolumn='c'\nform='nonsense'\n"), 8, "nonsense"),
            (format!("{base}[[generated]]\npath='/etc/x'\nabout=''\n"), 6, "under the site"),
            (
                format!("{base}[[config]]\npath='c'\nform='php'\nkey=[{{name='U',role='address'}}]\n"),
                8,
                "form",
            ),
            ("id='x'\nname='X'\nrecognise=[]\n".into(), 3, "recognise"),
            // Combinations that mean nothing.
            (key("role='database-host',form='url'"), 8, "takes no `form`"),
            (key("role='address',form='/base/'"), 8, "does not take this `form`"),
            (key("role='address',form='url',number=true"), 8, "does not take `number`"),
            (key("role='email',own=true").replace("'U'", "'a/@U'").replace("own=true", ""), 8, "`xml`"),
            (format!("{base}[[version]]\npath='v**'\nkeys=['V']\n"), 6, "whole folders"),
            (format!("{base}[[version]]\npath='v'\nform='htaccess'\nkeys=['V']\n"), 5, "has no keys"),
            (format!("{base}[[version]]\npath='v'\nkeys=['V']\nfrom_name=true\n"), 5, "by one of them"),
            (format!("{base}[[address]]\ntable='t'\nhost='h'\nform='port'\n"), 5, "`host/base`"),
            (format!("{base}[[address]]\ntable='t'\nhost='h'\nform='url'\nbase='b'\n"), 5, "already"),
            (
                format!("{base}[[cell]]\ntable='t'\ncolumn='c'\nform='host'\nbeside_host='h'\n"),
                5,
                "base paths",
            ),
            (format!("{base}[[cell]]\ntable='t'\ncolumn='c'\nform='host'\ntail=true\n"), 5, "`tail`"),
            (format!("{base}[[beaten]]\ntable='t'\ncolumn='c'\nkey='k'\n"), 5, "{value}"),
            (format!("{base}colour='red'\n"), 5, "colour"),
        ];
        for (text, line, word) in rows {
            match parse("t.toml", &text) {
                Err(DefinitionError::Wrong { mistakes, .. }) => {
                    assert_eq!((mistakes.len(), mistakes[0].line), (1, line), "{mistakes:?}");
                    assert!(mistakes[0].message.contains(word), "{mistakes:?}");
                }
                other => panic!("{other:?}"),
            }
        }
    }

    #[test]
    fn every_mistake_is_told_at_once() {
        let text = "id='X y'\nname='X'\n[[recognise]]\npath='{site}/a'\n[[version]]\npath='v'\n[[cell]]\ntable='t'\ncolumn='c'\nform='url'\nkey='k'\n\
            [[table]]\nname='*'\nsafe=true\nabout=''\n[[switch]]\nname='mail'\nstates={dim='1'}\nset={}\n[[switch]]\nname='cache'\nstates={off='gone'}\n\
            set.file={path='a',content=''}\n[[admin]]\ntable='u'\nid='i'\nemail='e'\npassword='p'\nhash=[{scheme='sha1-utf16'}]\n";
        let Err(DefinitionError::Wrong { mistakes, .. }) = parse("t.toml", text) else { panic!() };
        let lines: Vec<usize> = mistakes.iter().map(|m| m.line).collect();
        assert_eq!(lines, [1, 3, 5, 7, 12, 16, 16, 20, 24, 24], "{mistakes:#?}");
    }
}
