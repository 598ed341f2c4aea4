//! The simple part of YAML that parameter files use: nested maps of scalars, two spaces or more a level.
//!
//! What is more than that (lists, anchors, blocks of text) is passed over and stays as it is. A full reader would tell values, but not
//! where they stand, and writing the file anew would lose its comments.

use super::depth::too_deep;
use super::format::Format;
use super::settings::{ConfigError, Expression, Literal, Setting, Settings, each_line};
use crate::edit::Edit;
use saphyr::{LoadableYamlNode, Scalar, Yaml};
use std::collections::BTreeMap;

/// The form. Names are the keys' way from the top, joined by dots.
pub struct YamlFile;

impl Format for YamlFile {
    fn read(&self, text: &[u8], _: Option<&str>) -> Result<Settings, ConfigError> {
        Ok(parse(text))
    }

    fn quoted(&self, value: &str, _: &[u8]) -> String {
        quoted(value)
    }

    fn beside(&self, text: &[u8], neighbour: &Setting, name: &str, value: &str) -> Option<Edit> {
        let start = memchr::memrchr(b'\n', &text[..neighbour.span.start]).map_or(0, |i| i + 1);
        let indent = text[start..].iter().take_while(|b| **b == b' ').count();
        let rest = &text[neighbour.span.end..];
        let end = neighbour.span.end + memchr::memchr(b'\n', rest).unwrap_or(rest.len());
        let end = if text[..end].ends_with(b"\r") { end - 1 } else { end };
        let ends = if text[end..].starts_with(b"\r") { "\r\n" } else { "\n" };
        Some(Edit::new(end..end, format!("{ends}{}{name}: {}", " ".repeat(indent), quoted(value))))
    }

    /// By a full reader: this one knows a part of the language.
    fn verify(&self, before: &[u8], after: &[u8], expected: &[(String, String)]) -> Result<(), String> {
        verify(before, after, expected)
    }
}

/// Reads a file.
fn parse(text: &[u8]) -> Settings {
    let mut out = Settings::default();
    let mut above: Vec<(usize, String)> = Vec::new();
    each_line(text, |number, base, line| {
        let body = line.trim_start();
        if body.is_empty() || body.starts_with(['#', '-']) {
            return;
        }
        let indent = line.len() - body.len();
        let Some(colon) = body.find(": ").or_else(|| body.ends_with(':').then(|| body.len() - 1)) else {
            return;
        };
        let key = body[..colon].trim_matches(['\'', '"']);
        above.retain(|(level, _)| *level < indent);
        let name: Vec<&str> = above.iter().map(|(_, k)| k.as_str()).chain([key]).collect();
        let name = name.join(".");
        let rest = &body[colon + 1..];
        let skipped = rest.len() - rest.trim_start().len();
        let Some((value, len)) = scalar(&rest[skipped..]) else {
            above.push((indent, key.to_string()));
            return;
        };
        let at = base + indent + colon + 1 + skipped;
        out.literals.push(Literal { span: at..at + len, value: value.clone(), line: number });
        out.settings.push(Setting {
            name,
            value: Some(value),
            span: at..at + len,
            expression: Expression::Literal,
            line: number,
            shadowed: false,
            element: true,
        });
    });
    out
}

/// Reads a scalar: what it means and its length. Nothing if a map, a list or a block follows.
fn scalar(text: &str) -> Option<(String, usize)> {
    if text.is_empty() || text.starts_with(['#', '|', '>', '{', '[', '&', '*']) {
        return None;
    }
    if let Some(inside) = text.strip_prefix('\'') {
        let mut out = String::new();
        let mut chars = inside.char_indices().peekable();
        while let Some((at, c)) = chars.next() {
            match (c, chars.peek()) {
                ('\'', Some((_, '\''))) => {
                    out.push('\'');
                    chars.next();
                }
                ('\'', _) => return Some((out, at + 2)),
                (c, _) => out.push(c),
            }
        }
        return None;
    }
    if let Some(inside) = text.strip_prefix('"') {
        let end = inside.find('"').filter(|e| !inside[..*e].contains('\\'))?;
        return Some((inside[..end].to_string(), end + 2));
    }
    let bare = text.split(" #").next().unwrap_or(text).trim_end();
    let value = if matches!(bare, "null" | "~" | "Null" | "NULL") { "" } else { bare };
    Some((value.to_string(), bare.len()))
}

/// Reads an edited file and what it was before with a full reader, and says what is wrong: each of the `expected` values must stand where
/// it should, and every other one as before.
fn verify(before: &[u8], after: &[u8], expected: &[(String, String)]) -> Result<(), String> {
    if serde_json::from_slice::<serde_json::Value>(before).is_ok_and(|v| v.is_object() || v.is_array()) {
        return Err("it is JSON, not YAML".into());
    }
    let read = |text: &[u8]| {
        too_deep(text, true).map_or(Ok(()), Err)?;
        // Each may stand for all that holds the ones before it.
        let aliases =
            text.windows(3).filter(|w| matches!(w[0], b' ' | b'[' | b',') && w[1] == b'*' && w[2] > b' ');
        if aliases.count() > MOST_ALIASES {
            return Err("it refers to parts of itself too often".to_string());
        }
        let text = std::str::from_utf8(text).map_err(|_| "it is not UTF-8".to_string())?;
        let documents = Yaml::load_from_str(text).map_err(|e| format!("it is no YAML: {e}"))?;
        let mut leaves = BTreeMap::new();
        for document in &documents {
            leaves_of(document, String::new(), &mut leaves);
        }
        Ok::<_, String>(leaves)
    };
    let (before, after) = (read(before)?, read(after)?);
    for (name, value) in expected {
        if after.get(name) != Some(value) {
            return Err(format!("`{name}` would not read as it should"));
        }
    }
    let same = |name: &String| expected.iter().any(|(n, _)| n == name) || before.get(name) == after.get(name);
    match before.keys().chain(after.keys()).find(|name| !same(name)) {
        Some(name) => Err(format!("`{name}` would change as well")),
        None => Ok(()),
    }
}

/// References of a document to parts of itself.
const MOST_ALIASES: usize = 20;

/// Collects the scalars of a document by their way from the top.
fn leaves_of(node: &Yaml<'_>, way: String, out: &mut BTreeMap<String, String>) {
    let below = |name: &str| if way.is_empty() { name.to_string() } else { format!("{way}.{name}") };
    match node {
        Yaml::Mapping(map) => {
            for (key, value) in map {
                leaves_of(value, below(&word(key)), out);
            }
        }
        Yaml::Sequence(items) => {
            for (i, value) in items.iter().enumerate() {
                leaves_of(value, below(&i.to_string()), out);
            }
        }
        Yaml::Tagged(_, inner) => leaves_of(inner, way, out),
        other => drop(out.insert(way, word(other))),
    }
}

fn word(scalar: &Yaml<'_>) -> String {
    match scalar {
        Yaml::Value(Scalar::String(text)) => text.to_string(),
        Yaml::Value(Scalar::Integer(n)) => n.to_string(),
        Yaml::Value(Scalar::Boolean(b)) => b.to_string(),
        Yaml::Value(Scalar::FloatingPoint(n)) => n.to_string(),
        Yaml::Value(Scalar::Null) => String::new(),
        Yaml::Representation(text, ..) => text.to_string(),
        other => format!("{other:?}"),
    }
}

/// Spells a value.
fn quoted(value: &str) -> String {
    format!("'{}'", value.replace('\'', "''"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nested_scalars_are_found_and_read_back() {
        let text = "# made by the shop\nparameters:\n    database_host: localhost\n    database_port: ''\n    pass: 'it''s' # note\n    mail: null\n    list:\n        - a: b\n\
            services:\n    session: { a: b }\n    deep:\n        domain: \".x.example\"\n";
        let file = parse(text.as_bytes());
        let value = |n: &str| file.value(n);
        assert_eq!(
            [value("parameters.database_host"), value("parameters.database_port"), value("parameters.pass")],
            [Some("localhost"), Some(""), Some("it's")]
        );
        assert_eq!([value("parameters.mail"), value("services.deep.domain")], [Some(""), Some(".x.example")]);
        assert_eq!(&text[file.setting("parameters.pass").unwrap().span.clone()], "'it''s'");
        for text in ["", "it's", "a: b # c", "\\"] {
            assert_eq!(parse(format!("k: {}", quoted(text)).as_bytes()).value("k"), Some(text));
        }
    }
}
