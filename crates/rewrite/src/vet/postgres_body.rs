//! What expressions, queries and bodies of PostgreSQL call, and whether a body only computes.

use super::Refused;
use super::code::{Code, TokenKind};
use super::harmless::{self, has};
use crate::dump::dialect::Dialect;
use crate::dump::literal::Quoting;
use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;

/// How strings are written inside of a body.
pub(super) const PLAIN: Quoting = Quoting { dialect: Dialect::Postgres, backslash: false, copy: false };

/// Functions that the dump made, by their names in lower case: whether all of that name only compute.
pub(super) type Functions = BTreeMap<String, bool>;

/// What is called.
#[derive(Debug, Default)]
pub(super) struct Calls {
    /// Functions that the dump made.
    pub(super) own: BTreeSet<String>,
    /// Functions that are on no list.
    pub(super) unknown: BTreeSet<String>,
}

/// Words in front of a bracket that are no calls, those of PL/pgSQL included.
const NO_CALLS: &str = "
ADD ALL ALWAYS ANALYSE AND ANY ARRAY AS ASC ASSERT ASYMMETRIC AT BETWEEN BY CASE CHECK COLLATE COLUMN CONFLICT CONSTRAINT CONTINUE CREATE CROSS CUBE CYCLE DEFAULT
DEFERRABLE DELETE DESC DISTINCT DO ELSE ELSEIF ELSIF END ESCAPE EXCEPT EXCLUDE EXECUTE EXISTS EXIT FETCH FILTER FOR FOREACH FOREIGN FROM FULL GENERATED GROUP
GROUPING HAVING IDENTITY IF ILIKE IN INCLUDE INNER INSERT INTERSECT INTO IS JOIN KEY LATERAL LEFT LIKE LIMIT LIST LOOP MATERIALIZED MODULUS NEXT NOT
NULL OF OFFSET ON ONLY OPERATOR OR ORDER OUTER OVER PARTITION PERFORM PRIMARY QUERY RAISE RANGE RECURSIVE REFERENCES RETURN RETURNING
RETURNS RIGHT ROLLUP ROW ROWS SELECT SET SETOF SETS SIMILAR SLICE SOME STORED STRICT SYMMETRIC TABLE THEN TO UNION UNIQUE UPDATE USING VALUES
VARIADIC VIRTUAL WHEN WHERE WHILE WINDOW WITH WITHIN HASH TABLESAMPLE BERNOULLI SYSTEM GROUPS NATURAL ORDINALITY OPTIONS INHERITS REMAINDER SCHEMA ALSO INSTEAD";

/// Types, which take lengths in brackets.
const TYPES: &str = "
BIT BPCHAR CHAR CHARACTER DEC DECIMAL FLOAT INTERVAL NUMERIC TIME TIMESTAMP TIMESTAMPTZ TIMETZ VARBIT VARCHAR VARYING NCHAR NATIONAL PRECISION ZONE";

/// Catalogues that hold what is nobody's business.
const SECRET: &str = "
pg_authid pg_shadow pg_user_mapping pg_user_mappings pg_hba_file_rules pg_ident_file_mappings pg_file_settings pg_largeobject pg_subscription pg_foreign_server
pg_statistic pg_stats pg_config pg_stat_activity pg_stat_replication pg_stat_wal_receiver pg_settings pg_proc";

/// What functions of one argument that reach outside begin with.
const ONE_ARGUMENT: [&str; 8] =
    ["pg_", "lo_", "lowrite", "loread", "dblink", "ts_stat", "query_to_", "crosstab"];

/// Lists what a range calls.
pub(super) fn calls(code: &Code<'_>, range: Range<usize>, made: &Functions) -> Result<Calls, Refused> {
    let mut out = Calls::default();
    let mut at = range.start;
    while at < range.end {
        if !matches!(code.kind(at), Some(TokenKind::Word | TokenKind::Name)) {
            at += 1;
            continue;
        }
        let Some((names, next)) = code.chain(at) else { break };
        let last = names.last().map(|n| n.to_lowercase()).unwrap_or_default();
        let called = next < range.end && code.sign(next, b'(');
        if !called {
            // `(x).f` and `x.f` call a function of one argument as well.
            let behind_dot = names.len() > 1 || (at > 0 && code.sign(at - 1, b'.'));
            if has(SECRET, &last) || (behind_dot && ONE_ARGUMENT.iter().any(|f| last.starts_with(f))) {
                return Err(Refused::new(format!("it reads {last}")));
            }
            if behind_dot && made.get(&last) == Some(&false) {
                out.own.insert(last);
            }
            at = next;
            continue;
        }
        let before = if at > 0 { code.word(at - 1) } else { "" };
        let plain_word = names.len() == 1 && code.kind(at) == Some(TokenKind::Word);
        let language = plain_word && (has(NO_CALLS, code.word(at)) || has(TYPES, code.word(at)));
        let relation = has("INTO TABLE REFERENCES OPEN INHERITS", before)
            || (before == "USING" && has("btree hash gist spgist gin brin bloom", &last))
            || has("EXISTS ONLY", before) && !plain_word
            || (at > 1 && code.sign(at - 1, b':') && code.sign(at - 2, b':'));
        if !language && !relation && !lists_columns(code, at, next) {
            if names.len() > 2 {
                return Err(Refused::new(format!("{} is not read as a call", names.join("."))));
            }
            let system = names.len() == 2 && names[0].eq_ignore_ascii_case("pg_catalog");
            if made.contains_key(&last) && !system {
                out.own.insert(last);
            } else if !harmless::postgres(&last) {
                out.unknown.insert(last);
            }
        }
        at = next;
    }
    Ok(out)
}

/// Says whether the name there has a list of columns behind it: of a common table expression, or of an alias.
fn lists_columns(code: &Code<'_>, at: usize, next: usize) -> bool {
    let Ok(close) = code.closing(next) else { return false };
    let with = code.is(close + 1, "AS")
        && (code.sign(close + 2, b'(') || code.is(close + 2, "MATERIALIZED") || code.is(close + 2, "NOT"));
    // `… AS alias(a, b)`, `f(…) alias(a, b)`.
    let alias = at > 0 && (code.is(at - 1, "AS") || code.sign(at - 1, b')'));
    let names = (next + 1..close).all(|i| code.sign(i, b',') || code.name(i).is_some());
    (with || alias) && names && !code.sign(next + 1, b')')
}

/// What a body is like.
#[derive(Debug, Default)]
pub(super) struct Body {
    /// Functions that it calls and that are on no list.
    pub(super) unknown: BTreeSet<String>,
    /// Whether it only computes and reads.
    pub(super) pure: bool,
    /// Whether it puts statements together while it runs.
    pub(super) dynamic: bool,
}

/// Words of statements that change something.
const CHANGES: &str = "
INSERT UPDATE DELETE MERGE TRUNCATE COPY EXECUTE CREATE DROP ALTER GRANT REVOKE CALL LISTEN NOTIFY UNLISTEN LOCK VACUUM LOAD RESET REFRESH
REINDEX CLUSTER COMMENT IMPORT PREPARE DEALLOCATE DISCARD COMMIT ROLLBACK SAVEPOINT SECURITY CHECKPOINT REASSIGN";

/// What no body may make, change or drop.
const BEYOND: &str = "
ROLE USER GROUP DATABASE SERVER EXTENSION LANGUAGE PUBLICATION SUBSCRIPTION TABLESPACE SYSTEM FOREIGN EVENT CAST OPERATOR ACCESS";

/// Reads a body, or a range of a statement that is one.
pub(super) fn body(code: &Code<'_>, range: Range<usize>, made: &Functions) -> Result<Body, Refused> {
    let called = calls(code, range.clone(), made)?;
    let mut out = Body { pure: true, ..Body::default() };
    for at in range {
        if at > 0 && code.sign(at - 1, b'.') {
            continue;
        }
        let word = code.word(at);
        if has("CREATE ALTER DROP", word) && has(BEYOND, code.word(at + 1)) {
            return Err(Refused::new(format!(
                "{word} {} reaches outside of the database",
                code.word(at + 1)
            )));
        }
        if word == "PROGRAM" && has("TO FROM", code.word(at.wrapping_sub(1))) {
            return Err(Refused::new("COPY with a program reaches outside of the database"));
        }
        if word == "COPY" && code.name(at + 1).is_some() {
            return Err(Refused::new("COPY in a body reaches outside of the database"));
        }
        out.dynamic |= word == "EXECUTE" && !has("FUNCTION PROCEDURE", code.word(at + 1));
        out.pure &= !has(CHANGES, word);
        out.pure &= word != "SET" || has("NULL", code.word(at + 1));
    }
    out.pure &= called.unknown.is_empty() && called.own.iter().all(|f| made.get(f) == Some(&true));
    out.unknown = called.unknown;
    Ok(out)
}
