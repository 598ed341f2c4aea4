//! The shape of a definition file: what is particular to one content system, as data.
//!
//! `docs/definitions.md` explains every key to people. Code knows forms, never a system's name.

pub use super::copy::KeyValue;
use super::copy::{Admin, Identity, SetForm, Switch, TlsSwitch};
use super::globs;
use super::knowledge::{Afterwards, CopyOnly, Growing, LogIn, Needed, Personal, PhpLine, Symptom};
pub use crate::config::definition::{Config, ConfigForm, Key, Role};
use crate::place::AddressForm;
use crate::text::column_code::ColumnCode;
use crate::text::packed::Packing;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// One content system.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Definition {
    /// Identifier, the file's name without `.toml`.
    pub id: String,
    /// Id of another definition whose lists this one has where it has none of its own: another layout of the same system.
    #[serde(default)]
    pub like: Option<String>,
    /// Where folders of the other definition lie in this one, by how its paths begin; the empty beginning means all others.
    #[serde(default)]
    pub moved: BTreeMap<String, String>,
    /// When it is tried, among definitions that would take the same site: smaller comes first.
    #[serde(default)]
    pub order: i32,
    /// Name for people.
    pub name: String,
    /// One line on what is covered.
    #[serde(default)]
    pub about: String,
    /// Files that tell the system: every group of one list must be there.
    pub recognise: Vec<Marker>,
    /// Folders below a site's in which the web server may begin: of a project whose libraries and settings lie beside it.
    #[serde(default)]
    pub document_root: Vec<String>,
    /// The one of them in which this site is, with a slash behind it; the paths of the definition begin with it then.
    #[serde(skip)]
    #[schemars(skip)]
    pub served_from: String,
    /// Where the version stands; the first that can be read counts.
    #[serde(default)]
    pub version: Vec<Version>,
    /// Well-known extensions that a survey names.
    #[serde(default)]
    pub extension: Vec<Extension>,
    /// Folders of which each belongs to one host, where one code base serves several.
    #[serde(default)]
    pub hosts: Option<HostFolders>,
    /// Config files.
    #[serde(default)]
    pub config: Vec<Config>,
    /// Whether one database may hold a network of sites, whose tables have a number behind the prefix.
    #[serde(default)]
    pub network: bool,
    /// Where rows tell the base address.
    #[serde(default)]
    pub address: Vec<AddressRows>,
    /// Cells that hold an address in a declared form.
    #[serde(default)]
    pub cell: Vec<CellRule>,
    /// Columns whose values are compressed.
    #[serde(default)]
    pub packed: Vec<PackedRule>,
    /// Columns whose text is spelled in a way of its own.
    #[serde(default)]
    pub coded: Vec<CodedRule>,
    /// Tables whose rows need not be carried.
    #[serde(default)]
    pub table: Vec<TableRule>,
    /// Folders whose content is rebuilt by the system.
    #[serde(default)]
    pub cache: Vec<CacheFolder>,
    /// Tables that never have the site's prefix, by patterns.
    #[serde(default)]
    pub without_prefix: Vec<String>,
    /// Files that the system makes anew and that are wrong at another place.
    #[serde(default)]
    pub generated: Vec<Generated>,
    /// Text files with absolute addresses or paths.
    #[serde(default)]
    pub text: Vec<TextFile>,
    /// Things that should not lie in a document root.
    #[serde(default)]
    pub leftover: Vec<Leftover>,
    /// Rows that name a folder which belongs to the site wherever it lies.
    #[serde(default)]
    pub row_folder: Vec<RowFolder>,
    /// Lines of a config that count for more than rows.
    #[serde(default)]
    pub beaten: Vec<Beaten>,
    /// Settings with which no site should be open to all.
    #[serde(default)]
    pub risky: Vec<Risky>,
    /// Folders with what users uploaded.
    #[serde(default)]
    pub media: Vec<Media>,
    /// Keys in rows that begin with the table prefix.
    #[serde(default)]
    pub prefix_key: Vec<PrefixKey>,
    /// What can be switched on a copy.
    #[serde(default)]
    pub switch: Vec<Switch>,
    /// What follows the scheme of the address.
    #[serde(default)]
    pub tls: Vec<TlsSwitch>,
    /// Where the site's name and its office's address stand.
    #[serde(default)]
    pub identity: Vec<Identity>,
    /// Where the administrator's account stands; the first that fits the version counts.
    #[serde(default)]
    pub admin: Vec<Admin>,
    /// How somebody logs in.
    #[serde(default)]
    pub log_in: Vec<LogIn>,
    /// What its pages say when something is wrong.
    #[serde(default)]
    pub symptom: Vec<Symptom>,
    /// What is left to a person behind a move.
    #[serde(default)]
    pub afterwards: Vec<Afterwards>,
    /// Which PHP it runs on; the first that fits the version counts.
    #[serde(default)]
    pub php: Vec<PhpLine>,
    /// Folders and files that rows name and without which no page comes.
    #[serde(default)]
    pub needed: Vec<Needed>,
    /// Tables that grow while it is live.
    #[serde(default)]
    pub growing: Vec<Growing>,
    /// Columns with data of people.
    #[serde(default)]
    pub personal: Vec<Personal>,
    /// What a copy beside the live site must not keep.
    #[serde(default)]
    pub copy_only: Vec<CopyOnly>,
    /// What goes wrong after a move, and what helps.
    #[serde(default)]
    pub trap: Vec<Trap>,
}

impl Definition {
    /// Says whether a table never has the site's prefix.
    pub fn has_without_prefix(&self, table: &str) -> bool {
        let admins = self.admin.iter().filter(|a| a.bare);
        let named = admins.flat_map(|a| a.by_way_of.iter().map(|c| &c.table).chain([&a.table]));
        self.without_prefix.iter().chain(named).any(|pattern| fits(pattern, table))
    }

    /// Returns the patterns of its config files, all in one.
    pub fn config_files(&self) -> globset::GlobSet {
        globs(self.config.iter().map(|c| &*c.path))
    }

    /// Gives config entries that are like others the keys of those.
    pub(super) fn expanded(mut self) -> Self {
        for at in 0..self.config.len() {
            let other = self.config[at].like.as_ref();
            let keys =
                other.and_then(|path| self.config.iter().find(|c| c.path == *path)).map(|c| c.key.clone());
            self.config[at].key.extend(keys.unwrap_or_default());
        }
        self
    }

    /// Takes over from another definition what this one does not say, with its paths where they lie here.
    pub(super) fn completed_by(mut self, other: &Definition) -> Self {
        let mut other = other.clone();
        other.paths(&mut |path| *path = moved_path(&self.moved, path));
        macro_rules! take {
            ($($list:ident),+) => { $(if self.$list.is_empty() { self.$list = std::mem::take(&mut other.$list); })+ };
        }
        take!(
            without_prefix,
            extension,
            address,
            cell,
            packed,
            coded,
            table,
            cache,
            generated,
            text,
            leftover,
            media,
            prefix_key
        );
        take!(
            risky, row_folder, beaten, switch, tls, identity, admin, log_in, symptom, growing, personal,
            copy_only, trap, php, needed, afterwards
        );
        self
    }

    /// Returns the definition for a site in which folders lie elsewhere, as its config says.
    pub fn with_folders_at(mut self, moved: &BTreeMap<String, String>) -> Definition {
        if !moved.is_empty() {
            self.paths(&mut |path| *path = moved_path(moved, path));
        }
        self
    }

    /// Calls for each path that lies under the site.
    fn paths(&mut self, change: &mut dyn FnMut(&mut String)) {
        let sets = (self.switch.iter_mut().map(|s| &mut s.set))
            .chain(self.tls.iter_mut().map(|t| &mut t.set))
            .chain(self.identity.iter_mut().map(|i| &mut i.set))
            .chain(self.copy_only.iter_mut().map(|c| &mut c.set));
        let hosts = self
            .hosts
            .iter_mut()
            .flat_map(|h| [&mut h.folder].into_iter().chain(h.map.as_mut().map(|m| &mut m.path)));
        let configs = self.config.iter_mut().flat_map(|c| {
            let roots = c.key.iter_mut().flat_map(|k| &mut k.below_root);
            [&mut c.path].into_iter().chain(&mut c.like).chain(&mut c.named_in).chain(roots)
        });
        (self.recognise.iter_mut().map(|m| &mut m.path))
            .chain(self.version.iter_mut().map(|v| &mut v.path))
            .chain(self.extension.iter_mut().map(|e| &mut e.path))
            .chain(self.cache.iter_mut().map(|t| &mut t.path))
            .chain(self.generated.iter_mut().map(|g| &mut g.path))
            .chain(self.text.iter_mut().map(|t| &mut t.path))
            .chain(self.leftover.iter_mut().map(|l| &mut l.path))
            .chain(self.media.iter_mut().flat_map(|m| [&mut m.path].into_iter().chain(&mut m.keep)))
            .chain(self.risky.iter_mut().map(|r| &mut r.path))
            .chain(sets.filter_map(|s| s.file.as_mut().map(|f| &mut f.path)))
            .chain(hosts)
            .chain(configs)
            .for_each(change);
    }

    /// Returns the definition for a site whose document root lies below its folder: its paths begin there.
    pub fn below(&self, document_root: &str) -> Definition {
        let mut out = self.clone();
        if document_root.is_empty() {
            return out;
        }
        let prefix = format!("{document_root}/");
        out.paths(&mut |path| path.insert_str(0, &prefix));
        // What may lie above the document root lies in the site's own folder then.
        let above = self.config.iter().filter(|c| c.above);
        out.config.extend(above.map(|c| Config { path: c.path.clone(), ..c.clone() }));
        out.served_from = prefix;
        out
    }

    /// Returns the definition for one host's folder: `{site}` in its paths becomes the folder's name.
    pub fn for_site(&self, site: &str) -> Definition {
        let mut out = self.clone();
        let paths = (out.config.iter_mut().flat_map(|c| [&mut c.path].into_iter().chain(&mut c.named_in)))
            .chain(out.cache.iter_mut().map(|t| &mut t.path))
            .chain(out.generated.iter_mut().map(|g| &mut g.path))
            .chain(out.text.iter_mut().map(|t| &mut t.path))
            .chain(out.leftover.iter_mut().map(|l| &mut l.path))
            .chain(out.risky.iter_mut().map(|r| &mut r.path))
            .chain(out.media.iter_mut().flat_map(|m| [&mut m.path].into_iter().chain(&mut m.keep)));
        for path in paths {
            *path = path.replace("{site}", site);
        }
        out
    }
}

/// Returns where a path lies when folders lie elsewhere: the longest beginning counts, and an empty one stands for all others.
fn moved_path(moved: &BTreeMap<String, String>, path: &str) -> String {
    let begins = |from: &str| path == from || path.strip_prefix(from).is_some_and(|r| r.starts_with('/'));
    let named = moved.iter().filter(|(from, _)| !from.is_empty() && begins(from));
    match (named.max_by_key(|(from, _)| from.len()), moved.get("")) {
        (Some((from, to)), _) => format!("{to}{}", &path[from.len()..]),
        (None, Some(to)) => format!("{to}/{path}"),
        (None, None) => path.to_string(),
    }
}

/// A file that must be there for a system to be recognised.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Marker {
    /// Path under the site.
    pub path: String,
    /// Text that must be in it; without it the file's presence is enough.
    #[serde(default)]
    pub contains: Option<String>,
    /// Whether it must not be there, or not with this text.
    #[serde(default)]
    pub absent: bool,
}

/// Where a version can be read without executing anything.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Version {
    /// Path of a file under the site; `*` stands for one name.
    pub path: String,
    /// How it is written.
    #[serde(default = "php")]
    pub form: ConfigForm,
    /// Text of a line that tells it, with `{version}` in the place of the version, in a file of whatever form.
    #[serde(default)]
    pub line: Option<String>,
    /// Constants, properties or variables whose values make up the version.
    #[serde(default)]
    pub keys: Vec<String>,
    /// Whether the version is the name of the file, without its ending; of several the highest.
    #[serde(default)]
    pub from_name: bool,
    /// What stands between the values.
    #[serde(default = "dot")]
    pub join: String,
    /// Name of the product, where a version found here means one of the family.
    #[serde(default)]
    pub product: Option<String>,
}

fn php() -> ConfigForm {
    ConfigForm::Php
}

fn dot() -> String {
    ".".into()
}

/// A well-known extension, such as a shop on top.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Extension {
    /// Name for people.
    pub name: String,
    /// File that tells it.
    pub path: String,
    /// Property or constant with its version, in PHP; or what stands before it in a comment, such as `Version:`.
    #[serde(default)]
    pub version: Option<String>,
}

/// Folders of which each belongs to one host: its name stands for `{site}` in the paths of the definition.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct HostFolders {
    /// Folder that holds them.
    pub folder: String,
    /// File that makes one of its folders a host's.
    pub holds: String,
    /// Columns with paths that begin with `folder/NAME/`, relative to the site.
    #[serde(default)]
    pub paths: Vec<PathColumn>,
    /// PHP file in it that maps hosts to folders, and the variable there; none where a link has to do.
    #[serde(default)]
    pub map: Option<HostMap>,
}

/// A column with paths relative to the site.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PathColumn {
    /// Table without prefix.
    pub table: String,
    /// Column.
    pub column: String,
}

/// A PHP file that maps hosts to folders.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct HostMap {
    /// Path under the site.
    pub path: String,
    /// Name of the variable, without sign.
    pub variable: String,
    /// Whether folders are looked for only where this file is there.
    #[serde(default)]
    pub needed: bool,
}

/// Rows that tell the base address of the site.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct AddressRows {
    /// Table without prefix.
    pub table: String,
    /// Column with the host (and port), or with the whole address where `form` says so.
    pub host: String,
    /// How the column `host` spells it: `host` (the usual), `host/base`, `url`, `url/`.
    #[serde(default = "host_form")]
    pub form: AddressForm,
    /// Rows of the same table that hold the rest of the address.
    #[serde(default)]
    pub beside: Option<BesideRows>,
    /// Column with the port, where it has one; 443 means TLS.
    #[serde(default)]
    pub port: Option<String>,
    /// Column with the base path.
    #[serde(default)]
    pub base: Option<String>,
    /// Further columns with a host of the same site.
    #[serde(default)]
    pub also: Vec<String>,
    /// Column with the number of the site, where a table holds several: other rows of the same number are its aliases.
    #[serde(default)]
    pub group: Option<String>,
    /// Row elsewhere whose value is the number of the site that is meant.
    #[serde(default)]
    pub chosen: Option<Chosen>,
    /// Column and value that tell the row, such as `main = 1` or `name = PS_SHOP_DOMAIN`.
    #[serde(default)]
    pub only: Option<KeyValue>,
    /// A row elsewhere that says whether the site uses TLS.
    #[serde(default)]
    pub tls: Option<Flag>,
    /// A row elsewhere that says whether the program uses these rows; without it they are a hint, which may be old.
    #[serde(default)]
    pub used: Option<Flag>,
}

fn host_form() -> AddressForm {
    AddressForm::Host
}

/// A row whose value names one of several sites.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Chosen {
    /// Table without prefix.
    pub table: String,
    /// Column and value that tell the row.
    pub only: KeyValue,
    /// Column with the number.
    pub column: String,
}

/// Rows of a table of names and values that hold parts of an address, by the value of the column that `only` names.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct BesideRows {
    /// Row with the scheme, with or without `://`.
    pub scheme: String,
    /// Row with the port.
    pub port: String,
    /// Row with the base path.
    pub base: String,
    /// Whether nobody keeps scheme and port in step: 80 and 443 are no port then, whatever the scheme.
    #[serde(default)]
    pub loose_port: bool,
}

/// A row that switches something on.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Flag {
    /// Table without prefix.
    pub table: String,
    /// Column and value that tell the row.
    pub only: KeyValue,
    /// Column to look at.
    pub column: String,
    /// Value that means on.
    pub on: String,
}

/// Cells that hold an address in a declared form.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct CellRule {
    /// Table without prefix.
    pub table: String,
    /// Column.
    pub column: String,
    /// Form.
    pub form: AddressForm,
    /// Column that tells the rows.
    #[serde(default)]
    pub key: Option<String>,
    /// Values of that column.
    #[serde(default)]
    pub values: Vec<String>,
    /// For a base path: the column that must hold the old host.
    #[serde(default)]
    pub beside_host: Option<String>,
    /// Whether something may follow the address, behind a slash, and stays.
    #[serde(default)]
    pub tail: bool,
    /// Whether each value may stand there once: then only the main address moves, and further ones of the site are left and told.
    #[serde(default)]
    pub unique: bool,
    /// Why such cells stay as they are and are told, where they must not follow.
    #[serde(default)]
    pub stays: Option<String>,
    /// For references: keys of JSON or of a serialized array under which they stand, at any depth.
    #[serde(default)]
    pub within: Vec<String>,
}

/// A column whose values are compressed.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PackedRule {
    /// Table without prefix.
    pub table: String,
    /// Column.
    pub column: String,
    /// How.
    pub how: Packing,
    /// Column with a list of words, and the word there that tells a compressed value; every value is one without it.
    #[serde(default)]
    pub flags: Option<KeyValue>,
}

/// A column whose text is spelled in a way of its own.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct CodedRule {
    /// Table without prefix.
    pub table: String,
    /// Column.
    pub column: String,
    /// How.
    pub code: ColumnCode,
}

/// A table whose rows need not be carried.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct TableRule {
    /// Table without prefix; `*` stands for anything.
    pub name: String,
    /// Tables of which the name speaks as well and that are not meant.
    #[serde(default)]
    pub except: Vec<String>,
    /// Whether leaving the rows out is safe without asking.
    pub safe: bool,
    /// Whether it is a cache, which is emptied with the folders of caches.
    #[serde(default)]
    pub cache: bool,
    /// What is in it, or what is lost.
    pub about: String,
}

impl TableRule {
    /// Says whether it speaks of a table, by its name without prefix.
    pub(super) fn is_of(&self, bare: &str) -> bool {
        fits(&self.name, bare) && !self.except.iter().any(|except| fits(except, bare))
    }
}

/// Says whether a name fits a pattern in which `*` stands for anything.
pub(crate) fn fits(pattern: &str, name: &str) -> bool {
    let Some((start, rest)) = pattern.split_once('*') else { return pattern == name };
    let Some(name) = name.strip_prefix(start) else { return false };
    (0..=name.len()).any(|at| name.is_char_boundary(at) && fits(rest, &name[at..]))
}

/// A folder whose content is not carried into a copy: caches, logs, sessions.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct CacheFolder {
    /// Path under the site; `*` stands for one folder name.
    pub path: String,
    /// Whether the system makes its content again by itself. Only then it is emptied on a site at work; what is not carried may still be
    /// needed there.
    #[serde(default)]
    pub rebuilt: bool,
    /// Files that stay.
    #[serde(default)]
    pub keep: Vec<String>,
    /// Folders below it that must be there.
    #[serde(default)]
    pub folders: Vec<String>,
}

/// A file that is wrong anywhere else, and is not carried.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Generated {
    /// Path under the site; `*` stands for one name.
    pub path: String,
    /// Whether the system makes it again by itself: only then it is removed from a site at work.
    #[serde(default)]
    pub rebuilt: bool,
    /// Why it must go.
    pub about: String,
}

/// A text file whose addresses and paths follow the site.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct TextFile {
    /// Path under the site; `*` stands for one name.
    pub path: String,
}

/// Something that should not lie in a document root.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Leftover {
    /// Path under the site; `*` stands for one name.
    pub path: String,
    /// What it is and what it may do.
    pub about: String,
    /// Whether it may be removed without a look: the system never needs it again.
    #[serde(default)]
    pub safe: bool,
    /// Whether a stranger who finds it could do harm with it, and not just learn of the system.
    #[serde(default)]
    pub harm: bool,
}

/// A row that names a folder: private files, goods for download.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct RowFolder {
    /// Table without prefix.
    pub table: String,
    /// Column with the path, absolute or from the document root.
    pub column: String,
    /// Column and value that tell the row.
    pub only: KeyValue,
    /// How the path stands there.
    #[serde(default)]
    pub form: SetForm,
    /// Name under which it stands in a value of `name=value` pairs with `|` between them; the whole value is the path without it.
    #[serde(default)]
    pub pair: Option<String>,
    /// What is in the folder.
    pub about: String,
}

/// How a config spells what counts for more than a row.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Beaten {
    /// Table without prefix.
    pub table: String,
    /// Column whose value names what the row is for.
    pub column: String,
    /// Config key, with `{value}` in the place of that value; the way to an item of an array follows behind dots.
    pub key: String,
}

/// A setting with which no site should be open to all, such as a mode for those who write programs.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Risky {
    /// File under the site; `*` stands for one name.
    pub path: String,
    /// How it is written.
    #[serde(default = "php")]
    pub form: ConfigForm,
    /// Key.
    pub key: String,
    /// Values that do no harm; nothing, `0` and `false` never do.
    #[serde(default)]
    pub harmless: Vec<String>,
    /// What it does.
    pub about: String,
}

/// A folder with what users uploaded.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Media {
    /// Path under the site; `*` stands for one name.
    pub path: String,
    /// What is in it, and what a copy without it looks like.
    pub about: String,
    /// Paths under the site that belong to the system itself although they lie there.
    #[serde(default)]
    pub keep: Vec<String>,
}

/// Values of a column that begin with the table prefix.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PrefixKey {
    /// Table without prefix; `*` stands for the number of a further site.
    pub table: String,
    /// Column.
    pub column: String,
    /// What may follow the prefix (and the number of a further site); anything if empty.
    #[serde(default)]
    pub names: Vec<String>,
    /// Prefix that is so usual that other values begin like it as well: `names` counts with it alone, and what is not among them is told.
    #[serde(default)]
    pub usual: Option<String>,
}

/// What goes wrong after a move.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Trap {
    /// What is seen.
    pub symptom: String,
    /// Why.
    pub cause: String,
    /// What helps.
    pub cure: String,
}
