//! Finds what still points to an old place: in a dump, a folder or an archive, in every nesting, and says how sure it is.
//!
//! A trace is a rewrite that writes nothing: the same replacements, the same walk through values, so what a trace calls certain is what
//! a rewrite would change. Dumps tell table, column and row ([`dump`]); other files tell file and line ([`files`]).

pub mod dump;
pub mod files;

use crate::dump::stream::DumpError;
use crate::place::{Address, Pairs, Root};
use crate::text::replacements::{LeftReason, Replacements, RewriteOptions};
use crate::text::value::Notes;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::Arc;

/// How sure it is that a place points to the old site.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Sure {
    /// A full address or path of the old place, in a value.
    Certain,
    /// The old host or path, but not in a form that a rewrite changes.
    Likely,
    /// Something that merely names the old place or looks alike.
    Unlikely,
}

impl Sure {
    fn of(reason: LeftReason) -> Self {
        match reason {
            // What stands in these would have been changed if it could be read.
            LeftReason::BrokenSerialized
            | LeftReason::UnknownCustom
            | LeftReason::Packed
            | LeftReason::TooDeep => Sure::Certain,
            LeftReason::Email | LeftReason::LookAlike => Sure::Unlikely,
            _ => Sure::Likely,
        }
    }

    /// Returns the word for people.
    pub fn word(self) -> &'static str {
        match self {
            Sure::Certain => "certain",
            Sure::Likely => "likely",
            Sure::Unlikely => "unlikely",
        }
    }
}

/// What is said of a full address or path of the old place.
pub const POINTING: &str = "points to the old place";

/// A value or line that names the old place.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Found {
    /// File, or entry of an archive.
    pub file: String,
    /// Line in it, from 1.
    pub line: u64,
    /// Table and column, in a dump.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub column: Option<String>,
    /// What tells the row, such as `id = 7`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub row: Option<String>,
    /// How sure it is.
    pub sure: Sure,
    /// What it is, in a few words.
    pub what: &'static str,
    /// The nesting in which it stands.
    pub nesting: String,
    /// How often, in this value and nesting.
    pub count: usize,
    /// The text around the first one.
    pub excerpt: String,
}

/// What a trace came to.
#[derive(Debug, Clone, Default, Serialize, JsonSchema)]
pub struct Traced {
    /// Places, in order; at most as many as were asked for.
    pub found: Vec<Found>,
    /// How often, by how sure it is; all of them.
    pub counts: BTreeMap<Sure, u64>,
    /// How often the old place is pointed to, certainly or likely, by file or entry.
    pub files: BTreeMap<String, u64>,
    /// Files, tables and entries looked at.
    pub looked_at: u64,
    /// What could not be read.
    pub unread: Vec<String>,
    /// What is compressed or encrypted in a way that is not read here.
    pub sealed: Vec<String>,
}

/// Why a trace could not be made.
#[derive(Debug, thiserror::Error)]
pub enum TraceError {
    /// A file could not be read.
    #[error("{path} cannot be read")]
    Read {
        /// Path.
        path: PathBuf,
        /// Cause.
        #[source]
        source: std::io::Error,
    },
    /// A dump could not be read.
    #[error("the dump {name} cannot be read")]
    Dump {
        /// File or entry.
        name: String,
        /// Cause.
        #[source]
        source: DumpError,
    },
    /// An archive could not be read.
    #[error(transparent)]
    Archive(#[from] crate::archive::read::ReadError),
}

/// A rewrite to nowhere: what it would change is what points to an old place.
pub fn old_place(addresses: &[Address], roots: &[Root]) -> Replacements {
    old_place_beside(addresses, roots, &[])
}

/// The host that stands for an address that is none of the old place, in what [`old_place_beside`] would change.
pub const NOT_OLD: &str = "zporter-not-old.test";

/// The same, where a new address begins like an old one: what names the new one is led to [`NOT_OLD`].
pub fn old_place_beside(addresses: &[Address], roots: &[Root], new: &[Address]) -> Replacements {
    let nowhere = |old: &Address| {
        let text = if old.host() == "a.test" { "http://b.test" } else { "http://a.test" };
        Address::parse(text).unwrap_or_else(|_| old.clone())
    };
    let away = |old: &Root| {
        let text = if old.to_string() == "/a" { "/b" } else { "/a" };
        Root::parse(text).unwrap_or_else(|_| old.clone())
    };
    let pairs = Pairs {
        addresses: addresses
            .iter()
            .map(|a| (a.clone(), nowhere(a)))
            .chain(
                new.iter()
                    .filter_map(|a| Some((a.clone(), Address::parse(&format!("http://{NOT_OLD}")).ok()?))),
            )
            .collect(),
        roots: roots.iter().map(|r| (r.clone(), away(r))).collect(),
    };
    Replacements::asking(&pairs, &[], RewriteOptions::default())
}

/// Looks for an old place, and keeps what it finds.
pub struct Tracer {
    replacements: Arc<Replacements>,
    most: usize,
    traced: Traced,
}

impl Tracer {
    /// Looks for these addresses and roots. At most `most` places are kept, all are counted.
    pub fn new(addresses: &[Address], roots: &[Root], most: usize) -> Self {
        Tracer::with(Arc::new(old_place(addresses, roots)), most)
    }

    /// Looks for what these would change.
    pub fn with(replacements: Arc<Replacements>, most: usize) -> Self {
        Tracer { replacements, most, traced: Traced::default() }
    }

    /// Returns what was found.
    pub fn finish(self) -> Traced {
        self.traced
    }

    fn keep(&mut self, found: Found) {
        *self.traced.counts.entry(found.sure).or_default() += found.count as u64;
        if found.sure != Sure::Unlikely {
            *self.traced.files.entry(found.file.clone()).or_default() += found.count as u64;
        }
        if self.traced.found.len() < self.most {
            self.traced.found.push(found);
        }
    }
}

/// Where the value at hand stands.
#[derive(Debug, Clone, Default)]
struct Standing {
    file: String,
    line: u64,
    column: Option<String>,
    row: Option<String>,
}

/// Takes down what the walk through one value finds.
struct Collect<'a> {
    standing: &'a Standing,
    /// Set where nothing can be changed: in a comment, say.
    outside: Option<LeftReason>,
    found: Vec<Found>,
}

impl Collect<'_> {
    fn add(&mut self, sure: Sure, what: &'static str, nesting: &str, count: usize, excerpt: &[u8]) {
        let known = self.found.iter_mut().find(|f| f.what == what && f.nesting == nesting);
        if let Some(known) = known {
            known.count += count;
            return;
        }
        let Standing { file, line, column, row } = self.standing.clone();
        let text = String::from_utf8_lossy(&excerpt[..excerpt.len().min(160)]);
        let excerpt = text.split_whitespace().collect::<Vec<_>>().join(" ");
        self.found.push(Found {
            file,
            line,
            column,
            row,
            sure,
            what,
            nesting: nesting.into(),
            count,
            excerpt,
        });
    }
}

impl Notes for Collect<'_> {
    fn changed(&mut self, nesting: &str, count: usize, excerpt: &[u8]) {
        match self.outside {
            Some(reason) => self.add(Sure::of(reason), reason.words(), nesting, count, excerpt),
            None => self.add(Sure::Certain, POINTING, nesting, count, excerpt),
        }
    }

    fn left(&mut self, reason: LeftReason, nesting: &str, excerpt: &[u8]) {
        self.add(Sure::of(reason), reason.words(), nesting, 1, excerpt);
    }
}
