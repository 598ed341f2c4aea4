//! Copies from server to server: every system, brought up to date, interrupted, and taken back.

use crate::common::mariadb::{Database, Server, server};
use crate::common::{Bench, Outcome, files, kill_points};
use mysql::prelude::Queryable;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Duration;
use zporter_standin::{Site, VARIANTS, Variant};

/// The same of every system: a board keeps the socket where others keep the port.
fn live(bench: &Bench, server: &Server, variant: Variant) -> (Site, Database) {
    let made = bench.live(server, variant);
    if bench.path("old/config.php").exists() && bench.read("old/config.php").contains("$dbport") {
        let config = bench.read("old/config.php");
        let host = format!("localhost:{}", server.socket);
        let config =
            config.replace(&host, "localhost").replace("$dbport = ''", "$dbport = '/run/mysqld/mysqld.sock'");
        let config = config.replace("/run/mysqld/mysqld.sock", &server.socket);
        bench.write("old/config.php", config);
    }
    made
}

fn host_of(variant: Variant) -> &'static [&'static str] {
    match variant {
        Variant::Drupal6 | Variant::Drupal7 | Variant::Drupal10 => &["--host-folder", "default"],
        _ => &[],
    }
}

fn is_empty(folder: &Path) -> bool {
    !folder.exists() || files(folder).is_empty()
}

#[test]
fn every_system_is_cloned_from_server_to_server_and_the_clone_taken_back() {
    let Some(server) = server() else { return };
    for variant in VARIANTS.into_iter().filter(|v| !matches!(v, Variant::Dnn5 | Variant::Dnn9)) {
        let bench = Bench::new();
        let (site, old) = live(&bench, server, variant);
        let before = (files(&bench.path("old")), server.content(&old));
        let new = server.new_database();
        let url = new.tcp_url(server);
        let place = ["--address", "https://n.test/x", "--database", &url, "--old-address", &site.address];
        let cloned = bench.run(&[&["clone", "old", "copy", "--json"], host_of(variant), &place[..]].concat());
        assert!(cloned.code <= 1, "{variant:?}: {cloned:?}");
        let one = (files(&bench.path("copy")), server.content(&new));
        assert_eq!(
            before,
            (files(&bench.path("old")), server.content(&old)),
            "{variant:?}: the source is only read"
        );

        let run = bench.last_run();
        bench.run(&["undo", &run]).expect(0).says(&["is as empty as before"]);
        assert!(!bench.path("copy").exists() && !server.content(&new).contains("CREATE"), "{variant:?}");

        bench
            .run(
                &[&["pack", "old", "-o", "a.zip", "--old-address", &site.address], host_of(variant)].concat(),
            )
            .says(&["Packed"]);
        let restored = bench.run(&[&["restore", "a.zip", "copy"], &place[..]].concat());
        assert!(restored.code <= 1, "{variant:?}: {restored:?}");
        assert_eq!(one.1, server.content(&new), "{variant:?}");
        assert!(one.0 == files(&bench.path("copy")), "{variant:?}: files differ");
        assert!(
            one.1.contains("n.test/x") || one.0.iter().any(|(_, b)| crate::common::holds(b, "n.test")),
            "{variant:?}"
        );
    }
}

/// A table of rows that are hard to tell apart from what stands between them.
fn hard(name: &str, columns: &str, rows: usize) -> String {
    let pieces = [
        "'", "\\", "\\\\%", "),(", "),", ",", "(", "\n", "\r\n", "\0", "\u{1a}", "NULL", "\\N", "\"", "🔭",
        "é", "\t", "_", "''", "0x41", "\n(1,'", "dome",
    ];
    let mut at = 7u32;
    let mut some = |from: &[&str]| -> String {
        let mut out = String::new();
        loop {
            at = at.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            match at >> 24 {
                n if n > 200 => return out,
                n => out.push_str(from[n as usize % from.len()]),
            }
        }
    };
    let mut sql = format!("CREATE TABLE {name} ({columns}) CHARACTER SET utf8mb4;\n");
    for row in 0..rows {
        let [long, narrow] = [some(&pieces), some(&pieces[..14])].map(|text| {
            let hex: String = text.bytes().map(|b| format!("{b:02x}")).collect();
            if text.is_empty() { "''".into() } else { format!("x'{hex}'") }
        });
        let others = [
            "-1,18446744073709551615,-0.50,1e-7,3.1415927,'a','2026-02-28','2026-02-28 23:59:59.999999','-838:59:59'",
            "NULL,NULL,NULL,NULL,NULL,NULL,NULL,NULL,NULL",
            "0,0,99999999.99,-1.7976931348623157e308,1e38,'b,c','0000-00-00','0000-00-00 00:00:00.000000','00:00:00.5'",
        ];
        sql.push_str(&format!("INSERT INTO {name} VALUES ({row},{long},{narrow},{});\n", others[row % 3]));
    }
    sql
}

#[test]
fn a_clone_sends_rows_as_files_where_the_server_takes_them_and_all_arrive() {
    let Some(server) = Server::private() else { return };
    let bench = Bench::new();
    let (site, old) = live(&bench, &server, Variant::WordPress);
    let columns = "id int KEY, a text, b varchar(3000) CHARACTER SET utf8mb3, i int, u bigint unsigned, d decimal(10,2), f double, g float, \
                   e enum('a','b,c',''), da date, dt datetime(6), ti time(1)";
    let prefix = &site.prefix;
    let mut sql = String::from("SET sql_mode='';\n");
    sql.push_str(&hard(&format!("{prefix}keyed"), columns, 3000));
    sql.push_str(&hard(&format!("{prefix}free"), &columns.replace(" KEY", ""), 300));
    sql.push_str(
        &hard(&format!("{prefix}old"), &columns.replace("utf8mb3", "latin1"), 300).replace("f09f94ad", "6f"),
    );
    sql.push_str(&format!(
        "CREATE TABLE {prefix}odd (y year, b bit(9), bl blob); INSERT INTO {prefix}odd VALUES (2026,b'101010101',x'00ff27'),(0,0,''),(NULL,NULL,NULL);"
    ));
    server.load_with_client(&old, &sql);
    let tables = ["keyed", "free", "old", "odd"].map(|t| format!("{prefix}{t}"));
    let sums = |database: &Database| -> Vec<Option<u64>> {
        let sum = |t: &String| -> Option<(String, Option<u64>)> {
            server.root().query_first(format!("CHECKSUM TABLE {}.{t}", database.name)).unwrap()
        };
        tables.iter().map(|t| sum(t).unwrap().1).collect()
    };
    let files_taken = || -> u64 {
        let status: Option<(String, u64)> =
            server.root().query_first("SHOW GLOBAL STATUS LIKE 'Com_load'").unwrap();
        status.unwrap().1
    };
    let wanted = sums(&old);
    assert!(wanted.iter().all(|sum| sum.is_some_and(|s| s > 0)), "{wanted:?}");
    for allowed in [1, 0] {
        server.root().query_drop(format!("SET GLOBAL local_infile={allowed}")).unwrap();
        let (new, before) = (server.new_database(), files_taken());
        let url = new.tcp_url(&server);
        let copy = format!("copy{allowed}");
        let cloned = bench.run(&["clone", "old", &copy, "--address", "https://n.test/x", "--database", &url]);
        assert!(cloned.code <= 1, "{cloned:?}");
        assert_eq!(files_taken() > before, allowed == 1);
        assert_eq!(sums(&new), wanted, "local files allowed: {allowed}");
    }
}

#[test]
fn a_copy_is_brought_up_to_date_and_put_back() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    let (site, old) = live(&bench, server, Variant::Joomla310);
    let new = server.new_database();
    let url = new.tcp_url(server);
    server.load_with_client(&old, "CREATE PROCEDURE theirs() SELECT 1;");
    let clone = ["clone", "old", "copy", "--address", "https://dev.test", "--database", &url];
    bench
        .run(&[&clone[..], &["--dry-run"]].concat())
        .expect(1)
        .says(&["the procedure theirs could not be read"]);
    let report = |outcome: Outcome| {
        assert!(outcome.code <= 1, "{outcome:?}");
        outcome.json()
    };
    bench.run(&[&clone[..], &["--refresh"]].concat()).expect(3).says(&["is no copy of this site"]);
    report(bench.run(&[&clone[..], &["--json"]].concat()));
    // Nothing is new: no file is touched, and the copy's own settings stay.
    let config = bench.read("copy/configuration.php").replace("$offline = '0'", "$offline = '1'");
    bench.write("copy/configuration.php", &config);
    let copied = (files(&bench.path("copy")), server.content(&new));
    let refreshed = report(bench.run(&[&clone[..], &["--refresh", "--json"]].concat()));
    assert!(refreshed["refreshed"]["unchanged"].as_u64().unwrap() > 5, "{refreshed}");
    assert!(copied.0 == files(&bench.path("copy")));
    assert_eq!(copied.1, server.content(&new));

    // At the source: a file changed, one is new, one is gone, and rows are others.
    bench.write("old/index.php", "<?php // https://www.fernhollow.example is new\n");
    bench.write("old/images/new.txt", "new");
    std::fs::remove_file(bench.path("old/images/übersicht.png")).unwrap();
    let prefix = &site.prefix;
    server.load_with_client(
        &old,
        &format!(
            "UPDATE {prefix}content SET title = 'Comet night' WHERE id = 1;
             INSERT INTO {prefix}menu VALUES (999,'News','url','http://www.fernhollow.example/news','');"
        ),
    );
    let before = (files(&bench.path("copy")), server.content(&new));
    // Its own settings changed as well; those are not taken over, and that is said.
    let own = bench.read("old/configuration.php").replace("Fernhollow", "Fernhöllow");
    std::fs::remove_file(bench.path("old/configuration.php")).unwrap();
    bench.write("old/configuration.php", own);
    let asked = bench.run(&[&clone[..], &["--refresh", "--dry-run"]].concat()).expect(1);
    asked.says(&["replaces", "index.php", "configuration.php: has changed at the source"]);
    let outlook =
        report(bench.run(&[&clone[..], &["--refresh", "--dry-run", "--json"]].concat()))["outlook"].clone();
    let list = |of: &str| -> Vec<String> {
        outlook[of].as_array().unwrap().iter().map(|f| f.as_str().unwrap().to_string()).collect()
    };
    assert_eq!(list("new"), ["images/new.txt"]);
    assert_eq!(list("replaced"), ["index.php"]);
    assert_eq!(list("gone"), ["images/übersicht.png"]);
    assert_eq!((&outlook["own"], &outlook["bytes"]), (&2.into(), &50.into()), "{outlook}");
    assert!(files(&bench.path("copy")) == before.0, "a dry run writes nothing");
    let refreshed = report(bench.run(&[&clone[..], &["--refresh", "--json"]].concat()));
    assert_eq!((&refreshed["refreshed"]["stay"], &refreshed["refreshed"]["gone"]), (&1.into(), &0.into()));
    assert!(bench.path("copy/images/übersicht.png").exists());
    let refreshed = report(bench.run(&[&clone[..], &["--refresh", "--delete-gone", "--json"]].concat()));
    assert_eq!(refreshed["refreshed"]["gone"], 1);
    assert!(!bench.path("copy/images/übersicht.png").exists() && bench.read("copy/images/new.txt") == "new");
    assert!(bench.read("copy/index.php").contains("is new"));
    assert_eq!(bench.read("copy/configuration.php"), config);
    let content = server.content(&new);
    assert!(content.contains("Comet night") && content.contains("https://dev.test/news"), "{content}");
    // Back again, step by step.
    for _ in 0..2 {
        let runs = bench.run(&["logbook", "--json"]).json();
        let undone: Vec<String> = runs
            .as_array()
            .unwrap()
            .iter()
            .filter(|r| r["command"] == "undo")
            .map(|r| r["run"].to_string())
            .collect();
        let clones: Vec<&str> = runs
            .as_array()
            .unwrap()
            .iter()
            .filter(|r| r["command"] == "clone")
            .map(|r| r["run"].as_str().unwrap())
            .collect();
        bench.run(&["undo", clones[undone.len()]]).expect(0).says(&["holds again what it held before"]);
    }
    assert_eq!(before.1, server.content(&new));
    let now = files(&bench.path("copy"));
    for ((path, was), (_, is)) in before.0.iter().zip(&now) {
        assert!(was == is, "{}", path.display());
    }
    assert_eq!(before.0.len(), now.len());
}

/// Adds rows until a clone takes a while.
fn heavy(server: &Server, old: &Database) {
    let mut sql = String::new();
    for t in 0..12 {
        sql.push_str(&format!(
            "CREATE TABLE q7w2e_extra_{t} (id int PRIMARY KEY, v text);\nINSERT INTO q7w2e_extra_{t} VALUES "
        ));
        let rows: Vec<String> = (0..4000)
            .map(|r| format!("({r},'http://www.fernhollow.example/{}')", "sky/".repeat(20)))
            .collect();
        sql.push_str(&rows.join(","));
        sql.push_str(";\n");
    }
    server.load_with_client(old, &sql);
}

/// Does something and says how long it took.
fn timed<T>(work: impl FnOnce() -> T) -> (Duration, T) {
    let began = std::time::Instant::now();
    let done = work();
    (began.elapsed(), done)
}

#[test]
fn a_clone_that_was_killed_is_taken_back_and_so_is_a_killed_undo() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    let (_, old) = live(&bench, server, Variant::Joomla310);
    heavy(server, &old);
    for n in 0..300 {
        bench.write(&format!("old/images/{n}.txt"), "x".repeat(5000));
    }
    let before = (files(&bench.path("old")), server.content(&old));
    // How long both take here and now, when nobody disturbs them.
    let undisturbed = server.new_database();
    let url = undisturbed.tcp_url(server);
    let (clone_takes, cloned) =
        timed(|| bench.run(&["clone", "old", "copy", "--address", "https://dev.test", "--database", &url]));
    assert!(cloned.code <= 1, "{cloned:?}");
    let (undo_takes, undone) = timed(|| bench.run(&["undo", &bench.last_run()]));
    undone.expect(0);
    let (mut killed_clones, mut killed_undos) = (0, 0);
    let points = kill_points(8);
    for point in 0..points {
        let new = server.new_database();
        let url = new.tcp_url(server);
        let clone = ["clone", "old", "copy", "--address", "https://dev.test", "--database", &url];
        let share = |of: Duration| of.mul_f64((point as f64 + 0.5) / points as f64);
        if !bench.killed(&clone, share(clone_takes)) {
            let run = bench.last_run();
            bench.run(&["undo", &run]).expect(0);
            continue;
        }
        let runs = bench.run(&["logbook", "--json"]).json();
        if runs[0]["command"] != "clone" || runs[0]["state"] != "unfinished" {
            // Killed before anything was written.
            assert!(is_empty(&bench.path("copy")), "point {point}");
            continue;
        }
        killed_clones += 1;
        let run = bench.last_run();
        // What was cloned in part is undone sooner than the whole.
        killed_undos += u64::from(bench.killed(&["undo", &run], share(undo_takes) / 8));
        let again = bench.run(&["undo", &run]);
        assert!(again.code == 0 || again.stderr.contains("undone already"), "point {point}: {again:?}");
        assert!(
            !bench.path("copy").exists(),
            "point {point}: {again:?} {:?}",
            files(&bench.path("copy")).iter().map(|f| &f.0).collect::<Vec<_>>()
        );
        let left = server.content(&new);
        let told = || bench.run(&["logbook", &run, "--json"]).stdout;
        assert!(!left.contains("CREATE"), "point {point}: {again:?}\n{left:.800}\n{}", told());
    }
    assert!(killed_clones > 0 && killed_undos > 0, "{killed_clones} {killed_undos}");
    assert_eq!(before, (files(&bench.path("old")), server.content(&old)), "the source is only read");
}

#[test]
fn a_server_that_stops_or_hangs_up_gives_no_good_copy() {
    let Some(shared) = server() else { return };
    let Some(mut target) = Server::private() else { return };
    let bench = Bench::new();
    let (_, old) = live(&bench, shared, Variant::Joomla310);
    heavy(shared, &old);
    bench
        .run(&["database", "dump", &old.tcp_url(shared), "-o", "old.sql", "--database-password-file", "pw"])
        .expect(2);
    bench.write("pw", &old.password);
    bench
        .run(&["database", "dump", &old.tcp_url(shared), "-o", "old.sql", "--database-password-file", "pw"])
        .expect(0);
    let new = target.new_database();
    let url = new.tcp_url(&target);
    let load = ["database", "load", "old.sql", url.as_str()];
    let whole = {
        let other = target.new_database();
        bench.run(&["database", "load", "old.sql", &other.tcp_url(&target)]).expect(0);
        target.content(&other)
    };
    // The connection is cut.
    let cut = bench.command(&load).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    target.cut_connections(&new.user);
    let cut = cut.wait_with_output().unwrap();
    let told = String::from_utf8_lossy(&cut.stderr).into_owned();
    assert!(cut.status.code() == Some(4) && told.contains("next:"), "{told}");
    // The server stops in the middle, and is there again: the same command goes on.
    let new = target.new_database();
    let url = new.tcp_url(&target);
    let load = ["database", "load", "old.sql", url.as_str()];
    let stopped = bench.command(&load).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    target.wait_for_tables(&new, 14);
    target.stop();
    let stopped = stopped.wait_with_output().unwrap();
    let told = String::from_utf8_lossy(&stopped.stderr).into_owned();
    assert_eq!(stopped.status.code(), Some(4), "{told}");
    assert!(told.contains("the same command goes on"), "{told}");
    bench.run(&load).expect(4).says(&["nothing answers at this host and port"]);
    target.start_again();
    bench.run(&load).expect(0).says(&["whole from the run before"]);
    assert_eq!(target.content(&new), whole);
    // Of a clone as well: what is half there is said, and taken back.
    let other = target.new_database();
    let url = other.tcp_url(&target);
    let clone = ["clone", "old", "copy", "--address", "https://dev.test", "--database", &url];
    let child = bench.command(&clone).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    target.wait_for_tables(&other, 3);
    target.stop();
    let ended = child.wait_with_output().unwrap();
    assert!(ended.status.code() == Some(4) && !String::from_utf8_lossy(&ended.stdout).contains("Cloned"));
    target.start_again();
    bench.run(&["undo", &bench.last_run()]).expect(0);
    assert!(!bench.path("copy").exists() && !target.content(&other).contains("CREATE"));
}

#[test]
fn a_full_disk_is_said_and_leaves_no_good_copy() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    let (_, old) = live(&bench, server, Variant::Joomla310);
    heavy(server, &old);
    std::fs::create_dir(bench.path("small")).unwrap();
    let mount = |command: &str, args: &[&str]| {
        Command::new(command).args(args).arg(bench.path("small")).status().is_ok_and(|s| s.success())
    };
    if !mount("mount", &["-t", "tmpfs", "-o", "size=1m", "zporter-test"]) {
        eprintln!("SKIPPED: only root may mount a small disk");
        return;
    }
    bench.write("pw", &old.password);
    let dump = bench.run(&[
        "database",
        "dump",
        &old.tcp_url(server),
        "-o",
        "small/d.sql",
        "--database-password-file",
        "pw",
    ]);
    let left = files(&bench.path("small"));
    let new = server.new_database();
    let mut clone =
        bench.command(&["clone", "old", "copy", "--address", "https://dev.test", "--dump-to", "small/c.sql"]);
    clone.env("TMPDIR", bench.path("small"));
    let cloned = crate::common::outcome(clone);
    let left_then = files(&bench.path("small"));
    // A full place for temporary files does no harm to a copy that needs none.
    let mut straight = bench.command(&[
        "clone",
        "old",
        "copy2",
        "--address",
        "https://dev.test",
        "--database",
        &new.tcp_url(server),
    ]);
    straight.env("TMPDIR", bench.path("small"));
    let straight = crate::common::outcome(straight);
    // What cannot be kept is not replaced.
    let shop = rusqlite::Connection::open(bench.path("shop.db")).unwrap();
    shop.execute_batch("CREATE TABLE t (v BLOB); INSERT INTO t VALUES (randomblob(3000000))").unwrap();
    bench.write("t.sql", "PRAGMA foreign_keys=OFF;\nBEGIN TRANSACTION;\nCREATE TABLE t (v BLOB);\nCOMMIT;\n");
    let mut replacing = bench.command(&["database", "load", "t.sql", "sqlite:shop.db", "--empty-database"]);
    replacing.env("XDG_DATA_HOME", bench.path("small"));
    let replacing = crate::common::outcome(replacing);
    let rows: i64 = shop.query_row("SELECT count(*) FROM t", [], |r| r.get(0)).unwrap();
    assert!(mount("umount", &[]));
    assert!(replacing.code == 4 && rows == 1, "{replacing:?}");
    assert!(!replacing.stderr.contains("half loaded"), "{replacing:?}");
    replacing.says(&["so it stays as it is", "No space left", "make room there"]);
    assert!(dump.code == 4 && dump.stderr.contains("No space left"), "{dump:?}");
    assert!(left.is_empty() && left_then.is_empty(), "{left:?} {left_then:?}");
    assert!(cloned.code == 4, "{cloned:?}");
    assert!(straight.code <= 1, "{straight:?}");
}

#[test]
fn the_sites_own_database_is_no_target_and_others_make_room_when_asked() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    let (_, old) = live(&bench, server, Variant::Joomla310);
    let before = (files(&bench.path("old")), server.content(&old));
    bench.write("pw", &old.password);
    // The config names the socket; this is the same database by its port.
    let own = old.tcp_url(server);
    let own = ["--database", &own, "--database-password-file", "pw"];
    let clone = ["clone", "old", "copy", "--address", "https://dev.test"];
    for how in [&["--empty-database"][..], &[]] {
        bench
            .run(&[&clone, &own[..], how].concat())
            .expect(3)
            .says(&["is the database of the site that is cloned"]);
    }
    assert!((files(&bench.path("old")), server.content(&old)) == before && !bench.path("copy").exists());

    let new = server.new_database();
    // One table that the site has as well, and one of another program's.
    let content = server.content(&old);
    let table = content.split("CREATE TABLE `").nth(1).unwrap().split('`').next().unwrap().to_string();
    server.load_with_client(&new, &format!("CREATE TABLE `{table}` (a int); INSERT INTO `{table}` VALUES (7); CREATE TABLE wanted (a int); INSERT INTO wanted VALUES (8);"));
    let there = server.content(&new);
    let url = new.tcp_url(server);
    let clone = [&clone[..], &["--database", &url]].concat();
    bench.run(&clone).expect(3).says(&["--empty-database"]);
    let planned = bench.run(&[&clone[..], &["--empty-database", "--dry-run"]].concat());
    assert!(planned.code <= 1 && server.content(&new) == there, "{planned:?}");
    planned.says(&[
        "replaces",
        &format!("1 table, of which a dump is kept: {table}"),
        "left alone",
        "1 table of others in the database: wanted",
    ]);
    let cloned = bench.run(&[&clone[..], &["--empty-database"]].concat());
    assert!(cloned.code <= 1, "{cloned:?}");
    assert!(
        server.content(&new).contains("INSERT INTO `wanted` VALUES (8)")
            && server.content(&new).contains("dev.test")
    );
    bench.run(&["undo", &bench.last_run()]).expect(0).says(&["holds again", "is kept in"]);
    assert!(server.content(&new) == there && !bench.path("copy").exists());
}

#[test]
fn a_target_that_takes_no_writes_is_said_and_left() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    live(&bench, server, Variant::Joomla310);
    std::fs::create_dir(bench.path("fixed")).unwrap();
    let mount = |command: &str, args: &[&str]| {
        Command::new(command).args(args).arg(bench.path("fixed")).status().is_ok_and(|s| s.success())
    };
    if !mount("mount", &["-t", "tmpfs", "-o", "ro", "zporter-test"]) {
        eprintln!("SKIPPED: only root may mount a disk");
        return;
    }
    let new = server.new_database();
    let url = new.tcp_url(server);
    let cloned =
        bench.run(&["clone", "old", "fixed/copy", "--address", "https://dev.test", "--database", &url]);
    let dumped =
        bench.run(&["clone", "old", "copy", "--address", "https://dev.test", "--dump-to", "fixed/d.sql"]);
    assert!(mount("umount", &[]));
    for done in [cloned, dumped] {
        done.expect(4).says(&["Read-only file system", "fixed"]);
    }
    assert!(!server.content(&new).contains("CREATE"), "nothing was loaded");
}
