//! Loading a dump into a database that was looked at first: empty, expressly replaceable, or left half full by the same load.
//!
//! Every engine vets statements in its own words ([`Loading`]); what is the same for all stands here.

use super::DatabaseError;
use super::dump::{DumpPlan, dump};
use super::journal::{InLogbook, Reached};
pub use super::loading::{Loaded, Loading, Substituted, plain_name, shortened};
use super::loading::{Meter, Metered, Plain};
use super::servers;
use crate::database::loading::Substitution;
use crate::dump::rules::Keep;
use crate::dump::statement::Class;
use crate::dump::stream::{At, DumpError, Piece, Sink, Source, WINDOW, run_source};
use crate::event::{Event, Watch};
use crate::fsx::private_folder;
use crate::logbook::{Run, StepKind};
use crate::place::DatabaseAccess;
use crate::vet::made;
use std::collections::BTreeSet;
use std::fs::File;
use std::io::BufReader;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::mpsc::{Sender, channel};

/// Returns the tables and views of a database that may be loaded into. A file that is missing holds nothing, and is not made.
pub fn contents(access: &DatabaseAccess) -> Result<Vec<String>, DatabaseError> {
    if access.engine.facts().is_file && !Path::new(&access.name).exists() {
        return Ok(Vec::new());
    }
    servers::loader(access)?.tables()
}

/// Refuses a database that holds something.
pub fn must_be_empty(access: &DatabaseAccess, found: Vec<String>) -> Result<(), DatabaseError> {
    if found.is_empty() {
        return Ok(());
    }
    Err(DatabaseError::InUse { name: access.name.clone(), found: shortened(found) })
}

/// A dump that is to be loaded.
#[derive(Debug, Clone)]
pub struct LoadPlan {
    /// Files, in order: a dump or its parts.
    pub files: Vec<PathBuf>,
    /// Where to.
    pub access: DatabaseAccess,
    /// Whether what is there is replaced.
    pub replace: bool,
    /// Connections.
    pub connections: usize,
    /// Names that the server does not know, and what they become.
    pub substitute: Vec<Substitution>,
    /// Whether events work as soon as they are loaded.
    pub events: bool,
    /// How far an interrupted run of the same job came.
    pub earlier: Option<Reached>,
}

/// Name of the dump in the folder of what a run replaced.
pub const KEPT_DUMP: &str = "database.sql.zst";

impl LoadPlan {
    fn allows(&self, found: &[String]) -> Result<(), DatabaseError> {
        if self.replace || self.earlier.is_some() {
            Ok(())
        } else {
            must_be_empty(&self.access, found.to_vec())
        }
    }
}

/// Looks whether a job would be refused, without changing anything. Returns what is in the database.
pub fn guard(job: &LoadPlan) -> Result<Vec<String>, DatabaseError> {
    let found = contents(&job.access)?;
    job.allows(&found)?;
    Ok(found)
}

/// Says by its name whether a dump is compressed; it holds some four times as many bytes then.
fn is_compressed(path: &Path) -> bool {
    path.extension().is_some_and(|e| e == "gz" || e == "zst")
}

/// Loads a dump.
pub fn load(job: &LoadPlan, run: &Run, watch: &dyn Watch) -> Result<Loaded, DatabaseError> {
    let mut loader = servers::loader(&job.access)?;
    // Since the guard looked, somebody may have filled it.
    let found = loader.tables()?;
    job.allows(&found)?;
    loader.on(job.connections, &job.substitute, Box::new(InLogbook(run.clone())))?;
    if job.events {
        loader.put_events_on();
    }
    let size = |f: &PathBuf| f.metadata().map_or(0, |m| m.len());
    let total = job.files.iter().map(size).sum();
    let text = job.files.iter().map(|f| if is_compressed(f) { 4 * size(f) } else { size(f) }).sum();
    loader.in_stages(text, Box::new(InLogbook(run.clone())));
    match &job.earlier {
        Some(reached) => loader.go_on(reached.clone())?,
        None if !found.is_empty() => {
            // What the dump does not name is not its to replace.
            let named = tables_of(&job.files)?;
            let goes = found.iter().filter(|t| named.contains(*t)).cloned().collect();
            replace(loader.as_mut(), &job.access, &goes, run, watch)?;
        }
        None => {}
    }
    step(run, StepKind::LoadDatabase, serde_json::json!({ "database": job.access.url() }))?;
    watch.event(Event::StepStarted { step: "loading", total: Some(total) });
    let meter = Arc::new(Meter::default());
    let loaded = std::thread::scope(|scope| {
        let (through, done) = channel();
        let reporting = meter.clone();
        // A load whose progress nobody sees is one as well.
        let _ = crate::threads::start_in(scope, move || reporting.report(watch, &done));
        // Held to the end, whatever that is: the report ends with it.
        let _through: Sender<()> = through;
        job.files.iter().try_for_each(|path| {
            let plain = Plain { file: Arc::new(File::open(path)?), meter: meter.clone() };
            let mut reader = crate::dump::open_text(Metered(plain.clone()))?;
            let plain = reader.is_plain().then_some(plain);
            loader.load(&mut reader, plain)
        })?;
        // What is on its way yet counts.
        loader.arrive()
    });
    watch.event(Event::StepDone);
    loaded?;
    loader.finish()
}

/// Keeps a dump of the tables that `goes` names, and takes them away. What else is in the database stays.
pub fn replace(
    loader: &mut dyn Loading,
    access: &DatabaseAccess,
    goes: &BTreeSet<String>,
    run: &Run,
    watch: &dyn Watch,
) -> Result<(), DatabaseError> {
    let output = keep_dump(access, goes, run, watch)?;
    let tables: Vec<&String> = goes.iter().collect();
    step(
        run,
        StepKind::ReplaceDatabase,
        serde_json::json!({ "database": access.url(), "kept": output, "tables": tables }),
    )?;
    let all = loader.tables()?.iter().all(|t| goes.contains(t));
    if all { loader.empty() } else { loader.make_room(goes) }
}

/// Keeps a dump of some tables in the folder of a run. Returns it.
pub fn keep_dump(
    access: &DatabaseAccess,
    goes: &BTreeSet<String>,
    run: &Run,
    watch: &dyn Watch,
) -> Result<PathBuf, DatabaseError> {
    let kept = run.kept();
    private_folder(&kept)?;
    let output = kept.join(KEPT_DUMP);
    let keep = |table: &str| {
        let keep = if goes.contains(plain_name(table)) { Keep::All } else { Keep::Nothing };
        (keep, String::new())
    };
    let job = DumpPlan {
        access: access.clone(),
        output: output.clone(),
        pipe: None,
        force: false,
        part_size: None,
        checksums: false,
        strictly: true,
        keep: &keep,
    };
    dump(&job, watch).map_err(|e| match e {
        DatabaseError::Io(source) => DatabaseError::NotKept { folder: kept, source },
        other => other,
    })?;
    Ok(output)
}

/// The tables, views and sequences that a dump makes, by their plain names.
fn tables_of(files: &[PathBuf]) -> Result<BTreeSet<String>, DatabaseError> {
    let mut names = Names(BTreeSet::new());
    for file in files {
        let reader = BufReader::new(crate::dump::open_text(File::open(file)?)?);
        let wrong = |e: DumpError| DatabaseError::Io(std::io::Error::other(e.to_string()));
        run_source(Source::new(reader, WINDOW, None).map_err(wrong)?, &mut names).map_err(wrong)?;
    }
    Ok(names.0)
}

/// Collects what a dump makes.
struct Names(BTreeSet<String>);

impl Sink for Names {
    fn piece(&mut self, piece: Piece<'_>, at: At<'_>) -> Result<(), DumpError> {
        if let Piece::Whole { bytes, delimiter, .. } = piece {
            let text = String::from_utf8_lossy(&bytes[..bytes.len() - delimiter]);
            let named = matches!(at.statement.class, Class::CreateTable | Class::CreateView);
            self.0.extend(at.statement.name.clone().filter(|_| named));
            self.0.extend(made(&text, at.quoting));
        }
        Ok(())
    }
}

pub(crate) fn step(run: &Run, name: StepKind, detail: serde_json::Value) -> Result<(), DatabaseError> {
    run.step(name, detail).map_err(|e| DatabaseError::Io(e.source))
}
