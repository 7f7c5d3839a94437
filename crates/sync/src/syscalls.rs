//! The one module with unsafe code: system calls that the wrapper crates do not offer, and a promise about a descriptor.
#![allow(unsafe_code)]

use std::fs::File;
use std::os::fd::{AsRawFd, OwnedFd};
use tokio::io::unix::AsyncFd;

/// Whether some process has a file open for writing: the kernel then gives no lease on reading it (fcntl F_SETLEASE).
/// Where no lease can be had for another reason, nobody is taken to write.
pub(crate) fn is_open_for_writing(file: &File) -> bool {
    let fd = file.as_raw_fd();
    // SAFETY: the call takes a descriptor that lives as long as `file`, and numbers.
    let refused = unsafe { libc::fcntl(fd, libc::F_SETLEASE, libc::F_RDLCK) } != 0;
    if refused {
        return std::io::Error::last_os_error().raw_os_error() == Some(libc::EAGAIN);
    }
    // SAFETY: the same.
    unsafe {
        libc::fcntl(fd, libc::F_SETLEASE, libc::F_UNLCK);
    }
    false
}

/// A descriptor to wait on.
pub(crate) fn waiting_on(fd: OwnedFd) -> std::io::Result<AsyncFd<OwnedFd>> {
    // SAFETY: the descriptor is owned by what is returned, which alone closes it.
    unsafe { AsyncFd::register(fd) }.map_err(Into::into)
}

/// Gives memory that is not used any more back to the system: what reading a large tree took would be kept for ever.
pub(crate) fn give_memory_back() {
    // SAFETY: the call takes a number, and touches nothing that is in use.
    #[cfg(all(target_os = "linux", target_env = "gnu"))]
    unsafe {
        libc::malloc_trim(0);
    }
}

/// Threads share two heaps, and what is large has pages of its own: else each of them keeps what one of its threads once took.
pub(crate) fn share_memory() {
    // SAFETY: the calls take numbers, and may be made at any time.
    #[cfg(all(target_os = "linux", target_env = "gnu"))]
    unsafe {
        libc::mallopt(libc::M_ARENA_MAX, 2);
        libc::mallopt(libc::M_MMAP_THRESHOLD, 512 << 10);
    }
}
