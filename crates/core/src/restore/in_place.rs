//! A site that is brought back where it was: the new one is made beside it, folder and tables, and takes its place in the end. What was
//! there stays beside until somebody says that nobody needs it.
//!
//! Where a folder cannot be exchanged, files are replaced one by one, and each is kept; where a server exchanges no tables, a dump of
//! them is kept and they are loaded anew.

use super::RestoreError;
use super::job::RestoreJob;
use super::plan::RestorePlan;
use super::push;
use super::restored::Restored;
use super::rows::DatabaseSink;
use crate::archive::blob::LocalFile;
use crate::archive::format::{HEAD, Head};
use crate::archive::read;
use crate::change_log::ChangeLog;
use crate::database::journal::{FormerThing, former_things};
use crate::database::load::contents;
use crate::database::loading::AsideName;
use crate::database::servers;
use crate::event::Watch;
use crate::finding::{Code, Finding};
use crate::fsx::{self, AtPath, CopyMethod, PathError, folder_of};
use crate::logbook::{Line, Run, StepKind};
use crate::place::DatabaseAccess;
use crate::select::{Decision, Part, Scope, Selection};
use crate::survey::recognise::{ConfigFacts, config_facts, recognise};
use crate::survey::site_files::FolderFiles;
use crate::system::{Known, table_rule};
use crate::tree::{self, Capabilities, Links, LocalTree, Properties, Tree};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use std::io::Read;
use std::ops::ControlFlow;
use std::path::{Path, PathBuf};
use std::time::Instant;

/// How files come to a site that is there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Over {
    /// Into this folder beside it, which takes its place in the end.
    Beside(PathBuf),
    /// One by one, each that is there kept.
    EachFile,
}

/// Reads the head of an archive of ours; nothing of any other.
pub fn head(archive: &Path) -> Result<Option<Head>, RestoreError> {
    let mut found = None;
    read::entries::<()>(&LocalFile(archive), &crate::event::Silent, &mut |entry| {
        let is_head = entry.path.as_ref().is_ok_and(|p| p.as_ref().is_some_and(|p| p.shown() == HEAD));
        if is_head {
            let mut text = Vec::new();
            entry.content.take(1 << 20).read_to_end(&mut text)?;
            found = serde_json::from_slice(&text).ok();
        }
        Ok(ControlFlow::Break(()))
    })?;
    Ok(found)
}

/// Says whether something lies in a folder.
fn holds_something(tree: &dyn Tree, folder: &Path) -> bool {
    tree.list(folder).is_ok_and(|listed| !listed.is_empty())
}

/// A name in a folder that is not taken. Nobody takes it for a temporary one, because a site may come to lie there.
pub(super) fn beside(target: &Path) -> PathBuf {
    let name = target.file_name().unwrap_or_default().to_string_lossy();
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
    let mark = now.as_nanos() as u64 ^ u64::from(std::process::id()).rotate_left(32);
    target.with_file_name(format!(".{name}-beside-{:06x}", mark % 0xff_ffff))
}

/// The folder around what lies beside a site.
fn around(made: &Path) -> Option<&Path> {
    made.parent()
        .filter(|folder| folder.file_name().is_some_and(|n| n.to_string_lossy().contains("-beside-")))
}

/// Shuts the folder in which a site is made beside another for everybody but its owner.
pub(super) fn shut(made: &Path) -> Result<(), PathError> {
    use std::os::unix::fs::PermissionsExt;
    match around(made) {
        Some(folder) => std::fs::set_permissions(folder, std::fs::Permissions::from_mode(0o700)).at(folder),
        None => Ok(()),
    }
}

/// Decides how files come to the site in a folder; nothing where none is there.
pub fn over(tree: &dyn Tree, target: &Path, scope: &Scope) -> Option<Over> {
    if !scope.has_files() || !holds_something(tree, target) {
        return None;
    }
    let above = folder_of(target);
    let device = |path: &Path| fsx::identity(path).map(|(device, _)| device);
    let real = std::fs::symlink_metadata(target).is_ok_and(|m| m.is_dir());
    let same = device(above).is_some() && device(above) == device(target);
    let may = rustix::fs::access(above, rustix::fs::Access::WRITE_OK).is_ok();
    let whole = scope.only.is_empty() && scope.without.iter().all(|p| *p == Part::Database);
    Some(match whole && real && same && may && tree.is_here() {
        // In a folder that is only its owner's: the old site will lie there, perhaps below what a web server shows.
        true => Over::Beside(beside(target).join(target.file_name().unwrap_or_default())),
        false => Over::EachFile,
    })
}

/// Refuses a folder that holds something else than the site of the archive.
pub(super) fn guard(
    job: &RestoreJob,
    id: &str,
    root: Option<&str>,
    known: &[Known],
) -> Result<(), RestoreError> {
    let target = &job.options.target;
    if job.over.is_none() || root == Some(&*target.display().to_string()) {
        return Ok(());
    }
    match recognise(&FolderFiles(job.tree.beside(target)), known) {
        Ok(found) if found.definition.id == id => Ok(()),
        Ok(found) => Err(RestoreError::OtherSite { path: target.to_path_buf(), found: found.product }),
        Err(_) => {
            Err(RestoreError::OtherSite { path: target.to_path_buf(), found: "no known system".into() })
        }
    }
}

/// Chooses the database: that of the archive, or if it does not open that of the site that is there. Says which.
pub(super) fn choose_database(
    job: &RestoreJob,
    facts: &ConfigFacts,
    known: &[Known],
) -> Result<(DatabaseAccess, Option<Finding>), RestoreError> {
    let archives = facts.database.clone().map(|access| in_folder(access, &job.options.target));
    let files = FolderFiles(job.tree.beside(&job.options.target));
    let there = recognise(&files, known).ok().and_then(|r| config_facts(&files, &r.definition).database);
    let there = there.map(|access| in_folder(access, &job.options.target));
    let Some(first) = archives else {
        let there = there.ok_or(RestoreError::NoDatabaseTarget)?;
        let what = "the archive's config names no database; that of the site's own config is used";
        let finding = Finding::new(Code::OtherAccess, what, there.url(), "--database URL names another");
        return Ok((there, Some(finding)));
    };
    let opens = |access: &DatabaseAccess| contents(access).map(|_| ());
    let refusal = match opens(&first) {
        Ok(()) => return Ok((first, None)),
        Err(e) => e,
    };
    match there.filter(|t| t.url() != first.url() || t.password != first.password) {
        Some(other) if opens(&other).is_ok() => {
            let what = format!(
                "the database of the archive does not open ({refusal}); that of the site's own config is used"
            );
            let cure = "nothing, if the site moved since; else --database URL names another";
            let finding = Finding::new(Code::OtherAccess, what, other.url(), cure);
            Ok((other, Some(finding)))
        }
        _ => Err(RestoreError::Database(refusal)),
    }
}

/// A database that is a file, seen from the site.
fn in_folder(mut access: DatabaseAccess, folder: &Path) -> DatabaseAccess {
    if access.engine.facts().is_file {
        access.name = folder.join(&access.name).display().to_string();
    }
    access
}

/// Names under which tables are loaded, with a mark that nobody else has.
pub(super) fn names<'t>(tables: impl Iterator<Item = &'t String>) -> Vec<AsideName> {
    let mark = beside(Path::new("t"));
    let mark = mark.display().to_string();
    let mark = mark.rsplit('-').next().unwrap_or_default();
    let name = |(number, table): (usize, &String)| AsideName {
        table: table.clone(),
        new: format!("zp_{mark}_n{number}"),
        old: format!("zp_{mark}_o{number}"),
    };
    tables.enumerate().map(name).collect()
}

/// Says whether a server exchanges tables for this account.
pub(super) fn exchanges(access: &DatabaseAccess) -> Result<bool, RestoreError> {
    servers::loader(access).and_then(|mut loader| loader.exchanges()).map_err(RestoreError::Database)
}

/// The tables whose rows the archive left out: they stay as they are.
pub(super) fn emptied(head: &Head) -> BTreeSet<String> {
    head.left_out.iter().filter_map(|l| l.what.strip_prefix("rows of ").map(str::to_string)).collect()
}

/// Takes over from the site that is there what the archive left out on purpose: also logs, sessions and whatever else is not carried and
/// not made again. Caches begin empty: they were made by other programs.
pub(super) fn take_over(
    plan: &RestorePlan,
    left_out: &[crate::archive::format::LeftOut],
    change_log: &mut ChangeLog,
) -> Result<u64, RestoreError> {
    let (Some(Over::Beside(aside)), target) = (&plan.job.over, &plan.job.options.target) else {
        return Ok(0);
    };
    let live = plan.job.live.as_deref();
    let others = live.map_or_else(|| plan.hosts.others(), |live| live.hosts.others());
    // What was uploaded at a live site stays, whatever a copy has.
    let scope = Scope { only: Vec::new(), without: live.iter().map(|_| Part::Media).collect() };
    let selection = Selection::of(&plan.definition, &scope, &others);
    let since = plan.job.contents.as_ref().and_then(|c| push::made_at(&*c.survey.tree));
    let own = plan.job.options.push.then(|| push::files_that_stay(&plan.definition));
    let old = LocalTree::at(target);
    let new = plan.job.tree.clone();
    let mut taken = 0;
    for found in old.walk(target) {
        let found = match found {
            Ok(found) => found,
            Err(e) if e.source.kind() == std::io::ErrorKind::NotFound => continue,
            // What cannot be looked at would be missing from the site.
            Err(e) => return Err(e.into()),
        };
        let below = found.path.strip_prefix(&**target).unwrap_or(&found.path).to_path_buf();
        let to = aside.join(&below);
        if found.meta.is_folder() || new.there(&to).is_some() {
            continue;
        }
        let named =
            || left_out.iter().any(|l| below.starts_with(l.what.trim_end_matches('/')) && !l.what.is_empty());
        let wanted = match selection.decide(&below, false) {
            _ if own.as_ref().is_some_and(|own| own.is_match(&below)) => true,
            Decision::Generated(_) | Decision::OtherHost => true,
            Decision::Cache(_) => !selection.is_made_again(&below),
            Decision::Database => false,
            Decision::Media(_) if live.is_some() => true,
            // What came to the live site since the copy was made is nothing that somebody took out of the copy.
            _ if live.is_some() => since.is_some_and(|since| found.meta.seconds() > since),
            _ => named(),
        };
        if !wanted {
            continue;
        }
        change_log.folder(folder_of(&to))?;
        change_log.file(&to)?;
        let meta = found.meta;
        if meta.is_link() {
            new.link(&to, &old.link_target(&found.path).at(&found.path)?).at(&to)?;
        } else if meta.is_file() {
            let mut file = old.open(&found.path, Links::Stay).at(&found.path)?;
            let mut out = new.create(&to, 0o600).at(&to)?;
            tree::copy(&mut CopyMethod::default(), &mut *file, &mut *out, meta.size).at(&to)?;
            let Capabilities { owners, .. } = new.capabilities();
            let owner = meta.owner.filter(|_| owners);
            let properties =
                Properties { mode: Some(meta.mode & 0o777), modified: Some(meta.modified), owner };
            out.finish(&properties, false).at(&to)?;
        }
        taken += 1;
    }
    Ok(taken)
}

/// What takes whose place, as it is noted before.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct Exchange {
    /// Folder or file that was made, the one whose place it takes, and the number by which the new one is known.
    #[serde(with = "crate::path_text")]
    pub paths: Vec<(PathBuf, PathBuf, (u64, u64))>,
    /// Tables, with the database as a URL without password.
    pub database: Option<String>,
    /// Their names.
    pub tables: Vec<AsideName>,
    /// Those of them that were there before, by their own names; older records do not tell.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub former_tables: Option<BTreeSet<String>>,
    /// What views, triggers and so on were before.
    #[serde(skip)]
    pub former: Vec<FormerThing>,
}

impl Exchange {
    /// Reads it from the lines of a run.
    pub fn of(lines: &[Line]) -> Option<Self> {
        let line = lines.iter().find(|l| l.step == StepKind::Exchange)?;
        let read: Exchange = serde_json::from_value(line.detail.clone()).ok()?;
        Some(Exchange { former: former_things(lines), ..read })
    }

    /// What the run made, or once it has taken its place what was there before.
    pub fn beside(&self) -> Vec<PathBuf> {
        self.paths.iter().map(|(made, ..)| made.clone()).collect()
    }

    fn paths_take_place(&self) -> Result<(), PathError> {
        for (made, place, identity) in &self.paths {
            fsx::mend_exchange(made, place)?;
            if fsx::identity(made) == Some(*identity) {
                fsx::exchange(made, place)?;
            }
        }
        Ok(())
    }

    /// Folders and files that [`Exchange::back`] needs and that are not there, or are not what they were.
    pub fn missing_paths(&self) -> Vec<String> {
        let missing = |(made, place, identity): &(PathBuf, PathBuf, (u64, u64))| {
            if fsx::identity(made) == Some(*identity) {
                // It never took its place, or has left it again.
                return None;
            }
            if fsx::identity(place) != Some(*identity) {
                return Some(format!("{} as the run made it", place.display()));
            }
            std::fs::symlink_metadata(made).is_err().then(|| made.display().to_string())
        };
        self.paths.iter().filter_map(missing).collect()
    }

    /// The same of tables.
    ///
    /// # Errors
    /// Where the database cannot be asked.
    pub fn missing_tables(
        &self,
        access: Option<&DatabaseAccess>,
        ended: bool,
    ) -> Result<Vec<String>, RestoreError> {
        match access {
            _ if self.tables.is_empty() => Ok(Vec::new()),
            Some(access) => {
                let mut loader = servers::loader(access).map_err(RestoreError::Database)?;
                let former = self.former_tables.as_ref();
                loader.missing_aside(&self.tables, former, ended).map_err(RestoreError::Database)
            }
            None => Ok(vec!["the way into the database whose tables were exchanged".into()]),
        }
    }

    /// Lets what was there take its place again.
    pub fn back(&self, access: Option<&DatabaseAccess>) -> Result<(), RestoreError> {
        let access = access.filter(|_| !self.tables.is_empty());
        let mut loader = access.map(servers::loader).transpose().map_err(RestoreError::Database)?;
        if let Some(loader) = &mut loader {
            loader.exchange_back(&self.tables, &self.former).map_err(RestoreError::Database)?;
        }
        for (made, place, identity) in self.paths.iter().rev() {
            fsx::mend_exchange(made, place)?;
            if fsx::identity(place) == Some(*identity) {
                fsx::exchange(made, place)?;
            }
        }
        loader.map_or(Ok(()), |mut loader| loader.mark_kept(&self.tables)).map_err(RestoreError::Database)
    }

    /// Takes away what lies beside.
    pub fn forget(&self, access: Option<&DatabaseAccess>) -> Result<(), RestoreError> {
        if let (Some(access), false) = (access, self.tables.is_empty()) {
            let mut loader = servers::loader(access).map_err(RestoreError::Database)?;
            loader.forget(&self.tables).map_err(RestoreError::Database)?;
        }
        for (made, ..) in &self.paths {
            match std::fs::symlink_metadata(made) {
                Ok(meta) if meta.is_dir() => remove_whole(made)?,
                Ok(_) => std::fs::remove_file(made).at(made)?,
                Err(_) => {}
            }
            if let Some(around) = around(made) {
                let _ = std::fs::remove_dir(around);
            }
        }
        Ok(())
    }
}

/// Takes a folder away, read-only ones in it as well.
fn remove_whole(folder: &Path) -> Result<(), PathError> {
    use std::os::unix::fs::PermissionsExt;
    if std::fs::remove_dir_all(folder).is_ok() {
        return Ok(());
    }
    for found in LocalTree::at(folder).walk(folder).flatten().filter(|f| f.meta.is_folder()) {
        let _ = std::fs::set_permissions(&found.path, std::fs::Permissions::from_mode(0o700));
    }
    std::fs::remove_dir_all(folder).at(folder)
}

/// Lets what was made take its place, all at once as nearly as can be, and tells how long that took.
pub(super) fn exchange(
    plan: &RestorePlan,
    sink: DatabaseSink,
    change_log: &ChangeLog,
    book: &Run,
    total: &mut Restored,
    watch: &dyn Watch,
) -> Result<(), RestoreError> {
    let mut exchange = Exchange::default();
    let (mut loader, sink) = sink.into_loader();
    if let Some(loader) = &mut loader {
        loader.count().map_err(RestoreError::Database)?;
    }
    if let Some(Over::Beside(made)) = &plan.job.over {
        exchange.paths.extend(noted(made, &plan.job.options.target));
    }
    if let Some((made, place)) = plan.database_file_beside() {
        exchange.paths.extend(noted(&made, &place));
    }
    if loader.is_some() && !plan.tables.beside.is_empty() {
        exchange.database = plan.job.database.as_ref().map(DatabaseAccess::url);
        let (stay, go): (Vec<AsideName>, Vec<AsideName>) =
            plan.tables.beside.iter().cloned().partition(|n| stays_as_it_is(plan, &n.table, total));
        let was_there = |n: &&AsideName| plan.tables.replaced.contains(&n.table);
        exchange.former_tables = Some(go.iter().filter(was_there).map(|n| n.table.clone()).collect());
        exchange.tables = go;
        loader.as_mut().map_or(Ok(()), |loader| loader.stay(&stay)).map_err(RestoreError::Database)?;
    }
    let waits = (!exchange.tables.is_empty()).then(|| loader.take()).flatten();
    // What is loaded whole before is closed before, as well: a file would be moved from under its connection.
    match loader {
        Some(loader) => DatabaseSink::Server(Some(loader)).finish(total, change_log)?,
        None => sink.finish(total, change_log)?,
    }
    let mut loader = waits;
    change_log.seal()?;
    crate::event::go_on(watch).map_err(read::ReadError::from)?;
    let detail = serde_json::to_value(&exchange).unwrap_or_default();
    book.step(StepKind::Exchange, detail)?;
    let began = Instant::now();
    if let Some(loader) = &mut loader {
        loader.exchange(&exchange.tables).map_err(RestoreError::Database)?;
    }
    exchange.paths_take_place()?;
    total.exchanged = Some(began.elapsed().as_secs_f64());
    match loader {
        Some(mut loader) => {
            loader.mark_kept(&exchange.tables).map_err(RestoreError::Database)?;
            DatabaseSink::Server(Some(loader)).finish(total, change_log)
        }
        None => Ok(()),
    }
}

/// Says whether a table stays because the archive brought no rows of it, as it does of those that a copy can do without. Those of caches
/// go: other programs filled them.
fn stays_as_it_is(plan: &RestorePlan, table: &str, total: &Restored) -> bool {
    let before = plan.prefix.as_ref().map_or_else(|| table.to_string(), |change| change.former(table));
    let before = before.as_str();
    let rule = table_rule(&plan.definition, &plan.table_prefix, before);
    let rows =
        [table, before].iter().filter_map(|t| total.tally.tables.get(*t)).map(|t| t.rows).max().unwrap_or(0);
    rule.is_some_and(|r| !r.cache) && rows == 0 && plan.tables.replaced.contains(table)
}

fn noted(made: &Path, place: &Path) -> Option<(PathBuf, PathBuf, (u64, u64))> {
    Some((made.to_path_buf(), place.to_path_buf(), fsx::identity(made)?))
}

/// Why tables are loaded anew in the old way.
pub(super) fn no_exchange(access: &DatabaseAccess) -> Finding {
    let what = "tables are not exchanged in one step: this server or account cannot do that; they are replaced one by one, and a dump of them is kept";
    let cure =
        "put the site into maintenance while it runs, or give the account the rights CREATE, ALTER and DROP";
    Finding::new(Code::NoExchange, what, access.url(), cure)
}
