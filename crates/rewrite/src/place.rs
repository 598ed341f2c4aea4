//! Where a site lives, and the way from one place to another.
//!
//! A [`Relocation`] is the central value of the tool: replacements, cells, config edits and checks all derive from it.
//! A [`Place`] is complete by construction: a root, a base address and a database access.

use crate::secret::Secret;
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

/// Kind of a database server.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Engine {
    /// MySQL or MariaDB.
    #[default]
    Mysql,
    /// PostgreSQL.
    Postgres,
    /// SQLite: the database is a file.
    Sqlite,
    /// SQL Server: scripts are read and written, the server itself is not spoken to.
    SqlServer,
}

impl Engine {
    /// Returns the scheme of URLs that name such a server.
    pub fn scheme(self) -> &'static str {
        match self {
            Engine::Mysql => "mysql",
            Engine::Postgres => "postgres",
            Engine::Sqlite => "sqlite",
            Engine::SqlServer => "sqlserver",
        }
    }

    /// Returns the server's name for people.
    pub fn name(self) -> &'static str {
        match self {
            Engine::Mysql => "MySQL",
            Engine::Postgres => "PostgreSQL",
            Engine::Sqlite => "SQLite",
            Engine::SqlServer => "SQL Server",
        }
    }

    /// Returns the port that an access without one means.
    pub fn default_port(self) -> u16 {
        match self {
            Engine::Mysql | Engine::Sqlite => 3306,
            Engine::Postgres => 5432,
            Engine::SqlServer => 1433,
        }
    }

    /// Tells the server by the name of a driver, such as `mysqli`, `pgsql` or a class's name.
    pub fn of_driver(driver: &str) -> Option<Engine> {
        let driver = driver.to_ascii_lowercase();
        let is = |words: &[&str]| words.iter().any(|w| driver.contains(w));
        Some(match () {
            () if is(&["pgsql", "postgre"]) => Engine::Postgres,
            () if is(&["sqlite"]) => Engine::Sqlite,
            () if is(&["sqlsrv", "mssql", "sqlserver"]) => Engine::SqlServer,
            () if is(&["mysql", "maria"]) => Engine::Mysql,
            () => return None,
        })
    }
}

/// How much a connection has to be encrypted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Tls {
    /// Encrypted where the server offers it, except on this machine, where nobody listens in.
    #[default]
    Offered,
    /// Encrypted, or no connection; the certificate is not looked at.
    On,
    /// Encrypted, and the certificate is signed by a known authority and made out to this host.
    Verified,
    /// Not encrypted.
    Off,
}

impl Tls {
    fn is_default(&self) -> bool {
        *self == Tls::Offered
    }

    /// The words of a URL.
    const WORDS: [(Tls, &str); 4] =
        [(Tls::Offered, "offered"), (Tls::On, "on"), (Tls::Verified, "verified"), (Tls::Off, "off")];
}

/// Where a site's database is and who opens it. The password is kept apart from everything that is written out.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct DatabaseAccess {
    /// Kind of server.
    #[serde(default)]
    pub engine: Engine,
    /// How much the connection has to be encrypted.
    #[serde(default, skip_serializing_if = "Tls::is_default")]
    pub tls: Tls,
    /// Host name or IP address; `localhost` usually means a socket.
    pub host: String,
    /// TCP port, if not the usual one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub port: Option<u16>,
    /// Path of the server's socket, if one is named.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub socket: Option<String>,
    /// Name of the database.
    pub name: String,
    /// User.
    pub user: String,
    /// Password.
    #[serde(skip)]
    pub password: Secret,
}

impl DatabaseAccess {
    /// An access to nothing yet.
    pub fn unknown() -> Self {
        DatabaseAccess {
            engine: Engine::Mysql,
            tls: Tls::Offered,
            host: "localhost".into(),
            port: None,
            socket: None,
            name: String::new(),
            user: String::new(),
            password: Secret::default(),
        }
    }

    /// Reads `mysql://USER@HOST[:PORT]/NAME[?socket=PATH&tls=WORD]`, `postgres://…`, `sqlserver://…`, or `sqlite:///PATH`. User, name
    /// and path may be percent-encoded. Without a user it is for others to say who logs in.
    pub fn parse(text: &str) -> Result<Self, PlaceError> {
        let access = Self::parse_server(text)?;
        if access.name.is_empty() {
            return Err(PlaceError::Database { text: text.into(), why: "no database name follows the host" });
        }
        Ok(access)
    }

    /// The same for a server as a whole: the name may be missing.
    pub fn parse_server(text: &str) -> Result<Self, PlaceError> {
        // What follows the question mark, or stands before the host, may be a secret that was put there by mistake.
        let shown = text.split('?').next().unwrap_or_default();
        let shown = match (shown.split_once("://"), shown.rsplit_once('@')) {
            (Some((scheme, rest)), Some((_, host))) if rest.contains(':') => format!("{scheme}://…@{host}"),
            _ => shown.to_string(),
        };
        let wrong = |why| PlaceError::Database { text: shown.clone(), why };
        if let Some(path) = text.strip_prefix("sqlite:") {
            let path = path.strip_prefix("//").unwrap_or(path);
            let path = percent_decoded(path);
            // Whoever reads the logbook later stands elsewhere.
            let name = match path.is_empty() {
                true => path,
                false => path,
            };
            return Ok(DatabaseAccess { engine: Engine::Sqlite, name, ..DatabaseAccess::unknown() });
        }
        let schemes = [
            ("mysql://", Engine::Mysql),
            ("mariadb://", Engine::Mysql),
            ("postgres://", Engine::Postgres),
            ("postgresql://", Engine::Postgres),
            ("sqlserver://", Engine::SqlServer),
        ];
        let found = schemes.iter().find_map(|(p, engine)| Some((text.strip_prefix(p)?, *engine)));
        let (rest, engine) = found.ok_or_else(|| {
            wrong("it does not begin with mysql://, postgres://, sqlite:// or sqlserver://")
        })?;
        let (rest, query) = rest.split_once('?').unwrap_or((rest, ""));
        let (authority, name) = rest.split_once('/').unwrap_or((rest, ""));
        let (user, host) = authority.rsplit_once('@').unwrap_or(("", authority));
        if user.contains(':') {
            return Err(PlaceError::PasswordInUrl);
        }
        let (host, port) = match host.rsplit_once(':') {
            Some((h, p)) if !h.ends_with(':') && (!h.contains(':') || h.ends_with(']')) => {
                (h, Some(p.parse::<u16>().map_err(|_| wrong("the port is not a number up to 65535"))?))
            }
            _ => (host, None),
        };
        let (mut socket, mut tls) = (None, Tls::Offered);
        for pair in query.split('&').filter(|p| !p.is_empty()) {
            match pair.split_once('=') {
                Some(("socket", path)) => socket = Some(percent_decoded(path)),
                Some(("tls", word)) => {
                    let known = Tls::WORDS.iter().find(|(_, w)| *w == word);
                    tls = known.ok_or_else(|| wrong("tls is offered, on, verified or off"))?.0;
                }
                _ => return Err(wrong("only ?socket=PATH and ?tls=WORD may follow the name")),
            }
        }
        let host = if host.is_empty() { "localhost" } else { host };
        Ok(DatabaseAccess {
            engine,
            tls,
            host: host.to_string(),
            port,
            socket,
            name: percent_decoded(name.trim_end_matches('/')),
            user: percent_decoded(user),
            password: Secret::default(),
        })
    }

    /// Returns the access as a URL without the password.
    pub fn url(&self) -> String {
        if self.engine == Engine::Sqlite {
            return format!("sqlite://{}", self.name);
        }
        let port = self.port.map(|p| format!(":{p}")).unwrap_or_default();
        let user = if self.user.is_empty() { String::new() } else { format!("{}@", self.user) };
        let mut query = Vec::new();
        query.extend(self.socket.as_ref().map(|s| format!("socket={s}")));
        query.extend(
            Tls::WORDS
                .iter()
                .filter(|(t, _)| *t == self.tls && !t.is_default())
                .map(|(_, w)| format!("tls={w}")),
        );
        let query = if query.is_empty() { String::new() } else { format!("?{}", query.join("&")) };
        format!("{}://{user}{}{port}/{}{query}", self.engine.scheme(), self.host, self.name)
    }

    /// Says whether the connection stays on this machine.
    pub fn is_local(&self) -> bool {
        self.socket.is_some() || matches!(self.host.as_str(), "localhost" | "127.0.0.1" | "[::1]" | "::1")
    }

    /// Returns the access as a URL in which every part is percent-encoded, password included: the form of some config files.
    pub fn url_with_password(&self, scheme: &str) -> String {
        let encoded = |text: &str| {
            percent_encoding::utf8_percent_encode(text, percent_encoding::NON_ALPHANUMERIC).to_string()
        };
        let plain = |text: &str| encoded(text).replace("%2E", ".").replace("%5F", "_").replace("%2D", "-");
        let port = self.port.map(|p| format!(":{p}")).unwrap_or_default();
        let host = match &self.socket {
            Some(socket) if self.host == "localhost" => encoded(socket),
            _ => plain(&self.host),
        };
        format!(
            "{scheme}://{}:{}@{host}{port}/{}",
            plain(&self.user),
            encoded(self.password.expose()),
            plain(&self.name)
        )
    }

    /// Takes everything from such a URL; nothing where it is none.
    pub fn set_url(&mut self, text: &str) -> Option<()> {
        let (scheme, rest) = text.split_once("://")?;
        self.engine = Engine::of_driver(scheme).unwrap_or_default();
        let (authority, name) = rest.split_once('/')?;
        let (login, host) = authority.rsplit_once('@')?;
        let (user, password) = login.split_once(':').unwrap_or((login, ""));
        let host = percent_decoded(host);
        let host = if host.starts_with('/') { format!("localhost:{host}") } else { host };
        self.set_host_value(&host);
        self.user = percent_decoded(user);
        self.password = Secret::new(percent_decoded(password));
        self.name = percent_decoded(name.split('?').next().unwrap_or(name));
        Some(())
    }

    /// Returns host, port and socket as programs keep them in one value: `h`, `h:3307`, `h:/path/sock`. PostgreSQL's library takes the folder
    /// of the socket for a host.
    pub fn host_value(&self) -> String {
        match (&self.socket, self.port) {
            (Some(socket), _) if self.engine == Engine::Postgres => socket.clone(),
            (Some(socket), _) => format!("{}:{socket}", self.host),
            (None, Some(port)) => format!("{}:{port}", self.host),
            (None, None) => self.host.clone(),
        }
    }

    /// Takes host, port and socket from such a value.
    pub fn set_host_value(&mut self, value: &str) {
        if value.starts_with('/') {
            (self.host, self.socket) = ("localhost".into(), Some(value.to_string()));
            return;
        }
        let (host, tail) = match value.strip_prefix('[').and_then(|v| v.split_once(']')) {
            Some((v6, tail)) => (format!("[{v6}]"), tail.strip_prefix(':')),
            None => match value.split_once(':') {
                Some((h, t)) => (h.to_string(), Some(t)),
                None => (value.to_string(), None),
            },
        };
        self.host = if host.is_empty() { "localhost".into() } else { host };
        self.port = tail.and_then(|t| t.parse().ok());
        self.socket = tail.filter(|t| t.starts_with('/')).map(str::to_string);
    }
}

fn percent_decoded(text: &str) -> String {
    percent_encoding::percent_decode_str(text).decode_utf8_lossy().into_owned()
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
