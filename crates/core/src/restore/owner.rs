//! Whose the files of a copy are. Only the system's administrator may give files away; for anybody else they are his own.
//!
//! A clone keeps the owners of its source, because on one machine the numbers mean the same; what comes from an archive takes the owner of
//! the folder in which the target lies, so that the account of a site can read it.

use super::job::RestoreJob;
use crate::safe::Spot;
use rustix::fs::{AtFlags, Gid, Uid};
use std::fs::Metadata;
use std::os::unix::fs::MetadataExt;

/// A user and a group, by their numbers.
pub type Ids = (u32, u32);

/// What is done with owners.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Owner {
    /// Nothing: they are the process's own.
    Own,
    /// Those of the source.
    AsSource,
    /// These.
    Fixed(Ids),
}

impl Owner {
    /// Decides for a job.
    pub(super) fn of(job: &RestoreJob) -> Self {
        if !rustix::process::geteuid().is_root() {
            return Owner::Own;
        }
        if let Some(ids) = job.owner {
            return Owner::Fixed(ids);
        }
        if job.cargo.is_some() {
            return Owner::AsSource;
        }
        let nearest = job.target.ancestors().find_map(|f| std::fs::metadata(f).ok());
        nearest.map_or(Owner::Own, |meta| Owner::Fixed((meta.uid(), meta.gid())))
    }

    /// The owner of a thing whose source is this.
    pub(super) fn for_source(self, source: Option<&Metadata>) -> Option<Ids> {
        match self {
            Owner::Own => None,
            Owner::Fixed(ids) => Some(ids),
            Owner::AsSource => source.map(|m| (m.uid(), m.gid())),
        }
    }
}

/// Gives a thing to somebody; a link itself, not what it leads to.
pub(super) fn give(spot: &Spot, (user, group): Ids) -> std::io::Result<()> {
    let (user, group) = (Uid::from_raw(user), Gid::from_raw(group));
    Ok(rustix::fs::chownat(spot.handle(), spot.name(), Some(user), Some(group), AtFlags::SYMLINK_NOFOLLOW)?)
}
