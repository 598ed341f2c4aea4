//! `INSERT … SET a = 'x', b = 'y'`, an insert whose columns stand beside its values.

use crate::dump::dialect::Dialect;
use crate::dump::lex::{Lexer, Step, Token};
use crate::dump::literal::Quoting;
use crate::dump::row::{self, Value};
use crate::dump::statement;
use std::ops::Range;

/// Reads the columns and values of `INSERT … SET column = value, …`.
pub(super) fn set_values(statement: &[u8], quoting: Quoting) -> Option<(Vec<String>, Vec<Value>)> {
    if quoting.dialect != Dialect::Mysql {
        return None;
    }
    let mut lexer = Lexer::reading(quoting);
    let mut at = 0;
    let mut tokens: Vec<(Token, Range<usize>)> = Vec::new();
    while at < statement.len() {
        let Step::Token(token, len) = lexer.next(&statement[at..], true) else { break };
        if !matches!(token, Token::Space | Token::Comment) {
            tokens.push((token, at..at + len));
        }
        at += len;
    }
    let is_set = |(t, s): &(Token, Range<usize>)| {
        *t == Token::Word && statement[s.clone()].eq_ignore_ascii_case(b"SET")
    };
    let mut rest = &tokens[tokens.iter().position(is_set)? + 1..];
    let (mut columns, mut values) = (Vec::new(), Vec::new());
    while let [(kind, name), (Token::Punct(b'='), equals), tail @ ..] = rest {
        let name = &statement[name.clone()];
        columns.push(match kind {
            Token::Name | Token::Text => statement::unquoted(name),
            Token::Word => String::from_utf8_lossy(name).into_owned(),
            _ => return None,
        });
        let mut depth = 0;
        let mut end = tail.len();
        let mut ends = true;
        for (i, (token, span)) in tail.iter().enumerate() {
            match token {
                Token::Punct(b'(') => depth += 1,
                Token::Punct(b')') => depth -= 1,
                Token::Punct(b',') if depth == 0 => (end, ends) = (i, false),
                Token::End | Token::HintClose => end = i,
                Token::Word if statement[span.clone()].eq_ignore_ascii_case(b"ON") && depth == 0 => end = i,
                _ => continue,
            }
            if end == i {
                break;
            }
        }
        let value_end = tail[..end].last().map_or(equals.end, |(_, s)| s.end);
        let strings: Vec<_> = tail[..end].iter().filter(|(t, _)| *t == Token::Text).collect();
        let first = strings.first().map(|(_, s)| s.clone());
        values.push(row::value(statement, equals.end..value_end, first, strings.len()));
        if ends {
            return Some((columns, values));
        }
        rest = &tail[end + 1..];
    }
    None
}
