//! What a write means for the identity of nodes.
//!
//! Programs save in many ways: over the old file, by a temporary file renamed onto it, by
//! moving the old one aside first. Whatever way, links, grants and history must stay on the
//! name that the person thinks of as the document. The functions here decide that.

use crate::ids::NodeId;

/// How long a name that was left is remembered, in milliseconds.
pub const LEFT_FOR_MS: i64 = 60_000;

/// A node's kind.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Kind {
    /// A folder.
    Folder,
    /// A file.
    File,
}

/// What stands at a name now.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Occupant {
    /// The node there.
    pub node: NodeId,
    /// File or folder.
    pub kind: Kind,
}

/// A file that left this name within the last [`LEFT_FOR_MS`], by the same device.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Left {
    /// The node that left.
    pub node: NodeId,
    /// Where it is now.
    pub now: LeftTo,
}

/// Where a node is that left its name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LeftTo {
    /// It was removed.
    Past,
    /// It was renamed within its folder, and is still there.
    Beside,
    /// It went to another folder on purpose: it stays what it is.
    Elsewhere,
}

/// What to do with bytes that arrive at a name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PutPlan {
    /// A new node.
    New,
    /// A new entry of the node that stands there.
    Replace(NodeId),
    /// The node that was removed from here goes on with these bytes.
    Resume(NodeId),
    /// The node that was renamed away takes its old name with these bytes; a new node stays
    /// behind under the name that it had been given.
    Return(NodeId),
    /// A folder stands there.
    FolderInTheWay,
}

/// Decides what bytes arriving at a name mean.
pub fn plan_put(occupant: Option<Occupant>, left: Option<Left>) -> PutPlan {
    match (occupant, left) {
        (Some(Occupant { kind: Kind::Folder, .. }), _) => PutPlan::FolderInTheWay,
        (Some(Occupant { node, .. }), _) => PutPlan::Replace(node),
        (None, Some(Left { node, now: LeftTo::Past })) => PutPlan::Resume(node),
        (None, Some(Left { node, now: LeftTo::Beside })) => PutPlan::Return(node),
        (None, _) => PutPlan::New,
    }
}

/// What is moved.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Mover {
    /// The node.
    pub node: NodeId,
    /// File or folder.
    pub kind: Kind,
    /// Made by the same device within the last [`LEFT_FOR_MS`]: a program's temporary file.
    pub fresh: bool,
}

/// What to do with a node that is moved to a name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum MovePlan {
    /// It is there already.
    Nothing,
    /// It takes the name.
    Plain,
    /// The node at the name gets a new entry with the mover's bytes; the mover ends.
    Onto(NodeId),
    /// The node that was removed from the name goes on with the mover's bytes; the mover ends.
    Resume(NodeId),
    /// The node that was renamed away takes its old name with the mover's bytes; the mover
    /// takes the name and bytes that the other leaves.
    Swap(NodeId),
    /// The name is taken, and may not be replaced.
    Taken,
    /// A folder is in the way, or the mover is a folder and a file is in the way.
    FolderInTheWay,
}

/// Decides what moving a node to a name means. `replace`: the caller allows replacing a file.
pub fn plan_move(mover: Mover, occupant: Option<Occupant>, left: Option<Left>, replace: bool) -> MovePlan {
    match occupant {
        Some(there) if there.node == mover.node => MovePlan::Nothing,
        Some(_) if !replace => MovePlan::Taken,
        Some(there) if there.kind == Kind::Folder || mover.kind == Kind::Folder => MovePlan::FolderInTheWay,
        Some(there) => MovePlan::Onto(there.node),
        None => match left {
            Some(left) if mover.kind == Kind::File && mover.fresh && left.node != mover.node => {
                match left.now {
                    LeftTo::Past => MovePlan::Resume(left.node),
                    LeftTo::Beside => MovePlan::Swap(left.node),
                    LeftTo::Elsewhere => MovePlan::Plain,
                }
            }
            _ => MovePlan::Plain,
        },
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const DOC: NodeId = NodeId(7);
    const TMP: NodeId = NodeId(9);
    const FILE_DOC: Option<Occupant> = Some(Occupant { node: DOC, kind: Kind::File });
    const FRESH: Mover = Mover { node: TMP, kind: Kind::File, fresh: true };

    fn left(now: LeftTo) -> Option<Left> {
        Some(Left { node: DOC, now })
    }

    #[test]
    fn every_way_of_saving_keeps_the_document() {
        assert_eq!(plan_put(FILE_DOC, None), PutPlan::Replace(DOC));
        assert_eq!(plan_put(None, left(LeftTo::Past)), PutPlan::Resume(DOC));
        assert_eq!(plan_put(None, left(LeftTo::Beside)), PutPlan::Return(DOC));
        assert_eq!(plan_move(FRESH, FILE_DOC, None, true), MovePlan::Onto(DOC));
        assert_eq!(plan_move(FRESH, None, left(LeftTo::Past), false), MovePlan::Resume(DOC));
        assert_eq!(plan_move(FRESH, None, left(LeftTo::Beside), false), MovePlan::Swap(DOC));
    }

    #[test]
    fn a_file_with_a_history_of_its_own_stays_itself() {
        let old = Mover { fresh: false, ..FRESH };
        assert_eq!(plan_move(old, None, left(LeftTo::Beside), false), MovePlan::Plain);
        assert_eq!(plan_put(None, left(LeftTo::Elsewhere)), PutPlan::New);
        let back = Mover { node: DOC, ..FRESH };
        assert_eq!(plan_move(back, None, left(LeftTo::Beside), false), MovePlan::Plain);
    }

    #[test]
    fn folders_are_never_replaced() {
        let folder = Some(Occupant { node: DOC, kind: Kind::Folder });
        assert_eq!(plan_put(folder, None), PutPlan::FolderInTheWay);
        assert_eq!(plan_move(FRESH, folder, None, true), MovePlan::FolderInTheWay);
        let mover = Mover { kind: Kind::Folder, ..FRESH };
        assert_eq!(plan_move(mover, FILE_DOC, None, true), MovePlan::FolderInTheWay);
        assert_eq!(plan_move(mover, FILE_DOC, None, false), MovePlan::Taken);
        assert_eq!(plan_move(Mover { node: DOC, ..FRESH }, FILE_DOC, None, false), MovePlan::Nothing);
    }
}
