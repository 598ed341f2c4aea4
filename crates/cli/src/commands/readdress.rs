//! `zporter readdress`: rewrites a dump alone, from file to file or through a pipe.

use super::report;
use crate::copy_args::TextArgs;
use crate::dump_files;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::format::{bytes, count, number};
use crate::progress::Progress;
use crate::scope::kept_rows;
use crate::ui::Ui;
use clap::{Args, ValueEnum};
use serde::Serialize;
use std::fs::File;
use std::io::{BufWriter, Read, Write};
use std::os::fd::AsFd;
use std::path::{Path, PathBuf};
use zporter_core::dump::dialect::Dialect;
use zporter_core::dump::prefix::PrefixChange;
use zporter_core::dump::rules::{DatabaseMove, Keep, Rewritten, Rules, Start};
use zporter_core::dump::spread::rewrite_on;
use zporter_core::dump::stream::{CutOff, Ending, Source, WINDOW};
use zporter_core::dump::tally::Tally;
use zporter_core::dump::utf16::Order;
use zporter_core::dump::{self, DumpWriter, TextWriter};
use zporter_core::event::{Counted, Event, Watch};
use zporter_core::fsx::{AtPath, absolute};
use zporter_core::place::{Address, Pairs, Root};
use zporter_core::text::needles::Needles;

/// Rewrite addresses and paths in a dump, exactly, in whatever way a value wraps them
#[derive(Debug, Args)]
pub struct ReaddressArgs {
    /// Dump to read, compressed or not; `-` reads standard input
    input: PathBuf,
    /// Dump to write, compressed by its ending (.gz, .zst); `-` writes to standard output
    #[arg(short, long, value_name = "FILE")]
    output: PathBuf,
    /// Overwrite the file that is written, if it is there
    #[arg(long)]
    force: bool,
    /// Old and new base address; may be given several times
    #[arg(long, num_args = 2, value_names = ["OLD", "NEW"])]
    address: Vec<String>,
    /// Old and new folder; may be given several times
    #[arg(long, num_args = 2, value_names = ["OLD", "NEW"])]
    root: Vec<String>,
    /// What changes as well
    #[command(flatten)]
    text: TextArgs,
    /// Old and new name of the database: stored code names it no more, and what chooses or makes it chooses the new one, or goes
    #[arg(long, num_args = 2, value_names = ["OLD", "NEW"], help_heading = "On request")]
    database: Vec<String>,
    /// Old and new table prefix
    #[arg(long, num_args = 2, value_names = ["OLD", "NEW"], help_heading = "On request")]
    prefix: Vec<String>,
    /// Column whose values begin with the table prefix; may be given several times
    #[arg(long, value_name = "TABLE.COLUMN", requires = "prefix", help_heading = "On request")]
    prefix_in: Vec<String>,
    /// Carry all, the structure or none of the tables that match; may be given several times, the last match counts
    #[arg(long, value_name = "PATTERN=all|structure|none", help_heading = "On request")]
    rows: Vec<String>,
    /// Whose dump it is, if the first bytes tell it wrongly
    #[arg(long, value_enum)]
    dialect: Option<DialectWord>,
    /// Write the tally as JSON
    #[arg(long, value_name = "FILE")]
    report: Option<PathBuf>,
    /// Samples to keep per column
    #[arg(long, value_name = "N", default_value_t = 2)]
    samples: usize,
    /// Threads to use; without it as many as there are cores
    #[arg(long, value_name = "N")]
    threads: Option<usize>,
}

/// Dialects by the words of the command line.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub enum DialectWord {
    /// MySQL and MariaDB
    Mysql,
    /// PostgreSQL, plain format
    Postgres,
    /// SQLite's .dump
    Sqlite,
    /// SQL Server scripts
    SqlServer,
}

impl From<DialectWord> for Dialect {
    fn from(word: DialectWord) -> Self {
        match word {
            DialectWord::Mysql => Dialect::Mysql,
            DialectWord::Postgres => Dialect::Postgres,
            DialectWord::Sqlite => Dialect::Sqlite,
            DialectWord::SqlServer => Dialect::SqlServer,
        }
    }
}

#[derive(Debug, Serialize)]
struct Readdressed {
    output: PathBuf,
    dialect: Dialect,
    bytes: u64,
    statements: u64,
    changed: u64,
    renamed: u64,
    tally: Tally,
    #[serde(skip_serializing_if = "Option::is_none")]
    cut_off: Option<CutOff>,
}

/// Runs the command.
pub fn run(ui: &Ui, args: &ReaddressArgs) -> Result<Exit, CommandError> {
    let needles = Needles::asking(&pairs(args)?, &[], args.text.asked());
    let prefix = prefix_change(args)?;
    let starts = prefixed_columns(args, prefix.as_ref())?;
    let kept = kept_rows(&args.rows)?;
    let moves = match &args.database[..] {
        [old, new] => Some(DatabaseMove { old: vec![old.clone()], new: new.clone() }),
        _ => None,
    };
    let asked = prefix.is_some() || moves.is_some() || !kept.is_empty() || args.text.repair;
    if needles.described().is_empty() && !asked {
        return Err(CommandError::usage("there is nothing to rewrite")
            .hint("name at least one --address OLD NEW or --root OLD NEW whose two sides differ"));
    }
    let keep = |table: &str| {
        kept.iter().rev().find(|(pattern, _)| pattern.is_match(table)).map_or(Keep::All, |(_, keep)| *keep)
    };
    let rules = Rules { prefix, starts, moves, samples: args.samples, ..Rules::new(&needles, &keep) };
    let progress = Progress::new(ui);
    let to_pipe = args.output == Path::new("-");
    let (done, ending) = if to_pipe {
        // Chunks are large: nothing is to be gained by collecting them.
        let (_, done, ending) = rewrite(args, &rules, &progress, |_| stdout_unbuffered())?;
        (done, ending)
    } else {
        to_file(args, &rules, &progress)?
    };
    let Rewritten { tally, renamed, .. } = done;
    let output = if to_pipe { args.output.clone() } else { absolute(&args.output) };
    let done = Readdressed {
        output,
        dialect: ending.dialect,
        renamed,
        bytes: ending.bytes,
        statements: ending.statements,
        changed: tally.changed(),
        cut_off: ending.cut_off,
        tally,
    };
    if let Some(path) = &args.report {
        let text = serde_json::to_vec_pretty(&done)
            .map_err(|e| CommandError::world("the report has no JSON form", e))?;
        zporter_core::fsx::write_atomically(path, &text)?;
    }
    if ui.json && !to_pipe {
        ui.document(&done)?;
    } else if to_pipe {
        ui.note(&format!("{} read, {} changed", bytes(done.bytes), count(done.changed, "value")));
    } else {
        ui.good(&format!("Rewrote {}", done.output.display()));
        let statements = count(done.statements, "statement");
        ui.fact("read", format!("{} in {statements}, a dump of {}", bytes(done.bytes), done.dialect.name()));
        ui.fact("changed", count(done.changed, "value"));
        if done.renamed > 0 {
            ui.fact("renamed", count(done.renamed, "table name"));
        }
        report::tally(ui, &done.tally);
    }
    if let Some(cut) = &done.cut_off {
        let message =
            format!("the dump breaks off in line {}, byte {}: {}", cut.line, number(cut.offset), cut.what);
        let error = CommandError { exit: Exit::Damaged, message, causes: Vec::new(), hints: Vec::new() };
        return Err(error
            .hint("everything before was rewritten and the rest passed on as it is; export the dump again"));
    }
    let leftover = done.tally.left().keys().any(|r| r.is_leftover());
    Ok(if leftover { Exit::Findings } else { Exit::Done })
}

/// Returns standard output without the line buffering that is meant for people: it would look for a line end in every block.
fn stdout_unbuffered() -> Result<File, CommandError> {
    let handle = std::io::stdout().as_fd().try_clone_to_owned();
    handle.map(File::from).map_err(|e| CommandError::world("standard output cannot be used", e))
}

fn stdin_unbuffered() -> Result<File, CommandError> {
    let handle = std::io::stdin().as_fd().try_clone_to_owned();
    if let Ok(pipe) = &handle {
        // A pipe holds 64 KiB unless told otherwise; with more in it the two sides wait less for each other. No pipe, no harm.
        let _ = rustix::pipe::fcntl_setpipe_size(pipe, 1 << 20);
    }
    handle.map(File::from).map_err(|e| CommandError::world("standard input cannot be used", e))
}

fn pairs(args: &ReaddressArgs) -> Result<Pairs, CommandError> {
    let mut pairs = Pairs::default();
    for pair in args.address.chunks_exact(2) {
        pairs.addresses.push((Address::parse(&pair[0])?, Address::parse(&pair[1])?));
    }
    for pair in args.root.chunks_exact(2) {
        pairs.roots.push((Root::parse(&pair[0])?, Root::parse(&pair[1])?));
    }
    Ok(pairs)
}

fn prefix_change(args: &ReaddressArgs) -> Result<Option<PrefixChange>, CommandError> {
    let [old, new] = &args.prefix[..] else { return Ok(None) };
    let plain = |p: &str| p.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'_');
    if old.is_empty() || !plain(old) || !plain(new) {
        return Err(CommandError::usage(format!("the prefixes {old:?} and {new:?} cannot be used"))
            .hint("a prefix is made of letters, digits and underscores, and the old one is not empty"));
    }
    Ok(Some(PrefixChange { old: old.clone(), new: new.clone() }))
}

/// Returns the columns whose values begin with the prefix.
fn prefixed_columns(args: &ReaddressArgs, change: Option<&PrefixChange>) -> Result<Vec<Start>, CommandError> {
    let Some(PrefixChange { old, new }) = change else { return Ok(Vec::new()) };
    let columns = args.prefix_in.iter().map(|key| {
        let (table, column) = key.split_once('.').ok_or_else(|| {
            CommandError::usage(format!("{key:?} names no column")).hint("write it as TABLE.COLUMN")
        })?;
        let (table, column) = (table.to_string(), column.to_string());
        Ok(Start { table, column, old: old.clone(), new: new.clone(), names: Vec::new(), what: "prefix" })
    });
    columns.collect()
}

fn to_file(
    args: &ReaddressArgs,
    rules: &Rules<'_>,
    progress: &Progress,
) -> Result<(Rewritten, Ending), CommandError> {
    let output = absolute(&args.output);
    dump_files::writable(&output)?;
    // What is no plain file, such as /dev/null or a named pipe, is written into.
    if let Ok(meta) = output.metadata()
        && !meta.is_file()
        && !meta.is_dir()
    {
        let file = File::options().write(true).open(&output).at(&output)?;
        let (_, done, ending) = rewrite(args, rules, progress, |_| Ok(file))?;
        return Ok((done, ending));
    }
    if output.is_dir() || (output.exists() && !args.force) {
        let message = format!("{} is there already", output.display());
        let error = CommandError { exit: Exit::Refused, message, causes: Vec::new(), hints: Vec::new() };
        return Err(error.hint("name another file with -o, or overwrite it with --force"));
    }
    let folder = output.parent().unwrap_or(Path::new("."));
    let temp = tempfile::Builder::new()
        .prefix(&zporter_core::spool::prefix(folder))
        .tempfile_in(folder)
        .at(folder)?;
    let (file, temp) = temp.into_parts();
    let name = output.to_string_lossy().into_owned();
    let (out, done, ending) = rewrite(args, rules, progress, |order| {
        // A letter may be cut by a chunk's end, so UTF-16 is collected; and compression is kind to large writes.
        let capacity = if order.is_some() { 1 << 18 } else { 0 };
        Ok(DumpWriter::for_name(&name, BufWriter::with_capacity(capacity, file)).at(&output)?)
    })?;
    let file = out.finish().and_then(|b| b.into_inner().map_err(|e| e.into_error())).at(&output)?;
    file.sync_all().at(&output)?;
    let persisted = if args.force { temp.persist(&output) } else { temp.persist_noclobber(&output) };
    persisted.map_err(|e| e.error).at(&output)?;
    Ok((done, ending))
}

fn rewrite<W: Write + Send>(
    args: &ReaddressArgs,
    rules: &Rules<'_>,
    progress: &Progress,
    out: impl FnOnce(Option<Order>) -> Result<W, CommandError>,
) -> Result<(W, Rewritten, Ending), CommandError> {
    let (input, total): (Box<dyn Read + Send>, Option<u64>) = if args.input == Path::new("-") {
        (Box::new(stdin_unbuffered()?), None)
    } else {
        let file = File::open(&args.input).at(&args.input)?;
        let total = file.metadata().map(|m| m.len()).ok();
        (Box::new(file), total)
    };
    progress.event(Event::StepStarted { step: "rewriting", total });
    let reader = dump::open_text(Counted::new(input, progress)).at(&args.input)?;
    let order = reader.order();
    let out = TextWriter::new(out(order)?, order);
    let cores = || std::thread::available_parallelism().map_or(1, usize::from);
    let threads = args.threads.unwrap_or_else(cores);
    let source = Source::new(reader, WINDOW, args.dialect.map(Dialect::from));
    let rewritten = source.and_then(|source| rewrite_on(threads, source, rules, out));
    progress.event(Event::StepDone);
    let (out, done, ending) = rewritten?;
    let mut out = out.into_inner();
    out.flush().at(&args.output)?;
    Ok((out, done, ending))
}
