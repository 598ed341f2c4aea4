//! The hot loop: passes over the rows of an insert without visiting what is in their strings.
//!
//! Sixty-four bytes at a time, SIMD comparisons give one bit per byte for quotes, backslashes and the few bytes that
//! matter outside of strings. Arithmetic on those bits tells which quotes are escaped and which bytes lie inside of strings; only
//! brackets, hex literals and oddities outside of strings are then visited one by one, two or three per row.
//!
//! Invariants: what the loop accepts is what [`super::row::scan`] accepts, row by row (a property test compares them); whatever
//! is not brackets, commas, numbers, names and single-quoted strings (double quotes, comments, backquotes, dollar signs) is
//! handed back to the slow scanner, which then continues here behind that row.
//! Cost: about one instruction per byte, no allocation but the row list's. Doubled quotes need no care: they close a string and open
//! the next one, with nothing between.

use pulp::NullaryFnOnce;
use std::ops::Range;
use wide::u8x16;

/// Why the loop stopped.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Stop {
    /// What follows the last row is no further row.
    NoRow,
    /// The input ended inside of a row or before what follows it.
    More,
    /// The next row needs the slow scanner.
    Slow,
}

/// Bits for one block of 64 bytes.
struct Bits {
    quotes: u64,
    backslashes: u64,
    /// Brackets and oddities, inside of strings as well.
    marks: u64,
}

/// A processor's way to compare many bytes at once.
trait Lanes: Copy {
    fn bits<const BACKSLASH: bool>(self, block: &[u8; 64]) -> Bits;
}

/// What every processor of the kind has: 16 bytes at once.
#[derive(Clone, Copy)]
struct Baseline;

impl Lanes for Baseline {
    #[inline(always)]
    fn bits<const BACKSLASH: bool>(self, block: &[u8; 64]) -> Bits {
        let mut out = Bits { quotes: 0, backslashes: 0, marks: 0 };
        for part in 0..4 {
            let mut bytes = [0; 16];
            bytes.copy_from_slice(&block[16 * part..16 * part + 16]);
            let v = u8x16::new(bytes);
            let is = |v: u8x16, b: u8| v.simd_eq(u8x16::splat(b));
            let shift = 16 * part;
            out.quotes |= u64::from(is(v, b'\'').to_bitmask()) << shift;
            // `(` and `)` differ in their last bit, so do `"` and `#`; `-` and `/` in the second one, `X` and `x` in the case bit.
            let even = v & u8x16::splat(0xFE);
            let mut marks = is(even, b'(') | is(even, b'"') | is(v, b'`');
            marks |= is(v | u8x16::splat(0x20), b'x') | is(v | u8x16::splat(0x02), b'/');
            if BACKSLASH {
                let back = is(v, b'\\');
                out.backslashes |= u64::from(back.to_bitmask()) << shift;
                marks |= back;
            }
            out.marks |= u64::from(marks.to_bitmask()) << shift;
        }
        out
    }
}

/// The same with AVX2: 32 bytes at once.
#[cfg(target_arch = "x86_64")]
impl Lanes for pulp::x86::V3 {
    #[inline(always)]
    fn bits<const BACKSLASH: bool>(self, block: &[u8; 64]) -> Bits {
        use std::arch::x86_64::__m256i;
        let splat = |b: u8| self.avx._mm256_set1_epi8(b as i8);
        let is = |v: __m256i, b: u8| self.avx2._mm256_cmpeq_epi8(v, splat(b));
        let or = |a: __m256i, b: __m256i| self.avx2._mm256_or_si256(a, b);
        let mask = |v: __m256i| u64::from(self.avx2._mm256_movemask_epi8(v) as u32);
        let mut out = Bits { quotes: 0, backslashes: 0, marks: 0 };
        let halves: [__m256i; 2] = pulp::cast(*block);
        for (part, v) in halves.into_iter().enumerate() {
            let shift = 32 * part;
            out.quotes |= mask(is(v, b'\'')) << shift;
            let even = self.avx2._mm256_and_si256(v, splat(0xFE));
            let mut marks = or(or(is(even, b'('), is(even, b'"')), is(v, b'`'));
            marks = or(marks, or(is(or(v, splat(0x20)), b'x'), is(or(v, splat(0x02)), b'/')));
            if BACKSLASH {
                let back = is(v, b'\\');
                out.backslashes |= mask(back) << shift;
                marks = or(marks, back);
            }
            out.marks |= mask(marks) << shift;
        }
        out
    }
}

/// Returns the bits that a backslash before them escapes; `carry` says whether the first one is, and is told of the next block.
#[inline(always)]
fn escaped(backslashes: u64, carry: &mut u64) -> u64 {
    const EVEN: u64 = 0x5555_5555_5555_5555;
    if backslashes == 0 {
        return std::mem::take(carry);
    }
    let backslashes = backslashes & !*carry;
    let follows = backslashes << 1 | *carry;
    // Runs of backslashes that begin at odd places carry, by addition, into the place behind them.
    let odd_starts = backslashes & !EVEN & !follows;
    let (sum, overflow) = odd_starts.overflowing_add(backslashes);
    *carry = u64::from(overflow);
    (EVEN ^ (sum << 1)) & follows
}

/// Returns for every bit the parity of the bits up to and including it.
#[inline(always)]
fn parity(mut bits: u64) -> u64 {
    for shift in [1, 2, 4, 8, 16, 32] {
        bits ^= bits << shift;
    }
    bits
}

/// Passes over rows from `at`, where the opening bracket of a row stands. Adds the span of each whole row, and the place of each hex
/// literal in it. Returns why it stopped; the last span tells where.
pub fn pass(
    text: &[u8],
    at: usize,
    backslash: bool,
    rows: &mut Vec<Range<usize>>,
    hex: &mut Vec<usize>,
) -> Stop {
    #[cfg(target_arch = "x86_64")]
    if let Some(lanes) = pulp::x86::V3::try_new() {
        return lanes.vectorize(Pass { lanes, text, at, backslash, rows, hex });
    }
    Pass { lanes: Baseline, text, at, backslash, rows, hex }.call()
}

/// The arguments of a pass, so that all of it is compiled for one processor.
struct Pass<'a, L> {
    lanes: L,
    text: &'a [u8],
    at: usize,
    backslash: bool,
    rows: &'a mut Vec<Range<usize>>,
    hex: &'a mut Vec<usize>,
}

impl<L: Lanes> NullaryFnOnce for Pass<'_, L> {
    type Output = Stop;

    #[inline(always)]
    fn call(self) -> Stop {
        let Pass { lanes, text, at, backslash, rows, hex } = self;
        if backslash {
            pass_with::<L, true>(lanes, text, at, rows, hex)
        } else {
            pass_with::<L, false>(lanes, text, at, rows, hex)
        }
    }
}

#[inline(always)]
fn pass_with<L: Lanes, const BACKSLASH: bool>(
    lanes: L,
    text: &[u8],
    at: usize,
    rows: &mut Vec<Range<usize>>,
    hex: &mut Vec<usize>,
) -> Stop {
    let mut block_at = at;
    let mut carry = 0;
    // All ones while a string goes on from the block before.
    let mut inside = 0u64;
    let mut depth = 0u32;
    let mut start = at;
    // Hex literals of the row at hand count only once the row is whole.
    let mut hex_kept = hex.len();
    let mut last = [0u8; 64];
    while block_at < text.len() {
        let block: &[u8; 64] = match text.get(block_at..block_at + 64).and_then(|b| b.try_into().ok()) {
            Some(block) => block,
            None => {
                let rest = &text[block_at..];
                last[..rest.len()].copy_from_slice(rest);
                &last
            }
        };
        let Bits { quotes, backslashes, marks } = lanes.bits::<BACKSLASH>(block);
        let quotes = if BACKSLASH { quotes & !escaped(backslashes, &mut carry) } else { quotes };
        let in_string = parity(quotes) ^ inside;
        inside = ((in_string as i64) >> 63) as u64;
        let mut outside = marks & !in_string;
        while outside != 0 {
            let bit = outside.trailing_zeros() as usize;
            outside &= outside - 1;
            let place = block_at + bit;
            match block[bit] {
                b'(' => {
                    if depth == 0 {
                        start = place;
                    }
                    depth += 1;
                }
                b')' => {
                    depth -= 1;
                    if depth == 0 {
                        rows.push(start..place + 1);
                        hex_kept = hex.len();
                        match next_row(text, place + 1) {
                            Next::Row(_) => {}
                            Next::Other => return Stop::NoRow,
                            Next::Unknown => return Stop::More,
                        }
                    }
                }
                // `0x…` or `x'…'`; the letter may also stand in a name, which does no harm.
                b'x' | b'X' => hex.push(place),
                // A minus sign is a number's, unless a second one makes a comment.
                b'-' if text.get(place + 1).is_some_and(|b| *b != b'-') => {}
                _ => {
                    hex.truncate(hex_kept);
                    return Stop::Slow;
                }
            }
        }
        block_at += 64;
    }
    hex.truncate(hex_kept);
    Stop::More
}

/// What follows a row.
pub enum Next {
    /// Another row, whose opening bracket stands here.
    Row(usize),
    /// Something else.
    Other,
    /// More input is needed to tell.
    Unknown,
}

/// Looks behind a row: commas and space up to an opening bracket lead to the next one.
#[inline(always)]
pub fn next_row(text: &[u8], mut at: usize) -> Next {
    loop {
        match text.get(at) {
            Some(b'(') => return Next::Row(at),
            Some(b',' | b' ' | b'\t' | b'\n' | b'\r') => at += 1,
            Some(_) => return Next::Other,
            None => return Next::Unknown,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dump::literal::Quoting;
    use crate::dump::row::{RowStep, Value, ValueKind, scan};
    use proptest::prelude::*;

    /// Row by row with the slow scanner.
    fn slowly(text: &[u8], backslash: bool) -> (Vec<Range<usize>>, Vec<Range<usize>>) {
        let mut values: Vec<Value> = Vec::new();
        let (mut rows, mut hex, mut at) = (Vec::new(), Vec::new(), 0);
        while text.get(at) == Some(&b'(') {
            let quoting = Quoting { backslash, ..Quoting::MYSQL };
            let RowStep::Row(len) = scan(&text[at..], quoting, false, &mut values) else { break };
            rows.push(at..at + len);
            let digits = values.iter().filter(|v| v.kind == ValueKind::Hex);
            hex.extend(digits.map(|v| at + v.span.start..at + v.span.end));
            at += len;
            at += text[at..].iter().take_while(|b| b", \t\n\r".contains(b)).count();
        }
        (rows, hex)
    }

    const PARTS: [&str; 40] = [
        "(",
        "(",
        "(",
        "(",
        ")",
        ")",
        ")",
        ")",
        "'",
        "'",
        "'",
        "'",
        ",",
        ",",
        "),\n(",
        "'),('",
        "\\",
        "\\'",
        "\\\\",
        "''",
        "\"",
        "x",
        "0xAF",
        "X'4F'",
        "-1.5",
        "--",
        "-- \n",
        "NULL",
        "/",
        "/*",
        "*/",
        "#",
        "`",
        ";",
        " ",
        "abcdefghijklmnopqrstuvwxyz0123456789",
        "\u{e9}",
        "1,'a'),(2,'b'),",
        "('x',NULL),",
        "\n",
    ];

    #[test]
    fn every_processors_way_gives_the_same_bits() {
        #[cfg(target_arch = "x86_64")]
        if let Some(lanes) = pulp::x86::V3::try_new() {
            for first in 0..=255u8 {
                let block: [u8; 64] = std::array::from_fn(|i| first.wrapping_add((i * 7) as u8));
                let told = |b: Bits| (b.quotes, b.backslashes, b.marks);
                assert_eq!(told(lanes.bits::<true>(&block)), told(Baseline.bits::<true>(&block)));
                assert_eq!(told(lanes.bits::<false>(&block)), told(Baseline.bits::<false>(&block)));
            }
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 4_000, ..ProptestConfig::default() })]

        #[test]
        fn passing_over_rows_equals_scanning_them(parts in proptest::collection::vec(proptest::sample::select(&PARTS[..]), 0..80), backslash in any::<bool>()) {
            let text = format!("({}", parts.concat()).into_bytes();
            let (mut rows, mut hex) = (Vec::new(), Vec::new());
            let stop = pass(&text, 0, backslash, &mut rows, &mut hex);
            let (naive, naive_hex) = slowly(&text, backslash);
            prop_assert_eq!(&rows[..], &naive[..rows.len()], "{:?}", stop);
            if stop != Stop::Slow {
                // A last row at the very end of the input may lack the byte that tells it is whole.
                prop_assert!(naive.len() <= rows.len() + 1);
                if stop == Stop::NoRow {
                    prop_assert_eq!(naive.len(), rows.len());
                }
            }
            // Every hex literal of a row that was passed over is announced.
            let end = rows.last().map_or(0, |r| r.end);
            for span in naive_hex.iter().filter(|s| s.end <= end) {
                prop_assert!(hex.iter().any(|h| span.contains(h)), "{:?} in {:?}", span, String::from_utf8_lossy(&text));
            }
        }
    }
}
