//! Where a host's name may be asked: at addresses that were given, at those the system's resolver knows, and never at an inner address
//! unless that was allowed. A name keeps the addresses it had first, so that no answer of a name server can lead elsewhere later.

use std::collections::HashMap;
use std::fmt;
use std::net::{IpAddr, SocketAddr, ToSocketAddrs};
use std::sync::{Mutex, PoisonError};
use ureq::config::Config;
use ureq::http::Uri;
use ureq::unversioned::resolver::{ResolvedSocketAddrs, Resolver};
use ureq::unversioned::transport::NextTimeout;

/// Where a name is asked instead of where name servers say.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pin {
    /// Host names for which it holds, in lower case.
    pub hosts: Vec<String>,
    /// Address.
    pub ip: IpAddr,
    /// The port that is asked for, and the one that is asked instead.
    pub port: Option<(u16, u16)>,
}

/// Says whether an address belongs to a network of its own: this machine, a local network, what is never routed.
pub fn is_inner(ip: IpAddr) -> bool {
    match ip {
        IpAddr::V4(ip) => {
            let [a, b, ..] = ip.octets();
            ip.is_private()
                || ip.is_loopback()
                || ip.is_link_local()
                || ip.is_unspecified()
                || ip.is_broadcast()
                || ip.is_multicast()
                || a == 0
                || a == 100 && (64..128).contains(&b)
                || a == 192 && b == 0 && ip.octets()[2] == 0
                || a == 198 && (18..20).contains(&b)
                || a >= 240
        }
        IpAddr::V6(ip) => match ip.to_ipv4() {
            // Mapped, and the old compatible form; `::` and `::1` are of the latter.
            Some(inner) => ip.is_loopback() || is_inner(inner.into()),
            None => {
                let [first, second, ..] = ip.segments();
                ip.is_multicast()
                    || first & 0xfe00 == 0xfc00
                    || first & 0xffc0 == 0xfe80
                    || first & 0xffc0 == 0xfec0
                    // An address of the other family inside: translation and tunnels.
                    || first == 0x64 && second == 0xff9b
                    || first == 0x2002
            }
        },
    }
}

/// Finds out where a host is asked.
pub struct Guard {
    pins: Vec<Pin>,
    inner: bool,
    known: Mutex<HashMap<String, Vec<IpAddr>>>,
}

impl fmt::Debug for Guard {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Guard").field("pins", &self.pins).field("inner", &self.inner).finish()
    }
}

/// What is said of a name whose addresses may not be asked.
pub(crate) const INNER: &str = "the name leads to an inner address";

impl Guard {
    /// Makes one; `inner` says whether inner addresses may be asked by other names than pinned ones.
    pub fn new(pins: Vec<Pin>, inner: bool) -> Self {
        Guard { pins, inner, known: Mutex::default() }
    }

    /// Allows inner addresses if a host, which was chosen for its own sake, is at one.
    pub fn open_to(mut self, host: &str, port: u16) -> Self {
        self.inner = true;
        self.inner = self.addresses(host, port).is_ok_and(|all| all.iter().any(|a| is_inner(a.ip())));
        self
    }

    /// Where a host would be asked: pinned, or as the system's resolver says now.
    pub fn addresses(&self, host: &str, port: u16) -> std::io::Result<Vec<SocketAddr>> {
        let host = host.trim_matches(['[', ']']).trim_end_matches('.').to_ascii_lowercase();
        if let Some(pin) = self.pins.iter().find(|p| p.hosts.contains(&host)) {
            let port = pin.port.filter(|(from, _)| *from == port).map_or(port, |(_, to)| to);
            return Ok(vec![SocketAddr::new(pin.ip, port)]);
        }
        let known = self.known.lock().unwrap_or_else(PoisonError::into_inner).get(&host).cloned();
        let ips = match known {
            Some(ips) => ips,
            None => {
                let found: Vec<IpAddr> = (host.as_str(), port).to_socket_addrs()?.map(|a| a.ip()).collect();
                let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
                known.entry(host).or_insert(found).clone()
            }
        };
        if !self.inner && ips.iter().any(|ip| is_inner(*ip)) {
            return Err(std::io::Error::other(INNER));
        }
        Ok(ips.into_iter().map(|ip| SocketAddr::new(ip, port)).collect())
    }
}

/// The guard as the library asks it.
#[derive(Debug, Clone)]
pub(crate) struct Asked(pub std::sync::Arc<Guard>);

impl Resolver for Asked {
    fn resolve(
        &self,
        uri: &Uri,
        _config: &Config,
        _timeout: NextTimeout,
    ) -> Result<ResolvedSocketAddrs, ureq::Error> {
        let host = uri.host().unwrap_or_default();
        let port = uri.port_u16().unwrap_or(if uri.scheme_str() == Some("https") { 443 } else { 80 });
        let found = self.0.addresses(host, port).map_err(|e| match e.to_string() == INNER {
            true => ureq::Error::Io(e),
            false => ureq::Error::HostNotFound,
        })?;
        let mut out = self.empty();
        // Sixteen fit.
        found.into_iter().take(16).for_each(|a| out.push(a));
        if out.is_empty() { Err(ureq::Error::HostNotFound) } else { Ok(out) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn inner_addresses_are_told_in_every_spelling() {
        let inner = [
            "127.0.0.1",
            "10.1.2.3",
            "172.16.0.1",
            "192.168.1.1",
            "169.254.169.254",
            "100.64.0.1",
            "0.0.0.0",
            "::1",
            "::",
            "fe80::1",
            "fd00::1",
            "::ffff:10.0.0.1",
            "::ffff:127.0.0.1",
            "64:ff9b::a00:1",
            "2002:a00:1::",
            "224.0.0.1",
            "255.255.255.255",
        ];
        for ip in inner {
            assert!(is_inner(ip.parse().unwrap()), "{ip}");
        }
        for ip in [
            "93.184.216.34",
            "172.32.0.1",
            "100.128.0.1",
            "2606:4700::1",
            "::ffff:93.184.216.34",
            "192.0.1.1",
        ] {
            assert!(!is_inner(ip.parse().unwrap()), "{ip}");
        }
    }

    #[test]
    fn a_pinned_name_is_asked_there_and_others_may_not_lead_inside() {
        let pin = Pin {
            hosts: vec!["shop.test".into()],
            ip: "127.0.0.1".parse().unwrap(),
            port: Some((443, 8443)),
        };
        let guard = Guard::new(vec![pin], false);
        assert_eq!(guard.addresses("Shop.test.", 443).unwrap()[0], "127.0.0.1:8443".parse().unwrap());
        assert_eq!(guard.addresses("shop.test", 80).unwrap()[0], "127.0.0.1:80".parse().unwrap());
        assert_eq!(guard.addresses("localhost", 80).unwrap_err().to_string(), INNER);
        assert_eq!(guard.addresses("127.0.0.1", 80).unwrap_err().to_string(), INNER);
    }
}
