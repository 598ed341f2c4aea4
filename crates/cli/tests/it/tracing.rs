//! `trace`: what is found, where, and how sure it is; and that a rewrite leaves nothing certain behind.

use super::common::Bench;
use std::io::Write;
use zporter_standin::{Site, Variant};

const DUMP: &str = "-- moved from http://old.example/s\nCREATE TABLE `t` (`id` int, `lang` char(2), `body` text, PRIMARY KEY (`id`,`lang`));\n\
    INSERT INTO `t` VALUES (1,'de','nothing'),\n(7,'en','see <a href=\\\"http://old.example/s/x\\\">'),\n(8,'en','a:1:{i:0;s:9:\\\"/home/old\\\";}');\n\
    INSERT INTO `t` (`id`,`body`) VALUES (9,'mail office@old.example, host old.example'),(10,0x687474703a2f2f6f6c642e6578616d706c652f73);\n\
    INSERT INTO `t` VALUES (11,'fr','s:99:\\\"http://old.example/s\\\";'),(12,'fr','aHR0cDovL29sZC5leGFtcGxlL3M=');\n\
    CREATE VIEW v AS SELECT 'http://old.example/s' AS u;\n";
const OLD: [&str; 4] = ["--old-address", "http://old.example/s", "--old-root", "/home/old"];

#[test]
fn a_dump_tells_table_column_row_line_and_nesting() {
    let bench = Bench::new();
    bench.write("in.sql", DUMP);
    let out = bench.run(&[&["trace", "in.sql", "--json"], &OLD[..]].concat()).expect(1);
    let found = out.json();
    let told: Vec<String> = found["found"]
        .as_array()
        .unwrap()
        .iter()
        .map(|f| {
            let text = |k: &str| f[k].as_str().unwrap_or("-").to_string();
            format!("{} {} {} {} {}", f["line"], text("column"), text("row"), text("sure"), text("nesting"))
        })
        .collect();
    assert_eq!(
        told,
        [
            "1 - - likely text",
            "4 t.body id = 7, lang = en certain text",
            "5 t.body id = 8, lang = en certain serialized",
            "6 t.body id = 9 unlikely text",
            "6 t.body id = 9 likely text",
            "6 t.body id = 10 certain text",
            "7 t.body id = 11, lang = fr certain text",
            "7 t.body id = 12, lang = fr certain base64",
            "8 v (definition) - certain text",
        ]
    );
    assert_eq!(found["counts"], serde_json::json!({ "certain": 6, "likely": 2, "unlikely": 1 }));
    bench.run(&[&["trace", "in.sql"], &OLD[..]].concat()).expect(1).says(&[
        "Certain: 6 places",
        "t.body",
        "id = 7, lang = en",
        "serialized",
    ]);
    bench.run(&["trace", "in.sql"]).expect(2).says(&["--old-address URL"]);
    bench.run(&["trace", "missing.sql", "--old-root", "/x"]).expect(4).says(&["missing.sql"]);
}

#[test]
fn what_a_rewrite_leaves_is_never_certain_but_for_what_was_broken() {
    let bench = Bench::new();
    let site = Site::of(Variant::Joomla310);
    bench.write("in.sql", site.dump());
    let pairs = ["--address", &site.address, "https://n.example/x", "--root", &site.root, "/srv/x"];
    let _ = bench.run(&[&["readdress", "in.sql", "-o", "out.sql"], &pairs[..]].concat()).says(&["Rewrote"]);
    let count = |file: &str| {
        let out =
            bench.run(&["trace", file, "--json", "--old-address", &site.address, "--old-root", &site.root]);
        let found = out.json();
        let broken = found["found"].as_array().unwrap().iter();
        let broken = broken.filter(|f| f["what"].as_str().unwrap().contains("already broken")).count();
        (found["counts"]["certain"].as_u64().unwrap_or(0), broken as u64)
    };
    let (before, _) = count("in.sql");
    let (after, broken) = count("out.sql");
    assert!(before > 10 && after == broken, "{before} before, {after} after, {broken} broken");
}

#[test]
fn folders_and_archives_tell_file_and_line() {
    let bench = Bench::new();
    std::fs::create_dir_all(bench.path("site/conf")).unwrap();
    bench.write("site/conf/a.php", "<?php\n$x = 1;\n$url = 'http://old.example/s';\n");
    bench.write(
        "site/data.json",
        "{\"u\":\"http:\\/\\/old.example\\/s\",\"r\":\"s:9:\\\"\\/home\\/old\\\";\"}\n",
    );
    bench.write("site/backup.sql", "INSERT INTO t VALUES (1,'/home/old');\n");
    bench.write("site/clean.txt", "nothing here\n");
    std::os::unix::fs::symlink("/home/old/shared", bench.path("site/shared")).unwrap();
    let json = |out: &super::common::Outcome| -> Vec<String> {
        let found = out.json();
        found["found"]
            .as_array()
            .unwrap()
            .iter()
            .map(|f| {
                format!("{}:{} {}", f["file"].as_str().unwrap(), f["line"], f["nesting"].as_str().unwrap())
            })
            .collect()
    };
    let out = bench.run(&[&["trace", "site", "--json"], &OLD[..]].concat()).expect(1);
    let expected = [
        "backup.sql:1 text",
        "conf/a.php:3 text",
        "data.json:1 json",
        "data.json:1 json > serialized",
        "shared:1 link",
    ];
    assert_eq!(json(&out), expected);
    assert_eq!(out.json()["files"]["data.json"], 2);
    let mut builder = tar::Builder::new(flate2::write::GzEncoder::new(
        std::fs::File::create(bench.path("a.tar.gz")).unwrap(),
        flate2::Compression::fast(),
    ));
    builder.follow_symlinks(false);
    builder.append_dir_all(".", bench.path("site")).unwrap();
    builder.into_inner().unwrap().finish().unwrap().flush().unwrap();
    let out = bench.run(&[&["trace", "a.tar.gz", "--json"], &OLD[..]].concat()).expect(1);
    let mut told: Vec<String> = json(&out).iter().map(|t| t.trim_start_matches("./").to_string()).collect();
    told.sort();
    assert_eq!(told, expected);
    bench
        .run(&["trace", "site", "--old-address", "http://nowhere.example"])
        .expect(0)
        .says(&["Nothing in", "points to the old place"]);
}
