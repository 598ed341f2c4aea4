//! Arguments that `restore` and `clone` share: where and as what a copy lives. They become a waybill, and that a job.

use crate::context;
use crate::dump_files;
use crate::error::CommandError;
use crate::login;
use crate::progress::Progress;
use crate::scope::{ScopeArgs, kept_rows, scope};
use clap::{Args, ValueEnum};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use zporter_core::cargo::{Cargo, PackOptions, gather};
use zporter_core::fsx::absolute;
use zporter_core::place::{Address, DatabaseAccess, Root};
use zporter_core::restore::job::{Refresh, RestoreJob};
use zporter_core::restore::owner::Ids;
use zporter_core::restore::puts::Wishes;
use zporter_core::survey::{SurveyJob, survey};
use zporter_core::system::copy::SwitchName;
use zporter_core::text::needles::Asked;
use zporter_core::waybill::Waybill;

/// What of the text is changed only when somebody asks for it.
#[derive(Debug, Clone, Args, Default)]
#[command(next_help_heading = "On request")]
pub struct TextArgs {
    /// Also change host names that stand alone in running text
    #[arg(long)]
    pub bare_hosts: bool,
    /// Also change the domain of e-mail addresses
    #[arg(long)]
    pub mail_domains: bool,
    /// Also change root-relative references (href="/…") from or to the bare root
    #[arg(long)]
    pub references: bool,
    /// Repair wrong lengths of serialized values that were broken before, where only one reading is possible
    #[arg(long)]
    pub repair: bool,
}

impl TextArgs {
    /// As the rewriter knows it.
    pub fn asked(&self) -> Asked {
        Asked {
            references: self.references,
            bare_hosts: self.bare_hosts,
            mail_domains: self.mail_domains,
            repair: self.repair,
        }
    }
}

/// On or off.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, ValueEnum)]
pub enum State {
    /// On.
    On,
    /// Off.
    #[default]
    Off,
}

/// Where and as what a copy lives.
#[derive(Debug, Clone, Args, Default)]
pub struct CopyArgs {
    /// New base address
    #[arg(long, value_name = "URL")]
    pub address: Option<String>,
    // Not a doc comment: rustdoc would take the brackets for links.
    #[arg(
        long,
        value_name = "URL",
        help = "New database: mysql://USER@HOST[:PORT]/NAME[?socket=PATH], postgres://… or sqlite:///PATH; it must be empty"
    )]
    pub database: Option<String>,
    /// File that holds the new database's password (else ZPORTER_DATABASE_PASSWORD, else a prompt)
    #[arg(long, value_name = "FILE")]
    pub database_password_file: Option<PathBuf>,
    /// Empty the database if it holds something; a dump of that is kept for `zporter undo`
    #[arg(long)]
    pub replace: bool,
    /// Connections over which the database is loaded
    #[arg(long, value_name = "N", default_value_t = 2)]
    pub connections: usize,
    /// What a collation, character set or engine becomes that the server does not know; may be given several times
    #[arg(long, value_name = "NAME=OTHER")]
    pub fit: Vec<String>,
    /// Write the rewritten dump to this file instead of loading it (.sql, .sql.gz, .sql.zst)
    #[arg(long, value_name = "FILE")]
    pub dump_to: Option<PathBuf>,
    /// Dump to take the database from: of a plain archive, or of a site whose server is not to be had
    #[arg(long, value_name = "FILE")]
    pub dump: Option<PathBuf>,
    /// Old base address, where neither archive nor site tells it
    #[arg(long, value_name = "URL")]
    pub from_address: Option<String>,
    /// Another address the old site answered to; may be given several times
    #[arg(long, value_name = "URL")]
    pub alias: Vec<String>,
    /// Another folder the old site's values speak of; may be given several times
    #[arg(long, value_name = "PATH")]
    pub from_root: Vec<String>,
    /// Another site of the same database that moves as well: its old and its new address
    #[arg(long, num_args = 2, value_names = ["OLD", "NEW"])]
    pub map: Vec<String>,
    /// Folder of the host that is meant, where several live on one code base
    #[arg(long, value_name = "NAME")]
    pub host_folder: Option<String>,
    /// Restore as a further host of the code base in TARGET: its folder alone, under this name
    #[arg(long, value_name = "NAME", conflicts_with_all = ["only", "without", "tidy"])]
    pub host_as: Option<String>,
    /// New place of the folder that belongs to the site outside of its root (default: TARGET-storage)
    #[arg(long, value_name = "DIR")]
    pub storage: Option<PathBuf>,
    /// What is carried
    #[command(flatten)]
    pub scope: ScopeArgs,
    /// New table prefix, in table names, keys and config
    #[arg(long, value_name = "PREFIX", help_heading = "What the copy gets")]
    pub table_prefix: Option<String>,
    /// Switch: maintenance, cache, mail, index, friendly-urls (on or off), assets (on or plain)
    #[arg(long, value_name = "NAME=STATE", help_heading = "What the copy gets")]
    pub set: Vec<String>,
    /// Name of the site
    #[arg(long, value_name = "TEXT", help_heading = "What the copy gets")]
    pub site_name: Option<String>,
    /// E-mail address of the administrator and of the site's office
    #[arg(long, value_name = "ADDRESS", help_heading = "What the copy gets")]
    pub admin_email: Option<String>,
    /// File that holds a new password for the administrator
    #[arg(long, value_name = "FILE", help_heading = "What the copy gets")]
    pub admin_password_file: Option<PathBuf>,
    /// Remove installers and documents that should not lie in a document root
    #[arg(long, help_heading = "What the copy gets")]
    pub tidy: bool,
    /// Whose the files of the copy are (root only; else a clone keeps owners, and a restore takes that of the folder above)
    #[arg(long, value_name = "USER[:GROUP]", help_heading = "What the copy gets")]
    pub owner: Option<String>,
    /// What of the text changes as well
    #[command(flatten)]
    pub text: TextArgs,
    /// Whether events of the database work at once; else they are loaded at rest
    #[arg(long, value_name = "STATE", value_enum, default_value_t = State::Off)]
    pub events: State,
    /// Print the plan and change nothing
    #[arg(long)]
    pub dry_run: bool,
    /// Keep the job in this file
    #[arg(long, value_name = "FILE")]
    pub save_waybill: Option<PathBuf>,
    /// Run the job kept in this file
    #[arg(long, value_name = "FILE", conflicts_with_all = ["address", "database", "replace", "dump_to", "fit", "dump", "from_address", "alias", "from_root", "database_password_file", "map", "host_folder", "host_as", "storage", "only", "without", "rows", "table_prefix", "set", "site_name", "admin_email", "admin_password_file", "tidy", "references", "bare_hosts", "mail_domains", "repair"])]
    pub waybill: Option<PathBuf>,
    /// Write the full report as JSON
    #[arg(long, value_name = "FILE")]
    pub report: Option<PathBuf>,
    /// Samples to keep per column
    #[arg(long, value_name = "N", default_value_t = 2)]
    pub samples: usize,
}

impl CopyArgs {
    /// Makes the waybill of a job, or reads the one that is named.
    pub fn waybill(
        &self,
        job: &str,
        source: Option<&Path>,
        target: Option<&Path>,
    ) -> Result<Waybill, CommandError> {
        if let Some(path) = &self.waybill {
            let bill = Waybill::read(path)?;
            if bill.job != job {
                let wrong = format!("{} holds a job for `zporter {}`", path.display(), bill.job);
                return Err(CommandError::usage(wrong));
            }
            return Ok(bill);
        }
        let missing = || {
            CommandError::usage("source, target and --address are needed")
                .hint("--address URL is the address that the copy gets")
        };
        let whole = |p: &PathBuf| absolute(p);
        Ok(Waybill {
            job: job.into(),
            archive: absolute(source.ok_or_else(missing)?),
            target: absolute(target.ok_or_else(missing)?),
            address: self.address.clone().ok_or_else(missing)?,
            database: self.database.clone(),
            database_password_file: self.database_password_file.as_ref().map(whole),
            connections: self.connections,
            fit: self.fit.clone(),
            dump_to: self.dump_to.as_ref().map(whole),
            dump: self.dump.as_ref().map(whole),
            from_address: self.from_address.clone(),
            alias: self.alias.clone(),
            from_root: self.from_root.clone(),
            map: self.map.clone(),
            only: self.scope.only.clone(),
            without: self.scope.without.clone(),
            rows: self.scope.rows.clone(),
            table_prefix: self.table_prefix.clone(),
            storage: self.storage.as_ref().map(whole),
            host_folder: self.host_folder.clone(),
            host_as: self.host_as.clone(),
            set: self.set.clone(),
            site_name: self.site_name.clone(),
            admin_email: self.admin_email.clone(),
            admin_password_file: self.admin_password_file.as_ref().map(whole),
            tidy: self.tidy,
            owner: self.owner.clone(),
            events: self.events == State::On,
            references: self.text.references,
            bare_hosts: self.text.bare_hosts,
            mail_domains: self.text.mail_domains,
            repair: self.text.repair,
            refresh: false,
            replace: self.replace,
            delete_gone: false,
        })
    }
}

/// Reads `USER` or `USER:GROUP`, by name or number.
fn owner(text: &str) -> Result<Ids, CommandError> {
    let (user, group) = text.split_once(':').map_or((text, None), |(u, g)| (u, Some(g)));
    let table = |file: &str| std::fs::read_to_string(file).unwrap_or_default();
    let field = |table: &str, name: &str, at: usize| -> Option<u32> {
        let line =
            table.lines().find(|l| l.split(':').next() == Some(name) || l.split(':').nth(2) == Some(name))?;
        line.split(':').nth(at)?.parse().ok()
    };
    let unknown = |what: &str, name: &str| {
        CommandError::usage(format!("there is no {what} {name} on this machine"))
            .hint("name one that `id` knows, or a number")
    };
    let users = table("/etc/passwd");
    let uid = user.parse().ok().or_else(|| field(&users, user, 2)).ok_or_else(|| unknown("user", user))?;
    let gid = match group {
        None => field(&users, user, 3).unwrap_or(uid),
        Some(group) => group
            .parse()
            .ok()
            .or_else(|| field(&table("/etc/group"), group, 2))
            .ok_or_else(|| unknown("group", group))?,
    };
    Ok((uid, gid))
}

/// Reads `NAME=OTHER`.
pub fn fit(choices: &[String]) -> Result<Vec<(String, String)>, CommandError> {
    let choice = |text: &String| {
        let pair = text.split_once('=').map(|(a, b)| (a.to_string(), b.to_string()));
        pair.ok_or_else(|| {
            CommandError::usage(format!("{text:?} says not what becomes of what"))
                .hint("write it as utf8mb4_0900_ai_ci=utf8mb4_unicode_ci")
        })
    };
    choices.iter().map(choice).collect()
}

/// Gathers the site that a waybill clones.
fn cargo(bill: &Waybill, progress: &Progress) -> Result<Arc<Cargo>, CommandError> {
    let job = SurveyJob {
        site: bill.archive.clone(),
        dump: bill.dump.clone(),
        host_folder: bill.host_folder.clone(),
    };
    let found = survey(&job, &context::definitions()?, progress)?;
    let options = PackOptions {
        output: PathBuf::new(),
        dump: bill.dump.clone(),
        scope: scope(&bill.only, &bill.without)?,
        rows: kept_rows(&bill.rows)?,
        storage: None,
        host_named: bill.host_folder.is_some(),
        note: String::new(),
        packed_at: context::now(),
        written_by: context::written_by(),
        address: bill.from_address.as_deref().map(Address::parse).transpose()?,
    };
    Ok(Arc::new(gather(found, &options, &std::env::temp_dir(), true, progress)?))
}

/// Makes the job of a waybill. The site of a clone is read for it.
pub fn job(bill: &Waybill, progress: &Progress) -> Result<RestoreJob, CommandError> {
    if let Some(dump) = &bill.dump {
        dump_files::readable(dump)?;
    }
    if let Some(dump) = &bill.dump_to {
        dump_files::writable(dump)?;
    }
    let cargo = if bill.job == "clone" { Some(cargo(bill, progress)?) } else { None };
    let addresses = |list: &[String]| list.iter().map(|a| Address::parse(a)).collect::<Result<Vec<_>, _>>();
    let mut database = bill.database.as_deref().map(DatabaseAccess::parse).transpose()?;
    if let Some(access) = &mut database {
        login::complete(access, bill.database_password_file.as_deref())?;
    }
    let mut further = Vec::new();
    for pair in bill.map.chunks_exact(2) {
        further.push((Address::parse(&pair[0])?, Address::parse(&pair[1])?));
    }
    Ok(RestoreJob {
        archive: bill.archive.clone(),
        target: bill.target.clone(),
        address: Address::parse(&bill.address)?,
        database,
        connections: bill.connections,
        fit: fit(&bill.fit)?,
        dump_to: bill.dump_to.clone(),
        // A clone has taken its dump already.
        dump: bill.dump.clone().filter(|_| cargo.is_none()),
        cargo,
        from_address: bill.from_address.as_deref().map(Address::parse).transpose()?,
        aliases: addresses(&bill.alias)?,
        from_roots: bill.from_root.iter().map(|r| Root::parse(r)).collect::<Result<_, _>>()?,
        further,
        scope: scope(&bill.only, &bill.without)?,
        rows: kept_rows(&bill.rows)?,
        table_prefix: bill.table_prefix.clone(),
        storage: bill.storage.clone(),
        host_folder: bill.host_folder.clone(),
        host_as: bill.host_as.clone(),
        wishes: Wishes {
            switches: bill.set.iter().map(|text| switch(text)).collect::<Result<_, _>>()?,
            site_name: bill.site_name.clone(),
            admin_email: bill.admin_email.clone(),
            admin_password: bill.admin_password_file.as_deref().map(context::secret_of).transpose()?,
        },
        refresh: bill.refresh.then_some(Refresh { delete_gone: bill.delete_gone }),
        replace: bill.replace,
        tidy: bill.tidy,
        owner: bill.owner.as_deref().map(owner).transpose()?,
        events: bill.events,
        asked: Asked {
            references: bill.references,
            bare_hosts: bill.bare_hosts,
            mail_domains: bill.mail_domains,
            repair: bill.repair,
        },
    })
}

/// Reads `NAME=STATE`.
fn switch(text: &str) -> Result<(SwitchName, String), CommandError> {
    let wrong = || {
        CommandError::usage(format!("{text:?} is no switch"))
            .hint("write it as NAME=STATE: maintenance=on, cache=off, mail=off, index=off, friendly-urls=off, assets=plain")
    };
    let (name, state) = text.split_once('=').ok_or_else(wrong)?;
    let name = serde_json::from_value(name.into()).map_err(|_| wrong())?;
    Ok((name, state.to_string()))
}
