//! Archives in a store behind HTTP on loopback: written by parts, read by ranges, whole only when the last part is confirmed.

use crate::test_support::{head, meta};
use std::collections::BTreeMap;
use std::io::{BufRead, BufReader, Read, Seek, SeekFrom, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::ops::ControlFlow;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use zporter_core::archive::blob::{Blob, BlobSink, Ranged};
use zporter_core::archive::container::Container;
use zporter_core::archive::read::{ReadError, entries};
use zporter_core::archive::verify::{Damage, Verdict, verify};
use zporter_core::archive::write::ArchiveWriter;
use zporter_core::event::{Event, Silent, Watch};
use zporter_core::fsx::PathError;

/// What the store holds: finished objects, and parts of those that are being written.
#[derive(Default)]
struct Store {
    whole: Mutex<BTreeMap<String, Vec<u8>>>,
    parts: Mutex<BTreeMap<String, Vec<u8>>>,
    requests: AtomicU64,
    /// After so many bytes of an answer the connection is cut; 0 for never.
    cuts_after: AtomicU64,
}

/// Starts the store on a thread that ends with the test's process.
fn store() -> (Arc<Store>, SocketAddr) {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let (store, address) = (Arc::new(Store::default()), listener.local_addr().unwrap());
    let served = store.clone();
    std::thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            let store = served.clone();
            std::thread::spawn(move || answer(&store, stream));
        }
    });
    (store, address)
}

/// One request a connection: `PUT` adds a part, `POST` makes the parts an object, `HEAD` tells its size, `GET` gives it from an offset on.
fn answer(store: &Store, stream: TcpStream) -> Option<()> {
    store.requests.fetch_add(1, Ordering::Relaxed);
    let mut reader = BufReader::new(stream.try_clone().ok()?);
    let mut line = String::new();
    reader.read_line(&mut line).ok()?;
    let mut words = line.split_whitespace();
    let (method, name) = (words.next()?.to_string(), words.next()?.to_string());
    let (mut length, mut from) = (0, 0);
    loop {
        let mut header = String::new();
        reader.read_line(&mut header).ok()?;
        let Some((key, value)) = header.trim_end().split_once(": ") else { break };
        match key {
            "Content-Length" => length = value.parse().ok()?,
            "Range" => from = value.strip_prefix("bytes=")?.strip_suffix('-')?.parse().ok()?,
            _ => {}
        }
    }
    let mut out = stream;
    match method.as_str() {
        "PUT" => {
            let mut part = vec![0; length];
            reader.read_exact(&mut part).ok()?;
            store.parts.lock().unwrap().entry(name).or_default().extend(part);
            out.write_all(b"HTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\n").ok()
        }
        "POST" => {
            let object = store.parts.lock().unwrap().remove(&name)?;
            store.whole.lock().unwrap().insert(name, object);
            out.write_all(b"HTTP/1.1 201 Created\r\nContent-Length: 0\r\n\r\n").ok()
        }
        _ => {
            let object = store.whole.lock().unwrap().get(&name).cloned()?;
            let rest = &object[from.min(object.len())..];
            write!(out, "HTTP/1.1 206 Partial Content\r\nContent-Length: {}\r\n\r\n", rest.len()).ok()?;
            let most = store.cuts_after.load(Ordering::Relaxed) as usize;
            let sent = if most > 0 { &rest[..rest.len().min(most)] } else { rest };
            if method == "GET" { out.write_all(sent).ok() } else { Some(()) }
        }
    }
}

/// Asks the store, and returns what follows the headers, with its length.
fn ask(store: SocketAddr, request: &str, body: &[u8]) -> std::io::Result<(BufReader<TcpStream>, u64)> {
    let mut stream = TcpStream::connect(store)?;
    write!(stream, "{request}Content-Length: {}\r\n\r\n", body.len())?;
    stream.write_all(body)?;
    let (mut reader, mut length) = (BufReader::new(stream), 0);
    loop {
        let mut line = String::new();
        if reader.read_line(&mut line)? == 0 {
            return Err(std::io::Error::other("the store knows nothing of it"));
        }
        match line.trim_end().split_once(": ") {
            Some(("Content-Length", n)) => length = n.parse().map_err(std::io::Error::other)?,
            None if line == "\r\n" => return Ok((reader, length)),
            _ => {}
        }
    }
}

/// An object of the store.
#[derive(Clone)]
struct Object {
    store: SocketAddr,
    name: PathBuf,
}

impl Object {
    fn request(&self, method: &str, range: &str) -> String {
        format!("{method} {} HTTP/1.1\r\n{range}", self.name.display())
    }
}

/// An object that is being read: each move begins a new range, with the next read.
struct Range<'o> {
    object: &'o Object,
    at: u64,
    open: Option<BufReader<TcpStream>>,
}

impl Read for Range<'_> {
    fn read(&mut self, buf: &mut [u8]) -> std::io::Result<usize> {
        if self.open.is_none() {
            let range = format!("Range: bytes={}-\r\n", self.at);
            self.open = Some(ask(self.object.store, &self.object.request("GET", &range), b"")?.0);
        }
        let n = self.open.as_mut().map_or(Ok(0), |open| open.read(buf))?;
        self.at += n as u64;
        Ok(n)
    }
}

impl Seek for Range<'_> {
    fn seek(&mut self, to: SeekFrom) -> std::io::Result<u64> {
        let there = match to {
            SeekFrom::Start(at) => at,
            SeekFrom::Current(by) => self.at.saturating_add_signed(by),
            SeekFrom::End(by) => self.object.size()?.saturating_add_signed(by),
        };
        if there != self.at {
            (self.at, self.open) = (there, None);
        }
        Ok(there)
    }
}

impl Blob for Object {
    fn name(&self) -> &Path {
        &self.name
    }

    fn size(&self) -> std::io::Result<u64> {
        Ok(ask(self.store, &self.request("HEAD", ""), b"")?.1)
    }

    fn open(&self) -> std::io::Result<Box<dyn Ranged + '_>> {
        Ok(Box::new(Range { object: self, at: 0, open: None }))
    }
}

impl Write for Object {
    fn write(&mut self, buf: &[u8]) -> std::io::Result<usize> {
        ask(self.store, &self.request("PUT", ""), buf)?;
        Ok(buf.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

impl BlobSink for Object {
    fn commit(self: Box<Self>) -> Result<(), PathError> {
        let asked = ask(self.store, &self.request("POST", ""), b"");
        asked.map(drop).map_err(|source| PathError { path: self.name.clone(), source })
    }
}

/// Stops the walk after some bytes.
struct Impatient(AtomicU64);

impl Watch for Impatient {
    fn event(&self, event: Event<'_>) {
        if let Event::Advanced { bytes } = event {
            self.0.fetch_add(bytes, Ordering::Relaxed);
        }
    }

    fn cancelled(&self) -> bool {
        self.0.load(Ordering::Relaxed) > 1000
    }
}

#[test]
fn an_archive_lives_in_a_store_that_takes_parts_and_gives_ranges() {
    let (store, address) = store();
    for (name, container) in
        [("/a.tar.zst", Container::TarZst), ("/a.tar.gz", Container::TarGz), ("/a.zip", Container::Zip)]
    {
        let object = Object { store: address, name: name.into() };
        let manifest = tempfile::tempfile().unwrap();
        let sink = Box::new(object.clone());
        let mut writer = ArchiveWriter::into_sink(sink, &object.name, container, manifest, &head()).unwrap();
        // Bytes that do not compress, so that the archive is read in more than one piece.
        let noise: Vec<u8> =
            (0..200_000u32).flat_map(|n| blake3::hash(&n.to_le_bytes()).as_bytes()[..2].to_vec()).collect();
        for n in 0..4 {
            writer.file(&meta(&format!("files/{n}.jpg"), 0o644), 100_000, &noise[n * 90_000..]).unwrap();
        }
        assert!(verify(&object, &Silent).is_err(), "{name} is not there before it is confirmed");
        let size = writer.finish().unwrap();
        assert_eq!(object.size().unwrap(), size);
        let Verdict::Whole(whole) = verify(&object, &Silent).unwrap() else { panic!("{name}") };
        assert_eq!(whole.entries, 5);
        // One file of a zip, from the middle: what lies before it is not fetched.
        let before = store.requests.load(Ordering::Relaxed);
        let mut found = Vec::new();
        let stopped = entries(&object, &Silent, &mut |entry| {
            if entry.raw_name == "files/2.jpg" {
                entry.content.read_to_end(&mut found)?;
                return Ok(ControlFlow::Break(()));
            }
            Ok(ControlFlow::Continue(()))
        });
        assert_eq!(stopped.unwrap(), Some(()));
        assert!(found == noise[180_000..280_000], "{name}");
        let requests = store.requests.load(Ordering::Relaxed) - before;
        assert!(requests < 60, "{name}: {requests} requests");
        // A connection that breaks off is no damage of the archive that passes for whole, and a stop is no damage at all.
        store.cuts_after.store(50_000, Ordering::Relaxed);
        let cut = verify(&object, &Silent);
        assert!(!matches!(cut, Ok(Verdict::Whole(_))), "{name}");
        assert!(!matches!(cut, Ok(Verdict::Damaged(Damage::TextMode { .. }))), "{name}: {cut:?}");
        store.cuts_after.store(0, Ordering::Relaxed);
        let stopped = verify(&object, &Impatient(AtomicU64::new(0)));
        assert!(matches!(stopped, Err(ReadError::Stopped(_))), "{name}: {stopped:?}");
    }
}
