//! Files: config files that no program can read, rights and owners, caches that were made elsewhere, redirects, room, clock.

use super::{Diagnoses, Sureness};
use crate::config;
use crate::finding::{Code, Finding};
use crate::limits::CONFIG_FILE;
use crate::place::Address;
use crate::select::{Decision, Scope, Selection};
use crate::survey::Survey;
use crate::survey::recognise::config_files;
use crate::survey::site_files::{FolderFiles, SiteFiles};
use crate::tree::{Ids, Links, Meta, read_small};
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::time::SystemTime;

/// Files of caches that are read, and bytes of each.
const CACHE_FILES: usize = 400;
const CACHE_BYTES: u64 = 1 << 20;

/// Free bytes below which a system soon cannot write.
const LITTLE_ROOM: u64 = 64 << 20;

/// Config files: there, readable, and to be understood.
pub fn configs(survey: &Survey, out: &mut Diagnoses) {
    let files = FolderFiles(survey.tree.clone());
    let definition = &survey.recognised.definition;
    let found = config_files(&files, definition);
    let site_files = found.iter().filter(|f| f.config.key.iter().any(|k| !k.name.is_empty()));
    if site_files.clone().next().is_none() {
        let names: Vec<&str> = definition.config.iter().map(|c| c.path.as_str()).take(3).collect();
        let what = format!("no config file is here: {} cannot know its database", survey.recognised.product);
        let cure =
            "put the config file back, from an archive: zporter restore ARCHIVE --in-place --only FILE";
        out.add(Sureness::Certain, Finding::new(Code::ConfigMissing, what, names.join(", "), cure));
    }
    for file in site_files {
        if let Err(e) = config::read(file.config.form, &file.text, None) {
            let what = format!("the config file cannot be read as {}: {e}", file.config.form.word());
            let cure = "mend the line; a copy of the file before the change is in the last archive";
            out.add(Sureness::Certain, Finding::new(Code::ConfigUnreadable, what, &file.path, cure));
        }
    }
}

/// What the web server, which runs as the owner of the site, can read and write.
pub fn rights(survey: &Survey, out: &mut Diagnoses) {
    let tree = &survey.tree;
    let Some(owner) = owner_of(survey) else {
        return out.saw("rights", "nobody could look: this place keeps no owners");
    };
    for path in survey.unread.iter().take(5) {
        let what = "cannot be read by the user who runs this";
        out.add(
            Sureness::Possible,
            Finding::at(Code::FileUnreadable, what, path, "look at its owner and mode"),
        );
    }
    let mut shut: Vec<(PathBuf, Ids)> = Vec::new();
    for found in tree.walk(&survey.site).flatten() {
        let meta = found.meta;
        let needs = if meta.is_folder() { 0o5 } else { 0o4 };
        if !meta.is_link() && !may(&meta, owner, needs) {
            shut.push((found.path, meta.owner.unwrap_or_default()));
        }
    }
    if let Some((first, ids)) = shut.first() {
        let below = first.strip_prefix(&survey.site).unwrap_or(first);
        let what = format!(
            "the owner of the site (user {}) cannot read {} files and folders, such as this one of user {}",
            owner.0,
            shut.len(),
            ids.0
        );
        let cure = format!("chown -R {}:{} {}", owner.0, owner.1, survey.site.display());
        out.add(Sureness::Likely, Finding::at(Code::FileNotReadable, what, below, cure));
    }
    let definition = &survey.recognised.definition;
    let written = definition.cache.iter().map(|c| &c.path).chain(definition.media.iter().map(|m| &m.path));
    for path in written.filter(|p| !p.contains(['*', '{'])) {
        let Ok(meta) = tree.stat(&survey.site.join(path), Links::Follow) else { continue };
        if meta.is_folder() && !may(&meta, owner, 0o7) {
            let what = format!("the system writes here, and the owner of the site (user {}) cannot", owner.0);
            let cure = format!("chown -R {}:{} {}", owner.0, owner.1, survey.site.join(path).display());
            out.add(Sureness::Likely, Finding::new(Code::FolderNotWritable, what, path, cure));
        }
    }
}

/// Whose the site is: of its folder, or where that is the administrator's of most of what lies in it.
fn owner_of(survey: &Survey) -> Option<Ids> {
    let own = survey.tree.stat(&survey.site, Links::Follow).ok()?.owner?;
    if own.0 != 0 {
        return Some(own);
    }
    let mut seen: std::collections::BTreeMap<Ids, usize> = std::collections::BTreeMap::new();
    let listed = survey.tree.list(&survey.site).ok()?;
    listed.iter().filter_map(|l| l.meta.owner).for_each(|ids| *seen.entry(ids).or_default() += 1);
    seen.into_iter().max_by_key(|(_, n)| *n).map(|(ids, _)| ids)
}

/// Says whether a user has rights on a thing. The machine's administrator has all.
fn may(meta: &Meta, (user, group): Ids, rights: u32) -> bool {
    let Some((owner, of)) = meta.owner else { return true };
    let has = |shift: u32| (meta.mode >> shift) & rights == rights;
    user == 0
        || (owner == user && has(6))
        || (owner != user && of == group && has(3))
        || (owner != user && of != group && has(0))
}

/// Files of caches that name the site's own files in another folder.
pub fn caches(survey: &Survey, out: &mut Diagnoses) {
    let tree = &survey.tree;
    let selection = Selection::of(&survey.recognised.definition, &Scope::default(), &survey.hosts.others());
    let mut read = 0;
    let mut elsewhere: BTreeSet<(String, String)> = BTreeSet::new();
    for found in tree.walk(&survey.site).flatten() {
        let below = found.path.strip_prefix(&survey.site).unwrap_or(&found.path);
        let made = matches!(selection.decide(below, false), Decision::Cache(_) | Decision::Generated(_));
        if !made || !found.meta.is_file() || found.meta.size > CACHE_BYTES || read == CACHE_FILES {
            continue;
        }
        read += 1;
        let Ok(text) = read_small(&**tree, &found.path, Links::Stay, CACHE_BYTES) else { continue };
        if let Some(other) = other_root(&text, survey) {
            elsewhere.insert((other, below.display().to_string()));
        }
    }
    if let Some((other, file)) = elsewhere.first() {
        let what = format!("{} files of caches were made for the site in {other}", elsewhere.len());
        let cure = format!("zporter switch {} cache=clear", survey.site.display());
        out.add(Sureness::Likely, Finding::new(Code::CacheOfOtherPlace, what, file, cure));
    }
}

/// The other folder in which a text knows a file that this site has.
fn other_root(text: &[u8], survey: &Survey) -> Option<String> {
    let text = String::from_utf8_lossy(text);
    let own = survey.site.display().to_string();
    let stops = |c: char| c.is_whitespace() || "\"'`,;:()<>[]{}|=".contains(c);
    let paths = text.split(stops).filter(|word| {
        word.starts_with('/')
            && word.matches('/').count() > 2
            && [".php", ".inc", ".tpl", ".twig"].iter().any(|e| word.ends_with(e))
    });
    for path in paths.take(200) {
        if path.starts_with(&own) || survey.tree.exists(Path::new(path)) {
            continue;
        }
        // At least a folder and a file have to be the same.
        let at: Vec<usize> = path.match_indices('/').map(|(at, _)| at).collect();
        let known = at
            .iter()
            .rev()
            .skip(1)
            .rev()
            .skip(1)
            .find(|at| survey.tree.exists(&survey.site.join(&path[**at + 1..])));
        if let Some(at) = known {
            return Some(path[..*at].to_string());
        }
    }
    None
}

/// Lines of the web server's files that lead to another host, or into a folder that the address does not have.
pub fn redirects(survey: &Survey, out: &mut Diagnoses) {
    let Some(address) = survey.base_address() else {
        return out.saw("redirects", "nobody could look: the address of the site is not known");
    };
    let files = FolderFiles(survey.tree.clone());
    for path in &survey.for_web_server {
        let shown = path.display().to_string();
        let Some(text) = files.read(&shown).filter(|t| t.len() as u64 <= CONFIG_FILE.bytes()) else {
            continue;
        };
        for (number, line) in String::from_utf8_lossy(&text).lines().enumerate() {
            let line = line.trim();
            let place = format!("{shown}, line {}", number + 1);
            let words: Vec<&str> = line.split_whitespace().collect();
            match words.as_slice() {
                ["RewriteBase", base, ..] if path.parent() == Some(Path::new("")) => {
                    let base = base.trim_matches('"').trim_end_matches('/');
                    if base != address.base() {
                        let what = format!(
                            "RewriteBase is {base}/, and the address is {address}: inner pages are not found"
                        );
                        let cure = format!("zporter settle {}", survey.site.display());
                        out.add(Sureness::Likely, Finding::new(Code::RedirectElsewhere, what, place, cure));
                    }
                }
                ["RewriteRule" | "Redirect" | "RedirectMatch" | "RedirectPermanent", rest @ ..] => {
                    // The host of the request is the site's own, once a visitor is there.
                    let own = |w: &str| w.trim_matches('"').replace("%{HTTP_HOST}", address.host());
                    let whole =
                        |w: &&str| own(w).split(['$', '%']).next().and_then(|w| Address::parse(w).ok());
                    let target = rest.iter().find_map(whole);
                    if let Some(target) = target.as_ref().filter(|t| leads_back(t, address)) {
                        let whole = target.to_string();
                        let to = whole.strip_suffix(target.base()).unwrap_or(&whole);
                        let what = format!(
                            "visitors are sent to {to}, and the site sends them to {address}: they go round in a circle"
                        );
                        let cure = format!(
                            "take the line out, or give the site that address: zporter settle {} --address {to}{}",
                            survey.site.display(),
                            address.base()
                        );
                        out.add(Sureness::Likely, Finding::new(Code::RedirectLoop, what, place, cure));
                    } else if let Some(target) = target.filter(|t| t.host() != address.host()) {
                        let what =
                            format!("visitors are sent to {}, and the site is {address}", target.host());
                        let cure = "take the line out, if it is not meant";
                        out.add(Sureness::Possible, Finding::new(Code::RedirectElsewhere, what, place, cure));
                    }
                }
                _ => {}
            }
        }
    }
}

/// Says whether an address is the site's own in another spelling, from which the site sends visitors to its own: with or without `www.`, or
/// by the other scheme.
fn leads_back(target: &Address, own: &Address) -> bool {
    let is_twin = own.twin().is_some_and(|twin| twin.host() == target.host());
    is_twin || (target.host() == own.host() && target.scheme() != own.scheme())
}

/// Room on the disk, and times that lie ahead.
pub fn room_and_clock(survey: &Survey, out: &mut Diagnoses) {
    if let Some(free) = survey.tree.free_space().filter(|free| *free < LITTLE_ROOM) {
        let what =
            format!("{free} bytes are free on the disk: sessions, caches and uploads cannot be written");
        let cure = format!("make room; what is heavy: zporter survey {}", survey.site.display());
        out.add(Sureness::Certain, Finding::at(Code::DiskFull, what, &survey.site, cure));
    }
    let now = SystemTime::now();
    let ahead = |meta: &Meta| meta.modified.duration_since(now).is_ok_and(|d| d.as_secs() > 24 * 3600);
    for file in &survey.config.files {
        if survey.tree.stat(&survey.site.join(file), Links::Follow).is_ok_and(|m| ahead(&m)) {
            let what = "was changed in the future, by the clock of this machine";
            let cure = "set the clock: log-ins and caches go by it";
            out.add(Sureness::Possible, Finding::new(Code::ClockWrong, what, file, cure));
        }
    }
}
