//! The rewriter of nested values: from a value's bytes to edits of exactly what moves.

pub mod json;
pub mod needles;
pub mod scan;
pub mod serialized;
pub mod spelling;
pub mod value;
