//! HTML entities around a whole text.

use super::{Opened, Reach, Sign, Signed, Wrapping};
use crate::edit::Decoded;
use crate::text::nesting::Layer;
use crate::text::scan::CoreHit;

pub(super) struct Entities;

impl Signed for Entities {
    const SIGN: Sign = Sign::Byte(b'&');
}

impl Wrapping for Entities {
    fn layer(&self) -> Layer {
        Layer::named("entities")
    }

    fn reach(&self) -> Reach {
        Reach::Whole
    }

    /// Quotes are spelled so.
    fn probe(&self, text: &[u8]) -> bool {
        let signs = [&b"&quot;"[..], b"&#34;", b"&#x22;", b"&amp;quot;"];
        memchr::memchr_iter(b'&', text).any(|at| signs.iter().any(|s| text[at..].starts_with(s)))
    }

    fn decode(&self, text: &[u8], _: Option<&CoreHit>) -> Result<Opened, usize> {
        Ok(Opened { span: 0..text.len(), decoded: undone(text), anew: None })
    }

    fn encode(&self, new: &[u8], _: &[u8], _: &[u8]) -> Vec<u8> {
        spelled(new)
    }
}

/// Undoes the entities that escaping functions write, and numeric ones.
fn undone(text: &[u8]) -> Decoded {
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
fn spelled(new: &[u8]) -> Vec<u8> {
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
