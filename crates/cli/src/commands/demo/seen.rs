//! The part of the demo in which a site that runs already is seen as a visitor sees it, before name servers know it. A small web host that is
//! shipped with the program serves it, old and new.

use super::{carried_out, show};
use crate::error::CommandError;
use crate::render::{Style, page, text};
use serde_json::json;
use std::collections::BTreeSet;
use std::path::Path;
use std::time::Instant;
use zporter_core::fsx::AtPath;
use zporter_core::job::Kind;
use zporter_standin::host::{Fault, Host, Served};

/// Pages of the site.
const PAGES: usize = 40;

/// The address that pages of the old site name; it is served here without encryption.
const OLD: &str = "https://www.fernhollow.example";

/// What went wrong on the way to the new host.
const FAULTS: [Fault; 6] = [
    Fault::OldEscaped,
    Fault::NoPicture,
    Fault::NoPage,
    Fault::Driver,
    Fault::TwiceEncoded,
    Fault::Repository,
];

/// Tells the story; the report is kept as a page.
pub(super) fn tell(style: Style, folder: &Path, number: usize) -> Result<(), CommandError> {
    let unserved = |e| CommandError::world("no web host could be started on this machine", e);
    let served = |name: &str, faults: BTreeSet<Fault>| {
        Host::serve(Served {
            name: name.into(),
            old: OLD.into(),
            pages: PAGES,
            lively: true,
            faults,
            ..Served::default()
        })
        .map_err(unserved)
    };
    // The old one has the odd page as well, with nothing odd on it.
    let old = served("www.fernhollow.example", BTreeSet::from([Fault::OldInMap]))?;
    let new = served("www.fernhollow-observatory.example", BTreeSet::from(FAULTS))?;
    text::title(&format!(
        "{number}. The public site runs on its new host, and name servers do not know it yet. Before they do, it is seen as a visitor sees it, beside the old one."
    ));
    let began = Instant::now();
    let options = json!({
        "address": new.address(), "at": new.at.to_string(), "beside": old.address(), "beside-at": old.at.to_string(),
        "old-address": [OLD],
    });
    let report = carried_out(style, Kind::Visit, &options)?;
    let command = format!(
        "zporter visit {} --at {} --beside {} --beside-at {} --old-address {OLD} --page visit.html",
        new.address(),
        new.at,
        old.address(),
        old.at
    );
    show(style, &command, &report, began, &["What came", "Beside the old site"]);
    let path = folder.join("visit.html");
    std::fs::write(&path, page::page(&report, began.elapsed())?).at(&path)?;
    Ok(())
}
