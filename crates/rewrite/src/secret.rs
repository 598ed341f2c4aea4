//! A value that must never reach a screen, a log or a JSON document: passwords.
//!
//! The type has no `Display`, and its `Debug` prints stars, so that a slip shows `***`. The few places that
//! really need the text (a server log-in, a config literal) call [`Secret::expose`], which is easy to search for.

/// A password or a comparable secret.
#[derive(Clone, PartialEq, Eq, Default)]
pub struct Secret(String);

impl Secret {
    /// Wraps a secret.
    pub fn new(text: impl Into<String>) -> Self {
        Secret(text.into())
    }

    /// Returns the secret itself. Never pass the result to anything that prints.
    pub fn expose(&self) -> &str {
        &self.0
    }

    /// Says whether there is anything in it.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Returns the only thing about a secret that may be shown: `set` or `empty`.
    pub fn state(&self) -> &'static str {
        if self.0.is_empty() { "empty" } else { "set" }
    }
}

impl std::fmt::Debug for Secret {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("***")
    }
}
