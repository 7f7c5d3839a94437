//! `yattic sync run`

use super::pairs;
use crate::connection;
use crate::output::{Done, Failure, Output};
use std::fs::File;
use std::io::{Read, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::signal::unix::{SignalKind, signal};
use tokio::sync::watch;
use yellow_attic_client::{Client, api};
use yellow_attic_core::merge::Way;
use yellow_attic_sync::pairs::limits::{self, Paces};
use yellow_attic_sync::pairs::run::{Orders, Running};
use yellow_attic_sync::pairs::state::About;
use yellow_attic_sync::pairs::status::Status;

/// The service is told of changes so often.
const TELL: Duration = Duration::from_secs(10);
/// And once in so long that all is as it was.
const TELL_AGAIN: Duration = Duration::from_secs(3600);

/// Only one process works on the pairs.
pub(super) fn lock(folder: &Path) -> Result<File, Failure> {
    let file = File::options().create(true).truncate(false).write(true).open(folder.join("lock"))?;
    file.try_lock().map_err(|_| {
        Failure::failed("yattic sync run is at work already", "Stop that one first, or leave it to it.")
            .coded("at_work")
    })?;
    // Whoever was named here before is not at work any more.
    file.set_len(0)?;
    Ok(file)
}

/// Whoever works on the pairs reads anew what they are to do. Whether somebody does.
pub(super) fn nudge(folder: &Path) -> Result<bool, Failure> {
    let mut file = match File::open(folder.join("lock")) {
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(false),
        other => other?,
    };
    if file.try_lock_shared().is_ok() {
        return Ok(false);
    }
    let mut text = String::new();
    file.read_to_string(&mut text)?;
    let process = text.trim().parse().ok().and_then(rustix::process::Pid::from_raw);
    Ok(process
        .is_some_and(|process| rustix::process::kill_process(process, rustix::process::Signal::USR1).is_ok()))
}

/// Hears that it is to stop, or to read anew what is to be done.
fn orders() -> std::io::Result<Orders> {
    let (stop, stopped) = watch::channel(false);
    let (nudge, nudged) = watch::channel(0);
    let (mut terminate, mut nudges) =
        (signal(SignalKind::terminate())?, signal(SignalKind::user_defined1())?);
    tokio::spawn(async move {
        loop {
            tokio::select! {
                _ = tokio::signal::ctrl_c() => break,
                _ = terminate.recv() => break,
                _ = nudges.recv() => nudge.send_modify(|n| *n += 1),
            }
        }
        let _ = stop.send(true);
        // Kept until the end: a channel without a sender is none to wait on.
        std::future::pending::<()>().await;
        drop((stop, nudge));
    });
    Ok(Orders { stop: stopped, nudged })
}

pub(super) async fn run(folder: &Path, once: bool, output: Output) -> Done {
    let mut lock = lock(folder)?;
    let connected = connection::load()?;
    let pairs = pairs(folder).await?;
    if pairs.is_empty() {
        return Err(Failure::failed("there is no pair", "Make one: yattic sync add ~/Museum home:/"));
    }
    let orders = orders()?;
    // Named only now: whoever is nudged must hear it.
    lock.write_all(std::process::id().to_string().as_bytes())?;
    let paces = Arc::new(Paces::default());
    paces.set(&limits::read(folder)?);
    let all = pairs.clone();
    let _telling = (!once)
        .then(|| Ended(tokio::spawn(tell(folder.to_path_buf(), connection::client().ok(), all.clone()))));
    let mut running = tokio::task::JoinSet::new();
    let mut failed = Vec::new();
    for pair in pairs {
        if pair.service != connected.address {
            failed.push(format!(
                "{}: this pair is of {}, and this computer is connected to {}",
                pair.local.display(),
                pair.service,
                connected.address
            ));
            continue;
        }
        let (folder, orders, paces) = (folder.to_path_buf(), orders.clone(), paces.clone());
        let client = connection::client()?;
        running.spawn(async move {
            let local = pair.local.display().to_string();
            let opened = Running::open(&folder, &pair.id, client, paces).await;
            let done = match opened {
                Ok(running) => running.run(orders, once).await,
                Err(e) => Err(e),
            };
            done.map_err(|e| (local, e.to_string()))
        });
    }
    let mut done = Vec::new();
    while let Some(ended) = running.join_next().await {
        match ended {
            Ok(Ok(status)) => done.push(status),
            Ok(Err((local, why))) => failed.push(format!("{local}: {why}")),
            Err(e) => failed.push(e.to_string()),
        }
    }
    if once && let Ok(client) = connection::client() {
        let _ = client.report(&report(folder, &all)).await;
    }
    if !output.object(&done)? {
        for status in &done {
            let out = match status.out {
                0 => String::new(),
                n => format!("; {n} left out as it was told"),
            };
            let left = match status.left.len() {
                0 => out,
                n => format!("{out}; {n} left alone, yattic sync status says why"),
            };
            output.say(format!("{}: {} the same{left}", status.local, status.same));
        }
    }
    match failed.is_empty() {
        true => Ok(()),
        false => {
            failed.iter().for_each(|why| eprintln!("yattic: {why}"));
            Err(Failure::partly(format!("{} of your pairs did not run", failed.len())))
        }
    }
}

/// Ends with whatever holds it.
struct Ended(tokio::task::JoinHandle<()>);

impl Drop for Ended {
    fn drop(&mut self) {
        self.0.abort();
    }
}

/// What this computer says of its pairs.
fn report(folder: &Path, pairs: &[About]) -> api::DeviceReport {
    let told = pairs.iter().take(100).map(|pair| {
        let status = Status::read(folder, &pair.id).ok().flatten().unwrap_or_default();
        let copies = status.copies.first().map(|path| format!("\"{path}\" keeps what two changed at once."));
        let left = status.left.first().map(|left| format!("\"{}\": {}.", left.path, left.why));
        let trouble = u64::from(status.trouble.is_some()) + (status.left.len() + status.copies.len()) as u64;
        let says = status.trouble.or(status.rests).or(copies).or(left).unwrap_or_default();
        let state = match status.state.as_str() {
            "in_step" => "in step",
            "trouble" => "stopped",
            "working" => "working",
            "paused" => "paused",
            _ => "waiting",
        };
        let way = match pair.way {
            Way::Both => "both",
            Way::Down => "down",
            Way::Up => "up",
        };
        api::DevicePair {
            folder: pair.local.display().to_string(),
            place: pair.remote.clone(),
            way: way.into(),
            state: state.into(),
            in_step: status.in_step_at,
            waiting: status.to_do,
            trouble,
            says: says.chars().take(500).collect(),
        }
    });
    api::DeviceReport { program: format!("yattic {}", env!("CARGO_PKG_VERSION")), pairs: told.collect() }
}

/// Tells the service how the pairs are, when that changes.
async fn tell(folder: PathBuf, client: Option<Client>, pairs: Vec<About>) {
    let Some(client) = client else { return };
    let mut told: Option<(api::DeviceReport, Instant)> = None;
    loop {
        tokio::time::sleep(TELL).await;
        let (its_folder, its_pairs) = (folder.clone(), pairs.clone());
        let looked = tokio::task::spawn_blocking(move || report(&its_folder, &its_pairs)).await;
        let Ok(now) = looked else { return };
        // When both were the same last changes all the time.
        let still = |report: &api::DeviceReport| {
            let mut report = report.clone();
            report.pairs.iter_mut().for_each(|pair| pair.in_step = None);
            report
        };
        let same = |(before, at): &(api::DeviceReport, Instant)| {
            still(before) == still(&now) && at.elapsed() < TELL_AGAIN
        };
        if !told.as_ref().is_some_and(same) && client.report(&now).await.is_ok() {
            told = Some((now, Instant::now()));
        }
    }
}
