//! Whether tables are those of the site beside which they lie: a dump of another system, or one with another prefix, is easily taken.

use crate::finding::{Code, Finding};
use crate::system::{Definition, Known};
use std::collections::BTreeSet;

/// Tables that a definition knows by name, without prefix.
fn known_tables(definition: &Definition) -> BTreeSet<&str> {
    let rows = (definition.switch.iter().map(|s| &s.set))
        .chain(definition.identity.iter().map(|i| &i.set))
        .chain(definition.tls.iter().map(|t| &t.set))
        .filter_map(|put| put.row.as_ref().map(|r| r.table.as_str()));
    let all = (definition.address.iter().map(|a| a.table.as_str()))
        .chain(definition.cell.iter().map(|c| c.table.as_str()))
        .chain(definition.prefix_key.iter().map(|p| p.table.as_str()))
        .chain(definition.admin.iter().map(|a| a.table.as_str()))
        .chain(rows);
    all.filter(|t| !t.contains('*')).collect()
}

/// The prefix with which most of a definition's tables are there, and how many are.
fn best_prefix<'t>(definition: &Definition, tables: &[&'t str]) -> Option<(&'t str, usize)> {
    let known = known_tables(definition);
    let with = |prefix: &str| {
        known.iter().filter(|k| tables.iter().any(|t| t.strip_prefix(prefix) == Some(k))).count()
    };
    let prefixes: BTreeSet<&str> =
        tables.iter().flat_map(|t| known.iter().filter_map(|k| t.strip_suffix(k))).collect();
    prefixes.into_iter().map(|p| (p, with(p))).max_by_key(|(_, n)| *n)
}

/// Tells of tables at a place that hardly are those of the site; nothing where they may well be its own.
pub fn foreign(
    definition: &Definition,
    prefix: &str,
    tables: &BTreeSet<String>,
    known: &[Known],
    place: String,
) -> Option<Finding> {
    let what = mismatch(definition, prefix, tables, known)?;
    let cure = "name the dump of this very site, or look at the database and prefix in its config";
    Some(Finding::new(Code::TablesOfAnotherSite, what, place, cure))
}

fn mismatch(
    definition: &Definition,
    prefix: &str,
    tables: &BTreeSet<String>,
    known: &[Known],
) -> Option<String> {
    let tables: Vec<&str> =
        tables.iter().map(|t| t.rsplit('.').next().unwrap_or(t).trim_matches(['"', '[', ']'])).collect();
    let own = known_tables(definition);
    let starts = |t: &&str| t.get(..prefix.len()).is_some_and(|s| s.eq_ignore_ascii_case(prefix));
    let fits = |t: &&str| starts(t) && own.iter().any(|k| t[prefix.len()..].eq_ignore_ascii_case(k));
    if tables.is_empty() || tables.iter().any(fits) {
        return None;
    }
    // One name alone, such as `users`, is in every system.
    let sure = |(p, n): &(&str, usize)| *n > 1 && *p != prefix;
    if let Some((found, _)) = best_prefix(definition, &tables).filter(sure) {
        return Some(format!("the tables begin with {found:?}, and the site's config says {prefix:?}"));
    }
    let others = known.iter().filter(|k| k.definition.id != definition.id);
    let other = others.filter_map(|k| Some((k, best_prefix(&k.definition, &tables)?.1)));
    if let Some((other, _)) = other.max_by_key(|(_, n)| *n).filter(|(_, n)| *n > 1) {
        return Some(format!(
            "the tables are those of {}, and the site is one of {}",
            other.definition.name, definition.name
        ));
    }
    (!prefix.is_empty() && !tables.iter().any(starts))
        .then(|| format!("none of the tables begins with {prefix:?}, as the site's config says"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tables_of_others_are_noticed_and_parts_of_ones_own_are_not() {
        let known = crate::system::load(None).unwrap();
        let of = |id: &str| &known.iter().find(|k| k.definition.id == id).unwrap().definition;
        let said = |id: &str, prefix: &str, tables: &[&str]| {
            mismatch(of(id), prefix, &tables.iter().map(|t| t.to_string()).collect(), &known)
                .unwrap_or_default()
        };
        let blog = ["wp_options", "wp_users", "wp_usermeta", "wp_posts"];
        assert_eq!(said("wordpress", "wp_", &blog), "");
        assert_eq!(said("wordpress", "wp_", &["wp_posts"]), "", "a part of its own");
        assert_eq!(said("wordpress", "wp_", &[]), "");
        assert!(said("wordpress", "x7_", &blog).contains("begin with \"wp_\""));
        assert!(said("joomla", "jos_", &blog).contains("those of WordPress"));
        assert!(said("joomla", "jos_", &["a", "b"]).contains("none of the tables"));
        assert_eq!(said("drupal", "", &["node", "users_field_data", "config"]), "");
        assert!(said("drupal", "", &blog).contains("those of WordPress"));
        assert_eq!(said("dnn", "fh_", &["[dbo].[fh_PortalAlias]", "[dbo].[fh_Users]"]), "");
    }
}
