//! Random schemas, dumped by us and by the server's own program, loaded by us, and compared by the server's own dump; and hostile dumps
//! against real servers on which a second database, a user and a folder must stay as they are.

use crate::common::mariadb::{Database, Server, server};
use crate::common::{Bench, postgres};
use mysql::prelude::Queryable;
use std::process::Command;

/// How many schemas of an engine are tried, and from which number on; a hundred in CI.
fn seeds() -> std::ops::Range<u64> {
    let number = |name: &str, usual: u64| std::env::var(name).map_or(usual, |v| v.parse().unwrap());
    let first = number("ZPORTER_SCHEMA", 1);
    first..first + number("ZPORTER_SCHEMAS", if std::env::var_os("CI").is_some() { 100 } else { 12 })
}

/// Numbers that look random and come again.
struct Dice(u64);

impl Dice {
    fn roll(&mut self, below: usize) -> usize {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0 % below as u64) as usize
    }

    fn of<'s>(&mut self, choices: &[&'s str]) -> &'s str {
        choices[self.roll(choices.len())]
    }

    fn may(&mut self) -> bool {
        self.roll(2) == 0
    }
}

const ODD: [&str; 8] = ["t", "select", "a (b", "x;y", "König", "it's", "load_file", "End"];

fn mariadb_schema(seed: u64, database: &str) -> String {
    let dice = &mut Dice(seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) | 1);
    let mut sql = String::from("SET NAMES utf8mb4;\n");
    let tables: Vec<String> = (0..2 + dice.roll(4)).map(|i| format!("{} {i}", dice.of(&ODD))).collect();
    let engines: Vec<&str> =
        tables.iter().map(|_| dice.of(&["InnoDB", "InnoDB", "MyISAM", "Aria"])).collect();
    for (i, table) in tables.iter().enumerate() {
        let mut lines = vec!["`id` int unsigned NOT NULL AUTO_INCREMENT".to_string()];
        for c in 0..1 + dice.roll(6) {
            let kind = dice.of(&[
                "varchar(40) NOT NULL DEFAULT 'sel;ect (\\''",
                "text DEFAULT NULL COMMENT 'rename; to `x`.`y` (z'",
                "decimal(10,2) DEFAULT 1.50",
                "datetime(3) DEFAULT current_timestamp(3) ON UPDATE current_timestamp(3)",
                "enum('a(','b;','c''d') DEFAULT 'b;'",
                "bigint(20) GENERATED ALWAYS AS (`id` * 2 + abs(-1)) VIRTUAL",
                "char(36) DEFAULT uuid()",
                "longtext CHECK (json_valid(`KEY`))",
                "double DEFAULT NULL",
                "blob DEFAULT NULL",
                "year(4) DEFAULT 2026",
                "bit(5) DEFAULT b'101'",
            ]);
            let name = format!("{} c{c}", dice.of(&ODD));
            lines.push(format!("`{name}` {}", kind.replace("`KEY`", &format!("`{name}`"))));
        }
        lines.push("`n` int unsigned DEFAULT NULL".into());
        lines.push("`k` int DEFAULT 5".into());
        lines.push("PRIMARY KEY (`id`)".into());
        if dice.may() {
            lines.push(format!("KEY `{}` (`n`,`id`)", dice.of(&ODD)));
        }
        if dice.may() {
            lines.push("CONSTRAINT `check (` CHECK (`k` between 0 and 99 or lower('SELECT') = 'x')".into());
        }
        let parent = dice.roll(i.max(1));
        if i > 0 && engines[i] == "InnoDB" && engines[parent] == "InnoDB" && dice.may() {
            lines.push(format!(
                "CONSTRAINT `f{i}` FOREIGN KEY (`n`) REFERENCES `{}` (`id`) ON DELETE {}",
                tables[parent],
                dice.of(&["CASCADE", "SET NULL", "NO ACTION"])
            ));
        }
        sql.push_str(&format!(
            "CREATE TABLE `{table}` (\n{}\n) ENGINE={} DEFAULT CHARSET=utf8mb4 COMMENT='enable keys; ({i}';\n",
            lines.join(",\n"),
            engines[i]
        ));
        for row in 0..dice.roll(5) {
            sql.push_str(&format!("INSERT INTO `{table}` (`id`) VALUES ({});\n", row + 1));
        }
    }
    sql.push_str("DELIMITER ;;\n");
    let table = |dice: &mut Dice| {
        let table = &tables[dice.roll(tables.len())];
        // The database's own name, as a definer that is gone or a careful author leaves it.
        if dice.may() { format!("`{database}`.`{table}`") } else { format!("`{table}`") }
    };
    for i in 0..dice.roll(3) {
        let t = table(dice);
        sql.push_str(&format!(
            "CREATE FUNCTION `fn {i}`(x int) RETURNS int(11) {} BEGIN DECLARE r int DEFAULT 0; IF x > 0 THEN SELECT count(*) INTO r FROM {t}; ELSEIF x < 0 THEN SET r = CASE x WHEN -1 THEN 1 ELSE 2 END; END IF; l: WHILE r > 9 DO SET r = r - 1; END WHILE l; RETURN r; END;;\n",
            dice.of(&["DETERMINISTIC", "READS SQL DATA", "NO SQL"])
        ));
    }
    let functions = sql.matches("CREATE FUNCTION").count();
    for i in 0..dice.roll(3) {
        let t = table(dice);
        sql.push_str(&format!(
            "CREATE PROCEDURE `proc;{i}`(INOUT x int) SQL SECURITY INVOKER COMMENT 'grant; all' BEGIN DECLARE done int DEFAULT 0; DECLARE c CURSOR FOR SELECT id FROM {t}; DECLARE CONTINUE HANDLER FOR NOT FOUND SET done = 1; OPEN c; REPEAT FETCH c INTO x; UNTIL done END REPEAT; CLOSE c; END;;\n"
        ));
    }
    for i in 0..dice.roll(3) {
        let (t, on) = (table(dice), &tables[dice.roll(tables.len())]);
        sql.push_str(&format!(
            "CREATE TRIGGER `tr {i}` {} ON `{on}` FOR EACH ROW {};;\n",
            dice.of(&["BEFORE INSERT", "BEFORE UPDATE"]),
            dice.of(&[
                "SET NEW.n = coalesce(NEW.n, 5)",
                "BEGIN IF NEW.n > 50 THEN SET NEW.n = 50; END IF; END",
                "SET @x = (SELECT max(id) FROM TT)"
            ])
            .replace("TT", &t)
        ));
    }
    for i in 0..dice.roll(2) {
        let t = table(dice);
        sql.push_str(&format!(
            "CREATE EVENT `ev {i}` ON SCHEDULE EVERY {} STARTS '2027-01-01 00:00:00' ON COMPLETION {} {} COMMENT 'do; it' DO DELETE FROM {t} WHERE id > 1000;;\n",
            dice.of(&["1 DAY", "2 HOUR"]),
            dice.of(&["PRESERVE", "NOT PRESERVE"]),
            dice.of(&["ENABLE", "DISABLE"])
        ));
    }
    sql.push_str("DELIMITER ;\n");
    // Views in the wrong order of their names, on each other and on functions.
    for i in (0..dice.roll(4)).rev() {
        let t = &tables[dice.roll(tables.len())];
        let call = if functions > 0 && dice.may() { "`fn 0`(x.id)" } else { "trim(both 'x' from 'select')" };
        sql.push_str(&format!(
            "CREATE {} VIEW `view {i}` AS SELECT x.id AS id, {call} AS `from` FROM `{t}` x LEFT JOIN (`{}` y) ON x.id = y.id WHERE x.id IN (SELECT id FROM `{t}`);\n",
            dice.of(&["", "SQL SECURITY INVOKER", "ALGORITHM=MERGE"]),
            tables[0]
        ));
        if dice.may() {
            sql.push_str(&format!("CREATE VIEW `a view of {i}` AS SELECT * FROM `view {i}`;\n"));
        }
    }
    if dice.may() {
        sql.push_str("CREATE SEQUENCE `seq (1` START WITH 5 INCREMENT BY 3;\nDO NEXTVAL(`seq (1`);\n");
    }
    sql
}

/// Everything in a database, as the server's own program writes it, but for who made it and how the database is called.
fn all_of(server: &Server, database: &Database) -> String {
    let out = Command::new("mariadb-dump")
        .args([
            "--no-defaults",
            "-uroot",
            "--routines",
            "--events",
            "--skip-comments",
            "--skip-extended-insert",
            "--hex-blob",
            "-S",
        ])
        .args([&server.socket, &database.name])
        .output()
        .unwrap();
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    let text = String::from_utf8_lossy(&out.stdout).replace(&format!("`{}`.", database.name), "");
    let definers = [
        "DEFINER=`root`@`localhost`".to_string(),
        format!("DEFINER=`{}`@`127.0.0.1`", database.user),
        format!("DEFINER=`{}`@`localhost`", database.user),
    ];
    let mut text = definers.iter().fold(text, |text, d| text.replace(d, ""));
    for charset in ["utf8mb3", "utf8mb4", "latin1"] {
        text = text.replace(&format!("= {charset} "), "= X ");
        for collation in ["general_ci", "uca1400_ai_ci", "unicode_ci", "swedish_ci"] {
            text = text.replace(&format!("= {charset}_{collation} "), "= X ");
        }
    }
    text
}

#[test]
fn a_hundred_schemas_of_mariadb_come_back_as_they_were() {
    let Some(server) = server() else { return };
    for seed in seeds() {
        let bench = Bench::new();
        let old = server.new_database();
        let schema = mariadb_schema(seed, &old.name);
        server.load_with_client(&old, &schema);
        let made = all_of(server, &old);
        // To read what root made.
        server
            .root()
            .query_drop(format!("GRANT SELECT ON mysql.proc TO '{}'@'localhost'", old.user))
            .unwrap();
        bench.run(&["database", "dump", &old.socket_url(server), "-o", "ours.sql"]).expect(0);
        let stock = Command::new("mariadb-dump")
            .args(["--no-defaults", "-uroot", "--routines", "--events", "-S", &server.socket, &old.name])
            .output()
            .unwrap();
        bench.write("stock.sql", stock.stdout);
        for dump in ["ours.sql", "stock.sql"] {
            let copy = server.new_database();
            let loaded = bench.run(&["database", "load", dump, &copy.socket_url(server), "--events", "on"]);
            assert!(loaded.code <= 1, "seed {seed}, {dump}: {}\n{schema}", loaded.stderr);
            let copied = all_of(server, &copy);
            if made != copied {
                let (a, b) =
                    made.lines().zip(copied.lines()).find(|(a, b)| a != b).unwrap_or(("", "one is longer"));
                panic!("seed {seed}, {dump}:\n  {a}\n  {b}\n{schema}");
            }
        }
        server.root().query_drop(format!("DROP DATABASE {}", old.name)).unwrap();
    }
}

fn postgres_schema(seed: u64) -> String {
    let dice = &mut Dice(seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) | 1);
    let mut sql = String::new();
    if dice.may() {
        sql.push_str(
            "CREATE EXTENSION citext;\nCREATE EXTENSION pg_trgm;\nCREATE EXTENSION \"uuid-ossp\";\n",
        );
    }
    let extended = sql.contains("citext");
    let schemas: &[&str] = if dice.may() { &["public", "more (x"] } else { &["public"] };
    if schemas.len() > 1 {
        sql.push_str("CREATE SCHEMA \"more (x\";\n");
    }
    sql.push_str("CREATE TYPE public.mood AS ENUM ('so;', 'la (', 'it''s');\nCREATE DOMAIN public.short AS text CONSTRAINT \"len;\" CHECK (length(VALUE) < 50);\n");
    if dice.may() {
        sql.push_str(
            "CREATE TYPE public.floats AS RANGE (SUBTYPE = double precision, SUBTYPE_DIFF = float8mi);\n",
        );
    }
    let ranges = sql.contains("floats");
    sql.push_str("CREATE FUNCTION public.pure(a integer) RETURNS integer LANGUAGE sql IMMUTABLE AS $$ SELECT a + 1; $$;\n");
    sql.push_str("CREATE FUNCTION public.acts() RETURNS integer LANGUAGE plpgsql AS $f$ BEGIN PERFORM 1; IF false THEN INSERT INTO public.log VALUES (1); END IF; RETURN 7; END; $f$;\n");
    sql.push_str("CREATE FUNCTION public.fires() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN NEW.n := COALESCE(NEW.n, 3); RETURN NEW; END $$;\n");
    if dice.may() {
        sql.push_str("CREATE FUNCTION public.atom(a integer) RETURNS integer LANGUAGE sql BEGIN ATOMIC SELECT 1; SELECT CASE WHEN (a > 0) THEN 2 ELSE 3 END; END;\n");
    }
    sql.push_str("CREATE TABLE public.log (a integer);\n");
    let tables: Vec<String> = (0..2 + dice.roll(4))
        .map(|i| {
            format!(
                "{}.\"{} {i}\"",
                if schemas.len() > 1 && dice.may() { "\"more (x\"" } else { "public" },
                dice.of(&ODD)
            )
        })
        .collect();
    for (i, table) in tables.iter().enumerate() {
        let id = dice.of(&[
            "serial",
            "integer GENERATED ALWAYS AS IDENTITY",
            "bigint GENERATED BY DEFAULT AS IDENTITY (SEQUENCE NAME NN START WITH 5 INCREMENT BY 2)",
        ]);
        let id = id.replace(
            "NN",
            &format!(
                "{}.\"other; name {i}\"",
                table.rsplit_once(".\"").map_or("public", |(schema, _)| schema)
            ),
        );
        let mut lines = vec![format!("id {id} NOT NULL")];
        for c in 0..1 + dice.roll(6) {
            let mut kinds = vec![
                "character varying(40) DEFAULT 'sel;ect ('::character varying NOT NULL",
                "text DEFAULT 'it''s'",
                "numeric(10,2) DEFAULT 1.50",
                "timestamp with time zone DEFAULT now()",
                "public.mood DEFAULT 'la ('",
                "public.short",
                "integer[] DEFAULT '{1,2}'",
                "jsonb DEFAULT '{}'",
                "integer DEFAULT public.acts()",
                "integer DEFAULT public.pure(4)",
                "integer GENERATED ALWAYS AS (public.pure(3)) STORED",
                "boolean DEFAULT true NOT NULL",
                "bytea",
                "date DEFAULT CURRENT_DATE",
                "text COLLATE \"C\"",
            ];
            if extended {
                kinds.extend(["public.citext", "uuid DEFAULT public.uuid_generate_v4()"]);
            }
            if ranges {
                kinds.push("public.floats DEFAULT public.floats(1, 2)");
            }
            lines.push(format!("\"{} c{c}\" {}", dice.of(&ODD), dice.of(&kinds)));
        }
        lines.push("n integer".into());
        lines.push("CONSTRAINT \"pk;".to_string() + &i.to_string() + "\" PRIMARY KEY (id)");
        if dice.may() {
            lines.push("CONSTRAINT \"check (\" CHECK (((n IS NULL) OR (public.pure(n) > 0)))".into());
        }
        if i > 0 && dice.may() {
            lines.push(format!(
                "FOREIGN KEY (n) REFERENCES {} (id) ON DELETE CASCADE DEFERRABLE",
                tables[dice.roll(i)]
            ));
        }
        sql.push_str(&format!(
            "CREATE TABLE {table} (\n{}\n){};\n",
            lines.join(",\n"),
            dice.of(&["", " WITH (fillfactor=70)"])
        ));
        for row in 0..dice.roll(5) {
            let _ = row;
            sql.push_str(&format!("INSERT INTO {table} (n) VALUES (NULL);\n"));
        }
        if dice.may() {
            sql.push_str(&format!(
                "CREATE INDEX \"ix; {i}\" ON {table} USING btree (public.pure(n) DESC, id) WHERE (n > 0);\n"
            ));
        }
        if dice.may() {
            sql.push_str(&format!("CREATE TRIGGER \"tr ({i}\" BEFORE INSERT OR UPDATE ON {table} FOR EACH ROW WHEN ((new.id > 0)) EXECUTE FUNCTION public.fires();\n"));
            if dice.may() {
                let state = dice.of(&["DISABLE", "ENABLE REPLICA", "ENABLE ALWAYS"]);
                sql.push_str(&format!("ALTER TABLE {table} {state} TRIGGER \"tr ({i}\";\n"));
            }
        }
        if dice.may() {
            sql.push_str(&format!("CREATE RULE \"r{i}\" AS ON INSERT TO {table} WHERE (new.n = 5) DO ALSO (INSERT INTO public.log VALUES (1); UPDATE public.log SET a = 2;);\n"));
        }
        if dice.may() {
            sql.push_str(&format!("ALTER TABLE {table} ENABLE ROW LEVEL SECURITY;\nCREATE POLICY \"p {i}\" ON {table} FOR SELECT USING ((n > public.acts()));\n"));
        }
        sql.push_str(&format!(
            "COMMENT ON TABLE {table} IS 'select; (';\nCOMMENT ON COLUMN {table}.n IS 'it''s';\n"
        ));
        if dice.may() {
            sql.push_str(&format!("ALTER TABLE {table} ALTER COLUMN n SET STATISTICS 77;\nALTER TABLE {table} REPLICA IDENTITY FULL;\n"));
        }
    }
    for i in 0..dice.roll(4) {
        let t = &tables[dice.roll(tables.len())];
        let options = dice.of(&["", " WITH (security_barrier=true)"]);
        sql.push_str(&format!("CREATE VIEW public.\"v {i}\"{options} AS SELECT x.id, x.n, public.acts() AS a FROM {t} x WHERE (x.n > 1) {};\n", dice.of(&["", "WITH CASCADED CHECK OPTION", "WITH LOCAL CHECK OPTION"])));
        if dice.may() {
            sql.push_str(&format!("CREATE MATERIALIZED VIEW public.\"a m{i}\" AS SELECT count(*) AS c, public.pure(1) AS p FROM {t};\nCREATE UNIQUE INDEX \"mi {i}\" ON public.\"a m{i}\" (c);\nCOMMENT ON MATERIALIZED VIEW public.\"a m{i}\" IS 'x';\n"));
        }
        if dice.may() {
            sql.push_str(&format!("CREATE FUNCTION public.\"of v {i}\"() RETURNS SETOF public.\"v {i}\" LANGUAGE sql AS $$ SELECT * FROM public.\"v {i}\" $$;\n"));
        }
    }
    if dice.may() {
        sql.push_str("CREATE TABLE public.parts (d date NOT NULL, n integer) PARTITION BY RANGE (d);\nCREATE TABLE public.parts_a PARTITION OF public.parts FOR VALUES FROM ('2026-01-01') TO ('2027-01-01');\nCREATE INDEX parts_i ON public.parts (n);\nINSERT INTO public.parts VALUES ('2026-05-05', 1);\n");
    }
    if dice.may() {
        sql.push_str("CREATE AGGREGATE public.together(integer) (SFUNC = int4pl, STYPE = integer, INITCOND = '0');\nCOMMENT ON FUNCTION public.pure(a integer) IS 'pure; (';\n");
    }
    sql
}

#[test]
fn a_hundred_schemas_of_postgres_come_back_as_they_were() {
    let Some(server) = postgres::Server::start() else { return };
    let bench = Bench::new();
    let plain = |dump: String| dump.lines().filter(|l| !l.starts_with('\\')).collect::<Vec<_>>().join("\n");
    for seed in seeds() {
        let schema = postgres_schema(seed);
        bench.write("schema.sql", &schema);
        server.create("old");
        server.load("old", &bench.path("schema.sql"));
        let made = plain(server.dump("old", &[]));
        let ours = bench.path("ours.sql");
        let _ = std::fs::remove_file(&ours);
        bench.run(&["database", "dump", &server.url("old"), "-o", "ours.sql"]).expect(0);
        bench.write(
            "stock.sql",
            server.dump("old", if seed % 2 == 0 { &[] } else { &["--clean", "--if-exists", "--create"] }),
        );
        for dump in ["ours.sql", "stock.sql"] {
            server.create("copy");
            let loaded = bench.run(&["database", "load", dump, &server.url("copy")]);
            // A dump without a row may be the wrong one, and is told.
            let mut rows = made.lines().zip(made.lines().skip(1));
            let told = !rows.any(|(copy, row)| copy.ends_with("FROM stdin;") && !row.is_empty());
            assert!(!told || loaded.stdout.contains("holds no rows"), "seed {seed}, {dump}: {loaded:?}");
            assert!(
                loaded.code == i32::from(told),
                "seed {seed}, {dump}: {}{}\n{schema}",
                loaded.stdout,
                loaded.stderr
            );
            let copied = plain(server.dump("copy", &[]));
            if made != copied {
                let (a, b) =
                    made.lines().zip(copied.lines()).find(|(a, b)| a != b).unwrap_or(("", "one is longer"));
                panic!("seed {seed}, {dump}:\n  {a}\n  {b}\n{schema}");
            }
            server.drop("copy");
        }
        server.drop("old");
    }
}

/// What hostile dumps hold, each a line; `~` stands for space.
fn hostile(lines: &str) -> impl Iterator<Item = String> {
    lines.lines().filter(|l| !l.is_empty() && !l.starts_with("# ")).map(|l| l.replace('~', " "))
}

const MYSQL: &str = include_str!("../../../rewrite/src/vet/tests/hostile-mysql.txt");
const POSTGRES: &str = include_str!("../../../rewrite/src/vet/tests/hostile-postgres.txt");

/// As the server's administrator, who may do all of it: a second database, the users and a folder stay as they are.
#[test]
fn hostile_dumps_harm_nothing_on_a_real_mariadb() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    let mut root = server.root();
    root.query_drop("CREATE DATABASE vict; ").unwrap();
    for sql in [
        "CREATE TABLE vict.t (a int)",
        "CREATE TABLE vict.m (a int)",
        "INSERT INTO vict.t VALUES (1), (2)",
        "CREATE VIEW vict.v AS SELECT 1",
        "CREATE FUNCTION vict.f() RETURNS int RETURN 1",
    ] {
        root.query_drop(sql).unwrap();
    }
    let database = server.new_database();
    root.query_drop(format!("GRANT ALL ON *.* TO '{}'@'localhost' WITH GRANT OPTION", database.user))
        .unwrap();
    let state = |root: &mut mysql::Conn| {
        let tables: Vec<String> = root.query("SELECT CONCAT(TABLE_NAME, TABLE_TYPE, IFNULL(TABLE_ROWS, 0)) FROM information_schema.TABLES WHERE TABLE_SCHEMA = 'vict' ORDER BY 1").unwrap();
        let rows: Vec<i64> = root.query("SELECT a FROM vict.t ORDER BY a").unwrap();
        let users: Vec<String> = root.query("SELECT CONCAT(user, host, IFNULL(authentication_string, '')) FROM mysql.user WHERE user NOT LIKE 'user%' ORDER BY 1").unwrap();
        let others: Vec<String> = root.query("SELECT CONCAT(ROUTINE_SCHEMA, ROUTINE_NAME) FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA IN ('vict', 'mysql') ORDER BY 1").unwrap();
        let databases: Vec<String> = root
            .query("SELECT SCHEMA_NAME FROM information_schema.SCHEMATA WHERE SCHEMA_NAME NOT LIKE 'db%'")
            .unwrap();
        let log: Vec<String> = root.query("SELECT @@global.general_log").unwrap();
        format!("{tables:?}{rows:?}{users:?}{others:?}{databases:?}{log:?}")
    };
    let before = state(&mut root);
    let url = database.socket_url(server);
    for sql in hostile(MYSQL) {
        let delimiter = if sql.contains(';') { "DELIMITER $$\n" } else { "" };
        let end = if sql.contains(';') { "$$" } else { ";" };
        bench.write("bad.sql", format!("SET NAMES utf8mb4;\n{delimiter}{sql}{end}\nDELIMITER ;\nCREATE TABLE `t` (`a` text);\nINSERT INTO t VALUES (1);\n"));
        let ended = bench.run(&["database", "load", "bad.sql", &url, "--empty-database"]);
        // What is cut so that it ends in a quote is damage.
        assert!(matches!(ended.code, 3 | 5), "{sql}\n{}{}", ended.stdout, ended.stderr);
        assert!(
            ended.stderr.contains("line 2") || ended.stderr.contains("line 3"),
            "{sql}: {}",
            ended.stderr
        );
    }
    assert_eq!(before, state(&mut root));
    root.query_drop("DROP DATABASE vict").unwrap();
}

#[test]
fn hostile_dumps_harm_nothing_on_a_real_postgres() {
    let Some(server) = postgres::Server::start() else { return };
    let bench = Bench::new();
    server.create("bad");
    let ask = |sql: &str| {
        bench.write("ask.sql", sql);
        server.load("bad", &bench.path("ask.sql"))
    };
    let state = || {
        ask(
            "SELECT rolname, rolsuper FROM pg_authid ORDER BY 1; SELECT datname FROM pg_database ORDER BY 1; \
             SELECT proname FROM pg_proc WHERE pronamespace = 'pg_catalog'::regnamespace ORDER BY 1; SELECT count(*) FROM pg_largeobject_metadata; \
             SELECT * FROM pg_publication; SELECT setting FROM pg_file_settings ORDER BY 1; SELECT count(*) FROM pg_shdescription;",
        )
    };
    let before = state();
    let start = "SET standard_conforming_strings = on;\nCREATE FUNCTION public.acts() RETURNS integer LANGUAGE plpgsql AS $$BEGIN CREATE ROLE evil; RETURN 1; END$$;\n";
    // A function that would do harm is refused where it stands; one that writes to a table is stored and not called.
    bench.write("bad.sql", start);
    bench.run(&["database", "load", "bad.sql", &server.url("bad")]).expect(3).says(&["CREATE ROLE"]);
    let start = "SET standard_conforming_strings = on;\nCREATE TABLE public.t (a integer);\nCREATE FUNCTION public.acts() RETURNS integer LANGUAGE plpgsql AS $$BEGIN INSERT INTO public.t VALUES (666); RETURN 1; END$$;\n\
                 CREATE FUNCTION public.fires() RETURNS trigger LANGUAGE plpgsql AS $$BEGIN INSERT INTO public.t VALUES (666); RETURN NEW; END$$;\n";
    // What is two statements to the guard is one behind the other in a file.
    for sql in hostile(POSTGRES).filter(|sql| !sql.contains("; DROP")) {
        bench.write("bad.sql", format!("{start}{sql};\nINSERT INTO public.t VALUES (1);\n"));
        let ended = bench.run(&["database", "load", "bad.sql", &server.url("bad")]);
        assert_eq!(ended.code, 3, "{sql}\n{}{}", ended.stdout, ended.stderr);
    }
    assert_eq!(before, state());
    // What runs while rows come in comes behind them.
    bench.write("late.sql", format!("{start}CREATE TABLE public.u (a integer, b integer DEFAULT public.acts());\nCREATE TRIGGER x BEFORE INSERT ON public.u FOR EACH ROW EXECUTE FUNCTION public.fires();\nCREATE RULE r AS ON INSERT TO public.u DO ALSO INSERT INTO public.t VALUES (667);\nINSERT INTO public.u (a) VALUES (1);\n"));
    bench.run(&["database", "load", "late.sql", &server.url("bad")]).expect(0);
    assert_eq!(ask("SELECT count(*) FROM public.t"), "0\n");
    assert_eq!(
        ask("INSERT INTO public.u (a) VALUES (2); SELECT count(*) FROM public.t WHERE a > 600"),
        "3\n"
    );
}

/// What a dump of MariaDB would run while its rows come in does not run, and its events rest.
#[test]
fn triggers_and_events_of_a_dump_do_not_run_while_it_is_loaded() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    let database = server.new_database();
    bench.write("d.sql", "CREATE TABLE t (a int);\nCREATE TABLE log (a int);\nCREATE TRIGGER x AFTER INSERT ON t FOR EACH ROW INSERT INTO log VALUES (NEW.a);\n\
        CREATE EVENT e ON SCHEDULE EVERY 1 SECOND DO INSERT INTO log VALUES (99);\nCREATE VIEW a AS SELECT twice(b) AS c FROM z;\nCREATE VIEW z AS SELECT a AS b FROM t;\n\
        CREATE FUNCTION twice(n int) RETURNS int DETERMINISTIC RETURN n * 2;\nINSERT INTO t VALUES (1), (2);\n");
    bench
        .run(&["database", "load", "d.sql", &database.socket_url(server)])
        .expect(1)
        .says(&["at rest: e", "--events on"]);
    let mut root = server.root();
    let count = |root: &mut mysql::Conn| {
        root.query_first::<u64, _>(format!("SELECT COUNT(*) FROM {}.log", database.name)).unwrap()
    };
    assert_eq!(count(&mut root), Some(0));
    root.query_drop(format!("INSERT INTO {}.t VALUES (3)", database.name)).unwrap();
    assert_eq!(count(&mut root), Some(1));
    let status: Vec<String> = root
        .query(format!(
            "SELECT STATUS FROM information_schema.EVENTS WHERE EVENT_SCHEMA = '{}'",
            database.name
        ))
        .unwrap();
    assert_eq!(status, ["DISABLED"]);
    let doubled: Vec<i64> = root.query(format!("SELECT c FROM {}.a ORDER BY c", database.name)).unwrap();
    assert_eq!(doubled, [2, 4, 6]);
}
