//! The options of a visit.

use super::unset;
use super::values::{At, FullPath, Seconds};
use crate::place::{Address, Root};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

fn pages() -> usize {
    200
}

fn connections() -> usize {
    4
}

fn slow() -> Seconds {
    Seconds(3.0)
}

fn patience() -> Seconds {
    Seconds(30.0)
}

/// Looks at a running site as a visitor sees it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct VisitJob {
    /// Base address of the site
    #[schemars(extend("x-index" = 1, "x-value" = "ADDRESS"))]
    pub address: Address,
    /// Ask the site's name at this address in the network, and nowhere else: before name servers know it
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "IP[:PORT]", "x-group" = "How it is reached"))]
    pub at: Option<At>,
    /// Go on where the certificate is not valid; it is told all the same
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-group" = "How it is reached"))]
    pub any_certificate: bool,
    /// Another host name that belongs to the site, such as one for its pictures; may be given several times
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "NAME", "x-group" = "How it is reached"))]
    pub with_host: Vec<String>,
    /// Pages to look at (default: 200)
    #[serde(default = "pages")]
    #[schemars(extend("x-value" = "N", "x-group" = "How much is asked"))]
    pub pages: usize,
    /// Connections over which pages are asked for (default: 4)
    #[serde(default = "connections")]
    #[schemars(extend("x-value" = "N", "x-group" = "How much is asked"))]
    pub connections: usize,
    /// Rest on each connection behind every answer
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "SECONDS", "x-group" = "How much is asked"))]
    pub delay: Option<Seconds>,
    /// A page that takes longer is told as slow (default: 3)
    #[serde(default = "slow")]
    #[schemars(extend("x-value" = "SECONDS", "x-group" = "How much is asked"))]
    pub slow: Seconds,
    /// Longest time that one answer may take (default: 30)
    #[serde(default = "patience")]
    #[schemars(extend("x-value" = "SECONDS", "x-group" = "How much is asked"))]
    pub patience: Seconds,
    /// Name that the web server itself asks for before it shows anything (HTTP authentication)
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "NAME", "x-group" = "How it is reached", "x-needs" = "server-password-file"))]
    pub server_name: Option<String>,
    /// File that holds the password for that name
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "FILE", "x-group" = "How it is reached", "x-needs" = "server-name"))]
    pub server_password_file: Option<FullPath>,
    /// It is a development copy: search engines should be kept out, and no mail should leave
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-group" = "What it is"))]
    pub copy: bool,
    /// System of the site, as `zporter systems` names it (default: found out)
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "ID", "x-group" = "What it is"))]
    pub system: Option<String>,
    /// Address that the site had before, and that no page may name; may be given several times
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "URL", "x-group" = "What it is"))]
    pub old_address: Vec<Address>,
    /// Folder that the site had before; may be given several times
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "PATH", "x-group" = "What it is"))]
    pub old_root: Vec<Root>,
    /// Compare with this site, address for address
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "URL", "x-group" = "The old site beside it"))]
    pub beside: Option<Address>,
    /// Ask the old site's name at this address in the network
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "IP[:PORT]", "x-group" = "The old site beside it", "x-needs" = "beside"))]
    pub beside_at: Option<At>,
    /// Name of an administrator: log in, and look at a few pages behind
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "NAME", "x-group" = "Behind the log-in", "x-needs" = "log-in-password-file"))]
    pub log_in: Option<String>,
    /// File that holds the administrator's password
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "FILE", "x-group" = "Behind the log-in", "x-needs" = "log-in"))]
    pub log_in_password_file: Option<FullPath>,
    /// Name or e-mail address of a member or of a shop's customer: the same
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "NAME", "x-group" = "Behind the log-in", "x-needs" = "member-password-file"))]
    pub member: Option<String>,
    /// File that holds the member's password
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "FILE", "x-group" = "Behind the log-in", "x-needs" = "member"))]
    pub member_password_file: Option<FullPath>,
    /// Folder of the back office, where the site gave it a name of its own
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "NAME", "x-group" = "Behind the log-in", "x-needs" = "log-in"))]
    pub back_office: Option<String>,
    /// Ask name servers and resolvers who already answers with the new host
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-group" = "Name servers"))]
    pub dns: bool,
    /// A resolver to ask (default: this machine's and some public ones); may be given several times
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "IP[:PORT]", "x-group" = "Name servers", "x-needs" = "dns"))]
    pub resolver: Vec<At>,
    /// One of the name's own servers (default: found by the resolvers); may be given several times
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "IP[:PORT]", "x-group" = "Name servers", "x-needs" = "dns"))]
    pub name_server: Vec<At>,
    /// Take pictures with Chromium, old and new side by side, and put them into this folder
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "DIR", "x-group" = "Pictures"))]
    pub pictures: Option<FullPath>,
    /// Page to take a picture of, besides the home page, as a path below the address; may be given several times
    #[serde(default, skip_serializing_if = "unset")]
    #[schemars(extend("x-value" = "PATH", "x-group" = "Pictures", "x-needs" = "pictures"))]
    pub picture_of: Vec<String>,
}

impl VisitJob {
    /// A visit of an address, and nothing else said.
    pub fn of(address: Address) -> Self {
        VisitJob {
            address,
            at: None,
            any_certificate: false,
            with_host: Vec::new(),
            pages: pages(),
            connections: connections(),
            delay: None,
            slow: slow(),
            patience: patience(),
            server_name: None,
            server_password_file: None,
            copy: false,
            system: None,
            old_address: Vec::new(),
            old_root: Vec::new(),
            beside: None,
            beside_at: None,
            log_in: None,
            log_in_password_file: None,
            member: None,
            member_password_file: None,
            back_office: None,
            dns: false,
            resolver: Vec::new(),
            name_server: Vec::new(),
            pictures: None,
            picture_of: Vec::new(),
        }
    }
}
