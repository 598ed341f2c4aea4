//! A site's tables that are loaded beside those that are there, and take their places in one transaction.
//!
//! Catalogues are part of a transaction, as rows are. The schema `public` gets another name, an empty one of its own name is made, and the
//! dump goes into that, word for word: names of keys, indexes, types and functions have to be unique in a schema alone. Nobody else sees
//! any of it, and nobody waits. At the end what is not the dump's moves over, and the commit is the exchange. What was there stays in its
//! schema, so that the way back is the same. (PostgreSQL manual, "ALTER SCHEMA"; the owner of a schema may rename it: up to PostgreSQL 14
//! that is nobody but an administrator, and tables are replaced in the old way.)

use super::loader::{PostgresLoader, wait_for_others};
use super::{name, rows, run, state};
use crate::database::DatabaseError;
use crate::database::journal::{FormerThing, Mark};
use crate::database::loading::AsideName;
use crate::database::snapshot::KEPT_AS;
use crate::finding::{Code, Finding};
use crate::vet::Phase;
use ::postgres::Client;
use ::postgres::error::SqlState;
use std::collections::BTreeSet;
use std::time::{Duration, Instant};

/// Schemas that hold a site's things: not the server's own, and not what lies aside.
pub(super) const OURS: &str = "n.nspname NOT LIKE 'pg\\_%' AND n.nspname <> 'information_schema' \
    AND COALESCE(obj_description(n.oid, 'pg_namespace'), '') <> 'kept by zporter as ' || n.nspname";

/// Schemas that bear the mark of what is kept ([`KEPT_AS`]): their comment says so, and under which name.
pub(super) const KEPT: &str = "obj_description(n.oid, 'pg_namespace') = 'kept by zporter as ' || n.nspname";

/// Catalogues of things that do not move, with the column of their schema.
const UNMOVED: [(&str, &str); 8] = [
    ("pg_operator", "oprnamespace"),
    ("pg_opclass", "opcnamespace"),
    ("pg_opfamily", "opfnamespace"),
    ("pg_collation", "collnamespace"),
    ("pg_conversion", "connamespace"),
    ("pg_ts_config", "cfgnamespace"),
    ("pg_ts_dict", "dictnamespace"),
    ("pg_default_acl", "defaclnamespace"),
];

/// How something is called among former things that moved over.
const MOVED: &str = "MOVED";

/// How often a move is tried while somebody holds a table, and how long each try waits.
const TRIES: usize = 14;
const WAIT: &str = "5s";

/// Where a site's things lie that make room.
#[derive(Debug)]
pub(super) struct Aside {
    /// Schema of what was there.
    old: String,
    /// Tables that the dump brings.
    brings: BTreeSet<String>,
    leads: Leads,
    /// Tables that are not the dump's and that it may name all the same: they come at the end.
    pub(super) stays: BTreeSet<String>,
    /// Statements that need them.
    pub(super) waiting: Vec<(u64, String)>,
}

/// What leads to tables by number and not by name, while all things have their own names.
#[derive(Debug, Default)]
struct Leads {
    /// Views, with what they ask for.
    views: Vec<(String, String)>,
    /// Foreign keys: table, name, definition.
    keys: Vec<(String, String, String)>,
}

impl Leads {
    /// Notes them. With an empty search path the server names everything in full.
    fn of(client: &mut Client) -> Result<Self, DatabaseError> {
        run(client, "SET LOCAL search_path = ''")?;
        let views = "SELECT format('%I.%I', n.nspname, c.relname), pg_get_viewdef(c.oid) FROM pg_catalog.pg_class c \
                     JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind = 'v' AND n.nspname = 'public'";
        let keys = "SELECT format('%I.%I', n.nspname, c.relname), k.conname::text, pg_get_constraintdef(k.oid) FROM pg_catalog.pg_constraint k \
                    JOIN pg_catalog.pg_class c ON c.oid = k.conrelid JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace \
                    WHERE k.contype = 'f' AND k.conparentid = 0 AND n.nspname = 'public'";
        let views = rows(client, views, &[])?.iter().map(|r| (r.get(0), r.get(1))).collect();
        let keys = rows(client, keys, &[])?.iter().map(|r| (r.get(0), r.get(1), r.get(2))).collect();
        Ok(Leads { views, keys })
    }

    /// Lets what leads into a schema lead to the things of the same names in `public`. Returns what could not be led.
    fn home(&self, client: &mut Client, from: &str) -> Result<Vec<String>, DatabaseError> {
        let lost_views = "SELECT DISTINCT format('%I.%I', n.nspname, v.relname) FROM pg_catalog.pg_rewrite r JOIN pg_catalog.pg_class v ON v.oid = r.ev_class \
             JOIN pg_catalog.pg_namespace n ON n.oid = v.relnamespace JOIN pg_catalog.pg_depend d ON d.objid = r.oid \
             JOIN pg_catalog.pg_class t ON t.oid = d.refobjid JOIN pg_catalog.pg_namespace f ON f.oid = t.relnamespace \
             WHERE n.nspname = 'public' AND f.nspname = $1";
        let lost_keys = "SELECT format('%I.%I', n.nspname, c.relname), k.conname::text FROM pg_catalog.pg_constraint k JOIN pg_catalog.pg_class c ON c.oid = k.conrelid \
             JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace JOIN pg_catalog.pg_class t ON t.oid = k.confrelid \
             JOIN pg_catalog.pg_namespace f ON f.oid = t.relnamespace WHERE k.contype = 'f' AND k.conparentid = 0 AND n.nspname = 'public' AND f.nspname = $1";
        let mut left = Vec::new();
        for row in rows(client, lost_views, &[&from])? {
            let view: String = row.get(0);
            let sql = self.views.iter().find(|(v, _)| *v == view);
            let sql = sql.map(|(view, asks)| format!("CREATE OR REPLACE VIEW {view} AS {asks}"));
            if !sql.map_or(Ok(false), |sql| tried(client, &sql))? {
                left.push(view);
            }
        }
        for row in rows(client, lost_keys, &[&from])? {
            let (table, key): (String, String) = (row.get(0), row.get(1));
            let known = self.keys.iter().find(|(t, k, _)| *t == table && *k == key);
            run(client, &format!("ALTER TABLE {table} DROP CONSTRAINT {}", name(&key)))?;
            let made = known.map(|(_, _, leads)| {
                let add = format!("ALTER TABLE {table} ADD CONSTRAINT {} {leads}", name(&key));
                let not_looked_at = if leads.ends_with("NOT VALID") { "" } else { " NOT VALID" };
                Ok::<bool, DatabaseError>(
                    tried(client, &add)? || tried(client, &format!("{add}{not_looked_at}"))?,
                )
            });
            if !made.transpose()?.unwrap_or(false) {
                left.push(format!("{key} of {table}"));
            }
        }
        Ok(left)
    }
}

/// Runs a statement that may fail, and says whether it did not.
fn tried(client: &mut Client, sql: &str) -> Result<bool, DatabaseError> {
    run(client, "SAVEPOINT tried")?;
    match run(client, sql) {
        Ok(()) => run(client, "RELEASE tried").map(|()| true),
        Err(_) => run(client, "ROLLBACK TO tried").map(|()| false),
    }
}

/// Runs a statement that needs a table for itself, and waits its turn.
fn patiently(client: &mut Client, sql: &str) -> Result<(), DatabaseError> {
    run(client, &format!("SET LOCAL lock_timeout = '{WAIT}'"))?;
    for tries in 0.. {
        run(client, "SAVEPOINT turn")?;
        match run(client, sql) {
            Err(e) if state(&e) == Some(&SqlState::LOCK_NOT_AVAILABLE) && tries < TRIES => {
                run(client, "ROLLBACK TO turn")?;
            }
            other => {
                other?;
                break;
            }
        }
    }
    run(client, "RELEASE turn")?;
    run(client, "SET LOCAL lock_timeout = 0")
}

/// The schemas in which things lie aside: new ones before or behind their time, and those that were there.
fn schemas(names: &[AsideName]) -> Option<(String, String)> {
    let first = names.first()?;
    let schema = |name: &str| name.trim_end_matches(|c: char| c.is_ascii_digit()).to_string();
    Some((schema(&first.new), schema(&first.old)))
}

fn is_there(client: &mut Client, schema: &str) -> Result<bool, DatabaseError> {
    Ok(!rows(client, "SELECT FROM pg_catalog.pg_namespace WHERE nspname = $1", &[&schema])?.is_empty())
}

/// Makes an empty `public` with the rights and the owner of the one that lies aside.
fn make_public(client: &mut Client, like: &str) -> Result<(), DatabaseError> {
    run(client, "CREATE SCHEMA public")?;
    let rights = "SELECT format('GRANT %s ON SCHEMA public TO %s%s', a.privilege_type, \
                    CASE a.grantee WHEN 0 THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(a.grantee)) END, CASE WHEN a.is_grantable THEN ' WITH GRANT OPTION' ELSE '' END) \
                  FROM pg_catalog.pg_namespace n CROSS JOIN LATERAL aclexplode(n.nspacl) a WHERE n.nspname = $1 AND a.grantee <> n.nspowner";
    let owner = "SELECT format('ALTER SCHEMA public OWNER TO %I', pg_get_userbyid(nspowner)) FROM pg_catalog.pg_namespace WHERE nspname = $1 AND nspowner <> current_user::regrole";
    let about = "SELECT format('COMMENT ON SCHEMA public IS %L', obj_description(oid, 'pg_namespace')) FROM pg_catalog.pg_namespace WHERE nspname = $1";
    for sql in [owner, rights, about] {
        for row in rows(client, sql, &[&like])? {
            tried(client, &row.get::<_, String>(0))?;
        }
    }
    Ok(())
}

/// Marks a schema as kept, after its own comment went to the one that takes its place.
fn mark(client: &mut Client, schema: &str) -> Result<(), DatabaseError> {
    let sql = "SELECT format('COMMENT ON SCHEMA %I IS %L', $1::text, $2::text)";
    let sql: String = rows(client, sql, &[&schema, &format!("{KEPT_AS}{schema}")])?[0].get(0);
    run(client, &sql)
}

/// Gives the schema that came back the comment of the one that had its place.
fn take_mark_off(client: &mut Client, from: &str) -> Result<(), DatabaseError> {
    let sql = "SELECT format('COMMENT ON SCHEMA public IS %L', obj_description(oid, 'pg_namespace')) \
               FROM pg_catalog.pg_namespace WHERE nspname = $1";
    let all = rows(client, sql, &[&from])?;
    all.iter().try_for_each(|row| run(client, &row.get::<_, String>(0)))
}

/// Moves what belongs to the server's extensions, which all things may need.
fn move_extensions(client: &mut Client, from: &str) -> Result<(), DatabaseError> {
    let sql = "SELECT format('ALTER EXTENSION %I SET SCHEMA public', e.extname) FROM pg_catalog.pg_extension e \
               JOIN pg_catalog.pg_namespace n ON n.oid = e.extnamespace WHERE n.nspname = $1";
    for row in rows(client, sql, &[&from])? {
        run(client, &row.get::<_, String>(0))?;
    }
    Ok(())
}

/// Something that can move from a schema to another.
struct Movable {
    /// `TABLE`, `FUNCTION` and so on.
    kind: String,
    /// Name, quoted, with the arguments of a function.
    name: String,
    /// Name as it is, of a table or what is used as one.
    table: Option<String>,
}

impl Movable {
    fn moved(&self, from: &str, to: &str) -> String {
        format!("ALTER {} {}.{} SET SCHEMA {}", self.kind, name(from), self.name, name(to))
    }
}

/// What lies in a schema, is nobody's part and has no namesake in another.
fn movable(client: &mut Client, from: &str, to: &str) -> Result<Vec<Movable>, DatabaseError> {
    let free = |of: &str, kinds: &str| {
        format!(
            "NOT EXISTS (SELECT FROM pg_catalog.pg_depend d WHERE d.objid = {of} AND d.deptype IN ({kinds}))"
        )
    };
    // By their names first, so that the dump's own of the same names can be told.
    let sql = format!(
        "SELECT CASE c.relkind WHEN 'v' THEN 'VIEW' WHEN 'm' THEN 'MATERIALIZED VIEW' WHEN 'S' THEN 'SEQUENCE' WHEN 'f' THEN 'FOREIGN TABLE' ELSE 'TABLE' END, \
           quote_ident(c.relname), c.relname::text FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace \
           WHERE n.nspname = $1 AND c.relkind IN ('r','p','v','m','f','S') AND {} \
             AND NOT EXISTS (SELECT FROM pg_catalog.pg_class o JOIN pg_catalog.pg_namespace p ON p.oid = o.relnamespace WHERE p.nspname = $2 AND o.relname = c.relname) \
         UNION ALL SELECT CASE p.prokind WHEN 'p' THEN 'PROCEDURE' WHEN 'a' THEN 'AGGREGATE' ELSE 'FUNCTION' END, \
           format('%I(%s)', p.proname, CASE WHEN p.prokind = 'a' AND p.pronargs = 0 THEN '*' ELSE pg_get_function_identity_arguments(p.oid) END), NULL \
           FROM pg_catalog.pg_proc p JOIN pg_catalog.pg_namespace n ON n.oid = p.pronamespace WHERE n.nspname = $1 AND {} \
             AND NOT EXISTS (SELECT FROM pg_catalog.pg_proc o JOIN pg_catalog.pg_namespace q ON q.oid = o.pronamespace WHERE q.nspname = $2 AND o.proname = p.proname) \
         UNION ALL SELECT CASE t.typtype WHEN 'd' THEN 'DOMAIN' ELSE 'TYPE' END, quote_ident(t.typname), NULL \
           FROM pg_catalog.pg_type t JOIN pg_catalog.pg_namespace n ON n.oid = t.typnamespace LEFT JOIN pg_catalog.pg_class c ON c.oid = t.typrelid \
           WHERE n.nspname = $1 AND (t.typtype IN ('e','d','r') OR c.relkind = 'c') AND {} \
             AND NOT EXISTS (SELECT FROM pg_catalog.pg_type o JOIN pg_catalog.pg_namespace q ON q.oid = o.typnamespace WHERE q.nspname = $2 AND o.typname = t.typname)",
        free("c.oid", "'a','i','e'"),
        free("p.oid", "'i','e'"),
        free("t.oid", "'e'"),
    );
    let found = rows(client, &sql, &[&from, &to])?;
    Ok(found.iter().map(|r| Movable { kind: r.get(0), name: r.get(1), table: r.get(2) }).collect())
}

impl PostgresLoader {
    /// Says whether the account may exchange schemas, and all that is there lies in the usual one.
    pub(super) fn may_exchange(&mut self) -> Result<bool, DatabaseError> {
        // What this program moves nowhere would be missed in the new schema.
        let unmoved = UNMOVED.map(|(catalogue, namespace)| {
            format!(
                "AND NOT EXISTS (SELECT FROM pg_catalog.{catalogue} x WHERE x.{namespace} = p.oid \
                 AND NOT EXISTS (SELECT FROM pg_catalog.pg_depend d WHERE d.objid = x.oid AND d.deptype = 'e')) "
            )
        });
        let sql = format!(
            "SELECT pg_has_role(p.nspowner, 'USAGE') AND has_database_privilege(current_database(), 'CREATE') \
               AND NOT EXISTS (SELECT FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace \
                 WHERE {OURS} AND c.relkind IN ('r','p','v','m','f','S') AND (n.nspname <> 'public' OR NOT pg_has_role(c.relowner, 'USAGE'))) \
               AND NOT EXISTS (SELECT FROM pg_catalog.pg_extension e WHERE e.extnamespace = p.oid AND NOT (e.extrelocatable AND pg_has_role(e.extowner, 'USAGE'))) {}\
             FROM pg_catalog.pg_namespace p WHERE p.nspname = 'public'",
            unmoved.concat()
        );
        Ok(rows(self.client()?, &sql, &[])?.first().is_some_and(|r| r.get(0)))
    }

    /// Puts what is there aside, for nobody else's eyes yet.
    pub(super) fn put_aside(&mut self, names: &[AsideName]) -> Result<(), DatabaseError> {
        let Some((_, old)) = schemas(names) else { return Ok(()) };
        let client = self.within()?;
        let leads = Leads::of(client)?;
        run(client, &format!("ALTER SCHEMA public RENAME TO {}", name(&old)))?;
        make_public(client, &old)?;
        mark(client, &old)?;
        move_extensions(client, &old)?;
        let brings = names.iter().map(|n| n.table.clone()).collect();
        self.aside = Some(Aside { old, brings, leads, stays: BTreeSet::new(), waiting: Vec::new() });
        Ok(())
    }

    /// Takes away tables that the dump brought empty, so that those that were there stay. One that others need stays empty.
    pub(super) fn leave_empty(&mut self, names: &BTreeSet<String>) -> Result<(), DatabaseError> {
        for table in names {
            let sql = format!("DROP TABLE IF EXISTS public.{}", name(table));
            let gone = tried(self.within()?, &sql)?;
            if let Some(aside) = self.aside.as_mut().filter(|_| gone) {
                aside.brings.remove(table);
            }
        }
        Ok(())
    }

    /// Moves over what is not the dump's, and commits.
    pub(super) fn exchange_schemas(&mut self) -> Result<Duration, DatabaseError> {
        let Some(aside) = self.aside.take() else { return Ok(Duration::ZERO) };
        let began = Instant::now();
        // Views of the dump come behind the rows: those that were there make room for them.
        let plain = |name: &str| name.rsplit('.').next().unwrap_or(name).trim_matches('"').to_string();
        let views: BTreeSet<String> =
            self.later.all().iter().filter(|l| l.phase == Phase::View).map(|l| plain(&l.name)).collect();
        for thing in movable(self.within()?, &aside.old, "public")? {
            let is_view = thing.kind.ends_with("VIEW");
            if is_view && thing.table.as_ref().is_some_and(|view| views.contains(view)) {
                continue;
            }
            if thing.table.as_ref().is_some_and(|table| aside.brings.contains(table)) {
                continue;
            }
            let back = thing.moved("public", &aside.old);
            let former = FormerThing { kind: MOVED.into(), sql: back, ..FormerThing::default() };
            self.stages.note(Mark::Replaced(former))?;
            patiently(self.within()?, &thing.moved(&aside.old, "public"))?;
        }
        for (line, sql) in &aside.waiting {
            self.within()?
                .execute(sql.as_str(), &[])
                .map_err(|e| super::refused(e, *line, sql.as_bytes()))?;
        }
        self.make_what_waited()?;
        let left = aside.leads.home(self.within()?, &aside.old)?;
        self.told_of(left);
        self.commit(true)?;
        Ok(began.elapsed())
    }

    fn told_of(&mut self, left: Vec<String>) {
        for thing in left {
            let what = "it leads to a table that was replaced, and could not be made to lead to the new one";
            let cure = "make it anew by hand";
            self.loaded.findings.push(Finding::new(Code::ObjectRefused, what, thing, cure));
        }
    }

    /// Tables that were there before the exchange and lie neither aside nor at their places, or the schema in which they lay aside.
    pub(super) fn missing_schema(
        &mut self,
        names: &[AsideName],
        former: Option<&BTreeSet<String>>,
        ended: bool,
    ) -> Result<Vec<String>, DatabaseError> {
        let Some((new, old)) = schemas(names) else { return Ok(Vec::new()) };
        let client = self.client()?;
        if !is_there(client, &old)? {
            // It went back already, or never came.
            let in_place = is_there(client, &new)? || !ended;
            return Ok(if in_place { Vec::new() } else { vec![format!("schema {old}")] });
        }
        let sql = "SELECT c.relname::text FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace \
                   WHERE n.nspname = $1 AND c.relkind IN ('r','p')";
        let there: BTreeSet<String> = rows(client, sql, &[&old])?.iter().map(|r| r.get(0)).collect();
        let gone = names.iter().filter(|n| !there.contains(&n.table));
        let gone = gone.filter(|n| former.is_some_and(|former| former.contains(&n.table)));
        Ok(gone.map(|n| format!("{old}.{}", n.table)).collect())
    }

    /// Lets what was there take its place again; nothing where it never left it.
    pub(super) fn exchange_schemas_back(
        &mut self,
        names: &[AsideName],
        former: &[FormerThing],
    ) -> Result<(), DatabaseError> {
        let Some((new, old)) = schemas(names) else { return Ok(()) };
        wait_for_others(self.client()?)?;
        if !is_there(self.client()?, &old)? {
            return Ok(());
        }
        let client = self.within()?;
        let leads = Leads::of(client)?;
        for thing in former.iter().filter(|f| f.kind == MOVED) {
            // What its owner took away meanwhile stays away.
            run(client, "SAVEPOINT back")?;
            match patiently(client, &thing.sql) {
                Ok(()) => run(client, "RELEASE back")?,
                Err(e) if state(&e) == Some(&SqlState::LOCK_NOT_AVAILABLE) => return Err(e),
                Err(_) => run(client, "ROLLBACK TO back")?,
            }
        }
        // Tables that the site made since stay where it finds them.
        let brought = |table: &String| names.iter().any(|n| n.table == *table);
        for thing in movable(client, "public", &old)? {
            if thing.kind == "TABLE" && !thing.table.as_ref().is_some_and(brought) {
                patiently(client, &thing.moved("public", &old))?;
            }
        }
        run(client, &format!("ALTER SCHEMA public RENAME TO {}", name(&new)))?;
        run(client, &format!("ALTER SCHEMA {} RENAME TO public", name(&old)))?;
        take_mark_off(client, &new)?;
        mark(client, &new)?;
        move_extensions(client, &new)?;
        let left = leads.home(client, &new)?;
        self.told_of(left);
        self.commit(true)
    }

    /// Takes away what lies aside.
    pub(super) fn forget_schemas(&mut self, names: &[AsideName]) -> Result<(), DatabaseError> {
        let Some((new, old)) = schemas(names) else { return Ok(()) };
        for schema in [new, old] {
            run(self.within()?, &format!("DROP SCHEMA IF EXISTS {} CASCADE", name(&schema)))?;
        }
        self.commit(true)
    }
}
