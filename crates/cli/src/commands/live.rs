//! Reports of `settle` and `switch`: what of a site was changed where it lies, or would be; and how its switches are.

use super::jobs::way_back;
use super::rewritten::{self, FileDiff};
use super::visit;
use crate::error::CommandError;
use crate::format::{count, number};
use crate::report::{Block, Facts, Report};
use schemars::JsonSchema;
use serde::Serialize;
use zporter_core::job::Kind;
use zporter_core::job::run::{LiveRun, SwitchState};
use zporter_core::restore::live::Changed;
use zporter_core::visit::Visited;

/// The result for programs.
#[derive(Debug, Serialize, JsonSchema)]
pub struct LiveResult<'a> {
    /// Name of the system.
    system: &'a str,
    /// Its version.
    version: Option<&'a str>,
    /// Address that the site had.
    from: String,
    /// Address that it has.
    to: String,
    /// Edits of config and text files.
    edits: Vec<FileDiff<'a>>,
    /// The site as a visitor sees it, where that was asked for.
    #[serde(skip_serializing_if = "Option::is_none")]
    visited: Option<&'a Visited>,
    /// What was changed.
    #[serde(flatten)]
    changed: &'a Changed,
}

fn verdict(done: &LiveRun, dry_run: bool) -> String {
    let site = done.plan.job.options.target.display();
    let rows: u64 = done.changed.rows.values().sum();
    let files = done.changed.as_copy.config.len() as u64 + done.plan.settings.files.len() as u64;
    let caches = done.changed.cache_files + done.changed.cache_tables.len() as u64;
    if done.run.is_none() && (!dry_run || files + rows + caches == 0) {
        return format!("Settled: {site} is right where it lies");
    }
    let verb = match (done.kind, dry_run) {
        (Kind::Settle, true) => "Would settle",
        (Kind::Settle, false) => "Settled",
        (_, true) => "Would switch",
        (_, false) => "Switched",
    };
    format!("{verb} {site}: {}, {}", count(files, "file"), count(rows, "row"))
}

/// Tells what was changed, or would be.
pub fn report(done: &LiveRun, dry_run: bool) -> Result<Report, CommandError> {
    let LiveRun { kind, plan, changed, findings, run, visited } = done;
    let result = LiveResult {
        system: &plan.product,
        version: plan.version.as_deref(),
        from: plan.relocation.from.address.to_string(),
        to: plan.relocation.to.address.to_string(),
        edits: rewritten::diffs(plan).collect(),
        visited: visited.as_deref(),
        changed,
    };
    let mut report = Report::new(kind.command(), verdict(done, dry_run), &result)?;
    report.findings.clone_from(findings);
    let mut facts = Facts::default();
    facts.add("system", format!("{} {}", plan.product, plan.version.as_deref().unwrap_or_default()));
    if *kind == Kind::Settle {
        facts.add("address", way(&result.from, &result.to));
        let (from, to) = (plan.relocation.from.root.to_string(), plan.relocation.to.root.to_string());
        let believed = plan.relocation.other_roots.iter().map(ToString::to_string).find(|r| *r != to);
        facts.add("folder", way(&believed.unwrap_or(from), &to));
    }
    for setting in &changed.as_copy.settings {
        facts.add("set", setting.clone());
    }
    if changed.cache_files > 0 {
        facts.add("caches", format!("{} taken away", count(changed.cache_files, "file")));
    }
    if !changed.cache_tables.is_empty() {
        facts.add("caches", format!("{} emptied", changed.cache_tables.join(", ")));
    }
    report.section("", facts.block());
    rewritten::edits(&mut report, plan, dry_run);
    let rows = changed.rows.iter().map(|(table, rows)| vec![table.clone(), number(*rows)]);
    report.section("Rows", Block::folded(&["table", ">changed"], 12, "table", rows));
    rewritten::declared(&mut report, &changed.as_copy.declared_values);
    rewritten::tally(&mut report, &changed.as_copy.tally);
    if let Some(visited) = visited {
        visit::add_to(&mut report, visited);
    }
    if let Some(run) = run {
        way_back(&mut report, run, *kind);
    }
    Ok(report)
}

/// Tells a way, or the place where nothing moves.
fn way(from: &str, to: &str) -> String {
    if from == to { to.to_string() } else { format!("{from} → {to}") }
}

/// Tells how the switches of a site are.
pub fn states(states: &[SwitchState]) -> Result<Report, CommandError> {
    let mut report = Report::new("switch", "The switches of this site".to_string(), &states)?;
    let rows = states.iter().map(|s| {
        let value = s.value.clone().unwrap_or_else(|| "(not there)".into());
        let state = s.state.clone().unwrap_or(value);
        vec![s.name.word().to_string(), state, s.states.join(", "), s.place.clone()]
    });
    report.section("", Block::table(&["switch", "is", "can be", "where"], rows));
    report.next.push("set one with: zporter switch SITE NAME=STATE".into());
    Ok(report)
}
