//! Nested values against a naive reference: decode everything, replace in the leaves, encode again.

use super::*;
use crate::edit::apply;
use crate::place::{Address, Pairs, Root};
use crate::text::replacements::RewriteOptions;
use proptest::prelude::*;

#[derive(Default)]
struct Kept {
    changed: Vec<(String, usize)>,
    left: Vec<LeftReason>,
}

impl Notes for Kept {
    fn changed(&mut self, nesting: &str, count: usize, _: &[u8]) {
        self.changed.push((nesting.to_string(), count));
    }
    fn left(&mut self, reason: LeftReason, _: &str, _: &[u8]) {
        self.left.push(reason);
    }
}

fn pairs() -> Pairs {
    Pairs {
        addresses: vec![(
            Address::parse("http://old.example/s").unwrap(),
            Address::parse("https://new.example:81").unwrap(),
        )],
        roots: vec![(Root::parse("/home/old").unwrap(), Root::parse("/srv/nö").unwrap())],
    }
}

fn replacements() -> Replacements {
    Replacements::new(&pairs(), &[])
}

fn rewritten(value: &[u8]) -> (Vec<u8>, Kept) {
    let mut kept = Kept::default();
    let edits = edits(&replacements(), value, &mut kept);
    (apply(value, &edits), kept)
}

#[track_caller]
fn check(before: &str, after: &str, nesting: &str) {
    let (out, kept) = rewritten(before.as_bytes());
    assert_eq!(String::from_utf8_lossy(&out), after);
    assert_eq!(kept.changed.first().map_or("-", |(n, _)| n), nesting);
}

/// Lines of base64 that could be cut into blocks in several ways: whatever is taken, nothing is taken twice.
#[test]
fn blocks_of_base64_never_overlap() {
    // Without padding, so that one run goes on in the next.
    let run = data_encoding::BASE64.encode(b"http://old.example/s/");
    for end in ["\r", "\n", "\r\n"] {
        for shape in [[4, 1, 1, 1], [1, 4, 1, 1], [2, 2, 1, 1], [1, 1, 4, 4], [3, 1, 2, 1]] {
            for tail in ["", "++x/-", "++x/", "=", "x"] {
                let lines: Vec<String> = shape.iter().map(|n| run.repeat(*n)).collect();
                let value = format!("\r\r<|{}{tail}", lines.join(end));
                let (out, _) = rewritten(value.as_bytes());
                assert!(!out.is_empty());
            }
        }
    }
}

/// Values as sites have them, each with what it becomes; those that stay are the same twice.
#[test]
fn hard_values_follow_or_stay_whole() {
    let lines = |text: &str, width: usize, end: &str| {
        let run = data_encoding::BASE64.encode(text.as_bytes());
        let lines: Vec<&str> =
            (0..run.len()).step_by(width).map(|at| &run[at..run.len().min(at + width)]).collect();
        lines.join(end)
    };
    let (old, new) = ("http://old.example/s", "https://new.example:81");
    // One address alone, wherever the end of a line cuts it.
    for shift in 0..80 {
        let long = format!("{} {old}/a {}", "y".repeat(shift), "z".repeat(50));
        let moved = long.replace(old, new);
        for (width, end) in [(64, "\n"), (76, "\r\n"), (76, "\n"), (60, "\r")] {
            let (before, after) = (lines(&long, width, end), lines(&moved, width, end));
            check(&before, &after, "base64");
            check(&format!("Mail:\n\n{before}{end}"), &format!("Mail:\n\n{after}{end}"), "base64");
        }
    }
    for (before, nesting) in [
        (format!("{{\"a\":\"x\\u0000 {old}/y\"}}"), "json"),
        (format!("a\0{old}/x"), "text"),
        (format!("{{\"a\":\"\\ud83d {old}/y\"}}"), "json"),
        (format!("text s:3:\"abc\"; and {old}/x"), "text"),
        (format!("Mozilla/5.0 (+{old}/bot) -{old}/x .{old}/y"), "text"),
        (format!("{old}🔭"), "text"),
    ] {
        check(&before, &before.replace(old, new), nesting);
    }
    let pair = |before: &str, after: &str, nesting: &str| check(before, after, nesting);
    pair("s:22:\"a\0http://old.example/s\";", "s:24:\"a\0https://new.example:81\";", "serialized");
    pair(
        "u%3Dhttp%253A%252F%252Fold.example%252Fs%252Fx",
        "u%3Dhttps%253A%252F%252Fnew.example%253A81%252Fx",
        "text",
    );
    pair(
        "u=http%3A%2F%2Fold.example%2Fs%F0%9F%94%AD",
        "u=https%3A%2F%2Fnew.example%3A81%F0%9F%94%AD",
        "text",
    );
    pair(
        r#"{"a":"{\"b\":\"http:\\/\\/old.example\\/s\"}"}"#,
        r#"{"a":"{\"b\":\"https:\\/\\/new.example:81\"}"}"#,
        "json > json",
    );
    let (out, kept) = rewritten(b"see https://user:pw@old.example/s/x");
    assert_eq!(String::from_utf8_lossy(&out), "see https://user:pw@new.example:81/x");
    assert_eq!(kept.left, [LeftReason::LogIn]);
    // A sign in the new path is no log-in.
    let pairs = Pairs {
        addresses: vec![(
            Address::parse("http://old.example/s").unwrap(),
            Address::parse("https://new.example/@s").unwrap(),
        )],
        roots: Vec::new(),
    };
    let mut kept = Kept::default();
    let found = edits(&Replacements::new(&pairs, &[]), b"see http://old.example/s/x", &mut kept);
    assert!(found.len() == 1 && kept.left.is_empty(), "{:?}", kept.left);
    for stays in [
        "git+http://old.example/s",
        "u=http%3A%2F%2Fold.example%2Fs%C3%A9",
        "\0\0\0\u{2}\u{14}\u{1}\u{11}\u{3}url\u{11}\u{14}http://old.example/s",
        "me@old.example",
    ] {
        let (out, kept) = rewritten(stays.as_bytes());
        assert!(out == stays.as_bytes() && kept.left.len() == 1, "{stays}: {:?}", kept.left);
    }
    // Nested deeper than anybody follows: said, and no stack overflows.
    let mut deep = format!("s:{}:\"{old}\";", old.len());
    for _ in 0..5000 {
        deep = format!("C:11:\"ArrayObject\":{}:{{x:i:0;{deep};m:a:0:{{}}}}", deep.len() + 15);
    }
    let (out, kept) = rewritten(deep.as_bytes());
    assert!(out == deep.as_bytes());
    assert_eq!(kept.left, [LeftReason::TooDeep]);
}

#[test]
fn lengths_follow_at_every_depth() {
    check(
        r#"a:1:{s:3:"url";s:23:"http://old.example/s/ö";}"#,
        r#"a:1:{s:3:"url";s:25:"https://new.example:81/ö";}"#,
        "serialized",
    );
    let inner = r#"a:1:{i:0;s:20:"http://old.example/s";}"#;
    let inner_new = r#"a:1:{i:0;s:22:"https://new.example:81";}"#;
    check(
        &format!("s:{}:\"{inner}\";", inner.len()),
        &format!("s:{}:\"{inner_new}\";", inner_new.len()),
        "serialized > serialized",
    );
    check(
        r#"C:11:"ArrayObject":53:{x:i:0;a:1:{i:0;s:20:"http://old.example/s";};m:a:0:{}}"#,
        r#"C:11:"ArrayObject":55:{x:i:0;a:1:{i:0;s:22:"https://new.example:81";};m:a:0:{}}"#,
        "serialized",
    );
    check(r#"a:1:{i:0;S:9:"/home/\6fld";}"#, r#"a:1:{i:0;S:8:"/srv/n\c3\b6";}"#, "serialized");
}

#[test]
fn json_keeps_its_own_spelling_and_holds_serialized_text() {
    check(
        r#"{"u":"http:\/\/old.example\/s\/\u00e9","v":1.50}"#,
        r#"{"u":"https:\/\/new.example:81\/\u00e9","v":1.50}"#,
        "json",
    );
    check(
        r#"["{\"a\":\"http:\\\/\\\/old.example\\\/s\"}"]"#,
        r#"["{\"a\":\"https:\\\/\\\/new.example:81\"}"]"#,
        "json > json",
    );
    check(
        r#"{"x":"s:20:\"http:\/\/old.example\/s\";"}"#,
        r#"{"x":"s:22:\"https:\/\/new.example:81\";"}"#,
        "json > serialized",
    );
    check(r#"<p data-x='{"u":"\/home\/old\/x"}'>"#, r#"<p data-x='{"u":"\/srv\/nö\/x"}'>"#, "json");
}

#[test]
fn broken_and_foreign_values_are_left_and_said() {
    let broken = r#"a:1:{i:0;s:21:"http://old.example/s";}"#;
    let (out, kept) = rewritten(broken.as_bytes());
    assert_eq!(out, broken.as_bytes());
    assert_eq!(kept.left, [LeftReason::BrokenSerialized]);
    // A name in serialized text is nobody's address, and its length counts.
    let name = "E:29:\"Suit:http://old.example/shop/a\";";
    assert_eq!(String::from_utf8_lossy(&rewritten(name.as_bytes()).0), name);
    let (_, kept) = rewritten(b"mail office@old.example or see old.example, not sub.old.example");
    assert_eq!(kept.left, [LeftReason::Email, LeftReason::BareHost, LeftReason::LookAlike]);
}

#[test]
fn layers_that_count_nothing_are_undone_around_what_counts() {
    let inner = r#"a:1:{s:1:"u";s:20:"http://old.example/s";}"#;
    let inner_new = r#"a:1:{s:1:"u";s:22:"https://new.example:81";}"#;
    let wrapped = |name: &'static str, t: &str| {
        let mut all = layers::WRAPPINGS.iter();
        let layer = all.find(|w| w.layer() == Layer::named(name)).unwrap();
        String::from_utf8(layer.encode(t.as_bytes(), b"", b"%3a")).unwrap()
    };
    let percent = |t: &str| wrapped("percent", t);
    let entities = |t: &str| wrapped("entities", t);
    let base64 = |t: &str| data_encoding::BASE64.encode(t.as_bytes());
    check(
        &format!("a={}&b=1", percent(inner)),
        &format!("a={}&b=1", percent(inner_new)),
        "percent > serialized",
    );
    check(
        &format!("a={};", percent(&percent(inner))),
        &format!("a={};", percent(&percent(inner_new))),
        "percent > percent > serialized",
    );
    check(
        &format!("<input value=\"{}\">", entities(inner)),
        &format!("<input value=\"{}\">", entities(inner_new)),
        "entities > serialized",
    );
    check(
        &format!("var x = \"{}\";", inner.replace('"', "\\\"")),
        &format!("var x = \"{}\";", inner_new.replace('"', "\\\"")),
        "escapes > serialized",
    );
    for (around, nesting) in
        [("cfg=@;", "base64 > serialized"), ("@", "base64 > serialized"), ("/path/@", "base64 > serialized")]
    {
        check(&around.replace('@', &base64(inner)), &around.replace('@', &base64(inner_new)), nesting);
    }
    check(&base64("at http://OLD.example/s!"), &base64("at https://new.example:81!"), "base64");
    check(
        &format!("x={}", percent(&base64("http://old.example/s1 /home/old"))),
        &format!("x={}", percent(&base64("http://old.example/s1 /srv/nö"))),
        "percent > base64",
    );
    // What stands before a run tells its alphabet where its own letters do not.
    let url = data_encoding::BASE64URL_NOPAD;
    for before in ["", " ", "  "] {
        let text = format!("_wD_{}", url.encode(format!("{before}http://old.example/s?x").as_bytes()));
        let (out, _) = rewritten(text.as_bytes());
        // Whole groups are written back with padding.
        let meant = url.decode(String::from_utf8_lossy(&out[4..]).trim_end_matches('=').as_bytes()).unwrap();
        let wanted = format!("{before}https://new.example:81?x");
        assert_eq!(String::from_utf8_lossy(&meant), wanted, "{text}");
    }
    // Base64 of what nobody understands, and of what only looks alike, stays.
    for same in [base64("http://old.example/s\u{1}\u{2}"), base64("http://cold.example/s")] {
        assert_eq!(rewritten(same.as_bytes()).0, same.as_bytes());
    }
}

#[test]
fn structured_pieces_are_found_inside_of_text() {
    let pairs = [
        (
            "user|s:20:\"http://old.example/s\";n|i:5;",
            "user|s:22:\"https://new.example:81\";n|i:5;",
            "session",
        ),
        (
            "n|i:1;o|O:8:\"stdClass\":1:{s:4:\"\0*\0p\";s:9:\"/home/old\";}",
            "n|i:1;o|O:8:\"stdClass\":1:{s:4:\"\0*\0p\";s:8:\"/srv/nö\";}",
            "session with an object",
        ),
        ("a=1\nb=s:9:\"/home/old\";\nc=/home/old\n", "a=1\nb=s:8:\"/srv/nö\";\nc=/srv/nö\n", "ini lines"),
        ("k|/home/old|x|http://old.example/s", "k|/srv/nö|x|https://new.example:81", "pipes"),
        (
            "<!-- block {\"u\":\"http:\\/\\/old.example\\/s\",\"x\":\"s:9:\\\"\\/home\\/old\\\";\"} --><p>",
            "<!-- block {\"u\":\"https:\\/\\/new.example:81\",\"x\":\"s:8:\\\"\\/srv\\/nö\\\";\"} --><p>",
            "block markup",
        ),
    ];
    for (before, after, why) in pairs {
        assert_eq!(String::from_utf8_lossy(&rewritten(before.as_bytes()).0), after, "{why}");
    }
    let broken =
        "a|s:20:\"http://old.example/s\";b|s:99:\"http://old.example/s\";c|s:20:\"http://old.example/s\";";
    let (out, kept) = rewritten(broken.as_bytes());
    assert!(
        String::from_utf8_lossy(&out).starts_with("a|s:22:\"https://new.example:81\";b|s:99:\"http://old")
    );
    assert_eq!(kept.left, [LeftReason::BrokenSerialized; 2], "all behind the broken piece is left");
}

#[test]
fn lengths_counted_in_another_charset_are_kept_in_it() {
    // PHP saw latin1, the dump is UTF-8: one byte for the letter.
    check(
        "s:22:\"http://old.example/s/é\";",
        "s:24:\"https://new.example:81/é\";",
        "other charset > serialized",
    );
    // PHP saw UTF-8, the dump is latin1: two bytes for the letter.
    let (out, _) = rewritten(b"s:23:\"http://old.example/s/\xe9\";");
    assert_eq!(out, b"s:25:\"https://new.example:81/\xe9\";");
    let (out, kept) = rewritten("s:21:\"http://old.example/s/é\";".as_bytes());
    assert_eq!((out.len(), &kept.left[..]), (31, &[LeftReason::BrokenSerialized][..]), "fits in neither");
}

#[test]
fn wrong_lengths_are_repaired_only_when_asked() {
    let repairing =
        Replacements::asking(&pairs(), &[], RewriteOptions { repair: true, ..RewriteOptions::default() });
    let mut kept = Kept::default();
    for (before, after) in [
        (r#"a:1:{i:0;s:5:"see http://old.example/s";}"#, r#"a:1:{i:0;s:26:"see https://new.example:81";}"#),
        (r#"a:1:{i:0;s:5:"https://new.example";}"#, r#"a:1:{i:0;s:19:"https://new.example";}"#),
        (r#"a:2:{i:0;s:5:"https://new.example";}"#, r#"a:2:{i:0;s:5:"https://new.example";}"#),
    ] {
        let edits = edits_of_hit(&repairing, before.as_bytes(), false, &mut kept);
        assert_eq!(String::from_utf8_lossy(&apply(before.as_bytes(), &edits)), after);
    }
}

#[test]
fn binary_is_not_touched_and_hostile_nesting_ends() {
    let jpeg = b"\xff\xd8\xff\xe1\0\x10Exif\0\0http://old.example/s\0\xff\xda";
    let (out, kept) = rewritten(jpeg);
    assert_eq!((&out[..], &kept.left[..]), (&jpeg[..], &[LeftReason::Binary][..]));
    let url = "http://old.example/s";
    let deep = (0..40).fold(url.to_string(), |v, _| format!("s:{}:\"{v}\";", v.len()));
    assert_eq!(rewritten(deep.as_bytes()).1.left, [LeftReason::TooDeep]);
    for hostile in ["%25", "&amp;quot;", "\\\\\"", "{\"a\":[", "s:1:\"", "a:1:{", "[{"] {
        let text = format!("{}{url}{}", hostile.repeat(20_000), hostile.repeat(20_000));
        let _ = rewritten(text.as_bytes());
    }
}

/// A value as a tree, from which both the text and the expected text are made.
#[derive(Debug, Clone)]
enum Tree {
    Text(String),
    Serialized(Vec<Tree>),
    Json(Vec<Tree>),
}

impl Tree {
    /// Writes the value; `leaf` says what becomes of each innermost text.
    fn write(&self, leaf: &dyn Fn(&str) -> String) -> String {
        match self {
            Tree::Text(t) => leaf(t),
            Tree::Serialized(items) => {
                let body: String = items
                    .iter()
                    .enumerate()
                    .map(|(i, t)| {
                        let t = t.write(leaf);
                        format!("i:{i};s:{}:\"{t}\";", t.len())
                    })
                    .collect();
                format!("a:{}:{{{body}}}", items.len())
            }
            Tree::Json(items) => {
                let body: Vec<String> = items
                    .iter()
                    .map(|t| serde_json::to_string(&t.write(leaf)).unwrap().replace('/', "\\/"))
                    .collect();
                format!("[{}]", body.join(","))
            }
        }
    }
}

fn trees() -> impl Strategy<Value = Tree> {
    let piece = prop_oneof![
        Just("http://old.example/s"),
        Just("//old.example/s/"),
        Just("/home/old"),
        Just("http://old.example/shop"),
        Just(" "),
        Just("é"),
        Just("\""),
        Just("x\ny"),
        Just("@old.example"),
        Just("\u{1F52D}"),
        Just("plain"),
    ];
    let leaf = proptest::collection::vec(piece, 0..6).prop_map(|p| Tree::Text(p.join(" ")));
    leaf.prop_recursive(4, 24, 3, |inner| {
        prop_oneof![
            proptest::collection::vec(inner.clone(), 0..3).prop_map(Tree::Serialized),
            proptest::collection::vec(inner, 0..3).prop_map(Tree::Json),
        ]
    })
}

/// Replacement in plain text, done the slow and obvious way for the few forms that `trees` makes.
fn naive(text: &str) -> String {
    text.split(' ')
        .map(|w| match w {
            "http://old.example/s" => "https://new.example:81",
            "//old.example/s/" => "//new.example:81/",
            "/home/old" => "/srv/nö",
            other => other,
        })
        .collect::<Vec<_>>()
        .join(" ")
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 4000, ..ProptestConfig::default() })]
    #[test]
    fn any_mixture_equals_leafwise_replacement_and_twice_equals_once(tree in trees()) {
        let before = tree.write(&|t| t.to_string());
        let expected = tree.write(&|t| naive(t));
        let (out, _) = rewritten(before.as_bytes());
        prop_assert_eq!(String::from_utf8_lossy(&out), expected);
        prop_assert_eq!(&rewritten(&out).0, &out);
    }

    #[test]
    fn a_value_without_needle_is_identical(bytes in proptest::collection::vec(any::<u8>(), 0..200)) {
        prop_assert_eq!(rewritten(&bytes).0, bytes);
    }
}
