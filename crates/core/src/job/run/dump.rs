//! Dumps the database of a site, or one that is named by its URL.

use super::kept;
use super::{Failure, Refused, RunError, World, begin, writable_dump};
use crate::database::dump::{DumpPlan, Dumped, LEAST_PART, dump, part_name};
use crate::database::sizes::sizes;
use crate::dump::rules::Keep;
use crate::event::Watch;
use crate::finding::Finding;
use crate::fsx::absolute_access;
use crate::job::Kind;
use crate::options::DumpJob;
use crate::options::values::RowsChoice;
use crate::path_text::to_text;
use crate::place::DatabaseAccess;
use crate::survey::{SiteDatabase, site_database};
use crate::system::table_rule;
use crate::table_scope::{KEPT, TableScope, Whose, means};
use schemars::JsonSchema;
use serde::Serialize;
use std::cell::RefCell;
use std::path::{Path, PathBuf};

/// A database that was dumped.
#[derive(Debug, Serialize, JsonSchema)]
pub struct DumpOutcome {
    /// The database, as a URL without password.
    pub database: String,
    /// What was written.
    #[serde(flatten)]
    pub dumped: Dumped,
    /// The run.
    #[serde(skip)]
    pub run: String,
}

/// What a dump would write.
#[derive(Debug, Serialize, JsonSchema)]
pub struct DumpPreview {
    /// The database, as a URL without password.
    pub database: String,
    /// Product and version of the server.
    pub server: String,
    /// File that would be written; of parts the first one.
    #[serde(with = "crate::path_text")]
    #[schemars(with = "Option<PathBuf>")]
    pub output: Option<PathBuf>,
    /// Tables.
    pub tables: Vec<PlannedTable>,
    /// What a person should know.
    #[serde(skip)]
    pub findings: Vec<Finding>,
}

/// What would be written of a table.
#[derive(Debug, Serialize, JsonSchema)]
pub struct PlannedTable {
    /// Name.
    pub name: String,
    /// Bytes of its rows, by the server's estimate.
    pub bytes: u64,
    /// `all`, `structure` or `none`.
    pub what: &'static str,
    /// Why not all of it.
    pub why: String,
}

/// A database that is there: a site's, or one named by its URL.
#[derive(Debug)]
pub struct SiteOrServer {
    /// Access, complete.
    pub access: DatabaseAccess,
    /// What is known of its site.
    pub site: Option<SiteDatabase>,
}

/// Which database is meant.
#[derive(Debug, Clone, Copy)]
pub struct Target<'t> {
    /// Folder of a site, or URL.
    pub place: &'t str,
    /// Folder of the host that is meant.
    pub host_folder: Option<&'t str>,
    /// File of the password.
    pub password_file: Option<&'t Path>,
}

impl Target<'_> {
    /// Finds it.
    pub fn find(&self, world: &dyn World) -> Result<SiteOrServer, RunError> {
        if self.place.contains("://") || self.place.starts_with("sqlite:") {
            let mut access = absolute_access(DatabaseAccess::parse(self.place)?);
            world.log_in(&mut access, self.password_file)?;
            return Ok(SiteOrServer { access, site: None });
        }
        let found =
            site_database(&*world.tree(Path::new(self.place)), self.host_folder, &world.definitions()?)?;
        let access = found.access.clone().ok_or_else(|| Refused::NoDatabase(self.place.to_string()))?;
        Ok(SiteOrServer { access, site: Some(found) })
    }
}

impl SiteOrServer {
    /// Says what of a table is copied, and why if not all of it: as asked, else as the definition says.
    fn keeper<'m>(&'m self, tables: TableScope<'m>) -> impl Fn(&str) -> (Keep, String) + 'm {
        move |table: &str| match &self.site {
            _ if tables.whose.is_kept(table) => (Keep::Nothing, KEPT.to_string()),
            Some(site) => {
                let kept = tables.keeps(&site.definition, &site.table_prefix, table);
                (kept, self.about(table).map_or("as asked".into(), |(about, _)| about.to_string()))
            }
            None => {
                let fits = tables.rows.iter().rev().find(|choice| means(&choice.pattern, "", table));
                (fits.map_or(Keep::All, |choice| choice.keep), "as asked".into())
            }
        }
    }

    /// What the definition says of a table that may be left out: what it holds, and whether that is safe without asking.
    pub fn about(&self, table: &str) -> Option<(&str, bool)> {
        let site = self.site.as_ref()?;
        table_rule(&site.definition, &site.table_prefix, table).map(|r| (r.about.as_str(), r.safe))
    }

    fn prefix(&self) -> &str {
        self.site.as_ref().map_or("", |s| s.table_prefix.as_str())
    }
}

fn target(options: &DumpJob) -> Target<'_> {
    Target {
        place: &options.place,
        host_folder: options.host_folder.as_deref(),
        password_file: options.database_password_file.as_deref(),
    }
}

/// The choices by table: those that were named alone, and what was asked besides.
fn choices(options: &DumpJob) -> Result<Vec<RowsChoice>, Refused> {
    let mut rows = Vec::new();
    if !options.tables.is_empty() {
        rows.extend(RowsChoice::new("*", Keep::Nothing));
        for table in &options.tables {
            rows.push(RowsChoice::new(table, Keep::All).ok_or_else(|| Refused::Column(table.clone()))?);
        }
    }
    rows.extend(options.rows.iter().cloned());
    Ok(rows)
}

/// The file that is written first, looked at whether it may be.
fn first(options: &DumpJob) -> Result<Option<PathBuf>, Refused> {
    if let Some(size) = options.part_size.filter(|s| s.0 < LEAST_PART) {
        return Err(Refused::PartSize(size.0));
    }
    let Some(output) = options.output.file() else {
        return if options.part_size.is_some() { Err(Refused::PartsIntoPipe) } else { Ok(None) };
    };
    let first = if options.part_size.is_some() { part_name(output, 1) } else { output.to_path_buf() };
    writable_dump(&first, options.force)?;
    Ok(Some(first))
}

/// Tells what would be written.
pub(super) fn preview(options: &DumpJob, world: &dyn World) -> Result<DumpPreview, Failure> {
    let output = first(options)?;
    let meant = target(options).find(world)?;
    let rows = choices(options)?;
    let whose = Whose::but(kept::tables(world, Some(&meant.access))?);
    let scope = TableScope { rows: &rows, light: options.light, taken: &[], whose: &whose };
    let (tables, server) = sizes(&meant.access)?;
    let keep = meant.keeper(scope);
    let planned = tables.iter().map(|t| {
        let (kept, why) = keep(&t.name);
        let (what, why) = match kept {
            Keep::All => ("all", String::new()),
            Keep::Structure => ("structure", why),
            Keep::Nothing => ("none", why),
        };
        PlannedTable { name: t.name.clone(), bytes: t.data, what, why }
    });
    let names: Vec<&str> = tables.iter().map(|t| t.name.as_str()).collect();
    Ok(DumpPreview {
        database: meant.access.url(),
        server,
        output,
        tables: planned.collect(),
        findings: scope.in_vain(meant.prefix(), &names),
    })
}

/// Dumps.
pub(super) fn run(options: &DumpJob, world: &dyn World, watch: &dyn Watch) -> Result<DumpOutcome, Failure> {
    first(options)?;
    let meant = target(options).find(world)?;
    let rows = choices(options)?;
    let whose = Whose::but(kept::tables(world, Some(&meant.access))?);
    let scope = TableScope { rows: &rows, light: options.light, taken: &[], whose: &whose };
    let seen = RefCell::new(Vec::new());
    let keeper = meant.keeper(scope);
    let keep = |table: &str| {
        seen.borrow_mut().push(table.to_string());
        keeper(table)
    };
    let output = options.output.file();
    let detail = serde_json::json!({ "database": meant.access.url(), "output": output.map(to_text) });
    let begun = begin(Kind::DatabaseDump, detail, Vec::new(), world)?;
    let pipe = match output {
        Some(_) => None,
        None => Some(world.output().map_err(|source| crate::fsx::PathError { path: "-".into(), source })?),
    };
    let plan = DumpPlan {
        access: meant.access.clone(),
        output: output.map(Path::to_path_buf).unwrap_or_default(),
        pipe,
        force: options.force,
        part_size: options.part_size.map(|s| s.0),
        checksums: options.checksums,
        strictly: false,
        keep: &keep,
    };
    let mut dumped = match dump(&plan, watch) {
        Ok(dumped) => dumped,
        // A dump appears when it is whole.
        Err(e) => return Err(begun.failed(e, false, watch)),
    };
    let seen = seen.borrow();
    let names: Vec<&str> = seen.iter().map(String::as_str).collect();
    dumped.findings.extend(scope.in_vain(meant.prefix(), &names));
    let run = begun.done(serde_json::json!({ "files": dumped.files, "size": dumped.written }))?;
    Ok(DumpOutcome { database: meant.access.url(), dumped, run })
}
