//! Sites that live on PostgreSQL and in an SQLite file: surveyed, cloned straight, brought up to date, taken back.

use crate::common::{Bench, files, holds, postgres};
use std::process::Command;
use zporter_standin::{Site, Variant};

const LINK: &str = "http://club.fernhollow.example";

fn link(address: &str) -> String {
    let html = format!("<a href=\"{address}\">Start</a>");
    format!("a:1:{{s:4:\"html\";s:{}:\"{html}\";}}", html.len())
}

/// Writes the club's site as `old/`, with its database elsewhere than it usually is.
fn club(bench: &Bench, database: &str) -> Site {
    let site = Site::of(Variant::Drupal10);
    site.write(&bench.path("old")).unwrap();
    let settings = bench.read("old/sites/default/settings.php");
    let (head, rest) = settings.split_once("$databases['default']['default'] = array (").unwrap();
    let (_, tail) = rest.split_once(");").unwrap();
    let settings = format!("{head}$databases['default']['default'] = array (\n{database});{tail}");
    let path = bench.path("old/sites/default/settings.php");
    std::fs::remove_file(&path).unwrap();
    std::fs::write(&path, settings).unwrap();
    site
}

/// The club's tables; `bytes` spells a value of a binary column.
fn tables(kind: &str, bytes: impl Fn(&str) -> String) -> String {
    format!(
        "CREATE TABLE config (collection varchar(255) NOT NULL, name varchar(255) NOT NULL, data {kind}, PRIMARY KEY (collection, name));\n\
         INSERT INTO config VALUES ('', 'block.block.start', {});\n\
         CREATE TABLE node__body (entity_id int PRIMARY KEY, body_value text NOT NULL);\n\
         INSERT INTO node__body VALUES (7, '<p>it''s <a href=\"{LINK}/node/7\">Café</a></p>');\n\
         CREATE TABLE users_field_data (uid int PRIMARY KEY, name text, pass text, mail text);\n\
         INSERT INTO users_field_data VALUES (1, 'gazer', 'fake', 'gazer@fernhollow.example');\n",
        bytes(&link(LINK))
    )
}

#[test]
fn a_site_on_postgres_is_cloned_brought_up_to_date_and_taken_back() {
    let Some(server) = postgres::Server::start() else { return };
    let bench = Bench::new();
    let folder = server.folder();
    let access = format!(
        "'database' => 'club', 'username' => 'zp', 'password' => '', 'host' => '{folder}', 'prefix' => '', 'driver' => 'pgsql',\n"
    );
    club(&bench, &access);
    server.create("club");
    let sql = tables("bytea", |text| format!("convert_to('{text}', 'UTF8')"));
    bench.write("club.sql", sql);
    server.load("club", &bench.path("club.sql"));
    bench.write("ask.sql", "SELECT encode(data, 'escape') FROM config; SELECT body_value FROM node__body;");
    // A dump of theirs begins and ends with a line that is another one each time.
    let content = |database: &str| {
        let dump = server.dump(database, &[]);
        dump.lines().filter(|l| !l.contains("restrict ")).map(|l| format!("{l}\n")).collect::<String>()
    };
    let before = (files(&bench.path("old")), content("club"));
    bench.run(&["survey", "old", "--host-folder", "default"]).says(&["on the server", "node__body"]);

    server.create("copy");
    let url = server.url("copy");
    let base = ["clone", "old", "copy", "--host-folder", "default", "--address", "https://n.test/club"];
    let clone = |further: &[&str]| bench.run(&[&base[..], &["--from-address", LINK], further].concat());
    let done = clone(&["--database", &url]);
    assert!(done.code <= 1, "{done:?}");
    let there = server.load("copy", &bench.path("ask.sql"));
    assert!(
        there.contains(&link("https://n.test/club")) && there.contains("https://n.test/club/node/7"),
        "{there}"
    );
    let settings = bench.read("copy/sites/default/settings.php");
    assert!(
        settings.contains("'database' => 'copy'") && settings.contains("'driver' => 'pgsql'"),
        "{settings}"
    );

    // Its own database is no target, not even for one that may be emptied.
    let own = server.url("club");
    for how in [["--refresh", "--database"], ["--replace", "--database"]] {
        let target: &[&str] = if how[0] == "--refresh" { &[] } else { &["--only", "database"] };
        let refused = clone(&[&how[..], &[&own], target].concat());
        refused.expect(3).says(&["is the database of the site that is cloned"]);
    }

    bench.write("more.sql", format!("INSERT INTO node__body VALUES (8, '{LINK}/node/8');"));
    server.load("club", &bench.path("more.sql"));
    let after = (before.0.clone(), content("club"));
    let done = clone(&["--refresh", "--database", &url]);
    assert!(done.code <= 1, "{done:?}");
    assert!(server.load("copy", &bench.path("ask.sql")).contains("https://n.test/club/node/8"));
    assert!((files(&bench.path("old")), content("club")) == after, "the source is only read");
    // The newest first.
    let runs = bench.run(&["logbook", "--json"]).json();
    for run in runs.as_array().unwrap() {
        bench.run(&["undo", run["run"].as_str().unwrap()]).expect(0);
    }
    assert!(!bench.path("copy").exists() && !content("copy").contains("CREATE TABLE"));
}

#[test]
fn a_site_in_an_sqlite_file_is_cloned_with_it() {
    if !Command::new("sqlite3").arg("--version").output().is_ok_and(|o| o.status.success()) {
        crate::common::missing("sqlite3");
        return;
    }
    let bench = Bench::new();
    let access = "'database' => 'sites/default/files/.ht.sqlite', 'prefix' => '', 'driver' => 'sqlite',\n";
    club(&bench, access);
    let sql = tables("blob", |text| format!("CAST('{text}' AS blob)"));
    let file = bench.path("old/sites/default/files/.ht.sqlite");
    let made = Command::new("sqlite3").arg(&file).arg(sql).status().unwrap();
    assert!(made.success());
    let before = files(&bench.path("old"));
    bench.run(&["survey", "old", "--host-folder", "default"]).says(&["on the server", "node__body"]);
    let target = format!("sqlite://{}", bench.path("copy/sites/default/files/.ht.sqlite").display());
    let place = ["--address", "https://n.test/club", "--from-address", LINK, "--database", &target];
    let done = bench.run(&[&["clone", "old", "copy", "--host-folder", "default"], &place[..]].concat());
    assert!(done.code <= 1, "{done:?}");
    let copy = bench.path("copy/sites/default/files/.ht.sqlite");
    let ask = Command::new("sqlite3")
        .arg(&copy)
        .arg("SELECT data FROM config; SELECT body_value FROM node__body")
        .output();
    let there = String::from_utf8(ask.unwrap().stdout).unwrap();
    assert!(
        there.contains(&link("https://n.test/club")) && there.contains("https://n.test/club/node/7"),
        "{there}"
    );
    assert!(
        !holds(&std::fs::read(&copy).unwrap(), "club.fernhollow.example"),
        "no page of the old file is left"
    );
    assert!(files(&bench.path("old")) == before, "the source is only read");
    let run = bench.run(&["logbook", "--json"]).json()[0]["run"].as_str().unwrap().to_string();
    bench.run(&["undo", &run]).expect(0);
    assert!(!bench.path("copy").exists());
}
