//! Which stretches of a text a layer has dealt with.

use smallvec::SmallVec;
use std::ops::Range;

/// Stretches of a text that a layer has dealt with, sorted.
#[derive(Debug, Default)]
pub(super) struct Covered(SmallVec<[Range<usize>; 4]>);

impl Covered {
    pub(super) fn contains(&self, at: usize) -> bool {
        let next = self.0.partition_point(|c| c.end <= at);
        self.0.get(next).is_some_and(|c| c.start <= at)
    }

    pub(super) fn touches(&self, span: &Range<usize>) -> bool {
        let next = self.0.partition_point(|c| c.end <= span.start);
        self.0.get(next).is_some_and(|c| c.start < span.end)
    }

    pub(super) fn add(&mut self, span: Range<usize>) {
        let next = self.0.partition_point(|c| c.start < span.start);
        self.0.insert(next, span);
    }

    pub(super) fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}
