//! What was rewritten, for every command that rewrites: in rows, in declared values, in files; and the report of `readdress`.

use crate::error::CommandError;
use crate::exit::Exit;
use crate::format::{bytes, count, cut, number, safe};
use crate::report::{Block, Facts, Report};
use schemars::JsonSchema;
use serde::Serialize;
use zporter_core::dump::rules::CellChange;
use zporter_core::dump::tally::Tally;
use zporter_core::job::run::Readdressed;
use zporter_core::restore::leftovers::FileLeftover;
use zporter_core::restore::plan::RestorePlan;

/// The edit of a file.
#[derive(Debug, Serialize, JsonSchema)]
pub struct FileDiff<'a> {
    path: &'a str,
    diff: &'a str,
}

/// The edits of config and text files.
pub fn diffs(plan: &RestorePlan) -> impl Iterator<Item = FileDiff<'_>> {
    let edited = plan.files.iter().filter(|f| !f.edits.is_empty());
    edited.map(|f| FileDiff { path: &f.path, diff: &f.diff })
}

/// Draws them; of what is done already only for those who want all.
pub fn edits(report: &mut Report, plan: &RestorePlan, dry_run: bool) {
    for FileDiff { path, diff } in diffs(plan).filter(|d| !d.diff.is_empty()) {
        let (title, block) = (format!("Edit of {path}"), Block::Diff(diff.to_string()));
        match dry_run {
            true => report.section(title, block),
            false => report.detail(title, block),
        }
    }
}

/// Rows of a table that are drawn before the rest is folded.
const SHOWN: usize = 12;

/// Adds what was changed and what was left in rows, per table and column.
pub fn tally(report: &mut Report, tally: &Tally) {
    let mut changed: Vec<_> = tally.columns().filter(|(_, _, t)| t.changed > 0).collect();
    changed.sort_by_key(|(_, _, t)| std::cmp::Reverse(t.changed));
    let rows = changed.iter().map(|(table, column, t)| {
        let nestings: Vec<String> = t.by_nesting.iter().map(|(n, c)| format!("{n} {}", number(*c))).collect();
        vec![format!("{table}.{column}"), number(t.seen), number(t.changed), nestings.join(", ")]
    });
    let header = ["column", ">rows", ">changed", "how the value is wrapped"];
    report.section("Changed in rows", Block::folded(&header, SHOWN, "column", rows));
    let mut left = Vec::new();
    for (table, column, t) in tally.columns() {
        for (reason, n) in &t.left {
            let sample = t.left_samples.get(reason).and_then(|texts| texts.first());
            let sample = sample.map(|s| cut(&safe(s.trim()), 50)).unwrap_or_default();
            left.push((
                *n,
                vec![format!("{table}.{column}"), number(*n), reason.words().to_string(), sample],
            ));
        }
    }
    left.sort_by_key(|(n, _)| std::cmp::Reverse(*n));
    let rows = left.into_iter().map(|(_, row)| row);
    let header = ["column", ">places", "why", "for example"];
    report.section("Left as it is in rows", Block::folded(&header, SHOWN, "column", rows));
    let samples = tally.columns().flat_map(|(table, column, t)| {
        t.samples.iter().flat_map(move |sample| {
            [
                format!("@ {table}.{column}"),
                format!("- {}", cut(&safe(&sample.before), 110)),
                format!("+ {}", cut(&safe(&sample.after), 110)),
            ]
        })
    });
    let samples: Vec<String> = samples.collect();
    report.detail("Samples", Block::Diff(samples.join("\n")));
}

/// Adds declared values, old and new.
pub fn declared(report: &mut Report, cells: &[CellChange]) {
    let rows = cells.iter().map(|c| {
        let new = match (c.old == c.new, c.why.as_str()) {
            (true, "") => "left: not the old address".to_string(),
            (true, why) => format!("left: {why}"),
            _ => c.new.clone(),
        };
        vec![format!("{}.{}", c.table, c.column), c.row.clone(), c.old.clone(), new]
    });
    let header = ["declared value", "row", "old", "new"];
    report.section("Declared values", Block::folded(&header, SHOWN, "declared value", rows));
}

/// Adds files that still name the old place, those first that somebody has to look at.
pub fn leftovers(report: &mut Report, leftovers: &[FileLeftover], first: &dyn Fn(&FileLeftover) -> bool) {
    let row = |l: &FileLeftover| {
        let rows = l.places.iter().map(|place| {
            let what = match place.reason {
                None => format!("{} pointing there", number(l.pointing)),
                Some(reason) => {
                    let n = l.mentions.get(&reason).copied().unwrap_or_default();
                    format!("{} {}", number(n), reason.words())
                }
            };
            vec![format!("{}:{}", safe(&l.path), place.line), what, cut(&safe(&place.text), 50)]
        });
        rows.collect::<Vec<_>>()
    };
    let (look, rest): (Vec<_>, Vec<_>) = leftovers.iter().partition(|l| first(l));
    let header = ["where", "what", "for example"];
    let title = "Files that name the old place";
    report.section(title, Block::folded(&header, SHOWN, "place", look.iter().flat_map(|l| row(l))));
    let title = "Files that name the old place without pointing there";
    report.detail(title, Block::table(&header, rest.iter().flat_map(|l| row(l))));
}

/// Tells what came of a rewritten dump.
pub fn report(done: &Readdressed, dry_run: bool) -> Result<Report, CommandError> {
    let verb = if dry_run { "Would rewrite" } else { "Rewrote" };
    let to = done.output.as_ref().map_or("standard output".to_string(), |o| o.display().to_string());
    let read = format!("{} read, {} changed", bytes(done.bytes), count(done.changed, "value"));
    let mut report = Report::new("readdress", format!("{verb} {to}: {read}"), done)?;
    report.findings.clone_from(&done.findings);
    let mut facts = Facts::default();
    facts.add("read", format!("{} in {}", bytes(done.bytes), count(done.statements, "statement")));
    facts.add("dump of", done.dialect.name());
    if done.renamed > 0 {
        facts.add("renamed", count(done.renamed, "table name"));
    }
    report.section("", facts.block());
    tally(&mut report, &done.tally);
    if let Some(cut) = &done.cut_off {
        let at = format!("line {}, byte {}", cut.line, number(cut.offset));
        report.verdict = format!("the dump breaks off in {at}: {}", cut.what);
        report.next.push(
            "everything before was rewritten and the rest passed on as it is; export the dump again".into(),
        );
        report.exit = Some(Exit::Damaged);
    }
    Ok(report)
}
