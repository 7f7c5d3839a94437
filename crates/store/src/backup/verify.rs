//! What a backup holds: whether it is sound, single files out of it, and letting runs go.

use crate::backup::target::{Target, failed, place, run_of, sum_of};
use crate::backup::{About, Progress, catalogue_copy};
use crate::files::packs::check_packs;
use crate::fs::disk::{hex, unhex};
use crate::fs::error::{Result, StoreError};
use async_recursion::async_recursion as boxed;
use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::fs::{self, File};
use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// What a look at a whole backup folder found.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Verified {
    /// Runs.
    pub runs: u64,
    /// Contents that were hashed.
    pub contents: u64,
    /// Bytes that were read.
    pub bytes: u64,
    /// What is not as it was written, or not there.
    pub damaged: Vec<String>,
}

/// Reads everything that a backup folder holds, and says what is not as it was written.
#[boxed]
pub async fn verify(path: &Path, progress: Arc<Progress>) -> Result<Verified> {
    let path = path.to_path_buf();
    let runtime = tokio::runtime::Handle::current();
    let verified = tokio::task::spawn_blocking(move || {
        let target = Target::existing(&path)?;
        let mut found = Verified::default();
        let runs = target.runs()?;
        found.runs = runs.len() as u64;
        let mut named: HashSet<[u8; 32]> = HashSet::new();
        for (name, about) in &runs {
            let run = target.path().join("runs").join(name);
            progress.begin("looking at runs", 0);
            for (file, sum) in &about.sums {
                match sum_of(&run.join(file)) {
                    Ok(its) if its == *sum => {}
                    Ok(_) => found.damaged.push(format!("runs/{name}/{file}")),
                    Err(_) => found.damaged.push(format!("runs/{name}/{file}: it is not there")),
                }
            }
            for list in ["files.txt", "past.txt"] {
                each_line(&run.join(list), |line| {
                    named.extend(line.hash);
                    Ok(())
                })?;
            }
        }
        progress.begin("hashing contents", named.len() as u64);
        for hash in &named {
            progress.goes_on()?;
            let at = target.place_of(hash);
            match sum_of(&at) {
                Ok(sum) if sum == hex(hash) => {
                    let bytes = fs::metadata(&at).map_or(0, |m| m.len());
                    found.contents += 1;
                    found.bytes += bytes;
                    progress.one(bytes);
                }
                Ok(_) => found.damaged.push(place(hash)),
                Err(_) => found.damaged.push(format!("{}: it is not there", place(hash))),
            }
        }
        // The newest run knows most of the chunks; an older one those that it needs.
        let mut packs: BTreeMap<String, u64> = BTreeMap::new();
        for (name, about) in &runs {
            progress.goes_on()?;
            let wanted: Vec<&String> = about.packs.keys().filter(|pack| !packs.contains_key(*pack)).collect();
            if !wanted.is_empty() {
                let chunks = runtime.block_on(chunks_of(target.path(), name))?;
                let chunks: Vec<_> = chunks
                    .into_iter()
                    .filter(|chunk| wanted.contains(&&crate::files::packs::pack_name(chunk.1)))
                    .collect();
                let open = |pack: &str| File::open(target.path().join("packs").join(pack));
                let looked = check_packs(&open, &chunks, &mut |_| ());
                found.bytes += looked.bytes;
                found.damaged.extend(looked.damaged);
            }
            packs.extend(about.packs.clone());
        }
        found.damaged.sort();
        found.damaged.dedup();
        Ok(found)
    });
    verified.await.map_err(|_| StoreError::Stopping)?
}

type ChunkRow = (Vec<u8>, i64, i64, i64, i64);

/// The chunks that a run's catalogue knows.
async fn chunks_of(path: &Path, run: &str) -> Result<Vec<ChunkRow>> {
    let folder = tempfile_in(&path.join("incoming"))?;
    let catalogue = folder.join("catalogue.db");
    let from = path.join("runs").join(run).join("catalogue.db.zst");
    let unpack = || zstd::stream::copy_decode(File::open(&from)?, File::create(&catalogue)?);
    unpack().map_err(|e| failed(&from, &e))?;
    let mut conn = catalogue_copy::open(&catalogue).await?;
    let chunks = sqlx::query_as("SELECT hash, pack, at, stored, size FROM chunks ORDER BY pack, at")
        .fetch_all(&mut conn)
        .await;
    sqlx::Connection::close(conn).await?;
    fs::remove_dir_all(&folder).map_err(|e| failed(&folder, &e))?;
    Ok(chunks?)
}

fn tempfile_in(incoming: &Path) -> Result<PathBuf> {
    let folder = incoming.join("looking");
    if folder.exists() {
        fs::remove_dir_all(&folder).map_err(|e| failed(&folder, &e))?;
    }
    fs::create_dir_all(&folder).map_err(|e| failed(&folder, &e))?;
    Ok(folder)
}

/// A line of `files.txt` or `past.txt`.
struct Line<'l> {
    /// None: its bytes are not here as a file.
    hash: Option<[u8; 32]>,
    bytes: u64,
    modified: &'l str,
    path: &'l str,
}

fn each_line(list: &Path, mut does: impl FnMut(&Line<'_>) -> Result<()>) -> Result<()> {
    let mut lines = BufReader::new(File::open(list).map_err(|e| failed(list, &e))?);
    let mut text = String::new();
    loop {
        text.clear();
        if lines.read_line(&mut text).map_err(|e| failed(list, &e))? == 0 {
            return Ok(());
        }
        if text.starts_with('#') {
            continue;
        }
        let parts: Vec<&str> = text.trim_end_matches('\n').split('\t').collect();
        let [place, bytes, modified, .., path] = parts[..] else {
            return Err(StoreError::BadInput(format!("{} has a line that cannot be read", list.display())));
        };
        does(&Line {
            hash: place.rsplit_once('/').and_then(|(_, hash)| unhex(hash)),
            bytes: bytes.parse().unwrap_or(0),
            modified,
            path,
        })?;
    }
}

/// What was taken out of a backup.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct TakenOut {
    /// Files beneath the path.
    pub given: u64,
    /// Written.
    pub done: u64,
    /// Their bytes.
    pub bytes: u64,
    /// There already, with the same bytes.
    pub skipped: u64,
    /// Not written, each with why.
    pub failed: Vec<String>,
}

/// Copies a file, or all files beneath a folder, out of a run into an ordinary folder. Nothing that is there is replaced.
pub fn take_out(
    from: &Path,
    run: Option<&str>,
    path: &str,
    into: &Path,
    progress: &Progress,
) -> Result<TakenOut> {
    let (name, about) = run_of(from, run)?;
    let list = from.join("runs").join(&name).join("files.txt");
    if about.sums.get("files.txt") != Some(&sum_of(&list)?) {
        return Err(StoreError::BadInput(format!("{} is not as it was written", list.display())));
    }
    let wanted = path.trim_matches('/');
    let (above, _) = wanted.rsplit_once('/').unwrap_or(("", wanted));
    let mut out = TakenOut::default();
    progress.begin("taking files out", 0);
    each_line(&list, |line| {
        let beneath = line.path == wanted
            || wanted.is_empty()
            || line.path.strip_prefix(wanted).is_some_and(|rest| rest.starts_with('/'));
        if !beneath {
            return Ok(());
        }
        progress.goes_on()?;
        out.given += 1;
        let to = into.join(line.path[above.len()..].trim_start_matches('/'));
        let Some(hash) = line.hash else {
            out.failed.push(format!("{}: the backup does not have it", line.path));
            return Ok(());
        };
        if to.exists() {
            match sum_of(&to)? == hex(&hash) {
                true => out.skipped += 1,
                false => out.failed.push(format!("{}: something else is there already", to.display())),
            }
            return Ok(());
        }
        match copy_out(&from.join(place(&hash)), &to, &hash, line.modified) {
            Ok(()) => {
                out.done += 1;
                out.bytes += line.bytes;
                progress.one(line.bytes);
            }
            Err(e) => out.failed.push(format!("{}: {e}", line.path)),
        }
        Ok(())
    })?;
    match out.given {
        0 => Err(StoreError::NotFound(format!("{wanted} in the run {name}"))),
        _ => Ok(out),
    }
}

fn copy_out(from: &Path, to: &Path, hash: &[u8; 32], modified: &str) -> std::io::Result<()> {
    if let Some(dir) = to.parent() {
        fs::create_dir_all(dir)?;
    }
    let mut new = to.as_os_str().to_owned();
    new.push(".part");
    let new = PathBuf::from(new);
    let copied = (|| {
        let mut file = File::create_new(&new)?;
        let mut hasher = blake3::Hasher::new();
        hasher.update_reader(File::open(from)?)?;
        if hasher.finalize().as_bytes() != hash {
            return Err(std::io::Error::other("its bytes in the backup are damaged"));
        }
        std::io::copy(&mut File::open(from)?, &mut file)?;
        if let Ok(at) = modified.parse::<jiff::Timestamp>() {
            crate::fs::disk::set_mtime(&file, at.as_millisecond())?;
        }
        file.sync_data()?;
        rustix::fs::renameat_with(
            rustix::fs::CWD,
            &new,
            rustix::fs::CWD,
            to,
            rustix::fs::RenameFlags::NOREPLACE,
        )?;
        Ok(())
    })();
    if copied.is_err() {
        let _ = fs::remove_file(&new);
    }
    copied
}

/// How long runs are kept.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Keep {
    /// All of the last so many days.
    pub days: i64,
    /// And the last of each of so many months.
    pub months: i64,
}

/// What letting runs go did.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct LetGo {
    /// Runs that went, or would.
    pub runs: Vec<String>,
    /// Runs that stay.
    pub stay: u64,
    /// Contents and packs that no run names any more.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
}

/// Which runs stay: the newest always does.
fn stays(runs: &[(String, About)], keep: Keep, now_ms: i64) -> BTreeSet<String> {
    let mut months = BTreeSet::new();
    let mut stay = BTreeSet::new();
    for (i, (name, about)) in runs.iter().enumerate() {
        let at = jiff::Timestamp::from_millisecond(about.ended_at).unwrap_or_default();
        let day = at.to_zoned(jiff::tz::TimeZone::UTC);
        let is_new = about.ended_at > now_ms - keep.days * 86_400_000;
        let first_of_month =
            months.len() < keep.months.max(0) as usize && months.insert((day.year(), day.month()));
        if i == 0 || is_new || first_of_month {
            stay.insert(name.clone());
        }
    }
    stay
}

/// Lets runs go that are not to be kept, and with them what no other run names. Without `really` it is only told.
pub fn let_go(path: &Path, keep: Keep, now_ms: i64, really: bool, progress: &Progress) -> Result<LetGo> {
    let target = Target::existing(path)?;
    let runs = target.runs()?;
    let stay = stays(&runs, keep, now_ms);
    let mut done = LetGo { stay: stay.len() as u64, ..LetGo::default() };
    progress.begin("looking at what stays", runs.len() as u64);
    let (mut contents, mut packs) = (HashSet::new(), HashSet::new());
    for (name, about) in &runs {
        if !stay.contains(name) {
            done.runs.push(name.clone());
            continue;
        }
        packs.extend(about.packs.keys().cloned());
        for list in ["files.txt", "past.txt"] {
            each_line(&target.path().join("runs").join(name).join(list), |line| {
                contents.extend(line.hash);
                Ok(())
            })?;
        }
        progress.one(0);
    }
    if done.runs.is_empty() {
        return Ok(done);
    }
    if really {
        for name in &done.runs {
            let run = target.path().join("runs").join(name);
            // A run without it is none: what a stop leaves of the others goes when the next run begins.
            let about = run.join("about.json");
            fs::remove_file(&about).map_err(|e| failed(&about, &e))?;
        }
        target.sync()?;
        for name in &done.runs {
            let run = target.path().join("runs").join(name);
            fs::remove_dir_all(&run).map_err(|e| failed(&run, &e))?;
        }
    }
    progress.begin("letting go", 0);
    let mut drop_file = |at: &Path| -> Result<()> {
        progress.goes_on()?;
        done.files += 1;
        done.bytes += fs::metadata(at).map_or(0, |m| m.len());
        match really {
            true => fs::remove_file(at).map_err(|e| failed(at, &e)),
            false => Ok(()),
        }
    };
    for shard in super::target::names(&target.path().join("contents"))? {
        let dir = target.path().join("contents").join(&shard);
        for name in super::target::names(&dir)? {
            if unhex(&name).is_some_and(|hash| !contents.contains(&hash)) {
                drop_file(&dir.join(&name))?;
            }
        }
    }
    let dir = target.path().join("packs");
    for name in super::target::names(&dir)? {
        if !packs.contains(&name) {
            drop_file(&dir.join(&name))?;
        }
    }
    Ok(done)
}

/// What a drill found.
#[derive(Clone, Debug, Default, PartialEq, Eq, serde::Serialize)]
pub struct Drilled {
    /// Files that were brought back and hashed.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// What could not be brought back. Empty if all went well.
    pub failed: Vec<String>,
}

/// Tries the way back on a small scale: the catalogue is unpacked and looked over, and a sample of files, chosen anew each time, is
/// brought back into a scratch folder and hashed.
#[boxed]
pub async fn drill(path: &Path, run: &str, scratch: &Path, most: usize) -> Result<Drilled> {
    let (path, run, scratch) = (path.to_path_buf(), run.to_string(), scratch.to_path_buf());
    let runtime = tokio::runtime::Handle::current();
    let drilled = tokio::task::spawn_blocking(move || {
        let (name, about) = run_of(&path, Some(&run))?;
        let folder = path.join("runs").join(&name);
        let mut found = Drilled::default();
        for (file, sum) in &about.sums {
            if sum_of(&folder.join(file))? != *sum {
                found.failed.push(format!("{file} is not as it was written"));
            }
        }
        if scratch.exists() {
            fs::remove_dir_all(&scratch).map_err(|e| failed(&scratch, &e))?;
        }
        fs::create_dir_all(&scratch).map_err(|e| failed(&scratch, &e))?;
        let catalogue = scratch.join("catalogue.db");
        let packed = folder.join("catalogue.db.zst");
        let unpack = || zstd::stream::copy_decode(File::open(&packed)?, File::create(&catalogue)?);
        unpack().map_err(|e| failed(&packed, &e))?;
        let looked: Result<String> = runtime.block_on(async {
            let mut conn = catalogue_copy::open(&catalogue).await?;
            let said = sqlx::query_scalar("PRAGMA quick_check(1)").fetch_one(&mut conn).await;
            sqlx::Connection::close(conn).await?;
            Ok(said?)
        });
        match looked {
            Ok(said) if said == "ok" => {}
            Ok(said) => found.failed.push(format!("the catalogue is damaged: {said}")),
            Err(e) => found.failed.push(format!("the catalogue: {e}")),
        }
        // Each file has the same chance, however many there are.
        let mut sample: Vec<([u8; 32], u64, String)> = Vec::new();
        let (mut seen, mut seed) = (0u64, [0u8; 8]);
        getrandom::fill(&mut seed).map_err(|e| StoreError::BadInput(e.to_string()))?;
        let mut chance = u64::from_le_bytes(seed);
        each_line(&folder.join("files.txt"), |line| {
            let Some(hash) = line.hash else { return Ok(()) };
            seen += 1;
            chance = chance.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            let at = ((chance >> 16) % seen) as usize;
            let one = (hash, line.bytes, line.path.to_string());
            match sample.len() < most {
                true => sample.push(one),
                false if at < most => sample[at] = one,
                false => {}
            }
            Ok(())
        })?;
        for (n, (hash, bytes, its_path)) in sample.into_iter().enumerate() {
            let to = scratch.join(format!("{n}"));
            match copy_out(&path.join(place(&hash)), &to, &hash, "") {
                Ok(()) => {
                    found.files += 1;
                    found.bytes += bytes;
                }
                Err(e) => found.failed.push(format!("{its_path}: {e}")),
            }
            let _ = fs::remove_file(&to);
        }
        fs::remove_dir_all(&scratch).map_err(|e| failed(&scratch, &e))?;
        Ok(found)
    });
    drilled.await.map_err(|_| StoreError::Stopping)?
}
