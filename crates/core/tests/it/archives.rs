//! Archives in memory of the test: any tree survives, any change is noticed, names are checked.

use proptest::prelude::*;
use std::ops::ControlFlow;
use std::path::Path;
use zporter_core::archive::container::{CANARY, Canary, Container, canary};
use zporter_core::archive::entry_path::EntryPath;
use zporter_core::archive::format::{FORMAT, Head, HeadPlace, SystemName};
use zporter_core::archive::read::entries;
use zporter_core::archive::verify::{Damage, Verdict, verify};
use zporter_core::archive::write::{ArchiveWriter, Meta, WriteError};
use zporter_core::event::Silent;

fn head() -> Head {
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
            outside: None,
            other_sites: Vec::new(),
        },
        left_out: vec![],
        expected_bytes: 0,
        has_database: false,
    }
}

fn meta(path: &str, mode: u32) -> Meta {
    Meta { path: EntryPath::trusted(path), mode, time: 1_700_000_000 }
}

fn written(path: &Path, files: &[(String, Vec<u8>)]) -> Result<u64, WriteError> {
    let mut writer = ArchiveWriter::create(path, false, &head())?;
    writer.folder(&meta("files/sub", 0o750))?;
    for (name, content) in files {
        writer.file(&meta(&format!("files/sub/{name}"), 0o640), content.len() as u64, &content[..])?;
    }
    writer.symlink(&meta("files/link", 0o777), Path::new("sub"))?;
    writer.finish()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, ..ProptestConfig::default() })]
    #[test]
    fn any_tree_is_whole_and_reads_back(files in proptest::collection::btree_map("[a-zé ü.%]{1,120}x", proptest::collection::vec(any::<u8>(), 0..3000), 0..6)) {
        let files: Vec<(String, Vec<u8>)> = files.into_iter().collect();
        let folder = tempfile::tempdir().unwrap();
        for ending in ["tar.zst", "tar.gz", "zip"] {
            let path = folder.path().join(format!("a.{ending}"));
            let size = written(&path, &files).unwrap();
            prop_assert_eq!(std::fs::metadata(&path).unwrap().len(), size);
            match verify(&path, &Silent).unwrap() {
                Verdict::Whole(proof) => prop_assert_eq!(proof.entries, files.len() as u64 + 3),
                Verdict::Damaged(damage) => prop_assert!(false, "{ending}: {damage}"),
            }
            let mut found = Vec::new();
            entries::<()>(&path, &|_| {}, &mut |entry| {
                let name = entry.path.clone().unwrap().unwrap();
                if let Some(below) = name.below("files/sub") {
                    let mut content = Vec::new();
                    entry.content.read_to_end(&mut content)?;
                    assert_eq!(entry.mode.unwrap() & 0o777, 0o640);
                    found.push((String::from_utf8(below.bytes().to_vec()).unwrap(), content));
                }
                Ok(ControlFlow::Continue(()))
            }).unwrap();
            prop_assert_eq!(&found, &files);
        }
    }
}

#[test]
fn every_cut_of_a_small_archive_is_noticed() {
    let folder = tempfile::tempdir().unwrap();
    let files = [("a.txt".to_string(), b"some text that is not long".to_vec())];
    for ending in ["tar.zst", "tar.gz", "zip"] {
        let path = folder.path().join(format!("a.{ending}"));
        let _ = written(&path, &files).unwrap();
        let whole = std::fs::read(&path).unwrap();
        for keep in 0..whole.len() {
            std::fs::write(&path, &whole[..keep]).unwrap();
            match verify(&path, &Silent).unwrap() {
                Verdict::Damaged(Damage::CutOff { missing: Some(n), .. }) => {
                    assert_eq!(n as usize, whole.len() - keep)
                }
                Verdict::Damaged(_) => {}
                Verdict::Whole(_) => panic!("{ending}: {keep} of {} bytes pass for whole", whole.len()),
            }
        }
        std::fs::remove_file(&path).unwrap();
    }
}

#[test]
fn a_file_that_shrinks_while_it_is_read_stops_the_pack() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("a.tar.zst");
    let mut writer = ArchiveWriter::create(&path, false, &head()).unwrap();
    let shrunk = writer.file(&meta("files/log", 0o644), 10, &b"four"[..]);
    assert!(shrunk.unwrap_err().to_string().contains("files/log"));
    drop(writer);
    assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 0, "nothing is left behind");
    std::fs::write(&path, "precious").unwrap();
    assert!(matches!(ArchiveWriter::create(&path, false, &head()), Err(WriteError::Exists(_))));
    assert!(matches!(
        ArchiveWriter::create(&folder.path().join("a.rar"), false, &head()),
        Err(WriteError::Ending(_))
    ));
}

#[test]
fn the_mark_tells_what_a_transfer_did() {
    let mark = |bytes: &[u8]| canary(&[b"some head", bytes, &9u64.to_le_bytes()].concat());
    assert_eq!(mark(CANARY), Canary::Intact { length: Some(9) });
    let replaced = |from: &[u8], to: &[u8]| {
        let at = CANARY.windows(from.len()).position(|w| w == from).unwrap();
        [&CANARY[..at], to, &CANARY[at + from.len()..]].concat()
    };
    for (bytes, word) in [
        (replaced(b"\r\n\x1a\n", b"\r\r\n\x1a\r\n"), "CR LF"),
        (replaced(b"\r\n", b"\n"), "became LF"),
        (replaced(b"\r\n\x1a\n", b"\r\x1a"), "taken out"),
        (replaced(b"\0", b"\x01"), "altered"),
    ] {
        match mark(&bytes) {
            Canary::Damaged(what) => assert!(what.contains(word), "{what}"),
            other => panic!("{other:?}"),
        }
    }
    assert_eq!(canary(b"nothing here"), Canary::Absent);
}

#[test]
fn containers_are_told_by_bytes_and_by_name() {
    let by_name = |n: &str| Container::for_name(Path::new(n));
    assert_eq!(
        ["a.tar.zst", "a.TGZ", "a.tar.gz", "b.zip", "c.tar", "d.sql"].map(by_name),
        [
            Some(Container::TarZst),
            Some(Container::TarGz),
            Some(Container::TarGz),
            Some(Container::Zip),
            None,
            None
        ]
    );
    assert_eq!(Container::of_bytes(b"PK\x03\x04"), Some(Container::Zip));
    assert_eq!(Container::of_bytes(b"<?php"), None);
    assert_eq!(Container::of_bytes(b""), None);
}
