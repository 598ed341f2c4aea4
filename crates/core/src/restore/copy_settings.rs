//! What a restore planned into a copy beside what it moves: switches, the site's name and office, a way in for the administrator.
//!
//! The definition says where each value stands ([`crate::system::copy::SetPlace`]); here it becomes config keys, rows and files of a plan.

use super::RestoreError;
use super::job::RestoreJob;
use crate::config::definition::Role;
use crate::dump::inspect::Wanted;
use crate::dump::rules::RowSetting;
use crate::finding::{Code, Finding};
use crate::options::values::SwitchChoice;
use crate::password::{self, HashError};
use crate::place::Scheme;
use crate::secret::Secret;
use crate::survey::recognise::{ConfigFacts, ConfigValue, version_fits};
use crate::system::Definition;
use crate::system::copy::{Admin, IdentityName, KeyValue, SetForm, SetPlace, SetRow};
use std::collections::BTreeSet;
use std::path::Path;

/// A config key to be put, and what for.
#[derive(Debug, Clone)]
pub struct PlannedKey {
    /// Key.
    pub key: String,
    /// Value.
    pub value: String,
    /// Key behind which it is put where there is none yet.
    pub beside: Option<String>,
    /// What it does, for people.
    pub what: String,
    /// Whether nothing is missing where there is no such key.
    pub optional: bool,
}

/// A row to be put, and what for.
#[derive(Debug, Clone)]
pub struct PlannedRow {
    /// The row.
    pub setting: RowSetting,
    /// Whether it may be made where it is missing.
    pub make: bool,
    /// What it does, for people.
    pub what: String,
    /// Whether nothing is missing where there is no such row.
    pub optional: bool,
}

/// A file to be written or removed, and what for.
#[derive(Debug, Clone)]
pub struct PlannedFile {
    /// Path under the site.
    pub path: String,
    /// Content; nothing where the file goes.
    pub content: Option<String>,
    /// What it does, for people.
    pub what: String,
}

/// What will be put.
#[derive(Debug, Clone, Default)]
pub struct PlannedSettings {
    /// Config keys.
    pub config: Vec<PlannedKey>,
    /// Rows.
    pub rows: Vec<PlannedRow>,
    /// Files.
    pub files: Vec<PlannedFile>,
    /// What could not be done.
    pub findings: Vec<Finding>,
}

/// What is known of the site at hand.
pub struct Site<'a> {
    /// Its definition.
    pub definition: &'a Definition,
    /// Version of its system.
    pub version: Option<&'a str>,
    /// Table prefix.
    pub prefix: &'a str,
    /// Its first secret.
    pub secret: Option<&'a Secret>,
    /// Scheme of its new address, where that is another one.
    pub new_scheme: Option<Scheme>,
}

/// Where a version has the administrator's account.
fn admin_of<'d>(definition: &'d Definition, version: Option<&str>) -> Option<&'d Admin> {
    definition.admin.iter().find(|a| version_fits(version, a.from.as_deref(), a.below.as_deref()))
}

/// Finds the number of the administrator's account, by a reader of rows. Of several the lowest counts.
pub(super) fn find_admin(
    definition: &Definition,
    version: Option<&str>,
    prefix: &str,
    read: &mut dyn FnMut(Wanted) -> Result<Vec<Vec<Option<String>>>, RestoreError>,
) -> Result<Option<String>, RestoreError> {
    let Some(admin) = admin_of(definition, version) else { return Ok(None) };
    let bare = |table: &str| format!("{}{table}", if admin.bare { "" } else { prefix });
    let (table, id, only, lowest) = match &admin.named_by {
        Some(by) => (format!("{prefix}{}", by.table), &by.id, Some(&by.only), by.lowest.as_ref()),
        None => (bare(&admin.table), &admin.id, admin.only.as_ref(), None),
    };
    let mut columns = vec![id.clone(), lowest.unwrap_or(id).clone()];
    columns.extend(only.map(|o| o.column.clone()));
    let only = only.map(|o| (o.column.clone(), o.value.clone()));
    let rows = read(Wanted { table, columns, only })?;
    let number =
        |row: &&Vec<Option<String>>| row[1].as_ref().and_then(|n| n.parse::<u64>().ok()).unwrap_or(u64::MAX);
    let mut known = rows.iter().min_by_key(number).and_then(|row| row[0].clone());
    for crossing in &admin.by_way_of {
        let Some(value) = known.take() else { break };
        let value = if crossing.lowered { value.to_lowercase() } else { value };
        let wanted = Wanted {
            table: bare(&crossing.table),
            columns: vec![crossing.to.clone(), crossing.from.clone()],
            only: Some((crossing.from.clone(), value)),
        };
        known = read(wanted)?.into_iter().find_map(|mut row| row.swap_remove(0));
    }
    Ok(known)
}

/// Plans what is asked for. `admin` is the number of the administrator's account.
pub fn plan(job: &RestoreJob, site: &Site<'_>, admin: Option<&str>) -> Result<PlannedSettings, RestoreError> {
    let mut planned = PlannedSettings::default();
    for SwitchChoice { name, state } in &job.options.set {
        let word = name.word();
        let known: Vec<_> = site.definition.switch.iter().filter(|s| s.name == *name).collect();
        let fitting: Vec<_> = known.iter().filter(|s| fits(&s.set, site)).collect();
        if fitting.is_empty() {
            let why =
                if known.is_empty() { "has no such switch" } else { "has no such switch in this version" };
            planned.findings.push(Finding::new(
                Code::SwitchUnknown,
                format!("{word}={state} was not set: {} {why}", site.definition.name),
                "",
                "set it by hand if you need it",
            ));
            continue;
        }
        // A place that has no such state is left where others have it.
        let values: Vec<_> = fitting.iter().filter_map(|s| Some((&s.set, s.states.get(state)?))).collect();
        if values.is_empty() {
            let states: BTreeSet<&str> =
                fitting.iter().flat_map(|s| s.states.keys().map(String::as_str)).collect();
            return Err(RestoreError::Switch {
                name: word.to_string(),
                state: state.clone(),
                states: states.into_iter().collect::<Vec<_>>().join(", "),
            });
        }
        for (place, value) in values {
            let rows = planned.rows.len();
            planned.set(place, value, format!("{word}={state}"), site);
            planned.in_every_site(rows, site);
        }
    }
    if let Some(scheme) = site.new_scheme {
        planned.tls(scheme, site);
    }
    planned.identity(IdentityName::SiteName, job.options.site_name.as_deref(), "site name", site);
    planned.identity(
        IdentityName::SiteEmail,
        job.options.admin_email.as_deref(),
        "address of the office",
        site,
    );
    if job.changes_admin() {
        planned.admin(job, site, admin)?;
    }
    Ok(planned)
}

fn fits(place: &SetPlace, site: &Site<'_>) -> bool {
    version_fits(site.version, place.from.as_deref(), place.below.as_deref())
}

impl PlannedSettings {
    /// Says whether a file under the site is one that is put.
    pub(super) fn holds_file(&self, below: &Path) -> bool {
        self.files.iter().any(|f| Path::new(&f.path) == below)
    }

    /// Lets the system's own switches for TLS follow the address: with the old ones it would send its visitors to the scheme that is not
    /// there, or keep its cookies from them.
    fn tls(&mut self, scheme: Scheme, site: &Site<'_>) {
        let (keys, rows) = (self.config.len(), self.rows.len());
        for switch in site.definition.tls.iter().filter(|t| fits(&t.set, site)) {
            let (word, value) = match scheme {
                Scheme::Http => ("off", &switch.http),
                Scheme::Https => ("on", &switch.https),
            };
            if let Some(value) = value {
                self.set(&switch.set, value, format!("TLS {word}, as the new address has it"), site);
            }
        }
        self.config[keys..].iter_mut().for_each(|k| k.optional = true);
        self.rows[rows..].iter_mut().for_each(|r| r.optional = true);
    }

    /// Lets the row that was set behind `before` others hold for the further sites of a network as well, where there are such.
    fn in_every_site(&mut self, before: usize, site: &Site<'_>) {
        if let (true, Some(last)) = (site.definition.network, self.rows.get(before)) {
            let bare = last.setting.table.strip_prefix(site.prefix).unwrap_or(&last.setting.table);
            let setting = RowSetting { table: format!("{}*_{bare}", site.prefix), ..last.setting.clone() };
            let what = format!("{}, in further sites", last.what);
            self.rows.push(PlannedRow { setting, make: false, what, optional: true });
        }
    }

    /// Gives the whole path to what names the folder outside of the site by a path from the document root: from the new one another
    /// folder would be meant.
    pub(super) fn name_folder(&mut self, named: &str, new: &Path, facts: &ConfigFacts, site: &Site<'_>) {
        let new = new.display().to_string();
        let what = "folder outside of the site".to_string();
        let of_config = |v: &&ConfigValue| v.role == Role::Storage && v.value.as_deref() == Some(named);
        for value in facts.values.iter().filter(of_config) {
            let (key, value, what) = (value.key.clone(), new.clone(), what.clone());
            self.config.push(PlannedKey { key, value, beside: None, what, optional: true });
        }
        for rule in site.definition.row_folder.iter().filter(|r| r.pair.is_none()) {
            let old = String::from_utf8_lossy(&spelled(rule.form, named)).into_owned();
            let told = [(rule.only.column.clone(), rule.only.value.clone()), (rule.column.clone(), old)];
            let setting = RowSetting {
                table: format!("{}{}", site.prefix, rule.table),
                column: rule.column.clone(),
                only: told.to_vec(),
                value: spelled(rule.form, &new),
                within: Vec::new(),
            };
            self.rows.push(PlannedRow { setting, make: false, what: what.clone(), optional: true });
        }
    }

    fn set(&mut self, put: &SetPlace, value: &str, what: String, site: &Site<'_>) {
        if let Some(key) = &put.config {
            self.config.push(PlannedKey {
                key: key.clone(),
                value: value.to_string(),
                beside: put.beside.clone(),
                what: what.clone(),
                optional: put.optional,
            });
        }
        if let Some(row) = &put.row {
            let make = row.make;
            self.rows.push(PlannedRow {
                setting: row_setting(row, value, site),
                make,
                what: what.clone(),
                optional: put.optional,
            });
        }
        if let Some(file) = &put.file {
            let content = (value == "write").then(|| file.content.clone());
            self.files.push(PlannedFile { path: file.path.clone(), content, what });
        }
    }

    fn identity(&mut self, name: IdentityName, value: Option<&str>, what: &str, site: &Site<'_>) {
        let Some(value) = value else { return };
        let places: Vec<_> =
            site.definition.identity.iter().filter(|i| i.name == name && fits(&i.set, site)).collect();
        for place in &places {
            self.set(&place.set, value, what.to_string(), site);
        }
        if places.is_empty() {
            let message = format!(
                "the {what} was not set: the definition of {} does not say where it stands",
                site.definition.name
            );
            self.findings.push(Finding::new(Code::IdentityUnknown, message, "", "set it in the back end"));
        }
    }

    fn admin(&mut self, job: &RestoreJob, site: &Site<'_>, id: Option<&str>) -> Result<(), RestoreError> {
        let unknown = |why: &str| {
            Finding::new(
                Code::AdministratorNotChanged,
                format!("the administrator's account was not changed: {why}"),
                "",
                "reset it on the new host",
            )
        };
        let Some(admin) = admin_of(site.definition, site.version) else {
            self.findings.push(unknown("the definition does not say where it stands"));
            return Ok(());
        };
        let Some(id) = id else {
            self.findings.push(unknown("no row tells which account it is"));
            return Ok(());
        };
        let table = format!("{}{}", if admin.bare { "" } else { site.prefix }, admin.table);
        let account = |column: &str, value: &str, what: &str| PlannedRow {
            setting: RowSetting {
                table: table.clone(),
                column: column.to_string(),
                only: vec![(admin.id.clone(), id.to_string())],
                value: value.as_bytes().to_vec(),
                within: Vec::new(),
            },
            make: false,
            what: what.to_string(),
            optional: false,
        };
        if let Some(email) = &job.options.admin_email {
            self.rows.push(account(&admin.email, email, "administrator's address"));
        }
        if let Some(password) = &job.admin_password {
            let rule =
                admin.hash.iter().find(|h| version_fits(site.version, h.from.as_deref(), h.below.as_deref()));
            let rule = rule.ok_or(RestoreError::Password(HashError::NoScheme))?;
            let escaped = rule.escaped.then(|| password::escaped(password));
            let password = escaped.as_ref().unwrap_or(password);
            let hashed =
                password::hash(rule.scheme, password, site.secret).map_err(RestoreError::Password)?;
            self.rows.push(account(&admin.password, &hashed.hash, "administrator's password"));
            if let (Some(column), Some(salt)) = (&admin.salt, &hashed.salt) {
                self.rows.push(account(column, salt, "administrator's salt"));
            }
            for KeyValue { column, value } in &admin.unlock {
                let what = format!("administrator's {column}, so that nothing stands in the way");
                self.rows.push(PlannedRow { optional: true, ..account(column, value, &what) });
            }
            if !admin.about.is_empty() {
                let place = format!("account {id} of {table}");
                self.findings.push(Finding::new(Code::AdministratorToKnow, admin.about.clone(), place, ""));
            }
        }
        Ok(())
    }
}

/// Spells a value as it stands in a row.
pub fn spelled(form: SetForm, value: &str) -> Vec<u8> {
    let spelled = match form {
        SetForm::Plain => value.to_string(),
        SetForm::SerializedString => format!("s:{}:\"{value}\";", value.len()),
        SetForm::SerializedNumber => format!("i:{value};"),
        SetForm::SerializedFlag => format!("b:{value};"),
    };
    spelled.into_bytes()
}

fn row_setting(row: &SetRow, value: &str, site: &Site<'_>) -> RowSetting {
    RowSetting {
        table: format!("{}{}", site.prefix, row.table),
        column: row.column.clone(),
        only: row.only.iter().map(|o| (o.column.clone(), o.value.clone())).collect(),
        value: spelled(row.form, value),
        within: row.within.clone(),
    }
}
