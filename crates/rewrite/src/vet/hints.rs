//! MySQL's version hints (`/*!40101 … */`, `/*M!100100 … */`): code for one server and a comment for the next. They are resolved for the
//! server at hand before a statement is vetted, so that what is vetted is what the server carries out, and no hint reaches it.
//!
//! Sources: MySQL reference manual, "Comments"; MariaDB knowledge base, "Comment Syntax" (hints of MySQL 5.7 and later, 50700 to 99999,
//! are comments to MariaDB).

use crate::dump::lex::{Lexer, Step, Token};
use crate::dump::literal::Quoting;

/// A server, as far as hints go.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Server {
    /// Whether it is MariaDB.
    pub mariadb: bool,
    /// `100611` for 10.6.11.
    pub version: u64,
}

impl Server {
    /// Reads what `SELECT VERSION()` answers: `8.0.36`, `10.11.6-MariaDB-0+deb12u1`, `5.5.5-10.4.8-MariaDB`.
    pub fn read(version: &str) -> Self {
        let mariadb = version.to_ascii_lowercase().contains("maria");
        let plain = version.strip_prefix("5.5.5-").filter(|_| mariadb).unwrap_or(version);
        let mut parts = plain.split(['.', '-', '+']).map(|p| p.parse::<u64>().unwrap_or_default());
        let mut next = || parts.next().unwrap_or_default();
        Server { mariadb, version: next() * 10_000 + next() * 100 + next() }
    }

    /// Says whether a hint is code to this server.
    fn heeds(self, open: &str) -> bool {
        let only_mariadb = open.starts_with("/*M");
        let digits = open.trim_start_matches(|c: char| !c.is_ascii_digit());
        let wanted: u64 = digits.parse().unwrap_or(if digits.is_empty() { 0 } else { u64::MAX });
        if only_mariadb {
            return self.mariadb && self.version >= wanted;
        }
        if self.mariadb && (50_700..=99_999).contains(&wanted) {
            return false;
        }
        self.version >= wanted
    }
}

/// What a hint that is still open at the end of a text means for what follows.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Open {
    /// None is.
    None,
    /// What follows is code.
    Heeded,
    /// What follows is a comment.
    Ignored,
}

/// Resolves the hints of a statement or of its beginning.
pub fn resolve(text: &str, quoting: Quoting, server: Server) -> (String, Open) {
    if !text.contains("/*") {
        return (text.to_string(), Open::None);
    }
    let mut lexer = Lexer::reading(quoting);
    let mut out = String::with_capacity(text.len());
    let (mut at, mut open) = (0, Open::None);
    while at < text.len() {
        let Step::Token(token, len) = lexer.next(&text.as_bytes()[at..], true) else {
            // What ends inside of a token is refused by whoever reads it next.
            out.push_str(&text[at..]);
            break;
        };
        // A delimiter inside of a body makes the lexer forget the hint around it.
        let closes = open != Open::None && token == Token::Punct(b'*') && text[at..].starts_with("*/");
        let (token, len) = if closes { (Token::HintClose, 2) } else { (token, len) };
        let piece = &text[at..at + len];
        at += len;
        match token {
            Token::HintOpen => {
                // The digits of a version are five or six; a seventh belongs to the code.
                let digits = piece.trim_start_matches(|c: char| !c.is_ascii_digit());
                let used = digits.len().min(6);
                let (sign, more) = piece.split_at(piece.len() - digits.len() + used);
                open = if server.heeds(sign) && open != Open::Ignored { Open::Heeded } else { Open::Ignored };
                out.push(' ');
                if open == Open::Heeded {
                    out.push_str(more);
                }
            }
            Token::HintClose => {
                open = Open::None;
                out.push(' ');
            }
            _ if open == Open::Ignored => {}
            // A comment inside of a hint, or one that looks like a hint to another reader, says nothing that is needed.
            Token::Comment
                if piece.starts_with("/*")
                    && (open == Open::Heeded || piece[2..].starts_with(['!', 'M', '+'])) =>
            {
                out.push(' ');
            }
            _ => out.push_str(piece),
        }
    }
    (out, open)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hints_are_code_for_one_server_and_nothing_for_the_next() {
        let maria = Server::read("10.11.6-MariaDB-0+deb12u1");
        let old = Server::read("5.5.5-10.4.8-MariaDB-log");
        let mysql = Server::read("8.0.36");
        assert_eq!((maria.version, old.version, mysql.version), (101_106, 100_408, 80_036));
        for (sql, on_maria, on_mysql) in [
            ("/*!40101 SET NAMES utf8 */", "SET NAMES utf8", "SET NAMES utf8"),
            ("/*!99999 DROP TABLE IF EXISTS x */ GRANT ALL", "GRANT ALL", "GRANT ALL"),
            ("DROP /*!99999 TABLE IF EXISTS */ DATABASE v", "DROP DATABASE v", "DROP DATABASE v"),
            ("a /*!50700 b */ c", "a c", "a b c"),
            ("a /*!80000 b */ c", "a c", "a b c"),
            ("a /*M!100100 b */ c", "a b c", "a c"),
            ("a /*! b */ c", "a b c", "a b c"),
            ("a /*!999999 b*/ c '/*! d */'", "a c '/*! d */'", "a c '/*! d */'"),
        ] {
            let words = |server| {
                let (text, open) = resolve(sql, Quoting::MYSQL, server);
                assert_eq!(open, Open::None, "{sql}");
                text.split_ascii_whitespace().collect::<Vec<_>>().join(" ")
            };
            assert_eq!((words(maria).as_str(), words(mysql).as_str()), (on_maria, on_mysql), "{sql}");
        }
        assert_eq!(resolve("/*!40000 INSERT INTO t VALUES ", Quoting::MYSQL, maria).1, Open::Heeded);
        assert_eq!(resolve("/*!99999 INSERT INTO t VALUES ", Quoting::MYSQL, maria).1, Open::Ignored);
    }
}
