//! Small simulated sites in the Fernhollow scenario: config files, folders, pages and a dump, all made up.
//!
//! A stand-in has the forms, table and column names of the system it stands for, and a page of its own (`php/`) that refuses
//! wrong credentials, redirects to a stored host and prints what its rows hold. The demo and the tests use them.

mod dnn;
mod drupal;
pub mod host;
mod joomla;
mod opencart;
mod phpbb;
mod prestashop;
mod season;
pub mod sql;
mod wordpress;

use std::borrow::Cow;
use std::fs;
use std::io;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;

/// A line of a system.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Variant {
    /// Joomla 1.5: `var` properties, ini parameters, a VirtueMart 1.1 shop.
    Joomla15,
    /// Joomla 2.5.
    Joomla25,
    /// Joomla 3.10: all values quoted.
    Joomla310,
    /// Joomla 5: typed values, a VirtueMart 4 shop.
    Joomla5,
    /// PrestaShop 1.4: base path in the config file.
    PrestaShop14,
    /// PrestaShop 1.6: addresses in rows.
    PrestaShop16,
    /// thirty bees 1.4.
    ThirtyBees,
    /// PrestaShop 1.7: a returned array.
    PrestaShop17,
    /// PrestaShop 9.
    PrestaShop9,
    /// OpenCart 1.5.
    OpenCart15,
    /// OpenCart 2.3.
    OpenCart23,
    /// OpenCart 3.0: storage beside the root.
    OpenCart3,
    /// OpenCart 4: paths put together from constants.
    OpenCart4,
    /// phpBB 3.0.
    PhpBb30,
    /// phpBB 3.3.
    PhpBb33,
    /// Drupal 6: the database in a URL.
    Drupal6,
    /// Drupal 7: an array of databases.
    Drupal7,
    /// Drupal 10.
    Drupal10,
    /// WordPress, alone.
    WordPress,
    /// WordPress, a network of two sites.
    WordPressNetwork,
    /// DNN 5: credentials twice, a script in UTF-8.
    Dnn5,
    /// DNN 9: a script in UTF-16.
    Dnn9,
}

/// All variants.
pub const VARIANTS: [Variant; 22] = [
    Variant::Joomla15,
    Variant::Joomla25,
    Variant::Joomla310,
    Variant::Joomla5,
    Variant::PrestaShop14,
    Variant::PrestaShop16,
    Variant::ThirtyBees,
    Variant::PrestaShop17,
    Variant::PrestaShop9,
    Variant::OpenCart15,
    Variant::OpenCart23,
    Variant::OpenCart3,
    Variant::OpenCart4,
    Variant::PhpBb30,
    Variant::PhpBb33,
    Variant::Drupal6,
    Variant::Drupal7,
    Variant::Drupal10,
    Variant::WordPress,
    Variant::WordPressNetwork,
    Variant::Dnn5,
    Variant::Dnn9,
];

/// A system, whatever the line.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Kind {
    Joomla,
    PrestaShop,
    OpenCart,
    PhpBb,
    Drupal,
    WordPress,
    Dnn,
}

impl Variant {
    fn kind(self) -> Kind {
        self.facts().0
    }

    /// What is particular to a line: system, its definition's name, version, table prefix.
    fn facts(self) -> (Kind, &'static str, &'static str, &'static str) {
        match self {
            Variant::Joomla15 => (Kind::Joomla, "joomla", "1.5.26", "jos_"),
            Variant::Joomla25 => (Kind::Joomla, "joomla", "2.5.28", "q7w2e_"),
            Variant::Joomla310 => (Kind::Joomla, "joomla", "3.10.12", "q7w2e_"),
            Variant::Joomla5 => (Kind::Joomla, "joomla", "5.1.2", "q7w2e_"),
            Variant::PrestaShop14 => (Kind::PrestaShop, "prestashop", "1.4.11.1", "ps_"),
            Variant::PrestaShop16 => (Kind::PrestaShop, "prestashop", "1.6.1.24", "ps_"),
            Variant::ThirtyBees => (Kind::PrestaShop, "prestashop", "1.4.0", "tb_"),
            Variant::PrestaShop17 => (Kind::PrestaShop, "prestashop-7", "1.7.8.11", "ps_"),
            Variant::PrestaShop9 => (Kind::PrestaShop, "prestashop-7", "9.0.1", "ps_"),
            Variant::OpenCart15 => (Kind::OpenCart, "opencart", "1.5.6.4", "oc_"),
            Variant::OpenCart23 => (Kind::OpenCart, "opencart", "2.3.0.2", "oc_"),
            Variant::OpenCart3 => (Kind::OpenCart, "opencart", "3.0.3.8", "oc_"),
            Variant::OpenCart4 => (Kind::OpenCart, "opencart", "4.0.2.3", "oc_"),
            Variant::PhpBb30 => (Kind::PhpBb, "phpbb", "3.0.14", "phpbb_"),
            Variant::PhpBb33 => (Kind::PhpBb, "phpbb", "3.3.11", "phpbb_"),
            Variant::Drupal6 => (Kind::Drupal, "drupal-6", "6.38", "fh_"),
            Variant::Drupal7 => (Kind::Drupal, "drupal-7", "7.98", "fh_"),
            Variant::Drupal10 => (Kind::Drupal, "drupal", "10.2.3", "fh_"),
            Variant::WordPress => (Kind::WordPress, "wordpress", "6.4.3", "wp_"),
            Variant::WordPressNetwork => (Kind::WordPress, "wordpress", "6.4.3", "wp_"),
            Variant::Dnn5 => (Kind::Dnn, "dnn", "5.6.2", "fh_"),
            Variant::Dnn9 => (Kind::Dnn, "dnn", "9.11.0", "fh_"),
        }
    }
}

/// A stand-in and the old place it speaks of.
#[derive(Debug, Clone)]
pub struct Site {
    /// Line.
    pub variant: Variant,
    /// Old base address, without trailing slash.
    pub address: String,
    /// Old document root.
    pub root: String,
    /// Old folder of what lies outside of it, where a line has one.
    pub storage: String,
    /// Old database host value, user, password, name.
    pub database: [String; 4],
    /// Table prefix.
    pub prefix: String,
    /// How many pages years of use have added, with a picture for every second and three orders for each.
    pub pages: usize,
}

/// A file of a stand-in.
pub(crate) struct SiteFile {
    pub path: Cow<'static, str>,
    pub content: Vec<u8>,
    pub mode: u32,
}

/// A page in a folder or file of its own that opens the site's front page by another door.
pub(crate) fn door(area: &str) -> String {
    let up = if area.ends_with(".php") || area == "ucp" { "" } else { "/.." };
    format!("<?php\n$door_area = '{area}';\nrequire __DIR__ . '{up}/index.php';\n")
}

pub(crate) fn file(path: impl Into<Cow<'static, str>>, content: impl Into<Vec<u8>>) -> SiteFile {
    SiteFile { path: path.into(), content: content.into(), mode: 0o644 }
}

impl Site {
    /// Returns the stand-in of a line at its usual old place.
    pub fn of(variant: Variant) -> Site {
        let (kind, _, _, prefix) = variant.facts();
        let (address, folder, database) = match kind {
            Kind::Joomla => ("http://www.fernhollow.example", "", "fernhollow_cms"),
            Kind::PrestaShop => ("https://shop.fernhollow.example/astro", "/astro", "fernhollow_shop"),
            Kind::OpenCart => {
                ("https://souvenirs.fernhollow.example/shop", "/souvenirs", "fernhollow_souvenirs")
            }
            Kind::PhpBb => ("https://forum.fernhollow.example/board", "/board", "fernhollow_forum"),
            Kind::Drupal => ("https://club.fernhollow.example", "/club", "fernhollow_club"),
            Kind::WordPress => ("https://blog.fernhollow.example", "/blog", "fernhollow_blog"),
            Kind::Dnn => ("http://partners.fernhollow.example/portal", "/portal", "fernhollow_portal"),
        };
        Site {
            variant,
            address: address.into(),
            root: format!("/home/fernhollow/public_html{folder}"),
            storage: "/home/fernhollow/storage".into(),
            database: ["localhost", "fernhollow_web", "fake'Old\\pass %31", database].map(str::to_string),
            prefix: prefix.into(),
            pages: 0,
        }
    }

    /// Makes a Drupal site of the newest line keep its rows in a file below its own folder, and lie alone in it.
    pub fn in_a_file(mut self) -> Site {
        self.database = ["", "", "", "sites/default/files/.ht.sqlite"].map(str::to_string);
        self.prefix = String::new();
        self
    }

    /// Says whether the database is a file.
    fn is_in_a_file(&self) -> bool {
        self.database[3].ends_with(".sqlite")
    }

    /// Returns the version that the stand-in claims to be.
    pub fn version(&self) -> &'static str {
        self.variant.facts().2
    }

    /// Returns the name of the definition that describes it.
    pub fn definition(&self) -> &'static str {
        self.variant.facts().1
    }

    /// Returns the dump of the site's database.
    pub fn dump(&self) -> String {
        let dump = match self.variant.kind() {
            Kind::Drupal if self.is_in_a_file() => drupal::script(self),
            Kind::Joomla => joomla::dump(self),
            Kind::PrestaShop => prestashop::dump(self),
            Kind::OpenCart => opencart::dump(self),
            Kind::PhpBb => phpbb::dump(self),
            Kind::Drupal => drupal::dump(self),
            Kind::WordPress => wordpress::dump(self),
            Kind::Dnn => dnn::dump(self),
        };
        season::added(self, dump)
    }

    /// Returns the dump as its tools would write the file: the newer portal's in UTF-16 with its mark.
    pub fn dump_file(&self) -> Vec<u8> {
        let text = self.dump();
        match self.variant {
            Variant::Dnn9 => {
                let units = std::iter::once(0xFEFF).chain(text.encode_utf16());
                units.flat_map(u16::to_le_bytes).collect()
            }
            _ => text.into_bytes(),
        }
    }

    /// Writes the site's files into a folder.
    pub fn write(&self, folder: &Path) -> io::Result<()> {
        let files = match self.variant.kind() {
            Kind::Joomla => joomla::files(self),
            Kind::PrestaShop => prestashop::files(self),
            Kind::OpenCart => opencart::files(self),
            Kind::PhpBb => phpbb::files(self),
            Kind::Drupal => drupal::files(self),
            Kind::WordPress => wordpress::files(self),
            Kind::Dnn => dnn::files(self),
        };
        write_files(folder, files)?;
        write_files(folder, season::pictures(self))
    }

    /// Writes the folder that belongs to the site outside of its root, and says whether there is one.
    pub fn write_outside(&self, folder: &Path) -> io::Result<bool> {
        let files = match self.variant.kind() {
            Kind::OpenCart => opencart::outside(self),
            _ => Vec::new(),
        };
        let any = !files.is_empty();
        write_files(folder, files)?;
        Ok(any)
    }

    /// Returns host name and port of the old address; no port where it is the usual one.
    pub(crate) fn host_and_port(&self) -> (&str, Option<&str>) {
        let (host, _) = self.host_and_base();
        host.split_once(':').map_or((host, None), |(host, port)| (host, Some(port)))
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

fn write_files(folder: &Path, files: Vec<SiteFile>) -> io::Result<()> {
    for file in files {
        let path = folder.join(&*file.path);
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
