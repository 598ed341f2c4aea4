//! Hands on what is carried of a folder, entry by entry.

use crate::archive::entry_path::EntryPath;
use crate::archive::read::{Entry, EntryKind};
use crate::copy_record;
use crate::finding::{Code, Finding, first_of};
use crate::select::Decision;

use crate::tree::{FileKind, Found, Links, Meta, OpenFile, Origin, Tree};
use std::io::Read;
use std::ops::ControlFlow;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

pub(super) fn entry(
    path: EntryPath,
    kind: EntryKind,
    size: u64,
    (mode, time): (u32, i64),
    content: &mut dyn Read,
) -> Entry<'_> {
    Entry {
        raw_name: path.shown(),
        path: Ok(Some(path)),
        kind,
        size,
        mode: Some(mode),
        time,
        content,
        origin: None,
    }
}

/// Takes an entry, and may stop.
pub type Take<'t> = &'t mut dyn FnMut(Entry<'_>) -> ControlFlow<()>;

/// A file that is opened when it is read, and not before.
pub(super) struct Lazy<'a> {
    origin: Origin<'a>,
    file: Option<Box<dyn OpenFile>>,
}

impl Read for Lazy<'_> {
    fn read(&mut self, buf: &mut [u8]) -> std::io::Result<usize> {
        let file = match &mut self.file {
            Some(file) => file,
            none => none.insert(self.origin.tree.open(self.origin.path, Links::Follow)?),
        };
        file.read(buf)
    }
}

/// Where a link in a folder leads, if that is a file or folder outside of it that does not hold the folder itself.
pub(super) fn leads_out(tree: &dyn Tree, link: &Path) -> Option<(PathBuf, Meta)> {
    let real = tree.real(link).ok()?;
    let whole = tree.real(tree.root()).ok()?;
    let meta = tree.stat(&real, Links::Follow).ok().filter(|m| m.is_file() || m.is_folder())?;
    (!real.starts_with(&whole) && !whole.starts_with(&real)).then_some((real, meta))
}

/// Says that something of the site could not be read, or that it went away since it was listed.
pub(crate) fn unreadable(path: &Path, error: Option<&std::io::Error>) -> Finding {
    match error {
        Some(e) if e.kind() == std::io::ErrorKind::NotFound => Finding::at(
            Code::FileVanished,
            "",
            path,
            "nothing, if the site removes such files by itself; else run it again",
        ),
        Some(e) => {
            let what = format!("could not be read and was left out: {e}");
            Finding::at(Code::FileUnreadable, what, path, "check its permissions and try again")
        }
        None => {
            let cure = "check its permissions and try again";
            Finding::at(Code::FileUnreadable, "could not be read and was left out", path, cure)
        }
    }
}

/// Says that a file was read up to so many of the bytes that it had a moment before.
pub(crate) fn shrank(
    path: &str,
    bytes: u64,
    listed: u64,
    filled: bool,
    cause: Option<&std::io::Error>,
) -> Finding {
    let rest = if filled { "; the rest of its entry is zeros" } else { "" };
    let what = match cause {
        None => format!("became shorter while it was read: {bytes} of {listed} bytes were left{rest}"),
        Some(e) => format!("could not be read on after {bytes} of {listed} bytes{rest}: {e}"),
    };
    Finding::new(Code::FileShrank, what, path, "run it again when the site is quiet, if the file matters")
}

/// Makes one finding of all files that vanished.
pub(crate) fn fold_vanished(findings: &mut Vec<Finding>) {
    const NAMED: usize = 5;
    let is_it = |f: &Finding| f.code == Code::FileVanished && f.what.is_empty();
    let Some(mut one) = findings.iter().find(|f| is_it(f)).cloned() else { return };
    let paths: Vec<String> = findings.iter().filter(|f| is_it(f)).map(|f| f.place.clone()).collect();
    findings.retain(|f| !is_it(f));
    if paths.len() == 1 {
        one.what = "went away while the site was read, and was left out".into();
    } else {
        one.what = format!("{} files went away while the site was read, and were left out", paths.len());
        one.place = first_of(&paths, NAMED);
    }
    findings.push(one);
}

/// Hands on a file. A clone opens its files itself, and says then which it could not read (`handed_on`); else it is opened here, and is as
/// large as it is by then.
pub(super) fn file_entry(
    path: EntryPath,
    origin: Origin<'_>,
    meta: &Meta,
    handed_on: bool,
    findings: &mut Vec<Finding>,
    take: Take<'_>,
) -> ControlFlow<()> {
    let mut file = Lazy { origin, file: None };
    let mut size = meta.size;
    if !handed_on {
        let opened = origin.tree.open(origin.path, Links::Follow);
        match opened.and_then(|open| Ok((open.meta()?.size, open))) {
            Ok((now, open)) => (size, file.file) = (now, Some(open)),
            Err(e) => {
                findings.push(unreadable(origin.path, Some(&e)));
                return ControlFlow::Continue(());
            }
        }
    }
    let held = entry(path, EntryKind::File, size, (meta.mode, meta.seconds()), &mut file);
    take(Entry { origin: Some(origin), ..held })
}

/// Hands on what is carried of a folder, below a folder of the archive.
pub(super) fn folder_entries(
    tree: &Arc<dyn Tree>,
    into: &str,
    decide: &dyn Fn(&Path, bool) -> Decision,
    shared: &dyn Fn(&Path, bool) -> bool,
    handed_on: bool,
    findings: &mut Vec<Finding>,
    take: Take<'_>,
) -> ControlFlow<()> {
    let into = EntryPath::trusted(into);
    let mut walk = tree.walk(tree.root());
    while let Some(found) = walk.next() {
        let Found { path: whole, meta } = match found {
            Ok(found) => found,
            Err(e) => {
                findings.push(unreadable(&e.path, Some(&e.source)));
                continue;
            }
        };
        let below = whole.strip_prefix(tree.root()).unwrap_or(&whole);
        // What a copy knows of itself is not part of the site.
        if below == Path::new(copy_record::NAME) {
            continue;
        }
        if decide(below, meta.is_folder()) != Decision::Copy {
            walk.skip_folder();
            continue;
        }
        let path = into.join(below.as_os_str().as_bytes());
        match meta.kind {
            FileKind::Folder => take(folder_entry(path, &meta, &mut std::io::empty()))?,
            FileKind::File => {
                file_entry(path, Origin { tree, path: &whole }, &meta, handed_on, findings, take)?;
            }
            FileKind::Link => {
                if let Some((real, meta)) =
                    leads_out(&**tree, &whole).filter(|(_, m)| shared(below, m.is_folder()))
                {
                    // The link would be of no use elsewhere; what it leads to is part of the site.
                    let what =
                        format!("is a link to {}; what lies there was packed in its place", real.display());
                    findings.push(Finding::at(
                        Code::LinkPackedAsContent,
                        what,
                        &whole,
                        "nothing; make the link anew at the new place if it shall be shared there",
                    ));
                    if meta.is_folder() {
                        let decide = |inner: &Path, is_folder: bool| decide(&below.join(inner), is_folder);
                        let shown = path.shown();
                        take(folder_entry(path, &meta, &mut std::io::empty()))?;
                        let real = tree.beside(&real);
                        folder_entries(&real, &shown, &decide, &|_, _| false, handed_on, findings, take)?;
                    } else {
                        file_entry(path, Origin { tree, path: &real }, &meta, handed_on, findings, take)?;
                    }
                    continue;
                }
                let bits = (meta.mode, meta.seconds());
                match tree.link_target(&whole) {
                    Ok(to) => take(entry(path, EntryKind::Symlink(to), 0, bits, &mut std::io::empty()))?,
                    Err(e) => findings.push(unreadable(&whole, Some(&e))),
                }
            }
            FileKind::Other => {
                findings.push(Finding::at(
                    Code::SpecialFileLeftOut,
                    "is a device, pipe or socket and was left out",
                    &whole,
                    "",
                ));
            }
        }
    }
    ControlFlow::Continue(())
}

pub(super) fn folder_entry<'c>(path: EntryPath, meta: &Meta, nothing: &'c mut dyn Read) -> Entry<'c> {
    entry(path, EntryKind::Folder, 0, (meta.mode, meta.seconds()), nothing)
}
