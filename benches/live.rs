//! Changing a site where it lies, and bringing it back: against reading its database, and the time in which it is not whole.

use crate::database::{Ground, quiet, shop, show};
use crate::measure::median;
use std::process::Command;

const OLD: &str = "http://www.fernhollow.example";
const NEW: &str = "https://new.fernhollow.example/shop";

fn shell(command: &str) -> String {
    let done = Command::new("sh").args(["-c", command]).output().expect("sh is there");
    assert!(
        done.status.code().is_some_and(|c| c <= 1),
        "{command}: {}",
        String::from_utf8_lossy(&done.stderr)
    );
    String::from_utf8_lossy(&done.stdout).into_owned()
}

/// Settles a shop whose rows hold the old address, and back again before each run; then packs it and brings it back in place.
pub fn compare(mib: u64, runs: usize) {
    let ground = Ground::new(mib);
    let (server, folder) = (ground.server(), &ground.folder);
    shell(&server.emptied("c"));
    shell(&ground.load("c", 2));
    // As many tables as a grown shop has.
    let small: String =
        (0..90).map(|i| format!("CREATE TABLE ps_small_{i} (id int PRIMARY KEY, t text);")).collect();
    assert!(server.client("c", &small).success());
    let site = shop(folder, server);
    let zp = quiet(folder);
    let settle = |from: &str, to: &str| {
        format!(
            "{zp} settle '{}' --old-address {from} --address {to} >/dev/null || [ $? = 1 ]",
            site.display()
        )
    };
    println!("settling {mib} MiB, medians of {runs}");
    let stock = format!(
        "mariadb-dump --no-defaults -uroot -S '{}' --single-transaction --hex-blob c >/dev/null",
        server.socket()
    );
    show(
        &[
            ("stock dump program, to nowhere", String::new(), stock),
            (
                "zporter database dump, to nowhere",
                String::new(),
                format!("{zp} database dump {} -o - >/dev/null 2>&1", server.url("c")),
            ),
            (
                "zporter settle --dry-run",
                String::new(),
                settle(OLD, NEW).replace(" >/dev/null", " --dry-run >/dev/null"),
            ),
            ("zporter settle", settle(NEW, OLD), settle(OLD, NEW)),
        ],
        runs,
        ground.bytes,
    );
    shell(&format!(
        "{zp} pack '{}' --old-address {NEW} -o whole.tar.zst >/dev/null || [ $? = 1 ]",
        site.display()
    ));
    let mut exchanged = Vec::new();
    let mut back = Vec::new();
    for _ in 0..runs {
        let command =
            format!("{} restore whole.tar.zst --in-place --json || [ $? = 1 ]", zp.trim_end_matches(" -q"));
        let document = shell(&command);
        let seconds = document.split("\"exchanged\":").nth(1).and_then(|t| t.split([',', '}', '\n']).next());
        exchanged.push(seconds.and_then(|s| s.trim().parse().ok()).unwrap_or(f64::NAN));
        let began = std::time::Instant::now();
        shell(&format!("{zp} undo last >/dev/null"));
        back.push(began.elapsed().as_secs_f64());
    }
    println!(
        "restore --in-place: not whole for {:.3} s (largest {:.3} s); undo in {:.3} s",
        median(exchanged.clone()),
        exchanged.iter().copied().fold(0.0, f64::max),
        median(back)
    );
}
