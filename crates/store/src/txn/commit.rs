//! A group is written as sets, in one transaction.

use crate::catalogue::rows;
use crate::fs::disk::hex;
use crate::fs::error::Result;
use crate::fs::model::{Content, Folder, PastRow, Row};
use crate::rights::access::Access;
use crate::txn::owed::CarriedOut;
use crate::txn::write_txn::{Changed, Group, KEEP, WriteTxn, load_heads};
use serde_json::{Value, json};
use std::collections::HashMap;
use std::sync::Arc;
use yellow_attic_core::NodeId;
use yellow_attic_core::interval::fork;
use yellow_attic_core::timeline::Kind;

/// All that a group writes. Each statement takes one set as JSON: a hundred times cheaper than
/// a statement a row, and one trip to the catalogue's thread instead of twelve.
pub const WRITE_AND_COMMIT: &str = concat!(include_str!("../catalogue/write.sql"), "COMMIT;");

pub const BEGIN_WRITE_AND_COMMIT: &str =
    concat!("BEGIN IMMEDIATE;\n", include_str!("../catalogue/write.sql"), "COMMIT;");

fn content_json(c: &Content) -> Value {
    json!([c.id, hex(&c.hash), c.size, c.life as i64, c.object.ino, c.object.btime, c.mark])
}

pub fn measured_json((c, noise): &(Content, Option<u16>)) -> Value {
    let mut value = content_json(c);
    if let Value::Array(list) = &mut value {
        list.push(json!(noise));
    }
    value
}

pub fn row_json(r: &Row) -> Value {
    json!([
        r.node,
        r.shelf,
        r.parent,
        r.key,
        i64::from(r.kind == Kind::File),
        r.size(),
        r.mtime,
        r.content.map(|c| c.id),
        r.since,
        r.at,
        r.how as i64,
        r.account,
        r.device,
        i64::from(r.executable)
    ])
}

pub fn past_json(p: &PastRow) -> Value {
    let mut value = row_json(&p.row);
    if let Value::Array(list) = &mut value {
        list.extend([
            json!(p.until),
            json!(fork(p.row.since.0, p.until.0 - 1)),
            json!(p.ended_at),
            json!(p.ended_how as i64),
            json!(p.ended_account),
            json!(p.ended_device),
            json!(i64::from(p.held)),
        ]);
    }
    value
}

pub fn folder_json(node: NodeId, f: &Folder) -> Value {
    json!([
        node,
        f.lies as i64,
        f.object.ino,
        f.object.btime,
        f.bytes,
        f.files,
        f.folders,
        f.past_bytes,
        f.past_files,
        f.changed_at,
        f.trash_bytes,
        f.trash_files
    ])
}

impl WriteTxn {
    // --- writing ---

    /// Refuses what would be written to a shelf whose folder is not as it should be.
    pub fn check_going(&self, chain: &[Arc<Row>]) -> Result<()> {
        match chain.last().and_then(|top| self.stopped.get(&top.shelf)) {
            Some(why) => Err(why.clone()),
            None => Ok(()),
        }
    }

    /// Reads anew all that is held in memory, after a group whose outcome was in doubt.
    pub async fn recover(&mut self) -> Result<()> {
        self.forget();
        self.heads = load_heads(&mut self.conn).await?;
        let (shelves, last) = (rows::shelves(&mut self.conn).await?, rows::last_shelf(&mut self.conn).await?);
        self.set_shelves(shelves, last);
        self.access = Arc::new(Access::load(&mut self.conn).await?);
        self.locks = Arc::new(crate::rights::locks::load(&mut self.conn).await?);
        self.access_behind = false;
        Ok(())
    }

    /// Begins a group at a time; time never decreases.
    pub fn begin(&mut self, now: i64) {
        self.now = now.max(self.heads.at);
        self.heads.commits += 1;
        if self.rows.len() + self.names.len() + self.folders.len() > KEEP {
            self.forget();
        }
    }

    /// Drops all that is not written: the database alone counts.
    pub fn forget(&mut self) {
        self.rows = HashMap::new();
        self.names = HashMap::new();
        self.folders = HashMap::new();
        self.paths = HashMap::new();
        self.above_removed = HashMap::new();
        self.whole = None;
        self.group = Group::default();
    }

    /// Writes the group and commits it: one trip to the catalogue, whatever is in the group.
    /// `begun`: a transaction is open already.
    pub async fn commit(&mut self, begun: bool, carried_out: &CarriedOut) -> Result<Changed> {
        let group = std::mem::take(&mut self.group);
        self.heads.at = self.now;
        for shelf in &group.new_shelves {
            rows::insert_shelf(&mut self.conn, shelf, self.now).await?;
        }
        for shelf in &group.ended_shelves {
            rows::end_shelf(&mut self.conn, *shelf, self.now).await?;
        }
        let rows: Vec<_> = group.touched.keys().map(|n| (*n, self.rows.get(n).cloned().flatten())).collect();
        let jobs = !group.jobs.is_empty();
        let set = |list: Vec<Value>| Value::Array(list).to_string();
        sqlx::query(if begun { WRITE_AND_COMMIT } else { BEGIN_WRITE_AND_COMMIT })
            .bind(set(group.first_moment.map(|first| json!([first, self.now])).into_iter().collect()))
            .bind(set(group.contents.iter().map(measured_json).collect()))
            .bind(set(group.lives.values().map(content_json).collect()))
            .bind(set(group.touched.iter().filter(|(_, existed)| **existed).map(|(n, _)| json!(n)).collect()))
            .bind(set(rows.iter().filter_map(|(_, row)| row.as_deref()).map(row_json).collect()))
            .bind(set(group.ended.iter().map(past_json).collect()))
            .bind(set(group
                .sums
                .iter()
                .filter_map(|n| self.folders.get(n).map(|f| folder_json(*n, f)))
                .collect()))
            .bind(set(group.activity.iter().map(|((n, d), c)| json!([n, d, c])).collect()))
            .bind(set(group
                .tasks
                .iter()
                .map(|t| json!([t.mark, serde_json::to_string(t).unwrap_or_default()]))
                .collect()))
            .bind(set(group.records))
            .bind(set(group.jobs))
            .bind(set(group.findings))
            .bind(set(group
                .requests
                .iter()
                .map(|((account, id), told)| {
                    json!([account, hex(&id.0), told.node, told.moment, told.made as i64, self.now])
                })
                .collect()))
            .bind(set(group.uploads))
            .bind(set(group.ended_locks))
            .bind(carried_out.placed)
            .bind(json!(carried_out.waiting).to_string())
            .bind(self.heads.moment)
            .bind(self.heads.at)
            .bind(self.heads.node)
            .bind(self.heads.mark)
            .bind(self.heads.placed)
            .bind(self.heads.record)
            .bind(&self.heads.link[..])
            .bind(self.heads.commits)
            .bind(self.heads.content)
            .execute(&mut self.conn)
            .await?;
        let names = rows
            .iter()
            .filter_map(|(_, r)| r.as_deref())
            .chain(group.ended.iter().map(|p| &p.row))
            .filter_map(|r| Some((r.parent?, r.key.clone())))
            .collect();
        let touched = rows
            .iter()
            .filter_map(|(_, r)| r.as_deref())
            .chain(group.ended.iter().map(|p| &p.row))
            .map(|r| r.shelf)
            .collect();
        Ok(Changed {
            touched,
            moment: self.heads.moment,
            names,
            folders: group.sums.into_iter().collect(),
            rows,
            tasks: group.tasks,
            shelves: group.new_shelves,
            ended_shelves: group.ended_shelves,
            jobs,
            access: group.access.then(|| self.access.clone()),
            locks: group.locks.then(|| self.locks.clone()),
        })
    }
}
