//! Where the space went: live files, versions, trash, what only snapshots keep, and what it costs on
//! the disk. The sums are those that are kept, and [`recount`] counts everything once more.

use crate::catalogue::rows::parse;
use crate::fs::disk::Disk;
use crate::fs::error::{Result, StoreError};
use crate::fs::fault_points::AllSteps;
use crate::fs::model::{Actor, Folder, Shelf};
use crate::timeline::Space;
use async_recursion::async_recursion as boxed;
use std::collections::{BTreeMap, HashMap};
use std::path::Path;
use std::sync::Arc;
use yellow_attic_core::rights::Level;
use yellow_attic_core::{NodeId, ShelfId};

const DAY_MS: i64 = 86_400_000;

/// What something holds.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Held {
    /// Bytes of files that are there now.
    pub live: i64,
    /// Their number.
    pub files: i64,
    /// Bytes of earlier versions.
    pub versions: i64,
    /// Their number.
    pub version_states: i64,
    /// Bytes of what was removed.
    pub trash: i64,
    /// How many files of it.
    pub trash_files: i64,
    /// Of the versions and the trash, what only a snapshot keeps, as of the last look at the rules.
    pub only_snapshots: i64,
}

impl Held {
    /// From the sums of a folder.
    pub fn of(f: &Folder, only_snapshots: i64) -> Held {
        Held {
            live: f.bytes,
            files: f.files,
            versions: f.past_bytes - f.trash_bytes,
            version_states: f.past_files - f.trash_files,
            trash: f.trash_bytes,
            trash_files: f.trash_files,
            only_snapshots,
        }
    }

    /// All of it.
    pub fn all(&self) -> i64 {
        self.live + self.versions + self.trash
    }
}

/// What the past costs on the disk.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Stored {
    /// Logical bytes of past states: each counts by itself.
    pub logical: i64,
    /// Bytes of contents kept whole in `past/`.
    pub whole: i64,
    /// Bytes of chunks that are needed.
    pub chunks: i64,
    /// Bytes of pack files beyond these: their own order, and what waits to be taken back.
    pub overhead: i64,
    /// How many contents are kept as chunks.
    pub packed: i64,
    /// How many chunks.
    pub chunk_count: i64,
    /// Bytes of the catalogue.
    pub catalogue: i64,
    /// Bytes of unfinished uploads and of what is on its way.
    pub staging: i64,
    /// Free bytes of the disk.
    pub free: u64,
    /// All bytes of it.
    pub total: u64,
    /// Files that it can still hold, and all that it can, where its file system has a limit to them.
    pub files: Option<(u64, u64)>,
}

/// A large file.
#[derive(Clone, Debug)]
pub struct Large {
    /// Which.
    pub node: NodeId,
    /// Its shelf.
    pub shelf: ShelfId,
    /// Its name.
    pub name: String,
    /// Its folders, from the top down.
    pub way: Vec<String>,
    /// Bytes.
    pub size: i64,
    /// Changed last, in milliseconds.
    pub at: i64,
}

/// A folder that grew.
#[derive(Clone, Debug)]
pub struct Grown {
    /// Which.
    pub node: NodeId,
    /// Its shelf.
    pub shelf: ShelfId,
    /// Its name, and those of the folders above.
    pub way: Vec<String>,
    /// By how many bytes, of live files right in it.
    pub bytes: i64,
}

/// What was held on a day.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Day {
    /// Days since 1970.
    pub day: i64,
    /// Live bytes.
    pub live: i64,
    /// Bytes of versions.
    pub versions: i64,
    /// Bytes of the trash.
    pub trash: i64,
}

impl Space {
    /// What a shelf holds.
    #[boxed]
    pub async fn held_on(&self, shelf: &Shelf) -> Result<Held> {
        let only = self.0.shared.view.access().only_snapshots(shelf.id);
        Ok(self.0.shared.view.folder(shelf.root).await?.map_or_else(Held::default, |f| Held::of(&f, only)))
    }

    /// What a folder holds, and each of its children: for whoever sees all beneath.
    #[boxed]
    pub async fn held_in(
        &self,
        actor: &Actor,
        node: NodeId,
    ) -> Result<(Held, Vec<(NodeId, String, bool, Held)>)> {
        self.0.files().chain(actor, node, Level::View).await?;
        let sums = self
            .0
            .files()
            .sums(actor, node)
            .await?
            .ok_or(StoreError::NotAllowed { need: "view", have: "part" })?;
        let text: String = sqlx::query_scalar(
            "SELECT json_group_array(json_array(e.node, e.sort_key, e.kind, e.size, f.bytes, f.files, f.past_bytes, f.past_files,
                                                f.trash_bytes, f.trash_files))
             FROM entries_now e LEFT JOIN folders f ON f.node = e.node WHERE e.parent = ?",
        )
        .bind(node.0)
        .fetch_one(&self.0.shared.view.pool)
        .await?;
        type Child = (
            i64,
            String,
            i64,
            i64,
            Option<i64>,
            Option<i64>,
            Option<i64>,
            Option<i64>,
            Option<i64>,
            Option<i64>,
        );
        let mut children = Vec::new();
        for (id, key, kind, size, bytes, files, past, past_files, trash, trash_files) in
            parse::<Vec<Child>>(&text)?
        {
            let folder = kind == 0;
            let held = match folder {
                true => Held {
                    live: bytes.unwrap_or(0),
                    files: files.unwrap_or(0),
                    versions: past.unwrap_or(0) - trash.unwrap_or(0),
                    version_states: past_files.unwrap_or(0) - trash_files.unwrap_or(0),
                    trash: trash.unwrap_or(0),
                    trash_files: trash_files.unwrap_or(0),
                    only_snapshots: 0,
                },
                false => Held { live: size, files: 1, ..Held::default() },
            };
            children.push((NodeId(id), crate::fs::model::name_in(&key).to_string(), folder, held));
        }
        children.sort_by(|a, b| b.3.all().cmp(&a.3.all()).then(a.1.cmp(&b.1)));
        Ok((Held::of(&sums, 0), children))
    }

    /// What the past costs on the disk.
    #[boxed]
    pub async fn stored(&self) -> Result<Stored> {
        let (whole, packed, chunks, count, packs): (i64, i64, i64, i64, i64) = sqlx::query_as(
            "SELECT (SELECT coalesce(sum(size), 0) FROM (SELECT size FROM contents c WHERE state = 1
                       AND NOT EXISTS (SELECT 1 FROM packed p WHERE p.org = c.org AND p.hash = c.hash) GROUP BY hash)),
                    (SELECT count(*) FROM packed),
                    (SELECT coalesce(sum(stored), 0) FROM chunks), (SELECT count(*) FROM chunks),
                    (SELECT coalesce(sum(bytes), 0) FROM packs)",
        )
        .fetch_one(&self.0.shared.view.pool)
        .await?;
        let mut logical = 0;
        for shelf in self.0.shared.view.shelves() {
            logical += self.0.shared.view.folder(shelf.root).await?.map_or(0, |f| f.past_bytes);
        }
        let ((free, total), files) =
            self.0.shared.disk.has_room_for().map_err(|e| StoreError::io("asking for free space", &e))?;
        let size = |name: &str| {
            std::fs::metadata(self.0.shared.disk.catalogue().with_file_name(name))
                .map_or(0, |m| m.len() as i64)
        };
        let disk = self.0.shared.disk.clone();
        let staging = tokio::task::spawn_blocking(move || -> std::io::Result<i64> {
            let mut all = 0;
            for dir in [&disk.staging, &disk.incoming] {
                for name in disk.names(&**dir)? {
                    let Ok(name) = String::from_utf8(name) else { continue };
                    all += crate::fs::disk::look(&**dir, &name)?
                        .map_or(0, |l| if l.kind == crate::fs::disk::Plain::File { l.size } else { 0 });
                }
            }
            Ok(all)
        });
        let staging = staging
            .await
            .map_err(|_| StoreError::Stopping)?
            .map_err(|e| StoreError::io("looking at staging", &e))?;
        Ok(Stored {
            logical,
            whole,
            chunks,
            overhead: packs - chunks,
            packed,
            chunk_count: count,
            catalogue: size("catalogue.db") + size("catalogue.db-wal"),
            staging,
            free,
            total,
            files,
        })
    }

    async fn way_names(&self, parent: Option<NodeId>) -> Result<Option<Vec<String>>> {
        let Some(parent) = parent else { return Ok(Some(Vec::new())) };
        Ok(self
            .0
            .shared
            .view
            .chain(parent)
            .await?
            .map(|chain| chain.iter().rev().skip(1).map(|r| r.name().to_string()).collect()))
    }

    /// The largest live files of some shelves.
    #[boxed]
    pub async fn largest(&self, shelves: &[ShelfId], most: i64) -> Result<Vec<Large>> {
        let list = serde_json::to_string(shelves).unwrap_or_default();
        let rows: Vec<(i64, i64, Option<i64>, String, i64, i64)> = sqlx::query_as(
            "SELECT node, shelf, parent, sort_key, size, at FROM entries_now
             WHERE kind = 1 AND shelf IN (SELECT value FROM json_each(?)) ORDER BY size DESC, node LIMIT ?",
        )
        .bind(list)
        .bind(most * 2)
        .fetch_all(&self.0.shared.view.pool)
        .await?;
        let mut found = Vec::new();
        for (node, shelf, parent, key, size, at) in rows {
            let Some(way) = self.way_names(parent.map(NodeId)).await? else { continue };
            let name = crate::fs::model::name_in(&key).to_string();
            found.push(Large { node: NodeId(node), shelf: ShelfId(shelf), name, way, size, at });
            if found.len() as i64 == most {
                break;
            }
        }
        Ok(found)
    }

    /// The folders whose own files grew most since a time, by what changed since.
    #[boxed]
    pub async fn growing(&self, shelves: &[ShelfId], since_ms: i64, most: usize) -> Result<Vec<Grown>> {
        let since = self.0.history().moment_at(since_ms).await?;
        let mut by: HashMap<(i64, i64), i64> = HashMap::new();
        for shelf in shelves {
            let rows: Vec<(i64, i64)> = sqlx::query_as(
                "SELECT parent, sum(size) FROM (
                   SELECT parent, size FROM entries_now WHERE shelf = ?1 AND since > ?2 AND kind = 1
                   UNION ALL SELECT parent, -size FROM entries_past WHERE shelf = ?1 AND until > ?2 AND since <= ?2 AND kind = 1)
                 WHERE parent IS NOT NULL GROUP BY parent HAVING sum(size) > 0",
            )
            .bind(shelf.0)
            .bind(since.0)
            .fetch_all(&self.0.shared.view.pool)
            .await?;
            for (parent, bytes) in rows {
                by.insert((shelf.0, parent), bytes);
            }
        }
        let mut all: Vec<_> = by.into_iter().collect();
        all.sort_by_key(|(key, bytes)| (-*bytes, *key));
        let mut found = Vec::new();
        for ((shelf, node), bytes) in all {
            let Some(way) = self.way_names(Some(NodeId(node))).await? else { continue };
            found.push(Grown { node: NodeId(node), shelf: ShelfId(shelf), way, bytes });
            if found.len() == most {
                break;
            }
        }
        Ok(found)
    }

    /// Writes down what each shelf holds today.
    #[boxed]
    pub async fn note_space(&self) -> Result<()> {
        let day = self.0.kept_ms().div_euclid(DAY_MS);
        let mut set = Vec::new();
        for shelf in self.0.shared.view.shelves() {
            let held = self.held_on(&shelf).await?;
            set.push((shelf.id.0, day, held.live, held.versions, held.trash));
        }
        let set = serde_json::to_string(&set).unwrap_or_default();
        self.0
            .files()
            .catalogue(&Actor::service(), move |conn| {
                Box::pin(async move {
                    sqlx::query(
                        "INSERT OR REPLACE INTO space_days (shelf, day, live, versions, trash)
                     SELECT value->>0, value->>1, value->>2, value->>3, value->>4 FROM json_each(?)",
                    )
                    .bind(set)
                    .execute(conn)
                    .await?;
                    Ok(())
                })
            })
            .await
    }

    /// What some shelves held together, day by day, oldest first.
    #[boxed]
    pub async fn growth(&self, shelves: &[ShelfId], from_day: i64) -> Result<Vec<Day>> {
        let list = serde_json::to_string(shelves).unwrap_or_default();
        let rows: Vec<(i64, i64, i64, i64)> = sqlx::query_as(
            "SELECT day, sum(live), sum(versions), sum(trash) FROM space_days
             WHERE shelf IN (SELECT value FROM json_each(?)) AND day >= ? GROUP BY day ORDER BY day",
        )
        .bind(list)
        .bind(from_day)
        .fetch_all(&self.0.shared.view.pool)
        .await?;
        Ok(rows.into_iter().map(|(day, live, versions, trash)| Day { day, live, versions, trash }).collect())
    }
}

/// Sums of a folder counted anew beside those that are kept.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Differs {
    /// The folder.
    pub node: i64,
    /// Its name.
    pub name: String,
    /// What is kept: bytes, files, folders, past bytes, past states, trash bytes, trash files.
    pub kept: [i64; 7],
    /// What was counted.
    pub counted: [i64; 7],
}

/// What a recount found.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Recount {
    /// Folders counted.
    pub folders: usize,
    /// Live bytes, by the catalogue.
    pub live: i64,
    /// Bytes of past states.
    pub past: i64,
    /// Of these, in the trash.
    pub trash: i64,
    /// Folders whose sums are not what they should be.
    pub differs: Vec<Differs>,
    /// Live bytes on the disk.
    pub live_on_disk: i64,
    /// Files on the disk.
    pub files_on_disk: i64,
    /// Live files, by the catalogue.
    pub files: i64,
    /// Bytes that past contents kept whole take on the disk, and should.
    pub whole: (i64, i64),
    /// Bytes that packs take on the disk, and should.
    pub packs: (i64, i64),
}

impl Recount {
    /// Whether everything agrees to the byte.
    pub fn agrees(&self) -> bool {
        self.differs.is_empty()
            && self.live == self.live_on_disk
            && self.files == self.files_on_disk
            && self.whole.0 == self.whole.1
            && self.packs.0 == self.packs.1
    }
}

/// Counts everything once more: the sums of every folder from the rows, and the bytes on the disk.
/// Changes nothing. A service that writes meanwhile makes the two differ.
#[boxed]
pub async fn recount(data: &Path) -> Result<Recount> {
    if !data.join("catalogue.db").is_file() {
        return Err(StoreError::NotFound(format!("A catalogue in {}", data.display())));
    }
    let pool = crate::catalogue::db::open_readers(&data.join("catalogue.db")).await?;
    let text: String = sqlx::query_scalar(
        "SELECT json_group_array(json_array(node, bytes, files, folders, past_bytes, past_files, trash_bytes, trash_files)) FROM folders",
    )
    .fetch_one(&pool)
    .await?;
    type Kept = (i64, i64, i64, i64, i64, i64, i64, i64);
    let kept: Vec<Kept> = parse(&text)?;
    // Where each folder is, or was last, and whether its row is open.
    type Open = (i64, Option<i64>, i64, i64, Option<i64>, String);
    let open: Vec<Open> = sqlx::query_as(
        "SELECT e.node, e.parent, e.kind, e.size, c.state, e.sort_key FROM entries_now e LEFT JOIN contents c ON c.id = e.content",
    )
    .fetch_all(&pool)
    .await?;
    let removed: Vec<(i64, Option<i64>, i64, String)> = sqlx::query_as(
        "SELECT e.node, e.parent, e.ended_how, e.sort_key FROM entries_past e WHERE e.kind = 0
           AND NOT EXISTS (SELECT 1 FROM entries_now n WHERE n.node = e.node)
           AND NOT EXISTS (SELECT 1 FROM entries_past l WHERE l.node = e.node AND l.until > e.until)",
    )
    .fetch_all(&pool)
    .await?;
    // Past bytes, once each, where their last state was. Those of an open row in a removed folder are counted as lying in it.
    let past: Vec<(i64, i64, i64)> = sqlx::query_as(
        "SELECT e.parent, c.size, e.ended_how = 7
             AND NOT EXISTS (SELECT 1 FROM entries_now n WHERE n.node = e.node)
             AND NOT EXISTS (SELECT 1 FROM entries_past l WHERE l.node = e.node AND l.until > e.until)
         FROM contents c JOIN entries_past e ON e.content = c.id
         WHERE c.state = 1 AND e.parent IS NOT NULL AND e.ended_how IN (1, 3, 5, 7)
           AND NOT EXISTS (SELECT 1 FROM entries_now n WHERE n.content = c.id)
           AND NOT EXISTS (SELECT 1 FROM entries_past l WHERE l.content = c.id AND l.until > e.until)",
    )
    .fetch_all(&pool)
    .await?;
    let mut own: BTreeMap<i64, [i64; 7]> = kept.iter().map(|k| (k.0, [0; 7])).collect();
    let mut names: HashMap<i64, String> = HashMap::new();
    let mut up: HashMap<i64, (Option<i64>, bool)> = HashMap::new();
    for (node, parent, kind, size, state, key) in &open {
        if *kind == 0 {
            names.insert(*node, crate::fs::model::name_in(key).to_string());
            up.insert(*node, (*parent, true));
        }
        if let Some(sums) = parent.and_then(|p| own.get_mut(&p)) {
            match kind {
                0 => sums[2] += 1,
                _ if *state == Some(3) => {}
                _ => {
                    sums[0] += size;
                    sums[1] += 1;
                }
            }
        }
    }
    // What lies in removed folders that are still whole is past, and whole.
    let alive = |mut node: i64| {
        for _ in 0..2000 {
            match up.get(&node) {
                Some((Some(parent), true)) => node = *parent,
                Some((None, true)) => return true,
                _ => return false,
            }
        }
        false
    };
    let resting: i64 = open
        .iter()
        .filter(|(_, parent, kind, _, state, _)| {
            *kind == 1 && *state == Some(0) && !parent.is_some_and(alive)
        })
        .map(|o| o.3)
        .sum();
    for (node, parent, how, key) in &removed {
        names.insert(*node, crate::fs::model::name_in(key).to_string());
        up.insert(*node, (parent.filter(|_| *how == 7), false));
    }
    for (parent, size, trash) in &past {
        if let Some(sums) = own.get_mut(parent) {
            sums[3] += size;
            sums[4] += 1;
            if *trash != 0 {
                sums[5] += size;
                sums[6] += 1;
            }
        }
    }
    // From the bottom up: how deep each folder lies.
    let depth = |mut node: i64| {
        let mut n = 0;
        while let Some((Some(parent), _)) = up.get(&node) {
            node = *parent;
            n += 1;
            if n > 2000 {
                break;
            }
        }
        n
    };
    let mut order: Vec<(usize, i64)> = own.keys().map(|n| (depth(*n), *n)).collect();
    order.sort_unstable_by(|a, b| b.cmp(a));
    let mut counted = own;
    for (_, node) in &order {
        let sums = counted[node];
        if let Some((Some(parent), open)) = up.get(node)
            && let Some(above) = counted.get_mut(parent)
        {
            let add = match open {
                true => sums,
                false => {
                    let [bytes, files, _, past, states, trash, trash_files] = sums;
                    [0, 0, 0, past + bytes, states + files, trash + bytes, trash_files + files]
                }
            };
            above.iter_mut().zip(add).for_each(|(a, b)| *a += b);
        }
    }
    let mut found = Recount { folders: kept.len(), ..Recount::default() };
    for k in &kept {
        let kept = [k.1, k.2, k.3, k.4, k.5, k.6, k.7];
        // A copy that never appeared has sums and no place.
        if !up.contains_key(&k.0) {
            continue;
        }
        if kept != counted[&k.0] {
            let name = names.get(&k.0).cloned().unwrap_or_default();
            found.differs.push(Differs { node: k.0, name, kept, counted: counted[&k.0] });
        }
    }
    let roots: Vec<i64> =
        sqlx::query_scalar("SELECT root FROM shelves WHERE ended_at IS NULL").fetch_all(&pool).await?;
    for root in roots {
        let sums = counted.get(&root).copied().unwrap_or_default();
        found.live += sums[0];
        found.files += sums[1];
        found.past += sums[3];
        found.trash += sums[5];
    }
    let whole: i64 = sqlx::query_scalar(
        "SELECT coalesce(sum(size), 0) FROM (SELECT size FROM contents c WHERE state = 1
           AND NOT EXISTS (SELECT 1 FROM packed p WHERE p.org = c.org AND p.hash = c.hash) GROUP BY hash)",
    )
    .fetch_one(&pool)
    .await?;
    let packs: i64 = sqlx::query_scalar("SELECT coalesce(sum(bytes), 0) FROM packs").fetch_one(&pool).await?;
    pool.close().await;
    (found.whole.1, found.packs.1) = (whole + resting, packs);
    let disk = Disk::open(data, Arc::new(AllSteps))?;
    let io = |e: std::io::Error| StoreError::io("counting what lies on the disk", &e);
    let (bytes, files) = tokio::task::spawn_blocking({
        let shelves = data.join("shelves");
        move || walk(&shelves)
    })
    .await
    .map_err(|_| StoreError::Stopping)?
    .map_err(io)?;
    (found.live_on_disk, found.files_on_disk) = (bytes, files);
    for shard in disk.names(&*disk.past).map_err(io)? {
        let Ok(shard) = String::from_utf8(shard) else { continue };
        if shard.len() != 2 {
            continue;
        }
        found.whole.0 += walk(&data.join("past").join(shard)).map_err(io)?.0;
    }
    // Removed folders that are still whole, and what waits to be filed, are past as well.
    for waits in ["past/removed", "past/incoming"] {
        found.whole.0 += walk(&data.join(waits)).map_err(io)?.0;
    }
    found.packs.0 = walk(&data.join("past/packs")).map_err(io)?.0;
    Ok(found)
}

/// Bytes and files below a folder; links are not followed.
fn walk(top: &Path) -> std::io::Result<(i64, i64)> {
    let (mut bytes, mut files) = (0, 0);
    let mut waiting = vec![top.to_path_buf()];
    while let Some(dir) = waiting.pop() {
        for entry in std::fs::read_dir(dir)? {
            let entry = entry?;
            let kind = entry.file_type()?;
            if kind.is_dir() {
                waiting.push(entry.path());
            } else if kind.is_file() {
                bytes += entry.metadata()?.len() as i64;
                files += 1;
            }
        }
    }
    Ok((bytes, files))
}
