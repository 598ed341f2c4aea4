//! The one way in which the core speaks while it works: typed events into a sink.
//!
//! The core states facts; wording, rates, colours and bars belong to the sink. Results are return values, never
//! events.

use std::path::PathBuf;

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
    /// Something needs a person's attention but does not stop the run.
    Warning(&'a Warning),
}

/// Trouble that does not stop a run. It is shown at once and repeated in the result.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize)]
pub struct Warning {
    /// What was met, in one sentence without a full stop.
    pub what: String,
    /// Where: a path, a table, a line; empty if it concerns the whole run.
    pub place: String,
    /// What to do next; empty if nothing needs to be done.
    pub cure: String,
}

impl Warning {
    /// Makes a warning from its three parts.
    pub fn new(what: impl Into<String>, place: impl Into<String>, cure: impl Into<String>) -> Self {
        Warning { what: what.into(), place: place.into(), cure: cure.into() }
    }

    /// Makes a warning about a path.
    pub fn at(what: impl Into<String>, path: impl Into<PathBuf>, cure: impl Into<String>) -> Self {
        Warning::new(what, path.into().display().to_string(), cure)
    }
}

/// Receives events. Every method must be cheap: the core calls it from its loops.
pub trait Watch: Send + Sync {
    /// Takes note of one event.
    fn event(&self, event: Event<'_>);
}

/// A sink that ignores everything.
#[derive(Debug, Default, Clone, Copy)]
pub struct Silent;

impl Watch for Silent {
    fn event(&self, _: Event<'_>) {}
}

/// Collects warnings for the result while passing them on to the sink.
pub struct Warnings<'w> {
    watch: &'w dyn Watch,
    kept: Vec<Warning>,
}

impl<'w> Warnings<'w> {
    /// Starts an empty collection in front of a sink.
    pub fn new(watch: &'w dyn Watch) -> Self {
        Warnings { watch, kept: Vec::new() }
    }

    /// Notes a warning and passes it on.
    pub fn push(&mut self, warning: Warning) {
        self.watch.event(Event::Warning(&warning));
        self.kept.push(warning);
    }

    /// Returns what was collected.
    pub fn into_vec(self) -> Vec<Warning> {
        self.kept
    }
}

/// Counts what passes through a reader or writer as progress.
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
        let n = self.inner.write(buf)?;
        self.watch.event(Event::Advanced { bytes: n as u64 });
        Ok(n)
    }

    fn flush(&mut self) -> std::io::Result<()> {
        self.inner.flush()
    }
}
