//! Loads a dump into PostgreSQL in one transaction, or in stages that are one each: a stage is all there or not at all. Only classes of
//! statements that build this one database reach the server, each alone, by the protocol that takes no second statement.
//!
//! A large dump goes over several connections: large tables, and the indexes of these, have one each for as long as they take, and a
//! transaction of their own (`crew`). Everything else keeps its order on the first connection, and waits for them where it may need them.

use super::crew::{Beside, Copying, Crew, Region, copy_beside, copy_in, transaction, was_committed};
use super::{connect, name, refused, rows, run};
use crate::database::DatabaseError;
use crate::database::journal::{Alone, Keeper, Reached};
use crate::database::load::{Loaded, Loading, Plain, each_piece, text_of};
use crate::database::stages::{STAGE, Stages, Turn, committed_by_rows};
use crate::dump::dialect::Dialect;
use crate::dump::row::{self, Value, ValueKind};
use crate::dump::statement::Class;
use crate::dump::stream::{At, Piece};
use crate::event::Warning;
use crate::place::DatabaseAccess;
use ::postgres::Client;
use std::io::Read;

/// A connection into which dumps are loaded.
pub struct PostgresLoader {
    access: DatabaseAccess,
    /// The connection, unless a copy has it.
    client: Option<Client>,
    /// Whether a transaction is open.
    begun: bool,
    /// Whether the server tells later what became of a transaction.
    remembers: bool,
    connections: usize,
    /// Further connections, if the dump is worth them.
    crew: Option<Crew>,
    loaded: Loaded,
    stages: Stages,
}

/// What every transaction begins with.
pub(super) const BEGIN: &str = "BEGIN; SET LOCAL client_encoding = 'UTF8'; SET LOCAL client_min_messages = warning; SET LOCAL statement_timeout = 0; SET LOCAL check_function_bodies = false";

/// What it begins with on a server that would lose patience while other connections are at work.
const PATIENTLY: &str = "SET LOCAL idle_in_transaction_session_timeout = 0";

/// Version of the server that remembers transactions.
const REMEMBERS: i32 = 100_000;

/// Rows of a table whose indexes are worth a connection of their own.
const MANY: u64 = 10_000;

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
            crew: None,
            loaded: Loaded::default(),
            stages: Stages::default(),
        })
    }

    /// The connection, with no transaction begun for it.
    fn client(&mut self) -> Result<&mut Client, DatabaseError> {
        self.client
            .as_mut()
            .ok_or_else(|| DatabaseError::Io(std::io::Error::other("the connection is in use")))
    }

    /// The connection, in a transaction.
    fn within(&mut self) -> Result<&mut Client, DatabaseError> {
        if !self.begun {
            run(self.client()?, BEGIN)?;
            self.begun = true;
            if self.crew.is_some() {
                run(self.client()?, PATIENTLY)?;
            }
        }
        self.client()
    }

    /// Commits what was done on the first connection, at the end of the dump that of the last statement as well.
    fn commit(&mut self, at_end: bool) -> Result<(), DatabaseError> {
        if !std::mem::take(&mut self.begun) {
            return Ok(());
        }
        let numbered = self.remembers && self.stages.notes().is_some();
        let number = if numbered { Some(transaction(self.client()?)?) } else { None };
        let open = self.crew.as_ref().map(Crew::open).unwrap_or_default();
        let PostgresLoader { client: Some(client), loaded, stages, .. } = self else { return Ok(()) };
        let commit = || run(client, "COMMIT");
        if at_end {
            stages.end(&loaded.rows, number, commit)
        } else {
            stages.commit(&loaded.rows, open, number, commit)
        }
    }

    /// Says whether rows may go into a table while others are filled: nothing that they set off reaches beyond it.
    fn is_free(&mut self, table: &str) -> Result<bool, DatabaseError> {
        let sql = "SELECT c.relkind = 'r' AND NOT c.relhastriggers AND NOT c.relhasrules AND NOT c.relhassubclass \
                     AND NOT EXISTS (SELECT FROM pg_catalog.pg_inherits i WHERE i.inhrelid = c.oid) \
                   FROM pg_catalog.pg_class c WHERE c.oid = to_regclass($1)";
        Ok(rows(self.client()?, sql, &[&table])?.first().is_some_and(|r| r.get(0)))
    }

    /// Waits until further connections have nothing in hand.
    fn settle(&mut self) -> Result<(), DatabaseError> {
        self.crew.as_mut().map_or(Ok(()), Crew::settle)
    }

    /// Waits for what the rows of a table may need.
    fn settle_for(&mut self, table: &str) -> Result<(), DatabaseError> {
        let Some(crew) = &self.crew else { return Ok(()) };
        if !crew.rests() && (crew.has(table) || !self.is_free(table)?) {
            return self.settle();
        }
        Ok(())
    }

    /// Says whether a statement about a table may go over a connection of its own, and makes the table known to all.
    fn may_leave(&mut self, table: &str) -> Result<bool, DatabaseError> {
        let Some(crew) = &mut self.crew else { return Ok(false) };
        if crew.has(table) {
            crew.settle()?;
        }
        let may = crew.is_there()? && self.is_free(table)?;
        if may {
            self.commit(false)?;
        }
        Ok(may)
    }
}

impl Loading for PostgresLoader {
    fn tables(&mut self) -> Result<Vec<String>, DatabaseError> {
        let sql = "SELECT c.relname::text FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace \
                   WHERE c.relkind IN ('r','p','v','m','f','S') AND n.nspname NOT LIKE 'pg\\_%' AND n.nspname <> 'information_schema' \
                   AND NOT EXISTS (SELECT FROM pg_catalog.pg_depend d WHERE d.objid = c.oid AND d.deptype IN ('e','a','i')) ORDER BY 1";
        Ok(rows(self.client()?, sql, &[])?.into_iter().map(|r| r.get(0)).collect())
    }

    fn empty_of(&mut self, _: &dyn Fn(&str) -> bool) -> Result<(), DatabaseError> {
        let client = self.within()?;
        // Schemas hold everything else. What belongs to an extension goes with its schema and comes back with the dump.
        let sql = "SELECT nspname::text FROM pg_catalog.pg_namespace WHERE nspname NOT LIKE 'pg\\_%' AND nspname NOT IN ('information_schema','public')";
        for row in rows(client, sql, &[])? {
            run(client, &format!("DROP SCHEMA {} CASCADE", name(&row.get::<_, String>(0))))?;
        }
        let things = [
            (
                "SELECT CASE c.relkind WHEN 'v' THEN 'VIEW' WHEN 'm' THEN 'MATERIALIZED VIEW' WHEN 'S' THEN 'SEQUENCE' WHEN 'f' THEN 'FOREIGN TABLE' ELSE 'TABLE' END, c.oid::regclass::text \
              FROM pg_catalog.pg_class c WHERE c.relnamespace = 'public'::regnamespace AND c.relkind IN ('v','m','r','p','S','f')",
                " ORDER BY c.relkind = 'S'",
            ),
            (
                "SELECT CASE p.prokind WHEN 'p' THEN 'PROCEDURE' WHEN 'a' THEN 'AGGREGATE' ELSE 'FUNCTION' END, p.oid::regprocedure::text FROM pg_catalog.pg_proc p WHERE p.pronamespace = 'public'::regnamespace",
                " AND NOT EXISTS (SELECT FROM pg_catalog.pg_depend d WHERE d.objid = p.oid AND d.deptype = 'e')",
            ),
            (
                "SELECT CASE t.typtype WHEN 'd' THEN 'DOMAIN' ELSE 'TYPE' END, t.oid::regtype::text FROM pg_catalog.pg_type t LEFT JOIN pg_catalog.pg_class c ON c.oid = t.typrelid \
              WHERE t.typnamespace = 'public'::regnamespace AND (t.typtype IN ('e','d','r') OR c.relkind = 'c')",
                " AND NOT EXISTS (SELECT FROM pg_catalog.pg_depend d WHERE d.objid = t.oid AND d.deptype = 'e')",
            ),
        ];
        for (sql, but) in things {
            for row in rows(client, &format!("{sql}{but}"), &[])? {
                let (kind, thing): (String, String) = (row.get(0), row.get(1));
                // Some go with what they belong to, sequences of columns with their tables.
                run(client, &format!("DROP {kind} IF EXISTS {thing} CASCADE"))?;
            }
        }
        Ok(())
    }

    fn on(
        &mut self,
        connections: usize,
        _fit: &[(String, String)],
        _keeper: Box<dyn Keeper>,
    ) -> Result<(), DatabaseError> {
        self.connections = connections;
        Ok(())
    }

    fn in_stages(&mut self, bytes: u64, keeper: Box<dyn Keeper>) {
        self.stages.begin(keeper);
        let notes = self.stages.notes().filter(|_| self.remembers && self.connections > 1 && bytes >= STAGE);
        self.crew = notes.map(|notes| Crew::new(&self.access, self.connections, notes));
    }

    fn go_on(&mut self, reached: Reached) -> Result<(), DatabaseError> {
        let PostgresLoader { client: Some(client), stages, .. } = self else { return Ok(()) };
        let there = stages.go_on(reached, |stage| {
            let told = stage.transaction.map(|number| was_committed(client, number)).transpose()?.flatten();
            let by_rows = || {
                committed_by_rows(stage, |table, sent| {
                    let found = rows(client, "SELECT to_regclass($1) IS NOT NULL", &[&table])?;
                    Ok(found.first().is_some_and(|r| r.get(0)) && count(client, table)? == sent)
                })
            };
            told.map_or_else(by_rows, Ok)
        })?;
        if self.loaded.goes_on(there) { Ok(()) } else { self.empty() }
    }

    fn load(&mut self, reader: &mut dyn Read, plain: Option<Plain>) -> Result<(), DatabaseError> {
        let mut sink = LoadSink {
            loader: self,
            plain,
            at: 0,
            head: String::new(),
            block: Vec::new(),
            passed: 0,
            begins: None,
            ahead: false,
            copying: None,
            beside: None,
        };
        each_piece(reader, Dialect::Postgres, &mut |piece, at| sink.take(piece, at))
    }

    fn arrive(&mut self) -> Result<(), DatabaseError> {
        self.settle()
    }

    fn finish(mut self: Box<Self>) -> Result<Loaded, DatabaseError> {
        self.arrive()?;
        for (table, sent) in self.loaded.rows.clone() {
            let there = count(self.client()?, &table)?;
            if there != sent {
                self.loaded.differing.push((table, sent, there));
            }
        }
        self.commit(true)?;
        Ok(self.loaded)
    }
}

/// Counts the rows of a table, named in full.
fn count(client: &mut Client, table: &str) -> Result<u64, DatabaseError> {
    let there = rows(client, &format!("SELECT count(*) FROM {table}"), &[])?;
    Ok(there.first().map_or(0, |r| u64::try_from(r.get::<_, i64>(0)).unwrap_or_default()))
}

struct LoadSink<'l> {
    loader: &'l mut PostgresLoader,
    /// The dump's file, if the dump is plain.
    plain: Option<Plain>,
    /// Offset of the piece at hand.
    at: u64,
    /// The copy at hand.
    head: String,
    /// Rows of it that are not passed on yet, or the insert at hand.
    block: Vec<u8>,
    /// How many bytes of rows were passed on.
    passed: usize,
    /// Where the rows of the copy begin.
    begins: Option<u64>,
    /// Whether they are passed over, because who sends them reads them from the file.
    ahead: bool,
    /// The copy, once it is large enough to be passed on.
    copying: Option<Copying>,
    /// The first connection, if the copy has that.
    beside: Option<Beside>,
}

/// Rows of a copy are passed on when so many bytes have come together.
pub(super) const BLOCK: usize = 1 << 20;

impl LoadSink<'_> {
    /// Rows of a table that were sent so far.
    fn sent(&self, table: &str) -> u64 {
        self.loader.loaded.rows.get(table).copied().unwrap_or_default()
    }

    /// Passes rows of a large table on to the connection that copies them.
    fn pass_on(&mut self, at: At<'_>) -> Result<(), DatabaseError> {
        if self.copying.is_none() && self.begin_copy(&full_name(at), at.line)? {
            return Ok(());
        }
        self.passed += self.block.len();
        if self.copying.as_ref().is_some_and(|copying| copying.rows(&mut self.block)) {
            return Ok(());
        }
        self.copying = None;
        match self.beside.take() {
            Some(beside) => self.came_back(beside),
            None => self.loader.settle(),
        }?;
        Err(DatabaseError::Io(std::io::ErrorKind::BrokenPipe.into()))
    }

    fn alone(&self, table: &str) -> Alone {
        let statement = self.loader.stages.number();
        Alone { statement, table: table.into(), ..Alone::default() }
    }

    /// Begins a copy of a large table. Returns true if its rows need only be passed over: they will be read from the file.
    fn begin_copy(&mut self, table: &str, line: u64) -> Result<bool, DatabaseError> {
        if self.loader.may_leave(table)? {
            if let Some(plain) = &self.plain {
                self.ahead = true;
                self.passed = self.block.len();
                self.block.clear();
                plain.meter.runs_ahead(true);
                return Ok(true);
            }
            let alone = self.alone(table);
            if let Some(crew) = &mut self.loader.crew {
                self.copying = Some(crew.copy(alone, self.head.clone(), line)?);
            }
        }
        if self.copying.is_none() {
            self.loader.settle_for(table)?;
            self.loader.within()?;
            let Some(client) = self.loader.client.take() else {
                return Err(DatabaseError::Io(std::io::Error::other("the connection is in use")));
            };
            let (copying, beside) = copy_beside(client, self.head.clone(), line);
            (self.copying, self.beside) = (Some(copying), Some(beside));
        }
        Ok(false)
    }

    /// Has the rows sent that were passed over.
    fn send_region(&mut self, at: At<'_>) -> Result<(), DatabaseError> {
        let (Some(plain), Some(start)) = (self.plain.clone(), self.begins) else { return Ok(()) };
        let table = full_name(at);
        plain.meter.runs_ahead(false);
        let counted = std::mem::take(&mut self.passed);
        let region = Region { plain, span: start..self.at, rows: self.sent(&table), counted };
        let alone = self.alone(&table);
        let Some(crew) = &mut self.loader.crew else { return Ok(()) };
        crew.copy_region(alone, self.head.clone(), at.line, region)
    }

    /// Takes the first connection back from a copy.
    fn came_back(&mut self, beside: Beside) -> Result<(), DatabaseError> {
        let stopped = |_| DatabaseError::Io(std::io::Error::other("the copying thread stopped"));
        let (client, done) = beside.join().map_err(stopped)?;
        self.loader.client = Some(client);
        done.map(drop)
    }

    fn end_copy(&mut self, at: At<'_>) -> Result<(), DatabaseError> {
        if std::mem::take(&mut self.ahead) {
            return self.send_region(at);
        }
        let table = full_name(at);
        if self.copying.is_some() && !self.block.is_empty() {
            self.pass_on(at)?;
        }
        let passed = std::mem::take(&mut self.passed);
        if let Some(copying) = self.copying.take() {
            copying.end(self.sent(&table));
            // One that has a connection of its own is not waited for.
            let Some(beside) = self.beside.take() else { return Ok(()) };
            self.came_back(beside)?;
            self.loader.stages.filled(&table, passed);
        } else if !self.block.is_empty() {
            self.loader.settle_for(&table)?;
            copy_in(self.loader.within()?, &self.head, at.line, |send| send(&self.block))?;
            self.loader.stages.filled(&table, self.block.len());
            self.block.clear();
        }
        Ok(())
    }

    /// Hands an index or a key of a large table to a connection of its own. Returns false if that is not possible.
    fn leaves(&mut self, text: &str, lower: &str, at: At<'_>) -> Result<bool, DatabaseError> {
        let of_one_table = match at.statement.class {
            Class::CreateIndex => true,
            Class::AlterTable => {
                lower.contains("add constraint")
                    && (lower.contains("primary key") || lower.contains(" unique "))
                    && !lower.contains("references")
            }
            _ => false,
        };
        let table = full_name(at);
        let rows = self.sent(&table);
        if !of_one_table || rows < MANY || !self.loader.may_leave(&table)? {
            return Ok(false);
        }
        let alone = self.alone(&table);
        let Some(crew) = &mut self.loader.crew else { return Ok(false) };
        crew.run(alone, text.into(), at.line, rows).map(|()| true)
    }

    /// Runs a setting, on every connection.
    fn set(&mut self, body: &[u8], line: u64) -> Result<(), DatabaseError> {
        self.run(body, line)?;
        let text = text_of(body, line)?;
        self.loader.crew.as_mut().map_or(Ok(()), |crew| crew.set(text))
    }

    fn run(&mut self, body: &[u8], line: u64) -> Result<(), DatabaseError> {
        let text = text_of(body, line)?;
        self.loader.within()?.execute(text, &[]).map(drop).map_err(|e| refused(e, line, body))
    }

    fn whole(&mut self, body: &[u8], at: At<'_>) -> Result<(), DatabaseError> {
        let line = at.line;
        let text = String::from_utf8_lossy(body);
        let lower = text.to_ascii_lowercase();
        let words: Vec<&str> = lower
            .split(|c: char| c.is_ascii_whitespace() || c == '(')
            .filter(|w| !w.is_empty())
            .take(12)
            .collect();
        let word = |n: usize| words.get(n).copied().unwrap_or_default();
        let forbidden = |what: String| Err(DatabaseError::Forbidden { line, what });
        if self.leaves(&text, &lower, at)? {
            return Ok(());
        }
        // A new table that refers to no other needs nothing that is in hand; settings wait where they are set.
        let looks_around = |word: &str| matches!(word, "as" | "references" | "inherits" | "partition");
        match at.statement.class {
            Class::Transaction | Class::Empty | Class::Set => {}
            Class::CreateTable if !lower.split(|c: char| !c.is_alphanumeric()).any(looks_around) => {}
            _ => self.loader.settle()?,
        }
        match &at.statement.class {
            Class::Transaction | Class::Empty => Ok(()),
            Class::CreateTable if word(1) == "foreign" => {
                forbidden("a foreign table would reach outside of the database".into())
            }
            Class::AlterTable if words.contains(&"owner") && words.contains(&"to") => Ok(()),
            Class::CreateTable
            | Class::DropTable
            | Class::AlterTable
            | Class::CreateIndex
            | Class::CreateView
            | Class::CreateTrigger => self.run(body, line),
            Class::CreateRoutine => {
                let language =
                    lower.split("language ").nth(1).unwrap_or_default().trim_start_matches(['\'', '"']);
                let language: String = language.chars().take_while(char::is_ascii_alphanumeric).collect();
                if !matches!(language.as_str(), "sql" | "plpgsql" | "") {
                    return forbidden(format!(
                        "a function in {language} could reach outside of the database"
                    ));
                }
                self.run(body, line)
            }
            Class::DropOther => self.run(body, line),
            Class::Insert => {
                if lower.contains("select") {
                    return forbidden("an insert that reads from elsewhere is not loaded".into());
                }
                self.run(body, line)
            }
            Class::Set => match word(1) {
                "statement_timeout"
                | "lock_timeout"
                | "idle_in_transaction_session_timeout"
                | "transaction_timeout"
                | "default_table_access_method"
                | "default_tablespace"
                | "row_security"
                | "default_with_oids" => Ok(()),
                "client_encoding" if !lower.contains("utf8") => {
                    forbidden("the dump is not written in UTF-8; export it again as UTF-8".into())
                }
                "client_encoding"
                | "standard_conforming_strings"
                | "check_function_bodies"
                | "xmloption"
                | "client_min_messages"
                | "search_path"
                | "timezone"
                | "datestyle"
                | "intervalstyle"
                | "escape_string_warning" => self.set(body, line),
                other => forbidden(format!("SET {other} is no setting of a dump")),
            },
            Class::Other(first) => {
                let first = first.to_ascii_lowercase();
                match (first.as_str(), word(1)) {
                    ("select", "pg_catalog.set_config" | "set_config") if one_call(&lower) => {
                        self.set(body, line)
                    }
                    ("select", "pg_catalog.setval" | "setval") if one_call(&lower) => self.run(body, line),
                    ("create", "extension") => {
                        let cure = "ask the server's admin to make the extension, if the site needs it";
                        self.if_possible(body, line, cure)
                    }
                    ("create", "policy") => {
                        let cure = "make the role that it names, and then the policy by hand";
                        self.if_possible(body, line, cure)
                    }
                    (
                        "create",
                        "sequence" | "type" | "domain" | "schema" | "materialized" | "unlogged" | "rule"
                        | "aggregate",
                    ) => self.run(body, line),
                    (
                        "alter",
                        "sequence" | "type" | "domain" | "index" | "view" | "materialized" | "schema"
                        | "function" | "procedure" | "aggregate",
                    ) => {
                        if words.contains(&"owner") {
                            Ok(())
                        } else {
                            self.run(body, line)
                        }
                    }
                    ("alter", "default") => Ok(()),
                    ("comment", _) if word(2) == "extension" => Ok(()),
                    ("comment", _) => self.run(body, line),
                    ("refresh", "materialized") => self.run(body, line),
                    _ => forbidden(format!(
                        "{} {} is no statement of a site's dump",
                        first.to_uppercase(),
                        word(1).to_uppercase()
                    )),
                }
            }
            Class::Database if word(1) == "schema" => self.run(body, line),
            other => forbidden(format!("{other:?} is no statement of a site's dump")),
        }
    }

    /// What this server or this account cannot have is said and passed over.
    fn if_possible(&mut self, body: &[u8], line: u64, cure: &str) -> Result<(), DatabaseError> {
        run(self.loader.within()?, "SAVEPOINT tried")?;
        if let Err(e) = self.run(body, line) {
            run(self.loader.within()?, "ROLLBACK TO tried")?;
            let what = format!(
                "{} was refused: {}",
                String::from_utf8_lossy(body).trim(),
                crate::database::told(&e)
            );
            self.loader.loaded.warnings.push(Warning::new(what, format!("line {line}"), cure));
        }
        Ok(())
    }

    fn take(&mut self, piece: Piece<'_>, at: At<'_>) -> Result<(), DatabaseError> {
        let len = piece.bytes().len() as u64;
        let taken = self.take_at(piece, at);
        self.at += len;
        taken
    }

    fn take_at(&mut self, piece: Piece<'_>, at: At<'_>) -> Result<(), DatabaseError> {
        let line = at.line;
        match self.loader.stages.turn(&piece, at) {
            // Settings are the session's, not the database's.
            Turn::Skip if at.statement.class != Class::Set && !sets(&piece) => return Ok(()),
            Turn::Skip | Turn::Take => {}
            Turn::CommitFirst => self.loader.commit(false)?,
        }
        match piece {
            Piece::CutOff(_) => Ok(()),
            Piece::Between(_) if at.statement.class == Class::Copy => Ok(()),
            Piece::Gap(text) => client_command(text, line),
            Piece::Whole { bytes, delimiter, .. } => self.whole(&bytes[..bytes.len() - delimiter], at),
            Piece::InsertHead(head) => {
                self.begins = None;
                let text = String::from_utf8_lossy(head).trim().trim_end_matches(';').to_string();
                if at.statement.class == Class::Copy {
                    let upper = text.to_ascii_uppercase();
                    if !upper.ends_with("FROM STDIN") {
                        return Err(DatabaseError::Forbidden {
                            line,
                            what: "a copy from elsewhere is not loaded".into(),
                        });
                    }
                    self.head = text;
                } else {
                    self.block = head.to_vec();
                }
                Ok(())
            }
            Piece::Rows(rows) => {
                *self.loader.loaded.rows.entry(full_name(at)).or_default() += rows.count() as u64;
                self.begins.get_or_insert(self.at);
                if at.statement.class != Class::Copy {
                    let mut values = Vec::new();
                    rows.each().try_for_each(|row| plain_values(row, at, &mut values))?;
                } else if self.ahead {
                    return Ok(());
                } else if self.block.last().is_some_and(|b| *b != b'\n') {
                    self.block.push(b'\n');
                }
                self.block.extend_from_slice(rows.bytes);
                if at.statement.class == Class::Copy && self.block.len() >= BLOCK {
                    return self.pass_on(at);
                }
                Ok(())
            }
            Piece::Between(bytes) => {
                self.block.extend_from_slice(bytes);
                Ok(())
            }
            Piece::Tail { bytes, delimiter } => {
                if at.statement.class == Class::Copy {
                    return self.end_copy(at);
                }
                self.block.extend_from_slice(&bytes[..bytes.len() - delimiter]);
                let statement = std::mem::take(&mut self.block);
                let table = full_name(at);
                self.loader.settle_for(&table)?;
                self.loader.stages.filled(&table, statement.len());
                self.run(&statement, line)
            }
        }
    }
}

/// Says whether a statement is a call that sets something for the session.
fn sets(piece: &Piece<'_>) -> bool {
    let Piece::Whole { bytes, .. } = piece else { return false };
    let start = String::from_utf8_lossy(&bytes[..bytes.len().min(64)]).to_ascii_lowercase();
    let call = start.strip_prefix("select").unwrap_or_default().trim_start();
    call.trim_start_matches("pg_catalog.").starts_with("set_config")
}

/// Refuses a row that calls functions or asks questions.
fn plain_values(row: &[u8], at: At<'_>, values: &mut Vec<Value>) -> Result<(), DatabaseError> {
    row::cut(row, at.quoting, values);
    for value in values.iter().filter(|v| v.kind == ValueKind::Expression) {
        let text = String::from_utf8_lossy(&row[value.span.clone()]).to_ascii_lowercase();
        if text.contains('(') && !text.contains("::") || text.contains("select") {
            let what = format!("the row calls {}()", text.split('(').next().unwrap_or_default().trim());
            return Err(DatabaseError::Forbidden { line: at.line, what });
        }
    }
    Ok(())
}

/// The table of a statement in full, quoted.
fn full_name(at: At<'_>) -> String {
    let table = name(at.statement.name.as_deref().unwrap_or_default());
    match &at.statement.qualifier {
        Some(schema) => format!("{}.{table}", name(schema)),
        None => table,
    }
}

/// Says whether a `SELECT` is one call with plain arguments and nothing else.
fn one_call(lower: &str) -> bool {
    let Some((_, arguments)) = lower.split_once('(') else { return false };
    let Some(arguments) = arguments.trim_end().strip_suffix(')') else { return false };
    !arguments.contains(['(', ';']) && !arguments.contains("select")
}

/// Refuses lines that speak to the client, but for those that the server's own dump program writes around a dump.
fn client_command(text: &[u8], line: u64) -> Result<(), DatabaseError> {
    for (at, bytes) in text.split(|b| *b == b'\n').enumerate() {
        let Some(command) = bytes.trim_ascii().strip_prefix(b"\\") else { continue };
        let word: String =
            command.iter().take_while(|b| b.is_ascii_alphabetic()).map(|b| char::from(*b)).collect();
        if !matches!(word.as_str(), "restrict" | "unrestrict") && command != b"." {
            let line = line + at as u64;
            return Err(DatabaseError::Forbidden {
                line,
                what: format!("\\{word} is a command for a client, no statement"),
            });
        }
    }
    Ok(())
}
