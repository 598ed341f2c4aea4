//! Archives that were harmed on the way are told by kind and place; hostile ones harm nobody.

use super::common::{Bench, files};
use std::io::Write;
use zporter_standin::Variant;

/// Packs a site large enough that bytes of every value occur in the archive.
fn large(bench: &Bench, name: &str) -> Vec<u8> {
    bench.site(Variant::Joomla310);
    let mut noise = Vec::new();
    let mut state = 0x2545_F491_4F6C_DD1Du64;
    for _ in 0..200_000 {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        noise.push(state as u8);
    }
    bench.write("old/images/noise.jpg", &noise);
    bench.run(&["pack", "old", "--dump", "old.sql", "-o", name]).expect(0).says(&["Packed"]);
    std::fs::read(bench.path(name)).unwrap()
}

fn verdict(bench: &Bench, name: &str, bytes: &[u8]) -> serde_json::Value {
    bench.write(name, bytes);
    let outcome = bench.run(&["prove", "--json", name]);
    assert!(outcome.code == 0 || outcome.code == 5, "{}", outcome.stderr);
    let found = outcome.json()[0].clone();
    assert_eq!(found["whole"], outcome.code == 0);
    found
}

#[test]
fn a_cut_archive_tells_how_much_is_missing() {
    for (ending, known) in [("tar.zst", true), ("tar.gz", true), ("zip", false)] {
        let bench = Bench::new();
        let whole = large(&bench, &format!("a.{ending}"));
        for keep in [whole.len() - 1, whole.len() / 2, 3000] {
            let found = verdict(&bench, &format!("cut.{ending}"), &whole[..keep]);
            assert_eq!(found["damage"]["kind"], "cut-off", "{ending} {keep}: {found}");
            if known {
                assert_eq!(found["damage"]["missing"], whole.len() - keep);
            }
        }
        let longer = [&whole[..], b"tail"].concat();
        assert_eq!(verdict(&bench, &format!("long.{ending}"), &longer)["whole"], ending == "zip");
    }
}

#[test]
fn a_flipped_byte_anywhere_is_noticed() {
    for ending in ["tar.zst", "tar.gz", "zip"] {
        let bench = Bench::new();
        let whole = large(&bench, &format!("a.{ending}"));
        let mut noticed = 0;
        let places: Vec<usize> = (0..40).map(|i| 1 + i * (whole.len() - 2) / 40).collect();
        for at in &places {
            let mut bytes = whole.clone();
            bytes[*at] ^= 0x10;
            noticed += usize::from(verdict(&bench, &format!("flip.{ending}"), &bytes)["whole"] == false);
        }
        // Some bytes of a container mean nothing (padding, a time, the mark itself): all others must be noticed.
        assert!(noticed >= places.len() - 4, "{ending}: {noticed} of {}", places.len());
    }
}

#[test]
fn a_text_mode_transfer_is_recognised() {
    for ending in ["tar.zst", "tar.gz", "zip"] {
        let bench = Bench::new();
        let whole = large(&bench, &format!("a.{ending}"));
        let mut crlf = Vec::new();
        for b in &whole {
            if *b == b'\n' {
                crlf.push(b'\r');
            }
            crlf.push(*b);
        }
        assert_eq!(
            verdict(&bench, &format!("crlf.{ending}"), &crlf)["damage"]["kind"],
            "text-mode",
            "{ending}"
        );
        let lf: Vec<u8> = whole.iter().copied().filter(|b| *b != b'\r').collect();
        assert_eq!(verdict(&bench, &format!("lf.{ending}"), &lf)["damage"]["kind"], "text-mode", "{ending}");
    }
}

/// Repacks a tar.zst, letting `change` drop or alter entries.
fn repacked(bytes: &[u8], change: impl Fn(&str, &mut Vec<u8>) -> bool) -> Vec<u8> {
    let mut archive = tar::Archive::new(zstd::stream::read::Decoder::new(bytes).unwrap());
    let mut out = tar::Builder::new(zstd::stream::write::Encoder::new(Vec::new(), 1).unwrap());
    for entry in archive.entries().unwrap() {
        let mut entry = entry.unwrap();
        let name = entry.path().unwrap().display().to_string();
        let mut content = Vec::new();
        std::io::Read::read_to_end(&mut entry, &mut content).unwrap();
        let mut header = entry.header().clone();
        if change(&name, &mut content) {
            header.set_size(content.len() as u64);
            out.append_data(&mut header, &name, &content[..]).unwrap();
        }
    }
    out.into_inner().unwrap().finish().unwrap()
}

#[test]
fn missing_altered_and_extra_entries_are_named() {
    let bench = Bench::new();
    bench.packed(Variant::PrestaShop16, "a.tar.zst");
    let whole = std::fs::read(bench.path("a.tar.zst")).unwrap();
    let damage = |change: &dyn Fn(&str, &mut Vec<u8>) -> bool| {
        verdict(&bench, "b.tar.zst", &repacked(&whole, change))["damage"].clone()
    };

    let found = damage(&|name, _| !name.ends_with("robots.txt"));
    assert_eq!(
        (found["kind"].as_str(), found["entry"].as_str()),
        (Some("missing"), Some("files/robots.txt"))
    );
    let found = damage(&|name, content| {
        if name.ends_with("global.css") {
            content[0] ^= 1;
        }
        true
    });
    assert_eq!(
        (found["kind"].as_str(), found["entry"].as_str()),
        (Some("altered"), Some("files/themes/fern/css/global.css"))
    );
    let found = damage(&|name, _| name != "manifest.jsonl");
    assert_eq!((found["kind"].as_str(), found["entry"].as_str()), (Some("missing"), Some("manifest.jsonl")));
    let found = damage(&|name, content| {
        if name.contains("configuration.sql") {
            content.truncate(content.len() / 2);
        }
        true
    });
    assert_eq!(found["kind"], "dump", "{found}");
    let found = damage(&|name, _| name != "head.json");
    assert_eq!(found["kind"], "not-ours");
    bench.write("b.tar.zst", "<?php not an archive");
    bench.run(&["prove", "b.tar.zst"]).expect(5).says(&["not an archive of ours"]);
}

#[test]
fn a_damaged_archive_is_not_restored() {
    let bench = Bench::new();
    let whole = large(&bench, "a.tar.zst");
    bench.write("cut.tar.zst", &whole[..whole.len() - 100]);
    let args = ["restore", "cut.tar.zst", "new", "--address", "http://n.example", "--dump-to", "n.sql"];
    bench.run(&args).expect(5).says(&["100 bytes are missing", "next:"]);
    assert!(!bench.path("new").exists() && !bench.path("n.sql").exists());
}

#[test]
fn hostile_entries_never_leave_the_target() {
    let bench = Bench::new();
    let site = bench.site(Variant::PrestaShop16);
    let mut out = tar::Builder::new(flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast()));
    for (path, content) in files(&bench.path("old")) {
        let mut header = tar::Header::new_gnu();
        header.set_size(content.len() as u64);
        header.set_mode(0o4755);
        out.append_data(&mut header, std::path::Path::new("htdocs").join(path), &content[..]).unwrap();
    }
    let raw = |name: &[u8], kind: tar::EntryType, link: &str| {
        let mut header = tar::Header::new_gnu();
        header.as_old_mut().name[..name.len()].copy_from_slice(name);
        header.set_entry_type(kind);
        header.set_size(if kind == tar::EntryType::Regular { 3 } else { 0 });
        header.set_mode(0o644);
        if !link.is_empty() {
            header.set_link_name(link).unwrap();
        }
        header.set_cksum();
        header
    };
    let outside = bench.path("outside");
    std::fs::create_dir(&outside).unwrap();
    for (name, kind, link) in [
        (&b"htdocs/../../evil1"[..], tar::EntryType::Regular, ""),
        (b"/tmp/zporter-evil2", tar::EntryType::Regular, ""),
        (b"htdocs/link", tar::EntryType::Symlink, outside.to_str().unwrap()),
        (b"htdocs/link/evil3", tar::EntryType::Regular, ""),
        (b"htdocs/hard", tar::EntryType::Link, "../../../etc/passwd"),
        (b"htdocs/pipe", tar::EntryType::Fifo, ""),
    ] {
        let header = raw(name, kind, link);
        if kind == tar::EntryType::Link {
            continue;
        }
        out.append(&header, if kind == tar::EntryType::Regular { &b"bad"[..] } else { b"" }).unwrap();
    }
    bench.write("evil.tar.gz", out.into_inner().unwrap().finish().unwrap());
    let done = bench.run(&[
        "restore",
        "evil.tar.gz",
        "new",
        "--address",
        "http://n.example",
        "--from-address",
        &site.address,
    ]);
    // The link's name was used as a folder before: the link cannot be made, and nothing was written through it.
    assert!(done.code != 0, "{}", done.stdout);
    assert!(!bench.path("evil1").exists() && !std::path::Path::new("/tmp/zporter-evil2").exists());
    assert!(std::fs::read_dir(&outside).unwrap().next().is_none());
    let mode = std::os::unix::fs::PermissionsExt::mode(
        &std::fs::metadata(bench.path("new/robots.txt")).unwrap().permissions(),
    );
    assert_eq!(mode & 0o7777, 0o755, "no set-user bit");
    std::io::stdout().flush().unwrap();
}
