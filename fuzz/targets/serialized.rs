//! What reads as serialized text reads as such after a rewrite, with as many strings.
#![no_main]

use libfuzzer_sys::fuzz_target;
use zporter_core::text::serialized;
#[path = "common.rs"]
mod common;

fuzz_target!(|data: &[u8]| {
    let value = common::with_old_places(data);
    let Some((leaves, end)) = serialized::leaves(&value) else {
        let _ = serialized::payload_leaves(&value);
        return;
    };
    assert!(end <= value.len());
    for leaf in &leaves {
        assert!(leaf.content.end <= end && leaf.digits.end <= leaf.content.start);
    }
    let replacements = common::replacements();
    let out = common::rewritten(&replacements, &value);
    let again = serialized::leaves(&out).expect("a rewrite keeps serialized text whole");
    assert_eq!(again.0.len(), leaves.len());
});
