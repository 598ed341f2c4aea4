//! Every stand-in through the whole job, its pages opened by real PHP from the copy while the original is gone.

use super::common::mariadb::{Database, Server, server};
use super::common::php::{self, Php};
use super::common::{Bench, NEW_PASSWORD, nothing_points_back};
use std::os::unix::fs::PermissionsExt;
use zporter_standin::{Site, VARIANTS, Variant};

/// The lines whose story is told in every detail here; `systems` takes all of them through the same job.
const LINES: [Variant; 7] = [
    Variant::Joomla15,
    Variant::Joomla25,
    Variant::Joomla310,
    Variant::Joomla5,
    Variant::PrestaShop14,
    Variant::PrestaShop16,
    Variant::ThirtyBees,
];

fn is_shop(variant: Variant) -> bool {
    matches!(variant, Variant::PrestaShop14 | Variant::PrestaShop16 | Variant::ThirtyBees)
}

fn config_file(variant: Variant) -> &'static str {
    if is_shop(variant) { "config/settings.inc.php" } else { "configuration.php" }
}

/// Restores `site.<ending>` under a port of its own and opens it.
fn restore_and_open(bench: &Bench, server: &Server, site: &Site, archive: &str, extra: &[&str]) -> Database {
    let database = server.new_database();
    let port = php::port();
    // A shop goes into a subfolder, the others to the root of a host of their own.
    let base = if is_shop(site.variant) { "/new/try" } else { "" };
    let web = bench.path("web");
    let target = if base.is_empty() { web.clone() } else { web.join("new/try") };
    std::fs::create_dir_all(target.parent().unwrap()).unwrap();
    let address = format!("http://copy.fernhollow.test:{port}{base}");
    let url = if is_shop(site.variant) { database.tcp_url(server) } else { database.socket_url(server) };
    let target_text = target.display().to_string();
    let mut args =
        vec!["restore", archive, &target_text, "--address", &address, "--database", &url, "--json"];
    args.extend(extra);
    let report = bench.run(&args);
    assert!(report.code <= 1, "{}{}", report.stdout, report.stderr);
    let report = report.json();

    let config = target.join(config_file(site.variant));
    php::lint(&config);
    let php = Php::serve(&web, port);
    let host = format!("copy.fernhollow.test:{port}");
    let (status, page) = php.get(&host, &format!("{base}/index.php"));
    assert_eq!(status, 200, "{page}");
    assert!(!page.contains("BROKEN") && !page.contains("MISSING") && !page.contains("Warning"), "{page}");
    if is_shop(site.variant) {
        assert!(
            page.contains(&format!("href=\"{base}/star-map\"")) && page.contains("angebote-für-alle"),
            "{page}"
        );
        assert!(page.contains("compiled: 0"), "cached pages are not carried: {page}");
        let (status, redirect) = php.get("other.example", &format!("{base}/index.php"));
        assert!(status == 302 && redirect.contains(&format!("Location: {address}/")), "{redirect}");
    } else {
        assert!(
            page.contains(&format!("href=\"{address}/forum\"")) && page.contains("sessions: 0"),
            "{page}"
        );
        assert!(
            page.contains(&format!("{}/images/m31.jpg", target.display())),
            "the path in the nested value: {page}"
        );
        assert!(page.contains("log_path: writable"), "{page}");
    }
    nothing_points_back(&report, site, &target, &server.content(&database));

    // Wrong credentials are refused, so the page above came from the new database.
    let text = std::fs::read_to_string(&config).unwrap();
    let spoiled = text.replace(&database.user, "nobody");
    std::fs::set_permissions(&config, std::fs::Permissions::from_mode(0o644)).unwrap();
    std::fs::write(&config, spoiled).unwrap();
    assert_eq!(php.get(&host, &format!("{base}/index.php")).0, 500);
    database
}

#[test]
fn every_stand_in_opens_from_its_new_place() {
    let Some(server) = server() else { return };
    if !php::there() {
        return;
    }
    for variant in LINES {
        let bench = Bench::new();
        let site = bench.site(variant);
        let mode = |p: &str| std::fs::metadata(bench.path(p)).unwrap().permissions().mode() & 0o777;
        let old_mode = mode(&format!("old/{}", config_file(variant)));
        let survey = bench.run(&["survey", "old", "--dump", "old.sql", "--json"]).expect(0).json();
        assert_eq!(survey["system"]["version"], site.version());
        let product = match variant {
            Variant::ThirtyBees => "thirty bees",
            _ if is_shop(variant) => "PrestaShop",
            _ => "Joomla",
        };
        assert_eq!(survey["system"]["name"], product);
        assert_eq!(survey["address"]["address"], site.address);
        assert_eq!(survey["database"]["password"], "set");
        assert_eq!(survey["database"]["name"], site.database[3]);
        bench
            .run(&["pack", "old", "--dump", "old.sql", "-o", "site.tar.zst", "--note", "a note"])
            .expect(0)
            .says(&["site.tar.zst"]);
        bench.run(&["verify", "site.tar.zst"]).expect(0).says(&["Whole", "a note"]);
        std::fs::remove_dir_all(bench.path("old")).unwrap();
        let _ = restore_and_open(&bench, server, &site, "site.tar.zst", &["--old-root", &site.root]);
        if !is_shop(variant) {
            assert_eq!(old_mode, 0o444);
        }
    }
}

#[test]
fn a_site_on_a_live_server_is_packed_from_there_in_every_container() {
    let Some(server) = server() else { return };
    if !php::there() {
        return;
    }
    for (variant, ending) in [(Variant::Joomla310, "tar.gz"), (Variant::PrestaShop16, "zip")] {
        let bench = Bench::new();
        let mut site = Site::of(variant);
        site.root = bench.path("old").display().to_string();
        let old = server.database("fake'Old\\pass %31");
        server.load_with_client(&old, &site.dump());
        // Things beyond rows: a view, a trigger, a routine, bytes, a generated column, an odd table name.
        server.load_with_client(
            &old,
            "CREATE VIEW v2 AS SELECT 'x' AS a; CREATE VIEW v1 AS SELECT a FROM v2;\n\
             CREATE TABLE `odd na``me` (a INT PRIMARY KEY, b VARBINARY(20), g INT AS (a+1) STORED, d DATETIME DEFAULT '0000-00-00', t BIT(3));\n\
             SET sql_mode=''; INSERT INTO `odd na``me` (a,b,d,t) VALUES (1,x'00ff27','0000-00-00',b'101'),(2,'',NULL,NULL);\n\
             DELIMITER ;;\nCREATE TRIGGER tr BEFORE INSERT ON `odd na``me` FOR EACH ROW BEGIN SET @x = 'a;b'; END;;\n\
             CREATE PROCEDURE pr() BEGIN SELECT 1; SELECT 2; END;;\n",
        );
        site.database = [
            format!("localhost:{}", server.socket),
            old.user.clone(),
            old.password.clone(),
            old.name.clone(),
        ];
        site.write(&bench.path("old")).unwrap();
        let archive = format!("site.{ending}");
        bench
            .run(&["pack", "old", "-o", &archive, "--old-address", &site.address, "--tables", "*"])
            .expect(1)
            .says(&["the procedure pr could not be read"]);
        bench.run(&["verify", &archive]).expect(0).says(&["Whole"]);
        let before = server.content(&old);
        std::fs::remove_dir_all(bench.path("old")).unwrap();
        let new = restore_and_open(&bench, server, &site, &archive, &["--tables", "*"]);
        let after = server.content(&new);
        for same in ["VALUES (1,0x00FF27,2,'0000-00-00 00:00:00',0x05)", "SET @x = 'a;b'"] {
            assert!(after.contains(same), "{same}\n{after}");
        }
        assert!(after.contains("`v1`") && after.contains("`v2`"), "{after}");
        assert_eq!(server.content(&old), before, "the source is only read");
    }
}

#[test]
fn a_read_only_config_keeps_its_mode_and_the_skeleton_is_there() {
    let bench = Bench::new();
    bench.packed(Variant::Joomla310, "site.tar.zst");
    let restored = bench.run(&[
        "restore",
        "site.tar.zst",
        "new site",
        "--address",
        "https://new.example",
        "--database",
        "mysql://u@h/n",
        "--dump-to",
        "new.sql.gz",
    ]);
    restored.expect(1).says(&["custom.css", "new site"]);
    let mode = |p: &str| std::fs::metadata(bench.path(p)).unwrap().permissions().mode() & 0o777;
    assert_eq!(mode("new site/configuration.php"), 0o444);
    for there in [
        "cache/index.html",
        "tmp/index.html",
        "administrator/logs/index.html",
        "media/empty",
        "images/übersicht.png",
    ] {
        assert!(bench.path(&format!("new site/{there}")).exists(), "{there}");
    }
    for gone in ["cache/page", "tmp/upload_1.part", "administrator/cache/autoload_psr4.php"] {
        assert!(!bench.path(&format!("new site/{gone}")).exists(), "{gone}");
    }
    let config = bench.read("new site/configuration.php");
    assert!(
        config.contains("public $host = 'h';") && config.contains("// public $host = 'old.test';"),
        "{config}"
    );
    let mut dump = String::new();
    let file = std::fs::File::open(bench.path("new.sql.gz")).unwrap();
    std::io::Read::read_to_string(&mut flate2::read::MultiGzDecoder::new(file), &mut dump).unwrap();
    assert!(dump.contains("https://new.example/forum") && !dump.contains("fake1"), "{dump}");
    assert!(!dump.contains(NEW_PASSWORD));
}

#[test]
fn php_reads_the_config_as_it_was_meant() {
    if !php::there() {
        return;
    }
    for variant in LINES {
        let bench = Bench::new();
        let site = bench.packed(variant, "site.tar.zst");
        bench
            .run(&[
                "restore",
                "site.tar.zst",
                "new",
                "--address",
                "https://new.example/x",
                "--database",
                "mysql://nu@dbh:3310/nn",
                "--dump-to",
                "n.sql",
            ])
            .says(&["Restored"]);
        let show = "error_reporting(0); $f = $argv[1]; require $f; echo json_encode(class_exists('JConfig') ? (array) new JConfig : get_defined_constants(true)['user']);";
        let read = |p: &str| -> serde_json::Value {
            serde_json::from_str(&php::run(show, &[&bench.path(&format!("{p}/{}", config_file(variant)))]))
                .unwrap()
        };
        let (old, new) = (read("old"), read("new"));
        let keys = if is_shop(variant) {
            ["_DB_SERVER_", "_DB_NAME_", "_DB_USER_", "_DB_PASSWD_"]
        } else {
            ["host", "db", "user", "password"]
        };
        let values: Vec<_> = keys.iter().map(|k| new[k].as_str().unwrap()).collect();
        assert_eq!(values, ["dbh:3310", "nn", "nu", NEW_PASSWORD]);
        assert_eq!(old[keys[3]], site.database[2]);
        let may_change = ["log_path", "tmp_path", "live_site", "cookie_domain", "__PS_BASE_URI__"];
        for (key, value) in old.as_object().unwrap() {
            if !keys.contains(&key.as_str()) && !may_change.contains(&key.as_str()) {
                assert_eq!(new[key], *value, "{key}");
            }
        }
    }
}

#[test]
fn every_stand_in_opens_where_it_is_shipped_with_all_that_years_added() {
    let Some(server) = server() else { return };
    if !php::there() {
        return;
    }
    let pages = 20;
    for variant in VARIANTS.into_iter().filter(|v| !matches!(v, Variant::Dnn5 | Variant::Dnn9)) {
        let bench = Bench::new();
        let database = server.database("fake'Old\\pass %31");
        let port = php::port();
        let (web, storage) = (bench.path("web"), bench.path("storage"));
        let folder = web.join("site");
        std::fs::create_dir_all(&folder).unwrap();
        let host = match variant {
            Variant::Drupal6 => format!("127.0.0.1:{}", server.port),
            _ => format!("localhost:{}", server.socket),
        };
        let site = Site {
            address: format!("http://old.fernhollow.test:{port}/site"),
            root: folder.display().to_string(),
            storage: storage.display().to_string(),
            database: [host, database.user.clone(), database.password.clone(), database.name.clone()],
            pages,
            ..Site::of(variant)
        };
        site.write(&folder).unwrap();
        site.write_outside(&storage).unwrap();
        server.load_with_client(&database, &site.dump());
        let php = Php::serve(&web, port);
        let (status, page) = php.get(&format!("old.fernhollow.test:{port}"), "/site/index.php");
        assert_eq!(status, 200, "{variant:?}: {page}");
        assert!(!page.contains("BROKEN") && !page.contains("MISSING"), "{variant:?}: {page}");
        assert!(page.contains("The seeing was"), "{variant:?} shows its pages: {page}");
        let pictures = super::common::files(&folder).into_iter();
        let pictures: Vec<_> =
            pictures.filter(|(p, _)| p.display().to_string().contains("/night-")).collect();
        assert_eq!(pictures.len(), pages / 2, "{variant:?}");
        assert!(pictures.iter().all(|(_, png)| png.starts_with(b"\x89PNG") && png.len() > 10_000));
        let content = server.content(&database);
        assert_eq!(content.matches("@visitors.example").count(), 3 * pages, "{variant:?}");
    }
}
