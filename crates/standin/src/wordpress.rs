//! The observatory's blog, on WordPress: alone, and as a network of two sites.

use crate::sql::{HEAD, TAIL, json, serialized, serialized_array, table, text};
use crate::{PIXEL, Site, SiteFile, Variant, door, file, php};

const SILENCE: &str = "<?php\n// Silence.\n";

pub(crate) fn files(site: &Site) -> Vec<SiteFile> {
    let (_, base) = site.host_and_base();
    vec![
        file("wp-config.php", config(site)),
        file("index.php", include_str!("../php/wordpress.php")),
        file("standin.php", include_str!("../php/standin.php")),
        file("wp-load.php", "<?php // loader\n"),
        file("wp-settings.php", "<?php // settings\n"),
        file("wp-admin/index.php", door("wp-admin")),
        file("wp-login.php", door("wp-login.php")),
        file(
            "wp-includes/version.php",
            format!("<?php\n$wp_version = '{}';\n$wp_db_version = 53496;\n", site.version()),
        ),
        file("wp-content/index.php", SILENCE),
        file("wp-content/plugins/index.php", SILENCE),
        file(
            "wp-content/plugins/woocommerce/woocommerce.php",
            "<?php\n/**\n * Plugin Name: WooCommerce\n * Version: 8.6.1\n */\n",
        ),
        file("wp-content/themes/night/style.css", "body{color:#eee}\n"),
        file("wp-content/uploads/2026/03/milky way.png", PIXEL),
        file("wp-content/uploads/wc-logs/fatal.log", "an old line\n"),
        file("wp-content/cache/page/index.html", format!("<a href=\"{}\">", site.address)),
        file(
            "wp-content/advanced-cache.php",
            format!("<?php define('CACHE_HOME', '{}/wp-content/plugins/fast/');\n", site.root),
        ),
        file("wp-content/debug.log", format!("notice in {}/index.php\n", site.root)),
        file("readme.html", "version\n"),
        file(
            ".htaccess",
            format!(
                "# BEGIN WordPress\n<IfModule mod_rewrite.c>\nRewriteEngine On\nRewriteBase {base}/\nRewriteRule ^index\\.php$ - [L]\nRewriteCond %{{REQUEST_FILENAME}} !-f\nRewriteCond %{{REQUEST_FILENAME}} !-d\n\
                 RewriteRule . {base}/index.php [L]\n</IfModule>\n# END WordPress\n"
            ),
        ),
    ]
}

fn config(site: &Site) -> String {
    let [host, user, password, name] = &site.database;
    let (address_host, base) = site.host_and_base();
    let mut out = format!(
        "<?php\ndefine( 'DB_NAME', {} );\ndefine( \"DB_USER\", {} );\nconst DB_PASSWORD = {};\ndefine( 'DB_HOST', {} );\n\
         define( 'DB_CHARSET', 'utf8mb4' ); /* define('DB_CHARSET','latin1'); */\n# define( 'DB_COLLATE', 'utf8_swedish_ci' );\n\
         define( 'AUTH_KEY', 'FAKE one' );\ndefine( 'NONCE_SALT', 'FAKE two' );\n$table_prefix = \"{}\" . '{}';\n",
        php(name),
        php(user),
        php(password),
        php(host),
        &site.prefix[..2],
        &site.prefix[2..]
    );
    if site.variant == Variant::WordPressNetwork {
        out += &format!(
            "define( 'MULTISITE', true );\ndefine( 'SUBDOMAIN_INSTALL', false );\ndefine( 'DOMAIN_CURRENT_SITE', '{address_host}' );\n\
             define( 'PATH_CURRENT_SITE', '{base}/' );\ndefine( 'BLOG_ID_CURRENT_SITE', 1 );\n"
        );
    }
    out + "if ( ! defined( 'ABSPATH' ) ) {\n\tdefine( 'ABSPATH', __DIR__ . '/' );\n}\ndefine( 'WP_TEMP_DIR', ABSPATH . 'wp-content/temp' );\n"
}

pub(crate) fn dump(site: &Site) -> String {
    let p = &site.prefix;
    let a = &site.address;
    let (host, base) = site.host_and_base();
    let option_columns = "  `option_id` bigint NOT NULL,\n  `option_name` varchar(191) NOT NULL,\n  `option_value` longtext NOT NULL,\n  `autoload` varchar(20) NOT NULL,\n  PRIMARY KEY (`option_id`)";
    let inner =
        serialized_array(&[("html", serialized(&format!("<a href=\"{a}/sternführung\">Führung</a>")))]);
    let widget = serialized_array(&[
        ("title", serialized("Heute „Nacht“")),
        ("content", serialized(&inner)),
        ("n", "d:0.5;".into()),
    ]);
    let roles = serialized_array(&[("administrator", "a:1:{s:4:\"name\";s:13:\"Administrator\";}".into())]);
    let options = |home: &str, prefix: &str, name: &str| {
        [
            ("siteurl", home.to_string()),
            ("home", home.to_string()),
            ("blogname", name.to_string()),
            ("admin_email", "office@fernhollow.example".into()),
            ("blog_public", "1".into()),
            ("permalink_structure", "/%postname%/".into()),
            ("widget_text", widget.clone()),
            (&format!("{prefix}user_roles")[..], roles.clone()),
            // Begins like the prefix `wp_` and is none of its keys.
            ("wp_page_for_privacy_policy", "3".into()),
        ]
        .iter()
        .enumerate()
        .map(|(i, (name, value))| format!("({},'{name}',{},'yes')", i + 1, text(value)))
        .collect::<Vec<_>>()
    };
    let block = format!(
        "<!-- wp:image {{\"url\":\"{}\",\"alt\":\"a \\u002d b\"}} -->\n<img src=\"{a}/wp-content/uploads/2026/03/milky%20way.png\"/>\n<!-- /wp:image -->",
        json(a)
    );
    let posts = [
        format!("(1,'First light',{},{})", text(&block), text(&format!("{a}/?p=1"))),
        format!("(2,'Nothing','<p>No link.</p>',{})", text(&format!("{a}/?p=2"))),
    ];
    let meta = [
        format!(
            "(1,1,'_build',{})",
            text(&format!(
                "[{{\"link\":{{\"url\":\"{}\"}},\"path\":\"{}\"}}]",
                json(&format!("{a}/x")),
                json(&format!("{}/wp-content/x", site.root))
            ))
        ),
        format!(
            "(2,1,'_wp_attachment_metadata',{})",
            text(&serialized_array(&[("file", serialized("2026/03/milky way.png"))]))
        ),
    ];
    let menu = |base: &str| format!("(3,1,'_menu_item_url',{})", text(&format!("{base}/visits")));
    let usermeta = [
        format!("(1,1,'{p}capabilities','a:1:{{s:13:\\\"administrator\\\";b:1;}}')"),
        format!("(2,1,'{p}user_level','10')"),
        "(3,1,'nickname','gazer')".to_string(),
        // An extension's own, which begins like the usual prefix by chance.
        "(5,1,'wp_starmap_zoom','3')".to_string(),
        format!("(4,1,'{p}2_capabilities','a:1:{{s:6:\\\"editor\\\";b:1;}}')"),
    ];
    let mut out = vec![
        HEAD.to_string(),
        table(&format!("{p}options"), option_columns, &options(a, p, "Fernhollow Blog")),
        table(
            &format!("{p}posts"),
            "  `ID` bigint NOT NULL,\n  `post_title` text NOT NULL,\n  `post_content` longtext NOT NULL,\n  `guid` varchar(255) NOT NULL,\n  PRIMARY KEY (`ID`)",
            &posts,
        ),
        table(
            &format!("{p}postmeta"),
            "  `meta_id` bigint NOT NULL,\n  `post_id` bigint NOT NULL,\n  `meta_key` varchar(255),\n  `meta_value` longtext,\n  PRIMARY KEY (`meta_id`)",
            &[&meta[..], &[menu(base)]].concat(),
        ),
        table(
            &format!("{p}usermeta"),
            "  `umeta_id` bigint NOT NULL,\n  `user_id` bigint NOT NULL,\n  `meta_key` varchar(255),\n  `meta_value` longtext,\n  PRIMARY KEY (`umeta_id`)",
            &usermeta,
        ),
        table(
            &format!("{p}users"),
            "  `ID` bigint NOT NULL,\n  `user_login` varchar(60) NOT NULL,\n  `user_pass` varchar(255) NOT NULL,\n  `user_email` varchar(100) NOT NULL,\n  PRIMARY KEY (`ID`)",
            &["(1,'gazer','$P$Bfakefakefakefakefakefakefake.','admin@fernhollow.example')".to_string()],
        ),
        table(
            &format!("{p}woocommerce_sessions"),
            "  `session_id` bigint NOT NULL,\n  `session_value` longtext,\n  PRIMARY KEY (`session_id`)",
            &["(1,'x')".to_string()],
        ),
    ];
    if site.variant == Variant::WordPressNetwork {
        out.push(table(&format!("{p}blogs"), "  `blog_id` bigint NOT NULL,\n  `domain` varchar(200) NOT NULL,\n  `path` varchar(100) NOT NULL,\n  PRIMARY KEY (`blog_id`)", &[
            format!("(1,'{host}','{base}/')"),
            format!("(2,'{host}','{base}/club/')"),
        ]));
        out.push(table(&format!("{p}site"), "  `id` bigint NOT NULL,\n  `domain` varchar(200) NOT NULL,\n  `path` varchar(100) NOT NULL,\n  PRIMARY KEY (`id`)", &[format!("(1,'{host}','{base}/')")]));
        out.push(table(
            &format!("{p}2_options"),
            option_columns,
            &options(&format!("{a}/club"), &format!("{p}2_"), "Fernhollow Club"),
        ));
        out.push(table(
            &format!("{p}2_postmeta"),
            "  `meta_id` bigint NOT NULL,\n  `post_id` bigint NOT NULL,\n  `meta_key` varchar(255),\n  `meta_value` longtext,\n  PRIMARY KEY (`meta_id`)",
            &[menu(&format!("{base}/club"))],
        ));
    }
    out.push(TAIL.to_string());
    out.concat()
}
