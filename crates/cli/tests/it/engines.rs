//! Sites that live on PostgreSQL and in an SQLite file: surveyed, cloned straight, brought up to date, taken back.

use crate::common::{Bench, files, holds, kill_points, postgres};
use std::io::Write;
use std::net::Shutdown;
use std::os::unix::net::UnixStream;
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering::SeqCst};
use std::time::Instant;
use zporter_core::database::relay::{Dial, Relay, Stream};
use zporter_core::place::DatabaseAccess;
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
         CREATE TABLE key_value (collection varchar(128), name varchar(128), value {kind});\n\
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
    let clone = |further: &[&str]| bench.run(&[&base[..], &["--old-address", LINK], further].concat());
    let done = clone(&["--database", &url, "--set", "maintenance=on"]);
    assert!(done.code <= 1, "{done:?}");
    bench.write(
        "state.sql",
        "SELECT encode(value, 'escape') FROM key_value WHERE name = 'system.maintenance_mode';",
    );
    assert!(server.load("copy", &bench.path("state.sql")).contains("i:1;"), "a row that was missing is made");
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
    for how in [["--refresh", "--database"], ["--empty-database", "--database"]] {
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
    let place = [
        "--address",
        "https://n.test/club",
        "--old-address",
        LINK,
        "--database",
        &target,
        "--set",
        "maintenance=on",
    ];
    let done = bench.run(&[&["clone", "old", "copy", "--host-folder", "default"], &place[..]].concat());
    assert!(done.code <= 1, "{done:?}");
    let copy = bench.path("copy/sites/default/files/.ht.sqlite");
    let ask = Command::new("sqlite3")
        .arg(&copy)
        .arg("SELECT data FROM config; SELECT body_value FROM node__body; SELECT name, value FROM key_value")
        .output();
    let there = String::from_utf8(ask.unwrap().stdout).unwrap();
    assert!(
        there.contains(&link("https://n.test/club")) && there.contains("https://n.test/club/node/7"),
        "{there}"
    );
    assert!(there.contains("system.maintenance_mode|i:1;"), "a row that was missing is made: {there}");
    assert!(
        !holds(&std::fs::read(&copy).unwrap(), "club.fernhollow.example"),
        "no page of the old file is left"
    );
    assert!(files(&bench.path("old")) == before, "the source is only read");
    let run = bench.last_run();
    bench.run(&["undo", &run]).expect(0);
    assert!(!bench.path("copy").exists());
}

#[test]
fn an_archive_of_a_site_on_postgres_gives_what_its_clone_gives() {
    let Some(server) = postgres::Server::start() else { return };
    let bench = Bench::new();
    let folder = server.folder();
    let access = format!(
        "'database' => 'club', 'username' => 'zp', 'password' => '', 'host' => '{folder}', 'prefix' => '', 'driver' => 'pgsql',\n"
    );
    club(&bench, &access);
    server.create("club");
    bench.write("club.sql", tables("bytea", |text| format!("convert_to('{text}', 'UTF8')")));
    server.load("club", &bench.path("club.sql"));
    let mut content = Vec::new();
    bench
        .run(&["pack", "old", "-o", "a.tar.zst", "--host-folder", "default", "--old-address", LINK])
        .says(&["Packed"]);
    bench.run(&["verify", "a.tar.zst"]).expect(0).says(&["Whole"]);
    for (name, job) in [("cloned", ["clone", "old"]), ("restored", ["restore", "a.tar.zst"])] {
        server.create(name);
        let url = server.url(name);
        let host: &[&str] =
            if name == "cloned" { &["--host-folder", "default", "--old-address", LINK] } else { &[] };
        let place = [name, "--address", "https://n.test/club", "--database", &url];
        let done = bench.run(&[&job[..], &place, host].concat());
        assert!(done.code <= 1, "{done:?}");
        let dump = server.dump(name, &[]);
        assert!(dump.contains("https://n.test/club/node/7") && !dump.contains("http://club"), "{dump}");
        // A dump of theirs begins and ends with a line that is another one each time.
        let dump: Vec<String> =
            dump.lines().filter(|l| !l.contains("restrict ")).map(str::to_string).collect();
        let settings = bench.read(&format!("{name}/sites/default/settings.php")).replace(name, "NAME");
        content.push((dump, settings));
    }
    assert!(content[0] == content[1], "{content:#?}");
}

#[test]
fn a_load_into_postgres_that_was_killed_leaves_nothing_and_begins_anew() {
    let Some(server) = postgres::Server::start() else { return };
    let bench = Bench::new();
    let mut sql = String::from("SET standard_conforming_strings = on;\n");
    for table in 0..30 {
        sql.push_str(&format!(
            "CREATE TABLE t{table} (id int PRIMARY KEY, body text);\nCOPY t{table} (id, body) FROM stdin;\n"
        ));
        sql.extend((0..4000).map(|i| format!("{i}\tthe night sky over the dome {}\n", i * table)));
        sql.push_str("\\.\n\n");
    }
    bench.write("shop.sql", sql);
    server.create("whole");
    let began = Instant::now();
    bench
        .run(&["database", "load", "shop.sql", &server.url("whole")])
        .expect(0)
        .says(&["30 tables with 120 000 rows"]);
    let rows = |database: &str| {
        bench.write("ask.sql", "SELECT count(*) FROM pg_tables WHERE schemaname = 'public'");
        server.load(database, &bench.path("ask.sql")).trim().parse::<u32>().unwrap()
    };
    let takes = began.elapsed();
    let mut killed = 0;
    let points = kill_points(6);
    for point in 0..points {
        let name = format!("p{point}");
        server.create(&name);
        let url = server.url(&name);
        let args = ["database", "load", "shop.sql", &url];
        if !bench.killed(&args, takes.mul_f64((point as f64 + 0.5) / points as f64)) {
            assert_eq!(rows(&name), 30, "point {point}");
            continue;
        }
        killed += 1;
        // All there or not at all: a kill behind the commit finds all of it.
        let there = rows(&name);
        assert!(there == 0 || there == 30, "point {point}: {there} tables");
        bench.run(&args).expect(0);
        assert_eq!(rows(&name), 30, "point {point}");
    }
    assert!(killed > 0);
}

#[test]
fn a_copy_in_an_sqlite_file_is_brought_up_to_date_and_put_back() {
    if !Command::new("sqlite3").arg("--version").output().is_ok_and(|o| o.status.success()) {
        crate::common::missing("sqlite3");
        return;
    }
    let bench = Bench::new();
    club(&bench, "'database' => 'sites/default/files/.ht.sqlite', 'prefix' => '', 'driver' => 'sqlite',\n");
    let run = |file: &str, sql: &str| {
        let done = Command::new("sqlite3").arg(bench.path(file)).arg(sql).output().unwrap();
        assert!(done.status.success(), "{done:?}");
        String::from_utf8(done.stdout).unwrap()
    };
    let (old, new) = ("old/sites/default/files/.ht.sqlite", "copy/sites/default/files/.ht.sqlite");
    run(old, &tables("blob", |text| format!("CAST('{text}' AS blob)")));
    let url = format!("sqlite://{}", bench.path(new).display());
    let place = ["--address", "https://n.test/club", "--old-address", LINK, "--database", &url];
    let clone = |further: &[&str]| {
        bench.run(&[&["clone", "old", "copy", "--host-folder", "default"], &place[..], further].concat())
    };
    assert!(clone(&[]).code <= 1);
    let first = run(new, ".dump");
    run(old, &format!("INSERT INTO node__body VALUES (8, '{LINK}/node/8')"));
    bench.write("old/sites/default/files/new.txt", "new");
    std::fs::remove_file(bench.path("old/sites/default/files/css/css_fake.css")).unwrap_or_default();
    bench.write("copy/sites/default/files/gone.txt", "gone");
    // That file was made in the copy: it is taken away only when that was asked for.
    clone(&["--refresh", "--delete-gone"]).expect(3).says(&["gone.txt"]);
    let refreshed = clone(&["--refresh", "--delete-gone", "--overwrite"]);
    assert!(refreshed.code <= 1, "{refreshed:?}");
    assert!(run(new, "SELECT body_value FROM node__body").contains("https://n.test/club/node/8"));
    assert!(bench.path("copy/sites/default/files/new.txt").exists());
    assert!(!bench.path("copy/sites/default/files/gone.txt").exists());
    let run_id = bench.last_run();
    bench.run(&["undo", &run_id]).expect(0);
    assert_eq!(run(new, ".dump"), first, "the rows are those from before");
    assert!(bench.path("copy/sites/default/files/gone.txt").exists());
    assert!(!bench.path("copy/sites/default/files/new.txt").exists());
    // The site's own file is no target.
    let own = format!("sqlite://{}", bench.path(old).display());
    let refused = bench.run(&[
        "clone",
        "old",
        "copy2",
        "--host-folder",
        "default",
        "--address",
        "https://n.test",
        "--database",
        &own,
        "--empty-database",
    ]);
    refused.expect(3).says(&["is the database of the site that is cloned"]);
}

/// Tables that fill several stages of a load, each as `rows` writes it.
fn large(rows: impl Fn(&mut String, u32)) -> String {
    let mut sql = String::new();
    for table in 0..6 {
        sql.push_str(&format!("CREATE TABLE t{table} (id int PRIMARY KEY, body text);\n"));
        rows(&mut sql, table);
        sql.push_str(&format!("CREATE INDEX i{table} ON t{table} (id);\n"));
    }
    sql
}

/// What the server's own program says of a database, but for a word that is new in each dump.
fn content(server: &postgres::Server, name: &str) -> String {
    let dump = server.dump(name, &[]);
    dump.lines().filter(|l| !l.contains("restrict ")).map(|l| format!("{l}\n")).collect()
}

/// Names of the databases of a series of loads.
fn series(of: &str) -> impl Iterator<Item = String> {
    let of = of.to_string();
    std::iter::once(format!("{of}whole")).chain((0..kill_points(6)).map(move |p| format!("{of}{p}")))
}

/// Kills a load at many points and lets the same command go on; `content` reads a database, `mark` stands in the record behind a stage. Returns how often it went on behind a stage.
fn killed_and_gone_on_with(
    bench: &Bench,
    of: &str,
    mark: &str,
    url: impl Fn(&str) -> String,
    content: impl Fn(&str) -> String,
) -> u64 {
    let load = |name: &str| ["database".to_string(), "load".into(), "shop.sql".into(), url(name)];
    let mut names = series(of);
    let first = names.next().unwrap();
    let began = Instant::now();
    bench.run(&load(&first).each_ref().map(String::as_str)).expect(0).says(&["6 tables with 36 000 rows"]);
    let (mut takes, whole) = (began.elapsed(), content(&first));
    let mut behind = 0;
    let points = kill_points(6);
    for (point, name) in names.enumerate() {
        let args = load(&name);
        let args = args.each_ref().map(String::as_str);
        let share = (point as f64 + 0.5) / points as f64;
        let began = Instant::now();
        // At the last point the record of the run tells the moment, however slow or fast this machine is just now.
        let killed = match point as u64 + 1 == points {
            true => bench.killed_when(&args, mark),
            false => bench.killed(&args, takes.mul_f64(share)),
        };
        if !killed {
            // Other work slowed the run that was measured.
            takes = takes.min(began.elapsed());
            assert!(content(&name) == whole, "point {point}");
            continue;
        }
        let done = bench.run(&args).expect(0).says(&["6 tables with 36 000 rows"]);
        behind += u64::from(done.stdout.contains("whole from the run before"));
        if behind == 0 && share > 0.6 {
            takes = takes.mul_f64(1.5);
        }
        assert!(content(&name) == whole, "point {point}");
    }
    behind
}

/// The same as a dump of PostgreSQL.
fn copied() -> String {
    let line = "the night sky over the dome ".repeat(35);
    let sql = large(|sql, table| {
        sql.push_str(&format!("COPY t{table} (id, body) FROM stdin;\n"));
        sql.extend((0..6000).map(|i| format!("{i}\t{line}{}\n", i * table)));
        sql.push_str("\\.\n\n");
    });
    format!(
        "SET standard_conforming_strings = on;\nSELECT pg_catalog.set_config('search_path', 'public', false);\n{sql}"
    )
}

#[test]
fn large_tables_go_over_connections_of_their_own_into_postgres() {
    let Some(server) = postgres::Server::start() else { return };
    let bench = Bench::new();
    let pack = |text: &str| {
        let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        packed.write_all(text.as_bytes()).unwrap();
        packed.finish().unwrap()
    };
    // What cannot be compressed makes the dump large on the disk as well.
    let mut at = 1u32;
    let noise = (0..1 << 20).map(|_| {
        at = at.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        format!("{at:08x}")
    });
    let sql = format!("{}-- {}\n", copied(), noise.collect::<String>());
    bench.write("shop.sql", &sql);
    bench.write("shop.sql.gz", pack(&sql));
    let content = |name: &str| content(&server, name);
    let mut contents = Vec::new();
    // Six tables, but no index: 6,000 rows are not worth a connection.
    for (name, file, connections, alone) in
        [("one", "shop.sql", "1", 0), ("three", "shop.sql", "3", 6), ("packed", "shop.sql.gz", "2", 6)]
    {
        server.create(name);
        let args = ["database", "load", file, &server.url(name), "--connections", connections];
        bench.run(&args).expect(0).says(&["6 tables with 36 000 rows"]);
        let told = bench.run(&["logbook", &bench.last_run()]).expect(0);
        assert_eq!(told.stdout.matches("statement-arrived").count(), alone, "{name}");
        contents.push(content(name));
    }
    assert!(contents[0] == contents[1] && contents[0] == contents[2]);
    // A row that the server refuses, far inside of a table: others may be there, and all can be undone.
    let (before, row) = sql.split_at(sql.rfind("\n3000\t").unwrap() + 1);
    let broken = format!("{before}x{row}");
    bench.write("shop.sql", &broken);
    bench.write("shop.sql.gz", pack(&broken));
    for (name, file) in [("broken", "shop.sql"), ("broken_packed", "shop.sql.gz")] {
        server.create(name);
        let told = bench.run(&["database", "load", file, &server.url(name)]).expect(4);
        told.says(&["COPY t5", "line 3001", "invalid input syntax", "x3000", "half loaded"]);
        bench.run(&["undo", &bench.last_run()]).expect(0);
        assert!(!content(name).contains("CREATE TABLE"), "{name}");
    }
}

#[test]
fn a_load_whose_connection_is_cut_or_whose_server_stops_goes_on() {
    let Some(server) = postgres::Server::start() else { return };
    let bench = Bench::new();
    bench.write("shop.sql", copied());
    bench.write(
        "cut.sql",
        "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = 'cut' AND query LIKE 'COPY %' AND state = 'active';",
    );
    let content = |name: &str| content(&server, name);
    for name in ["whole", "cut", "stopped"] {
        server.create(name);
    }
    bench.run(&["database", "load", "shop.sql", &server.url("whole")]).expect(0);
    let whole = content("whole");
    for name in ["cut", "stopped"] {
        let url = server.url(name);
        let args = ["database", "load", "shop.sql", &url];
        let child = bench.command(&args).stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap();
        if name == "cut" {
            while !server.load("cut", &bench.path("cut.sql")).contains('t') {}
        } else {
            bench.write("busy.sql", "SELECT count(*) FROM pg_stat_activity WHERE datname = 'stopped' AND query LIKE 'COPY %' AND state = 'active';");
            while server.load("cut", &bench.path("busy.sql")).trim() == "0" {}
            server.stop();
        }
        let told = child.wait_with_output().unwrap();
        let told = String::from_utf8_lossy(&told.stderr).into_owned();
        assert!(told.contains("the connection to the server broke"), "{name}: {told}");
        if name == "stopped" {
            server.start_again();
        }
        bench.run(&args).expect(0).says(&["6 tables with 36 000 rows"]);
        // Where in a table's file a row lies is the server's own affair after a crash.
        let sorted = |text: &str| {
            let mut lines: Vec<String> = text.lines().map(str::to_string).collect();
            lines.sort_unstable();
            lines
        };
        let (now, was) = (sorted(&content(name)), sorted(&whole));
        let differs = now.iter().zip(&was).find(|(now, was)| now != was);
        assert!(
            differs.is_none() && now.len() == was.len(),
            "{name}: {} lines and {}: {differs:?}",
            now.len(),
            was.len()
        );
    }
}

#[test]
fn a_long_load_into_postgres_goes_on_behind_the_last_stage() {
    let Some(server) = postgres::Server::start() else { return };
    let bench = Bench::new();
    bench.write("shop.sql", copied());
    series("p").chain(series("q")).for_each(|name| server.create(&name));
    let content = |name: &str| content(&server, name);
    let behind = killed_and_gone_on_with(&bench, "p", "statement-arrived", |name| server.url(name), content);
    assert!(behind > 0, "no kill came behind a stage");
    // As the server's own program writes it: rows first, keys and indexes behind, and tables that need others at the very end.
    let more = "CREATE INDEX b1 ON t1 (length(body)); ALTER TABLE t5 ADD FOREIGN KEY (id) REFERENCES t0 (id); \
                CREATE TABLE small (id int GENERATED ALWAYS AS IDENTITY, note text);";
    bench.write("more.sql", more);
    server.load("pwhole", &bench.path("more.sql"));
    let made_by_hand = content("pwhole");
    bench.write("shop.sql", server.dump("pwhole", &[]));
    let behind = killed_and_gone_on_with(&bench, "q", "statement-arrived", |name| server.url(name), content);
    assert!(behind > 0, "no kill came behind a stage");
    assert!(content("qwhole") == made_by_hand);
    // What a broken load left is undone as a whole.
    bench.write("shop.sql", format!("{}\nCREATE ROLE somebody;\n", bench.read("shop.sql")));
    server.create("broken");
    let url = server.url("broken");
    bench.run(&["database", "load", "shop.sql", &url]).expect(3).says(&[
        "CREATE ROLE",
        "half loaded",
        "zporter undo",
    ]);
    assert!(content("broken").contains("CREATE TABLE"));
    let run = bench.last_run();
    bench.run(&["undo", &run]).expect(0);
    assert!(!content("broken").contains("CREATE TABLE"));
}

#[test]
fn a_long_load_into_sqlite_goes_on_behind_the_last_stage() {
    if !Command::new("sqlite3").arg("--version").output().is_ok_and(|o| o.status.success()) {
        crate::common::missing("sqlite3");
        return;
    }
    let bench = Bench::new();
    let line = "the night sky over the dome ".repeat(35);
    let sql = large(|sql, table| {
        sql.extend((0..6000).map(|i| format!("INSERT INTO t{table} VALUES({i},'{line}{}');\n", i * table)));
    });
    bench.write("shop.sql", format!("PRAGMA foreign_keys=OFF;\nBEGIN TRANSACTION;\n{sql}COMMIT;\n"));
    let path = |name: &str| bench.path(&format!("{name}.sqlite"));
    let content = |name: &str| {
        let dump = Command::new("sqlite3").arg(path(name)).arg(".dump").output().unwrap();
        String::from_utf8(dump.stdout).unwrap()
    };
    let behind = killed_and_gone_on_with(
        &bench,
        "p",
        "stage-closed",
        |name| format!("sqlite://{}", path(name).display()),
        content,
    );
    assert!(behind > 0, "no kill came behind a stage");
}

/// Opens streams to a server's socket, and counts them.
struct Tunnel {
    socket: String,
    opened: AtomicU64,
    open: AtomicBool,
}

/// The writing half: the stream ends with it.
struct Half(UnixStream);

impl Write for Half {
    fn write(&mut self, buf: &[u8]) -> std::io::Result<usize> {
        // In pieces, as a network takes it.
        self.0.write(&buf[..buf.len().min(1000)])
    }
    fn flush(&mut self) -> std::io::Result<()> {
        self.0.flush()
    }
}

impl Drop for Half {
    fn drop(&mut self) {
        let _ = self.0.shutdown(Shutdown::Write);
    }
}

impl Dial for Tunnel {
    fn open(&self) -> std::io::Result<Stream> {
        if !self.open.load(SeqCst) {
            return Err(std::io::Error::other("the tunnel is closed"));
        }
        let stream = UnixStream::connect(&self.socket)?;
        self.opened.fetch_add(1, SeqCst);
        Ok(Stream { reader: Box::new(stream.try_clone()?), writer: Box::new(Half(stream)) })
    }
}

#[test]
fn a_database_is_dumped_and_loaded_over_streams_that_somebody_else_opened() {
    let server = crate::common::mariadb::server();
    let postgres = postgres::Server::start();
    let mut ways: Vec<(String, String, String)> = Vec::new();
    if let Some(server) = server {
        let (from, to) = (server.new_database(), server.new_database());
        server.load_with_client(&from, &Site::of(Variant::PrestaShop17).dump());
        ways.push((from.socket_url(server), to.socket_url(server), server.socket.clone()));
    }
    if let Some(server) = &postgres {
        server.create("a");
        server.create("b");
        let bench = Bench::new();
        bench.write(
            "a.sql",
            tables("bytea", |text| format!("convert_to('{}', 'UTF8')", text.replace('\'', "''"))),
        );
        server.load("a", &bench.path("a.sql"));
        ways.push((server.url("a"), server.url("b"), format!("{}/.s.PGSQL.5432", server.folder())));
    }
    for (from, to, socket) in ways {
        let bench = Bench::new();
        let password =
            if from.starts_with("mysql") { server.unwrap().new_database().password } else { String::new() };
        bench.write("password", password);
        let tunnel = Arc::new(Tunnel { socket, opened: AtomicU64::new(0), open: AtomicBool::new(true) });
        let relay = Relay::start(tunnel.clone(), &std::env::temp_dir()).unwrap();
        let through = |url: &str| relay.access(&DatabaseAccess::parse(url).unwrap()).url();
        let dump = |url: &str, file: &str| {
            bench
                .run(&["database", "dump", url, "-o", file, "--database-password-file", "password"])
                .expect(0);
            bench.read(file)
        };
        let direct = dump(&from, "direct.sql");
        assert_eq!(dump(&through(&from), "through.sql"), direct, "{from}");
        bench
            .run(&[
                "database",
                "load",
                "direct.sql",
                &through(&to),
                "--connections",
                "3",
                "--database-password-file",
                "password",
            ])
            .expect(0);
        assert_eq!(dump(&to, "loaded.sql").matches("INSERT").count(), direct.matches("INSERT").count());
        assert!(tunnel.opened.load(SeqCst) > 1, "{}", tunnel.opened.load(SeqCst));
        tunnel.open.store(false, SeqCst);
        let refused =
            bench.run(&["database", "sizes", &through(&to), "--database-password-file", "password"]);
        assert_ne!(refused.code, 0);
        assert!(relay.failure().unwrap().to_string().contains("tunnel is closed"));
    }
}
