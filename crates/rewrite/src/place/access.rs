//! Who opens a database, and where it is.

use super::engine::Engine;
use super::error::PlaceError;
use crate::secret::Secret;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

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
        let found = Engine::of_url(text).filter(|(engine, _)| !engine.facts().is_file);
        let (engine, rest) = found.ok_or_else(|| {
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
        if self.engine.facts().is_file {
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
            (Some(socket), _) if self.engine.facts().host_is_socket => socket.clone(),
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
