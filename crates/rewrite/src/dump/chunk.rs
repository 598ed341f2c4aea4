//! A chunk of a dump: its bytes, and where in them what lies. The source fills it, a worker or a sink walks over it.

use super::literal::Quoting;
use super::rows::Rows;
use super::runs::Seen;
use super::statement::Statement;
use std::ops::Range;
use std::sync::Arc;

/// A stretch of a dump with what it holds. Its memory is used again and again.
#[derive(Debug, Default)]
pub struct Chunk {
    pub(super) bytes: Vec<u8>,
    pub(super) filled: usize,
    /// How much of it the pieces cover.
    pub(super) used: usize,
    pub(super) pieces: Vec<Located>,
    pub(super) rows: Vec<Range<usize>>,
    pub(super) hex: Vec<usize>,
    pub(super) seen: Vec<Seen>,
    pub(super) literals: Vec<Range<usize>>,
}

/// A piece, located.
#[derive(Debug)]
pub(super) struct Located {
    pub(super) kind: ChunkKind,
    pub(super) span: Range<usize>,
    pub(super) statement: Arc<Statement>,
    pub(super) line: u64,
    pub(super) first_line: u64,
    pub(super) quoting: Quoting,
}

/// What a piece is; lists are ranges of the chunk's.
#[derive(Debug, Clone)]
pub(super) enum ChunkKind {
    Gap,
    Whole { literals: Range<usize>, delimiter: usize },
    InsertHead,
    Rows { rows: Range<usize>, hex: Range<usize>, seen: Range<usize> },
    Between,
    Tail { delimiter: usize },
    CutOff,
}

impl Chunk {
    /// Returns the bytes that the pieces cover.
    pub fn bytes(&self) -> &[u8] {
        &self.bytes[..self.used]
    }

    /// Returns the pieces with their offsets, in order.
    pub fn pieces(&self) -> impl Iterator<Item = (usize, Piece<'_>, At<'_>)> {
        self.pieces.iter().map(|located| {
            let bytes = &self.bytes[located.span.clone()];
            let piece = match &located.kind {
                ChunkKind::Gap => Piece::Gap(bytes),
                ChunkKind::Whole { literals, delimiter } => {
                    Piece::Whole { bytes, literals: &self.literals[literals.clone()], delimiter: *delimiter }
                }
                ChunkKind::InsertHead => Piece::InsertHead(bytes),
                ChunkKind::Rows { rows, hex, seen } => Piece::Rows(Rows {
                    bytes,
                    base: located.span.start,
                    spans: &self.rows[rows.clone()],
                    hex: &self.hex[hex.clone()],
                    seen: &self.seen[seen.clone()],
                }),
                ChunkKind::Between => Piece::Between(bytes),
                ChunkKind::Tail { delimiter } => Piece::Tail { bytes, delimiter: *delimiter },
                ChunkKind::CutOff => Piece::CutOff(bytes),
            };
            let at = At {
                statement: &located.statement,
                line: located.line,
                first_line: located.first_line,
                quoting: located.quoting,
            };
            (located.span.start, piece, at)
        })
    }

    pub(super) fn clear(&mut self, window: usize) {
        // A chunk that had to hold one giant literal gives the memory back.
        if self.bytes.len() > 8 * window.max(1 << 16) {
            self.bytes = Vec::new();
        }
        self.filled = 0;
        self.restart();
    }

    pub(super) fn restart(&mut self) {
        self.used = 0;
        self.pieces.clear();
        self.rows.clear();
        self.hex.clear();
        self.seen.clear();
        self.literals.clear();
    }

    pub(super) fn rest(&self) -> &[u8] {
        &self.bytes[self.used..self.filled]
    }
}

/// Where the lists of a chunk stand before a run of rows.
#[derive(Clone, Copy)]
pub(super) struct Firsts {
    pub(super) rows: usize,
    pub(super) hex: usize,
    pub(super) seen: usize,
}

impl Firsts {
    pub(super) fn of(chunk: &Chunk) -> Self {
        Firsts { rows: chunk.rows.len(), hex: chunk.hex.len(), seen: chunk.seen.len() }
    }
}

/// A stretch of the dump.
#[derive(Debug)]
pub enum Piece<'a> {
    /// Between statements: space, comments, lines for the client.
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
    /// An insert up to its first row, or a `COPY` up to its first line.
    InsertHead(&'a [u8]),
    /// Rows, one behind the other.
    Rows(Rows<'a>),
    /// What stands between two runs of rows.
    Between(&'a [u8]),
    /// What follows the last row, delimiter included; of a `COPY` the line that ends it.
    Tail {
        /// The bytes.
        bytes: &'a [u8],
        /// How many of them, at the end, are the delimiter.
        delimiter: usize,
    },
    /// The rest of a dump that ends inside of a statement.
    CutOff(&'a [u8]),
}

impl<'a> Piece<'a> {
    /// Returns all of its bytes.
    pub fn bytes(&self) -> &'a [u8] {
        match self {
            Piece::Gap(bytes)
            | Piece::Whole { bytes, .. }
            | Piece::InsertHead(bytes)
            | Piece::Between(bytes)
            | Piece::Tail { bytes, .. }
            | Piece::CutOff(bytes) => bytes,
            Piece::Rows(rows) => rows.bytes,
        }
    }
}

/// What is known of a piece's surroundings.
#[derive(Debug, Clone, Copy)]
pub struct At<'a> {
    /// The statement it belongs to; for a gap the one before.
    pub statement: &'a Arc<Statement>,
    /// Line on which that statement begins, from 1.
    pub line: u64,
    /// Line on which the piece begins.
    pub first_line: u64,
    /// How strings are written there.
    pub quoting: Quoting,
}
