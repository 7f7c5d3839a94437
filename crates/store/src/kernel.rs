//! The one module with unsafe code: system calls that the wrapper crate does not offer.
#![allow(unsafe_code)]

use std::os::fd::RawFd;

/// Starts writing a range of a file back to the disk, without waiting (sync_file_range).
/// A hint: its failure only means that the sync at the end has more to do.
pub(crate) fn start_writeback(fd: RawFd, from: u64, length: u64) {
    // SAFETY: the call takes numbers only; a bad descriptor is answered with an error.
    unsafe {
        libc::sync_file_range(fd, from as i64, length as i64, libc::SYNC_FILE_RANGE_WRITE);
    }
}

/// Makes `to` share the bytes of `from` (FICLONE), where the file system can.
pub(crate) fn reflink(from: RawFd, to: RawFd) -> bool {
    const FICLONE: libc::c_ulong = 0x4004_9409;
    // SAFETY: the call takes two descriptors; a file system that cannot answers with an error.
    unsafe { libc::ioctl(to, FICLONE, from) == 0 }
}

/// This thread gives way to all others: work in the background must not slow down answers.
pub(crate) fn be_patient() {
    // SAFETY: the call takes numbers only; 0 means the calling thread.
    unsafe {
        libc::setpriority(libc::PRIO_PROCESS, 0, 15);
    }
}
