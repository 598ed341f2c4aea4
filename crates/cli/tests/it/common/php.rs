//! PHP as a web server for a restored site, and as a judge of what we wrote.

use super::mariadb::free_port;
use std::io::{Read, Write};
use std::net::TcpStream;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// A running `php -S`, stopped when dropped.
pub struct Php {
    child: Child,
    pub port: u16,
}

/// Says whether PHP with its database extension is there.
pub fn there() -> bool {
    let out = Command::new("php").arg("-m").output();
    let ready = out.is_ok_and(|o| String::from_utf8_lossy(&o.stdout).contains("mysqli"));
    ready || !super::missing("php-cli with php-mysql")
}

impl Php {
    /// Serves a folder. A site below a base path is served from the folder above it.
    pub fn serve(root: &Path, port: u16) -> Php {
        let child = Command::new("php")
            .args(["-S", &format!("127.0.0.1:{port}"), "-t"])
            .arg(root)
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let php = Php { child, port };
        let began = Instant::now();
        while TcpStream::connect(("127.0.0.1", port)).is_err() {
            assert!(began.elapsed() < Duration::from_secs(20), "php -S does not answer");
            std::thread::sleep(Duration::from_millis(30));
        }
        php
    }

    /// Fetches a page and returns status, headers and body. The host goes into the request, not into the connection.
    pub fn get(&self, host: &str, path: &str) -> (u16, String) {
        self.send(&format!("GET {path} HTTP/1.0\r\nHost: {host}\r\n\r\n"))
    }

    /// The same with cookies.
    pub fn get_with(&self, host: &str, path: &str, cookies: &str) -> (u16, String) {
        self.send(&format!("GET {path} HTTP/1.0\r\nHost: {host}\r\nCookie: {cookies}\r\n\r\n"))
    }

    /// Sends a form.
    pub fn post(&self, host: &str, path: &str, cookie: &str, form: &str) -> (u16, String) {
        self.send(&format!(
            "POST {path} HTTP/1.0\r\nHost: {host}\r\nCookie: {cookie}\r\nContent-Type: application/x-www-form-urlencoded\r\nContent-Length: {}\r\n\r\n{form}",
            form.len()
        ))
    }

    fn send(&self, request: &str) -> (u16, String) {
        let mut stream = TcpStream::connect(("127.0.0.1", self.port)).unwrap();
        stream.write_all(request.as_bytes()).unwrap();
        let mut answer = Vec::new();
        stream.read_to_end(&mut answer).unwrap();
        let answer = String::from_utf8_lossy(&answer).into_owned();
        let status = answer.split(' ').nth(1).and_then(|s| s.parse().ok()).unwrap_or(0);
        (status, answer)
    }
}

impl Drop for Php {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

pub fn port() -> u16 {
    free_port()
}

/// Runs a PHP script with arguments and returns what it printed; its failure is the test's.
#[track_caller]
pub fn run(script: &str, args: &[&Path]) -> String {
    let out = Command::new("php")
        .args(["-d", "error_reporting=-1", "-d", "memory_limit=2G", "-r", script, "--"])
        .args(args)
        .output()
        .unwrap();
    let text = String::from_utf8_lossy(&out.stdout).into_owned();
    assert!(out.status.success(), "{text}{}", String::from_utf8_lossy(&out.stderr));
    text
}

/// Lets PHP check a file's syntax.
#[track_caller]
pub fn lint(file: &Path) {
    let out = Command::new("php").arg("-l").arg(file).output().unwrap();
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stdout));
}
