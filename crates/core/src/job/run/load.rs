//! Loads a dump into a database, guarded; the same job goes on after an interruption.

use super::{Done, Failure, How, Refused, Target, World, begin, holds_something, lock, readable_dump};
use crate::database::DatabaseError;
use crate::database::dump::parts_from;
use crate::database::journal::{Reached, reached};
use crate::database::load::{LoadPlan, Loaded, guard, load};
use crate::event::Watch;
use crate::finding::{Code, Finding};
use crate::fsx::absolute;
use crate::job::Kind;
use crate::logbook::{self, StepKind};
use crate::options::LoadJob;
use crate::place::DatabaseAccess;
use schemars::JsonSchema;
use serde::Serialize;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

/// A dump that was loaded.
#[derive(Debug, Serialize, JsonSchema)]
pub struct LoadOutcome {
    /// The database, as a URL without password.
    pub database: String,
    /// User who loaded.
    pub user: String,
    /// Files, in order.
    #[serde(with = "crate::path_text")]
    #[schemars(with = "Vec<PathBuf>")]
    pub files: Vec<PathBuf>,
    /// What was loaded.
    #[serde(flatten)]
    pub loaded: Loaded,
    /// What a person should know.
    #[serde(skip)]
    pub findings: Vec<Finding>,
    /// The run.
    #[serde(skip)]
    pub run: String,
}

/// What a load would do.
#[derive(Debug, Serialize, JsonSchema)]
pub struct LoadPreview {
    /// The database, as a URL without password.
    pub database: String,
    /// Files, in order.
    #[serde(with = "crate::path_text")]
    #[schemars(with = "Vec<PathBuf>")]
    pub files: Vec<PathBuf>,
    /// The run with which it would go on, and tables that are whole.
    pub goes_on: Option<(String, u64)>,
    /// Tables that are in the database.
    pub tables_there: u64,
}

/// What tells that a file is the same as before.
fn mark_of(files: &[PathBuf]) -> Vec<String> {
    let mark = |f: &PathBuf| {
        f.metadata().map(|m| format!("{} {} {}", f.display(), m.len(), m.mtime())).unwrap_or_default()
    };
    files.iter().map(mark).collect()
}

/// An interrupted load of the same files into the same database: its run, and how far it came.
struct Earlier {
    run: String,
    /// The run that kept what was replaced.
    kept_by: String,
    reached: Reached,
}

fn earlier(folder: &Path, access: &DatabaseAccess, files: &[String]) -> Option<Earlier> {
    // The newest run that has to do with this database decides.
    for summary in logbook::runs(folder) {
        let lines = logbook::read(folder, &summary.run)?;
        let begin = lines.first()?;
        if begin.detail["database"].as_str() != Some(access.url().as_str()) || summary.command == "dump" {
            continue;
        }
        let same = summary.command == "load" && begin.detail["files"] == serde_json::json!(files);
        if !same || matches!(summary.state.as_str(), "done" | "undone") {
            return None;
        }
        // A run that stopped before it touched anything decides nothing.
        let touches = |step: StepKind| matches!(step, StepKind::LoadDatabase | StepKind::ReplaceDatabase);
        if !lines.iter().any(|l| touches(l.step)) {
            continue;
        }
        lines.iter().find(|l| l.step == StepKind::LoadDatabase)?;
        let kept_by = begin.detail["kept_by"].as_str().unwrap_or(&summary.run).to_string();
        return Some(Earlier { kept_by, reached: reached(&lines), run: summary.run });
    }
    None
}

/// Refuses a part of a dump that is not the first.
fn is_first(dump: &Path) -> Result<(), Refused> {
    let name = dump.to_string_lossy();
    let digits = |n: &str| n.chars().take_while(char::is_ascii_digit).collect::<String>();
    let number = name.split(".part-").nth(1).map(digits).unwrap_or_default();
    if number.is_empty() || number.trim_start_matches('0') == "1" {
        return Ok(());
    }
    let first = name.replacen(&format!(".part-{number}"), ".part-01", 1);
    Err(Refused::NotTheFirst { dump: dump.to_path_buf(), number, first })
}

/// Loads, or tells what it would do.
pub(super) fn run(
    options: &LoadJob,
    how: How,
    world: &dyn World,
    watch: &dyn Watch,
) -> Result<Done, Failure> {
    let files = parts_from(&absolute(&options.dump));
    for file in &files {
        readable_dump(file)?;
    }
    holds_something(&files)?;
    is_first(&options.dump)?;
    let target = Target {
        place: &options.database,
        host_folder: options.host_folder.as_deref(),
        password_file: options.database_password_file.as_deref(),
    };
    let access = target.find(world)?.access;
    let folder = world.data().map_err(super::RunError::from)?.join(super::LOGBOOK);
    let locks = if how.dry_run { Vec::new() } else { lock(world, &[Some(access.url())])? };
    let marks = mark_of(&files);
    let earlier = earlier(&folder, &access, &marks);
    let plan = LoadPlan {
        files,
        access,
        replace: options.empty_database,
        connections: options.connections,
        substitute: options.substitutions(),
        events: options.events.is_on(),
        earlier: earlier.as_ref().map(|e| e.reached.clone()),
    };
    let found = guard(&plan)?;
    if how.dry_run {
        return Ok(Done::LoadPreview(LoadPreview {
            database: plan.access.url(),
            files: plan.files,
            goes_on: earlier.map(|e| (e.run, e.reached.whole.len() as u64)),
            tables_there: found.len() as u64,
        }));
    }
    let mut detail = serde_json::json!({ "database": plan.access.url(), "files": marks });
    if let Some(e) = &earlier {
        detail["continues"] = e.run.clone().into();
        detail["kept_by"] = e.kept_by.clone().into();
    }
    let begun = begin(Kind::DatabaseLoad, detail, locks, world)?;
    for table in earlier.iter().flat_map(|e| &e.reached.begun) {
        begun.book.note(StepKind::TableBegun, serde_json::json!({ "table": table }))?;
    }
    let whole =
        earlier.iter().filter(|_| !plan.access.engine.facts().commits_whole).flat_map(|e| &e.reached.whole);
    for (table, rows) in whole {
        begun.book.note(StepKind::TableWhole, serde_json::json!({ "table": table, "rows": rows }))?;
    }
    match load(&plan, &begun.book, watch) {
        Ok(loaded) => {
            let rows: u64 = loaded.rows.values().sum();
            let run = begun.done(serde_json::json!({ "tables": loaded.rows.len(), "rows": rows }))?;
            let findings = findings(&plan, &loaded);
            Ok(Done::Loaded(Box::new(LoadOutcome {
                database: plan.access.url(),
                user: plan.access.user.clone(),
                files: plan.files,
                loaded,
                findings,
                run,
            })))
        }
        Err(e) => {
            let run = begun.book.id().to_string();
            // Who could not keep what is there has touched nothing; an engine whose transactions hold everything has undone it.
            let kept_out = matches!(e, DatabaseError::NotKept { .. });
            let lines = logbook::read(&folder, &run).unwrap_or_default();
            let whole = plan.access.engine.facts().commits_whole && reached(&lines).is_nothing();
            Err(begun.failed(e, !kept_out && !whole, watch))
        }
    }
}

fn findings(plan: &LoadPlan, loaded: &Loaded) -> Vec<Finding> {
    let differing = loaded.differing.iter().map(|(table, sent, there)| {
        let what = format!("{sent} rows were sent, {there} are there");
        let cure = "look for doubled keys in the dump, and compare with the source";
        Finding::new(Code::RowsDiffer, what, table, cure)
    });
    let account = loaded.account.as_ref().map(|rights| {
        let what = format!("the account {} {rights}", plan.access.user);
        let cure = "an account for this database alone is safer: zporter database create";
        Finding::new(Code::AccountRights, what, "", cure).as_note()
    });
    let nothing = (loaded.rows.is_empty() && loaded.went_on == 0).then(|| {
        let cure = "check that it is the dump of this site, and that all of it arrived";
        Finding::new(Code::DumpEmpty, "the dump holds no rows", "", cure)
    });
    differing.chain(nothing).chain(loaded.findings.iter().cloned()).chain(account).collect()
}
