//! A site that is quiet while it is read: switches are set before, and put back at the end whatever happens.
//!
//! What is set is a run of its own, with all that `undo` needs; a small file says that it is only for a while. If this process is killed
//! the file stays, and the next command that finds it says so.

use super::{Failure, How, RunError, World, back, live};
use crate::event::{Event, Watch};
use crate::fsx::AtPath;
use crate::job::Job;
use crate::options::SwitchJob;
use crate::options::values::{FullPath, SwitchChoice};
use serde::{Deserialize, Serialize};
use std::path::{Path, PathBuf};

/// Folder of the files that tell of sites that are quiet for a while, below the folder for data.
const FOLDER: &str = "quiet";

/// What is asked for.
pub(super) struct Asked {
    site: FullPath,
    host_folder: Option<String>,
    set: Vec<SwitchChoice>,
}

impl Asked {
    /// Switches of a site.
    pub(super) fn of(site: FullPath, host_folder: Option<String>, set: Vec<SwitchChoice>) -> Self {
        Asked { site, host_folder, set }
    }
}

/// Whether a site stays as it was set.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Stays {
    /// It is put back in any case.
    Never,
    /// Only if the work failed.
    IfItWorked,
}

/// Says what has to be set while a job runs.
pub(super) fn asked(job: &Job) -> Option<Asked> {
    let (site, host_folder, set) = match job {
        Job::Pack(options) => {
            let one = options.host_folder.first().filter(|h| *h != "all").cloned();
            (options.site.clone(), one, &options.during)
        }
        Job::Clone(options) => (options.source.clone(), options.host_folder.clone(), &options.during),
        Job::DatabaseDump(options) => {
            (FullPath::of(Path::new(&options.place)), options.host_folder.clone(), &options.during)
        }
        _ => return None,
    };
    (!set.is_empty()).then(|| Asked { site, host_folder, set: set.clone() })
}

/// A site that was left quiet.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct LeftQuiet {
    /// Site.
    pub site: String,
    /// What was set.
    pub set: Vec<String>,
    /// The run that set it, once it had.
    pub run: Option<String>,
    process: u32,
}

/// Returns the sites that processes which are no more left quiet.
pub fn left_quiet(data: &Path) -> Vec<LeftQuiet> {
    let files = std::fs::read_dir(data.join(FOLDER)).into_iter().flatten().flatten();
    let read = files.filter_map(|file| serde_json::from_slice(&std::fs::read(file.path()).ok()?).ok());
    let gone = |left: &LeftQuiet| !Path::new("/proc").join(left.process.to_string()).exists();
    read.filter(gone).collect()
}

/// Takes note that a run which left a site quiet is undone.
pub fn is_loud_again(data: &Path, run: &str) {
    for file in std::fs::read_dir(data.join(FOLDER)).into_iter().flatten().flatten() {
        let left = std::fs::read(file.path()).ok().and_then(|b| serde_json::from_slice::<LeftQuiet>(&b).ok());
        if left.is_some_and(|left| left.run.as_deref() == Some(run)) {
            let _ = std::fs::remove_file(file.path());
        }
    }
}

/// The file that tells of it.
struct Note {
    path: PathBuf,
    left: LeftQuiet,
}

impl Note {
    fn begin(data: &Path, asked: &Asked) -> Result<Self, RunError> {
        let folder = data.join(FOLDER);
        crate::fsx::private_folder(&folder).at(&folder)?;
        let process = std::process::id();
        let set = asked.set.iter().map(|s| format!("{}={}", s.name.word(), s.state)).collect();
        let left = LeftQuiet { site: asked.site.display().to_string(), set, run: None, process };
        let note = Note { path: folder.join(format!("{process}.json")), left };
        note.write()?;
        Ok(note)
    }

    fn write(&self) -> Result<(), RunError> {
        let text = serde_json::to_vec(&self.left).unwrap_or_default();
        Ok(crate::fsx::write_private(&self.path, &text)?)
    }
}

/// Sets what is asked for, works, and puts back. The work is told in which states the switches were. Returns the run that set what stays.
pub(super) fn during<T>(
    asked: &Asked,
    how: How,
    stays: Stays,
    world: &dyn World,
    watch: &dyn Watch,
    work: impl FnOnce(&[SwitchChoice]) -> Result<T, Failure>,
) -> Result<(T, Option<String>), Failure> {
    let all = SwitchJob { site: asked.site.clone(), host_folder: asked.host_folder.clone(), set: Vec::new() };
    let states = live::states(&all, world, watch)?;
    // What is so already is not set, or it would be put back wrongly.
    let is = |choice: &SwitchChoice| {
        let mut places = states.iter().filter(|s| s.name == choice.name).peekable();
        places.peek().is_some() && places.all(|s| s.state.as_deref() == Some(&choice.state))
    };
    let set: Vec<SwitchChoice> = asked.set.iter().filter(|c| !is(c)).cloned().collect();
    let former = |choice: &SwitchChoice| {
        let known = states.iter().find(|s| s.name == choice.name)?;
        // Where nothing stands the program goes by its own idea, which is the other one.
        let other = || match (known.value.is_none(), known.states.as_slice()) {
            (true, [one, two]) => Some(if *one == choice.state { two.clone() } else { one.clone() }),
            _ => None,
        };
        Some(SwitchChoice { name: choice.name, state: known.state.clone().or_else(other)? })
    };
    let former: Vec<SwitchChoice> = set.iter().filter_map(former).collect();
    if set.is_empty() {
        return Ok((work(&[])?, None));
    }
    let data = world.data().map_err(RunError::from)?;
    let mut note = Note::begin(&data, asked)?;
    let told = note.left.set.join(", ");
    watch.event(Event::StepStarted { step: &format!("setting {told}"), total: None });
    let done = live::switch(&SwitchJob { set, ..all }, how, world, watch);
    let switched = match done {
        Ok(done) => done,
        Err(failure) => {
            if failure.run.is_none() {
                let _ = std::fs::remove_file(&note.path);
            } else {
                note.left.run.clone_from(&failure.run);
                put_back(&note, world)?;
            }
            return Err(failure);
        }
    };
    note.left.run = switched.run;
    note.write()?;
    watch.event(Event::StepDone);
    let worked = match (work(&former), stays) {
        (Ok(done), Stays::IfItWorked) => {
            let _ = std::fs::remove_file(&note.path);
            return Ok((done, note.left.run));
        }
        (worked, _) => worked,
    };
    let back = put_back(&note, world);
    match (worked, back) {
        (Ok(done), Ok(())) => Ok((done, None)),
        (Err(failure), _) => Err(failure),
        (Ok(_), Err(failure)) => Err(failure),
    }
}

/// Puts back what was set. Nobody stops this: a site would stay closed.
fn put_back(note: &Note, world: &dyn World) -> Result<(), Failure> {
    if let Some(run) = &note.left.run {
        back::take_back(run, None, world).map_err(|e| -> Failure {
            let (site, run) = (note.left.site.clone(), run.clone());
            RunError::StaysQuiet { site, set: note.left.set.join(", "), run, why: e.to_string() }.into()
        })?;
    }
    let _ = std::fs::remove_file(&note.path);
    Ok(())
}
