//! Web servers, name servers and a browser, each asked over its own protocol, and pages taken apart. Nothing here knows what a site is, and
//! nothing decides: who asks gets facts.
//!
//! [`client`] asks a web server, [`guard`] says where a name may be asked, [`certificate`] looks at how the server proves who it is, [`page`],
//! [`style`] and [`site_map`] tell what an answer holds, [`letters`] whether its text is whole, [`names`] asks name servers, [`browser`] takes
//! pictures, and [`picture`] compares them.

mod attributes;
pub mod browser;
pub mod certificate;
pub mod client;
pub mod guard;
pub mod letters;
pub mod names;
pub mod page;
pub mod picture;
pub mod site_map;
pub mod style;

pub use url;
pub use url::Url;
