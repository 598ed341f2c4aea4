//! The short way for a value inside of an SQL string: its changes without undoing the string's escapes.
//!
//! Most values with an address are plain text, HTML, serialized arrays or small JSON documents. Where no escape stands where the rule
//! looks, the rule gives the same answer on the raw string as on its meaning; so the raw string is edited. Serialized text and JSON are
//! read in the raw string as well, and what their strings hold is looked at in the same way. Whenever it is not certain that
//! the long way would come to the same, nothing is returned, and the value takes the long way. A property test compares the two.

use super::json;
use super::needles::Needles;
use super::scan::CoreHit;
use super::serialized;
use super::value::{self, Layer};
use crate::edit::{Decoded, Edit};
use aho_corasick::packed;
use smallvec::SmallVec;
use std::borrow::Cow;
use std::ops::Range;
use std::sync::LazyLock;

/// What structured pieces begin with, in a raw string as well.
static BEGINNINGS: LazyLock<Option<packed::Searcher>> = LazyLock::new(|| {
    let signs = [":{", ":\"", ":\\", "{\"", "{\\", "[\"", "[\\", "[{"];
    packed::Config::new().builder().extend(signs).build()
});

static NUL: LazyLock<memchr::memmem::Finder<'static>> = LazyLock::new(|| memchr::memmem::Finder::new(b"\\0"));

/// Nesting that is followed here.
const DEEPEST: usize = 4;

type Layers = SmallVec<[Layer; DEEPEST]>;

/// The changes of one value, in memory that is used again for the next one.
#[derive(Debug, Default)]
pub struct Short {
    /// Changes of the inside of the string, sorted.
    pub edits: Vec<Edit>,
    /// How many places were changed under which layers.
    places: SmallVec<[(Layers, usize); 4]>,
    layers: Layers,
    found: Vec<Edit>,
    meant: Decoded,
}

impl Short {
    /// Returns how many places were changed under which nesting.
    pub fn places(&self) -> impl Iterator<Item = (Cow<'static, str>, usize)> {
        self.places.iter().map(|(layers, count)| (value::nesting(layers), *count))
    }

    /// Finds the changes of the inside of a string. Returns false if the long way has to be taken. `hits` count from the beginning of the
    /// inside. `backslash` says whether a backslash escapes in it.
    pub fn take(&mut self, needles: &Needles, inside: &[u8], hits: &[CoreHit], backslash: bool) -> bool {
        self.edits.clear();
        self.places.clear();
        self.layers.clear();
        let way = Way { needles, inside, backslash };
        needles.is_quiet() && !needles.asked().repair && self.text(way, 0..inside.len(), hits).is_some()
    }

    /// Looks at a text of any kind, and returns by how much it grows.
    fn text(&mut self, way: Way<'_>, span: Range<usize>, hits: &[CoreHit]) -> Option<isize> {
        let deeper = way.backslash && self.layers.len() < DEEPEST;
        match &way.inside[span.clone()] {
            [b'a' | b'O' | b's', b':', b'0'..=b'9', ..] if deeper => self.serialized(way, span, hits),
            [b'{' | b'[', ..] if deeper => self.json(way, span, hits),
            _ => self.plain(way, span, hits),
        }
    }

    fn serialized(&mut self, way: Way<'_>, span: Range<usize>, mut hits: &[CoreHit]) -> Option<isize> {
        let leaves = serialized::raw_leaves(&way.inside[span.clone()])?;
        self.layers.push(Layer::Serialized);
        let mut growth = 0;
        for leaf in leaves {
            let content = shifted(leaf.content, span.start);
            let inner = within(&mut hits, &content);
            if inner.is_empty() {
                continue;
            }
            let at = self.edits.len();
            let by = self.text(way, content, inner)?;
            if by != 0 {
                let digits = shifted(leaf.digits, span.start);
                let old: isize = std::str::from_utf8(&way.inside[digits.clone()]).ok()?.parse().ok()?;
                let length = Edit::new(digits, (old + by).to_string());
                growth += length.growth();
                self.edits.insert(at, length);
            }
            growth += by;
        }
        self.layers.pop();
        Some(growth)
    }

    fn json(&mut self, way: Way<'_>, span: Range<usize>, mut hits: &[CoreHit]) -> Option<isize> {
        let strings = json::raw_strings(&way.inside[span.clone()])?;
        self.layers.push(Layer::Json);
        let mut growth = 0;
        for string in strings {
            let string = shifted(string, span.start);
            let inner = within(&mut hits, &string);
            if inner.is_empty() {
                continue;
            }
            growth += match memchr::memchr(b'\\', &way.inside[string.clone()]) {
                None => self.text(way, string, inner)?,
                Some(_) => self.slashed(way, string, inner)?,
            };
        }
        self.layers.pop();
        Some(growth)
    }

    /// A string of JSON's in which nothing is escaped but slashes and single quotes.
    fn slashed(&mut self, way: Way<'_>, span: Range<usize>, hits: &[CoreHit]) -> Option<isize> {
        let raw = &way.inside[span.clone()];
        self.meant.restart(span.start, raw.len());
        let mut moved: SmallVec<[CoreHit; 8]> = SmallVec::new();
        let (mut at, mut next) = (0, hits.iter().peekable());
        while at < raw.len() {
            let plain = memchr::memchr(b'\\', &raw[at..]).unwrap_or(raw.len() - at);
            // A core holds nothing that is escaped, so it lies between two escapes.
            while let Some(hit) = next.next_if(|h| h.at < span.start + at + plain) {
                moved.push(CoreHit { at: self.meant.bytes.len() + hit.at - span.start - at, ..*hit });
            }
            self.meant.plain(&raw[at..at + plain]);
            at += plain;
            match &raw[at..] {
                [] => break,
                [b'\\', b'\\', b'/', ..] => {
                    at += 3;
                    self.meant.escape(b"/", span.start + at);
                }
                [b'\\', b'\'', ..] => {
                    at += 2;
                    self.meant.escape(b"'", span.start + at);
                }
                _ => return None,
            }
        }
        let text = &self.meant.bytes;
        if begins_structured(text) || memchr::memmem::find(text, b":{").is_some() || is_encoded(text) {
            return None;
        }
        self.found.clear();
        way.needles.all_changes(text, 0, &moved, &mut self.found)?;
        self.note(self.found.len());
        let mut growth = 0;
        for edit in self.found.drain(..) {
            let span = self.meant.raw(edit.span.start)..self.meant.raw(edit.span.end);
            let old = &way.inside[span.clone()];
            let slashes = memchr::memmem::find(old, b"\\\\/").is_some();
            let edit = if slashes { Edit::new(span, spelled(&edit.new)) } else { Edit::new(span, edit.new) };
            // Lengths around count what the string means, where each of these escapes is a byte shorter.
            growth += edit.growth() + escapes(old) - escapes(&edit.new);
            self.edits.push(edit);
        }
        Some(growth)
    }

    /// A text in which nothing may be structured or encoded.
    fn plain(&mut self, way: Way<'_>, span: Range<usize>, hits: &[CoreHit]) -> Option<isize> {
        let text = &way.inside[span.clone()];
        let last = hits.last()?.at - span.start;
        if begins_structured(text) || text.get(1) == Some(&b':') {
            return None;
        }
        let until = aho_corasick::Span { start: 0, end: last };
        if BEGINNINGS.as_ref()?.find_in(text, until).is_some()
            || is_encoded(text)
            || (way.backslash && NUL.find(text).is_some())
        {
            return None;
        }
        self.found.clear();
        way.needles.all_changes(text, span.start, hits, &mut self.found)?;
        if !self.found.iter().all(|edit| way.is_certain(text, edit)) {
            return None;
        }
        self.note(self.found.len());
        let growth = self.found.iter().map(Edit::growth).sum();
        self.edits.extend(self.found.drain(..).map(|e| e.shifted(span.start)));
        Some(growth)
    }

    fn note(&mut self, count: usize) {
        if count > 0 {
            match self.places.iter_mut().find(|(layers, _)| *layers == self.layers) {
                Some((_, known)) => *known += count,
                None => self.places.push((self.layers.clone(), count)),
            }
        }
    }
}

/// What does not change while a value is looked at.
#[derive(Clone, Copy)]
struct Way<'v> {
    needles: &'v Needles,
    inside: &'v [u8],
    backslash: bool,
}

impl Way<'_> {
    /// Says whether a change of a raw text is one of its meaning, too.
    fn is_certain(&self, text: &[u8], edit: &Edit) -> bool {
        let (head, rest) = (&text[..edit.span.start], &text[edit.span.end..]);
        // What is replaced holds no escape, and none ends right before it but that of a quote, a bracket or the like.
        let plain = memchr::memchr(b'\\', &text[edit.span.clone()]).is_none();
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
        plain && !(self.backslash && (escape_before || escape_behind))
    }
}

/// Says whether a text may be structured as a whole.
fn begins_structured(text: &[u8]) -> bool {
    text.first().is_none_or(|b| matches!(b, b'{' | b'[' | b'"' | b'\\') || b.is_ascii_whitespace())
}

/// Says whether something in a text may be encoded, or is no text.
fn is_encoded(text: &[u8]) -> bool {
    memchr::memchr3(b'%', b'&', 0, text).is_some()
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

/// Takes the hits inside of a part off the front, with those before it.
fn within<'h>(hits: &mut &'h [CoreHit], part: &Range<usize>) -> &'h [CoreHit] {
    let before = hits.iter().take_while(|h| h.at < part.start).count();
    let inside = hits[before..].iter().take_while(|h| h.at < part.end).count();
    let (found, rest) = hits[before..].split_at(inside);
    *hits = rest;
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dump::literal::{Quoting, decode, escape, quoted};
    use crate::edit::apply;
    use crate::place::{Address, Pairs, Root};
    use crate::text::needles::LeftReason;
    use crate::text::value::{self, Notes};
    use proptest::prelude::*;
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
        let needles = Needles::new(&pairs, &[]);
        let hits = needles.scan().hits(inside);
        let mut short = Short::default();
        if hits.is_empty() || !short.take(&needles, inside, &hits, backslash) {
            return false;
        }
        let quoting = Quoting { backslash, ..Quoting::MYSQL };
        let literal = [b"'", inside, b"'"].concat();
        let before = decode(&literal, 0..literal.len(), quoting);
        let mut count = Count::default();
        let long = value::edits(&needles, &before.bytes, &mut count);
        let long = before.outwards(long, |new, _| escape(new, &literal, 0..literal.len(), quoting));
        let long = apply(&literal, &long);
        let short_result = apply(inside, &short.edits);
        let shown = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        assert_eq!(shown(&short_result), shown(&long[1..long.len() - 1]), "{}", shown(inside));
        let places: BTreeMap<String, usize> = short.places().map(|(n, c)| (n.into_owned(), c)).collect();
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

    proptest! {
        #![proptest_config(ProptestConfig { cases: 20_000, ..ProptestConfig::default() })]

        #[test]
        fn the_short_way_gives_what_the_long_way_gives(pieces in proptest::collection::vec(proptest::sample::select(&PIECES[..]), 0..10), backslash in any::<bool>()) {
            // Without backslashes a quote stands in a string only twice.
            let inside: String = pieces.iter().map(|p| if !backslash && *p == "\\'" { "\\''" } else { *p }).collect();
            agree(inside.as_bytes(), backslash);
        }

        #[test]
        fn it_does_so_for_values_within_values(value in nested(), all in any::<bool>(), cut in 0usize..400) {
            let inside = inside_of(&value, all);
            agree(&inside, true);
            // What broke off is structured no more, or in another way.
            let mut cut = cut.min(inside.len());
            while inside[..cut].iter().rev().take_while(|b| **b == b'\\').count() % 2 == 1 {
                cut -= 1;
            }
            agree(&inside[..cut], true);
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
