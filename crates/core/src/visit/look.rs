//! Looks at one answer: what a visitor would call wrong with it. Each look is a function from what came to what it found.

use super::ask::{End, Journey};
use super::bounds::{Belongs, Bounds};
use super::gather::Sight;
use super::old;
use super::symptoms::{Symptoms, php_message, shortened};
use crate::diagnose::Sureness::{self, Certain, Likely, Possible};
use crate::finding::Code;
use crate::system::knowledge::SymptomKind;
use crate::text::replacements::Replacements;
use std::sync::Arc;
use std::time::Duration;
use zporter_web::Url;
use zporter_web::client::{Answer, Cut, NoAnswer};
use zporter_web::letters::{Damage, damaged};
use zporter_web::page::{Form, Kind, Page};

/// What is known before a page is looked at.
#[derive(Debug)]
pub struct Known {
    /// What belongs to the site.
    pub bounds: Bounds,
    /// Signs that something is wrong.
    pub symptoms: Symptoms,
    /// The old place.
    pub old: Option<Arc<Replacements>>,
    /// Whether the new address begins like the old one, so that what names the new one has to be told apart.
    pub contained: bool,
    /// Whether the old site has the same host: that its name stands somewhere says nothing then.
    pub same_host: bool,
    /// Whether it is a development copy.
    pub copy: bool,
    /// Whether mail is known to be off.
    pub mail_off: bool,
    /// Time behind which a page is slow.
    pub slow: Duration,
}

/// Gathers what the looks find.
type Out<'o> = &'o mut Vec<Sight>;

/// What is wrong where no page came.
pub fn no_page(known: &Known, journey: &Journey, linked: bool) -> Vec<Sight> {
    let mut out = Vec::new();
    sent(known, journey, &mut out);
    match &journey.end {
        End::None(NoAnswer::Slow) => out.push(Sight::new(
            Code::PageFails,
            Certain,
            "no answer in time",
            "look what the server does there; more time is given by --patience",
        )),
        End::None(e) => {
            let cure = if linked {
                "look at the server's log"
            } else {
                "look whether the web server runs, and at its log"
            };
            out.push(Sight::new(Code::PageFails, Certain, e.to_string(), cure));
        }
        End::Answer(answer) => {
            if let Some(sight) = refused(answer.status, linked) {
                out.push(sight);
            }
        }
        End::Circle | End::Away(_) => (),
    }
    out
}

/// A status with which no page comes.
fn refused(status: u16, linked: bool) -> Option<Sight> {
    let sight = match status {
        404 | 410 => Sight::new(
            Code::PageMissing,
            if linked { Likely } else { Certain },
            format!("the page is not there (status {status})"),
            "look whether it is there on the old site (--beside), and whether friendly addresses are handled here (.htaccess, rewrite rules)",
        ),
        401 | 407 if !linked => Sight::new(
            Code::PageFails,
            Certain,
            "the server asks for a name and password before it shows anything",
            "let yourself in: zporter visit ADDRESS --server-name NAME --server-password-file FILE",
        ),
        401 | 407 => {
            Sight::new(Code::PageFails, Possible, "the server asks for a password", "let in who shall see it")
                .as_note()
        }
        403 if linked => Sight::new(
            Code::PageFails,
            Possible,
            "the server refuses the page (status 403)",
            "look whether a visitor shall see it, and at the rights of files and folders",
        )
        .as_note(),
        400.. => Sight::new(
            Code::PageFails,
            Certain,
            format!("the server fails (status {status})"),
            "read the server's log, and that of the site",
        ),
        _ => return None,
    };
    Some(sight)
}

/// Where visitors are sent.
fn sent(known: &Known, journey: &Journey, out: Out<'_>) {
    match &journey.end {
        End::Circle => {
            let way: Vec<&str> = journey.hops.iter().take(4).map(|h| h.to.as_str()).collect();
            out.push(
                Sight::new(
                    Code::RedirectCircle,
                    Certain,
                    format!("visitors are sent in a circle: {}", way.join(" → ")),
                    "compare the site's stored address with the rules of the web server: scheme, www, base path",
                )
                .about(way.iter().min().map_or_else(String::new, ToString::to_string))
                .because("two sides want different addresses for the same page"),
            );
        }
        End::Away(to) => {
            let Some(last) = journey.hops.last() else { return };
            out.push(led_away(known, &last.to, *to, "sends visitors"));
        }
        _ => (),
    }
}

/// What it means that something leads away; `how` says what does.
pub fn led_away(known: &Known, to: &Url, whose: Belongs, how: &str) -> Sight {
    let host = to.host_str().unwrap_or_default();
    if whose == Belongs::Old
        || !known.contained && known.old.as_ref().is_some_and(|old| old::named(old, to.as_str().as_bytes()))
    {
        return Sight::new(
            Code::RedirectToOld,
            Certain,
            format!("{how} to the old site: {to}"),
            "zporter settle SITE --dry-run shows where the old address still stands; look at redirects of the web server as well",
        )
        .about(format!("{how} {host}"));
    }
    if whose == Belongs::NoPage {
        return Sight::new(
            Code::RedirectAway,
            Certain,
            format!("{how} to {}", shortened(to.as_str())),
            "look where it comes from",
        )
        .about(format!("{how} {to}"));
    }
    Sight::new(
        Code::RedirectAway,
        Possible,
        format!("{how} to another host: {}", shortened(to.as_str())),
        "look whether that is meant",
    )
    .about(format!("{how} {host}"))
}

/// What is wrong with a page that came.
pub fn page(
    known: &Known,
    journey: &Journey,
    answer: &Answer,
    page: &Page,
    text: &str,
    linked: bool,
) -> Vec<Sight> {
    let mut out = Vec::new();
    let told = tells_of_fault(known, journey, answer, page, text, &mut out);
    if !told && let Some(sight) = refused(answer.status, linked) {
        out.push(sight);
    }
    cut(answer, &mut out);
    if answer.status < 400 && !told && answer.cut.is_none() {
        blank(answer, page, &mut out);
    }
    old::place(known, &answer.body, "page", &mut out);
    headers(known, answer, &mut out);
    own_address(known, journey, page, &mut out);
    mixed(known, journey, page, &mut out);
    cookies(known, journey, answer, &mut out);
    letters(page, &mut out);
    forms(known, page, &mut out);
    if answer.took > known.slow && answer.cut.is_none() {
        out.push(
            Sight::new(
                Code::PageSlow,
                Possible,
                format!("took {:.1} seconds", answer.took.as_secs_f64()),
                "ask again: the first visit may fill caches; else look at the server's load and at the site's cache",
            ),
        );
    }
    if page.more {
        out.push(Sight::new(
            Code::PageManyLinks,
            Certain,
            format!("names more than is followed: {} links", page.anchors),
            "nothing, if that is meant",
        ));
    }
    out
}

/// The old place in what the server says beside the page.
fn headers(known: &Known, answer: &Answer, out: Out<'_>) {
    if known.old.is_none() {
        return;
    }
    // Cookies and redirects are judged by what they do.
    let judged = |line: &String| ["set-cookie:", "location:", "refresh:"].iter().any(|n| line.starts_with(n));
    let said = answer.lines().filter(|line| !judged(line)).collect::<Vec<_>>().join("\n");
    old::place(known, said.as_bytes(), "header of the page", out);
}

/// What the page says of itself: an error, an installer, maintenance.
fn tells_of_fault(
    known: &Known,
    journey: &Journey,
    answer: &Answer,
    page: &Page,
    text: &str,
    out: Out<'_>,
) -> bool {
    let mut told = false;
    if let Some(symptom) = known.symptoms.shown(journey, answer, page, text) {
        let (code, what) = in_place_of_page(symptom.kind);
        let sign = symptom.sign.text.as_deref().or(symptom.sign.location.as_deref()).unwrap_or("its status");
        let sure = if answer.status >= 500
            || symptom.sign.status.is_some()
            || symptom.sign.location.is_some()
            || page.letters() < 600
        {
            Certain
        } else {
            Likely
        };
        out.push(
            Sight::new(code, sure, format!("{what}: {sign}"), symptom.cure.clone())
                .because(symptom.cause.clone())
                .about(format!("{code:?} {sign}")),
        );
        told = true;
    }
    if let Some(message) = php_message(page, text) {
        let sure = if message.as_markup { Certain } else { Likely };
        let harmless = matches!(message.kind.as_str(), "Notice" | "Deprecated" | "Strict Standards");
        let cause = if harmless {
            "the program was written for another PHP, and the server shows such notes"
        } else {
            "the program failed there"
        };
        let cure = "look at the file and line; on a live site set display_errors off";
        out.push(
            Sight::new(
                Code::PageProgramError,
                sure,
                format!("a message of PHP in the page: {}", message.said),
                cure,
            )
            .because(cause)
            .about(message.said.clone()),
        );
        told = told || matches!(message.kind.as_str(), "Fatal error" | "Parse error");
    }
    if !told && let Some((kind, line)) = known.symptoms.short.told(page, answer.status) {
        let (code, what) = in_place_of_page(kind);
        let line = shortened(&line);
        let sight =
            Sight::new(code, Likely, format!("{what}: {line}"), "look at the page, and at the server's log");
        out.push(sight.because("it says hardly anything else").about(format!("{code:?} {line}")));
        told = true;
    }
    told
}

/// What came where a page should be.
fn in_place_of_page(kind: SymptomKind) -> (Code, &'static str) {
    match kind {
        SymptomKind::Database => (Code::PageDatabaseError, "an error of the database in place of the page"),
        SymptomKind::Program => (Code::PageProgramError, "an error of the program in the page"),
        SymptomKind::Maintenance => (Code::PageClosed, "closed for visitors"),
        SymptomKind::Installer => (Code::PageInstaller, "an installer in place of the site"),
        SymptomKind::Placeholder => (Code::PagePlaceholder, "a page of the web server in place of the site"),
    }
}

fn cut(answer: &Answer, out: Out<'_>) {
    let (what, cure) = match answer.cut {
        Some(Cut::Large) => (
            "is larger than what is read of a page",
            "look what makes it so large; what is behind was not looked at",
        ),
        Some(Cut::Slow) => (
            "does not come to its end in time",
            "look what the server does there; more time is given by --patience",
        ),
        Some(Cut::Broken) => ("breaks off before its end", "read the server's log"),
        None => return,
    };
    let code = if answer.cut == Some(Cut::Large) { Code::PageTooLarge } else { Code::PageFails };
    out.push(Sight::new(code, Certain, what, cure));
}

fn blank(answer: &Answer, page: &Page, out: Out<'_>) {
    let shows = page.pictures > 0
        || !page.forms.is_empty()
        || page.needs.iter().any(|(k, _)| *k == zporter_web::page::Kind::Frame);
    if shows || page.refresh.is_some() || page.letters() > 2 {
        return;
    }
    let scripted =
        page.needs.iter().any(|(k, _)| *k == zporter_web::page::Kind::Script) || answer.body.len() > 2000;
    let sight = Sight::new(
        Code::PageBlank,
        if scripted { Possible } else { Certain },
        if answer.body.is_empty() { "nothing at all comes" } else { "the page shows nothing" },
        "read the server's log: mostly PHP stopped with an error that is not shown",
    );
    out.push(if scripted {
        sight.as_note().because("a script may fill it, which a browser would run")
    } else {
        sight
    });
}

/// The address that a page calls its own.
fn own_address(known: &Known, journey: &Journey, page: &Page, out: Out<'_>) {
    let base = page.base_at(&journey.url);
    let told = [
        ("canonical address", &page.canonical, &base),
        ("base address", &page.base, &journey.url),
        ("address for sharing", &page.shared_as, &base),
    ];
    for (what, written, from) in told {
        let Some(to) = written.as_deref().filter(|w| !w.is_empty()).and_then(|w| from.join(w).ok()) else {
            continue;
        };
        let (sure, why) = match known.bounds.belongs(&to) {
            Belongs::Inside if to.scheme() == known.bounds.home.scheme() => continue,
            Belongs::Inside => (Likely, "another scheme"),
            Belongs::Old => (Certain, "the old site"),
            Belongs::Beside => (Likely, "a place outside of the site's base path"),
            Belongs::Elsewhere | Belongs::NoPage => (Likely, "another host"),
        };
        out.push(
            Sight::new(
                Code::CanonicalElsewhere,
                sure,
                format!("its {what} is that of {why}: {}", shortened(to.as_str())),
                "set the site's address: zporter settle SITE --address URL",
            )
            .because("search engines and relative links follow it")
            .about(format!("{what} {} {}", to.scheme(), to.host_str().unwrap_or_default())),
        );
    }
    if let Some(to) = page.refresh.as_deref().filter(|r| !r.is_empty()).and_then(|r| base.join(r).ok()) {
        let whose = known.bounds.belongs(&to);
        if !matches!(whose, Belongs::Inside | Belongs::Beside) {
            out.push(led_away(known, &to, whose, "sends visitors on after a while"));
        }
    }
}

/// Something that an encrypted page or style needs, and that is not.
pub fn unencrypted(kind: Kind, url: &Url) -> Option<Sight> {
    if url.scheme() != "http" {
        return None;
    }
    let what = format!("needs a {} that comes unencrypted: {}", kind.word(), shortened(url.as_str()));
    let sight = Sight::new(Code::MixedContent, Certain, what, "let the site name it by https");
    Some(sight.because("browsers leave it out of an encrypted page").about(url.as_str()))
}

fn mixed(known: &Known, journey: &Journey, page: &Page, out: Out<'_>) {
    if journey.url.scheme() != "https" {
        return;
    }
    let base = page.base_at(&journey.url);
    for (kind, written) in &page.needs {
        out.extend(base.join(written).ok().and_then(|url| unencrypted(*kind, &url)));
    }
    for form in &page.forms {
        let sent_to = page.sent_to(form, &journey.url);
        let Some(url) = sent_to.filter(|u| u.scheme() == "http") else { continue };
        out.push(
            Sight::new(
                Code::MixedContent,
                Certain,
                format!("sends a form unencrypted: {}", shortened(url.as_str())),
                "let it be sent by https",
            )
            .because("browsers warn of it")
            .about(url.as_str()),
        );
    }
    for link in &page.links {
        let Some(url) = base.join(&link.href).ok().filter(|u| u.scheme() == "http") else { continue };
        if known.bounds.belongs(&url) == Belongs::Inside {
            out.push(
                Sight::new(
                    Code::LinkOtherScheme,
                    Possible,
                    format!("links the site by http: {}", shortened(url.as_str())),
                    "let the site name itself by https: zporter settle SITE --address URL",
                )
                .about("http"),
            );
            break;
        }
    }
}

fn cookies(known: &Known, journey: &Journey, answer: &Answer, out: Out<'_>) {
    let host = journey.url.host_str().unwrap_or_default();
    for cookie in answer.all("set-cookie") {
        let mut parts = cookie.split(';').map(str::trim);
        let name = parts.next().and_then(|p| p.split('=').next()).unwrap_or_default();
        let (mut domain, mut path, mut secure, mut anywhere) = (String::new(), "/", false, false);
        for part in parts {
            let (key, value) = part.split_once('=').unwrap_or((part, ""));
            match key.to_ascii_lowercase().as_str() {
                "domain" => domain = value.trim_start_matches('.').to_ascii_lowercase(),
                "path" if value.starts_with('/') => path = value,
                "secure" => secure = true,
                "samesite" => anywhere = value.eq_ignore_ascii_case("none"),
                _ => (),
            }
        }
        let fits = domain.is_empty() || domain == host || host.ends_with(&format!(".{domain}"));
        let base = known.bounds.home.path();
        let why = if !fits {
            format!("for {domain}")
        } else if !base.starts_with(path) && !path.starts_with(base) {
            format!("for the path {path}")
        } else if secure && journey.url.scheme() == "http" {
            "for encrypted pages only".into()
        } else if anywhere && !secure {
            "for pages of others too, but not for encrypted ones only".into()
        } else if name.starts_with("__Host-") && (!domain.is_empty() || path != "/") {
            "for one host by its name, but has a domain or a path".into()
        } else {
            continue;
        };
        out.push(
            Sight::new(
                Code::CookieElsewhere,
                Certain,
                format!("the cookie {} is {why}", shortened(name)),
                "set the site's cookie settings: zporter settle SITE",
            )
            .because("browsers drop it, so nobody stays logged in")
            .about(format!("{name} {why}")),
        );
    }
}

fn letters(page: &Page, out: Out<'_>) {
    let texts = std::iter::once(page.title.as_str())
        .chain(page.blocks.iter().filter(|b| !b.quoted).map(|b| b.text.as_str()));
    let (sure, what, cure) = match damaged(texts) {
        None => return,
        Some(Damage::Broken(word)) => (
            Likely,
            format!("letters that are none in the page's character set: {word}"),
            "compare what the server and the page say of the character set with that of the database",
        ),
        Some(Damage::Twice(word)) => (
            Likely,
            format!("letters that were encoded twice: {word}"),
            "the dump was read in a wrong character set: load it again in its own",
        ),
        Some(Damage::Lost(word)) => (
            Possible,
            format!("question marks where letters were: {word}"),
            "the dump was read in a wrong character set: load it again in its own",
        ),
    };
    out.push(Sight::new(Code::LettersDamaged, sure, what, cure));
}

/// Whether a form would make the site send a mail: it asks for an address or a message, and is no log-in or search.
pub fn sends_mail(form: &Form) -> bool {
    let has = |kinds: &[&str]| form.fields.iter().any(|f| kinds.contains(&f.kind.as_str()));
    let named = |words: &[&str]| {
        form.fields
            .iter()
            .filter(|f| f.kind != "hidden")
            .any(|f| words.iter().any(|w| f.name.to_ascii_lowercase().contains(w)))
    };
    let passwords = form.fields.iter().filter(|f| f.kind == "password").count();
    if !form.post || passwords == 1 && !named(&["confirm", "repeat", "again", "firstname", "first_name"]) {
        return false;
    }
    has(&["email"])
        || named(&["email", "e-mail", "mail"])
        || has(&["textarea"]) && named(&["message", "comment", "enquiry", "subject", "body", "text"])
}

fn forms(known: &Known, page: &Page, out: Out<'_>) {
    if !known.copy || known.mail_off {
        return;
    }
    if let Some(form) = page.forms.iter().find(|f| sends_mail(f)) {
        out.push(
            Sight::new(
                Code::FormSends,
                Possible,
                format!(
                    "a form of a development copy would send mail: {}",
                    if form.action.is_empty() { "to this page" } else { &form.action }
                ),
                "switch mail off in the copy: zporter switch SITE mail=off",
            )
            .about(form.action.split('?').next().unwrap_or_default()),
        );
    }
}

/// Whether search engines are let in, as the home page and `robots.txt` say.
pub fn index(known: &Known, page: &Page, answer: &Answer, robots_close: bool) -> Option<Sight> {
    let header = answer.all("x-robots-tag").any(|r| r.to_ascii_lowercase().contains("noindex"));
    let kept_out = page.unlisted() || header || robots_close;
    let by = if page.unlisted() {
        "the home page says so"
    } else if header {
        "a header says so"
    } else {
        "robots.txt says so"
    };
    match (kept_out, known.copy) {
        (true, false) => Some(
            Sight::new(
                Code::NotIndexed,
                Sureness::Likely,
                format!("search engines are kept out: {by}"),
                "switch index on: zporter switch SITE index=on; for a development copy say --copy",
            )
            .because("left from a time when nobody should find the site"),
        ),
        (false, true) => Some(Sight::new(
            Code::CopyIndexed,
            Sureness::Likely,
            "search engines may list this development copy",
            "switch index off: zporter switch SITE index=off, or ask for a password",
        )),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use zporter_web::page;

    #[test]
    fn forms_that_send_mail_are_told_from_others() {
        let sends = |form: &str| page::read(form, 10).forms.iter().any(sends_mail);
        for form in [
            "<form method=post><input name=your-email><textarea name=your-message></textarea></form>",
            "<form method=post><input type=email name=x><button>Subscribe</button></form>",
            "<form method=post><input name=email><input type=password name=p><input type=password name=p2></form>",
            "<form method=post><input name=email><input type=password name=p><input name=firstname></form>",
            "<form method=post><input name=author><textarea name=comment></textarea></form>",
        ] {
            assert!(sends(form), "{form}");
        }
        for form in [
            "<form method=get><input name=q></form>",
            "<form method=post><input name=email><input type=password name=passwd></form>",
            "<form method=post><input type=hidden name=email_token><input name=quantity></form>",
            "<form method=post><input name=code><textarea name=notes></textarea></form>",
        ] {
            assert!(!sends(form), "{form}");
        }
    }
}
