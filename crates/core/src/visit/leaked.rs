//! Asks directly for what should not lie where anyone can fetch it: repositories, dumps, archives, copies of config files, installers, folders
//! that list themselves. Only content proves a leak: a site that answers for everything leaks nothing by that.

use super::ask::{Asker, End};
use super::bounds::Bounds;
use super::gather::Sight;
use crate::diagnose::Sureness::{Certain, Likely};
use crate::finding::Code;
use crate::system::Known;
use crate::system::schema::{Config, Role};
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
    /// The head of a tape archive.
    Tar,
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

const FIXED: [(&str, &str, Proof); 29] = [
    (".git/HEAD", "the repository of the site's files", Proof::Begins(b"ref:")),
    (".git/config", "the repository of the site's files", Proof::Holds("[core]")),
    (".svn/wc.db", "the repository of the site's files", Proof::Begins(b"SQLite format 3")),
    (".hg/requires", "the repository of the site's files", Proof::Holds("store")),
    (".git/logs/HEAD", "the repository of the site's files", Proof::Holds(" commit")),
    (".svn/entries", "the repository of the site's files", Proof::Holds("dir\n")),
    (".DS_Store", "a list of a folder's files", Proof::Begins(b"\0\0\0\x01Bud1")),
    (".env", "a file of settings", Proof::Variables),
    (".env.local", "a file of settings", Proof::Variables),
    (".env.production", "a file of settings", Proof::Variables),
    (".env.bak", "a copy of a file of settings", Proof::Variables),
    (".env.old", "a copy of a file of settings", Proof::Variables),
    (".env.save", "a copy of a file of settings", Proof::Variables),
    ("sftp-config.json", "a file of log-ins", Proof::Holds("\"host\"")),
    (".vscode/sftp.json", "a file of log-ins", Proof::Holds("\"host\"")),
    ("error_log", "a log of the server", Proof::Holds("PHP ")),
    ("debug.log", "a log of the server", Proof::Holds("PHP ")),
    ("wp-content/debug.log", "a log of the server", Proof::Holds("PHP ")),
    (".htpasswd", "a file of log-ins", Proof::Holds(":$")),
    ("sites/default/files/.ht.sqlite", "the database", Proof::Begins(b"SQLite format 3")),
    ("phpinfo.php", "a page that tells all of the server", Proof::Holds("PHP Version")),
    ("info.php", "a page that tells all of the server", Proof::Holds("PHP Version")),
    ("test.php", "a page that tells all of the server", Proof::Holds("PHP Version")),
    ("install/", "an installer", Proof::Installer),
    ("install.php", "an installer", Proof::Installer),
    ("setup/", "an installer", Proof::Installer),
    ("setup.php", "an installer", Proof::Installer),
    ("installation/", "an installer", Proof::Installer),
    ("installer.php", "an installer", Proof::Installer),
];

/// What is put behind the name of a file that somebody keeps; those first that are seen most.
const ENDS: [&str; 14] = [
    "~", ".bak", ".old", ".orig", ".save", ".txt", "_bak", "_old", "-bak", "-old", ".backup", ".copy", ".1",
    ".new",
];

/// What a config holds that nobody should read.
const SECRET: [Role; 4] = [Role::DatabasePassword, Role::DatabaseUrl, Role::DatabaseConnection, Role::Secret];

/// Folders in which people put aside what they do not want to lose.
const ASIDE: [&str; 6] = ["backup/", "backups/", "dump/", "dumps/", "sql/", "old/"];

/// What is put behind or around the name of a file that somebody keeps.
fn kept_copies(path: &str) -> Vec<String> {
    let (folder, name) = path.rsplit_once('/').map_or(("", path), |(f, n)| (f, n));
    let folder = if folder.is_empty() { String::new() } else { format!("{folder}/") };
    let mut out: Vec<String> = ENDS.iter().map(|end| format!("{path}{end}")).collect();
    out.extend([
        format!("{folder}.{name}.swp"),
        format!("{folder}.{name}.swo"),
        format!("{folder}%23{name}%23"),
    ]);
    // In place of the ending, so that the web server no longer runs it.
    if let Some((stem, _)) = name.rsplit_once('.').filter(|(stem, _)| !stem.is_empty()) {
        out.extend(["bak", "old", "txt", "orig", "inc"].iter().map(|end| format!("{folder}{stem}.{end}")));
    }
    out
}

/// Whether a copy has one of the names that are seen most.
fn is_usual(copy: &str) -> bool {
    copy.ends_with(".swp") || ENDS[..3].iter().any(|end| copy.ends_with(end))
}

/// What to ask for.
pub fn probes(
    bounds: &Bounds,
    known: &[Known],
    system: Option<&str>,
    folders: &BTreeSet<String>,
) -> Vec<Probe> {
    let (mut out, mut added) = (Vec::new(), BTreeSet::new());
    let mut add = |below: &str, about: &'static str, proof: Proof| {
        if let Some(url) = bounds.at(below).filter(|u| added.insert(u.to_string())) {
            out.push(Probe { url, about, proof });
        }
    };
    for (below, about, proof) in FIXED {
        add(below, about, proof);
    }
    let host = bounds.home.host_str().unwrap_or_default();
    let bare = host.trim_start_matches("www.");
    let label = bare.split('.').next().unwrap_or_default();
    let endings: [(&str, &'static str, Proof); 7] = [
        (".sql", "a dump of a database", Proof::Dump),
        (".sql.gz", "a dump of a database", Proof::Begins(GZIP)),
        (".zip", "an archive", Proof::Begins(ZIP)),
        (".tar.gz", "an archive", Proof::Begins(GZIP)),
        (".tgz", "an archive", Proof::Begins(GZIP)),
        (".tar", "an archive", Proof::Tar),
        (".tar.zst", "an archive", Proof::Begins(ZSTD)),
    ];
    // A name that says what it holds holds nothing else.
    let named: [(&[&str], &[_]); 4] = [
        (&["dump", "database", "db"], &endings[..4]),
        (&["mysql", "data"], &endings[..2]),
        (&["www", "public_html", "htdocs"], &endings[2..]),
        (&["backup", "site", label, bare, host], &endings),
    ];
    for (names, endings) in named {
        for name in names {
            endings.iter().for_each(|(ending, about, proof)| add(&format!("{name}{ending}"), about, *proof));
        }
    }
    let mut configs: Vec<String> = Vec::new();
    for known in known.iter().filter(|k| system.is_none_or(|id| k.definition.id == id)) {
        let tells = |c: &&Config| c.key.iter().any(|k| SECRET.contains(&k.role));
        // The folder of a host has this name where there is one alone.
        let paths = known.definition.config.iter().filter(tells).map(|c| c.path.replace("{site}", "default"));
        let plain = paths.filter(|p| !p.contains(['*', '{', '?', '[']));
        for path in plain.take(if system.is_some() { 4 } else { 2 }) {
            if !configs.contains(&path) {
                configs.push(path);
            }
        }
    }
    for path in configs.iter().take(16) {
        let copies = kept_copies(path);
        // Where nobody knows the system, only the usual ones.
        for copy in copies.iter().filter(|c| system.is_some() || is_usual(c)) {
            add(copy, "a copy of the config file", Proof::Source);
        }
    }
    for folder in ASIDE {
        add(folder, "a list of all files", Proof::Listing);
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
            Proof::Tar => body.get(257..262) == Some(b"ustar"),
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
                    || page.title.contains(" - /") && page.title.ends_with('/')
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
