//! A database as it was at one moment, of whichever engine: what it holds, and each table as SQL that loads anywhere.

use super::DatabaseError;
use crate::event::Findings;
use crate::pipe::PipeWriter;
use schemars::JsonSchema;
use serde::Serialize;
use std::io::Write;

/// What a table holds, as the server tells it.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct TableFacts {
    /// Name.
    pub name: String,
    /// Rows; an estimate on most servers.
    pub rows: u64,
    /// Bytes of the rows.
    pub data: u64,
    /// Bytes of the indexes.
    pub index: u64,
}

impl TableFacts {
    /// Returns rows and indexes together, in bytes.
    pub fn bytes(&self) -> u64 {
        self.data + self.index
    }
}

/// What the comment of something begins with that a run keeps for its undo, before its name.
pub const KEPT_AS: &str = "kept by zporter as ";

/// By what the rows of a table are told apart.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RowKey {
    /// Columns of the primary key, in order.
    pub columns: Vec<String>,
    /// Columns of other unique indexes: two rows may have exchanged their values.
    pub unique: Vec<String>,
}

/// Where a dump goes.
pub trait DumpOut: Write {
    /// Says that a statement has ended and another may begin elsewhere.
    fn boundary(&mut self) -> std::io::Result<()>;
    /// Says whether boundaries matter, so that long statements should be cut.
    fn splits(&self) -> bool {
        false
    }
    /// Takes a buffer, which is empty then: where its memory can be handed on, nothing is copied.
    fn give(&mut self, buffer: &mut Vec<u8>) -> std::io::Result<()> {
        self.write_all(buffer)?;
        buffer.clear();
        Ok(())
    }
}

impl DumpOut for PipeWriter {
    fn boundary(&mut self) -> std::io::Result<()> {
        Ok(())
    }

    fn give(&mut self, buffer: &mut Vec<u8>) -> std::io::Result<()> {
        PipeWriter::give(self, buffer)
    }
}

/// A writer that takes everything in one piece.
pub struct Whole<W>(pub W);

impl<W: Write> Write for Whole<W> {
    fn write(&mut self, buf: &[u8]) -> std::io::Result<usize> {
        self.0.write(buf)
    }

    fn flush(&mut self) -> std::io::Result<()> {
        self.0.flush()
    }
}

impl<W: Write> DumpOut for Whole<W> {
    fn boundary(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

/// A consistent view of a database, held by one connection. The user's own rights on the database are enough, and nobody is locked out.
pub trait Snapshot: Send {
    /// Product and version, as the server says it.
    fn server(&mut self) -> Result<String, DatabaseError>;
    /// Settings that every text of it has to begin with.
    fn session(&self) -> &'static str;
    /// What every text of it has to end with.
    fn closing(&self) -> &'static str {
        ""
    }
    /// All tables with rows of their own, in the order in which they are written.
    fn tables(&mut self) -> Result<Vec<TableFacts>, DatabaseError>;
    /// Writes what tables need: types, sequences. Returns how many things were written.
    fn before(&mut self, has: &dyn Fn(&str) -> bool, out: &mut dyn DumpOut) -> Result<u64, DatabaseError>;
    /// Writes a table: structure, and rows unless they are left out. Returns the number of rows.
    fn table(&mut self, table: &str, with_rows: bool, out: &mut dyn DumpOut) -> Result<u64, DatabaseError>;
    /// How a table's rows are told apart, if they can be changed one by one: by whole numbers, with no values that are spelled otherwise than
    /// they are kept, and nothing that a change sets off.
    fn row_key(&mut self, _table: &str) -> Result<Option<RowKey>, DatabaseError> {
        Ok(None)
    }
    /// Writes a table as [`Snapshot::table`] does, its rows in the order of such a key: all, or those of some keys.
    fn table_in_order(
        &mut self,
        table: &str,
        _key: &[String],
        _only: Option<&[Vec<i128>]>,
        out: &mut dyn DumpOut,
    ) -> Result<u64, DatabaseError> {
        self.table(table, true, out)
    }
    /// Hands on a print of each row, with its key and in the order of that, as the server itself computes it; `take` says whether it wants
    /// more. Rows of one print are the same but for one time in four thousand million.
    fn row_prints(
        &mut self,
        _table: &str,
        _key: &[String],
        _take: &mut dyn FnMut(Vec<i128>, u64) -> bool,
    ) -> Result<(), DatabaseError> {
        Ok(())
    }
    /// Returns the server's own checksum of a table's rows, where it has one.
    fn checksum(&mut self, _table: &str) -> Result<Option<u64>, DatabaseError> {
        Ok(None)
    }
    /// Writes what needs the tables that `has` names: views, triggers, routines, events. Returns how many things were written.
    fn after(
        &mut self,
        has: &dyn Fn(&str) -> bool,
        out: &mut dyn DumpOut,
        findings: &mut Findings<'_>,
    ) -> Result<u64, DatabaseError>;
}

/// Writes rows as inserts of a size, whatever the engine: how a value is spelled is the caller's.
pub(super) struct Inserts<'o> {
    out: &'o mut dyn DumpOut,
    head: String,
    size: usize,
    buffer: Vec<u8>,
    count: u64,
}

impl<'o> Inserts<'o> {
    /// Starts; `head` is all of the statement before its first row. An insert that reaches `size` bytes is closed.
    pub(super) fn new(out: &'o mut dyn DumpOut, head: String, size: usize) -> Self {
        Inserts { out, head, size, buffer: Vec::with_capacity(size + 4096), count: 0 }
    }

    /// Writes a row of so many values.
    pub(super) fn row<E: From<std::io::Error>>(
        &mut self,
        values: usize,
        mut push: impl FnMut(&mut Vec<u8>, usize) -> Result<(), E>,
    ) -> Result<(), E> {
        self.row_of(|buffer| {
            (0..values).try_for_each(|i| {
                if i > 0 {
                    buffer.push(b',');
                }
                push(buffer, i)
            })
        })
    }

    /// Writes a row whose values `push_all` writes, with the commas between.
    pub(super) fn row_of<E: From<std::io::Error>>(
        &mut self,
        push_all: impl FnOnce(&mut Vec<u8>) -> Result<(), E>,
    ) -> Result<(), E> {
        let first = self.buffer.is_empty();
        self.buffer.extend_from_slice(if first { self.head.as_bytes() } else { b",\n" });
        self.buffer.push(b'(');
        push_all(&mut self.buffer)?;
        self.buffer.push(b')');
        self.count += 1;
        if self.buffer.len() > self.size {
            self.close()?;
            self.out.boundary()?;
        }
        Ok(())
    }

    fn close(&mut self) -> std::io::Result<()> {
        self.buffer.extend_from_slice(b";\n");
        self.out.give(&mut self.buffer)
    }

    /// Closes the last insert and returns the number of rows.
    pub(super) fn end(mut self) -> std::io::Result<u64> {
        if !self.buffer.is_empty() {
            self.close()?;
        }
        Ok(self.count)
    }
}
