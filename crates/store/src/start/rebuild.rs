//! A catalogue made again for a data folder that has lost it: from a backup's, or from the plain files alone.
//!
//! What the new catalogue does not know is kept aside in `past/unknown`, never swept: it may be all that is left of something. Nothing that gave
//! access comes back by itself.

use crate::backup::restore::{bring_past, end_access};
use crate::backup::target::{failed, run_of, sum_of};
use crate::catalogue::db;
use crate::engine::identity::{self, Missing};
use crate::engine::{Engine, Options, lock};
use crate::fs::disk::{Disk, folder_name};
use crate::fs::error::{Result, StoreError};
use crate::fs::fault_points::AllSteps;
use crate::fs::model::{Actor, ShelfKind};
use crate::ops::NewShelf;
use crate::ops::record::Finding;
use crate::people::accounts::Role;
use crate::reconcile::Looking;
use crate::reconcile::report::Report;
use async_recursion::async_recursion as boxed;
use sqlx::{Connection, SqliteConnection};
use std::collections::HashSet;
use std::fs::{self, File};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use yellow_attic_core::Name;

/// What was made again.
#[derive(Clone, Debug, Default)]
pub struct Rebuilt {
    /// The backup's run whose catalogue it is, and as of when; none: of the files alone.
    pub from: Option<(String, i64)>,
    /// Where the catalogue of before is kept, if there was one.
    pub kept: Option<String>,
    /// Accounts that were made: each chooses a password.
    pub accounts: Vec<String>,
    /// Shared shelves that were made.
    pub shelves: Vec<String>,
    /// What lies there and belongs to nobody, each with why.
    pub left: Vec<String>,
    /// Things of the past that the catalogue does not know, kept aside in `past/unknown`.
    pub kept_aside: u64,
    /// What was taken up from the disk.
    pub found: Report,
    /// The record's new first key: to be kept elsewhere.
    pub record_key: Option<String>,
}

/// How it is made again.
#[derive(Clone, Debug, Default)]
pub struct Rebuilding {
    /// A folder with backups: the catalogue comes from there, and what changed on the disk since is taken up.
    pub backup: Option<PathBuf>,
    /// The run; else the newest.
    pub run: Option<String>,
    /// Without a backup: who is the administrator.
    pub administrator: String,
    /// Also if the catalogue that is there is sound.
    pub even_if_sound: bool,
}

/// Makes a catalogue again, while no service has the data folder open.
#[boxed]
pub async fn rebuild(options: Options, asked: &Rebuilding) -> Result<Rebuilt> {
    // On a thread of its own, where it need not be able to move to another one.
    let (runtime, asked) = (tokio::runtime::Handle::current(), asked.clone());
    let rebuilt = tokio::task::spawn_blocking(move || runtime.block_on(rebuilt(options, &asked)));
    rebuilt.await.map_err(|_| StoreError::Stopping)?
}

async fn rebuilt(options: Options, asked: &Rebuilding) -> Result<Rebuilt> {
    let data = options.data.clone();
    if !data.join("shelves").is_dir() {
        return Err(StoreError::NoStore(format!(
            "{} is no data folder: there are no shelves in it",
            data.display()
        )));
    }
    let mut done = Rebuilt::default();
    // Before anything is moved it is known that it can be done.
    let run = match &asked.backup {
        Some(backup) => Some((backup.clone(), run_of(backup, asked.run.as_deref())?)),
        None if asked.administrator.is_empty() => {
            return Err(StoreError::BadInput(
                "without a backup somebody is to be named as administrator".into(),
            ));
        }
        None => None,
    };
    if let Some((backup, (name, about))) = &run {
        if identity::named(&data)?.is_some_and(|named| named != about.store) {
            return Err(StoreError::BadInput(format!("{} is a backup of another store", backup.display())));
        }
        let packed = backup.join("runs").join(name).join("catalogue.db.zst");
        if about.sums.get("catalogue.db.zst") != Some(&sum_of(&packed)?) {
            return Err(StoreError::BadInput(format!(
                "{} is not as it was written: name another run",
                packed.display()
            )));
        }
    }
    {
        let mut disk = Disk::open(&data, Arc::new(AllSteps))?;
        lock(&disk)?;
        if !asked.even_if_sound && is_sound(&disk.catalogue()).await {
            return Err(StoreError::BadInput(
                "the catalogue that is there is sound: start the service. To make it again all the same, say --even-if-sound".into(),
            ));
        }
        done.kept = put_aside(&disk)?;
        let mut conn = match &run {
            Some((backup, (name, _))) => from_backup(&disk, &backup.join("runs").join(name)).await?,
            None => db::open_writer(&disk.catalogue()).await?,
        };
        done.kept_aside = keep_aside(&mut conn, &disk).await?;
        identity::recognise(&mut conn, data.clone(), Missing::Make).await?;
        if run.is_none() {
            // Each epoch before has given numbers above those of the one before it.
            for statement in [
                "UPDATE heads SET moment = moment + (SELECT (epoch - 1) << 40 FROM store), node = node + (SELECT (epoch - 1) << 40 FROM store)",
                "UPDATE heads SET content = content + (SELECT (epoch - 1) << 40 FROM store)",
            ] {
                sqlx::query(statement).execute(&mut conn).await?;
            }
        }
        done.kept_aside += identity::accept(&mut conn, &disk).await?;
        if let Some((backup, (_, about))) = &run {
            let (kept, missing) = bring_past(disk, &mut conn, backup, about).await?;
            disk = kept;
            done.left.extend(
                missing.into_iter().map(|what| format!("{what}: neither the disk nor the backup has it")),
            );
            disk.sync_all().map_err(|e| StoreError::io("bringing the past", &e))?;
        }
        conn.close().await?;
    }
    done.from = run.map(|(_, (name, about))| (name, about.at));
    let engine = Engine::open(Options { background: false, watch: false, ..options }).await?;
    let filled = fill(&engine, asked, &mut done).await;
    engine.stop().await;
    filled.map(|()| done)
}

async fn is_sound(catalogue: &Path) -> bool {
    if !catalogue.exists() {
        return false;
    }
    let Ok(pool) = db::open_readers(catalogue).await else { return false };
    let said: std::result::Result<String, _> =
        sqlx::query_scalar("PRAGMA quick_check(1)").fetch_one(&pool).await;
    let known: std::result::Result<i64, _> =
        sqlx::query_scalar("SELECT count(*) FROM heads").fetch_one(&pool).await;
    pool.close().await;
    said.is_ok_and(|said| said == "ok") && known.is_ok_and(|n| n == 1)
}

/// The catalogue of before gets another name, with its log.
fn put_aside(disk: &Disk) -> Result<Option<String>> {
    let mut kept = None;
    let mut to = String::from("catalogue.lost");
    while disk.path().join(format!("{to}.db")).exists() {
        to.push('~');
    }
    for end in ["", "-wal", "-shm"] {
        let from = disk.path().join(format!("catalogue.db{end}"));
        let to = disk.path().join(format!("{to}.db{end}"));
        match fs::rename(&from, &to) {
            Ok(()) if end.is_empty() => kept = Some(to.display().to_string()),
            Err(e) if e.kind() != io::ErrorKind::NotFound => {
                return Err(StoreError::io("putting the old catalogue aside", &e));
            }
            _ => {}
        }
    }
    Ok(kept)
}

async fn from_backup(disk: &Disk, run: &Path) -> Result<SqliteConnection> {
    let packed = run.join("catalogue.db.zst");
    let new = disk.path().join("rebuilding.db");
    let unpack = || {
        let mut to = File::create(&new)?;
        zstd::stream::copy_decode(File::open(&packed)?, &mut to)?;
        to.sync_all()
    };
    unpack().map_err(|e| failed(&packed, &e))?;
    let mut conn = db::open_writer(&new).await?;
    end_access(&mut conn).await?;
    conn.close().await?;
    fs::rename(&new, disk.catalogue())
        .map_err(|e| StoreError::io("putting the catalogue in its place", &e))?;
    db::open_writer(&disk.catalogue()).await
}

/// What was on its way, and removed folders that the catalogue knows nothing of, are kept aside.
async fn keep_aside(conn: &mut SqliteConnection, disk: &Disk) -> Result<u64> {
    let moved = |e: &io::Error| StoreError::io("keeping aside what the catalogue does not know", e);
    let known: Vec<i64> =
        sqlx::query_scalar("SELECT node FROM folders WHERE lies = 1").fetch_all(conn).await?;
    let known: HashSet<String> =
        known.into_iter().map(|node| folder_name(yellow_attic_core::NodeId(node))).collect();
    let aside = disk.make_dir(&*disk.past, "unknown").map_err(|e| moved(&e))?;
    let mut kept = 0;
    for (word, dir) in [("staging", &disk.staging), ("incoming", &disk.incoming), ("removed", &disk.removed)]
    {
        for name in disk.names(&**dir).map_err(|e| moved(&e))? {
            let Ok(name) = String::from_utf8(name) else { continue };
            if word == "removed" && known.contains(&name) {
                continue;
            }
            let mut to = format!("{word}-{name}");
            while let Err(e) = disk.rename(&**dir, &name, &aside, &to) {
                if e.kind() != io::ErrorKind::AlreadyExists {
                    return Err(moved(&e));
                }
                to.push('~');
            }
            kept += 1;
        }
        disk.sync(&**dir).map_err(|e| moved(&e))?;
    }
    disk.sync(&aside).map_err(|e| moved(&e))?;
    Ok(kept)
}

/// Makes accounts and shelves for what lies there, and takes up what is in them.
async fn fill(engine: &Engine, asked: &Rebuilding, done: &mut Rebuilt) -> Result<()> {
    let actor = Actor { who: "this machine".into(), from: "yatticd rebuild".into(), ..Actor::service() };
    let shelves = engine.data_path().join("shelves/main");
    let there = |kind: &str| -> Vec<String> {
        let mut names = crate::backup::target::names(&shelves.join(kind)).unwrap_or_default();
        names.sort();
        names
    };
    let has = |kind: ShelfKind, disk_name: &str| {
        engine.shelves().iter().any(|shelf| shelf.kind == kind && shelf.disk_name == disk_name)
    };
    let alone = done.from.is_none();
    let mut homes = there("home");
    if alone && !homes.contains(&asked.administrator) {
        homes.push(asked.administrator.clone());
    }
    for name in homes {
        if has(ShelfKind::Home, &name) {
            continue;
        }
        if !alone {
            done.left.push(format!("home/{name}: no account of the backup has it. Make the account, and it is taken up; or move it away"));
            continue;
        }
        let role = if name == asked.administrator { Role::Administrator } else { Role::Member };
        match engine.people().make_account(&actor, &name, &name, role, "").await {
            Ok(_) => done.accounts.push(name),
            Err(StoreError::Stopping) => return Err(StoreError::Stopping),
            Err(e) => done.left.push(format!("home/{name}: {e}")),
        }
    }
    let owner = engine.people().account_named(&asked.administrator).await?.map(|account| account.id);
    for name in there("shared") {
        if has(ShelfKind::Shared, &name) {
            continue;
        }
        if !alone {
            done.left.push(format!("shared/{name}: no shelf of the backup has it. Make the shelf, and it is taken up; or move it away"));
            continue;
        }
        let made = match Name::new(&name) {
            Ok(name) => {
                let new = NewShelf { kind: ShelfKind::Shared, name, owner, grants: Vec::new() };
                engine.space().make_shelf(&actor, new).await.map(|_| ())
            }
            Err(e) => Err(StoreError::BadInput(e.to_string())),
        };
        match made {
            Ok(()) => done.shelves.push(name),
            Err(e) => done.left.push(format!("shared/{name}: {e}")),
        }
    }
    engine.settle().await?;
    done.found = engine.on_disk().reconcile(&Looking { take_up: true, ..Looking::default() }).await?;
    let from = match &done.from {
        Some((run, _)) => format!("from the backup {run} and what lies on the disk"),
        None => {
            "from what lies on the disk alone: accounts, rights, links and history of before are lost".into()
        }
    };
    let detail = format!(
        "the catalogue was made again {from}. What it does not know of the past is kept in past/unknown. Rights that were given or taken since are not known: look them over"
    );
    engine.ask(Finding { kind: "rebuilt", node: None, detail }).await?;
    engine.people().note(&actor, "catalogue rebuilt", None, &from, "").await?;
    done.record_key = engine.first_record_key().map(str::to_string);
    Ok(())
}
