//! Tokens of MySQL's dump dialect, without I/O: bytes in, one token's kind and length out.
//!
//! The lexer never fails on strange bytes: whatever is no quote, comment or word is punctuation. It asks for more input where a
//! token might go on, so its answers do not depend on how the input was cut. Source: MySQL reference manual,
//! "Lexical structure" and "Comments".

/// Kind of a token.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Token {
    /// White space.
    Space,
    /// `-- …`, `# …` or `/* … */`.
    Comment,
    /// `/*!40101`: what follows is executed.
    HintOpen,
    /// The `*/` of such a hint.
    HintClose,
    /// A keyword, plain name or number.
    Word,
    /// A backquoted name, quotes included.
    Name,
    /// A string in single or double quotes, quotes included.
    Text,
    /// Any other byte.
    Punct(u8),
    /// The statement delimiter, `;` unless a `DELIMITER` line changed it.
    End,
    /// A `DELIMITER` line of the client.
    DelimiterLine,
}

/// What the lexer says of the bytes before it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Step {
    /// A token of so many bytes.
    Token(Token, usize),
    /// More input is needed to tell.
    More,
    /// The input ends inside of a token of this kind.
    CutOff(Token),
}

/// The lexer's state between tokens.
#[derive(Debug, Clone)]
pub struct Lexer {
    /// Whether a backslash escapes inside strings (off under `NO_BACKSLASH_ESCAPES`).
    pub backslash_escapes: bool,
    delimiter: Vec<u8>,
    at_start: bool,
    in_hint: bool,
}

impl Default for Lexer {
    fn default() -> Self {
        Lexer { backslash_escapes: true, delimiter: b";".to_vec(), at_start: true, in_hint: false }
    }
}

impl Lexer {
    /// Makes a lexer for a single text.
    pub fn with(backslash_escapes: bool) -> Self {
        Lexer { backslash_escapes, ..Lexer::default() }
    }

    /// Notes that the statement's rows were read outside of the lexer.
    pub fn inside_statement(&mut self) {
        self.at_start = false;
    }

    /// Reads the next token. `end` says that no input follows `rest`.
    pub fn next(&mut self, rest: &[u8], end: bool) -> Step {
        let step = self.look(rest, end);
        if let Step::Token(token, len) = step {
            match token {
                Token::Space | Token::Comment => {}
                Token::HintOpen => self.in_hint = true,
                Token::HintClose => self.in_hint = false,
                Token::End => {
                    self.at_start = true;
                    self.in_hint = false;
                }
                Token::DelimiterLine => {
                    let line = rest[..len].trim_ascii();
                    let word = line.get(9..).unwrap_or_default().trim_ascii();
                    if !word.is_empty() {
                        self.delimiter = word.to_vec();
                    }
                }
                _ => self.at_start = false,
            }
        }
        step
    }

    fn look(&self, rest: &[u8], end: bool) -> Step {
        let Some(first) = rest.first().copied() else { return Step::More };
        // A token that reaches the end of the window may go on behind it.
        let open_ended = |token, len: usize| {
            if len == rest.len() && !end { Step::More } else { Step::Token(token, len) }
        };
        if !end && rest.len() < self.delimiter.len().max(3) {
            return Step::More;
        }
        if rest.starts_with(&self.delimiter) {
            return Step::Token(Token::End, self.delimiter.len());
        }
        match first {
            b' ' | b'\t' | b'\n' | b'\r' | 0x0B | 0x0C => open_ended(
                Token::Space,
                rest.iter().take_while(|b| b.is_ascii_whitespace() || **b == 0x0B).count(),
            ),
            b'#' => line_comment(rest, end),
            b'-' if rest.starts_with(b"--") && rest.get(2).is_none_or(|b| *b <= b' ') => {
                line_comment(rest, end)
            }
            b'/' if rest.starts_with(b"/*!") || rest.starts_with(b"/*M!") => {
                let sign = if rest[2] == b'!' { 3 } else { 4 };
                let digits =
                    rest.get(sign..).unwrap_or_default().iter().take_while(|b| b.is_ascii_digit()).count();
                open_ended(Token::HintOpen, sign + digits)
            }
            b'/' if rest.starts_with(b"/*") => match memchr::memmem::find(&rest[2..], b"*/") {
                Some(at) => Step::Token(Token::Comment, at + 4),
                None if end => Step::CutOff(Token::Comment),
                None => Step::More,
            },
            b'*' if self.in_hint && rest.starts_with(b"*/") => Step::Token(Token::HintClose, 2),
            b'\'' | b'"' => match string_end(rest, 1, first, self.backslash_escapes, end) {
                Some(len) => Step::Token(Token::Text, len),
                None if end => Step::CutOff(Token::Text),
                None => Step::More,
            },
            b'`' => match string_end(rest, 1, b'`', false, end) {
                Some(len) => Step::Token(Token::Name, len),
                None if end => Step::CutOff(Token::Name),
                None => Step::More,
            },
            b if word_byte(b) => {
                if self.at_start
                    && rest.len() >= 10
                    && rest[..9].eq_ignore_ascii_case(b"DELIMITER")
                    && matches!(rest[9], b' ' | b'\t')
                {
                    return match memchr::memchr(b'\n', rest) {
                        Some(at) => Step::Token(Token::DelimiterLine, at),
                        None if end => Step::Token(Token::DelimiterLine, rest.len()),
                        None => Step::More,
                    };
                }
                if self.at_start && rest.len() < 10 && !end {
                    return Step::More;
                }
                let number = b.is_ascii_digit();
                let len = rest
                    .iter()
                    .enumerate()
                    .take_while(|(i, b)| {
                        (word_byte(**b) || (number && **b == b'.')) && !self.delimiter_at(rest, *i)
                    })
                    .count();
                open_ended(Token::Word, len)
            }
            other => Step::Token(Token::Punct(other), 1),
        }
    }

    /// A delimiter such as `$$` may follow a word without a space.
    fn delimiter_at(&self, rest: &[u8], at: usize) -> bool {
        self.delimiter != b";" && rest[at..].starts_with(&self.delimiter)
    }
}

fn line_comment(rest: &[u8], end: bool) -> Step {
    match memchr::memchr(b'\n', rest) {
        Some(at) => Step::Token(Token::Comment, at),
        None if end => Step::Token(Token::Comment, rest.len()),
        None => Step::More,
    }
}

fn word_byte(b: u8) -> bool {
    b.is_ascii_alphanumeric() || b == b'_' || b == b'$' || b == b'@' || b >= 0x80
}

/// Returns the length up to and including the closing quote, scanning from `from`. A doubled quote belongs to the string, so the
/// byte behind the quote must be known.
#[inline]
pub fn string_end(rest: &[u8], from: usize, quote: u8, backslash: bool, end: bool) -> Option<usize> {
    let mut at = from;
    loop {
        let hay = rest.get(at..)?;
        at += if backslash { memchr::memchr2(quote, b'\\', hay)? } else { memchr::memchr(quote, hay)? };
        if rest[at] == quote {
            match rest.get(at + 1) {
                Some(next) if *next == quote => at += 2,
                None if !end => return None,
                _ => return Some(at + 1),
            }
        } else {
            at += 2;
        }
    }
}
