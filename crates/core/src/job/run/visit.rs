//! Runs a visit: what the job names is completed by what the caller knows.

use super::{Copied, LiveRun, RunError, World};
use crate::event::Event;
use crate::event::Watch;
use crate::finding::{Code, Finding};
use crate::options::CopyJob;
use crate::options::VisitJob;
use crate::options::values::FullPath;
use crate::restore::plan::RestorePlan;
use crate::system::Known;
use crate::system::copy::SwitchName;
use crate::system::knowledge::Area;
use crate::visit::log_in::Person;
use crate::visit::{Input, VisitError, Visited, visit};

/// What every visit is told.
fn input<'i>(systems: &'i [Known], world: &dyn World) -> Input<'i> {
    let agent = world.written_by().replace(' ', "/");
    Input { systems, agent, people: Vec::new(), server: None, mail_off: false, version: None }
}

/// Runs a visit.
pub fn run(job: &VisitJob, world: &dyn World, watch: &dyn Watch) -> Result<Visited, RunError> {
    let systems = world.definitions()?;
    let mut people = Vec::new();
    let named = [
        (Area::Back, &job.log_in, &job.log_in_password_file),
        (Area::Front, &job.member, &job.member_password_file),
    ];
    for (area, name, file) in named {
        if let (Some(name), Some(file)) = (name, file) {
            let file: &FullPath = file;
            people.push(Person { area, name: name.clone(), password: world.secret(file)? });
        }
    }
    let server = match (&job.server_name, &job.server_password_file) {
        (Some(name), Some(file)) => Some((name.clone(), world.secret(file)?)),
        _ => None,
    };
    Ok(visit(job, &Input { people, server, ..input(&systems, world) }, watch)?)
}

/// Visits a site that was just made elsewhere, if that was asked for. What is wrong with it is no failure of the job.
pub fn behind_copy(copied: &mut Copied, world: &dyn World, watch: &dyn Watch) -> Result<(), RunError> {
    let (visited, finding) = behind(&copied.plan, world, watch)?;
    copied.visited = visited;
    copied.findings.extend(finding);
    Ok(())
}

/// Visits a site that was just changed where it lies, if that was asked for.
pub(super) fn behind_change(
    changed: &mut LiveRun,
    world: &dyn World,
    watch: &dyn Watch,
) -> Result<(), RunError> {
    let (visited, finding) = behind(&changed.plan, world, watch)?;
    changed.visited = visited;
    changed.findings.extend(finding);
    Ok(())
}

/// Pages that are looked at behind another job.
const PAGES: usize = 100;

fn behind(
    plan: &RestorePlan,
    world: &dyn World,
    watch: &dyn Watch,
) -> Result<(Option<Box<Visited>>, Option<Finding>), RunError> {
    let options = &plan.job.options;
    if !options.visit {
        return Ok((None, None));
    }
    let way = &plan.relocation;
    let is_off = |name: SwitchName| options.set.iter().any(|s| s.name == name && s.state == "off");
    let job = VisitJob {
        at: options.at,
        any_certificate: options.any_certificate,
        pages: PAGES,
        copy: is_off(SwitchName::Index),
        old_address: way.old_addresses().filter(|a| **a != way.to.address).cloned().collect(),
        // A new folder that begins like the old one would be taken for it.
        old_root: way
            .old_roots()
            .filter(|r| !way.to.root.segments().starts_with(r.segments()))
            .cloned()
            .collect(),
        ..VisitJob::of(way.to.address.clone())
    };
    let systems = world.definitions()?;
    let input =
        Input { mail_off: is_off(SwitchName::Mail), version: plan.version.clone(), ..input(&systems, world) };
    let seen = visit(&job, &input, watch);
    watch.event(Event::StepDone);
    match seen {
        Ok(visited) => Ok((Some(Box::new(visited)), None)),
        Err(VisitError::Cancelled(e)) => Err(VisitError::Cancelled(e).into()),
        Err(e) => Ok((None, Some(unvisited(options, &e)))),
    }
}

fn unvisited(options: &CopyJob, error: &VisitError) -> Finding {
    let cure = match options.at {
        Some(_) => "look whether the web server runs there and knows the site; then: zporter visit",
        None => "where name servers do not know the new host yet, say where it is: --visit --at IP",
    };
    Finding::new(
        Code::PageFails,
        format!("the site could not be visited: {error}"),
        options.target.display().to_string(),
        cure,
    )
}
