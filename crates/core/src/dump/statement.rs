//! What a statement is and which table it concerns, from its first tokens.

use super::lex::{Lexer, Step, Token};
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
    /// Line it begins on, from 1.
    pub line: u64,
}

/// Collects the first tokens of a statement until they tell what it is.
#[derive(Debug, Default)]
pub struct Head {
    tokens: Vec<(Token, Vec<u8>)>,
}

/// Tokens kept at most; a view's `ALGORITHM`, `DEFINER` and `SQL SECURITY` come before its name.
const KEPT: usize = 40;

impl Head {
    /// Forgets the last statement.
    pub fn clear(&mut self) {
        self.tokens.clear();
    }

    /// Takes a token that is not space, comment or hint.
    pub fn push(&mut self, token: Token, bytes: &[u8]) {
        let listing_columns = self.starts_with(0, b"INSERT") || self.starts_with(0, b"REPLACE");
        if self.tokens.len() < KEPT || listing_columns {
            self.tokens.push((token, bytes.to_vec()));
        }
    }

    fn starts_with(&self, at: usize, word: &[u8]) -> bool {
        self.word(at).is_some_and(|w| w.eq_ignore_ascii_case(word))
    }

    fn word(&self, at: usize) -> Option<&[u8]> {
        match self.tokens.get(at) {
            Some((Token::Word, bytes)) => Some(bytes),
            _ => None,
        }
    }

    /// Says whether the statement is an insert whose last token opens its rows: `VALUES` outside of the column list.
    pub fn opens_rows(&self) -> bool {
        let insert = self.starts_with(0, b"INSERT") || self.starts_with(0, b"REPLACE");
        let last = self.tokens.len().wrapping_sub(1);
        insert
            && (self.starts_with(last, b"VALUES") || self.starts_with(last, b"VALUE"))
            && self.tokens.len() > 2
            && self.tokens.iter().filter(|(t, _)| *t == Token::Punct(b'(')).count()
                == self.tokens.iter().filter(|(t, _)| *t == Token::Punct(b')')).count()
    }

    /// Classifies the statement.
    pub fn statement(&self, line: u64) -> Statement {
        let upper = |at: usize| self.word(at).map(|w| w.to_ascii_uppercase()).unwrap_or_default();
        let mut out = Statement { class: Class::Empty, name: None, qualifier: None, columns: None, line };
        if self.tokens.is_empty() {
            return out;
        }
        let first = upper(0);
        let class = match &first[..] {
            b"INSERT" | b"REPLACE" => {
                let mut at = 1;
                while matches!(
                    &upper(at)[..],
                    b"LOW_PRIORITY" | b"DELAYED" | b"HIGH_PRIORITY" | b"IGNORE" | b"INTO"
                ) {
                    at += 1;
                }
                let at = self.name_at(at, &mut out);
                out.columns = self.column_list(at);
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
                self.name_at(at, &mut out);
                class
            }
            b"ALTER" => {
                let at = 1 + usize::from(upper(1) == b"IGNORE");
                if upper(at) == b"TABLE" {
                    self.name_at(at + 1, &mut out);
                    Class::AlterTable
                } else if matches!(&upper(at)[..], b"DATABASE" | b"SCHEMA") {
                    Class::Database
                } else {
                    Class::Other("ALTER".into())
                }
            }
            b"LOCK" => {
                self.name_at(2, &mut out);
                Class::LockTables
            }
            b"UNLOCK" => Class::UnlockTables,
            b"SET" => Class::Set,
            b"USE" => {
                self.name_at(1, &mut out);
                Class::Use
            }
            b"START" | b"BEGIN" | b"COMMIT" => Class::Transaction,
            // What begins with no word is shown as it stands.
            _ => Class::Other(String::from_utf8_lossy(&self.tokens[0].1).into_owned()),
        };
        out.class = class;
        out
    }

    /// Reads `name` or `database.name` and returns where it ends.
    fn name_at(&self, at: usize, out: &mut Statement) -> usize {
        let Some(first) = self.plain(at) else { return at };
        if self.tokens.get(at + 1).is_some_and(|(t, _)| *t == Token::Punct(b'.'))
            && let Some(second) = self.plain(at + 2)
        {
            out.qualifier = Some(first);
            out.name = Some(second);
            return at + 3;
        }
        out.name = Some(first);
        at + 1
    }

    fn plain(&self, at: usize) -> Option<String> {
        let (token, bytes) = self.tokens.get(at)?;
        match token {
            Token::Word => Some(String::from_utf8_lossy(bytes).into_owned()),
            Token::Name | Token::Text => Some(unquoted(bytes)),
            _ => None,
        }
    }

    fn column_list(&self, at: usize) -> Option<Arc<[String]>> {
        if self.tokens.get(at).is_none_or(|(t, _)| *t != Token::Punct(b'(')) {
            return None;
        }
        let mut names = Vec::new();
        for i in at + 1..self.tokens.len() {
            match self.tokens[i].0 {
                Token::Punct(b')') => return Some(names.into()),
                Token::Punct(_) => {}
                _ => names.push(self.plain(i)?),
            }
        }
        None
    }
}

/// Takes a name out of its quotes.
pub fn unquoted(name: &[u8]) -> String {
    let quote = name[0] as char;
    let inside = String::from_utf8_lossy(&name[1..name.len().saturating_sub(1).max(1)]).into_owned();
    inside.replace(&format!("{quote}{quote}"), &quote.to_string())
}

/// Returns the column names of a `CREATE TABLE` statement, in order.
pub fn created_columns(statement: &[u8]) -> Vec<String> {
    let mut lexer = Lexer::default();
    let mut names = Vec::new();
    let (mut at, mut depth, mut item_start) = (0, 0, false);
    while at < statement.len() {
        let Step::Token(token, len) = lexer.next(&statement[at..], true) else { break };
        let bytes = &statement[at..at + len];
        at += len;
        match token {
            Token::Space | Token::Comment | Token::HintOpen | Token::HintClose => continue,
            Token::Punct(b'(') => {
                depth += 1;
                item_start = depth == 1;
                continue;
            }
            Token::Punct(b')') => depth -= 1,
            Token::Punct(b',') if depth == 1 => {
                item_start = true;
                continue;
            }
            Token::Name | Token::Text if item_start => names.push(unquoted(bytes)),
            Token::Word if item_start => {
                let word = bytes.to_ascii_uppercase();
                let other: [&[u8]; 9] = [
                    b"PRIMARY",
                    b"KEY",
                    b"UNIQUE",
                    b"INDEX",
                    b"FULLTEXT",
                    b"SPATIAL",
                    b"CONSTRAINT",
                    b"FOREIGN",
                    b"CHECK",
                ];
                if !other.contains(&&word[..]) {
                    names.push(String::from_utf8_lossy(bytes).into_owned());
                }
            }
            _ => {}
        }
        item_start = false;
    }
    names
}

#[cfg(test)]
mod tests {
    use super::*;

    fn classified(sql: &str) -> Statement {
        let mut lexer = Lexer::default();
        let mut head = Head::default();
        let mut at = 0;
        while let Step::Token(token, len) = lexer.next(&sql.as_bytes()[at..], true) {
            if !matches!(
                token,
                Token::Space | Token::Comment | Token::HintOpen | Token::HintClose | Token::End
            ) {
                head.push(token, &sql.as_bytes()[at..at + len]);
            }
            at += len;
            if at == sql.len() {
                break;
            }
        }
        head.statement(1)
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
    fn columns_are_read_from_the_creation() {
        let sql = "CREATE TABLE `t` (\n `a` int(11) NOT NULL DEFAULT '1,(2)' COMMENT 'x, y',\n b enum('p','q'),\n PRIMARY KEY (`a`),\n KEY k (`b`(10)), CONSTRAINT c CHECK (`a` > 0)\n) ENGINE=InnoDB;";
        assert_eq!(created_columns(sql.as_bytes()), ["a", "b"]);
    }
}
