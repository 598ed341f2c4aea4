//! `zporter visit`: a running site as a visitor sees it.

use super::jobs;
use crate::app::Output;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::format::{bytes, count, number};
use crate::job_args::{JobArgs, Visit};
use crate::render::{Style, text};
use crate::report::{Block, Facts, Report};
use clap::Args;
use std::net::IpAddr;
use zporter_core::finding::Finding;
use zporter_core::job::Job;
use zporter_core::place::{Address, Scheme};
use zporter_core::visit::Visited;
use zporter_core::visit::beside::Beside;
use zporter_core::visit::gather::Sighting;
use zporter_core::visit::naming::{Names, Record};

/// Look at a running site as a visitor sees it: its pages, what they need, what is wrong; before name servers know it with --at
#[derive(Debug, Args)]
pub struct VisitArgs {
    #[command(flatten)]
    job: JobArgs<Visit>,
    /// Only print the line for a hosts file and a virtual host for a web server, for a look with a browser
    #[arg(long, help_heading = "How it is reached")]
    hosts_line: bool,
    #[command(flatten)]
    told: jobs::ToldArgs,
}

/// Runs the command.
pub fn run(style: Style, args: &VisitArgs) -> Result<Output, CommandError> {
    if args.hosts_line {
        let Job::Visit(job) = args.job.job()? else { return Ok(Output::Printed(Exit::Done)) };
        let Some(at) = job.at else {
            return Err(
                CommandError::usage("--hosts-line needs to know where the host is").hint("say --at IP")
            );
        };
        text::print(&hosts_line(&job.address, at.ip, at.port));
        return Ok(Output::Printed(Exit::Done));
    }
    Ok(jobs::run(style, &args.job, &args.told)?.into())
}

/// The line for a hosts file, and a virtual host.
fn hosts_line(address: &Address, ip: IpAddr, port: Option<u16>) -> String {
    let twin = address.twin().map(|t| format!(" {}", t.host())).unwrap_or_default();
    let secure = address.scheme() == Scheme::Https;
    let port = port.or(address.port()).unwrap_or(if secure { 443 } else { 80 });
    let host = address.host();
    let certificate = match secure {
        true => format!(
            "    SSLEngine on\n    SSLCertificateFile /etc/ssl/{host}.pem\n    SSLCertificateKeyFile /etc/ssl/{host}.key\n"
        ),
        false => String::new(),
    };
    format!(
        "# For a look with a browser of this machine, until name servers know the host: a line for the hosts file.\n\
         # Take it out again when they do.\n{ip} {host}{twin}\n\n\
         # For Apache on the new host: the site by its name; put the folder of the site in.\n\
         <VirtualHost *:{port}>\n    ServerName {host}\n    DocumentRoot /path/to/the/site\n    <Directory /path/to/the/site>\n        AllowOverride All\n        Require all granted\n    </Directory>\n{certificate}</VirtualHost>\n"
    )
}

/// What a sighting says, as a finding: with how sure it is, on how many pages, and from where one comes there.
pub fn told(sighting: &Sighting) -> Finding {
    let mut finding = sighting.finding.clone();
    let pages =
        if sighting.pages > 1 { format!(", on {}", count(sighting.pages, "page")) } else { String::new() };
    finding.what = format!("{} ({}{pages})", finding.what, sighting.sure.word());
    let from = sighting.from.as_ref().map(|from| format!("linked by {from}"));
    finding.cause = [Some(finding.cause).filter(|c| !c.is_empty()), from]
        .into_iter()
        .flatten()
        .collect::<Vec<_>>()
        .join("; ");
    finding
}

/// Tells of a visit.
pub fn report(visited: &Visited) -> Result<Report, CommandError> {
    let wrong = visited.sightings.iter().filter(|s| s.finding.needs_attention()).count() as u64;
    let needs: u64 = visited.needs.values().map(|n| n.asked).sum();
    let seen =
        format!("{} and {} that they need", count(visited.pages.len() as u64, "page"), count(needs, "file"));
    let verdict = match (visited.pages.len(), wrong) {
        (0, _) => format!("{} was not visited", visited.address),
        (_, 0) => format!("Visited {}: {seen}, nothing wrong", visited.address),
        _ => format!("Visited {}: {seen}", visited.address),
    };
    let mut report = Report::new("visit", verdict, visited)?;
    add_to(&mut report, visited);
    Ok(report)
}

/// Adds what a visit saw to a report.
pub fn add_to(report: &mut Report, visited: &Visited) {
    report.findings.extend(visited.sightings.iter().map(told));
    let mut facts = Facts::default();
    facts.add("address", visited.address.clone());
    facts.maybe("asked at", visited.at.clone());
    facts.maybe("system", visited.system.clone());
    facts.add("came", bytes(visited.bytes));
    if !visited.others.is_empty() {
        let all: Vec<String> = visited
            .others
            .iter()
            .take(6)
            .map(|(host, n)| format!("{host} ({})", count(*n, "time")))
            .collect();
        facts.add("other hosts", format!("{}; not asked", all.join(", ")));
    }
    if visited.changing > 0 {
        facts.add(
            "not opened",
            format!("{} that may change something or log out", count(visited.changing, "link")),
        );
    }
    for log_in in &visited.log_ins {
        let came = if log_in.worked {
            format!("works, {} behind it", count(log_in.behind.len() as u64, "page"))
        } else {
            "does not work".into()
        };
        let who = match log_in.area {
            zporter_core::system::knowledge::Area::Back => "administrator",
            zporter_core::system::knowledge::Area::Front => "member",
        };
        facts.add("log-in", format!("{who} of {}: {came}", log_in.system));
    }
    report.section("Visit", facts.block());
    let page_bytes: u64 = visited.pages.iter().map(|p| p.bytes).sum();
    let pages = (
        "page",
        visited.pages.len() as u64,
        visited.pages.iter().filter(|p| p.status >= 400 || p.status == 0).count() as u64,
        page_bytes,
    );
    let needs = visited.needs.iter().map(|(kind, tally)| (*kind, tally.asked, tally.missing, tally.bytes));
    let rows = std::iter::once(pages).chain(needs).map(|(kind, asked, missing, size)| {
        vec![format!("{kind}s"), number(asked), number(missing), bytes(size)]
    });
    report.section("What came", Block::table(&["kind", ">asked for", ">missing", ">size"], rows));
    let rows = visited.heaviest.iter().map(|h| vec![h.url.clone(), h.kind.to_string(), h.bytes.to_string()]);
    report.section("Heaviest", Block::folded(&["file", "kind", "#size"], 4, "file", rows));
    if let Some(beside) = &visited.beside {
        compared(report, beside);
    }
    if let Some(names) = &visited.names {
        named(report, names);
    }
    let pictures = visited.pictures.iter().map(|p| {
        let page = if p.page.is_empty() { "home".to_string() } else { format!("/{}", p.page) };
        let differs = p.differs.map_or(String::new(), |d| format!(": {d} % differ, old and new"));
        (format!("{page}, {}{differs}", p.window), p.beside.clone().unwrap_or_else(|| p.new.clone()))
    });
    report.section("Pictures", Block::Pictures(pictures.collect()));
    let rows = visited.pages.iter().map(|p| {
        let title = p.leads_to.as_ref().map_or_else(|| p.title.clone(), |to| format!("→ {to}"));
        vec![p.status.to_string(), p.milliseconds.to_string(), bytes(p.bytes), p.url.clone(), title]
    });
    report.section("Pages", Block::folded(&[">status", "~ms", ">size", "page", "title"], 8, "page", rows));
}

fn named(report: &mut Report, names: &Names) {
    let spelled = |records: &[Record]| {
        let all: Vec<String> =
            records.iter().map(|r| format!("{} {} ({} s)", r.kind.word(), r.value, r.seconds)).collect();
        all.join(", ")
    };
    let rows = names.asked.iter().map(|asked| {
        let is = match (asked.new_host, &asked.no_answer) {
            (_, Some(why)) if asked.addresses.is_empty() => why.clone(),
            (Some(true), _) => "the new host".into(),
            (Some(false), _) => "another host".into(),
            (None, _) => String::new(),
        };
        let who = if asked.own { "name server" } else { "resolver" };
        vec![who.to_string(), asked.server.clone(), spelled(&asked.addresses), is]
    });
    report.section(
        format!("Who answers for {}", names.name),
        Block::table(&["asked", "server", "says", "that is"], rows),
    );
    let rows = names
        .zone_records
        .iter()
        .map(|r| vec![r.kind.word().to_string(), r.value.clone(), r.seconds.to_string()]);
    report.section("The zone", Block::folded(&["kind", "value", ">seconds"], 8, "record", rows));
}

fn compared(report: &mut Report, beside: &Beside) {
    let mut facts = Facts::default();
    facts.add("old site", beside.address.clone());
    facts.add("same", count(beside.same, "page"));
    if beside.moving > 0 {
        facts.add("left out", format!("lines of {} that differ at each visit", count(beside.moving, "page")));
    }
    for (name, pages) in [("missing", &beside.missing), ("new", &beside.new)] {
        if !pages.is_empty() {
            facts.add(name, count(pages.len() as u64, "page"));
        }
    }
    report.section("Beside the old site", facts.block());
    let mut diff = String::new();
    for different in beside.different.iter().take(8) {
        let also = if different.also.is_empty() {
            String::new()
        } else {
            format!(" and {}", count(different.also.len() as u64, "further page"))
        };
        diff += &format!("@@ /{}{also}: {}\n{}", different.page, different.what.join(", "), different.diff);
    }
    if beside.different.len() > 8 {
        diff += &format!("@@ and {}\n", count(beside.different.len() as u64 - 8, "further page"));
    }
    report.section("What differs", Block::Diff(diff));
}
