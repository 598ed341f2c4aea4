//! Sites that are brought back where they were: folder and tables exchanged as a whole, and exchanged back.

use super::common::mariadb::{Database, Server, server};
use super::common::{Bench, files, kill_points, postgres};
use mysql::prelude::Queryable;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Instant;
use zporter_standin::{Site, VARIANTS, Variant};

/// The rows of tables that go with an archive: those that a system can do without stay as they are.
fn content(server: &Server, database: &Database) -> Vec<String> {
    server.content(database).lines().map(str::to_string).collect()
}

/// What has to be told, and what the first two different lines are.
fn same(before: &[String], after: &[String], what: &str) {
    let other = before.iter().zip(after).find(|(a, b)| a != b);
    assert!(before == after, "{what}: {other:?}\n{} and {} lines", before.len(), after.len());
}

/// What is broken at a site: files gone, changed and new, rows changed.
fn broken(bench: &Bench, server: &Server, site: &Site, database: &Database) {
    let there = files(&bench.path("old"));
    let mut plain = there.iter().filter(|(path, _)| bench.path("old").join(path).is_file());
    let (gone, _) = plain.next().unwrap();
    std::fs::remove_file(bench.path("old").join(gone)).unwrap();
    bench.write("old/intruder.php", "<?php // bad\n");
    let table = server.content(database);
    let table = table.lines().find_map(|l| l.strip_prefix("INSERT INTO `")).unwrap();
    let table = table.split('`').next().unwrap().to_string();
    server.load_with_client(
        database,
        &format!("DELETE FROM `{table}`;\nCREATE TABLE `{}newer` (a int);\n", site.prefix),
    );
}

/// Statements that make or fill something, whoever made them.
fn statements(content: &[String]) -> Vec<String> {
    let text = content.join("\n") + "\n";
    let made = text.split(";\n").filter(|s| s.contains("CREATE") || s.contains("INSERT"));
    made.map(|s| s.split_whitespace().filter(|w| !w.contains("DEFINER=")).collect::<Vec<_>>().join(" "))
        .collect()
}

/// Whether the tests run as the machine's administrator, who alone may give files away.
fn is_root() -> bool {
    std::fs::metadata("/proc/self").is_ok_and(|m| std::os::unix::fs::MetadataExt::uid(&m) == 0)
}

/// Takes away what the newest restore left beside its site.
fn forget(bench: &Bench) -> String {
    let runs = bench.run(&["logbook", "--json"]).json();
    let run = runs.as_array().unwrap().iter().find(|r| r["command"] == "restore").unwrap()["run"].clone();
    let run = run.as_str().unwrap().to_string();
    bench.run(&["undo", "--forget", &run]).expect(0).says(&["Forgotten"]);
    run
}

fn whole(folder: &Path, out: &[&str]) -> Vec<(PathBuf, Vec<u8>)> {
    let caches = |path: &PathBuf| out.iter().any(|o| path.display().to_string().contains(o));
    files(folder).into_iter().filter(|(path, _)| !caches(path)).collect()
}

/// What archives leave out: caches begin empty.
const CACHES: [&str; 12] = [
    "cache",
    "tmp",
    "log",
    "compile",
    "php/twig",
    "files/css",
    "files/js",
    "debug.log",
    "class_index",
    "wc-logs",
    "vqmod",
    "session",
];

#[test]
fn every_system_is_brought_back_where_it_was_and_back_again() {
    let Some(server) = server() else { return };
    let with_database = |v: &Variant| !matches!(v, Variant::Dnn5 | Variant::Dnn9);
    for variant in VARIANTS.into_iter().filter(with_database) {
        let bench = Bench::new();
        let (site, database) = bench.live(server, variant);
        let _ = std::fs::remove_dir_all(bench.path("old/sites/members.fernhollow.example"));
        let packed = bench.run(&["pack", "old", "-o", "a.tar.zst"]);
        assert!(packed.code <= 1, "{variant:?} {}{}", packed.stdout, packed.stderr);
        let (was, rows) = (whole(&bench.path("old"), &CACHES), content(server, &database));
        broken(&bench, server, &site, &database);
        let (bad, bad_rows) = (files(&bench.path("old")), content(server, &database));
        let dry = bench.run(&["restore", "a.tar.zst", "--in-place", "--dry-run"]);
        assert!(dry.code <= 1, "{variant:?} {}{}", dry.stdout, dry.stderr);
        assert!(bad == files(&bench.path("old")) && bad_rows == content(server, &database), "{variant:?}");
        let done = bench.run(&["restore", "a.tar.zst", "--in-place"]);
        assert!(done.code <= 1, "{variant:?} {}{}", done.stdout, done.stderr);
        done.says(&["exchanged", "--forget"]);
        let now = whole(&bench.path("old"), &CACHES);
        let paths = |files: &[(PathBuf, Vec<u8>)]| files.iter().map(|(p, _)| p.clone()).collect::<Vec<_>>();
        assert_eq!(paths(&was), paths(&now), "{variant:?}");
        let other = was.iter().zip(&now).find(|(a, b)| a != b).map(|(a, b)| {
            (
                a.0.clone(),
                String::from_utf8_lossy(&a.1).into_owned(),
                String::from_utf8_lossy(&b.1).into_owned(),
            )
        });
        assert!(was == now, "{variant:?}: {other:?}");
        let newer = |line: &&String| !line.contains("newer");
        let after: Vec<String> = content(server, &database);
        let after: Vec<String> = after.iter().filter(newer).cloned().collect();
        let kept = |line: &String| {
            line.starts_with("INSERT")
                && !line.contains("`zp_")
                && !line.split('`').nth(1).is_some_and(|t| t.contains("cache"))
        };
        let (rows, after): (Vec<_>, Vec<_>) =
            (rows.into_iter().filter(kept).collect(), after.into_iter().filter(kept).collect());
        same(&rows, &after, &format!("{variant:?}"));
        let undone = bench.run(&["undo", "last"]);
        assert!(undone.code <= 1, "{variant:?} {}{}", undone.stdout, undone.stderr);
        assert!(bad == files(&bench.path("old")), "{variant:?}: the old site is back");
        let run = forget(&bench);
        same(&bad_rows, &content(server, &database), &format!("{variant:?} undone"));
        let left: Vec<_> =
            std::fs::read_dir(bench.path("")).unwrap().map(|e| e.unwrap().file_name()).collect();
        assert!(!left.iter().any(|n| n.to_string_lossy().contains("-beside-")), "{variant:?} {left:?}");
        bench.run(&["undo", &run]).expect(2);
    }
}

/// Keys with names of their own and with the server's, one that leads in a circle, one of a table that is not carried, triggers, a view, a
/// function, a name at the limit.
const KNOTS: &str = "CREATE TABLE `{p}parent` (`id` int PRIMARY KEY, `up` int, CONSTRAINT `{p}up` FOREIGN KEY (`up`) REFERENCES `{p}parent` (`id`)) ENGINE=InnoDB;\n\
    CREATE TABLE `{p}child` (`id` int PRIMARY KEY, `of` int NOT NULL, `n` int DEFAULT 0, CONSTRAINT `own_name` FOREIGN KEY (`of`) REFERENCES `{p}parent` (`id`) ON DELETE CASCADE, FOREIGN KEY (`n`) REFERENCES `{p}parent` (`id`)) ENGINE=InnoDB;\n\
    CREATE TABLE `{long}` (`id` int PRIMARY KEY) ENGINE=InnoDB;\n\
    INSERT INTO `{p}parent` VALUES (1,NULL),(2,1);\nINSERT INTO `{p}child` VALUES (1,2,1);\nINSERT INTO `{long}` VALUES (5);\n\
    CREATE TRIGGER `{p}tick` BEFORE INSERT ON `{p}child` FOR EACH ROW SET NEW.`n` = 1;\n\
    CREATE VIEW `{p}seen` AS SELECT `id` FROM `{p}child`;\n\
    CREATE FUNCTION `{p}one`() RETURNS int DETERMINISTIC RETURN 1;\n";

#[test]
fn keys_triggers_views_and_long_names_come_out_as_they_were() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    let (site, database) = bench.live(server, Variant::WordPress);
    let long = format!("{}{}", site.prefix, "x".repeat(64 - site.prefix.len()));
    server.load_with_client(&database, &KNOTS.replace("{p}", &site.prefix).replace("{long}", &long));
    bench.run(&["pack", "old", "-o", "a.tar.zst"]).says(&["Packed"]);
    // A table of somebody else that leads to one of ours, and that no archive holds.
    let other = format!(
        "CREATE TABLE `other_visits` (`id` int PRIMARY KEY, `of` int, CONSTRAINT `other_of` FOREIGN KEY (`of`) REFERENCES `{}parent` (`id`)) ENGINE=InnoDB;\nINSERT INTO `other_visits` VALUES (1,2);\n",
        site.prefix
    );
    server.load_with_client(&database, &other);
    let was = content(server, &database);
    let change = format!(
        "INSERT INTO `{p}parent` VALUES (9,2);\nDROP TRIGGER `{p}tick`;\nCREATE TRIGGER `{p}tick` BEFORE INSERT ON `{p}child` FOR EACH ROW SET NEW.`n` = 2;\n",
        p = site.prefix
    );
    server.load_with_client(&database, &change);
    let bad = content(server, &database);
    assert_ne!(was, bad);
    let done = bench.run(&["restore", "a.tar.zst", "--in-place", "--only", "database"]);
    assert!(done.code <= 1, "{}{}", done.stdout, done.stderr);
    let own = statements(&content(server, &database));
    let wanted = statements(&was);
    let missing: Vec<&String> = wanted.iter().filter(|s| !own.contains(s)).collect();
    assert!(wanted.len() > 20 && missing.is_empty(), "{missing:#?}\n{own:#?}");
    let undone = bench.run(&["undo", "last"]);
    assert!(undone.code <= 1, "{}{}", undone.stdout, undone.stderr);
    forget(&bench);
    let (bad, now) = (statements(&bad), statements(&content(server, &database)));
    // Keys that were given up and made again come in another order.
    let sorted = |all: Vec<String>| -> Vec<String> {
        let words = |s: String| {
            let mut parts: Vec<&str> = s.split(", ").collect();
            parts.sort_unstable();
            parts.join(", ")
        };
        all.into_iter().map(words).collect()
    };
    same(&sorted(bad), &sorted(now), "undone");
}

#[test]
fn parts_folders_and_single_files_are_brought_back() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    let (_, database) = bench.live(server, Variant::Joomla310);
    bench.write("old/images/banners/a.png", "a picture");
    bench.write("old/images/b.png", "another");
    bench.run(&["pack", "old", "-o", "a.tar.zst"]).says(&["Packed"]);
    let rows = content(server, &database);
    for path in ["old/images/banners/a.png", "old/images/b.png", "old/index.php"] {
        bench.write(path, "broken");
    }
    // As a whole: what is told names the site and not where it was made, and things are whose they were.
    let owner =
        |path: &str| std::os::unix::fs::MetadataExt::uid(&std::fs::metadata(bench.path(path)).unwrap());
    let root = is_root();
    if root {
        std::os::unix::fs::chown(bench.path("old/images/b.png"), Some(33), Some(33)).unwrap();
    }
    let whole = bench.run(&["restore", "a.tar.zst", "--in-place", "-v"]);
    assert!(whole.code <= 1 && !whole.stdout.contains("-beside-"), "{}{}", whole.stdout, whole.stderr);
    assert_eq!(owner("old/images/b.png"), if root { 33 } else { owner("old") });
    bench.run(&["undo", "last"]).expect(0);
    forget(&bench);
    let text = |path: &str| std::fs::read_to_string(bench.path(path)).unwrap();
    let index = |bench: &Bench| std::fs::read_to_string(bench.path("old/index.php")).unwrap();
    let done = bench.run(&["restore", "a.tar.zst", "--in-place", "--only", "images/banners/"]);
    assert!(done.code <= 1, "{}{}", done.stdout, done.stderr);
    assert_eq!(
        (text("old/images/banners/a.png").as_str(), text("old/images/b.png").as_str()),
        ("a picture", "broken")
    );
    bench.run(&["undo", "last"]).expect(0);
    assert_eq!(text("old/images/banners/a.png"), "broken");
    let done = bench.run(&["restore", "a.tar.zst", "--in-place", "old", "--only", "index.php"]);
    assert!(done.code <= 1, "{}{}", done.stdout, done.stderr);
    assert!(index(&bench).contains("<?php"), "{}", index(&bench));
    assert_eq!(text("old/images/b.png"), "broken");
    same(&rows, &content(server, &database), "the database is not touched");
    // Another site is not overwritten by mistake.
    Site::of(Variant::OpenCart3).write(&bench.path("shop")).unwrap();
    bench.run(&["restore", "a.tar.zst", "shop", "--in-place"]).expect(3).says(&["OpenCart"]);
}

#[test]
fn a_site_that_is_brought_back_is_the_old_one_or_the_new_one_wherever_it_is_killed() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    let (site, database) = bench.live(server, Variant::WordPress);
    let posts: Vec<String> =
        (10..3000).map(|i| format!("({i},'t','<a href=\"{}/p{i}\">x</a>','g')", site.address)).collect();
    server.load_with_client(
        &database,
        &format!("INSERT INTO `{}posts` VALUES {};\n", site.prefix, posts.join(",")),
    );
    bench.run(&["pack", "old", "-o", "a.tar.zst"]).says(&["Packed"]);
    broken(&bench, server, &site, &database);
    let before = (whole(&bench.path("old"), &CACHES), content(server, &database));
    let args = ["restore", "a.tar.zst", "--in-place"];
    let began = Instant::now();
    let _ = bench.run(&args);
    let took = began.elapsed();
    let new = whole(&bench.path("old"), &CACHES);
    assert!(new != before.0);
    let _ = bench.run(&["undo", "last"]);
    forget(&bench);
    let points = kill_points(10);
    let mut interrupted = 0;
    for point in 0..points {
        let after = took.mul_f64((point as f64 + 0.5) / points as f64);
        interrupted += usize::from(bench.killed(&args, after));
        let files_now = whole(&bench.path("old"), &CACHES);
        assert!(files_now == before.0 || files_now == new, "after {after:?}: files are mixed");
        let run = bench.run(&["logbook", "--json"]).json()[0].clone();
        if run["command"] == "restore" {
            let undone = bench.run(&["undo", run["run"].as_str().unwrap()]);
            assert!(undone.code <= 1, "{}{}", undone.stdout, undone.stderr);
            let _ = bench.run(&["undo", "--forget", run["run"].as_str().unwrap()]);
        }
        same(&before.1, &content(server, &database), &format!("after {after:?}"));
        assert!(before.0 == whole(&bench.path("old"), &CACHES), "after {after:?}");
    }
    assert!(interrupted > 0, "no run was killed on its way");
}

#[test]
fn databases_that_are_files_are_brought_back_as_well() {
    let sql = "CREATE TABLE config (collection varchar(255) NOT NULL, name varchar(255) NOT NULL, PRIMARY KEY (collection, name));\nINSERT INTO config VALUES ('', 'one');\nCREATE TABLE visits (id int PRIMARY KEY);\nINSERT INTO visits VALUES (1), (2);\n";
    let damage = "DELETE FROM visits; INSERT INTO config VALUES ('', 'bad');";
    let round = |bench: &Bench, rows: &dyn Fn() -> String, run: &dyn Fn(&str)| {
        let packed = bench.run(&[
            "pack",
            "site",
            "--old-address",
            "http://club.fernhollow.example",
            "-o",
            "a.tar.zst",
        ]);
        packed.says(&["Packed"]);
        let was = rows();
        run(damage);
        bench.write("site/index.php", "<?php // broken");
        let bad = rows();
        let done = bench.run(&["restore", "a.tar.zst", "--in-place"]);
        assert!(done.code <= 1, "{}{}", done.stdout, done.stderr);
        assert_eq!(was, rows());
        assert!(!std::fs::read_to_string(bench.path("site/index.php")).unwrap().contains("broken"));
        let undone = bench.run(&["undo", "last"]);
        assert!(undone.code <= 1, "{}{}", undone.stdout, undone.stderr);
        assert_eq!(bad, rows());
        assert!(std::fs::read_to_string(bench.path("site/index.php")).unwrap().contains("broken"));
        forget(bench);
    };
    if Command::new("sqlite3").arg("--version").output().is_ok_and(|o| o.status.success()) {
        for place in ["site/sites/default/files/.ht.sqlite", "rows/club.db"] {
            let bench = Bench::new();
            let file = bench.path(place);
            let named = format!("'database' => '{}', 'prefix' => '', 'driver' => 'sqlite'", file.display());
            super::live::write(&bench, &named);
            std::fs::create_dir_all(file.parent().unwrap()).unwrap();
            let run = |sql: &str| {
                let done = Command::new("sqlite3").arg(&file).arg(sql).output().unwrap();
                assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
                String::from_utf8(done.stdout).unwrap()
            };
            run(sql);
            round(&bench, &|| run(".dump"), &|sql| drop(run(sql)));
        }
    }
}

#[test]
fn an_exchange_waits_for_a_table_that_is_in_use_and_needs_no_more_rights_than_there_are() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    let (site, database) = bench.live(server, Variant::WordPress);
    bench.run(&["pack", "old", "-o", "a.tar.zst"]).says(&["Packed"]);
    let was = statements(&content(server, &database));
    broken(&bench, server, &site, &database);
    // Somebody reads a table for longer than one try waits.
    let mut reader = server.root();
    reader.query_drop(format!("USE {}", database.name)).unwrap();
    reader.query_drop("START TRANSACTION").unwrap();
    let _: Vec<::mysql::Row> = reader.query(format!("SELECT * FROM `{}posts`", site.prefix)).unwrap();
    let letting_go = std::thread::spawn(move || {
        std::thread::sleep(std::time::Duration::from_secs(7));
        reader.query_drop("COMMIT").unwrap();
    });
    let done = bench.run(&["restore", "a.tar.zst", "--in-place", "--only", "database"]);
    letting_go.join().unwrap();
    assert!(done.code <= 1, "{}{}", done.stdout, done.stderr);
    done.says(&["exchanged"]);
    let holds = |wanted: &[String]| {
        let now = statements(&content(server, &database));
        wanted.iter().find(|s| !now.contains(s)).cloned()
    };
    assert_eq!(holds(&was), None);
    bench.run(&["undo", "last"]).expect(0);
    forget(&bench);
    // An account that may not alter tables: they are replaced one by one, and kept in a dump.
    let mut root = server.root();
    for host in ["localhost", "127.0.0.1"] {
        root.query_drop(format!("REVOKE ALTER ON {}.* FROM '{}'@'{host}'", database.name, database.user))
            .unwrap();
    }
    let bad = statements(&content(server, &database));
    let done = bench.run(&["restore", "a.tar.zst", "--in-place"]);
    assert!(done.code <= 1, "{}{}", done.stdout, done.stderr);
    bench.run(&["restore", "a.tar.zst", "--in-place", "--dry-run", "-v"]).says(&["cannot do that"]);
    assert_eq!(holds(&was), None);
    bench.run(&["undo", "last"]).expect(0);
    assert_eq!(holds(&bad), None);
}

/// What PostgreSQL knows by numbers and not by names, and what is unique in a schema.
const POSTGRES_KNOTS: &str = "
CREATE EXTENSION IF NOT EXISTS citext WITH SCHEMA public;
CREATE TYPE public.seeing AS ENUM ('poor', 'fair', 'good');
CREATE FUNCTION public.stars(n int) RETURNS int LANGUAGE sql IMMUTABLE AS 'SELECT n * 2';
CREATE TABLE public.config (collection varchar(255) NOT NULL, name varchar(255) NOT NULL, PRIMARY KEY (collection, name));
INSERT INTO public.config VALUES ('', 'one');
CREATE TABLE public.visits (id serial PRIMARY KEY, who public.citext, how public.seeing DEFAULT 'fair', n int DEFAULT public.stars(4), CHECK (n > 0));
INSERT INTO public.visits (who) SELECT 'guest ' || i FROM generate_series(1, 20000) i;
CREATE TABLE public.notes (id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY, visit int REFERENCES public.visits (id) ON DELETE CASCADE, note text);
INSERT INTO public.notes (visit, note) VALUES (1, 'x'), (2, 'y');
CREATE INDEX visits_who ON public.visits (lower(who::text));
CREATE VIEW public.noted AS SELECT v.who, n.note FROM public.visits v JOIN public.notes n ON n.visit = v.id;
CREATE FUNCTION public.tick() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN NEW.note := coalesce(NEW.note, 'none') || '!'; RETURN NEW; END $$;
CREATE TRIGGER tick BEFORE INSERT ON public.notes FOR EACH ROW EXECUTE FUNCTION public.tick();
COMMENT ON TABLE public.visits IS 'who came';
CREATE ROLE reader; GRANT USAGE ON SCHEMA public TO reader;
";

/// A site whose rows are in a database of PostgreSQL that is called `club`.
fn club_on_postgres(bench: &Bench, server: &postgres::Server, user: &str, sql: &str) {
    let named = format!(
        "'database' => 'club', 'username' => '{user}', 'password' => '', 'host' => '{}', 'prefix' => '', 'driver' => 'pgsql'",
        server.folder()
    );
    super::live::write(bench, &named);
    server.create("club");
    bench.write("x.sql", sql);
    server.load("club", &bench.path("x.sql"));
    let told =
        bench.run(&["pack", "site", "--old-address", "http://club.fernhollow.example", "-o", "a.tar.zst"]);
    told.says(&["Packed"]);
}

#[test]
fn a_schema_that_lay_aside_and_is_gone_is_missed_before_anything_is_undone() {
    for loss in ["DROP SCHEMA %I CASCADE", "DROP TABLE %I.notes CASCADE"] {
        let Some(server) = postgres::Server::start() else { return };
        let bench = Bench::new();
        club_on_postgres(&bench, &server, "zp", POSTGRES_KNOTS);
        let restored = bench.run(&["restore", "a.tar.zst", "--in-place"]);
        assert!(restored.code <= 1, "{restored:?}");
        let aside = "SELECT nspname FROM pg_namespace WHERE nspname NOT LIKE 'pg\\_%' AND nspname NOT IN ('public','information_schema')";
        bench.write(
            "x.sql",
            format!("DO $$ DECLARE s text; BEGIN FOR s IN {aside} LOOP EXECUTE format('{loss}', s); END LOOP; END $$;"),
        );
        server.load("club", &bench.path("x.sql"));
        let before =
            (files(&bench.path("site")), server.dump("club", &["--no-owner"]).replace("restrict", "").len());
        bench.run(&["undo", "last"]).expect(3).says(&["is gone"]);
        assert_eq!(before.0, files(&bench.path("site")), "{loss}");
    }
}

#[test]
fn tables_of_postgres_take_their_places_in_one_transaction() {
    let Some(server) = postgres::Server::start() else { return };
    let bench = Bench::new();
    club_on_postgres(&bench, &server, "zp", POSTGRES_KNOTS);
    let run = |sql: &str| {
        bench.write("x.sql", sql);
        server.load("club", &bench.path("x.sql"))
    };
    let rows = || -> Vec<String> {
        let dump = server.dump("club", &["--no-owner", "--schema=public"]);
        dump.lines().filter(|l| !l.contains("restrict ")).map(str::to_string).collect()
    };
    // Somebody else's things in the same schema, which no archive holds, lead to ours.
    run(
        "CREATE TABLE public.other (id int PRIMARY KEY, visit int CONSTRAINT other_visit REFERENCES public.visits (id));\n\
         INSERT INTO public.other VALUES (1, 5);\nCREATE VIEW public.others AS SELECT o.id, v.who FROM public.other o JOIN public.visits v ON v.id = o.visit;\n\
         CREATE FUNCTION public.of_others() RETURNS bigint LANGUAGE sql AS 'SELECT count(*) FROM public.visits';",
    );
    let was = rows();
    run(
        "DELETE FROM public.notes; UPDATE public.visits SET who = 'nobody' WHERE id > 100; DROP VIEW public.noted; \
         DROP TRIGGER tick ON public.notes; ALTER TABLE public.visits ADD broken int;",
    );
    bench.write("site/index.php", "<?php // broken");
    let bad = rows();
    // Whoever looks sees the old site or the new one, at any time, and waits for nothing.
    let restore = ["restore", "a.tar.zst", "--in-place"];
    let mut child = bench.command(&restore).stdout(Stdio::piped()).spawn().unwrap();
    let (mut looks, mut longest) = (0, std::time::Duration::ZERO);
    while child.try_wait().unwrap().is_none() {
        let began = Instant::now();
        let seen = run("SELECT count(*) FILTER (WHERE who = 'nobody'), count(*) FROM public.visits;");
        assert!(["19900|20000", "0|20000"].contains(&seen.trim()), "{seen}");
        (looks, longest) = (looks + 1, longest.max(began.elapsed()));
    }
    let done = child.wait_with_output().unwrap();
    let told = String::from_utf8(done.stdout).unwrap();
    assert!(done.status.code().is_some_and(|c| c <= 1) && told.contains("exchanged"), "{told}");
    assert!(looks > 0 && longest.as_secs() < 5, "{looks} looks, the longest {longest:?}");
    let restored = bench.last_run();
    same(&was, &rows(), "brought back");
    let led = run("SELECT public.of_others(), (SELECT who FROM public.others);");
    assert_eq!(led.trim(), "20000|guest 5", "what is others' leads to the new tables");
    // What lies aside is no part of the site.
    let again = ["pack", "site", "--old-address", "http://club.fernhollow.example", "-o", "b.tar.zst"];
    bench.run(&again).says(&["Packed"]);
    let verified = bench.run(&["verify", "b.tar.zst", "--json"]).expect(0).stdout;
    assert!(!verified.contains("zp_"), "{verified}");
    // It is known by a mark, never by its name: another schema with a name of the same kind is carried.
    run("CREATE SCHEMA zp_0badc0_o; CREATE TABLE zp_0badc0_o.somebodys (id int);");
    let again =
        ["pack", "site", "--old-address", "http://club.fernhollow.example", "-o", "c.tar.zst", "--json"];
    let mut pack = bench.command(&again);
    pack.env("HOME", bench.path("elsewhere"));
    let packed = crate::common::outcome(pack);
    assert!(packed.code <= 1, "{packed:?}");
    let mut listed = std::process::Command::new("tar");
    listed.args(["--zstd", "-xOf"]).arg(bench.path("c.tar.zst")).args(["--wildcards", "database/*"]);
    let text = listed.output().unwrap().stdout;
    let schemas: Vec<String> = String::from_utf8_lossy(&text)
        .lines()
        .filter(|l| l.starts_with("CREATE SCHEMA"))
        .map(str::to_string)
        .collect();
    assert!(schemas.len() == 1 && schemas[0].contains("zp_0badc0_o"), "{schemas:?}");
    run("DROP SCHEMA zp_0badc0_o CASCADE");
    // What the site makes meanwhile is not lost with the way back.
    run(
        "CREATE TABLE public.since (id serial PRIMARY KEY, at date); INSERT INTO public.since (at) VALUES ('2026-03-01');",
    );
    let undone = bench.run(&["undo", &restored]);
    assert!(undone.code <= 1, "{}{}", undone.stdout, undone.stderr);
    assert_eq!(run("SELECT count(*) FROM public.since; DROP TABLE public.since;").trim(), "1");
    same(&bad, &rows(), "undone");
    assert!(bench.read("site/index.php").contains("broken"));
    forget(&bench);
    assert_eq!(run("SELECT count(*) FROM pg_namespace WHERE nspname LIKE 'zp%';").trim(), "0");
    // Wherever it is killed it is the one or the other.
    let began = Instant::now();
    assert!(bench.run(&restore).code <= 1);
    let took = began.elapsed();
    assert!(bench.run(&["undo", "last"]).code <= 1);
    forget(&bench);
    let points = kill_points(10);
    for point in 0..points {
        let after = took.mul_f64((point as f64 + 0.5) / points as f64);
        bench.killed(&restore, after);
        let now = rows();
        assert!(now == bad || now == was, "after {after:?}: {now:#?}");
        let run = bench.run(&["logbook", "--json"]).json()[0].clone();
        if run["command"] == "restore" {
            let undone = bench.run(&["undo", run["run"].as_str().unwrap()]);
            assert!(undone.code <= 1, "after {after:?}: {}{}", undone.stdout, undone.stderr);
            let _ = bench.run(&["undo", "--forget", run["run"].as_str().unwrap()]);
        }
        same(&bad, &rows(), &format!("after {after:?}"));
    }
}

#[test]
fn an_account_of_postgres_that_may_exchange_nothing_replaces_tables_in_the_old_way() {
    let Some(server) = postgres::Server::start() else { return };
    let bench = Bench::new();
    let sql = "CREATE ROLE web LOGIN; GRANT CREATE ON SCHEMA public TO web; SET ROLE web;\n\
        CREATE TABLE visits (id int PRIMARY KEY, who text); INSERT INTO visits VALUES (1, 'guest');\n\
        CREATE TABLE config (collection varchar(255) NOT NULL, name varchar(255) NOT NULL, PRIMARY KEY (collection, name));";
    club_on_postgres(&bench, &server, "web", sql);
    let rows = || server.dump("club", &["--schema=public", "--table=visits"]);
    let run = |sql: &str| {
        bench.write("x.sql", sql);
        server.load("club", &bench.path("x.sql"))
    };
    run("UPDATE visits SET who = 'nobody';");
    let told = bench.run(&["restore", "a.tar.zst", "--in-place"]);
    assert!(told.code <= 1, "{}{}", told.stdout, told.stderr);
    let told = told.says(&["tables are not exchanged in one step"]);
    drop(told);
    assert!(rows().contains("guest") && !rows().contains("nobody"));
    assert!(bench.run(&["undo", "last"]).code <= 1);
    assert!(rows().contains("nobody"));
    // So does one that may, where something lies in the schema that cannot be moved.
    let told =
        bench.run(&["restore", "a.tar.zst", "--in-place", "--database", &server.url("club"), "--dry-run"]);
    assert!(told.code <= 1 && !told.stdout.contains("one by one"), "{}{}", told.stdout, told.stderr);
    run("CREATE COLLATION public.ours (LOCALE = 'C');");
    bench
        .run(&["restore", "a.tar.zst", "--in-place", "--database", &server.url("club"), "--dry-run"])
        .says(&["one by one"]);
}

#[test]
fn an_archive_that_turns_out_damaged_while_it_is_taken_leaves_the_site_as_it_is() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    let (site, database) = bench.live(server, Variant::WordPress);
    // What cannot be compressed lies before the rows, so that rows are on their way when the damage is met.
    let mut at = 7u32;
    let noise = (0..400_000).map(|_| {
        at = at.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        (at >> 24) as u8
    });
    bench.write("old/wp-content/uploads/2026/03/noise.jpg", noise.collect::<Vec<u8>>());
    bench.run(&["pack", "old", "-o", "a.tar.zst"]).says(&["Packed"]);
    broken(&bench, server, &site, &database);
    let before = (whole(&bench.path("old"), &[]), content(server, &database));
    let good = std::fs::read(bench.path("a.tar.zst")).unwrap();
    let mut altered = good.clone();
    altered[good.len() / 3] ^= 0xff;
    for bad in [&altered[..], &good[..good.len() - 200], &good[..good.len() / 2]] {
        bench.write("bad.tar.zst", bad);
        bench.run(&["restore", "bad.tar.zst", "--in-place"]).expect(5).says(&["is damaged", "next:"]);
        assert!(whole(&bench.path("old"), &[]) == before.0, "{} bytes", bad.len());
        same(&before.1, &content(server, &database), "the database");
        let beside = std::fs::read_dir(bench.path("")).unwrap().flatten();
        let beside: Vec<_> =
            beside.map(|e| e.file_name()).filter(|n| n.to_string_lossy().contains("beside")).collect();
        assert!(beside.is_empty(), "{beside:?}");
    }
    // The whole one is read once: what has to be known of it first stands at its beginning.
    let reads = bench.run(&["restore", "a.tar.zst", "--in-place", "--dry-run"]);
    assert!(reads.code <= 1, "{}{}", reads.stdout, reads.stderr);
    let done = bench.run(&["restore", "a.tar.zst", "--in-place"]);
    assert!(done.code <= 1, "{}{}", done.stdout, done.stderr);
    assert!(whole(&bench.path("old"), &CACHES) != before.0);
}
