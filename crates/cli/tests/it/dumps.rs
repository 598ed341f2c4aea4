//! `readdress` from file to file and through pipes; PHP judges what became of serialized values.

use super::common::mariadb::server;
use super::common::{Bench, outcome, php};
use proptest::prelude::*;
use proptest::strategy::ValueTree;
use proptest::test_runner::TestRunner;
use std::io::Write;
use std::path::Path;
use std::process::Stdio;
use zporter_standin::{Site, Variant, sql};

const PAIRS: [&str; 6] =
    ["--address", "http://old.example/s", "https://new.example:81", "--root", "/home/old", "/srv/new"];

fn readdress(bench: &Bench, input: &str, output: &str) -> super::common::Outcome {
    bench.run(&[&["readdress", input, "-o", output], &PAIRS[..]].concat())
}

#[test]
fn exactly_the_old_place_changes_and_nothing_else() {
    let bench = Bench::new();
    let before = "INSERT INTO t VALUES (1,'http://old.example/s/a','it''s at \\'http://old.example/s\\'');\r\n\
        insert into `t` (`a`, `b`) values\n(2, 'C:\\\\home\\\\old', \"//old.example/s\") , (3,0x687474703a2f2f6f6c642e6578616d706c652f73,_binary '/home/old\\0x');\n\
        -- http://old.example/s in a comment\nCREATE TABLE c (a text COMMENT 'see /home/old') ; INSERT INTO t VALUES (4,'s:9:\"/home/old\";')";
    let after = "INSERT INTO t VALUES (1,'https://new.example:81/a','it''s at \\'https://new.example:81\\'');\r\n\
        insert into `t` (`a`, `b`) values\n(2, 'C:\\\\home\\\\old', \"//new.example:81\") , (3,0x68747470733a2f2f6e65772e6578616d706c653a3831,_binary '/home/old\\0x');\n\
        -- http://old.example/s in a comment\nCREATE TABLE c (a text COMMENT 'see /srv/new') ; INSERT INTO t VALUES (4,'s:8:\"/srv/new\";');\n";
    bench.write("in.sql", format!("{before};\n"));
    readdress(&bench, "in.sql", "out.sql").expect(1).says(&["out.sql", "changed", "inside of binary data"]);
    assert_eq!(bench.read("out.sql"), after);
    readdress(&bench, "out.sql", "twice.sql").expect(1).says(&["0 values", "in a comment of the dump"]);
    assert_eq!(bench.read("twice.sql"), after);
    readdress(&bench, "in.sql", "out.sql").expect(3).says(&["already exists"]);
}

#[test]
fn pipes_and_compression_give_the_same_bytes() {
    let bench = Bench::new();
    let site = Site::of(Variant::Joomla310);
    bench.write("in.sql", site.dump());
    let pair = ["--address", &site.address, "https://n.example/x"];
    let run =
        |input: &str, output: &str| bench.run(&[&["readdress", input, "-o", output], &pair[..]].concat());
    run("in.sql", "out.sql").expect(1).says(&["was already broken"]);
    run("in.sql", "out.sql.zst").expect(1).says(&["out.sql.zst"]);
    run("out.sql.zst", "back.sql.gz").expect(1).says(&["back.sql.gz"]);
    let plain = std::fs::read(bench.path("out.sql")).unwrap();
    let zst = zstd::decode_all(std::fs::File::open(bench.path("out.sql.zst")).unwrap()).unwrap();
    assert_eq!(zst, plain);
    let mut child = bench
        .command(&[&["readdress", "-", "-o", "-"], &pair[..]].concat())
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    child.stdin.take().unwrap().write_all(site.dump().as_bytes()).unwrap();
    assert_eq!(child.wait_with_output().unwrap().stdout, plain);
}

#[test]
fn a_dump_that_breaks_off_is_passed_on_and_said() {
    let bench = Bench::new();
    bench.write(
        "in.sql",
        "INSERT INTO t VALUES ('http://old.example/s');\nINSERT INTO t VALUES ('/home/old'),('/home/o",
    );
    readdress(&bench, "in.sql", "out.sql").expect(5).says(
        &["breaks off in line 2", "INSERT INTO t", "export it again"]
            .map(|t| if t == "export it again" { "export the dump again" } else { t }),
    );
    let out = bench.read("out.sql");
    assert_eq!(
        out,
        "INSERT INTO t VALUES ('https://new.example:81');\nINSERT INTO t VALUES ('/srv/new'),('/home/o"
    );
    bench.run(&["readdress", "in.sql", "-o", "x.sql"]).expect(2).says(&["--address OLD NEW"]);
    assert!(!bench.path("x.sql").exists());
}

/// A PHP value as serialized text.
fn php_value() -> impl Strategy<Value = String> {
    let word = prop_oneof![
        Just("http://old.example/s/x"),
        Just("http://old.example/s"),
        Just("/home/old"),
        Just("plain"),
        Just("é\u{1F52D}"),
        Just("\"q\"';"),
        Just("a:1:{i:0;s:1:\"x\";}"),
        Just("\\n"),
        Just("line\nbreak"),
        Just("//x"),
    ];
    let text = proptest::collection::vec(word, 0..4).prop_map(|w| sql::serialized(&w.join(" ")));
    let leaf = prop_oneof![
        4 => text,
        1 => any::<i64>().prop_map(|i| format!("i:{i};")),
        1 => any::<bool>().prop_map(|b| format!("b:{};", u8::from(b))),
        1 => Just("N;".to_string()),
        1 => prop_oneof![Just("d:0.1;"), Just("d:-1.5E+25;"), Just("d:INF;")].prop_map(str::to_string),
    ];
    leaf.prop_recursive(4, 16, 4, |inner| {
        prop_oneof![
            3 => proptest::collection::vec(inner.clone(), 0..4).prop_map(|v| {
                let body: String = v.iter().enumerate().map(|(i, x)| format!("i:{i};{x}")).collect();
                format!("a:{}:{{{body}}}", v.len())
            }),
            1 => inner.clone().prop_map(|v| format!("O:8:\"stdClass\":1:{{s:4:\"\0*\0p\";{v}}}")),
            1 => inner.prop_map(|v| sql::serialized(&v)),
        ]
    })
}

/// Leaf-wise replacement in PHP, and a comparison with what `readdress` made of the same value.
const JUDGE: &str = r#"
function moved($v) {
    if (is_string($v)) {
        $inner = @unserialize($v, ['allowed_classes' => ['stdClass']]);
        if ($inner !== false && preg_match('/^[aOs]:/', $v) && serialize($inner) === $v) { return serialize(moved($inner)); }
        $words = explode(' ', $v);
        foreach ($words as &$w) {
            $w = preg_replace('~^http://old\.example/s(?=$|/)~', 'https://new.example:81', $w);
            $w = preg_replace('~^/home/old$~', '/srv/new', $w);
        }
        return implode(' ', $words);
    }
    if (is_array($v)) { return array_map('moved', $v); }
    if (is_object($v)) { foreach ((array) $v as $k => $x) { $a[$k] = moved($x); } return (object) ($a ?? []); }
    return $v;
}
function values($file) {
    foreach (file($file, FILE_IGNORE_NEW_LINES) as $line) {
        if (preg_match("/^\((\d+),'(.*)'\)[,;]$/", $line, $m)) { yield (int) $m[1] => stripcslashes($m[2]); }
    }
}
$old = iterator_to_array(values($argv[1]));
$new = iterator_to_array(values($argv[2]));
if (count($old) !== count($new) || !$old) { echo 'counts differ'; exit(1); }
foreach ($old as $i => $o) {
    $n = @unserialize($new[$i]);
    if ($n === false && $new[$i] !== 'b:0;') { echo "unreadable: $new[$i]\nfrom: $o"; exit(1); }
    if (serialize(moved(unserialize($o))) !== serialize($n)) { echo "wrong: $new[$i]\nfrom:  $o"; exit(1); }
}
echo count($old);
"#;

#[test]
fn php_reads_every_rewritten_value_back_as_leafwise_replacement() {
    if !php::there() {
        return;
    }
    let count: usize = std::env::var("ZPORTER_VALUES").ok().and_then(|v| v.parse().ok()).unwrap_or(30_000);
    let bench = Bench::new();
    let mut runner = TestRunner::deterministic();
    let strategy = php_value();
    let mut dump = std::io::BufWriter::new(std::fs::File::create(bench.path("in.sql")).unwrap());
    writeln!(dump, "INSERT INTO t (id,v) VALUES").unwrap();
    for i in 0..count {
        let value = strategy.new_tree(&mut runner).unwrap().current();
        writeln!(dump, "({i},{}){}", sql::text(&value), if i + 1 == count { ";" } else { "," }).unwrap();
    }
    dump.into_inner().unwrap();
    readdress(&bench, "in.sql", "out.sql").expect(0).says(&["serialized"]);
    let judged = php::run(JUDGE, &[&bench.path("in.sql"), &bench.path("out.sql")]);
    assert_eq!(judged, count.to_string());
}

#[test]
fn short_and_long_ways_through_values_give_the_same_dump_and_the_same_counts() {
    // As long as samples are wanted, every value takes the long way; the short one is taken when there are enough.
    let bench = Bench::new();
    let mut runner = TestRunner::deterministic();
    let mut sql = String::from("CREATE TABLE `t` (`id` int, `a` text, `b` text, `c` text);\n");
    for id in 0..3000 {
        let value = php_value().new_tree(&mut runner).unwrap().current();
        let html = format!(
            "<p>it's <a href=\"http://old.example/s/{id}\">here</a> & /home/old/{id} http://me@old.example/s</p>"
        );
        let json =
            serde_json::json!({ "u": format!("http://old.example/s/{id}"), "list": [value, html], "n": id });
        let json = if id % 2 == 0 { json.to_string() } else { json.to_string().replace('/', "\\/") };
        let values = [&value, &html, &json].map(|v| sql::text(v)).join(",");
        sql.push_str(&format!("INSERT INTO `t` VALUES ({id},{values});\n"));
    }
    bench.write("in.sql", sql);
    let run = |samples: &str, out: &str, report: &str| {
        let args = ["readdress", "in.sql", "-o", out, "--samples", samples, "--report", report];
        let done = bench.run(&[&args[..], &PAIRS[..]].concat());
        assert!(done.code <= 1, "{done:?}");
        let report: serde_json::Value = serde_json::from_str(&bench.read(report)).unwrap();
        let mut columns = report["result"]["tally"]["tables"]["t"]["columns"].clone();
        for column in columns.as_object_mut().unwrap().values_mut() {
            let column = column.as_object_mut().unwrap();
            column.retain(|key, _| key != "samples" && key != "left_samples");
        }
        (bench.read(out), columns)
    };
    let (short, long) = (run("0", "short.sql", "s.json"), run("1000000", "long.sql", "l.json"));
    assert!(short.0 == long.0, "the dumps differ");
    assert_eq!(short.1, long.1);
    assert!(short.0.contains("new.example:81") && short.1["b"]["changed"] == 3000);
}

#[test]
fn there_and_back_a_servers_own_dump_is_the_same() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    let site = Site::of(Variant::Joomla310);
    let (first, second) = (server.new_database(), server.new_database());
    server.load_with_client(&first, &site.dump());
    let dump = |name: &str, options: &[&str]| {
        let mut command = std::process::Command::new("mariadb-dump");
        command.args(["--no-defaults", "-uroot", "-S", &server.socket]).args(options).arg(&first.name);
        let out = outcome(command).expect(0);
        bench.write(name, &out.stdout);
        out.stdout
    };
    for options in [&["--hex-blob"][..], &["--skip-extended-insert", "--complete-insert"], &["--compact"]] {
        let before = dump("in.sql", options);
        let there =
            ["readdress", "in.sql", "-o", "there.sql", "--address", &site.address, "https://n.example/a"];
        let _ = bench.run(&there).says(&["Rewrote"]);
        let back =
            ["readdress", "there.sql", "-o", "back.sql", "--address", "https://n.example/a", &site.address];
        let _ = bench.run(&back).says(&["Rewrote"]);
        assert_eq!(bench.read("back.sql"), before, "{options:?}");
        for f in ["there.sql", "back.sql"] {
            std::fs::remove_file(bench.path(f)).unwrap();
        }
    }
    server.load_with_client(&second, &bench.read("in.sql"));
    assert_eq!(server.content(&first), server.content(&second));
    assert!(Path::new(&server.socket).exists());
}

#[test]
fn what_is_done_only_on_request() {
    let bench = Bench::new();
    let before = "CREATE TABLE `ab_opt` (`name` text, `ab_v` text);\nINSERT INTO `ab_opt` (`name`,`ab_v`) VALUES ('ab_key','at old.example, office@old.example'),('x','<a href=\"/p\">'),('y','s:1:\"longer\";');\n\
        INSERT INTO ab_opt SET name='z', ab_v='http://old.example/z';\nCREATE TABLE `ab_log` (a int);\nINSERT INTO `ab_log` VALUES (1),(2);\nCREATE TABLE `tmp_x` (a int);\nINSERT INTO `tmp_x` VALUES (3);\n\
        CREATE VIEW `ab_view` AS select `ab_opt`.`ab_v` AS `u` from `ab_opt`;\n";
    bench.write("in.sql", before);
    let pair = ["--address", "http://old.example", "https://new.example/b"];
    let moved = |output: &str, more: &[&str]| {
        bench.run(&[&["readdress", "in.sql", "-o", output], &pair[..], more].concat())
    };
    moved("plain.sql", &[]).expect(1).says(&[
        "root-relative reference",
        "host alone, in text",
        "ab_opt.ab_v",
    ]);
    assert_eq!(bench.read("plain.sql"), before.replace("http://old.example/z", "https://new.example/b/z"));
    let all = [
        "--bare-hosts",
        "--mail-domains",
        "--references",
        "--repair",
        "--prefix",
        "ab_",
        "c9_",
        "--prefix-in",
        "ab_opt.name",
        "--rows",
        "*_log=structure",
        "--rows",
        "tmp_*=none",
    ];
    moved("all.sql", &all).expect(0).says(&["renamed", "table names"]);
    let after = "CREATE TABLE `c9_opt` (`name` text, `ab_v` text);\nINSERT INTO `c9_opt` (`name`,`ab_v`) VALUES ('c9_key','at new.example, office@new.example'),('x','<a href=\"/b/p\">'),('y','s:6:\"longer\";');\n\
        INSERT INTO c9_opt SET name='z', ab_v='https://new.example/b/z';\nCREATE TABLE `c9_log` (a int);\n\
        CREATE VIEW `c9_view` AS select `c9_opt`.`ab_v` AS `u` from `c9_opt`;\n";
    assert_eq!(bench.read("all.sql"), after);
    for wrong in
        [&["--prefix", "", "x"][..], &["--rows", "t=some"], &["--prefix", "a_", "b_", "--prefix-in", "nodot"]]
    {
        moved("never.sql", wrong).expect(2).says(&["next:"]);
    }
    // Repairs alone are a reason to run.
    bench.run(&["readdress", "in.sql", "-o", "repaired.sql", "--repair"]).expect(0);
    assert_eq!(bench.read("repaired.sql"), before.replace("s:1:", "s:6:"));
}
