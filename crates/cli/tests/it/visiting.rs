//! Visits: every fault of a host is found, a faultless one has no finding, and nothing can hang a visit.

use super::common::Bench;
use serde_json::Value;
use std::collections::BTreeSet;
use std::time::{Duration, Instant};
use zporter_standin::host::{Fault, Host, Served};

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
    args.extend(["--old-address", "http://old.fernhollow.example/stars", "--old-root", "/home/fernhollow/public_html"]);
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
            Fault::WrongCharset | Fault::Installer => &["file-leaked"],
            _ => &[],
        };
        assert!(others.iter().all(|o| follow.contains(&o.as_str())), "{fault:?}: {found:#?}");
        assert!(began.elapsed() < Duration::from_secs(20), "{fault:?}");
        let sighting = document["sightings"].as_array().unwrap().iter().find(|s| s["code"] == fault.code()).unwrap();
        for key in ["sure", "page", "what"] {
            assert!(!sighting[key].as_str().unwrap_or_default().is_empty(), "{fault:?}: {sighting:#}");
        }
    }
}
