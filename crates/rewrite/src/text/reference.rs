//! Root-relative references: `href="/shop/x"`, `url(/shop/x)`. They name no host, so they count only where the text says
//! that a reference stands there, and only where the base path changes.
//!
//! From a base path such as `/shop` the base is searched for and the reference recognised before it. From the bare root there
//! is nothing to search for but the places where references stand: attribute names and `url(`.

use super::judged::{Judged, LeftReason};
use super::spelling::Spelling;
use crate::edit::Edit;

/// An old base path and the new one; either may be empty, not both.
pub(super) struct ReferenceNeedle {
    pub(super) old: String,
    new: String,
}

/// HTML attributes that hold references, beside `data-…`.
const ATTRIBUTES: [&str; 5] = ["href", "src", "srcset", "action", "poster"];

impl ReferenceNeedle {
    pub(super) fn new(old: &str, new: &str) -> Self {
        ReferenceNeedle { old: old.to_string(), new: new.to_string() }
    }

    /// Returns what to search for: the last folder of the base, or names in any letter case.
    pub(super) fn cores(&self) -> Vec<Vec<u8>> {
        if self.old.is_empty() {
            let names = ["href", "src", "action", "poster", "data-", "url("];
            return names.map(|n| n.as_bytes().to_vec()).into();
        }
        // The last folder with its slash, which stands before it in plain and in escaped text alike.
        let last = self.old.rfind('/').unwrap_or(0);
        vec![self.old.as_bytes()[last..].to_vec()]
    }

    /// Moves a value that is a reference as a whole.
    pub(super) fn moved(&self, value: &str) -> Option<String> {
        let rest = value.strip_prefix(self.old.as_str())?;
        let ours = !value.starts_with("//")
            && (rest.is_empty() || rest.starts_with(['/', '?', '#']))
            && (value.starts_with('/') || rest.starts_with('/'));
        let slash = if self.new.is_empty() && !rest.starts_with('/') { "/" } else { "" };
        ours.then(|| format!("{}{slash}{rest}", self.new))
    }

    /// Says whether the change has to be asked for.
    fn on_request(&self) -> bool {
        self.old.is_empty() || self.new.is_empty()
    }
}

/// Says whether a root-relative reference may follow an attribute name or `url(` whose known part ends at `at`, whatever wraps
/// the text: signs and escapes, then one slash. Cheap, and never wrongly no.
pub(super) fn may_follow(text: &[u8], at: usize) -> bool {
    let rest = &text[at..];
    let name = rest.iter().take_while(|b| b.is_ascii_alphanumeric() || **b == b'-').count();
    let signs =
        rest[name..].iter().take_while(|b| matches!(b, b'=' | b'"' | b'\'' | b'\\' | b' ' | b'(')).count();
    match rest.get(name + signs) {
        Some(b'/') => {
            let behind = &rest[name + signs + 1..];
            let escapes = behind.iter().take_while(|b| **b == b'\\').count();
            behind.get(escapes) != Some(&b'/')
        }
        // An entity, a line break, the end of the text: to be looked at closely.
        Some(b) => !b.is_ascii_alphanumeric() && !matches!(b, b'.' | b'#' | b'?' | b'{' | b'<' | b'>'),
        None => true,
    }
}

/// Looks at the last folder of the old base path at `at`, its slash included.
pub(super) fn look(text: &[u8], at: usize, needle: &ReferenceNeedle, asked: bool) -> Option<Judged> {
    let last = needle.old.len() - needle.old.rfind('/').unwrap_or(0);
    let end = at + last;
    let (spelling, slash) = Spelling::of_separator_before(text, at + 1)?;
    let above = spelling.spell(&needle.old[..needle.old.len() - last]);
    let start = text[..slash].strip_suffix(&above[..])?.len();
    if spelling.continues_segment(text, end) {
        return None;
    }
    if !reference_begins(text, start) {
        // A value that is nothing but such a path, as of a menu: likely a link, and listed.
        return is_whole_path(text, start).then_some(Judged::Left { at, reason: LeftReason::RootRelative });
    }
    if needle.on_request() && !asked {
        return Some(Judged::Left { at, reason: LeftReason::RootRelative });
    }
    let goes_on = matches!(spelling.char_at(text, end), Some(('/', _)));
    let plain = if needle.new.is_empty() && !goes_on { "/" } else { &needle.new };
    Some(Judged::Change(Edit::new(start..end, spelling.spell(plain))))
}

/// Looks for a reference behind the attribute name or `url(` at `at`: its first item is moved below the new base.
pub(super) fn look_behind_name(
    text: &[u8],
    at: usize,
    needle: &ReferenceNeedle,
    asked: bool,
) -> Option<Judged> {
    let rest = &text[at..];
    let name = rest.iter().take_while(|b| b.is_ascii_alphanumeric() || **b == b'-').count();
    let mut from = at + name;
    match text.get(from)? {
        b'(' => from += 1,
        _ => {
            from += spaces(&text[from..]);
            if text.get(from) != Some(&b'=') {
                return None;
            }
            from += 1;
        }
    }
    from += spaces(&text[from..]);
    let escapes = text[from..].iter().take_while(|b| **b == b'\\').count();
    if matches!(text.get(from + escapes), Some(b'"' | b'\'')) {
        from += escapes + 1;
    }
    let escapes = text[from..].iter().take_while(|b| **b == b'\\').count();
    let slash = from + escapes;
    if text.get(slash) != Some(&b'/') || !reference_begins(text, from) {
        return None;
    }
    let spelling = if escapes == 0 { Spelling::Plain } else { Spelling::Backslashed(escapes) };
    if matches!(spelling.char_at(text, slash + 1), Some(('/', _))) {
        return None;
    }
    if !asked {
        return Some(Judged::Left { at, reason: LeftReason::RootRelative });
    }
    Some(Judged::Change(Edit::new(from..from, spelling.spell(&needle.new))))
}

/// Says whether a text is one path from its beginning to its end.
fn is_whole_path(text: &[u8], start: usize) -> bool {
    start == 0
        && text.len() < 2048
        && text
            .iter()
            .all(|b| b.is_ascii_alphanumeric() || *b >= 0x80 || b"/-._~%?&=#+:;,@!$*()\\".contains(b))
}

fn spaces(text: &[u8]) -> usize {
    text.iter().take_while(|b| b.is_ascii_whitespace()).count()
}

/// Says whether a reference may begin at `start`: behind `attribute=` and an opening quote, behind `url(`, or as a later item
/// of a `srcset`.
fn reference_begins(text: &[u8], start: usize) -> bool {
    let head = &text[..start];
    let unquoted = without_quote(head);
    if let Some(before) = strip_suffix_fold(unquoted.trim_ascii_end(), b"url(") {
        return before.last().is_none_or(|b| !b.is_ascii_alphanumeric() && *b != b'-');
    }
    if let Some(name) = attribute_before(unquoted) {
        return ATTRIBUTES.iter().any(|a| name.eq_ignore_ascii_case(a.as_bytes()))
            || (name.len() > 5 && name[..5].eq_ignore_ascii_case(b"data-"));
    }
    // `srcset="a.jpg 1x, /shop/b.jpg 2x"`
    let trimmed = head.trim_ascii_end();
    if trimmed.len() < head.len() && trimmed.last() == Some(&b',') {
        let from = trimmed.len().saturating_sub(4096);
        if let Some(quote) = trimmed[from..].iter().rposition(|b| matches!(b, b'"' | b'\'')) {
            let name = attribute_before(without_quote(&trimmed[..from + quote + 1]));
            return name.is_some_and(|n| n.eq_ignore_ascii_case(b"srcset"));
        }
    }
    false
}

/// Takes an opening quote with the backslashes before it, or its entity, off the end.
fn without_quote(head: &[u8]) -> &[u8] {
    for entity in [&b"&quot;"[..], b"&#34;", b"&#39;", b"&#039;", b"&#x22;", b"&apos;"] {
        if let Some(rest) = head.strip_suffix(entity) {
            return rest;
        }
    }
    match head {
        [rest @ .., b'"' | b'\''] => {
            let escapes = rest.iter().rev().take_while(|b| **b == b'\\').count();
            &rest[..rest.len() - escapes]
        }
        _ => head,
    }
}

/// Returns the attribute name before a `=` that ends the text.
fn attribute_before(head: &[u8]) -> Option<&[u8]> {
    let head = head.trim_ascii_end().strip_suffix(b"=")?.trim_ascii_end();
    let len = head.iter().rev().take_while(|b| b.is_ascii_alphanumeric() || **b == b'-').count();
    (len > 0).then(|| &head[head.len() - len..])
}

fn strip_suffix_fold<'t>(text: &'t [u8], suffix: &[u8]) -> Option<&'t [u8]> {
    let at = text.len().checked_sub(suffix.len())?;
    text[at..].eq_ignore_ascii_case(suffix).then(|| &text[..at])
}
