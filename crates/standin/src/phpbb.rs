//! The stargazers' forum, on phpBB of an old and a new line.

use crate::sql::{HEAD, TAIL, serialized, serialized_array, table, text};
use crate::{PIXEL, Site, SiteFile, Variant, door, file, php};

const GUARD: &str = "<Files *>\n\tDeny from All\n</Files>\n";

/// A page of its own that shows the same.
const PAGE: &str = "<?php\nrequire __DIR__ . '/index.php';\n";

pub(crate) fn files(site: &Site) -> Vec<SiteFile> {
    let mut files = vec![
        SiteFile { path: "config.php".into(), content: config(site).into_bytes(), mode: 0o640 },
        file("index.php", include_str!("../php/phpbb.php")),
        file("standin.php", include_str!("../php/standin.php")),
        file("includes/constants.php", format!("<?php\n@define('PHPBB_VERSION', '{}');\n", site.version())),
        file("adm/index.php", door("adm")),
        file("ucp.php", door("ucp")),
        file("viewtopic.php", PAGE),
        file("viewforum.php", PAGE),
        file("faq.php", PAGE),
        file("cache/.htaccess", GUARD),
        file("cache/index.htm", ""),
        file("cache/data_global.php", format!("<?php exit; ?>{}", site.address)),
        file("cache/queue.php", "<?php // mails that wait\n"),
        file("files/.htaccess", GUARD),
        file("files/2_fakefakefakefakefakefakefakefake", "an attachment\n"),
        file("images/avatars/upload/fake_2.png", PIXEL),
        file("docs/CHANGELOG.html", "version\n"),
        file("styles/prosilver/style.cfg", "name = fern\n"),
    ];
    if site.variant == Variant::PhpBb33 {
        files.push(file("cache/production/container_fake.php", format!("<?php // {}", site.root)));
    }
    files
}

fn config(site: &Site) -> String {
    let [host, user, password, name] = &site.database;
    let new = site.variant == Variant::PhpBb33;
    let driver = if new { "'phpbb\\\\db\\\\driver\\\\mysqli'" } else { "'mysqli'" };
    let flags = if new { "@define('PHPBB_ENVIRONMENT', 'production');\n" } else { "" };
    // The newer line takes a socket in place of a port, and nowhere else.
    let (host, port) = match host.split_once(":/") {
        Some((host, socket)) if new => (host, format!("/{socket}")),
        _ if new => (host.as_str(), "/run/mysqld/mysqld.sock".to_string()),
        _ => (host.as_str(), String::new()),
    };
    format!(
        "<?php\n// Do not change anything in this file!\n$dbms = {driver};\n$dbhost = {};\n$dbport = '{port}';\n$dbname = {};\n$dbuser = {};\n$dbpasswd = {};\n\
         $table_prefix = '{}';\n@define('PHPBB_INSTALLED', true);\n{flags}// @define('DEBUG', true);\n",
        php(host),
        php(name),
        php(user),
        php(password),
        site.prefix
    )
}

pub(crate) fn dump(site: &Site) -> String {
    let p = &site.prefix;
    let a = &site.address;
    let (_, base) = site.host_and_base();
    let (host, port) = site.host_and_port();
    let secure = a.starts_with("https");
    let new = site.variant == Variant::PhpBb33;
    // Where the board does not insist on these rows nobody keeps them in step.
    let port = port.unwrap_or(if new && secure { "443" } else { "80" });
    let rows = [
        ("version", site.version()),
        ("server_protocol", if secure { "https://" } else { "http://" }),
        ("server_name", host),
        ("server_port", port),
        ("script_path", if base.is_empty() { "/" } else { base }),
        ("force_server_vars", if new { "1" } else { "0" }),
        ("cookie_secure", if secure { "1" } else { "0" }),
        ("cookie_domain", host),
        ("cookie_path", if base.is_empty() { "/" } else { base }),
        ("cookie_name", "phpbb3_fake1"),
        ("board_disable", "0"),
        ("email_enable", "1"),
        ("jab_enable", "0"),
        ("board_contact", "contact@fernhollow.example"),
        ("sitename", "Fernhollow Stargazers"),
        ("board_email", "forum@fernhollow.example"),
        ("upload_path", "files"),
    ];
    let rows: Vec<String> = rows.iter().map(|(n, v)| format!("('{n}',{},0)", text(v))).collect();
    let posts = if site.variant == Variant::PhpBb33 {
        format!(
            "<r><URL url=\"{a}/viewtopic.php?t=1\"><s>[url]</s>{a}/viewtopic.php?t=1<e>[/url]</e></URL> seen</r>"
        )
    } else {
        format!(
            "see <!-- l --><a class=\"postlink-local\" href=\"{a}/viewtopic.php?t=1\">viewtopic.php?t=1</a><!-- l --> and [url:fake]{a}[/url:fake]"
        )
    };
    // As lines up to 3.1 keep what stands in brackets; such posts outlive every upgrade.
    let coded = |text: &str| text.replace(':', "&#58;").replace('.', "&#46;");
    let old_post = format!(
        "[url={0}:1x2y]see[/url:1x2y] [img:1x2y]{0}[/img:1x2y] at 12&#58;30",
        coded(&format!("{a}/viewtopic.php?t=2"))
    );
    let rules = format!("[url={}:3z]rules[/url:3z]", coded(&format!("{a}/faq.php")));
    let log = serialized_array(&[("0", serialized("moved")), ("1", serialized(&format!("{a}/f2")))]);
    [
        HEAD.to_string(),
        table(&format!("{p}config"), "  `config_name` varchar(255) NOT NULL,\n  `config_value` varchar(255) NOT NULL,\n  `is_dynamic` tinyint NOT NULL,\n  PRIMARY KEY (`config_name`)", &rows),
        table(&format!("{p}log"), "  `log_id` int NOT NULL,\n  `log_data` mediumtext NOT NULL,\n  PRIMARY KEY (`log_id`)", &[format!("(1,{})", text(&log))]),
        table(&format!("{p}posts"), "  `post_id` int NOT NULL,\n  `post_text` mediumtext NOT NULL,\n  PRIMARY KEY (`post_id`)", &[format!("(1,{})", text(&posts)), format!("(2,{})", text(&old_post))]),
        table(&format!("{p}forums"), "  `forum_id` int NOT NULL,\n  `forum_link` varchar(255) NOT NULL,\n  `forum_rules` text NOT NULL,\n  PRIMARY KEY (`forum_id`)", &[format!("(1,{},{})", text(&format!("{base}/viewforum.php?f=1")), text(&rules))]),
        table(&format!("{p}sessions"), "  `session_id` char(32) NOT NULL,\n  PRIMARY KEY (`session_id`)", &["('fake')".to_string()]),
        table(&format!("{p}users"), "  `user_id` int NOT NULL,\n  `user_type` tinyint NOT NULL,\n  `username` varchar(255) NOT NULL,\n  `user_password` varchar(255) NOT NULL,\n  `user_email` varchar(100) NOT NULL,\n  PRIMARY KEY (`user_id`)", &["(1,2,'Anonymous','','')".to_string(), "(2,3,'gazer','fake','gazer@fernhollow.example')".to_string()]),
        TAIL.to_string(),
    ]
    .concat()
}
