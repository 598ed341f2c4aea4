//! Finds out what a page wants to say that says hardly anything else: an error, or that the site is closed, in whatever language. What a
//! definition's signs know goes first ([`super::symptoms`]); here it is a few words on an otherwise empty page that tell.

use super::symptoms::is_of_a_site;
use crate::system::knowledge::SymptomKind;
use serde::Deserialize;
use zporter_web::page::{Form, Page};

/// Letters up to which a page says hardly anything.
const SHORT: usize = 500;
/// Links behind which a short one is one of a site, also without a menu.
const LINKS: usize = 5;

/// The words by which such a page is known.
#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Words {
    database: Vec<String>,
    failure: Vec<String>,
    closed: Vec<String>,
}

impl Words {
    /// Those that are built in.
    pub fn known() -> Self {
        // A test reads the file.
        toml::from_str(include_str!("short.toml")).unwrap_or_default()
    }

    /// What a page says, and the line in which it does.
    pub fn told(&self, page: &Page, status: u16) -> Option<(SymptomKind, String)> {
        if is_of_a_site(page) {
            return None;
        }
        if page.forms.iter().any(asks_for_database) {
            return Some((SymptomKind::Installer, page.title.clone()));
        }
        let is_short = page.anchors < LINKS && page.letters() < SHORT && page.forms.is_empty();
        if !is_short || status == 404 || status == 410 {
            return None;
        }
        let spoken = page.blocks.iter().filter(|b| !b.quoted).map(|b| b.text.as_str());
        let lines: Vec<(&str, String)> =
            [page.title.as_str()].into_iter().chain(spoken).map(|l| (l, l.to_lowercase())).collect();
        let first = |words: &[String], most: usize| {
            lines.iter().take(most).find(|(_, low)| has_any(low, words)).map(|(line, _)| line.to_string())
        };
        let failed = || status >= 500 || first(&self.failure, usize::MAX).is_some();
        if let Some(line) = first(&self.database, usize::MAX).filter(|_| failed()) {
            return Some((SymptomKind::Database, line));
        }
        // What the title or the first line is about, the page is.
        let headed = if status == 503 { usize::MAX } else { 2 };
        if let Some(line) = first(&self.closed, headed) {
            return Some((SymptomKind::Maintenance, line));
        }
        let begins = |(_, low): &&(&str, String)| self.failure.iter().any(|word| begins_with(low, word));
        let line = lines.iter().take(2).filter(|_| status < 400).find(begins)?;
        Some((SymptomKind::Program, line.0.to_string()))
    }
}

/// Whether one of the words stands in a line, both in small letters.
fn has_any(line: &str, words: &[String]) -> bool {
    words.iter().any(|word| {
        let bare = word.trim_matches('_');
        let alone = |at: usize| !line[..at].chars().next_back().is_some_and(char::is_alphanumeric);
        let mut places = line.match_indices(bare).map(|(at, _)| at);
        places.any(|at| (word.starts_with('_') || alone(at)) && ends_there(&line[at + bare.len()..], word))
    })
}

/// Whether a line begins with a word, and not with a longer one that may be about anything.
fn begins_with(line: &str, word: &str) -> bool {
    let bare = word.trim_matches('_');
    // Languages without spaces, or with many endings, have none but longer ones.
    let longer = if bare.is_ascii() { bare } else { word };
    line.strip_prefix(bare).is_some_and(|rest| ends_there(rest, longer))
}

/// Whether a word ends before the rest of a line.
fn ends_there(rest: &str, word: &str) -> bool {
    word.ends_with('_') || !rest.chars().next().is_some_and(char::is_alphanumeric)
}

/// Whether a form wants to know where a database is, as installers do.
fn asks_for_database(form: &Form) -> bool {
    let of_database = |name: &str| {
        let name = name.to_lowercase();
        ["db", "database", "mysql", "sql"].iter().any(|d| name.contains(d))
            && ["host", "server", "name", "user", "pass", "pwd", "prefix"].iter().any(|p| name.contains(p))
    };
    form.fields.iter().filter(|f| of_database(&f.name)).count() > 1
}

#[cfg(test)]
mod tests {
    use super::*;
    use SymptomKind::{Database, Installer, Maintenance, Program};
    use zporter_web::page;

    fn told(html: &str, status: u16) -> Option<SymptomKind> {
        Words::known().told(&page::read(html, 50), status).map(|(kind, _)| kind)
    }

    #[test]
    fn the_words_can_be_read_and_are_in_small_letters() {
        let words: Words = toml::from_str(include_str!("short.toml")).unwrap();
        for word in words.database.iter().chain(&words.failure).chain(&words.closed) {
            assert!(*word == word.to_lowercase() && word.trim_matches('_').len() > 2, "{word}");
        }
    }

    #[test]
    fn a_few_words_tell_in_any_language() {
        for (html, status, wanted) in [
            ("<h1>Ошибка установки соединения с базой данных</h1>", 500, Database),
            ("<p>Erro ao estabelecer uma conexão com o banco de dados</p>", 200, Database),
            ("<title>データベース接続確立エラー</title>", 200, Database),
            ("<p>The database is away.", 503, Database),
            ("<title>Onderhoud</title><p>Wij zijn zo terug.", 200, Maintenance),
            ("<h1>Fernhollow</h1><p>Nous revenons après la maintenance.", 503, Maintenance),
            ("<title>Ein Fehler</title><h1>Fehler</h1><p>Bitte später.", 200, Program),
            ("<h1>Oops! Something broke.</h1>", 200, Program),
            ("<h1>Welcome</h1><form><input name=db_host><input name=db_user></form>", 200, Installer),
        ] {
            assert_eq!(told(html, status), Some(wanted), "{html}");
        }
    }

    #[test]
    fn pages_of_a_site_that_hold_such_words_say_nothing_of_the_kind() {
        let links = "<a href=a>a</a><a href=b>b</a><a href=c>c</a><a href=d>d</a><a href=e>e</a>";
        for html in [
            format!("<h1>Error in the database</h1>{links}"),
            format!("<h1>Error in the database</h1><p>{}", "All of it is told here. ".repeat(30)),
            "<nav><a href=/>Home</a></nav><h1>Maintenance of telescopes</h1>".to_string(),
            "<h1>Star database</h1><p>All stars we know".to_string(),
            "<h1>Fehlersuche am Fernrohr</h1><p>Ein Abend".to_string(),
            "<h1>Our felines</h1><p>A database of cats that felt at home".to_string(),
            "<nav><a href=/>Desk</a></nav><form><input name=db_host><input name=db_user></form>".to_string(),
            "<h1>Terror of the night</h1><p>A film about the feldspar".to_string(),
            "<h1>Search</h1><p>Maintenance<form><input name=q></form>".to_string(),
            "<form><input name=user><input name=password><input name=dbl></form>".to_string(),
        ] {
            assert_eq!(told(&html, 200), None, "{html}");
        }
        assert_eq!(told("<h1>Error</h1>", 404), None);
    }
}
