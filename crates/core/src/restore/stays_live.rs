//! What a copy beside a live site keeps of it that acts on the outside: mail, payment, webhooks, jobs, keys. Nothing of it is changed unless
//! that was asked for; it is listed, so that nobody takes a copy for harmless.
//!
//! What the definition knows is said with its reason. The rest is looked for by the names of tables, whoever's they are.

use super::plan::RestorePlan;
use crate::database::load::plain_name;
use crate::finding::{Code, Finding, first_of};
use crate::survey::recognise::version_fits;
use crate::system::copy::{SetPlace, SwitchName};
use crate::system::schema::Role;
use std::collections::BTreeMap;

/// Words in the names of tables, and what such tables hold as a rule.
const KINDS: [(&str, &[&str]); 4] = [
    (
        "payment",
        &[
            "payment", "stripe", "paypal", "klarna", "adyen", "mollie", "sofort", "checkout", "gateway",
            "billing",
        ],
    ),
    ("webhooks and feeds", &["webhook", "hook_", "_hooks", "feed", "subscription", "newsletter", "push_"]),
    (
        "jobs and queues",
        &["cron", "schedul", "queue", "_job", "job_", "jobs", "task", "actionscheduler", "batch", "reminder"],
    ),
    (
        "keys and tokens",
        &["token", "apikey", "api_key", "api_client", "api_access", "oauth", "webservice", "webauthn"],
    ),
];

/// Tables that are named of each kind.
const NAMED: usize = 6;

/// Lists what stays live in a copy.
pub fn findings(plan: &RestorePlan) -> Vec<Finding> {
    let mut out = Vec::new();
    let target = plan.job.options.target.display();
    let version = plan.version.as_deref();
    let applies = |set: &SetPlace| version_fits(version, set.from.as_deref(), set.below.as_deref());
    let mut switch = |name: SwitchName, what: &str, unknown: &str| {
        if plan.job.options.set.iter().any(|choice| choice.name == name) {
            return;
        }
        let known = plan.definition.switch.iter().any(|s| s.name == name && applies(&s.set));
        let (what, cure) = match known {
            true => (
                what,
                format!(
                    "zporter switch {target} {}=off, or make the copy with --set {}=off",
                    name.word(),
                    name.word()
                ),
            ),
            false => {
                (unknown, "look in the system's own settings, or keep the copy from the network".to_string())
            }
        };
        out.push(Finding::new(Code::StaysLive, what, target.to_string(), cure));
    };
    switch(
        SwitchName::Mail,
        "the copy sends mail as the live site does",
        "the copy may send mail; how that is switched off is not known",
    );
    let carried = plan.source.tables.iter().filter(|_| plan.loads());
    let tables: Vec<&str> = carried.map(|table| plain_name(table)).collect();
    let is_there = |set: &SetPlace| match (&set.row, &set.config) {
        (Some(row), _) => tables.contains(&format!("{}{}", plan.table_prefix, row.table).as_str()),
        (None, config) => config.is_some(),
    };
    // One thing may stand in several rows.
    let mut known: BTreeMap<&str, Vec<String>> = BTreeMap::new();
    for copy in plan.definition.copy_only.iter().filter(|c| applies(&c.set) && is_there(&c.set)) {
        let place = match (&copy.set.row, &copy.set.config) {
            (Some(row), _) => {
                let only: Vec<String> =
                    row.only.iter().map(|o| format!("{} = {}", o.column, o.value)).collect();
                format!("{}{}.{} ({})", plan.table_prefix, row.table, row.column, only.join(", "))
            }
            (None, config) => config.clone().unwrap_or_default(),
        };
        known.entry(&copy.about).or_default().push(place);
    }
    for (about, places) in known {
        let cure = "set it by hand in the copy before anybody uses it: it was left as the live site has it";
        out.push(Finding::new(
            Code::StaysLive,
            format!("left as it is: {about}"),
            first_of(&places, NAMED),
            cure,
        ));
    }
    let own = plan.definition.config.iter().flat_map(|c| &c.key).filter(|k| k.role == Role::Secret && k.own);
    let own: Vec<String> = own.map(|k| k.name.clone()).collect();
    if !own.is_empty() {
        let what = "the copy signs with the live site's keys: a log-in of the one holds for the other";
        out.push(Finding::new(Code::StaysLive, what, first_of(&own, NAMED), "give the copy keys of its own"));
    }
    for (kind, words) in KINDS {
        let lower = |table: &&&str| {
            table.strip_prefix(plan.table_prefix.as_str()).unwrap_or(table).to_ascii_lowercase()
        };
        let named = |table: &&&str| words.iter().any(|word| lower(table).contains(word));
        let found: Vec<String> = tables.iter().filter(named).map(|t| (*t).to_string()).collect();
        if !found.is_empty() {
            let what = format!("{kind} may stay live in the copy: tables of such names are in it");
            let cure = "look what they do, and switch it off in the copy";
            out.push(Finding::new(Code::StaysLive, what, first_of(&found, NAMED), cure));
        }
    }
    out
}
