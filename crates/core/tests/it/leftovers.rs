//! Leftovers in files of any size are counted once each, wherever they lie.

use crate::test_support::pairs;
use proptest::prelude::*;
use zporter_core::place::{Address, Pairs};
use zporter_core::restore::leftovers::scan;
use zporter_core::secret::Secret;
use zporter_core::text::replacements::{LeftReason, Replacements};
use zporter_core::tree::LocalTree;

fn replacements() -> Replacements {
    let pairs = pairs(&[("http://old.example/s", "http://new.example")], &[("/home/old", "/srv/new")]);
    Replacements::new(&pairs, &[Secret::new("fake-old-pass")])
}

#[test]
fn what_lies_on_the_border_of_a_window_is_found_once() {
    let folder = tempfile::tempdir().unwrap();
    const BORDER: usize = 4 << 20;
    // Around every border of the scan's windows, with and without its overlap, and at both ends of the file.
    let text = b"\nhttp://old.example/s\n";
    let mut places = vec![0, 9_000_000 - text.len()];
    for border in [
        BORDER - (4 << 10),
        BORDER,
        BORDER + (4 << 10),
        2 * BORDER - (12 << 10),
        2 * BORDER - (8 << 10),
        2 * BORDER,
    ] {
        places.extend((0..4).map(|i| border - 40 + 23 * i));
    }
    let mut bytes = vec![b'x'; 9_000_000];
    for at in &places {
        bytes[*at..at + text.len()].copy_from_slice(text);
    }
    std::fs::write(folder.path().join("large.log"), &bytes).unwrap();
    let found = scan(&*LocalTree::at(folder.path()), folder.path(), &replacements(), &|_| true);
    assert_eq!((found.len(), found[0].pointing, found[0].line), (1, places.len() as u64, 2));
    assert!(found[0].mentions.is_empty(), "{:?}", found[0].mentions);
}

#[test]
fn mentions_are_told_by_their_reason_and_clean_files_are_not_listed() {
    let folder = tempfile::tempdir().unwrap();
    let write = |name: &str, text: &str| std::fs::write(folder.path().join(name), text).unwrap();
    write("clean.txt", "http://new.example and /srv/new\n");
    write("config.bak", "one\ntwo $password = 'fake-old-pass';\n");
    write("mail.txt", "\n\noffice@old.example, old.example, http://old.example/shop");
    write("paths.php", "<?php return array('/home/old/x', '/home/older');\n");
    std::os::unix::fs::symlink("/home/old/nowhere", folder.path().join("link")).unwrap();
    let found = scan(&*LocalTree::at(folder.path()), folder.path(), &replacements(), &|_| true);
    let told: Vec<_> = found.iter().map(|f| (f.path.as_str(), f.line, f.pointing)).collect();
    assert_eq!(told, [("config.bak", 2, 0), ("mail.txt", 3, 0), ("paths.php", 1, 1)]);
    assert_eq!(found[0].mentions[&LeftReason::Password], 1);
    assert_eq!(found[0].places[0].text, "", "nobody reads a password in a report");
    let places: Vec<_> = found[1].places.iter().map(|p| (p.line, p.text.as_str())).collect();
    assert_eq!(places.len(), 3);
    assert!(
        places.iter().all(|p| *p == (3, "office@old.example, old.example, http://old.example/shop")),
        "{places:?}"
    );
    let mail: Vec<_> = found[1].mentions.iter().map(|(r, n)| (*r, *n)).collect();
    assert_eq!(mail, [(LeftReason::BareHost, 1), (LeftReason::Email, 1), (LeftReason::OutsideBase, 1)]);
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, ..ProptestConfig::default() })]
    #[test]
    fn every_address_is_counted(gaps in proptest::collection::vec(0usize..200, 0..40)) {
        let folder = tempfile::tempdir().unwrap();
        let text: String = gaps.iter().map(|gap| format!("{}\n<http://old.example/s>", "y ".repeat(*gap))).collect();
        std::fs::write(folder.path().join("a.html"), &text).unwrap();
        let found = scan(&*LocalTree::at(folder.path()), folder.path(), &replacements(), &|_| true);
        prop_assert_eq!(found.iter().map(|f| f.pointing).sum::<u64>(), gaps.len() as u64);
    }
}

#[test]
fn program_code_that_names_paths_from_the_root_hides_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let write = |name: &str, text: &str| std::fs::write(folder.path().join(name), text).unwrap();
    write("core.php", "<?php\nreturn home_url('/') . \"/about\";\n");
    write("style.css", "\na{background:url(/img/x.png)}\n");
    write("old.js", "fetch('/x'); fetch('http://old.example/y')\n");
    let address = |t: &str| Address::parse(t).unwrap();
    let addresses = vec![(address("http://old.example"), address("http://new.example/b"))];
    let replacements = Replacements::new(&Pairs { addresses: addresses.clone(), roots: vec![] }, &[]);
    let found = scan(&*LocalTree::at(folder.path()), folder.path(), &replacements, &|_| true);
    let told: Vec<_> = found.iter().map(|f| (f.path.as_str(), f.needs_attention(&addresses[0].0))).collect();
    assert_eq!(told, [("core.php", false), ("old.js", true), ("style.css", true)]);
    let lines: Vec<_> = found[2].places.iter().map(|p| (p.reason, p.line)).collect();
    assert_eq!(lines, [(Some(LeftReason::RootRelative), 2)]);
}
