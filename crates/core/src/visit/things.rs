//! What is asked for besides pages: what pages need, links that leave the base path, and what should not be there.

use super::ask::{End, Journey};
use super::bounds::Belongs;
use super::gather::{Gathered, Sight};
use super::queue::print_of;
use super::symptoms::shortened;
use super::walk::Walk;
use super::{Visited, leaked, look, needs};
use crate::diagnose::Sureness::{Likely, Possible};
use crate::event::{Cancelled, Event};
use crate::finding::Code;
use std::collections::{BTreeSet, HashSet, VecDeque};
use zporter_web::page::{self, Kind};
use zporter_web::{Url, style};

/// Things that pages need that are asked for, for each page.
const NEEDS: usize = 100;
/// Things that are asked for before what style sheets name is added.
const WAVE: usize = 256;
/// Addresses beside the base path that are asked for.
const BESIDE: usize = 200;
/// Things that one style sheet needs.
const OF_A_STYLE: usize = 2000;

/// Something that is asked for that is no page.
pub(super) struct Thing {
    /// What it is needed as; nothing for a link that leaves the base path.
    pub kind: Option<Kind>,
    /// Address.
    pub url: Url,
    /// The page or style sheet that names it.
    pub from: String,
}

/// Things that wait to be asked for, each once.
#[derive(Default)]
pub(super) struct Things {
    known: HashSet<u64>,
    needs: VecDeque<Thing>,
    /// Links that leave the base path.
    beside: Vec<Thing>,
}

impl Things {
    /// Adds one, unless it is known.
    pub(super) fn add(&mut self, thing: Thing) {
        if !self.known.insert(print_of((thing.kind, thing.url.as_str()))) {
            return;
        }
        match thing.kind {
            Some(_) => self.needs.push_back(thing),
            None if self.beside.len() < BESIDE => self.beside.push(thing),
            None => (),
        }
    }
}

/// What came of asking for something.
#[derive(Default)]
struct Came {
    sights: Vec<Sight>,
    bytes: u64,
    /// What a style sheet needs itself.
    needs: Vec<(Kind, Url)>,
    others: Vec<String>,
}

impl Walk<'_> {
    /// Asks for one thing.
    fn thing(&self, thing: &Thing) -> Came {
        let kind = thing.kind.unwrap_or(Kind::Media);
        let journey = self.asker.go(&thing.url, needs::SAMPLE);
        let mut came = Came { sights: needs::look(&self.known, kind, &journey), ..Came::default() };
        let End::Answer(answer) = &journey.end else { return came };
        came.bytes = answer.body.len() as u64;
        self.watch.event(Event::Advanced { bytes: came.bytes });
        if kind != Kind::Style || answer.status >= 400 {
            return came;
        }
        for (kind, written) in
            style::needs(&String::from_utf8_lossy(&answer.body)).into_iter().take(OF_A_STYLE)
        {
            let Ok(url) = journey.url.join(&written) else { continue };
            if journey.url.scheme() == "https" {
                came.sights.extend(look::unencrypted(kind, &url));
            }
            match self.known.bounds.belongs(&url) {
                Belongs::Inside | Belongs::Beside => came.needs.push((kind, self.known.bounds.plain(&url))),
                Belongs::Elsewhere => came.others.extend(url.host_str().map(str::to_string)),
                _ => (),
            }
        }
        came
    }

    /// Asks for what pages need; style sheets need things themselves. Returns the links that leave the base path.
    pub(super) fn needs(
        &self,
        mut things: Things,
        out: &mut Visited,
        gathered: &mut Gathered,
    ) -> Result<Vec<Thing>, Cancelled> {
        let mut left = NEEDS * self.pages.max(1);
        while !things.needs.is_empty() && left > 0 {
            let most = things.needs.len().min(WAVE).min(left);
            let wave: Vec<Thing> = things.needs.drain(..most).collect();
            left -= wave.len();
            let mut further = Vec::new();
            let mut merge = |at: usize, came: Came| {
                let thing: &Thing = &wave[at];
                let tally = out.needs.entry(thing.kind.unwrap_or(Kind::Media).word()).or_default();
                tally.asked += 1;
                tally.bytes += came.bytes;
                let missing = |s: &Sight| matches!(s.code, Code::AssetMissing | Code::AssetIsPage);
                tally.missing += u64::from(came.sights.iter().any(missing));
                out.weighs(thing.url.as_str(), thing.kind.unwrap_or(Kind::Media).word(), came.bytes);
                for sight in came.sights {
                    gathered.add(thing.url.as_str(), Some(&thing.from), sight);
                }
                came.others.into_iter().for_each(|host| *out.others.entry(host).or_default() += 1);
                let from = thing.url.to_string();
                further.extend(came.needs.into_iter().map(|(kind, url)| Thing {
                    kind: Some(kind),
                    url,
                    from: from.clone(),
                }));
            };
            self.in_parallel(&wave, |thing| self.thing(thing), &mut merge)?;
            out.need_urls.extend(
                wave.iter().filter(|t| t.kind == Some(Kind::Picture)).take(200).map(|t| t.url.clone()),
            );
            further.into_iter().for_each(|thing| things.add(thing));
        }
        out.unasked_needs = things.needs.len() as u64;
        Ok(things.beside)
    }

    /// Looks at links that leave the base path of the site: whether anything is there.
    pub(super) fn outside(&self, beside: &[Thing], gathered: &mut Gathered) -> Result<(), Cancelled> {
        let work = |thing: &Thing| self.asker.go(&thing.url, 64 << 10);
        let base = self.known.bounds.home.path().to_string();
        let mut merge = |at: usize, journey: Journey| {
            let thing = &beside[at];
            let there = matches!(&journey.end, End::Answer(a) if a.status < 400);
            // A link to the folders above leads home for many who have several sites on one host.
            let above = base.starts_with(thing.url.path());
            let what = format!("a link leads out of the base path {base}: {}", shortened(thing.url.as_str()));
            let cure = "look whether the other site on this host is meant; else bring references from the root along: --references";
            let sight = Sight::new(Code::LinkOutsideBase, if there { Possible } else { Likely }, what, cure);
            let sight = if there {
                sight
                    .because(if above {
                        "something is there"
                    } else {
                        "something is there, of another site perhaps"
                    })
                    .as_note()
            } else {
                sight.because("nothing is there")
            };
            gathered.add(&thing.from, None, sight.about(thing.url.as_str()));
        };
        self.in_parallel(beside, work, &mut merge)
    }

    /// Asks for what should not be there.
    pub(super) fn leaked(&self, out: &mut Visited, gathered: &mut Gathered) -> Result<(), Cancelled> {
        // What cannot be there, to know what the site answers then.
        let nonsense = self.known.bounds.at("zzq-7f3a9c-no-such-page").map(|u| self.asker.go(&u, 256 << 10));
        let title = match nonsense.map(|j| j.end) {
            Some(End::Answer(answer)) => page::read(&answer.text(), 10).title,
            _ => String::new(),
        };
        let folders: BTreeSet<String> = out
            .need_urls
            .iter()
            .filter(|u| u.query().is_none())
            .filter_map(|u| u.join("./").ok())
            .filter(|u| self.known.bounds.belongs(u) == Belongs::Inside && *u != self.known.bounds.home)
            .map(|u| u.to_string())
            .collect();
        let system = self.system.as_deref().or(out.system.as_deref());
        let probes = leaked::probes(&self.known.bounds, self.systems, system, &folders);
        let asked = |probe: &leaked::Probe| probe.ask(&self.asker, &title);
        let mut found = Vec::new();
        self.in_parallel(&probes, asked, &mut |at, sight| found.extend(sight.map(|s| (at, s))))?;
        for (at, sight) in found {
            gathered.add(probes[at].url().as_str(), None, sight);
        }
        Ok(())
    }
}
