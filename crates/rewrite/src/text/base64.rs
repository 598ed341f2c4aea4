//! Base64 (RFC 4648, both alphabets): how a core looks inside of it, and the way into and out of a run of it.
//!
//! A text's base64 depends on where it begins modulo three. For each of the three alignments some groups of three bytes of
//! the core fall on whole groups of four letters; one such group announces the core, and its neighbours confirm it.

use data_encoding::{BASE64, BASE64_NOPAD, BASE64URL, BASE64URL_NOPAD, Encoding};
use std::ops::Range;

/// Returns the groups that announce a core, each with the offset in the core at which its three bytes begin.
pub(super) fn groups(core: &[u8], fold: bool) -> Vec<([u8; 4], usize)> {
    let mut out = Vec::new();
    for first in 0..3 {
        let offsets = (first..).step_by(3).take_while(|g| g + 3 <= core.len());
        // The third byte's case is in the last letter of four, which is not searched for.
        let letters = |g: &usize| core[*g..g + 2].iter().filter(|b| b.is_ascii_alphabetic()).count();
        let Some(offset) = offsets.min_by_key(|g| if fold { letters(g) } else { 0 }) else { continue };
        let three = &core[offset..offset + 3];
        for spelling in if fold { case_variants(three) } else { vec![three.to_vec()] } {
            let mut group = [0; 4];
            BASE64.encode_mut(&spelling, &mut group);
            out.push((group, offset));
        }
    }
    out
}

/// Returns a text in every mixture of letter cases.
pub(super) fn case_variants(piece: &[u8]) -> Vec<Vec<u8>> {
    let mut out = vec![Vec::new()];
    for b in piece {
        let cases: &[u8] = &[b.to_ascii_lowercase(), b.to_ascii_uppercase()];
        let cases = if cases[0] == cases[1] { &cases[..1] } else { cases };
        out = out
            .into_iter()
            .flat_map(|v| {
                cases.iter().map(move |c| {
                    let mut v = v.clone();
                    v.push(*c);
                    v
                })
            })
            .collect();
    }
    out
}

/// Says whether the group at `at` is the one of `core` that begins at `offset`: its neighbours must spell the rest, over the ends of
/// lines if need be.
pub(super) fn confirms(hay: &[u8], at: usize, core: &[u8], fold: bool, offset: usize) -> bool {
    let before = offset.div_ceil(3);
    let behind = (core.len() - offset).div_ceil(3);
    let Some(mut at) = letters_before(hay, at, 4 * before) else { return false };
    let mut bytes: smallvec::SmallVec<[u8; 64]> = smallvec::SmallVec::new();
    for _ in 0..before + behind {
        let mut three = 0u32;
        let mut known = 0;
        while known < 4 {
            // The last group may be cut short by padding or by the end.
            let Some(six) = hay.get(at).and_then(|b| six_bits(*b)) else {
                match line_end(&hay[at.min(hay.len())..]) {
                    0 => break,
                    len => at += len,
                }
                continue;
            };
            three = three << 6 | u32::from(six);
            known += 1;
            at += 1;
        }
        three <<= 6 * (4 - known);
        let whole = [0, 0, 1, 2, 3][known];
        bytes.extend_from_slice(&three.to_be_bytes()[1..1 + whole]);
        if whole < 3 {
            break;
        }
    }
    let begin = 3 * before - offset;
    match bytes.get(begin..begin + core.len()) {
        Some(there) if fold => there.eq_ignore_ascii_case(core),
        Some(there) => there == core,
        None => false,
    }
}

/// Returns where so many letters before an offset begin.
pub(super) fn letters_before(hay: &[u8], mut at: usize, count: usize) -> Option<usize> {
    let mut found = 0;
    while found < count {
        let last = *hay.get(at.checked_sub(1)?)?;
        let escaped = at > 1 && matches!(last, b'n' | b'r') && hay[at - 2] == b'\\';
        if escaped {
            at -= 1;
            at -= hay[..at].iter().rev().take_while(|b| **b == b'\\').count();
        } else if matches!(last, b'\n' | b'\r') {
            at -= 1;
        } else {
            six_bits(last)?;
            found += 1;
            at -= 1;
        }
    }
    Some(at)
}

/// Returns the length of one end of a line, also where the layers around the text have escaped it; 0 where there is none.
pub(super) fn line_end(text: &[u8]) -> usize {
    let escapes = text.iter().take_while(|b| **b == b'\\').count();
    match text.get(escapes) {
        Some(b'n' | b'r') if escapes > 0 => escapes + 1,
        Some(b'\n' | b'\r') if escapes == 0 => 1,
        _ => 0,
    }
}

pub(super) fn six_bits(b: u8) -> Option<u8> {
    Some(match b {
        b'A'..=b'Z' => b - b'A',
        b'a'..=b'z' => b - b'a' + 26,
        b'0'..=b'9' => b - b'0' + 52,
        b'+' | b'-' => 62,
        b'/' | b'_' => 63,
        _ => return None,
    })
}

/// A run of base64 and what it means.
#[derive(Debug)]
pub(super) struct Run {
    /// Where the run lies in the text.
    pub span: Range<usize>,
    /// The decoded bytes.
    pub bytes: Vec<u8>,
    encoding: Encoding,
    /// Of a run that is broken into lines: the letters of a line, and what ends it.
    lines: Option<(usize, &'static str)>,
}

impl Run {
    /// Spells bytes in the run's own alphabet and padding.
    pub fn encode(&self, bytes: &[u8]) -> String {
        let run = self.encoding.encode(bytes);
        let Some((width, end)) = self.lines else { return run };
        let lines: Vec<&str> =
            (0..run.len()).step_by(width).map(|at| &run[at..run.len().min(at + width)]).collect();
        lines.join(end)
    }
}

/// Fewest letters of a line of base64 that is broken into lines. Usual are 64 and 76.
pub(super) const NARROWEST: usize = 16;

/// Finds the lines of base64 around a letter, all of one width but for the last: where they lie, their width, and what ends them.
pub(super) fn lines_around(text: &[u8], at: usize) -> Option<(Range<usize>, usize, &'static str)> {
    let letter = |b: &u8| six_bits(*b).is_some();
    let line_end = |at: usize| at + text[at..].iter().take_while(|b| letter(b)).count();
    let mut start = text[..at].iter().rposition(|b| !letter(b)).map_or(0, |i| i + 1);
    let mut end = line_end(at);
    let breaks = |text: &[u8]| -> Option<&'static str> {
        ["\r\n", "\n", "\r"].into_iter().find(|b| text.starts_with(b.as_bytes()))
    };
    let break_before = |start: usize| -> Option<&'static str> {
        ["\r\n", "\n", "\r"].into_iter().find(|b| text[..start].ends_with(b.as_bytes()))
    };
    // The line at hand is whole, or the last one, which may be shorter: a neighbour tells.
    let above = break_before(start).map(|b| {
        let above_end = start - b.len();
        let above_start = text[..above_end].iter().rposition(|b| !letter(b)).map_or(0, |i| i + 1);
        (b, above_end - above_start)
    });
    let below = breaks(&text[end..]).map(|b| (b, line_end(end + b.len()) - end - b.len()));
    let own = end - start;
    let (eol, width) = match (above, below) {
        (Some((b, width)), _) if width >= NARROWEST.max(own) => (b, width),
        (_, Some((b, next))) if own >= NARROWEST && next > 0 && next <= own => (b, own),
        _ => return None,
    };
    while break_before(start) == Some(eol) {
        let above_end = start - eol.len();
        let above_start = text[..above_end].iter().rposition(|b| !letter(b)).map_or(0, |i| i + 1);
        if above_end - above_start != width
            || (above_start > 0
                && !matches!(
                    text[above_start - 1],
                    b'\n' | b'\r' | b',' | b' ' | b'"' | b'\'' | b'>' | b':' | b'='
                ))
        {
            break;
        }
        start = above_start;
    }
    while end - text[..end].iter().rposition(|b| !letter(b)).map_or(0, |i| i + 1) == width
        && breaks(&text[end..]) == Some(eol)
    {
        let next = end + eol.len();
        let next_end = line_end(next);
        if next_end == next || next_end - next > width {
            break;
        }
        end = next_end;
    }
    if !text[start..end].contains(&eol.as_bytes()[0]) {
        return None;
    }
    end += text[end..].iter().take(2).take_while(|b| **b == b'=').count();
    Some((start..end, width, eol))
}

/// Beginnings of a run that are tried: letters of the alphabet may stand before it, as in `/path/BASE64`.
pub(super) const MOST_STARTS: usize = 16;

/// Finds the run around the group at `at` whose decoded bytes `understood` accepts. A run must decode without a remainder: groups
/// whole, padding right, unused bits zero.
///
/// # Errors
/// Where there is no such run: where the letters end.
pub(super) fn run_around(text: &[u8], at: usize, understood: impl Fn(&[u8]) -> bool) -> Result<Run, usize> {
    if let Some((span, width, end)) = lines_around(text, at) {
        let plain: Vec<u8> =
            text[span.clone()].iter().copied().filter(|b| !b.is_ascii_whitespace()).collect();
        let encoding = if plain.len().is_multiple_of(4) { BASE64 } else { BASE64_NOPAD };
        // A line of it alone is not what was meant, and is not touched.
        return match encoding.decode(&plain) {
            Ok(bytes) if understood(&bytes) => Ok(Run { span, bytes, encoding, lines: Some((width, end)) }),
            _ => Err(span.end),
        };
    }
    let first = text[..at].iter().rposition(|b| six_bits(*b).is_none()).map_or(0, |i| i + 1);
    let letters = at + text[at..].iter().take_while(|b| six_bits(**b).is_some()).count();
    let padding = text[letters..].iter().take(2).take_while(|b| **b == b'=').count();
    let separators = (first..at).filter(|i| !text[*i].is_ascii_alphanumeric()).map(|i| i + 1);
    // Padding that is escaped belongs to a layer that should have been undone before.
    let escaped = [&b"%3D"[..], b"%3d", b"\\u003d", b"\\u003D", b"&#"];
    if padding == 0 && escaped.iter().any(|e| text[letters..].starts_with(e)) {
        return Err(letters);
    }
    let starts = std::iter::once(first).chain(separators).take(MOST_STARTS);
    for start in starts.filter(|s| (at - s).is_multiple_of(4)) {
        let padded = (letters - start + padding).is_multiple_of(4);
        let end = if padded { letters + padding } else { letters };
        let run = &text[start..end];
        let has = |two: [u8; 2]| run.iter().any(|b| two.contains(b));
        // Where the run does not tell, what stands before it does.
        let behind_url = start > first && matches!(text[start - 1], b'-' | b'_');
        let url = has(*b"-_") || behind_url && !has(*b"+/");
        let encoding = match (padded && padding > 0 || run.len().is_multiple_of(4), url) {
            (true, false) => BASE64,
            (false, false) => BASE64_NOPAD,
            (true, true) => BASE64URL,
            (false, true) => BASE64URL_NOPAD,
        };
        if let Ok(bytes) = encoding.decode(run)
            && understood(&bytes)
        {
            return Ok(Run { span: start..end, bytes, encoding, lines: None });
        }
    }
    Err(letters)
}
