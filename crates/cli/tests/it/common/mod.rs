//! A test's own folder with a command builder, a private MariaDB and a private PHP server.

pub mod apache;
pub mod mariadb;
pub mod names;
pub mod nginx;
pub mod php;
pub mod postgres;

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Duration;
use tempfile::TempDir;
use zporter_standin::{Site, Variant};

/// A folder of the test's own, and the environment that `zporter` sees.
pub struct Bench {
    folder: TempDir,
}

/// What a run printed and how it ended.
#[derive(Debug)]
pub struct Outcome {
    pub code: i32,
    pub stdout: String,
    pub stderr: String,
}

impl Outcome {
    /// Expects an exit code and returns the outcome.
    #[track_caller]
    pub fn expect(self, code: i32) -> Outcome {
        assert_eq!(self.code, code, "stdout:\n{}\nstderr:\n{}", self.stdout, self.stderr);
        self
    }

    /// Expects texts in what was printed, wherever.
    #[track_caller]
    pub fn says(self, texts: &[&str]) -> Outcome {
        let all = format!("{}{}", self.stdout, self.stderr);
        for text in texts {
            assert!(all.contains(text), "{text:?} is not in:\n{all}");
        }
        self
    }

    /// Reads stdout as one JSON document, which every command prints in the same frame.
    #[track_caller]
    pub fn document(&self) -> serde_json::Value {
        let document: serde_json::Value = serde_json::from_str(&self.stdout)
            .unwrap_or_else(|e| panic!("{e}:\n{}\n{}", self.stdout, self.stderr));
        assert_eq!(document["exit"], self.code, "{document}");
        document
    }

    /// Returns the result in the document, with the run and the findings beside it.
    #[track_caller]
    pub fn json(&self) -> serde_json::Value {
        result_of(&self.document())
    }
}

/// Returns the result of a document, with the run and the findings beside it.
pub fn result_of(document: &serde_json::Value) -> serde_json::Value {
    let mut result = document["result"].clone();
    if let Some(map) = result.as_object_mut() {
        map.insert("findings".into(), document["findings"].clone());
        map.entry("run").or_insert(document["run"].clone());
    }
    result
}

impl Bench {
    pub fn new() -> Bench {
        // A name with a space and a letter beyond ASCII, so that every test meets them.
        let folder = tempfile::Builder::new().prefix("zp ö ").tempdir().unwrap();
        // As on a web host: what lies there is the web server's. Who is not root may not give it away, and need not.
        let _ = std::os::unix::fs::chown(folder.path(), Some(33), Some(33));
        Bench { folder }
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    pub fn command(&self, args: &[&str]) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_zporter"));
        command.args(args).current_dir(self.folder.path()).env_clear();
        command
            .env("HOME", self.path("home"))
            .env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin")
            .env("NO_COLOR", "1");
        command.env("ZPORTER_DATABASE_PASSWORD", NEW_PASSWORD);
        command
    }

    #[must_use = "check the exit code or what was said"]
    pub fn run(&self, args: &[&str]) -> Outcome {
        outcome(self.command(args))
    }

    /// Writes a stand-in as `old/` and its dump as `old.sql`.
    pub fn site(&self, variant: Variant) -> Site {
        let site = Site::of(variant);
        site.write(&self.path("old")).unwrap();
        self.write("old.sql", site.dump_file());
        site
    }

    /// Writes a stand-in as `old/` whose database stands on the server, filled.
    pub fn live(&self, server: &mariadb::Server, variant: Variant) -> (Site, mariadb::Database) {
        let old = server.database("fake'Old\\pass %31");
        let mut site = Site::of(variant);
        site.root = self.path("old").display().to_string();
        // One kind of connection URL knows no socket.
        let host = match variant {
            Variant::Drupal6 => format!("127.0.0.1:{}", server.port),
            _ => format!("localhost:{}", server.socket),
        };
        site.database = [host, old.user.clone(), old.password.clone(), old.name.clone()];
        site.write(&self.path("old")).unwrap();
        server.load_with_client(&old, &site.dump());
        (site, old)
    }

    /// Writes a stand-in and packs it as `name`.
    pub fn packed(&self, variant: Variant, name: &str) -> Site {
        let site = self.site(variant);
        self.run(&["pack", "old", "--dump", "old.sql", "-o", name]).expect(0).says(&["Packed"]);
        site
    }

    /// Returns the identifier of the newest run.
    pub fn last_run(&self) -> String {
        self.run(&["logbook", "--json"]).json()[0]["run"].as_str().unwrap().to_string()
    }

    /// Lets a command run for a while and kills it then. Returns true if it had not noted its end yet: one that is killed behind that
    /// note has done its work.
    pub fn killed(&self, args: &[&str], after: Duration) -> bool {
        let newest = || {
            let newest = self.run(&["logbook", "--json"]).json()[0].clone();
            (newest["run"].clone(), newest["state"] == "done")
        };
        let (before, command) = (newest(), &mut self.command(args));
        let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        std::thread::sleep(after);
        let _ = child.kill();
        let ended = child.wait().unwrap().code().is_some();
        let (run, done) = newest();
        !ended && (run == before.0 || !done)
    }

    /// Runs a command and kills it as soon as its record says so. Returns false if it had come to its end.
    pub fn killed_when(&self, args: &[&str], says: &str) -> bool {
        let folder = self.path("home/.local/share/zporter/logbook");
        let records = || -> Vec<PathBuf> {
            let found = std::fs::read_dir(&folder).into_iter().flatten().flatten();
            found.map(|e| e.path()).filter(|p| p.is_file()).collect()
        };
        let before = records();
        let mut child = self.command(args).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        while child.try_wait().unwrap().is_none() {
            let mut new = records().into_iter().filter(|p| !before.contains(p));
            if new.any(|p| std::fs::read(p).is_ok_and(|text| holds(&text, says))) {
                let _ = child.kill();
                return !child.wait().unwrap().success();
            }
            std::thread::sleep(Duration::from_millis(1));
        }
        false
    }

    pub fn write(&self, name: &str, content: impl AsRef<[u8]>) {
        std::fs::write(self.path(name), content).unwrap();
    }

    pub fn read(&self, name: &str) -> String {
        String::from_utf8_lossy(&std::fs::read(self.path(name)).unwrap()).into_owned()
    }
}

#[must_use = "check the exit code or what was said"]
pub fn outcome(mut command: Command) -> Outcome {
    let done = command.output().unwrap();
    Outcome {
        code: done.status.code().unwrap_or_else(|| panic!("ended by a signal: {done:?}")),
        stdout: String::from_utf8_lossy(&done.stdout).into_owned(),
        stderr: String::from_utf8_lossy(&done.stderr).into_owned(),
    }
}

/// Sends a signal, such as `-INT`, to a running command.
pub fn signal(child: &std::process::Child, name: &str) {
    Command::new("kill").args([name, &child.id().to_string()]).status().unwrap();
}

/// The password of every new database: with everything that needs escaping.
pub const NEW_PASSWORD: &str = r#"n'e"w\P$1 ü"#;

/// How many points of a run are killed in a test: some in every run, more when asked for.
pub fn kill_points(usual: u64) -> u64 {
    std::env::var("ZPORTER_TEST_KILLS").ok().and_then(|n| n.parse().ok()).unwrap_or(usual)
}

/// Lists the files below a folder as (path, bytes).
pub fn files(folder: &Path) -> Vec<(PathBuf, Vec<u8>)> {
    let mut out = Vec::new();
    let mut todo = vec![folder.to_path_buf()];
    while let Some(dir) = todo.pop() {
        for entry in std::fs::read_dir(dir).unwrap().flatten() {
            let path = entry.path();
            if entry.file_type().unwrap().is_dir() {
                todo.push(path);
            // What a copy knows of itself names the run that made it.
            } else if entry.file_type().unwrap().is_file() && entry.file_name() != ".zporter-copy.json" {
                out.push((path.strip_prefix(folder).unwrap().to_path_buf(), std::fs::read(&path).unwrap()));
            }
        }
    }
    out.sort();
    out
}

/// Says whether bytes hold a text.
pub fn holds(bytes: &[u8], text: &str) -> bool {
    bytes.windows(text.len()).any(|w| w == text.as_bytes())
}

/// Nothing names the old host, root or password that the report does not list.
#[track_caller]
pub fn nothing_points_back(report: &serde_json::Value, site: &Site, target: &Path, content: &str) {
    let host = site.address.split("://").nth(1).unwrap().split('/').next().unwrap();
    let listed: Vec<&str> =
        report["leftovers"].as_array().unwrap().iter().map(|l| l["path"].as_str().unwrap()).collect();
    for (path, bytes) in files(target) {
        for old in [host, &site.root, &site.database[2], "fernhollow_web"] {
            if holds(&bytes, old) {
                let path = path.display().to_string();
                assert!(
                    listed.contains(&path.as_str()),
                    "{path} names {old} and is not listed in {listed:?}"
                );
            }
        }
    }
    let mut left = 0;
    for table in report["tally"]["tables"].as_object().unwrap().values() {
        for column in table["columns"].as_object().unwrap().values() {
            left += column["left"].as_object().unwrap().values().map(|n| n.as_u64().unwrap()).sum::<u64>();
        }
    }
    // Names of a site that stay, and are told.
    let kept = report["declared_values"].as_array().unwrap().iter();
    left += kept.filter(|c| c["old"] == c["new"] && c["old"].as_str().unwrap().contains(host)).count() as u64;
    let there = content.matches(host).count() + content.matches(&site.root).count();
    assert!(there as u64 <= left, "{there} mentions in the database, {left} in the report:\n{content}");
}

/// A server that a test needs is missing: an error in CI, a named skip on a laptop.
pub fn missing(what: &str) -> bool {
    assert!(std::env::var_os("CI").is_none(), "{what} is not installed; scripts/test installs it");
    eprintln!("SKIPPED: {what} is not installed; scripts/test installs it");
    true
}
