//! A chunk of a dump: its bytes, and where in them what lies. The source fills it, a worker or a sink walks over it.

use super::literal::Quoting;
use super::rows::Rows;
use super::runs::Seen;
use super::statement::Statement;
use super::stream::{At, Piece};
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
    pub(super) kind: Kind,
    pub(super) span: Range<usize>,
    pub(super) statement: Arc<Statement>,
    pub(super) line: u64,
    pub(super) first_line: u64,
    pub(super) quoting: Quoting,
}

/// What a piece is; lists are ranges of the chunk's.
#[derive(Debug, Clone)]
pub(super) enum Kind {
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
                Kind::Gap => Piece::Gap(bytes),
                Kind::Whole { literals, delimiter } => {
                    Piece::Whole { bytes, literals: &self.literals[literals.clone()], delimiter: *delimiter }
                }
                Kind::InsertHead => Piece::InsertHead(bytes),
                Kind::Rows { rows, hex, seen } => Piece::Rows(Rows {
                    bytes,
                    base: located.span.start,
                    spans: &self.rows[rows.clone()],
                    hex: &self.hex[hex.clone()],
                    seen: &self.seen[seen.clone()],
                }),
                Kind::Between => Piece::Between(bytes),
                Kind::Tail { delimiter } => Piece::Tail { bytes, delimiter: *delimiter },
                Kind::CutOff => Piece::CutOff(bytes),
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
