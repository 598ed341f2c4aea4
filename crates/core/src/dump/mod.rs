//! MySQL and MariaDB dumps as streams: read, located, rewritten, split, never held whole.
//!
//! [`stream`] drives a bounded window over the input and hands a [`stream::Sink`] every byte once, in order, as pieces that know
//! their statement, table, row and values. Sinks rewrite ([`rewrite`]), split into tables ([`split`]) or
//! measure ([`inspect`]). What another dialect would need replaces [`lex`] and [`row`], not the sinks.

pub mod inspect;
pub mod lex;
pub mod literal;
pub mod rewrite;
pub mod row;
pub mod split;
pub mod statement;
pub mod stream;
pub mod tally;

use std::io::{self, BufReader, Read, Write};

/// Opens a dump, compressed with gzip or Zstandard or not at all, by its first bytes.
pub fn open<'r>(reader: impl Read + 'r) -> io::Result<Box<dyn Read + 'r>> {
    let mut reader = BufReader::with_capacity(1 << 16, reader);
    let start = io::BufRead::fill_buf(&mut reader)?;
    Ok(match start {
        [0x1F, 0x8B, ..] => Box::new(flate2::read::MultiGzDecoder::new(reader)),
        [0x28, 0xB5, 0x2F, 0xFD, ..] => Box::new(zstd::stream::read::Decoder::with_buffer(reader)?),
        _ => Box::new(reader),
    })
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
