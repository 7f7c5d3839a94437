//! What history costs: space of versions, time of putting them, and what runs beside everybody's work.

use crate::cases::{Failure, PAIRS, line, median};
use crate::http::{Line, many};
use crate::peers::Service;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::{Duration, Instant};
use yellow_attic_core::conditions::Conditions;
use yellow_attic_core::rules::{Rule, Rules, Scope};
use yellow_attic_core::{Name, NodeId};
use yellow_attic_store::fs::clock::SetClock;
use yellow_attic_store::timeline::purge::Progress;
use yellow_attic_store::timeline::retention::Reach;
use yellow_attic_store::{Actor, Engine, Options};

const MIB: usize = 1 << 20;
const DAY: i64 = 86_400_000;

/// Runs those that are named.
pub fn run(disk: &Path, on: &dyn Fn(&str) -> bool) -> Result<(), Failure> {
    if on("versions") {
        versions(&disk.join("store-versions"))?;
    }
    if on("past") {
        past(&disk.join("store-past"))?;
    }
    if on("rollback") {
        rollback(&disk.join("store-rollback"))?;
    }
    Ok(())
}

fn runtime() -> Result<tokio::runtime::Runtime, Failure> {
    Ok(tokio::runtime::Builder::new_multi_thread().enable_all().build()?)
}

fn noise(seed: u64, length: usize) -> Vec<u8> {
    let mut bytes = vec![0; length];
    blake3::Hasher::new().update(&seed.to_le_bytes()).finalize_xof().fill(&mut bytes);
    bytes
}

fn figure(what: &str, value: f64, unit: &str, reach: &str) {
    println!("{what:<52} {value:>6.2} {unit:<4} {:>19}  {reach}", "");
}

/// The service's account, and the top of its home.
async fn home(engine: &Engine) -> Result<(Actor, NodeId), Failure> {
    let account = engine.people().account_named("bench").await?.ok_or("no account")?;
    let actor = Actor { account: Some(account.id), ..Actor::service() };
    let home = engine.home_of(account.id).ok_or("no home")?.root;
    Ok((actor, home))
}

async fn put(engine: &Engine, actor: &Actor, to: NodeId, name: &str, bytes: &[u8]) -> Result<(), Failure> {
    let name = Name::new(name)?;
    let staged = match bytes.len() <= 64 * 1024 {
        true => engine.stage_small(bytes.to_vec())?,
        false => {
            let mut arriving = engine.stage(bytes.len() as u64)?;
            bytes.chunks(MIB).try_for_each(|piece| arriving.write(piece))?;
            arriving.finish()?
        }
    };
    engine.files().put(actor, to, name, staged, engine.now_ms(), Conditions::default()).await?;
    Ok(())
}

/// 50 versions of 256 MiB; a new version against one with versions off; catalogue bytes a version.
fn versions(data: &Path) -> Result<(), Failure> {
    drop(Service::start(data)?);
    runtime()?.block_on(async {
        let engine = Engine::open(Options::new(data)).await?;
        let (actor, home) = home(&engine).await?;
        let mut bytes = noise(1, 256 * MIB);
        let mut changed = 0;
        put(&engine, &actor, home, "drawings.bin", &bytes).await?;
        for n in 1..50u64 {
            let at = (n as usize * 48_271 * 4_099) % (bytes.len() - MIB);
            let fresh = noise(100 + n, MIB);
            if n % 5 == 0 {
                // Inserted: everything behind it shifts.
                bytes.splice(at..at, fresh);
            } else {
                bytes[at..at + MIB].copy_from_slice(&fresh);
            }
            changed += MIB;
            put(&engine, &actor, home, "drawings.bin", &bytes).await?;
            engine.settle().await?;
            while engine.is_packing() {
                tokio::time::sleep(Duration::from_millis(20)).await;
            }
        }
        let stored = engine.space().stored().await?;
        let cost = (stored.whole + stored.chunks + stored.overhead) as usize;
        let most = changed * 3 / 2 + 256 * MIB;
        figure(
            "50 versions of 256 MiB, 1 MiB changed each: history",
            cost as f64 / MIB as f64,
            "MiB",
            &format!("at most {} MiB", most / MIB),
        );
        engine.stop().await;
        Ok::<_, Failure>(())
    })?;
    let service = Service::start(data)?;
    let mut bytes = noise(7, 256 * MIB);
    let rule = |service: &Service, value: &str| {
        let body = format!(r#"{{"scope":"service","value":"{value}","preview":false}}"#);
        service.json("PUT", "/api/v1/rules/versions-kept", &body)
    };
    let mut put_once = |n: u64| -> Result<f64, Failure> {
        bytes[n as usize * MIB..(n as usize + 1) * MIB].copy_from_slice(&noise(500 + n, MIB));
        let head = service.head("PUT", "/api/v1/files/home/timed.bin", bytes.len());
        let mut line = Line::open(service.at)?;
        let begun = Instant::now();
        let (status, _) = line.ask(&head, &bytes, false)?;
        let took = begun.elapsed().as_secs_f64();
        if status >= 300 {
            return Err(format!("PUT: {status}").into());
        }
        // What happens after the answer is over before the next is timed.
        std::thread::sleep(Duration::from_millis(2500));
        Ok(took)
    };
    put_once(0)?;
    let (mut with, mut without, mut ratios) = (Vec::new(), Vec::new(), Vec::new());
    for n in 0..PAIRS as u64 {
        rule(&service, "all")?;
        let kept = put_once(1 + 2 * n)?;
        rule(&service, "none")?;
        let plain = put_once(2 + 2 * n)?;
        with.push(kept * 1000.0);
        without.push(plain * 1000.0);
        ratios.push(kept / plain);
    }
    rule(&service, "all")?;
    line(
        "new version of 256 MiB; time against versions off",
        median(with),
        median(without),
        "ms",
        median(ratios),
        "at most 1.1",
    );
    service.stop()?;
    catalogue(data)
}

/// Bytes of the catalogue, without the record and what is only for a while.
fn pages(data: &Path) -> Result<f64, Failure> {
    let text = crate::disk::run(
        "sqlite3",
        &[
            &data.join("catalogue.db").display().to_string(),
            "SELECT sum(pgsize) FROM dbstat WHERE name NOT LIKE 'record%' AND name NOT IN ('marks', 'moments')",
        ],
    )?;
    Ok(text.trim().parse()?)
}

fn catalogue(data: &Path) -> Result<(), Failure> {
    const VERSIONS: usize = 40_000;
    let write = |from: usize, to: usize| -> Result<(), Failure> {
        runtime()?.block_on(async {
            let engine = Engine::open(Options::new(data)).await?;
            let (actor, home) = home(&engine).await?;
            let slots = Arc::new(tokio::sync::Semaphore::new(500));
            for n in from..to {
                let slot = slots.clone().acquire_owned().await?;
                let (engine, actor) = (engine.clone(), actor.clone());
                tokio::spawn(async move {
                    let text = format!("day {n}: wind west, lamp lit at four");
                    let name = format!("small-{:03}.txt", n % 400);
                    put(&engine, &actor, home, &name, text.as_bytes()).await.expect("put");
                    drop(slot);
                });
            }
            let _all = slots.acquire_many(500).await?;
            engine.settle().await?;
            engine.stop().await;
            Ok::<_, Failure>(())
        })
    };
    write(0, 400)?;
    let before = pages(data)?;
    write(400, 400 + VERSIONS)?;
    let after = pages(data)?;
    figure(
        "catalogue for a version of a small file",
        (after - before) / VERSIONS as f64,
        "B",
        "at most 400 (without the record)",
    );
    Ok(())
}

/// Resident memory of this process in MiB, at its highest.
fn highest() -> Result<f64, Failure> {
    let text = std::fs::read_to_string("/proc/self/status")?;
    let line = text.lines().find(|l| l.starts_with("VmHWM")).ok_or("no figure")?;
    Ok(line.split_whitespace().nth(1).ok_or("no figure")?.parse::<f64>()? / 1024.0)
}

/// 1,000,000 past states: a folder as of long ago, and a look at the rules.
fn past(data: &Path) -> Result<(), Failure> {
    drop(Service::start(data)?);
    eprintln!("filling a store with 1,000,000 past states");
    let now = jiff::Timestamp::now().as_millisecond();
    let folder = runtime()?.block_on(async {
        let clock = Arc::new(SetClock::at(now - 100 * DAY));
        let engine = Engine::open(Options { clock: clock.clone(), ..Options::new(data) }).await?;
        let (actor, home) = home(&engine).await?;
        let folder =
            engine.files().make_folder(&actor, home, Name::new("log")?).await?.row.ok_or("no folder")?.node;
        let slots = Arc::new(tokio::sync::Semaphore::new(2000));
        for state in 0..=100i64 {
            clock.set(now - (100 - state) * DAY);
            for n in 0..10_000usize {
                let slot = slots.clone().acquire_owned().await?;
                let (engine, actor) = (engine.clone(), actor.clone());
                tokio::spawn(async move {
                    let name = format!("entry-{n:05}.txt");
                    let text = format!("state {}", (state + n as i64) % 40);
                    put(&engine, &actor, folder, &name, text.as_bytes()).await.expect("put");
                    drop(slot);
                });
            }
            drop(slots.acquire_many(2000).await?);
        }
        engine.settle().await?;
        engine.stop().await;
        Ok::<_, Failure>(folder)
    })?;
    let service = Service::start(data)?;
    // Moments by their tokens: 60 states ago, another one each time, so that nothing of it is known.
    let entry =
        service.json("GET", "/api/v1/place?path=home:/log/entry-00007.txt", "")?["node"]["id"].to_string();
    let history = service.json("GET", &format!("/api/v1/nodes/{entry}/history"), "")?;
    let list = |at: &str| -> Result<f64, Failure> {
        let begun = Instant::now();
        let mut line = Line::open(service.at)?;
        let (mut cursor, mut seen) = (String::new(), 0);
        loop {
            let path = format!("/api/v1/nodes/{folder}/entries?limit=1000{at}{cursor}");
            let (status, body) = line.ask(&service.head("GET", &path, 0), b"", true)?;
            if status != 200 {
                return Err(format!("entries: {}", String::from_utf8_lossy(&body)).into());
            }
            seen += body.windows(5).filter(|w| w == b"\"id\":").count();
            let tail = String::from_utf8_lossy(&body[body.len().saturating_sub(400)..]).into_owned();
            match tail.split_once("\"next\":\"") {
                Some((_, next)) => cursor = format!("&cursor={}", next.trim_end_matches(['"', '}'])),
                None if seen == 10_000 => return Ok(begun.elapsed().as_secs_f64() * 1000.0),
                None => return Err(format!("{seen} entries").into()),
            }
        }
    };
    let (mut ours, mut theirs, mut ratios) = (Vec::new(), Vec::new(), Vec::new());
    for n in 0..PAIRS * 2 {
        let then = history["states"][60 + n]["node"]["moment"].as_str().ok_or("no such state")?;
        let past = list(&format!("&at={then}"))?;
        let present = list("")?;
        ours.push(past);
        theirs.push(present);
        ratios.push(past / present);
    }
    line(
        "10,000 entries as of 60 states ago; time against now",
        median(ours),
        median(theirs),
        "ms",
        median(ratios),
        "at most 2",
    );
    service.stop()?;
    // A process of its own, so that its memory is told by itself.
    let own = std::env::current_exe()?;
    let status = std::process::Command::new(own).args(["look-over", &data.display().to_string()]).status()?;
    if !status.success() {
        return Err("the look at the rules failed".into());
    }
    Ok(())
}

/// One look at the rules over all past states, of which nothing goes.
pub fn look_over(data: &Path) -> Result<(), Failure> {
    runtime()?.block_on(async {
        let engine = Engine::open(Options::new(data)).await?;
        let mut rules = Rules::default();
        for (rule, value) in [(Rule::Versions, "last 200"), (Rule::TrashDays, "3650")] {
            rules = rules.with(Scope::Service, rule, Some(rule.read(value)?))?;
        }
        let begun = Instant::now();
        let gone = engine
            .history()
            .apply_purge(&Actor::service(), &rules, &Reach::All, None, &Progress::default())
            .await?;
        let took = begun.elapsed().as_secs_f64();
        if gone.states > 0 {
            return Err(format!("{} states went", gone.states).into());
        }
        figure("look at 1,000,000 past states, nothing goes", took, "s", "under 5 s");
        figure("memory of it, the engine's included", highest()?, "MiB", "under 200 MiB");
        engine.stop().await;
        Ok::<_, Failure>(())
    })
}

/// A folder of 100,000 files that were all rewritten: looked at, rolled back and let go beside others' work.
fn rollback(data: &Path) -> Result<(), Failure> {
    const FILES: usize = 100_000;
    drop(Service::start(data)?);
    eprintln!("filling a folder with 100,000 files, twice");
    let now = jiff::Timestamp::now().as_millisecond();
    let (folder, to) = runtime()?.block_on(async {
        let clock = Arc::new(SetClock::at(now - 2 * DAY));
        let engine = Engine::open(Options { clock: clock.clone(), ..Options::new(data) }).await?;
        let (actor, home) = home(&engine).await?;
        let folder =
            engine.files().make_folder(&actor, home, Name::new("log")?).await?.row.ok_or("no folder")?.node;
        let slots = Arc::new(tokio::sync::Semaphore::new(2000));
        let mut between = None;
        for state in 0..2i64 {
            clock.set(now - (2 - state) * DAY);
            for n in 0..FILES {
                let slot = slots.clone().acquire_owned().await?;
                let (engine, actor) = (engine.clone(), actor.clone());
                tokio::spawn(async move {
                    let text = format!("state {state} of {n}");
                    put(&engine, &actor, folder, &format!("f{n:06}"), text.as_bytes()).await.expect("put");
                    drop(slot);
                });
            }
            drop(slots.acquire_many(2000).await?);
            between = between.or(Some(engine.history().now_moment().await?.token()));
        }
        engine.settle().await?;
        engine.stop().await;
        Ok::<_, Failure>((folder, between.ok_or("nothing was filled")?))
    })?;
    let service = Service::start(data)?;
    let mut times = Vec::new();
    for _ in 0..3 {
        let begun = Instant::now();
        let seen = service.json("GET", &format!("/api/v1/nodes/{folder}/rollback?to={to}"), "")?;
        times.push(begun.elapsed().as_secs_f64());
        if seen["changes"] != FILES {
            return Err(format!("the preview changes {}", seen["changes"]).into());
        }
    }
    figure("preview of a rollback of 100,000 files", median(times), "s", "under 2 s");
    let home = service.json("GET", "/api/v1/place?path=home:/", "")?["node"]["id"].to_string();
    let run = AtomicUsize::new(0);
    let others = || -> Result<f64, Failure> {
        let name = format!("others-{}", run.fetch_add(1, Ordering::Relaxed));
        let made = service.json(
            "POST",
            &format!("/api/v1/nodes/{home}/folders"),
            &format!(r#"{{"name":"{name}"}}"#),
        )?;
        let node = made["id"].to_string();
        many(service.at, 16, 3000, &|n| {
            (service.head("PUT", &format!("/api/v1/nodes/{node}/files/f{n}"), 8192), vec![n as u8; 8192])
        })
    };
    others()?;
    // Alone, beside it, and alone again: the disk does not stay the same for ever.
    let beside =
        |what: &str, begin: &dyn Fn() -> Result<(), Failure>, runs: &dyn Fn() -> Result<bool, Failure>| {
            let before = others()?;
            begin()?;
            let mut during = Vec::new();
            while during.len() < 5 && runs()? {
                during.push(others()?);
            }
            let whole = runs()?;
            while runs()? {
                std::thread::sleep(Duration::from_millis(100));
            }
            let after = others()?;
            if during.is_empty() {
                return Err::<(), Failure>(format!("{what} was over too soon").into());
            }
            if !whole {
                // The last one ran beside nothing for a part.
                during.pop();
            }
            let (us, alone) = (median(during), (before + after) / 2.0);
            line(what, us / 1000.0, alone / 1000.0, "k/s", us / alone, "at least 0.7");
            Ok(())
        };
    let id = std::cell::Cell::new(0);
    beside(
        "others' puts beside a rollback of 100,000 files",
        &|| {
            let begun = service.json(
                "POST",
                &format!("/api/v1/nodes/{folder}/rollback"),
                &format!(r#"{{"to":"{to}"}}"#),
            )?;
            id.set(begun["id"].as_i64().ok_or("no rollback")?);
            Ok(())
        },
        &|| Ok(service.json("GET", &format!("/api/v1/rollbacks/{}", id.get()), "")?["state"] == "running"),
    )?;
    let ended = Arc::new(AtomicBool::new(false));
    beside(
        "others' puts beside letting 100,000 states go",
        &|| {
            service.json(
                "PUT",
                "/api/v1/rules/versions-kept",
                r#"{"scope":"service","value":"none","preview":false}"#,
            )?;
            let (at, token, ended) = (service.at, service.token.clone(), ended.clone());
            std::thread::spawn(move || {
                let body = r#"{"by_rules":true}"#;
                let head = format!(
                    "POST /api/v1/past/let-go HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer {token}\r\nContent-Type: application/json\r\nContent-Length: {}\r\n\r\n",
                    body.len()
                );
                let done = Line::open(at).and_then(|mut l| l.ask(&head, body.as_bytes(), true));
                if !done.is_ok_and(|(status, _)| status == 200) {
                    eprintln!("letting go failed");
                }
                ended.store(true, Ordering::SeqCst);
            });
            Ok(())
        },
        &|| Ok(!ended.load(Ordering::SeqCst)),
    )?;
    service.stop()
}
