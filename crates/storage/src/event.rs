//! The one way in which the core speaks while it works: typed events into a sink.
//!
//! The core states facts; wording, rates, colours and bars belong to the sink. Results are return values, never
//! events.

use crate::finding::Finding;

/// Something that happened during a run.
#[derive(Debug, Clone)]
pub enum Event<'a> {
    /// A step began. `total` is in bytes, where known.
    StepStarted {
        /// What the step does, as a short phrase.
        step: &'a str,
        /// Bytes the step will go through, if known beforehand.
        total: Option<u64>,
    },
    /// The running step went through so many further bytes.
    Advanced {
        /// Bytes since the last event of this kind.
        bytes: u64,
    },
    /// The running step is done.
    StepDone,
    /// Something that a person should know of, and that does not stop the run.
    Finding(&'a Finding),
}

/// Receives events. Every method must be cheap: the core calls it from its loops.
pub trait Watch: Send + Sync {
    /// Takes note of one event.
    fn event(&self, event: Event<'_>);

    /// Says whether the run should stop as soon as it can do so cleanly.
    fn cancelled(&self) -> bool {
        false
    }
}

/// The run was told to stop.
#[derive(Debug, Clone, Copy, thiserror::Error)]
#[error("stopped before it was done")]
pub struct Cancelled;

impl Cancelled {
    /// Says whether a failure to read or write is nothing but this.
    pub fn is_why(error: &std::io::Error) -> bool {
        error.get_ref().is_some_and(|inner| inner.is::<Cancelled>())
    }
}

impl From<Cancelled> for std::io::Error {
    fn from(e: Cancelled) -> Self {
        std::io::Error::other(e)
    }
}

/// Goes on unless the run was told to stop.
pub fn go_on(watch: &dyn Watch) -> Result<(), Cancelled> {
    if watch.cancelled() { Err(Cancelled) } else { Ok(()) }
}

/// A sink that ignores everything.
#[derive(Debug, Default, Clone, Copy)]
pub struct Silent;

impl Watch for Silent {
    fn event(&self, _: Event<'_>) {}
}

/// Collects findings for the result while passing them on to the sink.
pub struct Findings<'w> {
    watch: &'w dyn Watch,
    kept: Vec<Finding>,
}

impl<'w> Findings<'w> {
    /// Starts an empty collection in front of a sink.
    pub fn new(watch: &'w dyn Watch) -> Self {
        Findings { watch, kept: Vec::new() }
    }

    /// Takes a finding and passes it on.
    pub fn push(&mut self, finding: Finding) {
        self.watch.event(Event::Finding(&finding));
        self.kept.push(finding);
    }

    /// Returns what was collected.
    pub fn into_vec(self) -> Vec<Finding> {
        self.kept
    }
}

/// Counts what passes through a reader or writer as progress, and lets nothing more through once the run was told to stop.
pub struct Counted<'w, R> {
    inner: R,
    watch: &'w dyn Watch,
}

impl<'w, R> Counted<'w, R> {
    /// Wraps a reader or writer.
    pub fn new(inner: R, watch: &'w dyn Watch) -> Self {
        Counted { inner, watch }
    }
}

impl<R: std::io::Read> std::io::Read for Counted<'_, R> {
    fn read(&mut self, buf: &mut [u8]) -> std::io::Result<usize> {
        go_on(self.watch)?;
        let n = self.inner.read(buf)?;
        self.watch.event(Event::Advanced { bytes: n as u64 });
        Ok(n)
    }
}

impl<R: std::io::Seek> std::io::Seek for Counted<'_, R> {
    fn seek(&mut self, pos: std::io::SeekFrom) -> std::io::Result<u64> {
        self.inner.seek(pos)
    }
}

impl<W: std::io::Write> std::io::Write for Counted<'_, W> {
    fn write(&mut self, buf: &[u8]) -> std::io::Result<usize> {
        go_on(self.watch)?;
        let n = self.inner.write(buf)?;
        self.watch.event(Event::Advanced { bytes: n as u64 });
        Ok(n)
    }

    fn flush(&mut self) -> std::io::Result<()> {
        self.inner.flush()
    }
}
