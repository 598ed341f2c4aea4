//! MariaDB's sequences in statements: which one makes or changes them, and where a table takes its numbers from one by the name of a whole
//! database, as the server writes it, so that a dump loads under another name.

use super::lex::{Token, tokens};
use super::literal::Quoting;
use super::statement::unquoted;
use crate::edit::Edit;
use std::ops::Range;

/// Functions whose first argument is a sequence (MariaDB documentation, "Sequence Overview").
const FUNCTIONS: [&str; 3] = ["NEXTVAL", "LASTVAL", "SETVAL"];

/// A sequence that is named with its database.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Named {
    /// Database.
    pub database: String,
    /// Sequence.
    pub name: String,
    /// Where the database stands, with its dot.
    span: Range<usize>,
}

impl Named {
    /// Takes the database's name out.
    pub fn without_database(&self) -> Edit {
        Edit::new(self.span.clone(), "")
    }
}

/// What a statement does with a sequence of the database at hand.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Work {
    /// It makes the one of this name.
    Makes(String),
    /// It takes one away, or sets where one stands.
    Changes,
}

/// The tokens of a statement, as far as it can be read.
struct Tokens<'s>(&'s [u8], Vec<(Token, Range<usize>)>);

impl Tokens<'_> {
    /// A keyword or a number, in upper case.
    fn word(&self, at: usize) -> String {
        match self.1.get(at) {
            Some((Token::Word, span)) => String::from_utf8_lossy(&self.0[span.clone()]).to_uppercase(),
            _ => String::new(),
        }
    }

    fn is(&self, at: usize, byte: u8) -> bool {
        self.1.get(at).is_some_and(|(token, _)| *token == Token::Punct(byte))
    }

    /// A name, without its quotes.
    fn name(&self, at: usize) -> Option<String> {
        let (token, span) = self.1.get(at)?;
        let text = &self.0[span.clone()];
        match token {
            Token::Name => Some(unquoted(text)),
            Token::Word => Some(String::from_utf8_lossy(text).into_owned()),
            _ => None,
        }
    }

    /// A name that no database is named before.
    fn own(&self, at: usize) -> Option<String> {
        self.name(at).filter(|_| !self.is(at + 1, b'.'))
    }
}

/// Finds every call that names a sequence with its database.
pub fn named(sql: &[u8], quoting: Quoting) -> Vec<Named> {
    let tokens = Tokens(sql, tokens(sql, quoting).map_while(|token| token).collect());
    let call = |at: usize| {
        let calls = FUNCTIONS.contains(&tokens.word(at).as_str());
        if !calls || !tokens.is(at + 1, b'(') || !tokens.is(at + 3, b'.') {
            return None;
        }
        let span = tokens.1[at + 2].1.start..tokens.1.get(at + 4)?.1.start;
        Some(Named { database: tokens.name(at + 2)?, name: tokens.name(at + 4)?, span })
    };
    (0..tokens.1.len()).filter_map(call).collect()
}

/// Says what a statement does with a sequence; nothing of one that does something else, or more.
pub fn work(sql: &[u8], quoting: Quoting) -> Option<Work> {
    let mut all = tokens(sql, quoting).collect::<Option<Vec<_>>>()?;
    all.retain(|(token, _)| !matches!(token, Token::HintOpen | Token::HintClose));
    let tokens = Tokens(sql, all);
    let behind = |condition: usize| if tokens.word(2) == "IF" { condition } else { 2 };
    match (tokens.word(0).as_str(), tokens.word(1).as_str()) {
        ("CREATE", "SEQUENCE") => tokens.own(behind(5)).map(Work::Makes),
        ("DROP", "SEQUENCE") => tokens.own(behind(4)).map(|_| Work::Changes),
        // One call with a name of this database and numbers.
        ("DO" | "SELECT", "SETVAL") if tokens.is(2, b'(') => {
            tokens.own(3)?;
            let is_number = |at: usize| match tokens.1[at].0 {
                Token::Punct(byte) => matches!(byte, b',' | b'-' | b'(' | b')'),
                Token::Word => tokens.word(at).bytes().all(|b| b.is_ascii_digit()),
                _ => false,
            };
            (4..tokens.1.len()).all(is_number).then_some(Work::Changes)
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_database_is_taken_out_of_calls_alone() {
        let sql = "CREATE TABLE `t` (`id` int DEFAULT nextval(`q``x`.`s`) COMMENT 'nextval(`q`.`s`)', b int DEFAULT (lastval(q.`z`) + 1), c int DEFAULT f(`q`.`s`))";
        let found = named(sql.as_bytes(), Quoting::MYSQL);
        let names: Vec<(&str, &str)> = found.iter().map(|n| (n.database.as_str(), n.name.as_str())).collect();
        assert_eq!(names, [("q`x", "s"), ("q", "z")]);
        let edits: Vec<Edit> = found.iter().map(Named::without_database).collect();
        let left = crate::edit::apply(sql.as_bytes(), &edits);
        assert_eq!(
            String::from_utf8_lossy(&left),
            sql.replace("`q``x`.`s`)", "`s`)").replace("q.`z`", "`z`")
        );
    }

    #[test]
    fn work_on_sequences_is_told_from_all_else() {
        let makes = |name: &str| Some(Work::Makes(name.into()));
        for (sql, told) in [
            ("CREATE SEQUENCE `a``b` start with 1", makes("a`b")),
            ("CREATE SEQUENCE IF NOT EXISTS plain", makes("plain")),
            ("DROP SEQUENCE IF EXISTS `a`", Some(Work::Changes)),
            ("DO SETVAL(`a`, -3, 0, 0)", Some(Work::Changes)),
            ("CREATE SEQUENCE other.a", None),
            ("DROP SEQUENCE `other`.`a`", None),
            ("DO SETVAL(a, (SELECT 1), 0)", None),
            ("DO SETVAL(a, 1, 0), SLEEP(9)", None),
            ("DO SETVAL", None),
            ("CREATE SEQUENCE `cut", None),
        ] {
            assert_eq!(work(sql.as_bytes(), Quoting::MYSQL), told, "{sql}");
        }
    }
}
