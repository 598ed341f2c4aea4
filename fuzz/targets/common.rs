//! Replacements and checks that every target uses.

use zporter_core::edit::{self, Edit};
use zporter_core::place::{Address, Pairs, Root};
use zporter_core::text::replacements::{LeftReason, Replacements};
use zporter_core::text::value::{self, Notes};

pub struct Quiet(pub usize);

impl Notes for Quiet {
    fn changed(&mut self, _: &str, count: usize, _: &[u8]) {
        self.0 += count;
    }
    fn left(&mut self, _: LeftReason, _: &str, _: &[u8]) {}
}

#[allow(dead_code)]
pub fn replacements() -> Replacements {
    let address = |t: &str| Address::parse(t).unwrap();
    let root = |t: &str| Root::parse(t).unwrap();
    Replacements::new(
        &Pairs {
            addresses: vec![(address("http://a.test/s"), address("https://new.example:81/longer"))],
            roots: vec![(root("/h/old"), root("/srv/new"))],
        },
        &[],
    )
}

/// Bytes 0xF0 to 0xF5, which no UTF-8 begins ASCII text with, stand for what a fuzzer would hardly write by chance.
pub fn with_old_places(data: &[u8]) -> Vec<u8> {
    let mut out = Vec::new();
    for b in data {
        match b {
            0xF0 => out.extend_from_slice(b"http://a.test/s"),
            0xF1 => out.extend_from_slice(b"/h/old"),
            0xF2 => out.extend_from_slice(b"a.test"),
            0xF3 => out.extend_from_slice(b"http:\\/\\/a.test\\/s"),
            0xF4 => out.extend_from_slice(b"http%3A%2F%2Fa.test%2Fs"),
            0xF5 => out.extend_from_slice(b"aHR0cDovL2EudGVzdC9z"),
            _ => out.push(*b),
        }
    }
    out
}

/// Rewrites a value and checks what must hold for every one: edits in order and inside, and nothing left to do.
#[allow(dead_code)]
pub fn rewritten(replacements: &Replacements, value: &[u8]) -> Vec<u8> {
    let edits: Vec<Edit> = value::edits(replacements, value, &mut Quiet(0));
    let mut end = 0;
    for edit in &edits {
        assert!(edit.span.start >= end && edit.span.end <= value.len(), "{edits:?}");
        end = edit.span.end;
    }
    edit::apply(value, &edits)
}
