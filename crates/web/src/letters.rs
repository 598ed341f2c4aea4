//! Tells letters that were damaged by a wrong character set.

/// In which way letters are damaged, and an example.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Damage {
    /// Bytes that are no letters in the page's character set.
    Broken(String),
    /// UTF-8 that was read as another character set and written again.
    Twice(String),
    /// Question marks in the middle of words.
    Lost(String),
}

/// The word around a place.
fn word(text: &str, at: usize) -> String {
    let before = text[..at].char_indices().rev().find(|(_, c)| c.is_whitespace());
    let begin = before.map_or(0, |(b, c)| b + c.len_utf8());
    let end = text[at..].find(char::is_whitespace).map_or(text.len(), |e| at + e);
    text[begin..end].chars().take(60).collect()
}

/// What the bytes 80 to BF look like when UTF-8 is read as Windows-1252 or Latin-1.
fn is_trailing(c: char) -> bool {
    ('\u{80}'..='\u{bf}').contains(&c) || "€‚ƒ„…†‡ˆ‰Š‹ŒŽ‘’“”•–—˜™š›œžŸ".contains(c)
}

/// Looks at the texts of a page.
pub fn damaged<'t>(texts: impl Iterator<Item = &'t str>) -> Option<Damage> {
    let (mut twice, mut lost) = ((0, String::new()), (0, String::new()));
    for text in texts {
        if text.is_ascii() {
            // Only lost letters can stand here.
        } else if let Some(at) = text.find('\u{fffd}') {
            return Some(Damage::Broken(word(text, at)));
        }
        let mut before: Option<char> = None;
        let mut letters = text.char_indices().peekable();
        while let Some((at, c)) = letters.next() {
            let next = letters.peek().map(|(_, n)| *n);
            match c {
                'Ã' | 'Â' | 'Å' | 'Ä' | 'Ð' | 'Ñ' if next.is_some_and(is_trailing) => {
                    // `Ä` before a closing quote is a word of its own.
                    let quote = next.is_some_and(|n| "“”’‘›„…–—•".contains(n));
                    if !quote && twice.0 == 0 {
                        twice.1 = word(text, at);
                    }
                    twice.0 += usize::from(!quote);
                }
                'â' if next == Some('€') || next == Some('\u{80}') => {
                    if twice.0 == 0 {
                        twice.1 = word(text, at);
                    }
                    twice.0 += 2;
                }
                // A word of nothing else, as languages with other letters lose them.
                '?' if before.is_none_or(char::is_whitespace)
                    && word(text, at).len() > 3
                    && word(text, at).bytes().all(|b| b == b'?') =>
                {
                    if lost.0 == 0 {
                        lost.1 = word(text, at);
                    }
                    lost.0 += 2;
                }
                '?' => {
                    let inside =
                        before.is_some_and(char::is_alphabetic) && next.is_some_and(char::is_lowercase);
                    let word = if inside { word(text, at) } else { String::new() };
                    // An address, or a piece of a program.
                    if inside && !word.contains(['/', '=', '&', '.', ':', '(', '$']) {
                        if lost.0 == 0 {
                            lost.1 = word;
                        }
                        lost.0 += 1;
                    }
                }
                _ => (),
            }
            before = Some(c);
        }
    }
    if twice.0 > 0 {
        return Some(Damage::Twice(twice.1));
    }
    (lost.0 > 1).then_some(Damage::Lost(lost.1))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn damaged_letters_are_told_from_sound_ones() {
        for (text, is) in [
            ("Eine FÃ¼hrung durch MÃ¼nchen", "twice"),
            ("Theyâ€™re here", "twice"),
            ("Preis: 5Â\u{a0}€", "twice"),
            ("ÐŸÑ€Ð¸Ð²ÐµÑ‚", "twice"),
            ("Eine F\u{fffd}hrung", "broken"),
            ("Eine F?hrung durch M?nchen", "lost"),
            ("?????? ???", "lost"),
        ] {
            let found = damaged([text].into_iter());
            let told = match found {
                Some(Damage::Broken(_)) => "broken",
                Some(Damage::Twice(_)) => "twice",
                Some(Damage::Lost(_)) => "lost",
                None => "sound",
            };
            assert_eq!(told, is, "{text}");
        }
        for sound in [
            "Führung, São João, Ångström, Łódź, Ünïcödé, 日本語, Привет, Ελλάδα",
            "Er sagte „Ä“ und Â“, Ã…",
            "Why? What??? ??? because. a?b=1 what?ever index.php?x=1&y?z",
            "Größe: 5 €",
        ] {
            assert_eq!(damaged([sound].into_iter()), None, "{sound}");
        }
    }
}
