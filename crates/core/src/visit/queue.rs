//! Which page is looked at next. Addresses of the same pattern wait in one line, and the lines take turns, so that a few pages tell of every
//! section, and no calendar or list without an end can fill the visit.

use std::collections::hash_map::DefaultHasher;
use std::collections::{BTreeMap, HashMap, HashSet, VecDeque};
use std::hash::{Hash, Hasher};
use zporter_web::Url;

/// Most addresses that wait at once.
const WAITING: usize = 200_000;
/// Most pages of a pattern that holds a date or goes on by numbers in its query.
const OF_A_CALENDAR: u32 = 40;
/// Pages with the same text, one after another, behind which a pattern is done.
const ALIKE: u32 = 12;
/// Parts of a path, and letters of an address, behind which it leads in circles.
const DEEPEST: usize = 24;
const LONGEST: usize = 2048;

/// Something that waits.
#[derive(Debug, Clone)]
pub struct Waiting {
    /// Address.
    pub url: Url,
    /// Number of the page that named it first.
    pub from: Option<u32>,
}

#[derive(Debug, Default)]
struct Line {
    waiting: VecDeque<Waiting>,
    taken: u32,
    /// Text of the page before, and how many in a row had it.
    last: (u64, u32),
    calendar: bool,
    done: bool,
}

/// The lines.
#[derive(Debug, Default)]
pub struct Queue {
    seen: HashSet<u64>,
    lines: BTreeMap<u32, Line>,
    names: HashMap<String, u32>,
    turn: u32,
    waiting: usize,
    /// Addresses that were left because there is no end of them.
    pub endless: u64,
    /// Addresses that were left because too many wait.
    pub dropped: u64,
}

/// A number that stands for a text.
pub fn print_of(text: impl Hash) -> u64 {
    let mut hasher = DefaultHasher::new();
    text.hash(&mut hasher);
    hasher.finish()
}

/// The pattern of an address: its path with numbers left out, and the names in its query.
fn pattern(url: &Url) -> (String, bool) {
    let mut out = String::new();
    let mut numbers = 0;
    for part in url.path().split('/') {
        let digits = part.bytes().filter(u8::is_ascii_digit).count();
        out.push('/');
        if digits > 0 && digits == part.bytes().filter(u8::is_ascii_alphanumeric).count() {
            out.push('#');
            // `2026/11/28`, `2026-11`
            numbers += part.split('-').count();
        } else if digits > 0 {
            out.extend(part.chars().filter(|c| !c.is_ascii_digit()));
        } else if part.matches('-').count() > 1 {
            // The name of an article.
            out.push('*');
        } else {
            out.push_str(part);
        }
    }
    let mut dated = numbers > 1;
    for (name, value) in url.query_pairs() {
        out.push(if out.contains('?') { '&' } else { '?' });
        out.push_str(&name);
        // What is no number chooses a section: `option=com_content`, `route=product/category`.
        if value.bytes().any(|b| b.is_ascii_digit()) {
            let lower = name.to_ascii_lowercase();
            let of_time =
                ["date", "month", "year", "day", "week", "cal", "time"].iter().any(|w| lower.contains(w));
            dated = dated || of_time || value.matches('-').count() > 1;
        } else if value.len() < 40 {
            out.push('=');
            out.push_str(&value);
        }
    }
    (out, dated)
}

/// Says whether a path repeats itself, as wrong relative links make it do.
fn repeats(path: &str) -> bool {
    let parts: Vec<&str> = path.split('/').filter(|p| !p.is_empty()).collect();
    (1..=3).any(|n| parts.windows(3 * n).any(|w| w[..n] == w[n..2 * n] && w[..n] == w[2 * n..]))
}

impl Queue {
    /// Lets an address wait, unless it was seen before. Says whether it is new.
    pub fn push(&mut self, url: Url, from: Option<u32>) -> bool {
        if !self.seen.insert(print_of(url.as_str())) {
            return false;
        }
        if url.as_str().len() > LONGEST || url.path().split('/').count() > DEEPEST || repeats(url.path()) {
            self.endless += 1;
            return false;
        }
        if self.waiting >= WAITING {
            self.dropped += 1;
            return false;
        }
        let (name, calendar) = pattern(&url);
        let next = self.names.len() as u32;
        let number = *self.names.entry(name).or_insert(next);
        let line = self.lines.entry(number).or_insert_with(|| Line { calendar, ..Line::default() });
        if line.done || line.calendar && line.taken + line.waiting.len() as u32 >= OF_A_CALENDAR {
            self.endless += 1;
            return false;
        }
        line.waiting.push_back(Waiting { url, from });
        self.waiting += 1;
        true
    }

    /// Takes note of an address that was looked at without waiting. Says whether it is new.
    pub fn saw(&mut self, url: &Url) -> bool {
        self.seen.insert(print_of(url.as_str()))
    }

    /// Says that a page with this text was looked at: where one follows another and all are alike, there is no end of them.
    pub fn looked(&mut self, url: &Url, text: u64) {
        let Some(line) = self.names.get(&pattern(url).0).and_then(|n| self.lines.get_mut(n)) else { return };
        line.last = if line.last.0 == text { (text, line.last.1 + 1) } else { (text, 1) };
        if line.last.1 >= ALIKE && !line.done {
            line.done = true;
            self.endless += line.waiting.len() as u64;
            self.waiting -= line.waiting.len();
            line.waiting.clear();
        }
    }

    /// The next ones, at most so many, from each line in turn.
    pub fn next(&mut self, most: usize) -> Vec<Waiting> {
        let mut out = Vec::new();
        while out.len() < most && self.waiting > 0 {
            let turn = self.turn;
            let after = self.lines.range(turn..).find(|(_, l)| !l.waiting.is_empty()).map(|(n, _)| *n);
            let Some(number) =
                after.or_else(|| self.lines.iter().find(|(_, l)| !l.waiting.is_empty()).map(|(n, _)| *n))
            else {
                break;
            };
            if let Some(line) = self.lines.get_mut(&number)
                && let Some(next) = line.waiting.pop_front()
            {
                line.taken += 1;
                self.waiting -= 1;
                out.push(next);
            }
            self.turn = number + 1;
        }
        out
    }

    /// How many wait.
    pub fn waiting(&self) -> usize {
        self.waiting
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn url(path: &str) -> Url {
        Url::parse(&format!("https://a.test{path}")).unwrap()
    }

    #[test]
    fn sections_take_turns() {
        let mut queue = Queue::default();
        for i in 0..50 {
            queue.push(url(&format!("/news/{i}")), None);
        }
        queue.push(url("/about"), None);
        queue.push(url("/?option=shop"), None);
        let first: Vec<String> = queue.next(4).iter().map(|w| w.url.path().to_string()).collect();
        assert_eq!(first, ["/news/0", "/about", "/", "/news/1"]);
        assert!(!queue.push(url("/about"), None), "seen before");
    }

    #[test]
    fn calendars_circles_and_pages_without_end_come_to_one() {
        let mut queue = Queue::default();
        let mut taken = 0;
        queue.push(url("/cal?month=1"), None);
        queue.push(url("/a/b"), None);
        queue.push(url("/list/0"), None);
        while let Some(next) = queue.next(1).pop() {
            taken += 1;
            let path = next.url.path().to_string();
            if path == "/cal" {
                let n: u32 = next.url.query().unwrap()[6..].parse().unwrap();
                queue.push(url(&format!("/cal?month={}", n + 1)), None);
                queue.looked(&next.url, u64::from(n));
            } else if let Some(n) = path.strip_prefix("/list/") {
                queue.push(url(&format!("/list/{}", n.parse::<u32>().unwrap() + 1)), None);
                queue.looked(&next.url, 7);
            } else {
                queue.push(url(&format!("{path}/a/b")), None);
                queue.looked(&next.url, taken);
            }
            assert!(taken < 500);
        }
        assert!(taken < 100 && queue.endless >= 3, "{taken} {}", queue.endless);
    }
}
