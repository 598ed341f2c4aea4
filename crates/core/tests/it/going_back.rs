//! What a run notes of itself, and the way back: files made, replaced, changed since; runs that came later.

use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::Path;
use zporter_core::change_log::{ChangeLog, FileChange, read, undo};
use zporter_core::database::journal::{InLogbook, Mark, ProgressStore, begun_tables, reached};
use zporter_core::logbook::{self, Outcome, Run, StepKind};
use zporter_core::tree::LocalTree;
use zporter_core::undo::{UndoError, plan};

fn clock() -> String {
    "2026-11-23T12:00:00Z".into()
}

fn begin(folder: &Path, command: &str) -> Run {
    Run::begin(folder, command, serde_json::json!({}), clock).unwrap()
}

#[test]
fn what_was_made_goes_and_what_was_replaced_comes_back_with_mode_and_time() {
    let folder = tempfile::tempdir().unwrap();
    let at = |name: &str| folder.path().join(name);
    fs::create_dir(at("site")).unwrap();
    fs::write(at("site/old.php"), "before").unwrap();
    fs::set_permissions(at("site/old.php"), fs::Permissions::from_mode(0o440)).unwrap();
    std::os::unix::fs::symlink("old.php", at("site/link")).unwrap();
    let time = fs::metadata(at("site/old.php")).unwrap().mtime();
    let run = begin(&at("log"), "clone");
    let mut change_log = ChangeLog::of(&run).unwrap();
    change_log.folder(&at("site/new ö/deep")).unwrap();
    change_log.file(&at("site/new ö/deep/a")).unwrap();
    fs::write(at("site/new ö/deep/a"), "made").unwrap();
    fs::write(at("site/new ö/.zporter-4000000000-torn"), "a temporary name that a kill left").unwrap();
    for name in ["site/old.php", "site/link"] {
        change_log.replace(&at(name)).unwrap();
        fs::remove_file(at(name)).unwrap();
        fs::write(at(name), "after").unwrap();
    }
    // One that was not there is noted as made.
    change_log.replace(&at("site/fresh")).unwrap();
    fs::write(at("site/fresh"), "made").unwrap();
    assert_eq!(read(&run.kept()).len(), 6);
    assert!(matches!(&read(&run.kept())[2], FileChange::File(p) if p.ends_with("deep/a")));

    let looked = undo(&run.kept(), None, true, &[], &LocalTree::at).unwrap();
    assert_eq!((looked.removed, looked.put_back), (2, 2));
    assert!(at("site/fresh").exists(), "a look changes nothing");
    for _ in 0..2 {
        undo(&run.kept(), None, false, &[], &LocalTree::at).unwrap();
        assert_eq!(fs::read_to_string(at("site/old.php")).unwrap(), "before");
        let meta = fs::metadata(at("site/old.php")).unwrap();
        assert_eq!((meta.permissions().mode() & 0o777, meta.mtime()), (0o440, time));
        assert_eq!(fs::read_link(at("site/link")).unwrap(), Path::new("old.php"));
        assert!(!at("site/new ö").exists() && !at("site/fresh").exists());
    }
}

#[test]
fn files_that_were_changed_after_the_run_stay_and_are_listed() {
    let folder = tempfile::tempdir().unwrap();
    let run = begin(&folder.path().join("log"), "restore");
    let change_log = ChangeLog::of(&run).unwrap();
    for name in ["a", "b"] {
        change_log.file(&folder.path().join(name)).unwrap();
        fs::write(folder.path().join(name), name).unwrap();
    }
    let changed = fs::metadata(folder.path().join("b")).unwrap().ctime();
    let done = undo(&run.kept(), Some(changed - 60), false, &[], &LocalTree::at).unwrap();
    assert_eq!((done.removed, done.changed_since.len()), (0, 2));
    let done = undo(&run.kept(), Some(changed + 60), false, &[], &LocalTree::at).unwrap();
    assert_eq!((done.removed, done.changed_since.len()), (2, 0));
}

#[test]
fn a_torn_list_is_read_as_far_as_it_is_whole() {
    let folder = tempfile::tempdir().unwrap();
    let run = begin(folder.path(), "clone");
    let change_log = ChangeLog::of(&run).unwrap();
    change_log.file(Path::new("/x/whole")).unwrap();
    change_log.file(Path::new("/x/torn")).unwrap();
    let list = run.kept().with_extension("made");
    let bytes = fs::read(&list).unwrap();
    for cut in 0..bytes.len() {
        fs::write(&list, &bytes[..cut]).unwrap();
        let prints = read(&run.kept());
        assert!(prints.iter().all(|p| *p == FileChange::File("/x/whole".into())), "{cut}: {prints:?}");
    }
}

#[test]
fn a_table_that_was_begun_again_is_not_whole() {
    let folder = tempfile::tempdir().unwrap();
    let run = begin(folder.path(), "load");
    let id = run.id().to_string();
    let mut keeper = InLogbook(run);
    let begun = |table: &str| Mark::Begun { table: table.into() };
    let whole = |table: &str, rows| Mark::Whole { table: table.into(), rows };
    for mark in [begun("a"), whole("a", 3), begun("b"), begun("c"), whole("c", 0), whole("b", 7), begun("a")]
    {
        keeper.mark(mark).unwrap();
    }
    let lines = logbook::read(folder.path(), &id).unwrap();
    assert_eq!(reached(&lines).whole.into_iter().collect::<Vec<_>>(), [("b".into(), 7), ("c".into(), 0)]);
    assert_eq!(begun_tables(&lines), ["a", "b", "c", "a"]);
}

#[test]
fn only_the_last_run_on_a_place_can_be_undone_and_only_once() {
    let folder = tempfile::tempdir().unwrap();
    let load = |url: &str| {
        let run = begin(folder.path(), "load");
        run.step(StepKind::LoadDatabase, serde_json::json!({ "database": url })).unwrap();
        let id = run.id().to_string();
        run.end(Outcome::Done, serde_json::json!({})).unwrap();
        // Two runs of one second are told apart by when their files were made.
        std::thread::sleep(std::time::Duration::from_millis(20));
        id
    };
    let undone = |id: &str| {
        let run = Run::begin(folder.path(), "undo", serde_json::json!({ "undoes": id }), clock).unwrap();
        run.end(Outcome::Done, serde_json::json!({})).unwrap();
        std::thread::sleep(std::time::Duration::from_millis(20));
    };
    let (one, other, two) = (load("mysql://u@h/a"), load("mysql://u@h/b"), load("mysql://u@h/a"));
    assert!(matches!(plan(folder.path(), &one), Err(UndoError::Later { later, .. }) if later == two));
    assert_eq!(plan(folder.path(), &other).unwrap().database.as_deref(), Some("mysql://u@h/b"));
    undone(&two);
    assert!(matches!(plan(folder.path(), &two), Err(UndoError::Already { .. })));
    assert!(plan(folder.path(), &one).is_ok());
    assert!(matches!(plan(folder.path(), "none"), Err(UndoError::NoRun(_))));
    let pack = begin(folder.path(), "pack").id().to_string();
    assert!(matches!(plan(folder.path(), &pack), Err(UndoError::Nothing { .. })));
}
