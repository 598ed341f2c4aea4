//! Looks whether a raw text may be more than text: the beginning of something structured before its last hit, percent-encoding,
//! entities, NUL. One pass for all of it, because every value with a hit goes through here.

use super::layers::SIGNS;
use crate::lanes::{self, Alike, BLOCK, Job, Lanes, Table};

const COLON: u8 = 0;
const BRACE: u8 = 1;
const BRACKET: u8 = 2;
const BACKSLASH: u8 = 3;
const QUOTE: u8 = 4;
const ZERO: u8 = 5;
/// The first class of the signs of layers, and NUL.
const ENCODED: u8 = 6;

static CLASSES: Table = Table::new(&[
    &[Alike { or: 0, is: b':' }],
    &[Alike { or: 0, is: b'{' }],
    &[Alike { or: 0, is: b'[' }],
    &[Alike { or: 0, is: b'\\' }],
    &[Alike { or: 0, is: b'"' }],
    &[Alike { or: 0, is: b'0' }],
    SIGNS,
    &[Alike { or: 0, is: 0 }],
]);

/// Says whether a raw text may hold something encoded, NUL or `\0`, or before `until` the beginning of something structured: one of
/// `:{`, `:"`, `{"`, `["`, `[{`, and the same with a backslash before the quote. Now and then it may say so for nothing.
pub(super) fn in_text(text: &[u8], until: usize) -> bool {
    lanes::run(InText { text, until })
}

/// Says whether a raw text holds something encoded, NUL, `:{`, or a backslash other than in `\\/` and `\'`.
pub(super) fn in_slashed(text: &[u8]) -> bool {
    lanes::run(InSlashed { text })
}

struct InText<'t> {
    text: &'t [u8],
    until: usize,
}

impl Job for InText<'_> {
    type Output = bool;

    #[inline(always)]
    fn run<L: Lanes>(self, lanes: L) -> bool {
        // What the block before ended with: an opening sign, one of `:` and `[`, a backslash.
        let mut carry = [0; 3];
        let mut last = [b' '; BLOCK];
        let mut at = 0;
        while at < self.text.len() {
            let sorted = lanes.sort(lanes::block(self.text, at, &mut last), &CLASSES);
            let braces = lanes.of(sorted, BRACE);
            let not_brace = lanes.of(sorted, COLON) | lanes.of(sorted, BRACKET);
            let openings = not_brace | braces;
            let backslashes = lanes.of(sorted, BACKSLASH);
            let pairs = (openings << 1 | carry[0]) & (lanes.of(sorted, QUOTE) | backslashes)
                | (not_brace << 1 | carry[1]) & braces;
            let nul = (backslashes << 1 | carry[2]) & lanes.of(sorted, ZERO);
            carry = [openings >> 63, not_brace >> 63, backslashes >> 63];
            let before = match self.until.saturating_sub(at) {
                left @ 0..BLOCK => (1 << left) - 1,
                _ => u64::MAX,
            };
            if pairs & before | nul | lanes.from(sorted, ENCODED) != 0 {
                return true;
            }
            at += BLOCK;
        }
        false
    }
}

struct InSlashed<'t> {
    text: &'t [u8],
}

impl Job for InSlashed<'_> {
    type Output = bool;

    #[inline(always)]
    fn run<L: Lanes>(self, lanes: L) -> bool {
        let text = self.text;
        let mut carry = 0;
        // Up to where an escape that was seen goes.
        let mut done = 0;
        let mut last = [b' '; BLOCK];
        let mut at = 0;
        while at < text.len() {
            let sorted = lanes.sort(lanes::block(text, at, &mut last), &CLASSES);
            let colons = lanes.of(sorted, COLON);
            if (colons << 1 | carry) & lanes.of(sorted, BRACE) | lanes.from(sorted, ENCODED) != 0 {
                return true;
            }
            carry = colons >> 63;
            let mut backslashes = lanes.of(sorted, BACKSLASH);
            while backslashes != 0 {
                let place = at + backslashes.trailing_zeros() as usize;
                backslashes &= backslashes - 1;
                if place < done {
                    continue;
                }
                match &text[place + 1..] {
                    [b'\\', b'/', ..] => done = place + 3,
                    [b'\'', ..] => done = place + 2,
                    _ => return true,
                }
            }
            at += BLOCK;
        }
        false
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn has(text: &[u8], what: &[u8]) -> bool {
        memchr::memmem::find(text, what).is_some()
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 4_000, ..ProptestConfig::default() })]

        #[test]
        fn one_pass_says_what_single_searches_say(parts in proptest::collection::vec(proptest::sample::select(&[
            ":", "{", "[", "\"", "\\", "0", "%", "&", "\0", "a", "\\\\/", "\\'", " ", "/", "abcdefghijklmnopqrstuvwxyz",
            "0123456789012345678901234567890123456789",
        ][..]), 0..24), until in 0usize..200) {
            let text = parts.concat().into_bytes();
            let encoded = ["%", "&", "\0"].iter().any(|s| has(&text, s.as_bytes()));
            let until = until.min(text.len());
            let begins = [":{", ":\"", ":\\", "{\"", "{\\", "[\"", "[\\", "[{"].iter().any(|s| has(&text[..until], s.as_bytes()));
            prop_assert_eq!(in_text(&text, until), encoded || begins || has(&text, b"\\0"));
            let plain = String::from_utf8_lossy(&text).replace("\\\\/", "").replace("\\'", "");
            let slashed = encoded || has(&text, b":{") || plain.contains('\\');
            // What was taken out may have joined a backslash and a quote, which is none of the text's.
            prop_assume!(slashed || !in_slashed(&text) || !plain.contains('\\'));
            if !slashed {
                prop_assert!(!in_slashed(&text));
            }
            if encoded || has(&text, b":{") {
                prop_assert!(in_slashed(&text));
            }
        }
    }
}
