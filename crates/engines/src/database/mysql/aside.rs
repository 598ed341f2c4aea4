//! Tables that are loaded beside those that are there, and take their places in one statement.
//!
//! Names of foreign keys, triggers and so on are unique in a database. A key that the server named itself follows its table's name; any
//! other has a name for the time being, and gets its own when the tables lie where they belong. What is made of bodies comes then, too.

use super::later::kind_and_name;
use super::loader::MysqlLoader;
use super::{code, name, quoted, refused, rows, run};
use crate::database::DatabaseError;
use crate::database::journal::{FormerThing, Mark};
use crate::database::loading::{AsideName, Loaded};
use crate::dump::dialect::Dialect;
use crate::dump::prefix::{Named, renamed};
use ::mysql::Conn;
use ::mysql::prelude::Queryable;
use std::collections::{BTreeMap, BTreeSet};
use std::time::{Duration, Instant};

/// How a foreign key is called among things.
const KEY: &str = "KEY";

/// Errors of statements that waited too long for somebody else: worth another try.
const BUSY: [u16; 2] = [1205, 1213];

/// How often an exchange is tried while somebody holds a table, and how many seconds each try waits.
const TRIES: usize = 14;
const WAIT: u64 = 5;

/// The names under which a dump is loaded.
#[derive(Debug, Default)]
pub(super) struct Beside {
    new: BTreeMap<String, String>,
    /// Names of keys for the time being, with their own.
    keys: BTreeMap<String, String>,
}

impl Beside {
    pub(super) fn of(names: &[AsideName]) -> Self {
        let new = names.iter().map(|n| (n.table.clone(), n.new.clone())).collect();
        Beside { new, keys: BTreeMap::new() }
    }

    /// Says whether nothing is loaded beside.
    pub(super) fn is_nothing(&self) -> bool {
        self.new.is_empty()
    }

    /// Lets what is told of tables tell their own names.
    pub(super) fn own_names(&self, loaded: &mut Loaded) {
        let own: BTreeMap<&String, &String> = self.new.iter().map(|(own, new)| (new, own)).collect();
        let name = |table: String| own.get(&table).map_or(table, |own| (*own).clone());
        loaded.rows = std::mem::take(&mut loaded.rows).into_iter().map(|(t, n)| (name(t), n)).collect();
        for (table, ..) in &mut loaded.differing {
            *table = name(std::mem::take(table));
        }
    }

    /// A statement about tables with the names of the time being.
    pub(super) fn renamed(&mut self, statement: &str) -> String {
        let Beside { new, keys } = self;
        renamed(statement, Dialect::Mysql, &mut |name, named| match named {
            Named::Table | Named::Parent => new.get(name).cloned(),
            Named::Constraint => {
                // The server names a key by its table, and renames it with it.
                let own = name.rsplit_once("_ibfk_").and_then(|(table, n)| Some((new.get(table)?, n)));
                if let Some((table, number)) = own {
                    return Some(format!("{table}_ibfk_{number}"));
                }
                let first = new.values().next()?;
                let stem = first.rsplit_once('n').map_or(first.as_str(), |(stem, _)| stem);
                let other = format!("{stem}k{}", keys.len());
                keys.insert(other.clone(), name.to_string());
                Some(other)
            }
        })
    }
}

/// A foreign key.
struct Key {
    table: String,
    name: String,
    parent: String,
}

impl Key {
    /// The statement that makes it, with another name and another parent, for a table that may be called otherwise then.
    fn made_as(
        &self,
        conn: &mut Conn,
        table: &str,
        other: &str,
        parent: &str,
    ) -> Result<Option<String>, DatabaseError> {
        let made: Vec<(String, String)> = rows(conn, &format!("SHOW CREATE TABLE {}", name(&self.table)))?;
        let begins = format!("CONSTRAINT {} FOREIGN KEY ", name(&self.name));
        let mut lines = made.iter().flat_map(|(_, sql)| sql.lines()).map(|l| l.trim().trim_end_matches(','));
        let Some(line) = lines.find(|l| l.starts_with(&begins)) else { return Ok(None) };
        let line = renamed(line, Dialect::Mysql, &mut |_, named| match named {
            Named::Constraint => Some(other.to_string()),
            Named::Parent => Some(parent.to_string()),
            Named::Table => None,
        });
        Ok(Some(format!("ALTER TABLE {} ADD {line}", name(table))))
    }

    fn dropped(&self) -> String {
        format!("ALTER TABLE {} DROP FOREIGN KEY {}", name(&self.table), name(&self.name))
    }
}

fn keys(conn: &mut Conn) -> Result<Vec<Key>, DatabaseError> {
    let sql = "SELECT TABLE_NAME, CONSTRAINT_NAME, REFERENCED_TABLE_NAME FROM information_schema.REFERENTIAL_CONSTRAINTS \
               WHERE CONSTRAINT_SCHEMA = DATABASE() AND UNIQUE_CONSTRAINT_SCHEMA = DATABASE() ORDER BY 1, 2";
    let found: Vec<(String, String, String)> = rows(conn, sql)?;
    Ok(found.into_iter().map(|(table, name, parent)| Key { table, name, parent }).collect())
}

/// The statement without the account in whose name a thing works.
fn without_definer(sql: &str) -> String {
    let Some((before, behind)) = sql.split_once("DEFINER=") else { return sql.to_string() };
    let mut quoted = false;
    let end = behind.find(|c: char| {
        quoted ^= c == '`';
        c == ' ' && !quoted
    });
    format!("{before}{}", behind[end.unwrap_or(0)..].trim_start())
}

/// The tables that are no views.
fn base_tables(conn: &mut Conn) -> Result<BTreeSet<String>, DatabaseError> {
    let sql = "SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_TYPE = 'BASE TABLE'";
    Ok(rows(conn, sql)?.into_iter().collect())
}

/// Sends a statement that needs tables for itself, and waits its turn.
pub(super) fn patiently(conn: &mut Conn, sql: &str) -> Result<Duration, DatabaseError> {
    run(conn, &format!("SET SESSION lock_wait_timeout={WAIT}"))?;
    let mut tries = 0;
    loop {
        let began = Instant::now();
        match conn.query_drop(sql).map_err(|e| refused(e, 0, sql.as_bytes())) {
            Err(e) if code(&e).is_some_and(|c| BUSY.contains(&c)) && tries < TRIES => tries += 1,
            Err(e) => return Err(e),
            Ok(()) => return Ok(began.elapsed()),
        }
    }
}

/// The statement by which tables take each other's names, as far as they have not; none if nothing is left to be done.
fn renames(there: &BTreeSet<String>, ways: impl Iterator<Item = [String; 3]>) -> Option<String> {
    let mut parts = Vec::new();
    for [place, comes, goes] in ways {
        if there.contains(&comes) {
            if there.contains(&place) {
                parts.push(format!("{} TO {}", name(&place), name(&goes)));
            }
            parts.push(format!("{} TO {}", name(&comes), name(&place)));
        }
    }
    (!parts.is_empty()).then(|| format!("RENAME TABLE {}", parts.join(", ")))
}

impl MysqlLoader {
    /// Says whether the account may do what an exchange needs, as far as its rights tell.
    pub(super) fn may_exchange(&mut self) -> Result<bool, DatabaseError> {
        let grants: Vec<String> = rows(&mut self.conn, "SHOW GRANTS").unwrap_or_default();
        let own = self.access.name.replace(['_', '%'], "");
        let mut here = grants.iter().filter_map(|grant| {
            let (rights, rest) = grant.strip_prefix("GRANT ")?.split_once(" ON ")?;
            let (place, _) = rest.split_once(" TO ")?;
            let place = place.strip_suffix(".*")?.trim_matches('`').replace(['_', '%', '\\'], "");
            (place == "*" || place == own).then_some(rights)
        });
        let needed = ["CREATE", "ALTER", "DROP", "INSERT"];
        let enough = |rights: &str| {
            let has = |right: &&str| rights.split(", ").any(|r| r == *right);
            rights.starts_with("ALL PRIVILEGES") || needed.iter().all(has)
        };
        let mut some = false;
        let all = here.any(|rights| {
            some |= rights != "USAGE";
            enough(rights)
        });
        // What comes by a role does not stand here.
        Ok(all || !some)
    }

    /// Lets what was loaded beside take its place.
    pub(super) fn exchange_tables(&mut self, names: &[AsideName]) -> Result<Duration, DatabaseError> {
        self.note_former_things()?;
        let there = base_tables(&mut self.conn)?;
        let ways = names.iter().map(|n| [n.table.clone(), n.new.clone(), n.old.clone()]);
        let took = match renames(&there, ways) {
            Some(sql) => patiently(&mut self.conn, &sql)?,
            None => Duration::ZERO,
        };
        self.make_what_waited()?;
        self.right_keys(names)?;
        Ok(took)
    }

    /// Tables that were there before the exchange and do not lie aside any more. One whose new table has not taken its place, or has left
    /// it, lies where it should.
    pub(super) fn missing_tables(
        &mut self,
        names: &[AsideName],
        former: Option<&BTreeSet<String>>,
        _ended: bool,
    ) -> Result<Vec<String>, DatabaseError> {
        let there = base_tables(&mut self.conn)?;
        let exchanged: Vec<&AsideName> = names.iter().filter(|n| !there.contains(&n.new)).collect();
        let gone = exchanged.iter().filter(|n| !there.contains(&n.old));
        let gone: Vec<&AsideName> = match former {
            Some(former) => gone.filter(|n| former.contains(&n.table)).copied().collect(),
            // An older record does not tell which were there. That there was not one is not believed.
            None if exchanged.iter().any(|n| there.contains(&n.old)) => Vec::new(),
            None => gone.copied().collect(),
        };
        Ok(gone.iter().map(|n| n.old.clone()).collect())
    }

    /// Lets what was there take its place again.
    pub(super) fn exchange_tables_back(
        &mut self,
        names: &[AsideName],
        former: &[FormerThing],
    ) -> Result<(), DatabaseError> {
        run(&mut self.conn, "SET SESSION FOREIGN_KEY_CHECKS=0")?;
        let there = base_tables(&mut self.conn)?;
        // A table that was not there before goes aside all the same.
        let new: Vec<&AsideName> = names.iter().filter(|n| !there.contains(&n.new)).collect();
        let mut sql = Vec::new();
        for n in new {
            if there.contains(&n.table) {
                sql.push(format!("{} TO {}", name(&n.table), name(&n.new)));
            }
            if there.contains(&n.old) {
                sql.push(format!("{} TO {}", name(&n.old), name(&n.table)));
            }
        }
        if !sql.is_empty() {
            patiently(&mut self.conn, &format!("RENAME TABLE {}", sql.join(", ")))?;
        }
        for thing in former.iter().rev().filter(|f| f.kind != KEY) {
            run(&mut self.conn, &format!("DROP {} IF EXISTS {}", thing.kind, name(&thing.name)))?;
            if !thing.sql.is_empty() {
                run(&mut self.conn, &format!("SET SESSION SQL_MODE={}", quoted(&thing.mode)))?;
                match run(&mut self.conn, &thing.sql) {
                    // Only an account with more rights makes things in the name of somebody else.
                    Err(e) if code(&e) == Some(1227) => run(&mut self.conn, &without_definer(&thing.sql))?,
                    other => other?,
                }
            }
        }
        run(&mut self.conn, "SET SESSION SQL_MODE='NO_AUTO_VALUE_ON_ZERO'")?;
        let own: BTreeSet<String> = former.iter().filter(|f| f.kind == KEY).map(|f| f.name.clone()).collect();
        self.free_keys(names, &own, |n| &n.new)?;
        for key in former.iter().filter(|f| f.kind == KEY) {
            let found = keys(&mut self.conn)?;
            let is = |k: &&Key, name: &str| k.table == key.table && k.name == name;
            if let Some(meantime) = found.iter().find(|k| is(k, &key.meantime) && key.meantime != key.name) {
                patiently(&mut self.conn, &meantime.dropped())?;
            }
            // Somebody may have been stopped before it was there again.
            if !found.iter().any(|k| is(&k, &key.name)) {
                patiently(&mut self.conn, &key.sql)?;
            }
        }
        self.lead_home(names)
    }

    /// Lets tables that lie aside give up names of keys that others need.
    fn free_keys(
        &mut self,
        names: &[AsideName],
        needed: &BTreeSet<String>,
        away: impl Fn(&AsideName) -> &String,
    ) -> Result<(), DatabaseError> {
        run(&mut self.conn, "SET SESSION FOREIGN_KEY_CHECKS=0")?;
        let places: BTreeMap<&str, &str> =
            names.iter().map(|n| (away(n).as_str(), n.table.as_str())).collect();
        for (number, key) in keys(&mut self.conn)?.iter().enumerate() {
            let Some(table) = places.get(&*key.table).filter(|_| needed.contains(&key.name)) else {
                continue;
            };
            let meantime = format!("{}_k{number}", key.table);
            let parent = places.get(&*key.parent).copied().unwrap_or(&key.parent);
            let again = key.made_as(&mut self.conn, table, &key.name, parent)?.unwrap_or_default();
            let other = key.made_as(&mut self.conn, &key.table, &meantime, &key.parent)?;
            self.note_key(table, &key.name, again, &meantime)?;
            patiently(&mut self.conn, &key.dropped())?;
            other.map_or(Ok(()), |sql| patiently(&mut self.conn, &sql).map(drop))?;
        }
        Ok(())
    }

    /// Lets keys of tables at their places lead to tables at their places.
    fn lead_home(&mut self, names: &[AsideName]) -> Result<(), DatabaseError> {
        let aside: BTreeMap<&str, &str> =
            names.iter().flat_map(|n| [(&*n.new, &*n.table), (&*n.old, &*n.table)]).collect();
        for key in keys(&mut self.conn)?.iter().filter(|k| !aside.contains_key(&*k.table)) {
            let Some(parent) = aside.get(&*key.parent) else { continue };
            let Some(again) = key.made_as(&mut self.conn, &key.table, &key.name, parent)? else { continue };
            self.note_key(&key.table, &key.name, again.clone(), &key.name)?;
            patiently(&mut self.conn, &key.dropped())?;
            patiently(&mut self.conn, &again)?;
        }
        Ok(())
    }

    /// Gives keys of tables that came their own names.
    fn right_keys(&mut self, names: &[AsideName]) -> Result<(), DatabaseError> {
        let wanted = std::mem::take(&mut self.beside.keys);
        let needed = wanted.values().cloned().collect();
        self.free_keys(names, &needed, |n| &n.old)?;
        for key in keys(&mut self.conn)? {
            let Some(own) = wanted.get(&key.name) else { continue };
            let again = key.made_as(&mut self.conn, &key.table, own, &key.parent)?;
            patiently(&mut self.conn, &key.dropped())?;
            again.map_or(Ok(()), |sql| patiently(&mut self.conn, &sql).map(drop))?;
        }
        self.lead_home(names)
    }

    fn note_key(&mut self, table: &str, key: &str, sql: String, meantime: &str) -> Result<(), DatabaseError> {
        self.keeper.mark(Mark::Replaced(FormerThing {
            kind: KEY.into(),
            name: key.into(),
            sql,
            table: table.into(),
            meantime: meantime.into(),
            ..FormerThing::default()
        }))
    }

    /// Notes what things were like that make room for others of their names.
    fn note_former_things(&mut self) -> Result<(), DatabaseError> {
        let things: Vec<(&str, String)> = self.later.all().iter().map(kind_and_name).collect();
        things.iter().try_for_each(|(kind, thing)| self.note_former(kind, thing))
    }

    fn note_former(&mut self, kind: &str, thing: &str) -> Result<(), DatabaseError> {
        let found = self.conn.query_first::<::mysql::Row, _>(format!("SHOW CREATE {kind} {}", name(thing)));
        let mut former = FormerThing { kind: kind.into(), name: thing.into(), ..FormerThing::default() };
        if let Ok(Some(row)) = found {
            let text = |wanted: &str| {
                let at = row.columns_ref().iter().position(|c| c.name_str().eq_ignore_ascii_case(wanted))?;
                row.get_opt::<String, _>(at)?.ok()
            };
            let sql = [
                "Create View",
                "SQL Original Statement",
                "Create Procedure",
                "Create Function",
                "Create Event",
            ];
            former.sql = sql.iter().find_map(|s| text(s)).unwrap_or_default();
            former.mode = text("sql_mode").unwrap_or_default();
        }
        self.keeper.mark(Mark::Replaced(former))
    }
}
