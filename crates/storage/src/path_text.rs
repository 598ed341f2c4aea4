//! Paths as text, for records, job files and JSON: a name may hold bytes that are not UTF-8, and must come back as it was.
//!
//! Such a byte is written as a character of the last private-use plane (U+10FF00 and the byte's number), which no real name uses.
//! `#[serde(with = "path_text")]` does this for a path, an optional one, and a list of them.

use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::borrow::Cow;
use std::ffi::{OsStr, OsString};
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::{Path, PathBuf};

const FIRST: u32 = 0x10_FF00;

/// A path as text; that of nearly every path is the path itself.
pub fn to_text(path: &Path) -> Cow<'_, str> {
    words_to_text(path.as_os_str())
}

/// The same for any argument.
pub fn words_to_text(words: &OsStr) -> Cow<'_, str> {
    if let Some(text) = words.to_str() {
        return Cow::Borrowed(text);
    }
    let mut out = String::new();
    for chunk in words.as_bytes().utf8_chunks() {
        out.push_str(chunk.valid());
        out.extend(chunk.invalid().iter().filter_map(|b| char::from_u32(FIRST + u32::from(*b))));
    }
    Cow::Owned(out)
}

/// The path that was made into a text.
pub fn to_path(text: &str) -> PathBuf {
    let mut bytes = Vec::with_capacity(text.len());
    for c in text.chars() {
        match u32::from(c).checked_sub(FIRST).map(u8::try_from) {
            Some(Ok(byte)) => bytes.push(byte),
            _ => bytes.extend_from_slice(c.encode_utf8(&mut [0; 4]).as_bytes()),
        }
    }
    OsString::from_vec(bytes).into()
}

/// A path, or several, in the place of one.
pub trait Paths: Sized {
    /// What stands in the document.
    type Text: Serialize + for<'d> Deserialize<'d>;
    /// As text.
    fn text(&self) -> Self::Text;
    /// From text.
    fn read(text: Self::Text) -> Self;
}

impl Paths for PathBuf {
    type Text = String;
    fn text(&self) -> String {
        to_text(self).into_owned()
    }
    fn read(text: String) -> Self {
        to_path(&text)
    }
}

impl<P: Paths> Paths for Option<P> {
    type Text = Option<P::Text>;
    fn text(&self) -> Self::Text {
        self.as_ref().map(P::text)
    }
    fn read(text: Self::Text) -> Self {
        text.map(P::read)
    }
}

impl<P: Paths> Paths for Vec<P> {
    type Text = Vec<P::Text>;
    fn text(&self) -> Self::Text {
        self.iter().map(P::text).collect()
    }
    fn read(text: Self::Text) -> Self {
        text.into_iter().map(P::read).collect()
    }
}

impl<A: Paths, B: Paths> Paths for (A, B, (u64, u64)) {
    type Text = (A::Text, B::Text, (u64, u64));
    fn text(&self) -> Self::Text {
        (self.0.text(), self.1.text(), self.2)
    }
    fn read((a, b, numbers): Self::Text) -> Self {
        (A::read(a), B::read(b), numbers)
    }
}

/// Writes paths.
///
/// # Errors
/// The serializer's own.
pub fn serialize<P: Paths, S: Serializer>(paths: &P, serializer: S) -> Result<S::Ok, S::Error> {
    paths.text().serialize(serializer)
}

/// Reads paths.
///
/// # Errors
/// The deserializer's own.
pub fn deserialize<'d, P: Paths, D: Deserializer<'d>>(deserializer: D) -> Result<P, D::Error> {
    P::Text::deserialize(deserializer).map(P::read)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn every_name_comes_back_and_two_names_have_two_texts(bytes in proptest::collection::vec(any::<u8>(), 0..40), other in proptest::collection::vec(any::<u8>(), 0..4)) {
            let (path, other) = (PathBuf::from(OsString::from_vec(bytes)), PathBuf::from(OsString::from_vec(other)));
            let text = to_text(&path).into_owned();
            let back = to_path(&text);
            prop_assert_eq!(back.as_os_str(), path.as_os_str());
            prop_assert_eq!(text == to_text(&other), path.as_os_str() == other.as_os_str());
        }
    }
}
