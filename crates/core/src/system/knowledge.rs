//! The part of a definition that tells how a running site is used and known: log-ins, what its pages say when something is wrong, which tables
//! grow while it is live, where people's data stand, and what a copy beside it must not keep. It is read and checked here.

use super::copy::{KeyValue, SetPlace};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// Which part of a site somebody logs in to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Area {
    /// Members, customers.
    Front,
    /// Administrators.
    Back,
}

/// A sign in the answer of a web server. All that is named has to be there.
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Sign {
    /// Status.
    pub status: Option<u16>,
    /// Text in the page.
    pub text: Option<String>,
    /// Text in a header, as `Name: value` or a part of that.
    pub header: Option<String>,
    /// Beginning of the name of a cookie that is set.
    pub cookie: Option<String>,
    /// Text in the address that it redirects to.
    pub location: Option<String>,
}

impl Sign {
    /// Says whether it tells nothing at all.
    pub fn is_empty(&self) -> bool {
        *self == Sign::default()
    }
}

/// How somebody logs in.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct LogIn {
    /// Where to.
    pub area: Area,
    /// Address of the form, below the site's; `*` stands for a folder that each site names itself.
    pub path: String,
    /// Field of the name. A beginning `*` stands for what the program puts before it.
    pub user: String,
    /// Field of the password; the same.
    pub password: String,
    /// Further fields and their values.
    #[serde(default)]
    pub fields: BTreeMap<String, String>,
    /// Whether it does not work without the hidden fields of the form; they are always sent back as they came.
    #[serde(default)]
    pub hidden: bool,
    /// Seconds that have to pass between form and answer.
    #[serde(default)]
    pub wait: u32,
    /// How success is told.
    pub success: Sign,
    /// How failure is told.
    pub failure: Sign,
    /// Where a script of the page sends name and password, in place of a form.
    #[serde(default)]
    pub script: Option<ByScript>,
    /// First version that has it so.
    #[serde(default)]
    pub from: Option<String>,
    /// First version that no longer has.
    #[serde(default)]
    pub below: Option<String>,
}

/// A log-in that a script of the page does: name and password go as one JSON object, and the answer has no links.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ByScript {
    /// Text by which the page is known, since it has no form.
    pub shows: String,
    /// Where the object goes, from the page's own address.
    pub to: String,
    /// Addresses behind the log-in, from the page's own.
    pub behind: Vec<String>,
}

/// What kind of thing a symptom tells of.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum SymptomKind {
    /// The database cannot be reached, or refuses a question.
    Database,
    /// The program failed.
    #[default]
    Program,
    /// The site is closed for visitors.
    Maintenance,
    /// An installer answers in place of the site.
    Installer,
    /// A page of the web server or of the host answers in place of the site.
    Placeholder,
}

/// What an answer says when something is wrong.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Symptom {
    /// What it tells of.
    #[serde(default)]
    pub kind: SymptomKind,
    /// By what it is told.
    pub sign: Sign,
    /// Why.
    pub cause: String,
    /// What helps.
    pub cure: String,
}

/// Which PHP a line of the system runs on.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PhpLine {
    /// First version of the system for which it holds.
    #[serde(default)]
    pub from: Option<String>,
    /// First version for which it no longer does.
    #[serde(default)]
    pub below: Option<String>,
    /// Oldest PHP.
    pub least: String,
    /// First PHP for which it was not made.
    #[serde(default)]
    pub under: Option<String>,
    /// Extensions of PHP without which it does not work.
    #[serde(default)]
    pub extensions: Vec<String>,
}

/// A folder or file that a row names and without which no page comes.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Needed {
    /// What it is: `the theme`.
    pub about: String,
    /// Table without prefix.
    pub table: String,
    /// Column.
    pub column: String,
    /// Which row.
    #[serde(default)]
    pub only: Vec<KeyValue>,
    /// Path under the site; `{}` stands for the value.
    pub path: String,
    /// First version that has it so.
    #[serde(default)]
    pub from: Option<String>,
    /// First version that no longer has.
    #[serde(default)]
    pub below: Option<String>,
}

/// What is left to a person behind a move.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Afterwards {
    /// What it is about, in one or two words.
    pub about: String,
    /// What to do.
    pub what: String,
}

/// Tables that grow while a site is live: orders, members, posts.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Growing {
    /// Table without prefix; `*` stands for anything.
    pub table: String,
    /// Column that counts up.
    #[serde(default)]
    pub id: Option<String>,
    /// Column with the time of the last change.
    #[serde(default)]
    pub time: Option<String>,
}

/// A column with data of people.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Personal {
    /// Table without prefix.
    pub table: String,
    /// Column.
    pub column: String,
    /// What kind of data.
    pub kind: PersonalKind,
}

/// What is told of a person.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum PersonalKind {
    /// Name.
    Name,
    /// E-mail address.
    Email,
    /// Street, town, postcode.
    Address,
    /// Telephone number.
    Phone,
    /// Date of birth.
    Birthday,
    /// Password, hashed or not.
    Password,
    /// Address in the network.
    Ip,
    /// What they wrote.
    Text,
}

/// What a copy beside the live site must not keep, and what stands there in its place.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct CopyOnly {
    /// What it is, and what it would do.
    pub about: String,
    /// Where.
    pub set: SetPlace,
    /// What stands there in a copy.
    pub value: String,
}
