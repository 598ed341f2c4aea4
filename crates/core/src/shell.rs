//! Words of commands that people copy into a shell.

/// Writes a word so that a POSIX shell reads it as it is. Source: POSIX, "Shell Command Language", 2.2.2 Single-Quotes.
pub fn quoted(word: &str) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || "_-./:@%+=,".contains(c);
    if !word.is_empty() && word.chars().all(plain) {
        return word.to_string();
    }
    format!("'{}'", word.replace('\'', "'\\''"))
}
