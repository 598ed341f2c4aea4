//! The server and its rows: does it answer, do the tables carry the prefix, are they sound, and do they name what is there?

use super::{Diagnoses, Sureness};
use crate::database::servers;
use crate::finding::{Code, Finding};
use crate::place::Address;
use crate::survey::recognise::version_fits;
use crate::survey::{Survey, TableSource, row_values};
use crate::system::schema::Role;
use std::collections::BTreeMap;

/// Whether the server answers to what the config says.
pub fn server(survey: &Survey, out: &mut Diagnoses) {
    let Some(access) = &survey.config.database else {
        let what = "the config names no database";
        let cure = format!("zporter settle {} --database URL", survey.site.display());
        return out.add(Sureness::Certain, Finding::new(Code::NoDatabase, what, "", cure));
    };
    if matches!(survey.tables_from, TableSource::Dump(_)) {
        return match servers::trial(access) {
            Ok(trial) => out.saw("server", format!("{} answers", trial.server)),
            Err(e) => {
                let cure = format!("zporter settle {} --database URL", survey.site.display());
                out.add(
                    Sureness::Likely,
                    Finding::new(Code::DatabaseRefused, e.to_string(), access.url(), cure),
                );
            }
        };
    }
    if let TableSource::None(why) = &survey.tables_from {
        let cure = format!(
            "look whether server, user and password are right: zporter database try {}; then zporter settle {} --database URL",
            survey.site.display(),
            survey.site.display()
        );
        out.add(Sureness::Certain, Finding::new(Code::DatabaseRefused, why.clone(), access.url(), cure));
    }
}

/// Whether the prefix names tables, and which one would.
pub fn prefix(survey: &Survey, out: &mut Diagnoses) {
    if survey.tables.is_empty() {
        if matches!(survey.tables_from, TableSource::None(_)) {
            return out.saw("table prefix", "nobody could look: the database was not read");
        }
        let what = "the database holds no table";
        let cure = "load the dump: zporter database load DUMP SITE";
        return out.add(Sureness::Certain, Finding::new(Code::PrefixFitsNothing, what, "", cure));
    }
    let own = &survey.config.table_prefix;
    let known = known_tables(survey);
    let has = |prefix: &str| {
        known.iter().filter(|k| survey.tables.iter().any(|t| t.name == format!("{prefix}{k}"))).count()
    };
    let found = has(own);
    let mut others: BTreeMap<String, usize> = BTreeMap::new();
    for table in &survey.tables {
        for prefix in known.iter().filter_map(|k| table.name.strip_suffix(k.as_str())) {
            *others.entry(prefix.to_string()).or_default() += 1;
        }
    }
    let best = others.into_iter().max_by_key(|(_, n)| *n);
    if let (0, false) = (found, known.is_empty()) {
        let other = best.filter(|(_, n)| *n > 1);
        let more = other
            .as_ref()
            .map(|(p, n)| format!("; {n} tables of the system begin with {p:?}"))
            .unwrap_or_default();
        let what = format!("no table of the system begins with the prefix {own:?} of the config{more}");
        let cure = match other {
            Some((prefix, _)) => format!("set the prefix in the config to {prefix}"),
            None => "look whether the config names the right database".into(),
        };
        let place = survey.config.files.first().cloned().unwrap_or_default();
        out.add(Sureness::Certain, Finding::new(Code::PrefixFitsNothing, what, place, cure));
    }
}

/// Tables of which the definition speaks by their whole names.
fn known_tables(survey: &Survey) -> Vec<String> {
    let d = &survey.recognised.definition;
    let mut names: Vec<String> = d.cell.iter().map(|c| c.table.clone()).collect();
    names.extend(d.address.iter().map(|a| a.table.clone()));
    names.extend(d.needed.iter().map(|n| n.table.clone()));
    names.extend(d.admin.iter().map(|a| a.table.clone()));
    names.extend(d.identity.iter().filter_map(|i| Some(i.set.row.as_ref()?.table.clone())));
    names.retain(|name| !name.contains('*') && !name.is_empty());
    names.sort();
    names.dedup();
    names
}

/// Tables that the server itself calls damaged.
pub fn damage(survey: &Survey, out: &mut Diagnoses) {
    let Some(access) = survey.config.database.as_ref().filter(|_| !survey.tables.is_empty()) else {
        return out.saw("damaged tables", "nobody could look: the database was not read");
    };
    match servers::damaged(access) {
        Ok(damaged) => {
            for (table, why) in damaged {
                let cure =
                    format!("ask an admin to run REPAIR TABLE {table}; or bring it back from an archive");
                out.add(Sureness::Certain, Finding::new(Code::TableDamaged, why, table, cure));
            }
        }
        Err(e) => out.saw("damaged tables", format!("nobody could look: {e}")),
    }
}

/// Folders and files that rows name and that are not there: themes, templates.
pub fn needed(survey: &Survey, out: &mut Diagnoses) {
    let d = &survey.recognised.definition;
    let Some(access) = survey.config.database.as_ref().filter(|_| !survey.tables.is_empty()) else {
        return out.saw("themes and templates", "nobody could look: the database was not read");
    };
    if d.needed.is_empty() {
        return out.saw("themes and templates", "the definition does not say where rows name them");
    }
    let version = survey.recognised.version.as_deref();
    for needed in d.needed.iter().filter(|n| version_fits(version, n.from.as_deref(), n.below.as_deref())) {
        let table = format!("{}{}", survey.config.table_prefix, needed.table);
        if !survey.tables.iter().any(|t| t.name == table) {
            continue;
        }
        let values = match row_values(access, table.clone(), &[&needed.column], &needed.only) {
            Ok(values) => values,
            Err(e) => return out.saw("themes and templates", format!("nobody could look: {e}")),
        };
        for value in values.into_iter().flatten().flatten().filter(|v| !v.is_empty()) {
            let path = needed.path.replace("{}", &value);
            if !survey.tree.exists(&survey.site.join(&path)) {
                let what = format!(
                    "{table}.{} names {} {value:?}, and {path} is not there",
                    needed.column, needed.about
                );
                let cure = format!("bring it back: zporter restore ARCHIVE --in-place --only {path}");
                out.add(Sureness::Certain, Finding::new(Code::FolderMissing, what, path, cure));
            }
        }
    }
}

/// Whether config and rows tell the same address.
pub fn address(survey: &Survey, out: &mut Diagnoses) {
    let Some(address) = survey.base_address() else {
        let what = "nothing says which address the site has";
        let cure = format!("zporter settle {} --address URL", survey.site.display());
        return out.add(Sureness::Possible, Finding::new(Code::AddressUnknown, what, "", cure));
    };
    for value in survey.config.values.iter().filter(|v| v.role == Role::Address) {
        let Some(told) = value.value.as_deref().and_then(|v| Address::parse(v).ok()) else { continue };
        if told.host() != address.host() || told.base() != address.base() {
            let what = format!("`{}` is {told}, and the site's address is {address}", value.key);
            let place = format!("{}, line {}", value.file, value.line);
            let cure = format!("zporter settle {} --address URL", survey.site.display());
            out.add(Sureness::Likely, Finding::new(Code::ConfigOtherAddress, what, place, cure));
        }
    }
    out.saw("address", format!("{address}, by {}", survey.address.learned_from));
}
