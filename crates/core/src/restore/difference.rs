//! Tables that need not be carried again when a copy is brought up to date: at the source and in the copy they are as they were when they were carried
//! last, by the servers' own checksums and by how they are made. Anything else comes whole.

use super::plan::RestorePlan;
use crate::contents::SiteContents;
use crate::copy_record::{Fingerprint, Record};
use crate::database::load::plain_name;
use crate::database::servers;
use crate::dump::prefix::PrefixChange;
use crate::place::DatabaseAccess;
use crate::system::Definition;
use std::collections::{BTreeMap, BTreeSet};

/// By whom, and by which definition, rows were rewritten: another one might do it otherwise.
fn rewritten_by(contents: &SiteContents, definition: &Definition) -> String {
    let text = serde_json::to_vec(definition).unwrap_or_default();
    format!("{} {}", contents.head.written_by, blake3::hash(&text).to_hex())
}

fn name_in_copy(table: &str, prefix: Option<&PrefixChange>) -> String {
    let plain = plain_name(table);
    prefix.map_or_else(|| plain.to_string(), |change| change.renamed(plain))
}

/// Returns the tables that are at the source what they were, and in the copy as well: names at the source and in the copy.
pub(super) fn unchanged(
    record: &Record,
    contents: &SiteContents,
    access: &DatabaseAccess,
    definition: &Definition,
    prefix: Option<&PrefixChange>,
    there: &BTreeSet<String>,
) -> Vec<(String, String)> {
    let known = &record.fingerprints;
    if known.is_empty() || record.rewritten_by != rewritten_by(contents, definition) {
        return Vec::new();
    }
    let wanted = known.keys().map(|table| (table, name_in_copy(table, prefix)));
    let wanted: Vec<_> = wanted.filter(|(_, here)| there.contains(here)).collect();
    let at_source = |table: &String| contents.fingerprint(table);
    let same = both(access, &wanted, &at_source).into_iter().filter(|(table, _, now, copy)| {
        let then = &known[*table];
        *now == (then.source, then.shape.clone()) && *copy == then.copy
    });
    same.map(|(table, here, ..)| (table.clone(), here)).collect()
}

/// What a table is like at the source: checksum of its rows, and hash of how it is made.
type AtSource = (u64, String);

/// Asks for the fingerprints of tables at the source and in the copy, of both at a time. What nobody can tell is left out.
fn both<'t>(
    access: &DatabaseAccess,
    tables: &[(&'t String, String)],
    at_source: &(dyn Fn(&String) -> Option<AtSource> + Sync),
) -> Vec<(&'t String, String, AtSource, u64)> {
    let in_copy = || -> Option<Vec<Option<u64>>> {
        let mut copy = servers::snapshot(access).ok()?;
        Some(tables.iter().map(|(_, here)| copy.checksum(here).ok().flatten()).collect())
    };
    let (source, copy) = std::thread::scope(|scope| {
        // Two servers, or two cores of one.
        let asked = crate::threads::start_in(scope, in_copy);
        let source: Vec<Option<AtSource>> = tables.iter().map(|(table, _)| at_source(table)).collect();
        (source, asked.ok().and_then(|asked| asked.join().ok().flatten()).unwrap_or_default())
    });
    let all = tables.iter().zip(source).zip(copy);
    all.filter_map(|(((table, here), source), copy)| Some((*table, here.clone(), source?, copy?))).collect()
}

/// Takes the fingerprints of what was carried, in the view in which it was read. Those of tables that stayed are as they were.
pub(super) fn fingerprints(
    plan: &RestorePlan,
    before: Option<&Record>,
) -> (BTreeMap<String, Fingerprint>, String) {
    let former = || before.map(|r| (r.fingerprints.clone(), r.rewritten_by.clone())).unwrap_or_default();
    let (Some(contents), Some(access), true) = (&plan.job.contents, &plan.job.database, plan.loads()) else {
        return former();
    };
    if !contents.is_live() || plan.job.options.dump_to.is_some() {
        return former();
    }
    let mut out = BTreeMap::new();
    let tables = contents.tables();
    let mut carried = Vec::new();
    for table in &tables {
        if plan.tables.left.contains(plain_name(table)) {
            out.extend(before.and_then(|r| Some((table.clone(), r.fingerprints.get(table)?.clone()))));
        } else if plan.keeps(table) == crate::dump::rules::Keep::All {
            carried.push((table, name_in_copy(table, plan.prefix.as_ref())));
        }
    }
    let at_source = |table: &String| contents.fingerprint(table);
    for (table, _, (source, shape), copy) in both(access, &carried, &at_source) {
        out.insert(table.clone(), Fingerprint { source, copy, shape });
    }
    (out, rewritten_by(contents, &plan.definition))
}
