//! A value of a row: where it lies and of which kind it is.

use std::ops::Range;

/// Kind of a value in a row.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ValueKind {
    /// A quoted string, perhaps behind a charset introducer such as `_binary`.
    Text,
    /// `0x…` or `X'…'`.
    Hex,
    /// `NULL`.
    Null,
    /// A number, also with a sign.
    Number,
    /// Anything else: a function call, a keyword, bits.
    Expression,
}

/// One value of a row.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Value {
    /// Kind.
    pub kind: ValueKind,
    /// The whole value, relative to the row's opening bracket, without surrounding space.
    pub span: Range<usize>,
    /// The quoted string in it, quotes included; for hex the digits; for an expression its first string.
    pub literal: Range<usize>,
}
