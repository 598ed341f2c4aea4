//! What surrounds a visit: certificates, inner hosts, hostile text, doors, a page of the report, and that nothing is asked that changes.

use super::common::Bench;
use super::common::apache::Apache;
use serde_json::Value;
use std::collections::BTreeSet;
use std::os::unix::fs::PermissionsExt;
use zporter_standin::host::{Door, Fault, Host, Served};

fn codes(document: &Value) -> Vec<&str> {
    document["findings"].as_array().unwrap().iter().map(|f| f["code"].as_str().unwrap()).collect()
}

#[test]
fn a_certificate_is_told_and_trusted_only_where_it_holds() {
    let bench = Bench::new();
    let (web, work) = (bench.path("web"), bench.path("work"));
    for folder in [&web, &work, &bench.path(".")] {
        std::fs::create_dir_all(folder).unwrap();
        std::fs::set_permissions(folder, std::fs::Permissions::from_mode(0o755)).unwrap();
    }
    for name in ["sky.copy.test", "sky.other.test"] {
        std::fs::create_dir_all(web.join(name)).unwrap();
        let page = "<!doctype html><meta charset=utf-8><title>Sky</title><p>Clear tonight.<img src=http://sky.copy.test/x.png><a href='http://SKY.copy.test/more'>more</a><link rel=stylesheet href=s.css>";
        std::fs::write(web.join(name).join("index.html"), page).unwrap();
        std::fs::write(web.join(name).join("s.css"), "p{background:url(http://sky.copy.test/y.png)}")
            .unwrap();
    }
    let Some(apache) = Apache::serve(&web, &work) else { return };
    let at = format!("127.0.0.1:{}", apache.ports().1);
    let visit = |name: &str, trusted: bool, more: &[&str]| {
        let address = format!("https://{name}");
        let mut command = bench.command(&[&["visit", &address, "--at", &at, "--json"], more].concat());
        if trusted {
            command.env("SSL_CERT_FILE", work.join("ca.pem"));
        }
        super::common::outcome(command).expect(1).json()
    };
    let unknown = visit("sky.copy.test", false, &[]);
    assert_eq!(codes(&unknown), ["certificate-wrong"], "{unknown:#}");
    assert!(unknown["pages"].as_array().unwrap().is_empty(), "nothing is looked at without being asked to");
    let any = visit("sky.copy.test", false, &["--any-certificate"]);
    assert!(
        codes(&any).contains(&"certificate-wrong") && any["pages"].as_array().unwrap().len() == 2,
        "{any:#}"
    );
    // Trusted, but for one day more only; and with a name that is another's.
    let trusted = visit("sky.copy.test", true, &[]);
    let found: BTreeSet<&str> = codes(&trusted).into_iter().collect();
    assert!(found.contains("certificate-ends") && !found.contains("certificate-wrong"), "{trusted:#}");
    assert!(found.contains("mixed-content") && found.contains("link-other-scheme"), "{trusted:#}");
    let unencrypted = trusted["findings"].as_array().unwrap().iter().filter(|f| f["code"] == "mixed-content");
    let both: String = unencrypted.map(|f| f["what"].to_string()).collect();
    assert!(both.contains("/x.png") && both.contains("/y.png"), "{both}");
    let other = visit("sky.other.test", true, &[]);
    assert!(other["findings"][0]["what"].as_str().unwrap().contains("it is for other names"), "{other:#}");
}

#[test]
fn no_page_leads_to_an_inner_host_and_nobody_answering_is_an_error() {
    let bench = Bench::new();
    let inside = Host::serve(Served::default()).unwrap();
    let faults = BTreeSet::from([Fault::Inner]);
    let host =
        Host::serve(Served { name: "www.fernhollow.example".into(), faults, ..Served::default() }).unwrap();
    let at = host.at.to_string();
    // Names that were added still may not lead inside by themselves: `localhost` does.
    let seen = bench.run(&["visit", &host.address(), "--at", &at, "--with-host", "localhost", "--json"]);
    assert!(codes(&seen.json()).contains(&"inner-host"), "{}", seen.stdout);
    assert_eq!(inside.asked(), 0);
    bench
        .run(&["visit", "http://nobody.fernhollow.example"])
        .expect(4)
        .says(&["no name server knows the host", "--at IP"]);
    bench
        .run(&["visit", "http://nobody.fernhollow.example", "--at", "127.0.0.1:9"])
        .expect(4)
        .says(&["nothing answers there"]);
    bench.run(&["visit", "http://a.test", "--at", "somewhere"]).expect(2).says(&["203.0.113.7"]);
    bench
        .run(&["visit", "http://a.test", "--system", "nosuch", "--at", "127.0.0.1"])
        .expect(2)
        .says(&["zporter systems"]);
    let line = bench.run(&["visit", "https://new.example", "--at", "203.0.113.7", "--hosts-line"]).expect(0);
    line.says(&["203.0.113.7 new.example www.new.example", "ServerName new.example", "SSLEngine on"]);
}

#[test]
fn what_pages_say_reaches_nobody_raw() {
    let bench = Bench::new();
    let web = bench.path("web");
    std::fs::create_dir_all(&web).unwrap();
    let hostile = "\u{1b}]0;owned\u{7}\u{202e}<script>alert(1)</script>";
    let page = format!(
        "<!doctype html><meta charset=utf-8><title>{}</title><p>Text here.<a href='/gone\u{1b}[31m'>x</a><img src='/x\"><b>.png'><p>SQLSTATE[ {}",
        hostile.replace('<', "&lt;"),
        hostile.replace('<', "&lt;")
    );
    std::fs::write(web.join("index.html"), page).unwrap();
    if !super::common::php::there() {
        return;
    }
    let port = super::common::php::port();
    let _php = super::common::php::Php::serve(&web, port);
    let address = format!("http://127.0.0.1:{port}");
    let seen = bench.run(&["visit", &address, "-v", "--page", "seen.html"]).expect(1);
    assert!(!seen.stdout.contains(['\u{1b}', '\u{7}', '\u{202e}']), "{}", seen.stdout);
    let page = bench.read("seen.html");
    assert!(
        !page.contains(['\u{1b}', '\u{202e}'])
            && !page.contains("<script")
            && page.contains("&lt;script&gt;"),
        "{page}"
    );
    assert!(!page.contains("<b>.png"), "{page}");
}

#[test]
fn the_report_page_is_one_file_that_needs_no_network() {
    let bench = Bench::new();
    bench.site(zporter_standin::Variant::PrestaShop16);
    let to = ["--address", "http://n.test/x", "--database", "mysql://u@h/n", "--dump-to", "n.sql"];
    let pages: [(&str, Vec<&str>, &[&str]); 5] = [
        (
            "pack.html",
            vec!["pack", "old", "--dump", "old.sql", "-o", "a.zip"],
            &["Packed", "class=\"fill-1\""],
        ),
        ("verify.html", vec!["verify", "a.zip"], &["Whole"]),
        ("diagnose.html", vec!["diagnose", "old", "--dump", "old.sql"], &["What was looked at"]),
        (
            "plan.html",
            [&["restore", "a.zip", "new", "--dry-run"], &to[..]].concat(),
            &["class=\"plus\"", "a preview: nothing was changed", "Changed in rows"],
        ),
        (
            "restore.html",
            [&["restore", "a.zip", "new"], &to[..]].concat(),
            &["<svg", "Times", "settings.inc.php"],
        ),
    ];
    for (name, mut args, holds) in pages {
        args.extend(["--page", name]);
        let done = bench.run(&args);
        assert!(done.code <= 1, "{}{}", done.stdout, done.stderr);
        let page = bench.read(name);
        for text in holds.iter().chain(&["<!doctype html>", "prefers-color-scheme: dark", "@media print"]) {
            assert!(page.contains(text), "{name}: {text}\n{page}");
        }
        // Nothing comes from elsewhere, and nothing runs.
        for never in ["<script", "<link", "src=\"http", "url(http", "@import", "<iframe"] {
            assert!(!page.contains(never), "{name}: {never}");
        }
        assert!(!page.contains(super::common::NEW_PASSWORD) && !page.contains("fake'Old"), "{name}");
    }
}

#[test]
fn a_portal_is_logged_in_to_and_a_wrong_password_is_told() {
    let host = Host::serve(Served {
        base: "/portal".into(),
        door: Some(Door::Portal),
        pages: 2,
        ..Served::default()
    })
    .unwrap();
    let bench = Bench::new();
    let address = host.address();
    let visit = |password: &str| {
        bench.write("pw", password);
        let args = [
            "visit",
            &address,
            "--log-in",
            "host",
            "--log-in-password-file",
            "pw",
            "--system",
            "dnn",
            "--json",
        ];
        bench.run(&args).json()
    };
    let inside = visit("fake-Nova-1604\n");
    let log_in = &inside["log_ins"][0];
    assert!(log_in["worked"] == true && log_in["behind"][0]["title"] == "Pages", "{inside:#}");
    assert_eq!(codes(&inside), Vec::<&str>::new());
    let outside = visit("wrong");
    assert_eq!(codes(&outside), ["log-in-failed"], "{outside:#}");
    assert!(outside["log_ins"][0]["worked"] == false && !outside.to_string().contains("fake-Nova"));
    // Where there is no form nobody guesses.
    let plain = Host::serve(Served { pages: 2, ..Served::default() }).unwrap();
    let args = ["visit", &plain.address(), "--member", "guest", "--member-password-file", "pw", "--json"];
    assert_eq!(codes(&bench.run(&args).json()), ["log-in-unknown"]);
}

/// A back office that is a script: name and password go as JSON, to the interface of the line that answers.
#[test]
fn a_back_office_that_is_a_script_is_logged_in_to() {
    let bench = Bench::new();
    for (line, base) in [("api/admin/", ""), ("api/v2/admin/", "/blog")] {
        let old = "http://old.fernhollow.example".to_string();
        let served =
            Served { base: base.into(), door: Some(Door::Script(line)), pages: 2, old, ..Served::default() };
        let host = Host::serve(served).unwrap();
        let address = host.address();
        let visit = |password: &str, system: &[&str]| {
            bench.write("pw", password);
            let mut args = vec!["visit", &address, "--log-in", "keeper@fernhollow.example"];
            args.extend([
                "--log-in-password-file",
                "pw",
                "--json",
                "--old-address",
                "http://old.fernhollow.example",
            ]);
            args.extend(system);
            bench.run(&args).json()
        };
        for system in [&["--system", "ghost"][..], &[]] {
            let inside = visit("fake-\"Nova\\1604\n", system);
            let log_in = &inside["log_ins"][0];
            let behind: Vec<_> = log_in["behind"].as_array().unwrap().iter().map(|b| &b["status"]).collect();
            assert!(log_in["worked"] == true && behind == [200, 200, 200], "{inside:#}");
            // What an address of the database says of the old place shows there.
            assert_eq!(codes(&inside), ["old-place-on-page"], "{:#}", inside["findings"]);
        }
        let outside = visit("wrong", &["--system", "ghost"]);
        assert_eq!(codes(&outside), ["log-in-failed"]);
        assert!(outside["findings"].to_string().contains("The password is not right."), "{outside:#}");
    }
    // Members of such a blog have no password.
    let host = Host::serve(Served { door: Some(Door::Script("api/admin/")), ..Served::default() }).unwrap();
    let args = ["visit", &host.address(), "--member", "guest", "--member-password-file", "pw", "--json"];
    assert_eq!(codes(&bench.run(&args).json()), ["log-in-unknown"]);
}

/// A copy that its web server guards is seen by who may, and nobody else's server hears the password.
#[test]
fn a_site_behind_a_password_of_the_server_is_seen_with_it() {
    let bench = Bench::new();
    let old =
        Host::serve(Served { pages: 2, name: "old.fernhollow.test".into(), ..Served::default() }).unwrap();
    let served = Served {
        pages: 2,
        name: "new.fernhollow.test".into(),
        door: Some(Door::Server),
        ..Served::default()
    };
    let host = Host::serve(served).unwrap();
    let (address, at, old_at) = (host.address(), host.at.to_string(), old.at.to_string());
    let visit = |more: &[&str]| bench.run(&[&["visit", &address, "--at", &at], more].concat());
    let closed = visit(&["--json"]).expect(1).json();
    assert_eq!(codes(&closed), ["page-fails"]);
    assert!(closed["findings"][0]["cure"].as_str().unwrap().contains("--server-name"), "{closed:#}");
    bench.write("pw", "fake-Növa-1604\n");
    let with = ["--server-name", "keeper", "--server-password-file", "pw"];
    let beside = ["--beside", &old.address(), "--beside-at", &old_at, "--save-job", "look.toml", "--json"];
    let open = visit(&[&with[..], &beside].concat()).expect(0).json();
    assert_eq!((codes(&open), &open["beside"]["same"]), (vec![], &4.into()), "{open:#}");
    assert!(!(bench.read("look.toml") + &open.to_string()).contains("fake-N"));
    assert!(!old.heard("authorization"), "the old site is another's server");
    bench.write("pw", "wrong");
    assert_eq!(codes(&visit(&[&with[..], &["--json"]].concat()).expect(1).json()), ["page-fails"]);
    visit(&with[..2]).expect(2).says(&["--server-password-file"]);
}

#[test]
fn a_visit_tells_the_same_over_any_number_of_connections() {
    let faults =
        BTreeSet::from([Fault::OldLink, Fault::NoPicture, Fault::NoPage, Fault::Calendar, Fault::Warning]);
    let served =
        Served { pages: 60, faults, old: "http://old.fernhollow.example".into(), ..Served::default() };
    let host = Host::serve(served).unwrap();
    let bench = Bench::new();
    let told = |connections: &str| {
        let args = [
            "visit",
            &host.address(),
            "--pages",
            "50",
            "--connections",
            connections,
            "--old-address",
            "http://old.fernhollow.example",
            "--json",
        ];
        let seen = bench.run(&args).expect(1).json();
        let pages: Vec<Value> = seen["pages"].as_array().unwrap().iter().map(|p| p["url"].clone()).collect();
        (pages, seen["findings"].clone())
    };
    let one = told("1");
    assert_eq!(one.0.len(), 50);
    assert!(one == told("2") && one == told("16"));
}

/// A faultless copy is not told as one that sends mail or is listed, unless it is called a copy.
#[test]
fn a_development_copy_is_judged_as_one() {
    let bench = Bench::new();
    let visit = |faults: &[Fault]| {
        let host =
            Host::serve(Served { pages: 2, faults: faults.iter().copied().collect(), ..Served::default() })
                .unwrap();
        let seen = bench.run(&["visit", &host.address(), "--copy", "--json"]).json();
        let found: BTreeSet<String> = codes(&seen).into_iter().map(str::to_string).collect();
        found
    };
    assert_eq!(visit(&[]), BTreeSet::from(["copy-indexed".to_string(), "form-sends".to_string()]));
    assert_eq!(visit(&[Fault::NoIndex]), BTreeSet::from(["form-sends".to_string()]));
    assert_eq!(visit(&[Fault::RobotsClose]), BTreeSet::from(["form-sends".to_string()]));
}

/// The new address begins like the old one, or the other way round: only what names the old one is told.
#[test]
fn an_address_that_begins_like_the_old_one_is_told_apart() {
    let bench = Bench::new();
    for (base, old) in [("/new", ""), ("/sky/new", "/sky"), ("", "/old")] {
        for (fault, found) in [(None, false), (Some(Fault::OldLink), true), (Some(Fault::OldEscaped), true)] {
            let served = |name: &str, old: String| Served {
                base: base.into(),
                name: name.into(),
                old,
                pages: 3,
                faults: fault.into_iter().collect(),
                ..Served::default()
            };
            // Its port has to be known before its pages can name it.
            let port = super::common::php::port();
            let old_address = format!("http://www.fernhollow.example:{port}{old}");
            let host = Host::serve_at(port, served("www.fernhollow.example", old_address.clone())).unwrap();
            let at = host.at.to_string();
            let seen = bench
                .run(&["visit", &host.address(), "--at", &at, "--old-address", &old_address, "--json"])
                .json();
            assert_eq!(codes(&seen).contains(&"old-place-on-page"), found, "{base} {old} {fault:?} {seen:#}");
        }
    }
}

/// A real program behind a real server through everything that ends with a visit.
#[test]
fn a_move_a_settling_and_a_diagnosis_end_with_a_look() {
    let Some(server) = super::common::mariadb::server() else { return };
    if !super::common::php::there() {
        return;
    }
    let bench = Bench::new();
    let (site, _old) = bench.live(server, zporter_standin::Variant::WordPress);
    let new = server.new_database();
    let target = bench.path("web/site");
    std::fs::create_dir_all(target.parent().unwrap()).unwrap();
    let port = super::common::php::port();
    let _php = super::common::php::Php::serve(&bench.path("web"), port);
    let (at, url, target) = (format!("127.0.0.1:{port}"), new.tcp_url(server), target.display().to_string());
    let look = ["--visit", "--at", &at, "--json"];
    let seen = |args: &[&str]| {
        let done = bench.run(&[args, &look[..]].concat());
        assert!(done.code <= 1, "{}{}", done.stdout, done.stderr);
        let document = done.json();
        let pages = document["visited"]["pages"].as_array().map_or(0, Vec::len);
        assert!(pages > 0 && document["visited"]["pages"][0]["status"] == 200, "{args:?}: {document:#}");
        document
    };
    let first =
        seen(&["move", "old", &target, "--address", "http://new.fernhollow.test/site", "--database", &url]);
    assert!(!codes(&first).contains(&"old-place-on-page"), "{first:#}");
    let run = bench.last_run();
    // The second act says for itself how it is looked at.
    let finished = seen(&["move", "--finish", &run]);
    assert_eq!(finished["visited"]["at"], at.as_str());
    let settled = seen(&["settle", &target, "--address", "http://third.fernhollow.test/site"]);
    assert_eq!(settled["visited"]["address"], "http://third.fernhollow.test/site");
    let looked = bench.run(&["diagnose", &target, "--at", &at, "--json"]).json();
    let pages = looked["looked"].as_array().unwrap().iter().find(|l| l["at"] == "pages").unwrap();
    assert_eq!(pages["saw"], "nothing wrong", "{looked:#}");
    // A preview opens nothing, and a site that does not answer is told without the work being called a failure.
    let preview =
        bench.run(&["settle", &target, "--address", "http://b.test/site", "--visit", "--dry-run", "--json"]);
    assert!(preview.json()["visited"].is_null(), "{}", preview.stdout);
    let unseen = bench.run(&[
        "settle",
        &target,
        "--address",
        "http://b.test/site",
        "--visit",
        "--at",
        "127.0.0.1:9",
        "--json",
    ]);
    assert_eq!(unseen.code, 1);
    assert!(unseen.json()["findings"].to_string().contains("could not be visited"), "{}", unseen.stdout);
    assert!(server.content(&new).contains("http://b.test/site"), "the work itself was done");
    drop(site);
}

#[test]
fn a_visit_is_saved_as_a_job_and_said_shortly() {
    let bench = Bench::new();
    let host = Host::serve(Served { pages: 6, door: Some(Door::Portal), ..Served::default() }).unwrap();
    bench.write("pw", "fake-Nova-1604\n");
    let address = host.address();
    let args = [
        "visit",
        &address,
        "--pages",
        "4",
        "--system",
        "dnn",
        "--log-in",
        "host",
        "--log-in-password-file",
        "pw",
        "--save-job",
        "look.toml",
    ];
    bench.run(&args).expect(0).says(&["the job is saved", "log-in", "administrator"]);
    let saved = bench.read("look.toml");
    assert!(
        saved.contains("job = \"visit\"") && saved.contains("pages = 4") && !saved.contains("fake-Nova"),
        "{saved}"
    );
    let again = bench.run(&["visit", "--job", "look.toml", "--json"]).expect(0).json();
    assert_eq!(again["pages"].as_array().unwrap().len(), 4);
    let fewer = bench.run(&["visit", "--job", "look.toml", "--pages", "2", "--json"]).expect(0).json();
    assert_eq!(fewer["pages"].as_array().unwrap().len(), 2);
    let quiet = bench.run(&["-q", "visit", &address]).expect(0);
    assert_eq!(quiet.stdout.lines().count(), 1, "{}", quiet.stdout);
    // Every rest is kept.
    let began = std::time::Instant::now();
    bench.run(&["visit", &address, "--pages", "3", "--connections", "1", "--delay", "0.02"]).expect(0);
    assert!(began.elapsed() > std::time::Duration::from_millis(600), "some thirty answers and more");
}

/// Who is told to stop stops, and says so.
#[test]
fn a_visit_can_be_stopped() {
    let host = Host::serve(Served { pages: 4000, ..Served::default() }).unwrap();
    let bench = Bench::new();
    let args =
        ["visit", &host.address(), "--pages", "4000", "--connections", "1", "--delay", "0.01", "--json"];
    let child = bench.command(&args).stdout(std::process::Stdio::piped()).spawn().unwrap();
    while host.asked() < 20 {
        std::thread::sleep(std::time::Duration::from_millis(5));
    }
    super::common::signal(&child, "-INT");
    let began = std::time::Instant::now();
    let done = child.wait_with_output().unwrap();
    assert_eq!(done.status.code(), Some(130));
    assert!(began.elapsed() < std::time::Duration::from_secs(5));
    let document: Value = serde_json::from_slice(&done.stdout).unwrap();
    assert_eq!(document["error"]["kind"], "stopped");
}
