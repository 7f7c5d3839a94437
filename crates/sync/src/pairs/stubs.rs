//! Files whose bytes are only on the service: made, told from others, and made of files that the service has.

use super::at_hand::what_is;
use super::ground::{Ground, NotDone, Stands, Way, look, look_at};
use rustix::fs::{self, FallocateFlags, Mode, OFlags, XattrFlags};
use rustix::io::Errno;
use std::fs::File;
use std::io;
use std::os::fd::{AsFd, OwnedFd};
use yellow_attic_core::merge::{Object, Stat};
use yellow_attic_core::mounted::stub::Stub;

/// Where a file says that it is one.
pub(crate) const THERE: &str = "user.yattic";

/// What an open file says of itself, if its bytes are only on the service.
pub(crate) fn stub_of(file: impl AsFd) -> Option<Stub> {
    let mut text = [0_u8; 256];
    let length = fs::fgetxattr(file, THERE, text.as_mut_slice()).ok()?;
    Stub::read(&text[..length])
}

/// The same of what stands in a folder.
pub(super) fn is_stub(dir: &OwnedFd, name: &[u8]) -> bool {
    let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
    fs::openat(dir, name, flags, Mode::empty()).is_ok_and(|file| stub_of(file).is_some())
}

/// From now on it stands for a state of the service. What it held is let go after that.
pub(crate) fn set_stub(file: impl AsFd, stub: &Stub) -> io::Result<()> {
    Ok(fs::fsetxattr(file, THERE, &stub.bytes(), XattrFlags::empty())?)
}

/// From now on its own bytes count. They are on the disk before that.
pub(crate) fn set_whole(file: impl AsFd) -> io::Result<()> {
    match fs::fremovexattr(file, THERE) {
        Err(Errno::NODATA) => Ok(()),
        other => Ok(other?),
    }
}

/// Lets its bytes go, and keeps its length and its time.
pub(crate) fn let_bytes_go(file: &File) -> io::Result<()> {
    let about = file.metadata()?;
    let modified = about.modified()?;
    let all = FallocateFlags::PUNCH_HOLE | FallocateFlags::KEEP_SIZE;
    match fs::fallocate(file, all, 0, about.len().max(1)) {
        Err(Errno::OPNOTSUPP | Errno::NOSYS) => {
            file.set_len(0)?;
            file.set_len(about.len())?;
        }
        other => other?,
    }
    file.set_modified(modified)
}

impl Ground {
    /// Makes a file that the service has one whose bytes are only there. How many bytes of the disk that gave back.
    pub(super) fn release(
        &self,
        way: &Way,
        seen: (Object, Stat),
        stub: &Stub,
    ) -> Result<(u64, Stands), NotDone> {
        let (name, above) = way.split_last().ok_or(NotDone::Otherwise)?;
        let dir = self.folder(above)?;
        let file = self.open_file(&dir, name, seen, false)?;
        if super::ground::is_written(&file) {
            return Err(NotDone::Busy);
        }
        let file = self.open_file(&dir, name, seen, true)?;
        let (_, before, _) = what_is(&file)?;
        set_stub(&file, stub)?;
        let_bytes_go(&file)?;
        let (_, after, _) = what_is(&file)?;
        Ok((before.saturating_sub(after), look_at(&file)?))
    }

    /// What a file that is as it was seen stands for, if its bytes are only on the service, and the file.
    pub(super) fn stands_for(
        &self,
        way: &Way,
        seen: (Object, Stat),
    ) -> Result<Option<(Stub, File)>, NotDone> {
        let (name, above) = way.split_last().ok_or(NotDone::Otherwise)?;
        let file = self.open_file(&self.folder(above)?, name, seen, false)?;
        Ok(stub_of(&file).map(|stub| (stub, file)))
    }

    /// The same of whatever lies there, if it is this object.
    pub(super) fn stub_at(&self, way: &Way, is: Object) -> Option<Stub> {
        let (object, stat) = self.stands(way)?;
        let (stub, _) = self.stands_for(way, (object, stat?)).ok()??;
        (object == is).then_some(stub)
    }

    /// What stands at a place here.
    pub(super) fn stands(&self, way: &Way) -> Option<Stands> {
        let (name, above) = way.split_last()?;
        look(&self.folder(above).ok()?, name).ok()?
    }

    /// A file of our own that stands for a state of the service, to be brought to its place.
    pub(super) fn arriving_stub(&self, name: &str, stub: &Stub) -> io::Result<()> {
        let file = self.arriving(name)?;
        file.set_len(0)?;
        if stub.size == 0 {
            // What has no bytes is here with all of them.
            return set_whole(&file);
        }
        set_stub(&file, stub)?;
        file.set_len(stub.size)
    }
}
