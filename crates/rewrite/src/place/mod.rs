//! Where a site lives, and the way from one place to another.
//!
//! A [`Relocation`] is the central value of the tool: replacements, cells, config edits and checks all derive from it.
//! A [`Place`] is complete by construction: a root, a base address and a database access.

mod access;
mod engine;

pub use access::{DatabaseAccess, Tls};
pub use engine::{Engine, EngineFacts};

use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Serialize};
use std::borrow::Cow;

/// Stands between what is wrong with a value and how it is written right, in the text of a reader's error.
pub const CURE: char = '\u{1}';

/// Puts together what is wrong with a value and how it is written right, for whoever reads values from a file.
pub fn wrong<E: serde::de::Error>(what: impl std::fmt::Display, cure: impl std::fmt::Display) -> E {
    E::custom(format!("{what}{CURE}{cure}"))
}

/// `http` or `https`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Scheme {
    /// Plain HTTP, port 80 unless said.
    Http,
    /// HTTP over TLS, port 443 unless said.
    Https,
}

impl Scheme {
    /// Returns the scheme's name.
    pub fn name(self) -> &'static str {
        match self {
            Scheme::Http => "http",
            Scheme::Https => "https",
        }
    }

    /// Returns the port that an address without one means.
    pub fn default_port(self) -> u16 {
        match self {
            Scheme::Http => 80,
            Scheme::Https => 443,
        }
    }
}

/// Why a text is no place.
#[derive(Debug, thiserror::Error)]
pub enum PlaceError {
    /// No scheme, or another one.
    #[error("the address {0:?} does not begin with http:// or https://")]
    Scheme(String),
    /// Not a URL.
    #[error("the address {text:?} cannot be read: {why}")]
    Unreadable {
        /// What was given.
        text: String,
        /// What the URL reader said.
        why: String,
    },
    /// A query, a fragment or a log-in stands in a base address.
    #[error("the address {0:?} holds more than scheme, host, port and base path")]
    TooMuch(String),
    /// A root must be an absolute path.
    #[error("the root {0:?} is not an absolute path")]
    RelativeRoot(String),
    /// A database URL that is not one of ours.
    #[error("the database {text:?} cannot be read: {why}")]
    Database {
        /// What was given, without a password.
        text: String,
        /// What is wrong.
        why: &'static str,
    },
    /// A password must never stand in an argument.
    #[error("the database URL holds a password")]
    PasswordInUrl,
}

impl PlaceError {
    fn for_reader<E: serde::de::Error>(self) -> E {
        let cure = self.cure();
        wrong(self, cure)
    }

    /// Says how it is written right.
    pub fn cure(&self) -> &'static str {
        match self {
            PlaceError::Scheme(_) | PlaceError::Unreadable { .. } => {
                "write it like https://www.fernhollow.example/base"
            }
            PlaceError::TooMuch(_) => "name scheme, host, port and base path only",
            PlaceError::RelativeRoot(_) => "write it like /home/fernhollow/public_html",
            PlaceError::Database { .. } => {
                "write it like mysql://USER@HOST:PORT/NAME or mysql://USER@localhost/NAME?socket=/path/to.sock"
            }
            PlaceError::PasswordInUrl => {
                "take it out, put it into a file, and name that with --database-password-file FILE"
            }
        }
    }
}

/// A base address: scheme, host, port and base path of a site.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Address {
    scheme: Scheme,
    host: String,
    port: Option<u16>,
    base: String,
}

impl Address {
    /// Reads an address such as `https://shop.example:8443/base/`.
    ///
    /// The host is folded to lower case and to its ASCII spelling (IDNA); a port that the scheme means anyway and a
    /// trailing slash are dropped.
    pub fn parse(text: &str) -> Result<Self, PlaceError> {
        let trimmed = text.trim();
        let unreadable = |why: String| PlaceError::Unreadable { text: text.to_string(), why };
        let lower = trimmed.to_ascii_lowercase();
        if !lower.starts_with("http://") && !lower.starts_with("https://") {
            return Err(PlaceError::Scheme(text.to_string()));
        }
        let url = url::Url::parse(trimmed).map_err(|e| unreadable(e.to_string()))?;
        let scheme = if url.scheme() == "https" { Scheme::Https } else { Scheme::Http };
        if url.query().is_some()
            || url.fragment().is_some()
            || !url.username().is_empty()
            || url.password().is_some()
        {
            return Err(PlaceError::TooMuch(text.to_string()));
        }
        let host = url.host_str().filter(|h| !h.is_empty()).ok_or_else(|| unreadable("no host".into()))?;
        let base = url.path().trim_end_matches('/').to_string();
        Ok(Address { scheme, host: host.to_string(), port: url.port(), base })
    }

    /// Returns the scheme.
    pub fn scheme(&self) -> Scheme {
        self.scheme
    }

    /// Returns the host in lower-case ASCII.
    pub fn host(&self) -> &str {
        &self.host
    }

    /// Returns the host as people write it, if that differs from the ASCII spelling.
    pub fn host_unicode(&self) -> Option<String> {
        if !self.host.contains("xn--") {
            return None;
        }
        let (unicode, read) = idna::domain_to_unicode(&self.host);
        read.ok()?;
        (unicode != self.host).then_some(unicode)
    }

    /// Returns the port, unless it is the one that the scheme means anyway.
    pub fn port(&self) -> Option<u16> {
        self.port
    }

    /// Returns the base path: empty for a site at the root, else with a leading and no trailing slash.
    pub fn base(&self) -> &str {
        &self.base
    }

    /// Returns host and, where it is not the scheme's own, port.
    pub fn host_port(&self) -> String {
        match self.port {
            Some(port) => format!("{}:{port}", self.host),
            None => self.host.clone(),
        }
    }

    /// Returns the same address with another scheme; a port stays only where it was said.
    pub fn with_scheme(&self, scheme: Scheme) -> Self {
        Address { scheme, ..self.clone() }
    }

    /// Spells the address in the form a cell or a config key declares.
    pub fn spelled(&self, form: AddressForm) -> String {
        match form {
            AddressForm::Url => self.to_string(),
            AddressForm::Origin => format!("{}://{}", self.scheme.name(), self.host_port()),
            AddressForm::UrlSlash => format!("{self}/"),
            AddressForm::Host => self.host_port(),
            AddressForm::Hostname => self.host.clone(),
            AddressForm::HostBase => format!("{}{}", self.host_port(), self.base),
            AddressForm::BaseSlashes => format!("{}/", self.base),
            AddressForm::BaseLeading if self.base.is_empty() => "/".into(),
            AddressForm::BaseLeading => self.base.clone(),
            AddressForm::BaseTrailing if self.base.is_empty() => String::new(),
            AddressForm::BaseTrailing => format!("{}/", self.base.trim_start_matches('/')),
            AddressForm::CookieDomain => self.host.clone(),
            AddressForm::Port => self.port.unwrap_or(self.scheme.default_port()).to_string(),
            AddressForm::Protocol => format!("{}://", self.scheme.name()),
            AddressForm::Reference if self.base.is_empty() => "/".into(),
            AddressForm::Reference => self.base.clone(),
        }
    }
}

impl std::fmt::Display for Address {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}://{}{}", self.scheme.name(), self.host_port(), self.base)
    }
}

impl JsonSchema for Address {
    fn schema_name() -> Cow<'static, str> {
        "Address".into()
    }

    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        json_schema!({ "type": "string", "description": "Base address of a site: scheme, host, port and base path." })
    }
}

impl Serialize for Address {
    fn serialize<S: serde::Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        s.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Address {
    fn deserialize<D: serde::Deserializer<'de>>(d: D) -> Result<Self, D::Error> {
        Address::parse(&String::deserialize(d)?).map_err(PlaceError::for_reader)
    }
}

/// How a declared place spells an address.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub enum AddressForm {
    /// `https://host:port/base`
    #[serde(rename = "url")]
    Url,
    /// `https://host:port`, or `//host:port`, where the base path stands elsewhere
    #[serde(rename = "origin")]
    Origin,
    /// `https://host:port/base/`
    #[serde(rename = "url/")]
    UrlSlash,
    /// `host:port`, the port only where it is not the usual one
    #[serde(rename = "host")]
    Host,
    /// `host` and never a port
    #[serde(rename = "hostname")]
    Hostname,
    /// `host:port/base`
    #[serde(rename = "host/base")]
    HostBase,
    /// `/base/`, at the root `/`
    #[serde(rename = "/base/")]
    BaseSlashes,
    /// `/base`, at the root `/`
    #[serde(rename = "/base")]
    BaseLeading,
    /// `base/`, at the root nothing
    #[serde(rename = "base/")]
    BaseTrailing,
    /// `443`: the port, also where it is the usual one
    #[serde(rename = "port")]
    Port,
    /// `https://` alone
    #[serde(rename = "scheme://")]
    Protocol,
    /// `host` or `.host`: the domain of cookies
    #[serde(rename = "cookie-domain")]
    CookieDomain,
    /// A reference from the root, such as `/base/page`: what follows the base path stays
    #[serde(rename = "reference")]
    Reference,
}

/// An absolute folder in a file system, Unix or Windows.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Root {
    drive: Option<char>,
    segments: Vec<String>,
}

impl Root {
    /// Reads `/home/a/public_html` or `C:\w\htdocs` (also with `/`). A trailing separator is dropped.
    pub fn parse(text: &str) -> Result<Self, PlaceError> {
        let relative = || PlaceError::RelativeRoot(text.to_string());
        let bytes = text.as_bytes();
        let (drive, rest) = match bytes {
            [b'/', ..] => (None, text),
            [d, b':', b'/' | b'\\', ..] if d.is_ascii_alphabetic() => (Some(*d as char), &text[2..]),
            _ => return Err(relative()),
        };
        let separators: &[char] = if drive.is_some() { &['/', '\\'] } else { &['/'] };
        let segments: Vec<String> =
            rest.split(separators).filter(|s| !s.is_empty() && *s != ".").map(str::to_string).collect();
        if segments.iter().any(|s| s == "..") {
            return Err(relative());
        }
        Ok(Root { drive, segments })
    }

    /// Returns the drive letter of a Windows root.
    pub fn drive(&self) -> Option<char> {
        self.drive
    }

    /// Returns the folder names from the top down; none for `/` itself.
    pub fn segments(&self) -> &[String] {
        &self.segments
    }

    /// Spells the root with the given separator.
    pub fn spelled_with(&self, separator: &str) -> String {
        let mut out = String::new();
        if let Some(d) = self.drive {
            out.push(d);
            out.push(':');
        }
        for s in &self.segments {
            out.push_str(separator);
            out.push_str(s);
        }
        if self.segments.is_empty() {
            out.push_str(separator);
        }
        out
    }
}

impl std::fmt::Display for Root {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.spelled_with(if self.drive.is_some() { "\\" } else { "/" }))
    }
}

impl JsonSchema for Root {
    fn schema_name() -> Cow<'static, str> {
        "Root".into()
    }

    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        json_schema!({ "type": "string", "description": "Folder in which a site lies, as an absolute path." })
    }
}

impl Serialize for Root {
    fn serialize<S: serde::Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        s.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Root {
    fn deserialize<D: serde::Deserializer<'de>>(d: D) -> Result<Self, D::Error> {
        Root::parse(&String::deserialize(d)?).map_err(PlaceError::for_reader)
    }
}

/// A place: everything that must be known of where a site lives.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Place {
    /// Base address.
    pub address: Address,
    /// Document root.
    pub root: Root,
    /// Database access; none for a site whose database is handled elsewhere.
    pub database: Option<DatabaseAccess>,
}

/// The way from one place to another. Both places are complete; the old one may have further names.
#[derive(Debug, Clone)]
pub struct Relocation {
    /// Where the site was.
    pub from: Place,
    /// Further addresses that the old site answered to.
    pub aliases: Vec<Address>,
    /// Further roots that the old site's values speak of (it lay elsewhere than its config believed).
    pub other_roots: Vec<Root>,
    /// Further sites of the same database that move as well: old and new address.
    pub further: Vec<(Address, Address)>,
    /// Folders outside of the root that move as well: old and new path.
    pub outside: Vec<(Root, Root)>,
    /// Where the site will be.
    pub to: Place,
}

impl Relocation {
    /// Returns every old address, the canonical one first.
    pub fn old_addresses(&self) -> impl Iterator<Item = &Address> {
        std::iter::once(&self.from.address).chain(&self.aliases)
    }

    /// Says whether the site was at the bare root of its host.
    pub fn at_root(&self) -> bool {
        self.from.address.base().is_empty()
    }

    /// Returns every old root, the canonical one first.
    pub fn old_roots(&self) -> impl Iterator<Item = &Root> {
        std::iter::once(&self.from.root).chain(&self.other_roots)
    }

    /// Returns the old-new pairs of which the rewriter's replacements are made.
    pub fn pairs(&self) -> Pairs {
        let addresses = self.old_addresses().map(|a| (a.clone(), self.to.address.clone()));
        let roots = self.old_roots().map(|r| (r.clone(), self.to.root.clone()));
        Pairs {
            addresses: addresses.chain(self.further.iter().cloned()).collect(),
            roots: roots.chain(self.outside.iter().cloned()).collect(),
        }
    }

    /// Computes the new value of a cell that holds `old` in the declared form, if it speaks of the old place.
    pub fn respell(&self, old: &str, form: AddressForm) -> Option<String> {
        let further = self.further.iter().find_map(|(from, to)| respell([from].into_iter(), to, old, form));
        respell(self.old_addresses(), &self.to.address, old, form).or(further)
    }

    /// The same for a path that stands beside a host: only the sites of that host can be meant. A reference keeps what follows the
    /// longest base path that it begins with.
    pub fn respell_beside(&self, host: &str, old: &str, form: AddressForm) -> Option<String> {
        let main = self.old_addresses().map(|a| (a, &self.to.address));
        let pairs = main.chain(self.further.iter().map(|(a, b)| (a, b)));
        let ours = pairs.filter(|(a, _)| a.host_port().eq_ignore_ascii_case(host));
        if form != AddressForm::Reference {
            return ours.into_iter().find_map(|(a, b)| respell([a].into_iter(), b, old, form));
        }
        let below = ours.filter_map(|(a, b)| {
            let rest = old.strip_prefix(a.base())?;
            (rest.is_empty() || rest.starts_with('/')).then_some((a.base().len(), b, rest))
        });
        let (_, new, rest) = below.max_by_key(|(len, ..)| *len)?;
        let moved = format!("{}{rest}", new.base());
        Some(if moved.is_empty() { "/".into() } else { moved })
    }
}

/// Old and new addresses and roots, without the rest of a place: what a text rewriter needs.
#[derive(Debug, Clone, Default)]
pub struct Pairs {
    /// Old and new addresses.
    pub addresses: Vec<(Address, Address)>,
    /// Old and new roots.
    pub roots: Vec<(Root, Root)>,
}

/// Computes the new domain of cookies, if the old one is the old host's or one above it.
fn cookie_domain(from: &Address, to: &Address, old: &str) -> Option<String> {
    let (dot, domain) = old.strip_prefix('.').map_or(("", old), |d| (".", d));
    if from.host.eq_ignore_ascii_case(domain) {
        return Some(format!("{dot}{}", to.host));
    }
    // A domain above the old host: it stays where it is above the new one as well; else nothing is right for any host.
    let domain = domain.to_ascii_lowercase();
    let above = |host: &str| host.ends_with(&format!(".{domain}"));
    let stays = to.host == domain || above(&to.host);
    above(&from.host).then(|| if stays { old.to_string() } else { String::new() })
}

fn respell<'a>(
    old_addresses: impl Iterator<Item = &'a Address>,
    new: &Address,
    old: &str,
    form: AddressForm,
) -> Option<String> {
    for address in old_addresses {
        if form == AddressForm::CookieDomain {
            match cookie_domain(address, new, old) {
                Some(domain) => return Some(domain),
                None => continue,
            }
        }
        if let (AddressForm::Origin, Some(old)) = (form, old.strip_prefix("//")) {
            // Whatever the scheme is: that stays so.
            match old.eq_ignore_ascii_case(&address.host_port()) {
                true => return Some(format!("//{}", new.host_port())),
                false => continue,
            }
        }
        for scheme in [address.scheme(), Scheme::Http, Scheme::Https] {
            if address.with_scheme(scheme).spelled(form).eq_ignore_ascii_case(old) {
                return Some(new.spelled(form));
            }
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_are_normalised_and_spelled_in_every_form() {
        let a = Address::parse("HTTPS://Shop.Example:443/a/b/").unwrap();
        assert_eq!(a.to_string(), "https://shop.example/a/b");
        let b = Address::parse("http://bücher.example:8080").unwrap();
        assert_eq!(b.to_string(), "http://xn--bcher-kva.example:8080");
        assert_eq!(b.host_unicode().as_deref(), Some("bücher.example"));
        let forms = [
            (AddressForm::Host, "shop.example", "xn--bcher-kva.example:8080"),
            (AddressForm::Origin, "https://shop.example", "http://xn--bcher-kva.example:8080"),
            (AddressForm::UrlSlash, "https://shop.example/a/b/", "http://xn--bcher-kva.example:8080/"),
            (AddressForm::BaseSlashes, "/a/b/", "/"),
            (AddressForm::BaseLeading, "/a/b", "/"),
            (AddressForm::BaseTrailing, "a/b/", ""),
        ];
        for (form, one, two) in forms {
            assert_eq!((a.spelled(form).as_str(), b.spelled(form).as_str()), (one, two), "{form:?}");
        }
    }

    #[test]
    fn texts_that_are_no_place_are_refused() {
        for bad in
            ["shop.example", "ftp://a.example", "http://", "http://a.example/?q=1", "http://u:p@a.example/"]
        {
            assert!(Address::parse(bad).is_err(), "{bad}");
        }
        for bad in ["home/a", "", "/home/../etc", "C:relative"] {
            assert!(Root::parse(bad).is_err(), "{bad}");
        }
        for bad in [
            "mysql://u@h/n?tls=perhaps",
            "mysql://u@h/",
            "oracle://u@h/n",
            "mysql://u:p@h/n",
            "mysql://u@h:99999/n",
        ] {
            assert!(DatabaseAccess::parse(bad).is_err(), "{bad}");
        }
    }

    #[test]
    fn database_urls_and_host_values_carry_port_and_socket() {
        let a = DatabaseAccess::parse("mysql://sky%40web@db.example:3307/cms?socket=/run/m.sock").unwrap();
        assert_eq!(
            (a.user.as_str(), a.port, a.socket.as_deref()),
            ("sky@web", Some(3307), Some("/run/m.sock"))
        );
        let mut b = a.clone();
        for (value, host, port, socket) in [
            ("localhost:/s", "localhost", None, Some("/s")),
            (":/s", "localhost", None, Some("/s")),
            ("[::1]:3306", "[::1]", Some(3306), None),
            ("h", "h", None, None),
        ] {
            b.set_host_value(value);
            assert_eq!((b.host.as_str(), b.port, b.socket.as_deref()), (host, port, socket), "{value}");
        }
    }
}
