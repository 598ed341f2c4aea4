//! What a load keeps of a database, and of what others do with it meanwhile.

use crate::common::mariadb::server;
use crate::common::{Bench, postgres};
use mysql::prelude::Queryable;
use rusqlite::Connection;
use std::process::Command;
use std::time::{Duration, Instant};

#[test]
fn full_text_of_sqlite_is_joined_with_its_content_after_a_load() {
    let bench = Bench::new();
    let old = Connection::open(bench.path("a.db")).unwrap();
    old.execute_batch(
        "CREATE TABLE page (id INTEGER PRIMARY KEY, title TEXT); CREATE TABLE loose (word TEXT);
         CREATE VIRTUAL TABLE found USING fts5(body); CREATE VIRTUAL TABLE older USING fts4(body);
         INSERT INTO page VALUES (7,'moon'), (900,'mars'); INSERT INTO loose(rowid, word) VALUES (3,'x'), (44,'y');
         INSERT INTO found(rowid, body) VALUES (7,'craters and seas'), (900,'red dust'); INSERT INTO older(rowid, body) VALUES (900,'red dust');
         CREATE TRIGGER t AFTER INSERT ON page BEGIN INSERT INTO found(rowid, body) VALUES (new.id, new.title); END;",
    )
    .unwrap();
    drop(old);
    bench.run(&["database", "dump", "sqlite:a.db", "-o", "a.sql"]).expect(0);
    bench.run(&["database", "load", "a.sql", "sqlite:b.db"]).expect(0);
    let new = Connection::open(bench.path("b.db")).unwrap();
    let ask = |sql: &str| -> String { new.query_row(sql, [], |r| r.get::<_, String>(0)).unwrap() };
    for table in ["found", "older"] {
        let sql = format!(
            "SELECT title FROM page JOIN {table} ON {table}.rowid = page.id WHERE {table} MATCH 'dust'"
        );
        assert_eq!(ask(&sql), "mars", "{table}");
    }
    assert_eq!(ask("SELECT group_concat(rowid || word) FROM loose"), "3x,44y");
    // The trigger came behind the rows: nothing is doubled.
    assert_eq!(ask("SELECT CAST(count(*) AS TEXT) FROM found"), "2");
    new.execute_batch("INSERT INTO page VALUES (901,'venus')").unwrap();
    assert_eq!(ask("SELECT CAST(rowid AS TEXT) FROM found WHERE found MATCH 'venus'"), "901");
}

#[test]
fn what_the_shell_writes_into_the_list_of_tables_makes_virtual_tables_and_nothing_else() {
    let shell = |file: &std::path::Path, say: &str| {
        let out = Command::new("sqlite3").arg(file).arg(say).output().unwrap();
        assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
        out.stdout
    };
    if Command::new("sqlite3").arg("--version").output().is_err() {
        crate::common::missing("sqlite3");
        return;
    }
    let bench = Bench::new();
    let made = "CREATE VIRTUAL TABLE found USING fts5(body); CREATE VIRTUAL TABLE \"o'lder\" USING fts4(body); CREATE VIRTUAL TABLE geo USING rtree(id,a,b);
        CREATE TABLE n (id INTEGER PRIMARY KEY, t TEXT); INSERT INTO n VALUES (1,'x'); INSERT INTO geo VALUES (1,0,1);
        INSERT INTO found(rowid,body) VALUES (7,'night sky'),(9,'comet it''s'); INSERT INTO \"o'lder\"(rowid,body) VALUES (3,'dome');";
    shell(&bench.path("a.db"), made);
    let dump = shell(&bench.path("a.db"), ".dump");
    bench.write("a.sql", &dump);
    bench.run(&["database", "load", "a.sql", "sqlite:b.db"]).expect(0);
    assert_eq!(String::from_utf8_lossy(&shell(&bench.path("b.db"), ".dump")), String::from_utf8_lossy(&dump));
    let found = shell(
        &bench.path("b.db"),
        "INSERT INTO found(found) VALUES('integrity-check'); SELECT rowid FROM found WHERE found MATCH 'comet'",
    );
    assert_eq!(found, b"9\n");
    for (number, row) in [
        "'trigger','t','n',0,'CREATE TRIGGER t AFTER INSERT ON n BEGIN DELETE FROM n; END'",
        "'table','x','x',0,'CREATE TABLE x(a)'",
        "'table','x','y',0,'CREATE VIRTUAL TABLE x USING fts5(a)'",
        "'table','x','x',0,'CREATE VIRTUAL TABLE y USING fts5(a)'",
        "'table','x','x',0,'CREATE VIRTUAL TABLE x USING csv(filename=''/etc/passwd'')'",
        "'table','x','x',0,'CREATE VIRTUAL TABLE x USING fts5(a); DROP TABLE n'",
        "'table','x','x',7,NULL",
    ]
    .into_iter()
    .enumerate()
    {
        let hostile = format!(
            "PRAGMA foreign_keys=OFF;\nBEGIN TRANSACTION;\nCREATE TABLE n(a);\nPRAGMA writable_schema=ON;\n\
             INSERT INTO sqlite_schema(type,name,tbl_name,rootpage,sql)VALUES({row});\nPRAGMA writable_schema=OFF;\nCOMMIT;\n"
        );
        bench.write("h.sql", hostile);
        bench
            .run(&["database", "load", "h.sql", &format!("sqlite:h{number}.db")])
            .expect(3)
            .says(&["line 5"]);
    }
}

#[test]
fn bodies_that_name_their_old_database_work_in_the_new_one() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    let (old, new) = (server.new_database(), server.new_database());
    let o = &old.name;
    server.load_with_client(
        &old,
        &format!(
            "CREATE TABLE t (a int); CREATE TABLE log (a int); INSERT INTO t VALUES (1);
             CREATE TRIGGER x AFTER INSERT ON t FOR EACH ROW INSERT INTO `{o}`.log VALUES (NEW.a);
             CREATE VIEW v AS SELECT `{o}`.`t`.`a` FROM `{o}`.t; CREATE PROCEDURE p() DELETE FROM {o}.log;"
        ),
    );
    // The server's own program names the database in a comment.
    let stock = Command::new("mariadb-dump")
        .args(["--no-defaults", "-uroot", "--routines", "-S", &server.socket, o])
        .output()
        .unwrap();
    assert!(stock.status.success(), "{}", String::from_utf8_lossy(&stock.stderr));
    bench.write("stock.sql", stock.stdout);
    bench.run(&["database", "load", "stock.sql", &new.socket_url(server)]).expect(0);
    // A definer that is gone makes the view name it as well, and that program gives up.
    let mut root = server.root();
    root.query_drop(format!("CREATE DEFINER='gone'@'nowhere' VIEW {o}.w AS SELECT a FROM {o}.t")).unwrap();
    root.query_drop(format!("GRANT SELECT ON mysql.proc TO '{}'@'localhost'", old.user)).unwrap();
    bench.run(&["database", "dump", &old.socket_url(server), "-o", "ours.sql"]).expect(0);
    assert!(!bench.read("ours.sql").contains(&format!("{o}`.")), "{}", bench.read("ours.sql"));
    let third = server.new_database();
    bench.run(&["database", "load", "ours.sql", &third.socket_url(server)]).expect(0);
    let seen: Vec<i64> = root.query(format!("SELECT a FROM {}.w", third.name)).unwrap();
    assert_eq!(seen, [1]);
    root.query_drop(format!("INSERT INTO {}.t VALUES (2)", new.name)).unwrap();
    let logged = |root: &mut mysql::Conn, name: &str| -> Vec<i64> {
        root.query(format!("SELECT a FROM {name}.log")).unwrap()
    };
    assert_eq!((logged(&mut root, &new.name), logged(&mut root, o)), (vec![2], vec![]));
    root.query_drop(format!("INSERT INTO {o}.log VALUES (9)")).unwrap();
    root.query_drop(format!("CALL {}.p()", new.name)).unwrap();
    assert_eq!((logged(&mut root, &new.name), logged(&mut root, o)), (vec![], vec![9]));
    let bodies: Vec<String> = root
        .query(format!("SELECT CONCAT(ACTION_STATEMENT) FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = '{0}' UNION SELECT VIEW_DEFINITION FROM information_schema.VIEWS WHERE TABLE_SCHEMA = '{0}'", new.name))
        .unwrap();
    assert_eq!(bodies.len(), 2);
    assert!(
        bodies.iter().all(|b| !b.contains(&format!("{o}`.")) && !b.contains(&format!("{o}."))),
        "{bodies:?}"
    );
}

#[test]
fn names_in_double_quotes_and_plain_backslashes_are_read_as_the_dump_means_them() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    let database = server.new_database();
    bench.write(
        "ansi.sql",
        "SET SQL_MODE='ANSI';\nCREATE TABLE \"a t\" (\"se\"\"lect\" varchar(20) DEFAULT 'x\"y', \"b\" int, KEY \"k\" (\"b\"));\nINSERT INTO \"a t\" (\"se\"\"lect\",\"b\") VALUES ('it''s \"so\"',1),('\\\\n',2);\n\
         CREATE VIEW \"v\" AS SELECT \"a t\".\"b\" AS \"b\" FROM \"a t\";\nSET SQL_MODE='NO_BACKSLASH_ESCAPES';\nCREATE TABLE p (w text);\nINSERT INTO p VALUES ('C:\\temp\\'),('a''b\\');\n",
    );
    bench.run(&["database", "load", "ansi.sql", &database.socket_url(server)]).expect(0);
    let mut root = server.root();
    let ask = |root: &mut mysql::Conn, sql: &str| -> Vec<String> {
        root.query(sql.replace("DB", &database.name)).unwrap()
    };
    assert_eq!(ask(&mut root, "SELECT `se\"lect` FROM DB.`a t` ORDER BY b"), ["it's \"so\"", "\\n"]);
    assert_eq!(ask(&mut root, "SELECT w FROM DB.p ORDER BY w DESC"), ["C:\\temp\\", "a'b\\"]);
    assert_eq!(ask(&mut root, "SELECT b FROM DB.v ORDER BY b"), ["1", "2"]);
    // Where the name ends would be read in two ways.
    bench.write("two.sql", "SET SQL_MODE='ANSI_QUOTES';\nCREATE TABLE \"a\\\" (b int);\n-- \" ;\n");
    let refused = bench.run(&["database", "load", "two.sql", &server.new_database().socket_url(server)]);
    assert!(matches!(refused.code, 3 | 5), "{refused:?}");
}

/// A dump of some tables, each with many rows.
fn long(tables: usize, rows: usize, copy: bool) -> String {
    let mut sql =
        String::from(if copy { "SET standard_conforming_strings = on;\n" } else { "SET NAMES utf8mb4;\n" });
    for t in 0..tables {
        sql.push_str(&format!("CREATE TABLE t{t} (id integer PRIMARY KEY, v text);\n"));
        if copy {
            sql.push_str(&format!("COPY t{t} (id, v) FROM stdin;\n"));
            (0..rows).for_each(|r| sql.push_str(&format!("{r}\t{}\n", "x".repeat(900))));
            sql.push_str("\\.\n");
        } else {
            (0..rows).for_each(|r| {
                sql.push_str(&format!("INSERT INTO t{t} VALUES ({r},'{}');\n", "x".repeat(900)))
            });
        }
    }
    sql
}

/// How long a command takes here and now.
fn takes(bench: &Bench, args: &[&str]) -> Duration {
    let began = Instant::now();
    bench.run(args).expect(0);
    began.elapsed()
}

#[test]
fn what_others_made_meanwhile_outlives_an_interrupted_load_and_its_undo() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    bench.write("d.sql", long(6, 3000, false));
    let probe = server.new_database();
    let time = takes(&bench, &["database", "load", "d.sql", &probe.socket_url(server)]);
    let mut interrupted = 0;
    for share in [0.4, 0.6, 0.8] {
        let database = server.new_database();
        let url = database.socket_url(server);
        if !bench.killed(&["database", "load", "d.sql", &url], time.mul_f64(share)) {
            continue;
        }
        interrupted += 1;
        server.load_with_client(&database, "CREATE TABLE mine (a int); INSERT INTO mine VALUES (5); CREATE VIEW my_view AS SELECT a FROM mine;");
        bench.run(&["database", "load", "d.sql", &url]).expect(0);
        let mut root = server.root();
        let count = |root: &mut mysql::Conn, table: &str| {
            root.query_first::<u64, _>(format!("SELECT COUNT(*) FROM {}.{table}", database.name)).unwrap()
        };
        assert_eq!((count(&mut root, "t5"), count(&mut root, "my_view")), (Some(3000), Some(1)));
        // Rows that came into the run's tables are kept when it is undone.
        root.query_drop(format!("INSERT INTO {}.t0 VALUES (99999, 'an order of today')", database.name))
            .unwrap();
        let undone = bench.run(&["undo", &bench.last_run(), "--json"]).expect(1).json();
        let kept = undone["kept"].as_str().unwrap();
        let kept = zstd::decode_all(std::fs::File::open(kept).unwrap()).unwrap();
        assert!(crate::common::holds(&kept, "an order of today"));
        let left: Vec<String> = root.query(format!("SHOW TABLES FROM {}", database.name)).unwrap();
        assert_eq!(left, ["mine", "my_view"]);
    }
    assert!(interrupted > 0, "no load was interrupted");
}

#[test]
fn a_load_into_postgres_is_taken_up_at_once_and_looks_at_the_database_that_is_there() {
    let Some(server) = postgres::Server::start() else { return };
    let bench = Bench::new();
    bench.write("d.sql", long(4, 12_000, true));
    server.create("whole");
    let time = takes(&bench, &["database", "load", "d.sql", &server.url("whole")]);
    let content = |name: &str| {
        server
            .dump(name, &["--inserts"])
            .lines()
            .filter(|l| !l.starts_with('\\'))
            .collect::<Vec<_>>()
            .join("\n")
    };
    let whole = content("whole");
    for (number, share) in [0.5, 0.7, 0.85, 0.95].into_iter().enumerate() {
        let name = format!("n{number}");
        server.create(&name);
        bench.killed(&["database", "load", "d.sql", &server.url(&name)], time.mul_f64(share));
        let again = bench.run(&["database", "load", "d.sql", &server.url(&name)]);
        assert!(again.code == 0 || again.stderr.contains("is not empty"), "{share}: {again:?}");
        assert!(content(&name) == whole, "{share}");
    }
    // Made anew meanwhile: the logbook says that something is there, the database does not.
    server.create("anew");
    bench.killed(&["database", "load", "d.sql", &server.url("anew")], time.mul_f64(0.8));
    server.drop("anew");
    server.create("anew");
    bench.run(&["database", "load", "d.sql", &server.url("anew")]).expect(0);
    assert!(content("anew") == whole);
}
