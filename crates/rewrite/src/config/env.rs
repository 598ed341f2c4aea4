//! Environment files: `NAME=value`, one a line, as many frameworks read them.
//!
//! Quotes: single ones are literal, in double ones `\\`, `"` and `$` are escaped by a backslash; bare values end at ` #`. `${NAME}` stands for
//! what was set before.

use super::format::Format;
use super::settings::{ConfigError, Expression, Setting, Settings};
use super::shell::{Word, assignments, beside_line, expansion};
use crate::edit::Edit;

/// The form.
pub struct Env;

impl Format for Env {
    /// A later line of the same name counts.
    fn read(&self, text: &[u8], _: Option<&str>) -> Result<Settings, ConfigError> {
        Ok(assignments(text, word))
    }

    fn quoted(&self, value: &str, old: &[u8]) -> String {
        let bare = !old.is_empty() && !old.starts_with(b"'") && !old.starts_with(b"\"");
        let plain = |c: char| c.is_ascii_alphanumeric() || "_-./:@,+".contains(c);
        // What stood there without quotes stays so, where every reader takes it as it is.
        if bare && !value.is_empty() && value.chars().all(plain) {
            return value.to_string();
        }
        if !value.contains(['\'', '\n']) {
            return format!("'{value}'");
        }
        let mut out = String::from('"');
        for c in value.chars() {
            match c {
                '\\' | '"' | '$' => out.extend(['\\', c]),
                '\n' => out.push_str("\\n"),
                c => out.push(c),
            }
        }
        out.push('"');
        out
    }

    fn beside(&self, text: &[u8], neighbour: &Setting, name: &str, value: &str) -> Option<Edit> {
        beside_line(text, neighbour, name, &self.quoted(value, b""))
    }

    /// A value may be made of others.
    fn changes_stay_put(&self) -> bool {
        false
    }
}

/// Reads a value.
fn word(text: &str, known: &dyn Fn(&str) -> Option<String>) -> Word {
    if let Some(inside) = text.strip_prefix('\'')
        && let Some(end) = inside.find('\'')
    {
        let value = Some(inside[..end].to_string());
        return Word { value, len: end + 2, expression: Expression::Literal };
    }
    let (raw, len, quoted) = match text.strip_prefix('"').and_then(closed) {
        Some(end) => (&text[1..=end], end + 2, true),
        None => {
            let bare = text.split(" #").next().unwrap_or(text).trim_end();
            (bare, bare.len(), false)
        }
    };
    let mut value = Some(String::new());
    let mut expression = Expression::Literal;
    let mut at = 0;
    while let Some(c) = raw[at..].chars().next() {
        at += c.len_utf8();
        let rest = &raw[at..];
        let piece = match c {
            '\\' if quoted => {
                let next = rest.chars().next().unwrap_or('\\');
                at += next.len_utf8().min(rest.len());
                Some(if next == 'n' { "\n".into() } else { next.to_string() })
            }
            '$' => match expansion(rest, known) {
                Some((piece, len)) => {
                    at += len;
                    expression = Expression::Computed { moves: false };
                    piece
                }
                None => Some("$".into()),
            },
            c => Some(c.to_string()),
        };
        value = value.zip(piece).map(|(value, piece)| value + &piece);
    }
    let expression = if value.is_none() { Expression::Unknown } else { expression };
    Word { value, len, expression }
}

/// Returns where a double quote closes.
fn closed(inside: &str) -> Option<usize> {
    let mut escaped = false;
    inside.char_indices().find_map(|(at, c)| {
        let ends = c == '"' && !escaped;
        escaped = c == '\\' && !escaped;
        ends.then_some(at)
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_read_in_every_quoting_and_read_back() {
        let parse = |text: &str| Env.read(text.as_bytes(), None).unwrap();
        let file = parse(
            "# DB_NAME=no\r\nexport DB_NAME='one'\nDB_USER=two # note\nDB_PASSWORD=\"a\\\"b\\$c\"\nURL=\"${HOME}/x\"\nDB_USER = three\nHOST=old.example\nLINK=https://${HOST}/x\nOTHER=${NONE:-y}\n",
        );
        assert_eq!(
            ["DB_NAME", "DB_USER", "DB_PASSWORD", "URL", "LINK", "OTHER"].map(|n| file.value(n)),
            [Some("one"), Some("three"), Some("a\"b$c"), None, Some("https://old.example/x"), Some("y")]
        );
        for value in ["", "plain", "it's", "a\\b $x \"q\" it's", "# x"] {
            for old in ["", "bare", "'q'"] {
                assert_eq!(
                    parse(&format!("K={}", Env.quoted(value, old.as_bytes()))).value("K"),
                    Some(value)
                );
            }
        }
    }
}
