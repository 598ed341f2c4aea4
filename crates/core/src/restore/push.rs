//! What of a copy goes back over the live site that it came from, and what of the live site stays: its settings, its switches, its people, and the
//! rows that have grown there since.

use super::RestoreError;
use super::copy_settings::{PlannedRow, spelled};
use crate::copy_record::Record;
use crate::database::servers;
use crate::dump::inspect::Wanted;
use crate::dump::rules::RowSetting;
use crate::place::DatabaseAccess;
use crate::survey::Survey;
use crate::survey::recognise::version_fits;
use crate::system::Definition;
use crate::system::copy::SetRow;
use crate::system::knowledge::Growing;
use crate::table_scope::{TableScope, means};
use crate::tree::Tree;
use globset::{GlobSet, GlobSetBuilder};
use schemars::JsonSchema;
use serde::Serialize;
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
    (copy, copys): (Option<&DatabaseAccess>, &str),
    tables: &[String],
) -> Vec<Grown> {
    let one = |table: &String| {
        let id = grows(definition, prefix, table)?.id.clone();
        let counted = id.and_then(|id| {
            let of_copy = format!("{copys}{}", table.strip_prefix(prefix)?);
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
    let Some(access) = &live.config.database else { return Ok(Vec::new()) };
    let definition = &live.recognised.definition;
    let version = live.recognised.version.as_deref();
    let places = definition.switch.iter().map(|s| &s.set);
    let places =
        places.chain(definition.identity.iter().map(|i| &i.set)).chain(definition.tls.iter().map(|t| &t.set));
    let places = places.chain(definition.copy_only.iter().map(|c| &c.set));
    let fitting = places.filter(|p| version_fits(version, p.from.as_deref(), p.below.as_deref()));
    let rows: Vec<&SetRow> = fitting.filter_map(|p| p.row.as_ref()).collect();
    let mut out: Vec<PlannedRow> = Vec::new();
    let mut add = |table: &str, column: &str, only: Vec<(String, String)>, value: String, what: &str| {
        let setting = RowSetting {
            table: format!("{prefix}{table}"),
            column: column.into(),
            only,
            value: value.into_bytes(),
            within: Vec::new(),
        };
        if !out.iter().any(|r| r.setting == setting) {
            out.push(PlannedRow { setting, make: false, what: what.into(), optional: true });
        }
    };
    for row in rows.into_iter().filter(|r| !r.table.contains('*')) {
        let columns =
            [vec![row.column.clone()], row.only.iter().map(|o| o.column.clone()).collect()].concat();
        let only = row.only.last().map(|o| (o.column.clone(), o.value.clone()));
        let of = |r: &&Vec<Option<String>>| {
            row.only.iter().zip(&r[1..]).all(|(o, v)| v.as_deref() == Some(&*o.value))
        };
        for found in wanted(access, live, &row.table, columns, only)?.iter().filter(of) {
            let told = row.only.iter().map(|o| (o.column.clone(), o.value.clone())).collect();
            if let Some(value) = found[0].clone() {
                add(&row.table, &row.column, told, value, "stays as the live site has it");
            }
        }
    }
    // Where nothing stands the program goes by its own idea.
    let switches = definition
        .switch
        .iter()
        .filter(|s| version_fits(version, s.set.from.as_deref(), s.set.below.as_deref()));
    for switch in switches {
        let states: Vec<&String> = switch.states.values().collect();
        let (Some(row), &[one, other]) = (&switch.set.row, &states[..]) else { continue };
        let told: Vec<(String, String)> =
            row.only.iter().map(|o| (o.column.clone(), o.value.clone())).collect();
        let (Some(copy), true) = (copy, row.within.is_empty() && !row.table.contains('*')) else { continue };
        let value_in = |site: &Survey| -> Result<Option<String>, RestoreError> {
            let Some(access) = &site.config.database else { return Ok(None) };
            let columns = [vec![row.column.clone()], told.iter().map(|(c, _)| c.clone()).collect()].concat();
            let of = |r: &Vec<Option<String>>| {
                told.iter().zip(&r[1..]).all(|((_, v), there)| there.as_deref() == Some(v))
            };
            let found = wanted(access, site, &row.table, columns, told.last().cloned())?;
            Ok(found.into_iter().find(of).and_then(|r| r[0].clone()))
        };
        let is = |value: &str, state: &str| value.as_bytes() == spelled(row.form, state);
        if let (None, Some(value)) = (value_in(live)?, value_in(copy)?) {
            let back = if is(&value, one) {
                other
            } else if is(&value, other) {
                one
            } else {
                continue;
            };
            let back = String::from_utf8_lossy(&spelled(row.form, back)).into_owned();
            add(&row.table, &row.column, told.clone(), back, "as it is where nothing is set");
        }
    }
    for admin in definition
        .admin
        .iter()
        .filter(|a| !a.bare && version_fits(version, a.from.as_deref(), a.below.as_deref()))
    {
        let columns = vec![admin.id.clone(), admin.email.clone(), admin.password.clone()];
        for found in wanted(access, live, &admin.table, columns, None)? {
            let Some(id) = found[0].clone() else { continue };
            for (column, value) in [(&admin.email, &found[1]), (&admin.password, &found[2])] {
                if let Some(value) = value {
                    add(
                        &admin.table,
                        column,
                        vec![(admin.id.clone(), id.clone())],
                        value.clone(),
                        "stays as the live site has it",
                    );
                }
            }
        }
    }
    Ok(out)
}

/// Reads columns of a table of the live site; of one that is not there nothing.
fn wanted(
    access: &DatabaseAccess,
    live: &Survey,
    table: &str,
    columns: Vec<String>,
    only: Option<(String, String)>,
) -> Result<Vec<Vec<Option<String>>>, RestoreError> {
    let table = format!("{}{table}", live.config.table_prefix);
    if !live.tables.iter().any(|t| t.name == table) {
        return Ok(Vec::new());
    }
    let (_, found) =
        servers::facts(access, &[Wanted { table, columns, only }], false).map_err(RestoreError::Database)?;
    Ok(found.rows.into_iter().next().unwrap_or_default())
}

/// Files of the live site that stay: its config, what the web server and robots read, and files that are switches.
pub(super) fn files_that_stay(definition: &Definition) -> GlobSet {
    let mut all = GlobSetBuilder::new();
    let switches = definition.switch.iter().filter_map(|s| s.set.file.as_ref()).map(|f| f.path.as_str());
    let own = definition
        .config
        .iter()
        .map(|c| c.path.as_str())
        .chain(definition.text.iter().map(|t| t.path.as_str()));
    for path in own.chain(switches).chain([crate::copy_record::NAME]) {
        if let Ok(glob) = globset::GlobBuilder::new(path).literal_separator(true).build() {
            all.add(glob);
        }
    }
    all.build().unwrap_or_else(|_| GlobSet::empty())
}
