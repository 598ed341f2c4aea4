//! Every system and line through the whole job: survey, pack, verify, restore under another host, base path, root, database, user and
//! prefix, its pages opened by real PHP from the copy.

use super::common::apache::Apache;
use super::common::mariadb::server;
use super::common::php::{self, Php};
use super::common::{Bench, files, nothing_points_back};
use zporter_standin::{Site, VARIANTS, Variant};

/// What a stand-in's page must show of the copy, beside its new address.
fn shown(variant: Variant) -> &'static [&'static str] {
    match variant {
        Variant::WordPress => {
            &["sternführung\">Führung</a>\";}", "milky%20way.png", "menu: /branch/site/visits"]
        }
        Variant::WordPressNetwork => &["sternführung"],
        Variant::OpenCart15 => &["/grüße", "sessions: 0", "store: http://kids.fernhollow.example/"],
        Variant::OpenCart23 | Variant::OpenCart3 | Variant::OpenCart4 => {
            &["/grüße", "sessions: 0", "banner: /branch/site/index.php"]
        }
        Variant::PhpBb30 | Variant::PhpBb33 => &[
            "viewtopic.php?t=1",
            "sessions: 0",
            "/f2",
            "viewtopic.php?t=2:1x2y]see",
            "forum: /branch/site/viewforum.php?f=1",
        ],
        Variant::Drupal6 => &["sites/default", "Ünder", "/shop: Array"],
        Variant::Drupal7 => &["sites/default", "Ünder", "/shop: Array", "private: there"],
        Variant::Drupal10 => &["sites/default", "[slogan] => Über", "block.block.start: Array"],
        Variant::PrestaShop14
        | Variant::PrestaShop16
        | Variant::ThirtyBees
        | Variant::PrestaShop17
        | Variant::PrestaShop9 => {
            &["angebote-für-alle", "compiled: 0", "menu: /branch/site/content/2-visits"]
        }
        _ => &["/forum\"", "sessions: 0", "log_path: writable"],
    }
}

/// Lets the web server's user into a folder, which gets what is made below it.
fn give_to_the_web_server(folder: &std::path::Path) {
    let done = std::process::Command::new("chown").arg("www-data:www-data").arg(folder).status();
    assert!(done.unwrap().success(), "the tests of served sites run as root");
}

fn open(folder: &std::path::Path) {
    use std::os::unix::fs::PermissionsExt;
    std::fs::set_permissions(folder, std::fs::Permissions::from_mode(0o755)).unwrap();
}

/// Each goes from http to https or back, behind Apache with the rules that its `.htaccess` has.
#[test]
fn every_line_moves_to_another_host_scheme_path_root_database_user_and_prefix() {
    let Some(server) = server() else { return };
    open(std::path::Path::new(&server.socket).parent().unwrap());
    let place = Bench::new();
    let (web, work) = (place.path("web"), place.path("apache"));
    for folder in [&web, &work] {
        std::fs::create_dir_all(folder).unwrap();
    }
    open(&place.path("."));
    let Some(apache) = Apache::serve(&web, &work) else { return };
    for variant in VARIANTS.into_iter().filter(|v| !matches!(v, Variant::Dnn5 | Variant::Dnn9)) {
        let bench = Bench::new();
        let site = bench.site(variant);
        let survey = bench.run(&["survey", "old", "--dump", "old.sql", "--json"]).json();
        assert_eq!(survey["system"]["id"], site.definition(), "{variant:?}");
        assert_eq!(survey["system"]["version"], site.version(), "{variant:?}");
        assert_eq!(survey["database"]["table_prefix"], site.prefix, "{variant:?}");
        assert_eq!(survey["database"]["name"], site.database[3], "{variant:?}");
        let addresses = |which: &str| -> Vec<String> {
            let list = survey["address"][which].as_array().unwrap();
            list.iter().filter_map(|a| a.as_str()).map(str::to_string).collect()
        };
        let (kids, names): (&[&str], &[&str]) = match site.definition() {
            "prestashop" if variant == Variant::PrestaShop14 => (&[], &[]),
            "prestashop" | "prestashop-7" => {
                (&["https://kids.fernhollow.example"], &["https://www.shop.fernhollow.example/astro"])
            }
            "opencart" if variant != Variant::OpenCart4 => (&["http://kids.fernhollow.example"], &[]),
            "opencart" => (&["https://kids.fernhollow.example"], &[]),
            _ => (&[], &[]),
        };
        assert_eq!(addresses("others"), kids, "{variant:?}");
        assert!(names.iter().all(|n| addresses("aliases").iter().any(|a| a == n)), "{variant:?} {survey:#}");
        let on_top = match variant {
            Variant::Joomla15 => "VirtueMart 1.1.9",
            Variant::Joomla5 => "VirtueMart 4.2.4",
            Variant::WordPress | Variant::WordPressNetwork => "WooCommerce 8.6.1",
            _ => "",
        };
        assert_eq!(survey["system"]["extensions"][0].as_str().unwrap_or_default(), on_top, "{variant:?}");
        let mut pack = vec!["pack", "old", "--dump", "old.sql", "-o", "a.tar.zst"];
        // Drupal 10 keeps its address nowhere, and two hosts live on the code base of each line of it.
        if survey["hosts"].as_array().is_some_and(|h| h.len() > 1) {
            pack.extend(["--host-folder", "default"]);
        }
        match survey["address"]["address"].as_str() {
            Some(address) => assert_eq!(address, site.address, "{variant:?}"),
            None => pack.extend(["--old-address", &site.address]),
        }
        if site.write_outside(&bench.path("outside")).unwrap() {
            pack.extend(["--storage", "outside"]);
        }
        bench.run(&pack).expect(0).says(&["Packed"]);
        bench.run(&["verify", "a.tar.zst"]).expect(0).says(&["Whole"]);
        std::fs::remove_dir_all(bench.path("old")).unwrap();

        let database = server.new_database();
        let name = format!("{variant:?}.copy.test").to_lowercase();
        let (scheme, port) = if site.address.starts_with("https") { ("http", 8081) } else { ("https", 8443) };
        let (host, base) = (format!("{name}:{port}"), "/branch/site");
        let address = format!("{scheme}://{host}{base}");
        let target = web.join(&name).join("branch/site");
        std::fs::create_dir_all(target.parent().unwrap()).unwrap();
        give_to_the_web_server(target.parent().unwrap());
        bench.write("admin-password", "fake-Nova-1604\n");
        let socket = matches!(variant, Variant::PhpBb33 | Variant::Drupal7 | Variant::WordPress);
        let url = if socket { database.socket_url(server) } else { database.tcp_url(server) };
        let target_text = target.display().to_string();
        let report = bench.run(&[
            "restore",
            "a.tar.zst",
            &target_text,
            "--address",
            &address,
            "--database",
            &url,
            "--old-root",
            &site.root,
            "--table-prefix",
            "nu_",
            "--site-name",
            "Kopie für Fernhollow",
            "--admin-email",
            "copy@fernhollow.test",
            "--admin-password-file",
            "admin-password",
            "--tidy",
            "--json",
        ]);
        assert!(report.code <= 1, "{variant:?}: {}{}", report.stdout, report.stderr);
        let report = report.json();

        let answer = apache.visit(&address, &format!("{address}/"));
        let (status, page) = (answer.status, answer.text);
        assert_eq!(status, 200, "{variant:?}: {page}\n{report:#}\n{}", apache.log());
        assert!(
            !page.contains("BROKEN") && !page.contains("Warning") && !page.contains("MISSING"),
            "{variant:?}: {page}"
        );
        for text in shown(variant).iter().copied().chain([address.as_str()]) {
            assert!(page.contains(text), "{variant:?}: {text} is not in {page}");
        }
        // One link of the OpenCart stand-in only looks like the old address, and one of Joomla's was broken before.
        let old_links =
            page.replace(&format!("{}2", site.address), "").replace(&format!("{}.test", site.address), "");
        assert!(!old_links.contains(&site.address), "{variant:?}: {page}");
        if variant != Variant::WordPressNetwork {
            assert!(page.contains("Kopie für Fernhollow"), "{variant:?}: {page}\n{report:#}");
        }
        let content = server.content(&database);
        nothing_points_back(&report, &site, &target, &content);
        assert!(
            !content.contains(&format!("`{}", site.prefix)),
            "{variant:?}: a table kept its prefix\n{content}"
        );
        assert!(content.contains("copy@fernhollow.test"), "{variant:?}: {content}\n{report:#}");
        assert!(!report.to_string().contains("fake-Nova-1604"));
        if variant == Variant::WordPressNetwork {
            let answer = apache.visit(&address, &format!("{address}/club/"));
            assert!(answer.status == 200 && answer.text.contains("Fernhollow Club"), "{}", answer.text);
            assert!(answer.text.contains("menu: /branch/site/club/visits"), "{}", answer.text);
        }
    }
}

/// Lets a library that has nothing to do with ours read one attribute.
fn xpath(file: &std::path::Path, path: &str) -> String {
    let out = std::process::Command::new("xmllint")
        .args(["--xpath", &format!("string({path})")])
        .arg(file)
        .output()
        .unwrap();
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    String::from_utf8(out.stdout).unwrap().trim_end_matches('\n').to_string()
}

#[test]
fn a_portal_on_sql_server_moves_by_its_script() {
    if std::process::Command::new("xmllint").arg("--version").output().is_err() {
        super::common::missing("libxml2-utils");
        return;
    }
    for variant in [Variant::Dnn5, Variant::Dnn9] {
        let bench = Bench::new();
        let site = bench.site(variant);
        let survey = bench.run(&["survey", "old", "--dump", "old.sql", "--json"]).expect(0).json();
        assert_eq!(
            (&survey["system"]["id"], &survey["system"]["version"]),
            (&"dnn".into(), &site.version().into())
        );
        assert_eq!(
            (&survey["database"]["table_prefix"], &survey["address"]["address"]),
            (&"fh_".into(), &site.address.as_str().into())
        );
        assert!(!survey.to_string().contains("fake'Old"));
        bench.run(&["survey", "old"]).expect(0).says(&["SQL Server servers are not supported"]);
        bench.run(&["pack", "old", "--dump", "old.sql", "-o", "a.zip"]).expect(0).says(&["fh_EventLog"]);
        bench.run(&["verify", "a.zip"]).expect(0).says(&["Whole"]);
        let args = |extra: &[&'static str]| {
            let base = [
                "restore",
                "a.zip",
                "new",
                "--address",
                "https://copy.fernhollow.test:8443/p",
                "--database",
                "sqlserver://nu@db.test:1444/nn",
                "--old-root",
                "/x/y",
            ];
            [&base[..], extra].concat()
        };
        bench.write("admin-password", "fake-Nova-1604\n");
        bench.run(&args(&[])).expect(2).says(&["SQL Server", "--dump-to"]);
        let done = bench.run(&args(&[
            "--dump-to",
            "new.sql",
            "--table-prefix",
            "nu_",
            "--set",
            "maintenance=on",
            "--set",
            "mail=off",
            "--site-name",
            "Kopie",
            "--admin-email",
            "copy@fernhollow.test",
            "--admin-password-file",
            "admin-password",
            "--tidy",
        ]));
        done.says(&[
            "maintenance=on (file app_offline.htm)",
            "kids.fernhollow.example",
            "InstallWizard.aspx",
        ]);
        let config = bench.path("new/web.config");
        let password = super::common::NEW_PASSWORD.replace('"', "\"\"");
        let connection = format!(
            "Data Source=db.test,1444;Initial Catalog=nn;User ID=nu;Password=\"{password}\";Encrypt=True"
        );
        assert_eq!(
            xpath(&config, "//connectionStrings/add[@name='SiteSqlServer']/@connectionString"),
            connection
        );
        let second = if variant == Variant::Dnn5 { connection.as_str() } else { "" };
        assert_eq!(xpath(&config, "//appSettings/add[@key='SiteSqlServer']/@value"), second);
        assert_eq!(xpath(&config, "//data/providers/add/@objectQualifier"), "nu");
        assert_eq!(xpath(&config, "//machineKey/@validationKey"), "FA4E0000FA4E");
        let (old, new) = (bench.read("old/web.config"), bench.read("new/web.config"));
        let other = |text: &str| {
            text.lines()
                .filter(|l| !l.contains("SiteSqlServer") && !l.contains("objectQualifier"))
                .map(str::to_string)
                .collect::<Vec<_>>()
        };
        assert_eq!(other(&old), other(&new), "every other line stays");

        let bytes = std::fs::read(bench.path("new.sql")).unwrap();
        let script = if variant == Variant::Dnn9 {
            assert_eq!(bytes[..2], [0xFF, 0xFE]);
            let units: Vec<u16> =
                bytes[2..].chunks_exact(2).map(|p| u16::from_le_bytes([p[0], p[1]])).collect();
            String::from_utf16(&units).unwrap()
        } else {
            String::from_utf8(bytes).unwrap()
        };
        for text in [
            "[dbo].[nu_PortalAlias]",
            "VALUES (1, 0, N'copy.fernhollow.test:8443/p', 1)",
            "N'kids.fernhollow.example'",
            "N'DefaultPortalAlias', N'copy.fernhollow.test:8443/p'",
            "N'HostTitle', N'Kopie'",
            "N'SMTPServer', N'127.0.0.1:1'",
            "&lt;a href=&quot;https://copy.fernhollow.test:8443/p/zeiten&quot;&gt;it''s here",
            "\r\nGO\r\nnot a batch')",
            "CREATE PROCEDURE [dbo].[nu_GetAlias] AS SELECT HTTPAlias FROM dbo.[nu_PortalAlias]",
        ] {
            assert!(script.contains(text), "{variant:?}: {text}\n{script}");
        }
        for text in [
            "VALUES (3, 2, N'copy.fernhollow.test:8443/p/kids', 1)",
            "VALUES (4, 0, N'copy.fernhollow.test:8443/p/de-de', 0)",
            "(N'HostURL', N'https://copy.fernhollow.test:8443/p')",
            "VALUES (N'22222222-fake', N'fake-admin', 2,",
        ] {
            assert!(script.contains(text), "{variant:?}: {text}\n{script}");
        }
        // The host's account got the password, is let in, and is told.
        let account = script.lines().find(|l| l.contains("[aspnet_Membership]")).unwrap();
        let (_, host) = account.split_once("N'11111111-fake'").unwrap();
        assert!(host.ends_with("N'copy@fernhollow.test', 1, 0, 0)") && !host.contains("fake-host"), "{host}");
        // Two names that become one would be refused: the second stays, and that is said.
        let twin = "VALUES (5, 0, N'www.partners.fernhollow.example/portal', 0)";
        assert!(script.contains(twin), "{script}");
        let script = script.replace(twin, "");
        assert!(
            !script.contains("fh_")
                && !script.contains("partners.fernhollow")
                && !script.contains("INSERT [dbo].[nu_EventLog]"),
            "{script}"
        );
    }
}

/// The system's own switches for TLS, beside rows that the stand-ins have.
#[test]
fn switches_for_tls_follow_the_scheme_of_the_new_address() {
    // Line, a row to add, what it becomes on http; what the config says there.
    let rows = [
        (Variant::PrestaShop16, "", "'PS_SSL_ENABLED','0'", ""),
        (
            Variant::PhpBb33,
            "INSERT INTO `phpbb_config` VALUES ('cookie_secure','1',0);\n",
            "'cookie_secure','0'",
            "",
        ),
        (
            Variant::OpenCart3,
            "INSERT INTO `oc_setting` (`setting_id`,`store_id`,`code`,`key`,`value`,`serialized`) VALUES (990,0,'config','config_secure','1',0);\n",
            "'config_secure','0'",
            "",
        ),
        (Variant::WordPress, "", "", "define( 'FORCE_SSL_ADMIN', false );"),
        (Variant::Joomla310, "", "", "public $force_ssl = '0';"),
    ];
    for (variant, row, in_dump, in_config) in rows {
        for scheme in ["http", "https"] {
            let bench = Bench::new();
            let mut site = bench.site(variant);
            let mut base = vec!["clone", "old", "new", "--dump", "old.sql"];
            if site.write_outside(&bench.path("outside")).unwrap() {
                base.extend(["--storage", "outside"]);
            }
            site.address = site.address.replace("http://", "https://");
            bench.write("old.sql", site.dump() + row);
            let (config, more) = match variant {
                Variant::WordPress => ("wp-config.php", "\ndefine( 'FORCE_SSL_ADMIN', true );\n"),
                _ => ("configuration.php", ""),
            };
            if !in_config.is_empty() {
                let text =
                    bench.read(&format!("old/{config}")).replace("$force_ssl = '0'", "$force_ssl = '2'");
                std::fs::remove_file(bench.path(&format!("old/{config}"))).unwrap();
                bench.write(&format!("old/{config}"), text + more);
            }
            let from = site.address.clone();
            let to = format!("{scheme}://copy.fernhollow.test");
            base.extend([
                "--old-address",
                &from,
                "--address",
                &to,
                "--database",
                "mysql://u@h/n",
                "--dump-to",
                "n.sql",
            ]);
            let done = bench.run(&base);
            assert!(done.code <= 1, "{variant:?} {}{}", done.stdout, done.stderr);
            let (dump, http) = (bench.read("n.sql"), scheme == "http");
            if !in_dump.is_empty() {
                let expected = if http { in_dump.to_string() } else { in_dump.replace("'0'", "'1'") };
                assert!(dump.contains(&expected), "{variant:?} {scheme}: {expected}\n{dump}");
            }
            if !in_config.is_empty() {
                let text = bench.read(&format!("new/{config}"));
                assert_eq!(text.contains(in_config), http, "{variant:?} {scheme}: {text}");
            }
            assert_eq!(done.stdout.contains("TLS off, as the new address has it"), http, "{}", done.stdout);
        }
    }
}

/// Packs a stand-in and restores it to a file, with further arguments.
fn copied(
    bench: &Bench,
    variant: Variant,
    pack: &[&str],
    restore: &[&str],
) -> (Site, super::common::Outcome) {
    let site = bench.site(variant);
    let mut args = vec!["pack", "old", "--dump", "old.sql", "-o", "a.tar.zst"];
    if site.write_outside(&bench.path("outside")).unwrap() {
        args.extend(["--storage", "outside"]);
    }
    bench.run(&[&args, pack].concat()).expect(0).says(&["Packed"]);
    let base = [
        "restore",
        "a.tar.zst",
        "new",
        "--address",
        "http://copy.fernhollow.test",
        "--database",
        "mysql://u@h/n",
        "--dump-to",
        "n.sql",
        "--old-root",
        &site.root,
    ];
    let done = bench.run(&[&base, restore].concat());
    (site, done)
}

#[test]
fn switches_are_set_or_it_is_said_that_they_cannot_be() {
    let everything = [
        "--set",
        "maintenance=on",
        "--set",
        "mail=off",
        "--set",
        "cache=off",
        "--set",
        "index=off",
        "--set",
        "assets=plain",
        "--set",
        "friendly-urls=off",
    ];
    /// Line, arguments for `pack`, what the dump holds, what is said.
    type Row = (Variant, &'static [&'static str], &'static [&'static str], &'static [&'static str]);
    let rows: [Row; 6] = [
        (
            Variant::PrestaShop16,
            &[],
            &["'PS_SHOP_ENABLE','0'", "'PS_MAIL_METHOD','3'"],
            &["index=off was not set: PrestaShop has no such switch", "cache=off was not set: no such row"],
        ),
        (
            Variant::WordPress,
            &[],
            &["'blog_public','0'", "'permalink_structure',''"],
            &["assets=plain was not set"],
        ),
        (
            Variant::PhpBb30,
            &[],
            &["'board_disable','1'", "'email_enable','0'"],
            &["friendly-urls=off was not set: phpBB has no such switch in this version"],
        ),
        (
            Variant::Drupal7,
            &["--host-folder", "default"],
            &[
                "INSERT INTO `fh_variable` (`name`,`value`) VALUES ('maintenance_mode','i:1;')",
                "'preprocess_css','s:1:\"0\";'",
                "TestingMailSystem",
            ],
            &["index=off was not set"],
        ),
        (
            Variant::Drupal10,
            &["--host-folder", "default", "--old-address", "https://club.fernhollow.example"],
            &["('state','system.maintenance_mode','i:1;')", "s:10:\"preprocess\";b:0;", "\"max_age\";i:0;"],
            &["mail=off was not set: no such row"],
        ),
        (Variant::OpenCart4, &[], &["'config_maintenance','1'"], &["mail=off was not set: no such row"]),
    ];
    for (variant, pack, in_dump, said) in rows {
        let bench = Bench::new();
        let (_, done) = copied(&bench, variant, pack, &everything);
        done.expect(1).says(said);
        let dump = bench.read("n.sql");
        for text in in_dump {
            assert!(dump.contains(text), "{variant:?}: {text}\n{dump}");
        }
    }
    let bench = Bench::new();
    let (_, done) =
        copied(&bench, Variant::Joomla5, &[], &["--set", "maintenance=on", "--set", "friendly-urls=off"]);
    done.expect(1).says(&["maintenance=on (config key `offline`)"]);
    assert!(bench.read("new/configuration.php").contains("public $offline = true;"));
    let base = [
        "restore",
        "a.tar.zst",
        "other",
        "--address",
        "http://x.test",
        "--database",
        "mysql://u@h/n",
        "--dump-to",
        "o.sql",
        "--set",
    ];
    bench.run(&[&base[..], &["maintenance=perhaps"]].concat()).expect(2).says(&["off, on"]);
    bench.run(&[&base[..], &["lights=off"]].concat()).expect(2).says(&["maintenance=on"]);
    assert!(!bench.path("other").exists());
}

#[test]
fn the_administrator_gets_in_with_the_hash_that_the_version_accepts() {
    let rows = [
        (Variant::Joomla310, "(42,0,25,'Star Gazer','stargazer','me@copy.test','$2y$10$"),
        (Variant::Joomla15, "(42,0,25,'Star Gazer','stargazer','me@copy.test','"),
        (Variant::PrestaShop16, "(1,1,'me@copy.test','494b5cbd934f6c6db29ec77c86e5e7c8')"),
        (Variant::PrestaShop9, "(1,1,'me@copy.test','$2y$10$"),
        (Variant::OpenCart15, "(7,1,'keeper','945afbbd8d040e714112a7196fb11ded','me@copy.test')"),
        (Variant::OpenCart4, "(7,1,'keeper','$2y$10$"),
        (Variant::PhpBb30, "(2,3,'gazer','$H$9"),
        (Variant::PhpBb33, "(2,3,'gazer','$2y$10$"),
        (Variant::Drupal6, "(1,'gazer','945afbbd8d040e714112a7196fb11ded','me@copy.test')"),
        (Variant::Drupal7, "(1,'gazer','$S$D"),
        (Variant::WordPress, "(1,'gazer','$P$B"),
    ];
    for (variant, row) in rows {
        let bench = Bench::new();
        bench.write("pw", "fake-Nova-1604");
        let drupal = matches!(variant, Variant::Drupal6 | Variant::Drupal7);
        let pack: &[&str] = if drupal { &["--host-folder", "default"] } else { &[] };
        let (site, done) =
            copied(&bench, variant, pack, &["--admin-email", "me@copy.test", "--admin-password-file", "pw"]);
        done.says(&["administrator's password"]);
        let dump = bench.read("n.sql");
        assert!(dump.contains(row), "{variant:?}: {row}\n{dump}");
        // One account alone changes.
        assert_eq!(dump.contains("second@fernhollow.example"), site.definition() == "opencart", "{dump}");
        if let Some(at) = dump.find("$2y$10$").filter(|_| php::there()) {
            let hash = bench.path("hash");
            std::fs::write(&hash, &dump[at..at + 60]).unwrap();
            let judge = "echo password_verify('fake-Nova-1604', file_get_contents($argv[1])) ? 'yes' : 'no';";
            assert_eq!(php::run(judge, &[&hash]), "yes", "{variant:?}");
        }
    }
}

#[test]
fn a_scope_is_the_same_word_on_pack_and_restore() {
    let bench = Bench::new();
    let (_, done) = copied(
        &bench,
        Variant::PrestaShop16,
        &["--without", "media", "--rows", "conn*=structure", "--rows", "cms_lang=none"],
        &[],
    );
    done.says(&["Restored"]);
    assert!(
        !bench.path("new/img/p/1/2/12.jpg").exists()
            && bench.path("new/modules/starbanner/starbanner.php").exists()
    );
    let dump = bench.read("n.sql");
    assert!(
        dump.contains("CREATE TABLE `ps_connections`") && !dump.contains("INSERT INTO `ps_connections`"),
        "{dump}"
    );
    assert!(!dump.contains("ps_cms_lang"), "{dump}");
    bench
        .run(&["pack", "old", "--dump", "old.sql", "-o", "b.zip", "--without", "media"])
        .expect(0)
        .says(&["img/p", "placeholder"]);
    for (command, source) in [("restore", "b.zip"), ("clone", "old")] {
        let args = [
            command,
            source,
            command,
            "--address",
            "http://c.test",
            "--database",
            "mysql://u@h/n",
            "--dump",
            "old.sql",
            "--dump-to",
            &format!("{command}.sql"),
            "--without",
            "media",
        ];
        bench.run(&args).says(&["the media come later", &format!("zporter {command} "), "--only media"]);
    }

    // The media come later, into the same site; the rows alone go elsewhere.
    bench.run(&["pack", "old", "--dump", "old.sql", "-o", "full.zip"]).expect(0).says(&["Packed"]);
    let media = ["restore", "full.zip", "new", "--address", "http://copy.fernhollow.test", "--only", "media"];
    bench.run(&media).says(&["Restored"]);
    assert!(bench.path("new/img/p/1/2/12.jpg").exists());
    let rows = [
        "restore",
        "full.zip",
        "none",
        "--address",
        "http://copy.fernhollow.test",
        "--database",
        "mysql://u@h/n",
        "--dump-to",
        "rows.sql",
        "--only",
        "database",
        "--rows",
        "*=structure",
    ];
    bench.run(&rows).says(&["Restored"]);
    assert!(!bench.path("none").exists());
    assert!(!bench.read("rows.sql").contains("INSERT"), "{}", bench.read("rows.sql"));
    bench.run(&["pack", "old", "--dump", "old.sql", "-o", "c.zip", "--only", "pictures"]).expect(2).says(&[
        "pictures",
        "media",
        "images/banners",
    ]);
}

#[test]
fn hosts_on_one_code_base_are_told_apart() {
    for variant in [Variant::Drupal6, Variant::Drupal7, Variant::Drupal10] {
        let bench = Bench::new();
        bench.site(variant);
        bench.run(&["survey", "old", "--dump", "old.sql"]).expect(0).says(&[
            "Hosts on this code base",
            "answers to",
            "members.fernhollow.example",
            "members_db",
            "shown here",
        ]);
        let other =
            bench.run(&["survey", "old", "--dump", "old.sql", "--host-folder", "members.fernhollow.example"]);
        other.expect(0).says(&["mysql://members@localhost/members_db"]);
        bench
            .run(&["survey", "old", "--host-folder", "nobody"])
            .expect(2)
            .says(&["nobody", "default, members.fernhollow.example"]);
        bench
            .run(&["pack", "old", "--dump", "old.sql", "-o", "a.zip"])
            .expect(2)
            .says(&["several hosts", "--host-folder"]);
        let pack = [
            "pack",
            "old",
            "--dump",
            "old.sql",
            "-o",
            "m.zip",
            "--host-folder",
            "members.fernhollow.example",
            "--old-address",
            "https://members.fernhollow.example",
        ];
        // The stand-in has one dump, which is the other host's.
        bench.run(&pack).expect(1).says(&["belongs to another host", "the tables begin with \"fh_\""]);
        let restore = [
            "restore",
            "m.zip",
            "new",
            "--address",
            "http://dev.fernhollow.test:8080/try",
            "--database",
            "mysql://u@h/n",
            "--dump-to",
            "n.sql",
        ];
        bench.run(&restore).says(&["8080.dev.fernhollow.test.try"]);
        assert!(bench.path("new/sites/members.fernhollow.example/files/secret.txt").exists());
        assert!(!bench.path("new/sites/default").exists());
        if variant == Variant::Drupal6 {
            let link = std::fs::read_link(bench.path("new/sites/8080.dev.fernhollow.test.try")).unwrap();
            assert_eq!(link.to_str(), Some("members.fernhollow.example"));
        } else {
            let line = "$sites['8080.dev.fernhollow.test.try'] = 'members.fernhollow.example';";
            assert!(bench.read("new/sites/sites.php").contains(line));
        }
    }
}

#[test]
fn a_host_joins_the_code_base_of_others() {
    let Some(server) = server() else { return };
    if !php::there() {
        return;
    }
    for variant in [Variant::Drupal6, Variant::Drupal7, Variant::Drupal10] {
        let bench = Bench::new();
        let site = bench.site(variant);
        bench
            .run(&[
                "pack",
                "old",
                "--dump",
                "old.sql",
                "-o",
                "a.zip",
                "--host-folder",
                "default",
                "--old-address",
                &site.address,
            ])
            .expect(0)
            .says(&["Packed"]);
        let before = files(&bench.path("old"));
        let port = php::port();
        let host = format!("dev.fernhollow.test:{port}");
        let address = format!("http://{host}");
        let database = server.new_database();
        let url = database.tcp_url(server);
        let args = |name: &'static str, target: &'static str| {
            [
                "restore",
                "a.zip",
                target,
                "--host-as",
                name,
                "--address",
                &address,
                "--database",
                &url,
                "--old-root",
                &site.root,
                "--site-name",
                "Entwurf",
            ]
            .map(str::to_string)
        };
        let run = |name, target| {
            let args = args(name, target);
            bench.run(&args.iter().map(String::as_str).collect::<Vec<_>>())
        };
        run("members.fernhollow.example", "old").expect(3).says(&["already exists"]);
        run("../x", "old").expect(3).says(&["one word"]);
        run("dev", "nowhere").expect(3).says(&["no code base"]);
        run("dev", "old").says(&["Restored", "dev.fernhollow.test"]);
        let php = Php::serve(&bench.path("old"), port);
        let (status, page) = php.get(&host, "/");
        assert!(
            status == 200 && page.contains("sites/dev") && page.contains("Entwurf"),
            "{variant:?}: {page}"
        );
        assert!(
            page.contains("src=\"/sites/dev/files/m31.png\"") && !page.contains("club.fernhollow.example/"),
            "{variant:?}: {page}"
        );
        let content = server.content(&database);
        assert!(!content.contains("sites/default/"), "{variant:?}: {content}");
        assert!(variant == Variant::Drupal10 || content.contains("'modules/node/node.module'"));
        // In one step, without an archive; the rows come from a dump here.
        let (target, dump) = (bench.path("old").display().to_string(), "dev2.sql");
        let args = [
            "clone",
            &target,
            &target,
            "--host-folder",
            "default",
            "--host-as",
            "dev2",
            "--address",
            "http://dev2.test",
            "--old-address",
            &site.address,
            "--dump",
            "old.sql",
            "--database",
            "mysql://u@h/n",
            "--dump-to",
            dump,
        ];
        bench.run(&args).says(&["Cloned"]);
        assert!(bench.path("old/sites/dev2/files/m31.png").exists());
        assert!(bench.read("old/sites/dev2/settings.php").contains(if variant == Variant::Drupal6 {
            "@h/n"
        } else {
            "'n'"
        }));
        // The others are as they were.
        let after = files(&bench.path("old"));
        let map = |p: &std::path::Path| {
            p.ends_with("sites/sites.php") || p.starts_with("sites/dev") || p.starts_with("sites/dev2")
        };
        assert_eq!(before, after.into_iter().filter(|(p, _)| !map(p)).collect::<Vec<_>>(), "{variant:?}");
    }
}

#[test]
fn several_hosts_or_all_of_them_get_an_archive_each() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    let mut site = Site::of(Variant::Drupal7);
    let (one, two) = (server.database("fake-one"), server.database("fake-other"));
    let host = format!("localhost:{}", server.socket);
    site.database = [host.clone(), one.user.clone(), one.password.clone(), one.name.clone()];
    site.write(&bench.path("old")).unwrap();
    let second = bench.read("old/sites/members.fernhollow.example/settings.php");
    let second = second
        .replace("members_db", &two.name)
        .replace("'members'", &format!("'{}'", two.user))
        .replace("'localhost'", &format!("'{host}'"));
    bench.write("old/sites/members.fernhollow.example/settings.php", second);
    server.load_with_client(&one, &site.dump());
    server.load_with_client(&two, &site.dump().replace("fh_", "m_"));
    let list = bench.run(&["pack", "old", "-o", "all.zip", "--host-folder", "all", "--json"]).json();
    assert_eq!(list.as_array().map(Vec::len), Some(2), "{list}");
    bench
        .run(&["pack", "old", "-o", "x.zip", "--host-folder", "all", "--dump", "y.sql"])
        .expect(2)
        .says(&["one by one"]);
    for (archive, name, other) in [
        ("all-default.zip", "`fh_variable`", "sites/members.fernhollow.example"),
        ("all-members.fernhollow.example.zip", "`m_variable`", "sites/default"),
    ] {
        let target = format!("new-{}", name.len());
        let dump = format!("{target}.sql");
        let args = [
            "restore",
            archive,
            &target,
            "--address",
            "http://n.test",
            "--old-address",
            &site.address,
            "--database",
            "mysql://u@h/n",
            "--dump-to",
            &dump,
        ];
        bench.run(&args).says(&["Restored"]);
        assert!(bench.read(&dump).contains(name), "{}", bench.read(&dump));
        assert!(!bench.path(&format!("{target}/{other}")).exists());
    }
}

#[test]
fn tables_that_sites_share_are_carried_once_and_said() {
    let bench = Bench::new();
    let site = bench.site(Variant::Drupal6);
    let settings = bench.read("old/sites/default/settings.php").replace(
        "$db_prefix = 'fh_';",
        "$db_prefix = array('default' => 'fh_', 'users' => 'shared_', 'role' => 'shared_');",
    );
    std::fs::remove_file(bench.path("old/sites/default/settings.php")).unwrap();
    bench.write("old/sites/default/settings.php", settings);
    bench.write("old.sql", site.dump().replace("`fh_users`", "`shared_users`"));
    bench.run(&["survey", "old", "--dump", "old.sql"]).expect(0).says(&["shared_users, by every site"]);
    bench
        .run(&["pack", "old", "--dump", "old.sql", "-o", "a.zip", "--host-folder", "default"])
        .expect(1)
        .says(&["shared_role is shared with other sites"]);
    let args = [
        "restore",
        "a.zip",
        "new",
        "--address",
        "http://n.test",
        "--database",
        "mysql://u@h/n",
        "--dump-to",
        "n.sql",
        "--table-prefix",
        "nu_",
    ];
    bench.run(&args).says(&["Restored"]);
    let dump = bench.read("n.sql");
    assert_eq!(
        (dump.matches("CREATE TABLE `shared_users`").count(), dump.matches("`nu_variable`").count() > 1),
        (1, true),
        "{dump}"
    );
    assert!(
        bench
            .read("new/sites/default/settings.php")
            .contains("array('default' => 'nu_', 'users' => 'shared_', 'role' => 'shared_')")
    );
}

#[test]
fn several_shops_of_one_database_move_each_to_its_own_address() {
    let bench = Bench::new();
    bench.site(Variant::PrestaShop17);
    bench.run(&["pack", "old", "--dump", "old.sql", "-o", "a.zip"]).expect(0).says(&["Packed"]);
    let args = [
        "restore",
        "a.zip",
        "new",
        "--address",
        "https://n.test",
        "--database",
        "mysql://u@h:3310/n",
        "--old-root",
        "/x/y",
        "--dump-to",
    ];
    bench
        .run(&[&args[..], &["one.sql"]].concat())
        .says(&["left alone", "https://kids.fernhollow.example, another site"]);
    assert!(
        bench
            .read("one.sql")
            .contains("(1,2,'kids.fernhollow.example','kids.fernhollow.example','/','',1,1)")
    );
    std::fs::remove_dir_all(bench.path("new")).unwrap();
    bench
        .run(
            &[&args[..], &["two.sql", "--map", "https://kids.fernhollow.example", "https://k.test/play"]]
                .concat(),
        )
        .says(&["Restored"]);
    let dump = bench.read("two.sql");
    for row in [
        "(3,1,'n.test','n.test','/','',1,1)",
        "(2,1,'www.shop.fernhollow.example','www.shop.fernhollow.example','/astro/','',0,1)",
        "(1,2,'k.test','k.test','/play/','',1,1)",
        "'PS_SHOP_DOMAIN','k.test'",
        "'PS_SHOP_DOMAIN','n.test'",
    ] {
        assert!(dump.contains(row), "{row}\n{dump}");
    }
    // The port has a key of its own in the newer lines; where only YAML is there, that is edited.
    let parameters = bench.read("new/app/config/parameters.php");
    assert!(
        parameters.contains("'database_host' => 'h'") && parameters.contains("'database_port' => '3310'"),
        "{parameters}"
    );
    std::fs::remove_file(bench.path("old/app/config/parameters.php")).unwrap();
    bench.write("old/app/config/parameters.yml", "parameters:\n    database_host: localhost\n    database_port: ''\n    database_name: fernhollow_shop\n    database_user: web\n    database_password: 'it''s'\n    database_prefix: ps_ # tables\n    mailer_user: null\n");
    bench.run(&["pack", "old", "--dump", "old.sql", "-o", "yml.zip"]).expect(0).says(&["Packed"]);
    let args = [
        "restore",
        "yml.zip",
        "yml",
        "--address",
        "https://n.test",
        "--database",
        "mysql://u@h:3310/n",
        "--table-prefix",
        "nu_",
        "--dump-to",
        "y.sql",
    ];
    bench.run(&args).says(&["Restored"]);
    let yml = "parameters:\n    database_host: 'h'\n    database_port: '3310'\n    database_name: 'n'\n    database_user: 'u'\n    database_password: 'n''e\"w\\P$1 ü'\n    database_prefix: 'nu_' # tables\n    mailer_user: null\n";
    assert_eq!(bench.read("yml/app/config/parameters.yml"), yml);
}

#[test]
fn sites_of_a_network_move_or_are_said_to_stay() {
    let bench = Bench::new();
    let site = bench.site(Variant::WordPressNetwork);
    let dump = site
        .dump()
        .replace("'blog.fernhollow.example','/club/'", "'club.fernhollow.example','/'")
        .replace("https://blog.fernhollow.example/club", "https://club.fernhollow.example");
    bench.write("old.sql", dump);
    bench
        .run(&["survey", "old", "--dump", "old.sql"])
        .expect(0)
        .says(&["club.fernhollow.example", "another site of the same database"]);
    bench.run(&["pack", "old", "--dump", "old.sql", "-o", "a.zip"]).expect(0).says(&["Packed"]);
    let args = |target: &'static str, dump: &'static str| {
        [
            "restore",
            "a.zip",
            target,
            "--address",
            "https://new.test",
            "--database",
            "mysql://u@h/n",
            "--old-root",
            "/x/y",
            "--dump-to",
            dump,
        ]
    };
    bench
        .run(&args("one", "1.sql"))
        .expect(0)
        .says(&["http://club.fernhollow.example, another site of the same database", "--map"]);
    assert!(bench.read("1.sql").contains("(2,'club.fernhollow.example','/')"));
    let map = ["--map", "http://club.fernhollow.example", "https://c.test/x"];
    bench.run(&[&args("two", "2.sql")[..], &map].concat()).says(&["becomes https://c.test/x"]);
    let moved = bench.read("2.sql");
    assert!(moved.contains("(1,'new.test','/')") && moved.contains("(2,'c.test','/x/')"), "{moved}");
    assert!(
        moved.contains("'home','https://c.test/x'") && !moved.contains("club.fernhollow.example"),
        "{moved}"
    );
}

#[test]
fn every_block_of_the_documents_is_a_part_of_a_definition_that_reads() {
    let bench = Bench::new();
    let root = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let document = std::fs::read_to_string(root.join("docs/definitions.md")).unwrap();
    let blocks: Vec<&str> =
        document.split("```toml\n").skip(1).map(|b| b.split("```").next().unwrap()).collect();
    // What stands before the first table of a block comes before the first table of the whole.
    let parts = blocks.iter().map(|block| block.split_at(block.find("[[").unwrap()));
    let (heads, tables): (Vec<_>, Vec<_>) = parts.unzip();
    std::fs::create_dir_all(bench.path("home/.config/zporter/systems")).unwrap();
    let file = "home/.config/zporter/systems/starlog.toml";
    bench.write(file, format!("{}\n{}", heads.concat(), tables.concat()));
    bench.run(&["systems", "--check", file]).expect(0).says(&["usable definition of Star Log"]);
    let shown = bench.run(&["systems", "starlog"]).expect(0);
    shown.says(&["The sky is closed", "negatives, outside of the document root", "visitors of the copy"]);
    assert!(blocks.len() > 4, "the blocks were not found");
}

#[test]
fn the_worked_example_of_the_documents_takes_a_site_through_the_whole_job() {
    let Some(server) = server() else { return };
    if !php::there() {
        return;
    }
    let bench = Bench::new();
    let root = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let document = std::fs::read_to_string(root.join("docs/definitions.md")).unwrap();
    let example = document.split("```toml\n").nth(1).unwrap().split("```").next().unwrap();
    std::fs::create_dir_all(bench.path("home/.config/zporter/systems")).unwrap();
    bench.write("home/.config/zporter/systems/starlog.toml", example);
    bench
        .run(&["systems", "--check", "home/.config/zporter/systems/starlog.toml"])
        .expect(0)
        .says(&["usable definition of Star Log"]);
    for folder in ["old/cache/compiled", "old/plates", "old/install"] {
        std::fs::create_dir_all(bench.path(folder)).unwrap();
    }
    bench.write("old/star.php", "<?php\nconst STAR_HOME = 'https://log.fernhollow.example/diary/';\nconst DB_HOST = 'localhost';\n$db = array('host' => 'x', 'port' => '');\nconst DB_NAME = 'log';\nconst DB_USER = 'log';\n\
        define('DB_PASS', 'fake-old');\ndefine('PREFIX', 'sl_');\ndefine('TMP', '/home/fernhollow/log/tmp');\ndefine('OFFICE', 'log@fernhollow.example');\ndefine('PEPPER', 'fake-pepper');\ndefine('CLOSED', '1');\n");
    bench.write("old/version.php", "<?php\nconst MAJOR = 2;\nconst MINOR = 7;\n");
    for (file, text) in [
        ("paths.php", "/home/fernhollow/log"),
        ("cache/index.html", ""),
        ("cache/x", "x"),
        ("plates/m31.png", "png"),
        ("robots.txt", "Sitemap: https://log.fernhollow.example/diary/map.xml\n"),
        ("install/index.php", ""),
    ] {
        bench.write(&format!("old/{file}"), text);
    }
    // What the system does with its config and its rows.
    bench.write("old/index.php", "<?php require 'star.php'; if (CLOSED) { http_response_code(503); exit; }\n$c = new mysqli(DB_HOST, DB_USER, DB_PASS, DB_NAME, (int) $db['port']);\n$c->set_charset('utf8mb4');\n$p = PREFIX;\n\
        foreach ($c->query(\"SELECT * FROM {$p}options\")->fetch_all() as $r) { echo \"$r[0]: $r[1]\\n\"; }\nprint_r(unserialize($c->query(\"SELECT v FROM {$p}entries\")->fetch_row()[0]));\necho STAR_HOME, TMP;\n");
    bench.write("old.sql", "CREATE TABLE `sl_options` (`name` varchar(40) PRIMARY KEY, `value` text);\nINSERT INTO `sl_options` VALUES ('host','log.fernhollow.example/diary'),('title','Diary'),('sl_rights','all'),('sl_x','keeps its name');\n\
        CREATE TABLE `sl_entries` (`v` text);\nINSERT INTO `sl_entries` VALUES ('a:1:{s:4:\\\"link\\\";s:44:\\\"https://log.fernhollow.example/diary/Größe\\\";}');\nCREATE TABLE `sl_sessions` (`id` int);\nINSERT INTO `sl_sessions` VALUES (1);\n\
        CREATE TABLE `sl_people` (`id` int, `role` varchar(9), `mail` varchar(90), `pass` varchar(90));\nINSERT INTO `sl_people` VALUES (1,'guest','g@x.test','a'),(4,'admin','a@x.test','b');\n");
    let survey = bench.run(&["survey", "old", "--dump", "old.sql", "--json"]).expect(0).json();
    assert_eq!(
        (&survey["system"]["id"], &survey["system"]["version"], &survey["address"]["address"]),
        (&"starlog".into(), &"2.7".into(), &"https://log.fernhollow.example/diary".into())
    );
    bench.run(&["pack", "old", "--dump", "old.sql", "-o", "a.zip"]).expect(0).says(&["Packed"]);
    bench.run(&["verify", "a.zip"]).expect(0).says(&["Whole"]);
    let database = server.new_database();
    let port = php::port();
    let address = format!("http://copy.fernhollow.test:{port}/x");
    bench.write("pw", "fake-Nova-1604");
    std::fs::create_dir(bench.path("web")).unwrap();
    let url = database.tcp_url(server);
    bench
        .run(&[
            "restore",
            "a.zip",
            "web/x",
            "--address",
            &address,
            "--database",
            &url,
            "--table-prefix",
            "nu_",
            "--set",
            "maintenance=off",
            "--set",
            "mail=off",
            "--site-name",
            "Kopie",
            "--admin-email",
            "me@copy.test",
            "--admin-password-file",
            "pw",
            "--tidy",
        ])
        .says(&["Restored", "removed", "maintenance=off"]);
    let php = Php::serve(&bench.path("web"), port);
    let (status, page) = php.get(&format!("copy.fernhollow.test:{port}"), "/x/");
    assert_eq!(status, 200, "{page}");
    let root = bench.path("web/x").display().to_string();
    for text in [
        "title: Kopie",
        "mail: 0",
        "nu_rights: all",
        "sl_x: keeps its name",
        &format!("host: copy.fernhollow.test:{port}/x"),
        &format!("[link] => {address}/Größe"),
        &format!("{address}/{root}/tmp"),
    ] {
        assert!(page.contains(text), "{text}: {page}");
    }
    let content = server.content(&database);
    assert!(
        content.contains("(4,'admin','me@copy.test','$2y$10$")
            && content.contains("(1,'guest','g@x.test','a')"),
        "{content}"
    );
    let there = |path: &str| bench.path(&format!("web/x/{path}")).exists();
    assert!(there("plates/m31.png") && there("cache/compiled") && there("cache/index.html"));
    assert!(!there("paths.php") && !there("cache/x") && !there("install"));
}

/// Lets a site's config name `storage/` as its folder outside of the root.
fn outside_lies_here(bench: &Bench) {
    for config in ["config.php", "dome-office/config.php"] {
        let text = bench.read(&format!("old/{config}"));
        let here = bench.path("storage").display().to_string();
        bench.write(&format!("old/{config}"), text.replace("/home/fernhollow/storage", &here));
    }
}

#[test]
fn a_clone_is_what_packing_and_restoring_would_give() {
    let Some(server) = server() else { return };
    for variant in
        [Variant::Joomla310, Variant::PrestaShop17, Variant::OpenCart3, Variant::Drupal7, Variant::WordPress]
    {
        let bench = Bench::new();
        let (site, old) = bench.live(server, variant);
        if site.write_outside(&bench.path("storage")).unwrap() {
            outside_lies_here(&bench);
        }
        let before = (files(&bench.path("old")), server.content(&old));
        let host: &[&str] = if variant == Variant::Drupal7 { &["--host-folder", "default"] } else { &[] };
        let copy = [
            "--address",
            "https://n.test/x",
            "--database",
            "mysql://u@h/n",
            "--table-prefix",
            "nu_",
            "--set",
            "maintenance=on",
            "--tidy",
            "--old-address",
            &site.address,
        ];
        let cloned =
            bench.run(&[&["clone", "old", "copy", "--dump-to", "one.sql"], host, &copy[..]].concat());
        cloned.says(&["Cloned"]);
        let one = (files(&bench.path("copy")), bench.read("one.sql"));
        std::fs::rename(bench.path("copy"), bench.path("kept")).unwrap();
        let outside = bench.path("copy-storage");
        let stored = outside.exists().then(|| files(&outside));
        if stored.is_some() {
            std::fs::rename(&outside, bench.path("kept-storage")).unwrap();
        }
        bench
            .run(&[&["pack", "old", "-o", "a.zip", "--old-address", &site.address], host].concat())
            .says(&["Packed"]);
        bench
            .run(&[&["restore", "a.zip", "copy", "--dump-to", "two.sql"], &copy[..]].concat())
            .says(&["Restored"]);
        assert_eq!(one.1, bench.read("two.sql"), "{variant:?}");
        assert!(one.0 == files(&bench.path("copy")), "{variant:?}: files differ");
        assert_eq!(stored, outside.exists().then(|| files(&outside)), "{variant:?}");
        assert_eq!(matches!(variant, Variant::OpenCart3 | Variant::Drupal7), stored.is_some());
        assert!(one.0.len() > 5 && one.1.contains("nu_"), "{variant:?}");
        assert_eq!(
            before,
            (files(&bench.path("old")), server.content(&old)),
            "{variant:?}: the source is only read"
        );
        // Straight into a server, and never into itself.
        let new = server.new_database();
        let url = new.socket_url(server);
        let live = [
            "clone",
            "old",
            "live",
            "--address",
            "https://n.test/x",
            "--database",
            &url,
            "--old-address",
            &site.address,
            "--save-job",
            "job.toml",
        ];
        bench.run(&[&live[..], host].concat()).says(&["loaded"]);
        assert!(server.content(&new).contains("n.test"), "{variant:?}");
        bench.run(&["clone", "--job", "job.toml"]).expect(3).says(&["not empty"]);
        bench.run(&["restore", "--job", "job.toml"]).expect(2).says(&["zporter clone"]);
    }
}

/// The same bytes by either way, for every line and everything that can be asked for.
#[test]
fn a_clone_and_a_restore_give_the_same_bytes_whatever_is_asked_for() {
    let wishes: [&[&str]; 5] = [
        &["--address", "http://n.test/x/y", "--references", "--bare-hosts", "--mail-domains", "--repair"],
        &["--address", "https://n.test", "--rows", "*users*=structure", "--site-name", "Näme's", "--tidy"],
        &[
            "--address",
            "http://n.test:8080",
            "--old-alias",
            "http://alias.example/a",
            "--set",
            "maintenance=on",
        ],
        &["--address", "https://n.test/x", "--only", "database", "--samples", "5"],
        &["--address", "https://n.test/x", "--without", "media"],
    ];
    for (number, variant) in VARIANTS.into_iter().enumerate() {
        // Every wish with some of the lines, every line with two of them.
        for wish in [wishes[number % 5], wishes[(number + 2) % 5]] {
            let bench = Bench::new();
            let site = bench.site(variant);
            let mut source = vec!["--dump", "old.sql"];
            if site.write_outside(&bench.path("storage")).unwrap() {
                outside_lies_here(&bench);
            }
            if format!("{variant:?}").starts_with("Drupal") {
                source.extend(["--host-folder", "default"]);
            }
            let database =
                if format!("{variant:?}").starts_with("Dnn") { "sqlserver://u@h/n" } else { "mysql://u@h/n" };
            let to = ["--database", database, "--old-address", &site.address, "--old-root", &site.root];
            let mut kept = Vec::new();
            for (way, folder) in [("clone", "one"), ("restore", "two")] {
                let dump = format!("{folder}.sql");
                let outcome = if way == "clone" {
                    let clone =
                        [&["clone", "old", "copy"][..], &source, &to, &["--dump-to", &dump], wish].concat();
                    // The folder outside goes beside the copy by either way.
                    bench.run(&clone)
                } else {
                    let pack =
                        [&["pack", "old", "-o", "a.tar.zst", "--old-address", &site.address][..], &source]
                            .concat();
                    bench.run(&pack).says(&["Packed"]);
                    bench.run(
                        &[&["restore", "a.tar.zst", "copy"][..], &to, &["--dump-to", &dump], wish].concat(),
                    )
                };
                assert!(outcome.code <= 1, "{variant:?} {wish:?}: {}{}", outcome.stdout, outcome.stderr);
                let copy = bench.path("copy");
                let there = if copy.exists() { files(&copy) } else { Vec::new() };
                kept.push((there, bench.read(&dump)));
                for made in ["copy", "copy-storage"] {
                    let _ = std::fs::rename(bench.path(made), bench.path(&format!("{folder}-{made}")));
                }
            }
            assert_eq!(kept[0].1, kept[1].1, "{variant:?} {wish:?}");
            let other = |a: usize, b: usize| -> Vec<String> {
                let (a, b) = (&kept[a].0, &kept[b].0);
                a.iter().filter(|f| !b.contains(f)).map(|(path, _)| path.display().to_string()).collect()
            };
            let differing = (other(0, 1), other(1, 0));
            assert_eq!(differing, (vec![], vec![]), "{variant:?} {wish:?}");
            // The newer portal's script is in UTF-16.
            assert!(kept[0].1.replace('\0', "").contains("n.test"), "{variant:?} {wish:?}");
        }
    }
}

/// Reads a PHP file in a process of its own: what it returns, its variables and constants, as way and value.
fn told_by_php(file: &std::path::Path) -> std::collections::BTreeMap<String, String> {
    let show = "$all = (function () { $returned = include $GLOBALS['argv'][1]; return array('returned' => $returned) + get_defined_vars(); })();\n\
        $consts = get_defined_constants(true); echo json_encode(array($all, isset($consts['user']) ? $consts['user'] : array()));";
    let told: serde_json::Value = serde_json::from_str(&php::run(show, &[file])).unwrap();
    let mut out = std::collections::BTreeMap::new();
    let mut todo = vec![(String::new(), told)];
    while let Some((way, value)) = todo.pop() {
        match value {
            serde_json::Value::Object(map) => {
                todo.extend(map.into_iter().map(|(k, v)| (format!("{way}.{k}"), v)))
            }
            serde_json::Value::Array(list) => {
                todo.extend(list.into_iter().enumerate().map(|(i, v)| (format!("{way}.{i}"), v)))
            }
            other => {
                out.insert(way, other.as_str().map_or(other.to_string(), str::to_string));
            }
        }
    }
    out
}

#[test]
fn php_reads_every_config_as_it_was_meant_and_nothing_else_changed() {
    if !php::there() {
        return;
    }
    let secret = super::common::NEW_PASSWORD;
    // Line, config file, and what PHP must find under the end of a name; everything else is as it was.
    type Row = (Variant, &'static str, &'static [(&'static str, &'static str)]);
    let paths = [
        "DIR_OPENCART",
        "DIR_APPLICATION",
        "DIR_SYSTEM",
        "DIR_IMAGE",
        "DIR_CATALOG",
        "DIR_CACHE",
        "DIR_STORAGE",
        "ABSPATH",
        "WP_TEMP_DIR",
        "file_temp_path",
        "file_directory_temp",
    ];
    let rows: [Row; 9] = [
        (
            Variant::WordPress,
            "wp-config.php",
            &[
                (".DB_HOST", "h:3310"),
                (".DB_NAME", "n"),
                (".DB_USER", "u"),
                (".DB_PASSWORD", ""),
                (".table_prefix", "nu_"),
            ],
        ),
        (
            Variant::WordPressNetwork,
            "wp-config.php",
            &[
                (".DB_HOST", "h:3310"),
                (".DB_NAME", "n"),
                (".DB_USER", "u"),
                (".DB_PASSWORD", ""),
                (".table_prefix", "nu_"),
                (".DOMAIN_CURRENT_SITE", "n.test:81"),
                (".PATH_CURRENT_SITE", "/b/"),
            ],
        ),
        (
            Variant::OpenCart15,
            "config.php",
            &[
                (".DB_HOSTNAME", "h:3310"),
                (".DB_DATABASE", "n"),
                (".DB_USERNAME", "u"),
                (".DB_PASSWORD", ""),
                (".DB_PREFIX", "nu_"),
                (".HTTP_SERVER", "http://n.test:81/b/"),
                (".HTTPS_SERVER", "http://n.test:81/b/"),
            ],
        ),
        (
            Variant::OpenCart4,
            "dome-office/config.php",
            &[
                (".DB_HOSTNAME", "h"),
                (".DB_PORT", "3310"),
                (".DB_DATABASE", "n"),
                (".DB_USERNAME", "u"),
                (".DB_PASSWORD", ""),
                (".DB_PREFIX", "nu_"),
                (".HTTP_SERVER", "http://n.test:81/b/dome-office/"),
                (".HTTP_CATALOG", "http://n.test:81/b/"),
            ],
        ),
        (
            Variant::PhpBb30,
            "config.php",
            &[
                (".dbhost", "h"),
                (".dbport", "3310"),
                (".dbname", "n"),
                (".dbuser", "u"),
                (".dbpasswd", ""),
                (".table_prefix", "nu_"),
            ],
        ),
        (
            Variant::PhpBb33,
            "config.php",
            &[
                (".dbhost", "h"),
                (".dbport", "3310"),
                (".dbname", "n"),
                (".dbuser", "u"),
                (".dbpasswd", ""),
                (".table_prefix", "nu_"),
            ],
        ),
        (
            Variant::Drupal7,
            "sites/default/settings.php",
            &[
                ("default.default.host", "h"),
                ("default.default.port", "3310"),
                ("default.default.database", "n"),
                ("default.default.username", "u"),
                ("default.default.password", ""),
                ("default.default.prefix", "nu_"),
                (".base_url", "http://n.test:81/b"),
            ],
        ),
        (
            Variant::Drupal10,
            "sites/default/settings.php",
            &[
                ("default.default.host", "h"),
                ("default.default.port", "3310"),
                ("default.default.database", "n"),
                ("default.default.username", "u"),
                ("default.default.password", ""),
                ("default.default.prefix", "nu_"),
                (".trusted_host_patterns.0", "^n\\.test$"),
            ],
        ),
        (
            Variant::PrestaShop9,
            "app/config/parameters.php",
            &[
                (".database_host", "h"),
                (".database_port", "3310"),
                (".database_name", "n"),
                (".database_user", "u"),
                (".database_password", ""),
                (".database_prefix", "nu_"),
            ],
        ),
    ];
    for (variant, file, expected) in rows {
        let bench = Bench::new();
        let site = bench.site(variant);
        let outside = site.write_outside(&bench.path("outside")).unwrap();
        let mut pack =
            vec!["pack", "old", "--dump", "old.sql", "-o", "a.zip", "--old-address", &site.address];
        if outside {
            pack.extend(["--storage", "outside"]);
        }
        if site.definition().starts_with("drupal") {
            pack.extend(["--host-folder", "default"]);
        }
        bench.run(&pack).expect(0).says(&["Packed"]);
        let args = [
            "restore",
            "a.zip",
            "new",
            "--address",
            "http://n.test:81/b",
            "--database",
            "mysql://u@h:3310/n",
            "--dump-to",
            "n.sql",
            "--table-prefix",
            "nu_",
            "--old-root",
            &site.root,
        ];
        bench.run(&args).says(&["Restored"]);
        let (old, new) = (
            told_by_php(&bench.path(&format!("old/{file}"))),
            told_by_php(&bench.path(&format!("new/{file}"))),
        );
        let meant = |name: &str| expected.iter().find(|(end, _)| name.ends_with(end)).map(|(_, v)| *v);
        for (name, value) in &new {
            match meant(name) {
                Some("") => assert_eq!(value, secret, "{variant:?} {name}"),
                Some(wanted) => assert_eq!(value, wanted, "{variant:?} {name}"),
                None if paths.iter().any(|p| name.ends_with(p)) => {
                    assert!(!value.contains("/home/fernhollow"), "{variant:?} {name}: {value}")
                }
                None => assert_eq!(Some(value), old.get(name), "{variant:?} {name}"),
            }
        }
        for (end, _) in expected {
            assert!(new.keys().any(|name| name.ends_with(end)), "{variant:?} {end}: {new:?}");
        }
        assert!(old.keys().all(|name| new.contains_key(name)), "{variant:?}: nothing is lost");
    }
}
