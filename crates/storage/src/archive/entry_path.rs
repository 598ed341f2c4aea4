//! The only maker of checked entry paths: relative, without `..`, never outside of the target.

use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

/// A path inside of an archive that is safe to join to a folder.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct EntryPath(Vec<u8>);

/// Why a name from an archive is no safe path.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum PathProblem {
    /// It begins at the file system's root.
    #[error("absolute path")]
    Absolute,
    /// It climbs out with `..`.
    #[error("path with `..`")]
    Climbs,
    /// It is empty or holds a NUL byte.
    #[error("no usable name")]
    Unusable,
}

impl EntryPath {
    /// Checks a name. `./` at the beginning, doubled and trailing slashes are dropped. The archive's own root gives nothing.
    pub fn check(name: &[u8]) -> Result<Option<EntryPath>, PathProblem> {
        if name.first() == Some(&b'/') {
            return Err(PathProblem::Absolute);
        }
        if name.is_empty() || name.contains(&0) {
            return Err(PathProblem::Unusable);
        }
        let parts: Vec<&[u8]> = name.split(|b| *b == b'/').filter(|p| !p.is_empty() && *p != b".").collect();
        if parts.contains(&&b".."[..]) {
            return Err(PathProblem::Climbs);
        }
        Ok((!parts.is_empty()).then(|| EntryPath(parts.join(&b'/'))))
    }

    /// Makes a path from trusted text, such as `files/x`.
    pub fn trusted(text: &str) -> EntryPath {
        EntryPath(text.as_bytes().to_vec())
    }

    /// Appends a relative path.
    pub fn join(&self, tail: &[u8]) -> EntryPath {
        EntryPath([&self.0[..], b"/", tail].concat())
    }

    /// Returns the bytes.
    pub fn bytes(&self) -> &[u8] {
        &self.0
    }

    /// Returns the part below a folder, if it lies there.
    pub fn below(&self, folder: &str) -> Option<EntryPath> {
        let rest = self.0.strip_prefix(folder.as_bytes())?.strip_prefix(b"/")?;
        (!rest.is_empty()).then(|| EntryPath(rest.to_vec()))
    }

    /// Returns the path for the file system.
    pub fn as_path(&self) -> &Path {
        Path::new(OsStr::from_bytes(&self.0))
    }

    /// Returns the path as text in which every byte can be told: what is not UTF-8, control characters and `%` are written `%XX`.
    pub fn shown(&self) -> String {
        if let Ok(text) = std::str::from_utf8(&self.0)
            && !self.0.iter().any(|b| *b == b'%' || b.is_ascii_control())
            && text.is_ascii()
        {
            return text.to_string();
        }
        let mut out = String::new();
        for chunk in self.0.utf8_chunks() {
            for c in chunk.valid().chars() {
                if c == '%' || c.is_control() {
                    let mut utf8 = [0; 4];
                    c.encode_utf8(&mut utf8).bytes().for_each(|b| out.push_str(&format!("%{b:02X}")));
                } else {
                    out.push(c);
                }
            }
            chunk.invalid().iter().for_each(|b| out.push_str(&format!("%{b:02X}")));
        }
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_that_leave_the_target_are_refused() {
        for (name, problem) in [
            ("/etc/passwd", PathProblem::Absolute),
            ("a/../../b", PathProblem::Climbs),
            ("..", PathProblem::Climbs),
            ("", PathProblem::Unusable),
            ("a\0b", PathProblem::Unusable),
        ] {
            assert_eq!(EntryPath::check(name.as_bytes()), Err(problem), "{name:?}");
        }
        assert_eq!(EntryPath::check(b"./"), Ok(None));
        assert_eq!(EntryPath::check(b".//a/./b..c/").unwrap().unwrap().bytes(), b"a/b..c");
        assert_eq!(EntryPath(b"100%/\xff\n\xc3\xa9".to_vec()).shown(), "100%25/%FF%0A\u{e9}");
    }
}
