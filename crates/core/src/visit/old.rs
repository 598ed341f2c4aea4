//! Looks for the old place in what came, by the rewriter's own search, so that a visit finds what a rewrite would change.

use super::gather::Sight;
use super::look::Known;
use super::symptoms::shortened;
use crate::diagnose::Sureness::{Certain, Possible};
use crate::finding::Code;
use crate::text::replacements::{LeftReason, Replacements};
use crate::text::value::{self, Notes};
use crate::trace::{Found, NOT_OLD, Sure, Tracer};
use std::sync::Arc;

/// The old address or folder, as the rewriter finds it.
pub fn place(known: &Known, body: &[u8], whose: &str, out: &mut Vec<Sight>) {
    let Some(old) = &known.old else { return };
    if !old.scan().any(body) {
        return;
    }
    if known.contained {
        out.extend(beside_new(old, body, whose));
        return;
    }
    let mut tracer = Tracer::with(old.clone(), 200);
    // Bytes in memory can be read.
    let _ = tracer.lines("", body);
    let traced = tracer.finish();
    for sure in [Sure::Certain, Sure::Likely] {
        if sure == Sure::Likely && known.same_host {
            continue;
        }
        // A reference from the root is judged where it leads.
        let ours = |f: &&Found| f.sure == sure && f.what != LeftReason::RootRelative.words();
        let count: usize = traced.found.iter().filter(ours).map(|f| f.count).sum();
        let Some(first) = traced.found.iter().find(ours) else { continue };
        let nesting = if first.nesting.is_empty() { String::new() } else { format!(" ({})", first.nesting) };
        let times = if count == 1 { String::new() } else { format!(" {count} times") };
        let certain = sure == Sure::Certain;
        let sight = Sight::new(
            Code::OldPlaceOnPage,
            if certain { Certain } else { Possible },
            format!("the {whose} names the old place{times}{nesting}: {}", first.excerpt),
            SETTLE,
        );
        let sight = sight.about(if certain { first.excerpt.clone() } else { first.what.to_string() });
        // What a rewrite would leave is mostly another site of the old host, or its name in a sentence.
        out.push(if certain { sight } else { sight.as_note().because(first.what) });
    }
}

/// The cure where a page names the old place.
const SETTLE: &str =
    "zporter settle SITE --dry-run shows where it stands; caches of pages and styles keep it as well";

/// The old address where the new one begins like it: the rewriter's longest match tells the two apart.
fn beside_new(old: &Replacements, body: &[u8], whose: &str) -> Option<Sight> {
    let (mut count, mut first) = (0, None);
    for line in body.split(|b| *b == b'\n').filter(|line| old.scan().any(line)) {
        for edit in value::edits_of_hit(old, line, false, &mut Unheard) {
            if memchr::memmem::find(&edit.new, NOT_OLD.as_bytes()).is_none() {
                count += 1;
                first.get_or_insert_with(|| {
                    String::from_utf8_lossy(value::excerpt(line, edit.span.start)).into_owned()
                });
            }
        }
    }
    let excerpt = shortened(first?.trim());
    let times = if count == 1 { String::new() } else { format!(" {count} times") };
    Some(
        Sight::new(
            Code::OldPlaceOnPage,
            Certain,
            format!("the {whose} names the old place{times}: {excerpt}"),
            SETTLE,
        )
        .about(excerpt),
    )
}

/// Takes no notes.
struct Unheard;

impl Notes for Unheard {
    fn changed(&mut self, _: &str, _: usize, _: &[u8]) {}
    fn left(&mut self, _: LeftReason, _: &str, _: &[u8]) {}
}

/// Whether a text certainly names it.
pub fn named(old: &Arc<Replacements>, text: &[u8]) -> bool {
    old.scan().any(text) && {
        let mut tracer = Tracer::with(old.clone(), 1);
        tracer.lines("", text).is_ok() && tracer.finish().counts.contains_key(&Sure::Certain)
    }
}
