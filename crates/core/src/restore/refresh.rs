//! What bringing a copy up to date comes to, file by file: by one comparison for those who only ask and for those who do it.

use super::RestoreError;
use super::locate::{EntryPlace, Locate};
pub use super::outlook::Outlook;
use super::plan::RestorePlan;
use super::push;
use crate::archive::read::{Entry, EntryKind};
use crate::copy_record;
use crate::select::{Decision, Selection};
use crate::tree::{Found, Links, Meta, Tree, read_small};
use std::collections::HashSet;
use std::ops::ControlFlow;
use std::path::{Path, PathBuf};

/// Says whether a file or link of the copy is what the source holds: size and time, or where it leads; the content of one that is edited.
pub(super) fn is_same(plan: &RestorePlan, entry: &Entry<'_>, there: &Meta, path: &Path) -> bool {
    let tree = &*plan.job.tree;
    let below = path.strip_prefix(&plan.job.options.target).unwrap_or(path).display().to_string();
    if let (EntryKind::File, Some(edited)) = (&entry.kind, plan.edited(&below)) {
        let limit = edited.len() as u64 + 1;
        return there.is_file()
            && read_small(tree, path, Links::Follow, limit).is_ok_and(|bytes| bytes == edited);
    }
    match &entry.kind {
        EntryKind::File => {
            let times = tree.capabilities().times;
            there.is_file() && there.size == entry.size && times.may_be(there.seconds(), entry.time)
        }
        EntryKind::Symlink(to) => there.is_link() && tree.link_target(path).is_ok_and(|there| there == *to),
        _ => false,
    }
}

/// Returns the files of a copy that are no longer at the source: those that are carried, but for what `stays`.
pub(super) fn gone(
    tree: &dyn Tree,
    selection: &Selection,
    stays: impl Fn(&Path, &Path) -> bool,
) -> Vec<PathBuf> {
    let mut out = Vec::new();
    let mut walk = tree.walk(tree.root());
    while let Some(found) = walk.next() {
        let Ok(Found { path, meta }) = found else { continue };
        let below = path.strip_prefix(tree.root()).unwrap_or(&path);
        if selection.decide(below, meta.is_folder()) != Decision::Copy {
            walk.skip_folder();
        } else if !meta.is_folder() && below != Path::new(copy_record::NAME) && !stays(below, &path) {
            out.push(path);
        }
    }
    out
}

impl Outlook {
    /// Compares a copy with its source. Nothing is read but names, sizes and times.
    pub(super) fn of(plan: &RestorePlan, delete_gone: bool) -> Result<Outlook, RestoreError> {
        let mut out = Outlook { takes_away: delete_gone, ..Outlook::default() };
        let Some(contents) = &plan.job.contents else { return Ok(out) };
        let target = &plan.job.options.target;
        let own = plan.definition.config_files();
        let locate = Locate::of(&plan.source, &plan.job);
        let selection = plan.selection();
        let mut seen: HashSet<PathBuf> = HashSet::new();
        let mut told = Vec::new();
        let _ = contents.file_entries(true, &mut told, &mut |entry| {
            if entry.kind == EntryKind::Folder {
                return ControlFlow::Continue(());
            }
            let (below, path) = match locate.place_of(&entry) {
                EntryPlace::File(below) if selection.decide(below.as_path(), false) == Decision::Copy => {
                    let path = target.join(plan.placed(below.as_path()));
                    (below, path)
                }
                EntryPlace::Outside(below) => match plan.outside() {
                    Some(folder) => {
                        let path = folder.join(below.as_path());
                        (below, path)
                    }
                    None => return ControlFlow::Continue(()),
                },
                _ => return ControlFlow::Continue(()),
            };
            let shown = path.strip_prefix(target).unwrap_or(&path).display().to_string();
            match plan.tree_of(&path).there(&path) {
                Some(_) if own.is_match(below.as_path()) => out.own += 1,
                Some(there) if is_same(plan, &entry, &there, &path) => out.unchanged += 1,
                Some(_) => {
                    out.bytes += entry.size;
                    out.replaced.push(shown);
                }
                None => {
                    out.bytes += entry.size;
                    out.new.push(shown);
                }
            }
            seen.insert(path);
            ControlFlow::Continue(())
        });
        let switches = push::files_that_stay(&plan.definition);
        let stays = |below: &Path, path: &Path| {
            own.is_match(below)
                || switches.is_match(below)
                || plan.settings.holds_file(below)
                || seen.contains(path)
        };
        let gone = gone(&*plan.job.tree, &selection, stays);
        out.gone = gone.iter().map(|p| p.strip_prefix(target).unwrap_or(p).display().to_string()).collect();
        for list in [&mut out.new, &mut out.replaced, &mut out.gone] {
            list.sort();
        }
        Ok(out)
    }
}
