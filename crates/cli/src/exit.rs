//! The exit codes, documented in the README and in `zporter --help`.

/// How a command ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Exit {
    /// Done.
    Done = 0,
    /// Done, with findings that need attention.
    Findings = 1,
    /// Wrong usage.
    Usage = 2,
    /// Refused by a guard; nothing was changed.
    Refused = 3,
    /// The world failed: disk, network, server, permission.
    World = 4,
    /// The input is damaged.
    Damaged = 5,
}
