//! The kinds of servers that are there, and what is asked of a database by its access: which of them answers is decided here.

use super::create::{CreatePlan, Created, check_names};
use super::engine::{RowEditor, Server};
use super::loading::Loading;
use super::snapshot::Snapshot;
use super::stream::as_text;
use super::trial::Trial;
use super::{DatabaseError, Refusal, Size, mysql, postgres, sqlite};
use crate::dump::inspect::{self, Inspection, Wanted};
use crate::place::{DatabaseAccess, Engine};
use std::collections::BTreeSet;

/// A kind of server that this program does not speak to.
struct Unsupported(Engine);

impl Unsupported {
    fn refuse<T>(&self) -> Result<T, DatabaseError> {
        Err(DatabaseError::NotSpoken(self.0.name()))
    }
}

impl Server for Unsupported {
    fn snapshot(&self, _: &DatabaseAccess) -> Result<Box<dyn Snapshot>, DatabaseError> {
        self.refuse()
    }
    fn loader(&self, _: &DatabaseAccess) -> Result<Box<dyn Loading>, DatabaseError> {
        self.refuse()
    }
    fn editor(&self, _: &DatabaseAccess) -> Result<Box<dyn RowEditor>, DatabaseError> {
        self.refuse()
    }
    fn count_above(
        &self,
        _: &DatabaseAccess,
        _: &str,
        _: &str,
        _: Option<&str>,
    ) -> Result<(u64, Option<String>), DatabaseError> {
        self.refuse()
    }
    fn kept(&self, _: &DatabaseAccess) -> Result<BTreeSet<String>, DatabaseError> {
        self.refuse()
    }
    fn facts(&self, _: &DatabaseAccess, _: &[Wanted]) -> Result<(Vec<Size>, Inspection), DatabaseError> {
        self.refuse()
    }
    fn identity(&self, _: &DatabaseAccess) -> Result<(String, u64), DatabaseError> {
        self.refuse()
    }
    fn trial(&self, _: &DatabaseAccess) -> Result<Trial, DatabaseError> {
        self.refuse()
    }
    fn create(&self, _: &CreatePlan) -> Result<Created, DatabaseError> {
        self.refuse()
    }
    fn create_statements(&self, _: &CreatePlan) -> Vec<String> {
        Vec::new()
    }
}

/// Returns what a kind of server can be asked to do.
pub fn of(engine: Engine) -> &'static dyn Server {
    match engine {
        Engine::Mysql => &mysql::Mysql,
        Engine::Postgres => &postgres::Postgres,
        Engine::Sqlite => &sqlite::Sqlite,
        Engine::SqlServer => &Unsupported(Engine::SqlServer),
    }
}

/// Opens a snapshot.
pub fn snapshot(access: &DatabaseAccess) -> Result<Box<dyn Snapshot>, DatabaseError> {
    of(access.engine).snapshot(access)
}

/// Connects to a database for loading.
pub fn loader(access: &DatabaseAccess) -> Result<Box<dyn Loading>, DatabaseError> {
    of(access.engine).loader(access)
}

/// Counts the rows of a table whose column is above a value, and returns the largest value.
pub fn count_above(
    access: &DatabaseAccess,
    table: &str,
    column: &str,
    above: Option<&str>,
) -> Result<(u64, Option<String>), DatabaseError> {
    of(access.engine).count_above(access, table, column, above)
}

/// Tells which tables the server itself calls damaged, and what it says of them.
pub fn damaged(access: &DatabaseAccess) -> Result<Vec<(String, String)>, DatabaseError> {
    of(access.engine).damaged(access)
}

/// Tells which tables and schemas bear the mark of what is kept for an undo.
pub fn kept(access: &DatabaseAccess) -> Result<BTreeSet<String>, DatabaseError> {
    of(access.engine).kept(access)
}

/// Opens a database to change rows where they lie.
pub fn editor(access: &DatabaseAccess) -> Result<Box<dyn RowEditor>, DatabaseError> {
    of(access.engine).editor(access)
}

/// Reads table sizes and the rows that somebody wants. With `content` the whole database is read once, to count the hosts it names, where
/// systems need that.
pub fn facts(
    access: &DatabaseAccess,
    wanted: &[Wanted],
    content: bool,
) -> Result<(Vec<Size>, Inspection), DatabaseError> {
    let (sizes, mut found) = of(access.engine).facts(access, wanted)?;
    if content {
        let rows = std::mem::take(&mut found.rows);
        found = Inspection { rows, ..inspect_all(access)? };
    }
    Ok((sizes, found))
}

/// Reads the whole database once to learn which hosts its content names.
fn inspect_all(access: &DatabaseAccess) -> Result<Inspection, DatabaseError> {
    let (reader, writer) = crate::pipe::pipe();
    let inspecting = crate::threads::start(move || inspect::inspect(reader, &[], true))?;
    let written = (|| {
        let mut writer = writer;
        as_text(&mut *snapshot(access)?, &mut writer, |snapshot, out| {
            snapshot.tables()?.iter().try_for_each(|t| snapshot.table(&t.name, true, out).map(drop))
        })
    })();
    let found = inspecting.join().map_err(|_| std::io::Error::other("the reader of the content stopped"))?;
    written?;
    found.map_err(|e| DatabaseError::Io(std::io::Error::other(e.to_string())))
}

/// Says whether two accesses lead to one database, by whatever names and accounts. Where a server cannot be asked, names decide.
pub fn same_database(one: &DatabaseAccess, other: &DatabaseAccess) -> bool {
    let identity = |access: &DatabaseAccess| of(access.engine).identity(access);
    if one.engine != other.engine {
        return false;
    }
    match (identity(one), identity(other)) {
        // Both starts are reckoned from a clock that moves on between the questions.
        (Ok((one, start)), Ok((other, other_start))) => one == other && start.abs_diff(other_start) <= 2,
        // A server that one of them reaches and the other does not may still be the same.
        _ => one.name == other.name && (one.host == other.host || (one.is_local() && other.is_local())),
    }
}

/// Tries a database.
pub fn trial(access: &DatabaseAccess) -> Result<Trial, DatabaseError> {
    of(access.engine).trial(access)
}

/// Makes database, user and rights.
pub fn create(job: &CreatePlan) -> Result<Created, DatabaseError> {
    check_names(job)?;
    let mut created = of(job.wanted.engine).create(job)?;
    // From another host it could not be tried; of a file nobody is the user.
    if !created.user && job.from_host.is_none() && !job.wanted.engine.facts().is_file {
        created.password_fits = match loader(&job.wanted) {
            Ok(_) => Some(true),
            Err(DatabaseError::Connect { refusal: Refusal::LogIn, .. }) => Some(false),
            Err(_) => None,
        };
    }
    Ok(created)
}

/// Returns the statements that somebody with more rights would have to run.
pub fn by_hand(job: &CreatePlan) -> Vec<String> {
    of(job.wanted.engine).create_statements(job)
}
