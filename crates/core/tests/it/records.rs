//! Logbook, waybill, atomic writes: what must survive an interruption.

use std::fs::{self, Permissions};
use std::os::unix::fs::PermissionsExt;
use std::path::PathBuf;
use zporter_core::fsx::{absolute, free_space, write_atomically};
use zporter_core::logbook::{self, Outcome, Run};
use zporter_core::waybill::{Waybill, WaybillError};

fn clock() -> String {
    "2026-03-01T20:15:00Z".into()
}

#[test]
fn runs_of_the_same_second_have_names_of_their_own_and_tell_their_end() {
    let folder = tempfile::tempdir().unwrap();
    let begin =
        |what: &str| Run::begin(folder.path(), what, serde_json::json!({ "site": "s" }), clock).unwrap();
    let first = begin("pack");
    let second = begin("pack");
    let third = begin("restore");
    assert_eq!([first.id(), second.id()], ["20260301201500-pack", "20260301201500-pack-2"]);
    first.step("write archive", serde_json::Value::Null).unwrap();
    first.end(Outcome::Done, serde_json::json!({ "size": 5 })).unwrap();
    second.end(Outcome::Failed, serde_json::Value::Null).unwrap();
    drop(third);
    let states: Vec<_> =
        logbook::runs(folder.path()).into_iter().map(|r| (r.command, r.state, r.steps)).collect();
    let expected = [("restore", "unfinished", 0), ("pack", "failed", 0), ("pack", "done", 1)];
    assert_eq!(states, expected.map(|(c, s, n)| (c.to_string(), s.to_string(), n)));
    // A torn last line, as a crash leaves it, and a foreign file do no harm.
    let file = folder.path().join("20260301201500-pack.jsonl");
    let text = fs::read_to_string(&file).unwrap();
    fs::write(&file, &text[..text.len() - 7]).unwrap();
    fs::write(folder.path().join("notes.txt"), "x").unwrap();
    assert_eq!(logbook::read(folder.path(), "20260301201500-pack").unwrap().len(), 2);
    assert_eq!(logbook::runs(folder.path()).len(), 3);
    assert!(logbook::read(folder.path(), "../etc/passwd").is_none());
}

#[test]
fn a_waybill_reads_back_and_mistakes_are_told() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("job.toml");
    let bill = Waybill {
        job: "restore".into(),
        archive: "/a b/ü.tar.zst".into(),
        target: "/srv/x".into(),
        address: "https://x.example".into(),
        database: Some("mysql://u@h/n".into()),
        alias: vec!["http://y.example".into()],
        from_root: vec![r"C:\w".into()],
        ..Waybill::default()
    };
    bill.write(&path).unwrap();
    assert_eq!(Waybill::read(&path).unwrap(), bill);
    for (text, word) in [
        ("job = 'dance'\narchive=''\ntarget=''\naddress=''", "dance"),
        ("job = 'restore'", "archive"),
        ("job = 'restore'\narchive=''\ntarget=''\naddress=''\ndatabase_password='x'", "database_password"),
    ] {
        fs::write(&path, text).unwrap();
        match Waybill::read(&path) {
            Err(WaybillError::Wrong { why, .. }) => assert!(why.contains(word), "{why}"),
            other => panic!("{other:?}"),
        }
    }
}

#[test]
fn a_write_keeps_the_mode_of_file_and_folder() {
    let folder = tempfile::tempdir().unwrap();
    let closed = folder.path().join("closed");
    fs::create_dir(&closed).unwrap();
    let file = closed.join("config.php");
    fs::write(&file, "old").unwrap();
    fs::set_permissions(&file, Permissions::from_mode(0o444)).unwrap();
    fs::set_permissions(&closed, Permissions::from_mode(0o555)).unwrap();
    write_atomically(&file, b"new").unwrap();
    let mode = |p: &PathBuf| fs::metadata(p).unwrap().permissions().mode() & 0o777;
    assert_eq!(
        (fs::read_to_string(&file).unwrap().as_str(), mode(&file), mode(&closed)),
        ("new", 0o444, 0o555)
    );
    fs::set_permissions(&closed, Permissions::from_mode(0o755)).unwrap();
    assert_eq!(fs::read_dir(&closed).unwrap().count(), 1, "no temporary file stays");
    let error = write_atomically(&folder.path().join("missing/x"), b"").unwrap_err();
    assert!(error.to_string().contains("missing"), "{error}");
}

#[test]
fn paths_and_space_are_known_before_anything_is_there() {
    assert_eq!(absolute(&PathBuf::from("/a/b/../c/./d")), PathBuf::from("/a/c/d"));
    assert!(absolute(&PathBuf::from("x")).is_absolute());
    assert!(free_space(&PathBuf::from("/tmp/not/there/yet")).is_some_and(|n| n > 0));
}
