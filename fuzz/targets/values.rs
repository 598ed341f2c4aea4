//! Values of any kind, with all that is done on request: no input stops it, and edits are in order.
#![no_main]

use libfuzzer_sys::fuzz_target;
use zporter_core::edit;
use zporter_core::place::{Address, Pairs};
use zporter_core::text::replacements::{RewriteOptions, Replacements};
use zporter_core::text::value;
#[path = "common.rs"]
mod common;

fuzz_target!(|data: &[u8]| {
    let Some((kind, data)) = data.split_first() else { return };
    let text = common::with_old_places(data);
    let address = |t: &str| Address::parse(t).unwrap();
    let (old, new) = if kind & 1 == 0 { ("http://a.test/s", "https://b.example") } else { ("http://a.test", "https://b.example/s") };
    let asked = RewriteOptions { references: kind & 2 != 0, bare_hosts: kind & 4 != 0, mail_domains: kind & 8 != 0, repair: kind & 16 != 0 };
    let pairs = Pairs { addresses: vec![(address(old), address(new))], roots: vec![] };
    let replacements = Replacements::asking(&pairs, &[], asked);
    let edits = value::edits_of_hit(&replacements, &text, false, &mut common::Quiet(0));
    let out = edit::apply(&text, &edits);
    let _ = out;
    let mut end = 0;
    for edit in &edits {
        assert!(edit.span.start >= end && edit.span.end <= text.len());
        end = edit.span.end;
    }
});
