//! Environment files: `NAME=value`, one a line, as many frameworks read them.
//!
//! Quotes: single ones are literal, in double ones `\\`, `"` and `$` are escaped by a backslash; bare values end at ` #`.

use super::settings::{Expression, Literal, Setting, Settings, each_line};

/// Reads an environment file. A later line of the same name counts.
pub fn parse(text: &[u8]) -> Settings {
    let mut out = Settings::default();
    each_line(text, |number, base, line| {
        let Some((left, right)) = line.split_once('=') else { return };
        let name = left.trim().strip_prefix("export ").unwrap_or(left.trim());
        let named = !name.is_empty() && name.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'_');
        if !named {
            return;
        }
        let skipped = right.len() - right.trim_start().len();
        let at = base + left.len() + 1 + skipped;
        let (value, len, plain) = value(&right[skipped..]);
        for earlier in out.settings.iter_mut().filter(|s| s.name == name) {
            earlier.shadowed = true;
        }
        let expression = if plain { Expression::Literal } else { Expression::Unknown };
        let span = at..at + len;
        if plain {
            out.literals.push(Literal { span: span.clone(), value: value.clone(), line: number });
        }
        out.settings.push(Setting {
            name: name.to_string(),
            value: plain.then_some(value),
            span,
            expression,
            line: number,
            shadowed: false,
            element: false,
        });
    });
    out
}

/// Reads a value: what it means, its length in the file, and whether it stands for itself.
fn value(text: &str) -> (String, usize, bool) {
    if let Some(inside) = text.strip_prefix('\'')
        && let Some(end) = inside.find('\'')
    {
        return (inside[..end].to_string(), end + 2, true);
    }
    if let Some(inside) = text.strip_prefix('"') {
        let mut out = String::new();
        let mut chars = inside.char_indices();
        let mut plain = true;
        while let Some((at, c)) = chars.next() {
            match c {
                '"' => return (out, at + 2, plain),
                '\\' => match chars.next() {
                    Some((_, 'n')) => out.push('\n'),
                    Some((_, c)) => out.push(c),
                    None => {}
                },
                c => {
                    plain &= c != '$';
                    out.push(c);
                }
            }
        }
    }
    let bare = text.split(" #").next().unwrap_or(text).trim_end();
    (bare.to_string(), bare.len(), !bare.contains('$'))
}

/// Spells a value.
pub fn quoted(value: &str) -> String {
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_read_in_every_quoting_and_read_back() {
        let text = "# DB_NAME=no\r\nexport DB_NAME='one'\nDB_USER=two # note\nDB_PASSWORD=\"a\\\"b\\$c\"\nURL=\"${HOME}/x\"\nDB_USER = three\n";
        let file = parse(text.as_bytes());
        assert_eq!(
            [file.value("DB_NAME"), file.value("DB_USER"), file.value("DB_PASSWORD"), file.value("URL")],
            [Some("one"), Some("three"), Some("a\"b$c"), None]
        );
        for value in ["", "plain", "it's", "a\\b $x \"q\" it's", "# x"] {
            assert_eq!(parse(format!("K={}", quoted(value)).as_bytes()).value("K"), Some(value));
        }
    }
}
