//! The visitor shop, on PrestaShop of several lines and on thirty bees.

use crate::sql::{HEAD, MEMBER, TAIL, serialized, serialized_array, table, text};
use crate::{PIXEL, Site, SiteFile, Variant, door, file, php};

const GUARD: &str = "<?php\nheader('Location: ../');\nexit;\n";

pub(crate) fn files(site: &Site) -> Vec<SiteFile> {
    let (host, base) = site.host_and_base();
    let newer = site.definition() == "prestashop-7";
    let smarty: &[&'static str] = match site.variant {
        _ if newer => &["var/cache/index.php", "var/logs/index.php"],
        Variant::PrestaShop14 => &["tools/smarty/compile/index.php", "tools/smarty/cache/index.php"],
        _ => &["cache/smarty/compile/index.php", "cache/smarty/cache/index.php", "cache/index.php"],
    };
    let mut files = vec![
        file("index.php", include_str!("../php/prestashop.php")),
        file("standin.php", include_str!("../php/standin.php")),
        file("admin482kzq/index.php", door("admin482kzq")),
        file("authentication.php", "<?php\n$door_front = true;\nrequire __DIR__ . '/index.php';\n"),
        file("img/p/1/2/12.jpg", PIXEL),
        file("img/tmp/index.php", GUARD),
        file("img/tmp/product_mini_12.jpg", PIXEL),
        file("upload/Größe und Form.pdf", "%PDF-1.4 made up\n"),
        file("themes/fern/cache/v_1.css", format!("a{{background:url({}/img/x.png)}}", site.address)),
        file("themes/fern/css/global.css", "a{color:#123}\n"),
        file("modules/starbanner/starbanner.php", "<?php // a module\n"),
        file(
            ".htaccess",
            format!(
                "# ~~start~~ made by the shop\nRewriteEngine on\n#Domain: {host}\nRewriteRule . - [E=REWRITEBASE:{base}/]\n\
                 RewriteCond %{{HTTP_HOST}} ^{host}$\nRewriteRule ^([0-9])/.+\\.jpg$ %{{ENV:REWRITEBASE}}img/p/$1.jpg [L]\n\
                 RewriteCond %{{REQUEST_FILENAME}} !-f\nRewriteCond %{{REQUEST_FILENAME}} !-d\nRewriteRule ^.*$ %{{ENV:REWRITEBASE}}index.php [NC,L]\n\
                 ErrorDocument 404 {base}/index.php?controller=404\n# ~~end~~ made by the shop\n"
            ),
        ),
        file("robots.txt", format!("User-agent: *\nSitemap: {}/1_en_0_sitemap.xml\n", site.address)),
        file("log/index.php", GUARD),
        file("log/20260301.log", "an old line\n"),
    ];
    for path in smarty {
        files.push(file(*path, GUARD));
    }
    if newer {
        files.extend([
            file("app/config/parameters.php", parameters(site)),
            file("var/cache/prod/appParameters.php", parameters(site)),
            file("app/AppKernel.php", kernel(site)),
        ]);
        if site.variant == Variant::PrestaShop9 {
            files.push(file(
                "src/Core/Version.php",
                format!(
                    "<?php\nfinal class Version\n{{\n    public const VERSION = '{}';\n}}\n",
                    site.version()
                ),
            ));
        }
        return files;
    }
    files.push(file("config/settings.inc.php", config(site)));
    if site.variant != Variant::PrestaShop14 {
        files.push(file("cache/smarty/compile/a1/b2/page.tpl.php", format!("<?php // {}", site.root)));
        files.push(file(
            "cache/class_index.php",
            format!("<?php return array('Shop' => '{}/classes/Shop.php');\n", site.root),
        ));
    }
    files
}

fn kernel(site: &Site) -> String {
    let version = match site.variant {
        Variant::PrestaShop17 => format!("'{}'", site.version()),
        _ => "Version::VERSION".into(),
    };
    format!(
        "<?php\nclass AppKernel extends Kernel\n{{\n    const VERSION = {version};\n    const MAJOR_VERSION = 17;\n}}\n"
    )
}

fn parameters(site: &Site) -> String {
    let [host, user, password, name] = &site.database;
    format!(
        "<?php return array (\n  'parameters' => \n  array (\n    'database_host' => {},\n    'database_port' => '',\n    'database_name' => {},\n    'database_user' => {},\n    \
         'database_password' => {},\n    'database_prefix' => '{}',\n    'database_engine' => 'InnoDB',\n    'mailer_user' => NULL,\n    'secret' => 'FakeSecret17',\n    \
         'ps_cache_enable' => false,\n    'cookie_key' => 'FakeCookieKey17',\n    'new_cookie_key' => 'def00000fake',\n  ),\n);\n",
        php(host),
        php(name),
        php(user),
        // Between two of these signs stands the name of another parameter.
        php(&password.replace('%', "%%")),
        site.prefix
    )
}

fn config(site: &Site) -> String {
    let [host, user, password, name] = &site.database;
    let (_, base) = site.host_and_base();
    let mut lines = vec![
        ("_DB_SERVER_", host.clone()),
        ("_DB_NAME_", name.clone()),
        ("_DB_USER_", user.clone()),
        ("_DB_PASSWD_", password.clone()),
        ("_DB_PREFIX_", site.prefix.clone()),
        ("_MYSQL_ENGINE_", "InnoDB".into()),
    ];
    if site.variant == Variant::PrestaShop14 {
        lines.push(("__PS_BASE_URI__", format!("{base}/")));
        lines.push(("_THEME_NAME_", "fern".into()));
    }
    lines.push(("_COOKIE_KEY_", "FakeCookieKey16xxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxx".into()));
    lines.push(("_COOKIE_IV_", "FakeIv16".into()));
    let defines: String = lines.iter().map(|(k, v)| format!("define('{k}', {});\n", php(v))).collect();
    let versions = match site.variant {
        Variant::ThirtyBees => {
            "define('_PS_VERSION_', '1.6.1.999');\ndefine('_TB_VERSION_', '1.4.0');\n".to_string()
        }
        Variant::PrestaShop14 => format!("define('_PS_VERSION_', '{}');\n?>\n", site.version()),
        _ => format!("if (!defined('_PS_VERSION_'))\r\n\tdefine('_PS_VERSION_', '{}');\r\n", site.version()),
    };
    format!("<?php\n{defines}{versions}")
}

pub(crate) fn dump(site: &Site) -> String {
    let p = &site.prefix;
    let a = &site.address;
    let (host, base) = site.host_and_base();
    let old_line = site.variant == Variant::PrestaShop14;
    let secure = if a.starts_with("https:") { "1" } else { "0" };
    let banner = serialized_array(&[
        ("link", serialized(&format!("{a}/angebote-für-alle"))),
        ("image", serialized(&format!("{}/modules/starbanner/img/b.png", site.root))),
        ("on", "b:1;".into()),
    ]);
    let settings = [
        ("PS_SHOP_DOMAIN", host.to_string()),
        ("PS_SHOP_DOMAIN_SSL", host.to_string()),
        ("PS_SSL_ENABLED", secure.into()),
        ("PS_SSL_ENABLED_EVERYWHERE", secure.into()),
        ("PS_SHOP_DEFAULT", "1".into()),
        ("PS_SHOP_NAME", "Fernhollow Visitor Shop".into()),
        ("PS_SHOP_EMAIL", "shop@fernhollow.example".into()),
        ("PS_MEDIA_SERVER_1", String::new()),
        ("PS_SHOP_ENABLE", "1".into()),
        ("PS_MAIL_METHOD", "1".into()),
        ("STAR_BANNER", banner),
    ];
    let setting = |(i, (name, value)): (usize, &(&str, String))| {
        if old_line {
            format!("({},'{name}',{})", i + 1, text(value))
        } else {
            format!("({},NULL,NULL,'{name}',{})", i + 1, text(value))
        }
    };
    let mut rows: Vec<String> = settings.iter().enumerate().map(setting).collect();
    if !old_line {
        // A second shop on a host of its own: not part of the move.
        rows.push("(90,NULL,2,'PS_SHOP_DOMAIN','kids.fernhollow.example')".into());
    }
    let columns =
        if old_line { "" } else { "  `id_shop_group` int DEFAULT NULL,\n  `id_shop` int DEFAULT NULL,\n" };
    let products = [
        format!(
            "(1,'Star map','star-map',{})",
            text(&format!("<p>Printed by hand. <a href=\"{a}/content/3-paper\">Paper</a></p>"))
        ),
        format!("(2,'Eyepiece \\'12 mm\\'','eyepiece',{})", text("<p>No link here.</p>")),
    ];
    let pages = [format!(
        "(1,{})",
        text(&format!("<p>Terms: {}/content/1 and mailto:shop@{host}</p>", a.replace("https:", "http:")))
    )];
    let urls = [
        // The main row of another shop comes first, and one shop has two names.
        "(1,2,'kids.fernhollow.example','kids.fernhollow.example','/','',1,1)".to_string(),
        format!("(2,1,'www.{host}','www.{host}','{base}/','',0,1)"),
        format!("(3,1,'{host}','{host}','{base}/','',1,1)"),
    ];
    let mut out = vec![
        HEAD.to_string(),
        table(
            &format!("{p}cms_lang"),
            "  `id_cms` int NOT NULL,\n  `content` longtext,\n  PRIMARY KEY (`id_cms`)",
            &pages,
        ),
        table(
            &format!("{p}configuration"),
            &format!(
                "  `id_configuration` int NOT NULL,\n{columns}  `name` varchar(254) NOT NULL,\n  `value` text,\n  PRIMARY KEY (`id_configuration`)"
            ),
            &rows,
        ),
        table(
            &format!("{p}connections"),
            "  `id_connections` int NOT NULL,\n  `http_referer` varchar(255) DEFAULT NULL,\n  PRIMARY KEY (`id_connections`)",
            &[format!("(1,{}),(2,NULL)", text(&format!("{a}/star-map")))],
        ),
        table(
            &format!("{p}product_lang"),
            "  `id_product` int NOT NULL,\n  `name` varchar(128) NOT NULL,\n  `link_rewrite` varchar(128) NOT NULL,\n  `description` text,\n  PRIMARY KEY (`id_product`)",
            &products,
        ),
        table(
            &format!("{p}smarty_cache"),
            "  `id_smarty_cache` char(40) NOT NULL,\n  `content` longtext NOT NULL,\n  PRIMARY KEY (`id_smarty_cache`)",
            &[format!("('fake1',{})", text(&format!("<a href=\"{a}\">")))],
        ),
    ];
    out.push(table(&format!("{p}customer"), "  `id_customer` int NOT NULL,\n  `email` varchar(128) NOT NULL,\n  `passwd` varchar(255) NOT NULL,\n  PRIMARY KEY (`id_customer`)", &[format!("(3,'guest@fernhollow.example','{MEMBER}')")]));
    out.push(table(&format!("{p}employee"), "  `id_employee` int NOT NULL,\n  `id_profile` int NOT NULL,\n  `email` varchar(128) NOT NULL,\n  `passwd` varchar(255) NOT NULL,\n  PRIMARY KEY (`id_employee`)", &["(1,1,'keeper@fernhollow.example','fake'),(2,4,'sales@fernhollow.example','fake')".to_string()]));
    if !old_line {
        out.push(table(&format!("{p}shop_url"), "  `id_shop_url` int NOT NULL,\n  `id_shop` int NOT NULL,\n  `domain` varchar(150) NOT NULL,\n  `domain_ssl` varchar(150) NOT NULL,\n  `physical_uri` varchar(64) NOT NULL,\n  `virtual_uri` varchar(64) NOT NULL,\n  `main` tinyint NOT NULL,\n  `active` tinyint NOT NULL,\n  PRIMARY KEY (`id_shop_url`),\n  UNIQUE KEY `full_shop_url` (`domain`,`physical_uri`,`virtual_uri`),\n  UNIQUE KEY `full_shop_url_ssl` (`domain_ssl`,`physical_uri`,`virtual_uri`)", &urls));
    }
    out.push(table(&format!("{p}linksmenutop_lang"), "  `id_linksmenutop` int NOT NULL,\n  `link` varchar(128) NOT NULL,\n  PRIMARY KEY (`id_linksmenutop`)", &[format!("(1,'{base}/content/2-visits'),(2,'https://elsewhere.example/x')")]));
    out.push(TAIL.to_string());
    out.concat()
}
