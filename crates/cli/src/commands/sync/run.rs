//! `yattic sync run`

use crate::desktop;
use crate::output::{Done, Failure, Output};
use crate::page::{self, ask::Runner};
use reqwest::Method;
use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::signal::unix::{SignalKind, signal};
use tokio::sync::watch;
use yellow_attic_client::api;
use yellow_attic_core::merge::Way;
use yellow_attic_sync::computer::keeper::Keeper;
use yellow_attic_sync::computer::{Computer, Refused};
use yellow_attic_sync::pairs::run::{Orders, Running};
use yellow_attic_sync::pairs::state::About;
use yellow_attic_sync::pairs::{Shared, limits};

/// The service is told of changes so often.
const TELL: Duration = Duration::from_secs(10);
/// And once in so long that all is as it was.
const TELL_AGAIN: Duration = Duration::from_secs(3600);

/// Whoever works on the pairs reads anew what they are to do. Whether somebody does.
pub(super) async fn nudge(folder: &Path) -> Result<bool, Failure> {
    match Runner::of(folder)? {
        Some(runner) => runner.ask::<()>(Method::POST, "/here/look", &()).await.map(|()| true),
        None => Ok(false),
    }
}

/// Hears that it is to stop.
pub fn stopped() -> std::io::Result<watch::Receiver<bool>> {
    let (stop, stopped) = watch::channel(false);
    let mut terminate = signal(SignalKind::terminate())?;
    tokio::spawn(async move {
        tokio::select! {
            _ = tokio::signal::ctrl_c() => {}
            _ = terminate.recv() => {}
        }
        let _ = stop.send(true);
        // Kept until the end: a channel without a sender is none to wait on.
        std::future::pending::<()>().await;
        drop(stop);
    });
    Ok(stopped)
}

pub(super) async fn run(computer: Computer, once: bool, output: Output) -> Done {
    let _lock = computer.lock()?;
    let mut stop = stopped()?;
    if once {
        return run_once(&computer, stop, output).await;
    }
    let keeper = Keeper::new(computer)?;
    keeper.look().await?;
    let _page = page::serve(keeper.clone()).await?;
    if keeper.pairs().is_empty() {
        output.say("There is no pair yet; one that is added begins at once: yattic sync add ~/Museum home:/, or yattic sync page.");
    }
    let _telling = Ended(tokio::spawn(tell(keeper.clone())));
    let _desktop = Ended(tokio::spawn(desktop::show(keeper.clone())));
    let _ = stop.wait_for(|stop| *stop).await;
    keeper.stop().await;
    Ok(())
}

async fn run_once(computer: &Computer, stop: watch::Receiver<bool>, output: Output) -> Done {
    let pairs = computer.pairs().await?;
    if pairs.is_empty() {
        return Err(Failure::failed("there is no pair", "Make one: yattic sync add ~/Museum home:/"));
    }
    let shared = Arc::new(Shared::default());
    shared.set(&limits::read(&computer.folder)?);
    let (_nudges, nudged) = watch::channel(0);
    let mut running = tokio::task::JoinSet::new();
    for pair in pairs.clone() {
        let orders = Orders { stop: stop.clone(), nudged: nudged.clone() };
        let (computer, shared) = (computer.clone(), shared.clone());
        running.spawn(async move {
            let done = async {
                let client = computer.client(&pair.service).await?;
                let running = Running::open(&computer.folder, &pair.id, client, shared).await?;
                Ok::<_, Refused>(running.run(orders, true).await?)
            };
            done.await.map_err(|e| format!("{}: {e}", pair.local.display()))
        });
    }
    let (mut done, mut failed) = (Vec::new(), Vec::new());
    while let Some(ended) = running.join_next().await {
        match ended {
            Ok(Ok(status)) => done.push(status),
            Ok(Err(why)) => failed.push(why),
            Err(e) => failed.push(e.to_string()),
        }
    }
    for (service, pairs) in by_service(pairs) {
        if let Ok(client) = computer.client(&service).await {
            let _ = client.report(&report(computer, &pairs)).await;
        }
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

/// Pairs, by the services that they are of.
fn by_service(pairs: Vec<About>) -> BTreeMap<String, Vec<About>> {
    let mut of: BTreeMap<String, Vec<About>> = BTreeMap::new();
    for pair in pairs {
        of.entry(pair.service.clone()).or_default().push(pair);
    }
    of
}

/// Ends with whatever holds it.
struct Ended(tokio::task::JoinHandle<()>);

impl Drop for Ended {
    fn drop(&mut self) {
        self.0.abort();
    }
}

/// What this computer says of its pairs.
fn report(computer: &Computer, pairs: &[About]) -> api::DeviceReport {
    let told = pairs.iter().take(100).map(|pair| {
        let status = computer.status(pair).unwrap_or_default();
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

/// Tells each service how the pairs with it are, when that changes.
async fn tell(keeper: Arc<Keeper>) {
    let mut told: BTreeMap<String, (api::DeviceReport, Instant)> = BTreeMap::new();
    loop {
        tokio::time::sleep(TELL).await;
        for (service, pairs) in by_service(keeper.pairs()) {
            let computer = keeper.computer.clone();
            let looked = tokio::task::spawn_blocking(move || report(&computer, &pairs)).await;
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
            if told.get(&service).is_some_and(same) {
                continue;
            }
            if let Ok(client) = keeper.computer.client(&service).await
                && client.report(&now).await.is_ok()
            {
                told.insert(service, (now, Instant::now()));
            }
        }
    }
}
