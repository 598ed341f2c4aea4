//! The guard of MySQL and MariaDB. Hints are resolved before ([`super::hints`]).

use super::code::{Code, TokenKind};
use super::harmless::has;
use super::hints::{self, Server};
use super::mysql_body::{Database, Found, Sort, is_language, walk};
use super::{Phase, Refused, Verdict, Vetted};
use crate::dump::definer;
use crate::dump::dialect::Dialect;
use crate::dump::lex::Token;
use crate::dump::literal::Quoting;
use crate::dump::sequence::{self, Work};
use crate::dump::statement::{Class, Statement, read};
use crate::edit::{Edit, apply};
use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;

/// What is known of the database that is filled.
#[derive(Debug, Default, Clone)]
pub struct Own {
    /// Its name here, and the one that it had where the dump comes from.
    pub databases: BTreeSet<String>,
    /// Tables and views that belong to others and stay.
    pub others: BTreeSet<String>,
    /// Sequences that the dump made.
    pub sequences: BTreeSet<String>,
}

/// A statement that is fit to be vetted: no definer, no name of its own database.
#[derive(Debug)]
pub struct Plain {
    /// Text.
    pub text: String,
    /// What it is.
    pub statement: Statement,
    /// Definers that were taken out.
    pub definers: u64,
}

/// Takes definers and the name of the own database out of a statement without hints. With `ansi`, double quotes stand around names and
/// become backquotes, because the server reads them as text.
pub fn plain(text: &str, quoting: Quoting, ansi: bool, own: &Own) -> Result<Plain, Refused> {
    let mut text = text.to_string();
    if ansi {
        text = with_backquotes(&text, quoting)?;
    }
    let definers = definer::edits(text.as_bytes());
    if !definers.is_empty() {
        text = edited(&text, &definers);
    }
    let statement = read(text.as_bytes(), Dialect::Mysql);
    let named = sequence::named(text.as_bytes(), quoting);
    if !named.is_empty() {
        if let Some(other) = named.iter().find(|n| !own.sequences.contains(&n.name)) {
            return Err(Refused::new(format!(
                "it takes its numbers from the sequence {} of the database {}",
                other.name, other.database
            )));
        }
        text = edited(&text, &named.iter().map(sequence::Named::without_database).collect::<Vec<_>>());
    }
    Ok(Plain { text, statement, definers: definers.len() as u64 })
}

fn edited(text: &str, edits: &[Edit]) -> String {
    String::from_utf8_lossy(&apply(text.as_bytes(), edits)).into_owned()
}

/// Spells names in double quotes with backquotes.
fn with_backquotes(text: &str, quoting: Quoting) -> Result<String, Refused> {
    let mut edits = Vec::new();
    for token in crate::dump::lex::tokens(text.as_bytes(), quoting) {
        let Some((_, span)) = token else { break };
        let name = &text[span.clone()];
        if !name.starts_with('"') {
            continue;
        }
        // There a backslash is a plain letter, here it is not: where the name ends would be read in two ways.
        if name.contains(['\\', '`']) {
            return Err(Refused::new(format!(
                "the name {name} holds a sign that is not read the same everywhere"
            )));
        }
        let inside = name[1..name.len().max(2) - 1].replace("\"\"", "\"");
        edits.push(Edit::new(span, format!("`{inside}`")));
    }
    Ok(edited(text, &edits))
}

/// Vets a statement that is no setting and no insert of rows in the usual form.
pub fn statement(plain: Plain, quoting: Quoting, own: &Own) -> Result<Verdict, Refused> {
    let has_body =
        matches!(plain.statement.class, Class::CreateTrigger | Class::CreateRoutine | Class::CreateEvent);
    let text = plain.text.trim_end().to_string();
    let code = Code::read(&text, quoting, has_body)?;
    if code.len() == 0 {
        return Ok(Verdict::Nothing);
    }
    let guard = Guard { code: &code, own };
    match &plain.statement.class {
        Class::CreateTable => guard.create_table(),
        Class::AlterTable => guard.alter_table(),
        Class::CreateIndex => guard.create_index(),
        Class::DropTable | Class::DropOther => guard.drop(),
        Class::CreateView => guard.create_view(),
        Class::CreateTrigger => guard.create_trigger(),
        Class::CreateRoutine => guard.create_routine(),
        Class::CreateEvent => guard.create_event(),
        Class::Insert => guard.insert(),
        Class::LockTables | Class::UnlockTables | Class::Transaction | Class::Empty => Ok(Verdict::Nothing),
        Class::Other(word) => guard.other(word, quoting),
        _ => Err(Refused::new(format!("{} is no statement of a site's dump", code.written(0)))),
    }
}

/// Reads `USE`, `CREATE DATABASE` and their kin, which are not sent: the name of the database that the dump calls its own.
pub fn database(plain: &Plain, quoting: Quoting) -> Result<String, Refused> {
    let code = Code::read(&plain.text, quoting, false)?;
    let refused =
        || Refused::new(format!("{} {} is no statement of a site's dump", code.written(0), code.written(1)));
    let guard = Guard { code: &code, own: &Own::default() };
    let at = match (code.word(0), code.word(1)) {
        ("USE", _) => 1,
        ("CREATE" | "ALTER", "DATABASE" | "SCHEMA") => guard.condition(2),
        ("CREATE", "OR") => 4,
        // Dump programs write no other.
        ("DROP", "DATABASE" | "SCHEMA") if code.are(2, &["IF", "EXISTS"]) => 4,
        _ => return Err(refused()),
    };
    let name = code.name(at).ok_or_else(refused)?;
    let mut rest = at + 1..code.len();
    let plain_option = |i: usize| {
        let words = "DEFAULT CHARACTER SET CHARSET COLLATE COMMENT ENCRYPTION READ ONLY";
        code.sign(i, b'=')
            || has(words, code.word(i))
            || has("SET CHARSET COLLATE COMMENT ENCRYPTION ONLY", code.word(i - 1))
            || code.sign(i - 1, b'=')
    };
    if !rest.all(plain_option) || (matches!(code.word(0), "USE" | "DROP") && at + 1 != code.len()) {
        return Err(refused());
    }
    Ok(name)
}

/// Vets the beginning of an insert, up to its first row.
pub fn insert_head(plain: &Plain, quoting: Quoting, own: &Own) -> Result<Vetted, Refused> {
    let code = Code::read(&plain.text, quoting, false)?;
    let guard = Guard { code: &code, own };
    let at = guard.insert_columns()?;
    if !has("VALUES VALUE", code.word(at)) || at + 1 != code.len() {
        return Err(Refused::new("the beginning of the insert says more than table and columns"));
    }
    Ok(Vetted::new(plain.text.clone()))
}

/// Vets a value of a row.
pub fn value(text: &str, quoting: Quoting) -> Result<(), Refused> {
    let code = Code::read(text, quoting, false)?;
    calls_nothing(walk(&code, 0..code.len(), Sort::Expression)?)
}

/// Vets what follows the last row.
pub fn tail(text: &str, quoting: Quoting) -> Result<Vetted, Refused> {
    let code = Code::read(text, quoting, false)?;
    let mut at = 0;
    if code.is(0, "AS") {
        at = if code.sign(2, b'(') { code.closing(2)? + 1 } else { 2 };
    }
    if !code.are(at, &["ON", "DUPLICATE", "KEY", "UPDATE"]) || code.find(0..code.len(), "RETURNING").is_some()
    {
        return Err(Refused::new("what follows the rows is no part of a dump"));
    }
    calls_nothing(walk(&code, at + 4..code.len(), Sort::Expression)?)?;
    Ok(Vetted::new(text))
}

fn calls_nothing(found: Found) -> Result<(), Refused> {
    if let Some(call) = found.calls.first() {
        return Err(Refused::new(format!("the row calls {}()", call.to_uppercase())));
    }
    match found.databases.first() {
        Some((database, _)) => Err(Refused::new(format!("the row names a database of its own ({database})"))),
        None => Ok(()),
    }
}

/// Engines whose tables lie in the server's own files of this database.
const ENGINES: &str = "ARCHIVE ARIA BLACKHOLE CSV DEFAULT HEAP INNODB INNOBASE MARIA MEMORY MYISAM NDB NDBCLUSTER ROCKSDB TOKUDB XTRADB";

/// Options of a table, each followed by a value.
const OPTIONS: &str = "
AUTO_INCREMENT AUTOEXTEND_SIZE AVG_ROW_LENGTH CHARSET CHECKSUM COLLATE COMMENT COMPRESSION DELAY_KEY_WRITE ENCRYPTED ENCRYPTION
ENCRYPTION_KEY_ID ENGINE IETF_QUOTES INSERT_METHOD ITEF_QUOTES KEY_BLOCK_SIZE MAX_ROWS MIN_ROWS PACK_KEYS PAGE_CHECKSUM PAGE_COMPRESSED
PAGE_COMPRESSION_LEVEL ROW_FORMAT SEQUENCE STATS_AUTO_RECALC STATS_PERSISTENT STATS_SAMPLE_PAGES TABLE_CHECKSUM TRANSACTIONAL TYPE
NODEGROUP ATOMIC_ROW";

/// Words that no definition of a table or an index may hold.
const OUTSIDE: &str = "DIRECTORY CONNECTION TABLESPACE UNION SELECT EXCHANGE IMPORT DISCARD INTO SERVER";

/// What the definition of a key or a check begins with.
const KEYS: &str = "PRIMARY KEY INDEX UNIQUE FULLTEXT SPATIAL CONSTRAINT FOREIGN CHECK PERIOD VECTOR";

/// A piece of a definition.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Item {
    /// A column, key or check.
    Definition,
    /// A part of a key.
    Part,
    /// Anything else.
    Rest,
}

struct Guard<'c, 's> {
    code: &'c Code<'s>,
    own: &'c Own,
}

impl Guard<'_, '_> {
    fn vetted(&self) -> Vetted {
        Vetted::new(self.code.text)
    }

    /// The statement without the names of its own database. Other databases are refused.
    fn localised(&self, found: &[Database]) -> Result<String, Refused> {
        let mut edits = Vec::new();
        for (database, span) in found {
            if !self.own.databases.contains(database) {
                return Err(Refused::new(format!("the statement names a database of its own ({database})")));
            }
            edits.push(Edit::new(span.clone(), ""));
        }
        Ok(edited(self.code.text, &edits))
    }

    /// Reads the name of a thing of this database. Returns the name, what names the database, and where it ends.
    fn name(&self, at: usize) -> Result<(String, Option<Database>, usize), Refused> {
        let code = self.code;
        let (mut names, next) =
            code.chain(at).ok_or_else(|| Refused::new(format!("{} is no name", code.written(at))))?;
        let name = names.pop().unwrap_or_default();
        if names.len() > 1 {
            return Err(Refused::new("a name has more parts than a name can have"));
        }
        if self.own.others.contains(&name) {
            return Err(Refused::new(format!(
                "{name} is in the database already and belongs to no part of this site"
            )));
        }
        let database = names.pop().map(|d| (d, code.span(at).start..code.span(at + 2).start));
        Ok((name, database, next))
    }

    /// Passes over `IF NOT EXISTS` and `IF EXISTS`.
    fn condition(&self, at: usize) -> usize {
        let code = self.code;
        match () {
            () if code.are(at, &["IF", "NOT", "EXISTS"]) => at + 3,
            () if code.are(at, &["IF", "EXISTS"]) => at + 2,
            () => at,
        }
    }

    /// Passes over words that may stand between `CREATE` and what is created.
    fn created(&self, kind: &str, allowed: &str) -> Result<usize, Refused> {
        let code = self.code;
        let mut at = 1;
        while at < code.len() && !code.is(at, kind) {
            let value = code.sign(at, b'=') || (at > 1 && code.sign(at - 1, b'='));
            if !value && !has(allowed, code.word(at)) {
                return Err(Refused::new(format!("{} is not read before {kind}", code.written(at))));
            }
            at += 1;
        }
        Ok(self.condition(at + 1))
    }

    fn create_table(&self) -> Result<Verdict, Refused> {
        let code = self.code;
        let at = self.created("TABLE", "OR REPLACE")?;
        let (_, database, at) = self.name(at)?;
        let mut databases: Vec<_> = database.into_iter().collect();
        let copied = usize::from(code.sign(at, b'('));
        if code.is(at + copied, "LIKE") {
            let (_, database, next) = self.name(at + copied + 1)?;
            databases.extend(database);
            if next + copied != code.len() {
                return Err(Refused::new("CREATE TABLE … LIKE says more than a name"));
            }
            return Ok(Verdict::Now(Vetted::new(self.localised(&databases)?)));
        }
        if copied == 0 {
            return Err(Refused::new("a table without columns takes them from elsewhere"));
        }
        let close = code.closing(at)?;
        for item in code.items(at + 1..close)? {
            databases.extend(self.item(item, Item::Definition)?);
        }
        self.options(close + 1)?;
        Ok(Verdict::Now(Vetted::new(self.localised(&databases)?)))
    }

    /// Vets a piece of a definition. Returns the databases that it names.
    fn item(&self, item: Range<usize>, sort: Item) -> Result<Vec<Database>, Refused> {
        let code = self.code;
        let first = code.word(item.start);
        let is_key = sort == Item::Definition && has(KEYS, first);
        let is_check = code.find(item.clone(), "CHECK").is_some();
        // The name of a column may look like anything.
        let start = item.start + usize::from(sort == Item::Definition && !is_key);
        let mut databases = Vec::new();
        let (mut at, mut depth) = (start, 0usize);
        while at < item.end {
            match code.kind(at) {
                Some(TokenKind::Sign(b'(')) => depth += 1,
                Some(TokenKind::Sign(b')')) => depth = depth.saturating_sub(1),
                Some(TokenKind::Word | TokenKind::Name) => {
                    let refers = code.is(at.wrapping_sub(1), "REFERENCES");
                    let Some((names, next)) = code.chain(at) else { break };
                    if names.len() == 1 && has(OUTSIDE, code.word(at)) {
                        return Err(Refused::new(format!(
                            "{} reaches outside of the database",
                            code.word(at)
                        )));
                    }
                    if names.len() > 1 {
                        if !refers {
                            return Err(Refused::new(format!("{} is not read here", names.join("."))));
                        }
                        databases.push((names[0].clone(), code.span(at).start..code.span(at + 2).start));
                    }
                    // Names of keys and of what they refer to have columns behind them, and these perhaps a length.
                    let listed = match sort {
                        Item::Part => depth == 0,
                        Item::Definition => is_key && !is_check && depth == 1,
                        Item::Rest => false,
                    };
                    let length = code.kind(next + 1) == Some(TokenKind::Number) && code.sign(next + 2, b')');
                    let is_name = refers || (is_key && depth == 0) || (listed && length);
                    let language = code.kind(at) == Some(TokenKind::Word) && is_language(code.word(at));
                    let lower = names[0].to_lowercase();
                    if code.sign(next, b'(') && !is_name && !language && !super::harmless::mysql(&lower) {
                        return Err(Refused::new(format!("it calls {}()", lower.to_uppercase())));
                    }
                    at = next;
                    continue;
                }
                _ => {}
            }
            at += 1;
        }
        Ok(databases)
    }

    /// Vets the options of a table, to the end of the statement.
    fn options(&self, start: usize) -> Result<(), Refused> {
        let code = self.code;
        let mut at = start;
        while at < code.len() {
            if code.is(at, "PARTITION") {
                return self.partitions(at);
            }
            at = self.option(at)?;
        }
        Ok(())
    }

    /// Vets one option of a table. Returns where the next begins.
    fn option(&self, at: usize) -> Result<usize, Refused> {
        let code = self.code;
        if code.sign(at, b',') || code.is(at, "DEFAULT") {
            return Ok(at + 1);
        }
        if code.are(at, &["WITH", "SYSTEM", "VERSIONING"]) {
            return Ok(at + 3);
        }
        let option = code.name(at).unwrap_or_default().to_uppercase();
        let (option, mut value) = match option.as_str() {
            "CHARACTER" if code.is(at + 1, "SET") => ("CHARSET".to_string(), at + 2),
            _ => (option, at + 1),
        };
        let unnamed = || {
            let directory = if code.is(at + 1, "DIRECTORY") { " DIRECTORY" } else { "" };
            Refused::new(format!(
                "the option {}{directory} of a table is on no list of harmless ones",
                code.written(at)
            ))
        };
        if !has(OPTIONS, &option) {
            return Err(unnamed());
        }
        value += usize::from(code.sign(value, b'='));
        match code.kind(value) {
            Some(TokenKind::Word | TokenKind::Name | TokenKind::Text | TokenKind::Number) => {}
            _ => return Err(unnamed()),
        }
        if matches!(option.as_str(), "ENGINE" | "TYPE") {
            self.engine(value)?;
        }
        Ok(value + 1)
    }

    fn engine(&self, at: usize) -> Result<(), Refused> {
        let written = self.code.written(at).trim_matches(['\'', '"', '`']).to_uppercase();
        if has(ENGINES, &written) {
            return Ok(());
        }
        Err(Refused::new(format!("a table of the engine {written} could reach outside of the database")))
    }

    fn partitions(&self, start: usize) -> Result<(), Refused> {
        let code = self.code;
        self.item(start..code.len(), Item::Rest)?;
        for at in start..code.len() {
            let word = code.word(at);
            let value = at + 1 + usize::from(code.sign(at + 1, b'='));
            match word {
                "ENGINE" => self.engine(value)?,
                _ if code.sign(at + 1, b'=')
                    && !has("COMMENT MAX_ROWS MIN_ROWS NODEGROUP ALGORITHM", word) =>
                {
                    return Err(Refused::new(format!(
                        "the option {} of a partition is on no list",
                        code.written(at)
                    )));
                }
                _ => {}
            }
        }
        Ok(())
    }

    fn create_index(&self) -> Result<Verdict, Refused> {
        let code = self.code;
        let at = self.created("INDEX", "OR REPLACE UNIQUE FULLTEXT SPATIAL")?;
        let on = code.find(at..code.len(), "ON").ok_or_else(|| Refused::new("the index names no table"))?;
        let (_, database, next) = self.name(on + 1)?;
        let mut databases: Vec<_> = database.into_iter().collect();
        if !code.sign(next, b'(') {
            return Err(Refused::new("the index names no columns"));
        }
        let close = code.closing(next)?;
        for item in code.items(next + 1..close)? {
            databases.extend(self.item(item, Item::Part)?);
        }
        self.item(close + 1..code.len(), Item::Rest)?;
        Ok(Verdict::Now(Vetted::new(self.localised(&databases)?)))
    }

    fn alter_table(&self) -> Result<Verdict, Refused> {
        let code = self.code;
        let mut at = 1;
        while has("ONLINE IGNORE", code.word(at)) {
            at += 1;
        }
        let (_, database, next) = self.name(self.condition(at + 1))?;
        let mut databases: Vec<_> = database.into_iter().collect();
        let items = code.items(next..code.len())?;
        // Another connection's rows would wait for it, and it is of use to one old engine only.
        if items.iter().all(|i| has("ENABLE DISABLE", code.word(i.start)) && code.is(i.start + 1, "KEYS")) {
            return Ok(Verdict::Nothing);
        }
        for item in items {
            let (first, second) = (code.word(item.start), code.word(item.start + 1));
            match first {
                "ADD" | "MODIFY" | "CHANGE" | "ALTER" => {
                    let mut start = item.start + 1;
                    start += usize::from(code.is(start, "COLUMN"));
                    start = self.condition(start);
                    start += usize::from(first == "CHANGE");
                    // `ADD ( … )` and `ADD PARTITION ( … )` are lists.
                    if code.sign(start, b'(') {
                        for column in code.items(start + 1..code.closing(start)?)? {
                            databases.extend(self.item(column, Item::Definition)?);
                        }
                    } else {
                        databases.extend(self.item(
                            start..item.end,
                            if has("PARTITION SYSTEM", code.word(start)) {
                                Item::Rest
                            } else {
                                Item::Definition
                            },
                        )?);
                    }
                }
                "DROP" => databases.extend(self.item(item.start + 1..item.end, Item::Rest)?),
                "CONVERT"
                    if code.is(item.start + 1, "TO")
                        && has("CHARACTER CHARSET", code.word(item.start + 2)) => {}
                "RENAME" if has("COLUMN INDEX KEY", second) => {}
                "ORDER" if second == "BY" => databases.extend(self.item(item, Item::Rest)?),
                "PARTITION" => self.partitions(item.start)?,
                "FORCE" | "ALGORITHM" | "LOCK" => {}
                _ => {
                    let mut at = item.start;
                    while at < item.end {
                        at = self.option(at)?;
                    }
                }
            }
        }
        Ok(Verdict::Now(Vetted::new(self.localised(&databases)?)))
    }

    /// `DROP TABLE a, b`, `DROP VIEW …` and their kin.
    fn drop(&self) -> Result<Verdict, Refused> {
        let code = self.code;
        if !has("TABLE TABLES VIEW TRIGGER PROCEDURE FUNCTION EVENT SEQUENCE", code.word(1)) {
            return Err(Refused::new(format!("DROP {} is no statement of a site's dump", code.written(1))));
        }
        let mut databases = Vec::new();
        let mut at = self.condition(2);
        loop {
            let (_, database, next) = self.name(at)?;
            databases.extend(database);
            at = next;
            if !code.sign(at, b',') {
                break;
            }
            at += 1;
        }
        at += usize::from(has("RESTRICT CASCADE", code.word(at)));
        if at != code.len() {
            return Err(Refused::new("DROP says more than names"));
        }
        Ok(Verdict::Now(Vetted::new(self.localised(&databases)?)))
    }

    fn create_view(&self) -> Result<Verdict, Refused> {
        let code = self.code;
        let at = self
            .created("VIEW", "OR REPLACE ALGORITHM SQL SECURITY DEFINER INVOKER UNDEFINED MERGE TEMPTABLE")?;
        let (name, database, next) = self.name(at)?;
        let start = if code.sign(next, b'(') { code.closing(next)? + 1 } else { next };
        if !code.is(start, "AS") {
            return Err(Refused::new("the view holds no query"));
        }
        let mut found = walk(code, start + 1..code.len(), Sort::Query)?;
        if found.names.iter().any(|n| self.own.others.contains(n)) {
            return Err(Refused::new("the view reads tables of others"));
        }
        found.databases.extend(database);
        self.later(Phase::View, name, found)
    }

    fn later(&self, phase: Phase, name: String, mut found: Found) -> Result<Verdict, Refused> {
        found.databases.sort_by_key(|(_, span)| span.start);
        let mut vetted = Vetted::new(self.localised(&found.databases)?);
        vetted.calls = found.calls;
        Ok(Verdict::Later(phase, name, vetted))
    }

    fn create_trigger(&self) -> Result<Verdict, Refused> {
        let code = self.code;
        let at = self.created("TRIGGER", "OR REPLACE")?;
        let (name, database, mut at) = self.name(at)?;
        let unread = || Refused::new("the head of the trigger is not read");
        if !has("BEFORE AFTER", code.word(at)) {
            return Err(unread());
        }
        at += 1;
        while has("INSERT UPDATE DELETE OR OF", code.word(at)) || code.sign(at, b',') {
            at += 1;
        }
        if !code.is(at, "ON") {
            return Err(unread());
        }
        let (_, on, next) = self.name(at + 1)?;
        if !code.are(next, &["FOR", "EACH", "ROW"]) {
            return Err(unread());
        }
        let mut start = next + 3;
        if has("FOLLOWS PRECEDES", code.word(start)) {
            start += 2;
        }
        let mut found = walk(code, start..code.len(), Sort::Body)?;
        found.databases.extend(database.into_iter().chain(on));
        self.later(Phase::Trigger, name, found)
    }

    fn create_routine(&self) -> Result<Verdict, Refused> {
        let code = self.code;
        let kind =
            if code.find(0..code.len().min(6), "PROCEDURE").is_some() { "PROCEDURE" } else { "FUNCTION" };
        let at = self.created(kind, "OR REPLACE AGGREGATE")?;
        let (name, database, at) = self.name(at)?;
        if !code.sign(at, b'(') {
            return Err(Refused::new(
                "a function from a library (SONAME) would reach outside of the database",
            ));
        }
        let close = code.closing(at)?;
        walk(code, at + 1..close, Sort::Expression)?;
        let mut start = close + 1;
        // What a routine says of itself, and the type that it returns.
        while start < code.len() {
            let word = code.word(start);
            let stays = "RETURNS LANGUAGE SQL NOT DETERMINISTIC CONTAINS NO READS MODIFIES DATA SECURITY DEFINER INVOKER COMMENT \
                         CHARSET CHARACTER COLLATE UNSIGNED ZEROFILL SIGNED AS";
            match code.kind(start) {
                Some(TokenKind::Text) => start += 1,
                Some(TokenKind::Word) if has(stays, word) && word != "COLLATE" && word != "CHARSET" => {
                    start += 1
                }
                Some(TokenKind::Word) if matches!(word, "COLLATE" | "CHARSET") => start += 2,
                Some(TokenKind::Word)
                    if is_language(word) && !has("SELECT SET DO", word)
                        || code.sign(start + 1, b'(') && word != "RETURN" =>
                {
                    if has("IF CASE", word) {
                        break;
                    }
                    // A type, with its length or its list.
                    start += 1;
                    if code.sign(start, b'(') {
                        start = code.closing(start)? + 1;
                    }
                    // The charset's own name.
                    if code.are(start, &["CHARACTER", "SET"]) {
                        start += 3;
                    }
                }
                _ => break,
            }
            if start > close + 1 && matches!(code.word(start), "RETURN" | "BEGIN") {
                break;
            }
        }
        let mut found = walk(code, start..code.len(), Sort::Body)?;
        found.databases.extend(database);
        self.later(Phase::Routine, name, found)
    }

    fn create_event(&self) -> Result<Verdict, Refused> {
        let code = self.code;
        let at = self.created("EVENT", "OR REPLACE")?;
        let (name, database, at) = self.name(at)?;
        if !code.are(at, &["ON", "SCHEDULE"]) {
            return Err(Refused::new("the event has no schedule"));
        }
        let start = code.find(at..code.len(), "DO").ok_or_else(|| Refused::new("the event does nothing"))?;
        calls_nothing(walk(code, at + 2..start, Sort::Expression)?)?;
        let mut found = walk(code, start + 1..code.len(), Sort::Body)?;
        found.databases.extend(database);
        self.later(Phase::Event, name, found)
    }

    /// Reads the beginning of an insert. Returns where `VALUES` or `SET` stands.
    fn insert_columns(&self) -> Result<usize, Refused> {
        let code = self.code;
        let mut at = 1;
        while has("LOW_PRIORITY DELAYED HIGH_PRIORITY IGNORE INTO", code.word(at)) {
            at += 1;
        }
        let (_, database, mut at) = self.name(at)?;
        if let Some((database, _)) = database {
            return Err(Refused::new(format!("the statement names a database of its own ({database})")));
        }
        if code.is(at, "PARTITION") && code.sign(at + 1, b'(') {
            at = code.closing(at + 1)? + 1;
        }
        if code.sign(at, b'(') {
            let close = code.closing(at)?;
            if (at + 1..close).any(|i| !code.sign(i, b',') && code.name(i).is_none()) {
                return Err(Refused::new("the list of columns holds more than names"));
            }
            at = close + 1;
        }
        Ok(at)
    }

    /// An insert that does not come in rows.
    fn insert(&self) -> Result<Verdict, Refused> {
        let code = self.code;
        let at = self.insert_columns()?;
        if !has("SET VALUES VALUE", code.word(at)) {
            return Err(Refused::new("an insert that reads from elsewhere is not loaded"));
        }
        if code.find(at..code.len(), "RETURNING").is_some() {
            return Err(Refused::new("the insert asks a question (RETURNING)"));
        }
        calls_nothing(walk(code, at + 1..code.len(), Sort::Expression)?)?;
        Ok(Verdict::Now(self.vetted()))
    }

    fn other(&self, word: &str, quoting: Quoting) -> Result<Verdict, Refused> {
        let code = self.code;
        if code.is(0, "DROP") {
            return self.drop();
        }
        let Some(work) = sequence::work(code.text.as_bytes(), quoting) else {
            return Err(Refused::new(format!("{word} is no statement of a site's dump")));
        };
        if let Work::Makes(name) = &work {
            if self.own.others.contains(name) {
                return Err(Refused::new(format!(
                    "{name} is in the database already and belongs to no part of this site"
                )));
            }
            for at in 2..code.len() {
                if code.sign(at, b'.') || code.sign(at, b'(') {
                    return Err(Refused::new("the sequence says more than numbers"));
                }
                if matches!(code.word(at), "ENGINE" | "TYPE") {
                    self.engine(at + 1 + usize::from(code.sign(at + 1, b'=')))?;
                }
            }
        }
        Ok(Verdict::Now(self.vetted()))
    }
}

/// A statement without the name of its own database, if that is the only one that it names.
pub fn localised(text: &str, quoting: Quoting, database: &str) -> String {
    let own = Own { databases: [database.to_string()].into(), ..Own::default() };
    let vetted = plain(text, quoting, false, &own).and_then(|plain| statement(plain, quoting, &own));
    match vetted {
        Ok(Verdict::Now(vetted) | Verdict::Later(_, _, vetted)) => vetted.text,
        _ => text.to_string(),
    }
}

/// Says whether a statement of a dump names a database, as the first part of a longer name.
fn names(text: &str, quoting: Quoting, database: &str) -> bool {
    let mut is_database = false;
    for (token, span) in crate::dump::lex::tokens(text.as_bytes(), quoting).flatten() {
        if token == Token::Punct(b'.') && is_database {
            return true;
        }
        is_database = text[span].trim_matches(['`', '"']) == database;
    }
    false
}

/// A body that names its old database, in a dump that nobody vets: the statement without that name and without hints. Nothing is returned
/// if the name is not in it.
///
/// # Errors
/// The body names it and cannot be read so far that it could be taken out.
pub fn moved_away(text: &str, quoting: Quoting, database: &str) -> Option<Result<String, ()>> {
    if !names(text, quoting, database) {
        return None;
    }
    // Whoever loads it may have any server; what is no code for some is none of a body's.
    let (plain, _) = hints::resolve(text, quoting, Server { mariadb: true, version: u64::MAX });
    let new = localised(plain.trim(), quoting, database);
    Some(if names(&new, quoting, database) { Err(()) } else { Ok(new) })
}

/// Makes an event that is vetted rest: its state becomes `DISABLE`. Returns the text, and whether it was on.
pub fn resting(event: &Vetted, quoting: Quoting) -> (Vetted, bool) {
    let Ok(code) = Code::read(&event.text, quoting, true) else { return (event.clone(), false) };
    let Some(start) = code.find(0..code.len(), "DO") else { return (event.clone(), false) };
    let state = (0..start).find(|i| has("ENABLE DISABLE", code.word(*i)));
    let mut was_on = true;
    let edit = match state {
        Some(at) => {
            was_on = code.is(at, "ENABLE");
            Edit::new(code.span(at), "DISABLE")
        }
        None => {
            let comment = code.find(0..start, "COMMENT").unwrap_or(start);
            let place = code.span(comment).start;
            Edit::new(place..place, "DISABLE ")
        }
    };
    let vetted = Vetted { text: edited(&event.text, &[edit]), calls: event.calls.clone() };
    (vetted, was_on)
}

/// Whether a vetted routine is a procedure or a function, as the language calls it.
pub fn routine_kind(routine: &Vetted, quoting: Quoting) -> &'static str {
    let procedure = Code::read(&routine.text, quoting, true)
        .is_ok_and(|code| (0..code.len().min(6)).any(|i| code.is(i, "PROCEDURE")));
    if procedure { "PROCEDURE" } else { "FUNCTION" }
}

/// Says whether a stored body puts statements together while it runs.
pub fn is_dynamic(stored: &Vetted, quoting: Quoting) -> bool {
    let read = Code::read(&stored.text, quoting, true);
    read.is_ok_and(|code| {
        (0..code.len()).any(|i| code.is(i, "PREPARE") || code.are(i, &["EXECUTE", "IMMEDIATE"]))
    })
}

/// One thing that a `SET` of a dump sets.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Setting {
    /// A variable of the dump's own.
    Own(Vetted),
    /// `NAMES` or a character set, by the character set's name.
    Charset(String, Vetted),
    /// The mode, by its words.
    Mode(String),
    /// The time zone.
    Zone(String),
    /// Anything else that a dump may set for its session.
    Other(Vetted),
}

/// Variables that a dump may set for its session, and that are passed on.
const SETTABLE: &str = "
character_set_client character_set_connection character_set_results character_set_database collation_connection
collation_database sql_notes sql_quote_show_create sql_auto_is_null sql_safe_updates default_storage_engine storage_engine sql_require_primary_key
show_create_table_skip_secondary_engine explicit_defaults_for_timestamp big_tables lc_time_names";

/// Those that are ours, or of no use.
const PASSED_OVER: &str = "
foreign_key_checks unique_checks autocommit sql_log_bin gtid_purged gtid_next innodb_strict_mode max_allowed_packet net_buffer_length wait_timeout
net_read_timeout net_write_timeout interactive_timeout max_statement_time max_execution_time lock_wait_timeout system_versioning_insert_history
session_track_gtids skip_replication completion_type transaction_isolation tx_isolation sql_warnings group_concat_max_len group_replication_consistency";

/// Character sets in which no byte of a letter looks like a quote or a backslash.
const CHARSETS: &str = "
utf8 utf8mb3 utf8mb4 latin1 latin2 latin5 latin7 cp1250 cp1251 cp1256 cp1257 cp850 cp852 cp866 koi8r koi8u greek hebrew binary ascii macroman
macce dec8 hp8 swe7 armscii8 geostd8 keybcs2 tis620 ujis eucjpms euckr gb2312 default";

/// What the dump put into its own variables, in lower case.
pub type Variables = BTreeMap<String, String>;

/// Vets a `SET`. Variables of the dump's own are looked up where another takes their value.
pub fn settings(text: &str, quoting: Quoting, variables: &mut Variables) -> Result<Vec<Setting>, Refused> {
    let code = Code::read(text, quoting, false)?;
    let mut out = Vec::new();
    for item in code.items(1..code.len())? {
        let mut at = item.start;
        let no_setting =
            |at: usize| Refused::new(format!("SET {} is no setting of a dump", code.written(at)));
        at += usize::from(has("SESSION LOCAL", code.word(at)));
        if code.is(at, "NAMES") || code.is(at, "CHARSET") || code.are(at, &["CHARACTER", "SET"]) {
            let value = at + if code.is(at, "CHARACTER") { 2 } else { 1 };
            let charset = literal(&code, value..item.end.min(value + 1), variables).to_lowercase();
            charset_is_safe(&charset)?;
            let rest_is_plain =
                value + 1 == item.end || (code.is(value + 1, "COLLATE") && value + 3 == item.end);
            if !rest_is_plain {
                return Err(no_setting(at));
            }
            let vetted =
                Vetted::new(format!("SET {}", &text[code.span(at).start..code.span(item.end - 1).end]));
            out.push(Setting::Charset(charset, vetted));
            continue;
        }
        let start = at;
        let mut name = code.written(at).to_ascii_lowercase();
        let mut global = code.is(at, "GLOBAL");
        if global {
            at += 1;
            name = code.written(at).to_ascii_lowercase();
        } else if code.sign(at + 1, b'.') && name.starts_with("@@") {
            global = name == "@@global";
            if !global && !has("@@session @@local", &name) {
                return Err(no_setting(at));
            }
            at += 2;
            name = code.written(at).to_ascii_lowercase();
        } else if name == "@" {
            // A quoted name of a variable.
            at += 1;
            name = format!("@{}", code.name(at).unwrap_or_default().to_lowercase());
        }
        let name = name.trim_start_matches("@@").to_string();
        let mut value = at + 1;
        value += usize::from(code.sign(value, b':'));
        if !code.sign(value, b'=') || value + 1 >= item.end {
            return Err(no_setting(start));
        }
        let value = value + 1..item.end;
        if has("gtid_purged sql_log_bin", &name) {
            continue;
        }
        if global {
            return Err(Refused::new(format!("SET GLOBAL {name} is no setting of a dump")));
        }
        let whole =
            || Vetted::new(format!("SET {}", &text[code.span(start).start..code.span(item.end - 1).end]));
        let plain = literal(&code, value.clone(), variables);
        if name.starts_with('@') {
            calls_nothing(walk(&code, value.clone(), Sort::Expression)?)?;
            variables.insert(name, plain);
            out.push(Setting::Own(whole()));
        } else if name == "sql_mode" {
            out.push(Setting::Mode(plain.to_uppercase()));
        } else if name == "time_zone" {
            calls_nothing(walk(&code, value.clone(), Sort::Expression)?)?;
            out.push(Setting::Zone(plain));
        } else if has(PASSED_OVER, &name) {
        } else if has(SETTABLE, &name) {
            calls_nothing(walk(&code, value.clone(), Sort::Expression)?)?;
            if name.starts_with("character_set") {
                // What the session had is as good as what it has.
                if !plain.starts_with("@@") {
                    charset_is_safe(&plain.to_lowercase())?;
                }
            }
            out.push(Setting::Other(whole()));
        } else {
            return Err(no_setting(start));
        }
    }
    Ok(out)
}

fn charset_is_safe(charset: &str) -> Result<(), Refused> {
    if has(CHARSETS, charset) {
        return Ok(());
    }
    // In some a backslash may be the second half of a letter.
    Err(Refused::new(format!("the dump is written in {charset}; export it again as UTF-8")))
}

/// The plain value of one token: of a text its content, of one of the dump's own variables what it was given.
fn literal(code: &Code<'_>, value: Range<usize>, variables: &Variables) -> String {
    if value.len() != 1 {
        // `@@sql_mode` and its like are one token; `@@session.x` is three.
        return code.text[code.span(value.start).start..code.span(value.end.saturating_sub(1)).end]
            .to_string();
    }
    let written = code.written(value.start);
    match code.kind(value.start) {
        Some(TokenKind::Text) => written.trim_matches(['\'', '"']).to_string(),
        Some(TokenKind::Variable) if !written.starts_with("@@") => {
            // One that the dump did not set was set by the server, or is nothing.
            variables.get(&written.to_lowercase()).cloned().unwrap_or_else(|| format!("@@{written}"))
        }
        _ => written.to_string(),
    }
}
