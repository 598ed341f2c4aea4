//! Reports of `restore` and `clone`: from where to where, what was edited, changed and left, and the way back.

use super::jobs::way_back;
use super::rewritten::{self, FileDiff};
use super::visit;
use crate::error::CommandError;
use crate::format::{bytes, count, number, safe};
use crate::render::Style;
use crate::report::{Block, Facts, Report};
use schemars::JsonSchema;
use serde::Serialize;
use std::borrow::Cow;
use zporter_core::job::Kind;
use zporter_core::job::run::Copied;
use zporter_core::job::run::moving::{Finished, LeftToDo};
use zporter_core::path_text::to_text;
use zporter_core::place::Address;
use zporter_core::restore::in_place::Over;
use zporter_core::restore::push::Grown;
use zporter_core::restore::refresh::Outlook;
use zporter_core::restore::restored::Restored;
use zporter_core::visit::Visited;

/// The result for programs.
#[derive(Debug, Serialize, JsonSchema)]
pub struct CopyResult<'a> {
    /// Name of the system.
    system: &'a str,
    /// Its version.
    version: Option<&'a str>,
    /// Old base address.
    from: String,
    /// New base address.
    to: String,
    /// What is replaced in texts.
    replacements: Vec<Replaced<'a>>,
    /// Edits of config and text files.
    edits: Vec<FileDiff<'a>>,
    /// Bytes that are written below the target and for the dump.
    needed_bytes: u64,
    /// What would become of the files of a copy that is brought up to date.
    #[serde(skip_serializing_if = "Option::is_none")]
    outlook: Option<&'a Outlook>,
    /// Tables that make room, of which a dump is kept.
    replaced_tables: Vec<&'a str>,
    /// Tables that grow at the live site and stay, of a copy that is pushed back.
    #[serde(skip_serializing_if = "<[_]>::is_empty")]
    stays: &'a [Grown],
    /// Tables in the database that are not this site's, and stay.
    other_tables: &'a [String],
    /// Other sites of the same database, which stay where they are.
    left_alone: &'a [Address],
    /// The site as a visitor sees it, where that was asked for.
    #[serde(skip_serializing_if = "Option::is_none")]
    visited: Option<&'a Visited>,
    /// What came of it.
    #[serde(flatten)]
    done: &'a Restored,
}

/// An old text and what stands in its place.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Replaced<'a> {
    old: &'a str,
    new: &'a str,
}

fn verdict(copied: &Copied, dry_run: bool) -> String {
    let Copied { kind, plan, done, .. } = copied;
    let verb = match (kind, dry_run, plan.job.options.refresh) {
        (Kind::Clone, true, _) if plan.job.options.push => "Would push",
        (Kind::Clone, false, _) if plan.job.options.push => "Pushed",
        (_, true, true) => "Would bring up to date",
        (_, false, true) => "Brought up to date",
        (Kind::Clone, true, _) => "Would clone",
        (Kind::Clone, false, _) => "Cloned",
        (Kind::Move, true, _) => "Would move, first act:",
        (Kind::Move, false, _) => "Moved, first act:",
        (_, true, _) => "Would restore",
        (_, false, _) => "Restored",
    };
    let from = &plan.job.options.source;
    let from = from.file_name().map_or(from.display().to_string(), |n| n.to_string_lossy().into_owned());
    let mut parts = Vec::new();
    let (files, size) = match (dry_run, &plan.outlook) {
        (true, Some(outlook)) => ((outlook.new.len() + outlook.replaced.len()) as u64, outlook.bytes),
        (true, None) => (0, plan.needed),
        (false, _) => (done.files, done.bytes),
    };
    if files > 0 {
        parts.push(count(files, "file"));
    }
    if !done.tally.tables.is_empty() {
        parts.push(count(done.tally.tables.len() as u64, "table"));
    }
    parts.push(bytes(size));
    format!("{verb} {from} → {}: {}", done.target.display(), parts.join(", "))
}

/// Tells what came of a copy, or would.
pub fn report(style: Style, copied: &Copied, dry_run: bool) -> Result<Report, CommandError> {
    let Copied { kind, plan, done, findings, run, visited } = copied;
    let replacements = plan.replacements();
    let result = CopyResult {
        system: &plan.product,
        version: plan.version.as_deref(),
        from: plan.relocation.from.address.to_string(),
        to: plan.relocation.to.address.to_string(),
        replacements: replacements.described().iter().map(|(old, new)| Replaced { old, new }).collect(),
        edits: rewritten::diffs(plan).collect(),
        needed_bytes: plan.needed,
        outlook: plan.outlook.as_ref(),
        replaced_tables: plan.tables.replaced.iter().map(String::as_str).collect(),
        stays: &plan.tables.grown,
        other_tables: &plan.tables.others,
        left_alone: &plan.stay,
        visited: visited.as_deref(),
        done,
    };
    let mut report = Report::new(kind.command(), verdict(copied, dry_run), &result)?;
    report.findings.clone_from(findings);
    way(&mut report, copied, dry_run);
    if let (Some(outlook), true) = (&plan.outlook, dry_run) {
        report.section("What becomes of the copy's files", outlook_facts(style, outlook));
    }
    let rows = replacements.described().iter().map(|(o, n)| vec![o.clone(), n.clone()]);
    let rows: Vec<_> = rows.collect();
    let replaced = Block::folded(&["old", "new"], 8, "replacement", rows);
    if dry_run {
        report.section("Replacements", replaced);
    } else {
        report.detail("Replacements", replaced);
    }
    rewritten::edits(&mut report, plan, dry_run);
    work(&mut report, done, dry_run);
    rewritten::declared(&mut report, &done.declared_values);
    rewritten::tally(&mut report, &done.tally);
    let from = &plan.relocation.from.address;
    rewritten::leftovers(&mut report, &done.leftovers, &|l| l.needs_attention(from));
    let rows = done.tidy.iter().map(|t| {
        let todo = if t.removed { "removed".into() } else { t.command.clone() };
        vec![t.what.path.clone(), t.what.about.clone(), todo]
    });
    let header = ["path", "what it is", "do"];
    report.section("Should not lie in a document root", Block::folded(&header, 12, "file", rows));
    if let Some(later) = &done.media_later {
        report.next.push(format!("the media come later with: {later}"));
    }
    if let Some(visited) = visited {
        visit::add_to(&mut report, visited);
    }
    if let Some(run) = run {
        way_back(&mut report, run, *kind);
        if done.exchanged.is_some() {
            let what = "what was there lies beside the site";
            report.next.push(format!("{what}; once nobody needs it: zporter undo --forget {run}"));
        }
    }
    Ok(report)
}

/// The result of the second act of a move, for programs.
#[derive(Debug, Serialize, JsonSchema)]
pub struct FinishResult<'a> {
    /// Folder of the old site.
    from: String,
    /// Folder of the new one.
    to: String,
    /// Its address.
    address: String,
    /// Seconds for which the site was closed.
    offline_seconds: f64,
    /// The run that closed the old site.
    closed_by: Option<&'a str>,
    /// Last archive of the old site.
    archive: Option<Cow<'a, str>>,
    /// The run that lets the old site send its visitors on.
    sends_on: Option<&'a str>,
    /// What is left to a person.
    left: &'a [LeftToDo],
    /// The site as a visitor sees it, where that was asked for.
    #[serde(skip_serializing_if = "Option::is_none")]
    visited: Option<&'a Visited>,
    /// What was carried.
    #[serde(flatten)]
    done: &'a Restored,
}

/// Tells how a move was finished.
pub fn finished(style: Style, done: &Finished, dry_run: bool) -> Result<Report, CommandError> {
    let options = &done.copied.plan.job.options;
    let result = FinishResult {
        from: options.source.display().to_string(),
        to: options.target.display().to_string(),
        address: done.copied.plan.relocation.to.address.to_string(),
        offline_seconds: done.offline,
        closed_by: done.closed_by.as_deref(),
        archive: done.archive.as_deref().map(to_text),
        sends_on: done.sends_on.as_deref(),
        left: &done.left,
        visited: done.copied.visited.as_deref(),
        done: &done.copied.done,
    };
    let verdict = match dry_run {
        true => format!("Would finish the move to {}", result.address),
        false => format!("Moved to {}: closed for {}", result.address, short(done.offline)),
    };
    let carried = report(style, &done.copied, dry_run)?;
    let mut out = Report::new("move", verdict, &result)?;
    out.findings = carried.findings;
    out.sections = carried.sections;
    let rows = done.left.iter().map(|l| vec![l.about.clone(), l.what.clone()]);
    out.section("Left for you", Block::table(&["about", "what"], rows));
    let mut facts = Facts::default();
    facts.maybe("archive", done.archive.as_ref().map(|a| a.display().to_string()));
    if let Some(run) = &done.closed_by {
        facts.add("old site", format!("stays closed; to open it: {}", crate::login::undo_command(run)));
    }
    if let Some(run) = &done.sends_on {
        facts
            .add("old site", format!("sends visitors on; to stop that: {}", crate::login::undo_command(run)));
    }
    out.section("The old site", facts.block());
    if let Some(run) = &done.copied.run {
        way_back(&mut out, run, Kind::Move);
    }
    Ok(out)
}

/// A short time for people.
fn short(seconds: f64) -> String {
    if seconds < 1.0 { format!("{:.0} ms", (seconds * 1000.0).max(1.0)) } else { format!("{seconds:.1} s") }
}

/// Names, or the first of them.
fn some<'n>(names: impl Iterator<Item = &'n str>, all: bool) -> String {
    let names: Vec<String> = names.map(safe).collect();
    let more = if all { 0 } else { names.len().saturating_sub(12) };
    let first = names[..names.len() - more].join(", ");
    if more > 0 { format!("{first} and {more} more") } else { first }
}

fn outlook_facts(style: Style, outlook: &Outlook) -> Block {
    let mut facts = Facts::default();
    let mut list = |name: &str, files: &[String], what: &str| {
        if !files.is_empty() {
            let names = some(files.iter().map(String::as_str), style.verbose);
            facts.add(name, format!("{}{what}: {names}", count(files.len() as u64, "file")));
        }
    };
    list("new", &outlook.new, "");
    list("replaced", &outlook.replaced, ", kept for an undo");
    let gone = match outlook.takes_away {
        true => " no longer at the source, removed and kept for an undo",
        false => " no longer at the source, left here; --delete-gone removes them",
    };
    list("gone", &outlook.gone, gone);
    facts.add("unchanged", count(outlook.unchanged, "file"));
    facts.add("own settings", format!("{} left as they are", count(outlook.own, "file")));
    facts.block()
}

/// From where to where.
fn way(report: &mut Report, copied: &Copied, dry_run: bool) {
    let plan = &copied.plan;
    let options = &plan.job.options;
    let mut facts = Facts::default();
    facts.add("system", format!("{} {}", plan.product, plan.version.as_deref().unwrap_or_default()));
    facts.add("from", format!("{}  (from {})", plan.relocation.from.address, plan.learned_from));
    facts.add("to", plan.relocation.to.address.to_string());
    facts.add("target", options.target.display().to_string());
    match (&options.dump_to, &plan.job.database) {
        (Some(path), _) => drop(facts.add("dump to", path.display().to_string())),
        (None, Some(access)) => drop(facts.add("database", access.url())),
        (None, None) => {}
    }
    match &plan.job.over {
        Some(Over::Beside(_)) => {
            facts.add("replaces", "the folder, as a whole and in one step; what is there is kept beside it");
        }
        Some(Over::EachFile) => {
            facts.add("replaces", "files one by one, each kept for an undo");
        }
        None => {}
    }
    if !plan.tables.beside.is_empty() && !plan.tables.replaced.is_empty() {
        let tables = count(plan.tables.replaced.len() as u64, "table");
        facts.add("replaces", format!("{tables}, in one step; what is there is kept beside them"));
    } else if !plan.tables.replaced.is_empty() {
        let names = some(plan.tables.replaced.iter().map(String::as_str), false);
        let tables = count(plan.tables.replaced.len() as u64, "table");
        facts.add("replaces", format!("{tables}, of which a dump is kept: {names}"));
    }
    if plan.tables.unchanged > 0 {
        facts.add(
            "unchanged",
            format!("{} at the source and here, not carried again", count(plan.tables.unchanged, "table")),
        );
    }
    if !plan.tables.row_by_row.is_empty() {
        let tables = count(plan.tables.row_by_row.len() as u64, "table");
        facts.add("compares", format!("{tables} row by row; rows that differ are changed, all others stay"));
    }
    if !plan.tables.grown.is_empty() {
        let tables = count(plan.tables.grown.len() as u64, "table");
        let newer =
            plan.tables.grown.iter().filter_map(|g| Some((g.newer?, &g.table))).filter(|(n, _)| *n > 0);
        let newer: Vec<String> = newer.map(|(n, table)| format!("{n} in {table}")).collect();
        let told = if newer.is_empty() {
            String::new()
        } else {
            format!("; newer than the copy: {}", newer.join(", "))
        };
        facts.add("stays", format!("{tables} that grow at the live site{told}; --rows TABLE=all pushes one"));
    }
    if !plan.tables.others.is_empty() {
        let names = some(plan.tables.others.iter().map(String::as_str), false);
        let tables = count(plan.tables.others.len() as u64, "table");
        facts.add("left alone", format!("{tables} of others in the database: {names}"));
    }
    let prefix = plan.prefix.as_ref().map(|change| format!("{} becomes {}", change.old, change.new));
    facts.maybe("table prefix", prefix);
    for (old, new) in plan.relocation.further.iter() {
        facts.add("also", format!("{old} becomes {new}"));
    }
    for other in &plan.stay {
        let what = "another site of the same database";
        facts.add("left alone", format!("{other}, {what}; --map {other} NEW moves it as well"));
    }
    facts.maybe("storage", plan.outside().map(|f| f.display().to_string()));
    if dry_run {
        facts.add("needs", format!("{} on the target's disk", bytes(plan.needed)));
    }
    report.section("From → to", facts.block());
}

/// What was done with files and rows, or would be.
fn work(report: &mut Report, done: &Restored, dry_run: bool) {
    let mut facts = Facts::default();
    if !dry_run {
        facts.add("files", format!("{}, {}", count(done.files, "file"), bytes(done.bytes)));
        let changed: u64 = done.row_by_row.values().sum();
        if changed > 0 {
            let tables = count(done.row_by_row.len() as u64, "table");
            facts.add("rows", format!("{} changed, taken away or made, in {tables}", number(changed)));
        }
        if let Some(r) = &done.refreshed {
            facts.add("unchanged", count(r.unchanged, "file"));
            facts.add("own settings", format!("{} left as they are", count(r.own, "file")));
            if r.gone > 0 {
                facts.add("gone", format!("{} no longer at the source, removed", count(r.gone, "file")));
            }
            if r.stay > 0 {
                let files = count(r.stay, "file");
                facts.add(
                    "gone",
                    format!("{files} no longer at the source, left here; --delete-gone removes them"),
                );
            }
        }
        for (why, n) in &done.not_unpacked {
            let such = if n.entries == 1 { "" } else { "such as " };
            facts.add(
                "not copied",
                format!("{}: {why} ({such}{})", count(n.entries, "entry"), safe(&n.first)),
            );
        }
        if done.taken_over > 0 {
            let files = count(done.taken_over, "file");
            facts.add("taken over", format!("{files} that the archive left out"));
        }
        if let Some(seconds) = done.exchanged {
            facts.add("exchanged", format!("in {}", short(seconds)));
        }
        facts.maybe("dump", done.dump.as_ref().map(|d| d.display().to_string()));
        if !done.loaded.is_empty() {
            let rows = count(done.loaded.values().sum(), "row");
            facts.add("loaded", format!("{} with {rows}", count(done.loaded.len() as u64, "table")));
        }
    }
    for (file, changes) in &done.config {
        let name = if dry_run { "would edit" } else { "edited" };
        facts.add(name, format!("{file} ({})", count(changes.len() as u64, "value")));
    }
    let changed = count(done.tally.changed(), "value");
    facts.add("rows", format!("{} gone through, {changed} changed", number(done.tally.rows())));
    let left_out: u64 = done.tally.tables.values().map(|t| t.rows_left_out).sum();
    if left_out > 0 {
        facts.add("left out", format!("{} of tables that the system rebuilds", count(left_out, "row")));
    }
    if done.definers > 0 {
        facts.add("definers", format!("{} removed from views, triggers and routines", number(done.definers)));
    }
    if done.renamed > 0 {
        facts.add("renamed", format!("{} by the new prefix", count(done.renamed, "table name")));
    }
    facts.maybe("storage", done.outside.as_ref().map(|f| f.display().to_string()));
    for setting in &done.settings {
        facts.add("set", setting);
    }
    facts.maybe("host", done.host_mapping.as_ref());
    report.section(if dry_run { "Would be done" } else { "Done" }, facts.block());
}
