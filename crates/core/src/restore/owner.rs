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
use crate::survey::Survey;
use crate::tree::{Ids, Links, Meta, Properties};
use std::path::Path;

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

/// Gives what a run made to whom it belongs, as far as nobody did yet: folders on the way, folders that the system needs, files that are put.
/// What has no counterpart at the source belongs to whom its folder does.
pub(super) fn settle(plan: &RestorePlan, change_log: &ChangeLog) -> Result<(), PathError> {
    if plan.owner == Owner::Own {
        return Ok(());
    }
    for made in change_log.made()? {
        let (FileChange::File(path) | FileChange::Folder(path)) = made else { continue };
        let below = |root: &Path| path.starts_with(root);
        if !below(&plan.job.options.target) && !plan.outside().is_some_and(below) {
            continue;
        }
        let tree = plan.tree_of(&path);
        let Some(there) = tree.there(&path) else { continue };
        let source = plan.at_source(&path);
        let folder = || tree.stat(path.parent()?, Links::Follow).ok();
        let ids = plan.owner.for_source(source.or_else(folder).as_ref());
        if let Some(owner) = ids.filter(|ids| Some(*ids) != there.owner) {
            tree.set(&path, &Properties { owner: Some(owner), ..Properties::default() }).at(&path)?;
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
        let Some(there) = plan.job.tree.there(&path) else { continue };
        let Some((user, group)) = there.owner.filter(|_| there.is_folder() && there.mode & 0o002 == 0) else {
            continue;
        };
        let at_source =
            |survey: &Survey| survey.tree.stat(&survey.site.join(folder), Links::Follow).ok()?.owner;
        let source = plan.job.contents.as_ref().and_then(|c| at_source(&c.survey));
        let for_group = there.mode & 0o020 != 0;
        let shut = match source {
            // As it was, it works as it did.
            Some((owner, of)) => user != owner && !(for_group && group == of),
            None => user == 0 && !(for_group && group != 0),
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
