//! The guards against what was written to get past them, and against what honest dumps hold. Every statement is tried in all spellings that
//! mean the same to a server: letter case, space, comments, quotes.

use super::hints::{Server, resolve};
use super::{Refused, Verdict, mysql, postgres, sqlite};
use crate::dump::dialect::Dialect;
use crate::dump::literal::Quoting;
use crate::dump::statement::{Class, read};
use proptest::prelude::*;

const POSTGRES: Quoting = Quoting { dialect: Dialect::Postgres, backslash: false, copy: false };
const SQLITE: Quoting = Quoting { dialect: Dialect::Sqlite, backslash: false, copy: false };

/// Vets a statement as the loader does: hints, settings, rows.
fn vet_mysql(sql: &str) -> Result<(), Refused> {
    let own = mysql::Own { databases: ["own".to_string()].into(), ..mysql::Own::default() };
    let (text, _) = resolve(sql, Quoting::MYSQL, Server::read("10.11.6-MariaDB"));
    let plain = mysql::plain(&text, Quoting::MYSQL, false, &own)?;
    if plain.statement.class == Class::Set {
        return mysql::settings(&plain.text, Quoting::MYSQL, &mut mysql::Variables::new()).map(drop);
    }
    if matches!(plain.statement.class, Class::Use | Class::Database) {
        return mysql::database(&plain, Quoting::MYSQL).map(drop);
    }
    match mysql::statement(plain, Quoting::MYSQL, &own)? {
        Verdict::Later(_, _, vetted) => vetted.resolved(&["mine".to_string()].into()),
        _ => Ok(()),
    }
}

fn vet_postgres(sql: &str) -> Result<(), Refused> {
    let mut made = postgres::Made::default();
    for before in [
        "CREATE FUNCTION public.computes(a integer) RETURNS integer LANGUAGE sql IMMUTABLE AS $$SELECT a + 1$$",
        "CREATE FUNCTION public.acts() RETURNS integer LANGUAGE plpgsql AS $$BEGIN INSERT INTO public.t VALUES (1); RETURN 1; END$$",
        "CREATE FUNCTION public.fires() RETURNS trigger LANGUAGE plpgsql AS $$BEGIN NEW.a := 1; RETURN NEW; END$$",
        "CREATE TABLE public.t (a integer)",
    ] {
        postgres::statement(before, POSTGRES, &mut made, 1)?;
    }
    match read(sql.as_bytes(), Dialect::Postgres).class {
        Class::Copy => return postgres::copy_head(sql, POSTGRES).map(drop),
        Class::Set => return postgres::setting(sql, POSTGRES).map(drop),
        Class::Other(word)
            if word.eq_ignore_ascii_case("select") && postgres::setting(sql, POSTGRES)?.is_some() =>
        {
            return Ok(());
        }
        _ => {}
    }
    postgres::statement(sql, POSTGRES, &mut made, 1)?;
    made.resolved().map_err(|(_, refused)| refused)
}

fn vet_sqlite(sql: &str) -> Result<(), Refused> {
    sqlite::statement(sql, SQLITE).map(drop)
}

/// Spells a statement anew: `~` is any space, words in capitals are key words. The choices come from a generator.
fn spelled(sql: &str, dialect: Dialect, choices: &[u8]) -> String {
    let mut next = choices.iter().copied().cycle();
    let mut choose = |of: usize| usize::from(next.next().unwrap_or_default()) % of;
    let spaces: &[&str] = match dialect {
        Dialect::Mysql => &[
            " ",
            "  ",
            "\n",
            "\t",
            "/**/",
            " /* x ; ' */ ",
            " -- c '\n",
            " #c\n",
            "\r\n",
            "/*!*/ ",
            " /*!99999 x*/ ",
        ],
        _ => &[" ", "  ", "\n", "\t", "/**/", " /* x ; ' */ ", " -- c '\n", "\r\n", "\u{c}"],
    };
    // Hints inside of hints are spelled by nobody.
    let spaces = if sql.contains("/*!") { &spaces[..spaces.len() - 2] } else { spaces };
    let mut out = String::new();
    let mut quoted = None;
    let mut word = String::new();
    let put = |word: &mut String, out: &mut String, case: usize| {
        let is_key = word.len() > 1 && word.bytes().all(|b| b.is_ascii_uppercase() || b == b'_');
        match case {
            0 if is_key => out.push_str(&word.to_lowercase()),
            1 if is_key => {
                out.extend(
                    word.chars()
                        .enumerate()
                        .map(|(i, c)| if i % 2 == 0 { c } else { c.to_ascii_lowercase() }),
                );
            }
            _ => out.push_str(word),
        }
        word.clear();
    };
    for c in sql.chars() {
        if let Some(quote) = quoted {
            out.push(c);
            if c == quote {
                quoted = None;
            }
        } else if c.is_alphanumeric() || c == '_' {
            word.push(c);
        } else {
            put(&mut word, &mut out, choose(3));
            if c == '~' {
                out.push_str(spaces[choose(spaces.len())]);
            } else {
                out.push(c);
                quoted = matches!(c, '\'' | '"' | '`' | '$').then_some(c);
            }
        }
    }
    put(&mut word, &mut out, choose(3));
    out
}

const HOSTILE_MYSQL: &str = include_str!("tests/hostile-mysql.txt");
const HONEST_MYSQL: &str = include_str!("tests/honest-mysql.txt");
const HOSTILE_POSTGRES: &str = include_str!("tests/hostile-postgres.txt");
const HONEST_POSTGRES: &str = include_str!("tests/honest-postgres.txt");
const HOSTILE_SQLITE: &str = include_str!("tests/hostile-sqlite.txt");
const HONEST_SQLITE: &str = include_str!("tests/honest-sqlite.txt");

fn lines(text: &str) -> Vec<&str> {
    text.lines().filter(|l| !l.is_empty() && !l.starts_with("# ")).collect()
}

type Vet = fn(&str) -> Result<(), Refused>;

const SETS: [(&str, &str, Dialect, Vet); 3] = [
    (HOSTILE_MYSQL, HONEST_MYSQL, Dialect::Mysql, vet_mysql),
    (HOSTILE_POSTGRES, HONEST_POSTGRES, Dialect::Postgres, vet_postgres),
    (HOSTILE_SQLITE, HONEST_SQLITE, Dialect::Sqlite, vet_sqlite),
];

/// All of them in one go, so that one failure does not hide the others.
#[test]
fn hostile_statements_are_refused_and_honest_ones_are_not() {
    let mut wrong = Vec::new();
    for (hostile, honest, dialect, vet) in SETS {
        for sql in lines(hostile) {
            if vet(&spelled(sql, dialect, &[0, 3, 2])).is_ok() {
                wrong.push(format!("taken: {sql}"));
            }
        }
        for sql in lines(honest) {
            if let Err(refused) = vet(&spelled(sql, dialect, &[0, 3, 2])) {
                wrong.push(format!("refused: {sql}\n    {}", refused.what()));
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(3000))]
    #[test]
    fn however_they_are_spelled(set in 0usize..3, at in 0usize..1000, choices in proptest::collection::vec(any::<u8>(), 1..40)) {
        let (hostile, honest, dialect, vet) = SETS[set];
        let (hostile, honest) = (lines(hostile), lines(honest));
        let sql = spelled(hostile[at % hostile.len()], dialect, &choices);
        prop_assert!(vet(&sql).is_err(), "taken: {sql}");
        let sql = spelled(honest[at % honest.len()], dialect, &choices);
        let vetted = vet(&sql);
        prop_assert!(vetted.is_ok(), "refused: {sql}\n{vetted:?}");
    }

    #[test]
    fn nothing_that_is_no_sql_stops_the_guard(text in "[A-Za-z0-9_'\"`$;(){}.,*/ @:=-]{0,80}") {
        let _ = (vet_mysql(&text), vet_postgres(&text), vet_sqlite(&text));
        for start in ["CREATE TABLE t (", "CREATE VIEW v AS SELECT ", "ALTER TABLE t ", "CREATE TRIGGER x BEFORE INSERT ON t FOR EACH ROW "] {
            let text = format!("{start}{text}");
            let _ = (vet_mysql(&text), vet_postgres(&text), vet_sqlite(&text));
        }
    }
}
