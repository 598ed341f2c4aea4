//! What every form of a config file can be asked for. One file per form; nothing outside of it knows how that form is written.

use super::settings::{ConfigError, Setting, Settings};
use crate::edit::Edit;

/// What kind of value stands somewhere.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ValueKind {
    /// A text, in whatever quotes.
    Text,
    /// Digits.
    Number,
    /// True or false.
    Flag,
}

impl ValueKind {
    /// Tells by the bytes of a value what kind it is.
    fn of(raw: &[u8]) -> Self {
        match raw.to_ascii_lowercase().as_slice() {
            b"true" | b"false" => ValueKind::Flag,
            digits if !digits.is_empty() && digits.iter().all(u8::is_ascii_digit) => ValueKind::Number,
            _ => ValueKind::Text,
        }
    }

    /// Tells as which kind a new value may stand in the place of an old one: a switch that is true or false stays one, and a number stays
    /// one if it would be read as it is written.
    pub fn for_new(raw: &[u8], new: &str) -> Self {
        match ValueKind::of(raw) {
            ValueKind::Flag if matches!(new, "0" | "1" | "") => ValueKind::Flag,
            // What begins with a zero would be read as octal, or lose it.
            ValueKind::Number if new.parse::<u32>().is_ok_and(|n| n.to_string() == new) => ValueKind::Number,
            _ => ValueKind::Text,
        }
    }
}

/// A form of config files.
pub trait Format: Sync {
    /// Locates the values. `folder` is where the file lies, if known. Nothing is executed.
    fn read(&self, text: &[u8], folder: Option<&str>) -> Result<Settings, ConfigError>;

    /// Spells a text, in the quotes of the value that it replaces where they fit.
    fn quoted(&self, value: &str, old: &[u8]) -> String;

    /// Spells true and false.
    fn flag(&self, on: bool) -> &'static str {
        if on { "true" } else { "false" }
    }

    /// What [`Format::read`] gives for true and false.
    fn flag_value(&self, on: bool) -> &'static str {
        self.flag(on)
    }

    /// Puts a setting behind one that is there; nothing where the form has no place for it.
    fn beside(&self, _text: &[u8], _neighbour: &Setting, _name: &str, _value: &str) -> Option<Edit> {
        None
    }

    /// What stands in previews for a value that nobody shall read.
    fn mask(&self, word: &str) -> String {
        format!("'{word}'")
    }

    /// Reads the whole file again after an edit and says what is wrong: each of the `expected` values must stand where it should, and every
    /// other one as before.
    fn verify(&self, before: &[u8], after: &[u8], expected: &[(String, String)]) -> Result<(), String> {
        let read = |text| self.read(text, None).map_err(|e| e.to_string());
        let (before, after) = (read(before)?, read(after)?);
        if after.has_errors && !before.has_errors {
            return Err("the edited file would not be valid any more".into());
        }
        for (name, value) in expected {
            if after.value(name) != Some(value) {
                return Err(format!("`{name}` does not read back as it was written"));
            }
        }
        let counts = |s: &&Setting| !s.shadowed && !expected.iter().any(|(name, _)| *name == s.name);
        match before.settings.iter().filter(counts).find(|s| after.value(&s.name) != s.value.as_deref()) {
            Some(changed) if self.changes_stay_put() => {
                Err(format!("`{}` would change as well", changed.name))
            }
            _ => Ok(()),
        }
    }

    /// Says whether a value never depends on another one of the same file.
    fn changes_stay_put(&self) -> bool {
        true
    }

    /// Says whether files of this form have keys at all.
    fn has_keys(&self) -> bool {
        true
    }

    /// Spells a value of a kind.
    fn spelled(&self, value: &str, kind: ValueKind, old: &[u8]) -> String {
        match kind {
            ValueKind::Flag => self.flag(value == "1").into(),
            ValueKind::Number => value.into(),
            ValueKind::Text => self.quoted(value, old),
        }
    }
}
