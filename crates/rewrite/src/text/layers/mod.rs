//! Layers that wrap text without counting it: one file for each, behind one trait, and a register.
//!
//! A plain address inside of one of them is changed in its own spelling, without unwrapping. These are for what must be read as a whole
//! inside: serialized text, whose lengths count the unwrapped bytes, and base64. The walker knows them by the register alone, and counts
//! how deep it is; the short way ([`super::raw`]) leaves every text to it that holds a sign of one of them, by the same register.

pub(super) mod base64;
mod entities;
mod escapes;
mod percent;

use super::nesting::Layer;
use super::scan::CoreHit;
use crate::edit::{Decoded, Edit};
use crate::lanes::Alike;
use std::ops::Range;

/// Wrappings that are undone to see whether something structured is inside, before it is known that there is.
pub(in crate::text) const LOOK_AHEAD: usize = 3;

/// How much of a text a layer wraps.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Reach {
    /// All of it, or nothing.
    Whole,
    /// A run of it around a hit.
    Run,
}

/// By what a raw text tells that a layer may be in it.
#[derive(Clone, Copy)]
pub(super) enum Sign {
    /// By a byte.
    Byte(u8),
    /// By what anything structured begins with, which is looked for anyway.
    Structure,
    /// By the hit itself.
    Hit,
}

/// The sign of a layer. Apart from the other trait, because it has to be known when the tables are made.
pub(super) trait Signed {
    const SIGN: Sign;
}

/// Spells what was wrapped as a whole.
pub(super) type Spelling = Box<dyn Fn(&[u8]) -> Vec<u8>>;

/// A text that was undone.
pub(super) struct Opened {
    /// Where it lies.
    pub span: Range<usize>,
    /// What it means.
    pub decoded: Decoded,
    /// How it is spelled anew, of a layer that cannot be changed in part.
    pub anew: Option<Spelling>,
}

/// One way in which text is wrapped in other text.
pub(super) trait Wrapping: Sync {
    /// Its name.
    fn layer(&self) -> Layer;
    /// How much it wraps.
    fn reach(&self) -> Reach;
    /// Says, at little cost, whether it may be there.
    fn probe(&self, text: &[u8]) -> bool;
    /// Says whether a hit may stand in it.
    fn fits(&self, _hit: &CoreHit) -> bool {
        true
    }
    /// Undoes it: of a whole text, or around a hit, where it is worth it.
    ///
    /// # Errors
    /// Where there is no such thing around a hit: up to where the text has been looked at.
    fn decode(&self, text: &[u8], hit: Option<&CoreHit>) -> Result<Opened, usize>;
    /// Spells new text in it; `old` is what it replaces, `run` all that is wrapped.
    fn encode(&self, new: &[u8], old: &[u8], run: &[u8]) -> Vec<u8>;
}

/// Carries edits of what was wrapped out to the text.
pub(super) fn outwards(wrapping: &dyn Wrapping, opened: &Opened, text: &[u8], inner: Vec<Edit>) -> Vec<Edit> {
    let run = &text[opened.span.clone()];
    match &opened.anew {
        Some(_) if inner.is_empty() => Vec::new(),
        Some(spell) => {
            let new = spell(&crate::edit::apply(&opened.decoded.bytes, &inner));
            vec![Edit::new(opened.span.clone(), new)]
        }
        None => opened.decoded.outwards(inner, |new, span| wrapping.encode(new, &text[span], run)),
    }
}

macro_rules! wrappings {
    ($($module:ident :: $name:ident),+ $(,)?) => {
        /// All of them, in the order in which they are tried.
        pub(super) static WRAPPINGS: &[&dyn Wrapping] = &[$(&$module::$name),+];

        /// The bytes that are signs of one.
        pub(super) const SIGNS: &[Alike] = &[$(alike(<$module::$name as Signed>::SIGN)),+];
    };
}

wrappings! { entities::Entities, escapes::Escapes, percent::Percent, base64::Base64 }

const fn alike(sign: Sign) -> Alike {
    match sign {
        Sign::Byte(byte) => Alike { or: 0, is: byte },
        // Like no byte at all.
        Sign::Structure | Sign::Hit => Alike { or: u8::MAX, is: 0 },
    }
}

/// The layers of one reach that may be in a text.
pub(super) fn in_text(text: &[u8], reach: Reach) -> impl Iterator<Item = &'static dyn Wrapping> {
    WRAPPINGS.iter().copied().filter(move |w| w.reach() == reach && w.probe(text))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn what_a_layer_wraps_it_unwraps(bytes in "[ -~\u{e9}\n]{0,40}") {
            let bytes = bytes.as_bytes();
            for wrapping in WRAPPINGS {
                for run in [&b"%2f"[..], b"%2F"] {
                    let wrapped = wrapping.encode(bytes, b"\\/", run);
                    if let Ok(opened) = wrapping.decode(&wrapped, None) {
                        prop_assert_eq!(&opened.decoded.bytes[..], bytes);
                    }
                }
            }
        }

        #[test]
        fn every_border_leads_back_into_the_raw_text(raw in "[%&\\\\a2Fu0#;\"quotamp]{0,40}") {
            let raw = raw.as_bytes();
            for wrapping in WRAPPINGS {
                let Ok(Opened { decoded, anew: None, .. }) = wrapping.decode(raw, None) else { continue };
                prop_assert_eq!(decoded.raw(0), 0);
                prop_assert_eq!(decoded.raw(decoded.bytes.len()), raw.len());
            }
        }
    }
}
