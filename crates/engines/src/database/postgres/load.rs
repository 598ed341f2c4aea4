//! Loads a dump into PostgreSQL in one transaction, or in stages that are one each: a stage is all there or not at all. Vetted statements
//! alone reach the server, each by the protocol that takes no second one.
//!
//! A large dump goes over several connections: large tables, and the indexes of these, have one each for as long as they take, and a
//! transaction of their own (`pool`). Everything else keeps its order on the first connection, and waits for them where it may need them.

use super::aside::OURS;
pub use super::loader::PostgresLoader;
use super::loader::{count, count_if_there, wait_for_others};
use super::pool::{Pool, was_committed};
use super::sink::LoadSink;
use super::{name, rows, run};
use crate::database::DatabaseError;
use crate::database::checkpoints::{STAGE, committed_by_rows};
use crate::database::journal::{FormerThing, ProgressStore, Reached, Stage};
use crate::database::loading::Substitution;
use crate::database::loading::{AsideName, Loaded, Loading, Plain, each_piece};
use crate::dump::dialect::Dialect;
use ::postgres::Client;
use std::collections::BTreeSet;
use std::io::Read;
use std::time::Duration;

/// Says whether the rows and the index of a stage are there.
fn made_what_it_says(client: &mut Client, stage: &Stage) -> Result<bool, DatabaseError> {
    for (table, sent) in &stage.rows {
        if count_if_there(client, table)?.is_none_or(|there| there < *sent) {
            return Ok(false);
        }
    }
    let Some(index) = &stage.index else { return Ok(true) };
    let sql = "SELECT FROM pg_catalog.pg_class WHERE relkind IN ('i', 'I') AND relname = $1";
    Ok(!rows(client, sql, &[index])?.is_empty())
}

impl Loading for PostgresLoader {
    fn tables(&mut self) -> Result<Vec<String>, DatabaseError> {
        let sql = format!(
            "SELECT c.relname::text FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace \
             WHERE c.relkind IN ('r','p','v','m','f','S') AND {OURS} \
             AND NOT EXISTS (SELECT FROM pg_catalog.pg_depend d WHERE d.objid = c.oid AND (d.deptype = 'e' OR c.relkind = 'S' AND d.deptype IN ('a','i'))) ORDER BY 1"
        );
        Ok(rows(self.client()?, &sql, &[])?.into_iter().map(|r| r.get(0)).collect())
    }

    fn empty_of(&mut self, made: &dyn Fn(&str) -> bool) -> Result<(), DatabaseError> {
        let client = self.within()?;
        let own = OURS;
        // What belongs to an extension goes and comes with that.
        let but = |of: &str| {
            format!(
                "NOT EXISTS (SELECT FROM pg_catalog.pg_depend d WHERE d.objid = {of} AND d.deptype = 'e')"
            )
        };
        let things = [
            format!(
                "SELECT CASE c.relkind WHEN 'v' THEN 'VIEW' WHEN 'm' THEN 'MATERIALIZED VIEW' WHEN 'S' THEN 'SEQUENCE' WHEN 'f' THEN 'FOREIGN TABLE' ELSE 'TABLE' END, \
                   format('%I.%I', n.nspname, c.relname), c.relname::text FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace \
                 WHERE {own} AND c.relkind IN ('v','m','r','p','S','f') AND {} ORDER BY c.relkind = 'S'",
                but("c.oid")
            ),
            format!(
                "SELECT CASE p.prokind WHEN 'p' THEN 'PROCEDURE' WHEN 'a' THEN 'AGGREGATE' ELSE 'FUNCTION' END, \
                   format('%I.%I(%s)', n.nspname, p.proname, CASE WHEN p.prokind = 'a' AND p.pronargs = 0 THEN '*' ELSE pg_get_function_identity_arguments(p.oid) END), p.proname::text \
                 FROM pg_catalog.pg_proc p JOIN pg_catalog.pg_namespace n ON n.oid = p.pronamespace WHERE {own} AND {} \
                 AND NOT EXISTS (SELECT FROM pg_catalog.pg_depend d WHERE d.objid = p.oid AND d.deptype = 'i')",
                but("p.oid")
            ),
            format!(
                "SELECT CASE t.typtype WHEN 'd' THEN 'DOMAIN' ELSE 'TYPE' END, format('%I.%I', n.nspname, t.typname), t.typname::text \
                 FROM pg_catalog.pg_type t LEFT JOIN pg_catalog.pg_class c ON c.oid = t.typrelid JOIN pg_catalog.pg_namespace n ON n.oid = t.typnamespace \
                 WHERE {own} AND (t.typtype IN ('e','d','r') OR c.relkind = 'c') AND {}",
                but("t.oid")
            ),
        ];
        for sql in things {
            for row in rows(client, &sql, &[])? {
                let (kind, thing, name): (String, String, String) = (row.get(0), row.get(1), row.get(2));
                if made(&name) {
                    // Some go with what they belong to, sequences of columns with their tables.
                    run(client, &format!("DROP {kind} IF EXISTS {thing} CASCADE"))?;
                }
            }
        }
        let schemas = format!(
            "SELECT n.nspname::text FROM pg_catalog.pg_namespace n WHERE {own} AND n.nspname <> 'public' \
             AND NOT EXISTS (SELECT FROM pg_catalog.pg_class c WHERE c.relnamespace = n.oid)"
        );
        for row in rows(client, &schemas, &[])? {
            let schema: String = row.get(0);
            if made(&schema) {
                run(client, &format!("DROP SCHEMA {} CASCADE", name(&schema)))?;
            }
        }
        Ok(())
    }

    fn on(
        &mut self,
        connections: usize,
        _: &[Substitution],
        keeper: Box<dyn ProgressStore>,
    ) -> Result<(), DatabaseError> {
        self.connections = connections;
        self.stages.watch(keeper);
        Ok(())
    }

    fn make_room(&mut self, goes: &BTreeSet<String>) -> Result<(), DatabaseError> {
        self.empty_of(&|table| goes.contains(table))?;
        self.others = self.tables()?.into_iter().collect();
        Ok(())
    }

    fn in_stages(&mut self, bytes: u64, keeper: Box<dyn ProgressStore>) {
        self.stages.begin(keeper);
        let notes = self.stages.notes().filter(|_| self.remembers && self.connections > 1 && bytes >= STAGE);
        self.pool = notes.map(|notes| Pool::new(&self.access, self.connections, notes));
    }

    fn go_on(&mut self, reached: Reached) -> Result<(), DatabaseError> {
        let PostgresLoader { client: Some(client), stages, .. } = self else { return Ok(()) };
        wait_for_others(client)?;
        // A database that was made anew meanwhile, or lost rows, holds less than was committed: the load begins anew. The server knows a
        // transaction also when the database is gone that it was in.
        let names = "SELECT relname::text FROM pg_catalog.pg_class UNION SELECT proname::text FROM pg_catalog.pg_proc \
                     UNION SELECT typname::text FROM pg_catalog.pg_type UNION SELECT nspname::text FROM pg_catalog.pg_namespace";
        let names: BTreeSet<String> = rows(client, names, &[])?.into_iter().map(|r| r.get(0)).collect();
        let closing = reached.closing.as_ref().and_then(|stage| stage.transaction);
        let closed = closing.map(|number| was_committed(client, number)).transpose()?.flatten() == Some(true);
        let mut sound = if closed { &reached.begun } else { &reached.made }.is_subset(&names);
        for (table, sent) in &reached.whole {
            sound &= count_if_there(client, table)?.is_some_and(|there| there >= *sent);
        }
        let begun = reached.begun.clone();
        let reached = if sound { reached } else { Reached::default() };
        let there = stages.go_on(reached, |stage| {
            let told = stage.transaction.map(|number| was_committed(client, number)).transpose()?.flatten();
            match told {
                Some(committed) => Ok(committed && made_what_it_says(client, stage)?),
                None => {
                    committed_by_rows(stage, |table, sent| Ok(count_if_there(client, table)? == Some(sent)))
                }
            }
        })?;
        if self.loaded.goes_on(there) {
            return Ok(());
        }
        self.empty_of(&|thing| begun.contains(thing))
    }

    fn load(&mut self, reader: &mut dyn Read, plain: Option<Plain>) -> Result<(), DatabaseError> {
        let mut sink = LoadSink::new(self, plain);
        each_piece(reader, Dialect::Postgres, &mut |piece, at| sink.take(piece, at))
    }

    fn arrive(&mut self) -> Result<(), DatabaseError> {
        self.settle()
    }

    fn exchanges(&mut self) -> Result<bool, DatabaseError> {
        self.may_exchange()
    }

    fn beside(&mut self, names: &[AsideName]) -> Result<(), DatabaseError> {
        self.put_aside(names)
    }

    fn keeps(&mut self, tables: &BTreeSet<String>) -> Result<(), DatabaseError> {
        if let Some(aside) = &mut self.aside {
            aside.stays.clone_from(tables);
        }
        Ok(())
    }

    fn stay(&mut self, names: &[AsideName]) -> Result<(), DatabaseError> {
        self.leave_empty(&names.iter().map(|n| n.table.clone()).collect())
    }

    fn exchange(&mut self, _: &[AsideName]) -> Result<Duration, DatabaseError> {
        self.exchange_schemas()
    }

    /// It is part of the transaction that exchanges.
    fn mark_kept(&mut self, _names: &[AsideName]) -> Result<(), DatabaseError> {
        Ok(())
    }

    fn missing_aside(
        &mut self,
        names: &[AsideName],
        former: Option<&BTreeSet<String>>,
        ended: bool,
    ) -> Result<Vec<String>, DatabaseError> {
        self.missing_schema(names, former, ended)
    }

    fn exchange_back(&mut self, names: &[AsideName], former: &[FormerThing]) -> Result<(), DatabaseError> {
        self.exchange_schemas_back(names, former)
    }

    fn forget(&mut self, names: &[AsideName]) -> Result<(), DatabaseError> {
        self.forget_schemas(names)
    }

    fn finish(mut self: Box<Self>) -> Result<Loaded, DatabaseError> {
        self.arrive()?;
        // Where all tables stay nobody asks for an exchange.
        self.exchange_schemas()?;
        self.make_what_waited()?;
        for (table, sent) in self.loaded.rows.clone() {
            let there = count(self.client()?, &table)?;
            if there != sent {
                self.loaded.differing.push((table, sent, there));
            }
        }
        let rights = "SELECT CASE WHEN rolsuper THEN 'is a superuser of the server' WHEN rolcreaterole THEN 'may make accounts' \
                      WHEN rolcreatedb THEN 'may make databases' END FROM pg_catalog.pg_roles WHERE rolname = current_user";
        self.loaded.account = rows(self.client()?, rights, &[])?.first().and_then(|r| r.get(0));
        self.commit(true)?;
        Ok(self.loaded)
    }
}
