//! Recomputes the lengths of serialized text that somebody changed without counting, where only one reading is possible.
//!
//! A length that fits (quote and semicolon behind it, and something that may follow) is trusted. Where one does not fit, every
//! `";` that may end the string is tried. The value is repaired if exactly one choice of ends makes the whole value read
//! strictly, with every count of elements right; two or none, or too many to try, and it stays as it is.

use super::serialized::{Leaf, LeafKind};
use std::ops::Range;

/// Choices looked at before the search is given up.
const MOST_STEPS: usize = 20_000;

#[derive(Clone)]
struct Open {
    keys: bool,
    left: u64,
}

#[derive(Clone)]
struct State {
    at: usize,
    open: Vec<Open>,
    leaves: Vec<Leaf>,
}

/// Returns the strings of a broken value in the only reading that fits. Their `digits` still hold the wrong lengths.
pub(super) fn only_reading(text: &[u8]) -> Option<Vec<Leaf>> {
    let lead = text.len() - text.trim_ascii_start().len();
    let mut pending = vec![State { at: lead, open: Vec::new(), leaves: Vec::new() }];
    let mut found: Option<Vec<Leaf>> = None;
    let mut steps = 0;
    while let Some(mut state) = pending.pop() {
        loop {
            steps += 1;
            if steps > MOST_STEPS {
                return None;
            }
            // Containers that are complete close.
            while state.open.last().is_some_and(|o| o.left == 0) {
                if text.get(state.at) != Some(&b'}') {
                    break;
                }
                state.at += 1;
                state.open.pop();
            }
            if state.open.last().is_some_and(|o| o.left == 0) {
                break;
            }
            if state.open.is_empty() && state.at > lead {
                if !text[state.at..].trim_ascii().is_empty() {
                    break;
                }
                if found.is_some() {
                    return None;
                }
                found = Some(state.leaves);
                break;
            }
            let key = state.open.last().is_some_and(|o| o.keys && o.left.is_multiple_of(2));
            if let Some(top) = state.open.last_mut() {
                top.left -= 1;
            }
            match step(text, &mut state, key) {
                Some(Step::On) => {}
                Some(Step::Ends(leaf, ends)) => {
                    // The first choice is followed at once, the others wait.
                    for end in ends.into_iter().rev() {
                        let mut other = state.clone();
                        other.leaves.push(Leaf { content: leaf.start..end, ..leaf.leaf.clone() });
                        other.at = end + 2;
                        pending.push(other);
                    }
                    break;
                }
                None => break,
            }
        }
    }
    found
}

struct Broken {
    leaf: Leaf,
    start: usize,
}

enum Step {
    On,
    Ends(Broken, Vec<usize>),
}

/// Reads one scalar or head. Returns the possible ends where a string's length does not fit.
fn step(text: &[u8], state: &mut State, key: bool) -> Option<Step> {
    let rest = text.get(state.at..)?;
    let kind = *rest.first()?;
    if key && !matches!(kind, b'i' | b's' | b'S') {
        return None;
    }
    if kind == b'N' {
        rest.starts_with(b"N;").then(|| state.at += 2)?;
        return Some(Step::On);
    }
    if rest.get(1) != Some(&b':') {
        return None;
    }
    match kind {
        b'b' | b'i' | b'd' | b'r' | b'R' => {
            let len = rest.iter().take(64).position(|b| *b == b';')?;
            let number = rest[2..len].iter().all(|b| b.is_ascii_alphanumeric() || b"+-.".contains(b));
            (number && len > 2).then(|| state.at += len + 1)?;
        }
        b's' | b'S' => {
            let (digits, len) = number(text, state.at + 2)?;
            let start = digits.end + 2;
            text.get(digits.end..start).filter(|t| *t == b":\"")?;
            let kind = if kind == b's' { LeafKind::Plain } else { LeafKind::Escaped };
            let last = state.open.is_empty();
            let ends_at =
                |end: usize| text.get(end..end + 2) == Some(b"\";") && follows(&text[end + 2..], last);
            let leaf = Leaf { kind, content: start..start, digits };
            if kind == LeafKind::Plain
                && let Some(end) = start.checked_add(len).filter(|e| ends_at(*e))
            {
                state.leaves.push(Leaf { content: start..end, ..leaf });
                state.at = end + 2;
                return Some(Step::On);
            }
            let ends: Vec<usize> = memchr::memmem::find_iter(&text[start..], b"\";")
                .map(|i| start + i)
                .filter(|end| ends_at(*end))
                .take(MOST_STEPS)
                .collect();
            return Some(Step::Ends(Broken { leaf, start }, ends));
        }
        b'a' => {
            let (digits, count) = number(text, state.at + 2)?;
            text.get(digits.end..digits.end + 2).filter(|t| *t == b":{")?;
            state.at = digits.end + 2;
            state.open.push(Open { keys: true, left: (count as u64).checked_mul(2)? });
        }
        b'O' => {
            let (digits, len) = number(text, state.at + 2)?;
            let name = digits.end + 2;
            let close = name.checked_add(len)?;
            (text.get(digits.end..name) == Some(b":\"") && text.get(close..close + 2) == Some(b"\":"))
                .then_some(())?;
            let (digits, count) = number(text, close + 2)?;
            text.get(digits.end..digits.end + 2).filter(|t| *t == b":{")?;
            state.at = digits.end + 2;
            state.open.push(Open { keys: true, left: (count as u64).checked_mul(2)? });
        }
        // What else there is counts in ways of its own.
        _ => return None,
    }
    Some(Step::On)
}

/// Says whether something may follow a string: a value, a closing brace, or the end.
fn follows(rest: &[u8], last: bool) -> bool {
    match rest {
        [] => last,
        [b'}', ..] | [b'N', b';', ..] => true,
        [kind, b':', ..] => b"abidsSOCErR".contains(kind),
        _ => last && rest.trim_ascii().is_empty(),
    }
}

fn number(text: &[u8], at: usize) -> Option<(Range<usize>, usize)> {
    let len = text.get(at..)?.iter().take(11).take_while(|b| b.is_ascii_digit()).count();
    let value = std::str::from_utf8(&text[at..at + len]).ok()?.parse().ok()?;
    Some((at..at + len, value))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_reading_is_taken_and_two_are_not() {
        let read = |t: &str| {
            only_reading(t.as_bytes())
                .map(|l| l.iter().map(|l| t[l.content.clone()].to_string()).collect::<Vec<_>>())
        };
        let words = |w: &[&str]| Some(w.iter().map(|w| w.to_string()).collect::<Vec<_>>());
        assert_eq!(
            read(r#"a:2:{s:1:"k";s:99:"a "quoted"; word";i:0;i:5;}"#),
            words(&["k", "a \"quoted\"; word"])
        );
        assert_eq!(read(r#"O:8:"stdClass":1:{s:2:"url";s:3:"longer";}"#), words(&["url", "longer"]));
        assert_eq!(read(r#"a:2:{i:0;s:9:"x";i:1;s:1:"y";}"#), words(&["x", "y"]));
        // The string may end at either place, each time with one element.
        assert_eq!(read(r#"a:2:{i:0;s:9:"x";i:1;s:9:"y";i:1;s:9:"z";}"#), None);
        assert_eq!(read(r#"a:1:{i:0;s:50:"x";}";}"#), words(&["x\";}"]));
        assert_eq!(read(r#"a:3:{i:0;s:9:"x";}"#), None);
        assert_eq!(read(r#"a:1:{i:0;s:9:"x"#), None);
        let many = format!("a:1:{{i:0;s:1:\"{}", "\";i:0;".repeat(30_000));
        assert_eq!(only_reading(many.as_bytes()).map(|l| l.len()), None);
    }
}
