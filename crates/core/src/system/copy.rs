//! The part of a definition that tells what a copy can get: switches, names, a way in.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Where a value is put: a config key, a row, or a file.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SetPlace {
    /// Key of a config file.
    #[serde(default)]
    pub config: Option<String>,
    /// Key behind which the line is put where the config has none yet.
    #[serde(default)]
    pub beside: Option<String>,
    /// Row.
    #[serde(default)]
    pub row: Option<SetRow>,
    /// File under the site whose presence means on; its content.
    #[serde(default)]
    pub file: Option<SetFile>,
    /// Whether nothing is missing where there is no such key or row.
    #[serde(default)]
    pub optional: bool,
    /// First version that has it.
    #[serde(default)]
    pub from: Option<String>,
    /// First version that no longer has it.
    #[serde(default)]
    pub below: Option<String>,
}

/// A row in which a value is put.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SetRow {
    /// Table without prefix.
    pub table: String,
    /// Column with the value.
    pub column: String,
    /// Columns and values that tell the row.
    pub only: Vec<KeyValue>,
    /// How the value stands there.
    #[serde(default)]
    pub form: SetForm,
    /// Keys of the serialized array, from the outside in, under which it stands.
    #[serde(default)]
    pub within: Vec<String>,
    /// Whether the row may be made where it is missing: with these columns alone.
    #[serde(default)]
    pub make: bool,
}

/// How a value stands in a row.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum SetForm {
    /// As it is.
    #[default]
    Plain,
    /// Serialized by PHP as a string.
    SerializedString,
    /// Serialized by PHP as a number.
    SerializedNumber,
    /// Serialized by PHP as true or false.
    SerializedFlag,
}

/// A file whose presence means something.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SetFile {
    /// Path under the site.
    pub path: String,
    /// Content.
    pub content: String,
}

/// What can be switched on a copy.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Switch {
    /// What it switches.
    pub name: SwitchName,
    /// Values by state, such as `{ on = "1", off = "0" }`. For a file `write` or `remove`.
    pub states: std::collections::BTreeMap<String, String>,
    /// Where.
    pub set: SetPlace,
}

/// A switch of the system's own for TLS. It follows the scheme of the new address where that is another one.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct TlsSwitch {
    /// Value on http; nothing is put without it.
    #[serde(default)]
    pub http: Option<String>,
    /// Value on https; nothing is put without it.
    #[serde(default)]
    pub https: Option<String>,
    /// Where.
    pub set: SetPlace,
}

/// What can be switched, in the words of every system.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum SwitchName {
    /// Visitors see a notice.
    Maintenance,
    /// Pages or templates are cached.
    Cache,
    /// Mail goes out.
    Mail,
    /// Search engines may list the site.
    Index,
    /// Addresses without `index.php`.
    FriendlyUrls,
    /// Style sheets and scripts are put together.
    Assets,
}

impl SwitchName {
    /// Returns its name as it is written.
    pub fn word(self) -> &'static str {
        match self {
            SwitchName::Maintenance => "maintenance",
            SwitchName::Cache => "cache",
            SwitchName::Mail => "mail",
            SwitchName::Index => "index",
            SwitchName::FriendlyUrls => "friendly-urls",
            SwitchName::Assets => "assets",
        }
    }
}

/// Where a value that tells whose site it is stands.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Identity {
    /// What it tells.
    pub name: IdentityName,
    /// Where.
    pub set: SetPlace,
}

/// What tells whose site it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum IdentityName {
    /// Name of the site.
    SiteName,
    /// Address of its office.
    SiteEmail,
}

/// Where the administrator's account stands.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Admin {
    /// Table of accounts, without prefix.
    pub table: String,
    /// Whether the tables with the password, and those on the way there, have no prefix.
    #[serde(default)]
    pub bare: bool,
    /// Column with the account's number.
    pub id: String,
    /// Column with its e-mail address.
    pub email: String,
    /// Column with its password.
    pub password: String,
    /// Column with the salt, where there is one.
    #[serde(default)]
    pub salt: Option<String>,
    /// Column and value that tell the administrator's row.
    #[serde(default)]
    pub only: Option<KeyValue>,
    /// Row of another table that names the administrator's number.
    #[serde(default)]
    pub named_by: Option<NamedBy>,
    /// Tables on the way from that row to the account, where it does not tell the number itself.
    #[serde(default)]
    pub by_way_of: Vec<Crossing>,
    /// Hash schemes by version; the first that fits counts.
    pub hash: Vec<HashRule>,
    /// What else is set when the account gets a new password: it is let in, and nothing stands in the way.
    #[serde(default)]
    pub unlock: Vec<KeyValue>,
    /// What a person should know of second factors and the like.
    #[serde(default)]
    pub about: String,
    /// First version that has it so.
    #[serde(default)]
    pub from: Option<String>,
    /// First version that no longer has.
    #[serde(default)]
    pub below: Option<String>,
}

/// A row of another table that names an account.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NamedBy {
    /// Table without prefix.
    pub table: String,
    /// Column and value that tell the row.
    pub only: KeyValue,
    /// Column with the account's number, or with what the way to it begins with.
    pub id: String,
    /// Column by which the lowest row counts, if it is another one.
    #[serde(default)]
    pub lowest: Option<String>,
}

/// A table that leads from one name of an account to another.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Crossing {
    /// Table.
    pub table: String,
    /// Column that holds what is known, in small letters where `lowered` says so.
    pub from: String,
    /// Column with what is looked for.
    pub to: String,
    /// Whether the column holds it in small letters.
    #[serde(default)]
    pub lowered: bool,
}

/// Which hash scheme a version accepts.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct HashRule {
    /// Scheme.
    pub scheme: HashScheme,
    /// Whether the program hashes the password as HTML spells it: `&amp;` for `&`, and so on.
    #[serde(default)]
    pub escaped: bool,
    /// First version that accepts it.
    #[serde(default)]
    pub from: Option<String>,
    /// First version that no longer does.
    #[serde(default)]
    pub below: Option<String>,
}

/// How a password is kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum HashScheme {
    /// 32 hexadecimal digits of MD5.
    Md5,
    /// MD5 of password and salt, a colon, the salt.
    Md5Salted,
    /// MD5 of the site's first secret and the password.
    Md5Secret,
    /// bcrypt with the mark `$2y$`.
    Bcrypt,
    /// Iterated MD5 with the mark `$P$`.
    PhpassP,
    /// Iterated MD5 with the mark `$H$`.
    PhpassH,
    /// Iterated SHA-512 with the mark `$S$`.
    Sha512Iterated,
    /// PBKDF2 with SHA-256: the word, the rounds, the salt and base64, with dollars between.
    Pbkdf2Sha256,
    /// Base64 of SHA-1 over a salt of its own column and the password in UTF-16.
    Sha1Utf16,
}

/// A column with a value.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct KeyValue {
    /// Column.
    pub column: String,
    /// Value.
    pub value: String,
}
