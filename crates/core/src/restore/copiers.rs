//! Copies files on several threads: what a clone spends its time on is waiting for the file system, one file after the other.
//!
//! The thread that walks the source makes the folders and notes each file before it hands it on, so the record of a run is in order
//! whatever the threads do.

use super::RestoreError;
use super::owner::Owner;
use crate::change_log::ChangeLog;
use crate::contents::{shrank, unreadable};
use crate::finding::Finding;
use crate::fsx::{AtPath, CopyMethod, shown_by_umask};
use crate::tree::{self, Links, Properties, Tree};
use std::path::PathBuf;
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::JoinHandle;
use std::time::SystemTime;

/// Files that are noted and handed on at once, and how many such bundles wait for a thread.
const BUNDLE: usize = 32;
const WAITING: usize = 8;

/// Threads that are of use: behind them the file system is the bottleneck.
const MOST_THREADS: usize = 4;

/// A file that is to be copied to a path where nothing is.
pub(super) struct Job {
    pub(super) from: (Arc<dyn Tree>, PathBuf),
    pub(super) tree: Arc<dyn Tree>,
    pub(super) to: PathBuf,
    pub(super) size: u64,
    pub(super) mode: u32,
    pub(super) time: SystemTime,
    pub(super) owner: Owner,
}

/// What the threads did.
#[derive(Default)]
pub(super) struct Copied {
    pub(super) files: u64,
    pub(super) bytes: u64,
    pub(super) unread: Vec<Finding>,
}

/// Threads that copy.
pub(super) struct Copiers {
    sender: SyncSender<Vec<Job>>,
    bundle: Vec<Job>,
    threads: Vec<JoinHandle<Result<Copied, RestoreError>>>,
}

impl Copiers {
    pub(super) fn start() -> std::io::Result<Self> {
        let (sender, jobs) = sync_channel(WAITING);
        let jobs = Arc::new(Mutex::new(jobs));
        let count = std::thread::available_parallelism().map_or(2, usize::from).clamp(1, MOST_THREADS);
        let mut threads = Vec::new();
        for number in 0..count {
            let jobs = jobs.clone();
            match crate::threads::start(move || work(&jobs)) {
                Ok(thread) => threads.push(thread),
                Err(_) if number > 0 => break,
                Err(e) => return Err(e),
            }
        }
        Ok(Copiers { sender, bundle: Vec::new(), threads })
    }

    /// Notes a file and hands it on. Threads that stopped are told of at the end.
    pub(super) fn copy(&mut self, job: Job, change_log: &ChangeLog) -> Result<(), RestoreError> {
        self.bundle.push(job);
        if self.bundle.len() < BUNDLE { Ok(()) } else { self.hand_on(change_log) }
    }

    fn hand_on(&mut self, change_log: &ChangeLog) -> Result<(), RestoreError> {
        change_log.files(self.bundle.iter().map(|job| job.to.as_path()))?;
        let _ = self.sender.send(std::mem::take(&mut self.bundle));
        Ok(())
    }

    /// Waits until all is copied.
    pub(super) fn finish(mut self, change_log: &ChangeLog) -> Result<Copied, RestoreError> {
        self.hand_on(change_log)?;
        drop(self.sender);
        let mut out = Copied::default();
        let mut failure = None;
        for thread in self.threads {
            match thread.join() {
                Ok(Ok(copied)) => {
                    out.files += copied.files;
                    out.bytes += copied.bytes;
                    out.unread.extend(copied.unread);
                }
                Ok(Err(e)) => failure = Some(e),
                Err(_) => {
                    let why = "the thread that copied it stopped".to_string();
                    failure = Some(RestoreError::Entry { entry: "a file".into(), why });
                }
            }
        }
        failure.map_or(Ok(out), Err)
    }
}

/// Takes jobs until there are none. After an error the others are taken and not done, so that nobody waits.
fn work(jobs: &Mutex<Receiver<Vec<Job>>>) -> Result<Copied, RestoreError> {
    let mut copied = Copied::default();
    let mut failure = None;
    let mut method = CopyMethod::default();
    loop {
        let bundle = jobs.lock().unwrap_or_else(PoisonError::into_inner).recv();
        let Ok(bundle) = bundle else { break };
        if failure.is_none() {
            failure = bundle.iter().find_map(|job| one(job, &mut method, &mut copied).err());
        }
    }
    failure.map_or(Ok(copied), Err)
}

fn one(job: &Job, method: &mut CopyMethod, copied: &mut Copied) -> Result<(), RestoreError> {
    let (tree, from) = &job.from;
    let mut source = match tree.open(from, Links::Follow) {
        Ok(source) => source,
        Err(e) => {
            copied.unread.push(unreadable(from, Some(&e)));
            return Ok(());
        }
    };
    let shown = job.mode & shown_by_umask();
    let mut file = job.tree.create(&job.to, shown).at(&job.to)?;
    let bytes = tree::copy(method, &mut *source, &mut *file, job.size).at(&job.to)?;
    if bytes < job.size {
        copied.unread.push(shrank(&from.display().to_string(), bytes, job.size, false, None));
    }
    copied.bytes += bytes;
    let owner = match job.owner {
        Owner::Own => None,
        owner => owner.for_source(source.meta().ok().as_ref()),
    };
    let mode = Some(job.mode).filter(|mode| *mode != shown);
    file.finish(&Properties { mode, modified: Some(job.time), owner }, false).at(&job.to)?;
    copied.files += 1;
    Ok(())
}
