//! Rewrites a dump alone, from file to file or through a pipe.

use super::{Failure, How, Refused, RunError, World, is_dump, writable_dump};
use crate::dump::dialect::Dialect;
use crate::dump::prefix::PrefixChange;
use crate::dump::rules::{DatabaseMove, Keep, Rewritten, Rules, Start};
use crate::dump::spread::rewrite_on;
use crate::dump::stream::{CutOff, Ending, Source, WINDOW};
use crate::dump::tally::Tally;
use crate::dump::utf16::Order;
use crate::dump::{self, DumpWriter, TextWriter};
use crate::event::{Counted, Event, Watch};
use crate::finding::Finding;
use crate::fsx::{AtPath, WholeFile};
use crate::options::ReaddressJob;
use crate::options::values::FileOrPipe;
use crate::place::Pairs;
use crate::text::replacements::Replacements;
use schemars::JsonSchema;
use serde::Serialize;
use std::fs::File;
use std::io::{BufWriter, Read, Write};
use std::path::{Path, PathBuf};

/// A dump that was rewritten, or would be.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Readdressed {
    /// The new dump; nothing for a pipe.
    #[serde(with = "crate::path_text")]
    #[schemars(with = "Option<PathBuf>")]
    pub output: Option<PathBuf>,
    /// Whose dump it is.
    pub dialect: Dialect,
    /// Bytes read.
    pub bytes: u64,
    /// Statements read.
    pub statements: u64,
    /// Values changed.
    pub changed: u64,
    /// Names of tables that got the new prefix.
    pub renamed: u64,
    /// What was changed and left.
    pub tally: Tally,
    /// Where it breaks off, if it does.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cut_off: Option<CutOff>,
    /// What a person should know.
    #[serde(skip)]
    pub findings: Vec<Finding>,
}

/// Rewrites.
pub(super) fn run(
    options: &ReaddressJob,
    how: How,
    world: &dyn World,
    watch: &dyn Watch,
) -> Result<Readdressed, Failure> {
    let pairs = Pairs { addresses: options.address.clone(), roots: options.root.clone() };
    let replacements = Replacements::asking(&pairs, &[], options.rewriting());
    let prefix = prefix_change(options)?;
    let starts = prefixed_columns(options, prefix.as_ref())?;
    let moves = options.database.clone().map(|(old, new)| DatabaseMove { old: vec![old], new });
    let asked = prefix.is_some() || moves.is_some() || !options.rows.is_empty() || options.repair;
    if replacements.described().is_empty() && !asked {
        return Err(Refused::NothingToRewrite.into());
    }
    let keep = |table: &str| {
        let last = options.rows.iter().rev().find(|choice| choice.pattern.is_match(table));
        last.map_or(Keep::All, |choice| choice.keep)
    };
    let rules = Rules { prefix, starts, moves, samples: how.samples, ..Rules::new(&replacements, &keep) };
    let work = Work { options, rules: &rules, world, watch };
    let (done, ending) = match options.output.file() {
        _ if how.dry_run => {
            let (_, done, ending) = work.rewrite(|_| Ok(std::io::sink()))?;
            (done, ending)
        }
        None => {
            // Chunks are large: nothing is to be gained by collecting them.
            let (_, done, ending) = work.rewrite(|_| Ok(world.output().at(Path::new("-"))?))?;
            (done, ending)
        }
        Some(output) => work.to_file(output)?,
    };
    let Rewritten { tally, renamed, .. } = done;
    Ok(Readdressed {
        output: options.output.file().map(Path::to_path_buf),
        dialect: ending.dialect,
        renamed,
        bytes: ending.bytes,
        statements: ending.statements,
        changed: tally.changed(),
        cut_off: ending.cut_off,
        findings: tally.findings(),
        tally,
    })
}

fn prefix_change(options: &ReaddressJob) -> Result<Option<PrefixChange>, Refused> {
    let Some((old, new)) = &options.prefix else { return Ok(None) };
    let plain = |p: &str| p.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'_');
    if old.is_empty() || !plain(old) || !plain(new) {
        return Err(Refused::Prefix(old.clone(), new.clone()));
    }
    Ok(Some(PrefixChange { old: old.clone(), new: new.clone() }))
}

/// Returns the columns whose values begin with the prefix.
fn prefixed_columns(options: &ReaddressJob, change: Option<&PrefixChange>) -> Result<Vec<Start>, Refused> {
    let Some(PrefixChange { old, new }) = change else { return Ok(Vec::new()) };
    let columns = options.prefix_in.iter().map(|key| {
        let (table, column) = key.split_once('.').ok_or_else(|| Refused::Column(key.clone()))?;
        let (table, column) = (table.to_string(), column.to_string());
        Ok(Start {
            table,
            column,
            old: old.clone(),
            new: new.clone(),
            names: Vec::new(),
            tell_others: false,
            what: "prefix",
        })
    });
    columns.collect()
}

struct Work<'w> {
    options: &'w ReaddressJob,
    rules: &'w Rules<'w>,
    world: &'w dyn World,
    watch: &'w dyn Watch,
}

impl Work<'_> {
    fn to_file(&self, output: &Path) -> Result<(Rewritten, Ending), RunError> {
        writable_dump(output, self.options.force)?;
        // What is no plain file, such as /dev/null or a named pipe, is written into.
        if output.metadata().is_ok_and(|meta| !meta.is_file()) {
            let file = File::options().write(true).open(output).at(output)?;
            let (_, done, ending) = self.rewrite(|_| Ok(file))?;
            return Ok((done, ending));
        }
        let file = WholeFile::begin(output, self.options.force)?;
        let name = output.to_string_lossy().into_owned();
        let (out, done, ending) = self.rewrite(|order| {
            // A letter may be cut by a chunk's end, so UTF-16 is collected; and compression is kind to large writes.
            let capacity = if order.is_some() { 1 << 18 } else { 0 };
            Ok(DumpWriter::for_name(&name, BufWriter::with_capacity(capacity, file)).at(output)?)
        })?;
        let file = out.finish().and_then(|b| b.into_inner().map_err(|e| e.into_error())).at(output)?;
        file.commit()?;
        Ok((done, ending))
    }

    fn rewrite<W: Write + Send>(
        &self,
        out: impl FnOnce(Option<Order>) -> Result<W, RunError>,
    ) -> Result<(W, Rewritten, Ending), RunError> {
        let path = self.options.input.file().unwrap_or(Path::new("-"));
        let (input, total): (Box<dyn Read + Send>, Option<u64>) = match &self.options.input {
            FileOrPipe::Pipe => (Box::new(self.world.input().at(path)?), None),
            FileOrPipe::File(file) => {
                is_dump(file)?;
                let file = File::open(&**file).at(path)?;
                let total = file.metadata().map(|m| m.len()).ok();
                (Box::new(file), total)
            }
        };
        self.watch.event(Event::StepStarted { step: "rewriting", total });
        let reader = dump::open_text(Counted::new(input, self.watch)).at(path)?;
        let order = reader.order();
        let out = TextWriter::new(out(order)?, order);
        let cores = || std::thread::available_parallelism().map_or(1, usize::from);
        let threads = self.options.threads.unwrap_or_else(cores);
        let source = Source::new(reader, WINDOW, self.options.dialect);
        let rewritten = source.and_then(|source| rewrite_on(threads, source, self.rules, out));
        self.watch.event(Event::StepDone);
        let (out, done, ending) = rewritten?;
        let mut out = out.into_inner();
        out.flush().at(path)?;
        Ok((out, done, ending))
    }
}
