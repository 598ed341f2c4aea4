//! Finds what still points to the old place in the files of a restored site.

use crate::finding::{Code, Finding};
use crate::place::{Address, Place};
use crate::text::replacements::{Judged, LeftReason, Replacements};
use crate::text::value;
use crate::tree::{Found, Links, Tree};
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;
use std::io::Read;
use std::path::Path;

/// A file that still names the old place.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct FileLeftover {
    /// Path under the site.
    pub path: String,
    /// Line of the first one, from 1.
    pub line: u64,
    /// Addresses and paths that point to the old place.
    pub pointing: u64,
    /// Other mentions, by reason.
    pub mentions: BTreeMap<LeftReason, u64>,
    /// The first place of each kind.
    pub places: Vec<PlaceLeft>,
}

/// Where a file names the old place first in one way.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct PlaceLeft {
    /// Why it was left; nothing for what points to the old place.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub reason: Option<LeftReason>,
    /// Line, from 1.
    pub line: u64,
    /// The text around it; nothing for what nobody shall read.
    pub text: String,
}

impl FileLeftover {
    /// Says whether somebody has to look at the file: something in it points to the old place or names it in a way that is none by itself.
    /// A path from the root in program code mostly is a separator or a pattern; what a system says of itself in its papers, and where its
    /// programs speak of the machine itself, is no trace of a site.
    pub fn needs_attention(&self, from: &Address) -> bool {
        let path = Path::new(&self.path);
        if is_paper(path) {
            return false;
        }
        let code = is_code(path);
        // `localhost` and its kin name this site only with a base path or a port.
        let any_machine = is_own_machine(from.host());
        if any_machine && code && from.base().is_empty() && from.port().is_none() {
            return self.mentions.contains_key(&LeftReason::Password);
        }
        let counts = |reason: &LeftReason| {
            reason.needs_attention()
                && (*reason != LeftReason::RootRelative || !code)
                && (!any_machine || *reason == LeftReason::Password)
        };
        self.pointing > 0 || self.mentions.keys().any(counts)
    }

    /// What a person should know of it.
    pub fn finding(&self, from: &Place) -> Option<Finding> {
        let first = self.places.iter().min_by_key(|p| (p.reason.is_some(), p.line))?;
        let counted = |n: u64| if n == 1 { "1 place".to_string() } else { format!("{n} places") };
        let (what, cure) = match first.reason {
            None => (
                format!(
                    "{} in this file {} to the old address or folder",
                    counted(self.pointing),
                    if self.pointing == 1 { "points" } else { "point" }
                ),
                "change it by hand, or declare the file in the definition ([[text]])",
            ),
            Some(reason) => {
                let n = self.mentions.get(&reason).copied().unwrap_or_default();
                (format!("{} in this file: {}", counted(n), reason.words()), reason.cure())
            }
        };
        let found = Finding::new(Code::OldPlaceInFile, what, format!("{}:{}", self.path, first.line), cure);
        Some(if self.needs_attention(&from.address) { found } else { found.as_note() })
    }
}

/// Says whether a host name means whatever machine one is at.
fn is_own_machine(host: &str) -> bool {
    matches!(host, "localhost" | "127.0.0.1" | "[::1]") || host.ends_with(".localhost")
}

/// Names of the papers that come with programs.
const PAPERS: [&str; 12] = [
    "readme",
    "license",
    "licence",
    "copying",
    "changelog",
    "changes",
    "install",
    "upgrade",
    "upgrading",
    "authors",
    "credits",
    "contributing",
];

fn is_paper(path: &Path) -> bool {
    let name = path.file_name().and_then(|n| n.to_str()).unwrap_or_default().to_ascii_lowercase();
    let (stem, ending) = name.split_once('.').unwrap_or((&name, ""));
    let stem = stem.split(['-', '_']).next().unwrap_or(stem);
    PAPERS.contains(&stem) && matches!(ending, "" | "txt" | "md" | "html" | "htm" | "rst" | "pdf")
}

/// Endings of program code.
const CODE: [&str; 14] =
    ["php", "inc", "module", "install", "phtml", "js", "mjs", "ts", "map", "py", "rb", "pl", "sh", "sql"];

fn is_code(path: &Path) -> bool {
    path.extension().and_then(|e| e.to_str()).is_some_and(|e| CODE.contains(&e.to_ascii_lowercase().as_str()))
}

/// Window of the scan in bytes, and how much of it is looked at again with the next one: no address is longer.
const WINDOW: usize = 4 << 20;
const OVERLAP: usize = 4 << 10;

/// Endings of pictures, films, sounds, fonts and packed files: no reference in them leads a browser or a program anywhere.
const OPAQUE: [&str; 28] = [
    "jpg", "jpeg", "png", "gif", "webp", "avif", "heic", "bmp", "ico", "tif", "tiff", "mp4", "m4v", "mov",
    "webm", "avi", "mp3", "m4a", "ogg", "wav", "flac", "woff", "woff2", "ttf", "otf", "eot", "gz", "zip",
];

fn is_opaque(path: &Path) -> bool {
    let ending = path.extension().and_then(|e| e.to_str()).unwrap_or_default().to_ascii_lowercase();
    OPAQUE.contains(&ending.as_str())
}

/// Scans the regular files below a folder that `look` says, but for pictures and their kin. Files that cannot be read are passed over.
pub fn scan(
    tree: &dyn Tree,
    site: &Path,
    replacements: &Replacements,
    look: &dyn Fn(&Path) -> bool,
) -> Vec<FileLeftover> {
    let mut out = Vec::new();
    let mut buffer = vec![0; WINDOW];
    for Found { path, meta } in tree.walk(site).flatten() {
        if !meta.is_file() || is_opaque(&path) || !look(&path) {
            continue;
        }
        let Ok(file) = tree.open(&path, Links::Follow) else { continue };
        let path = path.strip_prefix(site).unwrap_or(&path).display().to_string();
        let mut found =
            FileLeftover { path, line: 0, pointing: 0, mentions: BTreeMap::new(), places: Vec::new() };
        if scan_file(file, replacements, &mut buffer, &mut found).is_ok()
            && (found.pointing > 0 || !found.mentions.is_empty())
        {
            out.push(found);
        }
    }
    out
}

/// Returns the text of a line around a place, for people.
fn around(text: &[u8], at: usize, reason: Option<LeftReason>) -> String {
    if matches!(reason, Some(LeftReason::Password | LeftReason::LogIn)) {
        return String::new();
    }
    let excerpt = value::excerpt(text, at);
    // Only of the line itself.
    let from = excerpt.as_ptr() as usize - text.as_ptr() as usize;
    let before = at.saturating_sub(from).min(excerpt.len());
    let start = excerpt[..before].iter().rposition(|b| *b == b'\n').map_or(0, |i| i + 1);
    let end = before + excerpt[before..].iter().position(|b| *b == b'\n').unwrap_or(excerpt.len() - before);
    String::from_utf8_lossy(&excerpt[start..end]).trim().to_string()
}

fn scan_file(
    mut file: impl Read,
    replacements: &Replacements,
    buffer: &mut [u8],
    found: &mut FileLeftover,
) -> std::io::Result<()> {
    let (mut filled, mut lines, mut fresh) = (0usize, 0u64, 0usize);
    loop {
        let read = file.read(&mut buffer[filled..])?;
        filled += read;
        let end = read == 0;
        if !end && filled < buffer.len() {
            continue;
        }
        let text = &buffer[..filled];
        // What begins in the overlap is counted with the next window, where all that follows it can be seen.
        let until = if end { filled } else { filled - OVERLAP };
        if replacements.scan().any(text) {
            for finding in replacements.findings(text) {
                let at = match &finding {
                    Judged::Change(edit) => edit.span.start,
                    Judged::Left { at, .. } => *at,
                };
                if at < fresh || at >= until {
                    continue;
                }
                let reason = match finding {
                    Judged::Change(_) => {
                        found.pointing += 1;
                        None
                    }
                    Judged::Left { reason, .. } => {
                        *found.mentions.entry(reason).or_default() += 1;
                        Some(reason)
                    }
                };
                let line = lines + 1 + memchr::memchr_iter(b'\n', &text[..at]).count() as u64;
                found.line = if found.line == 0 { line } else { found.line.min(line) };
                match found.places.iter_mut().find(|p| p.reason == reason) {
                    Some(known) if known.line <= line => {}
                    Some(known) => (known.line, known.text) = (line, around(text, at, reason)),
                    None => found.places.push(PlaceLeft { reason, line, text: around(text, at, reason) }),
                }
            }
        }
        if end {
            return Ok(());
        }
        // One overlap before the border is kept as context for what begins right behind it.
        let keep = until - OVERLAP;
        lines += memchr::memchr_iter(b'\n', &text[..keep]).count() as u64;
        buffer.copy_within(keep..filled, 0);
        filled -= keep;
        fresh = OVERLAP;
    }
}
