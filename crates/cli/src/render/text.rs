//! Text for people: the verdict first, then what needs attention and how to cure it, then the facts. On a terminal it keeps to its width;
//! in a pipe every line is whole. Colours only repeat what signs and words say.

use super::Style as How;
use crate::error::CommandError;
use crate::format::{bytes, count, safe, took};
use crate::report::{Block, Report, Table};
use anstyle::{AnsiColor, Style};
use comfy_table::{CellAlignment, ColumnConstraint, ContentArrangement, Width};
use std::io::{IsTerminal, Write};
use std::sync::{Mutex, PoisonError};
use std::time::Duration;
use textwrap::core::display_width;
use zporter_core::finding::Finding;

const HEADING: Style = Style::new().bold();
const DIM: Style = Style::new().dimmed();
const WARN: Style = AnsiColor::Yellow.on_default().bold();
const BAD: Style = AnsiColor::Red.on_default().bold();
const GOOD: Style = AnsiColor::Green.on_default().bold();
const CURE: Style = AnsiColor::Cyan.on_default();
const BAR: Style = AnsiColor::Blue.on_default();

/// Least width that is kept to; what is narrower breaks lines by itself.
const NARROWEST: usize = 60;
/// Widest that text is set: longer lines are hard to read.
const WIDEST: usize = 140;
/// Width of the names of facts.
const NAME: usize = 14;
/// Width of the widest bar.
const BAR_WIDTH: usize = 20;
/// Notes that are drawn before the rest is folded.
const NOTES: usize = 4;

/// The system's number of the error with which the output failed.
static FAILED: Mutex<Option<i32>> = Mutex::new(None);

/// Remembers that the output could not be written.
fn noted(written: std::io::Result<()>) {
    if let Err(e) = written {
        // Where the system tells no number, a broken pipe is meant.
        *FAILED.lock().unwrap_or_else(PoisonError::into_inner) = Some(e.raw_os_error().unwrap_or(32));
    }
}

/// Returns why the output could not be written, if it could not.
pub fn failed() -> Option<std::io::Error> {
    if crate::closed::output() {
        return Some(std::io::Error::other("standard output was closed when the program began"));
    }
    FAILED.lock().unwrap_or_else(PoisonError::into_inner).map(std::io::Error::from_raw_os_error)
}

/// Prints text as it is.
pub fn print(text: &str) {
    noted(std::io::stdout().write_all(text.as_bytes()));
}

/// Prints a line of the result.
pub fn line(text: impl AsRef<str>) {
    noted(writeln!(anstream::stdout(), "{}", text.as_ref()));
}

/// The width to keep to; none in a pipe.
fn width() -> Option<usize> {
    if !std::io::stdout().is_terminal() {
        return None;
    }
    let (terminal_size::Width(wide), _) = terminal_size::terminal_size()?;
    Some(usize::from(wide).clamp(NARROWEST, WIDEST))
}

/// Draws a report.
pub fn report(how: How, report: &Report, spent: Duration) {
    verdict(report, spent);
    if how.quiet {
        return;
    }
    findings(how, report);
    for section in report.sections.iter().filter(|s| how.verbose || !s.only_verbose) {
        if section.title.is_empty() {
            if !report.findings.is_empty() {
                line("");
            }
        } else {
            line(format!("\n{HEADING}{}{HEADING:#}", safe(&section.title)));
        }
        section.blocks.iter().for_each(|block| draw(how, block));
    }
    if report.dry_run {
        line(format!("\n{DIM}Nothing was changed. The same command without --dry-run does this.{DIM:#}"));
    }
    if !report.next.is_empty() {
        line("");
        for next in &report.next {
            wrapped("", &safe(next), Style::new());
        }
    }
    if let Some(run) = &report.run
        && !report.next.iter().any(|n| n.contains(run.as_str()))
    {
        line(format!("\n{DIM}run {run}{DIM:#}"));
    }
}

fn verdict(report: &Report, spent: Duration) {
    let look = report.findings.iter().filter(|f| f.needs_attention()).count() as u64;
    let notes = report.findings.len() as u64 - look;
    let (mark, style) = match report.exit() as u8 {
        0 => ("✓", GOOD),
        1 => ("!", WARN),
        _ => ("✗", BAD),
    };
    let mut text = safe(&report.verdict);
    if spent >= Duration::from_millis(100) {
        text += &format!(", in {}", took(spent));
    }
    let told = match (look, notes) {
        (0, 0) => String::new(),
        (0, n) => format!(" · {}", count(n, "note")),
        (1, 0) => " · 1 thing needs attention".into(),
        (n, 0) => format!(" · {} need attention", count(n, "thing")),
        (1, n) => format!(" · 1 thing needs attention, {}", count(n, "note")),
        (n, m) => format!(" · {} need attention, {}", count(n, "thing"), count(m, "note")),
    };
    let text = format!("{text}{told}");
    for (i, part) in lines(&text, 2).into_iter().enumerate() {
        let mark = if i == 0 { mark } else { " " };
        line(format!("{style}{mark} {part}{style:#}"));
    }
}

fn findings(how: How, report: &Report) {
    let (look, notes): (Vec<&Finding>, Vec<&Finding>) =
        report.findings.iter().partition(|f| f.needs_attention());
    let most = |n: usize| if how.verbose { usize::MAX } else { n };
    if !look.is_empty() {
        line(format!("\n{HEADING}Needs attention{HEADING:#}"));
    }
    for found in look.iter().take(most(report.unfolded)) {
        wrapped_mark(&format!("  {WARN}!{WARN:#} "), 4, &told(found), Style::new());
        if !found.cause.is_empty() {
            wrapped_mark("    ", 4, &safe(&found.cause), DIM);
        }
        if !found.cure.is_empty() {
            wrapped_mark(&format!("    {CURE}→{CURE:#} "), 6, &safe(&found.cure), CURE);
        }
    }
    rest(look.len(), most(report.unfolded), "thing");
    if !notes.is_empty() {
        line(format!("\n{HEADING}Good to know{HEADING:#}"));
    }
    for found in notes.iter().take(most(NOTES)) {
        wrapped_mark(&format!("  {DIM}·{DIM:#} "), 4, &told(found), DIM);
        if how.verbose && !found.cure.is_empty() {
            wrapped_mark("    → ", 6, &safe(&found.cure), DIM);
        }
    }
    rest(notes.len(), most(NOTES), "note");
}

fn told(found: &Finding) -> String {
    match found.place.as_str() {
        "" => safe(&found.what),
        place => format!("{}: {}", safe(place), safe(&found.what)),
    }
}

/// Says how much was folded.
fn rest(all: usize, shown: usize, unit: &str) {
    if all > shown {
        line(format!("    {DIM}and {}; -v shows all{DIM:#}", further(all - shown, unit)));
    }
}

fn further(n: usize, unit: &str) -> String {
    count(n as u64, &format!("further {unit}"))
}

/// Prints the title of a chapter.
pub fn title(text: &str) {
    line("");
    wrapped("", &safe(text), HEADING);
}

/// Prints a command as one would type it.
pub fn command(text: &str) {
    line("");
    wrapped_mark(&format!("  {CURE}${CURE:#} "), 4, &safe(text), CURE);
}

/// Lines of a section that a story shows.
const STORY: usize = 9;

/// Draws the heart of a report: what came of it, the first things that need attention, and the beginning of some sections.
pub fn heart(report: &Report, spent: Duration, sections: &[&str]) {
    verdict(report, spent);
    for found in report.findings.iter().filter(|f| f.needs_attention()).take(2) {
        wrapped_mark(&format!("  {WARN}!{WARN:#} "), 4, &told(found), Style::new());
    }
    for section in report.sections.iter().filter(|s| sections.contains(&s.title.as_str())) {
        if !section.title.is_empty() {
            line(format!("  {DIM}{}{DIM:#}", safe(&section.title)));
        }
        for block in &section.blocks {
            match block {
                Block::Diff(text) => {
                    text.lines().filter(|l| l.starts_with(['+', '-', '@'])).take(STORY).for_each(diff_line)
                }
                Block::Table(rows) => {
                    let rows = rows.rows.iter().take(STORY / 2).cloned().collect();
                    table(How::default(), &Table { header: header_of(block), rows, ..Table::default() });
                }
                Block::Facts(facts) => {
                    draw(How::default(), &Block::Facts(facts.iter().take(STORY).cloned().collect()))
                }
                Block::Lines(_) | Block::Pictures(_) => draw(How::default(), block),
            }
        }
    }
}

fn header_of(block: &Block) -> Vec<&'static str> {
    match block {
        Block::Table(table) => table.header.clone(),
        _ => Vec::new(),
    }
}

/// Draws a block.
pub fn draw(how: How, block: &Block) {
    match block {
        Block::Facts(facts) => {
            for (name, value) in facts {
                wrapped_mark(&format!("  {DIM}{name:<NAME$}{DIM:#} "), NAME + 3, &safe(value), Style::new());
            }
        }
        Block::Table(rows) => table(how, rows),
        Block::Diff(text) => text.lines().for_each(diff_line),
        Block::Lines(all) => all.iter().for_each(|text| wrapped("  ", &safe(text), Style::new())),
        Block::Pictures(all) => {
            for (about, path) in all {
                wrapped_mark(
                    &format!("  {DIM}{about:<NAME$}{DIM:#} "),
                    NAME + 3,
                    &safe(&path.display().to_string()),
                    Style::new(),
                );
            }
        }
    }
}

fn diff_line(text: &str) {
    let style = match text.as_bytes().first() {
        Some(b'+') => AnsiColor::Green.on_default(),
        Some(b'-') => AnsiColor::Red.on_default(),
        _ => Style::new(),
    };
    line(format!("  {style}{}{style:#}", safe(&text.replace('\t', "    "))));
}

/// Cuts text into lines for the terminal at hand; the first and all others leave so much room before them.
fn lines(text: &str, before: usize) -> Vec<String> {
    match width() {
        Some(wide) if display_width(text) + before > wide => {
            let options = textwrap::Options::new(wide.saturating_sub(before)).break_words(true);
            textwrap::wrap(text, options).into_iter().map(|l| l.into_owned()).collect()
        }
        _ => vec![text.to_string()],
    }
}

/// Prints text behind a mark; further lines begin where the first did.
fn wrapped_mark(mark: &str, before: usize, text: &str, style: Style) {
    for (i, part) in lines(text, before).into_iter().enumerate() {
        let mark = if i == 0 { mark.to_string() } else { " ".repeat(before) };
        line(format!("{mark}{style}{part}{style:#}"));
    }
}

fn wrapped(indent: &str, text: &str, style: Style) {
    wrapped_mark(indent, indent.len(), text, style);
}

/// Width of the widest bar on this terminal.
fn widest_bar() -> usize {
    match width() {
        Some(wide) if wide < 80 => BAR_WIDTH / 4,
        Some(wide) if wide < 110 => BAR_WIDTH / 2,
        _ => BAR_WIDTH,
    }
}

/// Draws a table: numbers to the right, sizes with a bar of their share of the largest.
fn table(how: How, of: &Table) {
    let folded = of.shown > 0 && !how.verbose && of.rows.len() > of.shown;
    let shown = if folded { of.shown } else { of.rows.len() };
    let sizes = |column: usize| of.rows.iter().filter_map(move |r| r.get(column)?.parse::<u64>().ok());
    let mut out = comfy_table::Table::new();
    out.load_style(comfy_table::presets::NOTHING);
    match width() {
        Some(wide) => {
            out.set_content_arrangement(ContentArrangement::Dynamic).set_width(wide as u16 - 2);
        }
        None => {
            out.set_content_arrangement(ContentArrangement::Disabled);
        }
    }
    let mut header = Vec::new();
    for name in &of.header {
        match name.strip_prefix('#') {
            Some(name) => header.extend([name.to_string(), String::new()]),
            None => header.push(name.trim_start_matches(['>', '~']).to_string()),
        }
    }
    out.set_header(header);
    for row in of.rows.iter().take(shown) {
        let mut cells = Vec::new();
        for (i, cell) in row.iter().enumerate() {
            if !of.header.get(i).is_some_and(|h| h.starts_with('#')) {
                cells.push(safe(cell));
                continue;
            }
            let size: u64 = cell.parse().unwrap_or_default();
            let most = sizes(i).max().unwrap_or(1).max(1);
            cells.extend([bytes(size), bar(size, most, widest_bar())]);
        }
        out.add_row(cells);
    }
    let mut at = 0;
    for name in &of.header {
        let right = name.starts_with(['>', '#', '~']);
        if let (true, Some(column)) = (right, out.column_mut(at)) {
            column.set_cell_alignment(CellAlignment::Right);
        }
        // A bar in two lines says nothing.
        if let (true, Some(_), Some(column)) = (name.starts_with('#'), width(), out.column_mut(at + 1)) {
            column.set_constraint(ColumnConstraint::LowerBoundary(Width::Fixed(widest_bar() as u16 + 2)));
        }
        at += if name.starts_with('#') { 2 } else { 1 };
    }
    // Names in the first column stay in one piece, where that leaves room for the others.
    let words = of.rows.iter().take(shown).flat_map(|row| row.first()).flat_map(|cell| cell.split(' '));
    let longest = words.map(display_width).max().unwrap_or_default();
    if let (Some(wide), Some(column)) = (width(), out.column_mut(0))
        && longest <= wide / 3
    {
        column.set_constraint(ColumnConstraint::LowerBoundary(Width::Fixed(longest as u16 + 2)));
    }
    for (i, text) in out.to_string().lines().enumerate() {
        let text = text.trim_end();
        line(if i == 0 { format!(" {DIM}{text}{DIM:#}") } else { format!(" {}", coloured(text)) });
    }
    if folded {
        line(format!("    {DIM}and {}; -v shows all{DIM:#}", further(of.rows.len() - shown, of.unit)));
    }
}

/// Colours the bars of a line.
fn coloured(text: &str) -> String {
    let is_bar = |c: char| ('\u{2588}'..='\u{258f}').contains(&c);
    match (text.find(is_bar), text.rfind(is_bar)) {
        (Some(from), Some(to)) => {
            let end = to + text[to..].chars().next().map_or(0, char::len_utf8);
            format!("{}{BAR}{}{BAR:#}{}", &text[..from], &text[from..end], &text[end..])
        }
        _ => text.to_string(),
    }
}

/// Draws a bar for a share of the largest, in eighths of a letter; what is not nothing is seen.
fn bar(size: u64, most: u64, width: usize) -> String {
    let eighths = (size as f64 / most as f64 * width as f64 * 8.0).round() as usize;
    let eighths = if size > 0 { eighths.max(1) } else { eighths };
    let mut out = "█".repeat(eighths / 8);
    if !eighths.is_multiple_of(8) {
        out.extend(char::from_u32(0x2590 - (eighths % 8) as u32));
    }
    out
}

/// Prints a note beside the result.
pub fn note(how: How, text: &str) {
    if !how.quiet && !how.json {
        let _ = writeln!(anstream::stderr(), "{DIM}{}{DIM:#}", safe(text));
    }
}

/// Prints a finding beside the result.
pub fn warning(found: &Finding) {
    let _ = writeln!(anstream::stderr(), "{WARN}warning:{WARN:#} {}", told(found));
}

/// Prints what needs attention beside a result that went into a pipe.
pub fn warnings(findings: &[Finding]) {
    const SHOWN: usize = 20;
    let look: Vec<&Finding> = findings.iter().filter(|f| f.needs_attention()).collect();
    look.iter().take(SHOWN).for_each(|found| warning(found));
    if look.len() > SHOWN {
        let _ = writeln!(anstream::stderr(), "{WARN}warning:{WARN:#} {} more", look.len() - SHOWN);
    }
}

/// Says which word is meant.
pub fn meant(word: &str) {
    let _ = writeln!(anstream::stderr(), "\n  {CURE}next:{CURE:#} {word} is meant, perhaps");
}

/// Prints an error with causes and hints.
pub fn error(error: &CommandError) {
    let mut out = anstream::stderr();
    let word = if error.stopped.is_some() { "stopped" } else { "error" };
    let _ = writeln!(out, "{BAD}{word}:{BAD:#} {}", safe(&error.message));
    for cause in &error.causes {
        let _ = writeln!(out, "  {DIM}because:{DIM:#} {}", safe(cause));
    }
    for hint in &error.hints {
        let _ = writeln!(out, "  {CURE}next:{CURE:#} {}", safe(hint));
    }
}
