//! One row of an insert, `( … )`, cut into values.
//!
//! Invariant: quotes are only ever skipped by [`string_end`], so a bracket or comma inside of a string is never taken for
//! structure. Cost: one SIMD search per string and one look per byte outside of strings. Values are spans; nothing is copied.
//! Only rows in which something was found, or whose table asks for it, come here: `runs` passes over the others.

use super::dialect::Dialect;
use super::lex::{Dollar, dollar_string, string_end};
use super::literal::{self, Quoting};
pub use super::value::{Value, ValueKind};
use std::ops::Range;

/// What the scanner says of the bytes before it.
#[derive(Debug, PartialEq, Eq)]
pub enum RowStep {
    /// A row of so many bytes, brackets included.
    Row(usize),
    /// More input is needed.
    More,
}

/// Cuts a whole row into its values.
pub fn cut(row: &[u8], quoting: Quoting, values: &mut Vec<Value>) {
    if quoting.copy {
        scan_copy(row, values);
    } else {
        scan(row, quoting, true, values);
    }
}

/// Scans a row that begins with its opening bracket.
pub fn scan(rest: &[u8], quoting: Quoting, end: bool, values: &mut Vec<Value>) -> RowStep {
    values.clear();
    let mysql = quoting.dialect == Dialect::Mysql;
    let postgres = quoting.dialect == Dialect::Postgres;
    let mut at = 1;
    let mut depth = 0usize;
    let mut start = 1;
    let mut literal: Option<Range<usize>> = None;
    let mut literals = 0;
    loop {
        let Some(b) = rest.get(at).copied() else { return RowStep::More };
        match b {
            b'\'' | b'"' => {
                let escapes =
                    quoting.backslash || (postgres && b == b'\'' && literal::has_escape_prefix(rest, at));
                let escapes = escapes && (mysql || b == b'\'');
                let Some(close) = string_end(rest, at + 1, b, escapes, end) else { return RowStep::More };
                literal.get_or_insert(at..close);
                literals += 1;
                at = close;
            }
            b'`' if mysql => match string_end(rest, at + 1, b'`', false, end) {
                Some(close) => at = close,
                None => return RowStep::More,
            },
            b'$' if postgres && !rest[at - 1].is_ascii_alphanumeric() => {
                match dollar_string(&rest[at..], end) {
                    Dollar::Text(len) => at += len,
                    Dollar::None => at += 1,
                    Dollar::Open => return RowStep::More,
                }
            }
            b'(' => {
                depth += 1;
                at += 1;
            }
            b',' if depth == 0 => {
                values.push(value(rest, start..at, literal.take(), literals));
                literals = 0;
                at += 1;
                start = at;
            }
            b')' if depth == 0 => {
                values.push(value(rest, start..at, literal.take(), literals));
                return RowStep::Row(at + 1);
            }
            b')' => {
                depth -= 1;
                at += 1;
            }
            b'/' if rest[at..].starts_with(b"/*") => match memchr::memmem::find(&rest[at + 2..], b"*/") {
                Some(len) => at += len + 4,
                None => return RowStep::More,
            },
            // The byte behind must be known to tell a comment.
            b'/' | b'-' if at + 1 == rest.len() => return RowStep::More,
            b'-' if rest[at..].starts_with(b"--") => match line_comment(rest, at, mysql) {
                Some(len) => at += len,
                None => return RowStep::More,
            },
            b'#' if mysql => match memchr::memchr(b'\n', &rest[at..]) {
                Some(len) => at += len,
                None => return RowStep::More,
            },
            _ => at += 1,
        }
    }
}

/// Returns the length of a `--` comment at `at`, or of the two signs where they are none.
fn line_comment(rest: &[u8], at: usize, mysql: bool) -> Option<usize> {
    let next = *rest.get(at + 2)?;
    if mysql && next > b' ' {
        return Some(2);
    }
    memchr::memchr(b'\n', &rest[at..])
}

/// Cuts a line of a `COPY` block into its values.
fn scan_copy(line: &[u8], values: &mut Vec<Value>) {
    values.clear();
    let mut start = 0;
    for tab in memchr::memchr_iter(b'\t', line).chain(std::iter::once(line.len())) {
        let kind = if &line[start..tab] == b"\\N" { ValueKind::Null } else { ValueKind::Text };
        values.push(Value { kind, span: start..tab, literal: start..tab });
        start = tab + 1;
    }
}

pub(super) fn value(
    rest: &[u8],
    span: Range<usize>,
    literal: Option<Range<usize>>,
    literals: usize,
) -> Value {
    // Nearly every string stands alone between its commas.
    if literals == 1
        && let Some(literal) = literal.as_ref().filter(|l| **l == span)
    {
        return Value { kind: ValueKind::Text, literal: literal.clone(), span };
    }
    let raw = &rest[span.clone()];
    let lead = raw.len() - raw.trim_ascii_start().len();
    let text = raw.trim_ascii();
    let span = span.start + lead..span.start + lead + text.len();
    if let Some(literal) = literal.clone()
        && literals == 1
        && literal.end == span.end
    {
        let before = rest[span.start..literal.start].trim_ascii();
        let introducer = before.is_empty()
            || before.eq_ignore_ascii_case(b"N")
            || (before.eq_ignore_ascii_case(b"E") && text.len() - 1 == literal.len())
            || (before[0] == b'_' && before.iter().all(|b| b.is_ascii_alphanumeric() || *b == b'_'));
        if introducer {
            return Value { kind: ValueKind::Text, span, literal };
        }
        if before.eq_ignore_ascii_case(b"X") || before.eq_ignore_ascii_case(b"_binary x") {
            let literal = literal.start + 1..literal.end - 1;
            return Value { kind: ValueKind::Hex, span, literal };
        }
        return Value { kind: ValueKind::Expression, span, literal };
    } else if let Some(literal) = literal {
        return Value { kind: ValueKind::Expression, span, literal };
    }
    let kind = match text {
        [b'N' | b'n', ..] if text.eq_ignore_ascii_case(b"NULL") => ValueKind::Null,
        [b'0', b'x', digits @ ..] if !digits.is_empty() && digits.iter().all(u8::is_ascii_hexdigit) => {
            let literal = span.start + 2..span.end;
            return Value { kind: ValueKind::Hex, span, literal };
        }
        [b'0'..=b'9' | b'-' | b'+' | b'.', tail @ ..]
            if tail.iter().all(|b| b.is_ascii_digit() || b".eE+-".contains(b)) =>
        {
            ValueKind::Number
        }
        _ => ValueKind::Expression,
    };
    Value { kind, literal: span.start..span.start, span }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_told_apart_and_brackets_in_strings_are_text() {
        let row = br"(1, 'a),(\'b''c' ,NULL,0xAF,X'41',_binary 'x',-1.5e3,CONCAT('a','b'),'')";
        let mut values = Vec::new();
        assert_eq!(scan(row, Quoting::MYSQL, true, &mut values), RowStep::Row(row.len()));
        use ValueKind::*;
        let kinds: Vec<_> = values.iter().map(|v| v.kind).collect();
        assert_eq!(kinds, [Number, Text, Null, Hex, Hex, Text, Number, Expression, Text]);
        assert_eq!(&row[values[1].literal.clone()], br"'a),(\'b''c'");
        assert_eq!(&row[values[3].literal.clone()], b"AF");
        for cut in 0..row.len() {
            assert_eq!(
                scan(&row[..cut.max(1)], Quoting::MYSQL, false, &mut values),
                RowStep::More,
                "cut at {cut}"
            );
        }
    }
}
