//! Layers that wrap a stretch of text without counting it: percent-encoding, HTML entities, backslashes.
//!
//! A plain address inside of one of them is changed in its own spelling, without unwrapping. These are for what must be read
//! as a whole inside: serialized text, whose lengths count the unwrapped bytes, and base64.

use super::json::{self, hex4};
use super::spelling::hex_byte;
use super::value::Layer;
use crate::edit::Decoded;
use std::ops::Range;

/// Says whether a byte may stand in percent-encoded text, beside what every encoder escapes.
fn percent_text(b: u8) -> bool {
    b.is_ascii_alphanumeric()
        || matches!(b, b'%' | b'-' | b'_' | b'.' | b'~' | b'+' | b'!' | b'*' | b'(' | b')')
}

/// Returns the run of percent-encoded text around `at`, if there is an escape in it.
pub(super) fn percent_run(text: &[u8], at: usize) -> Option<Range<usize>> {
    let start = text[..at].iter().rposition(|b| !percent_text(*b)).map_or(0, |i| i + 1);
    let end = at + text[at..].iter().take_while(|b| percent_text(**b)).count();
    memchr::memchr(b'%', &text[start..end]).map(|_| start..end)
}

/// Undoes one level of percent-encoding of `text[run]`.
pub(super) fn percent_decode(text: &[u8], run: Range<usize>) -> Decoded {
    Decoded::undoing_bytes(text, run, b'%', |rest| {
        Some((smallvec::smallvec![rest.get(1..3).and_then(hex_byte)?], 3))
    })
}

/// Spells bytes percent-encoded, in the letter case that the run uses.
pub(super) fn percent_encode(new: &[u8], run: &[u8]) -> Vec<u8> {
    let digits = run.windows(3).filter(|w| w[0] == b'%' && hex_byte(&w[1..]).is_some());
    let lower =
        digits.flat_map(|w| &w[1..]).find(|d| d.is_ascii_alphabetic()).is_some_and(u8::is_ascii_lowercase);
    let plus = memchr::memchr(b'+', run).is_some() && memchr::memmem::find(run, b"%20").is_none();
    let mut out = Vec::with_capacity(new.len() + 16);
    for b in new {
        match b {
            b if b.is_ascii_alphanumeric() || b"-_.~".contains(b) => out.push(*b),
            b' ' if plus => out.push(b'+'),
            b if lower => out.extend_from_slice(format!("%{b:02x}").as_bytes()),
            b => out.extend_from_slice(format!("%{b:02X}").as_bytes()),
        }
    }
    out
}

/// Says whether a text may be wrapped in HTML entities: quotes are spelled so.
pub(super) fn entities_likely(text: &[u8]) -> bool {
    let signs = [&b"&quot;"[..], b"&#34;", b"&#x22;", b"&amp;quot;"];
    memchr::memchr_iter(b'&', text).any(|at| signs.iter().any(|s| text[at..].starts_with(s)))
}

/// Undoes the entities that escaping functions write, and numeric ones.
pub(super) fn entities_decode(text: &[u8]) -> Decoded {
    Decoded::undoing(text, 0..text.len(), b'&', |rest| {
        let end = rest.iter().take(12).position(|b| *b == b';')?;
        Some((entity(&rest[1..end])?, end + 1))
    })
}

fn entity(name: &[u8]) -> Option<char> {
    let number = |digits: &[u8], radix| {
        let digits = std::str::from_utf8(digits).ok().filter(|d| !d.starts_with(['+', '-']))?;
        char::from_u32(u32::from_str_radix(digits, radix).ok()?)
    };
    match name {
        b"quot" => Some('"'),
        b"amp" => Some('&'),
        b"lt" => Some('<'),
        b"gt" => Some('>'),
        b"apos" => Some('\''),
        b"sol" => Some('/'),
        b"colon" => Some(':'),
        [b'#', b'x' | b'X', digits @ ..] => number(digits, 16),
        [b'#', digits @ ..] => number(digits, 10),
        _ => None,
    }
}

/// Spells text with entities for what HTML gives a meaning.
pub(super) fn entities_encode(new: &[u8]) -> Vec<u8> {
    let mut out = Vec::with_capacity(new.len() + 8);
    for b in new {
        match b {
            b'"' => out.extend_from_slice(b"&quot;"),
            b'&' => out.extend_from_slice(b"&amp;"),
            b'<' => out.extend_from_slice(b"&lt;"),
            b'>' => out.extend_from_slice(b"&gt;"),
            _ => out.push(*b),
        }
    }
    out
}

/// Says whether a text may hold something wrapped in a script's or JSON's string: its quotes are escaped.
pub(super) fn escapes_likely(text: &[u8]) -> bool {
    memchr::memchr_iter(b'\\', text)
        .any(|at| at > 0 && matches!(text[at - 1], b':' | b'{' | b'[') && text.get(at + 1) == Some(&b'"'))
}

/// Undoes one level of backslashes, as a script or JSON reads a string.
pub(super) fn escapes_decode(text: &[u8]) -> Decoded {
    Decoded::undoing(text, 0..text.len(), b'\\', |rest| {
        Some(match rest.get(1)? {
            b @ (b'"' | b'\'' | b'\\' | b'/') => (char::from(*b), 2),
            b'n' => ('\n', 2),
            b'r' => ('\r', 2),
            b't' => ('\t', 2),
            b'u' => (char::from_u32(hex4(rest, 2)?)?, 6),
            // No escape that scripts and JSON both know.
            _ => return None,
        })
    })
}

/// A layer around a whole text: how to tell that it may be there, how to undo it, and how to spell new text in it.
pub(super) struct Wrapping {
    pub layer: Layer,
    pub likely: fn(&[u8]) -> bool,
    pub undo: fn(&[u8]) -> Decoded,
    /// Spells new text; the second text is what it replaces.
    pub spell: fn(&[u8], &[u8]) -> Vec<u8>,
}

/// Layers that may be around a whole text.
pub(super) const WRAPPINGS: [Wrapping; 2] = [
    Wrapping {
        layer: Layer::Entities,
        likely: entities_likely,
        undo: entities_decode,
        spell: |new, _| entities_encode(new),
    },
    Wrapping { layer: Layer::Escapes, likely: escapes_likely, undo: escapes_decode, spell: json::encode },
];

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn what_a_layer_wraps_it_unwraps(bytes in "[ -~\u{e9}\n]{0,40}") {
            let bytes = bytes.as_bytes();
            for run in [&b"%2f"[..], b"%2F", b"a+b%2F"] {
                let wrapped = percent_encode(bytes, run);
                let wrapped = String::from_utf8(wrapped).unwrap().replace('+', "%20").into_bytes();
                prop_assert_eq!(percent_decode(&wrapped, 0..wrapped.len()).bytes, bytes);
            }
            prop_assert_eq!(entities_decode(&entities_encode(bytes)).bytes, bytes);
            prop_assert_eq!(escapes_decode(&crate::text::json::encode(bytes, b"\\/")).bytes, bytes);
        }

        #[test]
        fn every_border_leads_back_into_the_raw_text(raw in "[%&\\\\a2Fu0#;\"quotamp]{0,40}") {
            let raw = raw.as_bytes();
            for decoded in [percent_decode(raw, 0..raw.len()), entities_decode(raw), escapes_decode(raw)] {
                prop_assert_eq!(decoded.raw(0), 0);
                prop_assert_eq!(decoded.raw(decoded.bytes.len()), raw.len());
            }
        }
    }
}
