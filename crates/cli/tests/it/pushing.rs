//! A copy goes back over the live site that it came from: its work is there, and what belongs to the live site has stayed.

use super::common::mariadb::server;
use super::common::{Bench, files};
use zporter_standin::Variant;

#[test]
fn a_copy_is_pushed_over_its_live_site_and_what_is_the_live_sites_stays() {
    let Some(server) = server() else { return };
    for variant in [
        Variant::WordPress,
        Variant::Joomla310,
        Variant::PrestaShop16,
        Variant::OpenCart3,
        Variant::PhpBb33,
        Variant::Drupal7,
    ] {
        let bench = Bench::new();
        let (site, database) = bench.live(server, variant);
        let _ = site.write_outside(&bench.path("outside"));
        let _ = std::fs::remove_dir_all(bench.path("old/sites/members.fernhollow.example"));
        let p = &site.prefix;
        // A table of the system's own, and one that grows, where the system has such a one.
        let menu = format!(
            "CREATE TABLE `{p}work` (id int PRIMARY KEY, t text);\nINSERT INTO `{p}work` VALUES (1, 'first {}/a');\n",
            site.address
        );
        server.load_with_client(&database, &menu);
        let orders = |what: &str| format!("{what} `{p}wc_orders`");
        if variant == Variant::WordPress {
            let made = format!(
                "{} (id int PRIMARY KEY, t text);\n{} VALUES (1, 'old');\n",
                orders("CREATE TABLE"),
                orders("INSERT INTO")
            );
            server.load_with_client(&database, &made);
        }
        let new = server.new_database();
        bench.write("pw", &new.password);
        let url = new.tcp_url(server);
        let to = ["--address", "http://dev.test/d", "--database", &url, "--database-password-file", "pw"];
        let quiet = ["--set", "maintenance=on", "--site-name", "Copy", "--admin-email", "dev@dev.test"];
        let made = bench.run(&[&["clone", "old", "dev"], &to[..], &quiet].concat());
        assert!(made.code <= 1, "{variant:?} {}{}", made.stdout, made.stderr);
        let states = |folder: &str| {
            let states = bench.run(&["switch", folder, "--json"]).expect(0).json();
            let all = states.as_array().unwrap().iter();
            all.map(|s| format!("{} {} {}", s["name"], s["place"], s["state"])).collect::<Vec<_>>()
        };
        let open = states("old");
        let live_rows = server.content(&database);
        // Work at the copy; life at the live site.
        let work = format!("UPDATE `{p}work` SET t = 'second http://dev.test/d/b';\n");
        server.load_with_client(&new, &work);
        bench.write("dev/new-part.php", "<?php // made at http://dev.test/d\n");
        std::thread::sleep(std::time::Duration::from_millis(2100));
        bench.write("old/came-since.txt", "at the live site");
        if variant == Variant::WordPress {
            server.load_with_client(
                &database,
                &format!("{} VALUES (2, 'bought since');\n", orders("INSERT INTO")),
            );
        }
        let before = (files(&bench.path("old")), server.content(&database));
        let other = bench.run(&["clone", "dev", "elsewhere", "--push"]);
        assert!(other.code > 1, "{variant:?} {}", other.stdout);
        let dry = bench.run(&["clone", "dev", "old", "--push", "--dry-run"]);
        assert!(dry.code <= 1, "{variant:?} {}{}", dry.stdout, dry.stderr);
        assert!(before == (files(&bench.path("old")), server.content(&database)), "{variant:?}");
        let done = bench.run(&["clone", "dev", "old", "--push"]);
        assert!(done.code <= 1, "{variant:?} {}{}", done.stdout, done.stderr);
        let now = server.content(&database);
        if variant == Variant::WordPress {
            assert!(now.contains(&format!("{} VALUES (2,'bought since')", orders("INSERT INTO"))), "{now}");
            assert!(dry.stdout.contains(&format!("1 in {p}wc_orders")), "{}", dry.stdout);
        }
        let own: Vec<&str> = now.lines().filter(|l| l.starts_with("INSERT") && !l.contains("`zp_")).collect();
        let own = own.join("\n");
        assert!(own.contains(&format!("second {}/b", site.address)), "{variant:?}: {own}");
        assert!(!own.contains("dev.test") && !own.contains("'Copy'"), "{variant:?}: {own}");
        // What nobody had ever set may be set to what it was by itself.
        let set =
            |states: &[String]| states.iter().filter(|s| s.ends_with("\"on\"")).cloned().collect::<Vec<_>>();
        assert_eq!(set(&states("old")), set(&open), "{variant:?}: switches stay");
        assert!(
            bench.path("old/new-part.php").exists() && bench.path("old/came-since.txt").exists(),
            "{variant:?}"
        );
        // The config is the live site's, byte for byte.
        let same = |files: &[(std::path::PathBuf, Vec<u8>)]| {
            let own = [
                "wp-config.php",
                "configuration.php",
                "config.php",
                "settings.inc.php",
                "sites/default/settings.php",
                ".htaccess",
                "robots.txt",
            ];
            let own = files.iter().filter(|(p, _)| own.iter().any(|o| p.ends_with(o)));
            own.cloned().collect::<Vec<_>>()
        };
        assert_eq!(same(&before.0), same(&files(&bench.path("old"))), "{variant:?}");
        drop(live_rows);
        bench.run(&["undo", "last"]).says(&["Undone"]);
        assert!(before.0 == files(&bench.path("old")), "{variant:?}: the live site is as it was");
        let rows = |content: &str| -> Vec<String> {
            content
                .lines()
                .filter(|l| l.starts_with("INSERT") && !l.contains("`zp_"))
                .map(str::to_string)
                .collect()
        };
        assert_eq!(rows(&before.1), rows(&server.content(&database)), "{variant:?}");
    }
}
