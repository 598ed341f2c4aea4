//! Archives that somebody made by hand: a folder in a tar.gz, a dump beside it, links of both kinds.

use super::common::{Bench, files};
use std::path::Path;
use zporter_standin::{Site, Variant};

/// Packs `old/` with the stock tar, below a folder name or at the archive's own root.
fn tarred(bench: &Bench, name: &str, at_root: bool) {
    let mut tar = std::process::Command::new("tar");
    tar.current_dir(bench.path("")).args(["-czf", name]);
    if at_root {
        tar.args(["-C", "old", "."]);
    } else {
        tar.arg("old");
    }
    assert!(tar.status().unwrap().success());
}

fn site(bench: &Bench) -> Site {
    let site = bench.site(Variant::Joomla310);
    std::fs::hard_link(
        bench.path("old/images/banners/milky way.png"),
        bench.path("old/images/second name.png"),
    )
    .unwrap();
    std::os::unix::fs::symlink("images", bench.path("old/pictures")).unwrap();
    site
}

#[test]
fn a_tar_by_hand_with_its_dump_beside_it_is_restored() {
    for at_root in [true, false] {
        for dump_name in ["old.sql", "old.sql.gz", "old.sql.zst"] {
            let bench = Bench::new();
            let site = site(&bench);
            tarred(&bench, "by hand.tar.gz", at_root);
            let packed = match dump_name {
                "old.sql.gz" => {
                    let mut gz = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
                    std::io::Write::write_all(&mut gz, site.dump().as_bytes()).unwrap();
                    gz.finish().unwrap()
                }
                "old.sql.zst" => zstd::encode_all(site.dump().as_bytes(), 1).unwrap(),
                _ => site.dump().into_bytes(),
            };
            bench.write(dump_name, packed);
            let args = [
                "restore",
                "by hand.tar.gz",
                "new",
                "--dump",
                dump_name,
                "--address",
                "https://n.example",
                "--database",
                "mysql://u@h/n",
                "--dump-to",
                "n.sql",
            ];
            // The old address is concluded from the dump's content, as the site itself stores none.
            bench.run(&args).expect(1).says(&[
                "http://www.fernhollow.example  (from",
                "links in the content",
                "rebuilt by the system",
            ]);
            assert!(bench.read("n.sql").contains("'https://n.example/forum'"));
            let one = std::fs::read(bench.path("new/images/banners/milky way.png")).unwrap();
            assert_eq!(std::fs::read(bench.path("new/images/second name.png")).unwrap(), one);
            assert_eq!(std::fs::read_link(bench.path("new/pictures")).unwrap(), Path::new("images"));
            assert!(bench.read("new/configuration.php").contains("public $db = 'n';"));
            assert!(
                !bench.path("new/cache/page/abc.php").exists() && bench.path("new/cache/index.html").exists()
            );
        }
    }
}

#[test]
fn files_alone_are_restored_without_a_database() {
    let bench = Bench::new();
    let site = site(&bench);
    bench
        .run(&["pack", "old", "-o", "files.zip", "--without", "database", "--old-address", &site.address])
        .expect(0)
        .says(&["0 tables"]);
    bench.run(&["verify", "files.zip"]).expect(0).says(&["0 parts"]);
    bench
        .run(&["restore", "files.zip", "new", "--address", "https://n.example"])
        .expect(1)
        .says(&["Restored"]);
    let config = bench.read("new/configuration.php");
    assert!(
        config.contains("public $user = 'fernhollow_web';"),
        "without a new database its access stays: {config}"
    );
    assert!(config.contains(&format!("{}/tmp'", bench.path("new").display())), "{config}");
    // What the source had and the definition carries is there, byte for byte but for the edits.
    for (path, bytes) in files(&bench.path("new")) {
        let edited = ["configuration.php", ".htaccess", "robots.txt"].iter().any(|e| path == Path::new(e));
        assert!(
            edited || std::fs::read(bench.path("old").join(&path)).unwrap() == bytes,
            "{}",
            path.display()
        );
    }
}

#[test]
fn several_archives_are_verified_in_one_run_and_each_gets_its_verdict() {
    let bench = Bench::new();
    bench.packed(Variant::Joomla310, "good.tar.gz");
    let whole = std::fs::read(bench.path("good.tar.gz")).unwrap();
    bench.write("cut.tar.gz", &whole[..whole.len() - 9]);
    tarred(&bench, "foreign.tar.gz", false);
    let proven = bench.run(&["verify", "cut.tar.gz", "good.tar.gz", "foreign.tar.gz"]).expect(5);
    let proven =
        proven.says(&["bytes of content are there", "not an archive of ours", "restore accepts a plain zip"]);
    let verdicts = [" whole\n", " damaged\n", " not ours\n"].map(|v| proven.stdout.matches(v).count());
    assert_eq!(verdicts, [1, 1, 1], "{}", proven.stdout);
    let json = bench.run(&["verify", "--json", "cut.tar.gz", "good.tar.gz"]).expect(5).json();
    assert_eq!(
        (json[0]["damage"]["kind"].clone(), json[1]["holds"]["head"]["system"]["id"].clone()),
        ("cut-off".into(), "joomla".into())
    );
    bench.run(&["verify", "missing.tar.gz"]).expect(4).says(&["missing.tar.gz cannot be read"]);
}

#[test]
fn every_system_is_found_in_a_tar_by_hand() {
    for variant in zporter_standin::VARIANTS {
        for at_root in [true, false] {
            let bench = Bench::new();
            let site = bench.site(variant);
            // A config of something else, above and below.
            bench.write("old/notes.txt", "x");
            tarred(&bench, "by hand.tar.gz", at_root);
            let url = if site.definition() == "dnn" { "sqlserver://u@h/n" } else { "mysql://u@h/n" };
            let mut args = vec![
                "restore",
                "by hand.tar.gz",
                "new",
                "--dump",
                "old.sql",
                "--address",
                "https://n.example/x",
                "--old-address",
                &site.address,
            ];
            args.extend(["--old-root", &site.root, "--database", url, "--dump-to", "n.sql", "--json"]);
            if site.definition().starts_with("drupal") {
                bench.run(&args).expect(2).says(&["several hosts", "--host-folder"]);
                args.extend(["--host-folder", "default"]);
            }
            let done = bench.run(&args);
            assert!(done.code <= 1, "{variant:?}: {}{}", done.stdout, done.stderr);
            let config = done.json()["config"].as_object().unwrap().keys().cloned().collect::<Vec<_>>();
            assert!(
                config.iter().any(|c| c.ends_with(".php") || c == "web.config"),
                "{variant:?}: {config:?}"
            );
            let dump = std::fs::read(bench.path("n.sql")).unwrap();
            let dump = String::from_utf8_lossy(&dump).replace('\0', "");
            assert!(dump.contains("n.example/x"), "{variant:?}: {dump}");
        }
    }
}
