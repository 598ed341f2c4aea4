//! The short way for a plain text inside of an SQL string: its changes without undoing the string's escapes.
//!
//! Most values with an address are plain text or HTML. Where nothing in them could be structured or encoded, and no escape stands
//! where the rule looks, the rule gives the same answer on the raw string as on its meaning; so the raw string is edited.
//! Whenever that is not certain, nothing is returned, and the value takes the long way. A property test compares the two.

use super::needles::Needles;
use super::scan::{CoreHit, Hits};
use crate::edit::Edit;
use aho_corasick::packed;
use std::sync::LazyLock;

/// What structured pieces begin with, in a raw string as well.
static BEGINNINGS: LazyLock<Option<packed::Searcher>> = LazyLock::new(|| {
    let signs = [":{", ":\"", ":\\", "{\"", "{\\", "[\"", "[\\", "[{"];
    packed::Config::new().builder().extend(signs).build()
});

static NUL: LazyLock<memchr::memmem::Finder<'static>> = LazyLock::new(|| memchr::memmem::Finder::new(b"\\0"));

/// Returns the edits of the inside of a string, or nothing if the long way has to be taken. `hits` count from the beginning of it.
/// `backslash` says whether a backslash escapes in it.
pub fn edits(needles: &Needles, inside: &[u8], hits: &[CoreHit], backslash: bool) -> Option<Vec<Edit>> {
    let first = *inside.first()?;
    let structured = matches!(first, b'{' | b'[' | b'"' | b'\\') || first.is_ascii_whitespace();
    if structured || inside.get(1) == Some(&b':') || needles.asked().repair {
        return None;
    }
    let last = hits.last()?.at;
    let span = aho_corasick::Span { start: 0, end: last };
    if BEGINNINGS.as_ref()?.find_in(inside, span).is_some()
        || memchr::memchr3(b'%', b'&', 0, inside).is_some()
    {
        return None;
    }
    if backslash && NUL.find(inside).is_some() {
        return None;
    }
    let hits: Hits = hits.iter().copied().collect();
    let edits = needles.all_changes(inside, &hits)?;
    let certain = |edit: &Edit| {
        let (head, rest) = (&inside[..edit.span.start], &inside[edit.span.end..]);
        // What is replaced holds no escape, and none ends right before it but that of a quote, a bracket or the like.
        let plain = memchr::memchr(b'\\', &inside[edit.span.clone()]).is_none();
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
        let quiet = !edit.new.iter().any(|b| matches!(b, b'\\' | b'\'' | b'"') || *b < 0x20);
        plain && quiet && !(backslash && (escape_before || escape_behind))
    };
    edits.iter().all(certain).then_some(edits)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dump::literal::{Quoting, decode};
    use crate::edit::apply;
    use crate::place::{Address, Pairs, Root};
    use crate::text::needles::LeftReason;
    use crate::text::value::{self, Notes};
    use proptest::prelude::*;

    #[derive(Default)]
    struct Count(usize, usize);

    impl Notes for Count {
        fn changed(&mut self, nesting: &str, count: usize, _: &[u8]) {
            assert_eq!(nesting, "text");
            self.0 += count;
        }
        fn left(&mut self, _: LeftReason, _: &str, _: &[u8]) {
            self.1 += 1;
        }
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

    proptest! {
        #![proptest_config(ProptestConfig { cases: 20_000, ..ProptestConfig::default() })]

        #[test]
        fn the_short_way_gives_what_the_long_way_gives(pieces in proptest::collection::vec(proptest::sample::select(&PIECES[..]), 0..10), backslash in any::<bool>()) {
            // Without backslashes a quote stands in a string only twice.
            let inside: String = pieces.iter().map(|p| if !backslash && *p == "\\'" { "\\''" } else { *p }).collect();
            let address = |t: &str| Address::parse(t).unwrap();
            let root = |t: &str| Root::parse(t).unwrap();
            let needles = Needles::new(&Pairs {
                addresses: vec![(address("http://old.example/s"), address("https://new.example"))],
                roots: vec![(root("/home/old"), root("/srv/new"))],
            }, &[]);
            let quoting = Quoting { backslash, ..Quoting::MYSQL };
            let hits = needles.scan().hits(inside.as_bytes());
            if let Some(edits) = edits(&needles, inside.as_bytes(), &hits, backslash) {
                let meaning = |inside: &[u8]| {
                    let literal = [b"'", inside, b"'"].concat();
                    decode(&literal, 0..literal.len(), quoting).bytes
                };
                let short = meaning(&apply(inside.as_bytes(), &edits));
                let before = meaning(inside.as_bytes());
                let mut count = Count::default();
                let long = apply(&before, &value::edits(&needles, &before, &mut count));
                prop_assert_eq!(String::from_utf8_lossy(&short), String::from_utf8_lossy(&long), "{}", inside);
                prop_assert_eq!((count.0, count.1), (edits.len(), 0));
            }
        }
    }
}
