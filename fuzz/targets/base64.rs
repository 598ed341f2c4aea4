//! Base64 around anything: what was understood stays base64, and serialized text inside of it stays whole.
#![no_main]

use data_encoding::{BASE64, BASE64_NOPAD, BASE64URL_NOPAD};
use libfuzzer_sys::fuzz_target;
use zporter_core::text::serialized;
#[path = "common.rs"]
mod common;

fuzz_target!(|data: &[u8]| {
    let replacements = common::replacements();
    let Some((kind, data)) = data.split_first() else { return };
    let inner = common::with_old_places(data);
    let encoding = if kind & 1 == 0 { BASE64 } else { BASE64URL_NOPAD };
    let around: (&[u8], &[u8]) = if kind & 2 == 0 { (b"", b"") } else { (b"v=", b";") };
    let text = [around.0, encoding.encode(&inner).as_bytes(), around.1].concat();
    let out = common::rewritten(&replacements, &text);
    let run = &out[around.0.len()..out.len() - around.1.len()];
    // Four letters a group and no padding may be either kind: then it is written with padding.
    let bare = run.strip_suffix(b"==").or(run.strip_suffix(b"=")).unwrap_or(run);
    let plain = BASE64_NOPAD.decode(bare).or_else(|_| BASE64URL_NOPAD.decode(bare));
    let after = plain.expect("base64 stays base64");
    if serialized::leaves(&inner).is_some() {
        assert!(serialized::leaves(&after).is_some());
    }
    let _ = common::rewritten(&replacements, &common::with_old_places(data));
});
