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

/// Letters of a word that are looked at on either side of a place: a text without spaces may have any number.
const REACH: usize = 60;

/// The word around a place.
fn word(text: &str, at: usize) -> String {
    let is_letter = |(_, c): &(usize, char)| !c.is_whitespace();
    let before = text[..at].char_indices().rev().take(REACH).take_while(is_letter).last();
    let begin = before.map_or(at, |(b, _)| b);
    let end = text[at..].char_indices().take(REACH).take_while(is_letter).last();
    let end = end.map_or(at, |(e, c)| at + e + c.len_utf8());
    text[begin..end].chars().take(REACH).collect()
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
                // A few are enough to tell.
                '?' if lost.0 > 1 => (),
                '?' => {
                    let word = word(text, at);
                    let inside =
                        before.is_some_and(char::is_alphabetic) && next.is_some_and(char::is_lowercase);
                    // An address, or a piece of a program, is none; a word of nothing else is one that a language with other letters lost.
                    let within = inside && !word.contains(['/', '=', '&', '.', ':', '(', '$']);
                    let whole = before.is_none_or(char::is_whitespace)
                        && word.len() > 3
                        && word.bytes().all(|b| b == b'?');
                    if within || whole {
                        lost.0 += if whole { 2 } else { 1 };
                        if lost.1.is_empty() {
                            lost.1 = word;
                        }
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
        // Nobody waits for a text without spaces.
        assert_eq!(damaged(["a?b.".repeat(500_000).as_str()].into_iter()), None);
    }
}
