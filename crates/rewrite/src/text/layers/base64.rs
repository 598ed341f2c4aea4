//! Base64 around a hit, in lines or in one.

use super::{Opened, Reach, Sign, Signed, Wrapping};
use crate::edit::Decoded;
use crate::text::base64::run_around;
use crate::text::nesting::Layer;
use crate::text::scan::CoreHit;
use crate::text::serialized;
use data_encoding::BASE64;

pub(super) struct Base64;

impl Signed for Base64 {
    const SIGN: Sign = Sign::Hit;
}

impl Wrapping for Base64 {
    fn layer(&self) -> Layer {
        Layer::named("base64")
    }

    fn reach(&self) -> Reach {
        Reach::Run
    }

    /// The search says of each hit whether it is in base64.
    fn probe(&self, _: &[u8]) -> bool {
        true
    }

    fn fits(&self, hit: &CoreHit) -> bool {
        hit.base64
    }

    fn decode(&self, text: &[u8], hit: Option<&CoreHit>) -> Result<Opened, usize> {
        let hit = hit.ok_or(text.len())?;
        let run = run_around(text, hit.at, understood)?;
        let mut decoded = Decoded::starting_at(run.span.start);
        decoded.plain(&run.bytes);
        let span = run.span.clone();
        // Three bytes are four letters, and lines have their width: it is spelled as a whole.
        Ok(Opened { span, decoded, anew: Some(Box::new(move |new| run.encode(new).into_bytes())) })
    }

    fn encode(&self, new: &[u8], _: &[u8], _: &[u8]) -> Vec<u8> {
        BASE64.encode(new).into_bytes()
    }
}

/// Says whether what was decoded is something we know how to read.
fn understood(bytes: &[u8]) -> bool {
    serialized::leaves(bytes).is_some()
        || std::str::from_utf8(bytes).is_ok_and(|t| !t.chars().any(|c| c.is_control() && !c.is_whitespace()))
}
