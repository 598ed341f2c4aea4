//! Dumps that a user names: refused in plain words where a name already tells that it is none.

use crate::error::CommandError;
use std::path::Path;

/// Endings of archives, which are no dumps.
const ARCHIVES: [&str; 7] = [".tar.zst", ".tzst", ".tar.gz", ".tgz", ".tar", ".zip", ".7z"];

/// Looks at a dump that is to be read.
pub fn readable(path: &Path) -> Result<(), CommandError> {
    let shown = path.display();
    let name = path.to_string_lossy().to_lowercase();
    if !path.exists() {
        return Err(
            CommandError::usage(format!("there is no dump {shown}")).hint("check the spelling of the path")
        );
    }
    if path.is_dir() {
        return Err(CommandError::usage(format!("{shown} is a folder, not a dump"))
            .hint("name the .sql, .sql.gz or .sql.zst file"));
    }
    if ARCHIVES.iter().any(|e| name.ends_with(e)) {
        return Err(CommandError::usage(format!("{shown} is an archive, not a dump"))
            .hint("`zporter restore` takes an archive; with `--only database` its database alone"));
    }
    Ok(())
}

/// Looks at the name of a dump that is to be written.
pub fn writable(path: &Path) -> Result<(), CommandError> {
    let name = path.to_string_lossy().to_lowercase();
    if ARCHIVES.iter().any(|e| name.ends_with(e)) {
        return Err(CommandError::usage(format!(
            "{} would be an archive by its name, and SQL is written",
            path.display()
        ))
        .hint("name a file that ends in .sql, .sql.gz or .sql.zst"));
    }
    Ok(())
}
