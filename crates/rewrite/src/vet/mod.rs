//! Which statements of a dump may reach a server: an allow-list over tokens, pure, per engine.
//!
//! Every statement is read whole. Its names must lie in the database that is filled, its calls must be on a list of harmless ones,
//! its options on a list too; what cannot be read so is refused. Bodies are stored, not run: what could run while rows come in is
//! sorted behind the rows ([`Phase`]). Only vetting makes a [`Vetted`] text, and loaders send nothing else of a dump.

mod code;
mod harmless;
pub mod hints;
pub mod mysql;
mod mysql_body;
pub mod postgres;
mod postgres_body;
pub mod sqlite;
#[cfg(test)]
mod tests;

use crate::dump::literal::Quoting;
use std::collections::BTreeSet;

/// Why a statement was refused: what of it, in plain words, without its line.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Refused(String);

impl Refused {
    /// Makes a refusal.
    pub fn new(what: impl Into<String>) -> Self {
        Refused(what.into())
    }

    /// In plain words.
    pub fn what(self) -> String {
        self.0
    }
}

/// A statement that was read whole and found harmless, as it is sent.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Vetted {
    text: String,
    /// Functions that it calls and that are on no list: the dump must have made them, in lower case.
    calls: BTreeSet<String>,
}

impl Vetted {
    fn new(text: impl Into<String>) -> Self {
        Vetted { text: text.into(), calls: BTreeSet::new() }
    }

    /// The text to be sent.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// Refuses a statement that calls what neither a list nor the dump knows.
    pub fn resolved(&self, made: &BTreeSet<String>) -> Result<(), Refused> {
        match self.calls.iter().find(|c| !made.contains(*c)) {
            Some(call) => {
                Err(Refused::new(format!("it calls {call}(), which is on no list of harmless functions")))
            }
            None => Ok(()),
        }
    }
}

/// The plain name of the table, view or sequence that a statement makes, if it makes one.
pub fn made(text: &str, quoting: Quoting) -> Option<String> {
    let code = code::Code::read(text, quoting, true).ok()?;
    if !code.is(0, "CREATE") {
        return None;
    }
    let kind = (1..code.len().min(12)).find(|i| harmless::has("TABLE VIEW SEQUENCE", code.word(*i)))?;
    let condition = if code.are(kind + 1, &["IF", "NOT", "EXISTS"]) { 3 } else { 0 };
    code.chain(kind + 1 + condition)?.0.pop()
}

/// What comes behind the rows, in this order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Phase {
    /// Functions and procedures.
    Routine,
    /// Views.
    View,
    /// Whatever else may depend on views: indexes of materialised ones, comments.
    Behind,
    /// Rules, triggers, policies.
    Trigger,
    /// Events.
    Event,
    /// What is said of these.
    Last,
}

/// What to do with a statement.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Verdict {
    /// Send it in its place.
    Now(Vetted),
    /// Send it behind the rows. The name is what it makes, for an order by dependencies.
    Later(Phase, String, Vetted),
    /// Send nothing; there is nothing to be said either.
    Nothing,
    /// Send nothing, and say what was left out, by its kind.
    Left(&'static str),
    /// Send it, and if the server refuses it, say so with this cure and go on.
    IfPossible(Vetted, &'static str),
}
