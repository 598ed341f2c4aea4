//! Pages, pictures and files of the small host, each with the faults that show on it.

use super::{Body, Fault, Response, Served, Shared, file, page, redirect};
use crate::season;
use std::sync::atomic::Ordering;
use std::time::Duration;

/// A gigabyte of nothing, packed: members of gzip one after another.
fn bomb() -> Vec<u8> {
    // One megabyte of zeroes as gzip: stored by hand, so that this crate needs no packer. Blocks of fixed codes, each a zero and runs of 258.
    let mut bits: Vec<u8> = Vec::new();
    let (mut now, mut n) = (0u32, 0);
    let mut put = |value: u32, width: u32, bits: &mut Vec<u8>| {
        now |= value << n;
        n += width;
        while n >= 8 {
            bits.push(now as u8);
            now >>= 8;
            n -= 8;
        }
    };
    let reversed = |value: u32, width: u32| value.reverse_bits() >> (32 - width);
    put(1, 1, &mut bits);
    put(1, 2, &mut bits);
    // The letter `a`, then runs of 258 at distance 1: code 285 is 8 bits long, distance code 0 is 5.
    put(reversed(0x30 + u32::from(b'a'), 8), 8, &mut bits);
    for _ in 0..4_000_000 {
        put(reversed(0xC0 + 285 - 280, 8), 8, &mut bits);
        put(0, 5, &mut bits);
    }
    put(0, 7, &mut bits);
    put(0, 7, &mut bits);
    let mut out = vec![0x1f, 0x8b, 8, 0, 0, 0, 0, 0, 0, 255];
    out.extend(bits);
    // No sum: who reads so far has read too far.
    out.extend([0; 8]);
    out
}

impl Shared {
    pub(super) fn missing(&self) -> Response {
        page(404, "<!doctype html><title>Not here</title><h1>This page is not here</h1>")
    }

    pub(super) fn site(&self, below: &str, query: &str) -> Response {
        let Served { base, old, .. } = &self.served;
        let own = format!("http://{}{base}", self.served.name);
        match below {
            "" => self.home(),
            "about" => self.about(),
            "sitemap.xml" => {
                let mut all: Vec<String> =
                    (0..self.served.pages).map(|n| format!("{own}/news/{n}")).collect();
                if self.has(Fault::OldInMap) {
                    all.push(format!("{old}/from-the-map"));
                }
                let all: String = all.iter().map(|u| format!("<url><loc>{u}</loc></url>")).collect();
                file(
                    "application/xml",
                    format!(
                        "<?xml version=\"1.0\"?><urlset xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\">{all}</urlset>"
                    ),
                )
            }
            "style.css" if self.has(Fault::NoStyle) => self.missing(),
            "style.css" => {
                let old = if self.has(Fault::OldInStyle) {
                    format!("h2{{background:url({old}/old.png)}}")
                } else {
                    String::new()
                };
                file(
                    "text/css",
                    format!(
                        "@font-face{{font-family:F;src:url(\"f/night.woff2\")}} body{{font-family:sans-serif;margin:2em;background:url('p/0.png')}} nav a{{margin-right:1em}} {old}"
                    ),
                )
            }
            "f/night.woff2" if self.has(Fault::NoFont) => self.missing(),
            "f/night.woff2" => file("font/woff2", b"wOF2\0\x01\0\0".to_vec()),
            "script.js" if self.has(Fault::NoScript) => self.missing(),
            "script.js" if self.has(Fault::PageForScript) => {
                page(200, "<!doctype html><title>Home</title><p>Home")
            }
            "script.js" => file("text/javascript", "document.title += '';"),
            "p/" if self.has(Fault::Listing) => page(
                200,
                "<!DOCTYPE html><html><head><title>Index of /p</title></head><body><h1>Index of /p</h1><a href=\"0.png\">0.png</a>",
            ),
            "favicon.ico" => file("image/png", self.pictures[0].clone()),
            ".git/HEAD" if self.has(Fault::Repository) => file("text/plain", "ref: refs/heads/main\n"),
            "backup.sql" if self.has(Fault::Dump) => {
                file("application/sql", "-- dump\nINSERT INTO `t` VALUES (1);\n")
            }
            "configuration.php~" if self.has(Fault::ConfigCopy) => {
                file("text/plain", "<?php\nclass JConfig { public $password = 'fake'; }\n")
            }
            ".configuration.php.swp" if self.has(Fault::ConfigLeft) => {
                file("application/octet-stream", b"b0VIM 8.2\0\0fake".to_vec())
            }
            "backup.tar" if self.has(Fault::TapeArchive) => {
                let mut tape = vec![0; 512];
                tape[257..262].copy_from_slice(b"ustar");
                file("application/x-tar", tape)
            }
            "backups/" if self.has(Fault::BackupsListed) => page(
                200,
                "<html><head><title>fernhollow - /backups/</title></head><body><pre><a href=\"/\">[To Parent Directory]</a></pre>",
            ),
            ".env" if self.has(Fault::Variables) => {
                file("text/plain", "APP_ENV=prod\nDATABASE_PASSWORD=fake\n")
            }
            "install/" if self.has(Fault::InstallerLeft) || self.has(Fault::Installer) => page(
                200,
                "<!doctype html><title>Install the program</title><h1>Installation</h1><form method=post><input name=db></form>",
            ),
            _ if self.has(Fault::Archive)
                && below == format!("{}.zip", self.served.name.split(':').next().unwrap_or_default()) =>
            {
                file("application/zip", b"PK\x03\x04fake".to_vec())
            }
            "odd" => self.odd(),
            "odd2" if self.has(Fault::Circle) => redirect(format!("{own}/odd")),
            "calendar" if self.has(Fault::Calendar) => {
                let month: u32 = query.strip_prefix("month=").and_then(|m| m.parse().ok()).unwrap_or(0);
                page(
                    200,
                    format!(
                        "<title>Month {month}</title><p>Nights of month {month}, of which there are {}.</p><a href='calendar?month={}'>next</a>",
                        month % 7,
                        month + 1
                    ),
                )
            }
            _ if below.starts_with("farm/") => {
                let n: u32 = below[5..].parse().unwrap_or(0);
                redirect(format!("{own}/farm/{}", n + 1))
            }
            _ if below.starts_with("deeper/") => {
                page(200, "<title>Deeper</title><p>Deeper and deeper.</p><a href='deeper/x'>on</a>")
            }
            _ => self.numbered(below),
        }
    }

    /// News and pictures.
    fn numbered(&self, below: &str) -> Response {
        let number = |prefix: &str, ending: &str| {
            below.strip_prefix(prefix)?.strip_suffix(ending)?.parse::<usize>().ok()
        };
        if let Some(n) = number("news/", "").filter(|n| *n < self.served.pages) {
            return self.news(n);
        }
        match number("p/", ".png") {
            Some(3) if self.has(Fault::PictureToOld) => redirect(format!("{}/{below}", self.served.old)),
            Some(3) if self.has(Fault::NoPicture) => self.missing(),
            Some(4) if self.has(Fault::NoWidePicture) => self.missing(),
            Some(3) if self.has(Fault::EmptyPicture) => file("image/png", ""),
            Some(3) if self.has(Fault::TextForPicture) => file("image/png", "not a picture at all"),
            Some(n) if n < self.pictures.len() => file("image/png", self.pictures[n].clone()),
            _ => self.missing(),
        }
    }

    /// The frame of all pages.
    fn framed(&self, title: &str, head: &str, body: &str) -> Response {
        let base = &self.served.base;
        let news: String = (0..self.served.pages.min(5))
            .map(|n| format!("<a href=\"{base}/news/{n}\">News {n}</a>"))
            .collect();
        let now = self.asked.load(Ordering::Relaxed);
        let lively = if self.served.lively {
            let saying = if now.is_multiple_of(3) { "<p>Look up more often.</p>" } else { "" };
            format!(
                "<p>You are visitor {now} and it is {now}:0{}.</p>{saying}<input type=hidden name=token value={now}>",
                now % 10
            )
        } else {
            String::new()
        };
        let odd = if self.served.faults.is_empty() {
            String::new()
        } else {
            format!("<a href=\"{base}/odd\">Odd</a>")
        };
        let text = format!(
            "<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><title>{title}</title><link rel=\"stylesheet\" href=\"{base}/style.css\">\
             <link rel=\"icon\" href=\"{base}/favicon.ico\">{head}<script src=\"{base}/script.js\"></script></head>\n<body><header><nav><a href=\"{base}/\">Home</a>\
             <a href=\"{base}/about\">About</a>{news}{odd}<a href=\"{base}/user/logout\">Log out</a></nav></header>\n<main>{body}</main>\n{lively}<footer>Fernhollow Observatory, founded 1987 in Größau</footer></body></html>\n"
        );
        let mut out = page(200, text);
        out.headers.push(("Set-Cookie", format!("visit=1; Path={base}/; HttpOnly")));
        out
    }

    fn home(&self) -> Response {
        let Served { base, old, name, .. } = &self.served;
        if self.has(Fault::Placeholder) {
            return page(
                200,
                "<!doctype html><title>Apache2 Debian Default Page: It works</title><h1>It works!</h1><p>This is the page of the server.</p>",
            );
        }
        if self.has(Fault::Maintenance) {
            return page(503, "<!doctype html><title>Maintenance</title><h1>Closed for maintenance</h1>");
        }
        if self.has(Fault::Installer) {
            return redirect(format!("http://{name}{base}/install/"));
        }
        let mut head = String::new();
        if self.has(Fault::Canonical) {
            head += &format!("<link rel=canonical href='{old}/'>");
        } else {
            head += &format!("<link rel=canonical href='http://{name}{base}/'>");
        }
        if self.has(Fault::NoIndexForOne) {
            head += "<meta name=robots content=index><meta name=googlebot content=noindex>";
        }
        if self.has(Fault::NoIndex) {
            head += "<meta name=robots content='noindex, nofollow'>";
        }
        let mut out = self.framed(
            "Fernhollow Observatory",
            &head,
            &format!(
                "<h1>Nights under a dark sky</h1><p>The observatory opens every clear Friday. Bring a coat and your questions.</p>\
                 <img src=\"{base}/p/3.png\" srcset=\"{base}/p/3.png 1x, {base}/p/4.png 2x\" alt=\"The Ring Nebula\">\
                 <form method=\"get\" action=\"{base}/about\"><input name=\"q\"><button>Search</button></form>"
            ),
        );
        if self.has(Fault::NoIndexHeader) {
            out.headers.push(("X-Robots-Tag", "noindex".into()));
        }
        out
    }

    fn about(&self) -> Response {
        let base = &self.served.base;
        self.framed(
            "About us",
            "",
            &format!(
                "<h1>About us</h1><p>Twelve telescopes, forty members, one dome.</p><img src=\"{base}/p/1.png\" alt=\"The dome\">\
                 <p>An article of ours tells how we mended \"Error establishing a database connection\" after a storm.</p>\
                 <pre>Warning: Undefined variable $x in /srv/x.php on line 3</pre>\
                 <form method=\"post\" action=\"{base}/about\"><input name=\"name\"><input name=\"email\" type=\"email\"><textarea name=\"message\"></textarea><button>Send</button></form>"
            ),
        )
    }

    fn news(&self, n: usize) -> Response {
        let base = &self.served.base;
        let (next, far) = ((n + 1) % self.served.pages.max(1), (n * 7 + 3) % self.served.pages.max(1));
        let text: String = (0..4).map(|i| format!("<p>{}</p>", season::sentence(n * 4 + i))).collect();
        self.framed(
            &format!("News {n}"),
            "",
            &format!("<h1>News {n}</h1>{text}<img src=\"{base}/p/{}.png\" alt=\"\"><a href=\"{base}/news/{next}\">More</a> <a href=\"{base}/news/{far}\">And more</a>", n % 12),
        )
    }

    /// The page on which most faults show.
    fn odd(&self) -> Response {
        let Served { base, old, old_root, name, .. } = &self.served;
        let bare = old.split_once("://").map_or(old.as_str(), |(_, r)| r);
        let has = |f| self.has(f);
        let long = season::sentence(1).repeat(12);
        let mut body = format!("<h1>Odd things</h1><p>{long}</p>");
        let mut head = String::new();
        if has(Fault::Database) {
            return page(
                500,
                "<!doctype html><title>Error</title><h1>Error establishing a database connection</h1>",
            );
        }
        if has(Fault::DatabaseInGerman) {
            return page(
                200,
                "<!doctype html><title>Fehler</title><h1>Fehler beim Aufbau einer Datenbankverbindung</h1>",
            );
        }
        if has(Fault::DatabaseInFewWords) {
            return page(200, "<!doctype html><h1>Virhe tietokantayhteyttä muodostettaessa</h1>");
        }
        if has(Fault::ClosedInFewWords) {
            return page(
                200,
                "<!doctype html><title>Fernhollow</title><h1>Onderhoud</h1><p>Wij zijn zo terug.",
            );
        }
        if has(Fault::AsksForDatabase) {
            let fields = "<input name=db_host><input name=db_user><input name=db_password type=password>";
            return page(
                200,
                format!("<!doctype html><title>Welcome</title><form method=post>{fields}</form>"),
            );
        }
        if has(Fault::Fatal) {
            return page(
                200,
                "<br />\n<b>Fatal error</b>:  Uncaught Error: Call to undefined function fern() in <b>/srv/site/index.php</b> on line <b>12</b><br />",
            );
        }
        if has(Fault::Source) {
            return page(200, "<?php\n// The start of it all.\nrequire 'fern.php';\n");
        }
        if has(Fault::Empty) {
            return page(200, "");
        }
        if has(Fault::White) {
            return page(200, "<!doctype html><html><head></head><body><div></div></body></html>");
        }
        if has(Fault::ToOld) {
            return redirect(format!("{old}/odd"));
        }
        if has(Fault::Away) {
            return redirect("https://somebody.example/".into());
        }
        if has(Fault::Circle) {
            return redirect(format!("http://{name}{base}/odd2"));
        }
        if has(Fault::Farm) {
            return redirect(format!("http://{name}{base}/farm/1"));
        }
        if has(Fault::Fails) {
            return page(500, "<!doctype html><title>500</title><p>Something broke");
        }
        if has(Fault::BreaksOff) {
            return Response {
                body: Body::Short(b"<!doctype html><title>Half</title><p>Half a page".to_vec()),
                ..page(200, "")
            };
        }
        if has(Fault::Slow) {
            std::thread::sleep(Duration::from_millis(1200));
        }
        if has(Fault::Large) {
            return Response {
                body: Body::Again(
                    b"<p>Stars and stars and stars and more stars to count.</p>\n".to_vec(),
                    Some(900_000),
                ),
                ..page(200, "")
            };
        }
        if has(Fault::Endless) {
            return Response {
                body: Body::Again(b"<p>And on it goes, night after night.</p>\n".to_vec(), None),
                ..page(200, "")
            };
        }
        if has(Fault::Trickle) {
            return Response { body: Body::Slowly(vec![b'x'; 100_000]), ..page(200, "") };
        }
        if has(Fault::Bomb) {
            return Response { headers: vec![("Content-Encoding", "gzip".into())], ..page(200, bomb()) };
        }
        if has(Fault::LongTag) {
            let attributes: String = (0..700_000).map(|i| format!("b{i}=1 ")).collect();
            return page(200, format!("<title>Odd</title><p {attributes}>Odd"));
        }
        if has(Fault::ManyLinks) {
            return Response {
                body: Body::Bytes(
                    (0..1_000_000)
                        .map(|i| format!("<a href={base}/about#{i}>x</a>"))
                        .collect::<String>()
                        .into_bytes(),
                ),
                ..page(200, "")
            };
        }
        if has(Fault::WrongCharset) {
            return Response {
                kind: "text/html; charset=iso-8859-1",
                ..self.framed("Odd", "", "<p>Führungen über die Sternwarte für alle</p>")
            };
        }
        if has(Fault::Warning) {
            body = format!(
                "<br />\n<b>Warning</b>:  Undefined array key \"fern\" in <b>/srv/site/page.php</b> on line <b>7</b><br />\n{body}"
            );
        }
        if has(Fault::PlainWarning) {
            body += "<div>\nWarning: include(gone.php): Failed to open stream: No such file or directory in /srv/site/page.php on line 7\n</div>";
        }
        if has(Fault::Driver) {
            body += "<p>SQLSTATE[42S02]: Base table or view not found: 1146 Table 'fern.jos_menu' doesn't exist</p>";
        }
        if has(Fault::RefreshToOld) {
            head += &format!("<meta http-equiv=refresh content='5; url={old}/'>");
        }
        if has(Fault::OldLink) {
            body += &format!("<a href=\"{old}/forum\">Forum</a>");
        }
        if has(Fault::OldWithoutScheme) {
            body += &format!("<script>var cdn = '//{bare}/js/';</script>");
        }
        if has(Fault::OldEscaped) {
            body += &format!("<script>var c = {{\"root\":\"{}\"}};</script>", old.replace('/', "\\/"));
        }
        if has(Fault::OldEncoded) {
            body += &format!(
                "<a href=\"{base}/about?back={}\">back</a>",
                old.replace(':', "%3A").replace('/', "%2F")
            );
        }
        if has(Fault::OldFolder) {
            body += &format!("<p>The file {old_root}/images/m31.jpg was not found.</p>");
        }
        if has(Fault::Outside) {
            body += "<a href=\"/gallery/m31\">Gallery</a>";
        }
        if has(Fault::NoPage) {
            body += &format!("<a href=\"{base}/gone\">Gone</a>");
        }
        if has(Fault::Base) {
            head += &format!("<base href=\"{old}/\">");
        }
        if has(Fault::TwiceEncoded) {
            body += "<p>FÃ¼hrungen Ã¼ber die Sternwarte</p>";
        }
        if has(Fault::LostLetters) {
            body += "<p>F?hrungen f?r alle, ?ber die Sternwarte</p>";
        }
        if has(Fault::LostWords) {
            body += "<p>????????? ?? ???????</p>";
        }
        if has(Fault::NoLazyPicture) {
            body += &format!("<img src=\"data:image/gif;base64,R0lGOD\" data-src=\"{base}/p/lazy.png\">");
        }
        if has(Fault::NoSharedPicture) {
            head += &format!("<meta property=\"og:image\" content=\"http://{name}{base}/p/shared.png\">");
        }
        if has(Fault::SharedElsewhere) {
            head += "<meta property=\"og:url\" content=\"https://elsewhere.example/odd\">";
        }
        if has(Fault::Inner) {
            body += "<a href=\"http://localhost/fern/\">here</a>";
        }
        if has(Fault::Calendar) {
            body += &format!("<a href=\"{base}/calendar?month=1\">Calendar</a>");
        }
        if has(Fault::Deeper) {
            body += &format!("<a href=\"{base}/deeper/x\">Deeper</a>");
        }
        let mut out = self.framed("Odd", &head, &body);
        if has(Fault::Cookie) {
            out.headers.push(("Set-Cookie", "login=1; Domain=.old.example; Path=/".into()));
        }
        if has(Fault::CookiePath) {
            out.headers.push(("Set-Cookie", "login=1; Path=/somewhere-else".into()));
        }
        if has(Fault::CookieAnywhere) {
            out.headers.push(("Set-Cookie", "login=1; Path=/; SameSite=None".into()));
        }
        if has(Fault::RefreshByHeader) {
            out.headers.push(("Refresh", format!("0; url={old}/")));
        }
        if has(Fault::OldInHeader) {
            out.headers.push(("Link", format!("<{old}/api/>; rel=\"service\"")));
        }
        if has(Fault::CanonicalByHeader) {
            out.headers.push(("Link", "<https://elsewhere.example/odd>; rel=\"canonical\"".into()));
        }
        if has(Fault::CookieSecure) {
            out.headers.push(("Set-Cookie", "login=1; Secure".into()));
        }
        out
    }
}
