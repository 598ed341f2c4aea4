//! One dump by every way that the rewriter has: rows cut by the pass's bits or by the scanner, values edited in the raw string or behind
//! their escapes, chunks of any size. All come to the same bytes and the same counts.

use proptest::prelude::*;
use std::collections::BTreeMap;
use zporter_rewrite::dump::dialect::Dialect;
use zporter_rewrite::dump::rules::{Keep, RowSetting, Rules};
use zporter_rewrite::dump::spread::rewrite;
use zporter_rewrite::dump::stream::{Source, WINDOW};
use zporter_rewrite::dump::tally::Tally;
use zporter_rewrite::place::{Address, Pairs, Root};
use zporter_rewrite::text::replacements::Replacements;

/// What a column came to, samples aside.
type Counts = BTreeMap<(String, String), (u64, u64, Vec<(String, u64)>, u64)>;

fn counts(tally: &Tally) -> Counts {
    let column = |(table, name, c): (&str, &str, &zporter_rewrite::dump::tally::ColumnTally)| {
        let nestings = c.by_nesting.iter().map(|(n, k)| (n.clone(), *k)).collect();
        ((table.to_string(), name.to_string()), (c.seen, c.changed, nestings, c.left.values().sum()))
    };
    tally.columns().map(column).collect()
}

fn replacements() -> Replacements {
    let address = |t: &str| Address::parse(t).unwrap();
    let root = |t: &str| Root::parse(t).unwrap();
    let pairs = Pairs {
        addresses: vec![(address("http://old.example/s"), address("https://new.example"))],
        roots: vec![(root("/home/old"), root("/srv/new"))],
    };
    Replacements::new(&pairs, &[])
}

/// Rewrites a dump. `every` asks for a value of the table that no row has, so that each row is cut by the scanner.
fn by(
    dump: &[u8],
    replacements: &Replacements,
    samples: usize,
    every: bool,
    window: usize,
) -> (String, Counts) {
    let never = RowSetting {
        table: "t".into(),
        column: "c1".into(),
        only: vec![("c1".into(), "never so".into())],
        value: b"never".to_vec(),
        within: Vec::new(),
    };
    let settings = if every { vec![never] } else { Vec::new() };
    let rules = Rules { samples, settings, ..Rules::new(replacements, &|_| Keep::All) };
    let source = Source::new(dump, window, Some(Dialect::Mysql)).unwrap();
    let (out, done, _) = rewrite(source, &rules, Vec::new()).unwrap();
    (String::from_utf8_lossy(&out).into_owned(), counts(&done.tally))
}

/// PlannedSettings a text into a serialized array, with the length that it means.
fn serialized(text: &str) -> String {
    format!("a:2:{{s:1:\"u\";s:{}:\"{text}\";i:0;d:0.5;}}", text.len())
}

fn json(text: &str, slashes: bool) -> String {
    let out = serde_json::json!({ "u": text, "n": [1, null] }).to_string();
    if slashes { out.replace('/', "\\/") } else { out }
}

/// Texts with and without what is looked for.
fn texts() -> impl Strategy<Value = String> {
    let pieces = [
        "http://old.example/s/x",
        "https://OLD.example/s",
        "//old.example/s?a",
        "http://old.example/shop",
        "mail@old.example",
        "https://me:pw@old.example/s/x",
        "/home/old/a",
        "it's",
        "<a href=\"",
        "\">",
        "50% & more",
        "\n",
        "caf\u{e9} ",
        "{\"",
        "a:1:",
        "the night sky over the dome is dark and clear, and so it was all week ",
        "",
    ];
    proptest::collection::vec(proptest::sample::select(pieces.to_vec()), 0..5).prop_map(|p| p.concat())
}

/// Values of a row, spelled as programs spell them.
fn values() -> impl Strategy<Value = String> {
    (texts(), 0..12).prop_map(|(text, kind)| {
        let quoted =
            |t: &str| format!("'{}'", t.replace('\\', "\\\\").replace('\'', "\\'").replace('\n', "\\n"));
        let all = |t: &str| quoted(t).replace('"', "\\\"");
        match kind {
            0..=2 => quoted(&text),
            3 => all(&text),
            // Doubled quotes, as some programs write them.
            4 => format!("'{}'", text.replace('\\', "\\\\").replace('\'', "''")),
            5 => all(&serialized(&text)),
            6 => quoted(&serialized(&json(&text, true))),
            7 => all(&json(&text, false)),
            8 => all(&json(&text, true)),
            9 => format!("_binary {}", quoted(&text)),
            10 => format!("0x{}", text.bytes().map(|b| format!("{b:02X}")).collect::<String>() + "00"),
            _ => "NULL".into(),
        }
    })
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 1_500, ..ProptestConfig::default() })]

    #[test]
    fn every_way_comes_to_the_same(
        rows in proptest::collection::vec(proptest::collection::vec(values(), 3), 1..6),
        call in proptest::bool::weighted(0.1), gap in proptest::sample::select(&[",", ",\n", ", "][..]), window in 8usize..600,
    ) {
        let row = |values: &Vec<String>| format!("({})", values.join(","));
        let mut rows: Vec<String> = rows.iter().map(row).collect();
        if call {
            rows.push("(1,CONCAT('http://old.example/s','/y'),-1.5e3)".into());
        }
        let dump = format!(
            "CREATE TABLE `t` (`c1` text, `c2` text, `c3` text);\nINSERT INTO `t` VALUES {};\n-- http://old.example/s\n",
            rows.join(gap)
        );
        let replacements = replacements();
        let first = by(dump.as_bytes(), &replacements, 0, false, WINDOW);
        for (samples, every, window) in [(0, true, WINDOW), (usize::MAX, false, WINDOW), (usize::MAX, true, WINDOW), (0, false, window), (1, false, window)] {
            let other = by(dump.as_bytes(), &replacements, samples, every, window);
            prop_assert_eq!(&other.0, &first.0, "{} samples, every row {}, window {}", samples, every, window);
            prop_assert_eq!(&other.1, &first.1, "{} samples, every row {}, window {}", samples, every, window);
        }
    }
}

#[test]
fn samples_are_the_first_ones_whatever_the_chunks() {
    let row = |i: usize| format!("({i},'http://old.example/s/{i} {}','x')", "dark sky ".repeat(i % 7));
    let rows: Vec<String> = (0..300).map(row).collect();
    let dump = format!(
        "CREATE TABLE `t` (`c1` int, `c2` text, `c3` text);\nINSERT INTO `t` VALUES {};\n",
        rows.join(",")
    );
    let replacements = replacements();
    let samples = |window| {
        let rules = Rules { samples: 2, ..Rules::new(&replacements, &|_| Keep::All) };
        let source = Source::new(dump.as_bytes(), window, Some(Dialect::Mysql)).unwrap();
        let (_, done, _) = rewrite(source, &rules, Vec::new()).unwrap();
        let column = done.tally.tables["t"].columns["c2"].clone();
        (column.samples.iter().map(|s| s.after.trim().to_string()).collect::<Vec<_>>(), column.changed)
    };
    let whole = samples(WINDOW);
    assert_eq!(whole.1, 300);
    assert!(
        whole.0[0].starts_with("https://new.example/0") && whole.0[1].starts_with("https://new.example/1"),
        "{whole:?}"
    );
    for window in [64, 500, 4096] {
        assert_eq!(samples(window), whole, "window {window}");
    }
}
