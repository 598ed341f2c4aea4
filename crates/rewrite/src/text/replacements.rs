//! What to look for: replacements made from old and new addresses and roots.
//!
//! The scanner finds their cores; `rule` looks closely around each hit and decides whether it is ours; this module
//! owns the replacements, settles which of several claims to the same bytes holds, and gives the edits in the spelling of
//! the level, or says why a hit is left. One pass over the old text: what was written is never looked at again.

use super::common_form::{Slashes, Usual};
use super::covered::Covered;
pub use super::judged::{Judged, LeftReason, RewriteOptions};
use super::reference::{self, ReferenceNeedle};
use super::rule::{self, BaseNeedle, HostNeedle, RootNeedle, Spellings};
use super::scan::{Core, CoreHit, CoreScan, Hits, core_run};
use crate::edit::Edit;
use crate::place::{Pairs, Root};
use crate::secret::Secret;
use std::ops::Range;

enum Meaning {
    Host(usize),
    Root(usize),
    Reference(usize),
    Attribute,
    Password(usize),
}

/// All replacements of a relocation, ready to search.
pub struct Replacements {
    scan: CoreScan,
    /// Per core: what it may belong to.
    meanings: Vec<Vec<Meaning>>,
    /// Per core: the form in which it stands nearly always, if it can mean one host alone.
    usual: Vec<Option<Usual>>,
    hosts: Vec<HostNeedle>,
    roots: Vec<RootNeedle>,
    references: Vec<ReferenceNeedle>,
    passwords: Vec<(Secret, usize)>,
    described: Vec<(String, String)>,
    asked: RewriteOptions,
    /// Whether new text needs no escape at any level.
    quiet: bool,
}

impl std::fmt::Debug for Replacements {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_list().entries(&self.described).finish()
    }
}

/// What was found in one text: mostly one thing.
pub type Judgements = smallvec::SmallVec<[Judged; 1]>;

/// Cores on the way into a scanner: equal ones are looked for once.
#[derive(Default)]
struct Cores {
    cores: Vec<Core>,
    meanings: Vec<Vec<Meaning>>,
}

impl Cores {
    fn add(&mut self, core: Core, meaning: Meaning) {
        match self.cores.iter().position(|c| *c == core) {
            Some(i) => self.meanings[i].push(meaning),
            None => {
                self.cores.push(core);
                self.meanings.push(vec![meaning]);
            }
        }
    }
}

/// A core shorter than this would be met everywhere.
const SHORTEST_RUN: usize = 3;

/// Returns the part of a name to search for and its offset: its longest run that no layer escapes, or all of it.
fn part_to_find(name: &str) -> (usize, &[u8]) {
    let (offset, run) = core_run(name.as_bytes());
    if run.len() < SHORTEST_RUN { (0, name.as_bytes()) } else { (offset, run) }
}

impl Replacements {
    /// Builds the replacements of old-new pairs. A pair whose old and new are equal gives nothing to do and is dropped.
    /// `passwords` are watched for and reported, never changed.
    pub fn new(pairs: &Pairs, passwords: &[Secret]) -> Self {
        Self::asking(pairs, passwords, RewriteOptions::default())
    }

    /// The same, with what is changed on request.
    pub fn asking(pairs: &Pairs, passwords: &[Secret], asked: RewriteOptions) -> Self {
        let mut described: Vec<(String, String)> = Vec::new();
        let mut cores = Cores::default();
        let mut hosts: Vec<HostNeedle> = Vec::new();
        let mut references: Vec<ReferenceNeedle> = Vec::new();
        for (old, new) in &pairs.addresses {
            let shown = (old.to_string(), new.to_string());
            if old == new || described.iter().any(|(o, _)| *o == shown.0) {
                continue;
            }
            described.push(shown);
            for host in std::iter::once(old.host().to_string()).chain(old.host_unicode()) {
                let base = BaseNeedle::new(old.base(), new);
                match hosts.iter_mut().find(|n| n.host == host && n.port == old.port()) {
                    Some(known) => known.add_base(base),
                    None => {
                        let (offset, run) = part_to_find(&host);
                        let core = Core::wrapped(run, true);
                        cores.add(core, Meaning::Host(hosts.len()));
                        let (before, after) = (&host[..offset], &host[offset + run.len()..]);
                        let spellings = (Spellings::of(before), Spellings::of(after));
                        hosts.push(HostNeedle {
                            spellings,
                            port: old.port(),
                            scheme: old.scheme(),
                            bases: vec![base],
                            run: run.len(),
                            host,
                        });
                    }
                }
            }
            if old.base() != new.base() && references.iter().all(|r| r.old != old.base()) {
                references.push(ReferenceNeedle::new(old.base(), new.base()));
            }
        }
        let mut roots: Vec<RootNeedle> = Vec::new();
        for (old, new) in &pairs.roots {
            let known = described.iter().any(|(o, _)| *o == old.to_string());
            if old == new || known || old.segments().is_empty() {
                continue;
            }
            described.push((old.to_string(), new.to_string()));
            let (segment, offset, run) = root_core(old);
            let core = Core::wrapped(run, false);
            cores.add(core, Meaning::Root(roots.len()));
            roots.push(RootNeedle::new(old, new, segment, offset, run.len()));
        }
        for (i, needle) in references.iter().enumerate() {
            for bytes in needle.cores() {
                let meaning = if needle.old.is_empty() { Meaning::Attribute } else { Meaning::Reference(i) };
                let names = needle.old.is_empty();
                cores.add(Core { before_reference: names, fold: names, ..Core::bare(&bytes) }, meaning);
            }
        }
        let mut watched = Vec::new();
        // A short password would be met by chance everywhere.
        for secret in passwords.iter().filter(|p| p.expose().len() >= 6) {
            let (offset, run) = part_to_find(secret.expose());
            let core = Core::bare(run);
            cores.add(core, Meaning::Password(watched.len()));
            watched.push((secret.clone(), offset));
        }
        let Cores { cores, meanings } = cores;
        let scan = CoreScan::new(cores);
        let usual = meanings.iter().map(|meanings: &Vec<Meaning>| match meanings[..] {
            [Meaning::Host(i)] => Usual::of(&hosts[i]),
            _ => None,
        });
        let usual = usual.collect();
        let loud = |b: u8| matches!(b, b'\\' | b'\'' | b'"') || b < 0x20;
        let quiet = !described.iter().any(|(_, new)| new.bytes().any(loud));
        Replacements {
            scan,
            meanings,
            usual,
            hosts,
            roots,
            references,
            passwords: watched,
            described,
            asked,
            quiet,
        }
    }

    /// Returns old and new of each needle, for a preview.
    pub fn described(&self) -> &[(String, String)] {
        &self.described
    }

    /// Returns what is changed on request.
    pub fn asked(&self) -> RewriteOptions {
        self.asked
    }

    /// Says whether new text needs no escape at any level.
    pub(super) fn is_quiet(&self) -> bool {
        self.quiet
    }

    /// Returns the scanner for the replacements' cores.
    pub fn scan(&self) -> &CoreScan {
        &self.scan
    }

    /// Moves a root-relative reference that is a whole value, such as a redirect's target. Nothing is returned if it does
    /// not begin with an old base path; from the bare root every path begins so.
    pub fn moved_reference(&self, value: &str) -> Option<String> {
        self.references.iter().find_map(|needle| needle.moved(value))
    }

    /// Returns the changes of a text of one level alone, sorted, without overlap.
    pub fn changes(&self, text: &[u8]) -> Vec<Edit> {
        let changes = self.findings(text).into_iter().filter_map(|finding| match finding {
            Judged::Change(edit) => Some(edit),
            Judged::Left { .. } => None,
        });
        changes.collect()
    }

    /// Looks at every hit in a text of one level. Changes come first, sorted, and do not overlap.
    pub fn findings(&self, text: &[u8]) -> Judgements {
        self.findings_at(text, &self.scan.hits(text), &Covered::default())
    }

    /// Returns what is to be replaced at a hit, and by what, if the text around it is as usual.
    pub(super) fn usual(&self, text: &[u8], hit: CoreHit, slashes: Slashes) -> Option<(Range<usize>, &[u8])> {
        self.usual[hit.core].as_ref().filter(|_| !hit.base64)?.find(text, hit.at, slashes)
    }

    /// Calls `take` with the changes of a text of one level whose hits are known, and whether each is of the usual form. Returns nothing
    /// if something in the text is left or in doubt, or `take` returns nothing. Hits count from `start` bytes before the text; the changes
    /// count from the text's beginning.
    pub(super) fn all_changes(
        &self,
        text: &[u8],
        start: usize,
        hits: &[CoreHit],
        mut take: impl FnMut(Range<usize>, &[u8], bool) -> Option<()>,
    ) -> Option<()> {
        let mut last = 0..0;
        for hit in hits {
            if hit.base64 {
                return None;
            }
            let hit = CoreHit { at: hit.at - start, ..*hit };
            if let Some((span, new)) = self.usual(text, hit, Slashes::Plain)
                && span.start >= last.end
            {
                last = span.clone();
                take(span, new, true)?;
                continue;
            }
            match self.look(text, hit) {
                None => {}
                // A log-in that goes along is to be said.
                Some(Judged::Change(edit)) if rule::holds_log_in(&text[edit.span.clone()]) => return None,
                Some(Judged::Change(edit)) if edit.span.start >= last.end => {
                    last = edit.span.clone();
                    take(edit.span, &edit.new, false)?;
                }
                // Within a longer one that was found already.
                Some(Judged::Change(edit)) if edit.span.start >= last.start && edit.span.end <= last.end => {}
                Some(Judged::Left { at, .. })
                    if at >= last.start && at + self.scan.cores()[hit.core].bytes.len() <= last.end => {}
                // Two replacements at one place, or something that is to be left: for the long way.
                Some(_) => return None,
            }
        }
        Some(())
    }

    /// The same for known hits, but for those inside of stretches that somebody else deals with.
    pub(super) fn findings_at(&self, text: &[u8], hits: &Hits, covered: &Covered) -> Judgements {
        let free = |at: usize| !covered.contains(at);
        if let [hit] = hits[..] {
            if hit.base64 || !free(hit.at) {
                return Judgements::new();
            }
            return self.look(text, hit).into_iter().collect();
        }
        let mut changes: Vec<Edit> = Vec::new();
        let mut left: Vec<(usize, usize, LeftReason)> = Vec::new();
        for hit in hits.iter().filter(|h| !h.base64 && free(h.at)) {
            match self.look(text, *hit) {
                Some(Judged::Change(edit)) => changes.push(edit),
                Some(Judged::Left { at, reason }) => {
                    left.push((at, self.scan.cores()[hit.core].bytes.len(), reason))
                }
                None => {}
            }
        }
        // Longest first where two replacements claim the same bytes.
        changes.sort_by_key(|e| (e.span.start, std::cmp::Reverse(e.span.end)));
        let mut end = 0;
        changes.retain(|e| {
            let free = e.span.start >= end;
            if free {
                end = e.span.end;
            }
            free
        });
        let mut out = Judgements::with_capacity(changes.len() + left.len());
        if !left.is_empty() {
            left.retain(|(at, len, _)| {
                let next = changes.partition_point(|e| e.span.end <= *at);
                changes.get(next).is_none_or(|e| e.span.start >= at + len)
            });
            // `www.old.example` and `old.example` may both be replacements: what the longer one explains is said once. Hits are
            // sorted, and no core is longer than this.
            const NEAR: usize = 256;
            let all = left.clone();
            left.retain(|(at, len, _)| {
                let near = all.partition_point(|(a, _, _)| a + NEAR < *at);
                let mut others = all[near..].iter().take_while(|(a, _, _)| a <= at);
                !others.any(|(a, l, _)| l > len && at + len <= a + l)
            });
            left.dedup_by_key(|(at, len, _)| (*at, *len));
        }
        out.extend(changes.into_iter().map(Judged::Change));
        out.extend(left.into_iter().map(|(at, _, reason)| Judged::Left { at, reason }));
        out
    }

    fn look(&self, text: &[u8], hit: CoreHit) -> Option<Judged> {
        if let Some((span, new)) = self.usual(text, hit, Slashes::Plain) {
            return Some(Judged::Change(Edit::new(span, new)));
        }
        let mut verdict = None;
        let mut longest: Option<Edit> = None;
        for meaning in &self.meanings[hit.core] {
            let found = match meaning {
                Meaning::Host(i) => rule::look_at_host(text, hit.at, &self.hosts[*i], self.asked),
                Meaning::Root(i) => rule::look_at_root(text, hit.at, &self.roots[*i]),
                Meaning::Reference(i) => {
                    reference::look(text, hit.at, &self.references[*i], self.asked.references)
                }
                Meaning::Attribute => {
                    let needle = self.references.iter().find(|r| r.old.is_empty());
                    needle.and_then(|n| reference::look_behind_name(text, hit.at, n, self.asked.references))
                }
                Meaning::Password(i) => {
                    let (secret, offset) = &self.passwords[*i];
                    let whole = hit.at.checked_sub(*offset).and_then(|start| text.get(start..));
                    whole
                        .is_some_and(|t| t.starts_with(secret.expose().as_bytes()))
                        .then_some(Judged::Left { at: hit.at, reason: LeftReason::Password })
                }
            };
            match found {
                Some(Judged::Change(edit))
                    if longest.as_ref().is_none_or(|l| l.span.len() < edit.span.len()) =>
                {
                    longest = Some(edit);
                }
                Some(Judged::Change(_)) | None => {}
                Some(left) => verdict = Some(left),
            }
        }
        longest.map(Judged::Change).or(verdict)
    }
}

/// Chooses the folder name of a root to search for: the one with the longest run that no layer escapes.
fn root_core(root: &Root) -> (usize, usize, &[u8]) {
    let runs = root.segments().iter().enumerate().map(|(i, s)| (i, core_run(s.as_bytes()).1.len()));
    let (segment, _) = runs.max_by_key(|(i, run)| (*run, std::cmp::Reverse(*i))).unwrap_or_default();
    let (offset, run) = part_to_find(&root.segments()[segment]);
    (segment, offset, run)
}

#[cfg(test)]
mod tests;
