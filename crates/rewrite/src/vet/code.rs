//! A statement cut into tokens as a whole: what the guards look at. Comments and space are gone, hints are resolved before.

use super::Refused;
use crate::dump::dialect::Dialect;
use crate::dump::lex::{Token, tokens};
use crate::dump::literal::Quoting;
use crate::dump::statement::unquoted;
use std::ops::Range;

/// TokenKind of a token.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum TokenKind {
    /// A key word or a plain name.
    Word,
    /// A quoted name.
    Name,
    /// A string.
    Text,
    /// A number.
    Number,
    /// `@name` or `@@name`.
    Variable,
    /// Any other sign.
    Sign(u8),
}

#[derive(Debug)]
struct Piece {
    kind: TokenKind,
    span: Range<usize>,
    /// A word in upper case; the plain name of a quoted one.
    plain: String,
}

/// A statement as tokens.
#[derive(Debug)]
pub(super) struct Code<'s> {
    pub(super) text: &'s str,
    pieces: Vec<Piece>,
    quoting: Quoting,
}

impl<'s> Code<'s> {
    /// Reads one statement. Semicolons are refused, but at its end, or everywhere where it is a body of statements (`is_body`).
    pub(super) fn read(text: &'s str, quoting: Quoting, is_body: bool) -> Result<Self, Refused> {
        let mut pieces: Vec<Piece> = Vec::new();
        let mut ended = false;
        let mysql = quoting.dialect == Dialect::Mysql;
        for token in tokens(text.as_bytes(), quoting) {
            let Some((token, span)) = token else {
                return Err(Refused::new("the statement ends inside of a quoted text"));
            };
            let bytes = &text[span.clone()];
            let kind = match token {
                Token::Space | Token::Comment => continue,
                Token::HintOpen | Token::HintClose => {
                    return Err(Refused::new("a hint for other servers hides part of the statement"));
                }
                Token::ClientLine => return Err(Refused::new("a line for a client stands in the statement")),
                Token::End => TokenKind::Sign(b';'),
                Token::Name => TokenKind::Name,
                Token::Text => TokenKind::Text,
                Token::Punct(sign) => TokenKind::Sign(sign),
                Token::Word => match bytes.as_bytes()[0] {
                    b'@' => TokenKind::Variable,
                    b'0'..=b'9' if is_number(bytes) => TokenKind::Number,
                    b'0'..=b'9' => {
                        return Err(Refused::new(format!("{bytes} is neither a number nor a quoted name")));
                    }
                    _ => TokenKind::Word,
                },
            };
            if ended && !is_body {
                return Err(Refused::new("a second statement hides in this one"));
            }
            ended |= kind == TokenKind::Sign(b';');
            // `U&"…"` spells names by numbers.
            if quoting.dialect == Dialect::Postgres
                && matches!(kind, TokenKind::Name | TokenKind::Text)
                && text[..span.start].ends_with('&')
                && text[..span.start - 1].ends_with(['u', 'U'])
            {
                return Err(Refused::new("a name or text is spelled by numbers (U&)"));
            }
            let plain = match kind {
                TokenKind::Word => bytes.to_uppercase(),
                TokenKind::Name => unquoted(bytes.as_bytes()),
                TokenKind::Text if mysql && bytes.starts_with('"') => unquoted(bytes.as_bytes()),
                _ => String::new(),
            };
            pieces.push(Piece { kind, span, plain });
        }
        if ended {
            while pieces.last().is_some_and(|p| p.kind == TokenKind::Sign(b';')) {
                pieces.pop();
            }
        }
        Ok(Code { text, pieces, quoting })
    }

    /// How strings are written in it.
    pub(super) fn quoting(&self) -> Quoting {
        self.quoting
    }

    pub(super) fn len(&self) -> usize {
        self.pieces.len()
    }

    pub(super) fn kind(&self, at: usize) -> Option<TokenKind> {
        self.pieces.get(at).map(|p| p.kind)
    }

    /// The unquoted word there in upper case, or nothing.
    pub(super) fn word(&self, at: usize) -> &str {
        match self.pieces.get(at) {
            Some(p) if p.kind == TokenKind::Word => &p.plain,
            _ => "",
        }
    }

    pub(super) fn is(&self, at: usize, word: &str) -> bool {
        self.word(at) == word
    }

    pub(super) fn are(&self, at: usize, words: &[&str]) -> bool {
        words.iter().enumerate().all(|(i, word)| self.is(at + i, word))
    }

    pub(super) fn sign(&self, at: usize, sign: u8) -> bool {
        self.kind(at) == Some(TokenKind::Sign(sign))
    }

    /// Where a token lies in the text.
    pub(super) fn span(&self, at: usize) -> Range<usize> {
        self.pieces.get(at).map_or(self.text.len()..self.text.len(), |p| p.span.clone())
    }

    /// What a token is as it is written.
    pub(super) fn written(&self, at: usize) -> &'s str {
        &self.text[self.span(at)]
    }

    /// The name there, quoted or not; a plain one as the dialect folds it.
    pub(super) fn name(&self, at: usize) -> Option<String> {
        let piece = self.pieces.get(at)?;
        match piece.kind {
            TokenKind::Name => Some(piece.plain.clone()),
            // With MySQL's ANSI quotes this is a name.
            TokenKind::Text if !piece.plain.is_empty() => Some(piece.plain.clone()),
            TokenKind::Word if self.quoting.dialect == Dialect::Postgres => Some(piece.plain.to_lowercase()),
            TokenKind::Word => Some(self.written(at).to_string()),
            _ => None,
        }
    }

    /// The names of a chain `a.b.c` that begins there, and where it ends.
    pub(super) fn chain(&self, at: usize) -> Option<(Vec<String>, usize)> {
        let mut names = vec![self.name(at)?];
        let mut end = at + 1;
        while self.sign(end, b'.') {
            let Some(next) = self.name(end + 1) else { break };
            names.push(next);
            end += 2;
        }
        Some((names, end))
    }

    /// Where the bracket that opens there is closed.
    pub(super) fn closing(&self, at: usize) -> Result<usize, Refused> {
        let mut depth = 0usize;
        for i in at..self.len() {
            match self.kind(i) {
                Some(TokenKind::Sign(b'(')) => depth += 1,
                Some(TokenKind::Sign(b')')) => match depth {
                    0 | 1 => return Ok(i),
                    _ => depth -= 1,
                },
                _ => {}
            }
        }
        Err(Refused::new("a bracket is not closed"))
    }

    /// Goes over a list of columns in brackets, if there is one at this place: nothing but names may be in it.
    pub(super) fn columns(&self, at: usize) -> Result<usize, Refused> {
        if !self.sign(at, b'(') {
            return Ok(at);
        }
        let close = self.closing(at)?;
        if (at + 1..close).any(|i| !self.sign(i, b',') && self.name(i).is_none()) {
            return Err(Refused::new("the list of columns holds more than names"));
        }
        Ok(close + 1)
    }

    /// Cuts a range at the commas that lie in no bracket.
    pub(super) fn items(&self, range: Range<usize>) -> Result<Vec<Range<usize>>, Refused> {
        let mut items = Vec::new();
        let (mut start, mut at) = (range.start, range.start);
        while at < range.end {
            if self.sign(at, b'(') {
                at = self.closing(at)?;
            } else if self.sign(at, b',') {
                items.push(start..at);
                start = at + 1;
            }
            at += 1;
        }
        items.push(start..range.end);
        Ok(items)
    }

    /// Finds a word in a range, in no bracket.
    pub(super) fn find(&self, range: Range<usize>, word: &str) -> Option<usize> {
        let mut at = range.start;
        while at < range.end {
            if self.is(at, word) {
                return Some(at);
            }
            at = if self.sign(at, b'(') { self.closing(at).ok()? + 1 } else { at + 1 };
        }
        None
    }
}

fn is_number(text: &str) -> bool {
    let lower = text.to_ascii_lowercase();
    if let Some(digits) = lower.strip_prefix("0x").or_else(|| lower.strip_prefix("0b")) {
        return digits.bytes().all(|b| b.is_ascii_hexdigit());
    }
    let (mantissa, exponent) = lower.split_once('e').unwrap_or((&lower, ""));
    mantissa.bytes().all(|b| b.is_ascii_digit() || b == b'.')
        && mantissa.matches('.').count() <= 1
        && exponent.bytes().all(|b| b.is_ascii_digit())
}
