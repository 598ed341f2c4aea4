//! What of a dump reaches a MySQL or MariaDB server, piece by piece: every statement is resolved for this server, vetted, and sent in its
//! place or put aside until the rows are there.

use super::batch::{Batch, InsertMode};
use super::loader::MysqlLoader;
use super::{code, refused, run};
use crate::database::DatabaseError;
use crate::database::dump::Checksum;
use crate::database::journal::Mark;
use crate::database::loading::text_of;
use crate::database::waiting::{Later, refusal};
use crate::dump::lex::{Token, tokens};
use crate::dump::literal::{self, Quoting};
use crate::dump::row::{self, Value, ValueKind};
use crate::dump::rows::Rows;
use crate::dump::sequence::{self, Work};
use crate::dump::statement::{Class, Statement};
use crate::dump::stream::{At, Piece};
use crate::finding::{Code, Finding};
use crate::vet::hints::{self, Open};
use crate::vet::mysql::{self as vet, Plain, Setting, Variables};
use crate::vet::{Verdict, Vetted};
use ::mysql::prelude::Queryable;
use std::collections::BTreeMap;
use std::ops::Range;
use std::sync::Arc;

/// Batch size in bytes, if the server's packet limit allows it.
const BATCH: usize = 1 << 20;

/// The mode under which everything but bodies is loaded.
const MODE: &str = "NO_AUTO_VALUE_ON_ZERO";

/// Takes the pieces of one dump or part of a dump.
pub(super) struct LoadSink<'l> {
    loader: &'l mut MysqlLoader,
    /// Charset that the dump says its text has.
    charset: Arc<str>,
    /// Whether the rows at hand are those of a table that is whole already, or of a hint for another server.
    skip: bool,
    /// Table of the rows at hand.
    table: String,
    /// The head of the insert at hand, as it is sent and as it was read.
    head: String,
    read_head: Vec<u8>,
    /// Whether a backslash escapes on the server now, and whether the dump writes names in double quotes.
    backslash: bool,
    ansi: bool,
    /// The mode that the dump names for the body at hand, and what else it sets for it.
    body_mode: Option<String>,
    body_settings: BTreeMap<String, String>,
    variables: Variables,
    mode: Arc<InsertMode>,
    /// By the head of their insert.
    modes: BTreeMap<String, Arc<InsertMode>>,
    /// The insert at hand, head included, and whether it holds nothing but strings, numbers and names.
    batch: String,
    is_simple: bool,
    last_batch: usize,
    batch_line: u64,
}

impl<'l> LoadSink<'l> {
    pub(super) fn new(loader: &'l mut MysqlLoader) -> Self {
        LoadSink {
            loader,
            charset: "utf8mb4".into(),
            skip: false,
            table: String::new(),
            head: String::new(),
            read_head: Vec::new(),
            backslash: true,
            ansi: false,
            body_mode: None,
            body_settings: BTreeMap::new(),
            variables: Variables::new(),
            mode: Arc::default(),
            modes: BTreeMap::new(),
            batch: String::new(),
            is_simple: false,
            last_batch: 0,
            batch_line: 0,
        }
    }

    /// Sends a statement that is no row.
    fn send(&mut self, statement: &Vetted, line: u64) -> Result<(), DatabaseError> {
        let text = statement.text();
        self.loader.conn.query_drop(text).map_err(|e| refused(e, line, text.as_bytes()))
    }

    pub(super) fn flush(&mut self) -> Result<(), DatabaseError> {
        if self.batch.is_empty() {
            return Ok(());
        }
        let statement = std::mem::take(&mut self.batch);
        self.last_batch = statement.len();
        let batch = Batch {
            mode: self.mode.clone(),
            charset: self.charset.clone(),
            statement,
            simple_from: self.is_simple.then_some(self.head.len()),
            line: self.batch_line,
        };
        self.loader.workers()?.send(batch)
    }

    /// Finds out how the rows of a table are sent.
    fn set_way(&mut self, table: &str) -> Result<(), DatabaseError> {
        let plain_insert = self.head.get(..11).is_some_and(|w| w.eq_ignore_ascii_case("INSERT INTO"));
        if !self.modes.contains_key(&self.head) {
            let utf8 = self.charset.starts_with("utf8");
            let mode = self.loader.way(table, &self.head, plain_insert, utf8)?;
            self.modes.insert(self.head.clone(), Arc::new(mode));
        }
        self.mode = self.modes.get(&self.head).cloned().unwrap_or_default();
        Ok(())
    }

    /// The statement without hints, definers and names of its own database.
    fn plain(&mut self, text: &str, at: At<'_>) -> Result<Plain, DatabaseError> {
        let plain = vet::plain(text, at.quoting, self.ansi, &self.loader.own).map_err(refusal(at.line))?;
        self.loader.loaded.definers += plain.definers;
        Ok(plain)
    }

    /// The statement with the names under which tables are loaded.
    fn beside(&mut self, text: String, class: &Class) -> String {
        let of_tables = matches!(
            class,
            Class::CreateTable
                | Class::DropTable
                | Class::AlterTable
                | Class::CreateIndex
                | Class::Insert
                | Class::LockTables
        );
        match of_tables && !self.loader.beside.is_nothing() {
            true => self.loader.beside.renamed(&text),
            false => text,
        }
    }

    fn whole(&mut self, body: &[u8], at: At<'_>) -> Result<(), DatabaseError> {
        let At { line, quoting, .. } = at;
        self.read_as(quoting)?;
        let (text, _) = hints::resolve(text_of(body, line)?, quoting, self.loader.server);
        let text = self.beside(text, &at.statement.class);
        if at.statement.class == Class::DropOther && !self.loader.beside.is_nothing() {
            // What is there goes when the new one comes.
            return Ok(());
        }
        let mut plain = self.plain(&text, at)?;
        if plain.statement.class == Class::Set {
            return self.set(&plain.text, at);
        }
        if matches!(plain.statement.class, Class::Use | Class::Database) {
            let name = vet::database(&plain, quoting).map_err(refusal(line))?;
            return self.own_database(name, line);
        }
        if self.loader.shares
            && plain.statement.class == Class::CreateView
            && plain.statement.name.as_ref().is_some_and(|view| self.loader.own.others.contains(view))
        {
            // A view of others, which a kept dump holds as well.
            return Ok(());
        }
        let fits = matches!(
            plain.statement.class,
            Class::CreateTable
                | Class::AlterTable
                | Class::CreateIndex
                | Class::DropTable
                | Class::CreateView
                | Class::DropOther
        );
        if fits {
            let substituted = self.loader.compatibility.statement(plain.text.as_bytes(), line, quoting)?;
            plain.text = text_of(&substituted, line)?.to_string();
        }
        let statement = plain.statement.clone();
        match vet::statement(plain, quoting, &self.loader.own).map_err(refusal(line))? {
            Verdict::Now(vetted) => self.now(&vetted, &statement, at),
            Verdict::Later(phase, name, vetted) => {
                let mode = self.body_mode.clone().unwrap_or_else(|| self.mode());
                let settings = self.body_settings.values().cloned();
                // The words in a body are read the same way there, as the mode says.
                let settings = settings.chain([format!("SET SESSION SQL_MODE='{mode}'")]).collect();
                let later = Later { phase, name, statement: vetted, line, quoting, settings };
                self.loader.later.push(later, true)
            }
            Verdict::IfPossible(..) | Verdict::Left(_) | Verdict::Nothing => Ok(()),
        }
    }

    /// Sends a vetted statement in its place.
    fn now(&mut self, vetted: &Vetted, statement: &Statement, at: At<'_>) -> Result<(), DatabaseError> {
        let line = at.line;
        let table = statement.name.as_deref().unwrap_or_default();
        let is_whole = self.loader.whole.contains_key(table);
        match &statement.class {
            Class::CreateTable | Class::DropTable | Class::Insert if is_whole => Ok(()),
            // There is nothing to be dropped but what the dump made.
            Class::DropTable if self.loader.shares && !self.loader.loaded.rows.contains_key(table) => Ok(()),
            Class::Insert => {
                self.loader.enter(Some(table))?;
                *self.loader.loaded.rows.entry(table.to_string()).or_default() += 1;
                self.send(vetted, line)
            }
            Class::CreateTable | Class::DropTable | Class::AlterTable | Class::CreateIndex => {
                if self.loader.loaded.rows.contains_key(table) {
                    self.loader.settle()?;
                }
                if statement.class == Class::CreateTable {
                    self.modes.retain(|_, mode| mode.table != table);
                    self.loader.enter(Some(table))?;
                    self.loader.loaded.rows.entry(table.to_string()).or_default();
                } else if statement.class == Class::DropTable {
                    // A stand-in for a view goes before the view comes.
                    self.loader.loaded.rows.remove(table);
                }
                match self.send(vetted, line) {
                    Err(e) if is_whole && exists_already(&e) => Ok(()),
                    other => other,
                }
            }
            Class::Other(_) => {
                if let Some(Work::Makes(made)) = sequence::work(vetted.text().as_bytes(), at.quoting) {
                    // Whoever undoes the load takes it away as a table.
                    self.loader.keeper.mark(Mark::Begun { table: made.clone() })?;
                    self.loader.own.sequences.insert(made);
                }
                self.send(vetted, line)
            }
            _ => {
                self.loader.settle()?;
                self.send(vetted, line)
            }
        }
    }

    /// Takes note of the database that the dump names as its own.
    fn own_database(&mut self, name: String, line: u64) -> Result<(), DatabaseError> {
        if !self.loader.databases.contains(&name) {
            self.loader.databases.push(name.clone());
            let what = format!("the dump names the database {name}");
            let cure = "nothing: it was loaded into the database that you named";
            self.loader.loaded.findings.push(Finding::new(
                Code::DatabaseNamedInDump,
                what,
                format!("line {line}"),
                cure,
            ));
        }
        if self.loader.databases.len() > 1 {
            let what = format!("the dump holds several databases: {}", self.loader.databases.join(", "));
            return Err(DatabaseError::Forbidden { line, what });
        }
        self.loader.own.databases.insert(name);
        Ok(())
    }

    /// The mode under which statements are sent: names never stand in double quotes there.
    fn mode(&self) -> String {
        if self.backslash { MODE.into() } else { format!("{MODE},NO_BACKSLASH_ESCAPES") }
    }

    /// Lets the server read strings as the dump is read here, or they would end elsewhere.
    fn read_as(&mut self, quoting: Quoting) -> Result<(), DatabaseError> {
        if self.backslash == quoting.backslash {
            return Ok(());
        }
        self.backslash = quoting.backslash;
        self.loader.strayed = true;
        self.flush()?;
        self.everywhere(format!("SET SESSION SQL_MODE='{}'", self.mode()))
    }

    fn set(&mut self, text: &str, at: At<'_>) -> Result<(), DatabaseError> {
        let line = at.line;
        let settings = vet::settings(text, at.quoting, &mut self.variables).map_err(refusal(line))?;
        for setting in settings {
            match setting {
                Setting::Own(vetted) => self.send(&vetted, line)?,
                Setting::Charset(charset, vetted) => {
                    self.loader.strayed |= charset != "utf8mb4";
                    self.charset = charset.into();
                    self.modes.clear();
                    self.send(&vetted, line)?;
                }
                Setting::Mode(mode) => {
                    let plain = mode.bytes().all(|b| b.is_ascii_uppercase() || b == b'_' || b == b',');
                    if plain {
                        self.ansi = mode.contains("ANSI");
                    }
                    // A body keeps the mode under which it was made, but for how names are written.
                    self.body_mode = plain.then(|| body_mode(&mode));
                }
                Setting::Zone(zone) => {
                    // What was kept in a variable is the zone from before the dump.
                    if zone.starts_with('@') || zone.is_empty() {
                        self.body_settings.remove("time_zone");
                        self.everywhere("SET SESSION time_zone=DEFAULT".into())?;
                    } else {
                        let set = format!("SET SESSION time_zone={}", super::quoted(&zone));
                        self.body_settings.insert("time_zone".into(), set.clone());
                        self.everywhere(set)?;
                    }
                }
                Setting::Other(vetted) => {
                    let text = vetted.text().to_ascii_lowercase();
                    for name in ["character_set_client", "collation_connection"] {
                        if text.contains(name) && !text.contains('@') {
                            self.body_settings.insert(name.into(), vetted.text().into());
                        } else if text.contains(name) {
                            self.body_settings.remove(name);
                        }
                    }
                    self.loader.strayed |= text.contains("character_set") || text.contains("collation");
                    self.send(&vetted, line)?;
                }
            }
        }
        Ok(())
    }

    /// Gives a setting of our own to every connection.
    fn everywhere(&mut self, sql: String) -> Result<(), DatabaseError> {
        run(&mut self.loader.conn, &sql)?;
        self.loader.workers()?.session(vec![sql])
    }

    /// Adds a row to the batch; `text` is the same row, if the rows around it are known to be UTF-8. Strings are bytes, and nothing in
    /// them is read: only expressions are.
    fn row(
        &mut self,
        bytes: &[u8],
        text: Option<&str>,
        values: &mut Vec<Value>,
        at: At<'_>,
    ) -> Result<(), DatabaseError> {
        let At { line, quoting, .. } = at;
        row::cut(bytes, quoting, values);
        let spelled;
        let text = match text.or_else(|| simdutf8::basic::from_utf8(bytes).ok()) {
            Some(text) => text,
            None => {
                spelled = utf8_row(bytes, values, quoting, &self.charset);
                row::cut(&spelled, quoting, values);
                text_of(&spelled, line)?
            }
        };
        for value in values.iter().filter(|v| v.kind == ValueKind::Expression) {
            vet::value(&text[value.span.clone()], quoting).map_err(refusal(line))?;
        }
        self.make_room(text.len(), line)?;
        self.is_simple = false;
        self.batch.push_str(text);
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

    /// Begins an insert.
    fn head(&mut self, head: &[u8], at: At<'_>) -> Result<(), DatabaseError> {
        let At { line, quoting, .. } = at;
        self.read_as(quoting)?;
        if self.read_head != head {
            self.flush()?;
            let (text, open) = hints::resolve(text_of(head, line)?, quoting, self.loader.server);
            let text = self.beside(text, &Class::Insert);
            self.read_head = head.to_vec();
            self.head.clear();
            if open != Open::Ignored {
                let plain = self.plain(&text, at)?;
                let substituted =
                    self.loader.compatibility.head(plain.text.trim_ascii_start().as_bytes(), quoting);
                let substituted = Plain { text: text_of(&substituted, line)?.to_string(), ..plain };
                let vetted =
                    vet::insert_head(&substituted, quoting, &self.loader.own).map_err(refusal(line))?;
                self.head = vetted.text().to_string();
                self.table = substituted.statement.name.clone().unwrap_or_default();
            }
        }
        let table = self.table.clone();
        self.skip = self.head.is_empty() || self.loader.whole.contains_key(&table);
        if self.skip {
            return Ok(());
        }
        self.loader.enter(Some(&table))?;
        self.set_way(&table)
    }

    pub(super) fn take(&mut self, piece: Piece<'_>, at: At<'_>) -> Result<(), DatabaseError> {
        let At { line, quoting, .. } = at;
        match piece {
            Piece::Gap(text) => {
                self.loader.stated.extend(Checksum::in_comments(text));
                self.loader.own.databases.extend(database_of_comments(text));
                Ok(())
            }
            Piece::Between(_) | Piece::CutOff(_) => Ok(()),
            Piece::Whole { bytes, delimiter, .. } => {
                self.flush()?;
                self.whole(&bytes[..bytes.len() - delimiter], at)
            }
            Piece::InsertHead(head) => self.head(head, at),
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
                    self.row(row, text.and_then(|t| t.get(span)), &mut values, at)?;
                }
                Ok(())
            }
            Piece::Tail { bytes, delimiter } => {
                let tail = bytes[..bytes.len() - delimiter].trim_ascii();
                let tail = tail.strip_prefix(b"*/").unwrap_or(tail).trim_ascii();
                if tail.is_empty() || tail.starts_with(b"--") || tail.starts_with(b"#") {
                    return Ok(());
                }
                let (tail, _) = hints::resolve(text_of(tail, line)?, quoting, self.loader.server);
                let vetted = vet::tail(tail.trim(), quoting).map_err(refusal(line))?;
                // `ON DUPLICATE KEY UPDATE …` belongs to the rows at hand.
                self.is_simple = false;
                self.batch.push(' ');
                self.batch.push_str(vetted.text());
                self.flush()
            }
        }
    }
}

/// The mode of a body as it is set here: names in double quotes were spelled anew, so that the mode need not say so.
fn body_mode(mode: &str) -> String {
    let families = ["ANSI", "ANSI_QUOTES", "DB2", "MAXDB", "MSSQL", "ORACLE", "POSTGRESQL"];
    let words: Vec<&str> = mode.split(',').filter(|w| !families.contains(w)).collect();
    words.join(",")
}

/// The database that the comments of a dump name as its own.
fn database_of_comments(text: &[u8]) -> Option<String> {
    let text = std::str::from_utf8(text).ok()?;
    let line = text.lines().find(|l| l.starts_with("--") && l.contains("Database:"))?;
    let name = line.split("Database:").nth(1)?.trim().trim_matches(['`', '\'', '"']);
    (!name.is_empty() && name.len() <= 64).then(|| name.to_string())
}

/// Says whether a statement failed because what it makes is there, left by the load that was interrupted.
fn exists_already(error: &DatabaseError) -> bool {
    matches!(code(error), Some(1060 | 1061 | 1068 | 1022 | 1826 | 121))
}

/// Spells the literals of a row that are not UTF-8 as hex, with the charset that the dump declared, so that the server stores the
/// same bytes.
fn utf8_row(row: &[u8], values: &[Value], quoting: Quoting, charset: &str) -> Vec<u8> {
    let declared = !charset.starts_with("utf8") && charset != "binary";
    let mut out = Vec::with_capacity(row.len() * 2);
    let mut done = 0;
    let mut put = |literal: Range<usize>, introduced: bool| {
        if std::str::from_utf8(&row[literal.clone()]).is_ok() {
            return;
        }
        out.extend_from_slice(&row[done..literal.start]);
        if declared && !introduced {
            out.extend_from_slice(format!("_{charset} ").as_bytes());
        }
        done = literal.end;
        let bytes = literal::decode(row, literal, quoting).bytes;
        out.extend_from_slice(b"0x");
        out.extend(literal::hex(&bytes, b""));
    };
    for value in values {
        match value.kind {
            ValueKind::Text => put(value.literal.clone(), value.literal.start > value.span.start),
            ValueKind::Expression => {
                let mut introduced = false;
                for (token, span) in tokens(&row[value.span.clone()], quoting).flatten() {
                    let span = span.start + value.span.start..span.end + value.span.start;
                    if token == Token::Text {
                        put(span.clone(), introduced);
                    }
                    introduced = token == Token::Word && row[span.start] == b'_';
                }
            }
            ValueKind::Hex | ValueKind::Null | ValueKind::Number => {}
        }
    }
    out.extend_from_slice(&row[done..]);
    out
}
