//! Visiting a site of many pages, against the common command-line fetcher in recursive mode, with one connection each; and the peak memory of
//! a visit of very many pages.

use crate::measure::{median, run_in_turn};
use crate::{scratch, zporter};
use zporter_standin::host::{Host, Served};

/// Visits a host of so many pages in turn with the fetcher.
pub fn compare(pages: u64, runs: usize) {
    let folder = scratch();
    let host = Host::serve(Served { pages: pages as usize, lively: true, ..Served::default() })
        .expect("a port is free");
    let (address, zp, own) = (host.address(), zporter().display().to_string(), folder.display().to_string());
    let most = pages + 10;
    let visit = |connections: u32| {
        format!("'{zp}' -q visit {address} --pages {most} --connections {connections} >/dev/null")
    };
    let fetcher = format!(
        "rm -rf '{own}/w'; wget -q -r -l inf -p -e robots=off -P '{own}/w' {address}/ {address}/sitemap.xml; true"
    );
    let names = ["wget, recursive", "zporter visit, one connection", "zporter visit, four"];
    let commands = [fetcher, visit(1), visit(4)];
    println!("{pages} pages with {} files that they need, medians of {runs}", 15);
    let measured = run_in_turn(&commands.iter().map(String::as_str).collect::<Vec<_>>(), runs);
    let yardstick = median(measured[0].iter().map(|r| r.seconds).collect());
    for (name, runs) in names.iter().zip(&measured) {
        let seconds = median(runs.iter().map(|r| r.seconds).collect());
        let memory = runs.iter().map(|r| r.peak_kib).max().unwrap_or(0);
        println!(
            "{name:<34} {seconds:>8.3} s  {:>7.0} pages/s  {:>5.2} x wget  peak {:>6.1} MiB",
            pages as f64 / seconds,
            yardstick / seconds,
            memory as f64 / 1024.0
        );
    }
    let fetched =
        std::process::Command::new("sh").args(["-c", &format!("find '{own}/w' -type f | wc -l")]).output();
    println!("wget fetched {} files", String::from_utf8_lossy(&fetched.expect("sh is there").stdout).trim());
    let _ = std::fs::remove_dir_all(folder);
}
