//! A PostgreSQL server of one test's own: private data folder and socket, no port, stopped when it is dropped.

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

/// A running server.
pub struct Server {
    bin: PathBuf,
    folder: tempfile::TempDir,
    as_root: bool,
}

impl Server {
    /// Starts a server; nothing where PostgreSQL is not installed.
    pub fn start() -> Option<Self> {
        let versions = std::fs::read_dir("/usr/lib/postgresql").into_iter().flatten().flatten();
        let Some(bin) = versions.map(|v| v.path().join("bin")).find(|b| b.join("initdb").exists()) else {
            super::missing("postgresql");
            return None;
        };
        let folder = tempfile::Builder::new().prefix("zppg").tempdir().unwrap();
        let as_root = Command::new("id").arg("-u").output().is_ok_and(|o| o.stdout.starts_with(b"0\n"));
        let server = Server { bin, folder, as_root };
        if as_root {
            // The server refuses to run as root.
            let given = Command::new("chown").args(["-R", "postgres"]).arg(server.folder.path()).status();
            assert!(given.unwrap().success());
        }
        let data = server.folder.path().join("data").display().to_string();
        server.run(
            "initdb",
            &["-D", &data, "-A", "trust", "-U", "zp", "-E", "UTF8", "--no-locale", "--no-sync"],
        );
        server.start_again();
        Some(server)
    }

    /// Starts it on the same data.
    pub fn start_again(&self) {
        let in_folder = |name: &str| self.folder.path().join(name).display().to_string();
        let socket = format!("-k '{}' -h ''", self.folder());
        self.run(
            "pg_ctl",
            &["-D", &in_folder("data"), "-o", &socket, "-l", &in_folder("log"), "-w", "-s", "start"],
        );
    }

    /// Stops it, whatever it is doing.
    pub fn stop(&self) {
        let data = self.folder.path().join("data").display().to_string();
        self.run("pg_ctl", &["-D", &data, "-m", "immediate", "-s", "stop"]);
    }

    fn command(&self, program: &str) -> Command {
        let program = self.bin.join(program);
        if !self.as_root {
            return Command::new(program);
        }
        let mut command = Command::new("runuser");
        command.args(["-u", "postgres", "--"]).arg(program).current_dir(self.folder.path());
        command
    }

    fn run(&self, program: &str, args: &[&str]) {
        let ended = self.command(program).args(args).stdout(Stdio::null()).stderr(Stdio::piped()).output();
        let ended = ended.unwrap();
        assert!(ended.status.success(), "{program}: {}", String::from_utf8_lossy(&ended.stderr));
    }

    fn client(&self, program: &str) -> Command {
        let mut command = self.command(program);
        command.args(["-h", &self.folder.path().display().to_string(), "-U", "zp"]);
        command
    }

    /// Returns the folder of the socket.
    pub fn folder(&self) -> String {
        self.folder.path().display().to_string()
    }

    /// Returns the URL of a database.
    pub fn url(&self, database: &str) -> String {
        format!("postgres://zp@localhost/{database}?socket={}", self.folder.path().display())
    }

    /// Takes a database away.
    pub fn drop(&self, name: &str) {
        let ended = self.client("dropdb").arg(name).output().unwrap();
        assert!(ended.status.success(), "{}", String::from_utf8_lossy(&ended.stderr));
    }

    /// Makes an empty database.
    pub fn create(&self, name: &str) {
        let ended = self.client("createdb").arg(name).output().unwrap();
        assert!(ended.status.success(), "{}", String::from_utf8_lossy(&ended.stderr));
    }

    /// Runs SQL from a file, as an administrator would, and returns what it prints.
    pub fn load(&self, database: &str, file: &Path) -> String {
        let mut command = self.client("psql");
        command.args(["-d", database, "-v", "ON_ERROR_STOP=1", "-q", "-A", "-t"]);
        let ended = command.stdin(std::fs::File::open(file).unwrap()).output().unwrap();
        assert!(
            ended.status.success(),
            "{}\n{}",
            String::from_utf8_lossy(&ended.stderr),
            std::fs::read_to_string(file).unwrap_or_default()
        );
        String::from_utf8(ended.stdout).unwrap()
    }

    /// Dumps a database with the server's own program.
    pub fn dump(&self, database: &str, options: &[&str]) -> String {
        let ended = self.client("pg_dump").args(options).arg(database).output().unwrap();
        assert!(ended.status.success(), "{}", String::from_utf8_lossy(&ended.stderr));
        String::from_utf8(ended.stdout).unwrap()
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        let data = self.folder.path().join("data").display().to_string();
        let _ = self.command("pg_ctl").args(["-D", &data, "-m", "immediate", "-s", "stop"]).status();
    }
}
