//! `zporter schema`: the shapes of JSON documents and job files, for who writes programs around this one.

use crate::error::CommandError;
use crate::exit::Exit;
use crate::render::text;
use crate::schemas;
use clap::Args;

/// Print the JSON schema of what a command prints with --json, or of its job file
#[derive(Debug, Args)]
pub struct SchemaArgs {
    /// Document, such as restore, or job-restore; without it the names are listed
    name: Option<String>,
}

/// Runs the command.
pub fn run(args: &SchemaArgs) -> Result<Exit, CommandError> {
    let Some(name) = &args.name else {
        schemas::names().iter().for_each(text::line);
        return Ok(Exit::Done);
    };
    let schema = schemas::named(name).ok_or_else(|| {
        CommandError::usage(format!("no document {name:?} is known"))
            .hint(format!("known are: {}", schemas::names().join(", ")))
    })?;
    let shown = serde_json::to_string_pretty(&schema);
    text::line(shown.map_err(|e| CommandError::world("the schema has no JSON form", e))?);
    Ok(Exit::Done)
}
