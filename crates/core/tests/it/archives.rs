//! Archives in memory of the test: any tree survives, any change is noticed, names are checked.

use crate::test_support::{head, meta};
use proptest::prelude::*;
use std::io::Write;
use std::ops::ControlFlow;
use std::path::Path;
use std::sync::{Arc, Mutex};
use zporter_core::archive::blob::{Blob, BlobSink, LocalFile, Ranged};
use zporter_core::archive::container::{CANARY, Canary, Container, canary};
use zporter_core::archive::read::entries;
use zporter_core::archive::verify::{Damage, Verdict, verify};
use zporter_core::archive::write::{ArchiveWriter, WriteError};
use zporter_core::event::Silent;
use zporter_core::fsx::PathError;

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
            match verify(&LocalFile(&path), &Silent).unwrap() {
                Verdict::Whole(proof) => prop_assert_eq!(proof.entries, files.len() as u64 + 3),
                Verdict::Damaged(damage) => prop_assert!(false, "{ending}: {damage}"),
            }
            let mut found = Vec::new();
            entries::<()>(&LocalFile(&path), &Silent, &mut |entry| {
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
            match verify(&LocalFile(&path), &Silent).unwrap() {
                Verdict::Damaged(Damage::CutOff { offset, .. }) => assert_eq!(offset as usize, keep),
                Verdict::Damaged(Damage::NotOurs { .. }) => assert!(keep < 400, "{ending}: {keep}"),
                Verdict::Damaged(other) => panic!("{ending}: {keep} of {} bytes: {other}", whole.len()),
                Verdict::Whole(_) => panic!("{ending}: {keep} of {} bytes pass for whole", whole.len()),
            }
        }
        std::fs::remove_file(&path).unwrap();
    }
}

/// A place that takes bytes front to back and gives them back by ranges, and is no file.
#[derive(Clone, Default)]
struct Elsewhere {
    sent: Arc<Mutex<Vec<u8>>>,
    there: Arc<Mutex<Vec<u8>>>,
}

impl Write for Elsewhere {
    fn write(&mut self, buf: &[u8]) -> std::io::Result<usize> {
        // As a network does: never all at once.
        let part = &buf[..buf.len().min(701)];
        self.sent.lock().unwrap().extend_from_slice(part);
        Ok(part.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

impl BlobSink for Elsewhere {
    fn commit(self: Box<Self>) -> Result<(), PathError> {
        *self.there.lock().unwrap() = std::mem::take(&mut *self.sent.lock().unwrap());
        Ok(())
    }
}

impl Blob for Elsewhere {
    fn name(&self) -> &Path {
        Path::new("https://store.example/a")
    }

    fn size(&self) -> std::io::Result<u64> {
        Ok(self.there.lock().unwrap().len() as u64)
    }

    fn open(&self) -> std::io::Result<Box<dyn Ranged + '_>> {
        Ok(Box::new(std::io::Cursor::new(self.there.lock().unwrap().clone())))
    }
}

#[test]
fn an_archive_goes_to_a_place_that_cannot_seek_and_is_verified_there() {
    for container in [Container::TarZst, Container::TarGz, Container::Zip] {
        let place = Elsewhere::default();
        let sink = Box::new(place.clone());
        let manifest = tempfile::tempfile().unwrap();
        let mut writer = ArchiveWriter::into_sink(sink, place.name(), container, manifest, &head()).unwrap();
        let content = vec![b'x'; 300_000];
        writer.file(&meta("files/a", 0o640), content.len() as u64, &content[..]).unwrap();
        assert_eq!(place.size().unwrap(), 0, "nothing is there before it is whole");
        let size = writer.finish().unwrap();
        assert_eq!(place.size().unwrap(), size, "{container:?}");
        match verify(&place, &Silent).unwrap() {
            Verdict::Whole(proof) => assert_eq!(proof.entries, 2),
            Verdict::Damaged(damage) => panic!("{container:?}: {damage}"),
        }
        // One byte is lost on the way: its end is there, and tells.
        if container != Container::Zip {
            place.there.lock().unwrap().remove(size as usize / 2);
            let Verdict::Damaged(damage) = verify(&place, &Silent).unwrap() else { panic!("{container:?}") };
            assert!(damage.to_string().contains("1 bytes are missing before its end"), "{damage}");
        }
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
    let mark = |bytes: &[u8]| canary(&[b"some head\x15\0\0\0", bytes, &9u64.to_le_bytes()].concat());
    assert_eq!(mark(CANARY), Canary::Intact { length: Some(9) });
    assert_eq!(canary(&[b"head\x0d\0\0\0", &CANARY[..], &[7; 8]].concat()), Canary::Intact { length: None });
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
