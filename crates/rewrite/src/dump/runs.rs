//! The hot loop: passes over the rows of an insert without visiting what is in their strings.
//!
//! Sixty-four bytes at a time, SIMD comparisons give one bit per byte for quotes, backslashes and the few bytes that
//! matter outside of strings. Arithmetic on those bits tells which quotes are escaped and which bytes lie inside of strings; only
//! brackets, hex literals and precheck outside of strings are then visited one by one, two or three per row.
//!
//! Invariants: what the loop accepts is what [`super::row::scan`] accepts, row by row (a property test compares them); whatever
//! is not brackets, commas, numbers, names and single-quoted strings (double quotes, comments, backquotes, semicolons) is
//! handed back to the slow scanner, which then continues here behind that row.
//! Cost: about one instruction per byte, no allocation but the row list's. Doubled quotes need no care: they close a string and open
//! the next one, with nothing between.

use crate::lanes::{self, Alike, BLOCK, Job, Lanes, Table};
use std::ops::Range;

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

const QUOTE: u8 = 0;
const COMMA: u8 = 1;
const BACKSLASH: u8 = 2;
/// The first class of brackets and precheck.
const MARKS: u8 = 3;

static CLASSES: Table = Table::new(&[
    &[Alike { or: 0, is: b'\'' }],
    &[Alike { or: 0, is: b',' }],
    &[Alike { or: 0, is: b'\\' }],
    // `(` and `)`, `"` and `#`, `-` and `/`.
    &[Alike { or: 1, is: b')' }, Alike { or: 1, is: b'#' }, Alike { or: 2, is: b'/' }],
    &[Alike { or: 0x20, is: b'x' }],
    &[Alike { or: 0, is: b'`' }],
    // No row holds one outside of its strings, but for a statement that hides there.
    &[Alike { or: 0, is: b';' }],
]);

/// What a pass saw in 64 bytes, a bit for each.
#[derive(Debug, Clone, Copy, Default)]
pub struct Seen {
    /// Bytes in strings, with the quotes that begin them and without those that end them.
    pub inside: u64,
    /// Commas outside of strings.
    pub commas: u64,
}

/// Blocks of which notes are kept at most. A chunk that had to grow for one giant row is not worth the memory.
const MOST_SEEN: usize = 1 << 17;

/// Returns the bits that a backslash before them escapes; `carry` says whether the first one is, and is told of the next block.
#[inline(always)]
fn escaped(backslashes: u64, carry: &mut u64) -> u64 {
    const EVEN: u64 = 0x5555_5555_5555_5555;
    // No branch for a block without any: it would be taken by chance.
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

/// Passes over rows from `at`, where the opening bracket of a row stands. Adds the span of each whole row, the place of each hex
/// literal in it, and what was seen in every 64 bytes that were passed over; of that nothing is added where brackets stand in a row's
/// brackets, or where there is too much. No row is added behind one that ends at `enough` or later. Returns why it stopped; the last
/// span tells where.
pub fn pass(
    text: &[u8],
    at: usize,
    enough: usize,
    backslash: bool,
    rows: &mut Vec<Range<usize>>,
    hex: &mut Vec<usize>,
    seen: &mut Vec<Seen>,
) -> Stop {
    lanes::run(Pass { text, at, enough, backslash, rows, hex, seen })
}

/// The arguments of a pass.
struct Pass<'a> {
    text: &'a [u8],
    at: usize,
    enough: usize,
    backslash: bool,
    rows: &'a mut Vec<Range<usize>>,
    hex: &'a mut Vec<usize>,
    seen: &'a mut Vec<Seen>,
}

impl Job for Pass<'_> {
    type Output = Stop;

    #[inline(always)]
    fn run<L: Lanes>(self, lanes: L) -> Stop {
        let mut pass = self;
        let first = pass.seen.len();
        let (stop, nested) = if pass.backslash {
            pass_with::<L, true>(lanes, &mut pass)
        } else {
            pass_with::<L, false>(lanes, &mut pass)
        };
        if nested || pass.seen.len() - first > MOST_SEEN {
            pass.seen.truncate(first);
        }
        stop
    }
}

/// Returns why it stopped, and whether brackets were nested.
#[inline(always)]
fn pass_with<L: Lanes, const ESCAPES: bool>(lanes: L, pass: &mut Pass<'_>) -> (Stop, bool) {
    let Pass { text, at, enough, rows, hex, seen, .. } = pass;
    let (text, at, enough) = (*text, *at, *enough);
    let mut nested = false;
    let mut block_at = at;
    let mut carry = 0;
    // All ones while a string goes on from the block before.
    let mut inside = 0u64;
    let mut depth = 0u32;
    let mut start = at;
    // Hex literals of the row at hand count only once the row is whole.
    let mut hex_kept = hex.len();
    let mut last = [0u8; BLOCK];
    // Most runs reach to the end of their chunk. Notes are made as far as the run goes and no farther: a chunk may hold a hundred
    // thousand runs of one row each. One more than is kept says that there were too many.
    let most = seen.len() + MOST_SEEN;
    while block_at < text.len() {
        let block = lanes::block(text, block_at, &mut last);
        let sorted = lanes.sort(block, &CLASSES);
        let mut quotes = lanes.of(sorted, QUOTE);
        let mut backslashes = 0;
        if ESCAPES {
            backslashes = lanes.of(sorted, BACKSLASH);
            quotes &= !escaped(backslashes, &mut carry);
        }
        // Most blocks lie in one string as a whole: nothing in them matters.
        if quotes == 0 && inside == u64::MAX {
            if seen.len() <= most {
                seen.push(Seen { inside, commas: 0 });
            }
            block_at += BLOCK;
            continue;
        }
        let in_string = parity(quotes) ^ inside;
        inside = ((in_string as i64) >> 63) as u64;
        if seen.len() <= most {
            seen.push(Seen { inside: in_string, commas: lanes.of(sorted, COMMA) & !in_string });
        }
        let mut outside = (lanes.from(sorted, MARKS) | backslashes) & !in_string;
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
                    nested |= depth > 1;
                }
                b')' => {
                    depth -= 1;
                    if depth == 0 {
                        rows.push(start..place + 1);
                        hex_kept = hex.len();
                        match next_row(text, place + 1) {
                            Next::Row(_) if place >= enough => return (Stop::More, nested),
                            Next::Row(_) => {}
                            Next::Other => return (Stop::NoRow, nested),
                            Next::Unknown => return (Stop::More, nested),
                        }
                    }
                }
                // `0x…` or `x'…'`; the letter may also stand in a name, which does no harm.
                b'x' | b'X' => hex.push(place),
                // A minus sign is a number's, unless a second one makes a comment.
                b'-' if text.get(place + 1).is_some_and(|b| *b != b'-') => {}
                _ => {
                    hex.truncate(hex_kept);
                    return (Stop::Slow, nested);
                }
            }
        }
        block_at += BLOCK;
    }
    hex.truncate(hex_kept);
    (Stop::More, nested)
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

    proptest! {
        #![proptest_config(ProptestConfig { cases: 4_000, ..ProptestConfig::default() })]

        #[test]
        fn passing_over_rows_equals_scanning_them(parts in proptest::collection::vec(proptest::sample::select(&PARTS[..]), 0..80), backslash in any::<bool>()) {
            let text = format!("({}", parts.concat()).into_bytes();
            let (mut rows, mut hex, mut seen) = (Vec::new(), Vec::new(), Vec::new());
            let stop = pass(&text, 0, usize::MAX, backslash, &mut rows, &mut hex, &mut seen);
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
