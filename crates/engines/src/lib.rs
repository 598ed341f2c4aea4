//! Database servers over their own protocols, and SQLite as a file: look, read out, create, load.

pub mod database;

use zporter_rewrite::{dump, edit, finding, place, secret, threads, vet};
use zporter_storage::{event, fsx, logbook, pipe, spool};
