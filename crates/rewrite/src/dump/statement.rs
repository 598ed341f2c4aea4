//! What a statement is and which table it concerns, from its first tokens.

use super::dialect::Dialect;
use super::lex::{Lexer, Step, Token};
use std::ops::Range;
use std::sync::Arc;

/// Class of a statement. Loading allows some of them and refuses the rest.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Class {
    /// `INSERT` or `REPLACE`.
    Insert,
    /// `CREATE TABLE`.
    CreateTable,
    /// `DROP TABLE`.
    DropTable,
    /// `ALTER TABLE`.
    AlterTable,
    /// `CREATE INDEX`.
    CreateIndex,
    /// `LOCK TABLES`.
    LockTables,
    /// `UNLOCK TABLES`.
    UnlockTables,
    /// `SET`.
    Set,
    /// `USE`.
    Use,
    /// `CREATE DATABASE` and its kin.
    Database,
    /// `CREATE VIEW`.
    CreateView,
    /// `DROP VIEW`, `DROP TRIGGER`, `DROP PROCEDURE`, `DROP FUNCTION`, `DROP EVENT`.
    DropOther,
    /// `CREATE TRIGGER`.
    CreateTrigger,
    /// `CREATE PROCEDURE`, `CREATE FUNCTION`.
    CreateRoutine,
    /// `CREATE EVENT`.
    CreateEvent,
    /// `COPY … FROM stdin`, PostgreSQL's way to write rows.
    Copy,
    /// `START TRANSACTION`, `BEGIN`, `COMMIT`.
    Transaction,
    /// An empty statement.
    Empty,
    /// Anything else, by its first word.
    Other(String),
}

/// A statement as far as it matters.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Statement {
    /// Class.
    pub class: Class,
    /// Name of the table, view or database it concerns, without quotes.
    pub name: Option<String>,
    /// Database named before the table.
    pub qualifier: Option<String>,
    /// Columns, as listed or as known from the table's creation.
    pub columns: Option<Arc<[String]>>,
    /// Columns of the primary key, if known from the table's creation.
    pub key: Arc<[String]>,
}

impl Default for Statement {
    fn default() -> Self {
        Statement { class: Class::Empty, name: None, qualifier: None, columns: None, key: Arc::from([]) }
    }
}

/// Collects the first tokens of a statement until they tell what it is. Tokens are kept as spans of the statement's text, which
/// the questions are asked with.
#[derive(Debug, Default)]
pub struct Head {
    tokens: Vec<(Token, Range<usize>)>,
    /// Brackets that are open.
    depth: usize,
    insert: bool,
    /// Whether a list of columns may follow, however long.
    lists: bool,
}

/// Tokens kept at most; a view's `ALGORITHM`, `DEFINER` and `SQL SECURITY` come before its name.
const KEPT: usize = 40;

impl Head {
    /// Forgets the last statement.
    pub fn clear(&mut self) {
        self.tokens.clear();
        self.depth = 0;
        (self.insert, self.lists) = (false, false);
    }

    /// Takes a token that is not space, comment or hint.
    pub fn push(&mut self, token: Token, text: &[u8], span: Range<usize>) {
        match token {
            Token::Punct(b'(') => self.depth += 1,
            Token::Punct(b')') => self.depth = self.depth.saturating_sub(1),
            _ => {}
        }
        if self.tokens.is_empty() && token == Token::Word {
            let word = &text[span.clone()];
            self.insert = word.eq_ignore_ascii_case(b"INSERT") || word.eq_ignore_ascii_case(b"REPLACE");
            self.lists = self.insert || word.eq_ignore_ascii_case(b"COPY");
        }
        if self.tokens.len() < KEPT || self.lists {
            self.tokens.push((token, span));
        }
    }

    /// Says whether no bracket is open.
    pub fn level(&self) -> bool {
        self.depth == 0
    }

    /// Says whether the statement is an insert whose last token, a word, opens its rows: `VALUES` outside of the column list.
    pub fn opens_rows(&self, text: &[u8], dialect: Dialect) -> bool {
        let Some((Token::Word, span)) = self.tokens.last() else { return false };
        let word = &text[span.clone()];
        self.insert
            && self.depth == 0
            && self.tokens.len() > 2
            && (word.eq_ignore_ascii_case(b"VALUES")
                || (dialect == Dialect::Mysql && word.eq_ignore_ascii_case(b"VALUE")))
    }

    /// Classifies the statement.
    pub fn statement(&self, text: &[u8]) -> Statement {
        let upper = |at: usize| match self.tokens.get(at) {
            Some((Token::Word, span)) => text[span.clone()].to_ascii_uppercase(),
            _ => Vec::new(),
        };
        let mut out = Statement::default();
        if self.tokens.is_empty() {
            return out;
        }
        let first = upper(0);
        let class = match &first[..] {
            b"INSERT" | b"REPLACE" => {
                let mut at = 1;
                while matches!(
                    &upper(at)[..],
                    b"LOW_PRIORITY"
                        | b"DELAYED"
                        | b"HIGH_PRIORITY"
                        | b"IGNORE"
                        | b"INTO"
                        | b"OR"
                        | b"REPLACE"
                ) {
                    at += 1;
                }
                let at = self.name_at(text, at, &mut out);
                out.columns = self.column_list(text, at);
                Class::Insert
            }
            b"CREATE" | b"DROP" => {
                let create = first == b"CREATE";
                let mut at = 1;
                let class = loop {
                    let word = upper(at);
                    at += 1;
                    match (&word[..], create) {
                        (b"TABLE" | b"TABLES", true) => break Class::CreateTable,
                        (b"TABLE" | b"TABLES", false) => break Class::DropTable,
                        (b"VIEW", true) => break Class::CreateView,
                        (b"TRIGGER", true) => break Class::CreateTrigger,
                        (b"PROCEDURE" | b"FUNCTION" | b"PACKAGE", true) => break Class::CreateRoutine,
                        (b"EVENT", true) => break Class::CreateEvent,
                        (
                            b"VIEW" | b"TRIGGER" | b"PROCEDURE" | b"FUNCTION" | b"EVENT" | b"PACKAGE",
                            false,
                        ) => {
                            break Class::DropOther;
                        }
                        (b"DATABASE" | b"SCHEMA", _) => break Class::Database,
                        (b"INDEX", true) => break Class::CreateIndex,
                        (b"USER" | b"ROLE" | b"SERVER" | b"TABLESPACE" | b"LOGFILE", _) => {
                            break Class::Other(
                                String::from_utf8_lossy(&[&first[..], b" ", &word].concat()).into_owned(),
                            );
                        }
                        _ if at > self.tokens.len() => {
                            break Class::Other(String::from_utf8_lossy(&first).into_owned());
                        }
                        _ => {}
                    }
                };
                if class == Class::CreateIndex {
                    while at < self.tokens.len() && upper(at) != b"ON" {
                        at += 1;
                    }
                    at += 1;
                }
                while matches!(&upper(at)[..], b"IF" | b"NOT" | b"EXISTS") {
                    at += 1;
                }
                self.name_at(text, at, &mut out);
                class
            }
            b"COPY" => {
                let at = self.name_at(text, 1, &mut out);
                out.columns = self.column_list(text, at);
                let end = self.tokens.len();
                let from_stdin = (at..end).any(|i| upper(i) == b"FROM" && upper(i + 1) == b"STDIN");
                if from_stdin { Class::Copy } else { Class::Other("COPY".into()) }
            }
            b"ALTER" => {
                let at = 1 + usize::from(upper(1) == b"IGNORE");
                if upper(at) == b"TABLE" {
                    let skip = (at + 1..at + 4)
                        .take_while(|i| matches!(&upper(*i)[..], b"ONLY" | b"IF" | b"EXISTS"));
                    let skip = skip.count();
                    self.name_at(text, at + 1 + skip, &mut out);
                    Class::AlterTable
                } else if matches!(&upper(at)[..], b"DATABASE" | b"SCHEMA") {
                    Class::Database
                } else {
                    Class::Other("ALTER".into())
                }
            }
            b"LOCK" => {
                self.name_at(text, 2, &mut out);
                Class::LockTables
            }
            b"UNLOCK" => Class::UnlockTables,
            b"SET" => Class::Set,
            b"USE" => {
                self.name_at(text, 1, &mut out);
                Class::Use
            }
            b"START" | b"BEGIN" | b"COMMIT" => Class::Transaction,
            // What begins with no word is shown as it stands.
            _ => Class::Other(String::from_utf8_lossy(&text[self.tokens[0].1.clone()]).into_owned()),
        };
        out.class = class;
        out
    }

    /// Reads `name`, `database.name` or `database.schema.name` and returns where it ends.
    fn name_at(&self, text: &[u8], mut at: usize, out: &mut Statement) -> usize {
        let Some(first) = self.plain(text, at) else { return at };
        out.name = Some(first);
        at += 1;
        while self.tokens.get(at).is_some_and(|(t, _)| *t == Token::Punct(b'.'))
            && let Some(next) = self.plain(text, at + 1)
        {
            out.qualifier = out.name.replace(next);
            at += 2;
        }
        at
    }

    fn plain(&self, text: &[u8], at: usize) -> Option<String> {
        let (token, span) = self.tokens.get(at)?;
        match token {
            Token::Word => Some(String::from_utf8_lossy(&text[span.clone()]).into_owned()),
            Token::Name | Token::Text => Some(unquoted(&text[span.clone()])),
            _ => None,
        }
    }

    fn column_list(&self, text: &[u8], at: usize) -> Option<Arc<[String]>> {
        if self.tokens.get(at).is_none_or(|(t, _)| *t != Token::Punct(b'(')) {
            return None;
        }
        let mut names = Vec::new();
        for i in at + 1..self.tokens.len() {
            match self.tokens[i].0 {
                Token::Punct(b')') => return Some(names.into()),
                Token::Punct(_) => {}
                _ => names.push(self.plain(text, i)?),
            }
        }
        None
    }
}

/// Takes a name out of its quotes.
pub fn unquoted(name: &[u8]) -> String {
    let quote = if name[0] == b'[' { ']' } else { name[0] as char };
    let inside = String::from_utf8_lossy(&name[1..name.len().saturating_sub(1).max(1)]).into_owned();
    inside.replace(&format!("{quote}{quote}"), &quote.to_string())
}

/// Reads what a statement is.
pub fn read(sql: &[u8], dialect: Dialect) -> Statement {
    let mut lexer = Lexer::of(dialect);
    let mut head = Head::default();
    let mut at = 0;
    while at < sql.len()
        && let Step::Token(token, len) = lexer.next(&sql[at..], true)
    {
        if !matches!(
            token,
            Token::Space
                | Token::Comment
                | Token::HintOpen
                | Token::HintClose
                | Token::End
                | Token::ClientLine
        ) {
            head.push(token, sql, at..at + len);
        }
        at += len;
    }
    head.statement(sql)
}

/// What a `CREATE TABLE` statement says of a table's columns.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Created {
    /// Columns, in order.
    pub columns: Vec<String>,
    /// Columns of the primary key.
    pub key: Vec<String>,
}

/// Reads the columns and the primary key of a `CREATE TABLE` statement.
pub fn created(statement: &[u8], dialect: Dialect) -> Created {
    let mut lexer = Lexer::of(dialect);
    let mut out = Created::default();
    let (mut at, mut depth, mut item_start) = (0, 0usize, false);
    // Behind `PRIMARY KEY`: the names in brackets that follow, or the column of the item.
    let (mut primary, mut in_key) = (0, false);
    while at < statement.len() {
        let Step::Token(token, len) = lexer.next(&statement[at..], true) else { break };
        let bytes = &statement[at..at + len];
        at += len;
        let name = match token {
            Token::Space | Token::Comment | Token::HintOpen | Token::HintClose => continue,
            Token::Punct(b'(') => {
                depth += 1;
                item_start = depth == 1;
                in_key = primary == 2 && depth == 2;
                continue;
            }
            Token::Punct(b')') => {
                if in_key {
                    (in_key, primary) = (false, 0);
                }
                depth = depth.saturating_sub(1);
                item_start = false;
                continue;
            }
            Token::Punct(b',') => {
                if depth == 1 {
                    // `id int PRIMARY KEY` names no column of its own.
                    if primary == 2
                        && let Some(column) = out.columns.last()
                    {
                        out.key.push(column.clone());
                    }
                    (item_start, primary) = (true, 0);
                }
                continue;
            }
            Token::Name | Token::Text => Some(unquoted(bytes)),
            Token::Word => None,
            _ => {
                item_start = false;
                continue;
            }
        };
        if in_key {
            let column = name.unwrap_or_else(|| String::from_utf8_lossy(bytes).into_owned());
            if !column.eq_ignore_ascii_case("ASC") && !column.eq_ignore_ascii_case("DESC") {
                out.key.push(column);
            }
            continue;
        }
        if depth == 1 {
            let word = if name.is_none() { bytes.to_ascii_uppercase() } else { Vec::new() };
            primary = match &word[..] {
                b"PRIMARY" => 1,
                b"KEY" if primary == 1 => 2,
                // `PRIMARY KEY CLUSTERED (…)`, `PRIMARY KEY USING BTREE (…)`
                _ if primary == 2 => 2,
                _ => 0,
            };
            let other: [&[u8]; 11] = [
                b"PRIMARY",
                b"KEY",
                b"UNIQUE",
                b"INDEX",
                b"FULLTEXT",
                b"SPATIAL",
                b"CONSTRAINT",
                b"FOREIGN",
                b"CHECK",
                b"EXCLUDE",
                b"PERIOD",
            ];
            if item_start && !other.contains(&&word[..]) {
                out.columns.push(name.unwrap_or_else(|| String::from_utf8_lossy(bytes).into_owned()));
            }
        }
        item_start = false;
    }
    if primary == 2
        && out.key.is_empty()
        && let Some(column) = out.columns.last()
    {
        out.key.push(column.clone());
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    fn classified(sql: &str) -> Statement {
        read(sql.as_bytes(), Dialect::Mysql)
    }

    #[test]
    fn statements_are_told_by_their_heads() {
        let rows: [(&str, Class, Option<&str>); 12] = [
            ("INSERT IGNORE INTO `a``b` (`x`) VALUES (1)", Class::Insert, Some("a`b")),
            ("REPLACE INTO db.t VALUES (1)", Class::Insert, Some("t")),
            ("CREATE TABLE IF NOT EXISTS `t` (a int)", Class::CreateTable, Some("t")),
            (
                "/*!50001 CREATE ALGORITHM=UNDEFINED DEFINER=`u`@`h` SQL SECURITY DEFINER VIEW `v` AS SELECT 1 */",
                Class::CreateView,
                Some("v"),
            ),
            (
                "CREATE /*!50017 DEFINER=`u`@`%`*/ TRIGGER x BEFORE INSERT ON t FOR EACH ROW SET @a=1",
                Class::CreateTrigger,
                Some("x"),
            ),
            ("DROP TABLE IF EXISTS `t`", Class::DropTable, Some("t")),
            ("ALTER TABLE `t` ADD PRIMARY KEY (`a`)", Class::AlterTable, Some("t")),
            ("CREATE UNIQUE INDEX i ON `t` (a)", Class::CreateIndex, Some("t")),
            ("/*!40101 SET NAMES utf8 */", Class::Set, None),
            ("CREATE DATABASE `d`", Class::Database, Some("d")),
            ("GRANT ALL ON *.* TO x", Class::Other("GRANT".into()), None),
            ("CREATE USER x", Class::Other("CREATE USER".into()), Some("x")),
        ];
        for (sql, class, name) in rows {
            let s = classified(sql);
            assert_eq!((s.class, s.name.as_deref()), (class, name), "{sql}");
        }
    }

    #[test]
    fn a_list_of_columns_may_be_long_and_a_hint_for_no_version_is_nothing() {
        let columns: Vec<String> = (0..300).map(|n| format!("c{n}")).collect();
        let copy = format!("COPY public.t ({}) FROM stdin", columns.join(", "));
        let mut lexer = Lexer::of(Dialect::Postgres);
        let (mut head, mut at) = (Head::default(), 0);
        while let Step::Token(token, len) = lexer.next(&copy.as_bytes()[at..], true) {
            if token != Token::Space {
                head.push(token, copy.as_bytes(), at..at + len);
            }
            at += len;
            if at == copy.len() {
                break;
            }
        }
        let statement = head.statement(copy.as_bytes());
        assert_eq!((statement.class, statement.columns.map(|c| c.len())), (Class::Copy, Some(300)));
        let first = classified("/*M!999999\\- enable the sandbox mode */ /*!40101 SET NAMES utf8 */");
        assert_eq!(first.class, Class::Set);
    }

    #[test]
    fn columns_are_read_from_the_creation() {
        let sql = "CREATE TABLE `t` (\n `a` int(11) NOT NULL DEFAULT '1,(2)' COMMENT 'x, y',\n b enum('p','q'),\n PRIMARY KEY (`a`),\n KEY k (`b`(10)), CONSTRAINT c CHECK (`a` > 0)\n) ENGINE=InnoDB;";
        let found = created(sql.as_bytes(), Dialect::Mysql);
        assert_eq!((found.columns, found.key), (vec!["a".to_string(), "b".into()], vec!["a".to_string()]));
        let rows = [
            (
                Dialect::Postgres,
                "CREATE TABLE public.t (\n id integer NOT NULL,\n \"N x\" character varying(9) DEFAULT 'a,b'::character varying,\n p numeric(10,2)\n);",
                "id,N x,p",
                "",
            ),
            (
                Dialect::Sqlite,
                "CREATE TABLE IF NOT EXISTS \"t\" (id INTEGER PRIMARY KEY AUTOINCREMENT, [b c] TEXT, d);",
                "id,b c,d",
                "id",
            ),
            (
                Dialect::SqlServer,
                "CREATE TABLE [dbo].[T](\n\t[Id] [int] IDENTITY(1,1) NOT NULL,\n\t[V] [nvarchar](max) NULL,\n CONSTRAINT [PK] PRIMARY KEY CLUSTERED \n(\n\t[Id] ASC, [V] DESC\n) ON [PRIMARY]\n)",
                "Id,V",
                "Id,V",
            ),
        ];
        for (dialect, sql, columns, key) in rows {
            let found = created(sql.as_bytes(), dialect);
            assert_eq!(
                (found.columns.join(","), found.key.join(",")),
                (columns.to_string(), key.to_string()),
                "{sql}"
            );
        }
    }
}
