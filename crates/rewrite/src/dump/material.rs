//! What a file is that is no dump in plain text, gzip or Zstandard: told by its first bytes before anything is said of its content.
//!
//! Well-known forms are told by name. Whatever else begins with control characters is no text either: a dump begins with words, and its
//! first raw byte stands in its first string.

use std::fmt;

/// Material that is not read here.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Unread {
    what: &'static str,
    /// What to do.
    pub cure: &'static str,
}

impl fmt::Display for Unread {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "it is {}, not a dump in SQL", self.what)
    }
}

impl std::error::Error for Unread {}

const UNPACK: &str = "unpack it first";

/// First bytes, what they mean, and what to do.
const FORMS: &[(&[u8], &str, &str)] = &[
    (b"BZh", "compressed with bzip2", "unpack it first: bunzip2 -k FILE"),
    (b"\xFD7zXZ\0", "compressed with xz", "unpack it first: unxz -k FILE"),
    (b"\x5D\0\0", "compressed with lzma", "unpack it first: unlzma -k FILE"),
    (b"LZIP", "compressed with lzip", UNPACK),
    (b"\x04\x22\x4D\x18", "compressed with lz4", "unpack it first: unlz4 FILE"),
    (b"\x1F\x9D", "compressed with compress", "unpack it first: uncompress FILE"),
    (b"PK\x03\x04", "a zip archive", "unpack it first: unzip FILE"),
    (b"PK\x05\x06", "an empty zip archive", "look for the right file"),
    (b"7z\xBC\xAF\x27\x1C", "a 7z archive", UNPACK),
    (b"Rar!\x1A\x07", "a rar archive", UNPACK),
    (b"PGDMP", "a dump of pg_dump in its own format", "make SQL of it first: pg_restore -f dump.sql FILE"),
    (b"age-encryption.org/", "encrypted", "decrypt it first"),
    (b"-----BEGIN PGP", "encrypted or signed", "decrypt it first"),
    (b"Salted__", "encrypted", "decrypt it first"),
];

/// Bytes by which it is told.
pub const LOOK: usize = 512;

/// Says what a file is that begins with these bytes, if it is compressed or encrypted in a way that is not read here.
pub fn sealed(start: &[u8]) -> Option<Unread> {
    FORMS.iter().find(|(magic, ..)| start.starts_with(magic)).map(|(_, what, cure)| Unread { what, cure })
}

/// Says what a file is that begins with these bytes, if it is no text. UTF-16 and database files are told elsewhere.
pub fn no_text(start: &[u8]) -> Option<Unread> {
    let start = &start[..start.len().min(LOOK)];
    if start.starts_with(b"SQLite format 3\0") || super::utf16::Order::of(start).is_some() {
        return None;
    }
    let before_strings = start.split(|b| matches!(b, b'\'' | b'"' | b'`')).next().unwrap_or_default();
    let is_control = |b: &u8| *b < b' ' && !matches!(b, b'\t' | b'\n' | b'\r' | 0x0C);
    let odd = before_strings.iter().any(is_control);
    sealed(start).or_else(|| {
        odd.then_some(Unread { what: "no text", cure: "look whether it is the right file, and whole" })
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_no_text_is_told_and_every_dump_is_text() {
        for (magic, what, _) in FORMS {
            let start = [*magic, &[0x91, 0x41, 0x26, 0x53][..]].concat();
            assert_eq!(no_text(&start).map(|u| u.what), Some(*what));
        }
        for odd in [&b"\x89PNG\r\n\x1a\n"[..], b"\0\0\0\0", b"ustar\0", b"CREATE\x01"] {
            assert!(no_text(odd).is_some());
        }
        let texts: [&[u8]; 7] = [
            b"",
            b"\n-- head\r\n",
            b"\xEF\xBB\xBFINSERT",
            b"-- caf\xe9\n",
            b"INSERT INTO t VALUES ('\0\x01')",
            b"\xFF\xFEI\0N\0",
            b"SQLite format 3\0",
        ];
        texts.iter().for_each(|text| assert_eq!(no_text(text), None, "{text:?}"));
    }
}
