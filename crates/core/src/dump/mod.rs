//! MySQL and MariaDB dumps as streams: read, located, rewritten, split, never held whole.
//!
//! [`stream`] drives a bounded window over the input and hands a [`stream::Sink`] every byte once, in order, as pieces that know
//! their statement, table, row and values. Sinks rewrite ([`rewrite`]), split into tables ([`split`]) or
//! measure ([`inspect`]). What another dialect would need replaces [`lex`] and [`row`], not the sinks.

pub mod inspect;
pub mod lex;
pub mod literal;
pub mod row;
pub mod rewrite;
pub mod split;
pub mod statement;
pub mod stream;
pub mod tally;
