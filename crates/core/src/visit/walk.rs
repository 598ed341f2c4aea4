//! Walks a site: home page, site map, then what is linked, in waves; then what pages need, and what should not be there. Several threads ask,
//! one puts together what they saw, always in the same order, so that a visit tells the same whatever the number of connections.

use super::ask::{Asker, End, Journey};
use super::beside::{Compared, New, OldSite};
use super::bounds::{Belongs, changes_something};
use super::gather::{Gathered, Sight};
use super::look::{self, Known};
use super::old;
use super::queue::{Queue, Waiting, print_of};
use super::symptoms::shortened;
use super::things::{Thing, Things};
use super::{PageLine, Visited};
use crate::diagnose::Sureness::{Certain, Likely, Possible};
use crate::event::{Cancelled, Event, Watch, go_on};
use crate::finding::Code;
use crate::system;
use std::collections::BTreeMap;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc;
use zporter_web::client::NoAnswer;
use zporter_web::guard::is_inner;
use zporter_web::page::{self, Kind};
use zporter_web::{Url, site_map};

/// Pages that are asked for before what they link is sorted in. The same for any number of connections: the order depends on it.
const WAVE: usize = 64;
/// Bytes of a page that are read.
pub const PAGE: usize = 2 << 20;

/// All that a walk needs.
pub struct Walk<'w> {
    /// How the site is asked.
    pub asker: Asker,
    /// What is known of it.
    pub known: Known,
    /// The old site, to be compared.
    pub old: Option<OldSite>,
    /// Definitions of systems.
    pub systems: &'w [system::Known],
    /// The site's own, where it was named.
    pub system: Option<String>,
    /// Pages.
    pub pages: usize,
    /// Connections.
    pub connections: usize,
    /// Who is told.
    pub watch: &'w dyn Watch,
}

/// What one page came to.
#[derive(Default)]
struct Seen {
    line: PageLine,
    sights: Vec<Sight>,
    /// Pages that it links, in the site.
    links: Vec<Url>,
    /// What else it names.
    things: Vec<Thing>,
    /// Other hosts that it needs something of.
    others: Vec<String>,
    changing: u64,
    print: u64,
    /// What it says of itself: its program, and whether search engines may list it.
    generator: Option<String>,
    index: Option<Sight>,
    compared: Option<Compared>,
    /// Whether a page came, wherever one was sent before.
    answered: bool,
    /// Why nobody answered.
    none: Option<NoAnswer>,
}

/// All that grows while a site is walked.
struct Grown<'g> {
    out: &'g mut Visited,
    gathered: &'g mut Gathered,
    queue: Queue,
    things: Things,
}

impl Walk<'_> {
    /// Walks the site.
    pub fn run(&self, out: &mut Visited, gathered: &mut Gathered) -> Result<(), Cancelled> {
        let robots = self.robots(gathered);
        let mut grown = Grown { out, gathered, queue: Queue::default(), things: Things::default() };
        grown.queue.push(self.known.bounds.home.clone(), None);
        while grown.out.pages.len() < self.pages && grown.queue.waiting() > 0 {
            go_on(self.watch)?;
            // The home page alone: what it says decides what comes next.
            let first = grown.out.pages.is_empty();
            let most = if first { 1 } else { WAVE };
            let wave = grown.queue.next(most.min(self.pages - grown.out.pages.len()));
            let merge = &mut |at: usize, seen| self.merge(seen, &wave[at], &mut grown);
            self.in_parallel(&wave, |waiting| self.page(waiting, &robots), merge)?;
            if first {
                if grown.out.unreached.is_some() {
                    break;
                }
                self.site_maps(&robots, &mut grown.queue, grown.out);
            }
        }
        let Grown { out, gathered, queue, things } = grown;
        out.unvisited = queue.waiting() as u64 + queue.dropped;
        out.endless = queue.endless;
        let beside = self.needs(things, out, gathered)?;
        self.outside(&beside, gathered)?;
        if out.unreached.is_none() {
            self.leaked(out, gathered)?;
        }
        self.cut_short(out, gathered);
        self.watch.event(Event::StepDone);
        Ok(())
    }

    /// Works on several things at once; what comes of them is merged in their order.
    pub(super) fn in_parallel<T: Sync, R: Send>(
        &self,
        all: &[T],
        work: impl Fn(&T) -> R + Sync,
        merge: &mut dyn FnMut(usize, R),
    ) -> Result<(), Cancelled> {
        let threads = self.connections.clamp(1, 64).min(all.len());
        if threads <= 1 {
            for (at, one) in all.iter().enumerate() {
                go_on(self.watch)?;
                merge(at, work(one));
            }
            return Ok(());
        }
        let next = AtomicUsize::new(0);
        // What comes early waits to be merged: a wave at most.
        let (send, receive) = mpsc::channel::<(usize, R)>();
        std::thread::scope(|scope| {
            for _ in 0..threads {
                let (send, next, work) = (send.clone(), &next, &work);
                scope.spawn(move || {
                    loop {
                        let at = next.fetch_add(1, Ordering::Relaxed);
                        let Some(one) = all.get(at).filter(|_| !self.watch.cancelled()) else { return };
                        if send.send((at, work(one))).is_err() {
                            return;
                        }
                    }
                });
            }
            drop(send);
            let mut early: BTreeMap<usize, R> = BTreeMap::new();
            let mut due = 0;
            for (at, result) in receive {
                early.insert(at, result);
                while let Some(result) = early.remove(&due) {
                    merge(due, result);
                    due += 1;
                }
            }
        });
        go_on(self.watch)
    }

    /// Looks at one page.
    fn page(&self, waiting: &Waiting, robots: &site_map::Robots) -> Seen {
        let journey = self.asker.go(&waiting.url, PAGE);
        let linked = waiting.from.is_some();
        let home = waiting.url == self.known.bounds.home;
        let mut seen = Seen {
            line: PageLine { url: waiting.url.to_string(), ..PageLine::default() },
            answered: matches!(journey.end, End::Answer(_)),
            ..Seen::default()
        };
        if let (Some(first), Some(last)) = (journey.hops.first(), journey.hops.last()) {
            seen.line.leads_to = Some(last.to.to_string());
            seen.line.status = first.status;
        }
        let End::Answer(answer) = &journey.end else {
            seen.sights = look::no_page(&self.known, &journey, linked);
            self.compare(&journey, None, &waiting.url, &mut seen);
            if let End::None(why) = journey.end {
                seen.none = Some(why);
            }
            return seen;
        };
        seen.line.status = answer.status;
        seen.line.bytes = answer.body.len() as u64;
        seen.line.milliseconds = answer.took.as_millis() as u64;
        self.watch.event(Event::Advanced { bytes: seen.line.bytes });
        let kind = answer.kind();
        let is_page =
            kind.is_empty() || kind.contains("html") || kind.contains("xml") && kind.contains("xhtml");
        if !is_page && answer.status < 400 {
            // A document that is linked like a page: it is there.
            if kind.starts_with("text/") {
                old::place(&self.known, &answer.body, "file", &mut seen.sights);
            }
            return seen;
        }
        let text = answer.text();
        let mut read = page::read(&text, 5_000.max(self.pages.min(50_000)));
        read.heed(answer);
        seen.line.title = shortened(&read.title);
        seen.sights = look::page(&self.known, &journey, answer, &read, &text, linked);
        self.sort_links(&journey, &read, &mut seen);
        if home {
            seen.generator.clone_from(&read.generator);
            seen.index = look::index(&self.known, &read, answer, robots.closes_all());
        }
        let said: Vec<&str> = read.blocks.iter().map(|b| b.text.as_str()).collect();
        seen.print = print_of(&said);
        self.compare(&journey, Some((answer.status, &read)), &waiting.url, &mut seen);
        seen
    }

    /// Compares a page with that of the old site, where there is one; what the old one links is looked at as well.
    fn compare(&self, journey: &Journey, page: Option<(u16, &page::Page)>, asked: &Url, seen: &mut Seen) {
        let Some(old) = &self.old else { return };
        let new = New { known: &self.known, asker: &self.asker, journey, page };
        let (compared, old_links) = old.compare(&new, asked, PAGE);
        let theirs = old_links.iter().filter_map(|below| self.known.bounds.at(below));
        seen.links.extend(theirs.filter(|u| !changes_something(u)));
        seen.compared = Some(compared);
    }

    /// Sorts what a page names by where it leads.
    fn sort_links(&self, journey: &Journey, page: &page::Page, seen: &mut Seen) {
        let bounds = &self.known.bounds;
        let base = page.base_at(&journey.url);
        let from = &seen.line.url;
        let thing = |kind, url: &Url| Thing { kind, url: bounds.plain(url), from: from.clone() };
        let refresh = page.refresh.iter().map(|r| (r.as_str(), false));
        // Menus first: they lead to every section.
        let (menu, rest): (Vec<_>, Vec<_>) = page.links.iter().partition(|l| l.menu);
        let links = refresh.chain(menu.into_iter().chain(rest).map(|l| (l.href.as_str(), l.shy)));
        for (href, shy) in links {
            let Ok(url) = base.join(href) else { continue };
            match bounds.belongs(&url) {
                Belongs::Inside if changes_something(&url) => seen.changing += 1,
                Belongs::Inside if !shy => seen.links.push(bounds.plain(&url)),
                Belongs::Beside if !shy && !changes_something(&url) => seen.things.push(thing(None, &url)),
                Belongs::Elsewhere => self.inner(&url, "links", &mut seen.sights),
                _ => (),
            }
        }
        for url in page.shared_with.iter().filter_map(|w| base.join(w).ok()) {
            if matches!(bounds.belongs(&url), Belongs::Inside | Belongs::Beside) {
                seen.things.push(thing(Some(Kind::Picture), &url));
            }
        }
        for (kind, written) in &page.needs {
            let Ok(url) = base.join(written) else { continue };
            match bounds.belongs(&url) {
                Belongs::Inside if *kind == Kind::Frame => seen.links.push(bounds.plain(&url)),
                Belongs::Inside | Belongs::Beside => seen.things.push(thing(Some(*kind), &url)),
                Belongs::Elsewhere => {
                    self.inner(&url, "needs something of", &mut seen.sights);
                    seen.others.extend(url.host_str().map(str::to_string));
                }
                _ => (),
            }
        }
    }

    /// Tells of an address that nobody outside can open.
    fn inner(&self, url: &Url, how: &str, out: &mut Vec<Sight>) {
        let host = url.host_str().unwrap_or_default();
        let own = self.known.bounds.home.host_str().unwrap_or_default();
        let named = |h: &str| {
            h == "localhost"
                || h.ends_with(".localhost")
                || h.trim_matches(['[', ']']).parse().is_ok_and(is_inner)
        };
        if named(host) && !named(own) {
            out.push(
                Sight::new(
                    Code::InnerHost,
                    Likely,
                    format!(
                        "{how} a host that only this machine or network knows: {}",
                        shortened(url.as_str())
                    ),
                    "let the site name its own address: zporter settle SITE",
                )
                .because("left from where the site was made; it was not opened")
                .about(format!("{how} {host}")),
            );
        }
    }

    /// Takes down what a page came to.
    fn merge(&self, seen: Seen, waiting: &Waiting, grown: &mut Grown<'_>) {
        let Grown { out, gathered, queue, things } = grown;
        let number = out.pages.len() as u32;
        let from = waiting.from.and_then(|f| out.pages.get(f as usize)).map(|p| p.url.clone());
        let (url, from_url) = (seen.line.url.clone(), from.as_deref());
        let below = self.known.bounds.below(&waiting.url).unwrap_or_default();
        let mut gone_before = false;
        if let (Some(compared), Some(result)) = (seen.compared, out.beside.as_mut()) {
            gone_before = matches!(compared, Compared::Neither);
            note_compared(compared, below, &url, from_url, result, gathered);
        }
        // Where a redirect leads to a page that is looked at by itself, what is wrong with that page is told there.
        let end = seen.line.leads_to.as_deref().and_then(|l| Url::parse(l).ok());
        let told = end.is_some_and(|end| !queue.saw(&self.known.bounds.plain(&end)) && seen.answered);
        for mut sight in seen.sights.into_iter().filter(|_| !told) {
            if sight.code == Code::PageMissing && gone_before {
                sight.cause = "it is missing on the old site as well".into();
                sight.note = true;
            }
            gathered.add(&url, from_url, sight);
        }
        if let Some(sight) = seen.index {
            gathered.add(&url, None, sight);
        }
        if seen.generator.is_some() {
            out.generator = seen.generator;
        }
        out.changing += seen.changing;
        for host in seen.others {
            *out.others.entry(host).or_default() += 1;
        }
        seen.things.into_iter().for_each(|thing| things.add(thing));
        match seen.none {
            None => queue.looked(&waiting.url, seen.print),
            why if number == 0 && seen.line.status == 0 => out.unreached = why,
            Some(_) => (),
        }
        for link in seen.links {
            queue.push(link, Some(number));
        }
        out.weighs(&url, "page", seen.line.bytes);
        out.pages.push(PageLine { from: from.filter(|_| number < 2000), ..seen.line });
    }

    /// Says what was not looked at.
    fn cut_short(&self, out: &Visited, gathered: &mut Gathered) {
        let home = self.known.bounds.home.as_str();
        if out.unvisited > 0 && out.pages.len() >= self.pages {
            let what =
                format!("known and not looked at, besides {} pages: {}", out.pages.len(), out.unvisited);
            gathered.add(
                home,
                None,
                Sight::new(Code::VisitCutShort, Certain, what, "more with --pages N")
                    .about("pages")
                    .as_note(),
            );
        }
        if out.endless > 0 {
            let what = format!(
                "left out because there is no end of them (calendars, lists, paths): {}",
                out.endless
            );
            gathered.add(
                home,
                None,
                Sight::new(Code::VisitCutShort, Certain, what, "").about("endless").as_note(),
            );
        }
        if out.unasked_needs > 0 {
            let what = format!("pictures, styles and scripts that were not asked for: {}", out.unasked_needs);
            gathered.add(
                home,
                None,
                Sight::new(Code::VisitCutShort, Certain, what, "more with --pages N")
                    .about("needs")
                    .as_note(),
            );
        }
        if out.map_names_old > 0 {
            let what = format!("the site map names {} pages of the old site", out.map_names_old);
            let cure = "let the site make its map anew";
            gathered.add(home, None, Sight::new(Code::OldPlaceOnPage, Certain, what, cure).about("site map"));
        }
    }
}

fn note_compared(
    compared: Compared,
    below: &str,
    url: &str,
    from: Option<&str>,
    result: &mut super::beside::Beside,
    gathered: &mut Gathered,
) {
    match compared {
        Compared::Same { moving } => {
            result.same += 1;
            result.moving += u64::from(moving);
        }
        Compared::Missing { status } => {
            result.missing.push(below.to_string());
            let why = if status == 0 { "no page comes".to_string() } else { format!("status {status}") };
            let what = format!("the old site has this page, the new one has not ({why})");
            gathered.add(
                url,
                from,
                Sight::new(
                    Code::BesideMissing,
                    Certain,
                    what,
                    "look whether its content was carried, and whether friendly addresses are handled",
                ),
            );
        }
        Compared::New => {
            result.new.push(below.to_string());
            gathered.add(
                url,
                from,
                Sight::new(Code::BesideNew, Certain, "this page is on the new site alone", "")
                    .about("new")
                    .as_note(),
            );
        }
        Compared::Differs(different) => {
            let what = format!("not the same as on the old site: {}", different.what.join(", "));
            let cure = "look at both; the difference of the texts stands in the report";
            let subject =
                if different.diff.is_empty() { different.page.clone() } else { different.diff.clone() };
            gathered.add(url, from, Sight::new(Code::BesideDiffers, Possible, what, cure).about(subject));
            result.differs(different);
        }
        Compared::Unknown(why) => {
            let what = format!("the old site did not answer for this page: {why}");
            gathered.add(
                url,
                from,
                Sight::new(Code::BesideDiffers, Possible, what, "ask again").about("old site").as_note(),
            );
        }
        Compared::Neither => (),
    }
}
