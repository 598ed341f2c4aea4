//! What queries, expressions and stored bodies of MySQL and MariaDB name and call.
//!
//! A walk over tokens that knows where a table is named (so that `a.b` is told to be a table of the database `a`, not a column of the table
//! `a`), where a statement of a body begins, and which words in front of a bracket are no calls.

use super::Refused;
use super::code::{Code, TokenKind};
use super::harmless::{self, has};
use std::collections::BTreeSet;
use std::ops::Range;

/// A database that is named, with the stretch of the text that names it, dot included.
pub(super) type Database = (String, Range<usize>);

/// What was found.
#[derive(Debug, Default)]
pub(super) struct Found {
    /// Databases that are named.
    pub(super) databases: Vec<Database>,
    /// Calls that are on no list, in lower case.
    pub(super) calls: BTreeSet<String>,
    /// Whether statements are put together while it runs, where nobody can look into them.
    pub(super) dynamic: bool,
    /// Views, tables and functions that are named.
    pub(super) names: BTreeSet<String>,
}

/// What is walked through.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Sort {
    /// Values, without a question to tables.
    Expression,
    /// One query.
    Query,
    /// Statements that are stored.
    Body,
}

/// Words in front of a bracket that are no calls.
const NO_CALLS: &str = "
ALL AND ANY AS AGAINST BETWEEN BINARY BY CASE CHECK COLLATE COLUMNS CYCLE DEFAULT DISTINCT DISTINCTROW DIV DO DUPLICATE ELSE ELSEIF END ESCAPE EXCEPT EXISTS
FOR FORCE FROM HAVING IGNORE IN INDEX INTERSECT INTERVAL INTO IS JOIN KEY LATERAL LIKE LIMIT MATCH MINUS NOT OF OFFSET ON OR ORDER OVER PARTITION
PRIMARY RANGE RECURSIVE REFERENCES REGEXP RETURN RETURNS RLIKE ROW ROWS SELECT SET SOME SOUNDS STRAIGHT_JOIN TABLE THEN UNION UNIQUE UNTIL UPDATE USE
USING VALUE VALUES WHEN WHERE WHILE WINDOW WITH XOR INNER CROSS NATURAL OUTER FULLTEXT SPATIAL GENERATED ALWAYS VIRTUAL PERSISTENT STORED CONSTRAINT FOREIGN LESS THAN";

/// Types, which take lengths in brackets.
const TYPES: &str = "
BIGINT BINARY BIT BLOB BOOL BOOLEAN CHAR CHARACTER DATE DATETIME DEC DECIMAL DOUBLE ENUM FIXED FLOAT FLOAT4 FLOAT8 GEOMETRY INET4 INET6 INT INT1 INT2
INT3 INT4 INT8 INTEGER JSON LONG LONGBLOB LONGTEXT MEDIUMBLOB MEDIUMINT MEDIUMTEXT MIDDLEINT NATIONAL NCHAR NUMBER NUMERIC NVARCHAR PRECISION RAW REAL
SERIAL SET SIGNED SMALLINT TEXT TIME TIMESTAMP TINYBLOB TINYINT TINYTEXT UNSIGNED UUID VARBINARY VARCHAR VARCHAR2 VARCHARACTER VARYING VECTOR YEAR";

/// Says whether a word in front of a bracket is part of the language.
pub(super) fn is_language(word: &str) -> bool {
    has(NO_CALLS, word) || has(TYPES, word)
}

/// Statements that a body may hold.
const STATEMENTS: &str = "
SELECT INSERT UPDATE DELETE REPLACE SET RETURN CALL OPEN FETCH CLOSE LEAVE ITERATE SIGNAL RESIGNAL GET COMMIT ROLLBACK START SAVEPOINT RELEASE
PREPARE EXECUTE DEALLOCATE TRUNCATE DO WITH VALUES CREATE DROP ALTER ANALYZE OPTIMIZE CHECK REPAIR SHOW EXPLAIN DESCRIBE";

/// Words that have no business in anything that is loaded.
const NEVER: &str = "OUTFILE DUMPFILE GRANT REVOKE LOAD";

#[derive(Debug, Clone, Copy, Default)]
struct Frame {
    /// Whether tables are listed here.
    from: bool,
    /// Whether the next name is a table's.
    table: bool,
    /// Whether the bracket belongs to a function with a `FROM` of its own.
    function: bool,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Block {
    Begin,
    If,
    Case,
    Loop,
    /// A `CASE` that is a value.
    Value,
}

struct Walk<'c, 's> {
    code: &'c Code<'s>,
    sort: Sort,
    frames: Vec<Frame>,
    blocks: Vec<Block>,
    found: Found,
}

/// Walks through a range of a statement.
pub(super) fn walk(code: &Code<'_>, range: Range<usize>, sort: Sort) -> Result<Found, Refused> {
    let mut walk =
        Walk { code, sort, frames: vec![Frame::default()], blocks: Vec::new(), found: Found::default() };
    if sort == Sort::Body {
        walk.body(range)?
    } else {
        walk.plain(range)?
    }
    Ok(walk.found)
}

impl Walk<'_, '_> {
    fn plain(&mut self, range: Range<usize>) -> Result<(), Refused> {
        let mut at = range.start;
        while at < range.end {
            if self.code.sign(at, b';') {
                return Err(Refused::new("a second statement hides in this one"));
            }
            at = self.element(at, range.end)?;
        }
        Ok(())
    }

    fn top(&mut self) -> &mut Frame {
        if self.frames.is_empty() {
            self.frames.push(Frame::default());
        }
        let last = self.frames.len() - 1;
        &mut self.frames[last]
    }

    /// Looks at one token, or at the names that are chained there. Returns where the next begins.
    fn element(&mut self, at: usize, end: usize) -> Result<usize, Refused> {
        let code = self.code;
        match code.kind(at) {
            Some(TokenKind::Sign(b'(')) => {
                let calls = [
                    "EXTRACT",
                    "TRIM",
                    "SUBSTRING",
                    "SUBSTR",
                    "MID",
                    "POSITION",
                    "CONVERT",
                    "CHAR",
                    "OVERLAY",
                ];
                let function = at > 0 && calls.contains(&code.word(at - 1));
                let top = *self.top();
                self.top().table = false;
                self.frames.push(Frame { from: top.table, table: top.table, function });
            }
            Some(TokenKind::Sign(b')')) => {
                if self.frames.len() == 1 {
                    return Err(Refused::new("a bracket is closed that was not opened"));
                }
                self.frames.pop();
            }
            Some(TokenKind::Sign(b',')) => {
                let top = self.top();
                top.table = top.from;
            }
            Some(TokenKind::Variable) => {
                let name = code.written(at).to_ascii_lowercase();
                if self.sort == Sort::Body && ["@@global", "@@persist"].iter().any(|v| name.starts_with(v)) {
                    return Err(Refused::new("a setting of the whole server is touched"));
                }
            }
            Some(TokenKind::Word | TokenKind::Name) => return self.named(at, end),
            Some(TokenKind::Text) if !self.top().table || code.name(at).is_none() => {}
            Some(TokenKind::Text) => return self.named(at, end),
            _ => {}
        }
        Ok(at + 1)
    }

    fn named(&mut self, at: usize, end: usize) -> Result<usize, Refused> {
        let code = self.code;
        let word = code.word(at);
        if has(NEVER, word) {
            return Err(Refused::new(format!("{word} reaches outside of the database")));
        }
        let clause = self.clause(at)?;
        if clause {
            return Ok(at + 1);
        }
        let Some((names, mut next)) = code.chain(at) else { return Ok(at + 1) };
        let mut parts = names.len();
        if code.sign(next, b'.') && code.sign(next + 1, b'*') {
            (parts, next) = (parts + 1, next + 2);
        }
        let called = next < end && code.sign(next, b'(') && parts == names.len();
        let table = std::mem::take(&mut self.top().table);
        let is_call = called && !table && !(parts == 1 && self.lists_columns(at, next));
        let qualified = if table || is_call { parts > 1 } else { parts > 2 };
        if qualified && !(names[0].eq_ignore_ascii_case("NEW") || names[0].eq_ignore_ascii_case("OLD")) {
            self.found.databases.push((names[0].clone(), code.span(at).start..code.span(at + 2).start));
        }
        if parts > 3 {
            return Err(Refused::new("a name has more parts than a name can have"));
        }
        let last = names.last().cloned().unwrap_or_default();
        if is_call {
            let lower = last.to_lowercase();
            let language = parts == 1 && code.kind(at) == Some(TokenKind::Word) && is_language(word);
            let stored = self.sort == Sort::Body && has(harmless::MYSQL_STORED, &lower);
            if !language && (parts > 1 || !harmless::mysql(&lower) && !stored) {
                self.found.calls.insert(lower);
            }
        }
        if table {
            self.found.names.insert(last);
        }
        Ok(next)
    }

    /// Says whether the name there has a list of columns behind it: of a common table expression, or of an alias.
    fn lists_columns(&self, at: usize, next: usize) -> bool {
        let code = self.code;
        let Ok(close) = code.closing(next) else { return false };
        // `name (a, b) AS (`, behind `WITH`, a comma or `AS`.
        let with = code.is(close + 1, "AS") && code.sign(close + 2, b'(');
        let alias = at > 0 && code.is(at - 1, "AS");
        let mut inside = next + 1..close;
        (with || alias) && inside.all(|i| code.sign(i, b',') || code.name(i).is_some())
    }

    /// Takes a word that opens or closes a clause. Returns true if it is nothing else.
    fn clause(&mut self, at: usize) -> Result<bool, Refused> {
        let code = self.code;
        let word = code.word(at);
        let before = if at > 0 { code.word(at - 1) } else { "" };
        // Behind a dot everything is a name.
        if word.is_empty() || (at > 0 && code.sign(at - 1, b'.')) || code.sign(at + 1, b'.') {
            return Ok(false);
        }
        if self.sort == Sort::Expression
            && has("SELECT TABLE INTO HANDLER FROM", word)
            && !self.top().function
        {
            return Err(Refused::new(format!("{word} reads from elsewhere")));
        }
        let top = self.top();
        match word {
            "SELECT" => *top = Frame { function: top.function, ..Frame::default() },
            "FROM" if top.function => {}
            "FROM" => (top.from, top.table) = (true, true),
            "JOIN" | "STRAIGHT_JOIN" => (top.from, top.table) = (true, true),
            "INTO" | "TABLE" | "TABLES" | "CALL" | "TRUNCATE" => top.table = true,
            "UPDATE" if !matches!(before, "KEY" | "FOR" | "ON" | "BEFORE" | "AFTER") => {
                (top.from, top.table) = (true, true);
            }
            "LOW_PRIORITY" | "DELAYED" | "HIGH_PRIORITY" | "IGNORE" | "LATERAL" | "IF" | "NOT" | "EXISTS"
                if top.table && !code.sign(at + 1, b'(') => {}
            "SET" | "WHERE" | "GROUP" | "HAVING" | "ORDER" | "LIMIT" | "UNION" | "EXCEPT" | "INTERSECT"
            | "WINDOW" | "VALUES" | "ON" | "USING"
                if !code.sign(at + 1, b'(') || !harmless::mysql(&word.to_lowercase()) || word == "VALUES" =>
            {
                // Behind `ON` and `USING` a comma still goes on with tables.
                top.table = false;
                top.from &= matches!(word, "ON" | "USING");
            }
            _ => return Ok(false),
        }
        Ok(!code.sign(at + 1, b'(') || !harmless::mysql(&word.to_lowercase()) || word == "VALUES")
    }

    fn body(&mut self, range: Range<usize>) -> Result<(), Refused> {
        let code = self.code;
        let (mut at, end) = (range.start, range.end);
        let (mut starts, mut over) = (true, false);
        while at < end {
            if code.sign(at, b';') {
                at += 1;
                starts = true;
                over |= self.blocks.is_empty();
                continue;
            }
            if over {
                return Err(Refused::new("a second statement hides behind the body"));
            }
            if starts {
                // `END` of the outermost block ends the whole.
                let ends = code.is(at, "END");
                (at, starts) = self.begin(at, end)?;
                over |= ends && self.blocks.is_empty();
                continue;
            }
            let word = code.word(at);
            let value = self.blocks.last() == Some(&Block::Value);
            let behind_dot = code.sign(at.wrapping_sub(1), b'.');
            match word {
                _ if behind_dot => {}
                "CASE" => self.blocks.push(Block::Value),
                "END" if value => drop(self.blocks.pop()),
                // Behind the condition of a `REPEAT`.
                "END" if self.blocks.last() == Some(&Block::Loop) => {
                    starts = true;
                    continue;
                }
                "END" => return Err(Refused::new("the blocks of the body do not fit together")),
                "THEN" | "ELSE" if !value => starts = true,
                "DO" if self.blocks.last() == Some(&Block::Loop) => starts = true,
                _ => {
                    at = self.element(at, end)?;
                    continue;
                }
            }
            at += 1;
        }
        if self.blocks.is_empty() { Ok(()) } else { Err(Refused::new("the body is not whole")) }
    }

    /// Reads the beginning of a statement of a body. Returns where to go on, and whether a statement begins there.
    fn begin(&mut self, at: usize, end: usize) -> Result<(usize, bool), Refused> {
        let code = self.code;
        self.frames = vec![Frame::default()];
        if code.sign(at + 1, b':') && !code.sign(at + 2, b'=') && code.name(at).is_some() {
            return Ok((at + 2, true));
        }
        if code.sign(at, b'(') {
            return Ok((at, false));
        }
        let word = code.word(at);
        let block = match word {
            "BEGIN" => Some((Block::Begin, true)),
            "IF" => Some((Block::If, false)),
            "CASE" => Some((Block::Case, false)),
            "LOOP" | "REPEAT" => Some((Block::Loop, true)),
            "WHILE" | "FOR" => Some((Block::Loop, false)),
            _ => None,
        };
        if let Some((block, starts)) = block {
            self.blocks.push(block);
            let atomic = if code.are(at + 1, &["NOT", "ATOMIC"]) { 2 } else { 0 };
            return Ok((at + 1 + atomic, starts));
        }
        match word {
            "ELSE" | "EXCEPTION" => Ok((at + 1, true)),
            "ELSEIF" | "WHEN" | "UNTIL" => Ok((at + 1, false)),
            "END" => {
                if self.blocks.pop().is_none_or(|b| b == Block::Value) {
                    return Err(Refused::new("the blocks of the body do not fit together"));
                }
                let mut next = at + 1;
                if has("IF CASE LOOP WHILE REPEAT FOR", code.word(next)) {
                    next += 1;
                }
                if next < end && code.name(next).is_some() {
                    next += 1;
                }
                if next < end && !code.sign(next, b';') {
                    return Err(Refused::new("a second statement hides behind the body"));
                }
                Ok((next, true))
            }
            "DECLARE" if code.is(at + 2, "HANDLER") => Ok((handled(code, at + 4, end), true)),
            "DECLARE" => Ok((at + 1, false)),
            _ if !has(STATEMENTS, word) => {
                Err(Refused::new(format!("{} is no statement of a body", code.written(at))))
            }
            "CREATE" | "DROP" | "ALTER" => self.define(at),
            "SET" => {
                if has("GLOBAL PERSIST PERSIST_ONLY PASSWORD ROLE", code.word(at + 1))
                    && !code.sign(at + 2, b'=')
                    || code.are(at + 1, &["DEFAULT", "ROLE"])
                {
                    return Err(Refused::new(format!(
                        "SET {} reaches outside of the database",
                        code.word(at + 1)
                    )));
                }
                Ok((at + 1, false))
            }
            "PREPARE" | "EXECUTE" => {
                self.found.dynamic = true;
                Ok((at + 1, false))
            }
            "INSERT" | "REPLACE" => {
                self.top().table = true;
                Ok((at + 1, false))
            }
            "UPDATE" | "CALL" | "TRUNCATE" => {
                self.clause(at)?;
                self.top().table = true;
                Ok((at + 1, false))
            }
            _ => {
                self.clause(at)?;
                Ok((at + 1, false))
            }
        }
    }

    /// Lets a body make, change and drop tables, indexes and views, and nothing else.
    fn define(&mut self, at: usize) -> Result<(usize, bool), Refused> {
        let code = self.code;
        let mut next = at + 1;
        while has("OR REPLACE TEMPORARY UNIQUE IGNORE ONLINE OFFLINE", code.word(next)) {
            next += 1;
        }
        let word = code.word(next);
        if !has("TABLE INDEX VIEW", word) {
            return Err(Refused::new(format!("{} {word} is no statement of a body", code.word(at))));
        }
        let range = next..code.len();
        let ends = range.clone().find(|i| code.sign(*i, b';')).unwrap_or(range.end);
        let risky = "RENAME EXCHANGE DIRECTORY CONNECTION TABLESPACE UNION ENGINE LIKE";
        if word != "VIEW" && (next..ends).any(|i| has(risky, code.word(i))) {
            return Err(Refused::new(format!(
                "{} {word} in a body says more than can be vetted",
                code.word(at)
            )));
        }
        self.top().table = true;
        Ok((next + 1, false))
    }
}

/// Returns where the statement of a handler begins, behind the conditions that begin there.
fn handled(code: &Code<'_>, mut at: usize, end: usize) -> usize {
    while at < end {
        at += match code.word(at) {
            "SQLSTATE" => 1 + usize::from(code.is(at + 1, "VALUE")) + 1,
            "NOT" => 2,
            _ => 1,
        };
        if !code.sign(at, b',') {
            break;
        }
        at += 1;
    }
    at
}
