//! The base address a site answers to, and how sure that is.
//!
//! Config first, then the rows that a definition names. A system that stores its address nowhere leaves traces: absolute links in
//! its content. They count only where the site's config agrees (e-mail or cookie domain, list of hosts); otherwise they are candidates for a person.

use super::recognise::ConfigFacts;
use crate::dump::inspect::{Inspection, Wanted};
use crate::dump::rules::same_value;
use crate::finding::{Code, Finding};
use crate::place::{Address, AddressForm};
use crate::system::Definition;
use crate::system::schema::{AddressRows, Flag, Role};
use schemars::JsonSchema;
use serde::Serialize;

/// What was found out about the base address.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct AddressFinding {
    /// The address.
    pub address: Option<Address>,
    /// How it was learned, for people.
    pub learned_from: String,
    /// Whether it was concluded from content rather than read from its place.
    pub concluded: bool,
    /// Further addresses of the same site that its rows speak of.
    pub aliases: Vec<Address>,
    /// Addresses of other sites that live in the same database.
    pub others: Vec<Address>,
    /// Other hosts that content names often, with counts.
    pub candidates: Vec<(String, u64)>,
}

/// Returns the rows that tell the address, in the order of the definition: for each entry its rows and its TLS flag.
pub fn wanted_rows(definition: &Definition, prefix: &str) -> Vec<Wanted> {
    let mut wanted = Vec::new();
    for rule in &definition.address {
        let mut columns = vec![rule.host.clone()];
        columns.extend(rule.base.clone());
        columns.extend(rule.only.as_ref().map(|o| o.column.clone()));
        columns.extend(rule.also.iter().cloned());
        columns.extend(rule.group.clone());
        columns.extend(rule.port.clone());
        // A table of names and values is large; a row of one name is all that counts of it.
        let by_name = rule.base.is_none() && rule.beside.is_none() && rule.form != AddressForm::HostBase;
        let only = rule.only.as_ref().filter(|_| by_name).map(|o| (o.column.clone(), o.value.clone()));
        wanted.push(Wanted { table: format!("{prefix}{}", rule.table), columns, only });
        if let Some(tls) = &rule.tls {
            let columns = vec![tls.only.column.clone(), tls.column.clone()];
            let only = Some((tls.only.column.clone(), tls.only.value.clone()));
            wanted.push(Wanted { table: format!("{prefix}{}", tls.table), columns, only });
        }
        if let Some(used) = &rule.used {
            let columns = vec![used.only.column.clone(), used.column.clone()];
            let only = Some((used.only.column.clone(), used.only.value.clone()));
            wanted.push(Wanted { table: format!("{prefix}{}", used.table), columns, only });
        }
        if let Some(chosen) = &rule.chosen {
            let columns = vec![chosen.only.column.clone(), chosen.column.clone()];
            let only = Some((chosen.only.column.clone(), chosen.only.value.clone()));
            wanted.push(Wanted { table: format!("{prefix}{}", chosen.table), columns, only });
        }
    }
    wanted
}

/// Finds the base address.
pub fn find(definition: &Definition, config: &ConfigFacts, found: Option<&Inspection>) -> AddressFinding {
    let mut out = AddressFinding::default();
    if let Some(value) = config.value(Role::Address)
        && let Some(address) = value.value.as_deref().and_then(|v| Address::parse(v).ok())
    {
        out.learned_from = format!("{}, `{}`", value.file, value.key);
        // The base path may stand in a key of its own.
        let base = config.value(Role::BasePath).and_then(|v| v.value.as_deref()).unwrap_or_default();
        let whole = Address::parse(&format!("{address}/{}", base.trim_matches('/'))).ok();
        out.address = whole.filter(|_| address.base().is_empty()).or(Some(address));
    }
    if let Some(found) = found {
        // Also where the address is known already: other sites may live in the same database.
        from_rows(definition, config, found, &mut out);
    }
    if out.address.is_none() {
        from_parts(config, found, &mut out);
    }
    // What lies below the site's own address moves with it, whatever the scheme.
    if let Some(main) = &out.address {
        let below = |a: &Address| a.host_port() == main.host_port() && a.base().starts_with(main.base());
        out.others.retain(|a| !below(a));
    }
    if let Some(found) = found {
        from_content(config, found, &mut out);
    }
    out
}

/// Puts an address together where the config names host and base path, but no scheme: the one that the content uses more often.
fn from_parts(config: &ConfigFacts, found: Option<&Inspection>, out: &mut AddressFinding) {
    let Some(value) = config.value(Role::Address) else { return };
    let host = value.value.as_deref().unwrap_or_default().trim_start_matches("//").trim_end_matches('/');
    let base = config.value(Role::BasePath).and_then(|v| v.value.as_deref()).unwrap_or_default();
    let named =
        |scheme: &str| found.and_then(|f| f.hosts.get(&format!("{scheme}://{host}"))).copied().unwrap_or(0);
    let scheme = if named("https") > named("http") { "https" } else { "http" };
    out.address = Address::parse(&format!("{scheme}://{host}/{}", base.trim_matches('/'))).ok();
    if out.address.is_some() {
        out.learned_from = format!("{}, `{}`", value.file, value.key);
    }
}

fn from_rows(definition: &Definition, config: &ConfigFacts, found: &Inspection, out: &mut AddressFinding) {
    let mut rows = found.rows.iter();
    let config_base = config.value(Role::BasePath).and_then(|v| v.value.clone()).unwrap_or_default();
    for rule in &definition.address {
        let Some(hosts) = rows.next() else { return };
        let mut is_on = |flag: &Option<Flag>| {
            let flag = flag.as_ref()?;
            let on = |r: &Vec<Option<String>>| {
                r[0].as_deref() == Some(&flag.only.value) && r[1].as_deref() == Some(&flag.on)
            };
            Some(rows.next().is_some_and(|rows| rows.iter().any(on)))
        };
        let tls = is_on(&rule.tls) == Some(true);
        let hint = is_on(&rule.used) == Some(false);
        let chosen = rule.chosen.as_ref().and_then(|chosen| {
            let row = rows.next()?.iter().find(|r| r[0].as_deref() == Some(&chosen.only.value))?;
            row[1].clone()
        });
        let scheme = if tls { "https" } else { "http" };
        let key_at = 1 + usize::from(rule.base.is_some());
        if let (Some(beside), Some(only)) = (&rule.beside, &rule.only) {
            let value = |name: &str| {
                let row = hosts.iter().find(|r| r[key_at].as_deref() == Some(name))?;
                row[0].clone().filter(|v| !v.is_empty())
            };
            let Some(host) = value(&only.value) else { continue };
            let scheme = value(&beside.scheme).unwrap_or_else(|| "http".into());
            let usual = |p: &String| beside.loose_port && matches!(p.as_str(), "80" | "443" | "0");
            let port = value(&beside.port).filter(|p| !usual(p)).map(|p| format!(":{p}")).unwrap_or_default();
            let base = value(&beside.base).unwrap_or_default();
            let text = format!("{}://{host}{port}{base}", scheme.trim_end_matches("://"));
            let known = out.address.is_some();
            out.take(Address::parse(&text).ok(), rule, config);
            if hint && !known && out.address.is_some() {
                out.learned_from += ", which the program does not use itself: they may be old";
                out.concluded = true;
            }
            continue;
        }
        // Of several sites the rows of the one that is meant come first, and those that tell its address before its others.
        let further = key_at + usize::from(rule.only.is_some());
        let group_at = rule.group.as_ref().map(|_| further + rule.also.len());
        let group_of = |row: &[Option<String>]| group_at.and_then(|at| row.get(at)?.clone());
        let is_meant = |row: &[Option<String>]| {
            rule.only
                .as_ref()
                .is_none_or(|o| row[key_at].as_deref().is_some_and(|found| same_value(&o.value, found)))
        };
        let mut hosts: Vec<_> = hosts.iter().collect();
        if group_at.is_some() {
            hosts.sort_by_key(|row| (chosen.is_some() && group_of(row) != chosen, !is_meant(row)));
        }
        let mut group = None;
        for row in hosts {
            let meant = rule
                .only
                .as_ref()
                .is_none_or(|o| row[key_at].as_deref().is_some_and(|found| same_value(&o.value, found)));
            let port = rule.port.as_ref().and_then(|_| row.last()?.as_deref()?.parse::<u16>().ok());
            let scheme = if port == Some(443) { "https" } else { scheme };
            let Some(host) = row[0].as_deref().filter(|h| !h.is_empty()) else { continue };
            let base =
                if rule.base.is_some() { row[1].clone().unwrap_or_default() } else { config_base.clone() };
            let address = |host: &str| match rule.form {
                AddressForm::Url | AddressForm::UrlSlash => Address::parse(host).ok(),
                AddressForm::HostBase => Address::parse(&format!("{scheme}://{host}")).ok(),
                _ => {
                    let port = port.map(|p| format!(":{p}")).unwrap_or_default();
                    Address::parse(&format!("{scheme}://{host}{port}{base}")).ok()
                }
            };
            if !meant || out.address.is_some() {
                let known = |a: &Address| Some(a) == out.address.as_ref() || out.others.contains(a);
                // Rows with a host alone repeat it; only whole addresses tell sites apart.
                let whole = rule.base.is_some() || rule.port.is_some() || rule.form != AddressForm::Host;
                let alias = group.is_some() && group_of(row) == group;
                if let Some(other) = address(host).filter(|a| whole && !known(a)) {
                    if alias { out.aliases.push(other) } else { out.others.push(other) }
                }
                continue;
            }
            out.take(address(host), rule, config);
            group = group_of(row);
            let others = row.iter().skip(further).take(rule.also.len()).flatten();
            let main = out.address.clone();
            out.aliases.extend(others.filter_map(|h| address(h)).filter(|a| Some(a) != main.as_ref()));
        }
    }
}

impl AddressFinding {
    /// Takes the address that somebody gave. What the site itself says is not overridden by it: then it is one more old address, or none
    /// where it would take in what belongs to others on the same host.
    pub fn given(&mut self, given: &Address) -> Option<Finding> {
        let known = match &self.address {
            Some(known) if !self.concluded => known.clone(),
            _ => {
                self.aliases.extend(self.address.replace(given.clone()).filter(|a| a != given));
                self.learned_from = "your own word".into();
                self.concluded = false;
                return None;
            }
        };
        let below = |rest: &str| rest.is_empty() || rest.starts_with('/');
        let same_host = known.host_port() == given.host_port();
        if known == *given || self.aliases.contains(given) {
        } else if same_host && known.base() == given.base() {
            // The scheme is what a site knows least.
            self.aliases.extend(self.address.replace(given.clone()));
        } else if same_host && known.base().strip_prefix(given.base()).is_some_and(below) {
            return Some(Finding::new(
                Code::AddressTooWide,
                format!(
                    "the site says that its address is {known} ({}); {given} would take in other pages of that host and was not used",
                    self.learned_from
                ),
                "",
                "name what else moves with --alias",
            ));
        } else {
            self.aliases.push(given.clone());
        }
        None
    }

    fn take(&mut self, address: Option<Address>, rule: &AddressRows, config: &ConfigFacts) {
        if self.address.is_none() && address.is_some() {
            self.address = address;
            self.learned_from = format!("rows of {}{}", config.table_prefix, rule.table);
        }
    }
}

/// Concludes from absolute links in the content.
fn from_content(config: &ConfigFacts, found: &Inspection, out: &mut AddressFinding) {
    let mut counted: Vec<(Address, u64)> =
        found.hosts.iter().filter_map(|(url, n)| Some((Address::parse(url).ok()?, *n))).collect();
    counted.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.to_string().cmp(&b.0.to_string())));
    if out.address.is_none() {
        let email = config
            .value(Role::Email)
            .and_then(|v| v.value.as_deref())
            .and_then(|v| v.rsplit_once('@'))
            .map(|(_, d)| d);
        let cookie = config
            .value(Role::CookieDomain)
            .and_then(|v| v.value.as_deref())
            .map(|d| d.trim_start_matches('.'));
        let patterns = config.values.iter().filter(|v| v.role == Role::HostPattern);
        let patterns: Vec<String> = patterns
            .filter_map(|v| v.value.as_ref())
            .map(|p| p.trim_start_matches('^').trim_end_matches('$').replace('\\', ""))
            .collect();
        let evidence: Vec<String> = [cookie, email]
            .into_iter()
            .flatten()
            .chain(patterns.iter().map(String::as_str))
            .map(str::to_ascii_lowercase)
            .collect();
        let own = |host: &str| evidence.iter().any(|d| same_site(host, d));
        if let Some((address, count)) = counted.iter().find(|(a, _)| own(a.host())) {
            out.learned_from = format!("{count} links in the content, confirmed by the site's config");
            out.concluded = true;
            out.address = Some(address.clone());
        }
    }
    match &out.address {
        Some(main) => {
            for twin in www_variants(main, counted.iter().map(|(a, _)| a)) {
                if !out.aliases.iter().any(|a| a.host() == twin.host()) {
                    out.aliases.push(twin);
                }
            }
        }
        None => out.candidates = counted.into_iter().take(5).map(|(a, n)| (a.to_string(), n)).collect(),
    }
}

/// Returns the same host with and without `www.`, where the content names it: the site answers to both, its own links say so.
pub fn www_variants<'a>(main: &Address, named: impl Iterator<Item = &'a Address>) -> Vec<Address> {
    let mut out: Vec<Address> = Vec::new();
    for address in named {
        let twin = bare(address.host()) == bare(main.host()) && address.host() != main.host();
        if twin && address.port() == main.port() && !out.iter().any(|a| a.host() == address.host()) {
            out.extend(Address::parse(&format!("{address}{}", main.base())).ok());
        }
    }
    out
}

fn bare(host: &str) -> &str {
    host.strip_prefix("www.").unwrap_or(host)
}

/// Says whether a host is the domain itself, with or without `www.`.
fn same_site(host: &str, domain: &str) -> bool {
    bare(host) == bare(domain)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::survey::recognise::ConfigValue;

    fn config(email: &str) -> ConfigFacts {
        let value = ConfigValue {
            file: "c.php".into(),
            key: "mailfrom".into(),
            role: Role::Email,
            value: Some(email.into()),
            line: 1,
            unknown: None,
        };
        ConfigFacts { values: vec![value], ..ConfigFacts::default() }
    }

    #[test]
    fn content_counts_only_where_the_sites_own_domain_agrees() {
        let known = crate::system::load(None).unwrap();
        let joomla = &known.iter().find(|k| k.definition.id == "joomla").unwrap().definition;
        let hosts =
            [("https://video.example", 90), ("http://www.fern.example", 40), ("http://fern.example", 3)];
        let found =
            Inspection { hosts: hosts.map(|(h, n)| (h.to_string(), n)).into(), ..Inspection::default() };
        let sure = find(joomla, &config("office@fern.example"), Some(&found));
        assert_eq!(sure.address.map(|a| a.to_string()).as_deref(), Some("http://www.fern.example"));
        assert_eq!(sure.aliases.iter().map(ToString::to_string).collect::<Vec<_>>(), ["http://fern.example"]);
        let unsure = find(joomla, &config("office@mail.example"), Some(&found));
        assert_eq!(unsure.address, None);
        assert_eq!(unsure.candidates[0], ("https://video.example".to_string(), 90));
    }

    #[test]
    fn what_is_said_neither_overrides_nor_widens_what_the_site_says() {
        let address = |t: &str| Address::parse(t).unwrap();
        // What the site says, what is given, what counts then, whether the given one is old as well, whether something is said.
        for (known, given, counts, old, said) in [
            (Some("http://a.example/shop"), "http://a.example/shop", "http://a.example/shop", false, false),
            (Some("http://a.example/shop"), "https://a.example/shop", "https://a.example/shop", false, false),
            (Some("http://a.example/shop"), "http://a.example", "http://a.example/shop", false, true),
            (Some("http://a.example/shop"), "https://a.example/sh", "http://a.example/shop", true, false),
            (Some("http://a.example/shop"), "http://b.example", "http://a.example/shop", true, false),
            (None, "http://b.example", "http://b.example", false, false),
        ] {
            let mut found = AddressFinding { address: known.map(address), ..AddressFinding::default() };
            let warning = found.given(&address(given));
            assert_eq!(found.address, Some(address(counts)), "{given}");
            assert_eq!((found.aliases.contains(&address(given)), warning.is_some()), (old, said), "{given}");
        }
        let mut found = AddressFinding {
            address: Some(address("http://a.example")),
            concluded: true,
            ..AddressFinding::default()
        };
        assert!(found.given(&address("http://b.example/x")).is_none());
        assert_eq!(
            (found.address, found.aliases),
            (Some(address("http://b.example/x")), vec![address("http://a.example")])
        );
    }
}
