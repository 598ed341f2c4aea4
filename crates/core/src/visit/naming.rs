//! Who already answers with the new host: what the name's own servers and several resolvers say, what mail would do, and what to change.

use super::gather::Sight;
use crate::diagnose::Sureness::{Certain, Likely, Possible};
use crate::finding::Code;
use crate::options::values::At;
use schemars::JsonSchema;
use serde::Serialize;
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;
use zporter_web::names::{Asker, Told, of_this_machine};
pub use zporter_web::names::{Kind, Record};

/// Resolvers that anybody may ask.
const PUBLIC: [[u8; 4]; 3] = [[1, 1, 1, 1], [8, 8, 8, 8], [9, 9, 9, 9]];
/// Name servers of a name that are asked.
const SERVERS: usize = 8;
/// Seconds behind which an address lives long.
const LONG: u32 = 3600;

/// What name servers say.
#[derive(Debug, Default, Serialize, JsonSchema)]
pub struct Names {
    /// The site's name.
    pub name: String,
    /// The zone in which it lies, where that was found.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub zone: Option<String>,
    /// Address of the new host, where somebody told it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub wanted: Option<IpAddr>,
    /// Who was asked, and what came.
    pub asked: Vec<Asked>,
    /// Records of the zone: mail, texts, certificates.
    pub zone_records: Vec<Record>,
}

/// A server that was asked.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Asked {
    /// Where.
    pub server: String,
    /// Whether it is one of the name's own, rather than a resolver.
    pub own: bool,
    /// Addresses of the site's name.
    pub addresses: Vec<Record>,
    /// Addresses of its other name, with or without `www.`.
    pub twin: Vec<Record>,
    /// Why there are none, where it did not answer.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub no_answer: Option<String>,
    /// Whether all addresses are the new host's; nothing where nobody told which that is.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub new_host: Option<bool>,
}

/// What is asked.
#[derive(Debug)]
pub struct Question<'q> {
    /// The site's name.
    pub host: &'q str,
    /// Its other name.
    pub twin: Option<String>,
    /// The new host.
    pub wanted: Option<IpAddr>,
    /// Resolvers; this machine's and public ones where none are named.
    pub resolvers: &'q [At],
    /// The name's own servers; found by the resolvers where none are named.
    pub own: &'q [At],
}

fn socket(at: &At) -> SocketAddr {
    SocketAddr::new(at.ip, at.port.unwrap_or(53))
}

/// Asks everybody. What is wrong is told by name.
pub fn ask(question: &Question<'_>, patience: Duration) -> std::io::Result<(Names, Vec<Sight>)> {
    let asker = Asker::new(patience)?;
    let mut out = Names { name: question.host.to_string(), wanted: question.wanted, ..Names::default() };
    let resolvers: Vec<SocketAddr> = match question.resolvers {
        [] => of_this_machine().into_iter().chain(PUBLIC.map(|ip| SocketAddr::new(ip.into(), 53))).collect(),
        named => named.iter().map(socket).collect(),
    };
    let (zone, mut own) = zone_of(&asker, question.host, &resolvers);
    out.zone.clone_from(&zone);
    if !question.own.is_empty() {
        own = question.own.iter().map(|at| (at.ip.to_string(), socket(at))).collect();
    }
    let mut sights = Vec::new();
    if own.is_empty() {
        let cure = "look whether the name is registered and its name servers are entered; name them with --name-server IP";
        sights.push(
            Sight::new(
                Code::NameServerFails,
                Likely,
                format!("no name servers were found for {}", question.host),
                cure,
            )
            .about("none"),
        );
    }
    for (name, at) in own.iter().take(SERVERS) {
        out.asked.push(told(&asker, name, *at, true, question));
    }
    for at in &resolvers {
        out.asked.push(told(&asker, &at.ip().to_string(), *at, false, question));
    }
    judge_addresses(&out, question, &mut sights);
    if let Some(zone) = &zone {
        let from =
            own.first().map(|(_, at)| (*at, false)).or_else(|| resolvers.first().map(|at| (*at, true)));
        if let Some((at, recurse)) = from {
            for kind in [Kind::Mx, Kind::Txt, Kind::Caa, Kind::Ns] {
                out.zone_records.extend_from_slice(asker.ask(at, zone, kind, recurse).records());
            }
            judge_zone(&asker, &out, question, zone, (at, recurse), &mut sights);
        }
    }
    Ok((out, sights))
}

/// The zone in which a name lies, and the servers that answer for it.
fn zone_of(
    asker: &Asker,
    host: &str,
    resolvers: &[SocketAddr],
) -> (Option<String>, Vec<(String, SocketAddr)>) {
    for resolver in resolvers {
        let mut name = host.trim_end_matches('.');
        while name.contains('.') {
            match asker.ask(*resolver, name, Kind::Ns, true) {
                Told::Records(servers) => {
                    let mut out = Vec::new();
                    for server in &servers {
                        for kind in [Kind::A, Kind::Aaaa] {
                            let found = asker.ask(*resolver, &server.value, kind, true);
                            let ips = found.records().iter().filter_map(|r| r.value.parse::<IpAddr>().ok());
                            out.extend(ips.map(|ip| {
                                (server.value.trim_end_matches('.').to_string(), SocketAddr::new(ip, 53))
                            }));
                        }
                    }
                    return (Some(name.to_string()), out);
                }
                Told::Nothing => name = name.split_once('.').map_or("", |(_, rest)| rest),
                // Another resolver may know more.
                Told::NoAnswer(_) => break,
            }
        }
    }
    (None, Vec::new())
}

fn told(asker: &Asker, name: &str, at: SocketAddr, own: bool, question: &Question<'_>) -> Asked {
    let mut no_answer = None;
    let mut addresses = |host: &str| {
        let mut out = Vec::new();
        for kind in [Kind::A, Kind::Aaaa] {
            match asker.ask(at, host, kind, !own) {
                Told::Records(all) => out.extend(all),
                Told::Nothing => (),
                Told::NoAnswer(why) => {
                    no_answer = Some(why);
                    break;
                }
            }
        }
        out
    };
    let found = addresses(question.host);
    let twin = match (&question.twin, found.is_empty()) {
        (Some(twin), false) => addresses(twin),
        _ => Vec::new(),
    };
    let new_host = question
        .wanted
        .filter(|_| !found.is_empty())
        .map(|wanted| found.iter().all(|r| r.value.parse() == Ok(wanted)));
    Asked { server: name.to_string(), own, addresses: found, twin, no_answer, new_host }
}

fn values(records: &[Record]) -> String {
    records.iter().map(|r| r.value.as_str()).collect::<Vec<_>>().join(", ")
}

fn judge_addresses(names: &Names, question: &Question<'_>, sights: &mut Vec<Sight>) {
    let host = question.host;
    for asked in &names.asked {
        let whose = if asked.own { "the name server" } else { "the resolver" };
        let server = &asked.server;
        if let Some(why) = asked.no_answer.as_ref().filter(|_| asked.addresses.is_empty()) {
            let sight = Sight::new(
                Code::NameServerFails,
                Likely,
                format!("{whose} {server} does not answer: {why}"),
                "ask again; else look whether it is reachable from here",
            );
            sights.push(if asked.own { sight } else { sight.as_note() }.about(server.clone()));
            continue;
        }
        if asked.addresses.is_empty() {
            let sight = Sight::new(
                Code::NameServerFails,
                Likely,
                format!("{whose} {server} knows no address of {host}"),
                format!("add an A record for {host}"),
            );
            sights.push(if asked.own { sight } else { sight.as_note() }.about(server.clone()));
            continue;
        }
        let Some(wanted) = question.wanted else { continue };
        let twin = question.twin.as_deref().unwrap_or_default();
        let of_each =
            [(host, &asked.addresses), (twin, &asked.twin)].into_iter().flat_map(|(name, records)| {
                [Kind::A, Kind::Aaaa].map(|kind| (name, records.iter().filter(move |r| r.kind == kind)))
            });
        for (name, records) in of_each {
            let others: Vec<&Record> = records.filter(|r| r.value.parse() != Ok(wanted)).collect();
            let Some(first) = others.first() else { continue };
            let seconds = others.iter().map(|r| r.seconds).max().unwrap_or(0);
            let (kind, all) =
                (first.kind.word(), others.iter().map(|r| r.value.as_str()).collect::<Vec<_>>().join(", "));
            if asked.own {
                let lower = if seconds > LONG {
                    format!("; it lives for {seconds} seconds: set that to 300 a day before")
                } else {
                    String::new()
                };
                let cure = match (first.kind, wanted) {
                    (Kind::Aaaa, IpAddr::V4(_)) => {
                        format!("take the AAAA record of {name} away, or set it to the new host's{lower}")
                    }
                    _ => format!("set the {kind} record of {name} to {wanted}{lower}"),
                };
                sights.push(
                    Sight::new(
                        Code::NameLeadsElsewhere,
                        Certain,
                        format!("{server} leads {name} to {all} ({kind}), not to the new host"),
                        cure,
                    )
                    .about(format!("{name} {all}")),
                );
            } else {
                let what =
                    format!("the resolver {server} still leads {name} to {all}, for up to {seconds} seconds");
                sights.push(
                    Sight::new(
                        Code::NameLeadsElsewhere,
                        Certain,
                        what,
                        "wait; the old host should go on to answer until then",
                    )
                    .about(format!("{server} {name}"))
                    .as_note(),
                );
            }
        }
    }
    let own: Vec<&Asked> = names.asked.iter().filter(|a| a.own && !a.addresses.is_empty()).collect();
    let plain = |a: &Asked| a.addresses.iter().map(|r| (r.kind, r.value.clone())).collect::<Vec<_>>();
    if let Some(other) = own.iter().skip(1).find(|a| plain(a) != plain(own[0])) {
        let what = format!(
            "{} says {}, {} says {}",
            own[0].server,
            values(&own[0].addresses),
            other.server,
            values(&other.addresses)
        );
        sights.push(
            Sight::new(
                Code::NamesDiffer,
                Certain,
                format!("the name servers do not agree on {host}: {what}"),
                "wait until all have the new zone; else look why one of them does not get it",
            )
            .about("differ"),
        );
    }
}

fn judge_zone(
    asker: &Asker,
    names: &Names,
    question: &Question<'_>,
    zone: &str,
    from: (SocketAddr, bool),
    sights: &mut Vec<Sight>,
) {
    let of = |kind: Kind| names.zone_records.iter().filter(move |r| r.kind == kind);
    let host = question.host.trim_end_matches('.');
    let old: Vec<IpAddr> = names
        .asked
        .iter()
        .flat_map(|a| &a.addresses)
        .filter_map(|r| r.value.parse().ok())
        .filter(|ip| Some(*ip) != question.wanted)
        .collect();
    let mail: Vec<String> = of(Kind::Mx)
        .map(|r| r.value.split_whitespace().last().unwrap_or_default().trim_end_matches('.').to_string())
        .collect();
    if mail.is_empty() {
        let what = format!(
            "no server takes mail for {zone} (no MX record): mail goes where the name's address leads"
        );
        sights.push(
            Sight::new(Code::MailToKnow, Possible, what, "add an MX record, if anybody gets mail there")
                .about("mx"),
        );
    }
    for server in mail.iter().filter(|m| !m.is_empty()) {
        let twin = question.twin.as_deref().unwrap_or_default();
        if server == host || server == twin || server == zone {
            let what = format!("mail for {zone} goes to {server}, whose address changes with the site");
            let cure = "let MX name a host of its own that stays, such as mail.; or move the mail as well";
            sights.push(Sight::new(Code::MailToKnow, Certain, what, cure).about(server.clone()));
            continue;
        }
        let at: Vec<IpAddr> = asker
            .ask(from.0, server, Kind::A, from.1)
            .records()
            .iter()
            .filter_map(|r| r.value.parse().ok())
            .collect();
        if at.iter().any(|ip| old.contains(ip)) {
            let what = format!("mail for {zone} goes to {server}, which is the old host");
            sights.push(
                Sight::new(
                    Code::MailToKnow,
                    Likely,
                    what,
                    "keep the old host for mail, or move the mailboxes and set MX",
                )
                .about(server.clone()),
            );
        }
    }
    if let (Some(spf), Some(wanted)) = (of(Kind::Txt).find(|r| r.value.contains("v=spf1")), question.wanted) {
        let rule = spf.value.to_ascii_lowercase();
        let covers = rule.contains(&wanted.to_string())
            || rule
                .split_whitespace()
                .any(|w| matches!(w.trim_start_matches('+').trim_matches('"'), "a" | "all" | "mx"));
        if !covers {
            let what = format!("the rule for mail of {zone} does not name the new host: {}", spf.value);
            let cure = format!("if the site sends mail itself, add ip4:{wanted} to the TXT record");
            sights.push(Sight::new(Code::MailToKnow, Possible, what, cure).about("spf").as_note());
        }
    }
    let makers: Vec<&str> =
        of(Kind::Caa).filter(|r| r.value.contains("issue")).map(|r| r.value.as_str()).collect();
    if !makers.is_empty() {
        let what = format!("only some may make certificates for {zone}: {}", makers.join(", "));
        sights.push(
            Sight::new(
                Code::CertificatesForbidden,
                Possible,
                what,
                "look whether the new host gets its certificates from one of them",
            )
            .about("caa")
            .as_note(),
        );
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn asked(server: &str, own: bool, addresses: &[(Kind, &str)]) -> Asked {
        let addresses = addresses.iter().map(|(kind, value)| Record {
            kind: *kind,
            value: value.to_string(),
            seconds: 300,
        });
        Asked {
            server: server.into(),
            own,
            addresses: addresses.collect(),
            twin: Vec::new(),
            no_answer: None,
            new_host: None,
        }
    }

    fn judged(all: Vec<Asked>) -> Vec<(Code, bool, String)> {
        let names = Names { asked: all, ..Names::default() };
        let wanted = "203.0.113.7".parse().ok();
        let question = Question { host: "www.a.test", twin: None, wanted, resolvers: &[], own: &[] };
        let mut out = Vec::new();
        judge_addresses(&names, &question, &mut out);
        out.into_iter().map(|s| (s.code, s.note, s.cure)).collect()
    }

    #[test]
    fn only_a_name_server_of_its_own_is_a_fault_that_somebody_can_mend() {
        assert_eq!(judged(vec![asked("ns1", true, &[(Kind::A, "203.0.113.7")])]), []);
        let old = judged(vec![asked("ns1", true, &[(Kind::A, "203.0.113.7"), (Kind::Aaaa, "2001:db8::1")])]);
        assert!(old.len() == 1 && !old[0].1 && old[0].2.contains("take the AAAA record"), "{old:?}");
        let resolver = judged(vec![asked("9.9.9.9", false, &[(Kind::A, "192.0.2.1")])]);
        assert!(
            resolver.len() == 1 && resolver[0].1 && resolver[0].0 == Code::NameLeadsElsewhere,
            "{resolver:?}"
        );
        let none = judged(vec![asked("ns1", true, &[])]);
        assert!(
            none[0].0 == Code::NameServerFails && !none[0].1 && none[0].2.contains("add an A record"),
            "{none:?}"
        );
        let both = judged(vec![
            asked("ns1", true, &[(Kind::A, "203.0.113.7")]),
            asked("ns2", true, &[(Kind::A, "192.0.2.1")]),
        ]);
        assert!(both.iter().any(|(code, ..)| *code == Code::NamesDiffer), "{both:?}");
    }
}
