//! `zporter systems`: what is known of content systems.

use crate::context;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::format::count;
use crate::ui::Ui;
use clap::Args;
use serde::Serialize;
use std::path::PathBuf;
use zporter_core::system::copy::Put;
use zporter_core::system::schema::Definition;
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
}

/// Runs the command.
pub fn run(ui: &Ui, args: &SystemsArgs) -> Result<Exit, CommandError> {
    if let Some(path) = &args.check {
        let definition = system::read(path)?;
        if ui.json {
            ui.document(&definition)?;
        } else {
            ui.good(&format!("{} is a usable definition of {}", path.display(), definition.name));
            explain(ui, &definition);
        }
        return Ok(Exit::Done);
    }
    let known = context::definitions()?;
    let Some(id) = &args.id else {
        list(ui, &known)?;
        return Ok(Exit::Done);
    };
    let Some(found) = known.iter().find(|k| k.definition.id == *id) else {
        let ids: Vec<&str> = known.iter().map(|k| k.definition.id.as_str()).collect();
        return Err(CommandError::usage(format!("no system {id:?} is known"))
            .hint(format!("known are: {}", ids.join(", "))));
    };
    if args.toml {
        ui.line(found.text.trim_end());
    } else if ui.json {
        ui.document(&found.definition)?;
    } else {
        ui.line(format!("{} ({})", found.definition.name, found.definition.about));
        explain(ui, &found.definition);
    }
    Ok(Exit::Done)
}

fn list(ui: &Ui, known: &[Known]) -> Result<(), CommandError> {
    if ui.json {
        let all: Vec<&Definition> = known.iter().map(|k| &k.definition).collect();
        return ui.document(&all);
    }
    let rows = known.iter().map(|k| {
        let d = &k.definition;
        let from = k.file.as_ref().map_or("built in".into(), |f| f.display().to_string());
        vec![d.id.clone(), d.name.clone(), d.about.clone(), from]
    });
    ui.table(&["id", "system", "about", "from"], rows.collect());
    if let Some(folder) = context::definitions_folder() {
        ui.line(format!("\nYour own definitions are read from {}", folder.display()));
    }
    Ok(())
}

fn explain(ui: &Ui, d: &Definition) {
    ui.heading("Recognised by");
    for m in &d.recognise {
        ui.line(format!(
            "  {}{}",
            m.path,
            m.contains.as_ref().map(|c| format!(" with {c:?}")).unwrap_or_default()
        ));
    }
    for v in &d.version {
        let keys = if v.from_name { "the file's name".into() } else { v.keys.join(v.join.as_str()) };
        ui.line(format!("  version: {keys} in {}", v.path));
    }
    if let Some(hosts) = &d.hosts {
        ui.line(format!("  several hosts: a folder of {} with {} for each", hosts.folder, hosts.holds));
    }
    for config in &d.config {
        ui.heading(&format!("Config file {}", config.path));
        let rows = config.key.iter().map(|k| {
            let form = k.form.as_ref().map(word).unwrap_or_default();
            let own = if k.own { "a copy beside the live site should get its own" } else { "" };
            let about =
                [k.about.as_str(), own].into_iter().filter(|t| !t.is_empty()).collect::<Vec<_>>().join("; ");
            vec![k.name.clone(), word(&k.role), form, about]
        });
        if config.key.is_empty() {
            ui.line("  hosts, base paths, addresses and paths in directives");
        } else {
            ui.table(&["key", "role", "form", "about"], rows.collect());
        }
    }
    if !d.cell.is_empty() {
        ui.heading("Cells with an address");
        let rows = d.cell.iter().map(|c| {
            let row = c
                .key
                .as_ref()
                .map(|k| format!("{k} = {}", c.values.join(", ")))
                .unwrap_or_else(|| "every row".into());
            vec![c.table.clone(), c.column.clone(), word(&c.form), row]
        });
        ui.table(&["table", "column", "form", "rows"], rows.collect());
    }
    ui.heading("Tables");
    let rows = d.table.iter().map(|t| {
        let carried = if t.safe { "structure" } else { "all rows" };
        vec![t.name.clone(), carried.to_string(), t.about.clone()]
    });
    ui.table(&["table", "carried", "about"], rows.collect());
    ui.heading("Folders made anew");
    for t in &d.transient {
        let keep =
            if t.keep.is_empty() { String::new() } else { format!("  (stays: {})", t.keep.join(", ")) };
        ui.line(format!("  {}{keep}", t.path));
    }
    for g in &d.generated {
        ui.line(format!("  {}: {}", g.path, g.about));
    }
    let section = |title: &str, any: bool| {
        if any {
            ui.heading(title);
        }
    };
    section("Media", !d.media.is_empty());
    for m in &d.media {
        ui.line(format!("  {}: {}", m.path, m.about));
    }
    section("Keys that begin with the table prefix", !d.prefix_key.is_empty());
    for k in &d.prefix_key {
        let names = if k.names.is_empty() { "any".into() } else { k.names.join(", ") };
        ui.line(format!("  {}.{}: {names}", k.table, k.column));
    }
    section("Switches", !d.switch.is_empty());
    let rows = d.switch.iter().map(|s| {
        let states = s.states.keys().cloned().collect::<Vec<_>>().join(", ");
        vec![word(&s.name), states, put(&s.put), versions(s.put.from.as_deref(), s.put.below.as_deref())]
    });
    if !d.switch.is_empty() {
        ui.table(&["switch", "states", "where", "versions"], rows.collect());
    }
    section("Whose site it is", !d.identity.is_empty() || d.admin.is_some());
    for i in &d.identity {
        ui.line(format!("  {}: {}", word(&i.name), put(&i.put)));
    }
    if let Some(admin) = &d.admin {
        ui.line(format!("  administrator: {}.{} and {}", admin.table, admin.email, admin.password));
        for h in &admin.hash {
            let versions = versions(h.from.as_deref(), h.below.as_deref());
            ui.line(format!("  password as {} {versions}", word(&h.scheme)).trim_end());
        }
    }
    section("Should not lie in a document root", !d.leftover.is_empty());
    for l in &d.leftover {
        let safe = if l.safe { " (removed by --tidy)" } else { "" };
        ui.line(format!("  {}: {}{safe}", l.path, l.about));
    }
    section("After a move", !d.trap.is_empty());
    for t in &d.trap {
        ui.line(format!("  {}", t.symptom));
        ui.line(format!("    cause: {}", t.cause));
        ui.line(format!("    cure:  {}", t.cure));
    }
    ui.line(format!("\n{} in all", count(d.config.iter().map(|c| c.key.len() as u64).sum(), "config key")));
}

/// Returns a word of the definition's own vocabulary, as it stands in the file.
fn word(value: &impl Serialize) -> String {
    serde_json::to_value(value).ok().and_then(|v| v.as_str().map(str::to_string)).unwrap_or_default()
}

/// Tells where a value is put.
fn put(put: &Put) -> String {
    if let Some(row) = &put.row {
        let only: Vec<String> = row.only.iter().map(|o| format!("{} = {}", o.column, o.value)).collect();
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
