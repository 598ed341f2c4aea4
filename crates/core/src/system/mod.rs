//! Definitions of content systems: data files compiled in, and the user's own.

pub mod schema;

pub use schema::Definition;
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
    #[error("{path}, line {line}: {message}")]
    Wrong {
        /// Path or name.
        path: String,
        /// Line, from 1.
        line: usize,
        /// What is wrong.
        message: String,
    },
}

const BUILT_IN: [(&str, &str); 10] = [
    ("dnn.toml", include_str!("../../systems/dnn.toml")),
    ("drupal.toml", include_str!("../../systems/drupal.toml")),
    ("drupal-6.toml", include_str!("../../systems/drupal-6.toml")),
    ("drupal-7.toml", include_str!("../../systems/drupal-7.toml")),
    ("joomla.toml", include_str!("../../systems/joomla.toml")),
    ("opencart.toml", include_str!("../../systems/opencart.toml")),
    ("phpbb.toml", include_str!("../../systems/phpbb.toml")),
    ("prestashop.toml", include_str!("../../systems/prestashop.toml")),
    ("prestashop-7.toml", include_str!("../../systems/prestashop-7.toml")),
    ("wordpress.toml", include_str!("../../systems/wordpress.toml")),
];

/// A definition and where it comes from.
#[derive(Debug, Clone)]
pub struct Known {
    /// The definition.
    pub definition: Definition,
    /// The user's file, or nothing for a built-in one.
    pub file: Option<PathBuf>,
}

/// Loads the built-in definitions and those of the user's folder. A user's definition replaces a built-in one of the same id.
pub fn load(user_folder: Option<&Path>) -> Result<Vec<Known>, DefinitionError> {
    let mut known = Vec::new();
    for (name, text) in BUILT_IN {
        known.push(Known { definition: parse(name, text)?, file: None });
    }
    let entries = user_folder.and_then(|f| std::fs::read_dir(f).ok());
    let mut files: Vec<PathBuf> = entries.into_iter().flatten().flatten().map(|e| e.path()).collect();
    files.retain(|p| p.extension().is_some_and(|e| e == "toml"));
    files.sort();
    for path in files {
        let definition = read(&path)?;
        known.retain(|k: &Known| k.definition.id != definition.id);
        known.push(Known { definition, file: Some(path) });
    }
    known.sort_by(|a, b| a.definition.id.cmp(&b.definition.id));
    Ok(known)
}

/// Reads and checks one definition file.
pub fn read(path: &Path) -> Result<Definition, DefinitionError> {
    let text = std::fs::read_to_string(path)
        .map_err(|source| DefinitionError::Read { path: path.to_path_buf(), source })?;
    parse(&path.display().to_string(), &text)
}

fn parse(name: &str, text: &str) -> Result<Definition, DefinitionError> {
    let wrong = |line, message| DefinitionError::Wrong { path: name.to_string(), line, message };
    let definition: Definition = toml::from_str(text).map_err(|e| {
        let at = e.span().map_or(0, |s| s.start.min(text.len()));
        wrong(1 + text[..at].matches('\n').count(), e.message().trim().to_string())
    })?;
    let line_of = |needle: &str| 1 + text.lines().position(|l| l.contains(needle)).unwrap_or(0);
    if definition.recognise.is_empty() {
        return Err(wrong(1, "`recognise` names no file, so no site would be recognised".into()));
    }
    for key in definition.config.iter().flat_map(|c| &c.key) {
        let needs_form = matches!(key.role, schema::Role::Address | schema::Role::BasePath);
        if needs_form && key.form.is_none() {
            let message =
                format!("the key `{}` holds an address but no `form` says how it is spelled", key.name);
            return Err(wrong(line_of(&key.name), message));
        }
    }
    for cell in &definition.cell {
        if cell.key.is_some() == cell.values.is_empty() {
            let message =
                format!("the cell {}.{} needs both `key` and `values`, or neither", cell.table, cell.column);
            return Err(wrong(line_of(&format!("\"{}\"", cell.table)), message));
        }
    }
    let patterns = (definition.transient.iter().map(|t| &t.path))
        .chain(definition.generated.iter().map(|g| &g.path))
        .chain(definition.text.iter().map(|t| &t.path))
        .chain(definition.leftover.iter().map(|l| &l.path));
    for pattern in patterns {
        if pattern.starts_with('/') || pattern.split('/').any(|s| s == "..") {
            return Err(wrong(line_of(pattern), format!("the path `{pattern}` must lie under the site")));
        }
        glob(pattern).map_err(|e| wrong(line_of(pattern), e.to_string()))?;
    }
    Ok(definition)
}

/// Compiles a path pattern in which `*` stands for one name (or part of one).
pub fn glob(pattern: &str) -> Result<globset::GlobMatcher, globset::Error> {
    Ok(globset::GlobBuilder::new(pattern).literal_separator(true).build()?.compile_matcher())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_built_in_definition_loads() {
        let known = load(None).unwrap();
        assert_eq!(known.len(), BUILT_IN.len());
        for (k, (file, _)) in known.iter().zip(BUILT_IN) {
            assert_eq!(format!("{}.toml", k.definition.id), file);
        }
    }

    #[test]
    fn mistakes_are_told_with_their_line() {
        let base = "id='x'\nname='X'\n[[recognise]]\npath='a'\n";
        let rows = [
            (format!("{base}[[cell]]\ntable='t'\ncolumn='c'\nform='nonsense'\n"), 8, "nonsense"),
            (format!("{base}[[generated]]\npath='/etc/x'\nabout=''\n"), 6, "under the site"),
            (
                format!("{base}[[config]]\npath='c'\nform='php'\nkey=[{{name='U',role='address'}}]\n"),
                8,
                "form",
            ),
            ("id='x'\nname='X'\nrecognise=[]\n".into(), 1, "recognise"),
            (format!("{base}colour='red'\n"), 5, "colour"),
        ];
        for (text, line, word) in rows {
            match parse("t.toml", &text) {
                Err(DefinitionError::Wrong { line: l, message, .. }) => {
                    assert_eq!(l, line, "{message}");
                    assert!(message.contains(word), "{message}");
                }
                other => panic!("{other:?}"),
            }
        }
    }
}
