//! Logs in as the definition says: asks for the form, fills it, sends it where it belongs and nowhere else, and looks at a few pages behind.

use super::ask::{Asker, End};
use super::bounds::{Belongs, changes_something, leaves};
use super::gather::Sight;
use super::look::{self, Known};
use super::old;
use super::symptoms::is_signed;
use crate::diagnose::Sureness::{Certain, Likely};
use crate::finding::Code;
use crate::secret::Secret;
use crate::system;
use crate::system::knowledge::{Area, ByScript, LogIn};
use schemars::JsonSchema;
use serde::Serialize;
use std::time::Duration;
use zporter_web::Url;
use zporter_web::client::{Answer, Sent};
use zporter_web::page::{self, Form, Page};

/// Pages behind the log-in that are looked at.
const BEHIND: usize = 5;
/// Names that back offices have where nobody chose another.
const BACK_OFFICES: [&str; 4] = ["admin", "administrator", "backoffice", "adm"];

/// Who logs in.
#[derive(Debug, Clone)]
pub struct Person {
    /// Where to.
    pub area: Area,
    /// Name.
    pub name: String,
    /// Password.
    pub password: Secret,
}

/// What came of a log-in.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct LoggedIn {
    /// Where to.
    pub area: Area,
    /// Address of the form.
    pub form: String,
    /// System whose form it is.
    pub system: String,
    /// Whether it worked.
    pub worked: bool,
    /// Pages behind it.
    pub behind: Vec<Behind>,
}

/// A page behind the log-in.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct Behind {
    /// Address.
    pub url: String,
    /// Status.
    pub status: u16,
    /// Title.
    pub title: String,
}

/// What is tried.
#[derive(Debug)]
pub struct Ways<'w> {
    /// Definitions that may fit.
    pub systems: Vec<&'w system::Definition>,
    /// Whether it is known that they do.
    pub certain: bool,
    /// Version of the site, where somebody knows it.
    pub version: Option<&'w str>,
    /// Folder of the back office, where somebody knows it.
    pub back_office: Option<&'w str>,
}

/// A form that was found, filled but for name and password.
struct Found<'w> {
    system: &'w system::Definition,
    /// The way by which it was found.
    way: &'w LogIn,
    /// All ways of the system that have such a form: lines of it differ in what they answer.
    ways: Vec<&'w LogIn>,
    url: Url,
    action: Url,
    sent: Sent,
}

/// Logs in. What is wrong is told with the page where it shows.
pub fn log_in(
    asker: &Asker,
    known: &Known,
    ways: &Ways<'_>,
    person: &Person,
    most: usize,
) -> (Option<LoggedIn>, Vec<(String, Sight)>) {
    let home = known.bounds.home.to_string();
    let whose = if person.area == Area::Back { "administrators" } else { "members and customers" };
    let Some(found) = form(asker, known, ways, person, most) else {
        let cure = "name the system with --system, and the folder of the back office with --back-office; forms of other programs cannot be filled";
        let sight = Sight::new(
            Code::LogInUnknown,
            Likely,
            format!("no form was found by which {whose} log in"),
            cure,
        );
        return (None, vec![(home, sight)]);
    };
    let form_url = found.url.to_string();
    let mut sights = Vec::new();
    let mut result = LoggedIn {
        area: person.area,
        form: form_url.clone(),
        system: found.system.name.clone(),
        worked: false,
        behind: Vec::new(),
    };
    if !matches!(known.bounds.belongs(&found.action), Belongs::Inside | Belongs::Beside) {
        let what = format!("the form sends the password to another host: {}", found.action);
        sights.push((
            form_url,
            Sight::new(Code::LogInFailed, Certain, what, "nothing was sent; settle the site's address first"),
        ));
        return (Some(result), sights);
    }
    if found.way.wait > 0 {
        std::thread::sleep(Duration::from_secs(u64::from(found.way.wait.min(30))));
    }
    let answer = match asker.client.post(&found.action, &found.sent, most) {
        Ok(answer) => answer,
        Err(e) => {
            sights.push((
                form_url,
                Sight::new(
                    Code::LogInFailed,
                    Certain,
                    format!("no answer to the log-in: {e}"),
                    "look at the server's log",
                ),
            ));
            return (Some(result), sights);
        }
    };
    let (last, url) = followed(asker, &found.action, &answer, most);
    let text = last.text();
    let held = |beginning: &str| asker.client.holds_cookie(beginning);
    let signed = found.ways.iter().any(|w| is_signed(&w.success, &answer, &last, &text, held));
    let failed = found.ways.iter().any(|w| is_signed(&w.failure, &last, &last, &text, held));
    let again = is_form(found.way, &text);
    // A page that lets one out again is behind the door, whatever a line of the system calls it.
    result.worked = !again && (signed || last.status < 400 && leads_out(&text, &url)) || signed && !failed;
    if !result.worked {
        let what = match (said(&last), failed) {
            (Some(words), _) => format!("{whose} cannot log in (status {}): {words}", last.status),
            (None, true) => format!("{whose} cannot log in: the form comes again"),
            (None, false) => {
                format!("{whose} cannot log in: no sign of success in the answer (status {})", last.status)
            }
        };
        let cure = "look at name and password; else at cookies (domain, path, https), sessions and their folder, and the site's secret keys";
        sights.push((form_url, Sight::new(Code::LogInFailed, Certain, what, cure)));
        return (Some(result), sights);
    }
    behind(asker, known, &found, person.area, &url, &text, &mut result, &mut sights, most);
    (Some(result), sights)
}

/// What a program that speaks JSON says of its refusal: a list of errors, each a text or an object with its message.
fn said(answer: &Answer) -> Option<String> {
    let value: serde_json::Value = serde_json::from_slice(&answer.body).ok()?;
    let first = value.get("errors")?.get(0)?;
    let words = first.as_str().or_else(|| first.get("message")?.as_str())?;
    (!words.is_empty()).then(|| words.chars().take(200).collect())
}

/// Whether a text holds the form again.
fn is_form(way: &LogIn, text: &str) -> bool {
    page::read(text, 50).forms.iter().any(|f| fields_of(f, way).is_some())
}

/// Whether a page links the way out.
fn leads_out(text: &str, at: &Url) -> bool {
    let page = page::read(text, 1000);
    let base = page.base_at(at);
    page.links.iter().filter_map(|l| base.join(&l.href).ok()).any(|u| leaves(&u))
}

/// Looks for a form that fits.
fn form<'w>(
    asker: &Asker,
    known: &Known,
    ways: &Ways<'w>,
    person: &Person,
    most: usize,
) -> Option<Found<'w>> {
    for system in &ways.systems {
        for way in system.log_in.iter().filter(|l| l.area == person.area) {
            if !crate::survey::recognise::version_fits(
                ways.version,
                way.from.as_deref(),
                way.below.as_deref(),
            ) && ways.version.is_some()
            {
                continue;
            }
            for path in paths(way, ways.back_office) {
                let Some(url) = known.bounds.at(path.trim_start_matches('/')) else { continue };
                let journey = asker.go(&url, most);
                let End::Answer(answer) = &journey.end else { continue };
                // Where the system is a guess, a redirect leads to another one's form.
                let bare = |u: &Url| u.path().trim_end_matches('/').to_string();
                if answer.status == 404 || !ways.certain && bare(&journey.url) != bare(&url) {
                    continue;
                }
                let text = answer.text();
                if let Some(script) = &way.script {
                    let asked = asked_by_script(asker, script, &journey.url, &text, most);
                    let Some(action) = asked else { continue };
                    let (sent, url) = (as_object(way, person), journey.url.clone());
                    return Some(Found { system, way, ways: vec![way], url, action, sent });
                }
                let page = page::read(&text, 200);
                let fitting = page.forms.iter().find_map(|f| fields_of(f, way).map(|names| (f, names)));
                let Some((form, (user, password))) = fitting else { continue };
                let Some(action) = page.sent_to(form, &journey.url) else { continue };
                let sent = Sent::Form(filled(form, way, &user, &password, person));
                let alike = |l: &&LogIn| {
                    l.area == person.area
                        && (l.path == way.path || paths(l, ways.back_office).contains(&path))
                        && fields_of(form, l).is_some()
                };
                let ways = system.log_in.iter().filter(alike).collect();
                return Some(Found { system, way, ways, url: journey.url.clone(), action, sent });
            }
        }
    }
    None
}

/// Where the script of a page sends a log-in, if the page is the one and something listens there: lines of a system have other addresses,
/// and a password is not tried on each.
fn asked_by_script(asker: &Asker, script: &ByScript, at: &Url, text: &str, most: usize) -> Option<Url> {
    let action = at.join(&script.to).ok().filter(|_| text.contains(&script.shows))?;
    let there = asker.client.get(&action, most).ok()?;
    (there.status != 404 && there.leads_to(&action).is_none() && there.kind() != "text/html")
        .then_some(action)
}

/// What a script sends.
fn as_object(way: &LogIn, person: &Person) -> Sent {
    let mut fields = way.fields.clone();
    fields.insert(way.user.clone(), person.name.clone());
    fields.insert(way.password.clone(), person.password.expose().to_string());
    Sent::Object(fields.into_iter().collect())
}

/// Paths of a form, where one holds a folder that each site names itself.
fn paths(way: &LogIn, back_office: Option<&str>) -> Vec<String> {
    if !way.path.contains('*') {
        return vec![way.path.clone()];
    }
    let names = back_office.as_ref().map_or(&BACK_OFFICES[..], std::slice::from_ref);
    names.iter().map(|name| way.path.replacen('*', name.trim_matches('/'), 1)).collect()
}

/// Whether a name of a field is what the definition says; a `*` stands for what the program puts there.
fn is_named(pattern: &str, name: &str) -> bool {
    match (pattern.strip_prefix('*'), pattern.strip_suffix('*')) {
        (Some(end), _) => name.ends_with(end),
        (_, Some(start)) => name.starts_with(start),
        _ => name == pattern,
    }
}

/// The names of the two fields, if a form has both.
fn fields_of(form: &Form, way: &LogIn) -> Option<(String, String)> {
    let named =
        |pattern: &str| form.fields.iter().find(|f| is_named(pattern, &f.name)).map(|f| f.name.clone());
    Some((named(&way.user)?, named(&way.password)?))
}

fn filled(form: &Form, way: &LogIn, user: &str, password: &str, person: &Person) -> Vec<(String, String)> {
    let mut out: Vec<(String, String)> = Vec::new();
    // As a browser does, whether the definition knows of them or not.
    let hidden = form.fields.iter().filter(|f| f.kind == "hidden" && !f.name.is_empty());
    out.extend(hidden.map(|f| (f.name.clone(), f.value.clone())));
    for (name, value) in &way.fields {
        // A button says what the form is for, in the words of the site's own language.
        let own = form.fields.iter().find(|f| f.name == *name && f.kind == "submit" && !f.value.is_empty());
        out.retain(|(n, _)| n != name);
        out.push((name.clone(), own.map_or_else(|| value.clone(), |f| f.value.clone())));
    }
    // The program that a whole page is one form for tells by this which button was pressed.
    for field in form.fields.iter().filter(|f| f.name == "__EVENTTARGET") {
        out.retain(|(n, _)| *n != field.name);
        let button = user.rsplit_once('$').map_or(String::new(), |(before, _)| format!("{before}$cmdLogin"));
        out.push((field.name.clone(), button));
    }
    out.retain(|(n, _)| n != user && n != password);
    out.push((user.to_string(), person.name.clone()));
    out.push((password.to_string(), person.password.expose().to_string()));
    out
}

/// Goes where the answer sends, also where it does so as JSON.
fn followed(asker: &Asker, asked: &Url, answer: &Answer, most: usize) -> (Answer, Url) {
    let told = || {
        let value: serde_json::Value = serde_json::from_slice(&answer.body).ok()?;
        asked.join(value.get("redirect")?.as_str()?).ok()
    };
    let Some(next) = answer.leads_to(asked).or_else(told) else { return (answer.clone(), asked.clone()) };
    if !matches!(asker.bounds.belongs(&next), Belongs::Inside | Belongs::Beside) {
        return (answer.clone(), asked.clone());
    }
    let journey = asker.go(&next, most);
    match journey.end {
        End::Answer(last) => {
            let mut last = *last;
            // What the first answer said counts as well: programs that are asked by a script say all of it there.
            last.body.extend_from_slice(&answer.body);
            (last, journey.url)
        }
        _ => (answer.clone(), asked.clone()),
    }
}

/// Looks at a few pages behind the log-in.
#[expect(clippy::too_many_arguments, reason = "all that is known of the log-in")]
fn behind(
    asker: &Asker,
    known: &Known,
    found: &Found<'_>,
    area: Area,
    at: &Url,
    text: &str,
    result: &mut LoggedIn,
    sights: &mut Vec<(String, Sight)>,
    most: usize,
) {
    let links = match &found.way.script {
        Some(script) => script.behind.iter().filter_map(|to| found.url.join(to).ok()).collect(),
        None => links_behind(known, &page::read(text, 1000), at, found, area),
    };
    for url in links {
        let journey = asker.go(&url, most);
        let name = url.to_string();
        let End::Answer(answer) = &journey.end else {
            let seen = look::no_page(known, &journey, true);
            sights.extend(
                seen.into_iter().map(|s| (name.clone(), Sight { code: Code::BehindLogInFails, ..s })),
            );
            continue;
        };
        let text = answer.text();
        let page = page::read(&text, 200);
        result.behind.push(Behind { url: name.clone(), status: answer.status, title: page.title.clone() });
        if answer.status >= 400 {
            let what = format!("a page behind the log-in does not come (status {})", answer.status);
            sights.push((name, Sight::new(Code::BehindLogInFails, Certain, what, "read the server's log")));
        } else if is_form(found.way, &text) {
            let cure = "look at cookies (domain, path, https) and at sessions and their folder";
            sights.push((
                name,
                Sight::new(
                    Code::BehindLogInFails,
                    Likely,
                    "the log-in does not hold: the form comes again",
                    cure,
                ),
            ));
        } else if found.way.script.is_some() {
            let mut seen = Vec::new();
            old::place(known, &answer.body, "answer", &mut seen);
            sights.extend(seen.into_iter().map(|s| (name.clone(), s)));
        } else {
            let seen = look::page(known, &journey, answer, &page, &text, true);
            sights.extend(
                seen.into_iter()
                    .filter(|s| !matches!(s.code, Code::PageManyLinks))
                    .map(|s| (name.clone(), s)),
            );
        }
    }
}

fn links_behind(known: &Known, page: &Page, at: &Url, found: &Found<'_>, area: Area) -> Vec<Url> {
    let base = page.base_at(at);
    let folder = found.url.path().rsplit_once('/').map_or("/", |(f, _)| f).to_string() + "/";
    let mut out: Vec<Url> = Vec::new();
    for link in &page.links {
        let Ok(url) = base.join(&link.href) else { continue };
        let url = known.bounds.plain(&url);
        if known.bounds.belongs(&url) == Belongs::Inside && !changes_something(&url) && !out.contains(&url) {
            out.push(url);
        }
    }
    // Those of the back office before those of the site, where the two lie apart.
    out.sort_by_key(|url| area == Area::Back && !url.path().starts_with(&folder));
    out.truncate(BEHIND);
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    fn way(path: &str, user: &str, password: &str) -> LogIn {
        let text = format!(
            "area = \"back\"\npath = {path:?}\nuser = {user:?}\npassword = {password:?}\nfields = {{ op = \"Log in\", kind = \"x\" }}\nsuccess = {{ status = 302 }}\nfailure = {{ text = \"x\" }}"
        );
        toml::from_str(&text).unwrap()
    }

    #[test]
    fn a_form_is_filled_as_a_browser_would() {
        let page = page::read(
            "<form method=get action=/search><input name=q></form><form method=post action=in><input type=hidden name=token value=t1><input type=hidden name=kind value=y>\
             <input name=name><input type=password name=pass_7f><input type=submit name=op value=Anmelden><input type=checkbox name=keep value=1></form>",
            10,
        );
        let way = way("/in", "name", "pass_*");
        let fitting: Vec<_> =
            page.forms.iter().filter_map(|f| fields_of(f, &way).map(|names| (f, names))).collect();
        let [(form, (user, password))] = &fitting[..] else { panic!("{fitting:?}") };
        let person = Person { area: Area::Back, name: "ü".into(), password: Secret::new("p&w") };
        let mut filled = filled(form, &way, user, password, &person);
        filled.sort();
        let wanted = [("kind", "x"), ("name", "ü"), ("op", "Anmelden"), ("pass_7f", "p&w"), ("token", "t1")];
        assert_eq!(filled, wanted.map(|(n, v)| (n.to_string(), v.to_string())));
    }

    #[test]
    fn names_that_programs_make_and_folders_of_their_own_are_found() {
        assert!(
            is_named("*$txtUser", "dnn$ctr$txtUser")
                && is_named("password_*", "password_9")
                && is_named("a", "a")
        );
        assert!(
            !is_named("*$txtUser", "txtUser2") && !is_named("password_*", "pass") && !is_named("a", "ab")
        );
        let way = way("/*/index.php?x=1", "u", "p");
        assert_eq!(paths(&way, Some("office/")), ["/office/index.php?x=1"]);
        assert_eq!(paths(&way, None).len(), BACK_OFFICES.len());
    }
}
