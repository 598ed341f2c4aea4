//! Layers that wrap a stretch of text without counting it: percent-encoding, HTML entities, backslashes.
//!
//! A plain address inside of one of them is changed in its own spelling, without unwrapping. These are for what must be read
//! as a whole inside: serialized text, whose lengths count the unwrapped bytes, and base64.

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

fn hex_value(two: &[u8]) -> Option<u8> {
    if !two.iter().all(u8::is_ascii_hexdigit) {
        return None;
    }
    u8::from_str_radix(std::str::from_utf8(two).ok()?, 16).ok()
}

/// Undoes one level of percent-encoding of `text[run]`.
pub(super) fn percent_decode(text: &[u8], run: Range<usize>) -> Decoded {
    let mut out = Decoded::starting_at(run.start);
    let mut at = run.start;
    while at < run.end {
        let plain = memchr::memchr(b'%', &text[at..run.end]).unwrap_or(run.end - at);
        out.plain(&text[at..at + plain]);
        at += plain;
        if at == run.end {
            break;
        }
        match text[..run.end].get(at + 1..at + 3).and_then(hex_value) {
            Some(byte) => {
                at += 3;
                out.escape(&[byte], at);
            }
            None => {
                out.plain(b"%");
                at += 1;
            }
        }
    }
    out
}

/// Spells bytes percent-encoded, in the letter case that the run uses.
pub(super) fn percent_encode(new: &[u8], run: &[u8]) -> Vec<u8> {
    let digits = run.windows(3).filter(|w| w[0] == b'%' && hex_value(&w[1..]).is_some());
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
    let mut out = Decoded::starting_at(0);
    let mut at = 0;
    while at < text.len() {
        let plain = memchr::memchr(b'&', &text[at..]).unwrap_or(text.len() - at);
        out.plain(&text[at..at + plain]);
        at += plain;
        if at == text.len() {
            break;
        }
        let name_end = text[at..].iter().take(12).position(|b| *b == b';');
        let letter = name_end.and_then(|n| entity(&text[at + 1..at + n]));
        match (letter, name_end) {
            (Some(letter), Some(n)) => {
                at += n + 1;
                let mut utf8 = [0; 4];
                out.escape(letter.encode_utf8(&mut utf8).as_bytes(), at);
            }
            _ => {
                out.plain(b"&");
                at += 1;
            }
        }
    }
    out
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
    let mut out = Decoded::starting_at(0);
    let mut at = 0;
    while at < text.len() {
        let plain = memchr::memchr(b'\\', &text[at..]).unwrap_or(text.len() - at);
        out.plain(&text[at..at + plain]);
        at += plain;
        let Some(next) = text.get(at + 1) else {
            out.plain(&text[at..]);
            break;
        };
        let unicode = || {
            let digits = text.get(at + 2..at + 6).filter(|d| d.iter().all(u8::is_ascii_hexdigit))?;
            char::from_u32(u32::from_str_radix(std::str::from_utf8(digits).ok()?, 16).ok()?)
        };
        let (letter, len) = match next {
            b'"' | b'\'' | b'\\' | b'/' => (char::from(*next), 2),
            b'n' => ('\n', 2),
            b'r' => ('\r', 2),
            b't' => ('\t', 2),
            b'u' if unicode().is_some() => (unicode().unwrap_or('\\'), 6),
            _ => {
                // No escape that both know: it stands for itself.
                out.plain(b"\\");
                at += 1;
                continue;
            }
        };
        at += len;
        let mut utf8 = [0; 4];
        out.escape(letter.encode_utf8(&mut utf8).as_bytes(), at);
    }
    out
}

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
