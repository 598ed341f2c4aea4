//! The second act of a move: the source is closed, what has changed since the first act is carried, and the target is open. The time between is
//! what visitors notice.

use super::quiet::{Asked, Stays, during};
use super::{Copied, Failure, How, LOGBOOK, Refused, RunError, World, copy, pack};
use crate::change_log::ChangeLog;
use crate::event::{Event, Watch};
use crate::fsx::AtPath;
use crate::job::{Job, Kind};
use crate::logbook::{self, Outcome, Run, StepKind};
use crate::options::values::{FileOrPipe, FullPath, SwitchChoice};
use crate::options::{CopyJob, PackJob};
use crate::path_text::to_text;
use crate::place::{Address, Scheme};
use crate::survey::{SurveyJob, survey};
use crate::system::copy::SwitchName;
use crate::tree::write_whole;
use schemars::JsonSchema;
use serde::Serialize;
use std::cell::RefCell;
use std::path::{Path, PathBuf};
use std::time::Instant;

/// Something that is left to a person.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct LeftToDo {
    /// What it is about, in one or two words.
    pub about: String,
    /// What to do.
    pub what: String,
}

/// A move that was finished.
#[derive(Debug)]
pub struct Finished {
    /// The copy that is the site now, and what was carried in the second act.
    pub copied: Copied,
    /// The run of the first act.
    pub first: String,
    /// Seconds for which the site was closed on both sides.
    pub offline: f64,
    /// The run that closed the old site, which stays closed; none if the system has no such switch, or it was closed before.
    pub closed_by: Option<String>,
    /// Last archive of the old site.
    pub archive: Option<PathBuf>,
    /// The run that lets the old installation send its visitors on; none where both have one address.
    pub sends_on: Option<String>,
    /// What is left to a person.
    pub left: Vec<LeftToDo>,
}

/// Reads the options of the first act.
fn first_act(run: &str, world: &dyn World) -> Result<CopyJob, RunError> {
    let folder = world.data()?.join(LOGBOOK);
    let lines = logbook::read(&folder, run).ok_or_else(|| Refused::NoMove(run.into()))?;
    let done = lines.last().is_some_and(|l| l.step == logbook::StepKind::Done);
    if logbook::command_of(&lines) != Kind::Move.command() || !done {
        return Err(Refused::NoMove(run.into()).into());
    }
    let detail = lines.first().map(|l| l.detail.clone()).unwrap_or_default();
    let mut options = detail.as_object().cloned().unwrap_or_default();
    options.remove("command");
    match Kind::Move.job(options)? {
        Job::Move(options) => Ok(*options),
        _ => Err(Refused::NoMove(run.into()).into()),
    }
}

/// Closes the source, carries what has changed, and leaves the source closed. If that fails, the source is opened again.
pub fn finish(
    run: &str,
    retire: bool,
    how: How,
    world: &dyn World,
    watch: &dyn Watch,
) -> Result<Finished, Failure> {
    let first = first_act(run, world)?;
    let options = CopyJob { refresh: true, delete_gone: true, ..first.clone() };
    let job = SurveyJob { host_folder: options.host_folder.clone(), ..SurveyJob::default() };
    let known = world.definitions().map_err(RunError::from)?;
    let found = survey(&*world.tree(&options.source), &job, &known, watch).map_err(RunError::from)?;
    let definition = found.recognised.definition.clone();
    let has =
        definition.switch.iter().any(|s| s.name == SwitchName::Maintenance && s.states.contains_key("on"));
    let set = match has {
        true => vec![SwitchChoice { name: SwitchName::Maintenance, state: "on".into() }],
        false => Vec::new(),
    };
    let asked = Asked::of(options.source.clone(), options.host_folder.clone(), set);
    let open = RefCell::new(Vec::new());
    let work = |former: &[SwitchChoice]| {
        // From here on nobody is let in.
        let began = Instant::now();
        open.replace(former.to_vec());
        let copied = copy::run(&options, Kind::Clone, how, former, world, watch)?;
        Ok((copied, began.elapsed().as_secs_f64()))
    };
    let ((copied, offline), closed_by) = match how.dry_run || !has {
        true => (work(&[])?, None),
        false => during(&asked, how, Stays::IfItWorked, world, watch, work)?,
    };
    let mut left = Vec::new();
    let (old, address) = (&copied.plan.relocation.from.address, &copied.plan.relocation.to.address);
    let (mut archive, mut sends_on) = (None, None);
    if retire && !how.dry_run {
        archive = Some(last_archive(&options, &open.borrow(), world, watch)?);
        // Who asks for the same name would come round to the same place.
        if old != address {
            let root = found.site.join(&definition.served_from);
            sends_on = Some(send_on(&root, address, world)?);
        }
    }
    let mut add = |about: &str, what: String| left.push(LeftToDo { about: about.into(), what });
    add(
        "name servers",
        format!(
            "let A and AAAA of {} name the new host; check what else the name has (MX, TXT, CAA)",
            address.host()
        ),
    );
    add(
        "mail",
        format!("mail for {} goes where MX says: move the mailboxes, or leave MX as it is", address.host()),
    );
    add(
        "timers",
        "timers of the account call the old folder: `crontab -l` there, and the host's panel".into(),
    );
    if address.scheme() == Scheme::Https {
        add("certificate", format!("the new host needs one for {}", address.host()));
    }
    for more in &definition.afterwards {
        add(&more.about, more.what.clone());
    }
    if !has {
        add("the old site", "it is still open: its system has no switch for maintenance".into());
    }
    Ok(Finished { copied, first: run.into(), offline, closed_by, archive, sends_on, left })
}

/// Lets the web server of the old site send everybody to the new address, page for page.
fn send_on(root: &Path, address: &Address, world: &dyn World) -> Result<String, Failure> {
    let tree = world.tree(root);
    let path = root.join(".htaccess");
    let folder = world.data().map_err(RunError::from)?.join(LOGBOOK);
    let detail = serde_json::json!({ "target": to_text(root), "to": address.to_string() });
    let book = Run::begin(&folder, "retire", detail, world.clock()).map_err(RunError::from)?;
    book.step(StepKind::UnpackFiles, serde_json::json!({ "target": to_text(root), "was": "there" }))
        .map_err(RunError::from)?;
    let mut change_log = ChangeLog::of(&book).map_err(RunError::from)?;
    change_log.below(&tree).map_err(RunError::from)?;
    change_log.replace(&path).map_err(RunError::from)?;
    let text = format!(
        "# This site has moved to {address}. The file that was here comes back with: zporter undo {}\n\
         RewriteEngine On\nRewriteCond %{{REQUEST_URI}} !^/\\.well-known/\nRewriteRule ^(.*)$ {}/$1 [R=301,L,NE]\n",
        book.id(),
        address.to_string().trim_end_matches('/')
    );
    write_whole(&*tree, &path, text.as_bytes(), None).at(&path).map_err(RunError::from)?;
    change_log.seal().map_err(RunError::from)?;
    let run = book.id().to_string();
    book.end(Outcome::Done, serde_json::Value::Null).map_err(RunError::from)?;
    Ok(run)
}

/// Packs the old site once more, as it was when it was closed.
fn last_archive(
    options: &CopyJob,
    former: &[SwitchChoice],
    world: &dyn World,
    watch: &dyn Watch,
) -> Result<PathBuf, Failure> {
    watch.event(Event::StepStarted { step: "the old site's last archive", total: None });
    let job = PackJob {
        site: FullPath::of(&options.source),
        output: None::<FileOrPipe>,
        force: false,
        dump: None,
        database: options.old_database.clone(),
        database_password_file: options.old_database_password_file.clone(),
        note: "last archive before it moved".into(),
        old_address: options.old_address.clone(),
        host_folder: options.host_folder.clone().into_iter().collect(),
        storage: None,
        only: Vec::new(),
        without: Vec::new(),
        rows: Vec::new(),
        tables: options.tables.clone(),
        light: false,
        during: Vec::new(),
    };
    let packed = pack::run(&job, former, world, watch)?;
    Ok(packed.into_iter().next().map(|p| p.packed.archive).unwrap_or_default())
}
