//! Finds out whether an answer says that something is wrong: by the signs of definitions and a general set, and by the form in which PHP
//! writes its messages.
//!
//! A page that says something is told from one that speaks of it: an error stands at the beginning of its own line, or is all there is; it
//! does not stand in the middle of an article, in a quotation or in a listing.

use super::ask::Journey;
use super::short::Words;
use crate::system::Known;
use crate::system::knowledge::{Sign, Symptom, SymptomKind};
use aho_corasick::AhoCorasick;
use serde::Deserialize;
use zporter_web::client::Answer;
use zporter_web::page::Page;

/// Letters of text up to which a page may be nothing but a message.
const MESSAGE: usize = 1500;

/// All symptoms that are looked for.
#[derive(Debug)]
pub struct Symptoms {
    all: Vec<Symptom>,
    /// Finds the texts of all of them at once; a page mostly has none.
    texts: Option<AhoCorasick>,
    /// Whose text a pattern is.
    of_pattern: Vec<usize>,
    /// Words of pages that say hardly anything.
    pub short: Words,
}

#[derive(Deserialize)]
struct File {
    symptom: Vec<Symptom>,
}

const GENERAL: &str = include_str!("symptoms.toml");

impl Symptoms {
    /// Those of the system, or of all where nobody knows which it is; then the general ones.
    pub fn of(known: &[Known], system: Option<&str>) -> Self {
        let chosen = known.iter().filter(|k| system.is_none_or(|id| k.definition.id == id));
        // A test reads the file.
        let general: File = toml::from_str(GENERAL).unwrap_or(File { symptom: Vec::new() });
        let mut all: Vec<Symptom> = Vec::new();
        for symptom in chosen.flat_map(|k| k.definition.symptom.clone()).chain(general.symptom) {
            if !all.iter().any(|s| s.sign == symptom.sign) {
                all.push(symptom);
            }
        }
        let of_pattern: Vec<usize> = (0..all.len()).filter(|i| all[*i].sign.text.is_some()).collect();
        let patterns = of_pattern.iter().filter_map(|i| all[*i].sign.text.as_deref());
        let texts = AhoCorasick::new(patterns).ok();
        Symptoms { all, texts, of_pattern, short: Words::known() }
    }

    /// The symptom that an answer shows; the first of those that say most exactly what is wrong.
    pub fn shown(&self, journey: &Journey, answer: &Answer, page: &Page, text: &str) -> Option<&Symptom> {
        let mut said = vec![self.texts.is_none(); self.all.len()];
        if let Some(texts) = &self.texts {
            let blocks = page.blocks.iter().map(|b| b.text.as_str());
            for piece in blocks.chain([text, page.title.as_str()]) {
                for found in texts.find_overlapping_iter(piece) {
                    said[self.of_pattern[found.pattern().as_usize()]] = true;
                }
            }
        }
        let may = |i: usize| said[i] || self.all[i].sign.text.is_none();
        (0..self.all.len())
            .filter(|i| may(*i))
            .map(|i| &self.all[i])
            .filter(|s| shows(s, journey, answer, page, text))
            .min_by_key(|s| s.kind == SymptomKind::Program)
    }
}

fn shows(symptom: &Symptom, journey: &Journey, answer: &Answer, page: &Page, text: &str) -> bool {
    let sign = &symptom.sign;
    let told = |text_of: &str| match (sign.status, symptom.kind) {
        // With its status it is no article.
        (Some(_), _) => text.contains(text_of),
        (None, SymptomKind::Placeholder) => is_title(page, text_of),
        _ => says(page, answer.status, text_of, text),
    };
    sign.status.is_none_or(|s| s == answer.status)
        && sign.text.as_deref().is_none_or(told)
        && sign.header.as_deref().is_none_or(|h| has_header(answer, h))
        && sign.cookie.as_deref().is_none_or(|c| sets_cookie(answer, c))
        && sign.location.as_deref().is_none_or(|l| journey.hops.iter().any(|hop| hop.to.as_str().contains(l)))
}

/// Links behind which a page is one of a site, whatever its title.
const OF_A_SITE: usize = 15;

/// Whether a page has a menu, or as many links.
pub fn is_of_a_site(page: &Page) -> bool {
    page.anchors >= OF_A_SITE || page.links.iter().any(|l| l.menu)
}

/// Whether a page is headed so, and is none of a site.
fn is_title(page: &Page, words: &str) -> bool {
    let first = page.blocks.first().map_or("", |b| b.text.as_str());
    let headed = page.title.starts_with(words) || first.starts_with(words) && page.letters() < 2 * MESSAGE;
    let listing = words.starts_with("Index of");
    headed && (listing || !is_of_a_site(page))
}

/// Whether a page says something, rather than speaks of it.
fn says(page: &Page, status: u16, words: &str, text: &str) -> bool {
    if words.contains(['<', '"']) {
        return text.contains(words);
    }
    if !text.contains(words) && !page.blocks.iter().any(|b| b.text.contains(words)) {
        return false;
    }
    let alone = status >= 400 || page.letters() < MESSAGE;
    let mut blocks = page.blocks.iter().filter(|b| !b.quoted || status >= 500);
    page.title.starts_with(words)
        || blocks.any(|b| match alone {
            _ if status >= 400 => b.text.contains(words),
            true => begins_sentence(&b.text, words),
            false => b.text.starts_with(words) || begins_error(&b.text, words),
        })
}

/// Whether words begin a line, or a sentence in it.
fn begins_sentence(line: &str, words: &str) -> bool {
    let before = |at: usize| line[..at].trim_end_matches(' ');
    line.match_indices(words)
        .any(|(at, _)| before(at).is_empty() || before(at).ends_with(['.', ':', '!', ']', '-', '|']))
}

/// Whether a line is an error that names its kind first: `Error: …`, `PDOException: …`.
fn begins_error(line: &str, words: &str) -> bool {
    let Some((kind, rest)) = line.split_once(": ") else { return false };
    rest.starts_with(words) && !kind.contains(' ') && (kind.contains("rror") || kind.contains("xception"))
}

fn has_header(answer: &Answer, header: &str) -> bool {
    let wanted = header.to_ascii_lowercase();
    answer.lines().any(|line| line.to_ascii_lowercase().contains(&wanted))
}

/// Whether a cookie is set whose name begins so.
pub fn sets_cookie(answer: &Answer, beginning: &str) -> bool {
    answer.all("set-cookie").any(|c| c.starts_with(beginning))
}

/// Whether a sign is there, in an answer to somebody who logs in: its text may stand anywhere.
pub fn is_signed(
    sign: &Sign,
    first: &Answer,
    last: &Answer,
    text: &str,
    held: impl Fn(&str) -> bool,
) -> bool {
    sign.status.is_none_or(|s| s == first.status || s == last.status)
        && sign.text.as_deref().is_none_or(|t| text.contains(t))
        && sign.header.as_deref().is_none_or(|h| has_header(first, h) || has_header(last, h))
        && sign.cookie.as_deref().is_none_or(&held)
        && sign.location.as_deref().is_none_or(|l| first.header("location").is_some_and(|at| at.contains(l)))
}

/// A message of PHP in a page: its kind and what it says.
pub struct PhpMessage {
    /// `Warning`, `Fatal error` and so on.
    pub kind: String,
    /// The message, with file and line.
    pub said: String,
    /// Whether it is written as PHP writes it into pages.
    pub as_markup: bool,
}

/// Words by which PHP's messages begin.
const KINDS: [&str; 8] = [
    "Fatal error",
    "Parse error",
    "Warning",
    "Notice",
    "Deprecated",
    "Recoverable fatal error",
    "Strict Standards",
    "Catchable fatal error",
];

/// Looks for the first message of PHP.
pub fn php_message(page: &Page, text: &str) -> Option<PhpMessage> {
    // As PHP writes it: `<b>Warning</b>:  what in <b>file</b> on line <b>12</b>`. An article that quotes it has no such markup.
    for kind in KINDS {
        let mut rest = text;
        let marked = format!("<b>{kind}</b>: ");
        while let Some(at) = rest.find(&marked) {
            rest = &rest[at..];
            let end = rest.char_indices().map(|(i, _)| i).take_while(|i| *i < 2000).last().unwrap_or(0);
            if let Some(line) = rest[..end.max(marked.len()).min(rest.len())].find(" on line <b>") {
                let behind = line + " on line <b>".len();
                let digits = rest[behind..].bytes().take_while(u8::is_ascii_digit).count();
                let said = plain(&rest[..behind + digits]);
                return Some(PhpMessage { kind: kind.into(), said, as_markup: true });
            }
            rest = &rest[marked.len()..];
        }
    }
    let blocks = page.blocks.iter().filter(|b| !b.quoted);
    for block in blocks {
        let line = block.text.strip_prefix("PHP ").unwrap_or(&block.text);
        let Some(kind) = KINDS.iter().find(|k| line.strip_prefix(**k).is_some_and(|r| r.starts_with(':')))
        else {
            continue;
        };
        let on_line = line.rfind(" on line ").map(|at| &line[at + 9..]);
        let numbered = on_line.is_some_and(|n| n.starts_with(|c: char| c.is_ascii_digit()));
        if numbered && line.contains(" in ") {
            return Some(PhpMessage { kind: kind.to_string(), said: shortened(line), as_markup: false });
        }
    }
    None
}

/// Text without its tags.
fn plain(text: &str) -> String {
    let mut out = String::new();
    let mut tag = false;
    for c in text.chars() {
        match c {
            '<' => tag = true,
            '>' => tag = false,
            c if !tag => out.push(c),
            _ => (),
        }
    }
    shortened(&out.split_whitespace().collect::<Vec<_>>().join(" "))
}

/// The beginning of a text.
pub fn shortened(text: &str) -> String {
    let mut out: String = text.chars().take(200).collect();
    if out.len() < text.len() {
        out.push('…');
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use zporter_web::page;

    #[test]
    fn the_general_set_can_be_read() {
        let file: File = toml::from_str(GENERAL).unwrap();
        assert!(file.symptom.len() > 20);
        assert!(file.symptom.iter().all(|s| !s.sign.is_empty() && !s.cure.is_empty()));
    }

    #[test]
    fn an_article_that_speaks_of_errors_says_none() {
        let long = "All about the stars. ".repeat(200);
        let article = format!(
            "<h1>How we mended it</h1><p>{long}</p><p>We saw Error establishing a database connection, then SQLSTATE[HY000] [2002].</p>\
             <pre>Warning: Undefined variable $x in /var/www/x.php on line 3</pre><p>Warning: the ice is thin.</p><code>SQLSTATE[</code>"
        );
        let read = page::read(&article, 10);
        assert!(php_message(&read, &article).is_none());
        for words in ["Error establishing a database connection", "SQLSTATE[", "It works!"] {
            assert!(!says(&read, 200, words, &article), "{words}");
        }
        for wrong in [
            "<h1>Error establishing a database connection</h1>".to_string(),
            format!("<p>{long}</p><p>SQLSTATE[HY000] [1045] Access denied</p>"),
            format!("<p>{long}</p>PDOException: SQLSTATE[42S02]"),
        ] {
            let read = page::read(&wrong, 10);
            assert!(
                ["Error establishing a database connection", "SQLSTATE["]
                    .iter()
                    .any(|w| says(&read, 200, w, &wrong)),
                "{wrong}"
            );
        }
    }

    proptest::proptest! {
        #[test]
        fn hostile_messages_are_read_whole_or_not(pieces in proptest::collection::vec(proptest::sample::select(vec![
            "<b>Warning</b>: ", " on line <b>", "12", "</b>", "é", "\u{1f52d}", "PHP ", "Notice:", " in ", " on line ", "<", ">", "x", "\u{a0}",
        ]), 0..30)) {
            let text = pieces.concat();
            php_message(&page::read(&text, 10), &text);
        }
    }

    #[test]
    fn messages_of_php_are_found_in_each_of_their_forms() {
        for text in [
            "<p>x</p><br />\n<b>Warning</b>:  Undefined variable $x in <b>/home/a/x.php</b> on line <b>12</b><br />",
            "<title><br />\n<b>Notice</b>:  Undefined index: a in <b>x.php</b> on line <b>1</b><br /></title>",
            "<div>\nWarning: include(a.php): Failed to open stream in /home/a/x.php on line 12\n</div>",
            "PHP Fatal error:  Uncaught Error in /x.php on line 3",
        ] {
            assert!(php_message(&page::read(text, 10), text).is_some(), "{text}");
        }
        let quoted = "<p>It said &lt;b&gt;Warning&lt;/b&gt;: x on line &lt;b&gt;12&lt;/b&gt;</p><b>Warning</b>: bring a coat, meet us on line 12";
        assert!(php_message(&page::read(quoted, 10), quoted).is_none());
    }
}
