//! Runs what changes a site where it lies: `settle` and `switch`.

use super::kept;
use super::{Failure, How, Refused, RunError, World, begin, lock};
use crate::config;
use crate::contents::{GatherOptions, gather};
use crate::event::Watch;
use crate::finding::Finding;
use crate::fsx::{AtPath, private_folder};
use crate::job::{Job, Kind};
use crate::options::values::SwitchChoice;
use crate::options::{CopyJob, SettleJob, SwitchJob};
use crate::path_text::to_text;
use crate::place::DatabaseAccess;
use crate::restore::copy_settings::spelled;
use crate::restore::job::{Reach, RestoreJob};
use crate::restore::live::{Changed, Live};
use crate::restore::plan::RestorePlan;
use crate::restore::planning::plan;
use crate::select::Scope;
use crate::survey::recognise::{config_files, version_fits};
use crate::survey::site_files::FolderFiles;
use crate::survey::{Survey, SurveyJob, TableSource, row_values, survey};
use crate::system::copy::{SetPlace, SwitchName};
use crate::table_scope::{ALL, TableScope, Whose};
use crate::text::serialized;
use crate::tree::noticing;
use crate::visit::Visited;
use schemars::JsonSchema;
use serde::Serialize;
use std::sync::Arc;

/// A site that was changed where it lies, or what would be changed.
#[derive(Debug)]
pub struct LiveRun {
    /// `settle` or `switch`.
    pub kind: Kind,
    /// The plan.
    pub plan: RestorePlan,
    /// What was changed, or would be.
    pub changed: Changed,
    /// Everything that a person should know.
    pub findings: Vec<Finding>,
    /// The run; none of a preview, and none where there was nothing to do.
    pub run: Option<String>,
    /// The site as a visitor sees it, where that was asked for.
    pub visited: Option<Box<Visited>>,
}

/// How something that can be switched is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct SwitchState {
    /// Switch.
    pub name: SwitchName,
    /// Where it stands.
    pub place: String,
    /// State; none if what stands there is none that is known.
    pub state: Option<String>,
    /// What stands there.
    pub value: Option<String>,
    /// States that it can have.
    pub states: Vec<String>,
}

/// What both do with a site.
struct Asked {
    kind: Kind,
    options: CopyJob,
    database: Option<DatabaseAccess>,
    reach: Reach,
    clear_caches: bool,
    saved: Job,
}

/// The options of a copy that lies where the site does.
fn options_of(settle: &SettleJob) -> Result<CopyJob, RunError> {
    let mut options = serde_json::Map::new();
    if let Ok(serde_json::Value::Object(own)) = serde_json::to_value(settle) {
        options.extend(own);
    }
    let site = options.remove("site").unwrap_or_default();
    options.insert("source".into(), site.clone());
    options.insert("target".into(), site);
    match Kind::Clone.job(options)? {
        Job::Clone(options) => Ok(*options),
        _ => Err(crate::job::JobError::Missing("site".into()).into()),
    }
}

/// Puts a site right where it lies.
pub(super) fn settle(
    settle: &SettleJob,
    how: How,
    world: &dyn World,
    watch: &dyn Watch,
) -> Result<LiveRun, Failure> {
    let options = options_of(settle)?;
    let mut database = settle.database.clone().map(|url| url.0);
    if let Some(access) = &mut database {
        world.log_in(access, settle.database_password_file.as_deref()).map_err(RunError::from)?;
    }
    let saved = Job::Settle(Box::new(settle.clone()));
    run(
        Asked { kind: Kind::Settle, options, database, reach: Reach::Whole, clear_caches: true, saved },
        how,
        world,
        watch,
    )
}

/// Sets switches of a site where it lies.
pub(super) fn switch(
    switch: &SwitchJob,
    how: How,
    world: &dyn World,
    watch: &dyn Watch,
) -> Result<LiveRun, Failure> {
    let clears = |c: &SwitchChoice| c.name == SwitchName::Cache && c.state == "clear";
    let set = switch.set.iter().filter(|c| !clears(c)).cloned().collect();
    let settle = SettleJob { set, ..SettleJob::of(switch.site.clone(), switch.host_folder.clone()) };
    let asked = Asked {
        kind: Kind::Switch,
        options: options_of(&settle)?,
        database: None,
        reach: Reach::Settings,
        clear_caches: switch.set.iter().any(clears),
        saved: Job::Switch(switch.clone()),
    };
    run(asked, how, world, watch)
}

fn look(
    options: &CopyJob,
    database: Option<DatabaseAccess>,
    world: &dyn World,
    watch: &dyn Watch,
) -> Result<Survey, RunError> {
    let job = SurveyJob {
        host_folder: options.host_folder.clone(),
        database,
        table_prefix: options.table_prefix.clone(),
        ..SurveyJob::default()
    };
    Ok(survey(&*world.tree(&options.source), &job, &world.definitions()?, watch)?)
}

fn run(asked: Asked, how: How, world: &dyn World, watch: &dyn Watch) -> Result<LiveRun, Failure> {
    let Asked { kind, options, database, reach, clear_caches, saved } = asked;
    let site = to_text(&options.source).into_owned();
    let found = look(&options, database.clone(), world, watch)?;
    let access = found.config.database.clone();
    if let (TableSource::None(why), Some(_)) = (&found.tables_from, &access) {
        return Err(Refused::NoAnswer { site, why: why.clone() }.into());
    }
    let tables = found.tables.clone();
    let gathered = GatherOptions {
        dump: None,
        scope: Scope::default(),
        tables: TableScope { rows: &[], light: false, taken: &[], whose: &ALL },
        storage: None,
        note: "",
        packed_at: world.clock()(),
        written_by: world.written_by(),
        address: options.old_address.as_ref(),
        former: &[],
        host_named: options.host_folder.is_some(),
    };
    let locks = match how.dry_run {
        true => Vec::new(),
        false => lock(world, &[Some(site.clone()), access.as_ref().map(DatabaseAccess::url)])?,
    };
    let known = world.definitions().map_err(RunError::from)?;
    let contents = gather(found, &gathered, &world.temporary(), true, watch).map_err(RunError::from)?;
    let address = options.address.clone().or_else(|| contents.survey.base_address().cloned());
    // What is switched does not hang on the address.
    let nowhere = || match reach {
        Reach::Settings => crate::place::Address::parse("http://localhost").ok(),
        Reach::Whole => None,
    };
    let address = address.or_else(nowhere).ok_or_else(|| Refused::NoAddress(site.clone()))?;
    let job = RestoreJob {
        tree: noticing(world.tree(&options.target)),
        contents: Some(Arc::new(contents)),
        address,
        database,
        dump: None,
        scope: Scope::default(),
        owner: None,
        in_place: Some(reach),
        over: None,
        live: None,
        verify_first: false,
        whose: Whose::but(kept::tables(world, access.as_ref())?),
        admin_password: options
            .admin_password_file
            .as_deref()
            .map(|file| world.secret(file))
            .transpose()
            .map_err(RunError::from)?,
        options,
    };
    let mut plan = plan(job, &known, watch).map_err(RunError::from)?;
    // The view in which the site was looked at ends here: some databases can only be written when nobody reads them.
    plan.job.contents = None;
    let live = Live { plan: &plan, tables: &tables, access: access.as_ref(), reach, clear_caches };
    let data = world.data().map_err(RunError::from)?;
    private_folder(&data).at(&data).map_err(RunError::from)?;
    let keep_in = Some(data.as_path()).filter(|_| !how.dry_run);
    let prepared = live.look(how.samples, keep_in, watch).map_err(RunError::from)?;
    let preview = &prepared.changed;
    let findings = |changed: &Changed, plan: &RestorePlan| changed.as_copy.all_findings(plan);
    // A site that is at work has caches; they go if they may speak of another place.
    let other_place = plan.relocation.from != plan.relocation.to || !plan.job.options.old_root.is_empty();
    let nothing = preview.rows.is_empty()
        && plan.changes_no_file()
        && reach == Reach::Whole
        && !(other_place && live.has_caches());
    if how.dry_run || nothing {
        let findings = findings(preview, &plan);
        return Ok(LiveRun { kind, changed: prepared.changed, findings, run: None, plan, visited: None });
    }
    let begun = begin(kind, serde_json::Value::Object(saved.options()), locks, world)?;
    match live.run(prepared, how.samples, &begun.book, watch) {
        Ok(changed) => {
            let rows: u64 = changed.rows.values().sum();
            let run = Some(begun.done(serde_json::json!({ "target": site, "changed": rows }))?);
            let findings = findings(&changed, &plan);
            Ok(LiveRun { kind, changed, findings, run, plan, visited: None })
        }
        Err(e) => Err(begun.failed(e, true, watch)),
    }
}

/// Says how the switches of a site are.
pub(super) fn states(
    switch: &SwitchJob,
    world: &dyn World,
    watch: &dyn Watch,
) -> Result<Vec<SwitchState>, Failure> {
    let settle = SwitchJob { set: Vec::new(), ..switch.clone() };
    let job = SurveyJob { host_folder: settle.host_folder.clone(), ..SurveyJob::default() };
    let known = world.definitions().map_err(RunError::from)?;
    let found = survey(&*world.tree(&settle.site), &job, &known, watch).map_err(RunError::from)?;
    let definition = &found.recognised.definition;
    let version = found.recognised.version.as_deref();
    let fits = |place: &SetPlace| version_fits(version, place.from.as_deref(), place.below.as_deref());
    let mut out = Vec::new();
    for switch in definition.switch.iter().filter(|s| fits(&s.set)) {
        let (place, value, told) = standing(&found, &switch.set)?;
        let is = |(_, wanted): &(&String, &String)| value.as_ref().is_some_and(|v| *v == told(wanted));
        let state = switch.states.iter().find(is).map(|(name, _)| name.clone());
        if value.is_none() && switch.set.optional {
            continue;
        }
        let states = switch.states.keys().cloned().collect();
        out.push(SwitchState { name: switch.name, place, state, value, states });
    }
    Ok(out)
}

/// Returns what the first config file says that holds a key.
fn config_value(found: &Survey, key: &str) -> Option<String> {
    let files = FolderFiles(found.tree.clone());
    config_files(&files, &found.recognised.definition).into_iter().find_map(|file| {
        let read = config::read(file.config.form, &file.text, None).ok()?;
        read.value(key).map(str::to_string)
    })
}

/// How the values of a switch are told from each other.
type Told = Box<dyn Fn(&str) -> String>;

/// What stands in a place, and how a value of the definition would stand there.
fn standing(found: &Survey, set: &SetPlace) -> Result<(String, Option<String>, Told), RunError> {
    if let Some(key) = &set.config {
        let value = config_value(found, key);
        // Flags are written in words or numbers.
        let flag = |text: &str| match text {
            "true" => "1".to_string(),
            "false" => "0".to_string(),
            text => text.to_string(),
        };
        return Ok((format!("config key {key}"), value.map(|v| flag(&v)), Box::new(move |w| flag(w))));
    }
    if let Some(file) = &set.file {
        let there = found.tree.exists(&found.site.join(&file.path));
        let value = if there { "write" } else { "remove" };
        return Ok((format!("file {}", file.path), Some(value.into()), Box::new(str::to_string)));
    }
    let (Some(row), Some(access)) = (&set.row, &found.config.database) else {
        return Ok((String::new(), None, Box::new(str::to_string)));
    };
    let table = format!("{}{}", found.config.table_prefix, row.table);
    let place = format!("row of {table}");
    let value = row_values(access, table, &[&row.column], &row.only)?.into_iter().flatten().next().flatten();
    let value = match row.within.is_empty() {
        true => value,
        false => value.and_then(|v| {
            let item = serialized::item(v.as_bytes(), &row.within)?;
            String::from_utf8(v.as_bytes()[item].to_vec()).ok()
        }),
    };
    let form = row.form;
    let told = move |wanted: &str| String::from_utf8_lossy(&spelled(form, wanted)).into_owned();
    Ok((place, value, Box::new(told)))
}
