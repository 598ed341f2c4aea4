//! What a definition says of a config file: where it lies, how it is written, and what its keys mean.

use crate::place::AddressForm;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A config file.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Config {
    /// Path under the site; `*` stands for one name.
    pub path: String,
    /// Text that must be in it, where the path alone does not tell.
    #[serde(default)]
    pub contains: Option<String>,
    /// How it is written.
    pub form: ConfigForm,
    /// Sign that the program reads twice as once in every value, such as `%` where parameters stand between two of them.
    #[serde(default)]
    pub doubled: Option<String>,
    /// Keys with a role.
    #[serde(default)]
    pub key: Vec<Key>,
    /// Path of the file that has to name it, outside of comments; without that the program does not read it.
    #[serde(default)]
    pub named_in: Option<String>,
    /// Whether it may lie one folder above the document root, where no browser reaches it.
    #[serde(default)]
    pub above: bool,
    /// Path of another entry whose keys these files have as well. Of several files that name a database the one that comes first counts,
    /// so a file that overrides others comes before them.
    #[serde(default)]
    pub like: Option<String>,
}

impl Config {
    /// What a value means.
    pub fn meant(&self, value: &str) -> String {
        match &self.doubled {
            Some(sign) => value.replace(&sign.repeat(2), sign),
            None => value.to_string(),
        }
    }

    /// How a value is written so that it means this.
    pub fn written(&self, value: &str) -> String {
        match &self.doubled {
            Some(sign) => value.replace(sign.as_str(), &sign.repeat(2)),
            None => value.to_string(),
        }
    }
}

/// How a config file is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum ConfigForm {
    /// PHP: properties of a class, constants, variables, arrays.
    Php,
    /// XML: attributes.
    Xml,
    /// YAML: nested maps of scalars.
    Yaml,
    /// Environment file: `NAME=value`.
    Env,
    /// File that a shell reads: `NAME=value`, `export NAME=value`.
    Shell,
    /// JSON, comments and trailing commas tolerated.
    Json,
    /// INI: sections with keys.
    Ini,
    /// Python: a module of settings.
    Python,
    /// The web server's per-folder file.
    Htaccess,
}

impl ConfigForm {
    /// Its word in a definition.
    pub fn word(self) -> String {
        format!("{self:?}").to_lowercase()
    }
}

/// A key of a config file and what it means.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Key {
    /// Name of the property, constant or variable; inside of arrays or elements the way there. A last `*` stands for any key.
    pub name: String,
    /// Meaning.
    pub role: Role,
    /// For [`Role::Address`] and [`Role::BasePath`]: its form.
    #[serde(default)]
    pub form: Option<AddressForm>,
    /// For [`Role::BasePath`]: what stands there at the bare root, if the form does not say it right.
    #[serde(default)]
    pub at_root: Option<String>,
    /// For [`Role::Path`]: where below the root it usually lies, to learn the root from it.
    #[serde(default)]
    pub below_root: Vec<String>,
    /// For [`Role::Path`]: folder of the definition that lies where this key says.
    #[serde(default)]
    pub stands_for: Option<String>,
    /// For [`Role::DatabaseHost`]: whether the database's file stands there, where it is one.
    #[serde(default)]
    pub or_file: bool,
    /// For [`Role::TablePrefix`]: what the system adds to a value that does not end so.
    #[serde(default)]
    pub tail: Option<String>,
    /// For [`Role::DatabasePort`]: whether it has to be a number. Without it the path of a socket may stand there.
    #[serde(default)]
    pub number: bool,
    /// For [`Role::Secret`]: whether a copy beside the live site should get one of its own. Without it the secret has to travel.
    #[serde(default)]
    pub own: bool,
    /// What it is for, where the role does not say.
    #[serde(default)]
    pub about: String,
}

impl Key {
    /// Returns the table prefix that a value means.
    pub fn prefix_of(&self, value: &str) -> String {
        match &self.tail {
            Some(tail) if !value.is_empty() && !value.ends_with(tail.as_str()) => format!("{value}{tail}"),
            _ => value.to_string(),
        }
    }
}

/// Meaning of a config key.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Role {
    /// Kind of database or driver; shown, never changed.
    Engine,
    /// Database host with optional port or socket in one value.
    DatabaseHost,
    /// TCP port of the database, or the path of its socket, in a value of its own.
    DatabasePort,
    /// Path of the database's socket.
    DatabaseSocket,
    /// Host, user, password and name in one URL.
    DatabaseUrl,
    /// Host, user, password and name in one connection string.
    DatabaseConnection,
    /// Name of the database.
    DatabaseName,
    /// Database user.
    DatabaseUser,
    /// Database password.
    DatabasePassword,
    /// Table prefix.
    TablePrefix,
    /// Name of a table with the prefix before it; follows the prefix.
    TableName,
    /// A server that the site shares with others, such as a second database or a cache server: told, never changed.
    OtherServer,
    /// Base address in the given form; left empty where it is empty.
    Address,
    /// Address of the site in the given form that follows it, but may be another one and so does not tell it.
    Link,
    /// Base path in the given form.
    BasePath,
    /// Domain of cookies, perhaps with a dot before it; emptied when the host changes.
    CookieDomain,
    /// Path of cookies; follows the base path.
    CookiePath,
    /// A host that is let in, perhaps with a dot before it for all below it; `*` and the machine's own names stay.
    Host,
    /// Several of them in one text, with commas or spaces between.
    HostList,
    /// Pattern of a host that is let in, such as `^www\.host\.example$`.
    HostPattern,
    /// Absolute path of a folder (log, temp, cache).
    Path,
    /// Absolute path of a folder that belongs to the site wherever it lies; it is carried.
    Storage,
    /// Address of the site's office; its domain is evidence for the site's host, never changed.
    Email,
    /// Secret that travels with the site.
    Secret,
    /// Name of the site.
    SiteName,
}
