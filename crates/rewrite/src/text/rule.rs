//! The exact rule of when a hit counts, as pure functions on the text around it.
//!
//! `http://OLD` and `https://OLD` become the new address; `//OLD` stays protocol-relative. Scheme and host match in any
//! letter case, the path in its own. The port must be equal, and a scheme's own port equals none. What follows the old base
//! or root must not continue a path segment; what precedes a host must not continue a host or be `@`; what precedes a
//! root must not continue a path. All of it is judged in characters of the level at which the hit was found.

use super::judged::{Judged, LeftReason, RewriteOptions};
use super::spelling::{HexCase, Spelling, segment_char};
use crate::edit::Edit;
use crate::place::{Address, Root, Scheme};

/// The ways in which the layers spell a piece of a name that does not stand for itself everywhere.
///
/// Nothing at all for an empty piece, which is the usual one.
pub(super) struct Spellings(Vec<Vec<u8>>);

impl Spellings {
    pub(super) fn of(piece: &str) -> Self {
        if piece.is_empty() {
            return Spellings(Vec::new());
        }
        let mut spellings: Vec<Vec<u8>> = vec![piece.as_bytes().to_vec()];
        for times in [1, 2] {
            for case in [HexCase::Upper, HexCase::Lower] {
                spellings.push(Spelling::Percent(times, case).spell(piece).into_owned());
            }
        }
        for backslashes in ["\\", "\\\\\\"] {
            let spelled = piece.chars().map(|c| match c {
                c if c.is_ascii() => c.to_string(),
                c => c.encode_utf16(&mut [0; 2]).iter().map(|u| format!("{backslashes}u{u:04x}")).collect(),
            });
            spellings.push(spelled.collect::<String>().into_bytes());
        }
        Spellings(spellings)
    }

    /// Returns how many bytes of the end of `text` spell the piece.
    fn ending(&self, text: &[u8]) -> Option<usize> {
        if self.0.is_empty() { Some(0) } else { self.0.iter().find(|w| text.ends_with(w)).map(Vec::len) }
    }

    /// Returns how many bytes of the beginning of `text` spell the piece.
    fn beginning(&self, text: &[u8]) -> Option<usize> {
        if self.0.is_empty() { Some(0) } else { self.0.iter().find(|w| text.starts_with(w)).map(Vec::len) }
    }
}

/// An old host and port with the base paths below it.
pub(super) struct HostNeedle {
    pub(super) host: String,
    /// What stands before and behind the part of the host that is searched for.
    pub(super) spellings: (Spellings, Spellings),
    /// Length of the part that is searched for.
    pub(super) run: usize,
    pub(super) port: Option<u16>,
    pub(super) scheme: Scheme,
    /// Old base paths with what replaces them, longest base first.
    pub(super) bases: Vec<BaseNeedle>,
}

/// An old base path and what replaces the address.
pub(super) struct BaseNeedle {
    pub(super) old: String,
    /// The new address.
    pub(super) absolute: String,
    /// The new address without its scheme.
    relative: String,
    /// The new host without port.
    hostname: String,
    /// The new host with port.
    host: String,
}

impl BaseNeedle {
    pub(super) fn new(old: &str, new: &Address) -> Self {
        BaseNeedle {
            old: old.to_string(),
            absolute: new.to_string(),
            relative: format!("//{}{}", new.host_port(), new.base()),
            hostname: new.host().to_string(),
            host: new.host_port(),
        }
    }
}

impl HostNeedle {
    pub(super) fn add_base(&mut self, base: BaseNeedle) {
        if self.bases.iter().all(|b| b.old != base.old) {
            self.bases.push(base);
            self.bases.sort_by_key(|b| std::cmp::Reverse(b.old.len()));
        }
    }

    /// Finds the base that stands at `end`, and where it ends.
    fn base_at(&self, text: &[u8], end: usize, spelling: &Spelling) -> Option<(usize, &BaseNeedle)> {
        self.bases.iter().find_map(|base| {
            if base.old.is_empty() {
                return (!spelling.continues_segment(text, end)).then_some((end, base));
            }
            let spelled = spelling.spell(&base.old);
            let after = end + spelled.len();
            let fits = text.get(end..after)? == &spelled[..] && !spelling.continues_segment(text, after);
            fits.then_some((after, base))
        })
    }
}

/// An old root and the new one.
pub(super) struct RootNeedle {
    old: Root,
    new: Root,
    /// The folder name that is searched for.
    segment: usize,
    /// What stands in that name before and behind the part that is searched for.
    spellings: (Spellings, Spellings),
    run: usize,
    /// The old root as it stands in plain text, the offset of the part in it, and the new root.
    plain: (Vec<u8>, usize, Vec<u8>),
}

impl RootNeedle {
    pub(super) fn new(old: &Root, new: &Root, segment: usize, offset: usize, run: usize) -> Self {
        let name = &old.segments()[segment];
        let spellings = (Spellings::of(&name[..offset]), Spellings::of(&name[offset + run..]));
        let above: usize = old.segments()[..segment].iter().map(|s| s.len() + 1).sum();
        let at = old.drive().map_or(0, |_| 2) + above + 1 + offset;
        let plain = (old.spelled_with("/").into_bytes(), at, new.spelled_with("/").into_bytes());
        RootNeedle { old: old.clone(), new: new.clone(), segment, spellings, run, plain }
    }
}

/// Looks at the host whose searched part lies at `at`. Nothing is returned where the new address stands already, as it
/// may where old and new differ in the scheme alone.
pub(super) fn look_at_host(
    text: &[u8],
    at: usize,
    needle: &HostNeedle,
    asked: RewriteOptions,
) -> Option<Judged> {
    let left = |reason| Some(Judged::Left { at, reason });
    let begin = at - needle.spellings.0.ending(&text[..at])?;
    let end = at + needle.run;
    let end = end + needle.spellings.1.beginning(&text[end..])?;
    let Some((spelling, start)) = double_separator(text, begin) else {
        return bare_host(text, begin, end, needle, asked);
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
    let Some((after, base)) = needle.base_at(text, end, &spelling) else {
        return left(LeftReason::OutsideBase);
    };
    let plain = if scheme.is_some() { &base.absolute } else { &base.relative };
    let new = spelling.spell(plain);
    (text[start..after] != new[..]).then(|| Judged::Change(Edit::new(start..after, new)))
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
            // A sign is part of a scheme only behind a letter or digit: `git+http`, but `(+http://…/bot)`.
            let longer = match spelling.char_before(text, start) {
                Some(c) if c.is_ascii_alphanumeric() => true,
                Some('+' | '-' | '.') => {
                    let before = spelling.char_before(text, start.saturating_sub(1));
                    before.is_some_and(|c| c.is_ascii_alphanumeric())
                }
                _ => false,
            };
            return if longer { SchemeBefore::Other } else { SchemeBefore::Web(scheme, start) };
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

/// Judges a host that no `//` precedes.
fn bare_host(
    text: &[u8],
    start: usize,
    end: usize,
    needle: &HostNeedle,
    asked: RewriteOptions,
) -> Option<Judged> {
    let plain = Spelling::Plain;
    let left = |reason| Some(Judged::Left { at: start, reason });
    let change = |span, new: &str| Some(Judged::Change(Edit::new(span, new.as_bytes())));
    let (port, behind) = port_after(text, end, &plain);
    let other_host = port.is_none() && plain.continues_segment(text, end);
    let base = needle.bases.first()?;
    match plain.char_before(text, start) {
        Some('@') if logged_in(text, start).is_some() => return with_log_in(text, start, end, needle),
        Some('@') if !asked.mail_domains || other_host => return left(LeftReason::Email),
        Some('@') => return change(start..end, &base.hostname),
        Some(c) if c.is_alphanumeric() || matches!(c, '-' | '.' | '_') => return left(LeftReason::LookAlike),
        _ if other_host => return left(LeftReason::LookAlike),
        _ if !asked.bare_hosts => return left(LeftReason::BareHost),
        _ => {}
    }
    let usual = [Scheme::Http, Scheme::Https].map(|s| u32::from(s.default_port()));
    if port.filter(|p| !usual.contains(p)) != needle.port.map(u32::from) {
        return left(LeftReason::OtherPort);
    }
    if text.get(behind) != Some(&b'/') {
        return change(start..behind, &base.host);
    }
    match needle.base_at(text, behind, &plain) {
        Some((after, base)) => change(start..after, &base.relative[2..]),
        None => left(LeftReason::OutsideBase),
    }
}

/// Where the scheme begins of an address that holds a log-in which ends before `at`: `https://user:pw@`.
fn logged_in(text: &[u8], at: usize) -> Option<(usize, usize)> {
    let head = text.get(..at)?.strip_suffix(b"@")?;
    let part = |b: &u8| b.is_ascii_alphanumeric() || b"-._~!$&'()*+,;=:%".contains(b);
    let user = head.len() - head.iter().rev().take(256).take_while(|b| part(b)).count();
    let head = head.get(..user)?.strip_suffix(b"//").filter(|_| user < at - 1)?;
    match scheme_before(text, head.len(), &Spelling::Plain) {
        SchemeBefore::Web(_, start) => Some((start, user)),
        _ => None,
    }
}

/// Judges a host behind a log-in. The address moves, the log-in stays.
fn with_log_in(text: &[u8], start: usize, end: usize, needle: &HostNeedle) -> Option<Judged> {
    let plain = Spelling::Plain;
    let left = |reason| Some(Judged::Left { at: start, reason });
    let (scheme, user) = logged_in(text, start)?;
    let own = if text[scheme..].get(..5).is_some_and(|s| s.eq_ignore_ascii_case(b"https")) {
        Scheme::Https
    } else {
        Scheme::Http
    };
    let (port, end) = port_after(text, end, &plain);
    if port.is_none() && plain.continues_segment(text, end) {
        return left(LeftReason::LookAlike);
    }
    if port.filter(|p| *p != u32::from(own.default_port())) != needle.port.map(u32::from) {
        return left(LeftReason::OtherPort);
    }
    let Some((after, base)) = needle.base_at(text, end, &plain) else { return left(LeftReason::OutsideBase) };
    let (new_scheme, rest) = base.absolute.split_once("//")?;
    let new = [new_scheme.as_bytes(), b"//", &text[user..start], rest.as_bytes()].concat();
    (text[scheme..after] != new[..]).then(|| Judged::Change(Edit::new(scheme..after, new)))
}

/// Says whether what a change replaces is an address with a log-in: it stands between the scheme and the path.
pub(super) fn holds_log_in(replaced: &[u8]) -> bool {
    let Some(scheme) = memchr::memmem::find(replaced, b"://") else { return false };
    replaced[scheme + 3..].iter().take_while(|b| **b != b'/').any(|b| *b == b'@')
}

/// Looks at the folder name whose searched part lies at `at`. Nothing is returned where the rest of the root is not there.
pub(super) fn look_at_root(text: &[u8], at: usize, needle: &RootNeedle) -> Option<Judged> {
    let windows = needle.old.drive().is_some();
    let (old, offset, new) = &needle.plain;
    if let Some(start) = at.checked_sub(*offset)
        && !windows
        && text[start..].starts_with(old)
    {
        return judge_root(text, at, start..start + old.len(), &Spelling::Plain, || new.clone());
    }
    let begin = at - needle.spellings.0.ending(&text[..at])?;
    let end = at + needle.run;
    let end = end + needle.spellings.1.beginning(&text[end..])?;
    let segments = needle.old.segments();
    let (spelling, separator) = separator_before(text, begin, windows)?;
    // Upwards from the core to the beginning of the root.
    let mut start = begin;
    for i in (0..=needle.segment).rev() {
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
    let mut end = end;
    for name in &segments[needle.segment + 1..] {
        let next = [&separator[..], &spelling.spell(name)].concat();
        if !text[end..].starts_with(&next) {
            return None;
        }
        end += next.len();
    }
    judge_root(text, at, start..end, &spelling, || {
        if windows && needle.new.drive().is_some() {
            // The separator consists of backslashes or is spelled already, so it is put between as it is.
            let mut out = needle.new.drive().map(|d| format!("{d}:")).unwrap_or_default().into_bytes();
            for name in needle.new.segments() {
                out.extend_from_slice(&separator);
                out.extend_from_slice(name.as_bytes());
            }
            out
        } else {
            spelling.spell(&needle.new.spelled_with("/")).into_owned()
        }
    })
}

fn judge_root(
    text: &[u8],
    at: usize,
    span: std::ops::Range<usize>,
    spelling: &Spelling,
    new: impl FnOnce() -> Vec<u8>,
) -> Option<Judged> {
    let continued = match spelling.char_before(text, span.start) {
        Some(c) if segment_char(c) || c == '.' || c == '\\' => true,
        Some('/') => !after_scheme(text, span.start, spelling),
        _ => false,
    };
    if continued || spelling.continues_segment(text, span.end) {
        return Some(Judged::Left { at, reason: LeftReason::LookAlike });
    }
    Some(Judged::Change(Edit::new(span, new())))
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
