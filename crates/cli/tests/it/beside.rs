//! Copies beside their site: in its own database under another prefix, and in a folder of the site.

use super::common::mariadb::server;
use super::common::{Bench, files};
use std::process::Command;
use zporter_standin::Variant;

/// Things whose names stand once in a database.
const NAMED: &str = "CREATE TABLE `{p}parent` (`id` int PRIMARY KEY) ENGINE=InnoDB;\n\
    CREATE TABLE `{p}child` (`of` int NOT NULL, CONSTRAINT `own_name` FOREIGN KEY (`of`) REFERENCES `{p}parent` (`id`)) ENGINE=InnoDB;\n\
    INSERT INTO `{p}parent` VALUES (1);\nINSERT INTO `{p}child` VALUES (1);\n\
    CREATE TRIGGER `tick` BEFORE INSERT ON `{p}child` FOR EACH ROW SET NEW.`of` = 1;\n\
    CREATE TABLE `others_visits` (`id` int);\nINSERT INTO `others_visits` VALUES (4);\n";

#[test]
fn a_copy_lies_in_the_database_and_in_a_folder_of_its_site() {
    let Some(server) = server() else { return };
    for variant in
        [Variant::Joomla310, Variant::WordPress, Variant::PrestaShop16, Variant::OpenCart3, Variant::PhpBb33]
    {
        let bench = Bench::new();
        let (site, database) = bench.live(server, variant);
        let _ = site.write_outside(&bench.path("outside"));
        server.load_with_client(&database, &NAMED.replace("{p}", &site.prefix));
        let before = (files(&bench.path("old")), server.content(&database));
        bench.write("pw", &database.password);
        let url = match variant {
            Variant::OpenCart3 => database.tcp_url(server),
            _ => database.socket_url(server),
        };
        let clone = |target: &str, prefix: &str, more: &[&str]| {
            let to =
                ["--address", "https://dev.test/d", "--database", &url, "--database-password-file", "pw"];
            bench.run(&[&["clone", "old", target, "--table-prefix", prefix], &to[..], more].concat())
        };
        // A prefix that the site's own begins with, and its own, would mix the two.
        clone("old/dev", &format!("{}dev_", site.prefix), &[]).expect(2);
        clone("old/dev", &site.prefix, &[]).expect(3);
        let done = clone("old/dev", "dev_", &[]);
        assert!(done.code <= 1, "{variant:?} {}{}", done.stdout, done.stderr);
        let live: Vec<_> =
            files(&bench.path("old")).into_iter().filter(|(p, _)| !p.starts_with("dev")).collect();
        assert!(before.0 == live, "{variant:?}: the site's files are as they were");
        let now = server.content(&database);
        for line in before.1.lines().filter(|l| l.starts_with("INSERT") || l.contains("TRIGGER")) {
            assert!(now.contains(line), "{variant:?}: {line}\n{now}");
        }
        assert!(now.contains("`dev_child`") && now.contains("CONSTRAINT `own_name`"), "{variant:?}");
        let own: String = now.lines().filter(|l| l.starts_with("INSERT INTO `dev_")).collect();
        assert!(own.contains("dev.test"), "{variant:?}: {own}");
        // Nor is it in the way, or in its own source, where it is made once more or brought up to date.
        clone("old/dev", "dev_", &[]).expect(3);
        let refreshed =
            bench.run(&["clone", "old", "old/dev", "--refresh", "--database-password-file", "pw"]);
        assert!(refreshed.code <= 1, "{variant:?} {}{}", refreshed.stdout, refreshed.stderr);
        let second = clone("beside", "two_", &[]);
        assert!(second.code <= 1, "{variant:?} {}{}", second.stdout, second.stderr);
        assert!(!bench.path("beside/dev").exists(), "{variant:?}: a copy is no part of its site");
        bench.run(&["undo", "last", "--database-password-file", "pw"]).says(&["Undone"]);
        // An archive of the site leaves it out and says so.
        let packed = bench.run(&["pack", "old", "-o", "a.tar.zst", "-v"]);
        let packed = packed.says(&[
            "belongs to another host, or is a copy",
            "table dev_child",
            "of a copy of this site",
        ]);
        let told = packed.stdout.split("Left out").next().unwrap_or_default();
        assert!(told.contains("others_visits") && !told.contains("dev_"), "{variant:?} {told}");
        let listed =
            Command::new("tar").args(["--zstd", "-tf"]).arg(bench.path("a.tar.zst")).output().unwrap();
        let listed = String::from_utf8_lossy(&listed.stdout);
        let parts: Vec<&str> = listed.lines().filter(|l| l.starts_with("database/")).collect();
        assert!(parts.len() > 3 && !parts.iter().any(|part| part.contains("-dev_")), "{parts:?}");
    }
}
