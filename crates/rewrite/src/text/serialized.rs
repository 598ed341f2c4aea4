//! A strict reader of PHP's serialized text that yields where its strings lie.
//!
//! Format: `N;`, `b:0;`, `i:1;`, `d:0.5;`, `s:5:"bytes";`, `S:5:"\68ello";` (hex escapes, length of the decoded
//! bytes), `a:2:{key value …}`, `O:8:"stdClass":1:{…}`, `C:11:"ArrayObject":21:{payload}`, `E:11:"Suit:Hearts";`,
//! `r:1;`, `R:2;` (PHP's `ext/standard/var_unserializer`). Lengths count bytes.
//!
//! Nothing is interpreted and nothing recurses: hostile nesting costs memory in proportion to the input only.

use smallvec::SmallVec;
use std::ops::Range;

/// Strings of a value; of most values they need no memory of their own.
pub type Leaves = SmallVec<[Leaf; 8]>;

/// What kind of string a span is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LeafKind {
    /// `s:`: the bytes themselves.
    Plain,
    /// `S:`: bytes with `\xx` escapes.
    Escaped,
    /// The payload of a custom-serialized object, `C:`.
    Custom,
}

/// A string inside of serialized text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Leaf {
    /// Kind.
    pub kind: LeafKind,
    /// The bytes between the quotes (for `C:` between the braces).
    pub content: Range<usize>,
    /// The digits of its length.
    pub digits: Range<usize>,
}

/// Says whether a value begins as serialized text with a string or a container begins.
pub fn looks_serialized(value: &[u8]) -> bool {
    let value = value.trim_ascii_start();
    let [kind @ (b'a' | b'O' | b'C' | b'E' | b's' | b'S'), b':', rest @ ..] = value else { return false };
    let digits = rest.iter().take_while(|b| b.is_ascii_digit()).count();
    let after = &rest[digits..];
    digits > 0
        && digits < 12
        && match kind {
            b'a' => after.starts_with(b":{"),
            _ => after.starts_with(b":\""),
        }
}

/// Reads the value at the beginning of a text, white space before it allowed. Returns its strings and where it ends. Nothing is
/// returned if a single byte of it does not fit. PHP ignores what follows a value, so it is the caller's to look at.
pub fn leaves(value: &[u8]) -> Option<(Leaves, usize)> {
    leaves_at(value, value.len() - value.trim_ascii_start().len())
}

/// Reads the value that begins at `start`.
pub fn leaves_at(text: &[u8], start: usize) -> Option<(Leaves, usize)> {
    let mut reader = Reader { at: start, ..Reader::of(text) };
    reader.value()?;
    Some((reader.leaves, reader.at))
}

/// Reads a whole value as it stands in a string of MySQL's between single quotes, its escapes not undone: a double quote may have a
/// backslash before it, and lengths count what is meant. Types that spell their content in a way of their own are not read.
pub(super) fn raw_leaves(text: &[u8]) -> Option<Leaves> {
    let mut reader = Reader { raw: true, ..Reader::of(text) };
    reader.value()?;
    (reader.at == text.len()).then_some(reader.leaves)
}

/// Reads the payload of the standard library's custom-serialized objects: `x:i:0;VALUE;m:VALUE` (array objects) or
/// `i:0;:VALUE:VALUE` (lists). Returns the strings in it.
pub fn payload_leaves(payload: &[u8]) -> Option<Leaves> {
    let mut reader = Reader::of(payload);
    while reader.at < payload.len() {
        if reader.eat(b"x:").is_some()
            || reader.eat(b"m:").is_some()
            || reader.eat(b":").is_some()
            || reader.eat(b";").is_some()
        {
            continue;
        }
        reader.value()?;
    }
    Some(reader.leaves)
}

/// Returns where the item of nested arrays lies that is reached by keys, from the outside in.
pub fn item(value: &[u8], keys: &[String]) -> Option<Range<usize>> {
    let mut reader = Reader::of(value);
    reader.value()?;
    let mut found = 0..reader.at;
    for key in keys {
        let mut reader = Reader { at: found.start, ..Reader::of(value) };
        reader.eat(b"a:")?;
        let (_, count) = reader.digits()?;
        reader.eat(b":{")?;
        let wanted = [format!("s:{}:\"{key}\";", key.len()), format!("i:{key};")];
        found = (0..count).find_map(|_| {
            let start = reader.at;
            reader.value()?;
            let name = &value[start..reader.at];
            let start = reader.at;
            reader.value()?;
            wanted.iter().any(|w| w.as_bytes() == name).then_some(start..reader.at)
        })?;
    }
    Some(found)
}

struct Reader<'t> {
    text: &'t [u8],
    at: usize,
    leaves: Leaves,
    /// Whether the escapes of the string around the text are still in it.
    raw: bool,
}

/// What the innermost open container still expects.
struct Open {
    keys: bool,
    /// Values (and keys) to come before the closing brace.
    left: u64,
}

impl<'t> Reader<'t> {
    fn of(text: &'t [u8]) -> Self {
        Reader { text, at: 0, leaves: Leaves::new(), raw: false }
    }

    #[inline(always)]
    fn eat<const N: usize>(&mut self, what: &[u8; N]) -> Option<()> {
        (self.text.get(self.at..)?.first_chunk() == Some(what)).then(|| self.at += N)
    }

    fn quote(&mut self) -> Option<()> {
        if self.raw && self.text.get(self.at) == Some(&b'\\') {
            self.at += 1;
        }
        self.eat(b"\"")
    }

    /// Returns how many bytes spell `len` bytes of content.
    fn spelled_len(&self, len: u64) -> Option<usize> {
        let mut left = usize::try_from(len).ok()?;
        let mut at = self.at;
        loop {
            let rest = self.text.get(at..at.checked_add(left)?)?;
            let escape = if self.raw { memchr::memchr2(b'\\', b'\'', rest) } else { None };
            let Some(escape) = escape else { return Some(at + left - self.at) };
            // These two keep their backslash.
            let meant = if matches!(self.text.get(at + escape + 1)?, b'%' | b'_') { 2 } else { 1 };
            left = left.checked_sub(escape + meant)?;
            at += escape + 2;
        }
    }

    fn digits(&mut self) -> Option<(Range<usize>, u64)> {
        let start = self.at;
        let mut number = 0u64;
        while let Some(digit) = self.text.get(self.at).filter(|b| b.is_ascii_digit()) {
            number = number.checked_mul(10)?.checked_add(u64::from(digit - b'0'))?;
            self.at += 1;
        }
        (self.at > start).then_some((start..self.at, number))
    }

    /// Reads one value with everything in it.
    fn value(&mut self) -> Option<()> {
        let mut open: SmallVec<[Open; 8]> = SmallVec::new();
        loop {
            while let Some(top) = open.last() {
                if top.left > 0 {
                    break;
                }
                self.eat(b"}")?;
                open.pop();
                if open.is_empty() {
                    return Some(());
                }
            }
            let key_expected = open.last().is_some_and(|o| o.keys && o.left.is_multiple_of(2));
            if let Some(top) = open.last_mut() {
                top.left -= 1;
            }
            if let Some(container) = self.one(key_expected)? {
                open.push(container);
            }
            if open.is_empty() {
                return Some(());
            }
        }
    }

    /// Reads one scalar, or the head of a container.
    fn one(&mut self, key: bool) -> Option<Option<Open>> {
        let kind = *self.text.get(self.at)?;
        if key && !matches!(kind, b'i' | b's' | b'S') {
            return None;
        }
        self.at += 1;
        if kind == b'N' {
            self.eat(b";")?;
            return Some(None);
        }
        self.eat(b":")?;
        match kind {
            b'b' => {
                if !matches!(self.text.get(self.at)?, b'0' | b'1') {
                    return None;
                }
                self.at += 1;
                self.eat(b";")?;
            }
            b'i' => {
                if matches!(self.text.get(self.at)?, b'-' | b'+') {
                    self.at += 1;
                }
                self.digits()?;
                self.eat(b";")?;
            }
            b'd' => self.float()?,
            b'r' | b'R' => {
                self.digits()?;
                self.eat(b";")?;
            }
            b'S' | b'C' if self.raw => return None,
            b's' | b'S' => {
                let (digits, len) = self.digits()?;
                self.eat(b":")?;
                self.quote()?;
                let start = self.at;
                let (kind, raw) = if kind == b's' {
                    (LeafKind::Plain, self.spelled_len(len)?)
                } else {
                    (LeafKind::Escaped, self.escaped_len(len)?)
                };
                let end = start.checked_add(raw).filter(|e| *e <= self.text.len())?;
                self.at = end;
                self.quote()?;
                self.eat(b";")?;
                self.leaves.push(Leaf { kind, content: start..end, digits });
            }
            b'E' => {
                self.name()?;
                self.eat(b";")?;
            }
            b'a' => {
                let (_, count) = self.digits()?;
                self.eat(b":{")?;
                return Some(Some(Open { keys: true, left: count.checked_mul(2)? }));
            }
            b'O' => {
                self.name()?;
                self.eat(b":")?;
                let (_, count) = self.digits()?;
                self.eat(b":{")?;
                return Some(Some(Open { keys: true, left: count.checked_mul(2)? }));
            }
            b'C' => {
                self.name()?;
                self.eat(b":")?;
                let (digits, len) = self.digits()?;
                self.eat(b":{")?;
                let start = self.at;
                let end = start.checked_add(usize::try_from(len).ok()?).filter(|e| *e <= self.text.len())?;
                self.at = end;
                self.eat(b"}")?;
                self.leaves.push(Leaf { kind: LeafKind::Custom, content: start..end, digits });
            }
            _ => return None,
        }
        Some(None)
    }

    /// Reads the length and the quotes of a class or case name.
    fn name(&mut self) -> Option<()> {
        let (_, len) = self.digits()?;
        self.eat(b":")?;
        self.quote()?;
        self.at += self.spelled_len(len)?;
        self.quote()
    }

    /// Returns how many raw bytes spell `len` bytes in the escaped form.
    fn escaped_len(&self, len: u64) -> Option<usize> {
        let mut at = self.at;
        for _ in 0..len {
            at += if *self.text.get(at)? == b'\\' { 3 } else { 1 };
        }
        Some(at - self.at)
    }

    fn float(&mut self) -> Option<()> {
        let rest = &self.text[self.at..];
        let len = rest.iter().take(64).position(|b| *b == b';')?;
        let spelled = std::str::from_utf8(&rest[..len]).ok()?;
        let number = matches!(spelled, "INF" | "-INF" | "NAN")
            || (spelled.bytes().all(|b| b.is_ascii_digit() || b"+-.eE".contains(&b))
                && spelled.parse::<f64>().is_ok());
        number.then(|| self.at += len + 1)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn items_are_found_by_their_way() {
        let text = br#"a:2:{s:3:"css";a:1:{s:10:"preprocess";b:1;}i:7;a:1:{s:1:"x";s:3:"a;b";}}"#;
        let at = |keys: &[&str]| {
            let keys: Vec<String> = keys.iter().map(|k| k.to_string()).collect();
            item(text, &keys).map(|r| String::from_utf8_lossy(&text[r]).into_owned())
        };
        assert_eq!(at(&["css", "preprocess"]).as_deref(), Some("b:1;"));
        assert_eq!(at(&["7", "x"]).as_deref(), Some("s:3:\"a;b\";"));
        assert_eq!((at(&["js"]), at(&["css", "preprocess", "x"])), (None, None));
    }

    #[test]
    fn every_type_code_is_read_and_strings_are_located() {
        let text = b"a:9:{i:0;N;i:-1;b:1;s:1:\"k\";d:1.0E-25;i:2;s:3:\"a\"b\";i:3;O:8:\"stdClass\":1:{s:4:\"\0*\0x\";d:-INF;}\
            i:4;C:11:\"ArrayObject\":21:{x:i:0;a:0:{};m:a:0:{}}i:5;E:11:\"Suit:Hearts\";i:6;r:1;i:7;S:2:\"\\41b\";}";
        let (found, _) = leaves(text).unwrap();
        let plain: Vec<_> =
            found.iter().filter(|l| l.kind == LeafKind::Plain).map(|l| &text[l.content.clone()]).collect();
        assert_eq!(plain, [&b"k"[..], b"a\"b", b"\0*\0x"]);
        assert_eq!(found.iter().filter(|l| l.kind == LeafKind::Custom).count(), 1);
        assert!(payload_leaves(b"x:i:0;a:1:{i:0;s:1:\"a\";};m:a:0:{}").is_some_and(|l| l.len() == 1));
    }

    #[test]
    fn wrong_lengths_counts_and_tails_are_not_serialized() {
        for bad in [
            &b"s:4:\"abc\";"[..],
            b"s:2:\"abc\";",
            b"a:1:{i:0;N;",
            b"a:2:{i:0;N;}",
            b"b:2;",
            b"i:;",
            b"d:x;",
            b"s:99999999999999999999:\"a\";",
            b"a:18446744073709551615:{}",
            b"O:8:\"stdClass\":1:{N;N;}",
            b"E:3:\"ab\";",
            b"",
        ] {
            assert!(leaves(bad).is_none(), "{}", String::from_utf8_lossy(bad));
        }
        assert_eq!(leaves(b" a:0:{}\n").map(|(_, end)| end), Some(7));
        assert!(
            looks_serialized(b"a:1:{")
                && looks_serialized(b"s:3:\"")
                && !looks_serialized(b"a: note")
                && !looks_serialized(b"i:1;")
        );
    }

    #[test]
    fn deep_nesting_does_not_recurse() {
        let deep = [b"a:1:{i:0;".repeat(200_000), b"N;".to_vec(), b"}".repeat(200_000)].concat();
        assert!(leaves(&deep).is_some());
    }
}
