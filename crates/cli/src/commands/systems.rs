//! `zporter systems`: what is known of content systems.

use crate::app::Output;
use crate::context::{self, Here};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::format::count;
use crate::render::text;
use crate::report::{Block, Report};
use clap::Args;
use serde::Serialize;
use std::path::PathBuf;
use zporter_core::job::run::World;
use zporter_core::survey::draft::draft;
use zporter_core::system::copy::SetPlace;
use zporter_core::system::knowledge::Sign;
use zporter_core::system::schema::{Config, Definition, KeyValue};
use zporter_core::system::{self, Known};

/// List the known systems, or explain one
#[derive(Debug, Args)]
pub struct SystemsArgs {
    /// System to explain
    id: Option<String>,
    /// Print its definition as it was written, to begin one of your own
    #[arg(long, requires = "id")]
    toml: bool,
    /// Check a definition file of your own
    #[arg(long, value_name = "FILE", conflicts_with = "id")]
    check: Option<PathBuf>,
    /// Write a first definition of the system of this site, with comments, to begin one of your own
    #[arg(long, value_name = "SITE", conflicts_with_all = ["id", "check", "search"])]
    draft: Option<PathBuf>,
    /// Look for words in what is known to go wrong after a move, in every system
    #[arg(long, value_name = "WORDS", conflicts_with_all = ["id", "check"])]
    search: Option<String>,
}

/// Runs the command.
pub fn run(args: &SystemsArgs) -> Result<Output, CommandError> {
    if let Some(path) = &args.check {
        let definition = system::read(path)?;
        let verdict = format!("{} is a usable definition of {}", path.display(), definition.name);
        let mut report = Report::new("systems", verdict, &definition)?;
        explain(&mut report, &definition);
        return Ok(report.into());
    }
    if let Some(site) = &args.draft {
        let tree = Here.tree(&zporter_core::fsx::absolute(site));
        if !tree.is_folder(tree.root()) {
            return Err(CommandError::usage(format!("{} is no folder", site.display())));
        }
        text::line(draft(&*tree).trim_end());
        return Ok(Output::Printed(Exit::Done));
    }
    let known = context::definitions()?;
    if let Some(words) = &args.search {
        return Ok(search(&known, words)?.into());
    }
    let Some(id) = &args.id else { return Ok(list(&known)?.into()) };
    let Some(found) = known.iter().find(|k| k.definition.id == *id) else {
        let ids: Vec<&str> = known.iter().map(|k| k.definition.id.as_str()).collect();
        return Err(CommandError::usage(format!("no system {id:?} is known"))
            .hint(format!("known are: {}", ids.join(", "))));
    };
    if args.toml {
        text::line(found.text.trim_end());
        return Ok(Output::Printed(Exit::Done));
    }
    let verdict = format!("{} ({})", found.definition.name, found.definition.about);
    let mut report = Report::new("systems", verdict, &found.definition)?;
    explain(&mut report, &found.definition);
    Ok(report.into())
}

fn list(known: &[Known]) -> Result<Report, CommandError> {
    let all: Vec<&Definition> = known.iter().map(|k| &k.definition).collect();
    let mut report = Report::new("systems", count(known.len() as u64, "system"), &all)?;
    let rows = known.iter().map(|k| {
        let d = &k.definition;
        let from = k.file.as_ref().map_or("built in".into(), |f| f.display().to_string());
        vec![d.id.clone(), d.name.clone(), d.about.clone(), from]
    });
    report.section("", Block::table(&["id", "system", "about", "from"], rows));
    if let Some(folder) = context::definitions_folder() {
        report.next.push(format!("your own definitions are read from {}", folder.display()));
    }
    Ok(report)
}

fn search(known: &[Known], words: &str) -> Result<Report, CommandError> {
    let wanted: Vec<String> = words.split_whitespace().map(str::to_lowercase).collect();
    let holds = |texts: [&str; 3]| {
        let all = texts.concat().to_lowercase();
        wanted.iter().all(|w| all.contains(w))
    };
    let mut lines = Vec::new();
    let mut found = Vec::new();
    for k in known {
        for t in k.definition.trap.iter().filter(|t| holds([&t.symptom, &t.cause, &t.cure])) {
            lines.extend(trap(Some(&k.definition.name), t));
            found.push((&k.definition.id, t));
        }
    }
    let verdict = format!("{} with {words:?}", count(found.len() as u64, "known trouble"));
    let mut report = Report::new("systems", verdict, &found)?;
    report.section("", Block::Lines(lines));
    Ok(report)
}

fn trap(system: Option<&str>, t: &zporter_core::system::schema::Trap) -> Vec<String> {
    let of = system.map(|s| format!("{s}: ")).unwrap_or_default();
    vec![format!("{of}{}", t.symptom), format!("  cause: {}", t.cause), format!("  cure:  {}", t.cure)]
}

/// Puts what goes wrong after a move first: that is what people come for.
fn explain(report: &mut Report, d: &Definition) {
    let traps = d.trap.iter().flat_map(|t| trap(None, t)).collect();
    report.section("After a move", Block::Lines(traps));
    let mut lines: Vec<String> = d
        .recognise
        .iter()
        .map(|m| {
            let not = if m.absent { "no " } else { "" };
            let with = m.contains.as_ref().map(|c| format!(" with {c:?}")).unwrap_or_default();
            format!("{not}{}{with}", m.path)
        })
        .collect();
    if !d.document_root.is_empty() {
        lines.push(format!("the web server may begin at {}", d.document_root.join(", ")));
    }
    for v in &d.version {
        let keys = if v.from_name { "the file's name".into() } else { v.keys.join(v.join.as_str()) };
        lines.push(format!("version: {keys} in {}", v.path));
    }
    if let Some(hosts) = &d.hosts {
        lines.push(format!("several hosts: a folder of {} with {} for each", hosts.folder, hosts.holds));
    }
    report.section("Recognised by", Block::Lines(lines));
    explain_files(report, d);
    explain_rows(report, d);
    explain_copies(report, d);
    explain_running(report, d);
    let stray = d.leftover.iter().map(|l| {
        let safe = if l.safe { " (removed by --tidy)" } else { "" };
        format!("{}: {}{safe}", l.path, l.about)
    });
    report.section("Should not lie in a document root", Block::Lines(stray.collect()));
}

/// Config files, and folders with what users uploaded or what is made anew.
fn explain_files(report: &mut Report, d: &Definition) {
    // Files with the same keys are told together.
    let names = |c: &Config| c.key.iter().map(|k| k.name.clone()).collect::<Vec<_>>();
    for (i, config) in d.config.iter().enumerate() {
        let same = |c: &&Config| c.form == config.form && names(c) == names(config);
        if d.config[..i].iter().any(|c| same(&c)) {
            continue;
        }
        let others: Vec<&str> = d.config[i + 1..].iter().filter(same).map(|c| c.path.as_str()).collect();
        let others = if others.is_empty() { String::new() } else { format!(", {}", others.join(", ")) };
        let above = if config.above { ", or one folder above the document root" } else { "" };
        let title = format!("Config file {}{others}{above}", config.path);
        let rows = config.key.iter().map(|k| {
            let form = k.form.as_ref().map(word).unwrap_or_default();
            let own = if k.own { "a copy beside the live site should get its own" } else { "" };
            let about =
                [k.about.as_str(), own].into_iter().filter(|t| !t.is_empty()).collect::<Vec<_>>().join("; ");
            vec![k.name.clone(), word(&k.role), form, about]
        });
        if config.key.is_empty() {
            let what = "hosts, base paths, addresses and paths in directives".to_string();
            report.section(title, Block::Lines(vec![what]));
        } else {
            report.section(title, Block::table(&["key", "role", "form", "about"], rows));
        }
    }
    let caches = d.cache.iter().map(|t| {
        let keep =
            if t.keep.is_empty() { String::new() } else { format!("  (left alone: {})", t.keep.join(", ")) };
        format!("{}{keep}", t.path)
    });
    let generated = d.generated.iter().map(|g| format!("{}: {}", g.path, g.about));
    report.section("Folders the system rebuilds", Block::Lines(caches.chain(generated).collect()));
    let media = d.media.iter().map(|m| format!("{}: {}", m.path, m.about)).collect();
    report.section("Media", Block::Lines(media));
    let folders = d
        .row_folder
        .iter()
        .map(|f| format!("{}.{} where {}: {}", f.table, f.column, equals(&f.only), f.about));
    report.section("Folders that rows name", Block::Lines(folders.collect()));
}

/// What is known of tables and columns.
fn explain_rows(report: &mut Report, d: &Definition) {
    let rows = d.cell.iter().map(|c| {
        let row = c
            .key
            .as_ref()
            .map(|k| format!("{k} = {}", c.values.join(", ")))
            .unwrap_or_else(|| "every row".into());
        let row = if c.stays.is_some() { format!("{row}: stays") } else { row };
        vec![c.table.clone(), c.column.clone(), word(&c.form), row]
    });
    report.section("Declared values", Block::table(&["table", "column", "form", "rows"], rows));
    let rows = d.table.iter().map(|t| {
        let copied = if t.safe { "structure" } else { "all rows" };
        vec![t.name.clone(), copied.to_string(), t.about.clone()]
    });
    report.section("Tables", Block::folded(&["table", "copied", "about"], 20, "table", rows));
    let spelled = (d.coded.iter().map(|c| (&c.table, &c.column, word(&c.code))))
        .chain(d.packed.iter().map(|p| (&p.table, &p.column, word(&p.how))))
        .map(|(table, column, how)| format!("{table}.{column}: {how}"));
    report.section("Text in a spelling of its own", Block::Lines(spelled.collect()));
    let keys = d.prefix_key.iter().map(|k| {
        let names = if k.names.is_empty() { "any".into() } else { k.names.join(", ") };
        format!("{}.{}: {names}", k.table, k.column)
    });
    report.section("Keys that begin with the table prefix", Block::Lines(keys.collect()));
    let beaten = d.beaten.iter().map(|b| {
        format!("{} beats the row of {} with this {}", b.key.replace("{value}", "NAME"), b.table, b.column)
    });
    report.section("A line of the config counts for more", Block::Lines(beaten.collect()));
}

/// What a copy can get, and must not keep.
fn explain_copies(report: &mut Report, d: &Definition) {
    let rows = d.switch.iter().map(|s| {
        let states = s.states.keys().cloned().collect::<Vec<_>>().join(", ");
        let versions = versions(s.set.from.as_deref(), s.set.below.as_deref());
        vec![word(&s.name), states, put(&s.set), versions]
    });
    report.section("Switches", Block::table(&["switch", "states", "where", "versions"], rows));
    let mut whose: Vec<String> =
        d.identity.iter().map(|i| format!("{}: {}", word(&i.name), put(&i.set))).collect();
    for admin in &d.admin {
        let of = versions(admin.from.as_deref(), admin.below.as_deref());
        let account = format!("administrator: {}.{} and {} {of}", admin.table, admin.email, admin.password);
        whose.push(account.trim_end().to_string());
        for h in &admin.hash {
            let versions = versions(h.from.as_deref(), h.below.as_deref());
            whose.push(format!("password as {} {versions}", word(&h.scheme)).trim_end().to_string());
        }
    }
    report.section("Whose site it is", Block::Lines(whose));
    let follows = d.tls.iter().map(|t| {
        let values = [("http", &t.http), ("https", &t.https)].into_iter();
        let values = values.filter_map(|(scheme, v)| v.as_ref().map(|v| format!("{v:?} on {scheme}")));
        format!("{}: {}", put(&t.set), values.collect::<Vec<_>>().join(", "))
    });
    report.section("Follows the scheme of the address", Block::Lines(follows.collect()));
    let copies = d.copy_only.iter().map(|c| vec![put(&c.set), c.value.clone(), c.about.clone()]);
    let header = ["where", "in a copy", "because"];
    report.section("A copy beside the live site must not keep", Block::folded(&header, 12, "thing", copies));
}

/// How a running site is used and known.
fn explain_running(report: &mut Report, d: &Definition) {
    let logs_in = d.log_in.iter().map(|l| {
        let versions = versions(l.from.as_deref(), l.below.as_deref());
        vec![word(&l.area), l.path.clone(), sign(&l.success), versions]
    });
    report.section("Log-ins", Block::table(&["area", "form", "success is told by", "versions"], logs_in));
    let said = d.symptom.iter().map(|s| vec![sign(&s.sign), s.cause.clone(), s.cure.clone()]);
    let header = ["the page says", "because", "cure"];
    report.section("What its pages say", Block::folded(&header, 12, "sign", said));
    let growing = d.growing.iter().map(|g| g.table.as_str()).collect::<Vec<_>>().join(", ");
    report.section(
        "Grows while it is live",
        Block::Lines(Some(growing).filter(|g| !g.is_empty()).into_iter().collect()),
    );
    let personal = d.personal.iter().map(|p| vec![p.table.clone(), p.column.clone(), word(&p.kind)]);
    report.section("Data of people", Block::folded(&["table", "column", "kind"], 12, "column", personal));
}

/// Returns a word of the definition's own vocabulary, as it stands in the file.
fn word(value: &impl Serialize) -> String {
    serde_json::to_value(value).ok().and_then(|v| v.as_str().map(str::to_string)).unwrap_or_default()
}

/// Tells a sign in an answer.
fn sign(sign: &Sign) -> String {
    let parts = [
        sign.status.map(|s| format!("status {s}")),
        sign.text.as_ref().map(|t| format!("{t:?}")),
        sign.header.as_ref().map(|h| format!("header {h:?}")),
        sign.cookie.as_ref().map(|c| format!("cookie {c}…")),
        sign.location.as_ref().map(|l| format!("redirect to {l:?}")),
    ];
    parts.into_iter().flatten().collect::<Vec<_>>().join(", ")
}

fn equals(only: &KeyValue) -> String {
    format!("{} = {}", only.column, only.value)
}

/// Tells where a value is put.
fn put(put: &SetPlace) -> String {
    if let Some(row) = &put.row {
        let only: Vec<String> = row.only.iter().map(equals).collect();
        let within =
            if row.within.is_empty() { String::new() } else { format!(", {}", row.within.join(" > ")) };
        return format!("{}.{} where {}{within}", row.table, row.column, only.join(", "));
    }
    let config = put.config.as_ref().map(|key| format!("config key {key}"));
    config.or(put.file.as_ref().map(|f| format!("file {}", f.path))).unwrap_or_default()
}

fn versions(from: Option<&str>, below: Option<&str>) -> String {
    match (from, below) {
        (None, None) => String::new(),
        (Some(from), None) => format!("from {from}"),
        (None, Some(below)) => format!("below {below}"),
        (Some(from), Some(below)) => format!("from {from}, below {below}"),
    }
}
