//! `zporter demo`: the whole story on made-up sites, without a server and without PHP. It is told by the commands' own reports, of which
//! it shows the heart; `-v` shows all of them.

mod live;
mod seen;

use super::{jobs, survey, verify};
use crate::context::{self, Here};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::format::{bytes, count, number};
use crate::progress::Progress;
use crate::render::{Style, text};
use crate::report::{Block, Report};
use clap::Args;
use serde_json::{Value, json};
use std::fs;
use std::path::{Path, PathBuf};
use std::time::Instant;
use zporter_core::fsx::{AtPath, absolute};
use zporter_core::job::Kind;
use zporter_core::job::run::World;
use zporter_core::survey::{Survey, SurveyJob, survey};
use zporter_standin::{Site, Variant};

/// Tell the whole story on made-up sites of five systems: survey, pack, verify, restore elsewhere and in place, settle
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
    /// Whether the steps are shown, and not only how they ended.
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
        whole: false,
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

/// Pages that years of use have added to each site.
const PAGES: usize = 240;

/// Note in every archive of the demo.
const NOTE: &str = "before the move";

/// What became of one site.
struct Told {
    chapter: &'static Chapter,
    /// The result of its restore, as a program gets it.
    result: Value,
    /// The rewritten dump.
    dump: Vec<u8>,
    old_address: String,
}

/// Runs the command.
pub fn run(style: Style, args: &DemoArgs) -> Result<Exit, CommandError> {
    if style.json {
        return Err(CommandError::usage("the demo tells a story and has no JSON form")
            .hint("run the commands that it shows with --json"));
    }
    let began = Instant::now();
    let temp;
    let folder = match &args.keep {
        Some(path) => {
            let path = absolute(path);
            if fs::read_dir(&path).is_ok_and(|mut d| d.next().is_some()) {
                return Err(CommandError::refused(format!("{} is not empty", path.display()))
                    .hint("name a folder that is missing or empty"));
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
    text::title(
        "Fernhollow Observatory, an amateur astronomy society, moves its sites off an old shared host.",
    );
    let mut proof = Vec::new();
    for (number, chapter) in CHAPTERS.iter().enumerate() {
        let base = folder.join(chapter.name);
        proof.push(Story { style, chapter, base, number: number + 1 }.tell()?);
    }
    live::tell(style, &folder.join("keepers"), CHAPTERS.len())?;
    seen::tell(style, &folder, CHAPTERS.len() + 3)?;
    close(style, &proof, args.keep.is_some().then_some(folder.as_path()), began);
    Ok(Exit::Done)
}

/// A chapter being told.
struct Story {
    style: Style,
    chapter: &'static Chapter,
    base: PathBuf,
    number: usize,
}

impl Story {
    fn tell(&self) -> Result<Told, CommandError> {
        let Story { style, chapter, base, number } = self;
        fs::create_dir_all(base).at(base)?;
        let (old, outside) = (base.join("old"), base.join("old-storage"));
        let site = Site {
            root: old.display().to_string(),
            storage: outside.display().to_string(),
            pages: PAGES,
            ..Site::of(chapter.variant)
        };
        site.write(&old).at(&old)?;
        site.write_outside(&outside).at(&outside)?;
        let dump = base.join("old.sql");
        fs::write(&dump, site.dump_file()).at(&dump)?;
        let password = base.join("new-password");
        fs::write(&password, "fake-New-Pass-77\n").at(&password)?;

        text::title(&format!("{number}. {}", chapter.tells));
        let began = Instant::now();
        let found = surveyed(*style, &old, &dump)?;
        let report = survey::report(&found)?;
        if chapter.whole {
            show(*style, "zporter survey old --dump old.sql", &report, began, &[""]);
        }
        let (options, command) = self.pack(&site, &found);
        self.run(Kind::Pack, &options, &command, &[])?;
        if chapter.whole {
            let began = Instant::now();
            let archives = vec![base.join(format!("{}.tar.zst", chapter.name))];
            let report = verify::run(*style, &verify::VerifyArgs { archives, page: None })?;
            show(*style, &format!("zporter verify {}.tar.zst", chapter.name), &report, began, &[]);
        }
        let (options, command) = self.restore();
        let shown: &[&str] =
            if chapter.whole { &["Edit of configuration.php", "Samples"] } else { &["Declared values"] };
        let report = self.run(Kind::Restore, &options, &command, shown)?;
        let dump = fs::read(base.join("new.sql")).unwrap_or_default();
        Ok(Told { chapter, result: report.result, dump, old_address: site.address })
    }

    fn pack(&self, site: &Site, found: &Survey) -> (Value, String) {
        let name = self.chapter.name;
        let path = |file: &str| self.base.join(file).display().to_string();
        let mut options = json!({
            "site": path("old"), "dump": path("old.sql"), "note": NOTE, "output": path(&format!("{name}.tar.zst")),
        });
        let mut command = format!("zporter pack old --dump old.sql --note '{NOTE}' -o {name}.tar.zst");
        if found.hosts.found.len() > 1 {
            options["host-folder"] = json!(["default"]);
            command += " --host-folder default";
        }
        // The address of some systems stands nowhere.
        if found.base_address().is_none() {
            options["old-address"] = site.address.clone().into();
            command += &format!(" --old-address {}", site.address);
        }
        (options, command)
    }

    fn restore(&self) -> (Value, String) {
        let chapter = self.chapter;
        let path = |file: &str| self.base.join(file).display().to_string();
        let mut options = json!({
            "source": path(&format!("{}.tar.zst", chapter.name)), "target": path("new"),
            "address": chapter.new_address, "database": chapter.new_database,
            "database-password-file": path("new-password"), "dump-to": path("new.sql"),
            "set": chapter.set,
        });
        let mut command = format!(
            "zporter restore {}.tar.zst new --address {} --database {} --dump-to new.sql",
            chapter.name, chapter.new_address, chapter.new_database
        );
        for set in chapter.set {
            command += &format!(" --set {set}");
        }
        if let Some(prefix) = chapter.table_prefix {
            options["table-prefix"] = prefix.into();
            command += &format!(" --table-prefix {prefix}");
        }
        // No web server serves these copies: they belong to whoever looks at them.
        if rustix::process::geteuid().is_root() {
            options["owner"] = "0:0".into();
        }
        (options, command)
    }

    fn run(
        &self,
        kind: Kind,
        options: &Value,
        command: &str,
        shown: &[&str],
    ) -> Result<Report, CommandError> {
        let began = Instant::now();
        let report = carried_out(self.style, kind, options)?;
        show(self.style, command, &report, began, shown);
        Ok(report)
    }
}

fn carried_out(style: Style, kind: Kind, options: &Value) -> Result<Report, CommandError> {
    let job = kind.job(options.as_object().cloned().unwrap_or_default())?;
    jobs::carried_out(style, &job, false, 1)
}

/// Shows a command and the heart of what it says.
fn show(style: Style, command: &str, report: &Report, began: Instant, sections: &[&str]) {
    text::command(command);
    if style.verbose {
        text::report(style, report, began.elapsed());
    } else {
        text::heart(report, began.elapsed(), sections);
    }
}

fn surveyed(style: Style, site: &Path, dump: &Path) -> Result<Survey, CommandError> {
    let job = SurveyJob { dump: Some(dump.into()), ..SurveyJob::default() };
    Ok(survey(&*Here.tree(site), &job, &context::definitions()?, &Progress::new(style))?)
}

/// Counts what stands under names that are nested in a result.
fn sum(of: &Value, by: &dyn Fn(&Value) -> u64) -> u64 {
    of.as_object().into_iter().flat_map(|map| map.values()).map(by).sum()
}

fn close(style: Style, proof: &[Told], kept: Option<&Path>, began: Instant) {
    text::title("The proof: where the old address is still named");
    let rows = proof.iter().map(|told| {
        let left = sum(&told.result["tally"]["tables"], &|table| {
            sum(&table["columns"], &|column| sum(&column["left"], &|n| n.as_u64().unwrap_or_default()))
        });
        let changed = sum(&told.result["tally"]["tables"], &|table| {
            sum(&table["columns"], &|column| column["changed"].as_u64().unwrap_or_default())
        });
        let config = sum(&told.result["config"], &|file| file.as_array().map_or(0, Vec::len) as u64);
        let pointing = count_of(&told.dump, told.old_address.as_bytes());
        let files = told.result["leftovers"].as_array().map_or(0, Vec::len) as u64;
        vec![
            told.chapter.name.to_string(),
            number(changed),
            number(config),
            format!("{} of {}", number(pointing), bytes(told.dump.len() as u64)),
            number(left),
            number(files),
        ]
    });
    let header = [
        "site",
        ">changed in rows",
        ">in config",
        ">old address in the new dump",
        ">places left, listed with reasons",
        ">files that name it",
    ];
    text::draw(style, &Block::table(&header, rows));
    text::line("");
    match kept {
        Some(path) => text::line(format!("Everything is kept in {}", path.display())),
        None => {
            text::line("Everything was thrown away again; `zporter demo --keep DIR` keeps it to look at.")
        }
    }
    // That of the last two stories is one.
    let sites = count(proof.len() as u64 + 1, "site");
    text::line(format!(
        "{sites}, told in {:.1} seconds; `zporter demo -v` tells all of it.",
        began.elapsed().as_secs_f64()
    ));
}

fn count_of(hay: &[u8], needle: &[u8]) -> u64 {
    hay.windows(needle.len()).filter(|w| *w == needle).count() as u64
}
