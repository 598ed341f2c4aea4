//! Sixty-four bytes at once, on whatever the processor has: what the passes over rows and values are made of.
//!
//! A [`Table`] sorts bytes into up to eight classes; a block that was sorted answers with one bit for each of its bytes. A [`Job`] is
//! written once and compiled for every kind of processor; [`run`] chooses the best one that is there. Bytes are looked up by their two
//! halves, which costs the same for one class as for eight. Tried: AVX-512, all 64 bytes in one register, was a tenth slower over a
//! whole dump than AVX2 on the machine at hand.

use pulp::NullaryFnOnce;
use wide::u8x16;

/// Bytes of one block.
pub const BLOCK: usize = 64;

/// Bytes that become `is` when the bits of `or` are set: one byte, or a few that differ in those bits.
pub struct Alike {
    pub or: u8,
    pub is: u8,
}

/// Classes of bytes.
pub struct Table {
    low: [u8; 16],
    high: [u8; 16],
    classes: &'static [&'static [Alike]],
}

impl Table {
    /// Makes a table; the class of number `n` is told by bit `n`.
    pub const fn new(classes: &'static [&'static [Alike]]) -> Self {
        assert!(classes.len() <= 8);
        let mut out = Table { low: [0; 16], high: [0; 16], classes };
        let mut byte = 0;
        while byte < 256 {
            let class = out.class(byte as u8);
            out.low[byte & 0x0F] |= class;
            out.high[byte >> 4] |= class;
            byte += 1;
        }
        // The two halves must not agree where the byte itself is in no such class.
        byte = 0;
        while byte < 256 {
            assert!(out.low[byte & 0x0F] & out.high[byte >> 4] == out.class(byte as u8));
            byte += 1;
        }
        out
    }

    const fn class(&self, byte: u8) -> u8 {
        let (mut class, mut n) = (0, 0);
        while n < self.classes.len() {
            let mut i = 0;
            while i < self.classes[n].len() {
                if byte | self.classes[n][i].or == self.classes[n][i].is {
                    class |= 1 << n;
                }
                i += 1;
            }
            n += 1;
        }
        class
    }
}

/// Returns the block at an offset. What a last block lacks is what `last` holds.
#[inline(always)]
pub fn block<'t>(text: &'t [u8], at: usize, last: &'t mut [u8; BLOCK]) -> &'t [u8; BLOCK] {
    let rest = &text[at..];
    match rest.first_chunk() {
        Some(block) => block,
        None => {
            last[..rest.len()].copy_from_slice(rest);
            last
        }
    }
}

/// A processor's way to look at many bytes at once.
pub trait Lanes: Copy {
    /// A block that was sorted.
    type Sorted: Copy;

    /// Sorts a block.
    fn sort(self, block: &[u8; BLOCK], table: &Table) -> Self::Sorted;

    /// Returns one bit for each byte that is in this class.
    fn of(self, sorted: Self::Sorted, class: u8) -> u64;

    /// Returns one bit for each byte that is in this class or in one behind it.
    fn from(self, sorted: Self::Sorted, class: u8) -> u64;
}

/// Work on blocks.
pub trait Job {
    /// What comes of it.
    type Output;

    /// Does it. To be inlined with all that it calls, and without closures, which are compiled for any processor.
    fn run<L: Lanes>(self, lanes: L) -> Self::Output;
}

/// Does a job in the best way that the processor has.
pub fn run<J: Job>(job: J) -> J::Output {
    #[cfg(target_arch = "x86_64")]
    {
        if let Some(lanes) = pulp::x86::V3::try_new() {
            return lanes.vectorize(With { lanes, job });
        }
    }
    job.run(Baseline)
}

struct With<L, J> {
    lanes: L,
    job: J,
}

impl<L: Lanes, J: Job> NullaryFnOnce for With<L, J> {
    type Output = J::Output;

    #[inline(always)]
    fn call(self) -> J::Output {
        self.job.run(self.lanes)
    }
}

/// What every processor has: 16 bytes at once, compared with each byte that is asked for.
#[derive(Clone, Copy)]
struct Baseline;

impl Lanes for Baseline {
    type Sorted = [u8x16; 4];

    #[inline(always)]
    fn sort(self, block: &[u8; BLOCK], table: &Table) -> Self::Sorted {
        std::array::from_fn(|part| {
            let mut bytes = [0; 16];
            bytes.copy_from_slice(&block[16 * part..16 * part + 16]);
            let v = u8x16::new(bytes);
            let mut sorted = u8x16::splat(0);
            for (n, class) in table.classes.iter().enumerate() {
                for alike in *class {
                    let is = (v | u8x16::splat(alike.or)).simd_eq(u8x16::splat(alike.is));
                    sorted |= is & u8x16::splat(1 << n);
                }
            }
            sorted
        })
    }

    #[inline(always)]
    fn of(self, sorted: Self::Sorted, class: u8) -> u64 {
        any_of(sorted, 1 << class)
    }

    #[inline(always)]
    fn from(self, sorted: Self::Sorted, class: u8) -> u64 {
        any_of(sorted, u8::MAX << class)
    }
}

/// Returns one bit for each byte that has one of these bits.
fn any_of(sorted: [u8x16; 4], bits: u8) -> u64 {
    sorted.iter().enumerate().fold(0, |out, (part, v)| {
        let none = (*v & u8x16::splat(bits)).simd_eq(u8x16::splat(0)).to_bitmask();
        out | u64::from(!none & 0xFFFF) << (16 * part)
    })
}

/// AVX2: 32 bytes at once.
#[cfg(target_arch = "x86_64")]
impl Lanes for pulp::x86::V3 {
    type Sorted = [std::arch::x86_64::__m256i; 2];

    #[inline(always)]
    fn sort(self, block: &[u8; BLOCK], table: &Table) -> Self::Sorted {
        use std::arch::x86_64::__m256i;
        let (avx, avx2) = (self.avx, self.avx2);
        let low = avx2._mm256_broadcastsi128_si256(pulp::cast(table.low));
        let high = avx2._mm256_broadcastsi128_si256(pulp::cast(table.high));
        let nibble = avx._mm256_set1_epi8(0x0F);
        let mut halves: [__m256i; 2] = pulp::cast(*block);
        for v in &mut halves {
            let by_low = avx2._mm256_shuffle_epi8(low, avx2._mm256_and_si256(*v, nibble));
            let upper = avx2._mm256_and_si256(avx2._mm256_srli_epi16::<4>(*v), nibble);
            *v = avx2._mm256_and_si256(by_low, avx2._mm256_shuffle_epi8(high, upper));
        }
        halves
    }

    #[inline(always)]
    fn of(self, sorted: Self::Sorted, class: u8) -> u64 {
        let [low, high] = sorted;
        // The bit of the class is moved to where the processor collects bits from; what is shifted in from beside is below it.
        let count = self.sse2._mm_cvtsi32_si128(7 - i32::from(class));
        let top = |v| self.avx2._mm256_movemask_epi8(self.avx2._mm256_sll_epi16(v, count)) as u32;
        u64::from(top(low)) | u64::from(top(high)) << 32
    }

    #[inline(always)]
    fn from(self, sorted: Self::Sorted, class: u8) -> u64 {
        let [low, high] = sorted;
        // What has a bit from the class's on is at least that large, and reaches the top bit when the rest to it is added.
        let rest = self.avx._mm256_set1_epi8((128 - (1u8 << class)) as i8);
        let top = |v| self.avx2._mm256_movemask_epi8(self.avx2._mm256_adds_epu8(v, rest)) as u32;
        u64::from(top(low)) | u64::from(top(high)) << 32
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const TABLE: Table = Table::new(&[
        &[Alike { or: 0, is: b'\'' }],
        &[Alike { or: 1, is: b')' }, Alike { or: 2, is: b'/' }],
        &[Alike { or: 0x20, is: b'x' }],
        &[Alike { or: 0, is: 0 }],
    ]);

    struct Bits<'b>(&'b [u8; BLOCK]);

    impl Job for Bits<'_> {
        type Output = Vec<[u64; 2]>;

        fn run<L: Lanes>(self, lanes: L) -> Self::Output {
            let sorted = lanes.sort(self.0, &TABLE);
            (0..8).map(|class| [lanes.of(sorted, class), lanes.from(sorted, class)]).collect()
        }
    }

    #[test]
    fn every_processors_way_gives_the_same_bits() {
        for first in 0..=255u8 {
            let block: [u8; BLOCK] = std::array::from_fn(|i| first.wrapping_add((i * 7) as u8));
            let baseline = Bits(&block).run(Baseline);
            for (class, [of, from]) in baseline.iter().enumerate() {
                for (i, byte) in block.iter().enumerate() {
                    let classes = TABLE.class(*byte);
                    assert_eq!(of >> i & 1 == 1, classes >> class & 1 == 1);
                    assert_eq!(from >> i & 1 == 1, classes >> class != 0);
                }
            }
            assert_eq!(run(Bits(&block)), baseline);
        }
    }
}
