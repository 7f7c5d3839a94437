//! Whom a command of the service acts as, and what the kernel tells of its sockets.

use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::Path;

/// What is made from now on is its owner's alone, unless something else is said of it.
pub fn make_things_private() {
    rustix::process::umask(rustix::fs::Mode::from_raw_mode(0o077));
}

/// How many bytes a socket has taken and the other side has not.
pub fn queued(socket: std::os::fd::BorrowedFd<'_>) -> Option<u64> {
    crate::fs::syscalls::queued(std::os::fd::AsRawFd::as_raw_fd(&socket))
}

/// Run by root, a command acts as the owner of the data folder: what it makes there must be the service's to change.
/// Before any thread is begun. Returns the owner's number if it was taken on.
pub fn act_as_owner(data: &Path) -> io::Result<Option<u32>> {
    if !rustix::process::geteuid().is_root() {
        return Ok(None);
    }
    let is = match std::fs::metadata(data) {
        Ok(is) => is,
        Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(None),
        Err(e) => return Err(e),
    };
    if is.uid() == 0 {
        return Ok(None);
    }
    // The group of the folder may be that of those who read the tree: the owner's own is kept beside it.
    let group = std::fs::metadata(data.join("catalogue.db")).map_or(is.gid(), |c| c.gid());
    crate::fs::syscalls::become_user(is.uid(), group, is.gid())?;
    Ok(Some(is.uid()))
}
