//! Small simulated sites in the Fernhollow scenario: config files, folders, pages and a dump, all made up.
//!
//! A stand-in has the forms, table and column names of the system it stands for, and a page of its own (`php/`) that refuses
//! wrong credentials, redirects to a stored host and prints what its rows hold. The demo and the tests use them.

mod joomla;
mod prestashop;
pub mod sql;

use std::fs;
use std::io;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;

/// A line of a system.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Variant {
    /// Joomla 1.5: `var` properties, ini parameters.
    Joomla15,
    /// Joomla 2.5.
    Joomla25,
    /// Joomla 3.10: all values quoted.
    Joomla310,
    /// Joomla 5: typed values.
    Joomla5,
    /// PrestaShop 1.4: base path in the config file.
    PrestaShop14,
    /// PrestaShop 1.6: addresses in rows.
    PrestaShop16,
    /// thirty bees 1.4.
    ThirtyBees,
}

/// All variants.
pub const VARIANTS: [Variant; 7] = [
    Variant::Joomla15,
    Variant::Joomla25,
    Variant::Joomla310,
    Variant::Joomla5,
    Variant::PrestaShop14,
    Variant::PrestaShop16,
    Variant::ThirtyBees,
];

/// A stand-in and the old place it speaks of.
#[derive(Debug, Clone)]
pub struct Site {
    /// Line.
    pub variant: Variant,
    /// Old base address, without trailing slash.
    pub address: String,
    /// Old document root.
    pub root: String,
    /// Old database host value, user, password, name.
    pub database: [String; 4],
    /// Table prefix.
    pub prefix: String,
}

/// A file of a stand-in.
pub(crate) struct SiteFile {
    pub path: &'static str,
    pub content: Vec<u8>,
    pub mode: u32,
}

pub(crate) fn file(path: &'static str, content: impl Into<Vec<u8>>) -> SiteFile {
    SiteFile { path, content: content.into(), mode: 0o644 }
}

impl Site {
    /// Returns the stand-in of a line at its usual old place.
    pub fn of(variant: Variant) -> Site {
        let joomla =
            matches!(variant, Variant::Joomla15 | Variant::Joomla25 | Variant::Joomla310 | Variant::Joomla5);
        let text = |parts: [&str; 4]| parts.map(str::to_string);
        let prefix = match variant {
            Variant::Joomla15 => "jos_",
            Variant::ThirtyBees => "tb_",
            _ if joomla => "q7w2e_",
            _ => "ps_",
        };
        Site {
            variant,
            address: if joomla {
                "http://www.fernhollow.example".into()
            } else {
                "https://shop.fernhollow.example/astro".into()
            },
            root: if joomla {
                "/home/fernhollow/public_html".into()
            } else {
                "/home/fernhollow/public_html/astro".into()
            },
            database: text([
                "localhost",
                "fernhollow_web",
                "fake'Old\\pass 31",
                if joomla { "fernhollow_cms" } else { "fernhollow_shop" },
            ]),
            prefix: prefix.into(),
        }
    }

    fn is_joomla(&self) -> bool {
        matches!(self.variant, Variant::Joomla15 | Variant::Joomla25 | Variant::Joomla310 | Variant::Joomla5)
    }

    /// Returns the version that the stand-in claims to be.
    pub fn version(&self) -> &'static str {
        match self.variant {
            Variant::Joomla15 => "1.5.26",
            Variant::Joomla25 => "2.5.28",
            Variant::Joomla310 => "3.10.12",
            Variant::Joomla5 => "5.1.2",
            Variant::PrestaShop14 => "1.4.11.1",
            Variant::PrestaShop16 => "1.6.1.24",
            Variant::ThirtyBees => "1.4.0",
        }
    }

    /// Returns the dump of the site's database.
    pub fn dump(&self) -> String {
        if self.is_joomla() { joomla::dump(self) } else { prestashop::dump(self) }
    }

    /// Writes the site's files into a folder.
    pub fn write(&self, folder: &Path) -> io::Result<()> {
        let files = if self.is_joomla() { joomla::files(self) } else { prestashop::files(self) };
        for file in files {
            let path = folder.join(file.path);
            if let Some(parent) = path.parent() {
                fs::create_dir_all(parent)?;
            }
            if file.path.ends_with('/') {
                fs::create_dir_all(&path)?;
                continue;
            }
            fs::write(&path, &file.content)?;
            fs::set_permissions(&path, fs::Permissions::from_mode(file.mode))?;
        }
        Ok(())
    }

    /// Returns host and base path of the old address.
    pub(crate) fn host_and_base(&self) -> (&str, &str) {
        let rest = self.address.split_once("://").map_or(self.address.as_str(), |(_, r)| r);
        match rest.find('/') {
            Some(at) => (&rest[..at], &rest[at..]),
            None => (rest, ""),
        }
    }
}

/// The smallest valid PNG: one transparent pixel.
pub(crate) const PIXEL: &[u8] = &[
    0x89, b'P', b'N', b'G', 0x0D, 0x0A, 0x1A, 0x0A, 0, 0, 0, 13, b'I', b'H', b'D', b'R', 0, 0, 0, 1, 0, 0, 0,
    1, 8, 6, 0, 0, 0, 0x1F, 0x15, 0xC4, 0x89, 0, 0, 0, 13, b'I', b'D', b'A', b'T', 0x78, 0x9C, 0x62, 0, 1, 0,
    0, 5, 0, 1, 0x0D, 0x0A, 0x2D, 0xB4, 0, 0, 0, 0, b'I', b'E', b'N', b'D', 0xAE, 0x42, 0x60, 0x82,
];

/// Spells a value as PHP would in a single-quoted string.
pub(crate) fn php(value: &str) -> String {
    format!("'{}'", value.replace('\\', "\\\\").replace('\'', "\\'"))
}
