//! What of a dump reaches a PostgreSQL server, piece by piece: every statement is vetted, and sent in its place or put aside until the rows
//! are there; rows of large tables go over connections of their own.

use super::loader::{PostgresLoader, is_not_yet, is_there_already};
use super::pool::{BLOCK, Beside, Copying, Region, copy_beside, copy_in};
use super::{name, refused, run};
use crate::database::DatabaseError;
use crate::database::checkpoints::NextAction;
use crate::database::journal::Alone;
use crate::database::loading::{Plain, text_of};
use crate::database::waiting::{Later, refusal};
use crate::dump::literal::Quoting;
use crate::dump::row::{self, Value, ValueKind};
use crate::dump::statement::Class;
use crate::dump::stream::{At, Piece};
use crate::finding::{Code, Finding};
use crate::vet::postgres::{self as vet, Setting};
use crate::vet::{Phase, Verdict, Vetted};

/// Rows of a table whose indexes are worth a connection of their own.
const MANY: u64 = 10_000;

/// Takes the pieces of one dump or part of a dump.
pub(super) struct LoadSink<'l> {
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
    /// Whether a backslash escapes in plain strings on the server now.
    backslash: bool,
    /// The search path that the dump set last.
    path: Option<String>,
}

impl<'l> LoadSink<'l> {
    pub(super) fn new(loader: &'l mut PostgresLoader, plain: Option<Plain>) -> Self {
        LoadSink {
            loader,
            plain,
            at: 0,
            head: String::new(),
            block: Vec::new(),
            passed: 0,
            begins: None,
            ahead: false,
            copying: None,
            beside: None,
            backslash: false,
            path: None,
        }
    }

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
            if let Some(pool) = &mut self.loader.pool {
                self.copying = Some(pool.copy(alone, self.head.clone(), line)?);
            }
        }
        if self.copying.is_none() {
            self.loader.settle_for(table)?;
            self.loader.within()?;
            let Some(client) = self.loader.client.take() else {
                return Err(DatabaseError::Io(std::io::Error::other("the connection is in use")));
            };
            let (copying, beside) = copy_beside(client, self.head.clone(), line)?;
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
        let Some(pool) = &mut self.loader.pool else { return Ok(()) };
        pool.copy_region(alone, self.head.clone(), at.line, region)
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
        let mut alone = self.alone(&table);
        alone.index = index_of(text);
        let Some(pool) = &mut self.loader.pool else { return Ok(false) };
        pool.run(alone, text.into(), at.line, rows).map(|()| true)
    }

    /// Runs a setting, on every connection.
    fn set(&mut self, text: &str, line: u64) -> Result<(), DatabaseError> {
        self.loader.within()?.execute(text, &[]).map_err(|e| refused(e, line, text.as_bytes()))?;
        self.loader.pool.as_mut().map_or(Ok(()), |pool| pool.set(text))
    }

    /// Lets the server read strings as the dump is read here, or they would end elsewhere.
    fn read_as(&mut self, quoting: Quoting) -> Result<(), DatabaseError> {
        if self.backslash == quoting.backslash {
            return Ok(());
        }
        self.backslash = quoting.backslash;
        let state = if quoting.backslash { "off" } else { "on" };
        self.set(&format!("SET standard_conforming_strings = {state}"), 0)
    }

    fn run(&mut self, vetted: &Vetted, line: u64) -> Result<(), DatabaseError> {
        let text = vetted.text();
        self.loader.within()?.execute(text, &[]).map(drop).map_err(|e| refused(e, line, text.as_bytes()))
    }

    /// Vets a statement. One that is there already (`is_there`) is only taken note of.
    fn whole(&mut self, body: &[u8], at: At<'_>, is_there: bool) -> Result<(), DatabaseError> {
        let At { line, quoting, .. } = at;
        let text = text_of(body, line)?;
        self.read_as(quoting)?;
        let first = text.trim_ascii_start().get(..6).unwrap_or_default();
        if (at.statement.class == Class::Set || first.eq_ignore_ascii_case("select"))
            && let Some(setting) = vet::setting(text, quoting).map_err(refusal(line))?
        {
            let Setting::Send(vetted) = setting else { return Ok(()) };
            if vetted.text().to_ascii_lowercase().contains("search_path") {
                self.path = Some(vetted.text().to_string());
            }
            return self.set(vetted.text(), line);
        }
        let verdicts = vet::statement(text, quoting, &mut self.loader.made, line).map_err(refusal(line))?;
        let fresh = self.loader.made.fresh();
        // What lies aside is there with the commit that exchanges it, or not at all: nothing of it has to be taken away by its name, which
        // is that of what is there.
        if !is_there && self.loader.aside.is_none() {
            fresh.into_iter().try_for_each(|table| self.loader.stages.begins(table))?;
        }
        self.others_stay(at)?;
        for verdict in verdicts {
            match verdict {
                Verdict::Nothing => {}
                Verdict::Left(what) => {
                    let what = format!("{what} of the dump were left out");
                    if !self.loader.loaded.findings.iter().any(|w| w.what == what) {
                        let cure = "nothing: who may do what is decided by the account that loads";
                        self.loader.loaded.findings.push(Finding::new(
                            Code::RightsLeftOut,
                            what,
                            format!("line {line}"),
                            cure,
                        ));
                    }
                }
                Verdict::Later(phase, name, statement) => {
                    let settings = self.path.iter().cloned().collect();
                    self.loader
                        .later
                        .push(Later { phase, name, statement, line, quoting, settings }, false)?;
                }
                Verdict::Now(_) | Verdict::IfPossible(..) if is_there => {}
                Verdict::Now(vetted) => self.now(&vetted, at)?,
                Verdict::IfPossible(vetted, cure) => {
                    self.loader.settle()?;
                    self.if_possible(&vetted, line, cure)?;
                }
            }
        }
        Ok(())
    }

    /// Refuses a statement about a table of others.
    fn others_stay(&self, at: At<'_>) -> Result<(), DatabaseError> {
        let concerns = matches!(
            at.statement.class,
            Class::CreateTable
                | Class::AlterTable
                | Class::CreateIndex
                | Class::Insert
                | Class::Copy
                | Class::CreateTrigger
        );
        let table = at.statement.name.as_deref().unwrap_or_default();
        if !concerns || !self.loader.others.contains(table) {
            return Ok(());
        }
        let what = format!("{table} is in the database already and belongs to no part of this site");
        Err(DatabaseError::Forbidden { line: at.line, what })
    }

    /// Sends a statement in its place.
    fn now(&mut self, vetted: &Vetted, at: At<'_>) -> Result<(), DatabaseError> {
        let lower = vetted.text().to_ascii_lowercase();
        if self.leaves(vetted.text(), &lower, at)? {
            return Ok(());
        }
        if let Some(aside) = &mut self.loader.aside
            && at.statement.class == Class::AlterTable
            && aside.stays.iter().any(|table| lower.contains(&table.to_ascii_lowercase()))
        {
            // What it may lead to comes at the end.
            aside.waiting.push((at.line, vetted.text().into()));
            return Ok(());
        }
        // A new table that refers to no other needs nothing that is in hand.
        let looks_around = |word: &str| matches!(word, "as" | "references" | "inherits" | "partition");
        match at.statement.class {
            Class::CreateTable if !lower.split(|c: char| !c.is_alphanumeric()).any(looks_around) => {}
            _ => self.loader.settle()?,
        }
        let shares = !self.loader.others.is_empty()
            && !matches!(at.statement.class, Class::CreateTable | Class::AlterTable | Class::Insert);
        if at.statement.class != Class::CreateRoutine && !shares {
            return self.run(vetted, at.line);
        }
        // One that needs what is not there yet waits for it.
        run(self.loader.within()?, "SAVEPOINT tried")?;
        match self.run(vetted, at.line) {
            // Types, functions and schemas that are there already may be others' as well.
            Err(e) if shares && is_there_already(&e) => {
                let text = format!(
                    "{} was there already and was left as it is",
                    crate::database::beginning(vetted.text().as_bytes())
                );
                let cure = "compare it with the source's, if both sites use it";
                self.loader.loaded.findings.push(Finding::new(
                    Code::ObjectExisted,
                    text,
                    format!("line {}", at.line),
                    cure,
                ));
                run(self.loader.within()?, "ROLLBACK TO tried")
            }
            Err(e) if is_not_yet(&e) => {
                run(self.loader.within()?, "ROLLBACK TO tried")?;
                let settings = self.path.iter().cloned().collect();
                let (name, statement) = (String::new(), vetted.clone());
                let (line, quoting) = (at.line, at.quoting);
                self.loader
                    .later
                    .push(Later { phase: Phase::View, name, statement, line, quoting, settings }, false)
            }
            Ok(()) => run(self.loader.within()?, "RELEASE tried"),
            other => other,
        }
    }

    /// What this server or this account cannot have is said and passed over.
    fn if_possible(&mut self, vetted: &Vetted, line: u64, cure: &str) -> Result<(), DatabaseError> {
        run(self.loader.within()?, "SAVEPOINT tried")?;
        if let Err(e) = self.run(vetted, line) {
            run(self.loader.within()?, "ROLLBACK TO tried")?;
            let what = format!("{} was refused: {}", vetted.text().trim(), crate::database::describe(&e));
            self.loader.loaded.findings.push(Finding::new(
                Code::ObjectRefused,
                what,
                format!("line {line}"),
                cure,
            ));
        }
        Ok(())
    }

    /// Refuses lines that speak to the client, but for those that the server's own dump program writes around a dump.
    fn client_commands(&mut self, text: &[u8], line: u64) -> Result<(), DatabaseError> {
        for (at, bytes) in text.split(|b| *b == b'\n').enumerate() {
            let Some(command) = bytes.trim_ascii().strip_prefix(b"\\") else { continue };
            let command = String::from_utf8_lossy(command);
            let (word, rest) = command.split_once(' ').unwrap_or((&command, ""));
            let line = line + at as u64;
            match word {
                "restrict" | "unrestrict" | "." => {}
                "connect" | "c" => {
                    // The dump's own database, which is not the one that is filled.
                    let name = rest.trim().trim_start_matches("-reuse-previous=on").trim().trim_matches('"');
                    let name = name.strip_prefix("dbname=").unwrap_or(name).trim_matches('\'');
                    self.loader.made.database(name).map_err(refusal(line))?;
                }
                _ => {
                    let what = format!("\\{word} is a command for a client, no statement");
                    return Err(DatabaseError::Forbidden { line, what });
                }
            }
        }
        Ok(())
    }

    pub(super) fn take(&mut self, piece: Piece<'_>, at: At<'_>) -> Result<(), DatabaseError> {
        let len = piece.bytes().len() as u64;
        let taken = self.take_at(piece, at);
        self.at += len;
        taken
    }

    fn take_at(&mut self, piece: Piece<'_>, at: At<'_>) -> Result<(), DatabaseError> {
        let line = at.line;
        match self.loader.stages.turn(&piece, at) {
            NextAction::Skip => {
                // Settings are the session's, not the database's; and what is made behind the rows is not there yet.
                let Piece::Whole { bytes, delimiter, .. } = piece else { return Ok(()) };
                return self.whole(&bytes[..bytes.len() - delimiter], at, true);
            }
            NextAction::Take => {}
            NextAction::CommitFirst => self.loader.commit(false)?,
        }
        match piece {
            Piece::CutOff(_) => Ok(()),
            Piece::Between(_) if at.statement.class == Class::Copy => Ok(()),
            Piece::Gap(text) => self.client_commands(text, at.first_line),
            Piece::Whole { bytes, delimiter, .. } => self.whole(&bytes[..bytes.len() - delimiter], at, false),
            Piece::InsertHead(head) => {
                self.begins = None;
                self.others_stay(at)?;
                self.read_as(Quoting { copy: false, ..at.quoting })?;
                let text = text_of(head, line)?.trim().trim_end_matches(';');
                let quoting = Quoting { copy: false, ..at.quoting };
                if at.statement.class == Class::Copy {
                    self.head = vet::copy_head(text, quoting).map_err(refusal(line))?.text().to_string();
                } else {
                    vet::insert_head(text, quoting).map_err(refusal(line))?;
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
                let tail = &bytes[..bytes.len() - delimiter];
                vet::tail(text_of(tail, line)?, at.quoting).map_err(refusal(line))?;
                self.block.extend_from_slice(tail);
                let statement = std::mem::take(&mut self.block);
                let text = text_of(&statement, line)?;
                let table = full_name(at);
                self.loader.settle_for(&table)?;
                self.loader.stages.filled(&table, statement.len());
                self.loader.within()?.execute(text, &[]).map(drop).map_err(|e| refused(e, line, &statement))
            }
        }
    }
}

/// Refuses a row that calls what is on no list, or asks questions.
fn plain_values(row: &[u8], at: At<'_>, values: &mut Vec<Value>) -> Result<(), DatabaseError> {
    row::cut(row, at.quoting, values);
    for value in values.iter().filter(|v| v.kind == ValueKind::Expression) {
        vet::value(text_of(&row[value.span.clone()], at.line)?, at.quoting).map_err(refusal(at.line))?;
    }
    Ok(())
}

/// The name of the index that a statement makes, also for a key; nothing where the server chooses it.
fn index_of(statement: &str) -> Option<String> {
    let lower = statement.to_ascii_lowercase();
    let word = [" constraint ", " index "].into_iter().find_map(|w| lower.find(w).map(|at| at + w.len()))?;
    let mut rest = statement.get(word..)?.trim_start();
    for before in ["concurrently ", "if not exists "] {
        if lower.get(lower.len() - rest.len()..)?.starts_with(before) {
            rest = rest.get(before.len()..)?.trim_start();
        }
    }
    match rest.strip_prefix('"') {
        // A name with quotes in it is left to the server's word alone.
        Some(quoted) => {
            quoted.split_once('"').filter(|(_, behind)| !behind.starts_with('"')).map(|(n, _)| n.into())
        }
        None => rest
            .split_whitespace()
            .next()
            .filter(|n| !n.eq_ignore_ascii_case("on"))
            .map(str::to_ascii_lowercase),
    }
}

/// The table of a statement in full, quoted.
fn full_name(at: At<'_>) -> String {
    let table = name(at.statement.name.as_deref().unwrap_or_default());
    match &at.statement.qualifier {
        Some(schema) => format!("{}.{table}", name(schema)),
        None => table,
    }
}

#[cfg(test)]
mod tests {
    use super::index_of;

    #[test]
    fn the_index_that_a_statement_makes_is_known_by_its_name() {
        for (statement, index) in [
            ("CREATE INDEX i1 ON public.t1 USING btree (id)", Some("i1")),
            ("CREATE UNIQUE INDEX IF NOT EXISTS \"Odd name\" ON t (x)", Some("Odd name")),
            ("ALTER TABLE ONLY public.t1\n    ADD CONSTRAINT T1_pkey PRIMARY KEY (id)", Some("t1_pkey")),
            ("CREATE INDEX ON t (x)", None),
            ("CREATE INDEX \"a\"\"b\" ON t (x)", None),
        ] {
            assert_eq!(index_of(statement).as_deref(), index, "{statement}");
        }
    }
}
