//! Sites that are changed where they lie: settled after they were carried by hand, and switched; on every system, and back again.

use super::common::mariadb::{Database, Server, server};
use super::common::php::{self, Php};
use super::common::{Bench, files, holds, kill_points, postgres};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Instant;
use zporter_standin::{Site, VARIANTS, Variant};

/// What is in a folder, without what the site's system makes anew.
fn kept(folder: &Path) -> Vec<(PathBuf, Vec<u8>)> {
    let made = [
        "cache",
        "tmp",
        "log",
        "compile",
        "php/twig",
        "files/css",
        "debug.log",
        "class_index",
        "wc-logs",
        "vqmod",
    ];
    let kept = |path: &PathBuf| !made.iter().any(|m| path.display().to_string().contains(m));
    files(folder).into_iter().filter(|(path, _)| kept(path)).collect()
}

/// The rows of a database, without those of caches.
fn content(server: &Server, database: &Database) -> Vec<String> {
    let content = server.content(database);
    let cache = |line: &str| {
        line.starts_with("INSERT INTO") && line.split('`').nth(1).is_some_and(|t| t.contains("cache"))
    };
    content.lines().filter(|l| !cache(l)).map(str::to_string).collect()
}

/// A site whose files and rows were carried by hand: config and rows believe in the old place.
fn carried(bench: &Bench, server: &Server, variant: Variant) -> (Site, Database) {
    let (mut site, database) = bench.live(server, variant);
    site.root = format!("/home/fernhollow/{}", site.definition());
    std::fs::remove_dir_all(bench.path("old")).unwrap();
    let folder = bench.path("web/site");
    std::fs::create_dir_all(&folder).unwrap();
    site.write(&folder).unwrap();
    server.load_with_client(&database, &site.dump());
    // One host alone, or somebody would have to say which.
    let _ = std::fs::remove_dir_all(folder.join("sites/members.fernhollow.example"));
    if variant == Variant::Drupal7 {
        // A path from the document root is right as it is.
        assert!(bench.path("web/private/letter.txt").exists());
    }
    (site, database)
}

#[test]
fn a_site_that_was_carried_by_hand_is_settled_and_unsettled() {
    let Some(server) = server() else { return };
    if !php::there() {
        return;
    }
    let settled = |v: &Variant| !matches!(v, Variant::Dnn5 | Variant::Dnn9);
    for variant in VARIANTS.into_iter().filter(settled) {
        let bench = Bench::new();
        let (site, database) = carried(&bench, server, variant);
        if site.write_outside(&bench.path("web/outside")).unwrap() {
            continue;
        }
        let before = (kept(&bench.path("web/site")), content(server, &database));
        let port = php::port();
        let (host, address) = (format!("moved.test:{port}"), format!("http://moved.test:{port}/site"));
        let args = [
            "settle",
            "web/site",
            "--address",
            &address,
            "--old-root",
            &site.root,
            "--old-address",
            &site.address,
        ];
        let dry = bench.run(&[&args[..], &["--dry-run"]].concat());
        assert!(dry.code <= 1, "{variant:?} {}{}", dry.stdout, dry.stderr);
        assert!(
            before == (kept(&bench.path("web/site")), content(server, &database)),
            "{variant:?}: a dry run changes nothing"
        );
        let done = bench.run(&[&args[..], &["--json"]].concat());
        assert!(done.code <= 1, "{variant:?} {}{}", done.stdout, done.stderr);
        let document = done.document();
        let planned = dry.stdout.lines().next().unwrap().replace("Would settle", "Settled");
        assert!(
            planned.contains(document["verdict"].as_str().unwrap()),
            "{variant:?}: {planned}\n{document:#}"
        );
        let php = Php::serve(&bench.path("web"), port);
        let (status, page) = php.get(&host, "/site/");
        assert!(
            status == 200 && page.contains(&address) && !page.contains("BROKEN"),
            "{variant:?}: {page}\n{document:#}"
        );
        let page =
            page.replace(&format!("{}2", site.address), "").replace(&format!("{}.test", site.address), "");
        assert!(!page.contains(&site.address), "{variant:?}: {page}");
        // Nothing is left to be done.
        let again = bench.run(&["settle", "web/site", "--old-root", &site.root]);
        again.says(&["is right where it lies"]);
        let undone = bench.run(&["undo", "last"]);
        assert!(undone.code <= 1, "{variant:?} {}{}", undone.stdout, undone.stderr);
        let after = (kept(&bench.path("web/site")), content(server, &database));
        let other = before.1.iter().zip(&after.1).find(|(a, b)| a != b);
        assert!(before.1 == after.1, "{variant:?}: {other:?}");
        assert!(before.0 == after.0, "{variant:?}: files differ after the undo");
    }
}

#[test]
fn a_site_whose_tables_have_another_prefix_is_settled() {
    let Some(server) = server() else { return };
    for variant in [Variant::WordPress, Variant::Joomla310, Variant::PrestaShop16] {
        let bench = Bench::new();
        let (site, database) = carried(&bench, server, variant);
        let renamed: String = server
            .content(&database)
            .lines()
            .filter_map(|l| l.strip_prefix("CREATE TABLE `")?.split('`').next())
            .filter_map(|t| {
                Some(format!("RENAME TABLE `{t}` TO `moved_{}`;\n", t.strip_prefix(&site.prefix)?))
            })
            .collect();
        server.load_with_client(&database, &renamed);
        let args = [
            "settle",
            "web/site",
            "--address",
            "https://moved.test/x",
            "--old-root",
            &site.root,
            "--old-address",
            &site.address,
        ];
        let done = bench.run(&[&args[..], &["--table-prefix", "moved_"]].concat());
        assert!(done.code <= 1, "{variant:?} {}{}", done.stdout, done.stderr);
        let survey = bench.run(&["survey", "web/site", "--json"]).json();
        assert_eq!(
            survey["config"]
                .as_array()
                .unwrap()
                .iter()
                .filter(|v| v["role"] == "table-prefix")
                .filter(|v| v["value"] != "moved_")
                .count(),
            0,
            "{variant:?}"
        );
        assert!(server.content(&database).contains("moved.test/x"), "{variant:?}");
        bench.run(&["undo", "last"]).says(&["Undone"]);
    }
}

#[test]
fn switches_of_a_live_site_are_shown_set_and_set_back() {
    let Some(server) = server() else { return };
    let is = |bench: &Bench, name: &str| -> Vec<String> {
        let states = bench.run(&["switch", "web/site", "--json"]).expect(0).json();
        let of = states.as_array().unwrap().iter().filter(|s| s["name"] == name);
        of.map(|s| s["state"].as_str().unwrap_or("?").to_string()).collect()
    };
    for variant in [
        Variant::Joomla310,
        Variant::PrestaShop16,
        Variant::OpenCart3,
        Variant::PhpBb33,
        Variant::Drupal7,
        Variant::Drupal10,
        Variant::WordPress,
    ] {
        let bench = Bench::new();
        let (_, database) = carried(&bench, server, variant);
        let before = (files(&bench.path("web/site")), content(server, &database));
        assert!(
            is(&bench, "maintenance").iter().all(|s| s != "on"),
            "{variant:?} {:?}",
            is(&bench, "maintenance")
        );
        let done = bench.run(&["switch", "web/site", "maintenance=on"]);
        assert!(done.code == 0, "{variant:?} {}{}", done.stdout, done.stderr);
        assert!(is(&bench, "maintenance").contains(&"on".to_string()), "{variant:?}");
        // Nothing else was touched: not the caches, not what speaks of another place.
        let changed = files(&bench.path("web/site"))
            .into_iter()
            .filter(|f| !before.0.iter().any(|b| b == &(f.0.clone(), f.1.clone())));
        assert!(changed.count() <= 1, "{variant:?}");
        bench.run(&["undo", "last"]).expect(0).says(&["Undone"]);
        assert!(before == (files(&bench.path("web/site")), content(server, &database)), "{variant:?}");
        bench.run(&["switch", "web/site", "lights=off"]).expect(2).says(&["maintenance=on"]);
    }
    // Caches are emptied; what has to lie in them stays.
    let bench = Bench::new();
    let _ = carried(&bench, server, Variant::PrestaShop16);
    assert!(bench.path("web/site/cache/smarty/compile/a1/b2/page.tpl.php").exists());
    bench.run(&["switch", "web/site", "cache=clear"]).expect(0).says(&["taken away"]);
    assert!(!bench.path("web/site/cache/smarty/compile/a1/b2/page.tpl.php").exists());
    assert!(bench.path("web/site/cache/smarty/compile/index.php").exists());
}

#[test]
fn a_settle_that_is_killed_is_taken_back_whole() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    let (site, database) = carried(&bench, server, Variant::WordPress);
    let posts: Vec<String> =
        (10..4000).map(|i| format!("({i},'t','<a href=\"{}/p{i}\">x</a>','g')", site.address)).collect();
    let sql = format!("INSERT INTO `{}posts` VALUES {};\n", site.prefix, posts.join(","));
    server.load_with_client(&database, &(site.dump() + &sql));
    let before = (kept(&bench.path("web/site")), content(server, &database));
    let args = ["settle", "web/site", "--address", "http://moved.test/site", "--old-root", &site.root];
    let began = Instant::now();
    bench.run(&args).says(&["Settled"]);
    let whole = began.elapsed();
    bench.run(&["undo", "last"]).says(&["Undone"]);
    let mut interrupted = 0;
    let points = kill_points(8);
    for point in 0..points {
        let after = whole.mul_f64((point as f64 + 0.5) / points as f64);
        interrupted += usize::from(bench.killed(&args, after));
        let run = bench.run(&["logbook", "--json"]).json()[0].clone();
        if run["command"] == "settle" {
            let undone = bench.run(&["undo", run["run"].as_str().unwrap()]);
            assert!(undone.code <= 1, "{}{}", undone.stdout, undone.stderr);
        }
        assert_eq!(before.1, content(server, &database), "after {after:?}");
        assert!(before.0 == kept(&bench.path("web/site")), "after {after:?}");
    }
    assert!(interrupted > 0, "no run was killed on its way");
}

/// Access of a site whose database is a file.
pub const SQLITE: &str =
    "'database' => 'sites/default/files/.ht.sqlite', 'prefix' => '', 'driver' => 'sqlite'";

/// Writes a site that names its database so.
pub fn write(bench: &Bench, access: &str) {
    let site = Site::of(Variant::Drupal10);
    site.write(&bench.path("site")).unwrap();
    let _ = std::fs::remove_dir_all(bench.path("site/sites/members.fernhollow.example"));
    let path = bench.path("site/sites/default/settings.php");
    std::fs::remove_file(&path).unwrap();
    std::fs::write(&path, format!("<?php\n$settings['trusted_host_patterns'] = ['^club\\.fernhollow\\.example$'];\n$databases['default']['default'] = array ({access});\n")).unwrap();
}

#[test]
fn sites_on_other_engines_are_settled_as_well() {
    const LINK: &str = "http://club.fernhollow.example";
    let rows = |bytes: &dyn Fn(&str) -> String, kind: &str| {
        let html = format!("a:1:{{s:4:\"html\";s:{}:\"<a href=\"{LINK}\">\";}}", LINK.len() + 11);
        format!(
            "CREATE TABLE config (collection varchar(255) NOT NULL, name varchar(255) NOT NULL, data {kind}, PRIMARY KEY (collection, name));\n\
             INSERT INTO config VALUES ('', 'block.start', {}), ('', 'block.other', NULL);\n\
             CREATE TABLE node__body (entity_id int PRIMARY KEY, body_value text NOT NULL, at timestamp NULL);\n\
             INSERT INTO node__body VALUES (7, '<p>it''s \\ <a href=\"{LINK}/node/7\">Café</a></p>', '2026-01-02 03:04:05'), (8, 'nothing', NULL);\n\
             CREATE TABLE log (line text);\nINSERT INTO log VALUES ('{LINK}/a'), ('{LINK}/a'), ('b');\n",
            bytes(&html)
        )
    };
    let settle = |bench: &Bench| {
        let done = bench.run(&["settle", "site", "--old-address", LINK, "--address", "https://moved.test/x"]);
        assert!(done.code <= 1, "{}{}", done.stdout, done.stderr);
    };
    if Command::new("sqlite3").arg("--version").output().is_ok_and(|o| o.status.success()) {
        let bench = Bench::new();
        write(&bench, SQLITE);
        let file = bench.path("site/sites/default/files/.ht.sqlite");
        let run = |sql: &str| {
            let done = Command::new("sqlite3").arg(&file).arg(sql).output().unwrap();
            String::from_utf8(done.stdout).unwrap()
        };
        run(&rows(&|text| format!("CAST('{text}' AS BLOB)"), "blob"));
        let before = run(".dump");
        settle(&bench);
        let after = run(".dump");
        assert!(
            !holds(after.as_bytes(), "club.fernhollow") && after.contains("https://moved.test/x/node/7"),
            "{after}"
        );
        assert_eq!(after.matches("https://moved.test/x/a").count(), 2, "{after}");
        bench.run(&["undo", "last"]).expect(0).says(&["Undone"]);
        assert_eq!(before, run(".dump"));
    }
    let Some(server) = postgres::Server::start() else { return };
    let bench = Bench::new();
    let folder = server.folder();
    write(
        &bench,
        &format!(
            "'database' => 'club', 'username' => 'zp', 'password' => '', 'host' => '{folder}', 'prefix' => '', 'driver' => 'pgsql'"
        ),
    );
    server.create("club");
    bench.write("club.sql", rows(&|text| format!("convert_to('{text}', 'UTF8')"), "bytea"));
    server.load("club", &bench.path("club.sql"));
    let content = || -> String {
        let dump = server.dump("club", &[]);
        let mut lines: Vec<&str> = dump.lines().filter(|l| !l.contains("restrict ")).collect();
        lines.sort_unstable();
        lines.join("\n")
    };
    let before = content();
    settle(&bench);
    let after = content();
    assert!(!after.contains("club.fernhollow") && after.contains("https://moved.test/x/node/7"), "{after}");
    let hex: String = "https://moved.test/x".bytes().map(|b| format!("{b:02x}")).collect();
    assert!(after.contains(&hex), "{after}");
    bench.run(&["undo", "last"]).expect(0).says(&["Undone"]);
    assert_eq!(before, content());
}

#[test]
fn a_site_is_quiet_while_it_is_read_and_as_before_behind_it() {
    let Some(server) = server() else { return };
    for variant in [Variant::OpenCart3, Variant::WordPress, Variant::Joomla310, Variant::PrestaShop16] {
        let bench = Bench::new();
        let (site, database) = bench.live(server, variant);
        let _ = site.write_outside(&bench.path("outside"));
        let before = (kept(&bench.path("old")), content(server, &database));
        let packed = bench.run(&["pack", "old", "-o", "a.tar.zst", "--while", "maintenance=on"]);
        assert!(packed.code <= 1, "{variant:?} {}{}", packed.stdout, packed.stderr);
        assert!(before == (kept(&bench.path("old")), content(server, &database)), "{variant:?}");
        let states = |folder: &str| {
            let states = bench.run(&["switch", folder, "--json"]).expect(0).json();
            let of = states.as_array().unwrap().iter().filter(|s| s["name"] == "maintenance");
            of.map(|s| s["state"].as_str().unwrap_or("?").to_string()).collect::<Vec<_>>()
        };
        let open = states("old");
        // It was closed while it was read, and what comes of the archive is open.
        let new = server.new_database();
        bench.write("pw", &new.password);
        let url = new.tcp_url(server);
        let to = ["--address", "http://n.test/x", "--database", &url, "--database-password-file", "pw"];
        let restored = bench.run(&[&["restore", "a.tar.zst", "new"], &to[..]].concat());
        assert!(restored.code <= 1, "{variant:?} {}{}", restored.stdout, restored.stderr);
        assert_eq!(states("new"), open, "{variant:?}");
        // An error in the midst of it changes nothing of that.
        let failed = bench.run(&["pack", "old", "-o", "nowhere/a.tar.zst", "--while", "maintenance=on"]);
        assert!(failed.code > 1, "{variant:?} {}{}", failed.stdout, failed.stderr);
        assert!(before == (kept(&bench.path("old")), content(server, &database)), "{variant:?}");
    }
    // A run that is killed leaves the site closed; the next command says so, and undo opens it.
    let bench = Bench::new();
    let (_, database) = bench.live(server, Variant::OpenCart3);
    std::fs::write(bench.path("old/image/large.bin"), vec![7; 300 << 20]).unwrap();
    let before = content(server, &database);
    let mut pack = bench.command(&["pack", "old", "-o", "a.zip", "--while", "maintenance=on"]);
    let mut child =
        pack.stdout(std::process::Stdio::null()).stderr(std::process::Stdio::null()).spawn().unwrap();
    let waited = Instant::now();
    while content(server, &database) == before && waited.elapsed().as_secs() < 20 {
        std::thread::sleep(std::time::Duration::from_millis(5));
    }
    std::thread::sleep(std::time::Duration::from_millis(100));
    let _ = child.kill();
    let _ = child.wait();
    assert_ne!(content(server, &database), before);
    let next = bench.run(&["systems"]);
    let run =
        next.stderr.split("zporter undo ").nth(1).map(|r| r.split_whitespace().next().unwrap().to_string());
    bench.run(&["undo", &run.unwrap_or_else(|| panic!("{}", next.stderr))]).expect(0);
    assert_eq!(content(server, &database), before);
    assert!(!bench.run(&["systems"]).stderr.contains("undo"));
}
