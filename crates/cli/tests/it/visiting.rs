//! Visits: every fault of a host is found, a faultless one has no finding, and nothing can hang a visit.

use super::common::Bench;
use super::common::apache::Apache;
use super::common::mariadb::server;
use super::common::names::NameServer;
use super::common::nginx::Nginx;
use super::common::php::{self, Php};
use serde_json::Value;
use std::collections::BTreeSet;
use std::os::unix::fs::PermissionsExt;
use std::time::{Duration, Instant};
use zporter_standin::host::{Fault, Host, Served};
use zporter_standin::{Site, VARIANTS, Variant};

/// The site as it is served where nothing else is said.
fn served() -> Served {
    Served {
        name: "www.fernhollow.example".into(),
        base: "/sky".into(),
        old: "http://old.fernhollow.example/stars".into(),
        old_root: "/home/fernhollow/public_html".into(),
        pages: 8,
        ..Served::default()
    }
}

/// Visits a host and returns the document.
fn visit(host: &Host, more: &[&str]) -> Value {
    let bench = Bench::new();
    let (address, at) = (host.address(), host.at.to_string());
    let mut args = vec!["visit", &address, "--at", &at, "--json"];
    args.extend([
        "--old-address",
        "http://old.fernhollow.example/stars",
        "--old-root",
        "/home/fernhollow/public_html",
    ]);
    args.extend(more);
    let done = bench.run(&args);
    assert!(done.code <= 1, "{}{}", done.stdout, done.stderr);
    done.json()
}

/// The codes of what needs attention.
fn codes(document: &Value) -> BTreeSet<String> {
    let all = document["findings"].as_array().unwrap().iter();
    all.filter(|f| f["severity"] == "attention").map(|f| f["code"].as_str().unwrap().to_string()).collect()
}

#[test]
fn a_faultless_site_has_no_finding() {
    for base in ["", "/sky"] {
        for lively in [false, true] {
            let host = Host::serve(Served { base: base.into(), lively, ..served() }).unwrap();
            let document = visit(&host, &[]);
            assert_eq!(document["findings"], serde_json::json!([]), "{document:#}");
            assert_eq!(document["pages"].as_array().unwrap().len(), 10, "home, about, news: {document:#}");
            assert_eq!(document["needs"]["picture"]["asked"], 9);
            assert_eq!(document["needs"]["font"]["asked"], 1);
            assert!(document["changing"].as_u64().unwrap() > 0, "the log-out was left alone");
        }
    }
}

#[test]
fn every_fault_is_found_and_no_other() {
    for fault in Fault::ALL.iter().copied() {
        let host = Host::serve(Served { faults: BTreeSet::from([fault]), ..served() }).unwrap();
        let began = Instant::now();
        let more: &[&str] = match fault {
            Fault::Slow => &["--slow", "1"],
            Fault::Trickle => &["--patience", "1.5"],
            _ => &[],
        };
        let document = visit(&host, more);
        let found = document["findings"].as_array().unwrap();
        let sighting = found.iter().find(|f| f["code"] == fault.code());
        assert!(sighting.is_some(), "{fault:?}: {found:#?}");
        let others: Vec<_> = codes(&document).into_iter().filter(|c| c != fault.code()).collect();
        // A wrong base sends the styles of a page elsewhere as well, and names the old place itself.
        let follow: &[&str] = match fault {
            Fault::Canonical | Fault::Base | Fault::RefreshToOld => &["old-place-on-page"],
            Fault::ManyLinks => &["page-too-large"],
            Fault::Installer => &["file-leaked"],
            _ => &[],
        };
        assert!(others.iter().all(|o| follow.contains(&o.as_str())), "{fault:?}: {found:#?}");
        assert!(began.elapsed() < Duration::from_secs(20), "{fault:?}");
        let sighting =
            document["sightings"].as_array().unwrap().iter().find(|s| s["code"] == fault.code()).unwrap();
        for key in ["sure", "page", "what"] {
            assert!(!sighting[key].as_str().unwrap_or_default().is_empty(), "{fault:?}: {sighting:#}");
        }
    }
}

/// How somebody logs in to a line: name of the administrator, where the back office is, and of a member.
fn people(variant: Variant) -> (&'static str, &'static [&'static str], Option<(&'static str, &'static str)>) {
    match Site::of(variant).definition() {
        "joomla" => ("stargazer", &[], Some(("stargazer", "fake-Nova-1604"))),
        "prestashop" | "prestashop-7" => (
            "keeper@fernhollow.example",
            &["--back-office", "admin482kzq"],
            Some(("guest@fernhollow.example", "fake-Old-Pass")),
        ),
        "opencart" => {
            ("keeper", &["--back-office", "dome-office"], Some(("guest@fernhollow.example", "fake-Old-Pass")))
        }
        "phpbb" => ("gazer", &[], Some(("gazer", "fake-Nova-1604"))),
        "wordpress" => ("gazer", &[], Some(("gazer", "fake-Nova-1604"))),
        _ => ("gazer", &[], None),
    }
}

/// Each line, restored from an archive with its rows, seen through three web servers, beside where it came from, and logged in to.
#[test]
fn every_line_is_visited_behind_three_servers_and_logged_in_to() {
    let Some(server) = server() else { return };
    if !php::there() {
        return;
    }
    let place = Bench::new();
    let (web, work) = (place.path("web"), place.path("work"));
    for folder in [&web, &work, &place.path(".")] {
        std::fs::create_dir_all(folder).unwrap();
        std::fs::set_permissions(folder, std::fs::Permissions::from_mode(0o755)).unwrap();
    }
    std::os::unix::fs::chown(&web, Some(33), Some(33)).unwrap();
    let Some(apache) = Apache::serve(&web, &work) else { return };
    let Some(nginx) = Nginx::serve(&web, &work) else { return };
    let mut systems = BTreeSet::new();
    for variant in VARIANTS.into_iter().filter(|v| !matches!(v, Variant::Dnn5 | Variant::Dnn9)) {
        let bench = Bench::new();
        let old = server.database("fake'Old\\pass %31");
        let (root, storage) = (bench.path("old web/site"), bench.path("storage"));
        let host = match variant {
            Variant::Drupal6 => format!("127.0.0.1:{}", server.port),
            _ => format!("localhost:{}", server.socket),
        };
        let site = Site {
            address: "http://old.fernhollow.test/site".into(),
            root: root.display().to_string(),
            storage: storage.display().to_string(),
            database: [host, old.user.clone(), old.password.clone(), old.name.clone()],
            pages: 10,
            ..Site::of(variant)
        };
        site.write(&root).unwrap();
        site.write_outside(&storage).unwrap();
        server.load_with_client(&old, &site.dump());
        let new = server.new_database();
        let name = format!("{variant:?}.copy.test").to_lowercase();
        let target = web.join(&name).join("branch/site");
        std::fs::create_dir_all(target.parent().unwrap()).unwrap();
        std::os::unix::fs::chown(target.parent().unwrap(), Some(33), Some(33)).unwrap();
        bench.write("password", "fake-Nova-1604\n");
        let (address, url) = (format!("http://{name}/branch/site"), new.tcp_url(server));
        let target_text = target.display().to_string();
        let mut pack =
            vec!["pack", root.to_str().unwrap(), "-o", "a.tar.zst", "--old-address", &site.address];
        if site.definition().starts_with("drupal") {
            pack.extend(["--host-folder", "default"]);
        }
        bench.run(&pack).says(&["Packed"]);
        let mut args = vec!["restore", "a.tar.zst", &target_text, "--address", &address, "--database", &url];
        args.extend(["--owner", "www-data", "--admin-password-file", "password", "--tidy", "--json"]);
        let (old_port, port) = (php::port(), php::port());
        let (_old, _new) = (Php::serve(&bench.path("old web"), old_port), Php::serve(&web.join(&name), port));
        let first = systems.insert(site.definition());
        let at = format!("127.0.0.1:{port}");
        if first {
            args.extend(["--visit", "--at", &at, "--page", "restore.html"]);
        }
        let done = bench.run(&args);
        assert!(done.code <= 1, "{variant:?}: {}{}", done.stdout, done.stderr);
        let visited = done.json()["visited"]["pages"].as_array().map_or(0, Vec::len);
        assert_eq!(visited > 0, first, "{variant:?}: {}", done.stdout);
        let old_at = format!("127.0.0.1:{old_port}");
        let (admin, office, member) = people(variant);
        bench.write("member", member.map_or("", |(_, password)| password));
        let ports = [("Apache", apache.ports().0), ("nginx", nginx.port), ("PHP", port)];
        // Every line behind Apache; one of each system behind the others.
        for (which, port) in ports.into_iter().filter(|(which, _)| first || *which == "Apache") {
            let at = format!("127.0.0.1:{port}");
            let mut args = vec![
                "visit",
                &address,
                "--at",
                &at,
                "--beside",
                &site.address,
                "--beside-at",
                &old_at,
                "--json",
            ];
            let root_text = root.display().to_string();
            args.extend(["--old-root", &root_text]);
            let logs_in = which == "Apache" || which == "PHP" && first;
            if logs_in {
                args.extend(["--log-in", admin, "--log-in-password-file", "password"]);
                args.extend(office);
                if let Some((name, _)) = member {
                    args.extend(["--member", name, "--member-password-file", "member"]);
                }
            }
            let seen = bench.run(&args);
            let document = seen.json();
            assert_eq!(codes(&document), BTreeSet::new(), "{variant:?} {which}: {:#}", document["findings"]);
            let pages = document["pages"].as_array().unwrap().len();
            assert!(
                pages > 0 && document["beside"]["same"] == pages,
                "{variant:?} {which}: {:#}",
                document["beside"]
            );
            let log_ins = document["log_ins"].as_array().unwrap();
            assert_eq!(
                log_ins.len(),
                usize::from(logs_in) * (1 + usize::from(member.is_some())),
                "{variant:?} {which}"
            );
            for log_in in log_ins {
                let behind = log_in["behind"].as_array().unwrap();
                assert!(log_in["worked"] == true && !behind.is_empty(), "{variant:?} {which}: {log_in:#}");
                assert!(
                    behind.iter().all(|b| b["status"] == 200 && b["title"] != "Log in"),
                    "{variant:?} {which}: {log_in:#}"
                );
            }
        }
    }
}

#[test]
fn name_servers_tell_who_already_leads_to_the_new_host() {
    let zone = |web: &str, more: &str| {
        format!(
            "$TTL 86400\n@ IN SOA ns1 keeper 1 3600 600 86400 300\n@ IN NS ns1\n@ IN NS ns2\nns1 IN A 127.0.0.1\nns2 IN A 127.0.0.1\n{web}\n{more}\n"
        )
    };
    let mail = "@ IN MX 10 www\n@ IN TXT \"v=spf1 ip4:192.0.2.1 -all\"\n@ IN CAA 0 issue \"ca.example\"";
    let old = zone("www IN A 192.0.2.1\nwww IN AAAA 2001:db8::1\n@ IN A 192.0.2.1", mail);
    let moved = zone("www IN A 127.0.0.1\n@ IN A 127.0.0.1", "@ IN MX 10 mail\nmail IN A 192.0.2.9");
    let (old, moved) =
        (NameServer::serve("fernhollow.test", &old), NameServer::serve("fernhollow.test", &moved));
    let host = Host::serve(Served { name: "www.fernhollow.test".into(), ..served() }).unwrap();
    let bench = Bench::new();
    let (address, at) = (host.address(), host.at.to_string());
    let ask = |own: &[&NameServer], resolver: &NameServer| {
        let own: Vec<String> = own.iter().map(|n| n.at.to_string()).collect();
        let resolver = resolver.at.to_string();
        let mut args =
            vec!["visit", &address, "--at", &at, "--dns", "--resolver", &resolver, "--pages", "1", "--json"];
        for server in &own {
            args.extend(["--name-server", server]);
        }
        let done = bench.run(&args);
        assert!(done.code <= 1, "{}{}", done.stdout, done.stderr);
        done.json()
    };
    let says = |document: &Value, code: &str, words: &[&str]| {
        let all = document["findings"].as_array().unwrap();
        let fits = |f: &&Value| f["code"] == code && words.iter().all(|w| f.to_string().contains(w));
        assert!(all.iter().any(|f| fits(&f)), "{code} {words:?}: {all:#?}");
    };

    // Before the switch.
    let seen = ask(&[&old], &old);
    assert_eq!(
        (&seen["names"]["zone"], &seen["names"]["wanted"]),
        (&"fernhollow.test".into(), &"127.0.0.1".into())
    );
    says(
        &seen,
        "name-leads-elsewhere",
        &["192.0.2.1", "set the A record of www.fernhollow.test to 127.0.0.1", "lives for 86400 seconds"],
    );
    says(&seen, "name-leads-elsewhere", &["fernhollow.test", "2001:db8::1", "AAAA"]);
    says(&seen, "mail-to-know", &["www.fernhollow.test", "changes with the site"]);
    says(&seen, "mail-to-know", &["ip4:127.0.0.1"]);
    says(&seen, "certificates-forbidden", &["ca.example"]);
    // One of two has the new zone.
    let seen = ask(&[&old, &moved], &old);
    says(&seen, "names-differ", &["192.0.2.1", "127.0.0.1"]);
    // Behind it: a resolver still has the old one, which is no fault.
    let seen = ask(&[&moved], &old);
    assert_eq!(codes(&seen), BTreeSet::new(), "{:#}", seen["findings"]);
    says(&seen, "name-leads-elsewhere", &["still leads", "192.0.2.1"]);
    let seen = ask(&[&moved], &moved);
    assert!(seen["findings"].as_array().unwrap().iter().all(|f| f["code"] == "visit-cut-short"), "{seen:#}");
    assert!(seen["names"]["asked"].as_array().unwrap().iter().all(|a| a["new_host"] == true), "{seen:#}");
    // Nobody there.
    let nobody = NameServer { at: "127.0.0.1:9".parse().unwrap() };
    says(&ask(&[&nobody], &moved), "name-server-fails", &["127.0.0.1"]);
}

/// Width and height of a PNG.
fn size(png: &[u8]) -> (u32, u32) {
    assert!(png.starts_with(b"\x89PNG"));
    let number = |at: usize| u32::from_be_bytes(png[at..at + 4].try_into().unwrap());
    (number(16), number(20))
}

#[test]
fn pictures_of_old_and_new_show_where_they_differ() {
    if !std::path::Path::new("/usr/bin/chromium").exists() {
        super::common::missing("chromium");
        return;
    }
    // The same name at two places: only where it is asked tells them apart.
    let site = |faults: &[Fault]| {
        Host::serve(Served { faults: faults.iter().copied().collect(), ..served() }).unwrap()
    };
    let (old, new) = (site(&[Fault::OldInMap]), site(&[Fault::OldInMap, Fault::NoPicture]));
    let bench = Bench::new();
    let (address, at, old_at) = (new.address(), new.at.to_string(), old.at.to_string());
    let args = [
        "visit",
        &address,
        "--at",
        &at,
        "--beside",
        &old.address(),
        "--beside-at",
        &old_at,
        "--pictures",
        "shots",
        "--picture-of",
        "/about",
        "--json",
    ];
    let seen = bench.run(&args).expect(1).json();
    let pictures = seen["pictures"].as_array().unwrap();
    assert_eq!(pictures.len(), 4, "{pictures:#?}");
    for (picture, (wide, high)) in pictures.iter().zip([(1280, 800), (390, 844), (1280, 800), (390, 844)]) {
        let read = |key: &str| std::fs::read(picture[key].as_str().unwrap()).unwrap();
        assert_eq!((size(&read("new")), size(&read("old"))), ((wide, high), (wide, high)));
        assert_eq!(size(&read("beside")).0, 2 * wide + 16);
        // Without its picture the home page looks different; the other page is the same.
        let differs = picture["differs"].as_f64().unwrap();
        assert_eq!(differs > 1.0, picture["page"] == "", "{picture:#}");
    }
    assert!(codes(&seen).contains("picture-differs"), "{:#}", seen["findings"]);
    let flaws = seen["beside"]["different"].as_array().unwrap();
    assert!(flaws.is_empty() && seen["beside"]["same"] == 11, "the texts are the same: {flaws:#?}");
}
