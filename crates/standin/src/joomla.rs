//! The observatory's public site, on Joomla of several lines.

use crate::sql::{HEAD, TAIL, json, serialized, serialized_array, table, text};
use crate::{PIXEL, Site, SiteFile, Variant, door, file, php};

const EMPTY_PAGE: &str = "<!DOCTYPE html><title></title>\n";

pub(crate) fn files(site: &Site) -> Vec<SiteFile> {
    let (host, _) = site.host_and_base();
    let mut files = vec![
        SiteFile { path: "configuration.php".into(), content: config(site).into_bytes(), mode: 0o444 },
        file("index.php", include_str!("../php/joomla.php")),
        file("standin.php", include_str!("../php/standin.php")),
        file("administrator/index.php", door("administrator")),
        file("images/m31.jpg", PIXEL),
        file("images/visit.jpg", PIXEL),
        file("images/banners/milky way.png", PIXEL),
        file("images/übersicht.png", PIXEL),
        file(
            "templates/night/css/custom.css",
            format!("body {{ background: url({}/images/sky.png); }}\n", site.address),
        ),
        file(
            ".htaccess",
            format!(
                "RewriteEngine On\n# RewriteBase /\nRewriteCond %{{HTTP_HOST}} !^{}$ [NC]\nRewriteRule ^(.*)$ {}/$1 [R=301,L]\n\
                 RewriteCond %{{REQUEST_FILENAME}} !-f\nRewriteCond %{{REQUEST_FILENAME}} !-d\nRewriteRule .* index.php [L]\n",
                host.replace('.', "\\."),
                site.address
            ),
        ),
        file(
            "robots.txt",
            format!("User-agent: *\nDisallow: /administrator/\nSitemap: {}/sitemap.xml\n", site.address),
        ),
        file("htaccess.txt", "# template\n"),
        file("cache/index.html", EMPTY_PAGE),
        file("cache/page/abc.php", format!("<?php die(); ?>{}", site.address)),
        file("administrator/cache/index.html", EMPTY_PAGE),
        file(
            "administrator/cache/autoload_psr4.php",
            format!("<?php return array('{}/libraries');\n", site.root),
        ),
        file("tmp/index.html", EMPTY_PAGE),
        file("tmp/upload_1.part", "half an upload"),
        file("logs/index.html", EMPTY_PAGE),
        file("administrator/logs/index.html", EMPTY_PAGE),
        file("media/empty/", ""),
    ];
    let shop = match site.variant {
        Variant::Joomla15 => Some("var $RELEASE = '1.1.9';"),
        Variant::Joomla5 => Some("static $RELEASE = '4.2.4';"),
        _ => None,
    };
    if let Some(version) = shop {
        files.push(file(
            "administrator/components/com_virtuemart/version.php",
            format!("<?php\nclass vmVersion {{\n\t{version}\n}}\n"),
        ));
    }
    if site.variant == Variant::Joomla15 {
        files.push(file(
            "administrator/components/com_virtuemart/virtuemart.cfg.php",
            format!(
                "<?php\nglobal $mosConfig_absolute_path;\ndefine('PSHOP_IS_OFFLINE', '');\ndefine( 'URL', '{0}/' );\ndefine( 'SECUREURL', '{0}/' );\n\
                 define( 'IMAGEURL', URL .'components/com_virtuemart/shop_image/' );\ndefine('ADMINPATH', $mosConfig_absolute_path.'/administrator/');\n\
                 define('DOWNLOADROOT', '{1}/downloads/');\ndefine('ENCODE_KEY', 'fake-encode-key');\n?>",
                site.address, site.root
            ),
        ));
    }
    files.push(match site.variant {
        Variant::Joomla15 => file(
            "libraries/joomla/version.php",
            "<?php\nclass JVersion\n{\n\tvar $PRODUCT = 'Joomla!';\n\tvar $RELEASE = '1.5';\n\tvar $DEV_LEVEL = '26';\n}\n",
        ),
        Variant::Joomla25 => file(
            "libraries/cms/version/version.php",
            "<?php\nfinal class JVersion\n{\n\tpublic $RELEASE = '2.5';\n\tpublic $DEV_LEVEL = '28';\n}\n",
        ),
        Variant::Joomla5 => file(
            "libraries/src/Version.php",
            "<?php\nnamespace Joomla\\CMS;\nfinal class Version\n{\n    public const MAJOR_VERSION = 5;\n    public const MINOR_VERSION = 1;\n    public const PATCH_VERSION = 2;\n    public const EXTRA_VERSION = '';\n}\n",
        ),
        _ => file(
            "libraries/src/Version.php",
            "<?php\nnamespace Joomla\\CMS;\nfinal class Version\n{\n\tconst MAJOR_VERSION = 3;\n\tconst MINOR_VERSION = 10;\n\tconst PATCH_VERSION = 12;\n\tconst RELEASE = '3.10';\n}\n",
        ),
    });
    files
}

fn config(site: &Site) -> String {
    let [host, user, password, name] = &site.database;
    let word = if site.variant == Variant::Joomla15 { "var" } else { "public" };
    let typed = site.variant == Variant::Joomla5;
    let flag = |on: bool| match (typed, on) {
        (true, on) => on.to_string(),
        (false, true) => "'1'".into(),
        (false, false) => "'0'".into(),
    };
    let cookie = if site.variant == Variant::Joomla310 { ".fernhollow.example" } else { "" };
    let live_site = if site.variant == Variant::Joomla25 { site.address.as_str() } else { "" };
    let logs = if site.variant == Variant::Joomla15 { "logs" } else { "administrator/logs" };
    let lines = [
        ("offline", flag(false)),
        ("offline_message", php("Fernhollow is under cloud.<br /> It's dark again at nine.")),
        ("sitename", php("Fernhollow Observatory – Sternwarte")),
        ("dbtype", php("mysqli")),
        ("host", php(host)),
        ("user", php(user)),
        ("password", php(password)),
        ("db", php(name)),
        ("dbprefix", php(&site.prefix)),
        ("live_site", php(live_site)),
        ("secret", php("FakeSecret310000")),
        ("gzip", flag(false)),
        ("mailfrom", php("office@fernhollow.example")),
        ("smtppass", php("fake-smtp-pass")),
        ("sef", flag(true)),
        ("log_path", php(&format!("{}/{logs}", site.root))),
        ("tmp_path", php(&format!("{}/tmp", site.root))),
        ("cookie_domain", php(cookie)),
        ("cookie_path", php("")),
        ("force_ssl", if typed { "0".into() } else { "'0'".into() }),
    ];
    let body: String = lines.iter().map(|(k, v)| format!("\t{word} ${k} = {v};\n")).collect();
    // The oldest line closes its tag; the newest has no last newline.
    let end = if site.variant == Variant::Joomla15 { "}\n?>\n" } else { "}" };
    format!("<?php\nclass JConfig {{\n\t/* Site settings */\n\t// {word} $host = 'old.test';\n{body}{end}")
}

pub(crate) fn dump(site: &Site) -> String {
    let p = &site.prefix;
    let a = &site.address;
    let ini = matches!(site.variant, Variant::Joomla15);
    let images = |path: &str| {
        if ini {
            format!("image={path}\n")
        } else {
            format!("{{\"image_intro\":\"{}\",\"float\":\"\",\"caption\":\"Star \\u2605\"}}", json(path))
        }
    };
    let article = |id: u32, title: &str, intro: &str, full: &str, image: &str| {
        format!(
            "({id},{},{},{},{},'2026-03-0{id} 20:00:00')",
            text(title),
            text(intro),
            text(full),
            text(&images(image))
        )
    };
    let content = [
        article(
            1,
            "Tonight's sky",
            &format!(
                "<p>Sky map: <a href=\"{a}/sky?x=1&amp;y=2\">m\u{e4}p</a> <img src=\"images/m31.jpg\" /></p>"
            ),
            &format!(
                "<p>Mirror at {a}. Not http://www.fernhollow.example.test/ nor https://old.fernhollow.example/x.</p>"
            ),
            &format!("{a}/images/m31.jpg"),
        ),
        article(
            2,
            "Visits",
            &format!(
                "<p>Write to office@fernhollow.example or visit www.fernhollow.example, it's free.</p>\r\n<a href='//{}/v'>v</a>",
                &a[7..]
            ),
            &format!(
                "<a href=\"https://share.example/?u={}\">share</a>",
                a.replace(':', "%3A").replace('/', "%2F")
            ),
            "images/visit.jpg",
        ),
    ];
    let menu = [
        format!("(101,'Home','component','index.php?option=com_content',{})", text("{\"menu_image\":\"\"}")),
        format!(
            "(102,'Forum','url',{},{})",
            text(&format!("{a}/forum")),
            text(&format!("{{\"title\":\"Forum at {}\",\"image\":\"images\\/forum.png\"}}", json(a)))
        ),
    ];
    let inner = serialized_array(&[
        ("path", serialized(&format!("{}/images/m31.jpg", site.root))),
        ("n", "i:3;".into()),
    ]);
    let object = serialized_array(&[
        ("url", serialized(&format!("{a}/über-uns"))),
        ("title", serialized("Das \"Nachthimmel\"-Café")),
        ("nested", serialized(&inner)),
        ("float", "d:0.5;".into()),
    ]);
    let broken = format!("a:1:{{s:3:\"url\";s:99:\"{a}/cut\";}}");
    let finder =
        [format!("(1,{})", text(&object)), format!("(2,{})", text(&serialized("no address in here")))];
    let redirects = [
        format!("(1,{},{},1)", text(&format!("{a}/old")), text(&format!("{a}/new"))),
        format!("(2,{},{},1)", text("https://elsewhere.example/x"), text(&broken)),
    ];
    let sessions = ["('fake1',0,'a'),('fake2',1,'b')".to_string()];
    // The super user has number 42; another account has a lower one.
    let members = ["(40,2),(42,8),(50,8)".to_string()];
    let shop = if ini {
        Vec::new()
    } else {
        vec![format!(
            "(1,{})",
            text(&format!(
                "shop_is_offline=\"0\"|vendor_url=\"{}\"|forSale_path=\"{}\"|list=[\"a\",\"b\"]|offline_message=\"Back at \\u263d\"",
                json(&format!("{a}/laden")),
                json(&format!("{}/vmfiles/", site.root))
            ))
        )]
    };
    let users = ["(42,1,25,'Star Gazer','stargazer','admin@fernhollow.example','$2y$10$fakefakefakefakefakefuGMTDVyOx0BnhDktZ3El3860pC14pfhG')".to_string()];
    [
        HEAD.to_string(),
        table(&format!("{p}content"), "  `id` int NOT NULL,\n  `title` varchar(255) NOT NULL,\n  `introtext` mediumtext NOT NULL,\n  `fulltext` mediumtext NOT NULL,\n  `images` text NOT NULL,\n  `created` datetime NOT NULL,\n  PRIMARY KEY (`id`)", &content),
        table(&format!("{p}finder_links"), "  `link_id` int NOT NULL,\n  `object` mediumblob,\n  PRIMARY KEY (`link_id`)", &finder),
        table(&format!("{p}menu"), "  `id` int NOT NULL,\n  `title` varchar(255) NOT NULL,\n  `type` varchar(16) NOT NULL,\n  `link` varchar(1024) NOT NULL,\n  `params` text NOT NULL,\n  PRIMARY KEY (`id`)", &menu),
        table(&format!("{p}redirect_links"), "  `id` int NOT NULL,\n  `old_url` varchar(2048) NOT NULL,\n  `new_url` varchar(2048) DEFAULT NULL,\n  `published` tinyint NOT NULL,\n  PRIMARY KEY (`id`)", &redirects),
        table(&format!("{p}session"), "  `session_id` varchar(191) NOT NULL,\n  `client_id` tinyint DEFAULT NULL,\n  `data` mediumtext,\n  PRIMARY KEY (`session_id`)", &sessions),
        // The oldest line keeps the group with the account.
        if ini { String::new() } else { table(&format!("{p}user_usergroup_map"), "  `user_id` int NOT NULL,\n  `group_id` int NOT NULL,\n  PRIMARY KEY (`user_id`,`group_id`)", &members) },
        table(&format!("{p}virtuemart_configs"), "  `virtuemart_config_id` int NOT NULL,\n  `config` text,\n  PRIMARY KEY (`virtuemart_config_id`)", &shop),
        table(&format!("{p}users"), "  `id` int NOT NULL,\n  `block` tinyint NOT NULL,\n  `gid` int NOT NULL,\n  `name` varchar(400) NOT NULL,\n  `username` varchar(150) NOT NULL,\n  `email` varchar(100) NOT NULL,\n  `password` varchar(100) NOT NULL,\n  PRIMARY KEY (`id`)", &users),
        TAIL.to_string(),
    ]
    .concat()
}
