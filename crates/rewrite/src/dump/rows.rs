//! A run of rows in a chunk, as the source located it: where each row lies, and where a string in it does.
//!
//! The pass over the rows leaves its bits behind. They tell the string around a hit without cutting the row: where it begins and ends,
//! and by the commas before it which column it is. Cost: a few instructions for every 64 bytes of the row before the hit. Whatever they
//! do not tell for certain is left to [`super::row::cut`].

use super::runs::Seen;
use crate::lanes::BLOCK;
use crate::text::packed;
use crate::text::scan::{CoreHit, CoreScan};
use std::ops::Range;

/// A run of rows.
#[derive(Debug, Clone, Copy)]
pub struct Rows<'a> {
    /// The rows and what stands between them.
    pub bytes: &'a [u8],
    /// Where the run begins in its chunk; the spans below count from the chunk's beginning.
    pub(super) base: usize,
    pub(super) spans: &'a [Range<usize>],
    pub(super) hex: &'a [usize],
    /// What was seen in every 64 bytes, if all of the run was passed over at once.
    pub(super) seen: &'a [Seen],
}

/// A string that stands alone between its commas or brackets.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Alone {
    /// Which value of its row it is, from 0.
    pub column: usize,
    /// Where it lies in the run, quotes included.
    pub literal: Range<usize>,
}

impl<'a> Rows<'a> {
    /// Returns the number of rows.
    pub fn count(&self) -> usize {
        self.spans.len()
    }

    /// Says whether the rows hold nothing but strings, numbers and names: no call, no comment, no second statement.
    pub fn are_plain(&self) -> bool {
        !self.seen.is_empty()
    }

    /// Says whether a hex literal may be among the values.
    pub fn hold_hex(&self) -> bool {
        !self.hex.is_empty()
    }

    /// Returns the rows, brackets included (a `COPY` has none).
    pub fn each(&self) -> impl Iterator<Item = &'a [u8]> + use<'a> {
        let (bytes, base) = (self.bytes, self.base);
        self.spans.iter().map(move |s| &bytes[s.start - base..s.end - base])
    }

    /// Returns where a row lies in the run.
    pub fn span(&self, index: usize) -> Range<usize> {
        self.spans[index].start - self.base..self.spans[index].end - self.base
    }

    /// Returns the index of the row that holds an offset of the run, or of the one behind it. It is looked for from `index` on.
    pub fn row_at(&self, offset: usize, index: usize) -> usize {
        // Mostly it is the next one, or one of the next.
        let before = |s: &&Range<usize>| s.end <= offset + self.base;
        let near = index + self.spans[index..].iter().take(4).take_while(before).count();
        if near < index + 4 { near } else { self.ending_by(near, offset) }
    }

    /// Returns the index of the first row from `index` on that does not end by an offset of the run.
    pub fn ending_by(&self, index: usize, offset: usize) -> usize {
        index + self.spans[index..].partition_point(|s| s.end <= offset + self.base)
    }

    /// Finds the string around an offset by what was seen when the row was passed over, without a look at what else is in the row.
    /// Nothing is returned where that does not tell.
    pub fn string_at(&self, row: &Range<usize>, offset: usize) -> Option<Alone> {
        let bit = |seen: &Seen| seen.inside >> (offset % BLOCK) & 1;
        if self.seen.get(offset / BLOCK).is_none_or(|s| bit(s) == 0) {
            return None;
        }
        // A doubled quote ends a string and begins the next one, with nothing between.
        let mut open = self.outside_before(offset)? + 1;
        while self.bytes[open - 1] == b'\'' {
            open = self.outside_before(open - 1)? + 1;
        }
        let mut close = self.outside_from(offset)?;
        while self.bytes.get(close + 1) == Some(&b'\'') {
            close = self.outside_from(close + 1)?;
        }
        let alone = (self.bytes[open - 1] == b',' || open - 1 == row.start)
            && matches!(self.bytes.get(close + 1), Some(b',' | b')'));
        alone.then(|| Alone { column: self.commas(row.start..open), literal: open..close + 1 })
    }

    /// Counts the commas outside of strings in a span.
    fn commas(&self, span: Range<usize>) -> usize {
        // Most blocks have none.
        let count = |mut bits: u64| {
            let mut count = 0;
            while bits != 0 {
                bits &= bits - 1;
                count += 1;
            }
            count
        };
        let seen = &self.seen[span.start / BLOCK..=span.end / BLOCK];
        let from = u64::MAX << (span.start % BLOCK);
        let until = (1 << (span.end % BLOCK)) - 1;
        match seen {
            [] => 0,
            [only] => count(only.commas & from & until),
            [first, between @ .., last] => {
                let between: usize = between.iter().map(|s| count(s.commas)).sum();
                count(first.commas & from) + between + count(last.commas & until)
            }
        }
    }

    /// Returns the last place outside of strings before an offset.
    fn outside_before(&self, offset: usize) -> Option<usize> {
        let mut block = offset / BLOCK;
        let mut bits = !self.seen[block].inside & ((1 << (offset % BLOCK)) - 1);
        while bits == 0 {
            block = block.checked_sub(1)?;
            bits = !self.seen[block].inside;
        }
        Some(block * BLOCK + bits.ilog2() as usize)
    }

    /// Returns the first place outside of strings behind an offset.
    fn outside_from(&self, offset: usize) -> Option<usize> {
        let mut block = offset / BLOCK;
        let mut bits = !self.seen[block].inside & (u64::MAX << (offset % BLOCK));
        while bits == 0 {
            block += 1;
            bits = !self.seen.get(block)?.inside;
        }
        Some(block * BLOCK + bits.trailing_zeros() as usize)
    }

    /// Collects, sorted, where something has to be looked at: cores in the run, and what no search sees into: hex literals (a few of these
    /// may be something else) and strings that begin like compressed data.
    pub fn hits(&self, scan: &CoreScan, hits: &mut Vec<CoreHit>) {
        hits.clear();
        scan.each(self.bytes, |hit| {
            hits.push(hit);
            true
        });
        hits.extend(self.hex.iter().map(|h| CoreHit::hidden(h - self.base)));
        packed::places(self.bytes, |at| hits.push(CoreHit::hidden(at)));
        hits.sort_unstable_by_key(|h| h.at);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dump::literal::Quoting;
    use crate::dump::row::{ValueKind, cut};
    use crate::dump::runs;
    use proptest::prelude::*;

    const VALUES: [&str; 14] = [
        "'a'",
        "''",
        "'it''s'",
        "''''",
        "'a,b'",
        "'\\'x'",
        "'(x),('",
        "'abcdefghijklmnopqrstuvwxyz abcdefghijklmnopqrstuvwxyz abcdefghijklmnopqrstuvwxyz'",
        "NULL",
        "-1.5",
        "0xAF",
        "_binary 'b'",
        " 'c' ",
        "F('d')",
    ];

    proptest! {
        #![proptest_config(ProptestConfig { cases: 2_000, ..ProptestConfig::default() })]

        #[test]
        fn the_string_around_an_offset_is_the_one_that_cutting_the_row_finds(
            rows in proptest::collection::vec(proptest::collection::vec(proptest::sample::select(&VALUES[..13]), 1..6), 1..5),
            nested in proptest::bool::weighted(0.1), backslash in any::<bool>(),
        ) {
            let row = |values: &Vec<&str>| format!("({})", values.join(","));
            let mut text = rows.iter().map(row).collect::<Vec<_>>().join(",");
            if nested {
                text.push_str(&format!(",({})", VALUES[13]));
            }
            // Without backslashes this one would end early.
            let text = if backslash { text } else { text.replace("\\'", "''") }.into_bytes();
            let (mut spans, mut hex, mut seen) = (Vec::new(), Vec::new(), Vec::new());
            runs::pass(&text, 0, usize::MAX, backslash, &mut spans, &mut hex, &mut seen);
            let rows = Rows { bytes: &text, base: 0, spans: &spans, hex: &hex, seen: &seen };
            prop_assert_eq!(seen.is_empty(), nested);
            for span in &spans {
                let mut values = Vec::new();
                cut(&text[span.clone()], Quoting { backslash, ..Quoting::MYSQL }, &mut values);
                // The quotes themselves are no place of a hit.
                for offset in span.clone().filter(|o| text[*o] != b'\'') {
                    let alone = values.iter().position(|v| {
                        let (start, end) = (span.start + v.literal.start, span.start + v.literal.end);
                        v.kind == ValueKind::Text && (start..end).contains(&offset)
                            && matches!(text[start - 1], b'(' | b',') && matches!(text[end], b')' | b',')
                    });
                    let expected = alone.filter(|_| !nested).map(|column| {
                        let literal = &values[column].literal;
                        Alone { column, literal: literal.start + span.start..literal.end + span.start }
                    });
                    prop_assert_eq!(rows.string_at(span, offset), expected, "{} in {}", offset, String::from_utf8_lossy(&text));
                }
            }
        }
    }
}
