//! A host that is none: its files lie in memory, and it can be slow, fail, and lack what other hosts have.

use std::collections::BTreeMap;
use std::ffi::OsString;
use std::io::{Error, ErrorKind, Read, Result, Write};
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::{Component, Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering::SeqCst};
use std::sync::{Arc, Mutex};
use std::time::{Duration, SystemTime};
use zporter_core::tree::{
    Capabilities, FileKind, Found, Links, Listed, LocalTree, Meta, NewFile, OpenFile, Properties, Times,
    Tree, at_second,
};

/// What a host that lacks nothing can do.
pub const ALL: Capabilities =
    Capabilities { links: true, modes: true, owners: false, replaces: true, times: Times::Kept { step: 1 } };

/// When this host wrote what it was not told the time of.
const NOW: i64 = 1_790_000_000;

#[derive(Clone, PartialEq)]
pub enum What {
    File(Vec<u8>),
    Folder,
    Link(PathBuf),
}

impl std::fmt::Debug for What {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            What::File(bytes) => write!(f, "{:?}", String::from_utf8_lossy(&bytes[..bytes.len().min(200)])),
            What::Folder => f.write_str("a folder"),
            What::Link(to) => write!(f, "a link to {}", to.display()),
        }
    }
}

#[derive(Debug, Clone, PartialEq)]
pub struct Node {
    pub what: What,
    pub mode: u32,
    pub modified: i64,
}

/// A host.
#[derive(Debug)]
pub struct Host {
    name: String,
    can: Capabilities,
    /// Whether its names are in an old character set of one byte a letter.
    latin: bool,
    delay: Duration,
    /// What lies on it, by the bytes of its own names.
    nodes: Mutex<BTreeMap<Vec<u8>, Node>>,
    /// Operations so far, and from which one to which they fail.
    pub operations: AtomicU64,
    pub fails: Mutex<std::ops::Range<u64>>,
}

/// A folder of it.
#[derive(Debug, Clone)]
pub struct Memory {
    host: Arc<Host>,
    root: PathBuf,
}

fn failed(kind: ErrorKind, what: &str) -> Error {
    Error::new(kind, what.to_string())
}

impl Host {
    pub fn new(name: &str, can: Capabilities, latin: bool, delay: Duration) -> Arc<Host> {
        let folder = Node { what: What::Folder, mode: 0o755, modified: NOW };
        Arc::new(Host {
            name: name.into(),
            can,
            latin,
            delay,
            nodes: Mutex::new(BTreeMap::from([(b"/".to_vec(), folder)])),
            operations: AtomicU64::new(0),
            fails: Mutex::new(0..0),
        })
    }

    pub fn tree(self: &Arc<Host>, root: &Path) -> Arc<dyn Tree> {
        Arc::new(Memory { host: self.clone(), root: root.to_path_buf() })
    }

    /// All that lies below a folder, without its path.
    pub fn below(&self, folder: &str) -> BTreeMap<PathBuf, Node> {
        let nodes = self.nodes.lock().unwrap();
        let named = nodes.iter().map(|(name, node)| (self.decoded(name), node.clone()));
        let below = |(path, node): (PathBuf, Node)| {
            Some((path.strip_prefix(folder).ok().filter(|p| !p.as_os_str().is_empty())?.to_path_buf(), node))
        };
        named.filter_map(below).collect()
    }

    /// Puts a folder of this machine onto it.
    pub fn put(&self, from: &Path, to: &str) {
        for found in LocalTree::at(from).walk(from) {
            let Found { path, meta } = found.unwrap();
            let what = match meta.kind {
                FileKind::Folder => What::Folder,
                FileKind::Link => What::Link(std::fs::read_link(&path).unwrap()),
                _ => What::File(std::fs::read(&path).unwrap()),
            };
            let path = Path::new(to).join(path.strip_prefix(from).unwrap());
            self.add(&path, Node { what, mode: meta.mode, modified: meta.seconds() });
        }
    }

    /// Puts a thing onto it, with the folders above.
    pub fn add(&self, path: &Path, node: Node) {
        let mut nodes = self.nodes.lock().unwrap();
        for above in path.ancestors().skip(1) {
            let folder = Node { what: What::Folder, mode: 0o755, modified: NOW };
            nodes.entry(self.encoded(above).unwrap()).or_insert(folder);
        }
        nodes.insert(self.encoded(path).unwrap(), node);
    }

    fn encoded(&self, path: &Path) -> Result<Vec<u8>> {
        let bytes = path.as_os_str().as_bytes();
        if !self.latin {
            return Ok(bytes.to_vec());
        }
        let no_letter = || failed(ErrorKind::InvalidFilename, "the host's names have no such letters");
        let text = std::str::from_utf8(bytes).map_err(|_| no_letter())?;
        text.chars().map(|c| u8::try_from(u32::from(c)).map_err(|_| no_letter())).collect()
    }

    fn decoded(&self, name: &[u8]) -> PathBuf {
        let latin = || name.iter().map(|b| char::from(*b)).collect::<String>().into_bytes();
        PathBuf::from(OsString::from_vec(if self.latin { latin() } else { name.to_vec() }))
    }

    /// Each operation is slow, and some fail.
    fn operation(&self) -> Result<()> {
        std::thread::sleep(self.delay);
        let number = self.operations.fetch_add(1, SeqCst);
        match self.fails.lock().unwrap().contains(&number) {
            true => Err(failed(ErrorKind::ConnectionReset, "the connection was lost")),
            false => Ok(()),
        }
    }

    fn node(&self, path: &Path) -> Result<Node> {
        let name = self.encoded(path)?;
        let nodes = self.nodes.lock().unwrap();
        nodes.get(&name).cloned().ok_or_else(|| failed(ErrorKind::NotFound, "no such file or folder"))
    }

    /// The path without links, of what need not be there in its last place.
    fn resolved(&self, path: &Path, last: bool, depth: usize) -> Result<PathBuf> {
        if depth > 20 {
            return Err(failed(ErrorKind::Other, "a link leads in a circle"));
        }
        let mut out = PathBuf::new();
        let mut parts = path.components().peekable();
        while let Some(part) = parts.next() {
            if part == Component::ParentDir {
                out.pop();
                continue;
            }
            out.push(part);
            if (parts.peek().is_some() || last)
                && let Ok(Node { what: What::Link(to), .. }) = self.node(&out)
            {
                let to = out.parent().unwrap_or(&out).join(to);
                out = self.resolved(&to, true, depth + 1)?;
            }
        }
        Ok(out)
    }
}

impl Memory {
    /// Where a thing below the root lies: nothing that links say leads out.
    fn inside(&self, path: &Path) -> Result<PathBuf> {
        let plain = path.components().all(|c| matches!(c, Component::Normal(_) | Component::RootDir));
        let root = self.host.resolved(&self.root, true, 0)?;
        let real = self.host.resolved(path, false, 0)?;
        match plain && path.starts_with(&self.root) && real.starts_with(root) {
            true => Ok(real),
            false => Err(failed(ErrorKind::Other, "a link on the way leads out of the folder")),
        }
    }

    fn free(&self, path: &Path) -> Result<PathBuf> {
        let real = self.inside(path)?;
        if self.host.node(&real).is_ok() {
            return Err(failed(ErrorKind::AlreadyExists, "something of that name is there"));
        }
        let above = self.host.node(real.parent().unwrap_or(&real))?;
        match above.what {
            What::Folder if above.mode & 0o200 != 0 || !self.host.can.modes => Ok(real),
            What::Folder => Err(failed(ErrorKind::PermissionDenied, "nobody may write there")),
            _ => Err(failed(ErrorKind::NotADirectory, "it is no folder")),
        }
    }

    fn put(&self, path: &Path, what: What, mode: u32) -> Result<()> {
        let mode = if self.host.can.modes { mode } else { usual(&what) };
        let name = self.host.encoded(path)?;
        self.host.nodes.lock().unwrap().insert(name, Node { what, mode, modified: NOW });
        Ok(())
    }

    fn take(&self, path: &Path) -> Result<Node> {
        let name = self.host.encoded(path)?;
        let mut nodes = self.host.nodes.lock().unwrap();
        nodes.remove(&name).ok_or_else(|| failed(ErrorKind::NotFound, "no such file or folder"))
    }
}

fn usual(what: &What) -> u32 {
    if *what == What::Folder { 0o755 } else { 0o644 }
}

fn meta(node: &Node) -> Meta {
    let (kind, size) = match &node.what {
        What::File(bytes) => (FileKind::File, bytes.len() as u64),
        What::Folder => (FileKind::Folder, 0),
        What::Link(_) => (FileKind::Link, 0),
    };
    Meta { kind, size, mode: node.mode, modified: at_second(node.modified), changed: None, owner: None }
}

impl Tree for Memory {
    fn host(&self) -> &str {
        &self.host.name
    }

    fn root(&self) -> &Path {
        &self.root
    }

    fn beside(&self, root: &Path) -> Arc<dyn Tree> {
        self.host.tree(root)
    }

    fn capabilities(&self) -> Capabilities {
        self.host.can
    }

    fn free_space(&self) -> Option<u64> {
        None
    }

    fn stat(&self, path: &Path, links: Links) -> Result<Meta> {
        self.host.operation()?;
        let real = match links {
            Links::Follow => self.host.resolved(path, true, 0)?,
            Links::Stay if path == self.root => path.to_path_buf(),
            Links::Stay => self.inside(path)?,
        };
        Ok(meta(&self.host.node(&real)?))
    }

    fn list(&self, folder: &Path) -> Result<Vec<Listed>> {
        self.host.operation()?;
        let real = self.host.resolved(folder, true, 0)?;
        match self.host.node(&real)?.what {
            What::Folder => {}
            _ => return Err(failed(ErrorKind::NotADirectory, "it is no folder")),
        }
        let nodes = self.host.nodes.lock().unwrap();
        let named = nodes.iter().map(|(name, node)| (self.host.decoded(name), node));
        let inside = named.filter(|(path, _)| path.parent() == Some(&real));
        let listed = |(path, node): (PathBuf, &Node)| {
            Some(Listed { name: path.file_name()?.to_os_string(), meta: meta(node) })
        };
        // A host has no order of its own.
        Ok(inside.filter_map(listed).collect::<Vec<_>>().into_iter().rev().collect())
    }

    fn link_target(&self, path: &Path) -> Result<PathBuf> {
        self.host.operation()?;
        match self.host.node(&self.host.resolved(path, false, 0)?)?.what {
            What::Link(to) => Ok(to),
            _ => Err(failed(ErrorKind::InvalidInput, "it is no link")),
        }
    }

    fn real(&self, path: &Path) -> Result<PathBuf> {
        self.host.operation()?;
        let real = self.host.resolved(path, true, 0)?;
        self.host.node(&real).map(|_| real)
    }

    fn open(&self, path: &Path, links: Links) -> Result<Box<dyn OpenFile>> {
        self.host.operation()?;
        let real = match links {
            Links::Follow => self.host.resolved(path, true, 0)?,
            Links::Stay => self.inside(path)?,
        };
        let node = self.host.node(&real)?;
        match &node.what {
            What::File(_) => Ok(Box::new(Reading { host: self.host.clone(), node, at: 0 })),
            _ => Err(failed(ErrorKind::Other, "it is no plain file")),
        }
    }

    fn may_read(&self, _: &Path) -> bool {
        true
    }

    fn make_folder(&self, path: &Path) -> Result<()> {
        self.host.operation()?;
        self.put(&self.free(path)?, What::Folder, 0o755)
    }

    fn create(&self, path: &Path, mode: u32) -> Result<Box<dyn NewFile>> {
        self.host.operation()?;
        let real = self.free(path)?;
        self.put(&real, What::File(Vec::new()), mode)?;
        Ok(Box::new(Writing { tree: self.clone(), path: path.to_path_buf(), real }))
    }

    fn link(&self, path: &Path, to: &Path) -> Result<()> {
        self.host.operation()?;
        if !self.host.can.links {
            return Err(failed(ErrorKind::Unsupported, "this host knows no links"));
        }
        self.put(&self.free(path)?, What::Link(to.to_path_buf()), 0o777)
    }

    fn rename(&self, from: &Path, to: &Path) -> Result<()> {
        self.host.operation()?;
        let (from, to) = (self.inside(from)?, self.inside(to)?);
        match self.host.node(&to) {
            Ok(Node { what: What::Folder, .. }) => {
                return Err(failed(ErrorKind::IsADirectory, "it is a folder"));
            }
            Ok(_) if !self.host.can.replaces => {
                return Err(failed(ErrorKind::AlreadyExists, "something of that name is there"));
            }
            _ => {}
        }
        let name = self.host.encoded(&to)?;
        let node = self.take(&from)?;
        self.host.nodes.lock().unwrap().insert(name, node);
        Ok(())
    }

    fn remove(&self, path: &Path) -> Result<()> {
        self.host.operation()?;
        let real = self.inside(path)?;
        match self.host.node(&real)?.what {
            What::Folder => Err(failed(ErrorKind::IsADirectory, "it is a folder")),
            _ => self.take(&real).map(drop),
        }
    }

    fn remove_folder(&self, path: &Path) -> Result<()> {
        self.host.operation()?;
        let real = self.inside(path)?;
        let holds = |nodes: &BTreeMap<Vec<u8>, Node>| {
            nodes.keys().any(|name| self.host.decoded(name).parent() == Some(&real))
        };
        match self.host.node(&real)?.what {
            What::Folder if !holds(&self.host.nodes.lock().unwrap()) => self.take(&real).map(drop),
            What::Folder => Err(failed(ErrorKind::DirectoryNotEmpty, "it is not empty")),
            _ => Err(failed(ErrorKind::NotADirectory, "it is no folder")),
        }
    }

    fn set(&self, path: &Path, properties: &Properties) -> Result<()> {
        self.host.operation()?;
        let real = if path == self.root { self.host.resolved(path, true, 0)? } else { self.inside(path)? };
        let name = self.host.encoded(&real)?;
        let mut nodes = self.host.nodes.lock().unwrap();
        let node = nodes.get_mut(&name).ok_or_else(|| failed(ErrorKind::NotFound, "no such file"))?;
        if let (Some(mode), true) = (properties.mode, self.host.can.modes) {
            node.mode = mode;
        }
        if let (Some(modified), Times::Kept { step }) = (properties.modified, self.host.can.times) {
            let seconds = modified.duration_since(SystemTime::UNIX_EPOCH).unwrap().as_secs() as i64;
            node.modified = seconds - seconds % i64::from(step);
        }
        Ok(())
    }

    fn sync(&self, _: &Path) {}
}

struct Reading {
    host: Arc<Host>,
    node: Node,
    at: usize,
}

impl Read for Reading {
    fn read(&mut self, buf: &mut [u8]) -> Result<usize> {
        self.host.operation()?;
        let What::File(bytes) = &self.node.what else { return Ok(0) };
        // In pieces, as a network gives it.
        let rest = &bytes[self.at.min(bytes.len())..];
        let n = rest.len().min(buf.len()).min(3000);
        buf[..n].copy_from_slice(&rest[..n]);
        self.at += n;
        Ok(n)
    }
}

impl OpenFile for Reading {
    fn meta(&self) -> Result<Meta> {
        Ok(meta(&self.node))
    }
}

struct Writing {
    tree: Memory,
    path: PathBuf,
    real: PathBuf,
}

impl Write for Writing {
    fn write(&mut self, buf: &[u8]) -> Result<usize> {
        self.tree.host.operation()?;
        let name = self.tree.host.encoded(&self.real)?;
        let n = buf.len().min(3000);
        let mut nodes = self.tree.host.nodes.lock().unwrap();
        match nodes.get_mut(&name).map(|node| &mut node.what) {
            Some(What::File(bytes)) => bytes.extend_from_slice(&buf[..n]),
            _ => return Err(failed(ErrorKind::NotFound, "the file is gone")),
        }
        Ok(n)
    }

    fn flush(&mut self) -> Result<()> {
        Ok(())
    }
}

impl NewFile for Writing {
    fn finish(self: Box<Self>, properties: &Properties, _durable: bool) -> Result<()> {
        self.tree.set(&self.path, properties)
    }
}
