//! Compares a page with the same page of the old site: status, title, text, and how many pictures, forms and links it has. What the old site
//! says of itself is first said as the new one would; what differs from one visit of the old page to the next is no difference.

use super::ask::{Asker, End, Journey};
use super::lines::{differences, spelled};
use super::look::Known;
use crate::edit::apply;
use crate::place::{Address, Pairs};
use crate::text::replacements::Replacements;
use schemars::JsonSchema;
use serde::Serialize;
use zporter_web::Url;
use zporter_web::page::{self, Page};

/// Differences that are kept with their text.
const KEPT: usize = 50;
/// Times that both sides are asked again where something differs.
const FURTHER: usize = 3;
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

/// A page of the new site that is compared.
#[derive(Clone, Copy)]
pub struct New<'n> {
    /// What is known of the site.
    pub known: &'n Known,
    /// How it is asked.
    pub asker: &'n Asker,
    /// How the page was reached.
    pub journey: &'n Journey,
    /// Its status and what it holds, where it came.
    pub page: Option<(u16, &'n Page)>,
}

/// A page of the old site.
struct Old<'o> {
    journey: &'o Journey,
    page: &'o Page,
    url: &'o Url,
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

    fn ask(&self, asker: &Asker, url: &Url, most: usize) -> (Journey, Option<(u16, Page)>) {
        let journey = asker.go(url, most);
        let read = match &journey.end {
            End::Answer(answer) => {
                let text = answer.text();
                Some((answer.status, page::read(&text, self.most_links)))
            }
            _ => None,
        };
        (journey, read)
    }

    /// Compares a page, and tells the addresses that the old one links, below the site's.
    pub fn compare(&self, new: &New<'_>, asked: &Url, most: usize) -> (Compared, Vec<String>) {
        let (known, page) = (new.known, new.page);
        let Some(below) = known.bounds.below(asked).map(str::to_string) else {
            return (Compared::Neither, Vec::new());
        };
        let Some(url) = self.asker.bounds.at(&below) else { return (Compared::Neither, Vec::new()) };
        let (journey, old) = self.ask(&self.asker, &url, most);
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
            (true, Some((_, page))) => {
                let old = Old { journey: &journey, page: &old_page, url: &url };
                self.judge(new, page, &old, below, most)
            }
        };
        (compared, links)
    }

    /// The pages that the old page links, below the address.
    fn links(&self, journey: &Journey, page: &Page) -> Vec<String> {
        let bounds = &self.asker.bounds;
        let base = page.base_at(&journey.url);
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

    fn judge(&self, new: &New<'_>, page: &Page, old: &Old<'_>, below: String, most: usize) -> Compared {
        let (ours, theirs) = (self.side(page, false), self.side(old.page, true));
        let mut what = Vec::new();
        let ends = |bounds: &super::bounds::Bounds, way: &Journey| {
            bounds.below(&bounds.plain(&way.url)).map(str::to_string)
        };
        let new_end = ends(&new.known.bounds, new.journey);
        let old_end = ends(&self.asker.bounds, old.journey);
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
        let old_again = || self.ask(&self.asker, old.url, most).1.map(|(_, page)| self.side(&page, true));
        let new_again =
            || self.ask(new.asker, &new.journey.url, most).1.map(|(_, page)| self.side(&page, false));
        let again = old_again();
        let again = again.as_ref().unwrap_or(&theirs);
        if ours.title != theirs.title && theirs.title == again.title {
            what.push(format!("title {:?} (old: {:?})", ours.title, theirs.title));
        }
        for ((name, ours), ((_, theirs), (_, again))) in
            ours.counts.iter().zip(theirs.counts.iter().zip(again.counts.iter()))
        {
            if ours != theirs && theirs == again {
                what.push(format!("{name} {ours} (old: {theirs})"));
            }
        }
        let moving = theirs.lines != again.lines;
        let mut found = differences(&theirs.lines, &again.lines, &ours.lines);
        // What comes and goes by chance is gone the next time, here or there.
        for _ in 0..FURTHER {
            if found.is_empty() {
                break;
            }
            let (Some(theirs_again), Some(ours_again)) = (old_again(), new_again()) else { break };
            let next = differences(&theirs.lines, &theirs_again.lines, &ours_again.lines);
            found.retain(|line| next.contains(line));
        }
        let diff = spelled(&found);
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
