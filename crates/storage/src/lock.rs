//! A lock for each target folder and each database that a run works on: the second run is refused, and told which run holds it.
//!
//! A lock is a file beside the logbook that the system locks for as long as the process lives, so that a run that was killed holds none.

use crate::fsx::{AtPath, PathError, private_folder};
use rustix::fs::FlockOperation;
use std::fs::File;
use std::io::{Read, Seek, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

/// Why there is no lock.
#[derive(Debug, thiserror::Error)]
pub enum LockError {
    /// Another run has it.
    #[error("{thing} is in use by the run {run}, which is going on")]
    Held {
        /// Folder or database.
        thing: String,
        /// The run.
        run: String,
    },
    /// The file failed.
    #[error(transparent)]
    Path(#[from] PathError),
}

/// A lock, held until it is dropped.
#[derive(Debug)]
pub struct Lock {
    file: File,
}

impl Lock {
    /// Takes the lock of a thing, for a run of a logbook.
    pub fn take(logbook: &Path, thing: &str) -> Result<Lock, LockError> {
        let folder = logbook.join("locks");
        private_folder(&folder).at(&folder)?;
        let path = folder.join(&blake3::hash(thing.as_bytes()).to_hex()[..32]);
        let open =
            File::options().read(true).write(true).create(true).truncate(false).mode(0o600).open(&path);
        let mut file = open.at(&path)?;
        if rustix::fs::flock(&file, FlockOperation::NonBlockingLockExclusive).is_err() {
            let mut run = String::new();
            file.read_to_string(&mut run).at(&path)?;
            return Err(LockError::Held { thing: thing.into(), run: run.trim().into() });
        }
        let mut lock = Lock { file };
        lock.held_by("that is just beginning").at(&path)?;
        Ok(lock)
    }

    /// Says which run has it.
    pub fn held_by(&mut self, run: &str) -> std::io::Result<()> {
        self.file.set_len(0)?;
        self.file.rewind()?;
        self.file.write_all(run.as_bytes())
    }
}
