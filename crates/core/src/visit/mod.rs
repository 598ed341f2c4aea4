//! A running site as a visitor sees it: every page that can be reached, what the pages need, and what is wrong with them. Nothing is changed,
//! and nothing but the site is asked.
//!
//! `walk` goes from page to page: [`bounds`] says what belongs to the site, `maps` and `queue` what comes next, [`ask`] follows redirects. `look`
//! judges a page, `symptoms` and `short` by what it says, `old` by what it names, `things` and `needs` what it needs, `leaked` what should not be
//! there; [`beside`] compares with the old site, [`log_in`] goes behind the log-in, [`naming`] asks name servers, [`pictures`] lets a browser draw.
//! [`gather`] puts it together.

pub mod ask;
pub mod beside;
pub mod bounds;
pub mod gather;
mod leaked;
mod lines;
pub mod log_in;
mod look;
mod maps;
pub mod naming;
mod needs;
mod old;
pub mod pictures;
mod queue;
mod short;
mod symptoms;
mod things;
mod walk;

use crate::diagnose::Sureness::{Certain, Likely};
use crate::event::{Cancelled, Event, Watch};
use crate::finding::Code;
use crate::options::VisitJob;
use crate::place::Address;
use crate::secret::Secret;
use crate::system::{Definition, Known};
use crate::trace;
use ask::Asker;
use beside::{Beside, OldSite};
use bounds::{Bounds, guard};
use gather::{Gathered, Sight, Sighting};
use log_in::{LoggedIn, Person, Ways};
use naming::Names;
use pictures::{Pictured, Side};
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;
use zporter_web::Url;
use zporter_web::certificate;
pub use zporter_web::client::NoAnswer;
use zporter_web::client::{Client, Pass, Settings};

/// Days before its end at which a certificate is told.
const ENDS_SOON: i64 = 21;

/// Things that are told for their weight.
const HEAVIEST: usize = 20;

/// What a visit came to.
#[derive(Debug, Default, Serialize, JsonSchema)]
pub struct Visited {
    /// Address of the site.
    pub address: String,
    /// Where its name was asked, if not where name servers say.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// Its system, where that is known.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub system: Option<String>,
    /// What is wrong, and what is good to know.
    pub sightings: Vec<Sighting>,
    /// Sightings that are counted only.
    pub untold: u64,
    /// Pages that were looked at.
    pub pages: Vec<PageLine>,
    /// What pages need, by kind.
    pub needs: BTreeMap<&'static str, NeedTally>,
    /// What weighs most of all that came.
    pub heaviest: Vec<Heavy>,
    /// Other hosts that pages need something of, and how often.
    pub others: BTreeMap<String, u64>,
    /// Bytes that came.
    pub bytes: u64,
    /// Addresses that the site map named and nothing before.
    pub mapped: u64,
    /// Pages that are known and were not looked at.
    pub unvisited: u64,
    /// Addresses that were left because there is no end of them.
    pub endless: u64,
    /// Links that were not followed because they might change something.
    pub changing: u64,
    /// The old site beside it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub beside: Option<Beside>,
    /// Log-ins.
    pub log_ins: Vec<LoggedIn>,
    /// What name servers say.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub names: Option<Names>,
    /// Pictures of pages.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub pictures: Vec<Pictured>,
    /// Why the home page did not answer at all.
    #[serde(skip)]
    unreached: Option<NoAnswer>,
    #[serde(skip)]
    generator: Option<String>,
    #[serde(skip)]
    map_names_old: u64,
    #[serde(skip)]
    unasked_needs: u64,
    #[serde(skip)]
    need_urls: Vec<Url>,
}

/// A page that was looked at.
#[derive(Debug, Clone, Default, Serialize, JsonSchema)]
pub struct PageLine {
    /// Address.
    pub url: String,
    /// The page that links there first.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// Status; 0 if nobody answered.
    pub status: u16,
    /// Where it leads, if it is a redirect.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub leads_to: Option<String>,
    /// Title.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub title: String,
    /// Bytes of its text.
    pub bytes: u64,
    /// How long it took.
    pub milliseconds: u64,
}

/// Something that weighs much.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct Heavy {
    /// Address.
    pub url: String,
    /// What it is.
    pub kind: &'static str,
    /// Bytes of it that came.
    pub bytes: u64,
}

/// How much of one kind pages need.
#[derive(Debug, Clone, Copy, Default, Serialize, JsonSchema)]
pub struct NeedTally {
    /// Asked for.
    pub asked: u64,
    /// Missing, or something else than it should be.
    pub missing: u64,
    /// Bytes that came.
    pub bytes: u64,
}

impl Visited {
    /// Takes note of what something weighs; the heaviest are kept.
    fn weighs(&mut self, url: &str, kind: &'static str, bytes: u64) {
        self.bytes += bytes;
        let least = self.heaviest.last().map_or(0, |h| h.bytes);
        if bytes == 0 || self.heaviest.len() >= HEAVIEST && bytes <= least {
            return;
        }
        let at = self.heaviest.partition_point(|h| h.bytes >= bytes);
        self.heaviest.insert(at, Heavy { url: url.to_string(), kind, bytes });
        self.heaviest.truncate(HEAVIEST);
    }
}

/// What only the caller knows.
pub struct Input<'i> {
    /// Definitions of systems.
    pub systems: &'i [Known],
    /// Name and version of the program.
    pub agent: String,
    /// Who logs in.
    pub people: Vec<Person>,
    /// Name and password for the web server itself.
    pub server: Option<(String, Secret)>,
    /// Whether mail is known to be off.
    pub mail_off: bool,
    /// The site's version, where somebody knows it.
    pub version: Option<String>,
}

/// Why there was no visit.
#[derive(Debug, thiserror::Error)]
pub enum VisitError {
    /// It was told to stop.
    #[error(transparent)]
    Cancelled(#[from] Cancelled),
    /// Nobody answers.
    #[error("{address} does not answer: {why}")]
    NoAnswer {
        /// Address.
        address: String,
        /// Why.
        why: NoAnswer,
    },
    /// The address is none that can be visited.
    #[error("{0} cannot be visited")]
    Address(Address),
    /// A picture cannot be written.
    #[error(transparent)]
    Path(#[from] crate::fsx::PathError),
    /// No system of that name.
    #[error("no system is called {0:?}")]
    System(String),
}

/// Looks at a running site.
pub fn visit(job: &VisitJob, input: &Input<'_>, watch: &dyn Watch) -> Result<Visited, VisitError> {
    if let Some(id) =
        job.system.as_deref().filter(|id| !input.systems.iter().any(|k| k.definition.id == **id))
    {
        return Err(VisitError::System(id.to_string()));
    }
    let mut old_addresses = job.old_address.clone();
    old_addresses.extend(job.beside.clone().filter(|b| *b != job.address && !old_addresses.contains(b)));
    old_addresses.retain(|a| *a != job.address);
    let bounds = Bounds::of(&job.address, &job.with_host, &old_addresses);
    let bounds = bounds.ok_or_else(|| VisitError::Address(job.address.clone()))?;
    let settings = Settings {
        connections: job.connections,
        patience: job.patience.duration().max(Duration::from_millis(100)),
        any_certificate: job.any_certificate,
        agent: input.agent.clone(),
        pass: input.server.as_ref().map(|(name, password)| {
            Pass::new(name, password.expose(), bounds.hosts().to_vec(), bounds::is_secure(&job.address))
        }),
    };
    let mut out = Visited {
        address: job.address.to_string(),
        at: job.at.map(|at| at.to_string()),
        system: job.system.clone(),
        ..Visited::default()
    };
    let mut gathered = Gathered::default();
    let guard = Arc::new(guard(&bounds, job.at));
    watch.event(Event::StepStarted { step: "visiting", total: None });
    if bounds::is_secure(&job.address) && !proves_itself(&bounds, &guard, &settings, &mut gathered)? {
        out.sightings = gathered.sorted();
        return Ok(out);
    }
    if job.dns {
        ask_names(job, &mut out, &mut gathered);
    }
    let delay = job.delay.map_or(Duration::ZERO, |d| d.duration());
    let asker = Asker { client: Client::new(&settings, guard.clone()), bounds: bounds.clone(), delay };
    let searched = searched(&old_addresses, job);
    let old = old_site(job, &settings, delay);
    let told = job.beside.as_ref().filter(|_| old.is_some());
    out.beside = told.map(|old| Beside { address: old.to_string(), ..Beside::default() });
    let known = look::Known {
        bounds: bounds.clone(),
        symptoms: symptoms::Symptoms::of(input.systems, job.system.as_deref()),
        old: searched.map(Arc::new),
        contained: begins_like(&job.address, &old_addresses),
        same_host: old_addresses.iter().any(|old| bounds.hosts().iter().any(|h| h == old.host())),
        copy: job.copy,
        mail_off: input.mail_off,
        slow: job.slow.duration(),
    };
    let walk = walk::Walk {
        asker,
        known,
        old,
        systems: input.systems,
        system: job.system.clone(),
        pages: job.pages.max(1),
        connections: job.connections.max(1),
        watch,
    };
    walk.run(&mut out, &mut gathered)?;
    if let Some(why) = out.unreached {
        return Err(VisitError::NoAnswer { address: job.address.to_string(), why });
    }
    if out.system.is_none() {
        out.system = told_system(input.systems, out.generator.as_deref());
    }
    for person in &input.people {
        // A session of its own: nobody is logged in twice.
        let client = Client::new(&settings, guard.clone());
        let asker = Asker { client, ..walk.asker.clone() };
        let ways = ways(job, input, out.system.as_deref());
        let (done, sights) = log_in::log_in(&asker, &walk.known, &ways, person, walk::PAGE);
        if let Some(done) = done {
            out.system.get_or_insert_with(|| done.system.clone());
            out.log_ins.push(done);
        }
        sights.into_iter().for_each(|(page, sight)| gathered.add(&page, None, sight));
    }
    if let Some(folder) = &job.pictures {
        let new = Side { bounds: &bounds, at: job.at, pass: settings.pass.as_ref() };
        let old_side =
            walk.old.as_ref().map(|old| Side { bounds: &old.asker.bounds, at: job.beside_at, pass: None });
        let taken = pictures::take(&new, old_side.as_ref(), &job.picture_of, folder, settings.patience)?;
        out.pictures = taken.pictures;
        taken.sights.into_iter().for_each(|(page, sight)| gathered.add(&page, None, sight));
    }
    out.untold = gathered.untold;
    out.sightings = gathered.sorted();
    Ok(out)
}

/// The old site, where the new one is compared with it.
fn old_site(job: &VisitJob, settings: &Settings, delay: Duration) -> Option<OldSite> {
    let old = job.beside.as_ref()?;
    let bounds = Bounds::of(old, &[], &[])?;
    let guard = Arc::new(bounds::guard(&bounds, job.beside_at));
    // The old host's certificate is nobody's concern any more, and its server does not hear what the new one asks for.
    let client = Client::new(&Settings { any_certificate: true, pass: None, ..settings.clone() }, guard);
    Some(OldSite::new(Asker { client, bounds, delay }, old, &job.address, 5_000))
}

/// Asks name servers.
fn ask_names(job: &VisitJob, out: &mut Visited, gathered: &mut Gathered) {
    let question = naming::Question {
        host: job.address.host(),
        twin: job.address.twin().map(|t| t.host().to_string()),
        wanted: job.at.map(|at| at.ip),
        resolvers: &job.resolver,
        own: &job.name_server,
    };
    let host = job.address.host().to_string();
    // One that takes long is told as one that does not answer.
    match naming::ask(&question, Duration::from_secs(3)) {
        Ok((names, sights)) => {
            out.names = Some(names);
            sights.into_iter().for_each(|s| gathered.add(&host, None, s));
        }
        Err(e) => gathered.add(
            &host,
            None,
            Sight::new(Code::NameServerFails, Likely, format!("name servers cannot be asked: {e}"), ""),
        ),
    }
}

/// The old place, as it is searched for; nothing where there is none.
fn searched(old: &[Address], job: &VisitJob) -> Option<crate::text::replacements::Replacements> {
    let mut addresses: Vec<Address> = Vec::new();
    for address in old {
        let twin = address.twin().filter(|t| t.host() != job.address.host());
        for address in std::iter::once(address.clone()).chain(twin) {
            if !addresses.contains(&address) {
                addresses.push(address);
            }
        }
    }
    let new: Vec<Address> =
        if begins_like(&job.address, &addresses) { vec![job.address.clone()] } else { Vec::new() };
    let any = !addresses.is_empty() || !job.old_root.is_empty();
    any.then(|| trace::old_place_beside(&addresses, &job.old_root, &new))
}

/// Whether a new address begins like an old one: the same host, with a further base path.
fn begins_like(new: &Address, old: &[Address]) -> bool {
    old.iter().any(|o| o.host_port() == new.host_port() && new.base().starts_with(&format!("{}/", o.base())))
}

/// Looks at the certificate. Says whether the visit goes on.
fn proves_itself(
    bounds: &Bounds,
    guard: &zporter_web::guard::Guard,
    settings: &Settings,
    gathered: &mut Gathered,
) -> Result<bool, VisitError> {
    let home = bounds.home.as_str();
    let host = bounds.home.host_str().unwrap_or_default();
    let port = bounds.home.port_or_known_default().unwrap_or(443);
    let shown = match certificate::look(guard, host.trim_matches(['[', ']']), port, settings.patience) {
        Ok(shown) => shown,
        Err(why) => return Err(VisitError::NoAnswer { address: home.to_string(), why }),
    };
    if let Some(why) = &shown.wrong {
        let names = shown.names.iter().take(4).map(|n| symptoms::shortened(n)).collect::<Vec<_>>().join(", ");
        let what = format!(
            "the certificate does not hold for the site: {why} (it is for {names}, until {})",
            shown.until.date()
        );
        let cure = match settings.any_certificate {
            true => "get one for this name before visitors come",
            false => "get one for this name; to look at the site all the same, say --any-certificate",
        };
        gathered.add(
            home,
            None,
            Sight::new(Code::CertificateWrong, Certain, what, cure)
                .because(format!("made by {}", symptoms::shortened(&shown.issuer))),
        );
        return Ok(settings.any_certificate);
    }
    let days = (shown.until - time::OffsetDateTime::now_utc()).whole_days();
    if days < ENDS_SOON {
        let what = format!("the certificate ends in {days} days, on {}", shown.until.date());
        gathered.add(
            home,
            None,
            Sight::new(
                Code::CertificateEnds,
                Likely,
                what,
                "look whether it is renewed by itself on this host",
            ),
        );
    }
    Ok(true)
}

/// The system that a page's own words name.
fn told_system(systems: &[Known], generator: Option<&str>) -> Option<String> {
    let generator = generator?.to_ascii_lowercase();
    let named = |k: &&Known| {
        let name = k.definition.name.to_ascii_lowercase();
        let first = name.split([' ', ',']).next().unwrap_or_default();
        first.len() > 2 && generator.starts_with(first)
    };
    systems.iter().find(named).map(|k| k.definition.id.clone())
}

/// How one may log in: by the system's own form, or, where nobody knows the system, by any that is there.
fn ways<'i>(job: &'i VisitJob, input: &'i Input<'_>, system: Option<&str>) -> Ways<'i> {
    let (own, others): (Vec<&Definition>, Vec<&Definition>) = input
        .systems
        .iter()
        .map(|k| &k.definition)
        .partition(|d| system.is_some_and(|id| d.id == id || d.name == id));
    let certain = !own.is_empty();
    let systems = if certain { own } else { others };
    Ways { certain, systems, version: input.version.as_deref(), back_office: job.back_office.as_deref() }
}
