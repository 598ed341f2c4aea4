//! Drives a bounded window over a dump and hands out every byte once, in order.
//!
//! A [`Source`] reads the dump in chunks and locates in each what it holds: gaps, statements, heads of inserts, runs of rows. Chunks
//! are independent of each other, so that several threads may work on several; [`run`] hands their pieces to one sink.
//!
//! Invariants: the pieces of a run, joined, are the input; what a piece says does not depend on how the reader cut the
//! input (only where one run of rows ends and the next begins does); a chunk grows only to hold one statement that is no insert, or
//! one row. Cost: one read copy, and for rows the pass of `runs`.

pub use super::chunk::{At, Piece};
use super::chunk::{Chunk, ChunkKind, Firsts, Located};
use super::dialect::Dialect;
use super::lex::{Lexer, Step, Token};
use super::literal::Quoting;
use super::row::{self, RowStep, Value};
use super::runs::{self, Next, Stop};
use super::statement::{Class, Created, Head, Statement, created};
use crate::limits;
use schemars::JsonSchema;
use std::collections::HashMap;
use std::io::Read;
use std::sync::Arc;

/// Takes the pieces of a dump.
pub trait Sink {
    /// Takes one piece.
    fn piece(&mut self, piece: Piece<'_>, at: At<'_>) -> Result<(), DumpError>;
}

/// Why a dump could not be gone through.
#[derive(Debug, thiserror::Error)]
pub enum DumpError {
    /// Reading failed.
    #[error("the dump cannot be read")]
    Read(#[source] std::io::Error),
    /// Writing failed.
    #[error("the rewritten dump cannot be written")]
    Write(#[source] std::io::Error),
    /// A dump of another kind of server than this job can use.
    #[error("this is a dump of {}, and only dumps of MySQL and MariaDB can be used here", .0.name())]
    Dialect(Dialect),
    /// A database file, not a dump.
    #[error("this is an SQLite database file, not a dump")]
    DatabaseFile,
    /// The sink gave up.
    #[error(transparent)]
    Sink(Box<dyn std::error::Error + Send + Sync>),
}

/// Where a dump stopped short.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, JsonSchema)]
pub struct CutOff {
    /// Line on which the unfinished statement begins.
    pub line: u64,
    /// Offset at which it begins.
    pub offset: u64,
    /// What it was.
    pub what: String,
}

/// How a run ended.
#[derive(Debug, Clone, Default)]
pub struct Ending {
    /// Bytes read.
    pub bytes: u64,
    /// Statements met.
    pub statements: u64,
    /// Whose dump it was.
    pub dialect: Dialect,
    /// Set if the dump ends inside of a statement.
    pub cut_off: Option<CutOff>,
}

/// Chunk size that serves well: large enough that few rows straddle it, small enough to stay in a core's cache.
pub const WINDOW: usize = 1 << 17;

/// Bytes by which the dialect is told.
const LOOK: usize = 64 << 10;

/// Where the source stands between two pieces.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum State {
    Between,
    Rows,
    Copy,
    Done,
}

/// A table's columns and primary key.
type Known = (Arc<[String]>, Arc<[String]>);

/// Reads a dump chunk by chunk.
pub struct Source<R> {
    reader: R,
    window: usize,
    /// What the last chunk left over, of which so much is in the next one by now. After a giant row it may be many chunks' worth.
    carry: Vec<u8>,
    carried: usize,
    reader_ended: bool,
    /// Whether all of the dump is in the chunk at hand.
    end: bool,
    lexer: Lexer,
    head: Head,
    state: State,
    statement: Arc<Statement>,
    /// The head of the last insert, to know the next one by.
    last_head: Vec<u8>,
    tables: HashMap<String, Known>,
    line: u64,
    statement_line: u64,
    values: Vec<Value>,
    ending: Ending,
}

impl<R: Read> Source<R> {
    /// Starts on a dump. `window` is the size of a chunk in bytes. Without a dialect it is told from the first bytes.
    pub fn new(reader: R, window: usize, dialect: Option<Dialect>) -> Result<Self, DumpError> {
        let mut source = Source {
            reader,
            window: window.max(8),
            carry: Vec::new(),
            carried: 0,
            reader_ended: false,
            end: false,
            lexer: Lexer::default(),
            head: Head::default(),
            state: State::Between,
            statement: Arc::default(),
            last_head: Vec::new(),
            tables: HashMap::new(),
            line: 1,
            statement_line: 1,
            values: Vec::new(),
            ending: Ending::default(),
        };
        let mut start = vec![0; LOOK];
        let filled = source.read_into(&mut start, 0)?;
        start.truncate(filled);
        if start.starts_with(b"SQLite format 3\0") {
            return Err(DumpError::DatabaseFile);
        }
        source.carry = start;
        let dialect = dialect.unwrap_or_else(|| Dialect::of(&source.carry));
        source.lexer = Lexer::of(dialect);
        source.ending.dialect = dialect;
        Ok(source)
    }

    /// Returns whose dump it is.
    pub fn dialect(&self) -> Dialect {
        self.ending.dialect
    }

    /// Says how it ended, once no chunk comes any more.
    pub fn ending(self) -> Ending {
        self.ending
    }

    /// Fills up with what was left over and then from the reader.
    fn read_into(&mut self, bytes: &mut [u8], mut filled: usize) -> Result<usize, DumpError> {
        let left_over = &self.carry[self.carried..];
        let taken = left_over.len().min(bytes.len() - filled);
        bytes[filled..filled + taken].copy_from_slice(&left_over[..taken]);
        filled += taken;
        self.carried += taken;
        while filled < bytes.len() && !self.reader_ended {
            match self.reader.read(&mut bytes[filled..]) {
                Ok(0) => self.reader_ended = true,
                Ok(n) => filled += n,
                Err(e) if e.kind() == std::io::ErrorKind::Interrupted => {}
                Err(e) => return Err(DumpError::Read(e)),
            }
        }
        self.end = self.reader_ended && self.carried == self.carry.len();
        Ok(filled)
    }

    /// Keeps what a chunk did not use for the next one.
    fn leave_over(&mut self, rest: &[u8]) {
        if self.carried < self.carry.len() {
            // All of the chunk came from there.
            self.carried -= rest.len();
            return;
        }
        if self.carry.capacity() > 8 * self.window.max(LOOK) {
            self.carry = Vec::new();
        }
        self.carry.clear();
        self.carry.extend_from_slice(rest);
        self.carried = 0;
    }

    /// Reads the next chunk. Returns false when the dump is at its end.
    pub fn next(&mut self, chunk: &mut Chunk) -> Result<bool, DumpError> {
        chunk.clear(self.window);
        let mut target = self.window;
        if chunk.bytes.len() < target {
            chunk.bytes.resize(target, 0);
        }
        loop {
            chunk.filled = self.read_into(&mut chunk.bytes[..target], chunk.filled)?;
            if chunk.filled == 0 || self.state == State::Done {
                match self.state {
                    State::Rows if self.lexer.dialect == Dialect::SqlServer => self.ending.statements += 1,
                    State::Rows | State::Copy => drop(self.cut_off(chunk)),
                    State::Between | State::Done => {}
                }
                return Ok(false);
            }
            self.locate(chunk);
            if chunk.used > 0 || self.state == State::Done {
                break;
            }
            // Not one piece is whole: a larger chunk is needed.
            target *= 2;
            let most = limits::STATEMENT.bytes();
            if target as u64 > most {
                let what = format!(
                    "what begins in line {} (a statement, row or comment) is larger than {} MiB (--limit statement=SIZE allows more)",
                    self.line,
                    most >> 20
                );
                return Err(DumpError::Read(std::io::Error::other(what)));
            }
            chunk.bytes.resize(target, 0);
            chunk.restart();
        }
        self.leave_over(chunk.rest());
        self.ending.bytes += chunk.used as u64;
        Ok(chunk.used > 0)
    }

    fn quoting(&self) -> Quoting {
        Quoting {
            dialect: self.lexer.dialect,
            backslash: self.lexer.backslash_escapes,
            copy: self.state == State::Copy,
        }
    }

    fn take(&mut self, chunk: &mut Chunk, kind: ChunkKind, len: usize) {
        let span = chunk.used..chunk.used + len;
        let first_line = self.line;
        self.line += memchr::memchr_iter(b'\n', &chunk.bytes[span.clone()]).count() as u64;
        chunk.used = span.end;
        chunk.pieces.push(Located {
            kind,
            span,
            statement: self.statement.clone(),
            line: self.statement_line,
            first_line,
            quoting: self.quoting(),
        });
    }

    /// Locates as many pieces as the chunk holds whole. Of one that had to grow no more is taken than of any other: what is noted of
    /// a piece may be many times as large as a short statement.
    fn locate(&mut self, chunk: &mut Chunk) {
        if self.ending.bytes == 0 && chunk.used == 0 && chunk.rest().starts_with(b"\xEF\xBB\xBF") {
            self.take(chunk, ChunkKind::Gap, 3);
        }
        while chunk.used < self.window {
            let went_on = match self.state {
                State::Between => self.statement(chunk),
                State::Rows => self.rows(chunk),
                State::Copy => self.copy(chunk),
                State::Done => false,
            };
            if !went_on {
                return;
            }
        }
    }

    /// The dump ends inside of what begins at the chunk's used part.
    fn cut_off(&mut self, chunk: &mut Chunk) -> bool {
        let rest = chunk.rest();
        let what = match self.state {
            State::Rows => format!("INSERT INTO {}", self.statement.name.as_deref().unwrap_or("?")),
            State::Copy => format!("COPY {}", self.statement.name.as_deref().unwrap_or("?")),
            _ => String::from_utf8_lossy(&rest[..rest.len().min(40)]).trim().to_string(),
        };
        let offset = self.ending.bytes + chunk.used as u64;
        self.ending.cut_off = Some(CutOff { line: self.line, offset, what });
        let len = rest.len();
        self.state = State::Done;
        if len > 0 {
            self.take(chunk, ChunkKind::CutOff, len);
        }
        true
    }

    /// Reads a gap, a statement or the head of an insert. Returns false if the chunk holds none whole.
    fn statement(&mut self, chunk: &mut Chunk) -> bool {
        if chunk.used == chunk.filled {
            if self.end {
                self.state = State::Done;
            }
            return false;
        }
        let end = self.end;
        let saved = self.lexer.clone();
        if self.same_head(chunk) {
            return true;
        }
        self.head.clear();
        let first_literal = chunk.literals.len();
        let start = chunk.used;
        let mut at = start;
        let mut begun = false;
        loop {
            // A token may turn out to belong to what comes next.
            let before = (!begun).then(|| self.lexer.clone());
            let line_start = self.lexer.at_line_start();
            let (token, len) = match self.lexer.next(&chunk.bytes[at..chunk.filled], end) {
                Step::Token(token, len) => (token, len),
                // A gap that reaches the end of the window is handed out as far as it goes.
                Step::More if !begun && at > start => {
                    self.take(chunk, ChunkKind::Gap, at - start);
                    return true;
                }
                Step::More | Step::CutOff(_) if !end => {
                    chunk.literals.truncate(first_literal);
                    self.lexer = saved;
                    return false;
                }
                // What is unfinished begins behind the gap.
                Step::More | Step::CutOff(_) if !begun && at > start => {
                    self.lexer = before.unwrap_or(saved);
                    self.take(chunk, ChunkKind::Gap, at - start);
                    return true;
                }
                Step::More | Step::CutOff(_) => {
                    // A last statement of a batch language needs no delimiter.
                    if self.lexer.dialect == Dialect::SqlServer && at == chunk.filled && self.head.level() {
                        return self.whole(chunk, at - start, 0, first_literal);
                    }
                    chunk.literals.truncate(first_literal);
                    self.statement_line = self.line;
                    self.statement = Arc::new(self.head.statement(&chunk.bytes[start..at]));
                    return self.cut_off(chunk);
                }
            };
            let idle = matches!(token, Token::Space | Token::Comment | Token::ClientLine);
            if !begun && (idle || token == Token::End) {
                at += len;
                continue;
            }
            if !begun && at > start {
                self.lexer = before.unwrap_or(saved);
                self.take(chunk, ChunkKind::Gap, at - start);
                return true;
            }
            if begun && line_start && self.begins_next(token, &chunk.bytes[at..at + len]) {
                self.lexer = saved_at(&saved, &chunk.bytes[start..at]);
                self.lexer.statement_ended();
                return self.whole(chunk, at - start, 0, first_literal);
            }
            begun = true;
            let token_span = at - start..at - start + len;
            at += len;
            match token {
                Token::Space | Token::Comment | Token::ClientLine | Token::HintOpen | Token::HintClose => {}
                Token::End => {
                    let whole = self.whole(chunk, at - start, len, first_literal);
                    if !whole {
                        self.lexer = saved;
                    }
                    return whole;
                }
                _ => {
                    if token == Token::Text {
                        chunk.literals.push(token_span.clone());
                    }
                    let text = &chunk.bytes[start..at];
                    self.head.push(token, text, token_span);
                    if token == Token::Word && self.head.opens_rows(text, self.lexer.dialect) {
                        chunk.literals.truncate(first_literal);
                        let statement = self.head.statement(text);
                        self.last_head.clear();
                        self.last_head.extend_from_slice(text);
                        self.enter(statement);
                        self.state = State::Rows;
                        self.take(chunk, ChunkKind::InsertHead, at - start);
                        return true;
                    }
                }
            }
        }
    }

    /// In a batch language, says whether a token at the beginning of a line begins the next statement although none was ended.
    fn begins_next(&self, token: Token, word: &[u8]) -> bool {
        self.lexer.dialect == Dialect::SqlServer
            && token == Token::Word
            && !self.lexer.in_body()
            && self.head.level()
            && [&b"INSERT"[..], b"CREATE", b"ALTER", b"UPDATE", b"DELETE"]
                .iter()
                .any(|w| word.eq_ignore_ascii_case(w))
    }

    /// Takes the head of an insert that is spelled as the last one was.
    fn same_head(&mut self, chunk: &mut Chunk) -> bool {
        let known = !self.last_head.is_empty()
            && self.statement.class == Class::Insert
            && self.lexer.plain_delimiter()
            && chunk.rest().starts_with(&self.last_head)
            && matches!(chunk.rest().get(self.last_head.len()), Some(b' ' | b'(' | b'\n' | b'\r'));
        if known {
            self.statement_line = self.line;
            self.lexer.inside_statement();
            self.state = State::Rows;
            self.take(chunk, ChunkKind::InsertHead, self.last_head.len());
        }
        known
    }

    /// Makes a statement the one at hand; columns that an insert does not list are known from the table's creation.
    fn enter(&mut self, mut statement: Statement) {
        self.statement_line = self.line;
        if let Some((columns, key)) = statement.name.as_ref().and_then(|n| self.tables.get(n)) {
            statement.key = key.clone();
            if statement.columns.is_none() {
                statement.columns = Some(columns.clone());
            }
        }
        if *self.statement != statement {
            self.statement = Arc::new(statement);
        }
    }

    fn whole(&mut self, chunk: &mut Chunk, len: usize, delimiter: usize, first_literal: usize) -> bool {
        let bytes = &chunk.bytes[chunk.used..chunk.used + len];
        let mut statement = self.head.statement(bytes);
        match statement.class {
            Class::CreateTable => {
                let Created { columns, key } = created(bytes, self.lexer.dialect);
                statement.columns = Some(columns.into());
                statement.key = key.into();
                if let (Some(name), Some(columns)) = (&statement.name, &statement.columns) {
                    self.tables.insert(name.clone(), (columns.clone(), statement.key.clone()));
                }
            }
            Class::Copy if self.lexer.dialect == Dialect::Postgres => {
                // The line's end belongs to the head.
                let Some(line) = memchr::memchr(b'\n', &chunk.bytes[chunk.used + len..chunk.filled]) else {
                    if self.end {
                        return self.cut_off(chunk);
                    }
                    chunk.literals.truncate(first_literal);
                    return false;
                };
                self.enter(statement);
                self.take(chunk, ChunkKind::InsertHead, len + line + 1);
                self.state = State::Copy;
                return true;
            }
            _ => {}
        }
        self.ending.statements += 1;
        let literals = first_literal..chunk.literals.len();
        let escapes = (statement.class == Class::Set).then(|| self.escapes_after(bytes)).flatten();
        self.enter(statement);
        self.take(chunk, ChunkKind::Whole { literals, delimiter }, len);
        if let Some(escapes) = escapes {
            self.lexer.backslash_escapes = escapes;
        }
        true
    }

    /// Says whether backslashes escape behind a `SET` statement, if it speaks of that.
    fn escapes_after(&self, set: &[u8]) -> Option<bool> {
        let upper = set.to_ascii_uppercase();
        let has = |word: &[u8]| memchr::memmem::find(&upper, word).is_some();
        match self.lexer.dialect {
            Dialect::Mysql => has(b"SQL_MODE").then(|| !has(b"NO_BACKSLASH_ESCAPES")),
            Dialect::Postgres => has(b"STANDARD_CONFORMING_STRINGS").then(|| has(b"OFF")),
            _ => None,
        }
    }

    /// Reads rows of an insert, or what follows the last one.
    fn rows(&mut self, chunk: &mut Chunk) -> bool {
        let quoting = self.quoting();
        if chunk.rest().first() == Some(&b'(') {
            return self.run_of_rows(chunk, quoting);
        }
        let end = self.end;
        let saved = self.lexer.clone();
        let start = chunk.used;
        let mut at = start;
        // Once something other than a row follows, all up to the delimiter is tail.
        let mut in_tail = false;
        loop {
            if !in_tail && at > start && chunk.bytes[..chunk.filled].get(at) == Some(&b'(') {
                self.take(chunk, ChunkKind::Between, at - start);
                return true;
            }
            match self.lexer.next(&chunk.bytes[at..chunk.filled], end) {
                Step::Token(Token::End, len) => {
                    self.state = State::Between;
                    self.ending.statements += 1;
                    self.take(chunk, ChunkKind::Tail { delimiter: len }, at + len - start);
                    return true;
                }
                Step::Token(token, len) => {
                    if !in_tail && token == Token::Word && self.lexer.dialect == Dialect::SqlServer {
                        // The next statement of the batch.
                        return self.end_rows(chunk, &saved, at - start);
                    }
                    at += len;
                    in_tail |= !matches!(token, Token::Space | Token::Comment | Token::Punct(b','));
                }
                Step::More | Step::CutOff(_) if !end => {
                    self.lexer = saved;
                    return false;
                }
                Step::More if at == chunk.filled && self.lexer.dialect == Dialect::SqlServer => {
                    return self.end_rows(chunk, &saved, at - start);
                }
                Step::More | Step::CutOff(_) => return self.cut_off(chunk),
            }
        }
    }

    /// Ends the rows of an insert that no delimiter ends.
    fn end_rows(&mut self, chunk: &mut Chunk, saved: &Lexer, len: usize) -> bool {
        self.lexer = saved_at(saved, &chunk.bytes[chunk.used..chunk.used + len]);
        self.lexer.statement_ended();
        self.state = State::Between;
        self.ending.statements += 1;
        self.take(chunk, ChunkKind::Tail { delimiter: 0 }, len);
        true
    }

    fn run_of_rows(&mut self, chunk: &mut Chunk, quoting: Quoting) -> bool {
        let first = Firsts::of(chunk);
        let start = chunk.used;
        let mut at = start;
        loop {
            let text = &chunk.bytes[..chunk.filled];
            // PostgreSQL's strings may escape one by one, which the pass does not look at.
            let stop = if quoting.dialect == Dialect::Postgres {
                Stop::Slow
            } else {
                runs::pass(
                    text,
                    at,
                    self.window,
                    quoting.backslash,
                    &mut chunk.rows,
                    &mut chunk.hex,
                    &mut chunk.seen,
                )
            };
            if at > start || stop == Stop::Slow {
                chunk.seen.truncate(first.seen);
            }
            let done = chunk.rows[first.rows..].last().map_or(start, |r| r.end);
            if stop != Stop::Slow {
                return self.take_rows(chunk, first, done - start);
            }
            // The row in which the pass stopped begins behind the last whole one, or at the very start.
            let open = match runs::next_row(text, done) {
                _ if done == start => start,
                Next::Row(open) => open,
                Next::Other | Next::Unknown => return self.take_rows(chunk, first, done - start),
            };
            match row::scan(&text[open..], quoting, self.end, &mut self.values) {
                RowStep::Row(len) => {
                    let hidden = |v: &&Value| {
                        v.kind == row::ValueKind::Hex
                            || (quoting.dialect == Dialect::Postgres && v.kind == row::ValueKind::Text)
                                && [&b"\\x"[..], b"\\\\x"]
                                    .iter()
                                    .any(|x| text[open + v.literal.start + 1..].starts_with(x))
                    };
                    chunk.hex.extend(self.values.iter().filter(hidden).map(|v| open + v.literal.start));
                    chunk.rows.push(open..open + len);
                    match runs::next_row(text, open + len) {
                        Next::Row(next) if next < self.window => at = next,
                        Next::Row(_) | Next::Other | Next::Unknown => {
                            return self.take_rows(chunk, first, open + len - start);
                        }
                    }
                }
                RowStep::More => return self.take_rows(chunk, first, done - start),
            }
        }
    }

    /// Hands out the rows found; without any, says whether more input could bring one.
    fn take_rows(&mut self, chunk: &mut Chunk, first: Firsts, len: usize) -> bool {
        if chunk.rows.len() > first.rows {
            let kind = ChunkKind::Rows {
                rows: first.rows..chunk.rows.len(),
                hex: first.hex..chunk.hex.len(),
                seen: first.seen..chunk.seen.len(),
            };
            self.take(chunk, kind, len);
            return true;
        }
        chunk.hex.truncate(first.hex);
        chunk.seen.truncate(first.seen);
        if self.end { self.cut_off(chunk) } else { false }
    }

    /// Reads lines of a `COPY` block, or the line that ends it.
    fn copy(&mut self, chunk: &mut Chunk) -> bool {
        let start = chunk.used;
        let text = &chunk.bytes[..chunk.filled];
        let first = Firsts::of(chunk);
        let mut at = start;
        while let Some(len) = memchr::memchr(b'\n', &text[at..]) {
            let line = text[at..at + len].strip_suffix(b"\r").unwrap_or(&text[at..at + len]);
            if line == b"\\." {
                break;
            }
            chunk.rows.push(at..at + line.len());
            at += len + 1;
            if at >= self.window {
                break;
            }
        }
        if at > start {
            chunk.hex.extend(memchr::memmem::find_iter(&text[start..at], b"\\\\x").map(|i| start + i));
            return self.take_rows(chunk, first, at - start);
        }
        let rest = chunk.rest();
        let ends = rest.starts_with(b"\\.");
        match memchr::memchr(b'\n', rest).map(|n| n + 1).or((self.end && ends).then_some(rest.len())) {
            Some(len) if ends => {
                self.lexer.statement_ended();
                self.ending.statements += 1;
                self.take(chunk, ChunkKind::Tail { delimiter: 0 }, len);
                self.state = State::Between;
                true
            }
            _ if self.end => self.cut_off(chunk),
            _ => false,
        }
    }
}

/// Returns the lexer as it is behind a stretch of tokens that it has read once already.
fn saved_at(saved: &Lexer, text: &[u8]) -> Lexer {
    let mut lexer = saved.clone();
    let mut at = 0;
    while at < text.len() {
        let Step::Token(_, len) = lexer.next(&text[at..], true) else { break };
        at += len;
    }
    lexer
}

/// Hands the pieces of a MySQL dump to a sink. `window` is the size of a chunk in bytes.
///
/// # Errors
/// Also where the dump is of another dialect: what loads can use MySQL's only.
pub fn run<R: Read>(reader: R, window: usize, sink: &mut dyn Sink) -> Result<Ending, DumpError> {
    let source = Source::new(reader, window, None)?;
    if source.dialect() != Dialect::Mysql {
        return Err(DumpError::Dialect(source.dialect()));
    }
    run_source(source, sink)
}

/// Hands the pieces of any dump to a sink.
pub fn run_source<R: Read>(mut source: Source<R>, sink: &mut dyn Sink) -> Result<Ending, DumpError> {
    let mut chunk = Chunk::default();
    while source.next(&mut chunk)? {
        for (_, piece, at) in chunk.pieces() {
            sink.piece(piece, at)?;
        }
    }
    Ok(source.ending())
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Writes down what it is told, so that runs can be compared.
    #[derive(Default)]
    struct Notes {
        bytes: Vec<u8>,
        lines: Vec<String>,
    }

    impl Sink for Notes {
        fn piece(&mut self, piece: Piece<'_>, at: At<'_>) -> Result<(), DumpError> {
            let place = format!("{:?} {:?} {}", at.statement.class, at.statement.name, at.line);
            let (kind, bytes) = match piece {
                // Gaps, and what stands between rows, may come in several pieces: how many depends on the cuts and on nothing that
                // matters.
                Piece::Gap(b) | Piece::Between(b) => ("", b),
                Piece::Rows(rows) => {
                    for row in rows.each() {
                        self.lines.push(format!("row {place} {:?}", String::from_utf8_lossy(row)));
                    }
                    ("", rows.bytes)
                }
                Piece::Whole { bytes, .. } => ("whole", bytes),
                Piece::InsertHead(b) => ("head", b),
                Piece::Tail { bytes, .. } => ("tail", bytes),
                Piece::CutOff(b) => ("cut", b),
            };
            self.bytes.extend_from_slice(bytes);
            if !kind.is_empty() {
                self.lines.push(format!("{kind} {place} {:?}", String::from_utf8_lossy(bytes).trim()));
            }
            Ok(())
        }
    }

    struct OneByOne<'a>(&'a [u8]);

    impl Read for OneByOne<'_> {
        fn read(&mut self, buf: &mut [u8]) -> std::io::Result<usize> {
            let n = self.0.len().min(1).min(buf.len());
            buf[..n].copy_from_slice(&self.0[..n]);
            self.0 = &self.0[n..];
            Ok(n)
        }
    }

    const MYSQL: &str = "\u{feff}-- head -- x\n/*!40101 SET NAMES utf8 */;\nSET SQL_MODE='ANSI';\r\n# c\nCREATE TABLE `t` (`a` int, b text COMMENT 'it''s;');\n\
        INSERT INTO `t` VALUES (1,'a;\\'),('),\n(2,\"x\"\"(\"); INSERT INTO t (b) VALUES ('1') ON DUPLICATE KEY UPDATE b='(2)';\n\
        DELIMITER ;;\nCREATE TRIGGER g BEFORE INSERT ON t FOR EACH ROW BEGIN SET @a=1; SET @b=2; END;;\nDELIMITER ;\nREPLACE t VALUES(3,NULL)";
    const POSTGRES: &str = "--\n-- PostgreSQL database dump\n--\n\\restrict abc\nSET standard_conforming_strings = on;\nCREATE FUNCTION public.f() RETURNS text AS $_$SELECT 'a;'; $_$ LANGUAGE sql;\n\
        COPY public.t (id, \"v x\") FROM stdin;\n1\ta\\tb;\n2\t\\N\n\\.\n\nINSERT INTO public.t VALUES (1, E'it\\'s', 'C:\\');\n/* a /* nested; */ b */ SELECT pg_catalog.setval('public.s', 3, true);\n";
    const SQLITE: &str = "PRAGMA foreign_keys=OFF;\nBEGIN TRANSACTION;\nCREATE TABLE t(\"a b\" TEXT, c);\nINSERT INTO t VALUES('a\nb;'' ',X'00');\nINSERT INTO t VALUES(replace('a\\nb','\\n',char(10)),1);\n\
        CREATE TRIGGER g AFTER INSERT ON t BEGIN UPDATE t SET c=CASE WHEN 1 THEN 2 END; DELETE FROM t WHERE c=';'; END;\nCOMMIT;\n";
    const SQL_SERVER: &str = "\u{feff}USE [site]\r\nGO\r\nCREATE TABLE [dbo].[T]([Id] [int] PRIMARY KEY, [V] [nvarchar](max))\r\nGO\r\nSET IDENTITY_INSERT [dbo].[T] ON \r\n\r\nINSERT [dbo].[T] ([Id], [V]) VALUES (1, N'it''s\r\nGO on')\r\nINSERT [dbo].[T] ([Id], [V]) VALUES (2, NULL), (3, 0xAF)\r\nSET IDENTITY_INSERT [dbo].[T] OFF\r\nGO\r\nCREATE PROCEDURE p AS\r\nINSERT [dbo].[T] ([Id]) VALUES (1); SELECT 1;\r\nGO\r\nPRINT 'end'";

    #[test]
    fn every_cut_gives_the_same_pieces_and_all_bytes_come_out() {
        let counts = [
            (Dialect::Mysql, MYSQL, 6, 4, "whole CreateTrigger Some(\"g\")"),
            (Dialect::Postgres, POSTGRES, 5, 3, "row Copy Some(\"t\") 7 \"1\\ta\\\\tb;\""),
            (Dialect::Sqlite, SQLITE, 7, 2, "whole CreateTrigger Some(\"g\")"),
            (Dialect::SqlServer, SQL_SERVER, 8, 3, "whole CreateRoutine Some(\"p\")"),
        ];
        for (dialect, dump, statements, rows, line) in counts {
            let mut whole = Notes::default();
            let ending = run_source(Source::new(dump.as_bytes(), WINDOW, None).unwrap(), &mut whole).unwrap();
            assert_eq!(ending.dialect, dialect);
            assert_eq!(whole.bytes, dump.as_bytes());
            assert!(whole.lines.iter().any(|l| l.starts_with(line)), "{line}: {:#?}", whole.lines);
            assert_eq!(
                whole.lines.iter().filter(|l| l.starts_with("row")).count(),
                rows,
                "{:#?}",
                whole.lines
            );
            assert_eq!(ending.statements, statements, "{:#?}", whole.lines);
            let cut_off = (dialect == Dialect::Mysql).then_some(11);
            assert_eq!(
                ending.cut_off.as_ref().map(|c| c.line),
                cut_off,
                "MySQL's last statement has no delimiter"
            );
            for window in 8..dump.len() {
                let mut cut = Notes::default();
                let source = Source::new(OneByOne(dump.as_bytes()), window, Some(dialect)).unwrap();
                let again = run_source(source, &mut cut).unwrap();
                assert_eq!(cut.bytes, dump.as_bytes());
                assert_eq!(cut.lines, whole.lines, "{dialect:?}, window {window}");
                assert_eq!(again.cut_off, ending.cut_off);
            }
        }
    }
}
