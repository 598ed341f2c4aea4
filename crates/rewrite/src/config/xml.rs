//! XML config files: every attribute is a setting, named by the elements around it.
//!
//! `configuration/connectionStrings/add name="Main" connectionString="…"` becomes `connectionStrings/add[Main]/@connectionString`: the
//! outermost element is left out, and an element that carries a `name` or `key` is told by it. A library's reader locates; spans come
//! from where its slices lie in the text.

use super::format::Format;
use super::settings::{ConfigError, Expression, Literal, Setting, Settings, line_of};
use quick_xml::Reader;
use quick_xml::events::{BytesStart, Event};

/// The form. Names are the elements' way from the top and the attribute: `a/b[name]/@attribute`.
pub struct Xml;

impl Format for Xml {
    fn read(&self, text: &[u8], _: Option<&str>) -> Result<Settings, ConfigError> {
        parse(text)
    }

    fn quoted(&self, value: &str, _: &[u8]) -> String {
        escaped(value)
    }

    fn mask(&self, word: &str) -> String {
        word.to_string()
    }
}

/// Reads a file in UTF-8.
fn parse(text: &[u8]) -> Result<Settings, ConfigError> {
    let unreadable = |why: String| ConfigError::Unreadable(why);
    let source = std::str::from_utf8(text).map_err(|e| unreadable(e.to_string()))?;
    let mut reader = Reader::from_str(source);
    let mut out = Settings::default();
    let mut above: Vec<String> = Vec::new();
    loop {
        match reader.read_event().map_err(|e| unreadable(e.to_string()))? {
            Event::Start(element) => {
                let name = attributes(text, &element, &above, &mut out)?;
                above.push(name);
                if above.len() > 2 * super::depth::MOST {
                    return Err(unreadable(format!(
                        "it nests more than {} levels deep",
                        2 * super::depth::MOST
                    )));
                }
            }
            Event::Empty(element) => {
                attributes(text, &element, &above, &mut out)?;
            }
            Event::End(_) => {
                above.pop();
            }
            Event::Eof => return Ok(out),
            _ => {}
        }
    }
}

/// Notes the attributes of an element and returns its name.
fn attributes(
    text: &[u8],
    element: &BytesStart<'_>,
    above: &[String],
    out: &mut Settings,
) -> Result<String, ConfigError> {
    let unreadable = |why: String| ConfigError::Unreadable(why);
    let mut name = element.local_name().as_ref().to_string();
    let mut found = Vec::new();
    for attribute in element.attributes() {
        let attribute = attribute.map_err(|e| unreadable(e.to_string()))?;
        let key = attribute.key.as_ref().to_string();
        let raw: &str = &attribute.value;
        // The reader's slices lie in the text itself.
        let Some(at) = (raw.as_ptr() as usize).checked_sub(text.as_ptr() as usize) else { continue };
        let span = at..at + raw.len();
        if text.get(span.clone()) != Some(raw.as_bytes()) {
            continue;
        }
        let value = quick_xml::escape::unescape(raw).map_err(|e| unreadable(e.to_string()))?.into_owned();
        found.push((key, span, value));
    }
    let told =
        found.iter().find(|(key, _, _)| key == "name" || key == "key").map(|(_, _, value)| value.clone());
    if let Some(told) = told {
        name = format!("{name}[{told}]");
    }
    let path: Vec<&str> = above.iter().skip(1).map(String::as_str).chain(Some(name.as_str())).collect();
    let path = if above.is_empty() { String::new() } else { path.join("/") + "/" };
    for (key, span, value) in found {
        let line = line_of(text, span.start);
        out.literals.push(Literal { span: span.clone(), value: value.clone(), line });
        out.settings.push(Setting {
            name: format!("{path}@{key}"),
            value: Some(value),
            span,
            expression: Expression::Literal,
            line,
            shadowed: false,
            element: false,
        });
    }
    Ok(name)
}

/// Spells a value for an attribute in any quotes.
fn escaped(value: &str) -> String {
    let mut out = String::with_capacity(value.len());
    for c in value.chars() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            '\'' => out.push_str("&apos;"),
            '\n' => out.push_str("&#10;"),
            '\r' => out.push_str("&#13;"),
            '\t' => out.push_str("&#9;"),
            c => out.push(c),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn attributes_are_named_by_their_way_and_located() {
        let text = "\u{feff}<?xml version=\"1.0\"?>\r\n<configuration>\r\n <connectionStrings>\r\n  <!-- <add name=\"Main\" connectionString=\"no\"/> -->\r\n  \
            <add name=\"Main\" connectionString='Password=a&amp;b' />\r\n </connectionStrings>\r\n <web><key value=\"x\" /></web>\r\n</configuration>\r\n";
        let file = parse(text.as_bytes()).unwrap();
        let setting = file.setting("connectionStrings/add[Main]/@connectionString").unwrap();
        assert_eq!((setting.value.as_deref(), setting.line), (Some("Password=a&b"), 5));
        assert_eq!(&text[setting.span.clone()], "Password=a&amp;b");
        assert_eq!(file.value("web/key/@value"), Some("x"));
        for value in ["", "a&b<c>\"d\"'e'", "ü\n"] {
            let text = format!("<c><a v=\"{}\"/></c>", escaped(value));
            assert_eq!(parse(text.as_bytes()).unwrap().value("a/@v"), Some(value));
        }
        assert!(parse(b"<a><b></a>").is_err());
    }
}
