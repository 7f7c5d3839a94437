//! Sums of folders, kept along their ancestors.

use crate::catalogue::rows;
use crate::fs::error::Result;
use crate::fs::model::{ChangeKind, Content, Folder, PastRow};
use crate::txn::write_txn::{DAY_MS, WriteTxn};
use yellow_attic_core::NodeId;

/// A change of a folder's sums.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Delta {
    pub bytes: i64,
    pub files: i64,
    pub folders: i64,
    pub past_bytes: i64,
    pub past_files: i64,
    /// Of these, of what was removed.
    pub trash_bytes: i64,
    pub trash_files: i64,
}

impl Delta {
    pub fn negated(self) -> Delta {
        Delta {
            bytes: -self.bytes,
            files: -self.files,
            folders: -self.folders,
            past_bytes: -self.past_bytes,
            past_files: -self.past_files,
            trash_bytes: -self.trash_bytes,
            trash_files: -self.trash_files,
        }
    }

    /// The same as it counts above a folder that was removed: all of it is past, and in the trash.
    pub fn removed(self) -> Delta {
        Delta {
            bytes: 0,
            files: 0,
            folders: 0,
            past_bytes: self.past_bytes + self.bytes,
            past_files: self.past_files + self.files,
            trash_bytes: self.trash_bytes + self.bytes,
            trash_files: self.trash_files + self.files,
        }
    }

    /// All of a folder.
    pub fn of(f: &Folder) -> Delta {
        Delta {
            bytes: f.bytes,
            files: f.files,
            folders: f.folders + 1,
            past_bytes: f.past_bytes,
            past_files: f.past_files,
            trash_bytes: f.trash_bytes,
            trash_files: f.trash_files,
        }
    }
}

impl WriteTxn {
    /// Adds to the sums of a folder and of all above it; counts a change in their strips. Above a
    /// folder that was removed, what is in it counts as past.
    pub async fn charge(&mut self, folder: NodeId, delta: Delta, changes: i64) -> Result<()> {
        let mut next = Some(folder);
        let (mut delta, mut changes) = (delta, changes);
        while let Some(node) = next {
            let Some(mut sums) = self.folder(node).await? else { break };
            sums.trash_bytes += delta.trash_bytes;
            sums.trash_files += delta.trash_files;
            sums.bytes += delta.bytes;
            sums.files += delta.files;
            sums.folders += delta.folders;
            sums.past_bytes += delta.past_bytes;
            sums.past_files += delta.past_files;
            if changes > 0 {
                sums.changed_at = self.now;
                *self.group.activity.entry((node, self.now.div_euclid(DAY_MS))).or_default() += changes;
            }
            self.set_folder(node, sums);
            next = match self.row(node).await? {
                Some(row) => {
                    if row.parent.is_none()
                        && let Some(whole) = &mut self.whole
                    {
                        *whole += delta.bytes;
                    }
                    row.parent
                }
                None => {
                    (delta, changes) = (delta.removed(), 0);
                    self.above_removed(node).await?
                }
            };
        }
        Ok(())
    }

    /// A folder that is entered as removed.
    pub fn came_apart(&mut self, node: NodeId, parent: NodeId) {
        self.above_removed.insert(node, Some(parent));
    }

    /// Where a removed folder stood.
    pub(crate) async fn above_removed(&mut self, node: NodeId) -> Result<Option<NodeId>> {
        if let Some(known) = self.above_removed.get(&node) {
            return Ok(*known);
        }
        let last = rows::past_of(&mut self.conn, node, 1).await?;
        let above = last.first().filter(|p| p.ended_how == ChangeKind::Removed).and_then(|p| p.row.parent);
        self.above_removed.insert(node, above);
        Ok(above)
    }

    /// The bytes of a past content are no longer held, or no longer past: takes them out of the sums.
    pub async fn uncharge(&mut self, content: &Content) -> Result<()> {
        // It was counted where its last state was.
        let last: Option<(i64, Option<i64>, i64)> = sqlx::query_as(
            // Of a removed node only what it was last is in the trash.
            "SELECT node, parent, CASE WHEN EXISTS (SELECT 1 FROM entries_past n WHERE n.node = e.node AND n.until > e.until)
               THEN 1 ELSE ended_how END
             FROM entries_past e WHERE content = ? ORDER BY until DESC LIMIT 1",
        )
        .bind(content.id.0)
        .fetch_optional(&mut self.conn)
        .await?;
        let Some((node, Some(parent), how)) = last else { return Ok(()) };
        // What this group has decided of the node is not in the catalogue yet.
        let newer = |past: &PastRow| {
            past.row.node == NodeId(node) && past.row.content.is_none_or(|other| other.id != content.id)
        };
        let removed = ChangeKind::from_number(how) == ChangeKind::Removed
            && self.row(NodeId(node)).await?.is_none()
            && !self.group.ended.iter().any(newer);
        let delta = Delta { past_bytes: -content.size, past_files: -1, ..Delta::default() };
        let delta = match removed {
            true => Delta { trash_bytes: -content.size, trash_files: -1, ..delta },
            false => delta,
        };
        self.charge(NodeId(parent), delta, 0).await
    }

    /// What is a shelf has changed: the organisation is counted anew.
    pub fn forget_whole(&mut self) {
        self.whole = None;
    }

    /// Live bytes of the organisation.
    pub async fn whole(&mut self) -> Result<i64> {
        if let Some(whole) = self.whole {
            return Ok(whole);
        }
        let roots: Vec<NodeId> = self.shelves.values().map(|s| s.root).collect();
        let mut whole = 0;
        for root in roots {
            whole += self.folder(root).await?.map_or(0, |f| f.bytes);
        }
        self.whole = Some(whole);
        Ok(whole)
    }
}
