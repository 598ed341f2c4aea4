//! Survey, pack, restore, clone, refresh and undo on a host whose files lie in memory: slow, failing, and without what others have.

use crate::memory::{ALL, Host, Node, What};
use serde_json::{Map, Value, json};
use std::collections::BTreeMap;
use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::Ordering::SeqCst;
use std::time::Duration;
use zporter_core::event::Silent;
use zporter_core::finding::{Code, Finding};
use zporter_core::job::Kind;
use zporter_core::job::run::{Done, Failure, How, LOGBOOK, Outside, World, run};
use zporter_core::logbook::{Outcome, Run};
use zporter_core::place::DatabaseAccess;
use zporter_core::secret::Secret;
use zporter_core::survey::{SurveyJob, survey};
use zporter_core::system::{self, Known};
use zporter_core::tree::{Capabilities, LocalTree, Times, Tree};
use zporter_core::undo;
use zporter_standin::{Site, Variant};

/// A world in which `/near` and `/far` are hosts of their own, and all other paths this machine.
struct Hosts {
    folder: PathBuf,
    near: Arc<Host>,
    far: Arc<Host>,
}

/// Behind all that is made meanwhile: a host that tells no time of a change of names and modes has only that of the content.
fn clock() -> String {
    "2100-01-01T00:00:00Z".into()
}

impl World for Hosts {
    fn definitions(&self) -> Result<Vec<Known>, Outside> {
        Ok(system::load(None)?)
    }
    fn log_in(&self, _: &mut DatabaseAccess, _: Option<&Path>) -> Result<(), Outside> {
        Ok(())
    }
    fn log_in_admin(&self, _: &mut DatabaseAccess) -> Result<(), Outside> {
        Ok(())
    }
    fn secret(&self, _: &Path) -> Result<Secret, Outside> {
        Err("there is none".into())
    }
    fn data(&self) -> Result<PathBuf, Outside> {
        Ok(self.folder.clone())
    }
    fn tree(&self, root: &Path) -> Arc<dyn Tree> {
        match root {
            root if root.starts_with("/near") => self.near.tree(root),
            root if root.starts_with("/far") => self.far.tree(root),
            root => LocalTree::at(root),
        }
    }
    fn temporary(&self) -> PathBuf {
        self.folder.clone()
    }
    fn clock(&self) -> fn() -> String {
        clock
    }
    fn written_by(&self) -> String {
        "a test".into()
    }
    fn input(&self) -> std::io::Result<File> {
        File::open("/dev/null")
    }
    fn output(&self) -> std::io::Result<File> {
        File::create("/dev/null")
    }
    fn began(&self, _: &str, _: Kind) {}
}

/// The tests' world, with a site on this machine and on the near host.
struct Given {
    _folder: tempfile::TempDir,
    world: Hosts,
    site: PathBuf,
    dump: PathBuf,
}

fn given(variant: Variant, can: Capabilities, latin: bool, delay: Duration) -> Given {
    let folder = tempfile::tempdir().unwrap();
    let at = |name: &str| folder.path().join(name);
    let made = Site::of(variant);
    made.write(&at("site")).unwrap();
    std::os::unix::fs::symlink("index.php", at("site/start.php")).unwrap();
    fs::write(at("site/Grün.txt"), "a name with a letter of its own").unwrap();
    fs::write(at("dump.sql"), made.dump_file()).unwrap();
    if made.write_outside(&at("outside")).unwrap() {
        let config = fs::read_dir(at("outside")).unwrap().count();
        assert!(config > 0);
    }
    let near = Host::new("near", Capabilities { links: true, ..can }, latin, delay);
    near.put(&at("site"), "/near/site");
    let world = Hosts { folder: at("data"), near, far: Host::new("far", can, latin, delay) };
    fs::create_dir(&world.folder).unwrap();
    Given { site: at("site"), dump: at("dump.sql"), world, _folder: folder }
}

fn job(given: &Given, kind: Kind, options: Value) -> Result<(Vec<Finding>, String), Failure> {
    let Value::Object(options) = options else { panic!("options are an object") };
    let job = kind.job(options as Map<String, Value>).unwrap();
    let how = How { dry_run: false, samples: 0 };
    match run(&job, how, &given.world, &Silent)? {
        Done::Copied(copied) => Ok((copied.findings, copied.run.unwrap())),
        Done::Packed(mut packed) => {
            let packed = packed.remove(0);
            Ok((packed.packed.findings, packed.run))
        }
        other => panic!("{other:?}"),
    }
}

/// Options of a copy to a place; its database is written as a dump.
fn copy(given: &Given, source: &str, target: &str, dump: bool) -> Value {
    let mut options = json!({
        "source": source, "target": target, "address": "https://new.fernhollow.test/x",
        "database": "mysql://web@db.fernhollow.test/web",
        "dump-to": given.world.folder.join(format!("{}.sql", target.replace('/', "-"))),
    });
    if dump {
        options["dump"] = given.dump.display().to_string().into();
    }
    options
}

fn undone(given: &Given, run: &str) {
    let folder = given.world.folder.join(LOGBOOK);
    let undo = undo::plan(&folder, run).unwrap();
    let book = Run::begin(&folder, "undo", json!({ "undoes": run }), clock).unwrap();
    undo.ready(None).unwrap().carry_out(&|root| given.world.tree(root), &book, &Silent).unwrap();
    book.end(Outcome::Done, json!({})).unwrap();
}

/// What a copy holds, told in the words of a host that can do no more than this one; the record of itself is another each time.
fn as_seen(mut nodes: BTreeMap<PathBuf, Node>, can: Capabilities) -> BTreeMap<PathBuf, Node> {
    nodes.retain(|path, node| {
        path != Path::new(".zporter-copy.json") && (can.links || !matches!(node.what, What::Link(_)))
    });
    for (path, node) in &mut nodes {
        if !can.modes {
            node.mode = 0;
        }
        // A file that was edited has the time of the edit.
        node.modified = match can.times {
            Times::Kept { step } if path.extension().is_some_and(|e| e == "png") => {
                node.modified - node.modified % i64::from(step)
            }
            _ => 0,
        };
    }
    nodes
}

fn of_local(folder: &Path) -> BTreeMap<PathBuf, Node> {
    let host = Host::new("", ALL, false, Duration::ZERO);
    host.put(folder, "/x");
    host.below("/x")
}

/// Hosts that lack something, by what.
fn lacking() -> Vec<(&'static str, Capabilities, bool)> {
    let minutes = Times::Kept { step: 60 };
    let least = Capabilities { links: false, modes: false, owners: false, replaces: false, times: minutes };
    vec![
        ("nothing", ALL, false),
        ("links", Capabilities { links: false, ..ALL }, false),
        ("modes", Capabilities { modes: false, ..ALL }, false),
        ("a rename over a file", Capabilities { replaces: false, ..ALL }, false),
        ("seconds", Capabilities { times: minutes, ..ALL }, false),
        ("times", Capabilities { times: Times::Written, ..ALL }, false),
        ("letters", ALL, true),
        ("all of it", least, true),
    ]
}

#[test]
fn a_site_elsewhere_is_surveyed_packed_restored_cloned_and_brought_up_to_date_as_one_that_is_here() {
    for (what, can, latin) in lacking() {
        for variant in [Variant::Joomla5, Variant::OpenCart15] {
            let given = given(variant, can, latin, Duration::ZERO);
            let known = given.world.definitions().unwrap();
            let looked = |tree: &dyn Tree| {
                let job = SurveyJob { dump: Some(given.dump.clone()), ..SurveyJob::default() };
                let found = survey(tree, &job, &known, &Silent).unwrap();
                let text = serde_json::to_string(&found.report()).unwrap();
                text.replace(&given.site.display().to_string(), "/near/site")
            };
            let (here, there) =
                (looked(&*LocalTree::at(&given.site)), looked(&*given.world.tree(Path::new("/near/site"))));
            if can.modes {
                assert_eq!(here, there, "{what}");
            }

            // The copy on this machine is what all others are measured by.
            let local = given.world.folder.join("local");
            let site = given.site.display().to_string();
            job(&given, Kind::Clone, copy(&given, &site, &local.display().to_string(), true)).unwrap();
            let wanted = as_seen(of_local(&local), can);
            assert!(wanted.len() > 10);

            let (found, first) =
                job(&given, Kind::Clone, copy(&given, "/near/site", "/far/clone", true)).unwrap();
            let same = |found: BTreeMap<PathBuf, Node>, how: &str| {
                for (path, node) in &wanted {
                    let same = found.get(path) == Some(node)
                        // A path of its own stands in a file that names it.
                        || matches!((found.get(path).map(|n| &n.what), &node.what), (Some(What::File(a)), What::File(b))
                            if String::from_utf8_lossy(a).replace(how, &local.display().to_string()) == String::from_utf8_lossy(b));
                    assert!(
                        same,
                        "without {what}: {} after {how}:\n{:?}\n{node:?}",
                        path.display(),
                        found.get(path)
                    );
                }
                assert_eq!(found.len(), wanted.len(), "without {what}: {how}");
            };
            same(as_seen(given.world.far.below("/far/clone"), can), "/far/clone");
            let links = found.iter().filter(|f| f.code == Code::LinkNotMade).count();
            assert_eq!(links, usize::from(!can.links), "{what}: {found:?}");

            let archive = given.world.folder.join("site.tar.zst");
            let pack = json!({ "site": "/near/site", "output": archive, "dump": given.dump });
            job(&given, Kind::Pack, pack).unwrap();
            let from = archive.display().to_string();
            job(&given, Kind::Restore, copy(&given, &from, "/far/restored", false)).unwrap();
            same(as_seen(given.world.far.below("/far/restored"), can), "/far/restored");

            // A refresh carries what has changed, and nothing else.
            let mut refresh = copy(&given, "/near/site", "/far/clone", true);
            refresh["refresh"] = true.into();
            refresh["dump-to"] = given.world.folder.join("again.sql").display().to_string().into();
            let before = given.world.far.below("/far/clone");
            let changed = Path::new("/near/site/new.txt");
            given.world.near.add(
                changed,
                Node { what: What::File(b"new".to_vec()), mode: 0o644, modified: 1_700_000_000 },
            );
            let (_, again) = job(&given, Kind::Clone, refresh).unwrap();
            let mut after = given.world.far.below("/far/clone");
            assert!(after.remove(Path::new("new.txt")).is_some(), "{what}");
            let record = Path::new(".zporter-copy.json");
            for (path, node) in &before {
                assert!(
                    path == record || after.get(path).is_some_and(|n| n.what == node.what),
                    "{what}: {}",
                    path.display()
                );
            }
            undone(&given, &again);
            let back = given.world.far.below("/far/clone");
            assert_eq!(as_seen(back, can), as_seen(before, can), "without {what}");
            undone(&given, &first);
            assert_eq!(given.world.far.below("/far/clone"), BTreeMap::new(), "without {what}");
        }
    }
}

/// What a job told and made: findings, run, the archive, and what lies at the target.
type Made = (Vec<Finding>, Option<String>, Vec<u8>, BTreeMap<PathBuf, Node>);

fn outcome(given: &Given, kind: Kind) -> Result<Made, Failure> {
    let archive = given.world.folder.join("site.tar.zst");
    let from = if kind == Kind::Restore { archive.display().to_string() } else { "/near/site".into() };
    let options = match kind {
        Kind::Pack => json!({ "site": "/near/site", "output": archive, "force": true, "dump": given.dump }),
        kind => copy(given, &from, "/far/copy", kind == Kind::Clone),
    };
    let (findings, run) = job(given, kind, options)?;
    let run = Some(run).filter(|_| kind != Kind::Pack);
    let packed = fs::read(&archive).unwrap_or_default();
    Ok((findings, run, packed, as_seen(given.world.far.below("/far/copy"), ALL)))
}

#[test]
fn a_host_that_fails_at_any_point_costs_nothing_and_hides_nothing() {
    // One site for all: what was packed twice shall be the same.
    let given = given(Variant::Joomla5, ALL, false, Duration::ZERO);
    let (mut failed, mut went_on) = (0, 0);
    let dumps = || {
        for old in fs::read_dir(&given.world.folder).unwrap().flatten() {
            if old.path().extension().is_some_and(|e| e == "sql") {
                fs::remove_file(old.path()).unwrap();
            }
        }
    };
    // The host that is read, and the one that is written.
    let cases = [(Kind::Pack, true), (Kind::Clone, true), (Kind::Clone, false), (Kind::Restore, false)];
    for (kind, reads) in cases {
        let host = if reads { &given.world.near } else { &given.world.far };
        host.operations.store(0, SeqCst);
        let (findings, run, packed, copied) = outcome(&given, kind).unwrap();
        let told: Vec<String> = findings.into_iter().map(|f| f.what).collect();
        let all = host.operations.load(SeqCst);
        assert!(all > 100, "{all}");
        run.iter().for_each(|run| undone(&given, run));
        dumps();
        // It fails once, or for good.
        let points = (0..all).step_by((all / 60).max(1) as usize);
        for fails in points.flat_map(|at| [at..at + 1, at..u64::MAX]) {
            let at = format!(
                "{kind:?}, the host that is {} from {fails:?}",
                if reads { "read" } else { "written" }
            );
            host.operations.store(0, SeqCst);
            *host.fails.lock().unwrap() = fails;
            let done = outcome(&given, kind);
            *host.fails.lock().unwrap() = 0..0;
            let run = match done {
                Ok((findings, run, archive, copy)) => {
                    went_on += 1;
                    let silent = findings.iter().all(|f| told.contains(&f.what));
                    let whole = archive == packed && copy == copied;
                    assert!(!silent || whole, "{at}: less than the site was carried, and nobody was told");
                    run
                }
                Err(e) => {
                    failed += 1;
                    let chain = std::iter::successors(Some(&e as &dyn std::error::Error), |e| e.source());
                    let told = chain.map(ToString::to_string).collect::<Vec<_>>().join(": ");
                    assert!(told.contains("connection was lost"), "{at}: {told}");
                    e.run.filter(|_| kind != Kind::Pack)
                }
            };
            run.iter().for_each(|run| undone(&given, run));
            dumps();
            assert_eq!(given.world.far.below("/far/copy"), BTreeMap::new(), "{at}: an undo leaves nothing");
            if kind == Kind::Pack {
                fs::write(given.world.folder.join("site.tar.zst"), &packed).unwrap();
            }
        }
    }
    assert!(failed > 200 && went_on > 20, "{failed} {went_on}");
}

#[test]
fn a_name_that_a_host_cannot_hold_is_told_and_a_slow_host_is_asked_little() {
    let given = given(Variant::WordPress, ALL, true, Duration::from_micros(50));
    fs::write(given.site.join("日本.txt"), "no letters of an old character set").unwrap();
    let site = given.site.display().to_string();
    let failure = job(&given, Kind::Clone, copy(&given, &site, "/far/clone", true)).unwrap_err();
    let chain = std::iter::successors(Some(&failure as &dyn std::error::Error), |e| e.source());
    let told = chain.map(ToString::to_string).collect::<Vec<_>>().join(": ");
    assert!(told.contains("日本.txt") && told.contains("no such letters"), "{told}");
    undone(&given, &failure.run.unwrap());
    assert_eq!(given.world.far.below("/far/clone"), BTreeMap::new());

    let near = given.world.near.operations.load(SeqCst);
    job(&given, Kind::Clone, copy(&given, "/near/site", "/far/again", true)).unwrap();
    let read = given.world.near.operations.load(SeqCst) - near;
    let things = given.world.near.below("/near/site").len() as u64;
    // Lists of folders, and of each file its opening and reading: a survey, what is held of it, and the copy.
    assert!(read < 12 * things + 400, "{read} operations for {things} things");
}
