//! Uploads that arrive in parts: found again after a broken line, a restart, or on another
//! network, until they expire.

use crate::engine::held::{Live, Uploads, ahead};
use crate::fs::error::{Result, StoreError};
use crate::fs::model::Actor;
use crate::fs::staging::Staging;
use crate::ops::record::ChangeCatalogue;
use crate::timeline::Files;
use async_recursion::async_recursion as boxed;
use sqlx::SqliteConnection;
use std::sync::Arc;
use yellow_attic_core::conditions::{Conditions, Tags, parse_tags, parse_tags_weakly};
use yellow_attic_core::rights::Level;
use yellow_attic_core::{ContentId, Name, NodeId};

/// An upload that nobody goes on with is dropped after this: three days.
pub const KEPT_MS: i64 = 3 * 86_400_000;
/// Unfinished uploads of one account.
pub const MOST_UNFINISHED: i64 = 10_000;
/// Of strangers: through one link or intake, and from one address.
pub const MOST_OF_OPENING: i64 = 1_000;
pub const MOST_OF_ADDRESS: i64 = 200;
/// What one account has announced and not sent yet, beside the largest, may take so much of the free room: one half.
const SHARE: u64 = 2;

/// What a sender announces.
#[derive(Clone, Debug)]
pub struct NewUpload {
    /// The folder it goes to, wherever that is by then.
    pub parent: NodeId,
    /// Its name there.
    pub name: Name,
    /// In bytes.
    pub size: u64,
    /// Whether the sender tells later how long it is: until then `size` is the most that it may be.
    pub open_length: bool,
    /// The file's own time of modification, in milliseconds.
    pub mtime: Option<i64>,
    /// If-Match, as it was sent.
    pub if_match: Option<String>,
    /// If-None-Match, as it was sent.
    pub if_none_match: Option<String>,
    /// The BLAKE3 hash that the whole will have.
    pub hash: Option<[u8; 32]>,
    /// Whether it is a part that is joined with others later, or made of such parts.
    pub joining: Joining,
}

/// How uploads are joined (tus, concatenation).
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum Joining {
    /// Not at all.
    #[default]
    Alone,
    /// A part: it has no place of its own.
    Part,
    /// Made of these.
    Of(Vec<String>),
}

impl Joining {
    fn word(&self) -> String {
        match self {
            Joining::Alone => String::new(),
            Joining::Part => "part".into(),
            Joining::Of(parts) => format!("of {}", parts.join(" ")),
        }
    }

    fn from_word(word: &str) -> Joining {
        match word.strip_prefix("of ") {
            Some(parts) => Joining::Of(parts.split(' ').map(str::to_string).collect()),
            None if word == "part" => Joining::Part,
            None => Joining::Alone,
        }
    }
}

/// An upload as its sender sees it.
#[derive(Clone, Debug)]
pub struct Upload {
    /// The end of its address; whoever asks must also be its account.
    pub id: String,
    /// What was announced.
    pub new: NewUpload,
    /// Bytes that have arrived.
    pub received: u64,
    /// When it began, in milliseconds.
    pub made_at: i64,
    /// When it is dropped, in milliseconds.
    pub expires_at: i64,
    /// The file it became.
    pub node: Option<NodeId>,
    /// The folders on the way to it within a delivery, each with a slash.
    pub way: String,
    /// The delivery that it is a part of.
    pub delivery: Option<i64>,
    /// Whether a stranger sends it.
    pub stranger: bool,
    /// From where it was begun.
    pub from: String,
    pub(crate) content: ContentId,
}

impl Upload {
    /// Whether room is spoken for only as its bytes come: nobody knows how many there will be, or a stranger says so.
    pub(crate) fn grows(&self) -> bool {
        self.stranger || self.new.open_length
    }

    pub(crate) fn live(&self, uploads: &Uploads, staging: &Arc<Staging>) -> Arc<Live> {
        uploads.live(staging, &self.id, self.new.size.saturating_sub(self.received), self.grows())
    }

    /// What its bytes are called in staging.
    pub(crate) fn staged_name(&self) -> String {
        crate::fs::disk::content_name(self.content)
    }
}

impl Files {
    /// Begins an upload: its place, rights and room are looked at before a byte is sent.
    #[boxed]
    pub async fn begin_upload(&self, actor: &Actor, new: NewUpload) -> Result<Upload> {
        self.begin_upload_of(actor, new, None).await
    }

    /// The same for a part of a delivery, with the folders on the way to it.
    #[boxed]
    pub(crate) async fn begin_upload_of(
        &self,
        actor: &Actor,
        new: NewUpload,
        delivery: Option<(i64, String)>,
    ) -> Result<Upload> {
        let account = actor.account.ok_or_else(|| StoreError::NotFound("The account".into()))?;
        // What would refuse it at the end refuses it before a byte is sent.
        let there = match &delivery {
            None if new.joining == Joining::Part => None,
            None => self.check_put(actor, new.parent, &new.name).await?,
            // What is there already is nothing to a sender: theirs gets a number.
            Some(_) => self.chain(actor, new.parent, Level::Add).await.map(|_| None)?,
        };
        let present = there.as_ref().map(|row| row.standing());
        if !conditions(&new)?.hold(present.as_ref()) {
            return Err(StoreError::ConditionFailed { present: present.map(Box::new) });
        }
        let replaced = there.as_ref().map_or(0, |row| row.size().max(0) as u64);
        match there {
            Some(row) if row.is_folder() => return Err(StoreError::FolderInTheWay(new.name.to_string())),
            _ => {}
        }
        let stranger = actor.through.is_some();
        let spoken_for = ahead(new.size, stranger || new.open_length);
        // A stranger's whole is looked at, and not spoken for; of an open length nobody knows the whole.
        self.0.check_room(if new.open_length { 0 } else { new.size })?;
        let claim = self.0.space().claim(new.parent, spoken_for, replaced.min(spoken_for)).await?;
        self.check_under_way(actor, account, if new.open_length { 0 } else { new.size }).await?;
        let mut bits = [0u8; 16];
        getrandom::fill(&mut bits).map_err(|e| StoreError::BadInput(e.to_string()))?;
        let staging = self.0.shared.staging.clone();
        let content = tokio::task::spawn_blocking(move || staging.make_upload())
            .await
            .map_err(|_| StoreError::Stopping)??;
        let now = self.0.now_ms();
        let upload = Upload {
            id: crate::fs::disk::hex(&bits),
            new,
            received: 0,
            made_at: now,
            expires_at: now + KEPT_MS,
            node: None,
            way: delivery.as_ref().map_or_else(String::new, |(_, way)| way.clone()),
            delivery: delivery.map(|(id, _)| id),
            stranger,
            from: actor.from.to_string(),
            content,
        };
        let (row, org, opening) = (upload.clone(), 1i64, through(actor));
        let kept = self
            .catalogue(actor, move |conn| {
                Box::pin(async move {
                    sqlx::query(
                        "INSERT INTO uploads (id, org, account, content, parent, name, size, mtime, if_match, if_none_match,
                           hash, made_at, expires_at, opening, delivery, way, joining, sent_from, open_length)
                         VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                    )
                    .bind(&row.id)
                    .bind(org)
                    .bind(account.0)
                    .bind(row.content.0)
                    .bind(row.new.parent.0)
                    .bind(row.new.name.as_str())
                    .bind(row.new.size as i64)
                    .bind(row.new.mtime)
                    .bind(&row.new.if_match)
                    .bind(&row.new.if_none_match)
                    .bind(row.new.hash.map(|h| h.to_vec()))
                    .bind(row.made_at)
                    .bind(row.expires_at)
                    .bind(opening)
                    .bind(row.delivery)
                    .bind(&row.way)
                    .bind(row.new.joining.word())
                    .bind(&row.from)
                    .bind(row.new.open_length)
                    .execute(conn)
                    .await?;
                    Ok(())
                })
            })
            .await;
        if let Err(e) = kept {
            let _ = self.0.shared.disk.drop_staged(&crate::fs::disk::content_name(content), false);
            return Err(e);
        }
        let _ = upload.live(&self.0.shared.uploads, &self.0.shared.staging);
        self.0.shared.uploads.1.lock().insert(upload.id.clone(), claim);
        Ok(upload)
    }

    /// Refuses more than may be under way: of one account, of one link or intake, and from one address.
    async fn check_under_way(
        &self,
        actor: &Actor,
        account: yellow_attic_core::AccountId,
        size: u64,
    ) -> Result<()> {
        let pool = &self.0.shared.view.pool;
        let Some(opening) = through(actor) else {
            let (unfinished, announced, largest): (i64, i64, i64) = sqlx::query_as(
                "SELECT count(*), coalesce(sum(size - max(synced, 0)), 0), coalesce(max(size - max(synced, 0)), 0) FROM uploads
                 WHERE account = ? AND opening IS NULL AND node IS NULL AND NOT open_length",
            )
            .bind(account.0)
            .fetch_one(pool)
            .await?;
            let open: i64 = sqlx::query_scalar(
                "SELECT count(*) FROM uploads WHERE account = ? AND opening IS NULL AND node IS NULL AND open_length",
            )
            .bind(account.0)
            .fetch_one(pool)
            .await?;
            let unfinished = unfinished + open;
            if unfinished >= MOST_UNFINISHED {
                return Err(StoreError::TooManyUploads(MOST_UNFINISHED));
            }
            // One may take all the room there is: it is theirs to fill. Those beside it must leave room for others.
            let most = self.0.disk_space()?.0 / SHARE;
            let announced = announced.max(0) as u64;
            let beside = announced.saturating_add(size) - size.max(largest.max(0) as u64);
            if beside > most {
                return Err(StoreError::TooMuchAnnounced { announced, most });
            }
            return Ok(());
        };
        let of_opening: i64 =
            sqlx::query_scalar("SELECT count(*) FROM uploads WHERE opening = ? AND node IS NULL")
                .bind(opening)
                .fetch_one(pool)
                .await?;
        let of_address: i64 = sqlx::query_scalar(
            "SELECT count(*) FROM uploads WHERE opening IS NOT NULL AND sent_from = ? AND node IS NULL",
        )
        .bind(&*actor.from)
        .fetch_one(pool)
        .await?;
        match (of_opening >= MOST_OF_OPENING, of_address >= MOST_OF_ADDRESS) {
            (true, _) => Err(StoreError::TooManyUploads(MOST_OF_OPENING)),
            (_, true) => Err(StoreError::TooManyUploads(MOST_OF_ADDRESS)),
            _ => Ok(()),
        }
    }

    /// The unfinished uploads through a link or an intake, for its owner, oldest first.
    #[boxed]
    pub async fn uploads_through(&self, opening: yellow_attic_core::OpeningId) -> Result<Vec<Upload>> {
        let rows: Vec<UploadRow> = sqlx::query_as(sqlx::AssertSqlSafe(format!(
            "{SELECT} WHERE opening = ? AND node IS NULL ORDER BY made_at, id LIMIT {MOST_OF_OPENING}"
        )))
        .bind(opening.0)
        .fetch_all(&self.0.shared.view.pool)
        .await?;
        Ok(rows.into_iter().filter_map(|row| self.with_size(row).ok()).collect())
    }

    /// How many uploads through a link or an intake are unfinished, and how many bytes of them are here.
    #[boxed]
    pub async fn coming_through(&self, opening: yellow_attic_core::OpeningId) -> Result<(u64, u64)> {
        let (count, bytes): (i64, i64) = sqlx::query_as(
            "SELECT count(*), coalesce(sum(max(synced, 0)), 0) FROM uploads WHERE opening = ? AND node IS NULL",
        )
        .bind(opening.0)
        .fetch_one(&self.0.shared.view.pool)
        .await?;
        Ok((count.max(0) as u64, bytes.max(0) as u64))
    }

    /// Ends all unfinished uploads through a link or an intake. Returns how many.
    #[boxed]
    pub async fn end_uploads_through(&self, opening: yellow_attic_core::OpeningId) -> Result<usize> {
        let mut ended = 0;
        loop {
            let some = self.uploads_through(opening).await?;
            if some.is_empty() {
                return Ok(ended);
            }
            for upload in &some {
                drop(self.take_over(upload).await?);
                self.drop_upload(&upload.id, upload.content).await?;
                ended += 1;
            }
        }
    }

    /// One of the actor's uploads.
    #[boxed]
    pub async fn upload(&self, actor: &Actor, id: &str) -> Result<Upload> {
        let row: Option<UploadRow> = sqlx::query_as(sqlx::AssertSqlSafe(format!(
            "{SELECT} WHERE id = ? AND account = ? AND opening IS ?"
        )))
        .bind(id)
        .bind(actor.account.map(|a| a.0))
        .bind(through(actor))
        .fetch_optional(&self.0.shared.view.pool)
        .await?;
        let gone = || StoreError::NotFound("The upload".into());
        let row = row.ok_or_else(gone)?;
        match self.within_scope(actor, NodeId(row.2)).await? {
            true => self.with_size(row),
            false => Err(gone()),
        }
    }

    /// Whether an upload of the account's is one that a device may know of: into a folder that its token reaches.
    async fn within_scope(&self, actor: &Actor, parent: NodeId) -> Result<bool> {
        if actor.scope.is_none() {
            return Ok(true);
        }
        match self.chain(actor, parent, Level::Add).await {
            Ok(_) => Ok(true),
            Err(StoreError::NotFound(_) | StoreError::NotAllowed { .. }) => Ok(false),
            Err(e) => Err(e),
        }
    }

    /// The actor's unfinished uploads, oldest first.
    #[boxed]
    pub async fn uploads(&self, actor: &Actor) -> Result<Vec<Upload>> {
        let rows: Vec<UploadRow> = sqlx::query_as(sqlx::AssertSqlSafe(format!(
            "{SELECT} WHERE account = ? AND opening IS ? AND node IS NULL ORDER BY made_at, id LIMIT {MOST_UNFINISHED}"
        )))
        .bind(actor.account.map(|a| a.0))
        .bind(through(actor))
        .fetch_all(&self.0.shared.view.pool)
        .await?;
        let mut found = Vec::new();
        for row in rows {
            // One that ended between the two looks is not under way.
            if self.within_scope(actor, NodeId(row.2)).await? {
                found.extend(self.with_size(row).ok());
            }
        }
        Ok(found)
    }

    fn with_size(&self, row: UploadRow) -> Result<Upload> {
        let mut upload = read(row)?;
        if upload.node.is_some() {
            upload.received = upload.new.size;
            return Ok(upload);
        }
        let name = crate::fs::disk::content_name(upload.content);
        let look = crate::fs::disk::look(&self.0.shared.disk.staging, &name)
            .map_err(|e| StoreError::io("looking at an upload", &e))?
            .ok_or_else(|| StoreError::NotFound("The upload".into()))?;
        upload.received = look.size as u64;
        Ok(upload)
    }

    /// Speaks again for the space of uploads that were under way when the store was last open.
    pub(crate) async fn claim_unfinished(&self) -> Result<()> {
        let rows: Vec<(String, i64, i64)> = sqlx::query_as(
            "SELECT id, parent, iif(opening IS NULL AND NOT open_length, size, max(synced, 0)) FROM uploads WHERE node IS NULL",
        )
        .fetch_all(&self.0.shared.view.pool)
        .await?;
        for (id, parent, size) in rows {
            let claim = self.0.space().claim_again(NodeId(parent), size.max(0) as u64).await?;
            self.0.shared.uploads.1.lock().insert(id, claim);
        }
        Ok(())
    }

    pub(crate) async fn catalogue(
        &self,
        actor: &Actor,
        change: impl for<'c> FnOnce(
            &'c mut SqliteConnection,
        ) -> std::pin::Pin<Box<dyn Future<Output = Result<()>> + Send + 'c>>
        + Send
        + 'static,
    ) -> Result<()> {
        let actor = actor.clone();
        self.0.ask(ChangeCatalogue::new(actor, "", String::new(), false, change)).await
    }
}

/// The opening through which a stranger sends: they find their own uploads only.
fn through(actor: &Actor) -> Option<i64> {
    actor.through.map(|t| t.opening.0)
}

/// What staging must spare, and the room spoken for, at a start. The file of each upload is cut back to what is on the
/// disk for certain.
pub(crate) async fn recover(
    conn: &mut SqliteConnection,
    staging: &Arc<Staging>,
) -> Result<(Uploads, Vec<ContentId>)> {
    let rows: Vec<UploadRow> =
        sqlx::query_as(sqlx::AssertSqlSafe(format!("{SELECT} WHERE node IS NULL"))).fetch_all(conn).await?;
    let uploads = Uploads::default();
    let mut spared = Vec::new();
    for row in rows {
        let (synced, ..): RestJson = crate::catalogue::rows::parse(&row.15)?;
        let mut upload = read(row)?;
        let Some(there) = staging.cut_upload(upload.content, synced)? else { continue };
        upload.received = there;
        spared.push(upload.content);
        let _ = upload.live(&uploads, staging);
    }
    Ok((uploads, spared))
}

const SELECT: &str =
    "SELECT id, content, parent, name, size, mtime, if_match, if_none_match, hash, made_at, expires_at, node, way, delivery, joining,
       json_array(synced, opening IS NOT NULL, sent_from, open_length)
     FROM uploads";

type UploadRow = (
    String,
    i64,
    i64,
    String,
    i64,
    Option<i64>,
    Option<String>,
    Option<String>,
    Option<Vec<u8>>,
    i64,
    i64,
    Option<i64>,
    String,
    Option<i64>,
    String,
    String,
);

/// What of a row comes as a list: how many bytes are on the disk for certain, whether a stranger sends it, from where,
/// whether its length is not known yet.
type RestJson = (i64, i64, String, i64);

fn read(row: UploadRow) -> Result<Upload> {
    #[rustfmt::skip]
    let (id, content, parent, name, size, mtime, if_match, if_none_match, hash, made_at, expires_at, node, way, delivery, joining, rest) =
        row;
    let (_, stranger, from, open_length): RestJson = crate::catalogue::rows::parse(&rest)?;
    Ok(Upload {
        id,
        new: NewUpload {
            parent: NodeId(parent),
            name: Name::new(&name)?,
            size: size as u64,
            open_length: open_length != 0,
            mtime,
            if_match,
            if_none_match,
            hash: hash.and_then(|h| h.try_into().ok()),
            joining: Joining::from_word(&joining),
        },
        received: 0,
        made_at,
        expires_at,
        node: node.map(NodeId),
        way,
        delivery,
        stranger: stranger != 0,
        from,
        content: ContentId(content),
    })
}

pub(crate) fn conditions(new: &NewUpload) -> Result<Conditions> {
    type Parse = fn(&str) -> Option<Tags>;
    let read = |text: &Option<String>, parse: Parse| match text {
        None => Ok(None),
        Some(text) => match parse(text) {
            Some(tags) => Ok(Some(tags)),
            None => Err(StoreError::BadInput(format!("{text} is no ETag"))),
        },
    };
    let if_match = read(&new.if_match, parse_tags)?;
    Ok(Conditions {
        if_match,
        if_none_match: read(&new.if_none_match, parse_tags_weakly)?,
        ..Conditions::default()
    })
}
