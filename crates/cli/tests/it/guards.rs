//! What is refused, with its exit code, what was found, and what to do next. Nothing is touched.

use super::common::mariadb::server;
use super::common::{Bench, NEW_PASSWORD, files, outcome};
use zporter_standin::{Site, Variant};

const NEW: [&str; 4] = ["--address", "http://new.example", "--database", "mysql://u@h/n"];

fn restore<'a>(more: &[&'a str]) -> Vec<&'a str> {
    [&["restore", "a.tar.zst", "new"], &NEW[..], more].concat()
}

#[test]
fn a_target_in_use_is_refused_and_stays_as_it_is() {
    let bench = Bench::new();
    bench.packed(Variant::PrestaShop16, "a.tar.zst");
    std::fs::create_dir(bench.path("new")).unwrap();
    bench.write("new/precious.txt", "x");
    bench
        .run(&restore(&["--dump-to", "n.sql"]))
        .expect(3)
        .says(&["precious.txt", "next: name a folder that is missing or empty"]);
    assert_eq!(files(&bench.path("new")).len(), 1);
    std::fs::remove_file(bench.path("new/precious.txt")).unwrap();
    bench.write("n.sql", "precious");
    bench.run(&restore(&["--dump-to", "n.sql"])).expect(3).says(&["n.sql already exists"]);
    bench.run(&restore(&["--dump-to", "new/n.sql"])).expect(3).says(&["inside of the site"]);
    assert_eq!(bench.read("n.sql"), "precious");
}

#[test]
fn a_database_in_use_and_wrong_credentials_are_refused_in_plain_words() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    bench.packed(Variant::PrestaShop16, "a.tar.zst");
    let database = server.new_database();
    server.load_with_client(&database, "CREATE TABLE precious (a INT);");
    let url = database.tcp_url(server);
    let args = ["restore", "a.tar.zst", "new", "--address", "http://n.example", "--database", &url];
    bench.run(&args).expect(3).says(&["precious", "next: name an empty database"]);
    let mut wrong = bench.command(&args);
    wrong.env("ZPORTER_DATABASE_PASSWORD", "fake-wrong");
    let refused = outcome(wrong).expect(4).says(&["refused the user or the password", "next:"]);
    assert!(!refused.stderr.contains("fake-wrong") && !refused.stderr.contains(NEW_PASSWORD));
    let nowhere = "mysql://u@127.0.0.1:1/n";
    let args = ["restore", "a.tar.zst", "new", "--address", "http://n.example", "--database", nowhere];
    bench.run(&args).expect(4).says(&["nothing answers"]);
    assert!(!bench.path("new").exists());
}

#[test]
fn hostile_statements_never_reach_the_server() {
    let Some(server) = server() else { return };
    for (statement, word) in [
        ("GRANT ALL ON *.* TO 'x'@'%';", "GRANT"),
        ("CREATE USER x IDENTIFIED BY 'fake';", "CREATE USER"),
        ("LOAD DATA INFILE '/etc/passwd' INTO TABLE t;", "LOAD"),
        ("INSERT INTO t VALUES (LOAD_FILE('/etc/passwd'));", "LOAD_FILE"),
        ("INSERT INTO mysql.user VALUES (1);", "database of its own"),
        ("SET GLOBAL general_log = 1;", "GLOBAL"),
        ("SELECT 1 INTO OUTFILE '/tmp/x';", "SELECT"),
        ("USE a; USE b;", "several databases"),
        ("DELETE FROM t;", "DELETE"),
        ("DELIMITER $$\nDROP TABLE t; GRANT ALL ON *.* TO 'x'@'%' $$", "second statement"),
        ("DELIMITER $$\nINSERT INTO t VALUES (1); DROP TABLE t $$", "second statement"),
        ("DELIMITER $$\nINSERT INTO t VALUES (1; DROP TABLE t) $$", "second statement"),
        ("SET @x = (SELECT LOAD_FILE('/etc/passwd'));", "SELECT"),
        ("SET NAMES gbk;", "gbk"),
        ("INSERT INTO t VALUES (1) ON DUPLICATE KEY UPDATE a = LOAD_FILE('/x');", "LOAD_FILE"),
        ("INSTALL PLUGIN x SONAME 'y';", "INSTALL"),
        ("CREATE TABLE u (a INT) DATA DIRECTORY='/tmp';", "DATA DIRECTORY"),
        ("\\! touch /tmp/zporter-evil\n;", "\\ is no statement"),
    ] {
        let bench = Bench::new();
        let site = bench.site(Variant::PrestaShop16);
        bench.write("old/backup.sql", format!("CREATE TABLE t (a TEXT);\n{statement}\n"));
        zip_folder(&bench);
        let database = server.new_database();
        let url = database.socket_url(server);
        let args = [
            "restore",
            "plain.zip",
            "new",
            "--address",
            "http://n.example",
            "--database",
            &url,
            "--old-address",
            &site.address,
        ];
        let done = bench.run(&args);
        assert_eq!(done.code, 3, "{statement}: {}{}", done.stdout, done.stderr);
        done.says(&[word, if statement.starts_with("DELIMITER") { "line 3" } else { "line 2" }]);
    }
}

fn zip_folder(bench: &Bench) {
    let mut zip = zip::ZipWriter::new(std::fs::File::create(bench.path("plain.zip")).unwrap());
    for (path, content) in files(&bench.path("old")) {
        zip.start_file(format!("public_html/{}", path.display()), zip::write::SimpleFileOptions::default())
            .unwrap();
        std::io::Write::write_all(&mut zip, &content).unwrap();
    }
    zip.finish().unwrap();
}

#[test]
fn a_plain_zip_with_a_dump_inside_is_restored_without_its_cache_files() {
    let bench = Bench::new();
    let site = bench.site(Variant::PrestaShop16);
    std::fs::copy(bench.path("old.sql"), bench.path("old/db_backup.sql")).unwrap();
    zip_folder(&bench);
    let args = [
        "restore",
        "plain.zip",
        "new",
        "--address",
        "http://n.example/x",
        "--database",
        "mysql://u@h/n",
        "--dump-to",
        "n.sql",
        "--old-root",
        &site.root,
    ];
    bench.run(&args).expect(0).says(&["/x/", "left out"]);
    let dump = bench.read("n.sql");
    assert!(
        dump.contains("'n.example','n.example','/x/'") && !dump.contains("smarty_cache` VALUES"),
        "{dump}"
    );
    assert!(bench.path("new/cache/smarty/compile/index.php").exists());
    for gone in ["cache/class_index.php", "cache/smarty/compile/a1", "db_backup.sql"] {
        assert!(!bench.path(&format!("new/{gone}")).exists(), "{gone}");
    }
    assert!(bench.read("new/config/settings.inc.php").contains("define('_DB_NAME_', 'n');"));
}

#[test]
fn an_unknown_old_address_is_asked_for_with_candidates() {
    let bench = Bench::new();
    let site = Site::of(Variant::Joomla310);
    site.write(&bench.path("old")).unwrap();
    let config = bench
        .read("old/configuration.php")
        .replace("office@fernhollow.example", "a@mail.example")
        .replace(".fernhollow.example'", "'");
    std::fs::remove_file(bench.path("old/configuration.php")).unwrap();
    bench.write("old/configuration.php", config);
    bench.write("old.sql", site.dump());
    bench
        .run(&["survey", "old", "--dump", "old.sql"])
        .expect(0)
        .says(&["not known", "http://www.fernhollow.example, named"]);
    bench
        .run(&["pack", "old", "--dump", "old.sql", "-o", "a.tar.zst"])
        .expect(0)
        .says(&["a restore will ask for it"]);
    let asked = bench.run(&restore(&["--dump-to", "n.sql"])).expect(2);
    let _ = asked.says(&["the content names http://www.fernhollow.example", "--old-address URL"]);
    bench
        .run(&restore(&["--dump-to", "n.sql", "--old-address", &site.address]))
        .says(&["Restored"])
        .expect(1);
}

#[test]
fn a_pack_is_whole_or_not_there() {
    let bench = Bench::new();
    bench.site(Variant::Joomla310);
    bench
        .run(&["pack", "old", "--dump", "old.sql", "-o", "old/site.zip"])
        .expect(3)
        .says(&["where a browser could fetch it"]);
    bench.run(&["pack", "old", "--dump", "old.sql", "-o", "site.rar"]).expect(2).says(&[".tar.zst"]);
    bench.run(&["pack", "old", "-o", "site.zip"]).expect(4).says(&["--dump FILE"]);
    let cut = bench.read("old.sql");
    bench.write("cut.sql", &cut[..cut.len() / 2]);
    bench
        .run(&["pack", "old", "--dump", "cut.sql", "-o", "site.zip"])
        .expect(5)
        .says(&["breaks off in line"]);
    bench.write("pg.sql", "--\n-- PostgreSQL database dump\n--\n");
    bench
        .run(&["pack", "old", "--dump", "pg.sql", "-o", "empty.zip"])
        .expect(1)
        .says(&["the dump holds no rows"]);
    let left: Vec<_> = std::fs::read_dir(bench.path("")).unwrap().flatten().map(|e| e.file_name()).collect();
    assert!(
        left.iter()
            .all(|n| !n.to_string_lossy().contains("site") && !n.to_string_lossy().starts_with(".zporter")),
        "{left:?}"
    );
    bench
        .run(&["pack", "old", "--dump", "old.sql"])
        .expect(0)
        .says(&["home/.local/share/zporter/archives/www.fernhollow.example-"]);
}

#[test]
fn wrong_usage_says_what_to_write_instead() {
    let bench = Bench::new();
    bench.packed(Variant::PrestaShop16, "a.tar.zst");
    let with = |args: &[&str]| bench.run(&[&["restore", "a.tar.zst", "new"], args].concat());
    with(&["--address", "new.example"]).expect(2).says(&["https://www.fernhollow.example/base"]);
    with(&["--address", "http://n.example"]).expect(2).says(&["--dump-to"]);
    with(&["--address", "http://n.example", "--database", "mysql://u:fake-p@h/n"])
        .expect(2)
        .says(&["--database-password-file FILE"]);
    with(&["--address", "http://n.example", "--database", "pg://u@h/n"])
        .expect(2)
        .says(&["mysql://USER@HOST"]);
    let mut no_password = bench.command(&[
        "restore",
        "a.tar.zst",
        "new",
        "--address",
        "http://n.example",
        "--database",
        "mysql://u@h/n",
    ]);
    no_password.env_remove("ZPORTER_DATABASE_PASSWORD").stdin(std::process::Stdio::null());
    outcome(no_password).expect(2).says(&["ZPORTER_DATABASE_PASSWORD"]);
    std::fs::create_dir(bench.path("empty")).unwrap();
    bench
        .run(&["survey", "empty"])
        .expect(2)
        .says(&["Joomla: looked for configuration.php", "PrestaShop: looked for config/settings.inc.php"]);
    bench.run(&["survey", "nowhere"]).expect(4).says(&["no folder that can be read"]);
}
