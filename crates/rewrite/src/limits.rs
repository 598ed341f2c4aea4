//! How much of what comes from others is held in memory at once. Whoever knows better may set it, once, before the work begins.

use std::sync::atomic::{AtomicU64, Ordering::Relaxed};

/// A limit, in bytes.
#[derive(Debug)]
pub struct Limit {
    /// Word by which people name it.
    pub name: &'static str,
    /// What it bounds.
    pub about: &'static str,
    bytes: AtomicU64,
}

impl Limit {
    const fn new(name: &'static str, about: &'static str, bytes: u64) -> Self {
        Limit { name, about, bytes: AtomicU64::new(bytes) }
    }

    /// Returns it.
    pub fn bytes(&self) -> u64 {
        self.bytes.load(Relaxed)
    }

    /// Sets it.
    pub fn set(&self, bytes: u64) {
        self.bytes.store(bytes, Relaxed);
    }
}

/// Largest statement, row or comment of a dump. Servers take at most 1 GiB.
pub static STATEMENT: Limit = Limit::new("statement", "one statement, row or comment of a dump", 1 << 30);
/// Largest file that is read as a config or text file.
pub static CONFIG_FILE: Limit = Limit::new("config-file", "one config file", 8 << 20);
/// Most bytes of all config and text files of a site.
pub static CONFIG_FILES: Limit =
    Limit::new("config-files", "all files of a site that look like config", 128 << 20);
/// Most bytes that one compressed value is unpacked to.
pub static PACKED_VALUE: Limit = Limit::new("packed-value", "one compressed value, unpacked", 64 << 20);

/// All limits.
pub static ALL: [&Limit; 4] = [&STATEMENT, &CONFIG_FILE, &CONFIG_FILES, &PACKED_VALUE];
