//! The shape of a definition file: what is particular to one content system, as data.
//!
//! `docs/definitions.md` explains every key to people. Code knows forms, never a system's name.

use crate::place::AddressForm;
use serde::{Deserialize, Serialize};

/// One content system.
#[derive(Debug, Clone, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub struct Definition {
    /// Identifier, the file's name without `.toml`.
    pub id: String,
    /// Name for people.
    pub name: String,
    /// One line on what is covered.
    #[serde(default)]
    pub about: String,
    /// Files that tell the system: every group of one list must be there.
    pub recognise: Vec<Marker>,
    /// Where the version stands; the first that can be read counts.
    #[serde(default)]
    pub version: Vec<Version>,
    /// Config files.
    #[serde(default)]
    pub config: Vec<Config>,
    /// Where rows tell the base address.
    #[serde(default)]
    pub address: Vec<AddressRows>,
    /// Cells that hold an address in a declared form.
    #[serde(default)]
    pub cell: Vec<CellRule>,
    /// Tables whose rows need not be carried.
    #[serde(default)]
    pub table: Vec<TableRule>,
    /// Folders whose content is made anew by the system.
    #[serde(default)]
    pub transient: Vec<TransientFolder>,
    /// Files that the system makes anew and that are wrong at another place.
    #[serde(default)]
    pub generated: Vec<Generated>,
    /// Text files with absolute addresses or paths.
    #[serde(default)]
    pub text: Vec<TextFile>,
    /// Things that should not lie in a document root.
    #[serde(default)]
    pub leftover: Vec<Leftover>,
}

/// A file that must be there for a system to be recognised.
#[derive(Debug, Clone, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub struct Marker {
    /// Path under the site.
    pub path: String,
    /// Text that must be in it; without it the file's presence is enough.
    #[serde(default)]
    pub contains: Option<String>,
}

/// Where a version can be read without executing anything.
#[derive(Debug, Clone, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub struct Version {
    /// Path of a PHP file under the site.
    pub path: String,
    /// Constants, properties or defines whose values make up the version.
    pub keys: Vec<String>,
    /// What stands between the values.
    #[serde(default = "dot")]
    pub join: String,
    /// Name of the product, where a version found here means one of the family.
    #[serde(default)]
    pub product: Option<String>,
}

fn dot() -> String {
    ".".into()
}

/// A config file.
#[derive(Debug, Clone, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub struct Config {
    /// Path under the site.
    pub path: String,
    /// How it is written.
    pub form: ConfigForm,
    /// Keys with a role.
    #[serde(default)]
    pub key: Vec<Key>,
}

/// How a config file is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum ConfigForm {
    /// PHP: properties of a class.
    PhpProperties,
    /// PHP: `define('NAME', value)` and `const NAME = value`.
    PhpDefines,
    /// The web server's per-folder file.
    Htaccess,
}

/// A key of a config file and what it means.
#[derive(Debug, Clone, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub struct Key {
    /// Name of the property or constant.
    pub name: String,
    /// Meaning.
    pub role: Role,
    /// For [`Role::Address`] and [`Role::BasePath`]: its form.
    #[serde(default)]
    pub form: Option<AddressForm>,
    /// For [`Role::Path`]: where below the root it usually lies, to learn the root from it.
    #[serde(default)]
    pub below_root: Vec<String>,
    /// What it is for, where the role does not say.
    #[serde(default)]
    pub about: String,
}

/// Meaning of a config key.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Role {
    /// Kind of database or driver; shown, never changed.
    Engine,
    /// Database host with optional port or socket in one value.
    DatabaseHost,
    /// Name of the database.
    DatabaseName,
    /// Database user.
    DatabaseUser,
    /// Database password.
    DatabasePassword,
    /// Table prefix.
    TablePrefix,
    /// Base address in the given form; left empty where it is empty.
    Address,
    /// Base path in the given form.
    BasePath,
    /// Domain of cookies, perhaps with a dot before it; emptied when the host changes.
    CookieDomain,
    /// Path of cookies; follows the base path.
    CookiePath,
    /// Absolute path of a folder (log, temp, cache).
    Path,
    /// Address of the site's office; its domain is evidence for the site's host, never changed.
    Email,
    /// Secret that travels with the site.
    Secret,
    /// Name of the site.
    SiteName,
}

/// Rows that tell the base address of the site.
#[derive(Debug, Clone, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub struct AddressRows {
    /// Table without prefix.
    pub table: String,
    /// Column with the host (and port).
    pub host: String,
    /// Column with the base path.
    #[serde(default)]
    pub base: Option<String>,
    /// Further columns with a host of the same site.
    #[serde(default)]
    pub also: Vec<String>,
    /// Column and value that tell the row, such as `main = 1` or `name = PS_SHOP_DOMAIN`.
    #[serde(default)]
    pub only: Option<KeyValue>,
    /// A row elsewhere that says whether the site uses TLS.
    #[serde(default)]
    pub tls: Option<Flag>,
}

/// A column with a value.
#[derive(Debug, Clone, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub struct KeyValue {
    /// Column.
    pub column: String,
    /// Value.
    pub value: String,
}

/// A row that switches something on.
#[derive(Debug, Clone, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub struct Flag {
    /// Table without prefix.
    pub table: String,
    /// Column and value that tell the row.
    pub only: KeyValue,
    /// Column to look at.
    pub column: String,
    /// Value that means on.
    pub on: String,
}

/// Cells that hold an address in a declared form.
#[derive(Debug, Clone, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub struct CellRule {
    /// Table without prefix.
    pub table: String,
    /// Column.
    pub column: String,
    /// Form.
    pub form: AddressForm,
    /// Column that tells the rows.
    #[serde(default)]
    pub key: Option<String>,
    /// Values of that column.
    #[serde(default)]
    pub values: Vec<String>,
    /// For a base path: the column that must hold the old host.
    #[serde(default)]
    pub beside_host: Option<String>,
}

/// A table whose rows need not be carried.
#[derive(Debug, Clone, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub struct TableRule {
    /// Table without prefix; `*` stands for anything.
    pub name: String,
    /// Whether leaving the rows out is safe without asking.
    pub safe: bool,
    /// What is in it, or what is lost.
    pub about: String,
}

/// A folder whose content is made anew.
#[derive(Debug, Clone, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub struct TransientFolder {
    /// Path under the site; `*` stands for one folder name.
    pub path: String,
    /// Files that stay.
    #[serde(default)]
    pub keep: Vec<String>,
    /// Folders below it that must be there.
    #[serde(default)]
    pub folders: Vec<String>,
}

/// A generated file.
#[derive(Debug, Clone, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub struct Generated {
    /// Path under the site; `*` stands for one name.
    pub path: String,
    /// Why it must go.
    pub about: String,
}

/// A text file whose addresses and paths follow the site.
#[derive(Debug, Clone, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub struct TextFile {
    /// Path under the site; `*` stands for one name.
    pub path: String,
}

/// Something that should not lie in a document root.
#[derive(Debug, Clone, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub struct Leftover {
    /// Path under the site; `*` stands for one name.
    pub path: String,
    /// What it is and what it may do.
    pub about: String,
}
