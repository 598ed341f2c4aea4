//! `zporter`: carries websites. Arguments become a waybill, the core does the work, this crate draws and prints.

mod app;
mod closed;
mod commands;
mod context;
mod copy_args;
mod dump_files;
mod error;
mod exit;
mod format;
mod login;
mod progress;
mod scope;
mod signals;
mod ui;

fn main() -> std::process::ExitCode {
    app::run().into()
}
