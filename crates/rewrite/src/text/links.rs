//! Links that stand under known keys of JSON or of a serialized array, such as `"url":"/shop/contact/"`.
//!
//! A path that is a whole string may be anything; what a definition declares as a link is one.

use super::json;
use super::serialized::{self, LeafKind};
use crate::edit::Edit;
use std::ops::Range;

/// A link that moves.
pub struct Link {
    /// The string with all that tells its length: whatever else would change in there does not.
    pub span: Range<usize>,
    /// What changes.
    pub edits: Vec<Edit>,
}

/// Finds the links of a value under any of the keys, at any depth. `moved` says how one reads at the new place, if it moves.
pub fn under_keys(value: &[u8], keys: &[String], moved: impl Fn(&str) -> Option<String>) -> Vec<Link> {
    let is_key = |name: &[u8]| keys.iter().any(|k| k.as_bytes() == name);
    if json::looks_json(value)
        && let Some(strings) = json::strings(value)
    {
        let pairs = strings.windows(2).filter(|pair| {
            // What stands between a key and the string that is its value.
            let between: Vec<u8> = value[pair[0].end..pair[1].start]
                .iter()
                .copied()
                .filter(|b| !b.is_ascii_whitespace())
                .collect();
            is_key(&value[pair[0].clone()]) && between == b"\":\""
        });
        let link = |pair: &[Range<usize>]| {
            let inside = pair[1].clone();
            let new = moved(std::str::from_utf8(&json::decode(value, inside.clone())?.bytes).ok()?)?;
            let new = json::encode(new.as_bytes(), &value[inside.clone()]);
            Some(Link { span: inside.clone(), edits: vec![Edit::new(inside, new)] })
        };
        return pairs.filter_map(link).collect();
    }
    let Some((leaves, _)) = serialized::leaves(value) else { return Vec::new() };
    let pairs = leaves.windows(2).filter(|pair| {
        let between = &value[pair[0].content.end..pair[1].digits.start];
        pair[1].kind == LeafKind::Plain && is_key(&value[pair[0].content.clone()]) && between == b"\";s:"
    });
    let link = |pair: &[serialized::Leaf]| {
        let (digits, content) = (pair[1].digits.clone(), pair[1].content.clone());
        let new = moved(std::str::from_utf8(&value[content.clone()]).ok()?)?;
        let span = digits.start..content.end;
        let edits = vec![Edit::new(digits, new.len().to_string()), Edit::new(content, new)];
        Some(Link { span, edits })
    };
    pairs.filter_map(link).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::edit;

    #[test]
    fn links_under_their_keys_move_and_nothing_else_does() {
        let moved = |text: &str| Some(format!("/new{}", text.strip_prefix("/old")?));
        let keys = ["url".to_string()];
        for (old, new) in [
            (
                r#"{"url" : "\/old\/a","title":"\/old\/a","sub":[{"url":"/old/b","n":1}],"x":"url"}"#,
                r#"{"url" : "\/new\/a","title":"\/old\/a","sub":[{"url":"/new/b","n":1}],"x":"url"}"#,
            ),
            (
                r#"a:2:{s:3:"url";s:6:"/old/a";s:1:"t";a:2:{s:3:"url";s:4:"/old";i:0;s:4:"/old";}}"#,
                r#"a:2:{s:3:"url";s:6:"/new/a";s:1:"t";a:2:{s:3:"url";s:4:"/new";i:0;s:4:"/old";}}"#,
            ),
            (r#"{"url":["/old/a"]}"#, r#"{"url":["/old/a"]}"#),
            ("url: /old/a", "url: /old/a"),
        ] {
            let edits: Vec<Edit> =
                under_keys(old.as_bytes(), &keys, moved).into_iter().flat_map(|l| l.edits).collect();
            assert_eq!(String::from_utf8_lossy(&edit::apply(old.as_bytes(), &edits)), new);
        }
    }
}
