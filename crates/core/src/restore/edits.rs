//! What of files and rows is edited: config files, the web server's own, declared texts, declared cells and columns.

use super::RestoreError;
use super::source::Source;
use crate::config::edit::{self, Context, FilePlan};
use crate::config::htaccess;
use crate::dump::rules::{Cell, CodedColumn, PackedColumn};
use crate::event::Findings;
use crate::finding::{Code, Finding};
use crate::select::{Decision, Selection};
use crate::survey::recognise::{ConfigFile, config_files};
use crate::system::schema::{Config, ConfigForm};
use crate::system::{Definition, glob};
use std::path::Path;

/// Returns the definition's cells with the site's table prefix.
pub fn cells(definition: &Definition, prefix: &str) -> Vec<Cell> {
    let tables = |table: &str| tables(definition, prefix, table);
    let cells = definition.cell.iter().flat_map(|c| tables(&c.table).into_iter().map(move |t| (t, c)));
    let cells = cells.map(|(table, c)| Cell {
        table,
        column: c.column.clone(),
        key: c.key.clone().map(|k| (k, c.values.clone())),
        form: c.form,
        beside_host: c.beside_host.clone(),
        stays: c.stays.clone(),
        tail: c.tail,
        unique: c.unique,
        within: c.within.clone(),
    });
    cells.collect()
}

/// The tables that a rule for one means: in a network of sites also those with the number of a further site.
pub(super) fn tables(definition: &Definition, prefix: &str, table: &str) -> Vec<String> {
    let one = format!("{prefix}{table}");
    if definition.network { vec![one, format!("{prefix}*_{table}")] } else { vec![one] }
}

/// Returns the definition's compressed columns with the site's table prefix.
pub(super) fn packed(definition: &Definition, prefix: &str) -> Vec<PackedColumn> {
    let columns = definition.packed.iter().map(|p| PackedColumn {
        table: format!("{prefix}{}", p.table),
        column: p.column.clone(),
        how: p.how,
        flags: p.flags.clone().map(|f| (f.column, f.value)),
    });
    columns.collect()
}

/// Returns the definition's columns with a spelling of their own, with the site's table prefix.
pub(super) fn coded(definition: &Definition, prefix: &str) -> Vec<CodedColumn> {
    let columns = definition.coded.iter().map(|c| CodedColumn {
        table: format!("{prefix}{}", c.table),
        column: c.column.clone(),
        code: c.code,
    });
    columns.collect()
}

pub(super) fn file_plans(
    source: &Source,
    definition: &Definition,
    cx: &Context<'_>,
    selection: &Selection,
    findings: &mut Findings<'_>,
) -> Result<Vec<FilePlan>, RestoreError> {
    let mut plans = Vec::new();
    let carried = |path: &str| selection.decide(Path::new(path), false) == Decision::Copy;
    let mut found = config_files(&source.files, definition);
    let needed = definition.config.first().is_some_and(|c| carried(&c.path));
    if needed && !found.iter().any(|c| c.config.form != ConfigForm::Htaccess) {
        let path = definition.config.first().map(|c| c.path.clone()).unwrap_or_default();
        findings.push(Finding::new(Code::ConfigMissing,
            "the config file is not there, so nothing says to the site which database and address are its own",
            path,
            "make it on the new host, by the system's installer or its template",
        ));
    }
    found.retain(|c| carried(&c.path));
    for ConfigFile { config, path, text } in found {
        let plan = edit::plan_checked(config, &path, &text, cx)
            .map_err(|e| RestoreError::Config { path: path.clone(), why: e.to_string() })?;
        plans.push(plan);
    }
    let for_web_server = Config {
        path: String::new(),
        contains: None,
        form: ConfigForm::Htaccess,
        doubled: None,
        above: false,
        named_in: None,
        key: Vec::new(),
        like: None,
    };
    for (path, (text, _)) in &source.files.held {
        let shown = path.shown();
        let Some(below) = shown.strip_prefix(&source.files.prefix) else { continue };
        let known = plans.iter().any(|p| p.path == below);
        if !known && htaccess::is_read_anywhere(path.as_path()) && carried(below) {
            let plan = edit::plan(&for_web_server, below, text, cx)
                .map_err(|e| RestoreError::Config { path: below.to_string(), why: e.to_string() })?;
            if !plan.edits.is_empty() || !plan.findings.is_empty() {
                plans.push(plan);
            }
        }
    }
    let patterns: Vec<_> = definition.text.iter().filter_map(|t| glob(&t.path).ok()).collect();
    for (path, (text, _)) in &source.files.held {
        let Some(below) = path.shown().strip_prefix(&source.files.prefix).map(str::to_string) else {
            continue;
        };
        if carried(&below) && patterns.iter().any(|p| p.is_match(Path::new(&below))) {
            let plan = edit::plan_text(&below, text, cx);
            if !plan.edits.is_empty() {
                plans.push(plan);
            }
        }
    }
    Ok(plans)
}
