//! The form in which an address stands nearly always: `http://HOST/base`, in small letters, between signs that end it, its slashes plain
//! or as JSON in a string of MySQL's escapes them.
//!
//! Comparing bytes settles it in place of reading spellings and characters. Invariant: what is found here is what [`super::rule`]
//! would find, at this level and, where the text is a raw string of MySQL's, at the level behind its escapes; whatever is not certain is
//! left to the rule.

use super::rule::HostNeedle;
use std::ops::Range;

/// How slashes stand in a text.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Slashes {
    /// As they are.
    Plain,
    /// `\\/`: escaped by JSON, and the backslash by MySQL.
    Escaped,
}

impl Slashes {
    fn spell(self, plain: &str) -> Vec<u8> {
        match self {
            Slashes::Plain => plain.into(),
            Slashes::Escaped => plain.replace('/', r"\\/").into(),
        }
    }
}

/// What stands at the old address and what comes there, in both spellings.
pub(super) struct Usual {
    host: usize,
    /// Longest base first.
    bases: Vec<[(Vec<u8>, Vec<u8>); 2]>,
}

impl Usual {
    /// Makes the form of a host, if it is as usual: searched for as a whole, without a port.
    pub(super) fn of(needle: &HostNeedle) -> Option<Self> {
        let whole = needle.run == needle.host.len() && needle.port.is_none();
        whole.then(|| Usual {
            host: needle.run,
            bases: needle
                .bases
                .iter()
                .map(|base| {
                    [Slashes::Plain, Slashes::Escaped].map(|s| (s.spell(&base.old), s.spell(&base.absolute)))
                })
                .collect(),
        })
    }

    /// Returns what is to be replaced around the host at `at`, and by what.
    pub(super) fn find(&self, text: &[u8], at: usize, slashes: Slashes) -> Option<(Range<usize>, &[u8])> {
        let head = match slashes {
            Slashes::Plain => text[..at].strip_suffix(b"://")?,
            Slashes::Escaped => text[..at].strip_suffix(br":\\/\\/")?,
        };
        let head = head.strip_suffix(b"https").or_else(|| head.strip_suffix(b"http"))?;
        if !head.last().is_none_or(|b| b" \"'(=>,".contains(b)) {
            return None;
        }
        let end = at + self.host;
        let (after, new) = self.bases.iter().find_map(|base| {
            let (old, new) = &base[slashes as usize];
            // Asked first, because comparing with nothing at all costs a great deal: no memory lies behind an empty text.
            let there = old.is_empty() || text[end..].starts_with(old);
            there.then_some((end + old.len(), new))
        })?;
        let ends = match (&text[after..], slashes) {
            ([], _) | ([b' ' | b'<' | b'>' | b')' | b'?' | b'#' | b',', ..], _) => true,
            ([b'/' | b'"' | b'\'', ..] | [b'\\', b'"' | b'\'', ..], Slashes::Plain) => true,
            ([b'\\', b'\\', b'/', ..], Slashes::Escaped) => true,
            _ => false,
        };
        let span = head.len()..after;
        (ends && text[span.clone()] != new[..]).then_some((span, new))
    }
}
