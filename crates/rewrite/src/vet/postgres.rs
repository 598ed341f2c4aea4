//! The guard of PostgreSQL.
//!
//! Functions are made where the dump makes them, because tables may need them; what runs while rows come in (checks, indexes, generated
//! columns, domains) may call the functions of the lists, and those of the dump that only compute. Defaults that call others are set behind
//! the rows; views, rules, triggers and policies are made behind them.

use super::code::{Code, TokenKind};
use super::harmless::{self, has};
use super::postgres_body::{Functions, PLAIN, body, calls};
use super::{Phase, Refused, Verdict, Vetted};
use crate::dump::literal::{self, Quoting};
use crate::edit::{Edit, apply};
use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;

/// What the dump made so far.
#[derive(Debug, Default)]
pub struct Made {
    functions: Functions,
    /// Tables, sequences, types and so on, by their last names.
    things: BTreeSet<String>,
    /// Those of which nobody took note yet.
    fresh: Vec<String>,
    /// Views, which are not there before the end.
    views: BTreeSet<String>,
    /// Materialised views whose query calls what does more than compute.
    unfilled: BTreeSet<String>,
    /// Functions that stored bodies call and that were not there: each with the line that first called it.
    wanted: BTreeMap<String, u64>,
    /// The database that the dump names as its own.
    database: Option<String>,
    /// Bodies that put statements together while they run.
    pub dynamic: Vec<String>,
}

impl Made {
    /// Refuses a dump whose bodies call what neither a list nor the dump knows: returns the line.
    pub fn resolved(&self) -> Result<(), (u64, Refused)> {
        match self.wanted.iter().find(|(call, _)| !self.functions.contains_key(*call)) {
            Some((call, line)) => Err((
                *line,
                Refused::new(format!("it calls {call}(), which is on no list of harmless functions")),
            )),
            None => Ok(()),
        }
    }

    /// Takes note of the database that a dump names as its own; a second one is refused.
    pub fn database(&mut self, name: &str) -> Result<(), Refused> {
        match &self.database {
            Some(known) if known != name => {
                Err(Refused::new(format!("the dump holds several databases: {known}, {name}")))
            }
            _ => {
                self.database = Some(name.to_string());
                Ok(())
            }
        }
    }

    fn makes(&mut self, name: impl Into<String>) {
        let name = name.into();
        if self.things.insert(name.clone()) {
            self.fresh.push(name);
        }
    }

    /// Returns the names of what was made since this was asked last.
    pub fn fresh(&mut self) -> Vec<String> {
        std::mem::take(&mut self.fresh)
    }

    /// Materialised views that are left empty.
    pub fn unfilled(&self) -> impl Iterator<Item = &str> {
        self.unfilled.iter().map(String::as_str)
    }
}

/// Settings that a dump may make for its session, and that are passed on.
const SETTINGS: &str = "
check_function_bodies client_min_messages datestyle escape_string_warning extra_float_digits intervalstyle timezone xmloption
bytea_output quote_all_identifiers";

/// Those that are ours, or of no use.
const PASSED_OVER: &str = "
statement_timeout lock_timeout idle_in_transaction_session_timeout transaction_timeout default_table_access_method default_tablespace
row_security default_with_oids standard_conforming_strings synchronize_seqscans default_toast_compression synchronous_commit";

/// Settings of a function.
const OF_FUNCTIONS: &str = "
search_path timezone datestyle intervalstyle work_mem statement_timeout lock_timeout client_min_messages extra_float_digits
plpgsql.variable_conflict jit default_text_search_config bytea_output";

/// Vets a statement that is no setting of a session, no `COPY` and no insert in rows. `line` is where it begins.
pub fn statement(text: &str, quoting: Quoting, made: &mut Made, line: u64) -> Result<Vec<Verdict>, Refused> {
    let code = Code::read(text.trim_end(), quoting, true)?;
    // Bodies and rules hold delimiters of their own.
    let head = 0..code.len().min(5);
    let holds = code.is(0, "CREATE") && head.clone().any(|i| has("FUNCTION PROCEDURE RULE", code.word(i)));
    if !holds && (0..code.len()).any(|i| code.sign(i, b';')) {
        return Err(Refused::new("a second statement hides in this one"));
    }
    Guard { code: &code, made, line }.statement()
}

/// Vets the beginning of an insert in rows.
pub fn insert_head(text: &str, quoting: Quoting) -> Result<Vetted, Refused> {
    let code = Code::read(text, quoting, false)?;
    let mut at = insert_columns(&code)?;
    if code.is(at, "OVERRIDING") {
        at += 3;
    }
    if !code.is(at, "VALUES") || at + 1 != code.len() {
        return Err(Refused::new("the beginning of the insert says more than table and columns"));
    }
    Ok(Vetted::new(text))
}

/// Vets `COPY t (…) FROM stdin`.
pub fn copy_head(text: &str, quoting: Quoting) -> Result<Vetted, Refused> {
    let code = Code::read(text, quoting, false)?;
    let (_, at) = target(&code, 1)?;
    let at = code.columns(at)?;
    if !code.are(at, &["FROM", "STDIN"]) || at + 2 != code.len() {
        return Err(Refused::new("a copy from elsewhere is not loaded"));
    }
    Ok(Vetted::new(text))
}

/// Vets a value of a row.
pub fn value(text: &str, quoting: Quoting) -> Result<(), Refused> {
    let code = Code::read(text, quoting, false)?;
    plain_values(&code, 0..code.len())
}

/// Vets what follows the last row.
pub fn tail(text: &str, quoting: Quoting) -> Result<(), Refused> {
    let code = Code::read(text, quoting, false)?;
    if code.len() == 0 || (code.are(0, &["ON", "CONFLICT", "DO", "NOTHING"]) && code.len() == 4) {
        return Ok(());
    }
    Err(Refused::new("what follows the rows is no part of a dump"))
}

fn plain_values(code: &Code<'_>, range: Range<usize>) -> Result<(), Refused> {
    if let Some(word) =
        range.clone().map(|i| code.word(i)).find(|w| has("SELECT TABLE FROM WITH INTO RETURNING", w))
    {
        return Err(Refused::new(format!("the row reads from elsewhere ({word})")));
    }
    let called = calls(code, range, &Functions::new())?;
    match called.unknown.first() {
        Some(call) => Err(Refused::new(format!("the row calls {call}()"))),
        None => Ok(()),
    }
}

/// A thing of the site: a chain that lies in no schema of the server's own. Returns its last name and where it ends.
fn target(code: &Code<'_>, at: usize) -> Result<(String, usize), Refused> {
    let (mut names, next) =
        code.chain(at).ok_or_else(|| Refused::new(format!("{} is no name", code.written(at))))?;
    let name = names.pop().unwrap_or_default();
    let schema = names.pop();
    if !names.is_empty() {
        return Err(Refused::new("the statement names a database of its own"));
    }
    let system = |name: &str| {
        name.to_ascii_lowercase().starts_with("pg_") || name.eq_ignore_ascii_case("information_schema")
    };
    if schema.as_deref().is_some_and(system) || (schema.is_none() && system(&name)) {
        return Err(Refused::new(format!("{name} belongs to the server itself")));
    }
    Ok((name, next))
}

fn insert_columns(code: &Code<'_>) -> Result<usize, Refused> {
    if !code.are(0, &["INSERT", "INTO"]) {
        return Err(Refused::new("the insert is not read"));
    }
    let (_, at) = target(code, 2)?;
    code.columns(at)
}

/// What a setting of the session becomes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Setting {
    /// To be sent.
    Send(Vetted),
    /// Ours, or of no use.
    Nothing,
}

/// Vets `SET name = …` and `SELECT pg_catalog.set_config('name', '…', false)`. Returns nothing if the statement is neither.
pub fn setting(text: &str, quoting: Quoting) -> Result<Option<Setting>, Refused> {
    let code = Code::read(text, quoting, false)?;
    let words = |range: Range<usize>| -> Vec<String> {
        range
            .filter(|i| !code.sign(*i, b','))
            .map(|i| match code.kind(i) {
                Some(TokenKind::Text) => {
                    String::from_utf8_lossy(&literal::decode(text.as_bytes(), code.span(i), quoting).bytes)
                        .into_owned()
                }
                _ => code.name(i).unwrap_or_else(|| code.written(i).to_string()),
            })
            .collect()
    };
    let (name, values) = if code.is(0, "SET") {
        let mut at = 1 + usize::from(has("SESSION LOCAL", code.word(1)));
        if code.is(at, "TIME") && code.is(at + 1, "ZONE") {
            ("timezone".to_string(), words(at + 2..code.len()))
        } else {
            let name = code.name(at).unwrap_or_default().to_lowercase();
            at += 1;
            if code.sign(at, b'.') || !(code.sign(at, b'=') || code.is(at, "TO")) {
                return Err(Refused::new(format!("SET {name} is no setting of a dump")));
            }
            (name, words(at + 1..code.len()))
        }
    } else if code.is(0, "SELECT") {
        let Some((names, at)) = code.chain(1) else { return Ok(None) };
        let system = names.len() == 1 || names[0] == "pg_catalog";
        if !system || names.last().is_none_or(|n| n != "set_config") {
            return Ok(None);
        }
        let plain = code.sign(at, b'(')
            && code.len() == at + 7
            && code.kind(at + 1) == Some(TokenKind::Text)
            && code.sign(at + 2, b',')
            && code.kind(at + 3) == Some(TokenKind::Text)
            && code.sign(at + 4, b',')
            && has("TRUE FALSE", code.word(at + 5))
            && code.sign(at + 6, b')');
        if !plain {
            return Err(Refused::new("SELECT set_config with other than plain texts"));
        }
        let name = words(at + 1..at + 2).concat().to_lowercase();
        let value = words(at + 3..at + 4).concat();
        (name, value.split(',').map(|v| v.trim().trim_matches('"').to_string()).collect())
    } else {
        return Ok(None);
    };
    let refused = || Err(Refused::new(format!("SET {name} is no setting of a dump")));
    if code.len() > 60 {
        return refused();
    }
    match name.as_str() {
        "search_path" => {
            let strange = |v: &String| {
                v.starts_with("pg_temp") || v == "information_schema" || v.starts_with("pg_toast")
            };
            if values.iter().any(strange) || values.first().is_some_and(|v| v == "pg_catalog") {
                return Err(Refused::new("the search path leads to the server's own things"));
            }
            Ok(Some(Setting::Send(Vetted::new(text))))
        }
        "client_encoding" => {
            let utf8 =
                values.iter().all(|v| matches!(v.to_lowercase().as_str(), "utf8" | "utf-8" | "unicode"));
            if utf8 {
                Ok(Some(Setting::Nothing))
            } else {
                Err(Refused::new("the dump is not written in UTF-8; export it again as UTF-8"))
            }
        }
        name if has(PASSED_OVER, name) => Ok(Some(Setting::Nothing)),
        name if has(SETTINGS, name) => Ok(Some(Setting::Send(Vetted::new(text)))),
        _ => refused(),
    }
}

/// A default that is cut out of its table, to be set behind the rows.
struct CutDefault {
    /// The token that names its column.
    column: usize,
    span: Range<usize>,
    text: String,
}

struct Guard<'c, 's, 'm> {
    code: &'c Code<'s>,
    made: &'m mut Made,
    line: u64,
}

impl Guard<'_, '_, '_> {
    fn vetted(&self) -> Vetted {
        Vetted::new(self.code.text)
    }

    fn now(&self) -> Result<Vec<Verdict>, Refused> {
        Ok(vec![Verdict::Now(self.vetted())])
    }

    fn later(&self, phase: Phase, name: String) -> Result<Vec<Verdict>, Refused> {
        Ok(vec![Verdict::Later(phase, name, self.vetted())])
    }

    fn refuse<T>(&self) -> Result<T, Refused> {
        let code = self.code;
        let second = if code.word(1).is_empty() { String::new() } else { format!(" {}", code.word(1)) };
        Err(Refused::new(format!(
            "{}{second} is no statement of a site's dump",
            code.written(0).to_uppercase()
        )))
    }

    /// Expressions that run while rows come in.
    fn runs(&self, range: Range<usize>) -> Result<(), Refused> {
        let called = calls(self.code, range, &self.made.functions)?;
        if let Some(call) = called.unknown.first() {
            return Err(Refused::new(format!("it calls {call}()")));
        }
        match called.own.iter().find(|f| self.made.functions.get(*f) != Some(&true)) {
            Some(call) => Err(Refused::new(format!(
                "it calls {call}() of the dump while rows come in, and that does more than compute"
            ))),
            None => Ok(()),
        }
    }

    /// Expressions and bodies that are stored.
    fn stored(&mut self, range: Range<usize>) -> Result<bool, Refused> {
        let found = body(self.code, range, &self.made.functions)?;
        for call in found.unknown {
            self.made.wanted.entry(call).or_insert(self.line);
        }
        Ok(found.pure)
    }

    fn condition(&self, at: usize) -> usize {
        match () {
            () if self.code.are(at, &["IF", "NOT", "EXISTS"]) => at + 3,
            () if self.code.are(at, &["IF", "EXISTS"]) => at + 2,
            () => at,
        }
    }

    fn statement(mut self) -> Result<Vec<Verdict>, Refused> {
        let code = self.code;
        if code.len() == 0 {
            return Ok(vec![Verdict::Nothing]);
        }
        match code.word(0) {
            "CREATE" => self.create(),
            "ALTER" => self.alter(),
            "DROP" => self.drop(),
            "COMMENT" => self.comment(),
            "INSERT" => self.insert(),
            "SELECT" => self.select(),
            "REFRESH" if code.are(1, &["MATERIALIZED", "VIEW"]) => {
                let (name, next) = target(code, 3)?;
                if next != code.len() {
                    return self.refuse();
                }
                if self.made.unfilled.contains(&name) {
                    Ok(vec![Verdict::Nothing])
                } else {
                    self.later(Phase::Last, name)
                }
            }
            // Who may do what is the target's own business.
            "GRANT" | "REVOKE" if code.find(0..code.len(), "ON").is_some() => {
                Ok(vec![Verdict::Left("rights (GRANT, REVOKE)")])
            }
            "SECURITY" if code.is(1, "LABEL") => Ok(vec![Verdict::Left("security labels")]),
            "BEGIN" | "START" | "COMMIT" if code.len() <= 2 => Ok(vec![Verdict::Nothing]),
            "ANALYZE" | "VACUUM" => Ok(vec![Verdict::Nothing]),
            _ => self.refuse(),
        }
    }

    fn select(&mut self) -> Result<Vec<Verdict>, Refused> {
        let code = self.code;
        let Some((names, at)) = code.chain(1) else { return self.refuse() };
        let system = names.len() == 1 || names[0] == "pg_catalog";
        let name = names.last().map(String::as_str).unwrap_or_default();
        if system && name == "setval" && code.sign(at, b'(') && code.closing(at)? + 1 == code.len() {
            let plain = (at + 1..code.len() - 1).all(|i| {
                matches!(code.kind(i), Some(TokenKind::Text | TokenKind::Number))
                    || code.sign(i, b',')
                    || code.sign(i, b'-')
                    || code.sign(i, b':')
                    || has("TRUE FALSE REGCLASS", code.word(i))
            });
            if plain {
                return self.now();
            }
        }
        if system && has("pg_restore_relation_stats pg_restore_attribute_stats pg_clear_relation_stats", name)
        {
            return Ok(vec![Verdict::Nothing]);
        }
        Err(Refused::new(format!(
            "SELECT {} is no statement of a site's dump",
            names.join(".").to_uppercase()
        )))
    }

    fn insert(&mut self) -> Result<Vec<Verdict>, Refused> {
        let code = self.code;
        let at = insert_columns(code)?;
        if code.are(at, &["DEFAULT", "VALUES"]) && at + 2 == code.len() {
            return self.now();
        }
        let start = if code.is(at, "OVERRIDING") { at + 3 } else { at };
        if !code.is(start, "VALUES") {
            return Err(Refused::new("an insert that reads from elsewhere is not loaded"));
        }
        plain_values(code, start..code.len())?;
        self.now()
    }

    fn create(&mut self) -> Result<Vec<Verdict>, Refused> {
        let code = self.code;
        let mut at = 1;
        if code.are(at, &["OR", "REPLACE"]) {
            at += 2;
        }
        at += usize::from(has("UNLOGGED UNIQUE CONSTRAINT RECURSIVE TRUSTED PROCEDURAL", code.word(at)));
        match code.word(at) {
            "TABLE" => self.create_table(at + 1),
            "INDEX" => self.create_index(at + 1),
            "VIEW" => {
                let (name, next) = target(code, at + 1)?;
                self.made.views.insert(name.clone());
                self.made.makes(name.clone());
                self.stored(next..code.len())?;
                let written = code.text[code.span(at + 1).start..code.span(next - 1).end].to_string();
                self.later(Phase::View, format!("VIEW {written}"))
            }
            "MATERIALIZED" if code.is(at + 1, "VIEW") => self.create_materialized(at + 2),
            "FUNCTION" | "PROCEDURE" => self.create_function(at + 1),
            "AGGREGATE" => self.create_aggregate(at + 1),
            "TYPE" => self.create_type(at + 1),
            "DOMAIN" => {
                let (name, next) = target(code, at + 1)?;
                self.made.makes(name);
                self.runs(next..code.len())?;
                self.now()
            }
            "SEQUENCE" => {
                let (name, next) = target(code, self.condition(at + 1))?;
                self.made.makes(name);
                if (next..code.len()).any(|i| code.sign(i, b'(')) {
                    return self.refuse();
                }
                self.now()
            }
            "SCHEMA" => {
                let at = self.condition(at + 1);
                let (name, next) = target(code, at)?;
                let by = code.is(next, "AUTHORIZATION") && next + 2 == code.len();
                if next != code.len() && !by {
                    return Err(Refused::new("CREATE SCHEMA holds other statements"));
                }
                self.made.makes(name);
                Ok(vec![Verdict::Now(Vetted::new(format!(
                    "CREATE SCHEMA IF NOT EXISTS {}",
                    code.written(at)
                )))])
            }
            "EXTENSION" => self.create_extension(at + 1),
            "TRIGGER" => self.create_trigger(at + 1),
            "RULE" => {
                let (name, _) = target(code, at + 1)?;
                let on =
                    code.find(at..code.len(), "TO").ok_or_else(|| Refused::new("the rule names no table"))?;
                target(code, on + 1)?;
                self.stored(on..code.len())?;
                let phase = if name == "_RETURN" { Phase::View } else { Phase::Trigger };
                self.later(phase, name)
            }
            "POLICY" => {
                let on = code
                    .find(at..code.len(), "ON")
                    .ok_or_else(|| Refused::new("the policy names no table"))?;
                let (name, next) = target(code, on + 1)?;
                self.stored(next..code.len())?;
                self.later(Phase::Trigger, name)
            }
            "STATISTICS" => {
                let from = code.find(at..code.len(), "FROM").unwrap_or(code.len());
                self.runs(at + 2..from)?;
                self.now()
            }
            "COLLATION" => {
                target(code, self.condition(at + 1))?;
                self.now()
            }
            "TEXT" if code.are(at + 1, &["SEARCH", "CONFIGURATION"]) => {
                target(code, at + 3)?;
                self.now()
            }
            // One of the server's own, which every dump of old names.
            "LANGUAGE"
                if code.name(at + 1).is_some_and(|n| n.eq_ignore_ascii_case("plpgsql"))
                    && at + 2 == code.len() =>
            {
                Ok(vec![Verdict::Nothing])
            }
            "DATABASE" => {
                let name = code.name(at + 1).unwrap_or_default();
                self.made.database(&name)?;
                Ok(vec![Verdict::Nothing])
            }
            "FOREIGN" => Err(Refused::new("a foreign table would reach outside of the database")),
            _ => self.refuse(),
        }
    }

    fn create_table(&mut self, at: usize) -> Result<Vec<Verdict>, Refused> {
        let code = self.code;
        let start = self.condition(at);
        let (name, mut at) = target(code, start)?;
        let table = &code.text[code.span(start).start..code.span(at - 1).end];
        self.made.makes(name);
        if code.are(at, &["PARTITION", "OF"]) {
            at = target(code, at + 2)?.1;
        } else if code.is(at, "OF") {
            at = target(code, at + 1)?.1;
        }
        let mut edits = Vec::new();
        let mut out = Vec::new();
        if code.sign(at, b'(') {
            let close = code.closing(at)?;
            for item in code.items(at + 1..close)? {
                if let Some(CutDefault { column, span, text: default }) = self.column(item)? {
                    let column = code.written(column);
                    let text =
                        format!("ALTER TABLE ONLY {table} ALTER COLUMN {column} SET DEFAULT {default}");
                    edits.push(Edit::new(span, ""));
                    out.push(Verdict::Later(Phase::Behind, String::new(), Vetted::new(text)));
                }
            }
            at = close + 1;
        }
        // A table that is filled by a query, or that a program of another kind holds.
        if (at..code.len()).any(|i| has("AS SELECT EXECUTE SERVER", code.word(i))) {
            return Err(Refused::new("a table that is filled by a query is not made"));
        }
        self.runs(at..code.len())?;
        let text = String::from_utf8_lossy(&apply(code.text.as_bytes(), &edits)).into_owned();
        out.insert(0, Verdict::Now(Vetted::new(text)));
        Ok(out)
    }

    /// Vets a column or constraint. A default that does more than compute is returned, with its column and where it stands.
    fn column(&mut self, item: Range<usize>) -> Result<Option<CutDefault>, Refused> {
        let code = self.code;
        let starts = "CONSTRAINT CHECK UNIQUE PRIMARY EXCLUDE FOREIGN LIKE";
        if has(starts, code.word(item.start)) {
            self.runs(item)?;
            return Ok(None);
        }
        let Some(at) =
            code.find(item.start + 1..item.end, "DEFAULT").filter(|i| !code.is(i.wrapping_sub(1), "BY"))
        else {
            self.runs(item.start + 1..item.end)?;
            return Ok(None);
        };
        // A default ends where the next word about the column stands in no bracket.
        let ends = "CONSTRAINT NOT NULL CHECK UNIQUE PRIMARY REFERENCES GENERATED COLLATE";
        let mut end = at + 1;
        while end < item.end && (end == at + 1 || !has(ends, code.word(end))) {
            end = if code.sign(end, b'(') { code.closing(end)? + 1 } else { end + 1 };
        }
        self.runs(item.start + 1..at)?;
        self.runs(end..item.end)?;
        let called = calls(code, at + 1..end, &self.made.functions)?;
        if let Some(call) = called.unknown.first() {
            return Err(Refused::new(format!("it calls {call}()")));
        }
        if called.own.iter().all(|f| self.made.functions.get(f) == Some(&true)) {
            return Ok(None);
        }
        let default = &code.text[code.span(at + 1).start..code.span(end - 1).end];
        let span = code.span(at).start..code.span(end - 1).end;
        Ok(Some(CutDefault { column: item.start, span, text: default.to_string() }))
    }

    fn create_index(&mut self, at: usize) -> Result<Vec<Verdict>, Refused> {
        let code = self.code;
        let on = code.find(at..code.len(), "ON").ok_or_else(|| Refused::new("the index names no table"))?;
        let (table, next) = target(code, on + 1 + usize::from(code.is(on + 1, "ONLY")))?;
        self.runs(next..code.len())?;
        if let Some(name) = code.name(self.condition(at)) {
            self.made.makes(name);
        }
        if self.made.views.contains(&table) { self.later(Phase::Behind, table) } else { self.now() }
    }

    fn create_materialized(&mut self, at: usize) -> Result<Vec<Verdict>, Refused> {
        let code = self.code;
        let (name, next) = target(code, self.condition(at))?;
        self.made.views.insert(name.clone());
        self.made.makes(name.clone());
        let empty = code.are(code.len().saturating_sub(3), &["WITH", "NO", "DATA"]);
        let computes = self.stored(next..code.len())?;
        let called = calls(code, next..code.len(), &self.made.functions)?;
        let written =
            format!("MATERIALIZED VIEW {}", &code.text[code.span(next - 1).start..code.span(next - 1).end]);
        let written = match code.chain(next.saturating_sub(3)) {
            Some((names, end)) if end == next && names.len() == 2 => {
                format!(
                    "MATERIALIZED VIEW {}",
                    &code.text[code.span(next - 3).start..code.span(next - 1).end]
                )
            }
            _ => written,
        };
        if computes && called.unknown.is_empty() {
            return self.later(Phase::View, written);
        }
        self.made.unfilled.insert(name.clone());
        let end = if code.are(code.len().saturating_sub(2), &["WITH", "DATA"]) {
            code.len() - 2
        } else {
            code.len()
        };
        let text = &code.text[..code.span(end - 1).end];
        let text = if empty { text.to_string() } else { format!("{text} WITH NO DATA") };
        Ok(vec![Verdict::Later(Phase::View, written, Vetted::new(text))])
    }

    fn create_function(&mut self, at: usize) -> Result<Vec<Verdict>, Refused> {
        let code = self.code;
        let (name, next) = target(code, at)?;
        let lower = name.to_lowercase();
        if !code.sign(next, b'(') {
            return Err(Refused::new("the arguments of the function are not read"));
        }
        let arguments = next + 1..code.closing(next)?;
        let (mut language, mut pure) = (None, true);
        let mut text_body = None;
        let mut at = arguments.end + 1;
        while at < code.len() {
            match code.word(at) {
                "LANGUAGE" => {
                    let written = code.written(at + 1).trim_matches(['\'', '"']).to_lowercase();
                    language = Some(written);
                    at += 1;
                }
                "WINDOW" | "SUPPORT" | "TRANSFORM" => {
                    return Err(Refused::new(format!("a function with {} is not made", code.word(at))));
                }
                "SET" => {
                    let setting = code
                        .chain(at + 1)
                        .map(|(names, _)| names.join(".").to_lowercase())
                        .unwrap_or_default();
                    if !has(OF_FUNCTIONS, &setting) && !setting.starts_with("enable_") {
                        return Err(Refused::new(format!("a function that sets {setting} is not made")));
                    }
                    at += 1;
                }
                "AS" => {
                    if code.kind(at + 1) != Some(TokenKind::Text) || text_body.is_some() {
                        return Err(Refused::new("the body of the function is not read"));
                    }
                    if code.sign(at + 2, b',') {
                        return Err(Refused::new(
                            "a function from a library would reach outside of the database",
                        ));
                    }
                    text_body = Some(at + 1);
                    at += 1;
                }
                "RETURN" => {
                    pure &= self.stored(at..code.len())?;
                    at = code.len();
                }
                "BEGIN" if code.is(at + 1, "ATOMIC") => {
                    pure &= self.stored(at + 2..code.len())?;
                    at = code.len();
                }
                _ if code.sign(at, b';') => return Err(Refused::new("a second statement hides in this one")),
                _ => {}
            }
            at += 1;
        }
        let language = language.unwrap_or_else(|| "sql".into());
        if !matches!(language.as_str(), "sql" | "plpgsql") {
            return Err(Refused::new(format!(
                "a function in {language} could reach outside of the database"
            )));
        }
        self.stored(arguments)?;
        if let Some(at) = text_body {
            let inner = literal::decode(code.text.as_bytes(), code.span(at), code.quoting()).bytes;
            let inner = String::from_utf8_lossy(&inner).into_owned();
            let inside = Code::read(&inner, PLAIN, true)?;
            let mut functions = self.made.functions.clone();
            // A function that calls itself.
            functions.entry(lower.clone()).or_insert(true);
            let found = body(&inside, 0..inside.len(), &functions)?;
            for call in found.unknown {
                self.made.wanted.entry(call).or_insert(self.line);
            }
            pure &= found.pure;
            if found.dynamic {
                self.made.dynamic.push(name.clone());
            }
        }
        self.made.functions.entry(lower.clone()).and_modify(|p| *p &= pure).or_insert(pure);
        self.made.makes(name.clone());
        // One whose arguments or results are rows of a view waits for that.
        let head = 0..text_body.unwrap_or(code.len());
        if head.clone().any(|i| code.name(i).is_some_and(|n| n != name && self.made.views.contains(&n))) {
            return self.later(Phase::View, name);
        }
        self.now()
    }

    fn create_aggregate(&mut self, at: usize) -> Result<Vec<Verdict>, Refused> {
        let code = self.code;
        let (name, next) = target(code, at)?;
        let mut pure = true;
        for i in next..code.len().saturating_sub(1) {
            if !code.sign(i, b'=') || !code.word(i - 1).ends_with("FUNC") {
                continue;
            }
            let Some((names, _)) = code.chain(i + 1) else { return self.refuse() };
            let function = names.last().map(|n| n.to_lowercase()).unwrap_or_default();
            if ["pg_", "lo_", "dblink"].iter().any(|p| function.starts_with(p)) {
                return Err(Refused::new(format!("the aggregate calls {function}()")));
            }
            pure &= self.made.functions.get(&function) != Some(&false);
        }
        self.made.functions.entry(name.to_lowercase()).and_modify(|p| *p &= pure).or_insert(pure);
        self.made.makes(name);
        self.now()
    }

    fn create_type(&mut self, at: usize) -> Result<Vec<Verdict>, Refused> {
        let code = self.code;
        let (name, next) = target(code, at)?;
        self.made.makes(name.clone());
        if next == code.len() {
            return self.now();
        }
        if code.are(next, &["AS", "RANGE"]) {
            for i in next..code.len() {
                if !code.sign(i, b'=') {
                    continue;
                }
                let Some((names, _)) = code.chain(i + 1) else { continue };
                let last = names.last().cloned().unwrap_or_default().to_lowercase();
                match code.word(i - 1) {
                    // They run when rows come in.
                    "CANONICAL" | "SUBTYPE_DIFF"
                        if names.first().is_some_and(|n| n == "pg_catalog")
                            || names.len() == 1 && !self.made.functions.contains_key(&last) => {}
                    "CANONICAL" | "SUBTYPE_DIFF" if self.made.functions.get(&last) == Some(&true) => {}
                    "CANONICAL" | "SUBTYPE_DIFF" => {
                        return Err(Refused::new(format!("the type calls {last}()")));
                    }
                    "MULTIRANGE_TYPE_NAME" => drop(self.made.functions.insert(last, true)),
                    "SUBTYPE" | "SUBTYPE_OPCLASS" | "COLLATION" => {}
                    other => return Err(Refused::new(format!("{other} of a range type is not read"))),
                }
            }
            let lower = name.to_lowercase();
            let many = if lower.contains("range") {
                lower.replace("range", "multirange")
            } else {
                format!("{lower}_multirange")
            };
            self.made.functions.insert(lower, true);
            self.made.functions.insert(many, true);
            return self.now();
        }
        if code.is(next, "AS") && (code.sign(next + 1, b'(') || code.is(next + 1, "ENUM")) {
            self.runs(next + 2..code.len())?;
            return self.now();
        }
        Err(Refused::new("a type with functions of its own would reach outside of the database"))
    }

    fn create_extension(&mut self, at: usize) -> Result<Vec<Verdict>, Refused> {
        let code = self.code;
        let at = self.condition(at);
        let name = code.name(at).unwrap_or_default();
        if !has(harmless::POSTGRES_EXTENSIONS, &name) {
            return Err(Refused::new(format!(
                "the extension {name} is not on the list of those that reach neither files nor other servers; \
                 if the site needs it, let the server's admin make it and take the line out of the dump"
            )));
        }
        let mut next = at + 1;
        while next < code.len() {
            next += match code.word(next) {
                "WITH" | "CASCADE" => 1,
                "SCHEMA" => {
                    let schema = code.name(next + 1).unwrap_or_default();
                    if schema != "pg_catalog" {
                        target(code, next + 1)?;
                    } else if name != "plpgsql" {
                        return self.refuse();
                    }
                    2
                }
                "VERSION" => 2,
                _ => return self.refuse(),
            };
        }
        if name == "plpgsql" {
            return Ok(vec![Verdict::Nothing]);
        }
        Ok(vec![Verdict::IfPossible(
            self.vetted(),
            "ask the server's admin to make the extension, if the site needs it",
        )])
    }

    fn create_trigger(&mut self, at: usize) -> Result<Vec<Verdict>, Refused> {
        let code = self.code;
        let name = code.name(at).unwrap_or_default();
        let on = code.find(at..code.len(), "ON").ok_or_else(|| Refused::new("the trigger names no table"))?;
        let (_, next) = target(code, on + 1)?;
        let does =
            code.find(next..code.len(), "EXECUTE").ok_or_else(|| Refused::new("the trigger does nothing"))?;
        self.stored(next..does)?;
        let (names, end) = code.chain(does + 2).ok_or_else(|| Refused::new("the trigger does nothing"))?;
        let function = names.last().map(|n| n.to_lowercase()).unwrap_or_default();
        let own = self.made.functions.contains_key(&function)
            && names.first().is_none_or(|n| n != "pg_catalog" || names.len() == 1);
        if !own && !has(harmless::POSTGRES_TRIGGERS, &function) {
            self.made.wanted.entry(function).or_insert(self.line);
        }
        if !code.sign(end, b'(') || code.closing(end)? + 1 != code.len() {
            return Err(Refused::new("the trigger says more than what it calls"));
        }
        self.later(Phase::Trigger, name)
    }

    fn alter(&mut self) -> Result<Vec<Verdict>, Refused> {
        let code = self.code;
        let owner =
            code.find(0..code.len(), "OWNER").is_some_and(|i| code.is(i + 1, "TO") && i + 3 >= code.len());
        match code.word(1) {
            "DEFAULT" if code.is(2, "PRIVILEGES") => Ok(vec![Verdict::Nothing]),
            "DATABASE" => {
                let name = code.name(2).unwrap_or_default();
                self.made.database(&name)?;
                Ok(vec![Verdict::Nothing])
            }
            "TABLE" => self.alter_table(owner),
            "SYSTEM" | "ROLE" | "USER" | "GROUP" | "EXTENSION" | "EVENT" | "SERVER" | "PUBLICATION"
            | "SUBSCRIPTION" | "TABLESPACE" | "LARGE" | "OPERATOR" | "LANGUAGE" => self.refuse(),
            _ if owner => Ok(vec![Verdict::Nothing]),
            "SEQUENCE" => {
                let (_, next) = target(code, self.condition(2))?;
                if code.are(next, &["OWNED", "BY"]) {
                    if !code.is(next + 2, "NONE") {
                        code.chain(next + 2).ok_or_else(|| Refused::new("the sequence is not read"))?;
                    }
                } else if (next..code.len())
                    .any(|i| code.sign(i, b'(') || has("RENAME SCHEMA OWNER", code.word(i)))
                {
                    return self.refuse();
                }
                self.now()
            }
            "INDEX" => {
                let (_, next) = target(code, self.condition(2))?;
                if !(code.are(next, &["ATTACH", "PARTITION"])
                    || code.is(next, "SET")
                    || code.is(next, "ALTER"))
                {
                    return self.refuse();
                }
                self.later(Phase::Behind, String::new())
            }
            "VIEW" | "MATERIALIZED" => {
                let at = if code.is(1, "VIEW") { 2 } else { 3 };
                let (name, next) = target(code, self.condition(at))?;
                if !has("SET ALTER CLUSTER", code.word(next)) || code.is(next + 1, "SCHEMA") {
                    return self.refuse();
                }
                self.stored(next..code.len())?;
                self.later(Phase::Behind, name)
            }
            "TYPE" => {
                let (_, next) = target(code, 2)?;
                if !code.are(next, &["ADD", "VALUE"]) {
                    return self.refuse();
                }
                self.now()
            }
            "DOMAIN" => {
                let (_, next) = target(code, 2)?;
                if !has("ADD SET VALIDATE", code.word(next)) || code.is(next + 1, "SCHEMA") {
                    return self.refuse();
                }
                self.runs(next..code.len())?;
                self.now()
            }
            "TEXT" if code.are(2, &["SEARCH", "CONFIGURATION"]) => {
                let (_, next) = target(code, 4)?;
                if !has("ADD ALTER", code.word(next)) {
                    return self.refuse();
                }
                self.now()
            }
            "STATISTICS" => self.now(),
            _ => self.refuse(),
        }
    }

    fn alter_table(&mut self, owner: bool) -> Result<Vec<Verdict>, Refused> {
        let code = self.code;
        let mut at = self.condition(2);
        at += usize::from(code.is(at, "ONLY"));
        let (table, next) = target(code, at)?;
        if owner {
            return Ok(vec![Verdict::Nothing]);
        }
        let mut phase = self.made.views.contains(&table).then_some(Phase::Behind);
        let mut drops = false;
        for item in code.items(next..code.len())? {
            let (first, second) = (code.word(item.start), code.word(item.start + 1));
            match (first, second) {
                (
                    "ADD",
                    "GENERATED" | "CONSTRAINT" | "PRIMARY" | "UNIQUE" | "FOREIGN" | "CHECK" | "EXCLUDE",
                ) => {
                    self.runs(item.start + 1..item.end)?;
                }
                ("ADD", _) => {
                    let column = item.start + 1 + usize::from(second == "COLUMN");
                    if self.column(self.condition(column)..item.end)?.is_some() {
                        phase = phase.max(Some(Phase::Behind));
                    }
                }
                ("ALTER", _) => {
                    let column = item.start + 1 + usize::from(second == "COLUMN");
                    let action = column + 1;
                    match (code.word(action), code.word(action + 1)) {
                        ("SET", "DEFAULT") => {
                            let called = calls(code, action + 2..item.end, &self.made.functions)?;
                            if let Some(call) = called.unknown.first() {
                                return Err(Refused::new(format!("it calls {call}()")));
                            }
                            if called.own.iter().any(|f| self.made.functions.get(f) != Some(&true)) {
                                phase = phase.max(Some(Phase::Behind));
                            }
                        }
                        ("DROP", "DEFAULT" | "NOT" | "IDENTITY" | "EXPRESSION") => drops = true,
                        ("SET", "NOT" | "STATISTICS" | "STORAGE" | "COMPRESSION" | "GENERATED") => {}
                        ("SET", "") if code.sign(action + 1, b'(') => {}
                        ("ADD", "GENERATED") => {
                            // `SEQUENCE NAME x` names a thing of the site.
                            if let Some(at) = code.find(action..item.end, "NAME") {
                                target(code, at + 1)?;
                            }
                        }
                        ("TYPE", _) | ("SET", "DATA") => self.runs(action..item.end)?,
                        _ => return self.unread(first, code.word(action)),
                    }
                }
                ("ATTACH", "PARTITION") => {
                    let (_, next) = target(code, item.start + 2)?;
                    self.runs(next..item.end)?;
                }
                ("ENABLE" | "DISABLE" | "FORCE" | "NO", _) => {
                    if !has("TRIGGER RULE ROW REPLICA ALWAYS FORCE", second) {
                        return self.unread(first, second);
                    }
                    phase = Some(Phase::Last);
                }
                ("REPLICA", "IDENTITY") | ("VALIDATE", "CONSTRAINT") | ("CLUSTER", "ON") => {
                    phase = phase.max(Some(Phase::Behind));
                }
                ("INHERIT", _) => drop(target(code, item.start + 1)?),
                ("SET", "WITHOUT" | "LOGGED" | "UNLOGGED") => {}
                ("SET", "") if code.sign(item.start + 1, b'(') => {}
                ("DROP", "CONSTRAINT") => drops = true,
                _ => return self.unread(first, second),
            }
        }
        // The database was empty: there is nothing to be dropped but what the dump made.
        if drops && !self.made.things.contains(&table) {
            return Ok(vec![Verdict::Nothing]);
        }
        phase.map_or_else(|| self.now(), |phase| self.later(phase, table))
    }

    fn unread<T>(&self, first: &str, second: &str) -> Result<T, Refused> {
        Err(Refused::new(format!("ALTER TABLE … {first} {second} is no statement of a site's dump")))
    }

    /// The database is empty when a load begins, so that there is nothing to be dropped but what the dump made itself.
    fn drop(&mut self) -> Result<Vec<Verdict>, Refused> {
        let code = self.code;
        let mut at = 1;
        match code.word(1) {
            "TABLE" | "VIEW" | "SEQUENCE" | "INDEX" | "FUNCTION" | "PROCEDURE" | "AGGREGATE" | "TYPE"
            | "DOMAIN" | "TRIGGER" | "RULE" | "POLICY" | "SCHEMA" | "EXTENSION" | "STATISTICS"
            | "COLLATION" | "CONSTRAINT" => at += 1,
            "MATERIALIZED" if code.is(2, "VIEW") => at += 2,
            "TEXT" if code.is(2, "SEARCH") => at += 3,
            "DATABASE" => {
                let name = code.name(self.condition(2)).unwrap_or_default();
                self.made.database(&name)?;
                return Ok(vec![Verdict::Nothing]);
            }
            _ => return self.refuse(),
        }
        let mut at = self.condition(at);
        let mut known = false;
        loop {
            let (name, mut next) = match code.word(1) {
                "EXTENSION" => (code.name(at).unwrap_or_default(), at + 1),
                _ => target(code, at)?,
            };
            if code.sign(next, b'(') {
                next = code.closing(next)? + 1;
            }
            if code.is(next, "ON") {
                next = target(code, next + 1)?.1;
            }
            known |= self.made.things.contains(&name) && code.word(1) != "SCHEMA";
            at = next;
            if !code.sign(at, b',') {
                break;
            }
            at += 1;
        }
        at += usize::from(has("CASCADE RESTRICT", code.word(at)));
        if at != code.len() {
            return Err(Refused::new("DROP says more than names"));
        }
        if known { self.now() } else { Ok(vec![Verdict::Nothing]) }
    }

    fn comment(&mut self) -> Result<Vec<Verdict>, Refused> {
        let code = self.code;
        if !code.is(1, "ON") {
            return self.refuse();
        }
        let mut at = 3;
        match code.word(2) {
            "TABLE" | "COLUMN" | "VIEW" | "INDEX" | "SEQUENCE" | "TYPE" | "DOMAIN" | "SCHEMA"
            | "FUNCTION" | "PROCEDURE" | "AGGREGATE" | "CONSTRAINT" | "TRIGGER" | "RULE" | "POLICY"
            | "STATISTICS" | "COLLATION" => {}
            "MATERIALIZED" => at = 4,
            "TEXT" => at = 5,
            "EXTENSION" => return Ok(vec![Verdict::Nothing]),
            "DATABASE" => {
                let name = code.name(3).unwrap_or_default();
                self.made.database(&name)?;
                return Ok(vec![Verdict::Nothing]);
            }
            _ => return self.refuse(),
        }
        if code.is(2, "COLUMN") {
            // `schema.table.column` or `table.column`.
            let (names, next) = code.chain(at).ok_or_else(|| Refused::new("the comment is not read"))?;
            if names.len() > 3 || names[0].starts_with("pg_") || names[0] == "information_schema" {
                return Err(Refused::new("the comment concerns a thing of the server"));
            }
            at = next;
        } else {
            at = target(code, at)?.1;
        }
        if code.sign(at, b'(') {
            at = code.closing(at)? + 1;
        }
        if code.is(at, "ON") {
            at = target(code, at + 1 + usize::from(code.is(at + 1, "DOMAIN")))?.1;
        }
        if !code.is(at, "IS")
            || at + 2 != code.len()
            || !(code.kind(at + 1) == Some(TokenKind::Text) || code.is(at + 1, "NULL"))
        {
            return Err(Refused::new("the comment is not read"));
        }
        self.later(Phase::Last, String::new())
    }
}
