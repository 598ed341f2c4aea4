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

/// Moves the core of a blog into a folder of its own.
fn core_apart(bench: &Bench, site: &str, core: &str) {
    std::fs::create_dir_all(bench.path(site).join(core)).unwrap();
    for part in ["wp-includes", "wp-admin", "wp-load.php", "wp-settings.php"] {
        std::fs::rename(bench.path(site).join(part), bench.path(site).join(core).join(part)).unwrap();
    }
}

#[test]
fn a_core_in_a_folder_of_its_own_is_carried_with_content_and_config() {
    let clone = |bench: &Bench, site: &str| {
        bench.write("pass", "fake-new");
        let to = [
            "--address",
            "https://blog.new.example/x",
            "--database",
            "mysql://nu@dbh/nn",
            "--dump-to",
            "new.sql",
        ];
        let done = bench.run(
            &[&["clone", site, "new", "--dump", "old.sql", "--database-password-file", "pass"], &to[..]]
                .concat(),
        );
        assert!(done.code <= 1, "{}", done.stderr);
    };
    // Beside the content, config at the top.
    let bench = Bench::new();
    let site = Site::of(Variant::WordPress);
    site.write(&bench.path("home/pub")).unwrap();
    bench.write("old.sql", site.dump_file());
    core_apart(&bench, "home/pub", "wp");
    bench.write("home/pub/index.php", "<?php require __DIR__ . '/wp/wp-blog-header.php';\n");
    bench.run(&["survey", "home/pub", "--dump", "old.sql"]).says(&["WordPress 6", "wp-config.php"]);
    clone(&bench, "home/pub");
    assert!(bench.read("new/wp-config.php").contains("'nn'"));
    assert!(
        bench.path("new/wp/wp-includes/version.php").exists()
            && bench.path("new/wp-content/uploads").exists()
    );

    // As a project: everything that is particular to a place stands in one environment file.
    let bench = Bench::new();
    site.write(&bench.path("home/web")).unwrap();
    bench.write("old.sql", site.dump_file());
    core_apart(&bench, "home/web", "wp");
    std::fs::rename(bench.path("home/web/wp-content"), bench.path("home/web/app")).unwrap();
    std::fs::remove_file(bench.path("home/web/wp-config.php")).unwrap();
    std::fs::create_dir(bench.path("home/config")).unwrap();
    bench.write("home/config/application.php", "<?php define('WP_HOME', getenv('WP_HOME'));\n");
    bench.write(
        "home/.env",
        format!("DB_NAME='old'\nDB_USER='old'\nDB_PASSWORD='fake'\nDB_PREFIX='wp_'\nWP_HOME='{}'\nWP_SITEURL=\"${{WP_HOME}}/wp\"\n", site.address),
    );
    bench.run(&["survey", "home", "--dump", "old.sql"]).says(&["WordPress 6", ".env"]);
    clone(&bench, "home");
    let env = bench.read("new/.env");
    assert!(
        env.contains("nn") && env.contains("https://blog.new.example/x") && env.contains("${WP_HOME}/wp"),
        "{env}"
    );
    assert!(bench.path("new/web/app/uploads").exists());
}

#[test]
fn private_files_that_a_row_names_are_carried_and_a_line_that_beats_a_row_is_told() {
    let bench = Bench::new();
    let site = Site::of(Variant::Drupal7);
    site.write(&bench.path("old")).unwrap();
    std::fs::create_dir(bench.path("private")).unwrap();
    bench.write("private/list.txt", "for members alone\n");
    let private = bench.path("private").display().to_string();
    let row = format!(
        "INSERT INTO `{}variable` VALUES ('file_private_path','s:{}:\"{private}\";');\n",
        site.prefix,
        private.len()
    );
    bench.write("old.sql", site.dump() + &row);
    let settings = bench.read("old/sites/default/settings.php");
    bench
        .write("old/sites/default/settings.php", settings + "\n$conf['site_name'] = 'As the file has it';\n");
    bench.write("pass", "fake-new");
    let clone = |from: &str, to: &str| {
        let (dump, out) = ("old.sql", format!("{to}.sql"));
        bench.run(&[
            "clone",
            from,
            to,
            "--dump",
            dump,
            "--host-folder",
            "default",
            "--old-address",
            &site.address,
            "--address",
            "https://club.new.example",
            "--database",
            "mysql://nu@dbh/nn",
            "--dump-to",
            &out,
            "--database-password-file",
            "pass",
            "--site-name",
            "A copy",
        ])
    };
    let done = clone("old", "new").says(&["counts for more"]);
    assert!(done.code <= 1, "{}", done.stderr);
    assert_eq!(bench.read("new-storage/list.txt"), "for members alone\n");
    let moved = bench.path("new-storage").display().to_string();
    assert!(
        bench.read("new.sql").contains(&format!("s:{}:\\\"{moved}\\\"", moved.len()))
            || bench.read("new.sql").contains(&format!("s:{}:\"{moved}\"", moved.len()))
    );
    // Where the folder is not there, that is said.
    std::fs::remove_dir_all(bench.path("private")).unwrap();
    bench
        .run(&["survey", "old", "--dump", "old.sql", "--host-folder", "default"])
        .says(&["private files", "is not here"]);
}
