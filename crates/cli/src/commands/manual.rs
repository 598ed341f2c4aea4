//! `zporter manual`: man pages, made from the same definitions as the help.

use crate::error::CommandError;
use crate::exit::Exit;
use clap::Args;
use std::path::{Path, PathBuf};
use zporter_core::fsx::AtPath;
use zporter_core::tree::write_atomically;

/// Write man pages of all commands into a folder
#[derive(Debug, Args)]
pub struct ManualArgs {
    /// Folder
    folder: PathBuf,
}

/// Runs the command.
pub fn run(command: &clap::Command, args: &ManualArgs) -> Result<Exit, CommandError> {
    std::fs::create_dir_all(&args.folder).at(&args.folder)?;
    page(command, "zporter", &args.folder)?;
    Ok(Exit::Done)
}

fn page(command: &clap::Command, name: &str, folder: &Path) -> Result<(), CommandError> {
    let named = command.clone().name(name.to_string()).bin_name(name.replace('-', " "));
    let mut out = Vec::new();
    let path = folder.join(format!("{name}.1"));
    clap_mangen::Man::new(named).render(&mut out).at(&path)?;
    write_atomically(&path, &out)?;
    for inner in command.get_subcommands().filter(|c| c.get_name() != "help") {
        page(inner, &format!("{name}-{}", inner.get_name()), folder)?;
    }
    Ok(())
}
