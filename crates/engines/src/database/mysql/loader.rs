//! A MySQL or MariaDB database that is loaded into: its connections, and what is known of the load so far.

use super::aside::Beside;
use super::batch::{InsertMode, Workers};
use super::compatibility::Compatibility;
use super::{checksum, connect, name, quoted, rows, run, server};
use crate::database::dump::Checksum;
use crate::database::journal::{Mark, ProgressStore};
use crate::database::loading::Loaded;
use crate::database::waiting::Waiting;
use crate::database::{DatabaseError, journal};
use crate::finding::{Code, Finding};
use crate::place::DatabaseAccess;
use crate::vet::hints::Server;
use crate::vet::mysql::Own;
use ::mysql::Conn;
use std::collections::{BTreeMap, BTreeSet};

/// Packet size of a server that does not tell its own.
pub(super) const PACKET: usize = 1 << 20;

/// What every connection begins with.
pub(super) const SESSION: [&str; 6] = [
    "SET NAMES utf8mb4",
    "SET SESSION SQL_MODE='NO_AUTO_VALUE_ON_ZERO'",
    "SET SESSION FOREIGN_KEY_CHECKS=0",
    "SET SESSION UNIQUE_CHECKS=0",
    "SET SESSION net_read_timeout=3600",
    "SET SESSION wait_timeout=28800",
];

/// Connections into which parts of a dump are loaded.
pub struct MysqlLoader {
    pub(super) conn: Conn,
    pub(super) access: DatabaseAccess,
    pub(super) connections: usize,
    pub(super) workers: Option<Workers>,
    pub(super) packet: usize,
    pub(super) loaded: Loaded,
    pub(super) databases: Vec<String>,
    pub(super) compatibility: Compatibility,
    pub(super) keeper: Box<dyn ProgressStore>,
    /// Tables that an interrupted load left whole, with their rows.
    pub(super) whole: BTreeMap<String, u64>,
    /// Tables whose rows are sent but not known to have arrived.
    pub(super) passed: Vec<String>,
    /// The table whose rows are being sent.
    pub(super) current: Option<String>,
    /// Whether the dump has set a charset or a mode that is not ours.
    pub(super) strayed: bool,
    /// Whether the rows come from another database, and this server takes them as files.
    pub(super) as_files: bool,
    /// Checksums that the dump states.
    pub(super) stated: Vec<Checksum>,
    /// Whose hints it heeds.
    pub(super) server: Server,
    /// What is known of the database.
    pub(super) own: Own,
    /// What waits for the rows.
    pub(super) later: Waiting,
    /// Whether events work as soon as they are loaded.
    pub(super) events_on: bool,
    /// Whether other things are in the database, those that the dump makes anew among them.
    pub(super) shares: bool,
    /// Triggers, routines and events that are others' and stay, by the names under which they are noted.
    pub(super) spared: BTreeSet<String>,
    /// Under which names tables are loaded.
    pub(super) beside: Beside,
}

impl MysqlLoader {
    /// Connects and prepares the session.
    pub fn new(access: &DatabaseAccess) -> Result<Self, DatabaseError> {
        let mut conn = connect(access)?;
        let packet: Vec<usize> = rows(&mut conn, "SELECT @@max_allowed_packet")?;
        let version: Vec<String> = rows(&mut conn, "SELECT VERSION()")?;
        for sql in SESSION {
            run(&mut conn, sql)?;
        }
        // A table that was made under laxer rules is made under them here as well; some accounts may not ask for it.
        let _ = run(&mut conn, "SET SESSION innodb_strict_mode=0");
        Ok(MysqlLoader {
            conn,
            access: access.clone(),
            connections: 1,
            workers: None,
            packet: packet.first().copied().unwrap_or(PACKET),
            loaded: Loaded::default(),
            databases: Vec::new(),
            compatibility: Compatibility::default(),
            keeper: Box::new(journal::NoProgress),
            whole: BTreeMap::new(),
            passed: Vec::new(),
            current: None,
            strayed: false,
            as_files: false,
            stated: Vec::new(),
            server: Server::read(&version.concat()),
            own: Own { databases: [access.name.clone()].into(), ..Own::default() },
            later: Waiting::default(),
            events_on: false,
            shares: false,
            spared: BTreeSet::new(),
            beside: Beside::default(),
        })
    }

    pub(super) fn workers(&mut self) -> Result<&Workers, DatabaseError> {
        if self.workers.is_none() {
            let session: Vec<String> = SESSION.iter().map(ToString::to_string).collect();
            self.workers = Some(Workers::open(&self.access, self.connections, &session)?);
        }
        self.workers.as_ref().ok_or_else(|| DatabaseError::Io(std::io::Error::other("no connection")))
    }

    pub(super) fn settle(&mut self) -> Result<(), DatabaseError> {
        if let Some(workers) = &self.workers {
            workers.settle()?;
        }
        self.note_arrived()
    }

    /// Notes tables whose rows have all arrived.
    pub(super) fn note_arrived(&mut self) -> Result<(), DatabaseError> {
        let Some(workers) = &self.workers else { return Ok(()) };
        let mut at = 0;
        while at < self.passed.len() {
            if !workers.arrived(&self.passed[at]) {
                at += 1;
                continue;
            }
            let table = self.passed.swap_remove(at);
            let rows = self.loaded.rows.get(&table).copied().unwrap_or_default();
            self.keeper.mark(Mark::Whole { table, rows })?;
        }
        Ok(())
    }

    /// Says that rows of a table follow, or statements of another kind.
    pub(super) fn enter(&mut self, table: Option<&str>) -> Result<(), DatabaseError> {
        if self.current.as_deref() != table {
            self.passed.extend(self.current.take());
            self.current = table.map(str::to_string);
            if let Some(table) = table {
                self.keeper.mark(Mark::Begun { table: table.into() })?;
            }
        }
        self.note_arrived()
    }

    /// Looks at a table that was made: how its rows can be sent, whose insert begins with `head`.
    pub(super) fn way(
        &mut self,
        table: &str,
        head: &str,
        plain_insert: bool,
        utf8: bool,
    ) -> Result<InsertMode, DatabaseError> {
        let sql = format!(
            "SELECT DATA_TYPE, COALESCE(CHARACTER_SET_NAME,''), COLUMN_KEY FROM information_schema.COLUMNS \
             WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = {}",
            quoted(table)
        );
        let columns: Vec<(String, String, String)> = rows(&mut self.conn, &sql)?;
        let plain = |kind: &str| {
            let kinds = "tinyint smallint mediumint int bigint decimal float double year date datetime timestamp time char varchar \
                         tinytext text mediumtext longtext binary varbinary tinyblob blob mediumblob longblob enum set bit";
            kinds.split_ascii_whitespace().any(|k| k == kind)
        };
        let utf8_column =
            |charset: &str| charset.is_empty() || charset == "ascii" || charset.starts_with("utf8");
        // A year of two digits, and bits, mean something else as text than as a number.
        let as_text = |kind: &str| !matches!(kind, "year" | "bit");
        let into = as_file(head, table).filter(|_| {
            self.as_files && columns.iter().all(|(kind, ..)| as_text(&kind.to_ascii_lowercase()))
        });
        Ok(InsertMode {
            as_file: into,
            table: table.into(),
            bytes: utf8
                && columns
                    .iter()
                    .all(|(kind, charset, _)| plain(&kind.to_ascii_lowercase()) && utf8_column(charset)),
            short_letters: columns
                .iter()
                .any(|(_, charset, _)| charset == "utf8" || charset == "utf8mb3" || charset == "ascii"),
            free: plain_insert && columns.iter().any(|(_, _, key)| key == "PRI"),
        })
    }
}

impl MysqlLoader {
    /// Compares the rows with those that were dumped, as far as the dump and the server tell.
    pub(super) fn compare_checksums(&mut self) -> Result<(), DatabaseError> {
        if self.stated.is_empty() {
            return Ok(());
        }
        let here = server(&mut self.conn)?;
        let stated = std::mem::take(&mut self.stated);
        // Another version may count otherwise.
        for Checksum { table, sum, .. } in stated.into_iter().filter(|s| s.server == here) {
            match checksum(&mut self.conn, &table)? {
                Some(there) if there == sum => self.loaded.checksums += 1,
                Some(_) => {
                    let what = "holds other rows than were dumped, by the server's checksum";
                    let cure = "nothing if the dump was rewritten since; else compare with the source";
                    self.loaded.findings.push(Finding::new(Code::ChecksumDiffers, what, table, cure));
                }
                None => {}
            }
        }
        Ok(())
    }
}

/// How a statement goes on that takes the rows of an insert as a file: rows as inserts have them, each ended by a comma.
pub(super) fn as_file(head: &str, table: &str) -> Option<String> {
    let columns = head.strip_prefix("INSERT INTO ")?.trim_end().strip_suffix("VALUES")?.trim_end();
    let columns = columns.strip_prefix(name(table).as_str())?.trim_start();
    columns.starts_with('(').then(|| {
        format!(
            "{} CHARACTER SET binary FIELDS TERMINATED BY ',' OPTIONALLY ENCLOSED BY '\\'' ESCAPED BY '\\\\' \
             LINES STARTING BY '(' TERMINATED BY '),' {columns}",
            name(table)
        )
    })
}
