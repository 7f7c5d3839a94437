//! Extended attributes of a mounted folder: programs' own, and what the mount says of each file: where its bytes are.

use super::inner::{Inner, Place, error, path_of};
use super::nodes::PAST;
use crate::pairs::status::Left;
use crate::pairs::stubs::stub_of;
use fuser::FileType;
use rustix::fs::{self, XattrFlags};
use serde::{Deserialize, Serialize};
use std::io;
use yellow_attic_core::merge::Held;
use yellow_attic_core::mounted::room::Thing;

/// What the mount says begins with this; it is not listed, so that nobody copies it along.
const OURS: &[u8] = b"user.yattic.";
/// And so does what only the body has.
const HIDDEN: &[u8] = b"user.yattic";

/// Where the bytes of a file are.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct State {
    /// `here`, `there`, `partly` here, `on_its_way`, `waiting` to be sent up, or in `trouble`.
    pub state: String,
    /// Why, and what to do about it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
    /// Bytes of it that lie here.
    pub here: u64,
    /// In all.
    pub size: u64,
    /// Whether it is kept here: by itself, or because a folder above is.
    pub kept: bool,
}

impl State {
    /// As people read it.
    pub fn words(&self) -> &'static str {
        match self.state.as_str() {
            "here" => "here",
            "there" => "only there",
            "partly" => "partly here",
            "on_its_way" => "on its way",
            "waiting" => "waiting to be sent up",
            _ => "in trouble",
        }
    }
}

/// Whether somebody has to do something about what a pair leaves alone: what a program has open comes later by itself.
pub(super) fn is_trouble(left: &Left) -> bool {
    left.why != crate::pairs::tell::held(&Held::Busy)
}

impl Inner {
    /// Whether it is kept here, by itself or because a folder above is.
    pub(super) fn is_kept(&self, ino: u64) -> bool {
        self.at_hand.keeps_any()
            && self.nodes.way(ino).is_ok_and(|way| {
                way.iter()
                    .any(|(ino, _)| self.nodes.object(*ino).is_ok_and(|object| self.at_hand.is_kept(object)))
            })
    }

    /// Where the bytes of a file are. Of a folder: of all beneath, which is summed up by whoever asks for that.
    pub(super) fn state(&self, ino: u64) -> io::Result<State> {
        if ino >= PAST {
            let size = self.past.attr(ino)?.size;
            return Ok(State { state: "there".into(), why: None, here: 0, size, kept: false });
        }
        let seen = self.see(ino)?;
        let kept = self.is_kept(ino);
        if seen.attr.kind == FileType::Directory {
            return Ok(State { state: "here".into(), why: None, here: 0, size: 0, kept });
        }
        let stub = match self.files.is_open(ino) {
            Some(open) => open.there().map(|(stub, _)| stub),
            None => stub_of(self.nodes.open(ino, false)?),
        };
        if let Some(stub) = stub {
            let here = self.at_hand.room().of(Thing::Blocks(stub.hash)).min(stub.size);
            let state = match here {
                0 => "there",
                here if here < stub.size => "partly",
                _ => "here",
            };
            let why = (kept && here < stub.size).then(|| "it is kept here, and on its way".to_string());
            return Ok(State { state: state.into(), why, here, size: stub.size, kept });
        }
        let owed = self.at_hand.room().is_owed(Thing::File(seen.object));
        let size = seen.attr.size;
        let (state, why) = match self.place(ino)? {
            Some(place) if owed => self.why_owed(&place),
            _ => ("here".to_string(), None),
        };
        Ok(State { state, why, here: size, size, kept })
    }

    fn why_owed(&self, place: &Place) -> (String, Option<String>) {
        let path = path_of(&place.way);
        let Some(status) = self.status(place) else { return ("waiting".into(), None) };
        if let Some(left) = status.left.iter().find(|left| left.path == path) {
            let state = if is_trouble(left) { "trouble" } else { "waiting" };
            return (state.into(), Some(left.why.clone()));
        }
        if status.doing.iter().any(|doing| doing.path == path) {
            return ("on_its_way".into(), None);
        }
        ("waiting".into(), status.trouble.clone().or_else(|| status.rests.clone()))
    }

    /// An attribute of a file or folder.
    pub(super) fn attribute(&self, ino: u64, name: &[u8]) -> io::Result<Vec<u8>> {
        let none = || error(libc::ENODATA);
        if let Some(ours) = name.strip_prefix(OURS) {
            let state = self.state(ino)?;
            return match ours {
                b"state" => Ok(state.words().as_bytes().to_vec()),
                b"why" => Ok(state.why.ok_or_else(none)?.into_bytes()),
                b"here" => Ok(state.here.to_string().into_bytes()),
                b"keep" => Ok(if state.kept { b"yes".to_vec() } else { b"no".to_vec() }),
                _ => Err(none()),
            };
        }
        if ino >= PAST || !name.starts_with(b"user.") || name.starts_with(HIDDEN) {
            return Err(none());
        }
        let file = self.open_any(ino)?;
        let mut value = vec![0; 64 * 1024];
        let length = fs::fgetxattr(&*file, name, value.as_mut_slice())?;
        value.truncate(length);
        Ok(value)
    }

    /// The names of programs' own attributes.
    pub(super) fn attributes(&self, ino: u64) -> io::Result<Vec<u8>> {
        if ino >= PAST {
            return Ok(Vec::new());
        }
        let file = self.open_any(ino)?;
        let mut names = vec![0_u8; 64 * 1024];
        let length = fs::flistxattr(&*file, names.as_mut_slice())?;
        let own = names[..length].split_inclusive(|b| *b == 0);
        Ok(own
            .filter(|name| name.starts_with(b"user.") && !name.starts_with(HIDDEN))
            .flatten()
            .copied()
            .collect())
    }

    /// Sets an attribute, or takes it away.
    pub(super) fn set_attribute(&self, ino: u64, name: &[u8], value: Option<(&[u8], i32)>) -> io::Result<()> {
        if ino >= PAST {
            return Err(error(libc::EROFS));
        }
        if name.starts_with(HIDDEN) {
            return Err(error(libc::EPERM));
        }
        if !name.starts_with(b"user.") {
            return Err(error(libc::EOPNOTSUPP));
        }
        self.to_edit(ino)?;
        let file = self.open_any(ino)?;
        match value {
            Some((value, flags)) => {
                let flags = XattrFlags::from_bits(flags as u32).ok_or_else(|| error(libc::EINVAL))?;
                Ok(fs::fsetxattr(&*file, name, value, flags)?)
            }
            None => Ok(fs::fremovexattr(&*file, name)?),
        }
    }
}
