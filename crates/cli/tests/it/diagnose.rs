//! Sites that do not open: each fault is found by its code, and a site without faults has none that is certain or likely.

use super::common::Bench;
use super::common::mariadb::{Database, Server, server};
use zporter_standin::{Site, VARIANTS, Variant};

/// Codes of what is found, of what is more than possible.
fn found(bench: &Bench) -> Vec<String> {
    let document = bench.run(&["diagnose", "old", "--json"]).document();
    let all = document["result"]["found"].as_array().unwrap_or_else(|| panic!("{document:#}"));
    // Which PHP the machine has is no fault of the site.
    let meant = all.iter().filter(|d| d["sure"] != "possible" && d["code"] != "php-unfit");
    meant.map(|d| format!("{} {}", d["code"].as_str().unwrap(), d["what"].as_str().unwrap())).collect()
}

/// Themes that rows of the stand-in name.
fn whole(bench: &Bench, variant: Variant) {
    let folders = match variant {
        Variant::WordPress => vec!["wp-content/themes/fern"],
        _ => Vec::new(),
    };
    for folder in folders {
        std::fs::create_dir_all(bench.path("old").join(folder)).unwrap();
    }
}

fn live(bench: &Bench, server: &'static Server, variant: Variant) -> (Site, Database) {
    let made = bench.live(server, variant);
    whole(bench, variant);
    // What the stand-ins' own caches were made for is another place.
    let _ = bench.run(&["switch", "old", "cache=clear"]);
    made
}

#[test]
fn a_site_without_faults_has_none_and_each_fault_is_found() {
    let Some(server) = server() else { return };
    let with_database = |v: &Variant| !matches!(v, Variant::Dnn5 | Variant::Dnn9);
    for variant in VARIANTS.into_iter().filter(with_database) {
        let bench = Bench::new();
        let (site, database) = live(&bench, server, variant);
        let _ = std::fs::remove_dir_all(bench.path("old/sites/members.fernhollow.example"));
        let settled = bench.run(&["settle", "old", "--address", &site.address]);
        assert!(settled.code <= 1, "{variant:?} {}{}", settled.stdout, settled.stderr);
        let good = found(&bench);
        let good: Vec<&String> = good.iter().filter(|f| !f.starts_with("folder-missing")).collect();
        assert!(good.is_empty(), "{variant:?}: {good:#?}");
        // The database goes away from under it.
        server.load_with_client(
            &database,
            &format!("RENAME TABLE `{0}` TO `{0}_x`;\n", first_table(server, &database)),
        );
        std::fs::create_dir_all(bench.path("old/logs")).unwrap();
        bench.write("old/logs/error.log", "[28-Nov-2026] ok\nPHP Fatal error:  Uncaught Error: Class not found in /x.php\n[29-Nov-2026] ok\n");
        let now = found(&bench);
        assert!(
            now.iter().any(|f| f.starts_with("log-says") && f.contains("Class not found")),
            "{variant:?} {now:#?}"
        );
        let mut root = server.root();
        mysql::prelude::Queryable::query_drop(
            &mut root,
            format!("REVOKE ALL ON {}.* FROM '{}'@'localhost'", database.name, database.user),
        )
        .unwrap();
        mysql::prelude::Queryable::query_drop(
            &mut root,
            format!("REVOKE ALL ON {}.* FROM '{}'@'127.0.0.1'", database.name, database.user),
        )
        .unwrap();
        let now = found(&bench);
        assert!(now.iter().any(|f| f.starts_with("database-refused")), "{variant:?} {now:#?}");
    }
}

fn first_table(server: &Server, database: &Database) -> String {
    let content = server.content(database);
    content
        .lines()
        .find_map(|l| l.strip_prefix("CREATE TABLE `"))
        .unwrap()
        .split('`')
        .next()
        .unwrap()
        .to_string()
}

#[test]
fn faults_of_files_and_rows_are_told_with_what_cures_them() {
    let Some(server) = server() else { return };
    let bench = Bench::new();
    let (site, database) = live(&bench, server, Variant::WordPress);
    let config = std::fs::read_to_string(bench.path("old/wp-config.php")).unwrap();
    let rows = |option: &str, value: &str| {
        let sql = format!(
            "INSERT INTO `{0}options` SELECT MAX(`option_id`) + 1, '{option}', '{value}', 'yes' FROM `{0}options`;\n",
            site.prefix
        );
        server.load_with_client(&database, &sql);
    };
    let has = |code: &str, words: &str| {
        let now = found(&bench);
        assert!(now.iter().any(|f| f.starts_with(code) && f.contains(words)), "{code}: {now:#?}");
    };
    // A theme that is not there.
    rows("stylesheet", "gone");
    has("folder-missing", "gone");
    // A cache that was made in another folder.
    std::fs::create_dir_all(bench.path("old/wp-content/cache")).unwrap();
    bench.write("old/wp-content/cache/a.php", "<?php require '/home/other/www/wp-includes/version.php';");
    has("cache-of-other-place", "/home/other/www");
    // The web server's file leads into a folder that the address does not have.
    bench.write("old/.htaccess", "RewriteEngine On\nRewriteBase /elsewhere/\n");
    has("redirect-elsewhere", "/elsewhere/");
    // The web server and the site send visitors to and fro: by the other scheme, or the name with `www.`.
    for rule in [
        "RewriteCond %{HTTPS} on\nRewriteRule ^(.*)$ http://%{HTTP_HOST}%{REQUEST_URI} [R=301,L]",
        "RewriteRule ^(.*)$ https://www.blog.fernhollow.example/$1 [R=301,L]",
        "Redirect permanent / http://blog.fernhollow.example/",
    ] {
        bench.write("old/.htaccess", format!("RewriteEngine On\n{rule}\n"));
        has("redirect-loop", "round in a circle");
    }
    bench.write(
        "old/.htaccess",
        "RewriteEngine On\nRewriteRule ^(.*)$ https://blog.fernhollow.example/$1 [R=301,L]\n",
    );
    assert!(!found(&bench).iter().any(|f| f.starts_with("redirect-")), "its own address is no loop");
    // Rows that speak of another folder.
    rows("upload_note", "/home/fernhollow/wordpress/wp-content/x");
    let moved =
        config.replace("<?php", "<?php\ndefine('WP_CONTENT_DIR', '/home/fernhollow/wordpress/wp-content');");
    bench.write("old/wp-config.php", &moved);
    has("settle-needed", "/home/fernhollow/wordpress");
    // A prefix of no table, and a file that PHP cannot read.
    bench.write("old/wp-config.php", config.replacen("table_prefix", "table_prefix = 'wrong_'; $was", 1));
    has("prefix-fits-nothing", &site.prefix);
    bench.write("old/wp-config.php", config.replacen("define(", "define((", 1));
    let now = bench.run(&["diagnose", "old"]);
    assert!(
        now.stdout.contains("cannot be read as php") || now.stdout.contains("names no database"),
        "{}",
        now.stdout
    );
    bench.write("old/wp-config.php", &config);
    // Nothing was changed by looking.
    assert_eq!(std::fs::read_to_string(bench.path("old/wp-config.php")).unwrap(), config);
}
