//! `zporter survey`: what a site is, without changing anything.

use crate::context;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::format::{bytes, count, number};
use crate::progress::Progress;
use crate::ui::Ui;
use clap::Args;
use std::path::PathBuf;
use zporter_core::survey::{Survey, SurveyJob, TableSource, survey};

/// Tell what a site is: system, version, database, addresses, sizes, risks
#[derive(Debug, Args)]
pub struct SurveyArgs {
    /// Folder of the site
    site: PathBuf,
    /// Read tables from this dump instead of the server (.sql, .sql.gz, .sql.zst)
    #[arg(long, value_name = "FILE")]
    dump: Option<PathBuf>,
    /// Folder of the host that is meant, where one code base serves several
    #[arg(long, value_name = "NAME")]
    host_folder: Option<String>,
}

/// Runs the command.
pub fn run(ui: &Ui, args: &SurveyArgs) -> Result<Exit, CommandError> {
    let job =
        SurveyJob { site: args.site.clone(), dump: args.dump.clone(), host_folder: args.host_folder.clone() };
    let found = survey(&job, &context::definitions()?, &Progress::new(ui))?;
    if ui.json {
        ui.document(&found.report())?;
    } else {
        show(ui, &found);
    }
    Ok(Exit::Done)
}

/// Prints a survey.
pub fn show(ui: &Ui, found: &Survey) {
    let version = found.recognised.version.as_deref().unwrap_or("of an unknown version");
    let with: String = found.recognised.extensions.iter().map(|e| format!(", with {e}")).collect();
    ui.line(format!("{} {version}{with}", found.recognised.product));
    ui.fact("site", found.site.display().to_string());
    let address = found.base_address().map_or("not known".into(), ToString::to_string);
    let sure = if found.address.concluded { "concluded from " } else { "from " };
    let from = if found.address.learned_from.is_empty() {
        String::new()
    } else {
        format!(" ({sure}{})", found.address.learned_from)
    };
    ui.fact("address", format!("{address}{from}"));
    for alias in &found.address.aliases {
        ui.fact("also", alias.to_string());
    }
    for other in &found.address.others {
        ui.fact("beside it", format!("{other}, another site of the same database"));
    }
    if found.base_address().is_none() {
        for (host, n) in &found.address.candidates {
            ui.fact("perhaps", format!("{host}, named {} times", number(*n)));
        }
    }
    for root in &found.config.roots {
        ui.fact("config root", root.to_string());
    }
    if let Some(access) = &found.config.database {
        ui.fact("database", access.url());
        ui.fact("password", access.password.state());
        ui.fact("table prefix", &found.config.table_prefix);
    }
    for (table, prefix) in &found.config.shared_tables {
        ui.fact("shared", format!("{prefix}{table}, by every site with that prefix"));
    }
    for storage in &found.config.storage {
        ui.fact("storage", storage.to_string());
    }
    if found.hosts.found.len() > 1 {
        ui.heading("Hosts on this code base");
        let rows = found.hosts.found.iter().map(|h| {
            let here = if h.chosen { "shown here" } else { "" };
            vec![
                h.folder.clone(),
                h.address.clone().unwrap_or_default(),
                h.database.clone().unwrap_or_default(),
                h.table_prefix.clone(),
                here.into(),
            ]
        });
        ui.table(&["folder", "answers to", "database", "prefix", ""], rows.collect());
    }
    ui.heading("Config");
    let rows = found.config.values.iter().map(|v| {
        let value = v.value.clone().or_else(|| v.unknown.clone()).unwrap_or_default();
        vec![format!("{}:{}", v.file, v.line), v.key.clone(), value]
    });
    ui.table(&["where", "key", "value"], rows.collect());
    ui.heading("Folders, heaviest first");
    let mut rows = Vec::new();
    for f in &found.folders {
        let transient = if f.transient_bytes > 0 { bytes(f.transient_bytes) } else { String::new() };
        rows.push(vec![f.path.clone(), bytes(f.bytes), number(f.files), transient]);
    }
    ui.table(&["folder", ">size", ">files", ">made anew"], rows);
    show_tables(ui, found);
    ui.heading("Risks");
    for risk in &found.risks {
        ui.finding(&risk.what, &risk.place, &risk.cure);
    }
    if found.risks.is_empty() {
        ui.good("  none found");
    }
}

fn show_tables(ui: &Ui, found: &Survey) {
    match &found.tables_from {
        TableSource::None(why) => {
            ui.heading("Tables");
            ui.finding(&format!("the database was not read: {why}"), "", "name a dump with --dump FILE");
            return;
        }
        TableSource::Dump(path) => ui.heading(&format!("Tables in {}, heaviest first", path.display())),
        TableSource::Server => ui.heading("Tables on the server, heaviest first (rows estimated)"),
    }
    let shown = if ui.verbose { usize::MAX } else { 20 };
    let mut rows = Vec::new();
    for t in found.tables.iter().take(shown) {
        let carried = if t.rows_left_out { "structure" } else { "all rows" };
        rows.push(vec![
            t.name.clone(),
            bytes(t.bytes),
            number(t.rows),
            carried.into(),
            t.about.clone().unwrap_or_default(),
        ]);
    }
    ui.table(&["table", ">size", ">rows", "carried", "about"], rows);
    if found.tables.len() > shown {
        ui.line(format!(
            "  and {}; -v shows all",
            count((found.tables.len() - shown) as u64, "further table")
        ));
    }
}
