//! The parts of a database that is taken from a dump, or read from its server before it is handed on: each with its size.

use super::job::{GatherOptions, PackError};
use crate::contents::split::{SPOOL_LEVEL, Split, Splitter, SpooledPart};
use crate::database::DatabaseError;
use crate::database::snapshot::Whole;
use crate::database::stream::{self, DatabaseStream};
use crate::dump::dialect::Dialect;
use crate::dump::rules::{Keep, Rules};
use crate::dump::stream::{CutOff, DumpError, Source, WINDOW};
use crate::dump::{TextWriter, spread};
use crate::event::Findings;
use crate::event::{Counted, Event, Watch};
use crate::finding::{Code, Finding};
use crate::place::Pairs;
use crate::select::{self};
use crate::spool;
use crate::survey::Survey;
use crate::text::replacements::Replacements;
use std::collections::BTreeSet;
use std::fs::File;
use std::io::Write;
use std::path::Path;

/// Takes apart the dump that is named, if one is.
pub(super) fn dump_parts(
    survey: &Survey,
    options: &GatherOptions<'_>,
    spool: &Path,
    watch: &dyn Watch,
    findings: &mut Findings<'_>,
) -> Result<Vec<SpooledPart>, PackError> {
    let Some(path) = options.dump.filter(|_| options.scope.has(&select::Part::Database)) else {
        return Ok(Vec::new());
    };
    let (definition, prefix) = (&survey.recognised.definition, &survey.config.table_prefix);
    let keep = |table: &str| options.tables.keeps(definition, prefix, table);
    let named = |wanted: Keep| {
        let tables = survey.tables.iter().filter(|t| keep(&t.name) == wanted);
        tables.map(|t| t.name.clone()).collect::<BTreeSet<String>>()
    };
    let dropped = named(Keep::Nothing);
    let mut parts = split_dump(path, &named(Keep::Structure), &keep, spool, watch, findings)?;
    parts.retain(|p| p.table.as_ref().is_none_or(|t| !dropped.contains(t)));
    // A dump that is not taken apart holds what the survey saw in it.
    if !parts.iter().any(|p| p.table.is_some() && p.bytes > 0)
        && let Some(whole) = parts.first_mut()
    {
        whole.holds = survey.tables.iter().map(|t| t.name.clone()).filter(|t| !dropped.contains(t)).collect();
    }
    Ok(parts)
}

/// Reads a database into spooled parts: an archive states the size of each before it. Says of `twin`, a text, whether rows name it.
pub(super) fn spooled(
    live: &DatabaseStream,
    spool: &Path,
    twin: Option<&str>,
    watch: &dyn Watch,
) -> Result<(Vec<SpooledPart>, bool), DatabaseError> {
    let mut named = false;
    watch.event(Event::StepStarted { step: "reading the database", total: Some(live.bytes()) });
    let mut out = Vec::new();
    for (number, part) in live.parts().enumerate() {
        let path = spool.join(format!("part-{number}"));
        let file = spool::private_file(&path, false)?;
        let spool = CountedWrite { inner: zstd::stream::write::Encoder::new(file, SPOOL_LEVEL)?, bytes: 0 };
        let mut to = Seeking::new(spool, twin.filter(|_| !named));
        let (table, rows, rows_left_out) = match part {
            stream::StreamPart::Text(_, text) => {
                to.write_all(text)?;
                (None, 0, 0)
            }
            stream::StreamPart::Table(facts, with_rows) => {
                let rows = live.table(&facts.name, with_rows, &mut Whole(Counted::new(&mut to, watch)))?;
                (Some(facts.name.clone()), rows, if with_rows { 0 } else { facts.rows })
            }
        };
        named |= to.found;
        let to = to.inner;
        to.inner.finish()?;
        out.push(SpooledPart { table, holds: Vec::new(), rows, rows_left_out, bytes: to.bytes, path });
    }
    watch.event(Event::StepDone);
    Ok((out, named))
}

/// Looks for a text in what is written, across the borders of single writes.
struct Seeking<W> {
    inner: W,
    text: Option<memchr::memmem::Finder<'static>>,
    /// The end of what was written last.
    tail: Vec<u8>,
    found: bool,
}

impl<W> Seeking<W> {
    fn new(inner: W, text: Option<&str>) -> Self {
        let text = text.map(|t| memchr::memmem::Finder::new(t.as_bytes()).into_owned());
        Seeking { inner, text, tail: Vec::new(), found: false }
    }

    fn look(&mut self, written: &[u8]) {
        let Some(text) = self.text.as_ref().filter(|_| !self.found) else { return };
        let most = text.needle().len().saturating_sub(1);
        self.tail.extend_from_slice(&written[..written.len().min(most)]);
        self.found = text.find(&self.tail).is_some() || text.find(written).is_some();
        if written.len() >= most {
            self.tail.clear();
            self.tail.extend_from_slice(&written[written.len() - most..]);
        } else {
            self.tail.drain(..self.tail.len().saturating_sub(most));
        }
    }
}

impl<W: Write> Write for Seeking<W> {
    fn write(&mut self, buf: &[u8]) -> std::io::Result<usize> {
        let n = self.inner.write(buf)?;
        self.look(&buf[..n]);
        Ok(n)
    }

    fn flush(&mut self) -> std::io::Result<()> {
        self.inner.flush()
    }
}

/// Dumps of other dialects are carried in one part, without the rows that are left out.
pub(super) fn whole_dump<R: std::io::Read>(
    source: Source<R>,
    order: Option<crate::dump::utf16::Order>,
    keep: &(dyn Fn(&str) -> Keep + Sync),
    spool: &Path,
) -> Result<(Vec<SpooledPart>, Option<CutOff>), DumpError> {
    let replacements = Replacements::new(&Pairs::default(), &[]);
    let rules = Rules::new(&replacements, keep);
    let path = spool.join("part-0");
    let file = spool::private_file(&path, false).map_err(DumpError::Write)?;
    let out = zstd::stream::write::Encoder::new(file, SPOOL_LEVEL).map_err(DumpError::Write)?;
    let out = TextWriter::new(CountedWrite { inner: out, bytes: 0 }, order);
    let (mut out, done, ending) = spread::rewrite(source, &rules, out)?;
    out.flush().map_err(DumpError::Write)?;
    let counted = out.into_inner();
    let bytes = counted.bytes;
    counted.inner.finish().map_err(DumpError::Write)?;
    let tables = done.tally.tables;
    let mut parts = vec![SpooledPart {
        table: None,
        holds: Vec::new(),
        rows: tables.values().map(|t| t.rows).sum(),
        rows_left_out: 0,
        bytes,
        path: path.clone(),
    }];
    // What was left out is told table by table.
    for (table, tally) in tables.into_iter().filter(|(_, t)| t.rows_left_out > 0) {
        parts.push(SpooledPart {
            table: Some(table),
            holds: Vec::new(),
            rows: 0,
            rows_left_out: tally.rows_left_out,
            bytes: 0,
            path: path.clone(),
        });
    }
    Ok((parts, ending.cut_off))
}

/// Counts what is written.
pub(super) struct CountedWrite<W> {
    pub(super) inner: W,
    pub(super) bytes: u64,
}

impl<W: Write> Write for CountedWrite<W> {
    fn write(&mut self, buf: &[u8]) -> std::io::Result<usize> {
        let n = self.inner.write(buf)?;
        self.bytes += n as u64;
        Ok(n)
    }

    fn flush(&mut self) -> std::io::Result<()> {
        self.inner.flush()
    }
}

pub(super) fn split_dump(
    path: &Path,
    without_rows: &BTreeSet<String>,
    keep: &(dyn Fn(&str) -> Keep + Sync),
    spool: &Path,
    watch: &dyn Watch,
    findings: &mut Findings<'_>,
) -> Result<Vec<SpooledPart>, PackError> {
    let wrong = |source| PackError::Dump { path: path.to_path_buf(), source };
    let file = File::open(path).map_err(|e| wrong(DumpError::Read(e)))?;
    let total = file.metadata().map(|m| m.len()).ok();
    watch.event(Event::StepStarted { step: "taking the dump apart", total });
    let reader = crate::dump::open_text(Counted::new(file, watch)).map_err(|e| wrong(DumpError::Read(e)))?;
    let order = reader.order();
    let source = Source::new(reader, WINDOW, None).map_err(wrong)?;
    if source.dialect() != Dialect::Mysql {
        let (parts, cut) = whole_dump(source, order, keep, spool).map_err(wrong)?;
        watch.event(Event::StepDone);
        if parts.iter().all(|p| p.rows == 0) {
            findings.push(Finding::at(
                Code::DumpEmpty,
                "the dump holds no rows",
                path,
                "check that it is the dump of this site",
            ));
        }
        return match cut {
            Some(cut) => Err(PackError::CutOff { path: path.to_path_buf(), cut }),
            None => Ok(parts),
        };
    }
    let mut splitter = Splitter::new(spool, without_rows);
    let ending = crate::dump::stream::run_source(source, &mut splitter).map_err(wrong)?;
    let Split { parts, databases, left_out } = splitter.finish().map_err(wrong)?;
    watch.event(Event::StepDone);
    if let Some(cut) = ending.cut_off {
        return Err(PackError::CutOff { path: path.to_path_buf(), cut });
    }
    if databases.len() > 1 {
        return Err(PackError::SeveralDatabases {
            path: path.to_path_buf(),
            names: databases.into_iter().collect(),
        });
    }
    for statement in left_out {
        let what = format!("a statement that builds no table was left out ({statement})");
        findings.push(Finding::at(
            Code::StatementLeftOut,
            what,
            path,
            "nothing, unless the site depends on it",
        ));
    }
    if parts.is_empty() {
        findings.push(Finding::at(
            Code::DumpEmpty,
            "the dump holds no table",
            path,
            "check that it is the dump of this site",
        ));
    }
    Ok(parts)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_text_is_found_wherever_writes_are_cut() {
        let whole = b"a link to //www.fernhollow.example/x and more";
        for size in 1..whole.len() {
            let mut to = Seeking::new(Vec::new(), Some("//www.fernhollow.example"));
            whole.chunks(size).for_each(|chunk| to.write_all(chunk).unwrap());
            assert!(to.found && to.inner == whole, "in pieces of {size}");
            let mut to = Seeking::new(Vec::new(), Some("//www.fernhollow.test"));
            whole.chunks(size).for_each(|chunk| to.write_all(chunk).unwrap());
            assert!(!to.found);
        }
    }
}
