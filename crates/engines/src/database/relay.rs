//! A server that is reached by streams which somebody else opens: a channel of a remote session, a tunnel, whatever comes.
//!
//! The libraries that speak the servers' protocols open their own connections. They are given a socket in a private folder of this machine,
//! and each connection to it is joined with a stream of its own. So every engine takes every stream, and none knows of it.

use crate::place::{DatabaseAccess, Tls};
use crate::{spool, threads};
use std::io::{self, Read, Write};
use std::net::Shutdown;
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::JoinHandle;

/// An open stream to a server. Who drops the writing half says that nothing more comes.
pub struct Stream {
    /// What the server says.
    pub reader: Box<dyn Read + Send>,
    /// What it is told.
    pub writer: Box<dyn Write + Send>,
}

/// Opens streams to a server.
pub trait Dial: Send + Sync {
    /// Opens one.
    fn open(&self) -> io::Result<Stream>;
}

/// Bytes that are passed on at once.
const WINDOW: usize = 1 << 16;

/// The name under which both kinds of server's libraries look for a socket in a folder.
const NAME: &str = ".s.PGSQL.5432";

/// Joins connections with streams, until it is dropped.
pub struct Relay {
    folder: tempfile::TempDir,
    ends: Arc<AtomicBool>,
    failure: Arc<Mutex<Option<io::Error>>>,
    listens: Option<JoinHandle<()>>,
}

impl Relay {
    /// Begins to listen, in a folder below `temporary` that is its user's alone.
    pub fn start(dial: Arc<dyn Dial>, temporary: &Path) -> io::Result<Relay> {
        let folder = spool::folder_in(temporary)?;
        let listener = UnixListener::bind(folder.path().join(NAME))?;
        let (ends, failure) = (Arc::new(AtomicBool::new(false)), Arc::new(Mutex::new(None)));
        let (over, failed) = (ends.clone(), failure.clone());
        let listens = threads::start(move || {
            for connection in listener.incoming().flatten() {
                if over.load(Ordering::Acquire) {
                    return;
                }
                if let Err(e) = join(connection, &*dial) {
                    *failed.lock().unwrap_or_else(PoisonError::into_inner) = Some(e);
                }
            }
        })?;
        Ok(Relay { folder, ends, failure, listens: Some(listens) })
    }

    fn socket(&self) -> PathBuf {
        self.folder.path().join(NAME)
    }

    /// The same database, by this way. What the stream needs of encryption is its opener's.
    pub fn access(&self, access: &DatabaseAccess) -> DatabaseAccess {
        let socket = Some(self.socket().display().to_string());
        DatabaseAccess { host: "localhost".into(), port: None, socket, tls: Tls::Off, ..access.clone() }
    }

    /// Why the last stream that was asked for could not be opened: the engine itself sees only that nobody answers.
    pub fn failure(&self) -> Option<io::Error> {
        self.failure.lock().unwrap_or_else(PoisonError::into_inner).take()
    }
}

impl Drop for Relay {
    fn drop(&mut self) {
        self.ends.store(true, Ordering::Release);
        // The listener wakes up once more.
        let _ = UnixStream::connect(self.socket());
        if let Some(listens) = self.listens.take() {
            let _ = listens.join();
        }
    }
}

/// Joins a connection with a stream of its own: two threads pass on what comes, until one side has no more.
fn join(connection: UnixStream, dial: &dyn Dial) -> io::Result<()> {
    let Stream { mut reader, mut writer } = dial.open()?;
    let mut told = connection.try_clone()?;
    threads::start(move || {
        let _ = pass(&mut told, &mut writer);
        // With the writing half the stream ends.
        drop(writer);
    })?;
    threads::start(move || {
        let _ = pass(&mut reader, &mut &connection);
        let _ = connection.shutdown(Shutdown::Both);
    })?;
    Ok(())
}

fn pass(from: &mut dyn Read, to: &mut dyn Write) -> io::Result<()> {
    let mut window = vec![0; WINDOW];
    loop {
        match from.read(&mut window) {
            Ok(0) => return Ok(()),
            Ok(n) => to.write_all(&window[..n]).and_then(|()| to.flush())?,
            Err(e) if e.kind() == io::ErrorKind::Interrupted => {}
            Err(e) => return Err(e),
        }
    }
}
