//! What a command must leave alone at a site at work, and what it looks at before it changes anything.

use crate::common::mariadb::server;
use crate::common::{Bench, files};
use mysql::prelude::Queryable;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Duration;
use zporter_standin::{VARIANTS, Variant};

#[test]
fn material_that_cannot_be_read_is_no_material_without_faults() {
    let bench = Bench::new();
    let site = bench.site(Variant::Joomla310);
    let text = site.dump().into_bytes();
    // What cannot be made here is told by its first bytes.
    let sealed: [(&str, &[u8]); 8] = [
        ("a.sql.bz2", b"BZh91AY&SY\x8f\x22\x00\x01"),
        ("a.sql.xz", b"\xFD7zXZ\0\0\x04\xe6\xd6"),
        ("a.sql.lz4", b"\x04\x22\x4D\x18\x64\x40"),
        ("a.sql.7z", b"7z\xBC\xAF\x27\x1C\0\x04"),
        ("a.sql.Z", b"\x1F\x9D\x90\x2d"),
        ("a.dump", b"PGDMP\x01\x0e\x00"),
        ("random.sql", b"\x01\x02\x03\xff\x00\x7f\x10\x11"),
        ("picture.sql", b"\x89PNG\r\n\x1a\n\0\0\0\rIHDR"),
    ];
    for (name, start) in sealed {
        bench.write(name, [start, &text[..]].concat());
        let all: [&[&str]; 6] = [
            &["trace", name, "--old-address", "http://old.example"],
            &["survey", "old", "--dump", name],
            &["pack", "old", "--dump", name, "-o", "a.tar.zst"],
            &["readdress", name, "-o", "out.sql", "--address", "http://old.example", "http://new.example"],
            &["database", "load", name, "sqlite:new.db"],
            &[
                "clone",
                "old",
                "new",
                "--dump",
                name,
                "--address",
                "http://n.example",
                "--database",
                "mysql://u@h/n",
                "--dump-to",
                "n.sql",
            ],
        ];
        for args in all {
            let done = bench.run(args);
            assert!(matches!(done.code, 2 | 5) && !done.stdout.contains('✓'), "{args:?}: {done:?}");
        }
        for made in ["a.tar.zst", "out.sql", "new", "n.sql", "new.db"] {
            assert!(!bench.path(made).exists(), "{name}: {made}");
        }
    }
    // In a folder it is said which files nobody looked into.
    std::fs::create_dir(bench.path("backups")).unwrap();
    bench.write("backups/site.sql.bz2", "BZh91AY");
    bench.write("backups/note.txt", "nothing");
    bench
        .run(&["trace", "backups", "--old-address", "http://old.example"])
        .expect(1)
        .says(&["site.sql.bz2", "not looked into"]);
    let mut gz = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    std::io::Write::write_all(&mut gz, b"<a href='http://old.example/x'>").unwrap();
    bench.write("backups/page.html.gz", gz.finish().unwrap());
    bench.run(&["trace", "backups", "--old-address", "http://old.example"]).expect(1).says(&["page.html.gz"]);
    // Nothing is no dump.
    for empty in ["", "\n\n", "-- exported\n-- by nobody\n", "/* */\n"] {
        bench.write("empty.sql", empty);
        bench.run(&["database", "load", "empty.sql", "sqlite:e.db"]).expect(5).says(&["is empty"]);
    }
    bench.write("settings.sql", "PRAGMA foreign_keys=OFF;\nBEGIN TRANSACTION;\nCOMMIT;\n");
    bench.run(&["database", "load", "settings.sql", "sqlite:e.db"]).expect(1).says(&["holds no rows"]);
}

/// The site's files with their bytes.
fn tree(folder: &Path) -> Vec<(std::path::PathBuf, Vec<u8>)> {
    let mut all = files(folder);
    all.sort();
    all
}

#[test]
fn an_undo_whose_way_back_is_gone_is_refused_before_anything_changes() {
    let Some(server) = server() else { return };
    let losses = ["tables", "one table", "folder", "list", "file"];
    for loss in losses {
        let bench = Bench::new();
        let (_, database) = bench.live(server, Variant::Joomla310);
        bench.run(&["pack", "old", "-o", "a.tar.zst"]).expect(0);
        let done = bench.run(&["restore", "a.tar.zst", "--in-place"]);
        assert!(done.code <= 1, "{done:?}");
        let run = bench.last_run();
        let mut root = server.root();
        let kept: Vec<String> = root
            .query(format!(
                "SELECT table_name FROM information_schema.tables WHERE table_schema = '{}' AND table_name NOT LIKE 'q7w2e%'",
                database.name
            ))
            .unwrap();
        let beside = || {
            std::fs::read_dir(bench.path(""))
                .unwrap()
                .flatten()
                .map(|e| e.path())
                .find(|p| p.display().to_string().contains("-beside-"))
                .unwrap()
        };
        let record = bench.path(&format!("home/.local/share/zporter/logbook/{run}.made"));
        match loss {
            "tables" | "one table" => {
                assert!(kept.len() > 3, "{kept:?}");
                for table in kept.iter().take(if loss == "tables" { usize::MAX } else { 1 }) {
                    root.query_drop(format!(
                        "SET FOREIGN_KEY_CHECKS=0; DROP TABLE {}.`{table}`",
                        database.name
                    ))
                    .unwrap();
                }
            }
            "folder" => std::fs::remove_dir_all(beside()).unwrap(),
            "list" => std::fs::remove_file(&record).unwrap(),
            _ => {
                // Somebody put another folder in the place of the one that the run made.
                std::fs::rename(bench.path("old"), bench.path("moved away")).unwrap();
                std::fs::create_dir(bench.path("old")).unwrap();
                bench.write("old/index.php", "<?php");
            }
        }
        let (before, rows) = (tree(&bench.path("old")), server.content(&database));
        for args in [&["undo", "last", "--dry-run"][..], &["undo", "last"], &["undo", &run]] {
            if args.len() == 3 && loss.contains("table") {
                // The database is looked into by the undo itself.
                continue;
            }
            let refused = bench.run(args).expect(3).says(&["is gone"]);
            assert!(!refused.stdout.contains('✓'), "{loss}: {refused:?}");
        }
        assert!(before == tree(&bench.path("old")) && rows == server.content(&database), "{loss}");
    }
}

#[test]
fn a_switch_changes_its_own_key_and_no_other() {
    let Some(server) = server() else { return };
    for variant in [Variant::OpenCart3, Variant::PrestaShop16, Variant::Joomla310, Variant::Drupal10] {
        let bench = Bench::new();
        let (site, database) = bench.live(server, variant);
        let _ = std::fs::remove_dir_all(bench.path("old/sites/members.fernhollow.example"));
        // Both spellings of the own address, in files and rows, as many a shop has them.
        let other = match site.address.strip_prefix("https://") {
            Some(bare) => format!("http://{bare}"),
            None => site.address.replacen("http://", "https://", 1),
        };
        for (path, bytes) in files(&bench.path("old")) {
            let text = String::from_utf8_lossy(&bytes).into_owned();
            if text.contains(&site.address)
                && text.starts_with("<?php")
                && std::str::from_utf8(&bytes).is_ok()
            {
                std::fs::write(bench.path("old").join(&path), text.replacen(&site.address, &other, 1))
                    .unwrap();
            }
        }
        server.load_with_client(
            &database,
            &format!("CREATE TABLE `{}zz` (id int PRIMARY KEY, v text); INSERT INTO `{0}zz` VALUES (1,'{}'),(2,'{other}');", site.prefix, site.address),
        );
        let rows = |content: &str| content.lines().map(str::to_string).collect::<Vec<_>>();
        let before = (tree(&bench.path("old")), rows(&server.content(&database)));
        for state in ["maintenance=on", "mail=off", "index=off", "maintenance=off"] {
            let done = bench.run(&["switch", "old", state]);
            if done.code > 1 {
                continue;
            }
            let after = (tree(&bench.path("old")), rows(&server.content(&database)));
            // Every line with an address is as it was, and hardly any other changed.
            let lines = |all: &[(std::path::PathBuf, Vec<u8>)]| -> Vec<String> {
                let text = all.iter().map(|(_, bytes)| String::from_utf8_lossy(bytes).into_owned());
                text.flat_map(|t| t.lines().map(str::to_string).collect::<Vec<_>>()).collect()
            };
            let named = |all: &[String]| {
                all.iter()
                    .filter(|l| l.contains("fernhollow.example") && l.contains("//"))
                    .cloned()
                    .collect::<Vec<_>>()
            };
            assert_eq!(named(&lines(&before.0)), named(&lines(&after.0)), "{variant:?} {state}");
            let zz = |all: &[String]| all.iter().filter(|l| l.contains("zz`")).cloned().collect::<Vec<_>>();
            assert_eq!(zz(&before.1), zz(&after.1), "{variant:?} {state}");
            let other = lines(&before.0).iter().zip(&lines(&after.0)).filter(|(a, b)| a != b).count();
            assert!(other <= 2, "{variant:?} {state}: {other} lines of files changed");
        }
    }
}

#[test]
fn what_is_not_carried_into_copies_is_not_deleted_where_it_lies() {
    let Some(server) = server() else { return };
    for variant in VARIANTS.into_iter().filter(|v| !matches!(v, Variant::Dnn5 | Variant::Dnn9)) {
        let bench = Bench::new();
        let (site, _database) = bench.live(server, variant);
        let _ = std::fs::remove_dir_all(bench.path("old/sites/members.fernhollow.example"));
        let keep = [
            "logs/error.log",
            "administrator/logs/everything.php",
            "log/20261001_exception.log",
            "var/logs/prod.log",
            "var/sessions/sess_1",
            "system/logs/error.log",
            "system/storage/logs/error.txt",
            "system/storage/session/sess_2",
            "system/storage/backup/2026.sql",
            "tmp/upload.dat",
            "venv/bin/python",
            ".venv/pyvenv.cfg",
            "wp-content/debug.log",
            "wp-content/uploads/wc-logs/pay.log",
            "wp-content/upgrade-temp-backup/plugin/a.php",
            "wp-content/cache/before.sql.gz",
            "cache/dump.sql",
            "cache/production/queue.php",
            "sites/default/files/translations/de.po",
            "error_log",
        ];
        // A board keeps its mails in a cache that it purges around them.
        let board = matches!(variant, Variant::PhpBb30 | Variant::PhpBb33);
        let keep: Vec<&str> = keep.into_iter().filter(|path| board || !path.ends_with("queue.php")).collect();
        for path in &keep {
            std::fs::create_dir_all(bench.path("old").join(path).parent().unwrap()).unwrap();
            bench.write(&format!("old/{path}"), format!("kept {path}"));
        }
        let there = |what: &str| {
            for path in &keep {
                assert!(bench.path("old").join(path).exists(), "{variant:?}: {what} took {path}");
                assert_eq!(
                    bench.read(&format!("old/{path}")),
                    format!("kept {path}"),
                    "{variant:?}: {what} took it"
                );
            }
        };
        let done = bench.run(&["switch", "old", "cache=clear"]);
        assert!(done.code <= 1, "{variant:?} {done:?}");
        there("cache=clear");
        let args = ["settle", "old", "--address", "https://moved.example", "--old-address", &site.address];
        let done = bench.run(&args);
        assert!(done.code <= 1, "{variant:?} {done:?}");
        there("settle");
        // A site that is brought back takes over what its archive does not hold.
        let done = bench.run(&["pack", "old", "-o", "a.tar.zst"]);
        assert!(done.code <= 1, "{variant:?} {done:?}");
        let done = bench.run(&["restore", "a.tar.zst", "--in-place"]);
        assert!(done.code <= 1, "{variant:?} {done:?}");
        there("restore --in-place");
    }
}

#[test]
fn what_waits_on_the_disk_meanwhile_is_for_nobody_elses_eyes() {
    let bench = Bench::new();
    bench.site(Variant::Joomla310);
    let mut noise: u64 = 7;
    let more: Vec<u8> = (0..32 << 20)
        .map(|_| {
            noise = noise.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
            (noise >> 40) as u8
        })
        .collect();
    bench.write("old/images/noise.bin", more);
    std::fs::create_dir(bench.path("waits")).unwrap();
    let plain = bench.command(&["pack", "old", "--dump", "old.sql", "-o", "-"]);
    let mut command = Command::new("sh");
    command.args(["-c", "umask 000; exec \"$0\" \"$@\""]).arg(plain.get_program()).args(plain.get_args());
    command.current_dir(bench.path("")).env_clear().envs(plain.get_envs().filter_map(|(k, v)| Some((k, v?))));
    command.env("TMPDIR", bench.path("waits"));
    let mut child = command.stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
    // Nobody takes the archive: it stands still with its rows in the folder.
    std::thread::sleep(Duration::from_millis(1500));
    let mut found = 0;
    for entry in std::fs::read_dir(bench.path("waits")).unwrap().flatten() {
        let mode = entry.metadata().unwrap().permissions().mode() & 0o777;
        assert_eq!(mode & 0o077, 0, "{:?} {mode:o}", entry.path());
        for inner in std::fs::read_dir(entry.path()).into_iter().flatten().flatten() {
            let mode = inner.metadata().unwrap().permissions().mode() & 0o777;
            assert_eq!(mode & 0o077, 0, "{:?} {mode:o}", inner.path());
            found += 1;
        }
    }
    assert!(found > 0, "no rows wait anywhere");
    let _ = child.kill();
    child.wait().unwrap();
}

#[test]
fn a_refresh_and_a_push_go_over_nobodys_work_unasked() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    let (site, database) = bench.live(server, Variant::Joomla310);
    let new = server.new_database();
    bench.write("pw", &new.password);
    let p = &site.prefix;
    let rows = |table: &str| {
        format!(
            "CREATE TABLE `{p}{table}` (id int PRIMARY KEY, t text);\nINSERT INTO `{p}{table}` VALUES (1, 'one');\n"
        )
    };
    server.load_with_client(&database, &(rows("plans") + &rows("notes")));
    let url = new.tcp_url(server);
    let to = ["--address", "http://dev.test/d", "--database", &url, "--database-password-file", "pw"];
    let clone = |from: &str, target: &str, more: &[&str]| {
        let place: &[&str] = if more.contains(&"--push") { &[] } else { &to };
        bench.run(&[&["clone", from, target], place, more].concat())
    };
    let made = clone("old", "dev", &["--set", "mail=off"]);
    assert!(made.code <= 1, "{made:?}");
    std::thread::sleep(Duration::from_millis(50));
    let state = |folder: &str, database| (tree(&bench.path(folder)), server.content(database));
    // Nobody did anything in the copy: it is brought up to date without a question.
    server.load_with_client(&database, &format!("UPDATE `{p}plans` SET t = 'two';"));
    bench.write("old/index.php", "<?php // changed at the source\n");
    let done = clone("old", "dev", &["--refresh"]);
    assert!(done.code <= 1 && !done.stdout.contains("overwritten"), "{done:?}");
    assert!(bench.read("dev/index.php").contains("at the source"));
    std::thread::sleep(Duration::from_millis(50));
    // Somebody worked in the copy, in rows and in files that both have.
    server.load_with_client(&new, &format!("UPDATE `{p}notes` SET t = 'my own work';"));
    bench.write("dev/index.php", "<?php // my own work\n");
    bench.write("dev/mine.php", "<?php // mine alone\n");
    bench.write("old/index.php", "<?php // changed again at the source\n");
    server.load_with_client(&database, &format!("UPDATE `{p}notes` SET t = 'three';"));
    let before = state("dev", &new);
    let named = format!("{p}notes");
    let asked = clone("old", "dev", &["--refresh", "--dry-run"]).expect(1);
    asked.says(&["would be overwritten", &named, "index.php"]);
    let refused = clone("old", "dev", &["--refresh"]).expect(3);
    assert!(!refused.stderr.contains(&format!("{p}plans")), "{refused:?}");
    refused.says(&[&named, "index.php", "--overwrite"]);
    clone("old", "dev", &["--refresh", "--delete-gone"]).expect(3).says(&["mine.php"]);
    assert!(before == state("dev", &new));
    // The other way: somebody worked at the live site since.
    let live = state("old", &database);
    let refused = clone("dev", "old", &["--push"]).expect(3);
    refused.says(&[&named, "index.php", "--overwrite"]);
    assert!(live == state("old", &database));
    let done = clone("old", "dev", &["--refresh", "--overwrite"]).expect(1);
    done.says(&["overwritten", &named, "index.php"]);
    assert!(bench.read("dev/index.php").contains("changed again"));
    bench.run(&["undo", "last", "--database-password-file", "pw"]).expect(0);
    assert!(bench.read("dev/index.php").contains("my own work"));
    assert!(server.content(&new).contains("my own work"));
    let done = clone("dev", "old", &["--push", "--overwrite"]).expect(1);
    done.says(&["overwritten", &named, "index.php"]);
    assert!(bench.read("old/index.php").contains("my own work"));
}

#[test]
fn a_copy_says_what_of_it_stays_live() {
    let bench = Bench::new();
    bench.site(Variant::PrestaShop16);
    let to = ["--address", "http://dev.test", "--database", "mysql://u@h/n", "--dump-to", "n.sql"];
    let told = ["sends mail", "PS_WEBSERVICE", "set it by hand in the copy"];
    bench.run(&[&["clone", "old", "new", "--dump", "old.sql"], &to[..]].concat()).expect(1).says(&told);
    let quiet = ["clone", "old", "two", "--dump", "old.sql", "--set", "mail=off"];
    let to = ["--address", "http://dev.test", "--database", "mysql://u@h/n", "--dump-to", "m.sql"];
    let done = bench.run(&[&quiet, &to[..]].concat()).expect(1);
    assert!(!done.stdout.contains("sends mail"), "{done:?}");
    // A move is no copy beside its site.
    let to = ["--address", "http://dev.test", "--database", "mysql://u@h/n", "--dump-to", "o.sql"];
    bench.run(&["pack", "old", "--dump", "old.sql", "-o", "a.tar.zst"]).expect(0);
    let restored = bench.run(&[&["restore", "a.tar.zst", "three"], &to[..]].concat());
    assert!(!restored.stdout.contains("stay live"), "{restored:?}");
}

#[test]
fn tables_of_others_stay_where_they_are_and_are_told_and_taken_when_asked_for() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    let (_site, database) = bench.live(server, Variant::Joomla310);
    let other = "CREATE TABLE `shopstats` (id int PRIMARY KEY, t text);\nINSERT INTO `shopstats` VALUES (1, 'first');\n\
                 CREATE TABLE `wp_posts` (id int PRIMARY KEY, t text);\nINSERT INTO `wp_posts` VALUES (1, 'a neighbor''s');\n";
    server.load_with_client(&database, other);
    bench.run(&["survey", "old"]).expect(0).says(&["shopstats", "wp_posts", "not the site's"]);
    bench.run(&["pack", "old", "-o", "own.tar.zst"]).expect(0).says(&["shopstats", "wp_posts", "--tables"]);
    bench.run(&["pack", "old", "--tables", "shop*", "-o", "with.tar.zst"]).expect(0);
    bench.run(&["pack", "old", "--tables", "*", "-o", "all.tar.zst"]).expect(0);
    let tables = |archive: &str, more: &[&str]| -> Vec<String> {
        let new = server.new_database();
        let url = new.socket_url(server);
        let target = format!("n{}", new.name);
        let to = ["restore", archive, &target, "--address", "https://n.example", "--database", &url];
        let done = bench.run(&[&to, more].concat());
        assert!(done.code <= 1, "{done:?}");
        let mut root = server.root();
        let names: Vec<String> = root.query(format!("SHOW TABLES FROM {}", new.name)).unwrap();
        names.into_iter().filter(|t| !t.starts_with("q7w2e_")).collect()
    };
    assert!(tables("own.tar.zst", &[]).is_empty());
    assert_eq!(tables("with.tar.zst", &["--tables", "shopstats"]), ["shopstats"]);
    // What an archive holds of others is taken out of it when asked for alone.
    assert!(tables("all.tar.zst", &[]).is_empty());
    assert_eq!(tables("all.tar.zst", &["--tables", "*"]), ["shopstats", "wp_posts"]);
    server.load_with_client(&database, "UPDATE `wp_posts` SET t = 'written since';");
    let done = bench.run(&["restore", "all.tar.zst", "--in-place"]);
    assert!(done.code <= 1, "{done:?}");
    done.says(&["wp_posts"]);
    assert!(server.content(&database).contains("written since"));
}

#[test]
fn what_a_run_keeps_for_its_undo_is_never_carried() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    // A site without a prefix: its tables are told by nothing but their names.
    let database = server.database("fake'Old\\pass %31");
    let mut site = zporter_standin::Site::of(Variant::Drupal10);
    site.root = bench.path("old").display().to_string();
    site.prefix = "".into();
    let host = format!("localhost:{}", server.socket);
    site.database = [host, database.user.clone(), database.password.clone(), database.name.clone()];
    site.write(&bench.path("old")).unwrap();
    server.load_with_client(&database, &site.dump());
    let _ = std::fs::remove_dir_all(bench.path("old/sites/members.fernhollow.example"));
    let packed = bench.run(&["pack", "old", "-o", "a.tar.zst"]);
    assert!(packed.code <= 1, "{packed:?}");
    let count = |database: &crate::common::mariadb::Database| -> u64 {
        let sql = format!(
            "SELECT count(*) FROM information_schema.tables WHERE table_schema = '{}'",
            database.name
        );
        server.root().query_first(sql).unwrap().unwrap()
    };
    let before = count(&database);
    server.load_with_client(&database, "ALTER TABLE config COMMENT = 'Base table; watched';");
    let done = bench.run(&["restore", "a.tar.zst", "--in-place"]);
    assert!(done.code <= 1, "{done:?}");
    let restored = bench.last_run();
    assert!(count(&database) > before, "nothing is kept aside");
    let new = server.new_database();
    let url = new.socket_url(server);
    let done = bench.run(&["clone", "old", "copy", "--address", "https://n.example", "--database", &url]);
    assert!(done.code <= 1, "{done:?}");
    assert_eq!(count(&new), before);
    let packed = bench.run(&["pack", "old", "-o", "b.tar.zst", "--json"]);
    assert!(packed.code <= 1, "{packed:?}");
    assert_eq!(packed.json()["tables"], before, "{packed:?}");
    // Another account, which has no record of the run, knows by the mark in the tables; one renamed back by hand is the site's again.
    let elsewhere = |archive: &str| {
        let mut pack = bench.command(&["pack", "old", "-o", archive, "--json"]);
        pack.env("HOME", bench.path("elsewhere"));
        crate::common::outcome(pack)
    };
    let packed = elsewhere("d.tar.zst");
    assert_eq!(packed.json()["tables"], before, "{packed:?}");
    let comment = |table: &str| -> String {
        let sql = format!(
            "SELECT table_comment FROM information_schema.tables WHERE table_schema = '{}' AND table_name = '{table}'",
            database.name
        );
        server.root().query_first(sql).unwrap().unwrap_or_default()
    };
    let sql = "SELECT table_name FROM information_schema.tables WHERE table_comment LIKE 'kept by zporter%watched' LIMIT 1";
    let kept: String = server.root().query_first(sql).unwrap().unwrap();
    server.load_with_client(&database, &format!("RENAME TABLE `{kept}` TO `by_hand`;"));
    let packed = elsewhere("e.tar.zst");
    assert_eq!(packed.json()["tables"], before + 1, "{packed:?}");
    server.load_with_client(&database, &format!("RENAME TABLE `by_hand` TO `{kept}`;"));
    // One of the same kind of name that no run has made is somebody's, and is carried.
    server.load_with_client(&database, "CREATE TABLE `zp_0badc0_n1` (id int PRIMARY KEY);");
    let packed = bench.run(&["pack", "old", "-o", "c.tar.zst", "--json"]);
    assert_eq!(packed.json()["tables"], before + 1, "{packed:?}");
    // What comes back has its own comment, and what went instead is kept now.
    bench.run(&["undo", &restored]).says(&["Undone"]);
    assert_eq!(comment("config"), "Base table; watched");
    let packed = elsewhere("f.tar.zst");
    assert_eq!(packed.json()["tables"], before + 1, "{packed:?}");
}
