//! Lets Chromium draw pages, over its own protocol (the DevTools protocol: JSON messages, each ended by a zero byte, over a pair of pipes), so
//! that a telephone's width is one, and a page is drawn when it is loaded.

use serde_json::{Value, json};
use std::io::{Read, Write};
use std::os::unix::fs::PermissionsExt;
use std::path::PathBuf;
use std::process::{Child, ChildStdin, Command, Stdio};
use std::sync::mpsc::{Receiver, RecvTimeoutError, channel};
use std::time::{Duration, Instant};
use url::Url;

/// Where it lies on the machines that have it.
const PLACES: [&str; 5] = [
    "/usr/bin/chromium",
    "/usr/bin/chromium-browser",
    "/snap/bin/chromium",
    "/usr/bin/google-chrome-stable",
    "/usr/bin/google-chrome",
];

/// Rest behind the loading of a page, for what scripts still draw.
const SETTLE: Duration = Duration::from_millis(250);
/// Largest message that is taken.
const LARGEST: usize = 64 << 20;

/// Looks for the browser.
pub fn find() -> Option<PathBuf> {
    PLACES.iter().map(PathBuf::from).find(|p| p.exists())
}

/// A window.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Window {
    /// What it stands for: `desktop`, `phone`.
    pub name: &'static str,
    /// Width in points.
    pub width: u32,
    /// Height in points.
    pub height: u32,
    /// Whether it is a telephone's.
    pub mobile: bool,
}

/// The windows in which pages are drawn.
pub const WINDOWS: [Window; 2] = [
    Window { name: "desktop", width: 1280, height: 800, mobile: false },
    Window { name: "phone", width: 390, height: 844, mobile: true },
];

/// A running browser, ended when dropped.
pub struct Browser {
    child: Child,
    input: ChildStdin,
    messages: Receiver<Value>,
    number: u64,
    session: String,
    patience: Duration,
    // Removed behind the process.
    _folder: tempfile::TempDir,
}

impl std::fmt::Debug for Browser {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Browser").field("process", &self.child.id()).finish()
    }
}

/// Why there is no picture.
#[derive(Debug, thiserror::Error)]
pub enum BrowserError {
    /// It cannot be started.
    #[error("the browser cannot be started")]
    Start(#[source] std::io::Error),
    /// It ended.
    #[error("the browser ended")]
    Ended,
    /// It took too long.
    #[error("the browser does not answer")]
    Slow,
    /// It refuses something.
    #[error("the browser says: {0}")]
    Says(String),
}

impl Browser {
    /// Starts it. Hosts, with a port or without, are asked where the rules say.
    pub fn start(
        program: &std::path::Path,
        at: &[(String, String)],
        patience: Duration,
    ) -> Result<Self, BrowserError> {
        let folder = {
            let private = std::fs::Permissions::from_mode(0o700);
            tempfile::Builder::new().permissions(private).tempdir().map_err(BrowserError::Start)?
        };
        let rules = at.iter().map(|(host, at)| format!("MAP {host} {at}")).collect::<Vec<_>>().join(",");
        let mut command = Command::new("sh");
        // The browser talks over the descriptors 3 and 4; a shell puts the pipes there.
        command
            .args(["-c", "exec \"$0\" \"$@\" 3<&0 4>&1 </dev/null >/dev/null 2>/dev/null"])
            .arg(program)
            .args([
                "--headless",
                "--no-sandbox",
                "--disable-gpu",
                "--disable-quic",
                "--no-first-run",
                "--disable-background-networking",
                "--disable-component-update",
                "--disable-sync",
                "--disable-extensions",
                "--disable-dev-shm-usage",
                "--hide-scrollbars",
                "--mute-audio",
                "--ignore-certificate-errors",
                "--remote-debugging-pipe",
            ]);
        command.arg(format!("--user-data-dir={}", folder.path().display()));
        if !rules.is_empty() {
            command.arg(format!("--host-resolver-rules={rules}"));
        }
        let mut child = command
            .arg("about:blank")
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .map_err(BrowserError::Start)?;
        let (Some(input), Some(mut output)) = (child.stdin.take(), child.stdout.take()) else {
            return Err(BrowserError::Ended);
        };
        let (send, messages) = channel();
        std::thread::spawn(move || {
            let (mut held, mut piece) = (Vec::new(), vec![0; 1 << 16]);
            while let Ok(n) = output.read(&mut piece) {
                if n == 0 || held.len() > LARGEST {
                    return;
                }
                held.extend_from_slice(&piece[..n]);
                while let Some(end) = held.iter().position(|b| *b == 0) {
                    let message: Vec<u8> = held.drain(..=end).collect();
                    let read = serde_json::from_slice(&message[..end]);
                    if read.is_ok_and(|value| send.send(value).is_err()) {
                        return;
                    }
                }
            }
        });
        let mut browser =
            Browser { child, input, messages, number: 0, session: String::new(), patience, _folder: folder };
        let target = browser.call("Target.createTarget", json!({ "url": "about:blank" }))?;
        let attached = json!({ "targetId": target["targetId"], "flatten": true });
        let session = browser.call("Target.attachToTarget", attached)?;
        browser.session = session["sessionId"].as_str().unwrap_or_default().to_string();
        browser.call("Page.enable", json!({}))?;
        Ok(browser)
    }

    fn send(&mut self, method: &str, params: Value) -> Result<u64, BrowserError> {
        self.number += 1;
        let mut message = json!({ "id": self.number, "method": method, "params": params });
        if !self.session.is_empty() {
            message["sessionId"] = self.session.clone().into();
        }
        let mut text = message.to_string().into_bytes();
        text.push(0);
        self.input.write_all(&text).map_err(|_| BrowserError::Ended)?;
        Ok(self.number)
    }

    fn next(&self, until: Instant) -> Result<Value, BrowserError> {
        let left = until.saturating_duration_since(Instant::now());
        self.messages.recv_timeout(left).map_err(|e| match e {
            RecvTimeoutError::Timeout => BrowserError::Slow,
            RecvTimeoutError::Disconnected => BrowserError::Ended,
        })
    }

    /// Calls something and waits for what comes of it.
    fn call(&mut self, method: &str, params: Value) -> Result<Value, BrowserError> {
        let number = self.send(method, params)?;
        let until = Instant::now() + self.patience;
        loop {
            let mut message = self.next(until)?;
            if message["id"] == number {
                return match message["error"]["message"].as_str() {
                    Some(why) => Err(BrowserError::Says(why.to_string())),
                    None => Ok(message["result"].take()),
                };
            }
        }
    }

    /// Draws a page as a PNG, as far as the window reaches.
    pub fn draw(&mut self, url: &Url, window: Window) -> Result<Vec<u8>, BrowserError> {
        let Window { width, height, mobile, .. } = window;
        let size = json!({ "width": width, "height": height, "deviceScaleFactor": 1, "mobile": mobile });
        self.call("Emulation.setDeviceMetricsOverride", size)?;
        let number = self.send("Page.navigate", json!({ "url": url.as_str() }))?;
        let until = Instant::now() + self.patience;
        let (mut answered, mut loaded) = (false, false);
        while !(answered && loaded) {
            let message = match self.next(until) {
                // What has come so far is drawn.
                Err(BrowserError::Slow) if answered => break,
                message => message?,
            };
            if message["id"] == number {
                answered = true;
                if let Some(why) = message["result"]["errorText"].as_str() {
                    return Err(BrowserError::Says(why.to_string()));
                }
            }
            // An event of the page before may still come.
            loaded = loaded || answered && message["method"] == "Page.loadEventFired";
        }
        std::thread::sleep(SETTLE);
        let shot = self.call("Page.captureScreenshot", json!({ "format": "png" }))?;
        let text = shot["data"].as_str().unwrap_or_default();
        data_encoding::BASE64.decode(text.as_bytes()).map_err(|e| BrowserError::Says(e.to_string()))
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        let _ = self.send("Browser.close", json!({}));
        let began = Instant::now();
        while began.elapsed() < Duration::from_secs(3) {
            if matches!(self.child.try_wait(), Ok(Some(_))) {
                return;
            }
            std::thread::sleep(Duration::from_millis(20));
        }
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
