//! Builders that several tests share.

use zporter_core::archive::entry_path::EntryPath;
use zporter_core::archive::format::{FORMAT, Head, HeadPlace, SystemName};
use zporter_core::archive::write::Meta;
use zporter_core::config::edit::Context;
use zporter_core::place::{Address, DatabaseAccess, Pairs, Relocation, Root};
use zporter_core::text::replacements::Replacements;

/// The head of an archive that holds a site of no importance.
pub fn head() -> Head {
    Head {
        format: FORMAT,
        written_by: "test".into(),
        packed_at: "2026-03-01T20:00:00Z".into(),
        note: String::new(),
        system: SystemName { id: "joomla".into(), name: "Joomla".into(), version: None },
        place: HeadPlace {
            root: "/home/old".into(),
            config_roots: vec![],
            address: None,
            aliases: vec![],
            database: None,
            table_prefix: String::new(),
            host_folder: None,
            document_root: String::new(),
            outside: None,
            outside_named: None,
            moved_folders: Default::default(),
            former_switches: Vec::new(),
            other_sites: Vec::new(),
        },
        left_out: vec![],
        expected_bytes: 0,
        has_database: false,
        packed_on: None,
        outline: None,
    }
}

/// What is written beside an entry's content.
pub fn meta(path: &str, mode: u32) -> Meta {
    Meta { path: EntryPath::trusted(path), mode, time: 1_700_000_000 }
}

/// What an edit is planned by, where nothing more is asked for.
pub fn context<'c>(
    relocation: &'c Relocation,
    replacements: &'c Replacements,
    database: Option<&'c DatabaseAccess>,
) -> Context<'c> {
    Context { relocation, database, replacements, table_prefix: None, put: &[], put_only: false }
}

/// Old and new addresses and roots.
pub fn pairs(addresses: &[(&str, &str)], roots: &[(&str, &str)]) -> Pairs {
    let address = |t: &str| Address::parse(t).unwrap();
    let root = |t: &str| Root::parse(t).unwrap();
    Pairs {
        addresses: addresses.iter().map(|(old, new)| (address(old), address(new))).collect(),
        roots: roots.iter().map(|(old, new)| (root(old), root(new))).collect(),
    }
}
