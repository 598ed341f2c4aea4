//! Loads a dump statement by statement. Only classes that build this one database reach the server.
//!
//! Rows are sent in batches of our own size, whatever the dump's inserts looked like: single-row inserts become large ones, huge
//! ones are cut to the server's packet limit.

use super::{DatabaseError, connect, refused, run, tables};
use crate::dump::lex::{Lexer, Step, Token};
use crate::dump::literal::{self, Quoting};
use crate::dump::row::{self, Value, ValueKind};
use crate::dump::statement::Class;
use crate::dump::stream::{At, DumpError, Piece, Sink, WINDOW};
use crate::event::Warning;
use crate::place::DatabaseAccess;
use mysql::Conn;
use mysql::prelude::Queryable;
use std::collections::BTreeMap;
use std::io::Read;

/// Batch size in bytes, if the server's packet limit allows it.
const BATCH: usize = 1 << 20;

/// What a load came to.
#[derive(Debug, Clone, Default)]
pub struct Loaded {
    /// Rows sent, by table.
    pub rows: BTreeMap<String, u64>,
    /// What was left out or is worth knowing.
    pub warnings: Vec<Warning>,
}

/// A connection into which parts of a dump are loaded.
pub struct Loader {
    conn: Conn,
    packet: usize,
    loaded: Loaded,
    databases: Vec<String>,
}

impl Loader {
    /// Connects and prepares the session.
    pub fn new(access: &DatabaseAccess) -> Result<Self, DatabaseError> {
        let mut conn = connect(access)?;
        let sql = "SELECT @@max_allowed_packet";
        let packet: Option<usize> = conn.query_first(sql).map_err(|e| refused(e, 0, sql.as_bytes()))?;
        let mut loader = Loader {
            conn,
            packet: packet.unwrap_or(BATCH),
            loaded: Loaded::default(),
            databases: Vec::new(),
        };
        loader.session()?;
        Ok(loader)
    }

    fn session(&mut self) -> Result<(), DatabaseError> {
        for sql in [
            "SET NAMES utf8mb4",
            "SET SESSION SQL_MODE='NO_AUTO_VALUE_ON_ZERO'",
            "SET SESSION FOREIGN_KEY_CHECKS=0",
            "SET SESSION UNIQUE_CHECKS=0",
        ] {
            run(&mut self.conn, sql)?;
        }
        Ok(())
    }

    /// Returns the tables and views that are there.
    pub fn tables(&mut self) -> Result<Vec<String>, DatabaseError> {
        tables(&mut self.conn)
    }

    /// Loads one dump or part of a dump.
    pub fn load(&mut self, reader: impl Read) -> Result<(), DatabaseError> {
        self.session()?;
        let mut sink = LoadSink {
            loader: self,
            charset: "utf8mb4".into(),
            head: Vec::new(),
            batch: Vec::new(),
            batch_line: 0,
            failure: None,
        };
        let ended = crate::dump::stream::run(reader, WINDOW, &mut sink);
        if let Some(failure) = sink.failure.take() {
            return Err(failure);
        }
        match ended {
            Err(DumpError::Read(e) | DumpError::Write(e)) => return Err(DatabaseError::Io(e)),
            Err(other) => return Err(DatabaseError::Io(std::io::Error::other(other.to_string()))),
            Ok(ending) => {
                if let Some(cut) = ending.cut_off {
                    return Err(DatabaseError::CutOff { line: cut.line, what: cut.what });
                }
            }
        }
        sink.flush()
    }

    /// Compares row counts with what was sent and returns what was done.
    pub fn finish(mut self) -> Result<Loaded, DatabaseError> {
        for (table, sent) in self.loaded.rows.clone() {
            let sql = format!("SELECT COUNT(*) FROM {}", super::name(&table));
            let there: Option<u64> =
                self.conn.query_first(&sql).map_err(|e| refused(e, 0, sql.as_bytes()))?;
            if there != Some(sent) {
                let what = format!("{sent} rows were sent, {} are there", there.unwrap_or_default());
                self.loaded.warnings.push(Warning::new(what, table, "look for doubled keys in the dump"));
            }
        }
        Ok(self.loaded)
    }
}

struct LoadSink<'l> {
    loader: &'l mut Loader,
    /// Charset that the dump says its text has.
    charset: String,
    head: Vec<u8>,
    batch: Vec<u8>,
    batch_line: u64,
    failure: Option<DatabaseError>,
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
    fn send(&mut self, statement: &[u8], line: u64) -> Result<(), DatabaseError> {
        let Ok(text) = std::str::from_utf8(statement) else {
            let what = "the statement holds text that is not UTF-8; export the dump again as UTF-8".into();
            return Err(DatabaseError::Forbidden { line, what });
        };
        self.loader.conn.query_drop(text).map_err(|e| refused(e, line, statement))
    }

    fn flush(&mut self) -> Result<(), DatabaseError> {
        if self.batch.is_empty() {
            return Ok(());
        }
        let statement = [&self.head[..], &self.batch].concat();
        self.batch.clear();
        self.send(&statement, self.batch_line)
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
        match &statement.class {
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
                self.send(body, line)
            }
            Class::CreateTrigger | Class::CreateRoutine | Class::CreateEvent => {
                self.send_body(body, line, quoting)
            }
            Class::CreateView | Class::DropOther => self.send(body, line),
            Class::Insert => {
                let upper = String::from_utf8_lossy(body).to_ascii_uppercase();
                if upper.contains("SELECT") || upper.contains("LOAD_FILE") {
                    return forbidden("an insert that reads from elsewhere is not loaded".into());
                }
                *self.loader.loaded.rows.entry(statement.name.clone().unwrap_or_default()).or_default() += 1;
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
            Class::Other(word) => forbidden(format!("{word} is no statement of a site's dump")),
        }
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
            return run(&mut self.loader.conn, &format!("SET SESSION SQL_MODE='{mode}'"));
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
        if let Some(charset) = ["big5", "gbk", "gb18030", "sjis", "cp932"].iter().find(|c| text.contains(**c))
        {
            // In these a backslash may be the second half of a letter.
            let what = format!("the dump is written in {charset}; export it again as UTF-8");
            return Err(DatabaseError::Forbidden { line, what });
        }
        if let Some(charset) = after.strip_prefix("names ") {
            self.charset =
                charset.trim_matches([' ', '\'', '"']).chars().take_while(|c| c.is_alphanumeric()).collect();
        }
        self.send(body, line)
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
            Err(mysql::Error::MySqlError(e)) if e.code == NOT_PREPARABLE && is_one_block(body, quoting) => {
                self.send(body, line)
            }
            Err(e) => Err(refused(e, line, body)),
        }
    }

    fn row(&mut self, bytes: &[u8], values: &[Value], at: At<'_>) -> Result<(), DatabaseError> {
        let At { statement, line, quoting, .. } = at;
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
        let limit = BATCH.min(self.loader.packet.saturating_sub(1 << 10).max(1 << 12));
        if !self.batch.is_empty() && self.head.len() + self.batch.len() + bytes.len() + 2 > limit {
            self.flush()?;
        }
        if self.batch.is_empty() {
            self.batch_line = line;
        } else {
            self.batch.push(b',');
        }
        if std::str::from_utf8(bytes).is_ok() {
            self.batch.extend_from_slice(bytes);
        } else {
            let row = utf8_row(bytes, values, quoting, &self.charset);
            self.batch.extend_from_slice(&row);
        }
        *self.loader.loaded.rows.entry(statement.name.clone().unwrap_or_default()).or_default() += 1;
        Ok(())
    }

    fn take(&mut self, piece: Piece<'_>, at: At<'_>) -> Result<(), DatabaseError> {
        let At { statement, line, quoting, .. } = at;
        match piece {
            Piece::Gap(_) | Piece::Between(_) | Piece::CutOff(_) => Ok(()),
            Piece::Whole { bytes, delimiter, .. } => {
                self.flush()?;
                self.whole(&bytes[..bytes.len() - delimiter], at)
            }
            Piece::InsertHead(head) => {
                if statement.qualifier.is_some() {
                    let what = "the statement names a database of its own".into();
                    return Err(DatabaseError::Forbidden { line, what });
                }
                if self.head != head {
                    self.one_statement(head, line, quoting)?;
                    self.flush()?;
                    self.head = head.to_vec();
                }
                Ok(())
            }
            Piece::Rows(rows) => {
                let mut values = Vec::new();
                for row in rows.each() {
                    row::cut(row, quoting, &mut values);
                    self.row(row, &values, at)?;
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
                self.batch.push(b' ');
                self.batch.extend_from_slice(tail);
                self.flush()
            }
        }
    }
}

impl Sink for LoadSink<'_> {
    fn piece(&mut self, piece: Piece<'_>, at: At<'_>) -> Result<(), DumpError> {
        self.take(piece, at).map_err(|e| {
            let told = e.to_string();
            self.failure = Some(e);
            DumpError::Sink(told.into())
        })
    }
}

/// The server's error for a statement that cannot be prepared.
const NOT_PREPARABLE: u16 = 1295;

/// Walks over the tokens that are no space and no comment. Text that ends inside of a token gives a last `None`.
fn tokens(text: &[u8], quoting: Quoting) -> impl Iterator<Item = Option<(Token, &[u8])>> {
    let mut lexer = Lexer::reading(quoting);
    let mut at = 0;
    std::iter::from_fn(move || {
        while at < text.len() {
            let Step::Token(token, len) = lexer.next(&text[at..], true) else {
                at = text.len();
                return Some(None);
            };
            at += len;
            if !matches!(token, Token::Space | Token::Comment) {
                return Some(Some((token, &text[at - len..at])));
            }
        }
        None
    })
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
        let Some((token, bytes)) = token else { return false };
        let word = if token == Token::Word { bytes.to_ascii_uppercase() } else { Vec::new() };
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
