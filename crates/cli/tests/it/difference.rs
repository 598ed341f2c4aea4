//! A copy that is brought up to date by what has changed: equal to a copy that is made anew, whatever happened on either side.

use super::common::Bench;
use super::common::mariadb::{Database, Server, server};
use zporter_standin::Variant;

/// What is in a database, without what is each database's own.
fn content(server: &Server, database: &Database) -> Vec<String> {
    let content = server.content(database);
    let made = content.lines().filter(|l| !l.starts_with("/*") && !l.starts_with(") ENGINE="));
    made.map(str::to_string).collect()
}

/// Numbers that look random and are the same each time.
struct Dice(u64);

impl Dice {
    fn throw(&mut self, sides: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6364136223846793005).wrapping_add(1442695040888963407);
        (self.0 >> 33) % sides
    }
}

#[test]
fn a_copy_that_is_brought_up_to_date_equals_one_that_is_made_anew() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    let (site, database) = bench.live(server, Variant::WordPress);
    let p = &site.prefix;
    let tables: Vec<String> = (0..6).map(|i| format!("{p}extra_{i}")).collect();
    let made: String = tables
        .iter()
        .map(|t| {
            let rows: Vec<String> = (1..40).map(|i| format!("({i},'{}/{t}/{i}')", site.address)).collect();
            format!("CREATE TABLE `{t}` (id int AUTO_INCREMENT PRIMARY KEY, t text);\nINSERT INTO `{t}` VALUES {};\n", rows.join(","))
        })
        .collect();
    server.load_with_client(&database, &made);
    // Keys of several columns, below zero and above what fits with a sign, values of every kind, and a further unique index.
    let mixed: Vec<String> = (-20..20)
        .map(|i| {
            format!(
                "({i},{},'u{i}',{i}.125,'2026-03-01 20:00:{:02}',{},'{}','{}/mixed/{i}')",
                18_446_744_073_709_551_000u64 + (i + 20) as u64,
                i + 20,
                if i % 3 == 0 { "NULL".to_string() } else { format!("x'00ff{:02x}'", i + 20) },
                if i % 2 == 0 { "p" } else { "q" },
                site.address
            )
        })
        .collect();
    server.load_with_client(&database, &format!(
        "CREATE TABLE `{p}mixed` (a int, b bigint unsigned, u varchar(40) UNIQUE, n decimal(10,3), d datetime, x blob, e enum('p','q'), t text, PRIMARY KEY (a, b));\n\
         INSERT INTO `{p}mixed` VALUES {};\n",
        mixed.join(",")
    ));
    // What names tables that stay is made anew all the same.
    let bodies = format!(
        "CREATE TRIGGER `{p}tick` BEFORE INSERT ON `{p}extra_0` FOR EACH ROW SET NEW.t = NEW.t;\nCREATE VIEW `{p}seen` AS SELECT id FROM `{p}extra_1`;\n"
    );
    server.load_with_client(&database, &bodies);
    let (copy, anew) = (server.new_database(), server.new_database());
    bench.write("pw", &copy.password);
    let clone = |target: &str, database: &Database, more: &[&str]| {
        let url = database.tcp_url(server);
        let to = ["--address", "https://copy.test/c", "--database", &url, "--database-password-file", "pw"];
        let done = bench.run(&[&["clone", "old", target], &to[..], more].concat());
        assert!(done.code <= 1, "{}{}", done.stdout, done.stderr);
        done
    };
    clone("copy", &copy, &[]);
    // Nothing has changed: nothing is carried.
    let again = clone("copy", &copy, &["--refresh", "--json"]).document();
    assert!(again["result"]["loaded"].as_object().unwrap().len() <= 1, "{:#}", again["result"]["loaded"]);
    // One row of a table is changed: that row changes, and nothing else of the table.
    server.load_with_client(&database, &format!("UPDATE `{p}mixed` SET n = 77.5 WHERE a = -7;"));
    let again = clone("copy", &copy, &["--refresh", "--json"]).document();
    assert_eq!(again["result"]["row_by_row"], serde_json::json!({ format!("{p}mixed"): 1 }), "{again:#}");
    bench.run(&["undo", "last", "--database-password-file", "pw"]).expect(0).says(&["1 row as they were"]);
    clone("copy", &copy, &["--refresh"]);
    let mut dice = Dice(7);
    for round in 0..8 {
        for _ in 0..=dice.throw(3) {
            let table = &tables[dice.throw(6) as usize];
            let id = 1 + dice.throw(50);
            let sql = match dice.throw(6) {
                0 => format!("UPDATE `{table}` SET t = '{}/round{round}' WHERE id = {id};", site.address),
                1 => format!("DELETE FROM `{table}` WHERE id = {id};"),
                2 => format!("INSERT INTO `{table}` (t) VALUES ('new {round}');"),
                3 => format!("UPDATE `{table}` SET id = id + 1000 WHERE id = {id};"),
                4 => format!("ALTER TABLE `{table}` ADD INDEX by_round_{round}_{id} (t(10));"),
                _ => format!("CREATE TABLE `{p}late_{round}_{id}` (a int PRIMARY KEY);"),
            };
            server.load_with_client(&database, &sql);
        }
        let id = dice.throw(40) as i64 - 20;
        let mixed = match dice.throw(5) {
            // Two rows change their unique values.
            0 => format!(
                "UPDATE `{p}mixed` SET u = CASE a WHEN {id} THEN 'u{0}x' ELSE u END; UPDATE `{p}mixed` SET u = 'u{id}' WHERE a = {0}; UPDATE `{p}mixed` SET u = 'u{0}' WHERE a = {id};",
                id + 1
            ),
            1 => format!(
                "UPDATE `{p}mixed` SET x = NULL, t = '{}/mixed/new', d = NULL WHERE a > {id};",
                site.address
            ),
            2 => format!("DELETE FROM `{p}mixed` WHERE a < {id} AND a % 3 = 0;"),
            3 => format!("UPDATE `{p}mixed` SET b = b + 600 WHERE a = {id} AND b < 18446744073709551015;"),
            _ => format!(
                "INSERT IGNORE INTO `{p}mixed` VALUES ({id}, {round}, 'new{round}', 1, NULL, x'', 'q', NULL);"
            ),
        };
        server.load_with_client(&database, &mixed);
        if dice.throw(2) == 0 {
            // Somebody played with the copy.
            let table = &tables[dice.throw(6) as usize];
            server.load_with_client(&copy, &format!("UPDATE `{table}` SET t = 'played' WHERE id < 20;"));
        }
        // Somebody played in the copy: that is gone over.
        clone("copy", &copy, &["--refresh", "--overwrite"]);
        let _ = std::fs::remove_dir_all(bench.path("anew"));
        clone("anew", &anew, &["--empty-database"]);
        let (brought, made) = (content(server, &copy), content(server, &anew));
        // The folders have names of one length.
        let made: Vec<String> = made
            .into_iter()
            .map(|l| l.replace("/anew", "/copy"))
            .map(|l| l.replace("\\/anew", "\\/copy"))
            .collect();
        let other = brought.iter().zip(&made).find(|(a, b)| a != b);
        assert!(brought == made, "round {round}: {other:?}");
    }
}
