//! A store made again from a backup, in an empty folder.
//!
//! Nothing that gave access is given back: sessions, invitations, downloads under way and computers end, links and intakes sleep until their
//! makers confirm them. All numbers go on far above those of before, so that nobody takes one thing for another.

use crate::backup::target::{failed, place, run_of, sum_of};
use crate::backup::walk::{Bytes, Child, children, trees};
use crate::backup::{About, Progress, catalogue_copy};
use crate::catalogue::rows::hash_of;
use crate::engine::identity;
use crate::files::past::SEAL_MS;
use crate::fs::disk::{
    Disk, Look, content_name, folder_name, hex, look, look_at_open, mark_executable, set_mtime,
};
use crate::fs::error::{Result, StoreError};
use crate::fs::fault_points::AllSteps;
use async_recursion::async_recursion as boxed;
use sqlx::{Connection, SqliteConnection};
use std::fs::{self, File};
use std::io;
use std::os::fd::OwnedFd;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use yellow_attic_core::{ContentId, NodeId};

/// Rows that are changed in one go.
const LOT: usize = 1_000;

/// What was restored.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Restored {
    /// The run.
    pub run: String,
    /// What it says of itself.
    pub about: About,
    /// Files that are in their places.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Past contents that are files of their own, and packs.
    pub past: u64,
    /// Files whose bytes the backup does not have, or not as they were; at most 100 of them.
    pub missing: Vec<String>,
    /// How many there are.
    pub missing_count: u64,
    /// Whether the key of the secrets was given: without it second factors are set up anew.
    pub has_key: bool,
}

/// Restores a run into a folder that is empty or not there. `key`: the file with the key that seals second factors.
#[boxed]
pub async fn restore(
    from: &Path,
    run: Option<&str>,
    into: &Path,
    key: Option<&Path>,
    progress: Arc<Progress>,
) -> Result<Restored> {
    let from = from.canonicalize().map_err(|e| failed(from, &e))?;
    let (name, about) = run_of(&from, run)?;
    let (into, key) = (into.to_path_buf(), key.map(Path::to_path_buf));
    let runtime = tokio::runtime::Handle::current();
    let restored = tokio::task::spawn_blocking(move || {
        runtime.block_on(async {
            let mut restoring = Restoring::begin(from, &name, about, &into, &progress)?;
            restoring.found.run = name;
            restoring.carry_out(key).await
        })
    });
    restored.await.map_err(|_| StoreError::Stopping)?
}

struct Restoring<'p> {
    from: PathBuf,
    run: PathBuf,
    disk: Disk,
    progress: &'p Progress,
    found: Restored,
    /// Objects of contents and of folders that are still to be noted.
    contents: Vec<(i64, i64, i64, i64)>,
    folders: Vec<(i64, i64, i64)>,
}

impl<'p> Restoring<'p> {
    fn begin(
        from: PathBuf,
        name: &str,
        about: About,
        into: &Path,
        progress: &'p Progress,
    ) -> Result<Restoring<'p>> {
        let made = |e: &io::Error| StoreError::io(format!("making {}", into.display()), e);
        fs::create_dir_all(into).map_err(|e| made(&e))?;
        if fs::read_dir(into).map_err(|e| made(&e))?.next().is_some() {
            return Err(StoreError::BadInput(format!(
                "{} is not empty. A backup is restored into an empty folder, or a new one: what is there stays as it is",
                into.display()
            )));
        }
        let run = from.join("runs").join(name);
        progress.begin("looking at the run", 0);
        for (name, sum) in &about.sums {
            if sum_of(&run.join(name))? != *sum {
                return Err(StoreError::BadInput(format!(
                    "{} is not as it was written: name another run",
                    run.join(name).display()
                )));
            }
        }
        let room = rustix::fs::statvfs(into).map_err(|e| made(&e.into()))?;
        let (free, needed) = (room.f_bavail * room.f_frsize, about.bytes + about.packs.values().sum::<u64>());
        if free < needed {
            return Err(StoreError::BadInput(format!(
                "{} has {} of room, and the files alone are {}",
                into.display(),
                yellow_attic_core::size::human(free),
                yellow_attic_core::size::human(needed)
            )));
        }
        let disk = Disk::open(into, Arc::new(AllSteps))?;
        let found = Restored { about, ..Restored::default() };
        Ok(Restoring { from, run, disk, progress, found, contents: Vec::new(), folders: Vec::new() })
    }

    async fn carry_out(mut self, key: Option<PathBuf>) -> Result<Restored> {
        let catalogue = identity::restoring(self.disk.path());
        let unpack = || {
            let from = File::open(self.run.join("catalogue.db.zst"))?;
            zstd::stream::copy_decode(from, File::create(&catalogue)?)
        };
        unpack().map_err(|e| StoreError::io("unpacking the catalogue", &e))?;
        // Of an older version it is brought up to date first.
        crate::catalogue::db::open_writer(&catalogue).await?.close().await?;
        let mut conn = catalogue_copy::open(&catalogue).await?;
        sqlx::query("BEGIN").execute(&mut conn).await?;
        end_access(&mut conn).await?;
        self.place_files(&mut conn).await?;
        self.place_past(&mut conn).await?;
        self.place_packs(&mut conn).await?;
        self.note(&mut conn, true).await?;
        let detail = format!(
            "this store was restored from a backup: as it was {}. Computers are to be connected again, links and intakes sleep until they are confirmed{}",
            crate::backup::make::time(self.found.about.at),
            if self.found.missing_count > 0 {
                format!("; {} files could not be brought back", self.found.missing_count)
            } else {
                String::new()
            }
        );
        sqlx::query("INSERT INTO findings (org, at, kind, detail) SELECT 1, at, 'restored', ? FROM heads")
            .bind(detail)
            .execute(&mut conn)
            .await?;
        sqlx::query("COMMIT").execute(&mut conn).await?;
        conn.close().await?;
        self.end(&catalogue, key).await
    }

    fn missing(&mut self, what: String) {
        self.found.missing_count += 1;
        if self.found.missing.len() < 100 {
            self.found.missing.push(what);
        }
    }

    /// Copies a content to a new file in staging. None if the backup does not have it as it should be.
    fn stage(&self, bytes: &Bytes, name: &str, mtime: i64, executable: bool) -> Result<bool> {
        let from = self.from.join(place(&bytes.hash));
        let mut source = match File::open(&from) {
            Ok(source) => source,
            Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(false),
            Err(e) => return Err(failed(&from, &e)),
        };
        let wrote = |e: &io::Error| StoreError::io("writing what is restored", e);
        let mut file = self.disk.make_staged(name).map_err(|e| wrote(&e))?;
        let mut hasher = blake3::Hasher::new();
        let mut part = vec![0; 1 << 17];
        loop {
            self.progress.goes_on()?;
            let n = io::Read::read(&mut source, &mut part).map_err(|e| failed(&from, &e))?;
            if n == 0 {
                break;
            }
            hasher.update(&part[..n]);
            io::Write::write_all(&mut file, &part[..n]).map_err(|e| wrote(&e))?;
        }
        if hasher.finalize().as_bytes() != &bytes.hash {
            self.disk.drop_staged(name, false).map_err(|e| wrote(&e))?;
            return Ok(false);
        }
        mark_executable(&file, executable).map_err(|e| wrote(&e))?;
        set_mtime(&file, mtime).map_err(|e| wrote(&e))?;
        self.progress.one(bytes.size.max(0) as u64);
        Ok(true)
    }

    async fn place_files(&mut self, conn: &mut SqliteConnection) -> Result<()> {
        self.progress.begin("placing files", self.found.about.files);
        let put = |e: &io::Error| StoreError::io("placing what is restored", e);
        for tree in trees(conn).await? {
            let parts: Vec<&str> = tree.parts.iter().map(String::as_str).collect();
            let top = match tree.removed {
                false => self.disk.make_shelf_dir(&parts),
                true => self.disk.make_dir(&*self.disk.removed, parts[0]),
            };
            let top = top.map_err(|e| put(&e))?;
            self.note_folder(tree.root, &top)?;
            let mut next = vec![(tree.root, top, tree.path)];
            while let Some((folder, dir, path)) = next.pop() {
                self.progress.goes_on()?;
                let mut inner = Vec::new();
                for child in children(conn, folder).await? {
                    let its_path = format!("{path}/{}", child.name);
                    if child.is_folder {
                        let name = folder_name(child.node);
                        self.disk.make_staged_dir(&name).map_err(|e| put(&e))?;
                        self.disk
                            .rename(&*self.disk.staging, &name, &dir, &child.name)
                            .map_err(|e| put(&e))?;
                        let made = self.disk.open_dir(&dir, &child.name).map_err(|e| put(&e))?;
                        self.note_folder(child.node, &made)?;
                        inner.push((child.node, made, its_path));
                    } else if let Some(bytes) = child.file {
                        match self.place_file(&dir, &child, &bytes)? {
                            false => self.missing(its_path),
                            true if tree.removed => self.found.past += 1,
                            true => {
                                self.found.files += 1;
                                self.found.bytes += bytes.size.max(0) as u64;
                            }
                        }
                    }
                }
                // Few directories are open at a time.
                next.extend(inner);
                self.note(conn, false).await?;
            }
        }
        Ok(())
    }

    fn place_file(&mut self, dir: &OwnedFd, child: &Child, bytes: &Bytes) -> Result<bool> {
        let put = |e: &io::Error| StoreError::io(format!("placing \"{}\"", child.name), e);
        let name = content_name(bytes.content);
        if !self.stage(bytes, &name, child.mtime, child.executable)? {
            return Ok(false);
        }
        self.disk.rename(&*self.disk.staging, &name, dir, &child.name).map_err(|e| put(&e))?;
        let Some(Look { id, changed, .. }) = look(dir, &child.name).map_err(|e| put(&e))? else {
            return Ok(false);
        };
        self.contents.push((bytes.content.0, id.ino, id.btime, changed));
        Ok(true)
    }

    fn note_folder(&mut self, node: NodeId, dir: &OwnedFd) -> Result<()> {
        let look = look_at_open(dir).map_err(|e| StoreError::io("looking at a folder", &e))?;
        self.folders.push((node.0, look.id.ino, look.id.btime));
        Ok(())
    }

    /// Notes in the catalogue which objects things are now.
    async fn note(&mut self, conn: &mut SqliteConnection, all: bool) -> Result<()> {
        if self.contents.len() + self.folders.len() < LOT && !all {
            return Ok(());
        }
        let contents = serde_json::to_string(&std::mem::take(&mut self.contents)).unwrap_or_default();
        let folders = serde_json::to_string(&std::mem::take(&mut self.folders)).unwrap_or_default();
        sqlx::query(
            "UPDATE contents SET ino = j.value->>1, btime = j.value->>2 FROM json_each(?) j WHERE contents.id = j.value->>0",
        )
        .bind(&contents)
        .execute(&mut *conn)
        .await?;
        // They were hashed as they are now.
        sqlx::query("INSERT OR REPLACE INTO verified (content, changed) SELECT value->>0, value->>3 FROM json_each(?)")
            .bind(contents)
            .execute(&mut *conn)
            .await?;
        sqlx::query(
            "UPDATE folders SET ino = j.value->>1, btime = j.value->>2 FROM json_each(?) j WHERE folders.node = j.value->>0",
        )
        .bind(folders)
        .execute(conn)
        .await?;
        Ok(())
    }

    /// Past contents that are files of their own.
    async fn place_past(&mut self, conn: &mut SqliteConnection) -> Result<()> {
        self.progress.begin("placing past states", 0);
        let mut after: Vec<u8> = Vec::new();
        loop {
            let lot: Vec<(Vec<u8>, i64, i64)> = sqlx::query_as(
                "SELECT c.hash, c.size, max(c.id) FROM contents c WHERE c.state = 1 AND c.hash > ? AND NOT EXISTS
                   (SELECT 1 FROM packed p WHERE p.org = 1 AND p.hash = c.hash)
                 GROUP BY c.hash ORDER BY c.hash LIMIT 2000",
            )
            .bind(&after)
            .fetch_all(&mut *conn)
            .await?;
            let Some((last, ..)) = lot.last() else { return Ok(()) };
            after = last.clone();
            self.progress.goes_on()?;
            for (hash, size, id) in lot {
                let hash = hash_of(&hash, &format!("content {id}"))?;
                let bytes = Bytes { content: ContentId(id), hash, size };
                let (name, text) = (content_name(bytes.content), hex(&hash));
                // In a folder that is not new: it may be there still.
                let dir = self.disk.past_dir(&text).map_err(|e| StoreError::io("opening the past", &e))?;
                if self.disk.open_file(&dir, &text).is_ok() {
                    continue;
                }
                if !self.stage(&bytes, &name, SEAL_MS, false)? {
                    self.missing(format!("a past state, {size} bytes, {text}"));
                    continue;
                }
                let placed = self.disk.rename(&*self.disk.staging, &name, &dir, &text);
                placed.map_err(|e| StoreError::io("placing a past state", &e))?;
                self.found.past += 1;
            }
        }
    }

    async fn place_packs(&mut self, conn: &mut SqliteConnection) -> Result<()> {
        let packs: Vec<(String, u64)> =
            self.found.about.packs.iter().map(|(name, bytes)| (name.clone(), *bytes)).collect();
        self.progress.begin("copying packs", packs.len() as u64);
        for (name, bytes) in packs {
            self.progress.goes_on()?;
            let from = self.from.join("packs").join(&name);
            let to = self.disk.path().join("past/packs").join(&name);
            // In a folder that is not new: packs only grow, and what is there is what was copied.
            if fs::metadata(&to).is_ok_and(|there| there.len() >= bytes) {
                continue;
            }
            let copy = || {
                let mut file = File::create_new(&to)?;
                let n = io::copy(&mut io::Read::take(File::open(&from)?, bytes), &mut file)?;
                Ok::<_, io::Error>(n == bytes)
            };
            if !copy().map_err(|e| failed(&from, &e))? {
                self.missing(format!("{name}: it is shorter than it should be"));
            }
            self.found.past += 1;
            self.progress.one(bytes);
        }
        // What a pack held that is not there is nowhere.
        sqlx::query("DELETE FROM packs WHERE bytes = 0").execute(conn).await?;
        Ok(())
    }

    /// All is there: it becomes a store.
    async fn end(mut self, catalogue: &Path, key: Option<PathBuf>) -> Result<Restored> {
        self.progress.begin("closing", 0);
        let data = self.disk.path().to_path_buf();
        let wrote = |e: &io::Error| StoreError::io(format!("closing {}", data.display()), e);
        if let Some(key) = key {
            let to = data.join(crate::engine::secrets::USUAL_NAME);
            let text =
                fs::read(&key).map_err(|e| StoreError::io(format!("reading {}", key.display()), &e))?;
            fs::write(&to, text).map_err(|e| wrote(&e))?;
            let private = std::os::unix::fs::PermissionsExt::from_mode(0o600);
            fs::set_permissions(&to, private).map_err(|e| wrote(&e))?;
            self.found.has_key = true;
        }
        let heads = self.run.join("record.heads");
        if heads.exists() {
            fs::copy(&heads, data.join("record.heads")).map_err(|e| wrote(&e))?;
        }
        self.disk.sync_all().map_err(|e| wrote(&e))?;
        fs::rename(catalogue, self.disk.catalogue()).map_err(|e| wrote(&e))?;
        let mut conn = crate::catalogue::db::open_writer(&self.disk.catalogue()).await?;
        identity::accept(&mut conn, &self.disk).await?;
        conn.close().await?;
        self.disk.sync_all().map_err(|e| wrote(&e))?;
        Ok(self.found)
    }
}

/// Brings what a run's catalogue names of the past, and the data folder does not have any more: it was packed otherwise or let go since. Returns
/// what the backup does not have either.
pub(crate) async fn bring_past(
    disk: Disk,
    conn: &mut SqliteConnection,
    from: &Path,
    about: &About,
) -> Result<(Disk, Vec<String>)> {
    let progress = Progress::default();
    let found = Restored { about: about.clone(), ..Restored::default() };
    let (from, run) = (from.to_path_buf(), PathBuf::new());
    let mut bringing =
        Restoring { from, run, disk, progress: &progress, found, contents: Vec::new(), folders: Vec::new() };
    bringing.place_past(conn).await?;
    bringing.place_packs(conn).await?;
    Ok((bringing.disk, bringing.found.missing))
}

/// Nothing that gave access is given back, and nothing that was under way goes on.
pub(crate) async fn end_access(conn: &mut SqliteConnection) -> Result<()> {
    for statement in [
        "DELETE FROM sessions",
        "DELETE FROM invitations",
        "DELETE FROM slips",
        "DELETE FROM uploads",
        "DELETE FROM requests",
        "UPDATE devices SET ended_at = (SELECT at FROM heads) WHERE ended_at IS NULL",
        "UPDATE openings SET asleep = 1 WHERE ended_at IS NULL",
        "UPDATE letters SET due_at = NULL, plain = '', said = 'not sent: the store was restored from a backup' WHERE due_at IS NOT NULL",
        // All that was owed to the disk is done by placing everything where it belongs.
        "DELETE FROM marks",
        "UPDATE heads SET placed = mark",
        "DELETE FROM verified",
        "DELETE FROM looked",
    ] {
        sqlx::query(statement).execute(&mut *conn).await?;
    }
    Ok(())
}
