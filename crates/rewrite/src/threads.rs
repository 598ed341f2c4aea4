//! Threads, as far as the system lets them start. One that does not is an error like any other, never a panic.

use std::io;
use std::thread::{Builder, JoinHandle, Scope, ScopedJoinHandle};

/// Starts a thread.
pub fn start<T: Send + 'static>(work: impl FnOnce() -> T + Send + 'static) -> io::Result<JoinHandle<T>> {
    Builder::new().spawn(work).map_err(describe)
}

/// Starts a thread that ends within a scope.
pub fn start_in<'scope, T: Send + 'scope>(
    scope: &'scope Scope<'scope, '_>,
    work: impl FnOnce() -> T + Send + 'scope,
) -> io::Result<ScopedJoinHandle<'scope, T>> {
    Builder::new().spawn_scoped(scope, work).map_err(describe)
}

/// Returns how many threads of these many can be started now, for a library that cannot do with fewer than it was told of.
pub fn possible(wanted: u32) -> u32 {
    let (hold, held) = std::sync::mpsc::channel::<()>();
    let held = std::sync::Arc::new(std::sync::Mutex::new(held));
    let mut threads = Vec::new();
    for _ in 0..wanted {
        let held = held.clone();
        // Each waits until all are counted.
        let wait = move || drop(held.lock().map(|held| held.recv()));
        match start(wait) {
            Ok(thread) => threads.push(thread),
            Err(_) => break,
        }
    }
    drop(hold);
    let count = threads.len() as u32;
    threads.into_iter().for_each(|thread| drop(thread.join()));
    count
}

fn describe(e: io::Error) -> io::Error {
    io::Error::new(e.kind(), format!("the system starts no further thread for this user: {e}"))
}
