//! `zporter trace`: what still points to an old place, in a dump, a folder or an archive.

use crate::error::CommandError;
use crate::exit::Exit;
use crate::format::{count, cut, number, safe};
use crate::progress::Progress;
use crate::render::Style;
use crate::report::{Block, Report};
use clap::Args;
use std::path::PathBuf;
use zporter_core::finding::{Code, Finding, first_of};
use zporter_core::fsx::absolute;
use zporter_core::place::{Address, Root};
use zporter_core::trace::{POINTING, Sure, Traced, Tracer};

/// Find what still points to an old address or folder, in every nesting, and say how sure it is
#[derive(Debug, Args)]
pub struct TraceArgs {
    /// Dump, folder or archive to look through
    #[arg(value_name = "WHERE")]
    input: PathBuf,
    /// Old base address; may be given several times
    #[arg(long, value_name = "URL")]
    old_address: Vec<String>,
    /// Old folder; may be given several times
    #[arg(long, value_name = "PATH")]
    old_root: Vec<String>,
    /// Places to list; all are counted
    #[arg(long, value_name = "N", default_value_t = 200)]
    most: usize,
}

/// Runs the command.
pub fn run(style: Style, args: &TraceArgs) -> Result<Report, CommandError> {
    let addresses = args.old_address.iter().map(|a| Address::parse(a)).collect::<Result<Vec<_>, _>>()?;
    let roots = args.old_root.iter().map(|r| Root::parse(r)).collect::<Result<Vec<_>, _>>()?;
    if addresses.is_empty() && roots.is_empty() {
        return Err(CommandError::usage("there is nothing to look for")
            .hint("name the old place with --old-address URL, --old-root PATH or both"));
    }
    let mut tracer = Tracer::new(&addresses, &roots, args.most);
    tracer.path(&args.input, &Progress::new(style))?;
    let traced = tracer.finish();
    let of = |sure: Sure| traced.counts.get(&sure).copied().unwrap_or(0);
    let pointing = of(Sure::Certain) + of(Sure::Likely);
    let place = absolute(&args.input);
    let verdict = match pointing {
        0 => format!("Nothing in {} points to the old place", place.display()),
        n => format!("{} in {} name the old place", count(n, "place"), place.display()),
    };
    let mut report = Report::new("trace", verdict, &traced)?;
    if pointing > 0 {
        report.exit = Some(Exit::Findings);
    }
    for unread in &traced.unread {
        let cure = "check its permissions and try again";
        report.findings.push(Finding::new(Code::FileUnreadable, "was not read", unread, cure));
    }
    report.findings.extend(sealed(&traced.sealed));
    for sure in [Sure::Certain, Sure::Likely, Sure::Unlikely] {
        places(&mut report, &traced, sure, of(sure));
    }
    let mut files: Vec<_> = traced.files.iter().collect();
    files.sort_by_key(|(name, n)| (std::cmp::Reverse(**n), *name));
    if files.len() > 1 {
        let rows = files.iter().map(|(name, n)| vec![safe(name), number(**n)]);
        report.section("By file", Block::folded(&["file", ">places"], 15, "file", rows));
    }
    let listed: u64 = traced.found.iter().map(|f| f.count as u64).sum();
    let all: u64 = traced.counts.values().sum();
    if listed < all {
        report.next.push(format!("{} are not listed; --most N lists more", count(all - listed, "place")));
    }
    if of(Sure::Unlikely) > 0 && !style.verbose {
        let places = count(of(Sure::Unlikely), "place");
        report.next.push(format!(
            "not listed: {places} with a name that only looks alike, or of e-mail; -v lists all"
        ));
    }
    Ok(report)
}

/// One finding of all files that are compressed or encrypted. Documents and downloads are, as a rule; a dump is what was looked for.
fn sealed(files: &[String]) -> Option<Finding> {
    const NAMED: usize = 5;
    let is_dump = |name: &String| {
        let name = name.to_ascii_lowercase();
        name.contains(".sql.") || name.contains(".dump.")
    };
    let what = match files.len() {
        0 => return None,
        1 => "compressed in a way that is not read here: not looked into".to_string(),
        n => format!("{n} files are compressed in a way that is not read here: not looked into"),
    };
    let place = first_of(files, NAMED);
    let finding = Finding::new(Code::FileUnreadable, what, place, "unpack what matters and trace that");
    Some(if files.iter().any(is_dump) { finding } else { finding.as_note() })
}

fn places(report: &mut Report, traced: &Traced, sure: Sure, all: u64) {
    let rows = traced.found.iter().filter(|f| f.sure == sure).map(|f| {
        let at = match &f.column {
            Some(column) => format!("line {}: {column}", f.line),
            None => format!("{}:{}", f.file, f.line),
        };
        let row = f.row.as_deref().map(|r| cut(&safe(r), 28)).unwrap_or_default();
        let times = if f.count > 1 { format!(", {} times", number(f.count as u64)) } else { String::new() };
        // What points there needs no words but those of its nesting.
        let what = match (f.sure, f.what == POINTING) {
            (Sure::Certain, true) => f.nesting.clone(),
            _ if f.nesting == "text" => f.what.to_string(),
            _ => format!("{} ({})", f.what, f.nesting),
        };
        vec![at, row, format!("{what}{times}"), cut(&safe(&f.excerpt), 48)]
    });
    let points = match (sure, all) {
        (Sure::Certain, 1) => " that points to the old place",
        (Sure::Certain, _) => " that point to the old place",
        _ => "",
    };
    let title = format!("{}: {}{points}", capital(sure.word()), count(all, "place"));
    let block = Block::folded(&["where", "row", "what", "text"], 40, "place", rows);
    match sure {
        Sure::Unlikely => report.detail(title, block),
        _ => report.section(title, block),
    }
}

fn capital(word: &str) -> String {
    let mut letters = word.chars();
    letters.next().map(|c| c.to_uppercase().chain(letters).collect()).unwrap_or_default()
}
