//! Rewrites one value, whatever wraps its text.
//!
//! The value is looked at as serialized text, as JSON, else as plain text with spelled-out fragments; strings
//! inside are values again, to any depth. The result is a list of edits against the value's own bytes, so nothing
//! that no edit names can change. Most values hold no core: they cost one scan.

use super::json;
use super::needles::{Finding, LeftReason, Needles};
use super::serialized::{self, Leaf, LeafKind};
use crate::edit::{Decoded, Edit};

/// Nesting levels that are followed. Real sites stay below six.
const DEEPEST: usize = 32;

/// A layer of wrapping around the text where something was found.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Layer {
    /// PHP serialized.
    Serialized,
    /// JSON string.
    Json,
}

impl Layer {
    fn word(self) -> &'static str {
        match self {
            Layer::Serialized => "serialized",
            Layer::Json => "json",
        }
    }
}

/// Takes note of what a rewrite changes and leaves.
pub trait Notes {
    /// So many places were changed under this nesting (`text`, `serialized`, `serialized > json`, …).
    fn changed(&mut self, nesting: &str, count: usize);
    /// A place was left. `excerpt` is the text around it.
    fn left(&mut self, reason: LeftReason, excerpt: &[u8]);
}

/// Returns the edits that move every needle in a value.
pub fn edits(needles: &Needles, value: &[u8], notes: &mut dyn Notes) -> Vec<Edit> {
    if !needles.scan().any(value) {
        return Vec::new();
    }
    edits_of_hit(needles, value, notes)
}

/// The same for a value that is known to hold a core.
pub fn edits_of_hit(needles: &Needles, value: &[u8], notes: &mut dyn Notes) -> Vec<Edit> {
    Walk { needles, notes, layers: Vec::new() }.value(value)
}

struct Walk<'a> {
    needles: &'a Needles,
    notes: &'a mut dyn Notes,
    layers: Vec<Layer>,
}

impl Walk<'_> {
    fn value(&mut self, value: &[u8]) -> Vec<Edit> {
        if self.layers.len() >= DEEPEST {
            self.notes.left(LeftReason::TooDeep, excerpt(value, 0));
            return Vec::new();
        }
        if serialized::looks_serialized(value) {
            return match serialized::leaves(value) {
                Some((leaves, end)) => {
                    let mut edits = self.within(Layer::Serialized, |walk| walk.leaves(value, &leaves));
                    if self.needles.scan().any(&value[end..]) {
                        let tail = self.text(&value[end..]);
                        edits.extend(
                            tail.into_iter()
                                .map(|e| Edit { span: e.span.start + end..e.span.end + end, new: e.new }),
                        );
                    }
                    edits
                }
                None => {
                    self.left_hits(value, LeftReason::BrokenSerialized);
                    Vec::new()
                }
            };
        }
        if json::looks_json(value)
            && let Some(strings) = json::strings(value)
        {
            return self.within(Layer::Json, |walk| walk.json(value, &strings));
        }
        self.text(value)
    }

    fn within<T>(&mut self, layer: Layer, work: impl FnOnce(&mut Self) -> T) -> T {
        self.layers.push(layer);
        let out = work(self);
        self.layers.pop();
        out
    }

    fn text(&mut self, value: &[u8]) -> Vec<Edit> {
        let mut edits = Vec::new();
        for finding in self.needles.findings(value) {
            match finding {
                Finding::Change(edit) => edits.push(edit),
                Finding::Left { at, reason } => self.notes.left(reason, excerpt(value, at)),
            }
        }
        if !edits.is_empty() {
            let joined;
            let nesting = match &self.layers[..] {
                [] => "text",
                [one] => one.word(),
                more => {
                    joined = more.iter().map(|l| l.word()).collect::<Vec<_>>().join(" > ");
                    &joined
                }
            };
            self.notes.changed(nesting, edits.len());
        }
        edits
    }

    fn left_hits(&mut self, value: &[u8], reason: LeftReason) {
        // What would not have been changed anyway is said with its own reason.
        for finding in self.needles.findings(value) {
            match finding {
                Finding::Change(edit) => self.notes.left(reason, excerpt(value, edit.span.start)),
                Finding::Left { at, reason } => self.notes.left(reason, excerpt(value, at)),
            }
        }
    }

    fn json(&mut self, value: &[u8], strings: &[std::ops::Range<usize>]) -> Vec<Edit> {
        let mut out = Vec::new();
        for inside in strings {
            let Some(decoded) = json::decode(value, inside.clone()) else { continue };
            if self.needles.scan().any(&decoded.bytes) {
                let inner = self.value(&decoded.bytes);
                out.extend(decoded.outwards(inner, |new, span| json::encode(new, &value[span])));
            }
        }
        out
    }

    fn leaves(&mut self, value: &[u8], leaves: &[Leaf]) -> Vec<Edit> {
        let mut out = Vec::new();
        for leaf in leaves {
            let content = &value[leaf.content.clone()];
            if !self.needles.scan().any(content) && leaf.kind != LeafKind::Escaped {
                continue;
            }
            // Edits of the raw content, and by how much its counted length grows.
            let (inner, growth) = match leaf.kind {
                LeafKind::Plain => grown(self.value(content)),
                LeafKind::Custom => match serialized::payload_leaves(content) {
                    Some(parts) => grown(self.leaves(content, &parts)),
                    None => {
                        self.left_hits(content, LeftReason::UnknownCustom);
                        continue;
                    }
                },
                LeafKind::Escaped => {
                    let decoded = unescape(content);
                    if !self.needles.scan().any(&decoded.bytes) {
                        continue;
                    }
                    let (edits, growth) = grown(self.value(&decoded.bytes));
                    (decoded.outwards(edits, |new, _| escape(new)), growth)
                }
            };
            if inner.is_empty() {
                continue;
            }
            let old: isize = std::str::from_utf8(&value[leaf.digits.clone()])
                .ok()
                .and_then(|d| d.parse().ok())
                .unwrap_or(0);
            if growth != 0 {
                out.push(Edit::new(leaf.digits.clone(), (old + growth).to_string()));
            }
            out.extend(inner.into_iter().map(|e| {
                let span = e.span.start + leaf.content.start..e.span.end + leaf.content.start;
                Edit { span, new: e.new }
            }));
        }
        out
    }
}

fn grown(edits: Vec<Edit>) -> (Vec<Edit>, isize) {
    let growth = edits.iter().map(Edit::growth).sum();
    (edits, growth)
}

fn unescape(raw: &[u8]) -> Decoded {
    let mut out = Decoded::starting_at(0);
    let mut at = 0;
    while at < raw.len() {
        let hex = raw
            .get(at + 1..at + 3)
            .and_then(|h| std::str::from_utf8(h).ok())
            .and_then(|h| u8::from_str_radix(h, 16).ok());
        match (raw[at], hex) {
            (b'\\', Some(byte)) => {
                at += 3;
                out.escape(&[byte], at);
            }
            (byte, _) => {
                out.plain(&[byte]);
                at += 1;
            }
        }
    }
    out
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
    &text[at.saturating_sub(40)..text.len().min(at + 80)]
}

#[cfg(test)]
mod tests;
