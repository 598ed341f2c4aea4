//! Times whole commands and watches their peak memory.

use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

/// One run.
#[derive(Debug, Clone, Copy)]
pub struct Measured {
    /// Wall time in seconds.
    pub seconds: f64,
    /// Largest resident set of any process of the command, in KiB (from `/proc`, looked at every few milliseconds).
    pub peak_kib: u64,
}

/// Runs shell commands in turn, A B C A B C …, after one warm-up of each.
pub fn run_in_turn(commands: &[&str], runs: usize) -> Vec<Vec<Measured>> {
    run_prepared(&commands.iter().map(|c| (String::new(), c.to_string())).collect::<Vec<_>>(), runs)
}

/// The same; before each run another command prepares it, which is not timed.
pub fn run_prepared(commands: &[(String, String)], runs: usize) -> Vec<Vec<Measured>> {
    let mut out = vec![Vec::new(); commands.len()];
    for round in 0..=runs {
        for (i, (before, command)) in commands.iter().enumerate() {
            if !before.is_empty() {
                let ready = Command::new("sh").args(["-c", before]).status().expect("sh is there");
                assert!(ready.success(), "{before}");
            }
            let measured = run(command);
            if round > 0 || runs == 1 {
                out[i].push(measured);
            }
        }
        if runs == 1 {
            break;
        }
    }
    out
}

fn run(command: &str) -> Measured {
    let began = Instant::now();
    let mut child =
        Command::new("sh").args(["-c", command]).stderr(Stdio::null()).spawn().expect("sh is there");
    let mut peak_kib = 0;
    loop {
        peak_kib = peak_kib.max(peak_of_tree(child.id()));
        match child.try_wait() {
            Ok(None) => std::thread::sleep(Duration::from_millis(2)),
            Ok(Some(status)) => {
                assert!(status.success() || status.code() == Some(1), "{status}: {command}");
                break;
            }
            Err(_) => break,
        }
    }
    Measured { seconds: began.elapsed().as_secs_f64(), peak_kib }
}

/// The largest high-water mark among a process and its children.
fn peak_of_tree(pid: u32) -> u64 {
    let status = std::fs::read_to_string(format!("/proc/{pid}/status")).unwrap_or_default();
    let own = status
        .lines()
        .find_map(|l| l.strip_prefix("VmHWM:"))
        .and_then(|l| l.trim().trim_end_matches(" kB").parse().ok());
    let children = std::fs::read_to_string(format!("/proc/{pid}/task/{pid}/children")).unwrap_or_default();
    let below = children.split_whitespace().filter_map(|c| c.parse().ok()).map(peak_of_tree).max();
    own.unwrap_or(0).max(below.unwrap_or(0))
}

/// Returns the median.
pub fn median(mut values: Vec<f64>) -> f64 {
    values.sort_by(f64::total_cmp);
    values.get(values.len() / 2).copied().unwrap_or(f64::NAN)
}
