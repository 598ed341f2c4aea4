//! Compares a page with the same page of the old site: status, title, text, and how many pictures, forms and links it has. What the old site
//! says of itself is first said as the new one would; what differs from one visit of the old page to the next is no difference.

use super::ask::{Asker, End, Journey};
use super::look::Known;
use crate::edit::apply;
use crate::place::{Address, Pairs};
use crate::text::replacements::Replacements;
use schemars::JsonSchema;
use serde::Serialize;
use similar::{DiffOp, TextDiff};
use std::collections::HashSet;
use std::time::Duration;
use zporter_web::Url;
use zporter_web::page::{self, Page};

/// Differences that are kept with their text.
const KEPT: usize = 50;
/// Lines of a text difference that are kept.
const LINES: usize = 16;
/// Lines of a page that are compared.
const MOST_LINES: usize = 4000;

/// What came of comparing two sites.
#[derive(Debug, Clone, Default, Serialize, JsonSchema)]
pub struct Beside {
    /// The old site's address.
    pub address: String,
    /// Pages that are the same.
    pub same: u64,
    /// Pages of the old site that are not on the new one.
    pub missing: Vec<String>,
    /// Pages that are on the new site alone.
    pub new: Vec<String>,
    /// Pages that differ.
    pub different: Vec<Different>,
    /// Pages of which some lines differ from one visit to the next, and were left out.
    pub moving: u64,
}

impl Beside {
    /// Takes a page that differs. What differs on many pages in the same way, such as a menu, is told once.
    pub fn differs(&mut self, mut different: Different) {
        let known = self.different.iter_mut().find(|d| !d.diff.is_empty() && d.diff == different.diff);
        if let Some(known) = known {
            return known.also.push(different.page);
        }
        if self.different.len() >= KEPT {
            different.diff.clear();
        }
        self.different.push(different);
    }
}

/// A page that differs.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct Different {
    /// The page, below the address.
    pub page: String,
    /// Further pages whose text differs in the same way.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub also: Vec<String>,
    /// In what.
    pub what: Vec<String>,
    /// The difference of the texts.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub diff: String,
}

/// How a page of the new site compares with that of the old one.
#[derive(Debug)]
pub enum Compared {
    /// It is the same.
    Same {
        /// Whether lines were left out.
        moving: bool,
    },
    /// The old site has it, the new one has not.
    Missing {
        /// Status of the new one.
        status: u16,
    },
    /// The new site alone has it.
    New,
    /// Neither has it.
    Neither,
    /// It differs.
    Differs(Different),
    /// The old site did not answer.
    Unknown(String),
}

/// The old site.
#[derive(Debug)]
pub struct OldSite {
    /// How it is asked.
    pub asker: Asker,
    replacements: Replacements,
    most_links: usize,
}

/// A page as far as it is compared.
struct Side {
    title: String,
    lines: Vec<String>,
    counts: [(&'static str, usize); 3],
}

impl OldSite {
    /// The old site at an address; what it says of itself becomes what the new one would say.
    pub fn new(asker: Asker, old: &Address, new: &Address, most_links: usize) -> Self {
        let mut addresses = vec![(old.clone(), new.clone())];
        addresses.extend(old.twin().filter(|t| t != new).map(|t| (t, new.clone())));
        let replacements = Replacements::new(&Pairs { addresses, roots: Vec::new() }, &[]);
        OldSite { asker, replacements, most_links }
    }

    /// What one side shows.
    fn side(&self, page: &Page, old: bool) -> Side {
        let said = |text: &str| match old {
            true => {
                let edits = self.replacements.changes(text.as_bytes());
                let moved = (!edits.is_empty()).then(|| apply(text.as_bytes(), &edits));
                moved.map_or_else(|| text.to_string(), |m| String::from_utf8_lossy(&m).into_owned())
            }
            false => text.to_string(),
        };
        Side {
            title: said(&page.title),
            lines: page.blocks.iter().take(MOST_LINES).map(|b| said(&b.text)).collect(),
            counts: [("pictures", page.pictures), ("forms", page.forms.len()), ("links", page.anchors)],
        }
    }

    fn ask(&self, url: &Url, most: usize) -> (Journey, Option<(u16, Page)>) {
        let journey = self.asker.go(url, most);
        let read = match &journey.end {
            End::Answer(answer) => {
                let (text, _) = page::decoded(&answer.body, answer.charset());
                Some((answer.status, page::read(&text, self.most_links)))
            }
            _ => None,
        };
        (journey, read)
    }

    /// Compares a page, and tells the addresses that the old one links, below the site's.
    pub fn compare(
        &self,
        known: &Known,
        new: &Journey,
        page: Option<(u16, &Page)>,
        asked: &Url,
        most: usize,
    ) -> (Compared, Vec<String>) {
        let Some(below) = known.bounds.below(asked).map(str::to_string) else {
            return (Compared::Neither, Vec::new());
        };
        let Some(url) = self.asker.bounds.at(&below) else { return (Compared::Neither, Vec::new()) };
        let (journey, old) = self.ask(&url, most);
        let Some((old_status, old_page)) = old else {
            return match (&journey.end, page) {
                // Both lead away, or in a circle: told elsewhere.
                (End::None(e), Some(_)) => (Compared::Unknown(e.to_string()), Vec::new()),
                _ => (Compared::Neither, Vec::new()),
            };
        };
        let links = self.links(&journey, &old_page);
        let new_status = page.map_or(0, |(s, _)| s);
        let compared = match (old_status < 400, page.filter(|(s, _)| *s < 400)) {
            (true, None) => Compared::Missing { status: new_status },
            (false, Some(_)) => Compared::New,
            (false, None) => Compared::Neither,
            (true, Some((_, page))) => self.judge(known, new, &journey, page, &old_page, below, &url, most),
        };
        (compared, links)
    }

    /// The pages that the old page links, below the address.
    fn links(&self, journey: &Journey, page: &Page) -> Vec<String> {
        let bounds = &self.asker.bounds;
        let base = page
            .base
            .as_deref()
            .and_then(|b| journey.url.join(b).ok())
            .unwrap_or_else(|| journey.url.clone());
        let links = page.links.iter().filter(|l| !l.shy).filter_map(|l| base.join(&l.href).ok());
        links
            .filter_map(|u| {
                bounds
                    .below(&bounds.plain(&u))
                    .filter(|_| bounds.belongs(&u) == super::bounds::Belongs::Inside)
                    .map(str::to_string)
            })
            .collect()
    }

    #[expect(clippy::too_many_arguments, reason = "both sides, each with how it was reached")]
    fn judge(
        &self,
        known: &Known,
        new_way: &Journey,
        old_way: &Journey,
        new: &Page,
        old: &Page,
        below: String,
        url: &Url,
        most: usize,
    ) -> Compared {
        let (ours, theirs) = (self.side(new, false), self.side(old, true));
        let mut what = Vec::new();
        let ends = |bounds: &super::bounds::Bounds, way: &Journey| {
            bounds.below(&bounds.plain(&way.url)).map(str::to_string)
        };
        let (new_end, old_end) = (ends(&known.bounds, new_way), ends(&self.asker.bounds, old_way));
        if new_end != old_end {
            what.push(format!(
                "leads to /{} (old: /{})",
                new_end.unwrap_or_default(),
                old_end.unwrap_or_default()
            ));
        }
        if ours.title == theirs.title && ours.lines == theirs.lines && ours.counts == theirs.counts {
            return if what.is_empty() {
                Compared::Same { moving: false }
            } else {
                Compared::Differs(Different { page: below, also: Vec::new(), what, diff: String::new() })
            };
        }
        // What the old site says differently the next time is no difference.
        let again = self.ask(url, most).1.map(|(_, page)| self.side(&page, true));
        let again = again.as_ref().unwrap_or(&theirs);
        if ours.title != theirs.title && theirs.title == again.title {
            what.push(format!("title {:?} (old: {:?})", ours.title, theirs.title));
        }
        for ((name, ours), ((_, theirs), (_, again))) in
            ours.counts.iter().zip(theirs.counts.iter().zip(again.counts.iter()))
        {
            if ours != theirs && theirs == again {
                what.push(format!("{ours} {name} (old: {theirs})"));
            }
        }
        let moving = theirs.lines != again.lines;
        let diff = text_diff(&theirs.lines, &again.lines, &ours.lines);
        if !diff.is_empty() {
            what.insert(0, "text".into());
        }
        if what.is_empty() {
            Compared::Same { moving }
        } else {
            Compared::Differs(Different { page: below, also: Vec::new(), what, diff })
        }
    }
}

/// A line in which what differs between two visits is left out: words at which both have something else.
fn shape(line: &str, again: &str) -> Option<Vec<Option<String>>> {
    let (a, b): (Vec<&str>, Vec<&str>) = (line.split(' ').collect(), again.split(' ').collect());
    (a.len() == b.len() && a.iter().zip(&b).any(|(a, b)| a == b) || a.len() == 1 && b.len() == 1)
        .then(|| a.iter().zip(&b).map(|(a, b)| (a == b).then(|| a.to_string())).collect())
}

fn fits(line: &str, shape: &[Option<String>]) -> bool {
    let words: Vec<&str> = line.split(' ').collect();
    words.len() == shape.len() && words.iter().zip(shape).all(|(w, s)| s.as_deref().is_none_or(|s| s == *w))
}

fn diff_of<'t>(old: &'t [&'t str], new: &'t [&'t str]) -> Vec<DiffOp> {
    TextDiff::configure().timeout(Duration::from_secs(2)).diff_slices(old, new).ops().to_vec()
}

/// The difference of two texts, without what differs between two visits of the old one.
fn text_diff(old: &[String], again: &[String], new: &[String]) -> String {
    let (o, a, n): (Vec<&str>, Vec<&str>, Vec<&str>) = (
        old.iter().map(String::as_str).collect(),
        again.iter().map(String::as_str).collect(),
        new.iter().map(String::as_str).collect(),
    );
    // Lines of the old page that move, those that have a shape, and places between lines where something comes and goes.
    let mut moving: HashSet<usize> = HashSet::new();
    let mut shapes = Vec::new();
    let mut gaps: HashSet<usize> = HashSet::new();
    for op in diff_of(&o, &a) {
        match op {
            DiffOp::Equal { .. } => (),
            DiffOp::Delete { old_index, old_len, .. } => moving.extend(old_index..old_index + old_len),
            DiffOp::Insert { old_index, .. } => {
                gaps.insert(old_index);
            }
            DiffOp::Replace { old_index, old_len, new_index, new_len } => {
                moving.extend(old_index..old_index + old_len);
                if old_len != new_len {
                    gaps.insert(old_index);
                }
                for i in 0..old_len.min(new_len) {
                    shapes.extend(shape(o[old_index + i], a[new_index + i]));
                }
            }
        }
    }
    let moves = |line: usize| moving.contains(&line);
    let has_shape = |line: &str| shapes.iter().any(|s| fits(line, s));
    let mut out = String::new();
    let mut lines = 0;
    let mut say = |sign: char, line: &str| {
        lines += 1;
        if lines <= LINES {
            out.push(sign);
            out.push_str(&line.chars().take(200).collect::<String>());
            out.push('\n');
        }
    };
    for op in diff_of(&o, &n) {
        let (gone, come) = (op.old_range(), op.new_range());
        if matches!(op, DiffOp::Equal { .. }) {
            continue;
        }
        // Where the old lines all move and come and go by themselves, so may the new ones.
        let free = !gone.is_empty()
            && gone.clone().all(moves)
            && (gone.len() >= come.len() || gaps.contains(&gone.start))
            || gone.is_empty() && gaps.contains(&gone.start);
        let gone: Vec<usize> = gone.filter(|i| !moves(*i)).collect();
        let come: Vec<usize> = come.filter(|i| !free && !has_shape(n[*i])).collect();
        gone.iter().for_each(|i| say('-', o[*i]));
        come.iter().for_each(|i| say('+', n[*i]));
    }
    if lines > LINES {
        out.push_str(&format!(" and {} further lines\n", lines - LINES));
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    fn diff(old: &str, again: &str, new: &str) -> String {
        let lines = |t: &str| t.lines().map(str::to_string).collect::<Vec<_>>();
        text_diff(&lines(old), &lines(again), &lines(new))
    }

    #[test]
    fn what_always_differs_is_no_difference() {
        let page = |time: &str, token: &str, quote: &str| {
            format!("Home\nIt is {time} now\nWelcome\nvisitors: {token}\n{quote}end")
        };
        let old = page("12:00:01", "1041", "Stars are far.\n");
        let again = page("12:00:02", "1042", "");
        assert_eq!(diff(&old, &again, &page("12:07:40", "9", "")), "");
        assert_eq!(diff(&old, &again, &page("12:07:40", "9", "Moons are near.\n")), "");
        let wrong = page("12:07:40", "9", "").replace("Welcome", "Go away");
        assert_eq!(diff(&old, &again, &wrong), "-Welcome\n+Go away\n");
        let gone = page("12:07:40", "9", "").replace("Welcome\n", "");
        assert_eq!(diff(&old, &again, &gone), "-Welcome\n");
        assert_eq!(diff("a\nb", "a\nb", "a\nb\nc"), "+c\n");
    }
}
