//! Serves the small web host until it is stopped: `cargo run -p zporter-standin --example host -- PORT PAGES [FAULT…]`. The names of the faults
//! are those of `zporter_standin::host::Fault`. It prints where it listens.

use std::collections::BTreeSet;
use zporter_standin::host::{Fault, Host, Served};

fn main() -> std::io::Result<()> {
    let mut args = std::env::args().skip(1);
    let port: u16 = args.next().and_then(|p| p.parse().ok()).unwrap_or(0);
    let pages = args.next().and_then(|p| p.parse().ok()).unwrap_or(20);
    let faults: BTreeSet<Fault> =
        args.filter_map(|name| Fault::ALL.iter().copied().find(|f| format!("{f:?}") == name)).collect();
    let host = Host::serve_at(
        port,
        Served {
            name: "www.fernhollow.example".into(),
            base: "/sky".into(),
            old: "http://old.fernhollow.example/stars".into(),
            old_root: "/home/fernhollow/public_html".into(),
            pages,
            faults,
            ..Served::default()
        },
    )?;
    println!("{} at {}", host.address(), host.at);
    loop {
        std::thread::park();
    }
}
