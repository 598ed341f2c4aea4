//! What reads as JSON reads as such after a rewrite; every string decodes, and encodes to what decodes the same.
#![no_main]

use libfuzzer_sys::fuzz_target;
use zporter_core::text::json;
#[path = "common.rs"]
mod common;

fuzz_target!(|data: &[u8]| {
    let value = common::with_old_places(data);
    let Some(strings) = json::strings(&value) else { return };
    for inside in &strings {
        if let Some(decoded) = json::decode(&value, inside.clone()) {
            let spelled = json::encode(&decoded.bytes, &value[inside.clone()]);
            let back = json::decode(&spelled, 0..spelled.len()).expect("what was encoded decodes");
            assert_eq!(back.bytes, decoded.bytes);
        }
    }
    let replacements = common::replacements();
    let out = common::rewritten(&replacements, &value);
    let again = json::strings(&out).expect("a rewrite keeps JSON whole");
    assert_eq!(again.len(), strings.len());
});
