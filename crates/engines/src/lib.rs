//! Database servers over their own protocols, and SQLite as a file: look, read out, create, load.
//!
//! The names at the root are what others build on, by purpose; the modules are what the sibling crates need.

pub mod database;

pub use database::create::{CreatePlan, Created};
pub use database::dump::{DumpPlan, Dumped, dump};
pub use database::engine::Server;
pub use database::journal::{InLogbook, Mark, NoProgress, ProgressStore};
pub use database::load::{LoadPlan, load};
pub use database::loading::{Loaded, Loading, Substituted, Substitution};
pub use database::relay::{Dial, Relay, Stream};
pub use database::servers::{create, facts, loader, same_database, snapshot, trial};
pub use database::sizes::sizes;
pub use database::snapshot::{Snapshot, TableFacts};
pub use database::stream::DatabaseStream;
pub use database::trial::{Right, Trial};
pub use database::{DatabaseError, Refusal};

use zporter_rewrite::{dump, edit, finding, place, secret, threads, vet};
use zporter_storage::{event, fsx, logbook, path_text, pipe, spool};
