//! `zporter`: carries websites. Arguments become jobs, the core does the work, this crate draws and prints what came of it.

mod app;
mod closed;
mod commands;
mod context;
mod error;
mod exit;
mod format;
mod job_args;
mod login;
mod near_misses;
mod progress;
mod render;
mod report;
mod schemas;
mod signals;

fn main() -> std::process::ExitCode {
    app::run()
}
