//! What a refresh or a push would overwrite or drop on the side that is written: tables whose rows changed there since the copy was made, and
//! files that did. Found by looking: at what the servers tell of each table, then and now, and at the times of files. Nothing of it is merged,
//! so nothing of it is written over unless that was asked for.

use super::RestoreError;
use super::difference::name_in_copy;
use super::outlook::Outlook;
use super::plan::RestorePlan;
use super::push;
use crate::copy_record::Record;
use crate::database::load::plain_name;
use crate::database::servers;
use crate::database::stream::{full_names, print_of};
use crate::finding::{Code, Finding, first_of};
use crate::select::Decision;
use crate::system::table_rule;
use crate::tree::{Found, Meta};
use std::collections::BTreeMap;
use std::io::ErrorKind;
use std::path::Path;

/// Names that are told in one finding.
const NAMED: usize = 20;

/// What would be lost on the side that is written.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Overwrites {
    /// Tables whose rows changed there.
    pub tables: Vec<String>,
    /// Tables of which nobody can tell whether they did.
    pub unknown: Vec<String>,
    /// Files that changed or were made there, below the site's folder.
    pub files: Vec<String>,
}

impl Overwrites {
    /// Says whether nothing would be lost.
    pub fn is_nothing(&self) -> bool {
        self.tables.is_empty() && self.unknown.is_empty() && self.files.is_empty()
    }

    /// What would be lost or was, kind by kind.
    pub fn kinds(&self) -> impl Iterator<Item = (&'static str, String)> {
        let kinds = [
            ("tables whose rows changed there", &self.tables),
            ("tables that may have changed there", &self.unknown),
            ("files that changed or were made there", &self.files),
        ];
        kinds
            .into_iter()
            .filter(|(_, names)| !names.is_empty())
            .map(|(kind, names)| (kind, first_of(names, NAMED)))
    }

    /// The same as findings: of a preview, or of a run that was told to go over it.
    pub fn findings(&self, done: bool) -> Vec<Finding> {
        let finding = |(kind, names): (&str, String)| {
            let what =
                if done { format!("overwritten: {kind}") } else { format!("would be overwritten: {kind}") };
            let cure = match done {
                true => "what was there is kept: zporter undo brings it back",
                false => "carry over by hand what is needed, then go over it with --overwrite",
            };
            Finding::new(Code::Overwrites, what, names, cure)
        };
        self.kinds().map(finding).collect()
    }

    /// Checks what a refresh or a push would overwrite.
    ///
    /// # Errors
    /// Where the database of the side that is written cannot be asked.
    pub fn of(plan: &RestorePlan) -> Result<Self, RestoreError> {
        let job = &plan.job;
        let copy = match (&job.contents, job.options.push) {
            (Some(contents), true) => contents.survey.tree.clone(),
            _ => job.tree.clone(),
        };
        let Some(record) = Record::read(&*copy) else { return Ok(Overwrites::default()) };
        let mut out = Overwrites::default();
        out.look_at_tables(plan, &record)?;
        match job.options.push {
            true => out.look_at_live_files(plan)?,
            false => out.look_at_copy_files(plan, &record)?,
        }
        Ok(out)
    }

    fn look_at_tables(&mut self, plan: &RestorePlan, record: &Record) -> Result<(), RestoreError> {
        let (Some(access), true) = (&plan.job.database, plan.loads() && plan.job.options.dump_to.is_none())
        else {
            return Ok(());
        };
        let push = plan.job.options.push;
        let written = plan.tables.replaced.iter().chain(plan.tables.row_by_row.iter().map(|r| &r.here));
        // By their names on the side that is written, what they were when both sides were the same.
        let then: BTreeMap<String, u64> = match push {
            true => {
                let known = record.fingerprints.iter();
                known.map(|(table, print)| (plain_name(table).to_string(), print.source)).collect()
            }
            false => {
                let here = |table: &String| name_in_copy(table, plan.prefix.as_ref());
                record.fingerprints.iter().map(|(table, print)| (here(table), print.copy)).collect()
            }
        };
        let own = plan.prefix.as_ref().map_or(&plan.table_prefix, |change| &change.new);
        let mut snapshot = servers::snapshot(access).map_err(RestoreError::Database)?;
        let full = full_names(&mut *snapshot).map_err(RestoreError::Database)?;
        for table in written {
            // Sessions, caches and logs are nobody's work.
            let rule = table_rule(&plan.definition, own, table);
            if rule.is_some_and(|r| r.safe || r.cache) {
                continue;
            }
            match then.get(table) {
                None => self.unknown.push(table.clone()),
                Some(then) => {
                    let now = match plan.tables.prints.get(table) {
                        Some(now) => *now,
                        None => {
                            let name = full.get(table).unwrap_or(table);
                            print_of(&mut *snapshot, name).map_err(RestoreError::Database)?
                        }
                    };
                    if now != *then {
                        self.tables.push(table.clone());
                    }
                }
            }
        }
        Ok(())
    }

    /// Files of a copy that a refresh would replace or take away, and that are not as the last run left them.
    fn look_at_copy_files(&mut self, plan: &RestorePlan, record: &Record) -> Result<(), RestoreError> {
        if !plan.job.scope.has_files() {
            return Ok(());
        }
        let outlook = Outlook::of(plan, plan.job.options.delete_gone)?;
        let gone = outlook.gone.iter().filter(|_| plan.job.options.delete_gone);
        let target = &plan.job.options.target;
        // An older record tells no time; then the file's own time has to do.
        let (ended, began) = (record.ended, push::made_at(&*plan.job.tree));
        let changed = |meta: &Meta| match (ended, began) {
            (Some(ended), _) => meta.touched() > i128::from(ended),
            (None, Some(began)) => meta.seconds() > began,
            (None, None) => true,
        };
        for below in outlook.replaced.iter().chain(gone) {
            let path = target.join(below);
            if plan.tree_of(&path).there(&path).is_some_and(|meta| changed(&meta)) {
                self.files.push(below.clone());
            }
        }
        Ok(())
    }

    /// Files of the live site that changed since the copy was made, and of which the copy holds another state.
    fn look_at_live_files(&mut self, plan: &RestorePlan) -> Result<(), RestoreError> {
        let Some(contents) = plan.job.contents.as_ref().filter(|_| plan.job.scope.has_files()) else {
            return Ok(());
        };
        let copy = &contents.survey.tree;
        let Some(since) = push::made_at(&**copy) else { return Ok(()) };
        let stays = push::files_that_stay(&plan.definition);
        let selection = plan.selection();
        let live = plan.job.tree.beside(&plan.job.options.target);
        for found in live.walk(live.root()) {
            let Found { path, meta } = match found {
                Ok(found) if found.meta.is_file() => found,
                Ok(_) => continue,
                Err(e) if e.source.kind() == ErrorKind::NotFound => continue,
                // What cannot be looked at might be lost.
                Err(e) => return Err(e.into()),
            };
            let below = path.strip_prefix(live.root()).unwrap_or(&path);
            // The beginning is known to the second.
            let touched = meta.touched().max(meta.nanoseconds());
            let changed = touched >= i128::from(since) * 1_000_000_000;
            if !changed || stays.is_match(below) || selection.decide(below, false) != Decision::Copy {
                continue;
            }
            // What is not in the copy stays; what is the same there is no loss.
            let of_copy = copy.there(&contents.survey.site.join(below));
            let lost = of_copy.is_some_and(|there| !same(&there, &meta));
            if lost && !is_alike(plan, below) {
                self.files.push(below.display().to_string());
            }
        }
        Ok(())
    }
}

fn same(one: &Meta, other: &Meta) -> bool {
    one.size == other.size && one.seconds() == other.seconds()
}

/// Says whether a file holds the same on both sides, but for what is rewritten in it.
fn is_alike(plan: &RestorePlan, below: &Path) -> bool {
    let text = below.display().to_string();
    let path = plan.job.options.target.join(below);
    let live = plan.job.tree.beside(&plan.job.options.target);
    plan.edited(&text).is_some_and(|edited| {
        let limit = edited.len() as u64 + 1;
        crate::tree::read_small(&*live, &path, crate::tree::Links::Follow, limit)
            .is_ok_and(|there| there == edited)
    })
}
