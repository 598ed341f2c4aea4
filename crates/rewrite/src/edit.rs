//! Edits: spans of bytes and what replaces them.
//!
//! Every rewrite in this crate is a sorted list of non-overlapping edits against the original bytes. Parsers
//! locate, edits change, nothing is ever printed anew, so whatever no edit names stays byte for byte.
//! A nested value (an SQL literal that holds serialized text that holds JSON) is decoded with a map back to the raw
//! bytes; edits found inside are carried outwards through those maps, one layer at a time.

use smallvec::SmallVec;
use std::borrow::Cow;
use std::ops::Range;

/// New text of an edit. An address or a path is short, so it mostly needs no memory of its own.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Text(SmallVec<[u8; 40]>);

impl std::ops::Deref for Text {
    type Target = [u8];

    fn deref(&self) -> &[u8] {
        &self.0
    }
}

impl From<&[u8]> for Text {
    fn from(text: &[u8]) -> Self {
        Text(SmallVec::from_slice(text))
    }
}

impl From<&str> for Text {
    fn from(text: &str) -> Self {
        text.as_bytes().into()
    }
}

impl From<Vec<u8>> for Text {
    fn from(text: Vec<u8>) -> Self {
        text.as_slice().into()
    }
}

impl From<String> for Text {
    fn from(text: String) -> Self {
        text.as_bytes().into()
    }
}

impl From<SmallVec<[u8; 64]>> for Text {
    fn from(text: SmallVec<[u8; 64]>) -> Self {
        text.as_slice().into()
    }
}

impl From<Cow<'_, [u8]>> for Text {
    fn from(text: Cow<'_, [u8]>) -> Self {
        (&*text).into()
    }
}

/// Replaces the bytes of `span` by `new`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Edit {
    /// The bytes that go, as offsets into the original.
    pub span: Range<usize>,
    /// The bytes that come.
    pub new: Text,
}

impl Edit {
    /// Makes an edit.
    pub fn new(span: Range<usize>, new: impl Into<Text>) -> Self {
        Edit { span, new: new.into() }
    }

    /// Returns the same edit of a text in which this one begins `by` bytes in.
    pub fn shifted(self, by: usize) -> Self {
        Edit { span: self.span.start + by..self.span.end + by, new: self.new }
    }

    /// Returns by how many bytes the text grows (negative: shrinks).
    pub fn growth(&self) -> isize {
        self.new.len() as isize - self.span.len() as isize
    }
}

/// Applies sorted, non-overlapping edits.
pub fn apply(original: &[u8], edits: &[Edit]) -> Vec<u8> {
    let growth: isize = edits.iter().map(Edit::growth).sum();
    let mut out = Vec::with_capacity((original.len() as isize + growth.max(0)) as usize);
    let mut done = 0;
    for edit in edits {
        debug_assert!(edit.span.start >= done, "edits must be sorted and must not overlap");
        out.extend_from_slice(&original[done..edit.span.start]);
        out.extend_from_slice(&edit.new);
        done = edit.span.end;
    }
    out.extend_from_slice(&original[done..]);
    out
}

/// Decoded bytes and the way back to the raw bytes they came from.
///
/// Between two anchors raw and decoded run in step; an anchor stands behind every escape.
#[derive(Debug, Default)]
pub struct Decoded {
    /// The decoded bytes.
    pub bytes: Vec<u8>,
    anchors: SmallVec<[(usize, usize); 16]>,
}

impl Decoded {
    /// Starts a decoding whose raw bytes begin at `raw_start`.
    pub fn starting_at(raw_start: usize) -> Self {
        let mut out = Decoded::default();
        out.restart(raw_start, 0);
        out
    }

    /// Decodes a stretch of text in which one sign begins every escape. `escape` is given the text from a sign on and returns the meaning
    /// and the length of the escape there; without one the sign stands for itself.
    pub fn undoing(
        text: &[u8],
        stretch: Range<usize>,
        sign: u8,
        escape: impl Fn(&[u8]) -> Option<(char, usize)>,
    ) -> Self {
        Self::undoing_bytes(text, stretch, sign, |rest| {
            let (letter, len) = escape(rest)?;
            let mut utf8 = [0; 4];
            Some((SmallVec::from_slice(letter.encode_utf8(&mut utf8).as_bytes()), len))
        })
    }

    /// The same for escapes that mean bytes.
    pub fn undoing_bytes(
        text: &[u8],
        stretch: Range<usize>,
        sign: u8,
        escape: impl Fn(&[u8]) -> Option<(SmallVec<[u8; 4]>, usize)>,
    ) -> Self {
        let mut out = Decoded::starting_at(stretch.start);
        let mut at = stretch.start;
        while at < stretch.end {
            let rest = &text[at..stretch.end];
            let plain = memchr::memchr(sign, rest).unwrap_or(rest.len());
            out.plain(&rest[..plain]);
            at += plain;
            if at == stretch.end {
                break;
            }
            match escape(&rest[plain..]) {
                Some((meaning, len)) => {
                    at += len;
                    out.escape(&meaning, at);
                }
                None => {
                    out.plain(&[sign]);
                    at += 1;
                }
            }
        }
        out
    }

    /// Forgets everything but the memory, and starts a decoding of about so many bytes.
    pub fn restart(&mut self, raw_start: usize, bytes: usize) {
        self.bytes.clear();
        self.bytes.reserve(bytes);
        self.anchors.clear();
        self.anchors.push((0, raw_start));
    }

    /// Appends bytes that stand for themselves.
    pub fn plain(&mut self, bytes: &[u8]) {
        self.bytes.extend_from_slice(bytes);
    }

    /// Appends the meaning of one escape, whose raw spelling ends at `raw_end`.
    pub fn escape(&mut self, meaning: &[u8], raw_end: usize) {
        self.bytes.extend_from_slice(meaning);
        self.anchors.push((self.bytes.len(), raw_end));
    }

    /// Returns the raw offset of a decoded offset that lies on a character border.
    pub fn raw(&self, decoded: usize) -> usize {
        let at = self.anchors.partition_point(|(d, _)| *d <= decoded);
        let (d, r) = self.anchors[at.saturating_sub(1)];
        r + (decoded - d)
    }

    /// Carries edits of the decoded bytes out to the raw bytes. `encode` spells the new text as the layer needs it;
    /// it is given the raw span that is replaced, to learn the spelling in use there.
    pub fn outwards<T: Into<Text>>(
        &self,
        edits: Vec<Edit>,
        mut encode: impl FnMut(&[u8], Range<usize>) -> T,
    ) -> Vec<Edit> {
        edits
            .into_iter()
            .map(|edit| {
                let span = self.raw(edit.span.start)..self.raw(edit.span.end);
                let new = encode(&edit.new, span.clone()).into();
                Edit { span, new }
            })
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_edits_gives_identical_bytes_and_edits_touch_only_their_span() {
        assert_eq!(apply(b"abc\r\n\xff", &[]), b"abc\r\n\xff");
        assert_eq!(
            apply(b"abcdef", &[Edit::new(0..1, "X"), Edit::new(3..3, "--"), Edit::new(4..6, "")]),
            b"Xbc--d"
        );
    }

    #[test]
    fn offsets_behind_escapes_lead_back_to_raw() {
        // raw: a\'b\'c  decoded: a'b'c
        let mut d = Decoded::starting_at(0);
        d.plain(b"a");
        d.escape(b"'", 3);
        d.plain(b"b");
        d.escape(b"'", 6);
        d.plain(b"c");
        assert_eq!([0, 1, 2, 3, 4, 5].map(|i| d.raw(i)), [0, 1, 3, 4, 6, 7]);
    }
}
