//! Loads a dump into PostgreSQL in one transaction, or in stages that are one each: a stage is all there or not at all. Only classes of
//! statements that build this one database reach the server, each alone, by the protocol that takes no second statement.

use super::{connect, name, refused, rows, run};
use crate::database::DatabaseError;
use crate::database::journal::{Keeper, Reached};
use crate::database::load::{Loaded, Loading, each_piece, text_of};
use crate::database::stages::{Stages, Turn};
use crate::dump::dialect::Dialect;
use crate::dump::row::{self, Value, ValueKind};
use crate::dump::statement::Class;
use crate::dump::stream::{At, Piece};
use crate::event::Warning;
use crate::place::DatabaseAccess;
use ::postgres::Client;
use std::io::{Read, Write};

/// A connection into which dumps are loaded.
pub struct PostgresLoader {
    client: Client,
    loaded: Loaded,
    stages: Stages,
}

/// What every transaction begins with.
const BEGIN: &str = "BEGIN; SET LOCAL client_encoding = 'UTF8'; SET LOCAL client_min_messages = warning; SET LOCAL statement_timeout = 0; SET LOCAL check_function_bodies = false";

impl PostgresLoader {
    /// Connects and begins the first transaction.
    pub fn new(access: &DatabaseAccess) -> Result<Self, DatabaseError> {
        let mut client = connect(access)?;
        run(&mut client, BEGIN)?;
        Ok(PostgresLoader { client, loaded: Loaded::default(), stages: Stages::default() })
    }
}

impl Loading for PostgresLoader {
    fn tables(&mut self) -> Result<Vec<String>, DatabaseError> {
        let sql = "SELECT c.relname::text FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace \
                   WHERE c.relkind IN ('r','p','v','m','f','S') AND n.nspname NOT LIKE 'pg\\_%' AND n.nspname <> 'information_schema' \
                   AND NOT EXISTS (SELECT FROM pg_catalog.pg_depend d WHERE d.objid = c.oid AND d.deptype IN ('e','a','i')) ORDER BY 1";
        Ok(rows(&mut self.client, sql, &[])?.into_iter().map(|r| r.get(0)).collect())
    }

    fn empty_of(&mut self, _: &dyn Fn(&str) -> bool) -> Result<(), DatabaseError> {
        // Schemas hold everything else. What belongs to an extension goes with its schema and comes back with the dump.
        let sql = "SELECT nspname::text FROM pg_catalog.pg_namespace WHERE nspname NOT LIKE 'pg\\_%' AND nspname NOT IN ('information_schema','public')";
        for row in rows(&mut self.client, sql, &[])? {
            run(&mut self.client, &format!("DROP SCHEMA {} CASCADE", name(&row.get::<_, String>(0))))?;
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
            for row in rows(&mut self.client, &format!("{sql}{but}"), &[])? {
                let (kind, thing): (String, String) = (row.get(0), row.get(1));
                // Some go with what they belong to, sequences of columns with their tables.
                run(&mut self.client, &format!("DROP {kind} IF EXISTS {thing} CASCADE"))?;
            }
        }
        Ok(())
    }

    fn in_stages(&mut self, keeper: Box<dyn Keeper>) {
        self.stages.begin(keeper);
    }

    fn go_on(&mut self, reached: Reached) -> Result<(), DatabaseError> {
        let client = &mut self.client;
        let there = self.stages.go_on(reached, |table, sent| {
            let found = rows(client, "SELECT to_regclass($1) IS NOT NULL", &[&table])?;
            if !found.first().is_some_and(|r| r.get(0)) {
                return Ok(false);
            }
            Ok(count(client, table)? == sent)
        })?;
        if self.loaded.goes_on(there) { Ok(()) } else { self.empty() }
    }

    fn load(&mut self, reader: &mut dyn Read) -> Result<(), DatabaseError> {
        let mut sink = LoadSink { loader: self, head: String::new(), block: Vec::new() };
        each_piece(reader, Dialect::Postgres, &mut |piece, at| sink.take(piece, at))
    }

    fn finish(mut self: Box<Self>) -> Result<Loaded, DatabaseError> {
        for (table, sent) in self.loaded.rows.clone() {
            let there = count(&mut self.client, &table)?;
            if there != sent {
                self.loaded.differing.push((table, sent, there));
            }
        }
        run(&mut self.client, "COMMIT")?;
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
    /// The copy at hand.
    head: String,
    /// Rows of it that are not sent yet, or the insert at hand.
    block: Vec<u8>,
}

/// Rows of a copy are sent when so many bytes have come together.
const BLOCK: usize = 4 << 20;

impl LoadSink<'_> {
    fn send_block(&mut self) -> Result<(), DatabaseError> {
        if self.block.is_empty() {
            return Ok(());
        }
        let block = std::mem::take(&mut self.block);
        let head = self.head.as_str();
        let wrong = |e| refused(e, 0, head.as_bytes());
        let mut writer = self.loader.client.copy_in(head).map_err(wrong)?;
        writer.write_all(&block).map_err(|e| DatabaseError::Lost(Box::new(e)))?;
        writer.finish().map_err(wrong)?;
        self.block = block;
        self.block.clear();
        Ok(())
    }

    fn run(&mut self, body: &[u8], line: u64) -> Result<(), DatabaseError> {
        let text = text_of(body, line)?;
        self.loader.client.execute(text, &[]).map(drop).map_err(|e| refused(e, line, body))
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
                | "escape_string_warning" => self.run(body, line),
                other => forbidden(format!("SET {other} is no setting of a dump")),
            },
            Class::Other(first) => {
                let first = first.to_ascii_lowercase();
                match (first.as_str(), word(1)) {
                    ("select", function)
                        if matches!(
                            function,
                            "pg_catalog.set_config" | "pg_catalog.setval" | "setval" | "set_config"
                        ) && one_call(&lower) =>
                    {
                        self.loader
                            .client
                            .query(text.as_ref(), &[])
                            .map(drop)
                            .map_err(|e| refused(e, line, body))
                    }
                    ("create", "extension") => self.extension(body, line),
                    ("create", "sequence" | "type" | "domain" | "schema" | "materialized" | "unlogged") => {
                        self.run(body, line)
                    }
                    (
                        "alter",
                        "sequence" | "type" | "domain" | "index" | "view" | "materialized" | "schema"
                        | "function" | "procedure",
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

    /// An extension that the account may not make is said and passed over.
    fn extension(&mut self, body: &[u8], line: u64) -> Result<(), DatabaseError> {
        run(&mut self.loader.client, "SAVEPOINT extension")?;
        if let Err(e) = self.run(body, line) {
            run(&mut self.loader.client, "ROLLBACK TO extension")?;
            let what = format!(
                "{} was refused: {}",
                String::from_utf8_lossy(body).trim(),
                crate::database::told(&e)
            );
            let cure = "ask the server's admin to make the extension, if the site needs it";
            self.loader.loaded.warnings.push(Warning::new(what, format!("line {line}"), cure));
        }
        Ok(())
    }

    fn take(&mut self, piece: Piece<'_>, at: At<'_>) -> Result<(), DatabaseError> {
        let line = at.line;
        match self.loader.stages.turn(&piece, at) {
            // Settings are the session's, not the database's.
            Turn::Skip if at.statement.class != Class::Set && !sets(&piece) => return Ok(()),
            Turn::Skip | Turn::Take => {}
            Turn::CommitFirst => {
                let PostgresLoader { client, loaded, stages } = &mut *self.loader;
                stages.commit(&loaded.rows, || run(client, "COMMIT"))?;
                run(client, BEGIN)?;
            }
        }
        match piece {
            Piece::CutOff(_) => Ok(()),
            Piece::Between(_) if at.statement.class == Class::Copy => Ok(()),
            Piece::Gap(text) => client_command(text, line),
            Piece::Whole { bytes, delimiter, .. } => self.whole(&bytes[..bytes.len() - delimiter], at),
            Piece::InsertHead(head) => {
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
                let table = full_name(at);
                self.loader.stages.filled(&table);
                *self.loader.loaded.rows.entry(table).or_default() += rows.count() as u64;
                if at.statement.class != Class::Copy {
                    let mut values = Vec::new();
                    rows.each().try_for_each(|row| plain_values(row, at, &mut values))?;
                } else if self.block.last().is_some_and(|b| *b != b'\n') {
                    self.block.push(b'\n');
                }
                self.block.extend_from_slice(rows.bytes);
                // A copy may be cut in several; an insert is one statement.
                if at.statement.class == Class::Copy && self.block.len() >= BLOCK {
                    return self.send_block();
                }
                Ok(())
            }
            Piece::Between(bytes) => {
                self.block.extend_from_slice(bytes);
                Ok(())
            }
            Piece::Tail { bytes, delimiter } => {
                if at.statement.class == Class::Copy {
                    return self.send_block();
                }
                self.block.extend_from_slice(&bytes[..bytes.len() - delimiter]);
                let statement = std::mem::take(&mut self.block);
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
