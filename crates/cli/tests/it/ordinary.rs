//! Ordinary material: values of raw bytes in every form of dump, long values before short statements under a memory limit, a site whose
//! files change while it is read, names that are not UTF-8.

use crate::common::mariadb::{Server, server};
use crate::common::postgres;
use crate::common::{Bench, Outcome, files, missing, outcome};
use mysql::prelude::Queryable;
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;
use std::process::Command;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;
use zporter_standin::Variant;

/// Numbers that look random and are the same each time.
struct Dice(u64);

impl Dice {
    fn roll(&mut self, sides: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % sides
    }

    /// A value made of what a dump is made of, and of raw bytes.
    fn value(&mut self, longest: u64) -> Vec<u8> {
        const PIECES: [&[u8]; 16] = [
            b"/*",
            b"*/",
            b"/*!50000 ",
            b"-- ",
            b"#",
            b"'),('",
            b"');\n",
            b"\\",
            b"'",
            b"\"",
            b"`",
            b"INSERT INTO `t` VALUES (",
            b"\xE3",
            b"\xFF\x00\x1A",
            b"http://old.example/",
            b"\xC3\xA9",
        ];
        let mut out = Vec::new();
        let len = self.roll(longest);
        while (out.len() as u64) < len {
            match self.roll(3) {
                0 => out.extend_from_slice(PIECES[self.roll(16) as usize]),
                1 => out.extend((0..self.roll(60)).map(|_| self.roll(256) as u8)),
                _ => out.extend_from_slice(b"Comet watchers meet at the dome. "),
            }
        }
        out
    }
}

/// Rows of a table of text and blobs, as many bytes as wanted.
fn fill(server: &Server, name: &str, table: &str, bytes: u64, seed: u64, notes: bool) {
    let mut root = server.root();
    root.query_drop(format!(
        "CREATE TABLE {name}.{table} (id int PRIMARY KEY, pic longblob, word varbinary(400), note mediumtext CHARACTER SET utf8mb4, old text CHARACTER SET latin1)"
    ))
    .unwrap();
    let (mut dice, mut written, mut id) = (Dice(seed), 0, 0);
    root.query_drop(format!("USE {name}")).unwrap();
    root.query_drop("START TRANSACTION").unwrap();
    while written < bytes {
        let longest = if dice.roll(40) == 0 { 200_000 } else { 3_000 };
        let pic = dice.value(longest);
        let word = dice.value(300);
        let word = &word[..word.len().min(400)];
        // What an old character set has no letters for is lost when the stock program writes it.
        let note = if notes { String::from_utf8_lossy(&dice.value(200)).into_owned() } else { String::new() };
        let old: String = dice
            .value(60)
            .iter()
            .map(|b| char::from(*b))
            .filter(|c| !('\u{80}'..'\u{a0}').contains(c))
            .collect();
        written += (pic.len() + word.len() + note.len()) as u64;
        id += 1;
        root.exec_drop(format!("INSERT INTO {table} VALUES (?,?,?,?,?)"), (id, pic, word, note, old))
            .unwrap();
    }
    root.query_drop("COMMIT").unwrap();
}

fn checksum(server: &Server, name: &str, table: &str) -> u64 {
    let row: Option<(String, u64)> =
        server.root().query_first(format!("CHECKSUM TABLE {name}.{table}")).unwrap();
    row.unwrap().1
}

#[test]
fn values_of_raw_bytes_come_through_in_every_form_of_dump() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    let old = server.new_database();
    let mib = std::env::var("ZPORTER_ROWS_MIB")
        .ok()
        .and_then(|n| n.parse().ok())
        .unwrap_or(if std::env::var_os("CI").is_some() { 200 } else { 8 });
    fill(server, &old.name, "big", mib << 20, 1, true);
    fill(server, &old.name, "t", 4 << 20, 2, true);
    fill(server, &old.name, "l", 1 << 20, 3, false);
    let wanted = [checksum(server, &old.name, "big"), checksum(server, &old.name, "t")];
    let stock = |args: &[&str], name: &str| {
        let out = std::fs::File::create(bench.path(name)).unwrap();
        let done = Command::new("mariadb-dump")
            .args(["--no-defaults", "-uroot", "--max-allowed-packet=64M", "-S", &server.socket])
            .args(args)
            .stdout(out)
            .status();
        assert!(done.unwrap().success());
    };
    stock(&[&old.name], "all.sql");
    stock(&["--default-character-set=latin1", &old.name, "l"], "latin1.sql");
    let one: [(&str, &[&str]); 5] = [
        ("rows one by one", &["--skip-extended-insert"]),
        ("hex", &["--hex-blob"]),
        ("columns named", &["--complete-insert", "--skip-quote-names"]),
        ("replace", &["--replace", "--skip-opt"]),
        ("ansi", &["--compatible=ansi", "--default-character-set=utf8mb4"]),
    ];
    for (name, args) in one {
        stock(&[args, &[&*old.name, "t"]].concat(), &format!("{name}.sql"));
    }
    bench.run(&["database", "dump", &old.socket_url(server), "-o", "ours.sql"]).expect(0);
    let loaded = |name: &str, wanted: &[(&str, u64)]| {
        let new = server.new_database();
        bench.run(&["database", "load", name, &new.socket_url(server)]).expect(0);
        for (table, sum) in wanted {
            assert_eq!(checksum(server, &new.name, table), *sum, "{name}: {table}");
        }
        server.root().query_drop(format!("DROP DATABASE {}", new.name)).unwrap();
    };
    loaded("all.sql", &[("big", wanted[0]), ("t", wanted[1])]);
    loaded("ours.sql", &[("big", wanted[0]), ("t", wanted[1])]);
    loaded("latin1.sql", &[("l", checksum(server, &old.name, "l"))]);
    for (name, _) in one {
        loaded(&format!("{name}.sql"), &[("t", wanted[1])]);
    }

    // The same beside a site: out of an archive, and straight. The address in the values is not the site's.
    let site = bench.site(Variant::Joomla310);
    let both = [site.dump().into_bytes(), std::fs::read(bench.path("rows one by one.sql")).unwrap()].concat();
    bench.write("both.sql", String::from_utf8_lossy(&[]).as_bytes());
    std::fs::write(bench.path("both.sql"), rename(&both, "`t`", "`q7w2e_t`")).unwrap();
    bench.run(&["pack", "old", "--dump", "both.sql", "-o", "a.tar.zst"]).expect(0);
    bench.run(&["verify", "a.tar.zst"]).expect(0);
    for (number, args) in
        [&["restore", "a.tar.zst"][..], &["clone", "old", "--dump", "both.sql"]].into_iter().enumerate()
    {
        let new = server.new_database();
        let (url, target) = (new.socket_url(server), format!("new{number}"));
        let args = [args, &[&*target, "--address", "https://n.example", "--database", &url]].concat();
        let done = bench.run(&args);
        assert!(done.code <= 1, "{}{}", done.stdout, done.stderr);
        assert_eq!(checksum(server, &new.name, "q7w2e_t"), wanted[1], "{args:?}");
    }
}

fn rename(text: &[u8], from: &str, to: &str) -> Vec<u8> {
    // Only at the beginning of statements: values name the table as well.
    let mut out = Vec::new();
    for line in text.split_inclusive(|b| *b == b'\n') {
        let heads = [
            "INSERT INTO ",
            "CREATE TABLE ",
            "DROP TABLE IF EXISTS ",
            "LOCK TABLES ",
            "/*!40000 ALTER TABLE ",
        ];
        match heads.iter().find(|h| line.starts_with(format!("{h}{from}").as_bytes())) {
            Some(head) => {
                out.extend_from_slice(format!("{head}{to}").as_bytes());
                out.extend_from_slice(&line[head.len() + from.len()..]);
            }
            None => out.extend_from_slice(line),
        }
    }
    out
}

#[test]
fn text_of_sqlite_that_is_not_utf8_comes_through() {
    if Command::new("sqlite3").arg("--version").output().is_err() {
        missing("sqlite3");
        return;
    }
    let bench = Bench::new();
    let old = rusqlite::Connection::open(bench.path("a.db")).unwrap();
    old.execute_batch("CREATE TABLE t (id INTEGER PRIMARY KEY, w TEXT, b BLOB)").unwrap();
    let mut dice = Dice(7);
    for id in 0..300 {
        let (word, blob) = (dice.value(200), dice.value(200));
        let word: Vec<u8> = word.into_iter().filter(|b| *b != 0).collect();
        old.execute("INSERT INTO t VALUES (?1, CAST(?2 AS TEXT), ?3)", (id, word, blob)).unwrap();
    }
    let dump = Command::new("sqlite3").arg(bench.path("a.db")).arg(".dump").output().unwrap();
    bench.write("stock.sql", dump.stdout);
    bench.run(&["database", "dump", "sqlite:a.db", "-o", "ours.sql"]).expect(0);
    let all = |db: &rusqlite::Connection| -> Vec<(i64, String, String, String)> {
        let mut ask = db.prepare("SELECT id, typeof(w), hex(w), hex(b) FROM t ORDER BY id").unwrap();
        ask.query_map([], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?, r.get(3)?))).unwrap().flatten().collect()
    };
    for dump in ["stock.sql", "ours.sql"] {
        let url = format!("sqlite:{dump}.db");
        bench.run(&["database", "load", dump, &url]).expect(0);
        let new = rusqlite::Connection::open(bench.path(&format!("{dump}.db"))).unwrap();
        assert!(all(&new) == all(&old), "{dump} came out differently");
    }
}

/// Runs a command and returns how it ended, with the most memory that it had, in MiB.
fn measured(bench: &Bench, args: &[&str]) -> (Outcome, u64) {
    let plain = bench.command(args);
    let mut timed = Command::new("/usr/bin/time");
    timed.args(["-q", "-f", "peak %M", "-o"]).arg(bench.path("peak")).arg(plain.get_program()).args(args);
    timed.current_dir(bench.path("")).env_clear();
    timed.envs(plain.get_envs().filter_map(|(k, v)| Some((k, v?))));
    let done = outcome(timed);
    let peak = bench.read("peak");
    let kib: u64 =
        peak.trim().strip_prefix("peak ").and_then(|n| n.parse().ok()).unwrap_or_else(|| panic!("{peak}"));
    (done, kib >> 10)
}

/// Shapes of dumps: a long value, and behind it what is short and many. Each has the name of its table in the place of `{t}`.
fn shapes() -> Vec<(&'static str, String)> {
    let long = "x".repeat(1 << 20);
    let repeated = |n: usize, text: &str| text.repeat(n);
    let statements = |sql: &str, n| format!("{sql}{}", repeated(n, "INSERT INTO {t} VALUES (7,'a');\n"));
    let make = "CREATE TABLE {t} (id int, v longtext);\n";
    vec![
        ("one by one", statements(&format!("{make}INSERT INTO {{t}} VALUES (1,'{long}');\n"), 150_000)),
        (
            "in the middle",
            statements(
                &format!(
                    "{make}{}INSERT INTO {{t}} VALUES (1,'{long}'),(2,'{long}{long}{long}');\n",
                    repeated(4_000, "INSERT INTO {t} VALUES (7,'a');\n")
                ),
                150_000,
            ),
        ),
        (
            "many in one",
            format!(
                "{make}INSERT INTO {{t}} VALUES (1,'{long}{long}{long}{long}'){};\n",
                repeated(400_000, ",(7,'a')")
            ),
        ),
        (
            "nested",
            format!(
                "{make}INSERT INTO {{t}} VALUES (1,'{long}'){};\n",
                repeated(150_000, ",(7,_binary 'a')")
            ),
        ),
        (
            "statements",
            format!(
                "{make}INSERT INTO {{t}} VALUES (1,'{long}{long}');\n{}",
                repeated(100_000, "/* c */;\n")
            ),
        ),
    ]
}

#[test]
fn no_shape_of_dump_takes_memory_without_a_bound() {
    const MOST: u64 = 112;
    if !Path::new("/usr/bin/time").exists() {
        missing("time");
        return;
    }
    let bench = Bench::new();
    let site = bench.site(Variant::Joomla310);
    let postgres = postgres::Server::start();
    for (name, shape) in shapes() {
        let own = shape.replace("{t}", "q7w2e_x");
        bench.write("x.sql", [site.dump().as_bytes(), own.as_bytes()].concat());
        bench.write(
            "sqlite.sql",
            format!(
                "PRAGMA foreign_keys=OFF;\nBEGIN TRANSACTION;\n{}COMMIT;\n",
                own.replace("_binary ", "").replace("/* c */", "--c\n")
            ),
        );
        bench.write(
            "pg.sql",
            format!(
                "SET standard_conforming_strings = on;\n{}",
                shape.replace("{t}", "public.x").replace("_binary ", "").replace("longtext", "text")
            ),
        );
        let copy = format!(
            "SET standard_conforming_strings = on;\nCREATE TABLE public.x (id integer, v text);\nCOPY public.x (id, v) FROM stdin;\n1\t{}\n{}\\.\n",
            "x".repeat(2 << 20),
            "7\ta\n".repeat(400_000)
        );
        bench.write("copy.sql", copy);
        for done in ["a.tar.zst", "new", "new.sql", "b.db", "out.sql"] {
            let _ = std::fs::remove_file(bench.path(done));
            let _ = std::fs::remove_dir_all(bench.path(done));
        }
        let all: [&[&str]; 10] = [
            &[
                "readdress",
                "x.sql",
                "-o",
                "out.sql",
                "--address",
                "http://old.example",
                "https://new.example",
            ],
            &[
                "readdress",
                "pg.sql",
                "-o",
                "out.sql",
                "--force",
                "--address",
                "http://old.example",
                "https://new.example",
            ],
            &[
                "readdress",
                "copy.sql",
                "-o",
                "out.sql",
                "--force",
                "--address",
                "http://old.example",
                "https://new.example",
            ],
            &["trace", "x.sql", "--old-address", "http://old.example"],
            &["survey", "old", "--dump", "x.sql"],
            &["pack", "old", "--dump", "x.sql", "-o", "a.tar.zst"],
            &["verify", "a.tar.zst"],
            &[
                "restore",
                "a.tar.zst",
                "new",
                "--address",
                "https://n.example",
                "--database",
                "mysql://u@h/n",
                "--dump-to",
                "new.sql",
            ],
            &[
                "clone",
                "old",
                "new",
                "--dump",
                "x.sql",
                "--address",
                "https://n.example",
                "--database",
                "mysql://u@h/n",
                "--dump-to",
                "new.sql",
            ],
            &["database", "load", "sqlite.sql", "sqlite:b.db"],
        ];
        for args in all {
            if args[0] == "clone" {
                std::fs::remove_dir_all(bench.path("new")).unwrap();
                std::fs::remove_file(bench.path("new.sql")).unwrap();
            }
            let (done, peak) = measured(&bench, args);
            assert!(done.code <= 1, "{name}: {args:?}\n{}{}", done.stdout, done.stderr);
            eprintln!("{name}: {} {} {peak} MiB", args[0], args[1]);
            assert!(peak <= MOST, "{name}: {args:?} took {peak} MiB");
        }
        let mut loads = Vec::new();
        if let Some(server) = server() {
            loads.push(("x.sql", server.new_database().socket_url(server)));
        }
        if let Some(server) = &postgres {
            for (database, dump) in [("rows", "pg.sql"), ("copy", "copy.sql")] {
                let database = format!("{}_{database}", name.replace(' ', "_"));
                server.create(&database);
                loads.push((dump, server.url(&database)));
            }
        }
        for (dump, url) in loads {
            let (done, peak) = measured(&bench, &["database", "load", dump, &url]);
            assert!(done.code <= 1, "{name} {dump}\n{}{}", done.stdout, done.stderr);
            eprintln!("{name}: load {dump} {peak} MiB");
            assert!(peak <= MOST, "{name}: a load of {dump} took {peak} MiB");
        }
    }
}

/// Makes, cuts and removes files below a folder for as long as something else is done.
fn while_files_change<T>(folder: &Path, mut work: impl FnMut() -> T) -> T {
    let stop = AtomicBool::new(false);
    std::thread::scope(|scope| {
        scope.spawn(|| {
            let mut dice = Dice(11);
            while !stop.load(Ordering::Relaxed) {
                let path = folder.join(format!("s{}", dice.roll(200)));
                match dice.roll(3) {
                    0 => drop(std::fs::remove_file(&path)),
                    1 => drop(std::fs::write(&path, vec![b'x'; dice.roll(200_000) as usize])),
                    _ => drop(
                        std::fs::File::options()
                            .write(true)
                            .open(&path)
                            .and_then(|f| f.set_len(dice.roll(1000))),
                    ),
                }
                // One that is larger than what is read before its entry begins shrinks in the middle of it.
                let large = folder.join("large");
                if dice.roll(20) == 0 {
                    drop(std::fs::File::create(&large).and_then(|f| f.set_len(24 << 20)));
                } else if dice.roll(4) == 0 {
                    drop(std::fs::File::options().write(true).open(&large).and_then(|f| f.set_len(1 << 20)));
                }
            }
        });
        let done = work();
        stop.store(true, Ordering::Relaxed);
        done
    })
}

#[test]
fn a_site_whose_files_shrink_and_vanish_is_packed_and_cloned_all_the_same() {
    let bench = Bench::new();
    bench.site(Variant::Joomla310);
    let busy = bench.path("old/images/busy");
    std::fs::create_dir(&busy).unwrap();
    for number in 0..200 {
        std::fs::write(busy.join(format!("s{number}")), vec![b'x'; 100_000]).unwrap();
    }
    for round in 0..12 {
        let (archive, target) = (format!("a{round}.tar.zst"), format!("new{round}"));
        let ending = if round % 3 == 0 { "zip" } else { "tar.zst" };
        let archive = archive.replace("tar.zst", ending);
        while_files_change(&busy, || {
            let done = bench.run(&["pack", "old", "--dump", "old.sql", "-o", &archive]);
            assert!(done.code <= 1, "{}{}", done.stdout, done.stderr);
        });
        let verified = bench.run(&["verify", &archive]);
        assert!(verified.code <= 1, "{}{}", verified.stdout, verified.stderr);
        while_files_change(&busy, || {
            let args = [
                "clone",
                "old",
                &target,
                "--dump",
                "old.sql",
                "--address",
                "https://n.example",
                "--database",
                "mysql://u@h/n",
                "--dump-to",
                &format!("{target}.sql"),
            ];
            let done = bench.run(&args);
            assert!(done.code <= 1, "{}{}", done.stdout, done.stderr);
        });
    }
}

#[test]
fn what_vanished_is_one_finding_and_what_shrank_says_so_in_its_entry() {
    let bench = Bench::new();
    bench.site(Variant::Joomla310);
    let images = bench.path("old/images");
    let mut dice = Dice(3);
    let noise: Vec<u8> = (0..64 << 20).map(|_| dice.roll(256) as u8).collect();
    std::fs::write(images.join("aaa"), &noise).unwrap();
    std::fs::create_dir(images.join("gone")).unwrap();
    for number in 0..3000 {
        std::fs::write(images.join(format!("gone/f{number:04}")), "x").unwrap();
    }
    let mut command = bench.command(&["pack", "old", "--dump", "old.sql", "-o", "-"]);
    let mut child =
        command.stdout(std::process::Stdio::piped()).stderr(std::process::Stdio::piped()).spawn().unwrap();
    // The archive stands still as long as nobody takes it: inside of `aaa`, which is larger than the pipe and begun already.
    std::thread::sleep(Duration::from_millis(1500));
    std::fs::File::options().write(true).open(images.join("aaa")).unwrap().set_len(10).unwrap();
    for number in 0..3000 {
        std::fs::remove_file(images.join(format!("gone/f{number:04}"))).unwrap();
    }
    let mut archive = Vec::new();
    std::io::Read::read_to_end(child.stdout.as_mut().unwrap(), &mut archive).unwrap();
    let done = child.wait_with_output().unwrap();
    let told = String::from_utf8_lossy(&done.stderr).into_owned();
    assert_eq!(done.status.code(), Some(1), "{told}");
    // The folder was listed before or after: in the first case each file is missed.
    assert!(told.matches("went away").count() <= 1, "{told}");
    assert!(told.contains("became shorter while it was read"), "{told}");
    bench.write("a.tar.zst", archive);
    bench.run(&["verify", "a.tar.zst"]).expect(1).says(&["Whole", "became shorter while it was packed"]);
    let args = [
        "restore",
        "a.tar.zst",
        "new",
        "--address",
        "https://n.example",
        "--database",
        "mysql://u@h/n",
        "--dump-to",
        "n.sql",
    ];
    bench.run(&args).expect(1).says(&["became shorter while it was packed"]);
    let there = std::fs::read(bench.path("new/images/aaa")).unwrap();
    assert_eq!(there.len(), noise.len());
    let same = there.iter().zip(&noise).take_while(|(a, b)| a == b).count();
    assert!(same > 0 && there[same..].iter().all(|b| *b == 0), "{same}");
}

#[test]
fn names_that_are_not_utf8_are_names() {
    let bench = Bench::new();
    bench.site(Variant::Joomla310);
    let odd = bench.path("").join(OsStr::from_bytes(b"caf\xe9"));
    std::fs::rename(bench.path("old"), &odd).unwrap();
    std::fs::write(odd.join(OsStr::from_bytes(b"images/sch\xf6n.png")), "x").unwrap();
    // What anyone could fetch is a finding, by its name.
    std::fs::write(odd.join(OsStr::from_bytes(b"alt\xe9.sql")), "CREATE TABLE t (a int);").unwrap();
    let odd_dump = bench.path("").join(OsStr::from_bytes(b"d\xfcmp.sql"));
    std::fs::rename(bench.path("old.sql"), &odd_dump).unwrap();
    let run = |args: &[&[u8]], more: &[&str]| {
        let mut command = bench.command(&[]);
        command.args(args.iter().map(|a| OsStr::from_bytes(a))).args(more);
        let done = outcome(command);
        assert!(!done.stderr.contains("panicked"), "{}", done.stderr);
        done
    };
    for json in [&[][..], &["--json"]] {
        let done = run(&[b"survey", b"caf\xe9", b"--dump", b"d\xfcmp.sql"], json);
        assert!(done.code <= 1, "{}{}", done.stdout, done.stderr);
        run(&[b"pack", b"caf\xe9", b"--dump", b"d\xfcmp.sql", b"-o", b"a\xe9.tar.zst", b"--force"], json)
            .expect(0);
        let done = run(&[b"verify", b"a\xe9.tar.zst"], json);
        assert!(done.code <= 1, "{}{}", done.stdout, done.stderr);
        let done = run(&[b"diagnose", b"caf\xe9"], json);
        assert!(done.code <= 4, "{}{}", done.stdout, done.stderr);
        run(&[b"surv\xe9y"], json).expect(2);
        run(&[b"pack", b"--\xe9"], json).expect(2);
        run(&[b"pack", b"caf\xe8"], json).expect(4);
        run(&[b"trace", b"caf\xe9", b"--old-address", b"http://n.example"], json);
        run(&[b"logbook"], json).expect(0);
    }
    let restore: [&[u8]; 4] = [b"restore", b"a\xe9.tar.zst", b"n\xe9w", b"--dump-to"];
    let more = ["new.sql", "--address", "https://n.example", "--database", "mysql://u@h/n"];
    let done = run(&restore, &more);
    assert!(done.code <= 1, "{}{}", done.stdout, done.stderr);
    let new = bench.path("").join(OsStr::from_bytes(b"n\xe9w"));
    assert_eq!(std::fs::read(new.join(OsStr::from_bytes(b"images/sch\xf6n.png"))).unwrap(), b"x");
    // A saved job holds the same names.
    let save: [&[u8]; 8] =
        [b"pack", b"caf\xe9", b"--dump", b"d\xfcmp.sql", b"-o", b"b\xe9.tar.zst", b"--save-job", b"j.toml"];
    run(&save, &["--dry-run"]);
    run(&[b"pack", b"--job", b"j.toml"], &[]).expect(0);
    assert!(bench.path("").join(OsStr::from_bytes(b"b\xe9.tar.zst")).exists());
    // And undo finds what the run made, by the same names.
    run(&[b"undo", b"last"], &[]).expect(0);
    assert!(!new.exists(), "{:?}", files(&new).len());
}
