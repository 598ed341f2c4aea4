//! What of which tables is copied.

use crate::archive::format::LeftOut;
use crate::database::load::plain_name;
use crate::dump::rules::Keep;
use crate::finding::{Code, Finding, first_of};
use crate::options::values::{RowsChoice, TablePattern};
use crate::system::{Definition, table_rule};
use globset::GlobMatcher;
use std::collections::BTreeSet;

/// Which tables of a database are a site's own.
#[derive(Debug, Clone, Default)]
pub struct Whose {
    /// Whether all are, because the prefix tells nothing.
    any: bool,
    /// Names of tables that it shares with other sites.
    shared: Vec<String>,
    /// Names of tables and schemas in which runs of this program keep what they replaced.
    kept: BTreeSet<String>,
    /// Prefixes of tables that belong to copies of the site.
    copies: Vec<String>,
}

/// All tables are.
pub static ALL: Whose = Whose { any: true, shared: Vec::new(), kept: BTreeSet::new(), copies: Vec::new() };

impl Whose {
    /// Of a site with a prefix, in a database of which these tables are known, beside what was known of it before. Where none of the
    /// tables has the prefix, nothing can be told by it.
    pub fn of<'t>(
        prefix: &str,
        mut tables: impl Iterator<Item = &'t str>,
        shared: &[(String, String)],
        known: &Whose,
    ) -> Self {
        Whose {
            any: prefix.is_empty() || !tables.any(|table| begins_with(bare(table), prefix)),
            shared: shared.iter().map(|(table, prefix)| format!("{prefix}{table}")).collect(),
            kept: known.kept.clone(),
            copies: known.copies.iter().filter(|copy| !prefix.starts_with(copy.as_str())).cloned().collect(),
        }
    }

    /// Knows what runs of this program keep, and takes all other tables for the site's.
    pub fn but(kept: BTreeSet<String>) -> Self {
        Whose { kept, ..ALL.clone() }
    }

    /// Knows what somebody else knows of kept tables and copies, too.
    pub fn and_of(mut self, other: &Whose) -> Self {
        self.kept.extend(other.kept.iter().cloned());
        self.and_copies(other.copies.iter().cloned())
    }

    /// Knows of copies in the same database too, by the prefixes of their tables.
    pub fn and_copies(mut self, prefixes: impl IntoIterator<Item = String>) -> Self {
        self.copies.extend(prefixes.into_iter().filter(|prefix| !prefix.is_empty()));
        self
    }

    /// Says whether a table is of a copy of the site.
    fn is_of_a_copy(&self, table: &str) -> bool {
        self.copies.iter().any(|prefix| begins_with(bare(table), prefix))
    }

    /// Says whether a run of this program keeps something in a table.
    pub fn is_kept(&self, table: &str) -> bool {
        let schema = table.rsplit_once('.').map(|(schema, _)| schema.trim_matches(QUOTES));
        self.kept.contains(bare(table)) || schema.is_some_and(|schema| self.kept.contains(schema))
    }

    /// Says whether a table is the site's.
    pub fn is_own(&self, definition: &Definition, prefix: &str, table: &str) -> bool {
        let name = bare(table);
        !self.is_kept(table)
            && !self.is_of_a_copy(table)
            && (self.any
                || begins_with(name, prefix)
                || self.shared.iter().any(|shared| shared == name)
                || definition.has_without_prefix(name))
    }
}

const QUOTES: [char; 4] = ['"', '`', '[', ']'];

fn bare(table: &str) -> &str {
    plain_name(table).trim_matches(QUOTES)
}

/// Some servers keep names in small letters.
fn begins_with(table: &str, prefix: &str) -> bool {
    table.get(..prefix.len()).is_some_and(|start| start.eq_ignore_ascii_case(prefix))
}

/// What of which tables is copied, where that is not what the definition says.
#[derive(Debug, Clone, Copy)]
pub struct TableScope<'j> {
    /// By name; the last one that fits counts.
    pub rows: &'j [RowsChoice],
    /// Whether tables that a copy can do without are copied without rows.
    pub light: bool,
    /// Tables that are copied although they are not the site's.
    pub taken: &'j [TablePattern],
    /// Whose tables are.
    pub whose: &'j Whose,
}

impl TableScope<'_> {
    /// Says what of a table is copied: what was asked for, by its name with or without prefix, else what the definition says.
    pub fn keeps(&self, definition: &Definition, prefix: &str, table: &str) -> Keep {
        if self.is_others(definition, prefix, table) {
            return Keep::Nothing;
        }
        let asked = self.rows.iter().rev().find(|choice| means(&choice.pattern, prefix, table));
        match asked {
            Some(choice) => choice.keep,
            None if table_rule(definition, prefix, table).is_some_and(|r| r.safe || self.light) => {
                Keep::Structure
            }
            None => Keep::All,
        }
    }

    /// Says whether a table stays behind because it is not the site's.
    pub fn is_others(&self, definition: &Definition, prefix: &str, table: &str) -> bool {
        let taken = || self.taken.iter().any(|pattern| means(&pattern.0, prefix, bare(table)));
        let never = self.whose.is_kept(table) || self.whose.is_of_a_copy(table);
        never || !(self.whose.is_own(definition, prefix, table) || taken())
    }

    /// Tells of tables that stay behind because they are not the site's: an extension may have made one without the prefix.
    pub fn tell_of_others(&self, left: &[LeftOut]) -> Option<Finding> {
        const NAMED: usize = 8;
        let names = left.iter().map(|l| l.what.trim_start_matches(OTHERS));
        let known = |name: &&str| self.whose.is_kept(name) || self.whose.is_of_a_copy(name);
        let names: Vec<&str> = names.filter(|name| !known(name)).collect();
        if names.is_empty() {
            return None;
        }
        let what = match names.len() {
            1 => "a table without the site's prefix was left out".to_string(),
            n => format!("{n} tables without the site's prefix were left out"),
        };
        let cure = "if an extension of the site made one of them, take it along with --tables NAME";
        Some(Finding::new(Code::TablesOfOthers, what, first_of(&names, NAMED), cure))
    }

    /// Tells of patterns that fit none of these tables: slips of the pen, as a rule. Where no table is known, nothing can be said.
    pub fn in_vain(&self, prefix: &str, tables: &[&str]) -> Vec<Finding> {
        let fits = |choice: &&RowsChoice| tables.iter().any(|t| means(&choice.pattern, prefix, t));
        let vain = self.rows.iter().filter(|choice| !tables.is_empty() && !fits(choice));
        let finding = |choice: &RowsChoice| {
            let what = format!("no table has a name like {}", choice.pattern.glob().glob());
            Finding::new(Code::PatternMatchesNothing, what, "", "`zporter database sizes` lists the tables")
        };
        vain.map(finding).collect()
    }
}

/// Says whether a pattern means a table, by its name with or without prefix.
pub fn means(pattern: &GlobMatcher, prefix: &str, table: &str) -> bool {
    pattern.is_match(table) || table.strip_prefix(prefix).is_some_and(|bare| pattern.is_match(bare))
}

/// What a table of others is called among what was left out.
pub const OTHERS: &str = "table ";

/// Why a table stays behind that a run keeps.
pub const KEPT: &str = "kept by a run of zporter for its undo";

/// A table that stays behind because it is not the site's.
pub fn left_out(whose: &Whose, table: &str, rows: u64, bytes: u64) -> LeftOut {
    let why = if whose.is_kept(table) {
        KEPT
    } else if whose.is_of_a_copy(table) {
        "of a copy of this site"
    } else {
        "not the site's: it has another prefix or none (--tables takes it along)"
    };
    LeftOut { what: format!("{OTHERS}{table}"), why: why.into(), count: rows, bytes }
}
