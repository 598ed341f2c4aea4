//! Apache's per-folder file: hosts, base paths, absolute addresses and paths in directives.
//!
//! Hosts stand alone here (`%{HTTP_HOST} ^www\.old\.example$`), plain or with escaped dots, also in comments that the
//! system writes itself. Base paths are only touched where a directive takes a URL path.

use crate::edit::Edit;
use crate::place::{Address, AddressForm, Relocation, Scheme};
use crate::text::replacements::Replacements;
use crate::text::spelling::{Spelling, segment_char};
use std::path::Path;

/// Says whether a file is one that the web server reads in whatever folder it lies.
pub fn is_read_anywhere(path: &Path) -> bool {
    path.file_name().is_some_and(|name| name == ".htaccess" || name == ".user.ini")
}

/// Directives that take the path of a file which the server has to find, or every request fails; in lower case.
const WITH_FILE: [&str; 7] = [
    "authuserfile",
    "authgroupfile",
    "authdbmuserfile",
    "authdbmgroupfile",
    "auth_basic_user_file",
    "auto_prepend_file",
    "auto_append_file",
];

/// Returns the files that directives name by an absolute path outside of the old site, with their lines: they do not come along.
pub fn files_outside(text: &[u8], relocation: &Relocation) -> Vec<(usize, String)> {
    let mut out = Vec::new();
    for (line, content) in text.split(|b| *b == b'\n').enumerate() {
        let content = String::from_utf8_lossy(content);
        let mut words = content.split(|c: char| c.is_whitespace() || matches!(c, '"' | '\'' | '='));
        let names_file = |word: &str| WITH_FILE.contains(&word.to_ascii_lowercase().as_str());
        if content.trim_start().starts_with(['#', ';']) || !words.by_ref().any(names_file) {
            continue;
        }
        let path = words.find(|w| w.starts_with('/')).unwrap_or_default();
        let roots = relocation.old_roots().chain(relocation.outside.iter().map(|(old, _)| old));
        let comes = roots.map(ToString::to_string).any(|root| {
            path.strip_prefix(&root).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
        });
        if !path.is_empty() && !comes {
            out.push((line + 1, path.to_string()));
        }
    }
    out
}

/// Returns the edits that move the file to its new place.
pub fn edits(text: &[u8], relocation: &Relocation, replacements: &Replacements) -> Vec<Edit> {
    let mut edits = replacements.changes(text);
    let new = &relocation.to.address;
    for old in relocation.old_addresses() {
        if old.host_port() != new.host_port() {
            bare_hosts(text, old, new, &mut edits);
        }
    }
    let old = &relocation.from.address;
    if old.base() != new.base() {
        let mut start = 0;
        for line in text.split_inclusive(|b| *b == b'\n') {
            base_paths(line, start, old.base(), new.base(), &mut edits);
            start += line.len();
        }
    }
    if old.scheme() != new.scheme() {
        for at in scheme_redirects(text, new.scheme()) {
            edits.push(Edit::new(at..at, "# "));
        }
    }
    session_cookies(text, relocation, &mut edits);
    edits.sort_by_key(|e| e.span.start);
    let mut end = 0;
    edits.retain(|e| {
        let free = e.span.start >= end;
        if free {
            end = e.span.end;
        }
        free
    });
    edits
}

fn add(edits: &mut Vec<Edit>, edit: Edit) {
    if !edits.iter().any(|e| e.span.start < edit.span.end && edit.span.start < e.span.end) {
        edits.push(edit);
    }
}

fn bare_hosts(text: &[u8], old: &Address, new: &Address, edits: &mut Vec<Edit>) {
    let lower = text.to_ascii_lowercase();
    for escaped in [false, true] {
        let spell = |host: &str| if escaped { host.replace('.', "\\.") } else { host.to_string() };
        let wanted = spell(old.host());
        for at in memchr::memmem::find_iter(&lower, wanted.as_bytes()) {
            let mut end = at + wanted.len();
            // A pattern may escape the colon.
            let colon = usize::from(text[end..].starts_with(b"\\:")) + 1;
            let digits =
                text.get(end + colon..).unwrap_or_default().iter().take_while(|b| b.is_ascii_digit()).count();
            let has_port = digits > 0 && text[end + colon - 1] == b':';
            let port = has_port
                .then(|| String::from_utf8_lossy(&text[end + colon..end + colon + digits]).into_owned());
            let usual = |port: &String| port == "80" || port == "443";
            if port.as_ref().filter(|p| !usual(p)) != old.port().map(|p| p.to_string()).as_ref() {
                continue;
            }
            if has_port {
                end += colon + digits;
            }
            let before = text[..at].last().copied().unwrap_or(b' ');
            // What stands in an address was judged by the rule for addresses.
            let joined = before.is_ascii_alphanumeric() || matches!(before, b'-' | b'.' | b'@' | b'_' | b'/');
            if !joined && !Spelling::Plain.continues_segment(text, end) {
                // A pattern with an escaped colon gets one again.
                let host = spell(&new.host_port());
                let host = if colon == 2 && has_port { host.replacen(':', "\\:", 1) } else { host };
                add(edits, Edit::new(at..end, host));
            }
        }
    }
}

/// PHP's own settings of session cookies: a domain that is not the new host's, or cookies for TLS alone where there is none, end every log-in.
fn session_cookies(text: &[u8], relocation: &Relocation, edits: &mut Vec<Edit>) {
    let plain_http =
        relocation.to.address.scheme() == Scheme::Http && relocation.from.address.scheme() == Scheme::Https;
    let mut start = 0;
    for line in text.split_inclusive(|b| *b == b'\n') {
        // `php_value NAME VALUE`, `NAME = VALUE`, `NAME=VALUE`.
        let content = String::from_utf8_lossy(line).to_ascii_lowercase();
        let shown = |name: &str| -> Option<std::ops::Range<usize>> {
            let at = content.find(name)? + name.len();
            let rest = &content[at..];
            let skipped =
                rest.len() - rest.trim_start_matches(|c: char| c.is_whitespace() || "=\"'".contains(c)).len();
            let len = rest[skipped..]
                .find(|c: char| c.is_whitespace() || "\"';".contains(c))
                .unwrap_or(rest.len() - skipped);
            (skipped > 0 && len > 0).then_some(at + skipped..at + skipped + len)
        };
        let comment = content.trim_start().starts_with(['#', ';']);
        if !comment && content.len() == line.len() {
            if let Some(value) = shown("session.cookie_domain")
                && let Some(new) = relocation.respell(&content[value.clone()], AddressForm::CookieDomain)
                // Nothing is right for any host, and cannot be written in every form.
                && !new.is_empty()
            {
                add(edits, Edit::new(start + value.start..start + value.end, new));
            }
            if let Some(value) = shown("session.cookie_secure").filter(|_| plain_http) {
                let off = match &content[value.clone()] {
                    "1" => "0",
                    "on" | "true" | "yes" => "Off",
                    _ => "",
                };
                if !off.is_empty() {
                    add(edits, Edit::new(start + value.start..start + value.end, off));
                }
            }
        }
        start += line.len();
    }
}

/// Where the lines begin that send visitors to the scheme which the new place has not: with the new address in them they would send them
/// round in circles. They become comments.
fn scheme_redirects(text: &[u8], new: Scheme) -> Vec<usize> {
    let (mut out, mut conditions) = (Vec::new(), Vec::new());
    let mut asks = false;
    let mut start = 0;
    for line in text.split_inclusive(|b| *b == b'\n') {
        let lower = String::from_utf8_lossy(line).to_ascii_lowercase();
        let words: Vec<&str> = lower.split_ascii_whitespace().collect();
        match words.first() {
            Some(&"rewritecond") => {
                conditions.push(start);
                let about = ["https", "server_port", "request_scheme", "forwarded"];
                asks |=
                    words.get(1).is_some_and(|w| w.starts_with("%{") && about.iter().any(|a| w.contains(a)));
            }
            Some(&"rewriterule") => {
                let target = words.get(2).copied().unwrap_or_default().trim_matches('"');
                let leads_away = match new {
                    Scheme::Http => target.starts_with("https://"),
                    Scheme::Https => target.starts_with("http://"),
                };
                if asks && leads_away {
                    out.append(&mut conditions);
                    out.push(start);
                }
                conditions.clear();
                asks = false;
            }
            Some(&"sslrequiressl") if new == Scheme::Http => out.push(start),
            _ => {}
        }
        start += line.len();
    }
    out
}

/// Directives that take a URL path, in lower case.
const WITH_PATH: [&str; 8] = [
    "rewritebase",
    "errordocument",
    "redirect",
    "redirectmatch",
    "redirectpermanent",
    "rewriterule",
    "rewritecond",
    "fallbackresource",
];

fn base_paths(line: &[u8], start: usize, old: &str, new: &str, edits: &mut Vec<Edit>) {
    let words = words(line);
    let Some(directive) =
        words.first().map(|w| String::from_utf8_lossy(&line[w.clone()]).to_ascii_lowercase())
    else {
        return;
    };
    if !WITH_PATH.contains(&directive.as_str()) {
        return;
    }
    for (i, word) in words.iter().enumerate().skip(1) {
        let text = &line[word.clone()];
        // A path begins a word, or follows `^` in a pattern, or the colon of an environment setting.
        let from = match memchr::memmem::find(text, b"REWRITEBASE:") {
            Some(at) => at + 12,
            None => text.iter().take_while(|b| matches!(b, b'^' | b'"' | b'\'' | b'!')).count(),
        };
        let path = &text[from..];
        if !path.starts_with(old.as_bytes()) || path.first() != Some(&b'/') {
            continue;
        }
        let pattern = from > 0 && text[from - 1] == b'^';
        let last_argument = directive == "rewriterule" && i == 1;
        if old.is_empty() && (pattern || last_argument || directive == "rewritecond") {
            // A pattern against the root also matches below the new base; it is left.
            continue;
        }
        let tail = &path[old.len()..];
        let boundary = tail.first().is_none_or(|b| !segment_char(*b as char) && *b != b'.');
        if !boundary && !old.is_empty() {
            continue;
        }
        let at = start + word.start + from;
        let new = if new.is_empty() && !tail.starts_with(b"/") { "/" } else { new };
        add(edits, Edit::new(at..at + old.len(), new));
    }
}

fn words(line: &[u8]) -> Vec<std::ops::Range<usize>> {
    let mut out = Vec::new();
    let mut at = 0;
    while at < line.len() {
        let gap = line[at..].iter().take_while(|b| b.is_ascii_whitespace()).count();
        let start = at + gap;
        let len = line[start..].iter().take_while(|b| !b.is_ascii_whitespace()).count();
        if len > 0 {
            out.push(start..start + len);
        }
        at = start + len;
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::edit::apply;
    use crate::place::{Place, Root};

    fn moved(old: &str, new: &str, text: &str) -> String {
        let place = |a: &str, r: &str| Place {
            address: Address::parse(a).unwrap(),
            root: Root::parse(r).unwrap(),
            database: None,
        };
        let relocation = Relocation {
            from: place(old, "/home/o/www"),
            aliases: vec![],
            other_roots: vec![],
            further: vec![],
            outside: vec![],
            to: place(new, "/srv/n"),
        };
        let replacements = Replacements::new(&relocation.pairs(), &[]);
        String::from_utf8(apply(text.as_bytes(), &edits(text.as_bytes(), &relocation, &replacements)))
            .unwrap()
    }

    const SHOP: &str = "#Domain: www.old.example\nRewriteRule . - [E=REWRITEBASE:/shop/]\nRewriteCond %{HTTP_HOST} ^www\\.old\\.example$ [NC]\n\
        RewriteCond %{REQUEST_URI} ^/shop/x\nRewriteRule ^(.*)$ https://www.old.example/shop/$1 [R=301,L]\nErrorDocument 404 /shop/index.php?controller=404\n\
        RewriteRule ^/shopping - [L]\nErrorDocument 500 /shop.html\nAuthUserFile /home/o/www/.htpasswd\nServerAdmin a@www.old.example\n";

    #[test]
    fn hosts_and_base_paths_follow_in_both_directions() {
        let new = "#Domain: n.example:81\nRewriteRule . - [E=REWRITEBASE:/]\nRewriteCond %{HTTP_HOST} ^n\\.example:81$ [NC]\n\
            RewriteCond %{REQUEST_URI} ^/x\nRewriteRule ^(.*)$ http://n.example:81/$1 [R=301,L]\nErrorDocument 404 /index.php?controller=404\n\
            RewriteRule ^/shopping - [L]\nErrorDocument 500 /shop.html\nAuthUserFile /srv/n/.htpasswd\nServerAdmin a@www.old.example\n";
        assert_eq!(moved("https://www.old.example/shop", "http://n.example:81", SHOP), new);
        let root = "RewriteBase /\r\n# RewriteBase /\r\nErrorDocument 404 /x.html\r\nRewriteRule ^(.*)$ index.php [L]\r\n";
        let below = "RewriteBase /a/\r\n# RewriteBase /\r\nErrorDocument 404 /a/x.html\r\nRewriteRule ^(.*)$ index.php [L]\r\n";
        assert_eq!(moved("http://o.example", "http://o.example/a", root), below);
    }

    #[test]
    fn cookies_of_sessions_reach_their_new_host() {
        let text = "php_value session.cookie_domain .old.example\nphp_flag session.cookie_secure on\n# session.cookie_domain .old.example\n";
        let new = "php_value session.cookie_domain .new.example\nphp_flag session.cookie_secure Off\n# session.cookie_domain .old.example\n";
        assert_eq!(moved("https://old.example", "http://new.example", text), new);
        let ini = "session.cookie_domain = \"old.example\"\r\nsession.cookie_secure=1\r\nsession.cookie_domain=.other.example\r\n";
        let moved_ini = "session.cookie_domain = \"new.example\"\r\nsession.cookie_secure=1\r\nsession.cookie_domain=.other.example\r\n";
        assert_eq!(moved("https://old.example", "https://new.example", ini), moved_ini);
    }

    #[test]
    fn files_outside_of_the_site_are_named() {
        let text = "AuthUserFile \"/home/o/.htpasswds/x\"\nAuthUserFile /home/o/www/in\n#AuthUserFile /home/o/y\nphp_value auto_prepend_file /opt/waf.php\nauto_append_file = '/home/o/www2/z.php'\n";
        let place = |a: &str, r: &str| Place {
            address: Address::parse(a).unwrap(),
            root: Root::parse(r).unwrap(),
            database: None,
        };
        let relocation = Relocation {
            from: place("http://o.example", "/home/o/www"),
            aliases: vec![],
            other_roots: vec![],
            further: vec![],
            outside: vec![],
            to: place("http://n.example", "/srv/n"),
        };
        let named: Vec<_> = files_outside(text.as_bytes(), &relocation);
        let expected = [(1, "/home/o/.htpasswds/x"), (4, "/opt/waf.php"), (5, "/home/o/www2/z.php")];
        assert_eq!(named, expected.map(|(line, path)| (line, path.to_string())));
    }

    #[test]
    fn look_alikes_stay_and_nobody_is_sent_in_circles() {
        let text = "RewriteRule ^a http://o.example:8080/x [R]\nRedirect /b http://o.example/other-app/\nProxyPass /c ftp://o.example/s\n\
            RewriteCond %{HTTP_HOST} ^o\\.example\\:6183$\nRewriteCond %{HTTP_HOST} ^o\\.example$\nRewriteRule ^d http://u@o.example/sx [R]\n";
        assert_eq!(
            moved("http://o.example/s", "http://n.example/t", text),
            text.replace("^o\\.example$", "^n\\.example$")
        );
        let port = "RewriteCond %{HTTP_HOST} ^o\\.example\\:6183$\n";
        assert_eq!(
            moved("http://o.example:6183", "http://n.example:81", port),
            "RewriteCond %{HTTP_HOST} ^n\\.example\\:81$\n"
        );
        let tls = "RewriteCond %{HTTPS} off\nRewriteCond %{HTTP_HOST} ^o\\.example$\nRewriteRule ^(.*)$ https://o.example/$1 [R=301,L]\n\
            RewriteCond %{REQUEST_FILENAME} !-f\nRewriteRule ^ index.php [L]\nSSLRequireSSL\n";
        assert_eq!(
            moved("https://o.example", "http://n.example", tls),
            "# RewriteCond %{HTTPS} off\n# RewriteCond %{HTTP_HOST} ^n\\.example$\n# RewriteRule ^(.*)$ http://n.example/$1 [R=301,L]\n\
             RewriteCond %{REQUEST_FILENAME} !-f\nRewriteRule ^ index.php [L]\n# SSLRequireSSL\n"
        );
        assert_eq!(moved("https://o.example", "https://o.example", tls), tls);
    }
}
