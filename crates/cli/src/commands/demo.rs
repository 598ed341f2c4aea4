//! `zporter demo`: the whole story on made-up sites, without a server and without PHP.

use super::{pack, prove, restore, survey};
use crate::context;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::format::{bytes, count};
use crate::progress::Progress;
use crate::scope::ScopeArgs;
use crate::ui::Ui;
use clap::Args;
use std::fs;
use std::path::{Path, PathBuf};
use std::time::Instant;
use zporter_core::fsx::{AtPath, absolute};
use zporter_core::restore::run::Restored;
use zporter_core::survey::{Survey, SurveyJob};
use zporter_core::waybill::Waybill;
use zporter_standin::{Site, Variant};

/// Tell the whole story on two made-up sites: survey, pack, prove, restore elsewhere
#[derive(Debug, Args)]
pub struct DemoArgs {
    /// Keep everything in this folder; missing or empty
    #[arg(long, value_name = "DIR")]
    keep: Option<PathBuf>,
}

/// What the demo does with one site.
struct Chapter {
    variant: Variant,
    name: &'static str,
    new_address: &'static str,
    new_database: &'static str,
    tells: &'static str,
}

const CHAPTERS: [Chapter; 2] = [
    Chapter {
        variant: Variant::Joomla310,
        name: "observatory",
        new_address: "https://www.fernhollow-observatory.example",
        new_database: "mysql://observatory@localhost/observatory_web",
        tells: "The public site of Fernhollow Observatory, on Joomla. It moves to a host of its own.",
    },
    Chapter {
        variant: Variant::PrestaShop16,
        name: "shop",
        new_address: "http://dev.fernhollow.test:8080/try",
        new_database: "mysql://shop_dev@localhost/shop_dev",
        tells: "The visitor shop, on PrestaShop, in a subfolder. A developer gets a copy under another path and port.",
    },
];

/// Runs the command.
pub fn run(ui: &Ui, args: &DemoArgs) -> Result<Exit, CommandError> {
    if ui.json {
        return Err(CommandError::usage("the demo tells a story and has no JSON form")
            .hint("run the commands that it shows with --json"));
    }
    let began = Instant::now();
    let temp;
    let folder = match &args.keep {
        Some(path) => {
            let path = absolute(path);
            if fs::read_dir(&path).is_ok_and(|mut d| d.next().is_some()) {
                let message = format!("{} is not empty", path.display());
                let error =
                    CommandError { exit: Exit::Refused, message, causes: Vec::new(), hints: Vec::new() };
                return Err(error.hint("name a folder that is missing or empty"));
            }
            fs::create_dir_all(&path).at(&path)?;
            path
        }
        None => {
            temp = tempfile::Builder::new().prefix("fernhollow-").tempdir().at(std::env::temp_dir())?;
            temp.path().to_path_buf()
        }
    };
    let mut proof = Vec::new();
    for chapter in &CHAPTERS {
        proof.push((chapter, tell(ui, chapter, &folder)?));
    }
    close(ui, &proof, args.keep.is_some().then_some(folder.as_path()), began);
    Ok(Exit::Done)
}

fn say(ui: &Ui, number: usize, text: &str, command: &str) {
    ui.heading(&format!("{number}. {text}"));
    ui.line(format!("   $ {command}\n"));
}

fn tell(ui: &Ui, chapter: &Chapter, folder: &Path) -> Result<(Restored, PathBuf, Site), CommandError> {
    let base = folder.join(chapter.name);
    fs::create_dir_all(&base).at(&base)?;
    let site = Site::of(chapter.variant);
    let old = base.join("old");
    site.write(&old).at(&old)?;
    let dump = base.join("old.sql");
    fs::write(&dump, site.dump()).at(&dump)?;
    let archive = base.join(format!("{}.tar.zst", chapter.name));
    let (target, new_dump, password) = (base.join("new"), base.join("new.sql"), base.join("new-password"));
    fs::write(&password, "fake-New-Pass-77\n").at(&password)?;

    ui.heading(&"─".repeat(72));
    ui.line(chapter.tells);
    say(ui, 1, "What is there?", &format!("zporter survey old --dump {}", "old.sql"));
    survey::show(ui, &surveyed(&old, &dump, ui)?);

    say(
        ui,
        2,
        "One archive with everything that matters",
        &format!("zporter pack old --dump old.sql -o {}.tar.zst", chapter.name),
    );
    let packed = pack::packed(
        ui,
        &pack::PackArgs {
            site: old,
            output: Some(archive.clone()),
            dump: Some(dump),
            note: "before the move".into(),
            address: None,
            host_folder: None,
            storage: None,
            scope: ScopeArgs::default(),
        },
    )?;
    pack::show(ui, &packed);

    say(ui, 3, "Is it whole?", &format!("zporter prove {}.tar.zst", chapter.name));
    prove::run(ui, &prove::ProveArgs { archives: vec![archive.clone()] })?;

    let command = format!(
        "zporter restore {}.tar.zst new --address {} \\\n       --database {} --database-password-file new-password --dump-to new.sql \\\n       --from-root {}",
        chapter.name, chapter.new_address, chapter.new_database, site.root
    );
    say(ui, 4, "Restored elsewhere, pointing nowhere but home", &command);
    let bill = Waybill {
        job: "restore".into(),
        archive,
        target,
        address: chapter.new_address.into(),
        database: Some(chapter.new_database.into()),
        database_password_file: Some(password),
        dump_to: Some(new_dump),
        // This copy was made by hand: the shop's config does not tell where it lay.
        from_root: vec![site.root.clone()],
        ..Waybill::default()
    };
    let (plan, done) = restore::carry_out(ui, &bill, false, 1)?;
    restore::show_plan(ui, &plan, true);
    restore::show_done(ui, &done, false);
    Ok((done, base, site))
}

fn surveyed(site: &Path, dump: &Path, ui: &Ui) -> Result<Survey, CommandError> {
    let job = SurveyJob { site: site.into(), dump: Some(dump.into()), host_folder: None };
    Ok(zporter_core::survey::survey(&job, &context::definitions()?, &Progress::new(ui))?)
}

fn close(ui: &Ui, proof: &[(&Chapter, (Restored, PathBuf, Site))], kept: Option<&Path>, began: Instant) {
    ui.heading(&"─".repeat(72));
    ui.line("The proof");
    for (chapter, (done, base, site)) in proof {
        let rewritten = fs::read(base.join("new.sql")).unwrap_or_default();
        let pointing = count_of(&rewritten, site.address.as_bytes());
        let values: u64 = done.config.values().map(|c| c.len() as u64).sum();
        let left: u64 = done.tally.left().values().sum();
        ui.heading(chapter.name);
        ui.fact(
            "rewritten",
            format!(
                "{} in rows, {} in config files",
                count(done.tally.changed(), "value"),
                count(values, "value")
            ),
        );
        ui.fact("left", format!("{}, each listed above with its reason", count(left, "place")));
        ui.fact(
            "old address",
            format!("{} in the new dump of {}", count(pointing, "time"), bytes(rewritten.len() as u64)),
        );
        let named: Vec<&str> = done.leftovers.iter().map(|l| l.path.as_str()).collect();
        let in_files =
            if named.is_empty() { "none names the old place".to_string() } else { named.join(", ") };
        ui.fact("in files", in_files);
    }
    ui.line("");
    match kept {
        Some(path) => ui.line(format!("Everything is kept in {}", path.display())),
        None => ui.line("Everything was thrown away again; `zporter demo --keep DIR` keeps it to look at."),
    }
    ui.line(format!("Told in {:.1} seconds.", began.elapsed().as_secs_f64()));
}

fn count_of(hay: &[u8], needle: &[u8]) -> u64 {
    hay.windows(needle.len()).filter(|w| *w == needle).count() as u64
}
