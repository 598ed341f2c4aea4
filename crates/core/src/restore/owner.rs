//! Whose the files of a copy are. Only the system's administrator may give files away; for anybody else they are his own.
//!
//! A clone keeps the owners of its source, because on one machine the numbers mean the same; what comes from an archive takes the owner of
//! the folder in which the target lies, so that the account of a site can read it.

use super::job::RestoreJob;
use crate::tree::{Ids, Links, Meta};

/// No such user or group on this machine.
#[derive(Debug, thiserror::Error)]
#[error("there is no {what} {name} on this machine")]
pub struct NoSuchOwner {
    /// User or group.
    pub what: &'static str,
    /// Its name.
    pub name: String,
}

/// Reads `USER` or `USER:GROUP`, by name or number, as this machine knows them.
pub fn named(text: &str) -> Result<Ids, NoSuchOwner> {
    let (user, group) = text.split_once(':').map_or((text, None), |(u, g)| (u, Some(g)));
    let table = |file: &str| std::fs::read_to_string(file).unwrap_or_default();
    let field = |table: &str, name: &str, at: usize| -> Option<u32> {
        let line =
            table.lines().find(|l| l.split(':').next() == Some(name) || l.split(':').nth(2) == Some(name))?;
        line.split(':').nth(at)?.parse().ok()
    };
    let unknown = |what, name: &str| NoSuchOwner { what, name: name.to_string() };
    let users = table("/etc/passwd");
    let uid = user.parse().ok().or_else(|| field(&users, user, 2)).ok_or_else(|| unknown("user", user))?;
    let gid = match group {
        None => field(&users, user, 3).unwrap_or(uid),
        Some(group) => group
            .parse()
            .ok()
            .or_else(|| field(&table("/etc/group"), group, 2))
            .ok_or_else(|| unknown("group", group))?,
    };
    Ok((uid, gid))
}

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
        if !job.tree.capabilities().owners {
            return Owner::Own;
        }
        if let Some(ids) = job.owner {
            return Owner::Fixed(ids);
        }
        if job.contents.as_ref().is_some_and(|c| c.survey.tree.host() == job.tree.host()) {
            return Owner::AsSource;
        }
        let nearest = job.options.target.ancestors().find_map(|f| job.tree.stat(f, Links::Follow).ok());
        nearest.and_then(|meta| meta.owner).map_or(Owner::Own, Owner::Fixed)
    }

    /// The owner of a thing whose source is this.
    pub(super) fn for_source(self, source: Option<&Meta>) -> Option<Ids> {
        match self {
            Owner::Own => None,
            Owner::Fixed(ids) => Some(ids),
            Owner::AsSource => source.and_then(|m| m.owner),
        }
    }
}
