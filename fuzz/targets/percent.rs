//! Percent-encoding around anything: what is inside is rewritten as it would be without, if it is structured.
#![no_main]

use libfuzzer_sys::fuzz_target;
use zporter_core::text::serialized;
#[path = "common.rs"]
mod common;

fn wrapped(bytes: &[u8], lower: bool) -> Vec<u8> {
    let mut out = Vec::new();
    for b in bytes {
        if b.is_ascii_alphanumeric() {
            out.push(*b);
        } else if lower {
            out.extend_from_slice(format!("%{b:02x}").as_bytes());
        } else {
            out.extend_from_slice(format!("%{b:02X}").as_bytes());
        }
    }
    out
}

fn unwrapped(text: &[u8]) -> Vec<u8> {
    let mut out = Vec::new();
    let mut at = 0;
    while at < text.len() {
        let hex = text.get(at + 1..at + 3).and_then(|h| std::str::from_utf8(h).ok());
        match (text[at], hex.and_then(|h| u8::from_str_radix(h, 16).ok())) {
            (b'%', Some(byte)) => {
                out.push(byte);
                at += 3;
            }
            (byte, _) => {
                out.push(byte);
                at += 1;
            }
        }
    }
    out
}

fuzz_target!(|data: &[u8]| {
    let replacements = common::replacements();
    let raw = common::with_old_places(data);
    let _ = common::rewritten(&replacements, &raw);
    let Some((lower, data)) = data.split_first() else { return };
    let inner = common::with_old_places(data);
    let text = [b"x=", &wrapped(&inner, lower & 1 == 1)[..], b"&y"].concat();
    let out = common::rewritten(&replacements, &text);
    assert!(out.starts_with(b"x=") && out.ends_with(b"&y"));
    // Serialized text keeps its lengths inside of the wrapping.
    if serialized::leaves(&inner).is_some_and(|(_, end)| end == inner.len()) {
        let after = unwrapped(&out[2..out.len() - 2]);
        assert!(serialized::leaves(&after).is_some(), "{}", String::from_utf8_lossy(&out));
    }
});
