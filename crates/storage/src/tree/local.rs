//! A folder of this machine. What is written goes through the one safe folder; what is read as the site reads it, by its path.

use super::safe::{SafeFolder, Spot, open_file};
use super::{Capabilities, FileKind, Links, Listed, Meta, NewFile, OpenFile, Properties, Times, Tree};
use crate::fsx;
use rustix::fs::{AtFlags, Gid, Timespec, Timestamps, UTIME_OMIT, Uid};
use std::fs::{self, File};
use std::io::{Read, Result, Write};
use std::os::unix::fs::{MetadataExt, PermissionsExt, fchown};
use std::path::{Path, PathBuf};
use std::sync::{Arc, OnceLock};
use std::time::UNIX_EPOCH;

/// A folder of this machine.
#[derive(Debug)]
pub struct LocalTree {
    root: PathBuf,
    safe: OnceLock<SafeFolder>,
}

impl LocalTree {
    /// The folder of a path, whether it is there or not.
    pub fn at(root: &Path) -> Arc<dyn Tree> {
        Arc::new(LocalTree { root: root.to_path_buf(), safe: OnceLock::new() })
    }

    fn safe(&self) -> Result<&SafeFolder> {
        if let Some(safe) = self.safe.get() {
            return Ok(safe);
        }
        let opened = SafeFolder::open(&self.root).map_err(|e| e.source)?;
        Ok(self.safe.get_or_init(|| opened))
    }

    fn spot(&self, path: &Path) -> Result<Spot> {
        self.safe()?.spot(path).map_err(|e| e.source)
    }
}

impl From<&fs::Metadata> for Meta {
    fn from(meta: &fs::Metadata) -> Self {
        let kind = match meta.file_type() {
            t if t.is_file() => FileKind::File,
            t if t.is_dir() => FileKind::Folder,
            t if t.is_symlink() => FileKind::Link,
            _ => FileKind::Other,
        };
        Meta {
            kind,
            size: meta.len(),
            mode: meta.mode() & 0o7777,
            modified: meta.modified().unwrap_or(UNIX_EPOCH),
            changed: Some(i128::from(meta.ctime()) * 1_000_000_000 + i128::from(meta.ctime_nsec())),
            owner: Some((meta.uid(), meta.gid())),
        }
    }
}

impl Tree for LocalTree {
    fn host(&self) -> &str {
        ""
    }

    fn root(&self) -> &Path {
        &self.root
    }

    fn beside(&self, root: &Path) -> Arc<dyn Tree> {
        LocalTree::at(root)
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities {
            links: true,
            modes: true,
            owners: rustix::process::geteuid().is_root(),
            replaces: true,
            times: Times::Kept { step: 1 },
        }
    }

    fn free_space(&self) -> Option<u64> {
        fsx::free_space(&self.root)
    }

    fn stat(&self, path: &Path, links: Links) -> Result<Meta> {
        let meta = match links {
            Links::Follow => fs::metadata(path),
            Links::Stay if path == self.root => fs::symlink_metadata(path),
            Links::Stay => fs::symlink_metadata(self.spot(path)?.path()),
        };
        Ok(Meta::from(&meta?))
    }

    fn list(&self, folder: &Path) -> Result<Vec<Listed>> {
        let mut out = Vec::new();
        for entry in fs::read_dir(folder)? {
            let entry = entry?;
            // One that has gone meanwhile is not there.
            if let Ok(meta) = entry.metadata() {
                out.push(Listed { name: entry.file_name(), meta: Meta::from(&meta) });
            }
        }
        Ok(out)
    }

    fn link_target(&self, path: &Path) -> Result<PathBuf> {
        fs::read_link(path)
    }

    fn real(&self, path: &Path) -> Result<PathBuf> {
        fs::canonicalize(path)
    }

    fn open(&self, path: &Path, links: Links) -> Result<Box<dyn OpenFile>> {
        let file = match links {
            Links::Follow => open_file(path)?,
            Links::Stay => self.spot(path)?.read()?,
        };
        Ok(Box::new(Here(file)))
    }

    fn may_read(&self, path: &Path) -> bool {
        rustix::fs::access(path, rustix::fs::Access::READ_OK).is_ok()
    }

    fn make_folder(&self, path: &Path) -> Result<()> {
        self.spot(path)?.make_folder()
    }

    fn create(&self, path: &Path, mode: u32) -> Result<Box<dyn NewFile>> {
        Ok(Box::new(Here(self.spot(path)?.create(mode)?)))
    }

    fn link(&self, path: &Path, to: &Path) -> Result<()> {
        self.spot(path)?.link(to)
    }

    fn rename(&self, from: &Path, to: &Path) -> Result<()> {
        self.spot(from)?.rename(&self.spot(to)?)
    }

    fn remove(&self, path: &Path) -> Result<()> {
        self.spot(path)?.remove()
    }

    fn remove_folder(&self, path: &Path) -> Result<()> {
        let removed = self.spot(path)?.remove_folder();
        // The handle may be that of the folder that is gone.
        self.safe()?.forget();
        removed
    }

    fn set(&self, path: &Path, properties: &Properties) -> Result<()> {
        // The site's own folder is the user's, by whatever way it is reached; every other thing is reached by the handle of its folder.
        let spot = if path == self.root { None } else { Some(self.spot(path)?) };
        let place = spot.as_ref().map_or(path.to_path_buf(), Spot::path);
        if let Some((user, group)) = properties.owner {
            let (user, group) = (Some(Uid::from_raw(user)), Some(Gid::from_raw(group)));
            rustix::fs::chownat(rustix::fs::CWD, &place, user, group, AtFlags::SYMLINK_NOFOLLOW)?;
        }
        let is_link = || fs::symlink_metadata(&place).is_ok_and(|m| m.is_symlink());
        if let Some(mode) = properties.mode.filter(|_| spot.is_none() || !is_link()) {
            fs::set_permissions(&place, fs::Permissions::from_mode(mode))?;
        }
        if let Some(since) = properties.modified.and_then(|m| m.duration_since(UNIX_EPOCH).ok()) {
            let last_access = Timespec { tv_sec: 0, tv_nsec: UTIME_OMIT };
            let last_modification =
                Timespec { tv_sec: since.as_secs() as i64, tv_nsec: since.subsec_nanos().into() };
            let times = Timestamps { last_access, last_modification };
            let flags = if spot.is_some() { AtFlags::SYMLINK_NOFOLLOW } else { AtFlags::empty() };
            rustix::fs::utimensat(rustix::fs::CWD, &place, &times, flags)?;
        }
        Ok(())
    }

    fn sync(&self, folder: &Path) {
        fsx::sync_folder(folder);
    }
}

/// A file of this machine.
struct Here(File);

impl Read for Here {
    fn read(&mut self, buf: &mut [u8]) -> Result<usize> {
        self.0.read(buf)
    }
}

impl Write for Here {
    fn write(&mut self, buf: &[u8]) -> Result<usize> {
        self.0.write(buf)
    }

    fn flush(&mut self) -> Result<()> {
        self.0.flush()
    }
}

impl OpenFile for Here {
    fn meta(&self) -> Result<Meta> {
        Ok(Meta::from(&self.0.metadata()?))
    }

    fn handle(&self) -> Option<&File> {
        Some(&self.0)
    }
}

impl NewFile for Here {
    fn handle(&self) -> Option<&File> {
        Some(&self.0)
    }

    fn finish(self: Box<Self>, properties: &Properties, durable: bool) -> Result<()> {
        if let Some((user, group)) = properties.owner {
            fchown(&self.0, Some(user), Some(group))?;
        }
        if let Some(mode) = properties.mode {
            self.0.set_permissions(fs::Permissions::from_mode(mode))?;
        }
        if let Some(modified) = properties.modified {
            self.0.set_modified(modified)?;
        }
        if durable { self.0.sync_all() } else { Ok(()) }
    }
}
