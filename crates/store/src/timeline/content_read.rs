//! Opening the bytes of a state, wherever they are on their way, and noticing when another
//! program has changed them.

use crate::files::past::{Past, SEAL_MS, open_past, set_aside};
use crate::fs::disk::{Look, content_name, hex};
use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Content, ContentState, Row};
use crate::fs::pending_rename::DiskLocation;
use crate::fs::staging::hash_file;
use crate::ops::found::{Foreign, TakeUp};
use crate::ops::record::Finding;
use crate::timeline::Files;
use async_recursion::async_recursion as boxed;
use std::fs::File;
use std::sync::Arc;
use std::time::Duration;

/// Looks before giving up: a rename can pass between two of them.
const LOOKS: usize = 50;

impl Files {
    /// Opens the bytes of a state, present or past. Returns them with the state they are:
    /// if another program changed a live file, that is a newer one than asked for.
    #[boxed]
    pub async fn open_bytes(&self, row: &Row) -> Result<(File, Row)> {
        let content = row.content.ok_or_else(|| StoreError::NotAFile(row.name().into()))?;
        if content.life == ContentState::Gone {
            return Err(StoreError::NotHeld(row.name().into()));
        }
        if content.life == ContentState::Live
            && let Ok(Some((file, look))) = self.try_place(row, &content).await
            && same(&look, row, &content)
        {
            return Ok((file, row.clone()));
        }
        let mut changed = None;
        let mut why = None;
        let begun = std::time::Instant::now();
        for attempt in 0.. {
            // What is known may have moved on: ask again.
            let Some(content) = self.0.shared.view.content(content.id).await? else { break };
            match self.look_for(row, &content).await {
                Ok(Found::Here(file)) => return Ok((file, Row { content: Some(content), ..row.clone() })),
                Ok(Found::Changed(file, look)) => changed = Some((file, look, content)),
                Ok(Found::Nowhere) => changed = None,
                Err(e) => why = Some(e),
            }
            if attempt > 1 && self.0.shared.placing.is_idle() && self.0.shared.filing.is_idle() {
                break;
            }
            // A rename that failed is tried again in half a second: it is waited for.
            if attempt + 1 >= LOOKS && begun.elapsed() > crate::files::placer::TRIED_AGAIN_WITHIN {
                break;
            }
            tokio::time::sleep(Duration::from_millis(2)).await;
        }
        if let Some((file, look, content)) = changed
            && let Some(now) = self.take_up(row, &content, file, look).await?
            && let Some(present) = now.content
        {
            return match self.try_place(&now, &present).await? {
                Some((file, look)) if same(&look, &now, &present) => Ok((file, (*now).clone())),
                // Changed again meanwhile.
                _ => Err(StoreError::Busy),
            };
        }
        Err(why.unwrap_or_else(|| StoreError::BytesMissing(row.name().into())))
    }

    /// The second of a state's own time, if no other state of the same file had that: then it names this one alone.
    #[boxed]
    pub async fn own_second(&self, row: &Row) -> Result<Option<i64>> {
        let second = row.mtime.div_euclid(1000);
        let others: i64 = sqlx::query_scalar(
            "SELECT (SELECT count(*) FROM entries_past WHERE node = ?1 AND mtime >= ?2 AND mtime < ?2 + 1000 AND content IS NOT ?3)
                + (SELECT count(*) FROM entries_now WHERE node = ?1 AND mtime >= ?2 AND mtime < ?2 + 1000 AND content IS NOT ?3)",
        )
        .bind(row.node.0)
        .bind(second * 1000)
        .bind(row.content.map(|c| c.id.0))
        .fetch_one(&self.0.shared.view.pool)
        .await?;
        Ok((others == 0).then_some(second))
    }

    async fn try_place(&self, row: &Row, content: &Content) -> Result<Option<(File, Look)>> {
        if !self.0.shared.placing.is_placed(content.mark)
            && let Ok(staged) =
                self.0.shared.disk.open_file(&self.0.shared.disk.staging, &content_name(content.id))
        {
            return Ok(Some(staged));
        }
        let Some(parent) = row.parent else { return Ok(None) };
        let dir = self.0.shared.dirs.find(parent).await?;
        match self.0.shared.disk.open_file(&*dir, row.name()) {
            Ok(found) => Ok(Some(found)),
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => Ok(None),
            Err(e) => Err(refusal(row, &e)),
        }
    }

    async fn look_for(&self, row: &Row, content: &Content) -> Result<Found> {
        let disk = &self.0.shared.disk;
        if matches!(content.life, ContentState::Lost | ContentState::Gone) {
            return Ok(Found::Nowhere);
        }
        if content.life == ContentState::Past {
            // Only hashes, off the worker, if the seal is broken.
            let (its_disk, hash, size) = (disk.clone(), content.hash, content.size);
            let opened = tokio::task::spawn_blocking(move || open_past(&its_disk, &hash, size)).await;
            match opened.map_err(|_| StoreError::Stopping)? {
                Ok(Past::Sound(file)) => return Ok(Found::Here(file)),
                Ok(Past::Damaged) => self.report_damaged(row, content).await?,
                Ok(Past::Missing) | Err(_) => {
                    if let Some(file) = self.open_packed(content.hash).await? {
                        return Ok(Found::Here(file));
                    }
                }
            }
            if let Ok((file, look)) = disk.open_file(&disk.incoming, &content_name(content.id))
                && look.id == content.object
                && look.size == content.size
                && [row.mtime, SEAL_MS].contains(&look.mtime)
            {
                return Ok(Found::Here(file));
            }
        }
        if let Ok((file, look)) = disk.open_file(&disk.staging, &content_name(content.id))
            && look.id == content.object
        {
            return Ok(Found::Here(file));
        }
        for place in self.0.shared.placing.places_of(content.object) {
            if let DiskLocation::In(node, name) = &place
                && let Ok(dir) = self.0.shared.dirs.find(*node).await
                && let Ok((file, look)) = disk.open_file(&*dir, name)
                && look.id == content.object
                && look.size == content.size
            {
                return Ok(Found::Here(file));
            }
        }
        let now = match content.life {
            // The name it has now, which may be newer than the one asked for; and where a name was left and filled
            // again, its bytes of before are those of another file now.
            ContentState::Live => match self.0.shared.view.row(row.node).await? {
                Some(now) if now.content.is_some_and(|c| c.id == content.id) => Some(now),
                _ => self.0.shared.view.holder_of(content.id, row.since).await?,
            },
            _ => None,
        };
        let row = now.as_deref().unwrap_or(row);
        Ok(match self.try_place(row, content).await? {
            Some((file, look)) if same(&look, row, content) => Found::Here(file),
            Some((file, look))
                if content.life == ContentState::Live && file.metadata().is_ok_and(|m| m.is_file()) =>
            {
                Found::Changed(file, look)
            }
            _ => Found::Nowhere,
        })
    }

    /// A content that is kept as chunks, put together.
    pub(crate) async fn open_packed(&self, hash: [u8; 32]) -> Result<Option<File>> {
        let shared = self.0.shared.clone();
        let handle = shared.runtime.clone();
        tokio::task::spawn_blocking(move || shared.packing.open(&shared.disk, &shared.view, &handle, &hash))
            .await
            .map_err(|_| StoreError::Stopping)?
    }

    /// Another program wrote on in past bytes: they are set aside, and that is said once.
    async fn report_damaged(&self, row: &Row, content: &Content) -> Result<()> {
        let (disk, staging, text) = (&self.0.shared.disk, &self.0.shared.staging, hex(&content.hash));
        let aside = disk.past_dir(&text).and_then(|dir| set_aside(disk, staging, &dir, &text));
        if aside.is_err() {
            return Ok(());
        }
        let (node, detail) = (
            Some(row.node),
            format!(
                "a past state of \"{}\" was written to by another program; its bytes are kept aside and given to nobody",
                row.name()
            ),
        );
        self.0.ask(Finding { kind: "damaged past", node, detail }).await
    }

    /// Takes up the state to which another program changed a live file.
    async fn take_up(
        &self,
        row: &Row,
        was: &Content,
        mut file: File,
        look: Look,
    ) -> Result<Option<Arc<Row>>> {
        let hashed = tokio::task::spawn_blocking(move || {
            let (hash, size) = hash_file(&mut file)?;
            let after = crate::fs::disk::look_at_open(&file)?;
            Ok::<_, std::io::Error>((hash, size, after))
        })
        .await
        .map_err(|_| StoreError::Stopping)?;
        let (hash, size, after) = hashed.map_err(|e| refusal(row, &e))?;
        if after != look || size as i64 != look.size {
            // Still being written by the other program: no state yet that could be taken up.
            return Err(StoreError::Busy);
        }
        let foreign = Foreign {
            id: self.0.shared.staging.next_id(),
            hash,
            size: size as i64,
            mtime: look.mtime,
            object: look.id,
        };
        let (node, was) = (row.node, was.id);
        self.0.ask(TakeUp { node, was, foreign }).await
    }
}

enum Found {
    Here(File),
    Changed(File, Look),
    Nowhere,
}

fn same(look: &Look, row: &Row, content: &Content) -> bool {
    look.id == content.object && look.size == content.size && look.mtime == row.mtime
}

fn refusal(row: &Row, e: &std::io::Error) -> StoreError {
    use rustix::io::Errno;
    match e.raw_os_error().map(Errno::from_raw_os_error) {
        Some(Errno::LOOP | Errno::XDEV | Errno::NXIO) => StoreError::NotPlain(row.name().into()),
        _ => StoreError::Unreadable { path: row.name().into(), reason: e.to_string() },
    }
}
