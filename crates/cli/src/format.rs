//! Numbers and names as people read them.

use std::time::Duration;

/// Spells bytes with a fitting unit, powers of 1024.
pub fn bytes(n: u64) -> String {
    const UNITS: [&str; 5] = ["B", "KiB", "MiB", "GiB", "TiB"];
    let mut value = n as f64;
    let mut unit = 0;
    while value >= 1024.0 && unit < UNITS.len() - 1 {
        value /= 1024.0;
        unit += 1;
    }
    if unit == 0 { format!("{n} B") } else { format!("{value:.1} {}", UNITS[unit]) }
}

/// Spells a time as people say it.
pub fn took(spent: Duration) -> String {
    match spent.as_secs() {
        0..60 => format!("{:.1} s", spent.as_secs_f64()),
        s @ 60..3600 => format!("{} min {} s", s / 60, s % 60),
        s => format!("{} h {} min", s / 3600, s % 3600 / 60),
    }
}

/// Spells a number with thin groups of three.
pub fn number(n: u64) -> String {
    let digits = n.to_string();
    let mut out = String::new();
    for (i, c) in digits.chars().enumerate() {
        if i > 0 && (digits.len() - i).is_multiple_of(3) {
            out.push(' ');
        }
        out.push(c);
    }
    out
}

/// Spells a count with its word: `1 file`, `2 files`.
pub fn count(n: u64, word: &str) -> String {
    if n == 1 {
        return format!("1 {word}");
    }
    let plural = match word.strip_suffix('y') {
        Some(stem) if !stem.ends_with(['a', 'e', 'o', 'u']) => format!("{stem}ies"),
        _ => format!("{word}s"),
    };
    format!("{} {plural}", number(n))
}

/// Makes text from outside safe for a terminal: control, bidirectional and zero-width characters are spelled out.
pub fn safe(text: &str) -> String {
    let hidden = |c: char| {
        c.is_control()
            || matches!(c, '\u{200b}'..='\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2060}'..='\u{2069}' | '\u{feff}')
    };
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '\n' => out.push_str("\\n"),
            '\r' => out.push_str("\\r"),
            '\t' => out.push_str("\\t"),
            c if hidden(c) => out.extend(c.escape_unicode()),
            c => out.push(c),
        }
    }
    out
}

/// Cuts text to a width in characters.
pub fn cut(text: &str, width: usize) -> String {
    if text.chars().count() <= width {
        return text.to_string();
    }
    let mut out: String = text.chars().take(width.saturating_sub(1)).collect();
    out.push('…');
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_and_hostile_names_are_readable() {
        assert_eq!(
            [bytes(0), bytes(1023), bytes(1536), bytes(5 << 30)],
            ["0 B", "1023 B", "1.5 KiB", "5.0 GiB"]
        );
        assert_eq!([number(7), number(1234), number(1234567)], ["7", "1 234", "1 234 567"]);
        assert_eq!(
            [count(1, "entry"), count(2, "entry"), count(1000, "row")],
            ["1 entry", "2 entries", "1 000 rows"]
        );
        assert_eq!(safe("a\u{1b}[31m\u{202e}b\n"), "a\\u{1b}[31m\\u{202e}b\\n");
    }
}
