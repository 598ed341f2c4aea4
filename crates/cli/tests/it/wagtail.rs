//! A real system that is not PHP: Wagtail, from its own registry, on SQLite and PostgreSQL. It is cloned to another address, folder and
//! database; its pages, pictures, links and log-in are tried before and after by the framework's own server.

use super::common::{Bench, mariadb::free_port, postgres};
use std::io::{Read, Write};
use std::net::TcpStream;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

fn python() -> Option<PathBuf> {
    let venv = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/wagtail");
    let ready = venv.join("ready").exists();
    if !ready && super::common::missing("wagtail (in target/wagtail)") {
        return None;
    }
    Some(venv.join("bin/python"))
}

/// The settings that a site of this kind gets besides the template's.
fn settings(database: &str, port: u16) -> String {
    format!(
        "import os\nfrom .base import *\n\nDEBUG = True  # so that the server hands out pictures\nSECRET_KEY = 'fake-secret-of-the-old-site'\n{database}\
ALLOWED_HOSTS = [\n    'old.fernhollow.test',  # the site\n    'www.old.fernhollow.test',\n]\n\
CSRF_TRUSTED_ORIGINS = os.environ.get('CSRF_ORIGINS', 'http://old.fernhollow.test:{port}').split(',')\n\
WAGTAILADMIN_BASE_URL = \"http://old.fernhollow.test:{port}\"\n"
    )
}

/// Makes pages, a picture, a redirect and an administrator.
const CONTENT: &str = r#"
from django.contrib.auth.models import User
from django.core.files.base import ContentFile
from wagtail.models import Page, Site
from wagtail.images.models import Image
from wagtail.contrib.redirects.models import Redirect
from home.models import HomePage
import io, os
from PIL import Image as Picture
base = "http://old.fernhollow.test:%s" % os.environ["PORT"]
User.objects.create_superuser("observer", "observer@old.fernhollow.test", "fake-Pass-1")
site = Site.objects.get(is_default_site=True)
site.hostname, site.port, site.site_name = "old.fernhollow.test", int(os.environ["PORT"]), "Fernhollow"
site.save()
home = HomePage.objects.first()
home.search_description = "Come to %s/sky/ or write to observer@old.fernhollow.test" % base
home.save()
sky = HomePage(title="The sky tonight", slug="sky", search_description="See %s/media/original_images/moon.png" % base)
home.add_child(instance=sky)
out = io.BytesIO()
Picture.new("RGB", (8, 8), "navy").save(out, "PNG")
Image.objects.create(title="Moon", file=ContentFile(out.getvalue(), "moon.png"), width=8, height=8)
Redirect.objects.create(old_path="/moon", redirect_link=base + "/sky/", site=site, is_permanent=False)
"#;

/// A site at work.
struct Served {
    child: Child,
    port: u16,
}

impl Drop for Served {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn manage(python: &Path, site: &Path, port: u16) -> Command {
    let mut command = Command::new(python);
    command.arg("manage.py").current_dir(site).env("PORT", port.to_string());
    command.env("DJANGO_SETTINGS_MODULE", "mysite.settings.local").env("PYTHONDONTWRITEBYTECODE", "1");
    command
}

#[track_caller]
fn done(command: &mut Command) -> String {
    let out = command.output().unwrap();
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    String::from_utf8_lossy(&out.stdout).into_owned()
}

impl Served {
    fn start(python: &Path, site: &Path, port: u16) -> Served {
        let at = format!("127.0.0.1:{port}");
        let mut command = manage(python, site, port);
        command
            .args(["runserver", "--noreload", "--insecure", &at])
            .stdout(Stdio::null())
            .stderr(Stdio::null());
        let served = Served { child: command.spawn().unwrap(), port };
        let began = Instant::now();
        while TcpStream::connect(("127.0.0.1", port)).is_err() {
            assert!(began.elapsed() < Duration::from_secs(60), "the framework's server does not answer");
            std::thread::sleep(Duration::from_millis(50));
        }
        served
    }

    fn send(&self, request: String) -> (u16, String) {
        let mut stream = TcpStream::connect(("127.0.0.1", self.port)).unwrap();
        stream.write_all(request.as_bytes()).unwrap();
        let mut answer = Vec::new();
        stream.read_to_end(&mut answer).unwrap();
        let answer = String::from_utf8_lossy(&answer).into_owned();
        (answer.split(' ').nth(1).and_then(|s| s.parse().ok()).unwrap_or(0), answer)
    }

    fn get(&self, host: &str, path: &str, cookies: &str) -> (u16, String) {
        self.send(format!(
            "GET {path} HTTP/1.1\r\nHost: {host}\r\nCookie: {cookies}\r\nConnection: close\r\n\r\n"
        ))
    }

    /// Logs in by the form and returns what the back office says.
    fn log_in(&self, host: &str, password: &str) -> String {
        let (code, form) = self.get(host, "/admin/login/", "");
        assert_eq!(code, 200, "{form}");
        let cookie = |answer: &str, name: &str| {
            let at = answer.find(&format!("{name}="))?;
            answer[at..].split(';').next().map(str::to_string)
        };
        let csrf = cookie(&form, "csrftoken").unwrap();
        let token = form.split("csrfmiddlewaretoken\" value=\"").nth(1).unwrap().split('"').next().unwrap();
        let body = format!("csrfmiddlewaretoken={token}&username=observer&password={password}");
        let (code, answer) = self.send(format!(
            "POST /admin/login/ HTTP/1.1\r\nHost: {host}\r\nOrigin: http://{host}\r\nCookie: {csrf}\r\nContent-Type: application/x-www-form-urlencoded\r\nContent-Length: {}\r\nConnection: close\r\n\r\n{body}",
            body.len()
        ));
        assert_eq!(code, 302, "{answer}");
        let session = cookie(&answer, "sessionid").unwrap();
        self.get(host, "/admin/", &session).1
    }

    /// Visits what a visitor and an editor see.
    fn visit(&self, host: &str, password: &str) {
        let address = format!("http://{host}");
        let (code, page) = self.get(host, "/", "");
        assert_eq!(code, 200, "{page}");
        assert!(
            page.contains(&format!("Come to {address}/sky/ or write to observer@old.fernhollow.test")),
            "{page}"
        );
        let (code, page) = self.get(host, "/sky/", "");
        assert!(
            code == 200 && page.contains(&format!("See {address}/media/original_images/moon.png")),
            "{page}"
        );
        let (code, answer) = self.get(host, "/moon", "");
        assert!(code == 302 && answer.contains(&format!("Location: {address}/sky/")), "{answer}");
        assert_eq!(self.get(host, "/media/original_images/moon.png", "").0, 200);
        let admin = self.log_in(host, password);
        assert!(admin.contains("The sky tonight") || admin.contains("observer"), "{admin}");
    }
}

/// Makes a site with content in a folder, visits it, and returns its port.
fn made(bench: &Bench, python: &Path, folder: &str, database: &str) -> u16 {
    let site = bench.path(folder);
    std::fs::create_dir(&site).unwrap();
    let wagtail = python.with_file_name("wagtail");
    done(Command::new(wagtail).args(["start", "mysite"]).arg(&site));
    let port = free_port();
    let template = std::fs::read_to_string(site.join("home/templates/home/home_page.html")).unwrap();
    // The template's page shows no text of its own.
    let shown =
        template.replacen("{% block content %}", "{% block content %}{{ page.search_description }}", 1);
    std::fs::write(site.join("home/templates/home/home_page.html"), shown).unwrap();
    std::fs::write(site.join("mysite/settings/local.py"), settings(database, port)).unwrap();
    done(manage(python, &site, port).args(["migrate", "-v0"]));
    done(manage(python, &site, port).args(["shell", "-c", CONTENT]));
    Served::start(python, &site, port).visit(&format!("old.fernhollow.test:{port}"), "fake-Pass-1");
    port
}

#[test]
fn a_site_in_python_moves_with_its_files_on_sqlite() {
    let Some(python) = python() else { return };
    let bench = Bench::new();
    let old = made(&bench, &python, "old", "");
    bench.run(&["survey", "old"]).expect(0).says(&[
        "Wagtail 8.0",
        &format!("http://old.fernhollow.test:{old}"),
        "db.sqlite3",
        "mysite/settings/local.py",
    ]);
    let port = free_port();
    let host = format!("new.fernhollow.test:{port}");
    let target = format!("sqlite://{}", bench.path("new/db.sqlite3").display());
    bench.write("pw", "new-Pass-2 ü\n");
    let clone = bench.run(&[
        "clone",
        "old",
        "new",
        "--address",
        &format!("http://{host}"),
        "--database",
        &target,
        "--admin-password-file",
        "pw",
        "--json",
    ]);
    let report = clone.json();
    assert!(clone.code <= 1, "{clone:?}");
    let local = bench.read("new/mysite/settings/local.py");
    assert!(local.contains("    'new.fernhollow.test',  # the site\n"), "{local}");
    assert!(
        local.contains(&format!("os.environ.get('CSRF_ORIGINS', 'http://{host}').split(',')")),
        "{local}"
    );
    assert!(local.contains(&format!("WAGTAILADMIN_BASE_URL = \"http://{host}\"")), "{local}");
    assert!(report["findings"].to_string().contains("CSRF_ORIGINS"), "{report}");
    // The old one is away: nothing of it may be needed.
    std::fs::rename(bench.path("old"), bench.path("gone")).unwrap();
    let served = Served::start(&python, &bench.path("new"), port);
    served.visit(&host, "new-Pass-2+%C3%BC");
    assert_eq!(
        served.get(&format!("old.fernhollow.test:{port}"), "/", "").0,
        400,
        "the old host is let in no more"
    );
    // As a visitor sees it, and as its editor does.
    let at = format!("127.0.0.1:{port}");
    let args = [
        "visit",
        &format!("http://{host}"),
        "--at",
        &at,
        "--log-in",
        "observer",
        "--log-in-password-file",
        "pw",
        "--json",
    ];
    let seen = bench.run(&args);
    assert!(seen.code <= 1, "{seen:?}");
    let seen = seen.json();
    let wrong = seen["findings"].as_array().unwrap().iter().filter(|f| f["severity"] == "attention").count();
    assert!(wrong == 0 && seen["log_ins"][0]["worked"] == true, "{seen:#}");
    drop(served);
    std::fs::rename(bench.path("gone"), bench.path("old")).unwrap();

    // By way of an archive it is the same site.
    bench.run(&["pack", "old", "-o", "a.tar.zst"]).expect(0);
    let again = format!("sqlite://{}", bench.path("again/db.sqlite3").display());
    let address = format!("http://{host}");
    let args = ["restore", "a.tar.zst", "again", "--address", &address, "--database", &again];
    let restored = bench.run(&args);
    assert!(restored.code <= 1, "{restored:?}");
    Served::start(&python, &bench.path("again"), port).visit(&host, "fake-Pass-1");
}

#[test]
fn a_site_in_python_moves_from_one_postgres_database_to_another() {
    let Some(python) = python() else { return };
    let Some(server) = postgres::Server::start() else { return };
    let bench = Bench::new();
    server.create("old");
    server.create("new");
    let database = format!(
        "DATABASES = {{'default': dict(ENGINE='django.db.backends.postgresql', NAME='old', USER='zp', PASSWORD='', HOST='{}')}}\n",
        server.folder()
    );
    let old = made(&bench, &python, "old", &database);
    bench
        .run(&["survey", "old"])
        .expect(0)
        .says(&[&format!("http://old.fernhollow.test:{old}"), "postgres://zp@"]);
    let port = free_port();
    let host = format!("new.fernhollow.test:{port}");
    let (address, url) = (format!("http://{host}"), server.url("new"));
    let clone = bench.run(&["clone", "old", "new", "--address", &address, "--database", &url]);
    assert!(clone.code <= 1, "{clone:?}");
    let local = bench.read("new/mysite/settings/local.py");
    assert!(local.contains("NAME='new'"), "{local}");
    assert!(local.contains(&format!("HOST='{}'", server.folder())), "{local}");
    server.drop("old");
    Served::start(&python, &bench.path("new"), port).visit(&host, "fake-Pass-1");
}
