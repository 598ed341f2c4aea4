//! Runs jobs: the one way from a job to what came of it, for the command line, for a timer, for whatever comes. Each run is recorded before
//! it touches anything, locks what it works on, and says how it ended.

mod back;
mod copy;
mod create;
pub mod diagnose;
mod dump;
mod kept;
mod live;
mod load;
pub mod moving;
mod pack;
pub mod quiet;
mod readdress;
pub mod visit;

pub use copy::{Copied, prepare};
pub use create::{CreateOutcome, CreatePreview, NotAllowed};
pub use dump::{DumpOutcome, DumpPreview, PlannedTable, SiteOrServer, Target};
pub use live::{LiveRun, SwitchState};
pub use load::{LoadOutcome, LoadPreview};
pub use pack::{PackPreview, PackedRun, SeveralFailed};
pub use readdress::Readdressed;

use super::{Job, JobError, Kind};
use crate::contents::PackError;
use crate::database::DatabaseError;
use crate::dump::chunk::{Chunk, Piece};
use crate::dump::material::Unread;
use crate::dump::open_text;
use crate::dump::stream::DumpError;
use crate::dump::stream::{Source, WINDOW};
use crate::event::Watch;
use crate::fsx::PathError;
use crate::lock::{Lock, LockError};
use crate::logbook::{Outcome, Run};
use crate::options::values::{DatabaseUrl, SwitchChoice};
use crate::place::{DatabaseAccess, PlaceError};
use crate::restore::RestoreError;
use crate::restore::overwrites::Overwrites;
use crate::restore::owner::NoSuchOwner;
use crate::secret::Secret;
use crate::survey::SurveyError;
use crate::system::{DefinitionError, Known};
use crate::tree::{LocalTree, Tree};
use crate::visit::{VisitError, Visited};
use std::fs::File;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// An error of whoever runs the job.
pub type Outside = Box<dyn std::error::Error + Send + Sync>;

/// What a job needs of the world around it, and what only its caller knows.
pub trait World: Sync {
    /// All definitions of systems.
    fn definitions(&self) -> Result<Vec<Known>, Outside>;
    /// Completes an access by user and password; the file is the one that the job names.
    fn log_in(&self, access: &mut DatabaseAccess, file: Option<&Path>) -> Result<(), Outside>;
    /// Completes the access of an administrator of a server.
    fn log_in_admin(&self, access: &mut DatabaseAccess) -> Result<(), Outside>;
    /// Reads a secret from a file.
    fn secret(&self, file: &Path) -> Result<Secret, Outside>;
    /// The folder for archives, the logbook and saved log-ins.
    fn data(&self) -> Result<PathBuf, Outside>;
    /// The folder of a site, by its path.
    fn tree(&self, root: &Path) -> Arc<dyn Tree> {
        LocalTree::at(root)
    }
    /// A folder for what is temporary.
    fn temporary(&self) -> PathBuf;
    /// Tells the time, as RFC 3339.
    fn clock(&self) -> fn() -> String;
    /// Name and version of the program.
    fn written_by(&self) -> String;
    /// What stands for `-` as an input.
    fn input(&self) -> std::io::Result<File>;
    /// What stands for `-` as an output.
    fn output(&self) -> std::io::Result<File>;
    /// Takes note that a run began.
    fn began(&self, run: &str, kind: Kind);
}

/// Where the record of runs lies, below the folder for data.
pub const LOGBOOK: &str = "logbook";

/// How a job is run.
#[derive(Debug, Clone, Copy)]
pub struct How {
    /// Whether it is only shown what would be done.
    pub dry_run: bool,
    /// Samples to keep per column.
    pub samples: usize,
}

/// What came of a job.
#[derive(Debug)]
pub enum Done {
    /// Of a restore or clone.
    Copied(Box<Copied>),
    /// Of a site that was changed where it lies.
    Changed(Box<LiveRun>),
    /// How the switches of a site are.
    States(Vec<SwitchState>),
    /// Of packs, one for each host.
    Packed(Vec<PackedRun>),
    /// What packs would do.
    PackPreview(Vec<PackPreview>),
    /// Of a visit.
    Visited(Box<Visited>),
    /// Of a rewritten dump.
    Readdressed(Box<Readdressed>),
    /// Of a dump.
    Dumped(Box<DumpOutcome>),
    /// What a dump would do.
    DumpPreview(DumpPreview),
    /// Of a load.
    Loaded(Box<LoadOutcome>),
    /// What a load would do.
    LoadPreview(LoadPreview),
    /// Of a database that was made.
    Created(Box<CreateOutcome>),
    /// What would be asked of the server.
    CreatePreview(CreatePreview),
}

/// Why a job came to nothing, or stopped on the way.
#[derive(Debug, thiserror::Error)]
#[error("{error}")]
pub struct Failure {
    /// What happened.
    #[source]
    pub error: Box<RunError>,
    /// The run that is recorded, if it had begun.
    pub run: Option<String>,
    /// Whether something was begun that stays.
    pub begun: bool,
}

impl<E: Into<RunError>> From<E> for Failure {
    fn from(e: E) -> Self {
        Failure { error: Box::new(e.into()), run: None, begun: false }
    }
}

/// Anything that can stop a job.
#[derive(Debug, thiserror::Error)]
pub enum RunError {
    /// The job itself.
    #[error(transparent)]
    Job(#[from] JobError),
    /// Whoever runs it.
    #[error(transparent)]
    Outside(#[from] Outside),
    /// A lock.
    #[error(transparent)]
    Lock(#[from] LockError),
    /// A definition.
    #[error(transparent)]
    Definition(#[from] DefinitionError),
    /// The survey of a site.
    #[error(transparent)]
    Survey(#[from] SurveyError),
    /// Packing.
    #[error(transparent)]
    Pack(#[from] PackError),
    /// Restoring.
    #[error(transparent)]
    Restore(#[from] RestoreError),
    /// A database.
    #[error(transparent)]
    Database(#[from] DatabaseError),
    /// A dump.
    #[error(transparent)]
    Dump(#[from] DumpError),
    /// A place.
    #[error(transparent)]
    Place(#[from] PlaceError),
    /// A path.
    #[error(transparent)]
    Path(#[from] PathError),
    /// Rights that are missing.
    #[error(transparent)]
    NotAllowed(#[from] create::NotAllowed),
    /// A site that was quiet for a while stays so.
    #[error("{site} stays with {set}: {why}")]
    StaysQuiet {
        /// Site.
        site: String,
        /// What was set.
        set: String,
        /// The run that set it.
        run: String,
        /// Why it could not be put back.
        why: String,
    },
    /// A visit.
    #[error(transparent)]
    Visit(#[from] VisitError),
    /// A guard, or wrong usage, in words of its own.
    #[error(transparent)]
    Refused(#[from] Refused),
}

/// What is refused before anything is touched.
#[derive(Debug, thiserror::Error)]
pub enum Refused {
    /// A file that would be written is there.
    #[error("{0} already exists")]
    Exists(PathBuf),
    /// A folder that would be a file.
    #[error("{0} is a folder, and a file would be written")]
    Folder(PathBuf),
    /// Nothing is asked for.
    #[error("there is nothing to rewrite")]
    NothingToRewrite,
    /// A prefix that cannot be one.
    #[error("the prefixes {0:?} and {1:?} cannot be used")]
    Prefix(String, String),
    /// A column without its table.
    #[error("{0:?} names no column")]
    Column(String),
    /// No user is named for a new database.
    #[error("the URL names no user for the new database")]
    NoUser,
    /// No run of a move's first act.
    #[error("{0:?} is no first act of a move that came to its end")]
    NoMove(String),
    /// Nobody knows the site's address.
    #[error("nothing says which address {0} has")]
    NoAddress(String),
    /// The site's database cannot be reached.
    #[error("the database of {site} cannot be reached: {why}")]
    NoAnswer {
        /// Site.
        site: String,
        /// Why.
        why: String,
    },
    /// The site's config names no database.
    #[error("the config of {0} names no database")]
    NoDatabase(String),
    /// A dump of several parts, and not the first one was named.
    #[error("{dump} is part {number} of a dump")]
    NotTheFirst {
        /// Dump.
        dump: PathBuf,
        /// Number in its name.
        number: String,
        /// Name of the first.
        first: String,
    },
    /// There is no such dump.
    #[error("there is no dump {0}")]
    NoDump(PathBuf),
    /// A folder in place of a dump.
    #[error("{0} is a folder, not a dump")]
    DumpIsFolder(PathBuf),
    /// What changed on the side that is written would be lost.
    #[error("{place} changed since the copy was made: {}", .over.kinds().map(|(kind, names)| format!("{kind}: {names}")).collect::<Vec<_>>().join("; "))]
    Overwrites {
        /// The side that is written.
        place: String,
        /// What would be lost.
        over: Box<Overwrites>,
    },
    /// Something else in place of a dump.
    #[error("{path} cannot be read: {is}")]
    NotADump {
        /// File.
        path: PathBuf,
        /// What it is.
        is: Unread,
    },
    /// A dump without any statement.
    #[error("{0} is empty: it holds no table and no row")]
    EmptyDump(PathBuf),
    /// An archive in place of a dump.
    #[error("{0} is an archive, not a dump")]
    DumpIsArchive(PathBuf),
    /// A dump would have an archive's name.
    #[error("{0} would be an archive by its name, and SQL is written")]
    NamedLikeArchive(PathBuf),
    /// Options that belong to one host beside several.
    #[error("--dump and --old-address belong to one host, and several are named")]
    SeveralHosts,
    /// A size below what a part can have.
    #[error("a part of {0} bytes is too small")]
    PartSize(u64),
    /// Archives of several hosts and a pipe.
    #[error("several archives cannot be written to a pipe")]
    SeveralIntoPipe,
    /// Parts and a pipe.
    #[error("parts cannot be written to a pipe")]
    PartsIntoPipe,
    /// No such user or group on this machine.
    #[error(transparent)]
    NoOwner(#[from] NoSuchOwner),
}

/// Runs a job.
pub fn run(job: &Job, how: How, world: &dyn World, watch: &dyn Watch) -> Result<Done, Failure> {
    let mut done = worked(job, how, world, watch)?;
    if !how.dry_run {
        match &mut done {
            Done::Copied(copied) => visit::behind_copy(copied, world, watch)?,
            Done::Changed(changed) => visit::behind_change(changed, world, watch)?,
            _ => (),
        }
    }
    Ok(done)
}

/// Runs a job, with the switches that were asked for while it works.
fn worked(job: &Job, how: How, world: &dyn World, watch: &dyn Watch) -> Result<Done, Failure> {
    match quiet::asked(job).filter(|_| !how.dry_run) {
        Some(asked) => {
            let work = |former: &[SwitchChoice]| carried_out(job, how, former, world, watch);
            quiet::during(&asked, how, quiet::Stays::Never, world, watch, work).map(|(done, _)| done)
        }
        None => carried_out(job, how, &[], world, watch),
    }
}

/// Runs a job of a site whose switches were in other states before.
fn carried_out(
    job: &Job,
    how: How,
    former: &[SwitchChoice],
    world: &dyn World,
    watch: &dyn Watch,
) -> Result<Done, Failure> {
    match job {
        Job::Restore(options) => {
            copy::run(options, Kind::Restore, how, former, world, watch).map(|c| Done::Copied(Box::new(c)))
        }
        Job::Clone(options) => {
            copy::run(options, Kind::Clone, how, former, world, watch).map(|c| Done::Copied(Box::new(c)))
        }
        Job::Move(options) => {
            copy::run(options, Kind::Move, how, former, world, watch).map(|c| Done::Copied(Box::new(c)))
        }
        Job::Pack(options) if how.dry_run => pack::preview(options, world, watch).map(Done::PackPreview),
        Job::Pack(options) => pack::run(options, former, world, watch).map(Done::Packed),
        Job::Settle(options) => live::settle(options, how, world, watch).map(|r| Done::Changed(Box::new(r))),
        Job::Switch(options) if options.set.is_empty() => {
            live::states(options, world, watch).map(Done::States)
        }
        Job::Switch(options) => live::switch(options, how, world, watch).map(|r| Done::Changed(Box::new(r))),
        Job::Visit(options) => Ok(visit::run(options, world, watch).map(|v| Done::Visited(Box::new(v)))?),
        Job::Readdress(options) => {
            readdress::run(options, how, world, watch).map(|r| Done::Readdressed(Box::new(r)))
        }
        Job::DatabaseDump(options) if how.dry_run => dump::preview(options, world).map(Done::DumpPreview),
        Job::DatabaseDump(options) => dump::run(options, world, watch).map(|d| Done::Dumped(Box::new(d))),
        Job::DatabaseLoad(options) => load::run(options, how, world, watch),
        Job::DatabaseCreate(options) => create::run(options, how, world),
    }
}

/// The database that somebody names as a site's own, with its password.
fn named_database(
    url: &Option<DatabaseUrl>,
    file: Option<&Path>,
    world: &dyn World,
) -> Result<Option<DatabaseAccess>, RunError> {
    let Some(url) = url else { return Ok(None) };
    let mut access = url.0.clone();
    world.log_in(&mut access, file)?;
    Ok(Some(access))
}

/// The locks and the record of a run that begins.
struct Begun {
    book: Run,
    _locks: Vec<Lock>,
}

/// Takes the locks of what a run works on.
fn lock(world: &dyn World, things: &[Option<String>]) -> Result<Vec<Lock>, RunError> {
    let folder = world.data()?.join(LOGBOOK);
    Ok(things.iter().flatten().map(|thing| Lock::take(&folder, thing)).collect::<Result<_, _>>()?)
}

/// Begins the record of a run that holds locks.
fn begin(
    kind: Kind,
    detail: serde_json::Value,
    mut locks: Vec<Lock>,
    world: &dyn World,
) -> Result<Begun, RunError> {
    // The last word is enough for a number: `dump`, `load`.
    let command = kind.command().rsplit(' ').next().unwrap_or_default();
    let book = Run::begin(&world.data()?.join(LOGBOOK), command, detail, world.clock())?;
    world.began(book.id(), kind);
    for lock in &mut locks {
        // Who asks is told less if this fails.
        let _ = lock.held_by(book.id());
    }
    Ok(Begun { book, _locks: locks })
}

impl Begun {
    /// Records the end of a run that came to its end, and hands on its number.
    fn done(self, detail: serde_json::Value) -> Result<String, RunError> {
        let run = self.book.id().to_string();
        self.book.end(Outcome::Done, detail)?;
        Ok(run)
    }

    /// Records the end of a run that did not, and makes the failure of it.
    fn failed(self, error: impl Into<RunError>, begun: bool, watch: &dyn Watch) -> Failure {
        let error = error.into();
        let run = self.book.id().to_string();
        let outcome = if watch.cancelled() { Outcome::Cancelled } else { Outcome::Failed };
        // What happened counts for more than a record that cannot be written.
        let _ = self.book.end(outcome, serde_json::json!({ "error": error.to_string() }));
        Failure { error: Box::new(error), run: Some(run), begun }
    }
}

/// Endings of archives, which are no dumps.
const ARCHIVES: [&str; 7] = [".tar.zst", ".tzst", ".tar.gz", ".tgz", ".tar", ".zip", ".7z"];

fn named_like_archive(path: &Path) -> bool {
    let name = path.to_string_lossy().to_lowercase();
    ARCHIVES.iter().any(|e| name.ends_with(e))
}

/// Looks at a dump that is to be read: a name may tell already that it is none.
pub fn readable_dump(path: &Path) -> Result<(), Refused> {
    if !path.exists() {
        return Err(Refused::NoDump(path.to_path_buf()));
    }
    if path.is_dir() {
        return Err(Refused::DumpIsFolder(path.to_path_buf()));
    }
    if named_like_archive(path) {
        return Err(Refused::DumpIsArchive(path.to_path_buf()));
    }
    is_dump(path)
}

/// Refuses a file whose first bytes are of no dump. A pipe can be read but once; whatever else fails is told by who reads all of it.
fn is_dump(path: &Path) -> Result<(), Refused> {
    let opened = || match path.is_file() {
        true => open_text(std::fs::File::open(path).ok()?).err(),
        false => None,
    };
    match opened().and_then(|e| e.get_ref()?.downcast_ref::<Unread>().copied()) {
        Some(is) => Err(Refused::NotADump { path: path.to_path_buf(), is }),
        None => Ok(()),
    }
}

/// Refuses dumps of which not one holds a statement: nothing was exported, or nothing arrived.
fn holds_something(files: &[PathBuf]) -> Result<(), Refused> {
    let is_empty = |path: &PathBuf| {
        let open = || -> Result<bool, DumpError> {
            let file = std::fs::File::open(path).map_err(DumpError::Read)?;
            let mut source = Source::new(open_text(file).map_err(DumpError::Read)?, WINDOW, None)?;
            let mut chunk = Chunk::default();
            while source.next(&mut chunk)? {
                if chunk.pieces().any(|(_, piece, _)| !matches!(piece, Piece::Gap(_))) {
                    return Ok(false);
                }
            }
            Ok(true)
        };
        // What cannot be read is told by who reads all of it.
        path.is_file() && open().unwrap_or(false)
    };
    match files.first() {
        Some(first) if files.iter().all(is_empty) => Err(Refused::EmptyDump(first.clone())),
        _ => Ok(()),
    }
}

/// Looks at a dump that is to be written: it may take the place of a file only where that was asked for. What is no plain file, such as a
/// device, is written into.
fn writable_dump(path: &Path, force: bool) -> Result<(), Refused> {
    if named_like_archive(path) {
        return Err(Refused::NamedLikeArchive(path.to_path_buf()));
    }
    match path.metadata() {
        Ok(meta) if meta.is_dir() => Err(Refused::Folder(path.to_path_buf())),
        Ok(meta) if meta.is_file() && !force => Err(Refused::Exists(path.to_path_buf())),
        _ => Ok(()),
    }
}
