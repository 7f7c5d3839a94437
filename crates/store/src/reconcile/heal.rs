//! Files that the disk has damaged: other bytes under times that nobody changed. They are told, and put right from sound bytes, wherever
//! these are.

use crate::fs::disk::{content_name, content_place, hex, mark_executable, set_mtime};
use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Content, Row};
use crate::ops::hands::Hand;
use crate::ops::record::Finding;
use crate::reconcile::bytes::ToRead;
use crate::reconcile::pass::Pass;
use std::fs::File;
use std::io::{Read, Write};
use yellow_attic_core::{ContentId, NodeId};

impl Pass<'_> {
    pub(super) async fn is_damaged(&mut self, one: &ToRead, path: &str) -> Result<()> {
        let (row, look) = (&one.row, &one.look);
        let Some(content) = row.content else { return Ok(()) };
        let sound = self.sound_bytes(row, &content).await?;
        let said = match &sound {
            Some((_, place)) => format!("{path}: sound bytes are {place}"),
            None => format!("{path}: sound bytes are nowhere"),
        };
        self.report.damaged.add(|| said.clone(), content.size);
        match sound {
            Some((file, _)) if self.looking.heal && self.looking.take_up => {
                let Some(staged) = self.stage_sound(file, row, &content).await? else { return Ok(()) };
                let hand = Hand::Heal { node: row.node, was: content.id, seen: *look, staged };
                match self.take(vec![hand]).await?[..] {
                    [Some(_)] => self.report.healed.add(|| path.to_string(), content.size),
                    _ => {
                        self.report.not_any_more += 1;
                        let _ = self.engine.shared.disk.drop_staged(&content_name(staged), false);
                    }
                }
            }
            _ if self.looking.take_up => {
                let detail = format!(
                    "{said}. Nobody has touched it, so the disk did that; it is served as it is. It is put right by: yatticd check --live --heal"
                );
                self.engine.ask(Finding { kind: "damage", node: Some(row.node), detail }).await?;
            }
            _ => {}
        }
        Ok(())
    }

    /// Bytes that are what the hash says, and where they are.
    async fn sound_bytes(&self, row: &Row, content: &Content) -> Result<Option<(File, &'static str)>> {
        let shared = &self.engine.shared;
        let (disk, hash) = (&shared.disk, content.hash);
        let mut found: Vec<(File, &'static str)> = Vec::new();
        let text = hex(&hash);
        if let Ok(dir) = disk.open_dir(&*disk.past, &text[..2])
            && let Ok((file, _)) = disk.open_file(&dir, &text)
        {
            found.push((file, "in the history"));
        }
        let (packing, view, runtime, its) =
            (shared.packing.clone(), shared.view.clone(), shared.runtime.clone(), disk.clone());
        let packed = tokio::task::spawn_blocking(move || packing.open(&its, &view, &runtime, &hash)).await;
        if let Ok(Ok(Some(file))) = packed {
            found.push((file, "in the history"));
        }
        let others: Vec<i64> = sqlx::query_scalar(
            "SELECT e.node FROM contents c JOIN entries_now e ON e.content = c.id
             WHERE c.hash = ? AND c.state = 0 AND c.size = ? AND e.node <> ? LIMIT 8",
        )
        .bind(hash.to_vec())
        .bind(content.size)
        .bind(row.node.0)
        .fetch_all(&shared.view.pool)
        .await?;
        for other in others {
            if let Some(other) = shared.view.row(NodeId(other)).await?
                && let Some(parent) = other.parent
                && let Ok(dir) = shared.dirs.find(parent).await
                && let Ok((file, _)) = disk.open_file(&*dir, other.name())
            {
                found.push((file, "in another file"));
            }
        }
        for backup in &self.looking.heal_from {
            if let Ok(file) = File::open(backup.join(content_place(&hash))) {
                found.push((file, "in a backup"));
            }
        }
        let sound = tokio::task::spawn_blocking(move || {
            found.into_iter().find_map(|(mut file, place)| {
                let is = crate::fs::staging::hash_file(&mut file).is_ok_and(|(its, _)| its == hash);
                (is && std::io::Seek::rewind(&mut file).is_ok()).then_some((file, place))
            })
        });
        sound.await.map_err(|_| StoreError::Stopping)
    }

    /// Puts sound bytes into staging, durably. None if they are not any more.
    async fn stage_sound(&self, mut from: File, row: &Row, content: &Content) -> Result<Option<ContentId>> {
        let shared = self.engine.shared.clone();
        shared.staging.check_room(content.size.max(0) as u64)?;
        let (id, hash) = (shared.staging.next_id(), content.hash);
        let (mtime, executable) = (row.mtime, row.executable);
        let staged = tokio::task::spawn_blocking(move || {
            let name = content_name(id);
            let mut to = shared.disk.make_staged(&name)?;
            let (mut hasher, mut part) = (blake3::Hasher::new(), vec![0; 1 << 17]);
            loop {
                let n = from.read(&mut part)?;
                if n == 0 {
                    break;
                }
                hasher.update(&part[..n]);
                to.write_all(&part[..n])?;
            }
            if hasher.finalize().as_bytes() != &hash {
                shared.disk.drop_staged(&name, false)?;
                return Ok(None);
            }
            mark_executable(&to, executable)?;
            set_mtime(&to, mtime)?;
            shared.disk.sync(&to)?;
            Ok(Some(id))
        });
        let staged: std::io::Result<_> = staged.await.map_err(|_| StoreError::Stopping)?;
        staged.map_err(|e| StoreError::io("bringing sound bytes", &e))
    }
}
