//! Compares the texts of two pages line by line, and learns from two visits of one of them what differs by itself: clocks, counters, tokens,
//! lines that come and go.

use similar::{DiffOp, TextDiff};
use std::collections::{HashMap, HashSet};
use std::time::Duration;

/// Lines of a difference that are told, and letters of each.
const LINES: usize = 16;
const LETTERS: usize = 200;

/// A line in which what differs between two visits is left out: words at which both have something else.
fn shape(line: &str, again: &str) -> Option<Vec<Option<String>>> {
    let (a, b): (Vec<&str>, Vec<&str>) = (line.split(' ').collect(), again.split(' ').collect());
    (a.len() == b.len() && a.iter().zip(&b).any(|(a, b)| a == b) || a.len() == 1 && b.len() == 1)
        .then(|| a.iter().zip(&b).map(|(a, b)| (a == b).then(|| a.to_string())).collect())
}

fn fits(line: &str, shape: &[Option<String>]) -> bool {
    let words: Vec<&str> = line.split(' ').collect();
    words.len() == shape.len() && words.iter().zip(shape).all(|(w, s)| s.as_deref().is_none_or(|s| s == *w))
}

fn diff_of<'t>(old: &'t [&'t str], new: &'t [&'t str]) -> Vec<DiffOp> {
    TextDiff::configure().timeout(Duration::from_secs(2)).diff_slices(old, new).ops().to_vec()
}

/// Lines that are gone (`-`) or new (`+`), without what differs between two visits of the old page.
pub(super) fn differences(old: &[String], again: &[String], new: &[String]) -> Vec<(char, String)> {
    let (o, a, n): (Vec<&str>, Vec<&str>, Vec<&str>) = (
        old.iter().map(String::as_str).collect(),
        again.iter().map(String::as_str).collect(),
        new.iter().map(String::as_str).collect(),
    );
    // Lines of the old page that move, those that have a shape, and places between lines where something comes and goes.
    let mut moving: HashSet<usize> = HashSet::new();
    let mut shapes = Vec::new();
    let mut gaps: HashMap<usize, usize> = HashMap::new();
    for op in diff_of(&o, &a) {
        match op {
            DiffOp::Equal { .. } => (),
            DiffOp::Delete { old_index, old_len, .. } => moving.extend(old_index..old_index + old_len),
            DiffOp::Insert { old_index, new_len, .. } => {
                gaps.insert(old_index, new_len);
            }
            DiffOp::Replace { old_index, old_len, new_index, new_len } => {
                moving.extend(old_index..old_index + old_len);
                if new_len > old_len {
                    gaps.insert(old_index, new_len - old_len);
                }
                for i in 0..old_len.min(new_len) {
                    shapes.extend(shape(o[old_index + i], a[new_index + i]));
                }
            }
        }
    }
    let moves = |line: usize| moving.contains(&line);
    let has_shape = |line: &str| shapes.iter().any(|s| fits(line, s));
    let mut out = Vec::new();
    for op in diff_of(&o, &n) {
        let (gone, come) = (op.old_range(), op.new_range());
        if matches!(op, DiffOp::Equal { .. }) {
            continue;
        }
        // As many new lines as came by themselves at this place, or took the place of some that went, may come again; more are told.
        let may = gone.clone().filter(|i| moves(*i)).count() + gaps.get(&gone.start).copied().unwrap_or(0);
        let gone: Vec<usize> = gone.filter(|i| !moves(*i)).collect();
        let come: Vec<usize> = come.filter(|i| !has_shape(n[*i])).collect();
        let come = if gone.is_empty() && come.len() <= may { Vec::new() } else { come };
        out.extend(gone.iter().map(|i| ('-', o[*i].to_string())));
        out.extend(come.iter().map(|i| ('+', n[*i].to_string())));
    }
    out
}

/// Spells differences as the lines of a diff, the first of them.
pub(super) fn spelled(differences: &[(char, String)]) -> String {
    let mut out = String::new();
    for (sign, line) in differences.iter().take(LINES) {
        out.push(*sign);
        out.extend(line.chars().take(LETTERS));
        out.push('\n');
    }
    if differences.len() > LINES {
        out.push_str(&format!(" and {} further lines\n", differences.len() - LINES));
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    fn diff(old: &str, again: &str, new: &str) -> String {
        let lines = |t: &str| t.lines().map(str::to_string).collect::<Vec<_>>();
        spelled(&differences(&lines(old), &lines(again), &lines(new)))
    }

    #[test]
    fn what_always_differs_is_no_difference() {
        let page = |time: &str, token: &str, quote: &str| {
            format!("Home\nIt is {time} now\nWelcome\nvisitors: {token}\n{quote}end")
        };
        let old = page("12:00:01", "1041", "Stars are far.\n");
        let again = page("12:00:02", "1042", "");
        assert_eq!(diff(&old, &again, &page("12:07:40", "9", "")), "");
        assert_eq!(diff(&old, &again, &page("12:07:40", "9", "Moons are near.\n")), "");
        let wrong = page("12:07:40", "9", "").replace("Welcome", "Go away");
        assert_eq!(diff(&old, &again, &wrong), "-Welcome\n+Go away\n");
        let gone = page("12:07:40", "9", "").replace("Welcome\n", "");
        assert_eq!(diff(&old, &again, &gone), "-Welcome\n");
        assert_eq!(diff("a\nb", "a\nb", "a\nb\nc"), "+c\n");
        // Errors beside a line that moves are not taken for a part of it.
        let errors =
            page("12:07:40", "9", "").replace("visitors", "SQLSTATE[1]\nSQLSTATE[2]\nSQLSTATE[3]\nvisitors");
        assert!(diff(&old, &again, &errors).contains("+SQLSTATE[2]\n"), "{}", diff(&old, &again, &errors));
    }
}
