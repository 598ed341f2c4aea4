//! Arguments that several commands share: what of a site is meant.

use crate::error::CommandError;
use clap::Args;
use zporter_core::dump::rules::Keep;
use zporter_core::survey::select::{Part, Scope};

/// What of a site is meant.
#[derive(Debug, Args, Default, Clone)]
pub struct ScopeArgs {
    /// Only these parts: database, code, media, transient, or a folder such as images/banners/
    #[arg(long, value_name = "PART", value_delimiter = ',', help_heading = "What is carried")]
    pub only: Vec<String>,
    /// Not these parts
    #[arg(long, value_name = "PART", value_delimiter = ',', help_heading = "What is carried")]
    pub without: Vec<String>,
    /// What of which tables: PATTERN=all, =structure or =none; the last one that fits counts
    #[arg(long, value_name = "PATTERN=WHAT", help_heading = "What is carried")]
    pub rows: Vec<String>,
}

/// Reads the names of parts.
pub fn scope(only: &[String], without: &[String]) -> Result<Scope, CommandError> {
    let parts = |list: &[String]| list.iter().map(|text| part(text)).collect::<Result<Vec<_>, _>>();
    Ok(Scope { only: parts(only)?, without: parts(without)? })
}

fn part(text: &str) -> Result<Part, CommandError> {
    Part::parse(text).ok_or_else(|| {
        CommandError::usage(format!("{text:?} is no part of a site"))
            .hint("parts are database, code, media and transient; a folder is written with a slash, such as images/banners/")
    })
}

/// Reads `PATTERN=all|structure|none`.
pub fn kept_rows(choices: &[String]) -> Result<Vec<(globset::GlobMatcher, Keep)>, CommandError> {
    let choice = |text: &String| {
        let wrong = || {
            CommandError::usage(format!("{text:?} says not what to carry of which tables"))
                .hint("write it as PATTERN=structure, where PATTERN is a table's name and may hold * and ?")
        };
        let (pattern, word) = text.split_once('=').ok_or_else(wrong)?;
        let keep = match word {
            "all" => Keep::All,
            "structure" => Keep::Structure,
            "none" => Keep::Nothing,
            _ => return Err(wrong()),
        };
        let pattern = globset::Glob::new(pattern).map_err(|_| wrong())?;
        Ok((pattern.compile_matcher(), keep))
    };
    choices.iter().map(choice).collect()
}
