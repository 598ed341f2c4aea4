//! Finds the cores of all replacements in one vectorised pass.
//!
//! A *core* is what every spelling of a needle shares: the longest run of letters, digits and `. _ ~ -` in a host, in a folder
//! name of a root, in a watched secret. No layer escapes these, so a core stands as it is at every level but base64, and
//! for base64 the four-letter groups that any alignment of the core must contain are looked for as well.
//!
//! Of each core one window of three bytes is searched for (`windows`); a window hit is then compared with the whole core.
//! The common value holds no window and costs the search alone.

use super::trigrams::{WINDOW, Windows};
use super::{base64, reference};
use aho_corasick::AhoCorasick;

/// A core to look for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Core {
    /// The bytes; in lower case if `fold`.
    pub bytes: Vec<u8>,
    /// Whether letter case is ignored (ASCII only).
    pub fold: bool,
    /// Whether it is also looked for inside of base64.
    pub base64: bool,
    /// Whether it is a name behind which a root-relative reference must stand. Such names are everywhere, so what follows is
    /// looked at here, in a way that holds at every level.
    pub before_reference: bool,
}

impl Core {
    /// Makes a core that may stand in base64 too.
    pub fn wrapped(bytes: &[u8], fold: bool) -> Self {
        Core { bytes: bytes.to_vec(), fold, base64: true, before_reference: false }
    }

    /// Makes a core that counts only as it stands.
    pub fn bare(bytes: &[u8]) -> Self {
        Core { bytes: bytes.to_vec(), fold: false, base64: false, before_reference: false }
    }
}

/// Where a core was found.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct CoreHit {
    /// Offset of the core's first byte; inside of base64 of the group that holds its beginning or middle.
    pub at: usize,
    /// Index of the core in the list the scanner was built from.
    pub core: usize,
    /// Whether the core stands there in base64.
    pub base64: bool,
}

#[derive(Clone, Copy, PartialEq)]
struct Announced {
    core: usize,
    /// Offset of the window in the core.
    offset: usize,
    base64: bool,
}

impl CoreHit {
    /// Makes a hit for a place that no search sees into: a core may be there. It is no hit of any one core.
    pub fn hidden(at: usize) -> Self {
        CoreHit { at, core: 0, base64: true }
    }
}

/// A searcher for a set of cores.
pub struct CoreScan {
    windows: Windows,
    /// Per window: the cores it may announce.
    announces: Vec<Vec<Announced>>,
    /// Cores shorter than a window, with an automaton of their own.
    short: Option<(AhoCorasick, Vec<usize>)>,
    cores: Vec<Core>,
}

impl std::fmt::Debug for CoreScan {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("CoreScan").field("cores", &self.cores).finish_non_exhaustive()
    }
}

impl CoreScan {
    /// Builds a scanner. Empty cores are not allowed to match anything and are ignored.
    pub fn new(cores: Vec<Core>) -> Self {
        let mut windows: Vec<[u8; WINDOW]> = Vec::new();
        let mut announces: Vec<Vec<Announced>> = Vec::new();
        let mut short = Vec::new();
        for (core, it) in cores.iter().enumerate() {
            let mut found = Vec::new();
            match rarest_window(&it.bytes, &windows) {
                Some((window, offset)) => found.push((window, Announced { core, offset, base64: false })),
                None if !it.bytes.is_empty() => short.push(core),
                None => {}
            }
            if it.base64 {
                // The beginning of a group is enough: the whole core is looked at behind it.
                let groups = base64::groups(&it.bytes, it.fold).into_iter();
                found.extend(
                    groups
                        .map(|([a, b, c, _], offset)| ([a, b, c], Announced { core, offset, base64: true })),
                );
            }
            for (window, announced) in found {
                let window = window.map(|b| b | 0x20);
                match windows.iter().position(|w| *w == window) {
                    Some(known) if announces[known].contains(&announced) => {}
                    Some(known) => announces[known].push(announced),
                    None => {
                        windows.push(window);
                        announces.push(vec![announced]);
                    }
                }
            }
        }
        let automaton = (!short.is_empty()).then(|| {
            AhoCorasick::builder().ascii_case_insensitive(true).build(short.iter().map(|i| &cores[*i].bytes))
        });
        let short = automaton.and_then(Result::ok).map(|a| (a, short));
        CoreScan { windows: Windows::new(&windows), announces, short, cores }
    }

    /// Returns the cores in the order of their indices.
    pub fn cores(&self) -> &[Core] {
        &self.cores
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

    /// Calls `take` with every hit until it returns false. Hits come in no particular order.
    pub fn each(&self, hay: &[u8], mut take: impl FnMut(CoreHit) -> bool) {
        let mut goes_on = true;
        self.windows.each(hay, |at, window| {
            for announced in &self.announces[window] {
                if let Some(hit) = self.confirm(hay, at, *announced)
                    && !take(hit)
                {
                    goes_on = false;
                }
            }
            goes_on
        });
        let Some((automaton, cores)) = &self.short else { return };
        let mut from = 0;
        while goes_on && let Some(m) = automaton.find(aho_corasick::Input::new(hay).range(from..)) {
            for core in cores {
                let announced = Announced { core: *core, offset: 0, base64: false };
                if let Some(hit) = self.confirm(hay, m.start(), announced) {
                    goes_on &= take(hit);
                }
            }
            from = m.start() + 1;
        }
    }

    #[inline]
    fn confirm(&self, hay: &[u8], at: usize, announced: Announced) -> Option<CoreHit> {
        let Announced { core, offset, base64 } = announced;
        let Core { bytes, fold, before_reference, .. } = &self.cores[core];
        if base64 {
            return base64::confirms(hay, at, bytes, *fold, offset).then_some(CoreHit { at, core, base64 });
        }
        let start = at.checked_sub(offset)?;
        let there = hay.get(start..start + bytes.len())?;
        let same = if *fold { there.eq_ignore_ascii_case(bytes) } else { there == &bytes[..] };
        let same = same && (!before_reference || reference::may_follow(hay, start + bytes.len()));
        same.then_some(CoreHit { at: start, core, base64 })
    }

    /// Returns every hit, sorted by position.
    pub fn hits(&self, hay: &[u8]) -> Hits {
        let mut hits = Hits::new();
        self.each(hay, |hit| {
            hits.push(hit);
            true
        });
        if hits.len() > 1 {
            hits.sort_by_key(|h| (h.at, h.core, h.base64));
        }
        hits
    }
}

/// Hits of one value: nearly always a handful.
pub type Hits = smallvec::SmallVec<[CoreHit; 8]>;

/// Returns the longest run of characters in a name that no layer escapes, and its offset. The first one where several are
/// equally long.
pub fn core_run(name: &[u8]) -> (usize, &[u8]) {
    let plain = |b: &u8| b.is_ascii_alphanumeric() || matches!(b, b'.' | b'_' | b'-' | b'~');
    let mut best = (0, &name[..0]);
    let mut at = 0;
    while at < name.len() {
        let len = name[at..].iter().take_while(|b| plain(b)).count();
        if len > best.1.len() {
            best = (at, &name[at..at + len]);
        }
        at += len + 1;
    }
    best
}

/// Returns the window whose letters are least usual in dumps, and its offset; nothing for a core that is too short. The ranking is
/// coarse on purpose: it only decides how often a window turns out to be nothing.
fn rarest_window(core: &[u8], known: &[[u8; WINDOW]]) -> Option<([u8; WINDOW], usize)> {
    let commonness = |b: u8| match b.to_ascii_lowercase() {
        b'e' | b't' | b'a' | b'o' | b'i' | b'n' | b's' | b'r' => 9,
        b'0'..=b'9' | b'l' | b'd' | b'c' | b'u' | b'm' | b'p' => 7,
        b'h' | b'g' | b'f' | b'b' | b'w' | b'y' | b'.' => 5,
        b'_' | b'-' => 4,
        b'v' | b'k' => 3,
        _ => 1,
    };
    let usual: [&[u8]; 8] = [b"www", b".co", b"com", b".or", b"org", b"htt", b"ttp", b"tml"];
    let windows = (0..core.len()).filter_map(|at| Some((*core.get(at..)?.first_chunk()?, at)));
    windows.min_by_key(|(piece, _): &([u8; WINDOW], usize)| {
        let letters: u32 = piece.iter().map(|b| commonness(*b)).sum();
        // A window that is looked for already costs nothing.
        let known = if known.contains(&piece.map(|b| b | 0x20)) { 0 } else { 50 };
        known + letters + if usual.contains(&&piece[..]) { 100 } else { 0 }
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use data_encoding::BASE64;
    use proptest::prelude::*;

    fn cores() -> Vec<Core> {
        [("fern.example", true), ("ern.ex", true), ("public_html", false), ("ab", false)]
            .map(|(t, fold)| Core { bytes: t.into(), fold, base64: false, before_reference: false })
            .to_vec()
    }

    /// The obviously right way.
    fn naive(cores: &[Core], hay: &[u8]) -> Vec<(usize, usize)> {
        let mut out = Vec::new();
        for at in 0..hay.len() {
            for (core, c) in cores.iter().enumerate() {
                let Some(there) = hay.get(at..at + c.bytes.len()) else { continue };
                if if c.fold { there.eq_ignore_ascii_case(&c.bytes) } else { there == c.bytes } {
                    out.push((at, core));
                }
            }
        }
        out
    }

    fn found(scan: &CoreScan, hay: &[u8]) -> Vec<(usize, usize)> {
        scan.hits(hay).iter().map(|h| (h.at, h.core)).collect()
    }

    proptest! {
        #[test]
        fn packed_scan_equals_naive_scan(parts in proptest::collection::vec(
            prop_oneof![Just("fern.example"), Just("FERN.EXAMPLE"), Just("fern.exam"), Just("public_html"), Just("Public_html"),
                        Just("ab"), Just("x"), Just("http://"), Just("\u{e9}"), Just("fern"), Just(".ex"), Just("EX")], 0..12)) {
            let hay: String = parts.concat();
            let scan = CoreScan::new(cores());
            prop_assert_eq!(found(&scan, hay.as_bytes()), naive(&cores(), hay.as_bytes()));
            prop_assert_eq!(scan.any(hay.as_bytes()), !naive(&cores(), hay.as_bytes()).is_empty());
        }

        #[test]
        fn a_core_inside_of_base64_is_found_at_every_alignment(before in "[ -~]{0,7}", host in prop_oneof![Just("fern.example"), Just("Fern.EXAMPLE")], after in "[ -~]{0,5}", url in any::<bool>(), width in 4usize..12, end in proptest::sample::select(&["", "\n", "\r\n", "\\n", "\\r\\n", "\\\\n"])) {
            let scan = CoreScan::new(vec![Core {
                bytes: b"fern.example".to_vec(),
                fold: true,
                base64: true,
                before_reference: false,
            }]);
            let plain = format!("{before}{host}{after}");
            let spec = if url { data_encoding::BASE64URL_NOPAD } else { BASE64 };
            let run = spec.encode(plain.as_bytes());
            let lines: Vec<&str> =
                run.as_bytes().chunks(4 * width).map(|line| std::str::from_utf8(line).unwrap()).collect();
            let hay = format!("x={};", lines.join(end));
            prop_assert!(scan.hits(hay.as_bytes()).iter().any(|h| h.base64), "{}", hay);
        }
    }

    #[test]
    fn cores_are_what_no_layer_escapes() {
        assert_eq!(core_run(b"new site"), (4, &b"site"[..]));
        assert_eq!(core_run("b\u{fc}cher.example".as_bytes()), (3, &b"cher.example"[..]));
        assert_eq!(core_run(b"'"), (0, &b""[..]));
    }
}
