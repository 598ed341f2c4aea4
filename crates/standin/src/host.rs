//! A small web host of its own: the society's site as pages, styles, scripts and pictures over HTTP, with a switch for each fault that a
//! visitor may meet. It needs no other server, and listens on this machine alone.

use crate::season;
use std::collections::BTreeSet;
use std::io::{self, BufRead, BufReader, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Duration;

macro_rules! faults {
    ($($(#[doc = $doc:literal])+ $name:ident => $code:literal,)+) => {
        /// Something wrong with the site.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
        pub enum Fault {
            $($(#[doc = $doc])+ $name,)+
        }

        impl Fault {
            /// All of them.
            pub const ALL: &[Fault] = &[$(Fault::$name),+];

            /// The code of the finding that tells it.
            pub fn code(self) -> &'static str {
                match self {
                    $(Fault::$name => $code,)+
                }
            }
        }
    };
}

faults! {
    /// A page says that the database cannot be reached.
    Database => "page-database-error",
    /// The same in another language, with status 200 and nothing else.
    DatabaseInGerman => "page-database-error",
    /// An error of the driver in the middle of a page.
    Driver => "page-database-error",
    /// A warning of PHP above a page.
    Warning => "page-program-error",
    /// A warning of PHP without markup.
    PlainWarning => "page-program-error",
    /// A fatal error, and nothing behind.
    Fatal => "page-program-error",
    /// A program's text instead of its page.
    Source => "page-program-error",
    /// Nothing at all.
    Empty => "page-blank",
    /// A page that shows nothing.
    White => "page-blank",
    /// The home page sends to an installer.
    Installer => "page-installer",
    /// The web server's own page.
    Placeholder => "page-placeholder",
    /// Closed for visitors.
    Maintenance => "page-closed",
    /// A page sends to the old host.
    ToOld => "redirect-to-old",
    /// The same by a line in the page.
    RefreshToOld => "redirect-to-old",
    /// A page sends to somebody else.
    Away => "redirect-away",
    /// Two pages send to each other.
    Circle => "redirect-circle",
    /// Each page sends to a further one.
    Farm => "redirect-circle",
    /// The old address in a link.
    OldLink => "old-place-on-page",
    /// The old address without its scheme.
    OldWithoutScheme => "old-place-on-page",
    /// The old address with escaped slashes, in a script in the page.
    OldEscaped => "old-place-on-page",
    /// The old address percent-encoded, in a link.
    OldEncoded => "old-place-on-page",
    /// The old folder.
    OldFolder => "old-place-on-page",
    /// The old address in a style sheet.
    OldInStyle => "old-place-on-page",
    /// The old address in the site map.
    OldInMap => "old-place-on-page",
    /// A link to the root of the host, where nothing is.
    Outside => "link-outside-base",
    /// A page that is linked is not there.
    NoPage => "page-missing",
    /// The server fails.
    Fails => "page-fails",
    /// A page breaks off.
    BreaksOff => "page-fails",
    /// A picture is missing.
    NoPicture => "asset-missing",
    /// A picture for wide screens is missing.
    NoWidePicture => "asset-missing",
    /// A style sheet is missing.
    NoStyle => "asset-missing",
    /// A script is missing.
    NoScript => "asset-missing",
    /// A font that a style sheet names is missing.
    NoFont => "asset-missing",
    /// A picture is empty.
    EmptyPicture => "asset-missing",
    /// A page comes for a script.
    PageForScript => "asset-is-page",
    /// Text comes for a picture.
    TextForPicture => "asset-is-page",
    /// A wrong canonical address.
    Canonical => "canonical-elsewhere",
    /// A wrong base address.
    Base => "canonical-elsewhere",
    /// A cookie for another host.
    Cookie => "cookie-elsewhere",
    /// A cookie for another path.
    CookiePath => "cookie-elsewhere",
    /// A cookie for encrypted pages, on one that is not.
    CookieSecure => "cookie-elsewhere",
    /// The home page keeps search engines out.
    NoIndex => "not-indexed",
    /// A header does.
    NoIndexHeader => "not-indexed",
    /// `robots.txt` does.
    RobotsClose => "not-indexed",
    /// Letters that were encoded twice.
    TwiceEncoded => "letters-damaged",
    /// Letters of another character set than the header says.
    WrongCharset => "letters-damaged",
    /// Letters that became question marks.
    LostLetters => "letters-damaged",
    /// A slow page.
    Slow => "page-slow",
    /// A repository.
    Repository => "file-leaked",
    /// A dump.
    Dump => "file-leaked",
    /// An archive named like the host.
    Archive => "file-leaked",
    /// A copy of the config that an editor kept.
    ConfigCopy => "file-leaked",
    /// Settings in a file of variables.
    Variables => "file-leaked",
    /// An installer that is still there.
    InstallerLeft => "file-leaked",
    /// A folder that lists itself.
    Listing => "folder-listed",
    /// A link to this machine's own name, from a public name.
    Inner => "inner-host",
    /// A page of 50 MB.
    Large => "page-too-large",
    /// A page that does not end.
    Endless => "page-too-large",
    /// A page that comes letter by letter.
    Trickle => "page-fails",
    /// A few bytes that unpack to a gigabyte.
    Bomb => "page-too-large",
    /// A million links on one page.
    ManyLinks => "page-many-links",
    /// A calendar without an end.
    Calendar => "visit-cut-short",
    /// Links that repeat their own path.
    Deeper => "visit-cut-short",
}

/// What the host serves.
#[derive(Debug, Clone, Default)]
pub struct Served {
    /// Base path, without a slash at its end; nothing at the root.
    pub base: String,
    /// Name that pages call themselves by, with its port if that is not the host's own.
    pub name: String,
    /// The old address, for faults that name it.
    pub old: String,
    /// The old folder.
    pub old_root: String,
    /// Pages of news.
    pub pages: usize,
    /// What is wrong.
    pub faults: BTreeSet<Fault>,
    /// Whether the door of a portal is there: one form around each page, whose fields have names that the program makes.
    pub portal: bool,
    /// Whether pages say something else at each visit: a clock, a token, a counter, a saying.
    pub lively: bool,
}

struct Shared {
    served: Served,
    pictures: Vec<Vec<u8>>,
    stop: AtomicBool,
    asked: AtomicU64,
}

/// A running host, stopped when dropped.
pub struct Host {
    /// Where it listens.
    pub at: SocketAddr,
    shared: Arc<Shared>,
}

struct Response {
    status: u16,
    kind: &'static str,
    headers: Vec<(&'static str, String)>,
    body: Body,
}

enum Body {
    Bytes(Vec<u8>),
    /// This over and over, so often; nothing for as long as somebody reads.
    Again(Vec<u8>, Option<u64>),
    /// These, one after another, with a rest between.
    Slowly(Vec<u8>),
    /// Less than was announced.
    Short(Vec<u8>),
}

fn page(status: u16, body: impl Into<Vec<u8>>) -> Response {
    Response { status, kind: "text/html; charset=utf-8", headers: Vec::new(), body: Body::Bytes(body.into()) }
}

fn file(kind: &'static str, body: impl Into<Vec<u8>>) -> Response {
    Response { kind, ..page(200, body) }
}

fn redirect(to: String) -> Response {
    Response { headers: vec![("Location", to)], ..page(302, "") }
}

impl Host {
    /// Begins to serve, at any port.
    pub fn serve(served: Served) -> io::Result<Host> {
        Host::serve_at(0, served)
    }

    /// Begins to serve at a port.
    pub fn serve_at(port: u16, served: Served) -> io::Result<Host> {
        let listener = TcpListener::bind(("127.0.0.1", port))?;
        let at = listener.local_addr()?;
        let mut served = served;
        if served.name.is_empty() {
            served.name = at.to_string();
        } else if !served.name.contains(':') {
            served.name = format!("{}:{}", served.name, at.port());
        }
        let pictures = (0..12).map(season::picture).collect();
        let shared =
            Arc::new(Shared { served, pictures, stop: AtomicBool::new(false), asked: AtomicU64::new(0) });
        let own = shared.clone();
        std::thread::spawn(move || {
            for stream in listener.incoming() {
                if own.stop.load(Ordering::Relaxed) {
                    return;
                }
                if let Ok(stream) = stream {
                    let shared = own.clone();
                    // A visitor who leaves ends his thread.
                    std::thread::spawn(move || shared.talk(stream));
                }
            }
        });
        Ok(Host { at, shared })
    }

    /// The address of the site.
    pub fn address(&self) -> String {
        format!("http://{}{}", self.shared.served.name, self.shared.served.base)
    }

    /// How often something was asked for.
    pub fn asked(&self) -> u64 {
        self.shared.asked.load(Ordering::Relaxed)
    }
}

impl Drop for Host {
    fn drop(&mut self) {
        self.shared.stop.store(true, Ordering::Relaxed);
        // So that the listener wakes up.
        let _ = TcpStream::connect(self.at);
    }
}

/// The door of a portal on ASP.NET: it wants its own state back, and to be told which button was pressed.
fn portal(query: &str, form: &str) -> Response {
    let has = |part: &str| form.split('&').any(|p| p == part);
    let pressed = has("__EVENTTARGET=dnn%24ctr%24Login%24Login_DNN%24cmdLogin");
    let known = has("dnn%24ctr%24Login%24Login_DNN%24txtUsername=host")
        && has("dnn%24ctr%24Login%24Login_DNN%24txtPassword=fake-Nova-1604");
    if query == "ctl=Login" && pressed && has("__VIEWSTATE=fake%2Fstate%3D%3D") && known {
        return page(
            200,
            "<!doctype html><title>Host</title><h1>Welcome</h1><a href='Default.aspx?tabid=7'>Pages</a><a href='Default.aspx?ctl=Logoff'>Logoff</a>",
        );
    }
    if query == "tabid=7" {
        return page(200, "<!doctype html><title>Pages</title><h1>Pages of the portal</h1>");
    }
    page(
        200,
        "<!doctype html><title>Log in</title><form method=post action='Default.aspx?ctl=Login'><input type=hidden name=__EVENTTARGET value=''>\
         <input type=hidden name=__VIEWSTATE value='fake/state=='><input name='dnn$ctr$Login$Login_DNN$txtUsername'>\
         <input type=password name='dnn$ctr$Login$Login_DNN$txtPassword'></form>",
    )
}

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
    fn talk(&self, stream: TcpStream) {
        let _ = stream.set_nodelay(true);
        let _ = stream.set_read_timeout(Some(Duration::from_secs(60)));
        let Ok(mut out) = stream.try_clone() else { return };
        let mut lines = BufReader::new(stream);
        loop {
            let mut request = String::new();
            if lines.read_line(&mut request).unwrap_or(0) == 0 || self.stop.load(Ordering::Relaxed) {
                return;
            }
            let (mut length, mut line) = (0, String::new());
            loop {
                line.clear();
                if lines.read_line(&mut line).unwrap_or(0) == 0 {
                    return;
                }
                let header = line.trim().to_ascii_lowercase();
                if header.is_empty() {
                    break;
                }
                if let Some(n) = header.strip_prefix("content-length:") {
                    length = n.trim().parse().unwrap_or(0);
                }
            }
            let mut body = vec![0; length];
            if io::Read::read_exact(&mut lines, &mut body).is_err() {
                return;
            }
            self.asked.fetch_add(1, Ordering::Relaxed);
            let target = request.split(' ').nth(1).unwrap_or("/");
            let response = self.answer(target, &String::from_utf8_lossy(&body));
            if !send(&mut out, response) {
                return;
            }
        }
    }

    fn has(&self, fault: Fault) -> bool {
        self.served.faults.contains(&fault)
    }

    fn answer(&self, target: &str, form: &str) -> Response {
        let base = &self.served.base;
        let (path, query) = target.split_once('?').unwrap_or((target, ""));
        if path == "/robots.txt" {
            let closed = if self.has(Fault::RobotsClose) { "Disallow: /\n" } else { "" };
            return file(
                "text/plain",
                format!("User-agent: *\n{closed}Sitemap: http://{}{base}/sitemap.xml\n", self.served.name),
            );
        }
        let Some(below) = path.strip_prefix(base.as_str()).and_then(|p| p.strip_prefix('/')) else {
            return self.missing();
        };
        if self.served.portal && below == "Default.aspx" {
            return portal(query, form);
        }
        self.site(below, query)
    }

    fn missing(&self) -> Response {
        page(404, "<!doctype html><title>Not here</title><h1>This page is not here</h1>")
    }

    fn site(&self, below: &str, query: &str) -> Response {
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
        if has(Fault::CookieSecure) {
            out.headers.push(("Set-Cookie", "login=1; Secure".into()));
        }
        out
    }
}

/// Sends an answer. Says whether the connection goes on.
fn send(out: &mut TcpStream, response: Response) -> bool {
    let reason = if response.status < 400 { "OK" } else { "Not OK" };
    let mut head = format!("HTTP/1.1 {} {reason}\r\nContent-Type: {}\r\n", response.status, response.kind);
    for (name, value) in &response.headers {
        head += &format!("{name}: {value}\r\n");
    }
    match response.body {
        Body::Bytes(bytes) => {
            head += &format!("Content-Length: {}\r\n\r\n", bytes.len());
            let mut all = head.into_bytes();
            all.extend(bytes);
            out.write_all(&all).is_ok()
        }
        Body::Again(piece, times) => {
            head += "Transfer-Encoding: chunked\r\n\r\n";
            let block = piece.repeat(1000);
            let mut sent = out.write_all(head.as_bytes());
            for _ in 0..times.map_or(u64::MAX, |t| t / 1000) {
                if sent.is_err() {
                    return false;
                }
                sent = write!(out, "{:x}\r\n", block.len())
                    .and_then(|()| out.write_all(&block))
                    .and_then(|()| out.write_all(b"\r\n"));
            }
            out.write_all(b"0\r\n\r\n").is_ok()
        }
        Body::Slowly(bytes) => {
            head += &format!("Content-Length: {}\r\n\r\n", bytes.len());
            if out.write_all(head.as_bytes()).is_err() {
                return false;
            }
            for byte in bytes {
                if out.write_all(&[byte]).is_err() {
                    return false;
                }
                std::thread::sleep(Duration::from_millis(100));
            }
            true
        }
        Body::Short(bytes) => {
            head += &format!("Content-Length: {}\r\n\r\n", bytes.len() * 2);
            let _ = out.write_all(head.as_bytes()).and_then(|()| out.write_all(&bytes));
            false
        }
    }
}
