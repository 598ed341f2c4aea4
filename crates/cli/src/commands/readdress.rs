//! `zporter readdress`: rewrites a dump alone, from file to file or through a pipe.

use super::report;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::format::{bytes, count, number};
use crate::progress::Progress;
use crate::ui::Ui;
use clap::Args;
use serde::Serialize;
use std::fs::File;
use std::io::{BufWriter, Read, Write};
use std::os::fd::AsFd;
use std::path::{Path, PathBuf};
use zporter_core::dump::rewrite::{Rewriter, Rules};
use zporter_core::dump::stream::{CutOff, Ending, WINDOW, run as run_dump};
use zporter_core::dump::tally::Tally;
use zporter_core::dump::{self, DumpWriter};
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
    /// Old and new base address; may be given several times
    #[arg(long, num_args = 2, value_names = ["OLD", "NEW"])]
    address: Vec<String>,
    /// Old and new folder; may be given several times
    #[arg(long, num_args = 2, value_names = ["OLD", "NEW"])]
    root: Vec<String>,
    /// Write the tally as JSON
    #[arg(long, value_name = "FILE")]
    report: Option<PathBuf>,
    /// Samples to keep per column
    #[arg(long, value_name = "N", default_value_t = 2)]
    samples: usize,
}

#[derive(Debug, Serialize)]
struct Readdressed {
    output: PathBuf,
    bytes: u64,
    statements: u64,
    changed: u64,
    tally: Tally,
    #[serde(skip_serializing_if = "Option::is_none")]
    cut_off: Option<CutOff>,
}

/// Runs the command.
pub fn run(ui: &Ui, args: &ReaddressArgs) -> Result<Exit, CommandError> {
    let needles = Needles::new(&pairs(args)?, &[]);
    if needles.described().is_empty() {
        return Err(CommandError::usage("there is nothing to rewrite")
            .hint("name at least one --address OLD NEW or --root OLD NEW whose two sides differ"));
    }
    let rules = Rules {
        needles: &needles,
        relocation: None,
        cells: Vec::new(),
        leave_rows: &|_| false,
        strip_definers: false,
        samples: args.samples,
    };
    let progress = Progress::new(ui);
    let to_pipe = args.output == Path::new("-");
    let (tally, ending) = if to_pipe {
        rewrite(args, &rules, &progress, BufWriter::with_capacity(1 << 18, stdout_unbuffered()?))
            .map(|(_, t, e)| (t, e))?
    } else {
        to_file(args, &rules, &progress)?
    };
    let output = if to_pipe { args.output.clone() } else { absolute(&args.output) };
    let done = Readdressed {
        output,
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
        ui.fact("read", format!("{} in {}", bytes(done.bytes), count(done.statements, "statement")));
        ui.fact("changed", count(done.changed, "value"));
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

fn to_file(
    args: &ReaddressArgs,
    rules: &Rules<'_>,
    progress: &Progress,
) -> Result<(Tally, Ending), CommandError> {
    let output = absolute(&args.output);
    if output.exists() {
        let message = format!("{} is there already", output.display());
        let error = CommandError { exit: Exit::Refused, message, causes: Vec::new(), hints: Vec::new() };
        return Err(error.hint("name another file with -o"));
    }
    let folder = output.parent().unwrap_or(Path::new("."));
    let temp = tempfile::Builder::new().prefix(".zporter-").tempfile_in(folder).at(folder)?;
    let (file, temp) = temp.into_parts();
    let name = output.to_string_lossy().into_owned();
    let out = DumpWriter::for_name(&name, BufWriter::with_capacity(1 << 18, file)).at(&output)?;
    let (out, tally, ending) = rewrite(args, rules, progress, out)?;
    let file = out.finish().and_then(|b| b.into_inner().map_err(|e| e.into_error())).at(&output)?;
    file.sync_all().at(&output)?;
    temp.persist_noclobber(&output).map_err(|e| e.error).at(&output)?;
    Ok((tally, ending))
}

fn rewrite<W: Write>(
    args: &ReaddressArgs,
    rules: &Rules<'_>,
    progress: &Progress,
    out: W,
) -> Result<(W, Tally, Ending), CommandError> {
    let (source, total): (Box<dyn Read>, Option<u64>) = if args.input == Path::new("-") {
        (Box::new(std::io::stdin().lock()), None)
    } else {
        let file = File::open(&args.input).at(&args.input)?;
        let total = file.metadata().map(|m| m.len()).ok();
        (Box::new(file), total)
    };
    progress.event(Event::StepStarted { step: "rewriting", total });
    let reader = dump::open(Counted::new(source, progress)).at(&args.input)?;
    let mut rewriter = Rewriter::new(rules, out);
    let ending = run_dump(reader, WINDOW, &mut rewriter);
    progress.event(Event::StepDone);
    let ending = ending?;
    let (mut out, done) = rewriter.finish();
    out.flush().at(&args.output)?;
    Ok((out, done.tally, ending))
}
