//! Dumps as streams: read, located, rewritten, never held whole.
//!
//! [`stream`] reads a dump of any [`dialect`] in chunks and locates what each holds: every byte once, in order, as pieces that
//! know their statement, table and rows. [`spread`] rewrites chunks ([`rewrite`]) on several cores; sinks measure a dump
//! ([`inspect`]), take it apart or load it.

pub mod chunk;
pub mod definer;
pub mod dialect;
mod insert;
pub mod inspect;
pub mod lex;
pub mod literal;
pub mod material;
pub mod prefix;
pub mod rewrite;
pub mod row;
pub mod row_change;
pub mod rows;
pub mod rules;
mod runs;
pub mod sequence;
pub mod spread;
pub mod statement;
pub mod stream;
pub mod tally;
pub mod utf16;
mod value;

use std::io::{self, BufReader, Read, Write};
use utf16::{FromUtf16, Order, ToUtf16};

/// A dump that is being read, decompressed.
pub enum DumpReader<R: Read> {
    /// Plain text.
    Plain(BufReader<R>),
    /// gzip.
    Gz(Box<flate2::read::MultiGzDecoder<BufReader<R>>>),
    /// Zstandard.
    Zst(zstd::stream::read::Decoder<'static, BufReader<R>>),
}

/// Opens a dump, compressed with gzip or Zstandard or not at all, by its first bytes.
pub fn open<R: Read>(reader: R) -> io::Result<DumpReader<R>> {
    let mut reader = BufReader::with_capacity(1 << 16, reader);
    let start = io::BufRead::fill_buf(&mut reader)?;
    Ok(match start {
        [0x1F, 0x8B, ..] => DumpReader::Gz(Box::new(flate2::read::MultiGzDecoder::new(reader))),
        [0x28, 0xB5, 0x2F, 0xFD, ..] => DumpReader::Zst(zstd::stream::read::Decoder::with_buffer(reader)?),
        _ => DumpReader::Plain(reader),
    })
}

impl<R: Read> Read for DumpReader<R> {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        match self {
            DumpReader::Plain(reader) => reader.read(buf),
            DumpReader::Gz(reader) => reader.read(buf),
            DumpReader::Zst(reader) => reader.read(buf),
        }
    }
}

/// A dump's text as UTF-8, or as the bytes it has.
pub enum TextReader<R: Read> {
    /// As it is.
    Bytes(BufReader<DumpReader<R>>),
    /// From UTF-16.
    Utf16(FromUtf16<BufReader<DumpReader<R>>>, Order),
}

/// Opens a dump as [`open`] does; UTF-16 is read as UTF-8.
///
/// # Errors
/// Of the kind `InvalidData` with a [`material::Unread`] where it is no text.
pub fn open_text<R: Read>(reader: R) -> io::Result<TextReader<R>> {
    let mut reader = BufReader::with_capacity(1 << 16, open(reader)?);
    let start = io::BufRead::fill_buf(&mut reader)?;
    if let Some(unread) = material::no_text(start) {
        return Err(io::Error::new(io::ErrorKind::InvalidData, unread));
    }
    let order = Order::of(start);
    Ok(match order {
        Some(order) => TextReader::Utf16(FromUtf16::new(reader, order), order),
        None => TextReader::Bytes(reader),
    })
}

impl<R: Read> TextReader<R> {
    /// Returns the byte order in which the text has to be written back, if it is UTF-16.
    pub fn order(&self) -> Option<Order> {
        match self {
            TextReader::Bytes(_) => None,
            TextReader::Utf16(_, order) => Some(*order),
        }
    }

    /// Says whether the text is byte for byte what the reader below gives.
    pub fn is_plain(&self) -> bool {
        matches!(self, TextReader::Bytes(reader) if matches!(reader.get_ref(), DumpReader::Plain(_)))
    }
}

impl<R: Read> Read for TextReader<R> {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        match self {
            TextReader::Bytes(reader) => reader.read(buf),
            TextReader::Utf16(reader, _) => reader.read(buf),
        }
    }
}

/// A rewritten dump on its way out: as it is, or in UTF-16 again.
pub enum TextWriter<W: Write> {
    /// As it is.
    Bytes(W),
    /// In UTF-16.
    Utf16(ToUtf16<W>),
}

impl<W: Write> TextWriter<W> {
    /// Wraps a writer for a text that was read in this order.
    pub fn new(out: W, order: Option<Order>) -> Self {
        match order {
            Some(order) => TextWriter::Utf16(ToUtf16::new(out, order)),
            None => TextWriter::Bytes(out),
        }
    }

    /// Returns what is below.
    pub fn into_inner(self) -> W {
        match self {
            TextWriter::Bytes(out) => out,
            TextWriter::Utf16(out) => out.into_inner(),
        }
    }
}

impl<W: Write> Write for TextWriter<W> {
    fn write(&mut self, buf: &[u8]) -> io::Result<usize> {
        match self {
            TextWriter::Bytes(out) => out.write(buf),
            TextWriter::Utf16(out) => out.write(buf),
        }
    }

    fn flush(&mut self) -> io::Result<()> {
        match self {
            TextWriter::Bytes(out) => out.flush(),
            TextWriter::Utf16(out) => out.flush(),
        }
    }
}

/// A dump that is being written, compressed as its file's ending says.
pub enum DumpWriter<W: Write> {
    /// Plain text.
    Plain(W),
    /// gzip.
    Gz(flate2::write::GzEncoder<W>),
    /// Zstandard.
    Zst(zstd::stream::write::Encoder<'static, W>),
}

impl<W: Write> DumpWriter<W> {
    /// Chooses the compression by a file name: `.gz`, `.zst`, else none.
    pub fn for_name(name: &str, out: W) -> io::Result<Self> {
        Ok(if name.ends_with(".gz") {
            DumpWriter::Gz(flate2::write::GzEncoder::new(out, flate2::Compression::new(6)))
        } else if name.ends_with(".zst") {
            let mut encoder = zstd::stream::write::Encoder::new(out, 3)?;
            encoder.include_checksum(true)?;
            DumpWriter::Zst(encoder)
        } else {
            DumpWriter::Plain(out)
        })
    }

    /// Completes the compression and returns what is below.
    pub fn finish(self) -> io::Result<W> {
        match self {
            DumpWriter::Plain(mut out) => {
                out.flush()?;
                Ok(out)
            }
            DumpWriter::Gz(encoder) => encoder.finish(),
            DumpWriter::Zst(encoder) => encoder.finish(),
        }
    }
}

impl<W: Write> Write for DumpWriter<W> {
    fn write(&mut self, buf: &[u8]) -> io::Result<usize> {
        match self {
            DumpWriter::Plain(out) => out.write(buf),
            DumpWriter::Gz(encoder) => encoder.write(buf),
            DumpWriter::Zst(encoder) => encoder.write(buf),
        }
    }

    fn flush(&mut self) -> io::Result<()> {
        match self {
            DumpWriter::Plain(out) => out.flush(),
            DumpWriter::Gz(encoder) => encoder.flush(),
            DumpWriter::Zst(encoder) => encoder.flush(),
        }
    }
}
