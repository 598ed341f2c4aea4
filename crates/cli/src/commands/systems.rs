//! `zporter systems`: what is known of content systems.

use crate::context;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::format::count;
use crate::ui::Ui;
use clap::Args;
use serde::Serialize;
use std::path::PathBuf;
use zporter_core::system::schema::Definition;
use zporter_core::system::{self, Known};

/// List the known systems, or explain one
#[derive(Debug, Args)]
pub struct SystemsArgs {
    /// System to explain
    id: Option<String>,
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
    if ui.json {
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
        ui.line(format!("  version: {} in {}", v.keys.join(v.join.as_str()), v.path));
    }
    for config in &d.config {
        ui.heading(&format!("Config file {}", config.path));
        let rows = config.key.iter().map(|k| {
            let form = k.form.as_ref().map(word).unwrap_or_default();
            vec![k.name.clone(), word(&k.role), form, k.about.clone()]
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
    ui.heading("Should not lie in a document root");
    for l in &d.leftover {
        ui.line(format!("  {}: {}", l.path, l.about));
    }
    ui.line(format!("\n{} in all", count(d.config.iter().map(|c| c.key.len() as u64).sum(), "config key")));
}

/// Returns a word of the definition's own vocabulary, as it stands in the file.
fn word(value: &impl Serialize) -> String {
    serde_json::to_value(value).ok().and_then(|v| v.as_str().map(str::to_string)).unwrap_or_default()
}
