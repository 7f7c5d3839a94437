//! What lies in a folder, compared with what the catalogue knows to lie there.
//!
//! Nothing here looks at a disk: whoever does tells what was seen, and is told what is to be made of it. An object is
//! known by its inode and the time of its birth; a state is as it was recorded if object, size and time of modification are, and if nothing of
//! the object was changed after it was put there.

use crate::ids::NodeId;
use crate::name::{Name, NameError};
use crate::timeline::Kind;
use std::collections::{HashMap, HashSet};

/// An object on the disk: its inode, and when it was born (in nanoseconds; 0 where that is not kept).
pub type Object = (i64, i64);

/// Putting a file at its place changes it for the last time so long after its row was written, in milliseconds. Whatever changes it later is
/// somebody else.
pub const PLACED_WITHIN_MS: i64 = 10_000;

/// A child of the folder, as the catalogue has it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Known {
    /// Its node.
    pub node: NodeId,
    /// Its name.
    pub name: String,
    /// File or folder.
    pub kind: Kind,
    /// The object that it is.
    pub object: Object,
    /// Of a file, in bytes.
    pub size: i64,
    /// Of a file, in milliseconds.
    pub mtime: i64,
    /// What was changed of the object until then is known (its ctime, in milliseconds).
    pub seen: i64,
}

/// What something on the disk is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Lies {
    /// A plain file.
    File,
    /// A directory.
    Folder,
    /// A symbolic link, a socket, a device: never opened.
    Other,
}

/// An entry of the directory, as it was seen.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct There {
    /// Its name, byte by byte.
    pub raw: Vec<u8>,
    /// What it is.
    pub lies: Lies,
    /// Which object.
    pub object: Object,
    /// In bytes.
    pub size: i64,
    /// In milliseconds.
    pub mtime: i64,
    /// When anything of it was changed last (ctime), in milliseconds.
    pub changed: i64,
}

/// Why something stays on the disk and is not taken up.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Left {
    /// It cannot have that name here.
    Name(NameError),
    /// Two names that are one here: the other is this.
    Twin(String),
    /// A symbolic link, a socket, a device.
    Special,
}

impl Left {
    /// In words.
    pub fn why(&self) -> String {
        match self {
            Left::Name(NameError::NotNfc { wanted }) => {
                format!("its name is spelt in another form of Unicode: rename it to \"{wanted}\" and it is taken up")
            }
            Left::Name(error) => format!("{error}: rename it and it is taken up"),
            Left::Twin(other) => format!("its name is the same as that of \"{other}\" here: rename one of the two"),
            Left::Special => "it is neither a plain file nor a folder (a link, a socket or a device): nothing of it is read".into(),
        }
    }
}

/// What differs at one name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Difference {
    /// Something lies where the catalogue knows of nothing.
    Appeared(There),
    /// The same file, by its object, whose bytes may be others.
    Changed(NodeId, There),
    /// Object, size and time are the same, and yet something of it was changed: its bytes tell.
    InDoubt(NodeId, There),
    /// At the name of a known file or folder lies another object of the same kind.
    Another(NodeId, There),
    /// At the name of a known file lies a folder, or the other way round.
    OtherKind(NodeId, There),
    /// Nothing lies at its name.
    Gone(NodeId),
    /// It stays on the disk as it is.
    LeftAlone(There, Left),
}

/// Compares what is known of a folder (or of some names in it) with what was seen there.
pub fn compare(known: &[Known], there: Vec<There>) -> Vec<Difference> {
    let mut by_name: HashMap<&str, &Known> = known.iter().map(|known| (&*known.name, known)).collect();
    let spelt: HashSet<String> =
        there.iter().filter_map(|entry| String::from_utf8(entry.raw.clone()).ok()).collect();
    let mut differences = Vec::new();
    for entry in there {
        let name = match name_of(&entry.raw) {
            Ok(name) => name,
            Err(why) => {
                let left = match &why {
                    NameError::NotNfc { wanted } if spelt.contains(wanted) => Left::Twin(wanted.clone()),
                    _ => Left::Name(why),
                };
                differences.push(Difference::LeftAlone(entry, left));
                continue;
            }
        };
        let Some(known) = by_name.remove(&*name) else {
            differences.push(match entry.lies {
                Lies::Other => Difference::LeftAlone(entry, Left::Special),
                _ => Difference::Appeared(entry),
            });
            continue;
        };
        differences.extend(differs(known, entry));
    }
    differences.extend(by_name.into_values().map(|known| Difference::Gone(known.node)));
    differences
}

/// The name of an entry, where it can be one.
fn name_of(raw: &[u8]) -> Result<String, NameError> {
    let text = std::str::from_utf8(raw).map_err(|_| NameError::NotUtf8)?;
    Name::new(text).map(|name| name.as_str().to_string())
}

/// What differs where something is known and something lies.
fn differs(known: &Known, entry: There) -> Option<Difference> {
    let node = known.node;
    let (Lies::File | Lies::Folder) = entry.lies else {
        // What was there is gone; what is there is nobody's.
        return Some(Difference::Gone(node));
    };
    if (entry.lies == Lies::Folder) != (known.kind == Kind::Folder) {
        return Some(Difference::OtherKind(node, entry));
    }
    if entry.object != known.object {
        return Some(Difference::Another(node, entry));
    }
    if entry.lies == Lies::Folder {
        return None;
    }
    if entry.size != known.size || entry.mtime != known.mtime {
        return Some(Difference::Changed(node, entry));
    }
    (entry.changed > known.seen).then_some(Difference::InDoubt(node, entry))
}

/// Where nothing is to be asked first: so many things may vanish from a shelf at once, however few it has.
pub const MAY_VANISH: i64 = 100;

/// Whether so many things that are gone from a shelf (all beneath them counted) are too many to be believed without
/// asking: more than a fifth of it, and more than a hundred.
pub fn must_ask(gone: i64, of: i64) -> bool {
    gone > MAY_VANISH && gone.saturating_mul(5) > of
}

#[cfg(test)]
mod tests {
    use super::*;

    fn known(node: i64, name: &str) -> Known {
        let (kind, object) = (Kind::File, (node + 100, 7));
        Known { node: NodeId(node), name: name.into(), kind, object, size: 10, mtime: 1000, seen: 2000 }
    }

    fn there(name: &str, ino: i64) -> There {
        let (raw, object) = (name.as_bytes().to_vec(), (ino, 7));
        There { raw, lies: Lies::File, object, size: 10, mtime: 1000, changed: 2000 }
    }

    #[test]
    fn what_is_as_it_was_recorded_is_no_difference() {
        assert_eq!(compare(&[known(1, "a"), known(2, "b")], vec![there("b", 102), there("a", 101)]), []);
        assert_eq!(compare(&[], Vec::new()), []);
    }

    #[test]
    fn each_way_to_differ_is_told_apart() {
        let all = [known(1, "a"), known(2, "b"), known(3, "c"), known(4, "d"), known(5, "e"), known(6, "f")];
        let longer = There { size: 11, ..there("a", 101) };
        let later = There { mtime: 1001, ..there("b", 102) };
        let touched = There { changed: 2001, ..there("c", 103) };
        let other = there("d", 999);
        let folder = There { lies: Lies::Folder, ..there("e", 105) };
        let seen = vec![
            longer.clone(),
            later.clone(),
            touched.clone(),
            other.clone(),
            folder.clone(),
            there("new", 7),
        ];
        let found = compare(&all, seen);
        let wanted = [
            Difference::Changed(NodeId(1), longer),
            Difference::Changed(NodeId(2), later),
            Difference::InDoubt(NodeId(3), touched),
            Difference::Another(NodeId(4), other),
            Difference::OtherKind(NodeId(5), folder),
            Difference::Appeared(there("new", 7)),
            Difference::Gone(NodeId(6)),
        ];
        assert_eq!(found, wanted);
    }

    #[test]
    fn a_folder_is_its_object_whatever_its_times() {
        let folder = Known { kind: Kind::Folder, ..known(1, "a") };
        let seen = There { lies: Lies::Folder, size: 4096, mtime: 5, changed: 99_999, ..there("a", 101) };
        assert_eq!(compare(&[folder], vec![seen]), []);
    }

    #[test]
    fn what_cannot_be_taken_up_is_left_and_says_why() {
        let special = There { lies: Lies::Other, ..there("socket", 1) };
        let bytes = There { raw: vec![b'a', 0xff], ..there("", 2) };
        let apart = there("cafe\u{301}", 3);
        let found = compare(&[], vec![special.clone(), bytes.clone(), apart.clone()]);
        let [
            Difference::LeftAlone(_, Left::Special),
            Difference::LeftAlone(_, Left::Name(NameError::NotUtf8)),
            Difference::LeftAlone(_, Left::Name(NameError::NotNfc { wanted })),
        ] = &found[..]
        else {
            panic!("{found:?}");
        };
        assert_eq!(wanted, "caf\u{e9}");
        // Beside one that is spelt as it should be it is its twin, and only that one is taken up.
        let found = compare(&[], vec![apart, there("caf\u{e9}", 4)]);
        let [Difference::LeftAlone(_, Left::Twin(other)), Difference::Appeared(taken)] = &found[..] else {
            panic!("{found:?}");
        };
        assert_eq!((other.as_str(), taken.object), ("caf\u{e9}", (4, 7)));
        // A link where a file was: the file is gone, and the link is not opened.
        let link = There { lies: Lies::Other, ..there("a", 5) };
        assert_eq!(compare(&[known(1, "a")], vec![link]), [Difference::Gone(NodeId(1))]);
    }

    #[test]
    fn many_that_are_gone_are_asked_about() {
        assert!(!must_ask(100, 100));
        assert!(must_ask(101, 101));
        assert!(!must_ask(101, 505));
        assert!(must_ask(102, 505));
        assert!(!must_ask(0, 0));
    }
}
