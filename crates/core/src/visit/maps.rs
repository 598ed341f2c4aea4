//! What a site says to programs that walk it: `robots.txt` and site maps.

use super::Visited;
use super::ask::End;
use super::bounds::{Belongs, changes_something};
use super::gather::{Gathered, Sight};
use super::old;
use super::queue::Queue;
use super::symptoms::shortened;
use super::walk::Walk;
use crate::diagnose::Sureness::Certain;
use crate::finding::Code;
use std::collections::{HashSet, VecDeque};
use zporter_web::{Url, site_map};

/// Bytes of a site map that are read.
const SITE_MAP: usize = 10 << 20;
/// Site maps that are read.
const SITE_MAPS: usize = 50;

impl Walk<'_> {
    /// What `robots.txt` says.
    pub(super) fn robots(&self, gathered: &mut Gathered) -> site_map::Robots {
        // It belongs to the host, not to the base path.
        let Ok(url) = self.known.bounds.home.join("/robots.txt") else { return site_map::Robots::default() };
        let End::Answer(answer) = self.asker.go(&url, 512 << 10).end else {
            return site_map::Robots::default();
        };
        let text = String::from_utf8_lossy(&answer.body);
        if answer.status != 200 || answer.kind().contains("html") {
            return site_map::Robots::default();
        }
        let robots = site_map::robots(&text);
        let mut sights = Vec::new();
        old::place(&self.known, &answer.body, "file", &mut sights);
        sights.into_iter().for_each(|s| gathered.add(url.as_str(), None, s));
        if !robots.closed.is_empty() && !robots.closes_all() {
            let few: Vec<String> = robots.closed.iter().take(4).map(|p| shortened(p)).collect();
            let what = format!(
                "robots.txt asks programs to stay out of {} paths ({}); this visit looks there all the same",
                robots.closed.len(),
                few.join(", ")
            );
            gathered.add(url.as_str(), None, Sight::new(Code::RobotsSay, Certain, what, "").as_note());
        }
        robots
    }

    /// Reads the site's maps, and lets what they name wait.
    pub(super) fn site_maps(&self, robots: &site_map::Robots, queue: &mut Queue, out: &mut Visited) {
        let mut maps: VecDeque<Url> =
            robots.maps.iter().filter_map(|m| self.known.bounds.home.join(m).ok()).collect();
        maps.extend(
            ["sitemap.xml", "sitemap_index.xml"].iter().filter_map(|name| self.known.bounds.at(name)),
        );
        let mut read: HashSet<String> = HashSet::new();
        let mut named = 0;
        while let Some(url) = maps.pop_front() {
            // Those of other hosts are the sightings of pages: an old address in robots.txt.
            let ours = matches!(self.known.bounds.belongs(&url), Belongs::Inside | Belongs::Beside);
            if read.len() >= SITE_MAPS
                || !ours
                || !read.insert(self.known.bounds.plain(&url).to_string())
                || self.watch.cancelled()
            {
                continue;
            }
            let End::Answer(answer) = self.asker.go(&self.known.bounds.plain(&url), SITE_MAP).end else {
                continue;
            };
            if answer.status != 200 || answer.kind().contains("text/html") {
                continue;
            }
            let map = site_map::read(&answer.body, 50_000);
            out.bytes += answer.body.len() as u64;
            maps.extend(map.maps.iter().filter_map(|m| url.join(m).ok()));
            for page in map.pages.iter().filter_map(|p| url.join(p).ok()) {
                match self.known.bounds.belongs(&page) {
                    Belongs::Inside if !changes_something(&page) => {
                        named += u64::from(queue.push(self.known.bounds.plain(&page), None));
                    }
                    Belongs::Old => out.map_names_old += 1,
                    _ => (),
                }
            }
        }
        out.mapped = named;
    }
}
