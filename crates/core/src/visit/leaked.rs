//! Asks directly for what should not lie where anyone can fetch it: repositories, dumps, archives, copies of config files, installers, folders
//! that list themselves. Only content proves a leak: a site that answers for everything leaks nothing by that.

use super::ask::{Asker, End};
use super::bounds::Bounds;
use super::gather::Sight;
use crate::diagnose::Sureness::{Certain, Likely};
use crate::finding::Code;
use crate::system::Known;
use std::collections::BTreeSet;
use zporter_web::Url;
use zporter_web::page;

/// Bytes that are read of an answer.
const MOST: usize = 256 << 10;

/// How something is proved.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Proof {
    /// Its first bytes.
    Begins(&'static [u8]),
    /// A text in it.
    Holds(&'static str),
    /// Lines that set variables.
    Variables,
    /// Program text or settings.
    Source,
    /// Statements of a dump.
    Dump,
    /// A page that installs.
    Installer,
    /// A page that lists a folder.
    Listing,
}

/// Something to ask for.
#[derive(Debug, Clone)]
pub struct Probe {
    url: Url,
    about: &'static str,
    proof: Proof,
}

const GZIP: &[u8] = b"\x1f\x8b";
const ZIP: &[u8] = b"PK\x03\x04";
const ZSTD: &[u8] = b"\x28\xb5\x2f\xfd";

const FIXED: [(&str, &str, Proof); 12] = [
    (".git/HEAD", "the repository of the site's files", Proof::Begins(b"ref:")),
    (".git/config", "the repository of the site's files", Proof::Holds("[core]")),
    (".svn/wc.db", "the repository of the site's files", Proof::Begins(b"SQLite format 3")),
    (".hg/requires", "the repository of the site's files", Proof::Holds("store")),
    (".env", "a file of settings", Proof::Variables),
    (".htpasswd", "a file of log-ins", Proof::Holds(":$")),
    ("sites/default/files/.ht.sqlite", "the database", Proof::Begins(b"SQLite format 3")),
    ("phpinfo.php", "a page that tells all of the server", Proof::Holds("PHP Version")),
    ("info.php", "a page that tells all of the server", Proof::Holds("PHP Version")),
    ("install/", "an installer", Proof::Installer),
    ("installation/", "an installer", Proof::Installer),
    ("installer.php", "an installer", Proof::Installer),
];

/// What is put behind or around the name of a file that somebody keeps.
fn kept_copies(path: &str) -> Vec<String> {
    let (folder, name) = path.rsplit_once('/').map_or(("", path), |(f, n)| (f, n));
    let folder = if folder.is_empty() { String::new() } else { format!("{folder}/") };
    let behind = ["~", ".bak", ".old", ".orig", ".save", ".txt"].iter().map(|e| format!("{path}{e}"));
    behind.chain([format!("{folder}.{name}.swp")]).collect()
}

/// What to ask for.
pub fn probes(
    bounds: &Bounds,
    known: &[Known],
    system: Option<&str>,
    folders: &BTreeSet<String>,
) -> Vec<Probe> {
    let mut out = Vec::new();
    let mut add = |below: &str, about: &'static str, proof: Proof| {
        if let Some(url) = bounds.at(below) {
            out.push(Probe { url, about, proof });
        }
    };
    for (below, about, proof) in FIXED {
        add(below, about, proof);
    }
    let host = bounds.home.host_str().unwrap_or_default();
    let label = host.trim_start_matches("www.").split('.').next().unwrap_or_default();
    let endings: [(&str, &'static str, Proof); 5] = [
        (".sql", "a dump of a database", Proof::Dump),
        (".sql.gz", "a dump of a database", Proof::Begins(GZIP)),
        (".zip", "an archive", Proof::Begins(ZIP)),
        (".tar.gz", "an archive", Proof::Begins(GZIP)),
        (".tar.zst", "an archive", Proof::Begins(ZSTD)),
    ];
    for name in ["dump", "backup", "database", "db", "site", label, host] {
        for (ending, about, proof) in
            endings.iter().filter(|(e, ..)| *e != ".tar.zst" || ["site", "backup", host].contains(&name))
        {
            add(&format!("{name}{ending}"), about, *proof);
        }
    }
    let mut configs: Vec<&str> = Vec::new();
    for known in known.iter().filter(|k| system.is_none_or(|id| k.definition.id == id)) {
        let plain = known
            .definition
            .config
            .iter()
            .map(|c| c.path.as_str())
            .find(|p| !p.contains(['*', '{', '?', '[']));
        configs.extend(plain.filter(|p| !configs.contains(p)));
    }
    for path in configs.iter().take(12) {
        let copies = kept_copies(path);
        // Where nobody knows the system, only the usual ones.
        for copy in copies.iter().take(if system.is_some() { copies.len() } else { 3 }) {
            add(copy, "a copy of the config file", Proof::Source);
        }
    }
    for folder in folders.iter().take(6) {
        if let Ok(url) = Url::parse(folder) {
            out.push(Probe { url, about: "a list of all files", proof: Proof::Listing });
        }
    }
    out
}

impl Probe {
    /// The address that is asked for.
    pub fn url(&self) -> &Url {
        &self.url
    }

    /// Asks for it. `nonsense` is the title of what the site answers for something that cannot be there.
    pub fn ask(&self, asker: &Asker, nonsense: &str) -> Option<Sight> {
        let journey = asker.go(&self.url, MOST);
        let End::Answer(answer) = &journey.end else { return None };
        if answer.status != 200 || answer.body.is_empty() {
            return None;
        }
        let body = answer.body.as_slice();
        let text = String::from_utf8_lossy(&body[..body.len().min(64 << 10)]);
        let head = text.trim_start().to_ascii_lowercase();
        let is_page =
            head.starts_with("<!doctype html") || head.starts_with("<html") || answer.kind().contains("html");
        let proved = match self.proof {
            Proof::Begins(bytes) => body.starts_with(bytes),
            Proof::Holds("PHP Version") => text.contains("PHP Version") && text.contains("phpinfo()"),
            Proof::Holds(words) => text.contains(words) && !is_page,
            Proof::Variables => {
                let sets = |l: &str| {
                    l.split_once('=').is_some_and(|(name, _)| {
                        !name.is_empty()
                            && name.bytes().all(|b| b.is_ascii_uppercase() || b.is_ascii_digit() || b == b'_')
                    })
                };
                !is_page && text.lines().any(sets)
            }
            Proof::Source => {
                let says = ["<?php", "define(", "<configuration", "password", "PASSWORD", "b0VIM"];
                // The web server may take program text for a page.
                (!is_page || text.contains("<?php")) && says.iter().any(|w| text.contains(w))
            }
            Proof::Dump => {
                let says = ["INSERT INTO", "CREATE TABLE", "DROP TABLE", "COPY ", "SET NAMES", "-- "];
                !is_page && says.iter().any(|w| text.contains(w))
            }
            Proof::Installer => {
                let page = page::read(&text, 20);
                let says = |t: &str| {
                    t.to_ascii_lowercase().contains("install") || t.to_ascii_lowercase().contains("setup")
                };
                page.title != nonsense
                    && !page.forms.is_empty()
                    && (says(&page.title) || page.blocks.iter().take(3).any(|b| says(&b.text)))
            }
            Proof::Listing => {
                let page = page::read(&text, 20);
                page.title.starts_with("Index of /")
                    || page.title.starts_with("Directory listing for")
                    || page.title.ends_with(" - /")
            }
        };
        let cure = match self.proof {
            Proof::Listing => "switch listings off: Options -Indexes, or autoindex off",
            Proof::Installer => "remove it: zporter restore --tidy does so for what systems bring along",
            _ => "remove it from the document root, and change every password in it",
        };
        proved.then(|| match self.proof {
            Proof::Listing => Sight::new(Code::FolderListed, Certain, "anyone can list this folder", cure),
            proof => Sight::new(
                Code::FileLeaked,
                if proof == Proof::Installer { Likely } else { Certain },
                format!("anyone can fetch {}", self.about),
                cure,
            ),
        })
    }
}
