//! Finds where a table of MariaDB's takes its numbers from a sequence by the name of a whole database, as the server writes it, so that a
//! dump loads under another name.

use super::lex::{Lexer, Step, Token};
use crate::edit::Edit;
use std::ops::Range;

/// Functions whose first argument is a sequence (MariaDB documentation, "Sequence Overview").
const FUNCTIONS: [&str; 3] = ["NEXTVAL", "LASTVAL", "SETVAL"];

/// A sequence that is named with its database.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Named {
    /// Database.
    pub(crate) database: String,
    /// Sequence.
    pub(crate) name: String,
    /// Where the database stands, with its dot.
    span: Range<usize>,
}

impl Named {
    /// Takes the database's name out.
    pub(crate) fn without_database(&self) -> Edit {
        Edit::new(self.span.clone(), "")
    }
}

/// Finds all of them in a statement.
pub(crate) fn named(sql: &[u8]) -> Vec<Named> {
    let mut lexer = Lexer::default();
    lexer.inside_statement();
    let mut tokens: Vec<(Token, Range<usize>)> = Vec::new();
    let mut at = 0;
    while at < sql.len() {
        let Step::Token(token, len) = lexer.next(&sql[at..], true) else { break };
        if token != Token::Space {
            tokens.push((token, at..at + len));
        }
        at += len;
    }
    let text = |span: &Range<usize>| String::from_utf8_lossy(&sql[span.clone()]).into_owned();
    let plain = |span: &Range<usize>| text(span).trim_matches('`').replace("``", "`");
    let mut found = Vec::new();
    for five in tokens.windows(5) {
        let [(Token::Word, function), (Token::Punct(b'('), _), database, (Token::Punct(b'.'), _), name] =
            five
        else {
            continue;
        };
        let is_name = |token: Token| matches!(token, Token::Name | Token::Word);
        if is_name(database.0)
            && is_name(name.0)
            && FUNCTIONS.contains(&text(function).to_uppercase().as_str())
        {
            found.push(Named {
                database: plain(&database.1),
                name: plain(&name.1),
                span: database.1.start..name.1.start,
            });
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_database_is_taken_out_of_calls_alone() {
        let sql = "CREATE TABLE `t` (`id` int DEFAULT nextval(`q``x`.`s`) COMMENT 'nextval(`q`.`s`)', b int DEFAULT (lastval(q.`z`) + 1), c int DEFAULT f(`q`.`s`))";
        let found = named(sql.as_bytes());
        let names: Vec<(&str, &str)> = found.iter().map(|n| (n.database.as_str(), n.name.as_str())).collect();
        assert_eq!(names, [("q`x", "s"), ("q", "z")]);
        let edits: Vec<Edit> = found.iter().map(Named::without_database).collect();
        let left = crate::edit::apply(sql.as_bytes(), &edits);
        assert_eq!(
            String::from_utf8_lossy(&left),
            sql.replace("`q``x`.`s`)", "`s`)").replace("q.`z`", "`z`")
        );
    }
}
