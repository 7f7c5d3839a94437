//! What is measured, each against its peer in the same run, several pairs each.

use crate::disk::{Disk, run as command};
use crate::http::{Line, many};
use crate::peers::{Nginx, Service};
use std::io::{Read, Write};
use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};
use yellow_attic_core::Name;
use yellow_attic_core::conditions::Conditions;
use yellow_attic_store::{Actor, Engine, Options};

/// Anything that can go wrong.
pub type Failure = Box<dyn std::error::Error>;

pub const PAIRS: usize = 5;
const GIB: usize = 1 << 30;

/// Runs the cases that are named, or all.
pub fn run(wanted: &[String]) -> Result<(), Failure> {
    let on = |name: &str| wanted.is_empty() || wanted.iter().any(|w| w == name);
    let folder = std::env::temp_dir().join(format!("yattic-bench-{}", std::process::id()));
    std::fs::create_dir_all(&folder)?;
    let disk = Disk::make(&folder)?;
    let outcome = all(&disk.at, &on);
    drop(disk);
    let _ = std::fs::remove_dir_all(&folder);
    outcome
}

fn all(disk: &Path, on: &dyn Fn(&str) -> bool) -> Result<(), Failure> {
    println!("{:<52} {:>9} {:>9} {:>8}  reach", "what", "ours", "peer", "ratio");
    crate::transfers::run(disk, on)?;
    if on("sync") {
        crate::sync::run(disk)?;
    }
    if on("mount") {
        crate::mount::run(disk)?;
    }
    if std::env::args().any(|word| word == "huge") {
        crate::huge::run(disk)?;
    }
    if on("doors") {
        crate::doors::run(disk)?;
    }
    if on("rights") {
        crate::rights::run(disk)?;
    }
    if on("people") {
        crate::people::run(disk)?;
    }
    if on("strangers") {
        crate::strangers::run(disk)?;
    }
    crate::history::run(disk, on)?;
    crate::dav::run(disk, on)?;
    if !["large", "small", "list", "rename", "start", "scale"].iter().any(|n| on(n)) {
        return Ok(());
    }
    let (small, big) = (disk.join("store-10k"), disk.join("store-1m"));
    fill(&small, 10_000)?;
    let nginx = Nginx::start(&disk.join("nginx"))?;
    std::fs::create_dir_all(disk.join("nginx/root"))?;
    let ours = Measured::take(&small, disk, &nginx, on, true)?;
    if ["start", "scale", "rename"].iter().any(|n| on(n)) {
        eprintln!("filling a store with 1,000,000 files");
        fill(&big, 1_000_000)?;
        let large = Measured::take(&big, disk, &nginx, on, false)?;
        ours.compare(&large, "1,000,000", "at least 0.8");
        if on("start") {
            start(disk, &big)?;
        }
    }
    Ok(())
}

/// Fills a store through the engine: folders of 1,000 files, and one of 10,000.
pub fn fill(data: &Path, files: usize) -> Result<(), Failure> {
    drop(Service::start(data)?);
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build()?;
    runtime.block_on(async {
        let engine = Engine::open(Options::new(data)).await?;
        let account = engine.people().account_named("bench").await?.ok_or("no account")?;
        let actor = Actor { account: Some(account.id), ..Actor::service() };
        let home = engine.home_of(account.id).ok_or("no home")?.root;
        let slots = Arc::new(tokio::sync::Semaphore::new(2000));
        let per = 1000;
        for f in 0..files.div_ceil(per) {
            let name = Name::new(&format!("folder-{f:04}"))?;
            let row = engine.files().make_folder(&actor, home, name).await?.row.ok_or("no folder")?;
            for n in 0..per.min(files - f * per) {
                let slot = slots.clone().acquire_owned().await?;
                let (engine, actor, parent) = (engine.clone(), actor.clone(), row.node);
                tokio::spawn(async move {
                    let name = Name::new(&format!("file-{n:04}.txt")).expect("a name");
                    let staged = engine.stage_small(format!("{f} {n}").into_bytes()).expect("room");
                    engine
                        .files()
                        .put(&actor, parent, name, staged, 0, Conditions::default())
                        .await
                        .expect("put");
                    drop(slot);
                });
            }
        }
        let _all = slots.acquire_many(2000).await?;
        engine.settle().await?;
        engine.stop().await;
        Ok::<_, Failure>(())
    })
}

#[derive(Default)]
pub struct Measured {
    figures: Vec<(&'static str, f64)>,
}

/// The one in the middle.
pub fn median(mut list: Vec<f64>) -> f64 {
    list.sort_by(f64::total_cmp);
    list[list.len() / 2]
}

/// Prints one line; `better`: whether the ratio must be at least or at most the reach.
pub fn line(what: &str, ours: f64, peer: f64, unit: &str, ratio: f64, reach: &str) {
    println!("{what:<52} {ours:>6.2} {unit:<4} {peer:>5.2} {unit:<4} {ratio:>6.2} x  {reach}");
}

impl Measured {
    pub fn take(
        data: &Path,
        disk: &Path,
        nginx: &Nginx,
        on: &dyn Fn(&str) -> bool,
        paired: bool,
    ) -> Result<Measured, Failure> {
        let service = Service::start(data)?;
        let mut m = Measured::default();
        if on("large") || on("scale") {
            m.put_large(&service, disk, paired)?;
            m.get_large(&service, nginx, paired)?;
        }
        if on("small") || on("scale") {
            m.put_small(&service, nginx, paired)?;
            m.get_small(&service, nginx, paired)?;
        }
        if on("list") || on("scale") {
            m.list(&service, disk, paired)?;
        }
        if on("rename") {
            rename(&service, paired)?;
        }
        if !paired {
            let (now, most) = service.memory()?;
            println!(
                "{:<52} {:>6.0} MiB {:>25}  at most 200 MiB (highest {:.0} MiB)",
                "memory of the large store's service, after all this",
                now as f64 / 1048576.0,
                "",
                most as f64 / 1048576.0
            );
        }
        service.stop()?;
        Ok(m)
    }

    fn keep(&mut self, name: &'static str, figure: f64) {
        self.figures.push((name, figure));
    }

    /// The same in a large store.
    pub fn compare(&self, large: &Measured, files: &str, reach: &str) {
        for (name, small) in &self.figures {
            if let Some((_, big)) = large.figures.iter().find(|(n, _)| n == name) {
                line(&format!("{name}: {files} files against 10,000"), *big, *small, "", big / small, reach);
            }
        }
    }

    fn put_large(&mut self, service: &Service, disk: &Path, paired: bool) -> Result<(), Failure> {
        let source = disk.join("source.bin");
        if !source.exists() {
            let mut file = std::fs::File::create(&source)?;
            let block: Vec<u8> =
                (0..1 << 20).map(|i: u32| (i.wrapping_mul(2_654_435_761) >> 13) as u8).collect();
            for n in 0..1024u32 {
                let mut block = block.clone();
                block[..4].copy_from_slice(&n.to_le_bytes());
                file.write_all(&block)?;
            }
            file.sync_all()?;
        }
        let (mut ours, mut bare, mut ratios) = (Vec::new(), Vec::new(), Vec::new());
        for n in 0..PAIRS {
            let begun = Instant::now();
            let mut line = Line::open(service.at)?;
            let head = service.head("PUT", &format!("/api/v1/files/home/large-{n}.bin"), GIB);
            line.stream().write_all(head.as_bytes())?;
            let mut file = std::fs::File::open(&source)?;
            let mut block = vec![0; 1 << 20];
            loop {
                let got = file.read(&mut block)?;
                if got == 0 {
                    break;
                }
                line.stream().write_all(&block[..got])?;
            }
            let (status, body) = line.answer(true)?;
            if status != 201 {
                return Err(format!("PUT: {status} {}", String::from_utf8_lossy(&body)).into());
            }
            let us = begun.elapsed();
            ours.push(1.0 / us.as_secs_f64());
            if paired {
                let them = bare_copy(&source, &disk.join(format!("bare-{n}")))?;
                bare.push(1.0 / them.as_secs_f64());
                ratios.push(them.as_secs_f64() / us.as_secs_f64());
            }
            // The same room for every run.
            service
                .json(
                    "DELETE",
                    &format!("/api/v1/nodes/{}", serde_json::from_slice::<serde_json::Value>(&body)?["id"]),
                    "",
                )
                .ok();
        }
        self.keep("1 GiB by PUT", median(ours.clone()));
        if paired {
            line(
                "1 GiB by PUT, durable; against read, hash, write, sync",
                median(ours),
                median(bare),
                "GiB/s",
                median(ratios),
                "at least 0.75",
            );
        }
        Ok(())
    }

    fn get_large(&mut self, service: &Service, nginx: &Nginx, paired: bool) -> Result<(), Failure> {
        let source = nginx.root.join("large.bin");
        let disk = nginx.root.parent().and_then(Path::parent).ok_or("no folder")?;
        if !source.exists() {
            std::fs::copy(disk.join("source.bin"), &source)?;
        }
        let bytes = std::fs::read(&source)?;
        let mut line_in = Line::open(service.at)?;
        let head = service.head("PUT", "/api/v1/files/home/kept.bin", bytes.len());
        line_in.ask(&head, &bytes, false)?;
        drop(bytes);
        let fetch = |at, head: String| -> Result<Duration, Failure> {
            let mut line = Line::open(at)?;
            let begun = Instant::now();
            let (status, _) = line.ask(&head, b"", false)?;
            if status != 200 {
                return Err(format!("GET: {status}").into());
            }
            Ok(begun.elapsed())
        };
        let (mut ours, mut theirs, mut ratios) = (Vec::new(), Vec::new(), Vec::new());
        for _ in 0..PAIRS {
            let us = fetch(service.at, service.head("GET", "/api/v1/files/home/kept.bin", 0))?;
            ours.push(1.0 / us.as_secs_f64());
            if paired {
                let them = fetch(nginx.at, Nginx::head("GET", "/large.bin", 0))?;
                theirs.push(1.0 / them.as_secs_f64());
                ratios.push(them.as_secs_f64() / us.as_secs_f64());
            }
        }
        self.keep("1 GiB by GET", median(ours.clone()));
        if paired {
            line(
                "1 GiB by GET, signed in; against a static server",
                median(ours),
                median(theirs),
                "GiB/s",
                median(ratios),
                "at least 0.8",
            );
        }
        Ok(())
    }

    fn put_small(&mut self, service: &Service, nginx: &Nginx, paired: bool) -> Result<(), Failure> {
        let body = |n: usize| {
            let mut body = vec![b'.'; 8192];
            body[..8].copy_from_slice(&(n as u64).to_le_bytes());
            body
        };
        let (mut ours, mut theirs, mut ratios) = (Vec::new(), Vec::new(), Vec::new());
        for run in 0..PAIRS {
            let folder = format!("small-{run}");
            let home = service.json("GET", "/api/v1/place?path=home:/", "")?["node"]["id"].to_string();
            service.json(
                "POST",
                &format!("/api/v1/nodes/{home}/folders"),
                &format!(r#"{{"name":"{folder}"}}"#),
            )?;
            let us = many(service.at, 16, 5000, &|n| {
                (service.head("PUT", &format!("/api/v1/files/home/{folder}/f{n}"), 8192), body(n))
            })?;
            ours.push(us);
            if paired {
                std::fs::create_dir_all(nginx.root.join(&folder))?;
                let them = many(nginx.at, 16, 5000, &|n| {
                    (Nginx::head("PUT", &format!("/{folder}/f{n}"), 8192), body(n))
                })?;
                theirs.push(them);
                ratios.push(us / them);
            }
        }
        self.keep("8 KiB by PUT", median(ours.clone()) / 1000.0);
        if paired {
            line(
                "8 KiB by PUT, durable; against DAV without any sync",
                median(ours) / 1000.0,
                median(theirs) / 1000.0,
                "k/s",
                median(ratios),
                "at least 0.35",
            );
        }
        Ok(())
    }

    fn get_small(&mut self, service: &Service, nginx: &Nginx, paired: bool) -> Result<(), Failure> {
        let (mut ours, mut theirs, mut ratios) = (Vec::new(), Vec::new(), Vec::new());
        for _ in 0..PAIRS {
            let us = many(service.at, 32, 40_000, &|n| {
                (
                    service.head("GET", &format!("/api/v1/files/home/small-0/f{}", (n * 7919) % 5000), 0),
                    Vec::new(),
                )
            })?;
            ours.push(us);
            if paired {
                let them = many(nginx.at, 32, 40_000, &|n| {
                    (Nginx::head("GET", &format!("/small-0/f{}", (n * 7919) % 5000), 0), Vec::new())
                })?;
                theirs.push(them);
                ratios.push(us / them);
            }
        }
        self.keep("8 KiB by GET", median(ours.clone()) / 1000.0);
        if paired {
            line(
                "8 KiB by GET, signed in; against a static server",
                median(ours) / 1000.0,
                median(theirs) / 1000.0,
                "k/s",
                median(ratios),
                "at least 0.42",
            );
        }
        Ok(())
    }

    fn list(&mut self, service: &Service, disk: &Path, paired: bool) -> Result<(), Failure> {
        let home = service.json("GET", "/api/v1/place?path=home:/", "")?["node"]["id"].to_string();
        let made =
            service.json("POST", &format!("/api/v1/nodes/{home}/folders"), r#"{"name":"ten-thousand"}"#)?;
        let node = made["id"].to_string();
        many(service.at, 16, 10_000, &|n| {
            (service.head("PUT", &format!("/api/v1/nodes/{node}/files/entry-{n}.txt"), 8), vec![b'x'; 8])
        })?;
        let plain = disk.join("plain");
        if !plain.exists() {
            std::fs::create_dir_all(&plain)?;
            for n in 0..10_000 {
                std::fs::write(plain.join(format!("entry-{n}.txt")), b"xxxxxxxx")?;
            }
        }
        let (mut ours, mut theirs, mut ratios) = (Vec::new(), Vec::new(), Vec::new());
        for _ in 0..PAIRS * 2 {
            let begun = Instant::now();
            let mut line = Line::open(service.at)?;
            let (mut cursor, mut seen) = (String::new(), 0);
            loop {
                let path = format!("/api/v1/nodes/{node}/entries?limit=1000{cursor}");
                let (_, body) = line.ask(&service.head("GET", &path, 0), b"", true)?;
                // Count without decoding: the peer's output is not decoded either.
                seen += body.windows(5).filter(|w| w == b"\"id\":").count();
                let tail = String::from_utf8_lossy(&body[body.len().saturating_sub(400)..]).into_owned();
                match tail.split_once("\"next\":\"") {
                    Some((_, next)) => cursor = format!("&cursor={}", next.trim_end_matches(['"', '}'])),
                    None => break,
                }
            }
            let us = begun.elapsed();
            if seen != 10_000 {
                return Err(format!("{seen} entries were listed").into());
            }
            ours.push(us.as_secs_f64() * 1000.0);
            if paired {
                let begun = Instant::now();
                command("ls", &["-l", &plain.display().to_string()])?;
                let them = begun.elapsed();
                theirs.push(them.as_secs_f64() * 1000.0);
                ratios.push(us.as_secs_f64() / them.as_secs_f64());
            }
        }
        self.keep("lists of 10,000 a second", 1000.0 / median(ours.clone()));
        if paired {
            line(
                "listing 10,000 entries, all pages; against ls -l",
                median(ours),
                median(theirs),
                "ms",
                median(ratios),
                "at most 1.5",
            );
        }
        Ok(())
    }
}

/// Reads, hashes, writes, syncs: what cannot be left out.
fn bare_copy(from: &Path, to: &Path) -> Result<Duration, Failure> {
    let begun = Instant::now();
    let mut from = std::fs::File::open(from)?;
    let mut out = std::fs::File::create(to)?;
    let mut hasher = blake3::Hasher::new();
    let mut block = vec![0; 1 << 20];
    loop {
        let n = from.read(&mut block)?;
        if n == 0 {
            break;
        }
        hasher.update(&block[..n]);
        out.write_all(&block[..n])?;
    }
    out.sync_all()?;
    std::fs::File::open(to.parent().ok_or("no folder")?)?.sync_all()?;
    let took = begun.elapsed();
    std::hint::black_box(hasher.finalize());
    std::fs::remove_file(to)?;
    Ok(took)
}

fn rename(service: &Service, small: bool) -> Result<(), Failure> {
    if small {
        return Ok(());
    }
    let home = service.json("GET", "/api/v1/place?path=home:/", "")?["node"]["id"].to_string();
    let top = service.json("POST", &format!("/api/v1/nodes/{home}/folders"), r#"{"name":"hundred"}"#)?;
    // A folder of 100,000 files: a hundred of the thousands.
    for f in 0..100 {
        let place = service.json("GET", &format!("/api/v1/place?path=home:/folder-{f:04}"), "")?;
        service.json(
            "PATCH",
            &format!("/api/v1/nodes/{}", place["node"]["id"]),
            &format!(r#"{{"parent":{}}}"#, top["id"]),
        )?;
    }
    let file = service.json("GET", "/api/v1/place?path=home:/folder-0500/file-0001.txt", "")?;
    let mut ratios = Vec::new();
    let (mut ours, mut theirs) = (Vec::new(), Vec::new());
    for n in 0..PAIRS * 10 {
        let timed = |node: &serde_json::Value, name: String| -> Result<f64, Failure> {
            let begun = Instant::now();
            service.json("PATCH", &format!("/api/v1/nodes/{node}"), &format!(r#"{{"name":"{name}"}}"#))?;
            Ok(begun.elapsed().as_secs_f64() * 1000.0)
        };
        let folder = timed(&top["id"], format!("hundred-{n}"))?;
        let one = timed(&file["node"]["id"], format!("one-{n}.txt"))?;
        ours.push(folder);
        theirs.push(one);
        ratios.push(folder / one);
    }
    line(
        "renaming a folder of 100,000 files; against one file",
        median(ours),
        median(theirs),
        "ms",
        median(ratios),
        "at most 1.5",
    );
    Ok(())
}

fn start(disk: &Path, big: &Path) -> Result<(), Failure> {
    let (mut large, mut empty) = (Vec::new(), Vec::new());
    for n in 0..PAIRS {
        let fresh = disk.join(format!("empty-{n}"));
        let service = Service::start(&fresh)?;
        empty.push(service.started_in.as_secs_f64());
        service.stop()?;
        let service = Service::start(big)?;
        large.push(service.started_in.as_secs_f64());
        service.stop()?;
    }
    let (large, empty) = (median(large), median(empty));
    line(
        "start on 1,000,000 files; against an empty store",
        large,
        empty,
        "s",
        large / empty,
        "at most 0.5 s more",
    );
    Ok(())
}
