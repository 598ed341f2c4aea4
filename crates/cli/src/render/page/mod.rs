//! The report as one page: a file of its own that opens without a network, prints, and is light or dark as its reader likes. It is what one
//! hands on: verdict first, findings by weight, every edit, where time and room went, pictures.

mod plots;

use crate::context;
use crate::error::CommandError;
use crate::format::{bytes, count, number, safe, took};
use crate::progress;
use crate::report::{Block, Report, Table};
use minijinja::value::Serde;
use minijinja::{AutoEscape, Environment};
use serde::Serialize;
use std::path::Path;
use std::time::Duration;
use zporter_core::finding::Finding;

const TEMPLATE: &str = include_str!("page.html");
/// Rows of a table that a page shows.
const ROWS: usize = 500;
/// Lines of a diff that a page shows.
const LINES: usize = 600;
/// Largest picture that goes into a page.
const LARGEST_PICTURE: u64 = 4 << 20;

/// A finding, as the page shows it.
#[derive(Serialize)]
struct Told {
    code: String,
    what: String,
    place: String,
    cause: String,
    cure: String,
}

/// A piece of a section.
#[derive(Serialize)]
#[serde(tag = "kind", rename_all = "kebab-case")]
enum Piece {
    Facts { facts: Vec<(String, String)> },
    Table { header: Vec<Head>, rows: Vec<Vec<String>>, more: u64 },
    Diff { lines: Vec<Line>, more: u64 },
    Lines { lines: Vec<String> },
    Plot { svg: String, about: String },
    Pictures { pictures: Vec<Shown> },
}

#[derive(Serialize)]
struct Head {
    name: String,
    right: bool,
}

#[derive(Serialize)]
struct Line {
    sign: &'static str,
    text: String,
}

#[derive(Serialize)]
struct Shown {
    about: String,
    data: String,
}

#[derive(Serialize)]
struct Section {
    title: String,
    folded: bool,
    /// Of a folded one, whether it begins open.
    open: bool,
    pieces: Vec<Piece>,
}

/// All that the page tells.
#[derive(Serialize)]
struct Document {
    command: &'static str,
    dry_run: bool,
    verdict: String,
    state: &'static str,
    word: String,
    run: Option<String>,
    made: String,
    took: String,
    version: &'static str,
    look: Vec<Told>,
    notes: Vec<Told>,
    sections: Vec<Section>,
    next: Vec<String>,
}

/// Draws a report as a page.
pub fn page(report: &Report, spent: Duration) -> Result<String, CommandError> {
    let (look, notes): (Vec<&Finding>, Vec<&Finding>) =
        report.findings.iter().partition(|f| f.needs_attention());
    let mut sections: Vec<Section> = Vec::new();
    for section in &report.sections {
        let pieces: Vec<Piece> = section.blocks.iter().flat_map(pieces).collect();
        // Every edit is shown, also on paper.
        let open = pieces.iter().any(|p| matches!(p, Piece::Diff { .. }));
        sections.push(Section { title: safe(&section.title), folded: section.only_verbose, open, pieces });
    }
    let steps: Vec<(String, f64)> =
        progress::times().into_iter().map(|(step, spent)| (step, spent.as_secs_f64() * 1000.0)).collect();
    if steps.len() > 1 {
        let about = "Where the time went, step by step.".to_string();
        let pieces = vec![Piece::Plot {
            svg: plots::bars(&steps, &|ms| took(Duration::from_secs_f64(ms / 1000.0)))?,
            about,
        }];
        sections.push(Section { title: "Times".into(), folded: false, open: true, pieces });
    }
    let state = match report.exit() as u8 {
        0 => "good",
        1 => "look",
        _ => "bad",
    };
    let word = match (state, look.len() as u64) {
        ("good", _) => "all is well".to_string(),
        ("look", 1) => "1 thing needs attention".to_string(),
        ("look", n) => format!("{} need attention", count(n, "thing")),
        _ => "not as it should be".to_string(),
    };
    let mut environment = Environment::new();
    environment.set_auto_escape_callback(|_| AutoEscape::Html);
    let broken = |e: minijinja::Error| CommandError::world("the page cannot be made", e);
    environment.add_template("page", TEMPLATE).map_err(broken)?;
    let template = environment.get_template("page").map_err(broken)?;
    let document = Document {
        command: report.command,
        dry_run: report.dry_run,
        verdict: safe(&report.verdict),
        state,
        word,
        run: report.run.clone(),
        made: context::local(&context::now()),
        took: took(spent),
        version: env!("CARGO_PKG_VERSION"),
        look: look.into_iter().map(told).collect(),
        notes: notes.into_iter().map(told).collect(),
        sections,
        next: report.next.iter().map(|n| safe(n)).collect(),
    };
    template.render(Serde(document)).map_err(broken)
}

fn told(finding: &Finding) -> Told {
    let code = serde_json::to_value(finding.code)
        .ok()
        .and_then(|v| v.as_str().map(str::to_string))
        .unwrap_or_default();
    Told {
        code,
        what: safe(&finding.what),
        place: safe(&finding.place),
        cause: safe(&finding.cause),
        cure: safe(&finding.cure),
    }
}

fn pieces(block: &Block) -> Vec<Piece> {
    match block {
        Block::Facts(facts) => {
            vec![Piece::Facts { facts: facts.iter().map(|(n, v)| (n.clone(), safe(v))).collect() }]
        }
        Block::Lines(lines) => vec![Piece::Lines { lines: lines.iter().map(|l| safe(l)).collect() }],
        Block::Diff(text) => {
            let all = text.lines().count();
            let lines = text.lines().take(LINES).map(|line| {
                let sign = match line.as_bytes().first() {
                    _ if line.starts_with("--- ") || line.starts_with("+++ ") => "at",
                    Some(b'+') => "plus",
                    Some(b'-') => "minus",
                    Some(b'@') => "at",
                    _ => "same",
                };
                Line { sign, text: safe(&line.replace('\t', "    ")) }
            });
            vec![Piece::Diff { lines: lines.collect(), more: all.saturating_sub(LINES) as u64 }]
        }
        Block::Table(table) => tabled(table),
        Block::Pictures(pictures) => {
            let shown: Vec<Shown> = pictures.iter().filter_map(|(about, path)| shown(about, path)).collect();
            vec![Piece::Pictures { pictures: shown }]
        }
    }
}

/// A table, before it a plot where it holds sizes or times.
fn tabled(table: &Table) -> Vec<Piece> {
    let mut out = Vec::new();
    let column = |mark: char| table.header.iter().position(|h| h.starts_with(mark));
    let valued = |at: usize| -> Vec<(String, f64)> {
        let name = table.header.iter().position(|h| !h.starts_with(['>', '#', '~'])).unwrap_or(0);
        let all = table.rows.iter();
        all.filter_map(|r| Some((safe(r.get(name)?), r.get(at)?.parse::<f64>().ok().filter(|v| *v > 0.0)?)))
            .collect()
    };
    if let Some(at) = column('#') {
        let sizes = valued(at);
        if sizes.len() > 1
            && let Ok(svg) = plots::tree_map(&sizes, &|n| bytes(n as u64))
        {
            out.push(Piece::Plot { svg, about: String::new() });
        }
    }
    if let Some(at) = column('~') {
        let mut times = valued(at);
        times.sort_by(|a, b| b.1.total_cmp(&a.1));
        times.truncate(15);
        if times.len() > 1
            && let Ok(svg) = plots::bars(&times, &|ms| format!("{ms:.0} ms"))
        {
            out.push(Piece::Plot { svg, about: String::new() });
        }
    }
    let header = table.header.iter().map(|h| Head {
        name: h.trim_start_matches(['>', '#', '~']).to_string(),
        right: h.starts_with(['>', '#', '~']),
    });
    let rows = table.rows.iter().take(ROWS).map(|row| {
        let cells = row.iter().enumerate().map(|(i, cell)| {
            match (table.header.get(i).and_then(|h| h.chars().next()), cell.parse::<u64>()) {
                (Some('#'), Ok(n)) => bytes(n),
                (Some('~' | '>'), Ok(n)) => number(n),
                _ => safe(cell),
            }
        });
        cells.collect()
    });
    let more = table.rows.len().saturating_sub(ROWS) as u64;
    out.push(Piece::Table { header: header.collect(), rows: rows.collect(), more });
    out
}

/// A picture as part of the page.
fn shown(about: &str, path: &Path) -> Option<Shown> {
    let small = std::fs::metadata(path).is_ok_and(|m| m.len() <= LARGEST_PICTURE);
    let data = small.then(|| std::fs::read(path).ok())??;
    Some(Shown { about: safe(about), data: data_encoding::BASE64.encode(&data) })
}
