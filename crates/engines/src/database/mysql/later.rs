//! Makes what waited for the rows: routines, views, triggers, and events, these at rest.

use super::loader::{MysqlLoader, SESSION};
use super::{code, name, refused, run, thing};
use crate::database::DatabaseError;
use crate::database::journal::Mark;
use crate::database::waiting::{Later, in_any_order, refusal};
use crate::finding::{Code, Finding};
use crate::vet::mysql as vet;
use crate::vet::{Phase, Vetted};
use ::mysql::prelude::Queryable;
use ::mysql::{Conn, Error};
use std::collections::BTreeSet;

/// What a statement that waits makes: a word of the server for it, and its name.
pub(super) fn kind_and_name(later: &Later) -> (&'static str, String) {
    let kind = match later.phase {
        Phase::View => "VIEW",
        Phase::Event => "EVENT",
        Phase::Trigger => "TRIGGER",
        _ => vet::routine_kind(&later.statement, later.quoting),
    };
    (kind, later.name.clone())
}

/// Errors that another statement may cure: what is named is not there yet.
const NOT_YET: [u16; 5] = [1146, 1305, 1356, 1054, 1049];

impl MysqlLoader {
    /// Makes what waited, now that all rows are there.
    pub(super) fn make_what_waited(&mut self) -> Result<(), DatabaseError> {
        let waiting = self.later.take();
        let routines = waiting.iter().filter(|l| l.phase == Phase::Routine);
        let made: BTreeSet<String> = routines.map(|l| l.name.to_lowercase()).collect();
        for later in &waiting {
            later.statement.resolved(&made).map_err(refusal(later.line))?;
            if vet::is_dynamic(&later.statement, later.quoting) {
                let what = format!(
                    "{} puts statements together while it runs, and nobody can look into these",
                    later.name
                );
                let cure = "read it before the site uses it: it may name another database";
                self.loaded.findings.push(Finding::new(
                    Code::DynamicSql,
                    what,
                    format!("line {}", later.line),
                    cure,
                ));
            }
        }
        let mut events = Vec::new();
        let not_yet = |e: &DatabaseError| code(e).is_some_and(|c| NOT_YET.contains(&c));
        in_any_order(waiting, |later| self.make(later, &mut events), not_yet)?;
        self.switch_events(&events)
    }

    fn make(&mut self, later: &Later, events: &mut Vec<String>) -> Result<(), DatabaseError> {
        let statement = if later.phase == Phase::Event {
            let (resting, was_on) = vet::resting(&later.statement, later.quoting);
            events.extend(was_on.then(|| later.name.clone()));
            resting
        } else {
            later.statement.clone()
        };
        let (kind, named) = kind_and_name(later);
        let noted = if kind == "VIEW" { named.clone() } else { thing(kind, &named) };
        if self.spared.contains(&noted) {
            let what = format!("{noted} was there and was left as it is: it belongs to other tables");
            let cure = "look whether the copy needs one of its own, under another name";
            self.loaded.findings.push(Finding::new(Code::ObjectExisted, what, "", cure));
            return Ok(());
        }
        if self.shares {
            // What the dump makes anew makes room for it.
            run(&mut self.conn, &format!("DROP {kind} IF EXISTS {}", name(&named)))?;
        }
        self.keeper.mark(Mark::Begun { table: noted })?;
        later.settings.iter().try_for_each(|sql| run(&mut self.conn, sql))?;
        let made = send_alone(&mut self.conn, &statement, later.line);
        // The next one begins as the session began.
        SESSION.iter().take(2).try_for_each(|sql| run(&mut self.conn, sql))?;
        run(&mut self.conn, "SET SESSION time_zone=DEFAULT")?;
        made
    }

    /// Events were made at rest: a copy should not begin to work by itself.
    fn switch_events(&mut self, events: &[String]) -> Result<(), DatabaseError> {
        if events.is_empty() {
            return Ok(());
        }
        if self.events_on {
            for event in events {
                run(&mut self.conn, &format!("ALTER EVENT {} ENABLE", name(event)))?;
            }
            return Ok(());
        }
        let what = format!("events were loaded at rest: {}", events.join(", "));
        self.loaded.findings.push(Finding::new(
            Code::EventsAtRest,
            what,
            "",
            "`--events on` puts them on; or ALTER EVENT … ENABLE later",
        ));
        Ok(())
    }
}

/// The server's error for a statement that cannot be prepared.
const NOT_PREPARABLE: u16 = 1295;

/// Sends a statement with a body of statements. It is prepared first, because a prepared statement is never more than one; one that the
/// server cannot prepare was read as one block by the guard.
fn send_alone(conn: &mut Conn, statement: &Vetted, line: u64) -> Result<(), DatabaseError> {
    let text = statement.text();
    match conn.prep(text) {
        Ok(prepared) => conn.exec_drop(prepared, ()).map_err(|e| refused(e, line, text.as_bytes())),
        Err(Error::MySqlError(e)) if e.code == NOT_PREPARABLE => {
            conn.query_drop(text).map_err(|e| refused(e, line, text.as_bytes()))
        }
        Err(e) => Err(refused(e, line, text.as_bytes())),
    }
}
