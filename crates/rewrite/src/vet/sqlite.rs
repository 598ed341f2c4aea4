//! The guard of SQLite. One file is one database: what leads out of it are attached files, extensions, virtual tables and the list of tables
//! itself.

use super::code::{Code, TokenKind};
use super::harmless::{self, has};
use super::{Phase, Refused, Verdict, Vetted};
use crate::dump::literal::Quoting;
use std::ops::Range;

/// Virtual tables that hold their content in tables of this database.
const MODULES: &str = "FTS3 FTS4 FTS5 RTREE RTREE_I32 GEOPOLY";

/// Words in front of a bracket that are no calls, types included.
const NO_CALLS: &str = "
ALL AND AS BETWEEN BY CASE CHECK COLLATE CONFLICT CONSTRAINT CROSS DEFAULT DELETE DISTINCT DO ELSE END ESCAPE EXCEPT EXISTS FILTER FOREIGN FROM GENERATED ALWAYS
GROUP HAVING IN INNER INSERT INTERSECT INTO IS JOIN KEY LEFT LIKE GLOB LIMIT MATERIALIZED MATCH NATURAL NOT NULL OF OFFSET ON OR ORDER OUTER OVER PARTITION PRIMARY
REFERENCES REGEXP RETURNING SELECT SET TABLE THEN UNION UNIQUE UPDATE USING VALUES WHEN WHERE WINDOW WITH STORED VIRTUAL VIEW INDEX TRIGGER ROW ROWS RANGE";

/// Vets a statement that is no insert in rows.
pub fn statement(text: &str, quoting: Quoting) -> Result<Verdict, Refused> {
    let code = Code::read(text.trim_end(), quoting, true)?;
    if !code.is(0, "CREATE") && (0..code.len()).any(|i| code.sign(i, b';')) {
        return Err(Refused::new("a second statement hides in this one"));
    }
    let guard = Guard(&code);
    let whole = || Vetted::new(code.text);
    match code.word(0) {
        "" if code.len() == 0 => Ok(Verdict::Nothing),
        "BEGIN" | "COMMIT" | "END" | "ANALYZE" => Ok(Verdict::Nothing),
        "CREATE" => guard.create(),
        "ALTER" if code.is(1, "TABLE") => {
            let (_, next) = guard.name(2)?;
            if !has("ADD", code.word(next)) {
                return Err(Refused::new(format!(
                    "ALTER TABLE … {} is no statement of a dump",
                    code.word(next)
                )));
            }
            guard.calls(next..code.len())?;
            Ok(Verdict::Now(whole()))
        }
        "DROP" if has("TABLE INDEX VIEW TRIGGER", code.word(1)) => {
            let (_, next) = guard.name(guard.condition(2))?;
            if next != code.len() {
                return Err(Refused::new("DROP says more than a name"));
            }
            Ok(Verdict::Now(whole()))
        }
        "INSERT" | "REPLACE" => {
            let at = insert_columns(&code)?;
            if !(code.is(at, "VALUES") || code.are(at, &["DEFAULT", "VALUES"])) {
                return Err(Refused::new("an insert that is more than rows is not loaded"));
            }
            plain_values(&code, at..code.len())?;
            Ok(Verdict::Now(whole()))
        }
        "DELETE"
            if code.is(1, "FROM")
                && code.name(2).is_some_and(|n| n.eq_ignore_ascii_case("sqlite_sequence"))
                && code.len() == 3 =>
        {
            Ok(Verdict::Now(whole()))
        }
        "PRAGMA" => guard.pragma(),
        _ => {
            Err(Refused::new(format!("{} is no statement of a site's dump", code.written(0).to_uppercase())))
        }
    }
}

/// Vets the beginning of an insert in rows.
pub fn insert_head(text: &str, quoting: Quoting) -> Result<Vetted, Refused> {
    let code = Code::read(text, quoting, false)?;
    let at = insert_columns(&code)?;
    if !code.is(at, "VALUES") || at + 1 != code.len() {
        return Err(Refused::new("the beginning of the insert says more than table and columns"));
    }
    Ok(Vetted::new(text))
}

/// Vets a row of the list of tables, by which the shell writes a virtual table: the statement that makes it, and its name.
pub fn listed(values: &[Option<String>], quoting: Quoting) -> Result<(String, Vetted), Refused> {
    let [Some(kind), Some(name), Some(table), _, Some(sql)] = values else {
        return Err(Refused::new("the row of the list of tables is not read"));
    };
    let code = Code::read(sql, quoting, false)?;
    if kind != "table" || name != table || !code.are(0, &["CREATE", "VIRTUAL", "TABLE"]) {
        return Err(Refused::new("a row of the list of tables makes something other than a virtual table"));
    }
    let (made, _) = Guard(&code).name(3)?;
    match Guard(&code).create()? {
        Verdict::Now(vetted) if made == *name => Ok((made, vetted)),
        _ => Err(Refused::new("a row of the list of tables makes a table of another name")),
    }
}

/// Vets a value of a row.
pub fn value(text: &str, quoting: Quoting) -> Result<(), Refused> {
    let code = Code::read(text, quoting, false)?;
    plain_values(&code, 0..code.len())
}

/// Vets what follows the last row.
pub fn tail(text: &str, quoting: Quoting) -> Result<(), Refused> {
    match Code::read(text, quoting, false)?.len() {
        0 => Ok(()),
        _ => Err(Refused::new("what follows the rows is no part of a dump")),
    }
}

fn plain_values(code: &Code<'_>, range: Range<usize>) -> Result<(), Refused> {
    if let Some(word) = range.clone().map(|i| code.word(i)).find(|w| has("SELECT WITH RETURNING FROM", w)) {
        return Err(Refused::new(format!("the row reads from elsewhere ({word})")));
    }
    let called = Guard(code).calls(range);
    called.map_err(|refused| Refused::new(refused.what().replacen("it calls", "the row calls", 1)))
}

fn insert_columns(code: &Code<'_>) -> Result<usize, Refused> {
    let mut at = 1;
    if code.is(at, "OR") {
        at += 2;
    }
    if !code.is(at, "INTO") {
        return Err(Refused::new("the insert is not read"));
    }
    let guard = Guard(code);
    // How far the counters are is part of a dump; the list of tables is not.
    let (_, at) = match code.name(at + 1) {
        Some(name) if name.eq_ignore_ascii_case("sqlite_sequence") && !code.sign(at + 2, b'.') => {
            (name, at + 2)
        }
        _ => guard.name(at + 1)?,
    };
    code.columns(at)
}

struct Guard<'c, 's>(&'c Code<'s>);

impl Guard<'_, '_> {
    /// A thing of this file: none of its own tables, and none of an attached file.
    fn name(&self, at: usize) -> Result<(String, usize), Refused> {
        let code = self.0;
        // SQLite itself writes the names of tables that keep a virtual one's rows as texts.
        let text = code.written(at).strip_prefix('\'').and_then(|t| t.strip_suffix('\''));
        let (mut names, next) = match text {
            Some(text) if code.kind(at) == Some(TokenKind::Text) && !code.sign(at + 1, b'.') => {
                (vec![text.replace("''", "'")], at + 1)
            }
            _ => code.chain(at).ok_or_else(|| Refused::new(format!("{} is no name", code.written(at))))?,
        };
        let name = names.pop().unwrap_or_default();
        if let Some(file) = names.pop()
            && !file.eq_ignore_ascii_case("main")
        {
            return Err(Refused::new(format!("it names the database {file}")));
        }
        if name.to_ascii_lowercase().starts_with("sqlite_")
            && !name.to_ascii_lowercase().starts_with("sqlite_stat")
        {
            return Err(Refused::new("the statement writes to the list of tables itself"));
        }
        Ok((name, next))
    }

    fn condition(&self, at: usize) -> usize {
        match () {
            () if self.0.are(at, &["IF", "NOT", "EXISTS"]) => at + 3,
            () if self.0.are(at, &["IF", "EXISTS"]) => at + 2,
            () => at,
        }
    }

    /// Refuses calls that are on no list.
    fn calls(&self, range: Range<usize>) -> Result<(), Refused> {
        let code = self.0;
        for at in range.clone() {
            if at + 1 >= range.end
                || !code.sign(at + 1, b'(')
                || !matches!(code.kind(at), Some(TokenKind::Word | TokenKind::Name))
            {
                continue;
            }
            let word = code.word(at);
            let before = if at > 0 { code.word(at - 1) } else { "" };
            let length = code.kind(at + 2) == Some(TokenKind::Number)
                && (code.sign(at + 3, b')') || code.sign(at + 3, b','));
            let relation = has("INTO REFERENCES TABLE ON AS WITH RECURSIVE", before) && !has("ON", before)
                || before == "ON" && code.kind(at) == Some(TokenKind::Name);
            let lower = code.name(at).unwrap_or_default().to_lowercase();
            // A type such as `VARCHAR(20)` may be any word.
            if has(NO_CALLS, word)
                || relation
                || harmless::sqlite(&lower)
                || (length && !has("AS THEN ELSE WHEN", before) && is_type(code, at))
            {
                continue;
            }
            let close = code.closing(at + 1)?;
            if code.is(close + 1, "AS") && code.sign(close + 2, b'(') {
                continue;
            }
            return Err(Refused::new(format!("it calls {lower}()")));
        }
        Ok(())
    }

    fn create(&self) -> Result<Verdict, Refused> {
        let code = self.0;
        let mut at = 1;
        if has("TEMP TEMPORARY", code.word(at)) {
            return Err(Refused::new("what is temporary is no part of a dump"));
        }
        at += usize::from(code.is(at, "UNIQUE"));
        let kind = code.word(at);
        if kind == "VIRTUAL" && code.is(at + 1, "TABLE") {
            let (_, next) = self.name(self.condition(at + 2))?;
            let module = code.name(next + 1).unwrap_or_default().to_uppercase();
            if !code.is(next, "USING") || !has(MODULES, &module) {
                return Err(Refused::new("a virtual table of this kind could reach outside of the database"));
            }
            // A tokenizer may be a library.
            let (open, mut inside) = (next + 2, next + 2..code.len());
            if code.sign(open, b'(') && code.closing(open)? + 1 != code.len() {
                return Err(Refused::new("a second statement hides in this one"));
            }
            if inside.any(|i| code.sign(i, b';')) {
                return Err(Refused::new("a second statement hides in this one"));
            }
            return Ok(Verdict::Now(Vetted::new(code.text)));
        }
        let (name, next) = self.name(self.condition(at + 1))?;
        if kind != "TRIGGER" && (next..code.len()).any(|i| code.sign(i, b';')) {
            return Err(Refused::new("a second statement hides in this one"));
        }
        let whole = Vetted::new(code.text);
        match kind {
            "TABLE" => {
                if !code.sign(next, b'(') {
                    return Err(Refused::new("a table that is filled by a query is not made"));
                }
                let close = code.closing(next)?;
                for item in code.items(next + 1..close)? {
                    self.calls(item.start + 1..item.end)?;
                }
                if (close + 1..code.len())
                    .any(|i| !code.sign(i, b',') && !has("WITHOUT ROWID STRICT", code.word(i)))
                {
                    return Err(Refused::new("the table says more than its columns"));
                }
                Ok(Verdict::Now(whole))
            }
            "INDEX" => {
                if !code.is(next, "ON") {
                    return Err(Refused::new("the index names no table"));
                }
                let (_, columns) = self.name(next + 1)?;
                self.calls(columns..code.len())?;
                Ok(Verdict::Now(whole))
            }
            "VIEW" => {
                self.calls(next..code.len())?;
                Ok(Verdict::Later(Phase::View, name, whole))
            }
            "TRIGGER" => {
                self.calls(next..code.len())?;
                if (next..code.len()).any(|i| has("ATTACH DETACH PRAGMA VACUUM", code.word(i))) {
                    return Err(Refused::new("the trigger reaches outside of the database"));
                }
                Ok(Verdict::Later(Phase::Trigger, name, whole))
            }
            other => Err(Refused::new(format!("CREATE {other} is no statement of a site's dump"))),
        }
    }

    fn pragma(&self) -> Result<Verdict, Refused> {
        let code = self.0;
        let name = code.name(1).unwrap_or_default().to_lowercase();
        match name.as_str() {
            // By the last the shell writes virtual tables; it is not sent, and neither are those rows.
            "foreign_keys" | "encoding" | "writable_schema" => Ok(Verdict::Nothing),
            "user_version" | "application_id"
                if (2..code.len()).all(|i| {
                    !matches!(code.kind(i), Some(TokenKind::Word | TokenKind::Name | TokenKind::Text))
                }) =>
            {
                Ok(Verdict::Now(Vetted::new(code.text)))
            }
            _ => Err(Refused::new(format!("PRAGMA {name} is no setting of a dump"))),
        }
    }
}

/// Says whether the word there can be the type of a column: it follows the column's name.
fn is_type(code: &Code<'_>, at: usize) -> bool {
    at > 0
        && matches!(code.kind(at - 1), Some(TokenKind::Word | TokenKind::Name))
        && !has(NO_CALLS, code.word(at - 1))
}
