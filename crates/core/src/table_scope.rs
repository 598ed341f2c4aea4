//! What of which tables is copied.

use crate::dump::rules::Keep;
use crate::finding::{Code, Finding};
use crate::options::values::RowsChoice;
use crate::system::{Definition, table_rule};
use globset::GlobMatcher;

/// What of which tables is copied, where that is not what the definition says.
#[derive(Debug, Clone, Copy)]
pub struct TableScope<'j> {
    /// By name; the last one that fits counts.
    pub rows: &'j [RowsChoice],
    /// Whether tables that a copy can do without are copied without rows.
    pub light: bool,
    /// Prefixes of tables that belong to copies of the site.
    pub others: &'j [String],
}

impl TableScope<'_> {
    /// Says what of a table is copied: what was asked for, by its name with or without prefix, else what the definition says.
    pub fn keeps(&self, definition: &Definition, prefix: &str, table: &str) -> Keep {
        if self.others.iter().any(|other| table.starts_with(other.as_str())) {
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
