//! The souvenir shop, on OpenCart: two config files, and from line 3 on a storage folder that may lie beside the root.

use crate::sql::{HEAD, MEMBER, TAIL, json, serialized, serialized_array, table, text};
use crate::{PIXEL, Site, SiteFile, Variant, door, file, php};

const GUARD: &str = "<!DOCTYPE html><title></title>\n";

pub(crate) fn files(site: &Site) -> Vec<SiteFile> {
    let (_, base) = site.host_and_base();
    let index = include_str!("../php/opencart.php").replace("{VERSION}", site.version());
    let mut files = vec![
        file("config.php", config(site, false)),
        file("dome-office/config.php", config(site, true)),
        file("dome-office/index.php", door("dome-office")),
        file("dome-office/controller/common/login.php", "<?php // log-in\n"),
        file("index.php", index),
        file("standin.php", include_str!("../php/standin.php")),
        file("catalog/controller/common/home.php", "<?php // home\n"),
        file("system/startup.php", "<?php // start\n"),
        file("image/cache/index.html", GUARD),
        file("image/cache/data/mug-100x100.png", PIXEL),
        file("install/index.php", "<?php // installer\n"),
        file(
            ".htaccess",
            format!(
                "RewriteEngine On\nRewriteBase {base}/\nRewriteCond %{{REQUEST_FILENAME}} !-f\nRewriteCond %{{REQUEST_FILENAME}} !-d\nRewriteRule ^([^?]*) index.php?_route_=$1 [L,QSA]\n"
            ),
        ),
    ];
    let (media, work): (&str, &[&'static str]) = match site.variant {
        Variant::OpenCart15 => ("image/data/mug.png", &["system/cache/", "system/logs/"]),
        Variant::OpenCart23 => ("image/catalog/mug.png", &["system/storage/cache/", "system/storage/logs/"]),
        _ => ("image/catalog/mug.png", &[]),
    };
    files.push(file(
        if media.contains("data") { "image/data/mug.png" } else { "image/catalog/mug.png" },
        PIXEL,
    ));
    for folder in work {
        files.push(file(*folder, ""));
    }
    match site.variant {
        Variant::OpenCart15 => files.push(file(
            "system/cache/cache.store.1700000000",
            format!("a:1:{{s:3:\"url\";s:1:\"{}\";}}", site.address),
        )),
        Variant::OpenCart23 => {
            files.push(file("system/storage/cache/cache.store.1700000000", site.address.clone()))
        }
        _ => {}
    }
    files
}

/// The folder beside the root, from line 3 on.
pub(crate) fn outside(site: &Site) -> Vec<SiteFile> {
    if matches!(site.variant, Variant::OpenCart15 | Variant::OpenCart23) {
        return Vec::new();
    }
    vec![
        file("vendor/autoload.php", "<?php // libraries\n"),
        file("cache/index.html", GUARD),
        file("cache/cache.store.1700000000", site.address.clone()),
        file("logs/index.html", GUARD),
        file("logs/error.log", format!("notice in {}/index.php\n", site.root)),
        file("download/star-map.pdf.fake", "%PDF-1.4 made up\n"),
    ]
}

fn config(site: &Site, office: bool) -> String {
    let [host, user, password, name] = &site.database;
    let (a, r) = (&site.address, &site.root);
    let server = if office { format!("{a}/dome-office/") } else { format!("{a}/") };
    let mut out = format!("<?php\n// HTTP\ndefine('HTTP_SERVER', '{server}');\n");
    if office {
        out += &format!("define('HTTP_CATALOG', '{a}/');\n");
    }
    let four = site.variant == Variant::OpenCart4;
    if !four {
        out += &format!("define('HTTPS_SERVER', '{server}');\n");
    }
    let part = if office { "dome-office" } else { "catalog" };
    if four {
        out += &format!(
            "define('DIR_OPENCART', '{r}/');\ndefine('DIR_APPLICATION', DIR_OPENCART . '{part}/');\ndefine('DIR_SYSTEM', DIR_OPENCART . 'system/');\ndefine('DIR_IMAGE', DIR_OPENCART . 'image/');\n"
        );
    } else {
        out += &format!(
            "define('DIR_APPLICATION', '{r}/{part}/');\ndefine('DIR_SYSTEM', '{r}/system/');\ndefine('DIR_IMAGE', '{r}/image/');\n"
        );
    }
    if office {
        out += &format!("define('DIR_CATALOG', '{r}/catalog/');\n");
    }
    out += &match site.variant {
        Variant::OpenCart15 => format!("define('DIR_CACHE', '{r}/system/cache/');\n"),
        Variant::OpenCart23 => format!("define('DIR_CACHE', '{r}/system/storage/cache/');\n"),
        _ => format!(
            "define('DIR_STORAGE', '{}/');\ndefine('DIR_CACHE', DIR_STORAGE . 'cache/');\n",
            site.storage
        ),
    };
    out += &format!(
        "// DB\ndefine('DB_DRIVER', 'mysqli');\ndefine('DB_HOSTNAME', {});\ndefine('DB_USERNAME', {});\ndefine('DB_PASSWORD', {});\ndefine('DB_DATABASE', {});\ndefine('DB_PREFIX', '{}');\n",
        php(host),
        php(user),
        php(password),
        php(name),
        site.prefix
    );
    if site.variant != Variant::OpenCart15 {
        out += "define('DB_PORT', '3306');\n";
    }
    out
}

pub(crate) fn dump(site: &Site) -> String {
    let p = &site.prefix;
    let a = &site.address;
    let old = site.variant == Variant::OpenCart15;
    let group = if old { "group" } else { "code" };
    let slides = if old {
        serialized_array(&[("link", serialized(&format!("{a}/grüße")))])
    } else {
        format!("{{\"link\":\"{}\",\"size\":[1,2]}}", json(&format!("{a}/grüße")))
    };
    let settings = [
        ("config_name", "Fernhollow Souvenirs".to_string(), 0),
        ("config_email", "shop@fernhollow.example".into(), 0),
        ("config_maintenance", "0".into(), 0),
        ("config_seo_url", "1".into(), 0),
        ("slideshow_module", slides, 1),
    ];
    let settings: Vec<String> = settings
        .iter()
        .enumerate()
        .map(|(i, (key, value, ser))| format!("({},0,'config','{key}',{},{ser})", i + 1, text(value)))
        // The name of another store.
        .chain(["(90,1,'config','config_name','Fernhollow Kids',0)".to_string()])
        .collect();
    let html = format!(
        "&lt;p&gt;Paper from &lt;a href=&quot;{a}/index.php?route=information&amp;amp;id=4&quot;&gt;here&lt;/a&gt; &amp;ndash; not {a}2&lt;/p&gt;"
    );
    [
        HEAD.to_string(),
        table(&format!("{p}information_description"), "  `information_id` int NOT NULL,\n  `title` varchar(64) NOT NULL,\n  `description` text NOT NULL,\n  PRIMARY KEY (`information_id`)", &[format!("(4,'About',{})", text(&html))]),
        table(&format!("{p}session"), "  `session_id` varchar(32) NOT NULL,\n  `data` text NOT NULL,\n  PRIMARY KEY (`session_id`)", &["('fake1','x')".to_string()]),
        table(&format!("{p}setting"), &format!("  `setting_id` int NOT NULL,\n  `store_id` int NOT NULL,\n  `{group}` varchar(128) NOT NULL,\n  `key` varchar(128) NOT NULL,\n  `value` text NOT NULL,\n  `serialized` tinyint NOT NULL,\n  PRIMARY KEY (`setting_id`)"), &settings),
        if site.variant == Variant::OpenCart4 {
            table(&format!("{p}store"), "  `store_id` int NOT NULL,\n  `name` varchar(64) NOT NULL,\n  `url` varchar(255) NOT NULL,\n  PRIMARY KEY (`store_id`)", &["(1,'Kids','https://kids.fernhollow.example/')".to_string()])
        } else {
            table(&format!("{p}store"), "  `store_id` int NOT NULL,\n  `name` varchar(64) NOT NULL,\n  `url` varchar(255) NOT NULL,\n  `ssl` varchar(255) NOT NULL,\n  PRIMARY KEY (`store_id`)", &["(1,'Kids','http://kids.fernhollow.example/','https://kids.fernhollow.example/')".to_string()])
        },
        table(&format!("{p}banner_image"), "  `banner_image_id` int NOT NULL,\n  `link` varchar(255) NOT NULL,\n  PRIMARY KEY (`banner_image_id`)", &[format!("(1,{})", text(&format!("{}/index.php?route=product/product", site.host_and_base().1)))]),
        table(&format!("{p}user"), "  `user_id` int NOT NULL,\n  `user_group_id` int NOT NULL,\n  `username` varchar(20) NOT NULL,\n  `password` varchar(255) NOT NULL,\n  `email` varchar(96) NOT NULL,\n  PRIMARY KEY (`user_id`)", &["(7,1,'keeper','fake','keeper@fernhollow.example')".to_string(), "(9,1,'second','fake','second@fernhollow.example')".to_string()]),
        table(&format!("{p}customer"), "  `customer_id` int NOT NULL,\n  `email` varchar(96) NOT NULL,\n  `password` varchar(255) NOT NULL,\n  PRIMARY KEY (`customer_id`)", &[format!("(3,'guest@fernhollow.example','{MEMBER}')")]),
        TAIL.to_string(),
    ]
    .concat()
}
