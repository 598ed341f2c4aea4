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
    let mut dice = Dice(7);
    for round in 0..6 {
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
        if dice.throw(2) == 0 {
            // Somebody played with the copy.
            let table = &tables[dice.throw(6) as usize];
            server.load_with_client(&copy, &format!("UPDATE `{table}` SET t = 'played' WHERE id < 20;"));
        }
        clone("copy", &copy, &["--refresh"]);
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
