//! The machine at hand, as far as a site depends on it, against the one that packed an archive.

use crate::archive::format::Machine;
use crate::finding::{Code, Finding};
use crate::survey::recognise::ConfigFacts;
use crate::system::schema::Role;
use crate::tree::Tree;
use std::path::Path;
use std::process::{Command, Stdio};

/// Runs code by the PHP that a shell finds, with its usual settings, or with none where it does not start with them. Returns what it printed.
pub(crate) fn ask_php(code: &str) -> Option<String> {
    let run = |args: &[&str]| Command::new("php").args(args).stdin(Stdio::null()).output().ok();
    let usual = run(&["-r", code])?;
    let told = if usual.status.success() { usual } else { run(&["-n", "-r", code])? };
    Some(String::from_utf8_lossy(&told.stdout).into_owned())
}

/// The name of the machine at hand.
pub(crate) fn host() -> String {
    rustix::system::uname().nodename().to_string_lossy().into_owned()
}

/// The machine at hand, with a server that was asked already.
pub(crate) fn here(database_server: Option<String>) -> Machine {
    let php = ask_php("echo PHP_VERSION;").filter(|v| v.starts_with(|c: char| c.is_ascii_digit()));
    Machine { host: host(), php, database_server }
}

/// Says what is different here from where an archive was packed. On the same machine nothing is said.
pub(crate) fn differences(
    was: &Machine,
    here: &Machine,
    facts: &ConfigFacts,
    site: &Path,
    tree: &dyn Tree,
) -> Vec<Finding> {
    if was.host == here.host {
        return Vec::new();
    }
    let what = format!("the archive was packed on {}, and this is {}", was.host, here.host);
    let cure = "nothing, if the site is meant to be here; what differs stands beside";
    let mut out = vec![Finding::new(Code::OtherMachine, what, "", cure)];
    let mut differs = |what: String, at: String, cure: &str| {
        out.push(Finding::new(Code::MachineDiffers, what, at, cure));
    };
    let versions = [
        ("PHP", &was.php, &here.php, "`zporter diagnose` says whether it fits the site"),
        ("database server", &was.database_server, &here.database_server, "look at the site when it is back"),
    ];
    for (name, was, here, cure) in versions {
        match (was, here) {
            (Some(was), Some(here)) if was != here => {
                differs(format!("{name}: {was} where it was packed, {here} here"), String::new(), cure);
            }
            (Some(was), None) => {
                differs(format!("{name}: {was} where it was packed, none here"), String::new(), cure);
            }
            _ => {}
        }
    }
    for value in facts.values.iter().filter(|v| matches!(v.role, Role::Path | Role::Storage)) {
        let Some(path) = value.value.as_deref().filter(|v| v.starts_with('/')) else { continue };
        if !Path::new(path).starts_with(site) && !tree.exists(Path::new(path)) {
            let cure = "make it, or set the value anew when the site is back";
            differs(
                format!("`{}` names a folder that is not here: {path}", value.key),
                format!("{}, line {}", value.file, value.line),
                cure,
            );
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::survey::recognise::ConfigValue;
    use crate::tree::LocalTree;

    #[test]
    fn another_machine_is_told_with_what_differs_and_the_same_one_is_not() {
        let machine = |host: &str, php: Option<&str>, server: &str| Machine {
            host: host.into(),
            php: php.map(str::to_string),
            database_server: Some(server.into()),
        };
        let folder = tempfile::tempdir().unwrap();
        let value = |key: &str, path: &str| ConfigValue {
            file: "c.php".into(),
            key: key.into(),
            role: Role::Path,
            value: Some(path.into()),
            line: 3,
            unknown: None,
        };
        let there = folder.path().display().to_string();
        let values = vec![
            value("tmp", "/srv/none/tmp"),
            value("log", &there),
            value("own", "/srv/site/logs"),
            value("url", "x"),
        ];
        let facts = ConfigFacts { values, ..ConfigFacts::default() };
        let tree = LocalTree::at(folder.path());
        let told = |was: Machine, here: Machine| -> Vec<String> {
            let found = differences(&was, &here, &facts, Path::new("/srv/site"), &*tree);
            found.into_iter().map(|f| f.what).collect()
        };
        let (old, new) =
            (machine("a", Some("8.1.2"), "MariaDB 10.6"), machine("b", Some("8.1.2"), "MariaDB 10.11"));
        assert!(told(old.clone(), old.clone()).is_empty());
        assert_eq!(
            told(old.clone(), new),
            [
                "the archive was packed on a, and this is b",
                "database server: MariaDB 10.6 where it was packed, MariaDB 10.11 here",
                "`tmp` names a folder that is not here: /srv/none/tmp",
            ]
        );
        let none = machine("b", None, "MariaDB 10.6");
        assert_eq!(told(old, none)[1], "PHP: 8.1.2 where it was packed, none here");
    }
}
