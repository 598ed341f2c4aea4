//! What goes wrong at a live site while it is brought back, pushed over, settled or switched: no room, a kill. It is the old site or the new
//! one, and one command takes back what was begun.

use super::common::mariadb::{Database, Server, server};
use super::common::{Bench, Outcome, files, kill_points, outcome};
use std::path::PathBuf;
use std::process::Command;
use std::time::Instant;
use zporter_standin::{Site, Variant};

/// Runs the program where no file may grow beyond so many KiB.
fn without_room(bench: &Bench, kib: u32, args: &[&str]) -> Outcome {
    let plain = bench.command(args);
    let mut limited = Command::new("bash");
    limited.args(["-c", &format!("trap '' XFSZ; ulimit -f {kib}; exec \"$0\" \"$@\"")]);
    limited.arg(plain.get_program()).args(plain.get_args()).env_clear();
    limited.envs(plain.get_envs().filter_map(|(name, value)| Some((name, value?))));
    limited.current_dir(bench.path(""));
    outcome(limited)
}

/// The site's own files and rows: nothing of caches, and nothing that lies aside.
fn state(bench: &Bench, server: &Server, database: &Database) -> (Vec<(PathBuf, Vec<u8>)>, Vec<String>) {
    let rows = server.content(database);
    let rows =
        rows.lines().filter(|l| l.starts_with("INSERT") && !l.contains("`zp_") && !l.contains("_session"));
    let mut found = files(&bench.path("old"));
    let made = |path: &PathBuf| {
        ["cache", "wc-logs", "debug.log"].iter().any(|m| path.display().to_string().contains(m))
    };
    found.retain(|(path, _)| !made(path));
    (found, rows.map(str::to_string).collect())
}

/// A live site with a large picture.
fn live(bench: &Bench, server: &Server) -> (Site, Database) {
    let (site, database) = bench.live(server, Variant::WordPress);
    bench.write("old/wp-content/uploads/2026/03/large.jpg", vec![7u8; 2 << 20]);
    (site, database)
}

/// A copy of the site in `dev`.
fn developed(bench: &Bench, server: &Server) -> Database {
    let new = server.new_database();
    bench.write("pw", &new.password);
    let url = new.tcp_url(server);
    let to = ["--address", "http://dev.test/d", "--database", &url, "--database-password-file", "pw"];
    let made = bench.run(&[&["clone", "old", "dev"], &to[..]].concat());
    assert!(made.code <= 1, "{}{}", made.stdout, made.stderr);
    new
}

/// Takes back the newest run of a command, if it left something, and what lies aside.
fn take_back(bench: &Bench, command: &str) {
    let runs = bench.run(&["logbook", "--json"]).json();
    let Some(run) =
        runs.as_array().unwrap().iter().find(|r| r["command"] == command || r["command"] == "undo")
    else {
        return;
    };
    if run["command"] == command {
        let run = run["run"].as_str().unwrap();
        let undone = bench.run(&["undo", run]);
        assert!(undone.code <= 2, "{}{}", undone.stdout, undone.stderr);
        let _ = bench.run(&["undo", "--forget", run]);
    }
}

#[test]
fn a_disk_without_room_leaves_a_live_site_as_it_was() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    let (site, database) = live(&bench, server);
    bench.run(&["pack", "old", "-o", "a.tar.zst"]).says(&["Packed"]);
    developed(&bench, server);
    bench.write("old/index.php", "<?php // broken");
    let rules = bench.read("old/.htaccess");
    let further = format!("Redirect 301 /old {}/x\n", site.address).repeat(20_000);
    bench.write("old/.htaccess", rules + &further);
    let before = state(&bench, server, &database);
    let jobs: [&[&str]; 4] = [
        &["restore", "a.tar.zst", "--in-place"],
        &["clone", "dev", "old", "--push", "--overwrite"],
        &["restore", "a.tar.zst", "--in-place", "--only", "media"],
        &["settle", "old", "--address", "https://new.test"],
    ];
    for job in jobs {
        let failed = without_room(&bench, 600, job);
        assert!(failed.code > 1, "{job:?}: {}{}", failed.stdout, failed.stderr);
        assert!(
            failed.stderr.contains("too large") || failed.stderr.contains("large"),
            "{job:?}: {}",
            failed.stderr
        );
        let run = bench.run(&["logbook", "--json"]).json()[0].clone();
        if run["command"] == job[0] {
            let _ = bench.run(&["undo", run["run"].as_str().unwrap()]);
            let _ = bench.run(&["undo", "--forget", run["run"].as_str().unwrap()]);
        }
        let now = state(&bench, server, &database);
        assert!(now.0 == before.0, "{job:?}: files");
        assert!(now.1 == before.1, "{job:?}: rows");
    }
    let done = bench.run(jobs[0]);
    assert!(done.code <= 1, "with room it works: {}{}", done.stdout, done.stderr);
}

#[test]
fn a_push_a_settle_and_a_switch_that_are_killed_leave_the_old_site_or_the_new_one() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    let (site, database) = live(&bench, server);
    let posts: Vec<String> =
        (10..2000).map(|i| format!("({i},'t','<a href=\"{}/p{i}\">x</a>','g')", site.address)).collect();
    server.load_with_client(
        &database,
        &format!("INSERT INTO `{}posts` VALUES {};\n", site.prefix, posts.join(",")),
    );
    let new = developed(&bench, server);
    server.load_with_client(&new, &format!("UPDATE `{}posts` SET post_title = 'work';\n", site.prefix));
    bench.write("dev/work.php", "<?php // work");
    let before = state(&bench, server, &database);
    let jobs: [&[&str]; 3] = [
        &["clone", "dev", "old", "--push"],
        &["settle", "old", "--address", "https://new.test"],
        &["switch", "old", "maintenance=on"],
    ];
    for job in jobs {
        let began = Instant::now();
        let done = bench.run(job);
        let took = began.elapsed();
        assert!(done.code <= 1, "{job:?}: {}{}", done.stdout, done.stderr);
        let after = state(&bench, server, &database);
        assert!(after != before, "{job:?}");
        take_back(&bench, job[0]);
        let points = kill_points(5);
        for point in 0..points {
            let moment = took.mul_f64((point as f64 + 0.5) / points as f64);
            let _ = bench.killed(job, moment);
            if job[1] == "dev" {
                // What is exchanged is so as a whole; files and tables are two steps.
                let now = state(&bench, server, &database);
                assert!(now.0 == before.0 || now.0 == after.0, "{job:?} after {moment:?}: files are mixed");
                assert!(now.1 == before.1 || now.1 == after.1, "{job:?} after {moment:?}: rows are mixed");
            }
            take_back(&bench, job[0]);
            let now = state(&bench, server, &database);
            assert!(now.0 == before.0, "{job:?} after {moment:?}: files");
            assert!(now.1 == before.1, "{job:?} after {moment:?}: rows");
        }
    }
}
