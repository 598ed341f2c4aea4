//! Dumping and loading a large PostgreSQL database against the server's own programs, on a private server.

use crate::database::{quiet, show};
use crate::scratch;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};

/// A private PostgreSQL, stopped when it is dropped.
struct Server {
    keeper: Child,
    bin: PathBuf,
    folder: PathBuf,
}

impl Server {
    fn start(folder: &Path) -> Server {
        let versions = std::fs::read_dir("/usr/lib/postgresql").into_iter().flatten().flatten();
        let bin = versions.map(|v| v.path().join("bin")).find(|b| b.join("initdb").exists());
        let bin = bin.expect("PostgreSQL is needed");
        // The server refuses to run as root; it is stopped when the shell's standard input closes, however this process ends.
        let script = format!(
            "cd '{0}' && if [ $(id -u) = 0 ]; then chown postgres . && as='runuser -u postgres --'; fi; \
             $as '{1}/initdb' -D '{0}/data' -A trust -U zp -E UTF8 --no-locale --no-sync >/dev/null && \
             $as '{1}/pg_ctl' -D '{0}/data' -o \"-k '{0}' -h '' -c shared_buffers=1GB -c max_wal_size=4GB\" -l '{0}/log' -w -s start && \
             touch ready; cat >/dev/null; $as '{1}/pg_ctl' -D '{0}/data' -m immediate -s stop",
            folder.display(),
            bin.display()
        );
        let keeper =
            Command::new("sh").args(["-c", &script]).stdin(Stdio::piped()).spawn().expect("sh is there");
        while !folder.join("ready").exists() {
            std::thread::sleep(std::time::Duration::from_millis(100));
        }
        Server { keeper, bin, folder: folder.to_path_buf() }
    }

    fn stock(&self, program: &str) -> String {
        format!("'{}/{program}' -h '{}' -U zp", self.bin.display(), self.folder.display())
    }

    fn url(&self, database: &str) -> String {
        format!("'postgres://zp@localhost/{database}?socket={}'", self.folder.display())
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        drop(self.keeper.stdin.take());
        let _ = self.keeper.wait();
    }
}

/// Tables of a shop, made by the server itself: name, and share of the rows in percent.
const TABLES: [(&str, u64); 4] = [("article", 40), ("visit", 30), ("message", 20), ("order_line", 10)];

fn fill(table: &str, rows: u64) -> String {
    format!(
        "CREATE TABLE {table} (id int PRIMARY KEY, title text, body text, params jsonb, price numeric(9,2), made timestamptz); \
         INSERT INTO {table} SELECT i, 'Orion over the dome ' || i, repeat('the night sky is dark and clear, members observe with care ' || i || ' ', 8), \
         json_build_object('url', 'http://www.fernhollow.example/x/' || i, 'n', i)::jsonb, i / 7.0, '2026-03-01 20:15:00+01'::timestamptz + i * interval '1 second' \
         FROM generate_series(1, {rows}) i; CREATE INDEX {table}_made ON {table} (made); "
    )
}

/// Compares dumps and loads of a database of so many MiB.
pub fn compare(mib: u64, runs: usize) {
    let folder = scratch();
    let server = Server::start(&folder);
    let run = |command: String| {
        let done = Command::new("sh").args(["-c", &command]).stdout(Stdio::null()).status();
        assert!(done.is_ok_and(|s| s.success()), "{command}");
    };
    let tables: String = TABLES.iter().map(|(table, share)| fill(table, mib * 15 * share)).collect();
    run(format!("{} a && {} -q -d a -c \"{tables}ANALYZE\"", server.stock("createdb"), server.stock("psql")));
    let zp = quiet(&folder);
    let [theirs, ours] = ["theirs.sql", "ours.sql"].map(|n| folder.join(n).display().to_string());
    println!("dumping a database of PostgreSQL, medians of {runs}");
    run(format!("{} a > '{theirs}'", server.stock("pg_dump")));
    let bytes = std::fs::metadata(&theirs).map(|m| m.len()).unwrap_or_default();
    show(
        &[
            (
                // Ours is on disk when the command ends, so theirs has to be.
                "stock dump program, synced",
                format!("rm -f '{theirs}'"),
                format!("{} a > '{theirs}' && sync '{theirs}'", server.stock("pg_dump")),
            ),
            (
                "zporter, synced",
                format!("rm -f '{ours}'"),
                format!("{zp} database dump {} -o '{ours}' >/dev/null", server.url("a")),
            ),
        ],
        runs,
        bytes,
    );
    println!("loading it");
    let anew = format!("{} --if-exists b; {} b", server.stock("dropdb"), server.stock("createdb"));
    show(
        &[
            (
                "stock client",
                anew.clone(),
                format!("{} -q -d b < '{theirs}' >/dev/null", server.stock("psql")),
            ),
            (
                "zporter, one connection",
                anew.clone(),
                format!("{zp} database load '{theirs}' {} --connections 1 >/dev/null", server.url("b")),
            ),
            (
                "zporter, two connections",
                anew,
                format!("{zp} database load '{theirs}' {} >/dev/null", server.url("b")),
            ),
        ],
        runs,
        bytes,
    );
    drop(server);
    let _ = std::fs::remove_dir_all(folder);
}
