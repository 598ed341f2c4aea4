//! Renames the tables of a site by their prefix: in every statement, in the bodies of views, triggers and constraints.
//!
//! What a table's name is, is told by its place: behind a word such as `INTO` or `REFERENCES`, in the list behind `FROM`, or before a
//! dot. A column whose name happens to begin with the prefix stands at none of these places and keeps its name.

use super::dialect::Dialect;
use super::lex::{Lexer, Step, Token};
use crate::edit::Edit;
use schemars::JsonSchema;
use serde::Serialize;
use std::ops::Range;

/// A change of the table prefix.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct PrefixChange {
    /// The old prefix; not empty.
    pub old: String,
    /// The new prefix.
    pub new: String,
}

impl PrefixChange {
    /// The new name of a table; one that does not begin with the old prefix keeps its own.
    pub fn renamed(&self, table: &str) -> String {
        begin_otherwise(table, &self.old, &self.new)
    }

    /// The name that a table had before; one that does not begin with the new prefix had its own.
    pub fn former(&self, table: &str) -> String {
        begin_otherwise(table, &self.new, &self.old)
    }
}

fn begin_otherwise(table: &str, old: &str, new: &str) -> String {
    table.strip_prefix(old).map_or_else(|| table.to_string(), |bare| format!("{new}{bare}"))
}

/// Words behind which a table's name, or one made from it, stands.
const BEFORE_TABLES: [&str; 18] = [
    "TABLE",
    "TABLES",
    "INTO",
    "FROM",
    "JOIN",
    "UPDATE",
    "REFERENCES",
    "EXISTS",
    "VIEW",
    "TRIGGER",
    "ON",
    "CONSTRAINT",
    "ONLY",
    "INSERT",
    "COPY",
    "IDENTITY_INSERT",
    "PROCEDURE",
    "FUNCTION",
];

/// Words that end the list behind `FROM`.
const BEHIND_FROM: [&str; 12] = [
    "WHERE", "GROUP", "ORDER", "HAVING", "LIMIT", "UNION", "SET", "SELECT", "VALUES", "BEGIN", "END", "THEN",
];

/// Returns the edits that rename tables in a statement.
pub(super) fn edits(statement: &[u8], dialect: Dialect, change: &PrefixChange) -> Vec<Edit> {
    if memchr::memmem::find(statement, change.old.as_bytes()).is_none() {
        return Vec::new();
    }
    let mut edits = Vec::new();
    each_name(statement, dialect, &mut |span, named| {
        if statement[span.clone()].starts_with(change.old.as_bytes()) {
            edits.push(Edit::new(span.start..span.start + change.old.len(), change.new.as_bytes()));
        } else if named == Named::Constraint && span.len() + change.new.len() <= LONGEST {
            // In one database a name of a key stands once, and the old tables may be beside.
            edits.push(Edit::new(span.start..span.start, change.new.as_bytes()));
        }
    });
    edits
}

/// Bytes that a name may have on every server.
const LONGEST: usize = 63;

/// What a name in a statement stands for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Named {
    /// A table, or something that is named as tables are.
    Table,
    /// A constraint.
    Constraint,
    /// The table that a foreign key leads to.
    Parent,
}

/// Renames tables and constraints in a statement. Names that hold a doubled quote are not looked at.
pub fn renamed(
    statement: &str,
    dialect: Dialect,
    rename: &mut dyn FnMut(&str, Named) -> Option<String>,
) -> String {
    let mut edits = Vec::new();
    each_name(statement.as_bytes(), dialect, &mut |span, named| {
        if let Some(new) = statement.get(span.clone()).and_then(|name| rename(name, named)) {
            edits.push(Edit::new(span, new.as_bytes()));
        }
    });
    String::from_utf8_lossy(&crate::edit::apply(statement.as_bytes(), &edits)).into_owned()
}

/// Hands on the place of each table's name, without quotes.
fn each_name(statement: &[u8], dialect: Dialect, take: &mut dyn FnMut(Range<usize>, Named)) {
    let mut lexer = Lexer::of(dialect);
    let mut at = 0;
    let mut named = Named::Table;
    let is = |word: &[u8], list: &[&str]| list.iter().any(|w| word.eq_ignore_ascii_case(w.as_bytes()));
    // The last token that is no space: whether a table may follow it, and whether it is the dot behind such a place.
    let (mut table_next, mut behind_dot) = (false, false);
    let mut in_from = false;
    let mut place_was_table = false;
    while at < statement.len() {
        let Step::Token(token, len) = lexer.next(&statement[at..], true) else { break };
        let span = at..at + len;
        let text = &statement[span.clone()];
        at += len;
        let quoted = token == Token::Name || (token == Token::Text && text[0] == b'"');
        match token {
            Token::Space | Token::Comment | Token::HintOpen | Token::HintClose => continue,
            Token::Name | Token::Text | Token::Word if quoted || token == Token::Word => {
                let qualifies = statement.get(at) == Some(&b'.');
                let here =
                    table_next || qualifies || (in_from && !behind_dot) || (behind_dot && place_was_table);
                let keyword = !quoted
                    && (is(text, &BEFORE_TABLES) || is(text, &BEHIND_FROM) || is(text, &["IF", "NOT"]));
                if here && !keyword {
                    let quote = usize::from(quoted);
                    take(span.start + quote..(span.end - quote).max(span.start + quote), named);
                }
                if !keyword {
                    place_was_table = table_next || (in_from && !behind_dot);
                    table_next = false;
                } else if is(text, &BEHIND_FROM) {
                    (in_from, table_next) = (false, false);
                } else if is(text, &BEFORE_TABLES) {
                    in_from |= is(text, &["FROM", "JOIN"]);
                    table_next = true;
                    named = match text.to_ascii_uppercase().as_slice() {
                        b"CONSTRAINT" => Named::Constraint,
                        b"REFERENCES" => Named::Parent,
                        _ => Named::Table,
                    };
                }
                behind_dot = false;
            }
            Token::Punct(b'.') => behind_dot = true,
            // `LOCK TABLES a WRITE, b READ` and `DROP TABLE a, b` go on behind a comma.
            Token::Punct(b',') => {
                table_next = lists_tables(statement);
                behind_dot = false;
            }
            Token::End => {
                (table_next, behind_dot, in_from, place_was_table) = (false, false, false, false);
            }
            _ => (table_next, behind_dot) = (false, false),
        }
    }
}

/// Says whether commas of a statement stand between tables.
fn lists_tables(statement: &[u8]) -> bool {
    let start = statement.trim_ascii_start();
    [&b"LOCK"[..], b"DROP"].iter().any(|w| start.len() > 4 && start[..4].eq_ignore_ascii_case(w))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tables_are_renamed_and_columns_are_not() {
        let change = PrefixChange { old: "ps_".into(), new: "x1_".into() };
        for (before, after) in [
            (
                "CREATE TABLE `ps_a` (`ps_id` int COMMENT 'ps_a', KEY `k` (`ps_id`), CONSTRAINT `ps_a_fk` FOREIGN KEY (`ps_id`) REFERENCES `ps_b` (`ps_id`))",
                "CREATE TABLE `x1_a` (`ps_id` int COMMENT 'ps_a', KEY `k` (`ps_id`), CONSTRAINT `x1_a_fk` FOREIGN KEY (`ps_id`) REFERENCES `x1_b` (`ps_id`))",
            ),
            ("DROP TABLE IF EXISTS ps_a, `ps_b`", "DROP TABLE IF EXISTS x1_a, `x1_b`"),
            ("LOCK TABLES `ps_a` WRITE, `ps_b` READ", "LOCK TABLES `x1_a` WRITE, `x1_b` READ"),
            ("/*!40000 ALTER TABLE `ps_a` DISABLE KEYS */", "/*!40000 ALTER TABLE `x1_a` DISABLE KEYS */"),
            (
                "CREATE VIEW `ps_v` AS select `ps_a`.`ps_id` AS `ps_id` from (`ps_a` join `ps_b` `ps_c` on(`ps_c`.`n` = `ps_a`.`n`)) where `ps_a`.`ps_id` > 1",
                "CREATE VIEW `x1_v` AS select `x1_a`.`ps_id` AS `ps_id` from (`x1_a` join `x1_b` `x1_c` on(`x1_c`.`n` = `x1_a`.`n`)) where `x1_a`.`ps_id` > 1",
            ),
            (
                "CREATE TRIGGER `ps_t` BEFORE INSERT ON `ps_a` FOR EACH ROW UPDATE ps_b SET ps_n = ps_n + 1",
                "CREATE TRIGGER `x1_t` BEFORE INSERT ON `x1_a` FOR EACH ROW UPDATE x1_b SET ps_n = ps_n + 1",
            ),
            ("INSERT INTO `db`.`ps_a` (`ps_id`) VALUES ", "INSERT INTO `db`.`x1_a` (`ps_id`) VALUES "),
        ] {
            let found = edits(before.as_bytes(), Dialect::Mysql, &change);
            assert_eq!(String::from_utf8_lossy(&crate::edit::apply(before.as_bytes(), &found)), after);
        }
        let found = edits(b"COPY public.ps_a (ps_id) FROM stdin;", Dialect::Postgres, &change);
        assert_eq!(found.len(), 1);
    }
}
