//! Restored sites behind a real web server: what their `.htaccess` says is judged by Apache, at the root of a host and below it, with and
//! without encryption.

use super::common::Bench;
use super::common::apache::Apache;
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use zporter_standin::{Site, Variant};

/// A system's way to write its rules, in words of our own. `{base}`, `{host}`, `{pattern}` (the host with escaped dots), `{address}` and
/// `{root}` stand for the old place.
struct Style {
    variant: Variant,
    rules: &'static str,
    /// How it is asked whether the visitor came by the other scheme, from http and from https.
    came_by: [&'static str; 2],
    /// Whether visitors of other names are sent to the stored one.
    insists: bool,
}

const STYLES: [Style; 6] = [
    Style {
        variant: Variant::WordPress,
        rules: "<IfModule mod_rewrite.c>\nRewriteBase {base}/\nRewriteRule ^index\\.php$ - [L]\nRewriteCond %{REQUEST_FILENAME} !-f\n\
                RewriteCond %{REQUEST_FILENAME} !-d\nRewriteRule . {base}/index.php [L]\n</IfModule>\nphp_value auto_prepend_file \"{root}/first.php\"\n",
        came_by: ["%{HTTPS} on", "%{HTTPS} !=on"],
        insists: false,
    },
    Style {
        variant: Variant::PrestaShop16,
        rules: "#Domain: {host}\nRewriteRule . - [E=REWRITEBASE:{base}/]\nRewriteCond %{HTTP_HOST} ^{host}$\n\
                RewriteRule ^star-map$ %{ENV:REWRITEBASE}index.php?controller=map [L]\nRewriteCond %{REQUEST_FILENAME} -s [OR]\n\
                RewriteCond %{REQUEST_FILENAME} -d\nRewriteRule ^.*$ - [NC,L]\nRewriteRule ^about$ %{ENV:REWRITEBASE}index.php [NC,L]\n\
                ErrorDocument 404 {base}/index.php?controller=404\n",
        came_by: ["%{SERVER_PORT} ^443$", "%{SERVER_PORT} !^443$"],
        insists: false,
    },
    Style {
        variant: Variant::Joomla310,
        rules: "RewriteCond %{HTTP_HOST} !^{pattern}$ [NC]\nRewriteRule ^(.*)$ {address}/$1 [R=301,L]\n\
                RewriteCond %{REQUEST_URI} !^{base}/index\\.php\nRewriteCond %{REQUEST_FILENAME} !-f\nRewriteCond %{REQUEST_FILENAME} !-d\n\
                RewriteRule .* index.php [L]\n",
        came_by: ["%{HTTPS} =on", "%{HTTPS} off"],
        insists: true,
    },
    Style {
        variant: Variant::Drupal7,
        rules: "RewriteRule ^ - [E=protossl]\nRewriteCond %{HTTPS} on\nRewriteRule ^ - [E=protossl:s]\n\
                RewriteCond %{HTTP_HOST} ^other\\.test$ [NC]\nRewriteRule ^ {address}/ [L,R=301]\nRewriteCond %{REQUEST_FILENAME} !-f\n\
                RewriteCond %{REQUEST_FILENAME} !-d\nRewriteCond %{REQUEST_URI} !={base}/favicon.ico\nRewriteRule ^ index.php [L]\n\
                ErrorDocument 404 {base}/index.php\n",
        came_by: ["%{REQUEST_SCHEME} =https", "%{REQUEST_SCHEME} =http"],
        insists: true,
    },
    Style {
        variant: Variant::OpenCart3,
        rules: "RewriteBase {base}/\nRewriteRule ^sitemap.xml$ index.php?route=feed/map [L]\nRewriteCond %{REQUEST_FILENAME} !-f\n\
                RewriteCond %{REQUEST_FILENAME} !-d\nRewriteCond %{REQUEST_URI} !.*\\.(ico|gif|jpg|jpeg|png|js|css)\n\
                RewriteRule ^([^?]*) index.php?_route_=$1 [L,QSA]\nRewriteCond %{HTTP_REFERER} ^{address}/old-mugs\n\
                RewriteRule ^mugs\\.html$ {address}/about [R=302,L]\n",
        came_by: ["%{ENV:HTTPS} on", "%{ENV:HTTPS} !on"],
        insists: false,
    },
    Style {
        variant: Variant::PhpBb33,
        rules: "<IfModule mod_rewrite.c>\nRewriteCond %{HTTP_HOST} !={host}\nRewriteRule (.*) {address}%{REQUEST_URI} [R=302,L]\n</IfModule>\n\
                FallbackResource {base}/index.php\n",
        came_by: ["%{HTTPS} ^on$", "%{HTTPS} ^off$"],
        insists: false,
    },
];

const GUARD: &str =
    "AuthType Basic\nAuthName \"members\"\nAuthUserFile \"{root}/private/.htpasswd\"\nRequire valid-user\n";
/// `reader`, whose password is `password`.
const MEMBERS: &str = "reader:{SHA}W6ph5Mm5Pz8GgiULbPgzG37mj9g=\n";

impl Style {
    fn of_place(text: &str, site: &Site) -> String {
        let (host, base) = split(&site.address);
        text.replace("{base}", base)
            .replace("{pattern}", &host.replace('.', "\\."))
            .replace("{host}", host)
            .replace("{address}", &site.address)
            .replace("{root}", &site.root)
    }

    fn write(&self, site: &Site) {
        let root = Path::new(&site.root);
        site.write(root).unwrap();
        // One host alone.
        let _ = fs::remove_dir_all(root.join("sites/members.fernhollow.example"));
        let secure = site.address.starts_with("https");
        let scheme = if secure { "https" } else { "http" };
        let force = format!(
            "RewriteEngine On\nRewriteCond {}\nRewriteRule ^ {scheme}://%{{HTTP_HOST}}%{{REQUEST_URI}} [R=301,L]\n",
            self.came_by[usize::from(secure)]
        );
        let put = |path: &str, text: &str| {
            fs::create_dir_all(root.join(path).parent().unwrap()).unwrap();
            fs::write(root.join(path), Style::of_place(text, site)).unwrap();
        };
        put(".htaccess", &format!("{force}{}", self.rules));
        put(
            "index.php",
            "<?php define('VERSION', '3.0.3.8'); echo 'front door for ', $_SERVER['REQUEST_URI'], \"\\n\";\n",
        );
        put("first.php", "<?php // before every page\n");
        put("plain.txt", "as it lies there\n");
        put("private/.htaccess", GUARD);
        put("private/.htpasswd", MEMBERS);
        put("private/page.html", "for members\n");
    }

    /// Looks at a site as its visitors do.
    fn judge(&self, apache: &Apache, address: &str) {
        let (host, base) = split(address);
        let page = |path: &str| format!("{address}{path}");
        let front = ["/", "/index.php", "/star-map"];
        for path in front {
            let answer = apache.visit(address, &page(path));
            assert!(
                answer.status == 200 && answer.text.contains("front door"),
                "{path}: {}\n{}",
                answer.text,
                apache.log()
            );
        }
        let other_scheme = if address.starts_with("https") { "http" } else { "https" };
        if other_scheme == "http" {
            let answer = apache.visit(address, &format!("http://{host}{base}/star-map"));
            assert_eq!(answer.status, 200, "{}", answer.text);
        }
        let answer = apache.visit(address, &page("/plain.txt"));
        assert!(answer.status == 200 && answer.text.contains("as it lies"), "{}", answer.text);
        assert_eq!(apache.get(&page("/private/page.html"), false).status, 401);
        let answer = apache.get(&page("/private/page.html"), true);
        assert!(
            answer.status == 200 && answer.text.contains("for members"),
            "{}\n{}",
            answer.text,
            apache.log()
        );
        if self.rules.contains("ErrorDocument") {
            let answer = apache.visit(address, &page("/img/nothing/here.png"));
            assert!(answer.text.contains("front door"), "{}", answer.text);
        }
        if self.insists {
            let scheme = address.split("://").next().unwrap();
            let answer = apache.visit(address, &format!("{scheme}://other.test{base}/"));
            assert_eq!(answer.status, 200, "{}", answer.text);
        }
    }
}

fn split(address: &str) -> (&str, &str) {
    let rest = address.split_once("://").unwrap().1;
    rest.find('/').map_or((rest, ""), |at| rest.split_at(at))
}

#[test]
fn rules_of_every_style_work_at_every_kind_of_place() {
    let bench = Bench::new();
    let open = |path: &Path| fs::set_permissions(path, fs::Permissions::from_mode(0o755)).unwrap();
    open(&bench.path("."));
    let (web, work) = (bench.path("web"), bench.path("apache"));
    fs::create_dir_all(&web).unwrap();
    fs::create_dir_all(&work).unwrap();
    let Some(apache) = Apache::serve(&web, &work) else { return };
    let moves = [
        ("http://old#.test", "http://new#.test/copy/a"),
        ("https://old#.test/shop", "http://new#.test"),
        ("http://old#.test/shop", "https://new#.test"),
        ("https://old#.test", "https://new#.test/b"),
        ("https://old#.test/shop", "http://new#.test/store"),
    ];
    for (style, (number, (from, to))) in
        STYLES.iter().flat_map(|s| moves.iter().enumerate().map(move |m| (s, m)))
    {
        let name = format!("{:?}{number}", style.variant).to_lowercase();
        let [from, to] = [from, to].map(|a| a.replace('#', &name));
        let folder = |address: &str| {
            let (host, base) = split(address);
            web.join(host).join(base.trim_start_matches('/'))
        };
        let mut site = Site::of(style.variant);
        site.address.clone_from(&from);
        site.root = folder(&from).display().to_string().trim_end_matches('/').to_string();
        style.write(&site);
        let other = web.join("other.test");
        let stand_for = |address: &str| {
            // Another name for the same folder.
            let _ = fs::remove_file(&other);
            std::os::unix::fs::symlink(web.join(split(address).0), &other).unwrap();
        };
        stand_for(&from);
        style.judge(&apache, &from);
        bench.write("old.sql", site.dump());
        let target = folder(&to).display().to_string();
        let _ = fs::remove_file("new.sql");
        let dump = format!("{name}.sql");
        let args = [
            "clone",
            &site.root,
            target.trim_end_matches('/'),
            "--dump",
            "old.sql",
            "--old-address",
            &from,
            "--address",
            &to,
        ];
        let cloned =
            bench.run(&[&args[..], &["--database", "mysql://u@localhost/n", "--dump-to", &dump]].concat());
        assert!(cloned.code <= 1, "{}{}", cloned.stdout, cloned.stderr);
        fs::remove_dir_all(web.join(split(&from).0)).unwrap();
        stand_for(&to);
        style.judge(&apache, &to);
        // The server looks at every folder on the way.
        open(&web);
    }
}
