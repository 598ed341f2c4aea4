//! Folders that rows name: private files, goods for download. They belong to the site wherever they lie.

use super::recognise::ConfigFacts;
use crate::dump::inspect::{Inspection, Wanted};
use crate::dump::rules::same_value;
use crate::finding::{Code, Finding};
use crate::fsx::absolute;
use crate::place::Root;
use crate::system::Definition;
use crate::system::copy::SetForm;
use crate::text::serialized;
use crate::tree::Tree;
use std::path::Path;

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
        let meant =
            |row: &&Vec<Option<String>>| row[1].as_deref().is_some_and(|v| same_value(&rule.only.value, v));
        let Some(value) = rows.iter().find(meant).and_then(|row| row[0].clone()) else { continue };
        let path = match rule.form {
            SetForm::SerializedString => text_of(&value).unwrap_or_default(),
            _ => value,
        };
        if path.trim().is_empty() {
            continue;
        }
        let relative = !path.starts_with('/') && !path.contains(':');
        let whole = match relative {
            true => absolute(&tree.root().join(&definition.served_from).join(&path)),
            false => Path::new(&path).to_path_buf(),
        };
        let place =
            format!("{}{}, {} = {}", config.table_prefix, rule.table, rule.only.column, rule.only.value);
        let inside = whole.starts_with(tree.root())
            || Root::parse(&path)
                .is_ok_and(|root| config.roots.iter().any(|own| root.segments().starts_with(own.segments())));
        if inside {
            continue;
        }
        if relative {
            // Its place hangs on that of the document root.
            let what =
                format!("the folder {path} ({}) lies outside of the site and is not copied", rule.about);
            let cure = format!(
                "name {} as the site, or carry the folder by hand",
                tree.root().parent().unwrap_or(tree.root()).display()
            );
            risks.push(Finding::new(Code::FolderMissing, what, place, cure));
        } else if let Ok(root) = Root::parse(&path) {
            if !config.storage.contains(&root) {
                config.storage.push(root);
            }
            if !tree.is_folder(&whole) {
                let what = format!("the folder {path} ({}) belongs to the site and is not here", rule.about);
                risks.push(Finding::new(
                    Code::FolderMissing,
                    what,
                    place,
                    "carry it by hand, or name where it lies with --storage DIR",
                ));
            }
        }
    }
}

/// Returns the text of a serialized string.
fn text_of(value: &str) -> Option<String> {
    let (leaves, _) = serialized::leaves(value.as_bytes())?;
    let leaf = leaves.first()?;
    String::from_utf8(value.as_bytes()[leaf.content.clone()].to_vec()).ok()
}
