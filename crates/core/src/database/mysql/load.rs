//! Loads a dump statement by statement. Only classes that build this one database reach the server.
//!
//! Rows are sent in batches of our own size over several connections, whatever the dump's inserts looked like: single-row inserts
//! become large ones, huge ones are cut to the server's packet limit. Everything else goes over one connection, in its order.

use super::batch::{Batch, Way, Workers};
use super::{
    checksum, code, connect, empty, name, quoted, refused, rows, run, server, tables, wait_for_the_dead,
};
use crate::database::dump::Checksum;
use crate::database::fit::Fit;
use crate::database::journal::{Keeper, Mark, Reached};
use crate::database::load::{Loaded, Loading, Plain, each_piece, text_of};
use crate::database::{DatabaseError, journal};
use crate::dump::definer;
use crate::dump::dialect::Dialect;
use crate::dump::lex::{Token, tokens};
use crate::dump::literal::{self, Quoting};
use crate::dump::row::{self, Value, ValueKind};
use crate::dump::rows::Rows;
use crate::dump::sequence::{self, Work};
use crate::dump::statement::Class;
use crate::dump::stream::{At, Piece};
use crate::event::Warning;
use crate::place::DatabaseAccess;
use ::mysql::prelude::Queryable;
use ::mysql::{Conn, Error};
use std::collections::{BTreeMap, BTreeSet};
use std::io::Read;
use std::sync::Arc;

/// Batch size in bytes, if the server's packet limit allows it.
const BATCH: usize = 1 << 20;

/// What every connection begins with.
const SESSION: [&str; 6] = [
    "SET NAMES utf8mb4",
    "SET SESSION SQL_MODE='NO_AUTO_VALUE_ON_ZERO'",
    "SET SESSION FOREIGN_KEY_CHECKS=0",
    "SET SESSION UNIQUE_CHECKS=0",
    "SET SESSION net_read_timeout=3600",
    "SET SESSION wait_timeout=28800",
];

/// Connections into which parts of a dump are loaded.
pub struct MysqlLoader {
    conn: Conn,
    access: DatabaseAccess,
    connections: usize,
    workers: Option<Workers>,
    packet: usize,
    loaded: Loaded,
    databases: Vec<String>,
    fit: Fit,
    keeper: Box<dyn Keeper>,
    /// Tables that an interrupted load left whole, with their rows.
    whole: BTreeMap<String, u64>,
    /// Tables whose rows are sent but not known to have arrived.
    passed: Vec<String>,
    /// The table whose rows are being sent.
    current: Option<String>,
    /// Whether the dump has set a charset or a mode that is not ours.
    strayed: bool,
    /// Whether the rows come from another database, and this server takes them as files.
    as_files: bool,
    /// Checksums that the dump states.
    stated: Vec<Checksum>,
    /// Sequences that the dump made.
    sequences: BTreeSet<String>,
}

impl MysqlLoader {
    /// Connects and prepares the session.
    pub fn new(access: &DatabaseAccess) -> Result<Self, DatabaseError> {
        let mut conn = connect(access)?;
        let packet: Vec<usize> = rows(&mut conn, "SELECT @@max_allowed_packet")?;
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
            packet: packet.first().copied().unwrap_or(BATCH),
            loaded: Loaded::default(),
            databases: Vec::new(),
            fit: Fit::default(),
            keeper: Box::new(journal::Nobody),
            whole: BTreeMap::new(),
            passed: Vec::new(),
            current: None,
            strayed: false,
            as_files: false,
            stated: Vec::new(),
            sequences: BTreeSet::new(),
        })
    }

    fn workers(&mut self) -> Result<&Workers, DatabaseError> {
        if self.workers.is_none() {
            let session: Vec<String> = SESSION.iter().map(ToString::to_string).collect();
            self.workers = Some(Workers::open(&self.access, self.connections, &session)?);
        }
        self.workers.as_ref().ok_or_else(|| DatabaseError::Io(std::io::Error::other("no connection")))
    }

    fn settle(&mut self) -> Result<(), DatabaseError> {
        if let Some(workers) = &self.workers {
            workers.settle()?;
        }
        self.note_arrived()
    }

    /// Notes tables whose rows have all arrived.
    fn note_arrived(&mut self) -> Result<(), DatabaseError> {
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
    fn enter(&mut self, table: Option<&str>) -> Result<(), DatabaseError> {
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
    fn way(&mut self, table: &str, head: &str, plain_insert: bool, utf8: bool) -> Result<Way, DatabaseError> {
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
        Ok(Way {
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
    fn compare_checksums(&mut self) -> Result<(), DatabaseError> {
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
                    self.loaded.warnings.push(Warning::new(what, table, cure));
                }
                None => {}
            }
        }
        Ok(())
    }
}

impl Loading for MysqlLoader {
    fn tables(&mut self) -> Result<Vec<String>, DatabaseError> {
        tables(&mut self.conn)
    }

    fn empty_of(&mut self, made: &dyn Fn(&str) -> bool) -> Result<(), DatabaseError> {
        empty(&mut self.conn, made)
    }

    fn on(
        &mut self,
        connections: usize,
        fit: &[(String, String)],
        keeper: Box<dyn Keeper>,
    ) -> Result<(), DatabaseError> {
        self.connections = connections;
        self.keeper = keeper;
        self.fit = Fit::of_mysql(&mut self.conn, fit)?;
        Ok(())
    }

    fn go_on(&mut self, Reached { whole, .. }: Reached) -> Result<(), DatabaseError> {
        wait_for_the_dead(&mut self.conn)?;
        let there: Vec<String> = tables(&mut self.conn)?;
        let mut sound = BTreeMap::new();
        for (table, sent) in whole.into_iter().filter(|(table, _)| there.contains(table)) {
            // One that does not hold what was sent is made again.
            let count: Vec<u64> = rows(&mut self.conn, &format!("SELECT COUNT(*) FROM {}", name(&table)))?;
            if count == [sent] {
                sound.insert(table, sent);
            }
        }
        let whole = sound;
        empty(&mut self.conn, &|table| !whole.contains_key(table))?;
        self.loaded.rows.clone_from(&whole);
        self.loaded.went_on = whole.len() as u64;
        self.whole = whole;
        Ok(())
    }

    fn goes_straight(&mut self) -> Result<(), DatabaseError> {
        // An older or stricter server is sent statements.
        let allowed: Vec<u64> = rows(&mut self.conn, "SELECT @@local_infile").unwrap_or_default();
        self.as_files = allowed == [1];
        Ok(())
    }

    fn load(&mut self, reader: &mut dyn Read, _: Option<Plain>) -> Result<(), DatabaseError> {
        if std::mem::take(&mut self.strayed) {
            // A part is read as one that says nothing of charset and mode; the server has to read it so as well.
            let session: Vec<String> = SESSION.iter().map(ToString::to_string).collect();
            session.iter().try_for_each(|sql| run(&mut self.conn, sql))?;
            self.workers()?.session(session)?;
        }
        let mut sink = LoadSink {
            loader: self,
            charset: "utf8mb4".into(),
            skip: false,
            table: String::new(),
            head: String::new(),
            read_head: Vec::new(),
            mode: "NO_AUTO_VALUE_ON_ZERO".into(),
            body_mode: None,
            way: Arc::default(),
            ways: BTreeMap::new(),
            batch: String::new(),
            is_simple: false,
            last_batch: 0,
            batch_line: 0,
        };
        each_piece(reader, Dialect::Mysql, &mut |piece, at| sink.take(piece, at))?;
        sink.flush()?;
        // The last batches may arrive while the next part is read.
        self.enter(None)
    }

    fn arrive(&mut self) -> Result<(), DatabaseError> {
        self.settle()
    }

    fn finish(mut self: Box<Self>) -> Result<Loaded, DatabaseError> {
        self.arrive()?;
        if let Some(workers) = self.workers.take() {
            for (table, (count, first)) in workers.take_changed() {
                let what = format!("the server changed {count} values of its own accord: {first}");
                self.loaded.warnings.push(Warning::new(what, table, "compare these rows with the source"));
            }
        }
        for (table, sent) in self.loaded.rows.clone() {
            let there: Vec<u64> = rows(&mut self.conn, &format!("SELECT COUNT(*) FROM {}", name(&table)))?;
            if there != [sent] {
                let there = there.first().copied().unwrap_or_default();
                self.loaded.differing.push((table, sent, there));
            }
        }
        self.compare_checksums()?;
        self.loaded.fitted = self.fit.done();
        Ok(self.loaded)
    }
}

struct LoadSink<'l> {
    loader: &'l mut MysqlLoader,
    /// Charset that the dump says its text has.
    charset: Arc<str>,
    /// Whether the rows at hand are those of a table that is whole already.
    skip: bool,
    /// Table of the rows at hand.
    table: String,
    /// The head of the insert at hand, as it is sent and as it was read.
    head: String,
    read_head: Vec<u8>,
    /// The mode under which everything but bodies is loaded, and the one that the dump names for the body at hand.
    mode: String,
    body_mode: Option<String>,
    way: Arc<Way>,
    /// By the head of their insert.
    ways: BTreeMap<String, Arc<Way>>,
    /// The insert at hand, head included, and whether it holds nothing but strings, numbers and names.
    batch: String,
    is_simple: bool,
    last_batch: usize,
    batch_line: u64,
}

/// Variables that a dump may set for its session, in lower case.
const SETTABLE: [&str; 20] = [
    "names",
    "character",
    "character_set_client",
    "character_set_connection",
    "character_set_results",
    "character_set_database",
    "collation_connection",
    "sql_mode",
    "time_zone",
    "foreign_key_checks",
    "unique_checks",
    "sql_notes",
    "autocommit",
    "sql_quote_show_create",
    "sql_auto_is_null",
    "sql_safe_updates",
    "default_storage_engine",
    "sql_require_primary_key",
    "charset",
    "storage_engine",
];

/// Functions that may stand in a row.
const FUNCTIONS: [&str; 14] = [
    "concat",
    "char",
    "unhex",
    "hex",
    "now",
    "current_timestamp",
    "curdate",
    "from_base64",
    "st_geomfromtext",
    "st_geomfromwkb",
    "geomfromtext",
    "geomfromwkb",
    "convert",
    "cast",
];

impl LoadSink<'_> {
    /// Sends a statement that is no row.
    fn send(&mut self, statement: &[u8], line: u64) -> Result<(), DatabaseError> {
        let text = text_of(statement, line)?;
        self.loader.conn.query_drop(text).map_err(|e| refused(e, line, statement))
    }

    fn flush(&mut self) -> Result<(), DatabaseError> {
        if self.batch.is_empty() {
            return Ok(());
        }
        let statement = std::mem::take(&mut self.batch);
        self.last_batch = statement.len();
        let batch = Batch {
            way: self.way.clone(),
            charset: self.charset.clone(),
            statement,
            simple_from: self.is_simple.then_some(self.head.len()),
            line: self.batch_line,
        };
        self.loader.workers()?.send(batch)
    }

    /// Finds out how the rows of a table are sent.
    fn set_way(&mut self, table: &str, head: &[u8]) -> Result<(), DatabaseError> {
        let word = head.trim_ascii_start().get(..11).unwrap_or_default().to_ascii_uppercase();
        let plain_insert = word == b"INSERT INTO";
        if !self.ways.contains_key(&self.head) {
            let utf8 = self.charset.starts_with("utf8");
            let way = self.loader.way(table, &self.head, plain_insert, utf8)?;
            self.ways.insert(self.head.clone(), Arc::new(way));
        }
        self.way = self.ways.get(&self.head).cloned().unwrap_or_default();
        Ok(())
    }

    fn whole(&mut self, body: &[u8], at: At<'_>) -> Result<(), DatabaseError> {
        let At { statement, line, quoting, .. } = at;
        let has_body =
            matches!(statement.class, Class::CreateTrigger | Class::CreateRoutine | Class::CreateEvent);
        if !has_body {
            self.one_statement(body, line, quoting)?;
        }
        let forbidden = |what: String| Err(DatabaseError::Forbidden { line, what });
        if statement.qualifier.is_some() && statement.class != Class::CreateTrigger {
            return forbidden("the statement names a database of its own".into());
        }
        let table = statement.name.as_deref().unwrap_or_default();
        let is_whole = self.loader.whole.contains_key(table);
        match &statement.class {
            Class::CreateTable | Class::DropTable if is_whole => Ok(()),
            Class::CreateTable | Class::DropTable | Class::AlterTable | Class::CreateIndex => {
                let upper = String::from_utf8_lossy(body).to_ascii_uppercase();
                let risky = [
                    "DATA DIRECTORY",
                    "INDEX DIRECTORY",
                    "ENGINE=FEDERATED",
                    "ENGINE=CONNECT",
                    "ENGINE=SPIDER",
                ];
                if let Some(word) = risky.iter().find(|w| upper.contains(**w)) {
                    return forbidden(format!("a table with {word} would reach outside of the database"));
                }
                if upper.contains("DISABLE KEYS") || upper.contains("ENABLE KEYS") {
                    // Another connection's rows would wait for it, and it is of use to one old engine only.
                    return Ok(());
                }
                if self.loader.loaded.rows.contains_key(table) {
                    self.loader.settle()?;
                }
                if statement.class == Class::CreateTable {
                    self.ways.retain(|_, way| way.table != table);
                    self.loader.enter(Some(table))?;
                    self.loader.loaded.rows.entry(table.to_string()).or_default();
                }
                let fitted = self.loader.fit.statement(body, line, quoting)?;
                let fitted = self.with_own_sequences(&fitted, line, quoting)?;
                match self.send(&fitted, line) {
                    Err(e) if is_whole && exists_already(&e) => Ok(()),
                    other => other,
                }
            }
            Class::CreateTrigger | Class::CreateRoutine | Class::CreateEvent => {
                if statement.class == Class::CreateRoutine && words_of(body, quoting).any(|w| w == b"SONAME")
                {
                    return forbidden(
                        "a function from a library (SONAME) would reach outside of the database".into(),
                    );
                }
                self.loader.settle()?;
                let body = self.without_definer(body);
                let Some(mode) = self.body_mode.clone() else { return self.send_body(&body, line, quoting) };
                // A body is made under the mode that it had; the words in it are read the same way, as `mode` says.
                run(&mut self.loader.conn, &format!("SET SESSION SQL_MODE='{mode}'"))?;
                let sent = self.send_body(&body, line, quoting);
                run(&mut self.loader.conn, &format!("SET SESSION SQL_MODE='{}'", self.mode))?;
                sent
            }
            Class::CreateView | Class::DropOther => {
                self.loader.settle()?;
                let body = self.without_definer(body);
                let fitted = self.loader.fit.statement(&body, line, quoting)?;
                let fitted = self.with_own_sequences(&fitted, line, quoting)?;
                self.send(&fitted, line)
            }
            Class::Insert if is_whole => Ok(()),
            Class::Insert => {
                let upper = String::from_utf8_lossy(body).to_ascii_uppercase();
                if upper.contains("SELECT") || upper.contains("LOAD_FILE") {
                    return forbidden("an insert that reads from elsewhere is not loaded".into());
                }
                self.loader.enter(Some(table))?;
                *self.loader.loaded.rows.entry(table.to_string()).or_default() += 1;
                self.send(body, line)
            }
            Class::Set => self.set(body, line),
            Class::LockTables | Class::UnlockTables | Class::Transaction | Class::Empty => Ok(()),
            Class::Use | Class::Database => {
                let name = statement.name.clone().unwrap_or_default();
                if !self.loader.databases.contains(&name) {
                    self.loader.databases.push(name.clone());
                    let what = format!("the dump names the database {name}");
                    let cure = "nothing: it was loaded into the database that you named";
                    self.loader.loaded.warnings.push(Warning::new(what, format!("line {line}"), cure));
                }
                if self.loader.databases.len() > 1 {
                    return forbidden(format!(
                        "the dump holds several databases: {}",
                        self.loader.databases.join(", ")
                    ));
                }
                Ok(())
            }
            Class::Copy => forbidden("COPY is no statement of this server's".into()),
            Class::Other(word) => match sequence::work(body, quoting) {
                Some(work) => {
                    if let Work::Makes(made) = work {
                        // Whoever undoes the load takes it away as a table.
                        self.loader.keeper.mark(Mark::Begun { table: made.clone() })?;
                        self.loader.sequences.insert(made);
                    }
                    self.send(body, line)
                }
                None => forbidden(format!("{word} is no statement of a site's dump")),
            },
        }
    }

    /// Lets a table or a view take its numbers from a sequence of this database, if the dump made one of that name.
    fn with_own_sequences(&self, body: &[u8], line: u64, quoting: Quoting) -> Result<Vec<u8>, DatabaseError> {
        let named = sequence::named(body, quoting);
        if let Some(other) = named.iter().find(|n| !self.loader.sequences.contains(&n.name)) {
            let what = format!(
                "it takes its numbers from the sequence {} of the database {}",
                other.name, other.database
            );
            return Err(DatabaseError::Forbidden { line, what });
        }
        let edits: Vec<_> = named.iter().map(sequence::Named::without_database).collect();
        Ok(crate::edit::apply(body, &edits))
    }

    /// Takes the definer out: the account that loads becomes it.
    fn without_definer(&mut self, body: &[u8]) -> Vec<u8> {
        let edits = definer::edits(body);
        self.loader.loaded.definers += edits.len() as u64;
        crate::edit::apply(body, &edits)
    }

    fn set(&mut self, body: &[u8], line: u64) -> Result<(), DatabaseError> {
        let text = String::from_utf8_lossy(body).to_ascii_lowercase();
        if text.contains("gtid_purged") || text.contains("sql_log_bin") {
            return Ok(());
        }
        let words = || text.split(|c: char| !c.is_alphanumeric() && c != '_');
        for word in ["global", "persist", "password", "role", "select", "load_file"] {
            if words().any(|w| w == word) {
                let what = format!("SET … {word} … is no setting of a dump");
                return Err(DatabaseError::Forbidden { line, what });
            }
        }
        if text.contains("sql_mode") {
            // The mode is ours: it must be the one by which the dump is read here, or strings would end elsewhere on the server.
            let mut mode = "NO_AUTO_VALUE_ON_ZERO".to_string();
            for (word, name) in [("no_backslash_escapes", "NO_BACKSLASH_ESCAPES"), ("ansi", "ANSI_QUOTES")] {
                if text.contains(word) {
                    mode = format!("{mode},{name}");
                }
            }
            let literal = text.split_once('=').map(|(_, v)| v.trim().trim_matches('\'').to_ascii_uppercase());
            let plain = |m: &String| m.bytes().all(|b| b.is_ascii_uppercase() || b == b'_' || b == b',');
            self.body_mode =
                literal.map(|l| l.trim_end_matches([' ', '*', '/', '\'']).to_string()).filter(plain);
            if self.mode == mode {
                return Ok(());
            }
            self.mode.clone_from(&mode);
            self.loader.strayed = true;
            return self.everywhere(format!("SET SESSION SQL_MODE='{mode}'"));
        }
        let after = text.split_once("set").map(|(_, t)| t.trim_start()).unwrap_or_default();
        let name =
            after.trim_start_matches("session ").trim_start_matches("@@session.").trim_start_matches("@@");
        let name: String =
            name.chars().take_while(|c| c.is_alphanumeric() || *c == '_' || *c == '@').collect();
        if !name.starts_with('@') && !SETTABLE.contains(&name.as_str()) {
            return Err(DatabaseError::Forbidden {
                line,
                what: format!("SET {name} is no setting of a dump"),
            });
        }
        if matches!(name.as_str(), "foreign_key_checks" | "unique_checks" | "autocommit") {
            // Checks come when all is there, and a batch is either in or not.
            return Ok(());
        }
        if let Some(charset) = ["big5", "gbk", "gb18030", "sjis", "cp932"].iter().find(|c| text.contains(**c))
        {
            // In these a backslash may be the second half of a letter.
            let what = format!("the dump is written in {charset}; export it again as UTF-8");
            return Err(DatabaseError::Forbidden { line, what });
        }
        self.loader.strayed |=
            ["names", "character", "charset", "collation"].iter().any(|n| name.starts_with(n))
                && !after.starts_with("names utf8mb4");
        if let Some(charset) = after.strip_prefix("names ") {
            let charset: String =
                charset.trim_matches([' ', '\'', '"']).chars().take_while(|c| c.is_alphanumeric()).collect();
            self.charset = charset.into();
            self.ways.clear();
        }
        let value = after.split_once('=').map(|(_, v)| v.trim_start()).unwrap_or_default();
        // What was kept in a variable is known to the one connection only, and is the zone from before the dump.
        if name == "time_zone" && !value.starts_with('@') {
            return self.everywhere(String::from_utf8_lossy(body).into_owned());
        }
        self.send(body, line)
    }

    /// Gives a setting to every connection.
    fn everywhere(&mut self, sql: String) -> Result<(), DatabaseError> {
        run(&mut self.loader.conn, &sql)?;
        self.loader.workers()?.session(vec![sql])
    }

    /// Refuses text that holds a second statement: the protocol would carry out both.
    fn one_statement(&self, text: &[u8], line: u64, quoting: Quoting) -> Result<(), DatabaseError> {
        if !holds_second_statement(text, quoting) {
            return Ok(());
        }
        let what = "a second statement hides in this one".into();
        Err(DatabaseError::Forbidden { line, what })
    }

    /// Sends a statement with a body of statements. It is prepared first, because a prepared statement is never more than one; a
    /// server that cannot prepare it gets it only if everything lies between one BEGIN and its END.
    fn send_body(&mut self, body: &[u8], line: u64, quoting: Quoting) -> Result<(), DatabaseError> {
        if !holds_second_statement(body, quoting) {
            return self.send(body, line);
        }
        let Ok(text) = std::str::from_utf8(body) else { return self.send(body, line) };
        match self.loader.conn.prep(text) {
            Ok(prepared) => self.loader.conn.exec_drop(prepared, ()).map_err(|e| refused(e, line, body)),
            Err(Error::MySqlError(e)) if e.code == NOT_PREPARABLE && is_one_block(body, quoting) => {
                self.send(body, line)
            }
            Err(e) => Err(refused(e, line, body)),
        }
    }

    /// Adds a row to the batch; `text` is the same row, if the rows around it are known to be UTF-8.
    fn row(
        &mut self,
        bytes: &[u8],
        text: Option<&str>,
        values: &[Value],
        at: At<'_>,
    ) -> Result<(), DatabaseError> {
        let At { line, quoting, .. } = at;
        for value in values.iter().filter(|v| v.kind == ValueKind::Expression) {
            self.one_statement(&bytes[value.span.clone()], line, quoting)?;
            let text = String::from_utf8_lossy(&bytes[value.span.clone()]).into_owned();
            if let Some((function, _)) = text.split_once('(') {
                let function = function.trim();
                let allowed = FUNCTIONS.contains(&function.to_ascii_lowercase().as_str());
                let lower = text.to_ascii_lowercase();
                if !allowed || lower.contains("load_file") || lower.contains("select") {
                    return Err(DatabaseError::Forbidden {
                        line,
                        what: format!("the row calls {function}()"),
                    });
                }
            }
        }
        self.make_room(bytes.len(), line)?;
        self.is_simple = false;
        if let Some(text) = text.or_else(|| simdutf8::basic::from_utf8(bytes).ok()) {
            self.batch.push_str(text);
        } else {
            let row = utf8_row(bytes, values, quoting, &self.charset);
            self.batch.push_str(text_of(&row, line)?);
        }
        Ok(())
    }

    /// Most bytes of a batch.
    fn limit(&self) -> usize {
        BATCH.min(self.loader.packet.saturating_sub(1 << 10).max(1 << 12))
    }

    /// Begins a batch, or goes on with the one at hand if so many bytes have room in it.
    fn make_room(&mut self, bytes: usize, line: u64) -> Result<(), DatabaseError> {
        let limit = self.limit();
        if !self.batch.is_empty() && self.batch.len() + bytes + 2 > limit {
            self.flush()?;
        }
        if self.batch.is_empty() {
            self.batch_line = line;
            self.is_simple = true;
            self.batch.reserve(limit.min(self.last_batch) + bytes);
            self.batch.push_str(&self.head);
        } else {
            self.batch.push(',');
        }
        Ok(())
    }

    /// Adds rows that nothing has to be looked at in, as many at once as have room.
    fn plain_rows(&mut self, rows: &Rows<'_>, text: &str, line: u64) -> Result<(), DatabaseError> {
        let mut first = 0;
        while first < rows.count() {
            let span = rows.span(first);
            self.make_room(span.len(), line)?;
            let room = span.start + self.limit().saturating_sub(self.batch.len());
            let next = rows.ending_by(first + 1, room);
            let span = span.start..rows.span(next - 1).end;
            self.batch.push_str(&text[span]);
            self.is_simple &= !rows.hold_hex();
            first = next;
        }
        Ok(())
    }

    fn take(&mut self, piece: Piece<'_>, at: At<'_>) -> Result<(), DatabaseError> {
        let At { statement, line, quoting, .. } = at;
        match piece {
            Piece::Gap(text) => {
                self.loader.stated.extend(Checksum::in_comments(text));
                Ok(())
            }
            Piece::Between(_) | Piece::CutOff(_) => Ok(()),
            Piece::Whole { bytes, delimiter, .. } => {
                self.flush()?;
                self.whole(&bytes[..bytes.len() - delimiter], at)
            }
            Piece::InsertHead(head) => {
                if statement.qualifier.is_some() {
                    let what = "the statement names a database of its own".into();
                    return Err(DatabaseError::Forbidden { line, what });
                }
                let table = statement.name.as_deref().unwrap_or_default();
                self.skip = self.loader.whole.contains_key(table);
                if self.skip {
                    return Ok(());
                }
                if self.read_head != head {
                    self.one_statement(head, line, quoting)?;
                    self.flush()?;
                    self.head = text_of(&self.loader.fit.head(head, quoting), line)?.to_string();
                    self.read_head = head.to_vec();
                }
                if self.table != table || self.loader.current.is_none() {
                    self.loader.enter(Some(table))?;
                    self.table = table.into();
                }
                self.set_way(table, head)
            }
            Piece::Rows(_) | Piece::Tail { .. } if self.skip => Ok(()),
            Piece::Rows(rows) => {
                *self.loader.loaded.rows.entry(self.table.clone()).or_default() += rows.count() as u64;
                let text = simdutf8::basic::from_utf8(rows.bytes).ok();
                if let Some(text) = text.filter(|_| rows.are_plain()) {
                    return self.plain_rows(&rows, text, line);
                }
                let mut values = Vec::new();
                for span in (0..rows.count()).map(|index| rows.span(index)) {
                    let row = &rows.bytes[span.clone()];
                    row::cut(row, quoting, &mut values);
                    self.row(row, text.and_then(|t| t.get(span)), &values, at)?;
                }
                Ok(())
            }
            Piece::Tail { bytes, delimiter } => {
                let tail = bytes[..bytes.len() - delimiter].trim_ascii();
                if tail.is_empty()
                    || tail.starts_with(b"*/")
                    || tail.starts_with(b"--")
                    || tail.starts_with(b"#")
                {
                    return Ok(());
                }
                self.one_statement(tail, line, quoting)?;
                let lower = String::from_utf8_lossy(tail).to_ascii_lowercase();
                if !lower.starts_with("on duplicate")
                    || lower.contains("select")
                    || lower.contains("load_file")
                {
                    let what = "what follows the rows is no part of a dump".into();
                    return Err(DatabaseError::Forbidden { line, what });
                }
                // `ON DUPLICATE KEY UPDATE …` belongs to the rows at hand.
                self.is_simple = false;
                self.batch.push(' ');
                self.batch.push_str(text_of(tail, line)?);
                self.flush()
            }
        }
    }
}

/// How a statement goes on that takes the rows of an insert as a file: rows as inserts have them, each ended by a comma.
fn as_file(head: &str, table: &str) -> Option<String> {
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

/// Says whether a statement failed because what it makes is there, left by the load that was interrupted.
fn exists_already(error: &DatabaseError) -> bool {
    matches!(code(error), Some(1060 | 1061 | 1068 | 1022 | 1826 | 121))
}

/// The server's error for a statement that cannot be prepared.
const NOT_PREPARABLE: u16 = 1295;

fn words_of(text: &[u8], quoting: Quoting) -> impl Iterator<Item = Vec<u8>> {
    tokens(text, quoting)
        .flatten()
        .filter(|(token, _)| *token == Token::Word)
        .map(|(_, span)| text[span].to_ascii_uppercase())
}

fn holds_second_statement(text: &[u8], quoting: Quoting) -> bool {
    let mut ended = false;
    tokens(text, quoting).any(|token| match token {
        Some((Token::End, _)) => {
            ended = true;
            false
        }
        Some((Token::HintClose, _)) => false,
        Some(_) => ended,
        None => true,
    })
}

/// Says whether all semicolons lie between one `BEGIN` and the `END` that is the last word.
fn is_one_block(text: &[u8], quoting: Quoting) -> bool {
    let (mut depth, mut begun, mut starts, mut after_end) = (0usize, false, false, false);
    for token in tokens(text, quoting) {
        let Some((token, span)) = token else { return false };
        let word = if token == Token::Word { text[span].to_ascii_uppercase() } else { Vec::new() };
        if std::mem::take(&mut after_end) {
            // `END IF` and its kin close what is not counted here.
            if matches!(&word[..], b"IF" | b"LOOP" | b"WHILE" | b"REPEAT" | b"FOR") {
                continue;
            }
            depth = depth.saturating_sub(1);
            if word == b"CASE" {
                continue;
            }
        }
        let outside = depth == 0;
        if (outside && begun && token != Token::HintClose) || (outside && token == Token::End) {
            return false;
        }
        match &word[..] {
            b"BEGIN" if starts || !begun => (depth, begun) = (depth + 1, true),
            b"CASE" if begun => depth += 1,
            b"END" if begun => after_end = true,
            _ => {}
        }
        starts = token == Token::End
            || matches!(&word[..], b"THEN" | b"ELSE" | b"DO" | b"LOOP" | b"REPEAT" | b"BEGIN");
    }
    begun && depth == usize::from(after_end)
}

/// Spells the literals of a row that are not UTF-8 as hex, with the charset that the dump declared, so that the server stores the
/// same bytes.
fn utf8_row(row: &[u8], values: &[Value], quoting: Quoting, charset: &str) -> Vec<u8> {
    let mut out = Vec::with_capacity(row.len() * 2);
    let mut done = 0;
    for value in values.iter().filter(|v| v.kind == ValueKind::Text) {
        if std::str::from_utf8(&row[value.literal.clone()]).is_ok() {
            continue;
        }
        out.extend_from_slice(&row[done..value.literal.start]);
        let introduced = value.literal.start > value.span.start;
        if !introduced && !charset.starts_with("utf8") && charset != "binary" {
            out.extend_from_slice(format!("_{charset} ").as_bytes());
        }
        let bytes = literal::decode(row, value.literal.clone(), quoting).bytes;
        out.extend_from_slice(b"0x");
        out.extend(literal::hex(&bytes, b""));
        done = value.literal.end;
    }
    out.extend_from_slice(&row[done..]);
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hidden_statements_are_found_and_blocks_are_told() {
        let quoting = Quoting::MYSQL;
        for (sql, second, block) in [
            ("CREATE TABLE t (a text COMMENT 'x;y')", false, false),
            ("DROP TABLE t;", false, false),
            ("DROP TABLE t; GRANT x", true, false),
            ("DROP TABLE t /* ; */ -- ; x", false, false),
            (
                "CREATE TRIGGER t BEFORE INSERT ON u FOR EACH ROW BEGIN SET @a=1; IF @a THEN SET @b=2; END IF; END",
                true,
                true,
            ),
            (
                "CREATE PROCEDURE p() BEGIN CASE x WHEN 1 THEN SELECT 1; END CASE; BEGIN SELECT 2; END; END",
                true,
                true,
            ),
            ("CREATE PROCEDURE p() BEGIN SELECT CASE WHEN 1 THEN 2 END; END", true, true),
            ("CREATE TRIGGER t BEFORE INSERT ON u FOR EACH ROW SET @a=1; GRANT x", true, false),
            ("CREATE TRIGGER t BEFORE INSERT ON u FOR EACH ROW BEGIN SET @a=1; END; GRANT x", true, false),
            ("CREATE TRIGGER t BEFORE INSERT ON u FOR EACH ROW BEGIN SET @a=1; END GRANT x", true, false),
            ("SELECT 'not closed; GRANT x", true, false),
        ] {
            assert_eq!(holds_second_statement(sql.as_bytes(), quoting), second, "{sql}");
            assert_eq!(is_one_block(sql.as_bytes(), quoting), block, "{sql}");
        }
    }
}
