//! Archives that were harmed on the way are told by kind and place; hostile ones harm nobody.

use super::common::{Bench, files, outcome};
use std::io::{Read, Write};
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
    let outcome = bench.run(&["verify", "--json", name]);
    assert!(outcome.code == 0 || outcome.code == 5, "{}", outcome.stderr);
    let found = outcome.json()[0].clone();
    assert_eq!(found["whole"], outcome.code == 0);
    found
}

#[test]
fn a_cut_archive_tells_how_much_is_missing() {
    for ending in ["tar.zst", "tar.gz", "zip"] {
        let bench = Bench::new();
        let whole = large(&bench, &format!("a.{ending}"));
        for keep in [whole.len() - 1, whole.len() / 2, 3000] {
            let found = verdict(&bench, &format!("cut.{ending}"), &whole[..keep]);
            assert_eq!(found["damage"]["kind"], "cut-off", "{ending} {keep}: {found}");
            // A zip tells nothing without its end; of the others the part that arrived is known. Zstandard gives blocks of 128 KiB.
            if ending != "zip" {
                let content = &found["damage"]["content"];
                let share = content["there"].as_f64().unwrap() / content["expected"].as_f64().unwrap();
                let there = keep as f64 / whole.len() as f64;
                let most = if ending == "tar.zst" { there - 0.65 } else { there - 0.1 };
                assert!((most..=there + 0.1).contains(&share), "{ending} {keep}: {found}");
            }
        }
        let longer = [&whole[..], b"tail"].concat();
        assert_eq!(verdict(&bench, &format!("long.{ending}"), &longer)["whole"], ending == "zip");
    }
}

/// What an archive holds: names and contents, as other programs read them.
fn held(ending: &str, bytes: &[u8]) -> Vec<(Vec<u8>, Vec<u8>)> {
    let mut tar = Vec::new();
    match ending {
        "tar.zst" => zstd::stream::copy_decode(bytes, &mut tar).unwrap(),
        "tar.gz" => drop(flate2::read::MultiGzDecoder::new(bytes).read_to_end(&mut tar).unwrap()),
        _ => {
            let mut zip = zip::ZipArchive::new(std::io::Cursor::new(bytes)).unwrap();
            let count = zip.len();
            let entry = |i: usize| {
                let mut file = zip.by_index(i).unwrap();
                let mut content = Vec::new();
                file.read_to_end(&mut content).unwrap();
                (file.name_raw().to_vec(), content)
            };
            return (0..count).map(entry).collect();
        }
    }
    let mut archive = tar::Archive::new(&tar[..]);
    let entry = |entry: std::io::Result<tar::Entry<'_, &[u8]>>| {
        let mut entry = entry.unwrap();
        let mut content = Vec::new();
        entry.read_to_end(&mut content).unwrap();
        (entry.path_bytes().into_owned(), content)
    };
    archive.entries().unwrap().map(entry).collect()
}

#[test]
fn a_flipped_byte_anywhere_is_noticed_or_changes_nothing() {
    for ending in ["tar.zst", "tar.gz", "zip"] {
        let bench = Bench::new();
        let whole = large(&bench, &format!("a.{ending}"));
        let content = held(ending, &whole);
        let mut noticed = 0;
        let places: Vec<usize> = (0..120).map(|i| 1 + i * (whole.len() - 2) / 120).collect();
        for (i, at) in places.iter().enumerate() {
            let mut bytes = whole.clone();
            bytes[*at] ^= 1 << (i % 8);
            if verdict(&bench, &format!("flip.{ending}"), &bytes)["whole"] == false {
                noticed += 1;
            } else {
                // Some bytes of a container mean nothing for what it holds: padding, a time, a comment.
                assert!(held(ending, &bytes) == content, "{ending}: byte {at}");
            }
        }
        assert!(noticed > 100, "{ending}: {noticed} of {}", places.len());
    }
}

#[test]
fn entries_of_a_zip_that_lie_over_each_other_are_refused_at_once() {
    let bench = Bench::new();
    let mut zip = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    for name in ["wp-load.php", "wp-config.php", "index.php"] {
        zip.start_file(name, zip::write::SimpleFileOptions::default()).unwrap();
        zip.write_all(&vec![b'a'; 1 << 20]).unwrap();
    }
    let mut bytes = zip.finish().unwrap().into_inner();
    // The central directory names where each entry begins: now all begin with the first.
    let mut at = 0;
    while let Some(found) = bytes[at..].windows(4).position(|w| w == b"PK\x01\x02") {
        at += found + 42;
        bytes[at..at + 4].fill(0);
    }
    bench.write("over.zip", &bytes);
    let to = ["--address", "http://n.test", "--database", "mysql://u@h/n", "--dump-to", "n.sql"];
    let restore = bench.run(&[&["restore", "over.zip", "new"][..], &to].concat());
    restore.expect(5).says(&["two of its entries lie over each other"]);
    assert!(!bench.path("new").exists());
    bench.run(&["verify", "over.zip"]).expect(5);
    bench.run(&["verify", "/dev/zero"]).expect(4).says(&["it is no plain file"]);
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
    bench.run(&["verify", "b.tar.zst"]).expect(5).says(&["not an archive of ours"]);
}

#[test]
fn a_damaged_archive_is_not_restored() {
    let bench = Bench::new();
    let whole = large(&bench, "a.tar.zst");
    bench.write("cut.tar.zst", &whole[..whole.len() - 100]);
    let args = ["restore", "cut.tar.zst", "new", "--address", "http://n.example", "--dump-to", "n.sql"];
    bench.run(&args).expect(5).says(&["bytes of content are there", "next:"]);
    assert!(!bench.path("new").exists() && !bench.path("n.sql").exists());
}

#[test]
fn an_archive_that_holds_more_than_could_be_told_at_its_beginning_is_restored() {
    let bench = Bench::new();
    bench.site(Variant::Joomla310);
    // A folder of pictures that is shared by a link: what lies there is packed, and nobody counted it before.
    std::fs::create_dir(bench.path("shared")).unwrap();
    std::fs::rename(bench.path("old/images"), bench.path("shared/images")).unwrap();
    std::os::unix::fs::symlink(bench.path("shared/images"), bench.path("old/images")).unwrap();
    let size = 300 << 20;
    std::fs::File::create(bench.path("shared/images/film.bin")).unwrap().set_len(size).unwrap();
    bench.run(&["pack", "old", "--dump", "old.sql", "-o", "a.tar.zst"]).says(&["Packed"]);
    let args = [
        "restore",
        "a.tar.zst",
        "new",
        "--address",
        "http://n.example",
        "--database",
        "mysql://u@h/n",
        "--dump-to",
        "n.sql",
    ];
    let done = bench.run(&args);
    assert!(done.code <= 1, "{}{}", done.stdout, done.stderr);
    assert_eq!(std::fs::metadata(bench.path("new/images/film.bin")).unwrap().len(), size);
}

/// What an archive made by hand may hold beside a site: name, kind, where a link leads, content.
type Odd<'o> = (&'o str, tar::EntryType, &'o str, &'o [u8]);

/// A plain archive of the site in `old`, with set-user bits, and more entries behind or before it.
fn odd_archive(bench: &Bench, before: &[Odd<'_>], behind: &[Odd<'_>]) -> Vec<u8> {
    let mut out = tar::Builder::new(flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast()));
    let more = |out: &mut tar::Builder<_>, odd: &[Odd<'_>]| {
        for (name, kind, link, content) in odd {
            let mut header = tar::Header::new_gnu();
            header.as_old_mut().name[..name.len()].copy_from_slice(name.as_bytes());
            header.set_entry_type(*kind);
            header.set_size(content.len() as u64);
            header.set_mode(0o644);
            if !link.is_empty() {
                header.set_link_name(link).unwrap();
            }
            header.set_cksum();
            out.append(&header, *content).unwrap();
        }
    };
    more(&mut out, before);
    for (path, content) in files(&bench.path("old")) {
        let mut header = tar::Header::new_gnu();
        header.set_size(content.len() as u64);
        header.set_mode(0o4755);
        out.append_data(&mut header, std::path::Path::new("htdocs").join(path), &content[..]).unwrap();
    }
    more(&mut out, behind);
    out.into_inner().unwrap().finish().unwrap()
}

#[test]
fn hostile_entries_never_leave_the_target() {
    use tar::EntryType::{Fifo, Link, Regular, Symlink};
    let bench = Bench::new();
    let site = bench.site(Variant::PrestaShop16);
    let outside = bench.path("outside");
    std::fs::create_dir(&outside).unwrap();
    bench.write("outside/secret", "secret");
    let out = outside.to_str().unwrap();
    let secret = format!("{out}/secret");
    let settings = "htdocs/config/settings.inc.php";
    let clash = 5;
    let cases: Vec<(Vec<Odd<'_>>, Vec<Odd<'_>>, i32, &str)> = vec![
        // Not taken, and said.
        (
            vec![],
            vec![("htdocs/../../evil", Regular, "", &b"bad"[..]), ("/tmp/zporter-evil", Regular, "", b"bad")],
            1,
            "an entry was refused",
        ),
        (vec![], vec![("htdocs/pipe", Fifo, "", b"")], 1, "a device, pipe or socket"),
        (vec![], vec![("htdocs/link", Symlink, out, b"")], 1, "a link leads to"),
        // Things made through a link of the archive.
        (
            vec![],
            vec![("htdocs/link", Symlink, out, b""), ("htdocs/link/evil", Regular, "", b"bad")],
            clash,
            "as a file",
        ),
        (
            vec![],
            vec![("htdocs/link", Symlink, out, b""), ("htdocs/link/evil", Symlink, "/etc/passwd", b"")],
            clash,
            "as a file",
        ),
        (vec![("htdocs/config", Symlink, out, b"")], vec![], clash, "as a file"),
        (vec![], vec![("htdocs/themes", Symlink, out, b"")], clash, "as a folder"),
        (vec![], vec![("htdocs/robots.txt/x", Regular, "", b"bad")], clash, "as a file"),
        // Further names of files outside, or through a link.
        (vec![], vec![("htdocs/hard", Link, "../../../etc/passwd", b"")], 4, "hard"),
        (
            vec![],
            vec![("htdocs/soft", Symlink, &secret, b""), ("htdocs/hard", Link, "htdocs/soft", b"")],
            4,
            "a further name",
        ),
        // Settings that lie elsewhere are not written through.
        (vec![], vec![(settings, Symlink, &secret, b"")], 1, "a link leads to"),
        // A head that is not where it belongs.
        (vec![], vec![("head.json", Regular, "", b"{}")], 5, "head.json"),
        // An honest hard link before its first name, and the same path twice: the last one counts.
        (
            vec![("htdocs/early", Link, "htdocs/robots.txt", b"")],
            vec![("htdocs/robots.txt", Regular, "", b"last")],
            1,
            "Restored",
        ),
    ];
    for (before, behind, code, says) in cases {
        bench.write("evil.tar.gz", odd_archive(&bench, &before, &behind));
        let _ = std::fs::remove_dir_all(bench.path("new"));
        let done = bench.run(&[
            "restore",
            "evil.tar.gz",
            "new",
            "--address",
            "http://n.example",
            "--old-address",
            &site.address,
        ]);
        let told = format!("{before:?} {behind:?}\n{}{}", done.stdout, done.stderr);
        assert!(done.code == code || (code == 1 && done.code == 0), "{}: {told}", done.code);
        assert!(told.contains(says), "{told}");
        assert!(!bench.path("evil").exists() && !std::path::Path::new("/tmp/zporter-evil").exists());
        let left: Vec<_> = std::fs::read_dir(&outside).unwrap().flatten().map(|e| e.file_name()).collect();
        assert_eq!(left, ["secret"], "{told}");
        assert_eq!(bench.read("outside/secret"), "secret", "{told}");
        // What clashes is known before the first byte is written.
        assert_eq!(
            bench.path("new").exists(),
            code != clash || says.contains("further") || says == "hard",
            "{told}"
        );
        if says == "Restored" {
            assert_eq!(
                (bench.read("new/robots.txt"), bench.read("new/early")),
                ("last".into(), "last".into())
            );
            let mode = std::fs::metadata(bench.path("new/index.php")).unwrap().permissions();
            assert_eq!(std::os::unix::fs::PermissionsExt::mode(&mode) & 0o7777, 0o755, "no set-user bit");
        }
    }
}

/// Archives of format 1 had their length in the first mark. They were written by the program when that was its format.
#[test]
fn archives_of_format_1_are_verified_and_restored() {
    for (ending, whole) in [
        ("tar.zst", &include_bytes!("fixtures/format-1.tar.zst")[..]),
        ("tar.gz", &include_bytes!("fixtures/format-1.tar.gz")[..]),
        ("zip", &include_bytes!("fixtures/format-1.zip")[..]),
    ] {
        let bench = Bench::new();
        let name = format!("old.{ending}");
        assert_eq!(verdict(&bench, &name, whole)["holds"]["head"]["format"], 1);
        let args = [
            "restore",
            &name,
            "new",
            "--address",
            "https://n.example",
            "--dump-to",
            "n.sql",
            "--database",
            "mysql://u@localhost/n",
        ];
        bench.run(&args).expect(0);
        assert!(bench.read("n.sql").contains("'https://n.example/images/plate.txt'"));
        if ending != "zip" {
            let found = verdict(&bench, &format!("cut.{ending}"), &whole[..whole.len() - 100]);
            assert_eq!(found["damage"]["missing"], 100, "{found}");
        }
    }
}

#[test]
fn an_archive_goes_into_a_pipe_or_a_device_as_it_goes_into_a_file() {
    let bench = Bench::new();
    bench.site(Variant::Drupal7);
    let pack = ["pack", "old", "--dump", "old.sql", "--host-folder", "default", "-o"];
    let command = |to: &str| {
        let mut command = bench.command(&[&pack[..], &[to]].concat());
        command.env("SOURCE_DATE_EPOCH", "1790000000");
        command
    };
    let piped = command("-").output().unwrap();
    assert!(piped.status.success() && String::from_utf8_lossy(&piped.stderr).contains("Packed"));
    outcome(command("a.tar.zst")).expect(0);
    assert!(piped.stdout == std::fs::read(bench.path("a.tar.zst")).unwrap(), "the same bytes");
    outcome(command("/dev/null")).expect(0).says(&["Packed → /dev/null"]);
    let both = bench.run(&["pack", "old", "--host-folder", "default,members.fernhollow.example", "-o", "-"]);
    both.expect(2).says(&["several archives cannot be written to a pipe"]);
}
