//! What should not lie in the document root of a restored site: listed, and removed where that is safe and asked for.

use crate::change_log::ChangeLog;
use crate::fsx::{AtPath, PathError};
use crate::shell;
use crate::survey::risks::{Unwanted, unwanted};
use crate::system::Definition;
use schemars::JsonSchema;
use serde::Serialize;
use std::fs;
use std::path::Path;

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
pub fn tidy(
    site: &Path,
    definition: &Definition,
    remove: bool,
    change_log: &ChangeLog,
) -> Result<Vec<Found>, PathError> {
    let mut out = Vec::new();
    for what in unwanted(site, definition) {
        let full = site.join(&what.path);
        let folder = fs::symlink_metadata(&full).is_ok_and(|m| m.is_dir());
        let removed = remove && what.safe;
        if removed {
            let spot = change_log.spot(&full)?;
            let gone = if folder { spot.remove_folder() } else { spot.remove() };
            gone.at(&full)?;
        }
        let command =
            format!("rm {}{}", if folder { "-r " } else { "" }, shell::quoted(&full.display().to_string()));
        out.push(Found { what, removed, command });
    }
    Ok(out)
}
