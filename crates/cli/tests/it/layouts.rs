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
    bench.write("private/list.txt", "for members alone\n");
    let private = bench.path("private").display().to_string();
    let named = format!("s:{}:\\\"{private}\\\";", private.len());
    bench.write("old.sql", site.dump().replace("s:10:\\\"../private\\\";", &named));
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

/// Clones a site into files, whatever its findings.
fn cloned(bench: &Bench, from: &str, to: &str, more: &[&str]) -> String {
    bench.write("pass", "fake-new");
    let out = format!("{to}.sql");
    let options =
        ["--address", "https://club.new.example", "--database", "mysql://nu@dbh/nn", "--dump-to", &out];
    let files = ["--dump", "old.sql", "--database-password-file", "pass"];
    let done = bench.run(&[&["clone", from, to], &options[..], &files, more].concat());
    assert!(done.code <= 1, "{}", done.stderr);
    bench.read(&out)
}

#[test]
fn private_files_beside_the_document_root_are_carried_and_their_path_becomes_whole() {
    let bench = Bench::new();
    std::fs::create_dir_all(bench.path("home/private/tmp")).unwrap();
    bench.write("home/private/tmp/list.txt", "for members alone\n");
    let moved = bench.path("new-storage").display().to_string();
    // In a row, as a path from the document root.
    let site = Site::of(Variant::Drupal7);
    site.write(&bench.path("home/seven")).unwrap();
    bench.write("old.sql", site.dump());
    let more = ["--host-folder", "default", "--old-address", &site.address];
    let dump = cloned(&bench, "home/seven", "new", &more);
    assert_eq!(bench.read("new-storage/tmp/list.txt"), "for members alone\n");
    let set = format!("s:{}:\"{moved}\"", moved.len());
    assert!(dump.replace('\\', "").contains(&set) && !dump.contains("../private"), "{dump}");
    // The same from an archive, and in a key of the config.
    std::fs::remove_dir_all(bench.path("new-storage")).unwrap();
    let site = Site::of(Variant::Drupal10);
    site.write(&bench.path("home/ten")).unwrap();
    bench.write("old.sql", site.dump());
    let file = format!("home/ten/{}", "sites/default/settings.php");
    bench.write(&file, bench.read(&file) + "\n$settings['file_private_path'] = '../private';\n");
    bench
        .run(&["pack", "home/ten", "--dump", "old.sql", "--host-folder", "default", "-o", "a.tar.zst"])
        .says(&["Packed"]);
    std::fs::rename(bench.path("home"), bench.path("gone")).unwrap();
    bench
        .run(&[
            "restore",
            "a.tar.zst",
            "web/ten",
            "--address",
            "https://club.new.example",
            "--database",
            "mysql://nu@dbh/nn",
            "--dump-to",
            "ten.sql",
            "--database-password-file",
            "pass",
            "--old-address",
            &site.address,
        ])
        .says(&["Restored"]);
    let moved = bench.path("web/ten-storage").display().to_string();
    assert_eq!(bench.read("web/ten-storage/tmp/list.txt"), "for members alone\n");
    let settings = bench.read("web/ten/sites/default/settings.php");
    assert!(settings.contains(&format!("$settings['file_private_path'] = '{moved}';")), "{settings}");
}

#[test]
fn goods_for_download_that_a_packed_row_names_are_carried_and_followed() {
    for how in ["serialized", "json"] {
        let spelled = |path: &str| match how {
            "json" => format!("\\\"{}\\\"", path.replace('/', "\\\\/")),
            _ => format!("s:{}:\\\"{path}\\\";", path.len()),
        };
        let bench = Bench::new();
        let site = Site::of(Variant::Joomla310);
        site.write(&bench.path("old")).unwrap();
        std::fs::create_dir_all(bench.path("vmfiles/tmp")).unwrap();
        bench.write("vmfiles/tmp/invoice.pdf", "made up");
        let path = bench.path("vmfiles").display().to_string();
        let config = |path: &str| format!("shop_is_offline=0|forSale_path={}|useSSL=0", spelled(path));
        let dump = site.dump();
        let (before, rest) = dump.split_once("'shop_is_offline").unwrap();
        let after = &rest[rest.find(");\n").unwrap()..];
        bench.write("old.sql", format!("{before}'{}'{after}", config(&path)));
        let dump = cloned(&bench, "old", "new", &[]);
        assert_eq!(bench.read("new-storage/tmp/invoice.pdf"), "made up", "{how}");
        let moved = bench.path("new-storage").display().to_string();
        assert!(dump.contains(&config(&moved)), "{how}: {dump}");
    }
}

#[test]
fn content_that_the_config_moves_is_copied_as_what_it_is() {
    let bench = Bench::new();
    let site = Site::of(Variant::WordPress);
    site.write(&bench.path("old")).unwrap();
    std::fs::rename(bench.path("old/wp-content"), bench.path("old/assets")).unwrap();
    let config = bench.read("old/wp-config.php");
    bench.write("old/wp-config.php", config + "define('WP_CONTENT_DIR', __DIR__ . '/assets');\n");
    bench.write("old.sql", site.dump());
    bench.run(&["pack", "old", "--dump", "old.sql", "--without", "media", "-o", "a.zip"]).says(&["Packed"]);
    bench.write("pass", "fake-new");
    bench
        .run(&[
            "restore",
            "a.zip",
            "new",
            "--address",
            "https://n.test",
            "--database",
            "mysql://nu@h/n",
            "--dump-to",
            "n.sql",
            "--database-password-file",
            "pass",
            "--set",
            "mail=off",
        ])
        .says(&["mail=off"]);
    let there = |path: &str| bench.path(&format!("new/{path}")).exists();
    assert!(there("assets/themes/night/style.css") && there("assets/mu-plugins/no-mail.php"));
    assert!(!there("assets/uploads/2026/03/milky way.png"), "media was not asked for");
    assert!(!there("assets/cache/page/index.html"), "the cache stays behind");
    assert!(!there("wp-content"));
}

#[test]
fn a_configuration_that_lies_above_its_site_is_found_there() {
    let bench = Bench::new();
    let site = Site::of(Variant::Joomla310);
    site.write(&bench.path("home/public_html")).unwrap();
    std::fs::rename(bench.path("home/public_html/configuration.php"), bench.path("home/configuration.php"))
        .unwrap();
    for (path, text) in [
        ("administrator/components/com_admin/admin.php", "<?php\n"),
        ("defines.php", "<?php\ndefine('JPATH_CONFIGURATION', '/home/fernhollow');\n"),
    ] {
        let path = format!("home/public_html/{path}");
        std::fs::create_dir_all(bench.path(&path).parent().unwrap()).unwrap();
        bench.write(&path, text);
    }
    bench.write("old.sql", site.dump());
    bench.run(&["survey", "home/public_html"]).says(&["one folder above"]);
    let more = ["--old-root", "/home/fernhollow", "--old-address", &site.address];
    let dump = cloned(&bench, "home", "new", &more);
    assert!(dump.contains("https://club.new.example"), "{dump}");
    let config = bench.read("new/configuration.php");
    assert!(config.contains("$db = 'nn';"), "{config}");
    let defines = bench.read("new/public_html/defines.php");
    assert!(defines.contains(&format!("'{}'", bench.path("new").display())), "{defines}");
}

#[test]
fn a_zip_of_a_project_is_restored_as_the_project() {
    let bench = Bench::new();
    let site = Site::of(Variant::Drupal10);
    site.write(&bench.path("club/web")).unwrap();
    for (path, text) in
        [("composer.json", "{}"), ("vendor/autoload.php", "<?php\n"), ("config/sync/core.yml", "x: 1\n")]
    {
        std::fs::create_dir_all(bench.path(&format!("club/{path}")).parent().unwrap()).unwrap();
        bench.write(&format!("club/{path}"), text);
    }
    bench.write("club/backup.sql", site.dump());
    let zip = |folder: &str, name: &str| {
        let done = std::process::Command::new("python3")
            .args(["-m", "zipfile", "-c", name, folder])
            .current_dir(bench.path("."))
            .status();
        assert!(done.unwrap().success());
    };
    zip("club", "plain.zip");
    bench.write("pass", "fake-new");
    bench
        .run(&[
            "restore",
            "plain.zip",
            "new",
            "--host-folder",
            "default",
            "--old-address",
            &site.address,
            "--address",
            "https://n.test",
            "--database",
            "mysql://nu@h/nn",
            "--dump-to",
            "n.sql",
            "--database-password-file",
            "pass",
        ])
        .says(&["Restored"]);
    let settings = bench.read("new/web/sites/default/settings.php");
    assert!(settings.contains("'nn'") && bench.path("new/vendor/autoload.php").exists(), "{settings}");
    assert!(bench.path("new/config/sync/core.yml").exists());
    // The document root alone is a site as well.
    zip("club/web", "alone.zip");
    bench
        .run(&[
            "restore",
            "alone.zip",
            "two",
            "--host-folder",
            "default",
            "--old-address",
            &site.address,
            "--address",
            "https://n.test",
            "--database",
            "mysql://nu@h/nn",
            "--dump-to",
            "m.sql",
            "--dump",
            "club/backup.sql",
            "--database-password-file",
            "pass",
        ])
        .says(&["Restored"]);
    assert!(bench.path("two/sites/default/settings.php").exists());
}
