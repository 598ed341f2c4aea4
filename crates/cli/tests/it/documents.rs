//! What is written about the program is true: the manual's commands run, the JSON documents have the shapes that are kept, and all
//! sentences stand in one file to be read in one go. `ZPORTER_UPDATE=1` writes the kept files anew.

use super::common::Bench;
use serde_json::Value;
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use zporter_standin::Variant;
use zporter_standin::host::{Host, Served};

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// Compares a kept file with what it should hold, or writes it.
#[track_caller]
fn kept(path: &Path, now: &str) {
    if std::env::var_os("ZPORTER_UPDATE").is_some() {
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(path, now).unwrap();
    }
    let there = std::fs::read_to_string(path).unwrap_or_default();
    let first = there.lines().zip(now.lines()).find(|(a, b)| a != b);
    assert!(
        there == now,
        "{} is not as it should be; ZPORTER_UPDATE=1 writes it anew: {first:?}",
        path.display()
    );
}

#[test]
fn every_command_of_the_manual_runs_on_the_demo_data() {
    let demo = Bench::new();
    demo.run(&["-q", "demo", "--keep", "demo"]).expect(0);
    let mut pages: Vec<PathBuf> =
        std::fs::read_dir(root().join("docs/manual")).unwrap().map(|e| e.unwrap().path()).collect();
    pages.sort();
    let mut seen = 0;
    for page in pages {
        let text = std::fs::read_to_string(&page).unwrap();
        let blocks = text.split("```sh\n").skip(1).map(|b| b.split("```").next().unwrap());
        let commands: Vec<&str> = blocks.flat_map(str::lines).filter(|l| l.starts_with("zporter ")).collect();
        // Each page begins with the data as the demo left them.
        let bench = Bench::new();
        let copied = std::process::Command::new("cp")
            .arg("-a")
            .arg(demo.path("demo/observatory"))
            .arg(bench.path("o"))
            .status();
        assert!(copied.unwrap().success());
        std::fs::create_dir_all(bench.path("home")).unwrap();
        for line in commands {
            let (command, code) =
                line.split_once(" # exit ").map_or((line, None), |(c, n)| (c, n.parse::<i32>().ok()));
            let mut shell = std::process::Command::new("sh");
            let program = Path::new(env!("CARGO_BIN_EXE_zporter")).parent().unwrap();
            shell.args(["-c", command]).current_dir(bench.path("o")).env_clear();
            shell.env("HOME", bench.path("home")).env("PATH", format!("{}:/usr/bin:/bin", program.display()));
            let out = super::common::outcome(shell);
            let fits = code.map_or(out.code <= 1, |code| out.code == code);
            assert!(fits, "{}: {command}\n{out:?}", page.display());
            seen += 1;
        }
    }
    assert!(seen > 40, "{seen} commands");
}

/// Runs commands whose documents are kept, and returns each with the name of its shape.
fn documents(bench: &Bench) -> Vec<(&'static str, Value)> {
    bench.site(Variant::Joomla310);
    bench.write("pw", "fake-New-1\n");
    let to = ["--address", "http://n.test/x", "--database", "mysql://u@h/n", "--json"];
    let mut out = Vec::new();
    let mut run = |name: &'static str, args: &[&str]| {
        out.push((name, bench.run(&[args, &["--json"]].concat()).document()));
    };
    run("survey", &["survey", "old", "--dump", "old.sql"]);
    run("diagnose", &["diagnose", "old", "--dump", "old.sql"]);
    run("pack-preview", &["pack", "old", "--dump", "old.sql", "-o", "a.zip", "--dry-run"]);
    run("pack", &["pack", "old", "--dump", "old.sql", "-o", "a.zip"]);
    run("verify", &["verify", "a.zip", "old.sql"]);
    run("logbook", &["logbook"]);
    run("logbook-run", &["logbook", "last", "--files"]);
    run("systems", &["systems"]);
    run("system", &["systems", "prestashop"]);
    run(
        "readdress",
        &[
            "readdress",
            "old.sql",
            "-o",
            "x.sql",
            "--address",
            "http://www.fernhollow.example",
            "http://x.test",
        ],
    );
    run("trace", &["trace", "old.sql", "--old-address", "http://www.fernhollow.example"]);
    run("database-create-preview", &["database", "create", "mysql://u@h/n", "--dry-run"]);
    run("database-create", &["database", "create", "sqlite:a.db"]);
    run("database-try", &["database", "try", "sqlite:a.db"]);
    bench.write("t.sql", "PRAGMA foreign_keys=OFF;\nBEGIN TRANSACTION;\nCREATE TABLE t (a);\nINSERT INTO t VALUES(1);\nCOMMIT;\n");
    run("database-load-preview", &["database", "load", "t.sql", "sqlite:a.db", "--dry-run"]);
    run("database-load", &["database", "load", "t.sql", "sqlite:a.db"]);
    run("database-sizes", &["database", "sizes", "sqlite:a.db"]);
    run("database-dump-preview", &["database", "dump", "sqlite:a.db", "-o", "d.sql", "--dry-run"]);
    run("database-dump", &["database", "dump", "sqlite:a.db", "-o", "d.sql"]);
    run("database-logins", &["database", "logins"]);
    run("restore", &[&["restore", "a.zip", "new", "--dump-to", "n.sql", "--dry-run"], &to[..4]].concat());
    run("restore", &[&["restore", "a.zip", "new", "--dump-to", "n.sql"], &to[..4]].concat());
    run("clone", &[&["clone", "old", "two", "--dump", "old.sql", "--dump-to", "m.sql"], &to[..4]].concat());
    super::live::write(bench, super::live::SQLITE);
    run("database-create", &["database", "create", "sqlite:site/sites/default/files/.ht.sqlite"]);
    run("settle", &["settle", "site", "--old-address", "http://a.test", "--address", "http://b.test"]);
    run("switch-states", &["switch", "site"]);
    run("switch", &["switch", "site", "assets=plain"]);
    let moved =
        ["--address", "http://b.test", "--database", "sqlite:moved.db", "--old-address", "http://a.test"];
    run("move", &[&["move", "site", "moved"], &moved[..]].concat());
    let first = bench.last_run();
    run("move-finish", &["move", "--finish", &first, "--dry-run"]);
    let host = Host::serve(Served { pages: 3, lively: true, ..Served::default() }).unwrap();
    let address = host.address();
    run(
        "visit",
        &["visit", &address, "--beside", &address, "--pages", "3", "--old-address", "http://a.test"],
    );
    run("undo-preview", &["undo", "last", "--dry-run"]);
    run("undo", &["undo", "last"]);
    // Errors have the same frame, also those of the arguments.
    run("restore", &["restore", "none.zip", "x", "--address", "http://n.test"]);
    run("restore", &["restore", "a.zip", "x", "--addres", "http://n.test"]);
    run("pack", &["pack", "nowhere"]);
    out
}

#[test]
fn json_documents_have_the_shapes_that_are_kept() {
    let bench = Bench::new();
    let names: BTreeSet<String> =
        bench.run(&["schema"]).expect(0).stdout.lines().map(str::to_string).collect();
    let folder = root().join("docs/schemas");
    for name in &names {
        kept(&folder.join(format!("{name}.json")), &bench.run(&["schema", name]).expect(0).stdout);
    }
    let there = std::fs::read_dir(&folder).unwrap().map(|e| e.unwrap().file_name().into_string().unwrap());
    assert_eq!(there.map(|f| f.trim_end_matches(".json").to_string()).collect::<BTreeSet<_>>(), names);
    let mut shown = BTreeSet::new();
    for (name, document) in documents(&bench) {
        let schema: Value =
            serde_json::from_str(&std::fs::read_to_string(folder.join(format!("{name}.json"))).unwrap())
                .unwrap();
        let validator = jsonschema::validator_for(&schema).unwrap();
        let wrong: Vec<String> =
            validator.iter_errors(&document).map(|e| format!("{} at {}", e, e.instance_path)).collect();
        assert!(wrong.is_empty(), "{name}: {wrong:?}\n{document:#}");
        assert!(document["result"].is_null() != document["error"].is_null(), "{document:#}");
        // A shape that takes anything would take this, too.
        let mut other = document.clone();
        other["findings"] = "none".into();
        assert!(!validator.is_valid(&other), "{name}");
        shown.insert(name.to_string());
    }
    let untried: Vec<&String> =
        names.iter().filter(|n| !n.starts_with("job-") && !shown.contains(*n)).collect();
    assert!(untried.is_empty(), "{untried:?}");
}

/// The sentences in a source file: the texts between double quotes that hold several words.
fn sentences(source: &str, out: &mut BTreeSet<String>) {
    let code = source.split("#[cfg(test)]").next().unwrap();
    for line in code.lines() {
        let line = line.trim_start();
        if line.starts_with("//!") || (line.starts_with("//") && !line.starts_with("///")) {
            continue;
        }
        let mut rest = line;
        while let Some(at) = rest.find('"') {
            let inside = &rest[at + 1..];
            let mut escaped = false;
            let end = inside.char_indices().find_map(|(i, c)| {
                let ends = c == '"' && !escaped;
                escaped = c == '\\' && !escaped;
                ends.then_some(i)
            });
            let Some(end) = end else { break };
            let text = &inside[..end];
            let words = text
                .split(' ')
                .filter(|w| w.len() > 1 && w.chars().all(|c| c.is_alphabetic() || ",:;.'".contains(c)));
            // Statements of servers and lists of their words are none.
            let first = text.split([' ', ',', ':']).next().unwrap_or_default();
            let shouts = first.len() > 2 && first.chars().all(|c| c.is_ascii_uppercase() || c == '_');
            let sql = text.contains("SELECT ") || shouts || text.starts_with("--");
            if words.count() >= 3 && !sql {
                out.insert(text.replace("\\\"", "\"").replace("\\n", " ").trim().to_string());
            }
            rest = &inside[end + 1..];
        }
    }
}

#[test]
fn all_sentences_stand_in_one_file_and_avoid_words_that_nobody_knows() {
    let mut all = BTreeSet::new();
    for folder in [
        "crates/rewrite/src",
        "crates/storage/src",
        "crates/engines/src",
        "crates/core/src",
        "crates/cli/src",
    ] {
        let mut todo = vec![root().join(folder)];
        while let Some(dir) = todo.pop() {
            for entry in std::fs::read_dir(dir).unwrap().flatten() {
                let path = entry.path();
                if path.is_dir() {
                    todo.push(path);
                } else if path.extension().is_some_and(|e| e == "rs") && !path.ends_with("tests.rs") {
                    sentences(&std::fs::read_to_string(path).unwrap(), &mut all);
                }
            }
        }
    }
    let text: String = all.iter().map(|s| format!("{s}\n")).collect();
    for odd in [
        "not to be had",
        "says not",
        "lie in each other",
        "spoken to",
        "waybill",
        "needle",
        "made anew",
        "fitted",
        " prove",
        "sheet ",
    ] {
        let found: Vec<&String> = all.iter().filter(|s| s.contains(odd)).collect();
        assert!(found.is_empty(), "{odd:?} in {found:?}");
    }
    kept(&root().join("crates/cli/tests/it/messages.txt"), &text);
}

/// The package is built from the program that the tests run; what `dpkg` sees of it is what an administrator gets.
#[test]
fn the_package_holds_the_program_its_manual_and_completions() {
    let built = std::process::Command::new(root().join("scripts/package"))
        .env("PROGRAM", env!("CARGO_BIN_EXE_zporter"))
        .output()
        .unwrap();
    assert!(built.status.success(), "{}", String::from_utf8_lossy(&built.stderr));
    let folder = std::fs::read_dir(root().join("target/packages")).unwrap();
    let package =
        folder.flatten().map(|e| e.path()).find(|p| p.extension().is_some_and(|e| e == "deb")).unwrap();
    let unpacked = tempfile::tempdir().unwrap();
    let extract = std::process::Command::new("dpkg-deb").arg("-x").arg(package).arg(unpacked.path()).status();
    assert!(extract.unwrap().success());
    let program =
        std::process::Command::new(unpacked.path().join("usr/bin/zporter")).arg("--version").output();
    assert!(String::from_utf8(program.unwrap().stdout).unwrap().starts_with("zporter "));
    let share = unpacked.path().join("usr/share");
    for file in
        ["man/man1/zporter-restore.1.gz", "bash-completion/completions/zporter", "doc/zporter/copyright"]
    {
        assert!(share.join(file).metadata().unwrap().len() > 500, "{file}");
    }
}
