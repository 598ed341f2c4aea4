//! UTF-16 dumps, as SQL Server's tools write them: read as UTF-8, written back in the same form.
//!
//! Nothing may be lost on the way, so what UTF-16 cannot mean is kept in forms that UTF-8 never has: a lone half of a surrogate pair
//! as the three bytes it would have (as in WTF-8), an odd last byte behind the byte 0xFE in two halves.

use std::io::{self, Read, Write};

/// Byte order of a UTF-16 text.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Order {
    /// Least significant byte first.
    Little,
    /// Most significant byte first.
    Big,
}

impl Order {
    /// Tells the order by the mark at a text's beginning.
    pub fn of(start: &[u8]) -> Option<Self> {
        match start {
            [0xFF, 0xFE, ..] => Some(Order::Little),
            [0xFE, 0xFF, ..] => Some(Order::Big),
            _ => None,
        }
    }

    fn unit(self, two: [u8; 2]) -> u16 {
        match self {
            Order::Little => u16::from_le_bytes(two),
            Order::Big => u16::from_be_bytes(two),
        }
    }

    fn bytes(self, unit: u16) -> [u8; 2] {
        match self {
            Order::Little => unit.to_le_bytes(),
            Order::Big => unit.to_be_bytes(),
        }
    }
}

const ODD: u8 = 0xFE;

/// Reads UTF-16 as UTF-8.
pub struct FromUtf16<R> {
    reader: R,
    order: Order,
    raw: Vec<u8>,
    /// Bytes of `raw` that wait for their other half.
    kept: usize,
    out: Vec<u8>,
    given: usize,
    end: bool,
}

impl<R: Read> FromUtf16<R> {
    /// Wraps a reader.
    pub fn new(reader: R, order: Order) -> Self {
        FromUtf16 { reader, order, raw: vec![0; 1 << 16], kept: 0, out: Vec::new(), given: 0, end: false }
    }

    fn refill(&mut self) -> io::Result<()> {
        self.out.clear();
        self.given = 0;
        while self.out.is_empty() && !self.end {
            let read = loop {
                match self.reader.read(&mut self.raw[self.kept..]) {
                    Err(e) if e.kind() == io::ErrorKind::Interrupted => {}
                    other => break other?,
                }
            };
            self.end = read == 0;
            let filled = self.kept + read;
            let mut at = 0;
            while let Some(two) = self.raw[at..filled].first_chunk::<2>() {
                let unit = self.order.unit(*two);
                let high = (0xD800..0xDC00).contains(&unit);
                let next = self.raw[at + 2..filled].first_chunk::<2>().map(|t| self.order.unit(*t));
                if high && next.is_none() && !self.end {
                    break;
                }
                let mut utf8 = [0; 4];
                match (high, next.filter(|n| (0xDC00..0xE000).contains(n))) {
                    (true, Some(low)) => {
                        let code = 0x10000 + ((u32::from(unit) - 0xD800) << 10) + (u32::from(low) - 0xDC00);
                        let letter = char::from_u32(code).unwrap_or('\u{FFFD}');
                        self.out.extend_from_slice(letter.encode_utf8(&mut utf8).as_bytes());
                        at += 4;
                        continue;
                    }
                    _ => match char::from_u32(u32::from(unit)) {
                        Some(letter) => self.out.extend_from_slice(letter.encode_utf8(&mut utf8).as_bytes()),
                        None => self.out.extend_from_slice(&[
                            0xED,
                            0x80 | ((unit >> 6) & 0x3F) as u8,
                            0x80 | (unit & 0x3F) as u8,
                        ]),
                    },
                }
                at += 2;
            }
            if self.end && at < filled {
                let odd = self.raw[at];
                self.out.extend_from_slice(&[ODD, 0x80 | odd >> 4, 0x80 | odd & 0x0F]);
                at = filled;
            }
            self.raw.copy_within(at..filled, 0);
            self.kept = filled - at;
        }
        Ok(())
    }
}

impl<R: Read> Read for FromUtf16<R> {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        if self.given == self.out.len() {
            self.refill()?;
        }
        let n = (self.out.len() - self.given).min(buf.len());
        buf[..n].copy_from_slice(&self.out[self.given..self.given + n]);
        self.given += n;
        Ok(n)
    }
}

/// Writes UTF-8 as UTF-16.
pub struct ToUtf16<W> {
    out: W,
    order: Order,
    /// A letter that was cut by the end of a write.
    kept: Vec<u8>,
    buffer: Vec<u8>,
}

impl<W: Write> ToUtf16<W> {
    /// Wraps a writer.
    pub fn new(out: W, order: Order) -> Self {
        ToUtf16 { out, order, kept: Vec::new(), buffer: Vec::new() }
    }

    /// Returns what is below. Everything whole has been written.
    pub fn into_inner(self) -> W {
        self.out
    }
}

/// Returns how many bytes the letter has that begins with this byte.
fn letter_len(first: u8) -> usize {
    match first {
        0..=0x7F => 1,
        0xC2..=0xDF => 2,
        0xE0..=0xEF | ODD => 3,
        0xF0..=0xF4 => 4,
        _ => 1,
    }
}

impl<W: Write> Write for ToUtf16<W> {
    fn write(&mut self, buf: &[u8]) -> io::Result<usize> {
        let joined;
        let text = if self.kept.is_empty() {
            buf
        } else {
            joined = [&self.kept[..], buf].concat();
            &joined
        };
        self.buffer.clear();
        let mut at = 0;
        while let Some(first) = text.get(at) {
            let len = letter_len(*first);
            let Some(letter) = text.get(at..at + len) else { break };
            at += len;
            match letter {
                [ODD, high, low] => self.buffer.push((high & 0x0F) << 4 | low & 0x0F),
                [0xED, a @ 0xA0..=0xBF, b] => {
                    let unit = 0xD000 | u16::from(a & 0x3F) << 6 | u16::from(b & 0x3F);
                    self.buffer.extend_from_slice(&self.order.bytes(unit));
                }
                _ => {
                    let letter = std::str::from_utf8(letter).ok().and_then(|t| t.chars().next());
                    for unit in letter.unwrap_or('\u{FFFD}').encode_utf16(&mut [0; 2]) {
                        self.buffer.extend_from_slice(&self.order.bytes(*unit));
                    }
                }
            }
        }
        let rest = text[at..].to_vec();
        self.out.write_all(&self.buffer)?;
        self.kept = rest;
        Ok(buf.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        self.out.flush()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn whatever_comes_in_goes_out(units in proptest::collection::vec(prop_oneof![any::<u16>(), 0xD700u16..0xE100, 0u16..0x100], 0..60), odd in proptest::option::of(any::<u8>()), cut in 1usize..9) {
            for order in [Order::Little, Order::Big] {
                let mut raw: Vec<u8> = units.iter().flat_map(|u| order.bytes(*u)).collect();
                raw.extend(odd);
                let mut utf8 = Vec::new();
                FromUtf16::new(&raw[..], order).read_to_end(&mut utf8).unwrap();
                let mut back = ToUtf16::new(Vec::new(), order);
                for piece in utf8.chunks(cut) {
                    back.write_all(piece).unwrap();
                }
                prop_assert_eq!(back.into_inner(), raw.clone());
            }
        }
    }
}
