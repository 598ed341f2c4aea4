//! What should not lie in the document root of a restored site: listed, and removed where that is safe and asked for.

use crate::fsx::{AtPath, PathError};
use crate::shell;
use crate::survey::risks::{Unwanted, unwanted};
use crate::system::Definition;
use crate::tree::Tree;
use schemars::JsonSchema;
use serde::Serialize;
use std::sync::Arc;

/// Something that should not be there.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Found {
    /// What it is.
    #[serde(flatten)]
    pub what: Unwanted,
    /// Whether it was removed.
    pub removed: bool,
    /// Command that removes it.
    pub command: String,
}

/// Lists what should not be there. With `remove` what the definition calls safe goes.
pub fn tidy(tree: &Arc<dyn Tree>, definition: &Definition, remove: bool) -> Result<Vec<Found>, PathError> {
    let mut out = Vec::new();
    for what in unwanted(tree, definition) {
        let full = tree.root().join(&what.path);
        let folder = tree.there(&full).is_some_and(|m| m.is_folder());
        let removed = remove && what.safe;
        if removed {
            let gone = if folder { tree.remove_all(&full) } else { tree.remove(&full) };
            gone.at(&full)?;
        }
        let command =
            format!("rm {}{}", if folder { "-r " } else { "" }, shell::quoted(&full.display().to_string()));
        out.push(Found { what, removed, command });
    }
    Ok(out)
}
