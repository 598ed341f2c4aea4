//! The rewriter through its public face.

#![allow(clippy::unwrap_used, reason = "a failing unwrap is a failing test")]

mod ways;
