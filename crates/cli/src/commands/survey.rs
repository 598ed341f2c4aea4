//! `zporter survey`: what a site is, without changing anything.

use crate::context::{self, Here};
use crate::error::CommandError;
use crate::format::{bytes, count, number};
use crate::login::PasswordArgs;
use crate::progress::Progress;
use crate::render::Style;
use crate::report::{Block, Facts, Report};
use clap::Args;
use std::path::PathBuf;
use zporter_core::finding::{Code, Finding};
use zporter_core::job::run::World;
use zporter_core::place::DatabaseAccess;
use zporter_core::survey::{Survey, SurveyJob, TableSource, survey};

/// Tell what a site is: system, version, database, addresses, sizes, risks
#[derive(Debug, Args)]
pub struct SurveyArgs {
    /// Folder of the site
    site: PathBuf,
    /// Read tables from this dump instead of the server (.sql, .sql.gz, .sql.zst)
    #[arg(long, value_name = "FILE")]
    dump: Option<PathBuf>,
    /// Database of the site, where its config does not name it or nobody knows its system
    #[arg(long, value_name = "URL", conflicts_with = "dump")]
    database: Option<String>,
    /// Its password
    #[command(flatten)]
    password: PasswordArgs,
    /// Folder of the host that is meant, where one code base serves several
    #[arg(long, value_name = "NAME")]
    host_folder: Option<String>,
    /// How many folders deep sizes are told apart
    #[arg(long, value_name = "N", default_value_t = 1)]
    depth: usize,
}

/// Runs the command.
pub fn run(style: Style, args: &SurveyArgs) -> Result<Report, CommandError> {
    let mut database = args.database.as_deref().map(DatabaseAccess::parse).transpose()?;
    if let Some(access) = &mut database {
        args.password.complete(access)?;
    }
    let job = SurveyJob {
        by_hand: database.is_some() || args.dump.is_some(),
        database,
        dump: args.dump.clone(),
        host_folder: args.host_folder.clone(),
        depth: args.depth,
        ..SurveyJob::default()
    };
    report(&survey(&*Here.tree(&args.site), &job, &context::definitions()?, &Progress::new(style))?)
}

/// Tells what was found.
pub fn report(found: &Survey) -> Result<Report, CommandError> {
    let version = found.recognised.version.as_deref().unwrap_or("of an unknown version");
    let with: String = found.recognised.extensions.iter().map(|e| format!(", with {e}")).collect();
    let totals = found.totals();
    let verdict = format!(
        "{} {version}{with} at {}: {}, {}, {}",
        found.recognised.product,
        found.site.display(),
        count(totals.files, "file"),
        count(totals.tables, "table"),
        bytes(totals.file_bytes + totals.database_bytes)
    );
    let mut report = Report::new("survey", verdict, &found.report())?;
    report.exit = Some(crate::exit::Exit::Done);
    report.findings.clone_from(&found.risks);
    if let TableSource::None(why) = &found.tables_from {
        let cure = "name a dump with --dump FILE";
        let what = format!("the database was not read: {why}");
        report.findings.push(Finding::new(Code::NoDatabase, what, "", cure));
    }
    identity(&mut report, found);
    let rows = found.hosts.found.iter().map(|h| {
        let here = if h.chosen { "shown here" } else { "" };
        let (address, database) =
            (h.address.clone().unwrap_or_default(), h.database.clone().unwrap_or_default());
        vec![h.folder.clone(), address, database, h.table_prefix.clone(), here.into()]
    });
    if found.hosts.found.len() > 1 {
        let header = ["folder", "answers to", "database", "prefix", ""];
        report.section("Hosts on this code base", Block::table(&header, rows));
    }
    let rows = found.config.values.iter().map(|v| {
        let value = v.value.clone().or_else(|| v.unknown.clone()).unwrap_or_default();
        vec![format!("{}:{}", v.file, v.line), v.key.clone(), value]
    });
    report.section("Config", Block::folded(&["where", "key", "value"], 24, "value", rows));
    let rows = found.folders.iter().map(|f| {
        let cache = if f.cache_bytes > 0 { bytes(f.cache_bytes) } else { String::new() };
        vec![f.path.clone(), f.bytes.to_string(), number(f.files), cache]
    });
    let header = ["folder", "#size", ">files", ">of it cache"];
    report.section("Folders, heaviest first", Block::folded(&header, 15, "folder", rows));
    let rows = found.heavy.iter().map(|h| {
        let files = if h.files > 1 { count(h.files, "file") } else { String::new() };
        vec![h.path.clone(), h.bytes.to_string(), files, h.what.to_string()]
    });
    let header = ["path", "#size", "", "what it is"];
    report.section("Hardly part of the site", Block::folded(&header, 10, "path", rows));
    tables(&mut report, found);
    let mut all = Facts::default();
    all.add("files", format!("{}, {}", count(totals.files, "file"), bytes(totals.file_bytes)));
    if totals.tables > 0 {
        let rows = count(totals.rows, "row");
        all.add(
            "database",
            format!("{} with {rows}, {}", count(totals.tables, "table"), bytes(totals.database_bytes)),
        );
    }
    all.add("archive", format!("about {} without what the system rebuilds", bytes(totals.archive_bytes)));
    report.section("All of it", all.block());
    Ok(report)
}

fn identity(report: &mut Report, found: &Survey) {
    let mut facts = Facts::default();
    facts.add("site", found.site.display().to_string());
    let address = found.base_address().map_or("not known".into(), ToString::to_string);
    let sure = if found.address.concluded { "concluded from " } else { "from " };
    let from = match found.address.learned_from.as_str() {
        "" => String::new(),
        learned => format!(" ({sure}{learned})"),
    };
    facts.add("address", format!("{address}{from}"));
    for alias in &found.address.aliases {
        facts.add("also", alias.to_string());
    }
    for other in &found.address.others {
        facts.add("beside it", format!("{other}, another site of the same database"));
    }
    if found.base_address().is_none() {
        for (host, n) in &found.address.candidates {
            facts.add("perhaps", format!("{host}, named {} times", number(*n)));
        }
    }
    for root in &found.config.roots {
        facts.add("config root", root.to_string());
    }
    if let Some(access) = &found.config.database {
        facts.add("database", access.url());
        facts.add("password", access.password.state());
        facts.add("table prefix", &found.config.table_prefix);
    }
    for (table, prefix) in &found.config.shared_tables {
        facts.add("shared", format!("{prefix}{table}, by every site with that prefix"));
    }
    for storage in &found.config.storage {
        let named = storage.named.as_ref().map(|n| format!(", named {n}")).unwrap_or_default();
        facts.add("storage", format!("{}{named}", storage.path));
    }
    report.section("", facts.block());
}

fn tables(report: &mut Report, found: &Survey) {
    let title = match &found.tables_from {
        TableSource::None(_) => return,
        TableSource::Dump(path) => format!("Tables in {}, heaviest first", path.display()),
        TableSource::Server => "Tables on the server, heaviest first (rows estimated)".into(),
    };
    let rows = found.own_tables().into_iter().map(|t| {
        let copied = if t.rows_left_out { "structure" } else { "all rows" };
        let about = t.about.clone().unwrap_or_default();
        vec![t.name.clone(), t.bytes.to_string(), number(t.rows), copied.into(), about]
    });
    let header = ["table", "#size", ">rows", "copied", "about"];
    report.section(title, Block::folded(&header, 15, "table", rows));
    let others = found.tables_of_others().into_iter();
    let name = |what: &str| what.strip_prefix("table ").unwrap_or(what).to_string();
    let rows = others.map(|t| vec![name(&t.what), t.bytes.to_string(), number(t.count), t.why]);
    let header = ["table", "#size", ">rows", "why"];
    report.section("Tables that are left out", Block::folded(&header, 15, "table", rows));
}
