//! Why a text names no place, and the scheme of an address.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

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
    pub(super) fn for_reader<E: serde::de::Error>(self) -> E {
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
