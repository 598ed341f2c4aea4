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
            // RewriteOptions first, because comparing with nothing at all costs a great deal: no memory lies behind an empty text.
            let there = old.is_empty() || text[end..].starts_with(old);
            there.then_some((end + old.len(), new))
        })?;
        let ends = matches!(
            (&text[after..], slashes),
            ([] | [b' ' | b'<' | b'>' | b')' | b'?' | b'#' | b',', ..], _)
                | ([b'/' | b'"' | b'\'', ..] | [b'\\', b'"' | b'\'', ..], Slashes::Plain)
                | ([b'\\', b'\\', b'/', ..], Slashes::Escaped)
        );
        let span = head.len()..after;
        (ends && text[span.clone()] != new[..]).then_some((span, new))
    }
}

#[cfg(test)]
mod tests {
    use crate::place::{Address, Pairs};
    use crate::text::common_form::Slashes;
    use crate::text::replacements::{Judged, Replacements};

    fn replacements(old: &str) -> Replacements {
        let address = |t: &str| Address::parse(t).unwrap();
        Replacements::new(
            &Pairs { addresses: vec![(address(old), address("https://new.example/n"))], roots: vec![] },
            &[],
        )
    }

    #[test]
    fn what_is_usual_and_what_is_left_to_the_rule() {
        for (old, text, slashes, usual) in [
            ("http://old.example", "http://old.example", Slashes::Plain, true),
            ("http://old.example", "\"https://OLD.example/x\"", Slashes::Plain, true),
            ("http://old.example/s", "(http://old.example/s)", Slashes::Plain, true),
            ("http://old.example/s", "'http://old.example/s\\'", Slashes::Plain, true),
            ("http://old.example/s", "http:\\\\/\\\\/old.example\\\\/s\\\\/x", Slashes::Escaped, true),
            // Another page, another port, another host, another letter case, another scheme, another base, another spelling.
            ("http://old.example/s", "http://old.example/shop", Slashes::Plain, false),
            ("http://old.example", "http://old.example:80/", Slashes::Plain, false),
            ("http://old.example", "http://old.example.org", Slashes::Plain, false),
            ("http://old.example", "http://old.example.", Slashes::Plain, false),
            ("http://old.example", "HTTP://old.example", Slashes::Plain, false),
            ("http://old.example", "xhttp://old.example", Slashes::Plain, false),
            ("http://old.example", "//old.example", Slashes::Plain, false),
            ("http://old.example/s", "http://old.example/x", Slashes::Plain, false),
            ("http://old.example/s", "http:\\/\\/old.example\\/s", Slashes::Plain, false),
            ("http://old.example:81", "http://old.example:81/", Slashes::Plain, false),
        ] {
            let replacements = replacements(old);
            let hit = replacements.scan().hits(text.as_bytes())[0];
            let found =
                replacements.usual(text.as_bytes(), hit, slashes).map(|(span, new)| (span, new.to_vec()));
            assert_eq!(found.is_some(), usual, "{text}");
            let told = replacements.findings(text.as_bytes());
            if let Some((span, new)) = found.filter(|_| slashes == Slashes::Plain) {
                assert!(
                    matches!(&told[..], [Judged::Change(e)] if e.span == span && e.new[..] == new[..]),
                    "{told:?}"
                );
            }
        }
    }
}
