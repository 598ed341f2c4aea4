//! Spellings that one program uses for the text of some columns: undone as a whole, and written back the same way.
//!
//! No search sees an address in there, because the letters between which it looks are spelled otherwise; so a definition names the columns.

use crate::edit::Decoded;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// How the text of a column is spelled.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum ColumnCode {
    /// Dots and colons as `&#46;` and `&#58;`, here and there.
    DotsAndColons,
}

impl ColumnCode {
    /// Its name in reports.
    pub fn word(self) -> &'static str {
        match self {
            ColumnCode::DotsAndColons => "dots and colons as entities",
        }
    }

    /// Says whether a text holds anything that is spelled so.
    pub fn is_in(self, text: &[u8]) -> bool {
        match self {
            ColumnCode::DotsAndColons => {
                memchr::memchr_iter(b'&', text).any(|at| meaning(&text[at..]).is_some())
            }
        }
    }

    /// Undoes it.
    pub fn undone(self, text: &[u8]) -> Decoded {
        match self {
            ColumnCode::DotsAndColons => Decoded::undoing(text, 0..text.len(), b'&', meaning),
        }
    }

    /// Spells new text as the old was that it replaces.
    pub fn spelled(self, new: &[u8], old: &[u8]) -> Vec<u8> {
        if !self.is_in(old) {
            return new.to_vec();
        }
        let mut out = Vec::with_capacity(2 * new.len());
        for b in new {
            match b {
                b'.' => out.extend_from_slice(b"&#46;"),
                b':' => out.extend_from_slice(b"&#58;"),
                b => out.push(*b),
            }
        }
        out
    }
}

fn meaning(rest: &[u8]) -> Option<(char, usize)> {
    match rest.get(..5)? {
        b"&#46;" => Some(('.', 5)),
        b"&#58;" => Some((':', 5)),
        _ => None,
    }
}
