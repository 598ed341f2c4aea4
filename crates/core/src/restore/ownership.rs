//! Gives what a run made to whom it belongs, and says where a web server could not write.

use super::owner::Owner;
use super::plan::RestorePlan;
use crate::change_log::{ChangeLog, FileChange};
use crate::finding::{Code, Finding};
use crate::fsx::{AtPath, PathError};
use crate::survey::Survey;
use crate::tree::{Links, Properties};
use std::path::Path;

/// Gives what a run made to whom it belongs, as far as nobody did yet: folders on the way, folders that the system needs, files that are put.
/// What has no counterpart at the source belongs to whom its folder does.
pub(super) fn settle(plan: &RestorePlan, change_log: &ChangeLog) -> Result<(), PathError> {
    if plan.owner == Owner::Own {
        return Ok(());
    }
    for made in change_log.made()? {
        let (FileChange::File(path) | FileChange::Folder(path)) = made else { continue };
        let below = |root: &Path| path.starts_with(root);
        if !below(plan.job.folder()) && !plan.outside().is_some_and(below) {
            continue;
        }
        let tree = plan.tree_of(&path);
        let Some(there) = tree.there(&path) else { continue };
        let source = plan.at_source(&path);
        let folder = || tree.stat(path.parent()?, Links::Follow).ok();
        let ids = plan.owner_of(&path, source.or_else(folder).as_ref());
        if let Some(owner) = ids.filter(|ids| Some(*ids) != there.owner) {
            tree.set(&path, &Properties { owner: Some(owner), ..Properties::default() }).at(&path)?;
        }
    }
    Ok(())
}

/// Says where a web server could not write although the system has to: folders of the system's own that belong to somebody else than they
/// did, or to the machine's administrator.
pub(super) fn unwritable(plan: &RestorePlan) -> Option<Finding> {
    if plan.job.owner.is_some() || plan.job.over.is_some() {
        // Somebody has decided, or it is as it was.
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
