//! Folders that rows name: private files, goods for download. They belong to the site wherever they lie.

use super::recognise::{ConfigFacts, StorageFolder};
use crate::dump::inspect::{Inspection, Wanted};
use crate::dump::rules::same_value;
use crate::finding::{Code, Finding};
use crate::place::Root;
use crate::system::Definition;
use crate::system::copy::SetForm;
use crate::text::serialized;
use crate::tree::Tree;
use std::path::PathBuf;

/// Returns the rows that name folders, in the order of the definition.
pub(super) fn wanted(definition: &Definition, prefix: &str) -> Vec<Wanted> {
    let rows = definition.row_folder.iter().map(|f| Wanted {
        table: format!("{prefix}{}", f.table),
        columns: vec![f.column.clone(), f.only.column.clone()],
        only: Some((f.only.column.clone(), f.only.value.clone())),
    });
    rows.collect()
}

/// Takes note of the folders that the last rows of an inspection name: those outside of the site are carried with it, where they can be.
pub(super) fn note(
    definition: &Definition,
    tree: &dyn Tree,
    found: &Inspection,
    config: &mut ConfigFacts,
    risks: &mut Vec<Finding>,
) {
    let first = found.rows.len().saturating_sub(definition.row_folder.len());
    for (rule, rows) in definition.row_folder.iter().zip(&found.rows[first..]) {
        let beaten = definition.beaten.iter().any(|b| {
            let key = b.key.replace("{value}", &rule.only.value);
            b.table == rule.table
                && b.column == rule.only.column
                && config.values.iter().any(|v| v.key == key)
        });
        if beaten {
            continue;
        }
        let meant =
            |row: &&Vec<Option<String>>| row[1].as_deref().is_some_and(|v| same_value(&rule.only.value, v));
        let Some(value) = rows.iter().find(meant).and_then(|row| row[0].clone()) else { continue };
        let path = match (&rule.pair, rule.form) {
            (Some(name), _) => paired(&value, name).unwrap_or_default(),
            (None, SetForm::SerializedString) => text_of(&value).unwrap_or_default(),
            _ => value,
        };
        let document_root = tree.root().join(&definition.served_from);
        let Some(folder) = StorageFolder::named(&path, Some(&document_root)) else { continue };
        let whole = PathBuf::from(folder.path.to_string());
        let place =
            format!("{}{}, {} = {}", config.table_prefix, rule.table, rule.only.column, rule.only.value);
        let below = |own: &Root| folder.path.segments().starts_with(own.segments());
        if whole.starts_with(tree.root()) || config.roots.iter().any(below) {
            continue;
        }
        if !tree.is_folder(&whole) {
            let what = format!("the folder {path} ({}) belongs to the site and is not here", rule.about);
            let cure = "carry it by hand, or name where it lies with --storage DIR";
            risks.push(Finding::new(Code::FolderMissing, what, place, cure));
        }
        if !config.storage.contains(&folder) {
            config.storage.push(folder);
        }
    }
}

/// Returns the text that stands under a name among `name=value` pairs, whether it is serialized, JSON or plain.
fn paired(pairs: &str, name: &str) -> Option<String> {
    let value = pairs.split('|').find_map(|pair| pair.trim().strip_prefix(name)?.strip_prefix('='))?;
    let value = value.trim().trim_end_matches(';');
    let text = text_of(value).or_else(|| text_of(&format!("{value};")));
    Some(text.or_else(|| serde_json::from_str(value).ok()).unwrap_or_else(|| value.to_string()))
}

/// Returns the text of a serialized string.
fn text_of(value: &str) -> Option<String> {
    let (leaves, _) = serialized::leaves(value.as_bytes())?;
    let leaf = leaves.first()?;
    String::from_utf8(value.as_bytes()[leaf.content.clone()].to_vec()).ok()
}
