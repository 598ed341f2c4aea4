//! What the options of jobs hold: values that are read once, from a job file or from arguments, and are right from then on.
//!
//! Every type here is written as a plain text, as people type it. What is wrong with one, and how it is written right, goes with the error.

use crate::database::loading::Substitution;
use crate::dump::rules::Keep;
use crate::fsx::{absolute, absolute_access};
use crate::path_text;
use crate::place::{DatabaseAccess, PlaceError, wrong};
use crate::select::Part;
use crate::system::copy::SwitchName;
use globset::GlobMatcher;
use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::borrow::Cow;
use std::net::{IpAddr, SocketAddr};
use std::ops::Deref;
use std::path::{Path, PathBuf};
use std::time::Duration;

/// A value that people write as a text.
pub(crate) trait Written: Sized {
    /// Reads it, or says what is wrong and how it is written.
    fn read(text: &str) -> Result<Self, (String, String)>;
    /// Writes it.
    fn written(&self) -> String;
}

macro_rules! written {
    ($name:ident, $about:literal) => {
        impl Serialize for $name {
            fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
                s.serialize_str(&self.written())
            }
        }
        impl<'de> Deserialize<'de> for $name {
            fn deserialize<D: Deserializer<'de>>(d: D) -> Result<Self, D::Error> {
                let text = String::deserialize(d)?;
                $name::read(&text).map_err(|(what, cure)| wrong(what, cure))
            }
        }
        impl JsonSchema for $name {
            fn schema_name() -> Cow<'static, str> {
                stringify!($name).into()
            }
            fn json_schema(_: &mut SchemaGenerator) -> Schema {
                json_schema!({ "type": "string", "description": $about })
            }
        }
    };
}

/// A path that does not depend on where somebody stands.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct FullPath(PathBuf);

impl FullPath {
    /// Makes a path absolute.
    pub fn of(path: &Path) -> Self {
        FullPath(absolute(path))
    }
}

impl Written for FullPath {
    fn read(text: &str) -> Result<Self, (String, String)> {
        if text.is_empty() {
            return Err(("an empty text is no path".into(), "name a file or folder".into()));
        }
        Ok(FullPath::of(&path_text::to_path(text)))
    }
    fn written(&self) -> String {
        path_text::to_text(&self.0).into_owned()
    }
}
written!(FullPath, "path of a file or folder; a relative one counts from the current folder");

impl AsRef<Path> for FullPath {
    fn as_ref(&self) -> &Path {
        &self.0
    }
}

impl Deref for FullPath {
    type Target = Path;
    fn deref(&self) -> &Path {
        &self.0
    }
}

/// A file, or a pipe: `-`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum FileOrPipe {
    /// Standard input or output.
    Pipe,
    /// A file.
    File(FullPath),
}

impl FileOrPipe {
    /// The file, if it is one.
    pub fn file(&self) -> Option<&Path> {
        match self {
            FileOrPipe::Pipe => None,
            FileOrPipe::File(path) => Some(path),
        }
    }
}

impl Written for FileOrPipe {
    fn read(text: &str) -> Result<Self, (String, String)> {
        if text == "-" { Ok(FileOrPipe::Pipe) } else { FullPath::read(text).map(FileOrPipe::File) }
    }
    fn written(&self) -> String {
        self.file().map_or("-".into(), |f| path_text::to_text(f).into_owned())
    }
}
written!(FileOrPipe, "path of a file, or - for a pipe");

/// A database by its URL, which holds no password.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DatabaseUrl(pub DatabaseAccess);

impl Written for DatabaseUrl {
    fn read(text: &str) -> Result<Self, (String, String)> {
        DatabaseAccess::parse(text).map(absolute_access).map(DatabaseUrl).map_err(placed)
    }
    fn written(&self) -> String {
        self.0.url()
    }
}
written!(
    DatabaseUrl,
    "mysql://USER@HOST[:PORT]/NAME[?socket=PATH], postgres://… or sqlite:///PATH, without a password"
);

/// A server of databases by its URL, with a user who may make databases.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ServerUrl(pub DatabaseAccess);

impl Written for ServerUrl {
    fn read(text: &str) -> Result<Self, (String, String)> {
        DatabaseAccess::parse_server(text).map(ServerUrl).map_err(placed)
    }
    fn written(&self) -> String {
        self.0.url().trim_end_matches('/').to_string()
    }
}
written!(ServerUrl, "mysql://USER@HOST[:PORT], postgres://USER@HOST, without a password");

fn placed(error: PlaceError) -> (String, String) {
    let cure = error.cure().to_string();
    (error.to_string(), cure)
}

/// What to copy of which tables: `PATTERN=all`, `=structure` or `=none`.
#[derive(Debug, Clone)]
pub struct RowsChoice {
    /// Tables.
    pub pattern: GlobMatcher,
    /// What of them.
    pub keep: Keep,
}

impl PartialEq for RowsChoice {
    fn eq(&self, other: &Self) -> bool {
        self.written() == other.written()
    }
}

impl RowsChoice {
    /// Makes a choice, if the pattern is one.
    pub fn new(pattern: &str, keep: Keep) -> Option<Self> {
        Some(RowsChoice { pattern: globset::Glob::new(pattern).ok()?.compile_matcher(), keep })
    }
}

/// Tables by a pattern of their names, with or without the site's prefix.
#[derive(Debug, Clone)]
pub struct TablePattern(pub GlobMatcher);

impl PartialEq for TablePattern {
    fn eq(&self, other: &Self) -> bool {
        self.0.glob() == other.0.glob()
    }
}

impl Written for TablePattern {
    fn read(text: &str) -> Result<Self, (String, String)> {
        let wrong =
            |_| (format!("{text:?} is not a pattern"), "name a table; * and ? stand for letters".into());
        globset::Glob::new(text).map(|glob| TablePattern(glob.compile_matcher())).map_err(wrong)
    }
    fn written(&self) -> String {
        self.0.glob().glob().to_string()
    }
}
written!(TablePattern, "name of a table; it may hold * and ?");

impl Written for RowsChoice {
    fn read(text: &str) -> Result<Self, (String, String)> {
        let wrong = || {
            (
                format!("{text:?} does not say what to copy of which tables"),
                "write it as PATTERN=structure, where PATTERN is a table's name and may hold * and ?; the other words are all and none"
                    .to_string(),
            )
        };
        let (pattern, word) = text.split_once('=').ok_or_else(wrong)?;
        let keep = match word {
            "all" => Keep::All,
            "structure" => Keep::Structure,
            "none" => Keep::Nothing,
            _ => return Err(wrong()),
        };
        RowsChoice::new(pattern, keep).ok_or_else(wrong)
    }
    fn written(&self) -> String {
        let word = match self.keep {
            Keep::All => "all",
            Keep::Structure => "structure",
            Keep::Nothing => "none",
        };
        format!("{}={word}", self.pattern.glob().glob())
    }
}
written!(RowsChoice, "PATTERN=all, =structure or =none");

/// What a character set, collation or engine becomes that the server does not know: `NAME=OTHER`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Substitute(pub Substitution);

impl Written for Substitute {
    fn read(text: &str) -> Result<Self, (String, String)> {
        match text.split_once('=') {
            Some((name, other)) if !name.is_empty() && !other.is_empty() => {
                Ok(Substitute(Substitution { name: name.into(), other: other.into() }))
            }
            _ => Err((
                format!("expected NAME=REPLACEMENT, got {text:?}"),
                "write it as utf8mb4_0900_ai_ci=utf8mb4_unicode_ci".into(),
            )),
        }
    }
    fn written(&self) -> String {
        format!("{}={}", self.0.name, self.0.other)
    }
}
written!(Substitute, "NAME=OTHER");

/// A switch of the copy and its state: `NAME=STATE`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SwitchChoice {
    /// Switch.
    pub name: SwitchName,
    /// State.
    pub state: String,
}

impl Written for SwitchChoice {
    fn read(text: &str) -> Result<Self, (String, String)> {
        let wrong = || {
            (
                format!("{text:?} is no switch"),
                "write it as NAME=STATE: maintenance=on, cache=off, mail=off, index=off, friendly-urls=off, assets=plain"
                    .to_string(),
            )
        };
        let (name, state) = text.split_once('=').ok_or_else(wrong)?;
        let name = serde_json::from_value(name.into()).map_err(|_| wrong())?;
        Ok(SwitchChoice { name, state: state.to_string() })
    }
    fn written(&self) -> String {
        format!("{}={}", self.name.word(), self.state)
    }
}
written!(SwitchChoice, "NAME=STATE");

/// A number of bytes, such as `50M`.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Size(pub u64);

impl Size {
    /// Reads `50M`, `1G`, `4096`; K, M and G are powers of 1024.
    pub fn parse(text: &str) -> Option<u64> {
        let lower = text.trim().to_ascii_lowercase();
        let digits = lower.trim_end_matches(|c: char| c.is_ascii_alphabetic());
        let shift = match lower[digits.len()..].trim_end_matches("ib").trim_end_matches('b') {
            "" => 0,
            "k" => 10,
            "m" => 20,
            "g" => 30,
            _ => return None,
        };
        digits.trim().parse::<u64>().ok()?.checked_mul(1 << shift)
    }
}

impl Written for Size {
    fn read(text: &str) -> Result<Self, (String, String)> {
        let wrong = || (format!("{text:?} is no size"), "write it as 50M or 1G".to_string());
        Size::parse(text).map(Size).ok_or_else(wrong)
    }
    fn written(&self) -> String {
        match self.0 {
            n if n > 0 && n.is_multiple_of(1 << 30) => format!("{}G", n >> 30),
            n if n > 0 && n.is_multiple_of(1 << 20) => format!("{}M", n >> 20),
            n if n > 0 && n.is_multiple_of(1 << 10) => format!("{}K", n >> 10),
            n => n.to_string(),
        }
    }
}
written!(Size, "number of bytes, such as 50M or 1G");

impl Written for Part {
    fn read(text: &str) -> Result<Self, (String, String)> {
        Part::parse(text).ok_or_else(|| {
            (
                format!("{text:?} is no part of a site"),
                "parts are database, code, media and cache; a folder or file is written as it lies below the site, such as images/banners, and may hold * and ?"
                    .into(),
            )
        })
    }
    fn written(&self) -> String {
        self.word()
    }
}
written!(
    Part,
    "database, code, media, cache, or a folder, file or pattern below the site, such as images/banners or *.zip"
);

/// Where a host is asked instead of where name servers say: `IP` or `IP:PORT`.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct At {
    /// Address.
    pub ip: IpAddr,
    /// Port, if it is another than the site's.
    pub port: Option<u16>,
}

impl At {
    /// Reads it, if it is one.
    pub fn parse(text: &str) -> Option<Self> {
        At::read(text).ok()
    }
}

impl std::fmt::Display for At {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self.port {
            Some(port) => SocketAddr::new(self.ip, port).fmt(f),
            None => self.ip.fmt(f),
        }
    }
}

impl Written for At {
    fn read(text: &str) -> Result<Self, (String, String)> {
        let bare = text.trim();
        if let Ok(ip) = bare.trim_matches(['[', ']']).parse() {
            return Ok(At { ip, port: None });
        }
        let wrong = || {
            (
                format!("{text:?} is no address in the network"),
                "write it as 203.0.113.7, 203.0.113.7:8443 or [2001:db8::7]:8443".into(),
            )
        };
        let at: SocketAddr = bare.parse().map_err(|_| wrong())?;
        Ok(At { ip: at.ip(), port: Some(at.port()) })
    }
    fn written(&self) -> String {
        self.to_string()
    }
}
written!(At, "address in the network, with a port where it is another than the site's: IP or IP:PORT");

/// A time in seconds, such as `0.5`.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Seconds(pub f64);

impl Seconds {
    /// As a duration.
    pub fn duration(self) -> Duration {
        Duration::try_from_secs_f64(self.0).unwrap_or_default()
    }
}

impl Written for Seconds {
    fn read(text: &str) -> Result<Self, (String, String)> {
        let seconds =
            text.trim().trim_end_matches('s').parse::<f64>().ok().filter(|n| (0.0..=86_400.0).contains(n));
        seconds
            .map(Seconds)
            .ok_or_else(|| (format!("{text:?} is no time"), "write seconds, such as 2 or 0.5".into()))
    }
    fn written(&self) -> String {
        self.0.to_string()
    }
}
written!(Seconds, "seconds, such as 2 or 0.5");

/// On or off.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum OnOff {
    /// On.
    On,
    /// Off.
    #[default]
    Off,
}

impl OnOff {
    /// Says whether it is on.
    pub fn is_on(self) -> bool {
        self == OnOff::On
    }
}

/// An e-mail address.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MailAddress(String);

impl Written for MailAddress {
    fn read(text: &str) -> Result<Self, (String, String)> {
        let (name, host) = text.rsplit_once('@').unwrap_or(("", text));
        let fits = !name.is_empty()
            && !host.is_empty()
            && !host.starts_with('.')
            && !host.ends_with('.')
            && !text.chars().any(|c| c.is_whitespace() || c.is_control() || "<>,;\"".contains(c));
        let wrong = || {
            (format!("{text:?} is no e-mail address"), "write it like office@fernhollow.example".to_string())
        };
        fits.then(|| MailAddress(text.into())).ok_or_else(wrong)
    }
    fn written(&self) -> String {
        self.0.clone()
    }
}
written!(MailAddress, "e-mail address");

impl Deref for MailAddress {
    type Target = str;
    fn deref(&self) -> &str {
        &self.0
    }
}
