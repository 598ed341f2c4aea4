//! Compressed values: by which signs they are known, and how they are read and written again.
//!
//! Some systems keep revisions and caches compressed in their rows, and no search sees into them. What bears a sign is unpacked and
//! looked at, so that an old address in there is counted at least; where a definition says how a column is packed, it moves.
//! Sources: RFC 1950 (zlib), RFC 1951 (deflate), RFC 1952 (gzip); MySQL reference manual, `COMPRESS()` (four bytes of length before zlib).

use super::trigrams::{WINDOW, Windows};
use crate::limits::PACKED_VALUE;
use data_encoding::{BASE64, BASE64_NOPAD};
use flate2::Compression;
use flate2::bufread::{DeflateDecoder, MultiGzDecoder, ZlibDecoder};
use flate2::write::{DeflateEncoder, GzEncoder, ZlibEncoder};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use std::io::{self, Read, Write};
use std::sync::LazyLock;

/// How a value is compressed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Packing {
    /// With zlib's head and checksum.
    Zlib,
    /// With gzip's head and checksum.
    Gzip,
    /// Bare, without any sign.
    Deflate,
    /// Zlib behind four bytes that tell the length, as MySQL's `COMPRESS()` writes it.
    Counted,
}

/// A value's text.
#[derive(Debug, PartialEq, Eq)]
pub enum Unpacked {
    /// All of it.
    Whole(Vec<u8>),
    /// What could be read: the rest is damaged, missing, or behind the limit.
    Part(Vec<u8>),
}

impl Unpacked {
    /// Returns what was read.
    pub fn text(&self) -> &[u8] {
        match self {
            Unpacked::Whole(text) | Unpacked::Part(text) => text,
        }
    }
}

/// Length that [`Packing::Counted`] notes.
const COUNT: usize = 4;

fn is_zlib(bytes: &[u8]) -> bool {
    // The two bytes of the head are a number divisible by 31; a window of 32 KiB is what every encoder writes.
    matches!(bytes, [0x78, flags, _, _, _, _, ..] if (0x7800 + u16::from(*flags)) % 31 == 0 && flags & 0x20 == 0)
}

impl Packing {
    /// Tells by a value's signs how it is packed. Text may begin so by chance.
    pub fn describe(bytes: &[u8]) -> Option<Packing> {
        if is_zlib(bytes) {
            return Some(Packing::Zlib);
        }
        if bytes.starts_with(&[0x1f, 0x8b, 8]) {
            return Some(Packing::Gzip);
        }
        (bytes.len() > COUNT && is_zlib(&bytes[COUNT..])).then_some(Packing::Counted)
    }

    /// The same for a value that may stand in base64 as well: how it is packed, and its bytes.
    pub fn seen(value: &[u8]) -> Option<(Packing, Cow<'_, [u8]>)> {
        if let Some(how) = Packing::describe(value) {
            return Some((how, value.into()));
        }
        // How the two signs begin there.
        let begins =
            value.starts_with(b"H4sI") || [b"eJ", b"eN", b"eA", b"eF"].iter().any(|s| value.starts_with(*s));
        if !begins || value.len() < 16 {
            return None;
        }
        let letters: Vec<u8> = value.iter().copied().filter(|b| !b.is_ascii_whitespace()).collect();
        let encoding = if letters.len().is_multiple_of(4) { BASE64 } else { BASE64_NOPAD };
        let bytes = encoding.decode(&letters).ok()?;
        Some((Packing::describe(&bytes)?, bytes.into()))
    }

    /// Unpacks a value.
    pub fn unpack(self, bytes: &[u8]) -> Unpacked {
        let mut text = Vec::new();
        let mut left = bytes;
        let read = match self {
            Packing::Zlib => bounded(ZlibDecoder::new(&mut left), &mut text),
            Packing::Gzip => bounded(MultiGzDecoder::new(&mut left), &mut text),
            Packing::Deflate => bounded(DeflateDecoder::new(&mut left), &mut text),
            Packing::Counted => {
                left = bytes.get(COUNT..).unwrap_or_default();
                bounded(ZlibDecoder::new(&mut left), &mut text)
            }
        };
        // What follows the text would be lost if it were packed again.
        if read.is_ok() && left.is_empty() && text.len() as u64 <= PACKED_VALUE.bytes() {
            Unpacked::Whole(text)
        } else {
            text.truncate(PACKED_VALUE.bytes() as usize);
            Unpacked::Part(text)
        }
    }

    /// Packs a text. Nothing where it is longer than its length can tell.
    pub fn pack(self, text: &[u8]) -> Option<Vec<u8>> {
        let level = Compression::default();
        let packed = match self {
            Packing::Zlib => written(ZlibEncoder::new(Vec::new(), level), text, ZlibEncoder::finish),
            Packing::Gzip => written(GzEncoder::new(Vec::new(), level), text, GzEncoder::finish),
            Packing::Deflate => written(DeflateEncoder::new(Vec::new(), level), text, DeflateEncoder::finish),
            Packing::Counted => {
                let mut count =
                    Vec::from(u32::try_from(text.len()).ok().filter(|n| n >> 30 == 0)?.to_le_bytes());
                count.extend(Packing::Zlib.pack(text)?);
                return Some(count);
            }
        };
        packed.ok()
    }
}

fn bounded(reader: impl Read, text: &mut Vec<u8>) -> io::Result<usize> {
    reader.take(PACKED_VALUE.bytes() + 1).read_to_end(text)
}

fn written<E: Write>(
    mut encoder: E,
    text: &[u8],
    finish: impl FnOnce(E) -> io::Result<Vec<u8>>,
) -> io::Result<Vec<u8>> {
    encoder.write_all(text)?;
    finish(encoder)
}

/// How a quoted string begins that may be packed; one is the end of an escaped length, and zlib.
const SIGNS: [[u8; WINDOW]; 11] = [
    *b"'x\x01",
    *b"'x^",
    *b"'x\x9c",
    *b"'x\xda",
    [b'\'', 0x1f, 0x8b],
    *b"0x\x9c",
    // In base64.
    *b"'H4",
    *b"'eJ",
    *b"'eN",
    *b"'eA",
    *b"'eF",
];

/// Finds where quoted strings in SQL may be packed: the offset of a byte inside of each.
pub fn places(sql: &[u8], mut take: impl FnMut(usize)) {
    static SEARCH: LazyLock<Windows> = LazyLock::new(|| Windows::new(&SIGNS));
    SEARCH.each(sql, |at, sign| {
        if sql[at..].starts_with(&SIGNS[sign]) {
            take(at + 1);
        }
        true
    });
}

#[cfg(test)]
mod tests {
    use super::*;

    const ALL: [Packing; 4] = [Packing::Zlib, Packing::Gzip, Packing::Deflate, Packing::Counted];

    #[test]
    fn what_is_packed_is_known_by_its_sign_and_comes_back() {
        let text = "fern.example ".repeat(400);
        for how in ALL {
            let packed = how.pack(text.as_bytes()).expect("packs");
            assert!(packed.len() < text.len() / 4);
            assert_eq!(Packing::describe(&packed), (how != Packing::Deflate).then_some(how));
            assert_eq!(how.unpack(&packed), Unpacked::Whole(text.clone().into()));
            let cut = how.unpack(&packed[..packed.len() / 2]);
            assert!(matches!(cut, Unpacked::Part(_)));
            let more = [&packed[..], b"x"].concat();
            assert!(matches!(how.unpack(&more), Unpacked::Part(_)), "{how:?}");
        }
        for plain in [&b"x^2 + y^2 = 1"[..], b"\x78", b"", b"x\x9c", b"a:1:{i:0;s:1:\"x\";}"] {
            assert!(
                Packing::describe(plain).is_none_or(|how| matches!(how.unpack(plain), Unpacked::Part(_)))
            );
        }
    }

    #[test]
    fn what_unpacks_without_end_is_cut() {
        let most = PACKED_VALUE.bytes() as usize;
        let bomb = Packing::Zlib.pack(&vec![b'a'; most + 1]).expect("packs");
        assert!(matches!(Packing::Zlib.unpack(&bomb), Unpacked::Part(text) if text.len() == most));
    }
}
