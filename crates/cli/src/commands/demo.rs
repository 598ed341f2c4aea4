//! `zporter demo`: the whole story on made-up sites, without a server and without PHP.

use super::restore::Carried;
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
use zporter_core::restore::restored::Restored;
use zporter_core::survey::{Survey, SurveyJob};
use zporter_core::waybill::Waybill;
use zporter_standin::{Site, Variant};

/// Tell the whole story on made-up sites of five systems: survey, pack, prove, restore elsewhere
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
    /// Whether every step is shown.
    whole: bool,
    /// Switches, as on the command line.
    set: &'static [&'static str],
    table_prefix: Option<&'static str>,
}

const CHAPTERS: [Chapter; 5] = [
    Chapter {
        variant: Variant::Joomla310,
        name: "observatory",
        new_address: "https://www.fernhollow-observatory.example",
        new_database: "mysql://observatory@localhost/observatory_web",
        tells: "The public site of Fernhollow Observatory, on Joomla. It moves to a host of its own.",
        whole: true,
        set: &[],
        table_prefix: None,
    },
    Chapter {
        variant: Variant::PrestaShop16,
        name: "shop",
        new_address: "http://dev.fernhollow.test:8080/try",
        new_database: "mysql://shop_dev@localhost/shop_dev",
        tells: "The visitor shop, on PrestaShop, in a subfolder. A developer gets a copy under another path and port.",
        whole: true,
        set: &[],
        table_prefix: None,
    },
    Chapter {
        variant: Variant::WordPress,
        name: "blog",
        new_address: "http://blog.fernhollow.test",
        new_database: "mysql://blog_dev@localhost/dev",
        tells: "The blog, on WordPress. Its copy shares a database with others, so its tables get another prefix; it sends no mail and asks not to be listed.",
        whole: false,
        set: &["mail=off", "index=off"],
        table_prefix: Some("blog_"),
    },
    Chapter {
        variant: Variant::OpenCart3,
        name: "souvenirs",
        new_address: "https://souvenirs-fernhollow.example",
        new_database: "mysql://souvenirs@localhost/souvenirs",
        tells: "The souvenir shop, on OpenCart: two config files, and a storage folder beside the document root that moves with it.",
        whole: false,
        set: &[],
        table_prefix: None,
    },
    Chapter {
        variant: Variant::Drupal10,
        name: "club",
        new_address: "https://club-fernhollow.example",
        new_database: "mysql://club@localhost/club",
        tells: "The observers' club, on Drupal, one of two hosts on the same code base. Its settings are serialized rows.",
        whole: false,
        set: &["maintenance=on"],
        table_prefix: None,
    },
];

/// Note in every archive of the demo.
const NOTE: &str = "before the move";

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
    // What is made up is no part of what its user did.
    context::keep_data_in(folder.join(".zporter"));
    let mut proof = Vec::new();
    for chapter in &CHAPTERS {
        proof.push((chapter, tell(ui, chapter, &folder)?));
    }
    close(ui, &proof, args.keep.is_some().then_some(folder.as_path()), began);
    Ok(Exit::Done)
}

fn tell(ui: &Ui, chapter: &Chapter, folder: &Path) -> Result<(Restored, PathBuf, Site), CommandError> {
    let base = folder.join(chapter.name);
    fs::create_dir_all(&base).at(&base)?;
    let site = Site::of(chapter.variant);
    let (old, outside) = (base.join("old"), base.join("old-storage"));
    site.write(&old).at(&old)?;
    let outside = site.write_outside(&outside).at(&outside)?.then_some(outside);
    let dump = base.join("old.sql");
    fs::write(&dump, site.dump_file()).at(&dump)?;
    let archive = base.join(format!("{}.tar.zst", chapter.name));
    let (target, new_dump, password) = (base.join("new"), base.join("new.sql"), base.join("new-password"));
    fs::write(&password, "fake-New-Pass-77\n").at(&password)?;

    ui.heading(&"─".repeat(72));
    ui.line(chapter.tells);
    let found = surveyed(&old, &dump, ui)?;
    let mut step = 0;
    let mut say = |text: &str, command: &str| {
        step += 1;
        ui.heading(&format!("{step}. {text}"));
        ui.line(format!("   $ {command}\n"));
    };
    if chapter.whole {
        say("What is there?", "zporter survey old --dump old.sql");
        survey::show(ui, &found);
    }
    let host_folder = (found.hosts.found.len() > 1).then(|| "default".to_string());
    let mut command = format!("zporter pack old --dump old.sql --note '{NOTE}' -o {}.tar.zst", chapter.name);
    if let Some(host) = &host_folder {
        command += &format!(" --host-folder {host}");
    }
    if outside.is_some() {
        command += " --storage old-storage";
    }
    // The address of some systems stands nowhere.
    let address = found.base_address().is_none().then(|| site.address.clone());
    if let Some(address) = &address {
        command += &format!(" --address {address}");
    }
    say("One archive with everything that matters", &command);
    let packed = pack::packed(
        ui,
        &pack::PackArgs {
            site: old,
            output: Some(archive.clone()),
            dump: Some(dump),
            note: NOTE.into(),
            address,
            host_folder: Vec::new(),
            storage: outside,
            scope: ScopeArgs::default(),
        },
        host_folder.as_deref(),
    )?;
    if chapter.whole {
        pack::show(ui, &packed);
    }
    say("Is it whole?", &format!("zporter prove {}.tar.zst", chapter.name));
    prove::run(ui, &prove::ProveArgs { archives: vec![archive.clone()] })?;

    let mut command = format!(
        "zporter restore {}.tar.zst new --address {} \\\n       --database {} --database-password-file new-password --dump-to new.sql \\\n       --from-root {}",
        chapter.name, chapter.new_address, chapter.new_database, site.root
    );
    for set in chapter.set {
        command += &format!(" --set {set}");
    }
    if let Some(prefix) = chapter.table_prefix {
        command += &format!(" --table-prefix {prefix}");
    }
    say("Restored elsewhere, pointing nowhere but home", &command);
    let bill = Waybill {
        job: "restore".into(),
        archive,
        target,
        address: chapter.new_address.into(),
        database: Some(chapter.new_database.into()),
        database_password_file: Some(password),
        dump_to: Some(new_dump),
        // This copy was made by hand: the config of some systems does not tell where it lay.
        from_root: vec![site.root.clone()],
        set: chapter.set.iter().map(|s| s.to_string()).collect(),
        table_prefix: chapter.table_prefix.map(str::to_string),
        // No web server serves these copies: they belong to whoever looks at them.
        owner: rustix::process::geteuid().is_root().then(|| "0:0".into()),
        ..Waybill::default()
    };
    let Carried { plan, done, .. } = restore::carry_out(ui, &bill, false, 1)?;
    if chapter.whole {
        restore::show_plan(ui, &plan, true);
    }
    restore::show_done(ui, &done, false, "Restored");
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
