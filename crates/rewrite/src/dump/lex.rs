//! Tokens of a dump, without I/O: bytes in, one token's kind and length out.
//!
//! The lexer never fails on strange bytes: whatever is no quote, comment or word is punctuation. It asks for more input where a
//! token might go on, so its answers do not depend on how the input was cut. Sources: MySQL reference manual, "Language
//! Structure"; PostgreSQL manual, "Lexical Structure" and psql's meta-commands; SQLite's `sqlite3_complete` for where
//! triggers end; Transact-SQL reference, "GO" and "Identifiers".

use super::dialect::Dialect;
use super::literal::Quoting;
use smallvec::SmallVec;
use std::ops::Range;

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
    /// A quoted name, quotes included: `` `a` ``, `"a"`, `[a]`, as the dialect has it.
    Name,
    /// A string, quotes included; PostgreSQL's `E'…'` with its letter, `$tag$…$tag$` with its tags.
    Text,
    /// Any other byte.
    Punct(u8),
    /// The statement delimiter, `;` unless a `DELIMITER` line changed it.
    End,
    /// A line for the client: `DELIMITER`, or psql's `\\connect`.
    ClientLine,
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
    /// Whether a backslash escapes inside plain strings: MySQL but for `NO_BACKSLASH_ESCAPES`, PostgreSQL only without
    /// standard-conforming strings.
    pub backslash_escapes: bool,
    /// Whose tokens.
    pub dialect: Dialect,
    delimiter: SmallVec<[u8; 8]>,
    at_start: bool,
    line_start: bool,
    in_hint: bool,
    /// How far a body of statements, whose delimiters do not end it, has come.
    body: Body,
    /// PostgreSQL: brackets that are open, and blocks of a routine's body; delimiters inside of them end nothing.
    depth: usize,
    blocks: usize,
}

/// Bodies of SQLite's triggers and of SQL Server's batches.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Body {
    /// No statement yet, or one without a body.
    None,
    /// The first word was `CREATE` or `ALTER`.
    Create,
    /// Inside of the body.
    Inside,
    /// SQLite: behind a `;` of the body.
    BehindDelimiter,
    /// SQLite: behind `; END`.
    BehindEnd,
}

impl Default for Lexer {
    fn default() -> Self {
        Lexer::of(Dialect::Mysql)
    }
}

/// A hint for a version that no server has: MariaDB's dumps begin with one, for clients that know it.
const NEVER: &[u8] = b"/*M!999999";

impl Lexer {
    /// Makes a lexer at the beginning of a dump.
    pub fn of(dialect: Dialect) -> Self {
        Lexer {
            backslash_escapes: dialect == Dialect::Mysql,
            dialect,
            delimiter: SmallVec::from_slice(b";"),
            at_start: true,
            line_start: true,
            in_hint: false,
            body: Body::None,
            depth: 0,
            blocks: 0,
        }
    }

    /// Makes a lexer for a text from inside of a dump.
    pub fn reading(quoting: Quoting) -> Self {
        Lexer { backslash_escapes: quoting.backslash, at_start: false, ..Lexer::of(quoting.dialect) }
    }

    /// Says whether `;` alone ends statements now.
    pub fn plain_delimiter(&self) -> bool {
        self.delimiter[..] == b";"[..]
    }

    /// Starts afresh behind a statement that was ended by something other than a delimiter.
    pub fn statement_ended(&mut self) {
        self.at_start = true;
        self.in_hint = false;
        self.body = Body::None;
        (self.depth, self.blocks) = (0, 0);
    }

    /// Says whether the next token stands at the beginning of a line.
    pub fn at_line_start(&self) -> bool {
        self.line_start
    }

    /// Says whether the statement at hand has a body of statements.
    pub fn in_body(&self) -> bool {
        match self.dialect {
            Dialect::Postgres => self.depth > 0 || self.blocks > 0,
            _ => self.body != Body::None && self.body != Body::Create,
        }
    }

    /// Notes that the statement's rows were read outside of the lexer.
    pub fn inside_statement(&mut self) {
        self.at_start = false;
    }

    /// Reads the next token. `end` says that no input follows `rest`.
    pub fn next(&mut self, rest: &[u8], end: bool) -> Step {
        let step = self.look(rest, end);
        if let Step::Token(token, len) = step {
            self.follow_body(token, &rest[..len]);
            match token {
                Token::Space | Token::Comment => {}
                Token::HintOpen => self.in_hint = true,
                Token::HintClose => self.in_hint = false,
                Token::End => {
                    self.at_start = true;
                    self.in_hint = false;
                }
                Token::ClientLine => {
                    let line = rest[..len].trim_ascii();
                    let word = line.get(9..).unwrap_or_default().trim_ascii();
                    if !word.is_empty() && self.dialect == Dialect::Mysql {
                        self.delimiter = SmallVec::from_slice(word);
                    }
                }
                _ => self.at_start = false,
            }
            self.line_start = match token {
                Token::Space | Token::Comment => {
                    rest[..len].contains(&b'\n') || (self.line_start && token == Token::Space)
                }
                _ => false,
            };
        }
        step
    }

    /// Follows the bodies whose delimiters end nothing.
    fn follow_body(&mut self, token: Token, text: &[u8]) {
        let is = |words: &[&str]| words.iter().any(|w| text.eq_ignore_ascii_case(w.as_bytes()));
        if self.dialect == Dialect::Postgres {
            return self.follow_blocks(token, text);
        }
        self.body = match (self.dialect, self.body, token) {
            (Dialect::Mysql, ..) => return,
            (_, _, Token::Space | Token::Comment) => return,
            (_, _, Token::End) => Body::None,
            (_, Body::None, Token::Word) if self.at_start && is(&["CREATE", "ALTER"]) => Body::Create,
            (_, Body::None, _) => return,
            (Dialect::Sqlite, Body::Create, Token::Word) if is(&["TRIGGER"]) => Body::Inside,
            (Dialect::Sqlite, Body::Create, Token::Word) if is(&["TEMP", "TEMPORARY"]) => return,
            (Dialect::SqlServer, Body::Create, Token::Word)
                if is(&["PROCEDURE", "PROC", "FUNCTION", "TRIGGER", "VIEW"]) =>
            {
                Body::Inside
            }
            (Dialect::SqlServer, Body::Create, Token::Word) if is(&["OR", "ALTER"]) => return,
            (_, Body::Create, _) => Body::None,
            (Dialect::Sqlite, Body::Inside | Body::BehindDelimiter, Token::Punct(b';')) => {
                Body::BehindDelimiter
            }
            (Dialect::Sqlite, Body::BehindDelimiter, Token::Word) if is(&["END"]) => Body::BehindEnd,
            _ => Body::Inside,
        };
    }

    /// Follows PostgreSQL's brackets (rules of several actions stand in them) and the blocks of `BEGIN ATOMIC … END`, as its own client does.
    fn follow_blocks(&mut self, token: Token, text: &[u8]) {
        let is = |word: &str| text.eq_ignore_ascii_case(word.as_bytes());
        match token {
            Token::Punct(b'(') => self.depth += 1,
            Token::Punct(b')') => self.depth = self.depth.saturating_sub(1),
            Token::End => (self.body, self.depth, self.blocks) = (Body::None, 0, 0),
            Token::Word if self.depth == 0 => match self.body {
                Body::None if self.at_start && is("CREATE") => self.body = Body::Create,
                Body::Create if is("FUNCTION") || is("PROCEDURE") => self.body = Body::Inside,
                Body::Create if !is("OR") && !is("REPLACE") => self.body = Body::None,
                Body::Inside if is("BEGIN") || (is("CASE") && self.blocks > 0) => self.blocks += 1,
                Body::Inside if is("END") => self.blocks = self.blocks.saturating_sub(1),
                _ => {}
            },
            _ => {}
        }
    }

    fn look(&self, rest: &[u8], end: bool) -> Step {
        let Some(first) = rest.first().copied() else { return Step::More };
        let mysql = self.dialect == Dialect::Mysql;
        let quoted = |token, len| match len {
            Some(len) => Step::Token(token, len),
            None if end => Step::CutOff(token),
            None => Step::More,
        };
        // A token that reaches the end of the window may go on behind it.
        let open_ended = |token, len: usize| {
            if len == rest.len() && !end { Step::More } else { Step::Token(token, len) }
        };
        if !end && rest.len() < self.delimiter.len().max(3) {
            return Step::More;
        }
        let held = match self.dialect {
            Dialect::Postgres => self.depth > 0 || self.blocks > 0,
            _ => matches!(self.body, Body::Inside | Body::BehindDelimiter),
        };
        if rest.starts_with(&self.delimiter) && !held {
            return Step::Token(Token::End, self.delimiter.len());
        }
        match first {
            b' ' | b'\t' | b'\n' | b'\r' | 0x0B | 0x0C => open_ended(
                Token::Space,
                rest.iter().take_while(|b| b.is_ascii_whitespace() || **b == 0x0B).count(),
            ),
            b'#' if mysql => line_comment(rest, end),
            b'-' if rest.starts_with(b"--") && (!mysql || rest.get(2).is_none_or(|b| *b <= b' ')) => {
                line_comment(rest, end)
            }
            b'\\' if self.at_start && self.dialect == Dialect::Postgres => match line_comment(rest, end) {
                Step::Token(_, len) => Step::Token(Token::ClientLine, len),
                more => more,
            },
            b'/' if mysql && !end && rest.starts_with(b"/*M") && rest.len() < NEVER.len() => Step::More,
            b'/' if mysql && rest.starts_with(NEVER) => match block_comment(rest, false) {
                Some(len) => Step::Token(Token::Comment, len),
                None if end => Step::CutOff(Token::Comment),
                None => Step::More,
            },
            b'/' if mysql && (rest.starts_with(b"/*!") || rest.starts_with(b"/*M!")) => {
                let sign = if rest[2] == b'!' { 3 } else { 4 };
                let digits =
                    rest.get(sign..).unwrap_or_default().iter().take_while(|b| b.is_ascii_digit()).count();
                open_ended(Token::HintOpen, sign + digits)
            }
            b'/' if rest.starts_with(b"/*") => {
                let nests = matches!(self.dialect, Dialect::Postgres | Dialect::SqlServer);
                match block_comment(rest, nests) {
                    Some(len) => Step::Token(Token::Comment, len),
                    None if end => Step::CutOff(Token::Comment),
                    None => Step::More,
                }
            }
            b'*' if self.in_hint && rest.starts_with(b"*/") => Step::Token(Token::HintClose, 2),
            b'\'' => quoted(Token::Text, string_end(rest, 1, first, self.backslash_escapes, end)),
            b'"' if mysql => quoted(Token::Text, string_end(rest, 1, first, self.backslash_escapes, end)),
            b'"' => quoted(Token::Name, string_end(rest, 1, b'"', false, end)),
            b'`' if matches!(self.dialect, Dialect::Mysql | Dialect::Sqlite) => {
                quoted(Token::Name, string_end(rest, 1, b'`', false, end))
            }
            b'[' if matches!(self.dialect, Dialect::SqlServer | Dialect::Sqlite) => {
                quoted(Token::Name, string_end(rest, 1, b']', false, end))
            }
            b'E' | b'e' if self.dialect == Dialect::Postgres && rest.get(1) == Some(&b'\'') => {
                quoted(Token::Text, string_end(rest, 2, b'\'', true, end))
            }
            b'$' if self.dialect == Dialect::Postgres => match dollar_string(rest, end) {
                Dollar::Text(len) => Step::Token(Token::Text, len),
                Dollar::None => Step::Token(Token::Punct(b'$'), 1),
                Dollar::Open if end => Step::CutOff(Token::Text),
                Dollar::Open => Step::More,
            },
            b'G' | b'g' if self.dialect == Dialect::SqlServer && self.line_start => {
                match go_line(rest, end) {
                    Some(true) => Step::Token(Token::End, 2),
                    Some(false) => self.word(rest, end),
                    None => Step::More,
                }
            }
            b if word_byte(b) => self.word(rest, end),
            other => Step::Token(Token::Punct(other), 1),
        }
    }

    /// A keyword, plain name or number, or a `DELIMITER` line.
    fn word(&self, rest: &[u8], end: bool) -> Step {
        if self.at_start
            && self.dialect == Dialect::Mysql
            && rest.len() >= 10
            && rest[..9].eq_ignore_ascii_case(b"DELIMITER")
            && matches!(rest[9], b' ' | b'\t')
        {
            return match memchr::memchr(b'\n', rest) {
                Some(at) => Step::Token(Token::ClientLine, at),
                None if end => Step::Token(Token::ClientLine, rest.len()),
                None => Step::More,
            };
        }
        if self.at_start && rest.len() < 10 && !end {
            return Step::More;
        }
        let number = rest[0].is_ascii_digit();
        let len = rest
            .iter()
            .enumerate()
            .take_while(|(i, b)| (word_byte(**b) || (number && **b == b'.')) && !self.delimiter_at(rest, *i))
            .count();
        if len == rest.len() && !end { Step::More } else { Step::Token(Token::Word, len) }
    }

    /// A delimiter such as `$$` may follow a word without a space.
    fn delimiter_at(&self, rest: &[u8], at: usize) -> bool {
        !self.plain_delimiter() && rest[at..].starts_with(&self.delimiter)
    }
}

fn line_comment(rest: &[u8], end: bool) -> Step {
    match memchr::memchr(b'\n', rest) {
        Some(at) => Step::Token(Token::Comment, at),
        None if end => Step::Token(Token::Comment, rest.len()),
        None => Step::More,
    }
}

/// Returns the length of a block comment; nested ones count where the dialect nests them.
fn block_comment(rest: &[u8], nests: bool) -> Option<usize> {
    if !nests {
        return memchr::memmem::find(&rest[2..], b"*/").map(|at| at + 4);
    }
    let (mut at, mut depth) = (2, 1);
    loop {
        at += memchr::memchr2(b'*', b'/', rest.get(at..)?)?;
        match rest.get(at..at + 2)? {
            b"*/" if depth == 1 => return Some(at + 2),
            b"*/" => (at, depth) = (at + 2, depth - 1),
            b"/*" => (at, depth) = (at + 2, depth + 1),
            _ => at += 1,
        }
    }
}

/// What begins with a dollar sign.
pub(super) enum Dollar {
    /// A dollar-quoted string of so many bytes.
    Text(usize),
    /// No string.
    None,
    /// More input is needed.
    Open,
}

/// Reads `$tag$…$tag$`.
pub(super) fn dollar_string(rest: &[u8], end: bool) -> Dollar {
    let tag =
        rest[1..].iter().take_while(|b| b.is_ascii_alphanumeric() || **b == b'_' || **b >= 0x80).count();
    match rest.get(tag + 1) {
        None if !end => Dollar::Open,
        Some(b'$') if !rest[1].is_ascii_digit() => {
            let tag = &rest[..tag + 2];
            match memchr::memmem::find(&rest[tag.len()..], tag) {
                Some(at) => Dollar::Text(at + 2 * tag.len()),
                None => Dollar::Open,
            }
        }
        _ => Dollar::None,
    }
}

/// Says whether a line holds `GO`, perhaps with a count, and nothing else; nothing if its end is not in sight.
fn go_line(rest: &[u8], end: bool) -> Option<bool> {
    if rest.len() < 2 || !rest[1].eq_ignore_ascii_case(&b'O') {
        return (rest.len() >= 2 || end).then_some(false);
    }
    let blank = rest[2..].iter().take_while(|b| matches!(b, b' ' | b'\t' | b'\r' | b'0'..=b'9')).count();
    match rest.get(2 + blank) {
        Some(b'\n') => Some(blank == 0 || !rest[2].is_ascii_digit()),
        Some(_) => Some(false),
        None => end.then_some(true),
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

/// Walks over the tokens of a text from inside of a dump that are no space and no comment, with where they lie. Text that ends inside of a
/// token gives a last `None`.
pub fn tokens(text: &[u8], quoting: Quoting) -> impl Iterator<Item = Option<(Token, Range<usize>)>> {
    let mut lexer = Lexer::reading(quoting);
    let mut at = 0;
    std::iter::from_fn(move || {
        while at < text.len() {
            let Step::Token(token, len) = lexer.next(&text[at..], true) else {
                at = text.len();
                return Some(None);
            };
            at += len;
            if !matches!(token, Token::Space | Token::Comment) {
                return Some(Some((token, at - len..at)));
            }
        }
        None
    })
}
