//! Tables that need not be carried again when a copy is brought up to date: at the source and in the copy they are as they were when they were carried
//! last, by the servers' own checksums and by how they are made. Of others that are made as they were only the rows change that differ
//! (`row_by_row`), where rows can be told apart. Anything else comes whole.

use super::plan::RestorePlan;
use crate::contents::SiteContents;
use crate::copy_record::{Fingerprint, Record};
use crate::database::load::plain_name;
use crate::database::servers;
use crate::database::stream::{fingerprint, full_names, print_and_shape};
use crate::dump::prefix::PrefixChange;
use crate::place::DatabaseAccess;
use crate::system::Definition;
use std::collections::{BTreeMap, BTreeSet};

/// By whom, and by which definition, rows were rewritten: another one might do it otherwise.
fn rewritten_by(contents: &SiteContents, definition: &Definition) -> String {
    let text = serde_json::to_vec(definition).unwrap_or_default();
    format!("{} {}", contents.head.written_by, blake3::hash(&text).to_hex())
}

/// The name of a table of the source in the copy.
pub(super) fn name_in_copy(table: &str, prefix: Option<&PrefixChange>) -> String {
    let plain = plain_name(table);
    prefix.map_or_else(|| plain.to_string(), |change| change.renamed(plain))
}

/// How tables stand that were carried before: names at the source and in the copy.
#[derive(Debug, Default)]
pub(super) struct Standing {
    /// Those that are what they were, on both sides.
    pub(super) unchanged: Vec<(String, String)>,
    /// Those that are made as they were, on both sides, and hold other rows.
    pub(super) changed: Vec<(String, String)>,
    /// What tells the rows of the copy now, by its names.
    pub(super) copy: BTreeMap<String, u64>,
}

/// Looks how tables stand that were carried before.
pub(super) fn standing(
    record: &Record,
    contents: &SiteContents,
    access: &DatabaseAccess,
    definition: &Definition,
    prefix: Option<&PrefixChange>,
    there: &BTreeSet<String>,
) -> Standing {
    let (known, mut out) = (&record.fingerprints, Standing::default());
    if known.is_empty() || record.rewritten_by != rewritten_by(contents, definition) {
        return out;
    }
    let wanted = known.keys().map(|table| (table, name_in_copy(table, prefix)));
    let wanted: Vec<_> = wanted.filter(|(_, here)| there.contains(here)).collect();
    for (table, here, now) in both(contents, access, &wanted, Asked::Servers) {
        let then = &known[table];
        out.copy.insert(here.clone(), now.copy);
        if now == *then {
            out.unchanged.push((table.clone(), here));
        } else if now.shape == then.shape && now.copy_shape == then.copy_shape {
            out.changed.push((table.clone(), here));
        }
    }
    out
}

/// Checksum of a table's rows, and the statement that makes it, if a server tells.
type Told = Option<(u64, Vec<u8>)>;

/// Who tells what a table's rows are.
#[derive(Clone, Copy)]
enum Asked {
    /// Servers that have checksums.
    Servers,
    /// The rows themselves, where a server has none.
    Rows,
}

/// Asks for the fingerprints of tables at the source and in the copy, of both at a time. What nobody can tell is left out.
fn both<'t>(
    contents: &SiteContents,
    access: &DatabaseAccess,
    tables: &[(&'t String, String)],
    by: Asked,
) -> Vec<(&'t String, String, Fingerprint)> {
    let in_copy = || -> Option<Vec<Told>> {
        let mut copy = servers::snapshot(access).ok()?;
        let full = full_names(&mut *copy).ok()?;
        let ask = |here: &String| match by {
            Asked::Servers => fingerprint(&mut *copy, here).ok().flatten(),
            Asked::Rows => print_and_shape(&mut *copy, full.get(here).unwrap_or(here)).ok(),
        };
        Some(tables.iter().map(|(_, here)| here).map(ask).collect())
    };
    let (source, copy) = std::thread::scope(|scope| {
        // Two servers, or two cores of one.
        let asked = crate::threads::start_in(scope, in_copy);
        let ask = |table: &String| match by {
            Asked::Servers => contents.live()?.fingerprint(table),
            Asked::Rows => contents.live()?.print(table).ok().flatten(),
        };
        let source: Vec<_> = tables.iter().map(|(table, _)| ask(table)).collect();
        (source, asked.ok().and_then(|asked| asked.join().ok().flatten()).unwrap_or_default())
    });
    let all = tables.iter().zip(source).zip(copy);
    all.filter_map(|(((table, here), source), copy)| {
        let ((source, made), (copy, made_in_copy)) = (source?, copy?);
        let (shape, copy_shape) = (shape(&made), shape(&made_in_copy));
        Some((*table, here.clone(), Fingerprint { source, copy, shape, copy_shape }))
    })
    .collect()
}

/// A hash of how a table is made.
fn shape(made: &[u8]) -> String {
    // The next number is no part of it.
    let text = String::from_utf8_lossy(made).into_owned();
    let mut words: Vec<&str> = text.split_whitespace().collect();
    words.retain(|word| !word.starts_with("AUTO_INCREMENT="));
    blake3::hash(words.join(" ").as_bytes()).to_hex().to_string()
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
        let compared = plan.tables.row_by_row.iter().any(|r| r.table == *table);
        if plan.tables.left.contains(plain_name(table)) && !compared {
            out.extend(before.and_then(|r| Some((table.clone(), r.fingerprints.get(table)?.clone()))));
        } else if compared || plan.keeps(table) == crate::dump::rules::Keep::All {
            carried.push((table, name_in_copy(table, plan.prefix.as_ref())));
        }
    }
    for (table, _, fingerprint) in both(contents, access, &carried, Asked::Rows) {
        out.insert(table.clone(), fingerprint);
    }
    (out, rewritten_by(contents, &plan.definition))
}
