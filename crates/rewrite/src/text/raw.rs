//! The short way for a value inside of an SQL string: its changes without undoing the string's escapes.
//!
//! Most values with an address are plain text, HTML, serialized arrays or small JSON documents. Where no escape stands where the rule
//! looks, the rule gives the same answer on the raw string as on its meaning; so the raw string is edited. Serialized text and JSON are
//! read in the raw string as well, and what their strings hold is looked at in the same way. Whenever it is not certain that
//! the long way would come to the same, nothing is returned, and the value takes the long way. A property test compares the two.

use super::common_form::Slashes;
use super::json;
use super::nesting::{self, Layer};
use super::precheck;
use super::replacements::Replacements;
use super::scan::CoreHit;
use super::serialized;
use crate::edit::{Decoded, Edit};
use smallvec::SmallVec;
use std::borrow::Cow;
use std::ops::Range;

/// Nesting that is followed here.
const DEEPEST: u32 = 4;

/// Layers around a place, a byte for each, the innermost one lowest. One number, because it is compared for every value.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Layers(u32);

const SERIALIZED: u8 = 1;
const JSON: u8 = 2;

impl Layers {
    fn depth(self) -> u32 {
        (u32::BITS - self.0.leading_zeros()).div_ceil(8)
    }

    fn within(self, code: u8) -> Self {
        Layers(self.0 << 8 | u32::from(code))
    }

    fn outer(self) -> Self {
        Layers(self.0 >> 8)
    }

    /// Names the nesting, from the outside in.
    pub fn nesting(self) -> Cow<'static, str> {
        let codes = self.0.to_be_bytes().into_iter().filter(|code| *code != 0);
        let layers = codes.map(|code| if code == SERIALIZED { Layer::SERIALIZED } else { Layer::JSON });
        nesting::nesting(&layers.collect::<SmallVec<[Layer; 4]>>())
    }
}

/// The changes of one value, in memory that is used again for the next one.
#[derive(Debug, Default)]
pub struct Short {
    /// Changes of the inside of the string, sorted.
    pub edits: Vec<Edit>,
    /// How many places were changed under which layers.
    pub places: SmallVec<[(Layers, usize); 4]>,
    layers: Layers,
    meant: Decoded,
}

impl Short {
    /// Finds the changes of the inside of a string. Returns false if the long way has to be taken. `hits` count from `start` bytes before
    /// the inside. `backslash` says whether a backslash escapes in it.
    pub fn take(
        &mut self,
        replacements: &Replacements,
        inside: &[u8],
        hits: &[CoreHit],
        start: usize,
        backslash: bool,
    ) -> bool {
        self.edits.clear();
        self.places.clear();
        self.layers = Layers::default();
        let around = Inside { replacements, inside, start, backslash };
        replacements.is_quiet()
            && !replacements.asked().repair
            && self.text(around, 0..inside.len(), hits).is_some()
    }

    /// Looks at a text of any kind, and returns by how much it grows.
    fn text(&mut self, around: Inside<'_>, span: Range<usize>, hits: &[CoreHit]) -> Option<isize> {
        let deeper = around.backslash && self.layers.depth() < DEEPEST;
        match &around.inside[span.clone()] {
            [b'a' | b'O' | b's', b':', b'0'..=b'9', ..] if deeper => self.serialized(around, span, hits),
            [b'{' | b'[', ..] if deeper => self.json(around, span, hits),
            _ => self.plain(around, span, hits),
        }
    }

    fn serialized(&mut self, around: Inside<'_>, span: Range<usize>, mut hits: &[CoreHit]) -> Option<isize> {
        let leaves = serialized::raw_leaves(&around.inside[span.clone()])?;
        self.layers = self.layers.within(SERIALIZED);
        let mut growth = 0;
        for leaf in leaves {
            let content = shifted(leaf.content, span.start);
            let inner = around.within(&mut hits, &content);
            if inner.is_empty() {
                continue;
            }
            let at = self.edits.len();
            let by = self.text(around, content, inner)?;
            if by != 0 {
                let digits = shifted(leaf.digits, span.start);
                let old: isize = std::str::from_utf8(&around.inside[digits.clone()]).ok()?.parse().ok()?;
                let length = Edit::new(digits, itoa::Buffer::new().format(old + by));
                growth += length.growth();
                self.edits.insert(at, length);
            }
            growth += by;
        }
        self.layers = self.layers.outer();
        Some(growth)
    }

    fn json(&mut self, around: Inside<'_>, span: Range<usize>, mut hits: &[CoreHit]) -> Option<isize> {
        let strings = json::raw_strings(&around.inside[span.clone()])?;
        self.layers = self.layers.within(JSON);
        let mut growth = 0;
        for string in strings {
            let string = shifted(string, span.start);
            let inner = around.within(&mut hits, &string);
            if inner.is_empty() {
                continue;
            }
            growth += match memchr::memchr(b'\\', &around.inside[string.clone()]) {
                None => self.text(around, string, inner)?,
                Some(_) => self.slashed(around, string, inner)?,
            };
        }
        self.layers = self.layers.outer();
        Some(growth)
    }

    /// A string of JSON's in which nothing is escaped but slashes and single quotes.
    fn slashed(&mut self, around: Inside<'_>, span: Range<usize>, hits: &[CoreHit]) -> Option<isize> {
        let raw = &around.inside[span.clone()];
        if begins_structured(raw) || precheck::in_slashed(raw) {
            return None;
        }
        let first = self.edits.len();
        if let Some(growth) = self.slashed_as_usual(around, span.clone(), hits) {
            return Some(growth);
        }
        self.edits.truncate(first);
        self.meant.restart(span.start, raw.len());
        let mut moved: SmallVec<[CoreHit; 8]> = SmallVec::new();
        let (mut at, mut next) = (0, hits.iter().peekable());
        while at < raw.len() {
            let plain = memchr::memchr(b'\\', &raw[at..]).unwrap_or(raw.len() - at);
            // A core holds nothing that is escaped, so it lies between two escapes.
            while let Some(hit) = next.next_if(|h| h.at - around.start < span.start + at + plain) {
                moved.push(CoreHit {
                    at: self.meant.bytes.len() + hit.at - around.start - span.start - at,
                    ..*hit
                });
            }
            self.meant.plain(&raw[at..at + plain]);
            at += plain;
            match &raw[at..] {
                [] => break,
                [b'\\', b'\\', b'/', ..] => {
                    at += 3;
                    self.meant.escape(b"/", span.start + at);
                }
                _ => {
                    at += 2;
                    self.meant.escape(b"'", span.start + at);
                }
            }
        }
        let (meant, edits) = (&self.meant, &mut self.edits);
        let mut growth = 0;
        around.replacements.all_changes(&meant.bytes, 0, &moved, |span, new, _| {
            let span = meant.raw(span.start)..meant.raw(span.end);
            let old = &around.inside[span.clone()];
            let slashes = memchr::memchr(b'\\', old).is_some_and(|at| old[at..].starts_with(br"\\/"));
            let edit = if slashes { Edit::new(span, spelled(new)) } else { Edit::new(span, new) };
            growth += meant_growth(old, &edit);
            edits.push(edit);
            Some(())
        })?;
        self.note(first);
        Some(growth)
    }

    /// The same, if every hit stands there in the usual form.
    fn slashed_as_usual(
        &mut self,
        around: Inside<'_>,
        span: Range<usize>,
        hits: &[CoreHit],
    ) -> Option<isize> {
        let raw = &around.inside[span.clone()];
        let first = self.edits.len();
        let mut growth = 0;
        for hit in hits {
            let hit = CoreHit { at: hit.at - around.start - span.start, ..*hit };
            let usual = around.replacements.usual(raw, hit, Slashes::Escaped);
            let (changed, new) = usual.or_else(|| around.replacements.usual(raw, hit, Slashes::Plain))?;
            let edit = Edit::new(shifted(changed.clone(), span.start), new);
            growth += meant_growth(&raw[changed], &edit);
            self.edits.push(edit);
        }
        self.note(first);
        Some(growth)
    }

    /// A text in which nothing may be structured or encoded.
    fn plain(&mut self, around: Inside<'_>, span: Range<usize>, hits: &[CoreHit]) -> Option<isize> {
        let text = &around.inside[span.clone()];
        let last = hits.last()?.at - around.start - span.start;
        if begins_structured(text) || text.get(1) == Some(&b':') || precheck::in_text(text, last) {
            return None;
        }
        let edits = &mut self.edits;
        let first = edits.len();
        let mut growth = 0;
        around.replacements.all_changes(text, around.start + span.start, hits, |changed, new, usual| {
            if !usual && !around.is_certain(text, &changed) {
                return None;
            }
            let edit = Edit::new(shifted(changed, span.start), new);
            growth += edit.growth();
            edits.push(edit);
            Some(())
        })?;
        self.note(first);
        Some(growth)
    }

    /// Counts the edits from the first one on as changes under the layers at hand.
    fn note(&mut self, first: usize) {
        let count = self.edits.len() - first;
        if count > 0 {
            match self.places.iter_mut().find(|(layers, _)| *layers == self.layers) {
                Some((_, known)) => *known += count,
                None => self.places.push((self.layers, count)),
            }
        }
    }
}

/// What does not change while a value is looked at.
#[derive(Clone, Copy)]
struct Inside<'v> {
    replacements: &'v Replacements,
    inside: &'v [u8],
    /// What hits count from: so many bytes before the inside.
    start: usize,
    backslash: bool,
}

impl Inside<'_> {
    /// Says whether a change of a raw text is one of its meaning, too.
    fn is_certain(&self, text: &[u8], changed: &Range<usize>) -> bool {
        let (head, rest) = (&text[..changed.start], &text[changed.end..]);
        // What is replaced holds no escape, and none ends right before it but that of a quote, a bracket or the like.
        let plain = memchr::memchr(b'\\', &text[changed.clone()]).is_none();
        let escape_before = match head {
            [.., b'\\', b] => b.is_ascii_alphanumeric(),
            [.., b] => *b == b'\\',
            [] => false,
        };
        let escape_behind = match rest {
            [b'\\', b, ..] => !matches!(b, b'"' | b'\'' | b'\\' | b'n' | b'r' | b't'),
            [b'.', b'\\', ..] | [b'\\'] => true,
            _ => false,
        };
        // A letter of several bytes must not have a backslash among them: its bytes would be others without it.
        let cut_letter = |near: &[u8]| !near.is_ascii() && near.contains(&b'\\');
        let cut = cut_letter(&head[head.len().saturating_sub(5)..]) || cut_letter(&rest[..rest.len().min(5)]);
        plain && !(self.backslash && (escape_before || escape_behind || cut))
    }

    /// Takes the hits inside of a part off the front, with those before it.
    fn within<'h>(&self, hits: &mut &'h [CoreHit], part: &Range<usize>) -> &'h [CoreHit] {
        let before = hits.iter().take_while(|h| h.at - self.start < part.start).count();
        let inside = hits[before..].iter().take_while(|h| h.at - self.start < part.end).count();
        let (found, rest) = hits[before..].split_at(inside);
        *hits = rest;
        found
    }
}

/// Says whether a text may be structured as a whole.
fn begins_structured(text: &[u8]) -> bool {
    text.first().is_none_or(|b| matches!(b, b'{' | b'[' | b'"' | b'\\') || b.is_ascii_whitespace())
}

/// Spells the slashes of new text as they are in JSON in a string of MySQL's.
fn spelled(new: &[u8]) -> SmallVec<[u8; 64]> {
    let mut out = SmallVec::new();
    for b in new {
        if *b == b'/' {
            out.extend_from_slice(b"\\\\/");
        } else {
            out.push(*b);
        }
    }
    out
}

/// Returns by how much a change lets the meaning of a JSON string grow, in which each of its escapes is a byte shorter than in JSON.
fn meant_growth(old: &[u8], edit: &Edit) -> isize {
    edit.growth() + escapes(old) - escapes(&edit.new)
}

/// Counts the escapes of a raw text.
fn escapes(raw: &[u8]) -> isize {
    let (mut count, mut at) = (0, 0);
    while let Some(found) = raw.get(at..).and_then(|rest| memchr::memchr(b'\\', rest)) {
        count += 1;
        at += found + 2;
    }
    count
}

fn shifted(span: Range<usize>, by: usize) -> Range<usize> {
    span.start + by..span.end + by
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dump::literal::{Quoting, decode, escape, quoted};
    use crate::edit::apply;
    use crate::place::{Address, Pairs, Root};
    use crate::text::layers::WRAPPINGS;
    use crate::text::replacements::LeftReason;
    use crate::text::value::{self, Notes};
    use proptest::prelude::*;
    use proptest::test_runner::TestRunner;
    use std::collections::BTreeMap;

    #[derive(Default)]
    struct Count {
        changed: BTreeMap<String, usize>,
        left: usize,
    }

    impl Notes for Count {
        fn changed(&mut self, nesting: &str, count: usize, _: &[u8]) {
            *self.changed.entry(nesting.into()).or_default() += count;
        }
        fn left(&mut self, _: LeftReason, _: &str, _: &[u8]) {
            self.left += 1;
        }
    }

    /// Compares the two ways. Returns false where the short one was not taken.
    fn agree(inside: &[u8], backslash: bool) -> bool {
        let address = |t: &str| Address::parse(t).unwrap();
        let root = |t: &str| Root::parse(t).unwrap();
        let pairs = Pairs {
            addresses: vec![(address("http://old.example/s"), address("https://new.example"))],
            roots: vec![(root("/home/old"), root("/srv/new"))],
        };
        let replacements = Replacements::new(&pairs, &[]);
        let hits = replacements.scan().hits(inside);
        let mut short = Short::default();
        if hits.is_empty() || !short.take(&replacements, inside, &hits, 0, backslash) {
            return false;
        }
        let quoting = Quoting { backslash, ..Quoting::MYSQL };
        let literal = [b"'", inside, b"'"].concat();
        let before = decode(&literal, 0..literal.len(), quoting);
        let mut count = Count::default();
        let long = value::edits(&replacements, &before.bytes, &mut count);
        let long = before.outwards(long, |new, _| escape(new, &literal, 0..literal.len(), quoting));
        let long = apply(&literal, &long);
        let short_result = apply(inside, &short.edits);
        let shown = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        assert_eq!(shown(&short_result), shown(&long[1..long.len() - 1]), "{}", shown(inside));
        let places: BTreeMap<String, usize> =
            short.places.iter().map(|(l, c)| (l.nesting().into_owned(), *c)).collect();
        assert_eq!((places, 0), (count.changed, count.left), "{}", shown(inside));
        true
    }

    const PIECES: [&str; 44] = [
        "http://old.example/s",
        "https://old.example/s",
        "//old.example/s",
        "old.example",
        "/home/old",
        "/home",
        "http:",
        "//",
        "/s",
        "/",
        ":80",
        ".",
        "\\\"",
        "\\'",
        "\\\\",
        "\\n",
        "\\r",
        "\\t",
        "\\0",
        "\\%",
        "\\_",
        "\\x",
        "\\/",
        "''",
        "\"",
        "a",
        "n",
        " ",
        "%2F",
        "&quot;",
        "{\\\"",
        ":{",
        "[",
        "a:1:{",
        "s:9:\\\"",
        "\u{e9}",
        "<a href=\\\"",
        "\\\">",
        "@",
        "-",
        "old.example/s",
        "\n",
        "=",
        "b2xkLmV4YW1wbGU",
    ];

    /// Values within values, as PHP writes them.
    fn nested() -> impl Strategy<Value = String> {
        let pieces = [
            "http://old.example/s",
            "//old.example/s/x",
            "/home/old/a",
            "old.example",
            "it's",
            "<a href=\"",
            "\n",
            "/",
            ":",
            "a",
            "\u{e9}",
            "%",
            "\\",
        ];
        let text = proptest::collection::vec(proptest::sample::select(pieces.to_vec()), 0..4);
        let leaf = text.prop_map(|pieces| pieces.concat());
        leaf.prop_recursive(3, 12, 3, |inner| {
            let list = proptest::collection::vec(inner, 1..3);
            (list, 0..6).prop_map(|(list, kind)| {
                let item = |(i, text): (usize, &String)| format!("i:{i};s:{}:\"{text}\";", text.len());
                let items: String = list.iter().enumerate().map(item).collect();
                match kind {
                    0 => format!("a:{}:{{{items}}}", list.len()),
                    1 => format!("O:3:\"Old\":1:{{s:4:\"\0*\0u\";a:{}:{{{items}}}}}", list.len()),
                    // A length that is wrong.
                    2 => format!("s:{}:\"{}\";", list[0].len() + 1, list[0]),
                    3 => serde_json::to_string(&list).unwrap(),
                    4 => serde_json::to_string_pretty(&serde_json::json!({ "a": list, "n": 1.5 })).unwrap(),
                    _ => {
                        serde_json::to_string(&serde_json::json!({ "u": list })).unwrap().replace('/', "\\/")
                    }
                }
            })
        })
    }

    /// Spells a text as the inside of a string: all that can be escaped, or only what must be.
    fn inside_of(text: &str, all: bool) -> Vec<u8> {
        if !all {
            let quoted = quoted(text.as_bytes());
            return quoted[1..quoted.len() - 1].to_vec();
        }
        let escape = |c: char| match c {
            '\0' => "\\0".to_string(),
            '\n' => "\\n".to_string(),
            '\\' | '\'' | '"' => format!("\\{c}"),
            c => c.to_string(),
        };
        text.chars().map(escape).collect::<String>().into_bytes()
    }

    /// Tries so many cases, and returns how often the short way was taken.
    fn taken<S: Strategy>(strategy: S, agrees: impl Fn(S::Value) -> usize) -> usize {
        let taken = std::cell::Cell::new(0);
        let mut runner = TestRunner::new(ProptestConfig { cases: CASES, ..ProptestConfig::default() });
        let case = |value| {
            taken.set(taken.get() + agrees(value));
            Ok(())
        };
        runner.run(&strategy, case).unwrap();
        taken.get()
    }

    const CASES: u32 = 20_000;

    #[test]
    fn the_short_way_gives_what_the_long_way_gives() {
        let pieces = proptest::collection::vec(proptest::sample::select(&PIECES[..]), 0..10);
        let count = taken((pieces, any::<bool>()), |(pieces, backslash)| {
            // Without backslashes a quote stands in a string only twice.
            let twice = |p: &&str| if !backslash && *p == "\\'" { "\\''".to_string() } else { p.to_string() };
            let inside: String = pieces.iter().map(twice).collect();
            usize::from(agree(inside.as_bytes(), backslash))
        });
        assert!(
            count > CASES as usize / 40,
            "a test of the short around that it is hardly taken in: {count}"
        );
    }

    #[test]
    fn it_does_so_for_values_within_values() {
        let count = taken((nested(), any::<bool>(), 0usize..400), |(value, all, cut)| {
            let inside = inside_of(&value, all);
            let whole = agree(&inside, true);
            // What broke off is structured no more, or in another way.
            let mut cut = cut.min(inside.len());
            while inside[..cut].iter().rev().take_while(|b| **b == b'\\').count() % 2 == 1 {
                cut -= 1;
            }
            usize::from(whole) + usize::from(agree(&inside[..cut], true))
        });
        assert!(
            count > CASES as usize / 10,
            "a test of the short around that it is hardly taken in: {count}"
        );
    }

    #[test]
    fn whatever_layer_there_is_the_short_way_leaves_it_to_the_long_one() {
        // Nothing but the layer's own sign says that there is more than text.
        let inner = br#"s:24:"http://old.example/s/1/2";"#;
        for outer in WRAPPINGS {
            for middle in WRAPPINGS {
                let twice = outer.encode(&middle.encode(inner, b"", b"%3a"), b"", b"%3a");
                for text in [outer.encode(inner, b"", b"%3a"), twice] {
                    let text = format!("<p x='{}'>", String::from_utf8(text).unwrap());
                    agree(&inside_of(&text, true), true);
                    agree(&inside_of(&text, false), true);
                }
            }
        }
    }

    #[test]
    fn letters_with_a_backslash_among_their_bytes_take_the_long_way() {
        for value in [
            &b"9\\\xA2http://old.example/s/x"[..],
            b"9\\\xA2\xA2http://old.example/s/x",
            b"http://old.example/s\xE2\\\x82\xAC",
            b"http://old.example/s.\xE2\x82\\\xAC",
        ] {
            agree(value, true);
        }
    }

    #[test]
    fn the_usual_values_take_the_short_way() {
        for value in [
            r#"<p class="x">it's <a href="http://old.example/s/1">map</a></p>"#,
            r#"a:2:{s:3:"url";s:24:"http://old.example/s/1/2";s:1:"n";i:1;}"#,
            r#"a:1:{s:4:"html";s:39:"<a href='http://old.example/s/1'>it</a>";}"#,
            r#"O:3:"Old":1:{s:1:"u";a:1:{i:0;s:11:"/home/old/a";}}"#,
            r#"{"url":"http:\/\/old.example\/s\/x","n":4}"#,
            r#"{"url":"http://old.example/s/x","it's":[1,2]}"#,
        ] {
            assert!(agree(&inside_of(value, true), true), "{value}");
            assert!(agree(&inside_of(value, false), true), "{value}");
        }
    }
}
