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
    let Ok(mut copy) = servers::snapshot(access) else { return Vec::new() };
    let same = |(table, then): (&String, &Fingerprint)| {
        let here = name_in_copy(table, prefix);
        let now = contents.fingerprint(table).filter(|_| there.contains(&here))?;
        // What nobody can tell comes whole.
        let at_source = now == (then.source, then.shape.clone());
        (at_source && copy.checksum(&here).ok()? == Some(then.copy)).then(|| (table.clone(), here))
    };
    known.iter().filter_map(same).collect()
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
    let Ok(mut copy) = servers::snapshot(access) else { return (BTreeMap::new(), String::new()) };
    let mut out = BTreeMap::new();
    for table in contents.tables() {
        if plan.tables.left.contains(plain_name(&table)) {
            out.extend(before.and_then(|r| Some((table.clone(), r.fingerprints.get(&table)?.clone()))));
            continue;
        }
        if plan.keeps(&table) != crate::dump::rules::Keep::All {
            continue;
        }
        let here = name_in_copy(&table, plan.prefix.as_ref());
        let (Some((source, shape)), Ok(Some(copy))) = (contents.fingerprint(&table), copy.checksum(&here))
        else {
            continue;
        };
        out.insert(table, Fingerprint { source, copy, shape });
    }
    (out, rewritten_by(contents, &plan.definition))
}
