//! Every system and line through the whole job: survey, pack, prove, restore under another host, base path, root, database, user and
//! prefix, its pages opened by real PHP from the copy.

use super::common::mariadb::server;
use super::common::php::{self, Php};
use super::common::{Bench, nothing_points_back};
use zporter_standin::{Site, VARIANTS, Variant};

/// What a stand-in's page must show of the copy, beside its new address.
fn shown(variant: Variant) -> &'static [&'static str] {
    match variant {
        Variant::WordPress => &["sternführung\">Führung</a>\";}", "milky%20way.png"],
        Variant::WordPressNetwork => &["sternführung"],
        Variant::OpenCart15 => &["/grüße", "sessions: 0", "store: https://kids.fernhollow.example/"],
        Variant::OpenCart23 | Variant::OpenCart3 | Variant::OpenCart4 => &["/grüße", "sessions: 0"],
        Variant::PhpBb30 | Variant::PhpBb33 => &["viewtopic.php?t=1", "sessions: 0", "/f2"],
        Variant::Drupal6 | Variant::Drupal7 => &["sites/default", "Ünder", "/shop: Array"],
        Variant::Drupal10 => &["sites/default", "[slogan] => Über", "block.block.start: Array"],
        Variant::PrestaShop14
        | Variant::PrestaShop16
        | Variant::ThirtyBees
        | Variant::PrestaShop17
        | Variant::PrestaShop9 => &["angebote-für-alle", "compiled: 0"],
        _ => &["/forum\"", "sessions: 0", "log_path: writable"],
    }
}

#[test]
fn every_line_moves_to_another_host_path_root_database_user_and_prefix() {
    let Some(server) = server() else { return };
    if !php::there() {
        return;
    }
    for variant in VARIANTS.into_iter().filter(|v| !matches!(v, Variant::Dnn5 | Variant::Dnn9)) {
        let bench = Bench::new();
        let site = bench.site(variant);
        let survey = bench.run(&["survey", "old", "--dump", "old.sql", "--json"]).expect(0).json();
        assert_eq!(survey["system"]["id"], site.definition(), "{variant:?}");
        assert_eq!(survey["system"]["version"], site.version(), "{variant:?}");
        assert_eq!(survey["database"]["table_prefix"], site.prefix, "{variant:?}");
        assert_eq!(survey["database"]["name"], site.database[3], "{variant:?}");
        let mut pack = vec!["pack", "old", "--dump", "old.sql", "-o", "a.tar.zst"];
        // Drupal 10 keeps its address nowhere, and two hosts live on the code base of each line of it.
        if survey["hosts"].as_array().is_some_and(|h| h.len() > 1) {
            pack.extend(["--host-folder", "default"]);
        }
        match survey["address"]["address"].as_str() {
            Some(address) => assert_eq!(address, site.address, "{variant:?}"),
            None => pack.extend(["--address", &site.address]),
        }
        if site.write_outside(&bench.path("outside")).unwrap() {
            pack.extend(["--storage", "outside"]);
        }
        bench.run(&pack).expect(0).says(&["Packed"]);
        bench.run(&["prove", "a.tar.zst"]).expect(0).says(&["Whole"]);
        std::fs::remove_dir_all(bench.path("old")).unwrap();

        let database = server.new_database();
        let port = php::port();
        let (host, base) = (format!("copy.fernhollow.test:{port}"), "/branch/site");
        let address = format!("http://{host}{base}");
        let target = bench.path("web/branch/site");
        std::fs::create_dir_all(target.parent().unwrap()).unwrap();
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
            "--from-root",
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

        let php = Php::serve(&bench.path("web"), port);
        let (status, page) = php.get(&host, &format!("{base}/"));
        assert_eq!(status, 200, "{variant:?}: {page}\n{report:#}");
        assert!(
            !page.contains("BROKEN") && !page.contains("Warning") && !page.contains("MISSING"),
            "{variant:?}: {page}"
        );
        for text in shown(variant).iter().copied().chain([address.as_str()]) {
            assert!(page.contains(text), "{variant:?}: {text} is not in {page}");
        }
        if variant != Variant::WordPressNetwork {
            assert!(page.contains("Kopie für Fernhollow"), "{variant:?}: {page}\n{report:#}");
        }
        let content = server.content(&database);
        nothing_points_back(&report, &site, &target, &content);
        assert!(
            !content.contains(&format!("`{}", site.prefix)),
            "{variant:?}: a table kept its prefix\n{content}"
        );
        assert!(
            content.contains("copy@fernhollow.test") || variant == Variant::Joomla15,
            "{variant:?}: {content}\n{report:#}"
        );
        assert!(!report.to_string().contains("fake-Nova-1604"));
        if variant == Variant::WordPressNetwork {
            let (status, page) = php.get(&host, &format!("{base}/club/"));
            assert!(status == 200 && page.contains("Fernhollow Club"), "{page}");
        }
    }
}
