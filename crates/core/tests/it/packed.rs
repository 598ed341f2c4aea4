//! Compressed values in every dialect's spelling: noticed where nothing is known of them, moved where a rule says how they are packed.

use crate::test_support::pairs;
use data_encoding::HEXLOWER;
use zporter_core::dump::dialect::Dialect;
use zporter_core::dump::rules::{Cell, Keep, PackedColumn, Rewritten, Rules};
use zporter_core::dump::spread::rewrite;
use zporter_core::dump::stream::{Source, WINDOW};
use zporter_core::place::{Address, AddressForm, Place, Relocation, Root};
use zporter_core::text::packed::{Packing, Unpacked};
use zporter_core::text::replacements::{LeftReason, Replacements};
use zporter_core::trace::{Sure, Tracer};

const OLD: &str = "see <a href=\"http://old.example/a\">a</a> and s:20:\"http://old.example/a\";";
const NEW: &str = "see <a href=\"http://brandnew.example/a\">a</a> and s:25:\"http://brandnew.example/a\";";
const SIGNED: [Packing; 3] = [Packing::Zlib, Packing::Gzip, Packing::Counted];

fn replacements() -> Replacements {
    Replacements::new(&pairs(&[("http://old.example", "http://brandnew.example")], &[]), &[])
}

/// Spells bytes as MySQL's client does inside of quotes.
fn quoted(bytes: &[u8]) -> Vec<u8> {
    let escaped = bytes.iter().flat_map(|b| match b {
        0 => b"\\0".to_vec(),
        b'\n' => b"\\n".to_vec(),
        b'\r' => b"\\r".to_vec(),
        b'\'' | b'"' | b'\\' => vec![b'\\', *b],
        0x1a => b"\\Z".to_vec(),
        b => vec![*b],
    });
    [b'\''].into_iter().chain(escaped).chain([b'\'']).collect()
}

/// The value in each spelling, with what comes before and after it in a dump of that dialect.
fn dumps(value: &[u8], flags: &str) -> Vec<(Dialect, Vec<u8>)> {
    let hex = HEXLOWER.encode(value);
    let around = |start: &str, value: &[u8], end: &str| [start.as_bytes(), value, end.as_bytes()].concat();
    let end = format!(",'{flags}'),(2,'x','none');\n");
    let insert = |value: &[u8]| around("INSERT INTO t (id,v,f) VALUES (1,", value, &end);
    let copy = format!("COPY public.t (id, v, f) FROM stdin;\n1\t\\\\x{hex}\t{flags}\n\\.\n");
    vec![
        (Dialect::Mysql, insert(&quoted(value))),
        (Dialect::Mysql, insert(&[b"_binary ", &quoted(value)[..]].concat())),
        (Dialect::Mysql, insert(format!("0x{hex}").as_bytes())),
        (Dialect::Sqlite, insert(format!("X'{hex}'").as_bytes())),
        (Dialect::SqlServer, insert(format!("0x{hex}").as_bytes())),
        (Dialect::Postgres, insert(format!("'\\x{hex}'").as_bytes())),
        (Dialect::Postgres, copy.into_bytes()),
    ]
}

/// A line by which a dump's dialect is told.
fn sign(dialect: Dialect) -> &'static [u8] {
    match dialect {
        Dialect::Postgres => b"-- PostgreSQL database dump\n",
        Dialect::Sqlite => b"PRAGMA foreign_keys=OFF;\n",
        _ => b"-- dump\n",
    }
}

fn run(dump: &[u8], dialect: Dialect, packed: Vec<PackedColumn>) -> (Vec<u8>, Rewritten) {
    let replacements = replacements();
    let rules = Rules { samples: 2, packed, ..Rules::new(&replacements, &|_| Keep::All) };
    let (out, done, _) =
        rewrite(Source::new(dump, WINDOW, Some(dialect)).unwrap(), &rules, Vec::new()).unwrap();
    (out, done)
}

fn column(how: Packing) -> PackedColumn {
    PackedColumn { table: "t".into(), column: "v".into(), how, flags: Some(("f".into(), "packed".into())) }
}

#[test]
fn what_is_compressed_is_noticed_if_it_names_the_old_place() {
    for how in SIGNED {
        for (dialect, dump) in dumps(&how.pack(OLD.as_bytes()).unwrap(), "packed") {
            let (out, done) = run(&dump, dialect, Vec::new());
            assert_eq!(out, dump);
            assert_eq!(done.tally.left().get(&LeftReason::Packed), Some(&2), "{how:?} {dialect:?}");
            // A trace says where. SQL Server's scripts are told by signs that this one has not.
            if dialect != Dialect::SqlServer {
                let mut tracer = Tracer::new(&[Address::parse("http://old.example").unwrap()], &[], 10);
                tracer.dump("d.sql", &[sign(dialect), &dump].concat()[..]).unwrap();
                let traced = tracer.finish();
                let found = traced.found.first().unwrap_or_else(|| panic!("{how:?} {dialect:?}"));
                assert_eq!(
                    (found.sure, found.nesting.as_str()),
                    (Sure::Certain, "compressed"),
                    "{how:?} {dialect:?}"
                );
            }
        }
        // The same in base64, as caches keep it.
        let wrapped = data_encoding::BASE64.encode(&how.pack(OLD.as_bytes()).unwrap());
        for (dialect, dump) in dumps(wrapped.as_bytes(), "packed").into_iter().take(2) {
            let (out, done) = run(&dump, dialect, Vec::new());
            let noticed = if how == Packing::Counted { None } else { Some(&2) };
            assert_eq!((out, done.tally.left().get(&LeftReason::Packed)), (dump, noticed), "{how:?}");
        }
        for (dialect, dump) in dumps(&how.pack(b"nothing to see").unwrap(), "packed") {
            let (out, done) = run(&dump, dialect, Vec::new());
            assert_eq!((out, done.tally.left().len()), (dump, 0), "{how:?} {dialect:?}");
        }
    }
}

#[test]
fn what_is_declared_compressed_moves_with_the_lengths_inside() {
    let all = SIGNED.into_iter().chain([Packing::Deflate]);
    for how in all {
        let (old, new) = (how.pack(OLD.as_bytes()).unwrap(), how.pack(NEW.as_bytes()).unwrap());
        for ((dialect, dump), (_, expected)) in
            dumps(&old, "a, packed").into_iter().zip(dumps(&new, "a, packed"))
        {
            let (out, done) = run(&dump, dialect, vec![column(how)]);
            assert!(out == expected, "{how:?} {dialect:?}: {}", String::from_utf8_lossy(&out));
            let tally = &done.tally.tables.values().next().unwrap().columns["v"];
            assert_eq!((tally.changed, done.tally.left().len()), (1, 0), "{:?}", tally.by_nesting);
            assert!(tally.by_nesting.keys().all(|n| n.starts_with("compressed")));
        }
        // Without its flag a value is none.
        for (dialect, dump) in dumps(&old, "other") {
            assert_eq!(run(&dump, dialect, vec![column(how)]).0, dump);
        }
        // What breaks off is left and said.
        for (dialect, dump) in dumps(&old[..old.len() - 4], "packed") {
            let (out, done) = run(&dump, dialect, vec![column(how)]);
            assert_eq!((out, done.tally.left().get(&LeftReason::Packed)), (dump, Some(&1)), "{how:?}");
        }
    }
    assert_eq!(Packing::Zlib.unpack(b""), Unpacked::Part(Vec::new()));
}

#[test]
fn declared_links_follow_and_the_rest_of_their_value_too() {
    let place = |address: &str| Place {
        address: Address::parse(address).unwrap(),
        root: Root::parse("/srv/a").unwrap(),
        database: None,
    };
    let cell = |column: &str, within: &[&str]| Cell {
        table: "t".into(),
        column: column.into(),
        key: None,
        form: AddressForm::Reference,
        beside_host: None,
        stays: None,
        tail: false,
        unique: false,
        within: within.iter().map(|k| k.to_string()).collect(),
    };
    for (from, to, links) in [
        ("/shop", "/store", ["/shop/a", "/store/a"]),
        ("", "/store", ["/a", "/store/a"]),
        ("/shop", "", ["/shop/a", "/a"]),
    ] {
        let relocation = Relocation {
            from: place(&format!("http://old.example{from}")),
            aliases: vec![],
            other_roots: vec![],
            further: vec![],
            outside: vec![],
            to: place(&format!("http://new.example{to}")),
        };
        let dump = |link: &str, address: &str| {
            let json = serde_json::json!({ "url": link, "title": "/shop/a", "more": { "url": address } });
            let array = format!(
                "a:2:{{s:4:\"link\";s:{}:\"{link}\";i:0;s:{}:\"{address}\";}}",
                link.len(),
                address.len()
            );
            let json = json.to_string().replace('/', "\\\\/").replace('"', "\\\"");
            format!("INSERT INTO t (id,l,j,s) VALUES (1,'{link}','{json}','{array}'),(2,'','','');\n")
        };
        let replacements = Replacements::new(&relocation.pairs(), &[]);
        let cells = vec![cell("l", &[]), cell("j", &["url"]), cell("s", &["link"])];
        let rules =
            Rules { cells, relocation: Some(&relocation), ..Rules::new(&replacements, &|_| Keep::All) };
        let old = dump(links[0], &format!("http://old.example{}", links[0]));
        let source = Source::new(old.as_bytes(), WINDOW, None).unwrap();
        let (out, _, _) = rewrite(source, &rules, Vec::new()).unwrap();
        let new = dump(links[1], &format!("http://new.example{}", links[1]));
        assert_eq!(String::from_utf8_lossy(&out), new);
    }
}
