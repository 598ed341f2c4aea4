//! Logbook, jobs, atomic writes: what must survive an interruption.

use serde_json::{Map, Value, json};
use std::fs::{self, Permissions};
use std::os::unix::fs::PermissionsExt;
use std::path::PathBuf;
use zporter_core::fsx::{absolute, free_space};
use zporter_core::job::{Job, Kind};
use zporter_core::logbook::{self, Outcome, Run, StepKind};
use zporter_core::tree::write_atomically;

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
    first.step(StepKind::WriteArchive, serde_json::Value::Null).unwrap();
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

/// Options of every command that runs jobs, with a value for each option.
fn full(kind: Kind) -> Map<String, Value> {
    let schema = kind.schema();
    let properties = schema.get("properties").and_then(Value::as_object).cloned().unwrap();
    let word = |name: &str, property: &Value| -> Value {
        let shown = property.to_string();
        let pair = shown.contains("prefixItems");
        let one = match name {
            "only" | "without" => json!("images/*.jpg"),
            "rows" => json!("log*=structure"),
            "set" | "while" => json!("mail=off"),
            "substitute" => json!("a_ci=b_ci"),
            "events" => json!("on"),
            "dialect" => json!("postgres"),
            "part-size" => json!("50M"),
            "admin-email" => json!("office@fernhollow.example"),
            "admin" => json!("mysql://root@db.example"),
            "address" | "old-address" | "old-alias" | "map" => json!("https://fernhollow.example/x"),
            "at" | "beside-at" | "resolver" | "name-server" => json!("203.0.113.7:8443"),
            "delay" | "slow" | "patience" => json!("0.5"),
            "beside" => json!("https://old.fernhollow.example"),
            "root" | "old-root" => json!("/home/fernhollow/public_html"),
            "database" | "old-database" if kind != Kind::Readdress => json!("mysql://u@h.example/n"),
            _ if shown.contains("\"boolean\"") => return json!(true),
            _ if shown.contains("\"integer\"") => return json!(3),
            _ => json!("/srv/x y/ü"),
        };
        match (property["type"] == "array" || property["items"].is_object(), pair) {
            (_, true) if property["items"].is_object() => json!([[one, one]]),
            (_, true) => json!([one, one]),
            (true, false) => json!([one]),
            (false, false) => one,
        }
    };
    properties.iter().map(|(name, property)| (name.clone(), word(name, property))).collect()
}

#[test]
fn every_option_of_every_job_reads_back_from_a_file() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("it's a job.toml");
    for kind in Kind::ALL {
        let options = full(kind);
        let job = kind.job(options.clone()).unwrap_or_else(|e| panic!("{kind:?}: {e}"));
        assert_eq!(job.options(), options, "{kind:?}: nothing is lost or added");
        job.write(&path).unwrap();
        assert_eq!(Job::read(&path).unwrap(), job, "{}", fs::read_to_string(&path).unwrap());
    }
}

#[test]
fn mistakes_in_a_job_file_are_told_with_their_option() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("job.toml");
    let copy = "source='/a'\ntarget='/b'\naddress='https://x.example'\n";
    for (text, words) in [
        ("job = 'dance'\n".to_string(), "dance"),
        (copy.to_string(), "no line says which job"),
        ("job = 'restore'\ntarget='/b'".into(), "source is missing"),
        (format!("job = 'restore'\n{copy}database_password='x'"), "\"database_password\""),
        (format!("job = 'restore'\n{copy}refresh=true"), "\"refresh\""),
        (format!("job = 'restore'\n{copy}set=['mail']"), "set: \"mail\" is no switch"),
        (format!("job = 'clone'\n{copy}rows=['x=some']"), "rows: \"x=some\" does not say"),
        (format!("job = 'clone'\n{copy}old-alias=['ftp://y.example']"), "old-alias: the address"),
        (format!("job = 'clone'\n{copy}database='mysql://u:secret@h/n'"), "database: the database URL holds"),
        (format!("job = 'clone'\n{copy}only=['databse']"), "only: \"databse\" is no part"),
        (format!("job = 'clone'\n{copy}admin-email='nomail'"), "admin-email: \"nomail\" is no e-mail"),
    ] {
        fs::write(&path, &text).unwrap();
        let error = Job::read(&path).unwrap_err().to_string();
        assert!(error.contains(words), "{error}\n{text}");
        assert!(!error.contains("secret"), "{error}");
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
