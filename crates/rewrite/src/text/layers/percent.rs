//! Percent-encoding: a run of it around a hit, if something structured or base64 is in there.

use super::{LOOK_AHEAD, Opened, Reach, Sign, Signed, Wrapping};
use crate::edit::Decoded;
use crate::text::fragments;
use crate::text::nesting::Layer;
use crate::text::scan::CoreHit;
use crate::text::spelling::hex_byte;
use std::ops::Range;

pub(super) struct Percent;

impl Signed for Percent {
    const SIGN: Sign = Sign::Byte(b'%');
}

impl Wrapping for Percent {
    fn layer(&self) -> Layer {
        Layer::named("percent")
    }

    fn reach(&self) -> Reach {
        Reach::Run
    }

    fn probe(&self, text: &[u8]) -> bool {
        memchr::memchr(b'%', text).is_some()
    }

    fn decode(&self, text: &[u8], hit: Option<&CoreHit>) -> Result<Opened, usize> {
        let Some(hit) = hit else {
            let decoded = undone(text, 0..text.len());
            return Ok(Opened { span: 0..text.len(), decoded, anew: None });
        };
        let span = run_around(text, hit.at).ok_or(hit.at + 1)?;
        let decoded = undone(text, span.clone());
        match hit.base64 || structured(&decoded.bytes, LOOK_AHEAD) {
            true => Ok(Opened { span, decoded, anew: None }),
            false => Err(span.end),
        }
    }

    fn encode(&self, new: &[u8], _: &[u8], run: &[u8]) -> Vec<u8> {
        spelled(new, run)
    }
}

/// Says whether a text that was undone is structured, at this level or below further ones.
fn structured(text: &[u8], further: usize) -> bool {
    if fragments::structured(text) {
        return true;
    }
    let signs = [&b"%3A"[..], b"%3a", b"%7B", b"%7b", b"%25"];
    let deeper = further > 0 && signs.iter().any(|e| memchr::memmem::find(text, e).is_some());
    deeper && structured(&undone(text, 0..text.len()).bytes, further - 1)
}

/// Says whether a byte may stand in percent-encoded text, beside what every encoder escapes.
fn percent_text(b: u8) -> bool {
    b.is_ascii_alphanumeric()
        || matches!(b, b'%' | b'-' | b'_' | b'.' | b'~' | b'+' | b'!' | b'*' | b'(' | b')')
}

/// Returns the run of percent-encoded text around `at`, if there is an escape in it.
fn run_around(text: &[u8], at: usize) -> Option<Range<usize>> {
    let start = text[..at].iter().rposition(|b| !percent_text(*b)).map_or(0, |i| i + 1);
    let end = at + text[at..].iter().take_while(|b| percent_text(**b)).count();
    memchr::memchr(b'%', &text[start..end]).map(|_| start..end)
}

/// Undoes one level of percent-encoding of `text[run]`.
fn undone(text: &[u8], run: Range<usize>) -> Decoded {
    Decoded::undoing_bytes(text, run, b'%', |rest| {
        Some((smallvec::smallvec![rest.get(1..3).and_then(hex_byte)?], 3))
    })
}

/// Spells bytes percent-encoded, in the letter case that the run uses.
fn spelled(new: &[u8], run: &[u8]) -> Vec<u8> {
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
