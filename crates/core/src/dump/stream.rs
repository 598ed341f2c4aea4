//! Drives a bounded window over a dump and hands out every byte once, in order.
//!
//! Invariants: the pieces of a run, joined, are the input; what a piece says does not depend on how the reader cut the
//! input; the window grows only to hold one statement that is no insert, or one row. Cost: one read copy, and for inserts
//! the row scan.

use super::lex::{Lexer, Step, Token};
use super::literal::Quoting;
use super::row::{self, RowStep, Value};
use super::statement::{Class, Head, Statement, created_columns};
use std::collections::HashMap;
use std::io::Read;
use std::ops::Range;
use std::sync::Arc;

/// A stretch of the dump.
#[derive(Debug)]
pub enum Piece<'a> {
    /// Between statements: space, comments, `DELIMITER` lines.
    Gap(&'a [u8]),
    /// A statement that is no insert of rows, delimiter included, with the quoted strings in it.
    Whole {
        /// The statement.
        bytes: &'a [u8],
        /// Quoted strings in it, quotes included.
        literals: &'a [Range<usize>],
        /// How many bytes, at the end, are the delimiter.
        delimiter: usize,
    },
    /// An insert up to its first row.
    InsertHead(&'a [u8]),
    /// One row, brackets included.
    Row {
        /// The row.
        bytes: &'a [u8],
        /// Its values.
        values: &'a [Value],
    },
    /// What stands between two rows.
    Between(&'a [u8]),
    /// What follows the last row, delimiter included.
    Tail {
        /// The bytes.
        bytes: &'a [u8],
        /// How many of them, at the end, are the delimiter.
        delimiter: usize,
    },
    /// The rest of a dump that ends inside of a statement.
    CutOff(&'a [u8]),
}

/// Takes the pieces of a dump.
pub trait Sink {
    /// Takes one piece. For [`Piece::Gap`] the statement is the one before it.
    fn piece(&mut self, piece: Piece<'_>, statement: &Statement, quoting: Quoting) -> Result<(), DumpError>;
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
    /// A dump of another kind of server.
    #[error("this is {0}, and only dumps of MySQL and MariaDB are understood")]
    Dialect(&'static str),
    /// The sink gave up.
    #[error(transparent)]
    Sink(Box<dyn std::error::Error + Send + Sync>),
}

/// Where a dump stopped short.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize)]
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
    /// Set if the dump ends inside of a statement.
    pub cut_off: Option<CutOff>,
}

/// Window size that serves well: large enough that few rows straddle it, small enough to stay in cache.
pub const WINDOW: usize = 1 << 18;

struct Window<R> {
    reader: R,
    bytes: Vec<u8>,
    /// First byte that was not handed out yet.
    mark: usize,
    /// Where reading goes on.
    at: usize,
    filled: usize,
    end: bool,
    offset: u64,
    /// Line on which the byte at `counted` stands. Lines are counted in long stretches, when somebody asks or bytes go.
    line: u64,
    counted: usize,
}

impl<R: Read> Window<R> {
    fn rest(&self) -> &[u8] {
        &self.bytes[self.at..self.filled]
    }

    /// Makes room behind what is kept and reads on.
    fn fill(&mut self) -> Result<(), DumpError> {
        self.line();
        self.counted = 0;
        self.bytes.copy_within(self.mark..self.filled, 0);
        self.filled -= self.mark;
        self.at -= self.mark;
        self.mark = 0;
        if self.filled == self.bytes.len() {
            let larger = self.bytes.len() * 2;
            self.bytes.resize(larger, 0);
        }
        loop {
            match self.reader.read(&mut self.bytes[self.filled..]) {
                Ok(0) => self.end = true,
                Ok(n) => self.filled += n,
                Err(e) if e.kind() == std::io::ErrorKind::Interrupted => continue,
                Err(e) => return Err(DumpError::Read(e)),
            }
            return Ok(());
        }
    }

    /// Returns the line of the mark, from 1.
    fn line(&mut self) -> u64 {
        self.line += memchr::memchr_iter(b'\n', &self.bytes[self.counted..self.mark]).count() as u64;
        self.counted = self.mark;
        self.line
    }

    /// Moves the mark to where reading goes on.
    fn handed_out(&mut self) {
        self.offset += (self.at - self.mark) as u64;
        self.mark = self.at;
    }
}

/// Reads a dump to its end. `window` is the initial window in bytes.
pub fn run<R: Read>(reader: R, window: usize, sink: &mut dyn Sink) -> Result<Ending, DumpError> {
    let mut w = Window {
        reader,
        bytes: vec![0; window.max(8)],
        mark: 0,
        at: 0,
        filled: 0,
        end: false,
        offset: 0,
        line: 1,
        counted: 0,
    };
    while w.filled < 4096 && !w.end {
        w.fill()?;
    }
    refuse_other_dialects(w.rest())?;
    let mut run = Run {
        lexer: Lexer::default(),
        head: Head::default(),
        statement: Statement { class: Class::Empty, name: None, qualifier: None, columns: None, line: 1 },
        tables: HashMap::new(),
        literals: Vec::new(),
        values: Vec::new(),
        ending: Ending::default(),
    };
    if w.rest().starts_with(b"\xEF\xBB\xBF") {
        w.at = 3;
        run.gap(&mut w, sink)?;
    }
    run.statements(&mut w, sink)?;
    run.ending.bytes = w.offset;
    Ok(run.ending)
}

fn refuse_other_dialects(start: &[u8]) -> Result<(), DumpError> {
    let start = &start[..start.len().min(4096)];
    let has = |needle: &[u8]| memchr::memmem::find(start, needle).is_some();
    if start.starts_with(b"\xFF\xFE") || start.starts_with(b"\xFE\xFF") {
        return Err(DumpError::Dialect("a UTF-16 text, perhaps an SQL Server script"));
    }
    if has(b"PostgreSQL database dump") {
        return Err(DumpError::Dialect("a PostgreSQL dump"));
    }
    if start.starts_with(b"PRAGMA foreign_keys") || start.starts_with(b"SQLite format 3") {
        return Err(DumpError::Dialect("an SQLite dump or database"));
    }
    Ok(())
}

struct Run {
    lexer: Lexer,
    head: Head,
    statement: Statement,
    tables: HashMap<String, Arc<[String]>>,
    literals: Vec<Range<usize>>,
    values: Vec<Value>,
    ending: Ending,
}

impl Run {
    fn quoting(&self) -> Quoting {
        Quoting { backslash: self.lexer.backslash_escapes }
    }

    fn gap<R: Read>(&mut self, w: &mut Window<R>, sink: &mut dyn Sink) -> Result<(), DumpError> {
        sink.piece(Piece::Gap(&w.bytes[w.mark..w.at]), &self.statement, self.quoting())?;
        w.handed_out();
        Ok(())
    }

    fn cut_off<R: Read>(&mut self, w: &mut Window<R>, sink: &mut dyn Sink) -> Result<(), DumpError> {
        let what = match &self.statement.class {
            Class::Insert => format!("INSERT INTO {}", self.statement.name.as_deref().unwrap_or("?")),
            _ => String::from_utf8_lossy(&w.bytes[w.mark..w.filled.min(w.mark + 40)]).into_owned(),
        };
        self.ending.cut_off = Some(CutOff { line: w.line(), offset: w.offset, what });
        w.at = w.filled;
        sink.piece(Piece::CutOff(&w.bytes[w.mark..w.at]), &self.statement, self.quoting())?;
        w.handed_out();
        Ok(())
    }

    /// The outer loop: gaps and statements.
    fn statements<R: Read>(&mut self, w: &mut Window<R>, sink: &mut dyn Sink) -> Result<(), DumpError> {
        let mut begun = false;
        loop {
            let (token, len) = match self.lexer.next(w.rest(), w.end) {
                Step::Token(token, len) => (token, len),
                Step::More if !w.end => {
                    w.fill()?;
                    continue;
                }
                Step::More if !begun => return Ok(()),
                Step::More | Step::CutOff(_) => {
                    if begun {
                        self.statement = self.head.statement(w.line());
                    }
                    return self.cut_off(w, sink);
                }
            };
            let idle = matches!(token, Token::Space | Token::Comment | Token::DelimiterLine);
            if !begun && (idle || token == Token::End) {
                w.at += len;
                self.gap(w, sink)?;
                continue;
            }
            begun = true;
            let start = w.at;
            w.at += len;
            match token {
                Token::Space | Token::Comment | Token::DelimiterLine | Token::HintOpen | Token::HintClose => {
                }
                Token::End => {
                    self.whole(w, sink, len)?;
                    begun = false;
                }
                _ => {
                    if token == Token::Text {
                        self.literals.push(start - w.mark..w.at - w.mark);
                    }
                    self.head.push(token, &w.bytes[start..w.at]);
                    if token == Token::Word && self.head.opens_rows() {
                        self.statement = self.head.statement(w.line());
                        self.know_columns();
                        sink.piece(
                            Piece::InsertHead(&w.bytes[w.mark..w.at]),
                            &self.statement,
                            self.quoting(),
                        )?;
                        w.handed_out();
                        let whole = self.rows(w, sink)?;
                        if !whole {
                            return Ok(());
                        }
                        self.reset();
                        begun = false;
                    }
                }
            }
        }
    }

    fn reset(&mut self) {
        self.head.clear();
        self.literals.clear();
        self.ending.statements += 1;
    }

    fn know_columns(&mut self) {
        if self.statement.columns.is_none()
            && let Some(name) = &self.statement.name
        {
            self.statement.columns = self.tables.get(name).cloned();
        }
    }

    fn whole<R: Read>(
        &mut self,
        w: &mut Window<R>,
        sink: &mut dyn Sink,
        delimiter: usize,
    ) -> Result<(), DumpError> {
        self.statement = self.head.statement(w.line());
        let bytes = &w.bytes[w.mark..w.at];
        if self.statement.class == Class::CreateTable
            && let Some(name) = &self.statement.name
        {
            let columns: Arc<[String]> = created_columns(bytes).into();
            self.statement.columns = Some(columns.clone());
            self.tables.insert(name.clone(), columns);
        }
        let quoting = self.quoting();
        if self.statement.class == Class::Set {
            let upper = bytes.to_ascii_uppercase();
            if memchr::memmem::find(&upper, b"SQL_MODE").is_some() {
                self.lexer.backslash_escapes =
                    memchr::memmem::find(&upper, b"NO_BACKSLASH_ESCAPES").is_none();
            }
        }
        sink.piece(Piece::Whole { bytes, literals: &self.literals, delimiter }, &self.statement, quoting)?;
        w.handed_out();
        self.reset();
        Ok(())
    }

    /// The rows of an insert, to its delimiter. Returns false if the dump ends before.
    fn rows<R: Read>(&mut self, w: &mut Window<R>, sink: &mut dyn Sink) -> Result<bool, DumpError> {
        let quoting = self.quoting();
        // Once something other than a row follows, all up to the delimiter is tail.
        let mut in_tail = false;
        loop {
            if !in_tail && w.rest().first() == Some(&b'(') {
                if w.at > w.mark {
                    sink.piece(Piece::Between(&w.bytes[w.mark..w.at]), &self.statement, quoting)?;
                    w.handed_out();
                }
                match row::scan(w.rest(), quoting.backslash, w.end, &mut self.values) {
                    RowStep::Row(len) => {
                        w.at += len;
                        let bytes = &w.bytes[w.mark..w.at];
                        sink.piece(Piece::Row { bytes, values: &self.values }, &self.statement, quoting)?;
                        w.handed_out();
                    }
                    RowStep::More if !w.end => w.fill()?,
                    RowStep::More => {
                        self.cut_off(w, sink)?;
                        return Ok(false);
                    }
                }
                continue;
            }
            match self.lexer.next(w.rest(), w.end) {
                Step::Token(Token::End, len) => {
                    w.at += len;
                    let bytes = &w.bytes[w.mark..w.at];
                    sink.piece(Piece::Tail { bytes, delimiter: len }, &self.statement, quoting)?;
                    w.handed_out();
                    return Ok(true);
                }
                Step::Token(token, len) => {
                    w.at += len;
                    let between = matches!(token, Token::Space | Token::Comment | Token::Punct(b','));
                    in_tail |= !between;
                }
                Step::More if !w.end => w.fill()?,
                Step::More | Step::CutOff(_) => {
                    self.cut_off(w, sink)?;
                    return Ok(false);
                }
            }
        }
    }
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
        fn piece(&mut self, piece: Piece<'_>, s: &Statement, _: Quoting) -> Result<(), DumpError> {
            let (kind, bytes) = match piece {
                Piece::Gap(b) => ("gap", b),
                Piece::Whole { bytes, .. } => ("whole", bytes),
                Piece::InsertHead(b) => ("head", b),
                Piece::Row { bytes, .. } => ("row", bytes),
                Piece::Between(b) => ("between", b),
                Piece::Tail { bytes, .. } => ("tail", bytes),
                Piece::CutOff(b) => ("cut", b),
            };
            self.bytes.extend_from_slice(bytes);
            // Space may come in several gaps: how many depends on the cuts and on nothing that matters.
            if kind != "gap" {
                self.lines.push(format!(
                    "{kind} {:?} {:?} {} {:?}",
                    s.class,
                    s.name,
                    s.line,
                    String::from_utf8_lossy(bytes)
                ));
            }
            Ok(())
        }
    }

    const DUMP: &str = "\u{feff}-- head -- x\n/*!40101 SET NAMES utf8 */;\nSET SQL_MODE='ANSI';\r\n# c\nCREATE TABLE `t` (`a` int, b text COMMENT 'it''s;');\n\
        INSERT INTO `t` VALUES (1,'a;\\'),('),\n(2,\"x\"\"(\"); INSERT INTO t (b) VALUES ('1') ON DUPLICATE KEY UPDATE b='(2)';\n\
        DELIMITER ;;\nCREATE TRIGGER g BEFORE INSERT ON t FOR EACH ROW BEGIN SET @a=1; SET @b=2; END;;\nDELIMITER ;\nREPLACE t VALUES(3,NULL)";

    #[test]
    fn every_cut_gives_the_same_pieces_and_all_bytes_come_out() {
        let mut whole = Notes::default();
        let ending = run(DUMP.as_bytes(), WINDOW, &mut whole).unwrap();
        assert_eq!(whole.bytes, DUMP.as_bytes());
        assert_eq!(ending.cut_off.as_ref().map(|c| c.line), Some(11), "the last statement has no delimiter");
        assert_eq!(ending.statements, 6);
        assert!(
            whole.lines.iter().any(|l| l.starts_with("whole CreateTrigger Some(\"g\")")),
            "{:#?}",
            whole.lines
        );
        assert_eq!(whole.lines.iter().filter(|l| l.starts_with("row")).count(), 4);
        for window in 8..DUMP.len() {
            let mut cut = Notes::default();
            run(OneByOne(DUMP.as_bytes()), window, &mut cut).unwrap();
            assert_eq!(cut.bytes, DUMP.as_bytes());
            assert_eq!(cut.lines, whole.lines, "window {window}");
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
}
