//! Whoever asks a command to stop gets a clean end: nothing half made under a name that looks whole, a run that says so, a way back.

use crate::common::{self, Bench, Outcome, files};
use std::process::Stdio;
use std::time::{Duration, Instant};
use zporter_standin::Variant;

/// A site that keeps a command busy for a moment: many files, and a dump of some size.
fn busy(bench: &Bench) {
    bench.site(Variant::Joomla310);
    for n in 0..1500 {
        bench.write(
            &format!("old/images/{n}.txt"),
            format!("{n} http://www.fernhollow.example/ {}", "plate ".repeat(800)),
        );
    }
    let mut dump = bench.read("old.sql");
    dump.push_str("CREATE TABLE `q7w2e_log` (`id` int NOT NULL, `text` text, PRIMARY KEY (`id`));\n");
    for n in 0..20_000 {
        let text = "seen at http://www.fernhollow.example/ by night ".repeat(6);
        dump.push_str(&format!("INSERT INTO `q7w2e_log` VALUES ({n},'{text}');\n"));
    }
    bench.write("old.sql", dump);
}

/// Runs a command, asks it to stop once it has begun to write beside the site, and says how it ended.
fn stopped(bench: &Bench, args: &[&str], signal: &str) -> Outcome {
    let mut command = bench.command(args);
    let child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let began = Instant::now();
    while made(bench).is_empty() && began.elapsed() < Duration::from_secs(20) {
        std::thread::sleep(Duration::from_millis(1));
    }
    common::signal(&child, signal);
    let done = child.wait_with_output().unwrap();
    Outcome {
        code: done.status.code().unwrap_or(-1),
        stdout: String::from_utf8_lossy(&done.stdout).into_owned(),
        stderr: String::from_utf8_lossy(&done.stderr).into_owned(),
    }
}

/// What lies beside the site.
fn made(bench: &Bench) -> Vec<String> {
    let names = std::fs::read_dir(bench.path("")).unwrap();
    let names = names.map(|e| e.unwrap().file_name().to_string_lossy().into_owned());
    names.filter(|name| !["old", "old.sql", "home"].contains(&name.as_str())).collect()
}

#[test]
fn a_signal_ends_the_work_where_it_can_end_and_says_what_is_left() {
    let bench = Bench::new();
    busy(&bench);
    let source = files(&bench.path("old"));
    let clone =
        ["clone", "old", "new", "--dump", "old.sql", "--address", "https://n.example", "--dump-to", "n.sql"];
    let pack = ["pack", "old", "--dump", "old.sql", "-o", "a.tar.zst"];
    let readdress = [
        "readdress",
        "old.sql",
        "-o",
        "n.sql",
        "--address",
        "http://www.fernhollow.example",
        "https://n.example",
    ];
    for (args, signal, number) in
        [(&clone[..], "-INT", 130), (&pack[..], "-TERM", 143), (&readdress[..], "-HUP", 129)]
    {
        // A quick machine may have done the work before the signal arrives: then again.
        let done = (0..20).find_map(|_| {
            let done = stopped(&bench, args, signal);
            if done.code > 1 {
                return Some(done);
            }
            for path in made(&bench).iter().map(|name| bench.path(name)) {
                if path.is_dir() {
                    std::fs::remove_dir_all(path).unwrap()
                } else {
                    std::fs::remove_file(path).unwrap()
                }
            }
            None
        });
        let done = done.unwrap().expect(number).says(&["stopped", "next:"]);
        // A dump that is rewritten alone is not recorded: there is nothing to go back to.
        if args[0] != "readdress" {
            let newest = bench.run(&["logbook", "--json"]).json()[0].clone();
            assert_eq!(
                (&newest["command"], &newest["state"]),
                (&args[0].into(), &"cancelled".into()),
                "{done:?}"
            );
            assert!(done.stderr.contains("zporter undo") == (args[0] == "clone"), "{done:?}");
        }
        if args[0] == "clone" {
            bench.run(&["undo", "last"]).expect(0);
        }
        assert_eq!(made(&bench), [""; 0], "{args:?}: {done:?}");
    }
    assert_eq!(source, files(&bench.path("old")), "the source is only read");
}

#[test]
fn work_that_waits_for_input_ends_by_the_second_signal() {
    let bench = Bench::new();
    let args = ["readdress", "-", "-o", "n.sql", "--address", "http://a.example", "http://b.example"];
    let mut command = bench.command(&args);
    // Nobody ever writes into it.
    let mut child = command.stdin(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let began = Instant::now();
    while made(&bench).is_empty() && began.elapsed() < Duration::from_secs(20) {
        std::thread::sleep(Duration::from_millis(10));
    }
    assert_ne!(made(&bench), ["n.sql"], "what is being written has a temporary name");
    common::signal(&child, "-INT");
    std::thread::sleep(Duration::from_millis(300));
    common::signal(&child, "-INT");
    assert_eq!(child.wait().unwrap().code(), Some(130));
    assert_eq!(made(&bench), [""; 0], "no temporary file stays");
}
