//! What becomes of the tables that are in the target's database: which make room, which stay, and under which names others are loaded until they
//! take their places.

use super::guards::{carried_tables, guard_database, in_source_database};
use super::job::RestoreJob;
use super::push::Grown;
use super::row_by_row::RowByRow;
use super::source::{ArchiveKind, Source};
use super::{RestoreError, in_place, push};
use crate::database::load::plain_name;
use crate::database::loading::AsideName;
use crate::dump::prefix::PrefixChange;
use crate::event::Findings;
use crate::survey::recognise::ConfigFacts;
use crate::system::{Definition, table_rule};
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

/// What is known of the tables that come.
pub(super) struct SiteTables<'s> {
    pub(super) definition: &'s Definition,
    pub(super) facts: &'s ConfigFacts,
    pub(super) prefix: Option<&'s PrefixChange>,
}

/// The tables of the target's database, before anything comes into it.
#[derive(Debug, Default)]
pub struct TargetTables {
    /// Tables that make room, and are kept.
    pub replaced: BTreeSet<String>,
    /// Tables that are not this site's, and stay.
    pub others: Vec<String>,
    /// Under which names tables are loaded that take the place of others in the end.
    pub beside: Vec<AsideName>,
    /// Tables that grow at the live site and stay, with what is newer there, of a copy that is pushed back.
    pub grown: Vec<Grown>,
    /// Tables that are as they were when they were carried last, and stay.
    pub unchanged: u64,
    /// Tables of which only those rows are changed that differ.
    pub row_by_row: Vec<RowByRow>,
    /// What tells the rows of tables that were looked at already.
    pub(super) prints: BTreeMap<String, u64>,
    /// Tables of the site that stay as they are, by their names at the source.
    pub(super) left: BTreeSet<String>,
    /// Prefix of the site's own tables, of a copy that lies beside them in their database: nothing else is copied.
    pub(super) beside_tables_of: Option<String>,
    /// Where a database that is a file is made before it takes its place.
    pub(super) beside_file: Option<PathBuf>,
}

impl TargetTables {
    /// Looks at the database, and refuses what may not be touched. `tables` are those of a dump beside the archive.
    pub(super) fn of(
        job: &RestoreJob,
        source: &Source,
        tables: BTreeSet<String>,
        site: &SiteTables<'_>,
        findings: &mut Findings<'_>,
    ) -> Result<Self, RestoreError> {
        let SiteTables { definition, facts, prefix } = site;
        let there = guard_database(job, &facts.table_prefix, *prefix)?;
        let mut carried = match there.is_empty() {
            true => BTreeSet::new(),
            false => carried_tables(job, source, tables, definition, facts, *prefix),
        };
        let beside_tables_of = prefix.filter(|_| in_source_database(job));
        if let Some(change) = beside_tables_of {
            carried.retain(|table| table.starts_with(&change.new));
        }
        let (replaced, others): (Vec<String>, Vec<String>) =
            there.into_iter().partition(|t| carried.contains(t));
        let beside_tables_of = beside_tables_of.map(|change| change.old.clone());
        let replaced = replaced.into_iter().collect();
        let mut out = TargetTables { replaced, others, beside_tables_of, ..TargetTables::default() };
        out.leave_grown(job, site, &mut carried);
        if job.comes_back() {
            out.come_back(job, source, site, &carried, findings)?;
        }
        Ok(out)
    }

    /// Leaves what grows at a live site.
    fn leave_grown(&mut self, job: &RestoreJob, site: &SiteTables<'_>, carried: &mut BTreeSet<String>) {
        let (Some(_), Some(access)) = (&job.live, &job.database) else { return };
        let SiteTables { definition, facts, prefix } = site;
        let own = prefix.map_or(&facts.table_prefix, |change| &change.new);
        let there: Vec<String> = self.replaced.iter().cloned().collect();
        let stays = push::growing(definition, job.tables(), own, &there);
        let copys = job.contents.as_ref().and_then(|c| c.survey.config.database.as_ref());
        self.grown = push::newer(definition, (access, own), (copys, *prefix), &stays);
        for table in stays {
            self.replaced.remove(&table);
            carried.remove(&table);
            self.left.insert(prefix.map_or_else(|| table.clone(), |change| change.former(&table)));
        }
    }

    /// Decides how tables come to a site that is there.
    fn come_back(
        &mut self,
        job: &RestoreJob,
        source: &Source,
        site: &SiteTables<'_>,
        carried: &BTreeSet<String>,
        findings: &mut Findings<'_>,
    ) -> Result<(), RestoreError> {
        let Some(access) = &job.database else { return Ok(()) };
        if let (ArchiveKind::Ours(head), None) = (&source.kind, &job.live) {
            let emptied = in_place::emptied(head);
            self.leave(|table| emptied.contains(table));
        }
        if access.engine.facts().is_file {
            self.beside_file = Some(in_place::beside(Path::new(&access.name)));
        } else if in_place::exchanges(access)? {
            self.beside = in_place::names(carried.difference(&self.left));
        } else if !self.replaced.is_empty() {
            // Of what a copy can do without an archive holds no rows, as a rule: here it stays.
            let SiteTables { definition, facts, .. } = site;
            let rule = |table: &str| table_rule(definition, &facts.table_prefix, table);
            self.leave(|table| rule(table).is_some_and(|r| r.safe && !r.cache));
            findings.push(in_place::no_exchange(access));
        }
        Ok(())
    }

    /// Leaves tables that would have made room. Their names are the same at the source.
    fn leave(&mut self, stays: impl Fn(&str) -> bool) {
        let (left, replaced) = std::mem::take(&mut self.replaced).into_iter().partition(|t| stays(t));
        let left: BTreeSet<String> = left;
        self.replaced = replaced;
        self.left.extend(left);
    }

    /// Leaves tables whose rows are compared one by one.
    pub(super) fn compare(&mut self, tables: Vec<RowByRow>) {
        for table in &tables {
            self.replaced.remove(&table.here);
            self.left.insert(plain_name(&table.table).to_string());
        }
        self.row_by_row = tables;
    }

    /// Leaves tables that are what they were, by their names at the source and here.
    pub(super) fn leave_unchanged(&mut self, same: impl Iterator<Item = (String, String)>) {
        for (table, here) in same {
            self.replaced.remove(&here);
            self.unchanged += 1;
            self.left.insert(plain_name(&table).to_string());
        }
    }
}
