//! INI files: sections in brackets, `key = value` or `key: value`, comments after `;` or `#` at the beginning of a line.
//!
//! Readers differ in what they do with quotes: PHP's own takes them off and undoes `\"` in double ones, others leave them. A value keeps the
//! quotes that it had; a bare one gets some only if it could not be read otherwise.

use super::format::Format;
use super::settings::{ConfigError, Expression, Literal, Setting, Settings, each_line};
use crate::edit::Edit;

/// The form. Names are `section.key`; keys before any section have no dot before them.
pub struct Ini;

impl Format for Ini {
    fn read(&self, text: &[u8], _: Option<&str>) -> Result<Settings, ConfigError> {
        let mut out = Settings::default();
        let mut section = String::new();
        each_line(text, |number, base, line| {
            let body = line.trim();
            if body.starts_with([';', '#']) || body.is_empty() {
                return;
            }
            if let Some(name) = body.strip_prefix('[').and_then(|b| b.split(']').next()) {
                section = name.trim().to_string();
                return;
            }
            let Some(at) = line.find(['=', ':']) else { return };
            let key = line[..at].trim();
            if key.is_empty() {
                return;
            }
            let rest = &line[at + 1..];
            let skipped = rest.len() - rest.trim_start().len();
            let (value, len) = value(rest[skipped..].trim_end());
            let span = base + at + 1 + skipped..base + at + 1 + skipped + len;
            let name = if section.is_empty() { key.to_string() } else { format!("{section}.{key}") };
            for earlier in out.settings.iter_mut().filter(|s| s.name == name) {
                earlier.shadowed = true;
            }
            out.literals.push(Literal { span: span.clone(), value: value.clone(), line: number });
            out.settings.push(Setting {
                name,
                value: Some(value),
                span,
                expression: Expression::Literal,
                line: number,
                shadowed: false,
                element: true,
            });
        });
        Ok(out)
    }

    fn quoted(&self, value: &str, old: &[u8]) -> String {
        let double = || format!("\"{}\"", value.replace('\\', "\\\\").replace('"', "\\\""));
        match old.first() {
            Some(b'"') => double(),
            Some(b'\'') if !value.contains('\'') => format!("'{value}'"),
            Some(b'\'') => double(),
            _ => {
                let odd = value.is_empty() && !old.is_empty()
                    || value != value.trim()
                    || value.contains([
                        ';', '#', '"', '\'', '\n', '=', '(', ')', '{', '}', '|', '&', '~', '!', '^', '\\',
                    ])
                    || matches!(
                        value.to_ascii_lowercase().as_str(),
                        "null" | "yes" | "no" | "on" | "off" | "none"
                    );
                if odd { double() } else { value.to_string() }
            }
        }
    }

    fn beside(&self, text: &[u8], neighbour: &Setting, name: &str, value: &str) -> Option<Edit> {
        let rest = &text[neighbour.span.end..];
        let line = memchr::memchr(b'\n', rest).unwrap_or(rest.len());
        let ends: &str = if rest[..line].ends_with(b"\r") { "\r\n" } else { "\n" };
        let end = neighbour.span.end + rest[..line].trim_ascii_end().len();
        Some(Edit::new(end..end, format!("{ends}{name} = {}", self.quoted(value, b""))))
    }
}

/// Reads a value: what it means and its length in the file.
fn value(text: &str) -> (String, usize) {
    if let Some(inside) = text.strip_prefix('"') {
        let mut out = String::new();
        let mut letters = inside.char_indices();
        while let Some((at, c)) = letters.next() {
            match c {
                '"' => return (out, at + 2),
                '\\' => match letters.next() {
                    Some((_, c @ ('"' | '\\'))) => out.push(c),
                    Some((_, c)) => out.extend(['\\', c]),
                    None => {}
                },
                c => out.push(c),
            }
        }
    }
    if let Some(end) = text.strip_prefix('\'').and_then(|inside| inside.find('\'')) {
        return (text[1..=end].to_string(), end + 2);
    }
    let bare = text.split(" ;").next().unwrap_or(text).trim_end();
    (bare.to_string(), bare.len())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_read_in_every_quoting_and_read_back() {
        let text = "; note\r\nbare = one ; note\r\n[database]\r\nhost=\"lo\\\"cal\"\r\nuser : 'it'\r\n# x = y\r\n[mail]\nhost = b\n";
        let file = Ini.read(text.as_bytes(), None).unwrap();
        assert_eq!(
            ["bare", "database.host", "database.user", "mail.host"].map(|n| file.value(n).unwrap()),
            ["one", "lo\"cal", "it", "b"]
        );
        for (value, old) in
            [("a;b", "x"), ("", "x"), ("it's", "'x'"), ("a\"b\\", "\"x\""), (" x ", ""), ("on", "x")]
        {
            let text = format!("k = {}", Ini.quoted(value, old.as_bytes()));
            assert_eq!(Ini.read(text.as_bytes(), None).unwrap().value("k"), Some(value), "{text}");
        }
    }
}
