//! A pipe between two threads: bytes go over in pieces whose memory comes back to be filled again, so nothing is copied by the system.
//!
//! The end counts when the writer is gone; what it held back is handed on by `flush`. A writer whose reader is gone gets `BrokenPipe`.

use std::io::{self, Read, Write};
use std::sync::mpsc::{Receiver, Sender, SyncSender, channel, sync_channel};

/// Size of a piece in bytes, and how many wait: enough for both ends to run for a while without waiting for each other.
const PIECE: usize = 256 << 10;
const WAITING: usize = 3;

/// Makes a pipe.
pub fn pipe() -> (PipeReader, PipeWriter) {
    let (way, pieces) = sync_channel(WAITING);
    let (back, emptied) = channel();
    (PipeReader { pieces, back, piece: Vec::new(), at: 0 }, PipeWriter { way, emptied, piece: Vec::new() })
}

/// The end that is read.
#[derive(Debug)]
pub struct PipeReader {
    pieces: Receiver<Vec<u8>>,
    back: Sender<Vec<u8>>,
    piece: Vec<u8>,
    at: usize,
}

impl Read for PipeReader {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        while self.at == self.piece.len() {
            let Ok(next) = self.pieces.recv() else { return Ok(0) };
            // Who writes no more needs no memory back.
            let _ = self.back.send(std::mem::replace(&mut self.piece, next));
            self.at = 0;
        }
        let count = (&self.piece[self.at..]).read(buf)?;
        self.at += count;
        Ok(count)
    }
}

/// The end that is written.
#[derive(Debug)]
pub struct PipeWriter {
    way: SyncSender<Vec<u8>>,
    emptied: Receiver<Vec<u8>>,
    piece: Vec<u8>,
}

impl PipeWriter {
    /// Hands on what a buffer holds, without copying it; the buffer gets other memory, and is empty.
    pub fn give(&mut self, buffer: &mut Vec<u8>) -> io::Result<()> {
        self.flush()?;
        let mut next = self.emptied.try_recv().unwrap_or_default();
        next.clear();
        self.piece = std::mem::replace(buffer, next);
        self.flush()
    }
}

impl Write for PipeWriter {
    fn write(&mut self, buf: &[u8]) -> io::Result<usize> {
        if self.piece.capacity() == 0 {
            self.piece = self.emptied.try_recv().unwrap_or_default();
            self.piece.clear();
            self.piece.reserve(PIECE);
        }
        let count = buf.len().min(PIECE - self.piece.len());
        self.piece.extend_from_slice(&buf[..count]);
        if self.piece.len() == PIECE {
            self.flush()?;
        }
        Ok(count)
    }

    fn flush(&mut self) -> io::Result<()> {
        if self.piece.is_empty() {
            return Ok(());
        }
        self.way.send(std::mem::take(&mut self.piece)).map_err(|_| io::ErrorKind::BrokenPipe.into())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bytes_arrive_in_order_and_a_lost_end_is_told() {
        let (mut reader, mut writer) = pipe();
        let sent: Vec<u8> = (0..3 * PIECE as u32 + 77).map(|i| (i % 251) as u8).collect();
        let text = sent.clone();
        let writing = std::thread::spawn(move || {
            for (at, piece) in text.chunks(100_003).enumerate() {
                let mut piece = piece.to_vec();
                if at % 2 == 0 {
                    writer.write_all(&piece).unwrap();
                } else {
                    writer.give(&mut piece).unwrap();
                    assert!(piece.is_empty());
                }
            }
            writer.flush().unwrap();
        });
        let mut got = Vec::new();
        reader.read_to_end(&mut got).unwrap();
        writing.join().unwrap();
        assert!(got == sent);
        let (reader, mut writer) = pipe();
        drop(reader);
        let wrote = writer.write_all(&sent);
        assert_eq!(wrote.unwrap_err().kind(), io::ErrorKind::BrokenPipe);
    }
}
