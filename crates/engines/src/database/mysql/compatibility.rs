//! Makes statements fit a server that is older, newer or another product than the one they come from.
//!
//! Names of collations, character sets and engines are asked of the server; one that it does not know becomes its nearest relative that
//! it does know, and is listed. Where no relative is known the load stops, and the user says what it shall be.

use super::rows;
use crate::database::DatabaseError;
use crate::database::loading::{Substituted, Substitution};
use crate::dump::lex::{Lexer, Step, Token};
use crate::dump::literal::Quoting;
use crate::edit::{Edit, apply};
use ::mysql::Conn;
use std::collections::{BTreeMap, BTreeSet};

/// Kinds of names that servers differ in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Kind {
    Collation,
    Charset,
    Engine,
    RowFormat,
    BlockSize,
    Reserved,
}

impl Kind {
    fn describe(self) -> &'static str {
        match self {
            Kind::Collation => "collation",
            Kind::Charset => "character set",
            Kind::Engine => "engine",
            Kind::RowFormat => "row format",
            Kind::BlockSize => "size of compressed pages",
            Kind::Reserved => "reserved word",
        }
    }
}

/// What a server knows, and what was replaced for it.
#[derive(Debug, Default)]
pub struct Compatibility {
    known: BTreeMap<Kind, BTreeSet<String>>,
    asked: Vec<Substitution>,
    done: BTreeMap<(Kind, String, String), u64>,
}

impl Compatibility {
    /// Asks a MySQL or MariaDB server what it knows. `asked` are the user's own replacements.
    pub fn of(conn: &mut Conn, asked: &[Substitution]) -> Result<Self, DatabaseError> {
        let mut known: BTreeMap<Kind, BTreeSet<String>> = BTreeMap::new();
        let questions = [
            (
                Kind::Collation,
                "SELECT COLLATION_NAME FROM information_schema.COLLATION_CHARACTER_SET_APPLICABILITY",
            ),
            (Kind::Charset, "SELECT CHARACTER_SET_NAME FROM information_schema.CHARACTER_SETS"),
            (
                Kind::Engine,
                "SELECT ENGINE FROM information_schema.ENGINES WHERE SUPPORT IN ('YES','DEFAULT')",
            ),
        ];
        for (kind, sql) in questions {
            let names: Vec<Option<String>> = rows(conn, sql)?;
            known.insert(kind, names.into_iter().flatten().map(|n| n.to_ascii_lowercase()).collect());
        }
        // A server may know compressed tables and take no rows into them.
        let packs = rows::<Option<u8>>(conn, "SELECT @@innodb_read_only_compressed");
        if packs.is_ok_and(|p| p == [Some(1)]) {
            known.insert(Kind::BlockSize, ["0".to_string()].into());
        }
        let product: Vec<String> = rows(conn, "SELECT VERSION()")?;
        let own = if product.concat().contains("MariaDB") { &["page"][..] } else { &[] };
        let packed = if known.contains_key(&Kind::BlockSize) { &[][..] } else { &["compressed"] };
        let formats = ["default", "dynamic", "compact", "redundant", "fixed"].iter().chain(own).chain(packed);
        known.insert(Kind::RowFormat, formats.map(ToString::to_string).collect());
        // MariaDB lists some collations without the character set that their full name begins with.
        if let Some(collations) = known.get_mut(&Kind::Collation) {
            let sql =
                "SELECT FULL_COLLATION_NAME FROM information_schema.COLLATION_CHARACTER_SET_APPLICABILITY";
            let full: Vec<Option<String>> = rows(conn, sql).unwrap_or_default();
            collations.extend(full.into_iter().flatten().map(|n| n.to_ascii_lowercase()));
        }
        Ok(Compatibility { known, asked: asked.to_vec(), done: BTreeMap::new() })
    }

    /// Fits a statement.
    pub fn statement(&mut self, body: &[u8], line: u64, quoting: Quoting) -> Result<Vec<u8>, DatabaseError> {
        if self.known.is_empty() {
            return Ok(body.to_vec());
        }
        let mut edits = Vec::new();
        for (kind, span) in names(body, quoting) {
            let name =
                String::from_utf8_lossy(&body[span.clone()]).trim_matches(['`', '\'', '"']).to_string();
            if let Some(new) = self.replacement(kind, &name, line)? {
                *self.done.entry((kind, name, new.clone())).or_default() += 1;
                edits.push(Edit::new(span, new));
            }
        }
        let mut words = body.split(|b| b.is_ascii_whitespace()).filter(|w| !w.is_empty());
        let mut first = |wanted: &[u8]| words.next().is_some_and(|w| w.eq_ignore_ascii_case(wanted));
        if first(b"CREATE") && first(b"TABLE") {
            edits.extend(self.reserved(body, quoting));
        }
        edits.sort_by_key(|e| e.span.start);
        Ok(apply(body, &edits))
    }

    /// Fits the head of an insert.
    pub fn head(&mut self, head: &[u8], quoting: Quoting) -> Vec<u8> {
        let edits = self.reserved(head, quoting);
        apply(head, &edits)
    }

    /// Quotes names that are words of the language on newer servers.
    fn reserved(&mut self, body: &[u8], quoting: Quoting) -> Vec<Edit> {
        let found = bare_names(body, quoting).into_iter();
        let reserved = found.filter(|span| is_reserved(&body[span.clone()]));
        let mut edits = Vec::new();
        for span in reserved {
            let name = String::from_utf8_lossy(&body[span.clone()]).into_owned();
            let new = format!("`{name}`");
            *self.done.entry((Kind::Reserved, name, new.clone())).or_default() += 1;
            edits.push(Edit::new(span, new));
        }
        edits
    }

    /// Returns what was replaced.
    pub fn done(&self) -> Vec<Substituted> {
        let done = self.done.iter();
        done.map(|((kind, from, to), count)| Substituted {
            kind: kind.describe(),
            from: from.clone(),
            to: to.clone(),
            count: *count,
        })
        .collect()
    }

    fn replacement(&self, kind: Kind, name: &str, line: u64) -> Result<Option<String>, DatabaseError> {
        if let Some(Substitution { other: to, .. }) =
            self.asked.iter().find(|s| s.name.eq_ignore_ascii_case(name))
        {
            return Ok(Some(to.clone()));
        }
        let lower = name.to_ascii_lowercase();
        // A kind of which nothing is known is left to the server.
        let Some(known) = self.known.get(&kind) else { return Ok(None) };
        let knows = |name: &str| known.contains(name);
        if knows(&lower) || lower == "default" || (kind == Kind::Charset && lower == "binary") {
            return Ok(None);
        }
        match relatives(kind, &lower).into_iter().find(|r| knows(r)) {
            Some(found) => Ok(Some(found)),
            None => Err(DatabaseError::Unfit {
                line,
                what: format!("the server knows no {} {name}", kind.describe()),
                cure: format!("--substitute {name}=OTHER says which one to take instead"),
            }),
        }
    }
}

/// Names that mean nearly the same, the nearest first. Sources: the lists of collations in the manuals of MySQL 8 ("Unicode Character
/// Sets": `0900` is the collation algorithm of Unicode 9) and MariaDB ("Supported Character Sets and Collations": `uca1400`).
fn relatives(kind: Kind, name: &str) -> Vec<String> {
    let list = |names: &[&str]| names.iter().map(ToString::to_string).collect();
    match kind {
        Kind::Charset => match name {
            "utf8mb3" => list(&["utf8"]),
            "utf8" => list(&["utf8mb3"]),
            "utf8mb4" => list(&["utf8"]),
            _ => Vec::new(),
        },
        Kind::RowFormat => list(&["dynamic"]),
        Kind::BlockSize => list(&["0"]),
        Kind::Reserved => Vec::new(),
        Kind::Engine => match name {
            // Engines of tables that any other may hold.
            "myisam" | "aria" | "xtradb" | "innodb" | "tokudb" | "rocksdb" | "ndb" | "ndbcluster"
            | "archive" => list(&["innodb", "myisam"]),
            "memory" | "heap" => list(&["memory", "innodb"]),
            _ => Vec::new(),
        },
        Kind::Collation => {
            let (charset, rest) = name.split_once('_').unwrap_or((name, ""));
            let respelled = match charset {
                "utf8" => Some(format!("utf8mb3_{rest}")),
                "utf8mb3" => Some(format!("utf8_{rest}")),
                _ => None,
            };
            let family = if rest.ends_with("_bin") || rest == "bin" {
                vec!["bin", "0900_bin", "nopad_bin"]
            } else if rest.ends_with("_as_cs") || rest.ends_with("_cs") {
                vec!["0900_as_cs", "uca1400_as_cs", "bin"]
            } else {
                vec!["0900_ai_ci", "uca1400_ai_ci", "unicode_520_ci", "unicode_ci", "general_ci"]
            };
            let modern = name.contains("0900") || name.contains("uca1400");
            let language = rest.split('_').next().filter(|_| modern).unwrap_or_default();
            let own = language_of(language).map(|l| format!("{charset}_{l}_ci"));
            let same = |charset: &str| family.iter().map(|f| format!("{charset}_{f}")).collect::<Vec<_>>();
            let bare = if name.starts_with("uca1400") { same("utf8mb4") } else { Vec::new() };
            let other = match charset {
                "utf8" => same("utf8mb3"),
                "utf8mb3" => same("utf8"),
                _ => Vec::new(),
            };
            respelled.into_iter().chain(own).chain(same(charset)).chain(bare).chain(other).collect()
        }
    }
}

/// Returns the old collation's word for a language that a new one names by its code.
fn language_of(code: &str) -> Option<&'static str> {
    let known = [
        ("de", "german2"),
        ("es", "spanish"),
        ("sv", "swedish"),
        ("da", "danish"),
        ("pl", "polish"),
        ("cs", "czech"),
        ("tr", "turkish"),
        ("hu", "hungarian"),
        ("ro", "romanian"),
        ("hr", "croatian"),
        ("et", "estonian"),
        ("lv", "latvian"),
        ("lt", "lithuanian"),
        ("sk", "slovak"),
        ("sl", "slovenian"),
        ("is", "icelandic"),
        ("vi", "vietnamese"),
    ];
    known.iter().find(|(c, _)| *c == code).map(|(_, word)| *word)
}

/// Words that became reserved after dumps with such names were written, in upper case. Sources: the lists of reserved words in the manuals
/// of MySQL 8.0 to 9 and of MariaDB 10 and 11.
const RESERVED: [&str; 35] = [
    "CUBE",
    "CUME_DIST",
    "DENSE_RANK",
    "EMPTY",
    "EXCEPT",
    "FIRST_VALUE",
    "FUNCTION",
    "GENERATED",
    "GET",
    "GROUPING",
    "GROUPS",
    "INTERSECT",
    "JSON_TABLE",
    "LAG",
    "LAST_VALUE",
    "LATERAL",
    "LEAD",
    "MANUAL",
    "NTH_VALUE",
    "NTILE",
    "OF",
    "OFFSET",
    "OVER",
    "PARALLEL",
    "PERCENT_RANK",
    "RANK",
    "RECURSIVE",
    "RETURNING",
    "ROW",
    "ROWS",
    "ROW_NUMBER",
    "STORED",
    "SYSTEM",
    "TABLESAMPLE",
    "WINDOW",
];

fn is_reserved(word: &[u8]) -> bool {
    RESERVED.iter().any(|r| r.as_bytes().eq_ignore_ascii_case(word))
}

/// Finds bare words that stand where only a name can: behind `TABLE`, `INTO`, `REFERENCES`, `KEY` and `INDEX`, and first in brackets or behind a comma in
/// them.
fn bare_names(body: &[u8], quoting: Quoting) -> Vec<std::ops::Range<usize>> {
    let mut lexer = Lexer::reading(quoting);
    let (mut at, mut depth, mut out) = (0, 0usize, Vec::new());
    let mut expected = false;
    while at < body.len() {
        let Step::Token(token, len) = lexer.next(&body[at..], true) else { break };
        let text = &body[at..at + len];
        match token {
            Token::Space | Token::Comment | Token::HintOpen | Token::HintClose => {}
            Token::Punct(b'(') => (depth, expected) = (depth + 1, true),
            Token::Punct(b')') => (depth, expected) = (depth.saturating_sub(1), false),
            Token::Punct(b',') => expected = depth > 0,
            Token::Word => {
                // What brackets follow at once is a function, or a part of a column.
                if expected && body.get(at + len) != Some(&b'(') {
                    out.push(at..at + len);
                }
                let before_name = [&b"TABLE"[..], b"INTO", b"REFERENCES", b"KEY", b"INDEX"];
                expected = before_name.iter().any(|w| text.eq_ignore_ascii_case(w));
            }
            _ => expected = false,
        }
        at += len;
    }
    out
}

/// Finds the names in a statement: behind `COLLATE`, `CHARSET`, `CHARACTER SET`, `ENGINE`.
fn names(body: &[u8], quoting: Quoting) -> Vec<(Kind, std::ops::Range<usize>)> {
    let mut lexer = Lexer::reading(quoting);
    let (mut at, mut out) = (0, Vec::new());
    let (mut kind, mut character) = (None, false);
    while at < body.len() {
        let Step::Token(token, len) = lexer.next(&body[at..], true) else { break };
        let text = &body[at..at + len];
        match token {
            Token::Space | Token::Comment | Token::HintOpen | Token::HintClose | Token::Punct(b'=') => {}
            Token::Word | Token::Name | Token::Text if kind.is_some() => {
                out.extend(kind.take().map(|k| (k, at..at + len)));
                character = false;
            }
            Token::Word => {
                let set = std::mem::replace(&mut character, text.eq_ignore_ascii_case(b"CHARACTER"));
                kind = match &text.to_ascii_uppercase()[..] {
                    b"COLLATE" => Some(Kind::Collation),
                    b"CHARSET" => Some(Kind::Charset),
                    b"SET" if set => Some(Kind::Charset),
                    b"ENGINE" => Some(Kind::Engine),
                    b"ROW_FORMAT" => Some(Kind::RowFormat),
                    b"KEY_BLOCK_SIZE" => Some(Kind::BlockSize),
                    _ => None,
                };
            }
            _ => (kind, character) = (None, false),
        }
        at += len;
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn unknown_names_become_relatives_and_strangers_stop() {
        let known = [
            (Kind::Collation, "utf8mb4_unicode_520_ci utf8mb4_bin utf8mb4_german2_ci utf8_general_ci"),
            (Kind::Charset, "utf8mb4 utf8 latin1"),
            (Kind::Engine, "innodb memory"),
            (Kind::RowFormat, "dynamic compact"),
            (Kind::BlockSize, "0"),
        ];
        let known = known.map(|(k, names)| (k, names.split(' ').map(str::to_string).collect()));
        let mut fit = Compatibility {
            known: known.into(),
            asked: vec![Substitution { name: "odd_ci".into(), other: "utf8mb4_bin".into() }],
            ..Compatibility::default()
        };
        for (old, new) in [
            (
                "a text COLLATE utf8mb4_0900_ai_ci COMMENT 'COLLATE odd'",
                "a text COLLATE utf8mb4_unicode_520_ci COMMENT 'COLLATE odd'",
            ),
            ("COLLATE=utf8mb4_de_pb_0900_ai_ci", "COLLATE=utf8mb4_german2_ci"),
            (
                "DEFAULT CHARSET=utf8mb3 COLLATE=utf8mb3_general_ci",
                "DEFAULT CHARSET=utf8 COLLATE=utf8_general_ci",
            ),
            (
                "a char(1) CHARACTER SET latin1, `engine` int) ENGINE=MyISAM",
                "a char(1) CHARACTER SET latin1, `engine` int) ENGINE=innodb",
            ),
            (
                "CREATE TABLE groups (rank int, `system` int, KEY offset (rank, a(10)), CHECK (rank(1))) ROW_FORMAT=COMPRESSED KEY_BLOCK_SIZE=8",
                "CREATE TABLE `groups` (`rank` int, `system` int, KEY `offset` (`rank`, a(10)), CHECK (rank(1))) ROW_FORMAT=dynamic KEY_BLOCK_SIZE=0",
            ),
            (
                "CREATE TABLE a (b int COMMENT 'x, rank') ROW_FORMAT=COMPACT",
                "CREATE TABLE a (b int COMMENT 'x, rank') ROW_FORMAT=COMPACT",
            ),
            ("COLLATE odd_ci", "COLLATE utf8mb4_bin"),
            ("COLLATE utf8mb4_0900_bin", "COLLATE utf8mb4_bin"),
            ("COLLATE uca1400_ai_ci", "COLLATE utf8mb4_unicode_520_ci"),
        ] {
            let substituted = fit.statement(old.as_bytes(), 1, Quoting::MYSQL).unwrap();
            assert_eq!(String::from_utf8(substituted).unwrap(), new, "{old}");
        }
        assert_eq!(
            fit.head(b"INSERT INTO groups (rank, a) VALUES", Quoting::MYSQL),
            b"INSERT INTO `groups` (`rank`, a) VALUES"
        );
        let stopped = fit.statement(b"ENGINE=Strange", 7, Quoting::MYSQL).unwrap_err();
        assert!(
            matches!(&stopped, DatabaseError::Unfit { line: 7, cure, .. } if cure.contains("--substitute Strange=")),
            "{stopped}"
        );
    }
}
