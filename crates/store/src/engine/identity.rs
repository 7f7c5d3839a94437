//! Which store a data folder holds, and whether its catalogue is the newest that it is known to have had.
//!
//! `<data>/store` names the store, so that an empty folder (a disk that is not mounted) is never taken for a new one.
//! `<data>/commits` says how far the catalogue was: one that has committed less is an older one, put beside newer data.
//! What such a catalogue does not know may be all that is left of newer states, so nothing of it is swept.

use crate::fs::commits::Commits;
use crate::fs::disk::{Disk, hex, unhex};
use crate::fs::error::{Result, StoreError};
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use std::fs::File;
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use yellow_attic_core::cursor::Seal;

const NAME: &str = "store";

/// What `<data>/store` says.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
struct Identity {
    /// Of this file.
    format: u32,
    /// 128 random bits.
    identity: String,
    /// Grows when numbers may have been given out that this catalogue does not know.
    epoch: i64,
}

/// Whether a store is made where there is none.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Missing {
    /// Make one.
    Make,
    /// Refuse: it may lie on a disk that is not mounted.
    Refuse,
}

/// Which store a data folder says that it holds.
pub(crate) fn named(data: &Path) -> Result<Option<String>> {
    Ok(read(data)?.map(|identity| identity.identity))
}

/// Where the catalogue of a store lies that is being restored.
pub(crate) fn restoring(data: &Path) -> PathBuf {
    data.join("restoring.db")
}

/// Looks at a data folder before anything is made in it.
pub(crate) fn look(data: &Path, missing: Missing) -> Result<()> {
    let (named, catalogue) = (data.join(NAME).exists(), data.join("catalogue.db").exists());
    if restoring(data).exists() {
        return Err(StoreError::NoStore(format!(
            "a backup was being restored into {}, and that did not come to its end: empty the folder, and restore once more",
            data.display()
        )));
    }
    match (named, catalogue) {
        (true, false) => Err(StoreError::NoStore(format!(
            "{0} holds the file \"store\" and no catalogue.db. Put the catalogue back from a backup, with its files ending in -wal and -shm if there are any; nothing was made",
            data.display()
        ))),
        (false, false) if missing == Missing::Refuse => Err(StoreError::NoStore(format!(
            "there is no store in {0}. If there should be one, see that its disk is mounted; a new one is made by: yatticd init --data {0}",
            data.display()
        ))),
        _ => Ok(()),
    }
}

/// Reads who the store is, from the catalogue and from beside it. They must agree; a catalogue of a version that knew
/// no such names gets one, once. Returns how far the newest catalogue was, if this is an older one.
pub(crate) async fn recognise(
    conn: &mut SqliteConnection,
    data: PathBuf,
    missing: Missing,
) -> Result<Option<i64>> {
    let data = &*data;
    let known: Option<(String, i64, i64)> =
        sqlx::query_as("SELECT identity, epoch, doubt FROM store WHERE id = 1")
            .fetch_optional(&mut *conn)
            .await?;
    let named = read(data)?;
    let (identity, doubt) = match (known, named) {
        (Some((identity, epoch, doubt)), named) => {
            let mine = Identity { format: 1, identity, epoch };
            match named {
                Some(named) if named.identity != mine.identity => {
                    return Err(StoreError::NoStore(format!(
                        "catalogue.db and the file \"store\" in {} are of two different stores; put back the one that belongs to these files",
                        data.display()
                    )));
                }
                None if missing == Missing::Refuse => {
                    return Err(StoreError::NoStore(format!(
                        "the file \"store\" is missing in {0}, though its catalogue knows of one. See that this is the whole data folder; then it is written anew by: yatticd init --data {0}",
                        data.display()
                    )));
                }
                None => write(data, &mine)?,
                Some(_) => {}
            }
            (mine, doubt)
        }
        (None, named) => {
            let fresh = match named {
                Some(named) => named,
                None => Identity { format: 1, identity: random()?, epoch: 1 },
            };
            sqlx::query("INSERT INTO store (id, identity, epoch) VALUES (1, ?, ?)")
                .bind(&fresh.identity)
                .bind(fresh.epoch)
                .execute(&mut *conn)
                .await?;
            write(data, &fresh)?;
            (fresh, 0)
        }
    };
    let commits: i64 = sqlx::query_scalar("SELECT commits FROM heads").fetch_one(&mut *conn).await?;
    let seen = Commits::read(data);
    let doubt = doubt.max(if seen > commits { seen } else { 0 });
    if doubt == 0 {
        return Ok(None);
    }
    tracing::error!(
        store = identity.identity,
        commits,
        newest = doubt,
        "this catalogue is older than the data beside it: nothing is swept, packed or let go until the newest one is back, or this one is accepted"
    );
    sqlx::query("UPDATE store SET doubt = ?").bind(doubt).execute(conn).await?;
    Ok(Some(doubt))
}

/// What names this timeline: numbers and ids mean something only within it. Another one after a catalogue was brought back
/// that may give the same numbers out again.
pub(crate) async fn timeline(conn: &mut SqliteConnection) -> Result<String> {
    let (identity, epoch, doubt): (String, i64, i64) =
        sqlx::query_as("SELECT identity, epoch, doubt FROM store WHERE id = 1").fetch_one(conn).await?;
    let mut hasher = blake3::Hasher::new_derive_key("Yellow Attic timeline 1");
    hasher.update(format!("{identity} {epoch} {doubt}").as_bytes());
    Ok(hasher.finalize().to_hex()[..24].to_string())
}

/// Takes an older catalogue for the one that counts from now on. What it does not know is kept aside in
/// `past/unknown`; all numbers go on above any that can have been given out. Returns how many things were kept aside.
pub(crate) async fn accept(conn: &mut SqliteConnection, disk: &Disk) -> Result<u64> {
    let failed = |e: &io::Error| StoreError::io("keeping aside what this catalogue does not know", e);
    let packs: Vec<i64> = sqlx::query_scalar("SELECT id FROM packs").fetch_all(&mut *conn).await?;
    let packs: std::collections::HashSet<String> =
        packs.into_iter().map(crate::files::packs::pack_name).collect();
    let known: Vec<Vec<u8>> = sqlx::query_scalar("SELECT DISTINCT hash FROM contents WHERE state = 1")
        .fetch_all(&mut *conn)
        .await?;
    let known: std::collections::HashSet<Vec<u8>> = known.into_iter().collect();
    let aside = disk.make_dir(&*disk.past, "unknown").map_err(|e| failed(&e))?;
    let mut kept = 0;
    let mut keep = |dir: &std::os::fd::OwnedFd, name: &str| -> io::Result<()> {
        // One of that name may have been kept aside before: none is replaced.
        let mut to = name.to_string();
        while let Err(e) = disk.rename(dir, name, &aside, &to) {
            if e.kind() != io::ErrorKind::AlreadyExists {
                return Err(e);
            }
            to.push('~');
        }
        kept += 1;
        Ok(())
    };
    for name in disk.names(&*disk.packs).map_err(|e| failed(&e))? {
        if let Ok(name) = String::from_utf8(name)
            && !packs.contains(&name)
        {
            keep(&disk.packs, &name).map_err(|e| failed(&e))?;
        }
    }
    // Before the doubt ends: what came back after a power cut would be swept.
    disk.sync(&*disk.packs).map_err(|e| failed(&e))?;
    for shard in disk.names(&*disk.past).map_err(|e| failed(&e))? {
        let Some(shard) = String::from_utf8(shard).ok().filter(|s| s.len() == 2) else { continue };
        let dir = disk.open_dir(&*disk.past, &shard).map_err(|e| failed(&e))?;
        for name in disk.names(&dir).map_err(|e| failed(&e))? {
            let Some((name, hash)) = String::from_utf8(name).ok().and_then(|n| Some((n.clone(), unhex(&n)?)))
            else {
                continue;
            };
            if !known.contains(&hash[..]) {
                keep(&dir, &name).map_err(|e| failed(&e))?;
            }
        }
        disk.sync(&dir).map_err(|e| failed(&e))?;
    }
    disk.sync(&aside).map_err(|e| failed(&e))?;
    // 2^40 is more than any store has given out since a backup.
    sqlx::query("UPDATE heads SET moment = moment + (1 << 40), node = node + (1 << 40), content = content + (1 << 40),
       commits = max(commits, (SELECT doubt FROM store)) + 1")
        .execute(&mut *conn)
        .await?;
    sqlx::query("INSERT OR IGNORE INTO moments (n, at) SELECT moment, at FROM heads")
        .execute(&mut *conn)
        .await?;
    sqlx::query("UPDATE store SET doubt = 0, epoch = epoch + 1").execute(&mut *conn).await?;
    let (identity, epoch): (String, i64) =
        sqlx::query_as("SELECT identity, epoch FROM store").fetch_one(conn).await?;
    write(disk.path(), &Identity { format: 1, identity, epoch })?;
    Ok(kept)
}

/// The seal of places in lists; its key is made at the first start.
pub(crate) async fn seal(conn: &mut SqliteConnection) -> Result<Seal> {
    let (key, epoch): (Option<Vec<u8>>, i64) =
        sqlx::query_as("SELECT cursor_key, epoch FROM store WHERE id = 1").fetch_one(&mut *conn).await?;
    if let Some(key) = key.and_then(|k| <[u8; 32]>::try_from(k).ok()) {
        return Ok(Seal::new(&key, epoch));
    }
    let mut key = [0u8; 32];
    getrandom::fill(&mut key).map_err(|e| StoreError::BadInput(e.to_string()))?;
    sqlx::query("UPDATE store SET cursor_key = ?").bind(key.to_vec()).execute(conn).await?;
    Ok(Seal::new(&key, epoch))
}

fn random() -> Result<String> {
    let mut bits = [0u8; 16];
    getrandom::fill(&mut bits).map_err(|e| StoreError::BadInput(e.to_string()))?;
    Ok(hex(&bits))
}

fn read(data: &Path) -> Result<Option<Identity>> {
    let path = data.join(NAME);
    let text = match std::fs::read(&path) {
        Ok(text) => text,
        Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(None),
        Err(e) => return Err(StoreError::io(format!("reading {}", path.display()), &e)),
    };
    serde_json::from_slice(&text).map(Some).map_err(|e| {
        StoreError::NoStore(format!(
            "{} cannot be read ({e}). Put it back from a backup, or remove it and write it anew by: yatticd init --data {}",
            path.display(),
            data.display()
        ))
    })
}

/// Written beside its place, synced, then renamed: there is always a whole one.
fn write(data: &Path, identity: &Identity) -> Result<()> {
    let (path, new) = (data.join(NAME), data.join("store.new"));
    let written = (|| {
        let mut file = File::create(&new)?;
        writeln!(file, "{}", serde_json::to_string_pretty(identity)?)?;
        file.sync_all()?;
        std::fs::rename(&new, &path)?;
        File::open(data)?.sync_all()
    })();
    written.map_err(|e| StoreError::io(format!("writing {}", path.display()), &e))
}
