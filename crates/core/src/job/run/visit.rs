//! Runs a visit: what the job names is completed by what the caller knows.

use super::{RunError, World};
use crate::event::Watch;
use crate::options::VisitJob;
use crate::options::values::FullPath;
use crate::system::knowledge::Area;
use crate::visit::log_in::Person;
use crate::visit::{Input, Visited, visit};

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
    let input = Input {
        systems: &systems,
        agent: world.written_by().replace(' ', "/"),
        people,
        mail_off: false,
        version: None,
        back_offices: job.back_office.iter().cloned().collect(),
    };
    Ok(visit(job, &input, watch)?)
}
