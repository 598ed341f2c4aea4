//! The three containers an archive may have, and the mark that makes damage tell-tale.
//!
//! Behind the head a `.tar.zst` carries a skippable frame, and a `.tar.gz` carries an extra field in its first header: some bytes that every
//! text-mode transfer changes. The same bytes close the file, with its length behind them. Stock tools ignore both
//! (RFC 8878 section 3.1.2, RFC 1952 section 2.3.1.1). Format 1 had the length in the first mark, and nothing at the end.

use std::io::{self, Write};
use std::path::Path;

/// A container.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Container {
    /// tar, compressed with Zstandard.
    TarZst,
    /// tar, compressed with gzip.
    TarGz,
    /// Plain tar; read only.
    Tar,
    /// zip.
    Zip,
}

impl Container {
    /// Chooses the container for a file that is to be written.
    pub fn for_name(path: &Path) -> Option<Container> {
        let name = path.file_name()?.to_string_lossy().to_ascii_lowercase();
        let ends = |tails: &[&str]| tails.iter().any(|t| name.ends_with(t));
        if ends(&[".tar.zst", ".tzst"]) {
            Some(Container::TarZst)
        } else if ends(&[".tar.gz", ".tgz"]) {
            Some(Container::TarGz)
        } else if ends(&[".zip"]) {
            Some(Container::Zip)
        } else {
            None
        }
    }

    /// Recognises the container by its first bytes.
    pub fn of_bytes(start: &[u8]) -> Option<Container> {
        match start {
            [0x28, 0xB5, 0x2F, 0xFD, ..] | [0x50..=0x5F, 0x2A, 0x4D, 0x18, ..] => Some(Container::TarZst),
            [0x1F, 0x8B, ..] => Some(Container::TarGz),
            [b'P', b'K', 3, 4, ..] | [b'P', b'K', 5, 6, ..] => Some(Container::Zip),
            _ if start.get(257..262) == Some(b"ustar") => Some(Container::Tar),
            _ => None,
        }
    }
}

/// Bytes that no text-mode transfer leaves alone: CR LF, a lone LF, a NUL, a byte above 127.
pub const CANARY: &[u8; 13] = b"zporter\r\n\x1a\n\0\xff";

const SKIPPABLE: u32 = 0x184D_2A5A;
const LENGTH: usize = 8;

/// A compressed tar on its way out, front to back: the head in one compressed stretch, the rest in another, the length behind both.
pub struct Compressed<W: Write> {
    stage: Stage<W>,
}

enum Stage<W: Write> {
    Zst(zstd::stream::write::Encoder<'static, Counting<W>>),
    Gz(flate2::write::GzEncoder<Counting<W>>),
    Done,
}

/// Counts what was written: the place in the file, which nobody else knows of something that cannot seek.
struct Counting<W> {
    inner: W,
    written: u64,
}

impl<W: Write> Write for Counting<W> {
    fn write(&mut self, buf: &[u8]) -> io::Result<usize> {
        let n = self.inner.write(buf)?;
        self.written += n as u64;
        Ok(n)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.inner.flush()
    }
}

const ZST_LEVEL: i32 = 3;

impl<W: Write> Compressed<W> {
    /// Starts the head's stretch. Plain tar and zip are not for this type.
    pub fn start(out: W, container: Container) -> io::Result<Self> {
        let out = Counting { inner: out, written: 0 };
        Ok(Compressed {
            stage: match container {
                Container::TarGz => Stage::Gz(gz_extra(None).write(out, flate2::Compression::new(6))),
                _ => Stage::Zst(zst(out, 1)?),
            },
        })
    }

    /// Ends the head's stretch and begins the rest.
    pub fn seal_head(&mut self) -> io::Result<()> {
        // In a .tar.gz the mark stands in the header already.
        if matches!(self.stage, Stage::Zst(_))
            && let Stage::Zst(head) = std::mem::replace(&mut self.stage, Stage::Done)
        {
            let mut out = head.finish()?;
            out.write_all(&zst_mark(None))?;
            self.stage = Stage::Zst(zst(out, 2)?);
        }
        Ok(())
    }

    /// Completes the stream with its length. Returns that, in bytes.
    pub fn finish(mut self) -> io::Result<(W, u64)> {
        let (mut out, container) = match std::mem::replace(&mut self.stage, Stage::Done) {
            Stage::Zst(encoder) => (encoder.finish()?, Container::TarZst),
            Stage::Gz(encoder) => (encoder.finish()?, Container::TarGz),
            Stage::Done => return Err(io::Error::other("the archive was finished twice")),
        };
        let trailer = |length| match container {
            // A member without content, for the sake of its header.
            Container::TarGz => {
                gz_extra(Some(length)).write(Vec::new(), flate2::Compression::new(6)).finish()
            }
            _ => Ok(zst_mark(Some(length))),
        };
        let length = out.written + trailer(0)?.len() as u64;
        out.write_all(&trailer(length)?)?;
        Ok((out.inner, out.written))
    }
}

/// The mark: the canary, and behind everything else the length.
fn mark(length: Option<u64>) -> Vec<u8> {
    let mut mark = CANARY.to_vec();
    mark.extend(length.map(u64::to_le_bytes).into_iter().flatten());
    mark
}

fn zst_mark(length: Option<u64>) -> Vec<u8> {
    let mark = mark(length);
    [&SKIPPABLE.to_le_bytes()[..], &(mark.len() as u32).to_le_bytes(), &mark].concat()
}

fn gz_extra(length: Option<u64>) -> flate2::GzBuilder {
    let mark = mark(length);
    flate2::GzBuilder::new().extra([b"ZP", &(mark.len() as u16).to_le_bytes()[..], &mark].concat())
}

fn zst<W: Write>(out: W, workers: u32) -> io::Result<zstd::stream::write::Encoder<'static, W>> {
    let mut encoder = zstd::stream::write::Encoder::new(out, ZST_LEVEL)?;
    encoder.include_checksum(true)?;
    // A fixed number, so that equal input gives equal bytes on every machine.
    // Where the system starts none, the bytes are others and the content is the same.
    encoder.multithread(crate::threads::possible(workers))?;
    Ok(encoder)
}

impl<W: Write> Write for Compressed<W> {
    fn write(&mut self, buf: &[u8]) -> io::Result<usize> {
        match &mut self.stage {
            Stage::Zst(e) => e.write(buf),
            Stage::Gz(e) => e.write(buf),
            Stage::Done => Err(io::Error::other("the archive is finished")),
        }
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// Looks for the canary in the first bytes of a file and says what became of it.
pub fn canary(start: &[u8]) -> Canary {
    let word = &CANARY[..7];
    let Some(at) = memchr::memmem::find(start, word) else { return Canary::Absent };
    let there = &start[at..];
    if there.starts_with(CANARY) {
        return Canary::Intact { length: length_at(start, at) };
    }
    let tail = &there[7..there.len().min(20)];
    Canary::Damaged(match tail {
        [b'\r', b'\r', b'\n', ..] | [b'\r', b'\n', 0x1a, b'\r', b'\n', ..] => "line ends became CR LF",
        [b'\n', 0x1a, b'\n', ..] => "CR LF became LF",
        [b'\r', 0x1a, ..] => "LF was taken out or became CR",
        _ => "bytes were altered",
    })
}

/// Looks for the mark that closes a file in its last bytes, and returns the length that it tells.
pub fn closing_length(end: &[u8]) -> Option<u64> {
    length_at(end, memchr::memmem::rfind(end, CANARY)?)
}

/// The length behind a canary, where what lies before says that there is one.
fn length_at(bytes: &[u8], at: usize) -> Option<u64> {
    let size = (CANARY.len() + LENGTH) as u8;
    let before = &bytes[..at];
    // Behind a gzip header there is at least an empty member: two bytes of content, its check sum, its size.
    let behind = match () {
        () if before.ends_with(&[size, 0, 0, 0]) => 0,
        () if before.ends_with(&[b'Z', b'P', size, 0]) => 10,
        () => return None,
    };
    let (length, rest) = bytes[at + CANARY.len()..].split_first_chunk::<LENGTH>()?;
    (rest.len() >= behind).then(|| u64::from_le_bytes(*length))
}

/// State of the canary.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Canary {
    /// Unharmed.
    Intact {
        /// Length of the whole file in bytes, where it stands here: in format 1.
        length: Option<u64>,
    },
    /// Changed in a way that names the cause.
    Damaged(&'static str),
    /// Not found.
    Absent,
}
