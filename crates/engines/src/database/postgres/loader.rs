//! A PostgreSQL database that is loaded into: its connections, and what is known of the load so far.

use super::aside::Aside;
use super::pool::{BEGIN, Pool, transaction};
use super::{connect, own_name, refused, rows, run, state};
use crate::database::checkpoints::Checkpoints;
use crate::database::loading::{Loaded, shortened};
use crate::database::waiting::{self, Later, Waiting};
use crate::database::{DatabaseError, beginning, describe};
use crate::finding::{Code, Finding};
use crate::place::DatabaseAccess;
use crate::vet::Phase;
use crate::vet::postgres::Made;
use ::postgres::Client;
use ::postgres::error::SqlState;
use std::collections::BTreeSet;

/// A connection into which dumps are loaded.
pub struct PostgresLoader {
    pub(super) access: DatabaseAccess,
    /// The connection, unless a copy has it.
    pub(super) client: Option<Client>,
    /// Whether a transaction is open.
    pub(super) begun: bool,
    /// Whether the server tells later what became of a transaction.
    pub(super) remembers: bool,
    pub(super) connections: usize,
    /// Further connections, if the dump is worth them.
    pub(super) pool: Option<Pool>,
    pub(super) loaded: Loaded,
    pub(super) stages: Checkpoints,
    /// What the dump made so far.
    pub(super) made: Made,
    /// What waits for the rows.
    pub(super) later: Waiting,
    /// Tables that belong to others and stay.
    pub(super) others: BTreeSet<String>,
    /// What was put aside.
    pub(super) aside: Option<Aside>,
    /// Whether what waited for the rows is made.
    made_all: bool,
}

/// What it begins with on a server that would lose patience while other connections are at work.
pub(super) const PATIENTLY: &str = "SET LOCAL idle_in_transaction_session_timeout = 0";

/// Version of the server that remembers transactions.
pub(super) const REMEMBERS: i32 = 100_000;

impl PostgresLoader {
    /// Connects.
    pub fn new(access: &DatabaseAccess) -> Result<Self, DatabaseError> {
        let mut client = connect(access)?;
        let version = rows(&mut client, "SELECT current_setting('server_version_num')::int", &[])?;
        Ok(PostgresLoader {
            access: access.clone(),
            client: Some(client),
            begun: false,
            remembers: version.first().is_some_and(|r| r.get::<_, i32>(0) >= REMEMBERS),
            connections: 1,
            pool: None,
            loaded: Loaded::default(),
            stages: Checkpoints::default(),
            made: Made::default(),
            later: Waiting::default(),
            others: BTreeSet::new(),
            aside: None,
            made_all: false,
        })
    }

    /// The connection, with no transaction begun for it.
    pub(super) fn client(&mut self) -> Result<&mut Client, DatabaseError> {
        self.client
            .as_mut()
            .ok_or_else(|| DatabaseError::Io(std::io::Error::other("the connection is in use")))
    }

    /// The connection, in a transaction.
    pub(super) fn within(&mut self) -> Result<&mut Client, DatabaseError> {
        if !self.begun {
            run(self.client()?, BEGIN)?;
            self.begun = true;
            if self.pool.is_some() {
                run(self.client()?, PATIENTLY)?;
            }
        }
        self.client()
    }

    /// Commits what was done on the first connection, at the end of the dump that of the last statement as well.
    pub(super) fn commit(&mut self, at_end: bool) -> Result<(), DatabaseError> {
        if !std::mem::take(&mut self.begun) {
            return Ok(());
        }
        let numbered = self.remembers && self.stages.notes().is_some();
        let number = if numbered { Some(transaction(self.client()?)?) } else { None };
        let open = self.pool.as_ref().map(Pool::open).unwrap_or_default();
        let PostgresLoader { client: Some(client), loaded, stages, .. } = self else { return Ok(()) };
        let commit = || run(client, "COMMIT");
        if at_end {
            stages.end(&loaded.rows, number, commit)
        } else {
            stages.commit(&loaded.rows, open, number, commit)
        }
    }

    /// Says whether rows may go into a table while others are filled: nothing that they set off reaches beyond it.
    pub(super) fn is_free(&mut self, table: &str) -> Result<bool, DatabaseError> {
        let sql = "SELECT c.relkind = 'r' AND NOT c.relhastriggers AND NOT c.relhasrules AND NOT c.relhassubclass \
                     AND NOT EXISTS (SELECT FROM pg_catalog.pg_inherits i WHERE i.inhrelid = c.oid) \
                   FROM pg_catalog.pg_class c WHERE c.oid = to_regclass($1)";
        Ok(rows(self.client()?, sql, &[&table])?.first().is_some_and(|r| r.get(0)))
    }

    /// Waits until further connections have nothing in hand.
    pub(super) fn settle(&mut self) -> Result<(), DatabaseError> {
        self.pool.as_mut().map_or(Ok(()), Pool::settle)
    }

    /// Waits for what the rows of a table may need.
    pub(super) fn settle_for(&mut self, table: &str) -> Result<(), DatabaseError> {
        let Some(pool) = &self.pool else { return Ok(()) };
        if !pool.rests() && (pool.has(table) || !self.is_free(table)?) {
            return self.settle();
        }
        Ok(())
    }

    /// Says whether a statement about a table may go over a connection of its own, and makes the table known to all.
    pub(super) fn may_leave(&mut self, table: &str) -> Result<bool, DatabaseError> {
        let Some(pool) = &mut self.pool else { return Ok(false) };
        if pool.has(table) {
            pool.settle()?;
        }
        let may = pool.is_there()? && self.is_free(table)?;
        if may {
            self.commit(false)?;
        }
        Ok(may)
    }
}

/// Errors that another statement may cure: what is named is not there yet.
pub(super) const NOT_YET: [SqlState; 6] = [
    SqlState::UNDEFINED_TABLE,
    SqlState::UNDEFINED_COLUMN,
    SqlState::UNDEFINED_FUNCTION,
    SqlState::UNDEFINED_OBJECT,
    SqlState::INVALID_SCHEMA_NAME,
    SqlState::OBJECT_NOT_IN_PREREQUISITE_STATE,
];

/// Says whether a statement failed because what it makes is there.
pub(super) fn is_there_already(error: &DatabaseError) -> bool {
    let codes = [
        SqlState::DUPLICATE_OBJECT,
        SqlState::DUPLICATE_FUNCTION,
        SqlState::DUPLICATE_SCHEMA,
        SqlState::DUPLICATE_TABLE,
    ];
    state(error).is_some_and(|s| codes.contains(s))
}

/// Says whether a statement failed for want of what another one makes.
pub(super) fn is_not_yet(error: &DatabaseError) -> bool {
    state(error).is_some_and(|s| NOT_YET.contains(s))
}

impl PostgresLoader {
    /// Makes what waited, now that all rows are there. What is made is made once.
    pub(super) fn make_what_waited(&mut self) -> Result<(), DatabaseError> {
        if std::mem::replace(&mut self.made_all, true) {
            return Ok(());
        }
        self.made.resolved().map_err(|(line, refused)| waiting::refusal(line)(refused))?;
        let mut waiting = self.later.take();
        // Views and what needs them may need each other; the rest comes behind all of them, phase by phase.
        while let Some(phase) = waiting.first().map(|l| l.phase) {
            let next = waiting.iter().position(|l| l.phase != phase).unwrap_or(waiting.len());
            let rest = waiting.split_off(next);
            waiting::in_any_order(waiting, |later| self.make(later), is_not_yet)?;
            waiting = rest;
        }
        let dynamic = std::mem::take(&mut self.made.dynamic);
        if !dynamic.is_empty() {
            let what = format!(
                "functions put statements together while they run, and nobody can look into these: {}",
                shortened(dynamic).join(", ")
            );
            self.loaded.findings.push(Finding::new(
                Code::DynamicSql,
                what,
                "",
                "read them before the site uses them",
            ));
        }
        for view in self.made.unfilled() {
            let what = format!(
                "the materialised view {view} was left empty: its query calls functions of the dump that do more than compute"
            );
            self.loaded.findings.push(Finding::new(
                Code::ViewEmpty,
                what,
                view,
                "look at these functions, then REFRESH MATERIALIZED VIEW",
            ));
        }
        Ok(())
    }

    pub(super) fn make(&mut self, later: &Later) -> Result<(), DatabaseError> {
        let text = later.statement.text();
        let shares = !self.others.is_empty();
        let client = self.within()?;
        later.settings.iter().try_for_each(|sql| run(client, sql))?;
        if shares && later.phase == Phase::View && later.name.contains("VIEW ") {
            // What the dump makes anew makes room for it.
            run(client, &format!("DROP {}", later.name.replacen("VIEW ", "VIEW IF EXISTS ", 1)))?;
        }
        run(client, "SAVEPOINT waited")?;
        match client.execute(text, &[]) {
            Ok(_) => run(client, "RELEASE waited"),
            Err(e) => {
                let error = refused(e, later.line, text.as_bytes());
                run(client, "ROLLBACK TO waited")?;
                // A role that is not here, or a comment on what belongs to somebody else, is no reason to stop.
                let foreign = [SqlState::UNDEFINED_OBJECT, SqlState::INSUFFICIENT_PRIVILEGE];
                let lesser = text.get(..13).is_some_and(|t| t.eq_ignore_ascii_case("CREATE POLICY"))
                    || later.phase == Phase::Last;
                if lesser && state(&error).is_some_and(|s| foreign.contains(s)) {
                    let what = format!("{} was refused: {}", beginning(text.as_bytes()), describe(&error));
                    let cure = "make the role that it names, and then this by hand, if the site needs it";
                    self.loaded.findings.push(Finding::new(
                        Code::ObjectRefused,
                        what,
                        format!("line {}", later.line),
                        cure,
                    ));
                    return Ok(());
                }
                Err(error)
            }
        }
    }
}

/// Waits until the connections of an interrupted load are gone: one of them may commit yet. One that does not go by itself is ended, if that
/// is allowed.
pub(super) fn wait_for_others(client: &mut Client) -> Result<(), DatabaseError> {
    let sql = "SELECT pid FROM pg_catalog.pg_stat_activity WHERE datname = current_database() AND pid <> pg_backend_pid() \
               AND application_name LIKE 'zporter%' AND pid NOT IN (SELECT pid FROM pg_catalog.pg_stat_activity WHERE application_name = $1)";
    let own = own_name();
    for turn in 0..1200 {
        let others = rows(client, sql, &[&own])?;
        if others.is_empty() {
            return Ok(());
        }
        if turn == 200 {
            for other in others {
                // The account may end its own connections; others it may not, and waits.
                let _ = rows(client, "SELECT pg_terminate_backend($1)", &[&other.get::<_, i32>(0)]);
            }
        }
        std::thread::sleep(std::time::Duration::from_millis(50));
    }
    let what = "connections of the interrupted load are still at work in the database; run the command again when they are through";
    Err(DatabaseError::Io(std::io::Error::other(what)))
}

/// Counts the rows of a table, named in full.
/// Counts the rows of a table, if there is one of that name.
pub(super) fn count_if_there(client: &mut Client, table: &str) -> Result<Option<u64>, DatabaseError> {
    let found = rows(client, "SELECT to_regclass($1) IS NOT NULL", &[&table])?;
    found.first().is_some_and(|r| r.get(0)).then(|| count(client, table)).transpose()
}

pub(super) fn count(client: &mut Client, table: &str) -> Result<u64, DatabaseError> {
    let there = rows(client, &format!("SELECT count(*) FROM {table}"), &[])?;
    Ok(there.first().map_or(0, |r| u64::try_from(r.get::<_, i64>(0)).unwrap_or_default()))
}
