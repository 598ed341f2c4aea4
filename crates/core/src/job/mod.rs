//! Jobs: what somebody asks for, as one typed value. It is read from arguments or from a file (TOML), and the core runs it by itself.
//!
//! `options` holds one struct for each command with a field for each of its options, `values` what such a field may hold, `run` does the
//! work for whoever brings the world with him: passwords, the time, the logbook.

pub mod run;

pub use crate::options::{self, values};

use crate::fsx::{AtPath, PathError};
use crate::tree::write_atomically;
use options::{CopyJob, CreateJob, DumpJob, LoadJob, PackJob, ReaddressJob, SettleJob, SwitchJob, VisitJob};
use schemars::generate::SchemaSettings;
use schemars::{JsonSchema, Schema};
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::{Map, Value};
use std::path::{Path, PathBuf};

/// A job of any command that does something.
#[derive(Debug, Clone, PartialEq)]
pub enum Job {
    /// Restore an archive elsewhere.
    Restore(Box<CopyJob>),
    /// Clone a site.
    Clone(Box<CopyJob>),
    /// Move a site: its first act.
    Move(Box<CopyJob>),
    /// Pack a site.
    Pack(PackJob),
    /// Put a site right where it lies.
    Settle(Box<SettleJob>),
    /// Switch something of a site.
    Switch(SwitchJob),
    /// Look at a running site.
    Visit(Box<VisitJob>),
    /// Rewrite a dump.
    Readdress(ReaddressJob),
    /// Dump a database.
    DatabaseDump(DumpJob),
    /// Load a dump.
    DatabaseLoad(LoadJob),
    /// Make a database.
    DatabaseCreate(CreateJob),
}

/// A command that a job can be for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// `restore`
    Restore,
    /// `clone`
    Clone,
    /// `move`
    Move,
    /// `pack`
    Pack,
    /// `settle`
    Settle,
    /// `switch`
    Switch,
    /// `visit`
    Visit,
    /// `readdress`
    Readdress,
    /// `database dump`
    DatabaseDump,
    /// `database load`
    DatabaseLoad,
    /// `database create`
    DatabaseCreate,
}

impl Kind {
    /// All of them.
    pub const ALL: [Kind; 11] = [
        Kind::Restore,
        Kind::Clone,
        Kind::Move,
        Kind::Pack,
        Kind::Settle,
        Kind::Switch,
        Kind::Visit,
        Kind::Readdress,
        Kind::DatabaseDump,
        Kind::DatabaseLoad,
        Kind::DatabaseCreate,
    ];

    /// The command as people write it, and as a job file names it.
    pub fn command(self) -> &'static str {
        match self {
            Kind::Restore => "restore",
            Kind::Clone => "clone",
            Kind::Move => "move",
            Kind::Pack => "pack",
            Kind::Settle => "settle",
            Kind::Switch => "switch",
            Kind::Visit => "visit",
            Kind::Readdress => "readdress",
            Kind::DatabaseDump => "database dump",
            Kind::DatabaseLoad => "database load",
            Kind::DatabaseCreate => "database create",
        }
    }

    /// The shape of its options: names, kinds, and what each does.
    pub fn schema(self) -> Schema {
        fn of<T: JsonSchema>() -> Schema {
            let settings = SchemaSettings::draft2020_12().with(|s| s.inline_subschemas = true);
            settings.into_generator().into_root_schema_for::<T>()
        }
        let mut schema = match self {
            Kind::Restore | Kind::Clone | Kind::Move => of::<CopyJob>(),
            Kind::Pack => of::<PackJob>(),
            Kind::Settle => of::<SettleJob>(),
            Kind::Switch => of::<SwitchJob>(),
            Kind::Visit => of::<VisitJob>(),
            Kind::Readdress => of::<ReaddressJob>(),
            Kind::DatabaseDump => of::<DumpJob>(),
            Kind::DatabaseLoad => of::<LoadJob>(),
            Kind::DatabaseCreate => of::<CreateJob>(),
        };
        let other = |of: &Value| of.get("x-in").and_then(Value::as_str).is_some_and(|c| c != self.command());
        if let Some(properties) = schema.get_mut("properties").and_then(Value::as_object_mut) {
            properties.retain(|_, property| !other(property));
        }
        schema
    }

    /// Makes a job of options by their names. A wrong or missing one is told with its name.
    pub fn job(self, options: Map<String, Value>) -> Result<Job, JobError> {
        let known = self.schema();
        let known = known.get("properties").and_then(Value::as_object);
        if let Some(name) = options.keys().find(|k| known.is_some_and(|known| !known.contains_key(*k))) {
            return Err(JobError::Unknown { command: self.command(), name: name.clone() });
        }
        Ok(match self {
            Kind::Restore => Job::Restore(read(options)?),
            Kind::Clone => Job::Clone(read(options)?),
            Kind::Move => Job::Move(read(options)?),
            Kind::Pack => Job::Pack(read(options)?),
            Kind::Settle => Job::Settle(read(options)?),
            Kind::Switch => Job::Switch(read(options)?),
            Kind::Visit => Job::Visit(read(options)?),
            Kind::Readdress => Job::Readdress(read(options)?),
            Kind::DatabaseDump => Job::DatabaseDump(read(options)?),
            Kind::DatabaseLoad => Job::DatabaseLoad(read(options)?),
            Kind::DatabaseCreate => Job::DatabaseCreate(read(options)?),
        })
    }
}

fn read<T: DeserializeOwned>(options: Map<String, Value>) -> Result<T, JobError> {
    serde_path_to_error::deserialize(Value::Object(options)).map_err(|e| {
        let name = e.path().iter().next().map(|s| s.to_string()).unwrap_or_default();
        let text = e.inner().to_string();
        if let Some(missing) = text.strip_prefix("missing field `").and_then(|t| t.split('`').next()) {
            return JobError::Missing(missing.to_string());
        }
        let (why, cure) = text.split_once(crate::place::CURE).map_or((&*text, ""), |(why, cure)| (why, cure));
        JobError::Wrong { name, why: why.to_string(), cure: cure.to_string() }
    })
}

/// Why there is no job.
#[derive(Debug, thiserror::Error)]
pub enum JobError {
    /// The file cannot be read or written.
    #[error(transparent)]
    Path(#[from] PathError),
    /// It is no job file.
    #[error("{path} is no job file: {why}")]
    NoJob {
        /// Path.
        path: PathBuf,
        /// What the reader said.
        why: String,
    },
    /// It holds a job for another command.
    #[error("{path} holds a job for `zporter {holds}`")]
    OtherCommand {
        /// Path.
        path: PathBuf,
        /// Whose job it is.
        holds: String,
    },
    /// No option of that name.
    #[error("`{command}` has no option {name:?}")]
    Unknown {
        /// Command.
        command: &'static str,
        /// Name.
        name: String,
    },
    /// An option that is needed was not given.
    #[error("{0} is missing")]
    Missing(String),
    /// The value of an option cannot be used.
    #[error("{name}: {why}")]
    Wrong {
        /// Option.
        name: String,
        /// What is wrong.
        why: String,
        /// How it is written right; may be empty.
        cure: String,
    },
}

impl Job {
    /// The command that it is for.
    pub fn kind(&self) -> Kind {
        match self {
            Job::Restore(_) => Kind::Restore,
            Job::Clone(_) => Kind::Clone,
            Job::Move(_) => Kind::Move,
            Job::Pack(_) => Kind::Pack,
            Job::Settle(_) => Kind::Settle,
            Job::Switch(_) => Kind::Switch,
            Job::Visit(_) => Kind::Visit,
            Job::Readdress(_) => Kind::Readdress,
            Job::DatabaseDump(_) => Kind::DatabaseDump,
            Job::DatabaseLoad(_) => Kind::DatabaseLoad,
            Job::DatabaseCreate(_) => Kind::DatabaseCreate,
        }
    }

    /// Its options by name. No password is among them.
    pub fn options(&self) -> Map<String, Value> {
        fn of(options: &impl Serialize) -> Map<String, Value> {
            match serde_json::to_value(options) {
                Ok(Value::Object(map)) => map,
                _ => Map::new(),
            }
        }
        match self {
            Job::Restore(o) | Job::Clone(o) | Job::Move(o) => of(o),
            Job::Pack(o) => of(o),
            Job::Settle(o) => of(o),
            Job::Switch(o) => of(o),
            Job::Visit(o) => of(o),
            Job::Readdress(o) => of(o),
            Job::DatabaseDump(o) => of(o),
            Job::DatabaseLoad(o) => of(o),
            Job::DatabaseCreate(o) => of(o),
        }
    }

    /// Writes it to a file.
    pub fn write(&self, path: &Path) -> Result<(), JobError> {
        let command = self.kind().command();
        let options = toml::to_string(&self.options())
            .map_err(|e| JobError::NoJob { path: path.to_path_buf(), why: e.to_string() })?;
        let text = format!(
            "# A job for zporter. Run it with: zporter {command} --job '{}'\n# Passwords never stand here.\njob = {command:?}\n{options}",
            path.display()
        );
        Ok(write_atomically(path, text.as_bytes())?)
    }

    /// Reads it from a file.
    pub fn read(path: &Path) -> Result<Job, JobError> {
        let (kind, options) = read_file(path)?;
        kind.job(options)
    }
}

/// Reads which command a job file is for, and the options in it.
pub fn read_file(path: &Path) -> Result<(Kind, Map<String, Value>), JobError> {
    let text = std::fs::read_to_string(path).at(path)?;
    let no_job = |why: String| JobError::NoJob { path: path.to_path_buf(), why };
    let mut options: Map<String, Value> =
        toml::from_str(&text).map_err(|e| no_job(e.to_string().trim().to_string()))?;
    let command = options.shift_remove("job").and_then(|v| v.as_str().map(str::to_string));
    let command = command.ok_or_else(|| no_job("no line says which job it is".into()))?;
    let kind = Kind::ALL.into_iter().find(|k| k.command() == command);
    Ok((kind.ok_or_else(|| no_job(format!("the job {command:?} is not known")))?, options))
}
