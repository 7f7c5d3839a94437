//! Work that goes on in steps, in the background, and survives a restart: taking removed
//! folders apart, putting them together again, restamping what went to another shelf.

use crate::catalogue::rows;
use crate::files::filer::{File, Filing};
use crate::files::past::{Past, hold_still, open_past, see};
use crate::fs::clock::Timekeeper;
use crate::fs::disk::{Disk, ObjectId, Plain, content_name, folder_name, hex, look};
use crate::fs::error::{Result, StoreError};
use crate::fs::model::{Actor, ChangeKind, Content, ContentState, Folder, FolderPlacement, Row};
use crate::fs::pending_rename::{DiskLocation, Task};
use crate::fs::staging::{Staged, Staging};
use crate::ops::found::{EnterRemoved, Lost};
use crate::ops::record::Finding;
use crate::txn::operation::{Around, Brought, Operation, Queued, asked};
use crate::txn::owed::Placing;
use crate::txn::read_cache::View;
use crate::txn::write_txn::WriteTxn;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use tokio::sync::{Notify, mpsc};
use yellow_attic_core::collate::sort_key;
use yellow_attic_core::{ContentId, Moment, Name, NodeId, ShelfId};

/// Things looked at in one step.
const STEP: usize = 256;
/// A job that failed leaves others the way for so long.
const POSTPONED_MS: i64 = 5_000;

/// One step of a job, within a group of the writer.
pub(crate) enum Step {
    /// Nothing but carrying the marks' state into the catalogue.
    Nothing,
    /// A job is done.
    Done(i64),
    /// A job could not go on, and is tried again later than the others.
    Postpone(i64),
    /// The next children of a removed folder leave it, each by a mark of its own; when none is left, the folder itself
    /// goes where nobody brings it back from. One that came back meanwhile stays as it is.
    TakeOut { job: i64, node: NodeId },
    /// The next children of a folder that a hand took away are gone with it.
    Gone { job: i64, node: NodeId },
    /// What a folder was taken to be is another object.
    Adopt { node: NodeId, object: ObjectId },
    /// Its folder came back, and its bytes are no longer held: it stays in the past.
    Vanish(Row),
    /// The next children of a folder get the stamp of their shelf.
    Restamp { job: i64, node: NodeId, moment: Moment, shelf: ShelfId },
    /// Past bytes are live again.
    Relive { row: Row, staged: Option<Box<Staged>>, object: ObjectId },
    /// A folder of a folder that came back.
    Renest { row: Row, staged: Option<ContentId>, object: ObjectId },
}

impl Step {
    /// Brings to the disk what the step needs there.
    pub fn bring(&mut self, disk: &Arc<Disk>) -> Result<()> {
        match self {
            Step::Relive { row, staged: Some(staged), object } => {
                let look = staged.write_out(row.mtime).map_err(|e| StoreError::io("bringing back", &e))?;
                staged.sync(disk).map_err(|e| StoreError::io("bringing back", &e))?;
                *object = look.id;
                disk.sync(&disk.staging).map_err(|e| StoreError::io("bringing back", &e))
            }
            Step::Renest { staged: Some(id), object, .. } => {
                *object = disk
                    .make_staged_dir(&content_name(*id))
                    .map_err(|e| StoreError::io("bringing back", &e))?;
                disk.sync(&disk.staging).map_err(|e| StoreError::io("bringing back", &e))
            }
            _ => Ok(()),
        }
    }

    /// Decides the step.
    pub async fn apply(self, txn: &mut WriteTxn) -> Result<()> {
        match self {
            Step::Nothing => Ok(()),
            Step::Done(job) => {
                sqlx::query("DELETE FROM jobs WHERE id = ?").bind(job).execute(&mut txn.conn).await?;
                Ok(())
            }
            Step::Postpone(job) => {
                sqlx::query("UPDATE jobs SET due = ? WHERE id = ?")
                    .bind(txn.now + POSTPONED_MS)
                    .bind(job)
                    .execute(&mut txn.conn)
                    .await?;
                Ok(())
            }
            Step::TakeOut { job, node } => take_out(txn, job, node).await,
            Step::Gone { job, node } => crate::ops::hands::gone_beneath(txn, job, node, STEP).await,
            Step::Adopt { node, object } => {
                if let Some(folder) = txn.folder(node).await?.filter(|f| f.lies == FolderPlacement::Placed) {
                    txn.set_folder(node, Folder { object, ..folder });
                }
                Ok(())
            }
            Step::Vanish(row) => {
                if let Some(now) = txn.row(row.node).await?
                    && now.content.is_some_and(|c| c.life == ContentState::Gone)
                {
                    let moment = txn.next_moment();
                    txn.end_row(&now, moment, ChangeKind::Removed, &Actor::service());
                    txn.let_last_go();
                }
                Ok(())
            }
            Step::Restamp { job, node, moment, shelf } => restamp(txn, job, node, moment, shelf).await,
            Step::Relive { row, staged, object } => relive(txn, &row, staged, object).await,
            Step::Renest { row, staged, object } => renest(txn, &row, staged, object).await,
        }
    }
}

/// Takes apart a removed folder by marks, in the order of everything else that is owed to the disk: whatever brings the
/// folder back is decided before or after each of these steps, and its rename comes before or after theirs.
async fn take_out(txn: &mut WriteTxn, job: i64, node: NodeId) -> Result<()> {
    let Some(folder) = txn.folder(node).await?.filter(|f| f.lies == FolderPlacement::Removed) else {
        return Ok(());
    };
    if txn.chain(node).await?.is_some() {
        // It came back, or what it lies in did.
        sqlx::query("DELETE FROM jobs WHERE id = ?").bind(job).execute(&mut txn.conn).await?;
        return Ok(());
    }
    let children = crate::ops::hands::still_in(txn, node, STEP).await?;
    for child in &children {
        let Some(row) = txn.row(NodeId(*child)).await?.filter(|r| r.parent == Some(node)) else { continue };
        let from = DiskLocation::In(node, row.name().into());
        match (row.content, txn.folder(row.node).await?) {
            (Some(content), _) if content.life == ContentState::Live => {
                let past = Content { life: ContentState::Past, ..content };
                txn.set_content(past);
                // The row stays open, though not alive: whoever holds it must know.
                txn.open_row(Row { content: Some(past), ..(*row).clone() }, true);
                txn.add_task(Task::new(
                    content.object,
                    row.node,
                    false,
                    from,
                    DiskLocation::Incoming(content.id),
                ));
            }
            (None, Some(its)) if its.lies == FolderPlacement::Placed => {
                txn.set_folder(row.node, Folder { lies: FolderPlacement::Removed, ..its });
                txn.add_task(Task::new(its.object, row.node, true, from, DiskLocation::Removed(row.node)));
                txn.add_job("take apart", row.node, Moment(txn.heads.moment), txn.now);
            }
            _ => {}
        }
    }
    if children.is_empty() {
        txn.set_folder(node, Folder { lies: FolderPlacement::Apart, ..folder });
        txn.add_task(Task::new(
            folder.object,
            node,
            true,
            DiskLocation::Removed(node),
            DiskLocation::Apart(job),
        ));
    }
    Ok(())
}

async fn restamp(txn: &mut WriteTxn, job: i64, node: NodeId, moment: Moment, shelf: ShelfId) -> Result<()> {
    let children: Vec<i64> =
        sqlx::query_scalar("SELECT node FROM entries_now WHERE parent = ? AND shelf <> ? LIMIT ?")
            .bind(node.0)
            .bind(shelf.0)
            .bind(STEP as i64)
            .fetch_all(&mut txn.conn)
            .await?;
    for child in &children {
        let Some(row) = txn.row(NodeId(*child)).await? else { continue };
        if row.shelf == shelf || row.parent != Some(node) {
            continue;
        }
        if row.shelf != ShelfId(0) && row.since < moment {
            // The earlier state stays under the old shelf's rules.
            txn.end_row(&row, moment, ChangeKind::Left, &Actor::service());
            txn.open_row(Row { shelf, since: moment, how: ChangeKind::Arrived, ..(*row).clone() }, true);
        } else {
            txn.open_row(Row { shelf, ..(*row).clone() }, true);
        }
        if row.is_folder() {
            txn.add_job("restamp", row.node, moment, txn.now);
        }
    }
    if children.len() < STEP {
        sqlx::query("DELETE FROM jobs WHERE id = ?").bind(job).execute(&mut txn.conn).await?;
    }
    Ok(())
}

async fn relive(txn: &mut WriteTxn, row: &Row, staged: Option<Box<Staged>>, object: ObjectId) -> Result<()> {
    let (Some(staged), Some(now)) = (staged, txn.row(row.node).await?) else { return Ok(()) };
    let (Some(content), Some(parent)) = (now.content, now.parent) else { return Ok(()) };
    if Some(content.id) != row.content.map(|c| c.id) || content.life != ContentState::Past {
        return Ok(());
    }
    let mark = txn.add_task(Task::new(
        object,
        row.node,
        false,
        DiskLocation::Staging(staged.id),
        DiskLocation::In(parent, now.name().into()),
    ));
    let live = Content { life: ContentState::Live, object, mark, ..content };
    txn.set_content(live);
    txn.open_row(Row { content: Some(live), ..(*now).clone() }, true);
    staged.keep();
    Ok(())
}

async fn renest(txn: &mut WriteTxn, row: &Row, staged: Option<ContentId>, object: ObjectId) -> Result<()> {
    let (Some(now), Some(folder)) = (txn.row(row.node).await?, txn.folder(row.node).await?) else {
        return Ok(());
    };
    let Some(parent) = now.parent else { return Ok(()) };
    let (from, object) = match staged {
        Some(id) => (DiskLocation::Staging(id), object),
        None => (DiskLocation::Removed(row.node), folder.object),
    };
    txn.add_task(Task::new(object, row.node, true, from, DiskLocation::In(parent, now.name().into())));
    txn.set_folder(row.node, Folder { lies: FolderPlacement::Placed, object, ..folder });
    txn.add_job("rebuild", row.node, Moment(txn.heads.moment), txn.now);
    Ok(())
}

/// Runs jobs as they fall due.
#[derive(Clone)]
pub(crate) struct Jobs {
    pub disk: Arc<Disk>,
    pub view: View,
    pub staging: Arc<Staging>,
    pub placing: Placing,
    pub filing: Filing,
    pub packing: crate::files::packs::Packing,
    pub time: Arc<Timekeeper>,
    pub writer: mpsc::WeakSender<Queued>,
    pub wake: Arc<Notify>,
    pub stopped: Arc<AtomicBool>,
}

impl Jobs {
    pub async fn run(self) {
        while !self.stopped.load(Ordering::SeqCst) {
            match self.next().await {
                Ok(true) => {}
                Ok(false) => {
                    tokio::select! {
                        () = self.wake.notified() => {}
                        () = tokio::time::sleep(std::time::Duration::from_secs(30)) => {}
                    }
                }
                Err(StoreError::Stopping) => return,
                Err(error) => {
                    tracing::warn!(%error, "a background job waits and is tried again");
                    tokio::time::sleep(std::time::Duration::from_secs(2)).await;
                }
            }
        }
    }

    /// Runs one step of one job that is due. `false`: none is.
    pub async fn next(&self) -> Result<bool> {
        let due: Option<(i64, String, i64, i64)> =
            sqlx::query_as("SELECT id, kind, node, moment FROM jobs WHERE due <= ? ORDER BY due, id LIMIT 1")
                .bind(self.time.stamp())
                .fetch_optional(&self.view.pool)
                .await?;
        let Some((job, kind, node, moment)) = due else { return Ok(false) };
        let done = self.one(job, &kind, NodeId(node), moment).await;
        if let Err(error) = &done
            && !matches!(error, StoreError::Stopping)
        {
            // Others go on meanwhile.
            let _ = self.step(Step::Postpone(job)).await;
        }
        done.map(|()| true)
    }

    async fn one(&self, job: i64, kind: &str, node: NodeId, moment: i64) -> Result<()> {
        match kind {
            "take apart" => self.take_apart(job, node).await?,
            "rebuild" => self.rebuild(job, node).await?,
            "gone" => self.step(Step::Gone { job, node }).await?,
            "restamp" => {
                let shelf = match self.view.chain(node).await? {
                    Some(chain) => chain.last().map(|top| top.shelf),
                    None => None,
                };
                match shelf {
                    Some(shelf) => {
                        self.step(Step::Restamp { job, node, moment: Moment(moment), shelf }).await?
                    }
                    None => self.step(Step::Done(job)).await?,
                }
            }
            _ => self.step(Step::Done(job)).await?,
        }
        Ok(())
    }

    async fn ask<O: Operation>(&self, operation: O) -> Result<O::Told> {
        let writer = self.writer.upgrade().ok_or(StoreError::Stopping)?;
        let (queued, answered) = asked(operation);
        writer.send(queued).await.map_err(|_| StoreError::Stopping)?;
        drop(writer);
        answered.await.map_err(|_| StoreError::Stopping)?
    }

    async fn step(&self, step: Step) -> Result<()> {
        self.ask(step).await
    }

    /// Waits until all is carried out that is owed; refused while something is stuck.
    async fn in_step(&self) -> Result<()> {
        self.placing.settle().await?;
        match self.placing.waiting().is_empty() {
            true => Ok(()),
            false => Err(StoreError::Busy),
        }
    }

    /// Takes a removed folder apart: what the catalogue knows of it leaves it by marks ([`Step::TakeOut`]), and then
    /// what is left there by others, where nobody else looks any more.
    async fn take_apart(&self, job: i64, node: NodeId) -> Result<()> {
        while self.view.folder(node).await?.is_some_and(|f| f.lies == FolderPlacement::Removed)
            && self.view.chain(node).await?.is_none()
        {
            if self.stopped.load(Ordering::SeqCst) {
                return Err(StoreError::Stopping);
            }
            self.step(Step::TakeOut { job, node }).await?;
            self.placing.wait_for_room().await;
        }
        self.in_step().await?;
        let io = |e: &std::io::Error| StoreError::io("taking a removed folder apart", e);
        // There only once the folder is nobody's any more.
        let name = DiskLocation::Apart(job).name();
        let dir = match self.disk.open_dir(&self.disk.removed, &name) {
            Ok(dir) => dir,
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => return self.step(Step::Done(job)).await,
            Err(e) => return Err(io(&e)),
        };
        for raw in self.disk.names(&dir).map_err(|e| io(&e))? {
            if self.stopped.load(Ordering::SeqCst) {
                return Err(StoreError::Stopping);
            }
            self.take_left(node, &dir, &raw).await?;
        }
        match self.disk.unlink(&self.disk.removed, &name, true) {
            Ok(()) => {}
            // Something was put in meanwhile: look again.
            Err(e) if e.raw_os_error() == Some(39) => return Ok(()),
            Err(e) => return Err(io(&e)),
        }
        self.step(Step::Done(job)).await
    }

    /// Something that others left in a removed folder is entered as removed with it.
    async fn take_left(&self, parent: NodeId, dir: &std::os::fd::OwnedFd, raw: &[u8]) -> Result<()> {
        let io = |e: &std::io::Error| StoreError::io("taking a removed folder apart", e);
        let Some((text, name)) =
            std::str::from_utf8(raw).ok().and_then(|text| Some((text, Name::normalised(text).ok()?)))
        else {
            return self.set_aside(parent, dir, raw).await;
        };
        let Some(seen) = look(dir, text).map_err(|e| io(&e))? else { return Ok(()) };
        let key: Arc<str> = sort_key(&name).into();
        match seen.kind {
            Plain::Folder => {
                let object = seen.id;
                let child =
                    self.ask(EnterRemoved { parent, key, known: None, foreign: None, object }).await?;
                self.disk.rename(dir, text, &self.disk.removed, &folder_name(child)).map_err(|e| io(&e))
            }
            Plain::File => {
                let known = self.view.child(parent, &key).await?.filter(|r| !r.is_folder()).map(|r| r.node);
                let (disk, staging, name) = (self.disk.clone(), self.staging.clone(), text.to_string());
                let its_dir = dir.try_clone().map_err(|e| io(&e))?;
                // Entered before it is sealed: the seal takes its own time away.
                let seen = tokio::task::spawn_blocking(move || see(&disk, &its_dir, &name)).await;
                let seen = seen.map_err(|_| StoreError::Stopping)?.map_err(|e| io(&e))?;
                let (foreign, object) = (Some(seen.foreign(&staging)), ObjectId::default());
                self.ask(EnterRemoved { parent, key: key.clone(), known, foreign, object }).await?;
                let (disk, name) = (self.disk.clone(), text.to_string());
                let its_dir = dir.try_clone().map_err(|e| io(&e))?;
                let filed = tokio::task::spawn_blocking(move || {
                    let still = hold_still(&disk, &staging, &its_dir, &name)?;
                    let (hash, size) = (still.hash, still.size);
                    // Nothing is let go meanwhile that these bytes may be dropped in favour of.
                    let _filing = disk.filing.lock();
                    if hash != seen.hash {
                        // Written to just now: it is looked at once more as what it is by now.
                        return Ok(None);
                    }
                    still.file(&disk, &staging, &its_dir, &name)?;
                    Ok::<_, std::io::Error>(Some((hash, size)))
                });
                let filed = filed.await.map_err(|_| StoreError::Stopping)?.map_err(|e| io(&e))?;
                if let Some((hash, size)) =
                    filed.filter(|(_, size)| *size >= yellow_attic_core::chunking::WORTH)
                {
                    self.packing.add(hash, size);
                }
                Ok(())
            }
            Plain::Other => self.set_aside(parent, dir, raw).await,
        }
    }

    /// Neither a file nor a folder, or a name that cannot be: kept, and reported.
    async fn set_aside(&self, parent: NodeId, dir: &std::os::fd::OwnedFd, raw: &[u8]) -> Result<()> {
        let io = |e: &std::io::Error| StoreError::io("setting aside", e);
        let shown = String::from_utf8_lossy(raw).into_owned();
        let aside = format!("aside-{:x}", self.staging.next_id().0);
        rustix::fs::renameat(dir, raw, &self.disk.removed, aside.as_str()).map_err(|e| io(&e.into()))?;
        let detail =
            format!("\"{shown}\" in a removed folder is no plain file; it was moved to past/removed/{aside}");
        self.ask(Finding { kind: "left alone", node: Some(parent), detail }).await
    }

    /// Puts a folder that came back together again, from what its taking apart had done.
    async fn rebuild(&self, job: i64, node: NodeId) -> Result<()> {
        if self.view.chain(node).await?.is_none() {
            return self.step(Step::Done(job)).await;
        }
        self.in_step().await?;
        // What left its place a moment ago is still being filed.
        for _ in 0..2_000 {
            if self.filing.is_idle() {
                break;
            }
            tokio::time::sleep(std::time::Duration::from_millis(5)).await;
        }
        let mut after = String::new();
        loop {
            let text: String = sqlx::query_scalar(rows::sql(format!(
                "SELECT json_group_array(json_array({})) FROM
                   (SELECT * FROM entries_now WHERE parent = ? AND sort_key > ? ORDER BY sort_key LIMIT ?) e
                   LEFT JOIN contents c ON c.id = e.content",
                rows::ROW_COLUMNS
            )))
            .bind(node.0)
            .bind(&after)
            .bind(STEP as i64)
            .fetch_one(&self.view.pool)
            .await?;
            let page = rows::parse_rows(&text)?;
            let Some(last) = page.last() else { break };
            after = last.key.to_string();
            for row in page {
                self.put_back(row).await?;
            }
        }
        self.step(Step::Done(job)).await
    }

    async fn put_back(&self, row: Row) -> Result<()> {
        if row.is_folder() {
            let Some(folder) = self.view.folder(row.node).await? else { return Ok(()) };
            return match folder.lies {
                FolderPlacement::Placed => Ok(()),
                FolderPlacement::Removed => {
                    self.step(Step::Renest { row, staged: None, object: folder.object }).await
                }
                FolderPlacement::Apart => {
                    let staged = Some(self.staging.next_id());
                    self.step(Step::Renest { row, staged, object: ObjectId::default() }).await
                }
            };
        }
        if row.content.is_some_and(|c| c.life == ContentState::Gone) {
            return self.step(Step::Vanish(row)).await;
        }
        let Some(content) = row.content.filter(|c| c.life == ContentState::Past) else { return Ok(()) };
        let (disk, staging) = (self.disk.clone(), self.staging.clone());
        let (packing, view, handle) =
            (self.packing.clone(), self.view.clone(), tokio::runtime::Handle::current());
        let (hash, size, name) = (content.hash, content.size, row.name().to_string());
        let copied = tokio::task::spawn_blocking(move || {
            let io = |e: &std::io::Error| StoreError::io(format!("reading past {}", hex(&hash)), e);
            let mut file = match open_past(&disk, &hash, size).map_err(|e| io(&e))? {
                Past::Sound(file) => file,
                Past::Damaged => return Err(StoreError::BytesMissing(name)),
                Past::Missing => {
                    packing.open(&disk, &view, &handle, &hash)?.ok_or(StoreError::BytesMissing(name))?
                }
            };
            staging.copy_of(&mut file)
        })
        .await
        .map_err(|_| StoreError::Stopping)?;
        let staged = match copied {
            Ok(staged) => Some(Box::new(staged)),
            Err(StoreError::BytesMissing(_)) if !self.filing.is_idle() => return Err(StoreError::Busy),
            // Told, and nothing else waits for it.
            Err(StoreError::BytesMissing(_)) => {
                let node = row.node;
                return self.ask(Lost { content: content.id, node }).await;
            }
            Err(e) => return Err(e),
        };
        self.step(Step::Relive { row, staged, object: ObjectId::default() }).await?;
        self.filing.add(vec![File::CondemnMany(vec![content.hash])]);
        Ok(())
    }
}

impl Operation for Step {
    type Told = ();

    fn bring(&mut self, disk: &Arc<Disk>, _staging: &Arc<Staging>) -> Result<Brought> {
        Step::bring(self, disk).map(|()| Brought::Nothing)
    }

    fn writes_by_itself(&self) -> bool {
        true
    }

    async fn decide(&mut self, txn: &mut WriteTxn, _: &mut Around<'_>) -> Result<()> {
        std::mem::replace(self, Step::Nothing).apply(txn).await
    }
}
