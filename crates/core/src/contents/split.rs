//! Splits a dump into one text per table, each of which loads on its own.
//!
//! The session settings at the head of the dump (`SET NAMES`, `sql_mode`) come first in every part. Views, triggers,
//! routines and events keep their order and go into one last part, because they may need any table. Parts are spooled to a
//! temporary folder, compressed; memory holds names only.

use crate::dump::statement::{Class, Statement};
use crate::dump::stream::{At, DumpError, Piece, Sink};
use crate::spool;
use std::collections::{BTreeSet, HashMap};
use std::fs::File;
use std::io::{Read, Write};
use std::path::{Path, PathBuf};

/// One part of a split dump, spooled to a file.
#[derive(Debug)]
pub struct SpooledPart {
    /// Table, or nothing for the part with views and routines.
    pub table: Option<String>,
    /// Tables of a dump that goes whole.
    pub holds: Vec<String>,
    /// Rows kept.
    pub rows: u64,
    /// Rows left out.
    pub rows_left_out: u64,
    /// Bytes of the part.
    pub bytes: u64,
    pub(crate) path: PathBuf,
}

impl SpooledPart {
    /// Opens the part for reading.
    pub fn open(&self) -> std::io::Result<impl Read + use<>> {
        zstd::stream::read::Decoder::new(File::open(&self.path)?)
    }
}

/// What a split came to.
#[derive(Debug)]
pub struct Split {
    /// Parts, tables first.
    pub parts: Vec<SpooledPart>,
    /// Databases that the dump names.
    pub databases: BTreeSet<String>,
    /// Statements that build nothing and were left out, with their lines.
    pub left_out: Vec<String>,
}

/// A sink that splits. Rows of the tables in `without_rows` are left out.
pub struct Splitter<'a> {
    folder: &'a Path,
    without_rows: &'a BTreeSet<String>,
    parts: Vec<SpooledPart>,
    by_table: HashMap<Option<String>, usize>,
    /// Session settings before the first table.
    session: Vec<u8>,
    /// The part that is open for writing.
    open: Option<(usize, zstd::stream::write::Encoder<'static, File>)>,
    databases: BTreeSet<String>,
    skip: bool,
    left_out: Vec<String>,
}

/// Compression of the spool: as cheap as it gets.
pub const SPOOL_LEVEL: i32 = 1;

impl<'a> Splitter<'a> {
    /// Starts a split into a folder of the caller's.
    pub fn new(folder: &'a Path, without_rows: &'a BTreeSet<String>) -> Self {
        Splitter {
            folder,
            without_rows,
            parts: Vec::new(),
            by_table: HashMap::new(),
            session: Vec::new(),
            open: None,
            databases: BTreeSet::new(),
            skip: false,
            left_out: Vec::new(),
        }
    }

    /// Ends the split.
    pub fn finish(mut self) -> Result<Split, DumpError> {
        self.close()?;
        self.parts.sort_by_key(|p| p.table.is_none());
        Ok(Split { parts: self.parts, databases: self.databases, left_out: self.left_out })
    }

    fn close(&mut self) -> Result<(), DumpError> {
        if let Some((_, encoder)) = self.open.take() {
            encoder.finish().map_err(DumpError::Write)?;
        }
        Ok(())
    }

    /// Opens the part of a table (or of views and routines) and makes it the current one.
    fn enter(&mut self, table: Option<&str>) -> Result<(), DumpError> {
        let key = table.map(str::to_string);
        let index = match self.by_table.get(&key) {
            Some(index) => *index,
            None => {
                let index = self.parts.len();
                let path = self.folder.join(format!("part-{index}"));
                self.parts.push(SpooledPart {
                    table: key.clone(),
                    holds: Vec::new(),
                    rows: 0,
                    rows_left_out: 0,
                    bytes: 0,
                    path,
                });
                self.by_table.insert(key, index);
                self.reopen(index)?;
                let session = std::mem::take(&mut self.session);
                self.write(&session)?;
                self.session = session;
                index
            }
        };
        if self.open.as_ref().is_none_or(|(open, _)| *open != index) {
            self.reopen(index)?;
        }
        Ok(())
    }

    fn reopen(&mut self, index: usize) -> Result<(), DumpError> {
        self.close()?;
        // Compressed frames may follow each other in one file.
        let file = spool::private_file(&self.parts[index].path, true).map_err(DumpError::Write)?;
        let encoder = zstd::stream::write::Encoder::new(file, SPOOL_LEVEL).map_err(DumpError::Write)?;
        self.open = Some((index, encoder));
        Ok(())
    }

    fn write(&mut self, bytes: &[u8]) -> Result<(), DumpError> {
        if let Some((index, encoder)) = &mut self.open {
            self.parts[*index].bytes += bytes.len() as u64;
            encoder.write_all(bytes).map_err(DumpError::Write)?;
        }
        Ok(())
    }

    fn line(&mut self, bytes: &[u8]) -> Result<(), DumpError> {
        self.write(bytes)?;
        self.write(b"\n")
    }

    fn whole(
        &mut self,
        bytes: &[u8],
        delimiter: usize,
        statement: &Statement,
        line: u64,
    ) -> Result<(), DumpError> {
        let name = statement.name.as_deref();
        match &statement.class {
            Class::CreateTable
            | Class::DropTable
            | Class::AlterTable
            | Class::CreateIndex
            | Class::Insert
            | Class::Copy => {
                self.enter(name)?;
                self.line(bytes)
            }
            Class::CreateView
            | Class::CreateTrigger
            | Class::CreateRoutine
            | Class::CreateEvent
            | Class::DropOther => {
                self.enter(None)?;
                // The part has to say itself what ends a statement with a body.
                let delimiter = &bytes[bytes.len() - delimiter..];
                if delimiter == b";" {
                    return self.line(bytes);
                }
                self.line(&[b"DELIMITER ", delimiter].concat())?;
                self.line(bytes)?;
                self.line(b"DELIMITER ;")
            }
            Class::Set if self.parts.is_empty() => {
                self.session.extend_from_slice(bytes);
                self.session.push(b'\n');
                Ok(())
            }
            // Settings around a trigger or table belong to the part they stand in.
            Class::Set => self.line(bytes),
            Class::LockTables | Class::UnlockTables | Class::Transaction | Class::Empty => Ok(()),
            Class::Use | Class::Database => {
                self.databases.extend(statement.name.clone());
                Ok(())
            }
            Class::Other(word) => {
                if self.left_out.len() < 20 {
                    self.left_out.push(format!("line {line}: {word}"));
                }
                Ok(())
            }
        }
    }
}

impl Sink for Splitter<'_> {
    fn piece(&mut self, piece: Piece<'_>, at: At<'_>) -> Result<(), DumpError> {
        let statement = at.statement;
        match piece {
            Piece::Gap(_) | Piece::CutOff(_) => Ok(()),
            Piece::Whole { bytes, delimiter, .. } => self.whole(bytes, delimiter, statement, at.line),
            Piece::InsertHead(bytes) => {
                self.enter(statement.name.as_deref())?;
                self.skip = statement.name.as_ref().is_some_and(|t| self.without_rows.contains(t));
                if self.skip { Ok(()) } else { self.write(bytes) }
            }
            Piece::Rows(rows) => {
                let part = self.open.as_ref().map(|(index, _)| *index).unwrap_or_default();
                if self.skip {
                    self.parts[part].rows_left_out += rows.count() as u64;
                    return Ok(());
                }
                self.parts[part].rows += rows.count() as u64;
                self.write(rows.bytes)
            }
            Piece::Between(bytes) => {
                if self.skip {
                    Ok(())
                } else {
                    self.write(bytes)
                }
            }
            Piece::Tail { bytes, .. } => {
                if self.skip {
                    Ok(())
                } else {
                    self.line(bytes)
                }
            }
        }
    }
}
