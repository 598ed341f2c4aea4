//! Finds the definers of views, triggers and routines, so that a dump loads under another account.

use super::lex::{Lexer, Step, Token};
use crate::edit::Edit;

/// Finds `DEFINER=user@host` in a statement.
pub fn edits(bytes: &[u8]) -> Vec<Edit> {
    let mut lexer = Lexer::default();
    lexer.inside_statement();
    let mut edits = Vec::new();
    let mut at = 0;
    let mut start = None;
    let mut parts = 0;
    while at < bytes.len() {
        let Step::Token(token, len) = lexer.next(&bytes[at..], true) else { break };
        let text = &bytes[at..at + len];
        match (start, token) {
            (_, Token::Space) => {}
            (None, Token::Word) if text.eq_ignore_ascii_case(b"DEFINER") => (start, parts) = (Some(at), 0),
            (Some(_), Token::Punct(b'=')) if parts == 0 => parts = 1,
            // `user`, then `@` with or without the host in the same word, then the host.
            (Some(from), Token::Name | Token::Text | Token::Word) if (1..=3).contains(&parts) => {
                parts += 1;
                let ends_user = parts == 2 && !matches!(bytes.get(at + len), Some(b'@'))
                    || (parts == 3 && text.len() > 1)
                    || parts == 4;
                if ends_user {
                    edits.push(Edit::new(from..at + len, ""));
                    start = None;
                }
            }
            _ => start = None,
        }
        at += len;
    }
    edits
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn definers_are_found_in_every_spelling() {
        for (sql, left) in [
            ("CREATE DEFINER=`a`@`%` VIEW v", "CREATE  VIEW v"),
            ("CREATE DEFINER = 'a'@'h' VIEW v", "CREATE  VIEW v"),
            ("CREATE DEFINER=root@localhost TRIGGER t", "CREATE  TRIGGER t"),
            ("CREATE DEFINER=CURRENT_USER VIEW v", "CREATE  VIEW v"),
            ("/*!50017 DEFINER=`a`@`h`*/ x", "/*!50017 */ x"),
            ("CREATE SQL SECURITY DEFINER VIEW v", "CREATE SQL SECURITY DEFINER VIEW v"),
        ] {
            assert_eq!(
                String::from_utf8_lossy(&crate::edit::apply(sql.as_bytes(), &edits(sql.as_bytes()))),
                left
            );
        }
    }
}
