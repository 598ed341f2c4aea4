//! `zporter diagnose`: why a site does not open, without changing anything.

use crate::context::Here;
use crate::error::CommandError;
use crate::format::count;
use crate::progress::Progress;
use crate::render::Style;
use crate::report::{Block, Report};
use clap::Args;
use schemars::JsonSchema;
use serde::Serialize;
use std::borrow::Cow;
use std::path::PathBuf;
use zporter_core::diagnose::{Diagnoses, Sureness};
use zporter_core::job::run::diagnose::diagnose;
use zporter_core::job::values::At;
use zporter_core::path_text::to_text;
use zporter_core::survey::SurveyJob;

/// Look why a site does not open: config, server, rows, rights, caches, redirects, PHP, logs. Changes nothing
#[derive(Debug, Args)]
pub struct DiagnoseArgs {
    /// Folder of the site
    site: PathBuf,
    /// Read tables from this dump instead of the server (.sql, .sql.gz, .sql.zst)
    #[arg(long, value_name = "FILE")]
    dump: Option<PathBuf>,
    /// Folder of the host that is meant, where one code base serves several
    #[arg(long, value_name = "NAME")]
    host_folder: Option<String>,
    /// Ask the site's name at this address in the network, for a look at its pages
    #[arg(long, value_name = "IP[:PORT]", value_parser = at)]
    at: Option<At>,
    /// Write the report to this file as a page that opens in any browser, without a network
    #[arg(long, value_name = "FILE")]
    page: Option<PathBuf>,
}

fn at(text: &str) -> Result<At, String> {
    At::parse(text).ok_or_else(|| "write it as 203.0.113.7 or 203.0.113.7:8443".to_string())
}

/// The result for programs.
#[derive(Debug, Serialize, JsonSchema)]
pub struct DiagnoseResult<'a> {
    /// Site.
    site: Cow<'a, str>,
    /// Name of the system.
    system: &'a str,
    /// Its version.
    version: Option<&'a str>,
    /// What was found and what was looked at.
    #[serde(flatten)]
    diagnoses: &'a Diagnoses,
}

/// Runs the command.
pub fn run(style: Style, args: &DiagnoseArgs) -> Result<Report, CommandError> {
    let job =
        SurveyJob { dump: args.dump.clone(), host_folder: args.host_folder.clone(), ..SurveyJob::default() };
    let site = zporter_core::fsx::absolute(&args.site);
    let (found, out) = diagnose(&site, &job, args.at, &Here, &Progress::new(style))?;
    let of = |sure| out.found.iter().filter(|d| d.sure == sure && d.finding.needs_attention()).count() as u64;
    let (certain, likely, possible) = (of(Sureness::Certain), of(Sureness::Likely), of(Sureness::Possible));
    let version = found.recognised.version.as_deref();
    let product = format!("{} {}", found.recognised.product, version.unwrap_or("of an unknown version"));
    let verdict = match (certain, likely, possible) {
        (0, 0, 0) => {
            format!("{product} at {}: nothing found that would keep it from opening", site.display())
        }
        (0, 0, n) => format!("{product} at {}: {}, perhaps harmless", site.display(), count(n, "thing")),
        (0, n, _) => {
            format!("{product} at {}: {} likely keep it from opening", site.display(), count(n, "thing"))
        }
        (n, ..) => {
            format!("{product} at {}: it cannot work so; {} for certain", site.display(), count(n, "cause"))
        }
    };
    let result = DiagnoseResult {
        site: to_text(&found.site),
        system: &found.recognised.product,
        version,
        diagnoses: &out,
    };
    let mut report = Report::new("diagnose", verdict, &result)?;
    for diagnosis in &out.found {
        let mut finding = diagnosis.finding.clone();
        finding.what = format!("{} ({})", finding.what, diagnosis.sure.word());
        report.findings.push(finding);
    }
    let rows = out.looked.iter().map(|l| vec![l.at.to_string(), l.saw.clone()]);
    report.section("What was looked at", Block::table(&["at", "seen"], rows));
    report.page_to.clone_from(&args.page);
    Ok(report)
}
