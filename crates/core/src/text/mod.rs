//! The rewriter of nested values: from a value's bytes to edits of exactly what moves.
//!
//! `scan` finds cores, `replacements` and `rule` judge them, `value` walks through the layers that wrap them.

mod base64;
mod charset;
mod fragments;
pub mod json;
mod layers;
pub mod links;
pub mod replacements;
mod precheck;
pub mod packed;
pub mod raw;
mod reference;
mod repair;
mod rule;
pub mod scan;
pub mod serialized;
pub mod spelling;
mod common_form;
pub mod value;
mod trigrams;
