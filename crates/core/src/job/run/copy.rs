//! Runs a restore or a clone: the world completes the options, the plan is made, shown or carried out.

use super::kept;
use super::{
    Begun, Failure, How, Refused, RunError, World, back, begin, lock, named_database, readable_dump,
};
use crate::contents::{GatherOptions, SiteContents, gather};
use crate::copy_record::Record;
use crate::event::Watch;
use crate::finding::Finding;
use crate::job::{Job, JobError, Kind};
use crate::options::CopyJob;
use crate::options::values::{FullPath, SwitchChoice};
use crate::path_text::to_text;
use crate::place::Address;
use crate::restore::RestoreError;
use crate::restore::in_place::{self, Over};
use crate::restore::job::RestoreJob;
use crate::restore::overwrites::Overwrites;
use crate::restore::owner;
use crate::restore::plan::RestorePlan;
use crate::restore::planning::plan;
use crate::restore::push;
use crate::restore::restored::Restored;
use crate::restore::run as work;
use crate::restore::stays_live;
use crate::survey::{Survey, SurveyJob, survey};
use crate::table_scope::{TableScope, Whose};
use crate::tree::noticing;
use crate::visit::Visited;
use std::path::Path;
use std::sync::Arc;

/// A site that was made elsewhere, or what would be made.
#[derive(Debug)]
pub struct Copied {
    /// `restore` or `clone`.
    pub kind: Kind,
    /// The plan.
    pub plan: RestorePlan,
    /// What came of it, or would.
    pub done: Restored,
    /// Everything that a person should know.
    pub findings: Vec<Finding>,
    /// The run; none of a preview.
    pub run: Option<String>,
    /// The site as a visitor sees it, where that was asked for.
    pub visited: Option<Box<Visited>>,
}

/// Gathers the site that is cloned.
fn contents(
    options: &CopyJob,
    former: &[SwitchChoice],
    world: &dyn World,
    watch: &dyn Watch,
) -> Result<SiteContents, RunError> {
    let job = SurveyJob {
        dump: options.dump.as_deref().map(|p| p.to_path_buf()),
        host_folder: options.host_folder.clone(),
        without: Some(options.target.to_path_buf()),
        database: named_database(
            &options.old_database,
            options.old_database_password_file.as_deref(),
            world,
        )?,
        by_hand: options.by_hand(),
        ..SurveyJob::default()
    };
    let found = survey(&*world.tree(&options.source), &job, &world.definitions()?, watch)?;
    // A copy that lies beside in the same database is no part of its site.
    let kept = kept::recorded(world, found.config.database.as_ref())?;
    let whose = Whose::but(kept).and_copies(options.table_prefix.clone());
    let how = GatherOptions {
        dump: options.dump.as_deref(),
        scope: options.scope(),
        tables: TableScope {
            rows: &options.rows,
            light: options.light,
            taken: &options.tables,
            whose: &whose,
        },
        storage: None,
        note: "",
        packed_at: world.clock()(),
        written_by: world.written_by(),
        address: options.old_address.as_ref(),
        former,
        host_named: options.host_folder.is_some(),
    };
    Ok(gather(found, &how, &world.temporary(), true, watch)?)
}

/// Looks at the live site that a copy is pushed over, and takes from it what the copy gets: address and prefix.
fn live_site(options: &mut CopyJob, world: &dyn World, watch: &dyn Watch) -> Result<Survey, RunError> {
    let record = push::guard(&*world.tree(&options.source), &options.target)?;
    // A copy knows the address that it was made with.
    options.old_address = options.old_address.take().or(Address::parse(&record.address).ok());
    let job = SurveyJob { host_folder: options.host_folder.clone(), ..SurveyJob::default() };
    let live = survey(&*world.tree(&options.target), &job, &world.definitions()?, watch)?;
    options.address = live.base_address().cloned();
    options.table_prefix = Some(live.config.table_prefix.clone()).filter(|prefix| !prefix.is_empty());
    Ok(live)
}

/// Completes a job by what the world knows. The site of a clone is read for it.
pub fn prepare(
    options: &CopyJob,
    kind: Kind,
    former: &[SwitchChoice],
    world: &dyn World,
    watch: &dyn Watch,
) -> Result<RestoreJob, RunError> {
    let mut options = options.clone();
    let head = match options.in_place {
        true => in_place::head(&options.source)?,
        false => None,
    };
    if let Some(head) = &head {
        if options.target.as_os_str().is_empty() {
            options.target = FullPath::of(Path::new(&head.place.root));
        }
        options.address = options.address.or_else(|| head.place.address.clone());
    }
    if options.target.as_os_str().is_empty() {
        return Err(JobError::Missing("target".into()).into());
    }
    let live = match options.push {
        true => Some(Arc::new(live_site(&mut options, world, watch)?)),
        false => None,
    };
    let tree = noticing(world.tree(&options.target));
    if options.refresh
        && let Some(record) = Record::read(&*tree)
    {
        // A copy knows what it was made with.
        options.complete_by(&record)?;
    }
    tree.untroubled()?;
    let address = options.address.clone().ok_or_else(|| JobError::Missing("address".into()))?;
    if let Some(dump) = &options.dump {
        readable_dump(dump)?;
    }
    if let Some(dump) = &options.dump_to
        && super::named_like_archive(dump)
    {
        return Err(super::Refused::NamedLikeArchive(dump.to_path_buf()).into());
    }
    let contents = match kind {
        Kind::Clone | Kind::Move => Some(Arc::new(contents(&options, former, world, watch)?)),
        _ => None,
    };
    let of_live = live.as_ref().and_then(|live| live.config.database.clone());
    let mut database = options.database.clone().map(|url| url.0);
    if let Some(access) = &mut database {
        world.log_in(access, options.database_password_file.as_deref())?;
    }
    let database = database.or(of_live);
    let whose = Whose::but(kept::tables(world, database.as_ref())?);
    let scope = options.scope();
    let over = match options.in_place || options.push {
        true => in_place::over(&*tree, &options.target, &scope),
        false => None,
    };
    let tree = match &over {
        Some(Over::Beside(folder)) => noticing(world.tree(folder)),
        _ => tree,
    };
    Ok(RestoreJob {
        tree,
        over,
        live: live.clone(),
        address,
        database,
        // A clone has taken its dump already.
        dump: options.dump.as_deref().filter(|_| contents.is_none()).map(|p| p.to_path_buf()),
        contents,
        scope,
        in_place: None,
        owner: options.owner.as_deref().map(owner::named).transpose().map_err(Refused::from)?,
        verify_first: false,
        whose,
        admin_password: options.admin_password_file.as_deref().map(|file| world.secret(file)).transpose()?,
        options,
    })
}

/// Plans, and carries the plan out or shows what it would do.
pub(super) fn run(
    options: &CopyJob,
    kind: Kind,
    how: How,
    former: &[SwitchChoice],
    world: &dyn World,
    watch: &dyn Watch,
) -> Result<Copied, Failure> {
    let mut job = prepare(options, kind, former, world, watch)?;
    // A preview reads no files, and would say nothing of their state.
    job.verify_first = how.dry_run;
    let things =
        [Some(to_text(&job.options.target).into_owned()), job.database.as_ref().map(|access| access.url())];
    let locks = if how.dry_run { Vec::new() } else { lock(world, &things)? };
    let known = world.definitions().map_err(RunError::from)?;
    let mut plan = plan(job, &known, watch)?;
    if kind == Kind::Clone && !plan.job.options.refresh && !plan.job.options.push {
        let stays = stays_live::findings(&plan);
        plan.findings.extend(stays);
    }
    if kind == Kind::Clone && (plan.job.options.refresh || plan.job.options.push) {
        let over = Overwrites::of(&plan).map_err(RunError::from)?;
        let asked = plan.job.options.overwrite;
        if !over.is_nothing() && !asked && !how.dry_run {
            let place = plan.job.options.target.display().to_string();
            return Err(RunError::from(Refused::Overwrites { place, over: Box::new(over) }).into());
        }
        plan.findings.extend(over.findings(!how.dry_run));
    }
    let plan = plan;
    if how.dry_run {
        let done = work::preview(&plan, how.samples, watch)?;
        let findings = done.all_findings(&plan);
        return Ok(Copied { kind, plan, done, findings, run: None, visited: None });
    }
    let saved = match kind {
        Kind::Clone => Job::Clone(Box::new(plan.job.options.clone())),
        Kind::Move => Job::Move(Box::new(plan.job.options.clone())),
        _ => Job::Restore(Box::new(plan.job.options.clone())),
    };
    let detail = serde_json::Value::Object(saved.options());
    let begun: Begun = begin(kind, detail, locks, world)?;
    match work::run(&plan, how.samples, &begun.book, watch) {
        Ok(done) => {
            let detail = serde_json::json!({ "target": to_text(&done.target), "files": done.files, "bytes": done.bytes, "rows": done.tally.rows(), "changed": done.tally.changed() });
            let run = Some(begun.done(detail)?);
            let findings = done.all_findings(&plan);
            Ok(Copied { kind, plan, done, findings, run, visited: None })
        }
        Err(e) => {
            let damaged = matches!(e, RestoreError::Damaged { .. });
            let mut failure = begun.failed(e, true, watch);
            if let (true, Some(run)) = (damaged, failure.run.clone()) {
                // What came of a damaged archive is of no use to anybody.
                failure.begun = back::take_back(&run, plan.job.database.as_ref(), world).is_err();
            }
            Err(failure)
        }
    }
}
