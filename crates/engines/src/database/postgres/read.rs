//! Reads a PostgreSQL database out in one consistent snapshot: structure from the catalogue, in the server's own words where it has
//! them (`pg_get_…def`), rows by `COPY`, whose text goes through as it comes.
//!
//! Source: PostgreSQL manual, "System Catalogs" and "System Catalog Information Functions". With an empty search path the server
//! names everything in full.

use super::aside::OURS;
use super::ranges::{self, READING, Readers};
use super::{connect, name, quoted, refused, rows, run};
use crate::database::DatabaseError;
use crate::database::snapshot::{DumpOut, Snapshot, TableFacts};
use crate::event::Findings;
use crate::finding::{Code, Finding};

use crate::place::DatabaseAccess;
use ::postgres::Client;
use std::collections::{BTreeMap, BTreeSet};
use std::io::BufRead;

/// Size at which a block of rows is closed where the dump is written in parts, in bytes.
const BLOCK: u64 = 256 << 10;

const SESSION: &str = "SET statement_timeout = 0;\nSET client_encoding = 'UTF8';\nSET standard_conforming_strings = on;\n\
    SELECT pg_catalog.set_config('search_path', '', false);\nSET check_function_bodies = false;\nSET client_min_messages = warning;\n";

/// The options of a table or view, as they are written behind it.
const OPTIONS: &str = "COALESCE((SELECT E' WITH (' || string_agg(format('%s=%L', split_part(o, '=', 1), substr(o, strpos(o, '=') + 1)), ', ' ORDER BY o) || ')' \
    FROM unnest(c.reloptions) o), '')";

/// A thing that belongs to an extension comes with it.
const NO_EXTENSION: &str = "NOT EXISTS (SELECT FROM pg_depend d WHERE d.objid = ";

/// A table as it is known to its catalogue.
struct Known {
    oid: u32,
    /// Name in full, quoted.
    full: String,
    /// `r` for a table, `p` for one that is cut into partitions.
    kind: String,
}

/// A PostgreSQL database at one moment.
pub struct PostgresSnapshot {
    client: Client,
    access: DatabaseAccess,
    /// Further connections to the same snapshot, once a table was met for which they pay.
    readers: Option<Readers>,
    tables: BTreeMap<String, Known>,
}

impl PostgresSnapshot {
    /// Connects and opens the snapshot.
    pub fn open(access: &DatabaseAccess) -> Result<Self, DatabaseError> {
        let mut client = connect(access)?;
        run(&mut client, &format!("BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY; {READING}"))?;
        Ok(PostgresSnapshot { client, access: access.clone(), readers: None, tables: BTreeMap::new() })
    }

    /// Returns the size of a table, in pages, if it is one whose rows several connections can read faster than one.
    fn pages_worth(&mut self, oid: u32) -> Result<Option<u64>, DatabaseError> {
        let sql = "SELECT current_setting('server_version_num')::int, pg_relation_size(c.oid) / current_setting('block_size')::int8 \
                   FROM pg_class c LEFT JOIN pg_am a ON a.oid = c.relam WHERE c.oid = $1 AND a.amname = 'heap'";
        let found = rows(&mut self.client, sql, &[&oid])?;
        let Some(row) = found.first() else { return Ok(None) };
        let pages = u64::try_from(row.get::<_, i64>(1)).unwrap_or_default();
        if row.get::<_, i32>(0) < ranges::SINCE || pages < ranges::WORTH {
            return Ok(None);
        }
        if self.readers.is_none() {
            let snapshot = self.texts("SELECT pg_export_snapshot()")?;
            self.readers = snapshot.first().map(|s| Readers::beside(&self.access, s));
        }
        Ok(self.readers.as_ref().is_some_and(Readers::pay).then_some(pages))
    }

    fn texts(&mut self, sql: &str) -> Result<Vec<String>, DatabaseError> {
        Ok(rows(&mut self.client, sql, &[])?.into_iter().map(|r| r.get(0)).collect())
    }

    fn known(&self, table: &str) -> Result<&Known, DatabaseError> {
        self.tables
            .get(table)
            .ok_or_else(|| DatabaseError::Io(std::io::Error::other(format!("no table {table}"))))
    }

    fn sequences(&mut self, out: &mut dyn DumpOut) -> Result<u64, DatabaseError> {
        // Those of identity columns come with their columns.
        let sql = format!(
            "SELECT format('CREATE SEQUENCE %I.%I AS %s START WITH %s INCREMENT BY %s MINVALUE %s MAXVALUE %s CACHE %s%s', n.nspname, c.relname, \
               format_type(s.seqtypid, NULL), s.seqstart, s.seqincrement, s.seqmin, s.seqmax, s.seqcache, CASE WHEN s.seqcycle THEN ' CYCLE' ELSE '' END) \
             FROM pg_sequence s JOIN pg_class c ON c.oid = s.seqrelid JOIN pg_namespace n ON n.oid = c.relnamespace \
             WHERE {OURS} AND {NO_EXTENSION} c.oid AND d.deptype IN ('i','e')) ORDER BY n.nspname, c.relname"
        );
        let found = self.texts(&sql)?;
        for statement in &found {
            writeln!(out, "{statement};")?;
        }
        Ok(found.len() as u64)
    }

    /// Views and functions of their rows, each behind those that it needs, else by their names.
    fn in_order(&mut self, sql: &str) -> Result<Vec<String>, DatabaseError> {
        let mut items: Vec<(u32, String)> =
            rows(&mut self.client, sql, &[])?.iter().map(|r| (r.get(0), r.get(2))).collect();
        let needs = "SELECT r.ev_class, x.refobjid FROM pg_rewrite r JOIN pg_depend x ON x.objid = r.oid WHERE x.refobjid <> r.ev_class \
                     UNION SELECT p.oid, t.typrelid FROM pg_proc p JOIN pg_type t ON t.oid = p.prorettype OR t.oid = ANY(p.proargtypes) \
                       OR t.oid = ANY(COALESCE(p.proallargtypes, '{}')) WHERE t.typrelid <> 0";
        let needs: BTreeSet<(u32, u32)> =
            rows(&mut self.client, needs, &[])?.iter().map(|r| (r.get(0), r.get(1))).collect();
        let mut out = Vec::new();
        while !items.is_empty() {
            let free = items
                .iter()
                .position(|(item, _)| !items.iter().any(|(other, _)| needs.contains(&(*item, *other))));
            out.push(items.remove(free.unwrap_or(0)).1);
        }
        Ok(out)
    }

    /// Functions that need no table.
    fn functions(&mut self, out: &mut dyn DumpOut) -> Result<u64, DatabaseError> {
        let found =
            self.texts(&format!("SELECT sql FROM ({}) f(oid, name, sql) ORDER BY oid", functions(false)))?;
        for statement in &found {
            writeln!(out, "{};", statement.trim_end())?;
        }
        Ok(found.len() as u64)
    }

    fn create_table(&mut self, oid: u32, full: &str, kind: &str) -> Result<String, DatabaseError> {
        let parents = rows(
            &mut self.client,
            "SELECT format('%I.%I', n.nspname, p.relname), pg_get_expr(c.relpartbound, c.oid) FROM pg_class c JOIN pg_inherits i ON i.inhrelid = c.oid \
             JOIN pg_class p ON p.oid = i.inhparent JOIN pg_namespace n ON n.oid = p.relnamespace WHERE c.oid = $1 ORDER BY i.inhseqno",
            &[&oid],
        )?;
        if let Some((parent, Some(bound))) =
            parents.first().map(|r| (r.get::<_, String>(0), r.get::<_, Option<String>>(1)))
        {
            return Ok(format!("CREATE TABLE {full} PARTITION OF {parent} {bound}{}", self.by(oid, kind)?));
        }
        let columns = rows(
            &mut self.client,
            "SELECT quote_ident(a.attname), format_type(a.atttypid, a.atttypmod), a.attnotnull, pg_get_expr(d.adbin, d.adrelid), a.attidentity::text, \
               a.attgenerated::text, CASE WHEN a.attcollation <> t.typcollation THEN format(' COLLATE %I.%I', cn.nspname, co.collname) ELSE '' END, \
               (SELECT format('SEQUENCE NAME %s START WITH %s INCREMENT BY %s MINVALUE %s MAXVALUE %s CACHE %s%s', s.seqrelid::regclass, s.seqstart, s.seqincrement, s.seqmin, s.seqmax, s.seqcache, \
                  CASE WHEN s.seqcycle THEN ' CYCLE' ELSE '' END) FROM pg_depend x JOIN pg_sequence s ON s.seqrelid = x.objid \
                  WHERE x.refobjid = a.attrelid AND x.refobjsubid = a.attnum AND x.deptype = 'i' AND x.classid = 'pg_class'::regclass) \
             FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid LEFT JOIN pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum \
             LEFT JOIN pg_collation co ON co.oid = a.attcollation LEFT JOIN pg_namespace cn ON cn.oid = co.collnamespace \
             WHERE a.attrelid = $1 AND a.attnum > 0 AND NOT a.attisdropped AND a.attislocal ORDER BY a.attnum",
            &[&oid],
        )?;
        let mut lines = Vec::new();
        for row in columns {
            let (column, kind, collate): (String, String, String) = (row.get(0), row.get(1), row.get(6));
            let (not_null, default): (bool, Option<String>) = (row.get(2), row.get(3));
            let (identity, generated): (String, String) = (row.get(4), row.get(5));
            let mut line = format!("    {column} {kind}{collate}");
            match (identity.as_str(), generated.as_str(), default) {
                ("a" | "d", ..) => {
                    let when = if identity == "a" { "ALWAYS" } else { "BY DEFAULT" };
                    let options: Option<String> = row.get(7);
                    line.push_str(&format!(
                        " GENERATED {when} AS IDENTITY ({})",
                        options.unwrap_or_default()
                    ));
                }
                (_, "s", Some(expression)) => {
                    line.push_str(&format!(" GENERATED ALWAYS AS ({expression}) STORED"))
                }
                (_, "v", Some(expression)) => {
                    line.push_str(&format!(" GENERATED ALWAYS AS ({expression}) VIRTUAL"))
                }
                (_, _, Some(expression)) => line.push_str(&format!(" DEFAULT {expression}")),
                _ => {}
            }
            if not_null {
                line.push_str(" NOT NULL");
            }
            lines.push(line);
        }
        let parents: Vec<String> = parents.iter().map(|r| r.get(0)).collect();
        let inherits =
            if parents.is_empty() { String::new() } else { format!("\nINHERITS ({})", parents.join(", ")) };
        let unlogged =
            rows(&mut self.client, "SELECT relpersistence = 'u' FROM pg_class WHERE oid = $1", &[&oid])?;
        let unlogged = if unlogged.first().is_some_and(|r| r.get(0)) { "UNLOGGED " } else { "" };
        let options =
            rows(&mut self.client, &format!("SELECT {OPTIONS} FROM pg_class c WHERE c.oid = $1"), &[&oid])?;
        let options = options.first().map(|r| r.get::<_, String>(0)).unwrap_or_default();
        Ok(format!(
            "CREATE {unlogged}TABLE {full} (\n{}\n){inherits}{}{options}",
            lines.join(",\n"),
            self.by(oid, kind)?
        ))
    }

    fn by(&mut self, oid: u32, kind: &str) -> Result<String, DatabaseError> {
        if kind != "p" {
            return Ok(String::new());
        }
        let key = rows(&mut self.client, "SELECT pg_get_partkeydef($1::oid)", &[&oid])?;
        Ok(format!("\nPARTITION BY {}", key.first().map(|r| r.get::<_, String>(0)).unwrap_or_default()))
    }
}

impl Snapshot for PostgresSnapshot {
    fn server(&mut self) -> Result<String, DatabaseError> {
        let version = self.texts("SELECT current_setting('server_version')")?;
        Ok(format!("PostgreSQL {}", version.first().and_then(|v| v.split(' ').next()).unwrap_or_default()))
    }

    fn session(&self) -> &'static str {
        SESSION
    }

    fn tables(&mut self) -> Result<Vec<TableFacts>, DatabaseError> {
        // Parents of partitions come before these: by how often a table is a child, and by that of its parents.
        let sql = format!(
            "WITH RECURSIVE depth AS (SELECT c.oid, 0 AS n FROM pg_class c WHERE NOT EXISTS (SELECT FROM pg_inherits i WHERE i.inhrelid = c.oid) \
               UNION ALL SELECT i.inhrelid, depth.n + 1 FROM pg_inherits i JOIN depth ON depth.oid = i.inhparent) \
             SELECT c.oid, n.nspname::text, c.relname::text, c.relkind::text, GREATEST(c.reltuples, 0)::int8, \
               pg_table_size(c.oid), pg_indexes_size(c.oid), max(depth.n) \
             FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace JOIN depth ON depth.oid = c.oid \
             WHERE c.relkind IN ('r','p') AND c.relpersistence <> 't' AND {OURS} AND {NO_EXTENSION} c.oid AND d.deptype = 'e') \
             GROUP BY c.oid, n.nspname, c.relname, c.relkind, c.reltuples ORDER BY max(depth.n), n.nspname <> 'public', n.nspname, c.relname"
        );
        let mut out = Vec::new();
        for row in rows(&mut self.client, &sql, &[])? {
            let (schema, table): (String, String) = (row.get(1), row.get(2));
            let full = format!("{}.{}", ident(&schema), ident(&table));
            let shown = if schema == "public" { table } else { format!("{schema}.{table}") };
            self.tables.insert(shown.clone(), Known { oid: row.get(0), full, kind: row.get(3) });
            let number = |at: usize| u64::try_from(row.get::<_, i64>(at)).unwrap_or_default();
            out.push(TableFacts { name: shown, rows: number(4), data: number(5), index: number(6) });
        }
        Ok(out)
    }

    fn before(&mut self, _: &dyn Fn(&str) -> bool, out: &mut dyn DumpOut) -> Result<u64, DatabaseError> {
        let schemas = format!(
            "SELECT format('CREATE SCHEMA %I', n.nspname) FROM pg_namespace n WHERE {OURS} AND n.nspname <> 'public' ORDER BY 1"
        );
        let extensions = "SELECT format('CREATE EXTENSION IF NOT EXISTS %I WITH SCHEMA %I', e.extname, n.nspname) FROM pg_extension e \
             JOIN pg_namespace n ON n.oid = e.extnamespace WHERE e.extname <> 'plpgsql' ORDER BY 1";
        // Ranges have had companions since version 14.
        let many = if self.texts("SELECT attname::text FROM pg_attribute WHERE attrelid = 'pg_catalog.pg_range'::regclass AND attname = 'rngmultitypid'")?.is_empty() {
            "''"
        } else {
            "format(', MULTIRANGE_TYPE_NAME = %s', format_type(r.rngmultitypid, NULL))"
        };
        let types = format!(
            "SELECT CASE t.typtype \
               WHEN 'e' THEN format('CREATE TYPE %I.%I AS ENUM (%s)', n.nspname, t.typname, (SELECT string_agg(quote_literal(e.enumlabel), ', ' ORDER BY e.enumsortorder) FROM pg_enum e WHERE e.enumtypid = t.oid)) \
               WHEN 'd' THEN format('CREATE DOMAIN %I.%I AS %s%s%s%s', n.nspname, t.typname, format_type(t.typbasetype, t.typtypmod), COALESCE(' DEFAULT ' || t.typdefault, ''), CASE WHEN t.typnotnull THEN ' NOT NULL' ELSE '' END, \
                 COALESCE((SELECT string_agg(format(' CONSTRAINT %I %s', k.conname, pg_get_constraintdef(k.oid)), '' ORDER BY k.conname) FROM pg_constraint k WHERE k.contypid = t.oid AND k.contype = 'c'), '')) \
               WHEN 'r' THEN (SELECT format('CREATE TYPE %I.%I AS RANGE (SUBTYPE = %s%s%s%s%s)', n.nspname, t.typname, format_type(r.rngsubtype, NULL), {many}, \
                 CASE WHEN o.opcdefault THEN '' ELSE format(', SUBTYPE_OPCLASS = %I.%I', (SELECT nspname FROM pg_namespace WHERE oid = o.opcnamespace), o.opcname) END, \
                 CASE WHEN r.rngcollation = (SELECT typcollation FROM pg_type WHERE oid = r.rngsubtype) THEN '' ELSE format(', COLLATION = %s', r.rngcollation::regcollation) END, \
                 CASE WHEN f.pronamespace = 'pg_catalog'::regnamespace THEN format(', SUBTYPE_DIFF = %s', r.rngsubdiff) ELSE '' END) \
                 FROM pg_range r LEFT JOIN pg_opclass o ON o.oid = r.rngsubopc LEFT JOIN pg_proc f ON f.oid = r.rngsubdiff WHERE r.rngtypid = t.oid) \
               ELSE format('CREATE TYPE %I.%I AS (%s)', n.nspname, t.typname, (SELECT string_agg(format('%I %s', a.attname, format_type(a.atttypid, a.atttypmod)), ', ' ORDER BY a.attnum) FROM pg_attribute a WHERE a.attrelid = t.typrelid AND a.attnum > 0 AND NOT a.attisdropped)) END \
             FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace LEFT JOIN pg_class c ON c.oid = t.typrelid \
             WHERE {OURS} AND (t.typtype IN ('e','d','r') OR t.typtype = 'c' AND c.relkind = 'c') AND {NO_EXTENSION} t.oid AND d.deptype = 'e') \
             ORDER BY t.oid"
        );
        let mut count = 0;
        for sql in [schemas.as_str(), extensions, types.as_str()] {
            for statement in self.texts(sql)? {
                writeln!(out, "{statement};")?;
                count += 1;
            }
        }
        count += self.sequences(out)?;
        count += self.functions(out)?;
        Ok(count)
    }

    fn table(&mut self, table: &str, with_rows: bool, out: &mut dyn DumpOut) -> Result<u64, DatabaseError> {
        let known = self.known(table)?;
        let (oid, full, kind) = (known.oid, known.full.clone(), known.kind.clone());
        let create = self.create_table(oid, &full, &kind)?;
        writeln!(out, "{create};")?;
        if !with_rows || kind == "p" {
            return Ok(0);
        }
        let sql = "SELECT quote_ident(attname) FROM pg_attribute WHERE attrelid = $1 AND attnum > 0 AND NOT attisdropped AND attgenerated = '' ORDER BY attnum";
        let columns: Vec<String> =
            rows(&mut self.client, sql, &[&oid])?.into_iter().map(|r| r.get(0)).collect();
        let list = columns.join(", ");
        let mut copied =
            Copied { out, head: format!("COPY {full} ({list}) FROM stdin;\n"), count: 0, in_block: 0 };
        copied.out.write_all(copied.head.as_bytes())?;
        if let Some(pages) = self.pages_worth(oid)?
            && let Some(readers) = &mut self.readers
        {
            readers.read(&format!("SELECT {list} FROM ONLY {full}"), pages, &mut |text| {
                Ok(copied.take(text)?)
            })?;
        } else {
            let sql = format!("COPY {full} ({list}) TO STDOUT");
            let mut reader = self.client.copy_out(sql.as_str()).map_err(|e| refused(e, 0, sql.as_bytes()))?;
            // The library hands on one message after the other, and a message is one row.
            loop {
                let text = reader.fill_buf().map_err(|e| DatabaseError::Lost(Box::new(e)))?;
                if text.is_empty() {
                    break;
                }
                copied.take(text)?;
                let len = text.len();
                reader.consume(len);
            }
        }
        copied.out.write_all(b"\\.\n\n")?;
        Ok(copied.count)
    }

    fn after(
        &mut self,
        has: &dyn Fn(&str) -> bool,
        out: &mut dyn DumpOut,
        findings: &mut Findings<'_>,
    ) -> Result<u64, DatabaseError> {
        let mut count = 0;
        let missing: Vec<u32> = self.tables.iter().filter(|(t, _)| !has(t)).map(|(_, k)| k.oid).collect();
        let left = missing.iter().map(u32::to_string).chain(["0".to_string()]).collect::<Vec<_>>().join(",");
        let own = |of: &str| {
            format!("{OURS} AND {of} NOT IN ({left}) AND {NO_EXTENSION} {of} AND d.deptype = 'e')")
        };
        let last = format!(
            "SELECT format('%I.%I', n.nspname, c.relname) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind = 'S' AND {OURS} \
             AND {NO_EXTENSION} c.oid AND (d.deptype = 'e' OR d.refobjid IN ({left}))) ORDER BY 1"
        );
        for sequence in self.texts(&last)? {
            let row = rows(&mut self.client, &format!("SELECT last_value, is_called FROM {sequence}"), &[])?;
            if let Some(row) = row.first() {
                let (value, called): (i64, bool) = (row.get(0), row.get(1));
                writeln!(out, "SELECT pg_catalog.setval({}, {value}, {called});", quoted(&sequence))?;
            }
        }
        let owned = format!(
            "SELECT format('ALTER SEQUENCE %I.%I OWNED BY %I.%I.%I', n.nspname, s.relname, n.nspname, c.relname, a.attname) FROM pg_depend d \
             JOIN pg_class s ON s.oid = d.objid AND s.relkind = 'S' JOIN pg_class c ON c.oid = d.refobjid JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = d.refobjsubid \
             JOIN pg_namespace n ON n.oid = c.relnamespace WHERE d.deptype = 'a' AND {OURS} AND c.oid NOT IN ({left}) ORDER BY 1"
        );
        let constraints = format!(
            "SELECT format('ALTER TABLE %s%I.%I ADD CONSTRAINT %I %s', CASE WHEN c.relkind = 'p' OR k.contype <> 'f' THEN '' ELSE 'ONLY ' END, n.nspname, c.relname, k.conname, pg_get_constraintdef(k.oid)) \
             FROM pg_constraint k JOIN pg_class c ON c.oid = k.conrelid JOIN pg_namespace n ON n.oid = c.relnamespace \
             WHERE k.contype IN ('p','u','x','c','f') AND k.conparentid = 0 AND k.conislocal AND (k.confrelid = 0 OR k.confrelid NOT IN ({left})) AND {} \
             ORDER BY CASE k.contype WHEN 'p' THEN 0 WHEN 'u' THEN 1 WHEN 'f' THEN 9 ELSE 2 END, n.nspname, c.relname, k.conname",
            own("c.oid")
        );
        let indexes = format!(
            "SELECT CASE WHEN c.relkind = 'p' THEN replace(pg_get_indexdef(i.indexrelid), ' ON ONLY ', ' ON ') ELSE pg_get_indexdef(i.indexrelid) END \
             FROM pg_index i JOIN pg_class c ON c.oid = i.indrelid JOIN pg_class x ON x.oid = i.indexrelid JOIN pg_namespace n ON n.oid = c.relnamespace \
             WHERE c.relkind IN ('r','p') AND NOT EXISTS (SELECT FROM pg_constraint k WHERE k.conindid = i.indexrelid AND k.contype IN ('p','u','x')) \
             AND NOT EXISTS (SELECT FROM pg_inherits h WHERE h.inhrelid = i.indexrelid) AND {} ORDER BY n.nspname, c.relname, x.relname",
            own("c.oid")
        );
        let views = format!(
            "SELECT oid, name, sql FROM (SELECT c.oid, format('%I.%I', n.nspname, c.relname), format('CREATE %sVIEW %I.%I%s AS %s', CASE WHEN c.relkind = 'm' THEN 'MATERIALIZED ' ELSE '' END, n.nspname, c.relname, {OPTIONS}, rtrim(pg_get_viewdef(c.oid), ';')) \
             FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind IN ('v','m') AND {} \
             AND NOT EXISTS (SELECT FROM pg_rewrite r JOIN pg_depend x ON x.objid = r.oid WHERE r.ev_class = c.oid AND x.refobjid IN ({left})) UNION ALL {}) v(oid, name, sql) ORDER BY name, oid",
            own("c.oid"),
            functions(true)
        );
        let view_indexes = format!(
            "SELECT pg_get_indexdef(i.indexrelid) FROM pg_index i JOIN pg_class c ON c.oid = i.indrelid JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind = 'm' AND {} ORDER BY i.indexrelid",
            own("c.oid")
        );
        let triggers = format!(
            "SELECT pg_get_triggerdef(t.oid) FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid JOIN pg_namespace n ON n.oid = c.relnamespace \
             WHERE NOT t.tgisinternal AND t.tgparentid = 0 AND {} ORDER BY n.nspname, c.relname, t.tgname",
            own("c.oid")
        );
        let state = |kind: &str, catalog: &str, of: &str, name: &str, column: &str, but: &str| {
            format!(
                "SELECT format('ALTER TABLE %I.%I %s {kind} %I', n.nspname, c.relname, CASE x.{column} WHEN 'D' THEN 'DISABLE' WHEN 'R' THEN 'ENABLE REPLICA' ELSE 'ENABLE ALWAYS' END, x.{name}) \
                 FROM {catalog} x JOIN pg_class c ON c.oid = x.{of} JOIN pg_namespace n ON n.oid = c.relnamespace \
                 WHERE x.{column} <> 'O' AND {but} AND {} ORDER BY n.nspname, c.relname, x.{name}",
                own("c.oid")
            )
        };
        let switched = state("TRIGGER", "pg_trigger", "tgrelid", "tgname", "tgenabled", "NOT x.tgisinternal");
        let switched_rules =
            state("RULE", "pg_rewrite", "ev_class", "rulename", "ev_enabled", "x.rulename <> '_RETURN'");
        let columns = format!(
            "SELECT format('ALTER TABLE ONLY %I.%I ALTER COLUMN %I %s', n.nspname, c.relname, a.attname, s.what) FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace \
             JOIN pg_type t ON t.oid = a.atttypid CROSS JOIN LATERAL (VALUES \
               (CASE WHEN a.attstattarget >= 0 THEN 'SET STATISTICS ' || a.attstattarget END), \
               (CASE WHEN a.attstorage <> t.typstorage THEN 'SET STORAGE ' || CASE a.attstorage WHEN 'p' THEN 'PLAIN' WHEN 'e' THEN 'EXTERNAL' WHEN 'm' THEN 'MAIN' ELSE 'EXTENDED' END END), \
               ((SELECT 'SET (' || string_agg(format('%s=%L', split_part(o, '=', 1), substr(o, strpos(o, '=') + 1)), ', ' ORDER BY o) || ')' FROM unnest(a.attoptions) o))) s(what) \
             WHERE c.relkind IN ('r','p') AND a.attnum > 0 AND NOT a.attisdropped AND s.what IS NOT NULL AND {} ORDER BY n.nspname, c.relname, a.attnum, s.what",
            own("c.oid")
        );
        let identities = format!(
            "SELECT format('ALTER TABLE ONLY %I.%I %s', n.nspname, c.relname, s.what) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace CROSS JOIN LATERAL (VALUES \
               (CASE c.relreplident WHEN 'f' THEN 'REPLICA IDENTITY FULL' WHEN 'n' THEN 'REPLICA IDENTITY NOTHING' WHEN 'i' THEN (SELECT format('REPLICA IDENTITY USING INDEX %I', x.relname) FROM pg_index i JOIN pg_class x ON x.oid = i.indexrelid WHERE i.indrelid = c.oid AND i.indisreplident) END), \
               ((SELECT format('CLUSTER ON %I', x.relname) FROM pg_index i JOIN pg_class x ON x.oid = i.indexrelid WHERE i.indrelid = c.oid AND i.indisclustered))) s(what) \
             WHERE c.relkind IN ('r','p') AND s.what IS NOT NULL AND {} ORDER BY 1",
            own("c.oid")
        );
        let comments = format!(
            "SELECT format('COMMENT ON %s %s IS %L', CASE WHEN i.type LIKE '% column' THEN 'COLUMN' WHEN i.type LIKE '% constraint' THEN 'CONSTRAINT' ELSE upper(i.type) END, \
               CASE WHEN i.type = 'domain constraint' THEN replace(i.identity, ' on ', ' ON DOMAIN ') ELSE i.identity END, x.description) \
             FROM pg_description x CROSS JOIN LATERAL pg_identify_object(x.classoid, x.objoid, x.objsubid) i \
             WHERE i.type IN ('table','view','materialized view','table column','view column','materialized view column','index','sequence','function','procedure','aggregate','type','domain', \
               'table constraint','domain constraint','trigger','rule','policy','schema','statistics object') \
             AND COALESCE(i.schema, '') NOT LIKE 'pg\\_%' AND COALESCE(i.schema, '') <> 'information_schema' AND i.identity NOT LIKE 'pg\\_%' AND i.identity NOT LIKE '%information_schema%' \
             AND NOT (i.type = 'schema' AND i.identity = 'public') AND x.objoid NOT IN ({left}) AND {NO_EXTENSION} x.objoid AND d.deptype = 'e') ORDER BY 1"
        );
        let rules = format!(
            "SELECT rtrim(pg_get_ruledef(r.oid), ';') FROM pg_rewrite r JOIN pg_class c ON c.oid = r.ev_class JOIN pg_namespace n ON n.oid = c.relnamespace \
             WHERE r.rulename <> '_RETURN' AND {} ORDER BY n.nspname, c.relname, r.rulename",
            own("c.oid")
        );
        let policies = format!(
            "SELECT format('CREATE POLICY %I ON %I.%I AS %s FOR %s TO %s%s%s', l.polname, n.nspname, c.relname, CASE WHEN l.polpermissive THEN 'PERMISSIVE' ELSE 'RESTRICTIVE' END, \
               CASE l.polcmd WHEN 'r' THEN 'SELECT' WHEN 'a' THEN 'INSERT' WHEN 'w' THEN 'UPDATE' WHEN 'd' THEN 'DELETE' ELSE 'ALL' END, \
               CASE WHEN 0 = ANY(l.polroles) THEN 'PUBLIC' ELSE (SELECT string_agg(quote_ident(u.rolname), ', ' ORDER BY u.rolname) FROM pg_roles u WHERE u.oid = ANY(l.polroles)) END, \
               COALESCE(' USING (' || pg_get_expr(l.polqual, l.polrelid) || ')', ''), COALESCE(' WITH CHECK (' || pg_get_expr(l.polwithcheck, l.polrelid) || ')', '')) \
             FROM pg_policy l JOIN pg_class c ON c.oid = l.polrelid JOIN pg_namespace n ON n.oid = c.relnamespace WHERE {} ORDER BY n.nspname, c.relname, l.polname",
            own("c.oid")
        );
        let row_security = format!(
            "SELECT format('ALTER TABLE %I.%I %s ROW LEVEL SECURITY', n.nspname, c.relname, s.what) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace \
             JOIN (VALUES ('ENABLE'), ('FORCE')) s(what) ON CASE s.what WHEN 'FORCE' THEN c.relforcerowsecurity ELSE c.relrowsecurity END \
             WHERE {} ORDER BY n.nspname, c.relname, s.what",
            own("c.oid")
        );
        for sql in [owned, constraints, indexes, columns, identities] {
            for statement in self.texts(&sql)? {
                writeln!(out, "{statement};")?;
            }
        }
        for statement in self.texts(&aggregates())?.into_iter().chain(self.in_order(&views)?) {
            writeln!(out, "{statement};")?;
            count += 1;
        }
        for sql in [view_indexes, rules, triggers, switched, switched_rules, policies, row_security, comments]
        {
            for statement in self.texts(&sql)? {
                writeln!(out, "{statement};")?;
                count += 1;
            }
        }
        // What is rare in a site's database and is not written is said.
        let rest = format!(
            "SELECT 'the window function ' || p.oid::regprocedure::text FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace WHERE {OURS} AND p.prokind = 'w' AND {NO_EXTENSION} p.oid AND d.deptype = 'e') \
             UNION ALL SELECT 'the foreign table ' || c.oid::regclass::text FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind = 'f' AND {OURS} \
             UNION ALL SELECT 'large objects' WHERE EXISTS (SELECT FROM pg_largeobject_metadata)"
        );
        for what in self.texts(&rest)? {
            findings.push(Finding::new(
                Code::ObjectLeftOut,
                format!("{what}: not written"),
                "",
                "copy it by hand if the site needs it",
            ));
        }
        Ok(count)
    }
}

/// The question for functions with their numbers: those whose arguments or results are rows of a table or view, or the others.
fn functions(of_rows: bool) -> String {
    format!(
        "SELECT p.oid, p.oid::regprocedure::text, rtrim(pg_get_functiondef(p.oid), E'\\n') FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace \
         WHERE {OURS} AND p.prokind IN ('f','p') AND {NO_EXTENSION} p.oid AND d.deptype IN ('e','i')) \
         AND {} EXISTS (SELECT FROM pg_type t JOIN pg_class c ON c.oid = t.typrelid WHERE c.relkind IN ('r','p','v','m') \
           AND (t.oid = p.prorettype OR t.oid = ANY(p.proargtypes) OR t.oid = ANY(COALESCE(p.proallargtypes, '{{}}'))))",
        if of_rows { "" } else { "NOT" }
    )
}

/// The question for statements that make aggregates: what the catalogue holds of each, in the words of `CREATE AGGREGATE`.
fn aggregates() -> String {
    let function = |word: &str, column: &str| {
        format!("CASE WHEN a.{column} <> 0 THEN format(', {word} = %s', a.{column}::regproc) ELSE '' END")
    };
    let number = |word: &str, column: &str| {
        format!("CASE WHEN a.{column} <> 0 THEN format(', {word} = %s', a.{column}) ELSE '' END")
    };
    let text = |word: &str, column: &str| {
        format!("CASE WHEN a.{column} IS NOT NULL THEN format(', {word} = %L', a.{column}) ELSE '' END")
    };
    let flag = |words: &str, when: &str| format!("CASE WHEN {when} THEN ', {words}' ELSE '' END");
    let modify = |word: &str, column: &str| {
        format!(
            "format(', {word} = %s', CASE a.{column} WHEN 'r' THEN 'READ_ONLY' WHEN 's' THEN 'SHAREABLE' ELSE 'READ_WRITE' END)"
        )
    };
    let options = [
        number("SSPACE", "aggtransspace"),
        function("FINALFUNC", "aggfinalfn"),
        flag("FINALFUNC_EXTRA", "a.aggfinalextra"),
        format!("CASE WHEN a.aggfinalfn <> 0 THEN {} ELSE '' END", modify("FINALFUNC_MODIFY", "aggfinalmodify")),
        function("COMBINEFUNC", "aggcombinefn"),
        function("SERIALFUNC", "aggserialfn"),
        function("DESERIALFUNC", "aggdeserialfn"),
        text("INITCOND", "agginitval"),
        function("MSFUNC", "aggmtransfn"),
        function("MINVFUNC", "aggminvtransfn"),
        "CASE WHEN a.aggmtranstype <> 0 THEN format(', MSTYPE = %s', format_type(a.aggmtranstype, NULL)) ELSE '' END"
            .into(),
        number("MSSPACE", "aggmtransspace"),
        function("MFINALFUNC", "aggmfinalfn"),
        flag("MFINALFUNC_EXTRA", "a.aggmfinalextra"),
        format!("CASE WHEN a.aggmfinalfn <> 0 THEN {} ELSE '' END", modify("MFINALFUNC_MODIFY", "aggmfinalmodify")),
        text("MINITCOND", "aggminitval"),
        "CASE WHEN a.aggsortop <> 0 THEN (SELECT format(', SORTOP = OPERATOR(%I.%s)', on_.nspname, o.oprname) FROM pg_operator o JOIN pg_namespace on_ ON on_.oid = o.oprnamespace WHERE o.oid = a.aggsortop) ELSE '' END"
            .into(),
        flag("PARALLEL = SAFE", "p.proparallel = 's'"),
        flag("PARALLEL = RESTRICTED", "p.proparallel = 'r'"),
        flag("HYPOTHETICAL", "a.aggkind = 'h'"),
    ];
    format!(
        "SELECT format('CREATE AGGREGATE %I.%I(%s) (SFUNC = %s, STYPE = %s%s)', n.nspname, p.proname, \
           CASE WHEN p.pronargs = 0 THEN '*' ELSE pg_get_function_arguments(p.oid) END, a.aggtransfn::regproc, format_type(a.aggtranstype, NULL), {}) \
         FROM pg_aggregate a JOIN pg_proc p ON p.oid = a.aggfnoid JOIN pg_namespace n ON n.oid = p.pronamespace \
         WHERE {OURS} AND {NO_EXTENSION} p.oid AND d.deptype = 'e') ORDER BY p.oid",
        options.join(" || ")
    )
}

/// Writes the rows of a table as they come, whole rows at a time.
struct Copied<'o> {
    out: &'o mut dyn DumpOut,
    head: String,
    count: u64,
    /// Bytes since the statement began.
    in_block: u64,
}

impl Copied<'_> {
    fn take(&mut self, text: &[u8]) -> std::io::Result<()> {
        if self.in_block > 0 && self.in_block + text.len() as u64 > BLOCK && self.out.splits() {
            self.out.write_all(b"\\.\n\n")?;
            self.out.boundary()?;
            self.out.write_all(self.head.as_bytes())?;
            self.in_block = 0;
        }
        self.out.write_all(text)?;
        self.count += memchr::memchr_iter(b'\n', text).count() as u64;
        self.in_block += text.len() as u64;
        Ok(())
    }
}

/// Quotes a name where it needs quotes.
fn ident(plain: &str) -> String {
    let mut letters = plain.chars();
    let plain_start = letters.next().is_some_and(|c| c.is_ascii_lowercase() || c == '_');
    let simple = plain_start && letters.all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_');
    // A key word needs quotes as well: they do no harm to any other name.
    if simple && plain.contains('_') { plain.to_string() } else { name(plain) }
}
