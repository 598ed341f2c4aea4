//! What of a dump waits until all rows are there: views, triggers and so on. So nothing of the dump runs while rows come in, and what needs
//! another thing comes behind it, in whatever order the dump has them.

use super::DatabaseError;
use crate::dump::literal::Quoting;
use crate::vet::{Phase, Refused, Vetted};

/// Most bytes of statements that wait.
const MOST: usize = 64 << 20;

/// A statement that waits.
#[derive(Debug)]
pub(super) struct Later {
    pub(super) phase: Phase,
    /// What it makes.
    pub(super) name: String,
    pub(super) statement: Vetted,
    pub(super) line: u64,
    /// How strings are written in it.
    pub(super) quoting: Quoting,
    /// Settings of the session under which it is made.
    pub(super) settings: Vec<String>,
}

/// The statements that wait.
#[derive(Debug, Default)]
pub(super) struct Waiting {
    all: Vec<Later>,
    bytes: usize,
}

impl Waiting {
    /// Puts a statement aside. One that makes a view anew takes the place of the one before, where `anew` says that it is whole by itself.
    pub(super) fn push(&mut self, later: Later, anew: bool) -> Result<(), DatabaseError> {
        self.bytes += later.statement.text().len();
        if self.bytes > MOST {
            let what = format!("views, triggers and routines of more than {} MiB", MOST >> 20);
            return Err(DatabaseError::Forbidden { line: later.line, what });
        }
        if anew && later.phase == Phase::View {
            self.all.retain(|l| l.phase != Phase::View || l.name != later.name);
        }
        self.all.push(later);
        Ok(())
    }

    /// What waits.
    pub(super) fn all(&self) -> &[Later] {
        &self.all
    }

    /// Returns what waits, by its phase, in the order of the dump, and leaves nothing.
    pub(super) fn take(&mut self) -> Vec<Later> {
        self.bytes = 0;
        let mut all = std::mem::take(&mut self.all);
        all.sort_by_key(|l| l.phase);
        all
    }
}

/// Makes statements that may need each other in any order: those that fail for want of another (`not_yet`) come again as long as others
/// succeed.
pub(super) fn in_any_order(
    mut waiting: Vec<Later>,
    mut make: impl FnMut(&Later) -> Result<(), DatabaseError>,
    not_yet: impl Fn(&DatabaseError) -> bool,
) -> Result<(), DatabaseError> {
    while !waiting.is_empty() {
        let before = waiting.len();
        let (mut again, mut failure) = (Vec::new(), None);
        for later in waiting {
            match make(&later) {
                Err(e) if not_yet(&e) => {
                    failure.get_or_insert(e);
                    again.push(later);
                }
                other => other?,
            }
        }
        if let (true, Some(failure)) = (again.len() == before, failure) {
            return Err(failure);
        }
        waiting = again;
    }
    Ok(())
}

/// A refusal of the guard, with its line.
pub(super) fn refusal(line: u64) -> impl Fn(Refused) -> DatabaseError {
    move |refused| DatabaseError::Forbidden { line, what: refused.what() }
}
