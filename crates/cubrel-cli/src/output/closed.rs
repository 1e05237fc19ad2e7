//! Whether there is an output at all.

use std::sync::atomic::{AtomicBool, Ordering};

static NO_STDOUT: AtomicBool = AtomicBool::new(false);

/// Whether the standard output was closed when the program was started.
pub fn no_stdout() -> bool {
    NO_STDOUT.load(Ordering::Relaxed)
}

// Before `main` the standard library puts `/dev/null` in the place of streams that are closed; afterwards nothing tells.
#[cfg(unix)]
ctor::declarative::ctor! {
    #[ctor(unsafe)]
    fn look() {
        let is_closed = rustix::io::fcntl_getfd(rustix::stdio::stdout()).is_err();
        NO_STDOUT.store(is_closed, Ordering::Relaxed);
    }
}
