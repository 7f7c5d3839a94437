//! Deliveries: what strangers hand in through an intake. Each has a folder of its own below the
//! intake's, made with its first file; whatever has the same name stands beside it, numbered. The
//! sender is told nothing of what is there.

use crate::catalogue::rows::hash_of;
use crate::fs::error::{Result, StoreError};
use crate::fs::model::Actor;
use crate::ops::Outcome;
use crate::sharing::Sharing;
use crate::sharing::openings::Opening;
use crate::timeline::upload_ends::OtherPlace;
use crate::timeline::uploads::{NewUpload, Upload};
use async_recursion::async_recursion as boxed;
use std::os::unix::fs::FileExt;
use yellow_attic_core::collate::sort_key;
use yellow_attic_core::conditions::Conditions;
use yellow_attic_core::intake::{HEAD, KindError, numbered, sender_folder};
use yellow_attic_core::name::from_stranger;
use yellow_attic_core::rights::Level;
use yellow_attic_core::{Name, NodeId, OpeningId};

/// A delivery that nobody goes on with is closed after this: three days, like an upload.
const KEPT_MS: i64 = 3 * 86_400_000;
/// The most folders on the way to a file.
const DEEPEST: usize = 32;
/// Unfinished uploads of one delivery.
const MOST_UNFINISHED: i64 = 64;
/// So many things of one name are numbered; after that it is refused.
const MOST_ALIKE: u32 = 10_000;

/// What somebody hands in, in one go.
#[derive(Clone, Debug)]
pub struct Delivery {
    /// Its id.
    pub id: i64,
    /// Through which intake.
    pub opening: OpeningId,
    /// The sender's name, as they gave it.
    pub sender: String,
    /// Their mail address, if they were asked for it.
    pub mail: Option<String>,
    /// The network address.
    pub from: String,
    /// Where it lies, once a file has arrived.
    pub folder: Option<NodeId>,
    /// When it began.
    pub begun_at: i64,
    /// The last sign of life.
    pub moved_at: i64,
    /// When it was done, or closed.
    pub done_at: Option<i64>,
    /// Nobody went on with it.
    pub broken: bool,
    /// How many files have arrived.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
}

/// A file on a receipt.
#[derive(Clone, Debug)]
pub struct Delivered {
    /// The file.
    pub node: NodeId,
    /// As the sender named it, with the folders it was in.
    pub path: String,
    /// In bytes.
    pub size: u64,
    /// BLAKE3.
    pub hash: [u8; 32],
    /// When it arrived.
    pub at: i64,
}

#[derive(sqlx::FromRow)]
struct Raw {
    id: i64,
    opening: i64,
    sender: String,
    mail: Option<String>,
    came_from: String,
    folder: Option<i64>,
    begun_at: i64,
    moved_at: i64,
    done_at: Option<i64>,
    broken: bool,
    files: i64,
    bytes: i64,
}

const SELECT: &str =
    "SELECT d.id, d.opening, d.sender, d.mail, d.came_from, d.folder, d.begun_at, d.moved_at, d.done_at,
    d.broken, (SELECT count(*) FROM delivered f WHERE f.delivery = d.id) AS files,
    (SELECT coalesce(sum(size), 0) FROM delivered f WHERE f.delivery = d.id) AS bytes FROM deliveries d";

impl Raw {
    fn read(self) -> Delivery {
        Delivery {
            id: self.id,
            opening: OpeningId(self.opening),
            sender: self.sender,
            mail: self.mail,
            from: self.came_from,
            folder: self.folder.map(NodeId),
            begun_at: self.begun_at,
            moved_at: self.moved_at,
            done_at: self.done_at,
            broken: self.broken,
            files: self.files.max(0) as u64,
            bytes: self.bytes.max(0) as u64,
        }
    }
}

impl Sharing {
    /// Begins a delivery, if the intake takes another one. `secret`: hashed.
    #[boxed]
    pub async fn begin_delivery(
        &self,
        actor: &Actor,
        opening: &Opening,
        secret: [u8; 32],
        sender: &str,
        mail: Option<String>,
    ) -> Result<Delivery> {
        let (id, now, from) = (opening.id.0, self.0.now_ms(), actor.from.to_string());
        let sender = sender.trim().to_string();
        let what = format!("intake {}", opening.id);
        self.0.people().change(actor, "delivery begun", &what, move |conn| {
            Box::pin(async move {
                let taken = sqlx::query(
                    "UPDATE openings SET used = used + 1, used_at = ?, used_from = ?
                     WHERE id = ? AND ended_at IS NULL AND (most IS NULL OR used < most)",
                )
                .bind(now)
                .bind(&from)
                .bind(id)
                .execute(&mut *conn)
                .await?;
                if taken.rows_affected() == 0 {
                    return Err(StoreError::UsedUp);
                }
                sqlx::query(
                    "INSERT INTO deliveries (org, opening, secret, sender, mail, came_from, begun_at, moved_at)
                     VALUES (1, ?, ?, ?, ?, ?, ?, ?)",
                )
                .bind(id)
                .bind(secret.to_vec())
                .bind(sender)
                .bind(mail)
                .bind(from)
                .bind(now)
                .bind(now)
                .execute(conn)
                .await?;
                Ok(())
            })
        })
        .await?;
        self.delivery(secret).await?.ok_or_else(|| StoreError::NotFound("The delivery".into()))
    }

    /// A delivery by its secret, hashed.
    #[boxed]
    pub async fn delivery(&self, secret: [u8; 32]) -> Result<Option<Delivery>> {
        let raw: Option<Raw> =
            sqlx::query_as(crate::catalogue::rows::sql(format!("{SELECT} WHERE d.secret = ?")))
                .bind(secret.to_vec())
                .fetch_optional(&self.0.shared.view.pool)
                .await?;
        Ok(raw.map(Raw::read))
    }

    /// The deliveries of an intake, the latest first.
    #[boxed]
    pub async fn deliveries(&self, opening: OpeningId, most: i64) -> Result<Vec<Delivery>> {
        let raw: Vec<Raw> = sqlx::query_as(crate::catalogue::rows::sql(format!(
            "{SELECT} WHERE d.opening = ? ORDER BY d.id DESC LIMIT ?"
        )))
        .bind(opening.0)
        .bind(most)
        .fetch_all(&self.0.shared.view.pool)
        .await?;
        Ok(raw.into_iter().map(Raw::read).collect())
    }

    /// What a delivery holds, in the order in which it arrived.
    #[boxed]
    pub async fn delivered(&self, delivery: i64) -> Result<Vec<Delivered>> {
        type Row = (i64, String, i64, Vec<u8>, i64);
        let rows: Vec<Row> = sqlx::query_as(
            "SELECT node, path, size, hash, at FROM delivered WHERE delivery = ? ORDER BY at, path",
        )
        .bind(delivery)
        .fetch_all(&self.0.shared.view.pool)
        .await?;
        let read = |(node, path, size, hash, at): Row| {
            let hash = hash_of(&hash, &format!("node {node} of delivery {delivery}"))?;
            Ok(Delivered { node: NodeId(node), path, size: size.max(0) as u64, hash, at })
        };
        rows.into_iter().map(read).collect()
    }

    /// Begins an upload as a part of a delivery. `path`: as the sender has it, with folders.
    pub async fn begin_delivery_upload(
        &self,
        actor: &Actor,
        opening: &Opening,
        delivery: &Delivery,
        path: &str,
        new: impl FnOnce(NodeId, Name) -> NewUpload,
    ) -> Result<Upload> {
        if delivery.done_at.is_some() {
            return Err(StoreError::DeliveryDone);
        }
        let mut parts: Vec<Name> = path
            .split('/')
            .map(|part| Name::new(&from_stranger(part)))
            .collect::<std::result::Result<_, _>>()?;
        let Some(name) = parts.pop() else { return Err(StoreError::ShelfTop) };
        if parts.len() > DEEPEST {
            return Err(StoreError::BadInput(format!("The file lies more than {DEEPEST} folders deep.")));
        }
        opening.kinds.check_name(name.as_str()).map_err(StoreError::OtherKind)?;
        let new = new(opening.node, name);
        if let Some(largest) = opening.largest_file.filter(|l| new.size > *l) {
            return Err(StoreError::TooLarge(largest));
        }
        // Where a sum counts, one at a time: files that begin together could pass it together.
        let turn = self.0.shared.delivering.turn(delivery.id);
        let _turn = match opening.largest_all {
            Some(_) => Some(turn.lock().await),
            None => None,
        };
        let (unfinished, coming): (i64, i64) = sqlx::query_as(
            "SELECT count(*), coalesce(sum(size), 0)
               + (SELECT coalesce(sum(size), 0) FROM delivered WHERE delivery = ?1)
             FROM uploads WHERE delivery = ?1 AND node IS NULL",
        )
        .bind(delivery.id)
        .fetch_one(&self.0.shared.view.pool)
        .await?;
        if unfinished >= MOST_UNFINISHED {
            return Err(StoreError::TooManyUploads(MOST_UNFINISHED));
        }
        let announced = (coming.max(0) as u64).saturating_add(new.size);
        if let Some(all) = opening.largest_all.filter(|all| announced > *all) {
            return Err(StoreError::DeliveryTooLarge(all));
        }
        let way: String = parts.iter().map(|p| format!("{p}/")).collect();
        self.0.files().begin_upload_of(actor, new, Some((delivery.id, way))).await
    }

    /// Puts a file of a delivery whose bytes are all here, where nothing stands. `None`: bytes are missing.
    #[boxed]
    pub async fn finish_delivery_upload(
        &self,
        actor: &Actor,
        opening: &Opening,
        delivery: &Delivery,
        id: &str,
    ) -> Result<Option<Outcome>> {
        let upload = self.0.files().upload(actor, id).await?;
        if upload.node.is_some() || upload.received < upload.new.size {
            return self.0.files().finish_upload(actor, id, None).await;
        }
        if !opening.kinds.anything() {
            let name = upload.new.name.to_string();
            let head = self.head_of(&upload)?;
            if let Err(e) = opening.kinds.check_bytes(&name, &head) {
                // Nothing of it is kept.
                self.0.files().end_upload(actor, id).await?;
                return Err(StoreError::OtherKind(e));
            }
        }
        let mut parent = self.delivery_folder(actor, opening, delivery).await?;
        for part in upload.way.split('/').filter(|p| !p.is_empty()) {
            parent = self.folder_named(actor, parent, part).await?;
        }
        let mut n = 1;
        loop {
            n = self.first_free(parent, upload.new.name.as_str(), n, false).await?;
            let name = Name::new(&numbered(upload.new.name.as_str(), n, false))?;
            let conditions = Conditions::nothing_there();
            match self.0.files().finish_upload(actor, id, Some(OtherPlace { parent, name, conditions })).await
            {
                // Another one came between: the next number.
                Err(
                    StoreError::ConditionFailed { .. }
                    | StoreError::FolderInTheWay(_)
                    | StoreError::NameTaken(_)
                    | StoreError::NameUnusable(_)
                    | StoreError::NotAllowed { .. },
                ) if n < MOST_ALIKE && self.0.files().chain(actor, parent, Level::Add).await.is_ok() => {
                    n += 1
                }
                done => return done,
            }
        }
    }

    fn head_of(&self, upload: &Upload) -> Result<Vec<u8>> {
        let io = |e: &std::io::Error| StoreError::io("looking at an upload", e);
        let file = self.0.shared.disk.reopen_staged(&upload.staged_name()).map_err(|e| io(&e))?;
        let mut head = vec![0; HEAD.min(upload.received as usize)];
        file.read_exact_at(&mut head, 0).map_err(|e| io(&e))?;
        Ok(head)
    }

    /// The first number, from `n` on, under which nothing stands in a folder.
    async fn first_free(&self, parent: NodeId, name: &str, mut n: u32, folder: bool) -> Result<u32> {
        while n < MOST_ALIKE {
            let key = sort_key(&Name::new(&numbered(name, n, folder))?).into();
            if self.0.shared.view.child(parent, &key).await?.is_none() {
                break;
            }
            n += 1;
        }
        Ok(n)
    }

    /// The folder of a delivery: made with its first file, under the sender's name, numbered if
    /// something has it already.
    async fn delivery_folder(&self, actor: &Actor, opening: &Opening, delivery: &Delivery) -> Result<NodeId> {
        // One at a time: several files of a delivery arrive together.
        let turn = self.0.shared.delivering.turn(delivery.id);
        let _turn = turn.lock().await;
        let known: Option<i64> = sqlx::query_scalar("SELECT folder FROM deliveries WHERE id = ?")
            .bind(delivery.id)
            .fetch_one(&self.0.shared.view.pool)
            .await?;
        // One that was moved elsewhere or removed meanwhile is another's by now.
        if let Some(folder) = known.map(NodeId)
            && self.0.files().chain(actor, folder, Level::Add).await.is_ok()
        {
            return Ok(folder);
        }
        let name = sender_folder(&delivery.sender);
        let mut n = 1;
        let made = loop {
            n = self.first_free(opening.node, &name, n, true).await?;
            let numbered = Name::new(&numbered(&name, n, true))?;
            match self.0.files().make_folder(actor, opening.node, numbered).await {
                Err(StoreError::NameTaken(_) | StoreError::NameUnusable(_)) if n < MOST_ALIKE => n += 1,
                done => break done?,
            }
        };
        let folder = made.row.map(|r| r.node).unwrap_or_default();
        let id = delivery.id;
        self.0
            .people()
            .change(&Actor::service(), "", "", move |conn| {
                Box::pin(async move {
                    sqlx::query("UPDATE deliveries SET folder = ? WHERE id = ?")
                        .bind(folder.0)
                        .bind(id)
                        .execute(conn)
                        .await?;
                    Ok(())
                })
            })
            .await?;
        Ok(folder)
    }

    /// The folder at a way below another one, made where it is not there yet.
    #[boxed]
    pub async fn folder_below(&self, actor: &Actor, mut parent: NodeId, way: &str) -> Result<NodeId> {
        let parts: Vec<&str> = way.split('/').filter(|p| !p.is_empty()).collect();
        if parts.len() > DEEPEST {
            return Err(StoreError::BadInput(format!("The file lies more than {DEEPEST} folders deep.")));
        }
        self.0.files().chain(actor, parent, Level::Add).await?;
        for part in parts {
            parent = self.folder_named(actor, parent, part).await?;
        }
        Ok(parent)
    }

    /// A name under which nothing stands in a folder: this one, or this one numbered.
    #[boxed]
    pub async fn free_name(&self, parent: NodeId, name: &Name) -> Result<Name> {
        let n = self.first_free(parent, name.as_str(), 1, false).await?;
        Ok(Name::new(&numbered(name.as_str(), n, false))?)
    }

    /// The same for a new folder, whatever its name was to be.
    pub(crate) async fn free_folder_name(&self, parent: NodeId, wanted: &str) -> Result<Name> {
        let plain = sender_folder(wanted);
        let n = self.first_free(parent, &plain, 1, true).await?;
        Ok(Name::new(&numbered(&plain, n, true))?)
    }

    /// A folder of this name: the one that is there, or a new one.
    async fn folder_named(&self, actor: &Actor, parent: NodeId, name: &str) -> Result<NodeId> {
        let name = Name::new(name)?;
        let key = sort_key(&name).into();
        for n in 1..MOST_ALIKE {
            if let Some(row) = self.0.shared.view.child(parent, &key).await? {
                if row.is_folder() {
                    return Ok(row.node);
                }
                // A file has the name: beside it.
                return Box::pin(self.folder_named(actor, parent, &numbered(name.as_str(), n + 1, true)))
                    .await;
            }
            match self.0.files().make_folder(actor, parent, name.clone()).await {
                // Another file of the delivery made it meanwhile.
                Err(StoreError::NameTaken(_)) => {}
                done => return Ok(done?.row.map(|r| r.node).unwrap_or_default()),
            }
        }
        Err(StoreError::NameTaken(name.to_string()))
    }

    /// The sender is done. Refused while nothing has arrived.
    #[boxed]
    pub async fn finish_delivery(&self, actor: &Actor, delivery: &Delivery) -> Result<()> {
        let (id, now) = (delivery.id, self.0.now_ms());
        if delivery.done_at.is_some() {
            return Ok(());
        }
        if delivery.files == 0 {
            return Err(StoreError::NothingDelivered);
        }
        let what = format!("intake {}: {} files, {} bytes", delivery.opening, delivery.files, delivery.bytes);
        self.0
            .people()
            .change(actor, "delivery done", &what, move |conn| {
                Box::pin(async move {
                    sqlx::query(
                        "UPDATE deliveries SET done_at = ?1, moved_at = ?1 WHERE id = ?2 AND done_at IS NULL",
                    )
                    .bind(now)
                    .bind(id)
                    .execute(conn)
                    .await?;
                    Ok(())
                })
            })
            .await
    }

    /// Closes deliveries that nobody goes on with; those of which nothing arrived were none, and are
    /// given back.
    #[boxed]
    pub async fn close_deliveries(&self) -> Result<()> {
        let (now, before) = (self.0.now_ms(), self.0.now_ms() - KEPT_MS);
        let due: i64 =
            sqlx::query_scalar("SELECT count(*) FROM deliveries WHERE done_at IS NULL AND moved_at <= ?")
                .bind(before)
                .fetch_one(&self.0.shared.view.pool)
                .await?;
        if due == 0 {
            return Ok(());
        }
        self.0.people().change(&Actor::service(), "deliveries closed", &due.to_string(), move |conn| {
            Box::pin(async move {
                sqlx::query(
                    "UPDATE deliveries SET done_at = ?, broken = 1 WHERE done_at IS NULL AND moved_at <= ?
                       AND EXISTS (SELECT 1 FROM delivered f WHERE f.delivery = deliveries.id)",
                )
                .bind(now)
                .bind(before)
                .execute(&mut *conn)
                .await?;
                sqlx::query(
                    "UPDATE openings SET used = max(used - d.n, 0) FROM
                       (SELECT opening, count(*) AS n FROM deliveries WHERE done_at IS NULL AND moved_at <= ? GROUP BY opening) d
                     WHERE openings.id = d.opening",
                )
                .bind(before)
                .execute(&mut *conn)
                .await?;
                sqlx::query("DELETE FROM deliveries WHERE done_at IS NULL AND moved_at <= ?")
                    .bind(before)
                    .execute(conn)
                    .await?;
                Ok(())
            })
        })
        .await
    }

    /// Deliveries whose owner was not told yet, if the last of an intake's has been done for a while:
    /// gathered, not one by one.
    #[boxed]
    pub async fn untold_deliveries(&self, quiet_ms: i64) -> Result<Vec<Delivery>> {
        let raw: Vec<Raw> = sqlx::query_as(crate::catalogue::rows::sql(format!(
            "{SELECT} WHERE d.told_at IS NULL AND d.done_at IS NOT NULL
               AND NOT EXISTS (SELECT 1 FROM deliveries o WHERE o.opening = d.opening AND o.told_at IS NULL AND o.done_at > ?)
             ORDER BY d.opening, d.id"
        )))
        .bind(self.0.now_ms() - quiet_ms)
        .fetch_all(&self.0.shared.view.pool)
        .await?;
        Ok(raw.into_iter().map(Raw::read).collect())
    }

    /// Their owners were told.
    #[boxed]
    pub async fn told_deliveries(&self, ids: Vec<i64>) -> Result<()> {
        let now = self.0.now_ms();
        let ids = serde_json::to_string(&ids).map_err(|e| StoreError::Catalogue(e.to_string()))?;
        self.0
            .people()
            .change(&Actor::service(), "", "", move |conn| {
                Box::pin(async move {
                    sqlx::query(
                        "UPDATE deliveries SET told_at = ? WHERE id IN (SELECT value FROM json_each(?))",
                    )
                    .bind(now)
                    .bind(ids)
                    .execute(conn)
                    .await?;
                    Ok(())
                })
            })
            .await
    }
}

impl From<KindError> for StoreError {
    fn from(e: KindError) -> StoreError {
        StoreError::OtherKind(e)
    }
}
