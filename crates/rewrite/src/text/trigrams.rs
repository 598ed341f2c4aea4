//! Searches for many three-byte windows at once, letter case folded.
//!
//! Where the processor has AVX2: every byte of 64 places is looked up, by its two halves, in small tables that say in which
//! of eight buckets a window has such a byte at its first, second, third place (the method is known as Teddy). Places where one
//! bucket agrees three times are compared with that bucket's windows. Folding is done by the tables and makes one window of what
//! would otherwise be eight; few windows keep chance agreements rare, which is what such a search lives on.
//! Elsewhere a packed searcher of a library looks for every spelling of every window.

use crate::lanes::BLOCK;
use aho_corasick::{AhoCorasick, packed};

/// Length of a window.
pub(super) const WINDOW: usize = 3;

const BUCKETS: usize = 8;

/// Maps the two cases of a letter to one byte. Other bytes may meet, too: a hit has to be confirmed.
#[inline(always)]
fn fold(b: u8) -> u8 {
    b | 0x20
}

/// A search for windows.
pub(super) struct Windows {
    windows: Vec<[u8; WINDOW]>,
    engine: Engine,
}

enum Engine {
    #[cfg(target_arch = "x86_64")]
    Avx2(pulp::x86::V3, Box<Tables>),
    Library(Vec<Library>),
}

struct Tables {
    low: [[u8; 16]; WINDOW],
    high: [[u8; 16]; WINDOW],
    buckets: [Vec<u16>; BUCKETS],
}

struct Library {
    searcher: Searcher,
    /// Per spelling: the window it belongs to.
    windows: Vec<u16>,
}

enum Searcher {
    Packed(packed::Searcher),
    General(AhoCorasick),
}

impl Windows {
    /// Builds a search.
    pub(super) fn new(windows: &[[u8; WINDOW]]) -> Self {
        let windows: Vec<[u8; WINDOW]> = windows.iter().map(|w| w.map(fold)).collect();
        #[cfg(target_arch = "x86_64")]
        if let Some(lanes) = pulp::x86::V3::try_new() {
            let tables = Box::new(Tables::new(&windows));
            return Windows { windows, engine: Engine::Avx2(lanes, tables) };
        }
        let engine = Engine::Library(libraries(&windows));
        Windows { windows, engine }
    }

    /// Calls `take` with the place and the index of every window that agrees, until it returns false.
    pub(super) fn each(&self, hay: &[u8], mut take: impl FnMut(usize, usize) -> bool) {
        if self.windows.is_empty() {
            return;
        }
        match &self.engine {
            #[cfg(target_arch = "x86_64")]
            Engine::Avx2(lanes, tables) => {
                lanes.vectorize(Pass { lanes: *lanes, windows: &self.windows, tables, hay, take: &mut take });
            }
            Engine::Library(libraries) => {
                for library in libraries {
                    let mut from = 0;
                    while let Some((at, spelling)) = library.searcher.next(hay, from) {
                        if !take(at, usize::from(library.windows[spelling])) {
                            return;
                        }
                        from = at + 1;
                    }
                }
            }
        }
    }
}

impl Tables {
    fn new(windows: &[[u8; WINDOW]]) -> Self {
        let mut out = Tables { low: [[0; 16]; WINDOW], high: [[0; 16]; WINDOW], buckets: Default::default() };
        // Windows that begin alike share a bucket, so that a bucket stands for few bytes.
        let mut order: Vec<usize> = (0..windows.len()).collect();
        order.sort_by_key(|i| windows[*i]);
        for (place, index) in order.into_iter().enumerate() {
            let bucket = place * BUCKETS / windows.len();
            out.buckets[bucket].push(index as u16);
            for (k, b) in windows[index].iter().enumerate() {
                // Folding sets a bit of the upper half.
                out.low[k][usize::from(b & 0x0F)] |= 1 << bucket;
                out.high[k][usize::from(b >> 4)] |= 1 << bucket;
                out.high[k][usize::from(b >> 4 & !2)] |= 1 << bucket;
            }
        }
        out
    }
}

/// The tables in registers, for their lower and upper halves.
#[cfg(target_arch = "x86_64")]
#[derive(Clone, Copy)]
struct Ready {
    lanes: pulp::x86::V3,
    tables: [[std::arch::x86_64::__m256i; 2]; WINDOW],
}

#[cfg(target_arch = "x86_64")]
impl Ready {
    #[inline(always)]
    fn new(lanes: pulp::x86::V3, from: &Tables) -> Self {
        let mut tables = [[lanes.avx._mm256_setzero_si256(); 2]; WINDOW];
        for (k, [low, high]) in tables.iter_mut().enumerate() {
            *low = lanes.avx2._mm256_broadcastsi128_si256(pulp::cast(from.low[k]));
            *high = lanes.avx2._mm256_broadcastsi128_si256(pulp::cast(from.high[k]));
        }
        Ready { lanes, tables }
    }

    /// Says at which of 64 places a bucket agrees at all three bytes, and which ones.
    #[inline(always)]
    fn look(self, bytes: &[u8; BLOCK + 2]) -> (u64, [u8; BLOCK]) {
        let (avx, avx2) = (self.lanes.avx, self.lanes.avx2);
        let nibble = avx._mm256_set1_epi8(0x0F);
        let mut halves = [avx._mm256_set1_epi8(-1); 2];
        let mut none = 0;
        for (half, agree) in halves.iter_mut().enumerate() {
            for (k, [low, high]) in self.tables.into_iter().enumerate() {
                let mut part = [0; 32];
                part.copy_from_slice(&bytes[32 * half + k..32 * half + k + 32]);
                let v = pulp::cast(part);
                let by_low = avx2._mm256_shuffle_epi8(low, avx2._mm256_and_si256(v, nibble));
                let upper = avx2._mm256_and_si256(avx2._mm256_srli_epi16::<4>(v), nibble);
                let both = avx2._mm256_and_si256(by_low, avx2._mm256_shuffle_epi8(high, upper));
                *agree = avx2._mm256_and_si256(*agree, both);
            }
            let bytes = avx2._mm256_cmpeq_epi8(*agree, avx._mm256_setzero_si256());
            none |= u64::from(avx2._mm256_movemask_epi8(bytes) as u32) << (32 * half);
        }
        (!none, pulp::cast(halves))
    }
}

#[cfg(target_arch = "x86_64")]
struct Pass<'a, T> {
    lanes: pulp::x86::V3,
    windows: &'a [[u8; WINDOW]],
    tables: &'a Tables,
    hay: &'a [u8],
    take: &'a mut T,
}

#[cfg(target_arch = "x86_64")]
impl<T: FnMut(usize, usize) -> bool> pulp::NullaryFnOnce for Pass<'_, T> {
    type Output = ();

    #[inline(always)]
    fn call(self) {
        let Pass { lanes, windows, tables, hay, take } = self;
        let ready = Ready::new(lanes, tables);
        let mut at = 0;
        let mut last;
        while at + WINDOW <= hay.len() {
            let bytes: &[u8; BLOCK + 2] = match hay[at..].first_chunk() {
                Some(bytes) => bytes,
                None => {
                    let rest = &hay[at..];
                    last = [0; BLOCK + 2];
                    last[..rest.len()].copy_from_slice(rest);
                    &last
                }
            };
            let (mut places, buckets) = ready.look(bytes);
            while places != 0 {
                let place = places.trailing_zeros() as usize;
                places &= places - 1;
                if at + place + WINDOW > hay.len() {
                    return;
                }
                let there = [fold(bytes[place]), fold(bytes[place + 1]), fold(bytes[place + 2])];
                let mut set = buckets[place];
                while set != 0 {
                    let bucket = set.trailing_zeros() as usize;
                    set &= set - 1;
                    for index in &tables.buckets[bucket] {
                        let index = usize::from(*index);
                        if windows[index] == there && !take(at + place, index) {
                            return;
                        }
                    }
                }
            }
            at += BLOCK;
        }
    }
}

/// Patterns that one packed searcher of the library takes.
const MOST_PATTERNS: usize = 64;

fn libraries(windows: &[[u8; WINDOW]]) -> Vec<Library> {
    let mut spellings: Vec<([u8; WINDOW], u16)> = Vec::new();
    for (index, window) in windows.iter().enumerate() {
        for cases in 0..1u8 << WINDOW {
            let mut spelled = *window;
            for (k, b) in spelled.iter_mut().enumerate() {
                if cases >> k & 1 == 1 {
                    *b &= !0x20;
                }
            }
            spellings.push((spelled, index as u16));
        }
    }
    let library = |some: &[([u8; WINDOW], u16)]| {
        let texts = || some.iter().map(|(s, _)| s);
        let searcher = match packed::Config::new().builder().extend(texts()).build() {
            Some(searcher) => Searcher::Packed(searcher),
            None => Searcher::General(AhoCorasick::new(texts()).ok()?),
        };
        Some(Library { searcher, windows: some.iter().map(|(_, w)| *w).collect() })
    };
    spellings.chunks(MOST_PATTERNS).filter_map(library).collect()
}

impl Searcher {
    fn next(&self, hay: &[u8], from: usize) -> Option<(usize, usize)> {
        let found = match self {
            Searcher::Packed(s) => s.find_in(hay, aho_corasick::Span { start: from, end: hay.len() }),
            Searcher::General(a) => a.find(aho_corasick::Input::new(hay).range(from..)),
        };
        found.map(|m| (m.start(), m.pattern().as_usize()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn every_way_finds_what_is_there(windows in proptest::collection::vec("[a-c._]{3}", 1..30), hay in "[a-cA-C._x]{0,120}") {
            let mut windows: Vec<[u8; 3]> = windows.iter().map(|w| w.as_bytes().try_into().unwrap()).collect();
            windows.sort();
            windows.dedup();
            let hay = hay.as_bytes();
            let folded = |b: &u8| fold(*b);
            let mut naive = Vec::new();
            for at in 0..hay.len().saturating_sub(2) {
                for (i, w) in windows.iter().enumerate() {
                    if w.iter().map(folded).eq(hay[at..at + 3].iter().map(folded)) {
                        naive.push((at, i));
                    }
                }
            }
            let here = Windows::new(&windows);
            let elsewhere = Windows { windows: here.windows.clone(), engine: Engine::Library(libraries(&here.windows)) };
            for search in [here, elsewhere] {
                let mut found = Vec::new();
                search.each(hay, |at, i| {
                    found.push((at, i));
                    true
                });
                found.sort();
                prop_assert_eq!(&found, &naive);
            }
        }
    }
}
