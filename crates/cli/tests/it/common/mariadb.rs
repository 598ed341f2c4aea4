//! A MariaDB server of the tests' own: private data folder, socket and port, gone when the test process ends.

use super::NEW_PASSWORD;
use mysql::prelude::Queryable;
use mysql::{Conn, OptsBuilder};
use std::io::Write;
use std::net::TcpListener;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::OnceLock;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::{Duration, Instant};

/// A running server.
pub struct Server {
    pub port: u16,
    pub socket: String,
    folder: tempfile::TempDir,
    keeper: Child,
}

/// A database on it with a user of its own.
pub struct Database {
    pub name: String,
    pub user: String,
    pub password: String,
}

static SERVER: OnceLock<Option<Server>> = OnceLock::new();
static NUMBER: AtomicU32 = AtomicU32::new(1);

/// Returns the server, started on first use; nothing where MariaDB is not installed.
pub fn server() -> Option<&'static Server> {
    SERVER.get_or_init(|| start(true)).as_ref()
}

pub fn free_port() -> u16 {
    TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port()
}

fn start(shared: bool) -> Option<Server> {
    if !Path::new("/usr/sbin/mariadbd").exists() {
        super::missing("mariadb-server");
        return None;
    }
    let folder = tempfile::Builder::new().prefix("zpdb").tempdir().unwrap();
    let data = folder.path().join("data");
    let socket = folder.path().join("s").display().to_string();
    let user = run_as();
    let made = Command::new("mariadb-install-db")
        .args(["--no-defaults", "--auth-root-authentication-method=normal", "--skip-test-db", user])
        .arg(format!("--datadir={}", data.display()))
        // What makes the data is a server as well, and clears the folder for temporary tables that others may share.
        .arg(format!("--tmpdir={}", folder.path().display()))
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .status()
        .unwrap();
    assert!(made.success(), "mariadb-install-db failed");
    // Nothing drops what all tests share, so its keeper takes the folder away.
    // Chosen as late as can be: others that run meanwhile take free ports as well.
    let port = free_port();
    let keeper = keeper(&data, &socket, port, user, shared.then(|| folder.path()));
    let server = Server { port, socket, folder, keeper };
    server.wait();
    Some(server)
}

/// The shell waits for its standard input to close, which happens however this process ends, and then stops the server and removes what
/// is to go with it.
fn keeper(data: &Path, socket: &str, port: u16, user: &str, goes: Option<&Path>) -> Child {
    // Where a test has put a certificate, the server offers encryption.
    let (cert, key) = (data.with_file_name("cert.pem"), data.with_file_name("key.pem"));
    let tls = match cert.exists() {
        true => format!("--ssl-cert='{}' --ssl-key='{}'", cert.display(), key.display()),
        false => String::new(),
    };
    let script = format!(
        "/usr/sbin/mariadbd --no-defaults {user} --datadir='{}' --tmpdir='{}' --socket='{socket}' --port={port} --bind-address=127.0.0.1 \
         --innodb-buffer-pool-size=64M --skip-log-bin {tls} >'{}.log' 2>&1 & pid=$!; cat >/dev/null; kill $pid; wait $pid; {}",
        data.display(),
        // A server clears the folder for temporary tables when it starts: one that others use too would lose theirs.
        data.parent().unwrap_or(data).display(),
        data.display(),
        goes.map_or(String::new(), |folder| format!("rm -rf '{}'", folder.display()))
    );
    Command::new("sh").args(["-c", &script]).stdin(Stdio::piped()).spawn().unwrap()
}

fn run_as() -> &'static str {
    if is_root() { "--user=root" } else { "--skip-name-resolve" }
}

fn is_root() -> bool {
    Command::new("id").arg("-u").output().is_ok_and(|o| o.stdout.starts_with(b"0\n"))
}

impl Server {
    /// Starts a server of one test's own, which it may stop.
    pub fn private() -> Option<Server> {
        start(false)
    }

    fn wait(&self) {
        let began = Instant::now();
        while self.try_root().is_none() {
            assert!(began.elapsed() < Duration::from_secs(60), "MariaDB does not answer");
            std::thread::sleep(Duration::from_millis(50));
        }
    }

    /// Gives the server a certificate that nobody signed but itself; it is offered from the next start on.
    pub fn certify(&self) {
        let made = Command::new("openssl")
            .args(["req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj", "/CN=db.test"])
            .args(["-keyout", "key.pem", "-out", "cert.pem"])
            .current_dir(self.folder.path())
            .stderr(Stdio::null())
            .status();
        assert!(made.unwrap().success(), "openssl is needed");
    }

    /// Stops the server, whatever it is doing.
    pub fn stop(&mut self) {
        drop(self.keeper.stdin.take());
        self.keeper.wait().unwrap();
    }

    /// Starts it on the same data.
    pub fn start_again(&mut self) {
        self.keeper = keeper(&self.folder.path().join("data"), &self.socket, self.port, run_as(), None);
        self.wait();
    }

    /// Cuts the connections of a user as soon as there are any.
    pub fn cut_connections(&self, user: &str) {
        let mut root = self.root();
        for _ in 0..1000 {
            let sql = format!(
                "SELECT ID FROM information_schema.PROCESSLIST WHERE USER = '{user}' AND COMMAND = 'Query' AND INFO LIKE 'INSERT%'"
            );
            let found: Vec<u64> = root.query(sql).unwrap();
            if !found.is_empty() {
                for id in found {
                    let _ = root.query_drop(format!("KILL {id}"));
                }
                return;
            }
            std::thread::sleep(Duration::from_millis(2));
        }
        panic!("{user} never loaded anything");
    }

    /// Waits until a database holds so many tables.
    pub fn wait_for_tables(&self, database: &Database, wanted: u64) {
        let mut root = self.root();
        for _ in 0..2000 {
            let sql = format!(
                "SELECT COUNT(*) FROM information_schema.TABLES WHERE TABLE_SCHEMA = '{}'",
                database.name
            );
            if root.query_first(sql).unwrap() >= Some(wanted) {
                return;
            }
            std::thread::sleep(Duration::from_millis(2));
        }
        panic!(
            "{} was never filled: {:?}",
            database.name,
            root.query::<String, _>(format!("SHOW TABLES FROM {}", database.name))
        );
    }

    fn try_root(&self) -> Option<Conn> {
        Conn::new(
            OptsBuilder::new().socket(Some(self.socket.clone())).user(Some("root")).prefer_socket(false),
        )
        .ok()
    }

    pub fn root(&self) -> Conn {
        self.try_root().expect("the server answers")
    }

    /// Makes an empty database with a user who has rights on it and on nothing else.
    pub fn database(&self, password: &str) -> Database {
        let n = NUMBER.fetch_add(1, Ordering::Relaxed);
        let (name, user) = (format!("db_{n}"), format!("user_{n}"));
        let mut root = self.root();
        root.query_drop(format!("CREATE DATABASE {name} CHARACTER SET utf8mb4")).unwrap();
        for host in ["localhost", "127.0.0.1"] {
            let quoted = password.replace('\\', "\\\\").replace('\'', "\\'");
            root.query_drop(format!("CREATE USER '{user}'@'{host}' IDENTIFIED BY '{quoted}'")).unwrap();
            root.query_drop(format!("GRANT ALL ON {name}.* TO '{user}'@'{host}'")).unwrap();
        }
        Database { name, user, password: password.into() }
    }

    /// Makes an empty database with the password of all new ones.
    pub fn new_database(&self) -> Database {
        self.database(NEW_PASSWORD)
    }

    /// Loads a dump with the server's own client, as an administrator would.
    pub fn load_with_client(&self, database: &Database, dump: &str) {
        let mut client = Command::new("mariadb")
            .args([
                "--no-defaults",
                "-uroot",
                "--default-character-set=utf8mb4",
                "-S",
                &self.socket,
                &database.name,
            ])
            .stdin(Stdio::piped())
            .spawn()
            .unwrap();
        client.stdin.take().unwrap().write_all(dump.as_bytes()).unwrap();
        assert!(client.wait().unwrap().success());
    }

    /// Dumps a database with the server's own program, rows only, one per line: content to compare or to search.
    pub fn content(&self, database: &Database) -> String {
        let out = Command::new("mariadb-dump")
            .args([
                "--no-defaults",
                "-uroot",
                "--skip-extended-insert",
                "--compact",
                "--hex-blob",
                "-S",
                &self.socket,
                &database.name,
            ])
            .output()
            .unwrap();
        assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
        String::from_utf8_lossy(&out.stdout).into_owned()
    }
}

impl Database {
    pub fn tcp_url(&self, server: &Server) -> String {
        format!("mysql://{}@127.0.0.1:{}/{}", self.user, server.port, self.name)
    }

    pub fn socket_url(&self, server: &Server) -> String {
        format!("mysql://{}@localhost/{}?socket={}", self.user, self.name, server.socket)
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        // Before its folder goes.
        self.stop();
    }
}
