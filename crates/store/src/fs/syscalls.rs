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

/// Writes a file's bytes back and waits until the disk has taken them (sync_file_range). They are not
/// durable by that: the disk's own cache is flushed, and what names them is written, by [`crate::fs::disk::Disk::commit_journal`].
pub(crate) fn write_back(fd: RawFd) -> std::io::Result<()> {
    let all =
        libc::SYNC_FILE_RANGE_WAIT_BEFORE | libc::SYNC_FILE_RANGE_WRITE | libc::SYNC_FILE_RANGE_WAIT_AFTER;
    // SAFETY: the call takes numbers only; a bad descriptor is answered with an error.
    match unsafe { libc::sync_file_range(fd, 0, 0, all) } {
        0 => Ok(()),
        _ => Err(std::io::Error::last_os_error()),
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

/// Whether the kernel calls its clock synchronised (adjtimex): something keeps it in step with other clocks.
pub(crate) fn clock_is_synchronised() -> bool {
    // SAFETY: a zeroed timex asks for nothing to be changed; the call fills it in.
    let (answer, status) = unsafe {
        let mut asked: libc::timex = std::mem::zeroed();
        (libc::adjtimex(&mut asked), asked.status)
    };
    answer >= 0 && answer != libc::TIME_ERROR && status & libc::STA_UNSYNC == 0
}

/// How many bytes a socket has taken and the other side has not (SIOCOUTQ).
pub(crate) fn queued(socket: RawFd) -> Option<u64> {
    let mut bytes: libc::c_int = 0;
    // SAFETY: the call writes one number, which lives as long as the call.
    match unsafe { libc::ioctl(socket, libc::TIOCOUTQ, &mut bytes) } {
        0 => u64::try_from(bytes).ok(),
        _ => None,
    }
}

/// Becomes another user, with its group and one more; for good, and in all threads.
pub(crate) fn become_user(user: u32, group: u32, beside: u32) -> std::io::Result<()> {
    let groups = [group, beside];
    // SAFETY: the list lives as long as the call, and has the length that is told.
    let set = unsafe {
        libc::setgroups(groups.len(), groups.as_ptr()) == 0
            && libc::setgid(group) == 0
            && libc::setuid(user) == 0
    };
    if set { Ok(()) } else { Err(std::io::Error::last_os_error()) }
}
