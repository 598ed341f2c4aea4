//! The rewriter of nested values: from a value's bytes to edits of exactly what moves.
//!
//! `scan` finds cores, `replacements` and `rule` judge them, `value` walks through the layers that wrap them.

mod base64;
mod charset;
pub mod column_code;
mod common_form;
mod covered;
mod fragments;
pub mod json;
mod judged;
mod layers;
pub mod links;
mod nesting;
pub mod packed;
mod precheck;
pub mod raw;
mod reference;
mod repair;
pub mod replacements;
mod rule;
pub mod scan;
pub mod serialized;
pub mod spelling;
mod trigrams;
pub mod value;
