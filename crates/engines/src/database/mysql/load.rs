//! The loader of MySQL and MariaDB: its connections, and how far they are.
//!
//! Rows are sent in batches of our own size over several connections, whatever the dump's inserts looked like: single-row inserts
//! become large ones, huge ones are cut to the server's packet limit. Everything else goes over one connection, in its order.

use super::aside::Beside;
use super::compatibility::Compatibility;
pub use super::loader::MysqlLoader;
use super::loader::SESSION;
use super::sink::LoadSink;
use super::{empty, name, rows, run, tables, thing, things, wait_for_orphaned_statements};
use crate::database::DatabaseError;
use crate::database::journal::{FormerThing, ProgressStore, Reached};
use crate::database::loading::{AsideName, Loaded, Loading, Plain, Substitution, each_piece};
use crate::dump::dialect::Dialect;
use crate::finding::{Code, Finding};
use std::collections::{BTreeMap, BTreeSet};
use std::io::Read;
use std::time::Duration;

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
        substitute: &[Substitution],
        keeper: Box<dyn ProgressStore>,
    ) -> Result<(), DatabaseError> {
        self.connections = connections;
        self.keeper = keeper;
        self.compatibility = Compatibility::of(&mut self.conn, substitute)?;
        Ok(())
    }

    fn go_on(&mut self, Reached { whole, begun, .. }: Reached) -> Result<(), DatabaseError> {
        wait_for_orphaned_statements(&mut self.conn)?;
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
        // What somebody else made meanwhile stays, and the dump may not touch it.
        empty(&mut self.conn, &|thing| begun.contains(thing) && !whole.contains_key(thing))?;
        self.own.others = tables(&mut self.conn)?.into_iter().filter(|t| !whole.contains_key(t)).collect();
        self.loaded.rows.clone_from(&whole);
        self.loaded.went_on = whole.len() as u64;
        self.whole = whole;
        Ok(())
    }

    fn make_room(&mut self, goes: &BTreeSet<String>) -> Result<(), DatabaseError> {
        self.empty_of(&|table| goes.contains(table))?;
        self.own.others = tables(&mut self.conn)?.into_iter().collect();
        // Triggers that are left belong to tables that stay; whose routines and events are is not known where something went.
        self.spared = things(&mut self.conn)?
            .into_iter()
            .filter(|(kind, _)| *kind == "TRIGGER" || (goes.is_empty() && *kind != "VIEW"))
            .map(|(kind, named)| thing(kind, &named))
            .collect();
        self.shares = true;
        Ok(())
    }

    fn keeps(&mut self, kept: &BTreeSet<String>) -> Result<(), DatabaseError> {
        self.own.others.retain(|table| !kept.contains(table));
        let sql = "SELECT TRIGGER_NAME, EVENT_OBJECT_TABLE FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = DATABASE()";
        for (trigger, table) in rows::<(String, String)>(&mut self.conn, sql)? {
            if kept.contains(&table) {
                self.spared.remove(&thing("TRIGGER", &trigger));
            }
        }
        Ok(())
    }

    fn exchanges(&mut self) -> Result<bool, DatabaseError> {
        self.may_exchange()
    }

    fn beside(&mut self, names: &[AsideName]) -> Result<(), DatabaseError> {
        let comes = |table: &String| names.iter().any(|n| n.table == *table);
        self.own.others = tables(&mut self.conn)?.into_iter().filter(|t| !comes(t)).collect();
        self.beside = Beside::of(names);
        self.shares = true;
        Ok(())
    }

    fn count(&mut self) -> Result<(), DatabaseError> {
        self.count_rows()
    }

    fn exchange(&mut self, names: &[AsideName]) -> Result<Duration, DatabaseError> {
        self.exchange_tables(names)
    }

    fn mark_kept(&mut self, names: &[AsideName]) -> Result<(), DatabaseError> {
        super::mark::renew(&mut self.conn, names)
    }

    fn missing_aside(
        &mut self,
        names: &[AsideName],
        former: Option<&BTreeSet<String>>,
        ended: bool,
    ) -> Result<Vec<String>, DatabaseError> {
        self.missing_tables(names, former, ended)
    }

    fn exchange_back(&mut self, names: &[AsideName], former: &[FormerThing]) -> Result<(), DatabaseError> {
        self.exchange_tables_back(names, former)
    }

    fn comes_from(&mut self, databases: &[String]) {
        self.own.databases.extend(databases.iter().filter(|d| !d.is_empty()).cloned());
    }

    fn put_events_on(&mut self) {
        self.events_on = true;
    }

    fn trust_source(&mut self) -> Result<(), DatabaseError> {
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
        let mut sink = LoadSink::new(self);
        each_piece(reader, Dialect::Mysql, &mut |piece, at| sink.take(piece, at))?;
        sink.flush()?;
        // The last batches may arrive while the next part is read.
        self.enter(None)
    }

    fn arrive(&mut self) -> Result<(), DatabaseError> {
        self.settle()
    }

    fn finish(mut self: Box<Self>) -> Result<Loaded, DatabaseError> {
        match self.beside.is_nothing() {
            true => {
                self.count_rows()?;
                self.make_what_waited()?;
            }
            false => self.beside.own_names(&mut self.loaded),
        }
        let grants: Vec<String> = rows(&mut self.conn, "SHOW GRANTS").unwrap_or_default();
        let wide = grants.iter().any(|g| g.contains(" ON *.* ") && !g.starts_with("GRANT USAGE "));
        self.loaded.account = wide.then(|| "may do things in every database of the server".into());
        self.loaded.substituted = self.compatibility.done();
        Ok(self.loaded)
    }
}

impl MysqlLoader {
    /// Waits for the rows, and compares their number with what was sent.
    fn count_rows(&mut self) -> Result<(), DatabaseError> {
        self.arrive()?;
        if let Some(workers) = self.workers.take() {
            for (table, (count, first)) in workers.take_changed() {
                let what = format!("the server changed {count} values of its own accord: {first}");
                self.loaded.findings.push(Finding::new(
                    Code::ValuesChangedByServer,
                    what,
                    table,
                    "compare these rows with the source",
                ));
            }
        }
        for (table, sent) in self.loaded.rows.clone() {
            let there: Vec<u64> = rows(&mut self.conn, &format!("SELECT COUNT(*) FROM {}", name(&table)))?;
            if there != [sent] {
                let there = there.first().copied().unwrap_or_default();
                self.loaded.differing.push((table, sent, there));
            }
        }
        self.compare_checksums()
    }
}
