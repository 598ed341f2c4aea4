//! Asks name servers, one at a time and nobody else: what they say of a name, and for how long it holds.

use hickory_resolver::Resolver;
use hickory_resolver::config::{
    ConnectionConfig, NameServerConfig, ResolveHosts, ResolverConfig, ResolverOpts,
};
use hickory_resolver::net::NetError;
use hickory_resolver::net::runtime::TokioRuntimeProvider;
use hickory_resolver::proto::rr::RecordType;
use hickory_resolver::system_conf::read_system_conf;
use schemars::JsonSchema;
use serde::Serialize;
use std::net::SocketAddr;
use std::time::Duration;

/// Kinds of records.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, JsonSchema)]
#[serde(rename_all = "UPPERCASE")]
pub enum Kind {
    /// Address, of the old family.
    A,
    /// Address, of the new family.
    Aaaa,
    /// Who takes mail.
    Mx,
    /// Text.
    Txt,
    /// Who may make certificates.
    Caa,
    /// Name servers.
    Ns,
}

impl Kind {
    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            Kind::A => "A",
            Kind::Aaaa => "AAAA",
            Kind::Mx => "MX",
            Kind::Txt => "TXT",
            Kind::Caa => "CAA",
            Kind::Ns => "NS",
        }
    }

    fn asked(self) -> RecordType {
        match self {
            Kind::A => RecordType::A,
            Kind::Aaaa => RecordType::AAAA,
            Kind::Mx => RecordType::MX,
            Kind::Txt => RecordType::TXT,
            Kind::Caa => RecordType::CAA,
            Kind::Ns => RecordType::NS,
        }
    }
}

/// A record.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
pub struct Record {
    /// Kind.
    pub kind: Kind,
    /// Value, as zone files write it.
    pub value: String,
    /// Seconds for which others may keep it.
    pub seconds: u32,
}

/// What a server says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Told {
    /// Records of the kind that was asked for.
    Records(Vec<Record>),
    /// There is none.
    Nothing,
    /// It did not answer, or refused.
    NoAnswer(String),
}

impl Told {
    /// The records; none where none were told.
    pub fn records(&self) -> &[Record] {
        match self {
            Told::Records(all) => all,
            _ => &[],
        }
    }
}

/// Asks name servers.
#[derive(Debug)]
pub struct Asker {
    runtime: tokio::runtime::Runtime,
    patience: Duration,
}

impl Asker {
    /// Makes one that waits so long for each answer.
    pub fn new(patience: Duration) -> std::io::Result<Self> {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
        Ok(Asker { runtime, patience })
    }

    /// Asks one server. `recurse` asks it to ask others.
    pub fn ask(&self, server: SocketAddr, name: &str, kind: Kind, recurse: bool) -> Told {
        let (mut udp, mut tcp) = (ConnectionConfig::udp(), ConnectionConfig::tcp());
        (udp.port, tcp.port) = (server.port(), server.port());
        let server = NameServerConfig::new(server.ip(), true, vec![udp, tcp]);
        let config = ResolverConfig::from_parts(None, Vec::new(), vec![server]);
        let mut options = ResolverOpts::default();
        options.timeout = self.patience;
        options.attempts = 1;
        options.cache_size = 0;
        options.use_hosts_file = ResolveHosts::Never;
        options.recursion_desired = recurse;
        let name = format!("{}.", name.trim_end_matches('.'));
        self.runtime.block_on(async {
            let resolver = Resolver::builder_with_config(config, TokioRuntimeProvider::default())
                .with_options(options)
                .build();
            let resolver = match resolver {
                Ok(resolver) => resolver,
                Err(e) => return Told::NoAnswer(e.to_string()),
            };
            let asked = tokio::time::timeout(self.patience * 2, resolver.lookup(name, kind.asked()));
            match asked.await {
                Err(_) => Told::NoAnswer("no answer in time".into()),
                Ok(Ok(found)) => {
                    let ours = found.answers().iter().filter(|r| r.record_type() == kind.asked());
                    let mut all: Vec<Record> =
                        ours.map(|r| Record { kind, value: r.data.to_string(), seconds: r.ttl }).collect();
                    all.sort();
                    if all.is_empty() { Told::Nothing } else { Told::Records(all) }
                }
                Ok(Err(e)) if e.is_no_records_found() || e.is_nx_domain() => Told::Nothing,
                Ok(Err(NetError::Timeout)) => Told::NoAnswer("no answer in time".into()),
                Ok(Err(e)) => Told::NoAnswer(e.to_string()),
            }
        })
    }
}

/// The resolvers that this machine asks.
pub fn of_this_machine() -> Vec<SocketAddr> {
    let read = read_system_conf().map(|(config, _)| config);
    let servers = read.map(|c| c.name_servers().to_vec()).unwrap_or_default();
    let mut out: Vec<SocketAddr> = Vec::new();
    for server in servers {
        let port = server.connections.first().map_or(53, |c| c.port);
        let at = SocketAddr::new(server.ip, port);
        if !out.contains(&at) {
            out.push(at);
        }
    }
    out
}
