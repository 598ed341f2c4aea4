//! Traces files line by line, whole folders, and archives.

use super::{Collect, Standing, TraceError, Tracer};
use crate::archive::blob::LocalFile;
use crate::archive::read;
use crate::dump::material::{LOOK, sealed};
use crate::dump::{open, open_text};
use crate::event::{Event, Watch};
use crate::text::value;
use crate::tree::{Found, Links, LocalTree, Tree};
use std::fs::File;
use std::io::{BufRead, BufReader, Error, ErrorKind, Read};
use std::ops::ControlFlow;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

/// A line longer than this is looked at in pieces.
const LONGEST_LINE: usize = 4 << 20;

/// Says of a name whether a dump is to be expected behind it.
fn names_dump(name: &str) -> bool {
    let name = name.to_ascii_lowercase();
    let bare = [".gz", ".zst"].iter().find_map(|e| name.strip_suffix(e)).unwrap_or(&name);
    bare.ends_with(".sql") || bare.ends_with(".dump")
}

impl Tracer {
    /// Traces whatever lies at a path: a folder, an archive, a dump or any other file.
    pub fn path(&mut self, path: &Path, watch: &dyn Watch) -> Result<(), TraceError> {
        let read = |source| TraceError::Read { path: path.to_path_buf(), source };
        if std::fs::metadata(path).map_err(read)?.is_dir() {
            return self.folder(&*LocalTree::at(path), watch);
        }
        let name = path.display().to_string();
        if names_dump(&name) {
            let file = File::open(path).map_err(read)?;
            let total = file.metadata().map(|m| m.len()).ok();
            watch.event(Event::StepStarted { step: "looking", total });
            let reader = open_text(crate::event::Counted::new(file, watch)).map_err(read)?;
            let traced = self.dump(&name, reader);
            watch.event(Event::StepDone);
            return traced;
        }
        if read::container_of(&LocalFile(path)).is_ok() {
            return self.archive(path, watch);
        }
        let file = File::open(path).map_err(read)?;
        let mut reader = BufReader::with_capacity(1 << 16, file);
        if let Some(sealed) = sealed(reader.fill_buf().map_err(read)?) {
            return Err(read(Error::new(ErrorKind::InvalidData, sealed)));
        }
        self.lines(&name, reader).map_err(read)
    }

    /// Traces all files of a folder, and where its links lead.
    pub fn folder(&mut self, tree: &dyn Tree, watch: &dyn Watch) -> Result<(), TraceError> {
        watch.event(Event::StepStarted { step: "looking", total: None });
        for found in tree.walk(tree.root()) {
            let Found { path, meta } = match found {
                Ok(found) => found,
                Err(e) => {
                    self.traced.unread.push(format!("{}: {}", e.path.display(), e.source));
                    continue;
                }
            };
            let name = path.strip_prefix(tree.root()).unwrap_or(&path).display().to_string();
            if let (true, Ok(to)) = (meta.is_link(), tree.link_target(&path)) {
                self.link(&name, &to);
            }
            if !meta.is_file() {
                continue;
            }
            let traced = tree.open(&path, Links::Follow).and_then(|file| {
                let file = crate::event::Counted::new(file, watch);
                if !names_dump(&name) {
                    return self.text_file(&name, file);
                }
                self.dump(&name, open_text(file)?).map_err(Error::other)
            });
            if let Err(e) = traced {
                self.traced.unread.push(format!("{name}: {e}"));
            }
        }
        watch.event(Event::StepDone);
        Ok(())
    }

    fn archive(&mut self, archive: &Path, watch: &dyn Watch) -> Result<(), TraceError> {
        let total = std::fs::metadata(archive).map(|m| m.len()).ok();
        watch.event(Event::StepStarted { step: "looking", total });
        read::entries::<()>(&LocalFile(archive), watch, &mut |entry| {
            let name = entry.raw_name.clone();
            if let read::EntryKind::Symlink(to) = &entry.kind {
                self.link(&name, to);
            }
            if entry.kind == read::EntryKind::File {
                let traced = if names_dump(&name) {
                    open_text(entry.content).and_then(|reader| self.dump(&name, reader).map_err(Error::other))
                } else {
                    self.text_file(&name, entry.content)
                };
                if let Err(e) = traced {
                    self.traced.unread.push(format!("{name}: {e}"));
                }
            }
            Ok(ControlFlow::Continue(()))
        })?;
        watch.event(Event::StepDone);
        Ok(())
    }

    /// Looks at where a link leads.
    fn link(&mut self, name: &str, to: &Path) {
        let to = to.as_os_str().as_bytes();
        self.traced.looked_at += 1;
        if !self.replacements.scan().any(to) {
            return;
        }
        let standing = Standing { file: name.to_string(), line: 1, column: None, row: None };
        let mut collect = Collect { standing: &standing, outside: None, found: Vec::new() };
        let _ = value::edits_of_hit(&self.replacements, to, false, &mut collect);
        for found in collect.found {
            self.keep(super::Found { nesting: "link".into(), ..found });
        }
    }

    /// Traces a file that may be compressed: what that hides is said.
    fn text_file(&mut self, name: &str, reader: impl Read) -> std::io::Result<()> {
        let mut reader = open(reader)?;
        let mut start = [0; LOOK];
        let mut filled = 0;
        while filled < LOOK {
            match reader.read(&mut start[filled..])? {
                0 => break,
                n => filled += n,
            }
        }
        if sealed(&start[..filled]).is_some() {
            self.traced.sealed.push(name.to_string());
            return Ok(());
        }
        self.lines(name, start[..filled].chain(reader))
    }

    /// Traces a text line by line.
    pub fn lines(&mut self, name: &str, reader: impl Read) -> std::io::Result<()> {
        let mut reader = BufReader::with_capacity(1 << 16, reader);
        let mut line = Vec::new();
        let mut number = 0;
        self.traced.looked_at += 1;
        loop {
            line.clear();
            let read = reader.by_ref().take(LONGEST_LINE as u64).read_until(b'\n', &mut line)?;
            if read == 0 {
                return Ok(());
            }
            number += 1;
            if !self.replacements.scan().any(&line) {
                continue;
            }
            let text = line.strip_suffix(b"\n").unwrap_or(&line);
            let standing = Standing { file: name.to_string(), line: number, column: None, row: None };
            let mut collect = Collect { standing: &standing, outside: None, found: Vec::new() };
            let _ = value::edits_of_hit(&self.replacements, text, false, &mut collect);
            for found in collect.found {
                self.keep(found);
            }
        }
    }
}
