//! What is promised to whoever shares a machine, a folder or a database with a copy: locks, records, owners, links, signals, plain words
//! for wrong material.

use crate::common::mariadb::server;
use crate::common::{self, Bench, Outcome, files, outcome};
use mysql::prelude::Queryable;
use std::io::Write;
use std::os::unix::fs::{MetadataExt, PermissionsExt, symlink};
use std::process::{Command, Stdio};
use std::time::Duration;
use zporter_standin::Variant;

#[test]
fn a_refresh_goes_into_a_copy_of_this_site_and_keeps_its_settings() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    bench.live(server, Variant::Joomla310);
    let new = server.new_database();
    let url = new.socket_url(server);
    let made = bench.run(&[
        "clone",
        "old",
        "copy",
        "--address",
        "https://dev.test",
        "--database",
        &url,
        "--table-prefix",
        "dev_",
    ]);
    assert!(made.code <= 1, "{made:?}");
    let record = std::fs::metadata(bench.path("copy/.zporter-copy.json")).unwrap();
    assert_eq!(record.permissions().mode() & 0o777, 0o600);
    assert!(!bench.read("copy/.zporter-copy.json").contains(crate::common::NEW_PASSWORD));
    // Nothing has to be said again; what is said otherwise is refused.
    let tables =
        |root: &mut mysql::Conn| root.query::<String, _>(format!("SHOW TABLES FROM {}", new.name)).unwrap();
    let before = (files(&bench.path("copy")), tables(&mut server.root()));
    for (option, value) in [("--table-prefix", "other_"), ("--address", "https://other.test")] {
        bench
            .run(&["clone", "old", "copy", "--refresh", option, value])
            .expect(3)
            .says(&["is no copy of this site", value]);
    }
    bench.live(server, Variant::Joomla310);
    std::fs::rename(bench.path("old"), bench.path("another")).unwrap();
    bench.run(&["clone", "another", "copy", "--refresh"]).expect(3).says(&["it is a copy of"]);
    std::fs::rename(bench.path("another"), bench.path("old")).unwrap();
    server.load_with_client(
        &new,
        "CREATE TABLE another_program (a int); INSERT INTO another_program VALUES (5);",
    );
    let refreshed = bench.run(&["clone", "old", "copy", "--refresh"]);
    assert!(refreshed.code <= 1, "{refreshed:?}");
    // A few tables alone take none of the others away, and another program's stays.
    let few = bench.run(&["clone", "old", "copy", "--refresh", "--rows", "*=none", "--rows", "*content=all"]);
    assert!(few.code <= 1, "{few:?}");
    let mut now = tables(&mut server.root());
    now.retain(|t| t != "another_program");
    assert_eq!(now, before.1);
    let rows: Option<u64> =
        server.root().query_first(format!("SELECT COUNT(*) FROM {}.another_program", new.name)).unwrap();
    assert_eq!(rows, Some(1));
    let packed = bench.run(&["pack", "copy", "-o", "c.tar.zst"]);
    assert!(packed.code <= 1, "{packed:?}");
    let listed = Command::new("tar").args(["--zstd", "-tf"]).arg(bench.path("c.tar.zst")).output();
    assert!(listed.is_ok_and(|l| !String::from_utf8_lossy(&l.stdout).contains("zporter-copy")));
}

#[test]
fn a_chain_of_runs_is_undone_one_after_the_other() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    bench.live(server, Variant::Joomla310);
    let new = server.new_database();
    let url = new.socket_url(server);
    let clone = |more: &[&str]| {
        bench.run(
            &[&["clone", "old", "copy", "--address", "https://dev.test", "--database", &url], more].concat(),
        )
    };
    assert!(clone(&[]).code <= 1);
    let first = bench.last_run();
    std::thread::sleep(Duration::from_millis(1100));
    let css = files(&bench.path("old"))
        .into_iter()
        .find(|(p, _)| p.extension().is_some_and(|e| e == "css"))
        .unwrap()
        .0;
    std::fs::write(bench.path("old").join(&css), "body { color: green }").unwrap();
    let refreshed = clone(&["--refresh"]);
    assert!(refreshed.code <= 1, "{refreshed:?}");
    let second = bench.last_run();
    std::thread::sleep(Duration::from_millis(2100));
    bench.run(&["undo", &second]).expect(0);
    // What the undo put back is what the first run made: by its content, whatever the time of the undo.
    bench.run(&["undo", &first]).expect(0);
    assert!(!bench.path("copy").exists());
}

#[test]
fn two_runs_never_work_on_one_folder() {
    let bench = Bench::new();
    bench.packed(Variant::PrestaShop16, "a.tar.zst");
    // The dump comes through a pipe that nobody fills: the first run waits in it.
    Command::new("mkfifo").arg(bench.path("slow.sql")).status().unwrap();
    let args = [
        "restore",
        "a.tar.zst",
        "new",
        "--address",
        "http://n.example",
        "--dump-to",
        "o.sql",
        "--dump",
        "slow.sql",
    ];
    let mut first = bench.command(&args).stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap();
    let began = std::time::Instant::now();
    while !bench.path("new").exists() {
        assert!(began.elapsed() < Duration::from_secs(60), "the first run never began");
        std::thread::sleep(Duration::from_millis(20));
    }
    let second =
        bench.run(&["restore", "a.tar.zst", "new", "--address", "http://n.example", "--dump-to", "p.sql"]);
    second.expect(3).says(&["is in use by the run", "wait until it is through"]);
    let _ = first.kill();
    first.wait().unwrap();
    // A run that was killed holds no lock.
    let _ = std::fs::remove_dir_all(bench.path("new"));
    let free =
        bench.run(&["restore", "a.tar.zst", "new", "--address", "http://n.example", "--dump-to", "q.sql"]);
    assert!(free.code <= 1, "{free:?}");
}

#[test]
fn a_signal_ends_a_run_with_a_word_and_leaves_nothing_temporary() {
    let bench = Bench::new();
    bench.site(Variant::PrestaShop16);
    std::fs::create_dir_all(bench.path("tmp")).unwrap();
    for (signal, number) in [("-INT", 130), ("-TERM", 143)] {
        Command::new("mkfifo").arg(bench.path("slow.sql")).status().unwrap();
        let mut command = bench.command(&["pack", "old", "--dump", "slow.sql", "-o", "a.tar.zst"]);
        command.env("TMPDIR", bench.path("tmp")).stdout(Stdio::null()).stderr(Stdio::piped());
        let child = command.spawn().unwrap();
        // It reads from a pipe that stays open.
        let mut pipe = std::fs::File::options().write(true).open(bench.path("slow.sql")).unwrap();
        pipe.write_all(b"SET NAMES utf8mb4;\n").unwrap();
        std::thread::sleep(Duration::from_millis(500));
        common::signal(&child, signal);
        let ended = child.wait_with_output().unwrap();
        drop(pipe);
        let told = String::from_utf8_lossy(&ended.stderr);
        assert_eq!(ended.status.code(), Some(number), "{told}");
        assert!(told.contains("stopped:") && told.contains("next:"), "{told}");
        let left = |folder: &str| {
            std::fs::read_dir(bench.path(folder))
                .unwrap()
                .flatten()
                .filter(|e| e.file_name().to_string_lossy().starts_with(".zporter"))
                .count()
        };
        assert_eq!((left("tmp"), left(".")), (0, 0), "{told}");
        std::fs::remove_file(bench.path("slow.sql")).unwrap();
    }
    // What a kill left is removed by the next run in that folder.
    std::fs::create_dir(bench.path(".zporter-4000000000-x")).unwrap();
    bench.run(&["pack", "old", "--dump", "old.sql", "-o", "b.tar.zst"]).expect(0);
    assert!(!bench.path(".zporter-4000000000-x").exists());
}

#[test]
fn shared_settings_are_packed_as_what_they_hold() {
    let bench = Bench::new();
    bench.site(Variant::PrestaShop16);
    std::fs::create_dir(bench.path("shared")).unwrap();
    let settings = "config/settings.inc.php";
    std::fs::rename(bench.path("old").join(settings), bench.path("shared/settings.php")).unwrap();
    symlink(bench.path("shared/settings.php"), bench.path("old").join(settings)).unwrap();
    std::fs::rename(bench.path("old/img"), bench.path("shared/img")).unwrap();
    symlink("../shared/img", bench.path("old/img")).unwrap();
    symlink("robots.txt", bench.path("old/inside.txt")).unwrap();
    bench
        .run(&["pack", "old", "--dump", "old.sql", "-o", "a.tar.zst"])
        .expect(0)
        .says(&["settings.inc.php: is a link to", "img: is a link to"]);
    for (target, args) in [
        ("new", vec!["restore", "a.tar.zst", "new"]),
        ("copy", vec!["clone", "old", "copy", "--dump", "old.sql"]),
    ] {
        let dump = format!("{target}.sql");
        let args = [&args[..], &["--address", "http://n.example/x", "--dump-to", &dump]].concat();
        let done = bench.run(&args);
        assert!(done.code <= 1, "{done:?}");
        let made = bench.path(target);
        assert!(std::fs::symlink_metadata(made.join(settings)).unwrap().is_file());
        assert!(
            std::fs::symlink_metadata(made.join("img")).unwrap().is_dir()
                && std::fs::read_dir(made.join("img")).unwrap().next().is_some()
        );
        assert_eq!(std::fs::read_link(made.join("inside.txt")).unwrap().to_str(), Some("robots.txt"));
    }
    assert!(bench.path("shared/settings.php").exists());
    // A pipe in place of settings is waited for by nobody.
    std::fs::remove_file(bench.path("old").join(settings)).unwrap();
    Command::new("mkfifo").arg(bench.path("old").join(settings)).status().unwrap();
    let looked = bench.run(&["survey", "old"]);
    assert!(looked.code <= 2, "{looked:?}");
}

#[test]
fn owners_are_kept_or_given() {
    let bench = Bench::new();
    if !Command::new("id").arg("-u").output().is_ok_and(|o| o.stdout == b"0\n") {
        eprintln!("SKIPPED: only root may give files away");
        return;
    }
    bench.packed(Variant::PrestaShop16, "a.tar.zst");
    let given = Command::new("chown").args(["-Rh", "1234:2345"]).arg(bench.path("old")).status();
    assert!(given.unwrap().success());
    let owner = |path: &str| {
        let meta = std::fs::symlink_metadata(bench.path(path)).unwrap();
        (meta.uid(), meta.gid())
    };
    let to = ["--address", "http://n.example", "--set", "maintenance=on"];
    let cloned =
        bench.run(&[&["clone", "old", "copy", "--dump", "old.sql", "--dump-to", "c.sql"], &to[..]].concat());
    assert!(cloned.code <= 1, "{cloned:?}");
    let restored = bench.run(
        &[&["restore", "a.tar.zst", "web/new", "--dump-to", "r.sql", "--owner", "4321:5432"], &to[..]]
            .concat(),
    );
    assert!(restored.code <= 1, "{restored:?}");
    for file in ["index.php", "config/settings.inc.php", "img", ".htaccess"] {
        assert_eq!(owner(&format!("copy/{file}")), (1234, 2345), "{file}");
        assert_eq!(owner(&format!("web/new/{file}")), (4321, 5432), "{file}");
    }
    // Everything belongs to somebody who may work with it: what was packed, folders on the way and those that the system needs, what was put.
    let whole =
        bench.run(&[&["restore", "a.tar.zst", "site/deep/new", "--dump-to", "w.sql"], &to[..]].concat());
    assert!(whole.code <= 1 && !whole.stdout.contains("could probably not write"), "{whole:?}");
    for (folder, ids) in [("copy", (1234, 2345)), ("site/deep/new", (33, 33)), ("web/new", (4321, 5432))] {
        let all =
            Command::new("find").arg(bench.path(folder)).args(["-printf", "%U %G %p\\n"]).output().unwrap();
        let all = String::from_utf8_lossy(&all.stdout).into_owned();
        assert!(all.lines().count() > 20);
        let others: Vec<&str> =
            all.lines().filter(|l| !l.starts_with(&format!("{} {} ", ids.0, ids.1))).collect();
        assert!(others.is_empty(), "{folder}: {others:?}");
    }
    // A further name of a file becomes a file of its own, with the same owner.
    std::fs::hard_link(bench.path("old/index.php"), bench.path("old/second.php")).unwrap();
    let mut tar = Command::new("tar");
    tar.arg("-czf").arg(bench.path("p.tar.gz")).arg("-C").arg(bench.path("old")).arg(".");
    assert!(tar.status().unwrap().success());
    let plain =
        ["restore", "p.tar.gz", "web/p", "--dump", "old.sql", "--dump-to", "p.sql", "--owner", "4321:5432"];
    let plain = bench.run(&[&plain, &to[..]].concat());
    assert!(plain.code <= 1, "{plain:?}");
    for file in ["index.php", "second.php"] {
        assert_eq!(owner(&format!("web/p/{file}")), (4321, 5432), "{file}");
    }
    bench
        .run(&[
            "restore",
            "a.tar.zst",
            "x",
            "--address",
            "http://n.example",
            "--dump-to",
            "x.sql",
            "--owner",
            "no-such-user",
        ])
        .expect(2)
        .says(&["there is no user no-such-user"]);
}

#[test]
fn wrong_material_is_told_in_plain_words() {
    let bench = Bench::new();
    bench.packed(Variant::PrestaShop16, "a.tar.zst");
    std::fs::create_dir(bench.path("folder")).unwrap();
    bench.write("shop.part-02.sql", "SET NAMES utf8mb4;\n");
    let to = ["--address", "http://n.example"];
    for (args, code, says) in [
        (&["verify", "folder"][..], 2, "is a folder, not an archive"),
        (&["database", "load", "a.tar.zst", "sqlite:x.db"], 2, "is an archive, not a dump"),
        (&["database", "load", "none.sql", "sqlite:x.db"], 2, "there is no dump"),
        (&["database", "load", "folder", "sqlite:x.db"], 2, "is a folder, not a dump"),
        (&["database", "load", "shop.part-02.sql", "sqlite:x.db"], 2, "part-01.sql; the other parts follow"),
        (
            &["readdress", "old.sql", "-o", "s.zip", "--address", "http://a.example", "http://b.example"],
            2,
            "would be an archive",
        ),
        (&["pack", "old", "--dump", "none.sql", "-o", "b.tar.zst"], 2, "there is no dump"),
        (&["clone", "old", "copy"], 2, "--address"),
    ] {
        bench.run(args).expect(code).says(&[says]);
    }
    let odd = bench.run(
        &[&["restore", "a.tar.zst", "n1", "--dump-to", "n1.sql", "--rows", "wp_*=none"], &to[..]].concat(),
    );
    assert_eq!(odd.code, 1);
    odd.says(&["no table has a name like wp_*"]);
    let bare = bench.run(
        &[&["restore", "a.tar.zst", "n2", "--dump-to", "n2.sql", "--rows", "connections=none"], &to[..]]
            .concat(),
    );
    assert!(bare.code <= 1 && !bare.stdout.contains("no table has a name like"), "{bare:?}");
    let shop = rusqlite::Connection::open(bench.path("shop.db")).unwrap();
    shop.execute_batch("CREATE TABLE orders (id INTEGER)").unwrap();
    // What alone was asked for has to be there.
    let none = ["pack", "old", "-o", "c.tar.zst", "--dump", "old.sql", "--only", "imgs/"];
    bench.run(&none).expect(2).says(&["no part, folder or file imgs"]);
    assert!(!bench.path("c.tar.zst").exists());
    for (args, says) in [
        (
            &["pack", "old", "-o", "d.tar.zst", "--dump", "old.sql", "--without", "imgs/"][..],
            "imgs: no such folder",
        ),
        (
            &["database", "dump", "sqlite:shop.db", "-o", "e.sql", "--tables", "order"],
            "no table has a name like order",
        ),
        (
            &["database", "dump", "sqlite:shop.db", "-o", "f.sql", "--rows", "wp_*=none"],
            "no table has a name like wp_*",
        ),
    ] {
        bench.run(args).expect(1).says(&[says]);
    }
    let args = ["database", "dump", "sqlite:shop.db", "-o", "g.sql", "--tables", "ord*"];
    bench.run(&args).expect(0).says(&["1 table with 0 rows"]);
    // Output that cannot be written is the world's failure, on every command.
    for args in [
        &["systems"][..],
        &["survey", "old"],
        &["verify", "a.tar.zst"],
        &["logbook"],
        &["logbook", "--json"],
        &["database", "sizes", "old", "--json"],
    ] {
        let mut command = bench.command(args);
        command.stdout(std::fs::File::options().write(true).open("/dev/full").unwrap());
        let ended = outcome(command);
        assert!(ended.code == 4 || ended.code == 2, "{args:?}: {ended:?}");
        // Closed from the beginning: the shell hands on no output at all.
        let ended = outcome(through(&bench, &["sh", "-c", "exec \"$@\" >&-", "sh"], args));
        assert!(ended.code == 4 || ended.code == 2, "{args:?} with a closed output: {ended:?}");
    }
}

/// A command that another program starts.
fn through(bench: &Bench, starter: &[&str], args: &[&str]) -> Command {
    let program = bench.command(args);
    let mut command = Command::new(starter[0]);
    command
        .args(&starter[1..])
        .arg(program.get_program())
        .args(program.get_args())
        .current_dir(bench.path("."));
    for (name, value) in program.get_envs() {
        match value {
            Some(value) => command.env(name, value),
            None => command.env_remove(name),
        };
    }
    command
}

/// Runs a command as a user for whom the system starts few threads or none.
fn with_few_threads(bench: &Bench, most: u32, args: &[&str]) -> Outcome {
    let limit = format!("--nproc={most}:{most}");
    let starter = ["setpriv", "--reuid=33", "--regid=33", "--clear-groups", "prlimit", &limit];
    outcome(through(bench, &starter, args))
}

#[test]
fn threads_that_cannot_be_started_end_nothing_in_a_panic() {
    if !Command::new("id").arg("-u").output().is_ok_and(|o| o.stdout == b"0\n") {
        return;
    }
    let bench = Bench::new();
    bench.site(Variant::WordPress);
    let rows: String =
        (0..60_000).map(|i| format!("INSERT INTO t VALUES ({i},'http://old.example/{i}');\n")).collect();
    bench.write("big.sql", rows);
    Command::new("chown").args(["-R", "33:33"]).arg(bench.path(".")).status().unwrap();
    // The program's own binary lies where this user may not look.
    let jobs: [&[&str]; 4] = [
        &["readdress", "big.sql", "-o", "moved.sql", "--address", "http://old.example", "http://new.example"],
        &["pack", "old", "--dump", "old.sql", "-o", "a.tar.zst"],
        &[
            "restore",
            "a.tar.zst",
            "new",
            "--address",
            "http://n.test",
            "--database",
            "mysql://u@h/n",
            "--dump-to",
            "n.sql",
        ],
        &[
            "clone",
            "old",
            "copy",
            "--dump",
            "old.sql",
            "--address",
            "http://n.test",
            "--database",
            "mysql://u@h/n",
            "--dump-to",
            "c.sql",
        ],
    ];
    for most in [1, 2, 3] {
        for (args, made) in jobs.iter().zip(["moved.sql", "a.tar.zst", "new", "copy"]) {
            let done = with_few_threads(&bench, most, args);
            assert!(matches!(done.code, 0 | 1 | 4), "{most} {args:?}: {done:?}");
            assert!(!done.stderr.contains("panicked"), "{done:?}");
            if done.code == 4 {
                done.says(&["no further thread", "next:"]);
            } else if made == "moved.sql" {
                assert!(bench.read(made).ends_with("'http://new.example/59999');\n"));
            }
            for gone in [made, "n.sql", "c.sql"].iter().filter(|g| **g != "a.tar.zst") {
                let _ = std::fs::remove_dir_all(bench.path(gone));
                let _ = std::fs::remove_file(bench.path(gone));
            }
        }
        let _ = std::fs::remove_file(bench.path("a.tar.zst"));
    }
}
