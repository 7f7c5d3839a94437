//! How uploads end: put where they were meant for, or elsewhere; joined with others; dropped.

use crate::fs::error::{Result, StoreError};
use crate::fs::model::Actor;
use crate::ops::Outcome;
use crate::ops::put::Put;
use crate::timeline::Files;
use crate::timeline::uploads::{Joining, NewUpload, Upload, conditions};
use async_recursion::async_recursion as boxed;
use yellow_attic_core::conditions::Conditions;
use yellow_attic_core::{ContentId, Name, NodeId};

/// The expiry is written again when it has moved by this.
pub const EXPIRY_STEP_MS: i64 = 3_600_000;

/// Where the bytes go in the end, if not where they were announced to go.
#[derive(Clone, Debug)]
pub struct OtherPlace {
    /// The folder.
    pub parent: NodeId,
    /// The name.
    pub name: Name,
    /// What must stand there.
    pub conditions: Conditions,
}

impl Files {
    /// Puts a file whose bytes are all here. Refused, the bytes stay until the upload expires:
    /// another place may be chosen. `None`: bytes are missing.
    #[boxed]
    pub async fn finish_upload(
        &self,
        actor: &Actor,
        id: &str,
        other: Option<OtherPlace>,
    ) -> Result<Option<Outcome>> {
        let upload = self.upload(actor, id).await?;
        if let Some(node) = upload.node {
            let row = self.0.shared.view.row(node).await?;
            return Ok(Some(Outcome {
                row,
                created: false,
                moment: self.0.history().now_moment().await?,
                same: false,
            }));
        }
        let more_to_come = upload.received < upload.new.size || upload.new.open_length;
        // A part goes nowhere by itself, but where it is sent.
        if more_to_come || upload.new.joining == Joining::Part && other.is_none() {
            return Ok(None);
        }
        let (_, mut progress) = self.take_over(&upload).await?;
        let upload = self.upload(actor, id).await?;
        if upload.node.is_some() {
            drop(progress);
            return Box::pin(self.finish_upload(actor, id, None)).await;
        }
        let (staging, content, hashed) =
            (self.0.shared.staging.clone(), upload.content, progress.hashed.take());
        let room = progress.room.take().unwrap_or_else(|| staging.reserve(0));
        let staged = tokio::task::spawn_blocking(move || staging.resume(content, hashed, room)?.finish())
            .await
            .map_err(|_| StoreError::Stopping)??;
        if upload.new.hash.is_some_and(|wanted| wanted != staged.hash) {
            drop((staged, progress));
            self.end_upload(actor, id).await?;
            return Err(StoreError::WrongHash);
        }
        let place = match other {
            Some(other) => other,
            None => OtherPlace {
                parent: upload.new.parent,
                name: upload.new.name.clone(),
                conditions: conditions(&upload.new)?,
            },
        };
        let mtime = upload.new.mtime.unwrap_or_else(|| self.0.now_ms());
        let (its_actor, its_id) = (actor.clone(), upload.id.clone());
        let done = self
            .0
            .ask(Put {
                actor: its_actor,
                parent: place.parent,
                name: place.name,
                staged,
                facts: mtime.into(),
                conditions: place.conditions,
                onto: None,
                how: crate::fs::model::ChangeKind::Made,
                upload: Some(its_id),
                like: None,
                content: None,
                needless: false,
            })
            .await?;
        drop(progress);
        self.0.shared.uploads.forget(&upload.id);
        Ok(Some(done))
    }

    /// Begins an upload that is made of parts whose bytes are all here, and joins them. Its size is that of
    /// the parts together, whatever was announced. The parts end.
    #[boxed]
    pub async fn join_uploads(&self, actor: &Actor, mut new: NewUpload) -> Result<Upload> {
        let Joining::Of(ids) = new.joining.clone() else {
            return Err(StoreError::BadInput("No parts are named.".into()));
        };
        let mut parts = Vec::with_capacity(ids.len());
        for id in &ids {
            let part = self.upload(actor, id).await?;
            if part.new.joining != Joining::Part {
                return Err(StoreError::BadInput("One of the uploads was not begun as a part.".into()));
            }
            // Nobody writes to it any more.
            drop(self.take_over(&part).await?);
            let part = self.upload(actor, id).await?;
            if part.received < part.new.size || part.new.open_length {
                return Err(StoreError::BadInput("One of the parts has not all its bytes yet.".into()));
            }
            parts.push(part);
        }
        new.size = parts.iter().map(|p| p.new.size).sum();
        let upload = self.begin_upload(actor, new).await?;
        let mut appending = self.append(actor, &upload.id, 0).await?;
        let (disk, names) =
            (self.0.shared.disk.clone(), parts.iter().map(Upload::staged_name).collect::<Vec<_>>());
        let joined = tokio::task::spawn_blocking(move || {
            let mut buffer = vec![0; 1 << 20];
            for name in names {
                let failed = |e: std::io::Error| StoreError::io("joining parts", &e);
                let (mut file, _) = disk.open_file(&disk.staging, &name).map_err(failed)?;
                loop {
                    match std::io::Read::read(&mut file, &mut buffer).map_err(failed)? {
                        0 => break,
                        n => appending.write(&buffer[..n])?,
                    }
                }
            }
            Ok(appending)
        })
        .await
        .map_err(|_| StoreError::Stopping)?;
        let joined = match joined {
            Ok(appending) => appending.pause().await,
            Err(e) => Err(e),
        };
        if let Err(e) = joined {
            let _ = self.end_upload(actor, &upload.id).await;
            return Err(e);
        }
        for part in parts {
            self.drop_upload(&part.id, part.content).await?;
        }
        self.upload(actor, &upload.id).await
    }

    /// Ends an upload: what arrived is dropped. A finished one is only forgotten.
    #[boxed]
    pub async fn end_upload(&self, actor: &Actor, id: &str) -> Result<()> {
        let upload = self.upload(actor, id).await?;
        if upload.node.is_none() {
            drop(self.take_over(&upload).await?);
        }
        self.drop_upload(&upload.id, upload.content).await
    }

    pub(crate) async fn drop_upload(&self, id: &str, content: ContentId) -> Result<()> {
        let (its_id, disk) = (id.to_string(), self.0.shared.disk.clone());
        self.catalogue(&Actor::service(), move |conn| {
            Box::pin(async move {
                // Put meanwhile: the bytes are a file's.
                let put: Option<Option<i64>> = sqlx::query_scalar("SELECT node FROM uploads WHERE id = ?")
                    .bind(&its_id)
                    .fetch_optional(&mut *conn)
                    .await?;
                if let Some(None) = put {
                    let _ = disk.drop_staged(&crate::fs::disk::content_name(content), false);
                }
                sqlx::query("DELETE FROM uploads WHERE id = ?").bind(its_id).execute(conn).await?;
                Ok(())
            })
        })
        .await?;
        self.0.shared.uploads.forget(id);
        Ok(())
    }

    /// Drops uploads that have expired, and those through what has ended. Returns how many.
    #[boxed]
    pub async fn expire_uploads(&self) -> Result<usize> {
        let due: Vec<(String, i64)> =
            sqlx::query_as(
                "SELECT id, content FROM uploads WHERE expires_at <= ?1
                   OR node IS NULL AND opening IN (SELECT id FROM openings WHERE ended_at IS NOT NULL OR ends_at <= ?1)
                 LIMIT 1000",
            )
                .bind(self.0.now_ms())
                .fetch_all(&self.0.shared.view.pool)
                .await?;
        for (id, content) in &due {
            self.drop_upload(id, ContentId(*content)).await?;
        }
        Ok(due.len())
    }
}
