//! What has to be looked at before the Rust runtime starts.
//!
//! The runtime opens `/dev/null` in place of a standard stream that is closed, so that whatever a program writes there vanishes
//! without an error. Whoever closed it learns nothing. This crate looks before the runtime does.

use std::sync::atomic::{AtomicBool, Ordering};

static STDOUT_WAS_CLOSED: AtomicBool = AtomicBool::new(false);

/// Whether standard output was closed when the program was started. Always `false` on systems other than Linux.
pub fn stdout_was_closed() -> bool {
    STDOUT_WAS_CLOSED.load(Ordering::Relaxed)
}

#[cfg(target_os = "linux")]
extern "C" fn look() {
    // SAFETY: `fcntl` with F_GETFD only asks for the flags of a descriptor, and fails for one that is not open.
    let flags = unsafe { libc::fcntl(libc::STDOUT_FILENO, libc::F_GETFD) };
    STDOUT_WAS_CLOSED.store(flags == -1, Ordering::Relaxed);
}

// The loader calls what stands in this section, by the System V ABI, before it calls `main`.
#[cfg(target_os = "linux")]
#[used]
// SAFETY: the section holds pointers to functions that take nothing they need and return nothing; `look` is one.
#[unsafe(link_section = ".init_array")]
static LOOK: extern "C" fn() = look;
