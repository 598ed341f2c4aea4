//! Structured pieces inside of plain text: serialized values behind `name|`, `key=`, a tag or a comment; JSON in block markup.
//!
//! This one rule covers PHP's session format, INI-like lines, pipe-joined pairs and block comments alike. Only pieces that
//! enclose a hit matter, and only strict readings count. Cost: one vectorised search for the few two-letter beginnings, then a strict
//! read per beginning; failed JSON readings are limited in sum, so hostile text costs linear time.

use super::json;
use super::scan::Hits;
use super::serialized::{self, Leaves};
use aho_corasick::packed;
use std::ops::Range;
use std::sync::LazyLock;

/// A structured piece of a text.
#[derive(Debug)]
pub(super) enum Fragment {
    /// Serialized text with its strings.
    Serialized(Range<usize>, Leaves),
    /// JSON with the insides of its strings.
    Json(Range<usize>, json::Strings),
    /// From here to the end: what begins as serialized text and is none.
    Broken(Range<usize>),
}

static BEGINNINGS: LazyLock<Option<packed::Searcher>> =
    LazyLock::new(|| packed::Config::new().builder().extend([":{", ":\"", "{\"", "[\"", "[{"]).build());

/// Says whether a text holds anything that a structured piece begins with.
fn beginnings(text: &[u8], from: usize) -> Option<usize> {
    match &*BEGINNINGS {
        Some(searcher) => {
            let span = aho_corasick::Span { start: from, end: text.len() };
            searcher.find_in(text, span).map(|m| m.start())
        }
        // A processor without the instructions: the slow way.
        None => (from..text.len().saturating_sub(1))
            .find(|at| matches!(&text[*at..at + 2], b":{" | b":\"" | b"{\"" | b"[\"" | b"[{")),
    }
}

/// Returns the beginning of `a:2`, `O:8` or `s:5` whose last digit stands before `colon`.
fn serialized_start(text: &[u8], colon: usize) -> Option<usize> {
    let digits = text[..colon].iter().rev().take(11).take_while(|b| b.is_ascii_digit()).count();
    let kind = colon.checked_sub(digits + 2)?;
    let container = text[colon + 1] == b'{';
    let fits = digits > 0
        && text[kind + 1] == b':'
        && match text[kind] {
            b'a' => container,
            b'O' | b'C' | b'E' | b's' | b'S' => !container,
            _ => false,
        };
    let alone = kind == 0 || !(text[kind - 1].is_ascii_alphanumeric() || text[kind - 1] == b'_');
    (fits && alone).then_some(kind)
}

/// Returns the structured pieces that enclose a hit, in order.
pub(super) fn enclosing(text: &[u8], hits: &Hits) -> Vec<Fragment> {
    let mut out = Vec::new();
    let Some(last) = hits.last().map(|h| h.at) else { return out };
    // Hits are sorted.
    let holds_hit = |span: &Range<usize>| {
        hits.get(hits.partition_point(|h| h.at < span.start)).is_some_and(|h| h.at < span.end)
    };
    let mut patience = 4096 + 4 * text.len();
    let mut from = 0;
    while let Some(at) = beginnings(text, from).filter(|at| *at <= last) {
        from = at + 1;
        if text[at] == b':' {
            let Some(start) = serialized_start(text, at) else { continue };
            match serialized::leaves_at(text, start) {
                Some((leaves, end)) => {
                    if holds_hit(&(start..end)) {
                        out.push(Fragment::Serialized(start..end, leaves));
                    }
                    from = end;
                }
                None => {
                    out.push(Fragment::Broken(start..text.len()));
                    break;
                }
            }
        } else if patience > 0 {
            match json::document_at(text, at) {
                Ok((strings, end)) => {
                    if holds_hit(&(at..end)) {
                        out.push(Fragment::Json(at..end, strings));
                    }
                    from = end;
                }
                Err(read) => patience = patience.saturating_sub(read - at),
            }
        }
    }
    out
}

/// Says whether a text is structured as a whole or holds a piece that looks structured.
pub(super) fn structured(text: &[u8]) -> bool {
    if serialized::looks_serialized(text) || (json::looks_json(text) && json::strings(text).is_some()) {
        return true;
    }
    let mut from = 0;
    while let Some(at) = beginnings(text, from) {
        if text[at] == b':' && serialized_start(text, at).is_some() {
            return true;
        }
        from = at + 1;
    }
    false
}
