//! Runs a pack, or a pack for each of several hosts, and tells beforehand what it would weigh.

use super::kept;
use super::{Failure, Refused, RunError, World, begin, lock, named_database, readable_dump};
use crate::contents::{GatherOptions, PackError};
use crate::event::Watch;
use crate::fsx::{AtPath, PathError, free_space};
use crate::job::Kind;
use crate::logbook::StepKind;
use crate::options::PackJob;
use crate::options::values::{FileOrPipe, SwitchChoice};
use crate::pack::{PackInto, Packed, estimate, pack};
use crate::path_text::to_text;
use crate::survey::estimate::Estimate;
use crate::survey::{Survey, SurveyJob, survey};
use crate::table_scope::{TableScope, Whose};
use schemars::JsonSchema;
use serde::Serialize;
use std::fs::File;
use std::path::{Path, PathBuf};

/// A site that was packed.
#[derive(Debug, Serialize, JsonSchema)]
pub struct PackedRun {
    /// The archive and what is in it.
    #[serde(flatten)]
    pub packed: Packed,
    /// The run.
    pub run: String,
}

/// What a pack would write.
#[derive(Debug, Serialize, JsonSchema)]
pub struct PackPreview {
    /// The site.
    #[serde(with = "crate::path_text")]
    #[schemars(with = "PathBuf")]
    pub site: PathBuf,
    /// The archive.
    #[serde(with = "crate::path_text")]
    #[schemars(with = "PathBuf")]
    pub archive: PathBuf,
    /// What it would weigh.
    #[serde(flatten)]
    pub estimate: Estimate,
    /// Free bytes where the archive would lie.
    pub free_bytes: Option<u64>,
}

/// One host of a job.
struct OneHost<'j> {
    options: &'j PackJob,
    host: Option<String>,
    several: bool,
    former: &'j [SwitchChoice],
}

fn each(options: &PackJob, world: &dyn World, watch: &dyn Watch) -> Result<Vec<Option<String>>, RunError> {
    let named = &options.host_folder;
    let hosts = if named.iter().any(|h| h == "all") {
        let job = SurveyJob::default();
        survey(&*world.tree(&options.site), &job, &world.definitions()?, watch)?
            .hosts
            .found
            .into_iter()
            .map(|h| h.folder)
            .collect()
    } else {
        named.clone()
    };
    if hosts.len() > 1 && (options.dump.is_some() || options.old_address.is_some()) {
        return Err(Refused::SeveralHosts.into());
    }
    if hosts.len() > 1 && options.output == Some(FileOrPipe::Pipe) {
        return Err(Refused::SeveralIntoPipe.into());
    }
    Ok(if hosts.is_empty() { vec![None] } else { hosts.into_iter().map(Some).collect() })
}

impl OneHost<'_> {
    fn survey(&self, world: &dyn World, watch: &dyn Watch) -> Result<Survey, RunError> {
        if let Some(dump) = &self.options.dump {
            readable_dump(dump)?;
        }
        let job = SurveyJob {
            dump: self.options.dump.as_deref().map(Path::to_path_buf),
            host_folder: self.host.clone(),
            database: named_database(
                &self.options.database,
                self.options.database_password_file.as_deref(),
                world,
            )?,
            by_hand: self.options.by_hand(),
            ..SurveyJob::default()
        };
        Ok(survey(&*world.tree(&self.options.site), &job, &world.definitions()?, watch)?)
    }

    /// Where the archive goes; every host gets one of its own.
    fn output(&self, found: &Survey, world: &dyn World) -> Result<PathBuf, RunError> {
        Ok(match (&self.options.output, &self.host) {
            (Some(FileOrPipe::Pipe), _) => PathBuf::from("-"),
            (Some(FileOrPipe::File(path)), Some(host)) if self.several => beside(path, host),
            (Some(FileOrPipe::File(path)), _) => path.to_path_buf(),
            (None, _) => default_output(found, world)?,
        })
    }

    /// Opens what is no plain file, such as a pipe or /dev/null: the archive goes straight into it.
    fn straight(&self, output: &Path, world: &dyn World) -> Result<Option<File>, PathError> {
        if self.options.output == Some(FileOrPipe::Pipe) {
            return world.output().at(output).map(Some);
        }
        match output.metadata() {
            Ok(meta) if !meta.is_file() && !meta.is_dir() => {
                File::options().write(true).open(output).at(output).map(Some)
            }
            _ => Ok(None),
        }
    }

    fn gather<'a>(&'a self, world: &dyn World, whose: &'a Whose) -> GatherOptions<'a> {
        GatherOptions {
            dump: self.options.dump.as_deref(),
            scope: self.options.scope(),
            tables: TableScope {
                rows: &self.options.rows,
                light: self.options.light,
                taken: &self.options.tables,
                whose,
            },
            storage: self.options.storage.as_deref(),
            note: &self.options.note,
            packed_at: world.clock()(),
            written_by: world.written_by(),
            address: self.options.old_address.as_ref(),
            former: self.former,
            host_named: self.host.is_some(),
        }
    }

    fn run(&self, world: &dyn World, watch: &dyn Watch) -> Result<PackedRun, Failure> {
        let found = self.survey(world, watch)?;
        let output = self.output(&found, world)?;
        let whose = Whose::but(kept::recorded(world, found.config.database.as_ref())?);
        let locks = lock(world, &[Some(to_text(&output).into_owned())])?;
        let detail = serde_json::json!({ "site": to_text(&found.site), "archive": to_text(&output) });
        let begun = begin(Kind::Pack, detail, locks, world)?;
        begun.book.step(StepKind::WriteArchive, serde_json::json!({ "archive": to_text(&output) }))?;
        let temporary = world.temporary();
        let packed = self.straight(&output, world).map_err(PackError::from).and_then(|straight| {
            let into = match straight {
                Some(out) => PackInto::Straight { out, name: &output, temporary: &temporary },
                None => PackInto::File { path: &output, force: self.options.force },
            };
            pack(&found, into, &self.gather(world, &whose), watch)
        });
        match packed {
            Ok(packed) => {
                let detail = serde_json::json!({ "archive": to_text(&packed.archive), "size": packed.size });
                let run = begun.done(detail)?;
                Ok(PackedRun { packed, run })
            }
            // An archive appears when it is whole.
            Err(e) => Err(begun.failed(e, false, watch)),
        }
    }
}

/// Packs.
pub(super) fn run(
    options: &PackJob,
    former: &[SwitchChoice],
    world: &dyn World,
    watch: &dyn Watch,
) -> Result<Vec<PackedRun>, Failure> {
    let hosts = each(options, world, watch)?;
    let several = hosts.len() > 1;
    let mut done: Vec<PackedRun> = Vec::new();
    for host in hosts {
        match (OneHost { options, host: host.clone(), several, former }).run(world, watch) {
            Ok(packed) => done.push(packed),
            Err(failure) if several => {
                let error = SeveralFailed {
                    host: host.unwrap_or_default(),
                    written: done.iter().map(|d| d.packed.archive.clone()).collect(),
                    source: failure.error,
                };
                let error = Box::new(RunError::Outside(Box::new(error)));
                return Err(Failure { error, run: failure.run, begun: false });
            }
            Err(failure) => return Err(failure),
        }
    }
    Ok(done)
}

/// One of several hosts could not be packed.
#[derive(Debug, thiserror::Error)]
#[error("the host {host} could not be packed{}", .written.iter().map(|p| format!("; {} was written", p.display())).collect::<String>())]
pub struct SeveralFailed {
    /// The host.
    pub host: String,
    /// Archives that were written before.
    pub written: Vec<PathBuf>,
    /// Why.
    #[source]
    pub source: Box<RunError>,
}

/// Tells what packing would write.
pub(super) fn preview(
    options: &PackJob,
    world: &dyn World,
    watch: &dyn Watch,
) -> Result<Vec<PackPreview>, Failure> {
    let hosts = each(options, world, watch)?;
    let several = hosts.len() > 1;
    let mut out = Vec::new();
    for host in hosts {
        let one = OneHost { options, host, several, former: &[] };
        let found = one.survey(world, watch)?;
        let archive = one.output(&found, world)?;
        if archive.is_file() && !options.force {
            return Err(Refused::Exists(archive).into());
        }
        let kept = kept::recorded(world, found.config.database.as_ref()).map_err(Failure::from)?;
        let whose = Whose::but(kept);
        let gather = one.gather(world, &whose);
        let estimate = estimate(&found, &gather.scope, gather.tables);
        let free_bytes = archive.parent().and_then(free_space);
        out.push(PackPreview { site: found.site, archive, estimate, free_bytes });
    }
    Ok(out)
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
fn default_output(found: &Survey, world: &dyn World) -> Result<PathBuf, RunError> {
    let folder = world.data()?.join("archives");
    crate::fsx::private_folder(&folder)
        .map_err(|source| crate::fsx::PathError { path: folder.clone(), source })?;
    let site = found.base_address().map(|a| a.host().to_string());
    let site =
        site.or_else(|| found.site.file_name().map(|n| n.to_string_lossy().into_owned())).unwrap_or_default();
    let stamp: String = world.clock()().chars().filter(char::is_ascii_digit).take(14).collect();
    // Another pack of the same second may have the name, or be about to.
    let free = |path: &PathBuf| !path.exists() && lock(world, &[Some(to_text(path).into_owned())]).is_ok();
    let names = (1..).map(|n| {
        if n == 1 { format!("{site}-{stamp}.tar.zst") } else { format!("{site}-{stamp}-{n}.tar.zst") }
    });
    Ok(names
        .map(|name| folder.join(name))
        .take(100)
        .find(free)
        .unwrap_or_else(|| folder.join(format!("{site}-{stamp}.tar.zst"))))
}
