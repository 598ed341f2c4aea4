//! Nested values against a naive reference: decode everything, replace in the leaves, encode again.

use super::*;
use crate::edit::apply;
use crate::place::{Address, Pairs, Root};
use proptest::prelude::*;

#[derive(Default)]
struct Kept {
    changed: Vec<(String, usize)>,
    left: Vec<LeftReason>,
}

impl Notes for Kept {
    fn changed(&mut self, nesting: &str, count: usize) {
        self.changed.push((nesting.to_string(), count));
    }
    fn left(&mut self, reason: LeftReason, _: &[u8]) {
        self.left.push(reason);
    }
}

fn needles() -> Needles {
    Needles::new(
        &Pairs {
            addresses: vec![(
                Address::parse("http://old.example/s").unwrap(),
                Address::parse("https://new.example:81").unwrap(),
            )],
            roots: vec![(Root::parse("/home/old").unwrap(), Root::parse("/srv/nö").unwrap())],
        },
        &[],
    )
}

fn rewritten(value: &[u8]) -> (Vec<u8>, Kept) {
    let mut kept = Kept::default();
    let edits = edits(&needles(), value, &mut kept);
    (apply(value, &edits), kept)
}

#[track_caller]
fn check(before: &str, after: &str, nesting: &str) {
    let (out, kept) = rewritten(before.as_bytes());
    assert_eq!(String::from_utf8_lossy(&out), after);
    assert_eq!(kept.changed.first().map_or("-", |(n, _)| n), nesting);
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
    check(r#"<p data-x='{"u":"\/home\/old\/x"}'>"#, r#"<p data-x='{"u":"\/srv\/nö\/x"}'>"#, "text");
}

#[test]
fn broken_and_foreign_values_are_left_and_said() {
    let broken = r#"a:1:{i:0;s:21:"http://old.example/s";}"#;
    let (out, kept) = rewritten(broken.as_bytes());
    assert_eq!(out, broken.as_bytes());
    assert_eq!(kept.left, [LeftReason::BrokenSerialized]);
    let (_, kept) = rewritten(b"mail office@old.example or see old.example, not sub.old.example");
    assert_eq!(kept.left, [LeftReason::Email, LeftReason::BareHost, LeftReason::LookAlike]);
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
