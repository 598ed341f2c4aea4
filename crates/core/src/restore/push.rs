//! What of a copy goes back over the live site that it came from, and what of the live site stays: its settings, its switches, its people, and the
//! rows that have grown there since.

use super::RestoreError;
use super::copy_settings::{PlannedRow, spelled};
use crate::copy_record::Record;
use crate::database::servers;
use crate::dump::prefix::PrefixChange;
use crate::dump::rules::RowSetting;
use crate::place::DatabaseAccess;
use crate::survey::recognise::version_fits;
use crate::survey::{Survey, row_values};
use crate::system::copy::{KeyValue, SetPlace, SetRow};
use crate::system::knowledge::Growing;
use crate::system::{Definition, globs};
use crate::table_scope::{TableScope, means};
use crate::tree::Tree;
use globset::GlobSet;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;
use std::path::Path;

/// Rows of a table that grows at the live site.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Grown {
    /// Table of the live site.
    pub table: String,
    /// Rows there that are newer than what the copy has; none where the table has no number that counts up.
    pub newer: Option<u64>,
}

/// Says why a site is not the one that a copy came from.
pub(crate) fn guard(copy: &dyn Tree, live: &Path) -> Result<Record, RestoreError> {
    let wrong = |why: String| RestoreError::NotItsCopy {
        copy: copy.root().to_path_buf(),
        live: live.to_path_buf(),
        why,
    };
    let record = Record::read(copy).ok_or_else(|| wrong("nothing in it says that it is a copy".into()))?;
    let real = |path: &Path| std::fs::canonicalize(path).unwrap_or_else(|_| path.to_path_buf());
    match real(Path::new(&record.source)) == real(live) {
        true => Ok(record),
        false => Err(wrong(format!("it is a copy of {}", record.source))),
    }
}

/// When a copy was made or brought up to date, in seconds since 1970.
pub(super) fn made_at(copy: &dyn Tree) -> Option<i64> {
    let run = Record::read(copy)?.run;
    let stamp = run.get(..14)?;
    let part = |at: std::ops::Range<usize>| stamp.get(at)?.parse::<u8>().ok();
    let date = time::Date::from_calendar_date(
        stamp.get(..4)?.parse().ok()?,
        time::Month::try_from(part(4..6)?).ok()?,
        part(6..8)?,
    );
    let time = time::Time::from_hms(part(8..10)?, part(10..12)?, part(12..14)?).ok()?;
    Some(date.ok()?.with_time(time).assume_utc().unix_timestamp())
}

/// Says whether a table grows at the live site.
pub(super) fn grows<'d>(definition: &'d Definition, prefix: &str, table: &str) -> Option<&'d Growing> {
    let bare = table.strip_prefix(prefix)?;
    definition.growing.iter().find(|g| crate::system::glob(&g.table).is_ok_and(|p| p.is_match(bare)))
}

/// Tables of the live site that stay, because they grow there and nobody named them.
pub(super) fn growing(
    definition: &Definition,
    scope: TableScope<'_>,
    prefix: &str,
    there: &[String],
) -> Vec<String> {
    let named = |table: &str| scope.rows.iter().any(|choice| means(&choice.pattern, prefix, table));
    there.iter().filter(|t| grows(definition, prefix, t).is_some() && !named(t)).cloned().collect()
}

/// Counts what is newer at the live site than in the copy, of tables that grow.
pub(super) fn newer(
    definition: &Definition,
    (live, prefix): (&DatabaseAccess, &str),
    (copy, change): (Option<&DatabaseAccess>, Option<&PrefixChange>),
    tables: &[String],
) -> Vec<Grown> {
    let one = |table: &String| {
        let id = grows(definition, prefix, table)?.id.clone();
        let counted = id.and_then(|id| {
            let of_copy = change.map_or_else(|| table.clone(), |change| change.former(table));
            let (_, last) = servers::count_above(copy?, &of_copy, &id, None).ok()?;
            servers::count_above(live, table, &id, last.as_deref()).ok().map(|(rows, _)| rows)
        });
        Some(Grown { table: table.clone(), newer: counted })
    };
    tables.iter().filter_map(one).collect()
}

/// Rows whose values stay as the live site has them: switches, names, addresses of its office, keys that are its own, accounts of administrators.
/// A switch that was set in the copy and of which the live site has no row goes to its other state.
pub(super) fn rows_that_stay(
    live: &Survey,
    copy: Option<&Survey>,
    prefix: &str,
) -> Result<Vec<PlannedRow>, RestoreError> {
    let definition = &live.recognised.definition;
    let version = live.recognised.version.as_deref();
    let others = definition.identity.iter().map(|i| &i.set).chain(definition.tls.iter().map(|t| &t.set));
    let others = others.chain(definition.copy_only.iter().map(|c| &c.set)).map(|set| (set, None));
    let places = definition.switch.iter().map(|s| (&s.set, Some(&s.states))).chain(others);
    let mut out: Vec<PlannedRow> = Vec::new();
    let mut add = |table: &str, column: &str, only: &[KeyValue], value: String, what: &str| {
        let setting = RowSetting {
            table: format!("{prefix}{table}"),
            column: column.into(),
            only: only.iter().map(|o| (o.column.clone(), o.value.clone())).collect(),
            value: value.into_bytes(),
            within: Vec::new(),
        };
        if !out.iter().any(|r| r.setting == setting) {
            out.push(PlannedRow { setting, make: false, what: what.into(), optional: true });
        }
    };
    let stays = "stays as the live site has it";
    for (place, states) in places {
        let row = match &place.row {
            Some(row) if fits(version, place) && !row.table.contains('*') => row,
            _ => continue,
        };
        let found = values(live, &row.table, &[&row.column], &row.only)?;
        let nothing = found.iter().flatten().all(Option::is_none);
        for value in found.into_iter().flatten().flatten() {
            add(&row.table, &row.column, &row.only, value, stays);
        }
        // Where nothing stands the program goes by its own idea.
        let back = match (states, copy) {
            (Some(states), Some(copy)) if nothing && row.within.is_empty() => other_state(states, row, copy)?,
            _ => None,
        };
        if let Some(value) = back {
            add(&row.table, &row.column, &row.only, value, "as it is where nothing is set");
        }
    }
    let admins = definition.admin.iter().filter(|a| !a.bare);
    for admin in admins.filter(|a| version_fits(version, a.from.as_deref(), a.below.as_deref())) {
        let columns = [admin.id.as_str(), &admin.email, &admin.password];
        for account in values(live, &admin.table, &columns, &[])? {
            let Some(id) = account[0].clone() else { continue };
            let told = [KeyValue { column: admin.id.clone(), value: id }];
            for (column, value) in columns.into_iter().zip(account).skip(1) {
                value.into_iter().for_each(|value| add(&admin.table, column, &told, value, stays));
            }
        }
    }
    Ok(out)
}

fn fits(version: Option<&str>, place: &SetPlace) -> bool {
    version_fits(version, place.from.as_deref(), place.below.as_deref())
}

/// The state, as it is spelled in its row, that a switch of two states has where the copy's was not set; nothing if the copy has no row of it, or
/// one that says something else.
fn other_state(
    states: &BTreeMap<String, String>,
    row: &SetRow,
    copy: &Survey,
) -> Result<Option<String>, RestoreError> {
    let spelled = |state: &String| String::from_utf8_lossy(&spelled(row.form, state)).into_owned();
    let states: Vec<String> = states.values().map(spelled).collect();
    let set = values(copy, &row.table, &[&row.column], &row.only)?.into_iter().flatten().next().flatten();
    Ok(match (&states[..], set) {
        ([one, other], Some(value)) if value == *one => Some(other.clone()),
        ([one, other], Some(value)) if value == *other => Some(one.clone()),
        _ => None,
    })
}

/// Reads columns of the rows of a site that all of `only` tell; of a table that is not there nothing.
fn values(
    site: &Survey,
    table: &str,
    columns: &[&str],
    only: &[KeyValue],
) -> Result<Vec<Vec<Option<String>>>, RestoreError> {
    let table = format!("{}{table}", site.config.table_prefix);
    match &site.config.database {
        Some(access) if site.tables.iter().any(|t| t.name == table) => {
            row_values(access, table, columns, only).map_err(RestoreError::Database)
        }
        _ => Ok(Vec::new()),
    }
}

/// Files of the live site that stay: its config, what the web server and robots read, and files that are switches.
pub(super) fn files_that_stay(definition: &Definition) -> GlobSet {
    let switches = definition.switch.iter().filter_map(|s| s.set.file.as_ref()).map(|f| f.path.as_str());
    let config = definition.config.iter().map(|c| c.path.as_str());
    let text = definition.text.iter().map(|t| t.path.as_str());
    globs(config.chain(text).chain(switches).chain([crate::copy_record::NAME]))
}
