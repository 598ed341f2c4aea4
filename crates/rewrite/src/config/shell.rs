//! Files that a shell reads: `NAME=value`, `export NAME=value`, in the quoting of a POSIX shell. Source: POSIX, "Shell Command Language",
//! 2.2 Quoting.

use super::format::Format;
use super::settings::{ConfigError, Expression, Literal, Setting, Settings, each_line};
use crate::edit::Edit;
use std::collections::HashMap;

/// The form.
pub struct Shell;

impl Format for Shell {
    fn read(&self, text: &[u8], _: Option<&str>) -> Result<Settings, ConfigError> {
        Ok(assignments(text, word))
    }

    fn quoted(&self, value: &str, _: &[u8]) -> String {
        format!("'{}'", value.replace('\'', r"'\''"))
    }

    fn beside(&self, text: &[u8], neighbour: &Setting, name: &str, value: &str) -> Option<Edit> {
        beside_line(text, neighbour, name, &self.quoted(value, b""))
    }

    /// A value may be made of others.
    fn changes_stay_put(&self) -> bool {
        false
    }
}

/// Puts a line with an assignment behind the one of a setting, exported if that is.
pub(super) fn beside_line(text: &[u8], neighbour: &Setting, name: &str, value: &str) -> Option<Edit> {
    let start = memchr::memrchr(b'\n', &text[..neighbour.span.start]).map_or(0, |i| i + 1);
    let export = if text[start..].trim_ascii_start().starts_with(b"export ") { "export " } else { "" };
    let rest = &text[neighbour.span.end..];
    let end = neighbour.span.end + memchr::memchr(b'\n', rest).unwrap_or(rest.len());
    let end = if text[..end].ends_with(b"\r") { end - 1 } else { end };
    let ends = if text[end..].starts_with(b"\r") { "\r\n" } else { "\n" };
    Some(Edit::new(end..end, format!("{ends}{export}{name}={value}")))
}

/// A value as its reader takes it: what it means, its length, and how it is made.
pub(super) struct Word {
    /// What it means, if that is known.
    pub value: Option<String>,
    /// Bytes that it takes.
    pub len: usize,
    /// How it is made.
    pub expression: Expression,
}

/// Reads the assignments of a file by the quoting of its reader. What a name stands for that was set before is put in its place.
pub(super) fn assignments(
    text: &[u8],
    word: impl Fn(&str, &dyn Fn(&str) -> Option<String>) -> Word,
) -> Settings {
    let mut out = Settings::default();
    let mut known: HashMap<String, Option<String>> = HashMap::new();
    each_line(text, |number, base, line| {
        let Some((left, right)) = line.split_once('=') else { return };
        let name = left.trim();
        let name = name.strip_prefix("export ").map_or(name, str::trim_start);
        let named = !name.is_empty()
            && !name.starts_with(|c: char| c.is_ascii_digit())
            && name.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'_' || b == b'.');
        if !named {
            return;
        }
        let skipped = right.len() - right.trim_start().len();
        let at = base + left.len() + 1 + skipped;
        let Word { value, len, expression } = word(&right[skipped..], &|n| known.get(n).cloned().flatten());
        let span = at..at + len;
        if let (Some(value), Expression::Literal) = (&value, &expression) {
            out.literals.push(Literal { span: span.clone(), value: value.clone(), line: number });
        }
        for earlier in out.settings.iter_mut().filter(|s| s.name == name) {
            earlier.shadowed = true;
        }
        known.insert(name.to_string(), value.clone());
        out.settings.push(Setting {
            name: name.to_string(),
            value,
            span,
            expression,
            line: number,
            shadowed: false,
            element: true,
        });
    });
    out
}

/// Reads `$NAME`, `${NAME}` or `${NAME:-other}` behind the sign: what it stands for, and its length without the sign.
pub(super) fn expansion(
    text: &str,
    known: &dyn Fn(&str) -> Option<String>,
) -> Option<(Option<String>, usize)> {
    let is_name = |c: char| c.is_ascii_alphanumeric() || c == '_';
    if let Some(inside) = text.strip_prefix('{') {
        let end = inside.find('}')?;
        let inside = &inside[..end];
        let name = inside.split(|c: char| !is_name(c)).next().unwrap_or_default();
        let rest = &inside[name.len()..];
        let other = rest.strip_prefix(":-").or(rest.strip_prefix('-')).map(str::to_string);
        return (!name.is_empty()).then(|| (known(name).or(other), end + 2));
    }
    let name = text.split(|c: char| !is_name(c)).next().unwrap_or_default();
    (!name.is_empty() && !name.starts_with(|c: char| c.is_ascii_digit())).then(|| (known(name), name.len()))
}

/// Reads a word as a shell does: pieces in single quotes, in double quotes and bare ones, up to the first space.
fn word(text: &str, known: &dyn Fn(&str) -> Option<String>) -> Word {
    let mut value = Some(String::new());
    let mut expression = Expression::Literal;
    let mut at = 0;
    let mut push = |piece: Option<&str>| match (&mut value, piece) {
        (Some(value), Some(piece)) => value.push_str(piece),
        (value, _) => *value = None,
    };
    let mut double = false;
    while let Some(c) = text[at..].chars().next() {
        let rest = &text[at + c.len_utf8()..];
        match c {
            '\'' if !double => {
                let end = rest.find('\'').unwrap_or(rest.len());
                push(Some(&rest[..end]));
                at += 1 + (end + 1).min(rest.len());
                continue;
            }
            '"' => double = !double,
            '\\' => {
                let next = rest.chars().next().unwrap_or_default();
                let escapes = !double || matches!(next, '$' | '`' | '"' | '\\');
                let piece = &rest[..next.len_utf8().min(rest.len())];
                if escapes {
                    push(Some(piece));
                } else {
                    push(Some("\\"));
                    push(Some(piece));
                }
                at += 1 + piece.len();
                continue;
            }
            '`' => {
                push(None);
                expression = Expression::Unknown;
            }
            '$' => match expansion(rest, known) {
                Some((piece, len)) => {
                    expression = match piece {
                        Some(_) if expression != Expression::Unknown => Expression::Computed { moves: false },
                        _ => Expression::Unknown,
                    };
                    push(piece.as_deref());
                    at += 1 + len;
                    continue;
                }
                None if rest.starts_with('(') => {
                    push(None);
                    expression = Expression::Unknown;
                }
                None => push(Some("$")),
            },
            c if !double && (c.is_whitespace() || c == ';') => break,
            c => push(Some(c.encode_utf8(&mut [0; 4]))),
        }
        at += c.len_utf8();
    }
    let value = value.filter(|_| expression != Expression::Unknown);
    Word { value, len: at, expression }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_are_read_as_a_shell_reads_them() {
        let text = "# A=no\nexport A='it'\\''s' # note\nB=plain\\ word\nC=\"a $B \\$x\"\nD=`date`\nE=${F:-http://old.example}\nG=$(x)\n";
        let file = Shell.read(text.as_bytes(), None).unwrap();
        assert_eq!(
            ["A", "B", "C", "D", "E", "G"].map(|n| file.value(n)),
            [
                Some("it's"),
                Some("plain word"),
                Some("a plain word $x"),
                None,
                Some("http://old.example"),
                None
            ]
        );
        for value in ["", "it's", "a\\b $x `y` \"q\"", "# x; y"] {
            let text = format!("K={}", Shell.quoted(value, b""));
            assert_eq!(Shell.read(text.as_bytes(), None).unwrap().value("K"), Some(value));
        }
    }
}
