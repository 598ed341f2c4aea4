//! `zporter completions`: what a shell needs to complete commands and options, made from their own definitions.

use crate::error::CommandError;
use crate::exit::Exit;
use clap::Args;
use clap_complete::Shell;
use std::io::Write;

/// Print what a shell needs to complete zporter's commands and options
#[derive(Debug, Args)]
#[command(
    after_help = "For bash: zporter completions bash > ~/.local/share/bash-completion/completions/zporter"
)]
pub struct CompletionsArgs {
    /// Shell
    #[arg(value_enum)]
    shell: Shell,
}

/// Runs the command.
pub fn run(command: &mut clap::Command, args: &CompletionsArgs) -> Result<Exit, CommandError> {
    let mut text = Vec::new();
    clap_complete::generate(args.shell, command, "zporter", &mut text);
    let wrong = |e| CommandError::world("the output cannot be written", e);
    std::io::stdout().write_all(&text).map_err(wrong)?;
    Ok(Exit::Done)
}
