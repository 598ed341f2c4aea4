//! What to look for, and the exact rule of when it counts.
//!
//! From old and new addresses and roots come needles. The scanner finds their cores; this module looks closely
//! around each hit, decides whether it is ours, and gives the edit in the spelling of the level, or says why the hit is
//! left. One pass over the old text: what was written is never looked at again.
//!
//! The rule, exactly: `http://OLD` and `https://OLD` become the new address; `//OLD` stays protocol-relative. Scheme
//! and host match in any letter case, the path in its own. The port must be equal, and a scheme's own port equals none.
//! What follows the old base or root must not continue a path segment; what precedes a host must not continue a host or be
//! `@`; what precedes a root must not continue a path.

use super::scan::{Core, CoreHit, CoreScan};
use super::spelling::{Spelling, segment_char};
use crate::edit::Edit;
use crate::place::{Pairs, Root, Scheme};
use crate::secret::Secret;
use serde::Serialize;

/// Why a place that names the old site was left as it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum LeftReason {
    /// The host alone, in running text.
    BareHost,
    /// The domain of an e-mail address.
    Email,
    /// Another host or path that merely contains the old one.
    LookAlike,
    /// The old host on another port.
    OtherPort,
    /// The old host with a scheme other than http or https.
    OtherScheme,
    /// The old host, but outside of the old base path.
    OutsideBase,
    /// A serialized value whose lengths were wrong before.
    BrokenSerialized,
    /// A custom-serialized object whose form is not known.
    UnknownCustom,
    /// Nested deeper than is followed.
    TooDeep,
    /// In a comment of the dump.
    Comment,
    /// The old database password.
    Password,
}

impl LeftReason {
    /// Describes the reason in a few words.
    pub fn words(self) -> &'static str {
        match self {
            LeftReason::BareHost => "host alone, in text",
            LeftReason::Email => "domain of an e-mail address",
            LeftReason::LookAlike => "another host or path that looks alike",
            LeftReason::OtherPort => "old host, other port",
            LeftReason::OtherScheme => "old host, other scheme",
            LeftReason::OutsideBase => "old host, outside the old base path",
            LeftReason::BrokenSerialized => "serialized value was already broken",
            LeftReason::UnknownCustom => "object serialized in a form of its own",
            LeftReason::TooDeep => "nested too deep",
            LeftReason::Comment => "in a comment of the dump",
            LeftReason::Password => "old database password",
        }
    }

    /// Says whether the reason means that something still points to the old place (rather than naming something else).
    pub fn is_leftover(self) -> bool {
        !matches!(self, LeftReason::LookAlike | LeftReason::Email | LeftReason::Comment)
    }
}

struct HostNeedle {
    host: String,
    port: Option<u16>,
    scheme: Scheme,
    /// Old base paths with what replaces them, longest base first.
    bases: Vec<BaseNeedle>,
}

struct BaseNeedle {
    old: String,
    /// The new address.
    absolute: String,
    /// The new address without its scheme.
    relative: String,
}

struct RootNeedle {
    old: Root,
    new: Root,
    /// Index of the segment that serves as core.
    core_segment: usize,
}

enum Meaning {
    Host(usize),
    Root(usize),
    Password,
}

/// All needles of a relocation, ready to search.
pub struct Needles {
    scan: CoreScan,
    /// Per core: what it may belong to.
    meanings: Vec<Vec<Meaning>>,
    hosts: Vec<HostNeedle>,
    roots: Vec<RootNeedle>,
    described: Vec<(String, String)>,
}

impl std::fmt::Debug for Needles {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_list().entries(&self.described).finish()
    }
}

/// What a look at one hit came to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Finding {
    /// It is ours: this edit moves it.
    Change(Edit),
    /// It is not ours, or not ours to change.
    Left {
        /// Offset of the core.
        at: usize,
        /// Why.
        reason: LeftReason,
    },
}

impl Needles {
    /// Builds the needles of old-new pairs. A pair whose old and new are equal gives nothing to do and is dropped.
    /// `passwords` are watched for and reported, never changed.
    pub fn new(pairs: &Pairs, passwords: &[Secret]) -> Self {
        let mut hosts: Vec<HostNeedle> = Vec::new();
        let mut described: Vec<(String, String)> = Vec::new();
        for (old, new) in &pairs.addresses {
            let shown = (old.to_string(), new.to_string());
            if old == new || described.iter().any(|(o, _)| *o == shown.0) {
                continue;
            }
            described.push(shown);
            for host in std::iter::once(old.host().to_string()).chain(old.host_unicode()) {
                let base = BaseNeedle {
                    old: old.base().to_string(),
                    absolute: new.to_string(),
                    relative: format!("//{}{}", new.host_port(), new.base()),
                };
                match hosts.iter_mut().find(|n| n.host == host && n.port == old.port()) {
                    Some(known) => {
                        if known.bases.iter().all(|b| b.old != base.old) {
                            known.bases.push(base);
                            known.bases.sort_by_key(|b| std::cmp::Reverse(b.old.len()));
                        }
                    }
                    None => hosts.push(HostNeedle {
                        host,
                        port: old.port(),
                        scheme: old.scheme(),
                        bases: vec![base],
                    }),
                }
            }
        }
        let mut roots: Vec<RootNeedle> = Vec::new();
        for (old, new) in &pairs.roots {
            let known = described.iter().any(|(o, _)| *o == old.to_string());
            if old == new || known || old.segments().is_empty() {
                continue;
            }
            described.push((old.to_string(), new.to_string()));
            let longest =
                old.segments().iter().enumerate().max_by_key(|(i, s)| (s.len(), std::cmp::Reverse(*i)));
            let core_segment = longest.map_or(0, |(i, _)| i);
            roots.push(RootNeedle { old: old.clone(), new: new.clone(), core_segment });
        }
        let mut cores: Vec<Core> = Vec::new();
        let mut meanings: Vec<Vec<Meaning>> = Vec::new();
        let mut add = |bytes: &str, fold: bool, meaning: Meaning| {
            let known = cores.iter().position(|c| c.bytes == bytes.as_bytes() && c.fold == fold);
            match known {
                Some(i) => meanings[i].push(meaning),
                None => {
                    cores.push(Core { bytes: bytes.into(), fold });
                    meanings.push(vec![meaning]);
                }
            }
        };
        for (i, needle) in hosts.iter().enumerate() {
            add(&needle.host, true, Meaning::Host(i));
        }
        for (i, needle) in roots.iter().enumerate() {
            add(&needle.old.segments()[needle.core_segment], false, Meaning::Root(i));
        }
        // A short password would be met by chance everywhere.
        for secret in passwords.iter().filter(|p| p.expose().len() >= 6) {
            add(secret.expose(), false, Meaning::Password);
        }
        Needles { scan: CoreScan::new(cores), meanings, hosts, roots, described }
    }

    /// Returns old and new of each needle, for a preview.
    pub fn described(&self) -> &[(String, String)] {
        &self.described
    }

    /// Returns the scanner for the needles' cores.
    pub fn scan(&self) -> &CoreScan {
        &self.scan
    }

    /// Returns the changes of a text of one level alone, sorted, without overlap.
    pub fn changes(&self, text: &[u8]) -> Vec<Edit> {
        let changes = self.findings(text).into_iter().filter_map(|finding| match finding {
            Finding::Change(edit) => Some(edit),
            Finding::Left { .. } => None,
        });
        changes.collect()
    }

    /// Looks at every hit in a text of one level. Changes come first, sorted, and do not overlap.
    pub fn findings(&self, text: &[u8]) -> Vec<Finding> {
        let hits = self.scan.hits(text);
        if let [hit] = hits[..] {
            return self.look(text, hit).into_iter().collect();
        }
        let mut changes: Vec<Edit> = Vec::new();
        let mut left: Vec<(usize, usize, LeftReason)> = Vec::new();
        for hit in hits {
            match self.look(text, hit) {
                Some(Finding::Change(edit)) => changes.push(edit),
                Some(Finding::Left { at, reason }) => {
                    left.push((at, self.scan.cores()[hit.core].bytes.len(), reason))
                }
                None => {}
            }
        }
        // Longest first where two needles claim the same bytes.
        changes.sort_by_key(|e| (e.span.start, std::cmp::Reverse(e.span.end)));
        let mut end = 0;
        changes.retain(|e| {
            let free = e.span.start >= end;
            if free {
                end = e.span.end;
            }
            free
        });
        left.retain(|(at, len, _)| !changes.iter().any(|e| e.span.start < at + len && *at < e.span.end));
        // `www.old.example` and `old.example` may both be needles: what the longer one explains is said once.
        let all = left.clone();
        left.retain(|(at, len, _)| !all.iter().any(|(a, l, _)| l > len && *a <= *at && at + len <= a + l));
        left.dedup_by_key(|(at, len, _)| (*at, *len));
        let mut out: Vec<Finding> = changes.into_iter().map(Finding::Change).collect();
        out.extend(left.into_iter().map(|(at, _, reason)| Finding::Left { at, reason }));
        out
    }

    fn look(&self, text: &[u8], hit: CoreHit) -> Option<Finding> {
        let mut verdict = None;
        let mut longest: Option<Edit> = None;
        for meaning in &self.meanings[hit.core] {
            let found = match meaning {
                Meaning::Host(i) => look_at_host(text, hit.at, &self.hosts[*i]),
                Meaning::Root(i) => look_at_root(text, hit.at, &self.roots[*i]),
                Meaning::Password => Some(Finding::Left { at: hit.at, reason: LeftReason::Password }),
            };
            match found {
                Some(Finding::Change(edit))
                    if longest.as_ref().is_none_or(|l| l.span.len() < edit.span.len()) =>
                {
                    longest = Some(edit);
                }
                Some(Finding::Change(_)) | None => {}
                Some(left) => verdict = Some(left),
            }
        }
        longest.map(Finding::Change).or(verdict)
    }
}

/// Looks at the host at `at`. Nothing is returned where the new address stands already, as it may where old and new differ in the
/// scheme alone.
fn look_at_host(text: &[u8], at: usize, needle: &HostNeedle) -> Option<Finding> {
    let left = |reason| Some(Finding::Left { at, reason });
    let end = at + needle.host.len();
    let Some((spelling, start)) = double_separator(text, at) else {
        return left(bare_host(text, at, end));
    };
    let (scheme, start) = match scheme_before(text, start, &spelling) {
        SchemeBefore::Web(scheme, start) => (Some(scheme), start),
        SchemeBefore::Other => return left(LeftReason::OtherScheme),
        SchemeBefore::None => (None, start),
    };
    let (port, end) = port_after(text, end, &spelling);
    let usual = scheme.unwrap_or(needle.scheme).default_port();
    let meant = port.filter(|p| *p != u32::from(usual));
    let user_name = matches!(spelling.char_at(text, end), Some(('@', _)));
    if user_name || (port.is_none() && spelling.continues_segment(text, end)) {
        return left(LeftReason::LookAlike);
    }
    if meant != needle.port.map(u32::from) {
        return left(LeftReason::OtherPort);
    }
    let found = needle.bases.iter().find_map(|base| {
        let spelled = spelling.spell(&base.old);
        let after = end + spelled.len();
        let fits = text.get(end..after)? == &spelled[..] && !spelling.continues_segment(text, after);
        fits.then_some((after, base))
    });
    let Some((after, base)) = found else {
        return left(LeftReason::OutsideBase);
    };
    let plain = if scheme.is_some() { &base.absolute } else { &base.relative };
    let new = spelling.spell(plain);
    (text[start..after] != new[..]).then(|| Finding::Change(Edit::new(start..after, new)))
}

/// Recognises two equal separators that end at `end`.
fn double_separator(text: &[u8], end: usize) -> Option<(Spelling, usize)> {
    let (spelling, second) = Spelling::of_separator_before(text, end)?;
    let len = spelling.separator_ending(&text[..second])?;
    Some((spelling, second - len))
}

enum SchemeBefore {
    Web(Scheme, usize),
    Other,
    None,
}

fn scheme_before(text: &[u8], end: usize, spelling: &Spelling) -> SchemeBefore {
    let head = &text[..end];
    let Some(colon) = spelling.colon_ending(head) else {
        return SchemeBefore::None;
    };
    let head = &head[..end - colon];
    for (name, scheme) in [("https", Scheme::Https), ("http", Scheme::Http)] {
        let Some(start) = head.len().checked_sub(name.len()) else { continue };
        if head[start..].eq_ignore_ascii_case(name.as_bytes()) {
            return match spelling.char_before(text, start) {
                Some(c) if c.is_ascii_alphanumeric() || matches!(c, '+' | '-' | '.') => SchemeBefore::Other,
                _ => SchemeBefore::Web(scheme, start),
            };
        }
    }
    match spelling.char_before(text, head.len()) {
        Some(c) if c.is_ascii_alphanumeric() => SchemeBefore::Other,
        _ => SchemeBefore::None,
    }
}

/// Reads `:8080` behind a host; a colon without digits is no port.
fn port_after(text: &[u8], end: usize, spelling: &Spelling) -> (Option<u32>, usize) {
    let Some(colon) = spelling.colon_beginning(&text[end..]) else {
        return (None, end);
    };
    let start = end + colon;
    let count = text[start..].iter().take(6).take_while(|b| b.is_ascii_digit()).count();
    match std::str::from_utf8(&text[start..start + count]).ok().and_then(|d| d.parse().ok()) {
        Some(port) => (Some(port), start + count),
        None => (None, end),
    }
}

fn bare_host(text: &[u8], start: usize, end: usize) -> LeftReason {
    match Spelling::Plain.char_before(text, start) {
        Some('@') => LeftReason::Email,
        Some(c) if c.is_alphanumeric() || matches!(c, '-' | '.' | '_') => LeftReason::LookAlike,
        _ if Spelling::Plain.continues_segment(text, end) => LeftReason::LookAlike,
        _ => LeftReason::BareHost,
    }
}

/// Looks at the folder name at `at` as part of a root. Nothing is returned where the rest of the root is not there.
fn look_at_root(text: &[u8], at: usize, needle: &RootNeedle) -> Option<Finding> {
    let segments = needle.old.segments();
    let windows = needle.old.drive().is_some();
    let (spelling, separator) = separator_before(text, at, windows)?;
    // Upwards from the core to the beginning of the root.
    let mut start = at;
    for i in (0..=needle.core_segment).rev() {
        start = text[..start].strip_suffix(&separator[..])?.len();
        if i > 0 {
            start = text[..start].strip_suffix(&spelling.spell(&segments[i - 1])[..])?.len();
        }
    }
    if let Some(drive) = needle.old.drive() {
        let colon = spelling.colon_ending(&text[..start])?;
        start = start.checked_sub(colon + 1)?;
        if !text[start].eq_ignore_ascii_case(&(drive as u8)) {
            return None;
        }
    }
    // Downwards from the core to its end.
    let mut end = at + segments[needle.core_segment].len();
    for name in &segments[needle.core_segment + 1..] {
        let next = [&separator[..], &spelling.spell(name)].concat();
        if !text[end..].starts_with(&next) {
            return None;
        }
        end += next.len();
    }
    let continued = match spelling.char_before(text, start) {
        Some(c) if segment_char(c) || c == '.' || c == '\\' => true,
        Some('/') => !after_scheme(text, start, &spelling),
        _ => false,
    };
    if continued || spelling.continues_segment(text, end) {
        return Some(Finding::Left { at, reason: LeftReason::LookAlike });
    }
    let new = if windows && needle.new.drive().is_some() {
        // The separator consists of backslashes or is spelled already, so it is put between as it is.
        let mut out = needle.new.drive().map(|d| format!("{d}:")).unwrap_or_default().into_bytes();
        for name in needle.new.segments() {
            out.extend_from_slice(&separator);
            out.extend_from_slice(name.as_bytes());
        }
        out
    } else {
        spelling.spell(&needle.new.spelled_with("/"))
    };
    Some(Finding::Change(Edit::new(start..end, new)))
}

/// Recognises the separator before a folder name: a slash in any spelling, under Windows also backslashes.
fn separator_before(text: &[u8], at: usize, windows: bool) -> Option<(Spelling, Vec<u8>)> {
    if let Some((spelling, _)) = Spelling::of_separator_before(text, at) {
        let separator = spelling.separator();
        return Some((spelling, separator));
    }
    let run = text[..at].iter().rev().take_while(|b| **b == b'\\').count();
    // One backslash is a plain path, two are a path in a string literal, four in a literal in a literal.
    (windows && run > 0).then(|| (Spelling::Plain, vec![b'\\'; run]))
}

/// Says whether what ends at `start` is a `scheme://`, as in `file:///home/a`.
fn after_scheme(text: &[u8], start: usize, spelling: &Spelling) -> bool {
    double_separator(text, start)
        .is_some_and(|(s, at)| s == *spelling && spelling.colon_ending(&text[..at]).is_some())
}

#[cfg(test)]
mod tests;
