//! What any config file comes to: names with values, and where each value stands.
//!
//! One reader per form ([`super::format`]) locates; edits splice. A value inside of arrays or
//! elements is named by its way there: `databases.default.default.host`, `connectionStrings/add[Main]/@connectionString`.

use std::ops::Range;

/// Why a config file could not be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ConfigError {
    /// The grammar did not load; a defect of the build.
    #[error("the PHP grammar does not fit the parser")]
    Grammar,
    /// The text is not what its form says.
    #[error("it cannot be read: {0}")]
    Unreadable(String),
}

/// What the expression of an assignment comes to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Expression {
    /// One literal: a quoted string, a number, `true`, `null`.
    Literal,
    /// Built from constants; its value is known. `moves` says that it follows the file's own folder.
    Computed {
        /// Whether `__DIR__` or `__FILE__` takes part.
        moves: bool,
    },
    /// Read from the environment variable.
    Environment(String),
    /// Read from the environment variable, and the literal where that is not set.
    EnvironmentOr(String),
    /// Something that only running the program would tell.
    Unknown,
}

/// One assignment of a config file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Setting {
    /// Name of the property, constant, variable or key.
    pub name: String,
    /// Value, as far as it is known.
    pub value: Option<String>,
    /// The expression that gives the value.
    pub span: Range<usize>,
    /// What kind of expression.
    pub expression: Expression,
    /// Line, from 1.
    pub line: usize,
    /// Whether another assignment of the same name takes precedence.
    pub shadowed: bool,
    /// Whether it is an element of an array that is written out, so that another one can stand behind it.
    pub element: bool,
}

/// A quoted string anywhere in the file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Literal {
    /// The string with its quotes.
    pub span: Range<usize>,
    /// Its decoded value.
    pub value: String,
    /// Line, from 1.
    pub line: usize,
}

/// A read file.
#[derive(Debug, Default)]
pub struct Settings {
    /// Assignments in the order of the file.
    pub settings: Vec<Setting>,
    /// All plain quoted strings.
    pub literals: Vec<Literal>,
    /// Whether the reader met something that does not belong there.
    pub has_errors: bool,
}

impl Settings {
    /// Returns the setting that counts for a name.
    pub fn setting(&self, name: &str) -> Option<&Setting> {
        self.settings.iter().find(|s| s.name == name && !s.shadowed)
    }

    /// Returns the known value of a name.
    pub fn value(&self, name: &str) -> Option<&str> {
        self.setting(name)?.value.as_deref()
    }

    /// Returns the settings that count for a name in which `*` stands for any one key.
    pub fn matching<'s>(&'s self, name: &'s str) -> impl Iterator<Item = &'s Setting> {
        self.settings.iter().filter(move |s| !s.shadowed && fits(name, &s.name))
    }
}

/// Says whether a key's name is meant by a name in which `*` stands for any one key.
pub fn fits(pattern: &str, name: &str) -> bool {
    let Some((start, rest)) = pattern.split_once('*') else { return name == pattern };
    let Some(name) = name.strip_prefix(start) else { return false };
    let key = name.find('.').unwrap_or(name.len());
    (1..=key).any(|end| name.is_char_boundary(end) && fits(rest, &name[end..]))
}

/// Hands on each line of a text that is UTF-8: its number, from 1, where it begins, and what it says.
pub(super) fn each_line(text: &[u8], mut take: impl FnMut(usize, usize, &str)) {
    let mut start = 0;
    for (number, line) in text.split_inclusive(|b| *b == b'\n').enumerate() {
        if let Ok(line) = std::str::from_utf8(line) {
            take(number + 1, start, line.trim_end_matches(['\n', '\r']));
        }
        start += line.len();
    }
}

/// Returns the line of an offset, from 1.
pub(super) fn line_of(text: &[u8], at: usize) -> usize {
    1 + memchr::memchr_iter(b'\n', &text[..at]).count()
}
