//! Benchmarks: whole commands against a yardstick in the same run, in turn, as ratios of medians, with peak memory.
//!
//! ```text
//! cargo build --release && cargo run --release -p zporter-bench -- readdress 256 2
//! ```
//! The first number is the size in MiB, the second the share of rows (in percent) that hold the old address.

mod database;
mod dump;
mod live;
mod measure;
mod postgres;
mod web;

use measure::{Measured, median, run_in_turn};
use std::path::{Path, PathBuf};

const OLD: &str = "http://www.fernhollow.example";

fn main() {
    let args: Vec<String> = std::env::args().skip(1).collect();
    let number = |i: usize, default: u64| args.get(i).and_then(|a| a.parse().ok()).unwrap_or(default);
    match args.first().map(String::as_str) {
        Some("generate") => {
            let path = args.get(3).map_or("dump.sql", String::as_str);
            dump::write(Path::new(path), number(1, 64) << 20, number(2, 2));
        }
        Some("readdress") => readdress(number(1, 256), number(2, 2), number(3, 5) as usize),
        Some("site") => site(number(1, 2048)),
        Some("database") => database::compare(number(1, 300), number(2, 5) as usize),
        Some("live") => live::compare(number(1, 300), number(2, 5) as usize),
        Some("clone") => database::clone(number(1, 1000), number(2, 5) as usize),
        Some("postgres") => postgres::compare(number(1, 300), number(2, 5) as usize),
        Some("visit") => web::compare(number(1, 500), number(2, 5) as usize),
        Some("files") => database::files(number(1, 20_000), number(2, 5) as usize),
        _ => eprintln!(
            "usage: zporter-bench generate MIB PERCENT FILE | readdress MIB PERCENT [RUNS] | site MIB | database MIB [RUNS] | clone MIB [RUNS] | live MIB [RUNS] | postgres MIB [RUNS] | files COUNT [RUNS] | visit PAGES [RUNS]"
        ),
    }
}

fn zporter() -> PathBuf {
    let here = std::env::current_exe().expect("the bench knows where it lies");
    let path = here.with_file_name("zporter");
    assert!(path.exists(), "build it first: cargo build --release");
    path
}

fn scratch() -> PathBuf {
    let path = std::env::temp_dir().join(format!("zporter-bench-{}", std::process::id()));
    std::fs::create_dir_all(&path).expect("the temporary folder can be written");
    path
}

fn show(name: &str, runs: &[Measured], yardstick: f64, bytes: u64) {
    let seconds = median(runs.iter().map(|r| r.seconds).collect());
    let memory = runs.iter().map(|r| r.peak_kib).max().unwrap_or(0);
    println!(
        "{name:<34} {seconds:>8.3} s  {:>7.0} MiB/s  {:>5.2} x sed  peak {:>6.1} MiB",
        bytes as f64 / seconds / f64::from(1 << 20),
        yardstick / seconds,
        memory as f64 / 1024.0
    );
}

/// `readdress` against `cat` and `sed`, to a null sink, with all cores and with one.
fn readdress(mib: u64, percent: u64, runs: usize) {
    let folder = scratch();
    let input = folder.join("in.sql");
    dump::write(&input, mib << 20, percent);
    let bytes = std::fs::metadata(&input).map(|m| m.len()).unwrap_or_default();
    let (zp, input) = (zporter().display().to_string(), input.display().to_string());
    let ours = format!(
        "'{zp}' -q readdress '{input}' -o - --address {OLD} https://new.example/base --root /home/fernhollow/public_html /srv/www >/dev/null"
    );
    let commands = [
        ("cat", format!("cat '{input}' >/dev/null")),
        (
            "LC_ALL=C sed, one plain needle",
            format!("LC_ALL=C sed 's|{OLD}|https://new.example/base|g' '{input}' >/dev/null"),
        ),
        ("grep -cF", format!("grep -cF '{OLD}' '{input}' | cat >/dev/null")),
        ("zporter readdress", ours.clone()),
        ("zporter readdress, one core", format!("taskset -c 0 {ours}")),
    ];
    println!("{mib} MiB, {percent} % of rows with the address, medians of {runs}");
    let measured = run_in_turn(&commands.iter().map(|(_, c)| c.as_str()).collect::<Vec<_>>(), runs);
    let sed = median(measured[1].iter().map(|r| r.seconds).collect());
    for ((name, _), runs) in commands.iter().zip(&measured) {
        show(name, runs, sed, bytes);
    }
    let _ = std::fs::remove_dir_all(folder);
}

/// Peak memory of the whole job on a site of the given size: half files, half database.
fn site(mib: u64) {
    let folder = scratch();
    let site = folder.join("old");
    std::fs::create_dir_all(site.join("config")).expect("the site can be written");
    std::fs::create_dir_all(site.join("img/p")).expect("the site can be written");
    let config = "<?php\ndefine('_DB_SERVER_', 'localhost');\ndefine('_DB_NAME_', 'o');\ndefine('_DB_USER_', 'o');\n\
        define('_DB_PASSWD_', 'fake-old-pass');\ndefine('_DB_PREFIX_', 'ps_');\ndefine('_COOKIE_KEY_', 'fake');\ndefine('_PS_VERSION_', '1.6.1.24');\n";
    std::fs::write(site.join("config/settings.inc.php"), config).expect("the site can be written");
    let mut noise = dump::Noise::new(7);
    let one = 4 << 20;
    for i in 0..(mib << 20) / 2 / one {
        std::fs::write(site.join(format!("img/p/{i}.jpg")), noise.bytes(one as usize))
            .expect("the site can be written");
    }
    let sql = folder.join("old.sql");
    dump::write(&sql, (mib << 20) / 2, 2);
    std::fs::write(folder.join("pw"), "fake-new-pass").expect("the folder can be written");
    let zp = format!("cd '{}' && HOME=. '{}' -q", folder.display(), zporter().display());
    let steps = [
        ("survey", format!("{zp} survey old --dump old.sql >/dev/null")),
        ("pack .tar.zst", format!("{zp} pack old --dump old.sql -o a.tar.zst --address {OLD} >/dev/null")),
        ("verify", format!("{zp} prove a.tar.zst >/dev/null")),
        (
            "restore to folder and dump file",
            format!(
                "{zp} restore a.tar.zst new --address http://n.example --database mysql://n@h/n --database-password-file pw --dump-to n.sql >/dev/null"
            ),
        ),
        ("readdress", format!("{zp} readdress old.sql -o r.sql --address {OLD} http://n.example >/dev/null")),
    ];
    println!("a site of {mib} MiB, half media, half database; one run each");
    for (name, command) in steps {
        let run = &run_in_turn(&[&command], 1)[0][0];
        println!("{name:<34} {:>8.1} s  peak {:>6.1} MiB", run.seconds, run.peak_kib as f64 / 1024.0);
    }
    let _ = std::fs::remove_dir_all(folder);
}
