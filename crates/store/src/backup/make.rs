//! Making a backup while the store is in use.

use crate::backup::target::{Target, failed, place, sum_of, write_whole};
use crate::backup::walk::{Bytes, children, trees};
use crate::backup::{About, Backups, Progress, catalogue_copy};
use crate::catalogue::rows::hash_of;
use crate::files::packs::{check_packs, pack_name};
use crate::files::past::{Past, open_past};
use crate::fs::disk::{content_name, hex};
use crate::fs::error::{Result, StoreError};
use crate::fs::hold::Held;
use crate::fs::model::name_in;
use async_recursion::async_recursion as boxed;
use sqlx::{Connection, SqliteConnection};
use std::collections::HashMap;
use std::fs::{self, File};
use std::io::{BufWriter, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use yellow_attic_core::{ContentId, NodeId};

/// So many names of what could not be copied are told.
const NAMES: usize = 100;
/// Rows that are read in one go.
const LOT: i64 = 2_000;

/// Nothing of the past goes while this is held; what was to go meanwhile goes afterwards.
struct PastHeld {
    engine: crate::engine::Engine,
    held: Option<Held>,
}

impl Drop for PastHeld {
    fn drop(&mut self) {
        drop(self.held.take());
        let shared = &self.engine.shared;
        if !shared.disk.past_stays.is_held() {
            let _filing = shared.disk.filing.lock();
            if let Err(error) = shared.filing.add_condemned(&shared.disk) {
                tracing::warn!(%error, "what was let go during a backup goes at the next start");
            }
        }
    }
}

impl Backups {
    /// Copies the store as it is at one moment. Everything that was copied before is not copied again. What is let go
    /// meanwhile goes afterwards.
    #[boxed]
    pub async fn make(&self, to: &Path, progress: Arc<Progress>) -> Result<(String, About)> {
        if self.0.has_older_catalogue() {
            return Err(StoreError::BadInput(
                "the catalogue is older than the data beside it: put the newest one back, or take this one for the one that counts, before a backup is made".into(),
            ));
        }
        let (engine, to) = (self.0.clone(), to.to_path_buf());
        let runtime = tokio::runtime::Handle::current();
        let made = tokio::task::spawn_blocking(move || {
            runtime.block_on(async {
                let store = store_of(&engine).await?;
                let mut target = Target::open(&to, &store, engine.shared.disk.path())?;
                target.begin()?;
                let run = Run::begin(engine, target, &progress)?;
                run.carry_out(store).await
            })
        });
        made.await.map_err(|_| StoreError::Stopping)?
    }
}

async fn store_of(engine: &crate::engine::Engine) -> Result<String> {
    let of = sqlx::query_scalar("SELECT identity FROM store WHERE id = 1");
    Ok(of.fetch_one(&engine.shared.view.pool).await?)
}

struct Run<'p> {
    engine: crate::engine::Engine,
    target: Target,
    progress: &'p Progress,
    /// The run's own folder, until it has its name.
    folder: PathBuf,
    about: About,
    _past: PastHeld,
}

impl<'p> Run<'p> {
    fn begin(engine: crate::engine::Engine, target: Target, progress: &'p Progress) -> Result<Run<'p>> {
        let folder = target.path().join("incoming/run");
        fs::create_dir(&folder).map_err(|e| failed(&folder, &e))?;
        let past = PastHeld { held: Some(engine.shared.disk.past_stays.hold()), engine: engine.clone() };
        // Who was at it already has ended when these are free.
        drop(engine.shared.disk.filing.lock());
        drop(engine.shared.packing.0.tidying.lock());
        Ok(Run { engine, target, progress, folder, about: About::default(), _past: past })
    }

    async fn carry_out(mut self, store: String) -> Result<(String, About)> {
        self.progress.begin("copying the catalogue", 0);
        let copy = self.folder.join("catalogue.db");
        let mut conn = catalogue_copy::copy(&self.engine, &copy).await?;
        let (moment, at): (i64, i64) =
            sqlx::query_as("SELECT moment, at FROM heads").fetch_one(&mut conn).await?;
        self.about = About { format: 1, store, moment, at, ..About::default() };
        self.copy_live(&mut conn).await?;
        self.copy_past(&mut conn).await?;
        self.copy_packs(&mut conn).await?;
        self.list_past(&mut conn).await?;
        conn.close().await?;
        self.end(&copy)
    }

    fn missing(&mut self, what: impl FnOnce() -> String) {
        self.about.missing_count += 1;
        if self.about.missing.len() < NAMES {
            self.about.missing.push(what());
        }
    }

    fn text(&self, name: &str) -> Result<BufWriter<File>> {
        let path = self.folder.join(name);
        Ok(BufWriter::new(File::create(&path).map_err(|e| failed(&path, &e))?))
    }

    fn write(&self, text: &mut BufWriter<File>, line: &str) -> Result<()> {
        text.write_all(line.as_bytes()).map_err(|e| failed(&self.folder, &e))
    }

    /// Live files, and those in removed folders that are whole still.
    async fn copy_live(&mut self, conn: &mut SqliteConnection) -> Result<()> {
        let of: i64 =
            sqlx::query_scalar("SELECT count(*) FROM contents WHERE state = 0").fetch_one(&mut *conn).await?;
        self.progress.begin("copying files", of.max(0) as u64);
        let (mut files, mut past) = (self.text("files.txt")?, self.text("past.txt")?);
        self.write(&mut files, "# content\tbytes\tmodified\tpath\n")?;
        self.write(&mut past, "# content\tbytes\tmodified\tstate from\tuntil\tpath\n")?;
        for tree in trees(conn).await? {
            let mut next = vec![(tree.root, tree.path)];
            while let Some((folder, path)) = next.pop() {
                self.progress.goes_on()?;
                let dir = self.engine.shared.dirs.find(folder).await.ok();
                let mut inner = Vec::new();
                for child in children(conn, folder).await? {
                    let its_path = format!("{path}/{}", child.name);
                    if child.is_folder {
                        inner.push((child.node, its_path));
                        continue;
                    }
                    let Some(bytes) = child.file else { continue };
                    let whole = self.has_bytes(&bytes, dir.as_deref().map(|dir| (dir, &*child.name))).await?;
                    if !whole {
                        self.missing(|| its_path.clone());
                    }
                    let place = if whole { place(&bytes.hash) } else { "-".into() };
                    let line = format!("{place}\t{}\t{}", bytes.size, time(child.mtime));
                    match tree.removed {
                        false => {
                            self.about.files += 1;
                            self.about.bytes += bytes.size.max(0) as u64;
                            self.write(&mut files, &format!("{line}\t{its_path}\n"))?;
                        }
                        true => {
                            self.about.past += 1;
                            self.write(&mut past, &format!("{line}\t\t\t{its_path}\n"))?;
                        }
                    }
                }
                next.extend(inner.into_iter().rev());
            }
        }
        self.target.settle()?;
        let ended = |mut text: BufWriter<File>| text.flush();
        ended(files).and_then(|()| ended(past)).map_err(|e| failed(&self.folder, &e))
    }

    /// Whether the backup has a content now. It is read where it should lie, else wherever it went meanwhile.
    async fn has_bytes(&mut self, bytes: &Bytes, at: Option<(&std::os::fd::OwnedFd, &str)>) -> Result<bool> {
        self.progress.goes_on()?;
        if self.target.has(&bytes.hash) {
            self.progress.one(0);
            return Ok(true);
        }
        let disk = self.engine.shared.disk.clone();
        if let Some((dir, name)) = at
            && let Ok((file, look)) = disk.open_file(dir, name)
            && look.size == bytes.size
            && self.take(&bytes.hash, file)?
        {
            return Ok(true);
        }
        match self.find(bytes).await {
            Ok(Some(file)) => self.take(&bytes.hash, file),
            Ok(None) => Ok(false),
            Err(StoreError::Stopping) => Err(StoreError::Stopping),
            Err(error) => {
                tracing::warn!(%error, hash = hex(&bytes.hash), "a content could not be copied");
                Ok(false)
            }
        }
    }

    fn take(&mut self, hash: &[u8; 32], mut file: File) -> Result<bool> {
        match self.target.take(hash, &mut file, self.progress)? {
            Some(size) => {
                self.about.new += 1;
                self.about.new_bytes += size;
                self.progress.one(0);
                Ok(true)
            }
            None => Ok(false),
        }
    }

    /// A content, wherever it lies by now.
    async fn find(&self, bytes: &Bytes) -> Result<Option<File>> {
        let shared = &self.engine.shared;
        // Twice: from one place to another it may pass between two looks.
        for _ in 0..2 {
            let holder: Option<i64> =
                sqlx::query_scalar("SELECT node FROM entries_now WHERE content = ? LIMIT 1")
                    .bind(bytes.content.0)
                    .fetch_optional(&shared.view.pool)
                    .await?;
            if let Some(node) = holder
                && let Some(row) = shared.view.row(NodeId(node)).await?
                && let Ok((file, now)) = self.engine.files().open_bytes(&row).await
                && now.content.is_some_and(|content| content.hash == bytes.hash)
            {
                return Ok(Some(file));
            }
            for dir in [&shared.disk.incoming, &shared.disk.staging] {
                if let Ok((file, _)) = shared.disk.open_file(&**dir, &content_name(bytes.content)) {
                    return Ok(Some(file));
                }
            }
            let opened = open_past(&shared.disk, &bytes.hash, bytes.size);
            if let Past::Sound(file) = opened.map_err(|e| StoreError::io("reading the past", &e))? {
                return Ok(Some(file));
            }
            if let Some(file) = self.engine.files().open_packed(bytes.hash).await? {
                return Ok(Some(file));
            }
            shared.placing.settle().await?;
        }
        Ok(None)
    }

    /// Past contents that are files of their own.
    async fn copy_past(&mut self, conn: &mut SqliteConnection) -> Result<()> {
        const OWN: &str = "FROM contents c WHERE c.state = 1 AND NOT EXISTS
             (SELECT 1 FROM packed p WHERE p.org = 1 AND p.hash = c.hash)";
        let of: i64 = sqlx::query_scalar(sqlx::AssertSqlSafe(format!("SELECT count(DISTINCT c.hash) {OWN}")))
            .fetch_one(&mut *conn)
            .await?;
        self.progress.begin("copying past states", of.max(0) as u64);
        let mut after: Vec<u8> = Vec::new();
        loop {
            let lot: Vec<(Vec<u8>, i64, i64)> = sqlx::query_as(sqlx::AssertSqlSafe(format!(
                "SELECT c.hash, c.size, max(c.id) {OWN} AND c.hash > ? GROUP BY c.hash ORDER BY c.hash LIMIT {LOT}"
            )))
            .bind(&after)
            .fetch_all(&mut *conn)
            .await?;
            let Some((last, ..)) = lot.last() else { break };
            after = last.clone();
            for (hash, size, id) in lot {
                let hash = hash_of(&hash, &format!("content {id}"))?;
                let bytes = Bytes { content: ContentId(id), hash, size };
                if !self.has_bytes(&bytes, None).await? {
                    self.missing(|| format!("a past state, {size} bytes, {}", hex(&hash)));
                }
            }
        }
        self.target.settle()
    }

    /// Packs, and what was added to those that are there.
    async fn copy_packs(&mut self, conn: &mut SqliteConnection) -> Result<()> {
        let packs: Vec<(i64, i64)> =
            sqlx::query_as("SELECT id, bytes FROM packs WHERE bytes > 0 ORDER BY id")
                .fetch_all(&mut *conn)
                .await?;
        self.progress.begin("copying packs", packs.len() as u64);
        // What the runs before say is there; whatever is longer was cut off.
        let mut there: HashMap<String, u64> = HashMap::new();
        let mut damaged: Vec<String> = Vec::new();
        for (_, about) in self.target.runs()? {
            let of_packs = |what: &&String| {
                packs.iter().any(|(id, _)| what.ends_with(&format!(" of {}", pack_name(*id))))
            };
            let known = about.missing.iter().filter(|what| what.starts_with("chunk ")).filter(of_packs);
            damaged.extend(known.filter(|what| !damaged.contains(what)).cloned().collect::<Vec<_>>());
            for (name, bytes) in about.packs {
                let known = there.entry(name).or_default();
                *known = bytes.max(*known);
            }
        }
        for (id, bytes) in packs {
            self.progress.goes_on()?;
            let (name, bytes) = (pack_name(id), bytes.max(0) as u64);
            let have = there.get(&name).copied().unwrap_or(0);
            self.about.packs.insert(name.clone(), bytes);
            if have < bytes {
                let copied = self.copy_pack(&name, have, bytes);
                type ChunkRow = (Vec<u8>, i64, i64, i64, i64);
                let chunks: Vec<ChunkRow> = sqlx::query_as(
                    "SELECT hash, pack, at, stored, size FROM chunks WHERE pack = ? AND at >= ? ORDER BY at",
                )
                .bind(id)
                .bind(have as i64)
                .fetch_all(&mut *conn)
                .await?;
                copied?;
                // What was copied is read back: a pack that is damaged is told now, and not on the day it is needed.
                let folder = self.target.path().join("packs");
                let open = |name: &str| File::open(folder.join(name));
                damaged.extend(check_packs(&open, &chunks, &mut |_| ()).damaged);
                self.about.new += 1;
                self.about.new_bytes += bytes - have;
            }
            self.progress.one(bytes - have.min(bytes));
        }
        for what in damaged {
            self.missing(|| what);
        }
        Ok(())
    }

    fn copy_pack(&self, name: &str, have: u64, bytes: u64) -> Result<()> {
        let disk = &self.engine.shared.disk;
        let (mut from, _) = disk
            .open_file(&*disk.packs, name)
            .map_err(|e| StoreError::io(format!("reading the pack {name}"), &e))?;
        let to = self.target.path().join("packs").join(name);
        let copy = || {
            let mut file = File::options().create(true).truncate(false).read(true).write(true).open(&to)?;
            file.set_len(have)?;
            file.seek(SeekFrom::Start(have))?;
            from.seek(SeekFrom::Start(have))?;
            let n = std::io::copy(&mut std::io::Read::take(from, bytes - have), &mut file)?;
            match n == bytes - have {
                true => file.sync_data(),
                false => Err(std::io::Error::new(
                    std::io::ErrorKind::UnexpectedEof,
                    "it is shorter than it should be",
                )),
            }
        };
        copy().map_err(|e| failed(&to, &e))
    }

    /// Past states, each with where its bytes are.
    async fn list_past(&mut self, conn: &mut SqliteConnection) -> Result<()> {
        self.progress.begin("listing past states", 0);
        let path = self.folder.join("past.txt");
        let open = File::options().append(true).open(&path).map_err(|e| failed(&path, &e))?;
        let mut text = BufWriter::new(open);
        let mut paths = HashMap::new();
        for tree in trees(conn).await? {
            paths.insert(tree.root, tree.path);
        }
        let mut after = 0i64;
        loop {
            type Raw = (i64, Option<i64>, String, i64, i64, i64, Vec<u8>, i64, i64);
            let lot: Vec<Raw> = sqlx::query_as(
                "SELECT e.id, e.parent, e.sort_key, e.mtime, e.at, e.ended_at, c.hash, c.size,
                   EXISTS (SELECT 1 FROM packed p WHERE p.org = 1 AND p.hash = c.hash)
                 FROM entries_past e JOIN contents c ON c.id = e.content
                 WHERE e.id > ? AND c.state = 1 ORDER BY e.id LIMIT ?",
            )
            .bind(after)
            .bind(LOT)
            .fetch_all(&mut *conn)
            .await?;
            let Some(last) = lot.last() else { break };
            after = last.0;
            self.progress.goes_on()?;
            for (id, parent, key, mtime, at, until, hash, size, packed) in lot {
                let above = match parent {
                    Some(parent) => path_of(conn, NodeId(parent), &mut paths).await?,
                    None => String::new(),
                };
                let place = match packed {
                    0 => place(&hash_of(&hash, &format!("state {id}"))?),
                    _ => "packs".into(),
                };
                self.about.past += 1;
                let line = format!(
                    "{place}\t{size}\t{}\t{}\t{}\t{above}/{}\n",
                    time(mtime),
                    time(at),
                    time(until),
                    name_in(&key)
                );
                self.write(&mut text, &line)?;
            }
        }
        text.flush().map_err(|e| failed(&path, &e))
    }

    /// All is there: the run gets its name.
    fn end(mut self, copy: &Path) -> Result<(String, About)> {
        self.progress.begin("closing", 0);
        let packed = self.folder.join("catalogue.db.zst");
        let compress = || {
            let to = File::create(&packed)?;
            zstd::stream::copy_encode(File::open(copy)?, &to, 1)?;
            fs::remove_file(copy)
        };
        compress().map_err(|e| failed(&packed, &e))?;
        let heads = self.engine.shared.disk.path().join("record.heads");
        if heads.exists() {
            let to = self.folder.join("record.heads");
            fs::copy(&heads, &to).map_err(|e| failed(&to, &e))?;
        }
        for name in crate::backup::target::names(&self.folder)? {
            let sum = sum_of(&self.folder.join(&name))?;
            self.about.sums.insert(name, sum);
        }
        self.target.sync()?;
        let now = self.engine.wall_ms();
        self.about.ended_at = now;
        let about = serde_json::to_string_pretty(&self.about).unwrap_or_default() + "\n";
        write_whole(&self.folder.join("about.json"), about.as_bytes())?;
        let runs = self.target.path().join("runs");
        let mut name = time(now).replace(':', "-");
        while runs.join(&name).exists() {
            name.push('+');
        }
        let named = || {
            fs::rename(&self.folder, runs.join(&name))?;
            File::open(&runs)?.sync_all()
        };
        named().map_err(|e| failed(&runs, &e))?;
        self.progress.done.store(self.about.files, Ordering::Relaxed);
        Ok((name, self.about))
    }
}

/// A time as it is written: RFC 3339, in UTC, to the second.
pub(crate) fn time(ms: i64) -> String {
    jiff::Timestamp::from_second(ms.div_euclid(1000)).map_or_else(|_| ms.to_string(), |at| at.to_string())
}

/// The last path of a folder that is known.
async fn path_of(
    conn: &mut SqliteConnection,
    folder: NodeId,
    known: &mut HashMap<NodeId, String>,
) -> Result<String> {
    let (mut way, mut next) = (Vec::new(), folder);
    let mut path = loop {
        if let Some(path) = known.get(&next) {
            break path.clone();
        }
        let row: Option<(Option<i64>, String)> = sqlx::query_as(
            "SELECT parent, sort_key FROM entries_now WHERE node = ?1 UNION ALL
             SELECT * FROM (SELECT parent, sort_key FROM entries_past WHERE node = ?1 ORDER BY until DESC LIMIT 1) LIMIT 1",
        )
        .bind(next.0)
        .fetch_optional(&mut *conn)
        .await?;
        let Some((parent, key)) = row else { break "unknown".into() };
        way.push((next, name_in(&key).to_string()));
        match parent.filter(|_| way.len() < 1000) {
            Some(parent) => next = NodeId(parent),
            None => break "unknown".into(),
        }
    };
    for (node, name) in way.into_iter().rev() {
        path = format!("{path}/{name}");
        known.insert(node, path.clone());
    }
    Ok(path)
}
