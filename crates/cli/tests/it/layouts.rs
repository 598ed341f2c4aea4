//! Sites whose document root is not their folder: projects with libraries beside it, a config above it.

use super::common::Bench;
use zporter_standin::{Site, Variant};

/// A project: the site in `project/web`, libraries, private files and exported settings beside it.
fn project(bench: &Bench, variant: Variant, root: &str) -> Site {
    let site = Site::of(variant);
    site.write(&bench.path(&format!("project/{root}"))).unwrap();
    bench.write("old.sql", site.dump_file());
    for (path, text) in [
        ("composer.json", "{ \"type\": \"project\" }\n"),
        ("vendor/autoload.php", "<?php // libraries\n"),
        ("private/list.txt", "for members alone\n"),
        ("config/sync/system.site.yml", "name: Club\n"),
        ("dump.sql", "-- nobody can fetch this here\n"),
    ] {
        std::fs::create_dir_all(bench.path("project").join(path).parent().unwrap()).unwrap();
        bench.write(&format!("project/{path}"), text);
    }
    site
}

#[test]
fn a_project_is_carried_whole_and_its_settings_follow_in_the_document_root() {
    let bench = Bench::new();
    let site = project(&bench, Variant::Drupal10, "web");
    let found = bench.run(&["survey", "project", "--dump", "old.sql"]);
    let found = found.says(&["Drupal", "web/sites/default/settings.php"]);
    assert!(
        !found.stdout.contains("dump.sql: "),
        "beside the document root nobody can fetch it: {}",
        found.stdout
    );
    // The document root alone is half of it, and that is said.
    bench
        .run(&["survey", "project/web", "--dump", "old.sql"])
        .says(&["their libraries".trim_start_matches("their "), "name /"]);
    let dump = ["--dump", "old.sql", "--host-folder", "default"];
    let to = ["--address", "https://club.new.example", "--database", "mysql://nu@dbh/nn", "--dump-to"];
    bench.write("pass", "fake-new");
    let pass = ["--database-password-file", "pass"];
    let clone = [&["clone", "project", "new"], &dump[..], &to, &["new.sql"], &pass].concat();
    let done = bench.run(&[&clone[..], &["--old-address", &site.address]].concat());
    assert!(done.code <= 1, "{}", done.stderr);
    bench
        .run(&[&["pack", "project", "-o", "p.zip"], &dump[..], &["--old-address", &site.address]].concat())
        .expect(0);
    let restore = [&["restore", "p.zip", "again"], &to[..], &["again.sql"], &pass].concat();
    let done = bench.run(&restore);
    assert!(done.code <= 1, "{}", done.stderr);
    for copy in ["new", "again"] {
        for part in [
            "vendor/autoload.php",
            "private/list.txt",
            "config/sync/system.site.yml",
            "web/core/lib/Drupal.php",
        ] {
            assert!(bench.path(copy).join(part).exists(), "{copy}: {part}");
        }
        let settings = bench.read(&format!("{copy}/web/sites/default/settings.php"));
        assert!(settings.contains("'nn'") && settings.contains("fake-new"), "{settings}");
    }
    let same = |a: &str, b: &str| assert_eq!(bench.read(a).replace("/again", "/new"), bench.read(b), "{a}");
    same("again/web/sites/default/settings.php", "new/web/sites/default/settings.php");
    same("again.sql", "new.sql");
}

#[test]
fn a_config_above_the_document_root_belongs_to_the_site() {
    let bench = Bench::new();
    let site = Site::of(Variant::WordPress);
    site.write(&bench.path("home/public_html")).unwrap();
    bench.write("old.sql", site.dump_file());
    std::fs::rename(bench.path("home/public_html/wp-config.php"), bench.path("home/wp-config.php")).unwrap();
    bench
        .run(&["survey", "home/public_html", "--dump", "old.sql"])
        .says(&["one folder above the document root"]);
    bench.run(&["survey", "home", "--dump", "old.sql"]).says(&["WordPress", "wp-config.php"]);
    bench.write("pass", "fake-new");
    let done = bench.run(&[
        "clone",
        "home",
        "new",
        "--dump",
        "old.sql",
        "--address",
        "https://blog.new.example",
        "--database",
        "mysql://nu@dbh/nn",
        "--dump-to",
        "new.sql",
        "--database-password-file",
        "pass",
    ]);
    assert!(done.code <= 1, "{}", done.stderr);
    let config = bench.read("new/wp-config.php");
    assert!(config.contains("'nn'") && config.contains("fake-new"), "{config}");
    assert!(bench.path("new/public_html/wp-load.php").exists());
}
