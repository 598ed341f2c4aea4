//! JSON, with the comments and trailing commas that some readers allow. A parser locates the values; nothing else moves.

use super::depth::too_deep;
use super::format::Format;
use super::settings::{ConfigError, Expression, Literal, Setting, Settings, line_of};
use crate::edit::Edit;
use jsonc_parser::ast::{ObjectPropName, Value};
use jsonc_parser::common::Ranged;
use jsonc_parser::{CollectOptions, ParseOptions, parse_to_ast};

/// The form. Names are the keys' way from the top, joined by dots; items of lists are numbers.
pub struct Json;

impl Format for Json {
    fn read(&self, text: &[u8], _: Option<&str>) -> Result<Settings, ConfigError> {
        let unreadable = |why: String| ConfigError::Unreadable(why);
        let words = std::str::from_utf8(text).map_err(|_| unreadable("it is not UTF-8".into()))?;
        too_deep(text, false).map_or(Ok(()), |why| Err(unreadable(why)))?;
        let parsed = parse_to_ast(words, &CollectOptions::default(), &ParseOptions::default())
            .map_err(|e| unreadable(e.to_string()))?;
        let top = parsed.value.ok_or_else(|| unreadable("it is empty".into()))?;
        let mut out = Settings::default();
        // Without recursion: files may nest at will.
        let mut todo = vec![(String::new(), top)];
        while let Some((way, value)) = todo.pop() {
            let below = |name: &str| if way.is_empty() { name.to_string() } else { format!("{way}.{name}") };
            match value {
                Value::Object(object) => {
                    for property in object.properties.into_iter().rev() {
                        let name = match &property.name {
                            ObjectPropName::String(name) => name.value.to_string(),
                            ObjectPropName::Word(name) => name.value.to_string(),
                        };
                        todo.push((below(&name), property.value));
                    }
                }
                Value::Array(array) => {
                    for (i, item) in array.elements.into_iter().enumerate().rev() {
                        todo.push((below(&i.to_string()), item));
                    }
                }
                leaf => note(&mut out, text, way, &leaf),
            }
        }
        Ok(out)
    }

    fn quoted(&self, value: &str, _: &[u8]) -> String {
        serde_json::Value::from(value).to_string()
    }

    fn flag_value(&self, on: bool) -> &'static str {
        if on { "1" } else { "" }
    }

    fn beside(&self, _: &[u8], neighbour: &Setting, name: &str, value: &str) -> Option<Edit> {
        let end = neighbour.span.end;
        Some(Edit::new(end..end, format!(", {}: {}", self.quoted(name, b""), self.quoted(value, b""))))
    }

    fn mask(&self, word: &str) -> String {
        format!("\"{word}\"")
    }
}

fn note(out: &mut Settings, text: &[u8], name: String, leaf: &Value<'_>) {
    let value = match leaf {
        Value::StringLit(text) => text.value.to_string(),
        Value::NumberLit(number) => number.value.to_string(),
        Value::BooleanLit(flag) => if flag.value { "1" } else { "" }.to_string(),
        _ => String::new(),
    };
    let span = leaf.range().start..leaf.range().end;
    let line = line_of(text, span.start);
    if matches!(leaf, Value::StringLit(_)) {
        out.literals.push(Literal { span: span.clone(), value: value.clone(), line });
    }
    for earlier in out.settings.iter_mut().filter(|s| s.name == name) {
        earlier.shadowed = true;
    }
    let element = !name.rsplit('.').next().is_some_and(|n| n.bytes().all(|b| b.is_ascii_digit()));
    out.settings.push(Setting {
        name,
        value: Some(value),
        span,
        expression: Expression::Literal,
        line,
        shadowed: false,
        element,
    });
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_found_between_comments_and_trailing_commas() {
        let text = "{\n  // who answers\n  \"url\": \"http:\\/\\/old.example\\u002fb\",\n  \"database\": {\"port\": 3306, \"on\": true, \"pass\": \"a\\\"b\",},\n  /* all */ \"hosts\": [\"old.example\", null,],\n}\n";
        let file = Json.read(text.as_bytes(), None).unwrap();
        let values = ["url", "database.port", "database.on", "database.pass", "hosts.0", "hosts.1"];
        let read: Vec<_> = values.iter().map(|n| file.value(n).unwrap()).collect();
        assert_eq!(read, ["http://old.example/b", "3306", "1", "a\"b", "old.example", ""]);
        assert_eq!(file.setting("database.port").unwrap().line, 4);
        for value in ["", "a\"b\\c", "\n\t\u{1}", "ü €"] {
            let text = format!("{{\"k\": {}}}", Json.quoted(value, b""));
            assert_eq!(Json.read(text.as_bytes(), None).unwrap().value("k"), Some(value));
        }
        assert!(Json.read(b"{\"a\": }", None).is_err() && Json.read(b"", None).is_err());
    }
}
