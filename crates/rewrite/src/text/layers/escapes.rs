//! Backslashes of a script's or JSON's string around a whole text.

use super::{Opened, Reach, Sign, Signed, Wrapping};
use crate::edit::Decoded;
use crate::text::json::{self, hex4};
use crate::text::nesting::Layer;
use crate::text::scan::CoreHit;

pub(super) struct Escapes;

impl Signed for Escapes {
    const SIGN: Sign = Sign::Structure;
}

impl Wrapping for Escapes {
    fn layer(&self) -> Layer {
        Layer::named("escapes")
    }

    fn reach(&self) -> Reach {
        Reach::Whole
    }

    /// Quotes behind what begins something structured are escaped.
    fn probe(&self, text: &[u8]) -> bool {
        memchr::memchr_iter(b'\\', text)
            .any(|at| at > 0 && matches!(text[at - 1], b':' | b'{' | b'[') && text.get(at + 1) == Some(&b'"'))
    }

    fn decode(&self, text: &[u8], _: Option<&CoreHit>) -> Result<Opened, usize> {
        Ok(Opened { span: 0..text.len(), decoded: undone(text), anew: None })
    }

    fn encode(&self, new: &[u8], old: &[u8], _: &[u8]) -> Vec<u8> {
        json::encode(new, old)
    }
}

/// Undoes one level of backslashes, as a script or JSON reads a string.
fn undone(text: &[u8]) -> Decoded {
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
