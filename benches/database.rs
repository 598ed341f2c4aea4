//! Loading, dumping, cloning and copying against the server's own programs and `cp`, on a private server.

use crate::measure::{Measured, median, run_prepared};
use crate::{dump, scratch, zporter};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};

/// A private MariaDB, stopped when it is dropped.
pub struct Server {
    keeper: Child,
    socket: String,
}

impl Server {
    fn start(folder: &Path) -> Server {
        let (data, socket) = (folder.join("data"), folder.join("s").display().to_string());
        let made = Command::new("mariadb-install-db")
            .args([
                "--no-defaults",
                "--auth-root-authentication-method=normal",
                "--skip-test-db",
                "--user=root",
            ])
            .arg(format!("--datadir={}", data.display()))
            .arg(format!("--tmpdir={}", folder.display()))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .status();
        assert!(made.is_ok_and(|s| s.success()), "MariaDB is needed");
        // The server is stopped when the shell's standard input closes, however this process ends.
        let script = format!(
            "/usr/sbin/mariadbd --no-defaults --user=root --datadir='{}' --tmpdir='{}' --socket='{socket}' --skip-networking --skip-log-bin \
             --innodb-buffer-pool-size=1G --innodb-log-file-size=512M >/dev/null 2>&1 & pid=$!; cat >/dev/null; kill $pid; wait $pid",
            data.display(),
            folder.display()
        );
        let keeper =
            Command::new("sh").args(["-c", &script]).stdin(Stdio::piped()).spawn().expect("sh is there");
        let server = Server { keeper, socket };
        while !server.client("", "SELECT 1").success() {
            std::thread::sleep(std::time::Duration::from_millis(100));
        }
        server
    }

    pub fn stock(&self) -> String {
        format!("mariadb --no-defaults -uroot --default-character-set=utf8mb4 -S '{}'", self.socket)
    }

    pub fn client(&self, database: &str, sql: &str) -> std::process::ExitStatus {
        let command = format!("{} {database} -e \"{sql}\" >/dev/null 2>&1", self.stock());
        Command::new("sh").args(["-c", &command]).status().expect("sh is there")
    }

    pub fn socket(&self) -> &str {
        &self.socket
    }

    pub fn url(&self, database: &str) -> String {
        format!("'mysql://root@localhost/{database}?socket={}'", self.socket)
    }

    pub fn emptied(&self, database: &str) -> String {
        format!(
            "{} -e 'DROP DATABASE IF EXISTS {database}; CREATE DATABASE {database} CHARACTER SET utf8mb4'",
            self.stock()
        )
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        drop(self.keeper.stdin.take());
        let _ = self.keeper.wait();
    }
}

/// Prints medians; the ratio is to the first line of the group.
pub fn show(commands: &[(&str, String, String)], runs: usize, bytes: u64) {
    let timed: Vec<(String, String)> =
        commands.iter().map(|(_, before, c)| (before.clone(), c.clone())).collect();
    let measured: Vec<Vec<Measured>> = run_prepared(&timed, runs);
    let seconds = |runs: &[Measured]| median(runs.iter().map(|r| r.seconds).collect());
    let yardstick = seconds(&measured[0]);
    for ((name, ..), runs) in commands.iter().zip(&measured) {
        let memory = runs.iter().map(|r| r.peak_kib).max().unwrap_or(0);
        println!(
            "{name:<46} {:>8.3} s  {:>6.0} MiB/s  {:>5.2} x  peak {:>6.1} MiB",
            seconds(runs),
            bytes as f64 / seconds(runs) / f64::from(1 << 20),
            yardstick / seconds(runs),
            memory as f64 / 1024.0
        );
    }
}

/// A server, and a dump of a shop to load into it; gone with this.
pub struct Ground {
    pub folder: PathBuf,
    server: Option<Server>,
    input: PathBuf,
    pub bytes: u64,
    /// How `zporter` is called.
    zp: String,
}

impl Ground {
    pub fn new(mib: u64) -> Self {
        let folder = scratch();
        let server = Some(Server::start(&folder));
        let input = folder.join("in.sql");
        dump::write(&input, mib << 20, 2);
        let bytes = std::fs::metadata(&input).map(|m| m.len()).unwrap_or_default();
        let zp = quiet(&folder);
        Ground { folder, server, input, bytes, zp }
    }

    pub fn server(&self) -> &Server {
        self.server.as_ref().expect("the server runs to the end")
    }

    pub fn load(&self, database: &str, connections: u64) -> String {
        let (zp, input, url) = (&self.zp, self.input.display(), self.server().url(database));
        format!("{zp} database load '{input}' {url} --connections {connections} >/dev/null")
    }
}

impl Drop for Ground {
    fn drop(&mut self) {
        drop(self.server.take());
        let _ = std::fs::remove_dir_all(&self.folder);
    }
}

/// Loading and dumping against the stock programs; a clone against a load.
pub fn compare(mib: u64, runs: usize) {
    let ground = Ground::new(mib);
    let (server, folder, bytes, zp) = (ground.server(), &ground.folder, ground.bytes, &ground.zp);
    let load = |database: &str, connections: u64| ground.load(database, connections);
    let (input, stock) = (ground.input.display().to_string(), server.stock());
    println!("loading {mib} MiB of extended inserts, medians of {runs}");
    show(
        &[
            ("stock client", server.emptied("a"), format!("{stock} a < '{input}'")),
            ("zporter, one connection", server.emptied("b"), load("b", 1)),
            ("zporter, two connections", server.emptied("c"), load("c", 2)),
        ],
        runs,
        bytes,
    );
    let single = folder.join("single.sql");
    single_rows(Path::new(&input), &single, 24 << 20);
    let some = std::fs::metadata(&single).map(|m| m.len()).unwrap_or_default();
    let single = single.display().to_string();
    println!("loading {} MiB of single-row inserts", some >> 20);
    show(
        &[
            ("stock client", server.emptied("d"), format!("{stock} d < '{single}'")),
            ("zporter, two connections", server.emptied("e"), load("e", 2).replace(&input, &single)),
        ],
        runs,
        some,
    );
    println!("dumping the same");
    let out = folder.join("out.sql").display().to_string();
    let gone = format!("rm -f '{out}'");
    show(
        &[
            (
                "stock dump program, one transaction",
                gone.clone(),
                format!(
                    "mariadb-dump --no-defaults -uroot -S '{}' --single-transaction --hex-blob --routines c > '{out}'",
                    server.socket
                ),
            ),
            ("zporter", gone, format!("{zp} database dump {} -o '{out}' >/dev/null", server.url("c"))),
        ],
        runs,
        bytes,
    );
    clone_against(&ground, runs);
}

/// A clone of the database `c`, rewritten on the way, against the load of the same rows from a dump.
fn clone_against(ground: &Ground, runs: usize) {
    println!("clone with rewriting, against the load alone");
    let (server, folder, zp) = (ground.server(), &ground.folder, &ground.zp);
    let site = shop(folder, server);
    show(
        &[
            ("zporter database load", server.emptied("f"), ground.load("f", 2)),
            (
                "zporter clone",
                format!("{}; rm -rf '{}'", server.emptied("g"), folder.join("copy").display()),
                format!(
                    "{zp} clone '{}' copy --address https://n.example --old-address http://www.fernhollow.example --database {} >/dev/null",
                    site.display(),
                    server.url("g")
                ),
            ),
            (
                "zporter clone --refresh, nothing changed",
                String::new(),
                format!(
                    "{zp} clone '{}' copy --refresh --old-address http://www.fernhollow.example >/dev/null",
                    site.display()
                ),
            ),
            (
                "zporter clone --refresh, rows of one table changed",
                format!(
                    "{} c -e 'UPDATE ps_t3 SET kind = kind + 1 LIMIT 100' 2>/dev/null || true",
                    server.stock()
                ),
                format!(
                    "{zp} clone '{}' copy --refresh --old-address http://www.fernhollow.example >/dev/null",
                    site.display()
                ),
            ),
            (
                "zporter clone --refresh, 1 % of the rows of all tables changed",
                format!(
                    "for t in $({0} -N c -e 'SHOW TABLES'); do {0} c -e \"UPDATE $t SET kind = kind + 1 WHERE id % 100 = 7\" 2>/dev/null || true; done",
                    server.stock()
                ),
                format!(
                    "{zp} clone '{}' copy --refresh --old-address http://www.fernhollow.example >/dev/null",
                    site.display()
                ),
            ),
        ],
        runs,
        ground.bytes,
    );
}

/// The clone alone.
pub fn clone(mib: u64, runs: usize) {
    let ground = Ground::new(mib);
    for command in [ground.server().emptied("c"), ground.load("c", 2)] {
        let done = Command::new("sh").args(["-c", &command]).status();
        assert!(done.is_ok_and(|s| s.success()), "{command}");
    }
    clone_against(&ground, runs);
}

/// How `zporter` is called in a folder, without a word.
pub fn quiet(folder: &Path) -> String {
    let program = zporter();
    format!("cd '{}' && ZPORTER_DATABASE_PASSWORD= HOME=. '{}' -q", folder.display(), program.display())
}

/// Writes the first rows of a dump as an insert each.
fn single_rows(input: &Path, output: &Path, most: usize) {
    let text = std::fs::read_to_string(input).expect("the dump can be read");
    let mut out = String::new();
    for line in text.lines() {
        match line.split_once(" VALUES ") {
            Some((head, rows)) if line.starts_with("INSERT INTO") => {
                for row in rows.trim_end_matches(';').split("),(") {
                    let row = row.trim_start_matches('(').trim_end_matches(')');
                    out.push_str(&format!("{head} VALUES ({row});\n"));
                    if out.len() > most {
                        break;
                    }
                }
            }
            _ => {
                out.push_str(line);
                out.push('\n');
            }
        }
        if out.len() > most {
            break;
        }
    }
    std::fs::write(output, out).expect("the dump can be written");
}

/// A shop whose database is the loaded one.
pub fn shop(folder: &Path, server: &Server) -> PathBuf {
    let site = folder.join("old");
    std::fs::create_dir_all(site.join("config")).expect("the site can be written");
    let config = format!(
        "<?php\ndefine('_DB_SERVER_', 'localhost:{}');\ndefine('_DB_NAME_', 'c');\ndefine('_DB_USER_', 'root');\n\
         define('_DB_PASSWD_', '');\ndefine('_DB_PREFIX_', 'ps_');\ndefine('_COOKIE_KEY_', 'fake');\ndefine('_PS_VERSION_', '1.6.1.24');\n",
        server.socket
    );
    std::fs::write(site.join("config/settings.inc.php"), config).expect("the site can be written");
    site
}

/// Copying many files against `cp -a`, and bringing an unchanged copy up to date.
pub fn files(count: u64, runs: usize) {
    let folder = scratch();
    let server = Server::start(&folder);
    server.client("", "CREATE DATABASE c; CREATE TABLE c.ps_x (a int)");
    let site = shop(&folder, &server);
    let mut noise = dump::Noise::new(7);
    let mut bytes = 0;
    for i in 0..count {
        let place = site.join(format!("img/p/{}/{}", i % 97, i % 13));
        std::fs::create_dir_all(&place).expect("the site can be written");
        let content = noise.bytes(500 + (i as usize * 7919) % 40_000);
        bytes += content.len() as u64;
        std::fs::write(place.join(format!("{i}.jpg")), content).expect("the site can be written");
    }
    let zp = quiet(&folder);
    let clone = format!(
        "{zp} clone old copy --without database --address https://n.example --old-address http://www.fernhollow.example"
    );
    // What one run leaves to be written to the disk would be the next one's burden.
    let gone = format!("rm -rf '{}'; sync", folder.join("copy").display());
    println!("copying {count} files, medians of {runs}");
    show(
        &[
            ("cp -a", gone.clone(), format!("cd '{}' && cp -a old copy", folder.display())),
            ("zporter clone", gone, format!("{clone} >/dev/null")),
            (
                "zporter clone --refresh, nothing changed",
                String::new(),
                format!("{clone} --refresh >/dev/null"),
            ),
        ],
        runs,
        bytes,
    );
    drop(server);
    let _ = std::fs::remove_dir_all(folder);
}
