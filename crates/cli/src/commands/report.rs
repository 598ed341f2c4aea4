//! Parts of results that several commands print: tallies, cells, leftovers.

use crate::format::{count, cut, number, safe};
use crate::ui::Ui;
use zporter_core::dump::rules::CellChange;
use zporter_core::dump::tally::Tally;
use zporter_core::restore::leftovers::FileLeftover;

/// Prints what was changed and what was left, per table and column.
pub fn tally(ui: &Ui, tally: &Tally) {
    let mut rows = Vec::new();
    for (table, column, t) in tally.columns().filter(|(_, _, t)| t.changed > 0) {
        let nestings: Vec<String> = t.by_nesting.iter().map(|(n, c)| format!("{n} {}", number(*c))).collect();
        rows.push(vec![format!("{table}.{column}"), number(t.seen), number(t.changed), nestings.join(", ")]);
    }
    if rows.is_empty() {
        ui.line("  no value had to be changed");
    } else {
        ui.heading("Changed in rows");
        ui.table(&["column", ">seen", ">changed", "places by nesting"], rows);
    }
    left(ui, tally);
    if ui.verbose {
        for (table, column, t) in tally.columns() {
            for sample in &t.samples {
                ui.line(format!("\n  {table}.{column}"));
                ui.line(format!("  - {}", cut(&safe(&sample.before), 110)));
                ui.line(format!("  + {}", cut(&safe(&sample.after), 110)));
            }
        }
    }
}

fn left(ui: &Ui, tally: &Tally) {
    let mut rows = Vec::new();
    for (table, column, t) in tally.columns() {
        for (reason, n) in &t.left {
            let sample = t.left_samples.get(reason).and_then(|texts| texts.first());
            let sample = sample.map(|s| cut(&safe(s.trim()), 50)).unwrap_or_default();
            rows.push(vec![format!("{table}.{column}"), number(*n), reason.words().to_string(), sample]);
        }
    }
    if !rows.is_empty() {
        ui.heading("Left as it is");
        ui.table(&["column", ">places", "reason", "for example"], rows);
    }
}

/// Prints declared cells, old and new.
pub fn cells(ui: &Ui, cells: &[CellChange]) {
    if cells.is_empty() {
        return;
    }
    ui.heading("Declared cells");
    let shown = if ui.verbose { usize::MAX } else { 15 };
    let rows = cells.iter().take(shown).map(|c| {
        let new = if c.old == c.new { "left: not the old address".to_string() } else { c.new.clone() };
        vec![format!("{}.{}", c.table, c.column), c.row.clone(), c.old.clone(), new]
    });
    ui.table(&["cell", "row", "old", "new"], rows.collect());
    if cells.len() > shown {
        ui.line(format!("  and {}; -v shows all", count((cells.len() - shown) as u64, "further cell")));
    }
}

/// Prints files that still name the old place.
pub fn leftovers(ui: &Ui, leftovers: &[FileLeftover]) {
    if leftovers.is_empty() {
        return;
    }
    // What somebody has to look at first.
    let (first, rest): (Vec<&FileLeftover>, Vec<_>) = leftovers.iter().partition(|l| l.needs_a_look());
    let shown = if ui.verbose { usize::MAX } else { 15 };
    let rows = first.iter().chain(rest.iter().filter(|_| ui.verbose)).take(shown).flat_map(|l| {
        l.places.iter().map(|place| {
            let what = match place.reason {
                None => format!("{} pointing there", number(l.pointing)),
                Some(reason) => {
                    format!(
                        "{} {}",
                        number(l.mentions.get(&reason).copied().unwrap_or_default()),
                        reason.words()
                    )
                }
            };
            vec![format!("{}:{}", safe(&l.path), place.line), what, cut(&safe(&place.text), 50)]
        })
    });
    let rows: Vec<_> = rows.collect();
    if !rows.is_empty() {
        ui.heading("Files that still name the old place");
        ui.table(&["where", "what", "for example"], rows);
    }
    if first.len() > shown {
        ui.line(format!("  and {}; -v shows all", count((first.len() - shown) as u64, "further file")));
    }
    if let (Some(one), false) = (rest.first(), ui.verbose) {
        let files = count(rest.len() as u64, "file");
        ui.line(format!(
            "  {files} with mentions that are none by themselves, such as {}:{}; -v shows them",
            safe(&one.path),
            one.line
        ));
    }
}
