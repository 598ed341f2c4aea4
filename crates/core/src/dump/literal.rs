//! SQL string and hex literals: into bytes with a way back, and out again.

use super::row::{Value, ValueKind};
use crate::edit::Decoded;

/// How strings are written in the dump at hand.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Quoting {
    /// Whether a backslash escapes.
    pub backslash: bool,
}

/// Decodes a quoted literal that stands at `start..` in some larger text; `quoted` includes the quotes.
pub fn decode(quoted: &[u8], start: usize, quoting: Quoting) -> Decoded {
    let quote = quoted[0];
    let inside = &quoted[1..quoted.len().saturating_sub(1).max(1)];
    let base = start + 1;
    let mut out = Decoded::starting_at(base);
    let mut at = 0;
    while at < inside.len() {
        let hay = &inside[at..];
        let found =
            if quoting.backslash { memchr::memchr2(quote, b'\\', hay) } else { memchr::memchr(quote, hay) };
        let plain = found.unwrap_or(hay.len());
        out.plain(&hay[..plain]);
        at += plain;
        if at >= inside.len() {
            break;
        }
        let next = inside.get(at + 1).copied();
        let raw_end = base + at + 2;
        match (inside[at], next) {
            (b'\\', Some(b'n')) => out.escape(b"\n", raw_end),
            (b'\\', Some(b'r')) => out.escape(b"\r", raw_end),
            (b'\\', Some(b't')) => out.escape(b"\t", raw_end),
            (b'\\', Some(b'0')) => out.escape(b"\0", raw_end),
            (b'\\', Some(b'b')) => out.escape(b"\x08", raw_end),
            (b'\\', Some(b'Z')) => out.escape(b"\x1a", raw_end),
            // These two keep their backslash outside of LIKE patterns.
            (b'\\', Some(c @ (b'%' | b'_'))) => out.escape(&[b'\\', c], raw_end),
            (_, Some(c)) => out.escape(&[c], raw_end),
            (c, None) => out.plain(&[c]),
        }
        at += 2;
    }
    out
}

/// Escapes new text for the inside of a literal in the given quotes.
pub fn escape(new: &[u8], quote: u8, quoting: Quoting) -> Vec<u8> {
    let mut out = Vec::with_capacity(new.len() + 4);
    for b in new {
        match (*b, quoting.backslash) {
            (b'\\', true) => out.extend_from_slice(b"\\\\"),
            (0, true) => out.extend_from_slice(b"\\0"),
            (b'\n', true) => out.extend_from_slice(b"\\n"),
            (b'\r', true) => out.extend_from_slice(b"\\r"),
            (0x1a, true) => out.extend_from_slice(b"\\Z"),
            (b, true) if b == quote => out.extend_from_slice(&[b'\\', b]),
            (b, false) if b == quote => out.extend_from_slice(&[b, b]),
            (b, _) => out.push(b),
        }
    }
    out
}

/// Returns the meaning of a value of a row as bytes; nothing for numbers, NULL and expressions.
pub fn meaning(row: &[u8], value: &Value, quoting: Quoting) -> Option<Decoded> {
    match value.kind {
        ValueKind::Text => Some(decode(&row[value.literal.clone()], value.literal.start, quoting)),
        ValueKind::Hex => unhex(&row[value.literal.clone()], value.literal.start),
        ValueKind::Null | ValueKind::Number | ValueKind::Expression => None,
    }
}

/// Returns a value as text, for keys and cells: the decoded string, or a number as written.
pub fn text_of(row: &[u8], value: &Value, quoting: Quoting) -> Option<String> {
    let bytes = match value.kind {
        ValueKind::Text | ValueKind::Hex => meaning(row, value, quoting)?.bytes,
        ValueKind::Number => row[value.span.clone()].to_vec(),
        ValueKind::Null | ValueKind::Expression => return None,
    };
    String::from_utf8(bytes).ok()
}

fn unhex(digits: &[u8], start: usize) -> Option<Decoded> {
    if !digits.len().is_multiple_of(2) {
        return None;
    }
    let mut out = Decoded::starting_at(start);
    for (i, pair) in digits.chunks_exact(2).enumerate() {
        let byte = u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok()?;
        out.escape(&[byte], start + 2 * i + 2);
    }
    Some(out)
}

/// Spells bytes as hex digits, in the letter case of the digits they replace.
pub fn hex(new: &[u8], old: &[u8]) -> Vec<u8> {
    let lower = old.iter().any(u8::is_ascii_lowercase);
    let digits: String =
        new.iter().map(|b| if lower { format!("{b:02x}") } else { format!("{b:02X}") }).collect();
    digits.into_bytes()
}

/// Writes bytes as a quoted literal.
pub fn quoted(bytes: &[u8]) -> Vec<u8> {
    let mut out = vec![b'\''];
    out.extend(escape(bytes, b'\'', Quoting { backslash: true }));
    out.push(b'\'');
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn what_is_quoted_reads_back(bytes in proptest::collection::vec(any::<u8>(), 0..40)) {
            let decoded = decode(&quoted(&bytes), 0, Quoting { backslash: true });
            prop_assert_eq!(decoded.bytes, bytes.clone());
            let plain = [b"'", &escape(&bytes, b'\'', Quoting { backslash: false })[..], b"'"].concat();
            prop_assert_eq!(decode(&plain, 0, Quoting { backslash: false }).bytes, bytes);
        }
    }
}
