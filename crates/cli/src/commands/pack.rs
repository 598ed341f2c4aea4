//! `zporter pack`: one archive that holds a whole site.

use crate::context;
use crate::dump_files;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::format::{bytes, count, number};
use crate::progress::Progress;
use crate::scope::{ScopeArgs, kept_rows, scope};
use crate::ui::Ui;
use clap::Args;
use std::path::{Path, PathBuf};
use zporter_core::cargo::PackOptions;
use zporter_core::fsx::absolute;
use zporter_core::logbook::Outcome;
use zporter_core::pack::{Packed, pack};
use zporter_core::place::Address;
use zporter_core::survey::{Survey, SurveyJob, survey};

/// Pack a site into one archive: code, media, database
#[derive(Debug, Args)]
pub struct PackArgs {
    /// Folder of the site
    pub site: PathBuf,
    /// Archive to write: .tar.zst, .tar.gz or .zip (default: in the user's data folder)
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,
    /// Take the database from this dump instead of the server (.sql, .sql.gz, .sql.zst)
    #[arg(long, value_name = "FILE")]
    pub dump: Option<PathBuf>,
    /// Note to keep in the archive
    #[arg(long, value_name = "TEXT", default_value = "")]
    pub note: String,
    /// Base address of the site, where neither config nor rows tell it
    #[arg(long, value_name = "URL")]
    pub address: Option<String>,
    /// Folder of the host to pack, where one code base serves several; several names, or `all`, give an archive each
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    pub host_folder: Vec<String>,
    /// Where the folder lies that belongs to the site outside of its root, if not where the config says
    #[arg(long, value_name = "DIR")]
    pub storage: Option<PathBuf>,
    /// What is carried
    #[command(flatten)]
    pub scope: ScopeArgs,
}

/// Runs the command.
pub fn run(ui: &Ui, args: &PackArgs) -> Result<Exit, CommandError> {
    let hosts = hosts(ui, args)?;
    let done = match &hosts[..] {
        [] => vec![packed(ui, args, None)?],
        [one] => vec![packed(ui, args, Some(one))?],
        several => {
            if args.dump.is_some() || args.address.is_some() {
                let wrong = "--dump and --address belong to one host, and several are named";
                return Err(CommandError::usage(wrong).hint("pack them one by one"));
            }
            several.iter().map(|host| packed(ui, args, Some(host))).collect::<Result<_, _>>()?
        }
    };
    match &done[..] {
        [one] if ui.json => ui.document(one)?,
        all if ui.json => ui.document(&all)?,
        all => all.iter().for_each(|packed| show(ui, packed)),
    }
    Ok(if done.iter().all(|p| p.warnings.is_empty()) { Exit::Done } else { Exit::Findings })
}

/// Returns the folders of the hosts that are named.
fn hosts(ui: &Ui, args: &PackArgs) -> Result<Vec<String>, CommandError> {
    if !args.host_folder.iter().any(|h| h == "all") {
        return Ok(args.host_folder.clone());
    }
    let job = SurveyJob { site: args.site.clone(), ..SurveyJob::default() };
    let found = survey(&job, &context::definitions()?, &Progress::new(ui))?;
    Ok(found.hosts.found.into_iter().map(|h| h.folder).collect())
}

/// Packs a site as the arguments say; of several hosts on one code base the one that is named.
pub fn packed(ui: &Ui, args: &PackArgs, host: Option<&str>) -> Result<Packed, CommandError> {
    let progress = Progress::new(ui);
    if let Some(dump) = &args.dump {
        dump_files::readable(dump)?;
    }
    let address = args.address.as_deref().map(Address::parse).transpose()?;
    let job =
        SurveyJob { site: args.site.clone(), dump: args.dump.clone(), host_folder: host.map(str::to_string) };
    let found = survey(&job, &context::definitions()?, &progress)?;
    let output = match &args.output {
        // Every host gets an archive of its own.
        Some(path) if args.host_folder.iter().any(|h| h == "all") || args.host_folder.len() > 1 => {
            beside(path, host.unwrap_or_default())
        }
        Some(path) => path.clone(),
        None => default_output(&found)?,
    };
    let mut locks = context::locks(&[Some(absolute(&output).display().to_string())])?;
    let options = PackOptions {
        output,
        dump: args.dump.clone(),
        scope: scope(&args.scope.only, &args.scope.without)?,
        rows: kept_rows(&args.scope.rows)?,
        storage: args.storage.as_deref().map(absolute),
        host_named: host.is_some(),
        note: args.note.clone(),
        packed_at: context::now(),
        written_by: context::written_by(),
        address,
    };
    let detail = serde_json::json!({ "site": found.site, "archive": options.output });
    let book = context::begin("pack", detail, &mut locks)?;
    book.step("write archive", serde_json::json!({ "archive": options.output }))?;
    match pack(&found, &options, &progress) {
        Ok(packed) => {
            book.end(Outcome::Done, serde_json::json!({ "archive": packed.archive, "size": packed.size }))?;
            Ok(packed)
        }
        Err(e) => {
            book.end(Outcome::Failed, serde_json::json!({ "error": e.to_string() }))?;
            Err(e.into())
        }
    }
}

/// Puts a host's name into the name of an archive, before its ending.
fn beside(path: &Path, host: &str) -> PathBuf {
    let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let at = [".tar.zst", ".tar.gz", ".zip"]
        .iter()
        .find(|e| name.ends_with(**e))
        .map_or(name.len(), |e| name.len() - e.len());
    path.with_file_name(format!("{}-{host}{}", &name[..at], &name[at..]))
}

/// Names an archive in the user's data folder after the site and the time.
fn default_output(found: &Survey) -> Result<PathBuf, CommandError> {
    let folder = context::data_folder()?.join("archives");
    std::fs::create_dir_all(&folder)
        .map_err(|e| CommandError::world(format!("{} cannot be made", folder.display()), e))?;
    let site = found.base_address().map(|a| a.host().to_string());
    let site =
        site.or_else(|| found.site.file_name().map(|n| n.to_string_lossy().into_owned())).unwrap_or_default();
    let stamp: String = context::now().chars().filter(char::is_ascii_digit).take(14).collect();
    // Another pack of the same second may have the name, or be about to.
    let free = |path: &PathBuf| !path.exists() && context::locks(&[Some(path.display().to_string())]).is_ok();
    let names = (1..).map(|n| {
        if n == 1 { format!("{site}-{stamp}.tar.zst") } else { format!("{site}-{stamp}-{n}.tar.zst") }
    });
    Ok(names
        .map(|name| folder.join(name))
        .take(100)
        .find(free)
        .unwrap_or_else(|| folder.join(format!("{site}-{stamp}.tar.zst"))))
}

/// Prints what was packed.
pub fn show(ui: &Ui, packed: &Packed) {
    ui.good(&format!("Packed {}", packed.archive.display()));
    ui.fact("size", format!("{} ({} bytes)", bytes(packed.size), number(packed.size)));
    ui.fact("files", format!("{}, {}", count(packed.files, "file"), bytes(packed.file_bytes)));
    ui.fact("database", format!("{}, {}", count(packed.tables, "table"), count(packed.rows, "row")));
    ui.fact(
        "address",
        packed.address.as_ref().map_or("not known; a restore will ask for it".into(), ToString::to_string),
    );
    if !packed.left_out.is_empty() {
        ui.heading("Left out");
        let rows = packed.left_out.iter().map(|l| {
            let size = if l.bytes > 0 { bytes(l.bytes) } else { String::new() };
            vec![l.what.clone(), number(l.count), size, l.why.clone()]
        });
        ui.table(&["what", ">count", ">size", "why"], rows.collect());
    }
    for warning in &packed.warnings {
        ui.finding(&warning.what, &warning.place, &warning.cure);
    }
}
