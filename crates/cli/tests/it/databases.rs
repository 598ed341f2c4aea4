//! The database commands on real servers: round trips on every column type, guards, continuing, going back.

use crate::common::mariadb::{Database, Server, server};
use crate::common::{Bench, NEW_PASSWORD, kill_points, outcome, postgres};
use mysql::prelude::Queryable;
use std::process::Command;

const MYSQL_TYPES: &str = include_str!("fixtures/every-type-mysql.sql");
const POSTGRES_TYPES: &str = include_str!("fixtures/every-type-postgres.sql");
const SQLITE_TYPES: &str = include_str!("fixtures/every-type-sqlite.sql");

/// A database's content as the server's own program writes it, without who made views and triggers.
fn content(server: &Server, database: &Database) -> String {
    let whole = server.content(database);
    let mut pieces = whole.split("DEFINER=");
    let first = pieces.next().unwrap_or_default().to_string();
    // Digits of a float that the program shows and a load of its own dump does not keep.
    pieces
        .fold(first, |out, piece| out + piece.split_once([' ', '\n', '*']).map_or("", |(_, rest)| rest))
        .replace("3.40282e38", "3.40282e+38")
        // Sequences are named with their database.
        .replace(&format!("`{}`.", database.name), "")
}

/// Makes a database for a user who may do what shared hosting allows, and nothing on the server as a whole.
fn filled(server: &Server, sql: &str) -> Database {
    let database = server.new_database();
    server.load_with_client(&database, sql);
    database
}

#[test]
fn every_mysql_type_comes_back_byte_for_byte() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    let old = filled(server, MYSQL_TYPES);
    let url = old.tcp_url(server);
    bench
        .run(&["database", "dump", &url, "-o", "a.sql"])
        .expect(1)
        .says(&["the procedure pr could not be read"]);
    let a = bench.read("a.sql");
    // What servers show of a FLOAT is not what they store.
    for exact in [
        "16777216,1234.5670166015625,0.1",
        "0x1555",
        "'0000-00-00'",
        "'Ã©Ã¼'",
        "🔭",
        "0xDEADBEEF",
        "INVISIBLE",
        "`odd ``name`",
        "DEFAULT nextval(`numbers so far`)",
        "DO SETVAL(`backwards`, -3, 0, 0)",
    ] {
        assert!(a.contains(exact), "{exact} is not in:\n{a}");
    }
    assert!(!a.contains("DEFINER=") && !a.contains("(`id`,`t1`,`b1`,`s1`,`m1`,`i1`,`d1`,`f1`,`f2`,`d2`,`y`,`da`,`dt`,`ts`,`ti`,`c`,`v`,`u`,`x`,`bi`,`vb`,`bl`,`e`,`se`,`j`,`g`,`p`,`i6`,`uu`,`gv`"));
    let mut dumps = Vec::new();
    for form in ["sql", "sql.gz", "sql.zst"] {
        let copy = server.new_database();
        bench.run(&["database", "dump", &url, "-o", &format!("b.{form}")]).expect(1);
        bench
            .run(&["database", "load", &format!("b.{form}"), &copy.socket_url(server)])
            .expect(0)
            .says(&["every table holds as many rows"]);
        bench.run(&["database", "dump", &copy.tcp_url(server), "-o", &format!("c-{form}.sql")]).expect(0);
        dumps.push(bench.read(&format!("c-{form}.sql")));
        assert_eq!(content(server, &old), content(server, &copy));
    }
    assert!(dumps.iter().all(|d| *d == a), "{}", dumps[0]);
    // A dump of the server's own program loads with equal content, but for the digits of floats that it does not write.
    let stock = Command::new("mariadb-dump")
        .args(["--no-defaults", "-uroot", "--routines", "--events", "-S", &server.socket, &old.name])
        .output()
        .unwrap();
    bench.write("stock.sql", stock.stdout);
    let copy = server.new_database();
    bench.run(&["database", "load", "stock.sql", &copy.tcp_url(server)]).expect(0);
    assert_eq!(content(server, &old), content(server, &copy));
}

#[test]
fn every_postgres_type_comes_back_byte_for_byte() {
    let Some(server) = postgres::Server::start() else { return };
    let bench = Bench::new();
    bench.write("types.sql", POSTGRES_TYPES);
    for name in ["a", "b", "c", "d"] {
        server.create(name);
    }
    server.load("a", &bench.path("types.sql"));
    bench.run(&["database", "try", &server.url("a")]).expect(0).says(&["PostgreSQL", "8 tables"]);
    bench.run(&["database", "dump", &server.url("a"), "-o", "a.sql"]).expect(0);
    bench
        .run(&["database", "load", "a.sql", &server.url("b")])
        .expect(0)
        .says(&["every table holds as many rows"]);
    bench.run(&["database", "dump", &server.url("b"), "-o", "b.sql"]).expect(0);
    assert_eq!(bench.read("a.sql"), bench.read("b.sql"));
    // The server's own programs read what we write, and write what we read.
    server.load("c", &bench.path("a.sql"));
    bench.write("stock.sql", server.dump("a", &[]));
    bench.run(&["database", "load", "stock.sql", &server.url("d")]).expect(0);
    // A token against injection is new in each dump.
    let plain = |dump: String| dump.lines().filter(|l| !l.starts_with('\\')).collect::<Vec<_>>().join("\n");
    let dumps = ["a", "b", "c", "d"].map(|name| plain(server.dump(name, &[])));
    assert!(dumps.iter().all(|d| *d == dumps[0]), "{}", dumps[1]);
    // An insert longer than what is sent at once of a copy is still one statement.
    let rows: Vec<String> = (0..6).map(|n| format!("({n}, '{}')", "x".repeat(1 << 20))).collect();
    let long = "SET standard_conforming_strings = on;\nCREATE TABLE public.t (a integer, b character varying);\nINSERT INTO public.t VALUES ";
    bench.write("long.sql", format!("{long}{};\n", rows.join(",\n")));
    server.create("l");
    bench.run(&["database", "load", "long.sql", &server.url("l")]).expect(0).says(&["1 table with 6 rows"]);
    // A policy for a role that is not there is said; the table is there.
    bench.write("policy.sql", "SET standard_conforming_strings = on;\nCREATE TABLE public.p (a integer);\nCREATE POLICY x ON public.p TO nobody_here;\n");
    server.create("p");
    bench.run(&["database", "load", "policy.sql", &server.url("p")]).expect(1).says(&[
        "CREATE POLICY x",
        "nobody_here",
        "make the role",
    ]);
    // Going back empties what was empty, and puts back what was replaced.
    let replaced = bench
        .run(&["database", "load", "a.sql", &server.url("b"), "--empty-database", "--json"])
        .expect(0)
        .json();
    assert_eq!(plain(server.dump("b", &[])), dumps[0]);
    bench
        .run(&["undo", replaced["run"].as_str().unwrap()])
        .expect(0)
        .says(&["holds again what it held before"]);
    assert_eq!(plain(server.dump("b", &[])), dumps[0]);
    for (sql, why) in [
        (
            "SET client_encoding = 'UTF8';\nSELECT pg_catalog.pg_read_file('/etc/passwd');\n",
            "line 2: SELECT PG_CATALOG.PG_READ_FILE",
        ),
        ("SET standard_conforming_strings = on;\nCREATE ROLE x;\n", "CREATE ROLE"),
        ("SET standard_conforming_strings = on;\nCOPY t (a) FROM '/etc/passwd';\n", "COPY"),
        ("SET standard_conforming_strings = on;\n\\! touch /tmp/x\nSELECT 1;\n", "a command for a client"),
        (
            "SET standard_conforming_strings = on;\nCREATE FUNCTION f() RETURNS int LANGUAGE c AS 'x';\n",
            "a function in c",
        ),
        ("SET standard_conforming_strings = on;\nDO $$ BEGIN END $$;\n", "DO"),
        (
            "SET standard_conforming_strings = on;\nSELECT pg_catalog.set_config('search_path', (SELECT 1)::text, false);\n",
            "SELECT",
        ),
    ] {
        server.create("e");
        bench.write("bad.sql", sql);
        bench.run(&["database", "load", "bad.sql", &server.url("e")]).expect(3).says(&[why]);
        server.drop("e");
    }
}

#[test]
fn a_large_postgres_table_is_read_over_several_connections_as_over_one() {
    let Some(server) = postgres::Server::start() else { return };
    let bench = Bench::new();
    server.create("large");
    // Rows that were changed lie behind the others, and pages have gaps.
    let sql = "CREATE TABLE t (id int PRIMARY KEY, kind int, body text);
        INSERT INTO t SELECT i, i % 7, repeat('night sky ' || i || E'\\t\\n', 20) FROM generate_series(1, 120000) i;
        DELETE FROM t WHERE id % 5 = 0; UPDATE t SET kind = 9 WHERE id % 11 = 0; VACUUM t;
        INSERT INTO t SELECT -i, 1, 'in a gap' FROM generate_series(1, 5000) i;
        CREATE TABLE part (id int, body text) PARTITION BY RANGE (id); CREATE TABLE part_1 PARTITION OF part DEFAULT;
        INSERT INTO part SELECT id, body FROM t;";
    bench.write("large.sql", sql);
    server.load("large", &bench.path("large.sql"));
    let url = server.url("large");
    bench.run(&["database", "dump", &url, "-o", "whole.sql"]).expect(0);
    bench.run(&["database", "dump", &url, "-o", "cut.sql", "--part-size", "5M"]).expect(0);
    let rows = |text: &str| {
        let (mut out, mut inside) = (Vec::new(), false);
        for line in text.lines() {
            match line {
                "\\." => inside = false,
                _ if line.starts_with("COPY ") => inside = true,
                _ if inside => out.push(line.to_string()),
                _ => {}
            }
        }
        out
    };
    let theirs = rows(&server.dump("large", &["--data-only", "-t", "t"]));
    let theirs = [theirs, rows(&server.dump("large", &["--data-only", "-t", "part_1"]))].concat();
    assert!(theirs.len() == 2 * 101_000, "{}", theirs.len());
    assert!(rows(&bench.read("whole.sql")) == theirs, "order or rows differ");
    let mut parts = Vec::new();
    for number in 1.. {
        let name = format!("cut.part-{number:02}.sql");
        let Ok(meta) = std::fs::metadata(bench.path(&name)) else { break };
        assert!(meta.len() <= 5 << 20, "{name}: {}", meta.len());
        parts.extend(rows(&bench.read(&name)));
    }
    assert!(parts == theirs, "parts differ");
}

#[test]
fn every_sqlite_type_comes_back_byte_for_byte() {
    let bench = Bench::new();
    let run = |sql: &str, file: &str| {
        let mut shell = Command::new("sqlite3")
            .arg(bench.path(file))
            .stdin(std::process::Stdio::piped())
            .spawn()
            .unwrap();
        std::io::Write::write_all(&mut shell.stdin.take().unwrap(), sql.as_bytes()).unwrap();
        assert!(shell.wait().unwrap().success());
    };
    if Command::new("sqlite3").arg("-version").output().is_err() {
        crate::common::missing("sqlite3");
        return;
    }
    run(SQLITE_TYPES, "a.db");
    bench.run(&["database", "sizes", "sqlite:a.db"]).expect(0).says(&["every_type", "no_key"]);
    bench.run(&["database", "dump", "sqlite:a.db", "-o", "a.sql"]).expect(0);
    bench.run(&["database", "create", "sqlite:b.db"]).expect(0).says(&["made"]);
    bench.run(&["database", "load", "a.sql", "sqlite:b.db"]).expect(0);
    bench.run(&["database", "dump", "sqlite:b.db", "-o", "b.sql"]).expect(0);
    assert_eq!(bench.read("a.sql"), bench.read("b.sql"));
    // The shell reads what we write, and we what it writes.
    run(&bench.read("a.sql"), "c.db");
    bench.run(&["database", "dump", "sqlite:c.db", "-o", "c.sql"]).expect(0);
    assert_eq!(bench.read("a.sql"), bench.read("c.sql"));
    let stock = Command::new("sqlite3").arg(bench.path("c.db")).arg(".dump").output().unwrap();
    bench.write("stock.sql", stock.stdout);
    bench.run(&["database", "load", "stock.sql", "sqlite:d.db"]).expect(0);
    let content =
        |file: &str| Command::new("sqlite3").arg(bench.path(file)).arg(".dump").output().unwrap().stdout;
    assert_eq!(content("c.db"), content("d.db"));
    for (sql, why) in [
        ("ATTACH '/tmp/x' AS y;", "ATTACH"),
        ("PRAGMA hard_heap_limit=1;", "hard_heap_limit"),
        ("INSERT INTO sqlite_schema VALUES('table','x','x',0,'CREATE TABLE x(a)');", "list of tables"),
        (
            "CREATE TABLE t(a);\nINSERT INTO t VALUES(load_extension('x'));",
            "line 4: the row calls load_extension()",
        ),
    ] {
        bench.write("bad.sql", format!("PRAGMA foreign_keys=OFF;\nBEGIN TRANSACTION;\n{sql}\nCOMMIT;\n"));
        bench.run(&["database", "load", "bad.sql", "sqlite:e.db"]).expect(3).says(&[why]);
    }
    bench.run(&["database", "load", "a.sql", "sqlite:b.db"]).expect(3).says(&["is not empty"]);
    // A look makes no file.
    bench.run(&["database", "load", "a.sql", "sqlite:none.db", "--dry-run"]).expect(0).says(&["is empty"]);
    assert!(!bench.path("none.db").exists());
}

/// A schema with many tables, and rows that fill several batches.
fn shop(tables: usize, rows: usize) -> String {
    let mut sql = String::from("SET NAMES utf8mb4;\n");
    for t in 0..tables {
        sql.push_str(&format!(
            "CREATE TABLE `t{t:04}` (id int PRIMARY KEY, v text) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4;\n"
        ));
        for chunk in (0..rows).collect::<Vec<_>>().chunks(500) {
            let values: Vec<String> =
                chunk.iter().map(|r| format!("({r},'{} ö {}')", "star ".repeat(20), r * t)).collect();
            sql.push_str(&format!("INSERT INTO `t{t:04}` VALUES {};\n", values.join(",")));
        }
    }
    sql
}

#[test]
fn parts_load_on_their_own_in_order_and_say_what_was_left_out() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    let old = filled(server, &shop(5, 9000));
    let url = old.tcp_url(server);
    let rows = ["--rows", "t0003=structure", "--rows", "t0004=none"];
    bench
        .run(&[&["database", "dump", &url, "-o", "s.sql", "--part-size", "1M"], &rows[..]].concat())
        .expect(0)
        .says(&["part-01.sql"]);
    let parts: Vec<_> =
        (1..).map(|n| bench.path(&format!("s.part-{n:02}.sql"))).take_while(|p| p.exists()).collect();
    assert!(parts.len() > 3);
    assert!(parts.iter().all(|p| p.metadata().unwrap().len() <= 1 << 20));
    let first = std::fs::read_to_string(&parts[0]).unwrap();
    assert!(
        first.contains("-- Left out: rows of t0003: as asked\n-- Left out: t0004: as asked\n"),
        "{}",
        &first[..300]
    );
    let (one, two) = (server.new_database(), server.new_database());
    for part in &parts {
        server.load_with_client(&one, &std::fs::read_to_string(part).unwrap());
    }
    bench
        .run(&["database", "load", "s.part-01.sql", &two.tcp_url(server)])
        .expect(0)
        .says(&["4 tables with 27 000 rows"]);
    assert_eq!(content(server, &one), content(server, &two));
    assert!(!content(server, &one).contains("t0004"));
    bench
        .run(&["database", "dump", &url, "-o", "s.sql", "--part-size", "5"])
        .expect(2)
        .says(&["a part of 5 bytes is too small", "1M"]);
    // Only some tables.
    bench
        .run(&["database", "dump", &url, "-o", "t.sql", "--tables", "t000[12]"])
        .expect(0)
        .says(&["2 tables with 18 000 rows"]);
}

#[test]
fn checksums_of_a_dump_are_compared_with_what_was_loaded() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    let old = filled(server, &shop(4, 50));
    let url = old.tcp_url(server);
    let dump = ["database", "dump", &url, "--checksums", "-o"];
    bench.run(&[&dump[..], &["d.sql"]].concat()).expect(0).says(&["of 4 tables"]);
    let new = server.new_database();
    bench.run(&["database", "load", "d.sql", &new.tcp_url(server)]).expect(0).says(&["4 tables as dumped"]);
    // One value becomes another of the same length: only a checksum tells.
    bench.write("d2.sql", bench.read("d.sql").replacen("star ", "stir ", 1));
    let other = server.new_database();
    let loaded = bench.run(&["database", "load", "d2.sql", &other.tcp_url(server)]).expect(1);
    loaded.says(&["3 tables as dumped", "holds other rows than were dumped"]);
}

#[test]
fn a_load_that_was_killed_goes_on_and_can_be_undone() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    bench.write("shop.sql", format!("{}CREATE VIEW `seen` AS SELECT * FROM t0001;\n", shop(40, 1500)));
    let whole = filled(server, &bench.read("shop.sql"));
    let expected = content(server, &whole);
    // How long a load takes here and now, when nobody disturbs it.
    let undisturbed = server.new_database();
    let began = std::time::Instant::now();
    bench.run(&["database", "load", "shop.sql", &undisturbed.tcp_url(server)]).expect(0);
    let takes = began.elapsed();
    let (mut went_on, mut undone) = (0, 0);
    let points = kill_points(12);
    for point in 0..points {
        let database = server.new_database();
        let url = database.tcp_url(server);
        let args = ["database", "load", "shop.sql", url.as_str(), "--json"];
        let killed = bench.killed(&args, takes.mul_f64((point as f64 + 0.5) / points as f64));
        if point % 2 == 0 {
            let again = bench.run(&args);
            if killed {
                let done = again.expect(0).json();
                went_on += u64::from(done["went_on"].as_u64().unwrap() > 0);
            }
            assert_eq!(content(server, &database), expected, "point {point}");
        } else if killed {
            let runs = bench.run(&["logbook", "--json"]).json();
            if runs[0]["state"] != "unfinished" {
                // Killed before it began, or after it had ended.
                let there = content(server, &database);
                assert!(!there.contains("CREATE TABLE") || there == expected, "point {point}");
                continue;
            }
            let run = runs[0]["run"].as_str().unwrap().to_string();
            undone += 1;
            bench.run(&["undo", &run]).expect(0);
            assert_eq!(content(server, &database).matches("CREATE TABLE").count(), 0, "point {point}");
            bench.run(&args).expect(0);
            assert_eq!(content(server, &database), expected, "point {point}");
        }
    }
    assert!(went_on > 0 && undone > 0, "{went_on} went on, {undone} were undone");
}

#[test]
fn what_is_there_is_guarded_kept_and_put_back() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    let old = filled(server, MYSQL_TYPES.split("DELIMITER ;;").next().unwrap());
    let url = old.tcp_url(server);
    let before = content(server, &old);
    bench.write("new.sql", shop(3, 10));
    bench
        .run(&["database", "load", "new.sql", &url])
        .expect(3)
        .says(&["is not empty: it holds backwards, child", "--empty-database"]);
    bench
        .run(&["database", "load", "new.sql", &url, "--empty-database", "--dry-run"])
        .expect(0)
        .says(&["replaces", "10 tables"]);
    assert_eq!(content(server, &old), before);
    let done =
        bench.run(&["database", "load", "new.sql", &url, "--empty-database", "--json"]).expect(0).json();
    let run = done["run"].as_str().unwrap().to_string();
    // What the dump does not name is not its to take away.
    assert!(content(server, &old).contains("t0002") && content(server, &old).contains("every_type"));
    bench.run(&["undo", &run, "--dry-run"]).expect(0).says(&["3 tables", "database.sql.zst"]);
    // A later run on the same database has to be undone first.
    let later =
        bench.run(&["database", "load", "new.sql", &url, "--empty-database", "--json"]).expect(0).json();
    let later = later["run"].as_str().unwrap().to_string();
    bench.run(&["undo", &run]).expect(3).says(&[&format!("zporter undo {later}")]);
    bench.run(&["undo", &later]).expect(0);
    bench.run(&["undo", &run]).expect(0).says(&["holds again what it held before"]);
    assert_eq!(content(server, &old), before);
    bench.run(&["undo", &run]).expect(2).says(&["undone already"]);
    // Tables that came later stay, and are named.
    let fresh = server.new_database();
    bench.write("fresh.sql", format!("CREATE SEQUENCE `numbers`;\n{}", shop(3, 10)));
    let done =
        bench.run(&["database", "load", "fresh.sql", &fresh.tcp_url(server), "--json"]).expect(0).json();
    server.load_with_client(&fresh, "CREATE TABLE mine (a int);");
    bench.run(&["undo", done["run"].as_str().unwrap()]).expect(1).says(&["mine: was not made by the run"]);
    let left = content(server, &fresh);
    assert!(left.contains("mine") && !left.contains("t0001") && !left.contains("numbers"), "{left}");
}

#[test]
fn hostile_and_unfit_dumps_stop_with_their_line() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    let start =
        "SET NAMES utf8mb4;\nCREATE TABLE `t` (`a` text) ENGINE=InnoDB;\nINSERT INTO `t` VALUES ('x');\n";
    for (sql, code, why) in [
        ("GRANT ALL ON *.* TO 'x'@'%';", 3, "line 4: GRANT"),
        ("CREATE USER 'x'@'%' IDENTIFIED BY 'y';", 3, "line 4: CREATE USER"),
        ("USE mysql;\nUSE other;", 3, "several databases"),
        ("LOAD DATA INFILE '/etc/passwd' INTO TABLE t;", 3, "line 4: LOAD"),
        ("SELECT * FROM t INTO OUTFILE '/tmp/x';", 3, "line 4: SELECT"),
        ("INSERT INTO `t` VALUES (LOAD_FILE('/etc/passwd'));", 3, "LOAD_FILE"),
        ("INSTALL PLUGIN x SONAME 'x.so';", 3, "line 4: INSTALL"),
        ("SET GLOBAL general_log=1;", 3, "GLOBAL"),
        ("CREATE TABLE mysql.x (a int);", 3, "a database of its own"),
        ("CREATE SEQUENCE mysql.x;", 3, "line 4: CREATE"),
        ("CREATE SEQUENCE s; DO SETVAL(s, (SELECT 1), 0);", 3, "line 4: DO"),
        ("DO SLEEP(9);", 3, "line 4: DO"),
        ("CREATE TABLE `u` (a int DEFAULT nextval(`theirs`.`s`));", 3, "line 4: it takes its numbers"),
        ("\\! rm -rf x\n;", 3, "line 4"),
        ("source /etc/passwd\n;", 3, "source"),
        ("CREATE FUNCTION f RETURNS STRING SONAME 'x.so';", 3, "SONAME"),
        ("CREATE TABLE `u` (a int) ENGINE=Federated CONNECTION='x';", 3, "Federated"),
        (
            "CREATE TABLE `u` (a text COLLATE klingon_ci);",
            3,
            "line 4: the server knows no collation klingon_ci",
        ),
        ("INSERT INTO `t` VALUES ('cut", 5, "line 4"),
        ("CREATE TABLE `u` (a int) ENGINE=Strange;", 3, "--substitute Strange=OTHER"),
    ] {
        let database = server.new_database();
        bench.write("bad.sql", format!("{start}{sql}\n"));
        let ended =
            bench.run(&["database", "load", "bad.sql", &database.tcp_url(server)]).expect(code).says(&[why]);
        assert!(!ended.stdout.contains("Loaded"), "{sql}");
    }
    let database = server.new_database();
    bench.write("newer.sql", "CREATE TABLE `u` (a text COLLATE utf8mb4_0900_ai_ci, b text COLLATE klingon_ci) ENGINE=MyISAM DEFAULT CHARSET=utf8mb4;\nINSERT INTO `u` VALUES ('ö','x');\n");
    let fit = ["--substitute", "klingon_ci=utf8mb4_bin"];
    bench
        .run(&[&["database", "load", "newer.sql", &database.tcp_url(server)], &fit[..]].concat())
        .expect(0)
        .says(&["collation utf8mb4_0900_ai_ci became", "collation klingon_ci became utf8mb4_bin"]);
}

#[test]
fn odd_shapes_load_and_the_server_is_told_off_when_it_changes_values() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    let columns: Vec<String> = (0..500).map(|n| format!("`c{n}` tinyint")).collect();
    let mut sql = format!(
        "CREATE TABLE `wide` ({});\nINSERT INTO `wide` VALUES ({}1);\n",
        columns.join(","),
        "0,".repeat(499)
    );
    sql.push_str("CREATE TABLE `one` (`a` int);\nINSERT INTO `one` VALUES (3),(3),(1),(2);\n");
    // Latin letters in a dump that says so, four-byte letters for a column of three, and a value near the packet limit.
    sql.push_str("CREATE TABLE `narrow` (`id` int PRIMARY KEY, `u` varchar(20) CHARACTER SET utf8mb3, `l` varchar(20) CHARACTER SET latin1);\n");
    sql.push_str("INSERT INTO `narrow` VALUES (1,'a🔭b','é€');\n");
    sql.push_str(&format!(
        "CREATE TABLE `big` (`a` mediumtext);\nINSERT INTO `big` VALUES ('{}');\n",
        "y".repeat(900_000)
    ));
    // Names without quotes that became words of the language.
    sql.push_str("CREATE TABLE grouped (rows int, offset int, PRIMARY KEY (rows), KEY over (offset));\nINSERT INTO grouped (rows, offset) VALUES (8,9);\n");
    bench.write("odd.sql", sql);
    let mut root = server.root();
    root.query_drop("SET GLOBAL max_allowed_packet=1048576").unwrap();
    let database = server.new_database();
    let ended = bench.run(&["database", "load", "odd.sql", &database.tcp_url(server)]);
    root.query_drop("SET GLOBAL max_allowed_packet=16777216").unwrap();
    ended.expect(1).says(&[
        "narrow: the server changed 1 values of its own accord",
        "5 tables with 8 rows",
        "reserved word offset became `offset`, 3 times",
    ]);
    let there = content(server, &database);
    assert!(
        there.contains("(3);\nINSERT INTO `one` VALUES (3);\nINSERT INTO `one` VALUES (1);"),
        "rows without a key keep their order"
    );
    assert!(there.contains("(1,'a?b','é€')"));
}

#[test]
fn three_thousand_tables_take_little_memory() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    bench.write("many.sql", shop(3000, 1));
    let database = server.new_database();
    let url = database.tcp_url(server);
    for args in
        [vec!["database", "load", "many.sql", &url], vec!["database", "dump", &url, "-o", "many.out.sql"]]
    {
        let mut timed = Command::new("/usr/bin/time");
        timed
            .args(["-f", "peak %M"])
            .arg(env!("CARGO_BIN_EXE_zporter"))
            .args(&args)
            .current_dir(bench.path("."));
        timed.env("HOME", bench.path("home")).env("ZPORTER_DATABASE_PASSWORD", NEW_PASSWORD);
        let ended = outcome(timed).expect(0);
        let peak: u64 = ended.stderr.rsplit("peak ").next().unwrap().trim().parse().unwrap();
        assert!(peak < 128 << 10, "{peak} KiB");
    }
    assert_eq!(bench.read("many.out.sql").matches("\nINSERT INTO").count(), 3000);
}

#[test]
fn a_database_is_made_once_and_its_password_kept_and_not_shown() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    let admin = format!("mysql://root@localhost?socket={}", server.socket);
    let url = format!("mysql://fern_shop@localhost/fern_shop?socket={}", server.socket);
    let make = |url: &str, more: &[&str]| {
        let mut command = bench.command(&[&["database", "create", url, "--admin", &admin], more].concat());
        command.env_remove("ZPORTER_DATABASE_PASSWORD");
        outcome(command)
    };
    make(&url, &["--account-prefix", "moon_", "--dry-run"]).expect(0).says(&["moon_fern_shop"]);
    make(&format!("mysql://{}@localhost/x", "u".repeat(40)), &[]).expect(2).says(&["at most 32 bytes"]);
    let first = make(&url, &[]).expect(0).says(&["made", "166 bits"]);
    let saved_login = crate::common::files(&bench.path("home"))
        .into_iter()
        .find(|(p, _)| p.ends_with("toml") || p.extension().is_some_and(|e| e == "toml"))
        .unwrap();
    let text = String::from_utf8(saved_login.1).unwrap();
    let password = text.split("password = \"").nth(1).unwrap().trim_end().trim_end_matches('"').to_string();
    assert_eq!(password.len(), 28);
    let mode = std::os::unix::fs::PermissionsExt::mode(
        &bench.path("home").join(&saved_login.0).metadata().unwrap().permissions(),
    );
    assert_eq!(mode & 0o777, 0o600);
    assert!(!first.stdout.contains(&password) && !first.stderr.contains(&password));
    make(&url, &["--show-password"]).expect(0).says(&["existed", &password]);
    // A password that the user does not have is no good one, and does not push out the one that is kept.
    bench.write("another", "not-this-one");
    let other = bench.path("another").display().to_string();
    let given = ["--database-password-file", &other, "--show-password"];
    let said = make(&url, &given).expect(1).says(&["does not log in with the password that was given"]);
    assert!(!said.stdout.contains("not-this-one"));
    assert_eq!(std::fs::read_to_string(bench.path("home").join(&saved_login.0)).unwrap(), text);
    // The saved_login is looked up by itself, and the rights end at this database, `_` meaning itself.
    let mut command = bench.command(&["database", "try", &url]);
    command.env_remove("ZPORTER_DATABASE_PASSWORD");
    outcome(command).expect(0).says(&["answers", "make triggers"]);
    let mut root = server.root();
    root.query_drop("CREATE DATABASE fernXshop").unwrap();
    let mut command = bench.command(&["database", "try", &url.replace("/fern_shop?", "/fernXshop?")]);
    command.env("ZPORTER_DATABASE_PASSWORD", &password);
    outcome(command).expect(4).says(&["no rights on this database", "next:"]);
    // A plug-in of one's own choice; of a user that is there it stays.
    let app = format!("mysql://old_app@localhost/old_app?socket={}", server.socket);
    for (plugin, code, says) in [
        ("mysql_native_password", 0, "logs in by"),
        ("mysql_old_password", 1, "the user exists and logs in by mysql_native_password"),
        ("x y", 2, "made of letters"),
    ] {
        make(&app, &["--auth-plugin", plugin]).expect(code).says(&[says]);
        let known: Option<String> =
            root.query_first("SELECT plugin FROM mysql.user WHERE User = 'old_app'").unwrap();
        assert_eq!(known.as_deref(), Some("mysql_native_password"));
    }
    let shown = make(&app, &["--auth-plugin", "ed25519", "--dry-run"]).expect(0);
    shown.says(&["IDENTIFIED WITH ed25519 BY '***'", "VIA ed25519 USING PASSWORD('***')"]);
    // Without rights the statements are there to be handed on.
    let poor = server.new_database();
    let file = bench.path("pw");
    std::fs::write(&file, NEW_PASSWORD).unwrap();
    let mut command = bench.command(&[
        "database",
        "create",
        "mysql://n@127.0.0.1/n",
        "--admin",
        &poor.tcp_url(server),
        "--admin-password-file",
        "pw",
    ]);
    command.env_remove("ZPORTER_DATABASE_PASSWORD");
    outcome(command).expect(4).says(&[
        "CREATE DATABASE IF NOT EXISTS `n`",
        "GRANT ALL PRIVILEGES ON `n`.*",
        "IDENTIFIED BY '***'",
    ]);
}

#[test]
fn a_refusal_is_explained_and_option_files_are_read() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    let database = server.new_database();
    let url = database.tcp_url(server);
    let own = format!("127.0.0.1:{}", server.port);
    for (url, why) in [
        (url.replace(&own, "127.0.0.1:1"), "nothing answers at this host and port"),
        (url.replace(&own, "nowhere.test"), "no such host is known"),
        (url.replace(&database.user, "nobody"), "refused the user or the password"),
        (url.replace(&format!("/{}", database.name), "/mysql"), "no rights on this database"),
        (
            format!("mysql://u@localhost/n?socket={}/none", bench.path("").display()),
            "the socket is not there",
        ),
        (format!("{url}?tls=on"), "does not offer an encrypted connection"),
        ("sqlite:///nowhere/x.db".into(), "there is no such database"),
    ] {
        bench.run(&["database", "try", &url]).expect(4).says(&[why, "next:"]);
    }
    // No user and no password said: both stand in the user's own file.
    std::fs::create_dir_all(bench.path("home")).unwrap();
    let quoted = NEW_PASSWORD.replace('\\', "\\\\").replace('"', "\\\"");
    let option_file =
        format!("[mysqld]\nuser=wrong\n[client]\n# ours\nuser = {}\npassword=\"{quoted}\"\n", database.user);
    bench.write("home/.my.cnf", option_file);
    let bare = url.replace(&format!("{}@", database.user), "");
    let mut command = bench.command(&["database", "try", &bare]);
    command.env_remove("ZPORTER_DATABASE_PASSWORD");
    outcome(command).expect(0).says(&["answers", "make and change tables"]);
}

#[test]
fn a_connection_is_encrypted_where_it_is_insisted_on() {
    let Some(mut server) = Server::private() else { return };
    let bench = Bench::new();
    server.stop();
    server.certify();
    server.start_again();
    let database = filled(&server, &shop(2, 10));
    let url = database.tcp_url(&server);
    let tried =
        |url: &str| bench.run(&["database", "try", url, "--json"]).expect(0).json()["encrypted"].clone();
    assert_eq!((tried(&url), tried(&format!("{url}?tls=on"))), (false.into(), true.into()));
    bench
        .run(&["database", "try", &format!("{url}?tls=verified")])
        .expect(4)
        .says(&["signed by no known authority"]);
    server.root().query_drop(format!("ALTER USER '{}'@'127.0.0.1' REQUIRE SSL", database.user)).unwrap();
    server.root().query_drop(format!("ALTER USER '{}'@'localhost' REQUIRE SSL", database.user)).unwrap();
    bench.run(&["database", "try", &url]).expect(4).says(&["?tls=on"]);
    // Work goes the same way.
    bench.run(&["database", "dump", &format!("{url}?tls=on"), "-o", "d.sql"]).expect(0);
    bench.run(&["database", "load", "d.sql", &format!("{url}?tls=on"), "--empty-database"]).expect(0);
}
