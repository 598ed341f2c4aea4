//! Exact rewriting of addresses and folders in values, dumps and config files of content systems.
//!
//! Pure: bytes to bytes. It knows no server, no socket and no file system beyond [`Read`] and [`Write`].
//!
//! Say what was and what shall be, and rewrite:
//!
//! ```
//! use zporter_rewrite::{Address, Pairs, Replacements, rewrite_value};
//!
//! let pairs = Pairs {
//!     addresses: vec![(Address::parse("http://old.example")?, Address::parse("https://new.example/shop")?)],
//!     roots: Vec::new(),
//! };
//! let replacements = Replacements::new(&pairs, &[]);
//! // Lengths of serialized values follow, and what only looks alike stays.
//! let new = rewrite_value(&replacements, br#"a:1:{s:3:"url";s:20:"http://old.example/x";}"#);
//! assert_eq!(new, br#"a:1:{s:3:"url";s:26:"https://new.example/shop/x";}"#);
//! assert_eq!(rewrite_value(&replacements, b"http://cold.example"), b"http://cold.example");
//! # Ok::<(), zporter_rewrite::PlaceError>(())
//! ```
//!
//! A dump of MySQL, MariaDB, PostgreSQL, SQLite or SQL Server goes through in chunks, whatever its size:
//!
//! ```
//! use zporter_rewrite::{Address, Pairs, Replacements, rewrite_dump};
//!
//! let pairs = Pairs {
//!     addresses: vec![(Address::parse("http://old.example")?, Address::parse("http://new.example")?)],
//!     roots: Vec::new(),
//! };
//! let dump = b"INSERT INTO `t` VALUES (1,'see http:\\\\/\\\\/old.example\\\\/x');\n";
//! let (new, done) = rewrite_dump(&Replacements::new(&pairs, &[]), &dump[..], Vec::new())?;
//! assert_eq!(new, b"INSERT INTO `t` VALUES (1,'see http:\\\\/\\\\/new.example\\\\/x');\n");
//! assert_eq!(done.tally.changed(), 1);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```
//!
//! A value of a config file is located by a parser of its form, and exactly that value changes:
//!
//! ```
//! use zporter_rewrite::{ConfigForm, edit};
//!
//! let text = b"{\n  // where it lives\n  \"url\": \"http://old.example\",\n}\n";
//! let file = ConfigForm::Json.format().read(text, None)?;
//! let url = file.setting("url").unwrap();
//! let spelled = ConfigForm::Json.format().quoted("https://new.example", &text[url.span.clone()]);
//! let new = edit::apply(text, &[edit::Edit::new(url.span.clone(), spelled)]);
//! assert_eq!(new, b"{\n  // where it lives\n  \"url\": \"https://new.example\",\n}\n");
//! # Ok::<(), zporter_rewrite::ConfigError>(())
//! ```
//!
//! The modules below are what the sibling crates are built on.

pub mod config;
pub mod dump;
pub mod edit;
pub mod finding;
mod lanes;
pub mod limits;
pub mod place;
pub mod secret;
pub mod text;
pub mod threads;
pub mod vet;

pub use config::definition::{Config, ConfigForm, Key, Role};
pub use config::settings::{ConfigError, Settings};
pub use dump::dialect::Dialect;
pub use dump::rules::{Keep, Rewritten, Rules};
pub use dump::stream::DumpError;
pub use finding::{Code, Finding, Severity};
pub use place::{Address, AddressForm, DatabaseAccess, Engine, Pairs, Place, PlaceError, Relocation, Root};
pub use secret::Secret;
pub use text::replacements::{LeftReason, Replacements, RewriteOptions};

use std::io::{Read, Write};
use text::value::Notes;

/// Takes no notes.
struct Unnoted;

impl Notes for Unnoted {
    fn changed(&mut self, _: &str, _: usize, _: &[u8]) {}
    fn left(&mut self, _: LeftReason, _: &str, _: &[u8]) {}
}

/// Rewrites one value, in whatever way it wraps what is looked for.
pub fn rewrite_value(replacements: &Replacements, value: &[u8]) -> Vec<u8> {
    edit::apply(value, &text::value::edits(replacements, value, &mut Unnoted))
}

/// Rewrites a dump, compressed or not, and says what was changed and what was left. Errors are those of reading and writing, and of a file
/// that is no dump.
pub fn rewrite_dump<W: Write + Send>(
    replacements: &Replacements,
    input: impl Read + Send,
    output: W,
) -> Result<(W, Rewritten), DumpError> {
    let keep = |_: &str| Keep::All;
    let reader = dump::open_text(input).map_err(DumpError::Read)?;
    let source = dump::stream::Source::new(reader, dump::stream::WINDOW, None)?;
    let threads = std::thread::available_parallelism().map_or(1, usize::from);
    let (output, done, _) =
        dump::spread::rewrite_on(threads, source, &Rules::new(replacements, &keep), output)?;
    Ok((output, done))
}
