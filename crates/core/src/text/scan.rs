//! Finds the cores of all needles in one vectorised pass.
//!
//! A *core* is what every spelling of a needle shares: a host, the longest folder name of a root, a watched secret.
//! Of each core one window of at most four bytes goes into a packed SIMD searcher, hosts in every letter case; a
//! window hit is then compared with the whole core. The common value holds no window and costs the scan alone.
//!
//! Invariant: all windows have the same length, so at one position at most one window matches, and resuming one byte
//! behind a hit finds every core even where cores overlap.

use aho_corasick::{AhoCorasick, packed};

/// A core to look for.
#[derive(Debug, Clone)]
pub struct Core {
    /// The bytes; in lower case if `fold`.
    pub bytes: Vec<u8>,
    /// Whether letter case is ignored (ASCII only).
    pub fold: bool,
}

/// Where a core was found.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct CoreHit {
    /// Offset of the core's first byte.
    pub at: usize,
    /// Index of the core in the list the scanner was built from.
    pub core: usize,
}

enum Engine {
    Packed(packed::Searcher),
    General(AhoCorasick),
    Nothing,
}

/// A searcher for a set of cores.
pub struct CoreScan {
    engine: Engine,
    cores: Vec<Core>,
    /// Per pattern: the cores it may announce, with the window's offset in them.
    announces: Vec<Vec<(usize, usize)>>,
}

impl std::fmt::Debug for CoreScan {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("CoreScan").field("cores", &self.cores).finish_non_exhaustive()
    }
}

const WINDOW: usize = 4;

impl CoreScan {
    /// Builds a scanner. Empty cores are not allowed to match anything and are ignored.
    pub fn new(cores: Vec<Core>) -> Self {
        let window = cores.iter().map(|c| c.bytes.len()).filter(|n| *n > 0).min().unwrap_or(0).min(WINDOW);
        let mut patterns: Vec<Vec<u8>> = Vec::new();
        let mut announces: Vec<Vec<(usize, usize)>> = Vec::new();
        for (index, core) in cores.iter().enumerate().filter(|(_, c)| !c.bytes.is_empty()) {
            let offset = rarest_window(&core.bytes, window);
            let piece = &core.bytes[offset..offset + window];
            for spelling in if core.fold { case_variants(piece) } else { vec![piece.to_vec()] } {
                match patterns.iter().position(|p| *p == spelling) {
                    Some(known) => announces[known].push((index, offset)),
                    None => {
                        patterns.push(spelling);
                        announces.push(vec![(index, offset)]);
                    }
                }
            }
        }
        let engine = if patterns.is_empty() {
            Engine::Nothing
        } else {
            match packed::Config::new().builder().extend(&patterns).build() {
                Some(searcher) => Engine::Packed(searcher),
                // More windows than the packed searcher takes, or a processor without the instructions.
                None => match AhoCorasick::new(&patterns) {
                    Ok(automaton) => Engine::General(automaton),
                    Err(_) => Engine::Nothing,
                },
            }
        };
        CoreScan { engine, cores, announces }
    }

    /// Returns the cores in the order of their indices.
    pub fn cores(&self) -> &[Core] {
        &self.cores
    }

    fn window_at(&self, hay: &[u8], from: usize) -> Option<(usize, usize)> {
        match &self.engine {
            Engine::Packed(s) => s
                .find_in(hay, aho_corasick::Span { start: from, end: hay.len() })
                .map(|m| (m.start(), m.pattern().as_usize())),
            Engine::General(a) => a
                .find(aho_corasick::Input::new(hay).range(from..))
                .map(|m| (m.start(), m.pattern().as_usize())),
            Engine::Nothing => None,
        }
    }

    /// Says whether any core is there.
    pub fn any(&self, hay: &[u8]) -> bool {
        let mut found = false;
        self.each(hay, |_| {
            found = true;
            false
        });
        found
    }

    /// Calls `take` with every hit until it returns false. Hits come in the order of their windows, not their starts.
    pub fn each(&self, hay: &[u8], mut take: impl FnMut(CoreHit) -> bool) {
        let mut from = 0;
        while let Some((at, pattern)) = self.window_at(hay, from) {
            for &(core, offset) in &self.announces[pattern] {
                let Some(start) = at.checked_sub(offset) else { continue };
                let Core { bytes, fold } = &self.cores[core];
                let Some(there) = hay.get(start..start + bytes.len()) else { continue };
                let same = if *fold { there.eq_ignore_ascii_case(bytes) } else { there == &bytes[..] };
                if same && !take(CoreHit { at: start, core }) {
                    return;
                }
            }
            from = at + 1;
        }
    }

    /// Returns every hit, sorted by position.
    pub fn hits(&self, hay: &[u8]) -> Vec<CoreHit> {
        let mut hits = Vec::new();
        self.each(hay, |hit| {
            hits.push(hit);
            true
        });
        hits.sort_by_key(|h| (h.at, h.core));
        hits
    }
}

/// Returns the offset of the window whose letters are least usual in dumps. The ranking is coarse on purpose: it only
/// decides how often a window turns out to be nothing.
fn rarest_window(core: &[u8], window: usize) -> usize {
    let commonness = |b: u8| match b.to_ascii_lowercase() {
        b'e' | b't' | b'a' | b'o' | b'i' | b'n' | b's' | b'r' => 9,
        b'0'..=b'9' | b'l' | b'd' | b'c' | b'u' | b'm' | b'p' => 7,
        b'h' | b'g' | b'f' | b'b' | b'w' | b'y' | b'.' => 5,
        b'_' | b'-' => 4,
        b'v' | b'k' => 3,
        _ => 1,
    };
    let usual: [&[u8]; 5] = [b"www.", b".com", b".org", b"http", b"html"];
    (0..=core.len() - window)
        .min_by_key(|at| {
            let piece = &core[*at..*at + window];
            let letters: u32 = piece.iter().map(|b| commonness(*b)).sum();
            letters + if usual.contains(&piece) { 100 } else { 0 }
        })
        .unwrap_or(0)
}

fn case_variants(piece: &[u8]) -> Vec<Vec<u8>> {
    let mut out = vec![Vec::new()];
    for b in piece {
        let cases: &[u8] = &[b.to_ascii_lowercase(), b.to_ascii_uppercase()];
        let cases = if cases[0] == cases[1] { &cases[..1] } else { cases };
        out = out
            .into_iter()
            .flat_map(|v| {
                cases.iter().map(move |c| {
                    let mut v = v.clone();
                    v.push(*c);
                    v
                })
            })
            .collect();
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn cores() -> Vec<Core> {
        [("fern.example", true), ("ern.ex", true), ("public_html", false), ("ab", false)]
            .map(|(t, fold)| Core { bytes: t.into(), fold })
            .to_vec()
    }

    /// The obviously right way.
    fn naive(cores: &[Core], hay: &[u8]) -> Vec<CoreHit> {
        let mut out = Vec::new();
        for at in 0..hay.len() {
            for (core, c) in cores.iter().enumerate() {
                let Some(there) = hay.get(at..at + c.bytes.len()) else { continue };
                if if c.fold { there.eq_ignore_ascii_case(&c.bytes) } else { there == c.bytes } {
                    out.push(CoreHit { at, core });
                }
            }
        }
        out
    }

    proptest! {
        #[test]
        fn packed_scan_equals_naive_scan(parts in proptest::collection::vec(
            prop_oneof![Just("fern.example"), Just("FERN.EXAMPLE"), Just("fern.exam"), Just("public_html"), Just("Public_html"),
                        Just("ab"), Just("x"), Just("http://"), Just("\u{e9}"), Just("fern"), Just(".ex"), Just("EX")], 0..12)) {
            let hay: String = parts.concat();
            let with_short = CoreScan::new(cores());
            prop_assert_eq!(with_short.hits(hay.as_bytes()), naive(&cores(), hay.as_bytes()));
            let three = &cores()[..3];
            let scan = CoreScan::new(three.to_vec());
            prop_assert_eq!(scan.hits(hay.as_bytes()), naive(three, hay.as_bytes()));
            prop_assert_eq!(scan.any(hay.as_bytes()), !naive(three, hay.as_bytes()).is_empty());
        }
    }
}
