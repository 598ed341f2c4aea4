//! The part of the demo that plays where a site lies: it is brought back, and later settled where somebody carried it.

use super::{PAGES, carried_out, show};
use crate::error::CommandError;
use crate::render::{Style, text};
use serde_json::{Value, json};
use std::fs;
use std::path::Path;
use std::time::Instant;
use zporter_core::fsx::AtPath;
use zporter_core::job::Kind;
use zporter_standin::{Site, Variant};

/// Tells both stories in a folder, behind so many others.
pub(super) fn tell(style: Style, base: &Path, behind: usize) -> Result<(), CommandError> {
    let (site, moved) = (base.join("site"), base.join("moved"));
    let made = Site {
        root: site.display().to_string(),
        address: "https://keepers.fernhollow.example".into(),
        pages: PAGES,
        ..Site::of(Variant::Drupal10)
    }
    .in_a_file();
    made.write(&site).at(&site)?;
    let dump = base.join("site.sql");
    fs::write(&dump, made.dump_file()).at(&dump)?;
    let database = format!("sqlite:{}", site.join(&made.database[3]).display());
    carried_out(style, Kind::DatabaseLoad, &json!({ "dump": dump, "database": database }))?;
    let run = |kind: Kind, options: Value, command: &str, shown: &[&str]| {
        let began = Instant::now();
        let report = carried_out(style, kind, &options)?;
        show(style, command, &report, began, shown);
        Ok::<(), CommandError>(())
    };

    text::title(&format!(
        "{}. The keepers' site, on Drupal with its rows in a file. An update breaks it: pictures are gone, the front page is empty. It is brought back where it was.",
        behind + 1
    ));
    let archive = base.join("keepers.tar.zst");
    run(Kind::Pack, json!({ "site": site, "output": archive }), "zporter pack site -o keepers.tar.zst", &[])?;
    let nights = site.join("sites/default/files/nights");
    fs::remove_dir_all(&nights).at(&nights)?;
    let page = site.join("index.php");
    fs::write(&page, "").at(&page)?;
    run(
        Kind::Restore,
        json!({ "source": archive, "in-place": true }),
        "zporter restore keepers.tar.zst --in-place",
        &["Done"],
    )?;

    text::title(&format!(
        "{}. The same site, carried by hand to another folder and host. Config and rows still believe in the old one.",
        behind + 2
    ));
    fs::rename(&site, &moved).at(&moved)?;
    let address = "https://keepers.fernhollow.test";
    let settle = || json!({ "site": moved, "address": address, "old-root": [site.display().to_string()] });
    let command = format!("zporter settle moved --address {address} --old-root {}", site.display());
    run(Kind::Settle, settle(), &command, &["Edit of sites/default/settings.php", "Rows"])?;
    run(Kind::Settle, settle(), &command, &[])
}
