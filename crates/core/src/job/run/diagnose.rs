//! Runs a diagnosis: every look in the order in which an administrator would, and at the end what a settling would change.

use super::{How, RunError, World, live, visit};
use crate::diagnose::{Diagnoses, Sureness, files, logs, look, php, rows};
use crate::event::Watch;
use crate::finding::{Code, Finding};
use crate::options::values::{At, FullPath, Seconds};
use crate::options::{SettleJob, VisitJob};
use crate::survey::{Survey, SurveyJob, survey};
use std::path::Path;

/// Looks why a site does not open. Nothing is changed.
pub fn diagnose(
    site: &Path,
    job: &SurveyJob,
    at: Option<At>,
    world: &dyn World,
    watch: &dyn Watch,
) -> Result<(Survey, Diagnoses), RunError> {
    let found = survey(&*world.tree(site), job, &world.definitions()?, watch)?;
    let mut out = Diagnoses::default();
    look(&mut out, "config files", |out| files::configs(&found, out));
    look(&mut out, "server", |out| rows::server(&found, out));
    look(&mut out, "table prefix", |out| rows::prefix(&found, out));
    look(&mut out, "damaged tables", |out| rows::damage(&found, out));
    look(&mut out, "address", |out| rows::address(&found, out));
    look(&mut out, "place", |out| place(site, job, &found, out, world, watch));
    look(&mut out, "redirects", |out| files::redirects(&found, out));
    look(&mut out, "themes and templates", |out| rows::needed(&found, out));
    look(&mut out, "rights", |out| files::rights(&found, out));
    look(&mut out, "caches", |out| files::caches(&found, out));
    look(&mut out, "room and clock", |out| files::room_and_clock(&found, out));
    look(&mut out, "PHP", |out| php::php(&found, out));
    look(&mut out, "logs", |out| logs::logs(&found, out));
    look(&mut out, "pages", |out| pages(&found, at, out, world, watch));
    look(&mut out, "risks", |out| {
        for risk in found.risks.iter().chain(&found.foreign) {
            out.add(Sureness::Possible, risk.clone());
        }
    });
    out.found.sort_by_key(|d| d.sure);
    Ok((found, out))
}

/// Pages that are looked at, and how long one may take.
const PAGES: usize = 5;
const PATIENCE: f64 = 5.0;

/// Opens a few pages, where the site's address answers.
fn pages(found: &Survey, at: Option<At>, out: &mut Diagnoses, world: &dyn World, watch: &dyn Watch) {
    let Some(address) = found.base_address() else {
        return out.saw("pages", "nobody could look: the address is not known");
    };
    let job = VisitJob {
        at,
        any_certificate: true,
        pages: PAGES,
        patience: Seconds(PATIENCE),
        system: Some(found.recognised.definition.id.clone()),
        ..VisitJob::of(address.clone())
    };
    match visit::run(&job, world, watch) {
        Ok(visited) => {
            for seen in visited.sightings.into_iter().filter(|s| s.finding.needs_attention()) {
                out.add(seen.sure, seen.finding);
            }
        }
        Err(e) => out.saw("pages", format!("nobody could look: {e}")),
    }
}

/// Compares where config and rows believe to live with where the site lies: what would be settled?
fn place(
    site: &Path,
    job: &SurveyJob,
    found: &Survey,
    out: &mut Diagnoses,
    world: &dyn World,
    watch: &dyn Watch,
) {
    if job.dump.is_some() || found.tables.is_empty() {
        return out.saw("place", "nobody could look: the running database was not read");
    }
    let settle = SettleJob::of(FullPath::of(site), job.host_folder.clone());
    let how = How { dry_run: true, samples: 0 };
    let done = match live::settle(&settle, how, world, watch) {
        Ok(done) => done,
        Err(failure) => return out.saw("place", format!("nobody could look: {failure}")),
    };
    let rows: u64 = done.changed.rows.values().sum();
    let files = done.changed.as_copy.config.len() as u64;
    let way = &done.plan.relocation;
    if rows + files > 0 {
        let root = way.other_roots.iter().chain([&way.from.root]).find(|r| **r != way.to.root);
        let believed = root.map_or(String::new(), |r| format!(", and believes to live in {r}"));
        let what = format!("{rows} rows and {files} files speak of another place{believed}");
        let cure = format!(
            "zporter settle {} --dry-run shows them; without --dry-run it puts them right",
            site.display()
        );
        let sure = if files > 0 { Sureness::Likely } else { Sureness::Possible };
        out.add(sure, Finding::new(Code::SettleNeeded, what, site.display().to_string(), cure));
    }
}
