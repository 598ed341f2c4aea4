//! A system whose config is JSON: a definition and this fixture are all there is to it.

use super::common::{Bench, files};

const CONFIG: &str = r#"{
  // hands off: written by the installer
  "url": "https://blog.fernhollow.example",
  "server": {"port": 2368, "host": "127.0.0.1"},
  "database": {
    "client": "mysql",
    "connection": {"host": "127.0.0.1", "user": "blog", "password": "fake-\"Old\"\\pass", "database": "fernhollow_ghost"},
  },
  "mail": {"transport": "SMTP", "from": "office@blog.fernhollow.example", "options": {"auth": {"pass": "fake-mail"}}},
  "paths": {"contentPath": "/home/fernhollow/ghost/content"},
  "logging": {"transports": ["file", "stdout"], "path": "/home/fernhollow/ghost/content/logs"},
}
"#;

const DUMP: &str = "CREATE TABLE `posts` (`id` varchar(24) NOT NULL, `lexical` longtext, `html` longtext, PRIMARY KEY (`id`));\n\
INSERT INTO `posts` VALUES ('a1','{\\\"root\\\":{\\\"url\\\":\\\"https:\\\\/\\\\/blog.fernhollow.example\\\\/moon\\\"}}','<img src=\\\"https://blog.fernhollow.example/content/images/moon.png\\\">'),('a2','__GHOST_URL__/x','');\n\
CREATE TABLE `settings` (`id` varchar(24) NOT NULL, `key` varchar(50), `value` text, PRIMARY KEY (`id`));\n\
INSERT INTO `settings` VALUES ('s1','title','Night sky'),('s2','icon','https://blog.fernhollow.example/content/images/icon.png');\n\
CREATE TABLE `sessions` (`id` varchar(24) NOT NULL, PRIMARY KEY (`id`));\nINSERT INTO `sessions` VALUES ('x');\n";

#[test]
fn a_site_with_a_json_config_moves_and_nothing_else_in_it_does() {
    let bench = Bench::new();
    for folder in ["content/images", "content/themes/night", "content/logs", "content/settings"] {
        std::fs::create_dir_all(bench.path("old").join(folder)).unwrap();
    }
    bench.write("old/config.production.json", CONFIG);
    bench.write("old/.ghost-cli", "{\"active-version\": \"5.82.2\"}");
    bench.write("old/content/images/moon.png", "PNG");
    bench.write(
        "old/content/themes/night/robots.txt",
        "Sitemap: https://blog.fernhollow.example/sitemap.xml\n",
    );
    bench.write("old/content/logs/x.log", "https://blog.fernhollow.example\n");
    bench.write("old.sql", DUMP);
    bench.run(&["survey", "old", "--dump", "old.sql"]).expect(0).says(&[
        "Ghost 5.82.2",
        "https://blog.fernhollow.example",
        "mysql://blog@127.0.0.1/fernhollow_ghost",
    ]);
    let to = ["--address", "http://dev.fernhollow.test:8080/n", "--database", "mysql://dev@db.test:3310/dev"];
    let more = ["--old-root", "/home/fernhollow/ghost", "--site-name", "Copy"];
    bench.run(&["pack", "old", "--dump", "old.sql", "-o", "a.zip"]).expect(0);
    let ways = [
        &["restore", "a.zip", "one", "--dump-to", "one.sql"][..],
        &["clone", "old", "two", "--dump", "old.sql", "--dump-to", "two.sql"],
    ];
    for way in ways {
        // A copy beside its site says what of it stays live.
        let code = i32::from(way[0] == "clone");
        bench.run(&[way, &to, &more].concat()).expect(code).says(&["config.production.json", "robots.txt"]);
    }
    // But for their own folders they are the same.
    let named = |folder: &str| {
        let own = bench.path(folder).display().to_string();
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).replace(&own, "HERE");
        let files: Vec<_> = files(&bench.path(folder)).iter().map(|(p, b)| (p.clone(), text(b))).collect();
        (files, text(bench.read(&format!("{folder}.sql")).as_bytes()))
    };
    assert_eq!(named("one"), named("two"));
    let expected = CONFIG
        .replace("https://blog.fernhollow.example", "http://dev.fernhollow.test:8080/n")
        .replace(
            "\"host\": \"127.0.0.1\", \"user\": \"blog\"",
            "\"host\": \"db.test\", \"port\": \"3310\", \"user\": \"dev\"",
        )
        .replace(
            r#"fake-\"Old\"\\pass"#,
            serde_json::to_string(super::common::NEW_PASSWORD).unwrap()[1..].trim_end_matches('"'),
        )
        .replace("fernhollow_ghost", "dev")
        .replace("/home/fernhollow/ghost/", &format!("{}/", bench.path("one").display()));
    assert_eq!(bench.read("one/config.production.json"), expected);
    let sql = bench.read("one.sql");
    assert!(sql.contains(r"http:\\/\\/dev.fernhollow.test:8080\\/n\\/moon"), "{sql}");
    assert!(
        sql.contains("'title','Copy'") && !sql.contains("blog.fernhollow") && !sql.contains("VALUES ('x')"),
        "{sql}"
    );
    assert!(!bench.path("one/content/logs/x.log").exists());
}
