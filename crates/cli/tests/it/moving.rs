//! A move in two acts: the copy is made while the site is open; then the site is closed, what has changed is carried, and the copy is the site.

use super::common::mariadb::{Database, Server, server};
use super::common::{Bench, files, kill_points};
use std::time::Instant;
use zporter_standin::{Site, Variant};

/// How the maintenance of a site is.
fn maintenance(bench: &Bench, folder: &str) -> Vec<String> {
    let states = bench.run(&["switch", folder, "--json"]).expect(0).json();
    let of = states.as_array().unwrap().iter().filter(|s| s["name"] == "maintenance");
    of.map(|s| s["state"].as_str().unwrap_or("?").to_string()).collect()
}

/// Does the first act. Returns the site, its database, that of the copy, and the run.
fn first_act(bench: &Bench, server: &Server, variant: Variant) -> (Site, Database, Database, String) {
    let (site, database) = bench.live(server, variant);
    let _ = site.write_outside(&bench.path("outside"));
    let _ = std::fs::remove_dir_all(bench.path("old/sites/members.fernhollow.example"));
    let new = server.new_database();
    bench.write("pw", &new.password);
    let url = new.tcp_url(server);
    let to = ["--address", "https://new.test/x", "--database", &url, "--database-password-file", "pw"];
    let moved = bench.run(&[&["move", "old", "new"], &to[..]].concat());
    assert!(moved.code <= 1, "{variant:?} {}{}", moved.stdout, moved.stderr);
    let run = bench.last_run();
    (site, database, new, run)
}

/// What happens at a site in an hour.
fn busy(bench: &Bench, server: &Server, site: &Site, database: &Database) {
    let table = format!("{}orders_of_an_hour", site.prefix);
    let sql = format!(
        "CREATE TABLE `{table}` (id int PRIMARY KEY, t text);\nINSERT INTO `{table}` VALUES (1, '{}/thanks');\n",
        site.address
    );
    server.load_with_client(database, &sql);
    bench.write("old/upload-of-an-hour.txt", "an upload");
}

#[test]
fn a_site_moves_in_two_acts_and_is_closed_only_for_the_second() {
    let Some(server) = server() else { return };
    for variant in
        [Variant::Joomla310, Variant::WordPress, Variant::PrestaShop16, Variant::OpenCart3, Variant::Drupal7]
    {
        let bench = Bench::new();
        let (site, database, new, run) = first_act(&bench, server, variant);
        let open = maintenance(&bench, "old");
        assert!(!open.contains(&"on".to_string()), "{variant:?}");
        let index = std::fs::read(bench.path("old/index.php")).unwrap();
        busy(&bench, server, &site, &database);
        let before = files(&bench.path("new"));
        let dry = bench.run(&["move", "--finish", &run, "--dry-run"]);
        assert!(dry.code <= 1, "{variant:?} {}{}", dry.stdout, dry.stderr);
        assert!(before == files(&bench.path("new")) && maintenance(&bench, "old") == open, "{variant:?}");
        let done = bench.run(&["move", "--finish", &run, "--retire"]);
        assert!(done.code <= 1, "{variant:?} {}{}", done.stdout, done.stderr);
        done.says(&["closed for", "name servers", "certificate"]);
        assert!(
            maintenance(&bench, "old").contains(&"on".to_string()),
            "{variant:?}: the old site is closed"
        );
        assert!(!maintenance(&bench, "new").contains(&"on".to_string()), "{variant:?}: the new one is open");
        let content = server.content(&new);
        assert!(content.contains("https://new.test/x/thanks"), "{variant:?}: {content}");
        assert!(bench.path("new/upload-of-an-hour.txt").exists(), "{variant:?}");
        let sent = std::fs::read_to_string(bench.path("old/.htaccess")).unwrap();
        assert!(sent.contains("https://new.test/x/$1"), "{variant:?}: {sent}");
        assert_eq!(index, std::fs::read(bench.path("old/index.php")).unwrap(), "{variant:?}");
        // All of it goes back, act by act.
        for command in ["retire", "switch"] {
            let runs = bench.run(&["logbook", "--json"]).json();
            let run =
                runs.as_array().unwrap().iter().find(|r| r["command"] == command).unwrap()["run"].clone();
            bench.run(&["undo", run.as_str().unwrap()]).says(&["Undone"]);
        }
        assert_eq!(maintenance(&bench, "old"), open, "{variant:?}");
        bench.run(&["move", "--finish", "20200101000000-move"]).expect(2);
    }
}

#[test]
fn a_second_act_that_is_killed_leaves_no_site_closed_unsaid() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    let (site, database, _, run) = first_act(&bench, server, Variant::OpenCart3);
    let open = maintenance(&bench, "old");
    busy(&bench, server, &site, &database);
    let args = ["move", "--finish", &run];
    let began = Instant::now();
    let _ = bench.run(&args);
    let took = began.elapsed();
    let undo = |command: &str| {
        let runs = bench.run(&["logbook", "--json"]).json();
        let run = runs.as_array().unwrap().iter().find(|r| r["command"] == command).unwrap()["run"].clone();
        let _ = bench.run(&["undo", run.as_str().unwrap(), "--database-password-file", "pw"]);
    };
    undo("switch");
    assert_eq!(maintenance(&bench, "old"), open);
    let points = kill_points(6);
    for point in 0..points {
        let after = took.mul_f64((point as f64 + 0.5) / points as f64);
        let _ = bench.killed(&args, after);
        if maintenance(&bench, "old") != open {
            let said = bench.run(&["systems"]).stderr;
            let run = said.split("zporter undo ").nth(1).and_then(|r| r.split_whitespace().next());
            match run {
                Some(run) => bench.run(&["undo", run]).says(&["Undone"]),
                // It had come to its end: the old site is closed on purpose.
                None => bench.run(&["undo", "last"]),
            };
            if maintenance(&bench, "old") != open {
                undo("switch");
            }
        }
        assert_eq!(maintenance(&bench, "old"), open, "after {after:?}");
    }
    let finished = bench.run(&args);
    assert!(finished.code <= 1, "{}{}", finished.stdout, finished.stderr);
}
