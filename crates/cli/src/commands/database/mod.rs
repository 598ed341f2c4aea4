//! `zporter database`: the database part alone.

mod attempt;
mod create;
mod dump;
mod load;
mod sizes;

use crate::context;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::login::PasswordArgs;
use crate::scope::kept_rows;
use crate::ui::Ui;
use clap::{Args, Subcommand};
use globset::GlobMatcher;
use std::path::Path;
use zporter_core::cargo::{keep, means};
use zporter_core::dump::rules::Keep;
use zporter_core::event::Warning;
use zporter_core::place::DatabaseAccess;
use zporter_core::survey::{SiteDatabase, site_database, table_rule};

/// Try, measure, dump, create and load databases
#[derive(Debug, Args)]
pub struct DatabaseArgs {
    #[command(subcommand)]
    command: DatabaseCommand,
}

#[derive(Debug, Subcommand)]
enum DatabaseCommand {
    Try(attempt::TryArgs),
    Sizes(sizes::SizesArgs),
    Dump(dump::DumpArgs),
    Create(create::CreateArgs),
    Load(load::LoadArgs),
}

/// Runs the command.
pub fn run(ui: &Ui, args: &DatabaseArgs) -> Result<Exit, CommandError> {
    match &args.command {
        DatabaseCommand::Try(args) => attempt::run(ui, args),
        DatabaseCommand::Sizes(args) => sizes::run(ui, args),
        DatabaseCommand::Dump(args) => dump::run(ui, args),
        DatabaseCommand::Create(args) => create::run(ui, args),
        DatabaseCommand::Load(args) => load::run(ui, args),
    }
}

/// A database that is there: a site's, or one named by its URL.
#[derive(Debug, Args)]
struct WhereArgs {
    // Not a doc comment: rustdoc would take the brackets for links.
    #[arg(
        value_name = "SITE|URL",
        help = "Folder of a site, or mysql://USER@HOST[:PORT]/NAME, postgres://…, sqlite:///PATH"
    )]
    place: String,
    /// Folder of the host that is meant, where several live on one code base
    #[arg(long, value_name = "NAME")]
    host_folder: Option<String>,
    /// Its password
    #[command(flatten)]
    password: PasswordArgs,
}

/// The database that is meant, with what is known of its site.
struct Meant {
    access: DatabaseAccess,
    site: Option<SiteDatabase>,
}

impl WhereArgs {
    fn find(&self) -> Result<Meant, CommandError> {
        if self.place.contains("://") || self.place.starts_with("sqlite:") {
            let mut access = DatabaseAccess::parse(&self.place)?;
            self.password.complete(&mut access)?;
            return Ok(Meant { access, site: None });
        }
        let found =
            site_database(Path::new(&self.place), self.host_folder.as_deref(), &context::definitions()?)?;
        let access = found.access.clone().ok_or_else(|| {
            CommandError::usage(format!("the config of {} names no database", self.place))
                .hint("name the database by its URL")
        })?;
        Ok(Meant { access, site: Some(found) })
    }
}

impl Meant {
    /// Says what of a table is carried, and why if not all of it: as asked, else as the definition says.
    fn keeper<'m>(
        &'m self,
        rows: &[String],
    ) -> Result<impl Fn(&str) -> (Keep, String) + use<'m>, CommandError> {
        let asked = kept_rows(rows)?;
        Ok(move |table: &str| match &self.site {
            Some(site) => {
                let kept = keep(&site.definition, &site.table_prefix, &asked, table);
                (kept, self.about(table).map_or("as asked".into(), |(about, _)| about.to_string()))
            }
            None => {
                let fits = asked.iter().rev().find(|(pattern, _)| pattern.is_match(table));
                (fits.map_or(Keep::All, |(_, keep)| *keep), "as asked".into())
            }
        })
    }

    /// Patterns that fit none of these tables: slips of the pen, as a rule.
    fn in_vain(&self, rows: &[String], tables: &[String]) -> Result<Vec<Warning>, CommandError> {
        let prefix = self.site.as_ref().map_or("", |s| s.table_prefix.as_str());
        let fits = |pattern: &GlobMatcher| tables.iter().any(|t| means(pattern, prefix, t));
        let asked = kept_rows(rows)?.into_iter().map(|(pattern, _)| pattern);
        let vain = asked.filter(|p| !tables.is_empty() && !fits(p));
        let warning = |pattern: GlobMatcher| {
            let what = format!("no table has a name like {}", pattern.glob().glob());
            Warning::new(what, "", "`zporter database sizes` lists the tables")
        };
        Ok(vain.map(warning).collect())
    }

    /// What the definition says of a table that may be left out: what it holds, and whether that is safe without asking.
    fn about(&self, table: &str) -> Option<(&str, bool)> {
        let site = self.site.as_ref()?;
        table_rule(&site.definition, &site.table_prefix, table).map(|r| (r.about.as_str(), r.safe))
    }
}
