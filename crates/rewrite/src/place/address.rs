//! The base address of a site.

use super::error::{PlaceError, Scheme};
use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Serialize};
use std::borrow::Cow;

/// A base address: scheme, host, port and base path of a site.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Address {
    scheme: Scheme,
    host: String,
    port: Option<u16>,
    base: String,
}

impl Address {
    /// The same address under the host's other name: without `www.` before it, or with it.
    pub fn twin(&self) -> Option<Self> {
        let host = self.host();
        let other = host.strip_prefix("www.").map_or_else(|| format!("www.{host}"), str::to_string);
        Self::parse(&self.to_string().replacen(host, &other, 1)).ok()
    }

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
