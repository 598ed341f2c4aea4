//! How a text is spelled where it was found: plainly, with escaped slashes, percent-encoded, in HTML entities.
//!
//! A URL inside a JSON fragment inside HTML is `https:\/\/host\/base`; in a query string it is
//! `https%3A%2F%2Fhost%2Fbase`. The spelling is read off the separators beside a hit, and the new text is written in
//! the same one. Boundary tests look at *characters of the level*, so behind `/shop` in percent-encoded text `%20` is
//! a space.

use std::borrow::Cow;

/// The spelling of one hit.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Spelling {
    /// `/` stands for itself.
    Plain,
    /// Each slash has so many backslashes before it (JSON: 1, JSON in JSON: 3).
    Backslashed(usize),
    /// `\u002f`, with so many backslashes; the second field is the digit's case as found.
    Unicode(usize, HexCase),
    /// `%2F`, `%252F` and so on: percent-encoded so many times.
    Percent(usize, HexCase),
    /// An HTML entity, kept as found, such as `&#x2F;`.
    Entity(Vec<u8>),
}

/// The letter case of hex digits.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum HexCase {
    /// `%2f`
    Lower,
    /// `%2F`
    Upper,
}

const ENTITIES: [&[u8]; 5] = [b"&#x2f;", b"&#x2F;", b"&#47;", b"&sol;", b"&#X2F;"];

impl Spelling {
    /// Recognises the separator that ends at `end` and returns it with its start.
    pub fn of_separator_before(text: &[u8], end: usize) -> Option<(Spelling, usize)> {
        let head = &text[..end];
        match head.last()? {
            b'/' => {
                let count = trailing_backslashes(&head[..end - 1]);
                let spelling = if count == 0 { Spelling::Plain } else { Spelling::Backslashed(count) };
                Some((spelling, end - 1 - count))
            }
            b';' => {
                let entity = ENTITIES.iter().find(|e| head.ends_with(e))?;
                Some((Spelling::Entity(entity.to_vec()), end - entity.len()))
            }
            digit @ (b'f' | b'F') => {
                let case = if *digit == b'f' { HexCase::Lower } else { HexCase::Upper };
                if head.len() >= 5 && head[..end - 1].ends_with(b"u002") {
                    let count = trailing_backslashes(&head[..end - 5]);
                    return (count > 0).then_some((Spelling::Unicode(count, case), end - 5 - count));
                }
                let mut at = end.checked_sub(2).filter(|at| head[*at] == b'2')?;
                let mut times = 1;
                while head[..at].ends_with(b"25") {
                    at -= 2;
                    times += 1;
                }
                at = at.checked_sub(1).filter(|at| head[*at] == b'%')?;
                Some((Spelling::Percent(times, case), at))
            }
            _ => None,
        }
    }

    /// Returns the separator in this spelling.
    pub fn separator(&self) -> Vec<u8> {
        match self {
            Spelling::Plain => b"/".to_vec(),
            Spelling::Backslashed(n) => [&b"\\".repeat(*n)[..], b"/"].concat(),
            Spelling::Unicode(n, case) => {
                [&b"\\".repeat(*n)[..], if *case == HexCase::Lower { b"u002f" } else { b"u002F" }].concat()
            }
            Spelling::Percent(times, case) => percent(b'/', *times, *case),
            Spelling::Entity(e) => e.clone(),
        }
    }

    /// Spells ASCII or UTF-8 text whose slashes are separators.
    pub fn spell<'t>(&self, plain: &'t str) -> Cow<'t, [u8]> {
        if *self == Spelling::Plain || plain.is_empty() {
            return Cow::Borrowed(plain.as_bytes());
        }
        let mut out = Vec::with_capacity(plain.len() + 8);
        for b in plain.bytes() {
            match self {
                Spelling::Percent(times, case) if !unreserved(b) => out.extend(percent(b, *times, *case)),
                _ if b == b'/' => out.extend(self.separator()),
                Spelling::Backslashed(n) | Spelling::Unicode(n, _) if b == b'\\' || b == b'"' => {
                    out.extend(b"\\".repeat(*n));
                    out.push(b);
                }
                _ => out.push(b),
            }
        }
        Cow::Owned(out)
    }

    /// Returns the length of a separator in this spelling that ends the text.
    pub fn separator_ending(&self, text: &[u8]) -> Option<usize> {
        if *self == Spelling::Plain {
            return (text.last() == Some(&b'/')).then_some(1);
        }
        let separator = self.separator();
        text.ends_with(&separator).then_some(separator.len())
    }

    /// Returns the length of a colon in this spelling that ends the text.
    pub fn colon_ending(&self, text: &[u8]) -> Option<usize> {
        if *self == Spelling::Plain {
            return (text.last() == Some(&b':')).then_some(1);
        }
        self.colons().iter().find(|c| text.ends_with(c)).map(Vec::len)
    }

    /// Returns the length of a colon in this spelling that begins the text.
    pub fn colon_beginning(&self, text: &[u8]) -> Option<usize> {
        if *self == Spelling::Plain {
            return (text.first() == Some(&b':')).then_some(1);
        }
        self.colons().iter().find(|c| text.starts_with(c)).map(Vec::len)
    }

    /// Spells a colon: what ends a scheme and begins a port.
    fn colons(&self) -> Vec<Vec<u8>> {
        match self {
            Spelling::Percent(times, _) => {
                vec![
                    percent(b':', *times, HexCase::Upper),
                    percent(b':', *times, HexCase::Lower),
                    b":".to_vec(),
                ]
            }
            Spelling::Entity(_) => {
                [&b":"[..], b"&#58;", b"&colon;", b"&#x3a;", b"&#x3A;"].map(<[u8]>::to_vec).to_vec()
            }
            Spelling::Unicode(n, _) | Spelling::Backslashed(n) => {
                let u = |tail: &[u8]| [&b"\\".repeat(*n)[..], tail].concat();
                vec![b":".to_vec(), u(b"u003a"), u(b"u003A")]
            }
            Spelling::Plain => vec![b":".to_vec()],
        }
    }

    /// Returns the character that begins at `at`: its meaning and its length in bytes.
    pub fn char_at(&self, text: &[u8], at: usize) -> Option<(char, usize)> {
        let rest = text.get(at..).filter(|r| !r.is_empty())?;
        match self {
            Spelling::Percent(times, _) if rest[0] == b'%' => {
                let skip = 1 + 2 * (times - 1);
                let inner = rest[1..].starts_with(&b"25".repeat(times - 1));
                let hex = rest.get(skip..skip + 2).filter(|_| inner).and_then(hex_byte);
                match hex {
                    Some(value) if value < 0x80 => Some((value as char, skip + 2)),
                    // The first byte of an encoded letter or sign beyond ASCII.
                    Some(_) => Some((encoded_char(rest, *times), skip + 2)),
                    None => Some(('%', 1)),
                }
            }
            Spelling::Backslashed(n) | Spelling::Unicode(n, _) if rest[0] == b'\\' => {
                let run = rest.iter().take_while(|b| **b == b'\\').count();
                let next = rest.get(run).copied().unwrap_or(b'\\');
                let meaning = match next {
                    b'u' if run <= *n => {
                        let digits = rest.get(run + 1..run + 5).and_then(|d| std::str::from_utf8(d).ok());
                        let code = digits.and_then(|d| u32::from_str_radix(d, 16).ok());
                        code.map_or('u', |c| char::from_u32(c).unwrap_or('\u{e9}'))
                    }
                    b'n' | b'r' | b't' | b'b' | b'f' => ' ',
                    other => other as char,
                };
                Some((meaning, run + 1))
            }
            Spelling::Entity(_) if rest[0] == b'&' => {
                let entity = ENTITIES.iter().find(|e| rest.starts_with(e));
                Some(entity.map_or(('&', 1), |e| ('/', e.len())))
            }
            // Two characters that spell a line break in ini-like text.
            Spelling::Plain if rest[0] == b'\\' && matches!(rest.get(1), Some(b'n' | b'r' | b't')) => {
                Some((' ', 2))
            }
            _ => Some(first_char(rest)),
        }
    }

    /// Returns the character that ends at `at`, or nothing at the beginning of the text.
    pub fn char_before(&self, text: &[u8], at: usize) -> Option<char> {
        let head = &text[..at];
        let last = *head.last()?;
        if let Spelling::Percent(times, _) = self {
            // A sign before may be encoded less often than what it stands before: `u%3Dhttp%253A`.
            for times in (1..=*times).rev().filter(|times| head.len() > 2 * times) {
                let start = head.len() - 2 * times - 1;
                let escape = &head[start..];
                let inner = escape[1..].starts_with(&b"25".repeat(times - 1));
                if escape[0] == b'%'
                    && inner
                    && let Some(value) = hex_byte(&escape[escape.len() - 2..])
                {
                    return Some(if value < 0x80 { value as char } else { '\u{e9}' });
                }
            }
        }
        if matches!(last, b'n' | b'r' | b't') && head.len() >= 2 && head[head.len() - 2] == b'\\' {
            return Some(' ');
        }
        if last == b';' && ENTITIES.iter().any(|e| head.ends_with(e)) {
            return Some('/');
        }
        if last < 0x80 {
            return Some(last as char);
        }
        let from = head.len().saturating_sub(4);
        let start = (from..head.len()).rev().find(|i| head[*i] & 0xC0 != 0x80).unwrap_or(from);
        Some(first_char(&head[start..]).0)
    }

    /// Says whether what begins at `at` goes on with a path segment: a letter, a digit, one of `_ ~ - %`, or a dot that
    /// one of these follows.
    pub fn continues_segment(&self, text: &[u8], at: usize) -> bool {
        match self.char_at(text, at) {
            None => false,
            Some(('.', len)) => self.char_at(text, at + len).is_some_and(|(c, _)| segment_char(c)),
            Some((c, _)) => segment_char(c),
        }
    }
}

/// Says whether a character belongs to a path segment wherever it stands (the dot does not).
pub fn segment_char(c: char) -> bool {
    c.is_alphanumeric() || matches!(c, '_' | '~' | '-' | '%')
}

fn first_char(rest: &[u8]) -> (char, usize) {
    let b = rest[0];
    if b < 0x80 {
        return (b as char, 1);
    }
    for len in 2..=rest.len().min(4) {
        if let Ok(s) = std::str::from_utf8(&rest[..len]) {
            return (s.chars().next().unwrap_or('\u{e9}'), len);
        }
    }
    // A byte of some other charset: in latin1 0xC0 and above are letters, below are signs.
    (if b >= 0xC0 { '\u{e9}' } else { '\u{a0}' }, 1)
}

/// The letter or sign whose encoded bytes begin a text; a letter where they are no UTF-8.
fn encoded_char(rest: &[u8], times: usize) -> char {
    let mut bytes = [0; 4];
    let len = 1 + 2 * times;
    for (i, escape) in rest.chunks(len).take(4).enumerate() {
        let fits =
            escape.len() == len && escape[0] == b'%' && escape[1..].starts_with(&b"25".repeat(times - 1));
        let Some(byte) = Some(escape).filter(|_| fits).and_then(|e| hex_byte(&e[len - 2..])) else { break };
        bytes[i] = byte;
        if let Ok(text) = std::str::from_utf8(&bytes[..=i]) {
            return text.chars().next().unwrap_or('\u{e9}');
        }
    }
    '\u{e9}'
}

fn trailing_backslashes(head: &[u8]) -> usize {
    head.iter().rev().take_while(|b| **b == b'\\').count()
}

pub(super) fn hex_byte(two: &[u8]) -> Option<u8> {
    if !two.iter().all(u8::is_ascii_hexdigit) {
        return None;
    }
    u8::from_str_radix(std::str::from_utf8(two).ok()?, 16).ok()
}

fn unreserved(b: u8) -> bool {
    b.is_ascii_alphanumeric() || matches!(b, b'-' | b'.' | b'_' | b'~')
}

fn percent(b: u8, times: usize, case: HexCase) -> Vec<u8> {
    let hex = match case {
        HexCase::Lower => format!("{b:02x}"),
        HexCase::Upper => format!("{b:02X}"),
    };
    [b"%", &b"25".repeat(times - 1)[..], hex.as_bytes()].concat()
}
