//! Sites of systems that nobody knows: files, a database that somebody names, and texts that somebody names.

use super::common::Bench;
use super::common::mariadb::server;

const OLD: &str = "http://plates.fernhollow.example/archive";

#[test]
fn a_first_definition_is_drafted_from_a_site_and_knows_it() {
    let bench = Bench::new();
    for folder in ["old/inc", "old/cache", "old/uploads"] {
        std::fs::create_dir_all(bench.path(folder)).unwrap();
    }
    bench.write("old/index.php", "<?php require 'inc/config.php';\n");
    bench.write("old/inc/config.php", "<?php\n$db_host = 'localhost';\n$db_user = 'plates';\n$db_pass = 'fake-secret-word';\n$db_name = 'plates';\n$table_prefix = 'pl_';\n$base_url = 'http://plates.fernhollow.example/archive';\n");
    let drafted = bench.run(&["systems", "--draft", "old"]).expect(0).stdout;
    for wanted in [
        "role = \"database-host\"",
        "role = \"table-prefix\"",
        "role = \"address\"",
        "path = \"cache\"",
        "path = \"uploads\"",
    ] {
        assert!(drafted.contains(wanted), "{wanted}\n{drafted}");
    }
    assert!(!drafted.contains("fake-secret-word"), "{drafted}");
    bench.write("my.toml", &drafted);
    bench.run(&["systems", "--check", "my.toml"]).expect(0);
    // It can be worked with at once.
    let own = bench.path("home/.config/zporter/systems");
    std::fs::create_dir_all(&own).unwrap();
    std::fs::copy(bench.path("my.toml"), own.join("my-old.toml")).unwrap();
    let seen = bench.run(&["survey", "old"]);
    assert!(seen.stdout.contains("my-old") && seen.stdout.contains("plates.fernhollow.example"), "{seen:?}");
    bench.run(&["systems", "--draft", "nowhere"]).expect(2);
}

/// A site as somebody once wrote it himself.
fn write(bench: &Bench) {
    for folder in ["old/templates/night/a", "old/img"] {
        std::fs::create_dir_all(bench.path(folder)).unwrap();
    }
    bench.write("old/index.php", "<?php require 'settings.php';\n");
    bench.write("old/settings.php", format!("<?php $home = '{OLD}'; $db = 'plates';\n"));
    bench
        .write("old/templates/night/a/style.css", format!("body {{ background: url({OLD}/img/sky.png) }}\n"));
    bench.write("old/templates/night/b.txt", format!("{OLD} is no style\n"));
    bench.write("old/img/sky.png", "png");
}

const SQL: &str = "CREATE TABLE plates (id int PRIMARY KEY, html text);\nINSERT INTO plates VALUES (1, '<a href=\"http://plates.fernhollow.example/archive/1\">x</a>'), (2, 'nothing');\nCREATE TABLE log (line text);\n";

#[test]
fn a_site_of_an_unknown_system_is_carried_as_files_and_a_database() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    write(&bench);
    let database = server.new_database();
    server.load_with_client(&database, SQL);
    bench.write("pw", &database.password);
    let url = database.tcp_url(server);
    bench.run(&["survey", "old"]).expect(2).says(&["--old-database"]);
    let of = ["--database", &url, "--database-password-file", "pw"];
    bench.run(&[&["survey", "old"], &of[..]].concat()).expect(0).says(&["unknown system", "plates"]);
    let packed = bench.run(&[&["pack", "old", "-o", "a.tar.zst", "--old-address", OLD], &of[..]].concat());
    assert!(packed.code <= 1, "{}{}", packed.stdout, packed.stderr);
    let new = server.new_database();
    let new_url = new.tcp_url(server);
    let to = [
        "--address",
        "https://n.test/p",
        "--database",
        &new_url,
        "--database-password-file",
        "pw",
        "--text",
        "templates/**/*.css",
        "--text",
        "settings.php",
    ];
    let restored = bench.run(&[&["restore", "a.tar.zst", "new"], &to[..]].concat());
    assert!(restored.code <= 1, "{}{}", restored.stdout, restored.stderr);
    let text = |path: &str| std::fs::read_to_string(bench.path(path)).unwrap();
    let right = |folder: &str, content: String| {
        assert!(content.contains("https://n.test/p/1") && !content.contains("fernhollow"), "{content}");
        assert!(
            text(&format!("{folder}/templates/night/a/style.css")).contains("https://n.test/p/img/sky.png")
        );
        assert!(text(&format!("{folder}/settings.php")).contains("'https://n.test/p'"));
        assert!(text(&format!("{folder}/templates/night/b.txt")).contains(OLD), "what nobody named stays");
        assert!(bench.path(&format!("{folder}/img/sky.png")).exists());
    };
    right("new", server.content(&new));
    bench.run(&["undo", "last", "--database-password-file", "pw"]).says(&["Undone"]);
    assert!(!bench.path("new").exists());
    let old = ["--old-database", &url, "--old-database-password-file", "pw", "--old-address", OLD];
    let cloned = bench.run(&[&["clone", "old", "two"], &to[..], &old].concat());
    assert!(cloned.code <= 1, "{}{}", cloned.stdout, cloned.stderr);
    right("two", server.content(&new));
    // Files alone, and a dump.
    bench.run(&["pack", "old", "-o", "files.zip", "--without", "database"]).says(&["Packed"]);
    bench.write("old.sql", SQL);
    bench.run(&["pack", "old", "-o", "b.zip", "--dump", "old.sql", "--old-address", OLD]).says(&["Packed"]);
    // A folder of sites tells which there are.
    zporter_standin::Site::of(zporter_standin::Variant::OpenCart3).write(&bench.path("all/shop")).unwrap();
    zporter_standin::Site::of(zporter_standin::Variant::WordPress)
        .write(&bench.path("all/deep/blog"))
        .unwrap();
    std::fs::create_dir_all(bench.path("all/empty")).unwrap();
    bench.run(&["survey", "all"]).expect(2).says(&["shop (OpenCart", "blog (WordPress"]);
}
