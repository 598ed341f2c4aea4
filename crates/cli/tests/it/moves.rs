//! Every kind of move an address can make, on a shop (addresses in rows) and on a site (addresses in content only).

use super::common::{Bench, files, holds};
use std::os::unix::fs::PermissionsExt;
use std::process::Stdio;
use std::time::{Duration, Instant};
use zporter_standin::{Site, Variant};

struct Move {
    why: &'static str,
    old: &'static str,
    new: &'static str,
    /// Host and base path as the shop's row must hold them.
    row: (&'static str, &'static str),
}

const MOVES: [Move; 10] = [
    Move {
        why: "subfolder to root",
        old: "https://s.fern.example/astro",
        new: "https://new.example",
        row: ("new.example", "/"),
    },
    Move {
        why: "root to subfolder",
        old: "https://s.fern.example",
        new: "https://s.fern.example/shop",
        row: ("s.fern.example", "/shop/"),
    },
    Move {
        why: "new contains old",
        old: "https://fern.example/shop",
        new: "https://dev.fern.example/shop-dev",
        row: ("dev.fern.example", "/shop-dev/"),
    },
    Move {
        why: "old contains new",
        old: "https://dev.fern.example/a",
        new: "https://fern.example/a",
        row: ("fern.example", "/a/"),
    },
    Move {
        why: "port only",
        old: "http://fern.example:8080/a",
        new: "http://fern.example:8081/a",
        row: ("fern.example:8081", "/a/"),
    },
    Move {
        why: "http to https",
        old: "http://fern.example/a",
        new: "https://fern.example/a",
        row: ("fern.example", "/a/"),
    },
    Move {
        why: "trailing slash given",
        old: "https://fern.example/a",
        new: "https://new.example/b/",
        row: ("new.example", "/b/"),
    },
    Move {
        why: "usual port given",
        old: "https://fern.example/a",
        new: "https://new.example:443/b",
        row: ("new.example", "/b/"),
    },
    Move {
        why: "capital letters given",
        old: "https://fern.example/a",
        new: "HTTPS://New.Example/B",
        row: ("new.example", "/B/"),
    },
    Move {
        why: "letters beyond ASCII",
        old: "https://fern.example/a",
        new: "https://stern-schön.example",
        row: ("xn--stern-schn-mcb.example", "/"),
    },
];

fn restored(site: &Site, new: &str) -> (Bench, String) {
    let bench = Bench::new();
    site.write(&bench.path("old")).unwrap();
    bench.write("old.sql", site.dump());
    bench
        .run(&["pack", "old", "--dump", "old.sql", "-o", "a.tar.zst", "--old-address", &site.address])
        .expect(0)
        .says(&["Packed"]);
    let args = [
        "restore",
        "a.tar.zst",
        "new",
        "--address",
        new,
        "--database",
        "mysql://u@h/n",
        "--dump-to",
        "n.sql",
        "--old-root",
        &site.root,
    ];
    let done = bench.run(&args);
    assert!(done.code <= 1, "{}{}", done.stdout, done.stderr);
    let dump = bench.read("n.sql");
    (bench, dump)
}

#[test]
fn a_shop_makes_every_move() {
    for m in MOVES {
        let site = Site { address: m.old.into(), ..Site::of(Variant::PrestaShop16) };
        let (bench, dump) = restored(&site, m.new);
        let (host, base) = m.row;
        let row = format!("(3,1,'{host}','{host}','{base}','',1,1)");
        assert!(dump.contains(&row), "{}: {row}\n{dump}", m.why);
        assert!(dump.contains(&format!("'PS_SHOP_DOMAIN','{host}'")), "{}", m.why);
        assert!(
            dump.contains("(1,2,'kids.fernhollow.example','kids.fernhollow.example','/','',1,1)"),
            "{}: the other shop stays",
            m.why
        );
        let htaccess = bench.read("new/.htaccess");
        assert!(
            htaccess.contains(&format!("REWRITEBASE:{base}]")) && htaccess.contains(&format!("^{host}$")),
            "{}: {htaccess}",
            m.why
        );
        let link = format!(
            "{}://{host}{base}content/3-paper",
            if m.new.to_lowercase().starts_with("https") { "https" } else { "http" }
        );
        assert!(dump.contains(&link), "{}: {link}\n{dump}", m.why);
    }
}

#[test]
fn a_site_without_stored_address_makes_every_move() {
    for m in MOVES {
        let site = Site { address: m.old.into(), ..Site::of(Variant::Joomla310) };
        let (_, dump) = restored(&site, m.new);
        let (host, base) = m.row;
        let new = format!("{host}{}", base.trim_end_matches('/'));
        assert!(dump.contains(&format!("//{new}/forum'")), "{}: {dump}", m.why);
        assert!(dump.contains(&new.replace('/', "\\\\/")), "{}: escaped slashes\n{dump}", m.why);
        assert!(
            dump.contains(&format!("%2F%2F{}", new.replace(':', "%3A").replace('/', "%2F"))),
            "{}: percent-encoding\n{dump}",
            m.why
        );
        // Done again to the same place, nothing is left to do.
        let twice = Bench::new();
        twice.write("in.sql", &dump);
        if !m.new.contains(m.old) {
            let again = twice.run(&["readdress", "in.sql", "-o", "out.sql", "--address", m.old, m.new]);
            assert!(
                again.code <= 1 && again.stdout.contains("0 values changed"),
                "{}: {}",
                m.why,
                again.stdout
            );
        }
    }
}

#[test]
fn a_forum_a_blog_and_a_souvenir_shop_make_every_move() {
    for m in MOVES {
        let (host, base) = m.row;
        let (name, port) = host.split_once(':').unwrap_or((host, ""));
        let secure = m.new.to_lowercase().starts_with("https");
        let bare = base.trim_end_matches('/');
        let scheme = if secure { "https" } else { "http" };
        let address = format!("{scheme}://{host}{bare}");
        let usual = if secure { "443" } else { "80" };
        let forum = Site { address: m.old.into(), ..Site::of(Variant::PhpBb33) };
        if !m.old.contains(":8080") {
            // The stand-in's rows know the usual ports only.
            let (_, dump) = restored(&forum, m.new);
            for row in [
                format!("('server_protocol','{scheme}://',0)"),
                format!("('server_name','{name}',0)"),
                format!("('server_port','{}',0)", if port.is_empty() { usual } else { port }),
                format!("('script_path','{}',0)", if bare.is_empty() { "/" } else { bare }),
            ] {
                assert!(dump.contains(&row), "{}: {row}\n{dump}", m.why);
            }
        }
        let blog = Site {
            address: m.old.into(),
            root: r"D:\sites\old blog".into(),
            ..Site::of(Variant::WordPressNetwork)
        };
        let (bench, dump) = restored(&blog, m.new);
        assert!(dump.contains(&format!("'home','{address}'")), "{}: {dump}", m.why);
        assert!(dump.contains(&format!("(2,'{host}','{base}club/')")), "{}: {dump}", m.why);
        let config = bench.read("new/wp-config.php");
        assert!(
            config.contains(&format!("'DOMAIN_CURRENT_SITE', '{host}'"))
                && config.contains(&format!("'PATH_CURRENT_SITE', '{base}'")),
            "{}: {config}",
            m.why
        );
        let root = bench.path("new").display().to_string();
        assert!(
            dump.contains(&format!("{root}\\\\/wp-content\\\\/x")),
            "{}: a Windows path becomes a Unix path\n{dump}",
            m.why
        );
        let shop = Site { address: m.old.into(), ..Site::of(Variant::OpenCart23) };
        let (bench, _) = restored(&shop, m.new);
        for (file, key, value) in [
            ("config.php", "HTTP_SERVER", format!("{address}/")),
            ("dome-office/config.php", "HTTPS_SERVER", format!("{address}/dome-office/")),
            ("dome-office/config.php", "HTTP_CATALOG", format!("{address}/")),
            ("config.php", "DIR_IMAGE", format!("{}/image/", bench.path("new").display())),
        ] {
            let config = bench.read(&format!("new/{file}"));
            assert!(
                config.contains(&format!("define('{key}', '{value}');")),
                "{}: {file} {key} {value}\n{config}",
                m.why
            );
        }
    }
}

#[test]
fn links_with_and_without_www_both_move() {
    let mut site = Site::of(Variant::Joomla310);
    let bench = Bench::new();
    site.write(&bench.path("old")).unwrap();
    let dump = site.dump().replace("https://elsewhere.example/x", "https://fernhollow.example/bare");
    bench.write("old.sql", &dump);
    bench
        .run(&["survey", "old", "--dump", "old.sql"])
        .expect(0)
        .says(&["also", "https://fernhollow.example"]);
    bench
        .run(&["pack", "old", "--dump", "old.sql", "-o", "a.zip"])
        .expect(0)
        .says(&["www.fernhollow.example"]);
    let args = [
        "restore",
        "a.zip",
        "new",
        "--address",
        "https://n.example/x",
        "--database",
        "mysql://u@h/n",
        "--dump-to",
        "n.sql",
    ];
    let all = [&args[..], &["-v"]].concat();
    bench.run(&all).expect(1).says(&["http://www.fernhollow.example", "https://fernhollow.example "]);
    assert!(bench.read("n.sql").contains("'https://n.example/x/bare'"));
    site.prefix = "x_".into();
    assert!(site.dump().contains("`x_menu`"));
}

#[test]
fn a_survey_points_out_what_a_careful_person_would() {
    let bench = Bench::new();
    bench.site(Variant::PrestaShop16);
    bench.write("old/backup.zip", "x");
    bench.write("old/img/dump.sql.gz", "x");
    bench.write("old/info.php", "<?php phpinfo();");
    std::fs::create_dir(bench.path("old/install")).unwrap();
    let config = bench.path("old/config/settings.inc.php");
    std::fs::set_permissions(&config, std::fs::Permissions::from_mode(0o666)).unwrap();
    let text = bench
        .read("old/config/settings.inc.php")
        .replace("define('_DB_USER_', 'fernhollow_web');", "define('_DB_USER_', getenv('SHOP_USER'));");
    bench.write("old/config/settings.inc.php", text);
    let survey = bench.run(&["survey", "old", "--dump", "old.sql"]).expect(0);
    let survey = survey.says(&[
        "writable for everyone (0666)",
        "backup.zip: archive in the document root",
        "img/dump.sql.gz: database dump in the document root",
        "info.php: helper script",
        "install: installer",
        "`_DB_USER_` comes from the environment variable SHOP_USER",
        "settings.inc.php, line 4",
    ]);
    assert!(!survey.stdout.contains("fake'Old") && !survey.stdout.contains("FakeCookieKey"));
    let json = bench.run(&["survey", "old", "--dump", "old.sql", "--json"]).expect(0).json();
    let folder =
        |name: &str| json["folders"].as_array().unwrap().iter().find(|f| f["path"] == name).unwrap().clone();
    assert_eq!(folder("log")["cache_files"], 1);
    assert_eq!(folder("modules")["cache_files"], 0);
    let table =
        |name: &str| json["tables"].as_array().unwrap().iter().find(|t| t["name"] == name).unwrap().clone();
    assert_eq!(
        (table("ps_configuration")["rows"].clone(), table("ps_smarty_cache")["rows_left_out"].clone()),
        (12.into(), true.into())
    );
    let dump_size = std::fs::metadata(bench.path("old.sql")).unwrap().len();
    let sizes: u64 = json["tables"].as_array().unwrap().iter().map(|t| t["bytes"].as_u64().unwrap()).sum();
    assert!(sizes < dump_size && sizes > dump_size / 3, "{sizes} of {dump_size}");
}

#[test]
fn a_pack_that_is_killed_leaves_nothing_that_looks_whole() {
    let bench = Bench::new();
    bench.site(Variant::Joomla310);
    let noise: Vec<u8> = (0..80_000_000u32).map(|i| (i.wrapping_mul(2_654_435_761) >> 13) as u8).collect();
    bench.write("old/images/large.jpg", &noise);
    std::fs::create_dir(bench.path("out")).unwrap();
    let before = files(&bench.path("old")).len();
    for wait in [5, 60, 150, 300] {
        let mut pack = bench.command(&["pack", "old", "--dump", "old.sql", "-o", "out/a.tar.zst"]);
        let mut child = pack.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        let began = Instant::now();
        while began.elapsed() < Duration::from_millis(wait) && child.try_wait().unwrap().is_none() {
            std::thread::sleep(Duration::from_millis(2));
        }
        child.kill().unwrap();
        child.wait().unwrap();
        // It may have been done before the kill; then it is whole.
        if bench.path("out/a.tar.zst").exists() {
            bench.run(&["verify", "out/a.tar.zst"]).expect(0).says(&["Whole"]);
            std::fs::remove_file(bench.path("out/a.tar.zst")).unwrap();
        }
        let archives: Vec<_> =
            files(&bench.path("out")).into_iter().map(|(p, _)| p.display().to_string()).collect();
        assert!(archives.iter().all(|p| p.starts_with(".zporter-")), "{archives:?}");
        assert_eq!(files(&bench.path("old")).len(), before, "the source is only read");
    }
    bench.run(&["logbook"]).expect(0).says(&["unfinished"]);
    bench.run(&["pack", "old", "--dump", "old.sql", "-o", "out/a.tar.zst"]).expect(0).says(&["Packed"]);
    bench.run(&["verify", "out/a.tar.zst"]).expect(0).says(&["Whole"]);
}

#[test]
fn the_password_comes_from_a_file_or_the_environment_and_goes_into_the_config_alone() {
    let bench = Bench::new();
    bench.packed(Variant::PrestaShop16, "a.tar.zst");
    bench.write("pw", "fake from file \\ '\r\n");
    let args = |target: &'static str, dump: &'static str| {
        vec![
            "restore",
            "a.tar.zst",
            target,
            "--address",
            "http://n.example",
            "--database",
            "mysql://u@h/n",
            "--dump-to",
            dump,
        ]
    };
    bench
        .run(
            &[args("one", "1.sql"), vec!["--database-password-file", "pw", "--save-job", "job.toml"]]
                .concat(),
        )
        .expect(0)
        .says(&["Restored"]);
    bench.run(&args("two", "2.sql")).expect(0).says(&["Restored"]);
    assert!(
        bench.read("one/config/settings.inc.php").contains(r"define('_DB_PASSWD_', 'fake from file \\ \'');")
    );
    assert!(bench.read("two/config/settings.inc.php").contains(r#"define('_DB_PASSWD_', 'n\'e"w\\P$1 ü');"#));
    for (path, bytes) in files(&bench.path("")) {
        let path = path.display().to_string();
        if !["pw", "one/config/settings.inc.php"].contains(&path.as_str()) {
            assert!(!holds(&bytes, "fake from file"), "{path}");
        }
    }
    bench
        .run(&[args("three", "3.sql"), vec!["--database-password-file", "missing"]].concat())
        .expect(2)
        .says(&["missing"]);
}

#[test]
fn the_documents_name_every_command_and_exit_code() {
    let bench = Bench::new();
    // Help is wrapped to the terminal's width.
    let help = bench.run(&["--help"]).expect(0).stdout;
    let joined = help.split_whitespace().collect::<Vec<_>>().join(" ");
    let root = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let readme = std::fs::read_to_string(root.join("README.md")).unwrap();
    for command in ["survey", "pack", "verify", "restore", "clone", "readdress", "systems", "demo", "logbook"]
    {
        assert!(help.contains(&format!("  {command}")), "{command}");
        assert!(readme.contains(&format!("| `{command}")), "{command} in the README");
        bench.run(&[command, "--help"]).expect(0).says(&["Usage: zporter", "--json", "--quiet"]);
    }
    for code in [
        "0 done",
        "1 done, with findings",
        "2 wrong usage",
        "3",
        "refused by a guard",
        "4 the world failed",
        "5 input damaged",
    ] {
        assert!(joined.replace("done with", "done, with").contains(code), "{code} in {help}");
        assert!(readme.replace("0 done ·", "0 done").contains(code), "{code} in the README");
    }
    for entry in std::fs::read_dir(root.join("docs/screenshots")).unwrap().flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        assert!(readme.contains(&format!("docs/screenshots/{name}")), "{name} is shown in the README");
    }
    bench.run(&["dance"]).expect(2).says(&["dance"]);
}
