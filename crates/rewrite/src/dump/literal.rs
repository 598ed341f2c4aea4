//! SQL string and hex literals of every dialect: into bytes with a way back, and out again.
//!
//! Sources: MySQL reference manual, "String Literals"; PostgreSQL manual, "String Constants", "COPY" (text format) and "Binary
//! Data Types" (bytea's hex form); SQLite's shell, which spells line breaks by `replace('a\nb','\n',char(10))`.

use super::dialect::Dialect;
use super::value::{Value, ValueKind};
use crate::edit::{Decoded, Edit, Text};
use crate::lanes::{self, Alike, BLOCK, Job, Lanes, Table};

/// How strings are written in the dump at hand.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Quoting {
    /// Whose strings.
    pub dialect: Dialect,
    /// Whether a backslash escapes in plain strings.
    pub backslash: bool,
    /// Whether values stand in a `COPY` block, without quotes.
    pub copy: bool,
}

impl Quoting {
    /// MySQL's usual way.
    pub const MYSQL: Quoting = Quoting { dialect: Dialect::Mysql, backslash: true, copy: false };
}

/// What a backslash means in one literal.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Escapes {
    None,
    Mysql,
    Postgres,
}

/// Says whether the quote at `at` belongs to PostgreSQL's `E'…'`.
pub(super) fn has_escape_prefix(text: &[u8], at: usize) -> bool {
    let word = |b: &u8| b.is_ascii_alphanumeric() || *b == b'_';
    at > 0 && matches!(text[at - 1], b'E' | b'e') && !text[..at - 1].last().is_some_and(word)
}

/// A literal in some larger text: its quotes and how it escapes.
struct Literal {
    /// The bytes between the quotes.
    inside: std::ops::Range<usize>,
    quote: u8,
    escapes: Escapes,
}

/// Looks at the quotes of a literal at `span` in `text`; for `COPY` there are none, for dollar quotes none that matter.
fn literal_at(text: &[u8], span: std::ops::Range<usize>, quoting: Quoting) -> Literal {
    if quoting.copy {
        return Literal { inside: span, quote: b'\t', escapes: Escapes::Postgres };
    }
    let mut start = span.start;
    let plain =
        if quoting.backslash && quoting.dialect == Dialect::Mysql { Escapes::Mysql } else { Escapes::None };
    let mut escapes = if quoting.backslash && plain == Escapes::None { Escapes::Postgres } else { plain };
    match text[start] {
        b'E' | b'e' => {
            start += 1;
            escapes = Escapes::Postgres;
        }
        b'$' => {
            let tag = text[start + 1..span.end].iter().position(|b| *b == b'$').map_or(1, |i| i + 2);
            let inside = start + tag..span.end.saturating_sub(tag).max(start + tag);
            return Literal { inside, quote: 0, escapes: Escapes::None };
        }
        _ if quoting.dialect == Dialect::Postgres && has_escape_prefix(text, start) => {
            escapes = Escapes::Postgres
        }
        _ => {}
    }
    Literal { inside: start + 1..span.end.saturating_sub(1).max(start + 1), quote: text[start], escapes }
}

/// Decodes the literal at `span` in `text`, its quotes (and PostgreSQL's `E` or dollar tag) included.
pub fn decode(text: &[u8], span: std::ops::Range<usize>, quoting: Quoting) -> Decoded {
    let mut out = Decoded::default();
    decode_into(text, span, quoting, &mut out);
    out
}

/// The same into memory that was used before.
fn decode_into(text: &[u8], span: std::ops::Range<usize>, quoting: Quoting, out: &mut Decoded) {
    let Literal { inside, quote, escapes } = literal_at(text, span, quoting);
    out.restart(inside.start, inside.len());
    let mut at = inside.start;
    while at < inside.end {
        let hay = &text[at..inside.end];
        let found = match escapes {
            _ if quote == 0 => None,
            Escapes::None => memchr::memchr(quote, hay),
            _ => memchr::memchr2(quote, b'\\', hay),
        };
        let plain = found.unwrap_or(hay.len());
        out.plain(&hay[..plain]);
        at += plain;
        if at >= inside.end {
            break;
        }
        let rest = &text[at..inside.end];
        let (meaning, len) = match (rest[0], rest.get(1)) {
            (b'\\', Some(_)) if escapes == Escapes::Postgres => postgres_escape(rest),
            (b'\\', Some(c)) => (mysql_escape(*c), 2),
            (_, Some(c)) => ([*c, 0, 0, 0, 1], 2),
            (c, None) => ([c, 0, 0, 0, 1], 1),
        };
        at += len;
        out.escape(&meaning[..usize::from(meaning[4])], at);
    }
}

/// Up to four bytes, and how many.
type Meaning = [u8; 5];

fn mysql_escape(c: u8) -> Meaning {
    let one = |b| [b, 0, 0, 0, 1];
    match c {
        b'n' => one(b'\n'),
        b'r' => one(b'\r'),
        b't' => one(b'\t'),
        b'0' => one(0),
        b'b' => one(8),
        b'Z' => one(0x1a),
        // These two keep their backslash outside of LIKE patterns.
        b'%' | b'_' => [b'\\', c, 0, 0, 2],
        c => one(c),
    }
}

/// Reads one backslash sequence of `E'…'` or of a `COPY` value.
fn postgres_escape(rest: &[u8]) -> (Meaning, usize) {
    let one = |b: u8, len| ([b, 0, 0, 0, 1], len);
    let number = |from: usize, most: usize, radix: u32| {
        let digits = rest[from..].iter().take(most).take_while(|b| (**b as char).is_digit(radix)).count();
        let value = std::str::from_utf8(&rest[from..from + digits])
            .ok()
            .and_then(|d| u32::from_str_radix(d, radix).ok());
        value.map(|v| (v, from + digits))
    };
    match rest[1] {
        b'n' => one(b'\n', 2),
        b'r' => one(b'\r', 2),
        b't' => one(b'\t', 2),
        b'b' => one(8, 2),
        b'f' => one(0x0C, 2),
        b'v' => one(0x0B, 2),
        b'x' => number(2, 2, 16).map_or(one(b'x', 2), |(v, len)| one(v as u8, len)),
        b'0'..=b'7' => number(1, 3, 8).map_or(one(rest[1], 2), |(v, len)| one(v as u8, len)),
        u @ (b'u' | b'U') => {
            let most = if u == b'u' { 4 } else { 8 };
            match number(2, most, 16).and_then(|(v, len)| Some((char::from_u32(v)?, len))) {
                Some((c, len)) => {
                    let mut meaning = [0; 5];
                    meaning[4] = c.encode_utf8(&mut meaning[..4]).len() as u8;
                    (meaning, len)
                }
                None => one(u, 2),
            }
        }
        c => one(c, 2),
    }
}

/// Escapes new text for the inside of the literal at `span` in `text`.
pub fn escape(new: &[u8], text: &[u8], span: std::ops::Range<usize>, quoting: Quoting) -> Text {
    let Literal { quote, escapes, .. } = literal_at(text, span, quoting);
    let special = |b: &u8| *b == quote || matches!(b, b'\\' | 0 | b'\n' | b'\r' | b'\t' | 0x1a);
    if quote == 0 || !new.iter().any(special) {
        return new.into();
    }
    let mut out = Vec::with_capacity(new.len() + 4);
    for b in new {
        match (*b, escapes) {
            (b'\\', Escapes::Mysql | Escapes::Postgres) => out.extend_from_slice(b"\\\\"),
            (0, Escapes::Mysql) => out.extend_from_slice(b"\\0"),
            (b'\n', Escapes::Mysql) => out.extend_from_slice(b"\\n"),
            (b'\r', Escapes::Mysql) => out.extend_from_slice(b"\\r"),
            (0x1a, Escapes::Mysql) => out.extend_from_slice(b"\\Z"),
            (b, Escapes::Mysql) if b == quote => out.extend_from_slice(&[b'\\', b]),
            (b'\n', _) if quoting.copy => out.extend_from_slice(b"\\n"),
            (b'\r', _) if quoting.copy => out.extend_from_slice(b"\\r"),
            (b'\t', _) if quoting.copy => out.extend_from_slice(b"\\t"),
            (b, _) if b == quote => out.extend_from_slice(&[b, b]),
            (b, _) => out.push(b),
        }
    }
    out.into()
}

/// A value's bytes behind one or two layers of SQL, and the way back.
#[derive(Debug)]
pub struct Meant {
    outer: Decoded,
    inner: Inner,
    /// Whether the dump says that these are bytes, not text.
    is_bytes: bool,
}

/// What stands inside of a literal's text.
#[derive(Debug)]
enum Inner {
    /// The text itself.
    Text,
    /// Bytes in hex, outside of any quotes or in `X'…'`.
    Hex,
    /// PostgreSQL's `\x…` inside of a text.
    Bytea(Decoded),
    /// SQLite's `replace(…)` around a text: line breaks in place of `\n`.
    Replaced(Decoded),
    /// SQLite's `unistr(…)` around a text: letters by their numbers.
    Numbered(Decoded),
}

impl Meant {
    /// Returns the value's bytes.
    pub fn bytes(&self) -> &[u8] {
        match &self.inner {
            Inner::Text | Inner::Hex => &self.outer.bytes,
            Inner::Bytea(inner) | Inner::Replaced(inner) | Inner::Numbered(inner) => &inner.bytes,
        }
    }

    /// Says whether the dump has them as bytes, not as text.
    pub fn is_bytes(&self) -> bool {
        self.is_bytes
    }

    /// Gives the memory back.
    pub fn into_spare(self) -> Decoded {
        self.outer
    }

    /// Returns the bytes themselves.
    pub fn into_bytes(self) -> Vec<u8> {
        match self.inner {
            Inner::Text | Inner::Hex => self.outer.bytes,
            Inner::Bytea(inner) | Inner::Replaced(inner) | Inner::Numbered(inner) => inner.bytes,
        }
    }

    /// Says whether a search of the raw text cannot have seen what is inside.
    pub fn hidden(&self) -> bool {
        matches!(self.inner, Inner::Hex | Inner::Bytea(_))
    }

    /// Carries edits of the bytes out to the row.
    pub fn outwards(&self, edits: Vec<Edit>, row: &[u8], value: &Value, quoting: Quoting) -> Vec<Edit> {
        let text = |new: &[u8]| escape(new, row, value.literal.clone(), quoting);
        match &self.inner {
            Inner::Hex => self.outer.outwards(edits, |new, span| hex(new, &row[span])),
            Inner::Text => self.outer.outwards(edits, |new, _| text(new)),
            Inner::Bytea(inner) => {
                let digits = inner.outwards(edits, |new, span| hex(new, &self.outer.bytes[span]));
                self.outer.outwards(digits, |new, _| text(new))
            }
            Inner::Numbered(inner) => {
                let spelled = inner.outwards(edits, |new, _| Text::from(by_numbers(new)));
                self.outer.outwards(spelled, |new, _| text(new))
            }
            Inner::Replaced(inner) => {
                let spelled = inner.outwards(edits, |new, _| Text::from(new));
                self.outer.outwards(spelled, |new, _| text(new))
            }
        }
    }
}

/// Returns the meaning of a value of a row; nothing for numbers, NULL and expressions. `spare` gives the memory.
pub fn meaning(row: &[u8], value: &Value, quoting: Quoting, spare: &mut Decoded) -> Option<Meant> {
    match value.kind {
        ValueKind::Text => {
            let mut outer = std::mem::take(spare);
            decode_into(row, value.literal.clone(), quoting, &mut outer);
            let bytea = quoting.dialect == Dialect::Postgres && outer.bytes.starts_with(b"\\x");
            let inner = bytea.then(|| unhex(&outer.bytes, 2..outer.bytes.len())).flatten();
            let before = row[value.span.start..value.literal.start].trim_ascii();
            let is_bytes = inner.is_some() || before.eq_ignore_ascii_case(b"_binary");
            Some(Meant { outer, inner: inner.map_or(Inner::Text, Inner::Bytea), is_bytes })
        }
        ValueKind::Hex => {
            Some(Meant { outer: unhex(row, value.literal.clone())?, inner: Inner::Hex, is_bytes: true })
        }
        ValueKind::Expression if quoting.dialect == Dialect::Sqlite => {
            let expression = &row[value.span.clone()];
            if expression.len() > 7 && expression[..7].eq_ignore_ascii_case(b"unistr(") {
                // Nothing but one text may stand in the brackets.
                let alone =
                    value.literal.start == value.span.start + 7 && value.literal.end + 1 == value.span.end;
                let outer = alone.then(|| decode(row, value.literal.clone(), quoting))?;
                let inner = Decoded::undoing_bytes(&outer.bytes, 0..outer.bytes.len(), b'\\', numbered);
                return Some(Meant { outer, inner: Inner::Numbered(inner), is_bytes: false });
            }
            let pairs = replaced_breaks(expression)?;
            let outer = decode(row, value.literal.clone(), quoting);
            let inner = with_breaks(&outer.bytes, &pairs);
            Some(Meant { outer, inner: Inner::Replaced(inner), is_bytes: false })
        }
        ValueKind::Null | ValueKind::Number | ValueKind::Expression => None,
    }
}

/// Reads one escape of SQLite's `unistr()`: `\\`, `\XXXX`, `\uXXXX`, `\+XXXXXX`, `\UXXXXXXXX`. Source: "Built-In Scalar SQL Functions".
fn numbered(rest: &[u8]) -> Option<(smallvec::SmallVec<[u8; 4]>, usize)> {
    let (from, digits) = match rest.get(1)? {
        b'\\' => return Some((smallvec::smallvec![b'\\'], 2)),
        b'u' => (2, 4),
        b'U' => (2, 8),
        b'+' => (2, 6),
        _ => (1, 4),
    };
    let hex = std::str::from_utf8(rest.get(from..from + digits)?).ok()?;
    let letter = char::from_u32(u32::from_str_radix(hex, 16).ok()?)?;
    Some((letter.encode_utf8(&mut [0; 4]).as_bytes().into(), from + digits))
}

/// Spells text for `unistr()`.
fn by_numbers(text: &[u8]) -> Vec<u8> {
    let spell = |b: &u8| match b {
        b'\\' => b"\\\\".to_vec(),
        0..=0x1f => format!("\\u{b:04x}").into_bytes(),
        b => vec![*b],
    };
    text.iter().flat_map(spell).collect()
}

/// Returns what stands for which break in SQLite's `replace(replace('…','\r',char(13)),'\n',char(10))`.
fn replaced_breaks(expression: &[u8]) -> Option<Vec<(Vec<u8>, u8)>> {
    let mut text = expression;
    let mut pairs = Vec::new();
    while text.len() > 8 && text[..8].eq_ignore_ascii_case(b"replace(") {
        let inside = text.strip_suffix(b")")?;
        let (rest, code) = [(&b",char(10)"[..], b'\n'), (b",char(13)", b'\r')]
            .iter()
            .find_map(|(tail, code)| Some((inside.strip_suffix(*tail)?, *code)))?;
        let rest = rest.strip_suffix(b"'")?;
        let open = rest.iter().rposition(|b| *b == b'\'')?;
        let sign = &rest[open + 1..];
        (!sign.is_empty() && rest[..open].ends_with(b",")).then_some(())?;
        pairs.push((sign.to_vec(), code));
        text = &rest[8..open - 1];
    }
    (!pairs.is_empty() && text.starts_with(b"'") && text.ends_with(b"'")).then_some(pairs)
}

fn with_breaks(text: &[u8], pairs: &[(Vec<u8>, u8)]) -> Decoded {
    let mut out = Decoded::starting_at(0);
    let mut at = 0;
    while at < text.len() {
        match pairs.iter().find(|(sign, _)| text[at..].starts_with(sign)) {
            Some((sign, code)) => {
                at += sign.len();
                out.escape(&[*code], at);
            }
            None => {
                out.plain(&text[at..=at]);
                at += 1;
            }
        }
    }
    out
}

/// Returns a value as text, for keys and cells: the decoded string, or a number as written.
pub fn text_of(row: &[u8], value: &Value, quoting: Quoting) -> Option<String> {
    let bytes = match value.kind {
        ValueKind::Text | ValueKind::Hex => {
            meaning(row, value, quoting, &mut Decoded::default())?.into_bytes()
        }
        ValueKind::Number => row[value.span.clone()].to_vec(),
        ValueKind::Null | ValueKind::Expression => return None,
    };
    String::from_utf8(bytes).ok()
}

fn unhex(text: &[u8], digits: std::ops::Range<usize>) -> Option<Decoded> {
    if !digits.len().is_multiple_of(2) {
        return None;
    }
    let mut out = Decoded::starting_at(digits.start);
    for (i, pair) in text[digits.clone()].chunks_exact(2).enumerate() {
        let digit = |b: u8| (b as char).to_digit(16);
        let byte = digit(pair[0])? << 4 | digit(pair[1])?;
        out.escape(&[byte as u8], digits.start + 2 * i + 2);
    }
    Some(out)
}

/// Spells bytes as hex digits, in the letter case of the digits they replace.
pub fn hex(new: &[u8], old: &[u8]) -> Vec<u8> {
    let mut out = Vec::with_capacity(2 * new.len());
    push_hex_digits(&mut out, new);
    if old.iter().any(u8::is_ascii_lowercase) {
        out.make_ascii_lowercase();
    }
    out
}

/// Writes a text as a value of its own in the place of another one.
pub fn spelled(text: &str, row: &[u8], value: &Value, quoting: Quoting) -> Vec<u8> {
    let plain = value.kind == ValueKind::Text && value.literal.end > value.literal.start;
    if quoting.copy || plain {
        // What stands before the quotes, an introducer or `N`, stays.
        let quotes = usize::from(!quoting.copy);
        let inside = value.literal.start + quotes..value.literal.end - quotes;
        let new = escape(text.as_bytes(), row, value.literal.clone(), quoting);
        return [&row[value.span.start..inside.start], &new, &row[inside.end..value.span.end]].concat();
    }
    // A number stays one.
    if value.kind == ValueKind::Number && text.parse::<i64>().is_ok() {
        return text.as_bytes().to_vec();
    }
    let quoting = Quoting { copy: false, ..quoting };
    let new = escape(text.as_bytes(), b"''", 0..2, quoting);
    [b"'", &new[..], b"'"].concat()
}

/// Writes bytes as a quoted literal of MySQL's.
pub fn quoted(bytes: &[u8]) -> Vec<u8> {
    let mut out = Vec::with_capacity(bytes.len() + 2);
    push_quoted(&mut out, bytes);
    out
}

/// Which bytes cannot stand as they are in a quoted literal of MySQL's, and what follows the backslash then.
const ESCAPED: [u8; 256] = {
    let mut table = [0; 256];
    table[0] = b'0';
    table[b'\n' as usize] = b'n';
    table[b'\r' as usize] = b'r';
    table[0x1A] = b'Z';
    table[b'\\' as usize] = b'\\';
    table[b'\'' as usize] = b'\'';
    table
};

static SPECIAL: Table = Table::new(&[
    &[Alike { or: 0, is: 0 }, Alike { or: 0, is: b'\n' }, Alike { or: 0, is: b'\r' }],
    &[Alike { or: 0, is: 0x1A }],
    &[Alike { or: 0, is: b'\\' }],
    &[Alike { or: 0, is: b'\'' }],
]);

/// Appends bytes as a quoted literal of MySQL's. What has to be escaped is found 64 bytes at a time; all between is copied whole.
pub fn push_quoted(out: &mut Vec<u8>, bytes: &[u8]) {
    lanes::run(PushQuoted { out, bytes });
}

struct PushQuoted<'a> {
    out: &'a mut Vec<u8>,
    bytes: &'a [u8],
}

impl Job for PushQuoted<'_> {
    type Output = ();

    #[inline(always)]
    fn run<L: Lanes>(self, lanes: L) {
        let PushQuoted { out, bytes } = self;
        out.reserve(bytes.len() + bytes.len() / 16 + 2);
        out.push(b'\'');
        let mut last = [b' '; BLOCK];
        let (mut at, mut copied) = (0, 0);
        while at < bytes.len() {
            let sorted = lanes.sort(lanes::block(bytes, at, &mut last), &SPECIAL);
            let mut special = lanes.from(sorted, 0);
            while special != 0 {
                let place = at + special.trailing_zeros() as usize;
                special &= special - 1;
                out.extend_from_slice(&bytes[copied..place]);
                out.extend_from_slice(&[b'\\', ESCAPED[usize::from(bytes[place])]]);
                copied = place + 1;
            }
            at += BLOCK;
        }
        out.extend_from_slice(&bytes[copied..]);
        out.push(b'\'');
    }
}

/// Appends bytes as a hex literal of MySQL's.
pub fn push_hex(out: &mut Vec<u8>, bytes: &[u8]) {
    out.extend_from_slice(b"0x");
    push_hex_digits(out, bytes);
}

/// Appends bytes as hex digits.
pub fn push_hex_digits(out: &mut Vec<u8>, bytes: &[u8]) {
    const DIGITS: &[u8; 16] = b"0123456789ABCDEF";
    out.extend(bytes.iter().flat_map(|b| [DIGITS[usize::from(b >> 4)], DIGITS[usize::from(b & 15)]]));
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn what_is_written_reads_back(bytes in proptest::collection::vec(prop_oneof![3 => Just(b'a'), 1 => any::<u8>(), 1 => proptest::sample::select(&b"\0\n\r\x1A\\'\"%_"[..])], 0..200)) {
            let all = [
                (Quoting::MYSQL, "'"),
                (Quoting { backslash: false, ..Quoting::MYSQL }, "'"),
                (Quoting::MYSQL, "\""),
                (Quoting { dialect: Dialect::Postgres, backslash: false, copy: false }, "E'"),
                (Quoting { dialect: Dialect::Postgres, backslash: false, copy: false }, "'"),
                (Quoting { dialect: Dialect::Postgres, backslash: false, copy: true }, ""),
                (Quoting { dialect: Dialect::SqlServer, backslash: false, copy: false }, "'"),
            ];
            for (quoting, open) in all {
                let close = open.trim_start_matches('E');
                let empty = format!("{open}{close}");
                let inside = escape(&bytes, empty.as_bytes(), 0..empty.len(), quoting);
                let whole = [open.as_bytes(), &inside, close.as_bytes()].concat();
                prop_assert_eq!(&decode(&whole, 0..whole.len(), quoting).bytes, &bytes, "{:?} {}", quoting, open);
            }
            let whole = quoted(&bytes);
            prop_assert_eq!(&decode(&whole, 0..whole.len(), Quoting::MYSQL).bytes, &bytes);
        }
    }

    #[test]
    fn values_with_two_layers_are_read_and_written() {
        let postgres = Quoting { dialect: Dialect::Postgres, backslash: false, copy: true };
        let raw = br"\\x2f61";
        let value = Value { kind: ValueKind::Text, span: 0..7, literal: 0..7 };
        let meant = meaning(raw, &value, postgres, &mut Decoded::default()).unwrap();
        assert_eq!(meant.bytes(), b"/a");
        let out = meant.outwards(vec![Edit::new(1..2, "bc")], raw, &value, postgres);
        assert_eq!(crate::edit::apply(raw, &out), br"\\x2f6263");
        let sqlite = Quoting { dialect: Dialect::Sqlite, backslash: false, copy: false };
        let row = br"(replace(replace('a\r\nb''c','\r',char(13)),'\n',char(10)))";
        let mut values = Vec::new();
        super::super::row::scan(row, sqlite, true, &mut values);
        let meant = meaning(row, &values[0], sqlite, &mut Decoded::default()).unwrap();
        assert_eq!(meant.bytes(), b"a\r\nb'c");
        let out = meant.outwards(vec![Edit::new(3..4, "d")], row, &values[0], sqlite);
        assert_eq!(
            String::from_utf8_lossy(&crate::edit::apply(row, &out)),
            r"(replace(replace('a\r\nd''c','\r',char(13)),'\n',char(10)))"
        );
        assert_eq!(spelled("it's", row, &values[0], sqlite), b"'it''s'");
        let escapes = Quoting { copy: false, ..postgres };
        assert_eq!(decode(br"E'\u00e9\x41\101\'b'", 0..20, escapes).bytes, "éAA'b".as_bytes());
        assert_eq!(decode(br"$a$it's \n$a$", 0..13, escapes).bytes, br"it's \n");
    }
}
