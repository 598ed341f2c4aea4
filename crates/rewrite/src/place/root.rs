//! The folder of a site.

use super::error::PlaceError;
use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Serialize};
use std::borrow::Cow;

/// An absolute folder in a file system, Unix or Windows.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Root {
    drive: Option<char>,
    segments: Vec<String>,
}

impl Root {
    /// Reads `/home/a/public_html` or `C:\w\htdocs` (also with `/`). A trailing separator is dropped.
    pub fn parse(text: &str) -> Result<Self, PlaceError> {
        let relative = || PlaceError::RelativeRoot(text.to_string());
        let bytes = text.as_bytes();
        let (drive, rest) = match bytes {
            [b'/', ..] => (None, text),
            [d, b':', b'/' | b'\\', ..] if d.is_ascii_alphabetic() => (Some(*d as char), &text[2..]),
            _ => return Err(relative()),
        };
        let separators: &[char] = if drive.is_some() { &['/', '\\'] } else { &['/'] };
        let segments: Vec<String> =
            rest.split(separators).filter(|s| !s.is_empty() && *s != ".").map(str::to_string).collect();
        if segments.iter().any(|s| s == "..") {
            return Err(relative());
        }
        Ok(Root { drive, segments })
    }

    /// Returns the drive letter of a Windows root.
    pub fn drive(&self) -> Option<char> {
        self.drive
    }

    /// Returns the folder names from the top down; none for `/` itself.
    pub fn segments(&self) -> &[String] {
        &self.segments
    }

    /// Spells the root with the given separator.
    pub fn spelled_with(&self, separator: &str) -> String {
        let mut out = String::new();
        if let Some(d) = self.drive {
            out.push(d);
            out.push(':');
        }
        for s in &self.segments {
            out.push_str(separator);
            out.push_str(s);
        }
        if self.segments.is_empty() {
            out.push_str(separator);
        }
        out
    }
}

impl std::fmt::Display for Root {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.spelled_with(if self.drive.is_some() { "\\" } else { "/" }))
    }
}

impl JsonSchema for Root {
    fn schema_name() -> Cow<'static, str> {
        "Root".into()
    }

    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        json_schema!({ "type": "string", "description": "Folder in which a site lies, as an absolute path." })
    }
}

impl Serialize for Root {
    fn serialize<S: serde::Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        s.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Root {
    fn deserialize<D: serde::Deserializer<'de>>(d: D) -> Result<Self, D::Error> {
        Root::parse(&String::deserialize(d)?).map_err(PlaceError::for_reader)
    }
}
