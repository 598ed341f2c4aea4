//! Serialized text whose lengths were counted in another charset than the one it is stored in.
//!
//! PHP counts the bytes that it sees. Where its connection spoke latin1 and the dump is UTF-8 (or the other way round), a letter
//! beyond ASCII has another number of bytes in the dump. Neither header nor column says it for certain; the lengths do: one
//! reading fits them all. MySQL's latin1 is windows-1252 with its five gaps filled, as in the WHATWG encoding standard.

use crate::edit::Decoded;
use encoding_rs::{Encoding, UTF_8, WINDOWS_1252};

/// A value as PHP saw it.
pub(super) struct Seen {
    /// The bytes that PHP saw, with the way back.
    pub decoded: Decoded,
    outer: &'static Encoding,
}

impl Seen {
    /// Spells new text in the charset of the dump; nothing if that charset lacks a letter of it.
    pub(super) fn outwards(&self, new: &[u8]) -> Option<Vec<u8>> {
        if self.outer == UTF_8 {
            return Some(WINDOWS_1252.decode_without_bom_handling(new).0.into_owned().into_bytes());
        }
        let text = std::str::from_utf8(new).ok()?;
        let (bytes, _, unmappable) = WINDOWS_1252.encode(text);
        (!unmappable).then(|| bytes.into_owned())
    }
}

/// Returns the value in the other charset, if it has letters beyond ASCII and can be told so.
pub(super) fn seen_otherwise(value: &[u8]) -> Option<Seen> {
    if value.is_ascii() {
        return None;
    }
    let mut decoded = Decoded::starting_at(0);
    match std::str::from_utf8(value) {
        Ok(text) => {
            for (at, c) in text.char_indices() {
                let spelled = &value[at..at + c.len_utf8()];
                if c.is_ascii() {
                    decoded.plain(spelled);
                } else {
                    let (byte, _, unmappable) = WINDOWS_1252.encode(&text[at..at + c.len_utf8()]);
                    if unmappable {
                        return None;
                    }
                    decoded.escape(&byte, at + c.len_utf8());
                }
            }
            Some(Seen { decoded, outer: UTF_8 })
        }
        Err(_) => {
            for (at, byte) in value.iter().enumerate() {
                if byte.is_ascii() {
                    decoded.plain(&[*byte]);
                } else {
                    let (letter, _) = WINDOWS_1252.decode_without_bom_handling(&value[at..=at]);
                    decoded.escape(letter.as_bytes(), at + 1);
                }
            }
            Some(Seen { decoded, outer: WINDOWS_1252 })
        }
    }
}
