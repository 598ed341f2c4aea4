//! Rewrites one value, whatever wraps its text.
//!
//! The value is looked at as serialized text, as JSON, else as plain text in which structured pieces, encoded runs and
//! spelled-out fragments may stand; strings inside are values again, to any depth. The result is a list of edits
//! against the value's own bytes, so nothing that no edit names can change. Most values hold no core: they cost one scan.

use super::covered::Covered;
use super::fragments::{self, Fragment};
use super::layers::{self, LOOK_AHEAD, Reach, Wrapping, outwards};
use super::nesting::{Layer, nesting};
use super::packed::Packing;
use super::replacements::{Judged, LeftReason, Replacements};
use super::rule::holds_log_in;
use super::scan::{CoreHit, Hits};
use super::serialized::{self, Leaf, LeafKind};
use super::{charset, json, repair};
use crate::edit::{Decoded, Edit};
use smallvec::SmallVec;
use std::ops::Range;

/// Nesting levels that are followed. Real sites stay below six.
const DEEPEST: usize = 32;

/// Takes note of what a rewrite changes and leaves.
pub trait Notes {
    /// So many places were changed under this nesting (`text`, `serialized`, `serialized > json`, …). `excerpt` is the text
    /// around the first one, at its own level.
    fn changed(&mut self, nesting: &str, count: usize, excerpt: &[u8]);
    /// A place was left. `excerpt` is the text around it.
    fn left(&mut self, reason: LeftReason, nesting: &str, excerpt: &[u8]);
}

/// Returns the edits that move every needle in a value.
pub fn edits(replacements: &Replacements, value: &[u8], notes: &mut dyn Notes) -> Vec<Edit> {
    if !replacements.scan().any(value) {
        return Vec::new();
    }
    edits_of_hit(replacements, value, false, notes)
}

/// The same for a value that is known to hold a core, or to be worth a repair. `is_bytes` says that the dump has it as bytes, not as text.
pub fn edits_of_hit(
    replacements: &Replacements,
    value: &[u8],
    is_bytes: bool,
    notes: &mut dyn Notes,
) -> Vec<Edit> {
    let mut walk = Walk { replacements, notes, is_bytes, layers: SmallVec::new(), depth: 0 };
    match Packing::seen(value) {
        Some((how, packed)) if walk.look_into(&packed, how) => Vec::new(),
        _ => walk.value(value),
    }
}

/// The same for a value that was unpacked.
pub fn edits_of_unpacked(replacements: &Replacements, text: &[u8], notes: &mut dyn Notes) -> Vec<Edit> {
    let layers = smallvec::smallvec![Layer::PACKED];
    Walk { replacements, notes, is_bytes: true, layers, depth: 1 }.value(text)
}

/// Says whether a value has to be looked at although no core may be in it: it looks serialized, and repairs were asked for.
pub fn worth_repair(replacements: &Replacements, value: &[u8]) -> bool {
    replacements.asked().repair && serialized::looks_serialized(value)
}

struct Walk<'a> {
    replacements: &'a Replacements,
    notes: &'a mut dyn Notes,
    layers: SmallVec<[Layer; DEEPEST]>,
    /// Whether the value itself is bytes.
    is_bytes: bool,
    /// How deep the text at hand is: its layers, and custom-serialized objects, which are none of their own.
    depth: usize,
}

/// What stands around the hits of a text, from worse to better.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Structure {
    /// Plain text.
    Nothing,
    /// Serialized text that does not read.
    Broken,
    /// Serialized text or JSON.
    Whole,
}

impl Structure {
    fn of(pieces: &[Fragment]) -> Self {
        match pieces.last() {
            None => Structure::Nothing,
            Some(Fragment::Broken(_)) => Structure::Broken,
            Some(_) => Structure::Whole,
        }
    }
}

impl Walk<'_> {
    fn value(&mut self, value: &[u8]) -> Vec<Edit> {
        let hits = self.replacements.scan().hits(value);
        self.value_with(value, hits)
    }

    /// The same for a value whose hits are known.
    fn value_with(&mut self, value: &[u8], hits: Hits) -> Vec<Edit> {
        if self.depth >= DEEPEST {
            if !hits.is_empty() {
                self.left(LeftReason::TooDeep, excerpt(value, 0));
            }
            return Vec::new();
        }
        if serialized::looks_serialized(value) {
            return self.serialized(value, &hits);
        }
        if json::looks_json(value)
            && let Some(strings) = json::strings(value)
        {
            return self.within(Layer::JSON, |walk| walk.json(value, &strings, &hits));
        }
        self.text_with(value, hits)
    }

    /// Looks for what a compressed value names, and says that it is left. Returns false for a text that merely begins like one.
    fn look_into(&mut self, value: &[u8], how: Packing) -> bool {
        let unpacked = how.unpack(value);
        let text = unpacked.text();
        if text.is_empty() {
            return false;
        }
        self.within(Layer::PACKED, |walk| walk.left_hits(text, 0..text.len(), LeftReason::Packed));
        true
    }

    fn within<T>(&mut self, layer: Layer, work: impl FnOnce(&mut Self) -> T) -> T {
        self.layers.push(layer);
        let out = self.deeper(work);
        self.layers.pop();
        out
    }

    fn deeper<T>(&mut self, work: impl FnOnce(&mut Self) -> T) -> T {
        self.depth += 1;
        let out = work(self);
        self.depth -= 1;
        out
    }

    /// Names the nesting at hand.
    fn with_nesting(&mut self, tell: impl FnOnce(&mut dyn Notes, &str)) {
        tell(self.notes, &nesting(&self.layers));
    }

    fn left(&mut self, reason: LeftReason, excerpt: &[u8]) {
        self.with_nesting(|notes, nesting| notes.left(reason, nesting, excerpt));
    }

    /// A value that begins as serialized text.
    fn serialized(&mut self, value: &[u8], hits: &Hits) -> Vec<Edit> {
        if let Some((leaves, end)) = serialized::leaves(value) {
            let mut edits = self.within(Layer::SERIALIZED, |walk| walk.leaves(value, &leaves, hits));
            let tail = self.text_with(&value[end..], within(hits, &(end..value.len())));
            edits.extend(tail.into_iter().map(|e| e.shifted(end)));
            return edits;
        }
        if let Some(edits) = self.otherwise_seen(value) {
            return edits;
        }
        if self.replacements.asked().repair
            && let Some(leaves) = repair::only_reading(value)
        {
            return self.within(Layer::REPAIRED, |walk| {
                let edits = walk.leaves(value, &leaves, hits);
                walk.with_nesting(|notes, nesting| notes.changed(nesting, 1, excerpt(value, 0)));
                edits
            });
        }
        self.left_hits(value, 0..value.len(), LeftReason::BrokenSerialized);
        Vec::new()
    }

    /// Reads serialized text whose lengths fit in another charset.
    fn otherwise_seen(&mut self, value: &[u8]) -> Option<Vec<Edit>> {
        let seen = charset::seen_otherwise(value)?;
        let (leaves, _) = serialized::leaves(&seen.decoded.bytes)?;
        let inner = self.within(Layer::CHARSET, |walk| {
            let hits = walk.replacements.scan().hits(&seen.decoded.bytes);
            walk.within(Layer::SERIALIZED, |walk| walk.leaves(&seen.decoded.bytes, &leaves, &hits))
        });
        // A new root may have letters that the dump's charset lacks; then nothing can be written.
        let spelled: Option<Vec<Vec<u8>>> = inner.iter().map(|e| seen.outwards(&e.new)).collect();
        let mut spelled = spelled?.into_iter();
        Some(seen.decoded.outwards(inner, |_, _| spelled.next().unwrap_or_default()))
    }

    /// A text that as a whole is nothing structured.
    fn text_with(&mut self, value: &[u8], hits: Hits) -> Vec<Edit> {
        if hits.is_empty() {
            return Vec::new();
        }
        let mut covered = Covered::default();
        let pieces = fragments::enclosing(value, &hits);
        let found = Structure::of(&pieces);
        if found != Structure::Whole
            && let Some(edits) = self.unwrapped(value, found)
        {
            return edits;
        }
        let mut edits = self.pieces(value, pieces, &hits, &mut covered);
        let runs: SmallVec<[&dyn Wrapping; 4]> = layers::in_text(value, Reach::Run).collect();
        // Where the last run ended that turned out to be nothing: its other hits need no second look.
        let mut plain_until = [0; 2];
        for hit in &hits {
            let plain_until = &mut plain_until[usize::from(hit.base64)];
            if hit.at >= *plain_until && !covered.contains(hit.at) {
                match self.encoded_run(value, hit, &runs, &covered) {
                    Ok((span, inner)) => {
                        covered.add(span);
                        edits.extend(inner);
                    }
                    Err(end) => *plain_until = end,
                }
            }
        }
        if is_binary(value, &covered, self.is_bytes && self.layers.is_empty()) {
            self.left_hits(value, 0..value.len(), LeftReason::Binary);
            edits.sort_by_key(|e| e.span.start);
            return edits;
        }
        let mut changed = 0;
        let mut first = 0;
        for finding in self.replacements.findings_at(value, &hits, &covered) {
            match finding {
                Judged::Change(edit) => {
                    if changed == 0 {
                        first = edit.span.start;
                    }
                    if holds_log_in(&value[edit.span.clone()]) {
                        self.left(LeftReason::LogIn, b"");
                    }
                    changed += 1;
                    edits.push(edit);
                }
                Judged::Left { at, reason } => self.left(reason, excerpt(value, at)),
            }
        }
        if changed > 0 {
            self.with_nesting(|notes, nesting| notes.changed(nesting, changed, excerpt(value, first)));
        }
        if !covered.is_empty() {
            edits.sort_by_key(|e| e.span.start);
        }
        edits
    }

    /// Structured pieces inside of the text.
    fn pieces(
        &mut self,
        value: &[u8],
        pieces: Vec<Fragment>,
        hits: &Hits,
        covered: &mut Covered,
    ) -> Vec<Edit> {
        let mut edits = Vec::new();
        for piece in pieces {
            match piece {
                Fragment::Serialized(span, leaves) => {
                    edits.extend(self.within(Layer::SERIALIZED, |walk| walk.leaves(value, &leaves, hits)));
                    covered.add(span);
                }
                Fragment::Json(span, strings) => {
                    edits.extend(self.within(Layer::JSON, |walk| walk.json(value, &strings, hits)));
                    covered.add(span);
                }
                Fragment::Broken(span) => {
                    self.left_hits(value, span.clone(), LeftReason::BrokenSerialized);
                    covered.add(span);
                }
            }
        }
        edits
    }

    /// A text that as a whole is wrapped in entities or backslashes around something structured. `bare` is what was found without
    /// unwrapping: only what is better than that counts.
    fn unwrapped(&mut self, value: &[u8], bare: Structure) -> Option<Vec<Edit>> {
        for wrapping in layers::in_text(value, Reach::Whole) {
            let Ok(opened) = wrapping.decode(value, None) else { continue };
            if self.structure(&opened.decoded.bytes, LOOK_AHEAD) > bare {
                let inner = self.within(wrapping.layer(), |walk| walk.value(&opened.decoded.bytes));
                return Some(outwards(wrapping, &opened, value, inner));
            }
        }
        None
    }

    /// Says how well a text is structured around its hits, at this level or behind further wrappings.
    fn structure(&self, text: &[u8], further: usize) -> Structure {
        let hits = self.replacements.scan().hits(text);
        if hits.is_empty() {
            return Structure::Nothing;
        }
        let mut found = Structure::of(&fragments::enclosing(text, &hits));
        if further > 0 && found != Structure::Whole {
            for wrapping in layers::in_text(text, Reach::Whole) {
                if let Ok(opened) = wrapping.decode(text, None) {
                    found = found.max(self.structure(&opened.decoded.bytes, further - 1));
                }
            }
        }
        found
    }

    /// A run of encoded text around a hit: where it lies and its edits. If there is no such thing: up to where the text has been looked at.
    fn encoded_run(
        &mut self,
        value: &[u8],
        hit: &CoreHit,
        runs: &[&dyn Wrapping],
        covered: &Covered,
    ) -> Result<(Range<usize>, Vec<Edit>), usize> {
        let mut looked_at = hit.at + 1;
        for wrapping in runs.iter().filter(|w| w.fits(hit)) {
            match wrapping.decode(value, Some(hit)) {
                // Lines may belong to one block or to another, by the one from which one looks.
                Ok(opened) if covered.touches(&opened.span) => looked_at = opened.span.end,
                Ok(opened) => {
                    let inner = self.within(wrapping.layer(), |walk| walk.value(&opened.decoded.bytes));
                    return Ok((opened.span.clone(), outwards(*wrapping, &opened, value, inner)));
                }
                Err(until) => looked_at = until,
            }
        }
        Err(looked_at)
    }

    fn left_hits(&mut self, value: &[u8], within: Range<usize>, reason: LeftReason) {
        let hits: Hits =
            self.replacements.scan().hits(value).into_iter().filter(|h| within.contains(&h.at)).collect();
        // What would not have been changed anyway is said with its own reason.
        for finding in self.replacements.findings_at(value, &hits, &Covered::default()) {
            match finding {
                Judged::Change(edit) => self.left(reason, excerpt(value, edit.span.start)),
                Judged::Left { at, reason } => self.left(reason, excerpt(value, at)),
            }
        }
    }

    fn json(&mut self, value: &[u8], strings: &[Range<usize>], hits: &Hits) -> Vec<Edit> {
        let mut out = Vec::new();
        for inside in strings {
            let raw = &value[inside.clone()];
            let inner = within(hits, inside);
            if inner.is_empty() && !worth_repair(self.replacements, raw) {
                continue;
            }
            if memchr::memchr(b'\\', raw).is_none() {
                // Nothing is escaped: the string stands for itself.
                let edits = self.value_with(raw, inner);
                out.extend(edits.into_iter().map(|e| {
                    let Edit { span, new } = e.shifted(inside.start);
                    Edit::new(span.clone(), json::encode(&new, &value[span]))
                }));
                continue;
            }
            let Some(decoded) = json::decode(value, inside.clone()) else { continue };
            let inner = self.value(&decoded.bytes);
            out.extend(decoded.outwards(inner, |new, span| json::encode(new, &value[span])));
        }
        out
    }

    fn leaves(&mut self, value: &[u8], leaves: &[Leaf], hits: &Hits) -> Vec<Edit> {
        let mut out = Vec::new();
        for leaf in leaves {
            let content = &value[leaf.content.clone()];
            // Edits of the raw content, and the length that it counts now.
            let (edits, length) = match leaf.kind {
                LeafKind::Plain => {
                    let hits = within(hits, &leaf.content);
                    let worth = !hits.is_empty() || worth_repair(self.replacements, content);
                    grown(if worth { self.value_with(content, hits) } else { Vec::new() }, content)
                }
                LeafKind::Custom => {
                    let hits = within(hits, &leaf.content);
                    if hits.is_empty() {
                        continue;
                    }
                    if self.depth >= DEEPEST {
                        self.left_hits(content, 0..content.len(), LeftReason::TooDeep);
                        continue;
                    }
                    match serialized::payload_leaves(content) {
                        Some(parts) => {
                            grown(self.deeper(|walk| walk.leaves(content, &parts, &hits)), content)
                        }
                        None => {
                            self.left_hits(content, 0..content.len(), LeftReason::UnknownCustom);
                            continue;
                        }
                    }
                }
                LeafKind::Escaped => {
                    let decoded = unescape(content);
                    let (inner, length) = grown(self.value(&decoded.bytes), &decoded.bytes);
                    (decoded.outwards(inner, |new, _| escape(new)), length)
                }
            };
            self.leaf(value, leaf, edits, length, &mut out);
        }
        out
    }

    /// Adds the edits of one string: its length, where that is another one now, and its content.
    fn leaf(&self, value: &[u8], leaf: &Leaf, inner: Vec<Edit>, length: isize, out: &mut Vec<Edit>) {
        let old = &value[leaf.digits.clone()];
        let said = std::str::from_utf8(old).ok().and_then(|d| d.parse::<isize>().ok());
        if said != Some(length) {
            out.push(Edit::new(leaf.digits.clone(), length.to_string()));
        }
        out.extend(inner.into_iter().map(|e| e.shifted(leaf.content.start)));
    }
}

/// Returns the hits inside of a part, counted from its beginning. A core stands as it is in every string of a structure.
fn within(hits: &Hits, part: &Range<usize>) -> Hits {
    let first = hits.partition_point(|h| h.at < part.start);
    let inside = hits[first..].iter().take_while(|h| h.at < part.end);
    inside.map(|h| CoreHit { at: h.at - part.start, ..*h }).collect()
}

/// Returns the edits of a text with the length that it will have.
fn grown(edits: Vec<Edit>, text: &[u8]) -> (Vec<Edit>, isize) {
    let growth: isize = edits.iter().map(Edit::growth).sum();
    (edits, text.len() as isize + growth)
}

/// Says whether a value is no text: a NUL byte stands outside of the stretches that are understood, and what is around it is no text.
fn is_binary(value: &[u8], covered: &Covered, is_bytes: bool) -> bool {
    if !memchr::memchr_iter(0, value).any(|at| !covered.contains(at)) {
        return false;
    }
    if is_bytes {
        return true;
    }
    // A NUL alone makes no binary: what is text but for that has no lengths or kinds as bytes beside it.
    let strange =
        |c: char| c.is_control() && !matches!(c, '\0' | '\t' | '\n' | '\r' | '\u{b}' | '\u{c}' | '\u{1b}');
    std::str::from_utf8(value).map_or(true, |text| text.chars().any(strange) || text.starts_with("\0\0"))
}

fn unescape(raw: &[u8]) -> Decoded {
    Decoded::undoing_bytes(raw, 0..raw.len(), b'\\', |rest| {
        let hex = std::str::from_utf8(rest.get(1..3)?).ok()?;
        Some((smallvec::smallvec![u8::from_str_radix(hex, 16).ok()?], 3))
    })
}

fn escape(new: &[u8]) -> Vec<u8> {
    new.iter()
        .flat_map(|b| match b {
            b'\\' => b"\\5c".to_vec(),
            0x20..=0x7e => vec![*b],
            _ => format!("\\{b:02x}").into_bytes(),
        })
        .collect()
}

/// Cuts the surroundings of an offset, for a report.
pub fn excerpt(text: &[u8], at: usize) -> &[u8] {
    // A log-in stands before a host; nobody shall read it in a report.
    if let Some(sign) = text[at..text.len().min(at + 80)].iter().position(|b| *b == b'@')
        && text[at..at + sign].windows(3).any(|w| w == b"://")
    {
        return &text[at + sign..text.len().min(at + sign + 80)];
    }
    &text[at.saturating_sub(40)..text.len().min(at + 80)]
}

#[cfg(test)]
mod tests;
