//! What a person sees of a file's edits before they are made: values that nobody shall read masked, and a diff.

use super::file_plan::{Change, FilePlan};
use crate::config::definition::Config;
use crate::edit::{self, Edit};
use std::ops::Range;

/// What stands for a secret in previews.
pub const MASK: &str = "***";

/// What stands for a secret in previews of a file.
pub(super) fn mask_of(config: &Config) -> impl Fn(&str) -> String {
    let format = config.form.format();
    move |word: &str| format.mask(word)
}

pub(super) fn plain_mask(word: &str) -> String {
    word.to_string()
}

/// Makes the plan's preview.
pub(super) fn finish(
    path: &str,
    text: &[u8],
    edits: Vec<Edit>,
    secrets: Vec<Range<usize>>,
    mask_word: &dyn Fn(&str) -> String,
) -> FilePlan {
    let mask = |spans: &[Range<usize>]| -> Vec<Edit> {
        spans.iter().map(|s| Edit::new(s.clone(), mask_word(MASK))).collect()
    };
    let mut diff = String::new();
    let mut changes = Vec::new();
    if !edits.is_empty() {
        let old = edit::apply(text, &mask(&secrets));
        // A changed secret keeps a sign that it changed.
        let mut new_edits: Vec<Edit> = secrets
            .iter()
            .filter(|s| !edits.iter().any(|e| e.span == **s))
            .map(|s| Edit::new(s.clone(), mask_word(MASK)))
            .collect();
        for e in &edits {
            let new = if secrets.contains(&e.span) {
                mask_word(&format!("{MASK} (new)")).into()
            } else {
                e.new.clone()
            };
            new_edits.push(Edit { span: e.span.clone(), new });
        }
        new_edits.sort_by_key(|e| e.span.start);
        let new = edit::apply(text, &new_edits);
        diff = unified(path, &old, &new);
        if secrets.is_empty() {
            changes = edits
                .iter()
                .map(|e| Change {
                    key: "text".into(),
                    line: 1 + memchr::memchr_iter(b'\n', &text[..e.span.start]).count(),
                    old: String::from_utf8_lossy(&text[e.span.clone()]).into_owned(),
                    new: String::from_utf8_lossy(&e.new).into_owned(),
                })
                .collect();
        }
    }
    FilePlan {
        path: path.into(),
        edits,
        changes,
        put: Vec::new(),
        findings: Vec::new(),
        diff,
        expected: Vec::new(),
    }
}

pub(super) fn unified(path: &str, old: &[u8], new: &[u8]) -> String {
    let (old, new) = (String::from_utf8_lossy(old), String::from_utf8_lossy(new));
    let diff = similar::TextDiff::from_lines(old.as_ref(), new.as_ref());
    diff.unified_diff().context_radius(1).header(&format!("old/{path}"), &format!("new/{path}")).to_string()
}
