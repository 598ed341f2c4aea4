//! The new value of a key that says where the site lives, by what the key means and how it wrote that before.

use super::file_plan::{Context, FilePlan, Quiet};
use super::settings::Setting;
use crate::config::definition::{Key, Role};
use crate::edit;
use crate::finding::{Code, Finding};
use crate::place::{Address, AddressForm, Relocation};
use crate::text::value;

/// Computes the new value of a key that speaks of the place rather than of the database.
pub(super) fn place_value(
    plan: &mut FilePlan,
    place: &str,
    old: &str,
    setting: &Setting,
    key: &Key,
    cx: &Context<'_>,
) -> Option<String> {
    let relocation = cx.relocation;
    let moved = relocation.from.address != relocation.to.address;
    match key.role {
        Role::Address | Role::Link | Role::BasePath => {
            let form = key.form.unwrap_or(AddressForm::Url);
            if key.role == Role::BasePath && (old.is_empty() || key.at_root.as_deref() == Some(old)) {
                let base = relocation.to.address.base();
                return (relocation.at_root() && !base.is_empty())
                    .then(|| relocation.to.address.spelled(form));
            }
            // An address may stand there with or without its last slash.
            let (bare, slash) = match old.strip_suffix('/') {
                Some(bare) if form == AddressForm::Url => (bare, "/"),
                _ => (old, ""),
            };
            let mut new = relocation.respell(bare, form);
            if key.role == Role::BasePath
                && new.is_some()
                && relocation.to.address.base().is_empty()
                && let Some(word) = &key.at_root
            {
                new = Some(word.clone());
            }
            if new.is_none() {
                // What follows the address stays.
                let edits = value::edits(cx.replacements, bare.as_bytes(), &mut Quiet);
                if !edits.is_empty() {
                    new = String::from_utf8(edit::apply(bare.as_bytes(), &edits)).ok();
                }
            }
            if new.is_none() && key.role != Role::Link {
                let what = format!("`{}` holds {old:?}, which is none of the old addresses", setting.name);
                plan.findings.push(Finding::new(
                    Code::ConfigOtherAddress,
                    what,
                    place,
                    "check it; it was left as it is",
                ));
            }
            new.map(|n| n + slash)
        }
        Role::Host => host_value(old, relocation),
        Role::HostList => {
            let mut out = String::new();
            for item in old.split_inclusive([',', ' ']) {
                let name = item.trim_end_matches([',', ' ']);
                match host_value(name, relocation) {
                    // A host that was there under several names is there once.
                    Some(new) if out.split([',', ' ']).any(|o| o == new) => {}
                    Some(new) => out += &(new + &item[name.len()..]),
                    None => out += item,
                }
            }
            Some(out.trim_end_matches([',', ' ']).to_string())
        }
        Role::HostPattern => {
            let found = relocation.old_addresses().find(|a| old.contains(&host_pattern(a)))?;
            Some(old.replace(&host_pattern(found), &host_pattern(&relocation.to.address)))
        }
        Role::CookieDomain => {
            let domain = old.trim_start_matches('.').to_ascii_lowercase();
            let host = relocation.from.address.host();
            let ours = host == domain || host.ends_with(&format!(".{domain}"));
            let changed = relocation.to.address.host() != host;
            // Empty is right for any host; another domain would end every log-in.
            (ours && changed && moved).then(String::new)
        }
        Role::CookiePath => {
            let slash = if old.len() > 1 && old.ends_with('/') {
                AddressForm::BaseSlashes
            } else {
                AddressForm::BaseLeading
            };
            let at_base = !relocation.from.address.base().is_empty();
            if at_base { relocation.respell(old, slash) } else { None }
        }
        Role::Path | Role::Storage if crate::place::Root::parse(old).is_ok() => {
            let edits = value::edits(cx.replacements, old.as_bytes(), &mut Quiet);
            let under_new = old.starts_with(&relocation.to.root.to_string());
            if edits.is_empty() && !under_new {
                let what =
                    format!("`{}` holds the path {old:?}, which lies outside of the site", setting.name);
                plan.findings.push(Finding::new(
                    Code::PathOutsideSite,
                    what,
                    place,
                    "check that it exists on the new host",
                ));
            }
            String::from_utf8(edit::apply(old.as_bytes(), &edits)).ok()
        }
        _ => None,
    }
}

/// Returns what a host that is let in becomes, if it is one of the old ones. A dot before it stays where it makes sense.
pub(super) fn host_value(old: &str, relocation: &Relocation) -> Option<String> {
    let bare = old.strip_prefix('.').unwrap_or(old).to_ascii_lowercase();
    let new = &relocation.to.address;
    let names = |host: &str, other: &str| host.strip_prefix("www.") == Some(other);
    let ours = |a: &Address| {
        a.host() == bare || a.host_port() == bare || names(a.host(), &bare) || names(&bare, a.host())
    };
    relocation.old_addresses().find(|a| ours(a))?;
    let port = bare.contains(':') && !bare.ends_with(']');
    let host = if port { new.host_port() } else { new.host().to_string() };
    let dot = old.starts_with('.') && !new.host().starts_with(|c: char| c.is_ascii_digit() || c == '[');
    Some(if dot { format!(".{host}") } else { host })
}

/// Spells an address's host as patterns do.
pub(super) fn host_pattern(address: &Address) -> String {
    address.host().replace('.', "\\.")
}
