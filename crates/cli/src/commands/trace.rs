//! `zporter trace`: what still points to an old place, in a dump, a folder or an archive.

use crate::error::CommandError;
use crate::exit::Exit;
use crate::format::{count, cut, number, safe};
use crate::progress::Progress;
use crate::ui::Ui;
use clap::Args;
use std::path::PathBuf;
use zporter_core::fsx::absolute;
use zporter_core::place::{Address, Root};
use zporter_core::trace::{POINTING, Sure, Tracer};

/// Find what still points to an old address or folder, in every nesting, and say how sure it is
#[derive(Debug, Args)]
pub struct TraceArgs {
    /// Dump, folder or archive to look through
    #[arg(value_name = "WHERE")]
    input: PathBuf,
    /// Old base address; may be given several times
    #[arg(long, value_name = "OLD")]
    address: Vec<String>,
    /// Old folder; may be given several times
    #[arg(long, value_name = "OLD")]
    root: Vec<String>,
    /// Places to list; all are counted
    #[arg(long, value_name = "N", default_value_t = 200)]
    most: usize,
}

/// Runs the command.
pub fn run(ui: &Ui, args: &TraceArgs) -> Result<Exit, CommandError> {
    let addresses = args.address.iter().map(|a| Address::parse(a)).collect::<Result<Vec<_>, _>>()?;
    let roots = args.root.iter().map(|r| Root::parse(r)).collect::<Result<Vec<_>, _>>()?;
    if addresses.is_empty() && roots.is_empty() {
        return Err(CommandError::usage("there is nothing to look for")
            .hint("name the old place with --address OLD, --root OLD or both"));
    }
    let mut tracer = Tracer::new(&addresses, &roots, args.most);
    tracer.path(&args.input, &Progress::new(ui))?;
    let traced = tracer.finish();
    let of = |sure: Sure| traced.counts.get(&sure).copied().unwrap_or(0);
    let pointing = of(Sure::Certain) + of(Sure::Likely);
    let exit = if pointing > 0 || !traced.unread.is_empty() { Exit::Findings } else { Exit::Done };
    if ui.json {
        ui.document(&traced)?;
        return Ok(exit);
    }
    let place = absolute(&args.input);
    if pointing == 0 {
        ui.good(&format!("Nothing in {} points to the old place", place.display()));
    } else {
        ui.heading(&format!("What in {} names the old place", place.display()));
    }
    for sure in [Sure::Certain, Sure::Likely, Sure::Unlikely] {
        let mut rows = Vec::new();
        for f in traced.found.iter().filter(|f| f.sure == sure && (sure != Sure::Unlikely || ui.verbose)) {
            let mut at = format!("{}:{}", f.file, f.line);
            if let Some(column) = &f.column {
                at = format!("line {}: {column}", f.line);
            }
            let row = f.row.as_deref().map(|r| cut(&safe(r), 28)).unwrap_or_default();
            let times =
                if f.count > 1 { format!(", {} times", number(f.count as u64)) } else { String::new() };
            // What points there needs no words but those of its nesting.
            let what = match (f.sure, f.what == POINTING) {
                (Sure::Certain, true) => f.nesting.clone(),
                _ if f.nesting == "text" => f.what.to_string(),
                _ => format!("{} ({})", f.what, f.nesting),
            };
            rows.push(vec![at, row, format!("{what}{times}"), cut(&safe(&f.excerpt), 48)]);
        }
        if !rows.is_empty() {
            let points = match (sure, of(sure)) {
                (Sure::Certain, 1) => " that points to the old place",
                (Sure::Certain, _) => " that point to the old place",
                _ => "",
            };
            ui.heading(&format!("{}: {}{points}", capital(sure.word()), count(of(sure), "place")));
            ui.table(&["where", "row", "what", "text"], rows);
        }
    }
    if traced.files.len() > 1 {
        let mut files: Vec<_> = traced.files.iter().collect();
        files.sort_by_key(|(name, n)| (std::cmp::Reverse(**n), *name));
        let shown = if ui.verbose { usize::MAX } else { 15 };
        let rows = files.iter().take(shown).map(|(name, n)| vec![safe(name), number(**n)]);
        ui.heading("By file");
        ui.table(&["file", ">places"], rows.collect());
        if files.len() > shown {
            ui.line(format!("  and {}; -v shows all", count((files.len() - shown) as u64, "further file")));
        }
    }
    let listed: u64 = traced.found.iter().map(|f| f.count as u64).sum();
    let all: u64 = traced.counts.values().sum();
    if listed < all {
        ui.line(format!("  and {} that are not listed; --most N lists more", count(all - listed, "place")));
    }
    if of(Sure::Unlikely) > 0 && !ui.verbose {
        ui.line(format!(
            "  {} that only looks alike or is an e-mail domain; -v lists them",
            count(of(Sure::Unlikely), "place")
        ));
    }
    for unread in &traced.unread {
        ui.note(&format!("not read: {}", safe(unread)));
    }
    Ok(exit)
}

fn capital(word: &str) -> String {
    let mut letters = word.chars();
    letters.next().map(|c| c.to_uppercase().chain(letters).collect()).unwrap_or_default()
}
