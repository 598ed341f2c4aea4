//! Whether standard output was closed when the program began. The language's own start-up puts `/dev/null` in place of what is closed, and
//! everything written there would seem to have arrived; so this is asked before it.

use std::sync::atomic::{AtomicBool, Ordering::Relaxed};

static CLOSED: AtomicBool = AtomicBool::new(false);

#[ctor::ctor(unsafe)]
fn look() {
    CLOSED.store(rustix::io::fcntl_getfd(rustix::stdio::stdout()).is_err(), Relaxed);
}

/// Says whether it was.
pub fn output() -> bool {
    CLOSED.load(Relaxed)
}
