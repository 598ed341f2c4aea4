//! One safe folder: everything below a target is written, linked, removed and edited through a handle that no link can leave.
//!
//! A path is walked from the handle of the folder by the kernel itself (`openat2` with `RESOLVE_BENEATH`), or, where the kernel does not
//! know that, component by component without following links. What comes of it is a [`Spot`]: the handle of the folder in which a thing
//! lies, and its name there. The last component is never followed.

use crate::fsx::{AtPath, PathError};
use rustix::fs::{AtFlags, FileType, Mode, OFlags, ResolveFlags};
use rustix::io::Errno;
use std::ffi::{OsStr, OsString};
use std::fs::File;
use std::io;
use std::os::fd::{AsRawFd, OwnedFd};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Component, Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

/// A folder that nothing written below it can leave.
#[derive(Debug)]
pub struct SafeFolder {
    root: PathBuf,
    handle: Arc<OwnedFd>,
    /// The folder that was asked for last: most files lie beside the one before.
    last: Mutex<Option<(PathBuf, Arc<OwnedFd>)>>,
}

const FOLDER: OFlags = OFlags::RDONLY.union(OFlags::DIRECTORY).union(OFlags::CLOEXEC);

/// Opens a folder below another. Links are followed only as long as they stay below.
fn open_below(root: &OwnedFd, below: &Path) -> rustix::io::Result<OwnedFd> {
    let below = if below.as_os_str().is_empty() { Path::new(".") } else { below };
    match rustix::fs::openat2(root, below, FOLDER, Mode::empty(), ResolveFlags::BENEATH) {
        Err(Errno::NOSYS | Errno::PERM) => {}
        other => return other,
    }
    let mut here = rustix::fs::openat(root, ".", FOLDER, Mode::empty())?;
    for part in below.components() {
        match part {
            Component::CurDir => {}
            Component::Normal(name) => {
                here = rustix::fs::openat(&here, name, FOLDER | OFlags::NOFOLLOW, Mode::empty())?
            }
            _ => return Err(Errno::XDEV),
        }
    }
    Ok(here)
}

/// What went wrong on the way, in plain words.
fn describe(error: Errno) -> io::Error {
    match error {
        Errno::XDEV | Errno::LOOP => {
            io::Error::other("a link on the way leads out of the folder, or in a circle")
        }
        Errno::NOTDIR => io::Error::other("there is a file, or a link, where a folder has to be"),
        other => other.into(),
    }
}

impl SafeFolder {
    /// Opens a folder; links on the way to it are the user's own and are followed.
    pub fn open(root: &Path) -> Result<Self, PathError> {
        let handle = rustix::fs::open(root, FOLDER, Mode::empty()).map_err(describe).at(root)?;
        Ok(SafeFolder { root: root.to_path_buf(), handle: Arc::new(handle), last: Mutex::new(None) })
    }

    /// Returns the folder.
    pub fn root(&self) -> &Path {
        &self.root
    }

    /// Says whether a path lies below, by its name.
    pub fn holds(&self, path: &Path) -> bool {
        path.starts_with(&self.root)
    }

    fn below<'p>(&self, path: &'p Path) -> Result<&'p Path, PathError> {
        let outside = |_| io::Error::other(format!("it does not lie in {}", self.root.display()));
        let below = path.strip_prefix(&self.root).map_err(outside).at(path)?;
        match below.components().all(|c| matches!(c, Component::Normal(_))) {
            true => Ok(below),
            false => Err(io::Error::other("the path is not plain")).at(path),
        }
    }

    fn opened(&self, below: &Path) -> rustix::io::Result<Arc<OwnedFd>> {
        let mut last = self.last.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((path, handle)) = &*last
            && path.as_os_str() == below.as_os_str()
        {
            return Ok(handle.clone());
        }
        let handle = Arc::new(open_below(&self.handle, below)?);
        *last = Some((below.to_path_buf(), handle.clone()));
        Ok(handle)
    }

    /// Returns where a thing lies or will lie. Its folder must be there.
    pub fn spot(&self, path: &Path) -> Result<Spot, PathError> {
        let below = self.below(path)?;
        let (Some(folder), Some(name)) = (below.parent(), below.file_name()) else {
            return Err(io::Error::other("the folder itself is no thing in it")).at(path);
        };
        let folder = self.opened(folder).map_err(describe).at(path)?;
        Ok(Spot { folder, name: name.to_os_string() })
    }

    /// Forgets the folder that was asked for last: it may have been replaced.
    pub fn forget(&self) {
        *self.last.lock().unwrap_or_else(PoisonError::into_inner) = None;
    }
}

/// Where a thing lies: the handle of its folder, and its name in there.
#[derive(Debug, Clone)]
pub struct Spot {
    folder: Arc<OwnedFd>,
    name: OsString,
}

impl Spot {
    /// The folder by its handle, as a path.
    pub fn folder(&self) -> PathBuf {
        PathBuf::from(format!("/proc/self/fd/{}", self.folder.as_raw_fd()))
    }

    /// The thing by its folder's handle, as a path. Valid as long as the spot is.
    pub fn path(&self) -> PathBuf {
        self.folder().join(&self.name)
    }

    /// Makes a file that is not there yet.
    pub fn create(&self, mode: u32) -> io::Result<File> {
        File::options().write(true).create_new(true).mode(mode).open(self.path())
    }

    /// Opens a plain file for reading. A link, pipe or device is refused, without waiting for anybody at its other end.
    pub fn read(&self) -> io::Result<File> {
        plain_file(self.folder.as_ref(), &self.name)
    }

    /// Makes a link.
    pub fn link(&self, to: &Path) -> io::Result<()> {
        Ok(rustix::fs::symlinkat(to, &*self.folder, &self.name)?)
    }

    /// Takes a file or link away.
    pub fn remove(&self) -> io::Result<()> {
        Ok(rustix::fs::unlinkat(&*self.folder, &self.name, AtFlags::empty())?)
    }

    /// Makes a folder.
    pub fn make_folder(&self) -> io::Result<()> {
        rustix::fs::mkdirat(&*self.folder, &self.name, Mode::from_raw_mode(0o777)).map_err(describe)
    }

    /// Gives it the name and folder of another spot, whatever lies there.
    pub fn rename(&self, to: &Spot) -> io::Result<()> {
        Ok(rustix::fs::renameat(&*self.folder, &self.name, &*to.folder, &to.name)?)
    }

    /// Takes an empty folder away.
    pub fn remove_folder(&self) -> io::Result<()> {
        Ok(rustix::fs::unlinkat(&*self.folder, &self.name, AtFlags::REMOVEDIR)?)
    }
}

/// Opens a plain file in a folder: what is no file is refused, and nobody is waited for.
fn plain_file(folder: &OwnedFd, name: &OsStr) -> io::Result<File> {
    let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
    let opened = rustix::fs::openat(folder, name, flags, Mode::empty()).map_err(describe)?;
    match FileType::from_raw_mode(rustix::fs::fstat(&opened)?.st_mode) {
        FileType::RegularFile => Ok(File::from(opened)),
        _ => Err(io::Error::other("it is no plain file")),
    }
}

/// Opens a file of a site, links followed. A pipe or device in its place is refused, and nobody is waited for.
pub fn open_file(path: &Path) -> io::Result<File> {
    let file = File::options().read(true).custom_flags(OFlags::NONBLOCK.bits() as i32).open(path)?;
    match file.metadata()?.is_file() {
        true => Ok(file),
        false => Err(io::Error::other("it is no plain file")),
    }
}

#[cfg(test)]
mod tests {
    use crate::tree::{Links, LocalTree, make_folders, write_whole};
    use std::os::unix::fs::symlink;

    #[test]
    fn no_link_leads_out() {
        let folder = tempfile::tempdir().unwrap();
        let (root, outside) = (folder.path().join("in"), folder.path().join("out"));
        std::fs::create_dir_all(root.join("deep")).unwrap();
        std::fs::create_dir(&outside).unwrap();
        symlink(&outside, root.join("evil")).unwrap();
        symlink("../../out", root.join("deep/up")).unwrap();
        symlink("deep", root.join("inner")).unwrap();
        symlink(outside.join("file"), root.join("file")).unwrap();
        let tree = LocalTree::at(&root);
        for bad in ["evil/x", "deep/up/x", "evil/y/z", "deep/up/../x"] {
            let path = root.join(bad);
            assert!(tree.create(&path, 0o600).is_err(), "{bad}");
            assert!(make_folders(&*tree, &path, &mut |_| Ok(())).is_err(), "{bad}");
            assert!(write_whole(&*tree, &path, b"1", None).is_err(), "{bad}");
        }
        assert!(tree.create(&outside.join("x"), 0o600).is_err());
        write_whole(&*tree, &root.join("inner/x"), b"1", None).unwrap();
        assert_eq!(std::fs::read(root.join("deep/x")).unwrap(), b"1");
        // A link in the last place is replaced, not followed.
        let link = root.join("file");
        assert!(tree.open(&link, Links::Stay).is_err() && tree.create(&link, 0o600).is_err());
        write_whole(&*tree, &link, b"2", None).unwrap();
        assert_eq!(std::fs::read(&link).unwrap(), b"2");
        make_folders(&*tree, &root.join("a/b/c"), &mut |_| Ok(())).unwrap();
        assert!(root.join("a/b/c").is_dir());
        assert_eq!(std::fs::read_dir(&outside).unwrap().count(), 0);
    }
}
