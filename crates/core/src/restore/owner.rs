//! Whose the files of a copy are. Only the system's administrator may give files away; for anybody else they are his own.
//!
//! A clone keeps the owners of its source, because on one machine the numbers mean the same; what comes from an archive takes the owner of
//! the folder in which the target lies, so that the account of a site can read it.

use super::job::RestoreJob;
use super::plan::RestorePlan;
use crate::change_log::{ChangeLog, FileChange};
use crate::finding::{Code, Finding};
use crate::fsx::{AtPath, PathError};
use crate::job::run::Refused;
use crate::safe::Spot;
use rustix::fs::{AtFlags, Gid, Uid};
use std::fs::Metadata;
use std::os::unix::fs::MetadataExt;
use std::path::Path;

/// A user and a group, by their numbers.
pub type Ids = (u32, u32);

/// Reads `USER` or `USER:GROUP`, by name or number, as this machine knows them.
pub fn named(text: &str) -> Result<Ids, Refused> {
    let (user, group) = text.split_once(':').map_or((text, None), |(u, g)| (u, Some(g)));
    let table = |file: &str| std::fs::read_to_string(file).unwrap_or_default();
    let field = |table: &str, name: &str, at: usize| -> Option<u32> {
        let line =
            table.lines().find(|l| l.split(':').next() == Some(name) || l.split(':').nth(2) == Some(name))?;
        line.split(':').nth(at)?.parse().ok()
    };
    let unknown = |what, name: &str| Refused::NoOwner { what, name: name.to_string() };
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
        if !rustix::process::geteuid().is_root() {
            return Owner::Own;
        }
        if let Some(ids) = job.owner {
            return Owner::Fixed(ids);
        }
        if job.contents.is_some() {
            return Owner::AsSource;
        }
        let nearest = job.options.target.ancestors().find_map(|f| std::fs::metadata(f).ok());
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

/// Gives what a run made to whom it belongs, as far as nobody did yet: folders on the way, folders that the system needs, files that are put.
/// What has no counterpart at the source belongs to whom its folder does.
pub(super) fn settle(plan: &RestorePlan, change_log: &ChangeLog) -> Result<(), PathError> {
    if plan.owner == Owner::Own {
        return Ok(());
    }
    for made in change_log.made()? {
        let (FileChange::File(path) | FileChange::Folder(path)) = made else { continue };
        let below = |root: &Path| path.starts_with(root);
        if !below(&plan.job.options.target) && !plan.outside().is_some_and(|o| below(&o)) {
            continue;
        }
        let Ok(there) = std::fs::symlink_metadata(&path) else { continue };
        let source = plan.at_source(&path);
        let folder = || path.parent().and_then(|f| std::fs::metadata(f).ok());
        let ids = plan.owner.for_source(source.or_else(folder).as_ref());
        let Some((user, group)) = ids.filter(|ids| *ids != (there.uid(), there.gid())) else { continue };
        if *path == *plan.job.options.target {
            // The site's own folder is the user's, by whatever way it is reached.
            std::os::unix::fs::lchown(&path, Some(user), Some(group)).at(&path)?;
        } else if let Ok(spot) = change_log.spot(&path) {
            give(&spot, (user, group)).at(&path)?;
        }
    }
    Ok(())
}

/// Says where a web server could not write although the system has to: folders of the system's own that belong to somebody else than they
/// did, or to the machine's administrator.
pub(super) fn unwritable(plan: &RestorePlan) -> Option<Finding> {
    if plan.job.owner.is_some() {
        // Somebody has decided.
        return None;
    }
    let definition = &plan.definition;
    let folders = (definition.media.iter().map(|m| &m.path)).chain(definition.cache.iter().map(|t| &t.path));
    let mut found = Vec::new();
    for folder in folders.filter(|f| !f.contains(['*', '{'])) {
        let path = plan.own_folder().join(folder);
        let Ok(there) = std::fs::symlink_metadata(&path) else { continue };
        if !there.is_dir() || there.mode() & 0o002 != 0 {
            continue;
        }
        let source = plan.job.contents.as_ref().and_then(|c| c.survey.site.join(folder).metadata().ok());
        let for_group = there.mode() & 0o020 != 0;
        let shut = match source {
            // As it was, it works as it did.
            Some(source) => there.uid() != source.uid() && !(for_group && there.gid() == source.gid()),
            None => there.uid() == 0 && !(for_group && there.gid() != 0),
        };
        if shut {
            found.push(folder.as_str());
        }
    }
    let first = *found.first()?;
    let more = if found.len() > 1 { format!(" and {} more", found.len() - 1) } else { String::new() };
    Some(Finding::new(
        Code::FolderNotWritable,
        "the web server could probably not write there: the folder belongs to another user than it should",
        format!("{first}{more}"),
        "give the copy to the web server's user (chown -R USER:GROUP), or restore with --owner USER:GROUP",
    ))
}
