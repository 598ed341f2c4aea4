//! Rewriting, splitting and measuring dumps: properties that hold for every input and every way of cutting it.

use proptest::prelude::*;
use std::collections::BTreeSet;
use std::io::Read;
use zporter_core::contents::split::{Split, Splitter};
use zporter_core::dump::dialect::Dialect;
use zporter_core::dump::inspect::{Wanted, inspect};
use zporter_core::dump::rules::{Cell, DatabaseMove, Keep, Rewritten, Rules};
use zporter_core::dump::spread::{rewrite, rewrite_on};
use zporter_core::dump::stream::{DumpError, Source, WINDOW, run};
use zporter_core::place::{Address, AddressForm, Pairs, Place, Relocation, Root};
use zporter_core::text::replacements::{LeftReason, Replacements};
use zporter_standin::{Site, VARIANTS, Variant};

fn relocation(from: &str, to: &str) -> Relocation {
    let place = |a: &str, r: &str| Place {
        address: Address::parse(a).unwrap(),
        root: Root::parse(r).unwrap(),
        database: None,
    };
    Relocation {
        from: place(from, "/home/old"),
        aliases: vec![],
        other_roots: vec![],
        further: vec![],
        outside: vec![],
        to: place(to, "/srv/new"),
    }
}

/// Rewrites with an initial window of the given size, reading a few bytes at a time.
fn rewritten(
    dump: &[u8],
    relocation: &Relocation,
    cells: Vec<Cell>,
    leave: &str,
    window: usize,
) -> (Vec<u8>, Rewritten) {
    let replacements = Replacements::new(&relocation.pairs(), &[]);
    let keep = |t: &str| if t == leave { Keep::Structure } else { Keep::All };
    let mut rules = rules(&replacements, &keep);
    rules.relocation = Some(relocation);
    rules.cells = cells;
    rules.strip_definers = true;
    let source = Source::new(Dribble(dump), window, None).unwrap();
    let (out, done, _) = rewrite(source, &rules, Vec::new()).unwrap();
    (out, done)
}

/// Rules that ask for nothing but the replacements.
fn rules<'a>(replacements: &'a Replacements, keep: &'a (dyn Fn(&str) -> Keep + Sync)) -> Rules<'a> {
    Rules { samples: 2, ..Rules::new(replacements, keep) }
}

/// Gives seven bytes at a time.
struct Dribble<'a>(&'a [u8]);

impl Read for Dribble<'_> {
    fn read(&mut self, buf: &mut [u8]) -> std::io::Result<usize> {
        let n = self.0.len().min(7).min(buf.len());
        buf[..n].copy_from_slice(&self.0[..n]);
        self.0 = &self.0[n..];
        Ok(n)
    }
}

fn statement() -> impl Strategy<Value = String> {
    let value = prop_oneof![
        Just("'http://old.example/s'"),
        Just("'it''s /home/old'"),
        Just(r"'\\\'); //old.example'"),
        Just("NULL"),
        Just("-1.5"),
        Just("0x2F686F6D652F6F6C64"),
        Just("_binary 'a\\0b'"),
        Just("'s:9:\\\"/home/old\\\";'"),
        Just("\"dq ; ( '\""),
        Just("''"),
        Just("NOW()"),
    ];
    let row = proptest::collection::vec(value, 1..4).prop_map(|v| format!("({})", v.join(",")));
    let rows = proptest::collection::vec(row, 1..4).prop_map(|r| r.join(",\n"));
    prop_oneof![
        5 => (prop_oneof![Just("a"), Just("`b`"), Just("`c``d`")], rows).prop_map(|(t, r)| format!("INSERT INTO {t} VALUES {r};\n")),
        1 => Just("CREATE TABLE a (x int, y text COMMENT 'see /home/old');\r\n".to_string()),
        1 => Just("-- it's a comment; 'http://old.example\n".to_string()),
        1 => Just("/*!40101 SET NAMES utf8 */;\n/* ; ' */\n".to_string()),
        1 => Just("DELIMITER $$\nCREATE TRIGGER t BEFORE INSERT ON a FOR EACH ROW BEGIN SET @x='/home/old'; END$$\nDELIMITER ;\n".to_string()),
        1 => Just("# old style ' comment\nLOCK TABLES a WRITE;\n".to_string()),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, ..ProptestConfig::default() })]

    #[test]
    fn the_window_and_the_cuts_do_not_matter(parts in proptest::collection::vec(statement(), 0..8), window in 8usize..200) {
        let dump = parts.concat();
        let relocation = relocation("http://old.example", "https://new.example/b");
        let whole = rewritten(dump.as_bytes(), &relocation, vec![], "", WINDOW);
        let cut = rewritten(dump.as_bytes(), &relocation, vec![], "", window);
        prop_assert_eq!(String::from_utf8_lossy(&whole.0), String::from_utf8_lossy(&cut.0));
        prop_assert_eq!(whole.1.tally, cut.1.tally);
        // Twice equals once: the new text names nothing old.
        prop_assert_eq!(&rewritten(&whole.0, &relocation, vec![], "", WINDOW).0, &whole.0);
    }

    #[test]
    fn a_dump_without_needle_is_identical(parts in proptest::collection::vec(statement(), 0..8), tail in proptest::collection::vec(any::<u8>(), 0..60)) {
        let dump = [parts.concat().into_bytes(), tail].concat();
        let relocation = relocation("http://nowhere.example", "https://new.example/b");
        let elsewhere = Relocation { from: Place { root: Root::parse("/not/there").unwrap(), ..relocation.from }, ..relocation };
        prop_assert_eq!(rewritten(&dump, &elsewhere, vec![], "", 64).0, dump);
    }

    #[test]
    fn splitting_loses_no_row(parts in proptest::collection::vec(statement(), 0..10)) {
        let dump = parts.concat();
        let before = inspect(dump.as_bytes(), &[], false).unwrap();
        let folder = tempfile::tempdir().unwrap();
        let nothing = BTreeSet::new();
        let split = split(dump.as_bytes(), folder.path(), &nothing);
        let mut rows = 0;
        for part in &split.parts {
            let mut text = Vec::new();
            part.open().unwrap().read_to_end(&mut text).unwrap();
            prop_assert_eq!(text.len() as u64, part.bytes);
            let found = inspect(&text[..], &[], false).unwrap();
            prop_assert!(found.cut_off.is_none());
            prop_assert!(found.tables.len() <= 1, "one table per part");
            rows += found.tables.values().map(|t| t.rows).sum::<u64>();
        }
        prop_assert_eq!(rows, before.tables.values().map(|t| t.rows).sum::<u64>());
    }
}

fn split(dump: &[u8], folder: &std::path::Path, without: &BTreeSet<String>) -> Split {
    let mut splitter = Splitter::new(folder, without);
    run(dump, WINDOW, &mut splitter).unwrap();
    splitter.finish().unwrap()
}

fn cell(column: &str, form: AddressForm, key: Option<(&str, &[&str])>, beside: Option<&str>) -> Cell {
    Cell {
        table: "t".into(),
        column: column.into(),
        key: key.map(|(k, v)| (k.to_string(), v.iter().map(ToString::to_string).collect())),
        form,
        beside_host: beside.map(str::to_string),
        stays: None,
        tail: false,
        unique: false,
        within: Vec::new(),
    }
}

#[test]
fn cells_are_computed_in_their_form_and_others_are_left() {
    let relocation = relocation("https://old.example/s", "http://new.example:81");
    let rows: [(AddressForm, &str, &str); 9] = [
        (AddressForm::Host, "old.example", "new.example:81"),
        (AddressForm::Hostname, "OLD.example", "new.example"),
        (AddressForm::HostBase, "old.example/s", "new.example:81"),
        (AddressForm::Url, "https://old.example/s", "http://new.example:81"),
        (AddressForm::Url, "http://old.example/s", "http://new.example:81"),
        (AddressForm::UrlSlash, "https://old.example/s/", "http://new.example:81/"),
        (AddressForm::BaseSlashes, "/s/", "/"),
        (AddressForm::BaseLeading, "/s", "/"),
        (AddressForm::BaseTrailing, "s/", ""),
    ];
    for (form, old, new) in rows {
        let dump = format!(
            "CREATE TABLE t (k text, v text);\nINSERT INTO t VALUES ('x','{old}'),('x','other.example'),('y','{old}');\n"
        );
        let cells = vec![cell("v", form, Some(("k", &["x"])), None)];
        let (out, done) = rewritten(dump.as_bytes(), &relocation, cells, "", WINDOW);
        let out = String::from_utf8(out).unwrap();
        assert!(out.contains(&format!("('x','{new}'),('x','other.example'),('y',")), "{form:?}: {out}");
        let told: Vec<_> =
            done.cells.iter().map(|c| (c.row.as_str(), c.old.as_str(), c.new.as_str())).collect();
        assert_eq!(told, [("k = x", old, new), ("k = x", "other.example", "other.example")]);
    }
}

#[test]
fn a_base_path_is_ours_only_beside_the_old_host() {
    let relocation = relocation("https://old.example", "http://new.example/b");
    let dump = "INSERT INTO t (host,base) VALUES ('old.example','/'),('kids.example','/'),(NULL,'/');";
    let cells = vec![
        cell("host", AddressForm::Host, None, None),
        cell("base", AddressForm::BaseSlashes, None, Some("host")),
    ];
    let (out, _) = rewritten(dump.as_bytes(), &relocation, cells, "", WINDOW);
    assert_eq!(
        out,
        b"INSERT INTO t (host,base) VALUES ('new.example','/b/'),('kids.example','/'),(NULL,'/');"
    );
}

#[test]
fn rows_of_a_table_may_be_left_out_and_are_counted() {
    let relocation = relocation("https://old.example", "http://new.example");
    let dump = "CREATE TABLE t (a int);\nINSERT INTO t VALUES (1),(2);\nINSERT INTO u VALUES (3);\nINSERT INTO t VALUES (4) ON DUPLICATE KEY UPDATE a=4;\n";
    let (out, done) = rewritten(dump.as_bytes(), &relocation, vec![], "t", WINDOW);
    assert_eq!(String::from_utf8(out).unwrap(), "CREATE TABLE t (a int);\nINSERT INTO u VALUES (3);\n");
    assert_eq!((done.tally.tables["t"].rows_left_out, done.tally.tables["u"].rows), (3, 1));
}

#[test]
fn the_tally_tells_seen_changed_left_and_samples() {
    let relocation = relocation("https://old.example", "http://new.example");
    let dump = "INSERT INTO t (a,b) VALUES ('https://old.example/x',1),('mail@old.example',2),('see old.example',3),(NULL,4),('plain',5);\n\
        INSERT INTO t (a,b) VALUES ('s:30:\"https://old.example\";',6);";
    let (_, done) = rewritten(dump.as_bytes(), &relocation, vec![], "", WINDOW);
    let column = &done.tally.tables["t"].columns["a"];
    assert_eq!((column.seen, column.changed, column.by_nesting["text"]), (6, 1, 1));
    let left: Vec<_> = column.left.iter().map(|(r, n)| (*r, *n)).collect();
    assert_eq!(left, [(LeftReason::BareHost, 1), (LeftReason::Email, 1), (LeftReason::BrokenSerialized, 1)]);
    assert_eq!(
        (column.samples[0].before.as_str(), column.samples[0].after.as_str()),
        ("https://old.example/x", "http://new.example/x")
    );
    assert!(!done.tally.tables["t"].columns.contains_key("b"), "numbers tell nothing");
}

#[test]
fn a_watched_password_is_counted_and_never_shown() {
    let relocation = relocation("https://old.example", "http://new.example");
    let replacements =
        Replacements::new(&relocation.pairs(), &[zporter_core::secret::Secret::new("fake-pass-9")]);
    let dump = b"INSERT INTO t (a) VALUES ('db=fake-pass-9 at https://old.example/');";
    let source = Source::new(&dump[..], WINDOW, None).unwrap();
    let (_, done, _) = rewrite(source, &rules(&replacements, &|_| Keep::All), Vec::new()).unwrap();
    let column = &done.tally.tables["t"].columns["a"];
    assert_eq!(column.left[&LeftReason::Password], 1);
    assert!(column.left_samples.is_empty());
}

#[test]
fn definers_go_and_the_rest_of_a_view_stays() {
    let relocation = relocation("https://old.example", "http://new.example");
    let dump = "/*!50001 CREATE ALGORITHM=UNDEFINED */\n/*!50013 DEFINER=`o``ld`@`%` SQL SECURITY DEFINER */\n/*!50001 VIEW `v` AS select 'https://old.example' AS `u` */;\n";
    let (out, done) = rewritten(dump.as_bytes(), &relocation, vec![], "", WINDOW);
    let expected = "/*!50001 CREATE ALGORITHM=UNDEFINED */\n/*!50013  SQL SECURITY DEFINER */\n/*!50001 VIEW `v` AS select 'http://new.example' AS `u` */;\n";
    assert_eq!((String::from_utf8(out).unwrap().as_str(), done.definers), (expected, 1));
}

#[test]
fn quoting_without_backslashes_is_respected() {
    let relocation = relocation("https://old.example", "http://new.example");
    let dump = "SET sql_mode='NO_BACKSLASH_ESCAPES';\nINSERT INTO t VALUES ('c:\\','https://old.example/\\');\nSET sql_mode='';\nINSERT INTO t VALUES ('\\'https://old.example');\n";
    let (out, _) = rewritten(dump.as_bytes(), &relocation, vec![], "", 16);
    assert_eq!(String::from_utf8(out).unwrap(), dump.replace("https://old.example", "http://new.example"));
}

#[test]
fn parts_of_a_split_carry_the_session_and_views_come_last() {
    let dump = "/*!40101 SET NAMES latin1 */;\nUSE `shop`;\nCREATE TABLE a (x int);\nINSERT INTO a VALUES (1);\n/*!50001 CREATE VIEW v AS SELECT 1 */;\n\
        CREATE TABLE b (x int);\nINSERT INTO b VALUES (2),(3);\nDELIMITER ;;\nCREATE TRIGGER g BEFORE INSERT ON a FOR EACH ROW BEGIN SET @a=1; END;;\nDELIMITER ;\n\
        ALTER TABLE a ADD PRIMARY KEY (x);\nGRANT ALL ON x TO y;\n";
    let folder = tempfile::tempdir().unwrap();
    let found = split(dump.as_bytes(), folder.path(), &BTreeSet::from(["b".to_string()]));
    let text = |i: usize| {
        let mut text = String::new();
        found.parts[i].open().unwrap().read_to_string(&mut text).unwrap();
        text
    };
    let head = "/*!40101 SET NAMES latin1 */;\n";
    assert_eq!(
        text(0),
        format!(
            "{head}CREATE TABLE a (x int);\nINSERT INTO a VALUES (1);\nALTER TABLE a ADD PRIMARY KEY (x);\n"
        )
    );
    assert_eq!(text(1), format!("{head}CREATE TABLE b (x int);\n"));
    assert!(
        text(2).contains("CREATE VIEW v") && text(2).contains("DELIMITER ;;\nCREATE TRIGGER g"),
        "{}",
        text(2)
    );
    assert_eq!((found.parts[1].rows, found.parts[1].rows_left_out), (0, 2));
    assert_eq!(found.databases, BTreeSet::from(["shop".to_string()]));
    assert_eq!(found.left_out, ["line 12: GRANT"]);
}

#[test]
fn wanted_rows_are_found_wherever_they_stand() {
    let rows: Vec<String> = (0..3000).map(|i| format!("({i},'KEY_{i}','v{i}')")).collect();
    let dump =
        format!("CREATE TABLE c (id int, name text, value text);\nINSERT INTO c VALUES {};", rows.join(","));
    let wanted = Wanted {
        table: "c".into(),
        columns: vec!["value".into(), "name".into(), "missing".into()],
        only: Some(("name".into(), "KEY_2999".into())),
    };
    let found = inspect(dump.as_bytes(), &[wanted], true).unwrap();
    assert_eq!(found.rows[0], [vec![Some("v2999".to_string()), Some("KEY_2999".into()), None]]);
    assert_eq!(found.tables["c"].rows, 3000);
}

#[test]
fn every_dialect_is_told_by_its_bytes() {
    for (start, dialect) in [
        (&b"--\n-- PostgreSQL database dump\n"[..], Dialect::Postgres),
        (b"PRAGMA foreign_keys=OFF;\nBEGIN TRANSACTION;\n", Dialect::Sqlite),
        (b"USE [x]\r\nGO\r\nINSERT [dbo].[T] ([a]) VALUES (N'x')\r\n", Dialect::SqlServer),
    ] {
        assert_eq!(inspect(start, &[], false).unwrap().dialect, Some(dialect));
    }
    let article =
        "x\nGO\nUSE [a]\nINSERT [dbo].[T] ([a]) VALUES (N'b', N'c')\nGO\nSET IDENTITY_INSERT [dbo].[T] ON\n"
            .repeat(9);
    let about = format!(
        "CREATE TABLE `posts` (`a` text);\n-- {}\nINSERT INTO `posts` VALUES ('{}');\n",
        "x".repeat(3000),
        article.replace('\'', "''")
    );
    assert_eq!(
        inspect(about.as_bytes(), &[], false).unwrap().tables["posts"].rows,
        1,
        "an article about another dialect"
    );
    assert!(matches!(inspect(&b"SQLite format 3\0..."[..], &[], false), Err(DumpError::DatabaseFile)));
}

#[test]
fn the_number_of_threads_changes_nothing() {
    let relocation = relocation("https://old.example", "http://new.example/b");
    let replacements = Replacements::new(&relocation.pairs(), &[]);
    let keep = |t: &str| if t == "t3" { Keep::Structure } else { Keep::All };
    let rules = rules(&replacements, &keep);
    let mut dump = String::new();
    for i in 0..4000 {
        let url = if i % 3 == 0 { "https://old.example/x" } else { "elsewhere" };
        dump.push_str(&format!("INSERT INTO t{} VALUES ({i},'{url}','s:21:\"https://old.example/x\";'),(0x2F686F6D652F6F6C64,'{i}','');\n", i % 7));
    }
    let source = || Source::new(dump.as_bytes(), 3000, None).unwrap();
    let (one, done, _) = rewrite(source(), &rules, Vec::new()).unwrap();
    for threads in [2, 3, 8] {
        let (many, again, ending) = rewrite_on(threads, source(), &rules, Vec::new()).unwrap();
        assert_eq!(many, one);
        assert_eq!((again.tally, ending.bytes), (done.tally.clone(), dump.len() as u64));
    }
    assert_eq!((done.tally.rows(), done.tally.tables["t3"].rows_left_out), (6858, 1142));
    struct Full;
    impl std::io::Write for Full {
        fn write(&mut self, _: &[u8]) -> std::io::Result<usize> {
            Err(std::io::Error::other("full"))
        }
        fn flush(&mut self) -> std::io::Result<()> {
            Ok(())
        }
    }
    assert!(matches!(rewrite_on(2, source(), &rules, Full), Err(DumpError::Write(_))));
}

#[test]
fn every_stand_ins_dump_moves_there_and_back() {
    for variant in VARIANTS {
        let site = Site::of(variant);
        let pair = |a: &str, b: &str, ra: &str, rb: &str| {
            let address = |t: &str| Address::parse(t).unwrap();
            let root = |t: &str| Root::parse(t).unwrap();
            Pairs { addresses: vec![(address(a), address(b))], roots: vec![(root(ra), root(rb))] }
        };
        let (new, new_root) = ("https://elsewhere.example:8443/deep/er", "/srv/räume/neu");
        let through = |dump: &str, pairs: &Pairs| {
            let replacements = Replacements::new(pairs, &[]);
            let source = Source::new(dump.as_bytes(), WINDOW, None).unwrap();
            let (out, done, _) = rewrite(source, &rules(&replacements, &|_| Keep::All), Vec::new()).unwrap();
            (String::from_utf8(out).unwrap(), done.tally.changed())
        };
        let before = site.dump();
        let (there, changed) = through(&before, &pair(&site.address, new, &site.root, new_root));
        let (back, again) = through(&there, &pair(new, &site.address, new_root, &site.root));
        assert!(changed > 1 && changed == again, "{variant:?}: {changed} there, {again} back");
        // A shop's terms are linked with http; going back they get the scheme that was given.
        let expected = if site.address.starts_with("https:") {
            before.replace(&site.address.replace("https:", "http:"), &site.address)
        } else {
            before
        };
        assert_eq!(back, expected, "{variant:?}");
    }
    assert!(VARIANTS.contains(&Variant::Joomla5));
}

/// Pieces of dumps of the other dialects, whole statements each.
fn statement_of(dialect: Dialect) -> impl Strategy<Value = &'static str> {
    let all: &[&str] = match dialect {
        Dialect::Mysql => &[
            "INSERT INTO t SET a='http://old.example/s', b=0x2F686F6D652F6F6C64;\n",
            "/* it's */\n",
            "REPLACE INTO t VALUES (1,'/home/old');\n",
        ],
        Dialect::Postgres => &[
            "COPY public.t (a, b) FROM stdin;\nhttp://old.example/s\\tx\t\\N\n\\\\x2f686f6d652f6f6c64\ts:9:\"/home/old\";\n\\.\n",
            "INSERT INTO public.t VALUES (E'it\\'s http://old.example', '/home/old\\'), ('\\x2f686f6d652f6f6c64', $q$it's$q$);\n",
            "CREATE FUNCTION f() RETURNS text AS $_$ SELECT '/home/old'; $_$ LANGUAGE sql;\n",
            "-- it's /* no */ comment\n/* a /* b; */ ' */\n",
            "\\connect x\n",
        ],
        Dialect::Sqlite => &[
            "INSERT INTO t VALUES('http://old.example/s',X'2F686F6D652F6F6C64');\n",
            "INSERT INTO t VALUES(replace('it''s\\n/home/old\\n','\\n',char(10)),-1.5);\n",
            "CREATE TRIGGER g AFTER INSERT ON t BEGIN UPDATE t SET a='/home/old'; END;\n",
            "CREATE TABLE \"o;dd\" (a TEXT);\n",
        ],
        Dialect::SqlServer => &[
            "INSERT [dbo].[T] ([a], [b]) VALUES (N'http://old.example/s', 0x2F686F6D652F6F6C64)\r\n",
            "GO\r\n",
            "CREATE PROCEDURE p AS\r\nINSERT [T] ([a]) VALUES (N'/home/old'); SELECT N'GO'\r\nGO\r\n",
            "SET IDENTITY_INSERT [T] ON\r\n",
            "INSERT [T] ([a]) VALUES (N'it''s\r\nGO\r\n/home/old'), (NULL)\r\nGO\r\n",
        ],
    };
    proptest::sample::select(all)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 200, ..ProptestConfig::default() })]

    #[test]
    fn every_dialect_is_rewritten_alike_however_it_is_cut(
        (dialect, parts) in proptest::sample::select(&Dialect::ALL[..]).prop_flat_map(|d| (Just(d), proptest::collection::vec(statement_of(d), 1..8))),
        window in 8usize..200,
        tail in 0usize..12,
    ) {
        let dump = parts.concat();
        let dump = &dump[..dump.len() - tail.min(dump.len())];
        let relocation = relocation("http://old.example", "https://new.example/b");
        let replacements = Replacements::new(&relocation.pairs(), &[]);
        let through = |dump: &[u8], window| {
            let source = Source::new(Dribble(dump), window, Some(dialect)).unwrap();
            let (out, done, ending) = rewrite(source, &rules(&replacements, &|_| Keep::All), Vec::new()).unwrap();
            (String::from_utf8_lossy(&out).into_owned(), done.tally, ending.cut_off)
        };
        let whole = through(dump.as_bytes(), WINDOW);
        let cut = through(dump.as_bytes(), window);
        prop_assert_eq!(&whole.0, &cut.0);
        prop_assert_eq!(&whole.2, &cut.2);
        prop_assert_eq!(whole.1.changed(), cut.1.changed());
        if whole.2.is_none() {
            let left = |t: &str| t.contains("old.example") || t.contains("/home/old") || t.contains("2F686F6D652F6F6C64") || t.contains("2f686f6d652f6f6c64");
            prop_assert!(!left(&whole.0), "{}", whole.0);
        }
        let nothing = Replacements::new(&Pairs::default(), &[]);
        let source = Source::new(dump.as_bytes(), window, Some(dialect)).unwrap();
        let (same, _, _) = rewrite(source, &rules(&nothing, &|_| Keep::All), Vec::new()).unwrap();
        prop_assert_eq!(String::from_utf8_lossy(&same), dump);
    }
}

#[test]
fn letters_by_their_numbers_count_as_what_they_mean() {
    let replacements =
        Replacements::new(&relocation("http://old.example", "http://brandnew.example").pairs(), &[]);
    let run = |dump: &str| {
        let source = Source::new(dump.as_bytes(), WINDOW, Some(Dialect::Sqlite)).unwrap();
        let (out, done, _) = rewrite(source, &rules(&replacements, &|_| Keep::All), Vec::new()).unwrap();
        (String::from_utf8(out).unwrap(), done.tally.changed())
    };
    let dump = |n: usize, address: &str| {
        format!(
            "INSERT INTO t VALUES(1,unistr('s:{n}:\"a\\u000a{address}/it''s\\\\\\00e9\";'),unistr('x\\u000ay'));\n"
        )
    };
    let (before, after) = (dump(28, "http://old.example"), dump(33, "http://brandnew.example"));
    assert_eq!(run(&before), (after, 1));
}

#[test]
fn stored_code_names_the_old_database_no_more_or_that_is_said() {
    let replacements =
        Replacements::new(&relocation("http://old.example", "http://new.example").pairs(), &[]);
    let run = |dump: &str| {
        let rules = Rules {
            moves: Some(DatabaseMove { old: vec!["live".into()], new: "copy".into() }),
            strip_definers: true,
            ..rules(&replacements, &|_| Keep::All)
        };
        let (out, done, _) =
            rewrite(Source::new(dump.as_bytes(), WINDOW, None).unwrap(), &rules, Vec::new()).unwrap();
        (String::from_utf8(out).unwrap(), done)
    };
    let hinted = "/*!50003 CREATE*/ /*!50017 DEFINER=`a`@`b`*/ /*!50003 TRIGGER `t` AFTER INSERT ON `live`.`x` FOR EACH ROW \
        INSERT INTO `live`.`log` VALUES (NEW.live, 'live.log at http://old.example/', live.f(1)) */;;\n";
    let (out, done) = run(&format!("DELIMITER ;;\n{hinted}DELIMITER ;\n"));
    assert!(!out.contains("`live`.") && !out.contains("live.f") && !out.contains("DEFINER"), "{out}");
    assert!(
        out.contains("INSERT INTO `log` VALUES (NEW.live, 'live.log at http://new.example/', f(1))"),
        "{out}"
    );
    assert!(done.tally.left().is_empty());
    let (out, _) = run("CREATE VIEW `v` AS select `live`.`x`.`a` AS `a` from `live`.`x`;\n");
    assert!(out.contains("CREATE VIEW `v` AS select `x`.`a` AS `a` from `x`;\n"), "{out}");
    // What chooses or makes a database.
    let (out, _) = run(
        "-- MariaDB dump\nCREATE DATABASE `live`;\nUSE `live`;\nCREATE TABLE `x` (a int) ENGINE=InnoDB;\n",
    );
    assert_eq!(out, "-- MariaDB dump\nCREATE TABLE `x` (a int) ENGINE=InnoDB;\n");
    let (out, _) = run(
        "-- PostgreSQL database dump\nCREATE DATABASE live;\n\\connect live\n\nCREATE TABLE public.x (a integer);\n",
    );
    assert_eq!(out, "-- PostgreSQL database dump\n\nCREATE TABLE public.x (a integer);\n");
    let (out, _) = run(
        "USE [live]\nGO\nALTER DATABASE [live] SET RECOVERY SIMPLE\nGO\nCREATE TABLE [dbo].[x]([a] [int]) ON [PRIMARY]\nGO\n",
    );
    assert!(
        out.starts_with("USE [copy]\nGO\n") && !out.contains("live") && out.contains("[dbo].[x]"),
        "{out}"
    );
    // What names another database as well, or cannot be read, stays as it is.
    for kept in [
        "CREATE VIEW `v` AS select 1 from `live`.`x`, `other`.`y`;\n",
        "CREATE VIEW `v` AS select `x`.`live` AS `a`, 'live.x' from `x`;\n",
    ] {
        let (out, done) = run(kept);
        assert_eq!(out, kept);
        assert_eq!(done.tally.left().contains_key(&LeftReason::OldDatabase), kept.contains("`live`."));
    }
}
