//! A real WordPress, installed from Debian's package, filled through its own functions, moved, and opened from the copy.

use super::common::mariadb::server;
use super::common::php::{self, Php};
use super::common::{Bench, nothing_points_back};
use std::path::Path;
use std::process::Command;
use zporter_standin::{Site, Variant};

const PACKAGE: &str = "/usr/share/wordpress";

/// Fills a fresh installation: an uploaded picture, a post that shows it, a menu, a widget, an option with nested values.
const FILL: &str = r#"
define('WP_INSTALLING', true);
$_SERVER['HTTP_HOST'] = 'blog.fernhollow.example';
require $argv[1] . '/wp-load.php';
require_once ABSPATH . 'wp-admin/includes/upgrade.php';
require_once ABSPATH . 'wp-admin/includes/image.php';
$address = 'http://blog.fernhollow.example/sky';
wp_install('Fernhollow Blog', 'gazer', 'admin@fernhollow.example', true, '', 'fake-Old-Pass');
update_option('siteurl', $address);
update_option('home', $address);
update_option('upload_path', ABSPATH . 'wp-content/uploads');
update_option('upload_url_path', "$address/wp-content/uploads");
switch_theme('fern');
$picture = wp_upload_bits('milky way.png', null, base64_decode('iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg=='));
$attachment = wp_insert_attachment(array('post_mime_type' => 'image/png', 'post_title' => 'Milky Way', 'guid' => $picture['url']), $picture['file']);
wp_update_attachment_metadata($attachment, wp_generate_attachment_metadata($attachment, $picture['file']));
$html = '<!-- wp:image ' . wp_json_encode(array('id' => $attachment, 'url' => $picture['url'])) . ' --><figure><img src="' . $picture['url'] . '"/></figure><!-- /wp:image -->';
$post = wp_insert_post(wp_slash(array('post_title' => 'First light', 'post_content' => $html . "<p>It's $address/about.</p>", 'post_status' => 'publish')));
set_post_thumbnail($post, $attachment);
$menu = wp_create_nav_menu('Main');
wp_update_nav_menu_item($menu, 0, array('menu-item-title' => 'Shop', 'menu-item-url' => "$address/shop", 'menu-item-status' => 'publish', 'menu-item-type' => 'custom'));
update_option('widget_text', array(2 => array('title' => 'Führung', 'text' => "<a href=\"$address/führung\">x</a>"), '_multiwidget' => 1));
update_option('fern_settings', array('nested' => serialize(array('url' => "$address/ünder", 'dir' => ABSPATH)), 'json' => wp_json_encode(array('u' => $address))));
update_user_option(1, 'fern_view', 'dark');
echo $post, ' ', $picture['url'];
"#;

/// Asks the moved installation for what it holds, through its own functions.
const ASK: &str = r#"
$_SERVER['HTTP_HOST'] = $argv[2];
require $argv[1] . '/wp-load.php';
$settings = get_option('fern_settings');
$nested = unserialize($settings['nested']);
$menu = wp_get_nav_menu_items('Main');
$widget = get_option('widget_text');
echo json_encode(array($nested['url'], $nested['dir'], json_decode($settings['json'])->u, $menu[0]->url, $widget[2]['text'], get_user_option('fern_view', 1), user_can(1, 'manage_options'), get_option('upload_path')));
"#;

fn copy_package(target: &Path) {
    let copied = Command::new("cp").arg("-rL").arg(PACKAGE).arg(target).status().unwrap();
    assert!(copied.success());
    let theme = target.join("wp-content/themes/fern");
    std::fs::create_dir_all(&theme).unwrap();
    std::fs::write(theme.join("style.css"), "/*\nTheme Name: Fern\n*/\n").unwrap();
    let page = "<?php echo '<h1>', get_bloginfo('name'), '</h1>'; while (have_posts()) { the_post(); echo '<a href=\"', get_permalink(), '\">', get_the_title(), '</a>'; the_content(); the_post_thumbnail(); }\n";
    std::fs::write(theme.join("index.php"), page).unwrap();
}

/// Visits the copy beside the site from which it came, logs in, and lets a browser draw both.
fn seen_beside_the_old_one(bench: &Bench, address: &str, port: u16) {
    std::fs::create_dir_all(bench.path("old web")).unwrap();
    std::os::unix::fs::symlink(bench.path("gone"), bench.path("old web/sky")).unwrap();
    let old_port = php::port();
    let _old = Php::serve(&bench.path("old web"), old_port);
    let (at, old_at) = (format!("127.0.0.1:{port}"), format!("127.0.0.1:{old_port}"));
    let mut args = vec![
        "visit",
        address,
        "--at",
        &at,
        "--beside",
        "http://blog.fernhollow.example/sky",
        "--beside-at",
        &old_at,
    ];
    args.extend(["--log-in", "gazer", "--log-in-password-file", "pw", "--pictures", "shots", "--json"]);
    let done = bench.run(&args);
    assert!(done.code <= 1, "{}{}", done.stdout, done.stderr);
    let seen = done.json();
    let told = |f: &&serde_json::Value| f["severity"] == "attention";
    let wrong: Vec<_> = seen["findings"].as_array().unwrap().iter().filter(told).collect();
    assert!(wrong.is_empty(), "{wrong:#?}");
    let pages = seen["pages"].as_array().unwrap().len();
    assert!(
        pages >= 3 && seen["beside"]["same"].as_u64().unwrap() as usize >= pages - 1,
        "{pages} {:#}",
        seen["beside"]
    );
    let log_in = &seen["log_ins"][0];
    assert!(log_in["worked"] == true && log_in["behind"].as_array().unwrap().len() >= 3, "{log_in:#}");
    if Path::new("/usr/bin/chromium").exists() {
        let pictures = seen["pictures"].as_array().unwrap();
        assert!(
            pictures.len() == 2 && pictures.iter().all(|p| p["differs"].as_f64().is_some_and(|d| d < 1.0)),
            "{pictures:#?}"
        );
    } else {
        super::common::missing("chromium");
    }
}

#[test]
fn a_real_installation_moves_and_its_pages_pictures_and_log_in_work() {
    let Some(server) = server() else { return };
    if !php::there() {
        return;
    }
    if !Path::new(PACKAGE).exists() {
        super::common::missing("wordpress");
        return;
    }
    let bench = Bench::new();
    let old = server.database("fake'Old\\pass %31");
    copy_package(&bench.path("old"));
    let config = format!(
        "<?php\ndefine('DB_NAME', '{}');\ndefine('DB_USER', '{}');\ndefine('DB_PASSWORD', 'fake\\'Old\\\\pass %31');\ndefine('DB_HOST', 'localhost:{}');\ndefine('DB_CHARSET', 'utf8mb4');\n\
         define('AUTH_KEY', 'fake one');\ndefine('LOGGED_IN_KEY', 'fake two');\ndefine('DISABLE_WP_CRON', true);\ndefine('WP_HTTP_BLOCK_EXTERNAL', true);\n$table_prefix = 'fh_';\n\
         if (!defined('ABSPATH')) {{ define('ABSPATH', __DIR__ . '/'); }}\nrequire_once ABSPATH . 'wp-settings.php';\n",
        old.name, old.user, server.socket
    );
    bench.write("old/wp-config.php", config);
    let filled = php::run(FILL, &[&bench.path("old")]);
    let (post, picture) = filled.trim().split_once(' ').unwrap();
    assert!(picture.starts_with("http://blog.fernhollow.example/sky/wp-content/uploads/"), "{filled}");
    let before = server.content(&old);

    let survey = bench.run(&["survey", "old", "--json"]).expect(0).json();
    assert_eq!(
        (&survey["system"]["id"], &survey["address"]["address"]),
        (&"wordpress".into(), &"http://blog.fernhollow.example/sky".into())
    );
    bench.run(&["pack", "old", "-o", "a.tar.zst"]).expect(0).says(&["Packed"]);
    assert_eq!(server.content(&old), before, "the source is only read");
    let site = Site {
        address: "http://blog.fernhollow.example/sky".into(),
        root: bench.path("old").display().to_string(),
        database: [String::new(), old.user.clone(), old.password.clone(), old.name.clone()],
        ..Site::of(Variant::WordPress)
    };
    std::fs::rename(bench.path("old"), bench.path("gone")).unwrap();

    let new = server.new_database();
    let port = php::port();
    let host = format!("copy.fernhollow.test:{port}");
    let address = format!("http://{host}/deep/er");
    let target = bench.path("web/deep/er");
    std::fs::create_dir_all(target.parent().unwrap()).unwrap();
    bench.write("pw", "fake-Nova-1604");
    let url = new.tcp_url(server);
    let args = [
        "restore",
        "a.tar.zst",
        target.to_str().unwrap(),
        "--address",
        &address,
        "--database",
        &url,
        "--table-prefix",
        "nu_",
        "--admin-password-file",
        "pw",
        "--set",
        "index=off",
        "--tidy",
        "--json",
    ];
    let done = bench.run(&args);
    assert!(done.code <= 1, "{}{}", done.stdout, done.stderr);
    let report = done.json();
    let content = server.content(&new);
    nothing_points_back(&report, &site, &target, &content);
    assert!(
        content.contains("'nu_user_roles'")
            && content.contains("'nu_capabilities'")
            && !content.contains("`fh_"),
        "{content}"
    );
    assert!(!target.join("readme.html").exists());

    let php = Php::serve(&bench.path("web"), port);
    let (status, home) = php.get(&host, "/deep/er/");
    assert!(
        status == 200 && home.contains("<h1>Fernhollow Blog</h1>") && home.contains("First light"),
        "{home}"
    );
    let (status, page) = php.get(&host, &format!("/deep/er/?p={post}"));
    assert!(status == 200 && page.contains(&format!("{address}/about.")), "{page}");
    for text in [&home, &page] {
        assert!(!text.contains("blog.fernhollow.example") && !text.contains("Warning"), "{text}");
    }
    let picture = picture.replace("http://blog.fernhollow.example/sky", "");
    assert!(page.contains(&format!("src=\"{address}{picture}\"")), "{picture}\n{page}");
    let (status, image) = php.get(&host, &format!("/deep/er{}", picture.replace(' ', "%20")));
    assert!(status == 200 && image.contains("image/png"), "{image}");

    let told: serde_json::Value = serde_json::from_str(&php::run(ASK, &[&target, host.as_ref()])).unwrap();
    let root = target.display().to_string();
    let expected = serde_json::json!([
        format!("{address}/ünder"),
        format!("{root}/"),
        address,
        format!("{address}/shop"),
        format!("<a href=\"{address}/führung\">x</a>"),
        "dark",
        true,
        format!("{root}/wp-content/uploads")
    ]);
    assert_eq!(told, expected);

    seen_beside_the_old_one(&bench, &address, port);

    let (_, form) = php.get(&host, "/deep/er/wp-login.php");
    assert!(form.contains("user_login"), "{form}");
    let fields =
        |password: &str| format!("log=gazer&pwd={password}&testcookie=1&redirect_to=/deep/er/wp-admin/");
    let cookie = "wordpress_test_cookie=WP%20Cookie%20check";
    let (status, inside) = php.post(&host, "/deep/er/wp-login.php", cookie, &fields("fake-Nova-1604"));
    assert!(
        status == 302 && inside.contains("wordpress_logged_in_") && inside.contains("/deep/er/wp-admin/"),
        "{inside}"
    );
    let (status, refused) = php.post(&host, "/deep/er/wp-login.php", cookie, &fields("fake-Old-Pass"));
    assert!(status == 200 && !refused.contains("wordpress_logged_in_"), "{refused}");

    // Closed for visitors, open for whoever logs in; mail goes nowhere.
    bench
        .run(&[
            "restore",
            "a.tar.zst",
            "closed",
            "--address",
            &address,
            "--database",
            &url,
            "--dump-to",
            "c.sql",
            "--set",
            "maintenance=on",
            "--set",
            "mail=off",
        ])
        .says(&["maintenance=on"]);
    let rules = |folder: &Path| folder.join("wp-content/mu-plugins");
    std::fs::create_dir_all(rules(&target)).unwrap();
    for name in ["closed.php", "no-mail.php"] {
        std::fs::copy(rules(&bench.path("closed")).join(name), rules(&target).join(name)).unwrap();
    }
    let (status, closed) = php.get(&host, "/deep/er/");
    assert!(status == 503 && closed.contains("being worked on"), "{closed}");
    assert_eq!(php.get(&host, "/deep/er/wp-login.php").0, 200);
    let (status, inside) = php.post(&host, "/deep/er/wp-login.php", cookie, &fields("fake-Nova-1604"));
    let cookies: Vec<&str> = inside
        .lines()
        .filter_map(|l| l.strip_prefix("Set-Cookie: ").or(l.strip_prefix("set-cookie: ")))
        .filter_map(|c| c.split(';').next())
        .collect();
    assert_eq!(status, 302, "{inside}");
    let (status, seen) = php.get_with(&host, "/deep/er/", &cookies.join("; "));
    assert!(status == 200 && seen.contains("First light"), "{seen}");

    // Where it lies: looked at, switched, brought back, settled under another name, and back again.
    for name in ["closed.php", "no-mail.php"] {
        std::fs::remove_file(rules(&target).join(name)).unwrap();
    }
    let here = target.to_str().unwrap();
    let open = |host: &str| php.get(host, "/deep/er/");
    let looked = bench.run(&["diagnose", here]);
    assert!(looked.code <= 1 && !looked.stdout.contains("certain:"), "{}{}", looked.stdout, looked.stderr);
    bench.run(&["switch", here, "maintenance=on"]).says(&["Switched"]);
    assert_eq!(open(&host).0, 503);
    bench.run(&["switch", here, "maintenance=off"]).says(&["Switched"]);
    assert_eq!(open(&host).0, 200);
    bench.run(&["pack", here, "-o", "b.tar.zst"]).says(&["Packed"]);
    std::fs::remove_file(target.join("wp-includes/version.php")).unwrap();
    server.load_with_client(&new, "UPDATE nu_posts SET post_title = 'lost', post_content = 'lost';\n");
    assert!(!open(&host).1.contains("First light"), "it is broken");
    let back = bench.run(&["restore", "b.tar.zst", "--in-place"]);
    assert!(back.code <= 1 && back.stdout.contains("exchanged"), "{}{}", back.stdout, back.stderr);
    let run = bench.last_run();
    assert!(open(&host).1.contains("First light"), "{}", open(&host).1);
    bench.run(&["undo", &run]).says(&["Undone"]);
    assert!(!open(&host).1.contains("First light"), "what was there is there again");
    bench.run(&["undo", "--forget", &run]).expect(0).says(&["Forgotten"]);
    assert!(bench.run(&["restore", "b.tar.zst", "--in-place"]).code <= 1);
    let other = format!("moved.fernhollow.test:{port}");
    let settled = bench.run(&["settle", here, "--address", &format!("http://{other}/deep/er")]);
    assert!(settled.code <= 1, "{}{}", settled.stdout, settled.stderr);
    let settled = bench.last_run();
    let (status, home) = open(&other);
    assert!(status == 200 && home.contains("First light") && !home.contains("copy.fernhollow"), "{home}");
    bench.run(&["undo", &settled]).says(&["Undone"]);
    let (status, home) = open(&host);
    assert!(status == 200 && !home.contains("moved.fernhollow"), "{home}");
}
