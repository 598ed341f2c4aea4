//! A strict JSON reader (RFC 8259) that yields where the strings lie, and the way into and out of a string.
//!
//! Only strings matter to a rewrite, so nothing else is kept. The reader works with an explicit stack.

use crate::edit::Decoded;
use smallvec::SmallVec;
use std::ops::Range;

/// The insides of a document's strings; of most documents they need no memory of their own.
pub type Strings = SmallVec<[Range<usize>; 8]>;

/// Says whether a value begins as a JSON object, array or string.
pub fn looks_json(value: &[u8]) -> bool {
    matches!(value.trim_ascii_start().first(), Some(b'{' | b'[' | b'"'))
}

/// Reads a whole document and returns the insides of its strings, keys included. Nothing is returned if it is not JSON.
pub fn strings(text: &[u8]) -> Option<Strings> {
    let (strings, end) = document_at(text, 0).ok()?;
    text[end..].trim_ascii().is_empty().then_some(strings)
}

/// Reads the document that begins at `start`. Returns the insides of its strings and where it ends.
///
/// # Errors
/// Where it is not JSON: how far the reader came.
pub fn document_at(text: &[u8], start: usize) -> Result<(Strings, usize), usize> {
    let mut reader = Reader { text, at: start, strings: Strings::new(), raw: false };
    match reader.document() {
        Some(()) => Ok((reader.strings, reader.at)),
        None => Err(reader.at),
    }
}

/// Reads a whole document as it stands in a string of MySQL's between single quotes, its escapes not undone, and returns the insides of
/// its strings.
pub(super) fn raw_strings(text: &[u8]) -> Option<Strings> {
    let mut reader = Reader { text, at: 0, strings: Strings::new(), raw: true };
    reader.document()?;
    reader.space();
    (reader.at == text.len()).then_some(reader.strings)
}

/// Decodes the inside of a string that starts at `start` in the document.
pub fn decode(text: &[u8], inside: Range<usize>) -> Option<Decoded> {
    let mut out = Decoded::default();
    out.restart(inside.start, inside.len());
    let mut at = inside.start;
    while at < inside.end {
        let rest = &text[at..inside.end];
        let plain = memchr::memchr(b'\\', rest).unwrap_or(rest.len());
        out.plain(&rest[..plain]);
        at += plain;
        if at >= inside.end {
            break;
        }
        let (meaning, len): (char, usize) = match *text.get(at + 1)? {
            b'n' => ('\n', 2),
            b'r' => ('\r', 2),
            b't' => ('\t', 2),
            b'b' => ('\u{8}', 2),
            b'f' => ('\u{c}', 2),
            b'u' => {
                let high = hex4(text, at + 2)?;
                if (0xD800..0xDC00).contains(&high) && text.get(at + 6..at + 8) == Some(b"\\u") {
                    let low = hex4(text, at + 8)?;
                    match (0xDC00..0xE000).contains(&low) {
                        true => {
                            let code = 0x10000 + ((high - 0xD800) << 10) + (low - 0xDC00);
                            (char::from_u32(code)?, 12)
                        }
                        false => (char::REPLACEMENT_CHARACTER, 6),
                    }
                } else {
                    // Half of a pair stands for no letter; it stays as it is written.
                    (char::from_u32(high).unwrap_or(char::REPLACEMENT_CHARACTER), 6)
                }
            }
            other => (other as char, 2),
        };
        at += len;
        let mut utf8 = [0; 4];
        out.escape(meaning.encode_utf8(&mut utf8).as_bytes(), at);
    }
    Some(out)
}

/// Spells new text for the inside of a string; `old` is the raw text it replaces and tells how slashes are spelled.
pub fn encode(new: &[u8], old: &[u8]) -> Vec<u8> {
    let mut slash: &[u8] = b"/";
    let mut at = 0;
    while let Some(next) = memchr::memchr(b'\\', old.get(at..).unwrap_or_default()) {
        at += next;
        match &old[at + 1..] {
            [b'/', ..] => slash = b"\\/",
            [b'u', b'0', b'0', b'2', b'f', ..] => slash = b"\\u002f",
            [b'u', b'0', b'0', b'2', b'F', ..] => slash = b"\\u002F",
            // What follows an escaped backslash is not escaped by it.
            _ => {
                at += 2;
                continue;
            }
        }
        break;
    }
    let mut out = Vec::with_capacity(new.len() + 8);
    for b in new {
        match b {
            b'/' => out.extend_from_slice(slash),
            b'"' | b'\\' => out.extend_from_slice(&[b'\\', *b]),
            b'\n' => out.extend_from_slice(b"\\n"),
            b'\r' => out.extend_from_slice(b"\\r"),
            b'\t' => out.extend_from_slice(b"\\t"),
            0..=0x1F => out.extend_from_slice(format!("\\u{b:04x}").as_bytes()),
            _ => out.push(*b),
        }
    }
    out
}

/// What ends a string, escapes, or may not stand in one.
const SPECIAL: [bool; 256] = {
    let mut table = [false; 256];
    let mut control = 0;
    while control < 0x20 {
        table[control] = true;
        control += 1;
    }
    table[b'"' as usize] = true;
    table[b'\\' as usize] = true;
    table
};

pub(super) fn hex4(text: &[u8], at: usize) -> Option<u32> {
    let digits = text.get(at..at + 4).filter(|d| d.iter().all(u8::is_ascii_hexdigit))?;
    u32::from_str_radix(std::str::from_utf8(digits).ok()?, 16).ok()
}

struct Reader<'t> {
    text: &'t [u8],
    at: usize,
    strings: Strings,
    /// Whether the escapes of the string around the document are still in it.
    raw: bool,
}

impl Reader<'_> {
    fn space(&mut self) {
        loop {
            match self.text.get(self.at) {
                Some(b' ' | b'\t' | b'\n' | b'\r') => self.at += 1,
                Some(b'\\') if self.raw => match self.text.get(self.at + 1) {
                    Some(b'n' | b'r' | b't') => self.at += 2,
                    _ => return,
                },
                _ => return,
            }
        }
    }

    /// Returns the sign that comes next, its escape passed over.
    fn sign(&mut self) -> Option<u8> {
        if self.raw && self.text.get(self.at..self.at + 2) == Some(b"\\\"") {
            self.at += 1;
        }
        self.text.get(self.at).copied()
    }

    fn document(&mut self) -> Option<()> {
        let mut open: SmallVec<[u8; 32]> = SmallVec::new();
        loop {
            // One value, or the end of an empty container.
            self.space();
            match self.sign()? {
                b'{' => {
                    self.at += 1;
                    self.space();
                    if self.text.get(self.at) != Some(&b'}') {
                        self.key()?;
                        open.push(b'}');
                        continue;
                    }
                    self.at += 1;
                }
                b'[' => {
                    self.at += 1;
                    self.space();
                    if self.text.get(self.at) != Some(&b']') {
                        open.push(b']');
                        continue;
                    }
                    self.at += 1;
                }
                b'"' => self.string()?,
                _ => self.bare()?,
            }
            // Behind a value: a comma, or closing brackets.
            loop {
                let Some(close) = open.last() else { return Some(()) };
                self.space();
                let next = *self.text.get(self.at)?;
                self.at += 1;
                if next == b',' {
                    if *close == b'}' {
                        self.space();
                        self.key()?;
                    }
                    break;
                }
                if next != *close {
                    return None;
                }
                open.pop();
            }
        }
    }

    fn key(&mut self) -> Option<()> {
        self.string()?;
        self.space();
        (*self.text.get(self.at)? == b':').then(|| self.at += 1)
    }

    fn string(&mut self) -> Option<()> {
        if self.sign()? != b'"' {
            return None;
        }
        let start = self.at + 1;
        let mut at = start;
        let end = loop {
            // Most strings are short: no search is as fast as a look at each byte.
            at += self.text[at..].iter().position(|b| SPECIAL[usize::from(*b)])?;
            match self.text[at] {
                b'"' => break at + 1,
                b'\\' => {}
                _ => return None,
            }
            let mut escaped = at + 1;
            if self.raw {
                match self.text.get(at + 1)? {
                    b'"' => break at + 2,
                    b'\'' => {
                        at += 2;
                        continue;
                    }
                    // A backslash of the document's own, and what it escapes, which may be spelled with one as well.
                    b'\\' => escaped = at + 2,
                    _ => return None,
                }
                if self.text.get(escaped) == Some(&b'\\') {
                    escaped += 1;
                    if !matches!(self.text.get(escaped)?, b'"' | b'\\') {
                        return None;
                    }
                }
            }
            match self.text.get(escaped)? {
                b'u' => {
                    hex4(self.text, escaped + 1)?;
                    at = escaped + 5;
                }
                b'"' | b'\\' | b'/' | b'b' | b'f' | b'n' | b'r' | b't' => at = escaped + 1,
                _ => return None,
            }
        };
        self.strings.push(start..at);
        self.at = end;
        Some(())
    }

    fn bare(&mut self) -> Option<()> {
        let rest = &self.text[self.at..];
        let digits = rest.iter().take_while(|b| b.is_ascii_digit()).count();
        if digits > 0 && matches!(rest.get(digits), Some(b',' | b'}' | b']')) {
            self.at += digits;
            return Some(());
        }
        let len = rest.iter().take_while(|b| b.is_ascii_alphanumeric() || b"+-.".contains(b)).count();
        let word = std::str::from_utf8(&rest[..len]).ok()?;
        let number =
            word.starts_with(|c: char| c == '-' || c.is_ascii_digit()) && word.parse::<f64>().is_ok();
        (number || matches!(word, "true" | "false" | "null")).then(|| self.at += len)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn documents_are_told_from_what_only_looks_like_them() {
        for good in
            [r#"{}"#, r#" [1,-2.5e3,true,null,"a\"b",{"k":[]}] "#, r#""\u00e9\/""#, r#"{"a":{"b":[{},[]]}}"#]
        {
            assert!(strings(good.as_bytes()).is_some(), "{good}");
        }
        for bad in [
            "{",
            "[1,]",
            "{'a':1}",
            "{a:1}",
            "[1] x",
            "\"a",
            "{\"a\"}",
            "[\"\\x\"]",
            "[\"a\nb\"]",
            "{x} text",
            "",
        ] {
            assert!(strings(bad.as_bytes()).is_none(), "{bad}");
        }
        assert!(strings(&[b"[".repeat(300_000), b"]".repeat(300_000)].concat()).is_some());
    }

    #[test]
    fn strings_decode_with_a_way_back() {
        let text = br#"["a\/\u00e9\ud83d\ude00z"]"#;
        let inside = strings(text).unwrap()[0].clone();
        let d = decode(text, inside).unwrap();
        assert_eq!(d.bytes, "a/é😀z".as_bytes());
        assert_eq!(text[d.raw(d.bytes.len() - 1)], b'z');
        assert_eq!(encode(b"/x\"\\\n", br"\/"), br#"\/x\"\\\n"#);
    }
}
