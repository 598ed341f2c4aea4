//! A dump of a database: one file, or parts of a size that an upload allows.
//!
//! Every part begins with the session settings and ends between two statements, so that it loads on its own, in order. The head says
//! what was left out. It names neither time nor database, so that equal content gives equal bytes.

use super::DatabaseError;
use super::servers;
use super::snapshot::DumpOut;
use crate::dump::DumpWriter;
use crate::dump::rules::Keep;
use crate::event::Findings;
use crate::event::{Event, Watch};
use crate::finding::Finding;
use crate::fsx::{folder_of, sync_folder};
use crate::place::DatabaseAccess;
use crate::spool;
use schemars::JsonSchema;
use serde::Serialize;
use std::cell::Cell;
use std::fs::File;
use std::io::{self, BufWriter, Write};
use std::path::{Path, PathBuf};
use std::rc::Rc;
use std::thread::JoinHandle;

/// What is to be dumped.
pub struct DumpPlan<'j> {
    /// Database.
    pub access: DatabaseAccess,
    /// File; its ending names the compression.
    pub output: PathBuf,
    /// A pipe in its place.
    pub pipe: Option<File>,
    /// Whether a file that is there is replaced.
    pub force: bool,
    /// Greatest size of a part, in bytes as written.
    pub part_size: Option<u64>,
    /// Whether the server's checksum of each table's rows is written as well, for the load to compare.
    pub checksums: bool,
    /// Whether sequences are asked about like tables; else all of them are written.
    pub strictly: bool,
    /// What of a table is written, and why if not all of it.
    pub keep: &'j dyn Fn(&str) -> (Keep, String),
}

/// What was dumped.
#[derive(Debug, Default, Serialize, JsonSchema)]
pub struct Dumped {
    /// Files, in order.
    #[serde(with = "crate::path_text")]
    #[schemars(with = "Vec<PathBuf>")]
    pub files: Vec<PathBuf>,
    /// Product and version of the server.
    pub server: String,
    /// Rows by table.
    pub rows: std::collections::BTreeMap<String, u64>,
    /// Tables whose checksum was written.
    pub checksums: u64,
    /// Tables without rows, and tables left out: name and why.
    pub left_out: Vec<(String, String)>,
    /// Views, triggers, routines, events, types and sequences.
    pub others: u64,
    /// Bytes of SQL, before compression.
    pub bytes: u64,
    /// Bytes as written.
    pub written: u64,
    /// What needs attention.
    #[serde(skip)]
    pub findings: Vec<Finding>,
}

/// Size at which compressed output may still be on its way inside of the encoder.
const ENCODER_HOLDS: u64 = 512 << 10;

/// Least size of parts: an insert must fit.
pub const LEAST_PART: u64 = 1 << 20;

/// Returns the name of a part: `shop.sql.gz` becomes `shop.part-01.sql.gz`.
pub fn part_name(output: &Path, number: usize) -> PathBuf {
    let name = output.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let stem = [".sql.gz", ".sql.zst", ".sql"].iter().find_map(|e| Some((name.strip_suffix(e)?, *e)));
    let (stem, ending) = stem.unwrap_or((&name, ""));
    output.with_file_name(format!("{stem}.part-{number:02}{ending}"))
}

/// Returns a dump and the parts that follow it, if its name is that of a first part.
pub fn parts_from(first: &Path) -> Vec<PathBuf> {
    let name = first.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let mut out = vec![first.to_path_buf()];
    if let Some((stem, ending)) = name.split_once(".part-01") {
        let further = (2..).map(|n| first.with_file_name(format!("{stem}.part-{n:02}{ending}")));
        out.extend(further.take_while(|p| p.exists()));
    }
    out
}

/// Dumps a database.
pub fn dump(job: &DumpPlan<'_>, watch: &dyn Watch) -> Result<Dumped, DatabaseError> {
    let mut findings = Findings::new(watch);
    let mut snapshot = servers::snapshot(&job.access)?;
    let mut done = Dumped { server: snapshot.server()?, ..Dumped::default() };
    let tables = snapshot.tables()?;
    let mut total = 0;
    let mut kept = Vec::new();
    for table in &tables {
        let (keep, why) = (job.keep)(&table.name);
        match keep {
            Keep::All => total += table.data,
            Keep::Structure => done.left_out.push((format!("rows of {}", table.name), why)),
            Keep::Nothing => done.left_out.push((table.name.clone(), why)),
        }
        if keep != Keep::Nothing {
            kept.push((table.name.clone(), keep == Keep::All));
        }
    }
    watch.event(Event::StepStarted { step: "dumping", total: Some(total) });
    let mut head = format!("-- SQL dump written by zporter, of {}\n", done.server);
    for (what, why) in &done.left_out {
        head.push_str(&format!(
            "-- Left out: {}{}{}\n",
            one_line(what),
            if why.is_empty() { "" } else { ": " },
            one_line(why)
        ));
    }
    head.push_str(snapshot.session());
    let mut out = Parts::new(job, head, snapshot.closing(), watch);
    out.open_next()?;
    // What is kept of some tables keeps nothing of others.
    let wanted = |name: &str| !job.strictly || (job.keep)(name).0 != Keep::Nothing;
    done.others += snapshot.before(&wanted, &mut out)?;
    for (table, with_rows) in &kept {
        let rows = snapshot.table(table, *with_rows, &mut out)?;
        if *with_rows {
            done.rows.insert(table.clone(), rows);
        }
        if *with_rows
            && job.checksums
            && let Some(sum) = snapshot.checksum(table)?
        {
            out.write_all(
                Checksum { table: table.clone(), sum, server: done.server.clone() }.line().as_bytes(),
            )?;
            done.checksums += 1;
        }
        out.boundary()?;
    }
    let has = |table: &str| kept.iter().any(|(name, _)| name == table);
    done.others += snapshot.after(&has, &mut out, &mut findings)?;
    done.bytes = out.bytes;
    (done.files, done.written) = out.finish()?;
    watch.event(Event::StepDone);
    done.findings = findings.into_vec();
    Ok(done)
}

/// A server's checksum of a table's rows, as a dump states it behind them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Checksum {
    /// Table.
    pub table: String,
    /// Checksum. It means the same on servers of one product and version.
    pub sum: u64,
    /// Product and version of the server.
    pub server: String,
}

impl Checksum {
    /// What its line begins with.
    const BEGINNING: &str = "-- Rows of ";

    fn line(&self) -> String {
        let table = serde_json::Value::from(self.table.as_str());
        format!("{}{table} had the checksum {} on {}\n", Self::BEGINNING, self.sum, self.server)
    }

    /// Reads the checksums that comments state.
    pub fn in_comments(text: &[u8]) -> impl Iterator<Item = Checksum> {
        let lines = text.split(|b| *b == b'\n').filter(|l| l.starts_with(Self::BEGINNING.as_bytes()));
        lines.filter_map(|line| {
            let line = std::str::from_utf8(line).ok()?.trim_end().strip_prefix(Self::BEGINNING)?;
            let (table, rest) = line.rsplit_once(" had the checksum ")?;
            let (sum, server) = rest.split_once(" on ")?;
            let table = serde_json::from_str(table).ok()?;
            Some(Checksum { table, sum: sum.parse().ok()?, server: server.into() })
        })
    }
}

fn one_line(text: &str) -> String {
    text.replace(['\n', '\r'], " ")
}

/// Bytes behind which the system is asked to bring a file to the disk, beside the work.
const SYNC_EVERY: u64 = 32 << 20;

/// Counts what reaches the file, and has it on the disk early: a sync at the end would have to wait for all of it.
struct Written {
    file: BufWriter<File>,
    count: Rc<Cell<u64>>,
    /// Bytes since the last sync began, and that sync.
    unsynced: u64,
    syncing: Option<JoinHandle<io::Result<()>>>,
    /// Whether it is a file that can be brought to a disk.
    syncs: bool,
}

impl Written {
    fn sync_beside(&mut self) -> io::Result<()> {
        if !self.syncs || self.syncing.as_ref().is_some_and(|s| !s.is_finished()) {
            return Ok(());
        }
        self.synced()?;
        self.unsynced = 0;
        let file = self.file.get_ref().try_clone()?;
        // Without a thread of its own the sync is waited for, at the end.
        self.syncing = crate::threads::start(move || file.sync_data()).ok();
        Ok(())
    }

    /// Waits for the last sync.
    fn synced(&mut self) -> io::Result<()> {
        let stopped = |_| io::Error::other("a thread that syncs the file stopped");
        self.syncing.take().map_or(Ok(()), |sync| sync.join().map_err(stopped)?)
    }

    /// Brings the file to the disk as a whole. Returns its size.
    fn end(mut self) -> io::Result<u64> {
        self.synced()?;
        let file = self.file.into_inner().map_err(io::IntoInnerError::into_error)?;
        if !self.syncs {
            return Ok(self.count.get());
        }
        file.sync_all()?;
        Ok(file.metadata()?.len())
    }
}

impl Write for Written {
    fn write(&mut self, buf: &[u8]) -> io::Result<usize> {
        let n = self.file.write(buf)?;
        self.count.set(self.count.get() + n as u64);
        self.unsynced += n as u64;
        if self.unsynced >= SYNC_EVERY {
            self.sync_beside()?;
        }
        Ok(n)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file.flush()
    }
}

struct OpenPart {
    out: DumpWriter<Written>,
    /// Nothing for a pipe or a device.
    temp: Option<tempfile::TempPath>,
}

/// The parts of a dump. They get their names when all is written.
struct Parts<'j> {
    output: &'j Path,
    part_size: Option<u64>,
    head: String,
    closing: &'static str,
    pipe: Option<&'j File>,
    force: bool,
    open: Option<OpenPart>,
    done: Vec<tempfile::TempPath>,
    count: Rc<Cell<u64>>,
    written: u64,
    bytes: u64,
    watch: &'j dyn Watch,
}

impl<'j> Parts<'j> {
    fn new(job: &'j DumpPlan<'_>, head: String, closing: &'static str, watch: &'j dyn Watch) -> Self {
        Parts {
            output: &job.output,
            part_size: job.part_size,
            head,
            closing,
            pipe: job.pipe.as_ref(),
            force: job.force,
            open: None,
            done: Vec::new(),
            count: Rc::default(),
            written: 0,
            bytes: 0,
            watch,
        }
    }

    fn open_next(&mut self) -> io::Result<()> {
        self.close()?;
        if let Some(file) = self.straight()? {
            return self.begin(file, None);
        }
        let (file, temp) = spool::file_in(folder_of(self.output))?.into_parts();
        self.begin(file, Some(temp))
    }

    /// Returns what is written into as it is: a pipe, or what is no plain file.
    fn straight(&self) -> io::Result<Option<File>> {
        if let Some(pipe) = self.pipe {
            return pipe.try_clone().map(Some);
        }
        let other = self.part_size.is_none() && self.output.metadata().is_ok_and(|m| !m.is_file());
        if other { File::options().write(true).open(self.output).map(Some) } else { Ok(None) }
    }

    fn begin(&mut self, file: File, temp: Option<tempfile::TempPath>) -> io::Result<()> {
        self.count.set(0);
        let file = BufWriter::with_capacity(1 << 16, file);
        let written =
            Written { file, count: self.count.clone(), unsynced: 0, syncing: None, syncs: temp.is_some() };
        let out = DumpWriter::for_name(&self.output.to_string_lossy(), written)?;
        self.open = Some(OpenPart { out, temp });
        let head = self.head.clone();
        self.write_all(head.as_bytes())
    }

    fn close(&mut self) -> io::Result<()> {
        if let Some(OpenPart { mut out, temp }) = self.open.take() {
            out.write_all(self.closing.as_bytes())?;
            self.written += out.finish()?.end()?;
            self.done.extend(temp);
        }
        Ok(())
    }

    fn finish(mut self) -> io::Result<(Vec<PathBuf>, u64)> {
        self.close()?;
        let mut files = Vec::new();
        for (number, temp) in self.done.into_iter().enumerate() {
            let path = if self.part_size.is_some() {
                part_name(self.output, number + 1)
            } else {
                self.output.to_path_buf()
            };
            let kept = if self.force { temp.persist(&path) } else { temp.persist_noclobber(&path) };
            kept.map_err(|e| e.error)?;
            files.push(path);
        }
        sync_folder(folder_of(self.output));
        Ok((files, self.written))
    }
}

impl Write for Parts<'_> {
    fn write(&mut self, buf: &[u8]) -> io::Result<usize> {
        let Some(open) = &mut self.open else { return Err(io::Error::other("no part is open")) };
        let n = open.out.write(buf)?;
        self.bytes += n as u64;
        self.watch.event(Event::Advanced { bytes: n as u64 });
        Ok(n)
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl DumpOut for Parts<'_> {
    fn splits(&self) -> bool {
        self.part_size.is_some()
    }

    fn boundary(&mut self) -> io::Result<()> {
        let holds = if matches!(self.open, Some(OpenPart { out: DumpWriter::Plain(_), .. })) {
            300 << 10
        } else {
            ENCODER_HOLDS
        };
        match self.part_size {
            Some(size) if self.count.get() + holds > size => self.open_next(),
            _ => Ok(()),
        }
    }
}
