//! The three containers an archive may have, and the mark that makes damage tell-tale.
//!
//! Behind the head a `.tar.zst` carries a skippable frame, and a `.tar.gz` carries an extra field in its first header: some bytes that every
//! text-mode transfer changes, and the length of the whole file, patched in when it is complete. Stock tools ignore both
//! (RFC 8878 section 3.1.2, RFC 1952 section 2.3.1.1).

use std::fs::File;
use std::io::{self, Seek, SeekFrom, Write};
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

/// A tar stream on its way into a file: the head in one compressed stretch, the rest in another.
pub struct Compressed {
    stage: Stage,
    canary_at: u64,
}

enum Stage {
    Zst(zstd::stream::write::Encoder<'static, File>),
    Gz(flate2::write::GzEncoder<File>),
    Done,
}

const ZST_LEVEL: i32 = 3;

impl Compressed {
    /// Starts the head's stretch. Plain tar and zip are not for this type.
    pub fn start(file: File, container: Container) -> io::Result<Compressed> {
        match container {
            Container::TarGz => {
                let mut extra = vec![b'Z', b'P', (CANARY.len() + 8) as u8, 0];
                extra.extend_from_slice(CANARY);
                extra.extend_from_slice(&[0; 8]);
                let encoder = flate2::GzBuilder::new().extra(extra).write(file, flate2::Compression::new(6));
                // Ten bytes of header, two of the field's length, four of the sub-field's head.
                Ok(Compressed { stage: Stage::Gz(encoder), canary_at: 16 })
            }
            _ => Ok(Compressed { stage: Stage::Zst(zst(file, 1)?), canary_at: 0 }),
        }
    }

    /// Ends the head's stretch and begins the rest.
    pub fn seal_head(&mut self) -> io::Result<()> {
        // In a .tar.gz the mark stands in the header already.
        if matches!(self.stage, Stage::Zst(_))
            && let Stage::Zst(head) = std::mem::replace(&mut self.stage, Stage::Done)
        {
            let mut file = head.finish()?;
            self.canary_at = file.stream_position()? + 8;
            file.write_all(&SKIPPABLE.to_le_bytes())?;
            file.write_all(&(CANARY.len() as u32 + 8).to_le_bytes())?;
            file.write_all(CANARY)?;
            file.write_all(&[0; 8])?;
            self.stage = Stage::Zst(zst(file, 2)?);
        }
        Ok(())
    }

    /// Completes the file and writes its length behind the canary.
    pub fn finish(mut self) -> io::Result<File> {
        let mut file = match std::mem::replace(&mut self.stage, Stage::Done) {
            Stage::Zst(encoder) => encoder.finish()?,
            Stage::Gz(encoder) => encoder.finish()?,
            Stage::Done => return Err(io::Error::other("the archive was finished twice")),
        };
        let length = file.stream_position()?;
        file.seek(SeekFrom::Start(self.canary_at + CANARY.len() as u64))?;
        file.write_all(&length.to_le_bytes())?;
        file.sync_all()?;
        Ok(file)
    }
}

fn zst(file: File, workers: u32) -> io::Result<zstd::stream::write::Encoder<'static, File>> {
    let mut encoder = zstd::stream::write::Encoder::new(file, ZST_LEVEL)?;
    encoder.include_checksum(true)?;
    // A fixed number, so that equal input gives equal bytes on every machine.
    // Where the system starts none, the bytes are others and the content is the same.
    encoder.multithread(crate::threads::possible(workers))?;
    Ok(encoder)
}

impl Write for Compressed {
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

/// Looks for the canary and says what became of it: intact with the recorded length, or damaged, or not there.
pub fn canary(start: &[u8]) -> Canary {
    let word = &CANARY[..7];
    let Some(at) = memchr::memmem::find(start, word) else { return Canary::Absent };
    let there = &start[at..];
    if there.starts_with(CANARY) {
        let length =
            there.get(CANARY.len()..CANARY.len() + 8).and_then(|b| b.try_into().ok()).map(u64::from_le_bytes);
        return Canary::Intact { length: length.filter(|l| *l > 0) };
    }
    let tail = &there[7..there.len().min(20)];
    Canary::Damaged(match tail {
        [b'\r', b'\r', b'\n', ..] | [b'\r', b'\n', 0x1a, b'\r', b'\n', ..] => "line ends became CR LF",
        [b'\n', 0x1a, b'\n', ..] => "CR LF became LF",
        [b'\r', 0x1a, ..] => "LF was taken out or became CR",
        _ => "bytes were altered",
    })
}

/// State of the canary.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Canary {
    /// Unharmed; the length is known once the archive was completed.
    Intact {
        /// Length of the whole file in bytes.
        length: Option<u64>,
    },
    /// Changed in a way that names the cause.
    Damaged(&'static str),
    /// Not found.
    Absent,
}
