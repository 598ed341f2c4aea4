//! The options of every command that does something, each in one place: an argument of the command line and a key of a job file are made
//! from the same field, and the work reads that field.
//!
//! The `x-` words in a field's schema say how it is written on a command line: `x-value` what stands for its value in the help, `x-index`
//! that it has no name but a place, `x-group` where the help lists it, `x-comma` that commas part several, `x-short` its short name,
//! `x-in` the one command that has it, `x-needs` and `x-excludes` other fields.

// The comments are shown as they are on a command line, where brackets mean what may be left out.
#![allow(rustdoc::broken_intra_doc_links)]

pub mod values;
mod visit;

pub use visit::VisitJob;

use crate::copy_record::Record;
use crate::database::loading::Substitution;
use crate::dump::dialect::Dialect;
use crate::place::{Address, DatabaseAccess, PlaceError, Root};
use crate::select::{Part, Scope};
use crate::text::replacements::RewriteOptions;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use values::{
    At, DatabaseUrl, FileOrPipe, FullPath, MailAddress, OnOff, RowsChoice, ServerUrl, Size, Substitute,
    SwitchChoice, TablePattern,
};

/// Says whether a value is what it is where nobody said anything.
pub(crate) fn unset<T: Default + PartialEq>(value: &T) -> bool {
    *value == T::default()
}

fn two() -> usize {
    2
}

/// Makes a site elsewhere: of an archive (`restore`), or of a site (`clone`).
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct CopyJob {
    /// Archive of ours or a plain zip or tar.gz of a site; to clone, the folder of the site, which is only read
    #[schemars(extend("x-index" = 1, "x-value" = "SOURCE"))]
    pub source: FullPath,
    /// Target folder; missing or empty, or with --refresh a copy; with --in-place the site (default: where it was packed)
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-index" = 2, "x-value" = "TARGET"))]
    pub target: FullPath,
    /// Bring the site back where it was: folder, address and database as the archive knows them; what is there is kept beside
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-group" = "The new place", "x-in" = "restore", "x-excludes" = ["dump-to", "host-as", "table-prefix"]))]
    pub in_place: bool,
    /// New base address
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "URL", "x-group" = "The new place"))]
    pub address: Option<Address>,
    /// New database: mysql://USER@HOST[:PORT]/NAME[?socket=PATH], postgres://… or sqlite:///PATH; it must be empty
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "URL", "x-group" = "The new place"))]
    pub database: Option<DatabaseUrl>,
    /// File that holds the new database's password (else ZPORTER_DATABASE_PASSWORD, a saved log-in, a prompt)
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "FILE", "x-group" = "The new place"))]
    pub database_password_file: Option<FullPath>,
    /// Remove tables of the same names from the database first; a dump of them is kept for `zporter undo`
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-group" = "The new place"))]
    pub empty_database: bool,
    /// Connections over which the database is loaded
    #[serde(default = "two")]
    #[schemars(extend("x-value" = "N", "x-group" = "The new place"))]
    pub connections: usize,
    /// What a collation, character set or engine becomes that the server does not know; may be given several times
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "NAME=OTHER", "x-group" = "The new place"))]
    pub substitute: Vec<Substitute>,
    /// Whether events of the database work at once; else they are loaded at rest
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "STATE", "x-group" = "The new place"))]
    pub events: OnOff,
    /// Write the rewritten dump to this file instead of loading it (.sql, .sql.gz, .sql.zst)
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "FILE", "x-group" = "The new place"))]
    pub dump_to: Option<FullPath>,
    /// New place of the folder that belongs to the site outside of its root (default: TARGET-storage)
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "DIR", "x-group" = "The new place"))]
    pub storage: Option<FullPath>,
    /// Join the code base in TARGET as a further host: its folder alone, under this name
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "NAME", "x-group" = "The new place", "x-excludes" = ["only", "without", "tidy"]))]
    pub host_as: Option<String>,
    /// Dump to take the database from: of a plain archive, or of a site whose server cannot be reached
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "FILE", "x-group" = "The old place"))]
    pub dump: Option<FullPath>,
    /// Database of the site, where its config does not name it or nobody knows its system
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "URL", "x-group" = "The old place", "x-in" = "clone"))]
    pub old_database: Option<DatabaseUrl>,
    /// File that holds the password of that database
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "FILE", "x-group" = "The old place", "x-in" = "clone", "x-needs" = "old-database"))]
    pub old_database_password_file: Option<FullPath>,
    /// Further text files whose addresses and paths follow, such as templates/**/*.css; may be given several times
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "PATTERN", "x-group" = "The old place"))]
    pub text: Vec<String>,
    /// Old base address, where neither archive nor site tells it
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "URL", "x-group" = "The old place"))]
    pub old_address: Option<Address>,
    /// Another address the old site answered to; may be given several times
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "URL", "x-group" = "The old place"))]
    pub old_alias: Vec<Address>,
    /// Another folder the old site's values speak of; may be given several times
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "PATH", "x-group" = "The old place"))]
    pub old_root: Vec<Root>,
    /// Folder of the host that is meant, where several live on one code base
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "NAME", "x-group" = "The old place"))]
    pub host_folder: Option<String>,
    /// Another site of the same database that moves as well: its old and its new address
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "OLD NEW", "x-group" = "The old place"))]
    pub map: Vec<(Address, Address)>,
    /// Only these parts: database, code, media, cache, or a folder, file or pattern such as images/banners
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "PART", "x-comma" = true, "x-group" = "What is copied"))]
    pub only: Vec<Part>,
    /// Not these parts
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "PART", "x-comma" = true, "x-group" = "What is copied"))]
    pub without: Vec<Part>,
    /// What of which tables: PATTERN=all, =structure or =none; the last one that fits counts
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "PATTERN=WHAT", "x-group" = "What is copied"))]
    pub rows: Vec<RowsChoice>,
    /// Also copy tables whose names match PATTERN, although they lack the site's prefix
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "PATTERN", "x-group" = "What is copied"))]
    pub tables: Vec<TablePattern>,
    /// Only the structure of tables that a copy can do without: logs, statistics, search indexes
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-group" = "What is copied"))]
    pub light: bool,
    /// New table prefix, in table names, keys and config
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "PREFIX", "x-group" = "What the copy gets"))]
    pub table_prefix: Option<String>,
    /// Switch: maintenance, cache, mail, index, friendly-urls (on or off), assets (on or plain)
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "NAME=STATE", "x-group" = "What the copy gets"))]
    pub set: Vec<SwitchChoice>,
    /// Name of the site
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "TEXT", "x-group" = "What the copy gets"))]
    pub site_name: Option<String>,
    /// E-mail address of the administrator and of the site's office
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "ADDRESS", "x-group" = "What the copy gets"))]
    pub admin_email: Option<MailAddress>,
    /// File that holds a new password for the administrator
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "FILE", "x-group" = "What the copy gets"))]
    pub admin_password_file: Option<FullPath>,
    /// Remove installers and documents that should not lie in a document root
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-group" = "What the copy gets"))]
    pub tidy: bool,
    /// Whose the files of the copy are (root only; else a clone keeps owners, and a restore takes that of the folder above)
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "USER[:GROUP]", "x-group" = "What the copy gets"))]
    pub owner: Option<String>,
    /// Also change host names that stand alone in running text
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-group" = "On request"))]
    pub bare_hosts: bool,
    /// Also change the domain of e-mail addresses
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-group" = "On request"))]
    pub mail_domains: bool,
    /// Also change root-relative references (href="/…") from or to the bare root
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-group" = "On request"))]
    pub references: bool,
    /// Repair wrong lengths of serialized values that were broken before, where only one reading is possible
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-group" = "On request"))]
    pub repair: bool,
    /// Bring the copy in TARGET up to date: changed files and the whole database; its own settings stay
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-group" = "A copy that exists", "x-in" = "clone"))]
    pub refresh: bool,
    /// Push a copy (SOURCE) back over the live site that it came from (TARGET): settings, accounts and what has grown there stay
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-group" = "A copy that exists", "x-in" = "clone", "x-excludes" = ["refresh", "address", "database", "dump-to", "host-as", "table-prefix", "set", "site-name", "admin-email", "admin-password-file"]))]
    pub push: bool,
    /// Overwrite what changed on the target since the copy was made; without this, --refresh and --push list it and stop
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-group" = "A copy that exists", "x-in" = "clone"))]
    pub overwrite: bool,
    /// Switch of the site while it is read, such as maintenance=on: set first, put back at the end whatever happens
    #[serde(default, rename = "while", skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "NAME=STATE", "x-group" = "The old place", "x-in" = "clone"))]
    pub during: Vec<SwitchChoice>,
    /// Remove what is no longer at the source; it is kept for `zporter undo`
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-group" = "A copy that exists", "x-in" = "clone", "x-needs" = "refresh"))]
    pub delete_gone: bool,
    /// Visit the site behind it: its pages, what they need, what is wrong with them
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-group" = "A look at the end"))]
    pub visit: bool,
    /// Ask the site's name at this address in the network, before name servers know it
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "IP[:PORT]", "x-group" = "A look at the end", "x-needs" = "visit"))]
    pub at: Option<At>,
    /// Go on where the certificate is not valid; it is told all the same
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-group" = "A look at the end", "x-needs" = "visit"))]
    pub any_certificate: bool,
}

impl CopyJob {
    /// What is put in the place of what the server does not know.
    pub fn substitutions(&self) -> Vec<Substitution> {
        self.substitute.iter().map(|s| s.0.clone()).collect()
    }

    /// What is changed in texts only because somebody asked for it.
    pub fn rewriting(&self) -> RewriteOptions {
        RewriteOptions {
            references: self.references,
            bare_hosts: self.bare_hosts,
            mail_domains: self.mail_domains,
            repair: self.repair,
        }
    }

    /// What of the site is meant.
    pub fn scope(&self) -> Scope {
        Scope { only: self.only.clone(), without: self.without.clone() }
    }

    /// Says whether a site of an unknown system is taken all the same.
    pub fn by_hand(&self) -> bool {
        told_of_database(self.old_database.is_some(), self.dump.is_some(), &self.without)
    }

    /// Takes over what a copy knows of itself, where nothing else was said.
    pub(super) fn complete_by(&mut self, record: &Record) -> Result<(), PlaceError> {
        if self.address.is_none() {
            self.address = Some(Address::parse(&record.address)?);
        }
        if self.table_prefix.is_none() {
            self.table_prefix.clone_from(&record.table_prefix);
        }
        if let (None, None, Some(url)) = (&self.dump_to, &self.database, &record.database) {
            self.database = Some(DatabaseUrl(DatabaseAccess::parse(url)?));
        }
        Ok(())
    }
}

/// Packs a site into one archive.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct PackJob {
    /// Folder of the site
    #[schemars(extend("x-index" = 1, "x-value" = "SITE"))]
    pub site: FullPath,
    /// Archive to write: .tar.zst, .tar.gz or .zip (default: in the user's data folder); `-` writes to standard output
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "FILE", "x-short" = "o"))]
    pub output: Option<FileOrPipe>,
    /// Replace the archive, if it exists
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-needs" = "output"))]
    pub force: bool,
    /// Take the database from this dump instead of the server (.sql, .sql.gz, .sql.zst)
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "FILE"))]
    pub dump: Option<FullPath>,
    /// Database of the site, where its config does not name it or nobody knows its system
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "URL"))]
    pub database: Option<DatabaseUrl>,
    /// File that holds the password of that database
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "FILE", "x-needs" = "database"))]
    pub database_password_file: Option<FullPath>,
    /// Switch of the site while it is read, such as maintenance=on: set first, put back at the end whatever happens
    #[serde(default, rename = "while", skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "NAME=STATE"))]
    pub during: Vec<SwitchChoice>,
    /// Note to keep in the archive
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "TEXT"))]
    pub note: String,
    /// Base address of the site as it is now, where neither config nor rows tell it
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "URL"))]
    pub old_address: Option<Address>,
    /// Folder of the host to pack, where one code base serves several; several names, or `all`, give an archive each
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "NAME", "x-comma" = true))]
    pub host_folder: Vec<String>,
    /// Where the folder lies that belongs to the site outside of its root, if not where the config says
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "DIR"))]
    pub storage: Option<FullPath>,
    /// Only these parts: database, code, media, cache, or a folder, file or pattern such as images/banners
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "PART", "x-comma" = true, "x-group" = "What is copied"))]
    pub only: Vec<Part>,
    /// Not these parts
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "PART", "x-comma" = true, "x-group" = "What is copied"))]
    pub without: Vec<Part>,
    /// What of which tables: PATTERN=all, =structure or =none; the last one that fits counts
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "PATTERN=WHAT", "x-group" = "What is copied"))]
    pub rows: Vec<RowsChoice>,
    /// Also copy tables whose names match PATTERN, although they lack the site's prefix
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "PATTERN", "x-group" = "What is copied"))]
    pub tables: Vec<TablePattern>,
    /// Only the structure of tables that a copy can do without: logs, statistics, search indexes
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-group" = "What is copied"))]
    pub light: bool,
}

/// Says whether somebody told where the database of a site is, or that it has none that matters.
fn told_of_database(named: bool, dump: bool, without: &[Part]) -> bool {
    named || dump || without.contains(&Part::Database)
}

impl PackJob {
    /// Says whether a site of an unknown system is taken all the same.
    pub fn by_hand(&self) -> bool {
        told_of_database(self.database.is_some(), self.dump.is_some(), &self.without)
    }

    /// What of the site is meant.
    pub fn scope(&self) -> Scope {
        Scope { only: self.only.clone(), without: self.without.clone() }
    }
}

impl SettleJob {
    /// A site as it is, and nothing said of where it shall be.
    pub fn of(site: FullPath, host_folder: Option<String>) -> Self {
        SettleJob {
            site,
            host_folder,
            address: None,
            database: None,
            table_prefix: None,
            database_password_file: None,
            old_address: None,
            old_alias: Vec::new(),
            old_root: Vec::new(),
            set: Vec::new(),
            site_name: None,
            admin_email: None,
            admin_password_file: None,
            bare_hosts: false,
            mail_domains: false,
            references: false,
            repair: false,
            visit: false,
            at: None,
            any_certificate: false,
        }
    }
}

/// Puts a site right where it lies.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct SettleJob {
    /// Folder of the site
    #[schemars(extend("x-index" = 1, "x-value" = "SITE"))]
    pub site: FullPath,
    /// Address that the site shall answer to, if not the one it believes in
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "URL", "x-group" = "Where it lies"))]
    pub address: Option<Address>,
    /// Its database, if not the one that its config names
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "URL", "x-group" = "Where it lies"))]
    pub database: Option<DatabaseUrl>,
    /// Prefix that its tables have, if not the one that its config names
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "PREFIX", "x-group" = "Where it lies"))]
    pub table_prefix: Option<String>,
    /// File that holds the database's password (else ZPORTER_DATABASE_PASSWORD, a saved log-in, a prompt)
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "FILE", "x-group" = "Where it lies"))]
    pub database_password_file: Option<FullPath>,
    /// Old base address, where neither config nor rows tell it
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "URL", "x-group" = "Where it was"))]
    pub old_address: Option<Address>,
    /// Another address the old site answered to; may be given several times
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "URL", "x-group" = "Where it was"))]
    pub old_alias: Vec<Address>,
    /// Another folder the old site's values speak of; may be given several times
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "PATH", "x-group" = "Where it was"))]
    pub old_root: Vec<Root>,
    /// Folder of the host that is meant, where several live on one code base
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "NAME", "x-group" = "Where it was"))]
    pub host_folder: Option<String>,
    /// Switch: maintenance, cache, mail, index, friendly-urls (on or off), assets (on or plain)
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "NAME=STATE", "x-group" = "What it gets"))]
    pub set: Vec<SwitchChoice>,
    /// Name of the site
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "TEXT", "x-group" = "What it gets"))]
    pub site_name: Option<String>,
    /// E-mail address of the administrator and of the site's office
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "ADDRESS", "x-group" = "What it gets"))]
    pub admin_email: Option<MailAddress>,
    /// File that holds a new password for the administrator
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "FILE", "x-group" = "What it gets"))]
    pub admin_password_file: Option<FullPath>,
    /// Also change host names that stand alone in running text
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-group" = "On request"))]
    pub bare_hosts: bool,
    /// Also change the domain of e-mail addresses
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-group" = "On request"))]
    pub mail_domains: bool,
    /// Also change root-relative references (href="/…") from or to the bare root
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-group" = "On request"))]
    pub references: bool,
    /// Repair wrong lengths of serialized values that were broken before, where only one reading is possible
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-group" = "On request"))]
    pub repair: bool,
    /// Visit the site behind it: its pages, what they need, what is wrong with them
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-group" = "A look at the end"))]
    pub visit: bool,
    /// Ask the site's name at this address in the network, before name servers know it
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "IP[:PORT]", "x-group" = "A look at the end", "x-needs" = "visit"))]
    pub at: Option<At>,
    /// Go on where the certificate is not valid; it is told all the same
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-group" = "A look at the end", "x-needs" = "visit"))]
    pub any_certificate: bool,
}

/// Shows the switches of a site, or sets them where it lies.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct SwitchJob {
    /// Folder of the site
    #[schemars(extend("x-index" = 1, "x-value" = "SITE"))]
    pub site: FullPath,
    /// What is switched: maintenance, cache (also `clear`), mail, index, friendly-urls (on or off), assets (on or plain); none shows how they are
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-index" = 2, "x-value" = "NAME=STATE"))]
    pub set: Vec<SwitchChoice>,
    /// Folder of the host that is meant, where several live on one code base
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "NAME"))]
    pub host_folder: Option<String>,
}

/// Rewrites a dump alone.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct ReaddressJob {
    /// Dump to read, compressed or not; `-` reads standard input
    #[schemars(extend("x-index" = 1, "x-value" = "INPUT"))]
    pub input: FileOrPipe,
    /// Dump to write, compressed by its ending (.gz, .zst); `-` writes to standard output
    #[schemars(extend("x-value" = "FILE", "x-short" = "o"))]
    pub output: FileOrPipe,
    /// Replace the file that is written, if it exists
    #[serde(default, skip_serializing_if = "unset")]
    pub force: bool,
    /// Old and new base address; may be given several times
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "OLD NEW"))]
    pub address: Vec<(Address, Address)>,
    /// Old and new folder; may be given several times
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "OLD NEW"))]
    pub root: Vec<(Root, Root)>,
    /// Also change host names that stand alone in running text
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-group" = "On request"))]
    pub bare_hosts: bool,
    /// Also change the domain of e-mail addresses
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-group" = "On request"))]
    pub mail_domains: bool,
    /// Also change root-relative references (href="/…") from or to the bare root
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-group" = "On request"))]
    pub references: bool,
    /// Repair wrong lengths of serialized values that were broken before, where only one reading is possible
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-group" = "On request"))]
    pub repair: bool,
    /// Old and new name of the database: stored code names it no more, and what chooses or makes it chooses the new one, or goes
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "OLD NEW", "x-group" = "On request"))]
    pub database: Option<(String, String)>,
    /// Old and new table prefix
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "OLD NEW", "x-group" = "On request"))]
    pub prefix: Option<(String, String)>,
    /// Column whose values begin with the table prefix; may be given several times
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "TABLE.COLUMN", "x-group" = "On request", "x-needs" = "prefix"))]
    pub prefix_in: Vec<String>,
    /// Copy all, the structure or none of the tables that match; may be given several times, the last match counts
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "PATTERN=all|structure|none", "x-group" = "On request"))]
    pub rows: Vec<RowsChoice>,
    /// Whose dump it is, if the first bytes tell it wrongly
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "DIALECT"))]
    pub dialect: Option<Dialect>,
    /// Threads to use; without it as many as there are cores
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "N"))]
    pub threads: Option<usize>,
}

impl ReaddressJob {
    /// What is changed in texts only because somebody asked for it.
    pub fn rewriting(&self) -> RewriteOptions {
        RewriteOptions {
            references: self.references,
            bare_hosts: self.bare_hosts,
            mail_domains: self.mail_domains,
            repair: self.repair,
        }
    }
}

/// Dumps a database.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct DumpJob {
    /// Folder of a site, or mysql://USER@HOST[:PORT]/NAME, postgres://…, sqlite:///PATH
    #[schemars(extend("x-index" = 1, "x-value" = "SITE|URL"))]
    pub place: String,
    /// Folder of the host that is meant, where several live on one code base
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "NAME"))]
    pub host_folder: Option<String>,
    /// File that holds the database's password (else ZPORTER_DATABASE_PASSWORD, a saved log-in, ~/.my.cnf or ~/.pgpass, a prompt)
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "FILE"))]
    pub database_password_file: Option<FullPath>,
    /// File to write: .sql, .sql.gz or .sql.zst; `-` writes to standard output
    #[schemars(extend("x-value" = "FILE", "x-short" = "o"))]
    pub output: FileOrPipe,
    /// Switch of the site while it is read, such as maintenance=on: set first, put back at the end whatever happens
    #[serde(default, rename = "while", skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "NAME=STATE"))]
    pub during: Vec<SwitchChoice>,
    /// Replace the file that is written, if it exists
    #[serde(default, skip_serializing_if = "unset")]
    pub force: bool,
    /// Write parts of at most this size, each of which loads on its own: 50M, 1G
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "SIZE"))]
    pub part_size: Option<Size>,
    /// What of which tables: PATTERN=all, =structure or =none; the last one that fits counts
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "PATTERN=WHAT"))]
    pub rows: Vec<RowsChoice>,
    /// Only these tables
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "PATTERN", "x-comma" = true))]
    pub tables: Vec<String>,
    /// Only the structure of tables that a copy can do without: logs, statistics, search indexes
    #[serde(default, skip_serializing_if = "unset")]
    pub light: bool,
    /// Write the server's checksum of each table's rows as well: a load on a server of the same version compares them
    #[serde(default, skip_serializing_if = "unset")]
    pub checksums: bool,
}

/// Loads a dump.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct LoadJob {
    /// Dump, plain, gzip or Zstandard; of parts the first, the others follow by themselves
    #[schemars(extend("x-index" = 1, "x-value" = "DUMP"))]
    pub dump: FullPath,
    /// Database: folder of a site, or mysql://USER@HOST[:PORT]/NAME[?socket=PATH], postgres://…, sqlite:///PATH
    #[schemars(extend("x-index" = 2, "x-value" = "SITE|URL"))]
    pub database: String,
    /// Folder of the host that is meant, where several live on one code base
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "NAME"))]
    pub host_folder: Option<String>,
    /// File that holds the database's password (else ZPORTER_DATABASE_PASSWORD, a saved log-in, ~/.my.cnf or ~/.pgpass, a prompt)
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "FILE"))]
    pub database_password_file: Option<FullPath>,
    /// Remove tables of the same names from the database first; a dump of them is kept for `zporter undo`
    #[serde(default, skip_serializing_if = "unset")]
    pub empty_database: bool,
    /// Connections over which rows are loaded
    #[serde(default = "two")]
    #[schemars(extend("x-value" = "N"))]
    pub connections: usize,
    /// What a collation, character set or engine becomes that the server does not know; may be given several times
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "NAME=OTHER"))]
    pub substitute: Vec<Substitute>,
    /// Whether events work at once; else they are loaded at rest
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "STATE"))]
    pub events: OnOff,
}

/// Makes a database and a user.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct CreateJob {
    /// The new database and its user: mysql://USER@HOST/NAME, postgres://…, sqlite:///PATH
    #[schemars(extend("x-index" = 1, "x-value" = "URL"))]
    pub database: DatabaseUrl,
    /// Log-in that may make databases and users: mysql://root@HOST, postgres://postgres@HOST
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "URL"))]
    pub admin: Option<ServerUrl>,
    /// File that holds the admin's password (else ~/.my.cnf or ~/.pgpass, a prompt)
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "FILE"))]
    pub admin_password_file: Option<FullPath>,
    /// File that holds the new user's password (default: one is made)
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "FILE"))]
    pub database_password_file: Option<FullPath>,
    /// Beginning that the host asks of all names of an account, such as fernhollow_; it is put before names without it
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "PREFIX"))]
    pub account_prefix: Option<String>,
    /// Host from which the user logs in, where it is not this one
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "HOST"))]
    pub from_host: Option<String>,
    /// Authentication plug-in of the user, such as mysql_native_password for old programs (default: the server's own choice)
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "NAME"))]
    pub auth_plugin: Option<String>,
}

impl LoadJob {
    /// What is put in the place of what the server does not know.
    pub fn substitutions(&self) -> Vec<Substitution> {
        self.substitute.iter().map(|s| s.0.clone()).collect()
    }
}
